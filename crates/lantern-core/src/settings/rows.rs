//! The values of three texts side by side.

use super::rewrite::Value;
use super::{Contents, Key};
use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use std::cell::OnceCell;
use std::ops::Range;

/// A key with what each of three texts says: before, mine, now.
pub(super) struct Row<'t> {
    pub(super) key: &'t Key,
    pub(super) three: [Option<Value<'t>>; 3],
    /// Where those values stand, in bytes.
    at: [Option<usize>; 3],
}

/// All keys of three texts: as they stand in what is shipped now, then in mine, then in what was shipped before.
pub(super) struct Rows<'t> {
    pub(super) rows: Vec<Row<'t>>,
    numbers: HashMap<&'t Key, usize>,
    /// Keys that stand twice in one of the texts.
    pub(super) twice: HashSet<&'t Key>,
    texts: [&'t str; 3],
    /// Where the lines of each text begin, in bytes: found out where somebody asks.
    starts: [OnceCell<Vec<usize>>; 3],
}

impl<'t> Rows<'t> {
    pub(super) fn of(texts: [&'t str; 3], contents: &'t [Contents; 3]) -> Rows<'t> {
        let mut all = Rows {
            rows: Vec::new(),
            numbers: HashMap::with_capacity(contents[2].entries.len()),
            twice: HashSet::new(),
            texts,
            starts: [const { OnceCell::new() }; 3],
        };
        for side in [2, 1, 0] {
            for entry in &contents[side].entries {
                let next = all.rows.len();
                let number = *all.numbers.entry(&entry.key).or_insert(next);
                if number == next {
                    all.rows.push(Row {
                        key: &entry.key,
                        three: [None, None, None],
                        at: [None; 3],
                    });
                }
                let row = &mut all.rows[number];
                match row.at[side] {
                    Some(_) => drop(all.twice.insert(&entry.key)),
                    None => {
                        row.three[side] = Some(Value::of(entry, texts[side]));
                        row.at[side] = Some(entry.value.start);
                    }
                }
            }
        }
        all
    }

    fn starts(&self, side: usize) -> &[usize] {
        self.starts[side].get_or_init(|| {
            let ends = self.texts[side].match_indices('\n').map(|(at, _)| at + 1);
            std::iter::once(0).chain(ends).collect()
        })
    }

    pub(super) fn get(&self, key: &Key) -> Option<&Row<'t>> {
        self.numbers.get(key).map(|number| &self.rows[*number])
    }

    /// What was said under one key before and in mine, is said under another one.
    pub(super) fn rename(&mut self, from: &Key, to: &Key) {
        let (Some(from), Some(to)) = (self.numbers.get(from), self.numbers.get(to)) else {
            return;
        };
        let (from, to) = (*from, *to);
        for side in [0, 1] {
            let value = self.rows[from].three[side].take();
            let at = self.rows[from].at[side].take();
            self.rows[to].three[side] = value;
            self.rows[to].at[side] = at;
        }
    }

    /// The lines, from 1, in which a row's values stand.
    pub(super) fn lines_of(&self, row: &Row<'_>) -> [Option<usize>; 3] {
        [0, 1, 2].map(|side| {
            let at = row.at[side]?;
            Some(self.starts(side).partition_point(|start| *start <= at))
        })
    }

    /// The keys that stand in some lines of the three, counted from 0.
    pub(super) fn keys_in(&self, lines: &[Range<usize>; 3]) -> Vec<&'t Key> {
        let bytes = [0, 1, 2].map(|side| {
            let starts = self.starts(side);
            let place = |line: usize| starts.get(line).copied().unwrap_or(usize::MAX);
            place(lines[side].start)..place(lines[side].end)
        });
        let is_inside = |row: &&Row<'_>| {
            [0, 1, 2]
                .into_iter()
                .any(|side| row.at[side].is_some_and(|at| bytes[side].contains(&at)))
        };
        self.rows
            .iter()
            .filter(is_inside)
            .map(|row| row.key)
            .collect()
    }
}
