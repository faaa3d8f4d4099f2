//! `lantern survey`

mod files;
mod one;

use super::{look_out, open_to_look};
use crate::answers::Surveyed;
use crate::candidates;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, count};
use crate::paper;
use crate::progress::during;
use clap::Args;
use clap_complete::ArgValueCandidates;
use lantern_core::component::Runs;
use lantern_core::family::Shape;
use lantern_core::inventory::{Component, FileState, Finding, Severity, VersionFrom};
use lantern_host::Result;
use lantern_host::glance;
use lantern_host::ledger::Ledger;
use lantern_host::survey::{Depth, Survey, survey};
use std::path::{Path, PathBuf};

/// Show what is installed, and what is to be held against it
#[derive(Debug, Args)]
#[group(id = "view", multiple = false)]
#[command(
    after_help = "Examples:\n  lantern survey\n  lantern survey sun-clock       all of one component\n  lantern survey --edited        what is changed since installation"
)]
pub struct SurveyArgs {
    /// Show all that is known of one component, or whose a file or folder is
    #[arg(value_name = "ID|PATH", group = "view", add = ArgValueCandidates::new(candidates::ids))]
    component: Option<String>,
    /// Show every file with its owner
    #[arg(long, group = "view")]
    files: bool,
    /// Show files that were changed since installation
    #[arg(long, group = "view")]
    edited: bool,
    /// Show files that no component owns
    #[arg(long, group = "view")]
    unowned: bool,
    /// Put it onto a page for a browser
    #[arg(long, value_name = "FILE.html")]
    page: Option<PathBuf>,
    /// Read every file again, whatever the ledger remembers
    #[arg(long)]
    recheck: bool,
}

/// Surveys a server; the exit status is 3 when something is wrong.
pub fn run(args: &SurveyArgs, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let mut ledger = Ledger::open(&server.folder)?;
    let depth = if args.recheck {
        Depth::Everything
    } else {
        Depth::Usual
    };
    let found = during("files are read", || survey(server, &mut ledger, depth))?;
    glance::remember(server, &found);
    if let Some(id) = &args.component {
        if let Some(path) = files::meant(id, common, &found) {
            let mut rows = files::rows(server, &ledger, &found)?;
            rows.retain(|row| row.path.is_within(&path));
            files::show(args, rows, look);
            return Ok(looked.status(fail::DONE));
        }
        let aside = one::set_aside(id, server, &ledger, &found)?;
        return Ok(looked.status(one::show(id, server, &found, &aside, look)?));
    }
    if args.files || args.edited || args.unowned {
        let rows = files::rows(server, &ledger, &found)?;
        files::show(args, rows, look);
        return Ok(looked.status(fail::DONE));
    }
    let inventory = &found.inventory;
    let wrong = inventory
        .findings
        .iter()
        .filter(|f| f.severity == Severity::Wrong)
        .count();
    let paper = args.page.as_ref().map(|_| look.onto_page());
    let look = paper.as_ref().unwrap_or(look);
    if look.json {
        look.answer(&Surveyed::new(
            &server.config.name,
            &server.family.name,
            &found,
        ));
    } else {
        let version = inventory
            .server_version()
            .map_or("of unknown version".into(), ToString::to_string);
        look.say(&look.paint(
            Means::Title,
            &format!(
                "{}: {} {version}, {}, {}.",
                server.config.name,
                server.family.name,
                count(inventory.components.len(), "component", "components"),
                count(inventory.findings.len(), "finding", "findings"),
            ),
        ));
        look.say("");
        components(look, &found);
        findings(look, found.inventory.findings.iter());
        if wrong == 0 && !looked.is_cut_off {
            look.next(&common.next(look_out(server)));
        }
    }
    if let Some(out) = &args.page {
        let title = format!("{}: what is installed", server.config.name);
        onto(out, &title, common, look)?;
    }
    Ok(looked.status(if wrong > 0 { fail::NO } else { fail::DONE }))
}

/// Writes the page that an answer went onto, and says so.
///
/// # Errors
/// When it cannot be written.
pub fn onto(out: &Path, title: &str, common: &Common, look: &Look) -> Result<()> {
    let page = look.page(title).unwrap_or_default();
    paper::write(out, &page, common)?;
    let size = bytes(page.len() as u64);
    look.talk(&format!("{}: {size}.", shell_word(out)));
    Ok(())
}

fn components(look: &Look, found: &Survey) {
    let rows = found.inventory.components.iter().map(|component| {
        let state = state_word(component);
        let means = match &component.state {
            FileState::Edited { .. } => Means::Caution,
            FileState::PartlyMissing { .. } => Means::Bad,
            _ => Means::Aside,
        };
        let indent = if component.group.is_some() { "  " } else { "" };
        vec![
            component.facts.kind.to_string(),
            format!("{indent}{}", component.facts.id),
            component.facts.version.to_string(),
            component
                .facts
                .side
                .map_or("unknown".into(), |side| side.to_string()),
            runs_word(component.runs).into(),
            bytes(component.bytes()),
            place_word(component).into(),
            look.paint(means, &state),
        ]
    });
    let heads = [
        "kind", "id", "version", "side", "runs", "size", "where", "state",
    ];
    look.table(&heads, rows.collect());
    let unowned = &found.inventory.unowned;
    if !unowned.is_empty() {
        let names: Vec<&str> = unowned
            .iter()
            .take(4)
            .map(|file| file.path.as_str())
            .collect();
        let more = unowned.len().saturating_sub(names.len());
        let more = if more > 0 {
            format!(" and {} more", count(more, "file", "files"))
        } else {
            String::new()
        };
        let text = format!("\n  unowned: {}{more}", names.join(", "));
        look.say(&look.paint(Means::Aside, &text));
    }
}

fn findings<'f>(look: &Look, findings: impl Iterator<Item = &'f Finding>) {
    for finding in findings {
        look.say("");
        show_finding(finding, look);
    }
}

/// Shows a finding, and what to do.
pub fn show_finding(finding: &Finding, look: &Look) {
    let (word, means) = match finding.severity {
        Severity::Wrong => ("wrong", Means::Bad),
        Severity::Caution => ("caution", Means::Caution),
        Severity::Note => ("note", Means::Aside),
    };
    let place = finding
        .place
        .as_ref()
        .map_or(String::new(), |place| format!("{place}: "));
    look.say(&format!(
        "{} {place}{}",
        look.paint(means, &format!("{word} [{}]", finding.code)),
        finding.text
    ));
    look.say(&format!("  {}", finding.remedy));
}

fn state_word(component: &Component) -> String {
    if component.version_from == VersionFrom::Stated {
        return "as stated".into();
    }
    match &component.state {
        FileState::New => "new".into(),
        FileState::AsShipped => "as shipped".into(),
        FileState::AsAdopted => "as adopted".into(),
        FileState::Edited { files, added } => format!("edited ({})", files.len() + added.len()),
        FileState::PartlyMissing { files } => format!("{} missing", files.len()),
    }
}

/// Whether a component runs, in a word; none where nothing says.
fn runs_word(runs: Runs) -> &'static str {
    match runs {
        Runs::On => "on",
        Runs::Off => "off",
        Runs::Always => "always",
        Runs::Unsaid => "",
    }
}

fn place_word(component: &Component) -> &str {
    match (&component.place, component.shape) {
        (Some(place), _) => place.as_str(),
        (None, Shape::Entry) => "fetched elsewhere",
        (None, _) => "outside the folder",
    }
}
