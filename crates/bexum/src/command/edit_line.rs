//! From edits as typed to edits as data.

use anyhow::{Context as _, bail};
use bexum_core::Time;
use bexum_core::attribute::Value;
use bexum_core::edit::{Edit, Keyed, ListOf, Target};
use bexum_core::policy::Effect;
use bexum_core::time::{Window, length_in_micros};
use clap::Parser as _;

use super::circumstances::read_pair;
use crate::args::edit::{Line, New, OneLine, Span, Statement};

/// The edits of a text, a line each, with the lines they stand on, from 1.
pub(super) fn of_text(text: &str, now: Time) -> anyhow::Result<Vec<(usize, String, Edit)>> {
    let mut found = Vec::new();
    for (at, line) in text.lines().enumerate() {
        let at = at + 1;
        let words =
            shlex::split(line).with_context(|| format!("line {at}: a quote is not closed"))?;
        if words.is_empty() {
            continue;
        }
        let typed = OneLine::try_parse_from(&words).map_err(|error| {
            let text = error.to_string();
            let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
            anyhow::anyhow!("line {at}: {first}")
        })?;
        let edit = of_line(typed.edit, now).with_context(|| format!("line {at}"))?;
        found.push((at, line.trim().to_owned(), edit));
    }
    Ok(found)
}

/// An edit as data. `now`, in whole seconds, is from when something lasts that begins at once.
pub(super) fn of_line(line: Line, now: Time) -> anyhow::Result<Edit> {
    let policy = |text: &str| bare("policy", text);
    let set = |target: Target, key: &str, value: bool| Edit::Set {
        target,
        keys: vec![(key.to_owned(), Value::Boolean(value))],
    };
    Ok(match line {
        Line::New(new) => of_new(*new)?,
        Line::Copy { from, to, drop, keep } => {
            Edit::Copy { from: policy(&from)?, to: policy(&to)?, drop, keep }
        }
        Line::Allow(statement) => of_statement(statement, Effect::Allow)?,
        Line::Deny(statement) => of_statement(statement, Effect::Deny)?,
        Line::Strike { policy: name, statement } => {
            Edit::Strike { policy: policy(&name)?, statement }
        }
        Line::Restate { policy: name, statement, actions, on } => {
            Edit::Restate { policy: policy(&name)?, statement, actions, on }
        }
        Line::Spare { policy: name, statement, paths } => {
            Edit::Spare { policy: policy(&name)?, statement, paths }
        }
        Line::Set { target, pairs } => {
            let keys = pairs.iter().map(|pair| keyed(pair)).collect::<anyhow::Result<_>>()?;
            Edit::Set { target: Target::parse(&target), keys }
        }
        Line::Unset { target, keys } => Edit::Unset { target: Target::parse(&target), keys },
        Line::Add { who, to, owner, taken, span } => {
            let (list, of) = list_of(&to, owner, taken)?;
            Edit::Add { who, list, of, window: window(&span, now)? }
        }
        Line::Remove { who, from, owner, taken } => {
            let (list, of) = list_of(&from, owner, taken)?;
            Edit::Remove { who, list, of }
        }
        Line::Attach { policies, to, at, span } => {
            let policies = policies.iter().map(|one| policy(one)).collect::<anyhow::Result<_>>()?;
            Edit::Attach { policies, to, at: paths(at), window: window(&span, now)? }
        }
        Line::Detach { policies, from, at } => {
            let policies = policies.iter().map(|one| policy(one)).collect::<anyhow::Result<_>>()?;
            Edit::Detach { policies, from, at: paths(at) }
        }
        Line::Limit { policy: name, over, bound, span } => Edit::Limit {
            policy: policy(&name)?,
            over: paths(over),
            bound,
            window: window(&span, now)?,
        },
        Line::Unlimit { policy: name, over, bound } => {
            Edit::Unlimit { policy: policy(&name)?, over: paths(over), bound }
        }
        Line::Disable { user } => set(Target::User(bare("user", &user)?), "enabled", false),
        Line::Enable { user } => set(Target::User(bare("user", &user)?), "enabled", true),
        Line::Seal { path } => set(Target::Scope(None, plain(path)), "sealed", true),
        Line::Unseal { path } => set(Target::Scope(None, plain(path)), "sealed", false),
        Line::AskIn { user, to, why } => {
            Edit::AskIn { user: bare("user", &user)?, group: bare("group", &to)?, why }
        }
        Line::Approve { user, to, span } => Edit::Approve {
            user: bare("user", &user)?,
            group: bare("group", &to)?,
            window: window(&span, now)?,
        },
        Line::Decline { user, to } => {
            Edit::Decline { user: bare("user", &user)?, group: bare("group", &to)? }
        }
        Line::Rename { old, new } => Edit::Rename { target: Target::parse(&old), to: new },
        Line::Delete { target, hand_over, with_uses } => {
            let hand_over = hand_over.map(|user| bare("user", &user)).transpose()?;
            Edit::Delete { target: Target::parse(&target), hand_over, with_uses }
        }
    })
}

/// The name after `user:` and the like.
pub(super) fn bare(what: &str, text: &str) -> anyhow::Result<String> {
    match text.split_once(':') {
        Some((word, name)) if word == what => Ok(name.to_owned()),
        _ => bail!("`{text}` is no {what}: write {what}:NAME"),
    }
}

fn plain(path: String) -> String {
    path.strip_suffix('/').map(str::to_owned).unwrap_or(path)
}

fn paths(all: Vec<String>) -> Vec<String> {
    all.into_iter().map(plain).collect()
}

fn list_of(of: &str, owner: bool, taken: bool) -> anyhow::Result<(ListOf, String)> {
    Ok(match of.split_once(':') {
        Some(("group", _)) if taken => bail!("`--taken` is for roles: nobody takes up {of}"),
        Some(("role", _)) if owner => bail!("`--owner` is for groups: nobody owns {of}"),
        Some(("group", name)) if owner => (ListOf::Owners, name.to_owned()),
        Some(("group", name)) => (ListOf::Members, name.to_owned()),
        Some(("role", name)) if taken => (ListOf::TakenBy, name.to_owned()),
        Some(("role", name)) => (ListOf::HeldBy, name.to_owned()),
        _ => bail!("`{of}` is no group and no role: write group:NAME or role:NAME"),
    })
}

fn of_statement(typed: Statement, effect: Effect) -> anyhow::Result<Edit> {
    let Statement { policy, actions, on, when, name } = typed;
    Ok(Edit::State { policy: bare("policy", &policy)?, effect, actions, on, when, name })
}

/// Keys whose values are `true` or `false`.
const BOOLEANS: [&str; 3] = ["enabled", "sealed", "locked"];
/// Keys whose values are lists of texts.
const LISTS: [&str; 2] = ["include", "attachable"];

/// `KEY=VALUE` of a thing: what is no attribute is a text, unless the key says otherwise.
fn keyed(pair: &str) -> anyhow::Result<Keyed> {
    let Some((key, written)) = pair.split_once('=') else {
        bail!("`{pair}` has no `=`: write KEY=VALUE");
    };
    if let Some(attribute) = key.strip_prefix("attributes.") {
        let (name, value) = attribute_of(&format!("{attribute}={written}"))?;
        return Ok((format!("attributes.{name}"), value));
    }
    let value = match written {
        "true" | "false" if BOOLEANS.contains(&key) => Value::Boolean(written == "true"),
        text if LISTS.contains(&key) => {
            let parts = text.split(',').map(|one| Value::Text(one.trim().into()));
            Value::List(parts.collect())
        }
        text => Value::Text(text.into()),
    };
    Ok((key.to_owned(), value))
}

/// An attribute with its value; what is written as a time is one.
fn attribute_of(pair: &str) -> anyhow::Result<Keyed> {
    let (name, value) = read_pair("--attribute", pair)?;
    let value = match value {
        Some(Value::Text(text)) => match Time::parse(&text) {
            Some(time) => Value::Time(time),
            None => Value::Text(text),
        },
        Some(value) => value,
        None => bail!("`{pair}`: an attribute has a value; `unset` takes one away"),
    };
    Ok((name, value))
}

fn of_new(typed: New) -> anyhow::Result<Edit> {
    let target = Target::parse(&typed.target);
    let mut keys: Vec<Keyed> = Vec::new();
    let mut text = |key: &str, value: Option<String>| {
        keys.extend(value.map(|value| (key.to_owned(), Value::Text(value.into()))));
    };
    text("full-name", typed.full_name);
    text("about", typed.about);
    text("manager", typed.manager);
    text("kind", typed.kind);
    text("join", typed.join);
    text("members-when", typed.members_when);
    text("place", typed.place.map(plain));
    let mut list = |key: &str, all: Vec<String>| {
        if !all.is_empty() {
            let all = all.into_iter().map(|one| Value::Text(one.into()));
            keys.push((key.to_owned(), Value::List(all.collect())));
        }
    };
    list("members", typed.member);
    list("owners", typed.owner);
    list("held-by", typed.held_by);
    list("taken-by", typed.taken_by);
    list("include", typed.include);
    for pair in &typed.attribute {
        let (name, value) = attribute_of(pair)?;
        keys.push((format!("attributes.{name}"), value));
    }
    Ok(Edit::New { target, preset: typed.preset, keys })
}

/// From when until when something is to count.
fn window(span: &Span, now: Time) -> anyhow::Result<Window> {
    let from = span.since.as_deref().map(moment).transpose()?;
    let until = match (&span.until, &span.lasting) {
        (Some(until), _) => Some(moment(until)?),
        (None, Some(length)) => {
            let length = length_of(length)?;
            let end = from.unwrap_or(now).0.checked_add(length);
            let end = end.filter(|end| *end <= Time::LATEST.0);
            Some(Time(end.context("`--lasting` ends after the year 9999")?))
        }
        (None, None) => None,
    };
    if let (Some(from), Some(until)) = (from, until)
        && from >= until
    {
        bail!("it would end before it begins: {from} is not before {until}");
    }
    Ok(Window { from, until })
}

/// A moment, or the midnight in UTC that begins a date.
pub(super) fn moment(text: &str) -> anyhow::Result<Time> {
    let whole = if text.len() == 10 { format!("{text}T00:00:00Z") } else { text.to_owned() };
    Time::parse(&whole).with_context(|| {
        format!("`{text}` is no time: write one like `2026-03-01T08:00:00Z`, or a date")
    })
}

/// A length in microseconds.
pub(super) fn length_of(text: &str) -> anyhow::Result<i64> {
    length_in_micros(text)
        .with_context(|| format!("`{text}` is no length of time: write 90m, 8h, 30d or 2w"))
}
