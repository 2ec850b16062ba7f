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
    let mut quoted = String::with_capacity(text.len() + 2);
    push_quoted(&mut quoted, text);
    quoted
}

fn push_quoted(quoted: &mut String, text: &str) {
    quoted.push('"');
    // Most texts need no escapes.
    let is_plain = |byte: u8| matches!(byte, b' '..=b'~') && byte != b'"' && byte != b'\\';
    if text.bytes().all(is_plain) {
        quoted.push_str(text);
        quoted.push('"');
        return;
    }
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

/// Lines under a header, each with its end.
#[derive(Default)]
struct Lines(String);

impl Lines {
    fn add(&mut self, key: &str, value: &str) {
        self.0.extend([key, " = ", value, "\n"]);
    }

    fn text(&mut self, key: &str, value: Option<&str>) {
        if let Some(value) = value {
            self.0.extend([key, " = "]);
            push_quoted(&mut self.0, value);
            self.0.push('\n');
        }
    }

    fn pairs(&mut self, all: Vec<(String, String)>) {
        all.iter().for_each(|(key, value)| self.add(key, value));
    }
}

/// A header and its lines.
fn block(header: &[&str], Lines(lines): &Lines) -> String {
    header.iter().copied().chain(["\n", lines]).collect()
}

pub(super) fn statement_block(policy: &str, statement: &Statement) -> String {
    let mut lines = Lines::default();
    lines.pairs(statement_pairs(statement));
    block(&["[[policy.", &key_text(policy), ".", statement.effect.word(), "]]"], &lines)
}

fn attributes(lines: &mut Lines, all: &[(Spanned<String>, Value)]) {
    if all.is_empty() {
        return;
    }
    let pairs: Vec<(String, String)> =
        all.iter().map(|(name, value)| (name.value.clone(), toml_value(value))).collect();
    lines.add("attributes", &braces(&pairs));
}

fn imported(lines: &mut Lines, imported: &Imported) {
    lines.text("source", imported.source.as_deref());
    lines.text("source-id", imported.source_id.as_deref());
}

fn word(written: Option<&Spanned<String>>) -> Option<&str> {
    written.map(|written| written.value.as_str())
}

pub(super) fn user(user: &Named<User>) -> String {
    let mut lines = Lines::default();
    let body = &user.body;
    lines.text("about", user.about.as_deref());
    lines.text("full-name", body.full_name.as_deref());
    if !body.enabled {
        lines.add("enabled", "false");
    }
    lines.text("manager", word(body.manager.as_ref()));
    lines.text("place", word(body.place.as_ref()));
    imported(&mut lines, &body.imported);
    attributes(&mut lines, &body.attributes);
    block(&["[user.", &key_text(&user.name.value), "]"], &lines)
}

fn elements(lines: &mut Lines, key: &str, all: &[Element]) {
    lines.add(key, &list(all.iter().map(element)));
}

pub(super) fn group(group: &Named<Group>) -> String {
    let mut lines = Lines::default();
    let body = &group.body;
    lines.text("about", group.about.as_deref());
    body.members.iter().for_each(|all| elements(&mut lines, "members", all));
    lines.text("members-when", word(body.members_when.as_ref()));
    if let Some(owners) = &body.owners {
        lines.add("owners", &list(owners.iter().map(|one| quoted(&one.value))));
    }
    lines.text("join", body.join.map(bexum_core::principal::Join::word));
    lines.text("place", word(body.place.as_ref()));
    imported(&mut lines, &body.imported);
    attributes(&mut lines, &body.attributes);
    block(&["[group.", &key_text(&group.name.value), "]"], &lines)
}

pub(super) fn role(role: &Named<Role>) -> String {
    let mut lines = Lines::default();
    let body = &role.body;
    lines.text("about", role.about.as_deref());
    for (key, all) in [("held-by", &body.held_by), ("taken-by", &body.taken_by)] {
        if !all.is_empty() {
            elements(&mut lines, key, all);
        }
    }
    lines.text("place", word(body.place.as_ref()));
    attributes(&mut lines, &body.attributes);
    block(&["[role.", &key_text(&role.name.value), "]"], &lines)
}

pub(super) fn policy(policy: &Named<Policy>) -> String {
    let mut lines = Lines::default();
    let (name, body) = (&policy.name.value, &policy.body);
    lines.text("about", policy.about.as_deref());
    if !body.include.is_empty() {
        lines.add("include", &texts(&body.include));
    }
    lines.text("place", word(body.place.as_ref()));
    if body.locked {
        lines.add("locked", "true");
    }
    if let Some(attachable) = &body.attachable {
        lines.add("attachable", &texts(&attachable.value));
    }
    let mut blocks = vec![block(&["[policy.", &key_text(name), "]"], &lines)];
    if lines.0.is_empty() && !body.statements.is_empty() {
        // Its statements declare it.
        blocks.clear();
    }
    blocks.extend(body.statements.iter().map(|one| statement_block(name, one)));
    blocks.join("\n")
}

pub(super) fn scope(scope: &Named<Scope>) -> String {
    let mut lines = Lines::default();
    let body = &scope.body;
    lines.text("about", scope.about.as_deref());
    lines.text("kind", word(body.kind.as_ref()));
    if body.sealed {
        lines.add("sealed", "true");
    }
    attributes(&mut lines, &body.attributes);
    block(&["[", body.scope_type.word(), ".", &key_text(&scope.name.value), "]"], &lines)
}

pub(super) fn attachment(table: &Attachment) -> String {
    let mut lines = Lines::default();
    lines.text("about", table.about.as_deref());
    for (key, all) in [("policy", &table.policy), ("to", &table.to), ("at", &table.at)] {
        lines.add(key, &texts(&all.value));
    }
    lines.pairs(window(&table.window));
    block(&["[[attach]]"], &lines)
}

pub(super) fn ceiling(table: &Ceiling) -> String {
    let mut lines = Lines::default();
    lines.text("about", table.about.as_deref());
    lines.add("policy", &texts(&table.policy.value));
    let optional_lists: [(&str, &Option<List>); 2] = [("over", &table.over), ("for", &table.bound)];
    for (key, all) in optional_lists {
        if let Some(all) = all {
            lines.add(key, &texts(&all.value));
        }
    }
    lines.pairs(window(&table.window));
    block(&["[[ceiling]]"], &lines)
}
