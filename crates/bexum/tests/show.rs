//! `bexum show`: lists and things.

use crate::support::{AT, Folder, SHOWN};

fn show(what: &[&str]) -> String {
    let mut args = vec!["show"];
    args.extend(what);
    args.extend(["--at-time", AT]);
    let run = Folder::demo().run(&args);
    assert_eq!(run.code, Some(0), "{}", run.err);
    // The first line of a list names the temporary folder.
    let text = run.out.lines().filter(|line| !line.starts_with("Veyra Array (in "));
    text.collect::<Vec<_>>().join("\n")
}

#[test]
fn lists() {
    for list in
        ["scopes", "catalogue", "users", "groups", "roles", "policies", "attachments", "ceilings"]
    {
        insta::assert_snapshot!(list, show(&[list]));
    }
}

/// The overview fits a screen, on estates of any size.
#[test]
fn the_overview_fits_a_screen() {
    insta::assert_snapshot!(show(&[]));
    let mut text = String::new();
    for i in 0..60 {
        text.push_str(&format!(
            "[user.u{i}]\n[policy.boss-{i}]\n[[policy.boss-{i}.allow]]\ndo = '*'\n[[attach]]\npolicy = 'boss-{i}'\nto = 'user:u{i}'\nat = 'v'\nuntil = 2026-10-{:02}T00:00:00Z\n",
            6 + i % 20
        ));
    }
    let text = text.replace("do = '*'", "do = '*.@govern'");
    let estate = Folder::estate().and("[kind.account]\ngovern = ['hand-over']\n").and(&text);
    let run = estate.run(&["show", "--at-time", AT]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    assert!(run.out.lines().count() < 50, "{}", run.out);
    for told in ["and 55 more: `bexum reach --level govern`", "and 55 more: `bexum show windows`"] {
        assert!(run.out.contains(told), "{told}: {}", run.out);
    }
}

/// However many policies and places each of those who govern has: of each a few are named.
#[test]
fn the_overview_of_a_large_estate_fits_a_screen() {
    let mut text = "[kind.account]\ngovern = ['hand-over']\n".to_owned();
    for i in 0..50 {
        text += &format!(
            "[resource.'v/s/a-store-with-a-rather-long-name-{i:02}']\nkind = 'store'\n\
             [policy.keeper-of-what-is-there-{i:02}]\n[[policy.keeper-of-what-is-there-{i:02}.allow]]\ndo = '*.@govern'\n"
        );
    }
    let all = |name: &dyn Fn(usize) -> String| {
        (0..50).map(|i| format!("'{}'", name(i))).collect::<Vec<_>>().join(", ")
    };
    for group in 0..7 {
        text += &format!(
            "[group.crew-{group}]\n[[attach]]\npolicy = [{}]\nto = 'group:crew-{group}'\nat = [{}]\nuntil = 2026-10-20T00:00:00Z\n",
            all(&|i| format!("keeper-of-what-is-there-{i:02}")),
            all(&|i| format!("v/s/a-store-with-a-rather-long-name-{i:02}")),
        );
    }
    let estate = Folder::estate().and(&text);
    let run = estate.run(&["show", "--at-time", AT]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    assert!(run.out.lines().count() <= 55, "{}", run.out);
    assert!(run.out.contains("keeper-of-what-is-there-00 and 49 more"), "{}", run.out);
    // Machines are told all.
    let json = estate.run(&["show", "--at-time", AT, "--format", "json"]).out;
    assert!(json.contains("a-store-with-a-rather-long-name-49"), "{json}");
}

/// What ends next comes first, what is over last.
#[test]
fn windows_in_their_order() {
    insta::assert_snapshot!(show(&["windows"]));
    let folder = Folder::estate().and(
        "[group.w]\nmembers = [{ who = 'user:ines', until = 2026-10-06T12:00:00Z }, { who = 'user:tomas', from = 2027-01-01T00:00:00Z }, { who = 'group:x', until = 2026-01-01T00:00:00Z }]\n[group.x]\n[role.r]\nheld-by = [{ who = 'user:ines', from = 2026-01-01T00:00:00Z }]\n[policy.lid]\n[[policy.lid.deny]]\ndo = '*'\n[[ceiling]]\npolicy = 'lid'\nuntil = 2026-10-09T00:00:00Z\n",
    );
    let json = folder.run(&["show", "windows", "--at-time", AT, "--format", "json"]).out;
    let json: serde_json::Value = serde_json::from_str(&json).expect("JSON");
    let rows = json["windows"].as_array().expect("rows").iter();
    let told: Vec<String> = rows
        .map(|row| {
            format!(
                "{}: {} {}",
                row["state"].as_str().expect("a text"),
                row["who"][0],
                row["what"][0]
            )
            .replace('"', "")
        })
        .collect();
    assert_eq!(
        told,
        [
            "open: user:ines member of group:w",
            "open: everyone ceiling policy:lid",
            "not-begun: user:tomas member of group:w",
            "open: user:ines holds role:r",
            "over: group:x member of group:w",
        ]
    );
    let text = folder.run(&["show", "windows", "--at-time", AT]).out;
    let states = ["ends within a day", "ends in 3 days", "not begun", "open", "over"];
    let places = states.map(|state| text.find(&format!("  {state} ")).expect("the state"));
    assert!(places.is_sorted(), "{text}");
}

#[test]
fn things() {
    for (name, thing) in [
        ("user", "user:lin"),
        ("group", "group:imaging"),
        ("role", "role:reducer"),
        ("workload", "resource:veyra/survey/reducer"),
        ("policy", "policy:team-curator"),
        ("scope", "veyra/core/vault/dish-keys"),
        ("item", "scope:veyra/survey/spectra/imaging/x"),
        ("kind", "kind:store"),
    ] {
        insta::assert_snapshot!(name, show(&[thing]));
    }
}

#[test]
fn an_identity_is_found_by_its_path_too() {
    assert_eq!(show(&["veyra/people/lin"]), show(&["user:lin"]));
}

#[test]
fn what_was_and_what_comes_is_shown_as_such() {
    let folder = Folder::demo();
    let shown = |args: &[&str]| folder.run(&[&["show"], args].concat());
    let noor = shown(&["user:noor", "--at-time", AT]).out;
    assert!(noor.contains("groups and roles at another time (1)"), "{noor}");
    assert!(noor.contains("until 2026-06-01 (over)"), "{noor}");
    let early = shown(&["group:transit", "--at-time", "2026-01-01T00:00:00Z"]).out;
    assert!(
        early.contains("members at another time (1)") && early.contains("(not yet)"),
        "{early}"
    );
    let staff = shown(&["group:staff", "--at-time", AT]).out;
    assert!(staff.contains("user:lin    by its members-when"), "{staff}");
}

#[test]
fn a_suggestion_is_a_thing_of_this_estate() {
    let folder = Folder::estate();
    assert!(folder.run(&["show", "tomas"]).err.contains("did you mean `user:tomas`?"));
    assert!(folder.run(&["show", "raeder"]).err.contains("did you mean `policy:reader`?"));
    assert!(folder.run(&["show", "anna"]).err.contains("is written like `user:ines`"));
    let other = folder.with("bexum.toml", "[estate]\nname = 'x'\nformat = 1\n");
    assert!(!other.run(&["show", "anna"]).err.contains("ines"));
}

#[test]
fn json_of_a_user() {
    let json: serde_json::Value =
        serde_json::from_str(&show(&["user:lin", "--format", "json"])).expect("JSON");
    assert_eq!(json["version"], 1);
    let groups: Vec<&str> = json["groups"]
        .as_array()
        .expect("rows")
        .iter()
        .filter_map(|g| g["group"].as_str())
        .collect();
    assert_eq!(groups, ["group:calibration", "group:imaging", "group:nightly-crew", "group:staff"]);
    assert_eq!(json["roles"][0]["state"], "takeable");
    assert_eq!(json["policies"].as_array().expect("rows").len(), 12);
}

#[test]
fn narrow_terminals_keep_names_whole() {
    let folder = Folder::demo();
    let run = crate::support::finish(
        crate::support::command()
            .env("COLUMNS", "80")
            .args(["show", "attachments"])
            .current_dir(folder.path()),
        b"",
    );
    assert!(run.out.contains("veyra/survey/reduction/nightly"), "{}", run.out);
    let widest = run.out.lines().skip(1).map(|line| line.chars().count()).max();
    assert!(widest <= Some(80), "{}", run.out);
}

#[test]
fn what_is_not_there() {
    let folder = Folder::demo();
    for (what, said) in [
        ("user:inse", "did you mean `user:ines`?"),
        ("policy:keep-rwa", "did you mean `keep-raw`?"),
        ("kind:stor", "did you mean `store`?"),
        ("scpes", "did you mean `scopes`?"),
        ("weather", "a list is one of scopes"),
        ("veyra/survey/spctra", "did you mean `veyra/survey/spectra`?"),
    ] {
        let run = folder.run(&["show", what]);
        assert_eq!(run.code, Some(2), "{what}");
        assert!(run.err.contains(said), "{what}: {}", run.err);
    }
}

#[test]
fn no_line_is_wider_than_the_terminal() {
    let folder = Folder::demo();
    for width in ["60", "80", "100", "132", "160"] {
        let widest_allowed: usize = width.parse().expect("a number");
        for what in [
            vec!["show", "scopes"],
            vec!["show", "catalogue"],
            vec!["show", "users"],
            vec!["show", "groups"],
            vec!["show", "roles"],
            vec!["show", "policies"],
            vec!["show", "attachments"],
            vec!["show", "ceilings"],
            vec!["show", "user:lin"],
            vec!["show", "policy:team-curator"],
            vec!["show", "veyra/survey/spectra"],
            vec!["ask", "user:amara", "secret.open", "veyra/core/vault/dish-keys/dish-1"],
            vec!["reach", "user:mirek"],
            vec!["reach", "--do", "*"],
        ] {
            let mut command = crate::support::command();
            command.env("COLUMNS", width).args(&what).current_dir(folder.path());
            let run = crate::support::finish(&mut command, b"");
            // The title of a list names the temporary folder, however long its path is; a command to
            // paste is not broken.
            let is_told = |line: &&str| !line.contains("(in ") && !line.trim().starts_with("$ ");
            for line in run.out.lines().filter(is_told) {
                let words: Vec<&str> = line.split_whitespace().collect();
                let longest = words.iter().map(|word| word.chars().count()).max().unwrap_or(0);
                let is_one_word = longest + 16 > widest_allowed;
                let wide = line.chars().count();
                assert!(
                    wide <= widest_allowed || is_one_word,
                    "{what:?} at {width}: {wide}: {line}"
                );
            }
        }
    }
}

#[test]
fn every_list_and_thing_has_json_of_one_version() {
    let folder = Folder::demo();
    for what in SHOWN {
        let run = folder.run(&["show", what, "--format", "json", "--at-time", AT]);
        assert_eq!(run.code, Some(0), "{what}: {}", run.err);
        let json: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
        assert_eq!(json["version"], 1, "{what}");
        assert!(json.as_object().is_some_and(|all| all.len() > 1), "{what}: {json}");
    }
    // A tree is drawn with names, and written with paths.
    let run = folder.run(&["show", "scopes", "--format", "json"]);
    let json: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(json["scopes"][1]["scope"], "veyra/core");
}
