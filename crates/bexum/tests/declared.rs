//! Declared attributes, places for policies, who asks, edit rights: what loads and what does not.

use serde_json::Value as Json;

use crate::support::{AT, Folder};

/// A store `w/a` with items, a user, a group, a policy that allows all of it.
const ESTATE: &str = "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\nalter = ['erase']\n[kind.policy]\nobserve = ['view']\n[account.w]\n[account.z]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[group.g]\nmembers = 'user:u'\n[[policy.p.allow]]\ndo = '*'\n[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w'\n";

const DECLARED: &str = "[attributes]\nabout = 'what can be said'\n[attributes.who]\nteam = { type = 'string', one-of = ['imaging', 'transit'] }\nlevel = 'integer'\ndevice.managed = 'boolean'\nsince = 'time'\nnet = { type = 'string', form = 'range' }\n[attributes.target]\ntier = { type = 'string', one-of = ['raw', 'cooked'] }\nends = { type = 'string', form = 'time' }\n[attributes.given]\nip = { type = 'string', form = 'address' }\nstart = 'time'\ncode = { type = 'integer', one-of = [1, 2, 3] }\ntags = { type = 'string', list = true }\ndevice.managed = 'boolean'\ndevice.kind = 'string'\n";

fn estate(more: &str) -> Folder {
    Folder::new().with("bexum.toml", format!("{ESTATE}{more}"))
}

fn deny(when: &str) -> String {
    format!(
        "[[policy.d.deny]]\ndo = '*'\nwhen = \"{when}\"\n[[attach]]\npolicy = 'd'\nto = 'everyone'\nat = 'w'\n"
    )
}

/// The faults of an estate that does not load: message, hint, and the text of each line told.
fn faults(folder: &Folder) -> Vec<(String, String, Vec<String>)> {
    let run = folder.run(&["show", "--format", "json"]);
    let report: Json = serde_json::from_str(&run.out).unwrap_or_else(|_| panic!("{}", run.err));
    let text = std::fs::read_to_string(folder.file("bexum.toml")).expect("the file");
    let line = |label: &Json| {
        let number = label["line"].as_u64().expect("a line") as usize;
        text.lines().nth(number - 1).unwrap_or_default().to_owned()
    };
    let Some(faults) = report["faults"].as_array() else { return Vec::new() };
    faults
        .iter()
        .map(|fault| {
            let hint = fault["hint"].as_str().unwrap_or_default().to_owned();
            let lines = fault["labels"].as_array().expect("labels").iter().map(line).collect();
            (fault["message"].as_str().expect("a message").to_owned(), hint, lines)
        })
        .collect()
}

#[test]
fn what_does_not_fit_what_is_declared_does_not_load() {
    // What is added, the fault, its hint, and the lines that it shows.
    for (more, message, hint, lines) in [
        (
            deny("who.taem = 'imaging'"),
            "`who.taem` is not declared",
            "did you mean `who.team`?",
            1,
        ),
        (
            deny("given.nothing-like-it is set"),
            "`given.nothing-like-it` is not declared",
            "declare it in `[attributes.given]`, or take it out",
            1,
        ),
        (
            deny("who.team = 'imagng'"),
            "`who.team` is never `'imagng'`: it is a string, one of 'imaging', 'transit'",
            "did you mean `'imaging'`?",
            1,
        ),
        (
            deny("target.tier in ['raw', 'coked']"),
            "`target.tier` is never `'coked'`: it is a string, one of 'raw', 'cooked'",
            "did you mean `'cooked'`?",
            1,
        ),
        (
            deny("given.ip = 'somewhere'"),
            "`given.ip` is never `'somewhere'`: it is a string that is an address",
            "",
            1,
        ),
        (
            deny("who.team < 3"),
            "`<` between `who.team` (a string, one of 'imaging', 'transit') and `3` can never be decided",
            "",
            1,
        ),
        (
            deny("who.level within '10.0.0.0/8'"),
            "`within` between `who.level` (an integer) and `'10.0.0.0/8'` can never be decided",
            "",
            1,
        ),
        (
            deny("who.team fits 'x*'"),
            "`x*` fits no value of `who.team`: it is a string, one of 'imaging', 'transit'",
            "",
            1,
        ),
        (
            deny("who.type = 'usr'"),
            "`who.type` is never `'usr'`: it is a string, one of 'user', 'group', 'role', 'resource'",
            "did you mean `'user'`?",
            1,
        ),
        (
            "[user.v]\nattributes = { taem = 'imaging' }\n".to_owned(),
            "`who.taem` is not declared",
            "did you mean `who.team`?",
            1,
        ),
        (
            "[user.v]\nattributes = { team = 'imagng' }\n".to_owned(),
            "`who.team` is a string, one of 'imaging', 'transit', and `'imagng'` is not",
            "did you mean `'imaging'`?",
            2,
        ),
        (
            "[resource.'w/b']\nkind = 'store'\nattributes = { tier = ['raw'] }\n".to_owned(),
            "`target.tier` is a string, one of 'raw', 'cooked', and `['raw']` is not",
            "",
            2,
        ),
        (
            "[[policy.d.deny]]\ndo = '*'\non = '{who.since}'\n".to_owned(),
            "`who.since` is a time, which cannot stand in a path",
            "",
            1,
        ),
        (
            "[[policy.d.deny]]\ndo = '*'\non = '{who.taem}/**'\n".to_owned(),
            "`who.taem` is not declared",
            "did you mean `who.team`?",
            1,
        ),
        (
            "[[check]]\nname = 'c'\nwho = 'user:u'\ndoes = 'store.list'\non = 'w/a'\nexpect = 'allow'\ngiven = { code = 4 }\n".to_owned(),
            "this check asks for something that is no request: `given.code` is declared as an integer, one of 1, 2, 3: `4` is not",
            "",
            1,
        ),
        (
            "[[check]]\nname = 'c'\nwho = 'user:u'\ndoes = 'store.list'\non = 'w/a'\nexpect = 'allow'\ngiven.code = {}\n".to_owned(),
            "this check asks for something that is no request: `given.code` is declared as one attribute: a table cannot stand there",
            "",
            1,
        ),
        (
            "[[check]]\nname = 'c'\nwho = 'user:u'\ndoes = 'obj.read'\non = 'w/a/i'\nexpect = 'allow'\nitem.tier.deep = {}\n".to_owned(),
            "this check asks for something that is no request: `target.tier` is declared as one attribute: a table cannot stand there",
            "",
            1,
        ),
        (
            "[attributes.given.extra]\nlevel = { type = 'nteger' }\n".to_owned(),
            "`type` cannot be `nteger`",
            "known here: `string`, `integer`, `boolean`, `time`",
            1,
        ),
        (
            "[attributes.given.extra]\nflag = { type = 'boolean', one-of = [true] }\n".to_owned(),
            "`one-of` goes with strings and integers, not with `boolean`",
            "",
            1,
        ),
        (
            "[attributes.given.extra]\nname = { type = 'string', one-of = [] }\n".to_owned(),
            "`one-of` must not be empty",
            "",
            1,
        ),
        (
            "[attributes.given.extra]\nname = { type = 'string', one-of = [1] }\n".to_owned(),
            "`1` cannot stand in `one-of`: an element is a string",
            "",
            1,
        ),
        (
            "[attributes.given.extra]\nn = { type = 'integer', form = 'time' }\n".to_owned(),
            "`form` goes with strings, not with `integer`",
            "",
            1,
        ),
    ] {
        let folder = estate(&format!("{DECLARED}{more}"));
        let found = faults(&folder);
        assert_eq!(found.len(), 1, "{more}: {found:?}");
        assert_eq!(found[0].0, message, "{more}");
        assert_eq!(found[0].1, hint, "{more}");
        assert_eq!(found[0].2.len(), lines, "{more}: {found:?}");
    }
}

#[test]
fn a_name_is_no_head_of_another() {
    let folder = estate(DECLARED).with("more.toml", "[attributes.given.start]\nat = 'time'\n");
    let run = folder.run(&["show"]);
    assert_eq!(run.code, Some(2));
    for part in [
        "`given.start` is declared, and so is `given.start.at` below it",
        "a name is an attribute or a head, not both",
        "below it",
    ] {
        assert!(run.err.contains(part), "{part}: {}", run.err);
    }
}

#[test]
fn one_name_is_declared_once() {
    let folder = estate("[attributes.who]\nteam = 'string'\n")
        .with("more.toml", "[attributes.who]\nteam = 'integer'\nid = 'string'\n");
    let run = folder.run(&["show"]);
    assert_eq!(run.code, Some(2));
    for part in [
        "attribute `who.team` is declared twice",
        "first declared here",
        "`id`: that name is built in",
    ] {
        assert!(run.err.contains(part), "{part}: {}", run.err);
    }
}

#[test]
fn a_request_fits_what_is_declared() {
    let folder = estate(DECLARED);
    let line = |given: &str| {
        format!("{{\"who\":\"user:u\",\"does\":\"store.list\",\"on\":\"w/a\",\"given\":{given}}}\n")
    };
    let fitting = [
        "{}",
        "{\"code\": 2, \"ip\": \"::1\", \"start\": \"2026-01-01T00:00:00Z\", \"tags\": []}",
        "{\"code\": null, \"device\": null, \"tags\": [\"a\"]}",
        "{\"device\": {\"managed\": true}}",
        "{\"device\": {\"os\": 3}, \"unheard-of\": {\"x\": 1}}",
        "{\"device\": {}}",
    ];
    let refused = [
        "{\"code\": 4}",
        "{\"code\": \"2\"}",
        "{\"code\": [2]}",
        "{\"code\": {\"x\": 2}}",
        "{\"code\": {\"x\": null}}",
        "{\"code\": {}}",
        "{\"code\": {\"x\": {}}}",
        "{\"ip\": \"10.0.0.0/8\"}",
        "{\"start\": \"soon\"}",
        "{\"start\": 7}",
        "{\"tags\": \"a\"}",
        "{\"tags\": [1]}",
        "{\"device\": true}",
        "{\"device\": [\"x\"]}",
        "{\"device\": {\"managed\": {\"x\": 1}}}",
    ];
    let lines: String = fitting.iter().chain(&refused).map(|given| line(given)).collect();
    // On the fast way, and on the one that says why.
    for args in [&["replay"][..], &["replay", "--why"]] {
        let run = folder.run_with(args, &lines);
        for (i, answer) in run.out.lines().enumerate() {
            let answer: Json = serde_json::from_str(answer).expect("JSON");
            let is_error = !answer["error"].is_null();
            assert_eq!(is_error, i >= fitting.len(), "line {}: {answer}", i + 1);
        }
        assert_eq!(run.out.lines().count(), fitting.len() + refused.len());
    }
    let run = folder.run(&["ask", "user:u", "store.list", "w/a", "--given", "code=9"]);
    assert_eq!(run.code, Some(2));
    assert!(
        run.err.contains("`given.code` is declared as an integer, one of 1, 2, 3"),
        "{}",
        run.err
    );
    let run = folder.run(&["ask", "user:u", "store.list", "w/a", "--given", "device.kind=12"]);
    assert!(run.err.contains("in double quotes it is a string: `\"12\"`"), "{}", run.err);
    let run = folder.run(&["ask", "user:u", "store.list", "w/a", "--given", "device.kind=\"12\""]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    let run = folder.run(&["reach", "user:u", "--given", "code=9"]);
    assert_eq!(run.code, Some(2), "{}", run.out);
}

/// A time that is declared is one wherever it comes from, and a string of that form beside `<`.
#[test]
fn declared_times_are_times() {
    let folder = estate(
        &(DECLARED.to_owned()
            + "[resource.'w/b']\nkind = 'store'\nattributes = { ends = '2026-03-01T00:00:00Z' }\n[[policy.d.deny]]\ndo = '*'\non = 'b'\nwhen = \"not given.start < target.ends\"\n[[attach]]\npolicy = 'd'\nto = 'everyone'\nat = 'w'\n"),
    );
    for (start, verdict) in [
        ("2026-02-01T00:00:00Z", "allow"),
        ("2026-03-01T00:30:00+01:00", "allow"),
        ("2026-03-01T00:00:00Z", "deny"),
    ] {
        let given = format!("start={start}");
        let ask = ["ask", "user:u", "store.list", "w/b", "--format", "json", "--given", &given];
        let answer: Json = serde_json::from_str(&folder.run(&ask).out).expect("JSON");
        assert_eq!(answer["verdict"], verdict, "{start}: {answer}");
    }
}

/// What a table holds besides is not looked at where the root is closed.
#[test]
fn the_head_of_declared_names_is_set_by_these_alone() {
    let folder = estate(&(DECLARED.to_owned() + &deny("not given.device is set")));
    for (given, reason) in
        [("device.managed=true", "granted"), ("device.os=x", "denied"), ("device=", "denied")]
    {
        let ask = ["ask", "user:u", "store.list", "w/a", "--format", "json", "--given", given];
        let answer: Json = serde_json::from_str(&folder.run(&ask).out).expect("JSON");
        assert_eq!(answer["reason"], reason, "{given}: {answer}");
    }
}

/// Laws are tried with what can be given at all.
#[test]
fn laws_know_what_is_declared() {
    let law = |when: &str| {
        format!(
            "[[policy.d.deny]]\ndo = 'store.list'\nwhen = \"{when}\"\n[[attach]]\npolicy = 'd'\nto = 'user:u'\nat = 'w/a'\n[[never]]\nwho = 'user:u'\ndoes = 'store.list'\non = '/w/a'\nwhen = 'given.code is set'\n"
        )
    };
    for (when, broken) in [
        ("given.code in [1, 2, 3]", false),
        ("given.code = 1 or given.code > 2", true),
        ("given.code <= 3", false),
        ("not given.code = 2", true),
    ] {
        let folder = estate(&(DECLARED.to_owned() + &law(when)));
        let run = folder.run(&["prove", "--at-time", AT, "--format", "json"]);
        let report: Json = serde_json::from_str(&run.out).expect("JSON");
        assert_eq!(report["broken"], u64::from(broken), "{when}: {report}");
        assert_eq!(run.code, Some(i32::from(broken)), "{when}: {report}");
        if broken {
            let given = report["expectations"][0]["broken-by"].to_string();
            assert!(given.contains("\"code\":2"), "{when}: {given}");
        }
    }
}

/// A declared list may hold any values of its type, several at once, and none.
#[test]
fn laws_try_what_declared_lists_may_hold() {
    let lists = "[attributes.given]\ntags = { type = 'string', list = true }\nsorts = { type = 'string', list = true, one-of = ['x', 'y'] }\ncounts = { type = 'integer', list = true }\n";
    for (when, broken) in [
        ("'b' in given.tags and not ('c' in given.tags)", true),
        ("'a' in given.tags and 'b' in given.tags", true),
        ("given.tags is set and not (given.tags overlaps ['a'])", true),
        ("given.tags overlaps ['a', 'b'] and not ('a' in given.tags or 'b' in given.tags)", false),
        ("'x' in given.sorts and 'y' in given.sorts", true),
        (
            "given.sorts overlaps ['x', 'y'] and not ('x' in given.sorts or 'y' in given.sorts)",
            false,
        ),
        ("7 in given.counts and not (8 in given.counts)", true),
        ("7 in given.counts and not (given.counts is set)", false),
    ] {
        let law = format!(
            "{lists}[[never]]\nwho = 'user:u'\ndoes = 'store.list'\non = '/w/a'\nwhen = \"{when}\"\n"
        );
        let folder = estate(&law);
        let run = folder.run(&["prove", "--at-time", AT, "--format", "json"]);
        let report: Json = serde_json::from_str(&run.out).expect("JSON");
        assert_eq!(report["broken"], u64::from(broken), "{when}: {report}");
        assert_eq!(run.code, Some(i32::from(broken)), "{when}: {report}");
    }
}

#[test]
fn a_policy_with_a_place_is_a_target() {
    let folder =
        estate("[policy.p]\nplace = 'w'\nlocked = true\n[[policy.q.allow]]\ndo = 'store.list'\n");
    let run = folder.run(&["ask", "user:u", "policy.view", "w/p"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let run = folder.run(&["ask", "user:u", "store.list", "w/p"]);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("which is a policy"), "{}", run.err);
    let run = folder.run(&["show", "w/p"]);
    assert!(run.out.contains("locked"), "{}", run.out);
    let run = folder.run(&["reach", "user:u", "--format", "csv"]);
    assert!(run.out.contains("user:u,,w/p,policy.view,allow\n"), "{}", run.out);
    let taken = estate("[policy.a]\nplace = 'w'\n[[policy.a.allow]]\ndo = '*'\n");
    let found = faults(&taken);
    assert_eq!(found[0].0, "policy:a would be the target `w/a`, but that path is taken");
}

#[test]
fn a_policy_is_attached_only_where_it_may_be() {
    let base = "[policy.inner]\nattachable = ['w/a', 'z']\n[[policy.inner.allow]]\ndo = '*'\n[policy.outer]\ninclude = 'inner'\n";
    let at = |policy: &str, at: &str| {
        estate(&format!("{base}[[attach]]\npolicy = '{policy}'\nto = 'user:u'\nat = '{at}'\n"))
    };
    for (policy, place) in [("inner", "w"), ("outer", "w")] {
        let found = faults(&at(policy, place));
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!(found[0].0, "policy `inner` cannot be attached at `w`");
        assert_eq!(found[0].2.len(), 2);
    }
    for (policy, place) in [("inner", "w/a"), ("outer", "z")] {
        assert_eq!(at(policy, place).run(&["show"]).code, Some(0));
    }
    let ceiling = estate(&format!("{base}[[ceiling]]\npolicy = 'inner'\nover = 'w'\n"));
    assert_eq!(ceiling.run(&["show"]).code, Some(0));
}

#[test]
fn who_asks_is_not_in_yet_and_asks_once() {
    let group = |asks: &str, members: &str| {
        estate(&format!(
            "[user.v]\nsource = 'people'\nsource-id = '7'\n[group.h]\nsource = 'people'\nmembers = {members}\nasks = {asks}\n"
        ))
    };
    let ask = "{ who = 'user:v', at = 2026-11-01T08:00:00Z, why = 'covers' }";
    let windowed = "[{ who = 'user:v', until = 2027-01-01T00:00:00Z }]";
    assert_eq!(group(&format!("[{ask}]"), "[]").run(&["show"]).code, Some(0));
    assert_eq!(group(&format!("[{ask}]"), windowed).run(&["show"]).code, Some(0));
    for (asks, members, message) in [
        (format!("[{ask}, {ask}]"), "[]", "`user:v` asks to be let in, but did so already"),
        (format!("[{ask}]"), "['user:v']", "`user:v` asks to be let in, but is a member already"),
    ] {
        let found = faults(&group(&asks, members));
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!(found[0].0, message);
        assert_eq!(found[0].2.len(), 2);
    }
    let found = faults(&group("[{ who = 'group:g', at = 2026-11-01T08:00:00Z }]", "[]"));
    assert_eq!(found.len(), 1, "{found:?}");
    let found = faults(&group("[{ who = 'user:v' }]", "[]"));
    assert_eq!(found[0].0, "somebody who asks needs the key `at`");
}

#[test]
fn edit_rights_name_what_there_is() {
    let rights = "[edit-rights]\n'group.members' = 'obj.erase'\n'scope.attach' = ['obj.erase', 'store.list']\nno-more-than-own = true\n";
    let folder = estate(rights);
    let run = folder.run(&["show", "edit-rights"]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    for part in ["group.members", "scope.attach", "obj.erase, store.list", "no-more-than-own"] {
        assert!(run.out.contains(part), "{part}: {}", run.out);
    }
    for (more, message, hint) in [
        (
            "[edit-rights]\n'group.member' = 'obj.erase'\n",
            "unknown key `group.member` in `[edit-rights]`",
            "did you mean `group.members`?",
        ),
        (
            "[edit-rights]\n'group.members' = 'obj.erse'\n",
            "action `obj.erse` is not declared",
            "did you mean `obj.erase`?",
        ),
    ] {
        let found = faults(&estate(more));
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].0.as_str(), found[0].1.as_str()), (message, hint));
    }
    let twice = estate(rights).with("more.toml", "[edit-rights]\n'user.state' = 'obj.erase'\n");
    let run = twice.run(&["show"]);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("table `edit-rights` is declared twice"), "{}", run.err);
}

#[test]
fn declared_attributes_are_shown_with_their_use() {
    let folder = estate(
        &(DECLARED.to_owned()
            + "[user.v]\nattributes = { team = 'imaging' }\n"
            + &deny("who.team != 'transit' and given.code = 1")),
    );
    let run = folder.run(&["show", "attributes", "--format", "json"]);
    let report: Json = serde_json::from_str(&run.out).unwrap_or_else(|_| panic!("{}", run.err));
    let row = |name: &str| {
        let rows = report["attributes"].as_array().expect("rows");
        rows.iter().find(|row| row["attribute"] == name).expect("declared").clone()
    };
    assert_eq!(row("who.team")["values"], serde_json::json!(["imaging"]));
    assert_eq!(row("who.team")["asked-about"], serde_json::json!(["d deny 1"]));
    assert_eq!(row("who.level")["asked-about"], serde_json::json!([]));
    let rule = serde_json::json!(
        { "type": "integer", "list": false, "one-of": [1, 2, 3], "form": null }
    );
    assert_eq!(row("given.code")["type"], rule);
}

/// The reference names every table and every key that the program knows: it is asked which.
#[test]
fn the_reference_misses_no_key() {
    let docs = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/language.md");
    let docs = std::fs::read_to_string(docs).expect("the reference");
    let (_, reference) = docs.split_once("## Every table and its keys").expect("its section");
    let row = |table: &str| {
        let mut rows = reference.lines().filter(|line| line.starts_with('|'));
        let found = rows.find(|line| line.split('|').nth(1).is_some_and(|c| c.contains(table)));
        found.unwrap_or_else(|| panic!("no row for {table}"))
    };
    let documented = |table: &str| -> Vec<String> {
        let cells = match table {
            "[edit-rights]" => docs
                .split_once("## Who may edit what")
                .and_then(|(_, rest)| rest.split_once("## Every table"))
                .map(|(section, _)| section.lines().filter(|l| l.starts_with('|')).collect())
                .expect("its section"),
            _ => row(table).split('|').nth(2).expect("keys").to_owned(),
        };
        let mut keys: Vec<String> =
            cells.split('`').skip(1).step_by(2).map(str::to_owned).collect();
        keys.sort();
        keys
    };
    // Each table with a key that nobody means, so that all that are known are named.
    for (table, text) in [
        ("[attributes.ROOT]", "[attributes.who]\nx = { type = 'string', zzzzzzzzzz = 1 }"),
        ("[service.NAME]", "[service.s]\nzzzzzzzzzz = 1"),
        ("[kind.NAME]", "[kind.k]\nzzzzzzzzzz = 1"),
        ("[account.NAME]", "[account.b]\nzzzzzzzzzz = 1"),
        ("[subscription.", "[subscription.'w/s']\nzzzzzzzzzz = 1"),
        ("[resource.", "[resource.'w/r']\nkind = 'store'\nzzzzzzzzzz = 1"),
        ("[namespace.", "[namespace.'w/n']\nzzzzzzzzzz = 1"),
        ("[user.NAME]", "[user.v]\nzzzzzzzzzz = 1"),
        ("[group.NAME]", "[group.h]\nzzzzzzzzzz = 1"),
        (
            "an element of `members`",
            "[group.h]\nmembers = [{ who = 'user:u', from = 2026-01-01T00:00:00Z, zzzzzzzzzz = 1 }]",
        ),
        (
            "an element of `asks`",
            "[group.h]\nasks = [{ who = 'user:u', at = 2026-01-01T00:00:00Z, zzzzzzzzzz = 1 }]",
        ),
        ("[role.NAME]", "[role.r]\nzzzzzzzzzz = 1"),
        ("[policy.NAME]", "[policy.q]\nzzzzzzzzzz = 1"),
        ("[[policy.NAME.deny]]", "[[policy.q.deny]]\ndo = '*'\nzzzzzzzzzz = 1"),
        ("[[attach]]", "[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w'\nzzzzzzzzzz = 1"),
        ("[[ceiling]]", "[[ceiling]]\npolicy = 'p'\nzzzzzzzzzz = 1"),
        (
            "[[check]]",
            "[[check]]\nname = 'c'\nwho = 'user:u'\ndoes = 'store.list'\non = 'w/a'\nexpect = 'allow'\nzzzzzzzzzz = 1",
        ),
        ("[[never]]", "[[never]]\nwho = 'user:u'\ndoes = '*'\non = '/**'\nzzzzzzzzzz = 1"),
        ("[[always]]", "[[always]]\nwho = 'user:u'\ndoes = '*'\non = '/**'\nzzzzzzzzzz = 1"),
        ("[[apart]]", "[[apart]]\nany-two-of = ['group:g', 'policy:p']\nzzzzzzzzzz = 1"),
        ("[edit-rights]", "[edit-rights]\nzzzzzzzzzz = 1"),
        ("[preset.NAME]", "[preset.q]\nzzzzzzzzzz = 1"),
        ("[review.NAME]", "[review.q]\nzzzzzzzzzz = 1"),
        ("[source.NAME]", "[source.q]\nzzzzzzzzzz = 1"),
        ("[application.NAME]", "[application.q]\nzzzzzzzzzz = 1"),
        ("[[review.NAME.answer]]", "[[review.q.answer]]\nzzzzzzzzzz = 1"),
        (
            "[[vet-accept]]",
            "[[vet-accept]]\nrule = 'climb'\nabout = 'x'\nwhy = 'y'\nzzzzzzzzzz = 1",
        ),
    ] {
        let found = faults(&estate(text));
        let hint =
            &found.iter().find(|(message, ..)| message.contains("zzzzzzzzzz")).expect(table).1;
        let mut known: Vec<String> = match hint.strip_prefix("known here: ") {
            Some(list) => list.split(", ").map(|key| key.trim_matches('`').to_owned()).collect(),
            None => Vec::new(),
        };
        known.sort();
        assert_eq!(documented(table), known, "{table}");
    }
    for table in bexum_core::TABLES {
        let is_named = [format!("[{table}."), format!("[{table}]")];
        assert!(is_named.iter().any(|name| reference.contains(name)), "{table}");
    }
}
