//! YAML 1.2, its first document. Anchors are refused: no descriptor needs them, bombs do.

use super::{Node, Table};
use crate::reading::{DEEPEST, TextFault, too_deep};
use saphyr_parser::{Event, Parser, ScalarStyle};

/// A list or table that is still open.
enum Open {
    List(Vec<Node>),
    /// With the key whose value comes next.
    Table(Table, Option<String>),
}

pub(super) fn parse(text: &str) -> Result<Table, TextFault> {
    let mut open: Vec<Open> = Vec::new();
    let mut top = None;
    for event in Parser::new_from_str(text) {
        let (event, span) =
            event.map_err(|error| TextFault::at(error.marker().line(), error.info()))?;
        let line = span.start.line();
        let done = match event {
            Event::Alias(_) => {
                return Err(TextFault::at(
                    line,
                    "it uses an alias, and those are not read",
                ));
            }
            Event::Scalar(text, style, ..) => {
                let plain = style == ScalarStyle::Plain;
                let null = plain && matches!(text.as_ref(), "" | "~" | "null" | "Null" | "NULL");
                (!null).then(|| Node::Text(text.into_owned()))
            }
            Event::SequenceStart(..) => {
                open.push(Open::List(Vec::new()));
                continue;
            }
            Event::MappingStart(..) => {
                open.push(Open::Table(Table::new(), None));
                continue;
            }
            Event::SequenceEnd | Event::MappingEnd => match open.pop() {
                Some(Open::List(items)) => Some(Node::List(items)),
                Some(Open::Table(table, _)) => Some(Node::Table(table)),
                None => return Err(TextFault::at(line, "a list or table ends too often")),
            },
            Event::DocumentEnd => break,
            Event::Nothing | Event::StreamStart | Event::StreamEnd | Event::DocumentStart(_) => {
                continue;
            }
        };
        if open.len() > DEEPEST {
            return Err(too_deep(Some(line)));
        }
        match open.last_mut() {
            None => top = done,
            Some(Open::List(items)) => items.extend(done),
            Some(Open::Table(table, key)) => match key.take() {
                Some(name) => {
                    if let Some(done) = done {
                        table.insert(name, done);
                    }
                }
                None => match done {
                    Some(Node::Text(name)) => *key = Some(name),
                    None => *key = Some(String::new()),
                    Some(_) => return Err(TextFault::at(line, "a key is not a text")),
                },
            },
        }
    }
    match top {
        Some(Node::Table(table)) => Ok(table),
        None => Err(TextFault::at(1, "it is empty")),
        Some(_) => Err(TextFault::at(1, "it is not a table of keys")),
    }
}
