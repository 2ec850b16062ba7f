//! `bexum ask`: one question, one answer, and why.

use std::borrow::Cow;
use std::path::Path;
use std::sync::Arc;

use anyhow::{Context as _, bail};
use bexum_core::attribute::Value;
use bexum_core::engine::{Decider, Engine};
use bexum_core::{Reason, Request, Trace, Verdict};

use super::{circumstances, save, ways};
use crate::args::{Ask, Format, Question};
use crate::command_line::{self, Of};
use crate::exit::Exit;
use crate::render::answer::{self, Answer, Asked};
use crate::render::style::safe;
use crate::terminal;

pub(super) fn run(at: Option<&Path>, ask: Ask) -> anyhow::Result<Exit> {
    let (loaded, declared) = super::load_declared(at, &ask.supposed)?;
    let estate = &loaded.estate;
    let (request, typed_time) = build_request(&ask.question)?;
    let before = match ask.supposed.suppose.is_empty() {
        true => None,
        false => Some(as_things_are(at, &request)?),
    };
    let query = request.resolve(estate).map_err(|fault| super::with_hint(&fault, estate))?;
    let engine = Engine::new(Arc::clone(estate));
    let mut decider = Decider::new(&engine);
    let trace = Trace::of(&mut decider, &query);
    let sources = &loaded.sources;
    terminal::unless_gone(match ask.format {
        Format::Text => {
            let time = typed_time.then_some(request.time);
            let of = Of { folder: at, suppose: &ask.supposed.suppose };
            let asked = Asked { request: &request, time, of };
            let answer = Answer { estate, sources, query: &query, trace: &trace, asked };
            let supposed = before
                .as_ref()
                .map(|before| answer::before_supposing(*before, &ask.supposed.suppose));
            let mut text = supposed.unwrap_or_default() + &answer.render(terminal::width());
            if trace.reason.verdict() == Verdict::Deny {
                let best = ways::best(&declared, &engine, &request)?;
                let all = command_line::ways(of, &request, time, false);
                text.push_str(&answer::best_way(best.as_deref(), &all, terminal::width()));
            }
            terminal::print(&text)
        }
        Format::Json => {
            let mut shape = bexum_wire::answer::Answer::new(estate, sources, &query, &trace);
            shape.supposed = ask.supposed.suppose.clone();
            shape.before = before.flatten().map(Into::into);
            terminal::print_json(&shape)
        }
    })?;
    if let Some(name) = &ask.save_check {
        // A moment that was not named is the present, also when the check is tried.
        let time = typed_time.then_some(request.time);
        let file =
            save::save(&sources.root, name, ask.save_to.as_deref(), &request, time, trace.reason)?;
        let told = format!(
            "saved as the check \"{}\" in {}\n",
            safe(name),
            safe(&file.display().to_string())
        );
        terminal::print_error(&told);
    }
    Ok(match trace.reason.verdict() {
        Verdict::Allow => Exit::Done,
        Verdict::Deny => Exit::Denied,
    })
}

/// What comes of a request in the estate as it is; nothing where it is none there.
fn as_things_are(at: Option<&Path>, request: &Request<'_>) -> anyhow::Result<Option<Reason>> {
    let loaded = super::load(at)?;
    let Ok(query) = request.resolve(&loaded.estate) else { return Ok(None) };
    let engine = Engine::new(Arc::clone(&loaded.estate));
    let reason = Decider::new(&engine).decide(&query);
    Ok(Some(reason))
}

/// The request, and whether its time was named.
pub(super) fn build_request(ask: &Question) -> anyhow::Result<(Request<'static>, bool)> {
    let (mut request, typed_time) = circumstances::request(&ask.circumstances)?;
    request.who = ask.who.clone().into();
    request.does = ask.action.clone().into();
    request.on = ask.path.clone().into();
    if !ask.item.is_empty() {
        let mut item: Vec<(Cow<'static, str>, Value)> = Vec::new();
        for pair in &ask.item {
            let (key, value) = circumstances::read_pair("--item", pair)?;
            if item.iter().any(|(known, _)| *known == key) {
                bail!("`--item {key}` is given twice");
            }
            let value = value.with_context(|| {
                format!(
                    "`--item {key}=` has no value: leave it out if the item has no such attribute"
                )
            })?;
            item.push((key.into(), value));
        }
        request.item = Some(item);
    }
    Ok((request, typed_time))
}
