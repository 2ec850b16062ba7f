//! Attribute values and times.

use std::ops::Range;

use bexum_core::attribute::Value;
use bexum_core::fault::{Fault, LocatedFault};
use bexum_core::limits::ATTRIBUTE_DEPTH;
use bexum_core::name::Grammar;
use bexum_core::origin::{FileId, Origin, Spanned};
use bexum_core::time::Time;
use toml::de::{DeInteger, DeTable, DeValue};
use toml::value::{Datetime, Offset};

pub(super) fn origin(file: FileId, span: Range<usize>) -> Origin {
    Origin { file, start: span.start as u32, end: span.end as u32 }
}

/// A value's type for messages.
pub(super) fn type_in_words(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a string",
        DeValue::Integer(_) => "an integer",
        DeValue::Float(_) => "a float",
        DeValue::Boolean(_) => "a boolean",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
        DeValue::Datetime(at) => match (at.date, at.time, at.offset) {
            (Some(_), Some(_), Some(_)) => "a time",
            (Some(_), Some(_), None) => "a local date and time (add an offset, like `Z`)",
            (Some(_), None, _) => "a date without a time",
            _ => "a time without a date",
        },
    }
}

/// The moment of an offset date-time; `None` for all others.
pub(super) fn time(at: &Datetime) -> Option<Time> {
    let (date, time, offset) = (at.date?, at.time?, at.offset?);
    let minutes = match offset {
        Offset::Z => 0,
        Offset::Custom { minutes } => i32::from(minutes),
    };
    let small = |n: u8| i8::try_from(n).ok();
    Time::from_civil(
        (i16::try_from(date.year).ok()?, small(date.month)?, small(date.day)?),
        (small(time.hour)?, small(time.minute)?, small(time.second.unwrap_or(0))?),
        time.nanosecond.unwrap_or(0),
        minutes,
    )
}

pub(super) fn integer(written: &DeInteger<'_>) -> Option<i64> {
    i64::from_str_radix(written.as_str(), written.radix()).ok()
}

/// What a table of attributes holds, by full dotted name.
#[derive(Default)]
pub(super) struct Flat {
    pub(super) values: Vec<(Spanned<String>, Value)>,
    /// Tables below it that hold nothing.
    pub(super) empty_tables: Vec<Spanned<String>>,
}

/// A table of attributes, flattened with dots.
pub(super) fn attributes(
    file: FileId,
    table: &DeTable<'_>,
    faults: &mut Vec<LocatedFault>,
) -> Flat {
    let mut found = Flat::default();
    flatten(file, table, "", 0, &mut found, faults);
    found
}

fn flatten(
    file: FileId,
    table: &DeTable<'_>,
    head: &str,
    depth: usize,
    found: &mut Flat,
    faults: &mut Vec<LocatedFault>,
) {
    for (key, value) in table.iter() {
        let name = key.get_ref().as_ref();
        let at = origin(file, key.span());
        if !Grammar::Attribute.accepts(name) {
            let fault = Fault::BadName {
                name: name.to_owned(),
                what: "an attribute",
                grammar: Grammar::Attribute,
            };
            faults.push(LocatedFault::new(fault, at));
            continue;
        }
        let full = if head.is_empty() { name.to_owned() } else { format!("{head}.{name}") };
        match value.get_ref() {
            DeValue::Table(_) if depth == ATTRIBUTE_DEPTH => {
                faults.push(LocatedFault::new(Fault::AttributeDepth, at));
            }
            DeValue::Table(inner) if inner.is_empty() => {
                found.empty_tables.push(Spanned::new(full, at));
            }
            DeValue::Table(inner) => flatten(file, inner, &full, depth + 1, found, faults),
            DeValue::Array(items) => {
                if let Some(list) = list(file, items.iter(), faults) {
                    found.values.push((Spanned::new(full, at), Value::List(list)));
                }
            }
            _ => {
                if let Some(scalar) = scalar(file, value, faults) {
                    found.values.push((Spanned::new(full, at), scalar));
                }
            }
        }
    }
}

fn list<'v, 'i: 'v>(
    file: FileId,
    items: impl Iterator<Item = &'v toml::Spanned<DeValue<'i>>>,
    faults: &mut Vec<LocatedFault>,
) -> Option<Box<[Value]>> {
    let mut values: Vec<Value> = Vec::new();
    for item in items {
        let value = scalar(file, item, faults)?;
        if let Some(first) = values.first().filter(|v| v.type_name() != value.type_name()) {
            let fault = Fault::MixedList(first.type_name(), value.type_name());
            faults.push(LocatedFault::new(fault, origin(file, item.span())));
            return None;
        }
        values.push(value);
    }
    Some(values.into())
}

pub(super) fn scalar(
    file: FileId,
    value: &toml::Spanned<DeValue<'_>>,
    faults: &mut Vec<LocatedFault>,
) -> Option<Value> {
    let read = match value.get_ref() {
        DeValue::String(text) => Some(Value::Text(text.as_ref().into())),
        DeValue::Boolean(b) => Some(Value::Boolean(*b)),
        DeValue::Integer(written) => integer(written).map(Value::Integer),
        DeValue::Datetime(at) => time(at).map(Value::Time),
        DeValue::Float(_) | DeValue::Array(_) | DeValue::Table(_) => None,
    };
    if read.is_none() {
        let what = match value.get_ref() {
            DeValue::Integer(_) => "an integer beyond 64 bits",
            DeValue::Array(_) => "a list within a list",
            DeValue::Table(_) => "a table within a list",
            DeValue::Datetime(at) if at.offset.is_some() && at.date.is_some() => {
                "a time that no calendar has, or outside the years 0001 to 9999 in UTC"
            }
            other => type_in_words(other),
        };
        faults.push(LocatedFault::new(Fault::AttributeType(what), origin(file, value.span())));
    }
    read
}
