//! `bexum show`: what is in the estate, as lists, or one thing of it.

mod applications;
mod declared;
mod handover;
mod lists;
mod overview;
mod shape;
mod things;

use std::path::Path;
use std::sync::Arc;

use anyhow::bail;
use bexum_core::engine::Engine;
use bexum_core::name::nearest;
use bexum_core::principal::{Principal, PrincipalType, Subject};
use bexum_core::request::{TargetPlace, resolve_target};
use bexum_core::{Estate, Time};
use bexum_files::Sources;

use crate::args::{Show, ShowFormat};
use crate::exit::Exit;
use crate::render::phrases;
use crate::render::report::Report;
use crate::render::report_page;
use crate::terminal::{self, Helped};

/// The names of the lists.
pub(super) fn list_names() -> impl Iterator<Item = &'static str> {
    lists::LISTS.iter().map(|(name, _)| *name)
}

/// What every view is made from.
struct View<'e> {
    estate: &'e Estate,
    sources: &'e Sources,
    engine: Engine,
    at: Time,
    /// Whether lists have every element, for machines; for people, a beginning will do.
    complete: bool,
}

pub(super) fn run(at: Option<&Path>, show: &Show) -> anyhow::Result<Exit> {
    let moment = super::moment(show.at_time.as_deref())?;
    let loaded = super::load_supposed(at, &show.supposed)?;
    let view = View {
        estate: &loaded.estate,
        sources: &loaded.sources,
        engine: Engine::new(Arc::clone(&loaded.estate)),
        at: moment,
        complete: show.format != ShowFormat::Text,
    };
    let report = match (show.what.as_deref(), show.whom.as_deref()) {
        (Some("handover"), Some(whom)) => view.handover(whom)?,
        (Some("handover"), None) => bail!("whom it is for: `bexum show handover user:NAME`"),
        (_, Some(whom)) => bail!("one thing at a time: `{whom}` goes with `handover` alone"),
        (what, None) => view.report(what)?,
    };
    match show.format {
        ShowFormat::Html => terminal::print(&report_page::page(&report)?)?,
        ShowFormat::Text => terminal::print(&report.text(terminal::width()))?,
        ShowFormat::Json => {
            terminal::print_json(&shape::of(&report))?;
        }
    }
    Ok(Exit::Done)
}

impl View<'_> {
    fn report(&self, what: Option<&str>) -> anyhow::Result<Report> {
        let Some(what) = what else { return Ok(self.overview()) };
        if let Some((_, list)) = lists::LISTS.iter().find(|(name, _)| *name == what) {
            let mut report = Report::new(self.title());
            list(self, &mut report);
            return Ok(report);
        }
        let unknown = |word: &str, name: &str, known: Vec<String>| {
            let near = nearest(name, known.iter().map(String::as_str));
            Helped::error(
                format!("{word} `{name}` is not declared"),
                near.map(|near| format!("did you mean `{near}`?")),
            )
        };
        let estate = self.estate;
        match what.split_once(':') {
            Some(("policy", name)) => match estate.find_policy(name) {
                Some(id) => Ok(self.policy(id)),
                None => {
                    let known = estate.policies.iter().map(|p| p.name.to_string()).collect();
                    Err(unknown("policy", name, known))
                }
            },
            Some(("kind", name)) => match estate.catalogue.find_kind(name) {
                Some(id) => Ok(self.kind(id)),
                None => {
                    let known = estate.catalogue.kinds.iter().map(|k| k.name.to_string()).collect();
                    Err(unknown("kind", name, known))
                }
            },
            Some(("application", name)) => {
                Ok(self.application(super::claims::find_application(estate, name)?))
            }
            Some(("scope", path)) => self.place(path),
            _ if PrincipalType::split(what).is_some() => match estate.find_principal(what) {
                Some(principal) => Ok(self.principal(principal)),
                None => {
                    let known = estate.principals().map(|p| estate.principal_id(p)).collect();
                    Err(unknown("principal", what, known))
                }
            },
            _ if what.contains('/') || estate.scopes.find(what).is_some() => self.place(what),
            _ => {
                let lists = lists::LISTS.iter().map(|(name, _)| *name);
                let hint = match (self.named(what), nearest(what, lists.clone())) {
                    (Some(near), _) => format!("did you mean `{near}`?"),
                    (None, Some(near)) => format!("did you mean `{near}`?"),
                    (None, None) => {
                        let lists: Vec<&str> = lists.collect();
                        let lists = format!("a list is one of {}", lists.join(", "));
                        match estate.principals().next() {
                            Some(who) => format!(
                                "{lists}; a thing is written like `{}`",
                                estate.principal_id(who)
                            ),
                            None => lists,
                        }
                    }
                };
                Err(Helped::error(format!("there is nothing called `{what}`"), Some(hint)))
            }
        }
    }

    /// The thing of this estate whose bare name is this one, or is nearest to it.
    fn named(&self, bare: &str) -> Option<String> {
        let estate = self.estate;
        let principals = estate.principals().map(|who| estate.principal_id(who));
        let policies = estate.policies.iter().map(|policy| format!("policy:{}", policy.name));
        let kinds = estate.catalogue.kinds.iter().map(|kind| format!("kind:{}", kind.name));
        let things: Vec<String> = principals.chain(policies).chain(kinds).collect();
        let name = |thing: &str| thing.split_once(':').map(|(_, name)| name.to_owned());
        let names: Vec<String> = things.iter().filter_map(|thing| name(thing)).collect();
        let near = nearest(bare, names.iter().map(String::as_str))?;
        things.iter().find(|thing| name(thing).as_deref() == Some(near)).cloned()
    }

    fn title(&self) -> String {
        format!("{} (in {})", self.estate.name, self.sources.root.display())
    }

    fn overview(&self) -> Report {
        let mut report = Report::new(self.title());
        overview::overview(self, &mut report);
        let lists: Vec<&str> = list_names().collect();
        report.next = format!(
            "look next: `bexum show LIST` ({}), `bexum show user:NAME`, `bexum prove`",
            lists.join(", ")
        );
        report
    }

    fn place(&self, path: &str) -> anyhow::Result<Report> {
        let target = resolve_target(self.estate, path)
            .map_err(|fault| super::with_hint(&fault, self.estate))?;
        match target.place {
            TargetPlace::Scope(id) | TargetPlace::Item(id) => Ok(self.scope(id, &target)),
            TargetPlace::Identity(principal, _) => Ok(self.principal(principal)),
            TargetPlace::Policy(policy, _) => Ok(self.policy(policy)),
        }
    }

    fn id(&self, principal: Principal) -> String {
        self.estate.principal_id(principal)
    }

    fn subject(&self, subject: Subject) -> String {
        phrases::subject(self.estate, subject)
    }
}
