//! XML: an element is a table of its children; attributes are `@name`, its own text `#text`.
//!
//! An element that holds nothing but text is that text. Namespaces do not count. A document type
//! is refused, and with it all entities of its own.

use super::{Node, Table, put};
use crate::reading::{DEEPEST, TextFault, too_deep};
use roxmltree::{Document, ParsingOptions};

/// No document may have more elements, attributes and texts.
const MOST_NODES: u32 = 200_000;

pub(super) fn parse(text: &str) -> Result<Table, TextFault> {
    let options = ParsingOptions {
        nodes_limit: MOST_NODES,
        ..ParsingOptions::default()
    };
    let document = Document::parse_with_options(text, options).map_err(|error| TextFault {
        line: Some(error.pos().row as usize),
        why: error.to_string(),
    })?;
    let root = document.root_element();
    let top = element(root, 0)?;
    Ok(Table::from([(root.tag_name().name().to_owned(), top)]))
}

fn element(node: roxmltree::Node<'_, '_>, depth: usize) -> Result<Node, TextFault> {
    if depth > DEEPEST {
        return Err(too_deep(None));
    }
    let mut table = Table::new();
    for attribute in node.attributes() {
        let name = format!("@{}", attribute.name());
        table.insert(name, Node::Text(attribute.value().to_owned()));
    }
    let mut text = String::new();
    for child in node.children() {
        if child.is_element() {
            let name = child.tag_name().name().to_owned();
            put(&mut table, name, element(child, depth + 1)?);
        } else if child.is_text() {
            text.push_str(child.text().unwrap_or(""));
        }
    }
    let text = text.trim();
    if table.is_empty() {
        return Ok(Node::Text(text.to_owned()));
    }
    if !text.is_empty() {
        table.insert("#text".into(), Node::Text(text.to_owned()));
    }
    Ok(Node::Table(table))
}
