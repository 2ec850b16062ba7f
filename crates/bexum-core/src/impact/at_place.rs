//! Many sessions at one place: what a policy comes to there is found out once for all of whom it asks the
//! same.
//!
//! What a statement comes to on a row hangs, of all that who asks is, on the attributes of theirs that it
//! names alone (spec section 4). So a policy in force gets a number for what it comes to, by the row, by
//! where its patterns start, and by what these attributes are; and what becomes of an action on a row is
//! put together from these numbers.

mod cells;

use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::FxHashMap;

use super::alike::{AskedOfWho, Asker, Concern, Shared, of_who};
use super::changes::Numbered;
use super::rows::items_at;
use super::said::told_of_target;
use super::sessions::{ActionsIn, Compared, InBoth, Row};
use crate::condition::Reference;
use crate::condition::check::WhoAttribute;
use crate::engine::{EvalContext, InForce, Index, Sense, Session, StatementInPlay, in_force};
use crate::estate::Estate;
use crate::id::{ActionId, PolicyId, ScopeId};
use crate::items;
use crate::pattern::path::Segment;
use crate::policy::Statement;
use crate::principal::Principal;
use crate::prove::Opened;
use crate::reach::{AccessTarget, Viewpoint, nowhere};
use crate::request::TargetPlace;
use crate::time::Window;
use crate::truth::Truth;
use cells::Says;

/// A list of numbers by which something is found again.
type Key = Box<[u32]>;

/// What was found out for the sessions that were compared so far.
#[derive(Default)]
pub(super) struct AtPlace {
    /// Which place is looked at, and for which actions.
    at: Option<(u32, u32)>,
    /// Its rows, by what tells items apart.
    rows: FxHashMap<Key, Arc<RowsHere>>,
    /// The rows by what they are called and by the path that is asked for each.
    row_numbers: Numbered<(String, String)>,
    /// What policies ask about who asks, by what that is and what it is compared with at the place.
    asked: FxHashMap<(usize, Sense, PolicyId, u32), u32>,
    /// What policies come to on its rows, as numbers of what was found.
    says: FxHashMap<SaysKey, u32>,
    found: Vec<Says>,
    /// What the patterns of policies leave below the place.
    rests: FxHashMap<RestsKey, Arc<RestsHere>>,
    /// What telling items apart asks, of each policy of each estate.
    patterns: [FxHashMap<(PolicyId, Sense), Arc<Patterns>>; 2],
    /// What statements leave open, what these ask about, and what is left of patterns.
    texts: Numbered<Arc<str>>,
    /// What attributes of who asks are, in order.
    values: Numbered<Key>,
    /// What ceilings have to say: how many allows, and what is left open of these and of denies.
    bounds: Numbered<Key>,
    windows: Numbered<Window>,
    /// Whether an action that depends in both estates is opened, and whether it is closed, by all that this
    /// hangs on.
    turned: FxHashMap<Key, (Opened, Opened)>,
}

/// What was found out so far, for whoever goes on.
#[derive(Default)]
pub(super) struct AtPlaces(Mutex<Vec<AtPlace>>);

impl AtPlaces {
    pub(super) fn taken(&self) -> AtPlace {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).pop().unwrap_or_default()
    }

    pub(super) fn put_back(&self, one: AtPlace) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(one);
    }
}

/// The estate, the row, the sense, the policy, where its patterns start, and what it asks about who asks.
type SaysKey = (usize, u32, Sense, PolicyId, usize, u32);

/// The estate, the sense, the policy, where its patterns start, and what its braces ask about who asks.
type RestsKey = (usize, Sense, PolicyId, usize, u32);

/// What the patterns of a policy leave below a place, as texts, and whether that is all.
struct RestsHere {
    texts: Vec<u32>,
    is_whole: bool,
}

/// What in a policy tells items apart, of what counts in one sense.
struct Patterns {
    /// Whether there are any that do not match everything below.
    are_there: bool,
    /// What their braces ask about who asks.
    in_braces: Vec<WhoAttribute>,
    has_given_braces: bool,
}

/// The rows of a place for some sessions.
pub(super) struct RowsHere {
    pub(super) rows: Vec<RowHere>,
    /// The scopes at which not all items were told apart, in each estate.
    limited: [Vec<ScopeId>; 2],
}

/// A row that one of the estates has.
pub(super) struct RowHere {
    /// What it is called below the place.
    pub(super) rest: Box<str>,
    pub(super) row: Row,
    number: u32,
    /// Whether statements can ask the same about it in both estates.
    is_alike: bool,
}

/// A session that is compared at a place, in an estate.
struct AskingHere<'e> {
    session: Session<'e>,
    /// Whether it is refused everything.
    is_refused: bool,
    /// The policies that have a say for it there.
    in_force: Vec<OneHere>,
}

/// A policy in force for a session.
struct OneHere {
    one: InForce,
    patterns: Arc<Patterns>,
    /// What its statements about the actions ask about who asks.
    asked: u32,
    /// The same, with what comparisons come to at the place and its items instead of what they compare.
    asked_here: u32,
    /// What its braces ask about who asks.
    asked_in_braces: u32,
    /// Whether it counts at the moment.
    counts: bool,
}

/// A session in both estates.
pub(super) struct AskingBoth<'e> {
    sides: [AskingHere<'e>; 2],
}

impl AskingBoth<'_> {
    /// Whether circumstances stand in braces of some pattern.
    fn has_given_braces(&self) -> bool {
        let mut all = self.sides.iter().flat_map(|side| &side.in_force);
        all.any(|said| said.patterns.has_given_braces)
    }
}

impl AtPlace {
    fn text(&mut self, text: &str) -> u32 {
        match self.texts.known(text) {
            Some(known) => known,
            None => self.texts.number(text.into()),
        }
    }

    /// Forgets what was found out about another place.
    fn turn_to(&mut self, place: u32, concern: &Concern) {
        let at = Some((place, concern.number));
        if self.at != at {
            self.at = at;
            self.rows.clear();
            self.row_numbers = Numbered::default();
            self.rests.clear();
            self.asked.clear();
            self.says.clear();
            self.found.clear();
        }
    }

    /// What a policy asks about who asks, with what it comes to at a place.
    fn asked_here(
        &mut self,
        index: &Index,
        (session, view, scope): (&Session<'_>, &Viewpoint, ScopeId),
        sense: Sense,
        asked: AskedOfWho<'_>,
    ) -> u32 {
        if asked.parts.is_empty() {
            return asked.all << 1;
        }
        let estate = index.estate();
        let mut told = vec![asked.alone];
        let items = estate.scope(scope).holds_items().then_some(TargetPlace::Item(scope));
        for place in [Some(TargetPlace::Scope(scope)), items].into_iter().flatten() {
            let mut query = nowhere(view);
            query.target.place = place;
            let roles = Some(session.roles_of(sense.sees()));
            let context = EvalContext { index, query: &query, closure: &session.closure, roles };
            for (id, part) in asked.parts {
                let when = &estate.statement(*id).when;
                match when.as_ref().map(|when| when.eval_leaf(*part, &context)) {
                    // Then what is compared matters.
                    Some(Truth::Undecided) => return asked.all << 1,
                    truth => told.push(u32::from(truth == Some(Truth::True))),
                }
            }
        }
        self.values.number(told.into()) << 1 | 1
    }

    fn patterns(
        &mut self,
        (side, estate): (usize, &Estate),
        policy: PolicyId,
        sense: Sense,
    ) -> Arc<Patterns> {
        let known = self.patterns[side].entry((policy, sense));
        Arc::clone(known.or_insert_with(|| Arc::new(patterns_of(estate, policy, sense))))
    }
}

fn patterns_of(estate: &Estate, policy: PolicyId, sense: Sense) -> Patterns {
    let ids = sense.statements(estate, policy).into_iter().flatten();
    let statements: Vec<&Statement> = ids.map(|id| estate.statement(*id)).collect();
    let all = || statements.iter().flat_map(|one| one.on.plain.iter().chain(&one.on.excluded));
    let braces = || all().flat_map(|pattern| pattern.braces()).map(|brace| brace.attribute);
    let mut in_braces: Vec<WhoAttribute> = braces().filter_map(of_who).collect();
    in_braces.sort_unstable();
    in_braces.dedup();
    Patterns {
        are_there: all().any(|pattern| !matches!(pattern.segments[..], [Segment::Rest])),
        in_braces,
        has_given_braces: braces().any(|asked| matches!(asked, Reference::Given(_))),
    }
}

impl<'e> Compared<'_, 'e> {
    /// A session at a place, with what is in force for it there; `None` where it has to be compared by
    /// itself: unless a user or a workload asks, the place and the session are there in both estates, who
    /// asks is the same in both, and stays so at all later moments.
    pub(super) fn asking_at(
        &mut self,
        shared: &Shared<'_, 'e>,
        session: &InBoth,
        concern: &Concern,
        place: u32,
    ) -> Option<AskingBoth<'e>> {
        let scopes = shared.places.scopes[place as usize];
        let ([Some(one), Some(other)], [Some(old), Some(new)]) = (session, scopes) else {
            return None;
        };
        let (before, after) = (self.comparison.before.estate(), self.comparison.after.estate());
        // What nobody knows of who asks may come to anything.
        let speaks_for_nobody = matches!(one.who, Principal::Role(_) | Principal::Group(_));
        if self.with_later
            || self.outcomes_alone.is_some()
            || speaks_for_nobody
            || !Arc::ptr_eq(&before.catalogue, &after.catalogue)
            || self.times(session).len() > 1
            || !self.is_same_asker([one, other])
        {
            return None;
        }
        self.at_place.turn_to(place, concern);
        let mut side = |i: usize, view: &Viewpoint, scope: ScopeId| {
            let decider = &mut self.sides[i].decider;
            let asking = decider.session_of(view.who, &view.also, view.take_up, view.time);
            let index = decider.index;
            let mut asker = Asker::new(index, &asking, view);
            let here = &mut self.at_place;
            let all = in_force(index, &asking, &view.under, scope).into_iter().map(|one| {
                let InForce { sense, policy, .. } = one;
                let patterns = here.patterns((i, index.estate()), policy, sense);
                let in_braces = patterns.in_braces.iter();
                let values: Vec<u32> =
                    in_braces.map(|asked| asker.fact(shared, *asked, sense.sees()).0).collect();
                let asked = asker.asked(shared, concern, (i, policy), sense);
                let known = here.asked.get(&(i, sense, policy, asked.all)).copied();
                let asked_here = known.unwrap_or_else(|| {
                    let found = here.asked_here(index, (&asking, view, scope), sense, asked);
                    here.asked.insert((i, sense, policy, asked.all), found);
                    found
                });
                OneHere {
                    one,
                    patterns,
                    asked: asked.all << 1,
                    asked_here,
                    asked_in_braces: here.values.number(values.into()),
                    counts: one.window.holds(view.time),
                }
            });
            let in_force = all.collect();
            drop(asker);
            AskingHere { is_refused: asking.is_refused(view.take_up), session: asking, in_force }
        };
        Some(AskingBoth { sides: [side(0, one, old), side(1, other, new)] })
    }

    /// The rows of a place for a session.
    pub(super) fn rows_here(
        &mut self,
        session: &InBoth,
        asking: &AskingBoth<'e>,
        path: &str,
        actions: ActionsIn<'_>,
    ) -> Arc<RowsHere> {
        let key = self.what_tells_apart(session, asking, path);
        if let Some(known) = self.at_place.rows.get(&key) {
            let known = Arc::clone(known);
            for (side, limited) in self.sides.iter_mut().zip(&known.limited) {
                side.limited.extend(limited);
            }
            return known;
        }
        let found = self.rows(session, path, actions);
        let limited =
            self.sides.each_ref().map(|side| side.limited.iter().copied().collect::<Vec<_>>());
        let rows = found.into_iter().map(|(shown, row)| RowHere {
            rest: shown[path.len()..].into(),
            number: self.number_of_row(&row),
            is_alike: self.is_alike(&row),
            row,
        });
        let rows = rows.collect();
        let found = Arc::new(RowsHere { rows, limited });
        self.at_place.rows.insert(key, Arc::clone(&found));
        found
    }

    /// All that what patterns single out below a place hangs on, of a session.
    fn what_tells_apart(&mut self, session: &InBoth, asking: &AskingBoth<'e>, path: &str) -> Key {
        let mut key: Vec<u32> = Vec::new();
        for (i, side) in asking.sides.iter().enumerate() {
            let (index, Some(view)) = (self.sides[i].decider.index, &session[i]) else { continue };
            let nearest = index.estate().scopes.nearest(path);
            let Some(scope) = nearest.filter(|id| index.estate().scope(*id).holds_items()) else {
                continue;
            };
            let target = items_at(path, scope);
            for said in &side.in_force {
                if !said.patterns.are_there {
                    continue;
                }
                let InForce { sense, policy, anchor, .. } = said.one;
                let rests_key = (i, sense, policy, anchor, said.asked_in_braces);
                let rests = match self.at_place.rests.get(&rests_key) {
                    Some(known) => Arc::clone(known),
                    None => {
                        let asked = (&side.session, view, &target);
                        let found = Arc::new(self.rests_of(index, asked, &said.one));
                        self.at_place.rests.insert(rests_key, Arc::clone(&found));
                        found
                    }
                };
                let sort = (i as u32) << 1 | u32::from(said.counts);
                key.extend((!rests.is_whole).then_some(sort));
                key.extend(rests.texts.iter().map(|text| (1 + text) << 2 | sort));
            }
        }
        key.sort_unstable();
        key.dedup();
        key.into()
    }

    fn rests_of(
        &mut self,
        index: &Index,
        (session, view, items): (&Session<'_>, &Viewpoint, &AccessTarget),
        one: &InForce,
    ) -> RestsHere {
        let sees = one.sense.sees();
        let ids = one.sense.statements(index.estate(), one.policy).into_iter().flatten();
        let statements = ids.map(|id| StatementInPlay { id: *id, anchor: one.anchor, sees });
        let statements: Vec<StatementInPlay> = statements.collect();
        let query = view.query(items, ActionId::new(0));
        let roles = Some(session.roles_of(sees));
        let context = |_| EvalContext { index, query: &query, closure: &session.closure, roles };
        let (found, is_whole) =
            items::rests(&query.target.segments, &statements, &context, self.many);
        let texts = found.iter().map(|(rest, _)| self.at_place.text(&rest.text)).collect();
        RestsHere { texts, is_whole }
    }

    fn number_of_row(&mut self, row: &Row) -> u32 {
        let target = row.iter().flatten().next();
        let names = target.map(|target| (target.shown.clone(), target.asked.clone()));
        self.at_place.row_numbers.number(names.unwrap_or_default())
    }

    fn is_alike(&self, row: &Row) -> bool {
        let [Some(old), Some(new)] = row else { return false };
        let [one, other] = self.sides.each_ref().map(|side| side.decider.index);
        told_of_target(one, old) == told_of_target(other, new)
    }
}
