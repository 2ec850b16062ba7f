//! Corners of the rules, one question each: an estate made for them, the answers reasoned by hand.

use serde_json::{Value, json};

use crate::support::Folder;

const CORNERS: &str = r#"[estate]
name = "Corners"
format = 1

[kind.store]
observe = ["list", "survey"]
alter = ["create"]
account-wide = ["survey"]
on-parent = ["create"]
items = ["file"]
[kind.file]
observe = ["read"]
[kind.shelf]
observe = ["look"]
holds = ["store"]
[kind.user]
observe = ["view"]
[kind.group]
observe = ["view"]

[account.v]
attributes = { tier = "top", dev = { os = "a" } }
[subscription."v/s"]
[resource."v/s/store"]
kind = "store"
attributes = { tier = "raw", dev = "flat" }
[resource."v/s/shelf"]
kind = "shelf"
[namespace."v/s/sealed"]
kind = "store"
sealed = true
[namespace."v/s/sealed/inner"]
kind = "store"

[user.a]
place = "v/s"
attributes = { team = "red" }
[user.b]
[group.g]
members = [{ who = "user:a", from = 2026-03-01T00:00:00Z, until = 2026-04-01T00:00:00Z }, "user:b"]
place = "v/s"
[group.h]
[role.r]
taken-by = "user:a"
[role.above]
held-by = "role:r"
[role.own]
held-by = ["user:a", "group:h"]
taken-by = "role:above"

[policy.read]
[[policy.read.allow]]
do = "file.read"
[policy.if-own]
[[policy.if-own.allow]]
do = "file.read"
when = "'own' in who.roles"
[policy.deny-if-own]
[[policy.deny-if-own.deny]]
do = "store.list"
when = "'own' in who.roles and 'above' in who.roles"
[policy.list]
[[policy.list.allow]]
do = "store.list"
[policy.wide]
[[policy.wide.allow]]
do = ["store.survey", "store.create"]
[policy.no-wide]
[[policy.no-wide.deny]]
do = ["store.survey", "store.create"]
[policy.only-this]
[[policy.only-this.deny]]
do = "file.read"
on = "."
[policy.none]
[[policy.none.deny]]
do = "file.read"
on = "**/shut/**"
[policy.session]
[[policy.session.allow]]
do = "*"
on = "v/s/store/**"
[policy.differ]
[[policy.differ.deny]]
do = "file.read"
when = "who.nothing != 'x'"
[policy.of-item]
[[policy.of-item.allow]]
do = "file.read"
when = "target.tier = 'raw' and target.mark = 'm'"
[policy.team]
[[policy.team.allow]]
do = "file.read"
when = "who.team = 'red' or given.yes"
[policy.me]
[[policy.me.allow]]
do = ["user.view"]
on = "{who.name}"
[policy.heads]
[[policy.heads.allow]]
do = "file.read"
when = "target.dev = 'flat' and target.dev.os = 'a' and target.dev is set and given.dev.os is not set"

[[attach]]
policy = "if-own"
to = "role:r"
at = "v/s/store"
[[attach]]
policy = ["list"]
to = ["role:r", "group:g", "role:own"]
at = "v/s/store"
[[attach]]
policy = "deny-if-own"
to = "role:r"
at = "v"
[[attach]]
policy = "wide"
to = "user:b"
at = "v"
[[attach]]
policy = "no-wide"
to = "user:b"
at = "v/s/store"
[[attach]]
policy = "read"
to = "user:b"
at = ["v/s/sealed", "v"]
[[attach]]
policy = "only-this"
to = "user:b"
at = "v/s/sealed/inner"
[[attach]]
policy = "none"
to = "user:b"
at = "v"
[[attach]]
policy = "of-item"
to = "user:a"
at = "v"
[[attach]]
policy = "me"
to = "everyone"
at = "v/s"
[[attach]]
policy = "list"
to = "user:b"
at = "v"
until = 2026-03-01T00:00:00Z
"#;

/// Asks four ways, which must agree: a line of `replay`, one with `--why`, a question to `ask`, and
/// the effective access of whoever asks.
pub(crate) fn check(more: &str, cases: &[(Value, &str)]) {
    let folder = Folder::new().with("bexum.toml", format!("{CORNERS}\n{more}"));
    let input: String = cases.iter().map(|(request, _)| format!("{request}\n")).collect();
    let replay = |more: &[&str]| -> Vec<String> {
        let mut args = vec!["replay", "--at-time", NOW];
        args.extend(more);
        let run = folder.run_with(&args, &input);
        assert_eq!(run.code, Some(0), "{}", run.err);
        let lines = run.out.lines().map(|line| serde_json::from_str::<Value>(line).expect("JSON"));
        lines.map(|line| line["reason"].as_str().unwrap_or("error").to_owned()).collect()
    };
    for ways in [replay(&[]), replay(&["--why"])] {
        for ((request, expected), got) in cases.iter().zip(ways) {
            assert_eq!(got, *expected, "{request}");
        }
    }
    for (request, expected) in cases {
        let (mut args, given) = typed(request);
        let run = folder.run_with(&args, &given);
        let answer: Value = serde_json::from_str(&run.out).unwrap_or_default();
        let got = answer["reason"].as_str().unwrap_or("error");
        assert_eq!(got, *expected, "{args:?}: {}", run.err);
        if *expected == "error" || args.contains(&"--item".to_owned()) {
            continue;
        }
        // `reach` takes the same circumstances; it is asked about the very path.
        let (who, does, on) = (args.remove(1), args.remove(1), args.remove(1));
        args[0] = "reach".to_owned();
        args.extend(["--at".to_owned(), on.clone()]);
        let run = folder.run_with(&args, &given);
        let shape: Value = serde_json::from_str(&run.out).unwrap_or_else(|_| panic!("{}", run.err));
        let rows = shape["rows"].as_array().expect("rows");
        let row = rows.iter().find(|row| {
            row["path"] == on.as_str()
                && row["principals"].as_array().is_some_and(|all| all.contains(&json!(who)))
        });
        // Groups and roles act only through others and are not listed there.
        let Some(row) = row else { continue };
        let allowed = row["cells"][0]["allow"].as_array().expect("a list").contains(&json!(does));
        assert_eq!(allowed, *expected == "granted", "{args:?}: {row}");
    }
}

const NOW: &str = "2026-03-15T00:00:00Z";

/// A request as one types it, and its given for standard input.
fn typed(request: &Value) -> (Vec<String>, String) {
    let text = |key: &str| request[key].as_str().unwrap_or_default().to_owned();
    let mut args = vec!["ask".to_owned(), text("who"), text("does"), text("on")];
    for (option, key) in [("--as", "as"), ("--also", "also"), ("--under", "under")] {
        let given: Vec<String> = match &request[key] {
            Value::String(one) => vec![one.clone()],
            Value::Array(all) => all.iter().filter_map(|v| v.as_str().map(str::to_owned)).collect(),
            _ => Vec::new(),
        };
        args.extend(given.into_iter().flat_map(|value| [option.to_owned(), value]));
    }
    for (key, value) in request["item"].as_object().into_iter().flatten() {
        args.extend(["--item".to_owned(), format!("{key}={value}")]);
    }
    if request["item"].as_object().is_some_and(serde_json::Map::is_empty) {
        args.extend(["--item".to_owned(), "some=thing".to_owned()]);
    }
    let given = request.get("given").cloned().unwrap_or_else(|| json!({}));
    if given.get("time").is_none() {
        args.extend(["--at-time".to_owned(), NOW.to_owned()]);
    }
    args.extend(["--given-from", "-", "--format", "json"].map(str::to_owned));
    (args, given.to_string())
}

pub(crate) fn q(who: &str, does: &str, on: &str) -> Value {
    json!({ "who": who, "does": does, "on": on })
}

pub(crate) fn with(mut request: Value, field: &str, value: Value) -> Value {
    request[field] = value;
    request
}

#[test]
fn roles_taken_up() {
    let read = || q("user:a", "file.read", "v/s/store/x");
    let list = || q("user:a", "store.list", "v/s/store");
    check(
        "",
        &[
            // In the role, allows see the roles of the role alone: `own` is not among them.
            (with(read(), "as", json!("role:r")), "not-granted"),
            // Denies see the active roles and those taken up together.
            (with(list(), "as", json!("role:r")), "denied"),
            // A role that is held already can be taken up; then only it grants.
            (with(list(), "as", json!("role:own")), "granted"),
            (list(), "granted"),
            // `above` is brought by `r`, but nobody may take it up by itself.
            (with(list(), "as", json!("role:above")), "role-refused"),
            (with(q("user:b", "store.list", "v/s/store"), "as", json!("role:r")), "role-refused"),
            // Supposed groups bring their roles along.
            (
                with(
                    with(q("user:b", "store.list", "v/s/store"), "also", json!("group:h")),
                    "as",
                    json!("role:own"),
                ),
                "granted",
            ),
            // A role asks for somebody who holds it and nothing else.
            (q("role:r", "store.list", "v/s/store"), "granted"),
            (with(q("role:r", "store.list", "v/s/store"), "as", json!("role:own")), "denied"),
        ],
    );
    let ceiling = "[[ceiling]]\npolicy = 'none'\n[policy.nothing]\n[[policy.nothing.deny]]\ndo = '*'\n[[ceiling]]\npolicy = 'nothing'\nfor = 'role:above'\n[[policy.plain.allow]]\ndo = 'store.list'\n[[attach]]\npolicy = 'plain'\nto = 'role:r'\nat = 'v/s/shelf'\n[[policy.look.allow]]\ndo = 'shelf.look'\n[[attach]]\npolicy = 'look'\nto = ['role:r', 'user:a']\nat = 'v/s/shelf'\n";
    check(
        ceiling,
        &[
            (q("user:a", "shelf.look", "v/s/shelf"), "granted"),
            // A ceiling for a role that the role taken up brings.
            (with(q("user:a", "shelf.look", "v/s/shelf"), "as", json!("role:r")), "over-ceiling"),
        ],
    );
}

#[test]
fn where_an_action_is_judged() {
    check(
        "",
        &[
            (q("user:b", "store.survey", "v"), "granted"),
            (q("user:b", "store.survey", "v/s/store"), "error"),
            (q("user:b", "store.create", "v"), "granted"),
            (q("user:b", "store.create", "v/s"), "granted"),
            (q("user:b", "store.create", "v/s/shelf"), "granted"),
            // A store holds files, not stores.
            (q("user:b", "store.create", "v/s/store"), "error"),
            (q("user:b", "file.read", "v/s"), "error"),
            (q("user:b", "file.read", "v/s/store"), "error"),
            (q("user:b", "file.read", "v/s/shelf/x"), "error"),
            (q("user:b", "store.list", "nowhere"), "error"),
        ],
    );
}

#[test]
fn seals_and_depth() {
    check(
        "",
        &[
            // Attached at the sealed scope itself: not shut out.
            (q("user:b", "file.read", "v/s/sealed/x"), "granted"),
            // A deny on the scope itself leaves what is below it open.
            (q("user:b", "file.read", "v/s/sealed/inner/x"), "granted"),
            (q("user:b", "file.read", "v/s/store/x"), "granted"),
            // Denies pass seals.
            (q("user:b", "file.read", "v/s/sealed/shut/x"), "denied"),
        ],
    );
    check(
        "[[attach]]\npolicy = 'read'\nto = 'user:a'\nat = 'v/s'\n",
        &[
            (q("user:a", "file.read", "v/s/sealed/x"), "not-granted"),
            (q("user:a", "file.read", "v/s/store/x"), "granted"),
        ],
    );
}

#[test]
fn somebody_in_a_great_many_groups() {
    // In all of forty but two.
    let group = |i: usize| {
        let members = if i == 7 || i == 31 { "[]" } else { "'user:m'" };
        format!("[group.n{i:02}]\nmembers = {members}\n")
    };
    let groups: String = (0..40).map(group).collect();
    let more = format!(
        "[user.m]\n{groups}\
         [[attach]]\npolicy = 'read'\nto = ['group:n00', 'group:n31']\nat = 'v/s/store'\n\
         [[attach]]\npolicy = 'read'\nto = 'group:n39'\nat = 'v/s/sealed/inner'\n\
         [[attach]]\npolicy = 'read'\nto = ['group:n07', 'group:n31']\nat = 'v/s/sealed'\n\
         [[attach]]\npolicy = 'list'\nto = 'user:m'\nat = 'v/s/store'\n"
    );
    let cases = |inner| {
        [
            (q("user:m", "file.read", "v/s/store/x"), "granted"),
            (q("user:m", "file.read", "v/s/sealed/inner/x"), inner),
            (q("user:m", "file.read", "v/s/sealed/x"), "not-granted"),
            (q("user:m", "store.list", "v/s/store"), "granted"),
        ]
    };
    check(&more, &cases("granted"));
    let ceiling = "[[ceiling]]\npolicy = 'nowhere'\nfor = 'group:n38'\n[policy.nowhere]\n[[policy.nowhere.deny]]\ndo = 'file.read'\non = '/v/s/sealed/**'\n";
    check(&format!("{more}{ceiling}"), &cases("over-ceiling"));
    let of_others = ceiling.replace("n38", "n31");
    check(&format!("{more}{of_others}"), &cases("granted"));
}

#[test]
fn windows_are_closed_at_their_end() {
    let list =
        |at: &str| with(q("user:a", "store.list", "v/s/store"), "given", json!({ "time": at }));
    let without_own = "[policy.no-own]\n[[policy.no-own.deny]]\ndo = 'store.list'\nwhen = \"not ('g' in who.groups)\"\n[[attach]]\npolicy = 'no-own'\nto = 'user:a'\nat = 'v'\n";
    check(
        without_own,
        &[
            (list("2026-02-28T23:59:59.999999Z"), "denied"),
            (list("2026-03-01T00:00:00Z"), "granted"),
            (list("2026-03-31T23:59:59.999999Z"), "granted"),
            (list("2026-04-01T00:00:00Z"), "denied"),
            (list("2026-03-31T20:00:00-04:00"), "denied"),
        ],
    );
}

#[test]
fn attributes_and_doubt() {
    let read = || q("user:a", "file.read", "v/s/store/x");
    check(
        "",
        &[
            (read(), "not-granted"),
            (with(read(), "item", json!({ "mark": "m" })), "granted"),
            // The estate's word stands above the request's.
            (with(read(), "item", json!({ "mark": "m", "tier": "other" })), "granted"),
            (with(q("user:a", "store.list", "v/s/store"), "item", json!({})), "error"),
            (with(read(), "item", json!({ "path": "x" })), "error"),
        ],
    );
    // Nobody can say that an absent attribute differs: the deny is undecided, and refuses.
    check(
        "[[attach]]\npolicy = ['differ', 'read']\nto = 'user:a'\nat = 'v'\n",
        &[(read(), "denied")],
    );
    let team = "[[attach]]\npolicy = 'team'\nto = ['user:a', 'group:g', 'user:b']\nat = 'v'\n[policy.also]\n";
    check(
        team,
        &[
            (read(), "granted"),
            // A group's members have no team in common that anybody knows of.
            (q("group:g", "file.read", "v/s/store/x"), "not-granted"),
            (
                with(q("group:g", "file.read", "v/s/store/x"), "given", json!({ "yes": true })),
                "granted",
            ),
        ],
    );
    let heads = "[[attach]]\npolicy = 'heads'\nto = 'user:a'\nat = 'v'\n";
    check(
        heads,
        &[
            (read(), "not-granted"),
            (with(read(), "given", json!({ "dev": null })), "granted"),
            (with(read(), "given", json!({ "dev": { "os": null } })), "granted"),
            (with(read(), "given", json!({ "dev": { "kind": "x" } })), "not-granted"),
        ],
    );
}

#[test]
fn identities_are_targets() {
    check(
        "",
        &[
            (q("user:a", "user.view", "v/s/a"), "granted"),
            (q("user:b", "user.view", "v/s/a"), "not-granted"),
            // The pattern `{who.name}` names a path of one segment, the group's too; but it allows
            // only to view users.
            (q("group:g", "group.view", "v/s/g"), "not-granted"),
            (q("user:a", "group.view", "v/s/a"), "error"),
            (q("user:a", "user.view", "v/s/a/x"), "error"),
        ],
    );
}

#[test]
fn ceilings_bound_each_by_itself() {
    let read = || q("user:b", "file.read", "v/s/store/x");
    check(
        "",
        &[
            (with(read(), "under", json!("session")), "granted"),
            // `under` starts at the root of all paths, so `v/s/store/**` is meant whole.
            (
                with(q("user:b", "file.read", "v/s/sealed/x"), "under", json!("session")),
                "over-ceiling",
            ),
            (with(read(), "under", json!(["session", "list"])), "over-ceiling"),
            // No allow statement at all: whatever is not denied passes.
            (with(read(), "under", json!("none")), "granted"),
            (with(q("user:b", "file.read", "v/s/store/shut"), "under", json!("none")), "denied"),
        ],
    );
    check("[policy.empty]\n", &[(with(read(), "under", json!("empty")), "error")]);
    let relative = "[policy.c]\n[[policy.c.allow]]\ndo = '*'\non = 'store/**'\n[[ceiling]]\npolicy = 'c'\nover = ['v/s']\n";
    check(
        relative,
        &[
            (read(), "granted"),
            (q("user:b", "file.read", "v/s/sealed/x"), "over-ceiling"),
            (q("user:b", "store.survey", "v"), "granted"),
        ],
    );
}

#[test]
fn paths_are_bounded_in_bytes() {
    let segment = "s".repeat(128);
    let mut declared = String::new();
    let mut path = "v/s".to_owned();
    while path.len() + 129 <= 4096 + 129 {
        path = format!("{path}/{segment}");
        declared.push_str(&format!("[resource.\"{path}\"]\nkind = \"store\"\n"));
    }
    assert!(path.len() > 4096);
    let above = path.rsplit_once('/').expect("a path").0;
    check(
        &declared,
        &[
            (q("user:a", "store.list", above), "not-granted"),
            (q("user:a", "store.list", &path), "error"),
            (q("user:a", "file.read", &format!("v/s/store/{}", "é".repeat(2040))), "not-granted"),
            (q("user:a", "file.read", &format!("v/s/store/{}", "é".repeat(2050))), "error"),
        ],
    );
}

#[test]
fn the_calendar_ends_with_the_year_9999_in_utc() {
    let window = |until: &str| {
        Folder::estate().and(&format!(
            "[[attach]]\npolicy = 'reader'\nto = 'user:tomas'\nat = 'v'\nuntil = {until}\n"
        ))
    };
    let at = |folder: &Folder, time: &str| {
        let ask = ["ask", "user:tomas", "store.list", "v/s/store", "--at-time", time];
        folder.run(&ask).code
    };
    // What people write for "never".
    let folder = window("9999-12-31T23:59:59Z");
    assert_eq!(at(&folder, "9999-12-31T23:59:58.999999Z"), Some(0));
    assert_eq!(at(&folder, "9999-12-31T23:59:59Z"), Some(1));
    assert_eq!(at(&folder, "9999-12-31T23:59:59.999999Z"), Some(1));
    assert_eq!(at(&folder, "9999-12-31T23:59:59-00:01"), Some(2));
    assert_eq!(at(&folder, "0001-01-01T00:00:00Z"), Some(0));
    assert_eq!(at(&folder, "0001-01-01T00:00:00+00:01"), Some(2));
    let outside = window("9999-12-31T23:59:59-00:01").run(&["show"]);
    assert_eq!(outside.code, Some(2));
    assert!(outside.err.contains("years 0001 to 9999"), "{}", outside.err);
}

/// What neither a scope nor anything above it bears is not set there, for certain; an item may bear it by
/// itself, which only the request can say (spec section 4).
#[test]
fn what_a_scope_does_not_bear_is_not_set() {
    let estate = |account: &str| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['file']\n[kind.file]\nobserve = ['read']\n[account.w]\nattributes = {{ {account} }}\n[resource.'w/s']\nkind = 'store'\n[user.u]\n[[policy.p.allow]]\ndo = '*'\n[[policy.p.deny]]\ndo = '*'\nwhen = 'target.mark is set'\n[[policy.q.allow]]\ndo = '*'\nwhen = 'target.mark is not set'\n[[attach]]\npolicy = 'POLICY'\nto = 'user:u'\nat = 'w'\n"
        )
    };
    for policy in ["p", "q"] {
        for (account, of_scope, of_item) in [
            ("", "allow", "depends"),
            ("mark = 'm'", "deny", "deny"),
            ("other = 'm'", "allow", "depends"),
        ] {
            let folder =
                Folder::new().with("bexum.toml", estate(account).replace("POLICY", policy));
            let code = |args: &[&str]| folder.run(&[&["ask", "user:u"], args].concat()).code;
            let is_denied = i32::from(of_scope == "deny");
            assert_eq!(code(&["store.list", "w/s"]), Some(is_denied), "{policy} {account}");
            // Of an item that is asked about, all is known that is said of it.
            assert_eq!(code(&["file.read", "w/s/x"]), Some(is_denied), "{policy} {account}");
            let marked = ["file.read", "w/s/x", "--item", "mark=m"];
            assert_eq!(code(&marked), Some(1), "{policy} {account}");
            let csv = folder.run(&["reach", "user:u", "--format", "csv"]).out;
            for (row, outcome) in [("w/s,store.list", of_scope), ("w/s/**,file.read", of_item)] {
                let is_there = csv.contains(&format!("user:u,,{row},{outcome}\n"));
                assert_eq!(is_there, outcome != "deny", "{policy} {account} {row}: {csv}");
                assert!(outcome != "deny" || !csv.contains(&format!(",{row},")), "{csv}");
            }
        }
    }
}

/// Somebody in more groups than most people are: each of them counts, and no other.
#[test]
fn each_of_very_many_groups_counts() {
    let mut estate = "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\n[account.w]\n[user.u]\n[user.v]\n[[policy.p.allow]]\ndo = '*'\n".to_owned();
    for i in 0..60 {
        let member = if i % 2 == 0 { "user:u" } else { "user:v" };
        estate += &format!(
            "[resource.'w/s{i:02}']\nkind = 'store'\n[group.g{i:02}]\nmembers = ['{member}']\n[[attach]]\npolicy = 'p'\nto = 'group:g{i:02}'\nat = 'w/s{i:02}'\n"
        );
    }
    let folder = Folder::new().with("bexum.toml", estate);
    for i in 0..60 {
        let store = format!("w/s{i:02}");
        let code = folder.run(&["ask", "user:u", "store.list", &store]).code;
        assert_eq!(code, Some(i % 2), "{store}");
    }
    let csv = folder.run(&["reach", "user:u", "--format", "csv"]).out;
    assert_eq!(csv.lines().count(), 31, "{csv}");
}
