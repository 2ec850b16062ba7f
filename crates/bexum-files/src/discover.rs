//! Which files belong to an estate (spec section 2).

use std::collections::{BTreeMap, HashSet};
use std::ffi::OsString;
use std::fs;
use std::io;
use std::path::{Component, Path, PathBuf};

use crate::problem::Problem;

/// The file that makes a folder an estate.
pub const ROOT_FILE: &str = "bexum.toml";

/// Most files that an estate may have.
const MOST_FILES: usize = 1_000_000;

/// The nearest folder at or above `start` that holds a `bexum.toml`.
#[must_use]
pub fn find_root(start: &Path) -> Option<PathBuf> {
    let start = start.canonicalize().ok()?;
    start.ancestors().find(|folder| folder.join(ROOT_FILE).is_file()).map(Path::to_path_buf)
}

/// The path of a file that may be one of an estate, from its root, without `.` on the way; else why
/// it may not.
pub(crate) fn estate_file(named: &Path) -> Result<PathBuf, &'static str> {
    let mut plain = PathBuf::new();
    for part in named.components() {
        match part {
            Component::CurDir => {}
            Component::Normal(name) if !name.as_encoded_bytes().starts_with(b".") => {
                plain.push(name);
            }
            _ => return Err("name it from the estate's root, with no hidden folder on the way"),
        }
    }
    match plain.extension().is_some_and(|extension| extension == "toml") {
        true => Ok(plain),
        false => Err("its name must end in `.toml`"),
    }
}

/// A file to read: where it is shown, and where it really is.
#[derive(Debug)]
pub(crate) struct FoundFile {
    /// Below the root, by the way it was found.
    pub(crate) shown: PathBuf,
    /// Canonical.
    pub(crate) real: PathBuf,
}

/// What stands under a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Folder,
    /// A regular file.
    File,
    Link,
    /// A folder whose content is kept in another repository.
    Elsewhere,
    /// Neither of these, or nothing.
    Other,
}

/// Folders and files, wherever they are kept.
pub(crate) trait Tree {
    /// What a folder holds, given its canonical path.
    fn entries(&self, folder: &Path) -> io::Result<Vec<(OsString, Kind)>>;

    /// A path without links.
    fn canonical(&self, path: &Path) -> io::Result<PathBuf>;

    /// What stands at a canonical path.
    fn kind(&self, real: &Path) -> Kind;
}

/// The tree of the file system.
#[derive(Debug)]
pub(crate) struct FileSystem;

impl Tree for FileSystem {
    fn entries(&self, folder: &Path) -> io::Result<Vec<(OsString, Kind)>> {
        let entries = fs::read_dir(folder)?;
        entries
            .map(|entry| {
                let entry = entry?;
                Ok((entry.file_name(), kind(entry.file_type()?)))
            })
            .collect()
    }

    fn canonical(&self, path: &Path) -> io::Result<PathBuf> {
        path.canonicalize()
    }

    fn kind(&self, real: &Path) -> Kind {
        real.metadata().map_or(Kind::Other, |about| kind(about.file_type()))
    }
}

fn kind(of: fs::FileType) -> Kind {
    match of {
        of if of.is_symlink() => Kind::Link,
        of if of.is_dir() => Kind::Folder,
        of if of.is_file() => Kind::File,
        _ => Kind::Other,
    }
}

struct Discovery<'t, T> {
    tree: &'t T,
    root: PathBuf,
    seen_folders: HashSet<PathBuf>,
    /// By canonical path, so that each file is read once.
    files: BTreeMap<PathBuf, PathBuf>,
    links: Vec<PathBuf>,
    problems: Vec<Problem>,
}

/// Every file of the estate at `root` (canonical) in a tree, in path order.
///
/// Folders and files are taken under their real names before links are followed, so a link never
/// renames what stands in the estate itself.
pub(crate) fn discover(root: &Path, tree: &impl Tree) -> (Vec<FoundFile>, Vec<Problem>) {
    let mut search = Discovery {
        tree,
        root: root.to_path_buf(),
        seen_folders: HashSet::new(),
        files: BTreeMap::new(),
        links: Vec::new(),
        problems: Vec::new(),
    };
    search.walk(PathBuf::new(), root.to_path_buf());
    loop {
        let mut links = std::mem::take(&mut search.links);
        if links.is_empty() {
            break;
        }
        links.sort();
        for link in links {
            search.follow(link);
        }
    }
    let mut files: Vec<FoundFile> =
        search.files.into_iter().map(|(real, shown)| FoundFile { shown, real }).collect();
    files.sort_by(|a, b| a.shown.cmp(&b.shown));
    if files.len() > MOST_FILES {
        search.problems.push(Problem::TooManyFiles { count: files.len(), most: MOST_FILES });
        files.clear();
    }
    (files, search.problems)
}

impl<T: Tree> Discovery<'_, T> {
    /// Everything below a folder that is no link; links are put aside.
    fn walk(&mut self, shown: PathBuf, real: PathBuf) {
        let mut folders = vec![(shown, real)];
        while let Some((shown, real)) = folders.pop() {
            if !self.seen_folders.insert(real.clone()) {
                continue;
            }
            let entries = match self.tree.entries(&real) {
                Ok(entries) => entries,
                Err(error) => {
                    self.problems.push(Problem::Unreadable { path: or_dot(&shown), error });
                    continue;
                }
            };
            for (name, kind) in entries {
                if name.as_encoded_bytes().starts_with(b".") {
                    continue;
                }
                let (shown, real) = (shown.join(&name), real.join(&name));
                match kind {
                    Kind::Link => self.links.push(shown),
                    Kind::Folder => folders.push((shown, real)),
                    Kind::File if is_toml(&name) => {
                        self.files.insert(real, shown);
                    }
                    Kind::Elsewhere => self.problems.push(Problem::Elsewhere(shown)),
                    Kind::File | Kind::Other => {}
                }
            }
        }
    }

    /// A link that ends in `.toml` or leads to a folder; others are nobody's business.
    fn follow(&mut self, link: PathBuf) {
        let ends_in_toml = link.file_name().is_some_and(is_toml);
        let real = match self.tree.canonical(&self.root.join(&link)) {
            Ok(real) => real,
            Err(error) if ends_in_toml => {
                self.problems.push(Problem::LinkNowhere { path: link, error });
                return;
            }
            Err(_) => return,
        };
        let kind = self.tree.kind(&real);
        let is_folder = kind == Kind::Folder;
        if !is_folder && !ends_in_toml {
            return;
        }
        if !real.starts_with(&self.root) {
            self.problems.push(Problem::LinkOutside { path: link, to: real });
        } else if is_folder {
            self.walk(link, real);
        } else if kind == Kind::File {
            self.files.entry(real).or_insert(link);
        }
    }
}

fn is_toml(name: &std::ffi::OsStr) -> bool {
    name.as_encoded_bytes().ends_with(b".toml")
}

fn or_dot(path: &Path) -> PathBuf {
    if path.as_os_str().is_empty() { PathBuf::from(".") } else { path.to_path_buf() }
}
