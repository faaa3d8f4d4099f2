//! What may be written short, as a text, or long, as a table. What is wrong with a table is told as it is, and not only that it is none
//! of the two.

use serde::de::value::MapAccessDeserializer;
use serde::de::{DeserializeSeed, Error, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer};
use std::fmt;
use std::marker::PhantomData;

/// Reads a text or a table.
pub(super) struct Short<T, Table> {
    what: &'static str,
    text: fn(&str) -> Result<T, String>,
    table: PhantomData<Table>,
}

impl<T, Table> Short<T, Table> {
    /// `what` names both, and `text` reads the short one.
    pub(super) fn new(what: &'static str, text: fn(&str) -> Result<T, String>) -> Self {
        Short {
            what,
            text,
            table: PhantomData,
        }
    }
}

impl<T, Table> Clone for Short<T, Table> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T, Table> Copy for Short<T, Table> {}

impl<'de, T, Table: Deserialize<'de> + Into<T>> Visitor<'de> for Short<T, Table> {
    type Value = T;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.what)
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<T, E> {
        (self.text)(text).map_err(E::custom)
    }

    fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<T, A::Error> {
        let table = Table::deserialize(MapAccessDeserializer::new(map))?;
        Ok(table.into())
    }
}

impl<'de, T, Table: Deserialize<'de> + Into<T>> DeserializeSeed<'de> for Short<T, Table> {
    type Value = T;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<T, D::Error> {
        deserializer.deserialize_any(self)
    }
}

/// Reads one of them, or a list.
pub(super) struct OneOrSeveral<T, Table>(pub(super) Short<T, Table>);

impl<'de, T, Table: Deserialize<'de> + Into<T>> Visitor<'de> for OneOrSeveral<T, Table> {
    type Value = Vec<T>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}, or a list of such", self.0.what)
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<Vec<T>, E> {
        Ok(vec![self.0.visit_str(text)?])
    }

    fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<Vec<T>, A::Error> {
        Ok(vec![self.0.visit_map(map)?])
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Vec<T>, A::Error> {
        let mut all = Vec::new();
        while let Some(one) = seq.next_element_seed(self.0)? {
            all.push(one);
        }
        Ok(all)
    }
}
