//! What a start script does, before it is run: its commands in order, which of them starts the server, and where it is cut off.
//!
//! A script is read as far as one that starts a server goes: words, quotes, continuation marks, comments, variables that are
//! set above, calls of other scripts. What is computed stays unknown; nothing is ever run. Shell and batch each have a file
//! of their own.

mod batch;
mod cut;
mod model;
mod part;
mod several;
mod shell;

pub use cut::{Cut, CutKind, mended};
pub use model::{Does, Flow, Step};
pub use part::{Parted, part};
pub use several::{Drafted, several};

use crate::path::RelPath;

/// The language of a script.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dialect {
    /// A shell of the POSIX kind.
    Shell,
    /// Batch files.
    Batch,
}

impl Dialect {
    /// That of a file, by its name.
    pub fn of(path: &RelPath) -> Dialect {
        let name = path.name().to_ascii_lowercase();
        match name.ends_with(".bat") || name.ends_with(".cmd") {
            true => Dialect::Batch,
            false => Dialect::Shell,
        }
    }
}

/// Whether a file is a script, by the end of its name.
pub fn is_script_by_name(path: &str) -> bool {
    let ends = [".sh", ".bash", ".bat", ".cmd"];
    let path = path.to_ascii_lowercase();
    ends.iter().any(|end| path.ends_with(end))
}

/// Whether a line is a comment and nothing else.
fn is_comment(dialect: Dialect, line: &str) -> bool {
    match dialect {
        Dialect::Shell => shell::is_comment(line),
        Dialect::Batch => batch::is_comment(line),
    }
}

/// A place in a text: line and column, both from 1; a column is a character.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct At {
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

/// A word of a command.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Word {
    /// What it comes to, variables that are set above filled in; as it stands there where that is not known.
    pub text: String,
    /// Whether it is known what it comes to.
    pub is_known: bool,
    /// Where it begins.
    pub at: At,
}

/// A command.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Command {
    /// Its words, at least one.
    pub words: Vec<Word>,
    /// The line in which it ends, from 1.
    pub ends: usize,
    /// Whether it stands inside a branch, a loop or a function.
    pub is_nested: bool,
}

impl Command {
    /// The words with a blank between each.
    pub fn text(&self) -> String {
        let words: Vec<&str> = self.words.iter().map(|word| word.text.as_str()).collect();
        words.join(" ")
    }

    /// Where it begins.
    pub fn at(&self) -> At {
        self.words[0].at
    }
}

/// What a script says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Script {
    /// Its commands, from top to bottom; those of branches and loops among them.
    pub commands: Vec<Command>,
    /// Where commands are cut off.
    pub cuts: Vec<Cut>,
}

impl Script {
    /// Reads a script.
    pub fn read(dialect: Dialect, text: &str) -> Script {
        match dialect {
            Dialect::Shell => shell::read(text),
            Dialect::Batch => batch::read(text),
        }
    }
}

#[cfg(test)]
mod tests;
