//! What the next word of a command line may be: names of the estate at hand. Completion scripts of
//! shells ask this at every press of a key, so whatever goes wrong here is silence.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::path::PathBuf;

use bexum_core::Estate;
use bexum_core::catalogue::Level;
use bexum_core::principal::Principal;
use clap_complete::CompletionCandidate;
use clap_complete::engine::complete;

use super::show::list_names;
use crate::args;
use crate::exit::Exit;
use crate::render::style::safe;
use crate::terminal;

/// Prints each word that the last one of `line` may become, one a line.
pub(super) fn run(line: Vec<OsString>) -> anyhow::Result<Exit> {
    let last = line.len().saturating_sub(1);
    let here = std::env::current_dir().ok();
    let found = complete(&mut args::command(), line, last, here.as_deref()).unwrap_or_default();
    // A name that would steer the terminal is not offered.
    let words = found.iter().filter(|word| !word.is_hide_set());
    let words = words.map(|word| word.get_value().to_string_lossy().into_owned());
    let text: String =
        words.filter(|word| safe(word) == *word).map(|word| format!("{word}\n")).collect();
    terminal::print(&text)?;
    Ok(Exit::Done)
}

/// Words from the estate that the command line names, or that is at hand.
fn from_estate(words: impl Fn(&Estate) -> Vec<String>) -> Vec<CompletionCandidate> {
    let typed: Vec<OsString> = std::env::args_os().collect();
    let named = typed.windows(2).find(|pair| pair[0] == "-C" || pair[0] == "--estate");
    let named = named.map(|pair| PathBuf::from(&pair[1]));
    let Ok(loaded) = super::load(named.as_deref()) else { return Vec::new() };
    let words: BTreeSet<String> = words(&loaded.estate).into_iter().collect();
    words.into_iter().map(CompletionCandidate::new).collect()
}

/// `user:…`, `group:…`, `role:…` and `resource:…`
pub(crate) fn who() -> Vec<CompletionCandidate> {
    from_estate(|estate| estate.principals().map(|who| estate.principal_id(who)).collect())
}

fn principals(is_wanted: fn(Principal) -> bool) -> Vec<CompletionCandidate> {
    from_estate(|estate| {
        let wanted = estate.principals().filter(|who| is_wanted(*who));
        wanted.map(|who| estate.principal_id(who)).collect()
    })
}

/// Users and applications.
pub(crate) fn signing_in() -> Vec<CompletionCandidate> {
    from_estate(|estate| {
        let users = estate.principals().filter(|who| matches!(who, Principal::User(_)));
        let applications = estate.applications.iter().map(|one| one.name.to_string());
        users.map(|who| estate.principal_id(who)).chain(applications).collect()
    })
}

/// Declared sources of people, and those that somebody carries.
pub(crate) fn sources() -> Vec<CompletionCandidate> {
    from_estate(|estate| {
        let declared = estate.sources.iter().map(|one| one.name.to_string());
        let carried = estate.users.iter().filter_map(|user| user.imported.source.as_deref());
        declared.chain(carried.map(str::to_owned)).collect()
    })
}

/// `group:…`
pub(crate) fn groups() -> Vec<CompletionCandidate> {
    principals(|who| matches!(who, Principal::Group(_)))
}

/// `role:…`
pub(crate) fn roles() -> Vec<CompletionCandidate> {
    principals(|who| matches!(who, Principal::Role(_)))
}

/// Bare names of policies.
pub(crate) fn policies() -> Vec<CompletionCandidate> {
    from_estate(|estate| estate.policies.iter().map(|policy| policy.name.to_string()).collect())
}

/// Every action of the catalogue.
pub(crate) fn actions() -> Vec<CompletionCandidate> {
    from_estate(|estate| {
        estate.catalogue.actions.iter().map(|action| action.name.to_string()).collect()
    })
}

/// The paths of scopes, and of users, groups and roles that stand somewhere.
pub(crate) fn paths() -> Vec<CompletionCandidate> {
    from_estate(paths_of)
}

fn paths_of(estate: &Estate) -> Vec<String> {
    let scopes = estate.scopes.iter().map(|(_, scope)| scope.path.to_string());
    let placed = estate.principals().filter_map(|who| {
        let identity = estate.identity(who)?;
        Some(format!("{}/{}", estate.scope(identity.place?).path, identity.name))
    });
    scopes.chain(placed).collect()
}

/// `observe` to `govern`
pub(crate) fn levels() -> Vec<CompletionCandidate> {
    Level::ALL.into_iter().map(|level| CompletionCandidate::new(level.word())).collect()
}

/// Policies as edits name them.
pub(crate) fn named_policies() -> Vec<CompletionCandidate> {
    from_estate(|estate| {
        let policies = estate.policies.iter().map(|policy| format!("policy:{}", policy.name));
        policies.collect()
    })
}

/// What `show` can show.
pub(crate) fn things() -> Vec<CompletionCandidate> {
    from_estate(|estate| {
        let lists = list_names().map(str::to_owned);
        let principals = estate.principals().map(|who| estate.principal_id(who));
        let policies = estate.policies.iter().map(|policy| format!("policy:{}", policy.name));
        let kinds = estate.catalogue.kinds.iter().map(|kind| format!("kind:{}", kind.name));
        let applications =
            estate.applications.iter().map(|one| format!("application:{}", one.name));
        let named = principals.chain(policies).chain(kinds).chain(applications);
        lists.chain(named).chain(paths_of(estate)).collect()
    })
}

/// Names of checks, laws and separations.
pub(crate) fn expectations() -> Vec<CompletionCandidate> {
    from_estate(|estate| {
        let checks = estate.checks.iter().map(|check| check.name.to_string());
        let laws = estate.laws.iter().map(|law| law.name.to_string());
        let separations = estate.separations.iter().map(|apart| apart.name.to_string());
        checks.chain(laws).chain(separations).collect()
    })
}

/// Names of rules of `vet`.
pub(crate) fn rules() -> Vec<CompletionCandidate> {
    bexum_core::vet::RULES.iter().map(|rule| CompletionCandidate::new(rule.name)).collect()
}
