//! `bexum impact` where a change concerns a great many: told together, and not kept cell by cell.

use std::fmt::Write as _;

use crate::support::{AT, Folder};

/// Users `u00` and so on, each with a policy of their own for their own store, and a group of all.
fn estate(users: usize, more: &str) -> String {
    let mut text = String::from(
        "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\n[kind.obj]\nobserve = ['read']\nalter = ['write']\n[account.v]\n[policy.p]\n[[policy.p.allow]]\ndo = 'obj.*'\n[policy.own]\n[[policy.own.allow]]\ndo = 'obj.read'\n",
    );
    for i in 0..users {
        let _ = write!(
            text,
            "[user.u{i:02}]\n[resource.'v/s{i:02}']\nkind = 'store'\n[[attach]]\npolicy = 'own'\nto = 'user:u{i:02}'\nat = 'v/s{i:02}'\n"
        );
    }
    text + more
}

const FOR_ALL: &str = "[[attach]]\npolicy = 'p'\nto = 'everyone'\nat = 'v'\n";

#[test]
fn many_different_changes_are_counted() {
    let folder = Folder::new()
        .with("a/bexum.toml", estate(20, ""))
        .with("b/bexum.toml", estate(20, FOR_ALL));
    let run = |args: &[&str]| folder.run(&[&["impact", "a", "b", "--at-time", AT], args].concat());
    let text = run(&[]);
    assert_eq!(text.code, Some(0), "{}", text.err);
    // Each of the users could read in a store already, and each in another one; so could no workload.
    let first = "40 principals gain 2 actions in 20 places, nobody loses anything\n";
    assert!(text.out.starts_with(first), "{}", text.out);
    let more = "  and 9 changes more, of 9 principals: `--full` names them\n";
    assert!(text.out.contains(more), "{}", text.out);
    let told = |text: &str| (0..20).filter(|i| text.contains(&format!("user:u{i:02}"))).count();
    let full = run(&["--full"]).out;
    assert_eq!((told(&text.out), told(&full)), (11, 20), "{}", text.out);
    assert!(!full.contains("changes more"), "{full}");
    let markdown = run(&["--format", "markdown"]).out;
    assert!(markdown.contains("| gained | and 9 changes more, of 9 principals |"), "{markdown}");
}

#[test]
fn each_cell_is_written_all_the_same() {
    let folder = Folder::new()
        .with("a/bexum.toml", estate(20, ""))
        .with("b/bexum.toml", estate(20, FOR_ALL));
    let csv = |args: &[&str]| {
        let args = [&["impact", "a", "b", "--at-time", AT, "--format", "csv"], args].concat();
        folder.run(&args).out
    };
    let all = csv(&[]);
    // Two actions in each of 20 stores for 40 who have sessions, but what users could do before.
    assert_eq!(all.lines().count(), 1 + 2 * 20 * 40 - 20);
    let mut rows: Vec<&str> = all.lines().skip(1).collect();
    rows.sort_unstable();
    rows.dedup();
    assert_eq!(rows.len(), 2 * 20 * 40 - 20);
    let one = csv(&["--who", "user:u07"]);
    let own = |row: &&&str| row.starts_with("user:u07,");
    assert_eq!(
        one.lines().skip(1).collect::<Vec<_>>(),
        rows.iter().filter(own).copied().collect::<Vec<_>>()
    );
    assert!(!one.contains("v/s07/**,obj.read"), "{one}");
    // The workloads are alike, whoever they are; of the users each is like no other.
    let together = csv(&["--together"]);
    assert!(together.contains("resource:v/s00,,v/s00/**,obj.read,deny,allow,20\n"), "{together}");
    assert!(together.contains("user:u07,,v/s07/**,obj.write,deny,allow,1\n"), "{together}");
}

/// Many new people of whom each may do the same: told together, with nothing but what is new for reasons;
/// and of one who is in a group only later, that it opens something then.
#[test]
fn many_who_are_new_are_told_together() {
    let people = |from: usize, until: usize| -> String {
        (from..until).map(|i| format!("[user.new{i:03}]\nfull-name = 'New {i}'\n")).collect()
    };
    let folder = Folder::new()
        .with("a/bexum.toml", estate(2, FOR_ALL))
        .with("b/bexum.toml", estate(2, &(FOR_ALL.to_owned() + &people(0, 300))));
    let run = |args: &[&str]| folder.run(&[&["impact", "a", "b", "--at-time", AT], args].concat());
    let text = run(&[]);
    let first = "300 people gain 2 actions in 2 places, nobody loses anything\n";
    assert!(text.out.starts_with(first), "{}{}", text.out, text.err);
    let one = run(&["--who", "user:new123"]).out;
    assert!(one.contains("\n    by user:new123: new (bexum.toml:"), "{one}");
    assert_eq!(one.matches("\n    by ").count(), 1, "{one}");
    let rows = run(&["--format", "csv"]).out;
    assert_eq!(rows.lines().count(), 1 + 300 * 2 * 2);

    let member = "from = 2027-03-01T00:00:00Z";
    let group = |members: &str| {
        format!(
            "[group.g]\nmembers = [{members}]\n[[attach]]\npolicy = 'p'\nto = 'group:g'\nat = 'v'\n"
        )
    };
    let later = Folder::new().with("a/bexum.toml", estate(2, &group("'user:u00'"))).with(
        "b/bexum.toml",
        estate(
            2,
            &(group(&format!("'user:u00', {{ who = 'user:new000', {member} }}")) + &people(0, 1)),
        ),
    );
    let run = |args: &[&str]| later.run(&[&["impact", "a", "b", "--at-time", AT], args].concat());
    let text = run(&[]).out;
    let first = "no access changes at this moment; later does at least obj.read on v/s00/** for user:new000\n";
    assert!(text.starts_with(first), "{text}");
    assert_eq!(run(&["--fail-on", "gained"]).code, Some(1));
    assert_eq!(run(&["--fail-on", "lost"]).code, Some(0));
}

/// What is done to somebody hangs on what they bear: that is a reason, too.
#[test]
fn what_can_be_done_to_somebody_has_a_reason() {
    let estate = |tier: &str| {
        estate(0, "")
            + &format!(
                "[kind.user]\nalter = ['rename']\n[user.boss]\n[user.moved]\nplace = 'v'\nattributes = {{ tier = '{tier}' }}\n[policy.q]\n[[policy.q.allow]]\ndo = 'user.rename'\nwhen = \"target.tier = 'raw'\"\n[[attach]]\npolicy = 'q'\nto = 'user:boss'\nat = 'v'\n"
            )
    };
    let folder = Folder::new()
        .with("a/bexum.toml", estate("cooked"))
        .with("b/bexum.toml", estate("raw") + "[user.other]\n");
    let text = folder.run(&["impact", "a", "b", "--at-time", AT]);
    assert!(
        text.out.starts_with("1 person gains 1 action in 1 place, nobody loses anything\n"),
        "{}{}",
        text.out,
        text.err
    );
    assert!(text.out.contains("    by user:moved: attributes (bexum.toml:"), "{}", text.out);
}
