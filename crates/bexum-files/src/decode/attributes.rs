//! `[attributes.who]`, `[attributes.target]`, `[attributes.given]` (spec-work section 7.1).

use bexum_core::condition::ast::Root;
use bexum_core::declaration::{Attribute, AttributeBody};
use bexum_core::fault::{Fault, LocatedFault};
use bexum_core::limits::ATTRIBUTE_DEPTH;
use bexum_core::name::{Grammar, nearest};
use bexum_core::origin::{FileId, Spanned};
use toml::de::{DeTable, DeValue};

use super::reader::{Reader, Value};
use super::{Decoded, value};

const ROOTS: [&str; 3] = ["who", "target", "given"];

/// Reads what is declared under each root.
pub(super) fn read(file: FileId, roots: &DeTable<'_>, decoded: &mut Decoded) {
    for (key, entry) in roots.iter() {
        let name = key.get_ref().as_ref();
        if name == "about" && entry.get_ref().is_str() {
            continue;
        }
        let Some(root) = ROOTS.iter().position(|word| *word == name) else {
            let fault = Fault::UnknownKey {
                key: name.to_owned(),
                table: "`[attributes]`",
                nearest: nearest(name, ROOTS),
                known: &ROOTS,
            };
            decoded.faults.push(LocatedFault::new(fault, value::origin(file, key.span())));
            continue;
        };
        match entry.get_ref().as_table() {
            Some(table) => {
                let mut declarations = Declarations { file, root: Root::ALL[root], decoded };
                declarations.read(table, "", 0);
            }
            None => wrong(file, name, "a table of declared attributes", entry, decoded),
        }
    }
}

fn wrong(
    file: FileId,
    key: &str,
    expected: &'static str,
    entry: &Value<'_>,
    decoded: &mut Decoded,
) {
    let found = value::type_in_words(entry.get_ref());
    let fault = Fault::WrongType { key: key.to_owned(), expected, found };
    decoded.faults.push(LocatedFault::new(fault, value::origin(file, entry.span())));
}

struct Declarations<'d> {
    file: FileId,
    root: Root,
    decoded: &'d mut Decoded,
}

impl Declarations<'_> {
    fn read(&mut self, table: &DeTable<'_>, head: &str, depth: usize) {
        for (key, entry) in table.iter() {
            let name = key.get_ref().as_ref();
            let at = value::origin(self.file, key.span());
            if !Grammar::Attribute.accepts(name) {
                let fault = Fault::BadName {
                    name: name.to_owned(),
                    what: "an attribute",
                    grammar: Grammar::Attribute,
                };
                self.decoded.faults.push(LocatedFault::new(fault, at));
                continue;
            }
            let full = if head.is_empty() { name.to_owned() } else { format!("{head}.{name}") };
            let name = Spanned::new(full, at);
            match entry.get_ref() {
                DeValue::String(word) => {
                    let origin = value::origin(self.file, entry.span());
                    let value_type = Spanned::new(word.to_string(), origin);
                    let body =
                        AttributeBody { value_type, is_list: false, one_of: None, form: None };
                    self.declare(name, Some(body), None);
                }
                DeValue::Table(inner) if is_declaration(inner) => self.long(name, inner),
                DeValue::Table(_) if depth == ATTRIBUTE_DEPTH => {
                    self.decoded.faults.push(LocatedFault::new(Fault::AttributeDepth, at));
                }
                DeValue::Table(inner) => self.read(inner, &name.value, depth + 1),
                _ => {
                    const EXPECTED: &str = "a type, or a table with `type`";
                    wrong(self.file, &name.value, EXPECTED, entry, self.decoded);
                    self.declare(name, None, None);
                }
            }
        }
    }

    fn declare(
        &mut self,
        name: Spanned<String>,
        body: Option<AttributeBody>,
        about: Option<String>,
    ) {
        let root = self.root;
        self.decoded.declared.attributes.push(Attribute { root, name, body, about });
    }

    /// A declaration with `type` in a table of its own.
    fn long(&mut self, name: Spanned<String>, table: &DeTable<'_>) {
        let mut faults = std::mem::take(&mut self.decoded.faults);
        let before = faults.len();
        let mut reader = Reader {
            file: self.file,
            faults: &mut faults,
            what: "a declared attribute",
            table,
            origin: name.origin,
        };
        reader.only(&["type", "list", "one-of", "form"]);
        let about = reader.about();
        let is_list = reader.boolean("list", false);
        let form = reader.text("form");
        let one_of = reader.get("one-of").map(|written| reader.values("one-of", written));
        let body = reader.text("type").map(|value_type| AttributeBody {
            value_type,
            is_list,
            one_of: one_of.flatten(),
            form,
        });
        // With a fault it counts as declared, of any type.
        let body = body.filter(|_| faults.len() == before);
        self.decoded.faults = faults;
        self.declare(name, body, about);
    }
}

/// Whether a table declares its own name: its `type` is a string then. Any other is a head.
fn is_declaration(table: &DeTable<'_>) -> bool {
    table.get("type").is_some_and(|word| word.get_ref().is_str())
}
