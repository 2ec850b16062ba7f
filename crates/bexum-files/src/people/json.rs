//! JSON in which no key stands twice.

use std::fmt;

use serde::de::{Deserialize, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Number, Value};

/// A value whose objects have each key once.
pub(super) struct Unique(pub(super) Value);

impl<'de> Deserialize<'de> for Unique {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(Each)
    }
}

struct Each;

impl<'de> Visitor<'de> for Each {
    type Value = Unique;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_bool<E: Error>(self, value: bool) -> Result<Unique, E> {
        Ok(Unique(Value::Bool(value)))
    }

    fn visit_i64<E: Error>(self, value: i64) -> Result<Unique, E> {
        Ok(Unique(Value::Number(value.into())))
    }

    fn visit_u64<E: Error>(self, value: u64) -> Result<Unique, E> {
        Ok(Unique(Value::Number(value.into())))
    }

    fn visit_f64<E: Error>(self, value: f64) -> Result<Unique, E> {
        Ok(Unique(Number::from_f64(value).map_or(Value::Null, Value::Number)))
    }

    fn visit_str<E: Error>(self, value: &str) -> Result<Unique, E> {
        Ok(Unique(Value::String(value.to_owned())))
    }

    fn visit_unit<E: Error>(self) -> Result<Unique, E> {
        Ok(Unique(Value::Null))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Unique, A::Error> {
        let mut all = Vec::new();
        while let Some(Unique(item)) = items.next_element()? {
            all.push(item);
        }
        Ok(Unique(Value::Array(all)))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut entries: A) -> Result<Unique, A::Error> {
        let mut all = Map::new();
        while let Some(key) = entries.next_key::<String>()? {
            if all.contains_key(&key) {
                return Err(A::Error::custom(format!("the key `{key}` stands twice")));
            }
            let Unique(value) = entries.next_value()?;
            all.insert(key, value);
        }
        Ok(Unique(Value::Object(all)))
    }
}
