//! `bexum prove` and `ask --save-check`, on files.

use std::io::{BufRead as _, BufReader};
use std::process::Stdio;
use std::time::{Duration, Instant};

use insta::assert_snapshot;
use serde_json::Value as Json;

use crate::support::{AT, Folder, command};

/// A cluster with a sealed namespace in it, a role that a nested group may take up there.
const CORNER: &str = r#"
[kind.cluster]
observe = ["view"]
holds = ["namespace"]
[kind.namespace]
observe = ["view"]
items = ["job"]
[kind.job]
operate = ["submit"]
[resource."v/s/cluster"]
kind = "cluster"
[namespace."v/s/cluster/night"]
sealed = true
[user.sol]
[group.inner]
members = ["user:sol"]
[group.outer]
members = ["group:inner"]
[role.keeper]
taken-by = ["group:outer"]
[policy.keeping]
[[policy.keeping.allow]]
do = "job.submit"
on = "quiet-*/{given.run}"
when = "given.wind in [3, 40] and not (given.wind < 20)"
[[attach]]
policy = "keeping"
to = "role:keeper"
at = "v/s/cluster/night"

[[never]]
name = "nobody submits by night"
who = "everyone"
does = "job.*"
on = "/v/s/cluster/**"
"#;

fn json(folder: &Folder, args: &[&str]) -> Json {
    let run = folder.run(&[&["prove", "--format", "json"], args].concat());
    assert_eq!(run.err, "");
    serde_json::from_str(&run.out).expect("JSON")
}

/// Runs what a report says one should type.
fn retype(folder: &Folder, typed: &str) -> Option<i32> {
    let words = shlex::split(typed).expect("a command line");
    assert_eq!(words[0], "bexum");
    let words: Vec<&str> = words[1..].iter().map(String::as_str).collect();
    folder.run(&words).code
}

#[test]
fn the_demo_estate_is_as_expected() {
    let run = Folder::demo().run(&["prove", "--at-time", AT]);
    assert_eq!((run.code, run.err.as_str()), (Some(0), ""));
    assert_snapshot!(run.out);
}

#[test]
fn what_is_broken_comes_first_with_its_reason() {
    let folder = Folder::demo().with(
        "quick-fix.toml",
        r#"
[policy.quick-fix]
[[policy.quick-fix.allow]]
do = "secret.open"
when = "given.ip within '10.20.0.0/16'"
[[attach]]
policy = "quick-fix"
to = "role:reader"
at = "veyra/core/vault/dish-keys"
[[attach]]
policy = "oversight"
to = "user:amara"
at = "veyra/core"
"#,
    );
    let run = folder.run(&["prove", "--at-time", AT]);
    assert_eq!((run.code, run.err.as_str()), (Some(1), ""));
    assert_snapshot!(run.out);
    let report = folder.run(&["prove", "--at-time", AT, "--format", "junit", "no key*", "who*"]);
    assert_eq!((report.code, report.err.as_str()), (Some(1), ""));
    assert_snapshot!(report.out);
}

#[test]
fn a_law_broken_in_one_corner_only_is_found() {
    let folder = Folder::estate().and(CORNER);
    let report = json(&folder, &[]);
    assert_eq!(report["broken"], 1);
    let broken_by = &report["expectations"][0]["broken-by"];
    let asked = &broken_by["answer"]["request"];
    assert_eq!(asked["who"], "user:sol");
    assert_eq!(asked["as"], "role:keeper");
    let typed = broken_by["ask"].as_str().expect("a command");
    assert!(typed.contains("--given wind=40") && typed.contains("--given run="), "{typed}");
    assert!(typed.contains("v/s/cluster/night/quiet-/"), "{typed}");
    assert_eq!(retype(&folder, typed), Some(0), "{typed}");

    // Any one thing less, and the law holds.
    for (from, to) in [
        ("[3, 40]", "[3, 4]"),
        ("group:inner\"]", "group:crew\"]"),
        ("taken-by = [\"group:outer\"]", ""),
        ("on = \"quiet-*/{given.run}\"", "on = \"/v/s/store/**\""),
        ("to = \"role:keeper\"\nat = \"v/s/cluster/night\"", "to = \"role:keeper\"\nat = \"v/s\""),
    ] {
        let less = CORNER.replace(from, to);
        assert_ne!(less, CORNER, "{from}");
        // Ines takes Sol's place where the nested group changes.
        let less = less.replace("members = [\"group:crew\"]", "members = []");
        let run = Folder::estate().and(&less).run(&["prove"]);
        assert_eq!(run.code, Some(0), "{to}: {}", run.out);
    }
}

#[test]
fn every_moment_counts() {
    let estate = |window: &str| {
        Folder::estate().and(&format!(
            r#"
[policy.eraser]
[[policy.eraser.allow]]
do = "file.erase"
[[attach]]
policy = "eraser"
to = "user:tomas"
at = "v/s/store"
{window}
[[never]]
name = "nothing is erased"
who = "everyone"
does = "file.erase"
on = "/v/s/store/*"
when = "given.time < '2040-01-01T00:00:00Z'"
"#
        ))
    };
    let folder = estate("from = 2039-12-31T23:59:59Z");
    let report = json(&folder, &["--at-time", AT]);
    let typed = report["expectations"][0]["broken-by"]["ask"].as_str().expect("a command");
    assert!(typed.contains("--at-time 2039-12-31T23:59:59"), "{typed}");
    assert_eq!(retype(&folder, typed), Some(0), "{typed}");
    let report = json(&estate("from = 2040-01-01T00:00:00Z"), &["--at-time", AT]);
    assert_eq!(report["held"], 1, "{report}");
}

#[test]
fn what_an_item_says_of_itself_counts() {
    let folder = Folder::estate().and(
        r#"
[[policy.reader.deny]]
do = "file.open"
when = "target.secret"
[[always]]
name = "the crew opens every file"
who = "group:crew"
does = "file.open"
on = "/v/s/store/**"
[[always]]
name = "save for secret ones"
who = "group:crew"
does = "file.open"
on = "/v/s/store/**"
when = "target.secret is not set"
"#,
    );
    let report = json(&folder, &[]);
    assert_eq!(report["expectations"][1]["status"], "held");
    let typed = report["expectations"][0]["broken-by"]["ask"].as_str().expect("a command");
    assert!(typed.contains("--item secret="), "{typed}");
    assert_eq!(retype(&folder, typed), Some(1), "{typed}");
}

#[test]
fn what_cannot_be_decided_is_not_said_to_hold() {
    // No address fits both; but a pattern over letters is no range, and says so.
    let folder = Folder::estate().and(
        r#"
[policy.odd]
[[policy.odd.allow]]
do = "file.erase"
when = "given.ip within '10.0.0.0/8' and given.ip fits '192.*'"
[[attach]]
policy = "odd"
to = "everyone"
at = "v"
[[never]]
who = "user:tomas"
does = "file.erase"
on = "/v/**"
"#,
    );
    let run = folder.run(&["prove"]);
    assert_eq!((run.code, run.err.as_str()), (Some(1), ""));
    assert_snapshot!(run.out);
    assert_eq!(json(&folder, &[])["expectations"][0]["limit"]["attribute"], "given.ip");
}

#[test]
fn duties_are_kept_apart_at_any_one_time() {
    let estate = |windows: [&str; 2]| {
        Folder::estate().and(&format!(
            r#"
[group.payers]
members = [{{ who = "user:ines", {} }}]
[group.orderers]
members = [{{ who = "user:ines", {} }}, "user:tomas"]
[role.auditor]
taken-by = ["user:tomas"]
[[apart]]
any-two-of = ["group:payers", "group:orderers"]
[[apart]]
name = "orders and audits"
any-two-of = ["group:orderers", "role:auditor"]
[[apart]]
any-two-of = ["policy:reader", "group:payers"]
at = "v/s/store"
"#,
            windows[0], windows[1]
        ))
    };
    let one_after_another = estate(["until = 2026-01-01T00:00:00Z", "from = 2026-01-01T00:00:00Z"]);
    let run = one_after_another.run(&["prove", "--at-time", AT]);
    assert_eq!(run.code, Some(1));
    assert_snapshot!(run.out);
    let report = json(&one_after_another, &["apart 1"]);
    assert_eq!(report["held"], 1, "{report}");
    let at_once = estate(["until = 2026-01-02T00:00:00Z", "from = 2026-01-01T00:00:00Z"]);
    assert_eq!(json(&at_once, &["apart 1"])["broken"], 1);
}

#[test]
fn only_those_that_are_named() {
    let folder = Folder::demo();
    let report = json(&folder, &["a guest*", "no dish turns in a storm"]);
    assert_eq!(report["held"], 3);
    let run = folder.run(&["prove", "no dish turns in a strom"]);
    assert_eq!(run.code, Some(2));
    assert_snapshot!(run.err, @"
    error: no check, law or separation is called `no dish turns in a strom`
      help: did you mean `no dish turns in a storm`?
    ");
    let run = Folder::estate().run(&["prove"]);
    assert_eq!(run.code, Some(0));
    assert_snapshot!(run.out, @r#"
    nothing is expected yet: no file has a `[[check]]`, `[[never]]`, `[[always]]` or `[[apart]]`
    `bexum ask … --save-check "NAME"` writes the first one
    "#);
}

#[test]
fn wrong_expectations_are_faults_of_the_estate() {
    let folder = Folder::estate().with(
        "wrong.toml",
        r#"
[[check]]
name = "one"
who = "user:inse"
does = "file.open"
on = "v/s/store/a"
expect = "allow"
reason = "denied"
[[check]]
name = "one"
who = ["user:ines", "user:tomas"]
does = ["store.list"]
on = ["v/s/store"]
given = { time = "noon", since = 2026-01-01T00:00:00Z, x = 1 }
absent = "x"
expect = "maybe"
[[check]]
name = " "
who = []
does = "file.open"
on = "v/s/store/a"
expect = "deny"
[[never]]
who = "group:crwe"
does = "file.opne"
on = ["v/**", "/v/**"]
when = "given.mfa and"
[[always]]
does = "*"
on = "!/v"
[[apart]]
any-two-of = "policy:reader"
[[apart]]
any-two-of = ["user:ines", "role:x"]
"#,
    );
    let run = folder.run(&["prove"]);
    assert_eq!((run.code, run.out.as_str()), (Some(2), ""));
    assert_snapshot!(run.err);
}

#[test]
fn a_check_asks_what_can_be_asked() {
    let check = |who: &str, does: &str, on: &str, more: &str| {
        let text = format!(
            "[[check]]\nname = \"x\"\nexpect = \"deny\"\nwho = \"{who}\"\ndoes = \"{does}\"\non = \"{on}\"\n{more}\n"
        );
        let run = Folder::estate().with("checks.toml", text).run(&["prove"]);
        assert_eq!(run.code, Some(2), "{}", run.out);
        run.err
    };
    let mut all = check("user:inse", "file.open", "v/s/store/a", "");
    all.push_str(&check("user:ines", "file.opne", "v/s/store/a", ""));
    all.push_str(&check("user:ines", "file.open", "v/s/store", ""));
    all.push_str(&check("user:ines", "file.open", "v/s/stroe/a", ""));
    all.push_str(&check("user:ines", "store.list", "v/s/store", "item = { a = 1 }"));
    all.push_str(&check("user:ines", "file.open", "v/s/store/a", "item = { path = 1 }"));
    all.push_str(&check("user:ines", "store.list", "v/s/store", "as = \"role:none\""));
    all.push_str(&check("user:ines", "store.list", "v/s/store", "also = [\"group:crwe\"]"));
    all.push_str(&check("user:ines", "store.list", "v/s/store", "under = \"raeder\""));
    assert_snapshot!(all);
}

#[test]
fn a_question_is_kept_as_a_check() {
    let odd = "# mine\r\n[[check]] # first\r\nname='a'\r\nwho = \"user:ines\"\r\ndoes=\"file.open\"\r\non = \"v/s/store/a\"\r\nexpect = \"allow\" # end";
    let folder = Folder::estate().with("kept/odd.toml", odd);
    let ask = |more: &[&str]| {
        let ask = ["ask", "user:tomas", "file.open", "v/s/store/it's \"this\""];
        folder.run(&[&ask[..], more].concat())
    };
    let run = ask(&[
        "--given",
        "mfa=true",
        "--given",
        "device.os=x \"y\"",
        "--given",
        "ticket=",
        "--given",
        "nets=[\"10.0.0.0/8\",\"\"]",
        "--given",
        "word=\"true\"",
        "--item",
        "size=7",
        "--also",
        "group:crew",
        "--under",
        "reader",
        "--at-time",
        AT,
        "--save-check",
        "it's \"kept\"",
    ]);
    assert_eq!(run.code, Some(0));
    assert_eq!(run.err, "saved as the check \"it's \"kept\"\" in kept/odd.toml\n");
    let text = std::fs::read_to_string(folder.file("kept/odd.toml")).expect("the file");
    let added = text.strip_prefix(odd).expect("what was there is there, to the byte");
    assert!(!added.replace("\r\n", "").contains(['\n', '\r']), "{added:?}");
    assert_snapshot!(added.replace("\r\n", "\n"));
    let run = folder.run(&["prove"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);

    let again = ask(&["--save-check", "a"]);
    assert_eq!(again.code, Some(2));
    assert!(again.err.contains("`a` already (kept/odd.toml:2)"), "{}", again.err);
    for (file, why) in [
        ("../out.toml", "from the estate's root"),
        (".hidden/out.toml", "no hidden folder"),
        ("checks.txt", "must end in `.toml`"),
        ("nowhere/out.toml", "does not exist"),
    ] {
        let run = ask(&["--save-check", "b", "--save-to", file]);
        assert_eq!(run.code, Some(2), "{file}");
        assert!(run.err.contains(why), "{}", run.err);
    }
    assert_eq!(std::fs::read_to_string(folder.file("kept/odd.toml")).expect("the file"), text);

    let run = ask(&["--save-check", "b", "--save-to", "new.toml"]);
    assert_eq!((run.code, run.err.as_str()), (Some(1), "saved as the check \"b\" in new.toml\n"));
    assert_eq!(json(&folder, &["b"])["held"], 1);
}

#[test]
fn a_file_that_has_no_room_stays_as_it_is() {
    let inline = "check = [{ name = 'a', who = 'user:ines', does = 'store.list', on = 'v/s/store', expect = 'allow' }]\n";
    let folder = Folder::estate().with("inline.toml", inline);
    let run = folder.run(&["ask", "user:ines", "store.list", "v/s/store", "--save-check", "b"]);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("cannot take a table at its end: nothing was written"), "{}", run.err);
    let text = std::fs::read_to_string(folder.file("inline.toml")).expect("the file");
    assert_eq!(text, inline);
    let names: Vec<_> = std::fs::read_dir(folder.path()).expect("a folder").collect();
    assert_eq!(names.len(), 2, "nothing is left behind: {names:?}");
}

#[cfg(unix)]
#[test]
fn a_link_stays_a_link() {
    let folder = Folder::estate().with("real.toml", "");
    std::os::unix::fs::symlink("real.toml", folder.file("a.toml")).expect("a link");
    let to = ["--save-check", "b", "--save-to", "real.toml"];
    let run = folder.run(&[&["ask", "user:ines", "store.list", "v/s/store"], &to[..]].concat());
    assert_eq!(run.code, Some(0), "{}", run.err);
    let link = std::fs::symlink_metadata(folder.file("a.toml")).expect("the link");
    assert!(link.is_symlink());
    assert_eq!(json(&folder, &[])["held"], 1);
}

#[test]
fn a_change_is_tried_at_once() {
    let folder = Folder::estate().and(
        "[[check]]\nname = \"a\"\nwho = \"user:ines\"\ndoes = \"store.list\"\non = \"v/s/store\"\nexpect = \"allow\"\n",
    );
    let mut child = command()
        .args(["prove", "--watch"])
        .current_dir(folder.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the program starts");
    let (tell, told) = std::sync::mpsc::channel();
    let out = child.stdout.take().expect("a pipe");
    std::thread::spawn(move || {
        for line in BufReader::new(out).lines().map_while(Result::ok) {
            if tell.send(line).is_err() {
                break;
            }
        }
    });
    let mut err = BufReader::new(child.stderr.take().expect("a pipe"));
    let mut waits = || {
        let mut line = String::new();
        while !line.contains("waiting") {
            line.clear();
            assert_ne!(err.read_line(&mut line).expect("text"), 0, "the program ended");
        }
    };
    let until = |wanted: &str| {
        let start = Instant::now();
        while start.elapsed() < Duration::from_secs(60) {
            if told.recv_timeout(Duration::from_secs(60)).is_ok_and(|line| line.contains(wanted)) {
                return true;
            }
        }
        false
    };
    assert!(until("1 check (1 request): it holds"));
    waits();
    let folder =
        folder.with("more.toml", "[[apart]]\nany-two-of = [\"group:crew\", \"policy:reader\"]\n");
    assert!(until("1 separation: 1 broken"));
    waits();
    let folder = folder.with("more.toml", "[[apart]]\nany-two-of = 3\n");
    // What cannot be loaded is told, and the wait goes on.
    waits();
    let folder = folder.with("more.toml", "");
    assert!(until("1 check (1 request): it holds"));
    child.kill().expect("it runs");
    child.wait().expect("it ends");
    drop(folder);
}

#[test]
fn what_would_take_forever_ends() {
    // Twenty attributes that only hold together in a way that nothing allows.
    let parts: Vec<String> = (0..20)
        .map(|i| format!("(given.a{i} or given.b{i}) and not (given.a{i} and given.b{i})"))
        .collect();
    let folder = Folder::estate().and(&format!(
        r#"
[policy.odd]
[[policy.odd.allow]]
do = "file.erase"
when = "{} and given.z = 1 and given.z = 2"
[[attach]]
policy = "odd"
to = "everyone"
at = "v"
[[never]]
who = "everyone"
does = "file.erase"
on = "/v/**"
"#,
        parts.join(" and ")
    ));
    let run = folder.run(&["prove"]);
    assert_eq!(run.code, Some(1), "{}", run.out);
    assert!(run.out.contains("too many combinations of circumstances"), "{}", run.out);
    let names = |what: &str| {
        let names: Vec<String> = (0..400).map(|_| format!("\"{what}\"")).collect();
        names.join(", ")
    };
    let check = format!(
        "[[check]]\nname = \"x\"\nwho = [{}]\ndoes = [{}]\non = \"v/s/store\"\nexpect = \"deny\"\n",
        names("user:ines"),
        names("store.list")
    );
    let run = Folder::estate().and(&check).run(&["prove"]);
    assert_eq!(run.code, Some(2));
    assert!(
        run.err.contains("this check makes 160000 requests: one makes 100000 at most"),
        "{}",
        run.err
    );
}

#[test]
fn a_law_about_nothing_says_so() {
    let law = |who: &str, does: &str, on: &str| {
        let law = format!(
            "[group.nobody]\n[[never]]\nwho = \"{who}\"\ndoes = \"{does}\"\non = \"{on}\"\n"
        );
        let folder = Folder::estate().and(&law);
        let run = folder.run(&["prove"]);
        assert_eq!(run.code, Some(0));
        assert_eq!(
            json(&folder, &[])["expectations"][0]["of-nothing"],
            run.out.contains("held, of nothing")
        );
        run.out.contains("held, of nothing")
    };
    assert!(law("everyone", "*", "/v/nowhere/**"));
    assert!(law("group:nobody", "*", "/v/**"));
    assert!(law("everyone", "file.*", "/v/s"));
    assert!(!law("user:tomas", "file.*", "/v/s/**"));
}

#[test]
fn items_named_like_a_role_taken_up_count() {
    let folder = Folder::estate().and(
        r#"
[role.keeper]
taken-by = ["user:tomas"]
[policy.own-folder]
[[policy.own-folder.allow]]
do = "file.erase"
on = "{who.roles}/*"
[[attach]]
policy = "own-folder"
to = "role:keeper"
at = "v/s/store"
[[never]]
who = "everyone"
does = "file.erase"
on = "/v/**"
"#,
    );
    let report = json(&folder, &[]);
    let typed = report["expectations"][0]["broken-by"]["ask"].as_str().expect("a command");
    assert!(typed.contains("v/s/store/keeper/") && typed.contains("--as role:keeper"), "{typed}");
    assert_eq!(retype(&folder, typed), Some(0), "{typed}");
}
