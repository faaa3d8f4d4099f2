//! All that is known of one component.

use super::{findings, place_word, state_word};
use crate::answers::{SurveyedComponent, SurveyedOne};
use crate::fail;
use crate::look::{Look, Means, bytes, count};
use lantern_core::component::{Id, Kind, Need};
use lantern_core::inventory::{Component, FileState, Finding, VersionFrom};
use lantern_core::path::RelPath;
use lantern_host::Result;
use lantern_host::config::Server;
use lantern_host::survey::Survey;
use lantern_host::survey::fault::SurveyFault;

/// Shows every component with an id; the exit status is 3 when something is wrong with it.
pub(super) fn show(id: &str, server: &Server, found: &Survey, look: &Look) -> Result<u8> {
    let id = Id::new(&server.family.ids.spell(id));
    let those = found.inventory.components.iter();
    let those: Vec<&Component> = those.filter(|c| c.facts.id == id).collect();
    if those.is_empty() {
        return Err(SurveyFault::NotInstalled { id }.into());
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
            findings: about.clone(),
        });
    } else {
        for component in &those {
            one(component, found, look);
        }
        findings(look, about.iter().copied());
    }
    let wrong = about
        .iter()
        .any(|finding| finding.severity == lantern_core::inventory::Severity::Error);
    Ok(if wrong { fail::NO } else { fail::DONE })
}

fn concerns(finding: &Finding, component: &Component) -> bool {
    let lies_in = |path: &RelPath| {
        let place = component.place.as_ref();
        place.is_some_and(|place| path == place || path.below(place.as_str()).is_some())
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
    let unknown = || "unknown".to_owned();
    let list = |needs: &[Need]| {
        let words: Vec<String> = needs.iter().map(ToString::to_string).collect();
        words.join(", ")
    };
    let ids = |ids: &[Id]| ids.iter().map(Id::as_str).collect::<Vec<_>>().join(", ");
    let data = component.holdings.data.as_ref().map(|data| {
        let inside = found
            .files
            .iter()
            .filter(|f| f.path.below(data.as_str()).is_some());
        let (files, size) = inside.fold((0, 0), |(n, size), file| (n + 1, size + file.bytes));
        format!("{data}, {}, {}", count(files, "file", "files"), bytes(size))
    });
    let starter = component.started_by.as_ref().map(|id| format!(", by {id}"));
    let runs = component.on.map(|on| if on { "on" } else { "off" });
    let slots = match facts.kind {
        Kind::Build => &facts.build.has,
        _ => &facts.terms.takes,
    };
    let slots: Vec<String> = slots
        .iter()
        .map(|(kind, n)| format!("{n} {kind}"))
        .collect();
    let provides: Vec<&str> = facts.provides.iter().map(|p| p.id.as_str()).collect();
    let range =
        |range: &Option<lantern_core::version::Range>| range.as_ref().map(ToString::to_string);
    let text = |text: String| (!text.is_empty()).then_some(text);
    let lines = [
        ("kind", Some(facts.kind.to_string())),
        ("version", Some(version.to_owned())),
        ("in", Some(place_word(component).to_owned())),
        ("part of", component.group.as_ref().map(ToString::to_string)),
        ("read by", text(component.reader.clone())),
        (
            "made for",
            Some(range(&facts.server).unwrap_or_else(unknown)),
        ),
        ("framework", range(&facts.terms.framework)),
        ("needs", text(list(&facts.needs))),
        ("uses", text(list(&facts.uses))),
        ("clashes", text(list(&facts.clashes))),
        ("provides", text(provides.join(", "))),
        ("replaces", text(ids(&facts.terms.replaces))),
        ("before", text(ids(&facts.terms.before))),
        ("after", text(ids(&facts.terms.after))),
        ("only one of", facts.terms.group.clone()),
        ("slots", text(slots.join(", "))),
        (
            "side",
            Some(facts.side.map_or_else(unknown, |side| side.to_string())),
        ),
        (
            "effect",
            facts
                .effect
                .map(|effect| format!("{effect:?}").to_lowercase()),
        ),
        (
            "world-bound",
            facts
                .world_bound
                .map(|bound| if bound { "yes" } else { "no" }.into()),
        ),
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
    for (name, value) in lines {
        if let Some(value) = value {
            look.say(&format!("  {name:<12}{value}"));
        }
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
