//! TOML 1.0.

use super::{Node, Table};
use crate::reading::{DEEPEST, TextFault, line_at, too_deep};
use toml_edit::{Document, Item, TableLike, Value};

pub(super) fn parse(text: &str) -> Result<Table, TextFault> {
    let document = Document::parse(text).map_err(|error| {
        let line = error.span().map(|span| line_at(text, span.start));
        TextFault {
            line,
            why: error.message().into(),
        }
    })?;
    Tables(text).table(document.as_table(), 0)
}

/// What was read of a text; it says itself how a value is written.
struct Tables<'t>(&'t str);

impl Tables<'_> {
    fn table(&self, table: &dyn TableLike, depth: usize) -> Result<Table, TextFault> {
        if depth > DEEPEST {
            return Err(too_deep(None));
        }
        let mut read = Table::new();
        for (key, item) in table.iter() {
            if let Some(node) = self.item(item, depth)? {
                read.insert(key.to_owned(), node);
            }
        }
        Ok(read)
    }

    fn item(&self, item: &Item, depth: usize) -> Result<Option<Node>, TextFault> {
        if let Some(inner) = item.as_table_like() {
            return self.table(inner, depth + 1).map(Node::Table).map(Some);
        }
        if let Some(tables) = item.as_array_of_tables() {
            let tables = tables
                .iter()
                .map(|inner| self.table(inner, depth + 1).map(Node::Table));
            return tables.collect::<Result<_, _>>().map(Node::List).map(Some);
        }
        item.as_value()
            .map(|inner| self.value(inner, depth))
            .transpose()
    }

    fn value(&self, value: &Value, depth: usize) -> Result<Node, TextFault> {
        if depth > DEEPEST {
            return Err(too_deep(None));
        }
        match value {
            Value::String(text) => Ok(Node::Text(text.value().clone())),
            Value::Array(items) => {
                let items = items.iter().map(|item| self.value(item, depth + 1));
                items.collect::<Result<_, _>>().map(Node::List)
            }
            Value::InlineTable(inner) => self.table(inner, depth + 1).map(Node::Table),
            // As it was written: the number 1.10 is the version 1.10.
            other => {
                let written = other.span().and_then(|span| self.0.get(span));
                Ok(Node::Text(written.unwrap_or_default().into()))
            }
        }
    }
}
