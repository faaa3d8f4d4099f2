//! A request as a file (`*.request.json`), to be answered again without its server.
//!
//! docs/formats/request.md lists every key.

use super::{Held, Learned, Policy, Prefer, Request, Target};
use crate::artifact::Artifact;
use crate::component::{ClientVersion, Id, Kind, Need};
use crate::facts::{Facts, Reading, WrittenRelease, stated_notation};
use crate::json::JsonFault;
use crate::offer::{Offer, Origin};
use crate::version::{Notations, Range, Version};
use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use std::collections::BTreeSet;
use std::sync::Arc;

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields, expecting = "a request")]
struct Written<Installed, Offers> {
    format: u32,
    versions: Notations,
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
struct WrittenHeld {
    release: WrittenRelease,
    #[serde(default)]
    droppable: bool,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    off: bool,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    switched: bool,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenOffer {
    release: WrittenRelease,
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
        let written: Written<Vec<WrittenHeld>, Vec<WrittenOffer>> = Written {
            format: 1,
            versions: notations.clone(),
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
                .collect(),
            offers: self
                .offers
                .iter()
                .map(|offer| WrittenOffer {
                    release: WrittenRelease::of(&offer.facts),
                    by_hand: offer.origin == Origin::DropFolder,
                })
                .collect(),
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
        // Releases are read one by one: all of them at once, as they are written, take more room than all else.
        let written: Written<Vec<&RawValue>, Vec<&RawValue>> =
            serde_json::from_str(text).map_err(JsonFault::from)?;
        if written.format != 1 {
            return Err(RequestFault::Format(written.format));
        }
        let notations = written.versions;
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
        let mut reading = Reading::new(&notations);
        let held = written.installed.into_iter().map(|raw| {
            let held: WrittenHeld = serde_json::from_str(raw.get())
                .map_err(|error| JsonFault::within(text, raw.get(), &error))?;
            Ok(Held {
                facts: held.release.facts(&mut reading).map_err(sense)?,
                droppable: held.droppable,
                off: held.off,
                switched: held.switched,
            })
        });
        let held: Vec<Held> = held.collect::<Result<_, RequestFault>>()?;
        let nowhere = Arc::new(Artifact::default());
        let mut offers: Vec<Offer> = Vec::with_capacity(written.offers.len());
        for raw in written.offers {
            let offer: WrittenOffer = serde_json::from_str(raw.get())
                .map_err(|error| JsonFault::within(text, raw.get(), &error))?;
            offers.push(Offer {
                facts: offer.release.facts(&mut reading).map_err(sense)?,
                artifact: nowhere.clone(),
                lays: None,
                supply: None,
                origin: match offer.by_hand {
                    true => Origin::DropFolder,
                    false => Origin::Catalogue,
                },
            });
        }
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
