//! An estate is the same wherever its texts come from.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use bexum_files::{
    Failure, Folder, Laid, Loaded, Named, Problem, Revision, TextSource, Workspace, load, load_from,
};

const ROOT: &str = "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\n";
const PEOPLE: &str = "[user.ines]\n[user.rafi]\n[group.crew]\nmembers = ['user:ines']\n";
const PLACES: &str = "[account.v]\n[resource.'v/s']\nkind = 'store'\n";
const POLICY: &str =
    "[[policy.p.allow]]\ndo = '*'\n[[attach]]\npolicy = 'p'\nto = 'group:crew'\nat = 'v'\n";

fn files() -> Vec<(&'static str, &'static str)> {
    vec![
        ("bexum.toml", ROOT),
        ("people/crew.toml", PEOPLE),
        ("places.toml", PLACES),
        ("policies/p.toml", POLICY),
    ]
}

fn write(root: &Path, files: &[(&str, &str)]) {
    for (path, text) in files {
        let path = root.join(path);
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder is made");
        fs::write(path, text).expect("a file is written");
    }
}

fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    write(folder.path(), &files());
    folder
}

/// Everything about an estate and its places, or its faults.
fn told(loaded: &Result<Loaded, Box<Failure>>) -> String {
    match loaded {
        Ok(loaded) => {
            let files: Vec<_> =
                loaded.sources.iter().map(|file| (&file.path, &file.text)).collect();
            format!("{:?} {files:?}", loaded.estate)
        }
        Err(failure) => {
            let tell = |problem: &Problem| format!("{problem} at {:?}\n", problem.place());
            failure.problems.iter().map(tell).collect()
        }
    }
}

fn from(texts: &impl TextSource) -> String {
    told(&load_from(texts))
}

#[test]
fn texts_by_name_are_as_good_as_a_folder() {
    let folder = folder();
    let mut named: Vec<(PathBuf, String)> =
        files().into_iter().map(|(path, text)| (path.into(), text.to_owned())).collect();
    named.reverse();
    assert_eq!(
        from(&Named { root: folder.path().to_path_buf(), files: named }),
        told(&load(folder.path()))
    );
    let none = load_from(&Named { root: "nowhere".into(), files: Vec::new() });
    assert!(told(&none).starts_with("`nowhere` is no estate"), "{}", told(&none));
}

/// What an estate is with texts laid over it is what a folder with these texts holds; also when
/// only those are decoded again, and whether it loads or not.
#[test]
fn texts_laid_over_others_are_as_good_as_written() {
    let laid: [&[(&str, Option<&str>)]; 8] = [
        &[],
        &[("policies/p.toml", Some("[[policy.p.deny]]\ndo = 'store.list'\n"))],
        &[("people/new.toml", Some("[user.lin]\n"))],
        &[("places.toml", None)],
        &[("places.toml", None), ("z.toml", Some(PLACES))],
        &[("people/crew.toml", Some("[user.ines]\n[user.ines]\n"))],
        &[("bexum.toml", Some("[estate]\nname = 'y'\nformat = 1\n[kind.store]\n"))],
        &[("a.toml", Some("[group.more]\nmembers = ['user:nobody']\n")), ("gone.toml", None)],
    ];
    let before = folder();
    let workspace = Workspace::open(&Folder(before.path())).expect("it loads");
    for change in laid {
        let changed: Vec<(PathBuf, Option<String>)> =
            change.iter().map(|(path, text)| ((*path).into(), text.map(str::to_owned))).collect();
        let after = folder();
        for (path, text) in change {
            match text {
                Some(text) => write(after.path(), &[(path, text)]),
                None => drop(fs::remove_file(after.path().join(path))),
            }
        }
        let written = told(&load(after.path()));
        let over = Folder(before.path());
        assert_eq!(from(&Laid { over: &over, files: changed.clone() }), written, "{change:?}");
        let again = match workspace.with(changed.clone()) {
            Ok(again) => {
                // Changes can be made one after the other.
                let undone: Vec<(PathBuf, Option<String>)> = changed
                    .iter()
                    .map(|(path, _)| {
                        (path.clone(), fs::read_to_string(before.path().join(path)).ok())
                    })
                    .collect();
                let back = again.with(undone).expect("it loads again");
                assert_eq!(told(&Ok(loaded(&back))), told(&load(before.path())), "{change:?}");
                told(&Ok(loaded(&again)))
            }
            Err(failure) => told(&Err(failure)),
        };
        assert_eq!(again, written, "{change:?}");
    }
    assert_eq!(told(&Ok(loaded(&workspace))), told(&load(before.path())));
}

fn loaded(workspace: &Workspace) -> Loaded {
    let files = workspace.sources().iter().map(|file| (file.path.clone(), file.text.clone()));
    let sources = Named { root: "x".into(), files: files.collect() };
    let fresh = load_from(&sources).expect("it loads");
    Loaded { estate: workspace.estate().clone(), ..fresh }
}

fn git(at: &Path, arguments: &[&str]) {
    let output = Command::new("git")
        .args(["-c", "user.name=x", "-c", "user.email=x@example.org"])
        .args(["-c", "protocol.file.allow=always"])
        .arg("-C")
        .arg(at)
        .args(arguments)
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .output()
        .expect("git runs");
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "git {arguments:?}: {said}");
}

fn commit(at: &Path) {
    git(at, &["add", "--all"]);
    git(at, &["commit", "--quiet", "--allow-empty", "--message", "x"]);
}

fn revision(folder: &Path, name: &str) -> Revision {
    Revision { folder: folder.to_path_buf(), name: name.to_owned() }
}

#[test]
fn a_revision_is_what_the_folder_was() {
    let repository = tempfile::tempdir().expect("a folder");
    let estate = repository.path().join("deep/estate");
    git(repository.path(), &["init", "--quiet"]);
    write(repository.path(), &[("other/bexum.toml", "no estate at all")]);
    commit(repository.path());
    write(&estate, &files());
    write(&estate, &[(".hidden/x.toml", "[broken"), ("notes.md", "text"), ("näme ü.toml", "")]);
    commit(repository.path());
    let before = told(&load(&estate));
    write(&estate, &[("places.toml", "[account.elsewhere]\n")]);
    git(repository.path(), &["rm", "--quiet", "deep/estate/policies/p.toml"]);
    commit(repository.path());
    assert_eq!(from(&revision(&estate, "HEAD")), told(&load(&estate)));
    assert_eq!(from(&revision(&estate, "HEAD~1")), before);
    assert_ne!(before, told(&load(&estate)));
    // What stands in the folder and is not committed has no say.
    write(&estate, &[("places.toml", "[broken")]);
    assert_eq!(from(&revision(&estate, "HEAD~1")), before);
    for (name, said) in [
        ("HEAD~2", "has no estate in"),
        ("HEAD~7", "has no revision `HEAD~7`"),
        ("nothing", "has no revision `nothing`"),
        ("--all", "has no revision `--all`"),
        ("HEAD:deep", "has no revision `HEAD:deep`"),
    ] {
        let told = from(&revision(&estate, name));
        assert!(told.contains(said), "{name}: {told}");
    }
    let alone = tempfile::tempdir().expect("a folder");
    let told = from(&revision(alone.path(), "HEAD"));
    assert!(told.contains("lies in no git repository"), "{told}");
}

#[cfg(unix)]
#[test]
fn links_and_other_repositories_in_a_revision() {
    use std::os::unix::fs::symlink;
    let repository = tempfile::tempdir().expect("a folder");
    let estate = repository.path().join("estate");
    git(repository.path(), &["init", "--quiet"]);
    write(&estate, &files());
    write(repository.path(), &[("aside/file.toml", "[user.aside]\n"), ("aside/text", "")]);
    let link = |to: &str, at: &str| symlink(to, estate.join(at)).expect("a link");
    // Inside: a file under another name, a folder, a link to a link, one that is nobody's business.
    link("people/crew.toml", "again.toml");
    link("people", "folder");
    link("../estate/again.toml", "twice.toml");
    link("../aside/text", "readme");
    write(&estate, &[(".kept/more.toml", "[user.more]\n")]);
    link(".kept/more.toml", "more.toml");
    commit(repository.path());
    assert!(load(&estate).is_ok(), "{}", told(&load(&estate)));
    assert_eq!(from(&revision(&estate, "HEAD")), told(&load(&estate)));
    // Out of it, to nowhere, round and round.
    link("../aside/file.toml", "out.toml");
    link("../aside", "outside");
    link("/dev/null/revision/estate/places.toml", "far.toml");
    link("gone.toml", "nowhere.toml");
    link("ring.toml", "ring.toml");
    commit(repository.path());
    let told_of = from(&revision(&estate, "HEAD"));
    for said in [
        "link `out.toml` leads out of the estate",
        "link `outside` leads out of the estate",
        "link `nowhere.toml` leads nowhere",
        "link `ring.toml` leads nowhere",
        "link `far.toml` leads nowhere",
    ] {
        assert!(told_of.contains(said), "{said}: {told_of}");
    }
    let inner = tempfile::tempdir().expect("a folder");
    git(inner.path(), &["init", "--quiet"]);
    commit(inner.path());
    let inner = inner.path().to_str().expect("a path");
    git(&estate, &["submodule", "--quiet", "add", inner, "inner"]);
    commit(repository.path());
    let told = from(&revision(&estate, "HEAD"));
    assert!(told.contains("`inner` is kept in another repository"), "{told}");
}

#[test]
fn many_files_of_a_revision_do_not_block_each_other() {
    let repository = tempfile::tempdir().expect("a folder");
    git(repository.path(), &["init", "--quiet"]);
    write(repository.path(), &files());
    let long = "# a long comment\n".repeat(4_000);
    for i in 0..3_000 {
        let text = if i % 100 == 0 { long.as_str() } else { "" };
        write(repository.path(), &[(&*format!("many/{i}.toml"), &*format!("[user.u{i}]\n{text}"))]);
    }
    commit(repository.path());
    let loaded = load_from(&revision(repository.path(), "HEAD")).expect("it loads");
    assert_eq!(loaded.estate.users.len(), 3_002);
}

/// Every remedy, done to the bytes that it names, mends its fault and brings no other.
#[test]
fn remedies_mend() {
    let wrong = [
        ("[usr.lin]\n", "unknown-table"),
        ("[user.lin]\nmanagr = 'user:ines'\n", "unknown-key"),
        ("[group.more]\nmembers = ['user:inse']\n", "undeclared"),
        (
            "[resource.'v/z/deep']\nkind = \"stroe\"\n[resource.'v/z']\nkind = 'store'\n",
            "undeclared",
        ),
        ("[kind.disk]\nobserve = ['list']\naccount-wide = ['lst']\n", "verb-unlisted"),
        ("[resource.'v/ss/x']\nkind = 'store'\n", "orphan"),
        ("[[policy.q.deny]]\ndo = ['*', \"!store.lisst\"]\n", "no-action"),
    ];
    for (text, code) in wrong {
        let folder = folder();
        write(folder.path(), &[("new.toml", text)]);
        let failure = load(folder.path()).expect_err("it has a fault");
        let diagnostics: Vec<_> = failure.diagnostics().collect();
        let [diagnostic] = &diagnostics[..] else { panic!("one fault: {diagnostics:?}") };
        assert_eq!(diagnostic.code, code);
        let remedy = diagnostic.remedy.as_ref().expect("a remedy");
        let bytes = failure.sources.bytes_of_remedy(remedy).expect("it stands there once");
        let mut mended = text.to_owned();
        mended.replace_range(bytes, &remedy.name);
        write(folder.path(), &[("new.toml", &mended)]);
        assert!(load(folder.path()).is_ok(), "{mended}: {}", told(&load(folder.path())));
    }
}
