//! From the question to the plan.

use crate::config::Server;
use crate::depot::{Depot, payload};
use crate::error::{Error, Result};
use crate::layers;
use crate::ledger::Ledger;
use crate::survey::Survey;
use lantern_core::catalogue::{ArchiveRef, Origin};
use lantern_core::component::{Facts, Id, Kind};
use lantern_core::inventory::{Inventory, Remembered};
use lantern_core::path::RelPath;
use lantern_core::plan::{
    ActionKind, Plan, Situation, TextEdit, afterwards, draw, remembered_after,
};
use lantern_core::resolve::{Held, Policy, Request, Selection, Target, resolve};
use lantern_core::text::Text;
use lantern_core::tree::FileSeen;
use lantern_core::version::{Range, Version};
use lantern_core::{order, outlook};
use std::collections::BTreeMap;
use std::sync::Arc;

/// The target that means: the server version that is installed.
pub const SAME: &str = "same";

/// The target that means: the newest server version that everything fits.
pub const BEST: &str = "best";

/// What the administrator asks for.
#[derive(Debug, Clone, Default)]
pub struct Wish {
    /// A server version, a range of them, `same` or `best`.
    pub to: String,
    /// Components to put in.
    pub add: Vec<String>,
    /// Components to take out.
    pub drop: Vec<String>,
    /// Components to keep: `ID` or `ID=VERSION`.
    pub keep: Vec<String>,
    /// When not empty, only these may move.
    pub only: Vec<String>,
    /// Variants to choose: `ID=NAME`.
    pub variant: Vec<String>,
    /// Whether what a release would write into the keep list is put beside it.
    pub beside: bool,
    /// What may be taken.
    pub policy: Policy,
}

/// Puts the question for the resolver together; what cannot take part in an answer leaves the depot.
///
/// # Errors
/// When a version cannot be read, or the target is `same` and the installed version is not known.
pub fn request(
    server: &Server,
    survey: &Survey,
    depot: &mut Depot,
    wish: &Wish,
) -> Result<Request> {
    let versions = &server.family.versions;
    let build = &server.family.build;
    let ids = |list: &[String]| list.iter().map(|id| Id::new(id)).collect();
    let keep = wish.keep.iter().map(|text| {
        let (id, version) = text
            .split_once('=')
            .map_or((text.as_str(), None), |(id, v)| (id, Some(v)));
        let kind = if id == build.id {
            Kind::Build
        } else {
            Kind::Addon
        };
        let version = version.map(|version| versions.version(kind, version));
        let version = version
            .transpose()
            .map_err(|fault| Error::Version(fault.to_string()))?;
        Ok((Id::new(id), version))
    });
    let mut request = Request {
        build_outside: build.outside,
        held: Arc::new(held(server, &survey.inventory)),
        offers: Arc::new(std::mem::take(&mut depot.offers)),
        given: build.provides.iter().map(|id| Id::new(id)).collect(),
        add: ids(&wish.add),
        drop: ids(&wish.drop),
        keep: keep.collect::<Result<_>>()?,
        only: ids(&wish.only),
        policy: wish.policy.clone(),
        ..Request::new(target(server, survey, &wish.to)?, Id::new(&build.id))
    };
    let relevant = request.relevant();
    let offers = Arc::make_mut(&mut request.offers);
    let mut archives = std::mem::take(&mut depot.archives).into_iter();
    offers.retain(|offer| {
        let archive = archives.next();
        let takes_part = relevant.contains(&offer.facts.id);
        depot.archives.extend(archive.filter(|_| takes_part));
        takes_part
    });
    Ok(request)
}

fn target(server: &Server, survey: &Survey, to: &str) -> Result<Target> {
    let versions = &server.family.versions;
    match to {
        SAME => {
            let known = survey.inventory.server_version().cloned();
            let unknown = "the installed server version is not known; name one with --to";
            known
                .map(Target::One)
                .ok_or_else(|| Error::Version(unknown.into()))
        }
        BEST => Ok(Target::Within(Range::any())),
        _ if to.contains(['<', '>', '^', '~', '*', '[', '(', '|']) => {
            let range = versions.server_range(to);
            range
                .map(Target::Within)
                .map_err(|fault| Error::Version(fault.to_string()))
        }
        _ => {
            let version = Version::parse(to, versions.server);
            version
                .map(Target::One)
                .map_err(|fault| Error::Version(fault.to_string()))
        }
    }
}

/// Finds releases that fit together.
///
/// # Errors
/// [`Error::Obstacle`] when none do.
pub fn select(request: &Request) -> Result<Selection> {
    resolve(request).map_err(|obstacle| Error::Obstacle {
        told: obstacle.tell(request),
        obstacle,
    })
}

/// What is installed and runs, for the resolver.
fn held(server: &Server, inventory: &Inventory) -> Vec<Held> {
    let running = inventory.movable().into_iter();
    let running =
        running.filter(|(component, _)| component.on != Some(false) && component.place.is_some());
    running
        .map(|(_, facts)| Held {
            droppable: server
                .config
                .droppable
                .iter()
                .any(|id| *id == facts.id.as_str()),
            facts,
        })
        .collect()
}

/// How layers come to lie over one another: what was chosen, and what is kept aside.
struct Layering {
    variants: BTreeMap<Id, String>,
    stored: BTreeMap<String, ArchiveRef>,
    beside: bool,
}

/// The server as a plan finds it: as surveyed, or as the plan before leaves it.
struct Beginning {
    inventory: Inventory,
    files: Vec<FileSeen>,
    order: Option<(RelPath, Text)>,
    scripts: Vec<(RelPath, Text)>,
    remembered: BTreeMap<RelPath, Remembered>,
}

/// Draws the plan for a selection; where the worlds have to be brought forward in stops, one for each.
///
/// # Errors
/// When no stops lead there, nothing fits at one of them, or an archive or path is not fit to be used.
pub fn plans(
    server: &Server,
    survey: &Survey,
    depot: &Depot,
    request: &Request,
    selection: Selection,
    wish: &Wish,
    ledger: &Ledger,
) -> Result<Vec<Plan>> {
    // What the installed packs keep is kept from the new ones, too.
    let packs = survey.inventory.components.iter();
    let patterns = packs.flat_map(|component| &component.holdings.keep);
    let server = &server.keeping(patterns.map(String::as_str))?;
    let mut variants = ledger.variants()?;
    for text in &wish.variant {
        let (id, name) = text
            .split_once('=')
            .ok_or_else(|| Error::Variant(text.clone()))?;
        variants.insert(Id::new(id), name.to_owned());
    }
    let layering = Layering {
        variants,
        stored: layers::stored(&server.folder)?,
        beside: wish.beside,
    };
    let mut at = Beginning {
        inventory: survey.inventory.clone(),
        files: survey.planned_files(server).cloned().collect(),
        order: survey.order.clone(),
        scripts: survey.scripts.clone(),
        remembered: survey.remembered.clone(),
    };
    let Some(stops) = stops(request, &selection)? else {
        let (plan, _) = leg(server, &at, depot, request, &selection, &layering)?;
        return Ok(vec![plan]);
    };
    let mut plans = Vec::new();
    for stop in stops {
        let request = Request {
            target: Target::One(stop),
            held: Arc::new(held(server, &at.inventory)),
            ..request.clone()
        };
        let selection = select(&request)?;
        let (plan, next) = leg(server, &at, depot, &request, &selection, &layering)?;
        plans.push(plan);
        at = next;
    }
    Ok(plans)
}

/// The stops on the way, where the chosen build cannot bring the installed worlds forward at once.
fn stops(request: &Request, selection: &Selection) -> Result<Option<Vec<Version>>> {
    let build = selection
        .choices
        .iter()
        .find(|choice| choice.kind == Kind::Build);
    let Some((offer, from)) = build.and_then(|build| build.offer.zip(build.from.as_ref())) else {
        return Ok(None);
    };
    let facts = &request.offers[offer].facts;
    let brings = &facts.build.worlds_from;
    if brings.as_ref().is_none_or(|range| range.holds_early(from)) {
        return Ok(None);
    }
    let stops = outlook::stops(request, &facts.version);
    stops.map(Some).ok_or_else(|| Error::NoWay {
        from: from.to_string(),
        to: facts.version.to_string(),
    })
}

/// Draws the plan for one leg of the way, and says how it leaves the server.
fn leg(
    server: &Server,
    at: &Beginning,
    depot: &Depot,
    request: &Request,
    selection: &Selection,
    layering: &Layering,
) -> Result<(Plan, Beginning)> {
    let mut payloads = BTreeMap::new();
    for choice in &selection.choices {
        let Some(offer) = choice.offer else {
            continue;
        };
        let mut installed = at.inventory.components.iter();
        let installed = installed.find(|c| c.facts.id == choice.id && c.group.is_none());
        let files = payload(
            &server.family,
            &request.offers[offer],
            &depot.archives[offer],
            installed,
            &layering.variants,
        )?;
        payloads.insert(offer, files);
    }
    let keep = server.keep();
    let situation = Situation {
        server: &server.config.name,
        server_id: &server.config.id,
        family: &server.family,
        inventory: &at.inventory,
        files: &at.files,
        order: at.order.as_ref().map(|(path, text)| (path, text)),
        dropped: &request.drop,
        scripts: &at.scripts,
        keep: &keep,
        remembered: &at.remembered,
        stored: &layering.stored,
        beside: layering.beside,
    };
    let mut plan = draw(&situation, selection, &request.offers, &payloads)?;
    if !selection
        .choices
        .iter()
        .any(|choice| choice.kind == Kind::Build)
    {
        plan.to = request.target.to_string();
    }
    for (offer, choice) in unused_by_hand(request, selection) {
        plan.notes.push(format!(
            "{} {} lies in the drop folder and is not used{}; see: lantern why --not {}={}",
            offer.id,
            offer.version,
            choice.map_or(String::new(), |to| format!(", but {to}")),
            offer.id,
            offer.version
        ));
    }
    let (mut order, mut scripts) = (at.order.clone(), at.scripts.clone());
    for edit in &plan.edits {
        let texts = order.iter_mut().chain(&mut scripts);
        for (_, text) in texts.filter(|(path, _)| *path == edit.path) {
            *text = edited(edit, text)?;
        }
    }
    let lines = server.family.order.as_ref().zip(order.as_ref());
    let lines = lines
        .map(|(rule, (_, text))| order::read(rule, text.as_str()))
        .unwrap_or_default();
    let (inventory, files) = afterwards(
        &at.inventory,
        &plan,
        selection,
        &request.offers,
        &payloads,
        lines,
    );
    let mut remembered = at.remembered.clone();
    for action in plan.of(ActionKind::SetAside) {
        remembered.remove(&action.path);
    }
    remembered.extend(remembered_after(&plan, &at.remembered));
    let next = Beginning {
        inventory,
        files,
        order,
        scripts,
        remembered,
    };
    Ok((plan, next))
}

/// What lies in the drop folder and was not chosen, with what was chosen instead; older ones of
/// several are not told.
fn unused_by_hand<'a>(
    request: &'a Request,
    selection: &'a Selection,
) -> Vec<(&'a Facts, Option<&'a Version>)> {
    let by_hand = request
        .offers
        .iter()
        .filter(|offer| offer.origin == Origin::DropFolder);
    let mut newest: BTreeMap<&Id, &Facts> = BTreeMap::new();
    for offer in by_hand {
        let known = newest.entry(&offer.facts.id).or_insert(&offer.facts);
        if offer.facts.version > known.version {
            *known = &offer.facts;
        }
    }
    let chosen = |id: &Id| {
        selection
            .choices
            .iter()
            .find(|choice| choice.id == *id)
            .map(|choice| &choice.to)
    };
    let unused = newest.into_values().map(|facts| (facts, chosen(&facts.id)));
    unused
        .filter(|(facts, chosen)| *chosen != Some(&facts.version))
        .collect()
}

/// A text as a plan changes it.
///
/// # Errors
/// When it is not the one that the plan was made for.
pub(crate) fn edited(edit: &TextEdit, text: &Text) -> Result<Text> {
    text.changed(&edit.lines)
        .map_err(|misfit| Error::OtherText {
            path: edit.path.clone(),
            why: misfit.to_string(),
        })
}
