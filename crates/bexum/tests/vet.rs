//! `bexum vet`: every rule finds what it is for and not what nearly is; what mends it does.

use std::collections::BTreeSet;

use bexum_core::vet::RULES;
use serde_json::Value;

use crate::support::{AT, Folder};

/// What is found, by the rule's name and what it is about.
type Told = BTreeSet<(String, String)>;

fn json(folder: &Folder, args: &[&str]) -> Value {
    let all = [&["vet"], args, &["--format", "json", "--at-time", AT]].concat();
    let run = folder.run(&all);
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{args:?}: {error}: {run:?}"))
}

fn findings(folder: &Folder, args: &[&str]) -> Vec<Value> {
    json(folder, args)["findings"].as_array().expect("a list").clone()
}

fn told(findings: &[Value]) -> Told {
    let text = |value: &Value| value.as_str().expect("a text").to_owned();
    findings.iter().map(|one| (text(&one["rule"]), text(&one["about"]))).collect()
}

fn estate(text: &str) -> Folder {
    Folder::new().with("bexum.toml", text)
}

#[test]
fn every_rule_finds_its_example_and_not_what_nearly_is_one() {
    for rule in RULES {
        // An acceptance is stale where the rule that it names found nothing.
        let names: &[&str] = if rule.name == "stale-accept" { &[] } else { &[rule.name] };
        // One looks at a log; the others do not mind it.
        let lines = ["user:tomas", "user:lin"].map(|who| {
            format!("{{\"who\":\"{who}\",\"does\":\"store.list\",\"on\":\"veyra/survey/raw\"}}\n")
        });
        let names = [names, &["--log", "log.ndjson"]].concat();
        let names = &names[..];
        let with = estate(&rule.estate_with()).with("log.ndjson", lines.concat());
        let found = findings(&with, names);
        assert!(found.iter().any(|one| one["rule"] == rule.name), "{}", rule.name);
        let without = estate(&rule.estate_without()).with("log.ndjson", lines.concat());
        let without = findings(&without, names);
        let of_rule: Vec<_> = without.iter().filter(|one| one["rule"] == rule.name).collect();
        assert!(of_rule.is_empty(), "{}: {of_rule:?}", rule.name);
        for one in &found {
            let place = &one["labels"][0];
            assert_eq!(place["file"], "bexum.toml", "{one}");
            assert!(place["line"].as_u64() > Some(0), "{one}");
        }
    }
}

/// Each remedy by itself: what it is for is gone, and nothing comes.
#[test]
fn remedies_mend_and_break_nothing() {
    let mut count = 0;
    for rule in RULES {
        for one in findings(&estate(&rule.estate_with()), &[rule.name]) {
            let edits = one["remedy"].as_array().expect("a list");
            if edits.is_empty() {
                continue;
            }
            count += 1;
            let folder = estate(&rule.estate_with());
            let before = told(&findings(&folder, &[]));
            let lines: Vec<&str> = edits.iter().filter_map(Value::as_str).collect();
            let folder = folder.with("edits.txt", lines.join("\n"));
            let file = folder.file("edits.txt").display().to_string();
            let run = folder.run(&["edit", "--from", &file, "--write", "--despite", "a test"]);
            assert_eq!(run.code, Some(0), "{one}: {run:?}");
            let after = told(&findings(&folder, &[]));
            let name = (rule.name.to_owned(), one["about"].as_str().expect("a text").to_owned());
            assert!(!after.contains(&name), "{one}");
            let new: Vec<_> = after.difference(&before).collect();
            assert!(new.is_empty(), "{one}: {new:?}");
        }
    }
    assert!(count >= 6, "{count}");
}

#[test]
fn the_registry_is_sound() {
    let mut names = BTreeSet::new();
    for rule in RULES {
        assert!(names.insert(rule.name), "{} twice", rule.name);
        assert!(rule.name.bytes().all(|b| b.is_ascii_lowercase() || b == b'-'), "{}", rule.name);
        assert!(rule.why.ends_with('.') && !rule.finds.ends_with('.'), "{}", rule.name);
        let run = Folder::estate().run(&["vet", "--explain", rule.name]);
        assert_eq!(run.code, Some(0));
        assert!(run.out.contains(rule.example.trim_end().lines().next().expect("a line")));
    }
    let run = Folder::estate().run(&["vet", "--rules"]);
    for rule in RULES {
        assert!(run.out.contains(rule.name));
    }
}

/// Each case: more than the common estate has, the rule, and what is said, or nothing.
#[test]
fn corners_of_the_rules() {
    let preface = RULES[0].estate_with().replace(RULES[0].example, "");
    let cases: &[(&str, &str, &str)] = &[
        // A misspelt attribute, value and path, each with the right word.
        (
            "near-name",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"target.teir = 'raw'\"",
            "nothing in the estate has `target.teir`",
        ),
        (
            "near-name",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"who.team = 'imagin'\"",
            "has `who.team` = `imagin`",
        ),
        (
            "near-name",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\non = '/veyra/survay/**'",
            "nothing can lie at `survay`",
        ),
        (
            "near-name",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\non = 'survay/**'\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra'",
            "nothing can lie at `survay`",
        ),
        (
            "near-name",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"target.kind = 'stroe'\"",
            "`target.kind` = `stroe`",
        ),
        // Items may be called anything, and two names are no near one.
        (
            "near-name",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\non = '/veyra/survey/raw/rnu-1'",
            "",
        ),
        ("near-name", "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"target.tier = 'v2'\"", ""),
        (
            "near-name",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"given.mfaa\"\n[[policy.q.allow]]\ndo = '*'\nwhen = \"given.mfa\"\n[[policy.q.allow]]\ndo = '*'\nwhen = \"given.mfa and given.mfa\"",
            "elsewhere it is `given.mfa`",
        ),
        (
            "doubtful-deny",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"not (who.team = 'imaging')\"\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra'",
            "`user:ines` has no `who.team`",
        ),
        (
            "doubtful-deny",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"not (who.team = 'imaging')\"\n[[attach]]\npolicy = 'q'\nto = 'group:imaging'\nat = 'veyra'",
            "",
        ),
        (
            "doubtful-deny",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"who.clearance > 3\"",
            "nothing in the estate has `who.clearance`",
        ),
        (
            "doubtful-deny",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"given.mfa\"",
            "refuses whenever a request does not say `given.mfa`",
        ),
        (
            "doubtful-deny",
            "[policy.q]\n[[policy.q.deny]]\ndo = 'store.write'\nwhen = \"target.tier != 'raw'\"\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra/survey'",
            "",
        ),
        ("doubtful-deny", "[policy.q]\n[[policy.q.allow]]\ndo = '*'\nwhen = \"not given.mfa\"", ""),
        // What the remedy asks for is none: who has no team is not refused.
        (
            "doubtful-deny",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"who.team is set and who.team != 'imaging'\"\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra'",
            "",
        ),
        (
            "doubtful-deny",
            "[policy.q]\n[[policy.q.deny]]\ndo = '*'\nwhen = \"given.mfa != true and who.team = 'imaging'\"",
            "refuses where a request does not say `given.mfa`, unless the rest of the condition is false",
        ),
        (
            "awaited-name",
            "[policy.q]\n[[policy.q.allow]]\ndo = '*'\nwhen = \"who.id = 'user:yara'\"",
            "no user is called `yara`",
        ),
        (
            "awaited-name",
            "[policy.q]\n[[policy.q.allow]]\ndo = '*'\nwhen = \"'imagng' in who.groups\"",
            "no group is called `imagng`",
        ),
        (
            "awaited-name",
            "[policy.q]\n[[policy.q.allow]]\ndo = '*'\non = '/veyra/survey/{who.name}/**'\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra'",
            "waits at `veyra/survey/maps` for a user called `maps`",
        ),
        (
            "cannot-narrow",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.survey'\nwhen = \"target.tier = 'raw'\"\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra'",
            "`veyra` has no `target.tier`",
        ),
        // It applies to others, and where nothing says what tier it is.
        (
            "cannot-narrow",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.survey'\nwhen = \"target.tier = 'raw' or who.team = 'imaging'\"\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra'",
            "",
        ),
        (
            "cannot-narrow",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.survey'\nwhen = \"not target.tier = 'raw'\"\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra'",
            "",
        ),
        // A ceiling over everything bounds what is asked of the account.
        (
            "cannot-narrow",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.survey'\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra/survey'\n[[ceiling]]\npolicy = 'q'\nfor = 'group:imaging'",
            "",
        ),
        (
            "cannot-narrow",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.survey'\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra/survey'",
            "it is attached at `veyra/survey`",
        ),
        (
            "cannot-narrow",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.*'\non = 'survey/**'\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra'",
            "",
        ),
        (
            "tautology",
            "[policy.q]\n[[policy.q.allow]]\ndo = '*'\nwhen = \"who.team is set or who.team is not set\"",
            "is always true",
        ),
        (
            "tautology",
            "[policy.q]\n[[policy.q.allow]]\ndo = '*'\nwhen = \"given.mfa and (who.team = 'a' and who.team = 'b')\"",
            "can never be true: `who.team = 'a' and who.team = 'b'`",
        ),
        (
            "tautology",
            "[policy.q]\n[[policy.q.allow]]\ndo = '*'\nwhen = \"given.mfa or not given.mfa\"",
            "",
        ),
        (
            "tautology",
            "[group.all]\nmembers-when = \"who.team is set or who.team is not set\"",
            "is always true",
        ),
        (
            "never-matches",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.list'\non = '/veyra/survey/vault/**'\n[[attach]]\npolicy = 'q'\nto = 'group:imaging'\nat = 'veyra'",
            "can match nothing",
        ),
        (
            "never-matches",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'user.tag'\n[[attach]]\npolicy = 'q'\nto = 'group:imaging'\nat = 'veyra/survey'",
            "can match nothing",
        ),
        (
            "never-matches",
            "[policy.q]\n[[policy.q.deny]]\ndo = 'store.write'\nwhen = \"who.team = 'nobody'\"\n[[attach]]\npolicy = 'q'\nto = 'group:imaging'\nat = 'veyra'",
            "refuses nobody anything",
        ),
        // Nothing is said where nobody is, and a deny that is left undecided refuses.
        (
            "never-matches",
            "[group.none]\n[policy.q]\n[[policy.q.allow]]\ndo = 'store.list'\nwhen = \"who.team = 'x'\"\n[[attach]]\npolicy = 'q'\nto = 'group:none'\nat = 'veyra'",
            "",
        ),
        (
            "never-matches",
            "[policy.q]\n[[policy.q.deny]]\ndo = 'store.write'\nwhen = \"who.team != 'imaging' or given.x\"\n[[attach]]\npolicy = 'q'\nto = 'group:imaging'\nat = 'veyra'",
            "",
        ),
        (
            "outranked",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.list'\n[policy.w]\n[[policy.w.allow]]\ndo = 'store.write'\n[[ceiling]]\npolicy = 'q'\nfor = 'group:imaging'\n[[attach]]\npolicy = 'w'\nto = 'group:imaging'\nat = 'veyra'",
            "grants nothing to anybody",
        ),
        (
            "outranked",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.list'\n[policy.w]\n[[policy.w.allow]]\ndo = 'store.write'\n[[ceiling]]\npolicy = 'q'\nfor = 'user:lin'\n[[attach]]\npolicy = 'w'\nto = 'group:imaging'\nat = 'veyra'",
            "",
        ),
        (
            "no-effect",
            "[policy.q]\n[[policy.q.allow]]\ndo = '*'\n[[ceiling]]\npolicy = 'q'\nover = 'veyra/survey'\nfor = 'group:imaging'",
            "changes no decision for anybody",
        ),
        (
            "no-effect",
            "[group.twin]\nmembers = ['user:lin']\n[[attach]]\npolicy = 'reader'\nto = ['group:imaging', 'group:twin']\nat = 'veyra'",
            "user:lin in group:twin",
        ),
        (
            "over",
            "[group.g]\nmembers = [{ who = 'user:lin', until = 2026-10-20T00:00:00Z }]",
            "ends in 14 days",
        ),
        (
            "over",
            "[role.r]\ntaken-by = [{ who = 'user:lin', until = 2026-10-01T00:00:00Z }]",
            "is over since",
        ),
        (
            "few-owners",
            "[group.g]\nmembers-when = \"who.team = 'x'\"",
            "`group:g` has no enabled owner",
        ),
        ("unused-thing", "[kind.dish]\nobserve = ['look']", "names an action of `dish`"),
        (
            "unused-thing",
            "[policy.a]\ninclude = ['reader']\n[[attach]]\npolicy = 'a'\nto = 'everyone'\nat = 'veyra'",
            "",
        ),
        (
            "broad-allow",
            "[policy.q]\n[[policy.q.allow]]\ndo = 'store.share'\n[[attach]]\npolicy = 'q'\nto = 'everyone'\nat = 'veyra/survey/raw'",
            "allows `govern` to `everyone`",
        ),
        (
            "lockout",
            "[policy.q]\n[[policy.q.allow]]\ndo = '*'\n[[attach]]\npolicy = 'q'\nto = 'user:lin'\nat = 'veyra'",
            "`user:lin` alone can govern anything in `veyra`",
        ),
        (
            "wide-pattern",
            "[policy.q]\n[[policy.q.allow]]\ndo = ['store.l*t']",
            "`store.l*t` names one action alone: `store.list`",
        ),
        (
            "wide-pattern",
            "[policy.q]\n[[policy.q.allow]]\ndo = ['*.*s*', 'store.write', 'store.write']",
            "is within",
        ),
        // Somebody who may open the seal, or strike what refuses them.
        (
            "climb",
            "[policy.all]\n[[policy.all.allow]]\ndo = '*'\n[policy.tag]\n[[policy.tag.allow]]\ndo = 'store.share'\n[resource.'veyra/survey/vault']\nkind = 'store'\nsealed = true\n[[attach]]\npolicy = 'tag'\nto = 'user:ines'\nat = ['veyra/survey/vault']\n[[attach]]\npolicy = 'all'\nto = 'user:ines'\nat = 'veyra/survey'\n[edit-rights]\n'scope.seal' = 'store.share'",
            "in a step",
        ),
        (
            "climb",
            "[group.g]\njoin = 'open'\n[[attach]]\npolicy = 'reader'\nto = 'group:g'\nat = 'veyra'\n[edit-rights]\nno-more-than-own = true\n'group.members' = 'group.add-member'",
            "entering an open group",
        ),
    ];
    for (rule, text, said) in cases {
        let folder = estate(&format!("{preface}\n{text}\n"));
        let all = findings(&folder, &[rule]);
        let told: String = all.iter().map(|one| format!("{one}\n")).collect();
        match said.is_empty() {
            true => assert!(
                !told.contains("policy:q") && !told.contains("policy:a"),
                "{rule} {text}\n{told}"
            ),
            false => assert!(told.contains(said), "{rule} {text}\n{said}\n{told}"),
        }
    }
}

/// A ceiling bounds by what it allows: an allow that can match nothing is not struck from it, as it would
/// let everything through then.
#[test]
fn a_ceiling_is_not_emptied() {
    let common = RULES[0].estate_with().replace(RULES[0].example, "");
    let text = format!(
        "{common}\n[policy.shut]\n[[policy.shut.allow]]\ndo = '*'\nwhen = \"who.id = 'user:nobody'\"\n[[policy.shut.deny]]\ndo = 'store.write'\n[[ceiling]]\npolicy = 'shut'\nfor = 'user:ines'\n"
    );
    let folder = estate(&text);
    let all = findings(&folder, &["never-matches"]);
    let dead = all.iter().find(|one| one["about"] == "policy:shut allow 1").expect("it is told");
    assert!(dead["remedy"].as_array().is_some_and(Vec::is_empty), "{dead}");
    let run = folder.run(&["vet", "never-matches", "--at-time", AT]);
    assert!(run.out.contains("without its allows it would let everything"), "{run:?}");
    let run = folder.run(&["vet", "--fix", "never-matches", "--write", "--at-time", AT]);
    assert!(!run.out.contains("gains"), "{run:?}");
    assert_eq!(std::fs::read_to_string(folder.file("bexum.toml")).expect("the file"), text);
}

/// What is wrong is written right by the remedy, and nothing else of the file changes.
#[test]
fn a_slip_is_mended_in_the_file() {
    let rule = RULES.into_iter().find(|rule| rule.name == "near-name").expect("a rule");
    let folder = estate(&rule.estate_with());
    let run = folder.run(&["vet", "--fix", "near-name", "--write", "--at-time", AT]);
    assert_eq!(run.code, Some(0), "{run:?}");
    let text = std::fs::read_to_string(folder.file("bexum.toml")).expect("a file");
    assert!(text.contains("target.tier = 'raw'") && !text.contains("teir"), "{text}");
    assert_eq!(findings(&folder, &["near-name"]), Vec::<Value>::new());
    let run = folder.run(&["vet", "--fix", "near-name", "--write", "--at-time", AT]);
    assert!(run.out.contains("nothing that `near-name` finds here has a remedy"), "{run:?}");
}

/// All remedies of a rule together leave nothing that has one, and take nothing from anybody.
#[test]
fn all_that_has_no_effect_goes_and_nobody_notices() {
    let folder = Folder::demo();
    let reach = |folder: &Folder| {
        let run = folder.run(&["reach", "--level", "govern", "--format", "csv", "--at-time", AT]);
        assert_eq!(run.code, Some(0), "{run:?}");
        run.out
    };
    let before = reach(&folder);
    let run = folder.run(&["vet", "--fix", "no-effect", "--write", "--at-time", AT]);
    assert_eq!(run.code, Some(0), "{run:?}");
    assert!(
        run.out.contains("no access changes") || run.out.contains("No access changes"),
        "{run:?}"
    );
    assert_eq!(before, reach(&folder));
    let left = findings(&folder, &["no-effect"]);
    assert!(left.iter().all(|one| one["remedy"].as_array().is_some_and(Vec::is_empty)), "{left:?}");
}

/// A place in a group that brings nothing to who has it is read by those who may ask about its members.
#[test]
fn who_is_in_a_group_matters_to_those_who_ask() {
    let text = |who: &str| {
        format!(
            "estate = {{ name = 'm', format = 1 }}\n[kind.group]\nobserve = ['see']\n\
             [account.veyra]\n[user.lin]\n[user.oto]\n[user.ben]\n[group.crew]\nplace = 'veyra'\n\
             members = ['user:lin', 'user:oto']\nowners = ['user:ben']\n\
             [policy.viewer]\n[[policy.viewer.allow]]\ndo = 'group.see'\n\
             when = \"'{who}' in target.members\"\n\
             [[attach]]\npolicy = 'viewer'\nto = 'user:ben'\nat = 'veyra'\n"
        )
    };
    for (who, without_effect) in [("user:lin", &["user:oto"][..]), ("user:oto", &["user:lin"])] {
        let folder = estate(&text(who));
        let told = told(&findings(&folder, &["no-effect"]));
        let expected = without_effect.iter().map(|one| format!("{one} in group:crew"));
        assert_eq!(told, expected.map(|about| ("no-effect".to_owned(), about)).collect());
        // Nor is it held anyway.
        let until = ["--by", "user:ben", "--until", "2026-12-10", "--at-time", AT];
        let new = [&["review", "new", "crew", "--of", "group:crew"], &until[..]].concat();
        assert_eq!(folder.run(&new).code, Some(0));
        let run = folder.run(&["review", "crew", "--format", "json", "--at-time", AT]);
        let review: Value = serde_json::from_str(&run.out).expect("a review");
        for question in review["questions"].as_array().expect("questions") {
            assert_eq!(question["closes-nothing"], question["who"] != who, "{question}");
        }
    }
}

#[test]
fn severities_decide_the_exit_code() {
    let text = |more: &str| {
        let lockout = RULES.into_iter().find(|rule| rule.name == "few-owners").expect("a rule");
        format!("{}\n{more}", lockout.estate_with())
    };
    for (more, args, code) in [
        ("", &[][..], 0),
        ("", &["--fail-on", "warning"], 1),
        ("[vet]\n\"few-owners\" = \"error\"", &[], 1),
        ("[vet]\n\"few-owners\" = \"note\"", &["--fail-on", "warning"], 0),
        ("[vet]\n\"few-owners\" = \"note\"", &["--fail-on", "note"], 1),
        ("[vet]\n\"few-owners\" = \"off\"", &["--fail-on", "note"], 0),
        ("[vet]\n\"few-owners\" = { severity = \"error\" }", &[], 1),
        (
            "[[vet-accept]]\nrule = \"few-owners\"\nabout = \"group:transit\"\nwhy = \"x\"",
            &["--fail-on", "note"],
            0,
        ),
        // Its time is over, and then it counts again.
        (
            "[[vet-accept]]\nrule = \"few-owners\"\nabout = \"group:transit\"\nwhy = \"x\"\nuntil = 2026-01-01T00:00:00Z",
            &["--fail-on", "warning"],
            1,
        ),
    ] {
        let run =
            estate(&text(more)).run(&[&["vet", "few-owners", "--at-time", AT], args].concat());
        assert_eq!(run.code, Some(code), "{more} {args:?} {run:?}");
    }
}

#[test]
fn what_cannot_be_is_told() {
    let head = RULES[0].estate_with().replace(RULES[0].example, "");
    for (more, said) in [
        ("[vet]\n\"few-owner\" = \"off\"", "rule `few-owner` is not declared"),
        ("[vet]\n\"few-owners\" = \"of\"", "`severity` cannot be `of`"),
        ("[vet]\n\"few-owners\" = 3", "`severity` must be a string"),
        ("[vet]\n\"few-owners\" = { who = [\"group:imaging\"] }", "unknown key `who`"),
        (
            "[vet]\n\"endless-guest\" = { who = [\"group:nobody\"] }",
            "group `nobody` is not declared",
        ),
        ("[vet]\n\"endless-guest\" = { who = [\"policy:x\"] }", "is no principal here"),
        ("[vet]\n[user.x]\n[vet.climb]\nseverity = \"off\"\nsevere = 1", "unknown key `severe`"),
        ("[[vet-accept]]\nrule = \"few-owners\"\nwhy = \"x\"", "needs the key `about`"),
        (
            "[[vet-accept]]\nrule = \"few-owner\"\nabout = \"x\"\nwhy = \"x\"",
            "did you mean `few-owners`?",
        ),
        (
            "[[vet-accept]]\nrule = \"climb\"\nabout = \"x\"\nwhy = \"x\"\nuntil = \"soon\"",
            "`until` must be a date",
        ),
        ("vet = 3", "must be a table"),
    ] {
        let more = if more.starts_with("vet =") {
            format!("{more}\n{head}")
        } else {
            format!("{head}\n{more}")
        };
        let run = estate(&more).run(&["vet"]);
        assert_eq!(run.code, Some(2), "{more} {run:?}");
        assert!(run.err.contains(said), "{more}\n{said}\n{}", run.err);
    }
    let two = estate(&format!("{head}\n[vet]\n")).with("more.toml", "[vet]\n");
    assert!(two.run(&["vet"]).err.contains("table `vet` is declared twice"));
    for (args, said) in [
        (&["vet", "clim"][..], "did you mean `climb`?"),
        (&["vet", "--explain", "zzz"], "`bexum vet --rules` lists them"),
        (
            &["vet", "--fix", "climb", "--suppose", "disable user:sol"],
            "does not go with `--suppose`",
        ),
        (&["vet", "--write"], "--fix"),
        (&["vet", "--at-time", "soon"], "is no time"),
    ] {
        let run = Folder::demo().run(args);
        assert_eq!(run.code, Some(2), "{args:?} {run:?}");
        assert!(run.err.contains(said), "{args:?} {}", run.err);
    }
}

/// An edit keeps what `vet` is told, to the byte; who edits by a right of their own leaves it alone.
#[test]
fn edits_leave_it_alone() {
    let folder = Folder::demo();
    let before = std::fs::read_to_string(folder.file("vet.toml")).expect("a file");
    let run = folder.run(&["edit", "disable", "user:amara", "--write", "--despite", "a test"]);
    assert_eq!(run.code, Some(0), "{run:?}");
    assert_eq!(std::fs::read_to_string(folder.file("vet.toml")).expect("a file"), before);
}

/// The log is as OASIS's schema says, and what is accepted is in it, suppressed.
#[test]
fn sarif_is_as_its_schema_says() {
    let mut schema: Value =
        serde_json::from_str(include_str!("schemas/sarif-2.1.0.json")).expect("JSON");
    // Its patterns for languages are no regular expressions of JSON Schema's; the log names none.
    for what in ["run", "toolComponent"] {
        let language = &mut schema["definitions"][what]["properties"]["language"];
        language.as_object_mut().expect("a table").remove("pattern").expect("a pattern");
    }
    let validator = jsonschema::validator_for(&schema).expect("a schema");
    let run = Folder::demo().run(&["vet", "--format", "sarif", "--at-time", AT]);
    let log: Value = serde_json::from_str(&run.out).expect("JSON");
    let wrong: Vec<String> = validator.iter_errors(&log).map(|error| error.to_string()).collect();
    assert!(wrong.is_empty(), "{wrong:?}");
    let results = log["runs"][0]["results"].as_array().expect("a list");
    let of = |rule: &str| results.iter().filter(|one| one["ruleId"] == rule).collect::<Vec<_>>();
    assert!(results.len() > 5);
    let amara = of("direct-attachment");
    let amara = amara.iter().find(|one| one["suppressions"].is_array()).expect("one");
    assert_eq!(amara["suppressions"][0]["justification"], "the only book-keeper");
    let over = of("over");
    let place = &over[0]["locations"][0]["physicalLocation"];
    assert!(place["artifactLocation"]["uri"].as_str().is_some_and(|uri| uri.ends_with(".toml")));
    assert!(place["region"]["startLine"].as_u64() > Some(0));
}

#[test]
fn the_demo_is_told_as_an_administrator_would_read_it() {
    let run = Folder::demo().run(&["vet", "--at-time", AT]);
    assert_eq!(run.code, Some(0), "{run:?}");
    insta::assert_snapshot!(run.out);
}

/// Everything that was planted in a large estate is found.
#[test]
fn what_is_planted_is_found() {
    use bexum_synth::{Layout, Model, PLANTED, Size, write_estate};
    let size = Size::S;
    let folder = Folder::new();
    let layout = Layout { planted: true, ..Layout::default() };
    write_estate(&Model::new(size, 7), &folder.file("large"), layout).expect("the estate");
    let run = folder.run(&["-C", "large", "vet", "--format", "json"]);
    let told: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    let found = told["findings"].as_array().expect("findings");
    for (rule, about) in PLANTED {
        assert!(
            found.iter().any(|one| one["rule"] == rule && one["about"] == about),
            "{rule} of {about}"
        );
    }
}
