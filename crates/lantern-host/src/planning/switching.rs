//! What is switched on and off: at which servers, and what that moves.

use super::fault::PlanningFault;
use super::{Terms, ids};
use crate::config::Server;
use crate::error::{Error, Result};
use crate::survey::Survey;
use lantern_core::component::Id;
use lantern_core::inventory::{Inventory, SwitchFault, united};
use lantern_core::path::RelPath;
use lantern_core::plan::{Action, Plan, Rename};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

/// Switches add-ons on the servers that are meant: what is there. Says what has changed on each.
pub(super) fn switch(
    server: &Server,
    survey: &mut Survey,
    terms: &Terms,
) -> Result<Vec<BTreeMap<Id, bool>>> {
    let (on, off) = (ids(server, &terms.on), ids(server, &terms.off));
    let several = survey.parts.len() > 1;
    let known = |inventory: &Inventory, id: &Id| inventory.get(id).is_some();
    let of_whole = Arc::clone(&survey.inventory);
    let mut switched = Vec::new();
    for part in &mut survey.parts {
        let is_meant = terms.of.is_none() || part.server.which() == terms.of.as_deref();
        // What another server has to itself is switched there; what nobody has is told.
        let here = |id: &&Id| {
            let elsewhere = several && terms.of.is_none() && known(&of_whole, id);
            is_meant && (known(&part.inventory, id) || !elsewhere)
        };
        let of = |ids: &[Id]| ids.iter().filter(here).cloned().collect::<Vec<Id>>();
        let (on, off) = (of(&on), of(&off));
        if on.is_empty() && off.is_empty() {
            switched.push(BTreeMap::new());
            continue;
        }
        let inventory = Arc::make_mut(&mut part.inventory);
        let change = inventory.switch(&part.server.family, &on, &off);
        switched.push(change.map_err(|fault| Error::Planning(PlanningFault::Switch(fault)))?);
    }
    if several {
        for_all_alike(server, survey)?;
        let inventory = united(survey.parts.iter().map(|part| &*part.inventory));
        survey.inventory = Arc::new(Inventory {
            findings: survey.inventory.findings.clone(),
            ..inventory
        });
    } else if let [only] = &survey.parts[..] {
        survey.inventory = Arc::clone(&only.inventory);
    }
    Ok(switched)
}

/// What gets another name where it lies on another machine: its content would have to come from there and go back.
pub(super) fn moved_afar<'p>(server: &Server, plan: &'p Plan) -> Option<&'p Rename> {
    let is_there = |action: &Action| {
        let source = action.source.as_ref();
        source.is_some_and(|it| {
            Path::new(&plan.archives[it.archive].file).starts_with(server.folder.root())
        })
    };
    let mut renames = plan.renames.iter().filter(|_| server.folder.is_far());
    renames.find(|rename| {
        let mut actions = plan.actions.iter();
        actions.any(|action| action.path.is_within(&rename.to) && is_there(action))
    })
}

/// Refuses where an add-on that lies in one place for all servers would be on for some and off for others.
fn for_all_alike(server: &Server, survey: &Survey) -> Result<()> {
    let mut known: BTreeMap<(&Id, Option<&RelPath>), bool> = BTreeMap::new();
    let of_parts = survey.parts.iter().flat_map(|it| &it.inventory.components);
    for component in of_parts.filter(|it| server.family.is_apart(&it.reader)) {
        let id = &component.facts.id;
        let is_off = component.runs.is_off();
        let before = known.insert((id, component.place.as_ref()), is_off);
        if before.is_some_and(|before| before != is_off) {
            let fault = SwitchFault::ForAll(id.clone());
            return Err(Error::Planning(PlanningFault::Switch(fault)));
        }
    }
    Ok(())
}
