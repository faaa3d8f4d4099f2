//! TOML 1.0.

use super::{Node, Table};
use crate::reading::{DEEPEST, TextFault, line_at, too_deep};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

pub(super) fn parse(text: &str) -> Result<Table, TextFault> {
    let document = DeTable::parse(text).map_err(|error| {
        let line = error.span().map(|span| line_at(text, span.start));
        TextFault {
            line,
            why: error.message().into(),
        }
    })?;
    Tables(text).table(document.into_inner(), 0)
}

/// What was read of a text; it says itself how a value is written.
struct Tables<'t>(&'t str);

impl<'t> Tables<'t> {
    fn table(&self, table: DeTable<'t>, depth: usize) -> Result<Table, TextFault> {
        if depth > DEEPEST {
            return Err(too_deep(None));
        }
        let read = table.into_iter().map(|(key, value)| {
            let key = key.into_inner().into_owned();
            Ok((key, self.value(value, depth + 1)?))
        });
        read.collect()
    }

    fn value(&self, value: Spanned<DeValue<'t>>, depth: usize) -> Result<Node, TextFault> {
        if depth > DEEPEST {
            return Err(too_deep(None));
        }
        let span = value.span();
        match value.into_inner() {
            DeValue::String(text) => Ok(Node::Text(text.into_owned())),
            DeValue::Array(items) => {
                let items = items.into_iter().map(|item| self.value(item, depth + 1));
                items.collect::<Result<_, _>>().map(Node::List)
            }
            DeValue::Table(inner) => self.table(inner, depth).map(Node::Table),
            // As it was written: the number 1.10 is the version 1.10.
            _ => Ok(Node::Text(self.0.get(span).unwrap_or_default().into())),
        }
    }
}
