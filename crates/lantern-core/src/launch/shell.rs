//! Scripts of shells, as far as they start servers.

use super::cut::Rows;
use super::{At, Command, Script, Word};
use std::collections::BTreeMap;

/// Words that begin or end a branch or a loop, and run nothing themselves.
const STRUCTURE: [&str; 15] = [
    "!", "if", "then", "else", "elif", "fi", "do", "done", "while", "until", "for", "case", "esac",
    "{", "}",
];

/// What sets a variable besides a bare assignment.
const SETTERS: [&str; 4] = ["export", "readonly", "local", "declare"];

pub(super) fn read(text: &str) -> Script {
    let mut reader = Reader {
        chars: text.chars().collect(),
        next: 0,
        at: At { line: 1, column: 1 },
        rows: Rows::of(text, '\\', is_comment),
        variables: BTreeMap::new(),
        word: None,
        words: Vec::new(),
        skips_word: false,
        heredocs: Vec::new(),
        cases: Vec::new(),
        depth: 0,
        ended_by: None,
        script: Script::default(),
    };
    reader.run();
    reader.script
}

pub(super) fn is_comment(row: &str) -> bool {
    row.trim_start().starts_with('#')
}

struct Reader<'t> {
    chars: Vec<char>,
    next: usize,
    at: At,
    rows: Rows<'t>,
    /// What is set so far; none where a value is not known.
    variables: BTreeMap<String, Option<String>>,
    word: Option<Word>,
    words: Vec<Word>,
    /// The next word says where something is written to or read from, and is no argument.
    skips_word: bool,
    /// Ends of texts that begin in the next line.
    heredocs: Vec<String>,
    /// The choices that are open, the innermost last: whether a pattern is read, rather than what is done.
    cases: Vec<bool>,
    /// How many branches, loops and functions are open.
    depth: usize,
    /// What the command before ended with, line feeds aside: some signs go on in the next line.
    ended_by: Option<char>,
    script: Script,
}

impl Reader<'_> {
    fn peek(&self, ahead: usize) -> Option<char> {
        self.chars.get(self.next + ahead).copied()
    }

    fn take(&mut self) -> Option<char> {
        let c = self.peek(0)?;
        self.next += 1;
        match c {
            '\n' => {
                self.at = At {
                    line: self.at.line + 1,
                    column: 1,
                }
            }
            _ => self.at.column += 1,
        }
        Some(c)
    }

    fn word(&mut self, at: At) -> &mut Word {
        self.word.get_or_insert_with(|| Word {
            text: String::new(),
            is_known: true,
            at,
        })
    }

    fn push(&mut self, c: char, at: At) {
        self.word(at).text.push(c);
    }

    fn run(&mut self) {
        while let Some(c) = self.peek(0) {
            let at = self.at;
            match c {
                '#' if self.word.is_none() => self.skip_line(),
                '\\' => self.backslash(),
                '\'' | '"' => {
                    if !self.quoted(c) {
                        self.end_command(None);
                        return;
                    }
                }
                '$' | '`' => self.expansion(false),
                ' ' | '\t' | '\r' => {
                    self.take();
                    self.end_word();
                }
                '<' | '>' => self.redirection(),
                // A list of values.
                '(' if self
                    .word
                    .as_ref()
                    .is_some_and(|word| word.text.ends_with('=')) =>
                {
                    self.skip_nested('(', ')');
                    self.word(at).is_known = false;
                }
                '\n' | ';' | '&' | '|' | '(' | ')' => {
                    self.take();
                    self.end_command(Some(c));
                    if c == ';' && self.peek(0) == Some(';') {
                        self.take();
                        if let Some(reads_pattern) = self.cases.last_mut() {
                            *reads_pattern = true;
                        }
                    }
                    if c == '\n' {
                        self.skip_heredocs();
                    }
                }
                _ => {
                    self.take();
                    self.push(c, at);
                }
            }
        }
        self.end_command(None);
    }

    fn skip_line(&mut self) {
        while self.peek(0).is_some_and(|c| c != '\n') {
            self.take();
        }
    }

    /// A backslash outside quotes: it continues a line, tries to, or takes the next character as it is.
    fn backslash(&mut self) {
        let at = self.at;
        let blanks = (1..)
            .take_while(|ahead| self.peek(*ahead).is_some_and(|c| " \t\r".contains(c)))
            .count();
        let ends = self.peek(blanks + 1).is_none_or(|c| c == '\n');
        self.take();
        match (blanks, ends) {
            (0, true) => {
                let first = self.words.first().or(self.word.as_ref());
                let first = first.map_or(at.line, |word| word.at.line);
                let cut = self.rows.after_mark(at, first);
                self.script.cuts.extend(cut);
                self.take();
            }
            (_, true) => {
                let cut = self.rows.blank_after_mark(at);
                self.script.cuts.push(cut);
                self.skip_line();
            }
            (_, false) => {
                if let Some(c) = self.take() {
                    self.push(c, at);
                }
            }
        }
    }

    /// A text in quotes; whether it is closed.
    fn quoted(&mut self, quote: char) -> bool {
        let at = self.at;
        self.take();
        self.word(at);
        loop {
            match self.peek(0) {
                None => {
                    let cut = self.rows.open_quote(at);
                    self.script.cuts.push(cut);
                    return false;
                }
                Some(c) if c == quote => {
                    self.take();
                    return true;
                }
                Some('\\') if quote == '"' => {
                    self.take();
                    match self.take() {
                        Some('\n') | None => {}
                        Some(c) if "$`\"\\".contains(c) => self.push(c, at),
                        Some(c) => {
                            self.push('\\', at);
                            self.push(c, at);
                        }
                    }
                }
                Some('$' | '`') if quote == '"' => self.expansion(true),
                Some(c) => {
                    self.take();
                    self.push(c, at);
                }
            }
        }
    }

    /// A variable, or something that is computed. Outside of quotes, blanks in what it comes to part words.
    fn expansion(&mut self, is_quoted: bool) {
        let (at, start) = (self.at, self.next);
        let first = self.take();
        let mut value = None;
        match (first, self.peek(0)) {
            (Some('`'), _) => self.skip_to('`'),
            (_, Some('(')) => self.skip_nested('(', ')'),
            (_, Some('{')) => {
                self.skip_nested('{', '}');
                let inside: String = self.chars[start + 2..self.next.max(start + 3) - 1]
                    .iter()
                    .collect();
                let (name, default) = match inside.split_once(":-") {
                    Some((name, default)) => (name, Some(default.to_owned())),
                    None => (inside.as_str(), None),
                };
                let set = self.variables.get(name).cloned();
                value = set.unwrap_or(default.filter(|text| !text.contains(['$', '`'])));
            }
            (_, Some(c)) if c.is_ascii_alphabetic() || c == '_' => {
                let mut name = String::new();
                while let Some(c) = self
                    .peek(0)
                    .filter(|c| c.is_ascii_alphanumeric() || *c == '_')
                {
                    name.push(c);
                    self.take();
                }
                value = self.variables.get(&name).cloned().flatten();
            }
            (_, Some(c)) if c.is_ascii_digit() || "@*#?!$-".contains(c) => {
                self.take();
            }
            // A bare sign.
            _ => value = Some("$".into()),
        }
        let written: String = self.chars[start..self.next].iter().collect();
        let is_known = value.is_some();
        let value = value.unwrap_or(written);
        // What is set to a variable is not parted.
        let is_set = |word: &Word| assignment(&word.text).is_some();
        if is_quoted || !is_known || self.word.as_ref().is_some_and(is_set) {
            let word = self.word(at);
            word.is_known &= is_known;
            word.text.push_str(&value);
            return;
        }
        for (number, piece) in value.split([' ', '\t', '\n']).enumerate() {
            if number > 0 {
                self.end_word();
            }
            if !piece.is_empty() {
                self.word(at).text.push_str(piece);
            }
        }
    }

    fn skip_to(&mut self, end: char) {
        while let Some(c) = self.take() {
            if c == end {
                return;
            }
        }
    }

    fn skip_nested(&mut self, open: char, close: char) {
        let mut depth = 0;
        while let Some(c) = self.take() {
            depth += i32::from(c == open) - i32::from(c == close);
            if depth == 0 {
                return;
            }
        }
    }

    /// Where something is written to or read from.
    fn redirection(&mut self) {
        let is_number = |word: &Word| word.text.chars().all(|c| c.is_ascii_digit());
        if self.word.as_ref().is_some_and(is_number) {
            self.word = None;
        }
        self.end_word();
        let mut sign = String::new();
        while let Some(c) = self
            .peek(0)
            .filter(|c| "<>&|".contains(*c) && sign.len() < 3)
        {
            sign.push(c);
            self.take();
        }
        if sign == "<<" {
            if self.peek(0) == Some('-') {
                self.take();
            }
            let rest: String = self.chars[self.next..]
                .iter()
                .take_while(|c| **c != '\n')
                .collect();
            let end = rest.trim_start().split([' ', '\t', ';', '>', '\r']).next();
            let end = end.unwrap_or_default().replace(['\'', '"', '\\'], "");
            self.heredocs.push(end);
        }
        self.skips_word = true;
    }

    fn skip_heredocs(&mut self) {
        for end in std::mem::take(&mut self.heredocs) {
            while self.peek(0).is_some() {
                let start = self.next;
                self.skip_line();
                let line: String = self.chars[start..self.next].iter().collect();
                self.take();
                if line.trim() == end {
                    break;
                }
            }
        }
    }

    fn end_word(&mut self) {
        let Some(word) = self.word.take() else {
            return;
        };
        match std::mem::take(&mut self.skips_word) {
            true => {}
            false => self.words.push(word),
        }
    }

    /// A command has ended, by this character or with the text.
    fn end_command(&mut self, by: Option<char>) {
        self.end_word();
        self.skips_word = false;
        let mut words = std::mem::take(&mut self.words);
        let goes_on = matches!(self.ended_by, Some('&' | '|' | '('));
        if !words.is_empty() || by != Some('\n') {
            self.ended_by = by;
        }
        let first = words.first().map(|word| word.text.as_str());
        match (first, self.cases.last_mut()) {
            (Some("esac"), Some(_)) => {
                self.cases.pop();
                return;
            }
            (_, Some(reads_pattern)) if *reads_pattern => {
                *reads_pattern = by != Some(')');
                return;
            }
            (Some("case"), _) => {
                self.cases.push(by != Some(')'));
                return;
            }
            _ => {}
        }
        let lead = words
            .iter()
            .take_while(|word| STRUCTURE.contains(&word.text.as_str()));
        let lead = lead.count();
        for word in &words[..lead] {
            match word.text.as_str() {
                "if" | "while" | "until" | "for" | "{" => self.depth += 1,
                "fi" | "done" | "}" => self.depth = self.depth.saturating_sub(1),
                _ => {}
            }
        }
        // What a loop goes over is no command.
        if words[..lead].last().is_some_and(|word| word.text == "for") {
            return;
        }
        words.drain(..lead);
        while let Some((name, value)) = words.first().and_then(|word| assignment(&word.text)) {
            let known = words[0].is_known.then(|| value.to_owned());
            self.variables.insert(name.to_owned(), known);
            words.remove(0);
        }
        let Some(first) = words.first() else {
            return;
        };
        if SETTERS.contains(&first.text.as_str()) {
            for word in &words[1..] {
                if let Some((name, value)) = assignment(&word.text) {
                    let known = word.is_known.then(|| value.to_owned());
                    self.variables.insert(name.to_owned(), known);
                }
            }
            return;
        }
        let ends = match by {
            Some('\n') => self.at.line - 1,
            _ => self.at.line,
        };
        let command = Command {
            words,
            ends,
            is_nested: self.depth + self.cases.len() > 0,
        };
        self.rows.close(&mut self.script, command, goes_on);
    }
}

/// `NAME=value` as one word.
fn assignment(word: &str) -> Option<(&str, &str)> {
    let (name, value) = word.split_once('=')?;
    let mut chars = name.chars();
    let first = chars
        .next()
        .is_some_and(|c| c.is_ascii_alphabetic() || c == '_');
    let good = first && chars.all(|c| c.is_ascii_alphanumeric() || c == '_');
    good.then_some((name, value))
}
