//! Whether one estate allows a request that another does not, in some circumstances and at this
//! moment or a later one (spec-work section 8, "opened").
//!
//! Both are asked the same at every step of one search: an attribute is given values that stand for
//! all ways in which what *either* estate asks about it can come out. The attributes of both must
//! have the same numbers ([`Estate::build_beside`](crate::Estate::build_beside)).

use std::collections::BTreeSet;

use rustc_hash::FxHashMap;

use super::moments::{LATEST, moments, moments_of};
use super::print::Print;
use super::representatives::Unknowns;
use super::search::{Assignment, Beside, ProofSearch, Tree, with_search};
use crate::attribute::AttributeNames;
use crate::condition::check::TargetAttribute;
use crate::condition::{Condition, Reference};
use crate::decision::Reason;
use crate::engine::{Decider, EvalContext, Session};
use crate::id::{AttributeId, PolicyId, ScopeId};
use crate::pattern::residual::FRESH;
use crate::policy::Effect;
use crate::principal::Principal;
use crate::request::{Query, Target, TargetPlace};
use crate::time::{Time, Window};

/// Steps in looking for circumstances at one moment.
const STEPS: usize = 5_000;
/// Moments beyond which it is not decided.
const MOST_MOMENTS: usize = 600;

/// Whether something is opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Opened {
    /// In some circumstances it is.
    Yes,
    /// In none it is.
    No,
    /// Neither could be found out.
    NotDecided,
}

/// What was found out before, by all that it depends on.
#[derive(Default)]
pub(crate) struct KnownAnswers {
    found: FxHashMap<Print, Opened>,
    steps: usize,
}

impl KnownAnswers {
    /// Forgets what was found out.
    pub(crate) fn clear(&mut self) {
        self.found.clear();
    }

    /// How many steps searches took since this was asked.
    pub(crate) fn take_steps(&mut self) -> usize {
        std::mem::take(&mut self.steps)
    }
}

/// An estate, and the request as it stands there: its time is the first moment that counts.
pub(crate) type Asked<'a, 'q, 'e> = (&'a mut Decider<'e>, &'a Query<'q>);

/// Whether a request is allowed, in some circumstances that complete those given, in which none of
/// the others is allowed, at the request's moment or later. The attributes of all estates must have
/// the same numbers, as far as an estate has them.
pub(crate) fn opened<'e>(
    others: &mut [Asked<'_, '_, 'e>],
    after: Asked<'_, '_, 'e>,
    known: &mut KnownAnswers,
) -> Opened {
    let (new, query) = after;
    let found = opened_as_asked(others, (new, query), known);
    if found != Opened::No || !query.target.is_sample {
        return found;
    }
    // In a row that stands for many items no value matches what stands for any name, but a
    // circumstance may well say the name that a brace asks for. So the row is asked as one item more,
    // with names that nobody has.
    let mut braces = open_braces(new, query);
    for (other, query) in others.iter_mut() {
        let more = open_braces(other, query);
        braces.attributes.extend(more.attributes);
        braces.asked_about.extend(more.asked_about);
    }
    if braces.attributes.is_empty() {
        return Opened::No;
    }
    let named = |query: &Query<'_>| named(query.target.path);
    let path = named(query);
    let paths: Vec<String> = others.iter().map(|(_, query)| named(query)).collect();
    let concrete: Vec<Query<'_>> =
        others.iter().zip(&paths).map(|((_, query), path)| as_item(query, path)).collect();
    let mut others: Vec<Asked<'_, '_, 'e>> =
        others.iter_mut().zip(&concrete).map(|((other, _), query)| (&mut **other, query)).collect();
    // Its name is known only because it was made up, so only what such an item can do counts, and
    // conditions about the attribute itself may single out other names.
    let mut of_item = KnownAnswers::default();
    let found = opened_as_asked(&mut others, (new, &as_item(query, &path)), &mut of_item);
    known.steps += of_item.steps;
    match found {
        Opened::No if braces.attributes.is_disjoint(&braces.asked_about) => Opened::No,
        Opened::No => Opened::NotDecided,
        found => found,
    }
}

/// A path in which every name that stands for any is one that nobody has.
fn named(path: &str) -> String {
    let mut text = String::with_capacity(path.len() + 8);
    let mut number = 0;
    for piece in path.split_inclusive(FRESH) {
        match piece.strip_suffix(FRESH) {
            Some(before) => {
                number += 1;
                // A character for private use, which no pattern has.
                text.push_str(&format!("{before}\u{e000}{number}"));
            }
            None => text.push_str(piece),
        }
    }
    text
}

fn as_item<'q>(query: &Query<'q>, path: &'q str) -> Query<'q> {
    let target = Target {
        path,
        segments: path.split('/').collect(),
        place: query.target.place,
        is_sample: false,
    };
    Query { target, ..query.clone() }
}

/// Circumstances that stand in braces, and those that conditions ask about.
#[derive(Default)]
struct OpenBraces {
    attributes: BTreeSet<AttributeId>,
    asked_about: BTreeSet<AttributeId>,
}

/// The attributes in braces of statements that may have a say which the query does not give.
fn open_braces(decider: &mut Decider<'_>, query: &Query<'_>) -> OpenBraces {
    let estate = decider.index.estate();
    let mut policies: BTreeSet<PolicyId> = query.under.iter().copied().collect();
    each_stay(decider, query, |_, _, above| policies.extend(above.iter().map(|one| one.0)));
    let mut found = OpenBraces::default();
    for policy in policies {
        let body = estate.policy(policy);
        for id in body.allows.iter().chain(&body.denies) {
            let statement = estate.statement(*id);
            let patterns = statement.on.plain.iter().chain(&statement.on.excluded);
            let braces = patterns.flat_map(|pattern| pattern.braces());
            found.attributes.extend(braces.filter_map(|brace| match brace.attribute {
                Reference::Given(id) if !query.given.iter().any(|(known, _)| *known == id) => {
                    Some(id)
                }
                _ => None,
            }));
            let asked = statement.when.iter().flat_map(|when| when.references());
            found.asked_about.extend(asked.filter_map(|(reference, _)| match reference {
                Reference::Given(id) => Some(id),
                _ => None,
            }));
        }
    }
    found
}

/// As [`opened`], of exactly these requests at their moments.
fn opened_as_asked<'e>(
    others: &mut [Asked<'_, '_, 'e>],
    after: Asked<'_, '_, 'e>,
    known: &mut KnownAnswers,
) -> Opened {
    let (new, new_query) = after;
    let now = new_query.time;
    let mut bounds = bounds(new, new_query);
    for (other, query) in others.iter_mut() {
        bounds.extend(self::bounds(other, query));
    }
    bounds.sort_unstable();
    bounds.dedup();
    let from_now = Window { from: Some(now), until: None };
    let moments = moments(from_now, now, &bounds);
    if moments.len() > MOST_MOMENTS {
        return Opened::NotDecided;
    }
    let mut is_decided = true;
    // The first names are the same: that of the estate that has more are all.
    let of_others = others.iter().map(|(other, _)| &other.index.estate().attribute_names);
    let names = of_others.fold(&new.index.estate().attribute_names, |most, names| {
        if names.len() > most.len() { names } else { most }
    });
    for time in moments {
        let found = beside_all(others, time, None, &mut |unless| {
            let query = Query { time, ..new_query.clone() };
            let unless = unless.map(|unless| (unless, names));
            with_search(new, None, query, unless, STEPS, |search| {
                let others = search.unless.as_ref().map_or(Some(Print::default()), |u| u.print());
                let print = others.zip(search.print_of_statements());
                let print = print.map(|(others, print)| print.and(&others));
                if let Some(found) = print.as_ref().and_then(|print| known.found.get(print)) {
                    return *found;
                }
                let found = search.is_found();
                known.steps += search.steps + 1;
                known.found.extend(print.map(|print| (print, found)));
                found
            })
        });
        match found {
            Opened::Yes => return Opened::Yes,
            Opened::NotDecided => is_decided = false,
            Opened::No => {}
        }
    }
    if is_decided { Opened::No } else { Opened::NotDecided }
}

/// Gets a search ready for each of these requests, of which none must be allowed.
fn beside_all<'e>(
    rest: &mut [Asked<'_, '_, 'e>],
    time: Time,
    unless: Option<&mut dyn Beside>,
    then: &mut dyn FnMut(Option<&mut dyn Beside>) -> Opened,
) -> Opened {
    let Some(((other, query), rest)) = rest.split_first_mut() else { return then(unless) };
    let query = Query { time, ..query.clone() };
    with_search(other, None, query, None, STEPS, |search| match unless {
        None => beside_all(rest, time, Some(search), then),
        Some(unless) => {
            let mut both = Both { one: unless, other: search };
            beside_all(rest, time, Some(&mut both), then)
        }
    })
}

/// Two requests, of which neither must be allowed.
struct Both<'b> {
    one: &'b mut dyn Beside,
    other: &'b mut dyn Beside,
}

impl Beside for Both<'_> {
    fn take_in(&self, unknowns: &mut Unknowns) {
        self.one.take_in(unknowns);
        self.other.take_in(unknowns);
    }

    fn put(&mut self, unknowns: &Unknowns, assignment: &Assignment, names: &AttributeNames) {
        self.one.put(unknowns, assignment, names);
        self.other.put(unknowns, assignment, names);
    }

    fn may_be_refused(&mut self) -> bool {
        self.one.may_be_refused() && self.other.may_be_refused()
    }

    fn is_refused(&mut self) -> bool {
        self.one.is_refused() && self.other.is_refused()
    }

    fn next_free(&self, unknowns: &Unknowns, free: &dyn Fn(&usize) -> bool) -> Option<usize> {
        self.one.next_free(unknowns, free).or_else(|| self.other.next_free(unknowns, free))
    }

    fn names_path(&self) -> bool {
        self.one.names_path() || self.other.names_path()
    }

    fn print(&self) -> Option<Print> {
        Some(self.one.print()?.and(&self.other.print()?))
    }
}

/// The moments from the query's on at which something that has a say begins, ends, or is compared
/// with the time.
fn bounds(decider: &mut Decider<'_>, query: &Query<'_>) -> Vec<Time> {
    let mut found = Vec::new();
    let index = decider.index;
    let estate = index.estate();
    let first = query.time;
    let ends = |window: Window| window.from.into_iter().chain(window.until);
    if let TargetPlace::Identity(Principal::Group(group), _) = query.target.place {
        // `target.members` changes as its windows open and close.
        found.extend(estate.group(group).members.iter().flatten().flat_map(|m| ends(m.window)));
    }
    let under = query.under.clone();
    each_stay(decider, query, |query, session, above| {
        let mut policies = under.clone();
        for (policy, _, window) in above {
            found.extend(ends(*window));
            policies.push(*policy);
        }
        let statements = policies.iter().flat_map(|policy| {
            let policy = estate.policy(*policy);
            policy.allows.iter().chain(&policy.denies)
        });
        let named = statements.map(|id| estate.statement(*id));
        let named = named.filter(|one| one.actions.contains(query.action.index()));
        let whens: Vec<&Condition> = named.filter_map(|one| one.when.as_ref()).collect();
        let context =
            EvalContext { index, query, closure: &session.closure, roles: Some(session.roles()) };
        moments_of(&context, &whens, &mut found);
        if query.time != first {
            found.push(query.time);
        }
    });
    found
}

/// Calls `visit` for the query's moment and each later one at which the groups or roles of who asks
/// change, with the policies attached at the target or above it and the ceilings over it.
fn each_stay<'e>(
    decider: &mut Decider<'e>,
    query: &Query<'_>,
    mut visit: impl FnMut(&Query<'_>, &Session<'e>, &[(PolicyId, Option<ScopeId>, Window)]),
) {
    let index = decider.index;
    let mut time = query.time;
    loop {
        let query = Query { time, ..query.clone() };
        let session = decider.session(&query);
        let mut stays = session.closure.valid_during;
        if let Some(role) = query.take_up {
            stays = stays.intersect(&decider.role_closure(role, time).valid_during);
        }
        let above = index.policies_above(session.subjects(), query.target.scope());
        visit(&query, &session, &above);
        match stays.until {
            Some(next) if next > time && next <= LATEST => time = next,
            _ => return,
        }
    }
}

impl ProofSearch<'_, '_> {
    /// Whether the request is allowed in some circumstances in which the other one is not.
    fn is_found(&mut self) -> Opened {
        if !self.is_open() {
            return Opened::No;
        }
        if self.is_broken() {
            return Opened::Yes;
        }
        let mut unknowns = Unknowns::default();
        self.take_in(&mut unknowns);
        if let Some(unless) = &self.unless {
            unless.take_in(&mut unknowns);
        }
        let mut assignment: Assignment = vec![None; unknowns.references.len()];
        let mut tree = Tree::new(&unknowns, STEPS);
        let is_found = self.descend(&mut tree, &mut assignment);
        self.steps = tree.steps;
        if is_found {
            return Opened::Yes;
        }
        // A row that stands for many items has no path that could be tried.
        let is_sample = self.query.target.is_sample;
        let names_path = is_sample
            && (self.names_path() || self.unless.as_ref().is_some_and(|u| u.names_path()));
        if tree.is_whole() && !names_path { Opened::No } else { Opened::NotDecided }
    }
}

impl Beside for ProofSearch<'_, '_> {
    fn take_in(&self, unknowns: &mut Unknowns) {
        let context = self.context(Effect::Deny);
        self.asked().for_each(|clause| unknowns.take_in(&context, clause));
    }

    fn put(&mut self, unknowns: &Unknowns, assignment: &Assignment, names: &AttributeNames) {
        self.give_by(unknowns, assignment, names);
    }

    fn may_be_refused(&mut self) -> bool {
        self.decider.decide(&self.query) != Reason::Granted
    }

    fn is_refused(&mut self) -> bool {
        let is_open = std::mem::replace(&mut self.query.item_is_open, false);
        let refused = self.decider.decide(&self.query) != Reason::Granted;
        self.query.item_is_open = is_open;
        refused
    }

    fn next_free(&self, unknowns: &Unknowns, free: &dyn Fn(&usize) -> bool) -> Option<usize> {
        self.next_of(unknowns, free)
    }

    fn print(&self) -> Option<Print> {
        self.print_of_statements()
    }

    fn names_path(&self) -> bool {
        let path = |reference: &Reference| {
            let named = [TargetAttribute::Path, TargetAttribute::Name];
            named.into_iter().any(|one| *reference == Reference::Target(one))
        };
        self.asked()
            .filter_map(|clause| clause.when)
            .any(|when| when.references().iter().any(|(reference, _)| path(reference)))
    }
}
