//! `bexum replay`: a line in, a line out.

use serde_json::{Value, json};

use crate::support::{AT, Folder, command, run_unread};

fn replay(args: &[&str], input: impl AsRef<[u8]>) -> (Option<i32>, Vec<Value>, String) {
    let mut all = vec!["replay", "--at-time", AT];
    all.extend(args);
    let run = Folder::demo().run_with(&all, input);
    let lines = run.out.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    (run.code, lines, run.err)
}

#[test]
fn answers_come_in_order_with_their_ids() {
    let input = r#"{"who":"user:ines","does":"store.list","on":"veyra/survey/spectra","id":"a"}
{"who":"user:ines","does":"recording.erase","on":"veyra/survey/spectra/imaging/x","id":7}

{"who":"user:ines","does":"store.list","on":"veyra/survey/spectra"}
{"who":"user:nobody","does":"store.list","on":"veyra/survey/spectra","id":"bad"}
not json
"#;
    let (code, lines, err) = replay(&[], input);
    assert_eq!(code, Some(0));
    assert_eq!(lines[0], json!({"id": "a", "verdict": "allow", "reason": "granted"}));
    assert_eq!(lines[1], json!({"id": 7, "verdict": "deny", "reason": "denied"}));
    assert_eq!(lines[2]["id"], 4, "a line without an id has its number, blank lines counted");
    assert_eq!(lines[3]["id"], "bad");
    assert!(
        lines[3]["error"].as_str().expect("an error").contains("`user:nobody` is not declared")
    );
    assert_eq!(lines[4]["id"], 6);
    assert_eq!(lines.len(), 5);
    assert_eq!(
        err,
        "5 requests: 2 granted, 0 over-ceiling, 0 not-granted, 1 denied, 0 role-refused, 0 disabled, 2 errors\n"
    );
    let (code, ..) = replay(&["--strict"], input);
    assert_eq!(code, Some(2));
}

#[test]
fn why_names_the_deciding_statements() {
    let input = r#"{"who":"user:tomas","does":"recording.erase","on":"veyra/survey/spectra/imaging/x"}
{"who":"user:juno","does":"job.submit","on":"veyra/survey/reduction/transit/x"}
{"who":"user:sol","does":"job.submit","on":"veyra/survey/reduction/transit/x"}"#;
    let (_, lines, _) = replay(&["--why"], input);
    assert_eq!(lines[0]["why"], json!(["keep-raw \"raw stays\""]));
    assert_eq!(lines[1]["why"], json!(["look-only \"play\""]));
    assert_eq!(lines[2]["why"], json!([]));
}

#[test]
fn every_field_is_understood() {
    let input = json!({
        "who": "user:noor", "does": "secret.open", "on": "veyra/core/vault/dish-keys/dish-1",
        "as": "role:dish-keeper", "also": "group:auditors", "under": [],
        "given": {"mfa": true, "ip": "10.20.0.1", "device": {"managed": true}, "gone": null,
                    "time": "2026-10-05T22:00:00+02:00"},
        "item": {"marks": ["a", "b"]}, "id": "x",
    });
    let (_, lines, _) = replay(&[], input.to_string());
    // Auditors may not open secrets, and a deny follows into every role.
    assert_eq!(lines[0], json!({"id": "x", "verdict": "deny", "reason": "denied"}));
}

#[test]
fn what_the_format_refuses() {
    let base = r#""who":"user:ines","does":"store.list","on":"veyra/survey/spectra""#;
    for (more, said) in [
        (r#","whom":"x""#, "no field `whom`"),
        (r#","context":{}"#, "no field `context`: did you mean `given`?"),
        (r#","on":"veyra""#, "`on` is given twice"),
        (r#","given":{"a":1,"a":2}"#, "`a` is given twice"),
        (r#","given":{"a":{"b":[{"c":1,"c":1}]}}"#, "`c` is given twice"),
        (r#","as":null"#, "`as` must be a string, not null"),
        (r#","also":[null]"#, "`also` must be a string, not null"),
        (r#","given":{"a":1.0}"#, "no 64-bit integer"),
        (r#","given":{"a":1e3}"#, "no 64-bit integer"),
        (r#","given":{"a":9223372036854775808}"#, "no 64-bit integer"),
        (r#","given":{"a":[1,"x"]}"#, "a list of several types"),
        (r#","given":{"a":[[]]}"#, "a list within a list"),
        (r#","given":{"a":[null]}"#, "a list with null in it"),
        (r#","given":{"a b":1}"#, "no attribute name"),
        (r#","given":{"time":null}"#, "`given.time` must be a time"),
        (r#","given":{"time":"noon"}"#, "`noon` is no time"),
        (r#","given":[]"#, "`given` must be an object"),
        (r#","item":{}"#, "describes a thing that the estate does not declare"),
        (r#","id":1.5"#, "`id` must be a string"),
        (r#","under":"phone-bok""#, "policy `phone-bok` is not declared"),
    ] {
        let (code, lines, _) = replay(&[], format!("{{{base}{more}}}\n"));
        assert_eq!(code, Some(0));
        let error = lines[0]["error"].as_str().unwrap_or_else(|| panic!("{more}: {}", lines[0]));
        assert!(error.contains(said), "{more}: {error}");
    }
    let (_, lines, _) = replay(&[], format!("{{{base},\"given\":{{\"a\":-0}}}}"));
    assert_eq!(lines[0]["verdict"], "allow", "minus zero is an integer");
    let (_, lines, _) =
        replay(&[], format!("{{\"id\":\"kept\",{base},\"given\":{{\"a\":\"\\ud800\"}}}}"));
    assert_eq!(lines[0]["id"], "kept", "a lone surrogate does not hide the id");
    assert!(lines[0]["error"].is_string());
    for (line, id) in [
        (r#"{"who": Infinity, "id": "q7"}"#, json!("q7")),
        (r#"{"a": {"id": 1}, "b": "id", "id" : 8, }"#, json!(8)),
        (r#"{"id": nope}"#, json!(1)),
        (r#"{"a\"id": "#, json!(1)),
        ("\"", json!(1)),
    ] {
        let (_, lines, _) = replay(&[], line);
        assert_eq!(lines[0]["id"], id, "{line}");
        assert!(lines[0]["error"].is_string());
    }
    for broken in ["[]", "7", "\"x\"", "{", "{}", "null", "\u{feff}{}", "{\"who\":1}"] {
        let (_, lines, _) = replay(&[], broken);
        assert!(lines[0]["error"].is_string(), "{broken}");
    }
}

#[test]
fn bytes_lines_and_nesting_that_are_too_much() {
    let mut input = b"\xff\xfe\n".to_vec();
    input.extend(vec![b'['; 100_000]);
    input.push(b'\n');
    input.extend(vec![b' '; 20 << 20]);
    input.extend(
        b"x\n{\"who\":\"user:ines\",\"does\":\"store.list\",\"on\":\"veyra/survey/spectra\"}",
    );
    let (code, lines, _) = replay(&[], input);
    assert_eq!(code, Some(0));
    let errors: Vec<&str> = lines.iter().filter_map(|line| line["error"].as_str()).collect();
    assert!(errors[0].contains("not UTF-8"), "{errors:?}");
    assert!(errors[1].contains("no JSON"), "{errors:?}");
    assert!(errors[2].contains("longer than"), "{errors:?}");
    assert_eq!(lines[3]["verdict"], "allow");
}

#[test]
fn input_that_cannot_be_read() {
    let folder = Folder::demo();
    for file in ["none.ndjson", "people"] {
        let run = folder.run(&["replay", file]);
        assert_eq!(run.code, Some(2));
        assert!(run.err.contains(file), "{}", run.err);
    }
}

#[test]
fn a_reader_that_goes_away_is_no_error() {
    let line = r#"{"who":"user:ines","does":"store.list","on":"veyra/survey/spectra"}"#;
    let folder = Folder::demo().with("many.ndjson", format!("{line}\n").repeat(20_000));
    assert_eq!(run_unread(&["replay", "many.ndjson"], folder.path()), Some(0));
}

#[test]
fn order_holds_over_many_batches() {
    let folder = Folder::demo();
    let mut input = String::new();
    for i in 0..30_000 {
        let who = ["ines", "lin", "sol", "nobody", "dag"][i % 5];
        let path = ["spectra", "maps"][i / 5 % 2];
        let long = if i % 7919 == 0 { "x".repeat(100_000) } else { String::new() };
        let line = json!({
            "id": i, "who": format!("user:{who}"), "does": "store.list",
            "on": format!("veyra/survey/{path}"), "given": { "note": long },
        });
        input.push_str(&format!("{line}\n"));
    }
    let run = folder.run_with(&["replay", "--at-time", AT], &input);
    assert_eq!(run.code, Some(0), "{}", run.err);
    let mut expected = 0;
    for line in run.out.lines() {
        let line: Value = serde_json::from_str(line).expect("JSON");
        assert_eq!(line["id"], expected);
        let reason = match expected % 5 {
            0 | 1 => "granted",
            2 => "not-granted",
            3 => "",
            _ => "disabled",
        };
        assert_eq!(line["reason"].as_str().unwrap_or_default(), reason, "{line}");
        expected += 1;
    }
    assert_eq!(expected, 30_000);
    assert!(run.err.contains("12000 granted") && run.err.contains("6000 errors"), "{}", run.err);
}

#[test]
fn whoever_asks_line_by_line_is_answered_line_by_line() {
    use std::io::{BufRead as _, BufReader, Write as _};
    use std::process::Stdio;
    let folder = Folder::demo();
    let mut child = command()
        .arg("replay")
        .current_dir(folder.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("the program starts");
    let mut stdin = child.stdin.take().expect("a pipe");
    let mut stdout = BufReader::new(child.stdout.take().expect("a pipe"));
    for id in 0..5 {
        let request = json!({ "id": id, "who": "user:ines", "does": "store.list", "on": "veyra/survey/maps" });
        stdin.write_all(format!("{request}\n").as_bytes()).expect("a line goes in");
        stdin.flush().expect("all of it");
        let mut line = String::new();
        stdout.read_line(&mut line).expect("a line comes out");
        let answer: Value = serde_json::from_str(&line).expect("JSON");
        assert_eq!(answer["id"], id);
    }
    drop(stdin);
    assert!(child.wait().expect("it ends").success());
}

#[test]
fn common_lines_and_careful_reading_come_to_the_same() {
    use bexum_synth::{Layout, Model, Requests, Size, write_estate};
    let size = Size { scopes: 900, users: 120, groups: 40, attachments: 500, ..Size::S };
    let model = Model::new(size, 11);
    let folder = Folder::new();
    let root = folder.file("large");
    write_estate(&model, &root, Layout::default()).expect("the estate");
    let mut lines = String::new();
    let mut requests = Requests::new(&model, 3);
    (0..6_000).for_each(|id| requests.write_line(id, &mut lines));
    let quick = folder.run_with(&["-C", "large", "replay"], &lines);
    assert_eq!(quick.code, Some(0), "{}", quick.err);
    // With reasons nothing is read at a glance, nor where `who` is spelled with an escape.
    let careful = folder.run_with(&["-C", "large", "replay", "--why"], &lines);
    let spelled = lines.replace("{\"id\"", "{\"\\u0069d\"");
    let spelled = folder.run_with(&["-C", "large", "replay", "--threads", "3"], &spelled);
    let answers = |out: &str| -> Vec<(serde_json::Value, String)> {
        out.lines()
            .map(|line| serde_json::from_str::<serde_json::Value>(line).expect("JSON"))
            .map(|line| (line["id"].clone(), line["reason"].to_string()))
            .collect()
    };
    assert_eq!(answers(&quick.out), answers(&careful.out));
    assert_eq!(quick.out, spelled.out);
    for reason in ["granted", "not-granted", "denied", "role-refused", "over-ceiling"] {
        assert!(quick.out.contains(&format!("\"{reason}\"")), "{reason}: {}", quick.err);
    }
}
