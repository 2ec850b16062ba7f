//! Answers at one moment after another from one run: what was found out at a moment is used as long as it
//! holds, and no longer.

use serde_json::{Value, json};

use crate::corners::{check, q, with};
use crate::support::Folder;

/// What a role that is taken up brings can change with the moment, too.
#[test]
fn what_a_role_brings_counts_inside_its_window() {
    let more = "[role.brought]\nheld-by = [{ who = 'role:r', from = 2026-05-01T00:00:00Z, until = 2026-06-01T00:00:00Z }]\n\
                [[policy.look.allow]]\ndo = 'shelf.look'\n\
                [[attach]]\npolicy = 'look'\nto = 'role:brought'\nat = 'v/s/shelf'\n";
    let at = |time: &str| {
        let request = with(q("user:a", "shelf.look", "v/s/shelf"), "as", json!("role:r"));
        with(request, "given", json!({ "time": time }))
    };
    let (before, inside) = ("2026-04-30T23:59:59Z", "2026-05-01T00:00:00Z");
    let (last, after) = ("2026-05-31T23:59:59Z", "2026-06-01T00:00:00Z");
    check(
        more,
        &[
            (at(before), "not-granted"),
            (at(inside), "granted"),
            (at(last), "granted"),
            (at(after), "not-granted"),
            // And back again.
            (at(inside), "granted"),
            (at(before), "not-granted"),
        ],
    );
}

/// More windows than are kept of one principal, in a log that jumps between them.
#[test]
fn a_log_that_jumps_in_time_is_decided_line_by_line() {
    let day = |i: usize| format!("2026-07-{:02}T00:00:00Z", i + 1);
    let turns: String = (0..12)
        .map(|i| {
            format!(
                "[group.day{i:02}]\nmembers = [{{ who = 'user:n', from = {}, until = {} }}]\n\
                 [[policy.look{i:02}.allow]]\ndo = 'shelf.look'\nwhen = \"given.day = '{i}'\"\n\
                 [[attach]]\npolicy = 'look{i:02}'\nto = 'group:day{i:02}'\nat = 'v/s/shelf'\n",
                day(i),
                day(i + 1)
            )
        })
        .collect();
    let mut cases: Vec<(Value, &str)> = Vec::new();
    for step in 0..48 {
        // Each day is met often, in an order that is none.
        let (day_asked, day_of_group) = (step * 5 % 12, step * 7 % 12);
        let given = json!({ "time": day(day_asked), "day": day_of_group.to_string() });
        let expected = if day_asked == day_of_group { "granted" } else { "not-granted" };
        cases.push((with(q("user:n", "shelf.look", "v/s/shelf"), "given", given), expected));
    }
    check(&format!("[user.n]\n{turns}"), &cases);
}

/// What was granted by way of one group, and later by way of another, is counted of each.
#[test]
fn memberships_are_used_while_they_last() {
    let estate = "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\n[account.w]\n\
                  [resource.'w/s']\nkind = 'store'\n[user.u]\n\
                  [group.early]\nmembers = [{ who = 'user:u', until = 2026-03-01T00:00:00Z }]\n\
                  [group.late]\nmembers = [{ who = 'user:u', from = 2026-03-01T00:00:00Z }]\n\
                  [group.all]\nmembers = ['group:early', 'group:late']\n\
                  [[policy.p.allow]]\ndo = 'store.list'\n\
                  [[attach]]\npolicy = 'p'\nto = 'group:all'\nat = 'w'\n";
    let times = ["2026-02-01", "2026-02-02", "2026-04-01", "2026-02-03", "2026-04-02"];
    let log: String = times
        .iter()
        .map(|day| {
            let given = json!({ "time": format!("{day}T00:00:00Z") });
            format!("{}\n", with(q("user:u", "store.list", "w/s"), "given", given))
        })
        .collect();
    let folder = Folder::new().with("bexum.toml", estate).with("log.ndjson", log);
    let run = folder.run(&[
        "usage",
        "log.ndjson",
        "--by",
        "membership",
        "--at-time",
        "2026-05-01T00:00:00Z",
        "--format",
        "csv",
    ]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    let (early, late) = (
        "3,0,2026-02-01T00:00:00Z,2026-02-03T00:00:00Z",
        "2,0,2026-04-01T00:00:00Z,2026-04-02T00:00:00Z",
    );
    assert_eq!(
        run.out,
        format!(
            "by,thing,state,times,refused,first,last\n\
             membership,group:early in group:all,used,{early}\n\
             membership,user:u in group:early until 2026-03-01,used,{early}\n\
             membership,group:late in group:all,used,{late}\n\
             membership,user:u in group:late from 2026-03-01,used,{late}\n"
        )
    );
}
