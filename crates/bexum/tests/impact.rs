//! `bexum impact`: between folders, between revisions, in every format, and what goes wrong.

use std::path::Path;
use std::process::Command;

use serde_json::{Value, json};

use crate::support::{AT, Folder, Run, command, finish};

/// Rights given in haste.
const QUICK_FIX: &str = "[policy.quick-fix]\n[[policy.quick-fix.allow]]\ndo = 'secret.open'\nwhen = \"given.ip within '10.20.0.0/16'\"\n[[attach]]\npolicy = 'quick-fix'\nto = 'role:reader'\nat = 'veyra/core/vault/dish-keys'\n";

fn git(at: &Path, arguments: &[&str]) {
    let output = Command::new("git")
        .args(["-c", "user.name=x", "-c", "user.email=x@example.org", "-C"])
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
    git(at, &["commit", "--quiet", "--message", "x"]);
}

/// The demo estate in a repository, with one commit.
fn repository() -> Folder {
    let folder = Folder::demo();
    git(folder.path(), &["init", "--quiet", "--initial-branch", "main"]);
    commit(folder.path());
    folder
}

/// Runs the program where it finds `git`.
fn run(folder: &Folder, args: &[&str]) -> Run {
    let path = std::env::var_os("PATH").unwrap_or_default();
    finish(command().env("PATH", path).arg("impact").args(args).current_dir(folder.path()), b"")
}

#[test]
fn the_last_commit_against_the_files() {
    let folder = repository();
    let same = run(&folder, &["--at-time", AT]);
    assert_eq!(same.code, Some(0), "{}", same.err);
    assert!(same.out.starts_with("no access changes, in whatever circumstances\n"));
    let folder = folder.with("quick-fix.toml", QUICK_FIX);
    let text = run(&folder, &["--at-time", AT]);
    assert_eq!(text.code, Some(0), "{}", text.err);
    insta::assert_snapshot!(text.out);
    let markdown = run(&folder, &["--at-time", AT, "--format", "markdown"]);
    insta::assert_snapshot!("as_markdown", markdown.out);
    for (what, code) in [("gained", 1), ("lost", 0), ("any", 1)] {
        assert_eq!(run(&folder, &["--at-time", AT, "--fail-on", what]).code, Some(code), "{what}");
    }
    commit(folder.path());
    let same = run(&folder, &["--at-time", AT, "--fail-on", "any"]);
    assert_eq!(same.code, Some(0), "{}", same.out);
    // From there to here is from here to there turned around.
    let csv =
        |args: &[&str]| run(&folder, &[args, &["--format", "csv", "--at-time", AT]].concat()).out;
    let there = csv(&["HEAD~1", "HEAD"]);
    assert!(there.starts_with("who,as,where,action,before,after\n"), "{there}");
    assert!(
        there.contains(
            "user:lin,role:reducer,veyra/core/vault/dish-keys/**,secret.open,deny,depends\n"
        ),
        "{there}"
    );
    let turned = there.replace("deny,depends", "depends,deny");
    assert_eq!(csv(&["HEAD", "HEAD~1"]), turned);
    // Where the branches parted.
    git(folder.path(), &["checkout", "--quiet", "-b", "other"]);
    std::fs::write(folder.file("more.toml"), "[user.nadir]\n").expect("a file");
    commit(folder.path());
    let nadir = csv(&["main...", "HEAD"]);
    assert!(nadir.lines().count() > 1, "{nadir}");
    assert!(nadir.lines().skip(1).all(|row| row.starts_with("user:nadir,,")), "{nadir}");
    assert_eq!(csv(&["HEAD~2", "main"]), there);
}

#[test]
fn circumstances_and_filters() {
    let folder = repository().with("quick-fix.toml", QUICK_FIX);
    let csv = |args: &[&str]| {
        let run = run(&folder, &[args, &["--format", "csv", "--at-time", AT]].concat());
        assert_eq!(run.code, Some(0), "{}", run.err);
        run.out.lines().skip(1).map(str::to_owned).collect::<Vec<_>>()
    };
    let all = csv(&[]);
    let mut sorted = all.clone();
    sorted.sort();
    assert_eq!(all, sorted);
    assert!(csv(&["--given", "ip=10.20.4.7"]).iter().all(|row| row.ends_with(",deny,allow")));
    assert!(csv(&["--given", "ip=192.0.2.1"]).is_empty());
    let lin = csv(&["--who", "user:lin"]);
    assert!(!lin.is_empty() && lin.iter().all(|row| row.starts_with("user:lin,")));
    assert!(csv(&["--at", "veyra/survey"]).is_empty());
    assert_eq!(csv(&["--at", "veyra/core", "--do", "secret.*", "--level", "observe"]), all);
    assert!(csv(&["--level", "govern"]).is_empty());
    let text = run(&folder, &["--level", "govern", "--at-time", AT]);
    assert!(text.out.starts_with("nothing that was asked about changes"), "{}", text.out);
}

#[test]
fn json_says_what_is_opened() {
    // Both depend on what is given: one on an address, the other on a wider range.
    let narrow = QUICK_FIX;
    let wide = QUICK_FIX.replace("10.20.0.0/16", "10.0.0.0/8");
    let before = Folder::demo().with("quick-fix.toml", narrow);
    let after = Folder::demo().with("quick-fix.toml", wide);
    let paths = [&before, &after].map(|folder| folder.path().to_str().expect("a path").to_owned());
    let cells = |one: &str, other: &str| -> Value {
        let args = [one, other, "--who", "user:lin", "--format", "json", "--at-time", AT];
        let run = run(&before, &args);
        assert_eq!(run.code, Some(0), "{}", run.err);
        serde_json::from_str(&run.out).expect("JSON")
    };
    let there = cells(&paths[0], &paths[1]);
    assert_eq!(
        there["cells"],
        json!([{
            "who": "user:lin",
            "as": "role:reducer",
            "where": "veyra/core/vault/dish-keys/**",
            "action": "secret.open",
            "before": "depends",
            "after": "depends",
            "is-gained": true,
            "is-lost": false,
            "is-decided": true,
        }])
    );
    let back = cells(&paths[1], &paths[0]);
    assert_eq!((&back["gained"], &back["lost"]), (&json!(0), &json!(1)));
    // What is written otherwise and means the same opens nothing.
    let same = QUICK_FIX.replace("'10.20.0.0/16'", "['10.20.0.0/17', '10.20.128.0/17']");
    let same = Folder::demo().with("quick-fix.toml", same);
    let report = cells(&paths[0], same.path().to_str().expect("a path"));
    assert_eq!(report["cells"], json!([]), "{report}");
}

#[test]
fn what_begins_later_is_part_of_what_depends() {
    // On both sides it depends on who is given; only the second has another way, from next year on.
    let estate = |more: &str| {
        Folder::estate().and(&format!(
            "[[policy.p.allow]]\ndo = 'box.view'\nwhen = 'given.a'\n[kind.box]\nobserve = ['view']\n[resource.'v/b']\nkind = 'box'\n[[attach]]\npolicy = 'p'\nto = 'user:tomas'\nat = 'v/b'\n{more}"
        ))
    };
    let (before, after) = (
        estate(""),
        estate(
            "[[policy.q.allow]]\ndo = 'box.view'\n[[attach]]\npolicy = 'q'\nto = 'user:tomas'\nat = 'v/b'\nfrom = 2027-01-01T00:00:00Z\n",
        ),
    );
    let to = after.path().to_str().expect("a path");
    let report = run(&before, &[".", to, "--format", "csv", "--at-time", AT]);
    assert_eq!(
        report.out.lines().skip(1).collect::<Vec<_>>(),
        ["user:tomas,,v/b,box.view,depends,depends"],
        "{}",
        report.err
    );
    let given = run(&before, &[".", to, "--format", "csv", "--at-time", AT, "--given", "a=true"]);
    assert_eq!(given.out.lines().count(), 1, "{}", given.out);
}

/// What one estate declares is an item to the other; each row is there, whoever allows it.
#[test]
fn a_scope_that_only_one_estate_has() {
    let estate = |more: &str| {
        Folder::estate().and(&format!(
            "[kind.shelf]\nobserve = ['view']\nitems = ['leaf']\n[kind.leaf]\nobserve = ['read']\n[resource.'v/b']\nkind = 'shelf'\n[policy.p]\n[[policy.p.allow]]\ndo = ['leaf.read', 'shelf.view']\n{more}"
        ))
    };
    let before = estate("[[attach]]\npolicy = 'p'\nto = 'user:tomas'\nat = 'v/b'\n");
    // Nothing is allowed there any more, at the new scope neither.
    let after = estate("[resource.'v/b/new']\nkind = 'shelf'\n");
    let to = after.path().to_str().expect("a path");
    let rows = |args: &[&str]| -> Vec<String> {
        let run = run(&before, &[args, &["--format", "csv", "--at-time", AT]].concat());
        assert_eq!(run.code, Some(0), "{}", run.err);
        run.out.lines().skip(1).map(str::to_owned).collect()
    };
    let lost = [
        "user:tomas,,v/b,shelf.view,allow,deny",
        "user:tomas,,v/b/**,leaf.read,allow,deny",
        "user:tomas,,v/b/new/**,leaf.read,allow,deny",
    ];
    assert_eq!(rows(&[".", to]), lost);
    assert_eq!(rows(&[to, "."]), lost.map(|row| row.replace("allow,deny", "deny,allow")));
}

#[test]
fn what_was_changed_is_told_with_its_places() {
    let base = "[user.a]\n[user.b]\nenabled = false\n[user.gone]\n[group.g]\nmembers = ['user:a', 'user:b']\njoin = 'closed'\n[role.r]\nheld-by = 'user:a'\n[policy.p]\n[[policy.p.allow]]\ndo = '*'\non = ['a', 'b']\n[[attach]]\npolicy = 'p'\nto = ['user:a', 'group:g']\nat = 'v'\n";
    // Order, defaults that are written out, and one attachment made two are no change.
    let same = "[user.b]\nenabled = false\n[user.a]\nenabled = true\n[user.gone]\n[group.g]\nmembers = ['user:b', 'user:a']\n[role.r]\nheld-by = ['user:a']\n[policy.p]\n[[policy.p.allow]]\ndo = ['*']\non = ['b', 'a']\n[[attach]]\npolicy = 'p'\nto = 'group:g'\nat = 'v'\n[[attach]]\npolicy = ['p']\nto = ['user:a']\nat = ['v']\n";
    let other = "[kind.box]\nobserve = ['view']\n[user.a]\n[user.b]\n[user.c]\n[group.g]\nmembers = ['user:b', { who = 'user:a', until = 2027-01-01T00:00:00Z }]\njoin = 'open'\n[role.r]\nheld-by = 'user:b'\n[policy.p]\n[[policy.p.allow]]\ndo = '*'\n[[attach]]\npolicy = 'p'\nto = 'group:g'\nat = 'v'\nfrom = 2026-01-01T00:00:00Z\n[[ceiling]]\npolicy = 'p'\nfor = 'user:a'\n";
    let [base, same, other] = [base, same, other].map(|text| Folder::estate().and(text));
    let differences = |to: &Folder| -> Value {
        let to = to.path().to_str().expect("a path");
        let run = run(&base, &[".", to, "--format", "json", "--at-time", AT]);
        assert_eq!(run.code, Some(0), "{}", run.err);
        let report: Value = serde_json::from_str(&run.out).expect("JSON");
        report["differences"].clone()
    };
    assert_eq!(differences(&same), json!([]));
    let told = differences(&other);
    let line = |one: &Value| {
        let keys = one["keys"].as_array().expect("keys").iter().map(|key| key.as_str());
        let keys: Vec<&str> = keys.map(|key| key.expect("a key")).collect();
        let at = ["before", "after"].map(|side| one[side].is_string());
        format!("{} {} {at:?}", one["thing"].as_str().expect("a thing"), keys.join(" "))
    };
    let told: Vec<String> = told.as_array().expect("a list").iter().map(line).collect();
    assert_eq!(
        told,
        [
            "group:g members join [true, true]",
            "kind:box  [false, true]",
            "policy:p allow [true, true]",
            "policy:p a ceiling over everything for user:a  [false, true]",
            "policy:p attached to group:g at v from, until [true, true]",
            "policy:p attached to user:a at v  [true, false]",
            "role:r held-by [true, true]",
            "user:b enabled [true, true]",
            "user:c  [false, true]",
            "user:gone  [true, false]",
        ]
    );
}

#[test]
fn what_cannot_be_compared() {
    let folder = repository();
    for (args, said) in [
        (&["nonsense"][..], "has no revision `nonsense`"),
        (&["HEAD", "--who", "user:nobody"], "neither estate has a principal `user:nobody`"),
        (&["HEAD", "--at", "veyra/nowhere"], "neither estate has a scope `veyra/nowhere`"),
        (&["HEAD", "--do", "no.such"], "no action in either catalogue matches `no.such`"),
        (&["HEAD", "--level", "high"], "there is no level `high`"),
        (&["HEAD", "--as", "role:reader"], "`--as` goes with `--by` alone"),
        (&["HEAD", "--also", "group:none"], "group `group:none` is not declared"),
    ] {
        let run = run(&folder, args);
        assert_eq!(run.code, Some(2), "{args:?}: {}", run.out);
        assert!(run.err.contains(said), "{args:?}: {}", run.err);
        assert!(run.out.is_empty(), "{args:?}: {}", run.out);
    }
    // Without a repository both are named; without `git` it is said that it is missing.
    let bare = Folder::demo();
    let none = run(&bare, &[]);
    assert_eq!(none.code, Some(2), "{}", none.out);
    assert!(none.err.contains("name both estates: `bexum impact BEFORE AFTER`"), "{}", none.err);
    let mut without = command();
    without.env("PATH", folder.path()).arg("impact").current_dir(folder.path());
    let missing = finish(&mut without, b"");
    assert_eq!(missing.code, Some(2), "{}", missing.out);
    assert!(missing.err.contains("cannot run `git`"), "{}", missing.err);
}

#[test]
fn an_estate_that_does_not_load_stands_for_no_access_on_demand() {
    let broken = Folder::demo().and("[policy.x");
    let from = broken.path().to_str().expect("a path");
    let folder = Folder::demo();
    let args = [from, ".", "--who", "user:lin", "--at-time", AT, "--format", "csv"];
    let refused = run(&folder, &args);
    assert_eq!((refused.code, refused.out.as_str()), (Some(2), ""));
    let taken = run(&folder, &[&args[..], &["--from-broken"]].concat());
    assert_eq!(taken.code, Some(0), "{}", taken.err);
    assert!(taken.err.contains("counts as one without any access"), "{}", taken.err);
    assert!(taken.out.lines().count() > 10, "{}", taken.out);
    assert!(taken.out.lines().skip(1).all(|row| row.contains(",deny,")), "{}", taken.out);
    // It is the one before that may be broken, not the one after.
    let after = run(&folder, &[".", from, "--from-broken"]);
    assert_eq!(after.code, Some(2), "{}", after.out);
}

/// An estate of one store, with a role that some can take up.
fn with_role(taken_by: &str, more: &str) -> String {
    format!(
        "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\nalter = ['write']\n[account.v]\n[resource.'v/s']\nkind = 'store'\n[user.a]\n[user.b]\n[user.c]\n[role.r]\ntaken-by = {taken_by}\n[policy.p]\n[[policy.p.allow]]\ndo = '*'\n[[attach]]\npolicy = 'p'\nto = 'role:r'\nat = 'v'\n{more}"
    )
}

#[test]
fn what_changes_besides_cells() {
    let law = "[[never]]\nname = 'b stays out'\nwho = 'user:b'\ndoes = 'obj.write'\non = '/v/**'\n[[check]]\nname = 'c reads'\nwho = 'user:c'\ndoes = 'obj.read'\non = 'v/s/x'\nexpect = 'allow'\n";
    let attached = "[[attach]]\npolicy = 'p'\nto = ['user:a', 'user:c']\nat = 'v'\n";
    let folder = Folder::new()
        .with("a/bexum.toml", with_role("['user:a', 'user:c']", law))
        .with("b/bexum.toml", with_role("['user:a', 'user:b']", &format!("{law}{attached}")));
    let run = |args: &[&str]| folder.run(&[&["impact", "a", "b", "--at-time", AT], args].concat());
    let text = run(&[]);
    assert_eq!(text.code, Some(0), "{}", text.err);
    insta::assert_snapshot!(text.out);
    // What breaks makes it fail; what is mended does not.
    assert_eq!(run(&["--fail-on", "broken"]).code, Some(1));
    let back = folder.run(&["impact", "b", "a", "--at-time", AT, "--fail-on", "broken"]);
    assert_eq!(back.code, Some(1), "{}", back.out);
    let mended = folder.with("c/bexum.toml", with_role("'user:a'", &format!("{law}{attached}")));
    let better = mended.run(&["impact", "b", "c", "--at-time", AT, "--fail-on", "broken"]);
    assert_eq!(better.code, Some(0), "{}", better.out);
    assert!(better.out.contains("broken → held: never 'b stays out'"), "{}", better.out);
    // New, and broken at once.
    let new = mended.with("d/bexum.toml", with_role("['user:a', 'user:b']", attached));
    let new = new.run(&["impact", "d", "b", "--at-time", AT, "--fail-on", "broken"]);
    assert_eq!(new.code, Some(1), "{}", new.out);
    assert!(new.out.contains("new → broken: never 'b stays out'"), "{}", new.out);
}

#[test]
fn sessions_with_the_same_change_together() {
    let attached = "[[attach]]\npolicy = 'p'\nto = ['user:b', 'user:c']\nat = 'v'\n";
    let folder = Folder::new()
        .with("a/bexum.toml", with_role("[]", ""))
        .with("b/bexum.toml", with_role("[]", attached));
    let csv = |more: &[&str]| {
        let args = [&["impact", "a", "b", "--at-time", AT, "--format", "csv"], more].concat();
        folder.run(&args).out
    };
    assert_eq!(
        csv(&["--together"]),
        "who,as,where,action,before,after,count\nuser:b,,v/s,store.list,deny,allow,2\nuser:b,,v/s/**,obj.read,deny,allow,2\nuser:b,,v/s/**,obj.write,deny,allow,2\n"
    );
    assert_eq!(csv(&[]).lines().count(), 7);
    let refused = folder.run(&["impact", "a", "b", "--together"]);
    assert_eq!(refused.code, Some(2));
}

#[test]
fn the_page_escapes_what_people_write() {
    let odd = "[[attach]]\npolicy = 'p'\nto = 'user:b'\nat = 'v'\n[[check]]\nname = '<b>x</b>'\nwho = 'user:c'\ndoes = 'obj.read'\non = 'v/s/x'\nexpect = 'allow'\n";
    let folder = Folder::new()
        .with("a/bexum.toml", with_role("[]", ""))
        .with("b/bexum.toml", with_role("['user:b', 'user:c']", odd));
    let page =
        folder.run(&["impact", "a", "b", "--at-time", AT, "--format", "html", "--by", "user:a"]);
    assert_eq!(page.code, Some(1), "{}", page.err);
    assert!(page.out.starts_with("<!doctype html>"), "{}", page.out);
    for told in [
        "<h1>2 people gain",
        "class=\"gained\"",
        "role:r, newly",
        "check &#39;&#60;b&#62;",
        "may user:a make this change? no",
    ] {
        assert!(page.out.contains(told), "{told}: {}", page.out);
    }
    assert!(!page.out.contains("<b>"), "{}", page.out);
}

#[test]
fn what_comes_later() {
    let attached = |window: &str| {
        format!(
            "[[attach]]\npolicy = 'p'\nto = 'user:b'\nat = 'v'\n{window}\n[[attach]]\npolicy = 'p'\nto = 'user:a'\nat = 'v/s'\nfrom = 2027-06-01T00:00:00Z\n"
        )
    };
    let folder = Folder::new()
        .with("a/bexum.toml", with_role("[]", ""))
        .with("b/bexum.toml", with_role("[]", &attached("until = 2027-03-01T00:00:00Z")));
    let run = |args: &[&str]| folder.run(&[&["impact", "a", "b", "--at-time", AT], args].concat());
    let text = run(&[]);
    insta::assert_snapshot!(text.out);
    let json: Value = serde_json::from_str(&run(&["--format", "json"]).out).expect("JSON");
    let later = json["later"].as_array().expect("a list");
    assert_eq!(later[0]["from"], "2027-03-01T00:00:00Z");
    assert_eq!((&later[0]["over"], &later[0]["cells"]), (&json!(3), &json!([])));
    assert_eq!(later[1]["cells"].as_array().map(Vec::len), Some(3));
    // Nothing now, but later: that counts as gained, for those and there where it is asked about.
    let only_later = Folder::new()
        .with("a/bexum.toml", with_role("[]", ""))
        .with("b/bexum.toml", with_role("[]", &attached("from = 2027-03-01T00:00:00Z")));
    let run =
        |args: &[&str]| only_later.run(&[&["impact", "a", "b", "--at-time", AT], args].concat());
    for (args, code) in [
        (&["--fail-on", "gained"][..], 1),
        (&["--fail-on", "lost"], 0),
        (&["--fail-on", "any"], 1),
        (&["--fail-on", "gained", "--who", "user:c"], 0),
        (&["--fail-on", "gained", "--who", "user:a", "--at", "v/s"], 1),
        (&["--fail-on", "gained", "--do", "obj.*"], 1),
        (&["--fail-on", "gained", "--who", "user:a", "--do", "store.list"], 1),
    ] {
        let run = run(args);
        assert_eq!(run.code, Some(code), "{args:?}: {}", run.out);
    }
    let text = run(&[]);
    assert!(
        text.out.starts_with(
            "no access changes at this moment; later does at least store.list on v/s for user:a\n"
        ),
        "{}",
        text.out
    );
    // A condition that waits for a moment.
    let waits = |time: &str| {
        with_role(
            "[]",
            &format!(
                "[policy.q]\n[[policy.q.allow]]\ndo = 'obj.read'\nwhen = \"given.time > '{time}'\"\n[[attach]]\npolicy = 'q'\nto = 'user:b'\nat = 'v'\n"
            ),
        )
    };
    let folder = Folder::new()
        .with("a/bexum.toml", waits("2030-01-01T00:00:00Z"))
        .with("b/bexum.toml", waits("2029-01-01T00:00:00Z"))
        .with("c/bexum.toml", waits("2000-01-01T00:00:00Z"))
        .with("d/bexum.toml", waits("2001-01-01T00:00:00Z"));
    let sooner = folder.run(&["impact", "a", "b", "--at-time", AT, "--fail-on", "gained"]);
    assert_eq!(sooner.code, Some(1), "{}", sooner.out);
    let later = folder.run(&["impact", "b", "a", "--at-time", AT, "--fail-on", "gained"]);
    assert_eq!(later.code, Some(0), "{}", later.out);
    assert!(
        later.out.contains("later does at least obj.read on v/s/** for user:b"),
        "{}",
        later.out
    );
    let long_ago = folder.run(&["impact", "c", "d", "--at-time", AT]);
    assert!(
        long_ago.out.starts_with("no access changes, in whatever circumstances\n"),
        "{}",
        long_ago.out
    );
}

#[test]
fn each_change_stands_by_what_it_does() {
    let attached = "[[attach]]\npolicy = 'p'\nto = 'user:b'\nat = 'v'\n[policy.q]\n[[policy.q.allow]]\ndo = 'obj.read'\n[[attach]]\npolicy = 'q'\nto = 'user:c'\nat = 'v/s'\n";
    let folder = Folder::new()
        .with("a/bexum.toml", with_role("[]", ""))
        .with("b/bexum.toml", with_role("['user:a']", attached));
    let text = folder.run(&["impact", "a", "b", "--at-time", AT]).out;
    for told in [
        "  user:a as role:r, user:b\n    by policy:p attached to user:b at v: new (bexum.toml:25)\n    by role:r: taken-by (bexum.toml:16)\n",
        "  user:c\n    by policy:q: new (bexum.toml:29)\n    by policy:q attached to user:c at v/s: new (bexum.toml:32)\n",
    ] {
        assert!(text.contains(told), "{told}{text}");
    }
}

#[test]
fn other_circumstances_beside() {
    let allow = "[policy.q]\n[[policy.q.allow]]\ndo = 'obj.read'\nwhen = 'given.mfa'\n[[attach]]\npolicy = 'q'\nto = 'user:b'\nat = 'v'\n";
    let folder = Folder::new()
        .with("a/bexum.toml", with_role("[]", ""))
        .with("b/bexum.toml", with_role("[]", allow));
    let run = |args: &[&str]| folder.run(&[&["impact", "a", "b", "--at-time", AT], args].concat());
    let beside = ["--given", "mfa=false", "--beside", "--given mfa=true"];
    let text = run(&beside);
    assert_eq!(text.code, Some(0), "{}", text.err);
    assert!(text.out.starts_with("no access changes"), "{}", text.out);
    let told = "with --given mfa=true: 1 person gains 1 action in 1 place\n\ngained\n  user:b\n    observe  deny → allow: obj.read\n             at v/s/**\n";
    assert!(text.out.contains(told), "{}", text.out);
    let json = run(&[&beside[..], &["--format", "json"]].concat());
    let json: Value = serde_json::from_str(&json.out).expect("JSON");
    assert_eq!(json["beside"][0]["cells"][0]["after"], "allow");
    assert_eq!(json["cells"], json!([]));
    let twice =
        run(&["--beside", "--at-time 2001-01-01T00:00:00Z", "--beside", "--given mfa=true"]);
    assert_eq!(twice.out.matches("\nwith --").count(), 2, "{}", twice.out);
    for wrong in ["--nonsense", "--as role:r", "--given 'x", "--at-time yesterday"] {
        assert_eq!(run(&["--beside", wrong]).code, Some(2), "{wrong}");
    }
}

#[test]
fn requests_of_a_log() {
    let attached = "[[attach]]\npolicy = 'p'\nto = ['user:b', 'user:c']\nat = 'v'\n[user.d]\n";
    let line = |who: &str, does: &str, on: &str| {
        format!(
            "{{\"who\": \"{who}\", \"does\": \"{does}\", \"on\": \"{on}\", \"verdict\": \"deny\", \"reason\": \"not-granted\"}}\n"
        )
    };
    let log = [
        line("user:a", "obj.read", "v/s/x"),
        line("user:b", "obj.read", "v/s/x"),
        "\n".to_owned(),
        line("user:c", "obj.read", "v/s/y"),
        line("user:b", "obj.write", "v/s/x"),
        line("user:b", "no.such", "v/s/x"),
        // Denied in both: one of them does not know who asks.
        line("user:d", "obj.read", "v/s/x"),
        "no request\n".to_owned(),
        "{\"who\": \"user:b\", \"does\": \"obj.read\", \"on\": \"v/s/z\", \"given\": {\"time\": \"2001-01-01T00:00:00Z\"}}".to_owned(),
    ];
    let folder = Folder::new()
        .with("a/bexum.toml", with_role("[]", ""))
        .with("b/bexum.toml", with_role("[]", attached))
        .with("log.ndjson", log.concat());
    let run = |args: &[&str]| folder.run(&[&["impact", "a", "b", "--at-time", AT], args].concat());
    let text = run(&["--log", "log.ndjson", "--who", "user:a"]);
    assert_eq!(text.code, Some(0), "{}", text.err);
    let told = "in the log\n  4 of 8 requests are decided otherwise; 2 of them are no request\n  deny → allow: obj.read at v/s, 3 times, first in log.ndjson:2\n    $ bexum -C b ask user:b obj.read v/s/x\n  deny → allow: obj.write at v/s, 1 time, in log.ndjson:5\n    $ bexum -C b ask user:b obj.write v/s/x\n";
    assert!(text.out.contains(told), "{}", text.out);
    let json: Value =
        serde_json::from_str(&run(&["--log", "log.ndjson", "--format", "json"]).out).expect("JSON");
    assert_eq!(json["log"]["otherwise"], 4);
    assert_eq!(json["log"]["groups"][0]["line"], 2);
    // The first command gives the answer that is told.
    let words = ["-C", "b", "ask", "user:b", "obj.read", "v/s/x"];
    assert_eq!(folder.run(&words).code, Some(0));
    assert_eq!(run(&["--log", "missing.ndjson"]).code, Some(2));
    assert_eq!(run(&["--log", "."]).code, Some(2));
    assert_eq!(run(&["--log", "log.ndjson", "--format", "csv"]).code, Some(2));
    let args = ["impact", "a", "b", "--at-time", AT, "--log", "-", "--who", "user:a"];
    let piped = folder.run_with(&args, line("user:b", "obj.read", "v/s/x").as_bytes());
    assert!(piped.out.contains("1 of 1 request is decided otherwise"), "{}", piped.out);
}

#[test]
fn what_is_renamed_is_told_as_one() {
    let estate = |user: &str, store: &str| {
        with_role("[]", "")
            .replace("[user.b]\n", &format!("[user.{user}]\nfull-name = 'Bee'\n"))
            .replace("'v/s'", &format!("'v/{store}'"))
            + &format!("[[attach]]\npolicy = 'p'\nto = ['user:{user}', 'user:a']\nat = 'v'\n")
    };
    let folder = Folder::new()
        .with("a/bexum.toml", estate("b", "s"))
        .with("b/bexum.toml", estate("bee", "s"))
        .with("c/bexum.toml", estate("bee", "t"))
        .with(
            "d/bexum.toml",
            estate("bee", "t").replace("to = ['user:bee', 'user:a']", "to = 'user:bee'"),
        );
    let text = |from: &str, to: &str| folder.run(&["impact", from, to, "--at-time", AT]).out;
    let user = text("a", "b");
    assert!(
        user.starts_with("access is the same in what is listed, under other names\n"),
        "{user}"
    );
    assert!(
        user.contains("  user:b is called user:bee now; 3 cells are the same under the new name\n"),
        "{user}"
    );
    let both = text("a", "c");
    assert!(
        both.starts_with("access is the same in what is listed, under other names\n"),
        "{both}"
    );
    assert!(both.contains("  v/s is called v/t now"), "{both}");
    // What is otherwise besides is told.
    let less = text("a", "d");
    assert!(
        less.starts_with(
            "nobody gains anything in what is listed, 1 person loses 3 actions in 2 places\n"
        ),
        "{less}"
    );
    // To machines, and to whoever waits for a gain, it is what it is in the files.
    let csv = folder.run(&[
        "impact",
        "a",
        "b",
        "--at-time",
        AT,
        "--format",
        "csv",
        "--fail-on",
        "gained",
    ]);
    assert_eq!((csv.code, csv.out.lines().count()), (Some(1), 7), "{}", csv.out);
}

/// Of two ceilings that stand alike, one that says nothing about an action bounds it all the same;
/// and a circumstance may say the name that a brace asks for.
#[test]
fn what_opens_in_some_circumstances_is_not_called_nothing() {
    let head = "[estate]\nname = 'x'\nformat = 1\n[kind.cluster]\noperate = ['run']\nobserve = ['see']\nitems = ['job']\n[kind.job]\nalter = ['erase']\n[account.v]\n[subscription.'v/s']\n[resource.'v/s/c']\nkind = 'cluster'\n[user.u]\n[policy.all]\n[[policy.all.allow]]\ndo = '*'\n";
    let ceilings = "[policy.look]\n[[policy.look.allow]]\ndo = '*.@observe'\n[[attach]]\npolicy = 'all'\nto = 'user:u'\nat = 'v'\n[[ceiling]]\npolicy = ['look', 'all']\n";
    let brace = "[policy.mine]\n[[policy.mine.allow]]\ndo = 'job.erase'\non = 'scratch/{given.run}/**'\n[[attach]]\npolicy = 'mine'\nto = 'user:u'\nat = 'v/s/c'\n";
    for (text, edit, named) in [
        (ceilings, &["unlimit", "policy:look"][..], "cluster.run"),
        (brace, &["strike", "policy:mine", "allow 1"], "job.erase"),
    ] {
        let folder = Folder::new().with("bexum.toml", format!("{head}{text}"));
        let run = folder.run(&[&["edit"], edit].concat());
        assert!(run.out.contains(named), "{run:?}");
        let vetted = folder.run(&["vet", "no-effect", "never-matches", "--at-time", AT]);
        assert!(
            !vetted.out.contains("policy:look") && !vetted.out.contains("policy:mine"),
            "{vetted:?}"
        );
    }
}
