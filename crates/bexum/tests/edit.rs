//! `edit`: the estate changed, seen first and written then.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use crate::support::{Folder, Run};

/// An attachment and a ceiling that tie several, for the demo.
const TIED: &str = "# what is tied to what\n[[attach]]\npolicy = [\"archive-reader\", \"phone-book\"]  # two\nto = [\n  \"user:sol\",  # on loan\n  \"group:visitors\",\n]\nat = [\"veyra/survey\", \"veyra/core\"]\nuntil = 2030-01-01T00:00:00Z\n\n[[ceiling]]\npolicy = \"look-only\"\nover = [\"veyra/survey\", \"veyra/core\"]\nfor = [\"user:sol\", \"user:noor\"]\n";

/// The texts of all files below a folder.
pub(crate) fn texts(folder: &Path) -> BTreeMap<PathBuf, String> {
    let mut found = BTreeMap::new();
    let mut waiting = vec![folder.to_path_buf()];
    while let Some(at) = waiting.pop() {
        for entry in std::fs::read_dir(at).expect("a folder") {
            let path = entry.expect("an entry").path();
            match path.is_dir() {
                true => waiting.push(path),
                false => {
                    let name = path.strip_prefix(folder).expect("below it").to_path_buf();
                    found.insert(name, std::fs::read_to_string(&path).expect("a text"));
                }
            }
        }
    }
    found
}

/// What differs between two sets of files, line by line; every other file is the same to the byte.
fn changed(before: &BTreeMap<PathBuf, String>, after: &BTreeMap<PathBuf, String>) -> String {
    let mut out = String::new();
    let names: std::collections::BTreeSet<_> = before.keys().chain(after.keys()).collect();
    for name in names {
        let (old, new) = (before.get(name), after.get(name));
        if old == new {
            continue;
        }
        let empty = String::new();
        let (old, new) = (old.unwrap_or(&empty), new.unwrap_or(&empty));
        let _ = writeln!(out, "== {}", name.display());
        let diff = similar::TextDiff::from_lines(old.as_str(), new);
        for change in diff.iter_all_changes().filter(|one| one.tag() != similar::ChangeTag::Equal) {
            let sign = if change.tag() == similar::ChangeTag::Delete { "-" } else { "+" };
            let line = change.value().trim_end_matches('\n').replace('\r', "␍");
            let _ = writeln!(out, "{sign}{line}");
        }
    }
    out
}

fn words(line: &str) -> Vec<String> {
    shlex::split(line).expect("a line")
}

fn edit(folder: &Folder, line: &str) -> Run {
    let mut args = vec!["edit".to_owned()];
    args.extend(words(line));
    folder.run_with(&args, "")
}

/// Every row of the table of edits, written into the demo: what changes in which files, and that
/// nothing else does.
#[test]
fn every_edit_changes_what_it_says() {
    let lines = [
        "new user:pim --full-name 'Pim Adair' --place veyra/people --manager user:tomas --attribute team=imaging --attribute clearance=2 --attribute device.managed=true",
        "new group:lensing --place veyra/people --owner user:tomas --join approval --member user:sol --about 'bent light'",
        "new role:lens-keeper --held-by group:imaging --taken-by user:sol",
        "new policy:nothing-yet",
        "new policy:more --include archive-reader",
        "new resource:veyra/core/books --kind store --attribute tier=books",
        "new namespace:veyra/survey/reduction/pulsar --file scopes/pulsar.toml",
        "copy policy:team-curator policy:team-keeper --drop recording.put",
        "copy policy:oversight policy:watch --keep '*.@observe'",
        "copy policy:errand policy:errand-2",
        "allow policy:archive-reader store.list 'recording.*' --on 'spectra/**' '!spectra/**/x' --when \"given.mfa\" --name 'with a second factor'",
        "deny policy:archive-reader recording.erase",
        "allow policy:no-govern store.list",
        "strike policy:nightly-run 'allow 2'",
        "strike policy:look-only 'allow 1'",
        "strike policy:public-gallery 'allow 1'",
        "spare policy:nightly-run 'allow 1' /veyra/survey/reduction/old",
        "spare policy:look-only 'allow 1' 'raw/**'",
        "restate policy:team-curator 'own team' --do recording.read recording.put --on '/veyra/survey/spectra/**'",
        "restate policy:archive-reader 'allow 1' --do store.list",
        "set user:ines attributes.team=transit full-name='Ines \"O\" Okafor' attributes.device.managed=false",
        "set veyra/core about='what all share'",
        "set policy:archive-reader locked=true",
        "unset user:ines manager attributes.clearance",
        "unset user:ines attributes",
        "add user:sol group:transit --to group:imaging",
        "add user:sol --to group:imaging --since 2027-01-01 --until 2027-02-01T12:00:00Z",
        "add user:sol --to group:imaging --owner",
        "add user:sol --to role:dish-keeper --taken",
        "add user:sol --to role:reducer",
        "remove user:tomas --from group:imaging",
        "remove user:ines user:tomas user:rafi group:calibration --from group:imaging",
        "remove user:ines --from group:imaging --owner",
        "remove group:mesa-operators --from role:dish-keeper --taken",
        "remove group:fjord-operators --from role:dish-keeper --taken",
        "attach policy:archive-reader policy:phone-book --to user:sol everyone --at veyra/survey --since 2027-01-01",
        "detach policy:keep-raw",
        "detach policy:self-service --from everyone --at veyra/people",
        "detach policy:archive-reader --from user:sol --at veyra/core",
        "detach policy:archive-reader --from user:sol",
        "limit policy:look-only --over veyra/core --for user:lin --until 2030-01-01",
        "limit policy:look-only",
        "unlimit policy:look-only --for user:sol",
        "unlimit policy:look-only --over veyra/core --for user:sol",
        "unlimit policy:no-govern --over veyra/survey",
        "disable user:ines",
        "seal veyra/survey/spectra",
        "unseal veyra/core/vault/dish-keys",
        "ask-in user:noor --to group:imaging --why 'covers for Lin'",
        "rename user:ines user:inez",
        "rename group:imaging group:images",
        "rename role:reducer reducers",
        "rename policy:team-curator policy:curator",
        "rename veyra/survey/reduction veyra/survey/reducing",
        "delete group:imaging --with-uses",
        "delete policy:archive-reader --with-uses",
        "delete veyra/survey/reduction --with-uses",
    ];
    let mut out = String::new();
    for line in lines {
        let folder = Folder::demo().with("tied.toml", TIED);
        let before = texts(folder.path());
        let as_data = |args: &[&str], input: &str| -> serde_json::Value {
            let args = [&["edit"], args, &["--format", "json"]].concat();
            let run = folder.run_with(&args, input);
            serde_json::from_str(&run.out).unwrap_or_else(|_| panic!("{line}\n{}", run.err))
        };
        let typed = words(line);
        let typed = as_data(&typed.iter().map(String::as_str).collect::<Vec<_>>(), "");
        let said = typed["edits"][0].as_str().expect("a line");
        let file: &[&str] =
            if line.contains("--file") { &["--file", "scopes/pulsar.toml"] } else { &[] };
        let again = as_data(&[&["--from", "-"], file].concat(), said);
        // The moment at which somebody asks is now.
        if !line.starts_with("ask-in") {
            assert_eq!(typed["files"], again["files"], "{line}\n{said}");
        }
        let run = edit(&folder, &format!("{line} --write --despite 'to see it'"));
        assert_eq!(run.code, Some(0), "{line}\n{}{}", run.out, run.err);
        let what = changed(&before, &texts(folder.path()));
        assert!(!what.is_empty(), "{line}");
        // The moment at which somebody asks is now.
        let what = match what.find(", at = 2") {
            Some(at) => what.replacen(&what[at + 7..at + 27], "NOW", 1),
            None => what,
        };
        let notes = run.out.lines().take_while(|line| line.starts_with("note: "));
        let notes: Vec<&str> = notes.collect();
        let _ = writeln!(
            out,
            "$ {line}\n{}{}{what}",
            notes.join("\n"),
            if notes.is_empty() { "" } else { "\n" }
        );
    }
    insta::assert_snapshot!(out);
}

#[test]
fn somebody_who_asked_is_let_in_or_not() {
    let asked = Folder::demo();
    assert_eq!(edit(&asked, "ask-in user:noor --to group:imaging --write").code, Some(0));
    let again = edit(&asked, "ask-in user:noor --to group:imaging --write");
    assert!(again.out.contains("asked to be let into group:imaging before"), "{}", again.out);
    let run = edit(&asked, "decline user:noor --to group:imaging --write");
    assert_eq!(run.code, Some(0), "{}", run.err);
    let groups = || texts(asked.path())[Path::new("people/groups.toml")].clone();
    let untouched = texts(Folder::demo().path())[Path::new("people/groups.toml")].clone();
    assert_eq!(groups(), untouched);
    assert_eq!(edit(&asked, "decline user:noor --to group:imaging").code, Some(2));
    assert_eq!(edit(&asked, "ask-in user:noor --to group:imaging --write").code, Some(0));
    let run = edit(&asked, "approve user:noor --to group:imaging --write --despite 'a loan'");
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert!(groups().contains("2026-11-16T00:00:00Z },\n  \"user:noor\",\n]"), "{}", groups());
}

#[test]
fn nothing_is_written_unless_it_is_said() {
    let folder = Folder::demo();
    let before = texts(folder.path());
    let run = edit(&folder, "set user:rafi full-name=Rafi");
    assert_eq!(run.code, Some(0), "{}", run.err);
    assert!(run.out.contains("+full-name = \"Rafi\""), "{}", run.out);
    assert!(run.out.ends_with("add `--write`\n"), "{}", run.out);
    // What breaks an expectation is refused, until a reason is given.
    for line in ["disable user:ines --write", "detach policy:keep-raw --write"] {
        let run = edit(&folder, line);
        assert_eq!(run.code, Some(1), "{line}: {}", run.err);
        assert!(run.out.contains("nothing was written: an expectation breaks"), "{}", run.out);
    }
    assert_eq!(texts(folder.path()), before);
    let run = edit(&folder, "disable user:ines --write --despite 'gone for good'");
    assert!(run.out.ends_with("written, despite what breaks: gone for good\n"), "{}", run.out);
}

#[test]
fn what_stands_there_already_changes_nothing() {
    let folder = Folder::demo();
    let before = texts(folder.path());
    for line in [
        "add user:ines --to group:imaging",
        "add user:tomas --to group:imaging --owner",
        "attach policy:keep-raw --to everyone --at veyra",
        "set user:ines attributes.team=imaging",
        "enable user:ines",
        "limit policy:no-govern --over veyra/survey",
    ] {
        let run = edit(&folder, &format!("{line} --write"));
        assert_eq!(run.code, Some(0), "{line}: {}", run.err);
        assert!(run.out.starts_with("note: "), "{line}: {}", run.out);
        assert!(run.out.ends_with("nothing changes in the files\n"), "{line}: {}", run.out);
    }
    assert_eq!(texts(folder.path()), before);
}

#[test]
fn what_cannot_be_done_is_told() {
    let folder = Folder::demo();
    let before = texts(folder.path());
    for (line, said) in [
        ("add user:inez --to group:imaging", "did you mean `ines`?"),
        ("add user:ines --to imaging", "write group:NAME or role:NAME"),
        ("add user:ines --to group:imaging --taken", "is for roles"),
        ("new user:ines", "called `ines` already"),
        ("new veyra/core/x", "say what it is"),
        ("new namespace:veyra/nowhere/x", "veyra/nowhere"),
        ("copy policy:errand policy:keep-raw", "called `keep-raw` already"),
        ("copy policy:errand policy:e2 --drop 'store.lst'", "`store.lst` names no action"),
        ("allow policy:errand 'store.lst'", "store.lst"),
        ("allow policy:errand store.list --when 'given.mfa ='", "expected"),
        ("strike policy:errand 'allow 9'", "has no statement `allow 9`"),
        ("set user:ines members=x", "no key `members`"),
        ("set group:imaging owners=x", "`add WHO --to group:imaging --owner`"),
        ("set group:imaging join=sometimes", "`open`, `approval` or `closed`"),
        ("unset user:tomas about", "not written"),
        ("unset veyra/survey/spectra kind", "needs the key `kind`"),
        ("remove user:sol --from group:imaging", "does not stand in `members`"),
        ("detach policy:keep-raw --from user:sol", "no attachment"),
        ("unlimit policy:look-only --over veyra/core", "no such ceiling"),
        ("delete user:ines", "`disable user:ines` comes first"),
        ("delete group:imaging", "--with-uses"),
        ("rename user:ines user:tomas", "called `tomas` already"),
        ("rename user:ines group:x", "cannot become"),
        ("add user:sol --to group:imaging --lasting 3x", "no length of time"),
        ("add user:sol --to group:imaging --until yesterday", "no time"),
        ("add user:sol --to group:imaging --since 2027-02-01 --until 2027-01-01", "before"),
        ("add user:sol --to group:imaging --file ../x.toml", "no hidden folder"),
        ("new user:x --file x.txt", "must end in `.toml`"),
    ] {
        let run = edit(&folder, &format!("{line} --write"));
        assert_eq!(run.code, Some(2), "{line}: {}{}", run.out, run.err);
        assert!(run.err.contains(said), "{line}: {}", run.err);
    }
    let locked = Folder::demo();
    let lock = edit(&locked, "set policy:archive-reader locked=true --write");
    assert_eq!(lock.code, Some(0), "{}{}", lock.out, lock.err);
    // What a locked policy includes is locked, too.
    for line in ["deny policy:archive-reader store.list", "set policy:archive-reader about=x"] {
        let run = edit(&locked, line);
        assert!(
            run.err.contains("`set policy:archive-reader locked=false` comes first"),
            "{}",
            run.err
        );
    }
    assert_eq!(edit(&locked, "set policy:archive-reader locked=false --write").code, Some(0));
    assert_eq!(texts(locked.path()), before, "locked and unlocked, it is as it was");
    assert_eq!(texts(folder.path()), before);
}

/// Somebody leaves: disabled, what they look after handed over, gone.
#[test]
fn who_leaves_hands_over() {
    let folder = Folder::demo();
    assert_eq!(edit(&folder, "disable user:tomas --write --despite 'leaves'").code, Some(0));
    let run = edit(&folder, "delete user:tomas --with-uses --write");
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("owns group:imaging"), "{}", run.err);
    let line = "delete user:tomas --with-uses --hand-over user:ines --write --despite 'has left'";
    let run = edit(&folder, line);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let left = texts(folder.path());
    let names_them = |(name, text): (&PathBuf, &String)| {
        name.extension().is_some_and(|end| end == "toml") && text.contains("user:tomas")
    };
    assert!(!left.iter().any(names_them), "nothing names them");
    assert!(left[Path::new("people/groups.toml")].contains("owners = [\"user:ines\"]"));
    assert_eq!(folder.run(&["show", "users"]).code, Some(0));
}

/// Lines of a file: all are done, in their order, or none is.
#[test]
fn edits_of_a_file_are_done_together() {
    let folder = Folder::demo().with(
        "changes.txt",
        "# a new crew\nnew group:lensing --place veyra/people   # without members yet\n\nadd user:sol --to group:lensing\nattach policy:archive-reader --to group:lensing --at veyra/survey/maps\n",
    );
    let before = texts(folder.path());
    let run = folder.run(&["edit", "--from", "changes.txt", "--write"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let after = texts(folder.path());
    assert!(
        after[Path::new("people/groups.toml")]
            .contains("[group.lensing]\nplace = \"veyra/people\"\nmembers = [\"user:sol\"]\n")
    );
    let bad = "add user:sol --to group:transit\nadd user:nobody --to group:transit\n";
    let run = folder.run_with(&["edit", "--from", "-", "--write"], bad);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("line 2: no user is called `nobody`"), "{}", run.err);
    let run = folder.run_with(&["edit", "--from", "-", "--write"], "add user:sol\n");
    assert!(run.err.contains("line 1"), "{}", run.err);
    assert_eq!(texts(folder.path()), after);
    assert_ne!(before, after);
}

#[test]
fn what_may_mean_the_renamed_is_pointed_out() {
    let more = "[policy.odd]\n[[policy.odd.allow]]\ndo = 'store.list'\non = ['*/spectra', '**']\nwhen = \"target.name = 'imaging' or 'imaging' in who.groups\"\n";
    let folder = Folder::demo().with("odd.toml", more);
    let run = edit(&folder, "rename group:imaging group:images");
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let renamed = "+when = \"target.name = 'imaging' or 'images' in who.groups\"";
    assert!(run.out.contains(renamed), "{}", run.out);
    assert!(run.out.contains("a statement of policy:odd still says `imaging`"), "{}", run.out);
    let run = edit(&folder, "rename veyra/survey/spectra veyra/survey/spectrum");
    assert!(run.out.contains("policy:odd still says `spectra`"), "{}", run.out);
}

#[test]
fn groups_are_made_of_presets() {
    let preset = "[preset.moderated]\njoin = 'approval'\nowners = ['user:tomas']\nplace = 'veyra/people'\nabout = 'looked after'\n";
    let folder = Folder::demo().with("presets.toml", preset);
    let line = "new group:lensing --preset moderated --owner user:ines --member user:sol --write";
    let run = edit(&folder, line);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let groups = texts(folder.path())[Path::new("people/groups.toml")].clone();
    let new = "[group.lensing]\nabout = \"looked after\"\nmembers = [\"user:sol\"]\nowners = [\"user:ines\"]\njoin = \"approval\"\nplace = \"veyra/people\"\n";
    assert!(groups.ends_with(new), "{groups}");
    let renamed = edit(&folder, "rename user:tomas user:tom --write --despite x");
    assert_eq!(renamed.code, Some(0), "{}{}", renamed.out, renamed.err);
    let presets = std::fs::read_to_string(folder.file("presets.toml")).expect("a text");
    assert!(presets.contains("owners = ['user:tom']"), "{presets}");
    let run = edit(&folder, "new group:other --preset moderatd");
    assert!(run.err.contains("did you mean `moderated`?"), "{}", run.err);
    assert_eq!(edit(&folder, "new user:other --preset moderated").code, Some(2));
    let twice = Folder::demo()
        .with("presets.toml", format!("{preset}[preset.open]\n"))
        .with("more.toml", preset);
    assert!(twice.run(&["show"]).err.contains("moderated"), "declared twice");
}

/// One page for a colleague, for people, for machines, and as a page.
#[test]
fn a_colleague_gets_a_page() {
    let folder = Folder::demo();
    let show = |more: &[&str]| {
        let args =
            [&["show", "handover", "user:juno", "--at-time", crate::support::AT], more].concat();
        let run = folder.run(&args);
        assert_eq!(run.code, Some(0), "{}", run.err);
        run.out
    };
    insta::assert_snapshot!("a_page_for_juno", show(&[]));
    let shape: serde_json::Value =
        serde_json::from_str(&show(&["--format", "json"])).expect("JSON");
    assert_eq!(shape["groups"][0]["group"], "group:transit");
    let html = show(&["--format", "html"]);
    assert!(html.contains("<h1>for Juno Ferreira-Koch"), "{html}");
    assert!(html.contains("bexum edit ask-in user:juno"), "{html}");
    // Each thing that they can do, asked: so it is.
    for row in shape["access"].as_array().expect("rows") {
        let places = row["where"].as_array().expect("places");
        let plain = places.iter().filter_map(|at| at.as_str()).find(|at| !at.contains('*'));
        let Some(place) = plain.filter(|_| row["when"].as_array().is_some_and(Vec::is_empty))
        else {
            continue;
        };
        for action in row["actions"].as_array().expect("actions") {
            let action = action.as_str().expect("a name");
            let ask = ["ask", "user:juno", action, place, "--at-time", crate::support::AT];
            assert_eq!(folder.run(&ask).code, Some(0), "{action} {place}");
        }
    }
    for wrong in [
        &["show", "handover"][..],
        &["show", "users", "user:juno"],
        &["show", "handover", "group:transit"],
        &["show", "handover", "user:jun"],
    ] {
        assert_eq!(folder.run(wrong).code, Some(2), "{wrong:?}");
    }
}

/// By the estate's edit rights: an owner adds to their group, and to no other.
#[test]
fn owners_run_their_groups() {
    let folder = Folder::demo();
    let run = edit(&folder, "add user:sol --to group:imaging --by user:tomas --write --despite x");
    let other = edit(&folder, "add user:sol --to group:transit --by user:tomas --write");
    assert_eq!(other.code, Some(1), "{}{}", other.out, other.err);
    assert!(other.out.contains("user:tomas may not make this change"), "{}", other.out);
    assert!(!texts(folder.path())[Path::new("people/groups.toml")].contains("\"user:sol\""));
    // No reason outweighs what somebody may not do.
    assert_eq!(run.code, Some(1), "{}", run.out);
    assert!(run.out.contains("no more than one's own"), "{}", run.out);
    let own = "remove user:rafi --from group:imaging --by user:tomas --write --despite 'moved on'";
    let run = edit(&folder, own);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
}

#[test]
fn machines_read_edits_too() {
    let folder = Folder::demo();
    let run = edit(&folder, "disable user:ines --write --format json");
    assert_eq!(run.code, Some(1), "{}", run.err);
    let shape: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(shape["written"], false);
    assert_eq!(shape["refused"], "an expectation breaks by it");
    assert_eq!(shape["files"][0]["path"], "people/users.toml");
    assert!(shape["impact"]["lost"].as_u64() > Some(0), "{shape}");
}

/// The same edits, made in memory: what would be allowed then.
#[test]
fn edits_can_be_supposed() {
    let folder = Folder::demo();
    let before = texts(folder.path());
    let ask = ["ask", "user:sol", "recording.read", "veyra/survey/spectra/imaging/x.fits"];
    let supposed = [&ask[..], &["--suppose", "add user:sol --to group:imaging"]].concat();
    assert_eq!(folder.run(&ask).code, Some(1));
    let run = folder.run(&supposed);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert!(run.out.starts_with("as things are: deny (not-granted)\nsupposing: add user:sol"));
    let json = folder.run(&[&supposed[..], &["--format", "json"]].concat());
    let shape: serde_json::Value = serde_json::from_str(&json.out).expect("JSON");
    assert_eq!((&shape["before"], &shape["reason"]), (&"not-granted".into(), &"granted".into()));
    let reach = ["reach", "user:sol", "--format", "csv", "--suppose", "disable user:sol"];
    assert_eq!(folder.run(&reach).out.lines().count(), 1, "whoever is disabled can do nothing");
    let prove = folder.run(&["prove", "--suppose", "detach policy:keep-raw"]);
    assert_eq!(prove.code, Some(1));
    assert!(prove.out.contains("--suppose 'detach policy:keep-raw'"), "{}", prove.out);
    let show = folder.run(&["show", "user:pim", "--suppose", "new user:pim"]);
    assert_eq!(show.code, Some(0), "{}", show.err);
    assert_eq!(folder.run(&["show", "--suppose", "new"]).code, Some(2));
    assert_eq!(texts(folder.path()), before);
}
