//! Patterns over texts and over paths.

use globset::{GlobBuilder, GlobMatcher};
use regex::Regex;
use serde::{Deserialize, Deserializer};

/// A regular expression, compiled as the family file is read.
#[derive(Debug, Clone)]
pub struct Pattern(Regex);

impl Pattern {
    /// Compiles a regular expression.
    ///
    /// # Errors
    /// With what is wrong with it, in words.
    pub(super) fn new(text: &str) -> Result<Pattern, String> {
        let regex = Regex::new(text).map_err(|error| error.to_string())?;
        Ok(Pattern(regex))
    }

    /// The compiled expression.
    pub fn regex(&self) -> &Regex {
        &self.0
    }

    /// What a named group captured, trimmed; none when it took no part.
    pub fn capture<'t>(&self, group: &str, text: &'t str) -> Option<&'t str> {
        Some(self.0.captures(text)?.name(group)?.as_str().trim())
    }

    /// Whether it has a group of that name.
    pub fn names(&self, group: &str) -> bool {
        self.0.capture_names().flatten().any(|name| name == group)
    }
}

impl<'de> Deserialize<'de> for Pattern {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Pattern, D::Error> {
        let text = String::deserialize(deserializer)?;
        Pattern::new(&text).map_err(serde::de::Error::custom)
    }
}

/// A path pattern: `*` within one name, `**` over several.
#[derive(Debug, Clone)]
pub struct Glob {
    text: String,
    /// So much of its beginning, in bytes, stands in every path that it matches.
    plain: usize,
    matcher: GlobMatcher,
}

impl Glob {
    /// Compiles a path pattern.
    ///
    /// # Errors
    /// With what is wrong with the pattern, in words.
    pub fn new(text: &str) -> Result<Glob, String> {
        let glob = GlobBuilder::new(text).literal_separator(true).build();
        Ok(Glob {
            text: text.into(),
            plain: text.find(['*', '?', '[', '{', '\\']).unwrap_or(text.len()),
            matcher: glob.map_err(|error| error.to_string())?.compile_matcher(),
        })
    }

    /// Whether the pattern matches a path.
    pub fn matches(&self, path: &str) -> bool {
        // Most of many paths differ right at the beginning.
        path.starts_with(&self.text[..self.plain]) && self.matcher.is_match(path)
    }

    /// Whether the pattern may match something below a folder; true where that is not plain from its text.
    pub fn may_match_below(&self, folder: &str) -> bool {
        if self.text.contains(['{', '\\', '[']) {
            return true;
        }
        let mut names = self.text.split('/');
        for name in folder.split('/') {
            match names.next() {
                None => return false,
                Some("**") => return true,
                Some(wild) if wild.contains(['*', '?']) => {}
                Some(plain) if plain == name => {}
                Some(_) => return false,
            }
        }
        names.next().is_some()
    }

    /// The pattern as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    pub(super) fn matcher(&self) -> &GlobMatcher {
        &self.matcher
    }
}

impl<'de> Deserialize<'de> for Glob {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Glob, D::Error> {
        Glob::new(&String::deserialize(deserializer)?).map_err(serde::de::Error::custom)
    }
}

/// One path pattern or several.
#[derive(Debug, Clone, Default)]
pub struct Globs(pub Vec<Glob>);

impl Globs {
    /// Whether any of the patterns matches a path.
    pub fn matches(&self, path: &str) -> bool {
        self.0.iter().any(|glob| glob.matches(path))
    }

    /// The patterns as they were written.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.0.iter().map(Glob::as_str)
    }
}

impl<'de> Deserialize<'de> for Globs {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Globs, D::Error> {
        let texts = one_or_several(deserializer)?;
        let globs = texts.iter().map(|text| Glob::new(text));
        let globs = globs.collect::<Result<_, _>>();
        globs.map(Globs).map_err(serde::de::Error::custom)
    }
}

/// Reads a text, or a list of texts.
pub(super) fn one_or_several<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<Vec<String>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "expected a text, or a list of texts")]
    enum Written {
        One(String),
        Several(Vec<String>),
    }
    Ok(match Written::deserialize(deserializer)? {
        Written::One(text) => vec![text],
        Written::Several(texts) => texts,
    })
}

#[cfg(test)]
mod tests {
    use super::Glob;
    use proptest::prelude::*;

    #[test]
    fn where_a_pattern_may_match() {
        for (pattern, folder, may) in [
            ("worlds/**", "worlds", true),
            ("worlds/**", "worlds/orbit/deep", true),
            ("worlds/**", "world", false),
            ("worlds/*/map", "worlds/orbit", true),
            ("worlds/*/map", "worlds/orbit/map", false),
            ("*.db", "framework", false),
            ("**/*.db", "framework/parts", true),
            ("{a,b/c}/d", "b/c", true),
        ] {
            let glob = Glob::new(pattern).unwrap();
            assert_eq!(
                glob.may_match_below(folder),
                may,
                "{pattern} below {folder}"
            );
        }
    }

    proptest! {
        #[test]
        fn what_matches_lies_where_it_may(
            pattern in "(ab/){0,1}([ab*?]|\\*\\*|\\{a,b/a\\}|\\[ab\\]){1,2}(/([ab*?]{1,2}|\\*\\*)){0,3}",
            path in "[ab]{1,2}(/[ab]{1,2}){0,4}",
        ) {
            let Ok(glob) = Glob::new(&pattern) else {
                return Ok(());
            };
            prop_assert_eq!(glob.matches(&path), glob.matcher.is_match(&path));
            if glob.matches(&path) {
                for (at, _) in path.match_indices('/') {
                    prop_assert!(glob.may_match_below(&path[..at]), "{pattern} below {}", &path[..at]);
                }
            }
        }
    }
}
