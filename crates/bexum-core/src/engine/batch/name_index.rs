//! Names to ids for requests by the million: principals by their whole names, and everything that
//! has a path.

use super::string_table::{Hash, StringTable, low_bytes};
use crate::estate::Estate;
use crate::id::ScopeId;
use crate::limits::PATH_BYTES;
use crate::principal::{Principal, PrincipalType};
use crate::request::TargetPlace;
use crate::scope::ScopeType;

/// What has a path of its own.
#[derive(Clone, Copy, Debug)]
enum KnownPath {
    Scope(ScopeId),
    /// By its position in the list of such.
    Identity(u32),
}

/// The names of one estate.
#[derive(Debug)]
pub(crate) struct NameIndex {
    /// Users, groups and roles; workloads are found by their paths.
    names: StringTable<Principal>,
    /// Scopes and identities.
    paths: StringTable<KnownPath>,
    /// Users, groups, roles and policies that are targets.
    identities: Vec<TargetPlace>,
}

/// A name and a path made ready to be looked up: all that can be done without waiting for memory.
#[derive(Clone, Debug, Default)]
pub(crate) struct Lookup {
    who: u64,
    is_workload: bool,
    /// The hash of the path up to the end of each segment, and that end.
    heads: Vec<(u64, u32)>,
    /// How many of them to look at: beyond, nothing is known.
    likely: usize,
}

impl Lookup {
    pub(crate) fn prepare_who(&mut self, name: &str) {
        let path = workload(name);
        self.is_workload = path.is_some();
        self.who = Hash::of(path.unwrap_or(name).as_bytes());
    }

    /// Splits a path; `None` where that takes a closer look.
    pub(crate) fn prepare_path<'a>(
        &mut self,
        path: &'a str,
        segments: &mut Vec<&'a str>,
    ) -> Option<()> {
        segments.clear();
        self.heads.clear();
        if path.len() > PATH_BYTES {
            return None;
        }
        let (words, rest) = path.as_bytes().as_chunks::<8>();
        let mut hash = Hash::default();
        for (i, word) in words.iter().enumerate() {
            let word = u64::from_le_bytes(*word);
            if !are_plain(word) {
                return None;
            }
            let mut slashes = marks(word, b'/');
            while slashes != 0 {
                let before = slashes.trailing_zeros() as usize / 8;
                let end = i * 8 + before;
                let prefix = word & !(u64::MAX << (before * 8));
                self.heads.push((hash.ended(prefix, end), end as u32));
                slashes &= slashes - 1;
            }
            hash = hash.and(word);
        }
        let start = words.len() * 8;
        for (i, letter) in rest.iter().enumerate() {
            match letter {
                b'/' => {
                    let head = hash.ended(low_bytes(&rest[..i]), start + i);
                    self.heads.push((head, (start + i) as u32));
                }
                0..0x20 | b'*' | 0x7b.. => return None,
                _ => {}
            }
        }
        self.heads.push((hash.ended(low_bytes(rest), path.len()), path.len() as u32));
        let mut start = 0;
        for (_, end) in &self.heads {
            // A slash is a whole character, so both ends are at one's border.
            let segment = &path[start..*end as usize];
            if matches!(segment, "" | "." | "..") {
                return None;
            }
            segments.push(segment);
            start = *end as usize + 1;
        }
        Some(())
    }
}

/// The path of a workload's name.
fn workload(name: &str) -> Option<&str> {
    name.strip_prefix(PrincipalType::Resource.word())?.strip_prefix(':')
}

const ONES: u64 = 0x0101_0101_0101_0101;
const LOW: u64 = 0x7f7f_7f7f_7f7f_7f7f;

/// The high bit of every byte that is `letter`, and of no other.
fn marks(word: u64, letter: u8) -> u64 {
    let other = word ^ (ONES * u64::from(letter));
    !(((other & LOW) + LOW) | other | LOW)
}

/// Whether eight bytes are plain: ASCII, and none that stands in no path of a request, nor `|`
/// or `~`, which are rare.
fn are_plain(word: u64) -> bool {
    // Above `z`, all that goes beyond seven bits with five more; a carry comes only from such.
    let high = word.wrapping_add(ONES * 5) | word;
    let control = word.wrapping_sub(ONES * 0x20) & !word;
    ((high | control) & !LOW | marks(word, b'*')) == 0
}

impl NameIndex {
    pub(crate) fn new(estate: &Estate) -> Self {
        let count = estate.users.len() + estate.groups.len() + estate.roles.len();
        let mut names = StringTable::with_room(count, Principal::Workload(ScopeId::new(0)));
        for who in estate.principals().filter(|who| !matches!(who, Principal::Workload(_))) {
            let name = estate.principal_id(who);
            names.add(&name, who);
        }
        let count = estate.scopes.len() + estate.identities_at.len();
        let mut paths = StringTable::with_room(count, KnownPath::Scope(ScopeId::new(0)));
        for (id, scope) in estate.scopes.iter() {
            paths.add(&scope.path, KnownPath::Scope(id));
        }
        let mut identities = Vec::with_capacity(estate.identities_at.len());
        for (path, place) in &estate.identities_at {
            paths.add(path, KnownPath::Identity(identities.len() as u32));
            identities.push(*place);
        }
        Self { names, paths, identities }
    }

    /// Loads into the cache what looking up will read first.
    pub(crate) fn prefetch_slots(&self, lookup: &mut Lookup) {
        let likely = lookup.heads.iter().rposition(|(hash, _)| self.paths.may_have(*hash));
        lookup.likely = likely.map_or(0, |last| last + 1);
        if let Some((hash, _)) = lookup.heads[..lookup.likely].last() {
            self.paths.prefetch_slot(*hash);
        }
        if !lookup.is_workload {
            self.names.prefetch_slot(lookup.who);
        }
    }

    /// After [`Self::prefetch_slots`], loads the strings; `prefetch_scope` loads the scope to which the
    /// path most likely leads.
    pub(crate) fn prefetch_texts(&self, lookup: &Lookup, prefetch_scope: impl Fn(ScopeId)) {
        let last = lookup.heads[..lookup.likely].last();
        if let Some(KnownPath::Scope(id)) =
            last.and_then(|(hash, _)| self.paths.prefetch_text(*hash))
        {
            prefetch_scope(id);
        }
        if !lookup.is_workload {
            self.names.prefetch_text(lookup.who);
        }
    }

    /// The principal of a name like `user:ines`, prepared before.
    pub(crate) fn principal(
        &self,
        lookup: &Lookup,
        name: &str,
        scope_type: impl Fn(ScopeId) -> ScopeType,
    ) -> Option<Principal> {
        if !lookup.is_workload {
            return self.names.find(lookup.who, name.as_bytes());
        }
        match self.paths.find(lookup.who, workload(name)?.as_bytes())? {
            KnownPath::Scope(id) => {
                (scope_type(id) == ScopeType::Resource).then_some(Principal::Workload(id))
            }
            KnownPath::Identity(_) => None,
        }
    }

    /// What a path that was prepared before leads to; `None` where that takes a closer look.
    pub(crate) fn place(
        &self,
        lookup: &Lookup,
        path: &str,
        scope_type: impl Fn(ScopeId) -> ScopeType,
    ) -> Option<TargetPlace> {
        for (hash, end) in lookup.heads[..lookup.likely].iter().rev() {
            if !self.paths.may_have(*hash) {
                continue;
            }
            let end = *end as usize;
            let Some(known) = self.paths.find(*hash, &path.as_bytes()[..end]) else { continue };
            let whole = end == path.len();
            return match known {
                KnownPath::Scope(id) if whole => Some(TargetPlace::Scope(id)),
                KnownPath::Scope(id) => {
                    scope_type(id).holds_items().then_some(TargetPlace::Item(id))
                }
                KnownPath::Identity(at) if whole => Some(self.identities[at as usize]),
                KnownPath::Identity(_) => None,
            };
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::{Hash, Lookup, NameIndex, are_plain, marks};
    use crate::declaration::{Declarations, Named, Scope};
    use crate::estate::Estate;
    use crate::origin::{Origin, Spanned};
    use crate::request::resolve_target;
    use crate::scope::ScopeType;

    fn estate() -> Estate {
        let scope = |path: &str, scope_type, kind: Option<&str>| Named {
            name: Spanned::new(path.to_owned(), Origin::default()),
            about: None,
            body: Scope {
                scope_type,
                kind: kind.map(|kind| Spanned::new(kind.to_owned(), Origin::default())),
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
    fn plain_bytes() {
        assert!(are_plain(u64::from_le_bytes(*b"a/b.c-_@")));
        for odd in [
            b"a\x1fbcdefg",
            b"abcdefg*",
            b"abc|efgh",
            b"{bcdefgh",
            b"abc}efgh",
            b"\x7fbcdefgh",
            b"abc\xc3\xa9fgh",
        ] {
            assert!(!are_plain(u64::from_le_bytes(*odd)), "{odd:?}");
        }
    }

    /// Every byte at every place of a word, among others of every sort.
    #[test]
    fn words_are_judged_byte_by_byte() {
        let fillers =
            [0, 0x1f, b' ', b'*', b'+', b'-', b'.', b'/', b'0', b'z', b'{', 0x7f, 0x80, 0xff];
        for filler in fillers {
            for byte in 0..=u8::MAX {
                for place in 0..8 {
                    let mut bytes = [filler; 8];
                    bytes[place] = byte;
                    let word = u64::from_le_bytes(bytes);
                    let is_plain = |byte: &u8| matches!(byte, 0x20..0x7b) && *byte != b'*';
                    assert_eq!(are_plain(word), bytes.iter().all(is_plain), "{bytes:?}");
                    for letter in [b'/', b'*'] {
                        let marked = bytes.map(|byte| if byte == letter { 0x80 } else { 0 });
                        assert_eq!(marks(word, letter), u64::from_le_bytes(marked), "{bytes:?}");
                    }
                }
            }
        }
    }

    proptest::proptest! {
        #[test]
        fn a_path_leads_where_it_leads_with_care(
            head in "(v|v/s\\.t|v/s\\.t/night|w)",
            rest in "[a/.*é{~\u{1}-]{0,12}",
        ) {
            let estate = estate();
            let name_index = NameIndex::new(&estate);
            for path in [head.clone(), rest.clone(), format!("{head}/{rest}"), format!("{head}/night/{rest}")] {
                let (mut lookup, mut segments) = (Lookup::default(), Vec::new());
                let scope_type = |id| estate.scope(id).scope_type;
                let known = lookup
                    .prepare_path(&path, &mut segments)
                    .and_then(|()| {
                        name_index.prefetch_slots(&mut lookup);
                        name_index.place(&lookup, &path, scope_type)
                    });
                let careful = resolve_target(&estate, &path);
                if let Some(place) = known {
                    let target = careful.expect("it leads somewhere");
                    proptest::prop_assert_eq!(place, target.place);
                    proptest::prop_assert_eq!(segments, target.segments);
                } else if path.bytes().all(|b| b.is_ascii_lowercase() || b == b'/') {
                    proptest::prop_assert!(careful.is_err(), "{path}");
                }
            }
            let hash = |text: &str| Hash::of(text.as_bytes());
            proptest::prop_assert_eq!(hash(&rest) == hash(&head), rest == head);
        }
    }
}
