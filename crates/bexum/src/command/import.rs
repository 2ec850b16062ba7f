//! `bexum import`: users and groups brought in line with where they come from.

use std::io::Read as _;
use std::path::{Path, PathBuf};

use anyhow::{Context as _, bail};
use bexum_core::Declarations;
use bexum_core::edit::Edit;
use bexum_core::import::{
    Complaint, Import as Imported, MappedKey, Terms, import, kept_map, renames,
};
use bexum_core::name::Grammar;
use bexum_files::Loaded;
use bexum_files::Sources;
use bexum_files::edit::{DraftedPeople, PlanError, draft_people, plan, plan_people};
use bexum_files::people::{Read, read_people};
use bexum_wire::edit as wire;

use super::edit::{Asked, Prepared, Proposed, diffs_of, make, told};
use crate::args::edit::Edit as Typed;
use crate::args::import::Import;
use crate::exit::Exit;
use crate::render::import as render;
use crate::terminal::Helped;

pub(super) fn run(at: Option<&Path>, typed: &Import) -> anyhow::Result<Exit> {
    let now = super::moment(typed.at_time.as_deref())?;
    if !Grammar::Plain.accepts(&typed.source) {
        bail!("`{}` is no name for a source: {}", typed.source, Grammar::Plain.rule());
    }
    let limit = Limit::read(&typed.at_most_gone)?;
    let files: Vec<(String, Vec<u8>)> = typed.files.iter().map(read).collect::<Result<_, _>>()?;
    let edit = Typed {
        by: typed.by.clone(),
        at_time: typed.at_time.clone(),
        file: typed.file.clone(),
        full: typed.full,
        format: typed.format,
        ..Typed::proposed(typed.write, typed.despite.clone())
    };
    let terms = Terms { source: &typed.source, adopt: typed.adopt, now };
    let prepare = |sources: &Sources, declared: &Declarations| {
        FromFiles::new(sources, declared, &files, typed, terms)
    };
    make(at, &edit, prepare, |before, declared, from| {
        propose(before, declared, from, typed, limit, terms)
    })
}

/// A file as a whole, with the name that messages call it.
fn read(path: &PathBuf) -> anyhow::Result<(String, Vec<u8>)> {
    let mut bytes = Vec::new();
    if path.as_os_str() == "-" {
        std::io::stdin().read_to_end(&mut bytes).context("cannot read standard input")?;
        return Ok(("standard input".to_owned(), bytes));
    }
    let name = path.display().to_string();
    let bytes = std::fs::read(path).with_context(|| format!("cannot read `{name}`"))?;
    Ok((name, bytes))
}

/// How many people may be disabled or enabled again.
#[derive(Clone, Copy)]
enum Limit {
    Number(usize),
    Percent(usize),
}

impl Limit {
    fn read(text: &str) -> anyhow::Result<Self> {
        let (digits, is_share) = match text.strip_suffix('%') {
            Some(digits) => (digits, true),
            None => (text, false),
        };
        let number = digits.parse().ok().filter(|number| !is_share || *number <= 100);
        let number = number.with_context(|| {
            format!("`--at-most-gone {text}` is neither a number of people nor a share like `25%`")
        })?;
        Ok(if is_share { Self::Percent(number) } else { Self::Number(number) })
    }

    fn of(self, people: usize) -> usize {
        match self {
            Self::Number(number) => number,
            Self::Percent(percent) => people * percent / 100,
        }
    }
}

/// What can be said of a source's files by what is declared alone.
struct FromFiles {
    read: Read,
    /// Who has a new name by them.
    renames: Vec<Edit>,
    /// What they make of it, where nobody has.
    made: Option<Imported>,
    /// The files of the estate as they would be, where no group is gone either.
    written: Option<Result<DraftedPeople, PlanError>>,
    decides_nothing: bool,
}

impl Prepared for FromFiles {
    fn decides_nothing(&self) -> bool {
        self.decides_nothing
    }
}

impl FromFiles {
    fn new(
        sources: &Sources,
        declared: &Declarations,
        files: &[(String, Vec<u8>)],
        typed: &Import,
        terms: Terms<'_>,
    ) -> anyhow::Result<Self> {
        let mapping = mapping(declared, typed)?;
        let read = read_people(files, &mapping).map_err(|all| refuse(&all))?;
        // Hardly ever has anybody a new name, which would come first.
        let (renames, made) = rayon::join(
            || renames(declared, &read.people, terms.source),
            || import(declared, &read.people, terms),
        );
        let renames = renames.map_err(|all| refuse(&all))?;
        let made = renames.is_empty().then_some(made);
        let mut made = made.transpose().map_err(|all| refuse(&all))?;
        let (mut written, mut decides_nothing) = (None, false);
        if let Some(made) = made.as_mut().filter(|made| !made.has_gone_groups()) {
            decides_nothing = made.people.decides_nothing(declared);
            let people = std::mem::take(&mut made.people);
            written = Some(draft_people(sources, declared, people, typed.file.as_deref()));
        }
        Ok(Self { read, renames, made, written, decides_nothing })
    }
}

fn propose(
    before: &Loaded,
    declared: Declarations,
    from: FromFiles,
    typed: &Import,
    limit: Limit,
    terms: Terms<'_>,
) -> anyhow::Result<Proposed> {
    let FromFiles { read, renames: edits, made, written, decides_nothing: _ } = from;
    let now = terms.now;
    let told = |error| told(error, &Asked::default());
    // Under their new names first: what else is otherwise is told of them under these.
    let named = match edits.is_empty() {
        true => None,
        false => Some(plan(&before.estate, &before.sources, declared.clone(), &edits, None, now)),
    };
    let named = named.transpose().map_err(told)?;
    let (now_is, declared) = match &named {
        Some(plan) => (&plan.after, plan.declared.clone()),
        None => (before, declared),
    };
    let (estate, sources) = (&now_is.estate, &now_is.sources);
    let mut made = match made {
        Some(made) => made,
        None => import(&declared, &read.people, terms).map_err(|all| refuse(&all))?,
    };
    let (emptied, kept) = made.empty_gone_groups(&declared, estate, now);
    made.not_taken.extend(read.not_taken);
    let written = written.unwrap_or_else(|| {
        let people = std::mem::take(&mut made.people);
        draft_people(sources, &declared, people, typed.file.as_deref())
    });
    // Where some have new names, more files may differ than those of the second step.
    let is_all = named.is_none();
    let compare = |files: &[_]| is_all.then(|| diffs_of(&before.sources, files));
    let planned =
        written.and_then(|written| plan_people(estate, sources, declared, written, compare));
    let (mut plan, diffs) = planned.map_err(told)?;
    for (path, text) in named.iter().flat_map(|plan| &plan.files) {
        if plan.files.iter().all(|(known, _)| known != path) {
            plan.files.push((path.clone(), text.clone()));
        }
    }
    plan.files.sort();
    made.renamed = edits.iter().filter_map(new_name).collect();
    let turned = made.enabled.len() + made.disabled.len();
    let refused = (turned > limit.of(made.of_source)).then(|| {
        format!(
            "{turned} of the {} people of the source would be disabled or enabled again, more than \
             `--at-most-gone {}` says",
            made.of_source, typed.at_most_gone
        )
    });
    let shape = shape(&typed.source, made, emptied, kept);
    let counts = (read.people.persons.len(), read.people.groups.len());
    // The process ends soon, and its memory with it: to free it piece by piece takes a while.
    std::mem::forget(read.people);
    Ok(Proposed {
        plan,
        edits: Vec::new(),
        only_renames: false,
        diffs,
        head: render::head(&shape, counts, typed.full),
        refused,
        import: Some(shape),
    })
}

/// Of an edit that renames, what was and what is then.
fn new_name(edit: &Edit) -> Option<(String, String)> {
    let Edit::Rename { target, to } = edit else { return None };
    let old = target.to_string();
    let new = format!("{}:{to}", old.split(':').next().unwrap_or_default());
    Some((old, new))
}

/// The estate's own mapping for the source, and what was typed, which goes before it.
fn mapping(declared: &Declarations, typed: &Import) -> anyhow::Result<Vec<(String, MappedKey)>> {
    let mut all: Vec<(String, MappedKey)> = Vec::new();
    for pair in &typed.map {
        let Some((column, key)) = pair.rsplit_once('=') else {
            bail!("`--map {pair}` has no `=`: write COLUMN=KEY");
        };
        let Some(key) = MappedKey::read(key) else {
            return Err(Helped::error(
                format!("`--map {pair}` fills no key: `{key}` is none"),
                Some(
                    "it fills name, full-name, enabled, manager, source-id and attributes.NAME"
                        .to_owned(),
                ),
            ));
        };
        if all.iter().any(|(known, _)| known == column) {
            bail!("`--map {column}` is given twice");
        }
        all.push((column.to_owned(), key));
    }
    for (column, key) in kept_map(declared, &typed.source) {
        let is_typed = all.iter().any(|(known, typed)| known == column || *typed == key);
        if !is_typed {
            all.push((column.to_owned(), key));
        }
    }
    Ok(all)
}

/// How many complaints are told, each on a line.
const MOST_TOLD: usize = 20;

/// Everything that is wrong, each with its place.
fn refuse(all: &[Complaint]) -> anyhow::Error {
    let told = all.iter().take(MOST_TOLD);
    let mut lines: Vec<String> =
        told.map(|one| format!("{}: {}", one.place, one.message)).collect();
    if all.len() > MOST_TOLD {
        lines.push(format!("and {} more", all.len() - MOST_TOLD));
    }
    let hint = all.iter().find_map(|one| one.hint.clone());
    match &mut lines[..] {
        [one] => Helped::error(std::mem::take(one), hint),
        _ => Helped::listing("what is in the files cannot be imported", lines, hint),
    }
}

fn shape(source: &str, made: Imported, emptied: Vec<String>, kept: Vec<String>) -> wire::Import {
    let complaint = |one: &Complaint| wire::Complaint {
        place: one.place.clone(),
        message: one.message.clone(),
    };
    wire::Import {
        source: source.to_owned(),
        of_source: made.of_source,
        enabled: made.enabled,
        disabled: made.disabled,
        gone: made.gone,
        new: made.new,
        renamed: made.renamed,
        adopted: made.adopted,
        changed: made.changed,
        joined: made.joined,
        left: made.left,
        emptied,
        kept,
        not_taken: made.not_taken.iter().map(complaint).collect(),
    }
}
