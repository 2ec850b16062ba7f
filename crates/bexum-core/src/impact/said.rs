//! All that has a say about one cell, in a form that can be held against that of another estate: what is
//! the same for all actions of a row is gathered once for the row.

use std::cell::{OnceCell, RefCell};
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::rc::Rc;

use rustc_hash::FxHashMap;

use super::facts::Facts;
use super::touches::{Asked, attributes, shown};
use crate::attribute::Value;
use crate::condition::check::TargetAttribute;
use crate::condition::eval::Facts as _;
use crate::condition::{Condition, Reference};
use crate::engine::{Decider, EvalContext, InForce, Index, Sense, Session, in_force};
use crate::estate::Estate;
use crate::id::{ActionId, KindId, PolicyId, ScopeId, StatementId};
use crate::pattern::PathPattern;
use crate::pattern::residual::FRESH;
use crate::policy::{Effect, Statement};
use crate::reach::{AccessTarget, Viewpoint};
use crate::request::TargetPlace;
use crate::time::{Time, Window};
use crate::truth::Truth;

/// All that has a say about a row in one estate at a moment, whatever the action.
pub(super) struct RowSaid<'e> {
    /// What grants, refuses or bounds.
    entries: Vec<InForce>,
    session: Session<'e>,
    view: Viewpoint,
    target: AccessTarget,
    /// What statements can ask of who asks.
    asker: Facts<'e>,
    /// The attributes that the target bears.
    borne: BTreeMap<String, Value>,
    /// The seals above, and what else conditions can ask of the target.
    rest: String,
    /// What is left open of statements, once that was found out.
    left: RefCell<FxHashMap<LeftKey, Option<Left>>>,
    /// Whether a policy in play asks for a circumstance in a brace, once that was found out.
    has_given_braces: OnceCell<bool>,
}

/// A statement, where its patterns start, how it sees roles, and the kind of what it is asked about.
type LeftKey = (StatementId, usize, Effect, KindId);

/// What is left open of a statement on a row.
#[derive(Clone)]
pub(super) struct Left {
    /// As text; nothing where it is certain.
    pub(super) text: Rc<str>,
    /// What its condition asks about besides circumstances, and what that is; `None` where more than that
    /// matters: a path, or what changes with time.
    pub(super) facts: Option<Rc<str>>,
}

/// What statements say of which it is not certain what they come to.
pub(super) struct SaidHere {
    pub(super) voices: Vec<Voice>,
    /// What they ask about who asks and the target, and what that is; `None` where more than that matters.
    pub(super) facts: Option<Vec<Rc<str>>>,
}

/// What has a say about a row in both estates, at each moment that counts.
pub(super) type SaidOfRow<'e> = Vec<[Option<RowSaid<'e>>; 2]>;

/// What a policy says about an action in a sense, as text without ids.
type Told = Rc<[Rc<str>]>;

/// What policies say, whatever the row, and what that asks about; kept for the next one.
pub(super) type Texts = FxHashMap<(PolicyId, ActionId, Sense), (Told, Asked)>;

/// Gathers it.
pub(super) fn row_said<'e>(
    decider: &mut Decider<'e>,
    view: &Viewpoint,
    target: &AccessTarget,
) -> RowSaid<'e> {
    let session = decider.session_of(view.who, &view.also, view.take_up, view.time);
    let asker = Facts::of(decider, view);
    let mut entries = in_force(decider.index, &session, &view.under, target.scope());
    entries.retain(|entry| !entry.is_stopped);
    let (borne, rest) = told_of_target(decider.index, target);
    RowSaid {
        entries,
        session,
        view: view.clone(),
        target: target.clone(),
        asker,
        borne,
        rest,
        left: RefCell::default(),
        has_given_braces: OnceCell::new(),
    }
}

/// What statements can ask of a target: the attributes that it bears, and all else as text, with the seals
/// above it.
pub(super) fn told_of_target(
    index: &Index,
    target: &AccessTarget,
) -> (BTreeMap<String, Value>, String) {
    let (estate, scope_index) = (index.estate(), &index.scope_index);
    let chain: Vec<(ScopeId, usize, bool)> = scope_index.chain(target.scope()).collect();
    let seals: Vec<usize> = chain.iter().filter(|(.., sealed)| *sealed).map(|at| at.1).collect();
    let mut borne = BTreeMap::new();
    for (at, ..) in chain.iter().rev() {
        borne.extend(attributes(estate, &estate.scope(*at).attributes));
    }
    let identity = match target.place {
        TargetPlace::Identity(..) | TargetPlace::Policy(..) => shown(estate, target.place, None),
        TargetPlace::Scope(_) | TargetPlace::Item(_) => String::new(),
    };
    let scope = estate.scope(target.scope());
    let kind = scope.kind.map(|kind| &estate.catalogue.kind(kind).name);
    let is_item = matches!(target.place, TargetPlace::Item(_));
    let sort = scope.scope_type;
    (borne, format!("{seals:?} {identity} {sort:?} {kind:?} {is_item}"))
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

    pub(super) fn and(self, other: Self) -> Self {
        Self { open: self.open && other.open, close: self.close && other.close }
    }

    /// What may turn from the second estate to the first.
    pub(super) fn turned(self) -> Self {
        Self { open: self.close, close: self.open }
    }
}

/// All that has a say about an action on a row in both estates, at each moment that counts.
#[derive(Debug, PartialEq, Eq, Hash)]
pub(super) struct SaidOfAction {
    /// The action's kind in each estate, which is that of an item.
    pub(super) kinds: [KindId; 2],
    /// Whether all is the same that no statement says, and what statements say in each estate.
    pub(super) moments: Vec<(bool, [Vec<Voice>; 2])>,
    /// Where nothing matters but that: what else is known at each moment, in each estate. Then rows of
    /// which all this is the same come to the same, whose and wherever they are.
    pub(super) known: Option<Vec<[KnownThere; 2]>>,
}

/// The moment, whether everything is refused then, whether the row stands for many items, and what
/// statements ask about who asks and the target, with what that is.
pub(super) type KnownThere = (Time, bool, bool, Vec<Rc<str>>);

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

impl RowSaid<'_> {
    /// Everything that speaks about an action on a row, in an order that ids have no say in.
    pub(super) fn voices(
        &self,
        estate: &Estate,
        action: ActionId,
        texts: &mut Texts,
    ) -> Vec<Voice> {
        let mut all: Vec<Voice> = Vec::new();
        for &InForce { sense, anchor, policy, window, .. } in &self.entries {
            let known = texts.entry((policy, action, sense));
            let (told, _) = known.or_insert_with(|| statements(estate, policy, action, sense));
            all.extend(told.iter().map(|text| (sense, anchor, window, text.clone())));
        }
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Whether all is the same on a row in the other estate that no statement says of an action, as far
    /// as the statements ask about it; `texts` are those of each estate that were asked for before.
    pub(super) fn is_same_beside(
        &self,
        other: &Self,
        actions: [ActionId; 2],
        texts: [&Texts; 2],
    ) -> bool {
        let Some(mut differing) = self.asker.asked_apart(&other.asker) else { return false };
        for (some, others) in [(&self.borne, &other.borne), (&other.borne, &self.borne)] {
            let other = some.iter().filter(|(name, value)| others.get(*name) != Some(value));
            differing.extend(other.map(|(name, _)| format!("target.{name}")));
        }
        if self.rest != other.rest || differing.is_empty() {
            return self.rest == other.rest;
        }
        let mut asked: Vec<&Asked> = Vec::new();
        for (said, action, texts) in [(self, actions[0], texts[0]), (other, actions[1], texts[1])] {
            let told = said.entries.iter().map(|one| (one.policy, action, one.sense));
            asked.extend(told.filter_map(|key| texts.get(&key)).map(|(_, asked)| asked));
        }
        !differing.iter().any(|name| asked.iter().any(|asked| asked.asks(name)))
    }

    /// The [voices](Self::voices) of the statements of which it is not certain what they come to, whatever
    /// is given and at whatever moment while who asks is in the same. Estates that differ only in what
    /// decides nothing on this row then have the same voices there.
    pub(super) fn voices_here(&self, index: &Index, action: ActionId) -> SaidHere {
        let query = self.view.query(&self.target, action);
        let estate = index.estate();
        let kind = estate.catalogue.action(action).kind;
        let mut all: Vec<Voice> = Vec::new();
        let mut facts: Option<Vec<Rc<str>>> = Some(Vec::new());
        for &InForce { sense, anchor, policy, window, .. } in &self.entries {
            let sees = sense.sees();
            let mut left = |ids: &[StatementId]| -> Vec<Rc<str>> {
                let mut texts = Vec::new();
                for id in ids {
                    let statement = estate.statement(*id);
                    if !statement.actions.contains(action.index()) {
                        continue;
                    }
                    let mut known = self.left.borrow_mut();
                    let left = known.entry((*id, anchor, sees, kind)).or_insert_with(|| {
                        let context = EvalContext {
                            index,
                            query: &query,
                            closure: &self.session.closure,
                            roles: Some(self.session.roles_of(sees)),
                        };
                        left_open(statement, anchor, &context)
                    });
                    let Some(Left { text, facts: asked }) = left else { continue };
                    texts.push(Rc::clone(text));
                    match (&mut facts, asked) {
                        (Some(facts), Some(asked)) => {
                            facts.extend((!asked.is_empty()).then(|| Rc::clone(asked)));
                        }
                        _ => facts = None,
                    }
                }
                texts.sort_unstable();
                texts
            };
            let body = estate.policy(policy);
            match sense {
                Sense::Allows => {
                    all.extend(left(&body.allows).into_iter().map(|one| (sense, 0, window, one)));
                }
                Sense::Denies => {
                    all.extend(left(&body.denies).into_iter().map(|one| (sense, 0, window, one)));
                }
                Sense::Bounds | Sense::BoundsByDenies => {
                    let (allows, denies) = (left(&body.allows), left(&body.denies));
                    let is_allowed =
                        sense == Sense::BoundsByDenies || allows.iter().any(|one| is_certain(one));
                    if !is_allowed || !denies.is_empty() {
                        all.push((sense, 0, window, Rc::from(format!("{allows:?} {denies:?}"))));
                    }
                }
            }
        }
        for sense in [Sense::Allows, Sense::Denies] {
            let decides =
                |one: &Voice| one.0 == sense && one.2 == Window::ALWAYS && is_certain(&one.3);
            // Beside one that is certain at all times others of its sense decide nothing.
            if all.iter().any(decides) {
                all.retain(|one| one.0 != sense || decides(one));
            }
        }
        all.sort_unstable();
        all.dedup();
        if let Some(facts) = &mut facts {
            facts.sort_unstable();
            facts.dedup();
        }
        SaidHere { voices: all, facts }
    }

    /// What is known there besides, if these facts are all that statements ask about.
    pub(super) fn known_there(&self, estate: &Estate, facts: Vec<Rc<str>>) -> Option<KnownThere> {
        let is_sample = self.target.asked.contains(FRESH);
        // A circumstance in a brace may be the name of one of many items, whatever a statement is about.
        if is_sample && self.has_given_braces(estate) {
            return None;
        }
        let is_refused = self.session.is_refused(self.view.take_up);
        Some((self.view.time, is_refused, is_sample, facts))
    }

    fn has_given_braces(&self, estate: &Estate) -> bool {
        *self.has_given_braces.get_or_init(|| {
            let bodies = self.entries.iter().map(|one| estate.policy(one.policy));
            let mut statements = bodies.flat_map(|body| body.allows.iter().chain(&body.denies));
            statements.any(|id| {
                let on = &estate.statement(*id).on;
                let braces = on.plain.iter().chain(&on.excluded).flat_map(|one| one.braces());
                braces.into_iter().any(|brace| matches!(brace.attribute, Reference::Given(_)))
            })
        })
    }
}

/// What a policy says about an action, and what that asks about. Any allow grants and any deny refuses,
/// whatever policy it stands in; each ceiling bounds by itself, and one that says nothing about the
/// action bounds most.
fn statements(estate: &Estate, policy: PolicyId, action: ActionId, sense: Sense) -> (Told, Asked) {
    let wanted = sense.statements(estate, policy).into_iter().flatten();
    let wanted = wanted.map(|id| estate.statement(*id));
    let mut asked = Asked::default();
    let told = wanted.filter(|one| one.actions.contains(action.index())).map(|statement| {
        asked.add(estate, statement);
        let mut on: Vec<&str> = statement.on.texts().collect();
        on.sort_unstable();
        let when = statement.when.as_ref().map(|when| &when.text);
        Rc::from(format!("{} {on:?} {when:?}", statement.effect))
    });
    let told: Told = match sense {
        Sense::Allows | Sense::Denies => told.collect(),
        Sense::Bounds | Sense::BoundsByDenies => {
            let mut said: Vec<Rc<str>> = told.collect();
            said.sort_unstable();
            Rc::new([Rc::from(format!("{said:?}"))])
        }
    };
    (told, asked)
}

/// What is left open of a statement, as text: the patterns of which it hangs on the values in their
/// braces whether the path is meant, and the condition. `None` where the statement does not match in
/// any case.
pub(super) fn left_open(
    statement: &Statement,
    anchor: usize,
    context: &EvalContext<'_>,
) -> Option<Left> {
    let segments = &context.query.target.segments;
    let open = |patterns: &[PathPattern]| {
        let (mut best, mut open) = (Truth::False, Vec::new());
        for pattern in patterns {
            let truth = match pattern.braces().any(|brace| turns_with_time(brace.attribute)) {
                true => Truth::Undecided,
                false => pattern.matches(segments, anchor, context),
            };
            best = best.or(truth);
            if truth == Truth::Undecided {
                open.push(format!("{anchor} {}", pattern.text));
            }
        }
        (best, open)
    };
    let (plain, mut left) = open(&statement.on.plain);
    let (excluded, but) = open(&statement.on.excluded);
    if plain == Truth::False || excluded == Truth::True {
        return None;
    }
    if plain == Truth::True {
        left.clear();
    }
    left.extend(but);
    left.sort_unstable();
    let mut when = statement.when.as_ref();
    let is_steady =
        |when: &&Condition| !when.references().iter().any(|(asked, _)| turns_with_time(*asked));
    if let Some(condition) = when.filter(is_steady) {
        match condition.eval(context) {
            Truth::False => return None,
            Truth::True => when = None,
            Truth::Undecided => {}
        }
    }
    let facts = left.is_empty().then(|| asked_besides(when, context)).flatten();
    let when = when.map_or("", |when| &when.text);
    let text = match left.is_empty() && when.is_empty() {
        true => Rc::from(CERTAIN),
        false => Rc::from(format!("{left:?} {when}")),
    };
    Some(Left { text, facts })
}

/// What a condition asks about besides circumstances, with what that is; `None` where it may be something
/// else at another moment, or is a path.
fn asked_besides(when: Option<&Condition>, context: &EvalContext<'_>) -> Option<Rc<str>> {
    use TargetAttribute::{Name, Path};
    let mut told = String::new();
    for (asked, _) in when.into_iter().flat_map(Condition::references) {
        match asked {
            // The moment is one of all those that are looked at.
            Reference::Given(_) | Reference::Time => {}
            asked if turns_with_time(asked) => return None,
            Reference::Target(Name | Path) => return None,
            asked => {
                let name = asked.written(&context.index.estate().attribute_names);
                let (fact, is_set) = (context.fact(asked), context.is_set(asked));
                // A string takes whatever is written to it.
                let _ = write!(told, " {name} {fact:?} {is_set:?}");
            }
        }
    }
    match when {
        Some(when) if !told.is_empty() => Some(Rc::from(format!("{}{told}", when.text))),
        _ => Some(Rc::from("")),
    }
}

/// What is left open of a statement that matches in any case.
pub(super) const CERTAIN: &str = "";

fn is_certain(left: &str) -> bool {
    left == CERTAIN
}

/// Whether an attribute may be something else at another moment, while who asks is in the same.
fn turns_with_time(asked: Reference) -> bool {
    use TargetAttribute::{Members, Owners};
    matches!(asked, Reference::Time | Reference::Target(Members | Owners))
}
