//! A part of an estate that holds all that some change can concern: small enough to be built again for
//! each change that is tried.
//!
//! A part holds some people whole: all that they are in at any time, and every attachment and ceiling
//! that names any of that at some scopes or above or below them. Whatever these people are decided
//! there is what they are decided in the estate, and the rows there are the estate's rows. What
//! else it holds (a manager, an owner that a target may be asked for) is there by name, and is not
//! compared.

use std::borrow::Cow;
use std::collections::{BTreeSet, VecDeque};
use std::hash::Hash;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::condition::Reference;
use crate::condition::check::{TargetAttribute, WhoAttribute};
use crate::declaration::{Attachment, Ceiling, Declarations, Element, List, Named, Policy};
use crate::edit::{Edit, apply, same_files};
use crate::engine::{Engine, Index};
use crate::estate::Estate;
use crate::id::{AttachmentId, PolicyId, ScopeId, StatementId};
use crate::impact::{SameFiles, opens_anything, within};
use crate::origin::Spanned;
use crate::principal::{Principal, Subject};
use crate::prove::Opened;
use crate::time::Time;

/// A part of an estate, built.
#[derive(Debug)]
pub(crate) struct EstatePart {
    pub(crate) declared: Declarations,
    pub(crate) engine: Engine,
}

/// A part of an estate without an edit and with it.
#[derive(Debug)]
pub(crate) struct EditedPart {
    pub(crate) engines: [Engine; 2],
    pub(crate) same: SameFiles,
    /// Those whom it concerns, by name.
    pub(crate) names: BTreeSet<String>,
}

impl EditedPart {
    /// Whether the edit opens anything to any of them, now or later, in any circumstances.
    pub(crate) fn opens(&self, now: Time) -> Opened {
        let [before, after] = &self.engines;
        opens_anything([before, after], &self.same, &self.names, now)
    }

    /// Whether it closes anything.
    pub(crate) fn closes(&self, now: Time) -> Opened {
        let [before, after] = &self.engines;
        opens_anything([after, before], &self.same.turned(), &self.names, now)
    }
}

/// Where something can matter.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Places {
    /// At and below these scopes.
    Below(Vec<ScopeId>),
    Everywhere,
}

impl Places {
    /// How many scopes there are.
    pub(crate) fn rows(&self, estate: &Estate) -> usize {
        match self {
            Self::Everywhere => estate.scopes.len(),
            Self::Below(all) => all.iter().map(|at| estate.scopes.subtree(*at).len()).sum(),
        }
    }

    /// These, and what is at and below a scope.
    pub(crate) fn and(self, at: ScopeId) -> Self {
        match self {
            Self::Below(mut all) => {
                all.push(at);
                Self::Below(all)
            }
            Self::Everywhere => self,
        }
    }
}

/// What a part holds besides the people and places that it is made for.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Besides<'b> {
    /// A path whose nearest scope has a row.
    pub(crate) path: Option<&'b str>,
    /// Policies, by name.
    pub(crate) policies: &'b [Cow<'b, str>],
}

/// A whole estate, of which parts are made.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Whole<'s> {
    pub(crate) declared: &'s Declarations,
    pub(crate) engine: &'s Engine,
    pub(crate) lookup: &'s Lookup,
}

/// Where things stand among the declarations, by their ids; and what a part is asked for that would
/// take a look at everything. Made once for an estate.
#[derive(Debug, Default)]
pub(crate) struct Lookup {
    scopes: Vec<usize>,
    users: Vec<usize>,
    groups: Vec<usize>,
    roles: Vec<usize>,
    policies: Vec<usize>,
    /// Who stands in a scope as a target.
    identities_in: FxHashMap<ScopeId, Vec<Principal>>,
    /// Which policies do.
    policies_in: FxHashMap<ScopeId, Vec<PolicyId>>,
    /// Policies with a statement that asks what somebody is in.
    asking: FxHashSet<PolicyId>,
    /// The attachments of such.
    asking_attached: Vec<AttachmentId>,
    /// Whether any statement asks who is in the group that is the target.
    asks_who_is_in: bool,
}

impl Lookup {
    pub(crate) fn new(declared: &Declarations, estate: &Estate) -> Self {
        fn by_id<T>(
            all: &[Named<T>],
            count: usize,
            id: impl Fn(&str) -> Option<usize>,
        ) -> Vec<usize> {
            let mut found = vec![0; count];
            for (i, one) in all.iter().enumerate() {
                if let Some(id) = id(&one.name.value) {
                    found[id] = i;
                }
            }
            found
        }
        let mut lookup = Self {
            scopes: by_id(&declared.scopes, estate.scopes.len(), |name| {
                estate.scopes.find(name).map(ScopeId::index)
            }),
            users: by_id(&declared.users, estate.users.len(), |name| {
                estate.find_user(name).map(|id| id.index())
            }),
            groups: by_id(&declared.groups, estate.groups.len(), |name| {
                estate.find_group(name).map(|id| id.index())
            }),
            roles: by_id(&declared.roles, estate.roles.len(), |name| {
                estate.find_role(name).map(|id| id.index())
            }),
            policies: by_id(&declared.policies, estate.policies.len(), |name| {
                estate.find_policy(name).map(|id| id.index())
            }),
            asking: asks_what_one_is_in(estate),
            asks_who_is_in: (0..estate.statements.len()).map(StatementId::new).any(|id| {
                asks(estate, id, |one| one == Reference::Target(TargetAttribute::Members))
            }),
            ..Self::default()
        };
        let attached = (0..estate.attachments.len()).map(AttachmentId::new);
        let asking = &lookup.asking;
        let asks = |id: &AttachmentId| {
            estate.attachment(*id).policies.iter().any(|one| asking.contains(&one.value))
        };
        lookup.asking_attached = attached.filter(asks).collect();
        for who in estate.principals() {
            if let Some(place) = estate.identity(who).and_then(|identity| identity.place) {
                lookup.identities_in.entry(place).or_default().push(who);
            }
        }
        for (i, policy) in estate.policies.iter().enumerate() {
            if let Some(place) = policy.place {
                lookup.policies_in.entry(place).or_default().push(PolicyId::new(i));
            }
        }
        lookup
    }
}

impl<'s> Whole<'s> {
    fn index(&self) -> &'s Index {
        self.engine
    }

    fn estate(&self) -> &'s Estate {
        self.engine.estate()
    }

    /// Everything that these come to, at any time, themselves among it.
    pub(crate) fn above(&self, of: &[Principal]) -> FxHashSet<Principal> {
        above(self.index(), of)
    }

    /// Everything that something brings at a moment, itself among it.
    pub(crate) fn held_by_now(&self, of: Principal, at: Time) -> FxHashSet<Principal> {
        let index = self.index();
        grown(&[of], |who| {
            let groups = index.groups_of.get(&who).into_iter().flatten();
            let groups = groups.filter(|edge| edge.window.holds(at));
            let held = index.held_roles_of.get(&who).into_iter().flatten();
            let held = held.filter(|edge| edge.window.holds(at));
            let groups = groups.map(|edge| Principal::Group(edge.into));
            groups.chain(held.map(|edge| Principal::Role(edge.into))).collect()
        })
    }

    /// Everybody who comes to any of these, at any time, themselves among them.
    pub(crate) fn below(&self, of: &[Principal]) -> FxHashSet<Principal> {
        grown(of, |who| within(self.estate(), who))
    }

    pub(crate) fn named(&self, all: impl IntoIterator<Item = Principal>) -> BTreeSet<String> {
        all.into_iter().map(|who| self.estate().principal_id(who)).collect()
    }

    /// Where it may matter that somebody comes to a group or role, or does so no more.
    pub(crate) fn places_of(&self, who: &[Principal], into: Principal) -> Places {
        let (estate, index) = (self.estate(), self.index());
        let brought = self.above(&[into]);
        let mut subjects: Vec<Subject> = brought.iter().map(|who| Subject::One(*who)).collect();
        if brought.iter().any(|who| matches!(who, Principal::Role(_))) {
            // With a role comes a session of its own, which has what everyone has.
            subjects.push(Subject::Everyone);
        }
        let mut found: Vec<ScopeId> = Vec::new();
        for subject in &subjects {
            for id in index.attachments_of.get(subject).into_iter().flatten() {
                found.extend(estate.attachment(*id).at.iter().map(|at| at.value));
            }
        }
        // Conditions may ask what somebody is in.
        let asking = &self.lookup.asking;
        let seeds: Vec<Principal> = self.below(who).into_iter().chain([into]).collect();
        let all = self.above(&seeds);
        let is_theirs = |subject: Subject| match subject {
            Subject::Everyone => true,
            Subject::One(who) => all.contains(&who),
        };
        for attachment in self.lookup.asking_attached.iter().map(|id| estate.attachment(*id)) {
            if attachment.to.iter().any(|to| is_theirs(to.value)) {
                found.extend(attachment.at.iter().map(|at| at.value));
            }
        }
        let mut is_everywhere = false;
        for ceiling in &estate.ceilings {
            let brings = ceiling.bound.iter().any(|subject| subjects.contains(subject));
            let asks = ceiling.policies.iter().any(|one| asking.contains(&one.value))
                && ceiling.bound.iter().any(|subject| is_theirs(*subject));
            if brings || asks {
                match &ceiling.over {
                    None => is_everywhere = true,
                    Some(over) => found.extend(over.iter().map(|at| at.value)),
                }
            }
        }
        if is_everywhere {
            return self.granted_at(&all);
        }
        Places::Below(outermost(estate, found))
    }

    /// Where something is allowed at any time to people who come to all that, and to nothing else:
    /// whatever refuses them something matters to them there alone.
    pub(crate) fn granted_at(&self, all: &FxHashSet<Principal>) -> Places {
        let estate = self.estate();
        let attached = self.attachments_to(all).into_iter().map(|id| estate.attachment(id));
        let grants = |one: &&crate::policy::Attachment| {
            one.policies.iter().any(|policy| !estate.policy(policy.value).allows.is_empty())
        };
        let at = attached.filter(|one| grants(one)).flat_map(|one| &one.at);
        Places::Below(outermost(estate, at.map(|at| at.value).collect()))
    }

    /// The same for everybody who comes to one of these.
    pub(crate) fn granted_below(&self, of: &[Principal]) -> Places {
        let people: Vec<Principal> = self.below(of).into_iter().collect();
        self.granted_at(&self.above(&people))
    }

    /// Where it matters to everybody who is in a group or role: where the group stands, if conditions
    /// ask who is in a group.
    pub(crate) fn read_at(&self, into: Principal) -> Option<ScopeId> {
        match into {
            Principal::Group(id) if self.lookup.asks_who_is_in => {
                self.estate().group(id).identity.place
            }
            _ => None,
        }
    }

    /// Whether any statement that is tied somewhere asks what somebody is in.
    pub(crate) fn is_asked_what_one_is_in(&self) -> bool {
        !self.lookup.asking.is_empty()
    }

    /// All of it.
    pub(crate) fn as_part(&self) -> EstatePart {
        EstatePart { declared: self.declared.clone(), engine: self.engine.clone() }
    }

    /// The part that holds these whole, and all that they come to, with rows at these places.
    pub(crate) fn part(
        &self,
        people: &[Principal],
        at: &Places,
        besides: Besides<'_>,
    ) -> EstatePart {
        let declared = self.taken(&self.above(people), at, besides);
        match Estate::build_beside(&declared, self.estate()) {
            Ok(estate) => EstatePart { declared, engine: Engine::new(estate) },
            // It would be a fault of ours; the whole estate decides the same, only slower.
            Err(_) => self.as_part(),
        }
    }

    /// The part that an edit concerns which is about these people at these places, without it and with
    /// it; `None` where the edit cannot be done there.
    pub(crate) fn edited(
        &self,
        edit: &Edit,
        people: &[Principal],
        into: Option<Principal>,
        places: &Places,
        now: Time,
    ) -> Option<EditedPart> {
        let seeds: Vec<Principal> = people.iter().copied().chain(into).collect();
        let part = self.part(&seeds, places, Besides::default());
        let mut declared = part.declared.clone();
        apply(edit, &mut declared, &self.estate().catalogue, now).ok()?;
        let after = Estate::build_beside(&declared, part.engine.estate()).ok()?;
        let same = same_files(&part.declared, &declared);
        let names = self.named(people.iter().copied());
        Some(EditedPart { engines: [part.engine, Engine::new(after)], same, names })
    }

    /// Adds policies by name, with all that they include, each once.
    pub(crate) fn add_policies<'n>(
        &self,
        to: &mut Vec<Named<Policy>>,
        names: impl Iterator<Item = &'n str>,
    ) {
        let find = |name: &str| self.estate().find_policy(name);
        let mut known: FxHashSet<PolicyId> =
            to.iter().filter_map(|one| find(&one.name.value)).collect();
        let mut waiting: VecDeque<PolicyId> = names.filter_map(find).collect();
        while let Some(id) = waiting.pop_front() {
            if known.insert(id) {
                to.push(self.declared.policies[self.lookup.policies[id.index()]].clone());
                waiting.extend(&self.estate().policy(id).include);
            }
        }
    }

    /// What is declared of such a part.
    pub(crate) fn taken(
        &self,
        people: &FxHashSet<Principal>,
        places: &Places,
        besides: Besides<'_>,
    ) -> Declarations {
        let (all, estate) = (self.declared, self.estate());
        let mut rows: FxHashSet<ScopeId> = FxHashSet::default();
        match places {
            Places::Everywhere => rows.extend(estate.scopes.iter().map(|(id, _)| id)),
            Places::Below(below) => {
                rows.extend(besides.path.and_then(|path| estate.scopes.nearest(path)));
                for at in below {
                    rows.extend(estate.scopes.subtree(*at).map(ScopeId::new));
                }
            }
        }
        let known = self.with_named(people, &rows);
        let mut scopes: FxHashSet<ScopeId> = FxHashSet::default();
        rows.iter().for_each(|at| scopes.extend(estate.scopes.chain(*at)));
        let policies = self.policies_for(&known, &rows, &scopes, besides);
        let things = known.iter().filter_map(|who| match who {
            Principal::Workload(scope) => Some(*scope),
            other => estate.identity(*other)?.place,
        });
        let bodies = policies.iter().map(|id| estate.policy(*id));
        let of_policies = bodies.flat_map(|body| {
            let attachable = body.attachable.iter().flatten().map(|at| at.value);
            attachable.chain(body.place)
        });
        let ties_at = scopes.clone();
        for at in things.chain(of_policies) {
            scopes.extend(estate.scopes.chain(at));
        }

        let is_known =
            |one: &str| estate.find_principal(one).is_some_and(|who| known.contains(&who));
        let is_subject = |one: &Spanned<String>| one.value == "everyone" || is_known(&one.value);
        let is_place = |one: &Spanned<String>| {
            estate.scopes.find(&one.value).is_some_and(|id| ties_at.contains(&id))
        };
        let keep = |list: &mut Vec<Element>| list.retain(|one| is_known(&one.who.value));
        let lookup = self.lookup;
        let (mut users, mut groups, mut roles) = (Vec::new(), Vec::new(), Vec::new());
        for who in &known {
            match who {
                Principal::User(id) => users.push(lookup.users[id.index()]),
                Principal::Group(id) => groups.push(lookup.groups[id.index()]),
                Principal::Role(id) => roles.push(lookup.roles[id.index()]),
                Principal::Workload(_) => {}
            }
        }
        let (mut groups, mut roles) = (chosen(&all.groups, groups), chosen(&all.roles, roles));
        for group in &mut groups {
            group.body.members.iter_mut().for_each(keep);
            let owners = group.body.owners.iter_mut();
            owners.for_each(|list| list.retain(|one| is_known(&one.value)));
            group.body.asks.clear();
        }
        for role in &mut roles {
            keep(&mut role.body.held_by);
            keep(&mut role.body.taken_by);
        }
        let fewer = |list: &List, is: &dyn Fn(&Spanned<String>) -> bool| List {
            value: list.value.iter().filter(|one| is(one)).cloned().collect(),
            origin: list.origin,
        };
        // Most are seen to be elsewhere without a look at names.
        let attachments = self.attachments_to(&known).into_iter().filter_map(|id| {
            estate.attachment(id).at.iter().find(|at| ties_at.contains(&at.value))?;
            let one = &all.attachments[id.index()];
            let to = fewer(&one.to, &is_subject);
            let at = fewer(&one.at, &is_place);
            let is_empty = to.value.is_empty() || at.value.is_empty();
            (!is_empty).then(|| Attachment { to, at, ..one.clone() })
        });
        let ceilings = all.ceilings.iter().zip(&estate.ceilings).filter_map(|(one, built)| {
            if let Some(over) = &built.over {
                over.iter().find(|at| ties_at.contains(&at.value))?;
            }
            let bound = one.bound.as_ref().map(|list| fewer(list, &is_subject));
            let over = one.over.as_ref().map(|list| fewer(list, &is_place));
            let is_empty = bound.iter().chain(&over).any(|list| list.value.is_empty());
            (!is_empty).then(|| Ceiling { bound, over, ..one.clone() })
        });
        Declarations {
            name: all.name.clone(),
            attributes: all.attributes.clone(),
            services: all.services.clone(),
            kinds: all.kinds.clone(),
            scopes: chosen(
                &all.scopes,
                scopes.iter().map(|id| lookup.scopes[id.index()]).collect(),
            ),
            users: chosen(&all.users, users),
            groups,
            roles,
            policies: chosen(
                &all.policies,
                policies.iter().map(|id| lookup.policies[id.index()]).collect(),
            ),
            attachments: attachments.collect(),
            ceilings: ceilings.collect(),
            ..Declarations::default()
        }
    }

    /// These, the identities that stand in these rows, whom those name, and all managers.
    fn with_named(
        &self,
        people: &FxHashSet<Principal>,
        rows: &FxHashSet<ScopeId>,
    ) -> FxHashSet<Principal> {
        let estate = self.estate();
        let mut known = people.clone();
        let standing = rows.iter().filter_map(|at| self.lookup.identities_in.get(at));
        for who in standing.flatten().copied() {
            known.insert(who);
            known.extend(within(estate, who));
            if let Principal::Group(id) = who {
                known.extend(
                    estate.group(id).owners.iter().flatten().map(|id| Principal::User(*id)),
                );
            }
        }
        let all: Vec<Principal> = known.iter().copied().collect();
        grown(&all, |who| match who {
            Principal::User(id) => {
                estate.user(id).manager.into_iter().map(Principal::User).collect()
            }
            _ => Vec::new(),
        })
    }

    /// The attachments to any of these or to everyone, in their order.
    fn attachments_to(&self, known: &FxHashSet<Principal>) -> Vec<AttachmentId> {
        let attached = |subject: &Subject| self.index().attachments_of.get(subject);
        let ones = known.iter().filter_map(|who| attached(&Subject::One(*who)));
        let mut ids: Vec<AttachmentId> =
            ones.chain(attached(&Subject::Everyone)).flatten().copied().collect();
        ids.sort_unstable();
        ids.dedup();
        ids
    }

    /// The policies that are tied to any of these at these scopes, or that stand in these rows, with
    /// all that they include.
    fn policies_for(
        &self,
        known: &FxHashSet<Principal>,
        rows: &FxHashSet<ScopeId>,
        scopes: &FxHashSet<ScopeId>,
        besides: Besides<'_>,
    ) -> FxHashSet<PolicyId> {
        let estate = self.estate();
        let is_known = |subject: Subject| match subject {
            Subject::Everyone => true,
            Subject::One(who) => known.contains(&who),
        };
        let is_there = |at: ScopeId| scopes.contains(&at);
        let attached = self.attachments_to(known).into_iter().map(|id| estate.attachment(id));
        let attached = attached.filter(|one| one.at.iter().any(|at| is_there(at.value)));
        let bound = estate.ceilings.iter().filter(|one| {
            let stands =
                one.over.as_ref().is_none_or(|over| over.iter().any(|at| is_there(at.value)));
            stands && one.bound.iter().any(|to| is_known(*to))
        });
        let tied =
            attached.flat_map(|one| &one.policies).chain(bound.flat_map(|one| &one.policies));
        let standing = rows.iter().filter_map(|at| self.lookup.policies_in.get(at));
        let standing = standing.flatten().copied();
        let named = besides.policies.iter().filter_map(|name| estate.find_policy(name));
        let seeds: Vec<PolicyId> = tied.map(|one| one.value).chain(standing).chain(named).collect();
        grown(&seeds, |id| estate.policy(id).include.to_vec())
    }
}

/// Those of some scopes that are not below others of them.
fn outermost(estate: &Estate, mut scopes: Vec<ScopeId>) -> Vec<ScopeId> {
    // A scope stands before all that is below it.
    scopes.sort_unstable();
    scopes.dedup_by(|inner, outer| estate.scopes.holds(*outer, *inner));
    scopes
}

/// Everything that these come to, at any time, themselves among it.
pub(crate) fn above(index: &Index, of: &[Principal]) -> FxHashSet<Principal> {
    grown(of, |who| {
        let groups = index.groups_of.get(&who).into_iter().flatten();
        let held = index.held_roles_of.get(&who).into_iter().flatten();
        let taken = index.takeable_roles_of.get(&who).into_iter().flatten();
        let groups = groups.map(|edge| Principal::Group(edge.into));
        groups.chain(held.chain(taken).map(|edge| Principal::Role(edge.into))).collect()
    })
}

/// Policies with a statement that asks what somebody is in.
fn asks_what_one_is_in(estate: &Estate) -> FxHashSet<PolicyId> {
    let is_such = |reference: Reference| {
        matches!(reference, Reference::Who(WhoAttribute::Groups | WhoAttribute::Roles))
    };
    let such = (0..estate.policies.len()).map(PolicyId::new).filter(|id| {
        let body = estate.policy(*id);
        body.allows.iter().chain(&body.denies).any(|id| asks(estate, *id, is_such))
    });
    such.collect()
}

/// Whether a statement asks for such an attribute, in its condition or in a brace.
fn asks(estate: &Estate, id: StatementId, is_such: impl Fn(Reference) -> bool) -> bool {
    let statement = estate.statement(id);
    let mut patterns = statement.on.plain.iter().chain(&statement.on.excluded);
    let when = statement.when.as_ref();
    when.is_some_and(|when| when.references().iter().any(|(one, _)| is_such(*one)))
        || patterns.any(|pattern| pattern.braces().any(|brace| is_such(brace.attribute)))
}

/// These declarations, in the order in which they stand.
fn chosen<T: Clone>(all: &[Named<T>], mut places: Vec<usize>) -> Vec<Named<T>> {
    places.sort_unstable();
    places.into_iter().map(|place| all[place].clone()).collect()
}

/// Everything that is reached from some, themselves among it.
fn grown<T: Copy + Eq + Hash>(from: &[T], next: impl Fn(T) -> Vec<T>) -> FxHashSet<T> {
    let mut found: FxHashSet<T> = from.iter().copied().collect();
    let mut waiting: Vec<T> = from.to_vec();
    while let Some(who) = waiting.pop() {
        for other in next(who) {
            if found.insert(other) {
                waiting.push(other);
            }
        }
    }
    found
}
