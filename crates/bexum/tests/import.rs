//! `bexum import`: what is read, what comes of it, and what is not taken.

use std::path::Path;

use serde_json::{Value as Json, json};

use crate::edit::texts;
use crate::support::{Folder, Run};

pub(crate) const AT: &str = "2026-11-26T09:00:00Z";

fn import(folder: &Folder, arguments: &[&str]) -> Run {
    folder.run(&[&["import"], arguments, &["--source", "office", "--at-time", AT]].concat())
}

pub(crate) fn told(run: &Run) -> Json {
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}{}", run.out, run.err))
}

fn scim(resources: Json) -> String {
    let count = resources.as_array().expect("a list").len();
    let list = "urn:ietf:params:scim:api:messages:2.0:ListResponse";
    json!({ "schemas": [list], "totalResults": count, "Resources": resources }).to_string()
}

fn user(name: &str, id: &str, more: Json) -> Json {
    let mut all = json!({
        "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": id, "userName": name,
    });
    for (key, value) in more.as_object().expect("keys") {
        all[key] = value.clone();
    }
    all
}

fn group(name: &str, id: &str, members: &[&str]) -> Json {
    let members: Vec<Json> = members.iter().map(|id| json!({ "value": id })).collect();
    json!({
        "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "id": id, "displayName": name,
        "members": members,
    })
}

#[test]
fn the_lists_of_the_demo_read_well() {
    let folder = Folder::demo();
    let october = ["office/october.json", "--adopt", "--write"];
    let run = import(&folder, &october);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let again = import(&folder, &october);
    assert!(again.out.ends_with("nothing changes in the files\n"), "{}", again.out);
    let run = import(&folder, &["office/november.csv"]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    insta::assert_snapshot!(run.out);
}

/// Resources as the standard's section 8 shows them, with other names in them.
#[test]
fn resources_of_the_standard_are_read() {
    let folder = Folder::estate();
    let full = json!({
        "schemas": [
            "urn:ietf:params:scim:schemas:core:2.0:User",
            "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User",
        ],
        "id": "2819c223-7f76-453a-919d-413861904646",
        "externalId": "701984",
        "userName": "bo@veyra.example",
        "name": {
            "formatted": "Ms. Bo J Astrand, III", "familyName": "Astrand", "givenName": "Bo",
            "middleName": "Jane", "honorificPrefix": "Ms.", "honorificSuffix": "III",
        },
        "nickName": "Bo",
        "profileUrl": "https://login.veyra.example/bo",
        "emails": [
            { "value": "bo@veyra.example", "type": "work", "primary": true },
            { "value": "bo@home.example", "type": "home" },
        ],
        "addresses": [{ "type": "work", "streetAddress": "1 Mesa Road", "primary": true }],
        "phoneNumbers": [{ "value": "555-555-5555", "type": "work" }],
        "ims": [{ "value": "bo", "type": "chat" }],
        "photos": [{ "value": "https://photos.veyra.example/F", "type": "photo" }],
        "userType": "Employee", "title": "Astronomer", "preferredLanguage": "en-US",
        "locale": "en-US", "timezone": "America/Los_Angeles", "active": true,
        "password": "t1meMa$heen",
        "groups": [{
            "value": "e9e30dba-f08f-4109-8486-d5c6a331660a",
            "$ref": "../Groups/e9e30dba-f08f-4109-8486-d5c6a331660a", "display": "tour-guides",
        }],
        "x509Certificates": [{ "value": "MIIDQzCCAqygAwIBAgICEAAwDQYJKoZIhvcNAQEFBQAwTjEL" }],
        "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {
            "employeeNumber": "701984", "costCenter": "4130", "organization": "Veyra",
            "division": "Sky", "department": "Spectra",
            "manager": {
                "value": "26118915-6090-4610-87e4-49d8ca9f808d",
                "$ref": "../Users/26118915-6090-4610-87e4-49d8ca9f808d",
                "displayName": "Jan Skov",
            },
        },
        "meta": {
            "resourceType": "User", "created": "2010-01-23T04:56:22Z",
            "version": "W/\"3694e05e9dff591\"",
            "location": "https://veyra.example/v2/Users/2819c223-7f76-453a-919d-413861904646",
        },
    });
    let minimal = json!({
        "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"],
        "id": "26118915-6090-4610-87e4-49d8ca9f808d",
        "userName": "jan@veyra.example",
        "meta": { "resourceType": "User" },
    });
    let group = json!({
        "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"],
        "id": "e9e30dba-f08f-4109-8486-d5c6a331660a",
        "displayName": "tour-guides",
        "members": [
            {
                "value": "2819c223-7f76-453a-919d-413861904646",
                "$ref": "https://veyra.example/v2/Users/2819c223-7f76-453a-919d-413861904646",
                "display": "Bo Astrand",
            },
            { "value": "902c246b-6245-4190-8e05-00816be7344a", "display": "Mandy Pol" },
        ],
        "meta": { "resourceType": "Group" },
    });
    let folder = folder
        .with("bo.json", full.to_string())
        .with("jan.json", minimal.to_string())
        .with("guides.json", json!([group]).to_string());
    let files = ["bo.json", "jan.json", "guides.json"];
    let map = ["--map", "department=attributes.team", "--map", "name.givenName=attributes.given"];
    let run = import(&folder, &[&files[..], &map, &["--write", "--format", "json"]].concat());
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let import_told = &told(&run)["import"];
    assert_eq!(
        import_told["new"],
        json!(["user:bo@veyra.example", "user:jan@veyra.example", "group:tour-guides"])
    );
    let not_taken = import_told["not-taken"].to_string();
    assert!(not_taken.contains("902c246b-6245-4190-8e05-00816be7344a"), "{not_taken}");
    assert!(not_taken.contains("guides.json#/0/members/1"), "{not_taken}");
    for left in ["emails", "nickName", "costCenter", "x509Certificates", "title"] {
        assert!(not_taken.contains(&format!("`{left}` has no place here")), "{left}: {not_taken}");
    }
    for quiet in ["`password`", "t1me", "`externalId`", "`schemas`", "`department`", "`name`"] {
        assert!(!not_taken.contains(quiet), "{quiet}: {not_taken}");
    }
    let users = told(&folder.run(&["export", "users", "--format", "json"]));
    let bo = &users[0];
    assert_eq!(bo["full-name"], "Ms. Bo J Astrand, III");
    assert_eq!(bo["manager"], "user:jan@veyra.example");
    assert_eq!(
        (&bo["attributes.team"], &bo["attributes.given"]),
        (&json!("Spectra"), &json!("Bo"))
    );
    assert_eq!(bo["source-id"], "2819c223-7f76-453a-919d-413861904646");
    let members = told(&folder.run(&["export", "memberships", "--format", "json"]));
    assert_eq!(members.as_array().map(Vec::len), Some(2), "{members}");
    // The words of the standard's own group have a space, which no name here has.
    let spaced = group_named("Tour Guides");
    let folder = folder.with("guides.json", spaced);
    let run = import(&folder, &files);
    assert_eq!(run.code, Some(2), "{}", run.out);
    assert!(run.err.contains("guides.json#: `Tour Guides` is no name for a group"), "{}", run.err);
}

fn group_named(name: &str) -> String {
    group(name, "e9e30dba-f08f-4109-8486-d5c6a331660a", &[]).to_string()
}

#[test]
fn an_import_speaks_of_what_carries_its_source_alone() {
    let estate = r#"
[user.a]
source = "office"
source-id = "1"
full-name = "Old Name"
[user.b]
source = "office"
source-id = "2"
[user.local]
[user.other]
source = "elsewhere"
[group.g]
source = "office"
members = [
  "user:b",
  "user:local",
  { who = "user:a", until = 2030-01-01T00:00:00Z },
  { who = "user:other", until = 2026-01-01T00:00:00Z },
]
[group.own]
members = ["user:a", "user:b"]
"#;
    let write = ["x.json", "--write", "--at-most-gone", "100%", "--format", "json"];
    // Another name under the same id; b is gone; a group otherwise.
    let list = scim(json!([
        user("a2", "1", json!({ "active": false, "displayName": "New Name" })),
        user("c", "3", json!({})),
        group("g", "9", &["1", "3"]),
    ]));
    let folder = Folder::estate().and(estate).with("x.json", list);
    let run = import(&folder, &write);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let what = &told(&run)["import"];
    assert_eq!(what["renamed"], json!([["user:a", "user:a2"]]));
    assert_eq!(what["disabled"], json!(["user:a2", "user:b"]));
    assert_eq!(what["gone"], json!(["user:b"]));
    let text = std::fs::read_to_string(folder.file("bexum.toml")).expect("the file");
    for (there, is) in [
        ("[user.a2]", true),
        ("full-name = \"New Name\"", true),
        // Who is gone stays where they are, with the window that a place has; what is over goes.
        ("{ who = \"user:a2\", until = 2030-01-01T00:00:00Z }", true),
        ("members = [\"user:a2\", \"user:b\"]", true),
        ("\"user:local\"", false),
        ("{ who = \"user:other\"", false),
        ("\"user:c\"", true),
    ] {
        assert_eq!(text.contains(there), is, "{there}: {text}");
    }
    let g = text.split("[group.g]").nth(1).and_then(|rest| rest.split("[group").next());
    assert!(g.is_some_and(|g| g.contains("user:b")), "{text}");
    // What is said again enables again; what is not said stays.
    let list = scim(json!([
        user("a2", "1", json!({ "active": true })),
        user("b", "2", json!({})),
        user("c", "3", json!({})),
    ]));
    let folder = folder.with("x.json", list);
    let run = import(&folder, &write);
    let what = &told(&run)["import"];
    assert_eq!((&what["enabled"], &what["disabled"]), (&json!(["user:a2"]), &json!([])));
    // Of another source, or of none.
    for (name, why) in [("other", "of the source `elsewhere`"), ("local", "`--adopt` takes over")] {
        let folder =
            Folder::estate().and(estate).with("x.json", user(name, "5", json!({})).to_string());
        let run = import(&folder, &["x.json"]);
        assert!(run.code == Some(2) && run.err.contains(why), "{}{}", run.out, run.err);
    }
}

#[test]
fn many_gone_are_refused() {
    let people: String = (0..20).map(|i| format!("[user.u{i}]\nsource = \"office\"\n")).collect();
    let here = |count: usize| {
        let rows: String = (0..count).map(|i| format!("u{i}\n")).collect();
        format!("user\n{rows}")
    };
    let folder = Folder::estate().and(&people).with("x.csv", here(18));
    let before = texts(folder.path());
    assert_eq!(import(&folder, &["x.csv"]).code, Some(0));
    let folder = folder.with("x.csv", here(17));
    let run = import(&folder, &["x.csv", "--write", "--despite", "whatever"]);
    assert_eq!(run.code, Some(1), "{}", run.out);
    assert!(run.out.contains("3 of the 20 people of the source would be disabled"), "{}", run.out);
    assert!(
        run.out.starts_with("office: 17 users and 0 groups in the files\n  3 users are disabled")
    );
    let after = texts(folder.path());
    assert_eq!(before[Path::new("bexum.toml")], after[Path::new("bexum.toml")]);
    for said in ["3", "15%"] {
        let run = import(&folder, &["x.csv", "--at-most-gone", said]);
        assert_eq!(run.code, Some(0), "{}", run.err);
        assert!(run.out.ends_with("nothing was written; add `--write`\n"), "{}", run.out);
    }
    for bad in ["many", "-1", "101%", "10.5%"] {
        let run = import(&folder, &["x.csv", &format!("--at-most-gone={bad}")]);
        assert!(run.code == Some(2) && run.err.contains("is neither a number"), "{}", run.err);
    }
}

/// So many people are brought in at once that one file would hold more than anybody opens.
#[test]
fn many_new_people_come_into_several_files() {
    let rows: String =
        (0..4_000).map(|i| format!("p{i},Person {i} of the array,id-{i}\n")).collect();
    let all = format!("user,full-name,source-id\n{rows}");
    let folder = Folder::estate().with("people/users.toml", "[user.first]\n").with("all.csv", &all);
    let before = texts(folder.path());
    let run = import(&folder, &["all.csv", "--write"]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    let after = texts(folder.path());
    let changed: Vec<&str> = after
        .iter()
        .filter(|(path, text)| before.get(*path) != Some(*text))
        .map(|(path, _)| path.to_str().expect("a name"))
        .collect();
    assert_eq!(changed, ["people/users-002.toml", "people/users.toml"]);
    for (path, text) in &after {
        assert!(text.len() < 257 * 1024, "{} has {} bytes", path.display(), text.len());
    }
    let tables = after.values().map(|text| text.matches("[user.p").count());
    assert_eq!(tables.sum::<usize>(), 4_000);
    let again = import(&folder, &["all.csv", "--write"]);
    assert!(again.out.ends_with("nothing changes in the files\n"), "{}", again.out);
    // The next file has the next free name, and one that was asked for takes all.
    let more = all.replace("\np", "\nq").replace(",id-", ",more-");
    let folder = folder.with("more.csv", more);
    let next = ["more.csv", "--source", "guests", "--at-time", AT, "--write"];
    let run = folder.run(&[&["import"], &next[..], &["--file", "people/guests.toml"]].concat());
    assert_eq!(run.code, Some(0), "{}", run.err);
    let written = texts(folder.path());
    assert_eq!(written.len(), after.len() + 2, "the list and one file are new");
    let guests = &written[Path::new("people/guests.toml")];
    assert_eq!(guests.matches("[user.q").count(), 4_000);
    std::fs::remove_file(folder.file("people/guests.toml")).expect("a file");
    let run = folder.run(&[&["import"], &next[..]].concat());
    assert_eq!(run.code, Some(0), "{}", run.err);
    assert!(texts(folder.path()).contains_key(Path::new("people/users-003.toml")));
}

#[test]
fn a_group_that_is_gone_is_emptied_only_where_that_opens_nothing() {
    let estate = r#"
[kind.box]
observe = ["look"]
alter = ["break"]
[account.w]
[resource."w/a"]
kind = "box"
[user.u]
source = "office"
[user.v]
source = "office"
[group.readers]
source = "office"
members = "user:u"
[group.barred]
source = "office"
members = "user:u"
[group.here]
source = "office"
"#;
    let rules = r#"
[[policy.look.allow]]
do = "box.*"
[[policy.bar.deny]]
do = "box.break"
[[attach]]
policy = "look"
to = ["group:readers", "user:u"]
at = "w"
[[attach]]
policy = "bar"
to = "group:barred"
at = "w"
"#;
    let list = scim(json!([
        user("u", "1", json!({})),
        user("v", "2", json!({})),
        group("here", "3", &["1"])
    ]));
    let folder = Folder::estate().and(&format!("{estate}{rules}")).with("x.json", list);
    let run = import(&folder, &["x.json", "--write", "--format", "json"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let what = &told(&run)["import"];
    assert_eq!(
        (&what["emptied"], &what["kept"]),
        (&json!(["group:readers"]), &json!(["group:barred"]))
    );
    let members = told(&folder.run(&["export", "memberships", "--format", "json"]));
    let groups: Vec<&str> =
        members.as_array().expect("rows").iter().filter_map(|row| row["group"].as_str()).collect();
    assert!(groups.contains(&"group:barred") && !groups.contains(&"group:readers"), "{groups:?}");
}

/// Files that nobody wrote in good faith, or that were cut off: a message with its place, nothing
/// written, nothing of the estate touched.
#[test]
fn hostile_files_are_told_and_nothing_is_written() {
    let deep = "[".repeat(100_000);
    let deep_object = "{\"a\":".repeat(50_000);
    let long = "x".repeat(300_000);
    let one = |more: &str| {
        format!(
            r#"{{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"1","userName":"u"{more}}}"#
        )
    };
    let of_group = |more: &str| {
        format!(
            r#"{{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"id":"7","displayName":"g"{more}}}"#
        )
    };
    let two = |a: String, b: String| format!("[{a},{b}]");
    let whole = scim(json!([user("u", "1", json!({})), user("v", "2", json!({}))]));
    let ring = scim(json!([group("g", "1", &["2"]), group("h", "2", &["1"])]));
    let long_ring: Vec<Json> = (0..5_000)
        .map(|i| group(&format!("g{i}"), &format!("i{i}"), &[&format!("i{}", (i + 1) % 5_000)]))
        .collect();
    let files: Vec<(String, &str)> = vec![
        (String::new(), "there is nothing in it"),
        // Whoever stands below would seem to be gone.
        ("user,full-name\nu,\"U\nv,V\nw,W\n".into(), "x:2: no quote closes this cell"),
        ("user,full-name\nu,U\n\"v\" x,V\n".into(), "x:3: something follows the quote"),
        ("  \n\t ".into(), "there is nothing in it"),
        ("{".into(), "x:1:1: EOF"),
        ("[".into(), "x:1:1: EOF"),
        (deep, "x:1:128: recursion limit"),
        (deep_object, "recursion limit"),
        (whole[..whole.len() / 2].to_owned(), "x:1:"),
        (whole[..whole.len() - 2].to_owned(), "x:1:"),
        ("{}".into(), "x#: this is neither a user nor a group"),
        ("[]".into(), "there are no users and no groups"),
        ("[[]]".into(), "x#/0: this must be an object"),
        ("[1]".into(), "x#/0: this must be an object"),
        (r#"{"Resources": 3}"#.into(), "x#/Resources: this must be a list"),
        (r#"{"totalResults": 0}"#.into(), "there are no users and no groups"),
        (
            r#"{"totalResults": "2", "Resources": []}"#.into(),
            "x#/totalResults: this must be a number",
        ),
        (
            whole.replace("\"totalResults\":2", "\"totalResults\":500"),
            "says that there are 500, but 2",
        ),
        (two(one(""), one("")), "x#/1: the user `u` stands twice, first at x#/0"),
        (two(one(""), one("").replace("\"u\"", "\"w\"")), "the id `1` stands twice, first at x#/0"),
        (
            two(one(""), one("").replace("\"u\"", "\"U\"").replace("\"1\"", "\"2\"")),
            "differ in case alone",
        ),
        (two(one(""), of_group("").replace("\"7\"", "\"1\"")), "the id `1` stands twice"),
        (one(r#","id":"2""#), "the key `id` stands twice"),
        (one(r#","ID":"2""#), "the attribute `id` stands twice"),
        (one(r#","active":"yes""#), "x#/active: this must be `true` or `false`"),
        (one(r#","active":1"#), "x#/active: this must be `true` or `false`"),
        (one(r#","displayName":7"#), "x#/displayName: this must be a string"),
        (one(r#","name":"Ines""#), "x#/name: this must be an object"),
        (one(r#","manager":7"#), "x#/manager: this must be an object with `value`"),
        (one(r#","manager":{"value":[]}"#), "x#/manager/value: this must be a string"),
        (one("").replace("\"u\"", "7"), "x#/userName: this must be a string"),
        (one("").replace("\"u\"", "\"\""), "this user has no `userName`"),
        (one("").replace("\"u\"", "null"), "this user has no `userName`"),
        (one("").replace("\"u\"", "\"a b\""), "`a b` is no name for a user"),
        (one("").replace("\"u\"", "\"../../etc\""), "`../../etc` is no name for a user"),
        (one("").replace("\"u\"", r#""a\u0000b""#), "is no name for a user"),
        (one("").replace("\"u\"", r#""a\u202eb""#), "is no name for a user"),
        (one("").replace("\"u\"", &format!("\"{long}\"")), "is no name for a user"),
        (one("").replace("\"u\"", "\"-u\""), "`-u` is no name for a user"),
        (one("").replace("\"1\"", "5"), "x#/id: this must be a string"),
        (of_group(r#","members":"u""#), "x#/members: this must be a list"),
        (of_group(r#","members":["u"]"#), "x#/members/0: this must be an object with `value`"),
        (
            of_group(r#","members":[{"value":3}]"#),
            "x#/members/0: this must be an object with `value`",
        ),
        (of_group(r#","members":[{"value":"7"}]"#), "ring: group:g > group:g"),
        (ring, "groups hold each other in a ring"),
        (scim(Json::Array(long_ring)), "groups hold each other in a ring"),
        (of_group("").replace("\"g\"", "\"\""), "this group has no `displayName`"),
        ("user,enabled\nu,perhaps\n".into(), "x:2: `perhaps` is neither `true` nor `false`"),
        ("user,enabled\nu\n".into(), "x:2: this row has 1 cells, the first one has 2"),
        ("user,enabled\n\"u,true\n".into(), "x:2: no quote closes this cell"),
        ("user\n".into(), "x:1: there is no row"),
        ("name,mail\nu,m\n".into(), "x:1: no column is called `user`"),
        ("user,user\nu,v\n".into(), "x:1: the column `user` says again"),
        ("user,userName\nu,v\n".into(), "x:1: the column `userName` says again"),
        ("user\nu\nu\n".into(), "x:3: the user `u` stands twice, first at x:2"),
        ("user\n\"\"\n".into(), "x:2: `` is no name for a user"),
        ("group,member\ng,\n".into(), "x:2: a row of memberships needs a group and a member"),
        ("member\nu\n".into(), "x:1: no column `group`"),
        ("group,member,from\ng,user:u,soon\n".into(), "x:2: `soon` is no time"),
        (
            "group,member,from,until\ng,user:u,2027-01-01T00:00:00Z,2026-01-01T00:00:00Z\n".into(),
            "x:2: 2027-01-01T00:00:00Z is not before",
        ),
        ("group,member\ng,group:g\n".into(), "ring: group:g > group:g"),
        ("user,attributes.id\nu,3\n".into(), "`attributes.id` is nothing that a user can have"),
    ];
    assert!(files.len() >= 50);
    for (text, why) in files {
        let folder = Folder::estate().and("[user.already]\n").with("x", &text);
        let before = texts(folder.path());
        let run = import(&folder, &["x", "--write", "--adopt", "--at-most-gone", "100%"]);
        let start: String = text.chars().take(120).collect();
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{start}: {}", run.err);
        assert!(run.err.contains(why), "{start}: {}", run.err);
        assert!(!run.err.contains("panicked"), "{start}: {}", run.err);
        assert_eq!(texts(folder.path()), before, "{start}");
    }
    let folder = Folder::estate().with("x", b"user\nu\n\xff\xfe\n");
    let run = import(&folder, &["x"]);
    assert!(
        run.code == Some(2) && run.err.contains("x:3: this row is not in UTF-8"),
        "{}",
        run.err
    );
}

#[test]
fn what_is_asked_badly_is_told() {
    let estate = "[user.u]\n[attributes.who]\nlevel = 'integer'\nsite = { type = 'string', one-of = ['mesa'] }\n[source.office]\nmap = { rank = 'attributes.level', desk = 'attributes.site' }\n";
    let folder = Folder::estate().and(estate);
    for (table, more, why) in [
        ("user,rank\nu,three\n", &[][..], "x.csv:2: `three` is no integer"),
        (
            "user,desk\nu,atoll\n",
            &[],
            "x.csv:2: `attributes.site` is declared as a string, one of 'mesa'",
        ),
        ("user,attributes.other\nu,x\n", &[], "the mapping: `attributes.other` is not declared"),
        (
            "user,attributes.sites\nu,x\n",
            &[],
            "error: the mapping: `attributes.sites` is not declared\n  help: did you mean `attributes.site`?",
        ),
        ("user\nu\n", &["--map", "rank"], "has no `=`"),
        ("user\nu\n", &["--map", "rank=level"], "fills no key"),
        ("user\nu\n", &["--map", "rank=name", "--map", "rank=manager"], "given twice"),
        ("user\nu\n", &["missing.csv"], "cannot read `missing.csv`"),
    ] {
        let folder = Folder::estate().and(estate).with("x.csv", table);
        let run = import(&folder, &[&["x.csv", "--adopt"], more].concat());
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{table}: {}", run.err);
        assert!(run.err.contains(why), "{table} {more:?}: {}", run.err);
    }
    // A mapping that is kept, and one that is typed and goes before it.
    let folder = folder.with("x.csv", "user,rank,grade\nu,3,4\n");
    let run = import(&folder, &["x.csv", "--adopt", "--write"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert!(run.out.contains("`grade` has no place here"), "{}", run.out);
    let level = |folder: &Folder| {
        let users = told(&folder.run(&["export", "users", "--format", "json"]));
        let users = users.as_array().expect("rows");
        let user = users.iter().find(|row| row["user"] == "user:u").expect("the user");
        user["attributes.level"].clone()
    };
    assert_eq!(level(&folder), 3);
    let run = import(&folder, &["x.csv", "--write", "--map", "grade=attributes.level"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert_eq!(level(&folder), 4);
    let run = folder.run(&["import", "x.csv", "--source", "an office"]);
    assert!(run.code == Some(2) && run.err.contains("is no name for a source"), "{}", run.err);
    let bad = Folder::estate().and("[source.office]\nmap = { rank = 'level' }\n").run(&["show"]);
    assert!(
        bad.code == Some(2) && bad.err.contains("`level` is no key that an import fills"),
        "{}",
        bad.err
    );
    // Somebody who may not change users may not import any.
    let demo = Folder::demo();
    let run = import(&demo, &["office/october.json", "--adopt", "--by", "user:sol", "--write"]);
    assert_eq!(run.code, Some(1), "{}{}", run.out, run.err);
    assert!(run.out.contains("user:sol may not make this change"), "{}", run.out);
}
