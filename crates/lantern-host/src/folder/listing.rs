//! What lies in a place, all of it.

use super::{Followed, OWN};
use crate::place::{Meta, Place, Sort, Stamp};
use lantern_core::link;
use lantern_core::path::RelPath;
use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::io;

/// What lies in a folder, lantern's own files left out.
#[derive(Debug, Default)]
pub struct Listing {
    /// The regular files, by path.
    pub files: Vec<(RelPath, Stamp)>,
    /// The links that lead to somewhere in the same folder, by path, with where they lead.
    pub links: Vec<(RelPath, Stamp, String)>,
    /// The folders, by path.
    pub folders: Vec<RelPath>,
    /// Those of them that were listed.
    pub entered: Vec<RelPath>,
    /// Other links, devices and names that cannot be dealt with: shown, never touched.
    pub left_alone: Vec<String>,
}

impl Listing {
    /// Without the links that are taken for folders, and in order.
    pub(super) fn without(mut self, followed: &[Followed]) -> Listing {
        let is_followed = |path: &str| followed.iter().any(|it| it.at.as_str() == path);
        self.left_alone.retain(|path| !is_followed(path));
        self.links.retain(|(path, ..)| !is_followed(path.as_str()));
        self.files.sort_by(|a, b| a.0.cmp(&b.0));
        self.links.sort_by(|a, b| a.0.cmp(&b.0));
        self.folders.sort();
        self
    }
}

/// So many folders are asked for together, several times as many as any place lists at once: else all would wait for the slowest of a few.
const TOGETHER: usize = 192;

/// What is answered of a folder that is listed.
type Answer = io::Result<Vec<(OsString, Meta)>>;

/// Lists what lies in a place, under the path that it stands for, without what is in folders that are not wanted; on failure
/// also what could not be listed. Folders that are likely to be there are asked for at once, and not only once the one above them was listed.
/// Returns all links, wherever they lead.
pub(super) fn list_in(
    place: &dyn Place,
    at: Option<&RelPath>,
    wanted: &dyn Fn(&RelPath) -> bool,
    likely: &[RelPath],
    listing: &mut Listing,
) -> Result<Vec<RelPath>, (String, io::Error)> {
    let as_server = |below: &RelPath| match at {
        None => Some(below.clone()),
        Some(at) => at.join(below.as_str()).ok(),
    };
    let early: Vec<Option<RelPath>> = std::iter::once(None)
        .chain(likely.iter().cloned().map(Some))
        .collect();
    let answers = place.list_likely(&early);
    let mut early: HashMap<Option<RelPath>, Answer> = early.into_iter().zip(answers).collect();
    let mut links = Vec::new();
    let mut next: Vec<Option<RelPath>> = vec![None];
    while !next.is_empty() {
        let first = next.len().saturating_sub(TOGETHER);
        let folders = next.split_off(first);
        let (known, folders): (Vec<_>, Vec<_>) = folders
            .into_iter()
            .partition(|folder| early.contains_key(folder));
        let answers = place.list_each(&folders);
        let mut answers: Vec<(Option<RelPath>, Answer)> =
            folders.into_iter().zip(answers).collect();
        let known = known.into_iter();
        answers.extend(known.filter_map(|folder| early.remove_entry(&folder)));
        for (folder, answer) in answers {
            let entries = match answer {
                // A server at work makes and removes folders while they are listed.
                Err(error) if error.kind() == io::ErrorKind::NotFound && folder.is_some() => {
                    continue;
                }
                Err(error) => {
                    return Err((folder.map_or(String::new(), |it| it.to_string()), error));
                }
                Ok(entries) => entries,
            };
            for (name, meta) in entries {
                if at.is_none() && folder.is_none() && name == OsStr::new(OWN) {
                    continue;
                }
                let below = name.to_str().and_then(|name| match &folder {
                    None => RelPath::parse(name).ok(),
                    Some(folder) => folder.join(name).ok(),
                });
                let path = below.as_ref().and_then(as_server);
                match (below, path) {
                    (Some(below), Some(path)) if meta.is_folder() => {
                        if wanted(&path) {
                            next.push(Some(below));
                            listing.entered.push(path.clone());
                        }
                        listing.folders.push(path);
                    }
                    (Some(_), Some(path)) if meta.is_file() => {
                        listing.files.push((path, meta.stamp))
                    }
                    (Some(below), Some(path)) if meta.is_link() => {
                        links.push(path.clone());
                        let target = place.read_link(&below).ok();
                        match target.filter(|target| link::leads_to(&below, target).is_some()) {
                            Some(target) => listing.links.push((path, meta.stamp, target)),
                            None => listing.left_alone.push(path.to_string()),
                        }
                    }
                    (Some(_), Some(path)) => listing.left_alone.push(path.to_string()),
                    _ => {
                        let mut shown: Vec<String> = at.iter().map(ToString::to_string).collect();
                        shown.extend(folder.iter().map(ToString::to_string));
                        shown.push(name.to_string_lossy().escape_default().to_string());
                        listing.left_alone.push(shown.join("/"));
                    }
                }
            }
        }
    }
    listing.left_alone.sort();
    links.sort();
    Ok(links)
}

/// The links that lie in a place, under the path that it stands for; what cannot be listed has none.
pub(super) fn links_in(place: &dyn Place, at: Option<&RelPath>) -> Vec<RelPath> {
    let mut links = Vec::new();
    let mut next: Vec<Option<RelPath>> = vec![None];
    while let Some(folder) = next.pop() {
        for (name, sort) in place.sorts(folder.as_ref()).unwrap_or_default() {
            if at.is_none() && folder.is_none() && name == OsStr::new(OWN) {
                continue;
            }
            let below = name.to_str().and_then(|name| match &folder {
                None => RelPath::parse(name).ok(),
                Some(folder) => folder.join(name).ok(),
            });
            match (sort, below) {
                (Sort::Folder, Some(below)) => next.push(Some(below)),
                (Sort::Link, Some(below)) => links.extend(match at {
                    None => Some(below),
                    Some(at) => at.join(below.as_str()).ok(),
                }),
                _ => {}
            }
        }
    }
    links.sort();
    links
}

/// Removes a folder with all that is in it.
pub(super) fn remove_all(place: &dyn Place, path: &RelPath) -> io::Result<()> {
    let entries = match place.list(Some(path)) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        entries => entries?,
    };
    for (name, meta) in entries {
        let named = name.to_str().and_then(|name| path.join(name).ok());
        let inside = named.ok_or_else(|| {
            io::Error::other(format!(
                "{name:?} in it is a name that cannot be dealt with"
            ))
        })?;
        match meta.is_folder() {
            true => remove_all(place, &inside)?,
            false => place.remove_file(&inside)?,
        }
    }
    place.remove_folder(path)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::place::Local;
    use crate::place::here;

    /// What is likely to be there changes nothing of what is listed, whether it still is there or not.
    #[test]
    fn what_is_likely_is_only_asked_for_sooner() {
        let dir = tempfile::tempdir().unwrap();
        for folder in ["worlds/garden", "worlds/empty", "addons/old"] {
            here::make_folders(&dir.path().join(folder)).unwrap();
        }
        for file in [
            "top.txt",
            "worlds/level",
            "worlds/garden/days",
            "addons/old/a",
            "was-a-folder",
        ] {
            here::write(&dir.path().join(file), b"x").unwrap();
        }
        let place = Local::open(dir.path()).unwrap();
        let wanted = |folder: &RelPath| folder.as_str() != "addons/old";
        let path = |text: &str| RelPath::parse(text).unwrap();
        let listed = |likely: &[&str]| {
            let likely: Vec<RelPath> = likely.iter().map(|text| path(text)).collect();
            let mut listing = Listing::default();
            list_in(&place, None, &wanted, &likely, &mut listing).unwrap();
            let files = listing.files.iter().map(|(path, _)| path.clone());
            let mut all: Vec<Vec<RelPath>> =
                vec![files.collect(), listing.folders, listing.entered];
            all.iter_mut().for_each(|paths| paths.sort());
            all
        };
        let without = listed(&[]);
        assert_eq!(without[0].len(), 4, "{without:?}");
        assert_eq!(
            without[2],
            ["addons", "worlds", "worlds/empty", "worlds/garden"].map(path)
        );
        for likely in [
            &["worlds", "worlds/garden", "worlds/empty", "addons"][..],
            &["worlds/garden", "gone", "worlds/gone/below"],
            &["was-a-folder", "addons/old"],
        ] {
            assert_eq!(listed(likely), without, "{likely:?}");
        }
    }
}
