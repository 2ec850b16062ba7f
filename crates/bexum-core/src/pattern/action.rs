//! Action patterns: `KIND.VERB`, `KIND.@LEVEL`, `*`.

use super::PatternFault;
use crate::catalogue::{Action, Level};
use crate::limits::PATTERN_BYTES;

/// One pattern of a `do` list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ActionPattern<'a> {
    /// Whether it takes away what the others match.
    pub excludes: bool,
    shape: Shape<'a>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Shape<'a> {
    Every,
    Verb { kind: &'a str, verb: &'a str },
    Level { kind: &'a str, level: Level },
}

impl<'a> ActionPattern<'a> {
    /// Reads one pattern.
    ///
    /// # Errors
    /// [`PatternFault::ActionForm`] and [`PatternFault::Level`].
    pub fn parse(text: &'a str) -> Result<Self, PatternFault> {
        if text.len() > PATTERN_BYTES {
            return Err(PatternFault::TooLong);
        }
        let (excludes, body) = match text.strip_prefix('!') {
            Some(body) => (true, body),
            None => (false, text),
        };
        if body == "*" {
            return Ok(Self { excludes, shape: Shape::Every });
        }
        let (kind, verb) = body.split_once('.').ok_or(PatternFault::ActionForm)?;
        let letters = |s: &str| {
            !s.is_empty()
                && s.bytes()
                    .all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-' || b == b'*')
        };
        if !letters(kind) {
            return Err(PatternFault::ActionForm);
        }
        if let Some(word) = verb.strip_prefix('@') {
            let level =
                Level::from_word(word).ok_or_else(|| PatternFault::Level(word.to_owned()))?;
            return Ok(Self { excludes, shape: Shape::Level { kind, level } });
        }
        if !letters(verb) {
            return Err(PatternFault::ActionForm);
        }
        Ok(Self { excludes, shape: Shape::Verb { kind, verb } })
    }

    /// Whether it names `action`, leaving aside whether it excludes.
    #[must_use]
    pub fn names(&self, action: &Action) -> bool {
        let (action_kind, action_verb) = action.name.split_once('.').unwrap_or((&action.name, ""));
        match self.shape {
            Shape::Every => true,
            Shape::Verb { kind, verb } => {
                star_match(kind, action_kind) && star_match(verb, action_verb)
            }
            Shape::Level { kind, level } => action.level == level && star_match(kind, action_kind),
        }
    }
}

/// Whether `text` matches `pattern`, in which `*` stands for any run of characters.
///
/// Pieces between stars are found leftmost first, so time is linear in practice.
#[must_use]
pub fn star_match(pattern: &str, text: &str) -> bool {
    let Some((head, rest)) = pattern.split_once('*') else { return pattern == text };
    let Some(mut left) = text.strip_prefix(head) else { return false };
    let (middle, tail) = rest.rsplit_once('*').unwrap_or(("", rest));
    for piece in middle.split('*').filter(|piece| !piece.is_empty()) {
        match left.find(piece) {
            Some(at) => left = &left[at + piece.len()..],
            None => return false,
        }
    }
    left.ends_with(tail)
}

#[cfg(test)]
mod tests {
    use super::{ActionPattern, PatternFault, star_match};

    #[test]
    fn stars() {
        for (pattern, text, matches) in [
            ("*", "", true),
            ("a*", "a", true),
            ("a*a", "a", false),
            ("a*a", "aa", true),
            ("*b*", "abc", true),
            ("a*b*c", "axxbyyc", true),
            ("a*b*c", "axxcyyb", false),
            ("**", "x", true),
            ("ab", "abc", false),
            ("*ab*ab", "ab", false),
        ] {
            assert_eq!(star_match(pattern, text), matches, "{pattern} {text}");
        }
    }

    #[test]
    fn forms() {
        for good in ["*", "!*", "store.read", "st*.*", "*.@alter", "!x-1.r*d"] {
            assert!(ActionPattern::parse(good).is_ok(), "{good}");
        }
        for bad in ["", "!", "store", ".read", "store.", "a.b.c", "Store.read", "!!a.b", "*.*x@"] {
            assert_eq!(ActionPattern::parse(bad), Err(PatternFault::ActionForm), "{bad}");
        }
        assert_eq!(ActionPattern::parse("*.@go*"), Err(PatternFault::Level("go*".into())));
    }
}
