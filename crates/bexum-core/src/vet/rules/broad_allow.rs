//! Allows that hand out an account.

use crate::catalogue::Level;
use crate::diagnostic::{Label, Severity};
use crate::pattern::path::Segment;
use crate::policy::Statement;
use crate::principal::Subject;
use crate::reach::actions_of;
use crate::scope::ScopeType;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "broad-allow",
    severity: Severity::Warning,
    finds: "`govern`, or every action, allowed at an account or to everyone",
    why: "Who may govern an account may give themselves everything in it, whatever else is written.",
    example: r#"[policy.master]
[[policy.master.allow]]
do = "*"
[[attach]]
policy = "master"
to     = "group:imaging"
at     = "veyra"
"#,
    fine: r#"[policy.master]
[[policy.master.allow]]
do = ["*", "!*.@govern"]
[[policy.master.allow]]
do = "store.@govern"
on = "/veyra/survey/raw"
[[attach]]
policy = "master"
to     = "group:imaging"
at     = "veyra"
[policy.keeper]
[[policy.keeper.allow]]
do = "store.@govern"
[[attach]]
policy = "keeper"
to     = "group:imaging"
at     = "veyra/survey"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    let govern = actions_of(estate, Level::Govern);
    let every = estate.catalogue.actions.len();
    for one in estate.attachments.iter().filter(|one| !vet.is_over(one.window)) {
        for policy in &one.policies {
            let body = estate.policy(policy.value);
            let mut gives: Vec<_> = Vec::new();
            for id in &body.allows {
                let statement = estate.statement(*id);
                let what = match statement.actions.len() == every {
                    true => Some("every action"),
                    false if !statement.actions.is_disjoint(&govern) => Some("`govern`"),
                    false => None,
                };
                gives.extend(what.map(|what| (statement, what)));
            }
            if gives.is_empty() {
                continue;
            }
            for at in &one.at {
                let scope = estate.scope(at.value);
                let is_account = scope.scope_type == ScopeType::Account;
                for to in &one.to {
                    let to_all = to.value == Subject::Everyone;
                    let meant = gives.iter().find(|(statement, _)| {
                        to_all || is_account && is_about_everything(statement)
                    });
                    let Some((statement, what)) = meant else { continue };
                    let (name, to_whom) = (&body.name, vet.subject(to.value));
                    let about = format!("policy:{name} to {to_whom} at {}", scope.path);
                    let message =
                        format!("`policy:{name}` allows {what} to `{to_whom}` at `{}`", scope.path);
                    let finding = found.add(about, policy.origin, message);
                    let place = statement.origin.into();
                    finding.labels.push(Label { place, text: "allows it" });
                    finding.hint = Some(
                        "attach it at the scopes where it is needed, or take `@govern` out of `do`"
                            .to_owned(),
                    );
                }
            }
        }
    }
}

/// Whether a statement is about whatever lies below where it is attached.
fn is_about_everything(statement: &Statement) -> bool {
    statement.on.excluded.is_empty()
        && statement.on.plain.iter().any(|pattern| matches!(&*pattern.segments, [Segment::Rest]))
}
