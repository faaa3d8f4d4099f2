//! Three texts by their lines: what only one hand changed, and where both hands meet.

use crate::text::lines::{gaps, numbered};
use std::ops::Range;

/// A stretch of the text that comes of three.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Stretch {
    /// As both have it, or as it was.
    Same(Range<usize>),
    /// Lines that only I have changed: of mine.
    Mine(Range<usize>),
    /// Lines that only its author has changed: of what is shipped now.
    Theirs(Range<usize>),
    /// Lines that both have changed, each in another way.
    Clash {
        /// Of what was shipped before.
        before: Range<usize>,
        /// Of mine.
        mine: Range<usize>,
        /// Of what is shipped now.
        now: Range<usize>,
    },
}

/// Goes along the changes of one hand, and says where a line of the old text stands in the new one.
struct Along<'s> {
    spans: &'s [(Range<usize>, Range<usize>)],
    /// How much further down lines stand behind what was passed.
    shift: isize,
}

impl Along<'_> {
    fn meets(&self, end: usize) -> bool {
        self.spans
            .first()
            .is_some_and(|(lines, _)| lines.start <= end)
    }

    /// Passes the next change, and says where it ends in the old text.
    fn pass(&mut self) -> usize {
        let (lines, becomes) = &self.spans[0];
        self.spans = &self.spans[1..];
        self.shift += becomes.len().cast_signed() - lines.len().cast_signed();
        lines.end
    }

    fn at(&self, line: usize) -> usize {
        line.saturating_add_signed(self.shift)
    }
}

/// The stretches of three texts in lines, from top to bottom; `Same` are lines of what was shipped before, but where both hands
/// did the same: then of mine, as `Mine`.
///
/// Changes that touch are one: an unchanged line has to stand between those of two hands.
pub(super) fn stretches(before: &[&str], mine: &[&str], now: &[&str]) -> Vec<Stretch> {
    let [before, mine, now] = &numbered([before, mine, now]);
    let (ours, theirs) = (gaps(before, mine), gaps(before, now));
    let mut own = Along {
        spans: &ours,
        shift: 0,
    };
    let mut other = Along {
        spans: &theirs,
        shift: 0,
    };
    let mut all = Vec::new();
    let mut done = 0;
    loop {
        let starts = [&own, &other].map(|along| along.spans.first().map(|(lines, _)| lines.start));
        let Some(start) = starts.into_iter().flatten().min() else {
            break;
        };
        if done < start {
            all.push(Stretch::Same(done..start));
        }
        let (from_own, from_other) = (own.at(start), other.at(start));
        let (mut end, mut by_me, mut by_them) = (start, false, false);
        loop {
            if own.meets(end) {
                end = end.max(own.pass());
                by_me = true;
            } else if other.meets(end) {
                end = end.max(other.pass());
                by_them = true;
            } else {
                break;
            }
        }
        let (own_lines, other_lines) = (from_own..own.at(end), from_other..other.at(end));
        all.push(match (by_me, by_them) {
            (true, false) => Stretch::Mine(own_lines),
            (false, _) => Stretch::Theirs(other_lines),
            _ if mine[own_lines.clone()] == now[other_lines.clone()] => Stretch::Mine(own_lines),
            _ => Stretch::Clash {
                before: start..end,
                mine: own_lines,
                now: other_lines,
            },
        });
        done = end;
    }
    if done < before.len() {
        all.push(Stretch::Same(done..before.len()));
    }
    all
}
