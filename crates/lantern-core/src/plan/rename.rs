//! What another name of an add-on's file or folder means for each file of it.

use super::draw::Drawing;
use super::{Action, ActionKind, DrawFault, Rename, Source};
use crate::artifact::Artifact;
use crate::path::RelPath;

impl Drawing<'_> {
    /// Moves all that lies, or would come to lie, under the old names to the new ones.
    ///
    /// A file that stays is set aside under its old name and placed under the new one, from where it lies now.
    pub(super) fn rename(&mut self, renames: &[Rename]) -> Result<(), DrawFault> {
        let mut arriving: Vec<(Action, &Rename)> = Vec::new();
        for rename in renames {
            let below = |path: &RelPath| path.below(rename.from.as_str()).map(str::to_owned);
            let (_, kept) = self.situation.folder;
            if let Some(path) = kept.iter().find(|path| below(path).is_some()) {
                return Err(DrawFault::KeptInside {
                    id: rename.id.clone(),
                    to: rename.to.clone(),
                    path: path.clone(),
                });
            }
            let there = self.actions.keys();
            let there = there.filter(|path| **path == rename.from || below(path).is_some());
            for path in there.cloned().collect::<Vec<_>>() {
                let to = match below(&path) {
                    Some(rest) => rename.to.join(&rest),
                    None => Ok(rename.to.clone()),
                };
                let to = to.map_err(|fault| DrawFault::Path {
                    id: rename.id.clone(),
                    fault,
                })?;
                if let Some(action) = self.leave(&path, to) {
                    arriving.push((action, rename));
                }
            }
        }
        for (mut action, rename) in arriving {
            match self.actions.get(&action.path) {
                None => {}
                Some(there) if there.what == ActionKind::SetAside => {
                    action.before.clone_from(&there.before);
                    action.what = ActionKind::Replace;
                }
                Some(there) => {
                    return Err(DrawFault::InTheWay {
                        id: rename.id.clone(),
                        owner: there.component.clone(),
                        paths: vec![action.path],
                        are_settings: false,
                        scattered: None,
                    });
                }
            }
            self.actions.insert(action.path.clone(), action);
        }
        Ok(())
    }

    /// What a file's action becomes under its new name; under the old one, what is there is set aside.
    fn leave(&mut self, path: &RelPath, to: RelPath) -> Option<Action> {
        let there = self.actions.get(path)?.clone();
        if there.what == ActionKind::SetAside {
            return None;
        }
        match &there.before {
            None => self.actions.remove(path),
            Some(_) => self.actions.insert(
                path.clone(),
                Action {
                    what: ActionKind::SetAside,
                    after: None,
                    source: None,
                    shipped: None,
                    under: None,
                    ..there.clone()
                },
            ),
        };
        let source = match there.what {
            ActionKind::Keep => Some(self.taken_from_here(path, &there)),
            _ => there.source.clone(),
        };
        Some(Action {
            path: to,
            what: ActionKind::Place,
            before: None,
            source,
            ..there
        })
    }

    /// The file as it lies in the server folder, as a source.
    fn taken_from_here(&mut self, path: &RelPath, there: &Action) -> Source {
        let (folder, _) = self.situation.folder;
        self.archives.push(Artifact {
            file: format!("{folder}/{path}"),
            blake3: there.before.clone().unwrap_or_default(),
            bytes: there.bytes,
            urls: Vec::new(),
        });
        Source {
            archive: self.archives.len() - 1,
            entry: None,
        }
    }
}
