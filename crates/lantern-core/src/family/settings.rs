//! What a family says of settings files.

use super::pattern::{Globs, Pattern};
use crate::path::RelPath;
use crate::settings::{Key, LinePattern, Manner, Notation};
use serde::Deserialize;
use std::collections::BTreeMap;

/// How some settings files are to be taken.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SettingsRule {
    /// The files.
    pub file: Globs,
    /// Their notation, where their names do not tell it.
    pub notation: Option<String>,
    /// Finds in a line a key and a value as the groups `key` and `value`, where the notation is the server's own.
    pub line: Option<Pattern>,
    /// Keys that hold secrets, as patterns; besides those that are called so.
    #[serde(default)]
    pub secret: Globs,
    /// Lists in which the order has no meaning.
    #[serde(default)]
    pub any_order: Vec<String>,
    /// New names of keys, with the old ones.
    #[serde(default)]
    pub was: BTreeMap<String, String>,
    /// Where a sample of them lies: a file that releases ship, for people to take values from.
    #[serde(default)]
    pub sample: Globs,
}

impl SettingsRule {
    fn notation(&self) -> Option<Notation> {
        let own = self
            .line
            .as_ref()
            .and_then(|line| LinePattern::new(line.regex().clone()).ok());
        let named = self.notation.as_deref().and_then(Notation::named);
        own.map(Notation::Lines).or(named)
    }

    /// What is wrong with it, in words.
    pub(super) fn fault(&self) -> Option<String> {
        let line = self
            .line
            .as_ref()
            .map(|line| LinePattern::new(line.regex().clone()));
        if let Some(Err(why)) = line {
            return Some(format!("settings.line: {why}"));
        }
        if self.line.is_some() && self.notation.is_some() {
            return Some("settings: one of `line` and `notation` says how it is written".into());
        }
        let unknown = self
            .notation
            .as_ref()
            .filter(|word| Notation::named(word).is_none())?;
        Some(format!(
            "settings.notation: \"{unknown}\" is none of toml, json, yaml, ini, properties, xml, assignments"
        ))
    }
}

/// How a file is to be taken, by all that is said of it.
pub(super) fn manner(rules: &[SettingsRule], path: &RelPath) -> Manner {
    let mut manner = Manner::of(path.name());
    let those = rules.iter().filter(|rule| rule.file.matches(path.as_str()));
    let mut is_stated = false;
    for rule in those {
        if let Some(notation) = rule.notation().filter(|_| !is_stated) {
            manner.notation = Some(notation);
            is_stated = true;
        }
        manner
            .secret
            .extend(rule.secret.0.iter().map(|glob| glob.matcher().clone()));
        manner
            .any_order
            .extend(rule.any_order.iter().map(|key| Key::of(key)));
        let was = rule
            .was
            .iter()
            .map(|(new, old)| (Key::of(new), Key::of(old)));
        manner.was.extend(was);
    }
    manner
}
