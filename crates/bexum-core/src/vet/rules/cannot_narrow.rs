//! Allows that try to narrow what is judged at the account.

use crate::catalogue::Addresses;
use crate::condition::Reference;
use crate::condition::check::TargetAttribute;
use crate::condition::eval::Facts;
use crate::condition::fact::Fact;
use crate::diagnostic::Severity;
use crate::estate::Estate;
use crate::id::{AttributeId, ScopeId, StatementId};
use crate::pattern::matching::Braces;
use crate::pattern::path::Brace;
use crate::policy::Effect;
use crate::scope::ScopeType;
use crate::truth::Truth;
use crate::vet::conditions::is_given_at;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "cannot-narrow",
    severity: Severity::Warning,
    finds: "an allow with a condition, a path or a scope for an action that is judged at the account, \
            where it cannot apply",
    why: "An account-wide action is asked about on the account alone, so such an allow never grants \
          it, and who widens it grants it everywhere.",
    example: r#"[policy.surveyor]
[[policy.surveyor.allow]]
do = "store.survey"
on = "survey/**"
[[attach]]
policy = "surveyor"
to     = "group:imaging"
at     = "veyra"
"#,
    fine: r#"[policy.surveyor]
[[policy.surveyor.allow]]
do   = "store.survey"
when = "who.team = 'imaging'"
[[attach]]
policy = "surveyor"
to     = "group:imaging"
at     = "veyra"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

/// Nothing is known of what stands in a brace.
pub(super) struct Anything;

impl Braces<Reference> for Anything {
    fn alternatives(&self, _: &Brace<Reference>, each: &mut dyn FnMut(Option<&str>)) {
        each(None);
    }
}

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    for id in (0..estate.statements.len()).map(StatementId::new) {
        let statement = estate.statement(id);
        if statement.effect != Effect::Allow {
            continue;
        }
        // A pattern with stars names it along with others, and may well be meant for these.
        let named =
            statement.do_written.iter().filter_map(|text| estate.catalogue.find_action(text));
        let account_wide: Vec<&str> = named
            .map(|action| estate.catalogue.action(action))
            .filter(|action| action.addresses == Addresses::Account)
            .map(|action| &*action.name)
            .collect();
        let Some(action) = account_wide.first() else { continue };
        // A ceiling over everything is in play at every account.
        let anchors: Option<Vec<ScopeId>> = vet.anchors(id).into_iter().collect();
        let Some(anchors) = anchors.filter(|anchors| !anchors.is_empty()) else { continue };
        let reasons: Option<Vec<String>> = anchors.iter().map(|at| why_not(vet, id, *at)).collect();
        let Some(reasons) = reasons else { continue };
        let message = format!(
            "`{action}` is judged at the account, where this never applies: {}",
            reasons[0]
        );
        let finding = found.add(vet.statement(id), statement.origin, message);
        finding.hint = Some(
            "allow it at the account in a statement of its own, or take it out of `do`".to_owned(),
        );
    }
}

/// Why a statement that is attached at a scope cannot apply at the account; `None`: it may.
fn why_not(vet: &Vet<'_>, id: StatementId, at: ScopeId) -> Option<String> {
    let estate = vet.estate();
    let (statement, scope) = (estate.statement(id), estate.scope(at));
    if scope.scope_type != ScopeType::Account {
        return Some(format!("it is attached at `{}`", scope.path));
    }
    if statement.on.matches(&[&scope.path], 1, &Anything) == Truth::False {
        let texts: Vec<&str> = statement.on.texts().collect();
        return Some(format!("`on` is `{}`", texts.join("`, `")));
    }
    let when = statement.when.as_ref()?;
    let account = WhatAnAccountLacks { estate, at };
    if when.eval(&account) != Truth::False {
        return None;
    }
    when.references().into_iter().find_map(|(reference, _)| match reference {
        Reference::Target(TargetAttribute::Own(attribute)) if account.lacks(attribute) => {
            let name = estate.attribute_names.name(attribute);
            Some(format!("`{}` has no `target.{name}`", scope.path))
        }
        _ => None,
    })
}

/// An account of which nothing is known but which attributes it does not have: no request gives it any,
/// as it is no item.
struct WhatAnAccountLacks<'e> {
    estate: &'e Estate,
    at: ScopeId,
}

impl WhatAnAccountLacks<'_> {
    fn lacks(&self, attribute: AttributeId) -> bool {
        !is_given_at(self.estate, self.at, attribute)
    }
}

impl Facts for WhatAnAccountLacks<'_> {
    fn fact(&self, reference: Reference) -> Fact<'_> {
        match reference {
            Reference::Target(TargetAttribute::Own(attribute)) if self.lacks(attribute) => {
                Fact::Absent
            }
            _ => Fact::Unknown,
        }
    }

    fn is_set(&self, reference: Reference) -> Truth {
        match self.fact(reference) {
            Fact::Absent => Truth::False,
            _ => Truth::Undecided,
        }
    }
}
