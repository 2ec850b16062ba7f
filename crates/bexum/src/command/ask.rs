//! `bexum ask`: one question, one answer, and why.

use std::borrow::Cow;
use std::path::Path;
use std::sync::Arc;

use anyhow::{Context as _, bail};
use bexum_core::attribute::Value;
use bexum_core::engine::{Decider, Engine};
use bexum_core::{Request, Trace, Verdict};

use super::{circumstances, save};
use crate::args::{Ask, Format};
use crate::exit::Exit;
use crate::render::answer::{Answer, Asked};
use crate::render::style::safe;
use crate::terminal;

pub(super) fn run(at: Option<&Path>, ask: Ask) -> anyhow::Result<Exit> {
    let loaded = super::load(at)?;
    let estate = &loaded.estate;
    let (request, typed_time) = build_request(&ask)?;
    let query = request.resolve(estate).map_err(|fault| super::with_hint(&fault, estate))?;
    let engine = Engine::new(Arc::clone(estate));
    let mut decider = Decider::new(&engine);
    let trace = Trace::of(&mut decider, &query);
    let sources = &loaded.sources;
    terminal::unless_gone(match ask.format {
        Format::Text => {
            let time = typed_time.then_some(request.time);
            let asked = Asked { request: &request, time, folder: at };
            let answer = Answer { estate, sources, query: &query, trace: &trace, asked };
            terminal::print(&answer.render(terminal::width()))
        }
        Format::Json => {
            terminal::print_json(&bexum_wire::answer::Answer::new(estate, sources, &query, &trace))
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

/// The request, and whether its time was named.
fn build_request(ask: &Ask) -> anyhow::Result<(Request<'static>, bool)> {
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
