//! From the question to the plan.

use crate::config::Server;
use crate::depot::{Depot, payload};
use crate::error::{Error, Result};
use crate::survey::Survey;
use lantern_core::component::{Id, Kind};
use lantern_core::plan::{Plan, Situation, draw};
use lantern_core::resolve::{Policy, Request, resolve};
use lantern_core::version::Version;
use std::collections::{BTreeMap, BTreeSet};

/// The target that means: the server version that is installed.
pub const SAME: &str = "same";

/// Puts the question for the resolver together.
///
/// # Errors
/// When the target is no version, or is `same` and the installed version is not known.
pub fn request(
    server: &Server,
    survey: &Survey,
    depot: &Depot,
    to: &str,
    policy: Policy,
) -> Result<Request> {
    let inventory = &survey.inventory;
    let target = if to == SAME {
        let known = inventory.server_version().cloned();
        known.ok_or_else(|| {
            Error::Version("the installed server version is not known; name one with --to".into())
        })?
    } else {
        Version::parse(to, server.family.versions.server)
            .map_err(|fault| Error::Version(fault.to_string()))?
    };
    let running = inventory.movable().into_iter();
    let running =
        running.filter(|(component, _)| component.on != Some(false) && component.place.is_some());
    let build = &server.family.build;
    Ok(Request {
        target,
        build: Id::new(&build.id),
        build_outside: build.outside,
        held: running.map(|(_, facts)| facts).collect(),
        offers: depot.offers.clone(),
        given: build
            .provides
            .iter()
            .map(|id| Id::new(id))
            .collect::<BTreeSet<_>>(),
        policy,
    })
}

/// Finds releases that fit together and draws the plan.
///
/// # Errors
/// [`Error::Obstacle`] when none fit; otherwise when an archive or path is not fit to be used.
pub fn plan(
    server: &Server,
    survey: &Survey,
    depot: &Depot,
    to: &str,
    policy: Policy,
) -> Result<Plan> {
    let request = request(server, survey, depot, to, policy)?;
    let selection = resolve(&request).map_err(Error::Obstacle)?;
    let mut payloads = BTreeMap::new();
    for choice in &selection.choices {
        let Some(offer) = choice.offer else {
            continue;
        };
        let installed = survey.inventory.components.iter();
        let mut installed = installed.filter(|c| c.facts.id == choice.id && c.group.is_none());
        let files = payload(
            &server.family,
            &request.offers[offer],
            &depot.archives[offer],
            installed.next(),
        )?;
        payloads.insert(offer, files);
    }
    let files: Vec<_> = survey.planned_files(server).cloned().collect();
    let keep = server.keep();
    let situation = Situation {
        server: &server.config.name,
        server_id: &server.config.id,
        family: &server.family,
        inventory: &survey.inventory,
        files: &files,
        order: survey
            .order
            .as_ref()
            .map(|(path, text)| (path, text.as_str())),
        keep: &keep,
    };
    let mut plan = draw(&situation, &selection, &request.offers, &payloads)?;
    let chosen_build = selection
        .choices
        .iter()
        .any(|choice| choice.kind == Kind::Build);
    if !chosen_build {
        plan.to = request.target.to_string();
    }
    Ok(plan)
}
