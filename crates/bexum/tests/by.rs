//! `bexum impact --by`: who may make which change.

use serde_json::Value;

use crate::support::{Folder, Run};

/// An estate in which everything has a place, and an edit right for every key.
pub(crate) const ESTATE: &str = r#"
[estate]
name = "x"
format = 1

[kind.store]
observe = ["list"]
govern = ["build", "share", "bound", "shut", "label", "describe", "pull-down"]
on-parent = ["build"]
items = ["obj"]
holds = ["namespace"]
[kind.obj]
observe = ["read"]
alter = ["write"]
[kind.namespace]
govern = ["open", "label"]
on-parent = ["open"]
items = ["obj"]
[kind.user]
govern = ["hire", "suspend", "mark", "describe", "dismiss"]
on-parent = ["hire"]
[kind.group]
govern = ["found", "mark", "admit", "entrust", "describe", "disband"]
on-parent = ["found"]
[kind.role]
govern = ["create", "mark", "hand-out", "describe", "drop"]
on-parent = ["create"]
[kind.policy]
govern = ["draft", "word", "describe", "withdraw"]
on-parent = ["draft"]

[account.w]
[subscription."w/s"]
[subscription."w/t"]
[resource."w/s/a"]
kind = "store"
[resource."w/t/b"]
kind = "store"

[user.ann]
place = "w/s"
[user.ben]
place = "w/s"
[user.cas]
place = "w/s"
[user.editor]
place = "w"
[user.loose]

[group.crew]
place = "w/s"
members = ["user:ann"]
[group.open]
place = "w/s"
join = "open"
[group.asking]
place = "w/s"
join = "approval"
[group.bound]
place = "w/s"
members = ["user:ann", "user:loose"]
[group.nowhere]
members = ["user:ann"]

[role.keeper]
place = "w/s"
[policy.read]
place = "w/s"
[[policy.read.allow]]
do = "obj.read"
[policy.refuse]
place = "w/s"
[[policy.refuse.deny]]
do = "obj.write"
[policy.kept]
place = "w/s"
locked = true
[[policy.kept.deny]]
do = "obj.write"
[policy.kept-read]
place = "w/s"
locked = true
[[policy.kept-read.allow]]
do = "obj.read"

[[attach]]
policy = "editing"
to = "user:editor"
at = "w"
[[attach]]
policy = "kept-read"
to = "group:crew"
at = "w/t/b"
"#;

pub(crate) const RIGHTS: &str = r#"
[edit-rights]
"user.new" = "user.hire"
"group.new" = "group.found"
"role.new" = "role.create"
"policy.new" = "policy.draft"
"scope.new" = ["namespace.open", "store.build"]
"user.state" = "user.suspend"
"user.attributes" = "user.mark"
"group.attributes" = "group.mark"
"role.attributes" = "role.mark"
"group.members" = "group.admit"
"group.owners" = "group.entrust"
"role.holders" = "role.hand-out"
"policy.statements" = "policy.word"
"scope.attach" = "store.share"
"scope.limit" = "store.bound"
"scope.seal" = "store.shut"
"scope.attributes" = ["namespace.label", "store.label"]
"user.settings" = "user.describe"
"group.settings" = "group.describe"
"role.settings" = "role.describe"
"policy.settings" = "policy.describe"
"scope.settings" = "store.describe"
"user.delete" = "user.dismiss"
"group.delete" = "group.disband"
"role.delete" = "role.drop"
"policy.delete" = "policy.withdraw"
"scope.delete" = "store.pull-down"
"#;

/// A change: what is written instead of what; nothing instead of something takes it away, something
/// instead of nothing adds it.
pub(crate) type Change<'c> = &'c [(&'c str, &'c str)];

fn changed(estate: &str, change: Change<'_>) -> String {
    change.iter().fold(estate.to_owned(), |text, (old, new)| {
        if old.is_empty() {
            return format!("{text}\n{new}\n");
        }
        assert_eq!(text.matches(old).count(), 1, "{old:?} stands once");
        text.replace(old, new)
    })
}

pub(crate) fn editing(actions: &str) -> String {
    format!("[policy.editing]\n[[policy.editing.allow]]\ndo = {actions}\n")
}

/// Asks whether somebody may make a change; both estates load.
pub(crate) fn ask(before: &str, change: Change<'_>, args: &[&str]) -> Run {
    let folder =
        Folder::new().with("a/bexum.toml", before).with("b/bexum.toml", changed(before, change));
    let run = folder.run(&[&["impact", "a", "b"], args].concat());
    assert!(matches!(run.code, Some(0 | 1)), "{change:?} {args:?}: {}{}", run.err, run.out);
    run
}

/// Whether the editor may, who is allowed these actions everywhere.
fn may(actions: &str, change: Change<'_>) -> (bool, String) {
    let before = format!("{ESTATE}{RIGHTS}{}", editing(actions));
    let run = ask(&before, change, &["--by", "user:editor"]);
    (run.code == Some(0), run.out)
}

/// For each key what it takes to touch it, and a change that touches nothing else.
const ROWS: &[(&str, Change<'_>)] = &[
    ("user.hire", &[("", "[user.new]\nplace = 'w/t'\nfull-name = 'New'")]),
    ("group.found", &[("", "[group.new]\nplace = 'w/t'\nmembers = 'user:ann'\njoin = 'open'")]),
    ("role.create", &[("", "[role.new]\nplace = 'w/t'\nheld-by = 'user:ann'")]),
    ("policy.draft", &[("", "[policy.new]\nplace = 'w/t'\n[[policy.new.deny]]\ndo = '*'")]),
    ("store.build", &[("", "[resource.'w/t/new']\nkind = 'store'")]),
    ("namespace.open", &[("", "[namespace.'w/s/a/new']")]),
    ("user.suspend", &[("[user.ben]", "[user.ben]\nenabled = false")]),
    ("user.mark", &[("[user.ben]", "[user.ben]\nattributes = { team = 'x' }")]),
    ("user.mark", &[("[user.ben]", "[user.ben]\nmanager = 'user:cas'")]),
    ("group.mark", &[("[group.crew]", "[group.crew]\nattributes = { team = 'x' }")]),
    ("role.mark", &[("[role.keeper]", "[role.keeper]\nattributes = { team = 'x' }")]),
    (
        "group.admit",
        &[(
            "members = [\"user:ann\"]\n[group.open]",
            "members = ['user:ann', 'user:ben']\n[group.open]",
        )],
    ),
    (
        "group.admit",
        &[
            ("[role.keeper]", "[role.keeper]"),
            ("join = \"open\"", "join = 'open'\nmembers-when = \"who.name = 'ben'\""),
        ],
    ),
    ("group.admit", &[("join = \"open\"", "join = 'closed'")]),
    (
        "group.admit",
        &[(
            "join = \"approval\"",
            "join = 'approval'\nasks = [{ who = 'user:ben', at = 2026-11-01T08:00:00Z }]",
        )],
    ),
    ("group.entrust", &[("join = \"open\"", "join = 'open'\nowners = 'user:ben'")]),
    ("role.hand-out", &[("[role.keeper]", "[role.keeper]\nheld-by = 'user:ben'")]),
    ("role.hand-out", &[("[role.keeper]", "[role.keeper]\ntaken-by = 'user:ben'")]),
    ("policy.word", &[("do = \"obj.read\"\n[policy.refuse]", "do = 'obj.*'\n[policy.refuse]")]),
    ("policy.word", &[("[policy.read]", "[policy.read]\ninclude = 'refuse'")]),
    ("policy.word", &[("[policy.read]", "[policy.read]\nattachable = 'w/s'")]),
    ("store.share", &[("", "[[attach]]\npolicy = 'read'\nto = 'user:ben'\nat = 'w/s/a'")]),
    ("store.bound", &[("", "[[attach]]\npolicy = 'refuse'\nto = 'user:ben'\nat = 'w/s/a'")]),
    ("store.bound", &[("", "[[ceiling]]\npolicy = 'read'\nover = 'w/s/a'\nfor = 'user:ben'")]),
    ("store.shut", &[("[resource.\"w/s/a\"]", "[resource.'w/s/a']\nsealed = true")]),
    ("store.label", &[("[resource.\"w/s/a\"]", "[resource.'w/s/a']\nattributes = { tier = 1 }")]),
    ("user.describe", &[("[user.ben]", "[user.ben]\nfull-name = 'Ben'")]),
    ("user.describe", &[("[user.ben]", "[user.ben]\nabout = 'a colleague'")]),
    ("group.describe", &[("[group.crew]", "[group.crew]\nabout = 'the crew'")]),
    ("role.describe", &[("[role.keeper]", "[role.keeper]\nabout = 'keeps'")]),
    ("policy.describe", &[("[policy.read]", "[policy.read]\nabout = 'reads'")]),
    ("store.describe", &[("[resource.\"w/s/a\"]", "[resource.'w/s/a']\nabout = 'a store'")]),
    ("user.dismiss", &[("[user.cas]\nplace = \"w/s\"", "")]),
    ("group.disband", &[("[group.asking]\nplace = \"w/s\"\njoin = \"approval\"", "")]),
    ("role.drop", &[("[role.keeper]\nplace = \"w/s\"", "")]),
    (
        "policy.withdraw",
        &[("[policy.read]\nplace = \"w/s\"\n[[policy.read.allow]]\ndo = \"obj.read\"\n", "")],
    ),
    ("store.pull-down", &[("[resource.\"w/s/a\"]\nkind = \"store\"", "")]),
];

#[test]
fn each_key_takes_its_action_and_no_other() {
    for (action, change) in ROWS {
        let (allowed, told) = may(&format!("'{action}'"), change);
        assert!(allowed, "{action} is enough for {change:?}\n{told}");
        let (allowed, told) = may(&format!("['*', '!{action}']"), change);
        assert!(!allowed, "without {action} not {change:?}\n{told}");
        assert!(told.contains("may user:editor make this change? no"), "{told}");
    }
}

#[test]
fn what_takes_more_than_one() {
    let rows: [(&[&str], Change<'_>); 6] = [
        // A new user's attributes are touched as well, and a scope's, and its seal.
        (&["user.hire", "user.mark"], &[("", "[user.new]\nplace = 'w/t'\nmanager = 'user:ann'")]),
        (
            &["store.build", "store.shut", "store.label"],
            &[("", "[resource.'w/t/new']\nkind = 'store'\nsealed = true\nattributes = { x = 1 }")],
        ),
        // What is renamed is gone and new; and so is what is moved.
        (&["role.drop", "role.create"], &[("[role.keeper]", "[role.warden]")]),
        (
            &["role.drop", "role.create"],
            &[("[role.keeper]\nplace = \"w/s\"", "[role.keeper]\nplace = 'w/t'")],
        ),
        // What is attached to a new scope, or there, is not covered by its being new.
        (
            &["store.build", "store.share"],
            &[(
                "",
                "[resource.'w/t/new']\nkind = 'store'\n[[attach]]\npolicy = 'read'\nto = 'user:ben'\nat = 'w/t/new'",
            )],
        ),
        // A policy that has a deny in either estate bounds.
        (
            &["policy.word", "store.bound"],
            &[
                ("[policy.read]", "[policy.read]\ninclude = 'refuse'"),
                ("", "[[attach]]\npolicy = 'read'\nto = 'user:ben'\nat = 'w/s/a'"),
            ],
        ),
    ];
    for (actions, change) in rows {
        let (allowed, told) = may(&format!("{actions:?}"), change);
        assert!(allowed, "{actions:?} are enough for {change:?}\n{told}");
        for action in actions {
            let (allowed, told) = may(&format!("['*', '!{action}']"), change);
            assert!(!allowed, "without {action} not {change:?}\n{told}");
        }
    }
}

#[test]
fn where_it_is_asked() {
    let at = |scope: &str, change: Change<'_>| {
        let estate = ESTATE.replace(
            "to = \"user:editor\"\nat = \"w\"",
            &format!("to = 'user:editor'\nat = '{scope}'"),
        );
        assert_ne!(estate, ESTATE);
        let before = format!("{estate}{RIGHTS}{}", editing("'*'"));
        ask(&before, change, &["--by", "user:editor"]).code == Some(0)
    };
    let cases: [(Change<'_>, [bool; 3]); 9] = [
        // At the account, at the one subscription, at the other.
        (&[("[user.ben]", "[user.ben]\nenabled = false")], [true, true, false]),
        (&[("", "[user.new]\nplace = 'w/t'")], [true, false, true]),
        (&[("", "[resource.'w/t/new']\nkind = 'store'")], [true, false, true]),
        (
            &[("", "[[attach]]\npolicy = 'read'\nto = 'user:ben'\nat = 'w/t/b'")],
            [true, false, true],
        ),
        // A group moved to another place takes both.
        (&[("[group.crew]\nplace = \"w/s\"", "[group.crew]\nplace = 'w/t'")], [true, false, false]),
        (&[("[resource.\"w/s/a\"]\nkind = \"store\"", "")], [true, true, false]),
        // What is new within what is new.
        (
            &[("", "[resource.'w/t/new']\nkind = 'store'\n[namespace.'w/t/new/x']")],
            [true, false, true],
        ),
        // A ceiling over everything is one over every account.
        (&[("", "[[ceiling]]\npolicy = 'read'\nfor = 'user:ben'")], [false, false, false]),
        (&[("[user.loose]", "[user.loose]\nplace = 'w/s'")], [false, false, false]),
    ];
    for (change, expected) in cases {
        for (scope, expected) in ["w", "w/s", "w/t"].into_iter().zip(expected) {
            assert_eq!(at(scope, change), expected, "{scope} {change:?}");
        }
    }
}

#[test]
fn only_the_files_owner() {
    let changes: [(Change<'_>, &str); 18] = [
        (&[("[user.loose]", "[user.loose]\nenabled = false")], "it has no place"),
        (
            &[(
                "members = [\"user:ann\"]\n\n[role.keeper]",
                "members = ['user:ann', 'user:ben']\n[role.keeper]",
            )],
            "it has no place",
        ),
        (&[("", "[user.new]")], "it has no place"),
        (&[("", "[account.new]")], "a new account"),
        (&[("observe = [\"list\"]", "observe = ['list', 'count']")], "the catalogue"),
        (&[("", "[[never]]\nwho = 'user:ben'\ndoes = '*'\non = '/w/**'")], "expectations"),
        (
            &[(
                "",
                "[[check]]\nname = 'c'\nwho = 'user:ben'\ndoes = 'obj.read'\non = 'w/s/a/x'\nexpect = 'deny'",
            )],
            "expectations",
        ),
        (&[("", "[[apart]]\nany-two-of = ['group:crew', 'group:open']")], "expectations"),
        (&[("\"user.new\" = \"user.hire\"", "\"user.new\" = 'user.mark'")], "edit rights"),
        (&[("[edit-rights]", "[edit-rights]\nno-more-than-own = true")], "edit rights"),
        (&[("", "[attributes.given]\nmfa = 'boolean'")], "declared attributes"),
        (&[("name = \"x\"", "name = 'y'")], "the estate itself"),
        (&[("[policy.read]", "[policy.read]\nlocked = true")], "whether a policy is locked"),
        (&[("[user.ben]", "[user.ben]\nsource = 'hr'")], "where it came from"),
        // Locked: the policy, a ceiling of it, an attachment of it that holds a deny.
        (
            &[("do = \"obj.read\"\n\n[[attach]]", "do = 'obj.write'\n\n[[attach]]")],
            "the policy is locked",
        ),
        (&[("", "[[ceiling]]\npolicy = 'kept-read'\nover = 'w/s/a'")], "the policy is locked"),
        (
            &[("", "[[attach]]\npolicy = 'kept'\nto = 'user:ben'\nat = 'w/s/a'")],
            "the policy is locked",
        ),
        // What it includes is locked, too.
        (
            &[("locked = true\n[[policy.kept.deny]]", "[[policy.kept.deny]]")],
            "the policy is locked",
        ),
    ];
    for (change, why) in changes {
        let (allowed, told) = may("'*'", change);
        assert!(!allowed, "{change:?}\n{told}");
        assert!(told.replace("\n       ", " ").contains(why), "{change:?}: {why}\n{told}");
    }
    let including = ESTATE.replace("[policy.kept]\n", "[policy.kept]\ninclude = 'refuse'\n");
    let before = format!("{including}{RIGHTS}{}", editing("'*'"));
    let change: Change<'_> = &[(
        "[[policy.refuse.deny]]\ndo = \"obj.write\"",
        "[[policy.refuse.deny]]\ndo = 'obj.read'",
    )];
    assert_eq!(ask(&before, change, &["--by", "user:editor"]).code, Some(1));
    // An attachment of a locked policy that refuses nothing is like others.
    let change: Change<'_> =
        &[("", "[[attach]]\npolicy = 'kept-read'\nto = 'user:ben'\nat = 'w/s/a'")];
    assert!(may("'store.share'", change).0);
}

#[test]
fn what_is_no_touch() {
    let changes: [Change<'_>; 4] = [
        &[("members = [\"user:ann\", \"user:loose\"]", "members = ['user:loose', 'user:ann']")],
        &[("join = \"open\"", "join = 'open'\nabout = ''"), ("about = ''", "")],
        &[("[user.ben]", "[user.ben]\nenabled = true")],
        &[
            ("[[attach]]\npolicy = \"kept-read\"\nto = \"group:crew\"\nat = \"w/t/b\"", ""),
            (
                "[[attach]]\npolicy = \"editing\"",
                "[[attach]]\npolicy = ['kept-read']\nto = ['group:crew']\nat = ['w/t/b']\n[[attach]]\npolicy = \"editing\"",
            ),
        ],
    ];
    for change in changes {
        let (allowed, told) = may("'obj.read'", change);
        assert!(allowed, "{change:?}\n{told}");
    }
}

#[test]
fn which_action_is_asked() {
    let rights = |scope_new: &str, attach: &str| {
        let rights = RIGHTS
            .replace("[\"namespace.open\", \"store.build\"]", scope_new)
            .replace("\"scope.attach\" = \"store.share\"", attach);
        format!("{ESTATE}{rights}")
    };
    let new_store: Change<'_> = &[("", "[resource.'w/t/new']\nkind = 'store'")];
    let attach: Change<'_> = &[("", "[[attach]]\npolicy = 'read'\nto = 'user:ben'\nat = 'w/s/a'")];
    let share = "\"scope.attach\" = 'store.share'";
    let cases = [
        // Of a new scope only an action of its own kind counts.
        ("'user.hire'", share, "'*'", new_store, false),
        ("['user.hire', 'store.build']", share, "'store.build'", new_store, true),
        // Else the first that applies, and no other.
        (
            "'store.build'",
            "\"scope.attach\" = ['group.admit', 'store.share']",
            "'store.share'",
            attach,
            true,
        ),
        (
            "'store.build'",
            "\"scope.attach\" = ['store.label', 'store.share']",
            "'store.share'",
            attach,
            false,
        ),
        ("'store.build'", "\"scope.attach\" = 'group.admit'", "'*'", attach, false),
        // No action is named.
        ("'store.build'", "", "'*'", attach, false),
    ];
    for (scope_new, attach_key, allowed, change, expected) in cases {
        let before = format!("{}{}", rights(scope_new, attach_key), editing(allowed));
        let run = ask(&before, change, &["--by", "user:editor"]);
        assert_eq!(run.code == Some(0), expected, "{scope_new} {attach_key}\n{}", run.out);
    }
    // Without any edit rights nobody may.
    let run = ask(&format!("{ESTATE}{}", editing("'*'")), attach, &["--by", "user:editor"]);
    assert_eq!(run.code, Some(1), "{}", run.out);
}

#[test]
fn in_their_circumstances() {
    let attach: Change<'_> = &[("", "[[attach]]\npolicy = 'read'\nto = 'user:ben'\nat = 'w/s/a'")];
    let estate = format!("{ESTATE}{RIGHTS}");
    let when = format!("{}when = 'given.mfa'\n", editing("'store.share'"));
    let before = format!("{estate}{when}");
    let by = |args: &[&str]| ask(&before, attach, &[&["--by", "user:editor"], args].concat()).code;
    assert_eq!(by(&[]), Some(1));
    assert_eq!(by(&["--given", "mfa=true"]), Some(0));
    // It is asked now, whatever moment the change is looked at.
    let ended = format!("{estate}{}", editing("'store.share'"))
        .replace("to = \"user:editor\"", "to = 'user:editor'\nuntil = 2020-01-01T00:00:00Z");
    let then = ask(&ended, attach, &["--by", "user:editor", "--at-time", "2019-01-01T00:00:00Z"]);
    assert_eq!(then.code, Some(1));
    let as_role = format!("{estate}{}", editing("'store.share'"))
        .replace("to = \"user:editor\"", "to = 'role:keeper'")
        .replace("[role.keeper]", "[role.keeper]\ntaken-by = 'user:ben'");
    assert_eq!(ask(&as_role, attach, &["--by", "user:ben"]).code, Some(1));
    assert_eq!(ask(&as_role, attach, &["--by", "user:ben", "--as", "role:keeper"]).code, Some(0));
    assert_eq!(ask(&as_role, attach, &["--by", "user:cas", "--as", "role:keeper"]).code, Some(1));
    let folder = Folder::new().with("a/bexum.toml", &before).with("b/bexum.toml", &before);
    for args in [
        &["--by", "user:nobody"][..],
        &["--by", "group:crew"],
        &["--by", "user:editor", "--as", "role:none"],
        &["--by", "user:editor", "--also", "group:crew"],
        &["--by", "user:editor", "--under", "read"],
        &["--as", "role:keeper"],
    ] {
        let run = folder.run(&[&["impact", "a", "b"], args].concat());
        assert_eq!(run.code, Some(2), "{args:?}: {}", run.out);
    }
}

#[test]
fn every_format_says_so() {
    let before = format!("{ESTATE}{RIGHTS}{}", editing("'store.share'"));
    let change: Change<'_> = &[
        ("", "[[attach]]\npolicy = 'read'\nto = 'user:ben'\nat = 'w/s/a'"),
        ("[user.ben]", "[user.ben]\nenabled = false"),
    ];
    let text = ask(&before, change, &["--by", "user:editor", "--at-time", crate::support::AT]);
    insta::assert_snapshot!(text.out);
    let json = ask(&before, change, &["--by", "user:editor", "--format", "json"]);
    let shape: Value = serde_json::from_str(&json.out).expect("JSON");
    assert_eq!(shape["by"]["is-allowed"], false);
    assert_eq!(shape["by"]["touches"][1]["action"], "user.suspend");
    let markdown = ask(&before, change, &["--by", "user:editor", "--format", "markdown"]);
    assert!(
        markdown.out.contains("may user:editor make this change?</code> **no**"),
        "{}",
        markdown.out
    );
    let csv = ask(&before, change, &["--by", "user:editor", "--format", "csv"]);
    assert_eq!(csv.code, Some(1));
    assert!(csv.out.starts_with("who,as,"), "{}", csv.out);
}
