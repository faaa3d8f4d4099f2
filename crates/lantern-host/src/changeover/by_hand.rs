//! A plan that a person carries out, where lantern does not: what comes is packed for him, and what he did is looked at.

use super::{check, stage};
use crate::archive::{self, NewZip};
use crate::armed::{self, Became};
use crate::config::Server;
use crate::error::{At, Result};
use crate::folder::{Folder, hash_source, own};
use crate::ledger::{Learnt, Ledger, Logged};
use crate::records;
use crate::shipped;
use crate::survey::{Depth, survey};
use jiff::Timestamp;
use lantern_core::link;
use lantern_core::operation::{Detail, Operation, OperationKind, UNKNOWN};
use lantern_core::path::RelPath;
use lantern_core::plan::{Action, ActionKind, Plan};
use lantern_core::tree::is_unread;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::io;
use std::path::Path;
use zip::write::SimpleFileOptions;

/// What was packed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packed {
    /// How many files come.
    pub files: usize,
    /// The size of the archive.
    pub bytes: u64,
    /// What goes, and nothing comes in its place.
    pub goes: Vec<RelPath>,
}

/// A path that is not as the plan has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Odd {
    /// The path.
    pub path: RelPath,
    /// What is wrong there.
    pub how: How,
}

/// How a path is not as the plan has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// It should be there, and is not.
    Missing,
    /// It is something else.
    Other,
    /// It should have gone, and has not.
    StillThere,
    /// It should have stayed as it was, and has not.
    Changed,
}

/// What somebody has done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Done {
    /// How many paths are as the plan has them.
    pub right: usize,
    /// Those that are not.
    pub odd: Vec<Odd>,
    /// The number in the history, where all is as it should be.
    pub number: Option<i64>,
}

fn comes(action: &&Action) -> bool {
    match action.what {
        ActionKind::Place | ActionKind::Replace | ActionKind::Edit => true,
        ActionKind::Keep | ActionKind::SetAside => false,
    }
}

/// Packs all that comes, at its path in the server folder, each held against the plan.
///
/// # Errors
/// When the folder is not what the plan was made for any more, an archive is not the planned one, or the archive cannot be written.
pub fn pack(server: &Server, ledger: &mut Ledger, plan: &Plan, out: &Path) -> Result<Packed> {
    let server = &server.keeping(plan.keep.patterns.iter().map(String::as_str))?;
    check::decided(plan)?;
    if !plan.renames.is_empty() {
        // What only gets another name would have to be fetched to be packed.
        server.refuse_far("a change of an add-on's file name")?;
    }
    let found = survey(server, ledger, Depth::Usual)?;
    check::as_planned(server, plan, &found)?;
    let root = own(&format!("packing/{:04}", ledger.next_number()?));
    stage::stage(server, plan, &root)?;
    let packed = pack_staged(server, plan, &root, out);
    let _ = server.folder.remove_all(&root);
    packed
}

fn pack_staged(server: &Server, plan: &Plan, root: &RelPath, out: &Path) -> Result<Packed> {
    let coming = plan.actions.iter().filter(comes);
    let coming: Result<Vec<(RelPath, RelPath)>> = coming
        .map(|action| Ok((action.path.clone(), root.join(action.path.as_str())?)))
        .collect();
    let coming = coming?;
    let bytes = zipped(server, &coming, out)?;
    let goes = plan.of(ActionKind::SetAside);
    Ok(Packed {
        files: coming.len(),
        bytes,
        goes: goes.map(|action| action.path.clone()).collect(),
    })
}

/// Packs what is there now and a plan replaces or takes away: unpacked again, and without what came, it is the way back. How many
/// files there are, and the size of the archive.
///
/// # Errors
/// When a file cannot be read, or the archive cannot be written.
pub fn pack_old(server: &Server, plan: &Plan, out: &Path) -> Result<(usize, u64)> {
    let goes = plan.actions.iter().filter(|action| match action.what {
        ActionKind::SetAside | ActionKind::Replace | ActionKind::Edit => true,
        ActionKind::Keep | ActionKind::Place => false,
    });
    let goes: Vec<(RelPath, RelPath)> = goes
        .map(|action| (action.path.clone(), action.path.clone()))
        .collect();
    let bytes = zipped(server, &goes, out)?;
    Ok((goes.len(), bytes))
}

/// Packs files of the server folder: each under its first path, from its second; the size of the archive.
fn zipped(server: &Server, files: &[(RelPath, RelPath)], out: &Path) -> Result<u64> {
    archive::write(out, &mut |zip| {
        let mut files = files.iter();
        files.try_for_each(|(path, from)| put(&server.folder, zip, path, from))
    })
}

fn put(folder: &Folder, zip: &mut NewZip<'_>, path: &RelPath, from: &RelPath) -> Result<()> {
    let options = SimpleFileOptions::default();
    if folder.look(from)?.is_some_and(|meta| meta.is_link()) {
        let target = folder.read_link(from)?;
        let added = zip.add_symlink(path.as_str(), target, options);
        return added
            .map_err(io::Error::other)
            .at("packing", &folder.shown(from));
    }
    let mut file = folder.open_file(from)?;
    let mut copy = || {
        let meta = file.meta()?;
        let options = options
            .unix_permissions(meta.rights & 0o777)
            .large_file(meta.stamp.bytes >= u32::MAX.into());
        zip.start_file(path.as_str(), options)
            .map_err(io::Error::other)?;
        io::copy(&mut *file, zip).map(|_| ())
    };
    copy().at("packing", &folder.shown(from))
}

/// Looks whether all is as a plan has it, path by path; every file that should have come is read. Where all is, that is written
/// down as if lantern had done it, but that it cannot take it back.
///
/// # Errors
/// When the plan is another server's, the folder cannot be read, or the ledger not written.
pub fn look(server: &Server, ledger: &mut Ledger, plan: &Plan) -> Result<Done> {
    check::is_for(server, plan)?;
    let looked: Result<Vec<(&Action, Seen)>> = server.folder.with_hands(|| {
        let actions = plan.actions.par_iter();
        actions
            .map(|action| Ok((action, look_at(server, action)?)))
            .collect()
    });
    let looked = looked?;
    let odd = looked.iter().filter_map(|(action, seen)| match seen {
        Seen::Right(_) => None,
        Seen::Odd(how) => Some(Odd {
            path: action.path.clone(),
            how: *how,
        }),
    });
    let odd: Vec<Odd> = odd.collect();
    let right = looked.len() - odd.len();
    if !odd.is_empty() {
        return Ok(Done {
            right,
            odd,
            number: None,
        });
    }
    let read = looked.into_iter().filter_map(|(_, seen)| match seen {
        Seen::Right(read) => read,
        Seen::Odd(_) => None,
    });
    let read: Vec<Learnt> = read.collect();
    Ok(Done {
        right,
        odd,
        number: Some(record(server, ledger, plan, &read)?),
    })
}

/// What is seen of a path.
enum Seen {
    /// It is as it should be; where it was read, with what it is known by now.
    Right(Option<Learnt>),
    Odd(How),
}

fn look_at(server: &Server, action: &Action) -> Result<Seen> {
    let folder = &server.folder;
    let there = folder.met(&action.path)?;
    let Some(there) = there else {
        return Ok(match action.what {
            ActionKind::SetAside => Seen::Right(None),
            _ => Seen::Odd(How::Missing),
        });
    };
    let odd = match action.what {
        ActionKind::SetAside => return Ok(Seen::Odd(How::StillThere)),
        ActionKind::Keep => How::Changed,
        _ => How::Other,
    };
    let Some(after) = action.after.as_deref() else {
        return Ok(Seen::Right(None));
    };
    if let Some(target) = link::target(after) {
        let leads = there.is_link() && folder.read_link(&action.path)? == target;
        return Ok(if leads {
            Seen::Right(None)
        } else {
            Seen::Odd(odd)
        });
    }
    if !there.is_file() {
        return Ok(Seen::Odd(odd));
    }
    if is_unread(after) {
        let same = folder.content(&action.path, &there.stamp)? == after;
        return Ok(if same {
            Seen::Right(None)
        } else {
            Seen::Odd(odd)
        });
    }
    let has_size = matches!(action.what, ActionKind::Place | ActionKind::Replace);
    if has_size && there.stamp.bytes != action.bytes && !is_edited(action) {
        return Ok(Seen::Odd(odd));
    }
    let mut file = folder.open_file(&action.path)?;
    let read = file
        .meta()
        .and_then(|meta| Ok((meta.stamp, hash_source(&mut *file)?)));
    let (stamp, hash) = read.at("reading", &folder.shown(&action.path))?;
    Ok(match hash == after {
        true => Seen::Right(Some(Learnt {
            path: action.path.clone(),
            stamp,
            was: String::new(),
            hash,
        })),
        false => Seen::Odd(odd),
    })
}

/// Whether a file that comes is changed as it does, so that its size is not the archive's.
fn is_edited(action: &Action) -> bool {
    action.shipped.is_some()
}

/// Writes down that a plan was carried out by somebody else; its number.
fn record(server: &Server, ledger: &mut Ledger, plan: &Plan, read: &[Learnt]) -> Result<i64> {
    let rows = read.iter();
    let rows = rows.map(|it| (&it.path, it.stamp, it.hash.clone()));
    ledger.see(rows, &[])?;
    let remembered = ledger.remembered()?;
    let number = ledger.next_number()?;
    let folders = (&*stage::folder_name(number), &*stage::folder_name(number));
    let operation = Operation::changeover(
        number,
        (false, Vec::new()),
        plan.clone(),
        true,
        &remembered,
        folders,
    )?;
    let logged = Logged {
        number,
        kind: OperationKind::Changeover,
        ended_ms: Timestamp::now().as_millisecond(),
        from: plan.from.clone().unwrap_or_else(|| UNKNOWN.to_owned()),
        to: plan.to.clone(),
        undone: false,
        failed: None,
        is_thinned: true,
    };
    ledger.record(&logged, &operation.record, None, &Detail::of(&operation))?;
    let _ = armed::became(server, plan, Became::Done(number));
    let files = operation.record.files.iter();
    let files = files.filter_map(|(path, known)| Some((path, known.as_ref()?.hash.as_str())));
    let _ = shipped::keep_files(&server.folder, ledger, files);
    // What came is found by the next survey as it was seen here.
    survey(server, ledger, Depth::Usual)?;
    records::share(&server.folder, &server.config.id)?;
    Ok(number)
}
