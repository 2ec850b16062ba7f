//! Applications, and sources of people.

use bexum_core::application::{Beyond, Told};
use bexum_core::declaration::{Application, List, Source};
use bexum_core::origin::Spanned;
use toml::de::DeValue;

use super::reader::Reader;
use super::value;

pub(super) fn application(reader: &mut Reader<'_, '_>) -> Application {
    reader.only(&[
        "open-to", "claim", "groups", "through", "names", "as", "at-most", "beyond", "roles",
        "lasts",
    ]);
    let told = reader.word("groups", Told::WORDS, &Told::ALL);
    let beyond = reader.word("beyond", Beyond::WORDS, &Beyond::ALL);
    let as_id = reader.word("as", &["name", "id"], &[false, true]);
    Application {
        open_to: reader.list("open-to"),
        claim: reader.text("claim"),
        told: told.map_or(Told::All, |word| word.value),
        through: reader.boolean("through", false),
        names: reader.list("names"),
        as_id: as_id.is_some_and(|word| word.value),
        at_most: at_most(reader),
        beyond: beyond.map_or(Beyond::Flag, |word| word.value),
        roles: roles(reader),
        lasts: reader.text("lasts"),
    }
}

fn at_most(reader: &mut Reader<'_, '_>) -> Option<i64> {
    let written = reader.get("at-most")?;
    let number = match written.get_ref() {
        DeValue::Integer(number) => value::integer(number),
        _ => None,
    };
    let number = number.filter(|number| *number >= 0);
    if number.is_none() {
        reader.wrong("at-most", "a number of groups, 0 or more", written);
    }
    number
}

/// The application's own roles: a table of lists.
fn roles(reader: &mut Reader<'_, '_>) -> Vec<(Spanned<String>, List)> {
    let Some(written) = reader.get("roles") else { return Vec::new() };
    let Some(table) = written.get_ref().as_table() else {
        reader.wrong("roles", "a table: `{ curator = [\"group:imaging\"] }`", written);
        return Vec::new();
    };
    let mut found = Vec::with_capacity(table.len());
    for (name, list) in table.iter() {
        let at = value::origin(reader.file, name.span());
        let origin = reader.origin_of(list);
        let mut one = Vec::new();
        let items: Vec<_> = match list.get_ref() {
            DeValue::Array(array) => array.iter().collect(),
            _ => vec![list],
        };
        for item in items {
            match item.get_ref().as_str() {
                Some(text) => one.push(Spanned::new(text.to_owned(), reader.origin_of(item))),
                None => reader.wrong("roles", "`everyone`, or users and groups", item),
            }
        }
        let name = Spanned::new(name.get_ref().to_string(), at);
        found.push((name, Spanned::new(one, origin)));
    }
    found
}

/// Where people come from: a table of texts.
pub(super) fn source(reader: &mut Reader<'_, '_>) -> Source {
    reader.only(&["map"]);
    let Some(written) = reader.get("map") else { return Source::default() };
    let Some(table) = written.get_ref().as_table() else {
        reader.wrong("map", "a table: `{ department = \"attributes.team\" }`", written);
        return Source::default();
    };
    let mut map = Vec::with_capacity(table.len());
    for (column, key) in table.iter() {
        let at = value::origin(reader.file, column.span());
        let Some(text) = key.get_ref().as_str() else {
            reader.wrong("map", "a key as a string: `\"attributes.team\"`", key);
            continue;
        };
        let column = Spanned::new(column.get_ref().to_string(), at);
        map.push((column, Spanned::new(text.to_owned(), reader.origin_of(key))));
    }
    Source { map }
}
