//! Windows that have ended or soon will, and disabled users who are still in groups.

use crate::declaration::{Element, WindowWritten};
use crate::diagnostic::Severity;
use crate::edit::{Edit, ListOf};
use crate::id::UserId;
use crate::origin::Origin;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "over",
    severity: Severity::Warning,
    finds: "windows that have ended, disabled users who are still in groups or roles; windows that \
            end within 30 days, as notes",
    why: "What is over hides what is not, and comes back when somebody moves a date or enables \
          somebody.",
    example: r#"[user.rafi]
enabled = false
[group.transit]
members = ["user:rafi", { who = "user:lin", until = 2020-01-01T00:00:00Z }]
"#,
    fine: r#"[user.rafi]
enabled = false
[group.transit]
members = [{ who = "user:lin", until = 9000-01-01T00:00:00Z }]
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

/// Days before an end at which it is told.
const SOON: i64 = 30;

/// Microseconds of a day.
const DAY: i64 = 86_400_000_000;

struct Look<'v, 'f, 'r> {
    vet: &'v Vet<'v>,
    found: &'f mut Findings<'r>,
}

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let mut look = Look { vet, found };
    for group in &vet.declared.groups {
        let name = &group.name.value;
        let members = group.body.members.as_deref().unwrap_or_default();
        look.elements(members, ListOf::Members, name, &format!("group:{name}"));
    }
    for role in &vet.declared.roles {
        let name = &role.name.value;
        let id = format!("role:{name}");
        look.elements(&role.body.held_by, ListOf::HeldBy, name, &id);
        look.elements(&role.body.taken_by, ListOf::TakenBy, name, &id);
    }
    look.attachments();
    look.ceilings();
}

impl Look<'_, '_, '_> {
    fn elements(&mut self, all: &[Element], list: ListOf, of: &str, id: &str) {
        for one in all {
            let who = &one.who.value;
            let about = format!("{who} in {id}");
            let others = all.iter().filter(|other| other.who.value == *who).count() > 1;
            // An edit takes out all of one who stands there several times.
            let remedy = match others {
                true => Vec::new(),
                false => {
                    let (who, of) = (vec![who.clone()], of.to_owned());
                    vec![Edit::Remove { who, list, of }]
                }
            };
            let place = one.who.origin;
            let is_over = self.window(&about, place, &one.window, || remedy.clone());
            let user = who.strip_prefix("user:").and_then(|name| self.user(name));
            let Some(user) = user.filter(|_| !is_over) else { continue };
            if !self.vet.estate().user(user).enabled {
                let message =
                    format!("`{who}` is disabled, and stands in `{}` of `{id}`", list.key());
                let finding = self.found.add(about, place, message);
                finding.remedy = remedy;
            }
        }
    }

    fn user(&self, name: &str) -> Option<UserId> {
        self.vet.estate().find_user(name)
    }

    /// Tells of a window that is over or soon will be; whether it is over.
    fn window(
        &mut self,
        about: &str,
        place: Origin,
        window: &WindowWritten,
        remedy: impl FnOnce() -> Vec<Edit>,
    ) -> bool {
        let Some(until) = &window.until else { return false };
        let left = until.value.0.saturating_sub(self.vet.now.0);
        let days = left.div_euclid(DAY);
        if left <= 0 {
            let message = format!("the window of `{about}` is over since {}", until.value);
            let finding = self.found.add(about, place, message);
            finding.remedy = remedy();
        } else if days < SOON {
            let in_days = match days {
                0 => "within a day".to_owned(),
                1 => "in a day".to_owned(),
                days => format!("in {days} days"),
            };
            let message = format!("the window of `{about}` ends {in_days}, at {}", until.value);
            self.found.add(about, place, message);
            self.found.matters(Severity::Note);
        }
        left <= 0
    }

    fn attachments(&mut self) {
        let all = &self.vet.declared.attachments;
        for one in all {
            for policy in &one.policy.value {
                for to in &one.to.value {
                    for at in &one.at.value {
                        let (policy, to, at) = (&policy.value, &to.value, &at.value);
                        let is_same = |other: &&crate::declaration::Attachment| {
                            other.policy.value.iter().any(|one| one.value == *policy)
                                && other.to.value.iter().any(|one| one.value == *to)
                                && other.at.value.iter().any(|one| one.value == *at)
                        };
                        // One that stands there twice would go whole.
                        let detach = || match all.iter().filter(is_same).count() {
                            1 => self.vet.with_what_is_left(&Edit::Detach {
                                policies: vec![policy.clone()],
                                from: vec![to.clone()],
                                at: vec![at.clone()],
                            }),
                            _ => Vec::new(),
                        };
                        let about = format!("policy:{policy} to {to} at {at}");
                        self.window(&about, one.origin, &one.window, detach);
                    }
                }
            }
        }
    }

    fn ceilings(&mut self) {
        for one in &self.vet.declared.ceilings {
            for policy in &one.policy.value {
                let about = format!("ceiling policy:{}", policy.value);
                self.window(&about, one.origin, &one.window, Vec::new);
            }
        }
    }
}
