//! Acceptances that meet no finding. What is found is known only when all other rules have run, so
//! the [report](super::super::Vet::report) itself tells them.

use super::super::Rule;
use crate::diagnostic::Severity;

pub(super) static RULE: Rule = Rule {
    name: NAME,
    severity: Severity::Warning,
    finds: "an acceptance that meets no finding",
    why: "What was accepted once and mended since would be accepted again when it comes back.",
    example: r#"[[vet-accept]]
rule  = "few-owners"
about = "group:imaging"
why   = "Tomas is alone until spring"
"#,
    fine: r#"[group.transit]
members = ["user:lin"]
owners  = ["user:lin"]
[[vet-accept]]
rule  = "few-owners"
about = "group:transit"
why   = "Lin is alone until spring"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find: |_, _| {},
};

pub(super) const NAME: &str = "stale-accept";
