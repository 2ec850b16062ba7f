//! Allows of which denies, ceilings and seals take everything.

use crate::diagnostic::Severity;
use crate::id::StatementId;
use crate::policy::Effect;
use crate::vet::supposed::Ever;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "outranked",
    severity: Severity::Warning,
    finds: "an allow that can grant nothing to anybody, because denies, ceilings or seals take all of it",
    why: "Whoever reads it believes that something is allowed which is not, and mends the wrong place.",
    example: r#"[policy.quiet]
[[policy.quiet.deny]]
do = "store.write"
[policy.writer]
[[policy.writer.allow]]
do = "store.write"
[[attach]]
policy = ["quiet", "writer"]
to     = "group:imaging"
at     = "veyra/survey"
"#,
    fine: r#"[policy.quiet]
[[policy.quiet.deny]]
do   = "store.write"
when = "not (given.mfa is set)"
[policy.writer]
[[policy.writer.allow]]
do = "store.write"
[[attach]]
policy = ["quiet", "writer"]
to     = "group:imaging"
at     = "veyra/survey"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    let granted = &vet.witnesses().granted;
    let dead = vet.dead();
    let attached: Vec<StatementId> = (0..estate.statements.len())
        .map(StatementId::new)
        .filter(|id| {
            let carriers = vet.carriers(estate.statement(*id).policy);
            let is_tied = estate
                .attachments
                .iter()
                .any(|one| one.policies.iter().any(|policy| carriers.contains(&policy.value)));
            estate.statement(*id).effect == Effect::Allow
                && is_tied
                && !granted.contains(id.index())
        })
        .collect();
    // Of what matches sometimes it is for others to say that it comes to nothing.
    let is_known = |id: &StatementId, known| dead.ever[id.index()] == Some(known);
    found.not_decided += attached.iter().filter(|id| is_known(id, Ever::NotDecided)).count();
    let attached: Vec<_> = attached.into_iter().filter(|id| is_known(id, Ever::Yes)).collect();
    let costs = vet.in_order(attached.len(), |i| vet.cost_of(attached[i]));
    let ever = vet.cheapest_first(&costs, |i| vet.ever_grants(attached[i]));
    for (id, ever) in attached.iter().zip(ever) {
        match ever {
            Ever::Never => {
                let statement = estate.statement(*id);
                let message = format!(
                    "`{}` grants nothing to anybody: denies, ceilings or seals take all of it",
                    vet.statement(*id)
                );
                let finding = found.add(vet.statement(*id), statement.origin, message);
                finding.hint = Some(
                    "`bexum ask` on what it should allow says what stands above it".to_owned(),
                );
            }
            Ever::NotDecided => found.not_decided += 1,
            Ever::Yes | Ever::Nobody => {}
        }
    }
}
