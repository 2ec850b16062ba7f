//! `ask --save-check`: the question just answered, kept as a check.

use std::io::Write as _;
use std::path::{Path, PathBuf};

use anyhow::{Context as _, bail};
use bexum_core::attribute::Value;
use bexum_core::declaration::{Check, List};
use bexum_core::origin::{Origin, Spanned};
use bexum_core::{Reason, Request, Time};
use bexum_files::{Loaded, append_check};

/// Writes the request and its answer into a file of the estate; the file's path below the root.
pub(super) fn save(
    root: &Path,
    name: &str,
    file: Option<&Path>,
    request: &Request<'_>,
    time: Option<Time>,
    reason: Reason,
) -> anyhow::Result<PathBuf> {
    if name.trim().is_empty() || name.contains(char::is_control) {
        bail!("a check's name has at least one letter, and no control character");
    }
    append_check(root, file, &check(name, request, time, reason), |loaded| {
        asks_the_same(loaded, name, request)
    })
    .with_context(|| format!("the check `{name}` was not saved"))
}

/// Whether the check of this name asks for this request and nothing else.
fn asks_the_same(loaded: &Loaded, name: &str, request: &Request<'_>) -> bool {
    let Some(check) = loaded.estate.checks.iter().find(|check| &*check.name == name) else {
        return false;
    };
    let asked: Vec<Request<'_>> = check.requests(request.time).map(sorted).collect();
    asked == [sorted(request.clone())]
}

/// The request with its attributes in the order of their names.
fn sorted(mut request: Request<'_>) -> Request<'_> {
    request.given.sort_by(|a, b| a.0.cmp(&b.0));
    if let Some(item) = &mut request.item {
        item.sort_by(|a, b| a.0.cmp(&b.0));
    }
    request
}

fn check(name: &str, request: &Request<'_>, time: Option<Time>, reason: Reason) -> Check {
    let word = |text: &str| Spanned::new(text.to_owned(), Origin::default());
    let one = |text: &str| List::new(vec![word(text)], Origin::default());
    let pair = |name: &str, value: &Value| (word(name), value.clone());
    let mut given: Vec<(Spanned<String>, Value)> =
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
        empty_tables: Default::default(),
        expect: reason.verdict(),
        reason: Some(Spanned::new(reason, Origin::default())),
        about: None,
        origin: Origin::default(),
    }
}

/// Writes a file as a whole: whoever reads it has the old text or the new one.
pub(super) fn replace_file(file: &Path, text: &[u8]) -> anyhow::Result<()> {
    let shown = || format!("cannot write `{}`", file.display());
    let parent = file.parent().filter(|parent| !parent.as_os_str().is_empty());
    let mut written =
        tempfile::NamedTempFile::new_in(parent.unwrap_or(Path::new("."))).with_context(shown)?;
    written.write_all(text).with_context(shown)?;
    written.persist(file).with_context(shown)?;
    Ok(())
}
