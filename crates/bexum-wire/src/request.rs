//! A request as JSON (spec section 5).

use std::borrow::Cow;

use bexum_core::attribute::Value;
use bexum_core::limits::ATTRIBUTE_DEPTH;
use bexum_core::name::Grammar;
use bexum_core::name::{nearest, new_word};
use bexum_core::{Request, Time, Verdict};

use super::json::Json;
use super::scan::verdict;

/// What a line is called in its answer.
#[derive(Clone, Debug, PartialEq, serde::Serialize, schemars::JsonSchema)]
#[serde(untagged)]
pub enum LineId {
    /// The text of its `id`.
    Text(String),
    /// The number in its `id`, else that of the line.
    Number(i64),
}

/// A line that holds no request: why, and its `id` if that could be read.
#[derive(Debug)]
pub struct BadLine {
    /// Its `id`, if that could be read.
    pub id: Option<LineId>,
    /// Why it is none.
    pub error: String,
}

/// Flattened attributes of a `given` or an `item`.
#[derive(Debug, Default)]
pub struct Flat<'a> {
    /// Each with its full dotted name; `None` stands for `null`.
    pub values: Vec<(Cow<'a, str>, Option<Value>)>,
    /// Tables that hold nothing.
    pub empty_tables: Vec<Cow<'a, str>>,
}

/// Reads one request; `now` is its time when it gives none.
///
/// # Errors
/// Why it is none.
pub fn parse(line: &str, now: Time) -> Result<(Option<LineId>, Request<'_>), BadLine> {
    parse_recorded(line, now).map(|(id, request, _)| (id, request))
}

/// A request of a log: its `id`, the request, and what was decided then.
pub type Recorded<'a> = (Option<LineId>, Request<'a>, Option<Verdict>);

/// The same, with what was decided then if the line says so (spec-work section 11).
///
/// # Errors
/// Why it is no request.
pub fn parse_recorded(line: &str, now: Time) -> Result<Recorded<'_>, BadLine> {
    let json = Json::parse(line).map_err(|error| BadLine {
        id: id_of_broken(line),
        error: format!("this line is no JSON: {error}"),
    })?;
    let Json::Table(entries) = &json else {
        let error = format!("a request is an object, not {}", json.type_in_words());
        return Err(BadLine { id: None, error });
    };
    let id = entries.iter().find(|(key, _)| key == "id").and_then(|(_, value)| line_id(value));
    let fail = |error| BadLine { id: id.clone(), error };
    if let Some(key) = json.repeated_key() {
        return Err(fail(format!("`{key}` is given twice")));
    }
    let Json::Table(entries) = json else { return Err(fail("no object".to_owned())) };
    let (request, recorded) = read(entries, now).map_err(fail)?;
    Ok((id, request, recorded))
}

fn line_id(value: &Json<'_>) -> Option<LineId> {
    match value {
        Json::Text(text) => Some(LineId::Text(text.to_string())),
        Json::Integer(n) => Some(LineId::Number(*n)),
        _ => None,
    }
}

/// The `id` of a line that is no JSON, if it has one in its usual place: whoever sent the line can
/// tell better from it which one it was.
fn id_of_broken(line: &str) -> Option<LineId> {
    let bytes = line.as_bytes();
    let (mut depth, mut at) = (0, 0);
    while at < bytes.len() {
        match bytes[at] {
            b'{' | b'[' => depth += 1,
            b'}' | b']' => depth -= 1,
            b'"' => {
                let end = string_end(bytes, at)?;
                let after = line[end..].trim_start();
                if depth == 1
                    && &line[at..end] == "\"id\""
                    && let Some(value) = after.strip_prefix(':')
                {
                    let mut values =
                        serde_json::Deserializer::from_str(value).into_iter::<Json<'_>>();
                    return line_id(&values.next()?.ok()?);
                }
                at = end;
                continue;
            }
            _ => {}
        }
        at += 1;
    }
    None
}

/// One past the closing quote of the string that opens at `start`.
fn string_end(bytes: &[u8], start: usize) -> Option<usize> {
    let mut at = start + 1;
    while at < bytes.len() {
        match bytes[at] {
            b'\\' => at += 2,
            b'"' => return Some(at + 1),
            _ => at += 1,
        }
    }
    None
}

const FIELDS: [&str; 9] = ["who", "does", "on", "as", "also", "under", "given", "item", "id"];

fn read<'a>(
    entries: Vec<(Cow<'a, str>, Json<'a>)>,
    now: Time,
) -> Result<(Request<'a>, Option<Verdict>), String> {
    let mut request = Request::new("", "", "", now);
    let mut recorded = None;
    let mut told = [false; 3];
    for (key, value) in entries {
        match key.as_ref() {
            "who" => (request.who, told[0]) = (text("who", value)?, true),
            "does" => (request.does, told[1]) = (text("does", value)?, true),
            "on" => (request.on, told[2]) = (text("on", value)?, true),
            "as" => request.take_up = Some(text("as", value)?),
            "also" => request.also = texts("also", value)?,
            "under" => request.under = texts("under", value)?,
            "given" => {
                let (given, time) = read_given(value)?;
                request.given = given.values;
                request.empty_tables = given.empty_tables;
                request.time = time.unwrap_or(now);
            }
            "item" => {
                let (item, empty_tables) = read_item(value)?;
                request.item = Some(item);
                request.empty_item_tables = empty_tables;
            }
            "id" => {
                if line_id(&value).is_none() {
                    let found = value.type_in_words();
                    return Err(format!("`id` must be a string or a 64-bit integer, not {found}"));
                }
            }
            // What was decided then, in a log: left out of account by whoever decides.
            "verdict" => recorded = verdict(&text(&key, value)?),
            "reason" => drop(text(&key, value)?),
            other => {
                let hint = new_word(other)
                    .filter(|new| FIELDS.contains(new))
                    .or_else(|| nearest(other, FIELDS))
                    .map(|near| format!(": did you mean `{near}`?"));
                return Err(format!(
                    "a request has no field `{other}`{}",
                    hint.unwrap_or_default()
                ));
            }
        }
    }
    match told.iter().position(|told| !told) {
        Some(missing) => Err(format!("a request needs the field `{}`", FIELDS[missing])),
        None => Ok((request, recorded)),
    }
}

fn text<'a>(key: &str, value: Json<'a>) -> Result<Cow<'a, str>, String> {
    match value {
        Json::Text(text) => Ok(text),
        other => Err(format!("`{key}` must be a string, not {}", other.type_in_words())),
    }
}

fn texts<'a>(key: &str, value: Json<'a>) -> Result<Vec<Cow<'a, str>>, String> {
    match value {
        Json::List(items) => items.into_iter().map(|item| text(key, item)).collect(),
        single => Ok(vec![text(key, single)?]),
    }
}

/// Circumstances, with the time apart.
pub fn read_given(value: Json<'_>) -> Result<(Flat<'_>, Option<Time>), String> {
    let Json::Table(entries) = value else {
        return Err(format!("`given` must be an object, not {}", value.type_in_words()));
    };
    let mut time = None;
    let mut others = Vec::with_capacity(entries.len());
    for (key, value) in entries {
        if key != "time" {
            others.push((key, value));
            continue;
        }
        let Json::Text(written) = &value else {
            let found = value.type_in_words();
            return Err(format!("`given.time` must be a time in a string, not {found}"));
        };
        let read = Time::parse(written);
        time = Some(read.ok_or_else(|| {
            format!("`{written}` is no time: one is written like `2026-03-01T08:00:00Z`")
        })?);
    }
    let mut flat = Flat::default();
    flatten("given", others, "", 0, &mut flat)?;
    Ok((flat, time))
}

/// Attributes of an item, and tables among them that hold nothing.
type Item<'a> = (Vec<(Cow<'a, str>, Value)>, Vec<Cow<'a, str>>);

/// Reads the attributes of an item.
fn read_item(value: Json<'_>) -> Result<Item<'_>, String> {
    let Json::Table(entries) = value else {
        return Err(format!("`item` must be an object, not {}", value.type_in_words()));
    };
    let mut flat = Flat::default();
    flatten("item", entries, "", 0, &mut flat)?;
    let values = flat.values.into_iter().map(|(name, value)| match value {
        Some(value) => Ok((name, value)),
        None => Err(format!("`item.{name}` cannot be null")),
    });
    Ok((values.collect::<Result<_, _>>()?, flat.empty_tables))
}

fn flatten<'a>(
    root: &str,
    entries: Vec<(Cow<'a, str>, Json<'a>)>,
    head: &str,
    depth: usize,
    flat: &mut Flat<'a>,
) -> Result<(), String> {
    if depth > ATTRIBUTE_DEPTH {
        return Err(format!("`{root}` nests deeper than {ATTRIBUTE_DEPTH} levels"));
    }
    for (key, value) in entries {
        if !Grammar::Attribute.accepts(&key) {
            let rule = Grammar::Attribute.rule();
            return Err(format!("`{key}` in `{root}` is no attribute name: {rule}"));
        }
        let name = if head.is_empty() { key } else { Cow::Owned(format!("{head}.{key}")) };
        match value {
            Json::Table(inner) if inner.is_empty() => flat.empty_tables.push(name),
            Json::Table(inner) => flatten(root, inner, &name, depth + 1, flat)?,
            Json::Null => flat.values.push((name, None)),
            other => {
                let value = attribute(other)
                    .map_err(|found| format!("`{root}.{name}` cannot be {found}"))?;
                flat.values.push((name, Some(value)));
            }
        }
    }
    Ok(())
}

/// An attribute's value; the error is what it is instead, in words.
pub fn attribute(json: Json<'_>) -> Result<Value, &'static str> {
    Ok(match json {
        Json::Text(text) => Value::Text(text.into()),
        Json::Integer(n) => Value::Integer(n),
        Json::Boolean(b) => Value::Boolean(b),
        Json::List(items) => {
            let mut values: Vec<Value> = Vec::with_capacity(items.len());
            for item in items {
                let value = match item {
                    Json::List(_) => return Err("a list within a list"),
                    Json::Table(_) => return Err("an object within a list"),
                    Json::Null => return Err("a list with null in it"),
                    scalar => attribute(scalar)?,
                };
                if values.first().is_some_and(|v| v.type_name() != value.type_name()) {
                    return Err("a list of several types");
                }
                values.push(value);
            }
            Value::List(values.into())
        }
        other => return Err(other.type_in_words()),
    })
}

#[cfg(test)]
mod tests {
    use bexum_core::Time;
    use bexum_core::attribute::Value;
    use proptest::prelude::*;

    use super::{LineId, parse};

    const BASE: &str = r#""who":"user:a","does":"k.v","on":"p""#;

    fn given(json: &str) -> Result<Vec<(String, Option<Value>)>, String> {
        let line = format!("{{{BASE},\"given\":{json}}}");
        match parse(&line, Time(7)) {
            Ok((_, request)) => Ok(request
                .given
                .into_iter()
                .map(|(name, value)| (name.into_owned(), value))
                .collect()),
            Err(bad) => Err(bad.error),
        }
    }

    #[test]
    fn circumstances_are_flattened() {
        let one = |name: &str, value| Ok(vec![(name.to_owned(), value)]);
        assert_eq!(given(r#"{"a":{"b":{"c":1}}}"#), one("a.b.c", Some(Value::Integer(1))));
        assert_eq!(given(r#"{"a":{"b":null}}"#), one("a.b", None));
        assert_eq!(given(r#"{"a":null}"#), one("a", None));
        assert_eq!(given(r#"{"a":{}}"#), Ok(Vec::new()));
        assert_eq!(given(r#"{"a":[]}"#), one("a", Some(Value::List(Box::default()))));
        assert_eq!(given(r#"{"\u0061":"\ud83d\ude00"}"#), one("a", Some(Value::Text("😀".into()))));
        assert_eq!(given(r#"{"path":true,"id":false}"#).map(|all| all.len()), Ok(2));
        for wrong in [
            "null",
            "[]",
            "1",
            r#"{"a.b":1}"#,
            r#"{"":1}"#,
            r#"{"1a":1}"#,
            r#"{"é":1}"#,
            r#"{"a":[[1]]}"#,
            r#"{"a":[{}]}"#,
            r#"{"a":[1,true]}"#,
            r#"{"a":[null]}"#,
            r#"{"a":1.0}"#,
            r#"{"a":[1e1]}"#,
            r#"{"time":1}"#,
            r#"{"time":{"a":1}}"#,
            r#"{"time":"2026-01-01"}"#,
        ] {
            assert!(given(wrong).is_err(), "{wrong}");
        }
        assert!(
            given(&format!("{}1{}", "{\"a\":".repeat(80), "}".repeat(80))).is_err(),
            "too deep"
        );
    }

    #[test]
    fn the_moment_and_the_name_of_a_line() {
        let line = |more: &str| format!("{{{BASE}{more}}}");
        let text = line("");
        let (id, request) = parse(&text, Time(7)).expect("a request");
        assert_eq!((id, request.time), (None, Time(7)));
        let text = line(r#","given":{"time":"1970-01-01T00:00:01Z"},"id":-0"#);
        let (id, request) = parse(&text, Time(7)).expect("a request");
        assert_eq!((id, request.time), (Some(LineId::Number(0)), Time(1_000_000)));
        assert!(request.given.is_empty(), "the time stands apart");
    }

    proptest! {
        #[test]
        fn no_line_makes_it_panic(line in "\\PC{0,80}|[{}\\[\\]\":,a-z0-9. \\\\u-]{0,80}") {
            let _ = parse(&line, Time(0));
            let _ = parse(&format!("{{{BASE},{line}}}"), Time(0));
        }
    }
}
