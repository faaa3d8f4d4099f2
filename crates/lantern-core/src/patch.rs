//! Hand edits with a name: a unified diff of one file, laid again over each new release.

use crate::component::Id;
use crate::path::RelPath;
use crate::text::{LineChange, changes_of};
use std::fmt::Write as _;

/// So many lines around a change tell where it belongs.
const CONTEXT: usize = 3;
/// No longer patch is read, in bytes.
pub const LONGEST_BYTES: usize = 1 << 20;

/// A hand edit of one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Patch {
    /// The file.
    pub path: RelPath,
    /// The component that ships it; none of a file of the place.
    pub component: Option<Id>,
    /// What changes, from top to bottom; never empty.
    pub hunks: Vec<Hunk>,
}

/// Lines that give way to others, with those around them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hunk {
    /// Where it began in the text that it was made of, from 1.
    pub line: usize,
    /// Lines right before, the same in both.
    pub above: Vec<String>,
    /// Lines that go.
    pub was: Vec<String>,
    /// Lines that come.
    pub becomes: Vec<String>,
    /// Lines right behind, the same in both.
    pub below: Vec<String>,
}

/// Why a text is no patch.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PatchFault {
    /// A line is not as a unified diff has it.
    #[error("line {line}: {why}")]
    Line {
        /// From 1.
        line: usize,
        /// What is wrong.
        why: String,
    },
    /// It changes more than one file.
    #[error("it changes several files, and a patch with a name is of one")]
    Several,
    /// It changes nothing.
    #[error("there is no change in it: lines with @@, - and +")]
    Empty,
    /// It is longer than anything that is read.
    #[error("it is longer than {} KB", LONGEST_BYTES >> 10)]
    TooLong,
}

/// What comes of a patch on a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Laid {
    /// The text has all of it already.
    Already,
    /// It fits: the text with it.
    With(String),
    /// It does not fit: where its first change that does not would stand, from 1.
    Misfit {
        /// The line.
        line: usize,
    },
}

impl Hunk {
    fn side_before(&self, cut: usize) -> Vec<&str> {
        self.side(&self.was, cut)
    }

    fn side_after(&self, cut: usize) -> Vec<&str> {
        self.side(&self.becomes, cut)
    }

    /// One side, with so many lines less around it.
    fn side<'h>(&'h self, middle: &'h [String], cut: usize) -> Vec<&'h str> {
        let above = self.above.iter().skip(cut.min(self.above.len()));
        let below = self.below.iter().take(self.below.len().saturating_sub(cut));
        above
            .chain(middle)
            .chain(below)
            .map(String::as_str)
            .collect()
    }
}

impl Patch {
    /// The edit that makes one text of another; none where they are the same.
    pub fn between(
        path: &RelPath,
        component: Option<&Id>,
        before: &str,
        after: &str,
    ) -> Option<Patch> {
        let (old, new) = (lines(before), lines(after));
        let changes = changes_of(&old, &new);
        Patch::of(path, component, &old, changes)
    }

    fn of(
        path: &RelPath,
        component: Option<&Id>,
        old: &[&str],
        changes: Vec<LineChange>,
    ) -> Option<Patch> {
        let owned = |lines: &[&str]| {
            lines
                .iter()
                .map(|line| (*line).to_owned())
                .collect::<Vec<_>>()
        };
        // Changes near one another are one, with what is between them on both sides: no line is held on to twice.
        let mut joined: Vec<LineChange> = Vec::new();
        for change in changes {
            let start = change.line - 1;
            match joined.last_mut() {
                Some(last) if start <= last.line - 1 + last.was.len() + 2 * CONTEXT => {
                    let between = owned(&old[last.line - 1 + last.was.len()..start]);
                    last.was.extend(between.iter().cloned().chain(change.was));
                    last.becomes
                        .extend(between.into_iter().chain(change.becomes));
                }
                _ => joined.push(change),
            }
        }
        let hunks = joined.into_iter().map(|change| {
            let start = change.line - 1;
            let end = start + change.was.len();
            let above = start.saturating_sub(CONTEXT);
            Hunk {
                line: above + 1,
                above: owned(&old[above..start]),
                was: change.was,
                becomes: change.becomes,
                below: owned(&old[end..(end + CONTEXT).min(old.len())]),
            }
        });
        let hunks: Vec<Hunk> = hunks.collect();
        (!hunks.is_empty()).then(|| Patch {
            path: path.clone(),
            component: component.cloned(),
            hunks,
        })
    }

    /// Lays it over a text, keeping that one's line ends.
    pub fn lay(&self, text: &str) -> Laid {
        let end = if text.contains("\r\n") { "\r" } else { "" };
        let mut now: Vec<String> = lines(text).into_iter().map(str::to_owned).collect();
        let mut shift = 0_isize;
        let mut changed = false;
        for hunk in &self.hunks {
            let near = (hunk.line - 1).saturating_add_signed(shift);
            let found = (0..=CONTEXT).find_map(|cut| {
                let old = hunk.side_before(cut);
                // Nothing to hold on to is a place nobody can know.
                let at =
                    find(&now, &old, near + cut).filter(|_| !old.is_empty() || now.is_empty())?;
                Some((at, cut))
            });
            let is_there = (0..=CONTEXT).find_map(|cut| {
                let new = hunk.side_after(cut);
                find(&now, &new, near + cut).filter(|_| !new.is_empty())
            });
            // Lines that only come: where they stand already, what they come between is no longer side by side.
            match (found, is_there) {
                (Some((at, cut)), there) if there.is_none() || !hunk.was.is_empty() => {
                    let start = at + hunk.above.len().saturating_sub(cut);
                    let stop = start + hunk.was.len();
                    now.splice(start..stop, hunk.becomes.iter().cloned());
                    shift += hunk.becomes.len().cast_signed() - hunk.was.len().cast_signed();
                    changed = true;
                }
                (_, Some(_)) => {}
                (_, None) => {
                    let line = (near + hunk.above.len()).min(now.len()) + 1;
                    return Laid::Misfit { line };
                }
            }
        }
        if !changed {
            return Laid::Already;
        }
        let is_open = !text.is_empty() && !text.ends_with('\n');
        let whole = now.join(&format!("{end}\n"));
        Laid::With(match is_open || now.is_empty() {
            true => whole,
            false => format!("{whole}{end}\n"),
        })
    }

    /// The same edit as the text has it by now: what was changed in its place since belongs to it. None where nothing of it is
    /// left there.
    ///
    /// `before` is the text as it was shipped, and `mine` as it is.
    pub fn by_now(&self, before: &str, mine: &str) -> Option<Patch> {
        let (old, new) = (lines(before), lines(mine));
        let owned: Vec<String> = old.iter().map(|line| (*line).to_owned()).collect();
        let places: Vec<(usize, usize)> = self
            .hunks
            .iter()
            .filter_map(|hunk| {
                let at = (0..=CONTEXT).find_map(|cut| {
                    let at = find(&owned, &hunk.side_before(cut), hunk.line - 1 + cut)?;
                    Some(at + hunk.above.len().saturating_sub(cut))
                })?;
                Some((at, at + hunk.was.len()))
            })
            .collect();
        let of_it = |change: &LineChange| {
            let (start, end) = (change.line - 1, change.line - 1 + change.was.len());
            places.iter().any(|(from, to)| start <= *to && *from <= end)
        };
        let mut changes = changes_of(&old, &new);
        changes.retain(of_it);
        Patch::of(&self.path, self.component.as_ref(), &old, changes)
    }

    /// Reads a unified diff of one file; lines before its head may name the component: `component: ID`.
    ///
    /// # Errors
    /// With the line, where it is not one.
    pub fn parse(text: &str) -> Result<Patch, PatchFault> {
        if text.len() > LONGEST_BYTES {
            return Err(PatchFault::TooLong);
        }
        let fault = |line: usize, why: &str| PatchFault::Line {
            line,
            why: why.to_owned(),
        };
        let mut component = None;
        let mut path: Option<RelPath> = None;
        let mut hunks: Vec<Hunk> = Vec::new();
        // Lines that the hunk under way still has of the old text and of the new one.
        let mut left = (0_usize, 0_usize);
        for (number, line) in text.lines().enumerate().map(|(at, line)| (at + 1, line)) {
            if left != (0, 0) {
                let hunk = hunks.last_mut().expect("one is under way");
                let (sign, rest) = line.split_at_checked(1).unwrap_or((" ", ""));
                let (old, new) = match sign {
                    " " => (left.0.checked_sub(1), left.1.checked_sub(1)),
                    "-" => (left.0.checked_sub(1), Some(left.1)),
                    "+" => (Some(left.0), left.1.checked_sub(1)),
                    "\\" => continue,
                    _ => {
                        return Err(fault(
                            number,
                            "a line of a change begins with a blank, - or +",
                        ));
                    }
                };
                let more = || fault(number, "there are more lines than the change says");
                left = old.zip(new).ok_or_else(more)?;
                put(hunk, sign, rest);
                continue;
            }
            if let Some(id) = line.strip_prefix("component: ").filter(|_| path.is_none()) {
                component = Some(Id::new(id.trim()));
            } else if let Some(named) = line.strip_prefix("+++ ") {
                if path.is_some() {
                    return Err(PatchFault::Several);
                }
                let named = named.split('\t').next().unwrap_or_default().trim();
                let named = named.strip_prefix("b/").unwrap_or(named);
                path =
                    Some(RelPath::parse(named).map_err(|error| fault(number, &error.to_string()))?);
            } else if let Some(head) = line.strip_prefix("@@ -") {
                if path.is_none() {
                    return Err(fault(
                        number,
                        "no line +++ names the file before the first change",
                    ));
                }
                let (old, new) = head_of(head).ok_or_else(|| {
                    fault(
                        number,
                        "it does not say where the change stands: @@ -LINE,LINES +LINE,LINES @@",
                    )
                })?;
                left = (old.1, new.1);
                hunks.push(Hunk {
                    // Of no lines at all, the number is of the line before.
                    line: if old.1 == 0 { old.0 + 1 } else { old.0.max(1) },
                    above: Vec::new(),
                    was: Vec::new(),
                    becomes: Vec::new(),
                    below: Vec::new(),
                });
            }
        }
        if left != (0, 0) {
            return Err(fault(text.lines().count(), "it breaks off within a change"));
        }
        let hunks: Vec<Hunk> = hunks
            .into_iter()
            .filter(|hunk| hunk.was != hunk.becomes)
            .collect();
        match path.filter(|_| !hunks.is_empty()) {
            Some(path) => Ok(Patch {
                path,
                component,
                hunks,
            }),
            None => Err(PatchFault::Empty),
        }
    }

    /// Writes it as a unified diff.
    pub fn to_text(&self) -> String {
        let mut text = String::new();
        if let Some(component) = &self.component {
            let _ = writeln!(text, "component: {component}");
        }
        let _ = writeln!(text, "--- a/{}\n+++ b/{}", self.path, self.path);
        let mut shift = 0_isize;
        for hunk in &self.hunks {
            let around = hunk.above.len() + hunk.below.len();
            let (old, new) = (around + hunk.was.len(), around + hunk.becomes.len());
            let at = |line: usize, lines: usize| if lines == 0 { line - 1 } else { line };
            let new_line = hunk.line.saturating_add_signed(shift).max(1);
            let _ = writeln!(
                text,
                "@@ -{},{old} +{},{new} @@",
                at(hunk.line, old),
                at(new_line, new)
            );
            let sides = [
                (" ", &hunk.above),
                ("-", &hunk.was),
                ("+", &hunk.becomes),
                (" ", &hunk.below),
            ];
            for (sign, lines) in sides {
                for line in lines {
                    let _ = writeln!(text, "{sign}{line}");
                }
            }
            shift += hunk.becomes.len().cast_signed() - hunk.was.len().cast_signed();
        }
        text
    }
}

/// Puts a line into the part of a hunk where it belongs: after the first change, what is the same in both is behind it, until
/// there is another change.
fn put(hunk: &mut Hunk, sign: &str, line: &str) {
    let has_changed = !hunk.was.is_empty() || !hunk.becomes.is_empty();
    match sign {
        " " if has_changed => hunk.below.push(line.to_owned()),
        " " => hunk.above.push(line.to_owned()),
        _ => {
            // Two changes near one another are one, with what is between them on both sides.
            let between = std::mem::take(&mut hunk.below);
            hunk.was.extend(between.iter().cloned());
            hunk.becomes.extend(between);
            let side = if sign == "-" {
                &mut hunk.was
            } else {
                &mut hunk.becomes
            };
            side.push(line.to_owned());
        }
    }
}

/// The line and the number of lines of both sides.
fn head_of(head: &str) -> Option<((usize, usize), (usize, usize))> {
    let (old, rest) = head.split_once(" +")?;
    let (new, _) = rest.split_once(" @@")?;
    let pair = |text: &str| {
        let (line, lines) = text.split_once(',').unwrap_or((text, "1"));
        Some((line.parse().ok()?, lines.parse().ok()?))
    };
    Some((pair(old)?, pair(new)?))
}

/// Lines without their ends.
fn lines(text: &str) -> Vec<&str> {
    text.lines().collect()
}

/// Where lines stand in a text, as near to a place as there are.
fn find(text: &[String], lines: &[&str], near: usize) -> Option<usize> {
    let last = text.len().checked_sub(lines.len())?;
    let is_at = |at: &usize| lines.iter().zip(&text[*at..]).all(|(a, b)| a == b);
    (0..=last).filter(is_at).min_by_key(|at| at.abs_diff(near))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::proofs::at_least;
    use proptest::prelude::*;

    fn path() -> RelPath {
        RelPath::parse("gate/init.script").unwrap()
    }

    fn patch(before: &str, after: &str) -> Patch {
        Patch::between(&path(), Some(&Id::new("gate")), before, after).unwrap()
    }

    #[test]
    fn it_is_written_and_read_and_laid_over_a_later_text() {
        let before = "a\nb\nc\nd\ne\nf\n1\n2\n3\ng\nh\ni\n";
        let mine = "a\nb\nC\nd\ne\nf\n1\n2\n3\ng\nh\nnew\ni\n";
        let patch = patch(before, mine);
        insta::assert_snapshot!(patch.to_text(), @"
        component: gate
        --- a/gate/init.script
        +++ b/gate/init.script
        @@ -1,6 +1,6 @@
         a
         b
        -c
        +C
         d
         e
         f
        @@ -9,4 +9,5 @@
         3
         g
         h
        +new
         i
        ");
        assert_eq!(Patch::parse(&patch.to_text()).unwrap(), patch);
        assert_eq!(patch.lay(mine), Laid::Already);
        assert_eq!(patch.lay(before), Laid::With(mine.into()));
        // Lines that came before, a line around it that changed, other line ends.
        assert_eq!(
            patch.lay("0\r\n1\r\na\r\nB\r\nc\r\nd\r\ne\r\nf\r\n1\r\n2\r\n3\r\ng\r\nh\r\ni\r\n"),
            Laid::With(
                "0\r\n1\r\na\r\nB\r\nC\r\nd\r\ne\r\nf\r\n1\r\n2\r\n3\r\ng\r\nh\r\nnew\r\ni\r\n"
                    .into()
            )
        );
        assert_eq!(
            patch.lay("a\nb\nX\nd\ne\nf\n1\n2\n3\ng\nh\ni\n"),
            Laid::Misfit { line: 3 }
        );
        // A value in it that was changed since belongs to it.
        let later = mine.replace('C', "CC").replace("a\n", "A\n");
        let by_now = patch.by_now(before, &later).unwrap();
        assert!(by_now.hunks[0].becomes.contains(&"CC".to_owned()));
        assert_eq!(patch.by_now(before, before), None);
    }

    #[test]
    fn what_is_no_patch_is_told() {
        for (text, why) in [
            ("", "there is no change in it: lines with @@, - and +"),
            (
                "@@ -1,1 +1,1 @@\n-a\n+b\n",
                "line 1: no line +++ names the file before the first change",
            ),
            (
                "+++ b/../x\n",
                "line 1: the path \"../x\" leads out of the folder with \"..\"",
            ),
            (
                "+++ b/x\n@@ -1 @@\n",
                "line 2: it does not say where the change stands: @@ -LINE,LINES +LINE,LINES @@",
            ),
            (
                "+++ b/x\n@@ -1,1 +1,1 @@\n-a\n",
                "line 3: it breaks off within a change",
            ),
            (
                "+++ b/x\n@@ -1,1 +1,1 @@\n-a\n-b\n",
                "line 4: there are more lines than the change says",
            ),
            (
                "+++ b/x\n@@ -1,1 +1,1 @@\n-a\n+b\n+++ b/y\n",
                "it changes several files, and a patch with a name is of one",
            ),
            (
                "+++ b/x\n@@ -1,2 +1,2 @@\n*a\n",
                "line 3: a line of a change begins with a blank, - or +",
            ),
        ] {
            assert_eq!(Patch::parse(text).unwrap_err().to_string(), why, "{text:?}");
        }
    }

    proptest! {
        #![proptest_config(at_least(400))]

        /// Over the text that it was made of, it gives the other one; written and read, it is the same.
        #[test]
        fn it_makes_one_text_of_the_other(
            many in 1_usize..12,
            edits in proptest::collection::vec((0_usize..12, any::<bool>()), 1..4),
        ) {
            let before: Vec<String> = (0..many).map(|line| format!("line {line}")).collect();
            let mut lines = before.clone();
            for (number, (at, comes)) in edits.into_iter().enumerate() {
                let at = at % (lines.len() + 1);
                if comes {
                    lines.insert(at, format!("new {number}"));
                } else if at < lines.len() && lines.len() > 1 {
                    lines.remove(at);
                }
            }
            let (before, after) = (before.join("\n") + "\n", lines.join("\n") + "\n");
            let Some(patch) = Patch::between(&path(), None, &before, &after) else { return Ok(()) };
            prop_assert_eq!(Patch::parse(&patch.to_text()), Ok(patch.clone()));
            prop_assert_eq!(patch.by_now(&before, &after), Some(patch.clone()));
            match patch.lay(&before) {
                Laid::With(text) => prop_assert_eq!(text, after),
                other => prop_assert!(false, "{other:?}: {}", patch.to_text()),
            }
        }

        #[test]
        fn any_text_is_read_or_refused(text in "(component: a\n|--- a/x\n|\\+\\+\\+ b/[xy]\n|@@ -[0-3],[0-3] \\+[0-3],[0-3] @@\n|[ +-][ab]\n){0,12}") {
            if let Ok(patch) = Patch::parse(&text) {
                prop_assert_eq!(Patch::parse(&patch.to_text()).map(|it| it.path), Ok(patch.path.clone()));
                let _ = patch.lay("a\nb\na\n");
            }
        }
    }
}
