//! Guests whose memberships have no end.

use crate::diagnostic::Severity;
use crate::pattern::action::star_match;
use crate::principal::{Membership, Principal};
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "endless-guest",
    severity: Severity::Warning,
    finds: "people whom the house names by `who` in `[vet]`, with memberships that have no end",
    why: "Who came for a while stays for good, because nothing says when to look again.",
    example: r#"[group.visitors]
members = ["user:lin"]
[vet]
"endless-guest" = { who = ["group:visitors"] }
"#,
    fine: r#"[user.guest-noor]
[group.visitors]
members = [{ who = "user:guest-noor", until = 9000-01-01T00:00:00Z }]
[vet]
"endless-guest" = { who = ["group:visitors", "user:guest-*"] }
"#,
    asks_whom: true,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    let Some(setting) = estate.vet.of(RULE.name) else { return };
    let whole = vet.whole();
    let is_meant = |who: Principal| {
        let ids: Vec<String> =
            whole.above(&[who]).into_iter().map(|one| estate.principal_id(one)).collect();
        setting.who.iter().any(|pattern| ids.iter().any(|id| star_match(pattern, id)))
    };
    let mut look = |list: &[Membership], key: &str, of: &str| {
        for one in list.iter().filter(|one| one.window.until.is_none()) {
            if !matches!(one.who, Principal::User(_)) || !is_meant(one.who) {
                continue;
            }
            let who = estate.principal_id(one.who);
            let message =
                format!("`{who}` is a guest, and stands in `{key}` of `{of}` without an end");
            let finding = found.add(format!("{who} in {of}"), one.origin, message);
            let option = if key == "taken-by" { " --taken" } else { "" };
            finding.hint = Some(format!(
                "`bexum edit remove {who} --from {of}{option}`, then \
                 `bexum edit add {who} --to {of}{option} --until DATE`"
            ));
        }
    };
    for group in &estate.groups {
        let of = format!("group:{}", group.identity.name);
        look(group.members.as_deref().unwrap_or_default(), "members", &of);
    }
    for role in &estate.roles {
        let of = format!("role:{}", role.identity.name);
        look(&role.held_by, "held-by", &of);
        look(&role.taken_by, "taken-by", &of);
    }
}
