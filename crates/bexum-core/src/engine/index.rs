//! The index: who is in what, what is attached to whom and where, turned around once.

use std::ops::Deref;
use std::sync::{Arc, OnceLock};

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;

use super::action_index::ActionIndex;
use super::batch::NameIndex;
use super::evaluate::Decider;
use super::scope_index::ScopeIndex;
use super::subjects::{SubjectSet, SubjectSets};
use crate::estate::Estate;
use crate::id::{AttachmentId, GroupId, PolicyId, RoleId, ScopeId, UserId};
use crate::principal::{Membership, Principal, Subject};
use crate::time::Window;

/// A place in a list that a principal has for a time.
#[derive(Clone, Copy, Debug)]
pub(crate) struct MembershipEdge<T> {
    pub(crate) into: T,
    pub(crate) window: Window,
    /// Whether it is written there; members by condition are not.
    pub(crate) listed: bool,
}

/// The names in a list as written, each with its window; `None` when the list is not written.
pub(crate) type NamesWritten = Option<Box<[(Box<str>, Window)]>>;

type MembershipEdges<T> = FxHashMap<Principal, Vec<MembershipEdge<T>>>;

/// An estate and its [`Index`], owned together: cheap to clone, to hand to another thread, and to
/// replace by that of another estate. Whoever asks makes a [`Decider`](super::Decider) of it.
#[derive(Clone, Debug)]
pub struct Engine(Arc<Index>);

impl Engine {
    /// Turns the estate around for deciding.
    #[must_use]
    pub fn new(estate: impl Into<Arc<Estate>>) -> Self {
        Self(Arc::new(Index::new(estate.into())))
    }

    /// A decider that knows nobody yet; each thread has its own.
    #[must_use]
    pub fn decider(&self) -> Decider<'_> {
        Decider::new(self)
    }
}

impl Deref for Engine {
    type Target = Index;

    #[inline]
    fn deref(&self) -> &Index {
        &self.0
    }
}

/// An estate turned around for deciding; an [`Engine`] owns it. Cheap to build: one pass over
/// memberships and attachments as written.
#[derive(Debug)]
pub struct Index {
    estate: Arc<Estate>,
    pub(crate) groups_of: MembershipEdges<GroupId>,
    pub(crate) held_roles_of: MembershipEdges<RoleId>,
    pub(crate) takeable_roles_of: MembershipEdges<RoleId>,
    pub(crate) attachments_of: FxHashMap<Subject, Vec<AttachmentId>>,
    pub(crate) scope_index: ScopeIndex,
    pub(crate) action_index: ActionIndex,
    /// The policies that are ceilings.
    pub(crate) ceilings: FixedBitSet,
    name_index: OnceLock<NameIndex>,
    /// `target.members` of each group, as `user:ines`, with windows; `None` when not written.
    pub(crate) members_written: Vec<NamesWritten>,
    /// `target.owners` likewise.
    pub(crate) owners_written: Vec<NamesWritten>,
    /// `target.manager` of users that can be targets, as `user:tomas`.
    pub(crate) managers_written: FxHashMap<UserId, Box<str>>,
}

impl Index {
    fn new(owned: Arc<Estate>) -> Self {
        let estate = &*Arc::clone(&owned);
        let mut index = Self {
            estate: owned,
            groups_of: FxHashMap::default(),
            held_roles_of: FxHashMap::default(),
            takeable_roles_of: FxHashMap::default(),
            attachments_of: FxHashMap::default(),
            scope_index: ScopeIndex::new(estate),
            action_index: ActionIndex::new(estate),
            ceilings: estate
                .ceilings
                .iter()
                .flat_map(|ceiling| &ceiling.policies)
                .map(|policy| policy.value.index())
                .collect(),
            name_index: OnceLock::new(),
            members_written: Vec::with_capacity(estate.groups.len()),
            owners_written: Vec::with_capacity(estate.groups.len()),
            managers_written: FxHashMap::default(),
        };
        for (i, group) in estate.groups.iter().enumerate() {
            let members = group.members.as_deref();
            turn(&mut index.groups_of, GroupId::new(i), members.unwrap_or_default());
            for &user in &group.matching {
                let edge =
                    MembershipEdge { into: GroupId::new(i), window: Window::ALWAYS, listed: false };
                index.groups_of.entry(Principal::User(user)).or_default().push(edge);
            }
            let name = |who: Principal| estate.principal_id(who).into_boxed_str();
            index
                .members_written
                .push(members.map(|list| list.iter().map(|m| (name(m.who), m.window)).collect()));
            index.owners_written.push(group.owners.as_deref().map(|list| {
                list.iter().map(|&user| (name(Principal::User(user)), Window::ALWAYS)).collect()
            }));
        }
        for (i, user) in estate.users.iter().enumerate() {
            if let (Some(manager), Some(_)) = (user.manager, user.identity.place) {
                let written = estate.principal_id(Principal::User(manager)).into();
                index.managers_written.insert(UserId::new(i), written);
            }
        }
        for (i, role) in estate.roles.iter().enumerate() {
            turn(&mut index.held_roles_of, RoleId::new(i), &role.held_by);
            turn(&mut index.takeable_roles_of, RoleId::new(i), &role.taken_by);
        }
        for (i, attachment) in estate.attachments.iter().enumerate() {
            for subject in &attachment.to {
                let list = index.attachments_of.entry(subject.value).or_default();
                list.push(AttachmentId::new(i));
            }
        }
        index
    }

    /// The estate.
    #[inline]
    #[must_use]
    pub fn estate(&self) -> &Estate {
        &self.estate
    }

    /// Whether nothing is ever allowed to a user or workload and no role is theirs, whatever the moment and
    /// the circumstances: nothing is attached to everyone, to them or to a group that they are ever in, and
    /// neither they nor such a group are in the lists of a role. Of others it is not found out.
    pub(crate) fn can_never_do_anything(&self, who: Principal) -> bool {
        if !matches!(who, Principal::User(_) | Principal::Workload(_))
            || self.attachments_of.contains_key(&Subject::Everyone)
        {
            return false;
        }
        let mut waiting = vec![who];
        let mut seen: Vec<Principal> = waiting.clone();
        while let Some(who) = waiting.pop() {
            if self.attachments_of.contains_key(&Subject::One(who))
                || self.held_roles_of.contains_key(&who)
                || self.takeable_roles_of.contains_key(&who)
            {
                return false;
            }
            for edge in self.groups_of.get(&who).into_iter().flatten() {
                let group = Principal::Group(edge.into);
                if !seen.contains(&group) {
                    seen.push(group);
                    waiting.push(group);
                }
            }
        }
        true
    }

    /// Names to ids, made when first asked for: a single request needs no index of names.
    pub(crate) fn name_index(&self) -> &NameIndex {
        self.name_index.get_or_init(|| NameIndex::new(&self.estate))
    }

    /// Everything attached to any of these subjects, each policy at each scope.
    pub(crate) fn attached_to<'i>(
        &'i self,
        subjects: &'i SubjectSet,
    ) -> impl Iterator<Item = AttachedTo> + use<'i> {
        let subjects = subjects
            .subject_ids()
            .map(|subject_id| self.scope_index.subject_ids.subject(subject_id));
        let ids = subjects.flat_map(|subject| self.attachments_of.get(&subject)).flatten();
        ids.flat_map(|&id| {
            let written = self.estate.attachment(id);
            written.at.iter().flat_map(move |at| {
                written.policies.iter().map(move |policy| AttachedTo {
                    scope: at.value,
                    policy: policy.value,
                    attachment: id,
                    window: written.window,
                })
            })
        })
    }

    /// The policies attached at a scope or above it, and the ceilings over them or everything,
    /// each with the scope that its patterns start at, and when it counts.
    pub(crate) fn policies_above(
        &self,
        subjects: SubjectSets<'_>,
        scope: ScopeId,
    ) -> Vec<(PolicyId, Option<ScopeId>, Window)> {
        let mut found = Vec::new();
        let estate = &self.estate;
        let above = self.scope_index.chain(scope).map(|(at, ..)| at);
        for at in std::iter::once(None).chain(above.map(Some)) {
            self.scope_index.each_ceiling(at, subjects, |entry| {
                let window = estate.ceilings[entry.origin as usize].window;
                found.push((entry.policy, at, window));
                false
            });
            let Some(scope) = at else { continue };
            self.scope_index.attached_at(scope).each_sought(subjects, |entry| {
                let window = estate.attachments[entry.origin as usize].window;
                found.push((entry.policy, at, window));
                false
            });
        }
        found
    }
}

/// A policy at a scope, by an attachment.
#[derive(Clone, Copy, Debug)]
pub(crate) struct AttachedTo {
    pub(crate) scope: ScopeId,
    pub(crate) policy: PolicyId,
    pub(crate) attachment: AttachmentId,
    pub(crate) window: Window,
}

fn turn<T: Copy>(edges: &mut MembershipEdges<T>, into: T, list: &[Membership]) {
    for member in list {
        let edge = MembershipEdge { into, window: member.window, listed: true };
        edges.entry(member.who).or_default().push(edge);
    }
}

#[cfg(test)]
mod tests {
    use super::Engine;
    use crate::Estate;
    use crate::declaration::{Declarations, Named, Scope};
    use crate::origin::{Origin, Spanned};
    use crate::scope::ScopeType;

    fn engine(account: &str) -> Engine {
        let body = Scope {
            scope_type: ScopeType::Account,
            kind: None,
            sealed: false,
            attributes: Vec::new(),
        };
        let name = Spanned::new(account.to_owned(), Origin::default());
        let scopes = vec![Named { name, about: None, body }];
        let declared = Declarations { name: "x".to_owned(), scopes, ..Declarations::default() };
        Engine::new(Estate::build(&declared).expect("it builds"))
    }

    fn first_scope(engine: &Engine) -> String {
        engine.decider().index.estate().scopes.iter().map(|(_, s)| s.path.to_string()).collect()
    }

    /// Whoever holds an engine holds all that it needs: other threads ask a clone while it is replaced.
    #[test]
    fn an_engine_is_shared_and_replaced() {
        let mut held = engine("v");
        let others: Vec<_> = (0..2)
            .map(|_| {
                let clone = held.clone();
                std::thread::spawn(move || first_scope(&clone))
            })
            .collect();
        held = engine("w");
        for other in others {
            assert_eq!(other.join().expect("it ends"), "v");
        }
        assert_eq!(first_scope(&held), "w");
    }
}
