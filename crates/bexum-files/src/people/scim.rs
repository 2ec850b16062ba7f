//! SCIM resources: `User` and `Group` (RFC 7643), singly, in a list, or in a `ListResponse` (RFC 7644).

use bexum_core::attribute::Value as Attribute;
use bexum_core::import::{Given, MappedKey, Person, Reference, Team};
use bexum_core::time::Window;
use serde_json::{Map, Value};

use super::json::Unique;
use super::{Reading, bare};

const USER: &str = "urn:ietf:params:scim:schemas:core:2.0:User";
const GROUP: &str = "urn:ietf:params:scim:schemas:core:2.0:Group";
const ENTERPRISE: &str = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";

/// Attributes that say nothing about a person or a group, or that the other side alone keeps.
const QUIET: [&str; 6] = ["schemas", "id", "meta", "externalId", "groups", "password"];

type Object = Map<String, Value>;

/// An attribute by its name, in whatever case (RFC 7643 section 2.1).
fn get<'o>(object: &'o Object, name: &str) -> Option<(&'o str, &'o Value)> {
    let found = object.get_key_value(name);
    let found = found.or_else(|| object.iter().find(|(key, _)| key.eq_ignore_ascii_case(name)));
    // Null is the same as nothing (section 2.5).
    found.map(|(key, value)| (key.as_str(), value)).filter(|(_, value)| !value.is_null())
}

fn type_in_words(value: &Value) -> &'static str {
    match value {
        Value::Null => "null",
        Value::Bool(_) => "a boolean",
        Value::Number(_) => "a number",
        Value::String(_) => "a string",
        Value::Array(_) => "a list",
        Value::Object(_) => "an object",
    }
}

/// One more step of a JSON pointer (RFC 6901).
fn step(place: &str, key: &str) -> String {
    format!("{place}/{}", key.replace('~', "~0").replace('/', "~1"))
}

impl Reading<'_> {
    pub(super) fn scim(&mut self, file: &str, text: &[u8]) {
        let top = match serde_json::from_slice::<Unique>(text) {
            Ok(Unique(top)) => top,
            Err(error) => {
                let place = format!("{file}:{}:{}", error.line(), error.column());
                let whole = error.to_string();
                let message = whole.split(" at line ").next().unwrap_or(&whole).to_owned();
                return self.complain(place, message, None);
            }
        };
        let place = format!("{file}#");
        match &top {
            Value::Array(all) => self.resources(&place, all),
            Value::Object(object) => match get(object, "Resources") {
                Some((key, Value::Array(all))) => {
                    let at = step(&place, key);
                    self.count(object, all, &place);
                    self.resources(&at, all);
                }
                Some((key, other)) => self.wrong(&step(&place, key), "a list", other),
                // A list of nothing may leave its resources out (RFC 7644 section 3.4.2).
                None if get(object, "totalResults").is_some() => self.count(object, &[], &place),
                None => self.resource(&place, &top),
            },
            // Whoever calls looked at the first letter.
            _ => self.wrong(&place, "an object or a list", &top),
        }
    }

    /// What a list says that there is, and what is there.
    fn count(&mut self, list: &Object, all: &[Value], place: &str) {
        let Some((key, total)) = get(list, "totalResults") else { return };
        let Some(said) = total.as_u64() else {
            return self.wrong(&step(place, key), "a number", total);
        };
        let is_group = all
            .first()
            .and_then(Value::as_object)
            .is_some_and(|first| sort_of(first) == Some(Sort::Group));
        let here = all.len() as u64;
        let counted = self.pages.entry((is_group, said)).or_insert((0, step(place, key)));
        counted.0 += here;
    }

    fn wrong(&mut self, place: &str, expected: &str, value: &Value) {
        let message = format!("this must be {expected}, not {}", type_in_words(value));
        self.complain(place.to_owned(), message, None);
    }

    fn resources(&mut self, place: &str, all: &[Value]) {
        for (i, one) in all.iter().enumerate() {
            self.resource(&format!("{place}/{i}"), one);
        }
    }

    fn resource(&mut self, place: &str, value: &Value) {
        let Some(object) = value.as_object() else {
            return self.wrong(place, "an object: a user or a group", value);
        };
        let keys: Vec<String> = object.keys().map(|key| key.to_ascii_lowercase()).collect();
        let mut sorted: Vec<&String> = keys.iter().collect();
        sorted.sort_unstable();
        if let Some(pair) = sorted.windows(2).find(|pair| pair[0] == pair[1]) {
            let message = format!("the attribute `{}` stands twice", pair[0]);
            return self.complain(place.to_owned(), message, None);
        }
        match sort_of(object) {
            Some(Sort::User) => self.user(place, object),
            Some(Sort::Group) => self.group(place, object),
            Some(Sort::Other(what)) => self.leave(&what, || place.to_owned()),
            None => {
                let message = "this is neither a user nor a group".to_owned();
                let hint = format!("`schemas` of a user is [\"{USER}\"]");
                self.complain(place.to_owned(), message, Some(&hint));
            }
        }
    }

    /// A string that must not be empty.
    fn text(&mut self, place: &str, object: &Object, name: &str) -> Option<String> {
        let (key, value) = get(object, name)?;
        match value.as_str() {
            Some(text) => Some(text.to_owned()).filter(|text| !text.is_empty()),
            None => {
                self.wrong(&step(place, key), "a string", value);
                None
            }
        }
    }

    /// The attribute that the mapping names for this key, if it is there: its place and its value.
    fn mapped<'o>(
        &self,
        place: &str,
        object: &'o Object,
        wanted: &MappedKey,
    ) -> Option<(String, &'o Value)> {
        let columns = self.mapping.iter().filter(|(_, key)| key == wanted);
        columns.into_iter().find_map(|(column, _)| lookup(place, object, column))
    }

    /// The name, from where the mapping says, else from where the standard has it.
    fn name(&mut self, place: &str, object: &Object, standard: &str, what: &str) -> String {
        if let Some((at, value)) = self.mapped(place, object, &MappedKey::Name) {
            match value.as_str() {
                Some(text) => return bare(text, what).to_owned(),
                None => self.wrong(&at, "a string", value),
            }
        }
        let name = self.text(place, object, standard);
        if name.is_none() && get(object, standard).is_none_or(|(_, value)| value.is_string()) {
            let message = format!("this {what} has no `{standard}`");
            self.complain(place.to_owned(), message, None);
        }
        name.map(|name| bare(&name, what).to_owned()).unwrap_or_default()
    }

    fn user(&mut self, place: &str, object: &Object) {
        self.read.people.speaks_of.persons = true;
        let before = self.complaints.len();
        let name = self.name(place, object, "userName", "user");
        let id = match self.mapped(place, object, &MappedKey::SourceId) {
            Some((_, value)) => value.as_str().map(str::to_owned),
            None => self.text(place, object, "id"),
        };
        let enabled = match self.mapped(place, object, &MappedKey::Enabled) {
            Some(mapped) => Some(mapped),
            None => get(object, "active").map(|(key, value)| (step(place, key), value)),
        };
        let enabled = enabled.and_then(|(at, value)| {
            if value.as_bool().is_none() {
                self.wrong(&at, "`true` or `false`", value);
            }
            value.as_bool()
        });
        let full_name = self.full_name(place, object);
        let manager = self.manager(place, object);
        let attributes = self.attributes(place, object);
        self.others(place, object);
        let speaks = &mut self.read.people.speaks_of;
        speaks.full_name |= full_name.is_some();
        speaks.manager |= manager.is_some();
        for (name, _) in &attributes {
            if !speaks.attributes.contains(name) {
                speaks.attributes.push(name.clone());
            }
        }
        if self.complaints.len() == before {
            let place = place.to_owned();
            let person = Person { name, id, enabled, full_name, manager, attributes, place };
            self.read.people.persons.push(person);
        }
    }

    fn full_name(&mut self, place: &str, object: &Object) -> Option<String> {
        if let Some((at, value)) = self.mapped(place, object, &MappedKey::FullName) {
            if !value.is_string() {
                self.wrong(&at, "a string", value);
            }
            return value.as_str().map(str::to_owned);
        }
        self.text(place, object, "displayName").or_else(|| {
            let (key, name) = get(object, "name")?;
            let at = step(place, key);
            match name.as_object() {
                Some(parts) => self.text(&at, parts, "formatted"),
                None => {
                    self.wrong(&at, "an object", name);
                    None
                }
            }
        })
    }

    /// The manager: `value` in an object (RFC 7643 section 4.3), or a text.
    fn manager(&mut self, place: &str, object: &Object) -> Option<Reference> {
        let found = self.mapped(place, object, &MappedKey::Manager);
        let (at, value) = found.or_else(|| lookup(place, object, "manager"))?;
        let to = match value {
            Value::String(text) => Some(text.clone()),
            Value::Object(parts) => match get(parts, "value") {
                Some((_, Value::String(text))) => Some(text.clone()),
                Some((key, other)) => {
                    self.wrong(&step(&at, key), "a string", other);
                    None
                }
                None => None,
            },
            other => {
                self.wrong(&at, "an object with `value`", other);
                None
            }
        };
        let to = to.filter(|to| !to.is_empty())?;
        Some(Reference { to, window: Window::ALWAYS, place: at })
    }

    /// What the mapping makes attributes of.
    fn attributes(&mut self, place: &str, object: &Object) -> Vec<(String, Given)> {
        let mut found: Vec<(String, Given)> = Vec::new();
        for (column, key) in self.mapping {
            let MappedKey::Attribute(name) = key else { continue };
            let Some((at, value)) = lookup(place, object, column) else { continue };
            let given = match value {
                Value::String(text) => Some(Attribute::Text(text.as_str().into())),
                Value::Bool(flag) => Some(Attribute::Boolean(*flag)),
                Value::Number(number) => number.as_i64().map(Attribute::Integer),
                _ => None,
            };
            match given {
                Some(given) if found.iter().all(|(known, _)| known != name) => {
                    found.push((name.clone(), Given::Typed(given)));
                }
                Some(_) => {
                    let message = format!("two attributes fill `attributes.{name}`");
                    self.complain(at, message, None);
                }
                None => self.wrong(&at, "a string, an integer or a boolean", value),
            }
        }
        found
    }

    /// Tells of attributes that nothing is made of.
    fn others(&mut self, place: &str, object: &Object) {
        let is_taken = |name: &str, path: &str| {
            QUIET
                .iter()
                .chain(&["userName", "active", "displayName", "name", "manager"])
                .any(|one| one.eq_ignore_ascii_case(name))
                || self.mapping.iter().any(|(column, _)| {
                    let head = column.split('.').next().unwrap_or_default();
                    head.eq_ignore_ascii_case(name)
                        || column.eq_ignore_ascii_case(path)
                        || column.strip_prefix(path).is_some_and(|rest| rest.starts_with('.'))
                })
        };
        let mut left: Vec<(String, String)> = Vec::new();
        for (key, value) in object {
            match value.as_object().filter(|_| key.to_ascii_lowercase().starts_with("urn:")) {
                Some(inner) => {
                    for inner_key in inner.keys() {
                        let path = format!("{key}:{inner_key}");
                        if !is_taken(inner_key, &path) {
                            left.push((inner_key.clone(), step(&step(place, key), inner_key)));
                        }
                    }
                }
                None if !is_taken(key, key) => left.push((key.clone(), step(place, key))),
                None => {}
            }
        }
        for (name, at) in left {
            self.leave(&name, || at);
        }
    }

    fn group(&mut self, place: &str, object: &Object) {
        self.read.people.speaks_of.groups = true;
        let before = self.complaints.len();
        let name = self.name(place, object, "displayName", "group");
        let id = self.text(place, object, "id");
        let mut members = Vec::new();
        match get(object, "members") {
            None => {}
            Some((key, Value::Array(all))) => {
                self.read.people.speaks_of.members = true;
                let at = step(place, key);
                for (i, one) in all.iter().enumerate() {
                    let at = format!("{at}/{i}");
                    let value = match one {
                        Value::Object(parts) => get(parts, "value").map(|(_, value)| value),
                        _ => None,
                    };
                    match value {
                        Some(Value::String(to)) if !to.is_empty() => {
                            let to = to.clone();
                            members.push(Reference { to, window: Window::ALWAYS, place: at });
                        }
                        _ => self.wrong(&at, "an object with `value`, a string", one),
                    }
                }
            }
            Some((key, other)) => self.wrong(&step(place, key), "a list", other),
        }
        let left = object.keys().filter(|key| {
            let known = QUIET.iter().chain(&["displayName", "members"]);
            let mut known = known.chain(&[GROUP]);
            let is_mapped = self.mapping.iter().any(|(column, _)| column.eq_ignore_ascii_case(key));
            !is_mapped && !known.any(|one| one.eq_ignore_ascii_case(key))
        });
        let left: Vec<String> = left.cloned().collect();
        for name in left {
            self.leave(&name, || step(place, &name));
        }
        if self.complaints.len() == before {
            self.read.people.groups.push(Team { name, id, members, place: place.to_owned() });
        }
    }
}

/// What a resource is.
#[derive(PartialEq, Eq)]
enum Sort {
    User,
    Group,
    Other(String),
}

fn sort_of(object: &Object) -> Option<Sort> {
    let schemas = get(object, "schemas").and_then(|(_, schemas)| schemas.as_array());
    let mut schemas: Vec<&str> = schemas.into_iter().flatten().filter_map(Value::as_str).collect();
    let has = |schemas: &[&str], wanted: &str| {
        schemas.iter().any(|schema| schema.eq_ignore_ascii_case(wanted))
    };
    if has(&schemas, USER) {
        return Some(Sort::User);
    }
    if has(&schemas, GROUP) {
        return Some(Sort::Group);
    }
    let meta = get(object, "meta").and_then(|(_, meta)| meta.as_object());
    match meta.and_then(|meta| get(meta, "resourceType")).and_then(|(_, name)| name.as_str()) {
        Some("User") => return Some(Sort::User),
        Some("Group") => return Some(Sort::Group),
        Some(other) => return Some(Sort::Other(other.to_owned())),
        None => {}
    }
    schemas.retain(|schema| *schema != ENTERPRISE);
    if let Some(other) = schemas.first() {
        let last = other.rsplit(':').next().unwrap_or(other);
        return Some(Sort::Other(last.to_owned()));
    }
    get(object, "userName").map(|_| Sort::User)
}

/// An attribute by a path: `department`, `name.givenName`, or one of an extension with the whole name
/// of that before a colon. What is not at the top is looked for in the extensions.
fn lookup<'o>(place: &str, object: &'o Object, path: &str) -> Option<(String, &'o Value)> {
    if path.to_ascii_lowercase().starts_with("urn:") {
        return object.iter().find_map(|(key, value)| {
            let length = key.len();
            let head = path.get(..length)?;
            let rest = path[length..].strip_prefix(':')?;
            let inner = value.as_object().filter(|_| head.eq_ignore_ascii_case(key))?;
            below(&step(place, key), inner, rest)
        });
    }
    below(place, object, path).or_else(|| {
        let extensions =
            object.iter().filter(|(key, _)| key.to_ascii_lowercase().starts_with("urn:"));
        extensions
            .into_iter()
            .find_map(|(key, value)| below(&step(place, key), value.as_object()?, path))
    })
}

fn below<'o>(place: &str, object: &'o Object, path: &str) -> Option<(String, &'o Value)> {
    match path.split_once('.') {
        None => get(object, path).map(|(key, value)| (step(place, key), value)),
        Some((head, rest)) => {
            let (key, value) = get(object, head)?;
            below(&step(place, key), value.as_object()?, rest)
        }
    }
}
