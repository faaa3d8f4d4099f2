//! Folders that hold what an archive would: what a recipe made, or somebody unpacked.

use super::{ArchiveFault, List, PackedFile, Visit, damaged};
use crate::place::{Local, Place};
use lantern_core::path::RelPath;
use std::io;
use std::path::Path;

pub(super) struct Unpacked {
    place: Local,
    paths: Vec<RelPath>,
}

impl Unpacked {
    pub(super) fn open(root: &Path, list: &mut List) -> Result<Unpacked, ArchiveFault> {
        let broken = |error: io::Error| ArchiveFault::Broken(error.to_string());
        let place = Local::open(root).map_err(broken)?;
        let mut paths = Vec::new();
        let mut next: Vec<Option<RelPath>> = vec![None];
        while let Some(folder) = next.pop() {
            for (name, meta) in place.list(folder.as_ref()).map_err(broken)? {
                let above = folder.as_ref().map_or(String::new(), |it| format!("{it}/"));
                let name = format!("{above}{}", name.to_string_lossy());
                if meta.is_folder() {
                    next.push(Some(RelPath::parse(&name)?));
                } else if meta.is_file() {
                    paths.push(list.add(&name, meta.stamp.bytes)?);
                } else if meta.is_link() {
                    let target = place.read_link(&RelPath::parse(&name)?).map_err(broken)?;
                    list.add_link(&name, target.as_bytes())?;
                } else {
                    return Err(ArchiveFault::Odd(name));
                }
            }
        }
        paths.sort();
        Ok(Unpacked { place, paths })
    }

    pub(super) fn each(
        &mut self,
        wanted: &dyn Fn(&RelPath) -> bool,
        visit: Visit<'_>,
    ) -> Result<(), ArchiveFault> {
        for path in self.paths.iter().filter(|path| wanted(path)) {
            let opened = self.place.open(path);
            let mut file = opened.map_err(|error| damaged(path, &error))?;
            let meta = file.meta().map_err(|error| damaged(path, &error))?;
            visit(PackedFile {
                path,
                bytes: meta.stamp.bytes,
                is_program: meta.rights & 0o111 != 0,
                content: &mut file,
            })?;
        }
        Ok(())
    }
}
