//! Which releases are on offer, in our own JSON format.
//!
//! The format is `*.catalogue.json`, described in docs/formats/catalogue.md. One broken release is
//! left out and told; the rest stands.
//!
//! A catalogue may hold a hundred times what concerns one server. So it is opened first, which finds out where in the text
//! each release stands and what it is called; then only those are read that take part.

use crate::component::{Id, Kind, players_with};
use crate::facts::{Facts, OneRelease, Reading, WrittenRelease};
use crate::json::{JsonFault, plain_reason};
use crate::offer::{Lays, Offer, Origin};
use crate::supply::{HashKind, StatedFile};
use crate::version::Notations;
use foldhash::{HashMap, HashSet};
use serde::de::{DeserializeSeed, IgnoredAny};
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

/// A catalogue whose releases are found, and not yet read.
#[derive(Debug)]
pub struct Catalogue {
    /// The catalogue's own name.
    pub name: String,
    text: String,
    /// In the catalogue's order.
    releases: Vec<Found>,
    /// By their ids in lower case.
    by_id: HashMap<String, Vec<u32>>,
    /// By each further id that they stand for, and by the [players](players_with) whom they let in.
    standing_in: HashMap<Id, Vec<u32>>,
    /// By the beginning of each hash that they state, in ascending order.
    by_hash: Vec<(u64, u32)>,
    /// Which hashes are stated of files that no BLAKE3 is stated of.
    other_hashes: BTreeSet<HashKind>,
    /// Builds and frameworks, and those that do not say what they are.
    always: Vec<u32>,
}

/// A release in a catalogue's text.
#[derive(Debug)]
struct Found {
    at: Range<usize>,
    /// As it is spelled there.
    id: Id,
}

/// What was read of a catalogue, and what of it could not be used.
#[derive(Debug, Default)]
pub struct Releases {
    /// Those that could be read, in the catalogue's order.
    pub offers: Vec<Offer>,
    /// Those left out: line of the file, and why.
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
#[serde(deny_unknown_fields, expecting = "a catalogue")]
struct Written<'a> {
    format: u32,
    name: String,
    #[serde(borrow)]
    releases: Vec<&'a RawValue>,
}

/// As much of a release as tells whether it takes part. What is spelled with escapes is not followed here: that is read.
#[derive(Deserialize)]
struct Outline<'a> {
    id: &'a str,
    kind: Kind,
    content: Option<&'a str>,
    #[serde(borrow, default)]
    archive: OutlineFile<'a>,
    #[serde(borrow, default)]
    provides: Vec<OutlineId<'a>>,
    #[serde(borrow, default)]
    replaces: Vec<&'a str>,
    #[serde(borrow, default)]
    members: Vec<OutlineId<'a>>,
    #[serde(borrow, default)]
    admits: BTreeMap<&'a str, IgnoredAny>,
}

#[derive(Default, Deserialize)]
#[serde(default)]
struct OutlineFile<'a> {
    blake3: Option<&'a str>,
    sha512: Option<&'a str>,
    sha256: Option<&'a str>,
    sha1: Option<&'a str>,
    md5: Option<&'a str>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum OutlineId<'a> {
    Plain(&'a str),
    Long { id: &'a str },
}

impl<'a> Outline<'a> {
    /// For what else it stands.
    fn others(&self) -> impl Iterator<Item = &'a str> {
        let ids = self
            .provides
            .iter()
            .chain(&self.members)
            .map(|id| match id {
                OutlineId::Plain(id) | OutlineId::Long { id } => *id,
            });
        ids.chain(self.replaces.iter().copied())
    }

    /// Of its file and of what it lays.
    fn hashes(&self) -> impl Iterator<Item = &'a str> {
        let of_file = self.archive.hashes().map(|(_, hash)| hash);
        of_file.chain(self.content)
    }
}

impl<'a> OutlineFile<'a> {
    fn hashes(&self) -> impl Iterator<Item = (HashKind, &'a str)> {
        let stated = [
            (HashKind::Blake3, self.blake3),
            (HashKind::Sha512, self.sha512),
            (HashKind::Sha256, self.sha256),
            (HashKind::Sha1, self.sha1),
            (HashKind::Md5, self.md5),
        ];
        let stated = stated.into_iter();
        stated.filter_map(|(kind, hash)| Some((kind, hash?)))
    }
}

/// The first 64 bits of a hash; none of what is no hash.
fn beginning(hash: &str) -> Option<u64> {
    u64::from_str_radix(hash.get(..16)?, 16).ok()
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
        written.content = offer.content().map(Box::from);
        written.inside = offer.inside().map(Box::from);
        let was = offer.was().filter(|was| !was.is_empty());
        written.was = was.cloned().map(Box::new);
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

impl Catalogue {
    /// Opens a catalogue.
    ///
    /// # Errors
    /// When the text as a whole is no catalogue.
    pub fn open(text: String) -> Result<Catalogue, CatalogueFault> {
        let written: Written = serde_json::from_str(&text).map_err(JsonFault::from)?;
        if written.format != 1 {
            return Err(CatalogueFault::Format(written.format));
        }
        let mut catalogue = Catalogue {
            name: written.name,
            text: String::new(),
            releases: Vec::with_capacity(written.releases.len()),
            by_id: HashMap::default(),
            standing_in: HashMap::default(),
            by_hash: Vec::with_capacity(written.releases.len()),
            other_hashes: BTreeSet::new(),
            always: Vec::new(),
        };
        let mut known: Option<Id> = None;
        for (number, raw) in (0..).zip(written.releases) {
            let begin = raw.get().as_ptr() as usize - text.as_ptr() as usize;
            let outline: Option<Outline> = serde_json::from_str(raw.get()).ok();
            // Releases of one component mostly follow each other.
            let id = outline.as_ref().map_or("", |outline| outline.id).trim();
            let id = known.take().filter(|known| known.as_str() == id);
            let id = id.unwrap_or_else(|| Id::new(outline.as_ref().map_or("", |it| it.id)));
            match &outline {
                Some(outline) => catalogue.note(number, &id, outline),
                None => catalogue.always.push(number),
            }
            let at = begin..begin + raw.get().len();
            known = Some(id.clone());
            catalogue.releases.push(Found { at, id });
        }
        catalogue.by_hash.sort_unstable();
        catalogue.text = text;
        Ok(catalogue)
    }

    fn note(&mut self, number: u32, id: &Id, outline: &Outline<'_>) {
        let by_id = self.by_id.entry(id.as_str().to_lowercase());
        by_id.or_default().push(number);
        for other in outline.others() {
            let standing_in = self.standing_in.entry(Id::new(other));
            standing_in.or_default().push(number);
        }
        for client in outline.admits.keys() {
            let letting_in = self.standing_in.entry(players_with(client));
            letting_in.or_default().push(number);
        }
        let hashes = outline.hashes().filter_map(beginning);
        self.by_hash.extend(hashes.map(|hash| (hash, number)));
        if outline.archive.blake3.is_none() {
            let kinds = outline.archive.hashes().map(|(kind, _)| kind);
            self.other_hashes.extend(kinds);
        }
        if matches!(outline.kind, Kind::Build | Kind::Framework) {
            self.always.push(number);
        }
    }

    /// All ids that it names.
    pub fn ids(&self) -> impl Iterator<Item = &Id> {
        let first = self.by_id.values().filter_map(|numbers| numbers.first());
        first.map(|number| &self.releases[*number as usize].id)
    }

    /// Which hashes it states of files that it states no BLAKE3 of.
    pub fn other_hashes(&self) -> &BTreeSet<HashKind> {
        &self.other_hashes
    }

    /// Reads all of it.
    pub fn all(&self, notations: &Notations) -> Releases {
        let mut reading = Reading::new(notations);
        let all =
            (0..self.releases.len() as u32).map(|number| (number, self.read(number, &mut reading)));
        self.agreed(all)
    }

    /// The releases that state a hash, in lower case, of their file or of what it lays.
    pub fn of_hash(&self, hash: &str, notations: &Notations) -> Vec<Offer> {
        let Some(begin) = beginning(hash) else {
            return Vec::new();
        };
        let first = self.by_hash.partition_point(|(known, _)| *known < begin);
        let same = self.by_hash[first..]
            .iter()
            .take_while(|(known, _)| *known == begin);
        let mut reading = Reading::new(notations);
        let read = same.filter_map(|(_, number)| self.read(*number, &mut reading).ok());
        let states = |offer: &Offer| {
            let mut checks = offer.supply.iter().flat_map(|supply| &supply.checks);
            offer.content() == Some(hash) || checks.any(|check| check.hex == hash)
        };
        read.filter(states).collect()
    }

    fn read(&self, number: u32, reading: &mut Reading<'_>) -> Result<Offer, String> {
        let at = self.releases[number as usize].at.clone();
        read_release(&self.text[at], reading)
    }

    /// What stands of some releases, given in ascending order: not two that differ, nor two spellings of one id.
    fn agreed(&self, read: impl Iterator<Item = (u32, Result<Offer, String>)>) -> Releases {
        let mut offers: Vec<Offer> = Vec::new();
        let mut left_out: Vec<(u32, Left)> = Vec::new();
        let mut spellings: HashMap<String, Id> = HashMap::default();
        let mut places = HashMap::default();
        for (number, offer) in read {
            let offer = match offer {
                Ok(offer) => offer,
                Err(why) => {
                    left_out.push((number, Left::Because(why)));
                    continue;
                }
            };
            let id = &offer.facts.id;
            let spelled = spellings.entry(id.as_str().to_lowercase());
            let spelled = spelled.or_insert_with(|| id.clone());
            if spelled != id {
                let why = format!("the id {id} differs from {spelled} only in case");
                left_out.push((number, Left::Because(why)));
                continue;
            }
            match places.entry((id.clone(), offer.facts.version.clone())) {
                Entry::Vacant(place) => {
                    place.insert((number, offers.len()));
                    offers.push(offer);
                }
                Entry::Occupied(known) => {
                    let (first, at) = *known.get();
                    if offers[at] != offer {
                        let (id, version) = known.key();
                        let what = format!("{id} {version}");
                        left_out.push((number, Left::Disagrees(what, first)));
                    }
                }
            }
        }
        let lines = self.lines(left_out.iter().flat_map(|(number, why)| match why {
            Left::Because(_) => [*number, *number],
            Left::Disagrees(_, first) => [*first, *number],
        }));
        let said = left_out.into_iter().map(|(number, why)| {
            let why = match why {
                Left::Because(why) => why,
                Left::Disagrees(what, first) => {
                    format!("{what} disagrees with the one at line {}", lines[&first])
                }
            };
            (lines[&number], why)
        });
        Releases {
            left_out: said.collect(),
            offers,
        }
    }

    /// In which line of the text each of some releases begins.
    fn lines(&self, numbers: impl Iterator<Item = u32>) -> BTreeMap<u32, usize> {
        let mut lines: BTreeMap<u32, usize> = numbers.map(|number| (number, 1)).collect();
        let (mut seen, mut passed) = (0, 1);
        for (number, line) in &mut lines {
            let begin = self.releases[*number as usize].at.start;
            let between = self.text[seen..begin].bytes();
            passed += between.filter(|byte| *byte == b'\n').count();
            (seen, *line) = (begin, passed);
        }
        lines
    }
}

/// Why a release was left out.
enum Left {
    Because(String),
    /// It is another one than that of the same version before it.
    Disagrees(String, u32),
}

/// Reads what of several catalogues concerns some components: their releases, those that they need or could need, and
/// whatever stands in for any of them, in whichever catalogue it is. Builds and frameworks always do. `besides` is what is on
/// offer elsewhere: what of that takes part leads on.
pub fn concerning<'a>(
    catalogues: &[&Catalogue],
    ids: impl Iterator<Item = &'a Id>,
    besides: &[&Facts],
    notations: &Notations,
) -> Vec<Releases> {
    let mut reading = Reading::new(notations);
    let mut elsewhere: HashMap<&Id, Vec<&Facts>> = HashMap::default();
    for facts in besides {
        for (id, _) in facts.stands_for() {
            elsewhere.entry(id).or_default().push(facts);
        }
    }
    let mut read: Vec<BTreeMap<u32, Result<Offer, String>>> =
        vec![BTreeMap::new(); catalogues.len()];
    let mut queue: Vec<Id> = ids.cloned().collect();
    for (catalogue, read) in catalogues.iter().zip(&mut read) {
        for number in &catalogue.always {
            let offer = catalogue.read(*number, &mut reading);
            if let Ok(offer) = &offer {
                queue.push(offer.facts.id.clone());
                queue.extend(offer.facts.leads_to().cloned());
            }
            read.insert(*number, offer);
        }
    }
    let mut met: HashSet<Id> = HashSet::default();
    while let Some(id) = queue.pop() {
        if !met.insert(id.clone()) {
            continue;
        }
        for facts in elsewhere.get(&id).into_iter().flatten() {
            queue.push(facts.id.clone());
            queue.extend(facts.leads_to().cloned());
        }
        for (catalogue, read) in catalogues.iter().zip(&mut read) {
            let standing_in = catalogue.standing_in.get(&id).into_iter().flatten();
            queue.extend(standing_in.map(|number| catalogue.releases[*number as usize].id.clone()));
            let own = catalogue.by_id.get(&id.as_str().to_lowercase());
            for number in own.into_iter().flatten() {
                let offer = read
                    .entry(*number)
                    .or_insert_with(|| catalogue.read(*number, &mut reading));
                if let Ok(offer) = offer {
                    queue.extend(offer.facts.leads_to().cloned());
                }
            }
        }
    }
    let all = catalogues.iter().zip(read);
    all.map(|(catalogue, read)| catalogue.agreed(read.into_iter()))
        .collect()
}

fn read_release(text: &str, reading: &mut Reading<'_>) -> Result<Offer, String> {
    let read = OneRelease(reading).deserialize(&mut serde_json::Deserializer::from_str(text));
    let read = read.map_err(|error| plain_reason(&error))??;
    let facts = read.facts;
    let say = |why: &str| format!("{} {}: {why}", facts.id, facts.version);
    let archive = read.archive.ok_or_else(|| say("archive is missing"))?;
    let (artifact, supply) = archive.read().map_err(|why| say(&why))?;
    let lays = Lays {
        content: read.content,
        inside: read.inside,
        was: read.was.unwrap_or_default(),
    };
    let no_hash = |hash: &str| {
        hash.len() != 64 || !hash.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f'))
    };
    if lays.content.as_ref().is_some_and(|hash| no_hash(hash)) {
        return Err(say("content is not 64 hexadecimal digits in lower case"));
    }
    Ok(Offer {
        artifact: Arc::new(artifact),
        lays: lays.stated(),
        origin: Origin::Catalogue,
        supply: Some(Box::new(supply)),
        facts,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::version::{Notation, Version};

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
        let catalogue = Catalogue::open(text).unwrap();
        let catalogue = catalogue.all(&Notations::default());
        assert_eq!(catalogue.offers.len(), 1);
        let told: Vec<String> = catalogue
            .left_out
            .iter()
            .map(|(l, w)| format!("{l}: {w}"))
            .collect();
        insta::assert_snapshot!(told.join("\n"), @r#"
        3: bee-traffic 1.0: "=>5" is not a range: "=>" is none of = > >= < <= ^ ~ (column 1)
        4: unknown field `sever`, expected one of `id`, `kind`, `version`, `build`, `archive`, `content`, `inside`, `was`, `server`, `needs`, `uses`, `clashes`, `side`, `effect`, `world_bound`, `channel`, `withdrawn`, `title`, `framework`, `runtime`, `flavour`, `needs_installed`, `needs_any`, `uses_provided`, `clashes_provided`, `provides`, `replaces`, `companions`, `before`, `after`, `arguments`, `members`, `group`, `takes`, `admits`
        5: drip-lines 1.0 disagrees with the one at line 2
        7: seed-vault 1.0: archive.blake3 is not 64 hexadecimal digits
        8: the id Drip-Lines differs from drip-lines only in case
        "#);
    }

    #[test]
    fn a_text_that_is_no_catalogue_is_refused_with_its_place() {
        let whole = catalogue(&[release("drip-lines", "")]);
        let cut = Catalogue::open(whole[..60].to_owned());
        let cut = cut.unwrap_err().to_string();
        assert!(cut.starts_with("line 2, column"), "{cut}");
        let other = Catalogue::open(whole.replace("\"format\":1", "\"format\":2"));
        assert_eq!(other.unwrap_err(), CatalogueFault::Format(2));
    }

    #[test]
    fn only_what_concerns_a_server_is_read() {
        let many = [
            release("drip-lines", ",\"needs\":{\"mist-pipes\":\"*\"}"),
            release("mist-pipes", ",\"needs_any\":[{\"resin\":\"*\"}]"),
            release(
                "amber",
                ",\"provides\":[{\"id\":\"resin\",\"version\":\"1.0\"}]",
            ),
            release("sun-clock", ""),
            release("sun-dial", ",\"replaces\":[\"sun-clock\"]"),
            release("heirloom", "").replace("addon", "framework"),
            release("bee-traffic", ",\"server\":\"=>5\""),
            release("seed-vault", "").replace("seed", "\\u0073eed"),
            release("old-guard", ",\"sever\":\"5\""),
            release(
                "medley",
                ",\"members\":[{\"id\":\"moss\",\"version\":\"1\"}]",
            ),
        ];
        let other = [release("mist-pipes", "").replace("1.0", "1.1")];
        let one = Catalogue::open(catalogue(&many)).unwrap();
        let two = Catalogue::open(catalogue(&other)).unwrap();
        let named = |ids: &[&str]| {
            let ids: Vec<Id> = ids.iter().map(|id| Id::new(id)).collect();
            let read = concerning(&[&one, &two], ids.iter(), &[], &Notations::default());
            let said = read.iter().map(|read| {
                let ids = read.offers.iter().map(|it| it.facts.id.to_string());
                let lines = read.left_out.iter().map(|(line, _)| format!("line {line}"));
                ids.chain(lines).collect::<Vec<_>>().join(" ")
            });
            said.collect::<Vec<_>>().join(" / ")
        };
        let cases: [(&[&str], &str); 6] = [
            (&[], "heirloom seed-vault / "),
            (
                &["drip-lines"],
                "drip-lines mist-pipes amber heirloom seed-vault / mist-pipes",
            ),
            (&["sun-clock"], "sun-clock sun-dial heirloom seed-vault / "),
            (&["bee-traffic"], "heirloom seed-vault line 8 / "),
            (&["old-guard"], "heirloom seed-vault line 10 / "),
            (&["moss"], "heirloom seed-vault medley / "),
        ];
        for (ids, expected) in cases {
            assert_eq!(named(ids), expected, "{ids:?}");
        }
        let ids: Vec<&str> = one.ids().map(Id::as_str).collect();
        assert_eq!(ids.len(), 9, "{ids:?}");
    }

    #[test]
    fn what_leads_on_stands_elsewhere_too() {
        let catalogue = Catalogue::open(catalogue(&[release("mist-pipes", "")])).unwrap();
        let mut facts = Facts::new(
            Id::new("drip-lines"),
            Kind::Addon,
            Version::parse("1", Notation::default()).unwrap(),
        );
        facts.companions.push(Id::new("mist-pipes"));
        let read = |besides: &[&Facts]| {
            let ids = [Id::new("drip-lines")];
            let read = concerning(&[&catalogue], ids.iter(), besides, &Notations::default());
            read[0].offers.len()
        };
        assert_eq!((read(&[]), read(&[&facts])), (0, 1));
    }

    #[test]
    fn a_release_is_found_by_any_of_its_hashes() {
        let hash = "5".repeat(40);
        let stated = format!(
            "\"archive\":{{\"sha1\":\"{hash}\",\"urls\":[\"https://depot.verdance.example/a\"]}}"
        );
        let plain = release("drip-lines", "");
        let begin = plain.find("\"archive\"").unwrap();
        let one = format!("{}{stated}}}", &plain[..begin]);
        let content = format!(",\"content\":\"{}\"", "7".repeat(64));
        let catalogue = catalogue(&[one, release("sun-clock", &content)]);
        let catalogue = Catalogue::open(catalogue).unwrap();
        let of = |hash: &str| {
            let known = catalogue.of_hash(hash, &Notations::default());
            known
                .iter()
                .map(|it| it.facts.id.to_string())
                .collect::<Vec<_>>()
        };
        assert_eq!(of(&hash), ["drip-lines"]);
        assert_eq!(of(&"7".repeat(64)), ["sun-clock"]);
        assert_eq!(of(&"0".repeat(64)), ["sun-clock"]);
        assert!(of(&"5".repeat(64)).is_empty() && of("").is_empty());
        assert_eq!(*catalogue.other_hashes(), BTreeSet::from([HashKind::Sha1]));
    }
}
