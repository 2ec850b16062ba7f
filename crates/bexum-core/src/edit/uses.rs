//! Where declarations name a thing.

use std::collections::BTreeMap;

use super::Target;
use crate::declaration::{Declarations, Element, List};
use crate::origin::{Origin, Spanned};

/// A place that names something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Use {
    /// What does: `members of group:imaging`.
    pub what: String,
    /// Where.
    pub origin: Origin,
}

/// What a text that names something is written as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sort {
    /// `user:ines`; of separations `policy:x` too; `everyone`.
    Id,
    /// A policy's bare name.
    Policy,
    /// A path.
    Path,
    /// A pattern of paths, with no place to start from said.
    Pattern,
    /// A condition.
    Condition,
}

/// A text that may name something.
pub(super) struct Mention<'m> {
    pub(super) sort: Sort,
    pub(super) text: &'m mut Spanned<String>,
    /// Who says it: `members of group:imaging`.
    pub(super) of: &'m dyn Fn() -> String,
}

/// Hands out every text that may name a user, group, role, policy or scope.
pub(super) fn each_mention(declared: &mut Declarations, visit: &mut dyn FnMut(Mention<'_>)) {
    let mut one = |sort, text: &mut Spanned<String>, of: &dyn Fn() -> String| {
        visit(Mention { sort, text, of });
    };
    for user in &mut declared.users {
        let name = &user.name.value;
        let of = |what: &str| format!("{what} of user:{name}");
        user.body.manager.iter_mut().for_each(|at| one(Sort::Id, at, &|| of("manager")));
        user.body.place.iter_mut().for_each(|at| one(Sort::Path, at, &|| of("place")));
    }
    let groups = declared.groups.iter_mut().map(|group| ("group:", group));
    let presets = declared.presets.iter_mut().map(|preset| ("the preset ", preset));
    for (sort, group) in groups.chain(presets) {
        let name = &group.name.value;
        let of = |what: &str| format!("{what} of {sort}{name}");
        let body = &mut group.body;
        for element in body.members.iter_mut().flatten() {
            one(Sort::Id, &mut element.who, &|| of("members"));
        }
        for owner in body.owners.iter_mut().flatten() {
            one(Sort::Id, owner, &|| of("owners"));
        }
        body.asks.iter_mut().for_each(|ask| one(Sort::Id, &mut ask.who, &|| of("asks")));
        body.place.iter_mut().for_each(|at| one(Sort::Path, at, &|| of("place")));
        let when = body.members_when.iter_mut();
        when.for_each(|when| one(Sort::Condition, when, &|| of("members-when")));
    }
    for role in &mut declared.roles {
        let name = &role.name.value;
        let of = |what: &str| format!("{what} of role:{name}");
        let mut list = |all: &mut [Element], what: &str| {
            all.iter_mut().for_each(|one_of| one(Sort::Id, &mut one_of.who, &|| of(what)));
        };
        list(&mut role.body.held_by, "held-by");
        list(&mut role.body.taken_by, "taken-by");
        role.body.place.iter_mut().for_each(|at| one(Sort::Path, at, &|| of("place")));
    }
    let mut all = |sort, list: Option<&mut List>, of: &dyn Fn() -> String| {
        let list = list.into_iter().flat_map(|list| &mut list.value);
        list.for_each(|text| one(sort, text, of));
    };
    for policy in &mut declared.policies {
        let name = &policy.name.value;
        let of = |what: &str| format!("{what} of policy:{name}");
        let body = &mut policy.body;
        all(Sort::Path, body.attachable.as_mut(), &|| of("attachable"));
        for statement in &mut body.statements {
            all(Sort::Pattern, statement.on.as_mut(), &|| of("a statement"));
        }
    }
    for table in &mut declared.attachments {
        let of = || "an attachment".to_owned();
        all(Sort::Policy, Some(&mut table.policy), &of);
        all(Sort::Id, Some(&mut table.to), &of);
        all(Sort::Path, Some(&mut table.at), &of);
    }
    for table in &mut declared.ceilings {
        let of = || "a ceiling".to_owned();
        all(Sort::Policy, Some(&mut table.policy), &of);
        all(Sort::Path, table.over.as_mut(), &of);
        all(Sort::Id, table.bound.as_mut(), &of);
    }
    for check in &mut declared.checks {
        let name = &check.name.value;
        let of = || format!("the check '{name}'");
        all(Sort::Id, Some(&mut check.who), &of);
        all(Sort::Path, Some(&mut check.on), &of);
    }
    for law in &mut declared.laws {
        let name = law.name.as_ref().map_or("", |name| &name.value);
        let of = || format!("the law '{name}'");
        all(Sort::Id, Some(&mut law.who), &of);
        all(Sort::Id, law.except.as_mut(), &of);
        all(Sort::Pattern, Some(&mut law.on), &of);
    }
    for apart in &mut declared.separations {
        let name = apart.name.as_ref().map_or("", |name| &name.value);
        let of = || format!("the separation '{name}'");
        all(Sort::Id, Some(&mut apart.any_two_of), &of);
        all(Sort::Path, apart.at.as_mut(), &of);
    }
    for review in &mut declared.reviews {
        let name = &review.name.value;
        let of = || format!("the review {name}");
        for text in &mut review.body.of.value {
            let sort = if text.value.contains(':') { Sort::Id } else { Sort::Path };
            one(sort, text, &of);
        }
        review.body.by.value.iter_mut().for_each(|user| one(Sort::Id, user, &of));
    }
    for application in &mut declared.applications {
        let name = &application.name.value;
        let of = || format!("the application {name}");
        let body = &mut application.body;
        let lists = body.open_to.iter_mut().chain(body.roles.iter_mut().map(|(_, list)| list));
        lists.flat_map(|list| &mut list.value).for_each(|who| one(Sort::Id, who, &of));
    }
    for policy in &mut declared.policies {
        let name = &policy.name.value;
        let of = |what: &str| format!("{what} of policy:{name}");
        let body = &mut policy.body;
        body.include.iter_mut().for_each(|at| one(Sort::Policy, at, &|| of("include")));
        body.place.iter_mut().for_each(|at| one(Sort::Path, at, &|| of("place")));
        let whens = body.statements.iter_mut().filter_map(|statement| statement.when.as_mut());
        whens.for_each(|when| one(Sort::Condition, when, &|| of("a statement")));
    }
    for check in &mut declared.checks {
        let name = &check.name.value;
        let of = || format!("the check '{name}'");
        check.take_up.iter_mut().for_each(|role| one(Sort::Id, role, &of));
        check.also.iter_mut().for_each(|group| one(Sort::Id, group, &of));
        check.under.iter_mut().for_each(|policy| one(Sort::Policy, policy, &of));
    }
    for law in &mut declared.laws {
        let name = law.name.as_ref().map_or("", |name| &name.value);
        let of = || format!("the law '{name}'");
        law.when.iter_mut().for_each(|when| one(Sort::Condition, when, &of));
    }
}

/// Whether a text of a sort names a thing by itself: no pattern and no condition does.
pub(super) fn names(target: &Target, sort: Sort, text: &str) -> bool {
    match (target, sort) {
        (Target::Policy(name), Sort::Policy) => text == name,
        (Target::Scope(_, path), Sort::Path) => text == path,
        (Target::Scope(_, path), Sort::Id) => text.strip_prefix("resource:") == Some(path),
        (Target::Scope(..), _) | (_, Sort::Path | Sort::Pattern | Sort::Condition) => false,
        (_, Sort::Policy) => false,
        (_, Sort::Id) => text.split_once(':') == Some((target.what(), target.name())),
    }
}

/// Every place that names a thing by itself; of a scope, what is declared below it, too. What stands in
/// patterns and conditions is not among them.
#[must_use]
pub fn uses(declared: &Declarations, target: &Target) -> Vec<Use> {
    let mut found: Vec<Use> = Vec::new();
    let mut declared = declared.clone();
    each_mention(&mut declared, &mut |mention| {
        if names(target, mention.sort, &mention.text.value) {
            found.push(Use { what: (mention.of)(), origin: mention.text.origin });
        }
    });
    if let Target::Scope(_, path) = target {
        let is_below = |other: &str| {
            other.strip_prefix(path.as_str()).is_some_and(|rest| rest.starts_with('/'))
        };
        let below = declared.scopes.iter().filter(|scope| is_below(&scope.name.value));
        found.extend(below.map(|scope| Use {
            what: format!("{}:{} below it", scope.body.scope_type.word(), scope.name.value),
            origin: scope.name.origin,
        }));
    }
    found.sort_by_key(|one| one.origin);
    found
}

/// The texts that name something and say something else than before where they stood: where, what
/// they said, and what they say.
#[must_use]
pub fn changed_words(before: &Declarations, after: &Declarations) -> Vec<(Origin, String, String)> {
    let texts = |declared: &Declarations| {
        let mut declared = declared.clone();
        let mut found: BTreeMap<Origin, String> = BTreeMap::new();
        each_mention(&mut declared, &mut |mention| {
            if mention.text.origin != Origin::default() {
                found.insert(mention.text.origin, std::mem::take(&mut mention.text.value));
            }
        });
        found
    };
    let (old, mut new) = (texts(before), texts(after));
    let both = old.into_iter().filter_map(|(at, old)| Some((at, old, new.remove(&at)?)));
    both.filter(|(_, old, new)| old != new).collect()
}
