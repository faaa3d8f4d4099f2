//! What folders are called at the other end, and which of them were seen to be none but folders.

use super::{LinkOnTheWay, Sort};
use lantern_core::path::RelPath;
use std::collections::HashSet;
use std::io;
use std::sync::{Mutex, MutexGuard, PoisonError};

/// The folders of a place at the other end.
#[derive(Debug)]
pub struct Folders {
    /// The folder itself, as the other end names it, from its root and without a slash behind.
    top: String,
    plain: Mutex<HashSet<String>>,
}

impl Folders {
    /// Below a folder as the other end names it.
    pub fn below(top: &str) -> Folders {
        Folders {
            top: top.trim_end_matches('/').to_owned(),
            plain: Mutex::default(),
        }
    }

    /// A path as the other end names it.
    pub fn whole(&self, path: &RelPath) -> String {
        format!("{}/{path}", self.top)
    }

    /// A folder as the other end names it, or the top.
    pub fn folder(&self, folder: Option<&RelPath>) -> String {
        match folder {
            Some(folder) => self.whole(folder),
            None if self.top.is_empty() => "/".into(),
            None => self.top.clone(),
        }
    }

    fn plain(&self) -> MutexGuard<'_, HashSet<String>> {
        self.plain.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Refuses where a folder on the way is a link, as far as the other end tells. What lies there is asked once.
    ///
    /// # Errors
    /// [`LinkOnTheWay`], or what asking comes to.
    pub fn on_the_way(
        &self,
        path: &RelPath,
        sort: impl Fn(&RelPath) -> io::Result<Option<Sort>>,
    ) -> io::Result<()> {
        let mut unknown = Vec::new();
        let mut above = path.folder();
        while let Some(folder) = above.filter(|folder| !self.is_known(folder)) {
            above = folder.folder();
            unknown.push(folder);
        }
        for folder in unknown.into_iter().rev() {
            match sort(&folder)? {
                Some(Sort::Link) => return Err(io::Error::other(LinkOnTheWay)),
                Some(Sort::Folder) => self.is_plain(&folder),
                // What is asked of the path itself says what is wrong.
                _ => return Ok(()),
            }
        }
        Ok(())
    }

    /// Whether it was seen to be there, and no link.
    pub fn is_known(&self, folder: &RelPath) -> bool {
        self.plain().contains(folder.as_str())
    }

    /// It was seen to be there, and is no link.
    pub fn is_plain(&self, folder: &RelPath) {
        self.plain().insert(folder.as_str().to_owned());
    }

    /// It may be something else, or gone, from now on, with all below it.
    pub fn is_plain_no_more(&self, path: &RelPath) {
        self.plain().retain(|known| {
            let below = known.strip_prefix(path.as_str());
            below.is_none_or(|rest| !rest.is_empty() && !rest.starts_with('/'))
        });
    }

    /// Nothing is known of any.
    pub fn forget(&self) {
        self.plain().clear();
    }
}
