//! All that has a say about one cell, in a form that can be held against that of another estate: what is
//! the same for all actions of a row is gathered once for the row.

use std::collections::BTreeMap;
use std::rc::Rc;

use rustc_hash::FxHashMap;

use super::touches::{attributes, shown};
use crate::engine::{Decider, Session};
use crate::estate::Estate;
use crate::id::{ActionId, KindId, PolicyId, ScopeId, StatementId};
use crate::policy::Effect;
use crate::reach::{Spot, Viewpoint};
use crate::request::Place;
use crate::time::Window;

/// In what sense a policy is in play.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Sense {
    Allows,
    Denies,
    Bounds,
    /// A ceiling without an allow.
    BoundsByDenies,
}

/// All that has a say about a row in one estate at a moment, whatever the action.
#[derive(Debug)]
pub(super) struct RowSaid {
    /// What grants, refuses or bounds: how, where it starts, and when.
    entries: Vec<(Sense, usize, PolicyId, Window)>,
    /// The seals above, what conditions can ask of the target and of who asks.
    pub(super) rest: String,
}

/// What policies say about actions in a sense, as text without ids; kept for the next row.
pub(super) type Texts = FxHashMap<(PolicyId, ActionId, Sense), Rc<[Rc<str>]>>;

/// Gathers it.
pub(super) fn row_said(
    decider: &Decider<'_>,
    session: &Session<'_>,
    view: &Viewpoint,
    spot: &Spot,
) -> RowSaid {
    let (estate, scope_index) = (decider.index.estate(), &decider.index.scope_index);
    let mut entries = Vec::new();
    let bound = |policy: PolicyId| match estate.policy(policy).allows.is_empty() {
        true => Sense::BoundsByDenies,
        false => Sense::Bounds,
    };
    let under = view.under.iter();
    entries.extend(under.map(|policy| (bound(*policy), 0, *policy, Window::ALWAYS)));
    let chain: Vec<(ScopeId, usize, bool)> = scope_index.chain(spot.scope()).collect();
    let overs = chain.iter().map(|(at, anchor, _)| (Some(*at), *anchor));
    for (over, anchor) in std::iter::once((None, 0)).chain(overs) {
        scope_index.each_ceiling(over, session.subjects(), |entry| {
            let window = estate.ceilings[entry.origin as usize].window;
            entries.push((bound(entry.policy), anchor, entry.policy, window));
            false
        });
    }
    for (at, anchor, _) in &chain {
        for effect in [Effect::Allow, Effect::Deny] {
            let sense = if effect == Effect::Allow { Sense::Allows } else { Sense::Denies };
            scope_index.attached_at(*at).each_sought(session.subjects_of(effect), |entry| {
                let window = estate.attachments[entry.origin as usize].window;
                entries.push((sense, *anchor, entry.policy, window));
                false
            });
        }
    }
    let seals: Vec<usize> = chain.iter().filter(|(.., sealed)| *sealed).map(|at| at.1).collect();
    let mut borne = BTreeMap::new();
    for (at, ..) in chain.iter().rev() {
        borne.extend(attributes(estate, &estate.scope(*at).attributes));
    }
    let identity = match spot.place {
        Place::Identity(..) | Place::Policy(..) => shown(estate, spot.place, None),
        Place::Scope(_) | Place::Item(_) => String::new(),
    };
    let scope = estate.scope(spot.scope());
    let kind = scope.kind.map(|kind| &estate.catalogue.kind(kind).name);
    let is_item = matches!(spot.place, Place::Item(_));
    let sort = scope.scope_type;
    let rest = format!("{seals:?} {borne:?} {identity} {sort:?} {kind:?} {is_item}");
    RowSaid { entries, rest }
}

/// A statement in play, or a ceiling: how, where it starts, when, and what it says.
pub(super) type Voice = (Sense, usize, Window, Rc<str>);

/// What the second of two estates may do that the first does not, whatever is given.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct MayTurn {
    /// Allow where the first denies.
    pub(super) open: bool,
    /// Deny where the first allows.
    pub(super) close: bool,
}

impl MayTurn {
    pub(super) const NEITHER: Self = Self { open: false, close: false };
    pub(super) const BOTH: Self = Self { open: true, close: true };

    pub(super) fn or(self, other: Self) -> Self {
        Self { open: self.open || other.open, close: self.close || other.close }
    }
}

/// All that has a say about an action on a row in both estates, at each moment that counts.
#[derive(Debug, PartialEq, Eq, Hash)]
pub(super) struct SaidOfAction {
    /// The action's kind in each estate, which is that of an item.
    pub(super) kinds: [KindId; 2],
    /// Whether all is the same that no statement says, and what statements say in each estate.
    pub(super) moments: Vec<(bool, [Vec<Voice>; 2])>,
}

impl SaidOfAction {
    /// What may become of the action: more that allows it closes nothing, nor does less that denies or
    /// bounds it.
    pub(super) fn may_turn(&self) -> MayTurn {
        let mut turn = MayTurn::NEITHER;
        for (is_same, [old, new]) in &self.moments {
            if !is_same {
                return MayTurn::BOTH;
            }
            for (some, others, is_new) in [(old, new, false), (new, old, true)] {
                for voice in some.iter().filter(|voice| others.binary_search(voice).is_err()) {
                    let opens = (voice.0 == Sense::Allows) == is_new;
                    turn = turn.or(MayTurn { open: opens, close: !opens });
                }
            }
        }
        turn
    }
}

impl RowSaid {
    /// Everything that speaks about an action on a row, in an order that ids have no say in.
    pub(super) fn voices(
        &self,
        estate: &Estate,
        action: ActionId,
        texts: &mut Texts,
    ) -> Vec<Voice> {
        let mut all: Vec<Voice> = Vec::new();
        for &(sense, anchor, policy, window) in &self.entries {
            let known = texts.entry((policy, action, sense));
            let told = known.or_insert_with(|| statements(estate, policy, action, sense));
            all.extend(told.iter().map(|text| (sense, anchor, window, text.clone())));
        }
        all.sort_unstable();
        all.dedup();
        all
    }
}

/// What a policy says about an action. Any allow grants and any deny refuses, whatever policy it stands
/// in; each ceiling bounds by itself, and one that says nothing about the action bounds most.
fn statements(estate: &Estate, policy: PolicyId, action: ActionId, sense: Sense) -> Rc<[Rc<str>]> {
    let policy = estate.policy(policy);
    let says = |id: &&StatementId| estate.statement(**id).actions.contains(action.index());
    let wanted: Vec<&StatementId> = match sense {
        Sense::Allows => policy.allows.iter().filter(says).collect(),
        Sense::Denies => policy.denies.iter().filter(says).collect(),
        _ => policy.allows.iter().chain(&policy.denies).filter(says).collect(),
    };
    let told = wanted.iter().map(|id| {
        let statement = estate.statement(**id);
        let mut on: Vec<&str> = statement.on.texts().collect();
        on.sort_unstable();
        let when = statement.when.as_ref().map(|when| &when.text);
        Rc::from(format!("{} {on:?} {when:?}", statement.effect))
    });
    match sense {
        Sense::Allows | Sense::Denies => told.collect(),
        Sense::Bounds | Sense::BoundsByDenies => {
            let mut said: Vec<Rc<str>> = told.collect();
            said.sort_unstable();
            Rc::new([Rc::from(format!("{said:?}"))])
        }
    }
}
