//! The part of a file that names what is installed, where its other parts have lines that look alike.

use super::quoted;
use super::rule::known;
use regex::Regex;
use std::collections::BTreeSet;
use std::sync::LazyLock;

/// A line that opens a section.
static SECTION: LazyLock<Regex> = LazyLock::new(|| known(r"^\s*(\[[^\[\]]+\])\s*$"));
/// A line that opens one of several tables of a list.
static LISTED: LazyLock<Regex> = LazyLock::new(|| known(r"^\s*\[\[[^\[\]]+\]\]\s*$"));
/// A line that ends with a bracket which a later one closes.
static BRACKET: LazyLock<Regex> = LazyLock::new(|| known(r"^(\s*)(\S.*[{(\[])\s*$"));
/// A key of its own line, with what it holds below it.
static KEY: LazyLock<Regex> = LazyLock::new(|| known(r#"^(["']?[\w.-]+["']?):\s*$"#));

/// What opens a part.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Opening {
    /// Finds the line that does.
    from: String,
    /// Finds the next one that ends it.
    to: String,
    /// Whether it is not over before that one.
    is_closed: bool,
}

impl Opening {
    fn by(line: &str) -> Option<Opening> {
        let (from, to, is_closed) = if let Some(found) = SECTION.captures(line) {
            let from = format!(r"^\s*{}", regex::escape(&found[1]));
            (from, r"^\s*\[".into(), false)
        } else if let Some(found) = KEY.captures(line) {
            let from = format!("^{}:", regex::escape(&found[1]));
            (from, r"^[^\s#-]".into(), false)
        } else {
            let found = BRACKET.captures(line)?;
            let from = format!("^{}{}", &found[1], regex::escape(&found[2]));
            (from, format!(r"^{}[}})\]]", &found[1]), true)
        };
        Some(Opening {
            from,
            to,
            is_closed,
        })
    }

    fn is_ended_by(&self, line: &str) -> bool {
        Regex::new(&self.to).is_ok_and(|to| to.is_match(line))
    }
}

/// The lines of a text, without those of tables in a list: what stands there names nothing by itself.
pub(super) fn out_of_lists(text: &str) -> impl Iterator<Item = &str> {
    let mut is_listed = false;
    text.lines().filter(move |line| {
        is_listed = LISTED.is_match(line) || is_listed && !SECTION.is_match(line);
        !is_listed
    })
}

/// The part in which lines stand that name these, as a key of a family file: none where they do not stand in one of several, or there
/// are no others.
pub(super) fn within(text: &str, line: &str, ids: &BTreeSet<&str>) -> Option<String> {
    let pattern = Regex::new(line).ok()?;
    let mut now: Option<Opening> = None;
    let mut opened = 0;
    let (mut inside, mut is_outside) = (BTreeSet::new(), false);
    for line in text.lines() {
        now = now.filter(|opening| !opening.is_ended_by(line));
        let found = pattern.captures(line);
        if found.is_none()
            && let Some(opening) = Opening::by(line)
        {
            now = Some(opening);
            opened += 1;
            continue;
        }
        match found.as_ref().and_then(|found| found.name("id")) {
            Some(id) if ids.contains(id.as_str()) => {
                inside.insert(now.clone());
            }
            Some(_) => is_outside = true,
            None => {}
        }
    }
    let only = inside.pop_first().filter(|_| inside.is_empty())?;
    // Behind what closes a bracket, nothing new has a place.
    let only = only.filter(|it| is_outside || opened > 1 || it.is_closed)?;
    Some(format!(
        "within = {{ from = {}, to = {} }}\n",
        quoted(&only.from),
        quoted(&only.to)
    ))
}
