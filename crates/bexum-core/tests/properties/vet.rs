//! What `vet` says that never happens does not happen in anything that is tried, and what it says
//! could go can go; nobody climbs farther than a plain search over edits that are really made.

use std::collections::{BTreeMap, BTreeSet};

use bexum_core::declaration::{Declarations, EditRights, Element};
use bexum_core::diagnostic::Severity;
use bexum_core::each::in_turn;
use bexum_core::edit::{Edit, ListOf, apply};
use bexum_core::edit_rights::{self, Side};
use bexum_core::engine::{Decider, Engine};
use bexum_core::impact::{Comparison, OwnSessions, SameFiles, differences};
use bexum_core::origin::Origin;
use bexum_core::policy::Effect;
use bexum_core::time::{Time, Window};
use bexum_core::vet::{Finding, RULES, Report, Vet};
use bexum_core::{Estate, Reason, Request, Trace, Truth};
use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;

use crate::estates::{self, list, w};

const NOW: Time = Time(0);

pub(crate) fn report(declared: &Declarations, rules: &[&str]) -> Report {
    let engine = Engine::new(estates::build(declared));
    let rules: Vec<_> = RULES.into_iter().filter(|rule| rules.contains(&rule.name)).collect();
    Vet::new(declared, &engine, NOW, &in_turn).report(&rules, &|_| {})
}

fn abouts(findings: &[Finding], rule: &str) -> BTreeSet<String> {
    findings.iter().filter(|one| one.rule == rule).map(|one| one.about.clone()).collect()
}

/// The estate after an edit, if it is one.
pub(crate) fn after(
    declared: &Declarations,
    edits: &[Edit],
    beside: &Estate,
) -> Option<(Declarations, Engine)> {
    let mut changed = declared.clone();
    for edit in edits {
        apply(edit, &mut changed, &beside.catalogue, NOW).ok()?;
    }
    let estate = Estate::build_beside(&changed, beside).ok()?;
    Some((changed, Engine::new(estate)))
}

/// Whether anything is opened or closed to anybody by an edit, in the whole estate; `None` where
/// that is not decided.
fn matters(declared: &Declarations, engine: &Engine, edit: &Edit) -> Option<bool> {
    let (_, changed) = after(declared, std::slice::from_ref(edit), engine.estate())?;
    let mut not_decided = false;
    for [one, other] in [[engine, &changed], [&changed, engine]] {
        let differing = differences(one.estate(), other.estate(), &SameFiles::default());
        let request = Request::new("", "", "", NOW);
        let comparison =
            Comparison::new(one, other, &differing, request).expect("no circumstances");
        let mut compared = comparison.compared_from_now_on();
        for who in comparison.everybody() {
            match compared.first_opened(who, None, &|_, _| true) {
                Some(cell) if cell.is_decided => return Some(true),
                Some(_) => not_decided = true,
                None => {}
            }
        }
        not_decided |= compared.is_limited();
    }
    (!not_decided).then_some(false)
}

fn is_open(element: &Element) -> bool {
    element.window.until.as_ref().is_none_or(|until| NOW < until.value)
}

/// Everything that could be taken away, by what a finding would be about; statements apart.
fn removals(declared: &Declarations) -> BTreeMap<String, Edit> {
    let mut found = BTreeMap::new();
    for one in &declared.attachments {
        if one.window.until.as_ref().is_some_and(|until| until.value <= NOW) {
            continue;
        }
        for policy in &one.policy.value {
            for to in &one.to.value {
                for at in &one.at.value {
                    let (policy, to, at) = (&policy.value, &to.value, &at.value);
                    let edit = Edit::Detach {
                        policies: vec![policy.clone()],
                        from: vec![to.clone()],
                        at: vec![at.clone()],
                    };
                    found.insert(format!("policy:{policy} to {to} at {at}"), edit);
                }
            }
        }
    }
    let is_disabled = |who: &str| {
        let mut users = declared.users.iter();
        users.any(|user| format!("user:{}", user.name.value) == who && !user.body.enabled)
    };
    let mut lists: Vec<(String, String, ListOf, &[Element])> = Vec::new();
    for group in &declared.groups {
        let name = group.name.value.clone();
        let members = group.body.members.as_deref().unwrap_or_default();
        lists.push((format!("group:{name}"), name, ListOf::Members, members));
    }
    for role in &declared.roles {
        let (name, id) = (role.name.value.clone(), format!("role:{}", role.name.value));
        lists.push((id.clone(), name.clone(), ListOf::HeldBy, &role.body.held_by));
        // One of these and one of those are told alike; either is looked at below.
        if role.body.held_by.is_empty() {
            lists.push((id, name, ListOf::TakenBy, &role.body.taken_by));
        }
    }
    for (id, name, list, elements) in lists {
        for one in elements.iter().filter(|one| is_open(one) && !is_disabled(&one.who.value)) {
            let who = one.who.value.clone();
            let edit = Edit::Remove { who: vec![who.clone()], list, of: name.clone() };
            found.insert(format!("{who} in {id}"), edit);
        }
    }
    found
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// What is said to have no effect has none, by the whole estate with and without it, and none of
    /// some requests is decided otherwise; what has none is told.
    #[test]
    fn what_has_no_effect_is_told_and_nothing_else(
        declared in estates::estate(),
        asks_who_is_in in any::<bool>(),
        requests in vec(estates::request(), 60),
    ) {
        let mut declared = declared;
        if asks_who_is_in {
            let statements = declared.policies.iter_mut().flat_map(|one| &mut one.body.statements);
            for when in statements.filter_map(|one| one.when.as_mut()) {
                when.value = "target.members overlaps ['user:u0', 'user:u1', 'group:g0']".to_owned();
            }
        }
        let engine = Engine::new(estates::build(&declared));
        let report = report(&declared, &["no-effect", "never-matches", "unused-thing"]);
        let told = abouts(&report.findings, "no-effect");
        for finding in report.findings.iter().filter(|one| one.rule == "no-effect") {
            let removals = removals(&declared);
            let removal = finding.remedy.first().cloned();
            let Some(removal) = removal.or_else(|| removals.get(&finding.about).cloned()) else { continue };
            prop_assert_ne!(matters(&declared, &engine, &removal), Some(true), "{:?}", finding);
            let (_, without) = after(&declared, &[removal], engine.estate()).expect("an estate");
            for request in &requests {
                if request.who.starts_with("group:") || !request.also.is_empty() || !request.under.is_empty() {
                    continue;
                }
                // A role asks by itself alone (spec-work section 8, "session").
                if request.who.starts_with("role:") && request.take_up.is_some() {
                    continue;
                }
                let verdict = |engine: &Engine| {
                    let query = request.resolve(engine.estate()).ok()?;
                    Some(Decider::new(engine).decide(&query).verdict())
                };
                prop_assert_eq!(verdict(&engine), verdict(&without), "{:?}: {:?}", finding, request);
            }
        }
        let is_silent = report.not_decided.iter().any(|(rule, _)| *rule == "no-effect");
        for (about, removal) in removals(&declared) {
            if !is_silent && matters(&declared, &engine, &removal) == Some(false) {
                prop_assert!(told.contains(&about), "{about} has no effect: {told:?}");
            }
        }
    }

    /// Where few steps may be taken in looking for circumstances, rules keep silent about what was not
    /// decided, say so, and find nothing else.
    #[test]
    fn in_few_steps_nothing_else_is_found(
        declared in estates::estate(),
        most_steps in select(&[0_usize, 1, 10, 100, 1_000][..]),
    ) {
        let mut declared = declared;
        declared.edit_rights = vec![EditRights {
            actions: vec![(w("scope.attach"), list(&["store.tag", "user.view"]))],
            no_more_than_own: false,
            origin: Origin::default(),
        }];
        let engine = Engine::new(estates::build(&declared));
        let names = ["never-matches", "outranked", "lockout", "climb"];
        let rules: Vec<_> = RULES.into_iter().filter(|rule| names.contains(&rule.name)).collect();
        let look = Vet::new(&declared, &engine, NOW, &in_turn).within_steps(most_steps);
        let few = look.report(&rules, &|_| {});
        let whole = report(&declared, &names);
        let told = |report: &Report, rule: &str| -> BTreeSet<String> {
            let of_rule = report.findings.iter().filter(|one| one.rule == rule);
            of_rule.flat_map(|one| one.alike.iter().chain([&one.about]).cloned()).collect()
        };
        for rule in names {
            let [few_told, all_told] = [told(&few, rule), told(&whole, rule)];
            prop_assert!(few_told.is_subset(&all_told), "{rule}: {few_told:?} {all_told:?}");
            let is_silent = few.not_decided.iter().any(|(silent, _)| *silent == rule);
            prop_assert!(is_silent || few_told == all_told, "{rule}: {few_told:?} {all_told:?}");
        }
    }

    /// No request has a statement match that is said never to match, nor is allowed by one that is
    /// said to be outranked.
    #[test]
    fn what_never_matches_or_grants_does_not(
        declared in estates::estate(),
        requests in vec(estates::request(), 120),
    ) {
        let engine = Engine::new(estates::build(&declared));
        let report = report(&declared, &["never-matches", "outranked"]);
        let dead = abouts(&report.findings, "never-matches");
        let outranked = abouts(&report.findings, "outranked");
        let estate = engine.estate();
        let called = |id| format!("policy:{}", estate.statement_label(id));
        for request in &requests {
            // A policy that bounds a session alone is tied nowhere, and a group by itself is nobody.
            if request.who.starts_with("group:") || !request.also.is_empty() || !request.under.is_empty() {
                continue;
            }
            let Ok(query) = request.resolve(estate) else { continue };
            let trace = Trace::of(&mut Decider::new(&engine), &query);
            let ceilings = trace.ceilings.iter().flat_map(|one| &one.statements);
            let of_ceilings = ceilings.filter(|one| one.truth == Truth::True).map(|one| one.statement);
            let others = trace.allows.iter().chain(&trace.denies).map(|one| one.candidate.statement);
            for id in others.chain(of_ceilings) {
                prop_assert!(!dead.contains(&called(id)), "{} matches {request:?}", called(id));
            }
            if trace.reason == Reason::Granted {
                for finding in &trace.allows {
                    let name = called(finding.candidate.statement);
                    prop_assert!(!outranked.contains(&name), "{name} grants {request:?}");
                }
            }
        }
    }
}

/// What somebody may try for themselves: every edit of the sorts that the docs name, allowed or not.
fn tries(declared: &Declarations, who: &str) -> Vec<Vec<Edit>> {
    let mut found = Vec::new();
    let add = |list, of: &str| {
        vec![Edit::Add {
            who: vec![who.to_owned()],
            list,
            of: of.to_owned(),
            window: Window::ALWAYS,
        }]
    };
    for group in &declared.groups {
        found.push(add(ListOf::Members, &group.name.value));
    }
    for role in &declared.roles {
        found.push(add(ListOf::HeldBy, &role.name.value));
        found.push(add(ListOf::TakenBy, &role.name.value));
    }
    for policy in &declared.policies {
        let name = policy.name.value.clone();
        for scope in &declared.scopes {
            found.push(vec![Edit::Attach {
                policies: vec![name.clone()],
                to: vec![who.to_owned()],
                at: vec![scope.name.value.clone()],
                window: Window::ALWAYS,
            }]);
        }
        found.push(vec![Edit::State {
            policy: name.clone(),
            effect: Effect::Allow,
            actions: vec!["*".to_owned()],
            on: Vec::new(),
            when: None,
            name: None,
        }]);
        let denies = policy.body.statements.iter().filter(|one| one.effect == Effect::Deny);
        for (i, _) in denies.enumerate() {
            let statement = format!("deny {}", i + 1);
            found.push(vec![Edit::Strike { policy: name.clone(), statement }]);
        }
    }
    for one in &declared.attachments {
        for policy in &one.policy.value {
            for to in &one.to.value {
                for at in &one.at.value {
                    found.push(vec![Edit::Detach {
                        policies: vec![policy.value.clone()],
                        from: vec![to.value.clone()],
                        at: vec![at.value.clone()],
                    }]);
                }
            }
        }
    }
    found
}

/// The gravest that somebody comes to hold by a change: whether it is an account to govern, and the
/// level's place. What another session of theirs could do before, in the same circumstances, is nothing
/// that they come to hold.
fn gravity(before: &Engine, changed: &Engine, who: &str) -> Option<(bool, usize)> {
    let differing = differences(before.estate(), changed.estate(), &SameFiles::default());
    let request = Request::new("", "", "", NOW);
    let comparison =
        Comparison::new(before, changed, &differing, request).expect("no circumstances");
    let mut compared = comparison.compared();
    let estate = changed.estate();
    let cells = compared.cells_of(who);
    let by = Request::new(who, "", "", NOW);
    let mut own = OwnSessions::new(before, &by).expect("a user");
    let gained = cells.iter().filter(|cell| cell.is_new_gain() && cell.is_decided);
    let gained = gained.filter(|cell| {
        let is_it = |place: &str, action: &str| place == cell.place && action == cell.action;
        let opened = compared.first_opened(who, Some(&mut own), &is_it);
        opened.is_some_and(|opened| opened.is_decided)
    });
    let gravities = gained.map(|cell| {
        let action = estate.catalogue.find_action(&cell.action).expect("an action");
        let level = estate.catalogue.action(action).level as usize;
        (level == 3 && !cell.place.contains('/'), level)
    });
    gravities.max()
}

/// Whether somebody may make a change, by themselves or with a role taken up.
fn may(before: Side<'_>, changed: Side<'_>, who: &str) -> bool {
    let roles = before.engine.estate().roles.iter();
    let roles = roles.map(|role| Some(format!("role:{}", role.identity.name)));
    std::iter::once(None).chain(roles).any(|role| {
        let mut request = Request::new(who.to_owned(), "", "", NOW);
        request.take_up = role.clone().map(Into::into);
        let ruling = edit_rights::ruling(before, changed, &SameFiles::default(), &request);
        // With a role that they cannot take up they may do nothing by right; what is their own right
        // they may do without.
        let is_takeable = role.is_none_or(|role| {
            let view = request.viewpoint(before.engine.estate()).expect("a user");
            let all = bexum_core::reach::sessions(
                &mut Decider::new(before.engine),
                &bexum_core::reach::Viewpoint { take_up: None, ..view },
            );
            let estate = before.engine.estate();
            all.iter().any(|one| {
                one.take_up
                    .is_some_and(|id| format!("role:{}", estate.role(id).identity.name) == role)
            })
        });
        is_takeable && ruling.is_ok_and(|ruling| ruling.is_allowed())
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 6, ..ProptestConfig::default() })]

    /// In a step or two nobody comes farther than `climb` says, and who is said to, comes there.
    #[test]
    fn a_plain_search_climbs_as_far(
        declared in estates::estate(),
        rights in vec((select(&["group.members", "role.holders", "policy.statements", "scope.attach", "scope.limit"][..]), select(&["user.view", "group.view", "role.view", "policy.view", "account.view", "store.tag", "namespace.view"][..])), 1..5),
        only_own in any::<bool>(),
    ) {
        let mut declared = declared;
        let actions: BTreeMap<&str, Vec<&str>> = rights.iter().fold(BTreeMap::new(), |mut all, (key, action)| {
            let list: &mut Vec<&str> = all.entry(*key).or_default();
            if !list.contains(action) {
                list.push(action);
            }
            all
        });
        declared.edit_rights = vec![EditRights {
            actions: actions.iter().map(|(key, all)| (w(key), list(all))).collect(),
            no_more_than_own: only_own,
            origin: Origin::default(),
        }];
        // Statements have no names, and nothing has an end, so that edits of both are the same.
        for policy in &mut declared.policies {
            policy.body.statements.iter_mut().for_each(|one| one.name = None);
        }
        let engine = Engine::new(estates::build(&declared));
        let told = report(&declared, &["climb"]);
        let start = Side { declared: &declared, engine: &engine };
        for who in ["user:u0", "user:u1", "user:u2"] {
            let Some(user) = engine.estate().find_principal(who) else { continue };
            let bexum_core::Principal::User(id) = user else { continue };
            if !engine.estate().user(id).enabled {
                continue;
            }
            let mut best: [Option<(bool, usize)>; 2] = [None, None];
            for first in tries(&declared, who) {
                let Some((one, one_engine)) = after(&declared, &first, engine.estate()) else { continue };
                let side = Side { declared: &one, engine: &one_engine };
                if !may(start, side, who) {
                    continue;
                }
                let gained = gravity(&engine, &one_engine, who);
                best[0] = best[0].max(gained);
                best[1] = best[1].max(gained);
                // A second step, of the sorts that most often help.
                for second in tries(&one, who).into_iter().filter(|edits| !matches!(edits[0], Edit::Attach { .. } | Edit::Detach { .. })) {
                    let Some((two, two_engine)) = after(&one, &second, engine.estate()) else { continue };
                    if best[1] < Some((true, 3)) && may(side, Side { declared: &two, engine: &two_engine }, who) {
                        best[1] = best[1].max(gravity(&engine, &two_engine, who));
                    }
                }
            }
            let is_cut = !told.not_decided.is_empty();
            let alike = |one: &&Finding| one.about == who || one.details.iter().any(|line| line.starts_with("so can") && line.contains(who));
            let finding = told.findings.iter().find(alike);
            let said = finding.map(|finding| {
                let level = ["observe", "operate", "alter", "govern"].iter().position(|level| finding.message.contains(&format!("(`{level}`"))).expect("a level");
                ((finding.severity == Severity::Error, level), finding.message.contains("in a step"))
            });
            if let Some(two) = best[1] {
                prop_assert!(is_cut || said.is_some_and(|(gravity, _)| gravity >= two), "{who} comes to {two:?}, told {said:?}");
            }
            if let Some((gravity, true)) = said {
                prop_assert_eq!(best[0], Some(gravity), "{} {:?}", who, finding);
            }
        }
    }
}
