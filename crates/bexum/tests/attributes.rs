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

/// An estate with two actions for every condition on things of every kind: one allowed `when` the condition
/// holds, one `when` it does not.
fn asking<'c>(conditions: impl Iterator<Item = &'c str> + Clone) -> Folder {
    let names = (0..conditions.clone().count()).flat_map(|i| [format!("is{i}"), format!("not{i}")]);
    let verbs = format!("observe = {:?}\n", names.collect::<Vec<_>>());
    let mut estate = ESTATE.to_owned();
    for kind in
        ["account", "subscription", "user", "group", "role", "store", "namespace", "file", "sheet"]
    {
        let table = format!("[kind.{kind}]\n");
        match estate.contains(&table) {
            true => estate = estate.replace(&table, &format!("{table}{verbs}")),
            false => estate += &format!("{table}{verbs}"),
        }
    }
    for (i, condition) in conditions.enumerate() {
        estate += &format!(
            "[[policy.p{i}.allow]]\ndo = \"*.is{i}\"\nwhen = \"{condition}\"\n\
             [[policy.p{i}.allow]]\ndo = \"*.not{i}\"\nwhen = \"not ({condition})\"\n\
             [[attach]]\npolicy = \"p{i}\"\nto = \"everyone\"\nat = \"v\"\n"
        );
    }
    Folder::new().with("bexum.toml", estate)
}

/// The answers to requests of which each asks for a verb on a kind, one after the other.
fn answers(
    folder: &Folder,
    requests: impl Iterator<Item = (Value, String)>,
    how: &[&str],
) -> Vec<Value> {
    let mut input = String::new();
    for (mut request, verb) in requests {
        let kind = request["kind"].as_str().expect("a kind").to_owned();
        request.as_object_mut().expect("a table").remove("kind");
        request["does"] = json!(format!("{kind}.{verb}"));
        input += &format!("{request}\n");
    }
    let run = folder.run_with(&[&["replay", "--at-time", NOW], how].concat(), &input);
    assert_eq!(run.code, Some(0), "{}", run.err);
    run.out.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect()
}

/// Asks two questions of every row, since one answer alone does not tell false from undecided.
fn check(rows: &[(&str, Value, Comes)]) {
    let folder = asking(rows.iter().map(|(condition, ..)| *condition));
    for how in [&[][..], &["--why"]] {
        let requests = rows.iter().enumerate().flat_map(|(i, (_, request, _))| {
            ["is", "not"].map(|verb| (request.clone(), format!("{verb}{i}")))
        });
        let granted: Vec<bool> = answers(&folder, requests, how)
            .iter()
            .map(|answer| {
                let reason = answer["reason"].as_str().unwrap_or_else(|| panic!("{answer}"));
                assert!(["granted", "not-granted"].contains(&reason), "{answer}");
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

/// What an explanation says of an attribute, wherever in it that stands.
fn seen(answer: &Value, attribute: &str) -> Option<Value> {
    match answer {
        Value::Object(table) if table.get("attribute") == Some(&json!(attribute)) => {
            Some(answer.clone())
        }
        Value::Object(table) => table.values().find_map(|part| seen(part, attribute)),
        Value::Array(list) => list.iter().find_map(|part| seen(part, attribute)),
        _ => None,
    }
}

/// Checks what explanations say of attributes: what each is, and where that was found.
fn check_seen(rows: &[(&str, Value, Value, &str)]) {
    let conditions: Vec<String> = rows.iter().map(|(one, ..)| format!("{one} is set")).collect();
    let folder = asking(conditions.iter().map(String::as_str));
    for (i, (attribute, request, value, from)) in rows.iter().enumerate() {
        let text = |key: &str| request[key].as_str().expect("a text");
        let (who, does, on) = (text("who"), format!("{}.not{i}", text("kind")), text("on"));
        let item = request["item"].as_object().into_iter().flatten();
        let item: Vec<String> = item.map(|(key, value)| format!("--item={key}={value}")).collect();
        let given = request.get("given").cloned().unwrap_or_else(|| json!({}));
        let mut args = vec!["ask", who, &does, on, "--format", "json", "--given-from", "-"];
        args.extend(["--at-time", NOW]);
        args.extend(item.iter().map(String::as_str));
        let run = folder.run_with(&args, given.to_string());
        let answer: Value =
            serde_json::from_str(&run.out).unwrap_or_else(|_| panic!("{}", run.err));
        let seen = seen(&answer, attribute).unwrap_or_else(|| panic!("{attribute}: {answer}"));
        assert_eq!((&seen["value"], &seen["from"]), (value, &json!(from)), "{attribute} {request}");
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

#[test]
fn explanations_say_where_values_come_from() {
    let store = |who: &str| of(who, "store", "v/s/store");
    let at = |kind: &str, on: &str| of("user:sol", kind, on);
    check_seen(&[
        ("who.id", store("user:ines"), json!("user:ines"), "built-in"),
        ("who.groups", store("user:ines"), json!(["crew"]), "built-in"),
        ("who.roles", store("user:ines"), json!(["reducer", "second"]), "built-in"),
        ("who.manager", store("user:ines"), json!("user:tomas"), "built-in"),
        ("who.team", store("user:ines"), json!("imaging"), "user:ines"),
        ("who.dev.os", store("user:ines"), json!("b"), "user:ines"),
        ("who.team", store("resource:v/s/worker"), json!("blue"), "v/s"),
        ("who.tier", store("resource:v/s/worker"), json!("top"), "v"),
        ("target.kind", at("file", "v/s/store/x"), json!("file"), "built-in"),
        ("target.team", at("store", "v/s/store"), json!("red"), "v/s/store"),
        ("target.team", at("namespace", "v/s/space"), json!("blue"), "v/s"),
        ("target.tier", at("file", "v/s/store/x"), json!("top"), "v"),
        ("target.team", at("user", "v/s/ines"), json!("imaging"), "user:ines"),
        ("target.team", at("group", "v/s/crew"), json!("blue"), "v/s"),
        (
            "target.mark",
            with(at("file", "v/s/store/x"), "item", json!({ "mark": "m" })),
            json!("m"),
            "item",
        ),
        (
            "target.members",
            at("group", "v/s/crew"),
            json!(["user:ines", "resource:v/s/worker", "group:inner"]),
            "built-in",
        ),
        ("target.owners", at("group", "v/s/crew"), json!(["user:tomas"]), "built-in"),
        ("target.join", at("group", "v/s/bare"), json!("closed"), "built-in"),
        ("target.manager", at("user", "v/s/ines"), json!("user:tomas"), "built-in"),
        (
            "given.ticket",
            with(store("user:sol"), "given", json!({ "ticket": 7 })),
            json!(7),
            "request",
        ),
        ("given.time", store("user:sol"), json!("2026-03-15T00:00:00Z"), "request"),
    ]);
}

/// Of an item, `target.kind` is the kind in the action: what is worked out for all actions of a place at
/// once has to keep the kinds apart, too.
#[test]
fn reach_tells_the_kinds_of_items_apart() {
    let folder = Folder::new().with(
        "bexum.toml",
        "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['file', 'sheet', 'note']\n\
         [kind.file]\nobserve = ['read', 'count']\n[kind.sheet]\nobserve = ['read']\n[kind.note]\nobserve = ['read']\n\
         [account.w]\n[resource.'w/s']\nkind = 'store'\n[user.a]\n[user.b]\n[user.c]\n\
         [[policy.files.allow]]\ndo = '*'\nwhen = \"target.kind = 'file'\"\n\
         [[attach]]\npolicy = 'files'\nto = ['user:a', 'user:c']\nat = 'w'\n\
         [[policy.no-sheets.allow]]\ndo = '*'\n\
         [[policy.no-sheets.deny]]\ndo = '*'\nwhen = \"target.kind = 'sheet'\"\n\
         [[attach]]\npolicy = 'no-sheets'\nto = 'user:b'\nat = 'w'\n\
         [[policy.counted.deny]]\ndo = 'file.count'\nwhen = \"target.kind = 'file'\"\n\
         [[attach]]\npolicy = 'counted'\nto = 'user:c'\nat = 'w'\n",
    );
    for (who, expected) in [
        ("user:a", &["w/s/**,file.count", "w/s/**,file.read"][..]),
        (
            "user:b",
            &["w/s,store.list", "w/s/**,file.count", "w/s/**,file.read", "w/s/**,note.read"],
        ),
        ("user:c", &["w/s/**,file.read"]),
    ] {
        let csv = folder.run(&["reach", who, "--format", "csv"]).out;
        let mut rows: Vec<String> = csv.lines().skip(1).map(str::to_owned).collect();
        rows.sort();
        let expected: Vec<String> =
            expected.iter().map(|row| format!("{who},,{row},allow")).collect();
        assert_eq!(rows, expected);
    }
}

/// A star in an attribute is a star, and stands for nothing else: of items that no pattern names nothing is
/// said for it.
#[test]
fn a_star_in_an_attribute_matches_a_star_alone() {
    let folder = Folder::new().with(
        "bexum.toml",
        "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nitems = ['file']\n[kind.file]\nobserve = ['read']\n\
         [account.w]\n[resource.'w/s']\nkind = 'store'\n\
         [user.u]\nattributes = { team = '*', home = 'red' }\n\
         [[policy.p.allow]]\ndo = '*'\non = ['{who.team}/**', '{who.team}', '{who.home}/**']\n\
         [[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w/s'\n",
    );
    let csv = folder.run(&["reach", "user:u", "--format", "csv"]).out;
    let rows: Vec<&str> = csv.lines().skip(1).collect();
    assert_eq!(rows, ["user:u,,w/s/red/**,file.read,allow"], "{csv}");
    for (path, code) in [("w/s/x", 1), ("w/s/x/y", 1), ("w/s/red/x", 0), ("w/s/*", 2)] {
        assert_eq!(folder.run(&["ask", "user:u", "file.read", path]).code, Some(code), "{path}");
    }
}
