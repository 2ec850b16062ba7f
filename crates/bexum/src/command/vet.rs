//! `bexum vet`: what is not right with an estate.

use std::path::Path;
use std::sync::Arc;

use anyhow::bail;
use bexum_core::Time;
use bexum_core::diagnostic::Severity;
use bexum_core::engine::Engine;
use bexum_core::name::nearest;
use bexum_core::pattern::action::star_match;
use bexum_core::vet::{self, RULES, Rule};
use bexum_files::Loaded;
use bexum_wire::{sarif, vet as wire};

use super::cores::Watched;
use super::edit;
use super::edit_line::length_of;
use crate::args::Format;
use crate::args::edit::Edit as Edits;
use crate::args::vet::{FailOn, Vet, VetFormat};
use crate::exit::Exit;
use crate::render::vet::{Shown, explained, listed};
use crate::terminal::{self, Helped};

pub(super) fn run(at: Option<&Path>, typed: &Vet) -> anyhow::Result<Exit> {
    if typed.list {
        terminal::unless_gone(terminal::print(&listed(terminal::width())))?;
        return Ok(Exit::Done);
    }
    if let Some(name) = &typed.explain {
        let rule = rule(name)?;
        terminal::unless_gone(terminal::print(&explained(rule, terminal::width())))?;
        return Ok(Exit::Done);
    }
    let rules = rules(&typed.rules)?;
    let now = super::moment(typed.at_time.as_deref())?;
    let (Loaded { estate, sources }, declared) = super::load_declared(at, &typed.supposed)?;
    let watched = Watched::new("looked at");
    let each = |count: usize, one: &(dyn Fn(usize) + Sync)| watched.on_all_cores(count, one);
    if let Some(name) = &typed.fix {
        let rule = rule(name)?;
        if !typed.supposed.suppose.is_empty() {
            bail!("`--fix` changes the files as they are: it does not go with `--suppose`");
        }
        let fixes = vet::fixes(&declared, &estate, rule, now, &each);
        drop(watched);
        if fixes.is_empty() {
            let text = format!("nothing that `{name}` finds here has a remedy\n");
            terminal::unless_gone(terminal::print(&text))?;
            return Ok(Exit::Done);
        }
        let edits = Edits {
            at_time: typed.at_time.clone(),
            format: match typed.format {
                VetFormat::Text => Format::Text,
                VetFormat::Json => Format::Json,
                VetFormat::Sarif => bail!("a change is not written as SARIF"),
            },
            ..Edits::proposed(typed.write, typed.despite.clone())
        };
        return edit::make_these(at, &edits, &fixes);
    }
    let engine = Engine::new(Arc::clone(&estate));
    let idle_since = Time((now.0 - length_of(&typed.idle)?).max(Time::EARLIEST.0));
    let usage = match typed.log.is_empty() {
        true => None,
        false => {
            let (usage, errors) = super::usage::used(&engine, &typed.log, now)?;
            if errors > 0 {
                let text =
                    format!("note: {errors} lines of the log are no request of this estate\n");
                terminal::print_error(&text);
            }
            Some(usage)
        }
    };
    let mut look = vet::Vet::new(&declared, &engine, now, &each);
    if let Some(usage) = &usage {
        look = look.with_usage(usage, idle_since);
    }
    let report = look.report(&rules, &|_| {});
    drop(watched);
    terminal::unless_gone(match typed.format {
        VetFormat::Text => {
            let is_narrow = !typed.rules.is_empty();
            let rules = rules.len();
            let shown = Shown { report: &report, sources: &sources, rules, is_narrow };
            terminal::print(&shown.text(terminal::width()))
        }
        VetFormat::Json => terminal::print_json(&wire::Vet::of(&report, &sources)),
        VetFormat::Sarif => {
            let version = env!("CARGO_PKG_VERSION");
            terminal::print_json(&sarif::Log::of(&report, &sources, version))
        }
    })?;
    let least = match typed.fail_on {
        FailOn::Error => Severity::Error,
        FailOn::Warning => Severity::Warning,
        FailOn::Note => Severity::Note,
    };
    let fails = report.findings.iter().any(|finding| finding.severity <= least);
    Ok(if fails { Exit::Denied } else { Exit::Done })
}

/// The rules that are named; all where none is.
fn rules(names: &[String]) -> anyhow::Result<Vec<&'static Rule>> {
    for name in names {
        if !RULES.iter().any(|rule| star_match(name, rule.name)) {
            rule(name)?;
        }
    }
    let is_meant =
        |rule: &&&Rule| names.is_empty() || names.iter().any(|name| star_match(name, rule.name));
    Ok(RULES.iter().filter(is_meant).copied().collect())
}

fn rule(name: &str) -> anyhow::Result<&'static Rule> {
    if let Some(rule) = RULES.into_iter().find(|rule| rule.name == name) {
        return Ok(rule);
    }
    let help = match nearest(name, RULES.iter().map(|rule| rule.name)) {
        Some(near) => format!("did you mean `{near}`?"),
        None => "`bexum vet --rules` lists them".to_owned(),
    };
    Err(Helped::error(format!("no rule is called `{name}`"), Some(help)))
}
