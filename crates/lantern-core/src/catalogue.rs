//! Which releases are on offer, in our own JSON format.
//!
//! The format is `*.catalogue.json`, described in docs/formats/catalogue.md. One broken release is
//! left out and told; the rest stands.

use crate::component::{Facts, Id, Kind, Need, Side};
use crate::family::Notations;
use crate::json::plain_reason;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use std::collections::{BTreeMap, HashMap};

/// Where the archive of a release is, and how it is recognised.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ArchiveRef {
    /// The file's path: for a catalogue as it states it, relative to the catalogue.
    pub file: String,
    /// BLAKE3 of the whole file, 64 hexadecimal digits.
    pub blake3: String,
    /// Its size in bytes.
    pub bytes: u64,
}

/// Where an offer comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// A catalogue.
    Catalogue,
    /// The drop folder: fetched by hand, so wanted.
    DropFolder,
}

/// A release that can be had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Offer {
    /// What it says of itself.
    pub facts: Facts,
    /// The archive that holds it.
    pub archive: ArchiveRef,
    /// Where it comes from.
    pub origin: Origin,
}

/// What a catalogue holds, and what of it could not be used.
#[derive(Debug, Default)]
pub struct Catalogue {
    /// The catalogue's own name.
    pub name: String,
    /// All releases that could be read, in the catalogue's order.
    pub offers: Vec<Offer>,
    /// The releases left out: line of the file, and why.
    pub left_out: Vec<(usize, String)>,
}

/// Why a text is no catalogue at all.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CatalogueFault {
    /// It is not JSON, or breaks off.
    #[error("line {line}, column {column}: {why}")]
    Json {
        /// From 1.
        line: usize,
        /// From 1.
        column: usize,
        /// In the words of the JSON reader.
        why: String,
    },
    /// It is of a format that this program does not read.
    #[error("it is of format {0}; this lantern reads format 1")]
    Format(u32),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written<'a> {
    format: u32,
    name: String,
    #[serde(borrow)]
    releases: Vec<&'a RawValue>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenRelease {
    id: Id,
    kind: Kind,
    version: String,
    title: Option<String>,
    server: Option<String>,
    #[serde(default)]
    needs: BTreeMap<Id, String>,
    #[serde(default)]
    uses: BTreeMap<Id, String>,
    #[serde(default)]
    clashes: BTreeMap<Id, String>,
    #[serde(default)]
    provides: Vec<Id>,
    side: Option<Side>,
    world_bound: Option<bool>,
    archive: ArchiveRef,
}

/// Reads a catalogue.
///
/// # Errors
/// When the text as a whole is no catalogue; a single broken release only lands in `left_out`.
pub fn read(text: &str, notations: &Notations) -> Result<Catalogue, CatalogueFault> {
    let written: Written = serde_json::from_str(text).map_err(|error| CatalogueFault::Json {
        line: error.line(),
        column: error.column(),
        why: plain_reason(&error),
    })?;
    if written.format != 1 {
        return Err(CatalogueFault::Format(written.format));
    }
    let mut catalogue = Catalogue {
        name: written.name,
        ..Catalogue::default()
    };
    let mut places = HashMap::new();
    let mut lines = LineCounter::new(text);
    for raw in written.releases {
        let line = lines.line_of(raw.get());
        let offer = match read_release(raw.get(), notations) {
            Ok(offer) => offer,
            Err(why) => {
                catalogue.left_out.push((line, why));
                continue;
            }
        };
        let key = (offer.facts.id.clone(), offer.facts.version.clone());
        match places.get(&key) {
            None => {
                places.insert(key, (line, catalogue.offers.len()));
                catalogue.offers.push(offer);
            }
            Some((_, first)) if catalogue.offers[*first] == offer => {}
            Some((first_line, _)) => {
                let (id, version) = key;
                let why = format!("{id} {version} disagrees with the one at line {first_line}");
                catalogue.left_out.push((line, why));
            }
        }
    }
    Ok(catalogue)
}

fn read_release(text: &str, notations: &Notations) -> Result<Offer, String> {
    let written: WrittenRelease =
        serde_json::from_str(text).map_err(|error| plain_reason(&error))?;
    let id = written.id;
    let say = |error: &dyn std::fmt::Display| format!("{id} {}: {error}", written.version);
    let version = notations
        .version(written.kind, &written.version)
        .map_err(|error| say(&error))?;
    let server = match &written.server {
        Some(text) => Some(notations.server_range(text).map_err(|error| say(&error))?),
        None => None,
    };
    let needs = |table: BTreeMap<Id, String>| -> Result<Vec<Need>, String> {
        let needs = table.into_iter().map(|(id, range)| {
            let range = notations.range(&range).map_err(|error| say(&error))?;
            Ok(Need { id, range })
        });
        needs.collect()
    };
    let hash = &written.archive.blake3;
    if hash.len() != 64 || !hash.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f')) {
        return Err(say(
            &"archive.blake3 is not 64 hexadecimal digits in lower case",
        ));
    }
    let (needs, uses, clashes) = (
        needs(written.needs)?,
        needs(written.uses)?,
        needs(written.clashes)?,
    );
    Ok(Offer {
        facts: Facts {
            kind: written.kind,
            title: written.title,
            version,
            server,
            needs,
            uses,
            clashes,
            provides: written.provides,
            side: written.side,
            world_bound: written.world_bound,
            id,
        },
        archive: written.archive,
        origin: Origin::Catalogue,
    })
}

/// Counts lines once over a whole text, for slices of it in ascending order.
struct LineCounter<'a> {
    text: &'a str,
    offset: usize,
    line: usize,
}

impl<'a> LineCounter<'a> {
    fn new(text: &'a str) -> LineCounter<'a> {
        LineCounter {
            text,
            offset: 0,
            line: 1,
        }
    }

    fn line_of(&mut self, slice: &'a str) -> usize {
        let offset = slice.as_ptr() as usize - self.text.as_ptr() as usize;
        self.line += self.text[self.offset..offset].matches('\n').count();
        self.offset = offset;
        self.line
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn release(id: &str, more: &str) -> String {
        let hash = "0".repeat(64);
        format!(
            "{{\"id\":\"{id}\",\"kind\":\"addon\",\"version\":\"1.0\"{more},\"archive\":{{\"file\":\"{id}.vpk\",\"blake3\":\"{hash}\",\"bytes\":3}}}}"
        )
    }

    fn catalogue(releases: &[String]) -> String {
        format!(
            "{{\"format\":1,\"name\":\"test\",\"releases\":[\n{}\n]}}",
            releases.join(",\n")
        )
    }

    #[test]
    fn broken_releases_are_left_out_and_told() {
        let text = catalogue(&[
            release("drip-lines", ",\"needs\":{\"mist-pipes\":\"^1.2\"}"),
            release("bee-traffic", ",\"server\":\"=>5\""),
            release("sun-clock", ",\"sever\":\"5\""),
            release("drip-lines", ""),
            release("drip-lines", ",\"needs\":{\"mist-pipes\":\"^1.2\"}"),
            release("seed-vault", "").replace("00000", "zzzzz"),
        ]);
        let catalogue = read(&text, &Notations::default()).unwrap();
        assert_eq!(catalogue.offers.len(), 1);
        let told: Vec<String> = catalogue
            .left_out
            .iter()
            .map(|(l, w)| format!("{l}: {w}"))
            .collect();
        insta::assert_snapshot!(told.join("\n"), @r#"
        3: bee-traffic 1.0: "=>5" is not a range: "=>" is none of = > >= < <= ^ ~ (column 1)
        4: unknown field `sever`, expected one of `id`, `kind`, `version`, `title`, `server`, `needs`, `uses`, `clashes`, `provides`, `side`, `world_bound`, `archive`
        5: drip-lines 1.0 disagrees with the one at line 2
        7: seed-vault 1.0: archive.blake3 is not 64 hexadecimal digits in lower case
        "#);
    }

    #[test]
    fn a_text_that_is_no_catalogue_is_refused_with_its_place() {
        let whole = catalogue(&[release("drip-lines", "")]);
        let cut = read(&whole[..60], &Notations::default())
            .unwrap_err()
            .to_string();
        assert!(cut.starts_with("line 2, column"), "{cut}");
        let other = read(
            &whole.replace("\"format\":1", "\"format\":2"),
            &Notations::default(),
        );
        assert_eq!(other.unwrap_err(), CatalogueFault::Format(2));
    }
}
