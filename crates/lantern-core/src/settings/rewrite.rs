//! A text brought to say what was decided, key by key, with nothing else touched in it.

use super::{
    Contents, Entry, Form, Key, Notation, Table, contents, indent, json, line_end, set, written,
};
use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use std::cell::OnceCell;
use std::ops::Range;

/// So many values at most are put in one by one, where none of their kin is there to stand beside.
const MOST_SINGLY: usize = 100;

/// A value as it is to be.
#[derive(Debug, Clone)]
pub(super) struct Value<'t> {
    pub(super) says: &'t str,
    pub(super) form: Form,
    /// As it is written where it comes from.
    pub(super) raw: &'t str,
}

impl PartialEq for Value<'_> {
    /// Written another way, it is the same.
    fn eq(&self, other: &Self) -> bool {
        self.says == other.says && self.form == other.form
    }
}

impl<'t> Value<'t> {
    pub(super) fn of(entry: &'t Entry, text: &'t str) -> Value<'t> {
        Value {
            says: &entry.says,
            form: entry.form,
            raw: &text[entry.value.clone()],
        }
    }

    pub(super) fn is(&self, entry: &Entry) -> bool {
        self.says == entry.says && self.form == entry.form
    }

    /// As it is written where another one stands.
    fn written(&self, notation: &Notation, entry: &Entry, now: &str) -> String {
        match self.form == entry.form && self.form != Form::List {
            true => written(notation, now, self.says),
            false => self.raw.to_owned(),
        }
    }
}

/// Values by their keys.
type ByKey<'t> = HashMap<&'t Key, &'t Entry>;

/// Where lines come from.
#[derive(Debug, Clone, Copy)]
pub(super) struct From<'t> {
    pub(super) text: &'t str,
    pub(super) contents: &'t Contents,
    /// What both texts come from, where that is known: lines that are still as they were there follow whole.
    pub(super) before: Option<(&'t str, &'t Contents)>,
}

/// Keys with what they are to say.
pub(super) type Wanted<'t> = HashMap<&'t Key, Value<'t>>;

/// The text, so that it says what is wanted and nothing more; keys in `left` are nobody's business.
///
/// What is new in it comes with its lines and remarks from `from`, beside what it stands beside there. None where that cannot
/// be done: what is made is read again.
pub(super) fn rewritten(
    notation: &Notation,
    text: &str,
    wanted: &Wanted<'_>,
    left: &HashSet<&Key>,
    from: From<'_>,
) -> Option<String> {
    let here = contents(notation, text).ok()?;
    if holds(&here, wanted, left) {
        return Some(text.to_owned());
    }
    let mut edits = Edits {
        notation,
        text,
        here: &here,
        wanted,
        from,
        cuts: Vec::new(),
        puts: Vec::new(),
    };
    edits.set_and_cut(left);
    edits.bring();
    let mut new = edits.made();
    if *notation == Notation::Json {
        new = json::with_commas(&new, json::is_loose(text))?;
    }
    let mut there = contents(notation, &new).ok()?;
    // What found no place beside its kin.
    let has: HashSet<&Key> = there.entries.iter().map(|entry| &entry.key).collect();
    let mut missing: Vec<(&Key, &Value<'_>)> =
        wanted.iter().map(|(key, value)| (*key, value)).collect();
    missing.retain(|(key, _)| !has.contains(key));
    missing.sort_unstable_by_key(|(key, _)| *key);
    if missing.len() > MOST_SINGLY {
        return None;
    }
    for (key, value) in missing {
        new = set(notation, &new, key, value.says).ok()?;
        there = contents(notation, &new).ok()?;
    }
    holds(&there, wanted, left).then_some(new)
}

/// Whether a text says what is wanted, and nothing more.
fn holds(contents: &Contents, wanted: &Wanted<'_>, left: &HashSet<&Key>) -> bool {
    let mut met = HashSet::with_capacity(wanted.len());
    let mut own = contents
        .entries
        .iter()
        .filter(|entry| !left.contains(&entry.key));
    let all = own.all(|entry| {
        let once = met.insert(&entry.key);
        once && wanted.get(&entry.key).is_some_and(|value| value.is(entry))
    });
    all && met.len() == wanted.len()
}

struct Edits<'t> {
    notation: &'t Notation,
    text: &'t str,
    here: &'t Contents,
    wanted: &'t Wanted<'t>,
    from: From<'t>,
    /// What goes, and what comes in its place.
    cuts: Vec<(Range<usize>, String)>,
    /// What comes where; in the order in which it is to stand.
    puts: Vec<(usize, String)>,
}

impl<'t> Edits<'t> {
    /// Values that are there already say what is wanted, and those that are wanted no more go.
    fn set_and_cut(&mut self, left: &HashSet<&Key>) {
        let by_key = |contents: &'t Contents| -> ByKey<'t> {
            let entries = contents.entries.iter();
            entries.map(|entry| (&entry.key, entry)).collect()
        };
        // Found out where one is set at all.
        let sources = OnceCell::new();
        let sources = || {
            sources.get_or_init(|| {
                let before = self.from.before.map(|(_, contents)| by_key(contents));
                (before.unwrap_or_default(), by_key(self.from.contents))
            })
        };
        let mut goes: Vec<&Entry> = Vec::new();
        for entry in self
            .here
            .entries
            .iter()
            .filter(|entry| !left.contains(&entry.key))
        {
            let now = &self.text[entry.value.clone()];
            match self.wanted.get(&entry.key) {
                Some(value) if value.is(entry) => {}
                Some(value) => {
                    let (before, donor) = sources();
                    let lines = self.lines_of(entry, value, (before, donor));
                    let set = || {
                        (
                            entry.value.clone(),
                            value.written(self.notation, entry, now),
                        )
                    };
                    self.cuts.push(lines.unwrap_or_else(set));
                }
                None => goes.push(entry),
            }
        }
        // Tables in which nothing is to be go whole.
        let stays: HashSet<&[String]> = self
            .wanted
            .keys()
            .flat_map(|key| (0..key.0.len()).map(|length| &key.0[..length]))
            .collect();
        let gone: HashSet<&Key> = goes.iter().map(|entry| &entry.key).collect();
        let entries = &self.here.entries;
        let mut whole: Vec<&Range<usize>> = Vec::new();
        // The outermost element is the text.
        let is_all = |table: &Table| *self.notation == Notation::Xml && table.key.0.len() == 1;
        let tables = self.here.tables.iter().filter(|table| !is_all(table));
        for table in tables {
            let Some(rows) = table
                .rows
                .as_ref()
                .filter(|_| !stays.contains(&table.key.0[..]))
            else {
                continue;
            };
            let first = entries.partition_point(|entry| entry.value.start < rows.start);
            let after = entries.partition_point(|entry| entry.value.start < rows.end);
            let inside = &entries[first..after];
            let all = inside.iter().all(|entry| gone.contains(&entry.key));
            let is_inside = whole.last().is_some_and(|outer| outer.end >= rows.end);
            if !inside.is_empty() && all && !is_inside {
                whole.push(rows);
            }
        }
        goes.retain(|entry| {
            let at = whole.partition_point(|rows| rows.end <= entry.value.start);
            !whole
                .get(at)
                .is_some_and(|rows| rows.contains(&entry.value.start))
        });
        let whole: Vec<Range<usize>> = whole.into_iter().cloned().collect();
        let own = goes.into_iter().map(|entry| self.own_of(entry));
        let ranges: Vec<Range<usize>> = whole.into_iter().chain(own).collect();
        self.cuts
            .extend(ranges.into_iter().map(|range| (range, String::new())));
    }

    /// The lines of a value as they are where it comes from, where they are as they were before.
    fn lines_of(
        &self,
        entry: &Entry,
        value: &Value<'_>,
        (before, donor): (&ByKey<'_>, &ByKey<'_>),
    ) -> Option<(Range<usize>, String)> {
        let rows = entry.rows.clone()?;
        let (was, there) = (before.get(&entry.key)?, donor.get(&entry.key)?);
        let (was, rows_there) = (was.rows.clone()?, there.rows.clone()?);
        let is_as_it_was = self.from.before?.0[was] == self.text[rows.clone()];
        (is_as_it_was && value.is(there)).then(|| {
            let lines = self.rows_with(self.from.text, &rows_there, &[], rows.start);
            (rows, lines)
        })
    }

    /// What goes with a value: its lines, or itself with what parts it from the next one.
    fn own_of(&self, entry: &Entry) -> Range<usize> {
        if let Some(rows) = &entry.rows {
            return rows.clone();
        }
        let Range { start, end } = entry.whole.clone();
        if *self.notation == Notation::Xml {
            let blanks = self.text[..start].len() - self.text[..start].trim_end().len();
            return start - blanks..end;
        }
        let after = &self.text[end..];
        if let Some(rest) = after.trim_start().strip_prefix(',') {
            let rest = rest.trim_start_matches([' ', '\t']);
            return start..end + (after.len() - rest.len());
        }
        let before = self.text[..start].trim_end();
        match before.strip_suffix(',') {
            Some(before) => before.len()..end,
            None => start..end,
        }
    }

    /// What is new comes in, beside what it stands beside where it comes from.
    fn bring(&mut self) {
        let From {
            text,
            contents: donor,
            ..
        } = self.from;
        let has: HashSet<&Key> = self.here.entries.iter().map(|entry| &entry.key).collect();
        let has_table: HashSet<&Key> = self.here.tables.iter().map(|table| &table.key).collect();
        let is_new =
            |entry: &Entry| !has.contains(&entry.key) && self.wanted.contains_key(&entry.key);
        if !donor.entries.iter().any(is_new) {
            return;
        }
        let kin = Kin::of(self.here);
        // Entries and tables where they begin, the outer before the inner.
        let mut pieces: Vec<Piece<'_>> = Vec::new();
        pieces.extend(donor.entries.iter().map(Piece::Entry));
        pieces.extend(
            donor
                .tables
                .iter()
                .filter(|table| table.rows.is_some())
                .map(Piece::Table),
        );
        pieces.sort_by_key(|piece| (piece.start(), matches!(piece, Piece::Entry(_))));
        let mut brought = 0;
        // For each table of the donor: where what comes next in it is to stand, and what beside.
        let mut after: HashMap<Key, Range<usize>> = HashMap::new();
        // Tables in which nothing is there to stand beside.
        let mut bare: HashSet<Key> = HashSet::new();
        let mut puts = Vec::new();
        for (number, piece) in pieces.iter().enumerate() {
            let (above, _) = piece.key().split();
            if piece.start() < brought || bare.contains(&above) {
                continue;
            }
            if let Some(rows) = kin.rows_of(piece) {
                after.insert(above, rows.clone());
                continue;
            }
            let Some(rows) = piece.rows() else {
                continue;
            };
            let first = donor
                .entries
                .partition_point(|entry| entry.value.start < rows.start);
            let stop = donor
                .entries
                .partition_point(|entry| entry.value.start < rows.end);
            let inside = &donor.entries[first..stop];
            let is_table = matches!(piece, Piece::Table(_));
            let is_brought = match piece {
                Piece::Entry(entry) => is_new(entry),
                Piece::Table(table) => {
                    let is_here = |entry: &Entry| has.contains(&entry.key);
                    !has_table.contains(&table.key)
                        && inside.iter().any(is_new)
                        && !inside.iter().any(is_here)
                }
            };
            if !is_brought {
                continue;
            }
            let later = || {
                let mut later = pieces[number + 1..].iter();
                let beside = |later: &&Piece<'_>| later.key().split().0 == above;
                later
                    .by_ref()
                    .filter(beside)
                    .find_map(|later| kin.rows_of(later))
            };
            // Behind what it stands behind there, or before what it stands before, or with all others.
            let place = match after.get(&above) {
                Some(rows) => Some((rows.end, rows.start)),
                None => match later() {
                    Some(rows) => Some((rows.start, rows.start)),
                    None => self.behind_all(&above).map(|rows| (rows.end, rows.start)),
                },
            };
            let is_section = is_table && self.has_sections();
            let place = match is_section {
                true => Some((self.section_place(&pieces[..number], &kin), 0)),
                false => place,
            };
            let Some((at, beside)) = place else {
                bare.insert(above);
                continue;
            };
            let lines = self.rows_with(text, rows, inside, beside);
            puts.push((
                at,
                if is_section {
                    self.parted(at, lines)
                } else {
                    lines
                },
            ));
            brought = rows.end;
            after.entry(above).or_insert(beside..at);
        }
        self.puts = puts;
    }

    /// The last of what stands in a table.
    fn behind_all(&self, above: &Key) -> Option<&Range<usize>> {
        let entries = self.here.entries.iter().map(Piece::Entry);
        let tables = self.here.tables.iter().map(Piece::Table);
        let tables = tables.filter(|_| !self.has_sections());
        let own = entries
            .chain(tables)
            .filter(|piece| piece.key().split().0 == *above);
        own.filter_map(|piece| piece.rows())
            .max_by_key(|rows| rows.end)
    }

    fn has_sections(&self) -> bool {
        matches!(self.notation, Notation::Toml | Notation::Ini)
    }

    /// Where a section comes to stand: behind the one that it stands behind where it comes from, or before all of them.
    fn section_place(&self, before: &[Piece<'_>], kin: &Kin<'_>) -> usize {
        let tables = before
            .iter()
            .rev()
            .filter(|piece| matches!(piece, Piece::Table(_)));
        let behind = tables.filter_map(|table| kin.rows_of(table)).next();
        let mut own = self
            .here
            .tables
            .iter()
            .filter_map(|table| table.rows.as_ref());
        let first = own.next().map(|rows| rows.start);
        behind
            .map(|rows| rows.end)
            .or(first)
            .unwrap_or(self.text.len())
    }

    /// Lines of a section with an empty line between them and what stands there.
    fn parted(&self, at: usize, lines: String) -> String {
        let end = line_end(self.text);
        let above = self.text[..at].lines().next_back().unwrap_or_default();
        let below = self.text[at..].lines().next().unwrap_or_default();
        let gap = |line: &str| if line.trim().is_empty() { "" } else { end };
        format!("{}{lines}{}", gap(above), gap(below))
    }

    /// Lines of another text, with the values that are wanted, as far set in as what they come to stand beside.
    fn rows_with(
        &self,
        text: &str,
        rows: &Range<usize>,
        inside: &[Entry],
        beside: usize,
    ) -> String {
        let mut lines = text[rows.clone()].to_owned();
        for entry in inside.iter().rev() {
            let of_rows = |range: &Range<usize>| range.start - rows.start..range.end - rows.start;
            match (self.wanted.get(&entry.key), &entry.rows) {
                (Some(value), _) if value.is(entry) => {}
                (Some(value), _) => {
                    let new = value.written(self.notation, entry, &text[entry.value.clone()]);
                    lines.replace_range(of_rows(&entry.value), &new);
                }
                // What is not wanted of a table that comes.
                (None, Some(own)) if own.start >= rows.start => {
                    lines.replace_range(of_rows(own), "");
                }
                (None, _) => {
                    let (element, _) = entry.key.split();
                    let mut tables = self.from.contents.tables.iter();
                    let own = tables.find(|table| table.key == element);
                    let own = own.and_then(|table| table.rows.as_ref());
                    let of_it = inside.iter().filter(|it| it.key.0.starts_with(&element.0));
                    let is_leaf = of_it.count() == 1;
                    if let Some(own) = own.filter(|own| is_leaf && own.start > rows.start) {
                        lines.replace_range(of_rows(own), "");
                    }
                }
            }
        }
        let (there, here) = (indent(text, rows.start), indent(self.text, beside));
        let end = line_end(self.text);
        let set_in = |line: &str| {
            let line = line.strip_suffix('\r').unwrap_or(line);
            let moved = line.strip_prefix(there).map(|rest| format!("{here}{rest}"));
            format!("{}{end}", moved.as_deref().unwrap_or(line))
        };
        let lines = lines.strip_suffix('\n').unwrap_or(&lines);
        lines.split('\n').map(set_in).collect()
    }

    /// The text as all of it makes it.
    fn made(self) -> String {
        // What comes stands before what goes where both begin.
        let puts = self.puts.into_iter().map(|(at, lines)| (at..at, lines, 0));
        let cuts = self.cuts.into_iter().map(|(range, new)| (range, new, 1));
        let mut all: Vec<(Range<usize>, String, u8)> = puts.chain(cuts).collect();
        all.sort_by_key(|(range, _, kind)| (range.start, *kind));
        let mut new = String::with_capacity(self.text.len());
        let mut done = 0;
        for (range, put, kind) in all {
            let start = range.start.max(done);
            new.push_str(&self.text[done..start]);
            if kind == 0 && !new.is_empty() && !new.ends_with('\n') {
                new.push_str(line_end(self.text));
            }
            new.push_str(&put);
            done = range.end.max(start);
        }
        new.push_str(&self.text[done..]);
        new
    }
}

/// A value or a table, as one of those that stand beside one another.
enum Piece<'c> {
    Entry(&'c Entry),
    Table(&'c Table),
}

impl<'c> Piece<'c> {
    fn rows(&self) -> Option<&'c Range<usize>> {
        match self {
            Piece::Entry(entry) => entry.rows.as_ref(),
            Piece::Table(table) => table.rows.as_ref(),
        }
    }

    fn key(&self) -> &Key {
        match self {
            Piece::Entry(entry) => &entry.key,
            Piece::Table(table) => &table.key,
        }
    }

    fn start(&self) -> usize {
        let own = match self {
            Piece::Entry(entry) => entry.whole.start,
            Piece::Table(_) => usize::MAX,
        };
        self.rows().map_or(own, |rows| rows.start)
    }
}

/// The lines of what is there already.
struct Kin<'c> {
    entries: HashMap<&'c Key, &'c Range<usize>>,
    tables: HashMap<&'c Key, &'c Range<usize>>,
}

impl<'c> Kin<'c> {
    fn of(contents: &'c Contents) -> Kin<'c> {
        let entries = contents.entries.iter();
        let tables = contents.tables.iter();
        Kin {
            entries: entries
                .filter_map(|it| Some((&it.key, it.rows.as_ref()?)))
                .collect(),
            tables: tables
                .filter_map(|it| Some((&it.key, it.rows.as_ref()?)))
                .collect(),
        }
    }

    fn rows_of(&self, piece: &Piece<'_>) -> Option<&Range<usize>> {
        match piece {
            Piece::Entry(entry) => self.entries.get(&entry.key).copied(),
            Piece::Table(table) => self.tables.get(&table.key).copied(),
        }
    }
}
