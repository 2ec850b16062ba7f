//! Access that a log did not use, where there is a log.

use crate::diagnostic::Severity;
use crate::id::{GroupId, RoleId};
use crate::principal::{Membership, Principal, Subject};
use crate::usage::{Element, InList, Thing};
use crate::vet::{Findings, Rule, Vet};

/// The rule's name: without a log it does not run.
pub(in crate::vet) const NAME: &str = "unused-access";

pub(super) static RULE: Rule = Rule {
    name: NAME,
    severity: Severity::Note,
    finds: "with `--log`: a place in a group or role, or an attachment of a policy that allows \
            something, that no request of the log used since `--idle`",
    why: "Access that nobody uses is there for whoever takes over an account.",
    example: r#"[[attach]]
policy = "reader"
to     = "group:imaging"
at     = "veyra/survey"
[[attach]]
policy = "reader"
to     = "user:ines"
at     = "veyra/survey"
"#,
    fine: r#"[[attach]]
policy = "reader"
to     = "group:imaging"
at     = "veyra/survey"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let Some((usage, idle_since)) = vet.usage else { return };
    let estate = vet.estate();
    let unused = |thing: &Thing| usage.used.get(thing).is_none_or(|count| count.last < idle_since);
    let when = |thing: &Thing| match usage.used.get(thing) {
        Some(count) => format!("not used since {}", count.last),
        None => "never used, as far as the log goes back".to_owned(),
    };
    let mut look = |all: &[Membership], into: Principal, list: InList| {
        for one in all {
            let thing = Thing::Membership(Element { list, who: one.who, window: one.window });
            let is_new = one.window.from.is_some_and(|from| from > idle_since);
            // What is over, and who is disabled, is told by another rule.
            let is_disabled = matches!(one.who, Principal::User(id) if !estate.user(id).enabled);
            if is_new || is_disabled || vet.is_over(one.window) || !unused(&thing) {
                continue;
            }
            let about =
                format!("{} in {}", estate.principal_id(one.who), estate.principal_id(into));
            let finding = found.add(about, one.origin, when(&thing));
            let target = estate.principal_id(into);
            finding.hint = Some(format!("`bexum trim {target} --log LOG` says whether it may go"));
        }
    };
    for (i, group) in estate.groups.iter().enumerate() {
        let id = GroupId::new(i);
        let members = group.members.as_deref().unwrap_or_default();
        look(members, Principal::Group(id), InList::Members(id));
    }
    for (i, role) in estate.roles.iter().enumerate() {
        let id = RoleId::new(i);
        look(&role.held_by, Principal::Role(id), InList::HeldBy(id));
        look(&role.taken_by, Principal::Role(id), InList::TakenBy(id));
    }
    for one in &estate.attachments {
        if vet.is_over(one.window) || one.window.from.is_some_and(|from| from > idle_since) {
            continue;
        }
        for policy in one.policies.iter().filter(|id| !estate.policy(id.value).allows.is_empty()) {
            for to in &one.to {
                for at in &one.at {
                    let thing = Thing::Attachment(policy.value, to.value, at.value);
                    if !unused(&thing) {
                        continue;
                    }
                    let name = &estate.policy(policy.value).name;
                    let subject = match to.value {
                        Subject::Everyone => "everyone".to_owned(),
                        Subject::One(who) => estate.principal_id(who),
                    };
                    let about =
                        format!("policy:{name} to {subject} at {}", estate.scope(at.value).path);
                    let finding = found.add(about, one.origin, when(&thing));
                    finding.hint = Some(format!(
                        "`bexum trim policy:{name} --log LOG` says whether it may go"
                    ));
                }
            }
        }
    }
}
