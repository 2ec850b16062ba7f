//! Attributes by which somebody lets themselves in.

use std::sync::atomic::AtomicUsize;

use crate::diagnostic::Severity;
use crate::vet::moves::Climber;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "retag",
    severity: Severity::Error,
    finds: "somebody who may change an attribute that a condition or brace depends on, and opens \
            something for themselves by it, or closes a deny on themselves; `govern` over an account \
            is an error, other `govern` and `alter` a warning, the rest a note",
    why: "The condition seems to guard something, and whom it guards against may turn it.",
    example: r#"[policy.tagger]
[[policy.tagger.allow]]
do = ["store.share", "recording.read"]
when = "target.tier = 'open'"
[policy.quiet]
[[policy.quiet.allow]]
do = "store.share"
[[attach]]
policy = ["tagger", "quiet"]
to     = "user:ines"
at     = "veyra/survey"
[edit-rights]
"scope.attributes" = "store.share"
"#,
    fine: r#"[policy.tagger]
[[policy.tagger.allow]]
do = ["recording.read"]
when = "target.tier = 'open'"
[policy.quiet]
[[policy.quiet.allow]]
do = "store.share"
[[attach]]
policy = "tagger"
to     = "user:ines"
at     = "veyra/survey"
[[attach]]
policy = "quiet"
to     = "user:lin"
at     = "veyra/survey"
[edit-rights]
"scope.attributes" = "store.share"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let rights = &vet.estate().edit_rights;
    let any = ["user.attributes", "scope.attributes"].iter().any(|key| !rights.of(key).is_empty());
    if !any || rights.no_more_than_own {
        return;
    }
    let people = vet.climbers();
    let work = AtomicUsize::new(0);
    let all = vet.in_order(people.len(), |i| {
        let climber = Climber::new(vet, people[i], &work, people.len());
        let mut retags = climber.retags();
        // The gravest for each person; of equals the first.
        retags.sort_by_key(|climb| std::cmp::Reverse(climb.gravity()));
        (retags.into_iter().next(), climber.is_cut.get())
    });
    for (who, (climb, is_cut)) in people.iter().zip(all) {
        found.not_decided += usize::from(is_cut);
        if let Some(climb) = climb {
            super::climb::tell(vet, found, *who, &climb, &[*who]);
        }
    }
}
