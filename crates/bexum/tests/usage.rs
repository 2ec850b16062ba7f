//! `bexum usage` and `bexum trim`, on the demo and on files that are not as they should be.

use std::io::Write as _;

use serde_json::Value;

use crate::support::{Folder, Run};

const AT: &str = "2026-11-26T00:00:00Z";

fn usage(folder: &Folder, arguments: &[&str]) -> Run {
    let whole = [&["usage"], arguments, &["--at-time", AT]].concat();
    folder.run(&whole)
}

fn json(run: &Run) -> Value {
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}{}", run.out, run.err))
}

#[test]
fn the_log_of_the_demo_is_told() {
    let folder = Folder::demo();
    insta::assert_snapshot!(usage(&folder, &["log.ndjson"]).out);
    insta::assert_snapshot!(usage(&folder, &["log.ndjson", "--by", "membership"]).out);
    insta::assert_snapshot!(
        usage(&folder, &["log.ndjson", "--who", "user:ines", "--by", "action"]).out
    );
}

/// Every line of the shipped log is a request, and what was recorded is what is decided, but for what
/// the log is to show.
#[test]
fn the_log_of_the_demo_goes_with_it() {
    let told = json(&usage(&Folder::demo(), &["log.ndjson", "--format", "json"]));
    assert_eq!(told["errors"], 0);
    let otherwise = told["otherwise"].as_array().expect("a list");
    assert_eq!(otherwise.len(), 1, "{otherwise:?}");
    assert_eq!(otherwise[0]["action"], "user.rename");
}

#[test]
fn it_is_the_log_that_the_generator_writes() {
    let shipped = include_str!("../demo/log.ndjson");
    assert_eq!(shipped, bexum_synth::demo_log(7));
}

#[test]
fn summaries_of_parts_come_to_the_whole() {
    let folder = Folder::demo();
    let log = std::fs::read_to_string(folder.path().join("log.ndjson")).expect("a log");
    let lines: Vec<&str> = log.lines().collect();
    let (one, other) = lines.split_at(lines.len() / 3);
    for (name, part) in [("one", one), ("other", other)] {
        std::fs::write(folder.path().join(format!("{name}.ndjson")), part.join("\n"))
            .expect("written");
        let file = format!("{name}.json");
        let run = usage(&folder, &[&format!("{name}.ndjson"), "--save", &file]);
        assert_eq!(run.code, Some(0), "{}", run.err);
    }
    let csv = |logs: &[&str]| usage(&folder, &[logs, &["--format", "csv"]].concat()).out;
    let whole = csv(&["log.ndjson"]);
    assert_eq!(csv(&["one.json", "other.json"]), whole);
    assert_eq!(csv(&["one.json", "other.ndjson"]), whole);
    assert_eq!(csv(&["other.ndjson", "one.json"]), whole);
    assert_ne!(csv(&["one.json"]), whole);
    let run = usage(&folder, &["one.json", "--who", "user:ines"]);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("is a summary"), "{}", run.err);
}

#[test]
fn packed_logs_are_read() {
    let folder = Folder::demo();
    let log = std::fs::read(folder.path().join("log.ndjson")).expect("a log");
    // Two members, as when files are put one after the other.
    let mut gzip = Vec::new();
    for part in [&log[..40_000], &log[40_000..]] {
        let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        packer.write_all(part).expect("packed");
        gzip.extend(packer.finish().expect("packed"));
    }
    let mut zstd = Vec::new();
    for part in [&log[..40_000], &log[40_000..]] {
        let level = ruzstd::encoding::CompressionLevel::Fastest;
        zstd.extend(ruzstd::encoding::compress_to_vec(part, level));
    }
    let cut = gzip[..gzip.len() - 100].to_vec();
    for (name, bytes) in [("a.gz", gzip), ("a.zst", zstd), ("cut.gz", cut)] {
        std::fs::write(folder.path().join(name), bytes).expect("written");
    }
    let csv = |log: &str| usage(&folder, &[log, "--format", "csv"]);
    let plain = csv("log.ndjson").out;
    assert_eq!(csv("a.gz").out, plain);
    assert_eq!(csv("a.zst").out, plain);
    let cut = csv("cut.gz");
    assert_eq!((cut.code, cut.out.as_str()), (Some(2), ""), "{}", cut.err);
}

#[test]
fn lines_that_are_no_request_are_counted_and_told() {
    let folder = Folder::demo();
    let good = r#"{"who":"user:ines","does":"store.list","on":"veyra/survey/spectra"}"#;
    let text =
        format!("{good}\nnonsense\n\n{{\"who\":\"user:nobody\",\"does\":\"x.y\",\"on\":\"z\"}}\n");
    std::fs::write(folder.path().join("odd.ndjson"), text).expect("written");
    let run = usage(&folder, &["odd.ndjson"]);
    assert_eq!(run.code, Some(0));
    assert!(run.out.contains("2 lines are no request"), "{}", run.out);
    assert!(run.out.contains("first odd.ndjson:2:"), "{}", run.out);
    assert_eq!(usage(&folder, &["odd.ndjson", "--strict"]).code, Some(2));
    for wrong in [
        &["gone.ndjson"][..],
        &["people"],
        &["log.ndjson", "--who", "user:innes"],
        &["log.ndjson", "--do", "recording.raed"],
        &["log.ndjson", "--at", "veyra/nowhere"],
        &["log.ndjson", "--idle", "soon"],
        &["log.ndjson", "--save", "people"],
        &[],
    ] {
        let run = usage(&folder, wrong);
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{wrong:?}");
    }
    let half = "{\"usage-summary\":1,\"reasons\":{\"granted\":";
    std::fs::write(folder.path().join("half.json"), half).expect("written");
    let run = usage(&folder, &["half.json"]);
    assert_eq!((run.code, run.out.as_str()), (Some(2), ""));
    assert!(run.err.contains("no summary"), "{}", run.err);
}

/// Memberships that a condition names are used, though nothing is attached to the group.
#[test]
fn a_membership_that_a_statement_reads_is_used() {
    let folder = Folder::new().with(
        "bexum.toml",
        r#"[estate]
name = "V"
format = 1
[kind.store]
observe = ["list"]
[account.v]
[resource."v/s"]
kind = "store"
[user.ada]
[group.named]
members = ["user:ada"]
[group.silent]
members = ["user:ada"]
[policy.reader]
[[policy.reader.allow]]
do = "store.list"
when = "'named' in who.groups"
[[attach]]
policy = "reader"
to = "user:ada"
at = "v"
"#,
    );
    let line = r#"{"who":"user:ada","does":"store.list","on":"v/s"}"#;
    std::fs::write(folder.path().join("l.ndjson"), line).expect("written");
    let told = json(&usage(&folder, &["l.ndjson", "--by", "membership", "--format", "json"]));
    let rows = told["rows"].as_array().expect("rows").iter();
    let states: Vec<_> = rows.map(|row| (&row["thing"]["of"], &row["state"])).collect();
    let text = |text: &str| Value::from(text);
    assert_eq!(
        states,
        [(&text("group:named"), &text("used")), (&text("group:silent"), &text("never"))]
    );
    // So the one may go, and the other may not.
    let run = folder.run(&["trim", "--log", "l.ndjson", "--at-time", AT, "--format", "json"]);
    assert_eq!(
        json(&run)["edits"],
        serde_json::json!([
            "remove user:ada --from group:silent",
            "restate policy:reader 'allow 1' --on /v/s",
        ])
    );
}

fn trimmed(files: &str, log: &[&str]) -> Vec<String> {
    let head = "[estate]\nname = \"V\"\nformat = 1\n[kind.store]\nobserve = [\"list\"]\nalter = [\"write\"]\nitems = [\"file\"]\n[kind.file]\nobserve = [\"read\"]\n[account.v]\n[resource.\"v/s\"]\nkind = \"store\"\n[resource.\"v/t\"]\nkind = \"store\"\n[user.ada]\n[user.ben]\n";
    let folder = Folder::new().with("bexum.toml", format!("{head}{files}"));
    std::fs::write(folder.path().join("l.ndjson"), log.join("\n")).expect("written");
    let run = folder.run(&["trim", "--log", "l.ndjson", "--at-time", AT, "--format", "json"]);
    let told = json(&run);
    let edits = told["edits"].as_array().expect("edits").iter();
    edits.map(|edit| edit.as_str().expect("a line").to_owned()).collect()
}

const LISTS: &str = r#"{"who":"user:ada","does":"store.list","on":"v/s"}"#;
const READS: &str = r#"{"who":"user:ada","does":"file.read","on":"v/s/x"}"#;
const ALL: &str = "[policy.all]\n[[policy.all.allow]]\ndo = \"*\"\n[[attach]]\npolicy = \"all\"\nto = \"user:ada\"\nat = \"v\"\n";

#[test]
fn trim_does_not_fall_into_traps() {
    // Nobody uses the group, but it carries a deny.
    let deny = "[group.g]\nmembers = [\"user:ada\"]\n[policy.no]\n[[policy.no.deny]]\ndo = \"store.write\"\n[[attach]]\npolicy = \"no\"\nto = \"group:g\"\nat = \"v/t\"\n";
    let statement = "[policy.lists]\n[[policy.lists.allow]]\ndo = [\"store.list\", \"store.write\"]\n[[attach]]\npolicy = \"lists\"\nto = \"user:ada\"\nat = \"v\"\n";
    let edits = trimmed(&format!("{deny}{statement}"), &[LISTS]);
    // Once nobody can write, the deny holds nobody back: then, and not before, the place may go.
    let place = edits.iter().position(|edit| edit == "remove user:ada --from group:g");
    let action = edits.iter().position(|edit| edit.contains("restate policy:lists"));
    assert!(action < place, "{edits:?}");
    // What only denies is never detached.
    assert!(!edits.iter().any(|edit| edit.contains("detach policy:no")), "{edits:?}");

    // A ceiling's only allow stays: without it nothing would be bounded.
    let ceiling = "[policy.look]\n[[policy.look.allow]]\ndo = [\"store.list\", \"file.read\"]\n[[ceiling]]\npolicy = \"look\"\n";
    let edits = trimmed(&format!("{ceiling}{ALL}"), &[LISTS]);
    assert!(!edits.iter().any(|edit| edit.contains("policy:look")), "{edits:?}");

    // What bounded a session of the log may be attached as well, and is used in both ways.
    let look = "[policy.look]\n[[policy.look.allow]]\ndo = [\"store.list\", \"file.read\"]\n[[attach]]\npolicy = \"look\"\nto = \"user:ada\"\nat = \"v/t\"\n";
    let reads = "[policy.reads]\n[[policy.reads.allow]]\ndo = \"file.read\"\n[[attach]]\npolicy = \"reads\"\nto = \"user:ada\"\nat = \"v/s\"\n";
    let bounded = READS.replace('}', ",\"under\":\"look\"}");
    let lists = LISTS.replace("v/s", "v/t");
    let files = format!("{look}{reads}");
    let edits = trimmed(&files, &[&lists, &bounded]);
    let fewer = |edits: &[String]| edits.iter().any(|edit| edit.contains("look 'allow 1' --do"));
    assert!(!fewer(&edits), "{edits:?}");
    let edits = trimmed(&files, &[&lists, READS]);
    assert!(fewer(&edits), "{edits:?}");

    // A deny reads a membership that nothing else uses.
    let reads = "[group.g]\nmembers = [\"user:ada\"]\n[policy.guard]\n[[policy.guard.deny]]\ndo = \"store.list\"\nwhen = \"not ('g' in who.groups)\"\n[[attach]]\npolicy = \"guard\"\nto = \"everyone\"\nat = \"v\"\n";
    let edits = trimmed(&format!("{reads}{ALL}"), &[LISTS]);
    assert!(!edits.iter().any(|edit| edit.contains("group:g")), "{edits:?}");

    // A path that is less than the scope that was used stays as it is.
    let narrow = "[policy.some]\n[[policy.some.allow]]\ndo = \"file.read\"\non = \"s/x*\"\n[[attach]]\npolicy = \"some\"\nto = \"user:ada\"\nat = \"v\"\n";
    assert_eq!(trimmed(narrow, &[READS]), [""; 0]);
    // And one that is more becomes the scope.
    assert_eq!(
        trimmed(&narrow.replace("s/x*", "**"), &[READS]),
        ["restate policy:some 'allow 1' --on '/v/s/**'"]
    );
    assert_eq!(
        trimmed(ALL, &[LISTS]),
        ["restate policy:all 'allow 1' --do store.list", "restate policy:all 'allow 1' --on /v/s"]
    );

    // Locked policies, and those with a deny, are not changed.
    let locked = ALL.replace("[policy.all]", "[policy.all]\nlocked = true");
    assert_eq!(trimmed(&locked, &[LISTS]), [""; 0]);
    let mixed = ALL.replace("[[attach]]", "[[policy.all.deny]]\ndo = \"store.write\"\n[[attach]]");
    assert_eq!(trimmed(&mixed, &[LISTS]), [""; 0]);
}

#[test]
fn trim_says_what_it_takes_and_writes_it() {
    let folder = Folder::demo();
    let trim = |more: &[&str]| {
        folder.run(&[&["trim"], more, &["--log", "log.ndjson", "--at-time", AT]].concat())
    };
    let run = trim(&["group:imaging"]);
    insta::assert_snapshot!(run.out);
    assert_eq!(run.code, Some(0));
    let all = json(&trim(&["--format", "json"]));
    assert_eq!(all["is-decided"], true);
    let lines = |told: &Value| told["edits"].to_string();
    assert!(lines(&all).contains("restate policy:sandbox-player 'trial only' --do"), "{all}");
    let spared = json(&trim(&["--format", "json", "--keep", "*.@observe", "job.*"]));
    assert!(
        !lines(&spared).contains("restate policy:sandbox-player 'trial only' --do"),
        "{spared}"
    );

    let run = trim(&["group:imaging", "--write"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let again = trim(&["group:imaging"]);
    assert!(again.out.contains("nothing can be taken away"), "{}", again.out);
    for wrong in [
        &["group:imagin"][..],
        &["veyra/survey"],
        &["--keep", "recording.raed"],
        &["--draft", "policy:x"],
        &["--write", "--format", "json"],
    ] {
        let run = trim(wrong);
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{wrong:?}");
    }
}

#[test]
fn a_draft_allows_just_what_was_done() {
    let folder = Folder::demo();
    let draft = |more: &[&str]| {
        let whole = [&["trim", "--draft", "policy:daily", "--at-time", AT], more].concat();
        folder.run(&whole)
    };
    let run = draft(&["--for", "group:mesa-operators", "--log", "log.ndjson"]);
    insta::assert_snapshot!(run.out);
    let told = json(&draft(&[
        "--for",
        "user:sol",
        "--do",
        "recording.put",
        "store.list",
        "--at",
        "veyra/survey/maps",
        "--format",
        "json",
    ]));
    assert_eq!(
        told["edits"],
        serde_json::json!([
            "new policy:daily --about 'drafted for user:sol'",
            "allow policy:daily recording.put store.list",
            "attach policy:daily --to user:sol --at veyra/survey/maps",
        ])
    );
    // A seal lets no allow of further up through.
    let lines = [
        r#"{"who":"user:noor","does":"vault.list","on":"veyra/core/vault"}"#,
        r#"{"who":"user:noor","does":"vault.list","on":"veyra/core/vault/dish-keys"}"#,
    ];
    std::fs::write(folder.path().join("r.ndjson"), lines.join("\n")).expect("written");
    let told = json(&draft(&["--for", "user:sol", "--requests", "r.ndjson", "--format", "json"]));
    let attach =
        "attach policy:daily --to user:sol --at veyra/core/vault veyra/core/vault/dish-keys";
    assert!(told["edits"].to_string().contains(attach), "{told}");
    for wrong in [
        &["--for", "user:sol"][..],
        &["--for", "user:zol", "--log", "log.ndjson"],
        &["--for", "user:amara", "--do", "store.list", "--at", "veyra/nowhere"],
        &["--for", "user:dag", "--log", "log.ndjson"],
    ] {
        let run = draft(wrong);
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{wrong:?}");
    }
    let taken = folder.run(&[
        "trim",
        "--draft",
        "policy:archive-reader",
        "--for",
        "user:sol",
        "--log",
        "log.ndjson",
    ]);
    assert_eq!(taken.code, Some(2));
    assert!(
        taken.err.contains("is there already") || taken.err.contains("nothing"),
        "{}",
        taken.err
    );
}
