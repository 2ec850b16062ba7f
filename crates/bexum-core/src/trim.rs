//! Less access that does all the same: what a log never used goes, as far as every request of it that
//! is allowed stays allowed and nothing is opened to anybody (spec-work section 11).
//!
//! Four sorts of steps are taken in turn, again and again until none is left: an unused element goes,
//! an unused attachment goes, an action leaves a statement, a statement's `on` becomes the scopes that
//! were used. What a step would break or open is argued in `docs/trim.md`, and asked of the engine and
//! of `impact` where that argument needs more than the shape of the step.

mod draft;
mod entries;
mod log;
mod statements;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::catalogue::ActionSet;
use crate::decision::Reason;
use crate::declaration::Declarations;
use crate::each::Each;
use crate::edit::{Edit, Target, apply, same_files};
use crate::engine::{Decider, Engine, EvalContext};
use crate::estate::Estate;
use crate::id::{ActionId, PolicyId, ScopeId, StatementId};
use crate::impact::opens_anything_to_all;
use crate::part::{Lookup, Whole};
use crate::principal::{Principal, Subject};
use crate::prove::Opened;
use crate::request::{Query, TargetPlace};
use crate::time::Time;
use crate::truth::Truth;
use crate::usage::{Asking, Counter, Thing, Usage};

pub use draft::{Draft, DraftFault, Wanted, draft};
pub use log::Log;
pub(crate) use log::Logged;

/// What is trimmed, and what is spared.
#[derive(Debug)]
pub struct Aim<'a> {
    /// Policies, groups, roles and other principals; none: all of the estate.
    pub things: &'a [Target],
    /// Actions that leave no statement.
    pub keep: ActionSet,
    /// The moment from which on nothing may be opened.
    pub now: Time,
}

/// A tighter estate, as edits.
#[derive(Debug)]
pub struct Trimmed {
    /// What makes it, in order.
    pub edits: Vec<Edit>,
    /// The estate before, and after.
    pub engines: [Engine; 2],
    /// How many different requests of the log are allowed before, each of which was asked again after.
    pub asked_again: usize,
    /// Steps that were not taken because it could not be decided whether they open something.
    pub not_decided: usize,
    /// Whether the outcome was held against the estate as it was, and opens nothing. Where that could not
    /// be decided, it stands on its steps alone, each of which opens nothing.
    pub is_decided: bool,
}

/// Why nothing is trimmed: it would be a fault of this program.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TrimFault {
    /// The outcome does not load.
    #[error(
        "the trimmed estate would not load, which is a fault of this program: nothing is proposed"
    )]
    NoEstate,
    /// A request of the log that was allowed is refused after.
    #[error(
        "a request that is allowed would be refused, which is a fault of this program: nothing is proposed ({0})"
    )]
    Refused(String),
    /// Somebody could do more.
    #[error(
        "somebody could do more than before, which is a fault of this program: nothing is proposed"
    )]
    Opened,
}

/// The estate as it is trimmed so far.
struct Stage {
    declared: Declarations,
    engine: Engine,
    lookup: Lookup,
    used: Used,
    /// Whether that was counted in this estate, and not in the one before it.
    is_counted: bool,
}

/// What the log uses of it.
struct Used {
    usage: Usage,
    /// For each request that is allowed, its action, and the statements of attachments that allow it;
    /// and those of each policy that bounds its session.
    granting: FxHashSet<(ActionId, Box<[StatementId]>)>,
    /// Where each statement allows something: the nearest scope, and whether it is below it.
    places: FxHashMap<StatementId, FxHashSet<(ScopeId, bool)>>,
}

impl Used {
    fn of<'l>(engine: &Engine, requests: impl Iterator<Item = &'l Logged>) -> Self {
        let mut counter = Counter::new(engine, &Asking::of(engine));
        let mut granting = FxHashSet::default();
        let mut decider = Decider::new(engine);
        let mut places: FxHashMap<StatementId, FxHashSet<(ScopeId, bool)>> = FxHashMap::default();
        for one in requests {
            let Some(query) = one.query(engine.estate()) else { continue };
            if counter.count(&query) != Reason::Granted {
                continue;
            }
            let scope = query.target.scope();
            let is_below = !matches!(query.target.place, TargetPlace::Scope(_));
            let bounding = let_through(&mut decider, &query);
            for mut statements in std::iter::once(counter.granting().to_vec()).chain(bounding) {
                statements.sort_unstable();
                for id in &statements {
                    places.entry(*id).or_default().insert((scope, is_below));
                }
                granting.insert((query.action, statements.into_boxed_slice()));
            }
        }
        Self { usage: counter.finish(), granting, places }
    }

    fn has(&self, thing: Thing) -> bool {
        self.usage.used.contains_key(&thing)
    }
}

/// The allows by which each policy with any that bounds the session lets a request through.
fn let_through(decider: &mut Decider<'_>, query: &Query<'_>) -> Vec<Vec<StatementId>> {
    if query.under.is_empty() {
        return Vec::new();
    }
    let session = decider.session(query);
    let index = decider.index;
    let roles = Some(session.roles());
    let context = EvalContext { index, query, closure: &session.closure, roles };
    let estate = index.estate();
    let bounding = query.under.iter().map(|policy| &estate.policy(*policy).allows);
    let matching = bounding.filter(|allows| !allows.is_empty()).map(|allows| {
        let named = allows.iter().copied().filter(|id| {
            estate.statement(*id).actions.contains(query.action.index())
                && context.truth(*id, 0) == Truth::True
        });
        named.collect()
    });
    matching.collect()
}

impl Stage {
    fn new(declared: Declarations, engine: Engine, allowed: &[&Logged]) -> Self {
        let lookup = Lookup::new(&declared, engine.estate());
        let used = Used::of(&engine, allowed.iter().copied());
        Self { declared, engine, lookup, used, is_counted: true }
    }

    /// Another estate from now on. What the log uses of it is [counted again](Self::count_again) when
    /// the steps at hand are done: taking away what is not used leaves it as it is, and where a
    /// condition says otherwise, the next round finds that.
    fn becomes(&mut self, declared: Declarations, engine: Engine) {
        self.lookup = Lookup::new(&declared, engine.estate());
        (self.declared, self.engine, self.is_counted) = (declared, engine, false);
    }

    fn count_again(&mut self, allowed: &[&Logged]) {
        if !self.is_counted {
            self.used = Used::of(&self.engine, allowed.iter().copied());
            self.is_counted = true;
        }
    }

    fn whole(&self) -> Whole<'_> {
        Whole { declared: &self.declared, engine: &self.engine, lookup: &self.lookup }
    }

    fn estate(&self) -> &Estate {
        self.engine.estate()
    }

    /// The declarations with these edits made, and an engine for them; `None` where they cannot be made.
    fn after(&self, edits: &[Edit], now: Time) -> Option<(Declarations, Engine)> {
        let mut declared = self.declared.clone();
        for edit in edits {
            apply(edit, &mut declared, &self.estate().catalogue, now).ok()?;
        }
        let estate = Estate::build_beside(&declared, self.estate()).ok()?;
        Some((declared, Engine::new(estate)))
    }
}

/// Whether an estate allows a request.
fn allows(engine: &Engine, decider: &mut Decider<'_>, one: &Logged) -> bool {
    one.query(engine.estate()).is_some_and(|query| decider.decide(&query) == Reason::Granted)
}

/// Trims an estate by a log. The outcome is asked every request again, and held against the estate as it
/// was, before anything is said of it.
///
/// # Errors
/// What would be a fault of this program.
pub fn trim(
    declared: &Declarations,
    engine: &Engine,
    log: &Log,
    aim: &Aim<'_>,
    each: Each<'_>,
) -> Result<Trimmed, TrimFault> {
    let mut decider = Decider::new(engine);
    let mut allowed: Vec<&Logged> =
        log.each().filter(|one| allows(engine, &mut decider, one)).collect();
    // What is seen first never matters, but the order of work should be the same each time.
    allowed.sort_unstable_by(|a, b| (a.who, a.action, &a.path).cmp(&(b.who, b.action, &b.path)));
    let mut stage = Stage::new(declared.clone(), engine.clone(), &allowed);
    let mut edits: Vec<Edit> = Vec::new();
    let mut not_decided;
    loop {
        not_decided = 0;
        let before = edits.len();

        let mut taken = |stage: &mut Stage, new: Vec<Edit>| -> Result<(), TrimFault> {
            if new.is_empty() {
                return Ok(());
            }
            let (declared, engine) = stage.after(&new, aim.now).ok_or(TrimFault::NoEstate)?;
            stage.becomes(declared, engine);
            edits.extend(new);
            Ok(())
        };
        for unused in [entries::unused_elements, entries::unused_attachments] {
            let (light, heavy) = unused(&stage, aim);
            taken(&mut stage, light)?;
            for removal in heavy {
                match entries::may_go(&stage, &removal, &allowed, aim.now) {
                    entries::Goes::Yes => taken(&mut stage, vec![removal.edit])?,
                    entries::Goes::No => {}
                    entries::Goes::NotDecided => not_decided += 1,
                }
            }
            stage.count_again(&allowed);
        }
        let restated = statements::fewer_actions(&stage, aim);
        taken(&mut stage, restated)?;
        stage.count_again(&allowed);
        let restated = statements::fewer_places(&stage, aim);
        taken(&mut stage, restated)?;
        stage.count_again(&allowed);
        if edits.len() == before {
            break;
        }
    }
    let mut decider = Decider::new(&stage.engine);
    for one in &allowed {
        if !allows(&stage.engine, &mut decider, one) {
            let estate = engine.estate();
            let action = &estate.catalogue.action(one.action).name;
            let who = estate.principal_id(one.who);
            return Err(TrimFault::Refused(format!("{who} {action} {}", one.path)));
        }
    }
    let engines = [engine.clone(), stage.engine];
    let same = same_files(declared, &stage.declared);
    let [before, after] = &engines;
    let is_decided = match opens_anything_to_all([before, after], &same, aim.now, each) {
        Opened::Yes => return Err(TrimFault::Opened),
        Opened::No => true,
        Opened::NotDecided => false,
    };
    Ok(Trimmed { edits, engines, asked_again: allowed.len(), not_decided, is_decided })
}

/// Things by their names, as far as the estate has them.
struct Things {
    principals: FxHashSet<Principal>,
    policies: FxHashSet<PolicyId>,
    all: bool,
}

impl Things {
    fn of(estate: &Estate, targets: &[Target]) -> Self {
        let mut things = Self {
            principals: FxHashSet::default(),
            policies: FxHashSet::default(),
            all: targets.is_empty(),
        };
        for target in targets {
            match target {
                Target::Policy(name) => things.policies.extend(estate.find_policy(name)),
                Target::Scope(_, path) => {
                    things.principals.extend(estate.find_principal(&format!("resource:{path}")));
                }
                named => things.principals.extend(estate.find_principal(&named.to_string())),
            }
        }
        things
    }

    fn has(&self, who: Principal) -> bool {
        self.all || self.principals.contains(&who)
    }

    fn has_policy(&self, id: PolicyId) -> bool {
        self.all || self.policies.contains(&id)
    }

    fn has_subject(&self, subject: Subject) -> bool {
        match subject {
            Subject::Everyone => self.all,
            Subject::One(who) => self.has(who),
        }
    }
}
