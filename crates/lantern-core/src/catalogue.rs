//! Which releases are on offer, in our own JSON format.
//!
//! The format is `*.catalogue.json`, described in docs/formats/catalogue.md. One broken release is
//! left out and told; the rest stands.

use crate::artifact::Artifact;
use crate::component::Id;
use crate::facts::{Facts, Reading, WrittenRelease};
use crate::json::{JsonFault, plain_reason};
use crate::supply::{StatedFile, Supply};
use crate::version::Notations;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use std::collections::BTreeMap;
use std::collections::HashMap;

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
    /// What holds it.
    pub artifact: Artifact,
    /// The hash of what it lays, by which it is known where it is installed; none where that says so itself, or is the
    /// archive's own.
    pub content: Option<String>,
    /// The folder in the archive that is this one's, where that holds several.
    pub inside: Option<String>,
    /// By file, as it comes to lie or the end of that: keys of settings that have another name by now, with the old one.
    pub was: BTreeMap<String, BTreeMap<String, String>>,
    /// Where it comes from.
    pub origin: Origin,
    /// Where its file can be had; none of what was found as a file.
    pub supply: Option<Supply>,
}

impl Offer {
    /// What has to be fetched before anything can be done with it.
    pub fn to_fetch(&self) -> Option<&Supply> {
        self.supply.as_ref().filter(|_| !self.artifact.is_at_hand())
    }
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
    #[error(transparent)]
    Json(#[from] JsonFault),
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

/// Writes a catalogue; the same offers always give the same text.
pub fn write(name: &str, offers: &[Offer]) -> String {
    #[derive(Serialize)]
    struct Written<'a> {
        format: u32,
        name: &'a str,
        releases: Vec<WrittenRelease>,
    }
    let release = |offer: &Offer| {
        let mut written = WrittenRelease::of(&offer.facts);
        written.archive = Some(StatedFile::beside(&offer.artifact));
        written.content.clone_from(&offer.content);
        written.inside.clone_from(&offer.inside);
        written.was = Some(offer.was.clone()).filter(|was| !was.is_empty());
        written
    };
    let mut offers: Vec<&Offer> = offers.iter().collect();
    offers.sort_by(|a, b| (&a.facts.id, &a.facts.version).cmp(&(&b.facts.id, &b.facts.version)));
    let written = Written {
        format: 1,
        name,
        releases: offers.into_iter().map(release).collect(),
    };
    let text = serde_json::to_string_pretty(&written);
    text.expect("a catalogue has only plain values") + "\n"
}

/// Reads a catalogue.
///
/// # Errors
/// When the text as a whole is no catalogue; a single broken release only lands in `left_out`.
pub fn read(text: &str, notations: &Notations) -> Result<Catalogue, CatalogueFault> {
    let written: Written = serde_json::from_str(text).map_err(JsonFault::from)?;
    if written.format != 1 {
        return Err(CatalogueFault::Format(written.format));
    }
    let mut catalogue = Catalogue {
        name: written.name,
        ..Catalogue::default()
    };
    let mut reading = Reading::new(notations);
    let mut spellings: HashMap<String, Id> = HashMap::new();
    let mut places = HashMap::new();
    let mut lines = LineCounter::new(text);
    for raw in written.releases {
        let line = lines.line_of(raw.get());
        let offer = match read_release(raw.get(), &mut reading) {
            Ok(offer) => offer,
            Err(why) => {
                catalogue.left_out.push((line, why));
                continue;
            }
        };
        let id = &offer.facts.id;
        let spelled = spellings
            .entry(id.as_str().to_lowercase())
            .or_insert_with(|| id.clone());
        if spelled != id {
            let why = format!("the id {id} differs from {spelled} only in case");
            catalogue.left_out.push((line, why));
            continue;
        }
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

fn read_release(text: &str, reading: &mut Reading<'_>) -> Result<Offer, String> {
    let mut written: WrittenRelease =
        serde_json::from_str(text).map_err(|error| plain_reason(&error))?;
    let say = format!("{} {}", written.id, written.version);
    let archive = written.archive.take();
    let archive = archive.ok_or_else(|| format!("{say}: archive is missing"))?;
    let (artifact, supply) = archive.read().map_err(|why| format!("{say}: {why}"))?;
    let content = written.content.take();
    let inside = written.inside.take();
    let was = written.was.take().unwrap_or_default();
    let no_hash = |hash: &str| {
        hash.len() != 64 || !hash.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f'))
    };
    if content.as_ref().is_some_and(|hash| no_hash(hash)) {
        return Err(format!(
            "{say}: content is not 64 hexadecimal digits in lower case"
        ));
    }
    Ok(Offer {
        facts: written.facts(reading)?,
        artifact,
        content,
        inside,
        was,
        origin: Origin::Catalogue,
        supply: Some(supply),
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
            "{{\"id\":\"{id}\",\"kind\":\"addon\",\"version\":\"1.0\"{more},\"archive\":{{\"file\":\"{id}.bloom\",\"blake3\":\"{hash}\",\"bytes\":3}}}}"
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
            release("Drip-Lines", ""),
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
        4: unknown field `sever`, expected one of `id`, `kind`, `version`, `build`, `archive`, `content`, `inside`, `was`, `title`, `server`, `framework`, `runtime`, `flavour`, `needs`, `needs_installed`, `needs_any`, `uses`, `clashes`, `provides`, `replaces`, `companions`, `before`, `after`, `arguments`, `members`, `group`, `takes`, `side`, `effect`, `world_bound`, `channel`, `withdrawn`
        5: drip-lines 1.0 disagrees with the one at line 2
        7: seed-vault 1.0: archive.blake3 is not 64 hexadecimal digits
        8: the id Drip-Lines differs from drip-lines only in case
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
