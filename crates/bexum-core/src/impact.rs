//! What a change does: the cells that two estates decide otherwise at one moment (spec-work
//! section 8).

mod alike;
mod at_place;
mod because;
mod change;
mod changes;
mod compare;
mod direction;
mod everybody;
mod facts;
mod held;
mod later;
mod opens;
mod people;
mod place_classes;
mod places;
mod put_together;
mod renamed;
mod rows;
mod said;
mod same_files;
mod sessions;
mod touches;

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

use rustc_hash::{FxHashMap, FxHashSet};

use crate::catalogue::ActionSet;
use crate::engine::{Index, SubjectId};
use crate::principal::Principal;
use crate::reach::{AccessTargets, Limited};
use crate::request::{Request, RequestFault};
use said::MayTurn;
use touches::Touches;

pub use because::ByName;
pub use change::{Difference, Thing, differences};
pub use changes::{Block, Change, Changes, Extent, OnRow, SessionName};
pub use everybody::Impact;
pub use later::later_moments;
pub use opens::{OpenedCell, OwnSessions};
pub(crate) use opens::{opens_anything, opens_anything_to_all};
pub use renamed::{Renamed, renamed, told_as_one};
pub use same_files::SameFiles;
pub use sessions::{Compared, RolesChanged, refuse_circumstances};
pub(crate) use touches::within;

/// What a cell comes to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Outcome {
    /// Denied, whatever is decided of what is undecided.
    Deny,
    /// Denied as things are known, but allowed if all that is undecided came out in favour.
    Depends,
    /// Allowed.
    Allow,
}

impl Outcome {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["deny", "depends", "allow"][self as usize]
    }

    /// Whether what came to this is allowed where it comes to that, and was not.
    fn opens_into(self, after: Self) -> bool {
        after == Self::Allow && self != Self::Allow
    }
}

/// A cell of the impact: for one session, what one action on one row came to and comes to.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Cell {
    /// Who: `user:ines`, `resource:veyra/core`, or a role by itself.
    pub who: String,
    /// The bare name of the role taken up; empty where none is.
    pub role: String,
    /// The row: a path, or the pattern of items that it stands for.
    pub place: String,
    /// The action.
    pub action: String,
    /// What it came to before.
    pub before: Outcome,
    /// What it comes to after.
    pub after: Outcome,
    /// Whether it rose, or is opened: gained.
    pub is_gained: bool,
    /// Whether it fell, or is closed: lost.
    pub is_lost: bool,
    /// Whether it could be found out if it is opened or closed; else it counts as both.
    pub is_decided: bool,
    /// Of a cell that rose: another session of theirs to which it was allowed before, by the role
    /// taken up (nothing where none is).
    pub held_as: Option<String>,
}

impl Cell {
    /// Whether it is allowed now and was not.
    #[must_use]
    pub fn is_opened(&self) -> bool {
        self.before.opens_into(self.after)
    }

    /// Whether it was allowed and is not now.
    #[must_use]
    pub fn is_shut(&self) -> bool {
        self.after.opens_into(self.before)
    }

    /// Whether it says that somebody can do more than before: what they could do in another session
    /// is no more.
    #[must_use]
    pub fn is_new_gain(&self) -> bool {
        self.is_gained && self.held_as.is_none()
    }
}

/// Two estates beside each other, and the circumstances in which both are asked.
#[derive(Debug)]
pub struct Comparison<'e> {
    pub(crate) before: &'e Index,
    pub(crate) after: &'e Index,
    request: Request<'e>,
    touches: Arc<Touches>,
    /// The subjects that it touches, as each estate numbers them.
    touched: [FxHashMap<SubjectId, String>; 2],
    /// Everybody whom the change may concern, by id; `None`: all.
    concerned: Option<Arc<FxHashSet<String>>>,
    /// Those of them who have sessions, once they were named.
    everybody: OnceLock<Vec<String>>,
    targets: [AccessTargets<'e>; 2],
    /// In each estate, the actions that it may concern for those who are the same and in the same in
    /// both; `None`: any.
    actions: [Option<ActionSet>; 2],
    /// Whether what depends on both sides can be compared: attributes have the same numbers, and the
    /// same is declared of them.
    can_complete: bool,
    /// What the change may do at most, as far as that can be seen from what differs alone.
    may_turn: MayTurn,
    /// How many steps may be taken to find out what is opened or closed where it depends on both sides.
    most_steps: usize,
    /// How many were.
    steps: AtomicUsize,
}

impl<'e> Comparison<'e> {
    /// The same, in which no more is found out about what depends once so many steps were taken.
    pub(crate) fn within_steps(self, most_steps: usize) -> Self {
        Self { most_steps, ..self }
    }

    /// Counts steps that were taken.
    fn spend(&self, steps: usize) {
        self.steps.fetch_add(steps, Ordering::Relaxed);
    }

    /// How many steps were taken.
    pub(crate) fn steps(&self) -> usize {
        self.steps.load(Ordering::Relaxed)
    }

    /// Whether more steps would have to be taken.
    pub(crate) fn is_spent(&self) -> bool {
        self.steps() > self.most_steps
    }

    /// Gets ready to compare two estates that differ in this ([`differences`]). Of the request only the circumstances count, what is supposed, and what bounds every session. Where the
    /// second estate was not [built beside](crate::Estate::build_beside) the first, nothing is decided of
    /// cells that depend in both.
    ///
    /// # Errors
    /// Circumstances that are an error in one of the estates.
    pub fn new(
        before: &'e Index,
        after: &'e Index,
        differences: &[Difference],
        request: Request<'e>,
    ) -> Result<Self, RequestFault> {
        let (one, other) = (before.estate(), after.estate());
        for estate in [one, other] {
            refuse_circumstances(estate, &request)?;
        }
        let mut touches = Touches::between(one, other, differences);
        let under: Vec<&str> = request.under.iter().map(|name| &**name).collect();
        touches.everything |= Touches::bound_differs(one, other, &under);
        // Everybody is supposed to be in the groups that are.
        let concerned = match request.also.is_empty() {
            true => touches.concerned([before, after], differences).map(Arc::new),
            false => None,
        };
        let declares = |one: &Difference| matches!(one.thing, Thing::Attribute(_));
        let share_numbers = other.shares_numbers_of(one) || one.shares_numbers_of(other);
        let can_complete = share_numbers && !differences.iter().any(declares);
        let targets = [one, other].map(AccessTargets::new);
        let actions = match under.is_empty() {
            true => [one, other].map(|estate| touches.actions_of(estate)),
            false => [None, None],
        };
        let touched = [before, after].map(|index| touches.numbered(index));
        Ok(Self {
            before,
            after,
            request,
            touches: Arc::new(touches),
            touched,
            concerned,
            everybody: OnceLock::new(),
            targets,
            actions,
            can_complete,
            may_turn: direction::may_turn_at_most(differences, [one, other]),
            most_steps: usize::MAX,
            steps: AtomicUsize::new(0),
        })
    }

    /// The same, from the second estate to the first.
    #[must_use]
    pub fn turned(&self) -> Self {
        let [before, after] = self.targets.each_ref();
        let [old, new] = self.touched.each_ref();
        let [ours, theirs] = self.actions.each_ref();
        Self {
            before: self.after,
            after: self.before,
            request: self.request.clone(),
            touches: Arc::clone(&self.touches),
            touched: [new.clone(), old.clone()],
            concerned: self.concerned.clone(),
            everybody: self.everybody.clone(),
            targets: [after.clone(), before.clone()],
            actions: [theirs.clone(), ours.clone()],
            can_complete: self.can_complete,
            may_turn: self.may_turn.turned(),
            most_steps: self.most_steps,
            steps: AtomicUsize::new(0),
        }
    }

    /// Everybody who has sessions, in either estate, and whom the change may concern: users,
    /// workloads, and roles by themselves, by the bytes of their names. Whoever can never do anything in
    /// either estate is not concerned.
    #[must_use]
    pub fn everybody(&self) -> &[String] {
        self.everybody.get_or_init(|| self.named())
    }

    fn named(&self) -> Vec<String> {
        // Everybody may be supposed to be in groups.
        let is_idle = |index: &Index, who: Principal| {
            self.request.also.is_empty() && index.can_never_do_anything(who)
        };
        let counts = |index: &Index, who: Principal| {
            !matches!(who, Principal::Group(_)) && !is_idle(index, who)
        };
        let indexes = [self.before, self.after];
        let mut all: Vec<String> = match &self.concerned {
            Some(concerned) => {
                let counts = |id: &&String| {
                    indexes.iter().any(|index| {
                        index.estate().find_principal(id).is_some_and(|who| counts(index, who))
                    })
                };
                concerned.iter().filter(counts).cloned().collect()
            }
            None => {
                let everybody = indexes.iter().flat_map(|index| {
                    let estate = index.estate();
                    let all = estate.principals().filter(|who| counts(index, *who));
                    all.map(|who| estate.principal_id(who))
                });
                everybody.collect()
            }
        };
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Something that compares one after the other; each thread has its own.
    #[must_use]
    pub fn compared(&self) -> Compared<'_, 'e> {
        Compared::new(self, false)
    }

    /// The same, of what is allowed on one side alone: what depends on both is no cell, whatever
    /// opens there. Of a principal no cells are looked for once there are more than `most`. Only the
    /// rows of those scopes count whose paths do.
    #[must_use]
    pub(crate) fn compared_at_the_moment<'c>(
        &'c self,
        most: usize,
        counts: Option<&'c dyn Fn(&str) -> bool>,
    ) -> Compared<'c, 'e> {
        let mut compared = Compared::new(self, false);
        compared.outcomes_alone = Some(most);
        compared.counts = counts;
        compared
    }

    /// The same, of what is opened at this moment or a later one
    /// ([`Compared::first_opened`]).
    #[must_use]
    pub fn compared_from_now_on(&self) -> Compared<'_, 'e> {
        Compared::new(self, true)
    }
}

/// Scopes of either estate below which patterns single out more items than are told apart.
pub type LimitedIn = [Limited; 2];
