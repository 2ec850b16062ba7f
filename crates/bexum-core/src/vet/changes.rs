//! Whether taking something away changes any decision, and what has to go with it.

use rustc_hash::FxHashMap;

use super::Vet;
use super::supposed::{Ever, spend};
use crate::declaration::{Attachment, Ceiling, Declarations, List};
use crate::edit::{Edit, ListOf, Target, uses};
use crate::id::PolicyId;
use crate::origin::Spanned;
use crate::part::Places;
use crate::principal::Principal;
use crate::prove::Opened;

/// How many people times places are gone through for one change: a bound on the work, beyond which
/// something is not decided.
const MOST_FOR_A_CHANGE: usize = 100_000;
/// How many people times places times actions are for all of them together, likewise.
const MOST_FOR_ALL_CHANGES: usize = 600_000;

/// What taking something away can do at all. What grants refuses nobody anything, so that nothing opens
/// when it goes; and nothing closes when what refuses goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Can {
    Open,
    Close,
    Both,
}

/// Where tables stand among those of their sort that name a policy, by its name; it names itself.
#[derive(Debug, Default)]
pub(super) struct TablesByPolicy {
    attachments: FxHashMap<String, Vec<usize>>,
    ceilings: FxHashMap<String, Vec<usize>>,
    policies: FxHashMap<String, Vec<usize>>,
}

impl TablesByPolicy {
    fn new(declared: &Declarations) -> Self {
        fn add<'d>(
            known: &mut FxHashMap<String, Vec<usize>>,
            at: usize,
            names: impl IntoIterator<Item = &'d Spanned<String>>,
        ) {
            names.into_iter().for_each(|name| match known.get_mut(&name.value) {
                Some(places) => places.push(at),
                None => {
                    known.insert(name.value.clone(), vec![at]);
                }
            });
        }
        let mut tables = Self::default();
        for (i, one) in declared.attachments.iter().enumerate() {
            add(&mut tables.attachments, i, &one.policy.value);
        }
        for (i, one) in declared.ceilings.iter().enumerate() {
            add(&mut tables.ceilings, i, &one.policy.value);
        }
        for (i, one) in declared.policies.iter().enumerate() {
            add(&mut tables.policies, i, std::iter::once(&one.name).chain(&one.body.include));
        }
        tables
    }
}

impl Vet<'_> {
    /// Whether a request was found to speak for any attachment of these policies.
    pub(super) fn has_witnessed_tie(&self, policies: &[PolicyId]) -> bool {
        self.witnesses().ties.iter().any(|(policy, ..)| policies.contains(policy))
    }

    /// What it can do that an attachment of a policy goes.
    pub(super) fn can_do_detached(&self, policy: PolicyId) -> Can {
        let policy = self.estate().policy(policy);
        match (policy.allows.is_empty(), policy.denies.is_empty()) {
            (_, true) => Can::Close,
            (true, false) => Can::Open,
            (false, false) => Can::Both,
        }
    }

    /// Whether an edit that concerns these people at these places changes any decision for any of them,
    /// now or later, in any circumstances (spec-work section 8); `actions`: how many of a row it is
    /// about.
    pub(super) fn changes_anything(
        &self,
        (edit, can): (&Edit, Can),
        (people, into): (&[Principal], Option<Principal>),
        places: &Places,
        actions: usize,
    ) -> Ever {
        let size = people.len().saturating_mul(self.rows(places));
        let cost = size.saturating_mul(actions).saturating_add(self.fixed_cost());
        if size > MOST_FOR_A_CHANGE || !spend(&self.spent.changing, cost, MOST_FOR_ALL_CHANGES) {
            return Ever::NotDecided;
        }
        let Some(part) = self.whole().edited(edit, people, into, places, self.now) else {
            return Ever::NotDecided;
        };
        let opened = if can == Can::Close { Opened::No } else { part.opens(self.now) };
        let found = match opened {
            Opened::No | Opened::NotDecided if can != Can::Open => match part.closes(self.now) {
                Opened::No => opened,
                closed => closed,
            },
            other => other,
        };
        match found {
            Opened::Yes => Ever::Yes,
            Opened::No => Ever::Never,
            Opened::NotDecided => Ever::NotDecided,
        }
    }

    /// Why something is better not taken away alone: a group or role that nobody would be in then, a
    /// policy without a statement.
    pub(super) fn leaves_a_hole(&self, removal: &Edit) -> Option<String> {
        match removal {
            Edit::Remove { list, of, .. } => {
                let (id, count) = match list {
                    ListOf::Members | ListOf::Owners => {
                        let group =
                            self.declared.groups.iter().find(|one| one.name.value == *of)?;
                        let by_condition = usize::from(group.body.members_when.is_some());
                        let members = group.body.members.as_deref().unwrap_or_default();
                        (format!("group:{of}"), members.len() + by_condition)
                    }
                    ListOf::HeldBy | ListOf::TakenBy => {
                        let role = self.declared.roles.iter().find(|one| one.name.value == *of)?;
                        let count = role.body.held_by.len() + role.body.taken_by.len();
                        (format!("role:{of}"), count)
                    }
                };
                (count <= 1).then(|| {
                    format!(
                        "nobody else is there: `bexum edit delete {id} --with-uses` takes all of it"
                    )
                })
            }
            Edit::Strike { policy, .. } => {
                let policy = self.declared.policies.iter().find(|one| one.name.value == *policy)?;
                let is_last = policy.body.statements.len() == 1;
                is_last.then(|| "it is the policy's only one: detach the policy".to_owned())
            }
            _ => None,
        }
    }

    /// Whether nothing names a policy once such an attachment or ceiling is gone.
    fn is_named_no_more(&self, policy: &str, removal: &Edit) -> bool {
        let all = self.declared;
        let tables = self.tables_by_policy.get_or_init(|| TablesByPolicy::new(all));
        let [attachments, ceilings, policies] =
            [&tables.attachments, &tables.ceilings, &tables.policies]
                .map(|known| known.get(policy).map_or(&[][..], |places| places));
        let within = |list: &[Spanned<String>], taken: &[String]| {
            list.iter().all(|one| taken.contains(&one.value))
        };
        let goes = match removal {
            Edit::Detach { from, at, .. } => {
                let mut tables = attachments.iter().map(|i| &all.attachments[*i]);
                let goes =
                    |one: &Attachment| within(&one.to.value, from) && within(&one.at.value, at);
                ceilings.is_empty() && tables.all(goes)
            }
            Edit::Unlimit { over, bound, .. } => {
                let mut tables = ceilings.iter().map(|i| &all.ceilings[*i]);
                let same = |list: &Option<List>, taken: &[String]| match list {
                    Some(list) => within(&list.value, taken),
                    None => taken.is_empty(),
                };
                let goes = |one: &Ceiling| same(&one.over, over) && same(&one.bound, bound);
                attachments.is_empty() && tables.all(goes)
            }
            _ => false,
        };
        let others = || Declarations {
            policies: policies.iter().map(|i| all.policies[*i].clone()).collect(),
            checks: all.checks.clone(),
            separations: all.separations.clone(),
            reviews: all.reviews.clone(),
            ..Declarations::default()
        };
        goes && uses(&others(), &Target::Policy(policy.to_owned())).is_empty()
    }

    /// A removal with that of the policy, where nothing else names it: what is attached nowhere would
    /// be told next.
    pub(super) fn with_what_is_left(&self, removal: &Edit) -> Vec<Edit> {
        let mut edits = vec![removal.clone()];
        let policy = match removal {
            Edit::Detach { policies, .. } => policies.first(),
            Edit::Unlimit { policy, .. } => Some(policy),
            _ => None,
        };
        if let Some(name) = policy.filter(|name| self.is_named_no_more(name, removal)) {
            let target = Target::Policy(name.clone());
            edits.push(Edit::Delete { target, hand_over: None, with_uses: false });
        }
        edits
    }
}
