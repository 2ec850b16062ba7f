//! `bexum reach`: effective access in every direction and every format.

use std::collections::BTreeSet;

use serde_json::{Value, json};

use crate::support::{AT, Folder, Run, run_unread};

fn reach(args: &[&str]) -> Run {
    let mut all = vec!["reach"];
    all.extend(args);
    all.extend(["--at-time", AT]);
    Folder::demo().run(&all)
}

fn text(args: &[&str]) -> String {
    let run = reach(args);
    assert_eq!(run.code, Some(0), "{}", run.err);
    run.out
}

#[test]
fn by_principal() {
    insta::assert_snapshot!(text(&["user:lin"]));
}

#[test]
fn by_principal_with_names_and_sources() {
    insta::assert_snapshot!(text(&[
        "user:lin",
        "--at",
        "veyra/survey/reduction",
        "--full",
        "--sources"
    ]));
}

#[test]
fn what_depends_is_told() {
    insta::assert_snapshot!(text(&["user:mirek", "--at", "veyra/instruments"]));
}

#[test]
fn side_by_side() {
    insta::assert_snapshot!(text(&[
        "user:sol",
        "--beside",
        "--also group:nightly-crew",
        "--at",
        "veyra/survey"
    ]));
    let two = text(&["user:ines", "user:rafi", "--at", "veyra/survey"]);
    assert!(two.contains("0 of "), "the same team, the same access:\n{two}");
    let other =
        text(&["user:ines", "--beside", "user:eun --given 'x=a b'", "--at", "veyra/survey"]);
    assert!(other.contains("user:eun with x=a b"), "{other}");
}

#[test]
fn what_somebody_would_see() {
    insta::assert_snapshot!(text(&["user:juno", "--sees"]));
}

#[test]
fn by_place() {
    insta::assert_snapshot!(text(&["--at", "veyra/survey/spectra"]));
    let item = text(&["--at", "veyra/survey/spectra/imaging/run-0412.fits", "--full", "--sources"]);
    assert!(
        item.contains("user:ines: recording.put ← team-curator \"own team\" to group:imaging"),
        "{item}"
    );
}

#[test]
fn by_action() {
    insta::assert_snapshot!(text(&["--do", "recording.erase"]));
    let govern = text(&["--level", "govern", "--given", "device.managed=true"]);
    assert!(govern.contains("user:amara"), "{govern}");
    assert!(!govern.contains("user:lin"), "{govern}");
}

#[test]
fn a_role_opens_what_it_opens() {
    let vault =
        ["user:noor", "--at", "veyra/core", "--given", "mfa=true", "--given", "ip=10.20.1.1"];
    let plain = text(&[&vault[..], &["--without-roles"]].concat());
    assert!(!plain.contains("1/1"), "{plain}");
    // By default what the role opens stands under what she can do by herself, and everywhere else.
    let both = text(&vault);
    let below: Vec<&str> = both.lines().skip_while(|line| !line.contains("dish-keys")).collect();
    assert!(below[1].contains("as role:dish-keeper") && below[1].contains("1/1"), "{both}");
    let given = ["--given", "mfa=true", "--given", "ip=10.20.1.1"];
    for args in [["--do", "secret.open"], ["--at", "veyra/core/vault/dish-keys"]] {
        let all = text(&[&args[..], &given].concat());
        assert!(all.contains("user:noor") && all.contains("as role:dish-keeper"), "{all}");
        let json = text(&[&args[..], &given, &["--format", "json"]].concat());
        assert!(json.contains("\"role\":\"role:dish-keeper\""), "{json}");
        let without = text(&[&args[..], &given, &["--without-roles"]].concat());
        assert!(!without.contains("dish-keeper "), "{without}");
        let page = text(&[&args[..], &given, &["--format", "html"]].concat());
        assert!(page.contains("as role:dish-keeper"), "{page}");
    }
    let keeper = text(&[
        "user:noor",
        "--at",
        "veyra/core",
        "--as",
        "role:dish-keeper",
        "--given",
        "mfa=true",
        "--given",
        "ip=10.20.1.1",
    ]);
    assert!(keeper.contains("1/1"), "{keeper}");
}

#[test]
fn what_keeps_somebody_from_everything_is_said() {
    let refused = text(&["user:sol", "--as", "role:dish-keeper"]);
    assert!(
        refused.contains("user:sol cannot take up role:dish-keeper: nothing is allowed"),
        "{refused}"
    );
    let disabled = text(&["user:dag", "user:noor"]);
    assert!(disabled.contains("user:dag is not enabled"), "{disabled}");
}

/// Every cell of everybody, asked one by one: those of the CSV, and, of some people, all others.
#[test]
fn the_csv_of_everybody_is_what_replay_answers() {
    let folder = Folder::demo();
    let csv = text(&["--do", "*", "--format", "csv"]);
    let mut csv = csv::Reader::from_reader(csv.as_bytes());
    assert_eq!(csv.headers().expect("a header"), vec!["who", "as", "where", "action", "outcome"]);
    let rows: Vec<Vec<String>> = csv
        .records()
        .map(|record| record.expect("a row").iter().map(str::to_owned).collect())
        .collect();
    assert!(rows.is_sorted(), "by bytes");
    let request = |row: &[String]| {
        let path = row[2].replace("**", "q/q/q/q/q/q/q").replace('*', "q");
        let mut request =
            json!({ "who": row[0], "does": row[3], "on": path, "given": { "time": AT } });
        if !row[1].is_empty() {
            request["as"] = json!(row[1]);
        }
        request.to_string()
    };
    let input: Vec<String> = rows.iter().map(|row| request(row)).collect();
    let run = folder.run_with(&["replay"], input.join("\n"));
    assert!(run.err.contains(" 0 errors"), "{}", run.err);
    let (mut allows, mut depends) = (0, 0);
    for (row, answer) in rows.iter().zip(run.out.lines()) {
        let answer: Value = serde_json::from_str(answer).expect("JSON");
        match &*row[4] {
            "allow" => assert_eq!(answer["verdict"], "allow", "{row:?}"),
            // Of an item nothing more can be said: what it bears by itself is not given.
            _ if row[2].contains('*') => {}
            _ => assert_eq!(answer["verdict"], "deny", "{row:?}"),
        }
        allows += usize::from(row[4] == "allow");
        depends += usize::from(row[4] == "depends");
    }
    assert!(allows > 500 && depends > 50, "{allows} allows, {depends} depend");
    let roles: BTreeSet<&str> = rows.iter().map(|row| &*row[1]).collect();
    assert!(roles.len() > 2, "{roles:?}");

    // What is not in it is denied.
    let known: BTreeSet<&[String]> = rows.iter().map(|row| &row[..4]).collect();
    let places: BTreeSet<&String> = rows.iter().map(|row| &row[2]).collect();
    let actions: BTreeSet<&String> = rows.iter().map(|row| &row[3]).collect();
    let mut others: Vec<Vec<String>> = Vec::new();
    for (who, role) in
        [("user:noor", "role:dish-keeper"), ("user:lin", "role:reducer"), ("user:juno", "")]
    {
        for place in places.iter().filter(|place| !place.contains('*')) {
            for action in &actions {
                for role in [role, ""] {
                    let cell = [who, role, place, action].map(str::to_owned).to_vec();
                    others.extend((!known.contains(&cell[..])).then_some(cell));
                }
            }
        }
    }
    let input: Vec<String> = others.iter().map(|row| request(row)).collect();
    let run = folder.run_with(&["replay"], input.join("\n"));
    for (row, answer) in others.iter().zip(run.out.lines()) {
        let answer: Value = serde_json::from_str(answer).expect("JSON");
        assert_ne!(answer["verdict"], "allow", "{row:?}");
    }
}

#[test]
fn a_csv_may_say_where_it_comes_from() {
    let args = ["user:mirek", "--at", "veyra/instruments/mesa", "--format", "csv"];
    let told = text(&[&args[..], &["--sources"]].concat());
    assert!(told.starts_with("who,as,where,action,outcome,source\n"), "{told}");
    let line = |action: &str| told.lines().find(|line| line.contains(action)).expect("a row");
    assert!(line("dish-1,dish.stow,allow").contains("own site"), "{told}");
    assert!(line("dish-1,dish.point,depends").ends_with(",given.wind; given.wind > 60"), "{told}");
    assert!(line("dish.calibrate").contains("user:mirek,role:dish-keeper,"), "{told}");
    let plain = text(&[&args[..], &["--without-roles"]].concat());
    assert!(!plain.contains("role:"), "{plain}");
}

/// What is allowed at several places alike comes from somewhere else at each.
#[test]
fn where_it_comes_from_is_told_of_each_place() {
    let places = ["a", "b", "c"];
    let stores = places.map(|at| format!("[resource.'w/{at}']\nkind = 'store'\n")).concat();
    let estate = format!(
        "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\n[account.w]\n[user.u]\n{stores}[[policy.p.allow]]\ndo = 'store.list'\n[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = ['w/a', 'w/b', 'w/c']\n"
    );
    let folder = Folder::new().with("bexum.toml", estate);
    for format in ["text", "json", "csv"] {
        let run = folder.run(&["reach", "user:u", "--sources", "--format", format]);
        assert_eq!(run.code, Some(0), "{}", run.err);
        // Behind each statement stands where it is attached.
        let told: Vec<&str> = run.out.split("p allow 1").skip(1).collect();
        let is_at =
            |rest: &str, place: &str| rest[..60.min(rest.len())].contains(&format!("w/{place}"));
        let counts = places.map(|place| told.iter().filter(|rest| is_at(rest, place)).count());
        assert!(counts.iter().all(|count| *count > 0), "{counts:?} in {}", run.out);
    }
}

/// One store, one policy attached above it, and what reach says of its items.
fn items_of(policy: &str, who: &str, args: &[&str]) -> String {
    let more = format!(
        "{policy}\n[[attach]]\npolicy = 'p'\nto = 'user:{who}'\nat = 'v/s'\n[user.red-blue]\nattributes = {{ teams = ['red', 'blue'] }}\n"
    );
    let folder = Folder::estate().and(&more);
    let who = format!("user:{who}");
    let run = folder.run(&[&["reach", &who, "--format", "csv"], args].concat());
    assert_eq!(run.code, Some(0), "{}", run.err);
    let of_items = run.out.lines().filter(|line| line.contains(",file."));
    let cut = |line: &str| line.replace(&format!("{who},,v/s/store/"), "");
    of_items.map(|line| format!("{}\n", cut(line))).collect()
}

#[test]
fn items_that_patterns_tell_apart_have_rows() {
    // A list in a brace counts once for each element.
    let policy = "[[policy.p.allow]]\ndo = 'file.open'\non = 'store/{who.teams}/**'";
    let list = items_of(policy, "red-blue", &[]);
    assert_eq!(list, "blue/**,file.open,allow\nred/**,file.open,allow\n");
    // An item's own attributes are not known.
    let policy = "[[policy.p.allow]]\ndo = 'file.open'\nwhen = \"target.colour = 'red'\"";
    assert_eq!(items_of(policy, "tomas", &[]), "**,file.open,depends\n");
    // Where two patterns meet.
    let policy = "[[policy.p.allow]]\ndo = 'file.open'\non = ['store/ab*/**', '!store/*cd/**']";
    assert_eq!(items_of(policy, "tomas", &[]), "ab*/**,file.open,allow\n");
    let policy = "[[policy.p.allow]]\ndo = 'file.open'\non = 'store/a/**'\n[[policy.p.deny]]\ndo = 'file.*'\non = 'store/*/b/**'";
    assert_eq!(items_of(policy, "tomas", &[]), "a/**,file.open,allow\n");
    let policy = "[[policy.p.allow]]\ndo = 'file.open'\non = 'store/dag/**'\n[policy.c]\n[[policy.c.allow]]\ndo = '*'\non = 'v/s/store/*/vault/**'\n[[ceiling]]\npolicy = 'c'";
    assert_eq!(items_of(policy, "tomas", &[]), "dag/vault,file.open,allow\n");
    // A letter of the private use area is a letter like others.
    let policy = "[[policy.p.allow]]\ndo = 'file.open'\non = 'store/\u{e000}/**'";
    assert_eq!(items_of(policy, "tomas", &[]), "\u{e000}/**,file.open,allow\n");
}

#[test]
fn a_list_that_is_cut_short_is_no_success() {
    let many: Vec<String> = (0..100).map(|n| format!("'t{n}'")).collect();
    let more = format!(
        "[user.many]\nattributes = {{ teams = [{}] }}\n[[policy.p.allow]]\ndo = 'file.open'\non = 'store/{{who.teams}}-{{who.teams}}/**'\n[[attach]]\npolicy = 'p'\nto = 'user:many'\nat = 'v/s'\n",
        many.join(", ")
    );
    let folder = Folder::estate().and(&more);
    for args in [vec!["user:many"], vec!["--at", "v/s/store"], vec!["--do", "file.open"]] {
        for format in ["text", "csv", "json"] {
            let run = folder.run(&[&["reach"], &args[..], &["--format", format]].concat());
            assert_eq!(run.code, Some(2), "{}", run.out);
            assert!(run.err.contains("below v/s/store, patterns tell apart more"), "{}", run.err);
        }
    }
}

/// The rows in text, where exceptions are told too.
#[test]
fn exceptions_among_items_are_told() {
    let folder = Folder::estate().and(
        "[[policy.p.allow]]\ndo = 'file.open'\non = ['store/ab*/**', '!store/*cd/**']\n[[attach]]\npolicy = 'p'\nto = 'user:tomas'\nat = 'v/s'\n",
    );
    for args in [vec!["user:tomas", "--do", "file.open"], vec!["--at", "v/s/store"]] {
        let run = folder.run(&[&["reach"], &args[..]].concat());
        assert!(run.out.contains("ab*/**") && run.out.contains("abcd"), "{}", run.out);
    }
}

#[test]
fn json_has_all_three_outcomes() {
    let run = text(&[
        "user:mirek",
        "--at",
        "veyra/instruments/mesa/dish-1",
        "--format",
        "json",
        "--sources",
    ]);
    let json: Value = serde_json::from_str(&run).expect("JSON");
    assert_eq!(json["version"], 1);
    let cell = &json["rows"][0]["cells"][0];
    assert_eq!(cell["allow"], json!(["dish.stow", "dish.telemetry"]));
    assert_eq!(cell["deny"], json!(["dish.assign", "dish.calibrate"]));
    assert_eq!(cell["depends"][0]["action"], "dish.point");
    assert_eq!(cell["depends"][0]["needs"], json!(["given.wind"]));
    assert_eq!(cell["depends"][0]["conditions"], json!(["given.wind > 60"]));
    assert_eq!(
        cell["sources"]["dish.stow"],
        json!([{
            "statement": "dish-operator \"own site\"",
            "to": "group:mesa-operators",
            "at": "veyra/instruments",
        }])
    );
    for args in [["--at", "veyra/survey/maps"], ["--do", "job.*"]] {
        let json: Value =
            serde_json::from_str(&text(&[args[0], args[1], "--format", "json"])).expect("JSON");
        assert!(json["rows"].as_array().is_some_and(|rows| !rows.is_empty()));
        let csv = text(&[args[0], args[1], "--format", "csv"]);
        assert!(csv.lines().count() > 2);
    }
}

#[test]
fn pages_and_pictures_stand_alone() {
    let page = text(&["user:mirek", "--beside", "--given wind=3", "--format", "html"]);
    assert!(page.starts_with("<!doctype html>"));
    for outside in ["http:", "https:", "src=", "@import", "url("] {
        assert!(!page.contains(outside), "{outside}");
    }
    assert!(page.contains("<th scope=\"row\"") && page.contains("given.wind"), "rows are headed");
    let picture = text(&["user:mirek", "--format", "svg"]);
    assert!(picture.starts_with("<svg ") && picture.trim_end().ends_with("</svg>"));
    assert_eq!(picture.matches("<g>").count(), picture.matches("</g>").count());
}

#[test]
fn names_are_escaped() {
    let folder = Folder::estate().and(
        "[[policy.odd.allow]]\ndo = 'file.open'\non = 'store/<b>&*/**'\n[[attach]]\npolicy = 'odd'\nto = 'user:tomas'\nat = 'v/s'\n",
    );
    for format in ["html", "svg"] {
        let run = folder.run(&["reach", "user:tomas", "--format", format]);
        assert_eq!(run.code, Some(0), "{}", run.err);
        assert!(!run.out.contains("<b>"), "{}", run.out);
        assert!(run.out.contains("b&#62;&#38;") || run.out.contains("b&gt;&amp;"), "{}", run.out);
    }
    assert!(folder.run(&["reach", "user:tomas"]).out.contains("<b>&*/**"));
}

#[test]
fn a_reader_that_goes_away_is_no_error() {
    let folder = Folder::demo();
    for format in ["csv", "json", "html", "text"] {
        assert_eq!(run_unread(&["reach", "user:ines", "--format", format], folder.path()), Some(0));
    }
    assert_eq!(run_unread(&["show"], folder.path()), Some(0));
}

#[test]
fn eighty_columns_are_enough() {
    let folder = Folder::demo();
    for args in [
        vec!["reach", "user:lin"],
        vec!["reach", "user:amara"],
        vec!["reach", "user:sol", "user:ines"],
        vec!["reach", "--at", "veyra/survey/spectra"],
        vec!["reach", "--do", "job.*", "--full"],
    ] {
        let run = crate::support::finish(
            crate::support::command().env("COLUMNS", "80").args(&args).current_dir(folder.path()),
            b"",
        );
        let widest = run.out.lines().map(|line| line.chars().count()).max();
        assert!(widest <= Some(80), "{args:?}: {widest:?}\n{}", run.out);
    }
}

#[test]
fn what_cannot_be_asked() {
    for (args, said) in [
        (vec![], "say whose access"),
        (vec!["user:inse"], "did you mean `user:ines`?"),
        (vec!["user:ines", "--at", "veyra/survey/spectra/x"], "is no scope"),
        (vec!["--at", "veyra/survey/spctra"], "did you mean `veyra/survey/spectra`?"),
        (vec!["--do", "job.sumbit"], "did you mean `job.submit`?"),
        (vec!["--do", "nonsense"], "no action pattern"),
        (vec!["--level", "gvern"], "did you mean `govern`?"),
        (vec!["user:ines", "--beside", "--nope 1"], "--nope"),
        (vec!["user:ines", "--beside", "'"], "a quote is not closed"),
        (vec!["user:ines", "--as", "role:nope"], "role `role:nope` is not declared"),
        (vec!["--do", "job.submit", "--level", "govern"], "cannot be used with"),
        (vec!["--sees"], "required"),
        (vec!["user:ines", "--changed"], "compares"),
        (vec!["user:ines", "--sees", "--format", "csv"], "the other formats"),
    ] {
        let run = reach(&args);
        assert_eq!(run.code, Some(2), "{args:?}: {run:?}");
        assert!(run.err.contains(said), "{args:?}: {}", run.err);
    }
}

#[test]
fn one_person_and_some_actions_go_together() {
    let folder = Folder::demo();
    let run = |args: &[&str]| {
        let run = folder.run(&[&["reach", "user:lin", "--at-time", AT], args].concat());
        assert_eq!(run.code, Some(0), "{}", run.err);
        run.out
    };
    let csv = run(&["--do", "recording.read", "--format", "csv"]);
    let actions: Vec<&str> =
        csv.lines().skip(1).map(|line| line.split(',').nth(3).expect("an action")).collect();
    assert!(!actions.is_empty() && actions.iter().all(|action| *action == "recording.read"));
    let by_level = run(&["--level", "alter", "--format", "csv"]);
    assert!(by_level.contains("recording.put") && !by_level.contains("recording.read"));
    let text = run(&["--do", "recording.read", "--full"]);
    assert!(text.contains("veyra/survey/spectra/**") && !text.contains("recording.put"), "{text}");
    let all = folder.run(&["reach", "--do", "recording.read", "--format", "csv"]).out;
    assert!(all.lines().skip(1).all(|line| line.contains(",recording.read,")), "{all}");
    let json: serde_json::Value =
        serde_json::from_str(&run(&["--do", "recording.read", "--format", "json"])).expect("JSON");
    let denied = json["rows"]
        .as_array()
        .expect("rows")
        .iter()
        .flat_map(|row| row["cells"][0]["deny"].as_array().expect("a list").clone());
    assert!(denied.into_iter().all(|action| action == "recording.read"));
}

#[test]
fn heads_say_everything_and_stay_short() {
    let folder = Folder::demo();
    let beside = "--as role:dish-keeper --given mfa=true --given ip=10.20.4.7 --given device.managed=true --at-time 2026-10-05T20:00:00Z";
    for width in ["60", "80", "120"] {
        let mut run = crate::support::command();
        run.env("COLUMNS", width).current_dir(folder.path());
        run.args(["reach", "user:noor", "--at", "veyra/core", "--beside", beside]);
        let out = crate::support::finish(&mut run, b"").out;
        assert!(out.contains("at 2026-10-05T20:00:00Z"), "{out}");
        let most: usize = width.parse().expect("a number");
        for line in out.lines().skip(1) {
            assert!(line.chars().count() <= most, "{width}: {line}");
        }
    }
}

#[test]
fn only_what_changes_on_demand() {
    let folder = Folder::demo();
    let args = ["reach", "user:sol", "--beside", "--also group:nightly-crew", "--at-time", AT];
    let all = folder.run(&args).out;
    let changed = folder.run(&[&args[..], &["--changed"]].concat()).out;
    assert!(all.contains("the same"), "{all}");
    // What is the same by oneself is told only above what a role changes.
    let lines: Vec<&str> = changed.lines().collect();
    for pair in lines.windows(2).filter(|pair| pair[0].ends_with("the same")) {
        assert!(pair[1].contains("as role:"), "{changed}");
    }
    assert!(changed.contains("+job.cancel") && changed.contains("veyra/survey/reduction/nightly"));
}

#[test]
fn different_actions_are_not_the_same() {
    let more = "[kind.box]\ngovern = ['seal']\n[kind.crate]\ngovern = ['lock']\n[resource.'v/s/box']\nkind = 'box'\n[resource.'v/s/box/crate']\nkind = 'crate'\n[policy.boss]\n[[policy.boss.allow]]\ndo = '*.@govern'\n[[attach]]\npolicy = 'boss'\nto = 'user:tomas'\nat = 'v'\n";
    let folder = Folder::estate().and(more);
    let run = folder.run(&["reach", "--level", "govern", "--full"]);
    assert!(run.out.contains("box.seal") && run.out.contains("crate.lock"), "{}", run.out);
    let run = folder.run(&["reach", "--level", "govern"]);
    assert!(!run.out.contains("the same"), "{}", run.out);
}

#[test]
fn a_page_says_where_and_when_it_is_from() {
    let folder = Folder::demo();
    let page = |args: &[&str]| {
        folder.run(&[&["reach", "--format", "html", "--at-time", AT], args].concat()).out
    };
    let lin = page(&["user:lin", "--given", "mfa=true"]);
    assert!(lin.contains("Veyra Array · as of 2026-10-05T20:00:00Z · with mfa=true"), "{lin}");
    // A row that is folded away is found by its path all the same.
    assert!(lin.contains("veyra/survey/reduction/imaging/**"), "{lin}");
    let two = page(&["user:lin", "user:sol"]);
    assert!(two.contains("≠ a row that differs") && !lin.contains("≠ a row"), "{two}");
}

/// Of scopes that are alike one is worked out; these look alike and are not.
#[test]
fn what_only_looks_alike_is_told_apart() {
    let scopes = ["aa", "ab", "b", "c", "d", "e", "f", "g", "h"]
        .map(|name| format!("[resource.'w/{name}']\nkind = 'store'\n"))
        .concat();
    let allow = |policy: &str, more: &str, at: &str| {
        format!(
            "[[policy.{policy}.allow]]\ndo = ['obj.read', 'store.list']\n{more}\n[[attach]]\npolicy = '{policy}'\nto = 'user:u'\nat = {at}\n"
        )
    };
    let estate = [
        "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\nholds = ['namespace']\n[kind.obj]\nobserve = ['read']\n[kind.namespace]\nobserve = ['view']\n[account.w]\n[user.u]\n".to_owned(),
        scopes,
        // A name that a pattern asks for is declared below one of them, one that none asks for below
        // another.
        "[namespace.'w/b/x']\n[namespace.'w/c/y']\n".to_owned(),
        allow("below", "on = '*/x/**'", "'w'"),
        // A pattern from the root asks for a name further up than where it is attached.
        allow("root", "on = '/w/aa/**'", "['w/aa', 'w/ab']"),
        // By itself, since where names are asked for no scope is like another.
        "[account.z]\n[resource.'z/d']\nkind = 'store'\n[resource.'z/h']\nkind = 'store'\n".to_owned(),
        allow("named", "when = \"target.name = 'd'\"", "'z'"),
        allow("tiered", "when = \"target.tier = 'raw'\"", "'w'"),
        "[resource.'w/i']\nkind = 'store'\nattributes = { tier = 'raw' }\n[resource.'w/j']\nkind = 'store'\nattributes = { tier = 'cold' }\n".to_owned(),
        // Two attributes that one comparison asks for, each of which both have.
        allow("paired", "when = 'target.tier = target.twin'", "'w'"),
        "[resource.'w/l']\nkind = 'store'\nattributes = { tier = 'a', twin = 'a' }\n[resource.'w/m']\nkind = 'store'\nattributes = { tier = 'a', twin = 'b' }\n".to_owned(),
        allow("all", "", "['w/e', 'w/f', 'w/g']"),
        "[policy.none]\n[[policy.none.deny]]\ndo = '*'\n[[ceiling]]\npolicy = 'none'\nover = 'w/f'\n[[attach]]\npolicy = 'none'\nto = 'user:u'\nat = 'w/g'\n".to_owned(),
        "[resource.'w/k']\nkind = 'store'\nsealed = true\nattributes = { tier = 'raw' }\n".to_owned(),
    ];
    let folder = Folder::new().with("bexum.toml", estate.concat());
    let csv = folder.run(&["reach", "user:u", "--format", "csv", "--at-time", AT]);
    assert_eq!(csv.code, Some(0), "{}", csv.err);
    let mut cells: BTreeSet<(String, String, String)> = BTreeSet::new();
    for line in csv.out.lines().skip(1) {
        let fields: Vec<&str> = line.split(',').collect();
        cells.insert((fields[2].to_owned(), fields[3].to_owned(), fields[4].to_owned()));
    }
    let run = folder.run(&["reach", "user:u", "--format", "json", "--at-time", AT]);
    let report: Value = serde_json::from_str(&run.out).expect("JSON");
    let mut told: BTreeSet<(String, String, String)> = BTreeSet::new();
    let mut paths: BTreeSet<String> = BTreeSet::new();
    for row in report["rows"].as_array().expect("rows") {
        let path = row["path"].as_str().expect("a path").to_owned();
        for outcome in ["allow", "depends"] {
            for action in row["cells"][0][outcome].as_array().expect("actions") {
                let action = action["action"].as_str().or(action.as_str());
                let action = action.expect("an action").to_owned();
                told.insert((path.clone(), action, outcome.to_owned()));
            }
        }
        paths.insert(path);
    }
    // The csv names every row, the other only those that say something of their own.
    cells.retain(|(path, ..)| paths.contains(path));
    assert_eq!(told, cells);
    for (path, is_there) in
        [("w/c/x/**", true), ("w/ab/x/**", true), ("w/aa/x/**", false), ("w/b/x/**", false)]
    {
        assert_eq!(paths.contains(path), is_there, "{path} in {paths:?}");
    }
}

/// What a statement asks is asked of what each cell is about: of a name that nobody knows, of the kind of
/// item that the action is for, and of the roles that count for the session.
#[test]
fn each_cell_is_asked_about_itself() {
    let estate = |to: &str, when: &str| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj', 'tag']\n[kind.obj]\nobserve = ['read']\n[kind.tag]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[role.r]\ntaken-by = 'user:u'\n[role.h]\nheld-by = 'user:u'\n[[policy.p.allow]]\ndo = ['obj.read', 'tag.read']\nwhen = \"{when}\"\n[[attach]]\npolicy = 'p'\nto = '{to}'\nat = 'w'\n"
        )
    };
    for (to, when, rows) in [
        (
            "user:u",
            "target.name = 'x'",
            &["user:u,,w/a/**,obj.read,depends", "user:u,,w/a/**,tag.read,depends"][..],
        ),
        ("user:u", "target.kind = 'tag'", &["user:u,,w/a/**,tag.read,allow"]),
        ("user:u", "target.kind = 'obj'", &["user:u,,w/a/**,obj.read,allow"]),
        // An allow sees the roles that the role taken up brings (spec section 6).
        ("role:r", "'h' in who.roles", &[]),
        (
            "role:r",
            "not ('h' in who.roles) and 'r' in who.roles",
            &["user:u,role:r,w/a/**,obj.read,allow", "user:u,role:r,w/a/**,tag.read,allow"],
        ),
    ] {
        let folder = Folder::new().with("bexum.toml", estate(to, when));
        let run = folder.run(&["reach", "user:u", "--format", "csv"]);
        let told: Vec<&str> = run.out.lines().skip(1).collect();
        assert_eq!(told, rows, "{when}: {}", run.err);
        for row in rows {
            let [_, role, _, action, outcome] = row.split(',').collect::<Vec<_>>()[..] else {
                panic!("five columns")
            };
            let mut ask = vec!["ask", "user:u", action, "w/a/x"];
            ask.extend(["--as", role].iter().filter(|_| !role.is_empty()));
            let is_allowed = folder.run(&ask).code == Some(0);
            assert!(is_allowed || outcome == "depends", "{row}");
        }
    }
}
