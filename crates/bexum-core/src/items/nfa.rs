//! Words told apart by patterns: for every way in which a set of patterns can match or not match a
//! word together, one word that is matched so.
//!
//! The patterns run side by side as one machine over letters; the search through its states is
//! breadth first, so that the shortest words come first.

use fixedbitset::FixedBitSet;
use rustc_hash::{FxHashMap, FxHashSet};

/// Most states of a machine, of which each letter of a pattern makes one; with more, nothing is worked
/// out.
const MOST_STATES: usize = 4_000;
/// Most sets of states that are looked at before the search gives up.
const MOST_SETS: usize = 6_000;
/// Most steps by one letter before it does, too.
const MOST_STEPS: usize = 300_000;

/// A piece of a pattern over letters.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Piece {
    /// These letters.
    Text(String),
    /// One of these texts.
    OneOf(Vec<String>),
    /// Exactly one letter, whichever.
    Single,
    /// Exactly one letter, and no `/`.
    SingleInSegment,
    /// Any run of letters.
    Any,
    /// Any run of letters without `/`.
    AnyInSegment,
    /// Nothing, or a `/` and any run of letters.
    AnySegments,
    /// An integer from here to there, both among them, as it is written out. Without an end, numbers
    /// of more than 64 bits are among them, too.
    Integer(Option<i64>, Option<i64>),
}

/// A pattern over letters.
pub(crate) type Pattern = Vec<Piece>;

/// The pattern of a `fits`.
pub(crate) fn of_fits(pattern: &str) -> Pattern {
    let mut pieces = Pattern::new();
    for letter in pattern.chars() {
        match letter {
            '*' => pieces.push(Piece::Any),
            '?' => pieces.push(Piece::Single),
            _ => match pieces.last_mut() {
                Some(Piece::Text(text)) => text.push(letter),
                _ => pieces.push(Piece::Text(letter.to_string())),
            },
        }
    }
    pieces
}

#[derive(Clone, Copy, PartialEq)]
pub(super) enum Edge {
    Letter(char),
    /// A digit from here to there.
    Digit(u8, u8),
    NoSlash,
    Any,
}

impl Edge {
    fn takes(self, letter: char) -> bool {
        match self {
            Self::Letter(wanted) => wanted == letter,
            Self::Digit(from, to) => (char::from(from)..=char::from(to)).contains(&letter),
            Self::NoSlash => letter != '/',
            Self::Any => true,
        }
    }
}

#[derive(Default)]
pub(super) struct State {
    pub(super) edges: Vec<(Edge, usize)>,
    /// States that are reached along with this one, without taking a letter.
    pub(super) also: Vec<usize>,
}

/// Several patterns as one machine.
pub(super) struct Machine {
    pub(super) states: Vec<State>,
    starts: Vec<usize>,
    ends: Vec<usize>,
}

impl Machine {
    fn new(patterns: &[Pattern]) -> Option<Self> {
        let mut machine = Self { states: Vec::new(), starts: Vec::new(), ends: Vec::new() };
        for pattern in patterns {
            let start = machine.add();
            let end = pattern.iter().fold(start, |at, piece| machine.append(at, piece));
            machine.starts.push(start);
            machine.ends.push(end);
            if machine.states.len() > MOST_STATES {
                return None;
            }
        }
        Some(machine)
    }

    pub(super) fn add(&mut self) -> usize {
        self.states.push(State::default());
        self.states.len() - 1
    }

    fn text(&mut self, from: usize, text: &str) -> usize {
        text.chars().fold(from, |at, letter| {
            let next = self.add();
            self.states[at].edges.push((Edge::Letter(letter), next));
            next
        })
    }

    /// Adds a piece that begins at a state, and says at which state it ends.
    fn append(&mut self, from: usize, piece: &Piece) -> usize {
        let repeat = |machine: &mut Self, edge| {
            let next = machine.add();
            machine.states[from].also.push(next);
            machine.states[next].edges.push((edge, next));
            next
        };
        match piece {
            Piece::Text(text) => self.text(from, text),
            Piece::OneOf(texts) => {
                let end = self.add();
                for text in texts {
                    let last = self.text(from, text);
                    self.states[last].also.push(end);
                }
                end
            }
            Piece::Single | Piece::SingleInSegment => {
                let edge = if *piece == Piece::Single { Edge::Any } else { Edge::NoSlash };
                let next = self.add();
                self.states[from].edges.push((edge, next));
                next
            }
            Piece::Any => repeat(self, Edge::Any),
            Piece::AnyInSegment => repeat(self, Edge::NoSlash),
            Piece::AnySegments => {
                let (inside, end) = (self.add(), self.add());
                self.states[from].edges.push((Edge::Letter('/'), inside));
                self.states[inside].edges.push((Edge::Any, inside));
                self.states[inside].also.push(end);
                self.states[from].also.push(end);
                end
            }
            Piece::Integer(least, most) => {
                let end = self.add();
                self.integers(from, end, *least, *most);
                end
            }
        }
    }

    fn settle(&self, mut waiting: Vec<usize>) -> FixedBitSet {
        let mut set = FixedBitSet::with_capacity(self.states.len());
        while let Some(state) = waiting.pop() {
            if !set.put(state) {
                waiting.extend(&self.states[state].also);
            }
        }
        set
    }

    fn step(&self, set: &FixedBitSet, letter: char) -> FixedBitSet {
        let next = set.ones().flat_map(|state| {
            let taken = self.states[state].edges.iter().filter(|(edge, _)| edge.takes(letter));
            taken.map(|(_, next)| *next)
        });
        self.settle(next.collect())
    }

    fn matched(&self, set: &FixedBitSet) -> Vec<bool> {
        self.ends.iter().map(|end| set.contains(*end)).collect()
    }
}

/// Which words are wanted.
pub(crate) struct Words<'w> {
    /// The patterns to tell words apart by.
    pub(crate) patterns: Vec<Pattern>,
    /// What stands before every word, as each pattern sees it.
    pub(crate) before: Vec<String>,
    /// Whether words are paths: a `/` before every segment, and no segment empty.
    pub(crate) are_paths: bool,
    /// Which words may stand for others.
    pub(crate) is_sound: &'w dyn Fn(&str) -> bool,
}

/// A word for each way in which the patterns can match a word together, and whether all such ways were
/// found.
pub(crate) fn tell_apart(words: &Words<'_>) -> (Vec<String>, bool) {
    let Some(machine) = Machine::new(&words.patterns) else { return (Vec::new(), false) };
    let letters = alphabet(words);
    let mut first = Vec::new();
    for (start, before) in machine.starts.iter().zip(&words.before) {
        let mut set = machine.settle(vec![*start]);
        for letter in before.chars() {
            set = machine.step(&set, letter);
        }
        first.extend(set.ones());
    }
    let first = machine.settle(first);
    let mut found: FxHashMap<Vec<bool>, String> = FxHashMap::default();
    let mut order: Vec<Vec<bool>> = Vec::new();
    let mut record = |set: &FixedBitSet, word: &str| {
        let ended = !words.are_paths || (!word.is_empty() && !word.ends_with('/'));
        let matched = machine.matched(set);
        if ended && !found.contains_key(&matched) && (words.is_sound)(word) {
            order.push(matched.clone());
            found.insert(matched, word.to_owned());
        }
    };
    record(&first, "");
    let mut seen: FxHashSet<(FixedBitSet, bool)> = FxHashSet::default();
    seen.insert((first.clone(), false));
    let mut steps = 0;
    let mut level = vec![(first, String::new())];
    while !level.is_empty() {
        let mut next_level = Vec::new();
        for (set, word) in &level {
            let inside = !word.is_empty() && !word.ends_with('/');
            for &letter in &letters {
                // A path's segments are not empty, and each starts with its `/`.
                let wrong = words.are_paths
                    && if word.is_empty() { letter != '/' } else { letter == '/' && !inside };
                if wrong {
                    continue;
                }
                let next = machine.step(set, letter);
                let mut longer = word.clone();
                longer.push(letter);
                // Also if these states were reached before: the word that did so may not be sound.
                record(&next, &longer);
                if seen.insert((next.clone(), letter == '/')) {
                    next_level.push((next, longer));
                }
            }
        }
        steps += level.len() * letters.len();
        if seen.len() > MOST_SETS || steps > MOST_STEPS {
            let shown = order.iter().map(|matched| found[matched].clone());
            return (shown.collect(), false);
        }
        level = next_level;
    }
    (order.iter().map(|matched| found[matched].clone()).collect(), true)
}

/// Adds to some names one more for every way in which these patterns can match a name, `copies` times
/// over, as values that are matched alike may have to differ; says whether all ways were found.
pub(crate) fn tell_names_apart(
    patterns: &[Pattern],
    names: &mut Vec<String>,
    copies: usize,
    is_sound: &dyn Fn(&str) -> bool,
) -> bool {
    let mut whole = true;
    for _ in 0..copies {
        let known = names.iter().map(|name| vec![Piece::Text(name.clone())]);
        let patterns: Vec<Pattern> = patterns.iter().cloned().chain(known).collect();
        let before = vec![String::new(); patterns.len()];
        let (found, all) = tell_apart(&Words { patterns, before, are_paths: false, is_sound });
        names.extend(found);
        names.sort_unstable();
        names.dedup();
        whole &= all;
    }
    whole
}

/// A letter that no pattern names, then every one that some pattern names.
fn alphabet(words: &Words<'_>) -> Vec<char> {
    let mut named: Vec<char> = words
        .patterns
        .iter()
        .flatten()
        .flat_map(|piece| match piece {
            Piece::Text(text) => vec![text.as_str()],
            Piece::OneOf(texts) => texts.iter().map(String::as_str).collect(),
            _ => Vec::new(),
        })
        .flat_map(str::chars)
        .collect();
    if words.are_paths {
        named.push('/');
    }
    if words.patterns.iter().flatten().any(|piece| matches!(piece, Piece::Integer(..))) {
        named.extend("-0123456789".chars());
    }
    named.sort_unstable();
    named.dedup();
    let fresh = ('x'..='z').chain('a'..='w').chain('0'..='9').chain('\u{e000}'..);
    let mut letters: Vec<char> =
        fresh.filter(|c| named.binary_search(c).is_err()).take(1).collect();
    letters.extend(named);
    letters
}

#[cfg(test)]
mod tests {
    use super::{Machine, Piece, Words, of_fits, tell_apart};

    fn words(patterns: &[&str]) -> Vec<String> {
        let words = Words {
            patterns: patterns.iter().map(|pattern| of_fits(pattern)).collect(),
            before: vec![String::new(); patterns.len()],
            are_paths: false,
            is_sound: &|_| true,
        };
        let (found, whole) = tell_apart(&words);
        assert!(whole);
        found
    }

    #[test]
    fn every_way_to_match_has_a_word() {
        assert_eq!(words(&[]), [""]);
        assert_eq!(words(&["a*"]), ["", "a"]);
        // Neither, first, second, both.
        assert_eq!(words(&["a*", "*b"]), ["", "a", "b", "ab"]);
        assert_eq!(words(&["a", "?"]), ["", "x", "a"]);
        assert_eq!(words(&["*", "a?c"]), ["", "axc"]);
    }

    #[test]
    fn paths_have_no_empty_segment() {
        let text = |text: &str| Piece::Text(text.to_owned());
        let words = Words {
            patterns: vec![
                vec![Piece::AnySegments, text("/run")],
                vec![text("/"), Piece::AnyInSegment],
                vec![text("/"), Piece::OneOf(vec!["a".into(), "b".into()]), Piece::AnySegments],
            ],
            before: vec![String::new(); 3],
            are_paths: true,
            is_sound: &|word| word != "/a",
        };
        let (found, whole) = tell_apart(&words);
        assert!(whole);
        // `/a/x` and `/b/x` are matched alike: one of them stands for both.
        assert_eq!(found, ["/x", "/b", "/x/x", "/a/x", "/run", "/x/run", "/a/run"]);
    }

    /// Whether a range of integers holds a text.
    fn taken_by(from: Option<i64>, to: Option<i64>) -> impl Fn(&str) -> bool {
        let machine = Machine::new(&[vec![Piece::Integer(from, to)]]).expect("a small machine");
        move |text| {
            let start = machine.settle(vec![machine.starts[0]]);
            let end = text.chars().fold(start, |set, letter| machine.step(&set, letter));
            machine.matched(&end)[0]
        }
    }

    #[test]
    fn a_range_of_one_integer_holds_it_and_no_other() {
        for n in [i64::MIN, -100, -99, -10, -1, 0, 1, 9, 10, 99, 100, 12_345, i64::MAX] {
            let takes = taken_by(Some(n), Some(n));
            assert!(takes(&n.to_string()), "{n}");
            for other in [n.wrapping_sub(1), n.wrapping_add(1), n.wrapping_mul(10)] {
                assert!(other == n || !takes(&other.to_string()), "{other} in {n}..={n}");
            }
            let (after, before) = (n.checked_add(1).or(Some(n)), n.checked_sub(1).or(Some(n)));
            let none = taken_by(after, before);
            assert!(!none(&n.to_string()), "{n} between what is after it and what is before it");
        }
    }

    proptest::proptest! {
        #[test]
        fn a_range_of_integers_holds_what_lies_in_it(
            ends in proptest::collection::vec(-1300_i64..1300, 2),
            open in 0_u8..4,
            tried in proptest::collection::vec(-1400_i64..1400, 40),
        ) {
            let (least, most) = (ends[0].min(ends[1]), ends[0].max(ends[1]));
            let (from, to) = ((open & 1 == 0).then_some(least), (open & 2 == 0).then_some(most));
            let takes = taken_by(from, to);
            let beside = [least - 1, least, least + 1, most - 1, most, most + 1, 0, i64::MAX, i64::MIN];
            for n in tried.into_iter().chain(beside) {
                let is_in = from.is_none_or(|from| from <= n) && to.is_none_or(|to| n <= to);
                proptest::prop_assert_eq!(takes(&n.to_string()), is_in, "{} in {:?}..={:?}", n, from, to);
            }
            for text in ["", "-", "-0", "00", "01", "-01", "1x", "x", "1-", "--1", "+1"] {
                proptest::prop_assert!(!takes(text), "{}", text);
            }
        }

        #[test]
        fn no_word_is_matched_in_a_way_that_has_none(
            patterns in proptest::collection::vec("[ab*?]{0,4}", 1..4),
            word in "[abc]{0,6}",
        ) {
            let texts: Vec<&str> = patterns.iter().map(String::as_str).collect();
            let way = |word: &str| -> Vec<bool> {
                texts.iter().map(|p| crate::condition::is_fitting(p, word)).collect()
            };
            let found = words(&texts);
            proptest::prop_assert!(found.iter().any(|known| way(known) == way(&word)), "{:?}", found);
            for (i, one) in found.iter().enumerate() {
                proptest::prop_assert!(found[..i].iter().all(|other| way(other) != way(one)));
            }
        }
    }
}
