//! What a change does to expectations: which break by it, and which are mended.

use std::collections::BTreeMap;

use bexum_core::Time;
use bexum_core::engine::Engine;
use bexum_core::prove::Tried;
use bexum_files::Sources;

use super::prove;
use crate::render::impact_besides::Turned;

/// The expectations that come to something else, by name.
pub(super) fn turned(engines: &[Engine; 2], sources: [&Sources; 2], now: Time) -> Vec<Turned> {
    let [before, after] =
        engines.each_ref().map(|engine| prove::tried(engine, now, &|_| true, false));
    // Two of a name are no two: names are unique within an estate, and so are places.
    let mut old: BTreeMap<(&str, &str), &Tried<'_>> = BTreeMap::new();
    old.extend(before.iter().map(|one| ((one.table(), one.name()), one)));
    let mut found: Vec<Turned> = Vec::new();
    for one in &after {
        let before = old.remove(&(one.table(), one.name()));
        let was = before.map(Tried::status);
        if was == Some(one.status()) || was.is_none() && one.holds() {
            continue;
        }
        found.push(Turned {
            what: format!("{} '{}'", one.table(), one.name()),
            name: one.name().to_owned(),
            was,
            is: Some(one.status()),
            is_broken: !one.holds() && before.is_none_or(Tried::holds),
            at: sources[1].shown(one.origin()),
        });
    }
    found.extend(old.into_values().filter(|one| !one.holds()).map(|one| Turned {
        what: format!("{} '{}'", one.table(), one.name()),
        name: one.name().to_owned(),
        was: Some(one.status()),
        is: None,
        is_broken: false,
        at: sources[0].shown(one.origin()),
    }));
    found.sort_by(|a, b| (!a.is_broken, &a.what).cmp(&(!b.is_broken, &b.what)));
    found
}
