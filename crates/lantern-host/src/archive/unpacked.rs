//! Folders that hold what an archive would: what a recipe made, or somebody unpacked.

use super::{ArchiveFault, List, Passing, Visit, damaged};
use lantern_core::path::RelPath;
use std::fs::File;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use walkdir::WalkDir;

pub(super) struct Unpacked {
    root: PathBuf,
    paths: Vec<RelPath>,
}

impl Unpacked {
    pub(super) fn open(root: &Path, list: &mut List) -> Result<Unpacked, ArchiveFault> {
        let mut paths = Vec::new();
        for entry in WalkDir::new(root).sort_by_file_name() {
            let entry = entry.map_err(|error| ArchiveFault::Broken(error.to_string()))?;
            let below = entry.path().strip_prefix(root).unwrap_or(entry.path());
            let name = below.to_string_lossy();
            if entry.file_type().is_dir() {
                continue;
            }
            if !entry.file_type().is_file() {
                return Err(ArchiveFault::Link(name.into_owned()));
            }
            let metadata = entry
                .metadata()
                .map_err(|error| ArchiveFault::Broken(error.to_string()))?;
            paths.push(list.add(&name, metadata.len())?);
        }
        Ok(Unpacked {
            root: root.to_owned(),
            paths,
        })
    }

    pub(super) fn each(
        &mut self,
        wanted: &dyn Fn(&RelPath) -> bool,
        visit: Visit<'_>,
    ) -> Result<(), ArchiveFault> {
        for path in self.paths.iter().filter(|path| wanted(path)) {
            let mut file =
                File::open(self.root.join(path.as_str())).map_err(|error| damaged(path, &error))?;
            let metadata = file.metadata().map_err(|error| damaged(path, &error))?;
            visit(Passing {
                path,
                bytes: metadata.len(),
                is_program: metadata.permissions().mode() & 0o111 != 0,
                content: &mut file,
            })?;
        }
        Ok(())
    }
}
