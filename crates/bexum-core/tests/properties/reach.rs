//! Effective access says, cell by cell, what asking says.

use bexum_core::engine::{Cells, Decider, Index};
use bexum_core::id::ActionId;
use bexum_core::reach::{self, SpotSort, Viewpoint};
use bexum_core::request::Place;
use bexum_core::{Estate, Query, Reading, Reason, Request};
use proptest::collection::vec;
use proptest::prelude::*;

use crate::estates;

/// What asking twice, strictly and hopefully, makes of a cell: allow, or depends, or neither.
fn asked(decider: &mut Decider<'_>, query: &Query<'_>) -> (bool, bool) {
    let strict = decider.decide(query) == Reason::Granted;
    let mut nobody = bexum_core::engine::Nothing;
    let hopeful = decider.decide_into(query, Reading::Hopeful, &mut nobody) == Reason::Granted;
    (strict, hopeful && !strict)
}

fn cell(cells: &Cells, action: ActionId) -> (bool, bool) {
    (cells.allow.contains(action.index()), cells.depends.contains(action.index()))
}

/// A request that resolves, for its viewpoint; its own question does not matter.
fn viewpoint(request: &Request<'_>, estate: &Estate) -> Option<Viewpoint> {
    let mut request = request.clone();
    request.does = "account.view".into();
    request.on = "v".into();
    request.item = None;
    Some(Viewpoint::of(&request.resolve(estate).ok()?))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn every_cell_is_what_ask_decides(
        declared in estates::estate(),
        requests in vec(estates::request(), 4),
    ) {
        let estate = Estate::build(&declared).expect("it builds");
        let index = Index::new(&estate);
        let mut decider = Decider::new(&index);
        let viewpoints: Vec<Viewpoint> =
            requests.iter().filter_map(|request| viewpoint(request, &estate)).collect();
        let rows = reach::by_principal(&index, &viewpoints, None);
        let declared_spots = rows.iter().filter(|row| {
            matches!(row.spot.sort, SpotSort::Scope | SpotSort::Identity)
        });
        prop_assert_eq!(declared_spots.count(), estate.scopes.len() + declared
            .users.iter().filter(|user| user.body.place.is_some()).count() + 2);
        for row in &rows {
            for (viewpoint, cells) in viewpoints.iter().zip(&row.cells) {
                let applicable = row.spot.applicable(&estate);
                prop_assert!(cells.allow.is_subset(applicable) && cells.depends.is_subset(applicable));
                for action in applicable.ones() {
                    let action = estate.catalogue.action_ids().nth(action).expect("an action");
                    let query = viewpoint.query(&row.spot, action);
                    prop_assert_eq!(
                        cell(cells, action), asked(&mut decider, &query),
                        "{} on {}", estate.catalogue.action(action).name, row.spot.shown
                    );
                }
            }
        }
    }

    #[test]
    fn by_target_and_by_action_say_the_same(
        declared in estates::estate(),
        request in estates::request(),
    ) {
        let estate = Estate::build(&declared).expect("it builds");
        let index = Index::new(&estate);
        let Some(view) = viewpoint(&request, &estate) else { return Ok(()) };
        let everybody: Vec<_> = estate.principals().collect();
        let spot = reach::spots(&estate, None).into_iter().find(|spot| spot.shown == "v/s/store").expect("it is there");
        let groups = reach::by_target(&index, &view, everybody.iter().copied(), &spot);
        prop_assert_eq!(groups.iter().map(|(_, who)| who.len()).sum::<usize>(), everybody.len());
        let wanted = spot.applicable(&estate).clone();
        let by_action =
            reach::by_action(&index, &view, everybody.iter().copied(), &wanted, Some(spot.scope()));
        for (cells, who) in groups {
            for who in who {
                let rows = by_action.iter().find(|(principal, _)| *principal == who);
                let there = rows.and_then(|(_, rows)| rows.iter().find(|row| row.spot == spot));
                let none = Cells::nothing(estate.catalogue.actions.len());
                let found = there.map_or(&none, |row| &row.cells[0]);
                prop_assert_eq!(found, &cells, "{:?}", who);
            }
        }
    }

    #[test]
    fn items_that_nothing_singles_out_are_as_their_row_says(
        declared in estates::estate(),
        request in estates::request(),
        name in "[a-z]{2,6}(/[a-z]{2,6}){0,2}",
    ) {
        let estate = Estate::build(&declared).expect("it builds");
        let index = Index::new(&estate);
        let Some(view) = viewpoint(&request, &estate) else { return Ok(()) };
        let mut decider = Decider::new(&index);
        let rows = reach::by_principal(&index, std::slice::from_ref(&view), None);
        for row in rows.iter().filter(|row| row.spot.sort == SpotSort::Items) {
            let scope = row.spot.scope();
            // Where nothing is singled out and no condition looks at the path, all items are alike.
            let singled = rows.iter().any(|other| {
                other.spot.sort == SpotSort::Pattern && other.spot.scope() == scope
            });
            let path = format!("{}/{name}", estate.scope(scope).path);
            let Ok(target) = bexum_core::request::resolve_target(&estate, &path) else { continue };
            if singled || target.place != Place::Item(scope) {
                continue;
            }
            for action in row.spot.applicable(&estate).ones() {
                let action = estate.catalogue.action_ids().nth(action).expect("an action");
                let mut query = view.query(&row.spot, action);
                let general = cell(&row.cells[0], action);
                query.target = target.clone();
                let special = asked(&mut decider, &query);
                // A row may be in doubt about what depends on an item's own name; never wrong.
                prop_assert!(general == special || general == (false, true), "{path}: {general:?} {special:?}");
            }
        }
    }
}
