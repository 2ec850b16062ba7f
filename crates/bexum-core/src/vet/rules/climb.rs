//! Ways up: what somebody can come to hold by changing the estate as they may.

use std::collections::BTreeMap;
use std::sync::atomic::AtomicUsize;

use crate::catalogue::Level;
use crate::diagnostic::Severity;
use crate::edit::Edit;
use crate::origin::Origin;
use crate::principal::Principal;
use crate::vet::moves::{Climb, Climber};
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "climb",
    severity: Severity::Error,
    finds: "somebody who can come to hold what they do not hold, by edits that `[edit-rights]` lets \
            them make and by roles they can take up, step after step; `govern` over an account is an \
            error, other `govern` and `alter` a warning, the rest a note",
    why: "What somebody may give themselves they have already, and nobody was asked.",
    example: r#"[group.masters]
place = "veyra/survey"
[policy.everything]
[[policy.everything.allow]]
do = "*"
[policy.clerk]
[[policy.clerk.allow]]
do = "group.add-member"
[[attach]]
policy = "everything"
to     = "group:masters"
at     = "veyra"
[[attach]]
policy = "clerk"
to     = "user:ines"
at     = "veyra/survey"
[edit-rights]
"group.members" = "group.add-member"
"#,
    fine: r#"[group.masters]
place = "veyra/survey"
[policy.everything]
[[policy.everything.allow]]
do = "*"
[policy.clerk]
[[policy.clerk.allow]]
do = "group.add-member"
[[attach]]
policy = "everything"
to     = "group:masters"
at     = "veyra"
[[attach]]
policy = "clerk"
to     = "user:ines"
at     = "veyra/survey"
[edit-rights]
"group.members" = "group.add-member"
no-more-than-own = true
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let people = vet.climbers();
    let work = AtomicUsize::new(0);
    let all = vet.in_order(people.len(), |i| {
        let climber = Climber::new(vet, people[i], &work, people.len());
        let mut climbs = climber.climbs();
        // A single attribute is for `retag` to tell.
        climbs.retain(|climb| climb.moves.len() > 1 || !climb.moves[0].is_retag);
        (climbs, climber.is_cut.get())
    });
    let mut told: BTreeMap<String, (Principal, Climb, Vec<Principal>)> = BTreeMap::new();
    for (who, (climbs, is_cut)) in people.iter().zip(all) {
        let gravest = climbs.into_iter().next_back();
        let is_top = gravest
            .as_ref()
            .is_some_and(|climb| climb.level == Level::Govern && climb.is_over_account);
        found.not_decided += usize::from(is_cut && !is_top);
        let Some(climb) = gravest else { continue };
        let shape = shape(vet, *who, &climb);
        told.entry(shape).or_insert_with(|| (*who, climb, Vec::new())).2.push(*who);
    }
    for (who, climb, alike) in told.into_values() {
        tell(vet, found, who, &climb, &alike);
    }
}

/// A text that is the same for two people who come as far by the same steps, their own names apart.
fn shape(vet: &Vet<'_>, who: Principal, climb: &Climb) -> String {
    let name = vet.estate().principal_id(who);
    let edits = climb.moves.iter().flat_map(|one| &one.edits);
    let texts = edits.map(|edit| edit.to_string().replace(&name, "WHO"));
    format!("{:?} {:?}", texts.collect::<Vec<_>>(), climb.gravity())
}

/// Tells of a climb, and of those who can do the same.
pub(super) fn tell(
    vet: &Vet<'_>,
    found: &mut Findings<'_>,
    who: Principal,
    climb: &Climb,
    alike: &[Principal],
) {
    let estate = vet.estate();
    let name = estate.principal_id(who);
    let (action, place) = &climb.gained;
    let over = match (climb.level, climb.is_over_account) {
        (Level::Govern, true) => " (`govern` over an account)".to_owned(),
        (level, _) => format!(" (`{level}`)"),
    };
    let steps = match climb.moves.len() {
        1 => "a step".to_owned(),
        more => format!("{more} steps"),
    };
    let message = format!("`{name}` can come to do `{action}` on `{place}`{over} in {steps}");
    let origin = match who {
        Principal::Workload(scope) => estate.scope(scope).origin,
        other => estate.identity(other).map_or(Origin::default(), |identity| identity.origin),
    };
    let finding = found.add(&name, origin, message);
    for (i, one) in climb.moves.iter().enumerate() {
        for (j, edit) in one.edits.iter().enumerate() {
            let mark = if j == 0 { format!("{}.", i + 1) } else { "  ".to_owned() };
            finding.details.push(format!("{mark} {edit}"));
        }
        finding.details.push(format!("   by {}", one.by));
    }
    let others: Vec<String> =
        alike.iter().filter(|one| **one != who).map(|one| estate.principal_id(*one)).collect();
    match &others[..] {
        [] => {}
        [one] => finding.details.push(format!("so can {one}")),
        many => {
            let more = match many.len() {
                ..=5 => String::new(),
                more => format!(" and {} more", more - 5),
            };
            let first: Vec<&str> = many.iter().take(5).map(String::as_str).collect();
            finding.details.push(format!("so can {}{more}", first.join(", ")));
        }
    }
    finding.alike = others;
    let open = climb.moves.iter().find(|one| one.is_own_right);
    finding.hint = Some(match open.and_then(|one| one.edits.first()) {
        Some(Edit::Add { of, .. }) => {
            format!(
                "give `group:{of}` less, or let people in: `bexum edit set group:{of} join=approval`"
            )
        }
        _ => "take one of these rights away, or have nobody give more than they have \
              (`no-more-than-own` in `[edit-rights]`)"
            .to_owned(),
    });
    found.matters(match (climb.level, climb.is_over_account) {
        (Level::Govern, true) => Severity::Error,
        (Level::Govern | Level::Alter, _) => Severity::Warning,
        _ => Severity::Note,
    });
}
