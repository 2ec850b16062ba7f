//! Laws of the language: printing and parsing, bounds, matching.

use bexum_core::condition::ConditionFault;
use bexum_core::condition::parser::parse;
use bexum_core::pattern::PathPattern;
use bexum_core::pattern::action::{ActionPattern, star_match};
use proptest::prelude::*;

use crate::estates;

proptest! {
    #![proptest_config(ProptestConfig { cases: 2000, ..ProptestConfig::default() })]

    #[test]
    fn printed_conditions_parse_to_the_same(text in estates::condition()) {
        let parsed = parse(&text).expect("a condition");
        let printed = parsed.to_string();
        let again = parse(&printed).unwrap_or_else(|e| panic!("{printed}: {e:?}"));
        prop_assert_eq!(&again, &parsed, "{} as {}", text, printed);
        prop_assert_eq!(again.to_string(), printed);
    }

    #[test]
    fn strings_survive_printing(text in "[^\0]{0,20}") {
        let quoted = text.replace('\\', "\\\\").replace('\'', "\\'");
        let parsed = parse(&format!("given.a = '{quoted}'")).expect("a condition");
        prop_assert_eq!(&parse(&parsed.to_string()).expect("printed"), &parsed);
    }

    #[test]
    fn nothing_makes_the_parsers_panic(text in "\\PC{0,60}|[a-z.=<>!()\\[\\]{}'\"*/ -]{0,60}") {
        if let Err(fault) = parse(&text) {
            prop_assert!(text.get(fault.start..fault.end).is_some(), "{:?} in {}", fault, text);
        }
        if let Err((_, start, end)) = PathPattern::parse(&text) {
            prop_assert!(text.get(start..end).is_some());
        }
        let _ = ActionPattern::parse(&text);
    }

    #[test]
    fn stars_match_as_defined(pattern in "[ab*]{0,8}", text in "[ab]{0,8}") {
        fn plainly(pattern: &[u8], text: &[u8]) -> bool {
            match pattern.split_first() {
                None => text.is_empty(),
                Some((b'*', rest)) => (0..=text.len()).any(|skip| plainly(rest, &text[skip..])),
                Some((c, rest)) => text.first() == Some(c) && plainly(rest, &text[1..]),
            }
        }
        prop_assert_eq!(star_match(&pattern, &text), plainly(pattern.as_bytes(), text.as_bytes()));
    }
}

#[test]
fn depth_and_length_are_bounded() {
    let deep = |n: usize| format!("{}true{}", "(".repeat(n), ")".repeat(n));
    assert!(parse(&deep(199)).is_ok());
    let fault = parse(&deep(100_000)).expect_err("too long").fault;
    assert_eq!(fault, ConditionFault::TooLong);
    assert_eq!(parse(&deep(5000)).expect_err("too deep").fault, ConditionFault::TooDeep);
    let nots = "not ".repeat(5000) + "true";
    assert_eq!(parse(&nots).expect_err("too deep").fault, ConditionFault::TooDeep);
    // Many, side by side, are fine: only nesting is bounded.
    let wide = vec!["given.a = 1"; 3500].join(" or ");
    assert!(parse(&wide).is_ok());
}
