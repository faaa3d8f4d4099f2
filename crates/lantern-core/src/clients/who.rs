//! Which players' clients may join, and what a change of the server changes in that.

use crate::component::{Admits, Id, Kind};
use crate::facts::Facts;
use crate::family::{Family, Joins, OnlyBy};
use crate::version::{Range, Version};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Versions of one kind of client that something lets in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entrance {
    /// Which versions.
    pub versions: Range,
    /// The build or the component that lets them in.
    pub by: Id,
    /// That one's version.
    pub release: Version,
}

/// Who of one kind of client may join.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MayJoin {
    /// The kind of client.
    pub client: String,
    /// Its name for people.
    pub title: Option<String>,
    /// What lets it in: nobody of this kind may join where there is nothing; not known where nobody declared anything.
    pub entrances: Option<Vec<Entrance>>,
}

impl MayJoin {
    /// Whether a version is let in; none where nobody declared anything.
    pub fn admits(&self, version: &Version) -> Option<bool> {
        let entrances = self.entrances.as_ref()?;
        Some(entrances.iter().any(|it| it.versions.holds_early(version)))
    }

    /// Which versions, in words; none where nobody of this kind may join.
    pub fn words(&self) -> Option<String> {
        let Some(entrances) = &self.entrances else {
            return Some("unknown".into());
        };
        let mut words: Vec<String> = Vec::new();
        for entrance in entrances {
            let own = entrance.versions.words();
            if !words.contains(&own) {
                words.push(own);
            }
        }
        (!words.is_empty()).then(|| words.join(", or "))
    }

    /// What lets them in: ids with versions, each once.
    pub fn because_of(&self) -> Vec<String> {
        let mut by: Vec<String> = Vec::new();
        for entrance in self.entrances.iter().flatten() {
            let own = format!("{} {}", entrance.by, entrance.release);
            if !by.contains(&own) {
                by.push(own);
            }
        }
        by
    }

    fn bounds(&self) -> BTreeSet<Version> {
        let entrances = self.entrances.iter().flatten();
        entrances.flat_map(|it| it.versions.bounds()).collect()
    }
}

/// Who may join a server on which these run.
///
/// The family's kinds come first, in its order; then those that a component lets in. `known` are releases that do not run:
/// they tell of kinds alone.
pub fn who_may_join<'f>(
    family: &Family,
    running: impl Iterator<Item = &'f Facts> + Clone,
    known: impl Iterator<Item = &'f Facts>,
) -> Vec<MayJoin> {
    let mut entrances: Vec<(String, Entrance)> = Vec::new();
    for facts in running.clone() {
        let admits = match facts.kind {
            Kind::Build => {
                let mut build = facts.clone();
                family.tell_clients(&mut build);
                build.admits.clone()
            }
            _ => facts.admits.clone(),
        };
        let each = admits.into_iter().map(
            |Admits {
                 client, versions, ..
             }| {
                let (by, release) = (facts.id.clone(), facts.version.clone());
                let entrance = Entrance {
                    versions,
                    by,
                    release,
                };
                (client, entrance)
            },
        );
        entrances.extend(each);
    }
    let kinds = family.kinds_of_client(running.chain(known)).into_iter();
    let each = kinds.map(|kind| {
        let own = entrances.iter().filter(|(client, _)| *client == kind.name);
        let own: Vec<Entrance> = own.map(|(_, entrance)| entrance.clone()).collect();
        // Only what lets it in tells of it.
        let is_told = !own.is_empty() || matches!(kind.joins, Some(Joins::Word(OnlyBy::Bridge)));
        MayJoin {
            client: kind.name,
            title: kind.title,
            entrances: is_told.then_some(own),
        }
    });
    each.collect()
}

/// What becomes of one kind of client when a server changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ClientChange {
    /// The kind of client.
    pub client: String,
    /// Its name for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Which versions may join before, in words; none where nobody may, `unknown` where nobody declared anything.
    pub before: Option<String>,
    /// Which versions may join afterwards, likewise.
    pub after: Option<String>,
    /// What lets them in afterwards.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub by: Vec<String>,
    /// Versions that may join no longer: those that stand at a bound of what may join before or afterwards.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub no_longer: Vec<String>,
    /// Versions that may join newly, likewise.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub newly: Vec<String>,
}

impl ClientChange {
    /// Whether anything becomes different.
    pub fn is_change(&self) -> bool {
        self.before != self.after
    }

    /// What becomes of players with one kind of client, in a sentence; none where nothing does.
    pub fn sentence(&self) -> Option<String> {
        if !self.is_change() {
            return None;
        }
        let name = self.name();
        let after = match self.after.as_deref() {
            None => return Some(format!("Players with {name} can no longer join.")),
            Some("unknown") => {
                return Some(format!(
                    "Whether players with {name} can join afterwards is not known."
                ));
            }
            Some(after) => after,
        };
        let (no_longer, newly) = (self.no_longer.join(", "), self.newly.join(", "));
        Some(
            match (
                self.before.as_deref(),
                no_longer.is_empty(),
                newly.is_empty(),
            ) {
                (None, ..) => format!("Players with {name} {after} can join from then on."),
                (Some("unknown"), ..) => {
                    format!("Players need {name} {after}; what they need now is not known.")
                }
                (_, false, _) => {
                    format!(
                        "Players with {name} {no_longer} can no longer join: {after} is needed."
                    )
                }
                (_, true, false) => format!("Players with {name} {newly} can join, too: {after}."),
                (_, true, true) => format!("Players need {name} {after}."),
            },
        )
    }

    /// What its players are called.
    pub fn name(&self) -> &str {
        self.title.as_deref().unwrap_or(&self.client)
    }
}

/// Holds who may join before against who may join afterwards.
pub fn compared(before: &[MayJoin], after: &[MayJoin]) -> Vec<ClientChange> {
    let mut kinds: Vec<&MayJoin> = after.iter().collect();
    let only_before = before
        .iter()
        .filter(|it| kinds.iter().all(|other| other.client != it.client));
    kinds.extend(only_before.collect::<Vec<_>>());
    let of = |list: &[MayJoin], client: &str| {
        let known = list.iter().find(|it| it.client == client).cloned();
        known.unwrap_or_else(|| MayJoin {
            client: client.to_owned(),
            title: None,
            entrances: Some(Vec::new()),
        })
    };
    let each = kinds.into_iter().map(|kind| {
        let (before, after) = (of(before, &kind.client), of(after, &kind.client));
        let bounds: BTreeSet<Version> = before.bounds().union(&after.bounds()).cloned().collect();
        let turned = |from: &MayJoin, to: &MayJoin| -> Vec<String> {
            let meant = bounds
                .iter()
                .filter(|it| from.admits(it) == Some(true) && to.admits(it) == Some(false));
            meant.map(ToString::to_string).collect()
        };
        ClientChange {
            by: after.because_of(),
            no_longer: turned(&before, &after),
            newly: turned(&after, &before),
            client: kind.client.clone(),
            title: kind.title.clone(),
            before: before.words(),
            after: after.words(),
        }
    });
    each.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::{OneRelease, Reading, WrittenRelease};
    use serde::de::DeserializeSeed;

    const FAMILY: &str = r#"
        format = 1
        name = "x"
        title = "X"
        marks = ["x.conf"]
        versions = { components = "semver" }
        build = { id = "x", speaks = [{ versions = "5.x", protocol = "37-41" }, { versions = ">=6", protocol = "40-46" }] }
        launch = { command = ["sh", "start.sh"] }
        console = { ready = "up", stop = { command = "stop" } }
        [[reader]]
        name = "addon"
        kind = "addon"
        shape = "archive"
        at = "addons/*.zip"
        [[client]]
        name = "own"
        title = "X itself"
        joins = { same = "version" }
        [[client]]
        name = "roomy"
        joins = { same = 2 }
        [[client]]
        name = "old"
        joins = { same = "protocol" }
        speaks = [{ versions = "1", protocol = "30-36" }, { versions = "2", protocol = "36-39" }, { versions = "3", protocol = "44" }]
        [[client]]
        name = "table"
        joins = [{ server = "5.1", clients = ">=2 <3" }, { server = "5.1", clients = "=7.0.0" }]
        [[client]]
        name = "visor"
        joins = "bridge"
        [[client]]
        name = "silent"
    "#;

    fn facts(family: &Family, text: &str) -> Facts {
        let mut reading = Reading::new(&family.versions);
        let mut text = serde_json::Deserializer::from_str(text);
        let read = OneRelease(&mut reading).deserialize(&mut text);
        read.unwrap().unwrap().facts
    }

    fn told(list: &[MayJoin]) -> String {
        let lines = list
            .iter()
            .map(|it| format!("{}: {}", it.client, it.words().unwrap_or("nobody".into())));
        lines.collect::<Vec<_>>().join("\n")
    }

    fn server(family: &Family, version: &str) -> Facts {
        let version = Version::parse(version, family.versions.server).unwrap();
        Facts::new(Id::new("x"), Kind::Build, version)
    }

    #[test]
    fn by_version_parts_protocol_table_and_bridge() {
        let family = Family::parse(FAMILY).unwrap();
        let lens = facts(
            &family,
            r#"{"id":"lens","kind":"addon","version":"2.1","admits":{"visor":[">=3.4 <3.7","=4.0.0"],"kite":"1"}}"#,
        );
        let before = [server(&family, "5.1.2+wide")];
        let after = [server(&family, "6.0"), lens.clone()];
        let before = who_may_join(&family, before.iter(), [&lens].into_iter());
        let after = who_may_join(&family, after.iter(), std::iter::empty());
        insta::assert_snapshot!(told(&before), @"
        own: 5.1.2
        roomy: 5.1.x
        old: 2.x
        table: 2 to below 3, or 7.0.0
        visor: nobody
        silent: unknown
        kite: nobody
        ");
        insta::assert_snapshot!(told(&after), @"
        own: 6.0
        roomy: 6.0.x
        old: 3.x
        table: unknown
        visor: 3.4 to below 3.7, or 4.0.0
        silent: unknown
        kite: 1.x
        ");
        let changes = compared(&before, &after);
        let lines = changes.iter().map(|it| serde_json::to_string(it).unwrap());
        insta::assert_snapshot!(lines.collect::<Vec<_>>().join("\n"), @r#"
        {"client":"own","title":"X itself","before":"5.1.2","after":"6.0","by":["x 6.0"],"no_longer":["5.1.2"],"newly":["6.0"]}
        {"client":"roomy","before":"5.1.x","after":"6.0.x","by":["x 6.0"],"no_longer":["5.1"],"newly":["6.0"]}
        {"client":"old","before":"2.x","after":"3.x","by":["x 6.0"],"no_longer":["2"],"newly":["3"]}
        {"client":"table","before":"2 to below 3, or 7.0.0","after":"unknown"}
        {"client":"visor","before":null,"after":"3.4 to below 3.7, or 4.0.0","by":["lens 2.1"],"newly":["3.4","4.0.0"]}
        {"client":"silent","before":"unknown","after":"unknown"}
        {"client":"kite","before":null,"after":"1.x","by":["lens 2.1"],"newly":["1"]}
        "#);
    }

    #[test]
    fn a_component_may_say_what_is_to_be_known_of_its_own_kinds() {
        let family = Family::parse(FAMILY).unwrap();
        let text = r#"{"id":"lens","kind":"addon","version":"2.1","admits":{"kite":{"versions":["=1.0.0-rc.1","=2.0.0"],"title":"Kite","notation":"semver","has":["glass"]},"own":{"versions":"5","title":"not this"},"oar":{"versions":"*","has":"nothing"}}}"#;
        let lens = facts(&family, text);
        let written = serde_json::to_string(&WrittenRelease::of(&lens)).unwrap();
        assert_eq!(facts(&family, &written), lens, "{written}");
        let second = facts(
            &family,
            r#"{"id":"gate","kind":"addon","version":"1","admits":{"kite":{"versions":"3","title":"Late","has":"same"},"oar":"1"}}"#,
        );
        let kinds = family.kinds_of_client([&second, &lens].into_iter());
        let told = kinds.iter().skip(family.clients.len()).map(|kind| {
            let title = kind.title.as_deref().unwrap_or("-");
            format!("{} {title} {:?} {:?}", kind.name, kind.notation, kind.has)
        });
        insta::assert_snapshot!(told.collect::<Vec<_>>().join("\n"), @"
        kite Late Some(Semver) Some(Word(Same))
        oar - None Some(Word(Nothing))
        ");
        assert_eq!(kinds[0].title.as_deref(), Some("X itself"));
        let who = who_may_join(&family, [&lens].into_iter(), std::iter::empty());
        let early = Version::parse("1.0.0-rc.1", crate::version::Notation::Semver).unwrap();
        let kite = who.iter().find(|it| it.client == "kite").unwrap();
        assert_eq!(kite.admits(&early), Some(true));
        let mut reading = Reading::new(&family.versions);
        let mut text = serde_json::Deserializer::from_str(
            r#"{"admits":{"kite":{"versions":"1","has":"all"}}}"#,
        );
        let fault = OneRelease(&mut reading).deserialize(&mut text);
        insta::assert_snapshot!(fault.unwrap_err(), @r#"expected a range, a list of ranges, or a table with versions, title, notation and has ("same", "nothing" or a list of ids) at line 1 column 47"#);
    }

    #[test]
    fn what_a_build_states_itself_comes_first() {
        let family = Family::parse(FAMILY).unwrap();
        let build = facts(
            &family,
            r#"{"id":"x","kind":"build","version":"5.2","build":{"protocol":"44-45"},"admits":{"own":">=5"}}"#,
        );
        let who = who_may_join(&family, [&build].into_iter(), std::iter::empty());
        insta::assert_snapshot!(told(&who), @"
        own: 5 or later
        roomy: 5.2.x
        old: 3.x
        table: unknown
        visor: nobody
        silent: unknown
        ");
    }

    #[test]
    fn faults_in_words() {
        for (from, to, says) in [
            (
                "name = \"roomy\"",
                "name = \"own\"",
                "two clients are named",
            ),
            ("name = \"roomy\"", "name = \"a b\"", "cannot be a name"),
            ("same = 2", "same = 0", "from 1"),
            (
                "same = 2",
                "same = \"protocol\"",
                "`speaks` lists protocols",
            ),
            ("same = 2", "same = \"colour\"", "expected { same"),
            ("joins = \"bridge\"", "joins = \"tunnel\"", "a list of"),
            ("clients = \">=2 <3\"", "clients = \"=>2\"", "is none of"),
        ] {
            let fault = Family::parse(&FAMILY.replace(from, to))
                .unwrap_err()
                .to_string();
            assert!(fault.contains(says), "{says}: {fault}");
        }
    }
}
