//! What each attribute comes to, and where its value is said to come from: one small policy for each
//! row, the answers reasoned by hand (spec section 4, "Attributes").

use serde_json::{Value, json};

use crate::support::Folder;

const ESTATE: &str = r#"[estate]
name = "Attributes"
format = 1

[kind.store]
items = ["file", "sheet"]
[kind.namespace]
items = ["file"]

[account.v]
attributes = { tier = "top" }
[subscription."v/s"]
attributes = { team = "blue" }
[resource."v/s/store"]
kind = "store"
attributes = { team = "red", dev = { os = "a" } }
[namespace."v/s/space"]
[resource."v/s/worker"]
kind = "store"

[user.ines]
place = "v/s"
manager = "user:tomas"
attributes = { team = "imaging", dev = { os = "b" } }
[user.tomas]
place = "v"
[user.sol]
[group.crew]
place = "v/s"
members = ["user:ines", "resource:v/s/worker", "group:inner",
           { who = "user:sol", from = 2026-04-01T00:00:00Z }]
owners = ["user:tomas"]
join = "open"
[group.inner]
place = "v"
[group.bare]
place = "v/s"
attributes = { team = "transit" }
[role.reducer]
place = "v/s"
held-by = "group:crew"
[role.second]
held-by = "role:reducer"
taken-by = "user:sol"
"#;

const NOW: &str = "2026-03-15T00:00:00Z";

/// What a condition comes to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Comes {
    True,
    False,
    Undecided,
}
use Comes::{False, True, Undecided};

/// Asks two questions of every row, since an answer alone does not tell false from undecided: an allow
/// `when` the condition holds and an allow `when` it does not.
fn check(rows: &[(&str, Value, Comes)]) {
    let mut estate = ESTATE.to_owned();
    let kinds =
        ["account", "subscription", "user", "group", "role", "store", "namespace", "file", "sheet"];
    for kind in kinds {
        if !estate.contains(&format!("[kind.{kind}]\n")) {
            estate += &format!("[kind.{kind}]\n");
        }
        let verbs: Vec<String> =
            (0..rows.len()).flat_map(|i| [format!("\"is{i}\""), format!("\"not{i}\"")]).collect();
        let verbs = format!("[kind.{kind}]\nobserve = [{}]\n", verbs.join(", "));
        estate = estate.replace(&format!("[kind.{kind}]\n"), &verbs);
    }
    for (i, (condition, ..)) in rows.iter().enumerate() {
        estate += &format!(
            "[[policy.p{i}.allow]]\ndo = \"*.is{i}\"\nwhen = \"{condition}\"\n\
             [[policy.p{i}.allow]]\ndo = \"*.not{i}\"\nwhen = \"not ({condition})\"\n\
             [[attach]]\npolicy = \"p{i}\"\nto = \"everyone\"\nat = \"v\"\n"
        );
    }
    let folder = Folder::new().with("bexum.toml", estate);
    let questions: Vec<Value> = rows
        .iter()
        .enumerate()
        .flat_map(|(i, (_, request, _))| {
            ["is", "not"].map(|verb| {
                let mut request = request.clone();
                let kind = request["kind"].take();
                request.as_object_mut().expect("a table").remove("kind");
                request["does"] = json!(format!("{}.{verb}{i}", kind.as_str().expect("a kind")));
                request
            })
        })
        .collect();
    let input: String = questions.iter().map(|one| format!("{one}\n")).collect();
    for how in [&["replay", "--at-time", NOW][..], &["replay", "--at-time", NOW, "--why"]] {
        let run = folder.run_with(how, &input);
        assert_eq!(run.code, Some(0), "{}", run.err);
        let granted: Vec<bool> = run
            .out
            .lines()
            .map(|line| {
                let answer: Value = serde_json::from_str(line).expect("JSON");
                let reason = answer["reason"].as_str().unwrap_or_else(|| panic!("{line}"));
                assert!(["granted", "not-granted"].contains(&reason), "{line}");
                reason == "granted"
            })
            .collect();
        for ((condition, request, expected), got) in rows.iter().zip(granted.chunks(2)) {
            let got = match got {
                [true, false] => True,
                [false, true] => False,
                [false, false] => Undecided,
                other => panic!("{condition} is true and false: {other:?}"),
            };
            assert_eq!(got, *expected, "{condition} for {request}, {how:?}");
        }
    }
}

fn of(who: &str, kind: &str, on: &str) -> Value {
    json!({ "who": who, "kind": kind, "on": on })
}

fn with(mut request: Value, field: &str, value: Value) -> Value {
    request[field] = value;
    request
}

#[test]
fn of_who_asks() {
    let store = |who: &str| of(who, "store", "v/s/store");
    let as_second = || with(store("user:sol"), "as", json!("role:second"));
    check(&[
        ("who.id = 'user:ines'", store("user:ines"), True),
        ("who.id = 'ines'", store("user:ines"), False),
        ("who.id = 'group:crew'", store("group:crew"), True),
        ("who.type = 'user'", store("user:ines"), True),
        ("who.type = 'group'", store("group:crew"), True),
        ("who.type = 'role'", store("role:reducer"), True),
        ("who.type = 'resource'", store("resource:v/s/worker"), True),
        ("who.name = 'ines'", store("user:ines"), True),
        ("who.name = 'v/s/worker'", store("resource:v/s/worker"), True),
        ("who.name = 'reducer'", store("role:reducer"), True),
        ("'crew' in who.groups", store("user:ines"), True),
        ("'crew' in who.groups", store("user:sol"), False),
        ("'crew' in who.groups", store("group:inner"), True),
        ("'crew' in who.groups", store("resource:v/s/worker"), True),
        ("'bare' in who.groups", with(store("user:sol"), "also", json!("group:bare")), True),
        ("'reducer' in who.roles", store("user:ines"), True),
        ("'second' in who.roles", store("user:ines"), True),
        ("'second' in who.roles", store("user:sol"), False),
        ("'second' in who.roles", as_second(), True),
        ("'reducer' in who.roles", as_second(), False),
        ("who.groups is set", store("user:tomas"), True),
        ("who.roles overlaps ['x', 'y']", store("user:tomas"), False),
        ("who.manager = 'user:tomas'", store("user:ines"), True),
        ("who.manager = 'user:tomas'", store("user:sol"), False),
        ("who.manager is set", store("user:sol"), False),
        ("who.manager != 'user:tomas'", store("user:sol"), Undecided),
        ("who.manager is set", store("group:crew"), Undecided),
        // A user has what its table says, and nothing of its place.
        ("who.team = 'imaging'", store("user:ines"), True),
        ("who.team is set", store("user:tomas"), False),
        ("who.dev.os = 'b'", store("user:ines"), True),
        ("who.dev is set", store("user:ines"), True),
        ("who.dev is set", store("user:sol"), False),
        // A workload has what its scope bears, or one above it.
        ("who.team = 'blue'", store("resource:v/s/worker"), True),
        ("who.team is set", store("resource:v/s/worker"), True),
        ("who.dev is set", store("resource:v/s/worker"), False),
        // Of those who are in a group or role and nothing else, nobody knows more.
        ("who.team = 'transit'", store("group:bare"), Undecided),
        ("who.team is set", store("group:bare"), Undecided),
        ("who.dev is set", store("role:reducer"), Undecided),
        ("who.team is set", store("role:reducer"), Undecided),
    ]);
}

#[test]
fn of_a_scope_and_its_items() {
    let at = |kind: &str, on: &str| of("user:sol", kind, on);
    let file = || at("file", "v/s/store/x/y");
    let with_item = |item: Value| with(file(), "item", item);
    check(&[
        ("target.path = 'v/s/store'", at("store", "v/s/store"), True),
        ("target.path = 'v/s/store/x/y'", file(), True),
        ("target.name = 'store'", at("store", "v/s/store"), True),
        ("target.name = 'y'", file(), True),
        ("target.name = 'v'", at("account", "v"), True),
        ("target.account = 'v'", file(), True),
        ("target.account = 'v'", at("account", "v"), True),
        ("target.kind = 'account'", at("account", "v"), True),
        ("target.kind = 'subscription'", at("subscription", "v/s"), True),
        ("target.kind = 'store'", at("store", "v/s/store"), True),
        ("target.kind = 'namespace'", at("namespace", "v/s/space"), True),
        // That of an item is the kind in the action.
        ("target.kind = 'file'", file(), True),
        ("target.kind = 'sheet'", at("sheet", "v/s/store/x/y"), True),
        ("target.kind = 'store'", file(), False),
        // The nearest wins.
        ("target.team = 'red'", at("store", "v/s/store"), True),
        ("target.team = 'red'", file(), True),
        ("target.team = 'blue'", at("namespace", "v/s/space"), True),
        ("target.tier = 'top'", file(), True),
        ("target.team is set", at("account", "v"), False),
        ("target.dev.os = 'a'", file(), True),
        ("target.dev is set", file(), True),
        ("target.dev is set", at("subscription", "v/s"), False),
        // What no scope bears, an item may; without a word of it, nothing is there.
        ("target.mark = 'm'", with_item(json!({ "mark": "m" })), True),
        ("target.mark is set", with_item(json!({ "mark": "m" })), True),
        ("target.mark is set", with_item(json!({ "other": 1 })), False),
        ("target.mark is set", file(), False),
        ("target.team = 'red'", with_item(json!({ "team": "other" })), True),
        ("target.owners is set", at("store", "v/s/store"), False),
        ("target.members is set", at("store", "v/s/store"), False),
        ("target.join is set", at("store", "v/s/store"), False),
        ("target.manager is set", at("store", "v/s/store"), False),
    ]);
}

#[test]
fn of_identities() {
    let at = |kind: &str, on: &str| of("user:sol", kind, on);
    let then = |request: Value| with(request, "given", json!({ "time": "2026-04-02T00:00:00Z" }));
    let crew = || at("group", "v/s/crew");
    check(&[
        ("target.path = 'v/s/ines'", at("user", "v/s/ines"), True),
        ("target.name = 'ines'", at("user", "v/s/ines"), True),
        ("target.account = 'v'", at("user", "v/s/ines"), True),
        ("target.kind = 'user'", at("user", "v/s/ines"), True),
        ("target.kind = 'group'", crew(), True),
        ("target.kind = 'role'", at("role", "v/s/reducer"), True),
        // Their own attributes, then those of their places and above.
        ("target.team = 'imaging'", at("user", "v/s/ines"), True),
        ("target.team = 'transit'", at("group", "v/s/bare"), True),
        ("target.team = 'blue'", crew(), True),
        ("target.tier = 'top'", at("user", "v/s/ines"), True),
        ("target.team is set", at("user", "v/tomas"), False),
        ("target.dev.os = 'b'", at("user", "v/s/ines"), True),
        ("target.dev is set", at("user", "v/s/ines"), True),
        ("target.dev is set", at("user", "v/tomas"), False),
        ("target.manager = 'user:tomas'", at("user", "v/s/ines"), True),
        ("target.manager is set", at("user", "v/s/ines"), True),
        ("target.manager is set", at("user", "v/tomas"), False),
        ("target.manager is set", crew(), False),
        // As they are written, inside their windows.
        ("target.members overlaps ['user:ines']", crew(), True),
        ("target.members overlaps ['group:inner']", crew(), True),
        ("target.members overlaps ['resource:v/s/worker']", crew(), True),
        ("target.members overlaps ['user:sol']", crew(), False),
        ("'user:sol' in target.members", then(crew()), True),
        ("target.members is set", at("group", "v/s/bare"), False),
        ("target.members is set", at("user", "v/s/ines"), False),
        ("'user:tomas' in target.owners", crew(), True),
        ("'user:ines' in target.owners", crew(), False),
        ("target.owners is set", at("group", "v/s/bare"), False),
        ("target.owners is set", at("user", "v/s/ines"), False),
        ("target.join = 'open'", crew(), True),
        ("target.join = 'closed'", at("group", "v/s/bare"), True),
        ("target.join is set", at("role", "v/s/reducer"), False),
    ]);
}

#[test]
fn of_the_circumstances() {
    let store = || of("user:sol", "store", "v/s/store");
    let given = |given: Value| with(store(), "given", given);
    check(&[
        ("given.time = '2026-03-15T00:00:00Z'", store(), True),
        ("given.time < '2026-03-15T00:00:00Z'", store(), False),
        ("given.time is set", store(), True),
        ("given.ticket = 'x'", given(json!({ "ticket": "x" })), True),
        ("given.ticket = 'x'", given(json!({ "ticket": null })), False),
        ("given.ticket = 'x'", store(), Undecided),
        ("given.ticket is set", given(json!({ "ticket": "x" })), True),
        ("given.ticket is set", given(json!({ "ticket": null })), False),
        ("given.ticket is set", store(), Undecided),
        // Of a table, a part may be known.
        ("given.dev is set", given(json!({ "dev": { "os": "a" } })), True),
        ("given.dev.os is set", given(json!({ "dev": { "kind": "x" } })), Undecided),
        ("given.dev.os is set", given(json!({ "dev": null })), False),
        ("given.dev.os = 'a'", given(json!({ "dev": { "os": "a" } })), True),
        ("given.mfa", given(json!({ "mfa": true })), True),
        ("given.mfa", given(json!({ "mfa": false })), False),
        ("given.mfa", given(json!({ "mfa": "yes" })), Undecided),
        ("given.mfa", given(json!({ "mfa": null })), False),
        ("given.tags overlaps ['b']", given(json!({ "tags": ["a", "b"] })), True),
        ("given.tags overlaps ['b']", given(json!({ "tags": [] })), False),
    ]);
}
