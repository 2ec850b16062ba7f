//! `bexum review`: opened, answered, closed, and what is not taken.

use serde_json::Value;

use crate::support::{Folder, Run};

const AT: &str = "2026-11-26T09:00:00Z";
const LATER: &str = "2026-11-27T10:00:00Z";
const AFTER: &str = "2026-12-11T00:00:00Z";

fn review(folder: &Folder, at: &str, arguments: &[&str]) -> Run {
    folder.run(&[&["review"], arguments, &["--at-time", at]].concat())
}

fn json(run: &Run) -> Value {
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}{}", run.out, run.err))
}

/// The demo with a review of the imaging group.
fn opened(more: &[&str]) -> Folder {
    let folder = Folder::demo();
    let new = ["new", "q4", "--of", "group:imaging", "--by", "owners", "--until", "2026-12-10"];
    let run = review(&folder, AT, &[&new[..], more].concat());
    assert_eq!(run.code, Some(0), "{}", run.err);
    folder
}

fn answer(folder: &Folder, who: &str, word: &str, by: &str) -> Run {
    review(folder, LATER, &["answer", "q4", who, "--of", "group:imaging", word, "--by", by])
}

#[test]
fn a_review_of_the_demo_reads_well() {
    let folder = opened(&[]);
    let run = review(&folder, AT, &["q4", "--log", "log.ndjson"]);
    insta::assert_snapshot!(run.out);
    assert_eq!(review(&folder, AT, &[]).out, "q4  0 of 6 answered, 13 days left\n");
}

/// The one who is in the group by mistake is recommended to go, for that; who is merely new is not.
#[test]
fn recommendations_have_the_right_reasons() {
    let folder = opened(&[]);
    let told = json(&review(&folder, AT, &["q4", "--log", "log.ndjson", "--format", "json"]));
    for question in told["questions"].as_array().expect("questions") {
        let grounds = question["grounds"].to_string();
        match question["who"].as_str() {
            Some("user:petra") => assert_eq!(grounds, "[\"unused\",\"unlike\"]"),
            _ => assert_eq!(grounds, "[]", "{question}"),
        }
    }
    // A disabled user, and one whose place in another group does the same.
    std::fs::write(
        folder.path().join("more.toml"),
        "[group.all]\nmembers = [\"user:dag\", \"user:ines\", \"group:imaging\", \"user:sol\"]\n[[attach]]\npolicy = \"archive-reader\"\nto = \"group:all\"\nat = \"veyra/survey\"\n",
    )
    .expect("written");
    let new = ["new", "all", "--of", "group:all", "--by", "user:amara", "--until", "2026-12-10"];
    assert_eq!(review(&folder, AT, &new).code, Some(0));
    let told = json(&review(&folder, AT, &["all", "--format", "json"]));
    let of = |who: &str| {
        let all = told["questions"].as_array().expect("questions");
        all.iter().find(|one| one["who"] == who).expect("it is asked").clone()
    };
    assert_eq!(of("user:dag")["grounds"], serde_json::json!(["disabled", "held-anyway"]));
    assert_eq!(of("user:ines")["grounds"], serde_json::json!(["held-anyway"]));
    assert_eq!(of("user:ines")["held-by"], "group:imaging");
    assert_eq!(of("user:sol")["grounds"], serde_json::json!([]));
    assert_eq!(of("user:sol")["closes-nothing"], false);
}

#[test]
fn only_who_is_asked_answers_in_time_and_not_about_themselves() {
    let folder = opened(&[]);
    let before = std::fs::read_to_string(folder.file("reviews.toml")).expect("it is there");
    let refused = |run: Run, why: &str| {
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{why}");
        assert!(run.err.contains(why), "{}", run.err);
    };
    refused(answer(&folder, "user:petra", "remove", "user:rafi"), "user:rafi is not asked this");
    refused(answer(&folder, "user:tomas", "keep", "user:tomas"), "nobody answers about themselves");
    refused(answer(&folder, "user:sol", "keep", "user:tomas"), "asks nothing about user:sol");
    refused(answer(&folder, "user:petra", "keep", "user:tomass"), "no user");
    let of = ["--of", "group:imaging", "keep", "--by", "user:tomas"];
    let at = |at: &str| review(&folder, at, &[&["answer", "q4", "user:petra"], &of[..]].concat());
    refused(at("2026-11-26T08:59:59Z"), "not open yet");
    refused(at("2026-12-10T00:00:00Z"), "was over");
    refused(
        review(
            &folder,
            AT,
            &["answer", "q5", "user:petra", "--of", "group:imaging", "keep", "--by", "user:tomas"],
        ),
        "no review is called",
    );
    assert_eq!(std::fs::read_to_string(folder.file("reviews.toml")).expect("still"), before);

    assert_eq!(answer(&folder, "user:petra", "keep", "user:ines").code, Some(0));
    assert_eq!(answer(&folder, "user:petra", "remove", "user:tomas").code, Some(0));
    // Of two that count, the one that says that it goes outweighs.
    let told = json(&review(&folder, LATER, &["q4", "--format", "json"]));
    assert_eq!(told["answered"], 1);
    let run = review(&folder, LATER, &["close", "q4"]);
    assert!(run.out.contains("-  \"user:petra\","), "{}", run.out);

    // What was written by hand and does not count is told.
    let by_hand = "\n[[review.q4.answer]]\nwho = \"user:rafi\"\nof = \"group:imaging\"\nanswer = \"remove\"\nby = \"user:sol\"\nanswered = 2026-11-28T00:00:00Z\n\n[[review.q4.answer]]\nwho = \"user:gone\"\nof = \"group:imaging\"\nanswer = \"remove\"\nby = \"user:tomas\"\nanswered = 2026-11-28T00:00:00Z\n";
    let text = std::fs::read_to_string(folder.file("reviews.toml")).expect("still") + by_hand;
    std::fs::write(folder.file("reviews.toml"), text).expect("written");
    let run = review(&folder, LATER, &["q4"]);
    assert!(
        run.out.contains("user:rafi of group:imaging, by user:sol: whoever answered was not asked"),
        "{}",
        run.out
    );
    assert!(
        run.out.contains("user:gone of group:imaging, by user:tomas: there is no such question"),
        "{}",
        run.out
    );
}

#[test]
fn closing_writes_what_was_answered_and_spares_what_is_newer() {
    let folder = opened(&["--unanswered", "remove"]);
    for (who, by) in
        [("user:rafi", "user:ines"), ("user:tomas", "user:ines"), ("user:ines", "user:tomas")]
    {
        assert_eq!(answer(&folder, who, "keep", by).code, Some(0), "{who}");
    }
    let groups = std::fs::read_to_string(folder.file("people/groups.toml")).expect("groups");
    let newer = groups.replace("\"user:rafi\",\n", "\"user:rafi\",\n  \"user:sol\",\n");
    assert_ne!(newer, groups);
    std::fs::write(folder.file("people/groups.toml"), newer).expect("written");
    let early = review(&folder, LATER, &["close", "q4"]);
    assert!(early.out.contains("nobody answered, and the review is not over"), "{}", early.out);
    assert!(early.out.contains("nothing follows"), "{}", early.out);

    let run = review(&folder, AFTER, &["close", "q4"]);
    assert!(run.out.contains("user:sol of group:imaging stays: it came after"), "{}", run.out);
    let despite = ["close", "q4", "--write", "--despite", "the owners said so"];
    let run = review(&folder, AFTER, &despite);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let groups = std::fs::read_to_string(folder.file("people/groups.toml")).expect("groups");
    let imaging =
        groups.split("[group.imaging]").nth(1).and_then(|rest| rest.split("owners").next());
    let imaging = imaging.expect("the group");
    for (who, is_there) in [
        ("ines", true),
        ("tomas", true),
        ("rafi", true),
        ("sol", true),
        ("petra", false),
        ("sefa", false),
        ("calibration", false),
    ] {
        assert_eq!(imaging.contains(who), is_there, "{who}: {imaging}");
    }
}

#[test]
fn a_table_is_filled_in_and_taken() {
    let folder = opened(&[]);
    let table = review(&folder, LATER, &["q4", "--mine", "user:tomas", "--format", "csv"]).out;
    let filled: String = table
        .lines()
        .map(|line| match line.split(',').next() {
            Some("user:petra") => {
                line.strip_suffix(",,").expect("it is open").to_owned()
                    + ",remove,\"works at the dishes, \"\"now\"\"\"\n"
            }
            Some("user:sefa") => {
                line.strip_suffix(",,").expect("it is open").to_owned() + ",keep,\n"
            }
            _ => line.to_owned() + "\n",
        })
        .collect();
    std::fs::write(folder.file("answers.csv"), &filled).expect("written");
    let from = ["answer", "q4", "--from", "answers.csv", "--by", "user:tomas"];
    let run = review(&folder, LATER, &from);
    assert_eq!(run.code, Some(0), "{}", run.err);
    assert_eq!(run.out, "2 answers stand in reviews.toml: 2 of 6 answered, 12 days left\n");
    let text = std::fs::read_to_string(folder.file("reviews.toml")).expect("still");
    assert!(
        text.contains(r#"why = 'works at the dishes, "now"'"#)
            || text.contains(r#"why = "works at the dishes, \"now\"""#),
        "{text}"
    );

    let bad = "who,of,answer\nuser:rafi,group:imaging,perhaps\nuser:rafi,group:imaging,keep\nuser:tomas,group:imaging,keep\nuser:nobody,group:imaging,keep\n";
    std::fs::write(folder.file("answers.csv"), bad).expect("written");
    let run = review(&folder, LATER, &from);
    assert_eq!((run.code, run.out.as_str()), (Some(2), ""));
    for line in [
        "answers.csv:2: `perhaps` is no answer",
        "answers.csv:4: nobody answers",
        "answers.csv:5: the review asks nothing",
    ] {
        assert!(run.err.contains(line), "{}", run.err);
    }
    assert!(!run.err.contains("answers.csv:3"), "{}", run.err);
    assert_eq!(std::fs::read_to_string(folder.file("reviews.toml")).expect("still"), text);
    for (table, why) in [
        ("who,of\n", "no column `answer`"),
        ("who,of,answer\n", "no row"),
        // The answers below would seem not to be given.
        (
            "who,of,answer,why\nuser:rafi,group:imaging,keep,\"so\nuser:lin,group:imaging,keep,\n",
            "answers.csv:2: no quote closes this cell",
        ),
    ] {
        std::fs::write(folder.file("answers.csv"), table).expect("written");
        let run = review(&folder, LATER, &from);
        assert!(run.code == Some(2) && run.err.contains(why), "{}", run.err);
    }
}

#[test]
fn policies_roles_and_scopes_are_reviewed_too() {
    let all = "[policy.everything]\n[[policy.everything.allow]]\ndo = \"*\"\n[[attach]]\npolicy = \"everything\"\nto = \"user:sol\"\nat = \"veyra/survey\"\n";
    let folder = Folder::demo().with("all.toml", all);
    let new = [
        "new",
        "ties",
        "--of",
        "policy:job-operator",
        "role:dish-keeper",
        "veyra/survey",
        "--by",
        "managers",
        "--until",
        "2026-12-10",
    ];
    assert_eq!(review(&folder, AT, &new).code, Some(0));
    let told = json(&review(&folder, AT, &["ties", "--format", "json"]));
    let mut all: Vec<String> = told["questions"]
        .as_array()
        .expect("questions")
        .iter()
        .map(|one| {
            format!(
                "{} {} {} {} {}",
                one["of"], one["who"], one["where"], one["policy"], one["asked"]
            )
        })
        .collect();
    all.sort();
    insta::assert_snapshot!(all.join("\n"));
    // A ceiling whose going opens something takes a reason.
    let answer = [
        "answer",
        "ties",
        "everyone",
        "--of",
        "veyra/survey",
        "--policy",
        "no-govern",
        "remove",
        "--by",
        "user:amara",
    ];
    let run = review(&folder, LATER, &answer);
    assert_eq!(run.code, Some(0), "{}", run.err);
    let run = review(&folder, LATER, &["close", "ties"]);
    assert!(run.out.contains("opened by it"), "{}", run.out);
    let run = review(&folder, LATER, &["close", "ties", "--write"]);
    assert_eq!(run.code, Some(1), "{}", run.out);
    let kept = std::fs::read_to_string(folder.file("ceilings.toml")).expect("still");
    assert!(kept.contains("no-govern"), "{kept}");
}

#[test]
fn what_is_no_review_is_told() {
    let folder = Folder::demo();
    for wrong in [
        &["new", "x", "--of", "group:imagin", "--by", "owners", "--until", "2026-12-10"][..],
        &["new", "x", "--of", "user:ines", "--by", "owners", "--until", "2026-12-10"],
        &["new", "x", "--of", "group:imaging", "--by", "nobody", "--until", "2026-12-10"],
        &["new", "x", "--of", "group:imaging", "--by", "owners", "--until", "2026-01-10"],
        &["new", "close", "--of", "group:imaging", "--by", "owners", "--until", "2026-12-10"],
        &["new", "x", "--of", "group:staff", "--by", "owners", "--until", "2026-12-10"],
        &["x"],
    ] {
        let run = review(&folder, AT, wrong);
        assert_eq!((run.code, run.out.as_str()), (Some(2), ""), "{wrong:?}");
    }
    assert!(!folder.file("reviews.toml").exists());
    for (text, why) in [
        (
            "[review.x]\nof = 'group:imagin'\nby = 'owners'\nopen = 2026-11-01T00:00:00Z\nuntil = 2026-12-01T00:00:00Z\n",
            "group `imagin` is not declared",
        ),
        (
            "[review.x]\nof = 'group:imaging'\nby = 'owner'\nopen = 2026-11-01T00:00:00Z\nuntil = 2026-12-01T00:00:00Z\n",
            "`owners`, `managers`",
        ),
        (
            "[review.x]\nof = 'group:imaging'\nby = 'owners'\nopen = 2026-12-01T00:00:00Z\nuntil = 2026-12-01T00:00:00Z\n",
            "never opens",
        ),
        ("[review.x]\nof = 'group:imaging'\nby = 'owners'\nopen = 2026-11-01T00:00:00Z\n", "until"),
        (
            "[review.x]\nof = 'group:imaging'\nby = 'owners'\nopen = 2026-11-01T00:00:00Z\nuntil = 2026-12-01T00:00:00Z\nunanswered = 'go'\n",
            "keep",
        ),
        (
            "[review.x]\nof = 'group:imaging'\nby = 'owners'\nopen = 2026-11-01T00:00:00Z\nuntil = 2026-12-01T00:00:00Z\nanswer = 7\n",
            "list of tables",
        ),
        (
            "[review.x]\nof = 'group:imaging'\nby = 'owners'\nopen = 2026-11-01T00:00:00Z\nuntil = 2026-12-01T00:00:00Z\nasked = { count = -1, fingerprint = '' }\n",
            "how many questions",
        ),
    ] {
        let folder = Folder::demo().with("reviews.toml", text);
        let run = folder.run(&["show"]);
        assert_eq!(run.code, Some(2), "{text}");
        assert!(run.err.contains(why) && run.err.contains("reviews.toml:"), "{}", run.err);
    }
}

/// A group that is renamed keeps its review; one that goes does not go unnoticed.
#[test]
fn reviews_follow_a_new_name() {
    let folder = opened(&[]);
    let run = folder.run(&["edit", "rename", "group:imaging", "imagers", "--write"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let told = json(&review(&folder, AT, &["q4", "--format", "json"]));
    assert_eq!(told["questions"][0]["of"], "group:imagers");
}

/// In a large made-up estate, too, who is in a group by mistake is found from what they never did and
/// how unlike the others they are.
#[test]
fn the_astray_one_of_a_large_estate_is_found() {
    use bexum_synth::{Layout, Model, Requests, Size, write_estate};
    let size = Size {
        scopes: 200,
        users: 200,
        groups: 40,
        attachments: 90,
        policies: 60,
        statements: 150,
        ..Size::M
    };
    let model = Model::new(size, 7);
    let folder = Folder::new();
    write_estate(&model, &folder.file("large"), Layout::default()).expect("the estate");
    let mut log = String::new();
    let mut requests = Requests::new(&model, 7);
    (0..6_000).for_each(|id| requests.write_habit(id, 200, &mut log));
    std::fs::write(folder.file("log.ndjson"), log).expect("written");
    let (user, group) = model.astray();
    let (user, group) = (format!("user:{user}"), format!("group:{group}"));
    let run = |rest: &[&str]| {
        folder.run(&[&["-C", "large", "review"], rest, &["--at-time", AT]].concat())
    };
    let new = ["new", "q4", "--of", &group, "--by", "user:ines", "--until", "2026-12-10"];
    let begun = run(&new);
    assert_eq!(begun.code, Some(0), "{}", begun.err);
    let told = json(&run(&["q4", "--log", "log.ndjson", "--format", "json"]));
    let questions = told["questions"].as_array().expect("questions");
    assert!(questions.len() > 5, "{questions:?}");
    for question in questions {
        let grounds = question["grounds"].to_string();
        assert_eq!(question["who"] == user, grounds.contains("unlike"), "{question}");
        assert!(question["who"] != user || grounds.contains("unused"), "{question}");
    }
}
