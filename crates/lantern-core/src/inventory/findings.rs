//! What the survey holds against a server.

use super::{Component, Evidence, FileState, Inventory};
use crate::also::{self, Those};
use crate::component::{Id, Kind, Need, Runs, Side};
use crate::descriptor::DescriptorFault;
use crate::facts::Facts;
use crate::family::OrderRule;
use crate::family::{Family, Shape};
use crate::flags::{self, Basis, FlagSeen};
use crate::launch::Flow;
use crate::order::{Arrangement, Circle, Follows, OrderText, Why};
use crate::path::RelPath;
use crate::tree::{FileSeen, below, marked};
use crate::version::Version;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

/// How much a finding matters; the worst come first.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// Something does not run, or the server does not start.
    Wrong,
    /// Something is probably not as it was meant.
    Caution,
    /// Worth knowing.
    Note,
}

/// Where a finding is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct Place {
    /// The file or folder.
    pub path: RelPath,
    /// The line, from 1, where there is one.
    pub line: Option<usize>,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.line {
            Some(line) => write!(f, "{}:{line}", self.path),
            None => write!(f, "{}", self.path),
        }
    }
}

/// Something that the survey holds against the server.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct Finding {
    /// How much it matters.
    pub severity: Severity,
    /// A stable word for what it is; docs/findings.md lists them.
    pub code: &'static str,
    /// Where it is.
    pub place: Option<Place>,
    /// One sentence.
    pub text: String,
    /// What to do.
    pub remedy: String,
}

/// A version that makes no sense, of something that is there all the same.
pub(super) fn version_unread(path: &RelPath, fault: &DescriptorFault) -> Finding {
    Finding {
        severity: Severity::Caution,
        code: "version-unread",
        place: Some(Place {
            path: path.clone(),
            line: None,
        }),
        text: format!("its version is not known: {fault}"),
        remedy: "have its reader in the family take what counts of it: version = { at = …, pattern = '(?P<value>…)' }"
            .into(),
    }
}

/// What cannot be read; where it lies switched off, it is in the way of nothing.
pub(super) fn unreadable(path: &RelPath, why: &str, is_off: bool) -> Finding {
    let finding = Finding {
        severity: Severity::Wrong,
        code: "unreadable",
        place: Some(Place {
            path: path.clone(),
            line: None,
        }),
        text: format!("it cannot be read: {why}"),
        remedy: "download it again, or remove it from the folder".into(),
    };
    match is_off {
        true => Finding {
            severity: Severity::Caution,
            text: format!("it is off, and cannot be read: {why}"),
            ..finding
        },
        false => finding,
    }
}

pub(super) fn spare(facts: &Facts, place: &RelPath, beside: &Component) -> Finding {
    let there = beside.place.as_ref().map_or("", RelPath::as_str);
    Finding {
        severity: Severity::Note,
        code: "spare",
        place: Some(Place {
            path: place.clone(),
            line: None,
        }),
        text: format!(
            "{} is off here, and runs in {there}: this one stays as it is",
            facts.id
        ),
        remedy: "remove it, unless you keep it as a spare".into(),
    }
}

struct Finder<'a> {
    inventory: &'a Inventory,
    order: Option<&'a OrderText>,
    /// Whether the load order stands in the names of the add-ons.
    is_in_names: bool,
    findings: Vec<Finding>,
}

impl Finder<'_> {
    fn add(
        &mut self,
        severity: Severity,
        code: &'static str,
        place: Option<Place>,
        text: String,
        remedy: &str,
    ) {
        self.findings.push(Finding {
            severity,
            code,
            place,
            text,
            remedy: remedy.into(),
        });
    }

    fn at(&self, index: usize) -> Option<Place> {
        let path = self.inventory.components[index].place.clone()?;
        Some(Place { path, line: None })
    }

    fn in_order(&self, line: usize) -> Option<Place> {
        let (path, line) = self.order?.place(line);
        Some(Place {
            path: path.clone(),
            line: Some(line),
        })
    }
}

pub(super) fn find(
    family: &Family,
    inventory: &Inventory,
    evidence: &Evidence<'_>,
) -> Vec<Finding> {
    let files = evidence.files;
    let rule = family.order.as_ref();
    let is_in_names = rule.is_some_and(OrderRule::is_in_names);
    let mut finder = Finder {
        inventory,
        order: evidence.order,
        is_in_names,
        findings: Vec::new(),
    };
    // One that names what is off is perhaps written when something is.
    let is_awaited = rule.is_some_and(|rule| !rule.is_in_names() && !rule.runs_unlisted());
    if is_awaited && evidence.order.is_none() {
        finder.add(
            Severity::Wrong,
            "order-file-missing",
            None,
            "the file that holds the load order is missing".into(),
            "put it back from a backup, or start the server once so that it writes one",
        );
    }
    let of_order = evidence.order.into_iter().flat_map(OrderText::files);
    for (path, _) in of_order.filter(|(_, text)| !text.is_plain()) {
        let place = Place {
            path: path.clone(),
            line: None,
        };
        finder.add(
            Severity::Wrong,
            "order-encoding",
            Some(place),
            "the load order is not plain text: it holds zero bytes".into(),
            "save it as UTF-8 in an editor: until then no plan can change it",
        );
    }
    let mut by_id: BTreeMap<&Id, Vec<usize>> = BTreeMap::new();
    for (index, component) in inventory.components.iter().enumerate() {
        by_id.entry(&component.facts.id).or_default().push(index);
    }
    twice(&mut finder, &by_id);
    server_unknown(&mut finder);
    start_scripts(&mut finder, evidence.flow);
    wrong_flags(&mut finder, family, evidence);
    short_lists(&mut finder, family, evidence);
    files_changed(&mut finder);
    relations(&mut finder, &by_id);
    rivals(&mut finder);
    misplaced(&mut finder, family, files);
    let turns = match inventory.turns(evidence.sooner) {
        Ok((turns, _)) => turns,
        Err(circle) => {
            in_circle(&mut finder, &circle);
            Follows::new()
        }
    };
    if let Some(rule) = rule.filter(|_| evidence.order.is_some() || is_in_names) {
        start_lines(&mut finder, (family, rule), &by_id, turns);
    }
    finder.findings
}

fn twice(finder: &mut Finder<'_>, by_id: &BTreeMap<&Id, Vec<usize>>) {
    for (id, indices) in by_id.iter().filter(|(_, indices)| indices.len() > 1) {
        let components = &finder.inventory.components;
        // A pack may have a member of its own name.
        let alike = indices
            .iter()
            .filter(|i| components[**i].facts.kind == components[indices[0]].facts.kind);
        let places: Vec<String> = alike
            .map(|i| {
                let component = &components[*i];
                let place = component.place.as_ref().map_or("", RelPath::as_str);
                format!("{} in {place}", component.facts.version)
            })
            .collect();
        if places.len() > 1 {
            let place = finder.at(indices[0]);
            let text = format!(
                "{id} is installed {} times: {}",
                places.len(),
                places.join(", ")
            );
            finder.add(
                Severity::Wrong,
                "twice",
                place,
                text,
                "remove the one you do not want",
            );
        }
    }
}

fn files_changed(finder: &mut Finder<'_>) {
    for (index, component) in finder.inventory.components.iter().enumerate() {
        let id = &component.facts.id;
        let first = |files: &[RelPath]| {
            files.first().map(|path| Place {
                path: path.clone(),
                line: None,
            })
        };
        if let Some(path) = component.silenced.keys().next() {
            let place = Some(Place {
                path: path.clone(),
                line: None,
            });
            let more = match component.silenced.len() - 1 {
                0 => String::new(),
                n => format!(" and {} more", count(n, "file", "files")),
            };
            let text = format!(
                "{id} is installed but not active: {path}{more} is not the file it put there"
            );
            let remedy = "an update of the server program put its own file back; lantern plan --to same installs it again";
            finder.add(Severity::Wrong, "framework-inactive", place, text, remedy);
        }
        match &component.state {
            FileState::Edited { files, added } => {
                if !files.is_empty() {
                    let text = format!(
                        "{id}: {} changed since installation",
                        count(files.len(), "file was", "files were")
                    );
                    let remedy = "nothing, if you meant it: lantern diff shows it, and a changeover that sets yours aside says so";
                    finder.add(Severity::Note, "edited", first(files), text, remedy);
                }
                if !added.is_empty() {
                    let text = format!(
                        "{id}: {} there that {} not part of it",
                        count(added.len(), "file is", "files are"),
                        if added.len() == 1 { "is" } else { "are" }
                    );
                    let remedy = "remove what you did not put there; it may be left over from an older release";
                    finder.add(Severity::Caution, "not-of-it", first(added), text, remedy);
                }
            }
            FileState::PartlyMissing { files } => {
                let text = format!(
                    "{id}: {} missing",
                    count(files.len(), "file is", "files are")
                );
                let remedy = "install the release again, or remove the component";
                finder.add(
                    Severity::Wrong,
                    "partly-missing",
                    first(files),
                    text,
                    remedy,
                );
            }
            FileState::New | FileState::AsShipped | FileState::AsAdopted => {}
        }
        if component.facts.side == Some(Side::Client) {
            let place = finder.at(index);
            let text = format!("{id} is only for players' clients");
            finder.add(
                Severity::Caution,
                "client-only",
                place,
                text,
                "remove it from the server folder",
            );
        }
    }
}

/// Where nobody says which version the server program is, nothing can be said of what is made for it.
fn server_unknown(finder: &mut Finder<'_>) {
    let components = &finder.inventory.components;
    let build = components
        .iter()
        .position(|it| it.facts.kind == Kind::Build);
    let Some(build) = build.filter(|at| components[*at].facts.version.is_content()) else {
        return;
    };
    let states = components
        .iter()
        .filter(|it| it.facts.kind != Kind::Build && it.facts.server.is_some());
    let many = states.count();
    if many > 0 {
        let text = format!(
            "nobody says which version {} is: whether {} of {} {} for it is unknown",
            components[build].facts.id,
            many,
            count(components.len() - 1, "component", "components"),
            if many == 1 { "is" } else { "are" },
        );
        let remedy = "let its reader in the family file find the version, name a catalogue that knows this very program, or state it in lantern.toml as server_version";
        let place = finder.at(build);
        finder.add(Severity::Caution, "server-unknown", place, text, remedy);
    }
}

fn relations(finder: &mut Finder<'_>, by_id: &BTreeMap<&Id, Vec<usize>>) {
    let components = &finder.inventory.components;
    let server = finder.inventory.server_version();
    let mut stand_for: BTreeMap<&Id, Vec<usize>> = BTreeMap::new();
    for (index, component) in components.iter().enumerate() {
        for (id, _) in component.facts.stands_for() {
            stand_for.entry(id).or_default().push(index);
        }
    }
    let empty = Vec::new();
    for (index, component) in components.iter().enumerate() {
        let facts = &component.facts;
        if component.runs.is_off() {
            continue;
        }
        let framework = components.iter().find(|c| c.facts.kind == Kind::Framework);
        if let (Some(range), Some(framework)) = (&facts.framework, framework)
            && !range.may_hold(&framework.facts.version)
        {
            let there = &framework.facts;
            let text = format!(
                "{} {} is for {} {range}, not for {}",
                facts.id, facts.version, there.id, there.version
            );
            let remedy = "lantern plan finds releases that fit together";
            let place = finder.at(index);
            finder.add(Severity::Wrong, "other-framework", place, text, remedy);
        }
        if let (Some(range), Some(server)) = (&facts.server, server)
            && !range.may_hold(server)
        {
            let place = finder.at(index);
            let text = format!(
                "{} {} is for server {range}, not for {server}",
                facts.id, facts.version
            );
            let remedy = "lantern plan finds a release for this server version";
            finder.add(Severity::Wrong, "other-server-version", place, text, remedy);
        }
        let on = |i: &usize| !components[*i].runs.is_off();
        let bearing = |need: &Need| stand_for.get(&need.id).unwrap_or(&empty);
        let fits = |need: &Need, i: &usize| components[*i].facts.meets(need);
        let met = |need: &Need| bearing(need).iter().any(|i| fits(need, i) && on(i));
        for need in facts.needs.iter().filter(|need| !met(need)) {
            let whose = format!("{} needs {need}", facts.id);
            let (code, text, remedy) = if bearing(need).iter().any(|i| fits(need, i)) {
                (
                    "need-off",
                    format!("{whose}, which is switched off"),
                    "switch it on (plan --on), or switch off what needs it (plan --off)",
                )
            } else if let Some(other) = bearing(need).first() {
                let there = there_instead(need, &components[*other].facts);
                (
                    "need-out-of-range",
                    format!("{whose}, but {there} is installed"),
                    "lantern plan finds releases that fit together",
                )
            } else {
                (
                    "need-missing",
                    format!("{whose}, which is not installed"),
                    "install it, or switch off what needs it",
                )
            };
            let place = finder.at(index);
            finder.add(Severity::Wrong, code, place, text, remedy);
        }
        for needs in &facts.needs_any {
            if !needs.iter().any(met) {
                let listed: Vec<String> = needs.iter().map(ToString::to_string).collect();
                let text = format!(
                    "{} needs one of {}, and none of them is running",
                    facts.id,
                    listed.join(", ")
                );
                let remedy = "install one, or switch off what needs it";
                let place = finder.at(index);
                finder.add(Severity::Wrong, "need-missing", place, text, remedy);
            }
        }
        for used in &facts.uses {
            let there = by_id
                .get(&used.id)
                .unwrap_or(&empty)
                .iter()
                .filter(|i| on(i));
            if let Some(other) = there.clone().next()
                && !there
                    .clone()
                    .any(|i| components[*i].facts.is_meant_by(used))
            {
                let there = there_instead(used, &components[*other].facts);
                let text = format!("{} works with {used}, but {there} is installed", facts.id);
                let remedy = "lantern plan finds releases that fit together";
                let place = finder.at(index);
                finder.add(Severity::Wrong, "need-out-of-range", place, text, remedy);
            }
        }
        let beside = |those: &[usize]| -> Vec<&Facts> {
            let others = those.iter().filter(|other| **other != index && on(other));
            others.map(|other| &components[*other].facts).collect()
        };
        for used in &facts.uses_provided {
            let others = beside(bearing(used)).into_iter();
            for other in others.filter(|other| other.stands_outside(used)) {
                let there = there_instead(used, other);
                let text = format!(
                    "{} works with whatever stands in for {used}, but {there} is installed",
                    facts.id
                );
                let remedy = "lantern plan finds releases that fit together";
                let place = finder.at(index);
                finder.add(Severity::Wrong, "need-out-of-range", place, text, remedy);
            }
        }
        let clashes = facts.clashes.iter().flat_map(|clash| {
            let others = beside(by_id.get(&clash.id).unwrap_or(&empty));
            let meant = others.into_iter().filter(|other| other.is_meant_by(clash));
            meant.map(|other| (other, String::new()))
        });
        let provided = facts.clashes_provided.iter().flat_map(|clash| {
            let others = beside(bearing(clash)).into_iter();
            let meant = others.filter(|other| other.meets(clash));
            meant.map(|other| match other.id == clash.id {
                true => (other, String::new()),
                false => (other, format!(", which stands in for {}", clash.id)),
            })
        });
        for (other, why) in clashes.chain(provided) {
            let text = format!(
                "{} conflicts with {} {}{why}",
                facts.id, other.id, other.version
            );
            let remedy = "keep only one of the two";
            let place = finder.at(index);
            finder.add(Severity::Wrong, "clash", place, text, remedy);
        }
    }
}

/// What is there under the id that a need asks for, in words: its version, and whose it is.
fn there_instead(need: &Need, facts: &Facts) -> String {
    let mut stands_for = facts.stands_for();
    let version = stands_for.find_map(|(id, version)| version.filter(|_| *id == need.id));
    let version = version.unwrap_or(&facts.version);
    match facts.id == need.id {
        true => version.to_string(),
        false => format!("{version} of {}", facts.id),
    }
}

/// What must not be there together: two of a group, and what another one replaces.
fn rivals(finder: &mut Finder<'_>) {
    let components = &finder.inventory.components;
    let mut groups: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (index, component) in components.iter().enumerate() {
        if component.runs.is_off() {
            continue;
        }
        if let Some(group) = &component.facts.group {
            groups.entry(group).or_default().push(index);
        }
        for id in &component.facts.replaces {
            for (old, _) in components
                .iter()
                .enumerate()
                .filter(|(_, c)| c.facts.id == *id)
            {
                let text = format!(
                    "{id} is still installed, though {} replaces it",
                    component.facts.id
                );
                let remedy = format!("remove {id}");
                let place = finder.at(old);
                finder.add(Severity::Wrong, "replaced", place, text, &remedy);
            }
        }
    }
    for (group, indices) in groups.into_iter().filter(|(_, indices)| indices.len() > 1) {
        let ids: Vec<&str> = indices
            .iter()
            .map(|index| components[*index].facts.id.as_str())
            .collect();
        let text = format!(
            "only one of the group {group} may be active, and {} are",
            ids.join(", ")
        );
        let place = finder.at(indices[0]);
        let remedy = "switch off all but one";
        finder.add(Severity::Wrong, "only-one", place, text, remedy);
    }
}

/// Data folders without their add-on, and archives and data folders mixed up.
fn misplaced(finder: &mut Finder<'_>, family: &Family, files: &[FileSeen]) {
    let paths: Vec<&str> = files.iter().map(|file| file.path.as_str()).collect();
    let folders: BTreeSet<RelPath> = files
        .iter()
        .flat_map(|file| std::iter::successors(file.path.folder(), RelPath::folder))
        .collect();
    let components = &finder.inventory.components;
    let owned: BTreeSet<&RelPath> = components
        .iter()
        .filter_map(|c| c.holdings.data.as_ref())
        .collect();
    let archives = || family.readers.iter().filter(|r| r.shape == Shape::Archive);
    for folder in &folders {
        let place = Some(Place {
            path: folder.clone(),
            line: None,
        });
        let inside = below(&paths, folder.as_str());
        if archives().any(|reader| reader.at.matches(folder.as_str())) {
            let text = "this is a folder, but an archive is expected".to_owned();
            let remedy = "it was probably unpacked: put the archive itself there";
            finder.add(Severity::Wrong, "unpacked", place, text, remedy);
            continue;
        }
        let is_data = family
            .layout
            .data
            .iter()
            .any(|glob| glob.matches(folder.as_str()));
        if !is_data {
            continue;
        }
        if archives().any(|reader| !reader.files.is_empty() && marked(reader, &inside)) {
            let text = "what belongs in an archive lies unpacked in a data folder".to_owned();
            let remedy =
                "an archive was probably unpacked here: put the archive itself beside the folder";
            finder.add(Severity::Caution, "unpacked", place, text, remedy);
        } else if !owned.contains(folder) {
            let text = format!(
                "a data folder of {} whose add-on is not installed",
                count(inside.len(), "file", "files")
            );
            let remedy = "keep it if the add-on is to come back; otherwise move it away";
            finder.add(Severity::Note, "data-left", place, text, remedy);
        }
    }
    for data in owned {
        if paths.binary_search(&data.as_str()).is_ok() {
            let place = Some(Place {
                path: data.clone(),
                line: None,
            });
            let text = "this is a file, but an add-on's data folder is expected".to_owned();
            let remedy = "move the file away, or the add-on cannot write its data";
            finder.add(Severity::Wrong, "file-for-folder", place, text, remedy);
        }
    }
}

/// What of a start command never reaches the server, and what undoes an update before each start.
fn start_scripts(finder: &mut Finder<'_>, flow: &Flow) {
    for (path, cut) in &flow.cuts {
        let place = Place {
            path: path.clone(),
            line: Some(cut.at.line),
        };
        let lost = match cut.lost.is_empty() {
            true => String::new(),
            false => format!("; lost: {}", cut.lost),
        };
        let text = format!("{} (column {}){lost}", cut.kind.told(), cut.at.column);
        let remedy = match cut.can_be_mended() {
            true => "lantern plan --to same mends it",
            false => "correct it in an editor",
        };
        let severity = match cut.is_wrong() {
            true => Severity::Wrong,
            false => Severity::Caution,
        };
        finder.add(severity, "start-cut", Some(place), text, remedy);
    }
    for step in &flow.others {
        let place = step.at().map(|(path, at)| Place {
            path: path.clone(),
            line: Some(at.line),
        });
        let text = format!(
            "this starts {}, too: several servers on one install",
            step.program().0.text
        );
        let remedy = "state each in lantern.toml (lantern launch servers drafts them); until then, stop that one before a changeover of the program";
        finder.add(Severity::Note, "several-servers", place, text, remedy);
    }
    for step in flow.updates() {
        let place = step.at().map(|(path, at)| Place {
            path: path.clone(),
            line: Some(at.line),
        });
        let text = format!(
            "{} runs before each start, and undoes what an update has changed",
            step.command.text()
        );
        let remedy = "lantern launch part moves it into a script of its own";
        finder.add(Severity::Caution, "start-updates", place, text, remedy);
    }
}

/// Settings that do not say what follows from what runs.
fn wrong_flags(finder: &mut Finder<'_>, family: &Family, evidence: &Evidence<'_>) {
    let components = finder.inventory.components.iter();
    let running = components.filter(|c| !c.runs.is_off()).map(|c| &c.facts);
    let texts = evidence.texts.iter().map(|(path, text)| (path, text));
    let basis = Basis {
        running: running.collect(),
        effects: evidence.effects,
        hashes: evidence.hashes,
    };
    for flag in flags::seen(family, texts, &basis) {
        let place = Place {
            path: flag.path.clone(),
            line: flag.line,
        };
        let FlagSeen { name, wanted, .. } = &flag;
        // What has no line there is left to the server.
        let Some(value) = &flag.value else {
            continue;
        };
        if !flag.is_right() {
            let now = if value.is_empty() { "empty" } else { value };
            let text = format!(
                "{name} is {now}, and should be {}: {}",
                wanted.value, wanted.why
            );
            let remedy = "lantern plan --to same sets it";
            finder.add(Severity::Caution, "flag-wrong", Some(place), text, remedy);
        }
    }
}

/// Lists besides the load order that do not name all that runs.
fn short_lists(finder: &mut Finder<'_>, family: &Family, evidence: &Evidence<'_>) {
    let components = finder.inventory.components.iter();
    let addons = components.filter(|c| c.facts.kind == Kind::Addon && !c.runs.is_off());
    let running = addons.filter_map(|c| Some((&c.facts.id, c.place.as_ref()?)));
    let those = Those {
        running: running.collect(),
        ..Those::default()
    };
    for list in &family.also {
        let texts = evidence.texts.iter();
        let texts = texts.filter(|(path, _)| list.file.matches(path.as_str()));
        for (path, text) in texts {
            let becomes = also::becomes(list, text.as_str(), &those);
            let lacking: Vec<(Id, Id)> = match becomes {
                Ok(becomes) => becomes.map(|it| it.comes).unwrap_or_default(),
                // An item that could not stand there does not: a plan says so.
                Err(_) => continue,
            };
            for (item, id) in lacking {
                let place = Place {
                    path: path.clone(),
                    line: None,
                };
                let text = format!("{} does not name {item}, which {id} needs", list.name);
                let remedy = "lantern plan --to same names it";
                finder.add(Severity::Caution, "not-named", Some(place), text, remedy);
            }
        }
    }
}

/// Add-ons that need one another in a circle.
fn in_circle(finder: &mut Finder<'_>, circle: &Circle) {
    let remedy = "remove one of them, or what lantern.toml says of it";
    finder.add(
        Severity::Wrong,
        "start-circle",
        None,
        circle.to_string(),
        remedy,
    );
}

fn start_lines(
    finder: &mut Finder<'_>,
    (family, rule): (&Family, &OrderRule),
    by_id: &BTreeMap<&Id, Vec<usize>>,
    turns: Follows,
) {
    let inventory = finder.inventory;
    let decides = inventory.order.decides;
    // Of each entry: its line, and how many stand before it.
    let mut lines: BTreeMap<&Id, (usize, usize)> = BTreeMap::new();
    let components = &inventory.components;
    let starters: BTreeSet<&Id> = components
        .iter()
        .filter_map(|component| component.started_by.as_ref())
        .collect();
    for (position, line) in inventory.order.entries.iter().enumerate() {
        lines.entry(&line.id).or_insert((line.line, position));
        if by_id.contains_key(&line.id) || starters.contains(&line.id) || !line.on {
            continue;
        }
        let place = finder.in_order(line.line);
        if Arrangement::is_category(rule, &line.id) {
            let text = format!(
                "{} has a line here, and there is nothing in it to start",
                line.id
            );
            let remedy = "lantern plan --to same removes the line";
            finder.add(Severity::Caution, "category-empty", place, text, remedy);
            continue;
        }
        let text = format!("{} has a line here but is not installed", line.id);
        finder.add(
            Severity::Caution,
            "line-without-addon",
            place,
            text,
            "remove the line, or install it",
        );
    }
    for (line, id, named) in inventory.order.named_versions() {
        let installed = by_id.get(id).into_iter().flatten();
        let installed = installed.map(|index| &components[*index].facts.version);
        let installed: Vec<&Version> = installed.collect();
        let read = family.versions.version(false, named);
        let is_right = read.is_ok_and(|read| installed.contains(&&read));
        if let Some(there) = installed.first().filter(|_| !is_right) {
            finder.add(
                Severity::Caution,
                "order-version",
                finder.in_order(line),
                format!("{id} {named} is named here, and {there} is installed"),
                "lantern plan --to same names what is installed",
            );
        }
    }
    let by_category = components.iter().filter_map(|component| {
        let line = *lines.get(component.started_by.as_ref()?)?;
        Some((&component.facts.id, line))
    });
    let by_category: Vec<(&Id, (usize, usize))> = by_category.collect();
    lines.extend(by_category);
    let mut follow = match decides {
        true => turns,
        false => Follows::new(),
    };
    for (index, component) in components.iter().enumerate() {
        let facts = &component.facts;
        // What is parked has no name in an order of names, and what runs by where it lies no line in any other.
        let is_listed = match family.is_apart(&component.reader) {
            true => finder.is_in_names && component.runs == Runs::On,
            false => component.runs.is_switched(),
        };
        if facts.kind != Kind::Addon || !is_listed {
            continue;
        }
        let Some(&(own_line, own_position)) = lines.get(&facts.id) else {
            if decides {
                let place = finder.at(index);
                let text = format!(
                    "{} is installed but has no line in the load order, so it does not run",
                    facts.id
                );
                finder.add(
                    Severity::Caution,
                    "not-started",
                    place,
                    text,
                    "switch it on (plan --on), or remove it (plan --drop)",
                );
            }
            continue;
        };
        // One that is there twice has one line.
        for (first, why) in follow.remove(&facts.id).into_iter().flatten() {
            if let Some(&(line, position)) = lines.get(&first)
                && position > own_position
            {
                let (place, where_it_is) = match finder.is_in_names {
                    true => (finder.at(index), String::new()),
                    false => {
                        let (here, there) = (finder.in_order(own_line), finder.in_order(line));
                        let path = |place: &Option<Place>| Some(place.as_ref()?.path.clone());
                        let same = path(&here) == path(&there);
                        let told = match there.filter(|_| !same) {
                            Some(there) => format!(" ({}:{})", there.path, there.line.unwrap_or(0)),
                            None => format!(" (line {line})"),
                        };
                        (here, told)
                    }
                };
                let why = match why {
                    Why::Needs(_) | Why::Uses(_) => "which it needs",
                    _ => "which must come first",
                };
                let text = format!("{} is started before {first}, {why}{where_it_is}", facts.id);
                finder.add(
                    Severity::Wrong,
                    "started-too-early",
                    place,
                    text,
                    "lantern order put plans the right order",
                );
            }
        }
    }
}

fn count(n: usize, one: &str, many: &str) -> String {
    format!("{n} {}", if n == 1 { one } else { many })
}

#[cfg(test)]
mod tests {
    use super::super::tests::inventory;
    use std::collections::BTreeMap;

    #[test]
    fn findings_name_place_and_remedy() {
        let files = [
            (
                "addons/bees-1.bloom",
                "id='bees'\nversion='1'\nneeds={lib='^2', nectar='*'}",
            ),
            ("addons/bees-2.bloom", "id='bees'\nversion='2'"),
            ("addons/lib.bloom", "id='lib'\nversion='1.0'"),
            ("addons/off.bloom", "id='off'\nversion='1'"),
            ("addons/skin.bloom", "id='skin'\nversion='1'\nside='client'"),
            ("addons/torn.bloom", "!"),
            (
                "addons/vault.bloom",
                "id='vault'\nversion='1'\nneeds={off='*'}\nclashes={lib='*'}",
            ),
        ];
        let order = "start bees\nstart lib\nstart vault\nstart ghost\n";
        let inventory = inventory(&files, order, &BTreeMap::new());
        let told: Vec<String> = inventory
            .findings
            .iter()
            .map(|f| {
                let place = f
                    .place
                    .as_ref()
                    .map(ToString::to_string)
                    .unwrap_or_default();
                format!("{:?} {} {place}: {}", f.severity, f.code, f.text)
            })
            .collect();
        insta::assert_snapshot!(told.join("\n"), @"
        Wrong clash addons/vault.bloom: vault conflicts with lib 1.0
        Wrong need-missing addons/bees-1.bloom: bees needs nectar, which is not installed
        Wrong need-off addons/vault.bloom: vault needs off, which is switched off
        Wrong need-out-of-range addons/bees-1.bloom: bees needs lib ^2, but 1.0 is installed
        Wrong started-too-early x.conf:1: bees is started before lib, which it needs (line 2)
        Wrong twice addons/bees-1.bloom: bees is installed 2 times: 1 in addons/bees-1.bloom, 2 in addons/bees-2.bloom
        Wrong unreadable addons/torn.bloom: it cannot be read: the archive breaks off
        Caution client-only addons/skin.bloom: skin is only for players' clients
        Caution line-without-addon x.conf:4: ghost has a line here but is not installed
        Caution not-started addons/off.bloom: off is installed but has no line in the load order, so it does not run
        ");
    }

    #[test]
    fn a_stand_in_meets_a_need_in_its_own_version_alone() {
        let files = [
            (
                "addons/a.bloom",
                "id='a'\nversion='1'\nneeds={lib='^2', hose='*', old='^9'}\nuses={clock='^2', gone='^2'}",
            ),
            (
                "addons/b.bloom",
                "id='b'\nversion='1'\nneeds={lib='^1'}\nbefore=['c']",
            ),
            ("addons/c.bloom", "id='c'\nversion='1'"),
            ("addons/clock.bloom", "id='clock'\nversion='1'"),
            (
                "addons/lib.bloom",
                "id='kit'\nversion='7'\nprovides={lib='1.4', hose='1'}",
            ),
            (
                "addons/new.bloom",
                "id='new'\nversion='1'\nreplaces=['old']\nclashes={lib='*'}",
            ),
        ];
        let order = "start kit\nstart new\nstart c\nstart b\nstart clock\nstart a\n";
        let inventory = inventory(&files, order, &BTreeMap::new());
        let told: Vec<String> = inventory
            .findings
            .iter()
            .map(|f| format!("{} {}", f.code, f.text))
            .collect();
        insta::assert_snapshot!(told.join("\n"), @"
        need-out-of-range a needs lib ^2, but 1.4 of kit is installed
        need-out-of-range a works with clock ^2, but 1 is installed
        started-too-early c is started before b, which must come first (line 4)
        ");
    }

    #[test]
    fn what_stands_in_is_minded_where_that_is_said() {
        let files = [
            (
                "addons/a.bloom",
                "id='a'\nversion='1'\nclashes_provided={lib='<2', gone='*', a='*'}\nuses_provided={hose='^2', lib='*'}",
            ),
            (
                "addons/kit.bloom",
                "id='kit'\nversion='7'\nprovides={lib='1.4', hose='1'}",
            ),
        ];
        let inventory = inventory(&files, "start a\nstart kit\n", &BTreeMap::new());
        let told = inventory.findings.iter();
        let told: Vec<String> = told.map(|f| format!("{} {}", f.code, f.text)).collect();
        insta::assert_snapshot!(told.join("\n"), @"
        clash a conflicts with kit 7, which stands in for lib
        need-out-of-range a works with whatever stands in for hose ^2, but 1 of kit is installed
        ");
    }

    #[test]
    fn rivals_and_what_is_replaced_are_told() {
        let files = [
            (
                "addons/fair.bloom",
                "id='fair'\nversion='1'\ngroup='season'",
            ),
            (
                "addons/fest.bloom",
                "id='fest'\nversion='1'\ngroup='season'",
            ),
            ("addons/old.bloom", "id='old'\nversion='1'"),
            (
                "addons/rest.bloom",
                "id='rest'\nversion='1'\ngroup='season'",
            ),
            (
                "addons/young.bloom",
                "id='young'\nversion='1'\nreplaces=['old']\nafter=['fair']",
            ),
        ];
        let order = "start young\nstart fair\nstart fest\nstart old\n";
        let inventory = inventory(&files, order, &BTreeMap::new());
        let told: Vec<String> = inventory
            .findings
            .iter()
            .map(|f| format!("{} {}", f.code, f.text))
            .collect();
        insta::assert_snapshot!(told.join("\n"), @"
        only-one only one of the group season may be active, and fair, fest are
        replaced old is still installed, though young replaces it
        started-too-early young is started before fair, which must come first (line 2)
        not-started rest is installed but has no line in the load order, so it does not run
        ");
    }

    #[test]
    fn a_sound_server_has_no_findings() {
        let files = [
            (
                "addons/bees.bloom",
                "id='bees'\nversion='1'\nneeds={lib='^1'}",
            ),
            ("addons/lib.bloom", "id='lib'\nversion='1.4'"),
            ("mods/lamps/group.txt", ""),
            ("mods/lamps/lamps/init.lua", ""),
        ];
        let order = "start lib\nstart bees\nstart lamps\n";
        assert!(
            inventory(&files, order, &BTreeMap::new())
                .findings
                .is_empty()
        );
    }
}
