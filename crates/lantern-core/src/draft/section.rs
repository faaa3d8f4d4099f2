//! The part of a file that names what is installed, where its other parts have lines that look alike.

use super::quoted;
use super::rule::known;
use regex::Regex;
use std::collections::BTreeSet;
use std::sync::LazyLock;

/// A line that opens a section.
static SECTION: LazyLock<Regex> = LazyLock::new(|| known(r"^\s*(\[[^\[\]]+\])\s*$"));
/// A key of its own line, with what it holds below it.
static KEY: LazyLock<Regex> = LazyLock::new(|| known(r#"^(["']?[\w.-]+["']?):\s*$"#));

/// What opens a part, as patterns of the line that does and of the next that ends it.
fn opening(line: &str) -> Option<(String, &'static str)> {
    if let Some(found) = SECTION.captures(line) {
        return Some((format!(r"^\s*{}", regex::escape(&found[1])), r"^\s*\["));
    }
    let found = KEY.captures(line)?;
    Some((format!("^{}:", regex::escape(&found[1])), r"^[^\s#-]"))
}

/// The part in which lines stand that name these, as a key of a family file: none where they do not stand in one of several, or there
/// are no others.
pub(super) fn within(text: &str, line: &str, ids: &BTreeSet<&str>) -> Option<String> {
    let pattern = Regex::new(line).ok()?;
    let mut now = None;
    let mut opened = 0;
    let (mut inside, mut is_outside) = (BTreeSet::new(), false);
    for line in text.lines() {
        if let Some(opening) = opening(line) {
            now = Some(opening);
            opened += 1;
            continue;
        }
        let found = pattern.captures(line);
        match found.as_ref().and_then(|found| found.name("id")) {
            Some(id) if ids.contains(id.as_str()) => {
                inside.insert(now.clone());
            }
            Some(_) => is_outside = true,
            None => {}
        }
    }
    let only = inside.pop_first().filter(|_| inside.is_empty())?;
    let (from, to) = only.filter(|_| is_outside || opened > 1)?;
    Some(format!(
        "within = {{ from = {}, to = {} }}\n",
        quoted(&from),
        quoted(to)
    ))
}
