//! `bexum impact --by`: what everybody may do for themselves, and that nobody gives more than they have.

use crate::by::{Change, ESTATE, RIGHTS, ask, editing};

#[test]
fn everybodys_own_rights() {
    let with = |members: &str| format!("join = 'open'\nmembers = {members}");
    let (ben, ben_for_a_while, others, both) = (
        with("'user:ben'"),
        with("[{ who = 'user:ben', until = 2030-01-01T00:00:00Z }]"),
        with("'user:cas'"),
        with("['user:ben', 'user:cas']"),
    );
    let open = "join = \"open\"";
    let left = ("members = [\"user:ann\", \"user:loose\"]", "members = ['user:loose']");
    let asks = |who: &str| {
        format!("join = 'approval'\nasks = [{{ who = '{who}', at = 2026-11-01T08:00:00Z }}]")
    };
    let (own_ask, other_ask) = (asks("user:ben"), asks("user:cas"));
    let asking = "join = \"approval\"";
    let entered = format!("{own_ask}\nmembers = 'user:cas'");
    let cases: [(&str, Change<'_>, bool); 14] = [
        ("user:ben", &[(open, &ben)], true),
        ("user:ben", &[(open, &ben_for_a_while)], true),
        ("user:ben", &[(open, &others)], false),
        ("user:ben", &[(open, &both)], false),
        ("user:off", &[(open, "join = 'open'\nmembers = 'user:off'")], false),
        ("resource:w/s/a", &[(open, "join = 'open'\nmembers = 'resource:w/s/a'")], false),
        // Not while people come in otherwise, nor where they do not come in by themselves.
        ("user:ben", &[(open, "join = 'closed'\nmembers = 'user:ben'")], false),
        ("user:ben", &[(asking, "join = 'open'\nmembers = 'user:ben'")], false),
        ("user:ben", &[(asking, "join = 'approval'\nmembers = 'user:ben'")], false),
        ("user:ben", &[(asking, &own_ask)], true),
        ("user:ben", &[(asking, &other_ask)], false),
        ("user:ben", &[(asking, &entered)], false),
        ("user:ann", &[left], true),
        ("user:ben", &[left], false),
    ];
    let before =
        format!("{ESTATE}{RIGHTS}{}[user.off]\nplace = 'w'\nenabled = false\n", editing("'*'"));
    for (who, change, expected) in cases {
        let run = ask(&before, change, &["--by", who]);
        assert_eq!(run.code == Some(0), expected, "{who} {change:?}\n{}", run.out);
    }
    // Beside something else of the same group it is no right of one's own.
    let more: Change<'_> = &[(open, &ben), ("[group.crew]", "[group.crew]\nabout = 'x'")];
    assert_eq!(ask(&before, more, &["--by", "user:ben"]).code, Some(1));
}

/// With an account of people, a store with a tagged namespace, a deny and a ceiling.
const GUARDED: &str = r#"
[namespace."w/s/a/raw"]
attributes = { open = false }
[policy.tagged]
place = "w/s"
[[policy.tagged.allow]]
do = "obj.*"
when = "target.open"
[policy.teamed]
place = "w/s"
[[policy.teamed.allow]]
do = "obj.*"
when = "who.team = 'core'"
[policy.everything]
place = "w/s"
[[policy.everything.allow]]
do = "*"
[policy.write]
place = "w/s"
[[policy.write.allow]]
do = "obj.write"
[policy.as-user]
place = "w/s"
[[policy.as-user.allow]]
do = "obj.write"
when = "who.type = 'user'"
[policy.with-mfa]
place = "w/s"
[[policy.with-mfa.allow]]
do = "obj.write"
when = "given.mfa"
[[attach]]
policy = "with-mfa"
to = "user:editor"
at = "w/s"
[user.admin]
place = "w"
[group.strong]
place = "w/t"
[[attach]]
policy = "everything"
to = ["user:admin", "group:strong"]
at = "w"
[[attach]]
policy = ["tagged", "teamed"]
to = "everyone"
at = "w/s/a"
[[attach]]
policy = "write"
to = "user:ben"
at = "w/s/a"
[[attach]]
policy = "refuse"
to = "user:ben"
at = "w/s/a"
[[ceiling]]
policy = "read"
over = "w/s/a"
for = "group:bound"
[[attach]]
policy = "write"
to = "user:ann"
at = "w/s/a"
"#;

/// No more than one's own: what somebody with every edit right in one subscription might try.
#[test]
fn ways_in_are_shut() {
    // The editor may edit everything at `w/s`, and read there; nothing else.
    let rights = RIGHTS.replace("[edit-rights]", "[edit-rights]\nno-more-than-own = true");
    let estate =
        ESTATE.replace("to = \"user:editor\"\nat = \"w\"", "to = 'user:editor'\nat = 'w/s'");
    let before = format!(
        "{estate}{rights}{GUARDED}{}",
        editing(
            "['user.*', 'group.*', 'role.*', 'policy.*', 'store.*', 'namespace.*', 'obj.read']"
        )
    );
    let crew = "members = [\"user:ann\"]\n[group.open]";
    let tried: [(Change<'_>, &str); 18] = [
        // A role that can be taken up later, of which by itself nothing is said.
        (
            &[
                (
                    "[role.keeper]",
                    "[role.keeper]\ntaken-by = [{ who = 'user:cas', from = 2090-01-01T00:00:00Z }]",
                ),
                ("", "[[attach]]\npolicy = 'as-user'\nto = 'role:keeper'\nat = 'w/s/a'"),
            ],
            "user:cas as role:keeper could obj.write",
        ),
        // Even a new store, where somebody else can do more than who makes it.
        (
            &[("", "[resource.'w/s/new']\nkind = 'store'")],
            "user:admin could obj.write on w/s/new/**",
        ),
        // Let into a group that can do something elsewhere.
        (
            &[(crew, "members = ['user:ann', 'user:ben']\n[group.open]")],
            "user:ben could obj.read on w/t/b/**",
        ),
        (
            &[("", "[[attach]]\npolicy = 'everything'\nto = 'user:editor'\nat = 'w/s/a'")],
            "could obj.write",
        ),
        (
            &[
                ("[[policy.read.allow]]\ndo = \"obj.read\"", "[[policy.read.allow]]\ndo = 'obj.*'"),
                ("", "[[attach]]\npolicy = 'read'\nto = 'user:ben'\nat = 'w/s/a'"),
            ],
            "could obj.write",
        ),
        // A group moved to where one has rights.
        (
            &[(
                "[group.strong]\nplace = \"w/t\"",
                "[group.strong]\nplace = 'w/s'\nmembers = 'user:editor'",
            )],
            "is denied",
        ),
        (
            &[
                (crew, "members-when = \"who.name = 'editor'\"\n[group.open]"),
                ("", "[[attach]]\npolicy = 'everything'\nto = 'group:crew'\nat = 'w/s/a'"),
            ],
            "could",
        ),
        // A group that stands elsewhere is not theirs, however people come in.
        (
            &[(
                "[group.strong]\nplace = \"w/t\"",
                "[group.strong]\nplace = 'w/t'\njoin = 'open'\nmembers = 'user:editor'",
            )],
            "is denied",
        ),
        // A new group with members, that something is attached to.
        (
            &[(
                "",
                "[group.new]\nplace = 'w/s'\nmembers = 'user:editor'\n[[attach]]\npolicy = 'write'\nto = 'group:new'\nat = 'w/s/a'",
            )],
            "could obj.write",
        ),
        // A window that opens later.
        (
            &[(
                "",
                "[[attach]]\npolicy = 'write'\nto = 'user:cas'\nat = 'w/s/a'\nfrom = 2090-01-01T00:00:00Z",
            )],
            "user:cas could obj.write",
        ),
        // An attribute that a condition waits for: anybody's, and of what is asked about.
        (
            &[("[user.cas]", "[user.cas]\nattributes = { team = 'core' }")],
            "user:cas could obj.write",
        ),
        (&[("attributes = { open = false }", "attributes = { open = true }")], "could obj.write"),
        (&[("", "[namespace.'w/s/a/new']\nattributes = { open = true }")], "could obj.write"),
        // A deny detached, or emptied.
        (
            &[("[[attach]]\npolicy = \"refuse\"\nto = \"user:ben\"\nat = \"w/s/a\"", "")],
            "user:ben could obj.write",
        ),
        (
            &[(
                "[[policy.refuse.deny]]\ndo = \"obj.write\"",
                "[[policy.refuse.deny]]\ndo = 'obj.read'",
            )],
            "user:ben could obj.write",
        ),
        // A group left that carries a ceiling.
        (
            &[("members = [\"user:ann\", \"user:loose\"]", "members = ['user:loose']")],
            "user:ann could obj.write",
        ),
        // Administrators pushed under a ceiling, by a list or with a role.
        (
            &[(
                "members = [\"user:ann\", \"user:loose\"]",
                "members = ['user:ann', 'user:loose', 'user:admin']",
            )],
            "user:admin would lose",
        ),
        (
            &[
                ("[role.keeper]", "[role.keeper]\nheld-by = 'user:admin'"),
                ("", "[[attach]]\npolicy = 'refuse'\nto = 'role:keeper'\nat = 'w/s/a'"),
            ],
            "user:admin would lose obj.write",
        ),
    ];
    for (change, why) in tried {
        let run = ask(&before, change, &["--by", "user:editor"]);
        let told = run.out.replace("\n       ", " ");
        assert_eq!(run.code, Some(1), "{change:?}\n{}", run.out);
        assert!(told.contains(why), "{change:?}: {why}\n{}", run.out);
    }
    // Leaving it by one's own right is no way out either.
    let alone = ask(
        &before.replace("no-more-than-own = true", ""),
        &[("members = [\"user:ann\", \"user:loose\"]", "members = ['user:loose']")],
        &["--by", "user:ann"],
    );
    assert_eq!(alone.code, Some(1), "{}", alone.out);
    assert!(alone.out.contains("leaving would open something"), "{}", alone.out);
    // What is within their own, and what opens nothing, they may.
    let fine: [Change<'_>; 5] = [
        // In circumstances in which they can do it themselves, and in no other.
        &[("", "[[attach]]\npolicy = 'with-mfa'\nto = 'user:cas'\nat = 'w/s/a'")],
        &[("", "[[attach]]\npolicy = 'read'\nto = 'user:cas'\nat = 'w/s/a'")],
        &[("", "[[attach]]\npolicy = 'refuse'\nto = 'user:cas'\nat = 'w/s/a'")],
        &[("join = \"approval\"", "join = 'approval'\nmembers = 'user:ben'")],
        &[(
            "",
            "[group.new]\nplace = 'w/s'\nmembers = 'user:cas'\n[[attach]]\npolicy = 'read'\nto = 'group:new'\nat = 'w/s/a'",
        )],
    ];
    for change in fine {
        let run = ask(&before, change, &["--by", "user:editor"]);
        assert_eq!(run.code, Some(0), "{change:?}\n{}", run.out);
    }
}

/// Somebody who may take up a role later only, when it allows nothing any more, is let in now.
#[test]
fn a_role_of_later_is_not_one_of_now() {
    let rights = RIGHTS.replace("[edit-rights]", "[edit-rights]\nno-more-than-own = true");
    let later = "taken-by = [{ who = 'user:cas', from = 2090-01-01T00:00:00Z }]";
    let keeper = ESTATE.replace("[role.keeper]", &format!("[role.keeper]\n{later}"));
    let attached = "[[attach]]\npolicy = 'write'\nto = 'role:keeper'\nat = 'w/s/a'\n";
    let editing = editing("['user.*', 'group.*', 'role.*', 'policy.*', 'store.*', 'obj.read']");
    let change: Change<'_> = &[(later, "taken-by = 'user:cas'")];
    for (until, told) in
        [("until = 2090-01-01T00:00:00Z\n", true), ("until = 2020-01-01T00:00:00Z\n", false)]
    {
        let before = format!("{keeper}{rights}{GUARDED}{attached}{until}{editing}");
        let run = ask(&before, change, &["--by", "user:editor"]);
        assert_eq!(run.code == Some(1), told, "{}", run.out);
        let opens = run.out.contains("user:cas as role:keeper could obj.write on w/s/a/**");
        assert_eq!(opens, told, "{}", run.out);
    }
}

/// What one can do in one session or in another, in the same circumstances, is one's own; what one can do
/// in none of them is not.
#[test]
fn sessions_of_ones_own_count_together() {
    let rights = RIGHTS.replace("[edit-rights]", "[edit-rights]\nno-more-than-own = true");
    let own = "[policy.set]\nplace = 'w/s'\n[[policy.set.allow]]\ndo = 'obj.write'\nwhen = 'given.ticket is set'\n\
               [policy.unset]\nplace = 'w/s'\n[[policy.unset.allow]]\ndo = 'obj.write'\nwhen = 'given.ticket is not set'\n\
               [[attach]]\npolicy = 'set'\nto = 'user:editor'\nat = 'w/s'\n\
               [[attach]]\npolicy = 'unset'\nto = 'role:keeper'\nat = 'w/s'\n";
    let guarded = GUARDED.replace("policy = \"with-mfa\"", "policy = \"read\"");
    let editing = editing("['user.*', 'group.*', 'role.*', 'policy.*', 'store.*', 'obj.read']");
    for (taken_by, policies, is_own) in [
        ("user:editor", "'set'", true),
        ("user:editor", "'unset'", true),
        ("user:editor", "'set', 'unset'", true),
        // With nothing said of a ticket, neither of them counts.
        ("user:editor", "'write'", false),
        ("user:ben", "'set'", true),
        ("user:ben", "'unset'", false),
        ("user:ben", "'set', 'unset'", false),
    ] {
        let estate = ESTATE
            .replace("to = \"user:editor\"\nat = \"w\"", "to = 'user:editor'\nat = 'w/s'")
            .replace("[role.keeper]", &format!("[role.keeper]\ntaken-by = '{taken_by}'"));
        let before = format!("{estate}{rights}{guarded}{own}{editing}");
        let attached = format!("[[attach]]\npolicy = [{policies}]\nto = 'user:cas'\nat = 'w/s/a'");
        let run = ask(&before, &[("", &attached)], &["--by", "user:editor"]);
        assert_eq!(run.code == Some(0), is_own, "{taken_by} {policies}\n{}", run.out);
        let told = run.out.contains("user:cas could obj.write on w/s/a/**");
        assert_eq!(told, !is_own, "{taken_by} {policies}\n{}", run.out);
    }
}
