//! Commands that are cut off: the server starts, and half of what it should be told never reaches it.

use super::{At, Command, Dialect, Script};
use std::collections::BTreeMap;

/// Why a command ends where nobody meant it to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CutKind {
    /// Something invisible stands behind the continuation mark, which then marks nothing.
    BlankAfterMark,
    /// An empty line or a comment stands between a continuation mark and what is to continue.
    Gap,
    /// The line before has no continuation mark, and this one begins like an argument.
    NoMark,
    /// A quote is not closed.
    OpenQuote,
    /// The last line ends with a continuation mark, and nothing follows.
    MarkAtEnd,
}

impl CutKind {
    /// What is wrong there, as a sentence without its full stop.
    pub fn told(self) -> &'static str {
        match self {
            CutKind::BlankAfterMark => {
                "a trailing space after the line-continuation mark ends the command here"
            }
            CutKind::Gap => {
                "an empty line or a comment after the line-continuation mark ends the command here"
            }
            CutKind::NoMark => {
                "the line before has no line-continuation mark, so this is not part of the command"
            }
            CutKind::OpenQuote => "a quote is opened here and never closed",
            CutKind::MarkAtEnd => "the line-continuation mark continues with nothing",
        }
    }
}

/// A place where a command is cut off.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cut {
    /// Where.
    pub at: At,
    /// Why.
    pub kind: CutKind,
    /// What does not reach the command; empty where nothing is known to be lost.
    pub lost: String,
    /// The last line of what is lost, from 1.
    pub(super) until: usize,
    /// The lines that would have to be otherwise, from 1, without their line feeds; none where a line goes.
    pub(super) mend: BTreeMap<usize, Option<String>>,
    /// What would come before a line.
    pub(super) before: Option<(usize, Vec<String>)>,
}

impl Cut {
    /// Whether it is known how to mend it.
    pub fn can_be_mended(&self) -> bool {
        !self.mend.is_empty()
    }

    /// Whether the server would be told less than it should.
    pub fn is_wrong(&self) -> bool {
        match self.kind {
            CutKind::MarkAtEnd => false,
            // What stands right below no command may be no argument at all.
            CutKind::NoMark => self.can_be_mended(),
            CutKind::BlankAfterMark | CutKind::Gap | CutKind::OpenQuote => true,
        }
    }
}

/// The text as it is when all that can be mended is; none where nothing can. What is not cut stays byte for byte.
pub fn mended(dialect: Dialect, text: &str) -> Option<String> {
    let mut now = text.to_owned();
    // Each mends a line, and one line may be cut in three ways, one behind the other.
    for _ in 0..=3 * text.lines().count() {
        let script = Script::read(dialect, &now);
        let Some(cut) = script.cuts.iter().find(|cut| cut.can_be_mended()) else {
            break;
        };
        let next = applied(cut, &now);
        if next == now {
            break;
        }
        now = next;
    }
    (now != text).then_some(now)
}

fn applied(cut: &Cut, text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 2);
    for (index, whole) in text.split_inclusive('\n').enumerate() {
        let number = index + 1;
        let bare = whole.trim_end_matches(['\r', '\n']);
        let end = &whole[bare.len()..];
        if let Some((_, more)) = cut.before.as_ref().filter(|(at, _)| *at == number) {
            for line in more {
                out.push_str(line);
                out.push_str(end);
            }
        }
        match cut.mend.get(&number) {
            None => out.push_str(whole),
            Some(None) => {}
            Some(Some(new)) => {
                out.push_str(new);
                out.push_str(match whole.ends_with('\n') {
                    true => "\n",
                    false => "",
                });
            }
        }
    }
    out
}

/// The lines of a text, looked at from where a command is being read.
pub(super) struct Rows<'t> {
    rows: Vec<&'t str>,
    /// What lines of this language end with besides the line feed.
    end: &'static str,
    mark: char,
    is_comment: fn(&str) -> bool,
}

impl<'t> Rows<'t> {
    pub(super) fn of(text: &'t str, mark: char, is_comment: fn(&str) -> bool) -> Rows<'t> {
        let rows = text.split('\n');
        // To a shell, a carriage return is no end of a line but a character of it.
        let end = match mark == '^' && text.contains("\r\n") {
            true => "\r",
            false => "",
        };
        Rows {
            rows: rows
                .map(|row| row.strip_suffix('\r').unwrap_or(row))
                .collect(),
            end,
            mark,
            is_comment,
        }
    }

    fn row(&self, line: usize) -> Option<&'t str> {
        self.rows.get(line.checked_sub(1)?).copied()
    }

    /// What lines from one on would have told the command, as far as each goes on in the next; and the last of them.
    fn told_from(&self, line: usize) -> (String, usize) {
        let mut told = Vec::new();
        let mut last = line.saturating_sub(1);
        for number in line.. {
            let Some(row) = self.row(number) else { break };
            let bare = row.trim_end();
            let words = bare.trim_end_matches(self.mark).trim();
            if words.is_empty() || (self.is_comment)(words) {
                break;
            }
            told.push(words);
            last = number;
            if !bare.ends_with(self.mark) {
                break;
            }
        }
        (told.join(" "), last)
    }

    /// A mark with something invisible behind it.
    pub(super) fn blank_after_mark(&self, at: At) -> Cut {
        let row = self.row(at.line).unwrap_or_default();
        let bare = format!("{}{}", row.trim_end(), self.end);
        let (lost, until) = self.told_from(at.line + 1);
        Cut {
            at,
            kind: CutKind::BlankAfterMark,
            lost,
            until,
            mend: BTreeMap::from([(at.line, Some(bare))]),
            before: None,
        }
    }

    /// A line ends with a mark: what follows may be nothing, or a gap before more arguments.
    pub(super) fn after_mark(&self, at: At, first: usize) -> Option<Cut> {
        let is_gap = |row: &str| row.trim().is_empty() || (self.is_comment)(row.trim());
        let mut next = at.line + 1;
        while self.row(next).is_some_and(is_gap) {
            next += 1;
        }
        let Some(row) = self.row(next) else {
            let own = self.row(at.line).unwrap_or_default();
            let bare = own.trim_end().trim_end_matches(self.mark).trim_end();
            return Some(Cut {
                at,
                kind: CutKind::MarkAtEnd,
                lost: String::new(),
                until: at.line,
                mend: BTreeMap::from([(at.line, Some(format!("{bare}{}", self.end)))]),
                before: None,
            });
        };
        if next == at.line + 1 || !looks_like_arguments(row) {
            return None;
        }
        let gap = at.line + 1..next;
        let comments = gap.clone().filter_map(|line| self.row(line));
        let comments = comments.filter(|row| !row.trim().is_empty());
        let comments: Vec<String> = comments.map(|row| row.trim_start().to_owned()).collect();
        let (lost, until) = self.told_from(next);
        Some(Cut {
            at: At {
                line: at.line + 1,
                column: 1,
            },
            kind: CutKind::Gap,
            lost,
            until,
            mend: gap.map(|line| (line, None)).collect(),
            before: (!comments.is_empty()).then_some((first, comments)),
        })
    }

    /// Adds a command to a script, or says that it is none: one that begins like an argument, where nothing `goes_on` before it.
    pub(super) fn close(&self, script: &mut Script, command: Command, goes_on: bool) {
        let first = &command.words[0];
        if goes_on || !looks_like_arguments(&first.text) {
            script.commands.push(command);
            return;
        }
        let last = script.cuts.last();
        if last.is_none_or(|cut| cut.until < first.at.line) {
            let before = script.commands.last().map(|command| command.ends);
            script.cuts.push(self.no_mark(first.at, before));
        }
    }

    /// A line that begins like an argument, and the one before has no mark.
    fn no_mark(&self, at: At, before: Option<usize>) -> Cut {
        let (lost, until) = self.told_from(at.line);
        let right_above = before.filter(|before| before + 1 == at.line);
        let row = right_above.and_then(|line| Some((line, self.row(line)?)));
        // A comment at its end would swallow the mark.
        let row = row.filter(|(_, row)| !row.contains('#') && !row.trim().is_empty());
        let mend = row.map(|(line, row)| {
            (
                line,
                Some(format!("{} {}{}", row.trim_end(), self.mark, self.end)),
            )
        });
        Cut {
            at,
            kind: CutKind::NoMark,
            lost,
            until,
            mend: mend.into_iter().collect(),
            before: None,
        }
    }

    /// A quote that is not closed: where it should be, only its owner knows.
    pub(super) fn open_quote(&self, at: At) -> Cut {
        let row = self.row(at.line).unwrap_or_default();
        let lost: String = row.chars().skip(at.column).collect();
        Cut {
            at,
            kind: CutKind::OpenQuote,
            lost: lost.trim().to_owned(),
            until: self.rows.len(),
            mend: BTreeMap::new(),
            before: None,
        }
    }
}

/// Whether a line begins as a command never does.
fn looks_like_arguments(row: &str) -> bool {
    let mut chars = row.trim_start().chars();
    let first = chars.next().is_some_and(|c| c == '-' || c == '+');
    first
        && chars
            .next()
            .is_some_and(|c| c.is_alphanumeric() || c == '-')
}
