//! Links that are taken for the folders they lead to.

use super::{listing, open_place};
use crate::place::Place;
use lantern_core::path::RelPath;
use std::convert::Infallible;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

/// A link that is taken for the folder it leads to, such as that of a world on another disk.
#[derive(Debug, Clone)]
pub struct Followed {
    /// Where the link is.
    pub at: RelPath,
    /// The folder it leads to, outside the server folder.
    pub target: PathBuf,
    pub(super) place: Arc<dyn Place>,
}

/// Which links are wanted as folders, by path.
type Wanted = dyn Fn(&str) -> bool + Send + Sync;

/// The links of a folder that are followed: looked for once, when it first matters, or when the whole folder is listed.
#[derive(Clone, Default)]
pub(super) struct Links {
    wanted: Option<Arc<Wanted>>,
    found: Arc<OnceLock<Vec<Followed>>>,
}

impl fmt::Debug for Links {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.found.fmt(f)
    }
}

impl Links {
    /// Links that are still to be looked for.
    pub(super) fn wanted(wanted: impl Fn(&str) -> bool + Send + Sync + 'static) -> Links {
        Links {
            wanted: Some(Arc::new(wanted)),
            found: Arc::default(),
        }
    }

    /// Those of a folder, by its top.
    pub(super) fn of(&self, top: &Arc<dyn Place>) -> &[Followed] {
        if self.wanted.is_none() {
            return &[];
        }
        let walk = |place: &dyn Place, at: Option<&RelPath>| {
            Ok::<_, Infallible>(listing::links_in(place, at))
        };
        self.found.get_or_init(|| match self.search(top, walk) {
            Ok(found) => found,
            Err(never) => match never {},
        })
    }

    /// As [`Links::of`], by what finds the links that lie in a place, under the path that it stands for: it is asked for the top, and for
    /// the place behind each link that is followed.
    ///
    /// # Errors
    /// When it fails.
    pub(super) fn of_found<E>(
        &self,
        top: &Arc<dyn Place>,
        mut links_in: impl FnMut(&dyn Place, Option<&RelPath>) -> Result<Vec<RelPath>, E>,
    ) -> Result<&[Followed], E> {
        let Some(found) = self.found.get() else {
            let found = self.search(top, links_in)?;
            return Ok(self.found.get_or_init(|| found));
        };
        links_in(&**top, None)?;
        for followed in found {
            links_in(&*followed.place, Some(&followed.at))?;
        }
        Ok(found)
    }

    fn search<E>(
        &self,
        top: &Arc<dyn Place>,
        mut links_in: impl FnMut(&dyn Place, Option<&RelPath>) -> Result<Vec<RelPath>, E>,
    ) -> Result<Vec<Followed>, E> {
        let mut found: Vec<Followed> = Vec::new();
        let mut next = vec![(Arc::clone(top), None)];
        while let Some((place, at)) = next.pop() {
            let links = links_in(&*place, at.as_ref())?.into_iter();
            let is_wanted =
                |link: &RelPath| self.wanted.as_ref().is_some_and(|it| it(link.as_str()));
            for link in links.filter(is_wanted) {
                let below = at.as_ref().map_or(link.as_str(), |at: &RelPath| {
                    link.below(at.as_str()).unwrap_or(link.as_str())
                });
                let Ok(place) = open_place(&place.root().join(below)) else {
                    continue;
                };
                let target = place.root().to_owned();
                // A folder that is seen already, or holds one that is, would be seen twice or for ever.
                let meets = |known: &Path| target.starts_with(known) || known.starts_with(&target);
                if meets(top.root()) || found.iter().any(|known| meets(&known.target)) {
                    continue;
                }
                next.push((Arc::clone(&place), Some(link.clone())));
                found.push(Followed {
                    at: link,
                    target,
                    place,
                });
            }
        }
        Ok(found)
    }
}

#[cfg(test)]
mod tests {
    use crate::folder::{Folder, own};
    use crate::place::here;
    use lantern_core::path::RelPath;

    /// The same links are followed whether they are walked for or come up as the folder is listed.
    #[test]
    fn links_are_found_by_walking_and_by_listing() {
        let dir = tempfile::tempdir().unwrap();
        let at = |path: &str| dir.path().join(path);
        for folder in ["server/addons", "disk/orbit", "deep/moon", "other"] {
            here::make_folders(&at(folder)).unwrap();
        }
        for file in ["server/a", "disk/orbit/days", "deep/moon/nights", "other/x"] {
            here::write(&at(file), b"x").unwrap();
        }
        for (target, link) in [
            ("../disk", "server/worlds"),
            ("../../deep/moon", "disk/orbit/moon"),
            ("..", "disk/orbit/loop"),
            ("../other", "server/unwanted"),
            ("a", "server/inside"),
        ] {
            let folder = Folder::open(at(link).parent().unwrap()).unwrap();
            let name = RelPath::parse(link.rsplit('/').next().unwrap()).unwrap();
            folder.make_link(target, &name).unwrap();
        }
        let opened = || {
            let folder = Folder::open(&at("server")).unwrap();
            folder.following(|link| link.starts_with("worlds"))
        };
        let links = |folder: &Folder| {
            let followed = folder.followed().iter();
            let links: Vec<String> = followed.map(|it| it.at.to_string()).collect();
            links
        };
        let (walked, listed) = (opened(), opened());
        assert_eq!(links(&walked), ["worlds", "worlds/orbit/moon"]);
        let first = listed.list().unwrap();
        assert!(listed.links.found.get().is_some());
        assert_eq!(links(&listed), links(&walked));
        let files: Vec<&str> = first.files.iter().map(|(path, _)| path.as_str()).collect();
        assert_eq!(
            files,
            ["a", "worlds/orbit/days", "worlds/orbit/moon/nights"]
        );
        for again in [walked.list().unwrap(), listed.list().unwrap()] {
            assert_eq!(again.files, first.files);
            assert_eq!(again.left_alone, ["unwanted", "worlds/orbit/loop"]);
        }
        // What is lantern's own lies behind none of them.
        let unasked = opened();
        assert!(!unasked.has(&own("ledger.db")).unwrap());
        assert!(unasked.links.found.get().is_none());
    }
}
