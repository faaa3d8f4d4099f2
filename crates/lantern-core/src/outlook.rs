//! Who is ready for which server version; which stops lead there.

use crate::component::{Id, Kind};
use crate::facts::Facts;
use crate::offer::Offer;
use crate::resolve::{Held, Request, Target, first_answer};
use crate::version::Version;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;

/// How a component stands with a server version.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "is")]
pub enum Standing {
    /// What is installed was made for it.
    Fits,
    /// There is a release for it.
    Ready {
        /// The newest.
        version: String,
    },
    /// Another component takes its place there.
    Replaced {
        /// That one.
        by: Id,
    },
    /// Only a test release is for it.
    Early {
        /// The newest.
        version: String,
    },
    /// Nobody declared anything.
    Unknown,
    /// No release is for it yet.
    Late,
}

impl Standing {
    /// Whether nothing is missing.
    pub fn is_ready(&self) -> bool {
        matches!(
            self,
            Standing::Fits | Standing::Ready { .. } | Standing::Replaced { .. }
        )
    }
}

/// One component over all server versions asked about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// The component.
    pub id: Id,
    /// What it is.
    pub kind: Kind,
    /// What is installed.
    pub installed: Version,
    /// Whether it is switched off: then it holds nothing back.
    pub off: bool,
    /// Whether the world holds its content.
    pub world_bound: Option<bool>,
    /// How it stands, one for each server version.
    pub standings: Vec<Standing>,
}

/// One kind of client over all server versions asked about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ClientRow {
    /// Its name.
    pub client: String,
    /// Which versions may join now, in words; none where no one may.
    pub now: Option<String>,
    /// Which could join with the newest fitting releases of what is installed, one for each server version.
    pub could: Vec<Option<String>>,
}

/// Whether everything fits together on one server version.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Together {
    /// Everything installed, or what replaces it, fits together there.
    All,
    /// It does when what the world does not hold may go.
    WithoutSome,
    /// It does not.
    No,
}

/// Who is ready for which server version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outlook {
    /// The server versions, in ascending order.
    pub versions: Vec<Version>,
    /// For each version, the protocol that its clients speak; none when no build states it.
    pub protocols: Vec<Option<String>>,
    /// The components, by kind, then id.
    pub rows: Vec<Row>,
    /// The kinds of client that anything installed lets in, by name.
    pub clients: Vec<ClientRow>,
    /// For each version, whether everything fits together.
    pub together: Vec<Together>,
    /// For each version, what has no full release for it, and the installed components that need it.
    pub held_back: Vec<BTreeMap<Id, Vec<Id>>>,
}

impl Outlook {
    /// The highest version on which everything fits together.
    pub fn highest_for_all(&self) -> Option<&Version> {
        self.highest(|together| together == Together::All)
    }

    /// The highest version that is reached without losing anything that the world holds.
    pub fn highest_without_loss(&self) -> Option<&Version> {
        self.highest(|together| together != Together::No)
    }

    fn highest(&self, fits: impl Fn(Together) -> bool) -> Option<&Version> {
        let mut both = self.versions.iter().zip(&self.together).rev();
        both.find(|(_, together)| fits(**together))
            .map(|(version, _)| version)
    }
}

/// The server versions that can be had, the installed one among them, in ascending order.
pub fn versions(request: &Request) -> Vec<Version> {
    let held = request.held.iter().map(|held| &held.facts);
    let all = held.chain(request.offers.iter().map(|offer| &offer.facts));
    let builds = all.filter(|facts| facts.kind == Kind::Build && facts.id == request.build);
    let versions: BTreeSet<Version> = builds.map(|facts| facts.version.clone()).collect();
    versions.into_iter().collect()
}

/// Takes the outlook for some server versions.
pub fn outlook(request: &Request, versions: Vec<Version>) -> Outlook {
    let held = request.held.iter().map(|held| (&held.facts, held.off));
    let mut rows: Vec<Row> = held
        .filter(|(facts, _)| facts.kind != Kind::Build)
        .map(|(facts, off)| Row {
            off,
            id: facts.id.clone(),
            kind: facts.kind,
            installed: facts.version.clone(),
            world_bound: facts.world_bound,
            standings: versions
                .iter()
                .map(|version| standing(request, facts, version))
                .collect(),
        })
        .collect();
    rows.sort_by(|a, b| (a.kind, &a.id).cmp(&(b.kind, &b.id)));
    let held_back = (0..versions.len()).map(|at| {
        let late = rows
            .iter()
            .filter(|row| !row.off)
            .filter(|row| matches!(row.standings[at], Standing::Late | Standing::Early { .. }));
        late.map(|row| (row.id.clone(), needing(request, &row.id)))
            .collect()
    });
    let protocol = |version: &Version| {
        let builds = request.releases(&request.build);
        let mut stated = builds.filter(|facts| facts.version.is_same_release(version));
        stated.find_map(|facts| facts.build.protocol.clone())
    };
    Outlook {
        clients: clients(request, &versions),
        protocols: versions.iter().map(protocol).collect(),
        together: versions
            .iter()
            .map(|version| together(request, version))
            .collect(),
        held_back: held_back.collect(),
        rows,
        versions,
    }
}

fn standing(request: &Request, installed: &Facts, version: &Version) -> Standing {
    let made_for = |facts: &Facts| match request.is_known_to_fail(facts, version) {
        true => Some(false),
        false if version.is_content() => None,
        false => Some(facts.server.as_ref()?.holds_early(version)),
    };
    if made_for(installed) == Some(true) {
        return Standing::Fits;
    }
    let own = |offer: &&Offer| offer.facts.id == installed.id && !offer.facts.withdrawn;
    let newest = |early: bool| {
        let fitting = request.offers.iter().filter(own);
        let fitting = fitting.filter(|offer| {
            offer.facts.is_early() == early && made_for(&offer.facts) == Some(true)
        });
        fitting.map(|offer| &offer.facts.version).max()
    };
    if let Some(version) = newest(false) {
        return Standing::Ready {
            version: version.to_string(),
        };
    }
    let replaces = |offer: &&Offer| {
        let facts = &offer.facts;
        facts.replaces.contains(&installed.id) && made_for(facts) == Some(true) && !facts.is_early()
    };
    if let Some(offer) = request.offers.iter().find(replaces) {
        return Standing::Replaced {
            by: offer.facts.id.clone(),
        };
    }
    if let Some(version) = newest(true) {
        return Standing::Early {
            version: version.to_string(),
        };
    }
    let undeclared = |facts: &Facts| facts.server.is_none();
    let any_undeclared = undeclared(installed)
        || request
            .offers
            .iter()
            .filter(own)
            .any(|offer| undeclared(&offer.facts));
    if any_undeclared {
        Standing::Unknown
    } else {
        Standing::Late
    }
}

/// Who may join, now and with the newest fitting releases at each server version.
fn clients(request: &Request, versions: &[Version]) -> Vec<ClientRow> {
    let running = request.held.iter().filter(|held| !held.off);
    let running: Vec<&Facts> = running.map(|held| &held.facts).collect();
    let newest = |installed: &Facts, version: &Version| -> Option<&Facts> {
        let fits = |facts: &&Facts| match facts.kind {
            Kind::Build => facts.version.is_same_release(version),
            _ => facts
                .server
                .as_ref()
                .is_some_and(|range| range.holds_early(version)),
        };
        let offers = request.offers.iter().map(|offer| &offer.facts);
        let offers = offers.filter(|facts| !facts.withdrawn && !facts.is_early());
        let own = offers
            .chain(running.iter().copied())
            .filter(|facts| facts.id == installed.id);
        own.filter(fits).max_by_key(|facts| &facts.version)
    };
    let let_in = |releases: &[&Facts], client: &str| -> Option<String> {
        let admits = releases.iter().flat_map(|facts| &facts.admits);
        let own = admits.filter(|admits| admits.client == client);
        let mut words: Vec<String> = own.map(|admits| admits.versions.words()).collect();
        words.dedup();
        (!words.is_empty()).then(|| words.join(", or "))
    };
    let at: Vec<Vec<&Facts>> = versions
        .iter()
        .map(|version| {
            running
                .iter()
                .filter_map(|it| newest(it, version))
                .collect()
        })
        .collect();
    let all = running.iter().chain(at.iter().flatten());
    let kinds = all
        .flat_map(|facts| &facts.admits)
        .map(|it| it.client.as_str());
    let kinds: BTreeSet<&str> = kinds.collect();
    let rows = kinds.into_iter().map(|client| ClientRow {
        client: client.to_owned(),
        now: let_in(&running, client),
        could: at.iter().map(|releases| let_in(releases, client)).collect(),
    });
    rows.collect()
}

/// The installed components that need one, straight or through others.
fn needing(request: &Request, id: &Id) -> Vec<Id> {
    let mut found: BTreeSet<&Id> = BTreeSet::from([id]);
    loop {
        let before = found.len();
        for held in request.held.iter() {
            if held.facts.needs.iter().any(|need| found.contains(&need.id)) {
                found.insert(&held.facts.id);
            }
        }
        if found.len() == before {
            break;
        }
    }
    found
        .into_iter()
        .filter(|other| *other != id)
        .cloned()
        .collect()
}

fn together(request: &Request, version: &Version) -> Together {
    let there = Request {
        target: Target::One(version.clone()),
        ..request.clone()
    };
    if first_answer(&there).is_some() {
        return Together::All;
    }
    let held = request.held.iter().map(|held| Held {
        droppable: held.facts.kind == Kind::Addon && held.facts.world_bound != Some(true),
        off: held.off,
        switched: held.switched,
        facts: held.facts.clone(),
    });
    let lossy = Request {
        held: Arc::new(held.collect()),
        ..there
    };
    match first_answer(&lossy) {
        Some(_) => Together::WithoutSome,
        None => Together::No,
    }
}

/// The fewest stops from the installed server version to another, the last one included.
///
/// A stop is a build that can bring forward the worlds of the one before, and on which everything fits
/// together. A build that does not say which worlds it can bring forward is taken to do with any.
/// Returns none when no way leads there.
pub fn stops(request: &Request, to: &Version) -> Option<Vec<Version>> {
    let from = request
        .held
        .iter()
        .find(|held| held.facts.kind == Kind::Build)?;
    let from = from.facts.version.clone();
    if from == *to {
        return Some(Vec::new());
    }
    let builds: BTreeMap<&Version, &Facts> = request
        .offers
        .iter()
        .map(|offer| &offer.facts)
        .filter(|facts| facts.kind == Kind::Build && facts.id == request.build)
        .map(|facts| (&facts.version, facts))
        .collect();
    let mut way_to: BTreeMap<Version, Vec<Version>> = BTreeMap::from([(from.clone(), Vec::new())]);
    let mut queue = VecDeque::from([from]);
    let mut fits: BTreeMap<&Version, bool> = BTreeMap::new();
    while let Some(at) = queue.pop_front() {
        // Later builds first: of ways with equally many stops the one through the later builds.
        for (version, build) in builds
            .iter()
            .rev()
            .filter(|(version, _)| **version > &at && **version <= to)
        {
            let brings = build
                .build
                .worlds_from
                .as_ref()
                .is_none_or(|range| range.holds_early(&at));
            if !brings || way_to.contains_key(*version) {
                continue;
            }
            let fits = *fits
                .entry(version)
                .or_insert_with(|| together(request, version) == Together::All);
            if !fits {
                continue;
            }
            let mut way = way_to[&at].clone();
            way.push((*version).clone());
            if *version == to {
                return Some(way);
            }
            way_to.insert((*version).clone(), way);
            queue.push_back((*version).clone());
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::component::Need;
    use crate::resolve::Learned;
    use crate::resolve::tests::world;
    use crate::version::{Notation, Range};

    fn version(text: &str) -> Version {
        Version::parse(text, Notation::Dotted).unwrap()
    }

    #[test]
    fn who_is_ready_for_what() {
        let request = world(
            "+ server 5.1
             server 5.3
             server 5.4
             + lib 1 @<5.4
             + bees 1 @<5.3 needs lib !bound
             bees 2 @>=5.3 needs lib
             + clock 1 @<5.3
             clock 2 @>=5.3 !early
             + old 1 @<5.3
             new 1 @>=5.3 replaces old
             + quiet 1",
        );
        let outlook = outlook(&request, versions(&request));
        let told: Vec<String> = outlook
            .rows
            .iter()
            .map(|row| {
                format!(
                    "{}: {}",
                    row.id,
                    serde_json::to_string(&row.standings).unwrap()
                )
            })
            .collect();
        insta::assert_snapshot!(told.join("\n"), @r#"
        bees: [{"is":"fits"},{"is":"ready","version":"2"},{"is":"ready","version":"2"}]
        clock: [{"is":"fits"},{"is":"early","version":"2"},{"is":"early","version":"2"}]
        lib: [{"is":"fits"},{"is":"fits"},{"is":"late"}]
        old: [{"is":"fits"},{"is":"replaced","by":"new"},{"is":"replaced","by":"new"}]
        quiet: [{"is":"unknown"},{"is":"unknown"},{"is":"unknown"}]
        "#);
        assert_eq!(
            outlook.together,
            [Together::All, Together::WithoutSome, Together::No]
        );
        assert_eq!(outlook.highest_for_all(), Some(&version("5.1")));
        assert_eq!(outlook.highest_without_loss(), Some(&version("5.3")));
        assert_eq!(outlook.held_back[2][&Id::new("lib")], [Id::new("bees")]);
    }

    #[test]
    fn what_was_seen_to_fail_is_not_ready() {
        let mut request = world(
            "+ server 5.1
             + clock 1.0 @<5.4
             server 5.4
             server 5.5
             clock 2.0 @>=5.4",
        );
        let outlook = |request: &Request| {
            let outlook = outlook(request, vec![version("5.4"), version("5.5")]);
            let clock = outlook.rows.iter().find(|row| row.id.as_str() == "clock");
            clock.unwrap().standings.clone()
        };
        let ready = Standing::Ready {
            version: "2.0".into(),
        };
        assert_eq!(outlook(&request), [ready.clone(), ready.clone()]);
        request.learned = vec![Learned {
            id: Id::new("clock"),
            version: version("2.0"),
            on: version("5.4"),
            other: Need {
                id: Id::new("server"),
                range: Range::exactly(version("5.4")),
            },
            since: "known here since 4 May 2026".into(),
        }];
        assert_eq!(outlook(&request), [Standing::Late, ready]);
    }

    #[test]
    fn who_could_join_at_which_version() {
        let request = world(
            "+ server 5.1 admits own:5.1
             server 5.4 admits own:5.4
             server 5.5 admits own:5.5
             + lens 1 @<5.4 admits visor:3.3
             lens 2 @>=5.4 admits visor:3.4
             lens 3 @5.4 admits visor:3.5,kite:1
             lens 4 @5.4 !withdrawn admits visor:9
             . idle 1 @>=5 admits visor:8
             gate 1 @>=5 admits visor:7",
        );
        let outlook = outlook(&request, versions(&request));
        let told = outlook
            .clients
            .iter()
            .map(|row| serde_json::to_string(row).unwrap());
        insta::assert_snapshot!(told.collect::<Vec<_>>().join("\n"), @r#"
        {"client":"kite","now":null,"could":[null,"1.x",null]}
        {"client":"own","now":"5.1.x","could":["5.1.x","5.4.x","5.5.x"]}
        {"client":"visor","now":"3.3.x","could":["3.3.x","3.5.x","3.4.x"]}
        "#);
    }

    #[test]
    fn the_fewest_stops() {
        let text = "+ server 3.0\nserver 3.5\nserver 4.0 from >=3.0\nserver 4.5 from >=3.5\nserver 5.0 from >=4.0";
        let way = |text: &str, to: &str| stops(&world(text), &version(to));
        let versions = |list: &[&str]| Some(list.iter().map(|v| version(v)).collect::<Vec<_>>());
        assert_eq!(way(text, "5.0"), versions(&["4.0", "5.0"]));
        assert_eq!(way(text, "4.0"), versions(&["4.0"]));
        assert_eq!(way(text, "3.0"), versions(&[]));
        assert_eq!(
            way(&format!("{text}\n+ a 1 @<4.0\na 2 @>=4.5"), "5.0"),
            versions(&["3.5", "4.5", "5.0"])
        );
        assert_eq!(way(&text.replace("from >=4.0", "from >=4.6"), "5.0"), None);
    }
}
