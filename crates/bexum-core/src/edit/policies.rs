//! Policies: copied, with statements more or fewer.

use fixedbitset::FixedBitSet;

use super::Edit;
use super::apply::{Applied, EditFault, find, new_list, new_word};
use crate::catalogue::Catalogue;
use crate::declaration::{Declarations, List, Named, Policy, Statement};
use crate::origin::{Origin, Spanned};
use crate::pattern::action::ActionPattern;
use crate::policy::Effect;

/// Refuses a change of a policy that is locked, or that a locked one includes.
pub(super) fn refuse_locked(declared: &Declarations, name: &str) -> Result<(), EditFault> {
    let policies = &declared.policies;
    for locked in policies.iter().filter(|policy| policy.body.locked) {
        let mut waiting: Vec<&str> = vec![&locked.name.value];
        let mut seen: Vec<&str> = Vec::new();
        while let Some(one) = waiting.pop() {
            if one == name {
                return Err(EditFault::Locked(locked.name.value.clone()));
            }
            if seen.contains(&one) {
                continue;
            }
            seen.push(one);
            let body = policies.iter().find(|policy| policy.name.value == one);
            waiting.extend(
                body.into_iter().flat_map(|policy| &policy.body.include).map(|name| &*name.value),
            );
        }
    }
    Ok(())
}

/// Whether a policy is locked, or included by one that is.
pub(crate) fn is_locked(declared: &Declarations, name: &str) -> bool {
    refuse_locked(declared, name).is_err()
}

/// Whether a policy is used as a ceiling.
fn is_ceiling(declared: &Declarations, policy: &str) -> bool {
    let mut named = declared.ceilings.iter().flat_map(|ceiling| &ceiling.policy.value);
    named.any(|one| one.value == policy)
}

/// The actions that a list of patterns names; patterns that cannot be read name none.
fn named(catalogue: &Catalogue, patterns: &[String]) -> FixedBitSet {
    let mut all = FixedBitSet::with_capacity(catalogue.actions.len());
    for excludes in [false, true] {
        let read = patterns.iter().filter_map(|text| ActionPattern::parse(text).ok());
        for pattern in read.filter(|pattern| pattern.excludes == excludes) {
            let found = catalogue.actions.iter().enumerate();
            found
                .filter(|(_, action)| pattern.names(action))
                .for_each(|(i, _)| all.set(i, !excludes));
        }
    }
    all
}

fn texts(list: &List) -> Vec<String> {
    list.value.iter().map(|one| one.value.clone()).collect()
}

pub(super) fn copy(
    declared: &mut Declarations,
    catalogue: &Catalogue,
    (from, to): (&str, &str),
    drop: &[String],
    keep: &[String],
) -> Result<(), EditFault> {
    for pattern in drop.iter().chain(keep) {
        let is_plain = ActionPattern::parse(pattern).is_ok_and(|pattern| !pattern.excludes);
        if !is_plain || named(catalogue, std::slice::from_ref(pattern)).is_clear() {
            return Err(EditFault::Nothing(format!("`{pattern}` names no action")));
        }
    }
    if declared.policies.iter().any(|policy| policy.name.value == to) {
        return Err(EditFault::Taken { what: "policy", name: to.to_owned() });
    }
    let old = find(&mut declared.policies, "policy", from)?.clone();
    let mut body = old.body.clone();
    body.locked = false;
    if !drop.is_empty() || !keep.is_empty() {
        // What is taken out may stand in a policy that is included: so all stands in the new one.
        body.statements = with_included(declared, from);
        body.include.clear();
        let (drop, keep) = (named(catalogue, drop), named(catalogue, keep));
        let keeps_some = !keep.is_clear();
        let fewer = |mut statement: Statement| {
            if statement.effect == Effect::Deny {
                return Some(statement);
            }
            let was = named(catalogue, &texts(&statement.actions));
            let mut is = was.clone();
            is.difference_with(&drop);
            if keeps_some {
                is.intersect_with(&keep);
            }
            if is != was {
                let names = is.ones().map(|i| catalogue.actions[i].name.to_string());
                statement.actions = new_list(&shorter(catalogue, &was, &is, &statement, names));
            }
            (!is.is_clear()).then_some(statement)
        };
        body.statements = body.statements.into_iter().filter_map(fewer).collect();
    }
    forget_places(&mut body);
    let policy = Named { name: new_word(to), about: old.about, body };
    declared.policies.push(policy);
    Ok(())
}

/// A way to say fewer actions: what was said with what goes taken out, if that is the shorter.
fn shorter(
    catalogue: &Catalogue,
    was: &FixedBitSet,
    is: &FixedBitSet,
    statement: &Statement,
    names: impl Iterator<Item = String>,
) -> Vec<String> {
    let gone = was.difference(is).map(|i| format!("!{}", catalogue.actions[i].name));
    let mut taken_out = texts(&statement.actions);
    taken_out.extend(gone);
    let named: Vec<String> = names.collect();
    if named.len() <= taken_out.len() { named } else { taken_out }
}

/// The statements of a policy and of all that it includes.
fn with_included(declared: &Declarations, name: &str) -> Vec<Statement> {
    let mut found: Vec<Statement> = Vec::new();
    let mut waiting = vec![name.to_owned()];
    let mut seen: Vec<String> = Vec::new();
    while let Some(one) = waiting.pop() {
        if seen.contains(&one) {
            continue;
        }
        let Some(policy) = declared.policies.iter().find(|policy| policy.name.value == one) else {
            continue;
        };
        for statement in &policy.body.statements {
            let mut statement = statement.clone();
            // Names differ within a policy.
            let is_taken = |other: &Statement| other.name == statement.name;
            if found.iter().any(is_taken) {
                statement.name = None;
            }
            found.push(statement);
        }
        waiting.extend(policy.body.include.iter().map(|name| name.value.clone()));
        seen.push(one);
    }
    // Allows come first, in a policy's table as in its declaration.
    found.sort_by_key(|statement| statement.effect == Effect::Deny);
    found
}

/// What is copied is written nowhere yet.
fn forget_places(body: &mut Policy) {
    let forget = |list: &mut List| {
        list.origin = Origin::default();
        list.value.iter_mut().for_each(|one| one.origin = Origin::default());
    };
    body.include.iter_mut().for_each(|one| one.origin = Origin::default());
    body.place.iter_mut().for_each(|one| one.origin = Origin::default());
    body.attachable.iter_mut().for_each(forget);
    for statement in &mut body.statements {
        statement.origin = Origin::default();
        statement.name.iter_mut().for_each(|one| one.origin = Origin::default());
        statement.when.iter_mut().for_each(|one| one.origin = Origin::default());
        forget(&mut statement.actions);
        statement.on.iter_mut().for_each(forget);
    }
}

pub(super) fn state(
    declared: &mut Declarations,
    edit: &Edit,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    let Edit::State { policy, effect, actions, on, when, name } = edit else { return Ok(()) };
    refuse_locked(declared, policy)?;
    let is_ceiling = is_ceiling(declared, policy);
    let body = &mut find(&mut declared.policies, "policy", policy)?.body;
    let on = (!on.is_empty()).then(|| new_list(on));
    let is_same = |known: &&Statement| {
        let same = |a: &List, b: &List| {
            a.value.iter().map(|o| &o.value).eq(b.value.iter().map(|o| &o.value))
        };
        known.effect == *effect
            && known.actions.value.iter().map(|one| &one.value).eq(actions)
            && known.when.as_ref().map(|when| &when.value) == when.as_ref()
            && match (&known.on, &on) {
                (Some(a), Some(b)) => same(a, b),
                (None, None) => true,
                _ => false,
            }
    };
    if body.statements.iter().any(|known| is_same(&known)) {
        applied.note(format!("policy:{policy} has such a statement already"));
        return Ok(());
    }
    let allows = |one: &Statement| one.effect == Effect::Allow;
    if is_ceiling && *effect == Effect::Allow && !body.statements.iter().any(allows) {
        applied.note(format!(
            "policy:{policy} is a ceiling, and this is its first allow: from now on it bounds \
             whatever it does not allow"
        ));
    }
    let new = Statement {
        effect: *effect,
        name: name.as_deref().map(new_word),
        about: None,
        actions: new_list(actions),
        on,
        when: when.as_deref().map(new_word),
        origin: Origin::default(),
    };
    // Behind the other allows, which keep their numbers, and before denies.
    let end = body.statements.iter().rposition(allows).map_or(0, |last| last + 1);
    match effect {
        Effect::Allow => body.statements.insert(end, new),
        Effect::Deny => body.statements.push(new),
    }
    Ok(())
}

pub(super) fn strike(
    declared: &mut Declarations,
    policy: &str,
    statement: &str,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    refuse_locked(declared, policy)?;
    let is_ceiling = is_ceiling(declared, policy);
    let body = &mut find(&mut declared.policies, "policy", policy)?.body;
    let at = expect_position(&body.statements, policy, statement)?;
    let gone = body.statements.remove(at);
    let is_last = !body.statements.iter().any(|one| one.effect == gone.effect);
    if is_ceiling && is_last && gone.effect == Effect::Allow {
        applied.note(format!(
            "policy:{policy} is a ceiling, and this was its last allow: from now on it bounds \
             nothing but what it denies"
        ));
    }
    Ok(())
}

/// What a statement is about where it does not say: all at and below where its policy is attached.
const ALL: &str = "**";

pub(super) fn spare(
    declared: &mut Declarations,
    policy: &str,
    statement: &str,
    paths: &[String],
    applied: &mut Applied,
) -> Result<(), EditFault> {
    refuse_locked(declared, policy)?;
    let body = &mut find(&mut declared.policies, "policy", policy)?.body;
    let at = expect_position(&body.statements, policy, statement)?;
    let on = body.statements[at].on.get_or_insert_with(|| new_list(&[ALL.to_owned()]));
    for path in paths {
        let pattern = format!("!{path}");
        match on.value.iter().any(|known| known.value == pattern) {
            true => applied.note(format!("`{statement}` of policy:{policy} spares {path} already")),
            false => on.value.push(new_word(&pattern)),
        }
    }
    Ok(())
}

/// Has a statement say other actions or paths; an empty list leaves them as they are.
pub(super) fn restate(
    declared: &mut Declarations,
    (policy, statement): (&str, &str),
    actions: &[String],
    on: &[String],
    applied: &mut Applied,
) -> Result<(), EditFault> {
    refuse_locked(declared, policy)?;
    let body = &mut find(&mut declared.policies, "policy", policy)?.body;
    let at = expect_position(&body.statements, policy, statement)?;
    let one = &mut body.statements[at];
    let before = (one.actions.clone(), one.on.clone());
    if !actions.is_empty() {
        one.actions = reworded(&one.actions, actions);
    }
    if !on.is_empty() {
        one.on = Some(match &one.on {
            Some(written) => reworded(written, on),
            None => new_list(on),
        });
    }
    if before == (one.actions.clone(), one.on.clone()) {
        applied.note(format!("`{statement}` of policy:{policy} says that already"));
    }
    Ok(())
}

/// A list of these words; those that stand in it already keep their places, the others follow.
fn reworded(written: &List, words: &[String]) -> List {
    let is_kept = |known: &&Spanned<String>| words.contains(&known.value);
    let mut value: Vec<Spanned<String>> = written.value.iter().filter(is_kept).cloned().collect();
    for word in words {
        if !value.iter().any(|known| known.value == *word) {
            value.push(new_word(word));
        }
    }
    List { value, origin: written.origin }
}

fn expect_position(
    statements: &[Statement],
    policy: &str,
    named: &str,
) -> Result<usize, EditFault> {
    position(statements, named)
        .ok_or_else(|| EditFault::Nothing(format!("policy:{policy} has no statement `{named}`")))
}

/// A statement by its name, or by its effect and its number among those.
fn position(statements: &[Statement], named: &str) -> Option<usize> {
    let is_named = |one: &Statement| one.name.as_ref().is_some_and(|name| name.value == named);
    if let Some(at) = statements.iter().position(is_named) {
        return Some(at);
    }
    let (word, number) = named.split_once(' ')?;
    let number: usize = number.parse().ok()?;
    let mut of_effect = statements.iter().enumerate().filter(|(_, one)| one.effect.word() == word);
    of_effect.nth(number.checked_sub(1)?).map(|(at, _)| at)
}
