//! All that is known of one component.

use super::{findings, place_word, runs_word, state_word};
use crate::answers::{SurveyedComponent, SurveyedOne};
use crate::fail;
use crate::look::{Look, Means, bytes, count};
use lantern_core::component::Id;
use lantern_core::facts::{Facts, WrittenRelease};
use lantern_core::hint::nearest;
use lantern_core::inventory::{Component, FileState, Finding, VersionFrom};
use lantern_core::path::RelPath;
use lantern_host::Result;
use lantern_host::config::Server;
use lantern_host::history;
use lantern_host::ledger::Ledger;
use lantern_host::survey::Survey;
use lantern_host::survey::fault::SurveyFault;

/// The numbers of the operations that set something aside where components of this id lie.
pub(super) fn set_aside(
    id: &str,
    server: &Server,
    ledger: &Ledger,
    found: &Survey,
) -> Result<Vec<i64>> {
    let id = Id::new(&server.family.ids.spell(id));
    let detail = |number| ledger.detail(number);
    let mut numbers = Vec::new();
    for past in history::history(server, ledger)? {
        let number = past.operation.number;
        if past.aside.is_empty() {
            continue;
        }
        let changed = detail(number)?.components.iter().any(|it| it.id == id);
        if changed {
            numbers.push(number);
        }
    }
    let is_there = found
        .inventory
        .components
        .iter()
        .any(|it| it.facts.id == id);
    Ok(if is_there { numbers } else { Vec::new() })
}

/// Shows every component with an id; the exit status is 3 when something is wrong with it.
pub(super) fn show(
    id: &str,
    server: &Server,
    found: &Survey,
    aside: &[i64],
    look: &Look,
) -> Result<u8> {
    let id = Id::new(&server.family.ids.spell(id));
    let those = found.inventory.components.iter();
    let those: Vec<&Component> = those.filter(|c| c.facts.id == id).collect();
    if those.is_empty() {
        let known = found
            .inventory
            .components
            .iter()
            .map(|c| c.facts.id.as_str());
        let near = nearest(id.as_str(), known).map(Id::new);
        return Err(SurveyFault::NotInstalled { id, near }.into());
    }
    let about: Vec<&Finding> = found
        .inventory
        .findings
        .iter()
        .filter(|finding| those.iter().any(|component| concerns(finding, component)))
        .collect();
    if look.json {
        look.answer(&SurveyedOne {
            components: those.iter().map(|c| SurveyedComponent::from(*c)).collect(),
            needed_by: needed_by(&id, found),
            set_aside_by: aside.to_vec(),
            findings: about.clone(),
        });
    } else {
        for component in &those {
            one(component, found, look);
        }
        let row = |name: &str, value: String| look.say(&format!("  {name:<12}{value}"));
        match needed_by(&id, found) {
            none if none.is_empty() => row("needed by", "nothing".into()),
            some => row("needed by", some.join(", ")),
        }
        if !aside.is_empty() {
            let numbers: Vec<String> = aside.iter().map(|it| format!("history {it}")).collect();
            row(
                "set aside",
                format!("what it was before: {}", numbers.join(", ")),
            );
        }
        findings(look, about.iter().copied());
    }
    let wrong = about
        .iter()
        .any(|finding| finding.severity == lantern_core::inventory::Severity::Wrong);
    Ok(if wrong { fail::NO } else { fail::DONE })
}

/// Who needs it, each with the range it is needed in.
fn needed_by(id: &Id, found: &Survey) -> Vec<String> {
    let components = found.inventory.components.iter();
    let needs = components.flat_map(|component| {
        let facts = &component.facts;
        let any = facts.needs_any.iter().flatten();
        let needs = facts.needs.iter().chain(&facts.needs_installed).chain(any);
        let those = needs.filter(|need| need.id == *id);
        those.map(|need| match need.range.is_any() {
            true => facts.id.to_string(),
            false => format!("{} ({})", facts.id, need.range),
        })
    });
    let mut needs: Vec<String> = needs.collect();
    needs.dedup();
    needs
}

fn concerns(finding: &Finding, component: &Component) -> bool {
    let lies_in = |path: &RelPath| {
        let place = component.place.as_ref();
        place.is_some_and(|place| path.is_within(place))
    };
    finding
        .place
        .as_ref()
        .is_some_and(|place| lies_in(&place.path))
}

fn one(component: &Component, found: &Survey, look: &Look) {
    let facts = &component.facts;
    let title = facts.title.as_ref().map(|title| format!(", {title}"));
    let title = format!(
        "{} {}{}",
        facts.id,
        facts.version,
        title.unwrap_or_default()
    );
    look.say(&look.paint(Means::Title, &title));
    let version = match component.version_from {
        VersionFrom::Descriptor => "from its descriptor",
        VersionFrom::FileName => "from its file's name",
        VersionFrom::Catalogue => "from a catalogue, by its hash",
        VersionFrom::Ledger => "from the ledger, as it was put there",
        VersionFrom::Content => "unknown; its content's hash stands for it",
        VersionFrom::Stated => "from lantern.toml",
    };
    let data = component.holdings.data.as_ref().map(|data| {
        let inside = found
            .files
            .iter()
            .filter(|f| f.path.below(data.as_str()).is_some());
        let (files, size) = inside.fold((0, 0), |(n, size), file| (n + 1, size + file.bytes));
        format!("{data}, {}, {}", count(files, "file", "files"), bytes(size))
    });
    let starter = component.started_by.as_ref().map(|id| format!(", by {id}"));
    let runs = Some(runs_word(component.runs)).filter(|word| !word.is_empty());
    let text = |text: String| (!text.is_empty()).then_some(text);
    let about = [
        ("kind", Some(facts.kind.to_string())),
        ("version", Some(version.to_owned())),
        ("in", Some(place_word(component).to_owned())),
        ("part of", component.group.as_ref().map(ToString::to_string)),
        ("read by", text(component.reader.clone())),
    ];
    let there = [
        (
            "runs",
            runs.map(|on| format!("{on}{}", starter.unwrap_or_default())),
        ),
        (
            "files",
            Some(format!(
                "{}, {}",
                count(component.files.len(), "file", "files"),
                bytes(component.bytes())
            )),
        ),
        ("data", data),
        ("state", Some(state_word(component))),
    ];
    let known = |(name, value): (&'static str, Option<String>)| value.map(|value| (name, value));
    let about = about.into_iter().filter_map(known);
    let there = there.into_iter().filter_map(known);
    for (name, value) in about.chain(stated(facts)).chain(there) {
        look.say(&format!("  {name:<12}{value}"));
    }
    let changed: Vec<(&str, &RelPath)> = match &component.state {
        FileState::Edited { files, added } => {
            let edited = files.iter().map(|path| ("edited", path));
            edited
                .chain(added.iter().map(|path| ("added", path)))
                .collect()
        }
        FileState::PartlyMissing { files } => files.iter().map(|path| ("gone", path)).collect(),
        _ => Vec::new(),
    };
    for (word, path) in changed {
        look.say(&format!("    {word:<8}{path}"));
    }
}

/// What it states of itself, in words; what matters and nobody states is unknown.
fn stated(facts: &Facts) -> Vec<(&'static str, String)> {
    let each = WrittenRelease::of(facts).each().into_iter();
    let mut lines: Vec<(&str, String)> = each
        .filter(|(key, _)| *key != "title")
        .map(|(key, words)| match key {
            "server" => ("made for", words),
            "group" => ("only one of", words),
            "takes" | "has" => ("slots", words),
            "world_bound" => ("world-bound", words),
            "worlds_from" => ("worlds from", words),
            "needs_any" => ("needs any", words),
            key => (key, words),
        })
        .collect();
    let says = |lines: &[(&str, String)], key| lines.iter().any(|(name, _)| *name == key);
    if !says(&lines, "made for") {
        lines.insert(0, ("made for", "unknown".into()));
    }
    if !says(&lines, "side") {
        lines.push(("side", "unknown".into()));
    }
    lines
}
