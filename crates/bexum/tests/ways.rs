//! `bexum ways`: from a refusal to the smallest change, and back.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use serde_json::Value;

use crate::support::{AT, Folder};

const RAW: &str = "veyra/survey/spectra/imaging/run-0412.fits";
const LIN: [&str; 3] = ["user:lin", "job.cancel", "veyra/survey/reduction/transit/search-3"];

fn ways(folder: &Folder, args: &[&str]) -> (Option<i32>, String) {
    let all = [&["ways"], args, &["--at-time", AT]].concat();
    let run = folder.run(&all);
    (run.code, run.out + &run.err)
}

fn json(folder: &Folder, args: &[&str]) -> Value {
    let (_, out) = ways(folder, &[args, &["--format", "json"]].concat());
    serde_json::from_str(&out).unwrap_or_else(|error| panic!("{args:?}: {error}: {out}"))
}

#[test]
fn what_a_careful_colleague_would_do_comes_first() {
    let folder = Folder::demo();
    let mut out = String::new();
    for args in [
        &["user:tomas", "recording.erase", RAW][..],
        &["user:juno", "job.submit", "veyra/survey/reduction/transit/search-3"],
        &["user:amara", "secret.open", "veyra/core/vault/dish-keys/dish-1"],
        &["user:mirek", "dish.point", "veyra/instruments/mesa/dish-1"],
        &["user:rafi", "recording.erase", RAW],
        &["user:dag", "recording.read", RAW],
        &["user:ines", "recording.read", RAW, "--to", "deny", "--by", "user:tomas"],
        &["user:ines", "recording.read", RAW],
        &["user:rafi", "recording.erase", RAW, "--to", "deny"],
    ] {
        let (code, told) = ways(&folder, args);
        let _ = writeln!(out, "$ bexum ways {} (exit {code:?})\n{told}", args.join(" "));
    }
    insta::assert_snapshot!(out);
}

#[test]
fn a_way_is_shown_and_made_like_an_edit() {
    let folder = Folder::demo();
    let found = json(&folder, &LIN);
    let into_team = "put user:lin into group:transit";
    let all = found["ways"].as_array().expect("a list");
    let number = all.iter().position(|way| way["what"] == into_team).expect("it is there") + 1;
    let number = number.to_string();
    let before = std::fs::read_to_string(folder.file("people/groups.toml")).expect("a file");
    let (code, out) = ways(&folder, &[&LIN[..], &["--apply", &number]].concat());
    assert_eq!(code, Some(0), "{out}");
    assert!(out.contains("nothing was written; add `--write`"), "{out}");
    let text = || std::fs::read_to_string(folder.file("people/groups.toml")).expect("a file");
    assert_eq!(text(), before);
    let (code, out) = ways(&folder, &[&LIN[..], &["--apply", &number, "--write"]].concat());
    assert_eq!(code, Some(0), "{out}");
    assert_ne!(text(), before);
    let asked = folder.run(&[&["ask"], &LIN[..], &["--at-time", AT]].concat());
    assert_eq!(asked.code, Some(0), "{}", asked.out);
}

#[test]
fn what_breaks_an_expectation_is_not_written_without_a_reason() {
    let folder = Folder::demo();
    let asked = ["user:tomas", "recording.erase", RAW, "--apply", "1", "--write"];
    let (code, out) = ways(&folder, &asked);
    assert_eq!(code, Some(1), "{out}");
    assert!(out.contains("nothing was written: an expectation breaks by it"), "{out}");
    let (code, out) = ways(&folder, &[&asked[..], &["--despite", "a try"]].concat());
    assert_eq!(code, Some(0), "{out}");
}

#[test]
fn what_cannot_be_applied_is_told() {
    let folder = Folder::demo();
    let mirek = ["user:mirek", "dish.point", "veyra/instruments/mesa/dish-1", "--apply"];
    for (args, told) in [
        (&[&mirek[..], &["1"]].concat()[..], "it is another question"),
        (&[&mirek[..], &["99"]].concat(), "there is no way 99: 3 were found"),
        (&[&mirek[..], &["0"]].concat(), "there is no way 0"),
        (&["user:mirek", "dish.point", "veyra/instruments/mesa/dish-1", "--write"], "--apply"),
        (&["user:nobody", "dish.point", "veyra/instruments/mesa/dish-1"], "is not declared"),
        (
            &[&LIN[..], &["--apply", "1", "--suppose", "disable user:sol"]].concat(),
            "does not go with `--suppose`",
        ),
        (&[&LIN[..], &["--by", "user:nobody"]].concat(), "is not declared"),
    ] {
        let (code, out) = ways(&folder, args);
        assert_eq!(code, Some(2), "{args:?}: {out}");
        assert!(out.contains(told), "{args:?}: {out}");
    }
}

/// A locked policy is in nobody's way: its statements and what it says stay as they are.
#[test]
fn locked_policies_stay_as_they_are() {
    let folder = Folder::demo();
    let run = folder.run(&["edit", "set", "policy:keep-raw", "locked=true", "--write"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let found = json(&folder, &["user:tomas", "recording.erase", RAW, "--all"]);
    let all = found["ways"].as_array().expect("a list");
    assert!(!all.is_empty());
    for way in all {
        assert!(!way["edits"].to_string().contains("spare"), "{way}");
    }
}

/// Requests that are refused in the demo, as many as are asked for.
fn refusals(folder: &Folder, most: usize) -> Vec<[String; 3]> {
    let users = ["ines", "tomas", "lin", "sol", "mirek", "noor", "amara", "rafi", "juno", "eun"];
    let asked = [
        ("recording.read", RAW),
        ("recording.erase", RAW),
        ("recording.put", "veyra/survey/spectra/transit/run-1.fits"),
        ("store.list", "veyra/survey/spectra"),
        ("job.submit", "veyra/survey/reduction/nightly/a"),
        ("job.cancel", "veyra/survey/reduction/transit/search-3"),
        ("dish.point", "veyra/instruments/mesa/dish-1"),
        ("dish.stow", "veyra/instruments/fjord/dish-2"),
        ("secret.open", "veyra/core/vault/dish-keys/dish-1"),
        ("group.add-member", "veyra/people/imaging"),
        ("vault.list", "veyra/core/vault"),
        ("namespace.share", "veyra/survey/reduction/transit"),
    ];
    let mut found = Vec::new();
    for (action, path) in asked {
        for user in users {
            let who = format!("user:{user}");
            let run = folder.run(&["ask", &who, action, path, "--at-time", AT]);
            if run.code == Some(1) && found.len() < most {
                found.push([who, action.to_owned(), path.to_owned()]);
            }
        }
    }
    found
}

/// Following the first way, by running what is printed, gives the allow. `BEXUM_REFUSALS` says how
/// many refusals are tried.
#[test]
fn the_first_way_leads_there() {
    let most = std::env::var("BEXUM_REFUSALS").map_or(40, |n| n.parse().expect("a number"));
    let demo = Folder::demo();
    let refused = refusals(&demo, most);
    assert!(refused.len() >= 40, "{}", refused.len());
    let mut without = 0;
    for [who, action, path] in &refused {
        let found = json(&demo, &[who, action, path]);
        let Some(way) = found["ways"].get(0) else {
            without += 1;
            continue;
        };
        let folder = Folder::demo();
        if !way["edits"].as_array().is_some_and(Vec::is_empty) {
            let apply = [who, action, path, "--apply", "1", "--write", "--despite", "a try"];
            let (code, out) = ways(&folder, &apply);
            assert_eq!(code, Some(0), "{apply:?}: {out}");
        }
        let mut ask = vec!["ask".to_owned(), who.clone(), action.clone(), path.clone()];
        ask.extend(["--at-time".to_owned(), AT.to_owned()]);
        for (name, value) in way["options"]["given"].as_object().expect("a table") {
            ask.extend(["--given".to_owned(), format!("{name}={value}")]);
        }
        if let Some(role) = way["options"]["as"].as_str() {
            ask.extend(["--as".to_owned(), role.to_owned()]);
        }
        let run = folder.run_with(&ask, "");
        assert_eq!(run.code, Some(0), "{ask:?}: {way}\n{}{}", run.out, run.err);
    }
    assert!(without * 10 < refused.len(), "{without} of {} have no way", refused.len());
}

/// What `vet` finds, with these edits made in memory: rule and what it is about.
fn vetted(folder: &Folder, rules: &[String], edits: &[String]) -> BTreeSet<[String; 2]> {
    let mut args = vec!["vet", "--format", "json", "--at-time", AT];
    args.extend(rules.iter().map(String::as_str));
    edits.iter().for_each(|edit| args.extend(["--suppose", edit]));
    let run = folder.run(&args);
    let found: Value = serde_json::from_str(&run.out).unwrap_or_else(|_| panic!("{}", run.err));
    let text = |one: &Value, key: &str| one[key].as_str().expect("a text").to_owned();
    let all = found["findings"].as_array().expect("a list").iter();
    all.map(|one| [text(one, "rule"), text(one, "about")]).collect()
}

#[test]
fn findings_that_come_and_go_are_those_of_vet() {
    let folder = Folder::demo();
    let listed = folder.run(&["vet", "--rules"]).out;
    let severities = ["error", "warning", "note"];
    let names = listed.lines().filter_map(|line| {
        let mut words = line.split(' ').filter(|word| !word.is_empty());
        let severity = words.next().filter(|word| line.starts_with(word))?;
        words.next().filter(|_| severities.contains(&severity)).map(str::to_owned)
    });
    // Those who can climb alike are told together by `vet`, and each by itself by `ways`.
    let rules: Vec<String> =
        names.filter(|rule| *rule != "no-effect" && *rule != "climb").collect();
    assert!(rules.len() > 20, "{rules:?}");
    let before = vetted(&folder, &rules, &[]);
    let mut changes = 0;
    for args in [
        &LIN[..],
        &["user:ines", "recording.read", RAW, "--to", "deny"],
        &["user:tomas", "recording.erase", RAW],
        &["user:mirek", "dish.point", "veyra/instruments/mesa/dish-1"],
    ] {
        let found = json(&folder, args);
        for way in found["ways"].as_array().expect("a list") {
            let edits: Vec<String> = serde_json::from_value(way["edits"].clone()).expect("lines");
            if edits.is_empty() {
                assert_eq!(way["findings"], Value::Null);
                continue;
            }
            let told = |key: &str| -> BTreeSet<[String; 2]> {
                let all = way["findings"][key].as_array().expect("a list").iter();
                let text = |one: &Value, key: &str| one[key].as_str().expect("a text").to_owned();
                let all = all.map(|one| [text(one, "rule"), text(one, "about")]);
                all.filter(|[rule, _]| rule != "climb").collect()
            };
            let after = vetted(&folder, &rules, &edits);
            let alone = |one: &BTreeSet<_>, other: &BTreeSet<_>| {
                one.difference(other).cloned().collect::<BTreeSet<[String; 2]>>()
            };
            assert_eq!(told("come"), alone(&after, &before), "{edits:?}");
            assert_eq!(told("go"), alone(&before, &after), "{edits:?}");
            changes += told("come").len() + told("go").len();
        }
    }
    assert!(changes > 3, "only {changes} findings come or go");
}

#[test]
fn that_an_estate_is_too_large_for_vet_is_told() {
    let mut text = String::from(
        "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\n[account.w]\n",
    );
    for i in 0..150 {
        let _ = writeln!(text, "[resource.'w/s{i}']\nkind = 'store'\n[user.u{i}]");
    }
    let folder = Folder::new().with("bexum.toml", text);
    let run = folder.run(&["ways", "user:u1", "store.list", "w/s1"]);
    assert!(run.out.contains("was not looked at: it takes long here"), "{}{}", run.out, run.err);
    let found = json(&folder, &["user:u1", "store.list", "w/s1"]);
    assert!(found["ways"].as_array().expect("a list").iter().all(|way| way["findings"].is_null()));
}
