//! Groups that open an application to nobody.

use crate::diagnostic::Severity;
use crate::principal::Principal;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "empty-listing",
    severity: Severity::Warning,
    finds: "a group in `open-to` of an application that has no members of its own, while the \
            application does not look through groups",
    why: "Whoever put it there meant the people in it; they may not sign in, and no group of theirs \
          is told.",
    example: r#"[group.crews]
members = "group:imaging"
[application.portal]
open-to = ["group:crews", "user:ines"]
"#,
    fine: r#"[group.crews]
members = "group:imaging"
[application.portal]
open-to = ["group:crews", "user:ines"]
through = true
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    for application in estate.applications.iter().filter(|one| !one.through) {
        for who in application.open_to.named() {
            let Principal::Group(id) = *who else { continue };
            let group = estate.group(id);
            let mut members = group.members.iter().flatten();
            let has_users = members.any(|one| matches!(one.who, Principal::User(_)));
            if has_users || !group.matching.is_empty() || group.members_when.is_some() {
                continue;
            }
            let (name, group) = (&application.name, estate.principal_id(*who));
            let message = format!(
                "nobody may sign in to the application `{name}` through `{group}`: it has no users of its own"
            );
            let about = format!("application:{name} {group}");
            let finding = found.add(about, application.origin, message);
            finding.hint =
                Some("set `through = true`, or name the groups in it that have users".to_owned());
        }
    }
}
