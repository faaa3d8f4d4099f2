//! Batch files, as far as they start servers.

use super::cut::Rows;
use super::{At, Command, Script, Word};
use std::collections::BTreeMap;

pub(super) fn read(text: &str) -> Script {
    let mut reader = Reader {
        rows: Rows::of(text, '^', is_comment),
        variables: BTreeMap::new(),
        word: None,
        words: Vec::new(),
        depth: 0,
        script: Script::default(),
    };
    let rows: Vec<&str> = text.split('\n').collect();
    let mut number = 0;
    while number < rows.len() {
        number += 1;
        let row = rows[number - 1]
            .strip_suffix('\r')
            .unwrap_or(rows[number - 1]);
        let begins = reader.words.is_empty() && reader.word.is_none();
        if begins
            && (is_comment(row.trim_start().trim_start_matches('@'))
                || row.trim_start().starts_with(':'))
        {
            continue;
        }
        if !reader.row(row, number) {
            reader.end_command(number);
        }
    }
    reader.end_command(number);
    reader.script
}

pub(super) fn is_comment(row: &str) -> bool {
    let row = row.trim_start().to_ascii_lowercase();
    row == "rem" || row.starts_with("rem ") || row.starts_with("::")
}

struct Reader<'t> {
    rows: Rows<'t>,
    /// What is set so far, by its name in small letters; none where a value is not known.
    variables: BTreeMap<String, Option<String>>,
    word: Option<Word>,
    words: Vec<Word>,
    /// How many brackets are open.
    depth: usize,
    script: Script,
}

impl Reader<'_> {
    fn word(&mut self, at: At) -> &mut Word {
        self.word.get_or_insert_with(|| Word {
            text: String::new(),
            is_known: true,
            at,
        })
    }

    fn end_word(&mut self) {
        self.words.extend(self.word.take());
    }

    /// Reads a line; whether the command goes on in the next.
    fn row(&mut self, row: &str, line: usize) -> bool {
        let chars: Vec<char> = row.chars().collect();
        let mut quote = None;
        let mut next = 0;
        let mut skips = false;
        while let Some(c) = chars.get(next).copied() {
            let at = At {
                line,
                column: next + 1,
            };
            let rest = &chars[next + 1..];
            next += 1;
            match c {
                '"' => {
                    self.word(at);
                    quote = match quote {
                        None => Some(at),
                        Some(_) => None,
                    };
                }
                '%' | '!' => {
                    let name: String = rest.iter().take_while(|other| **other != c).collect();
                    let closed =
                        name.len() < row.len() && rest.get(name.chars().count()) == Some(&c);
                    let is_name = closed && !name.is_empty() && !name.contains(' ');
                    match is_name {
                        true => {
                            let value = self.variables.get(&name.to_ascii_lowercase());
                            let value = value.cloned().flatten();
                            next += name.chars().count() + 1;
                            let word = self.word(at);
                            word.is_known &= value.is_some();
                            word.text
                                .push_str(&value.unwrap_or(format!("{c}{name}{c}")));
                        }
                        false => {
                            let word = self.word(at);
                            word.is_known &= c != '%';
                            word.text.push(c);
                        }
                    }
                }
                _ if quote.is_some() => self.word(at).text.push(c),
                '^' if rest.is_empty() => {
                    let first = self.words.first().or(self.word.as_ref());
                    let first = first.map_or(line, |word| word.at.line);
                    self.end_word();
                    let cut = self.rows.after_mark(at, first);
                    let goes_on = cut.is_none();
                    self.script.cuts.extend(cut);
                    return goes_on;
                }
                '^' if rest.iter().all(|c| c.is_whitespace()) => {
                    let cut = self.rows.blank_after_mark(at);
                    self.script.cuts.push(cut);
                    return false;
                }
                '^' => {
                    self.word(at).text.push(rest[0]);
                    next += 1;
                }
                '>' | '<' => {
                    let is_number = |word: &Word| word.text.chars().all(|c| c.is_ascii_digit());
                    if self.word.as_ref().is_some_and(is_number) {
                        self.word = None;
                    }
                    self.end_word();
                    skips = true;
                    next += rest.iter().take_while(|c| "><& ".contains(**c)).count();
                }
                '&' | '|' | '(' | ')' => {
                    self.end_command(line);
                    match c {
                        '(' => self.depth += 1,
                        ')' => self.depth = self.depth.saturating_sub(1),
                        _ => {}
                    }
                }
                c if c.is_whitespace() => match std::mem::take(&mut skips) {
                    true => self.word = None,
                    false => self.end_word(),
                },
                _ => self.word(at).text.push(c),
            }
        }
        if let Some(at) = quote {
            let cut = self.rows.open_quote(at);
            self.script.cuts.push(cut);
        }
        if skips {
            self.word = None;
        }
        false
    }

    fn end_command(&mut self, ends: usize) {
        self.end_word();
        let mut words = std::mem::take(&mut self.words);
        if let Some(first) = words.first_mut() {
            first.text = first.text.trim_start_matches('@').to_owned();
        }
        without_conditions(&mut words);
        let Some(first) = words.first() else {
            return;
        };
        if first.text.eq_ignore_ascii_case("set") {
            if let Some(setting) = words.get(1) {
                let rest: Vec<&str> = words[1..].iter().map(|word| word.text.as_str()).collect();
                if let Some((name, value)) = rest.join(" ").split_once('=') {
                    let known = words[1..].iter().all(|word| word.is_known)
                        && !setting.text.starts_with('/');
                    self.variables
                        .insert(name.to_ascii_lowercase(), known.then(|| value.to_owned()));
                }
            }
            return;
        }
        let command = Command {
            words,
            ends,
            is_nested: self.depth > 0,
        };
        self.rows.close(&mut self.script, command, false);
    }
}

/// Takes away what only says whether, or for what, a command is run.
fn without_conditions(words: &mut Vec<Word>) {
    loop {
        let word = |at: usize| words.get(at).map(|word| word.text.to_ascii_lowercase());
        let gone = match word(0).as_deref() {
            Some("else" | "do") => 1,
            Some("for") => {
                words
                    .iter()
                    .take_while(|word| !word.text.eq_ignore_ascii_case("do"))
                    .count()
                    + 1
            }
            Some("if") => {
                let lead = (1..)
                    .take_while(|at| matches!(word(*at).as_deref(), Some("not" | "/i")))
                    .count();
                let at = 1 + lead;
                at + match word(at).as_deref() {
                    Some("exist" | "errorlevel" | "defined" | "cmdextversion") => 2,
                    Some(text) if text.contains("==") => 1,
                    _ => 3,
                }
            }
            _ => return,
        };
        words.drain(..gone.min(words.len()));
    }
}
