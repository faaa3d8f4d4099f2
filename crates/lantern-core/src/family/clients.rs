//! What a family says of players' clients.

use super::{Family, Glob, Pattern};
use crate::component::{Admits, ClientTerms, Has, Kind};
use crate::facts::Facts;
use crate::path::RelPath;
use crate::version::{Notation, Notations, Range, RangeFault, RangeNotation, Version};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use thin_vec::ThinVec;

/// One kind of client with which players join.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ClientKind {
    /// Its name, as components that let it in call it.
    pub name: String,
    /// Its name for people.
    pub title: Option<String>,
    /// How its versions are written; as the server's where nothing is said.
    pub notation: Option<Notation>,
    /// Which of its versions may join at which server version; what nothing is said of is not known.
    pub joins: Option<Joins>,
    /// The protocols that its versions speak, where it joins by them.
    #[serde(default)]
    pub speaks: Vec<Speaks>,
    /// What of the server's components it has to have; what nothing is said of is not known.
    pub has: Option<Has>,
    /// What the server makes of a client that has something else besides.
    #[serde(default)]
    pub others: Others,
    /// Where components lie in its folder, where that is elsewhere than on the server.
    #[serde(default)]
    pub places: Vec<Place>,
    /// Finds, in what a client or the server prints when they do not match, a component as the group `id`, and where told what the
    /// client has as `has` and what it should as `wants`.
    pub mismatch: Option<Pattern>,
}

/// What a server makes of what a client has besides.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Others {
    /// Nobody declared it.
    #[default]
    Unknown,
    /// It does not mind.
    Harmless,
    /// It does not let such a client in.
    Refused,
}

/// Where something lies in a client's folder.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Place {
    /// A file or folder of the server's.
    pub server: RelPath,
    /// The same of the client's.
    pub client: RelPath,
}

impl ClientKind {
    /// A kind of which a component tells that lets it in.
    pub fn let_in_only(name: &str, terms: ClientTerms) -> ClientKind {
        ClientKind {
            name: name.to_owned(),
            title: terms.title,
            notation: terms.notation,
            joins: Some(Joins::Word(OnlyBy::Bridge)),
            speaks: Vec::new(),
            has: terms.has,
            others: Others::Unknown,
            places: Vec::new(),
            mismatch: None,
        }
    }

    /// Where a file of the server lies in the client's folder.
    pub fn in_client(&self, path: &RelPath) -> RelPath {
        let moved = self
            .places
            .iter()
            .find_map(|place| moved(path, &place.server, &place.client));
        moved.unwrap_or_else(|| path.clone())
    }

    /// Where a file of the client's folder would lie on the server.
    pub fn on_server(&self, path: &RelPath) -> RelPath {
        let moved = self
            .places
            .iter()
            .find_map(|place| moved(path, &place.client, &place.server));
        moved.unwrap_or_else(|| path.clone())
    }
}

impl Family {
    /// The kinds of client that there are: the family's own first, in its order, then those that components let in.
    ///
    /// Where several components say something of one kind, the first that says it counts.
    pub fn kinds_of_client<'f>(&self, known: impl Iterator<Item = &'f Facts>) -> Vec<ClientKind> {
        let mut bridged: BTreeMap<&str, ClientTerms> = BTreeMap::new();
        for admits in known.flat_map(|facts| &facts.admits) {
            let own = bridged.entry(&admits.client).or_default();
            let ClientTerms {
                title,
                notation,
                has,
            } = &admits.terms;
            own.title = own.title.take().or_else(|| title.clone());
            own.notation = own.notation.or(*notation);
            own.has = own.has.take().or_else(|| has.clone());
        }
        for kind in &self.clients {
            bridged.remove(kind.name.as_str());
        }
        let bridged = bridged
            .into_iter()
            .map(|(name, terms)| ClientKind::let_in_only(name, terms));
        self.clients.iter().cloned().chain(bridged).collect()
    }

    /// The family as it knows the components in a folder of a kind of client: they may lie elsewhere there.
    pub fn of_client(&self, kind: Option<&ClientKind>) -> Family {
        let mut family = self.clone();
        family.readers.retain(|reader| reader.kind != Kind::Build);
        let places = kind.map_or(&[][..], |kind| &kind.places);
        for glob in family
            .readers
            .iter_mut()
            .flat_map(|reader| &mut reader.at.0)
        {
            let moved = places.iter().find_map(|place| {
                let rest = glob.as_str().strip_prefix(place.server.as_str())?;
                let is_below = rest.is_empty() || rest.starts_with('/');
                is_below
                    .then(|| Glob::new(&format!("{}{rest}", place.client)))
                    .and_then(Result::ok)
            });
            *glob = moved.unwrap_or_else(|| glob.clone());
        }
        family
    }
}

/// A path with another beginning, where it has the one that is meant.
fn moved(path: &RelPath, from: &RelPath, to: &RelPath) -> Option<RelPath> {
    if path == from {
        return Some(to.clone());
    }
    let below = path.below(from.as_str())?;
    to.join(below).ok()
}

/// Which versions of a kind of client may join.
#[derive(Debug, Clone, Deserialize)]
#[serde(
    untagged,
    expecting = "expected { same = … }, \"bridge\", or a list of { server = …, clients = … }"
)]
pub enum Joins {
    /// Those that are like the server in something.
    Like {
        /// In what.
        same: Same,
    },
    /// Those that a component lets in.
    Word(OnlyBy),
    /// Those of a table.
    Table(Vec<Admitted>),
}

/// In what a client has to be like the server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(
    untagged,
    expecting = "expected \"version\", \"protocol\", or how many of a version's first parts"
)]
pub enum Same {
    /// In the first parts of the version: 2 of `5.4.1` are `5.4`.
    Parts(usize),
    /// In a word's meaning.
    Whole(Whole),
}

/// The whole of what a client may be like the server in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Whole {
    /// The version.
    Version,
    /// A protocol that both speak.
    Protocol,
}

/// How a kind of client gets in that the server alone does not let in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OnlyBy {
    /// By a component that admits it.
    Bridge,
}

/// A row of a table: which clients join at which server versions.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Admitted {
    /// The server versions.
    pub server: String,
    /// The clients' versions.
    pub clients: String,
}

/// Which protocols some versions speak.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Speaks {
    /// The versions.
    pub versions: String,
    /// A number, two with a `-` between for all from the first to the second, or any other word.
    pub protocol: String,
}

/// What is spoken: all from one number to another, or a word.
#[derive(Debug, PartialEq, Eq)]
enum Protocol<'t> {
    Numbers(u64, u64),
    Word(&'t str),
}

impl Protocol<'_> {
    fn of(text: &str) -> Protocol<'_> {
        let text = text.trim();
        let (first, last) = text.split_once('-').unwrap_or((text, text));
        match (first.trim().parse(), last.trim().parse()) {
            (Ok(first), Ok(last)) => Protocol::Numbers(first, last),
            _ => Protocol::Word(text),
        }
    }

    /// Whether both can speak in one way.
    fn meets(&self, other: &Protocol<'_>) -> bool {
        match (self, other) {
            (Protocol::Numbers(a, b), Protocol::Numbers(c, d)) => a.max(c) <= b.min(d),
            _ => self == other,
        }
    }
}

/// Whether what a server says that it speaks is what is installed: the same, or one number of those.
pub fn is_said_protocol(installed: &str, says: &str) -> bool {
    match (Protocol::of(installed), Protocol::of(says)) {
        (Protocol::Numbers(first, last), Protocol::Numbers(one, other)) if one == other => {
            (first..=last).contains(&one)
        }
        (installed, says) => installed == says,
    }
}

/// The first parts of a version as it is written; those that it leaves out are 0.
fn first_parts(version: &Version, count: usize) -> String {
    let text = release(version);
    let text = text.strip_prefix(['v', 'V']).unwrap_or(text);
    let missing = std::iter::repeat("0");
    let parts = text.split('.').chain(missing).take(count);
    parts.collect::<Vec<_>>().join(".")
}

/// A version as it is written, without what tells its build.
fn release(version: &Version) -> &str {
    let text = version.as_str();
    text.split_once('+').map_or(text, |(release, _)| release)
}

/// What a family says of all its kinds of client.
#[derive(Debug, Clone, Copy)]
pub(super) struct Rules<'f> {
    pub(super) kinds: &'f [ClientKind],
    /// The protocols of server versions, where builds do not state their own.
    pub(super) servers: &'f [Speaks],
    pub(super) notations: &'f Notations,
}

impl Rules<'_> {
    /// What is wrong with it, in words.
    pub(super) fn fault(&self) -> Option<String> {
        let server = |text: &str| self.notations.server_range(text);
        let mut read: Vec<(String, Result<Range, RangeFault>)> = Vec::new();
        for speaks in self.servers {
            read.push(("build.speaks".into(), server(&speaks.versions)));
        }
        for (at, kind) in self.kinds.iter().enumerate() {
            let name = &kind.name;
            if name.is_empty() || name.chars().any(|c| c.is_whitespace() || c == '=') {
                return Some(format!(
                    "client: \"{name}\" cannot be a name: blanks and = cannot stand in one"
                ));
            }
            if self.kinds[..at].iter().any(|other| other.name == *name) {
                return Some(format!("two clients are named \"{name}\""));
            }
            let by_protocol = matches!(
                kind.joins,
                Some(Joins::Like {
                    same: Same::Whole(Whole::Protocol)
                })
            );
            if by_protocol == kind.speaks.is_empty() {
                return Some(format!(
                    "client \"{name}\": `speaks` lists protocols, where it joins by the same protocol and only there"
                ));
            }
            if matches!(
                kind.joins,
                Some(Joins::Like {
                    same: Same::Parts(0)
                })
            ) {
                return Some(format!(
                    "client \"{name}\": joins.same counts parts, from 1"
                ));
            }
            let groups = kind
                .mismatch
                .iter()
                .flat_map(|it| it.regex().capture_names());
            if kind.mismatch.is_some() && !groups.flatten().any(|group| group == "id") {
                return Some(format!(
                    "client \"{name}\": mismatch lacks the group (?P<id>…)"
                ));
            }
            for speaks in &kind.speaks {
                let range = self.notations.client_range(name, None, &speaks.versions);
                read.push((format!("client \"{name}\": speaks"), range));
            }
            if let Some(Joins::Table(rows)) = &kind.joins {
                for row in rows {
                    read.push((format!("client \"{name}\": joins"), server(&row.server)));
                    let range = self.notations.client_range(name, None, &row.clients);
                    read.push((format!("client \"{name}\": joins"), range));
                }
            }
        }
        let fault = |(what, read): (String, Result<Range, RangeFault>)| {
            Some(format!("{what}: {}", read.err()?))
        };
        read.into_iter().find_map(fault)
    }

    /// Which clients a build lets in by itself.
    pub(super) fn admits(&self, build: &Facts) -> ThinVec<Admits> {
        let stated = build.build.protocol.as_deref();
        let protocol = stated.or_else(|| self.protocol(&build.version));
        let each = self.kinds.iter().flat_map(|kind| {
            let own = self.versions(kind, &build.version, protocol).into_iter();
            own.map(|versions| Admits {
                client: kind.name.clone(),
                versions,
                terms: ClientTerms::default(),
            })
        });
        each.collect()
    }

    /// What a version of the server speaks with clients, where builds do not state it.
    pub(super) fn protocol(&self, version: &Version) -> Option<&str> {
        let mut rows = self.servers.iter();
        let row = rows.find(|row| {
            let range = self.notations.server_range(&row.versions);
            range.is_ok_and(|range| range.holds_early(version))
        });
        row.map(|row| row.protocol.as_str())
    }

    fn versions(&self, kind: &ClientKind, server: &Version, protocol: Option<&str>) -> Vec<Range> {
        let range = |text: &str| self.notations.client_range(&kind.name, None, text).ok();
        match &kind.joins {
            None | Some(Joins::Word(OnlyBy::Bridge)) => Vec::new(),
            Some(Joins::Like {
                same: Same::Whole(Whole::Version),
            }) => {
                let version = {
                    let own = release(server);
                    self.notations.client_version(&kind.name, None, own)
                };
                version.ok().map(Range::exactly).into_iter().collect()
            }
            Some(Joins::Like {
                same: Same::Parts(count),
            }) => {
                let notation = kind.notation.unwrap_or(self.notations.server);
                let first = first_parts(server, *count);
                Range::parse(&first, RangeNotation::Prefix, notation)
                    .into_iter()
                    .collect()
            }
            Some(Joins::Like {
                same: Same::Whole(Whole::Protocol),
            }) => {
                let Some(own) = protocol.map(Protocol::of) else {
                    return Vec::new();
                };
                let met = kind
                    .speaks
                    .iter()
                    .filter(|row| own.meets(&Protocol::of(&row.protocol)));
                met.filter_map(|row| range(&row.versions)).collect()
            }
            Some(Joins::Table(rows)) => {
                let here = rows.iter().filter(|row| {
                    let range = self.notations.server_range(&row.server);
                    range.is_ok_and(|range| range.holds_early(server))
                });
                here.filter_map(|row| range(&row.clients)).collect()
            }
        }
    }
}
