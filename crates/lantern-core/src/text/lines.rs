//! Which lines of two texts are the same ones.
//!
//! Short stretches are compared by Myers' algorithm, from a library. In long ones, lines that both have just once are taken for
//! the same first, as many as keep their order (Bram Cohen's patience), and what is between them is compared by itself: so the
//! work stays in proportion to the length, also for texts that somebody made to be slow.

use foldhash::{HashMap, HashMapExt};
use similar::{Algorithm, DiffTag, capture_diff_slices};
use std::ops::Range;

/// Stretches of so many lines together are compared as they are.
const SHORT: usize = 2_000;
/// So often are lines looked for within lines.
const DEEPEST: usize = 16;

/// Texts by their lines, each line as a number: the same for the same words.
pub(crate) fn numbered<const N: usize>(texts: [&[&str]; N]) -> [Vec<u32>; N] {
    let mut numbers: HashMap<&str, u32> =
        HashMap::with_capacity(texts.first().map_or(0, |text| text.len()));
    let mut number = |line| {
        let next = u32::try_from(numbers.len()).unwrap_or(u32::MAX);
        *numbers.entry(line).or_insert(next)
    };
    texts.map(|text| text.iter().map(|line| number(*line)).collect())
}

/// The pairs of lines, counted from 0, that are the same in both; both numbers go up.
fn pairs(old: &[u32], new: &[u32]) -> Vec<(usize, usize)> {
    let mut pairs = Vec::with_capacity(old.len().min(new.len()));
    stretch((old, 0), (new, 0), 0, &mut pairs);
    pairs
}

/// Where two texts differ: which lines of the old one give way to which of the new one, from top to bottom.
pub(crate) fn gaps(old: &[u32], new: &[u32]) -> Vec<(Range<usize>, Range<usize>)> {
    let mut gaps = Vec::new();
    let (mut in_old, mut in_new) = (0, 0);
    // Behind the last pair the texts end.
    let ends = [(old.len(), new.len())];
    for (at_old, at_new) in pairs(old, new).into_iter().chain(ends) {
        if (in_old, in_new) != (at_old, at_new) {
            gaps.push((in_old..at_old, in_new..at_new));
        }
        (in_old, in_new) = (at_old + 1, at_new + 1);
    }
    gaps
}

/// Lines, and where the first of them stands.
type Stretch<'t> = (&'t [u32], usize);

fn stretch(
    (old, in_old): Stretch<'_>,
    (new, in_new): Stretch<'_>,
    depth: usize,
    pairs: &mut Vec<(usize, usize)>,
) {
    let most = old.len().min(new.len());
    let ahead = (0..most).take_while(|at| old[*at] == new[*at]).count();
    let left = most - ahead;
    let behind = (1..=left)
        .take_while(|at| old[old.len() - at] == new[new.len() - at])
        .count();
    pairs.extend((0..ahead).map(|at| (in_old + at, in_new + at)));
    let (end_old, end_new) = (old.len() - behind, new.len() - behind);
    middle(
        (&old[ahead..end_old], in_old + ahead),
        (&new[ahead..end_new], in_new + ahead),
        depth,
        pairs,
    );
    pairs.extend((0..behind).map(|at| (in_old + end_old + at, in_new + end_new + at)));
}

/// The same of two stretches that neither begin nor end alike.
fn middle(
    (old, in_old): Stretch<'_>,
    (new, in_new): Stretch<'_>,
    depth: usize,
    pairs: &mut Vec<(usize, usize)>,
) {
    if old.is_empty() || new.is_empty() {
        return;
    }
    if old.len() + new.len() <= SHORT {
        // Counted here: where a part begins in the text that it does not touch, the library may say wrong.
        let (mut at_old, mut at_new) = (in_old, in_new);
        for part in capture_diff_slices(Algorithm::Myers, old, new) {
            if part.tag() == DiffTag::Equal {
                let many = part.old_range().len();
                pairs.extend((0..many).map(|at| (at_old + at, at_new + at)));
            }
            at_old += part.old_range().len();
            at_new += part.new_range().len();
        }
        return;
    }
    let anchors = if depth < DEEPEST {
        anchors(old, new)
    } else {
        Vec::new()
    };
    let ends = [(old.len(), new.len())];
    let (mut from_old, mut from_new) = (0, 0);
    // What has no line to hold on to, is taken as all changed.
    for (at_old, at_new) in anchors
        .iter()
        .copied()
        .chain(ends)
        .filter(|_| !anchors.is_empty())
    {
        stretch(
            (&old[from_old..at_old], in_old + from_old),
            (&new[from_new..at_new], in_new + from_new),
            depth + 1,
            pairs,
        );
        if at_old < old.len() {
            pairs.push((in_old + at_old, in_new + at_new));
        }
        (from_old, from_new) = (at_old + 1, at_new + 1);
    }
}

/// Lines that both have just once, as many as keep their order.
fn anchors(old: &[u32], new: &[u32]) -> Vec<(usize, usize)> {
    let once = |lines: &[u32]| {
        let mut places: HashMap<u32, Option<usize>> = HashMap::new();
        for (at, line) in lines.iter().enumerate() {
            places
                .entry(*line)
                .and_modify(|place| *place = None)
                .or_insert(Some(at));
        }
        places
    };
    let (in_old, in_new) = (once(old), once(new));
    let mut both: Vec<(usize, usize)> = in_old
        .into_iter()
        .filter_map(|(line, at)| Some((at?, (*in_new.get(&line)?)?)))
        .collect();
    both.sort_unstable();
    // The longest rising sequence: for each length, the pair that ends the lowest one.
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = vec![None; both.len()];
    for (at, (_, place)) in both.iter().enumerate() {
        let length = ends.partition_point(|end| both[*end].1 < *place);
        before[at] = length.checked_sub(1).map(|shorter| ends[shorter]);
        match ends.get_mut(length) {
            Some(end) => *end = at,
            None => ends.push(at),
        }
    }
    let mut longest = Vec::with_capacity(ends.len());
    let mut next = ends.last().copied();
    while let Some(at) = next {
        longest.push(both[at]);
        next = before[at];
    }
    longest.reverse();
    longest
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn long_texts_are_compared_along_the_lines_that_both_have_once() {
        let line = |at: usize| {
            if at.is_multiple_of(2) {
                "# what it is".to_owned()
            } else {
                format!("key {at}")
            }
        };
        let old: Vec<String> = (0..30_000).map(line).collect();
        let mut new = old.clone();
        new[9_001] = "changed".into();
        new.insert(20_000, "new".into());
        new.remove(4_001);
        let lines = |lines: &[String]| {
            lines
                .iter()
                .map(String::as_str)
                .collect::<Vec<_>>()
                .join("\n")
        };
        let changes = crate::text::changes(&lines(&old), &lines(&new));
        let told: Vec<(usize, usize, usize)> = changes
            .iter()
            .map(|it| (it.line, it.was.len(), it.becomes.len()))
            .collect();
        assert_eq!(told, [(4_002, 1, 0), (9_002, 1, 1), (20_001, 0, 1)]);
        // Nothing to hold on to: all of it is another.
        let a = vec!["a"; 40_000];
        let mut b = vec!["b", "a"];
        b.extend(["a", "c"].repeat(20_000));
        let [a, b] = numbered([&a, &b]);
        assert!(pairs(&a, &b).len() < 40_000);
    }

    proptest! {
        /// Pairs are of the same lines, and both numbers go up.
        #[test]
        fn pairs_go_up_and_are_the_same(old in "[a-d]{0,40}", new in "[a-d]{0,40}", depth in 0_usize..3) {
            let of = |text: &str| text.bytes().map(u32::from).collect::<Vec<u32>>();
            let (old, new) = (of(&old), of(&new));
            let mut found = Vec::new();
            stretch((&old, 0), (&new, 0), depth, &mut found);
            prop_assert!(found.windows(2).all(|two| two[0].0 < two[1].0 && two[0].1 < two[1].1));
            prop_assert!(found.iter().all(|(a, b)| old[*a] == new[*b]));
            prop_assert!(anchors(&old, &new).windows(2).all(|two| two[0].0 < two[1].0 && two[0].1 < two[1].1));
        }
    }
}
