//! How versions and ranges are written in one place: by a family, in a catalogue, in a request.

use super::{Notation, Range, RangeFault, RangeNotation, Version, VersionFault};
use foldhash::HashMap;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How versions and ranges are written.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Notations {
    /// Versions of the server.
    pub server: Notation,
    /// Versions of all other components.
    pub components: Notation,
    /// Ranges over components: the first notation that reads a text is taken.
    pub ranges: Vec<RangeNotation>,
    /// Ranges over server versions, likewise.
    pub server_ranges: Vec<RangeNotation>,
    /// Versions of players' clients, by kind of client; those of which no component says it either are written in the dotted notation.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub clients: BTreeMap<String, Notation>,
    /// Ranges over versions of clients, likewise.
    pub client_ranges: Vec<RangeNotation>,
}

impl Default for Notations {
    fn default() -> Notations {
        Notations {
            server: Notation::Dotted,
            components: Notation::Dotted,
            ranges: vec![RangeNotation::Comparators],
            server_ranges: vec![RangeNotation::Comparators],
            clients: BTreeMap::new(),
            client_ranges: vec![RangeNotation::Comparators],
        }
    }
}

impl Notations {
    /// Reads a version of a component, or of the server where `is_server`.
    ///
    /// # Errors
    /// As [`Version::parse`].
    pub fn version(&self, is_server: bool, text: &str) -> Result<Version, VersionFault> {
        let notation = if is_server {
            self.server
        } else {
            self.components
        };
        Version::parse(text, notation)
    }

    /// Reads a range over components.
    ///
    /// # Errors
    /// As [`Range::parse_any`].
    pub fn range(&self, text: &str) -> Result<Range, RangeFault> {
        Range::parse_any(text, &self.ranges, self.components)
    }

    /// Reads a range over server versions.
    ///
    /// # Errors
    /// As [`Range::parse_any`].
    pub fn server_range(&self, text: &str) -> Result<Range, RangeFault> {
        Range::parse_any(text, &self.server_ranges, self.server)
    }

    /// Reads a version of a kind of client; `stated` is how a component says that they are written.
    ///
    /// # Errors
    /// As [`Version::parse`].
    pub fn client_version(
        &self,
        kind: &str,
        stated: Option<Notation>,
        text: &str,
    ) -> Result<Version, VersionFault> {
        Version::parse(text, self.of_client(kind, stated))
    }

    /// Reads a range over versions of a kind of client, likewise.
    ///
    /// # Errors
    /// As [`Range::parse_any`].
    pub fn client_range(
        &self,
        kind: &str,
        stated: Option<Notation>,
        text: &str,
    ) -> Result<Range, RangeFault> {
        Range::parse_any(text, &self.client_ranges, self.of_client(kind, stated))
    }

    /// Here comes first, then what a component states.
    fn of_client(&self, kind: &str, stated: Option<Notation>) -> Notation {
        let own = self.clients.get(kind).copied();
        own.or(stated).unwrap_or_default()
    }
}

/// Ranges read before, so that equal ones share what they hold: a catalogue has few distinct ones.
#[derive(Debug, Default)]
pub struct RangesRead {
    components: HashMap<String, Range>,
    servers: HashMap<String, Range>,
}

impl RangesRead {
    /// Reads a range over components.
    ///
    /// # Errors
    /// As [`Notations::range`].
    pub fn range(&mut self, notations: &Notations, text: &str) -> Result<Range, RangeFault> {
        known_or(&mut self.components, text, || notations.range(text))
    }

    /// Reads a range over server versions.
    ///
    /// # Errors
    /// As [`Notations::server_range`].
    pub fn server_range(&mut self, notations: &Notations, text: &str) -> Result<Range, RangeFault> {
        known_or(&mut self.servers, text, || notations.server_range(text))
    }
}

fn known_or(
    known: &mut HashMap<String, Range>,
    text: &str,
    read: impl FnOnce() -> Result<Range, RangeFault>,
) -> Result<Range, RangeFault> {
    if let Some(range) = known.get(text) {
        return Ok(range.clone());
    }
    let range = read()?;
    known.insert(text.to_owned(), range.clone());
    Ok(range)
}
