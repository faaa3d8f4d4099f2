//! Which entries can stay where they are, relative to one another, when each has to come after what it follows.
//!
//! Two entries hinder one another where the later one has to come before the earlier one, be it through others. That relation
//! is a partial order; so the most that can stay are a largest antichain of it, and the fewest that have to move a smallest
//! vertex cover of a bipartite graph (Dilworth, König).

use crate::component::Id;
use std::collections::{BTreeMap, BTreeSet};

/// The entries of the current arrangement that stay, in its order; all others have to move, and no fewer could.
pub(super) fn staying<'a>(
    wanted: &'a BTreeMap<Id, BTreeSet<Id>>,
    current: &[&'a Id],
) -> Vec<&'a Id> {
    let index: BTreeMap<&Id, usize> = wanted.keys().zip(0..).collect();
    let firsts: Vec<Vec<usize>> = wanted
        .values()
        .map(|firsts| {
            firsts
                .iter()
                .filter_map(|id| index.get(id).copied())
                .collect()
        })
        .collect();
    let mut position: Vec<Option<usize>> = vec![None; firsts.len()];
    for (at, id) in current.iter().enumerate() {
        position[index[id]] = Some(at);
    }
    // Of each entry, the later ones that have to come before it.
    let mut seen = vec![usize::MAX; firsts.len()];
    let before: Vec<Vec<usize>> = current
        .iter()
        .enumerate()
        .map(|(at, id)| {
            let mut later = Vec::new();
            let mut open = vec![index[id]];
            while let Some(node) = open.pop() {
                for first in firsts[node].iter().copied() {
                    if std::mem::replace(&mut seen[first], at) != at {
                        open.push(first);
                        later.extend(position[first].filter(|there| *there > at));
                    }
                }
            }
            later
        })
        .collect();
    let moving = cover(&before);
    let staying = current.iter().enumerate();
    let staying = staying.filter(|(at, _)| !moving[*at]);
    staying.map(|(_, id)| *id).collect()
}

/// A smallest set of entries that has one of each pair, where of each entry those are given that have to come before it. Of
/// a pair by itself, it is the one that has to come before.
fn cover(before: &[Vec<usize>]) -> Vec<bool> {
    let count = before.len();
    let mut after: Vec<Vec<usize>> = vec![Vec::new(); count];
    for (later, firsts) in before.iter().enumerate() {
        firsts.iter().for_each(|first| after[*first].push(later));
    }
    // As firsts, and as those that come after them.
    let mut with: Vec<Option<usize>> = vec![None; count];
    let mut first_of: Vec<Option<usize>> = vec![None; count];
    for first in 0..count {
        let mut seen = vec![false; count];
        pair(first, &after, &mut with, &mut first_of, &mut seen);
    }
    let (mut as_first, mut as_later) = (vec![false; count], vec![false; count]);
    let alone = (0..count).filter(|first| with[*first].is_none());
    let mut open: Vec<usize> = alone.collect();
    open.iter().for_each(|first| as_first[*first] = true);
    while let Some(first) = open.pop() {
        for later in &after[first] {
            as_later[*later] = true;
            if let Some(next) = first_of[*later].filter(|next| !as_first[*next]) {
                as_first[next] = true;
                open.push(next);
            }
        }
    }
    (0..count).map(|at| !as_first[at] || as_later[at]).collect()
}

/// Finds a partner for an entry, others giving way in turn; the trail is kept on the heap, as it may be as long as the order.
fn pair(
    first: usize,
    after: &[Vec<usize>],
    with: &mut [Option<usize>],
    first_of: &mut [Option<usize>],
    seen: &mut [bool],
) -> bool {
    let mut trail = vec![(first, 0)];
    while let Some((at, next)) = trail.last_mut() {
        let (at, tried) = (*at, *next);
        let Some(later) = after[at].get(tried).copied() else {
            trail.pop();
            continue;
        };
        *next += 1;
        if std::mem::replace(&mut seen[later], true) {
            continue;
        }
        match first_of[later] {
            Some(other) => trail.push((other, 0)),
            None => {
                for (at, next) in trail.into_iter().rev() {
                    let later = after[at][next - 1];
                    (with[at], first_of[later]) = (Some(later), Some(at));
                }
                return true;
            }
        }
    }
    false
}
