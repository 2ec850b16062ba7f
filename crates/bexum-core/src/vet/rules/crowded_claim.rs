//! People in more groups than an application may be told.

use crate::application::{Beyond, Signing};
use crate::diagnostic::Severity;
use crate::principal::Principal;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "crowded-claim",
    severity: Severity::Warning,
    finds: "people who may sign in to an application, but are in more groups than it may be told",
    why: "The application takes them for people without a group, or for people of some of theirs \
          alone, and nothing says so where they work.",
    example: r#"[group.tidy]
members = "user:lin"
[application.portal]
open-to = "group:imaging"
at-most = 1
"#,
    fine: r#"[group.tidy]
members = "user:lin"
[application.portal]
open-to = "group:imaging"
at-most = 2
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

/// How many people are named.
const NAMED: usize = 3;

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    for application in &estate.applications {
        let signing = Signing::new(vet.engine, application, Vec::new(), vet.now);
        let over: Vec<_> =
            estate.each_user().filter(|user| signing.is_over_the_limit(*user)).collect();
        if over.is_empty() {
            continue;
        }
        let name = &application.name;
        let named = over.iter().take(NAMED);
        let named: Vec<String> = named
            .map(|user| format!("`{}`", estate.principal_id(Principal::User(*user))))
            .collect();
        let more = match over.len().saturating_sub(NAMED) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        let are = if over.len() == 1 { "is" } else { "are" };
        let then = match application.beyond {
            Beyond::Flag => "it is told none of them",
            Beyond::Cut => "it is told the first by name alone",
            Beyond::Refuse => "there is no token then",
        };
        let message = format!(
            "{}{more} {are} in more groups than the {} that the application `{name}` may be told: {then}",
            named.join(", "),
            application.at_most
        );
        let finding = found.add(format!("application:{name}"), application.origin, message);
        finding.hint = Some(
            "tell it fewer groups by `names` or `groups = \"listed\"`, or raise `at-most`"
                .to_owned(),
        );
    }
}
