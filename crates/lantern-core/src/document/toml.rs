//! TOML 1.0.

use super::{Node, Table};
use crate::reading::{DEEPEST, TextFault, line_at, too_deep};
use toml_edit::{DocumentMut, Item, TableLike, Value};

pub(super) fn parse(text: &str) -> Result<Table, TextFault> {
    let document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
        let line = error.span().map(|span| line_at(text, span.start));
        TextFault {
            line,
            why: error.message().into(),
        }
    })?;
    table(document.as_table(), 0)
}

fn table(table: &dyn TableLike, depth: usize) -> Result<Table, TextFault> {
    if depth > DEEPEST {
        return Err(too_deep(None));
    }
    let mut read = Table::new();
    for (key, item) in table.iter() {
        if let Some(node) = self::item(item, depth)? {
            read.insert(key.to_owned(), node);
        }
    }
    Ok(read)
}

fn item(item: &Item, depth: usize) -> Result<Option<Node>, TextFault> {
    if let Some(inner) = item.as_table_like() {
        return table(inner, depth + 1).map(Node::Table).map(Some);
    }
    if let Some(tables) = item.as_array_of_tables() {
        let tables = tables
            .iter()
            .map(|inner| table(inner, depth + 1).map(Node::Table));
        return tables.collect::<Result<_, _>>().map(Node::List).map(Some);
    }
    item.as_value().map(|inner| value(inner, depth)).transpose()
}

fn value(value: &Value, depth: usize) -> Result<Node, TextFault> {
    if depth > DEEPEST {
        return Err(too_deep(None));
    }
    match value {
        Value::String(text) => Ok(Node::Text(text.value().clone())),
        Value::Array(items) => {
            let items = items.iter().map(|item| self::value(item, depth + 1));
            items.collect::<Result<_, _>>().map(Node::List)
        }
        Value::InlineTable(inner) => table(inner, depth + 1).map(Node::Table),
        // As it was written: the number 1.10 is the version 1.10.
        other => Ok(Node::Text(
            other.clone().decorated("", "").to_string().trim().into(),
        )),
    }
}
