//! The order in which items are tried: whatever one needs stands before it, the most likely as far in front as that allows.

use super::{Item, Set};
use std::cmp::Reverse;

/// Items that need one another, and so are in or out together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unit {
    /// They.
    pub items: Vec<usize>,
    /// Whether it is one of those that are tried first: one that was named, or what one needs that was.
    pub is_suspect: bool,
}

impl Unit {
    pub fn is_in(&self, set: &Set) -> bool {
        self.items.iter().all(|item| set.contains(item))
    }
}

/// Items with all that they need.
pub fn closed(items: &[Item], set: &Set) -> Set {
    let mut closed = Set::new();
    let mut open: Vec<usize> = set.iter().copied().collect();
    while let Some(index) = open.pop() {
        if closed.insert(index) {
            open.extend(&items[index].needs);
        }
    }
    closed
}

/// A set without one of its items, and without all that needs it.
pub fn without(items: &[Item], set: &Set, out: usize) -> Set {
    let stays = |index: &&usize| !closed(items, &Set::from([**index])).contains(&out);
    set.iter().filter(stays).copied().collect()
}

/// All items, in units; each stands behind what it needs.
pub fn units(items: &[Item]) -> Vec<Unit> {
    let reach: Vec<Set> = (0..items.len())
        .map(|index| closed(items, &Set::from([index])))
        .collect();
    let mut by_likelihood: Vec<usize> = (0..items.len()).collect();
    by_likelihood.sort_by_key(|index| Reverse(items[*index].likely()));
    let mut placed = Set::new();
    let mut units = Vec::new();
    for index in by_likelihood {
        // Of what it reaches, whatever reaches less stands in front.
        let mut wanted: Vec<usize> = reach[index].difference(&placed).copied().collect();
        wanted.sort_by_key(|it| reach[*it].len());
        for one in wanted {
            if placed.contains(&one) {
                continue;
            }
            let together = reach[one]
                .iter()
                .filter(|other| reach[**other].contains(&one));
            let together: Vec<usize> = together.copied().collect();
            placed.extend(&together);
            units.push(Unit {
                items: together,
                is_suspect: items[index].is_named,
            });
        }
    }
    units
}
