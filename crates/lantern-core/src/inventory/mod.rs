//! What is installed, and which findings follow.

mod findings;
pub(crate) mod layers;
mod switch;
mod turn;

pub use findings::{Finding, Place, Severity};
pub use layers::compare;
pub use switch::{SwitchFault, by_own_word};
pub use turn::Turn;

pub use crate::descriptor::VersionFrom;

use crate::component::{Effect, Id, Kind, Member, Need, Provided, Runs, Side};
use crate::descriptor::{self, Described, Found, Holdings, Subject};
use crate::facts::{Facts, Reading};
use crate::family::{Family, Ground, OrderRule, Shape};
use crate::flags::NamedHashes;
use crate::launch::Flow;
use crate::order::{
    Arrangement, Circle, Follows, Keeping, Link, OrderText, Starters, must_follow, without_circles,
};
use crate::path::RelPath;
use crate::text::Text;
use crate::tree::{Claim, Claims, FileSeen, content_hash};
use crate::version::Version;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::Arc;
use thin_vec::ThinVec;

/// What a component's files are, against what the ledger remembers of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "is")]
pub enum FileState {
    /// The ledger has never seen it.
    New,
    /// As its release shipped it.
    AsShipped,
    /// As it was when the server was adopted; what was shipped is not known.
    AsAdopted,
    /// Some files are not what they were.
    Edited {
        /// Changed files.
        files: Vec<RelPath>,
        /// Files that are there besides.
        added: Vec<RelPath>,
    },
    /// Some files are gone.
    PartlyMissing {
        /// The files that are gone.
        files: Vec<RelPath>,
    },
}

/// The paths that the ledger knows, by whose they are.
pub struct ByOwner<'r>(BTreeMap<&'r Id, Vec<&'r RelPath>>);

impl<'r> ByOwner<'r> {
    /// All that is remembered.
    pub fn new(remembered: &'r BTreeMap<RelPath, Remembered>) -> ByOwner<'r> {
        let mut owned: BTreeMap<&Id, Vec<&RelPath>> = BTreeMap::new();
        for (path, known) in remembered {
            if let Some(owner) = &known.owner {
                owned.entry(owner).or_default().push(path);
            }
        }
        ByOwner(owned)
    }

    fn of(&self, name: &Id) -> &[&'r RelPath] {
        self.0.get(name).map_or(&[], Vec::as_slice)
    }

    /// Whether it is known what a component laid outside its own place: it says so itself, or the ledger does.
    pub fn knows_laid(&self, component: &Component) -> bool {
        let place = component.place.as_ref();
        let outside = |path: &&RelPath| !place.is_some_and(|place| path.is_within(place));
        let mut rows = self.of(&component.ledger_name()).iter();
        !component.holdings.overlay.is_empty() || rows.any(outside)
    }
}

/// One installed component.
#[derive(Debug, Clone)]
pub struct Component {
    /// What it says of itself.
    pub facts: Facts,
    /// The archive or folder it is; none for a build outside the server folder.
    pub place: Option<RelPath>,
    /// What it is made of.
    pub shape: Shape,
    /// The reader that found it.
    pub reader: String,
    /// Its files.
    pub files: Vec<FileSeen>,
    /// Whether it runs, and what says so.
    pub runs: Runs,
    /// The pack it is a member of.
    pub group: Option<Id>,
    /// The entry of the load order that starts it, where that is not its own: a category.
    pub started_by: Option<Id>,
    /// What it lays claim to besides its own place.
    pub holdings: Holdings,
    /// Files that it laid over those of a lower layer and that are not its own any more, with the
    /// BLAKE3 that they should have.
    pub silenced: BTreeMap<RelPath, String>,
    /// Its files against the ledger.
    pub state: FileState,
    /// How its version is known.
    pub version_from: VersionFrom,
}

/// The name under which the ledger knows a component's files.
///
/// A member of a pack is known by pack and id, as the two may share one name.
pub fn ledger_name(id: &Id, group: Option<&Id>) -> Id {
    match group {
        Some(group) => Id::new(&format!("{group}/{id}")),
        None => id.clone(),
    }
}

impl Component {
    /// The name under which the ledger knows its files.
    pub fn ledger_name(&self) -> Id {
        ledger_name(&self.facts.id, self.group.as_ref())
    }

    /// Where it lies, or would if it were on, in a family that parks what is off; none of what has no files.
    pub fn home(&self, family: &Family) -> Option<RelPath> {
        let place = self.place.as_ref()?;
        let reader = family.reader(&self.reader);
        let home = reader.and_then(|reader| RelPath::parse(&reader.home(place.as_str())?).ok());
        Some(home.unwrap_or_else(|| place.clone()))
    }

    /// Where copies of its files lie, each with the file that it is a copy of as long as it has the same content.
    pub fn copies(&self, family: &Family) -> Vec<(RelPath, FileSeen)> {
        let reader = family.reader(&self.reader).into_iter();
        let reader = reader.filter(|reader| reader.parts.iter().any(|part| part.copy));
        let copies = reader.zip(&self.place).flat_map(|(reader, place)| {
            let files = self.files.iter();
            let own = files.filter_map(|file| Some((file.path.below(place.as_str())?, file)));
            own.flat_map(|(below, file)| {
                let paths = reader.copies(below);
                paths.filter_map(|path| Some((RelPath::parse(&path).ok()?, file.clone())))
            })
        });
        copies.collect()
    }

    /// Its size in bytes.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }
}

/// What the ledger remembers of one file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Remembered {
    /// The component that put it there, by its [`ledger_name`].
    pub owner: Option<Id>,
    /// That component's version.
    pub version: Option<String>,
    /// BLAKE3 of what was put there.
    pub hash: String,
    /// Whether that is what the release shipped, rather than what was found at adoption.
    pub shipped: bool,
    /// The file of a lower layer that lies under it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub under: Option<Beneath>,
}

/// A file of a lower layer, as the ledger remembers it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Beneath {
    /// The component that ships it.
    pub owner: Id,
    /// That component's version.
    pub version: Option<String>,
    /// BLAKE3 of its content.
    pub hash: String,
}

/// What catalogues know of releases by what they are made of.
pub trait Catalogued: fmt::Debug {
    /// What is said of the release with this BLAKE3, of its archive or of what it lays.
    fn of_content(&self, blake3: &str) -> Option<Facts>;
}

/// What the host gathered about a server folder.
#[derive(Debug)]
pub struct Evidence<'a> {
    /// Every file but lantern's own.
    pub files: &'a [FileSeen],
    /// For each claim: what [`described`] made of its descriptor files, or why they cannot be read.
    pub described: &'a [Result<Described, String>],
    /// What catalogues know of releases, where there are any.
    pub catalogued: Option<&'a dyn Catalogued>,
    /// The load order as it is written down.
    pub order: Option<&'a OrderText>,
    /// What the ledger remembers.
    pub remembered: &'a BTreeMap<RelPath, Remembered>,
    /// What the administrator wants to be started before what: the first, and the later one.
    pub sooner: &'a [(Id, Id)],
    /// What happens when the server is started.
    pub flow: &'a Flow,
    /// The texts of settings files and scripts, by path.
    pub texts: &'a [(RelPath, Text)],
    /// What add-ons change, in the administrator's words.
    pub effects: &'a BTreeMap<Id, Effect>,
    /// The hashes of files that settings name.
    pub hashes: &'a NamedHashes,
    /// The server version that `lantern.toml` states, for a build outside the folder, or one of which nothing else tells it.
    pub stated: Option<&'a Version>,
    /// What of the install is this server's, where several run on it.
    pub ground: &'a Ground,
}

impl Evidence<'_> {
    /// Whether the load order lies at a path.
    fn is_order(&self, path: &RelPath) -> bool {
        self.order.is_some_and(|order| order.path() == path)
    }

    /// The text of a settings file or a script.
    fn text(&self, path: &RelPath) -> Option<&str> {
        let found = self.texts.binary_search_by(|(it, _)| it.cmp(path));
        found.ok().map(|index| self.texts[index].1.as_str())
    }
}

/// Everything installed.
#[derive(Debug, Clone, Default)]
pub struct Inventory {
    /// The components, by kind, then id.
    pub components: Vec<Component>,
    /// What is to be held against the server.
    pub findings: Vec<Finding>,
    /// Files that belong to no component and are neither kept nor passing.
    pub unowned: Vec<FileSeen>,
    /// The load order as it stands in its file.
    pub order: Arrangement,
}

impl Inventory {
    /// The component with an id.
    pub fn get(&self, id: &Id) -> Option<&Component> {
        self.of_id(id).next()
    }

    /// The component with an id that is no member of a pack.
    pub fn whole(&self, id: &Id) -> Option<&Component> {
        self.of_id(id).find(|component| component.group.is_none())
    }

    /// All components with an id.
    fn of_id(&self, id: &Id) -> impl Iterator<Item = &Component> {
        let of_kind = move |kind: Kind| {
            let is_before = |it: &Component| (it.facts.kind, &it.facts.id) < (kind, id);
            let from = self.components.partition_point(is_before);
            let same = self.components[from..].iter();
            same.take_while(move |it| it.facts.kind == kind && it.facts.id == *id)
        };
        let kinds = [Kind::Build, Kind::Framework, Kind::Pack, Kind::Addon];
        kinds.into_iter().flat_map(of_kind)
    }

    /// The server version: that of the build.
    pub fn server_version(&self) -> Option<&Version> {
        let build = self.components.iter().find(|c| c.facts.kind == Kind::Build);
        build.map(|build| &build.facts.version)
    }

    /// The members of a pack.
    pub fn members<'a>(&'a self, group: &'a Id) -> impl Iterator<Item = &'a Component> {
        // Only packs have any: there may be thousands of components to ask of.
        let is_pack = self.of_id(group).any(|it| it.facts.kind == Kind::Pack);
        let all = match is_pack {
            true => &self.components[..],
            false => &[],
        };
        all.iter().filter(move |c| c.group.as_ref() == Some(group))
    }

    /// What of the running add-ons has to be started before what, circles and all.
    pub fn follows(&self, sooner: &[(Id, Id)]) -> Follows {
        let addons = self
            .components
            .iter()
            .filter(|c| c.facts.kind == Kind::Addon);
        let running = addons.filter(|c| !c.runs.is_off()).map(|c| &c.facts);
        must_follow(running, sooner)
    }

    /// What of the running add-ons has to be started before what, with the links that gave way so that there is no circle.
    ///
    /// # Errors
    /// With a circle in which every link has to hold.
    pub fn turns(&self, sooner: &[(Id, Id)]) -> Result<(Follows, Vec<Link>), Circle> {
        without_circles(self.follows(sooner))
    }

    /// The components that are moved by themselves, each pack with its running members' facts taken into its own. What
    /// lies outside the folder is not moved.
    pub fn movable(&self) -> Vec<(&Component, Facts)> {
        let runs = |component: &&Component| !component.runs.is_off();
        let whole = self.components.iter();
        let whole = whole.filter(|c| c.group.is_none() && c.place.is_some());
        whole
            .map(|component| {
                let members = self.members(&component.facts.id).filter(runs);
                let members = members.map(|member| &member.facts);
                (component, as_group(&component.facts, members))
            })
            .collect()
    }
}

/// The inventory of an install that several servers run on: what any of them has; what any of them starts runs. Each has
/// a load order of its own, so there is none of the whole.
pub fn united<'a>(each: impl Iterator<Item = &'a Inventory>) -> Inventory {
    let mut whole = Inventory::default();
    let mut components: BTreeMap<_, Component> = BTreeMap::new();
    for inventory in each {
        for component in &inventory.components {
            let facts = &component.facts;
            let place = (component.place.clone(), component.group.clone());
            let known = components.entry((facts.kind, facts.id.clone(), place));
            let known = known.or_insert_with(|| component.clone());
            if known.runs.is_off() {
                known.runs = component.runs;
            }
            // The load order of each is no component's.
            if known.files != component.files {
                let files: BTreeSet<&RelPath> = component.files.iter().map(|it| &it.path).collect();
                known.files.retain(|file| files.contains(&file.path));
            }
        }
        whole.findings.extend(inventory.findings.iter().cloned());
        whole.unowned.extend(inventory.unowned.iter().cloned());
    }
    whole.components = components.into_values().collect();
    // What one of them leaves out and another starts is there for a reason.
    let runs = |place: &findings::Place| {
        let mut components = whole.components.iter();
        components.any(|it| it.place.as_ref() == Some(&place.path) && it.runs == Runs::On)
    };
    whole.findings.retain(|finding| {
        finding.code != "not-started" || !finding.place.as_ref().is_some_and(runs)
    });
    whole.findings.sort();
    whole.findings.dedup();
    whole.unowned.sort_by(|a, b| a.path.cmp(&b.path));
    whole.unowned.dedup_by(|a, b| a.path == b.path);
    whole
}

/// The facts of a pack as a whole: its members are there with it, and what they ask of others it asks of them.
pub fn as_group<'a>(group: &Facts, members: impl Iterator<Item = &'a Facts>) -> Facts {
    let mut whole = group.clone();
    // A member may have the pack's own name.
    let members: Vec<&Facts> = members.collect();
    let inside: BTreeSet<&Id> = members.iter().map(|m| &m.id).collect();
    for member in &members {
        let seldom = Arc::make_mut(&mut whole.seldom);
        for (into, from) in [
            (&mut whole.needs, &member.needs),
            (&mut seldom.needs_installed, &member.needs_installed),
            (&mut whole.uses, &member.uses),
            (&mut whole.clashes, &member.clashes),
            (&mut seldom.uses_provided, &member.uses_provided),
            (&mut seldom.clashes_provided, &member.clashes_provided),
        ] {
            let outside = from.iter().filter(|need| !inside.contains(&need.id));
            add_new(into, outside);
        }
        let apart = |needs: &&ThinVec<Need>| !needs.iter().any(|need| inside.contains(&need.id));
        add_new(&mut whole.needs_any, member.needs_any.iter().filter(apart));
        let outside = |ids: &'a [Id]| ids.iter().filter(|id| !inside.contains(id));
        add_new(&mut whole.replaces, outside(&member.replaces));
        add_new(&mut whole.provides, member.provides.iter());
        add_new(&mut whole.admits, member.admits.iter());
        for (kind, slots) in &member.takes {
            let takes = whole.takes.entry(kind.clone()).or_default();
            *takes = takes.saturating_add(*slots);
        }
        if member.id != group.id {
            whole.members.push(Member {
                id: member.id.clone(),
                version: member.version.clone(),
                group: member.group.clone(),
            });
        }
    }
    whole
}

fn add_new<'a, T: Clone + PartialEq + 'a>(
    into: &mut ThinVec<T>,
    from: impl Iterator<Item = &'a T>,
) {
    for item in from {
        if !into.contains(item) {
            into.push(item.clone());
        }
    }
}

/// Takes the inventory of a server folder.
pub fn take(family: &Family, claims: &Claims<'_>, evidence: &Evidence<'_>) -> Inventory {
    let mut inventory = Inventory::default();
    if let (Some(rule), Some(order)) = (&family.order, evidence.order) {
        inventory.order = Arrangement::read(rule, order.as_str());
        let read = claims.claims.iter().zip(evidence.described);
        let addons = read.filter_map(|(claim, read)| {
            let facts = &read.as_ref().ok()?.facts;
            (facts.kind == Kind::Addon).then_some((&facts.id, &claim.home))
        });
        inventory.order.mean(rule, addons);
    }
    let starters = inventory.order.starters();
    let mut unreadable = Vec::new();
    let mut unread_versions = Vec::new();
    let mut read: Vec<Option<Component>> = Vec::new();
    for (claim, described) in claims.claims.iter().zip(evidence.described) {
        let group = claim
            .group
            .and_then(|group| Some(read[group].as_ref()?.facts.id.clone()));
        read.push(match described {
            Ok(described) => {
                let described = described.clone();
                if let Some(fault) = &described.unread_version {
                    unread_versions.push((&claim.place, fault.clone()));
                }
                Some(component(
                    family, claim, described, group, &starters, evidence,
                ))
            }
            Err(why) => {
                let is_off = claim.home != claim.place;
                unreadable.push(findings::unreadable(&claim.place, why, is_off));
                None
            }
        });
    }
    inventory.components = read.into_iter().flatten().collect();
    let elsewhere = |component: &Component| {
        let place = component.place.as_ref();
        place.is_some_and(|place| evidence.ground.is_elsewhere(place.as_str()))
    };
    inventory.components.retain(|it| !elsewhere(it));
    if let Some(rule) = &family.order {
        started_by_name(rule, family, &mut inventory);
    }
    let spares = without_spares(family, &mut inventory);
    layers::settle(&mut inventory.components, family, claims, evidence);
    for component in &mut inventory.components {
        known_by_content(component, family, evidence);
    }
    entries(family, &mut inventory);
    match (family.build.outside, evidence.stated) {
        (_, None) => {}
        (true, Some(version)) => inventory.components.push(outside_build(family, version)),
        (false, Some(version)) => {
            let components = inventory.components.iter_mut();
            let untold = components.filter(|it| it.version_from == VersionFrom::Content);
            for build in untold.filter(|it| it.facts.kind == Kind::Build) {
                build.facts.version = version.clone();
                build.version_from = VersionFrom::Stated;
            }
        }
    }
    for build in &mut inventory.components {
        if build.facts.kind == Kind::Build {
            let provides = family.build.provides.iter();
            build.facts.provides.extend(provides.map(|id| provided(id)));
        }
    }
    inventory.components.sort_by(|a, b| {
        let key = |c: &Component| (c.facts.kind, c.facts.id.clone(), c.place.clone());
        key(a).cmp(&key(b))
    });
    let owned: BTreeSet<&RelPath> = inventory
        .components
        .iter()
        .flat_map(|component| component.files.iter().map(|file| &file.path))
        .collect();
    let data: BTreeSet<&str> = inventory
        .components
        .iter()
        .filter_map(|component| Some(component.holdings.data.as_ref()?.as_str()))
        .collect();
    let is_data = |path: &str| {
        let mut folders = path.match_indices('/').map(|(at, _)| &path[..at]);
        !data.is_empty() && folders.any(|folder| data.contains(folder))
    };
    for (index, file) in evidence.files.iter().enumerate() {
        let path = file.path.as_str();
        let known = claims.owner[index].is_some()
            || owned.contains(&file.path)
            || family.keeps(path)
            || family.passes(path)
            || family.is_settings(path)
            || is_data(path)
            || evidence.ground.is_elsewhere(path);
        if !known && !evidence.order.is_some_and(|order| order.holds(&file.path)) {
            inventory.unowned.push(file.clone());
        }
    }
    let mut found = findings::find(family, &inventory, evidence);
    found.extend(unreadable);
    // Others may know it all the same.
    found.extend(unread_versions.iter().filter_map(|(place, fault)| {
        let mut components = inventory.components.iter();
        let it = components.find(|it| it.place.as_ref() == Some(*place))?;
        let is_unknown = it.version_from == VersionFrom::Content;
        is_unknown.then(|| findings::version_unread(place, fault))
    }));
    found.extend(spares);
    found.retain(|finding| {
        let place = finding.place.as_ref();
        !place.is_some_and(|place| evidence.ground.is_elsewhere(place.path.as_str()))
    });
    found.sort();
    inventory.findings = found;
    inventory
}

/// Reads the descriptor files of what a reader claims of a folder's files; `reading` is of the family's notations.
///
/// # Errors
/// As [`descriptor::read_installed`], in words.
pub fn described(
    family: &Family,
    claim: &Claim<'_>,
    files: &[FileSeen],
    found: &[Found],
    reading: &mut Reading<'_>,
) -> Result<Described, String> {
    let files = claim.files.iter().map(|index| &files[*index]);
    let hashed = files.filter_map(|file| Some((&file.path, file.hash.as_deref()?)));
    let subject = Subject {
        reader: claim.reader,
        family,
        place: claim.home.as_str(),
        content: &content_hash(&claim.place, hashed),
        archive: None,
    };
    descriptor::read_installed(&subject, found, reading).map_err(|fault| fault.to_string())
}

/// Makes a component of what a reader claims.
fn component(
    family: &Family,
    claim: &Claim<'_>,
    described: Described,
    group: Option<Id>,
    starters: &Starters<'_>,
    evidence: &Evidence<'_>,
) -> Component {
    let files = claim.files.iter().map(|index| &evidence.files[*index]);
    // The load order is the place's own, whoever's folder it lies in.
    let files = files.filter(|file| !evidence.is_order(&file.path));
    let files = files.cloned().collect();
    let Described {
        facts,
        holdings,
        version_from,
        unread_version: _,
    } = described;
    let switched = facts.kind == Kind::Addon
        && facts.side != Some(Side::Client)
        && claim.reader.shape != Shape::Group;
    let usual = match (switched, &claim.reader.switch) {
        (true, _) if claim.home != claim.place => Runs::Off,
        (true, Some(switch)) => match switch.path(&claim.place) {
            Some(path) => by_own_word(switch, family, &path, evidence.text(&path)).0,
            None => Runs::Unsaid,
        },
        (true, None) => family.runs(claim.reader),
        (false, _) => Runs::Unsaid,
    };
    let listed = usual.is_switched() && !claim.reader.is_apart();
    let rule = family.order.as_ref().filter(|_| listed);
    let starter = rule.and_then(|rule| starters.of(rule, &facts.id, &claim.place));
    Component {
        runs: match rule {
            Some(rule) => Runs::switched(starter.map_or(rule.runs_unlisted(), |line| line.on)),
            None => usual,
        },
        started_by: starter
            .map(|line| line.id.clone())
            .filter(|id| *id != facts.id),
        facts,
        place: Some(claim.place.clone()),
        shape: claim.reader.shape,
        reader: claim.reader.name.clone(),
        files,
        group,
        holdings,
        silenced: BTreeMap::new(),
        state: FileState::New,
        version_from,
    }
}

/// Looks for a component among what catalogues know, by its content: of what states no version they say it, and what it is
/// one of where its own descriptor does not. Else its content stands for a version.
fn known_by_content(component: &mut Component, family: &Family, evidence: &Evidence<'_>) {
    let Some(place) = component.place.as_ref() else {
        return;
    };
    let is_unknown = component.version_from == VersionFrom::Content;
    if !is_unknown && (component.facts.group.is_some() || evidence.catalogued.is_none()) {
        return;
    }
    let hashed = component.files.iter();
    let hashed = hashed.filter_map(|file| Some((&file.path, file.hash.as_deref()?)));
    let content = content_hash(place, hashed);
    let known = evidence.catalogued.and_then(|all| all.of_content(&content));
    if !is_unknown {
        if let Some(group) = known.and_then(|known| known.group.clone()) {
            component.facts.group = Some(group);
        }
        return;
    }
    let Some(known) = known else {
        component.facts.version = Version::of_content(&content);
        return;
    };
    component.version_from = VersionFrom::Catalogue;
    let reader = family.reader(&component.reader);
    match reader.is_some_and(|reader| reader.files.is_empty()) {
        true => component.facts = known,
        false => {
            if let (None, Some(group)) = (&component.facts.group, &known.group) {
                component.facts.group = Some(group.clone());
            }
            component.facts.version = known.version;
        }
    }
}

/// Reads the load order in the names of what runs, where names tell it, and else finds whom its entries mean by where they lie.
pub fn arrange_by_place(rule: &OrderRule, inventory: &mut Inventory) {
    let addons = inventory.components.iter();
    let addons = addons.filter(|c| c.facts.kind == Kind::Addon);
    let lie = |c: &Component| Some((c.facts.id.clone(), c.place.clone()?));
    match rule.kind.keeping() {
        Keeping::Names => {
            let started = addons.filter(|c| c.runs == Runs::On);
            let started: Vec<(Id, RelPath)> = started.filter_map(lie).collect();
            inventory.order = Arrangement::of_names(rule, started.iter().map(|(id, at)| (id, at)));
        }
        Keeping::Text(_) => {
            let all: Vec<(Id, RelPath)> = addons.filter_map(lie).collect();
            inventory
                .order
                .mean(rule, all.iter().map(|(id, at)| (id, at)));
        }
    }
}

/// Where names tell the load order, what has one of them runs.
fn started_by_name(rule: &OrderRule, family: &Family, inventory: &mut Inventory) {
    let Keeping::Names = rule.kind.keeping() else {
        return;
    };
    let switched = inventory.components.iter_mut();
    let by_name = |it: &&mut Component| it.runs.is_switched() && !family.is_apart(&it.reader);
    for component in switched.filter(by_name) {
        let place = component.place.as_ref();
        let is_named = place.is_some_and(|place| rule.file.matches(place.as_str()));
        component.runs = match is_named {
            true => Runs::On,
            false => Runs::Unsaid,
        };
    }
    arrange_by_place(rule, inventory);
}

/// Takes out what is parked beside another one of the same id that runs: it is no second one, and nothing is done with it.
fn without_spares(family: &Family, inventory: &mut Inventory) -> Vec<Finding> {
    let is_parked = |it: &Component| it.runs.is_off() && family.is_apart(&it.reader);
    let all = std::mem::take(&mut inventory.components);
    let (parked, mut all): (Vec<_>, Vec<_>) = all.into_iter().partition(is_parked);
    let mut spares = Vec::new();
    for it in parked {
        let is_same = |other: &&Component| other.facts.id == it.facts.id && !other.runs.is_off();
        match all.iter().find(is_same).zip(it.place.as_ref()) {
            Some((beside, place)) => spares.push(findings::spare(&it.facts, place, beside)),
            None => all.push(it),
        }
    }
    inventory.components = all;
    spares
}

/// Adds what stands in the load order and has no files of its own, where a reader knows such.
fn entries(family: &Family, inventory: &mut Inventory) {
    let mut readers = family.readers.iter();
    let Some(reader) = readers.find(|reader| reader.shape == Shape::Entry) else {
        return;
    };
    let there: BTreeSet<Id> = inventory
        .components
        .iter()
        .map(|c| c.facts.id.clone())
        .collect();
    for line in inventory
        .order
        .entries
        .iter()
        .filter(|e| !there.contains(&e.id))
    {
        inventory.components.push(Component {
            facts: Facts::new(line.id.clone(), reader.kind, Version::of_content("unknown")),
            place: None,
            shape: Shape::Entry,
            reader: reader.name.clone(),
            files: Vec::new(),
            runs: Runs::switched(line.on),
            group: None,
            started_by: None,
            holdings: Holdings::default(),
            silenced: BTreeMap::new(),
            state: FileState::New,
            version_from: VersionFrom::Content,
        });
    }
}

fn provided(id: &str) -> Provided {
    Provided {
        id: Id::new(id),
        version: None,
    }
}

fn outside_build(family: &Family, version: &Version) -> Component {
    Component {
        facts: Facts {
            side: Some(Side::Server),
            ..Facts::new(Id::new(&family.build.id), Kind::Build, version.clone())
        },
        place: None,
        shape: Shape::Folder,
        reader: String::new(),
        files: Vec::new(),
        runs: Runs::Unsaid,
        group: None,
        started_by: None,
        holdings: Holdings::default(),
        silenced: BTreeMap::new(),
        state: FileState::New,
        version_from: VersionFrom::Stated,
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::tree::claim;
    use crate::tree::tests::{FAMILY, seen};

    /// Takes the inventory of `path = descriptor` lines over the small test family.
    pub(crate) fn inventory(
        files: &[(&str, &str)],
        order: &str,
        remembered: &BTreeMap<RelPath, Remembered>,
    ) -> Inventory {
        inventory_in(&Family::parse(FAMILY).unwrap(), files, order, remembered)
    }

    /// Likewise, over another family.
    pub(crate) fn inventory_in(
        family: &Family,
        files: &[(&str, &str)],
        order: &str,
        remembered: &BTreeMap<RelPath, Remembered>,
    ) -> Inventory {
        let paths: Vec<&str> = files.iter().map(|(path, _)| *path).collect();
        let listing = seen(&paths);
        let claims = claim(family, &listing);
        let mut reading = Reading::new(&family.versions);
        let described: Vec<_> = claims
            .claims
            .iter()
            .map(|claim| {
                let text = files.iter().find(|(path, _)| *path == claim.place.as_str());
                let found = match text {
                    Some((_, "!")) => return Err("the archive breaks off".to_owned()),
                    Some((_, text)) => vec![Found {
                        file: 0,
                        name: "addon.toml".into(),
                        text: (*text).to_owned(),
                    }],
                    None => Vec::new(),
                };
                described(family, claim, &listing, &found, &mut reading)
            })
            .collect();
        let order_path = RelPath::parse("x.conf").unwrap();
        let rule = family.order.as_ref().unwrap();
        let text = Text::read(order.as_bytes());
        let order = OrderText::read(rule, order_path, text, &mut |_, _| Vec::new());
        let evidence = Evidence {
            files: &listing,
            described: &described,
            order: Some(&order),
            catalogued: None,
            remembered,
            sooner: &[],
            flow: &Flow::default(),
            texts: &[],
            effects: &BTreeMap::new(),
            hashes: &NamedHashes::new(),
            stated: None,
            ground: &Ground::default(),
        };
        take(family, &claims, &evidence)
    }

    #[test]
    fn a_pack_stands_in_for_its_members_in_their_versions() {
        use crate::component::{Kind, Need};
        use crate::version::{Notation, Range};
        let version = |text: &str| Version::parse(text, Notation::Dotted).unwrap();
        let pack = Facts::new(Id::new("sampler"), Kind::Pack, version("5"));
        let red = Facts::new(Id::new("red"), Kind::Addon, version("1.0"));
        let whole = as_group(&pack, [&red].into_iter());
        let met = |range: &str| {
            let need = Need {
                id: Id::new("red"),
                range: Range::parse(
                    range,
                    crate::version::RangeNotation::Comparators,
                    Notation::Dotted,
                )
                .unwrap(),
            };
            whole.meets(&need)
        };
        assert!(met(">=1"));
        assert!(!met(">=2"));
    }

    #[test]
    fn states_follow_from_the_ledger() {
        let path = |text: &str| RelPath::parse(text).unwrap();
        let remembered = |id: &str, text: &str, shipped| Remembered {
            owner: Some(Id::new(id)),
            version: Some("1".into()),
            hash: blake3::hash(text.as_bytes()).to_hex().to_string(),
            shipped,
            under: None,
        };
        let known = BTreeMap::from([
            (
                path("addons/a.bloom"),
                remembered("a", "addons/a.bloom", true),
            ),
            (path("addons/b.bloom"), remembered("b", "another", true)),
            (
                path("mods/c/init.lua"),
                remembered("c", "mods/c/init.lua", false),
            ),
            (
                path("mods/d/init.lua"),
                remembered("d", "mods/d/init.lua", false),
            ),
            (path("mods/d/lost.lua"), remembered("d", "x", false)),
        ]);
        let files = [
            ("addons/a.bloom", "id='a'\nversion='1'"),
            ("addons/b.bloom", "id='b'\nversion='1'"),
            ("mods/c/init.lua", ""),
            ("mods/d/init.lua", ""),
            ("mods/e/init.lua", ""),
        ];
        let inventory = inventory(&files, "", &known);
        let told: Vec<String> = inventory
            .components
            .iter()
            .map(|c| format!("{} {:?}", c.facts.id, c.state))
            .collect();
        insta::assert_snapshot!(told.join("\n"), @r#"
        a AsShipped
        b Edited { files: [RelPath("addons/b.bloom")], added: [] }
        c AsAdopted
        d PartlyMissing { files: [RelPath("mods/d/lost.lua")] }
        e New
        "#);
    }

    #[test]
    fn a_pack_needs_what_its_running_members_need() {
        let need = |id: &str| crate::component::Need {
            id: Id::new(id),
            range: crate::version::Range::any(),
        };
        let facts = |id: &str, needs: &[&str]| Facts {
            needs: needs.iter().map(|id| need(id)).collect(),
            ..Facts::new(Id::new(id), Kind::Pack, Version::of_content("00"))
        };
        let (red, blue) = (
            facts("red", &["wire", "glass"]),
            facts("blue", &["red", "glass"]),
        );
        let whole = as_group(&facts("lamps", &[]), [&red, &blue].into_iter());
        let members: Vec<&str> = whole.members.iter().map(|m| m.id.as_str()).collect();
        assert_eq!(members, ["red", "blue"]);
        assert_eq!(whole.needs, [need("wire"), need("glass")]);
    }
}
