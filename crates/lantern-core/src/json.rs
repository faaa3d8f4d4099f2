//! What the JSON reader says, for people, and reading what is too much to be kept on the way.

use serde::Deserialize;
use serde::de::value::MapAccessDeserializer;
use serde::de::{DeserializeSeed, IntoDeserializer, MapAccess};
use std::borrow::Cow;

/// Why a text is not the JSON that a format wants: it breaks off, or a key or value does not fit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {why}")]
pub struct JsonFault {
    /// From 1.
    pub line: usize,
    /// From 1.
    pub column: usize,
    /// In the words of the JSON reader, but for a text that ends too early.
    pub why: String,
}

impl From<serde_json::Error> for JsonFault {
    fn from(error: serde_json::Error) -> JsonFault {
        JsonFault {
            line: error.line(),
            column: error.column().max(1),
            why: plain_reason(&error),
        }
    }
}

impl JsonFault {
    /// The fault of a part of a text, with its place in the whole.
    pub(crate) fn within(text: &str, part: &str, error: &serde_json::Error) -> JsonFault {
        let before = &text[..part.as_ptr() as usize - text.as_ptr() as usize];
        let line = before.matches('\n').count();
        let column = match error.line() {
            0 | 1 => before.len() - before.rfind('\n').map_or(0, |at| at + 1),
            _ => 0,
        };
        JsonFault {
            line: line + error.line().max(1),
            column: (column + error.column()).max(1),
            why: plain_reason(error),
        }
    }
}

/// The reason of a JSON error without its place, which is told apart.
pub(crate) fn plain_reason(error: &serde_json::Error) -> String {
    if error.is_eof() {
        return "it breaks off here".into();
    }
    let text = error.to_string();
    match text.rfind(" at line ") {
        Some(end) => text[..end].into(),
        None => text,
    }
}

/// A text that is looked at and not kept.
#[derive(Deserialize)]
#[serde(transparent)]
pub(crate) struct Passing<'a>(#[serde(borrow)] pub(crate) Cow<'a, str>);

/// A map some of whose values are read apart, by a function that says which: what reads the map finds nothing in their places.
pub(crate) struct Apart<A, Take> {
    map: A,
    take: Take,
    is_taken: bool,
}

impl<'de, A: MapAccess<'de>, Take> Apart<A, Take>
where
    Take: FnMut(&str, &mut A) -> Result<bool, A::Error>,
{
    pub(crate) fn read<Value: Deserialize<'de>>(map: A, take: Take) -> Result<Value, A::Error> {
        let apart = Apart {
            map,
            take,
            is_taken: false,
        };
        Value::deserialize(MapAccessDeserializer::new(apart))
    }
}

impl<'de, A: MapAccess<'de>, Take> MapAccess<'de> for Apart<A, Take>
where
    Take: FnMut(&str, &mut A) -> Result<bool, A::Error>,
{
    type Error = A::Error;

    fn next_key_seed<K: DeserializeSeed<'de>>(
        &mut self,
        seed: K,
    ) -> Result<Option<K::Value>, A::Error> {
        let Some(Passing(key)) = self.map.next_key()? else {
            return Ok(None);
        };
        self.is_taken = (self.take)(&key, &mut self.map)?;
        seed.deserialize(key.into_deserializer()).map(Some)
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, seed: V) -> Result<V::Value, A::Error> {
        match self.is_taken {
            true => seed.deserialize(().into_deserializer()),
            false => self.map.next_value_seed(seed),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_s_fault_stands_where_it_stands_in_the_whole() {
        let text = "{\n \"a\": [1, {\"b\": x}],\n \"c\": {\n  \"d\": y}}";
        let place = |part: &str| {
            let at = text.find(part).unwrap();
            let part = &text[at..at + part.len()];
            let error = serde_json::from_str::<serde_json::Value>(part).unwrap_err();
            let fault = JsonFault::within(text, part, &error);
            (fault.line, fault.column)
        };
        assert_eq!(place("{\"b\": x}"), (2, 17));
        assert_eq!(place("{\n  \"d\": y}"), (4, 8));
    }
}
