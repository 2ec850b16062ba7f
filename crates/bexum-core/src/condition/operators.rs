//! What each operator comes to between two values that are there (spec section 4, the table).

use std::cmp::Ordering;
use std::net::IpAddr;

use ipnet::IpNet;
use rustc_hash::FxHashSet;

use super::ast::Operator;
use super::fact::{Fact, ListFact, Scalar};
use crate::pattern::action::star_match;
use crate::time::Time;
use crate::truth::Truth;

/// What an operator takes on one side.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Takes {
    /// One value of any type.
    Scalar,
    /// An integer or a time.
    Ordered,
    /// A list.
    List,
    /// A string.
    Text,
    /// A string in which `*` and `?` stand for others; only as a literal.
    Pattern,
    /// An IP address.
    Address,
    /// An IP address, a range, or a list of these.
    Ranges,
}

/// What there is to know of an operator, besides how it compares ([`compare`]).
pub(super) struct Row {
    /// As it is written: a word or a sign.
    pub(super) sign: &'static str,
    /// What it takes on the left and on the right.
    pub(super) takes: [Takes; 2],
    /// What it comes to where an operand is absent: nobody can say that it differs from anything.
    pub(super) with_absent: Truth,
    /// What to write instead of a literal that can only leave it undecided.
    pub(super) hint: Option<&'static str>,
}

impl Operator {
    /// The row of the operator in the table (spec section 4).
    pub(super) fn row(self) -> &'static Row {
        const fn row(sign: &'static str, left: Takes, right: Takes) -> Row {
            Row { sign, takes: [left, right], with_absent: Truth::False, hint: None }
        }
        const fn order(sign: &'static str) -> Row {
            let hint = "order is known among integers and among times (`'2026-03-01T08:00:00Z'`)";
            Row { hint: Some(hint), ..row(sign, Takes::Ordered, Takes::Ordered) }
        }
        const ONE_OF_LIST: Option<&str> =
            Some("use `in` for one of a list, `overlaps` for any of two lists");
        match self {
            Self::Equal => {
                const { &Row { hint: ONE_OF_LIST, ..row("=", Takes::Scalar, Takes::Scalar) } }
            }
            Self::NotEqual => {
                const {
                    &Row {
                        with_absent: Truth::Undecided,
                        hint: ONE_OF_LIST,
                        ..row("!=", Takes::Scalar, Takes::Scalar)
                    }
                }
            }
            Self::Less => const { &order("<") },
            Self::AtMost => const { &order("<=") },
            Self::Greater => const { &order(">") },
            Self::AtLeast => const { &order(">=") },
            Self::In => {
                const {
                    &Row {
                        hint: Some("write a list: `in ['…']`, or use `=`"),
                        ..row("in", Takes::Scalar, Takes::List)
                    }
                }
            }
            Self::Overlaps => {
                const {
                    &Row {
                        hint: Some("`overlaps` takes two lists; for one value in a list use `in`"),
                        ..row("overlaps", Takes::List, Takes::List)
                    }
                }
            }
            Self::Fits => const { &row("fits", Takes::Text, Takes::Pattern) },
            Self::Within => const { &row("within", Takes::Address, Takes::Ranges) },
        }
    }
}

/// An IP address or a range of them, read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Block {
    One(IpAddr),
    Range(IpNet),
}

impl Block {
    /// Reads an address or a range in its usual form; `None` for host bits that are not zero, an
    /// IPv4-mapped range, a zone, leading zeros.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let Some((address, length)) = text.split_once('/') else {
            return parse_address(text).map(Self::One);
        };
        let address: IpAddr = address.parse().ok()?;
        let plain = length.len() <= 3
            && length.bytes().all(|b| b.is_ascii_digit())
            && (length == "0" || !length.starts_with('0'));
        if !plain || address.to_canonical() != address {
            return None;
        }
        let range = IpNet::new(address, length.parse().ok()?).ok()?;
        (range.trunc() == range).then_some(Self::Range(range))
    }

    /// The first and the last address in it.
    fn ends(&self) -> (IpAddr, IpAddr) {
        match self {
            Self::One(one) => (*one, *one),
            Self::Range(range) => (range.network(), range.broadcast()),
        }
    }

    fn holds(&self, address: IpAddr) -> bool {
        match self {
            Self::One(one) => *one == address,
            Self::Range(range) => range.contains(&address),
        }
    }
}

/// The first and the last address of what can be read as an address or a range.
pub(crate) fn range_ends(text: &str) -> Option<(IpAddr, IpAddr)> {
    Block::parse(text).map(|block| block.ends())
}

/// Whether a text can be read as an address.
pub(crate) fn is_address(text: &str) -> bool {
    parse_address(text).is_some()
}

/// An address; one in IPv4-mapped form counts as the IPv4 address.
pub(super) fn parse_address(text: &str) -> Option<IpAddr> {
    text.parse::<IpAddr>().ok().map(|address| address.to_canonical())
}

/// `left operator right`, neither absent nor unknown.
pub(crate) fn compare(left: &Fact<'_>, operator: Operator, right: &Fact<'_>) -> Truth {
    match operator {
        Operator::Equal => equal(left, right),
        Operator::NotEqual => equal(left, right).negate(),
        Operator::In => match (left, right) {
            (Fact::Scalar(scalar), Fact::List(list)) => {
                any(list.iter().map(|item| equal_scalars(*scalar, item)))
            }
            _ => Truth::Undecided,
        },
        Operator::Overlaps => match (left, right) {
            (Fact::List(a), Fact::List(b)) => overlap(a, b),
            _ => Truth::Undecided,
        },
        Operator::Fits => match (left, right) {
            (Fact::Scalar(Scalar::Text(text)), Fact::Scalar(Scalar::Text(pattern))) => {
                Truth::from(fits(pattern, text))
            }
            _ => Truth::Undecided,
        },
        Operator::Within => within(left, right),
        Operator::Less => order(left, right, Ordering::is_lt),
        Operator::AtMost => order(left, right, Ordering::is_le),
        Operator::Greater => order(left, right, Ordering::is_gt),
        Operator::AtLeast => order(left, right, Ordering::is_ge),
    }
}

fn any(parts: impl Iterator<Item = Truth>) -> Truth {
    let mut best = Truth::False;
    for part in parts {
        best = best.or(part);
        if best == Truth::True {
            break;
        }
    }
    best
}

fn equal(left: &Fact<'_>, right: &Fact<'_>) -> Truth {
    match (left, right) {
        (Fact::Scalar(a), Fact::Scalar(b)) => equal_scalars(*a, *b),
        _ => Truth::Undecided,
    }
}

fn equal_scalars(left: Scalar<'_>, right: Scalar<'_>) -> Truth {
    match (left, right) {
        (Scalar::Text(a), Scalar::Text(b)) => Truth::from(a == b),
        (Scalar::Integer(a), Scalar::Integer(b)) => Truth::from(a == b),
        (Scalar::Boolean(a), Scalar::Boolean(b)) => Truth::from(a == b),
        (Scalar::Time(a), Scalar::Time(b)) => Truth::from(a == b),
        (Scalar::Time(time), Scalar::Text(text)) | (Scalar::Text(text), Scalar::Time(time)) => {
            Time::parse(text).map_or(Truth::Undecided, |read| Truth::from(read == time))
        }
        _ => Truth::Undecided,
    }
}

/// Whether two values that have an order stand as `stands` says.
fn order(left: &Fact<'_>, right: &Fact<'_>, stands: fn(Ordering) -> bool) -> Truth {
    let (Fact::Scalar(left), Fact::Scalar(right)) = (left, right) else { return Truth::Undecided };
    let ordering = match (*left, *right) {
        (Scalar::Integer(a), Scalar::Integer(b)) => Some(a.cmp(&b)),
        (Scalar::Time(a), Scalar::Time(b)) => Some(a.cmp(&b)),
        (Scalar::Time(a), Scalar::Text(b)) => Time::parse(b).map(|b| a.cmp(&b)),
        (Scalar::Text(a), Scalar::Time(b)) => Time::parse(a).map(|a| a.cmp(&b)),
        _ => None,
    };
    ordering.map_or(Truth::Undecided, |ordering| Truth::from(stands(ordering)))
}

/// Pairs beyond which [`overlap`] builds a set instead of trying each.
const FEW_PAIRS: usize = 256;

fn overlap(a: &ListFact<'_>, b: &ListFact<'_>) -> Truth {
    let (many, few) = (a.iter().count(), b.iter().count());
    if many.saturating_mul(few) <= FEW_PAIRS {
        return any(a.iter().flat_map(|x| b.iter().map(move |y| equal_scalars(x, y))));
    }
    // Lists are of one type each, so a pair of types settles every pair of elements.
    match (a.iter().next(), b.iter().next()) {
        (Some(Scalar::Time(_)), Some(Scalar::Text(_))) => overlap_times(a, b),
        (Some(Scalar::Text(_)), Some(Scalar::Time(_))) => overlap_times(b, a),
        (Some(x), Some(y)) if std::mem::discriminant(&x) == std::mem::discriminant(&y) => {
            let known: FxHashSet<Scalar<'_>> = a.iter().collect();
            Truth::from(b.iter().any(|item| known.contains(&item)))
        }
        (Some(_), Some(_)) => Truth::Undecided,
        _ => Truth::False,
    }
}

fn overlap_times(times: &ListFact<'_>, texts: &ListFact<'_>) -> Truth {
    let known: FxHashSet<Scalar<'_>> = times.iter().collect();
    any(texts.iter().map(|item| match item {
        Scalar::Text(text) => Time::parse(text)
            .map_or(Truth::Undecided, |time| Truth::from(known.contains(&Scalar::Time(time)))),
        _ => Truth::Undecided,
    }))
}

/// Whether `text` matches: `*` any run of characters, `?` exactly one code point.
pub(crate) fn fits(pattern: &str, text: &str) -> bool {
    if !pattern.contains('?') {
        return star_match(pattern, text);
    }
    let pieces: Vec<&str> = pattern.split('*').collect();
    let [first, middle @ .., last] = &*pieces else {
        return like_prefix(pattern, text).is_some_and(|used| used == text.len());
    };
    let Some(mut at) = like_prefix(first, text) else { return false };
    for piece in middle.iter().filter(|piece| !piece.is_empty()) {
        let found = text[at..]
            .char_indices()
            .map(|(i, _)| at + i)
            .find_map(|start| like_prefix(piece, &text[start..]).map(|used| start + used));
        match found {
            Some(end) => at = end,
            None => return false,
        }
    }
    // The last piece ends the text: step back as many code points as it is long.
    let length = last.chars().count();
    let start = match length {
        0 => text.len(),
        _ => match text[at..].char_indices().rev().nth(length - 1) {
            Some((i, _)) => at + i,
            None => return false,
        },
    };
    like_prefix(last, &text[start..]).is_some_and(|used| start + used == text.len())
}

/// How many bytes of `text` the starless `piece` takes from its start.
fn like_prefix(piece: &str, text: &str) -> Option<usize> {
    let mut left = text.chars();
    for wanted in piece.chars() {
        let got = left.next()?;
        if wanted != '?' && wanted != got {
            return None;
        }
    }
    Some(text.len() - left.as_str().len())
}

/// Whether an address is in any of these.
pub(super) fn within_blocks(address: &str, blocks: &[Block]) -> Truth {
    parse_address(address).map_or(Truth::Undecided, |address| {
        Truth::from(blocks.iter().any(|block| block.holds(address)))
    })
}

fn within(left: &Fact<'_>, right: &Fact<'_>) -> Truth {
    let Fact::Scalar(Scalar::Text(left)) = left else { return Truth::Undecided };
    let part = |item: Scalar<'_>, address: IpAddr| match item {
        Scalar::Text(text) => {
            Block::parse(text).map_or(Truth::Undecided, |block| Truth::from(block.holds(address)))
        }
        _ => Truth::Undecided,
    };
    let Some(address) = parse_address(left) else { return Truth::Undecided };
    match right {
        Fact::Scalar(item) => part(*item, address),
        Fact::List(list) => any(list.iter().map(|item| part(item, address))),
        _ => Truth::Undecided,
    }
}

#[cfg(test)]
mod tests {
    use super::{Block, fits};

    #[test]
    fn like_knows_stars_and_single_characters() {
        for (pattern, text, matches) in [
            ("?", "é", true),
            ("??", "é", false),
            ("a?c", "abc", true),
            ("a?c", "ac", false),
            ("*?", "", false),
            ("*?", "x", true),
            ("a*?b", "axb", true),
            ("a*?b", "ab", false),
            ("?*?", "x", false),
            ("?*b?d*", "aabcdx", true),
            ("", "", true),
            ("", "x", false),
            ("*/?", "a/b/c", true),
            ("ab?*?ba", "abba", false),
            ("ab?*?ba", "abxyba", true),
            ("*a?*", "xxa", false),
            ("*?a*", "aa", true),
        ] {
            assert_eq!(fits(pattern, text), matches, "{pattern} on {text}");
        }
    }

    /// Whether the pattern matches the text, by trying everything.
    fn plainly(pattern: &[char], text: &[char]) -> bool {
        match pattern.split_first() {
            None => text.is_empty(),
            Some(('*', rest)) => (0..=text.len()).any(|skip| plainly(rest, &text[skip..])),
            Some((wanted, rest)) => text.split_first().is_some_and(|(got, left)| {
                (*wanted == '?' || wanted == got) && plainly(rest, left)
            }),
        }
    }

    proptest::proptest! {
        #![proptest_config(proptest::prelude::ProptestConfig { cases: 4000, ..Default::default() })]

        #[test]
        fn like_matches_as_defined(pattern in "[aé?*]{0,7}", text in "[aéb/]{0,8}") {
            let chars = |text: &str| text.chars().collect::<Vec<char>>();
            proptest::prop_assert_eq!(fits(&pattern, &text), plainly(&chars(&pattern), &chars(&text)));
        }
    }

    #[test]
    fn like_takes_no_longer_than_it_is_long() {
        // Backtracking would not come back from this.
        let text = "a".repeat(200_000);
        assert!(!fits(&format!("{}b", "*a".repeat(500)), &text));
        assert!(fits(&"*a".repeat(500), &text));
    }

    #[test]
    fn addresses_and_ranges() {
        let good =
            ["10.0.0.0/8", "10.1.2.3", "::/0", "2001:db8::/32", "0.0.0.0/0", "::ffff:10.0.0.1"];
        for text in good {
            assert!(Block::parse(text).is_some(), "{text}");
        }
        for text in [
            "10.0.0.1/8",
            "10.0.0.0/08",
            "10.0.0.0/33",
            "10.0.0.0/",
            "010.0.0.1",
            "::ffff:10.0.0.0/104",
            "fe80::1%eth0",
            "10.0.0",
            "",
            "10.0.0.0/+8",
            " 10.0.0.1",
            "::ffff:0:0/96",
        ] {
            assert!(Block::parse(text).is_none(), "{text}");
        }
    }
}
