//! Patterns over texts and over paths.

use globset::{GlobBuilder, GlobMatcher};
use regex::Regex;
use serde::{Deserialize, Deserializer};

/// A regular expression, compiled as the family file is read.
#[derive(Debug, Clone)]
pub struct Pattern(Regex);

impl Pattern {
    /// The compiled expression.
    pub fn regex(&self) -> &Regex {
        &self.0
    }

    /// What a named group captured, trimmed; none when it took no part.
    pub fn capture<'t>(&self, group: &str, text: &'t str) -> Option<&'t str> {
        Some(self.0.captures(text)?.name(group)?.as_str().trim())
    }
}

impl<'de> Deserialize<'de> for Pattern {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Pattern, D::Error> {
        let text = String::deserialize(deserializer)?;
        let regex = Regex::new(&text).map_err(serde::de::Error::custom)?;
        Ok(Pattern(regex))
    }
}

/// A path pattern: `*` within one name, `**` over several.
#[derive(Debug, Clone)]
pub struct Glob {
    text: String,
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
            matcher: glob.map_err(|error| error.to_string())?.compile_matcher(),
        })
    }

    /// Whether the pattern matches a path.
    pub fn matches(&self, path: &str) -> bool {
        self.matcher.is_match(path)
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
    #[serde(untagged)]
    enum Written {
        One(String),
        Several(Vec<String>),
    }
    Ok(match Written::deserialize(deserializer)? {
        Written::One(text) => vec![text],
        Written::Several(texts) => texts,
    })
}
