//! All JSON that is written is as its schema says, and the schemas stand in `docs/schemas`.

use std::path::Path;

use jsonschema::Validator;

use crate::support::{AT, Folder, SHOWN};

/// `BEXUM_DOCS=overwrite` writes them anew, for a person to read before committing.
#[test]
fn the_schemas_stand_in_the_docs() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    let overwrite = std::env::var("BEXUM_DOCS").is_ok_and(|value| value == "overwrite");
    for (name, schema) in bexum_wire::schemas() {
        let file = folder.join(format!("{name}.json"));
        let text = serde_json::to_string_pretty(&schema).expect("JSON") + "\n";
        if overwrite {
            std::fs::create_dir_all(&folder).expect("a folder");
            std::fs::write(&file, text).expect("a file");
        } else {
            let written = std::fs::read_to_string(&file).unwrap_or_default();
            assert_eq!(written, text, "docs/schemas/{name}.json is not the schema any more");
        }
    }
}

struct Shapes(Vec<(&'static str, Validator)>);

impl Shapes {
    fn new() -> Self {
        let compiled = bexum_wire::schemas().into_iter().map(|(name, schema)| {
            let compiled = jsonschema::validator_for(schema.as_value());
            (name, compiled.unwrap_or_else(|error| panic!("{name}: {error}")))
        });
        Self(compiled.collect())
    }

    fn check(&self, name: &str, text: &str) -> serde_json::Value {
        let value: serde_json::Value =
            serde_json::from_str(text).unwrap_or_else(|error| panic!("{name}: {error}: {text}"));
        let (_, shape) = self.0.iter().find(|(known, _)| *known == name).expect("a schema");
        let wrong: Vec<String> =
            shape.iter_errors(&value).map(|e| format!("{} at {}", e, e.instance_path())).collect();
        assert!(wrong.is_empty(), "{name}: {wrong:?}: {text}");
        assert_kebab_case(
            name,
            &value,
            &["given", "item", "allowed-when", "sources", "attributes"],
        );
        value
    }
}

/// Keys are kebab-case, but where they are names that people chose.
fn assert_kebab_case(name: &str, value: &serde_json::Value, chosen: &[&str]) {
    match value {
        serde_json::Value::Object(map) => {
            for (key, value) in map {
                let is_plain = key.bytes().all(|b| b.is_ascii_lowercase() || b == b'-');
                assert!(is_plain, "{name}: the key `{key}`");
                if !chosen.contains(&&**key) {
                    assert_kebab_case(name, value, chosen);
                }
            }
        }
        serde_json::Value::Array(items) => {
            items.iter().for_each(|item| assert_kebab_case(name, item, chosen));
        }
        _ => {}
    }
}

#[test]
fn what_is_written_is_as_its_schema_says() {
    let shapes = Shapes::new();
    let demo = Folder::demo();
    let json = |args: &[&str]| {
        let all: Vec<&str> =
            args.iter().chain(&["--format", "json", "--at-time", AT]).copied().collect();
        demo.run(&all).out
    };
    for question in [
        &[
            "ask",
            "resource:veyra/instruments/scheduler",
            "dish.stow",
            "veyra/instruments/fjord/dish-4",
        ][..],
        &["ask", "user:petra", "dish.stow", "veyra/instruments/fjord/dish-4"],
        &[
            "ask",
            "user:noor",
            "secret.open",
            "veyra/core/vault/dish-keys/x",
            "--as",
            "role:dish-keeper",
        ],
        &["ask", "user:noor", "secret.open", "veyra/core/vault/dish-keys/x"],
        &[
            "ask",
            "user:amara",
            "dish.calibrate",
            "veyra/instruments/mesa/dish-1",
            "--given",
            "ip=10.0.0.1",
            "--given",
            "wind=3",
        ],
        &[
            "ask",
            "user:ines",
            "recording.put",
            "veyra/survey/spectra/transit/x.fits",
            "--also",
            "group:transit",
        ],
        &[
            "ask",
            "user:rafi",
            "recording.erase",
            "veyra/survey/spectra/imaging/x",
            "--under",
            "look-only",
        ],
        &[
            "ask",
            "resource:veyra/survey/reducer",
            "recording.read",
            "veyra/survey/spectra/imaging/x",
        ],
    ] {
        let answer = shapes.check("ask", &json(question));
        assert_eq!(answer["version"], 1);
        assert_eq!(answer["request"]["does"], question[2]);
        let mut ways = question.to_vec();
        ways[0] = "ways";
        ways.extend(["--to", "deny"].iter().filter(|_| answer["verdict"] == "allow"));
        let found = shapes.check("ways", &json(&[&ways[..], &["--by", "user:tomas"]].concat()));
        assert_eq!(found["verdict"], answer["verdict"]);
    }
    let changed = Folder::demo().with(
        "more.toml",
        "[policy.q]\n[[policy.q.allow]]\ndo = '*'\n[[attach]]\npolicy = 'q'\nto = 'user:sol'\nat = 'veyra/survey'\n",
    );
    let after = changed.path().to_str().expect("a path");
    let impact = shapes.check("impact", &json(&["impact", ".", after]));
    assert!(!impact["cells"].as_array().expect("cells").is_empty(), "{impact}");
    for reach in [
        &["reach", "user:noor"][..],
        &["reach", "user:noor", "user:petra", "--sources"],
        &["reach", "user:noor", "--beside", "--given mfa=true"],
        &["reach", "--at", "veyra/core/vault/dish-keys"],
        &["reach", "--do", "secret.open", "--sources"],
        &["reach", "--level", "govern", "--without-roles"],
    ] {
        let rows = shapes.check("reach", &json(reach));
        assert!(!rows["rows"].as_array().expect("rows").is_empty(), "{reach:?}");
    }
    let report = shapes.check("prove", &json(&["prove"]));
    assert_eq!(report["broken"], 0);
    let broken = Folder::demo().with(
        "more.toml",
        "[[never]]\nwho = 'everyone'\ndoes = 'dish.stow'\non = '/veyra/**'\n[[apart]]\nany-two-of = ['group:staff', 'group:mesa-operators']\n[[check]]\nname = 'no'\nwho = 'user:dag'\ndoes = 'dish.stow'\non = 'veyra/instruments/mesa/dish-1'\nexpect = 'allow'\n[[never]]\nwho = 'user:noor'\ndoes = 'dish.stow'\non = '/veyra/**'\nwhen = \"given.ip within '10.0.0.0/8' and given.ip fits '*.7.*' and given.ip within '192.0.0.0/8'\"\n",
    );
    let run = broken.run(&["prove", "--everybody", "--format", "json", "--at-time", AT]);
    let report = shapes.check("prove", &run.out);
    assert_eq!(report["broken"], 3, "{}", run.out);
    assert_eq!(report["not-decided"], 1);
    shapes.check("show", &json(&["show"]));
    for what in SHOWN {
        shapes.check("show", &json(&["show", what]));
    }
    let users = shapes.check("show", &json(&["show", "users"]));
    let dag = &users["users"][1];
    assert_eq!(dag["user"], "user:dag");
    assert_eq!(dag["state"], "not-enabled");
    assert_eq!(dag["in-groups"][0], "group:mesa-operators");
    let scopes = shapes.check("show", &json(&["show", "scopes"]));
    assert_eq!(scopes["scopes"][0]["attributes"]["stage"], "production");
    assert_eq!(scopes["scopes"][4]["seal"], true);
    let role = shapes.check("show", &json(&["show", "role:dish-keeper"]));
    let fjord = &role["principal"]["taken-up-by"][1];
    assert_eq!(fjord["who"], "group:fjord-operators");
    assert_eq!(fjord["window"]["from"], "2026-01-01T00:00:00Z");
    assert_eq!(fjord["window"]["state"], "open");
    let requests = "{\"id\":\"a\",\"who\":\"user:noor\",\"does\":\"dish.stow\",\"on\":\"veyra/instruments/mesa/dish-1\"}\n{\"id\":7}\nno request\n";
    for args in [&["replay", "-"][..], &["replay", "-", "--why"]] {
        for line in demo.run_with(args, requests).out.lines() {
            shapes.check("replay", line);
        }
    }
}

/// Who asks for JSON is told in JSON why an estate does not load, with places and remedies.
#[test]
fn faults_are_told_to_machines() {
    let shapes = Shapes::new();
    let folder =
        Folder::estate().with("wrong.toml", "[user.lin]\nmanagr = 'user:tomas'\n[user.lin]\n");
    for command in [
        &["ask", "user:lin", "store.read", "v/s/store"][..],
        &["reach", "user:lin"],
        &["prove"],
        &["show", "users"],
    ] {
        let args: Vec<&str> = command.iter().chain(&["--format", "json"]).copied().collect();
        let run = folder.run(&args);
        assert_eq!(run.code, Some(2));
        assert!(run.err.contains("wrong.toml"), "{}", run.err);
        let told = shapes.check("faults", &run.out);
        let faults = told["faults"].as_array().expect("faults");
        let key = faults.iter().find(|fault| fault["code"] == "unknown-key").expect("the key");
        assert_eq!(key["labels"][0]["file"], "wrong.toml");
        assert_eq!(key["labels"][0]["line"], 2);
        assert_eq!(key["remedy"]["text"], "manager");
        assert_eq!(key["remedy"]["end-column"], 7);
        assert!(faults.iter().any(|fault| fault["labels"][1]["line"] == 1), "{told}");
    }
    let run = folder.run(&["show", "users"]);
    assert_eq!(run.out, "", "people are told on standard error alone");
}
