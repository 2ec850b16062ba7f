//! What somebody may change for themselves, step after step (spec-work section 7.4).
//!
//! A *move* is a change that somebody may make by the estate's edit rights or by an own right, and that
//! may open something for them: a place for themselves in a group or role, an attachment to
//! themselves, a statement in a policy, an attribute of their own or of a scope that conditions
//! read, and taking away what refuses them. What a chain of moves gives is found by making them.
//!
//! Where nobody may give more than they have (`no-more-than-own`), no edit by a right opens anything to
//! who makes it that was not open to them, so only own rights are moves there.

mod sorts;

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use rustc_hash::FxHashSet;

use super::Vet;
use crate::catalogue::Level;
use crate::decision::Reason;
use crate::declaration::Declarations;
use crate::edit::{Edit, apply, same_files};
use crate::edit_rights::EDIT_KEYS;
use crate::engine::{Decider, Engine};
use crate::estate::Estate;
use crate::id::ActionId;
use crate::impact::{Comparison, OwnSessions, differences};
use crate::principal::{Join, Principal, Subject};
use crate::reach::{Viewpoint, sessions};
use crate::request::{Request, resolve_target};
use crate::scope::ScopeType;

/// Steps of a chain at most.
const DEPTH: usize = 4;
/// Estates that are made for one person at most.
const STATES: usize = 400;
/// Estates that one person has in any case, as long as there is work left.
const FEWEST: usize = 10;
/// Things gone through in making estates, all together: a bound on the work of a run.
pub(super) const WORK: usize = 7_000_000;

/// Steps in looking for circumstances in which something is gained, all together.
pub(super) const STEPS: usize = 1_000_000;
/// Such steps for one person in any case.
const FEWEST_STEPS: usize = 1_000;

/// Something that somebody may do.
#[derive(Clone, Debug)]
pub(super) struct Move {
    pub(super) edits: Vec<Edit>,
    /// By what they may: `group.add-member on veyra/survey/imaging`, `entering an open group`.
    pub(super) by: String,
    /// Whether it changes attributes alone.
    pub(super) is_retag: bool,
    /// Whether it is an own right, and no edit right is asked.
    pub(super) is_own_right: bool,
}

/// What somebody comes to hold by some moves.
#[derive(Clone, Debug)]
pub(super) struct Climb {
    pub(super) moves: Vec<Move>,
    pub(super) level: Level,
    pub(super) is_over_account: bool,
    /// The gravest of what is gained: an action and where.
    pub(super) gained: (String, String),
}

impl Climb {
    pub(super) fn gravity(&self) -> (bool, Level) {
        (self.level == Level::Govern && self.is_over_account, self.level)
    }
}

/// An estate on the way.
struct State {
    declared: Declarations,
    engine: Engine,
    moves: Vec<Move>,
}

/// Looks for what one person can come to.
pub(super) struct Climber<'v> {
    vet: &'v Vet<'v>,
    who: Principal,
    name: String,
    work: &'v AtomicUsize,
    /// How many estates may be made.
    most: usize,
    /// How many steps may still be taken in looking for circumstances.
    steps_left: Cell<usize>,
    /// Whether the search was cut short.
    pub(super) is_cut: Cell<bool>,
}

impl<'v> Climber<'v> {
    /// For one of so many people, who share the work.
    pub(super) fn new(
        vet: &'v Vet<'v>,
        who: Principal,
        work: &'v AtomicUsize,
        people: usize,
    ) -> Self {
        let share = WORK / size_of(vet.estate()) / people.max(1);
        let most = share.clamp(FEWEST, STATES);
        let name = vet.estate().principal_id(who);
        let steps_left = Cell::new((vet.most_steps / people.max(1)).max(FEWEST_STEPS));
        Self { vet, who, name, work, most, steps_left, is_cut: Cell::new(false) }
    }

    /// The shortest chains to something new, one for each gravity that is higher than that of a
    /// shorter one.
    pub(super) fn climbs(&self) -> Vec<Climb> {
        let mut found: Vec<Climb> = Vec::new();
        let mut known: BTreeSet<Vec<String>> = BTreeSet::new();
        // Only the moves are kept: some hundred estates of a large house would fill any memory.
        let mut layer: Vec<Vec<Move>> = vec![Vec::new()];
        let mut made = 0;
        for depth in 1..=DEPTH {
            let mut next: Vec<Vec<Move>> = Vec::new();
            for moves in &layer {
                let Some(state) = self.state_after(moves) else { continue };
                for one in self.moves(&state.engine) {
                    let mut key: Vec<String> = state.moves.iter().chain([&one]).map(text).collect();
                    key.sort_unstable();
                    if !known.insert(key) {
                        continue;
                    }
                    if made == self.most || !self.has_work_left() {
                        self.is_cut.set(true);
                        return found;
                    }
                    made += 1;
                    let Some(after) = self.made(&state, one) else { continue };
                    if let Some(climb) = self.gain(&after)
                        && found.iter().all(|other| other.gravity() < climb.gravity())
                    {
                        found.push(climb);
                    }
                    next.push(after.moves);
                }
            }
            if found.last().is_some_and(|climb| climb.gravity() == (true, Level::Govern)) {
                return found;
            }
            if next.is_empty() {
                return found;
            }
            if depth == DEPTH {
                self.is_cut.set(true);
            }
            layer = next;
        }
        found
    }

    /// Single changes of attributes, by which somebody comes to something new.
    pub(super) fn retags(&self) -> Vec<Climb> {
        let start = self.start();
        let mut found = Vec::new();
        for one in self.moves(&start.engine).into_iter().filter(|one| one.is_retag) {
            if !self.has_work_left() {
                self.is_cut.set(true);
                break;
            }
            found.extend(self.made(&start, one).and_then(|after| self.gain(&after)));
        }
        found
    }

    fn start(&self) -> State {
        State {
            declared: self.vet.declared.clone(),
            engine: self.vet.engine.clone(),
            moves: Vec::new(),
        }
    }

    /// The estate after some moves that were made before.
    fn state_after(&self, moves: &[Move]) -> Option<State> {
        let start = self.start();
        if moves.is_empty() {
            return Some(start);
        }
        self.made_all(&start, moves.to_vec())
    }

    fn has_work_left(&self) -> bool {
        let size = size_of(self.vet.estate());
        self.work.fetch_add(size, Ordering::Relaxed) < WORK
    }

    /// The estate after one more move.
    fn made(&self, state: &State, one: Move) -> Option<State> {
        self.made_all(state, vec![one])
    }

    fn made_all(&self, state: &State, more: Vec<Move>) -> Option<State> {
        let mut declared = state.declared.clone();
        let catalogue = &self.vet.estate().catalogue;
        for edit in more.iter().flat_map(|one| &one.edits) {
            apply(edit, &mut declared, catalogue, self.vet.now).ok()?;
        }
        let estate = Estate::build_beside(&declared, self.vet.estate()).ok()?;
        let moves = state.moves.iter().cloned().chain(more).collect();
        Some(State { declared, engine: Engine::new(Arc::new(estate)), moves })
    }

    /// The gravest of what is held then and was not held before in any session in the same
    /// circumstances.
    fn gain(&self, after: &State) -> Option<Climb> {
        let before = self.vet.engine;
        let same = same_files(self.vet.declared, &after.declared);
        let differing = differences(before.estate(), after.engine.estate(), &same);
        let request = Request::new(&*self.name, "", "", self.vet.now);
        let mut own = OwnSessions::new(before, &request).ok()?;
        let comparison = Comparison::new(before, &after.engine, &differing, request).ok()?;
        let comparison = comparison.within_steps(self.steps_left.get());
        let mut compared = comparison.compared();
        let estate = after.engine.estate();
        let cells = compared.cells_of(&self.name);
        let mut by_gravity: BTreeMap<Gravity, FxHashSet<[&str; 2]>> = BTreeMap::new();
        for cell in cells.iter().filter(|cell| cell.is_new_gain() && cell.is_decided) {
            let Some(gravity) = gravity_of(estate, &cell.place, &cell.action) else { continue };
            by_gravity.entry(gravity).or_default().insert([&cell.place, &cell.action]);
        }
        let mut open = BTreeSet::new();
        // What is new in one session and depends in another one may have been theirs before.
        let best =
            by_gravity.into_iter().rev().find_map(|((_, level, is_over_account), gained)| {
                loop {
                    let cell =
                        compared.first_opened(&self.name, Some(&mut own), &|place, action| {
                            gained.contains(&[place, action])
                                && !open.contains(&(place.to_owned(), action.to_owned()))
                        })?;
                    let gained = (cell.action, cell.place);
                    if cell.is_decided {
                        let moves = after.moves.clone();
                        return Some(Climb { moves, level, is_over_account, gained });
                    }
                    open.insert((gained.1, gained.0));
                }
            });
        self.steps_left.set(self.steps_left.get().saturating_sub(comparison.steps()));
        if comparison.is_spent() || !open.is_empty() {
            self.is_cut.set(true);
        }
        best
    }

    /// What may be done next.
    fn moves(&self, engine: &Engine) -> Vec<Move> {
        let mut may = May::new(self, engine);
        let mut found = self.open_groups(engine);
        if engine.estate().edit_rights.no_more_than_own || !may.has_any() {
            return found;
        }
        found.extend(self.lists(&mut may));
        found.extend(self.attachments(&mut may));
        found.extend(self.statements(&mut may));
        found.extend(self.refusals(&mut may));
        found.extend(self.attributes(&mut may));
        found
    }
}

/// How grave it is to come to something: whether it is to govern an account, the level, and whether it
/// is over an account.
type Gravity = (bool, Level, bool);

fn gravity_of(estate: &Estate, place: &str, action: &str) -> Option<Gravity> {
    let action = estate.catalogue.action(estate.catalogue.find_action(action)?);
    let scope = estate.scopes.find(place);
    let is_account = scope.is_some_and(|id| estate.scope(id).scope_type == ScopeType::Account);
    Some((action.level == Level::Govern && is_account, action.level, is_account))
}

/// How many things making an estate goes through.
fn size_of(estate: &Estate) -> usize {
    estate.users.len() + estate.scopes.len() + estate.attachments.len() + 100
}

fn text(one: &Move) -> String {
    one.edits.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

/// What somebody may touch, in any of their sessions.
struct May<'m, 'e> {
    climber: &'m Climber<'m>,
    engine: &'e Engine,
    decider: Decider<'e>,
    sessions: Vec<Viewpoint>,
}

impl<'m, 'e> May<'m, 'e> {
    fn new(climber: &'m Climber<'m>, engine: &'e Engine) -> Self {
        let mut decider = engine.decider();
        let sessions = sessions(&mut decider, &climber.vet.viewpoint(climber.who));
        Self { climber, engine, decider, sessions }
    }

    /// Whether any action that the edit rights name is allowed by what is attached to them at all.
    fn has_any(&self) -> bool {
        !self.engine.estate().edit_rights.actions.is_empty() && !self.sessions.is_empty()
    }

    /// By what somebody may touch something; `None`: they may not.
    fn touch(&mut self, key: &'static str, path: &str) -> Option<String> {
        let estate = self.engine.estate();
        let target = resolve_target(estate, path).ok()?;
        let applicable = estate.catalogue.applicable(target.class(estate));
        let actions = estate.edit_rights.of(key);
        let action = actions.iter().find(|id| applicable.contains(id.index()))?;
        let name = &estate.catalogue.action(*action).name;
        for session in &self.sessions {
            let take_up =
                session.take_up.map(|role| format!("role:{}", estate.role(role).identity.name));
            let mut request = Request::new(&*self.climber.name, &**name, path, session.time);
            request.take_up = take_up.clone().map(Into::into);
            let query = request.resolve(estate).ok()?;
            if self.decider.decide(&query) == Reason::Granted {
                let taken = take_up.map(|role| format!(" as {role}")).unwrap_or_default();
                return Some(format!("`{name}` on `{path}`{taken}"));
            }
        }
        None
    }
}

impl Vet<'_> {
    /// Enabled users and workloads who may have a move at all.
    pub(super) fn climbers(&self) -> Vec<Principal> {
        let estate = self.estate();
        let has_open = estate.groups.iter().any(|group| group.join == Join::Open);
        let rights = &estate.edit_rights;
        let named: FxHashSet<ActionId> =
            EDIT_KEYS.iter().flat_map(|key| rights.of(key)).copied().collect();
        let mut subjects: FxHashSet<Subject> = FxHashSet::default();
        if !rights.no_more_than_own {
            for one in &estate.attachments {
                let gives = one.policies.iter().any(|policy| {
                    let allowed = &estate.policy(policy.value).allowed_actions;
                    named.iter().any(|action| allowed.contains(action.index()))
                });
                if gives {
                    subjects.extend(one.to.iter().map(|to| to.value));
                }
            }
        }
        let mut reached: FxHashSet<Principal> = FxHashSet::default();
        let one = subjects.iter().filter_map(|subject| match subject {
            Subject::One(who) => Some(*who),
            Subject::Everyone => None,
        });
        reached.extend(self.whole().below(&one.collect::<Vec<_>>()));
        let all = subjects.contains(&Subject::Everyone);
        let people = estate.principals().filter(|who| match who {
            Principal::User(id) => {
                estate.user(*id).enabled && (has_open || all || reached.contains(who))
            }
            Principal::Workload(_) => all || reached.contains(who),
            _ => false,
        });
        people.collect()
    }
}
