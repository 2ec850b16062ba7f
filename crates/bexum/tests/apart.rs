//! Duties kept apart: by which ways somebody comes to have two of them at one time.

use crate::laws::json;
use crate::support::Folder;

const ESTATE: &str = "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\n\
[account.v]\n[subscription.'v/a']\nSEAL\n[resource.'v/a/x']\nkind = 'store'\n[subscription.'v/b']\n\
[user.u]\n[user.other]\n[group.g]\nmembers = ['user:u']\n\
[[policy.pay.allow]]\ndo = '*'\n[[policy.order.allow]]\ndo = '*'\n[[policy.stop.deny]]\ndo = '*'\n\
[policy.paying]\ninclude = 'pay'\n[policy.paying-more]\ninclude = 'paying'\n";

fn attach(policy: &str, to: &str, at: &str, window: &str) -> String {
    format!("[[attach]]\npolicy = '{policy}'\nto = '{to}'\nat = '{at}'\n{window}\n")
}

/// Checks whether the two duties can meet in one person.
fn check(seal: &str, duties: [&str; 2], at: &str, more: &str, meet: bool) {
    let [one, other] = duties;
    let apart = format!("[[apart]]\nname = 'x'\nany-two-of = ['{one}', '{other}']\n{at}\n");
    let estate = format!("{}{more}{apart}", ESTATE.replace("SEAL", seal));
    let report = json(&Folder::new().with("bexum.toml", &estate));
    let status = if meet { "broken" } else { "held" };
    assert_eq!(report["expectations"][0]["status"], status, "{seal} {at}\n{more}\n{report}");
}

#[test]
fn policies_count_where_they_have_a_say() {
    let (sealed, open, at) = ("sealed = true", "", "at = 'v/a/x'");
    let here = attach("order", "user:u", "v/a/x", "");
    for (seal, policy, place, at, meet) in [
        (open, "pay", "v", at, true),
        (open, "pay", "v/a", at, true),
        (open, "pay", "v/a/x", at, true),
        (open, "pay", "v/b", at, false),
        (open, "pay", "v/b", "", true),
        (open, "pay", "v/b", "at = ['v/b', 'v']", true),
        // A seal shuts out what allows from above, and nothing else.
        (sealed, "pay", "v", at, false),
        (sealed, "pay", "v/a", at, true),
        (sealed, "pay", "v", "at = 'v/a'", false),
        (sealed, "pay", "v/a", "at = 'v/a'", true),
        (sealed, "pay", "v/a/x", "at = 'v'", true),
        (sealed, "stop", "v", at, true),
        (open, "paying", "v", at, true),
        (open, "paying-more", "v", at, true),
        (sealed, "paying-more", "v", at, false),
    ] {
        let duty = if policy == "stop" { "policy:stop" } else { "policy:pay" };
        let more = format!("{here}{}", attach(policy, "user:u", place, ""));
        check(seal, [duty, "policy:order"], at, &more, meet);
        // Of two people nobody has both.
        let apart = format!("{here}{}", attach(policy, "user:other", place, ""));
        check(seal, [duty, "policy:order"], at, &apart, false);
        let by_group = format!("{here}{}", attach(policy, "group:g", place, ""));
        check(seal, [duty, "policy:order"], at, &by_group, meet);
    }
}

#[test]
fn one_after_the_other_is_not_at_one_time() {
    let from = |year: u32| format!("from = {year}-01-01T00:00:00Z");
    let until = |year: u32| format!("until = {year}-01-01T00:00:00Z");
    for (end, begin, meet) in [(2030, 2030, false), (2031, 2030, true), (2030, 2031, false)] {
        let pay = attach("pay", "user:u", "v", &until(end));
        let duties = ["policy:pay", "policy:order"];
        let order = attach("order", "user:u", "v", &from(begin));
        check("", duties, "", &format!("{pay}{order}"), meet);
        // By way of a group, a role, a role that is taken up, and one that comes with it.
        let to_group = format!("[group.late]\nmembers = [{{ who = 'user:u', {} }}]\n", from(begin));
        let order = attach("order", "group:late", "v", "");
        check("", duties, "", &format!("{pay}{to_group}{order}"), meet);
        for key in ["held-by", "taken-by"] {
            let role = format!("[role.late]\n{key} = [{{ who = 'user:u', {} }}]\n", from(begin));
            let order = attach("order", "role:late", "v", "");
            check("", duties, "", &format!("{pay}{role}{order}"), meet);
            check("", ["policy:pay", "role:late"], "", &format!("{pay}{role}"), meet);
        }
        let roles = format!(
            "[role.first]\ntaken-by = 'user:u'\n[role.late]\nheld-by = [{{ who = 'role:first', {} }}]\n",
            from(begin)
        );
        let order = attach("order", "role:late", "v", "");
        check("", duties, "", &format!("{pay}{roles}{order}"), meet);
        check("", ["policy:pay", "role:late"], "", &format!("{pay}{roles}"), meet);
        // And the other way round: what comes with a role goes before something else begins.
        let roles = format!(
            "[role.first]\ntaken-by = 'user:u'\n[role.early]\nheld-by = [{{ who = 'role:first', {} }}]\n",
            until(end)
        );
        let pay = attach("pay", "role:early", "v", "");
        let order = attach("order", "user:u", "v", &from(begin));
        check("", duties, "", &format!("{pay}{roles}{order}"), meet);
    }
}

#[test]
fn groups_and_roles_are_duties_too() {
    let roles = "[role.auditor]\nheld-by = 'group:g'\n[role.clerk]\ntaken-by = ['user:u', 'user:other']\n\
                 [role.chief]\nheld-by = 'role:clerk'\n[role.nobody]\n";
    for (one, other, meet) in [
        ("role:auditor", "role:clerk", true),
        ("role:auditor", "role:chief", true),
        ("role:clerk", "role:chief", true),
        ("group:g", "role:chief", true),
        ("group:g", "role:auditor", true),
        ("role:nobody", "role:clerk", false),
        ("group:g", "role:nobody", false),
    ] {
        check("", [one, other], "", roles, meet);
        check("", [other, one], "", roles, meet);
    }
    // A role's own attachments are had by whoever may take it up.
    let order = attach("order", "role:chief", "v", "");
    check("", ["group:g", "policy:order"], "", &format!("{roles}{order}"), true);
    let order = attach("order", "role:nobody", "v", "");
    check("", ["group:g", "policy:order"], "", &format!("{roles}{order}"), false);
}
