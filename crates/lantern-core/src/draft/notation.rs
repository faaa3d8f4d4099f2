//! How a file is probably written: by its name, or else by what stands in it.

use regex::Regex;
use std::sync::LazyLock;

/// Names of files that may be a descriptor, by extension, and how those are written.
const NOTATIONS: &[(&str, &str)] = &[
    ("toml", "toml"),
    ("json", "json"),
    ("yml", "yaml"),
    ("yaml", "yaml"),
    ("properties", "properties"),
    ("xml", "xml"),
    ("ini", "ini"),
    ("conf", "ini"),
    ("cfg", "ini"),
    ("mf", "manifest"),
    ("man", "script"),
    ("lua", "script"),
];

/// Files that say what lies beside them, and are nobody's mark.
pub(super) const PROSE: &[&str] = &[
    "readme",
    "license",
    "licence",
    "copying",
    "changelog",
    "authors",
];

/// Extensions of what is no descriptor, whatever it begins with.
const NEVER: &[&str] = &[
    "log", "md", "html", "htm", "sh", "bash", "bat", "cmd", "csv", "svg",
];

static ASSIGNED: LazyLock<Regex> = LazyLock::new(|| known(r"^\s*[\w.-]+\s*=\s*\S"));
/// As a script states it, with the mark that ends it.
static ENDED: LazyLock<Regex> = LazyLock::new(|| known(r"^\s*[\w.]+\s*=\s*\S.*;\s*$"));
static STATED: LazyLock<Regex> = LazyLock::new(|| known(r"^[\w-]+\s*:\s+\S"));

fn known(pattern: &str) -> Regex {
    Regex::new(pattern).expect("a pattern of our own")
}

/// By its name.
pub(super) fn of_name(path: &str) -> Option<&'static str> {
    let (_, extension) = path.rsplit_once('.')?;
    let extension = extension.to_ascii_lowercase();
    let mut notations = NOTATIONS.iter();
    let known = notations.find(|(known, _)| *known == extension);
    known.map(|(_, notation)| *notation)
}

/// By its name, or else by its text, where three of four lines state something.
pub(super) fn of(path: &str, text: &str) -> Option<&'static str> {
    if let Some(notation) = of_name(path) {
        return Some(notation);
    }
    if !may_tell(path) {
        return None;
    }
    let text = text.trim_start_matches('\u{feff}');
    let is_stated = |pattern: &Regex| {
        let lines = text.lines().filter(|line| {
            let line = line.trim();
            !line.is_empty() && !line.starts_with(['#', ';', '[']) && !line.starts_with("//")
        });
        let (mut all, mut stated) = (0, 0);
        for line in lines {
            all += 1;
            stated += usize::from(pattern.is_match(line));
        }
        stated > 0 && stated * 4 >= all * 3
    };
    match text.trim_start().chars().next()? {
        '{' => Some("json"),
        '<' => Some("xml"),
        _ if is_stated(&ENDED) => Some("script"),
        _ if is_stated(&ASSIGNED) => Some("ini"),
        _ if is_stated(&STATED) => Some("yaml"),
        _ => None,
    }
}

/// Whether a file of this name may be a descriptor, if its text is like one.
pub(super) fn may_tell(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    let extension = name
        .rsplit_once('.')
        .map(|(_, end)| end.to_ascii_lowercase());
    !PROSE.contains(&stem(name).to_lowercase().as_str())
        && extension.is_none_or(|end| !NEVER.contains(&end.as_str()))
}

/// The last name of a path.
pub(super) fn last(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// That without its extension.
pub(super) fn stem(name: &str) -> &str {
    let name = last(name);
    name.rsplit_once('.').map_or(name, |(stem, _)| stem)
}
