//! What `bexum impact` says where not everything is decided: of nobody, and of items without a row.

use serde_json::Value;

use crate::support::{AT, Folder};

/// Which addresses of a range a pattern fits is not worked out: nobody is said to lose nothing then,
/// and whoever asks to be told of it is.
#[test]
fn what_is_not_decided_is_not_said_of_nobody() {
    let estate = |deny: &str| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[[policy.p.allow]]\ndo = '*'\nwhen = \"given.ip within '10.0.0.0/8'\"\n{deny}[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w/a'\n"
        )
    };
    let deny = "[[policy.p.deny]]\ndo = '*'\nwhen = \"given.ip fits '*.7.*'\"\n";
    let folder =
        Folder::new().with("before/bexum.toml", estate("")).with("after/bexum.toml", estate(deny));
    let text = folder.run(&["impact", "before", "after", "--at-time", AT]);
    let first = text.out.lines().next().unwrap_or_default();
    assert_eq!(
        first,
        "nobody gains anything, nobody is known to lose anything; of 1 cell it is not decided",
        "{}",
        text.err
    );
    // One more deny gives nobody anything.
    for (what, code) in [("gained", 0), ("lost", 1), ("any", 1)] {
        let run = folder.run(&["impact", "before", "after", "--at-time", AT, "--fail-on", what]);
        assert_eq!(run.code, Some(code), "{what}: {}", run.err);
    }
}

/// Items that two patterns match together have no row where neither pattern is new or gone, and where
/// three meet nobody works them out: that nothing changes is not said for it.
#[test]
fn items_without_a_row_are_not_said_to_be_as_before() {
    let estate = |statements: &[&str]| {
        let statements: String = statements.iter().map(|one| format!("[[policy.p.{one}")).collect();
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[policy.p]\n{statements}[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w/a'\n"
        )
    };
    let read = "do = 'obj.read'";
    let not_a = format!("deny]]\n{read}\non = ['**', '!a*']\n");
    let not_b = format!("deny]]\n{read}\non = ['**', '!*b']\n");
    let a = format!("deny]]\n{read}\non = 'a*'\n");
    let all = format!("allow]]\n{read}\n");
    let with_c = format!("allow]]\n{read}\non = '*c*'\n");
    let more_than_1 = format!("allow]]\n{read}\non = '1*/**'\nwhen = \"target.name != '1'\"\n");
    let any = format!("deny]]\n{read}\non = '*'\n");
    let undecided = "no access is known to change, but not all is decided: below w/a, patterns tell apart more items";
    for (before, after, answer) in [
        // What both spare, `w/a/ab` for one, is opened.
        (
            vec![&not_a, &not_b],
            vec![&not_a, &not_b, &all],
            "no access changes in what is listed; now or later does at least obj.read on w/a/ab for user:u",
        ),
        // `w/a/acb` is opened.
        (vec![&with_c, &not_b, &a], vec![&with_c, &not_b], undecided),
        // `w/a/1` stands for where the two meet, and is not `w/a/12`.
        (vec![&more_than_1, &any], vec![&more_than_1], undecided),
        (
            vec![&with_c, &not_b],
            vec![&not_b, &with_c],
            "no access changes, in whatever circumstances",
        ),
    ] {
        let texts = |statements: &[&String]| {
            let statements: Vec<&str> = statements.iter().map(|one| one.as_str()).collect();
            estate(&statements)
        };
        let folder = Folder::new()
            .with("before/bexum.toml", texts(&before))
            .with("after/bexum.toml", texts(&after));
        let text = folder.run(&["impact", "before", "after", "--at-time", AT]);
        let first = text.out.split("\nfrom ").next().unwrap_or_default();
        let said = first.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.starts_with(answer), "{said}\n{}", text.err);
        let json = folder.run(&["impact", "before", "after", "--format", "json"]);
        let report: Value = serde_json::from_str(&json.out).expect("JSON");
        assert_eq!(report["unlisted"]["where"] == "w/a/ab", answer.ends_with("user:u"), "{report}");
        assert_eq!(report["not-told-apart"] == true, answer == undecided, "{report}");
        let failed =
            folder.run(&["impact", "before", "after", "--at-time", AT, "--fail-on", "gained"]);
        let code = i32::from(!answer.ends_with("circumstances"));
        assert_eq!(failed.code, Some(code), "{answer}: {}", failed.err);
    }
}

/// Where somebody gains something, that nobody loses anything is said of all items and of all that is to
/// come, too.
#[test]
fn that_nobody_loses_anything_beside_a_gain_is_said_of_everything() {
    let estate = |statements: &str, more: &str| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[user.v]\n[[policy.q.allow]]\ndo = 'store.list'\n[policy.p]\n{statements}[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w/a'\n{more}"
        )
    };
    let gain = "[[attach]]\npolicy = 'q'\nto = 'user:v'\nat = 'w/a'\n";
    let ends =
        "[[attach]]\npolicy = 'q'\nto = 'user:u'\nat = 'w/a'\nuntil = 2030-01-01T00:00:00Z\n";
    let stays = "[[attach]]\npolicy = 'q'\nto = 'user:u'\nat = 'w/a'\n";
    let read =
        |effect: &str, on: &str| format!("[[policy.p.{effect}]]\ndo = 'obj.read'\non = [{on}]\n");
    let spared = read("deny", "'**', '!a*'") + &read("deny", "'**', '!*b'");
    let with_all = format!("{spared}{}", read("allow", "'**'"));
    let with_c = read("allow", "'*c*'") + &read("deny", "'**', '!*b'");
    let without_a = format!("{with_c}{}", read("deny", "'a*'"));
    let gains = "1 person gains 1 action in 1 place";
    let cases = [
        // What both denies spare, `w/a/ab` for one, is closed, and has no row.
        (
            [estate(&with_all, ""), estate(&spared, gain)],
            format!(
                "{gains}, nobody loses anything in what is listed; now or later user:u loses at least obj.read on w/a/ab"
            ),
            Some("w/a/ab"),
        ),
        // `w/a/acb` is closed, and nobody works it out.
        (
            [estate(&with_c, ""), estate(&without_a, gain)],
            format!("{gains}, nobody is known to lose anything; not all is decided: below w/a,"),
            None,
        ),
        (
            [estate(&spared, stays), estate(&spared, &format!("{ends}{gain}"))],
            format!(
                "{gains}, nobody loses anything at this moment; later user:u loses at least store.list on w/a"
            ),
            Some("w/a"),
        ),
        // One more allow closes nothing, whatever patterns meet.
        (
            [estate(&with_c, ""), estate(&with_c, gain)],
            format!("{gains}, nobody loses anything"),
            None,
        ),
    ];
    for ([before, after], answer, unlisted) in cases {
        let folder =
            Folder::new().with("before/bexum.toml", before).with("after/bexum.toml", after);
        let text = folder.run(&["impact", "before", "after", "--at-time", AT]);
        let first = text.out.split("\nfrom ").next().unwrap_or_default();
        let said = first.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.starts_with(&answer), "{said}\n{}", text.err);
        let is_sure = answer.ends_with("nobody loses anything");
        assert!(!is_sure || said == answer, "{said}");
        let json = folder.run(&["impact", "before", "after", "--at-time", AT, "--format", "json"]);
        let report: Value = serde_json::from_str(&json.out).expect("JSON");
        assert_eq!(report["unlisted"]["where"].as_str(), unlisted, "{report}");
        assert_eq!(report["unlisted"]["turn"].as_str(), unlisted.map(|_| "lost"), "{report}");
        let failed =
            folder.run(&["impact", "before", "after", "--at-time", AT, "--fail-on", "lost"]);
        assert_eq!(failed.code, Some(i32::from(!is_sure)), "{said}: {}", failed.err);
        // The way back, nobody gains anything where nobody loses anything the way there.
        let back = folder.run(&["impact", "after", "before", "--at-time", AT]);
        assert_eq!(back.out.starts_with("nobody gains anything, "), is_sure, "{}", back.out);
    }
}

/// A name that is made up for what stands in a brace is not the one that a condition asks for: that nothing
/// changes for all names is not said for it.
#[test]
fn names_that_conditions_ask_for_are_not_said_to_be_as_before() {
    let estate = |when: &str| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[[policy.p.allow]]\ndo = 'obj.read'\n[[policy.p.deny]]\ndo = 'obj.read'\non = '{{given.s}}'\nwhen = \"{when}\"\n[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w/a'\n"
        )
    };
    let folder = Folder::new()
        .with("before/bexum.toml", estate("given.s = 'green'"))
        .with("after/bexum.toml", estate("given.s = 'green' or given.s = 'red'"));
    // It is closed where the name is that.
    for (side, code) in [("before", 0), ("after", 1)] {
        let ask = ["ask", "-C", side, "user:u", "obj.read", "w/a/red", "--given", "s=red"];
        assert_eq!(folder.run(&ask).code, Some(code), "{side}");
    }
    let text = folder.run(&["impact", "before", "after", "--at-time", AT]);
    assert!(text.out.contains("nobody is known to lose anything"), "{text:?}");
    let failed = folder.run(&["impact", "before", "after", "--at-time", AT, "--fail-on", "lost"]);
    assert_eq!(failed.code, Some(1), "{}", failed.err);
}

/// What is attached for later singles out items whose row says nothing today: that nothing changes is not said
/// for it, nor that nobody gains or loses.
#[test]
fn items_of_later_count() {
    let estate = |attached: &str| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[[policy.raw.allow]]\ndo = 'obj.read'\non = 'raw/**'\n[[policy.all.allow]]\ndo = 'obj.read'\n[[policy.no-raw.deny]]\ndo = 'obj.read'\non = 'raw/**'\n{attached}"
        )
    };
    let attach = |policy: &str, when: &str| {
        format!("[[attach]]\npolicy = '{policy}'\nto = 'user:u'\nat = 'w/a'\n{when}\n")
    };
    let later = "from = 2090-01-01T00:00:00Z";
    let all = attach("all", "");
    for (less, more, is_opened) in [
        (String::new(), attach("raw", later), true),
        (all.clone(), format!("{all}{}", attach("no-raw", later)), false),
        // What is allowed already is not opened, whatever comes later.
        (all.clone(), format!("{all}{}", attach("raw", later)), false),
    ] {
        let is_shut = more.contains("no-raw");
        let folder = Folder::new()
            .with("less/bexum.toml", estate(&less))
            .with("more/bexum.toml", estate(&more));
        for (before, after, gains, loses) in
            [("less", "more", is_opened, is_shut), ("more", "less", is_shut, is_opened)]
        {
            let run = |more: &[&str]| {
                folder.run(&[&["impact", before, after, "--at-time", AT], more].concat())
            };
            let text = run(&[]).out;
            let unchanged = text.starts_with("no access changes, in whatever circumstances\n");
            assert_eq!(unchanged, !gains && !loses, "{more} {before}: {text}");
            if !unchanged {
                assert!(text.contains("later does at least obj.read on w/a/raw/**"), "{text}");
            }
            for (what, fails) in [("gained", gains), ("lost", loses), ("any", gains || loses)] {
                let code = run(&["--fail-on", what]).code;
                assert_eq!(code, Some(i32::from(fails)), "{more} {before} {what}: {text}");
            }
        }
        // It is what `ask` says of that day.
        let ask = [
            "ask",
            "-C",
            "more",
            "user:u",
            "obj.read",
            "w/a/raw/x",
            "--at-time",
            "2090-01-02T00:00:00Z",
        ];
        assert_eq!(folder.run(&ask).code, Some(i32::from(is_shut)));
    }
}

/// Circumstances that stand in a brace may name any item; where all that has a say of them is the same in both
/// estates, that nothing changes is said all the same.
#[test]
fn braces_that_nothing_changes_for_leave_no_doubt() {
    let estate = |members: &str| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[user.v]\n[group.g]\nmembers = [{members}]\n[[policy.p.allow]]\ndo = 'obj.read'\non = ['{{given.s}}/**', 'raw/*']\n[[attach]]\npolicy = 'p'\nto = ['user:u', 'group:g']\nat = 'w/a'\n"
        )
    };
    for (before, after, is_same) in [
        ("", "'user:u'", true),
        ("'user:u'", "", true),
        ("", "'user:v'", false),
        ("'user:u', 'user:v'", "'user:v'", true),
    ] {
        let folder = Folder::new()
            .with("before/bexum.toml", estate(before))
            .with("after/bexum.toml", estate(after));
        let text = folder.run(&["impact", "before", "after", "--at-time", AT]).out;
        let unchanged = text.starts_with("no access changes, in whatever circumstances\n");
        assert_eq!(unchanged, is_same, "{before} {after}: {text}");
    }
}

/// A circumstance that is given leaves open what a brace asks for, unless it is that.
#[test]
fn what_is_given_besides_leaves_braces_open() {
    let estate = |more: &str| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[[policy.p.allow]]\ndo = 'obj.read'\non = '{{given.s}}/**'\n{more}"
        )
    };
    let attached = "[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w/a'\n";
    let folder =
        Folder::new().with("less/bexum.toml", estate("")).with("more/bexum.toml", estate(attached));
    for given in [&[][..], &["--given", "other=1"], &["--given", "s=red"], &["--given", "s="]] {
        let run = |before: &str, after: &str, what: &str| {
            let args = ["impact", before, after, "--at-time", AT, "--fail-on", what];
            folder.run(&[&args, given].concat())
        };
        let opens = given != ["--given", "s="];
        for (before, after, what) in [("less", "more", "gained"), ("more", "less", "lost")] {
            let told = run(before, after, what);
            assert_eq!(told.code, Some(i32::from(opens)), "{given:?} {what}: {}", told.out);
            let unchanged = told.out.starts_with("no access changes, in whatever circumstances\n");
            assert_eq!(unchanged, !opens, "{given:?}: {}", told.out);
        }
        assert_eq!(run("less", "more", "lost").code, Some(0), "{given:?}");
        assert_eq!(run("more", "less", "gained").code, Some(0), "{given:?}");
    }
}

/// What an item is called may be asked by a condition, or said by a circumstance in a brace: then it is not said
/// that nothing changes, although no row tells such items apart.
#[test]
fn names_of_items_without_a_row_count() {
    let statement = |on: &str, when: &str| {
        format!("[[policy.p.allow]]\ndo = 'obj.read'\non = '{on}'\nwhen = \"{when}\"\n")
    };
    let estate = |statements: &[String]| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n[policy.p]\n{}[[attach]]\npolicy = 'p'\nto = 'user:u'\nat = 'w/a'\n",
            statements.concat()
        )
    };
    let any = |when: &str| vec![statement("**", when)];
    let brace = |when: &str| vec![statement("{given.x}", when)];
    for (before, after, given) in [
        (any("target.name = 'a'"), any("target.name = 'a' or target.name = 'b'"), ""),
        (any("target.path = 'w/a/x'"), any("target.path = 'w/a/x' or target.path = 'w/a/y'"), ""),
        (any("given.m and target.name = 'a'"), any("given.m and target.name fits 'a*'"), ""),
        (any("given.m and target.name = 'a'"), any("given.m and target.name fits 'a*'"), "m=true"),
        (brace("true"), [brace("true"), vec![statement("{given.x}/in", "true")]].concat(), ""),
        (
            brace("given.y = 1"),
            [brace("given.y = 1"), vec![statement("{given.x}/in", "given.y = 1")]].concat(),
            "y=1",
        ),
        (
            brace("given.y = 1"),
            [brace("given.y = 1"), vec![statement("{given.z}", "given.y = 1")]].concat(),
            "y=1",
        ),
        (brace("given.y = 1 and given.x != 'no'"), brace("given.y = 1"), "y=1"),
        (brace("given.x != 'no'"), brace("true"), ""),
        // Where one of the two estates alone asks.
        (any("given.m"), any("given.m or target.name = 'a'"), ""),
        (any("given.m"), any("given.m and target.name != 'a'"), ""),
    ] {
        // What is gained one way is lost the other.
        for (before, after) in [(&before, &after), (&after, &before)] {
            let folder = Folder::new()
                .with("before/bexum.toml", estate(before))
                .with("after/bexum.toml", estate(after));
            let mut args = vec!["impact", "before", "after", "--at-time", AT, "--fail-on", "any"];
            if !given.is_empty() {
                args.extend(["--given", given]);
            }
            let run = folder.run(&args);
            assert_eq!(run.code, Some(1), "{before:?} {after:?} {given}: {}{}", run.out, run.err);
        }
    }
}

/// Who is refused everything gains nothing, however much of items is not told apart, and whatever else they are given
/// at the same time; the other way they lose nothing.
#[test]
fn who_is_refused_everything_gains_nothing() {
    let estate = |user: &str, more: &str| {
        format!(
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\n[account.w]\n[resource.'w/a']\nkind = 'store'\n[user.u]\n{user}\n[role.r]\ntaken-by = [{{ who = 'user:u', until = 2030-01-01T00:00:00Z }}]\n[policy.p]\n\
             [[policy.p.allow]]\ndo = 'obj.read'\non = '*c*'\n[[policy.p.deny]]\ndo = 'obj.read'\non = ['**', '!*b']\n[[policy.p.deny]]\ndo = 'obj.read'\non = 'a*'\n\
             [[policy.q.allow]]\ndo = 'store.list'\n[[policy.given.allow]]\ndo = 'store.list'\nwhen = \"given.m\"\n[[attach]]\npolicy = ['p', 'q']\nto = 'user:u'\nat = 'w/a'\n{more}"
        )
    };
    let tie =
        |what: &str| format!("[[attach]]\npolicy = 'given'\nto = 'user:u'\nat = 'w'\n{what}\n");
    let off = "enabled = false";
    for (before, after, gains) in [
        (estate("", ""), estate(off, ""), "nobody gains anything, 1 person loses"),
        (estate("", ""), estate(off, &tie("")), "nobody gains anything, 1 person loses"),
        (estate(off, ""), estate("", ""), "1 person gains"),
        (estate(off, ""), estate("", ""), "nobody loses anything"),
        (estate(off, ""), estate(off, &tie("")), "no access changes, in whatever circumstances"),
    ] {
        let folder =
            Folder::new().with("before/bexum.toml", before).with("after/bexum.toml", after);
        let run = folder.run(&["impact", "before", "after", "--at-time", AT]);
        let first = run.out.split("\nfrom ").next().unwrap_or_default();
        let said = first.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.contains(gains), "{said}\n{}", run.err);
        assert!(!said.contains("decided"), "{said}");
    }
    // By a role that cannot be taken up any more by then nothing is gained either; before that, it is.
    for (from, opens) in [("2031", false), ("2029", true)] {
        let tie = format!(
            "[[attach]]\npolicy = 'given'\nto = 'role:r'\nat = 'w/a'\nfrom = {from}-01-01T00:00:00Z\n"
        );
        let plain = |more: &str| {
            estate("", more)
                .replace("policy = ['p', 'q']", "policy = 'q'")
                .replace("store.list'\nwhen", "obj.read'\nwhen")
        };
        let folder = Folder::new()
            .with("before/bexum.toml", plain(""))
            .with("after/bexum.toml", plain(&tie));
        let run = folder.run(&[
            "impact",
            "before",
            "after",
            "--who",
            "user:u",
            "--at-time",
            AT,
            "--fail-on",
            "gained",
        ]);
        assert_eq!(run.code, Some(i32::from(opens)), "{from}: {}{}", run.out, run.err);
    }
}
