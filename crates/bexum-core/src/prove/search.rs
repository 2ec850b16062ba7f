//! The search for circumstances in which one request breaks a law.
//!
//! What nobody gave is unknown, and knowing more never turns a certain answer around. So an answer
//! that is certain with little known holds for all that could be known besides, and the search
//! goes on only where something is undecided: it gives one more attribute each of its values.

use std::rc::Rc;

use super::heads::{has_relatives, lies_below, parts};
use super::print::Print;
use super::representatives::Unknowns;
use super::{Counterexample, NotWorkedOut};
use crate::attribute::AttributeNames;
use crate::condition::check::TargetAttribute;
use crate::condition::{Condition, Reference};
use crate::decision::{Reading, Reason};
use crate::engine::{Clause, Decider, EvalContext, NullSink, Session};
use crate::expectation::{Claim, Law};
use crate::id::{AttributeId, PolicyId, ScopeId, StatementId};
use crate::pattern::PathPattern;
use crate::policy::Effect;
use crate::request::{Given, Query};
use crate::time::Window;
use crate::truth::Truth;

/// Attributes that are given together at most.
const MOST_GIVEN: usize = 64;

pub(super) const EFFECTS: [Effect; 2] = [Effect::Deny, Effect::Allow];

/// A statement that has a say, and how many segments down its patterns start.
pub(super) type RelevantStatement = (StatementId, usize);

/// What is known from the start: circumstances, and attributes of the item.
type KnownValues = [Vec<(AttributeId, Given)>; 2];

/// One request, apart from what could be given with it besides.
pub(super) struct ProofSearch<'s, 'e> {
    pub(super) decider: &'s mut Decider<'e>,
    /// The law that the request would break; without one it is sought to be allowed.
    law: Option<&'e Law>,
    pub(super) query: Query<'s>,
    known: KnownValues,
    pub(super) session: &'s Session<'e>,
    /// Statements in play that name the action.
    pub(super) statements: &'s [RelevantStatement],
    /// All that is attached, or limits, at the target and above, with its place.
    pub(super) entries: &'s [(PolicyId, Option<ScopeId>, Window)],
    /// The names of all attributes that could be given: of two estates, one knows them all.
    pub(super) names: &'s AttributeNames,
    /// A request to another estate, given the same, which must not be allowed.
    pub(super) unless: Option<&'s mut (dyn Beside + 's)>,
    /// Steps that the search may take, and those that it took.
    most_steps: usize,
    pub(super) steps: usize,
}

/// A request to another estate that is given the same as the searched one at every step of the search.
pub(super) trait Beside {
    /// Takes in what is asked there.
    fn take_in(&self, unknowns: &mut Unknowns);
    /// Puts what is given into the request.
    fn put(&mut self, unknowns: &Unknowns, assignment: &Assignment, names: &AttributeNames);
    /// Whether giving more could still have it refused, or it is refused already.
    fn may_be_refused(&mut self) -> bool;
    /// Whether it is refused, just as it is.
    fn is_refused(&mut self) -> bool;
    /// An attribute of those that are `free` which leaves something undecided there.
    fn next_free(&self, unknowns: &Unknowns, free: &dyn Fn(&usize) -> bool) -> Option<usize>;
    /// Whether a condition asks for the target's path or name.
    fn names_path(&self) -> bool;
    /// All that the outcome depends on but what is given; `None` where that cannot be told.
    fn print(&self) -> Option<Print>;
}

/// Gets a search ready. With a request to another estate that must not be allowed come the names of
/// all attributes that one of both knows.
pub(super) fn with_search<'e, T>(
    decider: &mut Decider<'e>,
    law: Option<&'e Law>,
    query: Query<'_>,
    unless: Option<(&mut dyn Beside, &'e AttributeNames)>,
    most_steps: usize,
    then: impl FnOnce(&mut ProofSearch<'_, 'e>) -> T,
) -> T {
    let session = decider.session(&query);
    let (index, scope) = (decider.index, query.target.scope());
    let mut entries = index.policies_above(session.subjects(), scope);
    // With a role taken up, what is attached to others grants nothing.
    let granting =
        query.take_up.map(|_| index.policies_above(session.subjects_of(Effect::Allow), scope));
    entries.extend(query.under.iter().map(|policy| (*policy, None, Window::ALWAYS)));
    let estate = index.estate();
    let mut statements: Vec<RelevantStatement> = Vec::new();
    for entry in &entries {
        let (policy, at, window) = entry;
        if !window.holds(query.time) {
            continue;
        }
        let grants = granting.as_ref().is_none_or(|granting| granting.contains(entry))
            || index.ceilings.contains(policy.index())
            || query.under.contains(policy);
        let policy = estate.policy(*policy);
        let anchor = at.map_or(0, |at| estate.scope(at).depth as usize);
        let allows: &[StatementId] = if grants { &policy.allows } else { &[] };
        let all = allows.iter().chain(&policy.denies);
        let named = all.filter(|id| estate.statement(**id).actions.contains(query.action.index()));
        statements.extend(named.map(|id| (*id, anchor)));
    }
    statements.sort_unstable();
    statements.dedup();
    let known = [query.given.clone(), query.item.clone()];
    let (unless, names) = match unless {
        Some((unless, names)) => (Some(unless as &mut dyn Beside), names),
        None => (None, &estate.attribute_names),
    };
    then(&mut ProofSearch {
        law,
        query,
        known,
        session: &session,
        statements: &statements,
        entries: &entries,
        names,
        unless,
        most_steps,
        steps: 0,
        decider,
    })
}

/// What comes of a search.
pub(super) enum SearchResult {
    Nothing,
    Counterexample(Box<Counterexample>),
    Limit(NotWorkedOut),
}

/// What is known before anything is given.
pub(super) enum AtFirst {
    /// The request does not concern the law, or keeps it, whatever is given.
    Kept,
    /// It breaks the law as it stands.
    Broken(Box<Counterexample>),
    /// It depends on what is given.
    Open,
}

/// What is given so far: a value for each attribute, by their places.
pub(super) type Assignment = Vec<Option<Given>>;

impl<'e> ProofSearch<'_, 'e> {
    /// Asks with nothing given.
    pub(super) fn at_first(&mut self) -> AtFirst {
        if !self.is_open() {
            AtFirst::Kept
        } else if self.is_broken() {
            self.counterexample()
                .map_or(AtFirst::Open, |counterexample| AtFirst::Broken(Box::new(counterexample)))
        } else {
            AtFirst::Open
        }
    }

    /// Looks through all that could be given.
    pub(super) fn run(&mut self) -> SearchResult {
        let mut unknowns = Unknowns::default();
        self.take_in(&mut unknowns);
        let mut assignment: Assignment = vec![None; unknowns.references.len()];
        let most = self.most_steps;
        let mut tree = Tree::new(&unknowns, most);
        let found = self.descend(&mut tree, &mut assignment);
        self.steps = tree.steps;
        if !found {
            let name = |place: usize| {
                unknowns.references[place].written(&self.decider.index.estate().attribute_names)
            };
            return match tree.partial {
                _ if tree.steps > most => SearchResult::Limit(NotWorkedOut::Steps),
                Some(place) => SearchResult::Limit(NotWorkedOut::Values(name(place))),
                None => SearchResult::Nothing,
            };
        }
        self.minimize(&unknowns, &mut assignment);
        self.give(&unknowns, &assignment);
        match self.counterexample() {
            Some(counterexample) => SearchResult::Counterexample(Box::new(counterexample)),
            None => SearchResult::Limit(NotWorkedOut::Steps),
        }
    }

    /// The request as statements of this effect see it.
    pub(super) fn context(&self, effect: Effect) -> EvalContext<'_> {
        EvalContext {
            index: self.decider.index,
            query: &self.query,
            closure: &self.session.closure,
            roles: Some(self.session.roles_of(effect)),
        }
    }

    pub(super) fn claim(&self) -> Claim {
        self.law.map_or(Claim::Never, |law| law.claim)
    }

    /// What the law's own `on` and `when` come to; it is asked as an allow is (spec section 16).
    fn concern(&self) -> Truth {
        let Some(law) = self.law else { return Truth::True };
        Clause::of_law(law).truth(&self.context(Effect::Allow))
    }

    /// Whether giving more could still break the law, or it is broken already.
    pub(super) fn is_open(&mut self) -> bool {
        if self.concern() == Truth::False
            || self.unless.as_mut().is_some_and(|unless| !unless.may_be_refused())
        {
            return false;
        }
        match self.claim() {
            Claim::Never => {
                self.decider.decide_into(&self.query, Reading::Hopeful, &mut NullSink)
                    == Reason::Granted
            }
            Claim::Always => self.decider.decide(&self.query) != Reason::Granted,
        }
    }

    /// Whether the request, just as it is, breaks the law: nothing about an item but what is given.
    pub(super) fn is_broken(&mut self) -> bool {
        let is_open = std::mem::replace(&mut self.query.item_is_open, false);
        let broken = self.concern() == Truth::True
            && self.claim().is_broken_by(self.decider.decide(&self.query));
        self.query.item_is_open = is_open;
        broken && self.unless.as_mut().is_none_or(|unless| unless.is_refused())
    }

    /// Whether a counterexample was found; then it stands in `assignment`.
    pub(super) fn descend(&mut self, tree: &mut Tree<'_>, assignment: &mut Assignment) -> bool {
        tree.steps += 1;
        if tree.steps > tree.most {
            return false;
        }
        self.give(tree.unknowns, assignment);
        if !self.is_open() {
            return false;
        }
        if self.is_broken() {
            return true;
        }
        let Some(place) = self.next(tree, assignment) else { return false };
        let decided =
            assignment.iter().flatten().count() + tree.withheld.iter().filter(|w| **w).count();
        if decided >= MOST_GIVEN {
            tree.partial.get_or_insert(place);
            return false;
        }
        let (values, whole) = tree.unknowns.values(place);
        if !whole {
            tree.partial.get_or_insert(place);
        }
        let order = match &tree.orders[place] {
            Some(order) => Rc::clone(order),
            None => {
                let order: Rc<[usize]> = self.order(tree.unknowns, place).into();
                // What was given for the sake of the order is taken back.
                self.give(tree.unknowns, assignment);
                tree.orders[place] = Some(Rc::clone(&order));
                order
            }
        };
        for at in order.iter().copied() {
            let value = &values[at];
            if !self.fits(tree.unknowns, assignment, place, value) {
                continue;
            }
            assignment[place] = Some(value.clone());
            if self.descend(tree, assignment) {
                return true;
            }
            assignment[place] = None;
        }
        // What is allowed in doubt stays so when more is known; what is refused may not. And what
        // stands above an attribute, or below it, may be given only where it is not.
        if self.claim() == Claim::Always
            || self.unless.is_some()
            || has_relatives(self.names, tree.unknowns, place)
        {
            tree.withheld[place] = true;
            if self.descend(tree, assignment) {
                return true;
            }
            tree.withheld[place] = false;
        }
        false
    }

    /// The values of an attribute in the order in which they are tried: first those that decide
    /// most of what is asked about it, and of these, those that make most of it true, so that a
    /// counterexample is met before the many ways to be refused.
    ///
    /// A value that decides nothing is as if it were not given at all. What is allowed in doubt
    /// stays so when more is known, and what is refused in doubt is tried with the attribute
    /// withheld: so such a value is left out, unless something else hangs on its being there.
    fn order(&mut self, unknowns: &Unknowns, place: usize) -> Vec<usize> {
        let reference = unknowns.references[place];
        let (values, _) = unknowns.values(place);
        let leaves = self.leaves_of(reference);
        let truths_of = |search: &Self| -> Vec<Truth> {
            let contexts = EFFECTS.map(|effect| search.context(effect));
            let of_leaf = |(when, leaf): &(&Condition, usize)| {
                contexts.each_ref().map(|context| when.eval_leaf(*leaf, context))
            };
            leaves.iter().flat_map(of_leaf).collect()
        };
        let mut assignment: Assignment = vec![None; unknowns.references.len()];
        let mut ranked: Vec<(usize, usize, usize)> = Vec::with_capacity(values.len());
        for (at, value) in values.iter().enumerate() {
            assignment[place] = Some(value.clone());
            self.give(unknowns, &assignment);
            let truths = truths_of(self);
            let count = |truth| truths.iter().filter(|known| **known == truth).count();
            ranked.push((count(Truth::Undecided), truths.len() - count(Truth::True), at));
        }
        let asked = 2 * leaves.len();
        ranked.sort_unstable();
        let matters = |(undecided, _, _): &(usize, usize, usize)| *undecided < asked;
        if self.unless.is_none()
            && asked > 0
            && ranked.iter().any(matters)
            && self.hangs_on_leaves(unknowns, place)
        {
            ranked.retain(matters);
        }
        ranked.into_iter().map(|(_, _, at)| at).collect()
    }

    /// The parts of conditions that name an attribute.
    fn leaves_of(&self, reference: Reference) -> Vec<(&'e Condition, usize)> {
        let mut found = Vec::new();
        for when in self.conditions() {
            let names_it = |leaf: &usize| when.leaf_references(*leaf).any(|r| r == reference);
            found.extend(when.leaves().filter(names_it).map(|leaf| (when, leaf)));
        }
        found
    }

    /// Whether all that hangs on an attribute are parts of conditions that compare it with what is
    /// known: no brace, no other attribute that is not known, and nothing above or below it.
    fn hangs_on_leaves(&self, unknowns: &Unknowns, place: usize) -> bool {
        let reference = unknowns.references[place];
        let in_brace = self.patterns().flat_map(|pattern| pattern.braces());
        let in_brace = in_brace.into_iter().any(|brace| brace.attribute == reference);
        let beside_unknown = self.conditions().any(|when| {
            when.leaves().any(|leaf| {
                let named: Vec<Reference> = when.leaf_references(leaf).collect();
                let other =
                    |other: &Reference| *other != reference && unknowns.place(*other).is_some();
                named.contains(&reference) && named.iter().any(other)
            })
        });
        !in_brace && !beside_unknown && !has_relatives(self.names, unknowns, place)
    }

    /// What is asked about the request: by the law, then by the statements in play.
    pub(super) fn asked(&self) -> impl Iterator<Item = Clause<'e>> + '_ {
        let estate = self.decider.index.estate();
        let of_statement =
            |(id, anchor): &RelevantStatement| Clause::of_statement(estate, *id, *anchor);
        let law = self.law.map(Clause::of_law);
        law.into_iter().chain(self.statements.iter().map(of_statement))
    }

    /// The conditions in play, the law's among them.
    fn conditions(&self) -> impl Iterator<Item = &'e Condition> + '_ {
        self.asked().filter_map(|clause| clause.when)
    }

    /// The path patterns in play, the law's among them.
    fn patterns(&self) -> impl Iterator<Item = &'e PathPattern> + '_ {
        self.asked().flat_map(Clause::patterns)
    }

    /// An attribute that was not given and leaves something undecided.
    fn next(&self, tree: &Tree<'_>, assignment: &Assignment) -> Option<usize> {
        let unknowns = tree.unknowns;
        let free = |place: &usize| {
            let fit = |value| self.fits(unknowns, assignment, *place, value);
            assignment[*place].is_none()
                && !tree.withheld[*place]
                && unknowns.values(*place).0.iter().any(fit)
        };
        let beside = || self.unless.as_ref()?.next_free(unknowns, &free);
        self.next_of(unknowns, &free).or_else(beside)
    }

    /// An attribute of those that are `free` which leaves something undecided.
    pub(super) fn next_of(
        &self,
        unknowns: &Unknowns,
        free: &dyn Fn(&usize) -> bool,
    ) -> Option<usize> {
        let contexts = EFFECTS.map(|effect| self.context(effect));
        for clause in self.asked() {
            if !contexts.iter().any(|context| clause.truth(context) == Truth::Undecided) {
                continue;
            }
            let braces = clause.patterns().flat_map(|pattern| pattern.braces());
            let named = clause.when.into_iter().flat_map(|when| when.references());
            let mut places = braces
                .map(|brace| brace.attribute)
                .chain(named.map(|(reference, _)| reference))
                .filter_map(|reference| unknowns.place(reference));
            if let Some(place) = places.find(free) {
                return Some(place);
            }
        }
        None
    }

    /// Puts what is given into the request.
    pub(super) fn give(&mut self, unknowns: &Unknowns, assignment: &Assignment) {
        let names = self.names;
        if let Some(unless) = &mut self.unless {
            unless.put(unknowns, assignment, names);
        }
        self.give_by(unknowns, assignment, names);
    }

    pub(super) fn give_by(
        &mut self,
        unknowns: &Unknowns,
        assignment: &Assignment,
        names: &AttributeNames,
    ) {
        let [given, item] = &self.known;
        self.query.given.clone_from(given);
        self.query.item.clone_from(item);
        for (reference, given) in unknowns.references.iter().zip(assignment) {
            let (list, id) = match reference {
                Reference::Given(id) => (&mut self.query.given, *id),
                Reference::Target(TargetAttribute::Own(id)) => (&mut self.query.item, *id),
                _ => continue,
            };
            let Some(given) = given else { continue };
            list.push((id, given.clone()));
            if !matches!(given, Given::Absent) {
                let heads = std::iter::successors(names.parent(id), |head| names.parent(*head));
                list.extend(heads.map(|head| (head, Given::Head)));
            }
        }
    }

    /// Whether an attribute can be given this beside what is given: only the head of a table has
    /// something below it, save that below what is absent all is absent.
    pub(super) fn fits(
        &self,
        unknowns: &Unknowns,
        assignment: &Assignment,
        place: usize,
        value: &Given,
    ) -> bool {
        let Some((is_item, id)) = parts(unknowns.references[place]) else { return false };
        let agree = |above: &Given, below: &Given| match above {
            Given::Head => true,
            Given::Absent => *below == Given::Absent,
            Given::Value(_) => false,
        };
        let stands_beside = |other: AttributeId, given: &Given| {
            (!lies_below(self.names, id, other) || agree(given, value))
                && (!lies_below(self.names, other, id) || agree(value, given))
        };
        let known = &self.known[usize::from(is_item)];
        known.iter().all(|(other, given)| stands_beside(*other, given))
            && unknowns.references.iter().zip(assignment).all(|(reference, given)| {
                match (given, parts(*reference)) {
                    (Some(given), Some((of_item, other))) if of_item == is_item => {
                        stands_beside(other, given)
                    }
                    _ => true,
                }
            })
    }
}

pub(super) struct Tree<'u> {
    unknowns: &'u Unknowns,
    /// For each attribute, the values to try, in order, once it was needed.
    orders: Vec<Option<Rc<[usize]>>>,
    /// Steps that may be taken.
    most: usize,
    pub(super) steps: usize,
    /// An attribute of which not all values were tried.
    partial: Option<usize>,
    /// Attributes that are not to be given on this branch.
    withheld: Vec<bool>,
}

impl<'u> Tree<'u> {
    pub(super) fn new(unknowns: &'u Unknowns, most: usize) -> Self {
        let attributes = unknowns.references.len();
        Self {
            unknowns,
            orders: vec![None; attributes],
            most,
            steps: 0,
            partial: None,
            withheld: vec![false; attributes],
        }
    }

    /// Whether everything was tried that there is to try.
    pub(super) fn is_whole(&self) -> bool {
        self.steps <= self.most && self.partial.is_none()
    }
}
