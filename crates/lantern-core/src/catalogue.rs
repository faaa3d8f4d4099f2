//! Which releases are on offer, in our own JSON format.
//!
//! The format is `*.catalogue.json`, described in docs/formats/catalogue.md. One broken release is
//! left out and told; the rest stands.

use crate::artifact::Artifact;
use crate::component::{BuildFacts, Effect, Facts, Id, Kind, Member, Need, Provided, Side, Terms};
use crate::family::{Notations, RangesRead};
use crate::json::{JsonFault, plain_reason};
use crate::version::Range;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap};

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

/// A release as catalogues and saved requests write it.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct WrittenRelease {
    id: Id,
    #[serde(skip_serializing_if = "Option::is_none")]
    kind: Option<Kind>,
    version: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    title: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    server: Option<String>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    needs: BTreeMap<Id, Ranges>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    needs_any: Vec<BTreeMap<Id, Ranges>>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    uses: BTreeMap<Id, Ranges>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    clashes: BTreeMap<Id, Ranges>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    provides: Vec<WrittenProvided>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    members: Vec<WrittenMember>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    replaces: Vec<Id>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    companions: Vec<Id>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    before: Vec<Id>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    after: Vec<Id>,
    #[serde(skip_serializing_if = "Option::is_none")]
    group: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    framework: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    runtime: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    flavour: Option<String>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    takes: BTreeMap<String, u64>,
    #[serde(skip_serializing_if = "Channel::is_stable")]
    channel: Channel,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    withdrawn: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    side: Option<Side>,
    #[serde(skip_serializing_if = "Option::is_none")]
    effect: Option<Effect>,
    #[serde(skip_serializing_if = "Option::is_none")]
    world_bound: Option<bool>,
    #[serde(skip_serializing_if = "Option::is_none")]
    build: Option<WrittenBuild>,
    #[serde(skip_serializing_if = "Option::is_none")]
    archive: Option<Artifact>,
}

/// The range that is meant of a component; several where several are asked for, as by the members of a pack.
#[derive(Debug, Serialize, Deserialize)]
#[serde(untagged, expecting = "expected a range, or a list of ranges")]
enum Ranges {
    One(String),
    Several(Vec<String>),
}

impl Ranges {
    fn texts(self) -> Vec<String> {
        match self {
            Ranges::One(text) => vec![text],
            Ranges::Several(texts) => texts,
        }
    }
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenMember {
    id: Id,
    version: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    group: Option<String>,
}

/// Whether a release is meant for everybody.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Channel {
    #[default]
    Stable,
    Early,
}

impl Channel {
    fn is_stable(&self) -> bool {
        *self == Channel::Stable
    }
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(untagged)]
enum WrittenProvided {
    Any(Id),
    Versioned { id: Id, version: String },
}

#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct WrittenBuild {
    #[serde(skip_serializing_if = "Option::is_none")]
    runtime: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    flavours: Vec<String>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    has: BTreeMap<String, u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    protocol: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    worlds_from: Option<String>,
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
    let mut ranges = RangesRead::default();
    let mut spellings: HashMap<String, Id> = HashMap::new();
    let mut places = HashMap::new();
    let mut lines = LineCounter::new(text);
    for raw in written.releases {
        let line = lines.line_of(raw.get());
        let offer = match read_release(raw.get(), notations, &mut ranges) {
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

fn read_release(
    text: &str,
    notations: &Notations,
    ranges: &mut RangesRead,
) -> Result<Offer, String> {
    let mut written: WrittenRelease =
        serde_json::from_str(text).map_err(|error| plain_reason(&error))?;
    let say = format!("{} {}", written.id, written.version);
    let artifact = written
        .archive
        .take()
        .ok_or_else(|| format!("{say}: archive is missing"))?;
    let hash = &artifact.blake3;
    if hash.len() != 64 || !hash.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f')) {
        return Err(format!(
            "{say}: archive.blake3 is not 64 hexadecimal digits in lower case"
        ));
    }
    Ok(Offer {
        facts: written.facts(notations, ranges)?,
        artifact,
        origin: Origin::Catalogue,
    })
}

impl WrittenRelease {
    /// What the release says, in values.
    pub(crate) fn facts(
        self,
        notations: &Notations,
        ranges: &mut RangesRead,
    ) -> Result<Facts, String> {
        let ranges = RefCell::new(ranges);
        let (id, stated) = (self.id, self.version);
        let say = |error: &dyn std::fmt::Display| format!("{id} {stated}: {error}");
        if id.as_str().is_empty() || stated.is_empty() {
            return Err(say(&"id and version are both needed"));
        }
        let kind = self.kind.ok_or_else(|| say(&"kind is missing"))?;
        let version = notations
            .version(kind, &stated)
            .map_err(|error| say(&error))?;
        let server_range = |text: Option<String>| -> Result<Option<Range>, String> {
            text.map(|text| {
                ranges
                    .borrow_mut()
                    .server_range(notations, &text)
                    .map_err(|error| say(&error))
            })
            .transpose()
        };
        let range = |text: Option<String>| -> Result<Option<Range>, String> {
            text.map(|text| {
                ranges
                    .borrow_mut()
                    .range(notations, &text)
                    .map_err(|error| say(&error))
            })
            .transpose()
        };
        let needs = |table: BTreeMap<Id, Ranges>| -> Result<Vec<Need>, String> {
            let each = table.into_iter().flat_map(|(id, ranges)| {
                let texts = ranges.texts().into_iter();
                texts.map(move |text| (id.clone(), text))
            });
            let needs = each.map(|(id, text)| {
                let range = ranges.borrow_mut().range(notations, &text);
                let range = range.map_err(|error| say(&error))?;
                Ok(Need { id, range })
            });
            needs.collect()
        };
        let provides = self.provides.into_iter().map(|provided| match provided {
            WrittenProvided::Any(id) => Ok(Provided { id, version: None }),
            WrittenProvided::Versioned { id, version } => {
                let version = notations
                    .version(Kind::Addon, &version)
                    .map_err(|error| say(&error))?;
                Ok(Provided {
                    id,
                    version: Some(version),
                })
            }
        });
        let members = self.members.into_iter().map(|member| {
            let version = notations.version(Kind::Addon, &member.version);
            Ok(Member {
                id: member.id,
                version: version.map_err(|error| say(&error))?,
                group: member.group,
            })
        });
        let build = self.build.unwrap_or_default();
        let runtime = build.runtime.map(|text| {
            notations
                .version(Kind::Addon, &text)
                .map_err(|error| say(&error))
        });
        let needs_any: Result<Vec<Vec<Need>>, String> =
            self.needs_any.into_iter().map(needs).collect();
        let facts = Facts {
            title: self.title,
            server: server_range(self.server)?,
            needs: needs(self.needs)?,
            uses: needs(self.uses)?,
            clashes: needs(self.clashes)?,
            provides: provides.collect::<Result<_, String>>()?,
            members: members.collect::<Result<_, String>>()?,
            side: self.side,
            effect: self.effect,
            world_bound: self.world_bound,
            terms: Terms {
                needs_any: needs_any?,
                framework: range(self.framework)?,
                runtime: range(self.runtime)?,
                flavour: self.flavour,
                replaces: self.replaces,
                group: self.group,
                companions: self.companions,
                before: self.before,
                after: self.after,
                takes: self.takes,
                early: self.channel == Channel::Early,
                withdrawn: self.withdrawn,
            },
            build: BuildFacts {
                runtime: runtime.transpose()?,
                flavours: build.flavours,
                has: build.has,
                protocol: build.protocol,
                worlds_from: server_range(build.worlds_from)?,
            },
            ..Facts::new(id.clone(), kind, version)
        };
        Ok(facts)
    }

    /// Writes facts as they are read again.
    pub(crate) fn of(facts: &Facts) -> WrittenRelease {
        let table = |needs: &[Need]| -> BTreeMap<Id, Ranges> {
            let mut table: BTreeMap<Id, Vec<String>> = BTreeMap::new();
            for need in needs {
                let ranges = table.entry(need.id.clone()).or_default();
                ranges.push(need.range.to_string());
            }
            let written = |mut ranges: Vec<String>| match ranges.len() {
                1 => Ranges::One(ranges.remove(0)),
                _ => Ranges::Several(ranges),
            };
            let table = table.into_iter();
            table.map(|(id, ranges)| (id, written(ranges))).collect()
        };
        let text = |range: &Option<Range>| range.as_ref().map(ToString::to_string);
        let terms = &facts.terms;
        let provides = facts
            .provides
            .iter()
            .map(|provided| match &provided.version {
                None => WrittenProvided::Any(provided.id.clone()),
                Some(version) => WrittenProvided::Versioned {
                    id: provided.id.clone(),
                    version: version.to_string(),
                },
            });
        let members = facts.members.iter().map(|member| WrittenMember {
            id: member.id.clone(),
            version: member.version.to_string(),
            group: member.group.clone(),
        });
        let build = WrittenBuild {
            runtime: facts.build.runtime.as_ref().map(ToString::to_string),
            flavours: facts.build.flavours.clone(),
            has: facts.build.has.clone(),
            protocol: facts.build.protocol.clone(),
            worlds_from: text(&facts.build.worlds_from),
        };
        WrittenRelease {
            id: facts.id.clone(),
            kind: Some(facts.kind),
            version: facts.version.to_string(),
            title: facts.title.clone(),
            server: text(&facts.server),
            needs: table(&facts.needs),
            needs_any: terms.needs_any.iter().map(|needs| table(needs)).collect(),
            uses: table(&facts.uses),
            clashes: table(&facts.clashes),
            provides: provides.collect(),
            members: members.collect(),
            replaces: terms.replaces.clone(),
            companions: terms.companions.clone(),
            before: terms.before.clone(),
            after: terms.after.clone(),
            group: terms.group.clone(),
            framework: text(&terms.framework),
            runtime: text(&terms.runtime),
            flavour: terms.flavour.clone(),
            takes: terms.takes.clone(),
            channel: if terms.early {
                Channel::Early
            } else {
                Channel::Stable
            },
            withdrawn: terms.withdrawn,
            side: facts.side,
            effect: facts.effect,
            world_bound: facts.world_bound,
            build: (facts.kind == Kind::Build).then_some(build),
            archive: None,
        }
    }
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
        4: unknown field `sever`, expected one of `id`, `kind`, `version`, `title`, `server`, `needs`, `needs_any`, `uses`, `clashes`, `provides`, `members`, `replaces`, `companions`, `before`, `after`, `group`, `framework`, `runtime`, `flavour`, `takes`, `channel`, `withdrawn`, `side`, `effect`, `world_bound`, `build`, `archive`
        5: drip-lines 1.0 disagrees with the one at line 2
        7: seed-vault 1.0: archive.blake3 is not 64 hexadecimal digits in lower case
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
