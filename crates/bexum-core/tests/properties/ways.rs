//! Every single step that works is a way, and nothing else is; what it does besides is counted right.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use bexum_core::attribute::Value;
use bexum_core::declaration::{
    Attachment, Declarations, Element, Policy, Statement, WindowWritten,
};
use bexum_core::each::in_turn;
use bexum_core::edit::{Edit, ListOf, Target, apply};
use bexum_core::engine::{Decider, Engine};
use bexum_core::impact::{Cell, Comparison, SameFiles, differences};
use bexum_core::origin::Origin;
use bexum_core::policy::Effect;
use bexum_core::principal::{Principal, Subject};
use bexum_core::request::TargetPlace;
use bexum_core::time::{Time, Window};
use bexum_core::ways::{Candidate, Choice, Step, Tried, Way, WaySearch, rank};
use bexum_core::{Estate, Request, Trace, Verdict};
use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;

use crate::estates;

/// An estate in which much is refused to everyone at a place, by a policy that may grant something, too.
fn estate_with_a_stop() -> impl Strategy<Value = Declarations> {
    let actions = select(&["*", "rec.*", "*.view", "*.@observe"][..]);
    let at = select(&["v", "v/s", "v/s/c"][..]);
    (estates::estate(), actions, at, vec(estates::statement(), 0..2)).prop_map(
        |(mut declared, actions, at, more)| {
            let stop = Statement {
                effect: Effect::Deny,
                name: None,
                about: None,
                actions: estates::list(&[actions]),
                on: None,
                when: None,
                origin: Origin::default(),
            };
            let statements = std::iter::once(stop).chain(more).collect();
            declared
                .policies
                .push(estates::named("stop", Policy { statements, ..Policy::default() }));
            declared.attachments.push(Attachment {
                policy: estates::list(&["stop"]),
                to: estates::list(&["everyone"]),
                at: estates::list(&[at]),
                window: WindowWritten::default(),
                about: None,
                origin: Origin::default(),
            });
            estates::number(&mut declared);
            declared
        },
    )
}

/// An estate and its engine.
pub(crate) struct Made {
    pub(crate) declared: Declarations,
    pub(crate) engine: Engine,
}

impl Made {
    pub(crate) fn new(declared: Declarations) -> Self {
        let engine = Engine::new(estates::build(&declared));
        Self { declared, engine }
    }

    fn estate(&self) -> &Estate {
        self.engine.estate()
    }

    /// The estate after edits, if it is one.
    pub(crate) fn after(&self, edits: &[Edit]) -> Option<Self> {
        let mut declared = self.declared.clone();
        for edit in edits {
            apply(edit, &mut declared, &self.estate().catalogue, Time(0)).ok()?;
        }
        let estate = Estate::build_beside(&declared, self.estate()).ok()?;
        Some(Self { declared, engine: Engine::new(Arc::new(estate)) })
    }

    fn verdict(&self, request: &Request<'_>) -> Option<Verdict> {
        let query = request.resolve(self.estate()).ok()?;
        Some(Decider::new(&self.engine).decide(&query).verdict())
    }

    /// The cells of everybody that come to something else.
    fn cells(&self, after: &Self, request: &Request<'static>) -> Vec<Cell> {
        let differing = differences(self.estate(), after.estate(), &SameFiles::default());
        let (take_up, item, also, under) = (None, None, Vec::new(), Vec::new());
        let circumstances = Request { take_up, item, also, under, ..request.clone() };
        let comparison = Comparison::new(&self.engine, &after.engine, &differing, circumstances);
        let comparison = comparison.expect("sound circumstances");
        let mut compared = comparison.compared();
        let all = comparison.everybody();
        all.iter().flat_map(|who| compared.cells_of(who)).collect()
    }

    /// How many cells of everybody turn to allow and away from it.
    pub(crate) fn turned(&self, after: &Self, request: &Request<'static>) -> (usize, usize) {
        let cells = self.cells(after, request);
        let opened = cells.iter().filter(|cell| cell.is_opened()).count();
        (opened, cells.iter().filter(|cell| cell.is_shut()).count())
    }

    /// How many are opened, and closed, in other circumstances or later alone.
    fn turned_elsewhere(&self, after: &Self, request: &Request<'static>) -> [usize; 2] {
        let cells = self.cells(after, request);
        let opens = cells.iter().filter(|cell| cell.is_gained && !cell.is_opened()).count();
        [opens, cells.iter().filter(|cell| cell.is_lost && !cell.is_shut()).count()]
    }
}

fn step(edits: Vec<Edit>) -> Step {
    Step { edits, options: Vec::new() }
}

fn add(who: &str, list: ListOf, of: &str) -> Edit {
    Edit::Add { who: vec![who.to_owned()], list, of: of.to_owned(), window: Window::ALWAYS }
}

fn holds(element: &Element, at: Time) -> bool {
    let from = element.window.from.as_ref().is_none_or(|from| from.value <= at);
    from && element.window.until.as_ref().is_none_or(|until| at < until.value)
}

/// Everything that stands in a list: who, in which list of what, whether now.
fn elements(made: &Made, at: Time) -> Vec<(String, ListOf, String, String, bool)> {
    let mut found = Vec::new();
    for group in &made.declared.groups {
        let id = format!("group:{}", group.name.value);
        for one in group.body.members.iter().flatten() {
            let (who, of) = (one.who.value.clone(), group.name.value.clone());
            found.push((who, ListOf::Members, of, id.clone(), holds(one, at)));
        }
    }
    for role in &made.declared.roles {
        let id = format!("role:{}", role.name.value);
        let lists = [(ListOf::HeldBy, &role.body.held_by), (ListOf::TakenBy, &role.body.taken_by)];
        for (list, all) in lists {
            for one in all {
                let (who, of) = (one.who.value.clone(), role.name.value.clone());
                found.push((who, list, of, id.clone(), holds(one, at)));
            }
        }
    }
    found
}

/// All that somebody comes to by lists and conditions, at a moment, without taking up a role.
fn brought(made: &Made, from: &str, at: Time) -> BTreeSet<String> {
    let mut found = BTreeSet::from([from.to_owned()]);
    let listed = elements(made, at);
    loop {
        let before = found.len();
        for (who, list, _, into, now) in &listed {
            if *now && *list != ListOf::TakenBy && found.contains(who) {
                found.insert(into.clone());
            }
        }
        for (i, group) in made.estate().groups.iter().enumerate() {
            let id = format!("group:{}", made.declared.groups[i].name.value);
            let matching = group.matching.iter();
            if matching
                .into_iter()
                .any(|user| found.contains(&made.estate().principal_id(Principal::User(*user))))
            {
                found.insert(id);
            }
        }
        if found.len() == before {
            return found;
        }
    }
}

/// The places at or above a path that are declared, the nearest first.
fn chain(made: &Made, target: TargetPlace) -> Vec<String> {
    let nearest = target.scope();
    let scopes = &made.estate().scopes;
    scopes.chain(nearest).map(|id| made.estate().scope(id).path.to_string()).collect()
}

/// To whom something may be attached for somebody.
fn attachable(made: &Made, request: &Request<'_>) -> Vec<String> {
    let mut to = BTreeSet::from([request.who.to_string()]);
    for (who, list, _, into, now) in elements(made, request.time) {
        if now && list == ListOf::Members && who == *request.who {
            to.insert(into);
        }
    }
    for (i, group) in made.estate().groups.iter().enumerate() {
        let mut ids =
            group.matching.iter().map(|one| made.estate().principal_id(Principal::User(*one)));
        if ids.any(|id| id == *request.who) {
            to.insert(format!("group:{}", made.declared.groups[i].name.value));
        }
    }
    to.extend(request.take_up.as_ref().map(ToString::to_string));
    to.into_iter().collect()
}

fn new_policy(made: &Made, request: &Request<'_>, to: &str, effect: Effect) -> Step {
    let query = request.resolve(made.estate()).expect("a request");
    let nearest = chain(made, query.target.place).remove(0);
    let name = "way-1".to_owned();
    step(vec![
        Edit::New { target: Target::Policy(name.clone()), preset: None, keys: Vec::new() },
        Edit::State {
            policy: name.clone(),
            effect,
            actions: vec![request.does.to_string()],
            on: vec![format!("/{}", request.on)],
            when: None,
            name: None,
        },
        Edit::Attach {
            policies: vec![name],
            to: vec![to.to_owned()],
            at: vec![nearest],
            window: Window::ALWAYS,
        },
    ])
}

fn attach(policy: &str, to: &str, at: &str) -> Edit {
    Edit::Attach {
        policies: vec![policy.to_owned()],
        to: vec![to.to_owned()],
        at: vec![at.to_owned()],
        window: Window::ALWAYS,
    }
}

/// Steps that may grant, by the page; of each list the first that works counts.
fn grants(made: &Made, request: &Request<'static>, with_holding: bool) -> Vec<Vec<Step>> {
    let mut found: Vec<Vec<Step>> = Vec::new();
    let roles = made.declared.roles.iter().map(|role| Some(role.name.value.clone()));
    for role in roles.chain([None]) {
        if role.as_ref().map(|role| format!("role:{role}"))
            != request.take_up.as_ref().map(ToString::to_string)
        {
            found.push(vec![Step { options: vec![Choice::Role(role)], ..Step::default() }]);
        }
    }
    for group in &made.declared.groups {
        found.push(vec![step(vec![add(&request.who, ListOf::Members, &group.name.value)])]);
    }
    for role in made.declared.roles.iter().filter(|_| with_holding) {
        found.push(vec![step(vec![add(&request.who, ListOf::HeldBy, &role.name.value)])]);
        let mut taken = step(vec![add(&request.who, ListOf::TakenBy, &role.name.value)]);
        if request.take_up.as_deref() != Some(&format!("role:{}", role.name.value)) {
            taken.options.push(Choice::Role(Some(role.name.value.clone())));
        }
        found.push(vec![taken]);
    }
    let query = request.resolve(made.estate()).expect("a request");
    let above = chain(made, query.target.place);
    let to = attachable(made, request);
    for policy in &made.declared.policies {
        for who in &to {
            let each = above.iter().map(|at| step(vec![attach(&policy.name.value, who, at)]));
            found.push(each.collect());
        }
    }
    if let Some(user) = request.who.strip_prefix("user:") {
        let keys = vec![("enabled".to_owned(), Value::Boolean(true))];
        found.push(vec![step(vec![Edit::Set { target: Target::User(user.to_owned()), keys }])]);
    }
    for (who, list, of, _, now) in elements(made, request.time) {
        if !now {
            found.push(vec![step(vec![add(&who, list, &of)])]);
        }
    }
    for one in &made.declared.attachments {
        if one.window.from.is_none() && one.window.until.is_none() {
            continue;
        }
        for policy in &one.policy.value {
            for who in &one.to.value {
                for at in &one.at.value {
                    found.push(vec![step(vec![attach(&policy.value, &who.value, &at.value)])]);
                }
            }
        }
    }
    found.extend(to.iter().map(|who| vec![new_policy(made, request, who, Effect::Allow)]));
    found
}

/// The estate with the user enabled and the role one that can be taken up: there the request meets
/// what else refuses.
fn met(made: &Made, request: &Request<'static>) -> Made {
    let mut edits = Vec::new();
    if let Some(user) = request.who.strip_prefix("user:") {
        let keys = vec![("enabled".to_owned(), Value::Boolean(true))];
        edits.push(Edit::Set { target: Target::User(user.to_owned()), keys });
    }
    if let Some(role) = request.take_up.as_deref().and_then(|role| role.strip_prefix("role:")) {
        edits.push(add(&request.who, ListOf::TakenBy, role));
    }
    made.after(&edits).expect("an estate")
}

/// Steps that take a statement away which decided.
fn gone(made: &Made, request: &Request<'static>, effect: Effect) -> Vec<Step> {
    let as_met = met(made, request);
    let query = request.resolve(as_met.estate()).expect("a request");
    let trace = Trace::of(&mut Decider::new(&as_met.engine), &query);
    let findings = if effect == Effect::Deny { &trace.denies } else { &trace.allows };
    let (estate, at) = (made.estate(), request.time);
    let mut start = brought(made, &request.who, at);
    for other in request.also.iter().chain(&request.take_up) {
        start.extend(brought(made, other, at));
    }
    let mut found = Vec::new();
    for finding in findings {
        let candidate = finding.candidate;
        let subject = match candidate.subject {
            Subject::Everyone => "everyone".to_owned(),
            Subject::One(who) => estate.principal_id(who),
        };
        for (who, list, of, into, now) in elements(made, at) {
            let is_taken = request.take_up.as_deref() == Some(&*into);
            let counts = now && (list != ListOf::TakenBy || is_taken);
            if counts && start.contains(&who) && brought(made, &into, at).contains(&subject) {
                found.push(step(vec![Edit::Remove { who: vec![who], list, of }]));
            }
        }
        let statement = estate.statement(candidate.statement);
        found.push(step(vec![Edit::Spare {
            policy: estate.policy(statement.policy).name.to_string(),
            statement: format!("{} {}", statement.effect.word(), statement.place),
            paths: vec![format!("/{}", request.on)],
        }]));
    }
    for one in &made.declared.attachments {
        for policy in &one.policy.value {
            for who in &one.to.value {
                for at in &one.at.value {
                    found.push(step(vec![Edit::Detach {
                        policies: vec![policy.value.clone()],
                        from: vec![who.value.clone()],
                        at: vec![at.value.clone()],
                    }]));
                }
            }
        }
    }
    found
}

/// Steps that take away what refuses.
fn lifts(made: &Made, request: &Request<'static>) -> Vec<Step> {
    let mut found = gone(made, request, Effect::Deny);
    let as_met = met(made, request);
    let query = request.resolve(as_met.estate()).expect("a request");
    let trace = Trace::of(&mut Decider::new(&as_met.engine), &query);
    let estate = made.estate();
    for one in trace.ceilings.iter().filter(|one| one.bounds) {
        let policy = estate.policy(one.limit.policy);
        let name = policy.name.to_string();
        if let Some(id) = one.limit.ceiling {
            let over: Vec<String> =
                one.limit.over.map(|at| estate.scope(at).path.to_string()).into_iter().collect();
            let mut ids = brought(made, &request.who, request.time);
            for other in request.also.iter().chain(&request.take_up) {
                ids.extend(brought(made, other, request.time));
            }
            for subject in &estate.ceiling(id).bound {
                let Subject::One(who) = subject else { continue };
                let who = estate.principal_id(*who);
                if ids.contains(&who) {
                    let (policy, over) = (name.clone(), over.clone());
                    found.push(step(vec![Edit::Unlimit { policy, over, bound: vec![who] }]));
                }
            }
            let (policy, over) = (name.clone(), over.clone());
            found.push(step(vec![Edit::Unlimit { policy, over, bound: Vec::new() }]));
        }
        for id in &policy.denies {
            let statement = estate.statement(*id);
            found.push(step(vec![Edit::Spare {
                policy: estate.policy(statement.policy).name.to_string(),
                statement: format!("deny {}", statement.place),
                paths: vec![format!("/{}", request.on)],
            }]));
        }
        if !policy.allows.is_empty() {
            found.push(step(vec![Edit::State {
                policy: name,
                effect: Effect::Allow,
                actions: vec![request.does.to_string()],
                on: vec![format!("/{}", request.on)],
                when: None,
                name: None,
            }]));
        }
    }
    found
}

fn closings(made: &Made, request: &Request<'static>) -> Vec<Step> {
    let mut found = gone(made, request, Effect::Allow);
    if let Some(user) = request.who.strip_prefix("user:") {
        let keys = vec![("enabled".to_owned(), Value::Boolean(false))];
        found.push(step(vec![Edit::Set { target: Target::User(user.to_owned()), keys }]));
    }
    let to = attachable(made, request);
    found.extend(to.iter().map(|who| new_policy(made, request, who, Effect::Deny)));
    found
}

/// The steps that work of those that are listed, with what each turns, by text.
fn working(
    made: &Made,
    request: &Request<'static>,
    wanted: Verdict,
    all: Vec<Vec<Step>>,
) -> BTreeMap<String, (usize, usize)> {
    let mut found = BTreeMap::new();
    for alternatives in all {
        for one in alternatives {
            let Some(after) = made.after(&one.edits) else { continue };
            if after.verdict(&one.asked(request)) == Some(wanted) {
                found.insert(one.text(), made.turned(&after, request));
                break;
            }
        }
    }
    found
}

fn is_given(way: &Way) -> bool {
    way.step.options.iter().any(|one| matches!(one, Choice::Given(..)))
}

fn by_text(ways: &[Way]) -> BTreeMap<String, (usize, usize)> {
    let plain = ways.iter().filter(|way| !is_given(way));
    plain.map(|way| (way.step.text(), (way.effect.opens, way.effect.closes))).collect()
}

/// Holds what is found where only small ways are wanted against what is counted to the end.
pub(crate) fn small_as_counted(
    search: &WaySearch<'_>,
    candidates: &[Candidate],
) -> Result<(), TestCaseError> {
    for one in candidates {
        let whole = search.tried(one);
        let size = whole.as_ref().map_or(1, |way| way.effect.size());
        for most in [size, size.saturating_sub(1), size / 2] {
            let told = search.tried_within(one, &|_| most);
            match (&told, &whole) {
                (None, None) => {}
                (Some(Tried::Way(way)), Some(whole)) => {
                    prop_assert_eq!(way, whole);
                    prop_assert!(way.effect.size() <= most);
                }
                (Some(Tried::Larger(way)), Some(whole)) => {
                    prop_assert_eq!(&way.step, &whole.step);
                    prop_assert!(whole.effect.size() > most, "{whole:?} at {most}");
                    prop_assert!(way.effect.is_partial);
                    prop_assert!(way.effect.size() <= whole.effect.size());
                }
                _ => prop_assert!(false, "{told:?} {whole:?}"),
            }
        }
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, ..ProptestConfig::default() })]

    #[test]
    fn single_steps_are_all_there(declared in estates::estate(), request in estates::request()) {
        let made = Made::new(declared);
        let Some(verdict) = made.verdict(&request) else { return Ok(()) };
        let search = WaySearch::new(&made.declared, &made.engine, &request).expect("a request");
        let wanted = search.wanted();
        prop_assert_ne!(wanted, verdict);
        let mut singles = search.singles();
        let mut ways: Vec<Way> = singles.iter().filter_map(|one| search.tried(one)).collect();
        search.gauge(&mut singles);
        small_as_counted(&search, &singles)?;
        search.gauge_further(&mut singles, usize::MAX, &in_turn);
        small_as_counted(&search, &singles)?;
        rank(&mut ways);
        for pair in ways.windows(2) {
            let key = |way: &Way| (way.effect.size(), way.step.text());
            prop_assert!(key(&pair[0]) < key(&pair[1]), "{:?} {:?}", pair[0], pair[1]);
        }
        for way in &ways {
            let after = made.after(&way.step.edits).expect("an estate");
            prop_assert_eq!(after.verdict(&way.step.asked(&request)), Some(wanted));
            let elsewhere = search.elsewhere(way, (usize::MAX, usize::MAX), &in_turn);
            prop_assert_eq!(elsewhere, Some(made.turned_elsewhere(&after, &request)), "{:?}", way);
            let in_few_steps = search.elsewhere(way, (usize::MAX, 2), &in_turn);
            prop_assert!(in_few_steps.is_none() || in_few_steps == elsewhere);
        }
        let all: Vec<Vec<Step>> = match wanted {
            Verdict::Allow => {
                let lifts = lifts(&made, &request).into_iter().map(|one| vec![one]);
                grants(&made, &request, true).into_iter().chain(lifts).collect()
            }
            Verdict::Deny => closings(&made, &request).into_iter().map(|one| vec![one]).collect(),
        };
        prop_assert_eq!(by_text(&ways), working(&made, &request, wanted, all));
        // Circumstances: each does it, and no part of it does; what truth alone does is there.
        let given: Vec<&Way> = ways.iter().filter(|way| is_given(way)).collect();
        for name in ["mfa", "count", "ip", "folder", "dev.ok"] {
            if wanted == Verdict::Deny || request.given.iter().any(|(known, _)| *known == *name) {
                continue;
            }
            let works = [true, false].into_iter().any(|truth| {
                let options = vec![Choice::Given(name.to_owned(), Value::Boolean(truth))];
                made.verdict(&Step { options, ..Step::default() }.asked(&request)) == Some(wanted)
            });
            let alone = |way: &&&Way| matches!(&way.step.options[..], [Choice::Given(one, _)] if one == name);
            if works {
                prop_assert!(given.iter().find(alone).is_some(), "{name}: {given:?}");
            }
        }
    }

    #[test]
    fn pairs_are_all_there(
        declared in prop_oneof![estates::estate(), estate_with_a_stop()],
        // Few are refused so that one step does not do.
        requests in vec(estates::request(), 12),
    ) {
        let made = Made::new(declared);
        let needs_two = |request: &&Request<'static>| {
            made.verdict(request) == Some(Verdict::Deny) && {
                let search = WaySearch::new(&made.declared, &made.engine, request).expect("a request");
                search.singles().iter().all(|one| search.tried(one).is_none())
            }
        };
        let Some(request) = requests.iter().find(needs_two) else { return Ok(()) };
        let search = WaySearch::new(&made.declared, &made.engine, request).expect("a request");
        let (pairs, is_complete) = search.pairs(usize::MAX, usize::MAX);
        prop_assert!(is_complete);
        let ways: Vec<_> = pairs.iter().filter_map(|one| search.tried(one)).collect();
        let (gauged, _) = search.pairs(usize::MAX, 10);
        small_as_counted(&search, &gauged)?;
        let mut all: Vec<Vec<Step>> = Vec::new();
        let both = |one: &Step, other: &Step| Step {
            edits: [&one.edits[..], &other.edits].concat(),
            options: [&one.options[..], &other.options].concat(),
        };
        for first in lifts(&made, request) {
            let Some(after) = made.after(&first.edits) else { continue };
            let seconds = grants(&after, request, false).into_iter();
            all.extend(seconds.map(|each| each.iter().map(|one| both(&first, one)).collect()));
        }
        for way in &ways {
            let after = made.after(&way.step.edits).expect("an estate");
            prop_assert_eq!(after.verdict(&way.step.asked(request)), Some(Verdict::Allow));
        }
        prop_assert_eq!(by_text(&ways), working(&made, request, Verdict::Allow, all));
    }
}
