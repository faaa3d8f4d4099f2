//! Start scripts, before they are run: whether one is cut off, and what in one belongs elsewhere.

use super::fault::PlanningFault;
use super::put_back::{concerned, standing_still};
use crate::config::Server;
use crate::error::{Error, Result};
use crate::ledger::Ledger;
use crate::survey::{Depth, flow, scripts, survey};
use lantern_core::artifact::Artifact;
use lantern_core::launch::{Command, Cut, Dialect, Flow, part};
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use lantern_core::text::Text;
use std::collections::BTreeMap;

/// Where start commands are cut off, so that the server would be told less than it should: as the scripts are, or as a plan
/// leaves them.
///
/// # Errors
/// When a script cannot be read.
pub fn cut_off(server: &Server, plan: Option<&Plan>) -> Result<Vec<(RelPath, Cut)>> {
    let mut texts = scripts(server)?;
    if let Some(plan) = plan {
        texts = edited(texts, plan);
    }
    let mut cuts: Vec<(RelPath, Cut)> = Vec::new();
    for one in server.each() {
        let of_one = flow(&one, &texts).cuts.into_iter();
        let new = of_one.filter(|(path, cut)| {
            let mut known = cuts.iter();
            cut.is_wrong() && !known.any(|(other, seen)| other == path && seen.at == cut.at)
        });
        let new: Vec<(RelPath, Cut)> = new.collect();
        cuts.extend(new);
    }
    Ok(cuts)
}

/// Scripts as a plan leaves them. An edit that does not fit is refused by name where it is carried out.
fn edited(mut texts: Vec<(RelPath, Text)>, plan: &Plan) -> Vec<(RelPath, Text)> {
    for (path, text) in &mut texts {
        if let Some(changed) = plan.edited(path, text) {
            *text = changed;
        }
    }
    texts
}

/// Refuses to start a server whose start command is cut off.
///
/// # Errors
/// [`PlanningFault::CutOff`].
pub fn refuse_cut_off(server: &Server, plan: Option<&Plan>) -> Result<()> {
    let cuts = cut_off(server, plan)?;
    match cuts.is_empty() {
        true => Ok(()),
        false => Err(Error::Planning(PlanningFault::CutOff(cuts))),
    }
}

/// Draws a plan that moves what updates the server before each start into a script of its own, beside the one that it
/// stands in.
///
/// # Errors
/// When there is nothing of that kind, it shares its line with something else, or the folder cannot be read.
pub fn part_updates(server: &Server, ledger: &mut Ledger) -> Result<Plan> {
    let survey = survey(server, ledger, Depth::Usual)?;
    let mut plan = standing_still(server, ledger, &survey)?;
    // What is mended on the way is parted as it then stands.
    let texts = edited(survey.scripts.clone(), &plan);
    let each = server.each();
    let flows: Vec<Flow> = each.iter().map(|one| flow(one, &texts)).collect();
    let mut moving: BTreeMap<RelPath, Vec<&Command>> = BTreeMap::new();
    for step in flows.iter().flat_map(Flow::updates) {
        let Some((path, at)) = step.at() else {
            continue;
        };
        let known = moving.entry(path.clone()).or_default();
        // Several servers may share the script.
        if known.iter().all(|command| command.at() != at) {
            known.push(&step.command);
        }
    }
    if moving.is_empty() {
        return Err(Error::Planning(PlanningFault::NothingUpdates));
    }
    for (path, commands) in moving {
        let of = |texts: &[(RelPath, Text)]| {
            let mut texts = texts.iter();
            texts
                .find(|(script, _)| *script == path)
                .map(|(_, text)| text.clone())
        };
        let Some((now, text)) = of(&survey.scripts).zip(of(&texts)) else {
            continue;
        };
        let shared = || {
            Error::Planning(PlanningFault::SharesLine {
                path: path.clone(),
                line: commands[0].at().line,
            })
        };
        let parted = part(Dialect::of(&path), text.as_str(), &commands).ok_or_else(shared)?;
        let stays = text.with(parted.stays).ok_or_else(shared)?;
        let moves = text.with(parted.moves).ok_or_else(shared)?.bytes();
        let beside = free_beside(server, &path)?;
        let made = server.folder.make_own("launch")?.join(beside.name())?;
        server.folder.write_whole(&made, &moves)?;
        let artifact = Artifact {
            file: server.folder.shown(&made).display().to_string(),
            blake3: blake3::hash(&moves).to_hex().to_string(),
            bytes: moves.len() as u64,
            urls: Vec::new(),
        };
        plan.change(&path, &now, &stays, &server.family.manner(&path));
        plan.notes.push(format!(
            "what updates the server moves from {path} to {beside}: run that when you want it, with the server down"
        ));
        plan.bring(beside, artifact, None);
    }
    concerned(server, &mut plan);
    Ok(plan)
}

/// A name beside a script that nothing has yet.
fn free_beside(server: &Server, path: &RelPath) -> Result<RelPath> {
    let mut name = format!("update-{}", path.name());
    loop {
        let beside = match path.folder() {
            Some(folder) => folder.join(&name)?,
            None => RelPath::parse(&name)?,
        };
        if !server.folder.has(&beside)? {
            return Ok(beside);
        }
        name.insert_str(0, "another-");
    }
}
