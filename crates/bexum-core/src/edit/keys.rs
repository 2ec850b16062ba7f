//! New things, and their keys.

use super::apply::{Applied, EditFault, find, new_list, new_word, unknown};
use super::{Keyed, Target, canonical_group};
use crate::attribute::Value;
use crate::declaration::{
    Declarations, Element, Group, Imported, Named, Policy, Role, Scope, User, WindowWritten,
};
use crate::origin::{Origin, Spanned};
use crate::principal::Join;
use crate::scope::ScopeType;

type Attributes = Vec<(Spanned<String>, Value)>;

pub(super) fn new(
    declared: &mut Declarations,
    target: &Target,
    preset: Option<&str>,
    keys: &[Keyed],
) -> Result<(), EditFault> {
    let name = target.name();
    if let (Some(_), false) = (preset, matches!(target, Target::Group(_))) {
        return Err(EditFault::Nothing("presets are for groups".to_owned()));
    }
    let taken = |is: bool| match is {
        true => Err(EditFault::Taken { what: target.what(), name: name.to_owned() }),
        false => Ok(()),
    };
    fn named<T: Default>(name: &str) -> Named<T> {
        Named { name: new_word(name), about: None, body: T::default() }
    }
    match target {
        Target::User(_) => {
            taken(declared.users.iter().any(|one| one.name.value == name))?;
            declared.users.push(named::<User>(name));
        }
        Target::Group(_) => {
            taken(declared.groups.iter().any(|one| one.name.value == name))?;
            let mut group = named::<Group>(name);
            if let Some(preset) = preset {
                let preset = find(&mut declared.presets, "preset", preset)?;
                group.about.clone_from(&preset.about);
                group.body = canonical_group(&preset.body);
            }
            declared.groups.push(group);
        }
        Target::Role(_) => {
            taken(declared.roles.iter().any(|one| one.name.value == name))?;
            declared.roles.push(named::<Role>(name));
        }
        Target::Policy(_) => {
            taken(declared.policies.iter().any(|one| one.name.value == name))?;
            declared.policies.push(named::<Policy>(name));
        }
        Target::Scope(scope_type, _) => {
            taken(declared.scopes.iter().any(|one| one.name.value == name))?;
            let scope_type = scope_type.ok_or_else(|| EditFault::Key {
                what: "scope",
                key: name.to_owned(),
                hint: Some(format!("say what it is, as in `new namespace:{name}`")),
            })?;
            let body = Scope { scope_type, kind: None, sealed: false, attributes: Vec::new() };
            declared.scopes.push(Named { name: new_word(name), about: None, body });
        }
    }
    for (key, value) in keys {
        set_key(declared, target, key, value, true)?;
    }
    Ok(())
}

pub(super) fn set(
    declared: &mut Declarations,
    target: &Target,
    keys: &[Keyed],
    applied: &mut Applied,
) -> Result<(), EditFault> {
    let unlocks = |(key, value): &Keyed| key == "locked" && *value == Value::Boolean(false);
    if let (Target::Policy(name), false) = (target, keys.iter().all(unlocks)) {
        super::policies::refuse_locked(declared, name)?;
    }
    for (key, value) in keys {
        if !set_key(declared, target, key, value, false)? {
            applied.note(format!("`{key}` of {target} says that already"));
        }
    }
    Ok(())
}

pub(super) fn unset(
    declared: &mut Declarations,
    target: &Target,
    keys: &[String],
) -> Result<(), EditFault> {
    if let (Target::Policy(name), true) = (target, keys.iter().any(|key| key != "locked")) {
        super::policies::refuse_locked(declared, name)?;
    }
    for key in keys {
        if !unset_key(declared, target, key)? {
            return Err(EditFault::Nothing(format!("`{key}` is not written for {target}")));
        }
    }
    Ok(())
}

/// A key of a thing, as something that can be written.
enum Slot<'d> {
    Text(&'d mut Option<String>),
    Word(&'d mut Option<Spanned<String>>),
    Boolean(&'d mut bool, bool),
    Join(&'d mut Option<Join>),
    Names(&'d mut Vec<Spanned<String>>),
    List(&'d mut Option<crate::declaration::List>),
    Owners(&'d mut Option<Vec<Spanned<String>>>),
    Elements(&'d mut Vec<Element>),
    Members(&'d mut Option<Vec<Element>>),
    /// The attribute of the name after `attributes.`, or all of them.
    Attribute(&'d mut Attributes),
}

/// Where a key stands; `None` where such a thing has none of the name.
fn slot<'d>(
    declared: &'d mut Declarations,
    target: &Target,
    key: &str,
) -> Result<Option<Slot<'d>>, EditFault> {
    let is_attribute = key == "attributes" || key.starts_with("attributes.");
    let of_import = |imported: &'d mut Imported, key: &str| match key {
        "source" => Slot::Text(&mut imported.source),
        _ => Slot::Text(&mut imported.source_id),
    };
    let name = target.name();
    Ok(Some(match target {
        Target::User(_) => {
            let thing = find(&mut declared.users, "user", name)?;
            let body = &mut thing.body;
            match key {
                "about" => Slot::Text(&mut thing.about),
                "full-name" => Slot::Text(&mut body.full_name),
                "enabled" => Slot::Boolean(&mut body.enabled, true),
                "manager" => Slot::Word(&mut body.manager),
                "place" => Slot::Word(&mut body.place),
                "source" | "source-id" => of_import(&mut body.imported, key),
                _ if is_attribute => Slot::Attribute(&mut body.attributes),
                _ => return Ok(None),
            }
        }
        Target::Group(_) => {
            let thing = find(&mut declared.groups, "group", name)?;
            let body = &mut thing.body;
            match key {
                "about" => Slot::Text(&mut thing.about),
                "members" => Slot::Members(&mut body.members),
                "members-when" => Slot::Word(&mut body.members_when),
                "owners" => Slot::Owners(&mut body.owners),
                "join" => Slot::Join(&mut body.join),
                "place" => Slot::Word(&mut body.place),
                "source" | "source-id" => of_import(&mut body.imported, key),
                _ if is_attribute => Slot::Attribute(&mut body.attributes),
                _ => return Ok(None),
            }
        }
        Target::Role(_) => {
            let thing = find(&mut declared.roles, "role", name)?;
            let body = &mut thing.body;
            match key {
                "about" => Slot::Text(&mut thing.about),
                "held-by" => Slot::Elements(&mut body.held_by),
                "taken-by" => Slot::Elements(&mut body.taken_by),
                "place" => Slot::Word(&mut body.place),
                _ if is_attribute => Slot::Attribute(&mut body.attributes),
                _ => return Ok(None),
            }
        }
        Target::Policy(_) => {
            let thing = find(&mut declared.policies, "policy", name)?;
            let body = &mut thing.body;
            match key {
                "about" => Slot::Text(&mut thing.about),
                "include" => Slot::Names(&mut body.include),
                "attachable" => Slot::List(&mut body.attachable),
                "locked" => Slot::Boolean(&mut body.locked, false),
                "place" => Slot::Word(&mut body.place),
                _ => return Ok(None),
            }
        }
        Target::Scope(scope_type, path) => {
            let thing = find(&mut declared.scopes, "scope", name)?;
            let is = thing.body.scope_type;
            if scope_type.is_some_and(|said| said != is) {
                let what = scope_type.map_or("scope", ScopeType::word);
                let near = format!("{}:{path}", is.word());
                return Err(EditFault::Unknown { what, name: path.clone(), nearest: Some(near) });
            }
            let body = &mut thing.body;
            match key {
                "about" => Slot::Text(&mut thing.about),
                "kind" if matches!(is, ScopeType::Resource | ScopeType::Namespace) => {
                    Slot::Word(&mut body.kind)
                }
                "sealed" => Slot::Boolean(&mut body.sealed, false),
                _ if is_attribute => Slot::Attribute(&mut body.attributes),
                _ => return Ok(None),
            }
        }
    }))
}

fn no_such_key(target: &Target, key: &str) -> EditFault {
    let hint = match (target, key) {
        (Target::Policy(name), "allow" | "deny") => {
            Some(format!("`{key} policy:{name} ACTION` adds a statement"))
        }
        (_, "name" | "path") => Some(format!("`rename {target} NEW` gives it another name")),
        _ => None,
    };
    EditFault::Key { what: target.what(), key: key.to_owned(), hint }
}

fn list_has_an_edit(target: &Target, key: &str) -> EditFault {
    let option = match key {
        "owners" => " --owner",
        "taken-by" => " --taken",
        _ => "",
    };
    let hint = Some(format!("`add WHO --to {target}{option}` and `remove` change it"));
    EditFault::Key { what: target.what(), key: key.to_owned(), hint }
}

fn element(who: &str) -> Element {
    Element { who: new_word(who), window: WindowWritten::default() }
}

/// Writes a key; whether that changed anything. Lists of principals can be written of new things
/// alone.
fn set_key(
    declared: &mut Declarations,
    target: &Target,
    key: &str,
    value: &Value,
    is_new: bool,
) -> Result<bool, EditFault> {
    let slot = slot(declared, target, key)?.ok_or_else(|| no_such_key(target, key))?;
    let wrong = |expected| EditFault::Value { key: key.to_owned(), expected };
    let text = |value: &Value| match value {
        Value::Text(text) => Ok(text.to_string()),
        _ => Err(wrong("a text")),
    };
    let texts = |value: &Value| match value {
        Value::Text(text) => Ok(vec![text.to_string()]),
        Value::List(items) => items.iter().map(&text).collect(),
        _ => Err(wrong("a text or a list of texts")),
    };
    let is_list = matches!(slot, Slot::Owners(_) | Slot::Elements(_) | Slot::Members(_));
    if is_list && !is_new {
        return Err(list_has_an_edit(target, key));
    }
    let replace = |old: &mut Option<Spanned<String>>, new: String| {
        let is_same = old.as_ref().is_some_and(|old| old.value == new);
        if !is_same {
            *old = Some(new_word(&new));
        }
        !is_same
    };
    Ok(match slot {
        Slot::Text(old) => {
            let new = Some(text(value)?);
            let differs = *old != new;
            *old = new;
            differs
        }
        Slot::Word(old) => replace(old, text(value)?),
        Slot::Boolean(old, _) => {
            let Value::Boolean(new) = value else { return Err(wrong("`true` or `false`")) };
            std::mem::replace(old, *new) != *new
        }
        Slot::Join(old) => {
            let new = text(value)?;
            let join = Join::ALL.into_iter().find(|join| join.word() == new);
            let join = join.ok_or_else(|| wrong("`open`, `approval` or `closed`"))?;
            old.replace(join) != Some(join)
        }
        Slot::Names(old) => {
            let new = texts(value)?;
            let is_same = old.iter().map(|one| &one.value).eq(&new);
            if !is_same {
                *old = new.iter().map(|one| new_word(one)).collect();
            }
            !is_same
        }
        Slot::List(old) => {
            let new = texts(value)?;
            let same =
                |old: &crate::declaration::List| old.value.iter().map(|one| &one.value).eq(&new);
            let is_same = old.as_ref().is_some_and(same);
            if !is_same {
                *old = Some(new_list(&new));
            }
            !is_same
        }
        Slot::Owners(old) => {
            *old = Some(texts(value)?.iter().map(|one| new_word(one)).collect());
            true
        }
        Slot::Elements(old) => {
            *old = texts(value)?.iter().map(|one| element(one)).collect();
            true
        }
        Slot::Members(old) => {
            *old = Some(texts(value)?.iter().map(|one| element(one)).collect());
            true
        }
        Slot::Attribute(all) => {
            let Some(name) = key.strip_prefix("attributes.") else {
                return Err(wrong("a name after it: `attributes.team=imaging`"));
            };
            match all.iter_mut().find(|(known, _)| known.value == name) {
                Some((_, old)) => {
                    let differs = old != value;
                    *old = value.clone();
                    differs
                }
                None => {
                    let name = Spanned::new(name.to_owned(), Origin::default());
                    all.push((name, value.clone()));
                    true
                }
            }
        }
    })
}

/// Takes a key away; whether it stood there.
fn unset_key(declared: &mut Declarations, target: &Target, key: &str) -> Result<bool, EditFault> {
    let slot = slot(declared, target, key)?.ok_or_else(|| no_such_key(target, key))?;
    Ok(match slot {
        Slot::Text(old) => old.take().is_some(),
        Slot::Word(old) => old.take().is_some(),
        Slot::Boolean(old, default) => std::mem::replace(old, default) != default,
        Slot::Join(old) => old.take().is_some(),
        Slot::Names(old) => !std::mem::take(old).is_empty(),
        Slot::List(old) => old.take().is_some(),
        Slot::Owners(_) | Slot::Elements(_) | Slot::Members(_) => {
            return Err(list_has_an_edit(target, key));
        }
        Slot::Attribute(all) => {
            let before = all.len();
            let below = key.strip_prefix("attributes.");
            all.retain(|(name, _)| match below {
                None => false,
                Some(head) => {
                    let rest = name.value.strip_prefix(head);
                    !rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
                }
            });
            all.len() < before
        }
    })
}

/// Refuses what names nobody.
pub(super) fn expect_declared(declared: &Declarations, who: &str) -> Result<(), EditFault> {
    fn among<T>(all: &[Named<T>], what: &'static str, name: &str) -> Result<(), EditFault> {
        let mut names = all.iter().map(|one| &*one.name.value);
        match names.any(|known| known == name) {
            true => Ok(()),
            false => Err(unknown(what, name, all.iter().map(|one| &*one.name.value))),
        }
    }
    match who.split_once(':') {
        Some(("user", name)) => among(&declared.users, "user", name),
        Some(("group", name)) => among(&declared.groups, "group", name),
        Some(("role", name)) => among(&declared.roles, "role", name),
        Some(("policy", name)) => among(&declared.policies, "policy", name),
        Some(("resource", path)) => among(&declared.scopes, "resource", path),
        _ if who == "everyone" => Ok(()),
        _ => among(&declared.scopes, "scope", who),
    }
}
