//! JSON, with comments and trailing commas.

use super::{Node, Table};
use crate::reading::{DEEPEST, TextFault, too_deep};
use jsonc_parser::ast::Value;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};

pub(super) fn parse(text: &str) -> Result<Table, TextFault> {
    let options = ParseOptions {
        allow_missing_commas: false,
        ..ParseOptions::default()
    };
    let parsed = parse_to_ast(text, &CollectOptions::default(), &options)
        .map_err(|error| TextFault::at(error.line_display(), error.kind().to_string()))?;
    match parsed.value.map(|value| node(value, 0)).transpose()? {
        Some(Some(Node::Table(table))) => Ok(table),
        None => Err(TextFault::at(1, "it is empty")),
        Some(_) => Err(TextFault::at(1, "it is not an object { … }")),
    }
}

fn node(value: Value<'_>, depth: usize) -> Result<Option<Node>, TextFault> {
    if depth > DEEPEST {
        return Err(too_deep(None));
    }
    Ok(Some(match value {
        Value::StringLit(text) => Node::Text(text.value.into_owned()),
        Value::NumberLit(number) => Node::Text(number.value.to_owned()),
        Value::BooleanLit(truth) => Node::Text(truth.value.to_string()),
        Value::NullKeyword(_) => return Ok(None),
        Value::Array(array) => {
            let items = array.elements.into_iter();
            let items = items.filter_map(|item| node(item, depth + 1).transpose());
            Node::List(items.collect::<Result<_, _>>()?)
        }
        Value::Object(object) => {
            let mut table = Table::new();
            for property in object.properties {
                if let Some(inner) = node(property.value, depth + 1)? {
                    table.insert(property.name.into_string(), inner);
                }
            }
            Node::Table(table)
        }
    }))
}
