//! `bexum impact`: what a change does, to everybody.

use std::borrow::Cow;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use anyhow::{Context as _, bail};
use bexum_core::catalogue::Level;
use bexum_core::engine::Engine;
use bexum_core::impact::{
    Changes, Comparison, Difference, Impact as Found, LimitedIn, OpenedCell, SameFiles,
    later_moments,
};
use bexum_core::origin::FileId;
use bexum_core::pattern::action::ActionPattern;
use bexum_core::{Declarations, Estate, Request};
use bexum_files::discover::ROOT_FILE;
use bexum_files::texts::{RevisionError, Texts};
use bexum_files::{Failure, Folder, Loaded, Named, Problem, Revision, Sources, TextSource};
use clap::Parser;
use rayon::prelude::*;

use super::circumstances;
use super::cores::Watched;
use super::weigh::weigh;
use crate::args::{Circumstances, Impact, ImpactFormat};
use crate::command_line::quoted;
use crate::exit::Exit;
use crate::render::impact_besides::{InOther, Later};
use crate::render::{impact_csv, problem};
use crate::terminal::{self, Helped};

/// Most later moments that are looked at.
const LATER: usize = 6;

/// Most principals that one thread compares together.
const TOGETHER: usize = 64;

/// How many of so many principals one thread compares together: few, where there are few.
fn together(all: usize) -> usize {
    (all / (4 * rayon::current_num_threads())).clamp(1, TOGETHER)
}

/// What a `--beside` says: circumstances.
#[derive(Debug, Parser)]
#[command(name = "--beside", no_binary_name = true, disable_help_flag = true)]
struct Beside {
    #[command(flatten)]
    circumstances: Circumstances,
}

/// One of the two estates, and what it is called.
pub(super) struct Side {
    pub(super) name: String,
    pub(super) estate: Arc<Estate>,
    pub(super) sources: Sources,
    pub(super) declared: Declarations,
    /// What decides there, if it was made already.
    pub(super) engine: Option<Engine>,
}

pub(super) fn run(at: Option<&Path>, typed: &Impact) -> anyhow::Result<Exit> {
    if typed.by.is_none() && typed.circumstances.take_up.is_some() {
        bail!("every role counts that somebody can take up: `--as` goes with `--by` alone");
    }
    let mut before = before(at, typed)?;
    let mut after = after(at, typed, &before.estate)?;
    if typed.by.is_none() {
        // Nobody asks about what is declared: of a large estate that is a good part of its memory.
        (before.declared, after.declared) = Default::default();
    }
    if typed.together && typed.format != ImpactFormat::Csv {
        bail!(
            "`--together` is for `--format csv`: the other formats tell the same together anyway"
        );
    }
    if typed.format == ImpactFormat::Csv && !typed.log.is_empty() {
        bail!("`--format csv` has a row for each cell: `--log` is for the other formats");
    }
    if typed.format == ImpactFormat::Csv && !typed.beside.is_empty() {
        bail!("`--format csv` has a row for each cell: `--beside` is for the other formats");
    }
    weigh(at, typed, [&before, &after], |weighed| {
        let printed = match typed.format {
            ImpactFormat::Csv => impact_csv::print(weighed.cells, typed.together),
            ImpactFormat::Json => terminal::print_json(&weighed.shape()),
            ImpactFormat::Text => terminal::print(&weighed.text()),
            ImpactFormat::Markdown => terminal::print(&weighed.markdown()),
            ImpactFormat::Html => terminal::print(&weighed.page()?),
        };
        terminal::unless_gone(printed)?;
        weighed.expect_whole()?;
        Ok(if weighed.fails() { Exit::Denied } else { Exit::Done })
    })
}

/// The folder of the estate after, if it is named; `None` where that is a revision, which no other
/// command reads.
pub(super) fn folder_after(at: Option<&Path>, typed: &Impact) -> Option<Option<PathBuf>> {
    match &typed.after {
        None => Some(at.map(Path::to_path_buf)),
        Some(name) if Path::new(name).join(ROOT_FILE).exists() => Some(Some(PathBuf::from(name))),
        Some(_) => None,
    }
}

/// The command that tries expectations of the estate after.
pub(super) fn prove_command(at: Option<&Path>, typed: &Impact) -> Option<String> {
    let folder = folder_after(at, typed)?;
    let folder = folder.map(|folder| format!(" -C {}", quoted(&folder.display().to_string())));
    Some(format!("bexum{} prove", folder.unwrap_or_default()))
}

/// The estate before the change; where none is named, the last commit.
fn before(at: Option<&Path>, typed: &Impact) -> anyhow::Result<Side> {
    let name = typed.before.as_deref().unwrap_or("HEAD");
    let failed = match load(at, name) {
        Ok(side) => return Ok(side),
        Err(error) => error,
    };
    let Some(failure) = failed.downcast_ref::<Failure>() else { return Err(failed) };
    let revision = failure.problems.iter().find_map(|problem| match problem {
        Problem::Revision(error) => Some(error),
        _ => None,
    });
    match revision.map(|error| &**error) {
        Some(RevisionError::NoRepository(folder)) => {
            let said = format!("`{}` lies in no git repository", folder.display());
            let hint = match typed.before.is_some() {
                true => format!("`{name}` is no folder with a `{ROOT_FILE}` either"),
                false => "name both estates: `bexum impact BEFORE AFTER`".to_owned(),
            };
            Err(Helped::error(said, Some(hint)))
        }
        Some(_) => Err(failed),
        None if typed.from_broken => {
            terminal::print_error(&problem::report(failure, terminal::width()));
            terminal::print_error(&format!(
                "the estate before ({name}) does not load: it counts as one without any access\n"
            ));
            nothing(format!("{name}, which does not load"))
        }
        None => Err(failed),
    }
}

/// An estate in which nobody can do anything.
fn nothing(name: String) -> anyhow::Result<Side> {
    let text = "[estate]\nname = \"nothing\"\nformat = 1\n".to_owned();
    let (root, files) = (PathBuf::from("nothing"), vec![(PathBuf::from(ROOT_FILE), text)]);
    let texts = Named { root, files };
    side(name, bexum_files::load_declared(&texts, None))
}

/// The estate after the change; where none is named, the files as they are.
fn after(at: Option<&Path>, typed: &Impact, before: &Estate) -> anyhow::Result<Side> {
    let (name, texts) = match &typed.after {
        Some(name) => (name.clone(), texts(at, name)?),
        None => {
            let files: Box<dyn TextSource> = Box::new(Files(super::root(at)?));
            ("the files as they are".to_owned(), files)
        }
    };
    side(name, bexum_files::load_declared(&*texts, Some(before)))
}

fn side(
    name: String,
    loaded: Result<(Loaded, Declarations), Box<Failure>>,
) -> anyhow::Result<Side> {
    let (loaded, declared) = loaded.map_err(|failure| anyhow::Error::new(*failure))?;
    let Loaded { estate, sources } = loaded;
    Ok(Side { name, estate, sources, declared, engine: None })
}

/// What is named, loaded.
fn load(at: Option<&Path>, name: &str) -> anyhow::Result<Side> {
    side(name.to_owned(), bexum_files::load_declared(&*texts(at, name)?, None))
}

/// What is named: a folder that holds an estate, or a revision.
fn texts(at: Option<&Path>, name: &str) -> anyhow::Result<Box<dyn TextSource>> {
    let folder = PathBuf::from(name);
    if folder.join(ROOT_FILE).exists() {
        return Ok(Box::new(Files(folder)));
    }
    Ok(Box::new(Revision { folder: super::root(at)?, name: name.to_owned() }))
}

/// A folder that is kept by its name.
struct Files(PathBuf);

impl TextSource for Files {
    fn texts(&self) -> Result<Texts, Problem> {
        Folder(&self.0).texts()
    }

    fn root(&self) -> PathBuf {
        Folder(&self.0).root()
    }
}

/// The files of the same path and text.
pub(super) fn same_files(before: &Sources, after: &Sources) -> SameFiles {
    let numbered = |sources: &Sources| -> HashMap<PathBuf, FileId> {
        let all = sources.iter().enumerate();
        all.map(|(i, file)| (file.path.clone(), FileId(i as u32))).collect()
    };
    let known = numbered(before);
    let mut same = SameFiles::default();
    for (path, id) in numbered(after) {
        if let Some(other) = known.get(&path)
            && before.get(*other).text == after.get(id).text
        {
            same.before.insert(*other);
            same.after.insert(id);
        }
    }
    same
}

pub(super) fn compared<'e>(
    [before, after]: &'e [Engine; 2],
    differing: &[Difference],
    request: &Request<'e>,
) -> anyhow::Result<Comparison<'e>> {
    Comparison::new(before, after, differing, request.clone())
        .map_err(|fault| super::with_hint(&fault, after.estate()))
}

/// What becomes of everybody who is wanted, worked out on all cores.
pub(super) fn everybody(comparison: &Comparison<'_>, wanted: &Wanted) -> Found {
    let watched = Watched::new("compared");
    let each = |count: usize, one: &(dyn Fn(usize) + Sync)| watched.on_all_cores(count, one);
    let mut found = comparison.impact(&wanted.of(comparison.everybody()), &each);
    if wanted.at.is_some() || wanted.actions.is_some() {
        found.changes = found.changes.within(|place, action| wanted.takes_at(place, action));
    }
    found
}

/// What the change does in each of the other circumstances.
pub(super) fn besides(
    typed: &Impact,
    engines: &[Engine; 2],
    differing: &[Difference],
    wanted: &Wanted,
) -> anyhow::Result<Vec<InOther>> {
    let of_one = |options: &String| {
        let Beside { circumstances: mut other } = circumstances::beside(options)?;
        if other.take_up.is_some() {
            bail!("`--beside '{options}'`: every role counts that somebody can take up");
        }
        // One without a moment of its own shares that of the others.
        other.at_time = other.at_time.or_else(|| typed.circumstances.at_time.clone());
        let (request, _) = circumstances::request(&other)?;
        let comparison = compared(engines, differing, &request)?;
        Ok(InOther { options: options.clone(), changes: everybody(&comparison, wanted).changes })
    };
    typed.beside.iter().map(of_one).collect()
}

/// What is otherwise at later moments, at which something that was changed begins or ends: each
/// with the cells that come to something else than now.
pub(super) fn later(
    engines: &[Engine; 2],
    differing: &[Difference],
    request: &Request<'_>,
    wanted: &Wanted,
    now: &Changes,
) -> anyhow::Result<Vec<Later>> {
    let [before, after] = engines;
    let moments = later_moments(before.estate(), after.estate(), differing, request.time);
    let mut known: Option<Changes> = None;
    let mut found = Vec::new();
    for time in moments.into_iter().take(LATER) {
        let request = Request { time, ..request.clone() };
        let then = everybody(&compared(engines, differing, &request)?, wanted).changes;
        let (changes, over) = then.since(known.as_ref().unwrap_or(now));
        found.push(Later { time, changes, over });
        known = Some(then);
    }
    Ok(found)
}

/// A cell that the second estate opens to somebody who is wanted, now or later; and, if there is none,
/// the scopes below which not all items were told apart.
pub(super) fn first_opened(
    comparison: &Comparison<'_>,
    wanted: &Wanted,
) -> (Option<OpenedCell>, LimitedIn) {
    let everybody = wanted.of(comparison.everybody());
    let is_wanted = |place: &str, action: &str| wanted.takes_at(place, action);
    let limited: Mutex<LimitedIn> = Mutex::default();
    let parts = everybody.par_chunks(together(everybody.len()));
    let watched = Watched::new("searched");
    watched.begin(parts.len());
    let first = parts.find_map_first(|together| {
        let mut compared = comparison.compared_from_now_on();
        let first = together.iter().find_map(|who| compared.first_opened(who, None, &is_wanted));
        let mut all = limited.lock().unwrap_or_else(PoisonError::into_inner);
        for (all, more) in all.iter_mut().zip(compared.limited()) {
            all.extend(more);
        }
        watched.one_more();
        first
    });
    (first, limited.into_inner().unwrap_or_else(PoisonError::into_inner))
}

/// What is asked about.
pub(super) struct Wanted {
    who: Vec<String>,
    at: Option<String>,
    /// The names of actions; `None`: all.
    actions: Option<Vec<Box<str>>>,
}

impl Wanted {
    pub(super) fn new(typed: &Impact, before: &Estate, after: &Estate) -> anyhow::Result<Self> {
        let estates = [before, after];
        for who in &typed.who {
            if !estates.iter().any(|estate| estate.find_principal(who).is_some()) {
                bail!("neither estate has a principal `{who}`");
            }
        }
        let at = typed.path.as_deref().map(|path| path.trim_end_matches('/').to_owned());
        if let Some(path) = &at
            && !estates.iter().any(|estate| estate.scopes.find(path).is_some())
        {
            bail!("neither estate has a scope `{path}`");
        }
        let mut actions: Option<Vec<Box<str>>> = None;
        let mut take = |pick: &dyn Fn(&bexum_core::catalogue::Action) -> bool| {
            let all = estates.iter().flat_map(|estate| estate.catalogue.actions.iter());
            let named: Vec<Box<str>> =
                all.filter(|action| pick(action)).map(|action| action.name.clone()).collect();
            let found = !named.is_empty();
            actions.get_or_insert_default().extend(named);
            found
        };
        for text in &typed.action {
            let pattern = ActionPattern::parse(text).with_context(|| format!("`{text}`"))?;
            if pattern.excludes || !take(&|action| pattern.names(action)) {
                bail!("no action in either catalogue matches `{text}`");
            }
        }
        if let Some(word) = &typed.level {
            let known = Level::ALL.map(Level::word);
            let Some(level) = Level::from_word(word) else {
                bail!("there is no level `{word}`: the levels are {}", known.join(", "));
            };
            take(&|action| action.level == level);
        }
        Ok(Self { who: typed.who.clone(), at, actions })
    }

    pub(super) fn is_narrowed(&self) -> bool {
        !self.who.is_empty() || self.at.is_some() || self.actions.is_some()
    }

    /// The people among `everybody` who are wanted.
    fn of<'n>(&self, everybody: &'n [String]) -> Cow<'n, [String]> {
        match &self.who[..] {
            [] => Cow::Borrowed(everybody),
            who => everybody.iter().filter(|one| who.contains(one)).cloned().collect(),
        }
    }

    fn takes_at(&self, place: &str, action: &str) -> bool {
        let is_there = |at: &String| {
            let below = place.strip_prefix(at.as_str());
            below.is_some_and(|below| below.is_empty() || below.starts_with('/'))
        };
        let is_wanted = |actions: &Vec<Box<str>>| actions.iter().any(|name| **name == *action);
        self.at.as_ref().is_none_or(is_there) && self.actions.as_ref().is_none_or(is_wanted)
    }
}
