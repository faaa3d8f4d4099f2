//! Lists in which the order has no meaning: what each hand put in and took out, item by item.

use super::{Notation, replaced};
use jsonc_parser::common::Ranged;
use std::ops::Range;

/// Longer lists are one value.
const MOST: usize = 2_000;

/// An item: what it says as it is written, and where that stands in the list.
type Item = (String, Range<usize>);

/// My list, with what its author has put into it and taken out of it since; none where one of them is no list.
///
/// All three as they are written.
pub(super) fn merged(notation: &Notation, before: &str, mine: &str, now: &str) -> Option<String> {
    let by = separator([before, mine, now]);
    let of = |list: &str| items(notation, list, by);
    let was = of(before)?;
    let new = of(now)?;
    if was.len() + new.len() > MOST {
        return None;
    }
    let has = |items: &[Item], says: &str| items.iter().any(|(item, _)| item == says);
    let mut list = mine.to_owned();
    for (says, _) in was.iter().filter(|(says, _)| !has(&new, says)) {
        let own = of(&list)?;
        if let Some(at) = own.iter().position(|(item, _)| item == says) {
            list = without(notation, &list, &own, at);
        }
    }
    for (says, range) in new.iter().filter(|(says, _)| !has(&was, says)) {
        let own = of(&list)?;
        if !has(&own, says) {
            list = with(notation, &list, &own, &now[range.clone()], by)?;
        }
    }
    Some(list)
}

/// Whether a list has a line for each item.
fn is_in_lines(notation: &Notation, list: &str) -> bool {
    *notation == Notation::Yaml && !list.starts_with('[')
}

fn without(notation: &Notation, list: &str, items: &[Item], at: usize) -> String {
    let own = &items[at].1;
    // What is remarked in an item's line goes with it.
    let end_of = |place: usize| match is_in_lines(notation, list) {
        true => list[place..]
            .find('\n')
            .map_or(list.len(), |end| place + end),
        false => place,
    };
    let range = match (at.checked_sub(1), items.get(at + 1)) {
        (Some(before), _) => end_of(items[before].1.end)..end_of(own.end),
        (None, Some(after)) => own.start..after.1.start,
        (None, None) => own.clone(),
    };
    replaced(list, range, "")
}

fn with(
    notation: &Notation,
    list: &str,
    items: &[Item],
    raw: &str,
    by: Option<char>,
) -> Option<String> {
    let Some((_, last)) = items.last() else {
        // Into an empty one.
        let inside = list.find('[').map_or(0, |at| at + 1);
        return Some(replaced(list, inside..inside, raw));
    };
    if is_in_lines(notation, list) {
        // How far the first one is set in, its text does not tell.
        let start = list[..last.start].rfind('\n')?;
        let stop = list[last.end..]
            .find('\n')
            .map_or(list.len(), |end| last.end + end);
        let lead = &list[start..last.start];
        return Some(replaced(list, stop..stop, &format!("{lead}{raw}")));
    }
    let between = match items {
        [.., (_, before), (_, last)] => &list[before.end..last.start],
        _ if list.starts_with('[') => ", ",
        _ => return Some(format!("{list}{}{raw}", by?)),
    };
    Some(replaced(
        list,
        last.end..last.end,
        &format!("{between}{raw}"),
    ))
}

/// What stands between the items of lists that are lines of words.
fn separator(lists: [&str; 3]) -> Option<char> {
    let mut known = [',', ';', ' '].into_iter();
    known.find(|by| lists.iter().any(|list| list.contains(*by)))
}

/// The items of a list as it is written.
fn items(notation: &Notation, raw: &str, by: Option<char>) -> Option<Vec<Item>> {
    match notation {
        Notation::Toml => {
            let text = format!("x={raw}");
            let document = toml_edit::Document::parse(&text).ok()?;
            let array = document.get("x")?.as_array()?;
            let items = array.iter().map(|value| {
                let span = value.span()?;
                Some((text[span.clone()].to_owned(), span.start - 2..span.end - 2))
            });
            items.collect()
        }
        Notation::Json => {
            let parsed = jsonc_parser::parse_to_ast(
                raw,
                &jsonc_parser::CollectOptions::default(),
                &jsonc_parser::ParseOptions::default(),
            );
            let jsonc_parser::ast::Value::Array(array) = parsed.ok()?.value? else {
                return None;
            };
            let items = array.elements.iter().map(|value| {
                let range = value.range();
                (
                    raw[range.start..range.end].to_owned(),
                    range.start..range.end,
                )
            });
            Some(items.collect())
        }
        Notation::Yaml if !raw.starts_with('[') => {
            let mut at = 0;
            let lines = raw.split_inclusive('\n').map(|line| {
                let start = at;
                at += line.len();
                let body = line.trim();
                let item = body.strip_prefix("- ")?;
                let quoted = item.trim_start().starts_with(['"', '\'']);
                let remark = item.find(" #").filter(|_| !quoted);
                let item = item[..remark.unwrap_or(item.len())].trim();
                let from = start + line.find("- ")? + 2;
                let from =
                    from + (line[from - start..].len() - line[from - start..].trim_start().len());
                Some((item.to_owned(), from..from + item.len()))
            });
            lines.collect()
        }
        Notation::Xml => None,
        _ => {
            let inside = raw.strip_prefix('[').and_then(|raw| raw.strip_suffix(']'));
            let (offset, inside) = inside.map_or((0, raw), |inside| (1, inside));
            let mut at = offset;
            let items = inside.split(by?).map(|part| {
                let start = at + (part.len() - part.trim_start().len());
                at += part.len() + 1;
                (part.trim().to_owned(), start..start + part.trim().len())
            });
            Some(items.filter(|(says, _)| !says.is_empty()).collect())
        }
    }
}
