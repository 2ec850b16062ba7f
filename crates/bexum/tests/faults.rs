//! Broken estates: each ends in a message that a stranger could act on, exit code 2, no panic.

use crate::support::{Folder, Run, command_at, finish};

fn check(folder: &Folder) -> Run {
    let run = folder.run(&["show", "scopes"]);
    assert_eq!(run.code, Some(2), "{run:?}");
    assert_eq!(run.out, "", "nothing is said of an estate that does not load");
    run
}

/// What is added to a sound estate, and what must be said of it.
const FAULTS: &[(&str, &str, &[&str])] = &[
    ("unknown table", "[usr.x]", &["unknown table `usr`", "did you mean `user`?"]),
    (
        "unknown key",
        "[user.x]\nenbled = true",
        &["unknown key `enbled` in a user", "did you mean `enabled`?"],
    ),
    (
        "unknown key, nothing near",
        "[user.x]\nshoe-size = 4",
        &["unknown key `shoe-size`", "known here: `full-name`"],
    ),
    ("missing kind", "[resource.\"v/x\"]", &["a resource needs the key `kind`"]),
    ("missing do", "[[policy.p.allow]]\non = ['*']", &["a statement needs the key `do`"]),
    (
        "missing attach keys",
        "[[attach]]\npolicy = 'reader'",
        &["needs the key `to`", "needs the key `at`"],
    ),
    ("missing ceiling policy", "[[ceiling]]\nover = 'v'", &["a ceiling needs the key `policy`"]),
    (
        "wrong type",
        "[user.x]\nenabled = 'yes'",
        &["`enabled` must be `true` or `false`, not a string"],
    ),
    (
        "wrong element",
        "[group.g]\nmembers = [1]",
        &["an element of `members` must be a principal, or a table with `who`, not an integer"],
    ),
    (
        "ceiling is no array",
        "[ceiling]\npolicy = 'reader'",
        &["`ceiling` must be an array of tables"],
    ),
    (
        "undeclared user",
        "[group.g]\nmembers = 'user:inse'",
        &["user `inse` is not declared", "did you mean `ines`?"],
    ),
    (
        "undeclared scope",
        "[[attach]]\npolicy='reader'\nto='everyone'\nat='v/sto'",
        &["scope `v/sto` is not declared"],
    ),
    (
        "undeclared policy",
        "[[ceiling]]\npolicy = 'raeder'",
        &["policy `raeder` is not declared", "did you mean `reader`?"],
    ),
    (
        "undeclared kind",
        "[resource.\"v/x\"]\nkind='stoer'",
        &["kind `stoer` is not declared", "did you mean `store`?"],
    ),
    ("undeclared service", "[kind.q]\nservice = 'archive'", &["service `archive` is not declared"]),
    (
        "not a principal",
        "[group.g]\nowners = 'ines'",
        &["`ines` is no principal here: write `user:NAME`"],
    ),
    (
        "role as a member",
        "[role.r]\n[group.g]\nmembers = 'role:r'",
        &["`role:r` is no principal here"],
    ),
    (
        "namespace as a principal",
        "[namespace.\"v/n\"]\n[group.g]\nmembers = 'resource:v/n'",
        &["only a scope declared as `[resource.…]` can act"],
    ),
    ("twice in one file", "[user.ines]", &["user `ines` is declared twice", "first declared here"]),
    (
        "key twice",
        "[user.x]\nenabled = true\nenabled = false",
        &["key `enabled` stands twice", "first here"],
    ),
    (
        "bad name",
        "[user.\"in es\"]",
        &["`in es` is no name for a user", "an ASCII letter or digit"],
    ),
    ("bad kind name", "[kind.Store]", &["`Store` is no name for a kind"]),
    (
        "bad attribute name",
        "[user.x]\nattributes = { 'a b' = 1 }",
        &["`a b` is no name for an attribute"],
    ),
    (
        "orphan scope",
        "[resource.\"v/q/x\"]\nkind='store'",
        &["lies below `v/q`, which is not declared"],
    ),
    ("account below", "[account.\"v/a\"]", &["an account cannot lie at `v/a`"]),
    ("lone subscription", "[subscription.s]", &["a subscription cannot lie at `s`"]),
    ("subscription too deep", "[subscription.\"v/s/t\"]", &["lies directly below an account"]),
    (
        "group loop",
        "[group.a]\nmembers='group:b'\n[group.b]\nmembers='group:a'",
        &["groups form a loop: a → b → a"],
    ),
    ("role loop", "[role.a]\nheld-by='role:a'", &["roles form a loop: a → a"]),
    (
        "include loop",
        "[policy.a]\ninclude='b'\n[policy.b]\ninclude='a'",
        &["included policies form a loop: a → b → a"],
    ),
    ("empty list", "[[attach]]\npolicy=[]\nto='everyone'\nat='v'", &["`policy` must not be empty"]),
    ("empty do", "[[policy.p.allow]]\ndo = []", &["`do` must not be empty"]),
    (
        "never open",
        "[[attach]]\npolicy='reader'\nto='everyone'\nat='v'\nfrom=2026-02-01T00:00:00Z\nuntil=2026-02-01T00:00:00Z",
        &["this window never opens"],
    ),
    (
        "local time",
        "[[attach]]\npolicy='reader'\nto='everyone'\nat='v'\nfrom=2026-02-01T00:00:00",
        &["`from` must be a date and time with an offset", "local date and time"],
    ),
    (
        "element without bounds",
        "[group.g]\nmembers = [{ who = 'user:ines' }]",
        &["a windowed element needs the key `from`"],
    ),
    (
        "reserved attribute",
        "[user.x]\nattributes = { path = 'a' }",
        &["no attribute can be called `path`"],
    ),
    ("float attribute", "[user.x]\nattributes = { a = 1.5 }", &["an attribute cannot be a float"]),
    ("huge integer", "[user.x]\nattributes = { a = 9223372036854775808 }", &["beyond 64 bits"]),
    ("mixed list", "[user.x]\nattributes = { a = [1, 'b'] }", &["this one has integer and string"]),
    ("nested list", "[user.x]\nattributes = { a = [[1]] }", &["a list within a list"]),
    (
        "verb twice",
        "[kind.q]\nobserve=['see']\nalter=['see']",
        &["verb `see` stands twice in kind `q`", "first here"],
    ),
    (
        "verb unlisted",
        "[kind.q]\nobserve=['see']\non-parent=['sea']",
        &["`on-parent` names `sea`", "did you mean `see`?"],
    ),
    (
        "verb in both",
        "[kind.q]\nobserve=['see']\non-parent=['see']\naccount-wide=['see']",
        &["cannot be both"],
    ),
    (
        "reserved kind",
        "[kind.user]\n[resource.\"v/x\"]\nkind='user'",
        &["`user` is no kind for a resource"],
    ),
    (
        "statement name twice",
        "[[policy.p.allow]]\nname='a'\ndo='*'\n[[policy.p.deny]]\nname='a'\ndo='*'",
        &["two statements named `a`", "first named here"],
    ),
    ("empty ceiling", "[policy.p]\n[[ceiling]]\npolicy='p'", &["policy `p` has no statement"]),
    ("place taken", "[user.store]\nplace='v/s'", &["user:store would be the target `v/s/store`"]),
    ("wrong join", "[group.g]\njoin='opne'", &["`join` cannot be `opne`", "`approval`"]),
    ("other format", "", &[]),
    ("action form", "[[policy.p.allow]]\ndo='read'", &["no action pattern"]),
    ("action level", "[[policy.p.allow]]\ndo='*.@obsrve'", &["there is no level `obsrve`"]),
    (
        "no such action",
        "[[policy.p.allow]]\ndo='file.opne'",
        &["no action in the catalogue matches `file.opne`", "did you mean `file.open`?"],
    ),
    ("only excludes", "[[policy.p.allow]]\ndo='!*'", &["this list only excludes"]),
    ("empty segment", "[[policy.p.allow]]\ndo='*'\non='a//b'", &["no empty segment"]),
    (
        "stars in a segment",
        "[[policy.p.allow]]\ndo='*'\non='a/b**'",
        &["`**` must be a whole segment", "^^^"],
    ),
    ("brace", "[[policy.p.allow]]\ndo='*'\non='{target.a}'", &["a brace is written `{who.NAME}`"]),
    (
        "brace time",
        "[[policy.p.allow]]\ndo='*'\non='{given.time}'",
        &["a moment is no part of a path"],
    ),
    (
        "condition end",
        "[[policy.p.allow]]\ndo='*'\nwhen='given.a ='",
        &["found the end of the condition"],
    ),
    ("condition sign", "[[policy.p.allow]]\ndo='*'\nwhen='given.a == 1'", &["write `=`"]),
    (
        "condition word",
        "[[policy.p.allow]]\ndo='*'\nwhen='team = 1'",
        &["neither a keyword nor a path"],
    ),
    (
        "condition literal",
        "[[policy.p.allow]]\ndo='*'\nwhen=\"given.a = ['x']\"",
        &["can never be decided", "use `in`"],
    ),
    (
        "condition range",
        "[[policy.p.allow]]\ndo='*'\nwhen=\"given.a within '10.0.0.1/8'\"",
        &["neither an IP address nor a range"],
    ),
    (
        "condition fits",
        "[[policy.p.allow]]\ndo='*'\nwhen='given.a fits given.b'",
        &["`fits` needs a literal string"],
    ),
    (
        "old root of a condition",
        "[[policy.p.allow]]\ndo='*'\nwhen=\"principal.team = 'a'\"",
        &["did you mean `who.team`?"],
    ),
    (
        "old presence",
        "[[policy.p.allow]]\ndo='*'\nwhen='has given.mfa'",
        &["`has` is neither", "write `PATH is set`"],
    ),
    (
        "old wildcard operator",
        "[[policy.p.allow]]\ndo='*'\nwhen=\"who.team like 'a*'\"",
        &["did you mean `fits`?"],
    ),
    (
        "old root of a brace",
        "[[policy.p.allow]]\ndo='*'\non='{context.run}/**'",
        &["a brace is written `{who.NAME}`", "did you mean `{given.run}`?"],
    ),
    ("old place", "[group.g]\nhome = 'v'", &["unknown key `home`", "did you mean `place`?"]),
    (
        "old circumstances",
        "[[check]]\nname='c'\nwho='user:ines'\ndoes='store.list'\non='v'\nexpect='deny'\ncontext={}",
        &["unknown key `context`", "did you mean `given`?"],
    ),
    (
        "presence without its word",
        "[[policy.p.allow]]\ndo='*'\nwhen='given.mfa is'",
        &["expected `set` or `not set`"],
    ),
    (
        "condition root",
        "[[policy.p.allow]]\ndo='*'\nwhen=\"who.path = 'a'\"",
        &["built in under `target.`"],
    ),
    (
        "members-when",
        "[group.g]\nmembers-when = 'given.a'",
        &["may look only at `who.` attributes"],
    ),
    (
        "members-when undecided",
        "[group.g]\nmembers-when = 'not (who.team != 1)'",
        &["undecided for user `ines`", "`who.team`"],
    ),
    ("not TOML", "user.x = ", &["bexum.toml:"]),
    ("open string", "[user.x]\nfull-name = 'Ines", &["bexum.toml:"]),
];

#[test]
fn every_fault_is_told_with_its_place_and_a_way_out() {
    for (what, more, said) in FAULTS {
        let folder = match *what {
            "other format" => {
                Folder::new().with("bexum.toml", "[estate]\nname = 'x'\nformat = 2\n")
            }
            _ => Folder::estate().and(more),
        };
        let run = check(&folder);
        for part in *said {
            assert!(run.err.contains(part), "{what}: `{part}` is not in:\n{}", run.err);
        }
        assert!(run.err.contains("--> bexum.toml:"), "{what} has no place:\n{}", run.err);
    }
}

#[test]
fn all_faults_are_told_at_once_in_order() {
    let folder = Folder::estate()
        .and("[user.x]\nenbled = true\n[group.g]\nmembers = ['user:inse', 'ines']\n")
        .with(
            "more/z.toml",
            "[user.ines]\n[[attach]]\npolicy = 'reader'\nto = 'everyone'\nat = 'v/t'\n",
        );
    let run = check(&folder);
    insta::assert_snapshot!(run.err);
}

#[test]
fn a_condition_is_marked_inside_its_string() {
    let folder = Folder::estate().and(concat!(
        "[[policy.p.allow]]\ndo = '*'\n",
        r#"when = "given.name = \"a\" and givn.mfa""#,
        "\n[[policy.p.allow]]\ndo = '*'\non = ['fine/**', 'a/{context.run}/b']\n",
        "[[policy.p.deny]]\ndo = '*'\nwhen = '''\ngiven.a\n  and given.b < 'soon'\n'''\n",
    ));
    insta::assert_snapshot!(check(&folder).err);
}

/// What a load says, of an estate that ends in these lines.
fn told(more: &str) -> String {
    check(&Folder::estate().and(more)).err
}

#[test]
fn of_three_the_first_is_named_first() {
    insta::assert_snapshot!(told("[user.a]\n[user.b]\n[user.a]\n[user.a]\n"));
}

#[test]
fn a_line_that_is_no_toml_has_one_fault() {
    for (line, said) in [
        ("enabled = ", "a value is missing here"),
        ("attributes = { since = 2026-02-30T00:00:00Z }", "invalid date"),
        ("attributes = { x = 1.0.0 }", ""),
    ] {
        let text = told(&format!("[user.a]\n{line}\nfull-name = 'x'\n"));
        assert!(text.contains(said) && text.contains("error: 1 fault"), "{line}: {text}");
    }
    let text = told("[group.a]\nmembers = ['user:ines', \n[user.b]\n");
    assert!(text.contains("error: 1 fault"), "{text}");
}

#[test]
fn too_deep_is_told_where_it_is() {
    let deep = format!("[user.a]\nattributes{} = 1\n", ".b".repeat(200));
    let text = told(&deep);
    assert!(text.contains("nests deeper") && text.contains("bexum.toml:35:1"), "{text}");
}

#[test]
fn every_link_of_a_loop_has_its_place() {
    let loop_of = |n: usize| -> String {
        (0..n).map(|i| format!("[group.g{i}]\nmembers = 'group:g{}'\n", (i + 1) % n)).collect()
    };
    insta::assert_snapshot!(told(&loop_of(3)));
    let long = told(&loop_of(5000));
    assert!(long.contains("… 4989 more …") && long.len() < 3000, "{}: {long}", long.len());
}

#[test]
fn elements_and_keys_say_what_may_stand_there() {
    let text = told("[group.a]\nmembers = [['user:ines']]\n");
    assert!(text.contains("an element of `members` must be a principal"), "{text}");
    let text = told("[service.a]\nkey = 1\n");
    assert!(text.contains("only `about` is known here"), "{text}");
}

#[test]
fn a_long_line_leaves_no_empty_heading() {
    let text = told(&format!("[user.a]\nfull-name = '{}'; x\n", "long ".repeat(2000)));
    assert!(!text.lines().any(|line| line.trim() == ":::"), "{text}");
}

#[test]
fn the_root_file_must_say_what_it_is() {
    let said = |content: &str| check(&Folder::new().with("bexum.toml", content)).err;
    assert!(said("").contains("`bexum.toml` has no `[estate]` table"));
    assert!(said("[estate]\nformat = 1").contains("`[estate]` needs the key `name`"));
    assert!(said("[estate]\nname = 'x'").contains("`[estate]` needs the key `format`"));
    assert!(said("[estate]\nname = 'x'\nformat = 3").contains("only format 1 is known"));
    assert!(said("[estate]\nname = 'x'\nformat = '1'").contains("`format` must be the integer 1"));
    let folder = Folder::estate().with("b/bexum.toml", "[estate]\nname = 'x'\nformat = 1");
    assert!(check(&folder).err.contains("`[estate]` stands only in"));
}

#[test]
fn no_estate_at_all() {
    let folder = Folder::new();
    let run = folder.run(&["show"]);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("bexum init"), "{}", run.err);
    let run = folder.run(&["-C", "nowhere", "show"]);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("nowhere"), "{}", run.err);
    let run = Folder::new().with("x/y.toml", "").run(&["-C", "x", "show"]);
    assert!(run.err.contains("`x` is no estate: it has no `bexum.toml`"), "{}", run.err);
    std::fs::create_dir(folder.file("bexum.toml")).expect("a folder of that name");
    assert!(folder.run(&["-C", ".", "show"]).err.contains("is no estate"));
}

#[test]
fn files_that_are_not_text() {
    let folder = Folder::estate().with("people/latin.toml", b"[user.x]\nfull-name = \"Jos\xe9\"\n");
    let run = check(&folder);
    assert!(run.err.contains("`people/latin.toml` is not UTF-8"), "{}", run.err);
    assert!(run.err.contains("line 2"), "{}", run.err);
    let folder = Folder::estate().with("zero.toml", [0u8; 64]);
    check(&folder);
}

#[test]
fn faults_elsewhere_do_not_hide_behind_a_broken_file() {
    let folder = Folder::estate()
        .and("[group.g]\nmembers = ['user:kim', 'kim']\n")
        .with("people.toml", "[user.kim\n");
    let run = check(&folder);
    assert!(run.err.contains("`kim` is no principal here"), "{}", run.err);
    // Kim may well be declared in the file that cannot be read.
    assert!(!run.err.contains("user `kim` is not declared"), "{}", run.err);
}

#[test]
fn huge_lines_and_many_faults_stay_readable() {
    let long = format!("[user.x]\nattributes = {{ a = '{}', b = 1.5 }}\n", "é".repeat(5_000_000));
    let run = check(&Folder::estate().with("long.toml", long));
    assert!(run.err.contains("an attribute cannot be a float"), "{}", run.err);
    assert!(run.err.len() < 4000, "{} bytes", run.err.len());

    let many: String =
        (0..3000).map(|i| format!("[group.g{i}]\nmembers = 'user:nobody{i}'\n")).collect();
    let run = check(&Folder::estate().with("many.toml", many));
    assert!(run.err.contains("3000 faults"), "the count is told");
    assert!(
        run.err.contains("many.toml:6000:11: user `nobody2999` is not declared"),
        "all are told"
    );
}

#[test]
fn terminals_are_safe_from_names() {
    let run = check(&Folder::estate().and("[user.\"a\\u001b[31mb\"]"));
    assert!(!run.err.contains('\u{1b}'), "{:?}", run.err);
}

#[test]
fn nesting_without_end() {
    let deep =
        format!("[user.x]\nattributes = {}1{}\n", "{ a = ".repeat(50_000), " }".repeat(50_000));
    check(&Folder::estate().with("deep.toml", deep));
    let dotted = format!("[user.x.attributes]\n{}b = 1\n", "a.".repeat(70));
    check(&Folder::estate().with("dotted.toml", dotted));
    let condition = format!(
        "[[policy.p.allow]]\ndo = '*'\nwhen = '{}true{}'\n",
        "(".repeat(900),
        ")".repeat(900)
    );
    let run = check(&Folder::estate().and(&condition));
    assert!(run.err.contains("deeper than 200 levels"), "{}", run.err);
}

#[cfg(unix)]
mod on_unix {
    use std::os::unix::fs::{PermissionsExt as _, symlink};
    use std::os::unix::process::CommandExt as _;

    use super::*;

    #[test]
    fn links_out_and_links_nowhere() {
        let outside = Folder::new().with("x.toml", "[user.x]");
        let folder = Folder::estate();
        symlink(outside.file("x.toml"), folder.file("out.toml")).expect("a link");
        symlink("missing.toml", folder.file("gone.toml")).expect("a link");
        symlink("round.toml", folder.file("round.toml")).expect("a link");
        symlink(outside.path(), folder.file("away")).expect("a link");
        let run = check(&folder);
        for said in [
            "link `out.toml` leads out of the estate",
            "link `away` leads out of the estate",
            "link `gone.toml` leads nowhere",
            "link `round.toml` leads nowhere",
            "4 faults",
        ] {
            assert!(run.err.contains(said), "{said} is not in:\n{}", run.err);
        }
    }

    /// Root may read everything, so this runs the program as somebody else where it must.
    #[test]
    fn no_permission_to_read() {
        let folder =
            Folder::estate().with("secret.toml", "[user.x]").with("shut/y.toml", "[user.y]");
        let mode = |path: &str, mode| {
            let permissions = std::fs::Permissions::from_mode(mode);
            std::fs::set_permissions(folder.file(path), permissions).expect("permissions");
        };
        mode("", 0o755);
        mode("secret.toml", 0o000);
        mode("shut", 0o000);
        let program = folder.file("program");
        std::fs::copy(env!("CARGO_BIN_EXE_bexum"), &program).expect("a copy");
        let mut command = command_at(&program);
        command.args(["show", "users"]).current_dir(folder.path());
        if std::fs::read(folder.file("secret.toml")).is_ok() {
            command.uid(65534).gid(65534);
        }
        let run = finish(&mut command, b"");
        mode("shut", 0o755);
        assert_eq!(run.code, Some(2));
        assert!(run.err.contains("cannot read `secret.toml`"), "{}", run.err);
        assert!(run.err.contains("cannot read `shut`"), "{}", run.err);
    }
}
