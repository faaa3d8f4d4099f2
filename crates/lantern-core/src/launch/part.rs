//! Commands that move out of a script into one of their own.

use super::{Command, Dialect, Script};
use std::collections::BTreeSet;

/// What becomes of a script.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parted {
    /// What stays: the same without the lines of those commands.
    pub stays: String,
    /// What moves, in the same words, below what it needs: the first line that names the interpreter, changes of folder, and
    /// variables that are set above.
    pub moves: String,
}

/// Moves commands out of a script; none where one of them shares its line with something else, or stands inside a branch, a
/// loop or a function, which would be left without it.
pub fn part(dialect: Dialect, text: &str, moving: &[&Command]) -> Option<Parted> {
    let script = Script::read(dialect, text);
    let lines: Vec<&str> = text.split_inclusive('\n').collect();
    let (mut moved, mut busy) = (BTreeSet::new(), BTreeSet::new());
    for command in &script.commands {
        let own = command.at().line..=command.ends;
        if moving.contains(&command) {
            moved.extend(own);
        } else {
            busy.extend(own);
        }
    }
    let begins_its_line = |command: &&&Command| {
        let at = command.at();
        let line = lines.get(at.line - 1).copied().unwrap_or_default();
        line.chars().take(at.column - 1).all(char::is_whitespace)
    };
    let are_apart = moved.is_disjoint(&busy) && moving.iter().all(|it| begins_its_line(&it));
    let are_bare = moving.iter().all(|command| !command.is_nested);
    let last = moved.last().copied().filter(|_| are_apart && are_bare)?;
    let prepares = |number: usize| {
        let mut at = script
            .commands
            .iter()
            .filter(|it| (it.at().line..=it.ends).contains(&number));
        at.all(|command| command.words[0].text.eq_ignore_ascii_case("cd"))
    };
    let is_quiet = |line: &str| {
        line.trim_start()
            .to_ascii_lowercase()
            .starts_with("@echo off")
    };
    let mut parted = Parted {
        stays: String::new(),
        moves: String::new(),
    };
    for (index, line) in lines.iter().enumerate() {
        let number = index + 1;
        if moved.contains(&number) {
            parted.moves.push_str(line);
            continue;
        }
        parted.stays.push_str(line);
        let is_first = number == 1 && (line.starts_with("#!") || is_quiet(line));
        let says = !line.trim().is_empty() && !super::is_comment(dialect, line);
        if is_first || number < last && says && prepares(number) {
            parted.moves.push_str(line);
        }
    }
    Some(parted)
}
