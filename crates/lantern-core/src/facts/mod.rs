//! What a release says of itself.
//!
//! A fact is added in one place, the list below: from it come the value, the key in catalogues and requests, the field
//! of a family's reader, and what a survey shows.

mod notation;
mod stated;

pub use notation::{Misread, Reading, Source};

use crate::component::{
    Admits, Channel, ClientVersion, Effect, Id, Kind, Member, Need, Provided, Side,
};
use crate::json::Passing;
use crate::supply::StatedFile;
use crate::version::{Notation, Range, Version};
use notation::{
    AdmitsClients, AnyOf, Flag, Gathered, Ids, Members, Names, Needs, Numbers, OneVersion,
    Provides, ServerVersions, Taking, Text, Versions, Whether, Word, Written, is_unstated,
};
use schemars::JsonSchema;
use serde::de::{DeserializeSeed, Error, MapAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};
use stated::stated;
use std::collections::BTreeMap;
use std::fmt;
use std::ops::{Deref, DerefMut};
use std::sync::{Arc, LazyLock};
use thin_vec::ThinVec;

stated! {
    /// What one version of a component says of itself.
    #[derive(Debug, Clone, PartialEq, Eq)]
    values Facts {
        /// Which component.
        id: Id,
        /// What it is to the server.
        kind: Kind,
        /// Its version.
        version: Version,
        /// What a server build offers; empty for all else, and shared by those.
        build: Arc<BuildFacts>,
    }
    /// A release as catalogues and requests write it, and as surveys show it.
    #[derive(Debug, Default, Serialize, JsonSchema)]
    #[serde(deny_unknown_fields, default)]
    texts WrittenRelease {
        id: Id,
        #[serde(skip_serializing_if = "is_unstated")]
        kind: Option<Kind>,
        version: String,
        #[serde(skip_serializing_if = "is_unstated")]
        build: Option<WrittenBuild>,
        #[serde(skip_serializing_if = "is_unstated")]
        archive: Option<StatedFile>,
        #[serde(skip_serializing_if = "is_unstated")]
        content: Option<Box<str>>,
        #[serde(skip_serializing_if = "is_unstated")]
        inside: Option<Box<str>>,
        #[serde(skip_serializing_if = "is_unstated")]
        was: Option<Box<BTreeMap<String, BTreeMap<String, String>>>>,
    }
    keys ReleaseKey
    stated {
        /// Server versions it was made for; `None` when nobody declared any.
        server: Option<Range> as ServerVersions from "server",
        /// What must be there and run.
        needs: ThinVec<Need> as Needs from "needs",
        /// What is taken into account where it is there: then the range binds.
        uses: ThinVec<Need> as Needs from "uses",
        /// What must not be there beside it.
        clashes: ThinVec<Need> as Needs from "clashes",
        /// Where it has to be installed; `None` when nobody declared it.
        side: Option<Side> as Word from "side",
        /// What it does to play; `None` when nobody declared it.
        effect: Option<Effect> as Word from "effect",
        /// Whether the world holds its content; `None` when nobody declared it.
        world_bound: Option<bool> as Whether from "world_bound",
        /// For whom it is meant, whatever its version says.
        channel: Channel as Word from "channel",
        /// Whether its makers took it back.
        withdrawn: bool as Flag from "withdrawn",
    }
    /// What few releases say, or those of one component alike.
    seldom SeldomFacts {
        /// Its name for people, where it has one besides the id.
        title: Option<String> as Text from "title",
        /// Framework versions that it runs on.
        framework: Option<Range> as Versions from "framework",
        /// Versions of the build's runtime that it runs on.
        runtime: Option<Range> as Versions from "runtime",
        /// The flavour of build that it wants.
        flavour: Option<String> as Text from "flavour",
        /// What must be installed, whether or not it runs.
        needs_installed: ThinVec<Need> as Needs from "needs_installed",
        /// Of each of these lists at least one must be there.
        needs_any: ThinVec<ThinVec<Need>> as AnyOf,
        /// What is taken into account where that, or anything that stands in for it, is there: then the range binds.
        uses_provided: ThinVec<Need> as Needs from "uses_provided",
        /// What must not be there beside it, nor anything that stands in for it, other than itself.
        clashes_provided: ThinVec<Need> as Needs from "clashes_provided",
        /// Other ids that it stands in for.
        provides: ThinVec<Provided> as Provides from "provides",
        /// Components whose place it takes: they go, and it stands in for them.
        replaces: ThinVec<Id> as Ids from "replaces",
        /// Components that move together with it: where one is there, it is of the same version.
        companions: ThinVec<Id> as Ids from "companions",
        /// Components that have to be started after it, where they are there.
        before: ThinVec<Id> as Ids from "before",
        /// Components that have to be started before it, where they are there.
        after: ThinVec<Id> as Ids from "after",
        /// What it wants to be started with, where the load order takes arguments.
        arguments: Option<String> as Text from "arguments",
        /// The members of a pack that run; empty for all else.
        members: ThinVec<Member> as Members,
        /// A group of which only one may be there.
        group: Option<String> as Text from "group",
        /// What it takes of each kind of slot.
        takes: BTreeMap<String, u64> as Numbers from "slots",
        /// Which players' clients it lets in where it runs; what is not stated here it says nothing of.
        admits: ThinVec<Admits> as AdmitsClients from "admits",
    }
}

stated! {
    /// What a server build offers to what runs on it.
    #[derive(Debug, Clone, PartialEq, Eq)]
    values BuildFacts {}
    /// The same as it is written.
    #[derive(Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
    #[serde(deny_unknown_fields, default)]
    texts WrittenBuild {}
    keys BuildKey
    stated {
        /// The version of its runtime.
        runtime: Option<Version> as OneVersion from "runtime",
        /// Its flavours: what kinds of components it can run.
        flavours: Vec<String> as Names from "flavour",
        /// How many slots it has of each kind; a kind that is not stated has no limit.
        has: BTreeMap<String, u64> as Numbers from "slots",
        /// The protocol that its clients speak.
        protocol: Option<String> as Text from "protocol",
        /// Server versions whose worlds it can bring forward; `None` when nobody declared any.
        worlds_from: Option<Range> as ServerVersions from "worlds_from",
    }
}

impl SeldomFacts {
    /// What most releases say.
    fn nothing() -> Arc<SeldomFacts> {
        static NOTHING: LazyLock<Arc<SeldomFacts>> = LazyLock::new(Arc::default);
        NOTHING.clone()
    }
}

/// What is no build offers nothing.
static NO_BUILD: LazyLock<Arc<BuildFacts>> = LazyLock::new(Arc::default);

impl Default for BuildFacts {
    fn default() -> BuildFacts {
        BuildFacts::unstated()
    }
}

/// What a component says of the kinds of client that it admits, each by kind.
const OF_CLIENTS: [(&str, bool); 3] = [
    ("admits_title", true),
    ("admits_notation", true),
    ("admits_has", true),
];

/// Of a build these fields tell what it offers, not what it asks for.
const TURNED: [&str; 3] = ["runtime", "flavour", "slots"];

/// The fields of a reader that tell facts, besides the id and the version, and whether each is a list.
pub fn fields() -> impl Iterator<Item = (&'static str, bool)> {
    let own = BuildFacts::FIELDS.iter();
    let own = own.filter(|(field, _)| !TURNED.contains(field));
    Facts::FIELDS.iter().chain(&OF_CLIENTS).chain(own).copied()
}

/// Stands where no version has been read yet.
static NO_VERSION: LazyLock<Version> = LazyLock::new(|| {
    let version = Version::parse("0", Notation::Dotted);
    version.expect("a number is a version")
});

/// A build's own fields, without those that would tell what it asks for.
struct OfBuild<'s>(&'s dyn Source);

impl Source for OfBuild<'_> {
    fn text(&self, field: &str) -> Option<String> {
        match TURNED.contains(&field) {
            true => None,
            false => self.0.text(field),
        }
    }

    fn pairs(&self, field: &str) -> Result<Vec<(String, String)>, Misread> {
        match TURNED.contains(&field) {
            true => Ok(Vec::new()),
            false => self.0.pairs(field),
        }
    }
}

impl Facts {
    /// The least that a component says of itself.
    pub fn new(id: Id, kind: Kind, version: Version) -> Facts {
        Facts::unstated(id, kind, version, NO_BUILD.clone())
    }

    /// What the fields of a reader say of a component.
    ///
    /// # Errors
    /// On texts that make no sense.
    pub fn of_fields(
        id: Id,
        kind: Kind,
        version: Version,
        source: &dyn Source,
        reading: &mut Reading<'_>,
    ) -> Result<Facts, Misread> {
        let mut facts = Facts::new(id, kind, version);
        if kind == Kind::Build {
            facts.gather(&OfBuild(source), reading)?;
            Arc::make_mut(&mut facts.build).gather(source, reading)?;
        } else {
            facts.gather(source, reading)?;
        }
        Ok(facts)
    }

    /// What is there when it is: itself and its members, each in its version.
    pub fn parts(&self) -> impl Iterator<Item = (&Id, &Version)> {
        let members = self.members.iter();
        std::iter::once((&self.id, &self.version)).chain(members.map(|m| (&m.id, &m.version)))
    }

    /// The ids for which it meets needs, and in which version; without one it meets them in every version.
    ///
    /// These are its parts, what it provides and what it replaces.
    pub fn stands_for(&self) -> impl Iterator<Item = (&Id, Option<&Version>)> {
        let parts = self.parts().map(|(id, version)| (id, Some(version)));
        let provides = self.provides.iter();
        let provides = provides.map(|provided| (&provided.id, provided.version.as_ref()));
        let replaces = self.replaces.iter().map(|id| (id, None));
        parts.chain(provides).chain(replaces)
    }

    /// The ids that matter where it is there: what it needs or could need, and what moves with it.
    pub fn leads_to(&self) -> impl Iterator<Item = &Id> {
        let any = self.needs_any.iter().flatten();
        let needs = self.needs.iter().chain(&self.needs_installed).chain(any);
        needs.map(|need| &need.id).chain(&self.companions)
    }

    /// Whether a need is met where it is there.
    pub fn meets(&self, need: &Need) -> bool {
        self.stands_for()
            .any(|(id, version)| need.is_met_by(id, version))
    }

    /// Whether it stands for what a need names in a version out of the range.
    pub fn stands_outside(&self, need: &Need) -> bool {
        let mut own = self.stands_for().filter(|(id, _)| **id == need.id);
        own.any(|(id, version)| !need.is_met_by(id, version))
    }

    /// Whether one of its parts is what a clash means: what only stands in for that is not.
    pub fn is_meant_by(&self, clash: &Need) -> bool {
        let mut parts = self.parts();
        parts.any(|(id, version)| clash.is_met_by(id, Some(version)))
    }

    /// The groups of which only one may be there, its members' among them.
    pub fn groups(&self) -> impl Iterator<Item = &str> {
        let members = self.members.iter().map(|member| &member.group);
        let groups = std::iter::once(&self.group).chain(members);
        groups.filter_map(Option::as_deref)
    }

    /// Whether it says that it lets players with such a client in.
    pub fn lets_in(&self, players: &ClientVersion) -> bool {
        let mut own = self.admits.iter().filter(|it| it.client == players.client);
        own.any(|it| it.versions.holds_early(&players.version))
    }

    /// Whether it is a test release, by its version or its makers' word.
    pub fn is_early(&self) -> bool {
        self.channel == Channel::Early || self.version.is_early()
    }
}

/// How components say that the versions of a kind of client are written: as the first does that says it.
pub fn stated_notation<'f>(
    client: &str,
    mut known: impl Iterator<Item = &'f Facts>,
) -> Option<Notation> {
    known.find_map(|facts| {
        let mut own = facts.admits.iter().filter(|it| it.client == client);
        own.find_map(|it| it.terms.notation)
    })
}

/// A release as a catalogue or a request has it.
#[derive(Debug)]
pub struct ReadRelease {
    /// What it says of itself.
    pub facts: Facts,
    pub(crate) archive: Option<StatedFile>,
    pub(crate) content: Option<Box<str>>,
    pub(crate) inside: Option<Box<str>>,
    pub(crate) was: Option<BTreeMap<String, BTreeMap<String, String>>>,
}

/// Reads a release where it is written, and tells what of it makes no sense, or that something which has to be there is missing.
#[derive(Debug)]
pub struct OneRelease<'r, 'n>(pub &'r mut Reading<'n>);

impl<'de> DeserializeSeed<'de> for OneRelease<'_, '_> {
    type Value = Result<ReadRelease, String>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for OneRelease<'_, '_> {
    type Value = Result<ReadRelease, String>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a release")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        let OneRelease(reading) = self;
        let (mut id, mut kind, mut stated) = (Id::default(), None::<Kind>, String::new());
        let mut build = Ok(None);
        let mut read = ReadRelease {
            facts: Facts::new(Id::default(), Kind::Addon, NO_VERSION.clone()),
            archive: None,
            content: None,
            inside: None,
            was: None,
        };
        let told = read.facts.take(&mut map, reading, |key, map, reading| {
            match key {
                ReleaseKey::id => id = reading.id(&map.next_value::<Passing>()?.0),
                ReleaseKey::kind => kind = map.next_value()?,
                ReleaseKey::version => stated = map.next_value()?,
                ReleaseKey::build => build = map.next_value_seed(OfABuild(reading))?,
                ReleaseKey::archive => read.archive = map.next_value()?,
                ReleaseKey::content => read.content = map.next_value()?,
                ReleaseKey::inside => read.inside = map.next_value()?,
                ReleaseKey::was => read.was = map.next_value()?,
                _ => return Ok(false),
            }
            Ok(true)
        })?;
        if id.as_str().is_empty() {
            return Ok(Err("id is missing".into()));
        }
        if stated.is_empty() {
            return Ok(Err(format!("{id}: version is missing")));
        }
        let say = |error: &dyn fmt::Display| format!("{id} {stated}: {error}");
        let Some(kind) = kind else {
            return Ok(Err(say(&"kind is missing")));
        };
        let version = match reading.version(kind == Kind::Build, &stated) {
            Ok(version) => version,
            Err(error) => return Ok(Err(say(&error))),
        };
        match told.and(build) {
            Ok(Some(build)) => read.facts.build = Arc::new(build),
            Ok(None) => {}
            Err(misread) => return Ok(Err(say(&misread))),
        }
        (read.facts.id, read.facts.kind, read.facts.version) = (id, kind, version);
        Ok(Ok(read))
    }
}

/// What a release says as a build.
struct OfABuild<'r, 'n>(&'r mut Reading<'n>);

impl<'de> DeserializeSeed<'de> for OfABuild<'_, '_> {
    type Value = Result<Option<BuildFacts>, Misread>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_option(self)
    }
}

impl<'de> Visitor<'de> for OfABuild<'_, '_> {
    type Value = Result<Option<BuildFacts>, Misread>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("what a build offers")
    }

    fn visit_unit<E>(self) -> Result<Self::Value, E> {
        Ok(Ok(None))
    }

    fn visit_some<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_map(self)
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        let mut build = BuildFacts::default();
        let told = build.take(&mut map, self.0, |_, _, _| Ok(false))?;
        Ok(told.map(|()| Some(build)))
    }
}

impl WrittenRelease {
    /// What is stated besides id, kind and version: key and words for people, in the order of the list.
    pub fn each(&self) -> Vec<(&'static str, String)> {
        let build = self.build.iter().flat_map(WrittenBuild::stated);
        self.stated().into_iter().chain(build).collect()
    }

    /// Writes facts as they are read again.
    pub fn of(facts: &Facts) -> WrittenRelease {
        let mut written = WrittenRelease {
            id: facts.id.clone(),
            kind: Some(facts.kind),
            version: facts.version.to_string(),
            ..WrittenRelease::default()
        };
        facts.write(&mut written);
        if facts.kind == Kind::Build {
            let mut build = WrittenBuild::default();
            facts.build.write(&mut build);
            written.build = Some(build);
        }
        written
    }
}
