//! The letters of names (spec section 2), and the nearest known name to a mistyped one.

mod table;

use crate::limits::NAME_BYTES;

pub(crate) use table::NameTable;

/// What a name is for; each has its own letters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Grammar {
    /// Users, groups, roles, policies, services and scope segments.
    Plain,
    /// Kinds and verbs.
    Word,
    /// Attribute names (one segment, no dots).
    Attribute,
}

/// The letters of an attribute's name after the first: looked up, since requests by the million
/// bring some of them each.
const ATTRIBUTE_LETTERS: [bool; 256] = {
    let mut letters = [false; 256];
    let mut letter = 0;
    while letter < 256 {
        let byte = letter as u8;
        letters[letter] = byte.is_ascii_alphanumeric() || byte == b'_' || byte == b'-';
        letter += 1;
    }
    letters
};

impl Grammar {
    /// Whether `name` is a name of this sort.
    #[must_use]
    pub fn accepts(self, name: &str) -> bool {
        let bytes = name.as_bytes();
        let (Some(&first), true) = (bytes.first(), bytes.len() <= NAME_BYTES) else {
            return false;
        };
        let rest = &bytes[1..];
        match self {
            Self::Plain => {
                first.is_ascii_alphanumeric()
                    && rest.iter().all(|b| b.is_ascii_alphanumeric() || b"._-@".contains(b))
            }
            Self::Word => {
                first.is_ascii_lowercase()
                    && rest
                        .iter()
                        .all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || *b == b'-')
            }
            Self::Attribute => {
                (first.is_ascii_alphabetic() || first == b'_')
                    && rest.iter().all(|b| ATTRIBUTE_LETTERS[usize::from(*b)])
            }
        }
    }

    /// The rule in words, for messages.
    #[must_use]
    pub fn rule(self) -> &'static str {
        match self {
            Self::Plain => {
                "an ASCII letter or digit, then letters, digits, `.`, `_`, `-`, `@`; at most 128 bytes"
            }
            Self::Word => {
                "a lower-case ASCII letter, then lower-case letters, digits and `-`; at most 128 bytes"
            }
            Self::Attribute => {
                "an ASCII letter or `_`, then letters, digits, `_` and `-`; at most 128 bytes"
            }
        }
    }
}

/// The known name nearest to `wanted`, if one is near enough to be what was meant.
///
/// "Near" is at most a third of the letters wrong (a transposition counts once), or the same
/// letters in another case. Ties go to the name that comes first in order.
pub fn nearest<'a>(wanted: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    if wanted.len() > NAME_BYTES * 4 {
        return None;
    }
    let limit = (wanted.chars().count() / 3).max(1);
    known
        .into_iter()
        .filter(|name| name.len().abs_diff(wanted.len()) <= limit * 4)
        .map(|name| {
            let distance = if name.eq_ignore_ascii_case(wanted) {
                0
            } else {
                strsim::osa_distance(wanted, name)
            };
            (distance, name)
        })
        .filter(|(distance, _)| *distance <= limit)
        .min()
        .map(|(_, name)| name)
}

/// The new word for one that this format had once (spec section 2): a key, a field of a request, a
/// root of conditions, an operator. `has X` became `X is set`, which is no word for a word.
#[must_use]
pub fn new_word(old: &str) -> Option<&'static str> {
    Some(match old {
        "principal" => "who",
        "resource" => "target",
        "context" => "given",
        "like" => "fits",
        "home" => "place",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::{Grammar, nearest};

    #[test]
    fn letters_of_names() {
        for good in ["a", "7_", "v1.2", "x@1", "A-b"] {
            assert!(Grammar::Plain.accepts(good), "{good}");
        }
        for bad in ["", "-a", ".a", "a b", "é", "a/b"] {
            assert!(!Grammar::Plain.accepts(bad), "{bad}");
        }
        assert!(Grammar::Word.accepts("read-2") && !Grammar::Word.accepts("Read"));
        assert!(Grammar::Attribute.accepts("_x-1") && !Grammar::Attribute.accepts("1x"));
        assert!(
            Grammar::Plain.accepts(&"a".repeat(128)) && !Grammar::Plain.accepts(&"a".repeat(129))
        );
    }

    #[test]
    fn nearest_name() {
        let known = ["store.read", "store.list", "vault.open"];
        assert_eq!(nearest("store.raed", known), Some("store.read"));
        assert_eq!(nearest("STORE.LIST", known), Some("store.list"));
        assert_eq!(nearest("nothing-like-it", known), None);
    }
}
