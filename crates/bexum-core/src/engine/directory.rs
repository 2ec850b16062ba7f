//! Names to ids for requests by the million: principals by their whole names, and everything that
//! has a path. Texts lie side by side in one string, so that a lookup touches few places.

use hashbrown::HashTable;

use crate::catalogue::TargetClass;
use crate::estate::Estate;
use crate::id::ScopeId;
use crate::limits::PATH_BYTES;
use crate::principal::Principal;
use crate::request::Place;

/// Texts, and what each stands for.
#[derive(Debug)]
struct Texts<T> {
    all: String,
    slots: HashTable<Slot<T>>,
}

/// Where a text stands, and what it stands for: all that a lookup needs in one place.
#[derive(Clone, Copy, Debug)]
struct Slot<T> {
    meaning: T,
    start: u32,
    end: u32,
}

/// Segments of a path that are looked up; deeper ones are left to the plain way.
const MOST_SEGMENTS: usize = 12;

/// Goes on with a hash over one more segment, eight letters at a time; the last eight may overlap
/// those before.
fn mix(hash: u64, segment: &[u8]) -> u64 {
    const K: u64 = 0xf135_7aea_2e62_a9c5;
    let mut hash = (hash ^ segment.len() as u64).wrapping_mul(K);
    let mut add = |word: u64| hash = (hash.rotate_left(23) ^ word).wrapping_mul(K);
    if let Some(last) = segment.last_chunk::<8>() {
        let whole = (segment.len() - 1) / 8 * 8;
        for word in segment[..whole].chunks_exact(8) {
            add(u64::from_le_bytes(word.try_into().expect("eight bytes")));
        }
        add(u64::from_le_bytes(*last));
    } else if let (Some(first), Some(last)) =
        (segment.first_chunk::<4>(), segment.last_chunk::<4>())
    {
        let (first, last) = (u32::from_le_bytes(*first), u32::from_le_bytes(*last));
        add(u64::from(first) | u64::from(last) << 32);
    } else {
        add(segment.iter().fold(0, |word, letter| word << 8 | u64::from(*letter)));
    }
    hash ^ (hash >> 32)
}

fn hash(text: &str) -> u64 {
    text.as_bytes().split(|b| *b == b'/').fold(0, mix)
}

impl<T: Copy> Texts<T> {
    fn with_room(texts: usize) -> Self {
        Self { all: String::new(), slots: HashTable::with_capacity(texts) }
    }

    /// Adds a text that is not there yet.
    fn add(&mut self, text: &str, meaning: T) {
        let length = |all: &str| u32::try_from(all.len()).expect("limits keep names within 4 GiB");
        let start = length(&self.all);
        self.all.push_str(text);
        let slot = Slot { meaning, start, end: length(&self.all) };
        let all = &self.all;
        let rehash = |slot: &Slot<T>| hash(&all[slot.start as usize..slot.end as usize]);
        self.slots.insert_unique(hash(text), slot, rehash);
    }

    fn find(&self, hash: u64, text: &str) -> Option<T> {
        let same = |slot: &Slot<T>| {
            (slot.end - slot.start) as usize == text.len()
                && &self.all[slot.start as usize..slot.end as usize] == text
        };
        self.slots.find(hash, same).map(|slot| slot.meaning)
    }
}

/// What a path is, if it is all of a target's path or its beginning.
#[derive(Clone, Copy, Debug)]
enum Known {
    /// A scope, what the catalogue sees in it, and whether items may lie below it.
    Scope(ScopeId, TargetClass, bool),
    Identity(Principal, ScopeId),
}

/// The names of one estate.
#[derive(Debug)]
pub(crate) struct Directory {
    names: Texts<Principal>,
    /// Scopes and identities.
    paths: Texts<Known>,
}

/// The high bit of every byte that is `letter`; a byte right above one that is may be marked too.
fn marks(word: u64, letter: u8) -> u64 {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const HIGH: u64 = 0x8080_8080_8080_8080;
    let word = word ^ (ONES * u64::from(letter));
    word.wrapping_sub(ONES) & !word & HIGH
}

/// Whether eight letters are plain: ASCII, and none that stands in no path of a request.
fn are_plain(word: u64) -> bool {
    const SPACES: u64 = 0x2020_2020_2020_2020;
    const HIGH: u64 = 0x8080_8080_8080_8080;
    let control = word.wrapping_sub(SPACES) & !word & HIGH;
    let odd = marks(word, b'*') | marks(word, b'{') | marks(word, b'}') | marks(word, 0x7f);
    (odd | control | word & HIGH) == 0
}

impl Directory {
    pub(crate) fn new(estate: &Estate) -> Self {
        let mut names = Texts::with_room(estate.users.len() + estate.scopes.len());
        for who in estate.principals() {
            names.add(&estate.principal_id(who), who);
        }
        let mut paths = Texts::with_room(estate.scopes.len() + estate.identities_at.len());
        for (id, scope) in estate.scopes.iter() {
            paths.add(&scope.path, Known::Scope(id, scope.class(), scope.holds_items()));
        }
        for (path, who) in &estate.identities_at {
            if let Some(home) = estate.identity(*who).and_then(|identity| identity.home) {
                paths.add(path, Known::Identity(*who, home));
            }
        }
        Self { names, paths }
    }

    /// The principal of a name like `user:ines`.
    pub(crate) fn principal(&self, name: &str) -> Option<Principal> {
        self.names.find(hash(name), name)
    }

    /// What a path leads to and what the catalogue sees in it, and its segments; `None` where that
    /// takes a closer look.
    pub(crate) fn place<'a>(
        &self,
        path: &'a str,
        segments: &mut Vec<&'a str>,
    ) -> Option<(Place, TargetClass)> {
        segments.clear();
        if path.len() > PATH_BYTES || path.is_empty() {
            return None;
        }
        let bytes = path.as_bytes();
        let mut heads = [(0_u64, 0_usize); MOST_SEGMENTS];
        let (mut hash, mut start) = (0, 0);
        let mut close = |end: usize, segments: &mut Vec<&'a str>| -> Option<()> {
            let segment = &bytes[start..end];
            if matches!(segment, b"" | b"." | b"..") {
                return None;
            }
            hash = mix(hash, segment);
            *heads.get_mut(segments.len())? = (hash, end);
            // A slash is a whole character, so both ends are at one's border.
            segments.push(&path[start..end]);
            start = end + 1;
            Some(())
        };
        for (i, word) in bytes.chunks(8).enumerate() {
            let word = match <[u8; 8]>::try_from(word) {
                Ok(eight) => u64::from_le_bytes(eight),
                Err(_) => {
                    let mut eight = [b' '; 8];
                    eight[..word.len()].copy_from_slice(word);
                    u64::from_le_bytes(eight)
                }
            };
            if !are_plain(word) {
                return None;
            }
            let mut slashes = marks(word, b'/');
            while slashes != 0 {
                let at = i * 8 + slashes.trailing_zeros() as usize / 8;
                // What is marked wrongly comes after a slash: it is a `.`.
                if bytes[at] == b'/' {
                    close(at, segments)?;
                }
                slashes &= slashes - 1;
            }
        }
        close(bytes.len(), segments)?;
        for (hash, end) in heads[..segments.len()].iter().rev() {
            let Some(known) = self.paths.find(*hash, &path[..*end]) else { continue };
            let whole = *end == path.len();
            return match known {
                Known::Scope(id, class, _) if whole => Some((Place::Scope(id), class)),
                Known::Scope(id, TargetClass::Declared(kind), true) => {
                    Some((Place::Item(id), TargetClass::Item(kind)))
                }
                Known::Identity(who, home) if whole => {
                    let class = match who {
                        Principal::User(_) => TargetClass::User,
                        Principal::Group(_) => TargetClass::Group,
                        _ => TargetClass::Role,
                    };
                    Some((Place::Identity(who, home), class))
                }
                Known::Scope(..) | Known::Identity(..) => None,
            };
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::{Directory, are_plain, hash};
    use crate::declaration::{Declarations, Named, Scope};
    use crate::estate::Estate;
    use crate::origin::{Origin, Written};
    use crate::request::resolve_target;
    use crate::scope::ScopeType;

    fn estate() -> Estate {
        let scope = |path: &str, scope_type, kind: Option<&str>| Named {
            name: Written::new(path.to_owned(), Origin::default()),
            about: None,
            body: Scope {
                scope_type,
                kind: kind.map(|kind| Written::new(kind.to_owned(), Origin::default())),
                sealed: false,
                attributes: Vec::new(),
            },
        };
        let declared = Declarations {
            scopes: vec![
                scope("v", ScopeType::Account, None),
                scope("v/s.t", ScopeType::Subscription, None),
                scope("v/s.t/night", ScopeType::Namespace, None),
            ],
            ..Declarations::default()
        };
        Estate::build(&declared).expect("it builds")
    }

    #[test]
    fn plain_letters() {
        assert!(are_plain(u64::from_le_bytes(*b"a/b.c-_@")));
        for odd in [
            b"a\x1fbcdefg",
            b"abcdefg*",
            b"{bcdefgh",
            b"abc}efgh",
            b"\x7fbcdefgh",
            b"abc\xc3\xa9fgh",
        ] {
            assert!(!are_plain(u64::from_le_bytes(*odd)), "{odd:?}");
        }
    }

    proptest::proptest! {
        #[test]
        fn a_path_leads_where_it_leads_with_care(
            head in "(v|v/s\\.t|v/s\\.t/night|w)",
            rest in "[a/.*é{~\u{1}-]{0,12}",
        ) {
            let estate = estate();
            let directory = Directory::new(&estate);
            for path in [head.clone(), rest.clone(), format!("{head}/{rest}"), format!("{head}/night/{rest}")] {
                let mut segments = Vec::new();
                let known = directory.place(&path, &mut segments);
                let careful = resolve_target(&estate, &path);
                if let Some((place, class)) = known {
                    let target = careful.expect("it leads somewhere");
                    proptest::prop_assert_eq!(place, target.place);
                    proptest::prop_assert_eq!(class, target.class(&estate));
                    proptest::prop_assert_eq!(segments, target.segments);
                } else if path.bytes().all(|b| b.is_ascii_lowercase() || b == b'/') {
                    proptest::prop_assert!(careful.is_err(), "{path}");
                }
            }
            proptest::prop_assert_eq!(hash(&rest) == hash(&head), rest == head);
        }
    }
}
