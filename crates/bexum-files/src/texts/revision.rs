//! The texts of an estate as they stand in a revision of a git repository. Nothing is checked out:
//! `git` is asked for the names and then for the bytes.

use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::io::{self, BufRead as _, BufReader, Read as _, Write as _};
use std::path::{Component, Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;

use super::{TextSource, Texts};
use crate::discover::{self, FoundFile, Kind, ROOT_FILE, Tree};
use crate::problem::{ESTATE_BYTES, FILE_BYTES, Problem};
use crate::source::Source;

/// A revision of the repository that an estate's folder lies in.
#[derive(Clone, Debug)]
pub struct Revision {
    /// The estate's folder, in the working tree.
    pub folder: PathBuf,
    /// What `git` calls the revision: `HEAD~3`, `main`, a tag; `main...` is the last commit that
    /// `main` has in common with `HEAD`.
    pub name: String,
}

/// Why a revision cannot be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RevisionError {
    /// The program is not there, or cannot be run.
    #[error("cannot run `git`: {0}")]
    NoGit(io::Error),
    /// The folder belongs to no repository.
    #[error("`{}` lies in no git repository", .0.display())]
    NoRepository(PathBuf),
    /// Nothing of this name is a commit.
    #[error("the git repository of `{}` has no revision `{name}`", folder.display())]
    NoRevision {
        /// The estate's folder.
        folder: PathBuf,
        /// As named.
        name: String,
    },
    /// The folder holds no estate there.
    #[error("revision `{name}` has no estate in `{}`: it has no `bexum.toml`", folder.display())]
    NoEstate {
        /// The estate's folder.
        folder: PathBuf,
        /// As named.
        name: String,
    },
    /// The program said something else.
    #[error("`git {command}` failed: {said}")]
    Failed {
        /// Which command.
        command: &'static str,
        /// Its own words.
        said: String,
    },
}

impl TextSource for Revision {
    fn texts(&self) -> Result<Texts, Problem> {
        self.read().map_err(|error| match error {
            Failed::Revision(error) => Problem::Revision(Box::new(error)),
            Failed::Whole(problem) => problem,
        })
    }

    fn root(&self) -> PathBuf {
        PathBuf::from(format!("{} at {}", self.folder.display(), self.name))
    }
}

enum Failed {
    Revision(RevisionError),
    Whole(Problem),
}

impl From<RevisionError> for Failed {
    fn from(error: RevisionError) -> Self {
        Self::Revision(error)
    }
}

/// Where the tree of a revision stands, among paths: below what can be no folder.
const TOP: &str = "/dev/null/revision";
/// Links on the way of one path beyond which it leads nowhere.
const MOST_LINKS: usize = 40;

impl Revision {
    fn read(&self) -> Result<Texts, Failed> {
        let prefix = self.ask("rev-parse", &["--show-prefix"])?;
        let Some(prefix) = prefix else {
            return Err(RevisionError::NoRepository(self.folder.clone()).into());
        };
        let prefix = path_of(prefix.strip_suffix(b"\n").unwrap_or(&prefix));
        let name = || (self.folder.clone(), self.name.clone());
        let commit_of = |name: &str| {
            let commit = format!("{name}^{{commit}}");
            self.ask("rev-parse", &["--verify", "--quiet", "--end-of-options", &commit])
        };
        let commit = match self.name.strip_suffix("...") {
            None => commit_of(&self.name)?,
            Some(branch) => match commit_of(branch)? {
                None => None,
                Some(commit) => {
                    let commit = String::from_utf8_lossy(commit.trim_ascii()).into_owned();
                    self.ask("merge-base", &[&commit, "HEAD"])?
                }
            },
        };
        let Some(commit) = commit else {
            let (folder, name) = name();
            return Err(RevisionError::NoRevision { folder, name }.into());
        };
        let commit = String::from_utf8_lossy(commit.trim_ascii()).into_owned();
        let tree = self.tree(&commit)?;
        let root = Path::new(TOP).join(prefix);
        let root = tree.canonical(&root).unwrap_or(root);
        let real_root_file = tree.canonical(&root.join(ROOT_FILE));
        let Some(real_root_file) = real_root_file.ok().filter(|f| tree.kind(f) == Kind::File)
        else {
            let (folder, name) = name();
            return Err(RevisionError::NoEstate { folder, name }.into());
        };
        let (found, problems) = discover::discover(&root, &tree);
        self.read_files(&tree, &found, &real_root_file, problems)
    }

    fn git(&self, command: &'static str, arguments: &[&str]) -> Command {
        let mut git = Command::new("git");
        git.arg("-C").arg(&self.folder).arg(command).args(arguments);
        git.env("LC_ALL", "C").stdin(Stdio::null());
        git
    }

    /// What a command prints; `None` when it fails.
    fn ask(
        &self,
        command: &'static str,
        arguments: &[&str],
    ) -> Result<Option<Vec<u8>>, RevisionError> {
        let output = self.git(command, arguments).output().map_err(RevisionError::NoGit)?;
        Ok(output.status.success().then_some(output.stdout))
    }

    /// Every name in a commit.
    fn tree(&self, commit: &str) -> Result<GitTree, Failed> {
        let failed = |said: String| RevisionError::Failed { command: "ls-tree", said };
        let listed = self.ask("ls-tree", &["-rz", "--full-tree", commit])?;
        let listed = listed.ok_or_else(|| failed(format!("it cannot list `{commit}`")))?;
        let mut tree = GitTree::default();
        for line in listed.split(|byte| *byte == 0).filter(|line| !line.is_empty()) {
            // `100644 blob 3b18e5…<tab>people/users.toml`
            let Some(tab) = line.iter().position(|byte| *byte == b'\t') else {
                return Err(failed("an entry that is none".to_owned()).into());
            };
            let about = String::from_utf8_lossy(&line[..tab]).into_owned();
            let mut words = about.split(' ');
            let (Some(mode), Some(_), Some(object)) = (words.next(), words.next(), words.next())
            else {
                return Err(failed("an entry that is none".to_owned()).into());
            };
            let kind = match mode {
                "120000" => Kind::Link,
                "160000" => Kind::Elsewhere,
                _ => Kind::File,
            };
            let path = Path::new(TOP).join(path_of(&line[tab + 1..]));
            tree.add(path, kind, object);
        }
        self.read_links(&mut tree)?;
        Ok(tree)
    }

    fn read_links(&self, tree: &mut GitTree) -> Result<(), Failed> {
        let links: Vec<PathBuf> = tree
            .entries
            .iter()
            .filter(|(_, entry)| entry.kind == Kind::Link)
            .map(|(path, _)| path.clone())
            .collect();
        let objects = links.iter().map(|path| tree.entries[path].object.clone()).collect();
        let mut contents = Vec::with_capacity(links.len());
        self.objects(objects, |_, bytes| contents.push(bytes))?;
        for (path, bytes) in links.into_iter().zip(contents) {
            tree.targets.insert(path, path_of(&bytes.unwrap_or_default()));
        }
        Ok(())
    }

    fn read_files(
        &self,
        tree: &GitTree,
        found: &[FoundFile],
        real_root_file: &Path,
        mut problems: Vec<Problem>,
    ) -> Result<Texts, Failed> {
        let object = |found: &FoundFile| tree.entries.get(&found.real).map(|e| e.object.clone());
        let objects = found.iter().filter_map(object).collect();
        let (mut files, mut root_file, mut whole) = (Vec::new(), None, 0);
        let mut found = found.iter();
        self.objects(objects, |size, bytes| {
            let Some(found) = found.next() else { return };
            whole += size.min(FILE_BYTES);
            let shown = found.shown.clone();
            match bytes.map(|bytes| Source::read(shown.clone(), bytes)) {
                Some(Ok(source)) if whole <= ESTATE_BYTES => {
                    if found.real == real_root_file {
                        root_file = Some(files.len());
                    }
                    files.push(Arc::new(source));
                }
                Some(Ok(_)) => {}
                Some(Err(problem)) => problems.push(problem),
                None => problems.push(Problem::TooLarge(shown)),
            }
        })?;
        if whole > ESTATE_BYTES {
            return Err(Failed::Whole(Problem::EstateTooLarge { bytes: whole }));
        }
        Ok(Texts { files, root_file, problems })
    }

    /// The bytes of objects, one after the other, each with its size; `None` for one beyond all use.
    fn objects(
        &self,
        objects: Vec<String>,
        mut each: impl FnMut(u64, Option<Vec<u8>>),
    ) -> Result<(), Failed> {
        if objects.is_empty() {
            return Ok(());
        }
        let mut git = self.git("cat-file", &["--batch"]);
        let mut child = git
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .map_err(RevisionError::NoGit)?;
        let count = objects.len();
        let read = talk(&mut child, objects, count, &mut each);
        let ended = child.wait();
        let said = match (read, ended) {
            (Ok(()), Ok(status)) if status.success() => return Ok(()),
            (Ok(()), Ok(status)) => status.to_string(),
            (Err(error), _) | (_, Err(error)) => error.to_string(),
        };
        Err(RevisionError::Failed { command: "cat-file", said }.into())
    }
}

/// Asks for all objects from a thread of its own, since both pipes may be full at once.
fn talk(
    child: &mut Child,
    objects: Vec<String>,
    count: usize,
    each: &mut impl FnMut(u64, Option<Vec<u8>>),
) -> io::Result<()> {
    let (Some(mut asking), Some(answers)) = (child.stdin.take(), child.stdout.take()) else {
        return Err(io::Error::other("it has no pipes"));
    };
    std::thread::scope(|scope| {
        // When it ends early, the answers say so.
        scope.spawn(move || {
            for object in objects {
                if writeln!(asking, "{object}").is_err() {
                    return;
                }
            }
        });
        let mut answers = BufReader::new(answers);
        for _ in 0..count {
            // `3b18e5… blob 512`, a line end, so many bytes, a line end
            let mut head = String::new();
            answers.read_line(&mut head)?;
            let size = head.trim_end().rsplit(' ').next().and_then(|size| size.parse().ok());
            let size: u64 =
                size.ok_or_else(|| io::Error::other(format!("it answers `{}`", head.trim_end())))?;
            if size > FILE_BYTES {
                io::copy(&mut answers.by_ref().take(size), &mut io::sink())?;
                each(size, None);
            } else {
                let mut bytes = Vec::new();
                answers.by_ref().take(size).read_to_end(&mut bytes)?;
                if bytes.len() as u64 != size {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                }
                each(size, Some(bytes));
            }
            answers.read_exact(&mut [0])?;
        }
        Ok(())
    })
}

#[derive(Debug)]
struct Entry {
    kind: Kind,
    object: String,
}

/// The names in a commit, below [`TOP`].
#[derive(Debug, Default)]
struct GitTree {
    entries: BTreeMap<PathBuf, Entry>,
    folders: BTreeMap<PathBuf, Vec<(OsString, Kind)>>,
    /// Where each link leads, as written.
    targets: BTreeMap<PathBuf, PathBuf>,
}

impl GitTree {
    fn add(&mut self, path: PathBuf, kind: Kind, object: &str) {
        let mut below = (path.clone(), kind);
        while let (Some(folder), Some(name)) = (below.0.parent(), below.0.file_name()) {
            if !below.0.starts_with(TOP) || below.0 == Path::new(TOP) {
                break;
            }
            let is_new = !self.folders.contains_key(folder);
            let inside = self.folders.entry(folder.to_path_buf()).or_default();
            inside.push((name.to_owned(), below.1));
            if !is_new {
                break;
            }
            below = (folder.to_path_buf(), Kind::Folder);
        }
        self.entries.insert(path, Entry { kind, object: object.to_owned() });
    }
}

impl Tree for GitTree {
    fn entries(&self, folder: &Path) -> io::Result<Vec<(OsString, Kind)>> {
        Ok(self.folders.get(folder).cloned().unwrap_or_default())
    }

    fn canonical(&self, path: &Path) -> io::Result<PathBuf> {
        let mut left: Vec<OsString> =
            path.components().rev().map(|part| part.as_os_str().to_owned()).collect();
        let (mut real, mut links) = (PathBuf::new(), 0);
        while let Some(part) = left.pop() {
            match Path::new(&part).components().next() {
                Some(Component::ParentDir) => {
                    real.pop();
                    continue;
                }
                Some(Component::CurDir) | None => continue,
                Some(_) => real.push(&part),
            }
            // What lies outside of the tree is outside of the estate, whatever it is.
            let is_above = Path::new(TOP).starts_with(&real);
            match self.kind(&real) {
                Kind::Link => {
                    links += 1;
                    if links > MOST_LINKS {
                        return Err(io::Error::other("too many links on the way"));
                    }
                    let target = self.targets.get(&real).cloned().unwrap_or_default();
                    if target.starts_with(TOP) {
                        return Err(io::ErrorKind::NotFound.into());
                    }
                    real.pop();
                    left.extend(target.components().rev().map(|p| p.as_os_str().to_owned()));
                }
                Kind::Other if !is_above && real.starts_with(TOP) => {
                    return Err(io::ErrorKind::NotFound.into());
                }
                _ => {}
            }
        }
        Ok(real)
    }

    fn kind(&self, real: &Path) -> Kind {
        match self.entries.get(real) {
            Some(entry) => entry.kind,
            None if self.folders.contains_key(real) => Kind::Folder,
            None => Kind::Other,
        }
    }
}

#[cfg(unix)]
fn path_of(bytes: &[u8]) -> PathBuf {
    use std::os::unix::ffi::OsStrExt as _;
    PathBuf::from(OsStr::from_bytes(bytes))
}

#[cfg(not(unix))]
fn path_of(bytes: &[u8]) -> PathBuf {
    PathBuf::from(OsStr::new(&*String::from_utf8_lossy(bytes)))
}
