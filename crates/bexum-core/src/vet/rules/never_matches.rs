//! Statements that match nothing.

use crate::diagnostic::Severity;
use crate::edit::Edit;
use crate::id::StatementId;
use crate::vet::supposed::Ever;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "never-matches",
    severity: Severity::Warning,
    finds: "a statement that can match for nobody, wherever its policy is attached",
    why: "It says that something is allowed, or refused, which is not so.",
    example: r#"[policy.writer]
[[policy.writer.allow]]
do = "store.list"
[[policy.writer.allow]]
do   = "store.write"
when = "who.team = 'curators'"
[[attach]]
policy = "writer"
to     = "group:imaging"
at     = "veyra/survey"
"#,
    fine: r#"[policy.writer]
[[policy.writer.allow]]
do   = "store.write"
when = "who.team = 'imaging' and given.mfa"
[[attach]]
policy = "writer"
to     = "group:imaging"
at     = "veyra/survey"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

/// What is known of statements that are tied somewhere: which never match, and how many of which it
/// could not be found out.
#[derive(Debug, Default)]
pub(crate) struct Dead {
    /// For each statement, whether it ever matches.
    pub(crate) ever: Vec<Option<Ever>>,
}

impl Dead {
    pub(crate) fn new(vet: &Vet<'_>) -> Self {
        let estate = vet.estate();
        let matched = &vet.witnesses().matched;
        let costs = vet.in_order(estate.statements.len(), |i| match matched.contains(i) {
            true => 0,
            false => vet.cost_of(StatementId::new(i)),
        });
        let ever = vet.cheapest_first(&costs, |i| {
            let id = StatementId::new(i);
            match matched.contains(i) {
                true => Some(Ever::Yes),
                false if vet.anchors(id).is_empty() => None,
                false => Some(vet.ever_matches(id)),
            }
        });
        Self { ever }
    }
}

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    for (i, ever) in vet.dead().ever.iter().enumerate() {
        let id = StatementId::new(i);
        match ever {
            Some(Ever::Never) => {}
            Some(Ever::NotDecided) => {
                found.not_decided += 1;
                continue;
            }
            _ => continue,
        }
        let statement = vet.estate().statement(id);
        let what = if vet.is_deny(id) { "refuses nobody anything" } else { "can match nothing" };
        let message = format!("`{}` {what}, wherever its policy is attached", vet.statement(id));
        let policy = vet.estate().policy(statement.policy);
        let finding = found.add(vet.statement(id), statement.origin, message);
        if !vet.is_deny(id) && vet.is_ceiling(statement.policy) {
            // A ceiling without any allow refuses by its denies alone (spec section 6).
            finding.hint = Some(
                "as a ceiling it lets nothing through; without its allows it would let \
                 everything through, so it is not struck"
                    .to_owned(),
            );
        } else if policy.allows.len() + policy.denies.len() > 1 {
            // The last statement of a policy is not struck: an empty one attached would be another
            // riddle.
            let policy = policy.name.to_string();
            finding.remedy = vec![Edit::Strike { policy, statement: vet.called(id) }];
        }
    }
}
