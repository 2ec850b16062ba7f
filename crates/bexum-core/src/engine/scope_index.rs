//! What is attached where, turned around by place: for each scope its attachments and ceilings,
//! those of one principal together.

use super::subjects::{SubjectId, SubjectNumbers, SubjectSets};
use crate::catalogue::TargetClass;
use crate::estate::Estate;
use crate::id::{AttributeId, KindId, PolicyId, ScopeId};
use crate::principal::Subject;
use crate::request::TargetPlace;
use crate::scope::ScopeType;
use crate::time::Window;

/// A policy at a place for one subject: by an attachment, or as a ceiling.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Entry {
    pub(crate) subject_id: SubjectId,
    pub(crate) policy: PolicyId,
    /// The attachment's or ceiling's position in the estate.
    pub(crate) origin: u32,
    /// Whether it counts only at some times.
    pub(crate) windowed: bool,
}

/// Entries, hot fields first: a scan reads only the keys; origins lie in a second array.
#[derive(Debug)]
struct Entries {
    keys: Vec<(SubjectId, PolicyId)>,
    origins: Vec<(u32, bool)>,
}

impl Entries {
    fn new(entries: impl Iterator<Item = Entry>) -> Self {
        let (keys, origins) = entries
            .map(|entry| ((entry.subject_id, entry.policy), (entry.origin, entry.windowed)))
            .unzip();
        Self { keys, origins }
    }

    fn list(&self, start: u32, end: u32) -> List<'_> {
        let range = start as usize..end as usize;
        List { keys: &self.keys[range.clone()], origins: &self.origins[range] }
    }
}

/// Some of the entries, those of one subject together.
#[derive(Clone, Copy, Debug)]
pub(crate) struct List<'p> {
    pub(super) keys: &'p [(SubjectId, PolicyId)],
    origins: &'p [(u32, bool)],
}

impl List<'_> {
    fn entry(&self, at: usize) -> Entry {
        let ((subject_id, policy), (origin, windowed)) = (self.keys[at], self.origins[at]);
        Entry { subject_id, policy, origin, windowed }
    }

    /// Calls `each` with every entry that is for one of these subjects, until it says that it has
    /// heard enough.
    pub(crate) fn each_sought(self, subjects: SubjectSets<'_>, each: impl FnMut(Entry) -> bool) {
        self.each_wanted(subjects, |_| true, each);
    }

    /// As [`Self::each_sought`], for entries whose policy is `wanted`; that is asked first, since it is
    /// cheaper.
    pub(crate) fn each_wanted(
        self,
        subjects: SubjectSets<'_>,
        wanted: impl Fn(PolicyId) -> bool,
        mut each: impl FnMut(Entry) -> bool,
    ) {
        // Few entries are looked through, many are looked up, subject by subject.
        if self.keys.len() <= 32 + subjects.len() * 8 {
            for (at, (subject_id, policy)) in self.keys.iter().enumerate() {
                if wanted(*policy) && subjects.has(*subject_id) && each(self.entry(at)) {
                    return;
                }
            }
            return;
        }
        for subject_id in subjects.subject_ids() {
            let first = self.keys.partition_point(|(other, _)| *other < subject_id);
            let of_code = self.keys[first..].iter().take_while(|(other, _)| *other == subject_id);
            for (at, (_, policy)) in (first..).zip(of_code) {
                if wanted(*policy) && each(self.entry(at)) {
                    return;
                }
            }
        }
    }
}

/// A scope as the engine walks it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Node {
    parent: u32,
    pub(super) depth: u16,
    sealed: bool,
    scope_type: ScopeType,
    kind: Option<KindId>,
    /// A bit for each attribute that it bears by itself, some of them sharing one.
    bears: u32,
    attached: u32,
    ceilings: u32,
}

const NO_PARENT: u32 = u32::MAX;

/// What is attached where.
#[derive(Debug)]
pub(crate) struct ScopeIndex {
    pub(crate) subject_ids: SubjectNumbers,
    /// One for each scope, and one more for the ends of the last.
    pub(super) nodes: Vec<Node>,
    attached: Entries,
    ceilings: Entries,
    everywhere: Entries,
}

impl ScopeIndex {
    pub(crate) fn new(estate: &Estate) -> Self {
        let subject_ids = SubjectNumbers::new(estate);
        let mut attached: Vec<(ScopeId, Entry)> = Vec::new();
        for (i, attachment) in estate.attachments.iter().enumerate() {
            for to in &attachment.to {
                for policy in &attachment.policies {
                    let entry = entry(subject_ids, i, to.value, policy.value, attachment.window);
                    attached.extend(attachment.at.iter().map(|at| (at.value, entry)));
                }
            }
        }
        let mut ceilings: Vec<(ScopeId, Entry)> = Vec::new();
        let mut everywhere: Vec<Entry> = Vec::new();
        for (i, ceiling) in estate.ceilings.iter().enumerate() {
            for to in &ceiling.bound {
                for policy in &ceiling.policies {
                    let entry = entry(subject_ids, i, *to, policy.value, ceiling.window);
                    match &ceiling.over {
                        None => everywhere.push(entry),
                        Some(over) => ceilings.extend(over.iter().map(|at| (at.value, entry))),
                    }
                }
            }
        }
        attached.sort_unstable();
        ceilings.sort_unstable();
        everywhere.sort_unstable();
        let mut nodes = Vec::with_capacity(estate.scopes.len() + 1);
        let (mut next_attached, mut next_ceiling) = (0, 0);
        for (id, scope) in estate.scopes.iter() {
            nodes.push(Node {
                parent: scope.parent.map_or(NO_PARENT, |parent| parent.0),
                depth: u16::try_from(scope.depth).unwrap_or(u16::MAX),
                sealed: scope.sealed,
                scope_type: scope.scope_type,
                kind: scope.kind,
                bears: scope.attributes.names().fold(0, |bits, id| bits | attribute_bit(id)),
                attached: next_attached as u32,
                ceilings: next_ceiling as u32,
            });
            next_attached +=
                attached[next_attached..].iter().take_while(|(at, _)| *at == id).count();
            next_ceiling += ceilings[next_ceiling..].iter().take_while(|(at, _)| *at == id).count();
        }
        nodes.push(Node {
            parent: NO_PARENT,
            depth: 0,
            sealed: false,
            scope_type: ScopeType::Account,
            kind: None,
            bears: 0,
            attached: attached.len() as u32,
            ceilings: ceilings.len() as u32,
        });
        let entries =
            |list: Vec<(ScopeId, Entry)>| Entries::new(list.into_iter().map(|(_, entry)| entry));
        Self {
            subject_ids,
            nodes,
            attached: entries(attached),
            ceilings: entries(ceilings),
            everywhere: Entries::new(everywhere.into_iter()),
        }
    }

    pub(crate) fn scope_type(&self, scope: ScopeId) -> ScopeType {
        self.nodes[scope.index()].scope_type
    }

    /// What the catalogue sees in a target, as [`Target::class`](crate::request::Target::class).
    pub(crate) fn class(&self, place: TargetPlace) -> TargetClass {
        TargetClass::of_place(place, |id| {
            let node = &self.nodes[id.index()];
            (node.scope_type, node.kind)
        })
    }

    /// The scope, then each scope above it, with its depth and whether it is sealed.
    pub(crate) fn chain(
        &self,
        scope: ScopeId,
    ) -> impl Iterator<Item = (ScopeId, usize, bool)> + '_ {
        let mut next = scope.0;
        std::iter::from_fn(move || {
            (next != NO_PARENT).then(|| {
                let (id, node) = (ScopeId(next), &self.nodes[next as usize]);
                next = node.parent;
                (id, usize::from(node.depth), node.sealed)
            })
        })
    }

    /// The scope and those above it, as far as they may bear an attribute or one below its name.
    pub(crate) fn bearing(
        &self,
        scope: ScopeId,
        attribute: AttributeId,
    ) -> impl Iterator<Item = ScopeId> + '_ {
        let bit = attribute_bit(attribute);
        let may_bear = move |id: &ScopeId| self.nodes[id.index()].bears & bit != 0;
        self.chain(scope).map(|(id, ..)| id).filter(may_bear)
    }

    /// What is attached at exactly this scope.
    pub(crate) fn attached_at(&self, scope: ScopeId) -> List<'_> {
        let (node, next) = (&self.nodes[scope.index()], &self.nodes[scope.index() + 1]);
        self.attached.list(node.attached, next.attached)
    }

    /// The ceilings over everything that are for any of these, as positions.
    pub(super) fn everywhere_for(&self, has: impl Fn(SubjectId) -> bool) -> Box<[u32]> {
        let all = (0..).zip(&self.everywhere.keys);
        all.filter(|(_, (subject_id, _))| has(*subject_id)).map(|(at, _)| at).collect()
    }

    /// Calls `each` with every ceiling over exactly this scope, or over everything, that is for one
    /// of these subjects, until it says that it has heard enough.
    pub(crate) fn each_ceiling(
        &self,
        over: Option<ScopeId>,
        subjects: SubjectSets<'_>,
        each: impl FnMut(Entry) -> bool,
    ) {
        let Some(scope) = over else {
            let all = self.everywhere.list(0, self.everywhere.keys.len() as u32);
            let entry = |position: &u32| all.entry(*position as usize);
            let more = subjects.1.into_iter().flat_map(|more| &*more.everywhere);
            let more = more.map(entry).filter(|entry| !subjects.0.has(entry.subject_id));
            subjects.0.everywhere.iter().map(entry).chain(more).any(each);
            return;
        };
        let (node, next) = (&self.nodes[scope.index()], &self.nodes[scope.index() + 1]);
        self.ceilings.list(node.ceilings, next.ceilings).each_sought(subjects, each);
    }
}

fn attribute_bit(attribute: AttributeId) -> u32 {
    1 << (attribute.index() % 32)
}

fn entry(
    subject_ids: SubjectNumbers,
    origin: usize,
    subject: Subject,
    policy: PolicyId,
    window: Window,
) -> Entry {
    Entry {
        subject_id: subject_ids.of(subject),
        policy,
        origin: origin as u32,
        windowed: window != Window::ALWAYS,
    }
}
