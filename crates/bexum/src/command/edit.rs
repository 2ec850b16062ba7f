//! `bexum edit`: the estate changed, seen first and written then.

use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context as _, bail};
use bexum_core::edit::{Edit, EditFault};
use bexum_core::engine::Engine;
use bexum_core::{Declarations, Time};
use bexum_files::edit::journal::{Lock, refuse_without_folder};
use bexum_files::edit::{Plan, PlanError, plan};
use bexum_files::{Folder, Loaded, Sources};
use bexum_wire::edit as wire;
use rayon::prelude::*;

use super::edit_line;
use super::impact::Side;
use super::weigh::{Weighed, weigh};
use crate::args::edit::Edit as Typed;
use crate::args::{Circumstances, Impact, ImpactFormat};
use crate::exit::Exit;
use crate::render::edit::{Shown, diff};
use crate::terminal::{self, Helped};

/// The edits that were asked for, each as it was written.
#[derive(Default)]
pub(super) struct Asked {
    /// The line in a file, from 1, with the edit's text.
    lines: Vec<(Option<usize>, String)>,
    edits: Vec<Edit>,
}

pub(super) fn run(at: Option<&Path>, typed: Typed) -> anyhow::Result<Exit> {
    let now = super::moment(None)?;
    // Nobody asks to be let in at a fraction of a second.
    let now = Time(now.0 - now.0.rem_euclid(1_000_000));
    let mut typed = typed;
    let asked = asked(&mut typed, now)?;
    make_asked(at, &typed, &asked, now)
}

/// Shows some edits and what they do, as data; writes them if that was typed.
pub(super) fn make_these(at: Option<&Path>, typed: &Typed, edits: &[Edit]) -> anyhow::Result<Exit> {
    let now = super::moment(None)?;
    let now = Time(now.0 - now.0.rem_euclid(1_000_000));
    let lines = edits.iter().map(|edit| (None, edit.to_string())).collect();
    make_asked(at, typed, &Asked { lines, edits: edits.to_vec() }, now)
}

fn make_asked(at: Option<&Path>, typed: &Typed, asked: &Asked, now: Time) -> anyhow::Result<Exit> {
    make(
        at,
        typed,
        |_, _| Ok(()),
        |before, declared, ()| {
            let (estate, sources) = (&before.estate, &before.sources);
            let planned = plan(estate, sources, declared, &asked.edits, typed.file.as_deref(), now);
            let renames = |edit: &Edit| matches!(edit, Edit::Rename { .. });
            Ok(Proposed {
                plan: planned.map_err(|error| told(error, asked))?,
                edits: asked.lines.iter().map(|(_, text)| text.clone()).collect(),
                only_renames: asked.edits.iter().all(renames),
                diffs: None,
                head: String::new(),
                refused: None,
                import: None,
            })
        },
    )
}

/// A change that is planned, with what there is to say of it.
pub(super) struct Proposed {
    pub(super) plan: Plan,
    /// The edits, where it is made of some.
    pub(super) edits: Vec<String>,
    /// Whether all of them give new names, so that nothing else may change.
    pub(super) only_renames: bool,
    /// What differs in each of the files, if that was found out already.
    pub(super) diffs: Option<Vec<String>>,
    /// What people are told first.
    pub(super) head: String,
    /// Why it is not to be written whatever it does.
    pub(super) refused: Option<String>,
    /// Of an import, what machines are told.
    pub(super) import: Option<wire::Import>,
}

/// Something that is prepared for a change while the estate is put together.
pub(super) trait Prepared: Send {
    /// Whether nobody can do anything otherwise by the change, so that nothing need be got ready to find
    /// out.
    fn decides_nothing(&self) -> bool {
        false
    }
}

impl Prepared for () {}

/// Shows a change and what it does; writes it if that was typed. What can be prepared knowing only what
/// is declared is prepared while the estate is put together.
pub(super) fn make<P: Prepared>(
    at: Option<&Path>,
    typed: &Typed,
    prepare: impl FnOnce(&Sources, &Declarations) -> anyhow::Result<P> + Send,
    propose: impl FnOnce(&Loaded, Declarations, P) -> anyhow::Result<Proposed> + Send,
) -> anyhow::Result<Exit> {
    let root = super::root(at)?;
    // Whoever writes keeps others from it until all is done.
    let lock = match typed.write {
        true => Some(
            Lock::wait(&root)
                .with_context(|| format!("cannot lock `{}` to write into it", root.display()))?,
        ),
        false => None,
    };
    let (loaded, declared, prepared) = bexum_files::load_while(&Folder(&root), prepare)
        .map_err(|failure| anyhow::Error::new(*failure))?;
    // Who may is asked of what is declared before; else nobody needs that any more.
    let kept = typed.by.as_ref().map(|_| declared.clone()).unwrap_or_default();
    let prepared = prepared?;
    let wants_engine = !prepared.decides_nothing();
    let (proposed, engine) = rayon::join(
        || propose(&loaded, declared, prepared),
        || wants_engine.then(|| Engine::new(Arc::clone(&loaded.estate))),
    );
    let Proposed { plan, edits, only_renames, diffs, head, refused: refused_anyway, import } =
        proposed?;
    let Plan { files, after, declared: declared_after, notes } = plan;
    let Loaded { estate, sources } = loaded;
    refuse_without_folder(&root, &sources, &files)?;
    let before = Side { name: "the files".to_owned(), estate, sources, declared: kept, engine };
    // What is the same is turned around once.
    let is_same = Arc::ptr_eq(&before.estate, &after.estate);
    let after = Side {
        name: "what they would be".to_owned(),
        engine: before.engine.clone().filter(|_| is_same),
        estate: after.estate,
        sources: after.sources,
        declared: declared_after,
    };
    let diffs = diffs.unwrap_or_else(|| diffs_of(&before.sources, &files));
    let impact = impact_of(typed);
    let exit = weigh(at, &impact, [&before, &after], |weighed| {
        let refused = refused_anyway.clone().or_else(|| refused(typed, only_renames, weighed));
        let is_written = typed.write && refused.is_none() && !files.is_empty();
        if let (true, Some(lock)) = (is_written, &lock) {
            lock.write(&before.sources, &files)?;
        }
        let printed = match typed.format.is_json() {
            true => {
                let shape = wire::Edit {
                    version: bexum_wire::VERSION,
                    edits: edits.clone(),
                    import: import.clone(),
                    written: is_written,
                    refused: refused.clone(),
                    despite: typed.despite.clone(),
                    notes: notes.clone(),
                    files: files
                        .iter()
                        .zip(&diffs)
                        .map(|((path, _), diff)| wire::File {
                            path: path.display().to_string(),
                            is_new: before.sources.find(path).is_none(),
                            diff: diff.clone(),
                        })
                        .collect(),
                    impact: weighed.shape(),
                };
                terminal::print_json(&shape)
            }
            false => {
                let shown = Shown {
                    notes: &notes,
                    diffs: &diffs,
                    impact: &weighed.text(),
                    refused: refused.as_deref(),
                    despite: typed.despite.as_deref(),
                    is_written,
                    asks_to_write: typed.write,
                };
                terminal::print(&(head.clone() + &shown.text(terminal::width())))
            }
        };
        terminal::unless_gone(printed)?;
        let is_allowed = weighed.ruling.as_ref().is_none_or(|by| by.ruling.is_allowed());
        if !typed.write {
            weighed.expect_whole()?;
        }
        let fails = !is_allowed || typed.write && refused.is_some();
        Ok(if fails { Exit::Denied } else { Exit::Done })
    })?;
    // The process ends now, and its memory with it: to free it piece by piece takes a while.
    std::mem::forget((before, after));
    Ok(exit)
}

/// What differs in each of some files.
pub(super) fn diffs_of(before: &Sources, files: &[(PathBuf, String)]) -> Vec<String> {
    let old = |path: &PathBuf| before.find(path).map(|source| source.text.as_str());
    files.par_iter().map(|(path, new)| diff(path, old(path), new)).collect()
}

/// An estate with some edits made in memory, one a text, and what it declares.
pub(super) fn supposed(root: &Path, edits: &[String]) -> anyhow::Result<(Loaded, Declarations)> {
    let now = super::moment(None)?;
    let now = Time(now.0 - now.0.rem_euclid(1_000_000));
    let (loaded, declared) = bexum_files::load_declared(&Folder(root), None)
        .map_err(|failure| anyhow::Error::new(*failure))?;
    let mut asked = Asked { lines: Vec::new(), edits: Vec::new() };
    for text in edits {
        let found =
            edit_line::of_text(text, now).with_context(|| format!("`--suppose '{text}'`"))?;
        for (_, line, edit) in found {
            asked.lines.push((None, line));
            asked.edits.push(edit);
        }
    }
    let planned = plan(&loaded.estate, &loaded.sources, declared, &asked.edits, None, now);
    let planned = planned.map_err(|error| told(error, &asked))?;
    Ok((planned.after, planned.declared))
}

/// The edits as typed: one on the command line, or those of a file.
fn asked(typed: &mut Typed, now: Time) -> anyhow::Result<Asked> {
    match (typed.edit.take(), &typed.from) {
        (Some(_), Some(_)) => bail!("an edit and `--from`: write it into the file, too"),
        (None, None) => Err(Helped::error(
            "no edit is named",
            Some("`bexum edit --help` lists them; `--from FILE` takes them from a file".to_owned()),
        )),
        (Some(line), None) => {
            let edit = edit_line::of_line(line, now)?;
            Ok(Asked { lines: vec![(None, edit.to_string())], edits: vec![edit] })
        }
        (None, Some(file)) => {
            let (name, text) = match file.as_os_str() == "-" {
                true => {
                    let mut text = String::new();
                    let read = std::io::stdin().read_to_string(&mut text);
                    read.context("cannot read standard input")?;
                    ("standard input".to_owned(), text)
                }
                false => {
                    let name = file.display().to_string();
                    let text = std::fs::read_to_string(file);
                    (name.clone(), text.with_context(|| format!("cannot read `{name}`"))?)
                }
            };
            let found = edit_line::of_text(&text, now).with_context(|| name.clone())?;
            if found.is_empty() {
                bail!("{name} holds no edit");
            }
            let (lines, edits) =
                found.into_iter().map(|(at, text, edit)| ((Some(at), text), edit)).unzip();
            Ok(Asked { lines, edits })
        }
    }
}

/// What `impact` is asked of an edit.
fn impact_of(typed: &Typed) -> Impact {
    Impact {
        before: None,
        // Neither is a folder that another command could be pointed at.
        after: Some("what they would be".to_owned()),
        who: Vec::new(),
        path: None,
        action: Vec::new(),
        level: None,
        fail_on: Vec::new(),
        by: typed.by.clone(),
        beside: Vec::new(),
        log: Vec::new(),
        from_broken: false,
        full: typed.full,
        together: false,
        circumstances: Circumstances {
            take_up: typed.take_up.clone(),
            given: typed.given.clone(),
            at_time: typed.at_time.clone(),
            ..Circumstances::default()
        },
        format: if typed.format.is_json() { ImpactFormat::Json } else { ImpactFormat::Text },
    }
}

/// Why the edits are not to be written, if so: somebody may not make them, an expectation breaks, or
/// a new name changes more than names.
fn refused(typed: &Typed, only_renames: bool, weighed: &Weighed<'_>) -> Option<String> {
    if let Some(by) = weighed.ruling.as_ref().filter(|by| !by.ruling.is_allowed()) {
        return Some(format!("{} may not make this change", by.request.who));
    }
    if typed.despite.is_some() {
        return None;
    }
    if weighed.breaks() {
        return Some("an expectation breaks by it".to_owned());
    }
    if let Err(left_out) = weighed.expect_whole() {
        return Some(format!("what it does is not known in full: {left_out}"));
    }
    if only_renames {
        let renamed = weighed.renamed();
        let (left, _) = weighed.told_as_one(&renamed);
        if !left.is_empty() {
            return Some("under the new name it is not the same that can be done".to_owned());
        }
    }
    None
}

/// Why edits cannot be planned, with the line, and what to do.
pub(super) fn told(error: PlanError, asked: &Asked) -> anyhow::Error {
    let line = |at: usize| match asked.lines.get(at) {
        Some((Some(line), _)) => format!("line {line}: "),
        _ => String::new(),
    };
    match error {
        PlanError::Edit { at, fault, sources } => {
            let uses = match &fault {
                EditFault::InUse { uses, .. } => &uses[..],
                _ => &[],
            };
            let uses = uses.iter();
            let lines = uses.map(|one| format!("{} ({})", one.what, sources.shown(one.origin)));
            let message = format!("{}{fault}", line(at));
            Helped::listing(message, lines.collect(), fault.hint())
        }
        PlanError::Refused(failure) => anyhow::Error::new(*failure),
        PlanError::NotTheSame { at, .. } => {
            let message = format!("{}{error}", line(at));
            Helped::error(
                message,
                Some("this is a fault of bexum: edit the file by hand".to_owned()),
            )
        }
        other => anyhow::Error::new(other),
    }
}
