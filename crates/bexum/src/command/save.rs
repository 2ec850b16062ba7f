//! `ask --save-check`: the question just answered, kept as a check.

use std::path::{Path, PathBuf};

use anyhow::{Context as _, bail};
use bexum_core::attribute::Value;
use bexum_core::declaration::{Check, List};
use bexum_core::origin::{Origin, Written};
use bexum_core::{Reason, Request, Time};
use bexum_files::{Loaded, append_check};

/// The file for checks where none has any yet.
const NEW_FILE: &str = "checks.toml";

/// Writes the request and its answer into a file of the estate; the file's path below the root.
pub(super) fn save(
    loaded: &Loaded,
    name: &str,
    file: Option<&Path>,
    request: &Request<'_>,
    time: Option<Time>,
    reason: Reason,
) -> anyhow::Result<PathBuf> {
    let estate = &loaded.estate;
    if name.trim().is_empty() || name.contains(char::is_control) {
        bail!("a check's name has at least one letter, and no control character");
    }
    let taken = estate.checks.iter().map(|check| (&check.name, check.origin));
    let taken = taken.chain(estate.laws.iter().map(|law| (&law.name, law.origin)));
    let mut taken = taken.chain(estate.separations.iter().map(|s| (&s.name, s.origin)));
    if let Some((_, origin)) = taken.find(|(known, _)| &***known == name) {
        let written = loaded.sources.shown(origin);
        bail!("something is called `{name}` already ({written}): choose another name");
    }
    let file = match file {
        Some(file) => file.to_path_buf(),
        // Where the last check stands.
        None => estate.checks.last().map_or(PathBuf::from(NEW_FILE), |check| {
            loaded.sources.get(check.origin.file).path.clone()
        }),
    };
    append_check(&loaded.sources, &file, &check(name, request, time, reason))
        .with_context(|| format!("the check `{name}` was not saved"))?;
    Ok(file)
}

fn check(name: &str, request: &Request<'_>, time: Option<Time>, reason: Reason) -> Check {
    let word = |text: &str| Written::new(text.to_owned(), Origin::default());
    let one = |text: &str| List::new(vec![word(text)], Origin::default());
    let pair = |name: &str, value: &Value| (word(name), value.clone());
    let mut given: Vec<(Written<String>, Value)> =
        time.map(|time| (word("time"), Value::Text(time.to_string().into()))).into_iter().collect();
    let mut absent = Vec::new();
    for (name, value) in &request.given {
        match value {
            Some(value) => given.push(pair(name, value)),
            None => absent.push(word(name)),
        }
    }
    Check {
        name: word(name),
        who: one(&request.who),
        does: one(&request.does),
        on: one(&request.on),
        take_up: request.take_up.as_ref().map(|role| word(role)),
        also: request.also.iter().map(|group| word(group)).collect(),
        under: request.under.iter().map(|policy| word(policy)).collect(),
        given,
        absent,
        item: request
            .item
            .as_ref()
            .map(|item| item.iter().map(|(name, value)| pair(name, value)).collect()),
        expect: reason.verdict(),
        reason: Some(Written::new(reason, Origin::default())),
        about: None,
        origin: Origin::default(),
    }
}
