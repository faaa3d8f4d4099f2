//! XML: an element is a table of its children; attributes are `@name`, its own text `#text`.
//!
//! Of several elements of one name in one place, each after the first has its number behind it: `item[1]`.

use super::{Contents, Entry, Form, Key, Table, indent, line_end, line_start, replaced, rows_of};
use crate::reading::{DEEPEST, TextFault, too_deep};
use foldhash::{HashMap, HashMapExt};
use roxmltree::{Document, Node, ParsingOptions};

/// No document may have more elements, attributes and texts.
const MOST_NODES: u32 = 200_000;

fn parsed(text: &str) -> Result<Document<'_>, TextFault> {
    let options = ParsingOptions {
        nodes_limit: MOST_NODES,
        ..ParsingOptions::default()
    };
    Document::parse_with_options(text, options).map_err(|error| TextFault {
        line: Some(error.pos().row as usize),
        why: error.to_string(),
    })
}

pub(super) fn read(text: &str) -> Result<Contents, TextFault> {
    let document = parsed(text)?;
    let root = document.root_element();
    let mut found = Contents::default();
    let key = Key(vec![root.tag_name().name().to_owned()]);
    element(text, root, key, 0, &mut found)?;
    Ok(found)
}

fn element(
    text: &str,
    node: Node<'_, '_>,
    key: Key,
    depth: usize,
    found: &mut Contents,
) -> Result<(), TextFault> {
    if depth > DEEPEST {
        return Err(too_deep(None));
    }
    let is_remark = |row: &str| row.starts_with("<!--") && row.ends_with("-->");
    let number = found.tables.len();
    found.tables.push(Table {
        key,
        rows: rows_of(text, node.range(), is_remark, str::is_empty),
    });
    for attribute in node.attributes() {
        found.entries.push(Entry {
            key: found.tables[number]
                .key
                .with(&format!("@{}", attribute.name())),
            says: attribute.value().to_owned(),
            form: Form::Text,
            value: attribute.range_value(),
            whole: attribute.range(),
            rows: None,
        });
    }
    if !node.children().any(|child| child.is_element()) {
        // Text in several pieces, as around a remark, is no one value.
        let mut inside = node.children();
        let is_gap = |text: &str| text.trim().is_empty() && text.contains('\n');
        if let (Some(only), None) = (inside.next(), inside.next())
            && only.is_text()
            && !is_gap(only.text().unwrap_or_default())
        {
            let says = only.text().unwrap_or_default();
            let range = only.range();
            let lead = says.len() - says.trim_start().len();
            let is_whole = text[range.clone()] == *says;
            let value = match is_whole {
                true => range.start + lead..range.start + lead + says.trim().len(),
                false => range,
            };
            found.entries.push(Entry {
                key: found.tables[number].key.with("#text"),
                says: says.trim().to_owned(),
                form: Form::Text,
                whole: value.clone(),
                value,
                rows: None,
            });
        }
        return Ok(());
    }
    let key = found.tables[number].key.clone();
    let mut seen: HashMap<&str, usize> = HashMap::new();
    for child in node.children().filter(Node::is_element) {
        let name = child.tag_name().name();
        let number = seen.entry(name).or_default();
        let key = match *number {
            0 => key.with(name),
            number => key.with(&format!("{name}[{number}]")),
        };
        *number += 1;
        element(text, child, key, depth + 1, found)?;
    }
    Ok(())
}

/// A value as it is written, in an attribute or between tags.
pub(super) fn written(value: &str) -> String {
    let text = value.replace('&', "&amp;").replace('<', "&lt;");
    text.replace('>', "&gt;")
        .replace('"', "&quot;")
        .replace('\'', "&apos;")
}

pub(super) fn added(text: &str, key: &Key, value: &str) -> Option<String> {
    let document = parsed(text).ok()?;
    let mut node = document.root_element();
    let (root, mut rest) = key.0.split_first()?;
    if node.tag_name().name() != root {
        return None;
    }
    while let [name, inner @ ..] = rest {
        let mut children = node.children().filter(Node::is_element);
        match children.find(|child| child.tag_name().name() == name) {
            Some(child) => (node, rest) = (child, inner),
            None => break,
        }
    }
    let whole = node.range();
    let open = whole.start + text[whole.clone()].find('>')?;
    let is_empty = text[..open].ends_with('/');
    if let [name] = rest
        && let Some(name) = name.strip_prefix('@')
    {
        let at = if is_empty { open - 1 } else { open };
        let gap = if text[..at].ends_with(' ') { "" } else { " " };
        let tail = if is_empty { " " } else { "" };
        let new = format!("{gap}{name}=\"{}\"{tail}", written(value));
        return Some(replaced(text, at..at, &new));
    }
    let names = match rest.split_last() {
        Some((last, names)) if last == "#text" => names,
        _ => return None,
    };
    if names.is_empty() || is_empty {
        return None;
    }
    let mut new = written(value);
    for name in names.iter().rev() {
        new = format!("<{name}>{new}</{name}>");
    }
    let end = line_end(text);
    let last = node.children().rfind(Node::is_element)?;
    let stop = last.range().end;
    let lead = indent(text, line_start(text, last.range().start));
    Some(replaced(text, stop..stop, &format!("{end}{lead}{new}")))
}
