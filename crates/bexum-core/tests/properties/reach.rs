//! Effective access says, cell by cell, what asking says.

use bexum_core::engine::{Cells, Decider, Engine};
use bexum_core::id::ActionId;
use bexum_core::reach::{self, Access, Actors, Classes, Limited, TargetSort, Viewpoint};
use bexum_core::request::TargetPlace;
use bexum_core::{Estate, Query, Reading, Reason, Request};
use proptest::collection::vec;
use proptest::prelude::*;
use proptest::strategy::ValueTree as _;
use proptest::test_runner::TestRunner;
use std::collections::BTreeSet;
use std::sync::Arc;

use crate::estates;

/// What asking twice, strictly and hopefully, makes of a cell: allow, or depends, or neither.
fn asked(decider: &mut Decider<'_>, query: &Query<'_>) -> (bool, bool) {
    let strict = decider.decide(query) == Reason::Granted;
    let mut nobody = bexum_core::engine::NullSink;
    let hopeful = decider.decide_into(query, Reading::Hopeful, &mut nobody) == Reason::Granted;
    (strict, hopeful && !strict)
}

fn cell(cells: &Cells, action: ActionId) -> (bool, bool) {
    (cells.allow.contains(action.index()), cells.depends.contains(action.index()))
}

/// Its own question does not matter.
fn viewpoint(request: &Request<'_>, estate: &Estate) -> Option<Viewpoint> {
    request.viewpoint(estate).ok()
}

/// What somebody can do of one action in some session: at most what all of them allow.
fn together(access: &Access, action: ActionId) -> (bool, bool) {
    let all: Vec<(bool, bool)> = access.sessions().map(|(_, cells)| cell(cells, action)).collect();
    let allow = all.iter().any(|(allow, _)| *allow);
    (allow, !allow && all.iter().any(|(_, depends)| *depends))
}

/// More names than any pattern of the estates has.
const MORE_THAN_ANY_PATTERN: usize = 6;

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn every_cell_is_what_ask_decides(
        declared in estates::estate(),
        requests in vec(estates::request(), 4),
    ) {
        let estate = Arc::new(Estate::build(&declared).expect("it builds"));
        let engine = Engine::new(Arc::clone(&estate));
        let mut decider = Decider::new(&engine);
        let viewpoints: Vec<Viewpoint> =
            requests.iter().filter_map(|request| viewpoint(request, &estate)).collect();
        let people: Vec<Vec<Viewpoint>> =
            viewpoints.iter().map(|one| reach::sessions(&mut decider, one)).collect();
        let rows = reach::by_principal(&engine, &people, None, &mut Limited::new());
        let declared_targets = rows.iter().filter(|row| {
            matches!(row.target.sort, TargetSort::Scope | TargetSort::Identity)
        });
        prop_assert_eq!(declared_targets.count(), estate.scopes.len() + declared
            .users.iter().filter(|user| user.body.place.is_some()).count() + 3);
        for row in &rows {
            for (sessions, access) in people.iter().zip(&*row.access) {
                let applicable = row.target.applicable(&estate);
                prop_assert!(access.own.allow.is_subset(applicable));
                prop_assert!(access.own.depends.is_subset(applicable));
                for action in applicable.ones() {
                    let action = estate.catalogue.action_ids().nth(action).expect("an action");
                    let each: Vec<(bool, bool)> = sessions
                        .iter()
                        .map(|session| asked(&mut decider, &session.query(&row.target, action)))
                        .collect();
                    let told = format!("{} on {}", estate.catalogue.action(action).name, row.target.shown);
                    prop_assert_eq!(cell(&access.own, action), each[0], "{}", &told);
                    let allow = each.iter().any(|(allow, _)| *allow);
                    let depends = !allow && each.iter().any(|(_, depends)| *depends);
                    prop_assert_eq!(together(access, action), (allow, depends), "{}", &told);
                }
            }
        }
    }

    /// Names that no code under test chose are put where a row leaves names open: what the row says
    /// for certain holds of each of them, whatever the item bears.
    #[test]
    fn items_are_as_the_row_that_stands_for_them(
        declared in estates::estate(),
        request in estates::request(),
        name in "[a-z]{2,5}",
        more in 1..4_usize,
    ) {
        let estate = Arc::new(Estate::build(&declared).expect("it builds"));
        let engine = Engine::new(Arc::clone(&estate));
        let Some(view) = viewpoint(&request, &estate) else { return Ok(()) };
        let mut decider = Decider::new(&engine);
        // So many names as no pattern has, none of them in any.
        let open = vec![format!("q{name}q"); MORE_THAN_ANY_PATTERN + more].join("/");
        for session in reach::sessions(&mut decider, &view) {
            for target in reach::AccessTargets::new(&estate).below(None) {
                let scope = target.scope();
                let path = estate.scope(scope).path.to_string();
                for target in reach::targets_for(&mut decider, &session, target, &mut Limited::new()) {
                    if !matches!(target.sort, TargetSort::Items | TargetSort::Pattern) {
                        continue;
                    }
                    let cells = reach::cells_at(&mut decider, &session, &target, None);
                    let rest = &target.shown[path.len() + 1..];
                    let filled: Vec<String> = rest.split('/').map(|segment| match segment {
                        "**" => open.clone(),
                        _ => segment.replace('*', &format!("q{name}q")),
                    }).collect();
                    let filled = format!("{path}/{}", filled.join("/"));
                    let item = bexum_core::request::resolve_target(&estate, &filled);
                    prop_assert!(item.is_ok(), "{}: {:?}", target.shown, item);
                    let item = item.expect("just seen");
                    prop_assert_eq!(item.place, TargetPlace::Item(scope), "{}", target.shown);
                    for action in target.applicable(&estate).ones() {
                        let action = estate.catalogue.action_ids().nth(action).expect("an action");
                        let mut query = session.query(&target, action);
                        query.target = item.clone();
                        query.item_is_open = false;
                        let granted = decider.decide(&query) == Reason::Granted;
                        match cell(&cells, action) {
                            (true, _) => prop_assert!(granted, "{} as {filled}", target.shown),
                            (_, false) => prop_assert!(!granted, "{} as {filled}", target.shown),
                            _ => {}
                        }
                    }
                }
            }
        }
    }

    #[test]
    fn by_target_and_by_action_say_the_same(
        declared in estates::estate(),
        request in estates::request(),
    ) {
        let estate = Arc::new(Estate::build(&declared).expect("it builds"));
        let engine = Engine::new(Arc::clone(&estate));
        let Some(view) = viewpoint(&request, &estate) else { return Ok(()) };
        let everybody: Vec<_> = estate.principals().collect();
        let targets = reach::AccessTargets::new(&estate);
        let target = targets.below(None).find(|target| target.shown == "v/s/store/**").expect("it is there");
        let crowds = reach::by_target(&engine, &view, true, &everybody, &target, &mut Limited::new());
        let wanted = target.applicable(&estate).clone();
        let mut actors = Actors::new(&engine, wanted, Some(target.scope()));
        for (target, groups) in crowds {
            prop_assert_eq!(groups.iter().map(|(_, who)| who.len()).sum::<usize>(), everybody.len());
            for (access, who) in groups {
                for who in who {
                    let sessions = actors.sessions(&view.seen_by(who));
                    let rows = actors.rows(&sessions);
                    let there = rows.iter().find(|row| row.target == target);
                    match there {
                        Some(row) => prop_assert_eq!(&row.access[0], &access, "{:?}", who),
                        // Items that only others' patterns single out are no row of theirs.
                        None if target.sort == TargetSort::Pattern => {
                            let mut decider = Decider::new(&engine);
                            let asked = reach::access_at(&mut decider, &sessions, &target, None);
                            prop_assert_eq!(&asked, &access, "{:?}", who);
                        }
                        None => prop_assert!(access.is_nothing(), "{:?}", who),
                    }
                    // The csv has every cell of every session.
                    for session in &sessions {
                        for (at, cells) in actors.cells_on(session, [target.clone()]) {
                            let mut decider = Decider::new(&engine);
                            prop_assert_eq!(reach::cells_at(&mut decider, session, &at, None), cells);
                        }
                    }
                }
            }
        }
    }

    /// Scopes of one class are worked out once: that is the same as each by itself.
    #[test]
    fn scopes_of_a_class_are_alike(
        declared in estates::estate_with_stores(),
        requests in vec(estates::request(), 1..3),
    ) {
        let estate = Arc::new(Estate::build(&declared).expect("it builds"));
        let engine = Engine::new(Arc::clone(&estate));
        let mut decider = Decider::new(&engine);
        let viewpoints = requests.iter().filter_map(|request| viewpoint(request, &estate));
        let people: Vec<Vec<Viewpoint>> =
            viewpoints.map(|one| reach::sessions(&mut decider, &one)).collect();
        let (mut limited, mut each_limited) = (Limited::new(), Limited::new());
        let rows = reach::by_principal(&engine, &people, None, &mut limited);
        let targets = reach::AccessTargets::new(&estate);
        let each = targets.below(None).flat_map(|target| {
            reach::rows_at(&mut decider, &people, target, None, &mut each_limited)
        });
        for (one, other) in rows.iter().zip(each.collect::<Vec<_>>()) {
            prop_assert_eq!(one, &other);
        }
        prop_assert_eq!(limited, each_limited);
    }
}

/// The property above says something only where there are classes of several scopes.
#[test]
fn there_are_scopes_of_a_class() {
    let mut runner = TestRunner::deterministic();
    let (mut shared, mut all) = (0, 0);
    for _ in 0..100 {
        let one = (estates::estate_with_stores(), estates::request());
        let (declared, request) = one.new_tree(&mut runner).expect("an estate").current();
        let estate = Arc::new(Estate::build(&declared).expect("it builds"));
        let engine = Engine::new(Arc::clone(&estate));
        let Some(view) = viewpoint(&request, &estate) else { continue };
        let sessions = reach::sessions(&mut Decider::new(&engine), &view);
        let classes = Classes::new(&engine, &sessions);
        let known: Vec<u32> = reach::AccessTargets::new(&estate)
            .below(None)
            .filter_map(|target| classes.of(&target))
            .collect();
        all += known.len();
        shared += known.len() - known.iter().collect::<BTreeSet<_>>().len();
    }
    assert!(shared * 10 > all, "{shared} of {all} scopes are as another one");
}
