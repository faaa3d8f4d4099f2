//! Manifests in a scripting notation, read as data and never executed.
//!
//! What is read: calls with literals (`name 'x'`, `needs { 'a', 'b' }`, `f('x')`) and assignments
//! (`key = { … }`). A literal is a text in single, double or long brackets, a number, `true`,
//! `false`, or a table of literals. Comments are `-- …` and `--[[ … ]]`. Several calls of one name
//! make a list. A statement that computes something is passed over whole lines at a time: what it
//! would have said stays unknown.

use super::{Node, Table, put};
use crate::reading::{DEEPEST, TextFault, line_at, too_deep};

pub(super) fn parse(text: &str) -> Result<Table, TextFault> {
    let mut reader = Reader { text, at: 0 };
    let mut table = Table::new();
    loop {
        reader.blank()?;
        if reader.rest().is_empty() {
            return Ok(table);
        }
        let start = reader.at;
        match reader.statement()? {
            Some((name, value)) => put(&mut table, name, value),
            None => {
                reader.at = start;
                reader.skip_statement()?;
            }
        }
    }
}

struct Reader<'t> {
    text: &'t str,
    at: usize,
}

impl<'t> Reader<'t> {
    fn rest(&self) -> &'t str {
        &self.text[self.at..]
    }

    fn fault(&self, position: usize, why: &str) -> TextFault {
        TextFault::at(line_at(self.text, position), why)
    }

    fn take(&mut self, word: &str) -> bool {
        let there = self.rest().starts_with(word);
        if there {
            self.at += word.len();
        }
        there
    }

    /// Whether what was read is all of the value: no operator goes on computing with it.
    fn ends(&self) -> bool {
        let rest = self.rest().trim_start();
        let operator = rest.starts_with([
            '+', '-', '*', '/', '%', '^', '.', '<', '>', '=', '~', '&', '|', ',', ':', '[', '(',
        ]);
        let word = |word: &str| {
            let more = |c: char| c.is_ascii_alphanumeric() || c == '_';
            rest.strip_prefix(word)
                .is_some_and(|rest| !rest.starts_with(more))
        };
        (!operator || rest.starts_with("--")) && !word("and") && !word("or")
    }

    fn skip_line(&mut self) {
        let end = self
            .rest()
            .find('\n')
            .map_or(self.text.len(), |n| self.at + n + 1);
        self.at = end;
    }

    /// Passes over lines until every bracket and block that they open is closed again.
    fn skip_statement(&mut self) -> Result<(), TextFault> {
        let mut open = 0i64;
        while let Some(c) = self.rest().chars().next() {
            let start = self.at;
            if c == '\n' && open <= 0 {
                break;
            } else if self.rest().starts_with("--") {
                self.at += 2;
                if self.long_text(start)?.is_none() {
                    let end = self.rest().find('\n').unwrap_or(self.rest().len());
                    self.at += end;
                }
            } else if matches!(c, '\'' | '"') {
                self.quoted(c)?;
            } else if self.long_text(start)?.is_some() {
            } else if let Some(word) = self.name() {
                open += match word {
                    "function" | "if" | "do" | "repeat" => 1,
                    "end" | "until" => -1,
                    _ => 0,
                };
            } else {
                self.at += c.len_utf8();
                open += match c {
                    '{' | '(' | '[' => 1,
                    '}' | ')' | ']' => -1,
                    _ => 0,
                };
            }
        }
        Ok(())
    }

    /// Passes over blanks, comments and `;`.
    fn blank(&mut self) -> Result<(), TextFault> {
        loop {
            let rest = self.rest();
            let trimmed = rest.trim_start_matches(|c: char| c.is_whitespace() || c == ';');
            self.at += rest.len() - trimmed.len();
            if !trimmed.starts_with("--") {
                return Ok(());
            }
            let start = self.at;
            self.at += 2;
            if self.long_text(start)?.is_none() {
                self.skip_line();
            }
        }
    }

    fn name(&mut self) -> Option<&'t str> {
        let rest = self.rest();
        let end = rest
            .find(|c: char| !(c.is_ascii_alphanumeric() || c == '_'))
            .unwrap_or(rest.len());
        let name = &rest[..end];
        let good = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_');
        good.then(|| {
            self.at += end;
            name
        })
    }

    /// A call or assignment of literals; none when it is something else.
    fn statement(&mut self) -> Result<Option<(String, Node)>, TextFault> {
        let Some(mut name) = self.name() else {
            return Ok(None);
        };
        self.blank()?;
        if name == "local" {
            match self.name() {
                Some(real) => name = real,
                None => return Ok(None),
            }
            self.blank()?;
        }
        if self.rest().starts_with('=') && !self.rest().starts_with("==") {
            self.at += 1;
            let value = self.literal(0)?.filter(|_| self.ends());
            return Ok(value.map(|value| (name.to_owned(), value)));
        }
        let mut values = Vec::new();
        loop {
            self.blank()?;
            let rest = self.rest();
            if rest.starts_with('(') {
                self.at += 1;
                while {
                    self.blank()?;
                    !self.take(")")
                } {
                    match self.literal(0)? {
                        Some(value) => values.push(value),
                        None => return Ok(None),
                    }
                    self.blank()?;
                    self.take(",");
                }
            } else if rest.starts_with(['\'', '"', '{']) || self.long_opening().is_some() {
                match self.literal(0)? {
                    Some(value) => values.push(value),
                    None => return Ok(None),
                }
            } else {
                break;
            }
        }
        Ok(match values.len() {
            _ if !self.ends() => None,
            0 => None,
            1 => values.pop().map(|value| (name.to_owned(), value)),
            _ => Some((name.to_owned(), Node::List(values))),
        })
    }

    /// A literal; none when something else stands there.
    fn literal(&mut self, depth: usize) -> Result<Option<Node>, TextFault> {
        self.blank()?;
        let start = self.at;
        if depth > DEEPEST {
            return Err(too_deep(Some(line_at(self.text, start))));
        }
        let rest = self.rest();
        match rest.chars().next() {
            Some(quote @ ('\'' | '"')) => self.quoted(quote).map(Node::Text).map(Some),
            Some('{') => self.table(depth),
            Some('[') => Ok(self.long_text(start)?.map(Node::Text)),
            Some(c) if c.is_ascii_digit() || "+-.".contains(c) => {
                let end = rest
                    .find(|c: char| !(c.is_ascii_alphanumeric() || "+-.".contains(c)))
                    .unwrap_or(rest.len());
                self.at += end;
                Ok(Some(Node::Text(rest[..end].to_owned())))
            }
            _ => match self.name() {
                Some(word @ ("true" | "false")) => Ok(Some(Node::Text(word.into()))),
                _ => Ok(None),
            },
        }
    }

    fn quoted(&mut self, quote: char) -> Result<String, TextFault> {
        let start = self.at;
        let mut text = String::new();
        let mut chars = self.rest().char_indices().skip(1);
        while let Some((index, c)) = chars.next() {
            match c {
                _ if c == quote => {
                    self.at = start + index + 1;
                    return Ok(text);
                }
                '\\' => match chars.next() {
                    Some((_, 'n')) => text.push('\n'),
                    Some((_, 't')) => text.push('\t'),
                    Some((_, other)) => text.push(other),
                    None => break,
                },
                '\n' => break,
                _ => text.push(c),
            }
        }
        Err(self.fault(start, "a text is not closed"))
    }

    /// The length of `[[` or `[==[` where one stands here, and how it is closed.
    fn long_opening(&self) -> Option<(usize, String)> {
        let inner = self.rest().strip_prefix('[')?;
        let level = inner.bytes().take_while(|byte| *byte == b'=').count();
        let opens = inner[level..].starts_with('[');
        opens.then(|| (level + 2, format!("]{}]", "=".repeat(level))))
    }

    fn long_text(&mut self, start: usize) -> Result<Option<String>, TextFault> {
        let Some((length, closing)) = self.long_opening() else {
            return Ok(None);
        };
        let inner = &self.rest()[length..];
        let Some(end) = inner.find(&closing) else {
            return Err(self.fault(start, "a long text or comment is not closed"));
        };
        self.at += length + end + closing.len();
        let text = &inner[..end];
        Ok(Some(text.strip_prefix('\n').unwrap_or(text).to_owned()))
    }

    /// A table; one with keys is a table, any other a list. What it computes is left out of it.
    fn table(&mut self, depth: usize) -> Result<Option<Node>, TextFault> {
        let start = self.at;
        self.at += 1;
        let mut items = Vec::new();
        let mut keyed = Table::new();
        loop {
            self.blank()?;
            while self.take(",") {
                self.blank()?;
            }
            if self.take("}") {
                break;
            }
            if self.rest().is_empty() {
                return Err(self.fault(start, "a table is not closed"));
            }
            let key = self.key()?;
            let value = self.literal(depth + 1)?;
            self.blank()?;
            if !self.rest().is_empty() && !self.rest().starts_with([',', ';', '}']) {
                return Ok(None);
            }
            match (key, value) {
                (Some(key), Some(value)) => {
                    keyed.insert(key, value);
                }
                (None, Some(value)) => items.push(value),
                (_, None) => return Ok(None),
            }
        }
        if keyed.is_empty() {
            return Ok(Some(Node::List(items)));
        }
        for (index, item) in items.into_iter().enumerate() {
            keyed.insert((index + 1).to_string(), item);
        }
        Ok(Some(Node::Table(keyed)))
    }

    /// `name =` or `['name'] =` where one stands here.
    fn key(&mut self) -> Result<Option<String>, TextFault> {
        let start = self.at;
        let mut key = None;
        if self.rest().starts_with('[') && self.long_opening().is_none() {
            self.at += 1;
            if let Some(Node::Text(text)) = self.literal(DEEPEST)? {
                self.blank()?;
                key = self.take("]").then_some(text);
            }
        } else {
            key = self.name().map(str::to_owned);
        }
        self.blank()?;
        if key.is_some() && self.rest().starts_with('=') && !self.rest().starts_with("==") {
            self.at += 1;
            return Ok(key);
        }
        self.at = start;
        Ok(None)
    }
}
