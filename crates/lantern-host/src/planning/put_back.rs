//! A plan that brings back what an operation has set aside.

use super::fault::PlanningFault;
use super::{Layering, SAME, beginning, stage, target};
use crate::config::Server;
use crate::downloads::Downloads;
use crate::error::{Error, Result};
use crate::folder::Folder;
use crate::history::{self, PastOperation};
use crate::layers;
use crate::ledger::Ledger;
use crate::survey::{Depth, Survey, survey};
use lantern_core::artifact::Artifact;
use lantern_core::component::Id;
use lantern_core::path::RelPath;
use lantern_core::plan::{ActionKind, Plan};
use lantern_core::resolve::{Request, Selection};
use lantern_core::settings::Answers;
use std::collections::BTreeMap;

/// One operation of the history, with where what it set aside lies.
///
/// # Errors
/// When there is none of that number, or nothing of it is set aside any more.
pub fn set_aside(server: &Server, ledger: &Ledger, number: i64) -> Result<PastOperation> {
    let all = history::history(server, ledger)?;
    let last = all.last().map(|past| past.operation.number);
    let mut those = all.into_iter();
    let past = those.find(|past| past.operation.number == number);
    let past = past.ok_or(Error::NoOperation { number, last })?;
    match past.aside.is_empty() {
        true => Err(Error::Planning(PlanningFault::NothingAside(number))),
        false => Ok(past),
    }
}

/// Where files below a path lie that were set aside, by where they came from; those of a later folder of an operation first.
///
/// # Errors
/// When they cannot be listed, or there are none.
pub fn files_aside(
    folder: &Folder,
    past: &PastOperation,
    path: &RelPath,
) -> Result<BTreeMap<RelPath, RelPath>> {
    let mut files = BTreeMap::new();
    for aside in &past.aside {
        for (file, _) in folder.files_below(aside)? {
            let below = file.below(aside.as_str()).map(RelPath::parse);
            let Some(Ok(below)) = below else {
                continue;
            };
            if below.is_within(path) {
                files.insert(below, file);
            }
        }
    }
    match files.is_empty() {
        true => Err(Error::Planning(PlanningFault::NotAside {
            path: path.clone(),
            number: past.operation.number,
        })),
        false => Ok(files),
    }
}

/// Draws a plan that brings back what an operation has set aside at these paths; all else stays.
///
/// # Errors
/// When nothing of it is set aside, or a path lies where no plan may write.
pub fn put_back(
    server: &Server,
    ledger: &mut Ledger,
    number: i64,
    paths: &[RelPath],
) -> Result<Plan> {
    let survey = survey(server, ledger, Depth::Usual)?;
    let past = set_aside(server, ledger, number)?;
    let folder = &server.folder;
    let mut files = BTreeMap::new();
    for path in paths {
        files.extend(files_aside(folder, &past, path)?);
    }
    let mut plan = standing_still(server, ledger, &survey)?;
    for (path, file) in files {
        if server.keeps(path.as_str()) {
            return Err(Error::Planning(PlanningFault::KeptAside(path)));
        }
        let meta = folder.look(&file)?.filter(|meta| meta.is_file());
        let Some(meta) = meta else {
            continue;
        };
        let artifact = Artifact {
            file: folder.shown(&file).display().to_string(),
            blake3: folder.hash(&file)?,
            bytes: meta.stamp.bytes,
            urls: Vec::new(),
        };
        let known = survey.remembered.get(&path);
        plan.bring(path, artifact, known.map(|known| known.hash.clone()));
    }
    concerned(server, &mut plan);
    Ok(plan)
}

/// Writes down which of several servers have to be stopped for what a plan changes.
pub(super) fn concerned(server: &Server, plan: &mut Plan) {
    let changing = plan.actions.iter();
    let changing = changing.filter(|action| action.what != ActionKind::Keep);
    let each = server.concerned(changing.map(|action| &action.path));
    let names = each.iter().filter_map(|one| one.which().map(str::to_owned));
    plan.servers = names.collect();
}

/// Draws a plan that puts the load order right, with what start scripts pin; all else stays.
///
/// # Errors
/// When add-ons need one another in a circle, or the folder cannot be read.
pub fn put_order(server: &Server, ledger: &mut Ledger) -> Result<Plan> {
    let survey = survey(server, ledger, Depth::Usual)?;
    standing_still(server, ledger, &survey)
}

/// A plan in which everything stays as it is, for what is then brought or changed by name.
pub(super) fn standing_still(server: &Server, ledger: &Ledger, survey: &Survey) -> Result<Plan> {
    let downloads = Downloads::new(ledger);
    let variants = BTreeMap::new();
    let mut at = beginning(server, survey, &[], None);
    let request = Request::new(
        target(server, survey, SAME)?,
        Id::new(&server.family.build.id),
    );
    let nothing = Selection {
        choices: Vec::new(),
        gone: Vec::new(),
        proved: true,
    };
    let layering = Layering {
        variants: &variants,
        stored: layers::stored(&server.folder)?,
        beside: false,
        answers: Answers {
            known: &BTreeMap::new(),
            otherwise: None,
        },
        samples: &[],
        patches: &BTreeMap::new(),
    };
    let (mut plan, _) = stage(server, &mut at, &downloads, &request, &nothing, &layering)?;
    plan.notes.clear();
    Ok(plan)
}
