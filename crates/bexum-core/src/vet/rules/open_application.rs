//! Applications that everybody may sign in to.

use crate::diagnostic::Severity;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "open-application",
    severity: Severity::Note,
    finds: "an application that is open to everyone",
    why: "Every new user may sign in to it, whatever they are here for, and nobody decided that.",
    example: r#"[application.portal]
claim = "crews"
"#,
    fine: r#"[application.portal]
open-to = "group:imaging"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    for application in &vet.estate().applications {
        if !application.is_open_to_everyone() {
            continue;
        }
        let name = &application.name;
        let message = format!("everyone may sign in to the application `{name}`");
        let finding = found.add(format!("application:{name}"), application.origin, message);
        finding.hint = Some("name users and groups in its `open-to`".to_owned());
    }
}
