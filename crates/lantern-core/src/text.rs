//! Texts that are the administrator's own, changed line by line; all else in them stays, byte for byte.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt::Write as _;

pub(crate) mod lines;

/// What a text file holds.
///
/// What begins with a mark of the byte order of UTF-16 is read so, where all of it is. What is no UTF-8 else is taken as one
/// character a byte, so that nothing is lost on the way back. A mark of the byte order is no part of the content, and stays
/// where it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Text {
    content: String,
    coding: Coding,
}

/// How a text stands in its file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Coding {
    Utf8 { has_mark: bool },
    Utf16(Order),
    OneByte,
}

/// Which byte of two comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Order {
    Low,
    High,
}

/// The mark of the byte order, before UTF-16 and, by some editors, before UTF-8.
const MARK: char = '\u{feff}';

/// A line of a text as characters: what is no UTF-8 is one character a byte.
pub fn line(bytes: &[u8]) -> Cow<'_, str> {
    match std::str::from_utf8(bytes) {
        Ok(text) => Cow::Borrowed(text),
        Err(_) => encoding_rs::mem::decode_latin1(bytes),
    }
}

/// What follows a mark of UTF-16, where all of it is that.
fn utf16(bytes: &[u8]) -> Option<(String, Order)> {
    let order = match bytes {
        [0xff, 0xfe, ..] => Order::Low,
        [0xfe, 0xff, ..] => Order::High,
        _ => return None,
    };
    let (pairs, rest) = bytes[2..].as_chunks::<2>();
    let units = pairs.iter().map(|pair| match order {
        Order::Low => u16::from_le_bytes(*pair),
        Order::High => u16::from_be_bytes(*pair),
    });
    let content: Result<String, _> = char::decode_utf16(units).collect();
    Some((content.ok().filter(|_| rest.is_empty())?, order))
}

impl Text {
    /// Reads a file's content.
    pub fn read(bytes: &[u8]) -> Text {
        if let Some((content, order)) = utf16(bytes) {
            let coding = Coding::Utf16(order);
            return Text { content, coding };
        }
        match line(bytes) {
            Cow::Borrowed(text) => Text {
                content: text.strip_prefix(MARK).unwrap_or(text).to_owned(),
                coding: Coding::Utf8 {
                    has_mark: text.starts_with(MARK),
                },
            },
            Cow::Owned(content) => Text {
                content,
                coding: Coding::OneByte,
            },
        }
    }

    /// What it says.
    pub fn as_str(&self) -> &str {
        &self.content
    }

    /// What it says, with nothing of how it stands in its file.
    pub fn into_content(self) -> String {
        self.content
    }

    /// Whether its lines can be read as such; not so in UTF-16 without a mark, or in a program.
    pub fn is_plain(&self) -> bool {
        !self.content.contains('\0')
    }

    /// The same file with another content; none where the file's encoding has no room for it.
    pub fn with(&self, content: String) -> Option<Text> {
        let is_narrow = self.coding == Coding::OneByte;
        let fits = !is_narrow || encoding_rs::mem::is_str_latin1(&content);
        fits.then_some(Text {
            content,
            coding: self.coding,
        })
    }

    /// The content as it stands in the file.
    pub fn bytes(&self) -> Vec<u8> {
        let marked = || format!("{MARK}{}", self.content);
        match self.coding {
            Coding::OneByte => encoding_rs::mem::encode_latin1_lossy(&self.content).into_owned(),
            Coding::Utf8 { has_mark: true } => marked().into_bytes(),
            Coding::Utf8 { has_mark: false } => self.content.clone().into_bytes(),
            Coding::Utf16(Order::Low) => {
                let units = marked();
                units.encode_utf16().flat_map(u16::to_le_bytes).collect()
            }
            Coding::Utf16(Order::High) => {
                let units = marked();
                units.encode_utf16().flat_map(u16::to_be_bytes).collect()
            }
        }
    }

    /// The text with some of its lines changed.
    ///
    /// # Errors
    /// With the line, from 1, where it does not stand as the change says.
    pub fn changed(&self, changes: &[LineChange]) -> Result<Text, Misfit> {
        let old: Vec<&str> = self.content.split('\n').collect();
        let mut new: Vec<&str> = Vec::with_capacity(old.len());
        let mut done = 0;
        for change in changes {
            let misfit = Misfit { line: change.line };
            let start = change.line.checked_sub(1).filter(|start| *start >= done);
            let start = start.ok_or(misfit)?;
            let end = start.saturating_add(change.was.len());
            let stands = old.get(start..end).ok_or(misfit)?;
            let is = |(stands, said): (&&str, &String)| said == stands || *said == covered(stands);
            if !stands.iter().zip(&change.was).all(is) {
                return Err(misfit);
            }
            new.extend(&old[done..start]);
            for line in &change.becomes {
                // What is covered stood in the text before.
                let hidden = line
                    .starts_with(COVER)
                    .then(|| old.iter().find(|it| covered(it) == *line));
                new.push(match hidden {
                    Some(line) => line.ok_or(misfit)?,
                    None => line,
                });
            }
            done = end;
        }
        new.extend(&old[done..]);
        let last = changes.last().map_or(1, |change| change.line);
        self.with(new.join("\n")).ok_or(Misfit { line: last })
    }
}

/// What a line begins with of which not even a plan may say what it is.
const COVER: &str = "(a secret) ";

/// A line that nobody is to read: it is known again by its BLAKE3.
fn covered(line: &str) -> String {
    format!("{COVER}{}", blake3::hash(line.as_bytes()).to_hex())
}

/// A line of a change as people may see it.
pub fn shown(line: &str) -> &str {
    if line.starts_with(COVER) {
        COVER.trim_end()
    } else {
        line
    }
}

/// The same changes, with those lines covered that are secret in the text before; lines counted from 1.
pub fn cover(changes: &mut [LineChange], old: &str, is_secret: &dyn Fn(usize) -> bool) {
    let secret: Vec<&str> = old
        .split('\n')
        .zip(1..)
        .filter(|(_, number)| is_secret(*number))
        .map(|(line, _)| line)
        .collect();
    let lines = changes
        .iter_mut()
        .flat_map(|it| it.was.iter_mut().chain(&mut it.becomes));
    for line in lines.filter(|line| secret.contains(&line.as_str())) {
        *line = covered(line);
    }
}

/// Lines that give way to others.
///
/// A line is what stands between two line feeds: a carriage return belongs to it, and behind the last
/// line feed comes one more, empty line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LineChange {
    /// Where the first of them stands in the file as it is, from 1; where new ones come before it.
    pub line: usize,
    /// As they stand there; none where lines only come.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub was: Vec<String>,
    /// As they will stand there; none where lines only go.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub becomes: Vec<String>,
}

/// A change that does not fit the text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("line {line} is not as the change expects it")]
pub struct Misfit {
    /// From 1.
    pub line: usize,
}

/// Which lines of one text give way to which, so that it becomes another; from top to bottom.
pub fn changes(old: &str, new: &str) -> Vec<LineChange> {
    let old: Vec<&str> = old.split('\n').collect();
    let new: Vec<&str> = new.split('\n').collect();
    changes_of(&old, &new)
}

/// The same, of lines.
pub(crate) fn changes_of(old: &[&str], new: &[&str]) -> Vec<LineChange> {
    let owned = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    let [numbers, others] = lines::numbered([old, new]);
    let gaps = lines::gaps(&numbers, &others).into_iter();
    let changes = gaps.map(|(was, becomes)| LineChange {
        line: was.start + 1,
        was: owned(&old[was]),
        becomes: owned(&new[becomes]),
    });
    changes.collect()
}

/// The same changes as seen from the text that they make.
pub fn reversed(changes: &[LineChange]) -> Vec<LineChange> {
    let mut shift = 0_isize;
    let mut reversed = Vec::with_capacity(changes.len());
    for change in changes {
        reversed.push(LineChange {
            line: change.line.saturating_add_signed(shift),
            was: change.becomes.clone(),
            becomes: change.was.clone(),
        });
        shift += change.becomes.len().cast_signed() - change.was.len().cast_signed();
    }
    reversed
}

/// The changes of two hands to one text as those of one, from top to bottom.
///
/// # Errors
/// With the line, from 1, where both change the same: what comes of it nobody can say.
pub fn merged(ours: &[LineChange], theirs: &[LineChange]) -> Result<Vec<LineChange>, Misfit> {
    // Where changes touch, it is chance which of them a line that is alike is taken for: an unchanged line stands between.
    let end = |change: &LineChange| change.line + change.was.len();
    for our in ours {
        let meets = |their: &&LineChange| our.line <= end(their) && their.line <= end(our);
        if theirs.iter().any(|their| meets(&their)) {
            return Err(Misfit { line: our.line });
        }
    }
    let mut all: Vec<LineChange> = ours.iter().chain(theirs).cloned().collect();
    all.sort_by_key(|change| (change.line, change.was.len()));
    Ok(all)
}

/// A text in lines, to be changed and put together again; a line keeps its end as long as it stays.
#[derive(Debug)]
pub(crate) struct Lines<'t> {
    rest: std::str::SplitInclusive<'t, char>,
    end: &'static str,
    out: String,
}

impl<'t> Lines<'t> {
    pub(crate) fn of(text: &'t str) -> Lines<'t> {
        Lines {
            rest: text.split_inclusive('\n'),
            end: if text.contains("\r\n") { "\r\n" } else { "\n" },
            out: String::with_capacity(text.len()),
        }
    }

    /// The next line, without and with its end.
    pub(crate) fn next(&mut self) -> Option<(&'t str, &'t str)> {
        let whole = self.rest.next()?;
        Some((without_end(whole), whole))
    }

    /// Leaves a line as it is, given with its end.
    pub(crate) fn keep(&mut self, whole: &str) {
        self.out.push_str(whole);
    }

    /// Puts other words in the place of a line that is given with its end.
    pub(crate) fn replace(&mut self, whole: &str, line: &str) {
        let end = &whole[without_end(whole).len()..];
        let _ = write!(self.out, "{line}{end}");
    }

    /// Adds a line, with the line end of the one before it.
    pub(crate) fn add(&mut self, line: &str) {
        if !self.out.is_empty() && !self.out.ends_with('\n') {
            // A carriage return that ends the text is part of its last line, and stays so.
            let end = if self.out.ends_with('\r') {
                "\r\n"
            } else {
                self.end
            };
            self.out.push_str(end);
        }
        let end = match &self.out {
            out if out.ends_with("\r\n") => "\r\n",
            out if out.ends_with('\n') => "\n",
            _ => self.end,
        };
        let _ = write!(self.out, "{line}{end}");
    }

    pub(crate) fn joined(self) -> String {
        self.out
    }
}

/// Whether a line is a remark, as the usual notations write them.
pub(crate) fn is_remark(row: &str) -> bool {
    let row = row.trim_start().to_ascii_lowercase();
    let begins = ["#", "//", ";", "--", "/*", "::", "rem "];
    begins.iter().any(|begin| row.starts_with(begin))
}

/// A line without its end, as [`str::lines`] takes it: a carriage return that no line feed follows is part of the line.
fn without_end(whole: &str) -> &str {
    let end = whole.strip_suffix("\r\n").or(whole.strip_suffix('\n'));
    end.unwrap_or(whole)
}

/// How two texts differ, as a unified diff with three lines around each change, without names.
pub fn unified(before: &str, after: &str) -> String {
    let diff = similar::TextDiff::from_lines(before, after);
    diff.unified_diff().context_radius(3).to_string()
}

/// Two versions of a text as one, with the usual marks around where they differ; and at how many places they do.
pub fn marked(ours: &str, theirs: &str) -> (String, usize) {
    let changes = changes(ours, theirs);
    let lines: Vec<&str> = ours.split('\n').collect();
    let mut out: Vec<&str> = Vec::new();
    let mut done = 0;
    for change in &changes {
        out.extend(&lines[done..change.line - 1]);
        out.push(MARKS[0]);
        out.extend(change.was.iter().map(String::as_str));
        out.push(MARKS[1]);
        out.extend(change.becomes.iter().map(String::as_str));
        out.push(MARKS[2]);
        done = change.line - 1 + change.was.len();
    }
    out.extend(&lines[done..]);
    (out.join("\n"), changes.len())
}

/// What stands around two versions of the same lines, and between them.
const MARKS: [&str; 3] = ["<<<<<<< yours", "=======", ">>>>>>> shipped now"];

/// The first line, from 1, in which such a mark stands.
pub fn marked_at(text: &str) -> Option<usize> {
    let is_mark = |line: &str| line.starts_with("<<<<<<< ") || line.starts_with(">>>>>>> ");
    text.lines().position(is_mark).map(|at| at + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_line_is_what_it_is_elsewhere_and_keeps_its_end() {
        for text in ["a\r\nb\nc", "a\r\r\nb\r", "\r\n\r", "a\n\n"] {
            let mut lines = Lines::of(text);
            let mut met = Vec::new();
            while let Some((line, whole)) = lines.next() {
                lines.replace(whole, line);
                met.push(line);
            }
            assert_eq!(met, text.lines().collect::<Vec<_>>(), "{text:?}");
            assert_eq!(lines.joined(), text);
        }
    }

    #[test]
    fn what_is_no_utf8_comes_back_byte_for_byte() {
        let file = b"name = Gew\xe4chshaus\r\nstart bees\r\n";
        let text = Text::read(file);
        assert_eq!(text.as_str(), "name = Gew\u{e4}chshaus\r\nstart bees\r\n");
        assert_eq!(text.bytes(), file);
        let more = text.with(format!("{}start clock\r\n", text.as_str()));
        let expected = [&file[..], b"start clock\r\n"].concat();
        assert_eq!(more.unwrap().bytes(), expected);
        assert_eq!(text.with("start \u{2600}".into()), None);
    }

    #[test]
    fn what_is_no_text_is_told_from_what_is() {
        assert!(!Text::read(b"s\0t\0a\0r\0t\0").is_plain());
        assert!(!Text::read(b"\xff\xfe\0\0s\0\0\0").is_plain());
        assert!(Text::read(b"start clock\n").is_plain());
    }

    #[test]
    fn utf_16_comes_back_byte_for_byte_and_has_room_for_all() {
        let low = b"\xff\xfes\0t\0\x05\x26\r\0\n\0";
        let high = b"\xfe\xff\0s\0t\x26\x05\0\r\0\n";
        for file in [&low[..], &high[..]] {
            let text = Text::read(file);
            assert_eq!((text.as_str(), text.is_plain()), ("st\u{2605}\r\n", true));
            assert_eq!(text.bytes(), file);
        }
        let more = Text::read(low).with("s\u{1f3ee}".into()).unwrap();
        assert_eq!(more.bytes(), b"\xff\xfes\0\x3c\xd8\xee\xdf");
        // Half a character, and a half of a pair alone.
        for file in [&b"\xff\xfes\0t"[..], b"\xff\xfe\x3c\xd8s\0"] {
            assert_eq!(Text::read(file).bytes(), file);
        }
    }

    #[test]
    fn a_change_names_its_lines_alone() {
        let changes = changes(
            "password = secret\nstart a\nstart b\n",
            "password = secret\nstart b\nstart c\n",
        );
        let written = serde_json::to_string(&changes).unwrap();
        assert_eq!(
            written,
            r#"[{"line":2,"was":["start a"]},{"line":4,"becomes":["start c"]}]"#
        );
    }

    #[test]
    fn a_change_for_another_text_is_refused() {
        let text = Text::read(b"a\nb\n");
        let change = |line, was: &str| LineChange {
            line,
            was: vec![was.to_owned()],
            becomes: Vec::new(),
        };
        for (changes, line) in [
            (vec![change(2, "c")], 2),
            (vec![change(0, "a")], 0),
            (vec![change(9, "a")], 9),
            (vec![change(usize::MAX, "a")], usize::MAX),
            (vec![change(2, "b"), change(1, "a")], 1),
            (vec![change(1, "a"), change(1, "a")], 1),
        ] {
            assert_eq!(text.changed(&changes), Err(Misfit { line }), "{changes:?}");
        }
        assert_eq!(text.changed(&[change(2, "b")]).unwrap().as_str(), "a\n");
    }

    proptest! {
        #[test]
        fn changes_lead_from_one_text_to_the_other(old in "([ab]?\r?\n?){0,9}", new in "([ab]?\r?\n?){0,9}") {
            let now = Text::read(old.as_bytes());
            let changed = now.changed(&changes(&old, &new));
            prop_assert_eq!(changed, Ok(Text::read(new.as_bytes())));
        }

        #[test]
        fn changes_are_taken_back_by_their_reverse(old in "([ab]?\r?\n?){0,9}", new in "([ab]?\r?\n?){0,9}") {
            let back = Text::read(new.as_bytes()).changed(&reversed(&changes(&old, &new)));
            prop_assert_eq!(back, Ok(Text::read(old.as_bytes())));
        }

        /// Two hands that change lines apart from one another give the same text, whichever comes first.
        #[test]
        fn what_two_hands_change_is_there_once_they_are_merged(
            many in 3_usize..12,
            ours in proptest::collection::btree_set(0_usize..12, 0..4),
            theirs in proptest::collection::btree_set(0_usize..12, 0..4),
        ) {
            let with = |hands: &[(&std::collections::BTreeSet<usize>, &str)]| {
                let line = |at: usize| {
                    let by = hands.iter().find(|(set, _)| set.contains(&at));
                    by.map_or(format!("line {at}"), |(_, hand)| format!("{hand} {at}"))
                };
                (0..many).map(line).collect::<Vec<_>>().join("\n")
            };
            let old = with(&[]);
            let (our, their) = ((&ours, "ours"), (&theirs, "theirs"));
            let both = merged(&changes(&old, &with(&[our])), &changes(&old, &with(&[their])));
            let here = |at: &&usize| **at < many;
            let near = ours.iter().filter(here).any(|a| theirs.iter().filter(here).any(|b| a.abs_diff(*b) <= 1));
            match both {
                Ok(both) => {
                    prop_assert!(!near);
                    let made = Text::read(old.as_bytes()).changed(&both).unwrap();
                    prop_assert_eq!(made.as_str(), with(&[our, their]));
                }
                Err(_) => prop_assert!(near),
            }
        }

        #[test]
        fn every_file_comes_back(bytes: Vec<u8>) {
            prop_assert_eq!(Text::read(&bytes).bytes(), bytes);
        }
    }
}
