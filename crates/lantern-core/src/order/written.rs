//! A load order as it is written down: in one file, or in one with others that are read in the place of its lines.

use crate::family::OrderRule;
use crate::path::RelPath;
use crate::text::{self, LineChange, Misfit, Text};
use std::collections::BTreeMap;

/// No file is read in place of a line deeper than this.
const DEEPEST: usize = 8;

/// Gives the files that a path stands for, as the file that names it says it: one, all of a folder by name, or none.
pub type Named<'n> = dyn FnMut(&RelPath, &str) -> Vec<(RelPath, Text)> + 'n;

/// The text of a load order, and the files that it stands in.
///
/// Its lines are those of the first file; behind a line that names others, the lines of those follow.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderText {
    files: Vec<(RelPath, Text)>,
    whole: String,
    /// Of each line of the whole: its file, and its line there, from 1.
    lines: Vec<(usize, usize)>,
    /// Files whose last line does not end, though more comes behind it in the whole.
    is_open: Vec<bool>,
    /// By a file and a name that stands in it, the files that are read there.
    named: BTreeMap<(RelPath, String), Vec<RelPath>>,
}

impl OrderText {
    /// Reads a load order, and what is `named` in it.
    pub fn read(rule: &OrderRule, path: RelPath, text: Text, named: &mut Named<'_>) -> OrderText {
        let mut order = OrderText {
            files: Vec::new(),
            whole: String::new(),
            lines: Vec::new(),
            is_open: Vec::new(),
            named: BTreeMap::new(),
        };
        order.add(rule, path, text, 0, named);
        if order.whole.is_empty() || order.whole.ends_with('\n') {
            // Behind the last line feed comes one more, empty line.
            let (file, line) = order.lines.last().copied().unwrap_or((0, 0));
            order.lines.push((file, line + 1));
        }
        order
    }

    fn add(
        &mut self,
        rule: &OrderRule,
        path: RelPath,
        text: Text,
        depth: usize,
        named: &mut Named<'_>,
    ) {
        let at = self.files.len();
        self.files.push((path.clone(), text.clone()));
        self.is_open.push(false);
        for (number, line) in text.as_str().split_inclusive('\n').enumerate() {
            self.close();
            self.whole.push_str(line);
            self.lines.push((at, number + 1));
            let body = line.trim_end_matches(['\n', '\r']);
            let name = rule.includes.as_ref();
            let name = name.and_then(|includes| includes.capture("file", body));
            let inside = match name.filter(|_| depth < DEEPEST) {
                Some(name) => {
                    let inside = named(&path, name);
                    let paths = inside.iter().map(|(path, _)| path.clone());
                    let key = (path.clone(), name.to_owned());
                    self.named.insert(key, paths.collect());
                    inside
                }
                None => Vec::new(),
            };
            for (path, text) in inside {
                // What is read twice, or reads itself, has its entries once.
                if self.holds(&path) {
                    continue;
                }
                self.add(rule, path, text, depth + 1, named);
            }
        }
    }

    /// Ends the last line, where more is to come behind it.
    fn close(&mut self) {
        if !self.whole.is_empty() && !self.whole.ends_with('\n') {
            self.whole.push('\n');
            if let Some((file, _)) = self.lines.last() {
                self.is_open[*file] = true;
            }
        }
    }

    /// All of it, as one text.
    pub fn as_str(&self) -> &str {
        &self.whole
    }

    /// The file that it begins in.
    pub fn path(&self) -> &RelPath {
        &self.files[0].0
    }

    /// Every file of it, the first first.
    pub fn files(&self) -> impl Iterator<Item = (&RelPath, &Text)> {
        self.files.iter().map(|(path, text)| (path, text))
    }

    /// Whether it can be changed: none of its files is a program.
    pub fn is_plain(&self) -> bool {
        self.files.iter().all(|(_, text)| text.is_plain())
    }

    /// Whether a path is one of its files.
    pub fn holds(&self, path: &RelPath) -> bool {
        self.files.iter().any(|(known, _)| known == path)
    }

    /// Where a line of the whole, from 1, stands.
    pub fn place(&self, line: usize) -> (&RelPath, usize) {
        let place = self.lines.get(line.saturating_sub(1));
        let (file, line) = place.copied().unwrap_or((0, line));
        (&self.files[file].0, line)
    }

    /// Its files as they are when the whole becomes another text: a line that comes stands in the file of the line before it.
    ///
    /// # Errors
    /// With a line that does not stand where it should.
    pub fn rewritten(
        &self,
        rule: &OrderRule,
        whole: &str,
    ) -> Result<BTreeMap<&RelPath, String>, Misfit> {
        if let [(only, _)] = &self.files[..] {
            return Ok(BTreeMap::from([(only, whole.to_owned())]));
        }
        let mut of_files: Vec<Vec<LineChange>> = vec![Vec::new(); self.files.len()];
        for change in changes(rule, &self.whole, whole) {
            let mut becomes = Some(change.becomes);
            let first = change.line - 1;
            let many = change.was.len();
            let before = first.checked_sub(1).and_then(|at| self.lines.get(at));
            let here = self.lines.get(first);
            if many == 0 {
                let (file, line) = match (before, here) {
                    // Behind a line that names another file, that one begins.
                    (Some((file, _)), Some((next, line))) if file != next && *line == 1 => {
                        (*next, *line)
                    }
                    (Some((file, line)), _) => (*file, line + 1),
                    (None, _) => (0, 1),
                };
                of_files[file].push(LineChange {
                    line,
                    was: Vec::new(),
                    becomes: becomes.take().unwrap_or_default(),
                });
            }
            let mut at = first;
            while at < first + many {
                let (file, line) = *self.lines.get(at).ok_or(Misfit { line: at + 1 })?;
                let same = (at..first + many)
                    .take_while(|next| self.lines.get(*next) == Some(&(file, line + next - at)));
                let count = same.count();
                of_files[file].push(LineChange {
                    line,
                    was: change.was[at - first..at - first + count].to_vec(),
                    becomes: becomes.take().unwrap_or_default(),
                });
                at += count;
            }
        }
        let mut new = BTreeMap::new();
        for (index, (path, text)) in self.files.iter().enumerate() {
            let text = match self.is_open[index] {
                true => text
                    .with(format!("{}\n", text.as_str()))
                    .unwrap_or_else(|| text.clone()),
                false => text.clone(),
            };
            let changed = text.changed(&of_files[index])?;
            let mut changed = changed.as_str().to_owned();
            if self.is_open[index] && changed.ends_with('\n') {
                changed.pop();
            }
            new.insert(path, changed);
        }
        Ok(new)
    }

    /// The same order, with other texts in its files.
    ///
    /// # Errors
    /// When a file has no room for its text.
    pub fn with(
        &self,
        rule: &OrderRule,
        becomes: impl Fn(&RelPath, &Text) -> Option<Text>,
    ) -> Option<OrderText> {
        let files = self.files.iter();
        let new: Option<Vec<(RelPath, Text)>> = files
            .map(|(path, text)| Some((path.clone(), becomes(path, text)?)))
            .collect();
        let new = new?;
        let (first, first_text) = new[0].clone();
        let mut named = |path: &RelPath, name: &str| {
            let paths = self.named.get(&(path.clone(), name.to_owned()));
            let texts = paths.into_iter().flatten().filter_map(|path| {
                let text = new.iter().find(|(known, _)| known == path);
                text.cloned()
            });
            texts.collect::<Vec<_>>()
        };
        Some(OrderText::read(rule, first, first_text, &mut named))
    }
}

/// Which lines change, where no line that is no entry goes over to another place for one that is.
fn changes(rule: &OrderRule, old: &str, new: &str) -> Vec<LineChange> {
    let old: Vec<&str> = old.split('\n').collect();
    let new: Vec<&str> = new.split('\n').collect();
    let others = |lines: &[&str]| {
        let others = lines.iter().enumerate();
        let others = others.filter(|(_, line)| !rule.line.regex().is_match(line));
        others.map(|(at, _)| at).collect::<Vec<usize>>()
    };
    let (in_old, in_new) = (others(&old), others(&new));
    let mut pairs = in_old.iter().zip(&in_new);
    if in_old.len() != in_new.len() || pairs.any(|(a, b)| old[*a] != new[*b]) {
        return text::changes_of(&old, &new);
    }
    let mut all = Vec::new();
    let (mut from_old, mut from_new) = (0, 0);
    let ends = in_old.into_iter().zip(in_new);
    for (to_old, to_new) in ends.chain([(old.len(), new.len())]) {
        let between = text::changes_of(&old[from_old..to_old], &new[from_new..to_new]);
        all.extend(between.into_iter().map(|change| LineChange {
            line: change.line + from_old,
            ..change
        }));
        (from_old, from_new) = (to_old + 1, to_new + 1);
    }
    all
}
