//! What requests use is what a plain search says; and a trimmed estate does all that the log did,
//! opens nothing, and leaves no step to be taken.

use std::collections::{BTreeMap, BTreeSet};

use bexum_core::catalogue::ActionSet;
use bexum_core::declaration::{Declarations, Element};
use bexum_core::each::in_turn;
use bexum_core::edit::{Edit, ListOf, apply};
use bexum_core::engine::{Decider, Engine};
use bexum_core::impact::{Comparison, SameFiles, differences};
use bexum_core::naive::Naive;
use bexum_core::policy::Effect;
use bexum_core::principal::{Principal, Subject};
use bexum_core::time::Time;
use bexum_core::trim::{Aim, Log, trim};
use bexum_core::usage::{Asking, Counter, InList, Thing, Usage};
use bexum_core::{Estate, Reason, Request, Trace, Truth};
use proptest::collection::vec;
use proptest::prelude::*;

use crate::estates;
use crate::review::is_of_a_session;

const NOW: Time = Time(0);

/// Somebody in a list, by names: who, in whose list, and which.
type Place = (String, String, &'static str);

fn places(declared: &Declarations) -> Vec<(Place, &Element)> {
    let mut found = Vec::new();
    let mut add = |of: String, list: &'static str, all: &'_ [Element]| {
        // What is handed out lives as long as the declarations.
        for at in 0..all.len() {
            found.push((of.clone(), list, at));
        }
    };
    for group in &declared.groups {
        let members = group.body.members.as_deref().unwrap_or_default();
        add(format!("group:{}", group.name.value), "members", members);
    }
    for role in &declared.roles {
        add(format!("role:{}", role.name.value), "held-by", &role.body.held_by);
        add(format!("role:{}", role.name.value), "taken-by", &role.body.taken_by);
    }
    let element = |of: &str, list: &str, at: usize| -> &Element {
        let group = declared.groups.iter().find(|one| format!("group:{}", one.name.value) == of);
        let role = declared.roles.iter().find(|one| format!("role:{}", one.name.value) == of);
        match list {
            "members" => {
                &group.and_then(|one| one.body.members.as_deref()).expect("it has members")[at]
            }
            "held-by" => &role.expect("a role").body.held_by[at],
            _ => &role.expect("a role").body.taken_by[at],
        }
    };
    found
        .into_iter()
        .map(|(of, list, at)| {
            let one = element(&of, list, at);
            ((one.who.value.clone(), of, list), one)
        })
        .collect()
}

fn is_open(one: &Element, at: Time) -> bool {
    one.window.from.as_ref().is_none_or(|from| from.value <= at)
        && one.window.until.as_ref().is_none_or(|until| at < until.value)
}

/// Steps from one principal to another by name: each with the place that it takes, if it takes one.
fn steps(
    declared: &Declarations,
    estate: &Estate,
    request: &Request<'_>,
) -> Vec<(String, String, Option<Place>)> {
    let mut found: Vec<(String, String, Option<Place>)> = places(declared)
        .into_iter()
        .filter(|(place, one)| {
            let is_taken = request.take_up.as_deref() == Some(place.1.as_str());
            is_open(one, request.time) && (place.2 != "taken-by" || is_taken)
        })
        .map(|(place, _)| (place.0.clone(), place.1.clone(), Some(place)))
        .collect();
    for group in &estate.groups {
        let name = format!("group:{}", group.identity.name);
        for user in &group.matching {
            let who = format!("user:{}", estate.user(*user).identity.name);
            found.push((who, name.clone(), None));
        }
    }
    for group in &request.also {
        found.push((request.who.to_string(), group.to_string(), None));
    }
    found
}

/// How many steps it takes from somebody to everything else, or the other way around.
fn distances(
    steps: &[(String, String, Option<Place>)],
    start: &str,
    backwards: bool,
) -> BTreeMap<String, usize> {
    let mut known = BTreeMap::from([(start.to_owned(), 0)]);
    // As often as there are steps is more than enough.
    for _ in 0..steps.len() {
        for (from, to, _) in steps {
            let (from, to) = if backwards { (to, from) } else { (from, to) };
            if let Some(so_far) = known.get(from).copied() {
                let best = known.entry(to.clone()).or_insert(usize::MAX);
                *best = (*best).min(so_far + 1);
            }
        }
    }
    known
}

/// The places on any shortest way from who asks to these.
fn on_the_way(
    steps: &[(String, String, Option<Place>)],
    who: &str,
    to: &BTreeSet<String>,
) -> BTreeSet<Place> {
    let there = distances(steps, who, false);
    let mut found = BTreeSet::new();
    for target in to {
        let Some(shortest) = there.get(target) else { continue };
        let back = distances(steps, target, true);
        for (from, into, place) in steps {
            if let (Some(before), Some(after), Some(place)) =
                (there.get(from), back.get(into), place)
                && before + 1 + after == *shortest
            {
                found.insert(place.clone());
            }
        }
    }
    found
}

fn name(estate: &Estate, element: bexum_core::usage::Element) -> Place {
    let (of, list) = match element.list {
        InList::Members(id) => (Principal::Group(id), "members"),
        InList::HeldBy(id) => (Principal::Role(id), "held-by"),
        InList::TakenBy(id) => (Principal::Role(id), "taken-by"),
    };
    (estate.principal_id(element.who), estate.principal_id(of), list)
}

/// The places that were used, and how often.
fn memberships(usage: &Usage, estate: &Estate) -> BTreeMap<Place, u64> {
    let mut found = BTreeMap::new();
    for (thing, count) in &usage.used {
        if let Thing::Membership(element) = thing {
            *found.entry(name(estate, *element)).or_default() += count.times;
        }
    }
    found
}

fn counted(engine: &Engine, requests: &[Request<'_>]) -> Usage {
    let mut counter = Counter::new(engine, &Asking::of(engine));
    for request in requests {
        if let Ok(query) = request.resolve(engine.estate()) {
            counter.count(&query);
        }
    }
    counter.finish()
}

/// Whether a statement says anything about what somebody is in.
fn reads(estate: &Estate, id: bexum_core::id::StatementId) -> bool {
    let statement = estate.statement(id);
    let when = statement.when.as_ref().map_or("", |when| &when.text);
    let on: String = statement.on.texts().collect();
    [when, &on].iter().any(|text| text.contains("who.groups") || text.contains("who.roles"))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    /// Each request by itself uses what its trace and a plain search for shortest ways say.
    #[test]
    fn a_request_uses_what_granted_it(
        declared in estates::estate(),
        requests in vec(estates::request(), 30),
    ) {
        let engine = Engine::new(estates::build(&declared));
        let estate = engine.estate();
        let mut decider = engine.decider();
        for request in &requests {
            let Ok(query) = request.resolve(estate) else { continue };
            let usage = counted(&engine, std::slice::from_ref(request));
            let trace = Trace::of(&mut decider, &query);
            prop_assert_eq!(usage.reasons[trace.reason as usize], 1);
            if trace.reason != Reason::Granted {
                prop_assert!(usage.used.is_empty(), "{:?}", usage.used);
                continue;
            }
            let of_ceilings = trace.ceilings.iter().filter(|one| one.limit.ceiling.is_some());
            let of_ceilings = of_ceilings.flat_map(|one| &one.statements).filter(|one| {
                let is_allow = estate.statement(one.statement).effect == Effect::Allow;
                is_allow && one.truth == Truth::True
            });
            let statements: BTreeSet<_> = trace
                .allows
                .iter()
                .map(|one| one.candidate.statement)
                .chain(of_ceilings.map(|one| one.statement))
                .collect();
            let attachments: BTreeSet<_> = trace
                .allows
                .iter()
                .map(|one| (one.candidate.policy, one.candidate.subject, one.candidate.scope))
                .collect();
            let (mut used_statements, mut used_attachments) = (BTreeSet::new(), BTreeSet::new());
            for (thing, count) in &usage.used {
                prop_assert_eq!(count.times, 1);
                prop_assert_eq!((count.first, count.last), (request.time, request.time));
                match thing {
                    Thing::Statement(id) => { used_statements.insert(*id); }
                    Thing::Attachment(policy, to, at) => {
                        used_attachments.insert((*policy, *to, *at));
                    }
                    _ => {}
                }
            }
            prop_assert_eq!(&used_statements, &statements);
            prop_assert_eq!(&used_attachments, &attachments);

            let steps = steps(&declared, estate, request);
            let subjects = attachments.iter().filter_map(|(_, to, _)| match to {
                Subject::One(who) => Some(estate.principal_id(*who)),
                Subject::Everyone => None,
            });
            let mut to: BTreeSet<String> = subjects.collect();
            to.extend(request.take_up.iter().map(|role| role.to_string()));
            let least = on_the_way(&steps, &request.who, &to);
            if statements.iter().any(|id| reads(estate, *id)) {
                to.extend(distances(&steps, &request.who, false).into_keys());
            }
            let most = on_the_way(&steps, &request.who, &to);
            let used: BTreeSet<Place> = memberships(&usage, estate).into_keys().collect();
            prop_assert!(used.is_superset(&least), "{request:?}: {used:?}, not {least:?}");
            prop_assert!(used.is_subset(&most), "{request:?}: {used:?}, at most {most:?}");
        }
    }

    /// What two parts of a log used, added up, is what the whole used.
    #[test]
    fn parts_add_up(
        declared in estates::estate(),
        requests in vec(estates::request(), 60),
        cut in 0_usize..60,
    ) {
        let engine = Engine::new(estates::build(&declared));
        let whole = counted(&engine, &requests);
        let mut sum = counted(&engine, &requests[..cut]);
        sum.add(counted(&engine, &requests[cut..]));
        prop_assert_eq!(sum, whole);
    }
}

/// The first thing that is opened between two estates, by the whole comparison; nothing where none is,
/// `None` where that is not decided.
fn opened(before: &Engine, after: &Engine) -> Option<bool> {
    let differing = differences(before.estate(), after.estate(), &SameFiles::default());
    let request = Request::new("", "", "", NOW);
    let comparison = Comparison::new(before, after, &differing, request).expect("no circumstances");
    let mut compared = comparison.compared_from_now_on();
    let mut not_decided = false;
    for who in comparison.everybody() {
        match compared.first_opened(who, None, &|_, _| true) {
            Some(cell) if cell.is_decided => return Some(true),
            Some(_) => not_decided = true,
            None => {}
        }
    }
    (!not_decided && !compared.is_limited()).then_some(false)
}

/// Whether every one of these is allowed.
fn all_allowed(engine: &Engine, requests: &[&Request<'_>]) -> bool {
    let mut decider = Decider::new(engine);
    requests.iter().all(|request| {
        let query = request.resolve(engine.estate());
        query.is_ok_and(|query| decider.decide(&query) == Reason::Granted)
    })
}

/// Every single edit of the sorts that `trim` makes, found over declarations.
fn candidates(declared: &Declarations, engine: &Engine, requests: &[&Request<'_>]) -> Vec<Edit> {
    let estate = engine.estate();
    let owned: Vec<Request<'_>> = requests.iter().map(|request| (*request).clone()).collect();
    let usage = counted(engine, &owned);
    let mut found = Vec::new();
    let used = memberships(&usage, estate);
    for ((who, of, list), _) in places(declared) {
        let key = (who.clone(), of.clone(), list);
        let bare = of.split_once(':').expect("a principal").1.to_owned();
        let list = match list {
            "members" => ListOf::Members,
            "held-by" => ListOf::HeldBy,
            _ => ListOf::TakenBy,
        };
        let edit = Edit::Remove { who: vec![who], list, of: bare };
        if !used.contains_key(&key) {
            found.push(edit);
        }
    }
    for one in &estate.attachments {
        for (policy, to, at) in one.policies.iter().flat_map(|policy| {
            let to = one.to.iter();
            to.flat_map(move |to| one.at.iter().map(move |at| (policy.value, to.value, at.value)))
        }) {
            let only_denies = estate.policy(policy).allows.is_empty();
            if usage.used.contains_key(&Thing::Attachment(policy, to, at)) || only_denies {
                continue;
            }
            found.push(Edit::Detach {
                policies: vec![estate.policy(policy).name.to_string()],
                from: vec![match to {
                    Subject::Everyone => "everyone".to_owned(),
                    Subject::One(who) => estate.principal_id(who),
                }],
                at: vec![estate.scope(at).path.to_string()],
            });
        }
    }
    let attached: BTreeSet<_> =
        estate.attachments.iter().flat_map(|one| &one.policies).map(|one| one.value).collect();
    let limiting: BTreeSet<_> =
        estate.ceilings.iter().flat_map(|one| &one.policies).map(|one| one.value).collect();
    for statement in &estate.statements {
        let of = |all: &BTreeSet<bexum_core::id::PolicyId>| {
            all.iter().any(|id| *id == statement.policy || estate.includes(*id, statement.policy))
        };
        let policy = estate.policy(statement.policy);
        let may_change = statement.effect == Effect::Allow
            && policy.denies.is_empty()
            && !estate.is_locked(statement.policy)
            && of(&attached)
            && !of(&limiting);
        let all: Vec<usize> = statement.actions.ones().collect();
        if !may_change || all.len() < 2 {
            continue;
        }
        let called = match &statement.name {
            Some(name) => name.to_string(),
            None => format!("{} {}", statement.effect, statement.place),
        };
        for gone in &all {
            let left = all.iter().filter(|action| *action != gone);
            let names = left.map(|action| estate.catalogue.actions[*action].name.to_string());
            found.push(Edit::Restate {
                policy: policy.name.to_string(),
                statement: called.clone(),
                actions: names.collect(),
                on: Vec::new(),
            });
        }
    }
    found
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    /// What the log was allowed is allowed still, nothing is opened, by the whole comparison and by
    /// requests that nothing here chose, and no step is left.
    #[test]
    fn a_trimmed_estate_keeps_its_promises(
        declared in estates::estate(),
        log in vec(estates::request(), 0..40),
        others in vec(estates::request(), 80),
    ) {
        let engine = Engine::new(estates::build(&declared));
        let estate = engine.estate();
        let mut kept = Log::new(&engine);
        for request in &log {
            if let Ok(query) = request.resolve(estate) {
                kept.add(&query);
            }
        }
        let keep = ActionSet::with_capacity(estate.catalogue.actions.len());
        let aim = Aim { things: &[], keep, now: NOW };
        let trimmed = trim(&declared, &engine, &kept, &aim, &in_turn);
        prop_assert!(trimmed.is_ok(), "{:?}", trimmed.err());
        let Ok(trimmed) = trimmed else { return Ok(()) };
        let mut changed = declared.clone();
        for edit in &trimmed.edits {
            let done = apply(edit, &mut changed, &estate.catalogue, NOW);
            prop_assert!(done.is_ok(), "{edit}: {:?}", done.err());
        }
        let after = Engine::new(Estate::build_beside(&changed, estate).expect("it builds"));

        let mut decider = Decider::new(&engine);
        let allowed: Vec<&Request<'_>> = log
            .iter()
            .filter(|request| {
                let query = request.resolve(estate);
                query.is_ok_and(|query| decider.decide(&query) == Reason::Granted)
            })
            .collect();
        prop_assert!(all_allowed(&after, &allowed), "{:?}", trimmed.edits);
        prop_assert_ne!(opened(&engine, &after), Some(true), "{:?}", trimmed.edits);
        let (was, is_now) = (Naive::new(&declared), Naive::new(&changed));
        // What is opened is told of sessions.
        for request in others.iter().filter(|request| is_of_a_session(request)) {
            if is_now.decide(request) == Some(Reason::Granted) {
                prop_assert_eq!(was.decide(request), Some(Reason::Granted), "{:?}", request);
            }
        }

        // As far as it could be decided, no single step is left.
        let mut left = Vec::new();
        let mut tried_before: Vec<Edit> = Vec::new();
        for edit in candidates(&changed, &after, &allowed) {
            // What stands there twice goes with one edit.
            if tried_before.contains(&edit) {
                continue;
            }
            tried_before.push(edit.clone());
            let mut tried = changed.clone();
            if apply(&edit, &mut tried, &estate.catalogue, NOW).is_err() {
                continue;
            }
            let Ok(tried) = Estate::build_beside(&tried, after.estate()) else { continue };
            let tried = Engine::new(tried);
            if all_allowed(&tried, &allowed) && opened(&after, &tried) == Some(false) {
                left.push(edit);
            }
        }
        prop_assert!(left.len() <= trimmed.not_decided, "{left:?} after {:?}", trimmed.edits);
    }
}
