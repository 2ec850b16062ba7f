//! `bexum ask`: each reason, each option, each way of being wrong.

use crate::support::{AT, Folder, Run};

fn ask(folder: &Folder, args: &[&str]) -> Run {
    let mut all = vec!["ask"];
    all.extend(args);
    if !args.contains(&"--at-time") {
        all.extend(["--at-time", AT]);
    }
    folder.run(&all)
}

#[test]
fn an_allow_says_why() {
    let run = ask(
        &Folder::demo(),
        &["user:lin", "job.cancel", "veyra/survey/reduction/nightly/spectra-0412"],
    );
    assert_eq!(run.code, Some(0));
    insta::assert_snapshot!(run.out);
}

#[test]
fn a_deny_says_what_it_outranks() {
    let run = ask(
        &Folder::demo(),
        &["user:tomas", "recording.erase", "veyra/survey/spectra/imaging/run-0412.fits"],
    );
    assert_eq!(run.code, Some(1));
    insta::assert_snapshot!(run.out);
}

#[test]
fn what_nothing_grants_shows_the_nearest_misses() {
    let run = ask(
        &Folder::demo(),
        &["user:sol", "job.submit", "veyra/survey/reduction/nightly/spectra-0412"],
    );
    assert_eq!(run.code, Some(1));
    insta::assert_snapshot!(run.out);
}

#[test]
fn a_seal_says_what_it_shut_out() {
    let run = ask(
        &Folder::demo(),
        &[
            "user:amara",
            "secret.open",
            "veyra/core/vault/dish-keys/dish-1",
            "--given",
            "device.managed=true",
        ],
    );
    assert_eq!(run.code, Some(1));
    insta::assert_snapshot!(run.out);
}

#[test]
fn a_ceiling_says_what_it_leaves() {
    let run = ask(
        &Folder::demo(),
        &["user:juno", "job.submit", "veyra/survey/reduction/transit/search-3"],
    );
    assert_eq!(run.code, Some(1));
    insta::assert_snapshot!(run.out);
}

#[test]
fn an_undecided_deny_says_what_was_not_given() {
    let run = ask(&Folder::demo(), &["user:mirek", "dish.point", "veyra/instruments/mesa/dish-1"]);
    assert_eq!(run.code, Some(1));
    insta::assert_snapshot!(run.out);
}

#[test]
fn a_refused_role_says_who_may() {
    let run = ask(
        &Folder::demo(),
        &[
            "user:sol",
            "dish.calibrate",
            "veyra/instruments/mesa/dish-1",
            "--as",
            "role:dish-keeper",
        ],
    );
    assert_eq!(run.code, Some(1));
    insta::assert_snapshot!(run.out);
}

#[test]
fn a_disabled_user_is_refused_first() {
    let run =
        ask(&Folder::demo(), &["user:dag", "dish.telemetry", "veyra/instruments/mesa/dish-1"]);
    assert_eq!(run.code, Some(1));
    insta::assert_snapshot!(run.out);
}

#[test]
fn windows_say_when() {
    let folder = Folder::demo();
    let scheduler =
        ["resource:veyra/instruments/scheduler", "dish.stow", "veyra/instruments/fjord/dish-3"];
    let run = ask(&folder, &scheduler);
    assert!(run.out.contains("the attachment ended at 2026-07-01"), "{}", run.out);
    // At fjord she would be refused all the same, being of another site: so it is not told.
    let noor = ask(&folder, &["user:noor", "dish.stow", "veyra/instruments/fjord/dish-3"]);
    assert!(!noor.out.contains("ended at"), "{}", noor.out);
    let early = ask(
        &folder,
        &[
            "user:juno",
            "job.view",
            "veyra/survey/reduction/transit/x",
            "--at-time",
            "2026-08-01T00:00:00Z",
        ],
    );
    assert!(
        early.out.contains("user:juno in group:transit opens only at 2026-09-01"),
        "{}",
        early.out
    );
}

#[test]
fn roles_that_would_help_are_named() {
    let run = ask(&Folder::demo(), &["user:wanja", "recording.put", "veyra/survey/maps/m51.fits"]);
    assert_eq!(run.code, Some(1));
    assert!(run.out.contains("--as role:reducer --at-time"), "{}", run.out);
    let run = ask(
        &Folder::demo(),
        &["user:wanja", "recording.put", "veyra/survey/maps/m51.fits", "--as", "role:reducer"],
    );
    assert_eq!(run.code, Some(0), "{}", run.out);
}

#[test]
fn circumstances_are_typed() {
    let folder = Folder::estate().and(
        "[[policy.typed.allow]]\ndo = 'file.erase'\nwhen = \"given.n = 3 and given.b and given.s = '3' and given.t > '2026-01-01T00:00:00Z' and 'x' in given.l and given.gone is not set and given.d.e = 'f g'\"\n[[attach]]\npolicy = 'typed'\nto = 'user:ines'\nat = 'v'\n",
    );
    // A time given in a string is a string: it has no order against another string.
    let base = [
        "user:ines",
        "file.erase",
        "v/s/store/x",
        "--given",
        "n=3",
        "--given",
        "b=true",
        "--given",
        "s=\"3\"",
        "--given",
        "l=[\"x\"]",
        "--given",
        "gone=",
        "--given",
        "d.e=f g",
    ];
    let mut args = base.to_vec();
    args.extend(["--given", "t=2026-03-01T00:00:00Z"]);
    let run = ask(&folder, &args);
    assert!(run.out.contains("`given.t > '2026-01-01T00:00:00Z'` is undecided"), "{}", run.out);

    let folder = Folder::estate().and(
        "[[policy.typed.allow]]\ndo = 'file.erase'\nwhen = \"given.n = 3 and given.b and given.s = '3' and 'x' in given.l and given.gone is not set and given.d.e = 'f g'\"\n[[attach]]\npolicy = 'typed'\nto = 'user:ines'\nat = 'v'\n",
    );
    assert_eq!(ask(&folder, &base).code, Some(0));
    let from =
        folder.with("c.json", r#"{"n":3,"b":true,"s":"3","l":["x"],"gone":null,"d":{"e":"f g"}}"#);
    let args = ["user:ines", "file.erase", "v/s/store/x", "--given-from", "c.json"];
    assert_eq!(ask(&from, &args).code, Some(0));
    let json = std::fs::read(from.file("c.json")).expect("the file");
    let run = from
        .run_with(&["ask", "user:ines", "file.erase", "v/s/store/x", "--given-from", "-"], json);
    assert_eq!(run.code, Some(0), "{}", run.err);
}

#[test]
fn items_have_attributes_of_their_own() {
    let folder = Folder::estate().and(
        "[[policy.own.allow]]\ndo = 'file.erase'\nwhen = \"target.mark = 'x'\"\n[[attach]]\npolicy = 'own'\nto = 'user:ines'\nat = 'v'\n",
    );
    let args = ["user:ines", "file.erase", "v/s/store/x"];
    assert_eq!(ask(&folder, &args).code, Some(1));
    let with = ["user:ines", "file.erase", "v/s/store/x", "--item", "mark=x"];
    assert_eq!(ask(&folder, &with).code, Some(0));
    let declared = ["user:ines", "store.list", "v/s/store", "--item", "mark=x"];
    let run = ask(&folder, &declared);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("`v/s/store` is declared"), "{}", run.err);
}

#[test]
fn a_session_is_bounded_by_a_policy() {
    let args = ["user:ines", "recording.put", "veyra/survey/spectra/imaging/x"];
    let folder = Folder::demo();
    assert_eq!(ask(&folder, &args).code, Some(0));
    let bounded = ask(
        &folder,
        &["user:ines", "recording.put", "veyra/survey/spectra/imaging/x", "--under", "errand"],
    );
    assert_eq!(bounded.code, Some(1));
    assert!(bounded.out.contains("errand, for this session"), "{}", bounded.out);
}

#[test]
fn json_has_a_version_and_the_deciding_statements() {
    let run = ask(
        &Folder::demo(),
        &[
            "user:tomas",
            "recording.erase",
            "veyra/survey/spectra/imaging/run-0412.fits",
            "--format",
            "json",
        ],
    );
    assert_eq!(run.code, Some(1));
    let json: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(json["version"], 1);
    assert_eq!(json["verdict"], "deny");
    assert_eq!(json["reason"], "denied");
    assert_eq!(json["denies"][0]["statement"], "keep-raw \"raw stays\"");
    assert_eq!(json["denies"][0]["attached"]["at"], "veyra");
    assert_eq!(
        json["allows"][0]["route"],
        serde_json::json!(["user:tomas", "group:archive-keepers"])
    );
    insta::assert_snapshot!(run.out);
}

#[test]
fn questions_that_are_no_questions() {
    let folder = Folder::demo();
    let spectra = "veyra/survey/spectra";
    for (args, said) in [
        (vec!["user:inse", "store.list", spectra], "did you mean `user:ines`?"),
        (vec!["ines", "store.list", spectra], "did you mean `user:ines`?"),
        (vec!["user:ines", "store.lst", spectra], "did you mean `store.list`?"),
        (
            vec!["user:ines", "store.list", "veyra/survey/spctra"],
            "did you mean `veyra/survey/spectra`?",
        ),
        (vec!["user:ines", "job.submit", spectra], "what applies there: `store.list`"),
        (vec!["user:ines", "store.list", "veyra/survey//x"], "an empty segment"),
        (vec!["user:ines", "store.list", "veyra/survey/*"], "stand only in patterns"),
        (
            vec!["user:ines", "user.view", "veyra/people/ines/x"],
            "nothing lies below a user, group, role or policy",
        ),
        (
            vec!["user:ines", "store.list", spectra, "--as", "reducer"],
            "did you mean `role:reducer`?",
        ),
        (
            vec!["user:ines", "store.list", spectra, "--also", "group:imging"],
            "did you mean `group:imaging`?",
        ),
        (vec!["user:ines", "store.list", spectra, "--under", "erand"], "did you mean `errand`?"),
        (vec!["user:ines", "store.list", spectra, "--given", "mfa"], "has no `=`"),
        (vec!["user:ines", "store.list", spectra, "--given", "a b=1"], "no attribute name"),
        (vec!["user:ines", "store.list", spectra, "--given", "a=1.5"], "an integer within 64 bits"),
        (
            vec!["user:ines", "store.list", spectra, "--given", "a=[1,"],
            "starts like JSON but is none",
        ),
        (
            vec!["user:ines", "store.list", spectra, "--given", "a=1", "--given", "a=2"],
            "given twice",
        ),
        (
            vec!["user:ines", "store.list", spectra, "--given", "a=1", "--given", "a.b=2"],
            "below it",
        ),
        (vec!["user:ines", "store.list", spectra, "--given", "time=x"], "--at-time"),
        (
            vec!["user:ines", "store.list", spectra, "--at-time", "tomorrow"],
            "`tomorrow` is no time",
        ),
        (
            vec!["user:ines", "store.list", spectra, "--given-from", "none.json"],
            "cannot read `none.json`",
        ),
    ] {
        let run = ask(&folder, &args);
        assert_eq!(run.code, Some(2), "{args:?}: {run:?}");
        assert_eq!(run.out, "");
        assert!(run.err.contains(said), "{args:?}: `{said}` is not in:\n{}", run.err);
    }
}

#[test]
fn colour_only_where_it_is_wanted() {
    let folder = Folder::demo();
    let args = ["ask", "user:lin", "store.list", "veyra/survey/spectra"];
    assert!(!folder.run(&args).out.contains('\u{1b}'), "a pipe gets no colour");
    let mut always = args.to_vec();
    always.extend(["--color", "always"]);
    let coloured = folder.run(&always).out;
    assert!(coloured.contains('\u{1b}') && coloured.contains("ALLOW"));
}

#[test]
fn nothing_written_or_typed_steers_the_terminal() {
    let folder = Folder::estate().and(
        "[[policy.odd.deny]]\nname = \"x\\u001b[31m\"\nabout = \"y\\u001b[32m\"\ndo = '*'\non = \"**/z\\u001b[33m\"\n[[policy.odd.deny]]\nname = \"w\\u0007\"\ndo = '*'\nwhen = \"not (given.a = '\\u001b[34m')\"\n[[attach]]\npolicy = 'odd'\nto = 'everyone'\nat = 'v'\n",
    );
    for args in [
        vec!["user:ines", "file.open", "v/s/store/z", "--color", "always"],
        vec!["user:ines", "file.open", "v/s/store/\u{1b}[35m", "--color", "always"],
        vec!["user:\u{1b}[36m", "file.open", "v/s/store/z", "--color", "always"],
    ] {
        let run = ask(&folder, &args);
        for steering in
            ["\u{1b}[31m", "\u{1b}[32m", "\u{1b}[33m", "\u{1b}[34m", "\u{1b}[35m", "\u{7}"]
        {
            assert!(
                !run.out.contains(steering) && !run.err.contains(steering),
                "{args:?}: {run:?}"
            );
        }
        assert!(!run.err.contains("\u{1b}[36m"), "{run:?}");
    }
}

#[test]
fn a_refusal_ends_in_what_would_be_allowed() {
    let more = r#"
[group.other]
[role.opener]
taken-by = "group:other"
[role.reader]
taken-by = "user:tomas"
[[attach]]
policy = "reader"
to = ["role:reader", "role:opener"]
at = "v/s"
[policy.careful]
[[policy.careful.allow]]
do = "file.erase"
when = "given.mfa"
[[attach]]
policy = "careful"
to = "group:crew"
at = "v/s"
"#;
    let folder = Folder::estate().and(more);
    let x = "v/s/store/x";
    let run = ask(&folder, &["user:tomas", "file.open", x]);
    assert!(
        run.out.contains("$ bexum ask user:tomas file.open v/s/store/x --as role:reader --at-time"),
        "{}",
        run.out
    );
    assert!(
        run.out.contains("--also group:crew --at-time") && run.out.contains("bexum.toml:22"),
        "{}",
        run.out
    );

    let run = ask(&folder, &["user:tomas", "file.open", x, "--as", "role:opener"]);
    assert!(run.out.contains("--as role:opener --also group:other --at-time"), "{}", run.out);

    let run = ask(&folder, &["user:tomas", "file.erase", x]);
    assert!(!run.out.contains("what would be allowed"), "{}", run.out);
    assert!(run.out.contains("what may be allowed, when more is given"), "{}", run.out);
    let run = ask(&folder, &["user:tomas", "file.erase", x, "--given", "mfa=true"]);
    assert!(run.out.contains("what would be allowed"), "{}", run.out);
    let run = ask(&folder, &["user:tomas", "file.erase", x, "--given", "mfa=false"]);
    assert!(!run.out.contains("be allowed"), "{}", run.out);
    let run = ask(&folder, &["user:ines", "file.erase", x, "--given", "mfa=yes"]);
    assert!(
        run.out.contains("given.mfa is 'yes' (from the request); true or false is expected"),
        "{}",
        run.out
    );

    // With `--as`, one's own allows are set aside.
    let both = folder.and("[role.empty]\ntaken-by = 'user:ines'\n");
    let run = ask(&both, &["user:ines", "file.open", x, "--as", "role:empty"]);
    assert!(run.out.contains("sets one's own allows aside"), "{}", run.out);
    assert!(
        run.out.contains("$ bexum ask user:ines file.open v/s/store/x --at-time"),
        "{}",
        run.out
    );
}

#[test]
fn a_deny_that_is_not_alone_says_so() {
    let deny =
        "[[policy.stop.deny]]\ndo = '*'\n[[attach]]\npolicy = 'stop'\nto = 'everyone'\nat = 'v'\n";
    let folder = Folder::estate().and(deny);
    let run = ask(&folder, &["user:tomas", "file.open", "v/s/store/x"]);
    assert!(run.out.contains("nothing would grant it either"), "{}", run.out);
    let run = ask(&folder, &["user:ines", "file.open", "v/s/store/x"]);
    assert!(run.out.contains("it outranks") && !run.out.contains("either"), "{}", run.out);
}

#[test]
fn a_brace_shows_what_it_stood_for() {
    let more = "[[policy.own.allow]]\ndo = 'file.open'\non = 'store/{who.team}/{given.run}'\n[[attach]]\npolicy = 'own'\nto = 'user:tomas'\nat = 'v/s'\n";
    let folder = Folder::estate().and(more);
    let run = ask(&folder, &["user:tomas", "file.open", "v/s/store/red/x", "--given", "run=x"]);
    let words: Vec<&str> = run.out.split_whitespace().collect();
    assert!(words.join(" ").contains("who.team is absent, given.run is 'x'"), "{}", run.out);
}

/// What could be allowed is shown with circumstances in which it is, and what could not is said so.
#[test]
fn what_could_never_be_is_not_promised() {
    let policy = |when: &str| {
        format!(
            "[policy.p]\n[[policy.p.allow]]\ndo = 'store.list'\nwhen = \"{when}\"\n[[attach]]\npolicy = 'p'\nto = 'user:tomas'\nat = 'v/s'\n"
        )
    };
    let ask = |when: &str| {
        let folder = Folder::estate().and(&policy(when));
        (
            folder.run(&["ask", "user:tomas", "store.list", "v/s/store", "--given", "b=1"]).out,
            folder,
        )
    };
    let (never, folder) = ask("given.a = 1 and given.a != 1");
    assert!(never.contains("whatever they are, it stays deny (not-granted)"), "{never}");
    let args = ["ask", "user:tomas", "store.list", "v/s/store", "--format", "json"];
    assert!(folder.run(&args).out.contains("\"at-best\": \"not-granted\""));
    let (some, folder) = ask("given.a > 3 and given.b = 1 and given.c.d is not set");
    let command = some.lines().find_map(|line| line.trim().strip_prefix("$ bexum "));
    let command = shlex::split(command.expect("a command")).expect("words");
    let words: Vec<&str> = command.iter().map(String::as_str).collect();
    assert_eq!(folder.run(&words).code, Some(0), "{some}");
}

/// Where a role is refused, or does not help, another one may.
#[test]
fn another_role_is_a_way_too() {
    let folder = Folder::estate().and(
        "[role.right]\ntaken-by = 'user:tomas'\n[role.idle]\ntaken-by = 'user:tomas'\n[role.theirs]\n[policy.p]\n[[policy.p.allow]]\ndo = 'store.list'\n[[attach]]\npolicy = 'p'\nto = 'role:right'\nat = 'v/s'\n",
    );
    for role in ["role:theirs", "role:idle"] {
        let asked = folder.run(&["ask", "user:tomas", "store.list", "v/s/store", "--as", role]);
        assert_eq!(asked.code, Some(1), "{}", asked.out);
        let command = asked.out.lines().find_map(|line| line.trim().strip_prefix("$ bexum "));
        let words = shlex::split(command.expect("a command")).expect("words");
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        assert!(words.contains(&"role:right"), "{}", asked.out);
        assert_eq!(folder.run(&words).code, Some(0), "{}", asked.out);
    }
}

/// Somebody who has one ceiling lifted wants to know of the others: all that bound are told, each once, and
/// then those that let it pass.
#[test]
fn every_ceiling_that_bounds_is_told() {
    let ceilings = |policy: &str, over: &str| format!("[[ceiling]]\npolicy = '{policy}'\n{over}\n");
    let folder = Folder::new().with(
        "bexum.toml",
        [
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list', 'count']\n[account.w]\n[subscription.'w/x']\n[resource.'w/x/s']\nkind = 'store'\n[user.u]\n[group.g]\nmembers = 'user:u'\n[[policy.all.allow]]\ndo = '*'\n[[attach]]\npolicy = 'all'\nto = 'user:u'\nat = 'w'\n[[policy.shut.deny]]\ndo = 'store.list'\n[[policy.other.allow]]\ndo = 'store.count'\n[[policy.third.deny]]\ndo = '*'\nwhen = 'given.night'\n",
            &ceilings("shut", ""),
            &ceilings("other", "for = ['user:u', 'group:g']"),
            &ceilings("all", "over = 'w'"),
            &ceilings("shut", "over = 'w/x'"),
            &ceilings("third", "over = 'w/x/s'"),
            &ceilings("shut", "over = 'w/x/s'\nuntil = 2020-01-01T00:00:00Z"),
        ]
        .concat(),
    );
    let run = ask(
        &folder,
        &[
            "user:u",
            "store.list",
            "w/x/s",
            "--under",
            "other",
            "--under",
            "all",
            "--format",
            "json",
        ],
    );
    assert_eq!(run.code, Some(1), "{}", run.err);
    let answer: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(answer["reason"], "over-ceiling");
    let told: Vec<(&str, Option<&str>, bool, bool)> = answer["ceilings"]
        .as_array()
        .expect("a list")
        .iter()
        .map(|one| {
            let flag = |key: &str| one[key].as_bool().expect("a flag");
            let policy = one["policy"].as_str().expect("a name");
            (policy, one["over"].as_str(), flag("session"), flag("bounds"))
        })
        .collect();
    assert_eq!(
        told,
        [
            ("other", None, true, true),
            ("shut", None, false, true),
            ("other", None, false, true),
            ("shut", Some("w/x"), false, true),
            ("third", Some("w/x/s"), false, true),
            ("all", None, true, false),
            ("all", Some("w"), false, false),
        ]
    );
}
