//! Whether the folder is still as the plan saw it.

use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::console::{Console, ServerState};
use crate::error::{Error, Result};
use crate::folder::own;
use crate::place::here;
use crate::records;
use crate::survey::Survey;
use lantern_core::component::{Id, Kind};
use lantern_core::link;
use lantern_core::operation::{UNKNOWN, Undoable, Work};
use lantern_core::path::RelPath;
use lantern_core::plan::{ActionKind, OWN, Plan, is_lanterns};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

/// How many changes are named.
const NAMED: usize = 5;

/// The first of some paths that lies on another disk than lantern's own folder, so that it cannot be
/// exchanged by a rename.
///
/// # Errors
/// When the system does not tell.
pub fn elsewhere<'p>(
    server: &Server,
    paths: impl Iterator<Item = &'p RelPath>,
) -> Result<Option<RelPath>> {
    for path in paths {
        if !server.folder.is_on_own_disk(path)? {
            return Ok(Some(path.clone()));
        }
    }
    Ok(None)
}

/// Lantern's own folders in a server folder.
const ROOM: [&str; 6] = ["", "staging", "set-aside", "console", "store", "layers"];

/// Refuses where one of lantern's own folders is a link, or something else that is no folder: what is put there would come
/// to lie elsewhere.
///
/// # Errors
/// [`ChangeoverFault::OwnRoom`].
pub fn own_room(server: &Server) -> Result<()> {
    for name in ROOM {
        let path = match name {
            "" => RelPath::parse(OWN)?,
            name => own(name),
        };
        let there = server.folder.look(&path)?;
        if there.is_some_and(|meta| !meta.is_folder()) {
            return Err(ChangeoverFault::OwnRoom { path }.into());
        }
    }
    Ok(())
}

/// Refuses where another process runs the server program or a framework that is to be exchanged: several servers may share
/// one install.
///
/// # Errors
/// [`ChangeoverFault::Shared`].
pub fn not_shared(server: &Server, plan: &Plan) -> Result<()> {
    let kinds = plan.components.iter();
    let below = kinds.filter(|it| matches!(it.kind, Kind::Build | Kind::Framework));
    let below: BTreeSet<&Id> = below.map(|it| &it.id).collect();
    let goes = plan.actions.iter().filter(|action| {
        let of_them = action
            .component
            .as_ref()
            .is_some_and(|id| below.contains(id));
        of_them && matches!(action.what, ActionKind::Replace | ActionKind::SetAside)
    });
    let files: BTreeMap<PathBuf, &RelPath> = goes
        .filter_map(|action| {
            Some((
                here::real(&server.folder.shown(&action.path))?,
                &action.path,
            ))
        })
        .collect();
    if files.is_empty() {
        return Ok(());
    }
    // Which processes are of a server that something else has started, nobody knows.
    let mut own = Vec::new();
    for one in server.each() {
        match Console::of(&one).state()? {
            ServerState::Ours(process) => own.extend(server.runner.group_of(process.pid)),
            ServerState::Down => {}
            _ => return Ok(()),
        }
    }
    let users = server.runner.users(&|path| files.contains_key(path), &own);
    match users.first() {
        None => Ok(()),
        Some(user) => Err(ChangeoverFault::Shared {
            pid: user.pid,
            path: files[&user.path].clone(),
        }
        .into()),
    }
}

/// Refuses where something has to be decided first.
///
/// # Errors
/// [`ChangeoverFault::Undecided`].
pub fn decided(plan: &Plan) -> Result<()> {
    let ids = plan
        .undecided()
        .map(|(path, asked)| format!("{path} {}", asked.id));
    let ids: Vec<String> = ids.collect();
    match ids.is_empty() {
        true => Ok(()),
        false => Err(ChangeoverFault::Undecided { ids }.into()),
    }
}

/// Refuses where the server program lies outside the folder, and nobody says that it is the one the plan is made for.
///
/// # Errors
/// [`ChangeoverFault::NotInstalled`].
pub fn program(server: &Server, plan: &Plan) -> Result<()> {
    match server.stated_otherwise(&plan.to) {
        None => Ok(()),
        Some(stated) => Err(ChangeoverFault::NotInstalled {
            id: server.family.build.id.clone(),
            stated: stated.to_owned(),
            wanted: plan.to.clone(),
        }
        .into()),
    }
}

/// What is wrong with the state that this work goes back to, where the program lies outside and is said to be another one.
pub fn other_program(server: &Server, work: &Work) -> Option<String> {
    let version = match work {
        Work::Changeover { plan, .. } => plan.from.as_deref(),
        Work::Undo {
            of: Undoable::Changeover { from, .. },
            ..
        } => Some(from.as_str()).filter(|from| *from != UNKNOWN),
        _ => None,
    }?;
    let stated = server.stated_otherwise(version)?;
    let id = &server.family.build.id;
    Some(format!(
        "it is the state for {id} {version}, which lies outside, and lantern.toml says that {stated} is installed"
    ))
}

/// The links in the server folder that are taken for folders.
pub fn followed(server: &Server) -> BTreeSet<RelPath> {
    let links = server.folder.followed().iter();
    links.map(|link| link.at.clone()).collect()
}

/// Refuses to put anything back where a folder above it has become a link since, or a link a folder: it would come to lie
/// where nobody has taken it from.
///
/// # Errors
/// [`ChangeoverFault::LinksChanged`].
pub fn same_links<'p>(
    server: &Server,
    then: Option<&BTreeSet<RelPath>>,
    paths: impl Iterator<Item = &'p RelPath>,
) -> Result<()> {
    let Some(then) = then else {
        return Ok(());
    };
    let now = followed(server);
    let changed: Vec<&RelPath> = now.symmetric_difference(then).collect();
    for path in paths {
        let above = |link: &&&RelPath| path.is_within(link);
        if let Some(link) = changed.iter().find(above) {
            return Err(ChangeoverFault::LinksChanged {
                path: (*link).clone(),
            }
            .into());
        }
    }
    Ok(())
}

/// Refuses another server's plan.
///
/// # Errors
/// [`ChangeoverFault::OtherServer`].
pub fn is_for(server: &Server, plan: &Plan) -> Result<()> {
    let mark = &plan.server_id;
    match *mark == server.config.id || records::is_mark_of_another(&server.folder, mark)? {
        true => Ok(()),
        false => Err(ChangeoverFault::OtherServer {
            plan_server: plan.server.clone(),
            here: server.config.name.clone(),
        }
        .into()),
    }
}

/// Compares the folder with the plan, and refuses where something of it cannot be exchanged by renames.
///
/// # Errors
/// As [`as_planned`], and [`ChangeoverFault::OtherDisk`].
pub fn matches(server: &Server, plan: &Plan, survey: &Survey) -> Result<()> {
    as_planned(server, plan, survey)?;
    let touched = plan.actions.iter();
    let touched = touched.filter(|action| action.what != ActionKind::Keep);
    match elsewhere(server, touched.map(|action| &action.path))? {
        None => Ok(()),
        Some(path) => Err(ChangeoverFault::OtherDisk { path }.into()),
    }
}

/// Compares the folder with the plan.
///
/// # Errors
/// When it is another server's plan, or a file is not what the plan says, or is there against it.
pub fn as_planned(server: &Server, plan: &Plan, survey: &Survey) -> Result<()> {
    is_for(server, plan)?;
    let here: BTreeMap<&RelPath, Option<&str>> = survey
        .planned_files(server)
        .map(|file| (&file.path, file.hash.as_deref()))
        .collect();
    let touched = plan
        .actions
        .iter()
        .filter(|action| action.what != ActionKind::Keep);
    let own = server.own_files();
    if let Some(action) = touched
        .clone()
        .find(|action| is_lanterns(&action.path, &own))
    {
        return Err(ChangeoverFault::WritesOwn {
            path: action.path.clone(),
        }
        .into());
    }
    if let Some(kept) = touched
        .clone()
        .find(|action| server.keeps(action.path.as_str()))
    {
        return Err(ChangeoverFault::WritesKept {
            path: kept.path.clone(),
        }
        .into());
    }
    for action in &plan.actions {
        let target = action.after.as_deref().and_then(link::target);
        let target = target.filter(|target| link::leads_to(&action.path, target).is_none());
        if let Some(target) = target {
            return Err(ChangeoverFault::LinkLeaves {
                path: action.path.clone(),
                target: target.to_owned(),
            }
            .into());
        }
    }
    let mut changes = Vec::new();
    for action in &plan.actions {
        let now = here.get(&action.path);
        let touched = action.what != ActionKind::Keep;
        let owned = action.component.is_some();
        match (now, &action.before) {
            (Some(_), None) => changes.push(format!("{} is there now", action.path)),
            (None, Some(_)) if touched || owned => changes.push(format!("{} is gone", action.path)),
            (Some(now), Some(before)) if (touched || owned) && *now != Some(before.as_str()) => {
                changes.push(format!("{} is different", action.path));
            }
            _ => {}
        }
    }
    let planned: BTreeSet<&RelPath> = plan.actions.iter().map(|action| &action.path).collect();
    let unowned: BTreeSet<&RelPath> = survey
        .inventory
        .unowned
        .iter()
        .map(|file| &file.path)
        .collect();
    let known = |path: &&&RelPath| planned.contains(**path) || unowned.contains(**path);
    let new = here.keys().filter(|path| !known(path));
    changes.extend(new.map(|path| format!("{path} is new")));
    if changes.is_empty() {
        return Ok(());
    }
    let more = changes.len().saturating_sub(NAMED);
    changes.truncate(NAMED);
    if more > 0 {
        changes.push(format!("and {more} more"));
    }
    Err(Error::Changeover(ChangeoverFault::FolderChanged {
        changes,
    }))
}
