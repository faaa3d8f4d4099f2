//! Everything new, unpacked beside the server and checked before the server stops.

use crate::archive::{Archive, ArchiveFault};
use crate::config::Server;
use crate::depot::download_hash;
use crate::disk;
use crate::error::{At, Error, Result};
use crate::folder::{free_bytes, hash_file};
use crate::layers;
use crate::ledger::Doing;
use crate::planning::edited;
use lantern_core::component::Kind;
use lantern_core::path::RelPath;
use lantern_core::plan::{Action, Plan, What};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// Room that stays free besides what is staged, in bytes.
const SPARE_BYTES: u64 = 4 << 20;

/// The staging folder of an operation, relative to the server folder.
pub fn folder_name(number: i64) -> String {
    format!(".lantern/staging/{number:04}")
}

/// Unpacks every new file into the staging folder, each checked against the plan's hash.
///
/// `progress` is told the bytes done and the bytes there are.
///
/// # Errors
/// When an archive is not the planned one, or the disk is full. The staging folder is then gone
/// again, and nothing else was touched.
pub fn stage(
    server: &Server,
    plan: &Plan,
    number: i64,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<()> {
    let root = server.folder.root().join(folder_name(number));
    if root.exists() {
        disk::step()
            .and_then(|()| fs::remove_dir_all(&root))
            .at("removing", &root)?;
    }
    disk::step()
        .and_then(|()| fs::create_dir_all(&root))
        .at("making the folder", &root)?;
    let staged = fill(server, plan, &root, progress);
    if staged.is_err() {
        let _ = disk::step().and_then(|()| fs::remove_dir_all(&root));
    }
    staged.map_err(|error| full_disk(error, plan, &root))
}

fn fill(
    server: &Server,
    plan: &Plan,
    root: &Path,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<()> {
    let needed = plan.staged_bytes() + SPARE_BYTES;
    let free = free_bytes(root)?;
    if free < needed {
        return Err(Error::DiskFull {
            path: root.into(),
            needed,
            free,
        });
    }
    let (mut done, total) = (0, plan.staged_bytes());
    for (index, archive) in plan.archives.iter().enumerate() {
        if crate::called_off() {
            return Err(Error::CalledOff(Doing::Changeover));
        }
        let path = PathBuf::from(&archive.file);
        let found = download_hash(&path)?;
        let other = |path: &Path, expected: &str, found: &str| Error::OtherArchive {
            path: path.into(),
            expected: expected[..12.min(expected.len())].into(),
            found: found[..12].into(),
        };
        if found != archive.blake3 {
            return Err(other(&path, &archive.blake3, &found));
        }
        let from_here = plan.actions.iter().filter(|action| {
            let source = action.source.as_ref();
            matches!(action.what, What::Place | What::Replace)
                && source.is_some_and(|source| source.archive == index)
        });
        let mut wanted: BTreeMap<RelPath, PathBuf> = BTreeMap::new();
        let mut actions: BTreeMap<RelPath, &Action> = BTreeMap::new();
        for action in from_here {
            let to = root.join(action.path.as_str());
            let entry = action.source.as_ref().and_then(|s| s.entry.as_ref());
            match entry {
                None => {
                    let hash = copy(&path, &to)?;
                    if is_program(plan, action) {
                        let rights = fs::Permissions::from_mode(0o755);
                        fs::set_permissions(&to, rights).at("setting the rights of", &to)?;
                    }
                    if Some(&hash) != action.after.as_ref() {
                        return Err(other(&to, action.after.as_deref().unwrap_or(""), &hash));
                    }
                    done += action.bytes;
                    progress(done, total);
                }
                Some(entry) => {
                    let entry = RelPath::parse(entry)?;
                    wanted.insert(entry.clone(), to);
                    actions.insert(entry, action);
                }
            }
        }
        if wanted.is_empty() {
            continue;
        }
        let mut differs = None;
        let mut unpacked = BTreeSet::new();
        Archive::open(&path)?.unpack(&wanted, &path, &mut |entry, hash| {
            let action = actions[entry];
            if action.after.as_deref() != Some(hash) {
                differs = Some((entry.clone(), hash.to_owned()));
            }
            unpacked.insert(entry.clone());
            done += action.bytes;
            progress(done, total);
        })?;
        if let Some((entry, hash)) = differs {
            let expected = actions[&entry].after.as_deref().unwrap_or("");
            return Err(other(&wanted[&entry], expected, &hash));
        }
        if let Some(entry) = wanted.keys().find(|entry| !unpacked.contains(entry)) {
            return Err(Error::Archive {
                path,
                fault: ArchiveFault::Broken(format!("it has no entry {entry}")),
            });
        }
    }
    keep_layers(server, plan, root)?;
    for edit in &plan.edits {
        let to = root.join(edit.path.as_str());
        if let Some(parent) = to.parent() {
            fs::create_dir_all(parent).at("making the folder", parent)?;
        }
        let new = edited(edit, &server.folder.read_text(&edit.path)?)?.bytes();
        let hash = blake3::hash(&new).to_hex().to_string();
        let planned = plan.of(What::Edit).find(|action| action.path == edit.path);
        if planned.and_then(|action| action.after.as_ref()) != Some(&hash) {
            return Err(Error::OtherText {
                path: edit.path.clone(),
                why: "what comes of it is not what the plan says".into(),
            });
        }
        disk::step()
            .and_then(|()| fs::write(&to, &new))
            .at("writing", &to)?;
        let old = server.folder.path(&edit.path)?;
        let rights = fs::metadata(&old).at("reading", &old)?.permissions();
        fs::set_permissions(&to, rights).at("setting the rights of", &to)?;
        File::open(&to)
            .and_then(|file| file.sync_all())
            .at("syncing", &to)?;
    }
    Ok(())
}

/// Whether a file that is a whole download is a server program, which downloads do not mark as such.
fn is_program(plan: &Plan, action: &Action) -> bool {
    let mut changes = plan.components.iter();
    let owner = action.component.as_ref();
    changes.any(|change| change.kind == Kind::Build && Some(&change.id) == owner)
}

/// Keeps copies of what lies over and under one another, so that either can be put back by itself.
fn keep_layers(server: &Server, plan: &Plan, root: &Path) -> Result<()> {
    for action in &plan.actions {
        let Some(under) = &action.under else {
            continue;
        };
        let here = server.folder.path(&action.path)?;
        if let Some(hash) = &action.after {
            let staged = root.join(action.path.as_str());
            let from = if staged.exists() { &staged } else { &here };
            layers::keep(&server.folder, from, hash)?;
        }
        let Some(source) = &under.source else {
            layers::keep(&server.folder, &here, &under.hash)?;
            continue;
        };
        let archive = Path::new(&plan.archives[source.archive].file);
        let Some(entry) = &source.entry else {
            layers::keep(&server.folder, archive, &under.hash)?;
            continue;
        };
        let beside = root.join(".under");
        let wanted = BTreeMap::from([(RelPath::parse(entry)?, beside.clone())]);
        Archive::open(archive)?.unpack(&wanted, archive, &mut |_, _| {})?;
        layers::keep(&server.folder, &beside, &under.hash)?;
        fs::remove_file(&beside).at("removing", &beside)?;
    }
    Ok(())
}

fn copy(from: &Path, to: &Path) -> Result<String> {
    if let Some(parent) = to.parent() {
        fs::create_dir_all(parent).at("making the folder", parent)?;
    }
    let mut input = File::open(from).at("reading", from)?;
    let mut output = disk::step()
        .and_then(|()| File::create_new(to))
        .at("writing", to)?;
    io::copy(&mut input, &mut output).at("writing", to)?;
    output.sync_all().at("writing", to)?;
    hash_file(to)
}

/// Says "the disk is full" whichever way that showed.
fn full_disk(error: Error, plan: &Plan, root: &Path) -> Error {
    match error {
        Error::Io { source, .. } if source.kind() == io::ErrorKind::StorageFull => {
            Error::DiskFull {
                path: root.into(),
                needed: plan.staged_bytes() + SPARE_BYTES,
                free: root
                    .parent()
                    .and_then(|parent| free_bytes(parent).ok())
                    .unwrap_or(0),
            }
        }
        other => other,
    }
}
