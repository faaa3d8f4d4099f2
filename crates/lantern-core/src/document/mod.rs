//! What a descriptor's text holds, whatever notation it is written in.
//!
//! Every notation gives the same [`Node`]s, and every scalar stays the text that was written: a
//! version `1.10` must not become the number 1.1 on the way.

mod json;
mod lines;
mod properties;
mod script;
mod toml;
mod xml;
mod yaml;

pub use crate::reading::TextFault;

use crate::family::{DescriptorFile, TextNotation};
use std::collections::BTreeMap;

/// A table of a descriptor.
pub type Table = BTreeMap<String, Node>;

/// A value of a descriptor.
#[derive(Debug, Clone, PartialEq)]
pub enum Node {
    /// A text, number or truth value, as it was written.
    Text(String),
    /// Values one after the other.
    List(Vec<Node>),
    /// Values by name.
    Table(Table),
}

impl Node {
    /// The text, where it is one.
    pub(crate) fn text(&self) -> Option<&str> {
        match self {
            Node::Text(text) => Some(text),
            Node::List(_) | Node::Table(_) => None,
        }
    }
}

/// Reads a text in the notation of a reader's descriptor file; its top is always a table.
///
/// # Errors
/// When the text is not in that notation, or nested too deep.
pub fn parse(file: &DescriptorFile, text: &str) -> Result<Table, TextFault> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    match file.notation {
        TextNotation::Toml => toml::parse(text),
        TextNotation::Json => json::parse(text),
        TextNotation::Yaml => yaml::parse(text),
        TextNotation::Ini => Ok(lines::ini(text)),
        TextNotation::Properties => properties::parse(text),
        TextNotation::Xml => xml::parse(text),
        TextNotation::Manifest => Ok(lines::manifest(text)),
        TextNotation::Lines => Ok(lines::plain(text)),
        TextNotation::Header => Ok(lines::header(file.line.as_ref(), text)),
        TextNotation::Script => script::parse(text),
    }
}

/// Reads a text in a notation that needs no more words about it.
///
/// # Errors
/// As [`parse`].
pub fn read(notation: TextNotation, text: &str) -> Result<Table, TextFault> {
    match notation {
        TextNotation::Xml => xml::parse(text),
        _ => json::parse(text),
    }
}

/// What stands at a path of keys; a key may hold dots itself, and an item of a list is its number, from 0.
pub fn at<'n>(table: &'n Table, path: &str) -> Option<&'n Node> {
    if let Some(node) = table.get(path) {
        return Some(node);
    }
    let mut dots = path.match_indices('.').map(|(dot, _)| dot);
    dots.find_map(|dot| below(table.get(&path[..dot])?, &path[dot + 1..]))
}

fn below<'n>(node: &'n Node, path: &str) -> Option<&'n Node> {
    match node {
        Node::Table(table) => at(table, path),
        Node::List(items) => {
            let (number, rest) = path.split_once('.').unwrap_or((path, ""));
            let item = items.get(number.parse::<usize>().ok()?)?;
            if rest.is_empty() {
                Some(item)
            } else {
                below(item, rest)
            }
        }
        Node::Text(_) => None,
    }
}

/// Adds a value to a table; a second one of the same name makes a list of both.
fn put(table: &mut Table, name: String, value: Node) {
    match table.get_mut(&name) {
        Some(Node::List(items)) => match value {
            Node::List(more) => items.extend(more),
            one => items.push(one),
        },
        Some(_) => {
            let first = table.remove(&name).unwrap_or(Node::List(Vec::new()));
            let mut items = vec![first];
            match value {
                Node::List(more) => items.extend(more),
                one => items.push(one),
            }
            table.insert(name, Node::List(items));
        }
        None => {
            table.insert(name, value);
        }
    }
}

#[cfg(test)]
mod tests;
