//! Effective access as JSON, version 1.

use bexum_core::engine::{Cells, Decider, Index};
use bexum_core::principal::Principal;
use bexum_core::reach::{self, Crowd, Row, Spot, SpotSort, Viewpoint};
use serde_json::{Map, Value as Json, json};

use super::answer::VERSION;
use crate::render::sketch::{Column, action_id, routes};

/// What each column's principal can do.
pub(crate) fn by_principal(
    index: &Index<'_>,
    columns: &[Column],
    rows: &[Row],
    sources: bool,
) -> Json {
    let mut shape = Shape { decider: Decider::new(index), sources };
    let rows: Vec<Json> = rows
        .iter()
        .map(|row| {
            let cells = columns.iter().zip(&row.cells);
            let cells: Vec<Json> = cells
                .map(|(column, cells)| shape.cells(&column.viewpoint, &row.spot, cells))
                .collect();
            json!({ "path": row.spot.shown, "sort": sort(row.spot.sort), "cells": cells })
        })
        .collect();
    let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
    json!({ "version": VERSION, "by": "principal", "viewpoints": names, "rows": rows })
}

/// Who can do what at some places.
pub(crate) fn by_place(
    index: &Index<'_>,
    anybody: &Viewpoint,
    places: &[Crowd],
    sources: bool,
) -> Json {
    let mut shape = Shape { decider: Decider::new(index), sources };
    let mut rows = Vec::new();
    for (spot, groups) in places {
        for (cells, who) in groups {
            let names: Vec<String> =
                who.iter().map(|who| index.estate.principal_id(*who)).collect();
            let told = shape.cells(&anybody.seen_by(who[0]), spot, cells);
            rows.push(json!({
                "path": spot.shown, "sort": sort(spot.sort), "principals": names, "cells": [told],
            }));
        }
    }
    json!({ "version": VERSION, "by": "place", "rows": rows })
}

/// Who can do some actions, and where.
pub(crate) fn by_action(
    index: &Index<'_>,
    anybody: &Viewpoint,
    found: &[(Principal, Vec<Row>)],
    sources: bool,
) -> Json {
    let mut shape = Shape { decider: Decider::new(index), sources };
    let mut rows = Vec::new();
    for (who, there) in found {
        let viewpoint = anybody.seen_by(*who);
        for row in there {
            let mut told = shape.cells(&viewpoint, &row.spot, &row.cells[0]);
            // What was not asked about is not denied.
            if let Some(told) = told.as_object_mut() {
                told.remove("deny");
            }
            rows.push(json!({
                "principals": [index.estate.principal_id(*who)],
                "path": row.spot.shown, "sort": sort(row.spot.sort), "cells": [told],
            }));
        }
    }
    json!({ "version": VERSION, "by": "action", "rows": rows })
}

fn sort(sort: SpotSort) -> &'static str {
    match sort {
        SpotSort::Scope => "scope",
        SpotSort::Identity => "identity",
        SpotSort::Items => "items",
        SpotSort::Pattern => "some-items",
    }
}

struct Shape<'e> {
    decider: Decider<'e>,
    sources: bool,
}

impl Shape<'_> {
    fn cells(&mut self, viewpoint: &Viewpoint, spot: &Spot, cells: &Cells) -> Json {
        let index = self.decider.index;
        let name = |i: usize| index.estate.catalogue.actions[i].name.to_string();
        let applicable = spot.applicable(index.estate);
        let denied = |i: &usize| !cells.allow.contains(*i) && !cells.depends.contains(*i);
        let depends: Vec<Json> = cells
            .depends
            .ones()
            .map(|i| {
                let query = viewpoint.query(spot, action_id(index, i));
                let doubt = reach::doubt(&mut self.decider, &query);
                json!({
                    "action": name(i), "needs": doubt.attributes, "conditions": doubt.conditions,
                })
            })
            .collect();
        let mut told = json!({
            "allow": cells.allow.ones().map(name).collect::<Vec<_>>(),
            "depends": depends,
            "deny": applicable.ones().filter(denied).map(name).collect::<Vec<_>>(),
        });
        if self.sources {
            let all = cells.allow.ones().map(|i| {
                let query = viewpoint.query(spot, action_id(index, i));
                (name(i), json!(routes(&mut self.decider, &query)))
            });
            told["sources"] = Json::Object(all.collect::<Map<_, _>>());
        }
        told
    }
}
