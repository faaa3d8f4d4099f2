//! Properties files: `key=value`, `key: value`, escapes, lines that go on after a backslash.

use super::{Node, Table};
use crate::reading::TextFault;
use java_properties::{LineContent, PropertiesIter};

pub(super) fn parse(text: &str) -> Result<Table, TextFault> {
    let mut table = Table::new();
    let lines = PropertiesIter::new_with_encoding(text.as_bytes(), encoding_rs::UTF_8);
    for line in lines {
        let line = line.map_err(|error| TextFault {
            line: error.line_number(),
            why: error.to_string(),
        })?;
        if let LineContent::KVPair(key, value) = line.consume_content() {
            table.insert(key, Node::Text(value));
        }
    }
    Ok(table)
}
