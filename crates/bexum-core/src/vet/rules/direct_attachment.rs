//! Policies attached to users, where a group could be.

use std::collections::BTreeMap;

use crate::diagnostic::Severity;
use crate::origin::Origin;
use crate::principal::{Principal, Subject};
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "direct-attachment",
    severity: Severity::Warning,
    finds: "a policy attached to a user, where a group could be",
    why: "Whoever takes over the work has to be given it again, and nobody sees what to take away \
          from whoever leaves it.",
    example: r#"[[attach]]
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
    let estate = vet.estate();
    let mut of_user: BTreeMap<String, (Origin, Vec<String>)> = BTreeMap::new();
    for one in estate.attachments.iter().filter(|one| !vet.is_over(one.window)) {
        for to in &one.to {
            let Subject::One(who @ Principal::User(_)) = to.value else { continue };
            let (_, ties) =
                of_user.entry(estate.principal_id(who)).or_insert_with(|| (to.origin, Vec::new()));
            for policy in &one.policies {
                let policy = &estate.policy(policy.value).name;
                ties.extend(
                    one.at.iter().map(|at| {
                        format!("`policy:{policy}` at `{}`", estate.scope(at.value).path)
                    }),
                );
            }
        }
    }
    for (who, (origin, ties)) in of_user {
        let rest = match ties.len() - 1 {
            0 => String::new(),
            more => format!(", and {more} more so"),
        };
        let message = format!("{} is attached to `{who}` directly{rest}", ties[0]);
        let finding = found.add(&who, origin, message);
        finding.details.extend(ties.into_iter().skip(1));
        finding.hint = Some(format!("attach it to a group that `{who}` is in, and detach it here"));
    }
}
