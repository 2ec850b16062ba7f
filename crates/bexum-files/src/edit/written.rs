//! Values and tables as they are written into files.

use bexum_core::attribute::Value;
use bexum_core::declaration::{
    Ask, Attachment, Ceiling, Element, Group, Imported, List, Named, Policy, Role, Scope,
    Statement, User, WindowWritten,
};
use bexum_core::origin::Spanned;

pub(crate) use super::document::key_text;

/// A value as TOML.
pub(crate) fn toml_value(value: &Value) -> String {
    match value {
        Value::Text(text) => quoted(text),
        Value::Integer(n) => n.to_string(),
        Value::Boolean(b) => b.to_string(),
        Value::Time(time) => time.to_string(),
        Value::List(items) => {
            let items: Vec<String> = items.iter().map(toml_value).collect();
            format!("[{}]", items.join(", "))
        }
    }
}

/// A string on one line, whatever it holds: line breaks and what could steer a terminal or an
/// editor are escapes.
pub(crate) fn quoted(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            '\n' => quoted.push_str("\\n"),
            '\t' => quoted.push_str("\\t"),
            '\r' => quoted.push_str("\\r"),
            c if c.is_control() || ('\u{2028}'..='\u{202e}').contains(&c) => {
                quoted.push_str(&format!("\\u{:04X}", u32::from(c)));
            }
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

/// Texts as a list; one alone as a text.
pub(super) fn texts(all: &[Spanned<String>]) -> String {
    match all {
        [one] => quoted(&one.value),
        all => list(all.iter().map(|one| quoted(&one.value))),
    }
}

/// Values that are written already, as a list.
pub(super) fn list(all: impl IntoIterator<Item = String>) -> String {
    format!("[{}]", all.into_iter().collect::<Vec<_>>().join(", "))
}

fn braces(pairs: &[(String, String)]) -> String {
    let pairs: Vec<String> = pairs.iter().map(|(key, value)| format!("{key} = {value}")).collect();
    if pairs.is_empty() { "{}".to_owned() } else { format!("{{ {} }}", pairs.join(", ")) }
}

/// A principal in a list, in a table if it has a window.
pub(super) fn element(element: &Element) -> String {
    let who = quoted(&element.who.value);
    let window = window(&element.window);
    if window.is_empty() {
        return who;
    }
    let mut pairs = vec![("who".to_owned(), who)];
    pairs.extend(window);
    braces(&pairs)
}

pub(super) fn ask(ask: &Ask) -> String {
    let mut pairs =
        vec![("who".to_owned(), quoted(&ask.who.value)), ("at".to_owned(), ask.at.to_string())];
    pairs.extend(ask.why.as_ref().map(|why| ("why".to_owned(), quoted(why))));
    braces(&pairs)
}

fn window(window: &WindowWritten) -> Vec<(String, String)> {
    let bounds = [("from", &window.from), ("until", &window.until)];
    let written = bounds.into_iter().filter_map(|(key, at)| Some((key, at.as_ref()?)));
    written.map(|(key, at)| (key.to_owned(), at.value.to_string())).collect()
}

pub(super) fn statement_in_braces(statement: &Statement) -> String {
    braces(&statement_pairs(statement))
}

fn statement_pairs(statement: &Statement) -> Vec<(String, String)> {
    let mut pairs = Vec::new();
    let mut add = |key: &str, value: Option<String>| {
        pairs.extend(value.map(|value| (key.to_owned(), value)));
    };
    add("name", statement.name.as_ref().map(|name| quoted(&name.value)));
    add("about", statement.about.as_deref().map(quoted));
    add("do", Some(texts(&statement.actions.value)));
    add("on", statement.on.as_ref().map(|on| texts(&on.value)));
    add("when", statement.when.as_ref().map(|when| quoted(&when.value)));
    pairs
}

/// Lines under a header.
pub(super) type Lines = Vec<(String, String)>;

/// A header and its lines, each on a line of its own.
pub(super) fn block(header: &str, lines: &Lines) -> String {
    let mut text = format!("{header}\n");
    for (key, value) in lines {
        text.push_str(&format!("{key} = {value}\n"));
    }
    text
}

pub(super) fn statement_block(policy: &str, statement: &Statement) -> String {
    let header = format!("[[policy.{}.{}]]", key_text(policy), statement.effect.word());
    block(&header, &statement_pairs(statement))
}

fn optional(lines: &mut Lines, key: &str, value: Option<&str>) {
    lines.extend(value.map(|value| (key.to_owned(), quoted(value))));
}

fn attributes(lines: &mut Lines, all: &[(Spanned<String>, Value)]) {
    if all.is_empty() {
        return;
    }
    let pairs: Vec<(String, String)> =
        all.iter().map(|(name, value)| (name.value.clone(), toml_value(value))).collect();
    lines.push(("attributes".to_owned(), braces(&pairs)));
}

fn imported(lines: &mut Lines, imported: &Imported) {
    optional(lines, "source", imported.source.as_deref());
    optional(lines, "source-id", imported.source_id.as_deref());
}

fn word(written: Option<&Spanned<String>>) -> Option<&str> {
    written.map(|written| written.value.as_str())
}

pub(super) fn user(user: &Named<User>) -> String {
    let mut lines = Lines::new();
    let body = &user.body;
    optional(&mut lines, "about", user.about.as_deref());
    optional(&mut lines, "full-name", body.full_name.as_deref());
    lines.extend((!body.enabled).then(|| ("enabled".to_owned(), "false".to_owned())));
    optional(&mut lines, "manager", word(body.manager.as_ref()));
    optional(&mut lines, "place", word(body.place.as_ref()));
    imported(&mut lines, &body.imported);
    attributes(&mut lines, &body.attributes);
    block(&format!("[user.{}]", key_text(&user.name.value)), &lines)
}

fn elements(lines: &mut Lines, key: &str, all: &[Element]) {
    lines.push((key.to_owned(), list(all.iter().map(element))));
}

pub(super) fn group(group: &Named<Group>) -> String {
    let mut lines = Lines::new();
    let body = &group.body;
    optional(&mut lines, "about", group.about.as_deref());
    body.members.iter().for_each(|all| elements(&mut lines, "members", all));
    optional(&mut lines, "members-when", word(body.members_when.as_ref()));
    if let Some(owners) = &body.owners {
        lines.push(("owners".to_owned(), list(owners.iter().map(|one| quoted(&one.value)))));
    }
    optional(&mut lines, "join", body.join.map(bexum_core::principal::Join::word));
    optional(&mut lines, "place", word(body.place.as_ref()));
    imported(&mut lines, &body.imported);
    attributes(&mut lines, &body.attributes);
    block(&format!("[group.{}]", key_text(&group.name.value)), &lines)
}

pub(super) fn role(role: &Named<Role>) -> String {
    let mut lines = Lines::new();
    let body = &role.body;
    optional(&mut lines, "about", role.about.as_deref());
    for (key, all) in [("held-by", &body.held_by), ("taken-by", &body.taken_by)] {
        if !all.is_empty() {
            elements(&mut lines, key, all);
        }
    }
    optional(&mut lines, "place", word(body.place.as_ref()));
    attributes(&mut lines, &body.attributes);
    block(&format!("[role.{}]", key_text(&role.name.value)), &lines)
}

pub(super) fn policy(policy: &Named<Policy>) -> String {
    let mut lines = Lines::new();
    let (name, body) = (&policy.name.value, &policy.body);
    optional(&mut lines, "about", policy.about.as_deref());
    if !body.include.is_empty() {
        lines.push(("include".to_owned(), texts(&body.include)));
    }
    optional(&mut lines, "place", word(body.place.as_ref()));
    lines.extend(body.locked.then(|| ("locked".to_owned(), "true".to_owned())));
    if let Some(attachable) = &body.attachable {
        lines.push(("attachable".to_owned(), texts(&attachable.value)));
    }
    let mut blocks = vec![block(&format!("[policy.{}]", key_text(name)), &lines)];
    if lines.is_empty() && !body.statements.is_empty() {
        // Its statements declare it.
        blocks.clear();
    }
    blocks.extend(body.statements.iter().map(|one| statement_block(name, one)));
    blocks.join("\n")
}

pub(super) fn scope(scope: &Named<Scope>) -> String {
    let mut lines = Lines::new();
    let body = &scope.body;
    optional(&mut lines, "about", scope.about.as_deref());
    optional(&mut lines, "kind", word(body.kind.as_ref()));
    lines.extend(body.sealed.then(|| ("sealed".to_owned(), "true".to_owned())));
    attributes(&mut lines, &body.attributes);
    let header = format!("[{}.{}]", body.scope_type.word(), key_text(&scope.name.value));
    block(&header, &lines)
}

pub(super) fn attachment(table: &Attachment) -> String {
    let mut lines = Lines::new();
    optional(&mut lines, "about", table.about.as_deref());
    for (key, all) in [("policy", &table.policy), ("to", &table.to), ("at", &table.at)] {
        lines.push((key.to_owned(), texts(&all.value)));
    }
    lines.extend(window(&table.window));
    block("[[attach]]", &lines)
}

pub(super) fn ceiling(table: &Ceiling) -> String {
    let mut lines = Lines::new();
    optional(&mut lines, "about", table.about.as_deref());
    lines.push(("policy".to_owned(), texts(&table.policy.value)));
    let optional_lists: [(&str, &Option<List>); 2] = [("over", &table.over), ("for", &table.bound)];
    for (key, all) in optional_lists {
        lines.extend(all.as_ref().map(|all| (key.to_owned(), texts(&all.value))));
    }
    lines.extend(window(&table.window));
    block("[[ceiling]]", &lines)
}
