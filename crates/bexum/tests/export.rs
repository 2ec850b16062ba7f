//! `bexum export`, and in again.

use bexum_synth::{Layout, Model, Size, write_estate};
use serde_json::{Value as Json, json};

use crate::import::{AT, told};
use crate::support::Folder;

/// Everything that an export of people says, without where they come from.
fn people(folder: &Folder, at: &str) -> Vec<Json> {
    ["users", "groups", "memberships"]
        .map(|what| {
            let args = ["export", what, "--format", "json", "--at-time", at];
            let mut all = told(&folder.run(&args));
            for row in all.as_array_mut().expect("rows") {
                let row = row.as_object_mut().expect("a row");
                row.remove("source");
                row.remove("source-id");
            }
            all
        })
        .to_vec()
}

/// Out and in again changes nothing but whose they are, and in again nothing at all.
fn goes_round(folder: &Folder, format: &str, at: &str) {
    let before = people(folder, at);
    let sorts: &[&str] =
        if format == "csv" { &["users", "groups", "memberships"] } else { &["users", "groups"] };
    let mut files = Vec::new();
    for what in sorts {
        let run = folder.run(&["export", what, "--format", format, "--at-time", at]);
        assert_eq!(run.code, Some(0), "{}", run.err);
        let file = format!("{what}.out");
        std::fs::write(folder.file(&file), run.out).expect("written");
        files.push(file);
    }
    let files: Vec<&str> = files.iter().map(String::as_str).collect();
    let office = ["--source", "office", "--format", "json", "--at-time", at];
    let adopt = [&["import"], &files[..], &office, &["--adopt", "--write"]].concat();
    let run = folder.run(&adopt);
    assert_eq!(run.code, Some(0), "{format}: {}{}", run.out, run.err);
    let first = &told(&run)["import"];
    for key in ["new", "disabled", "enabled", "renamed", "emptied", "kept"] {
        assert_eq!(first[key], json!([]), "{format}: {key}");
    }
    for key in ["changed", "joined", "left"] {
        assert_eq!(first[key], 0, "{format}: {key}");
    }
    assert_eq!(people(folder, at), before, "{format}");
    let again = told(&folder.run(&[&["import"], &files[..], &office].concat()));
    assert_eq!(again["files"], json!([]), "{format}: {again}");
}

/// Whatever a table could spoil: formulas, quotes, line ends, texts of nothing, windows, types.
const AWKWARD: &str = r#"
[user.plain]
[user.full]
full-name = "=HYPERLINK(\"x\")"
manager = "user:plain"
attributes = { team = "a, \"b\"\n'c'", level = -3, since = 2026-01-01T00:00:00Z, ok = false }
[user.off]
enabled = false
full-name = ""
attributes = { team = "'quoted", level = 0, note = "" }
[user."dotted.name_x-1@y"]
attributes = { team = "@sum", note = "\ttab", nets = ["10.0.0.0/8"] }
[user.had]
source = "office"
source-id = "17"
attributes.team = "''x"
[group.outer]
members = ["user:plain", "group:inner", "resource:w/a"]
[group.inner]
members = [
  { who = "user:full", from = 2026-01-01T00:00:00Z, until = 2030-01-01T00:00:00Z },
  { who = "user:off", from = 2090-01-01T00:00:00Z },
]
members-when = "who.team is set"
[group.kept]
source = "office"
source-id = "g-1"
members = "user:had"
[group.none]
[kind.box]
observe = ["look"]
[account.w]
[resource."w/a"]
kind = "box"
"#;

/// The demo but for the one place whose window is over: no list has that, so it goes.
fn demo_without_what_is_over() -> Folder {
    let folder = Folder::demo();
    let groups = std::fs::read_to_string(folder.file("people/groups.toml")).expect("groups");
    let over = ", { who = \"user:noor\", until = 2026-06-01T00:00:00Z }";
    assert!(groups.contains(over), "{groups}");
    folder.with("people/groups.toml", groups.replace(over, ""))
}

#[test]
fn out_and_in_again_changes_nothing() {
    for format in ["csv", "scim"] {
        goes_round(&Folder::estate().and(AWKWARD), format, AT);
        goes_round(&demo_without_what_is_over(), format, AT);
    }
    for seed in 1..=4 {
        let size = Size { scopes: 60, users: 70, groups: 25, attachments: 60, ..Size::S };
        let model = Model::new(size, seed);
        for format in ["csv", "scim"] {
            let folder = Folder::new();
            let inner = folder.file("e");
            write_estate(&model, &inner, Layout::default()).expect("the estate");
            // Nothing is over yet then.
            goes_round(&Folder::copy_of(&inner), format, "2020-01-01T00:00:00Z");
        }
    }
}

#[test]
fn cells_that_a_spreadsheet_would_run_are_harmless() {
    let folder = Folder::estate().and(AWKWARD);
    let users = folder.run(&["export", "users"]);
    assert!(users.err.contains("attributes.nets holds lists: no column has it"), "{}", users.err);
    let mut table = csv::Reader::from_reader(users.out.as_bytes());
    for row in table.records() {
        for cell in &row.expect("a row") {
            assert!(!cell.starts_with(['=', '+', '-', '@', '\t', '\r']), "{cell}");
        }
    }
    assert!(users.out.contains("'=HYPERLINK"), "{}", users.out);
    for what in ["attachments", "policies", "reach", "applications"] {
        for format in ["csv", "json"] {
            let run = Folder::demo().run(&["export", what, "--format", format, "--at-time", AT]);
            assert_eq!(run.code, Some(0), "{what} {format}: {}", run.err);
            assert!(run.out.lines().count() > 3, "{what} {format}: {}", run.out);
        }
        let run = folder.run(&["export", what, "--format", "scim"]);
        assert!(run.code == Some(2) && run.err.contains("users and groups alone"), "{}", run.err);
    }
    let reach = Folder::demo().run(&["export", "reach", "--who", "user:sol", "--at-time", AT]);
    let direct = Folder::demo().run(&["reach", "user:sol", "--format", "csv", "--at-time", AT]);
    assert_eq!(reach.out, direct.out);
}
