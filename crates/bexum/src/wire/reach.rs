//! Effective access as JSON, version 1.

use std::io::{BufWriter, Write as _};

use bexum_core::catalogue::ActionSet;
use bexum_core::engine::{Cells, Decider, Engine};
use bexum_core::principal::Principal;
use bexum_core::reach::{self, Access, Crowd, Row, Spot, SpotSort, Viewpoint};
use serde_json::{Map, Value as Json, json};

use super::answer::VERSION;
use crate::exit::Exit;
use crate::render::grid_builder::{Column, acting, action_id, routes};
use crate::terminal::escape_json;

/// What each column's principal can do.
pub(crate) fn by_principal(
    engine: &Engine,
    columns: &[Column],
    rows: impl Iterator<Item = Row>,
    sources: bool,
    wanted: Option<&ActionSet>,
) -> anyhow::Result<Exit> {
    let mut shape = Shape { decider: Decider::new(engine), sources, wanted };
    let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
    let head = json!({ "version": VERSION, "by": "principal", "viewpoints": names });
    let rows = rows.map(|row| {
        let cells = columns.iter().zip(&row.access);
        let cells: Vec<Json> = cells
            .map(|(column, access)| shape.access(&column.viewpoint, &row.spot, access))
            .collect();
        json!({ "path": row.spot.shown, "sort": sort(row.spot.sort), "cells": cells })
    });
    write(&head, rows)
}

/// Who can do what at some places.
pub(crate) fn by_place(
    engine: &Engine,
    anybody: &Viewpoint,
    places: &[Crowd],
    sources: bool,
) -> anyhow::Result<Exit> {
    let mut shape = Shape { decider: Decider::new(engine), sources, wanted: None };
    let groups = places.iter().flat_map(|(spot, groups)| groups.iter().map(move |g| (spot, g)));
    let rows = groups.map(|(spot, (access, who))| {
        let names: Vec<String> = who.iter().map(|who| engine.estate().principal_id(*who)).collect();
        let told = shape.access(&anybody.seen_by(who[0]), spot, access);
        json!({
            "path": spot.shown, "sort": sort(spot.sort), "principals": names, "cells": [told],
        })
    });
    write(&json!({ "version": VERSION, "by": "place" }), rows)
}

/// Who can do some actions, and where, somebody after the other.
pub(crate) fn by_action(
    engine: &Engine,
    anybody: &Viewpoint,
    found: impl Iterator<Item = (Principal, Vec<Row>)>,
    sources: bool,
) -> anyhow::Result<Exit> {
    let mut shape = Shape { decider: Decider::new(engine), sources, wanted: None };
    let rows = found.flat_map(|(who, rows)| rows.into_iter().map(move |row| (who, row)));
    let rows = rows.map(|(who, row)| {
        // What was not asked about is not denied, so nothing is said of that.
        let told = shape.allowed(&anybody.seen_by(who), &row.spot, &row.access[0]);
        json!({
            "principals": [engine.estate().principal_id(who)],
            "path": row.spot.shown, "sort": sort(row.spot.sort), "cells": [told],
        })
    });
    write(&json!({ "version": VERSION, "by": "action" }), rows)
}

/// Writes an object whose last field is `rows`, a line each, none kept once it is written.
fn write(head: &Json, rows: impl Iterator<Item = Json>) -> anyhow::Result<Exit> {
    let mut out = BufWriter::with_capacity(1 << 16, std::io::stdout().lock());
    let head = escape_json(&head.to_string());
    write!(out, "{},\"rows\":[", head.trim_end_matches('}'))?;
    for (i, row) in rows.enumerate() {
        let row = escape_json(&row.to_string());
        write!(out, "{}\n  {row}", if i == 0 { "" } else { "," })?;
    }
    out.write_all(b"\n]}\n")?;
    out.flush()?;
    Ok(Exit::Done)
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
    /// The actions that were asked about, if not all.
    wanted: Option<&'e ActionSet>,
}

impl Shape<'_> {
    fn access(&mut self, viewpoint: &Viewpoint, spot: &Spot, access: &Access) -> Json {
        let engine = self.decider.index;
        let name = |i: usize| engine.estate().catalogue.actions[i].name.to_string();
        let mut told = self.allowed(viewpoint, spot, access);
        let (own, applicable) = (&access.own, spot.applicable(engine.estate()));
        let denied = |i: &usize| {
            let is_wanted = self.wanted.is_none_or(|wanted| wanted.contains(*i));
            is_wanted && !own.allow.contains(*i) && !own.depends.contains(*i)
        };
        let denied: Vec<String> = applicable.ones().filter(denied).map(name).collect();
        told["deny"] = json!(denied);
        told
    }

    /// What is not denied, by itself and by each role.
    fn allowed(&mut self, viewpoint: &Viewpoint, spot: &Spot, access: &Access) -> Json {
        let engine = self.decider.index;
        let mut told = self.cells(viewpoint, spot, &access.own);
        let by_role = access.by_role.iter().map(|(role, cells)| {
            let mut told = self.cells(&acting(viewpoint, Some(*role)), spot, cells);
            told["role"] = json!(engine.estate().principal_id(Principal::Role(*role)));
            told
        });
        let by_role: Vec<Json> = by_role.collect();
        if !by_role.is_empty() {
            told["by-role"] = Json::Array(by_role);
        }
        told
    }

    /// What is not denied, in one session.
    fn cells(&mut self, session: &Viewpoint, spot: &Spot, cells: &Cells) -> Json {
        let engine = self.decider.index;
        let name = |i: usize| engine.estate().catalogue.actions[i].name.to_string();
        let depends: Vec<Json> = cells
            .depends
            .ones()
            .map(|i| {
                let query = session.query(spot, action_id(engine.estate(), i));
                let doubt = reach::doubt(&mut self.decider, &query);
                json!({
                    "action": name(i), "needs": doubt.attributes, "conditions": doubt.conditions,
                })
            })
            .collect();
        let mut told = json!({
            "allow": cells.allow.ones().map(name).collect::<Vec<_>>(),
            "depends": depends,
        });
        if self.sources {
            let all = cells.allow.ones().map(|i| {
                let query = session.query(spot, action_id(engine.estate(), i));
                (name(i), json!(routes(&mut self.decider, &query)))
            });
            told["sources"] = Json::Object(all.collect::<Map<_, _>>());
        }
        told
    }
}
