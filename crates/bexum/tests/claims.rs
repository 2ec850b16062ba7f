//! `bexum claims`, `--claims`, `show application:…`, and applications that do not load.

use serde_json::{Value as Json, json};

use crate::support::{AT, Folder, Run};

fn claims(folder: &Folder, arguments: &[&str]) -> Run {
    folder.run(&[&["claims"], arguments, &["--at-time", AT]].concat())
}

fn read(run: &Run) -> Json {
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}{}", run.out, run.err))
}

#[test]
fn the_demo_reads_well() {
    let folder = Folder::demo();
    let mut told = String::new();
    for (arguments, code) in [
        (&["user:ines", "gallery"][..], 0),
        (&["user:lin", "gallery"], 1),
        (&["user:lin", "logbook"], 0),
        (&["user:noor", "dish-desk", "--group", "group:fjord-operators"], 1),
        (&["user:theo", "dish-desk", "--also", "group:fjord-operators"], 0),
        (&["--all", "logbook"], 0),
    ] {
        let run = claims(&folder, arguments);
        assert_eq!(run.code, Some(code), "{}", run.err);
        told += &format!("$ bexum claims {}\n{}\n", arguments.join(" "), run.out);
    }
    told += &folder.run(&["show", "application:gallery", "--at-time", AT]).out;
    insta::assert_snapshot!(told);
}

/// One person for whom every reason holds of some group, as the application's table says them.
const REASONS: &str = r#"
[group.direct]
members = "user:u"
[group.outer]
members = "group:direct"
[group.later]
members = [{ who = "user:u", from = 2090-01-01T00:00:00Z }]
[group.old-crew]
members = "user:u"
[group.other]
[group.zenith]
members = "user:u"
"#;

#[test]
fn every_reason_is_told() {
    let of = |table: &str| {
        let folder =
            Folder::estate().and(&format!("[user.u]\n{REASONS}\n[application.a]\n{table}"));
        let run = claims(&folder, &["user:u", "a", "--format", "json"]);
        let told = read(&run);
        let groups = told["groups"].as_array().expect("groups");
        let why = |name: &str| {
            let group = groups.iter().find(|one| one["group"] == format!("group:{name}"));
            let group = group.unwrap_or_else(|| panic!("{name}: {told}"));
            group["why"].as_str().unwrap_or("seen").to_owned()
        };
        let names = ["direct", "outer", "later", "old-crew", "zenith"];
        (names.map(why).join(" "), run.code, told)
    };
    let (why, code, told) = of("names = ['*', '!old*']");
    assert_eq!((why.as_str(), code), ("seen only-through shut name seen", Some(0)));
    assert_eq!(told["claims"]["groups"], json!(["direct", "zenith"]));
    assert_eq!(told["signed"], false);
    let (why, ..) =
        of("open-to = ['group:direct', 'group:later', 'group:outer']\ngroups = 'listed'");
    assert_eq!(why, "seen only-through shut not-listed not-listed");
    let (why, _, told) = of("groups = 'none'");
    assert_eq!(why, "no-groups only-through shut no-groups no-groups");
    assert!(told["claims"].get("groups").is_none(), "{told}");
    let (why, _, told) =
        of("through = true\nat-most = 2\nbeyond = 'cut'\nas = 'id'\nclaim = 'crews'");
    assert_eq!(why, "seen cut shut seen cut");
    assert_eq!(told["claims"]["crews"], json!(["group:direct", "group:old-crew"]));
    let (why, code, told) = of("at-most = 2");
    assert_eq!((why.as_str(), code), ("left-out only-through shut left-out left-out", Some(0)));
    assert_eq!(told["claims"]["groups-left-out"], true);
    let (why, code, told) = of("at-most = 2\nbeyond = 'refuse'");
    assert_eq!((why.as_str(), code), ("refused only-through shut refused refused", Some(1)));
    assert_eq!((&told["claims"], &told["sign-in"]["why"]), (&Json::Null, &json!("too-many")));

    let folder = Folder::estate().and(&format!("[user.u]\n{REASONS}\n[application.a]"));
    let run = claims(&folder, &["user:u", "a", "--group", "group:other", "--format", "json"]);
    assert_eq!((run.code, &read(&run)["groups"][0]["why"]), (Some(1), &json!("not-in")));
}

#[test]
fn the_claims_of_a_token_are_circumstances() {
    let estate = "[user.u]\n[kind.desk]\nobserve = ['look']\n[account.w]\n[resource.'w/d']\nkind = 'desk'\n[application.a]\nclaim = 'crews'\n[group.night]\nmembers = 'user:u'\n[[policy.p.allow]]\ndo = '*'\nwhen = \"given.aud = 'a' and 'night' in given.crews and given.realm.level >= 2\"\n[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w'\n";
    let folder = Folder::estate().and(estate);
    let saved = claims(&folder, &["user:u", "a", "--save", "token.json"]);
    assert_eq!(saved.code, Some(0), "{}", saved.err);
    let text = std::fs::read_to_string(folder.file("token.json")).expect("the token");
    let mut token: Json = serde_json::from_str(&text).expect("JSON");
    let ask = |folder: &Folder, more: &[&str]| {
        let ask = ["ask", "user:u", "desk.look", "w/d", "--claims", "token.json", "--at-time", AT];
        folder.run(&[&ask[..], more].concat())
    };
    assert_eq!(ask(&folder, &[]).code, Some(1));
    token["realm"] = json!({ "level": 2 });
    token["https://veyra.example/x"] = json!("y");
    let folder = folder.with("token.json", token.to_string());
    let run = ask(&folder, &[]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert_eq!(
        run.err,
        "the claims are taken as they stand: no signature was checked\nleft out, since no condition can name them: `https://veyra.example/x`\n"
    );
    // The middle one of three parts, in base64url: the claims of before, then those that ended.
    let late = "eyJhdWQiOiJhIiwiY3Jld3MiOlsibmlnaHQiXSwicmVhbG0iOnsibGV2ZWwiOjJ9LCJleHAiOjB9";
    for token in [format!("e30.{late}.c2lnbmVk\n"), format!("{late}\n")] {
        std::fs::write(folder.file("token.json"), token).expect("written");
        let run = ask(&folder, &[]);
        assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
        assert!(
            run.err.ends_with("the token counts no more: it ended at 1970-01-01T00:00:00Z\n"),
            "{}",
            run.err
        );
    }
    for (token, more, why) in [
        ("e30.x", &[][..], "three parts"),
        ("e30.!!.x", &[], "base64url"),
        ("Ines", &[], "neither JSON nor a signed token, nor its middle part"),
        ("[1]", &[], "not an object"),
        ("", &[], "are no JSON"),
        ("e30.W10.x", &[], "not an object"),
        ("{", &[], "are no JSON"),
        (r#"{"a": 1, "a": 2}"#, &[], "stands twice"),
        (r#"{"a": 1.5}"#, &[], "a claim in `token.json`"),
        (r#"{"a": [{"b": 1}]}"#, &[], "a claim in `token.json`"),
        (r#"{"time": "2026-01-01T00:00:00Z"}"#, &[], "`--at-time`"),
        (r#"{"mfa": true}"#, &["--given", "mfa=false"], "is a claim too"),
    ] {
        let run = ask(&Folder::estate().and(estate).with("token.json", token), more);
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{token}");
        assert!(run.err.contains(why), "{token}: {}", run.err);
    }
}

#[test]
fn what_is_no_application_does_not_load() {
    for (table, message, hint) in [
        ("claim = 'roles'", "cannot be called `roles`", "claims already"),
        ("claim = 'x-left-out'", "cannot be called `x-left-out`", "claims already"),
        ("claim = ''", "cannot be called ``", "claims already"),
        ("open-to = []", "`open-to` must not be empty", ""),
        ("open-to = 'group:g'", "group `g` is not declared", ""),
        ("open-to = 'role:r'", "`role:r`", ""),
        ("groups = 'some'", "`groups` cannot be `some`", "`listed`"),
        ("names = ['!a']", "only excludes", ""),
        ("names = ['a/b']", "`a/b` is no pattern of names", ""),
        ("at-most = -1", "`at-most` must be a number of groups", ""),
        ("at-most = 'x'", "`at-most` must be a number of groups", ""),
        ("beyond = 'stop'", "`beyond` cannot be `stop`", "`flag`"),
        ("lasts = '1 hour'", "`1 hour` is no length of time", "`90m`"),
        ("roles = ['x']", "`roles` must be a table", ""),
        ("roles = { x = [] }", "`roles` must not be empty", ""),
        ("roles = { x = [1] }", "`roles` must be", ""),
        ("opened-to = 'everyone'", "unknown key `opened-to`", "`open-to`"),
    ] {
        let folder = Folder::estate().and(&format!("[application.a]\n{table}"));
        let run = folder.run(&["show", "applications"]);
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{table}");
        assert!(run.err.contains(message), "{table}: {}", run.err);
        assert!(run.err.contains(hint), "{table}: {}", run.err);
        assert!(run.err.contains("bexum.toml:"), "{table}: {}", run.err);
    }
    let twice = Folder::estate().and("[application.a]").with("more.toml", "[application.a]\n");
    let run = twice.run(&["show"]);
    assert!(run.code == Some(2) && run.err.contains("declared twice"), "{}", run.err);
}

#[test]
fn what_is_asked_badly_is_told() {
    let folder = Folder::demo();
    for (arguments, why) in [
        (&["user:ines"][..], "name the user and the application"),
        (&["user:ines", "galery"], "did you mean `gallery`?"),
        (&["user:inse", "gallery"], "did you mean `user:ines`?"),
        (&["group:imaging", "gallery"], "only users do"),
        (&["user:ines", "gallery", "--group", "imaging"], "group `imaging` is not declared"),
        (&["--all", "user:ines", "gallery"], "name the application alone"),
    ] {
        let run = claims(&folder, arguments);
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{arguments:?}");
        assert!(run.err.contains(why), "{arguments:?}: {}", run.err);
    }
}

/// Who is named in an application goes with their new name, and is not taken away unseen.
#[test]
fn applications_follow_edits() {
    let folder = Folder::demo();
    let run = folder.run(&["edit", "rename", "group:archive-keepers", "keepers", "--write"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let text = std::fs::read_to_string(folder.file("applications.toml")).expect("the file");
    assert_eq!(text.matches("\"group:keepers\"").count(), 2, "{text}");
    assert!(!text.contains("archive-keepers"), "{text}");
    let run = folder.run(&["edit", "delete", "group:keepers"]);
    assert_eq!(run.code, Some(2), "{}", run.out);
    assert!(run.err.contains("the application gallery"), "{}", run.err);
}
