//! Laws about everybody: what breaks them is found, however well it hides.

use crate::support::Folder;

/// The report of `bexum prove` as JSON.
pub(crate) fn json(folder: &Folder) -> serde_json::Value {
    let run = folder.run(&["prove", "--format", "json"]);
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}", run.err))
}

/// A law over many attributes is broken at once by what its conditions want to be true, and targets
/// that differ in nothing that is asked about are searched once.
#[test]
fn what_conditions_want_is_tried_first() {
    let names: Vec<String> = (0..20).map(|i| format!("given.a{i}")).collect();
    let all = names.join(" and ");
    let none_of = names.iter().map(|name| format!("not {name}")).collect::<Vec<_>>().join(" or ");
    let either: Vec<String> = (0..20)
        .map(|i| {
            format!(
                "(given.a{i} or given.a{}) and (not given.a{i} or given.a{})",
                (i + 1) % 20,
                (i + 3) % 20
            )
        })
        .collect();
    for (allow, deny) in [
        (all.as_str(), "given.gone"),
        ("true", none_of.as_str()),
        (&*either.join(" and "), "given.gone"),
    ] {
        let mut text = format!(
            "[[policy.many.allow]]\ndo = '*'\nwhen = '{allow}'\n[[policy.many.deny]]\ndo = '*'\nwhen = '{deny}'\n[[attach]]\npolicy = 'many'\nto = 'user:tomas'\nat = 'v'\n[[never]]\nname = 'x'\nwho = 'user:tomas'\ndoes = 'store.list'\non = '/v/**'\n"
        );
        for i in 0..20 {
            text.push_str(&format!("[resource.'v/s/store-{i}']\nkind = 'store'\n"));
        }
        let folder = Folder::estate().and(&text);
        let report = json(&folder);
        assert_eq!(report["broken"], 1, "{allow} {deny}: {report}");
        assert_eq!(report["expectations"][0]["broken-by"]["answer"]["verdict"], "allow");
        let given = &report["expectations"][0]["broken-by"]["request"]["given"];
        assert_eq!(given["a7"], true, "{report}");
    }
}

/// Laws that hold only as long as nobody thinks of the one request that breaks them: a value inside
/// a range, a moment reached through another attribute, a number in a path.
#[test]
fn what_was_thought_of_by_others_is_found() {
    let plain = "do = '*'";
    let never = "[[never]]\nname = 'x'\nwho = 'user:u'\ndoes = '*'\n";
    let seal = |path: &str| format!("[resource.'{path}']\nkind = 'store'\nsealed = true\n");
    let law = |on: &str, when: &str| {
        let when = if when.is_empty() { String::new() } else { format!("when = \"{when}\"\n") };
        format!("{never}on = '{on}'\n{when}")
    };
    let allow = |when: &str| format!("do = '*'\nwhen = \"{when}\"");
    for (what, allow, rest) in [
        (
            "the other family",
            allow("given.ip is set and not given.ip within '0.0.0.0/0'"),
            law("/w/a", ""),
        ),
        (
            "the other family, from above",
            allow("given.ip is set and not given.ip within '::/0'"),
            law("/w/a", ""),
        ),
        (
            "inside a range",
            allow(
                "given.ip within '10.0.0.0/8' and given.ip != '10.0.0.0' and given.ip != '10.255.255.255'",
            ),
            law("/w/a", ""),
        ),
        (
            "a moment by way of an attribute",
            allow("given.shift-end = '2025-01-01T00:00:00Z' and given.time < given.shift-end"),
            law("/w/a", ""),
        ),
        (
            "beside a neighbour that is excluded",
            allow("given.t > who.start and given.t != '2026-01-01T00:00:00.000001Z'"),
            law("/w/a", ""),
        ),
        ("beside a seal", plain.to_owned(), law("/w/a/b*/x", "") + &seal("w/a/b")),
        ("a seal in between", plain.to_owned(), law("/w/a/**/r/x", "") + &seal("w/a/r")),
        ("a number in a path", plain.to_owned(), law("/w/a/{given.n}", "given.n = 1")),
        (
            "a number of the allow",
            "do = '*'\non = '{given.n}'\nwhen = 'given.n < 3'".to_owned(),
            law("/w/a/*", ""),
        ),
        (
            "a number before everything",
            "do = '*'\non = '{given.n}/**'\nwhen = 'given.n < 3'".to_owned(),
            law("/w/a/**", ""),
        ),
        (
            "a number whose first letter a pattern fits",
            "do = '*'\non = '{given.s}'\nwhen = \"given.s fits '1*'\"".to_owned(),
            law("/w/a/{given.n}", "given.n > 200"),
        ),
        (
            "another number with the same end",
            "do = '*'\non = '*1'".to_owned(),
            law("/w/a/{given.n}", "given.n != 1"),
        ),
        (
            "a declared number, of which nothing is asked",
            "do = '*'\non = '*7/x*'".to_owned(),
            law("/w/a/{given.n}/{given.m}", "")
                + "[attributes.given]\nn = 'integer'\nm = 'string'\n",
        ),
        (
            "two names in one path that are the same",
            "do = '*'\non = '*1/2*'".to_owned(),
            law("/w/a/{given.n}/{given.m}", "given.n = given.m"),
        ),
        (
            "one value twice in one path",
            "do = '*'\non = '*1/2*'".to_owned(),
            law("/w/a/{given.n}/{given.n}", "given.n != 2"),
        ),
        (
            "a path that fits around a value",
            "do = '*'\non = '{given.s}/*'\nwhen = \"target.path fits '*/a?c/*'\"".to_owned(),
            law("/w/a/{given.n}/{given.n}", "given.n != 'abc' and given.n != 'axc'"),
        ),
        (
            "a value that stands beside what it must not fit",
            "do = '*'\non = '**/{given.s}/**'\nwhen = \"given.s is set and not given.s fits 'a*'\""
                .to_owned(),
            law("/w/a/a*/**", ""),
        ),
        (
            "a first name that is the last, too",
            "do = '*'\non = '{given.s}/**'\nwhen = 'target.name = given.s'".to_owned(),
            law("/w/a/*1/2*", ""),
        ),
        (
            "a value twice, once in the place of a name",
            "do = '*'\non = '*/bb'".to_owned(),
            law("/w/a/{given.s}/{given.s}", ""),
        ),
        ("a boolean in a path", plain.to_owned(), law("/w/a/{given.b}", "given.b")),
        (
            "a word of two patterns",
            plain.to_owned(),
            law("/w/a/{given.s}", "given.s fits 'x*' and given.s fits '*y'"),
        ),
        (
            "an address in a path",
            plain.to_owned(),
            law("/w/a/{given.s}", "given.s within '10.0.0.0/8'"),
        ),
        (
            "a scope that is a number",
            plain.to_owned(),
            law("/w/{given.n}", "given.n < 10")
                + "[resource.'w/5']\nkind = 'store'\n[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w/5'\n",
        ),
        ("a name in a range", plain.to_owned(), law("/w/a/*", "target.name within '10.0.0.0/8'")),
        ("a name before now", plain.to_owned(), law("/w/a/*", "target.name < given.time")),
        (
            "a range that is given",
            plain.to_owned(),
            law("/w/a", "'10.0.0.1' within given.nets and not given.nets = '10.0.0.1'"),
        ),
        (
            "a range among texts",
            allow(
                "given.at within '10.0.0.0/8' and given.nets overlaps ['10.0.0.0/8', '10.0.0.0/31']",
            ),
            law("/w/a", "not given.at within given.nets"),
        ),
        (
            "an address in other letters",
            plain.to_owned(),
            law("/w/a", "given.ip within '10.0.0.1' and given.ip != '10.0.0.1'"),
        ),
        (
            "integers beside times",
            allow("given.b is set or given.time >= given.a"),
            law("/w/a", "given.a >= given.c"),
        ),
        (
            "a moment in other letters",
            plain.to_owned(),
            law("/w/a", "given.t = who.start and given.t != '2026-01-01T00:00:00Z'"),
        ),
        (
            "a moment in two ways",
            plain.to_owned(),
            law("/w/a", "given.t = who.start and given.s = who.start and given.s != given.t"),
        ),
        (
            "a moment with an offset",
            plain.to_owned(),
            law("/w/a", "given.t fits '20*-06:00' and given.t = given.time"),
        ),
        (
            "a moment before another, with an offset",
            plain.to_owned(),
            law("/w/a", "given.t fits '20*-06:00' and given.t < who.start"),
        ),
        (
            "a name that is a moment",
            plain.to_owned(),
            law("/w/a/*", "target.name = who.start and not target.name fits '*Z'"),
        ),
        (
            "a moment that is given",
            allow("given.time >= given.t"),
            law("/w/a", "given.t = '2099-01-01T00:00:00Z'"),
        ),
    ] {
        let estate = format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\nattributes = {{ start = 2026-01-01T00:00:00Z }}\n[[policy.p.allow]]\n{allow}\n[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w/a'\n{rest}"
        );
        let folder = Folder::new().with("bexum.toml", estate);
        let report = json(&folder);
        assert_eq!(report["broken"], 1, "{what}: {report}");
        let answer = &report["expectations"][0]["broken-by"]["answer"];
        assert_eq!(answer["verdict"], "allow", "{what}: {report}");
    }
}

/// What holds a slash cannot stand in a segment, and doubt refuses.
#[test]
fn a_value_with_a_slash_leaves_a_deny_in_doubt() {
    let folder = Folder::estate().and(
        "[[policy.named.deny]]\ndo = '*'\non = 'store/{given.s}'\n[[attach]]\npolicy = 'named'\nto = 'everyone'\nat = 'v/s'\n[[always]]\nname = 'x'\nwho = 'user:ines'\ndoes = 'file.open'\non = '/v/s/store/b'\nwhen = \"given.s != 'b'\"\n",
    );
    let report = json(&folder);
    assert_eq!(report["broken"], 1, "{report}");
    assert_eq!(report["expectations"][0]["broken-by"]["answer"]["reason"], "denied");
}

/// Values of a sort that a comparison does not expect leave it undecided, and doubt refuses.
#[test]
fn a_value_of_another_sort_leaves_a_deny_in_doubt() {
    for never_true in [
        "given.x fits 'r*' and not given.x fits 'r*'",
        "given.x = 'r' and given.x != 'r'",
        "'r' in given.x and not given.x overlaps ['r']",
        "'10.0.0.1' in given.x and not '10.0.0.1' within given.x",
    ] {
        let folder = Folder::estate().and(&format!(
            "[[policy.named.deny]]\ndo = '*'\nwhen = \"given.x is set and {never_true}\"\n[[attach]]\npolicy = 'named'\nto = 'everyone'\nat = 'v/s'\n[[always]]\nname = 'x'\nwho = 'user:ines'\ndoes = 'file.open'\non = '/v/s/store/b'\nwhen = 'given.x is set'\n",
        ));
        let report = json(&folder);
        assert_eq!(report["broken"], 1, "{never_true}: {report}");
        assert_eq!(report["expectations"][0]["broken-by"]["answer"]["reason"], "denied");
    }
}

/// Two attributes may be equal as values of a sort that nothing else expects.
#[test]
fn equal_values_of_another_sort_leave_a_deny_in_doubt() {
    let folder = Folder::estate().and(
        "[[policy.named.deny]]\ndo = '*'\nwhen = \"given.x fits 'a*' and not given.x fits 'a*'\"\n[[attach]]\npolicy = 'named'\nto = 'everyone'\nat = 'v/s'\n[[always]]\nname = 'x'\nwho = 'user:ines'\ndoes = 'file.open'\non = '/v/s/store/b'\nwhen = 'given.x = given.y'\n",
    );
    let report = json(&folder);
    assert_eq!(report["broken"], 1, "{report}");
    let given = &report["expectations"][0]["broken-by"]["request"]["given"];
    assert_eq!(given["x"], given["y"], "{report}");
    assert!(!given["x"].is_string(), "{report}");
}

/// What stands in a brace stands in the path, too: it may have to fit what is asked of both.
#[test]
fn a_text_in_a_brace_fits_what_the_name_has_to() {
    let folder = Folder::estate().and(
        "[[policy.named.deny]]\ndo = '*'\non = '*yy'\n[[attach]]\npolicy = 'named'\nto = 'everyone'\nat = 'v/s/store'\n[[always]]\nname = 'x'\nwho = 'user:ines'\ndoes = 'file.open'\non = '/v/s/store/{given.x}'\nwhen = \"given.x fits 'a*' and target.name fits '*y'\"\n",
    );
    let report = json(&folder);
    assert_eq!(report["broken"], 1, "{report}");
    let request = &report["expectations"][0]["broken-by"]["request"];
    let name = request["given"]["x"].as_str().unwrap_or_default();
    assert!(name.starts_with('a') && name.ends_with("yy"), "{report}");
    assert_eq!(request["on"], format!("v/s/store/{name}"), "{report}");
}

#[test]
fn a_role_that_comes_with_another_is_had_too() {
    let folder = Folder::estate().and(
        "[role.t]\ntaken-by = 'user:ines'\n[role.p]\nheld-by = [{ who = 'role:t', until = 2030-01-01T00:00:00Z }]\n[role.q]\ntaken-by = 'user:ines'\n[[apart]]\nname = 'x'\nany-two-of = ['role:p', 'role:q']\n",
    );
    let run = folder.run(&["prove", "--at-time", crate::support::AT]);
    assert_eq!(run.code, Some(1), "{}", run.err);
    assert!(run.out.contains("can have role:p by taking up role:t"), "{}", run.out);
}

/// Which addresses of a range, and which times before another, a pattern fits is not worked out: that
/// is said, and nothing is held for it. Nor are more names gone through than the bounds allow.
#[test]
fn what_is_not_worked_out_is_not_decided() {
    for (on, when) in [
        ("/v/s/store", "given.ip within '10.0.0.0/8' and given.ip fits '*.7.*'"),
        ("/v/s/store/*", "target.name within '10.0.0.0/8' and target.name fits '*.7.*'"),
        ("/v/s/store/*", "target.name < given.time and target.name fits '19*:07*'"),
        ("/v/s/store/*5Z", "target.name < '1999-01-01T00:00:00Z'"),
        ("/v/s/store/*5", "target.name within '10.0.0.0/8'"),
        ("/v/s/store/{given.a}/*5", "given.a < given.b and target.name = given.b"),
        (
            "/v/s/store/**/{given.a}/{given.b}/**",
            "target.path fits '*/x/bb/aa/*' and given.a = 'aa' and given.b = 'bb'",
        ),
        (
            "/v/s/store/{given.a}/{given.b}/{given.c}",
            "given.a != given.b and given.b != given.c and given.c != given.a and target.path fits '*/a*z/a*z/a*z'",
        ),
        ("/v/s/store", "given.ip within given.nets and not given.ip fits '*1*'"),
    ] {
        let folder = Folder::estate().and(&format!(
            "[[policy.all.allow]]\ndo = '*'\n[[attach]]\npolicy = 'all'\nto = 'user:tomas'\nat = 'v'\n[[never]]\nname = 'x'\nwho = 'user:tomas'\ndoes = '*'\non = '{on}'\nwhen = \"{when}\"\n"
        ));
        let report = json(&folder);
        assert_ne!(report["expectations"][0]["status"], "held", "{when}: {report}");
    }
}

/// Ranges that nobody gave are worked out where nothing but `within` asks for them as one value, and
/// patterns of texts that are compared with each other: what can be broken is, and all else holds.
#[test]
fn ranges_and_patterns_that_nobody_gave_are_decided() {
    for (when, status) in [
        ("given.ip within given.nets and not given.ip within given.nets", "held"),
        ("given.ip within given.nets and not given.other within given.nets", "broken"),
        (
            "given.ip within given.nets and given.ip within '10.0.0.0/31' and given.other within '10.0.0.0/31' and given.last within '10.0.0.0/31' and given.ip != given.other and not given.other within given.nets and given.last != given.ip and given.last != given.other and not given.last within given.nets",
            "broken",
        ),
        ("'10.0.0.1' within given.nets and not '::ffff:10.0.0.1' within given.nets", "held"),
        ("'10.0.0.1' within given.nets and not '10.0.0.2' within given.nets", "broken"),
        (
            "'10.0.0.1' within given.nets and not '10.0.0.1' in given.nets and not '10.0.0.1/32' in given.nets and not '10.0.0.0/8' in given.nets",
            "broken",
        ),
        ("given.ip within given.nets and given.ip in given.nets", "broken"),
        ("given.a fits 'x*' and given.a = given.b and not given.b fits 'x*'", "held"),
        (
            "given.a fits 'x*' and given.b fits 'x*' and given.a != given.b and given.b != 'x'",
            "broken",
        ),
        ("given.a fits 'x' and given.b fits 'x' and given.a != given.b", "held"),
    ] {
        let folder = Folder::estate().and(&format!(
            "[[policy.all.allow]]\ndo = '*'\n[[attach]]\npolicy = 'all'\nto = 'user:tomas'\nat = 'v'\n[[never]]\nname = 'x'\nwho = 'user:tomas'\ndoes = '*'\non = '/v/s/store'\nwhen = \"{when}\"\n"
        ));
        let report = json(&folder);
        assert_eq!(report["expectations"][0]["status"], status, "{when}: {report}");
    }
}

/// The condition of a law is asked as that of an allow is: with the roles of the session that grants.
#[test]
fn a_law_sees_the_roles_that_an_allow_sees() {
    for (of_law, status) in [("'active' in who.roles", "held"), ("'taken' in who.roles", "broken")]
    {
        let folder = Folder::estate().and(&format!(
            "[role.active]\nheld-by = 'user:tomas'\n[role.taken]\ntaken-by = 'user:tomas'\n[[policy.all.allow]]\ndo = 'store.read'\n[[attach]]\npolicy = 'all'\nto = 'role:taken'\nat = 'v/s/store'\n[[never]]\nname = 'x'\nwho = 'user:tomas'\ndoes = 'store.read'\non = '/v/s/store'\nwhen = \"{of_law}\"\n"
        ));
        let report = json(&folder);
        assert_eq!(report["expectations"][0]["status"], status, "{of_law}: {report}");
    }
}

/// A name of many digits is a name like any other, where nothing asks for an integer.
#[test]
fn a_name_of_many_digits_leaves_a_law_decided() {
    let folder = Folder::estate().and(
        "[[policy.all.allow]]\ndo = '*'\non = '20261127000000000000001/*x'\n[[attach]]\npolicy = 'all'\nto = 'user:tomas'\nat = 'v/s/store'\n[[never]]\nname = 'x'\nwho = 'user:tomas'\ndoes = '*'\non = '/v/s/store/20261127000000000000001/*y'\n",
    );
    let report = json(&folder);
    assert_eq!(report["expectations"][0]["status"], "held", "{report}");
}
