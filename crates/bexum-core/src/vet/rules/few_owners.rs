//! Groups that fewer than two people look after.

use crate::diagnostic::Severity;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "few-owners",
    severity: Severity::Warning,
    finds: "a group with members and fewer than two enabled owners",
    why: "When the one owner is away, nobody can say who belongs into the group.",
    example: r#"[user.rafi]
enabled = false
[group.transit]
members = ["user:lin"]
owners  = ["user:lin", "user:rafi"]
"#,
    fine: r#"[group.transit]
members = ["user:lin"]
owners  = ["user:lin", "user:ines"]
[group.nobody]
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    for group in &estate.groups {
        let is_empty = group.members.as_deref().unwrap_or_default().is_empty();
        if is_empty && group.members_when.is_none() {
            continue;
        }
        let owners = group.owners.as_deref().unwrap_or_default();
        let enabled = owners.iter().filter(|id| estate.user(**id).enabled).count();
        if enabled >= 2 {
            continue;
        }
        let name = &group.identity.name;
        let disabled = match owners.len() - enabled {
            0 => "",
            1 => " (another is disabled)",
            _ => " (others are disabled)",
        };
        let has = if enabled == 0 { "no enabled owner" } else { "one owner alone" };
        let message = format!("`group:{name}` has {has}{disabled}");
        let finding = found.add(format!("group:{name}"), group.identity.origin, message);
        finding.hint = Some(format!("`bexum edit add user:NAME --to group:{name} --owner`"));
    }
}
