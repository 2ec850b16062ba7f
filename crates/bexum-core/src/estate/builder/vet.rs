//! How the rules of `vet` are set: there must be such rules (spec-work section 10).

use super::Builder;
use crate::declaration::Declarations;
use crate::fault::{Fault, LocatedFault};
use crate::name::nearest;
use crate::origin::Spanned;
use crate::principal::PrincipalType;
use crate::vet::{Accepted, RULES, Rule, Setting, Settings};

impl Builder<'_> {
    pub(super) fn build_vet(&mut self, declared: &Declarations) -> Settings {
        for more in declared.vet.iter().skip(1) {
            let fault = Fault::Duplicate { what: "table", name: "vet".to_owned() };
            let first = declared.vet[0].origin;
            let located = LocatedFault::new(fault, more.origin);
            self.faults.push(located.and_see(first, "first declared here"));
        }
        let mut rules = Vec::new();
        for (name, written) in declared.vet.iter().flat_map(|table| &table.rules) {
            let Some(rule) = self.find_rule(name) else { continue };
            if let Some(who) = &written.who {
                if rule.asks_whom {
                    who.value.iter().for_each(|one| self.check_pattern_of_people(one));
                } else {
                    let known: &[&str] = &["severity"];
                    let fault = Fault::UnknownKey {
                        key: "who".to_owned(),
                        table: "this rule of `[vet]`",
                        nearest: None,
                        known,
                    };
                    self.fault(fault, who.origin);
                }
            }
            let who = written.who.iter().flat_map(|list| &list.value);
            let who = who.map(|one| one.value.as_str().into()).collect();
            let severity = written.severity.as_ref().map(|severity| severity.value);
            rules.push((rule.name, Setting { severity, who }));
        }
        let mut accepted = Vec::new();
        for written in &declared.accepted {
            let Some(rule) = self.find_rule(&written.rule) else { continue };
            accepted.push(Accepted {
                rule: rule.name,
                about: written.about.value.as_str().into(),
                why: written.why.as_str().into(),
                until: written.until.as_ref().map(|until| until.value),
                origin: written.origin,
            });
        }
        let origin = declared.vet.first().map(|table| table.origin);
        Settings { rules, accepted, origin }
    }

    fn find_rule(&mut self, written: &Spanned<String>) -> Option<&'static Rule> {
        let found = RULES.into_iter().find(|rule| rule.name == written.value);
        if found.is_none() {
            let nearest = nearest(&written.value, RULES.iter().map(|rule| rule.name));
            let (name, nearest) = (written.value.clone(), nearest.map(str::to_owned));
            self.fault(Fault::Undeclared { what: "rule", name, nearest }, written.origin);
        }
        found
    }

    /// A group or user by name, or with stars.
    fn check_pattern_of_people(&mut self, written: &Spanned<String>) {
        let split = PrincipalType::split(&written.value);
        let split =
            split.filter(|(what, _)| matches!(what, PrincipalType::User | PrincipalType::Group));
        let Some((what, name)) = split else {
            let found = written.value.clone();
            let expected = "`user:…` or `group:…`, where `*` stands for any letters";
            return self.fault(Fault::NotAPrincipal { found, expected }, written.origin);
        };
        let is_there = match what {
            PrincipalType::Group => self.groups.get(name).is_some(),
            _ => self.users.get(name).is_some(),
        };
        if !name.contains('*') && !is_there {
            let names = match what {
                PrincipalType::Group => &self.groups,
                _ => &self.users,
            };
            let nearest = names.nearest(name, &mut self.near);
            let fault = Fault::Undeclared { what: what.word(), name: name.to_owned(), nearest };
            self.fault(fault, written.origin);
        }
    }
}
