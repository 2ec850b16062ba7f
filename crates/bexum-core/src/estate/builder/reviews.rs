//! Reviews: what they ask about must be there, and who is asked (spec-work section 12).

use super::Builder;
use super::names::Names;
use crate::declaration::Declarations;
use crate::fault::Fault;
use crate::origin::Spanned;
use crate::review::{Answer, Asks, Of, Review};
use crate::time::Window;

impl Builder<'_> {
    pub(super) fn build_reviews(&mut self, declared: &Declarations) -> Vec<Review> {
        Names::declare("review", &declared.reviews, &mut self.faults);
        let mut found = Vec::new();
        for review in &declared.reviews {
            let body = &review.body;
            let of = body.of.value.iter().filter_map(|text| self.reviewed(text)).collect();
            let by = match &body.by.value[..] {
                [word] if word.value == "owners" => Asks::Owners,
                [word] if word.value == "managers" => Asks::Managers,
                users => Asks::Users(users.iter().filter_map(|user| self.reviewer(user)).collect()),
            };
            if body.open.value >= body.until.value {
                self.fault(Fault::NeverOpen, body.until.origin);
            }
            let answers = body.answers.iter().map(|one| Answer {
                who: one.who.clone(),
                of: one.of.clone(),
                at: one.at.clone(),
                policy: one.policy.clone(),
                window: Window {
                    from: one.window.from.as_ref().map(|from| from.value),
                    until: one.window.until.as_ref().map(|until| until.value),
                },
                remove: one.remove,
                by: one.by.clone(),
                answered: one.answered.value,
                why: one.why.clone(),
                origin: one.origin,
            });
            found.push(Review {
                name: review.name.value.as_str().into(),
                about: review.about.as_deref().map(Into::into),
                of,
                by,
                open: body.open.value,
                until: body.until.value,
                unanswered_goes: body.unanswered_goes,
                asked: body.asked.as_ref().map(|asked| (asked.count, asked.fingerprint.clone())),
                answers: answers.collect(),
                origin: review.name.origin,
            });
        }
        found
    }

    /// Something that is reviewed.
    fn reviewed(&mut self, text: &Spanned<String>) -> Option<Of> {
        let written = text.value.as_str();
        let (what, name, names) = match written.split_once(':') {
            Some(("group", name)) => ("group", name, &self.groups),
            Some(("role", name)) => ("role", name, &self.roles),
            Some(("policy", name)) => ("policy", name, &self.policies),
            Some(_) => {
                let expected = "`group:…`, `role:…`, `policy:…`, or a scope's path";
                let found = written.to_owned();
                self.fault(Fault::NotAPrincipal { found, expected }, text.origin);
                return None;
            }
            None => ("scope", written, &self.scopes),
        };
        if names.get(name).is_none() {
            let nearest = names.nearest(name, &mut self.near);
            let name = name.to_owned();
            self.fault(Fault::Undeclared { what, name, nearest }, text.origin);
            return None;
        }
        let name = name.to_owned();
        Some(match what {
            "group" => Of::Group(name),
            "role" => Of::Role(name),
            "policy" => Of::Policy(name),
            _ => Of::Scope(name),
        })
    }

    /// A user who is asked, as written.
    fn reviewer(&mut self, text: &Spanned<String>) -> Option<String> {
        let Some(name) = text.value.strip_prefix("user:") else {
            let (found, expected) = (text.value.clone(), "`owners`, `managers`, or `user:…`");
            self.fault(Fault::NotAPrincipal { found, expected }, text.origin);
            return None;
        };
        if self.users.get(name).is_none() {
            let nearest = self.users.nearest(name, &mut self.near);
            let fault = Fault::Undeclared { what: "user", name: name.to_owned(), nearest };
            self.fault(fault, text.origin);
            return None;
        }
        Some(text.value.clone())
    }
}
