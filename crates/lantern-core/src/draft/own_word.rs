//! What descriptors say of whether their add-ons run.

use super::fields::Told;
use super::quoted;
use crate::settings::{Notation, read};
use std::collections::BTreeMap;

/// Words under which descriptors commonly say that an add-on runs, and that it does not.
const RUNS: &[&str] = &["enabled", "enable", "active"];
const RESTS: &[&str] = &["disabled", "disable", "inactive"];

/// What such a key says: the one, and the other.
const PAIRS: &[(&str, &str)] = &[("true", "false"), ("yes", "no"), ("on", "off"), ("1", "0")];

/// The switch in descriptors of one kind, as a family file writes it; none where no key beside the id or the version is called so, or
/// its values are of no such pair.
pub(super) fn switch<'t>(told: &Told, texts: impl Iterator<Item = &'t str>) -> Option<String> {
    let notation = Notation::of(&told.file)?;
    let facts = told.fields.iter();
    let facts = facts.filter(|field| matches!(field.name, "id" | "version"));
    let beside: Vec<&str> = facts.map(|field| above(&field.key)).collect();
    let mut said: BTreeMap<(String, bool), Vec<String>> = BTreeMap::new();
    for entry in texts
        .filter_map(|text| read(&notation, text).ok())
        .flatten()
    {
        let key = entry.key.to_string();
        let called = |words: &[&str]| {
            let name = entry.key.0.last().map(|name| name.to_lowercase());
            name.is_some_and(|name| words.contains(&name.as_str()))
        };
        let runs = called(RUNS);
        if (runs || called(RESTS)) && beside.contains(&above(&key)) {
            said.entry((key, runs)).or_default().push(entry.says);
        }
    }
    let ((key, runs), values) = said.into_iter().max_by_key(|(_, values)| values.len())?;
    let is_of = |pair: &(&str, &str)| values.iter().all(|it| it == pair.0 || it == pair.1);
    let &(yes, no) = PAIRS.iter().find(|pair| is_of(pair))?;
    let (on, off) = match runs {
        true => (yes, no),
        false => (no, yes),
    };
    let words = match (on, off) {
        ("true", "false") => String::new(),
        _ => format!(", on = {}, off = {}", quoted(on), quoted(off)),
    };
    let (file, key) = (quoted(&told.file), quoted(&key));
    Some(format!("{{ file = {file}, key = {key}{words} }}"))
}

/// What a key stands in.
fn above(key: &str) -> &str {
    key.rsplit_once('.').map_or("", |(above, _)| above)
}
