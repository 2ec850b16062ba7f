//! Any text as a condition: what parses is printed as text that parses to the same.

#![no_main]

use bexum_core::condition::parser::parse;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let Ok(expression) = parse(text) else { return };
    let printed = expression.to_string();
    let again = parse(&printed).expect("what is printed parses");
    assert_eq!(again.to_string(), printed);
});
