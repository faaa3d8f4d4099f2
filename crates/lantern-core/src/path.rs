//! Paths inside a server folder, checked before they come near a disk.

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};
use std::fmt;

/// A path relative to the server folder: `/` between names, no `..`, nothing absolute.
///
/// Whatever comes from an archive, catalogue, plan or descriptor becomes one of these before it is
/// joined to a real folder, so that nothing outside that folder can be named.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(transparent)]
pub struct RelPath(String);

/// Why a text is no path inside a server folder.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the path {shown} {why}")]
pub struct PathFault {
    /// The text, with unprintable characters escaped.
    pub shown: String,
    /// What is wrong with it.
    pub why: &'static str,
}

/// File names that some operating systems keep for devices.
const RESERVED: &[&str] = &["con", "prn", "aux", "nul"];

fn fault(text: &str, why: &'static str) -> PathFault {
    PathFault {
        shown: format!("{:?}", text.chars().take(120).collect::<String>()),
        why,
    }
}

/// Puts the names of a path behind those that are there already, or says what is wrong with it.
fn add(joined: &mut String, text: &str) -> Result<(), &'static str> {
    if text.contains('\\') {
        return Err("has a backslash in it");
    }
    if text.chars().any(char::is_control) {
        return Err("has an unprintable character in it");
    }
    let is_name = |part: &&str| !part.is_empty() && *part != ".";
    for part in text.split('/').filter(is_name) {
        let stem = part.split('.').next().unwrap_or(part);
        if part == ".." {
            return Err("leads out of the folder with \"..\"");
        }
        if RESERVED.iter().any(|name| stem.eq_ignore_ascii_case(name)) {
            return Err("has a name in it that is reserved for a device");
        }
        if part.len() > 255 {
            return Err("has a name of over 255 bytes in it");
        }
        if !joined.is_empty() {
            joined.push('/');
        }
        joined.push_str(part);
    }
    match joined.as_bytes() {
        [] => Err("is empty"),
        [_, b':', ..] => Err("begins with a drive letter"),
        all if all.len() > 4000 => Err("is longer than 4,000 bytes"),
        _ => Ok(()),
    }
}

impl RelPath {
    /// Checks a path; `./` in front and a `/` behind are dropped.
    ///
    /// # Errors
    /// On an empty or absolute path, `..`, a backslash or drive letter, unprintable characters,
    /// names reserved for devices, a part over 255 bytes, or over 4,000 bytes in all.
    pub fn parse(text: &str) -> Result<RelPath, PathFault> {
        let mut joined = String::with_capacity(text.len());
        let checked = match text.starts_with('/') {
            true => Err("is absolute"),
            false => add(&mut joined, text),
        };
        checked.map_err(|why| fault(text, why))?;
        Ok(RelPath(joined))
    }

    /// Checks a path that comes from outside, in an archive: what is harmless in a name that the disk has already may be meant
    /// to deceive in one that is to be made.
    ///
    /// # Errors
    /// As [`RelPath::parse`]; and on more names of devices, a blank or dot at the end of a name, and characters that nobody
    /// sees or that turn others round.
    pub fn from_outside(text: &str) -> Result<RelPath, PathFault> {
        let path = RelPath::parse(text)?;
        let fault = |why| fault(text, why);
        for part in path.0.split('/') {
            let stem = part
                .split('.')
                .next()
                .unwrap_or(part)
                .trim_end()
                .to_ascii_lowercase();
            let numbered = |stem: &str| {
                stem.strip_prefix("com")
                    .or(stem.strip_prefix("lpt"))
                    .is_some_and(is_one_digit)
            };
            if RESERVED.contains(&stem.as_str()) || numbered(&stem) {
                return Err(fault("has a name in it that is reserved for a device"));
            }
            if part.ends_with(['.', ' ']) || part.starts_with(' ') {
                return Err(fault(
                    "has a name in it that ends in a dot, or begins or ends in a blank",
                ));
            }
        }
        if path.0.chars().any(is_unseen) {
            return Err(fault(
                "has a character in it that nobody sees, or that turns others round",
            ));
        }
        Ok(path)
    }

    /// The path as text, `/` between the names.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The last name.
    pub fn name(&self) -> &str {
        self.0.rsplit('/').next().unwrap_or(&self.0)
    }

    /// The folder it lies in; none for a path of one name.
    pub fn folder(&self) -> Option<RelPath> {
        let (folder, _) = self.0.rsplit_once('/')?;
        Some(RelPath(folder.into()))
    }

    /// The path of something below this one.
    ///
    /// # Errors
    /// As [`RelPath::parse`].
    pub fn join(&self, below: &str) -> Result<RelPath, PathFault> {
        let mut joined = String::with_capacity(self.0.len() + 1 + below.len());
        joined.push_str(&self.0);
        let added = add(&mut joined, below);
        added.map_err(|why| fault(&format!("{}/{below}", self.0), why))?;
        Ok(RelPath(joined))
    }

    /// Whether it is a path, or lies somewhere below it.
    pub fn is_within(&self, of: &RelPath) -> bool {
        self == of || self.below(of.as_str()).is_some()
    }

    /// What remains of it below a folder; none when it does not lie there.
    pub fn below(&self, folder: &str) -> Option<&str> {
        self.0.strip_prefix(folder)?.strip_prefix('/')
    }
}

fn is_one_digit(text: &str) -> bool {
    let mut chars = text.chars();
    let first = chars
        .next()
        .is_some_and(|c| c.is_ascii_digit() || "¹²³".contains(c));
    first && chars.next().is_none()
}

/// Whether a character is one that nobody sees, or that turns others round: zero-width and bidirectional ones, fillers, tags.
pub fn is_unseen(c: char) -> bool {
    matches!(c,
        '\u{ad}' | '\u{61c}' | '\u{115f}' | '\u{1160}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
        | '\u{2060}'..='\u{206f}' | '\u{3164}' | '\u{feff}' | '\u{ffa0}' | '\u{fff9}'..='\u{fffb}'
        | '\u{e0000}'..='\u{e007f}')
}

impl fmt::Display for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl<'de> Deserialize<'de> for RelPath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<RelPath, D::Error> {
        let text = String::deserialize(deserializer)?;
        RelPath::parse(&text).map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn good_paths_are_kept_and_tidied() {
        for (text, expected) in [
            ("addons/drip-lines.bloom", "addons/drip-lines.bloom"),
            ("./world/", "world"),
            ("a//b", "a/b"),
            ("console.log", "console.log"),
            ("mods/größe/x", "mods/größe/x"),
        ] {
            assert_eq!(RelPath::parse(text).unwrap().as_str(), expected);
        }
    }

    #[test]
    fn hostile_paths_are_refused() {
        let long = "x".repeat(256);
        for text in [
            "",
            ".",
            "/etc/passwd",
            "../up",
            "a/../../b",
            "a\\b",
            "C:/x",
            "c:x",
            "./c:x",
            "a\nb",
            "a\0b",
            "NUL",
            "addons/con.txt",
            "aux",
            &long,
        ] {
            assert!(RelPath::parse(text).is_err(), "{text:?}");
        }
    }

    #[test]
    fn names_that_deceive_are_refused_where_they_come_from_outside() {
        for text in [
            "a/COM1",
            "lpt9.txt",
            "con .txt",
            "a./b",
            "a /b",
            " a",
            "x.",
            "a\u{202e}gnp.exe",
            "a\u{200b}",
            "b/\u{feff}c",
            "com¹",
        ] {
            assert!(RelPath::parse(text).is_ok(), "{text:?}");
            assert!(RelPath::from_outside(text).is_err(), "{text:?}");
        }
        for text in ["com10", "complete", "lpt", "a.b/c", ".hidden", "größe/x y"] {
            assert!(RelPath::from_outside(text).is_ok(), "{text:?}");
        }
    }

    #[test]
    fn parts_of_a_path() {
        let path = RelPath::parse("mods/lamps/init.lua").unwrap();
        assert_eq!(path.name(), "init.lua");
        assert_eq!(path.folder().unwrap().as_str(), "mods/lamps");
        assert_eq!(path.below("mods"), Some("lamps/init.lua"));
        assert_eq!(path.below("mod"), None);
    }

    proptest::proptest! {
        #[test]
        fn whatever_passes_stays_inside(text in "[./\\\\a-c:]{0,12}") {
            if let Ok(path) = RelPath::parse(&text) {
                proptest::prop_assert!(path.as_str().split('/').all(|p| !p.is_empty() && p != ".." && p != "."));
                // What was checked is fine as it is, and so is the same found step by step.
                proptest::prop_assert_eq!(&RelPath::parse(path.as_str()).unwrap(), &path);
                let mut names = path.as_str().split('/');
                let first = RelPath::parse(names.next().unwrap()).unwrap();
                let stepped = names.try_fold(first, |folder, name| folder.join(name));
                proptest::prop_assert_eq!(&stepped.unwrap(), &path);
            }
        }
    }
}
