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
const MOST_SEGMENTS: usize = 24;

/// Goes on with a hash over one more segment.
fn mix(hash: u64, segment: &[u8]) -> u64 {
    const K: u64 = 0xf135_7aea_2e62_a9c5;
    let mut hash = (hash ^ segment.len() as u64).wrapping_mul(K);
    let mut words = segment.chunks_exact(8);
    for word in &mut words {
        let word = u64::from_le_bytes(word.try_into().expect("eight bytes"));
        hash = (hash.rotate_left(23) ^ word).wrapping_mul(K);
    }
    let rest = words.remainder();
    if !rest.is_empty() {
        let mut word = [0; 8];
        word[..rest.len()].copy_from_slice(rest);
        hash = (hash.rotate_left(23) ^ u64::from_le_bytes(word)).wrapping_mul(K);
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

/// Letters that no path of a request may have, or that need a closer look.
const SUSPECT: [bool; 256] = {
    let mut suspect = [false; 256];
    let mut i = 0;
    while i < 32 {
        suspect[i] = true;
        i += 1;
    }
    suspect[0x7f] = true;
    suspect[b'*' as usize] = true;
    suspect[b'{' as usize] = true;
    suspect[b'}' as usize] = true;
    // The first byte of the control characters beyond ASCII, and of some others.
    suspect[0xc2] = true;
    suspect
};

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
        if path.len() > PATH_BYTES {
            return None;
        }
        let bytes = path.as_bytes();
        let mut heads = [(0_u64, 0_usize); MOST_SEGMENTS];
        let (mut hash, mut start) = (0, 0);
        let mut sound = true;
        for i in 0..=bytes.len() {
            if i < bytes.len() && bytes[i] != b'/' {
                sound &= !SUSPECT[usize::from(bytes[i])];
                continue;
            }
            let segment = &bytes[start..i];
            sound &= !matches!(segment, b"" | b"." | b"..");
            hash = mix(hash, segment);
            *heads.get_mut(segments.len())? = (hash, i);
            // A slash is a whole character, so both ends are at one's border.
            segments.push(&path[start..i]);
            start = i + 1;
        }
        if !sound {
            return None;
        }
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
