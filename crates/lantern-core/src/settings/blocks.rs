//! Three texts by their lines: what both hands changed since the one that they come from. Where they meet, by their keys.

use super::keys::{self, Hindrance};
use super::{Key, Notation};
use crate::text::{self, LineChange, Text};

/// What becomes of a text that two hands have changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Merged {
    /// Both changes in one text.
    Whole {
        /// The text.
        text: Text,
        /// In how many places it has what only I have changed.
        mine: usize,
        /// Values that its author took out though I had changed them, with what they said.
        gone: Vec<(Key, String)>,
    },
    /// Both have changed the same lines, or lines that touch: the first of them, from 1, in the text that both come from.
    Clash {
        /// The line.
        line: usize,
        /// The value that both have changed, where the notation tells.
        key: Option<Key>,
    },
    /// What comes of it is not in the notation that the file's name tells, though all three are.
    Broken,
}

/// My changes to a text, made to what its author has made of it since.
///
/// `before` is what both come from. Where both have changed the same lines in the same way, that is one change. Mine keeps its
/// encoding.
pub fn merged(notation: Option<Notation>, before: &Text, mine: &Text, now: &Text) -> Merged {
    let ours = text::changes(before.as_str(), mine.as_str());
    let theirs = text::changes(before.as_str(), now.as_str());
    let is_both = |change: &&LineChange| theirs.contains(change);
    let only_mine: Vec<LineChange> = ours.iter().filter(|it| !is_both(it)).cloned().collect();
    let clash = |line| Merged::Clash { line, key: None };
    let both = match text::merged(&only_mine, &theirs) {
        Ok(both) => both,
        Err(misfit) => return by_keys(notation, before, mine, now, misfit.line),
    };
    let whole = match before.changed(&both) {
        Ok(whole) => whole,
        Err(misfit) => return clash(misfit.line),
    };
    let Some(whole) = mine.with(whole.as_str().to_owned()) else {
        return Merged::Broken;
    };
    let reads = |notation, text: &Text| super::read(notation, text.as_str()).is_ok();
    let was_read = |notation| [before, mine, now].iter().all(|text| reads(notation, text));
    match notation.filter(|notation| was_read(*notation)) {
        Some(notation) if !reads(notation, &whole) => Merged::Broken,
        _ => Merged::Whole {
            text: whole,
            mine: only_mine.len(),
            gone: Vec::new(),
        },
    }
}

/// The same by keys, where both have changed lines that meet.
fn by_keys(
    notation: Option<Notation>,
    before: &Text,
    mine: &Text,
    now: &Text,
    line: usize,
) -> Merged {
    let clash = |key| Merged::Clash { line, key };
    let Some(notation) = notation else {
        return clash(None);
    };
    match keys::merged(notation, before.as_str(), mine.as_str(), now.as_str()) {
        Ok(merged) => match mine.with(merged.text) {
            Some(text) => Merged::Whole {
                text,
                mine: merged.kept,
                gone: merged.gone,
            },
            None => clash(None),
        },
        Err(Hindrance::Both(key)) => clash(Some(key)),
        Err(Hindrance::Unread) => clash(None),
    }
}
