//! JSON as requests may hold it: what the spec refuses is kept as such, so that the rest of the
//! line (its `id`) can still be read.

use std::borrow::Cow;
use std::collections::HashSet;
use std::fmt;

use serde::de::{Deserialize, Deserializer, MapAccess, SeqAccess, Visitor};

/// A JSON value; keys keep their order and may repeat.
#[derive(Clone, Debug, PartialEq)]
#[expect(missing_docs, reason = "the types of JSON")]
pub enum Json<'a> {
    Null,
    Boolean(bool),
    Integer(i64),
    /// A number with a point or an exponent, or beyond 64 bits.
    OtherNumber(f64),
    Text(Cow<'a, str>),
    List(Vec<Json<'a>>),
    Table(Vec<(Cow<'a, str>, Json<'a>)>),
}

impl<'a> Json<'a> {
    /// Reads one value that fills all of `text`.
    ///
    /// # Errors
    /// What is no JSON.
    pub fn parse(text: &'a str) -> Result<Self, serde_json::Error> {
        let mut value: Self = serde_json::from_str(text)?;
        // serde_json reads the integer `-0` as a float; only the text tells it from `-0.0`.
        if value.has_negative_zero() && !has_point_or_exponent(text) {
            value.settle_zeros();
        }
        Ok(value)
    }

    /// The type in words, for messages.
    pub fn type_in_words(&self) -> &'static str {
        match self {
            Self::Null => "null",
            Self::Boolean(_) => "a boolean",
            Self::Integer(_) => "an integer",
            Self::OtherNumber(_) => "a number that is no 64-bit integer",
            Self::Text(_) => "a string",
            Self::List(_) => "a list",
            Self::Table(_) => "an object",
        }
    }

    /// The first key that stands twice in one object, at any depth.
    pub fn repeated_key(&self) -> Option<&str> {
        match self {
            Self::List(items) => items.iter().find_map(Self::repeated_key),
            Self::Table(entries) => {
                let mut seen = HashSet::with_capacity(entries.len());
                entries.iter().find_map(|(key, value)| {
                    if seen.insert(key) { value.repeated_key() } else { Some(key) }
                })
            }
            _ => None,
        }
    }

    fn has_negative_zero(&self) -> bool {
        match self {
            Self::OtherNumber(n) => *n == 0.0 && n.is_sign_negative(),
            Self::List(items) => items.iter().any(Self::has_negative_zero),
            Self::Table(entries) => entries.iter().any(|(_, value)| value.has_negative_zero()),
            _ => false,
        }
    }

    fn settle_zeros(&mut self) {
        match self {
            Self::OtherNumber(n) if *n == 0.0 => *self = Self::Integer(0),
            Self::List(items) => items.iter_mut().for_each(Self::settle_zeros),
            Self::Table(entries) => entries.iter_mut().for_each(|(_, v)| v.settle_zeros()),
            _ => {}
        }
    }
}

/// Whether any number outside of strings has a point or an exponent.
fn has_point_or_exponent(text: &str) -> bool {
    let mut in_string = false;
    let mut escaped = false;
    let mut in_number = false;
    for byte in text.bytes() {
        if in_string {
            in_string = escaped || byte != b'"';
            escaped = !escaped && byte == b'\\';
            continue;
        }
        in_string = byte == b'"';
        if in_number && matches!(byte, b'.' | b'e' | b'E') {
            return true;
        }
        in_number = byte.is_ascii_digit() || byte == b'-';
    }
    false
}

impl<'de> Deserialize<'de> for Json<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader;
        impl<'de> Visitor<'de> for Reader {
            type Value = Json<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a JSON value")
            }
            fn visit_unit<E>(self) -> Result<Self::Value, E> {
                Ok(Json::Null)
            }
            fn visit_bool<E>(self, b: bool) -> Result<Self::Value, E> {
                Ok(Json::Boolean(b))
            }
            fn visit_i64<E>(self, n: i64) -> Result<Self::Value, E> {
                Ok(Json::Integer(n))
            }
            fn visit_u64<E>(self, n: u64) -> Result<Self::Value, E> {
                Ok(i64::try_from(n).map_or(Json::OtherNumber(n as f64), Json::Integer))
            }
            fn visit_f64<E>(self, n: f64) -> Result<Self::Value, E> {
                Ok(Json::OtherNumber(n))
            }
            fn visit_borrowed_str<E>(self, text: &'de str) -> Result<Self::Value, E> {
                Ok(Json::Text(Cow::Borrowed(text)))
            }
            fn visit_str<E>(self, text: &str) -> Result<Self::Value, E> {
                Ok(Json::Text(Cow::Owned(text.to_owned())))
            }
            fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Self::Value, A::Error> {
                let mut items = Vec::new();
                while let Some(item) = seq.next_element()? {
                    items.push(item);
                }
                Ok(Json::List(items))
            }
            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
                let mut entries = Vec::new();
                while let Some((Key(key), value)) = map.next_entry()? {
                    entries.push((key, value));
                }
                Ok(Json::Table(entries))
            }
        }
        deserializer.deserialize_any(Reader)
    }
}

/// A key, borrowed where it has no escapes (`Cow` by itself never borrows here).
struct Key<'a>(Cow<'a, str>);

impl<'de> Deserialize<'de> for Key<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader;
        impl<'de> Visitor<'de> for Reader {
            type Value = Key<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a key")
            }
            fn visit_borrowed_str<E>(self, text: &'de str) -> Result<Self::Value, E> {
                Ok(Key(Cow::Borrowed(text)))
            }
            fn visit_str<E>(self, text: &str) -> Result<Self::Value, E> {
                Ok(Key(Cow::Owned(text.to_owned())))
            }
        }
        deserializer.deserialize_str(Reader)
    }
}

#[cfg(test)]
mod tests {
    use super::Json;

    #[test]
    fn numbers() {
        let number = |text| match Json::parse(text).expect("a number") {
            Json::Integer(n) => Some(n),
            _ => None,
        };
        assert_eq!(number("-0"), Some(0));
        assert_eq!(number("-0.0"), None);
        assert_eq!(number("1e0"), None);
        assert_eq!(number("9223372036854775807"), Some(i64::MAX));
        assert_eq!(number("9223372036854775808"), None);
        assert_eq!(number("-9223372036854775808"), Some(i64::MIN));
        let mixed = Json::parse(r#"{"a":"1.5","b":-0}"#).expect("an object");
        let Json::Table(entries) = mixed else { panic!("an object") };
        assert_eq!(entries[1].1, Json::Integer(0));
    }

    #[test]
    fn repeated_keys_and_surrogates() {
        let twice = Json::parse(r#"{"x":{"a":1,"b":[{"c":1,"c":2}]}}"#).expect("an object");
        assert_eq!(twice.repeated_key(), Some("c"));
        assert!(Json::parse(r#"{"x":"\ud800"}"#).is_err());
        assert!(Json::parse(r#"{"x":"\ud83d\ude00"}"#).is_ok());
    }
}
