//! A request as a file (`*.request.json`), to be answered again without its server.
//!
//! docs/formats/request.md lists every key.

mod lists;

use super::{Learned, Policy, Prefer, Request, Target};
use crate::component::{ClientVersion, Id, Kind, Need};
use crate::facts::{Facts, WrittenRelease, stated_notation};
use crate::json::JsonFault;
use crate::offer::Origin;
use crate::version::{Notations, Range, Version};
use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use lists::{Lists, WithLists};
use serde::de::DeserializeSeed;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::sync::Arc;

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields, expecting = "a request")]
struct Written<Versions, Installed, Offers> {
    format: u32,
    versions: Versions,
    target: WrittenTarget,
    build: Id,
    #[serde(default)]
    build_outside: bool,
    #[serde(default)]
    given: BTreeSet<Id>,
    installed: Installed,
    offers: Offers,
    #[serde(default)]
    add: BTreeSet<Id>,
    #[serde(default)]
    drop: BTreeSet<Id>,
    #[serde(default)]
    keep: Vec<WrittenKeep>,
    #[serde(default)]
    only: BTreeSet<Id>,
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    again: BTreeSet<Id>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    admit: Vec<WrittenClient>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    learned: Vec<WrittenLearned>,
    #[serde(default)]
    allow_early: bool,
    #[serde(default)]
    allow_untested: bool,
    #[serde(default)]
    prefer_newest: bool,
    #[serde(default = "usual_effort")]
    effort: u64,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    all_remedies: bool,
}

fn usual_effort() -> u64 {
    super::EFFORT
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum WrittenTarget {
    Version(String),
    Range(String),
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenHeld<Release> {
    release: Release,
    #[serde(default)]
    droppable: bool,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    off: bool,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    switched: bool,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenOffer<Release> {
    release: Release,
    #[serde(default)]
    by_hand: bool,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenKeep {
    id: Id,
    version: Option<String>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenLearned {
    id: Id,
    version: String,
    on: String,
    other: Id,
    other_version: String,
    since: String,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenClient {
    client: String,
    version: String,
}

/// Why a text is no request.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RequestFault {
    /// It is not JSON, breaks off, or has keys that a request does not have.
    #[error(transparent)]
    Json(#[from] JsonFault),
    /// It is of a format that this program does not read.
    #[error("it is of format {0}; this lantern reads format 1")]
    Format(u32),
    /// A version, range or release in it makes no sense.
    #[error("{0}")]
    Sense(String),
}

impl Request {
    /// The components that can take part in an answer: what is installed or asked for, what these need or
    /// could need, and whatever stands in for any of them.
    ///
    /// A catalogue may hold a hundred times as many.
    pub fn relevant(&self) -> HashSet<Id> {
        let mut releases: HashMap<&Id, Vec<&Facts>> = HashMap::new();
        let mut stand_ins: HashMap<&Id, Vec<&Id>> = HashMap::new();
        let held = self.held.iter().map(|held| &held.facts);
        for facts in held.chain(self.offers.iter().map(|offer| &offer.facts)) {
            releases.entry(&facts.id).or_default().push(facts);
            for (id, _) in facts.stands_for() {
                stand_ins.entry(id).or_default().push(&facts.id);
            }
        }
        let by_hand = self
            .offers
            .iter()
            .filter(|offer| offer.origin == Origin::DropFolder);
        let mut queue: Vec<&Id> = self.held.iter().map(|held| &held.facts.id).collect();
        queue.extend(by_hand.map(|offer| &offer.facts.id));
        queue.extend(self.add.iter().chain([&self.build]));
        let frameworks = self
            .offers
            .iter()
            .filter(|offer| offer.facts.kind == Kind::Framework);
        queue.extend(frameworks.map(|offer| &offer.facts.id));
        let bridges = self
            .offers
            .iter()
            .filter(|offer| self.admit.values().any(|it| offer.facts.lets_in(it)));
        queue.extend(bridges.map(|offer| &offer.facts.id));
        let mut found: HashSet<Id> = HashSet::new();
        while let Some(id) = queue.pop() {
            if !found.insert(id.clone()) {
                continue;
            }
            queue.extend(stand_ins.get(id).into_iter().flatten());
            for facts in releases.get(id).into_iter().flatten() {
                queue.extend(facts.leads_to());
            }
        }
        found
    }

    /// Writes the request; `notations` are those that its versions are written in.
    ///
    /// Where archives lie is left out: a request is there to be answered, not carried out.
    pub fn to_json(&self, notations: &Notations) -> String {
        let written = Written {
            format: 1,
            versions: notations,
            target: match &self.target {
                Target::One(version) => WrittenTarget::Version(version.to_string()),
                Target::Within(range) => WrittenTarget::Range(range.to_string()),
            },
            build: self.build.clone(),
            build_outside: self.build_outside,
            given: self.given.clone(),
            installed: self
                .held
                .iter()
                .map(|held| WrittenHeld {
                    release: WrittenRelease::of(&held.facts),
                    droppable: held.droppable,
                    off: held.off,
                    switched: held.switched,
                })
                .collect::<Vec<_>>(),
            offers: self
                .offers
                .iter()
                .map(|offer| WrittenOffer {
                    release: WrittenRelease::of(&offer.facts),
                    by_hand: offer.origin == Origin::DropFolder,
                })
                .collect::<Vec<_>>(),
            add: self.add.clone(),
            drop: self.drop.clone(),
            keep: self
                .keep
                .iter()
                .map(|(id, version)| WrittenKeep {
                    id: id.clone(),
                    version: version.as_ref().map(ToString::to_string),
                })
                .collect(),
            only: self.only.clone(),
            again: self.again.clone(),
            admit: self
                .admit
                .values()
                .map(|players| WrittenClient {
                    client: players.client.clone(),
                    version: players.version.to_string(),
                })
                .collect(),
            learned: self
                .learned
                .iter()
                .map(|learned| WrittenLearned {
                    id: learned.id.clone(),
                    version: learned.version.to_string(),
                    on: learned.on.to_string(),
                    other: learned.other.id.clone(),
                    other_version: learned.other.range.to_string(),
                    since: learned.since.clone(),
                })
                .collect(),
            allow_early: self.policy.early,
            allow_untested: self.policy.untested,
            prefer_newest: self.policy.prefer == Prefer::Newest,
            effort: self.policy.effort,
            all_remedies: self.policy.all_remedies,
        };
        let mut text = serde_json::to_string(&written).expect("a request has only plain values");
        text.push('\n');
        text
    }

    /// Reads a request; also returns the notations that its versions are written in.
    ///
    /// # Errors
    /// On anything that is not as docs/formats/request.md says.
    pub fn from_json(text: &str) -> Result<(Request, Notations), RequestFault> {
        let mut lists = Lists::within(text);
        let mut json = serde_json::Deserializer::from_str(text);
        let written = WithLists(&mut lists).deserialize(&mut json);
        let written = written.map_err(JsonFault::from)?;
        json.end().map_err(JsonFault::from)?;
        if written.format != 1 {
            return Err(RequestFault::Format(written.format));
        }
        let (held, offers, notations) = lists.read(text)?;
        let sense = RequestFault::Sense;
        let server = |text: &str| {
            let version = Version::parse(text, notations.server);
            version.map_err(|fault| sense(fault.to_string()))
        };
        let target = match &written.target {
            WrittenTarget::Version(text) => Target::One(server(text)?),
            WrittenTarget::Range(text) => {
                let range = notations.server_range(text);
                Target::Within(range.map_err(|fault| sense(fault.to_string()))?)
            }
        };
        let version_of = |id: &Id, text: &str| {
            let notation = match *id == written.build {
                true => notations.server,
                false => notations.components,
            };
            Version::parse(text, notation).map_err(|fault| sense(fault.to_string()))
        };
        let keep = written.keep.into_iter().map(|keep| {
            let version = keep.version.map(|text| version_of(&keep.id, &text));
            Ok((keep.id, version.transpose()?))
        });
        let admit = written.admit.into_iter().map(|players| {
            let held = held.iter().map(|held| &held.facts);
            let all = held.chain(offers.iter().map(|offer| &offer.facts));
            let stated = stated_notation(&players.client, all);
            let version = notations.client_version(&players.client, stated, &players.version);
            let players = ClientVersion {
                version: version.map_err(|fault| sense(fault.to_string()))?,
                client: players.client,
            };
            Ok((players.wish(), players))
        });
        let admit = admit.collect::<Result<_, RequestFault>>()?;
        let learned = written.learned.into_iter().map(|learned| {
            let other = version_of(&learned.other, &learned.other_version)?;
            Ok(Learned {
                version: version_of(&learned.id, &learned.version)?,
                on: server(&learned.on)?,
                id: learned.id,
                other: Need {
                    id: learned.other,
                    range: Range::exactly(other),
                },
                since: learned.since,
            })
        });
        let learned = learned.collect::<Result<_, RequestFault>>()?;
        let request = Request {
            target,
            build_outside: written.build_outside,
            held: Arc::new(held),
            offers: Arc::new(offers),
            given: written.given,
            add: written.add,
            drop: written.drop,
            keep: keep.collect::<Result<_, RequestFault>>()?,
            only: written.only,
            again: written.again,
            admit,
            learned,
            policy: Policy {
                early: written.allow_early,
                untested: written.allow_untested,
                prefer: match written.prefer_newest {
                    true => Prefer::Newest,
                    false => Prefer::Settled,
                },
                effort: written.effort,
                all_remedies: written.all_remedies,
            },
            build: written.build,
        };
        Ok((request, notations))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HEAD: &str = r#""format":1,"versions":{},"target":{"version":"2"},"build":"hearth""#;

    fn held(release: &str) -> String {
        format!(r#""installed":[{{"release":{release}}}]"#)
    }

    fn with(lists: &[&str]) -> Result<(Request, Notations), RequestFault> {
        Request::from_json(&format!("{{{}}}", lists.join(",\n")))
    }

    const MOSS: &str = r#"{"id":"moss","kind":"addon","version":"1","server":">=1 <3","needs":{"fern":["<9",">=2"],"aster":"1.x"}}"#;

    #[test]
    fn the_order_of_keys_does_not_matter() {
        let (installed, offers) = (held(MOSS), format!(r#""offers":[{{"release":{MOSS}}}]"#));
        let usual = with(&[HEAD, &installed, &offers]).unwrap();
        let turned = with(&[&offers, &installed, HEAD]).unwrap();
        assert_eq!(usual.0.to_json(&usual.1), turned.0.to_json(&turned.1));
        let needs = usual.0.offers[0].facts.needs.iter();
        let needs = needs.map(|need| format!("{} {}", need.id, need.range));
        assert_eq!(
            needs.collect::<Vec<_>>(),
            ["aster 1.x", "fern <9", "fern >=2"]
        );
        assert_eq!(usual.0.held[0].facts, usual.0.offers[0].facts);
    }

    #[test]
    fn a_fault_says_where_it_is_and_of_what() {
        let faults = [
            r#"{"id":"moss","kind":"addon"}"#,
            r#"{"id":"moss","version":"1"}"#,
            r#"{"id":"moss","kind":"addon","version":"1 2"}"#,
            r#"{"needs":{"fern":">>1"},"id":"moss","kind":"addon","version":"1"}"#,
            r#"{"id":"moss","kind":"addon","version":"1","needs":{"fern":1}}"#,
            r#"{"id":"moss","kind":"addon","version":"1","needs":["fern"]}"#,
            r#"{"id":"moss","kind":"addon","version":"1","needs":{},"needs":{}}"#,
            r#"{"id":"moss","kind":"addon","version":"1","need":{}}"#,
            r#"{"id":"hearth","kind":"build","version":"1","build":{"worlds_from":">>1"}}"#,
            r#"{"id":"hearth","kind":"build","version":"1","build":{"needs":{}}}"#,
            r#""moss""#,
        ];
        let told = faults.map(|release| {
            let installed = held(release);
            let usual = with(&[HEAD, &installed, r#""offers":[]"#]).unwrap_err();
            let first = with(&[&installed, HEAD, r#""offers":[]"#]).unwrap_err();
            let (RequestFault::Json(usual), RequestFault::Json(first)) = (&usual, &first) else {
                panic!("{usual} {first}");
            };
            assert_eq!((&usual.why, usual.line - 1), (&first.why, first.line));
            usual.to_string()
        });
        insta::assert_snapshot!(told.join("\n"), @r#"
        line 2, column 53: moss: version is missing
        line 2, column 52: moss 1: kind is missing
        line 2, column 69: moss 1 2: "1 2" is not a version: a blank or control character stands in it
        line 2, column 90: moss 1: fern: ">>1" is not a range: ">>" is none of = > >= < <= ^ ~ (column 1)
        line 2, column 83: invalid type: integer `1`, expected a range, or a list of ranges
        line 2, column 74: invalid type: sequence, expected ids with ranges
        line 2, column 84: duplicate field `needs`
        line 2, column 72: unknown field `need`, expected one of `id`, `kind`, `version`, `build`, `archive`, `content`, `inside`, `was`, `server`, `needs`, `uses`, `clashes`, `side`, `effect`, `world_bound`, `channel`, `withdrawn`, `title`, `framework`, `runtime`, `flavour`, `needs_installed`, `needs_any`, `uses_provided`, `clashes_provided`, `provides`, `replaces`, `companions`, `before`, `after`, `arguments`, `members`, `group`, `takes`, `admits`
        line 2, column 99: hearth 1: ">>1" is not a range: ">>" is none of = > >= < <= ^ ~ (column 1)
        line 2, column 84: unknown field `needs`, expected one of `runtime`, `flavours`, `has`, `protocol`, `worlds_from`
        line 2, column 30: invalid type: string "moss", expected a release
        "#);
        let lists = [
            &[HEAD, r#""installed":{},"offers":[]"#][..],
            &[HEAD, r#""installed":[]"#],
            &[HEAD, r#""installed":[{"release":null}],"offers":[]"#],
            &[HEAD, r#""installed":[{}],"offers":[]"#],
            &[HEAD, r#""installed":[{"off":true,"held":1}],"offers":[]"#],
            &[HEAD, r#""installed":[],"installed":[],"offers":[]"#],
            &[HEAD, r#""instaled":[],"offers":[]"#],
            &[HEAD, r#""installed":[],"offers":[]}, {"#],
            &[r#""installed":[],"offers":[]"#],
        ];
        let told = lists.map(|lists| with(lists).unwrap_err().to_string());
        insta::assert_snapshot!(told.join("\n"), @"
        line 2, column 12: invalid type: map, expected a list, each of it an installed component
        line 2, column 15: missing field `offers`
        line 2, column 28: invalid type: null, expected a release
        line 2, column 15: missing field `release`
        line 2, column 31: unknown field `held`, expected one of `release`, `droppable`, `off`, `switched`
        line 2, column 29: duplicate field `installed`
        line 2, column 10: unknown field `instaled`, expected one of `format`, `versions`, `target`, `build`, `build_outside`, `given`, `installed`, `offers`, `add`, `drop`, `keep`, `only`, `again`, `admit`, `learned`, `allow_early`, `allow_untested`, `prefer_newest`, `effort`, `all_remedies`
        line 2, column 28: trailing characters
        line 1, column 28: missing field `format`
        ");
    }
}
