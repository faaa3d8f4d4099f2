//! JSON, with comments.

use super::{Contents, Entry, Form, Key, Table, indent, line_end, line_start, replaced, rows_of};
use crate::reading::{DEEPEST, TextFault, too_deep};
use jsonc_parser::ast::{Object, Value};
use jsonc_parser::common::Ranged;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};
use std::ops::Range;

fn parsed(text: &str) -> Result<Option<Value<'_>>, TextFault> {
    let options = ParseOptions {
        allow_missing_commas: false,
        ..ParseOptions::default()
    };
    let parsed = parse_to_ast(text, &CollectOptions::default(), &options);
    let parsed =
        parsed.map_err(|error| TextFault::at(error.line_display(), error.kind().to_string()))?;
    Ok(parsed.value)
}

pub(super) fn read(text: &str) -> Result<Contents, TextFault> {
    let mut found = Contents::default();
    match parsed(text)? {
        Some(Value::Object(object)) => inside(text, &object, &Key::default(), 0, &mut found)?,
        None => return Err(TextFault::at(1, "it is empty")),
        Some(_) => return Err(TextFault::at(1, "it is not an object { … }")),
    }
    Ok(found)
}

fn inside(
    text: &str,
    object: &Object<'_>,
    key: &Key,
    depth: usize,
    found: &mut Contents,
) -> Result<(), TextFault> {
    if depth > DEEPEST {
        return Err(too_deep(None));
    }
    let remark = |row: &str| row.starts_with("//");
    let end = |rest: &str| {
        let rest = rest.strip_prefix(',').unwrap_or(rest).trim();
        rest.is_empty() || rest.starts_with("//")
    };
    for property in &object.properties {
        let key = key.with(property.name.as_str());
        let whole = property.range.start..property.range.end;
        let rows = rows_of(text, whole.clone(), remark, end);
        if let Value::Object(inner) = &property.value {
            found.tables.push(Table {
                key: key.clone(),
                rows,
            });
            inside(text, inner, &key, depth + 1, found)?;
            continue;
        }
        let range = property.value.range();
        let raw = || text[range.start..range.end].to_owned();
        let (says, form) = match &property.value {
            Value::StringLit(text) => (text.value.to_string(), Form::Text),
            Value::Array(_) => (raw(), Form::List),
            _ => (raw(), Form::Bare),
        };
        found.entries.push(Entry {
            says,
            form,
            rows,
            whole,
            value: range.start..range.end,
            key,
        });
    }
    Ok(())
}

/// The text with a comma between properties and none behind the last one, where lines came and went.
///
/// What had a comma behind its last property before keeps that manner: `loose` says so.
pub(super) fn with_commas(text: &str, loose: bool) -> Option<String> {
    let options = ParseOptions {
        allow_missing_commas: true,
        ..ParseOptions::default()
    };
    let parsed = parse_to_ast(text, &CollectOptions::default(), &options).ok()?;
    let Some(Value::Object(top)) = parsed.value else {
        return None;
    };
    // Where a comma comes, or goes.
    let mut edits: Vec<(usize, bool)> = Vec::new();
    let mut open = vec![&top];
    while let Some(object) = open.pop() {
        for (number, property) in object.properties.iter().enumerate() {
            if let Value::Object(inner) = &property.value {
                open.push(inner);
            }
            let next = object.properties.get(number + 1);
            let stop = next.map_or(object.range.end - 1, |next| next.range.start);
            let comma = comma_in(text, property.range.end..stop);
            match (next, comma) {
                (Some(_), None) => edits.push((property.range.end, true)),
                (None, Some(at)) if !loose => edits.push((at, false)),
                _ => {}
            }
        }
    }
    edits.sort_unstable();
    let mut new = text.to_owned();
    for (at, comes) in edits.into_iter().rev() {
        match comes {
            true => new.insert(at, ','),
            false => drop(new.remove(at)),
        }
    }
    Some(new)
}

/// The place of a comma that stands in no remark.
fn comma_in(text: &str, range: Range<usize>) -> Option<usize> {
    let mut at = range.start;
    while at < range.end {
        let rest = &text[at..range.end];
        let skipped = match rest {
            _ if rest.starts_with(',') => return Some(at),
            _ if rest.starts_with("//") => rest.find('\n'),
            _ if rest.starts_with("/*") => rest.find("*/").map(|end| end + 2),
            _ => rest.chars().next().map(char::len_utf8),
        };
        at += skipped?;
    }
    None
}

/// Whether a text has a comma behind the last property of an object.
pub(super) fn is_loose(text: &str) -> bool {
    let options = ParseOptions {
        allow_trailing_commas: false,
        ..ParseOptions::default()
    };
    parsed(text).is_ok() && parse_to_ast(text, &CollectOptions::default(), &options).is_err()
}

/// A value as it is written where another one stands, in its manner.
pub(super) fn written(now: &str, value: &str) -> String {
    let is_text = now.starts_with(['"', '\'']);
    let is_bare = serde_json::from_str::<serde_json::Value>(value).is_ok_and(|it| !it.is_string());
    match !is_text && is_bare {
        true => value.to_owned(),
        false => quoted(value),
    }
}

fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

pub(super) fn added(text: &str, key: &Key, value: &str) -> Option<String> {
    let Some(Value::Object(top)) = parsed(text).ok()? else {
        return None;
    };
    let mut object = &top;
    let mut rest = &key.0[..];
    while let [name, inner @ ..] = rest {
        let mut properties = object.properties.iter();
        let there = properties.find(|property| property.name.as_str() == name);
        match (there.map(|property| &property.value), inner) {
            (Some(Value::Object(next)), [_, ..]) => (object, rest) = (next, inner),
            (Some(_), _) => return None,
            (None, _) => break,
        }
    }
    let (name, inner) = rest.split_first()?;
    let mut property = written("", value);
    for name in inner.iter().rev() {
        property = format!("{{ {}: {property} }}", quoted(name));
    }
    let property = format!("{}: {property}", quoted(name));
    let end = line_end(text);
    let (open, close) = (object.range.start, object.range.end - 1);
    let own = indent(text, line_start(text, close));
    match object.properties.last() {
        Some(last) => {
            let start = line_start(text, last.range.start);
            let on_lines = start > open;
            let stop = last.range.end;
            let comma = text[stop..close].trim_start().starts_with(',');
            let gap = match on_lines {
                true => format!("{end}{}", indent(text, start)),
                false => " ".to_owned(),
            };
            // Behind a comma that is there, and what is remarked in that line.
            let at = match comma {
                true => stop + text[stop..close].find(',')? + 1,
                false => stop,
            };
            let rest = text[at..close].split('\n').next().unwrap_or_default();
            let rest = rest.trim_end();
            let (comma, tail) = (if comma { "" } else { "," }, if comma { "," } else { "" });
            let new = format!("{comma}{rest}{gap}{property}{tail}");
            Some(replaced(text, at..at + rest.len(), &new))
        }
        None => {
            let new = format!("{end}{own}  {property}{end}{own}");
            let inside = text[open + 1..close].trim().is_empty();
            inside.then(|| replaced(text, open + 1..close, &new))
        }
    }
}
