//! The commands of a start, in order, across all scripts that call one another.

use super::{At, Command, Cut, Dialect, Script, Word};
use crate::family;
use crate::family::Pattern;
use crate::path::RelPath;
use std::collections::{BTreeMap, BTreeSet};

/// What a command does, as far as a start goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Does {
    /// It starts the server.
    Starts,
    /// It puts the server program, or what belongs to it, in again.
    Updates,
    /// It runs another script of the folder, whose commands follow.
    Calls(RelPath),
    /// Something else.
    Other,
}

/// A command of a start.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// The script that it stands in; none for the family's own command line.
    pub script: Option<RelPath>,
    /// The command.
    pub command: Command,
    /// What it does.
    pub does: Does,
}

impl Step {
    /// Where it stands.
    pub fn at(&self) -> Option<(&RelPath, At)> {
        Some((self.script.as_ref()?, self.command.at()))
    }

    /// The program that it runs, and the words behind that: without what only prepares it.
    pub fn program(&self) -> (&Word, &[Word]) {
        let words = &self.command.words;
        let at = run(words);
        (&words[at], &words[at + 1..])
    }
}

/// All that happens when a server is started.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Flow {
    /// The commands, in order.
    pub steps: Vec<Step>,
    /// Where commands are cut off, by script.
    pub cuts: Vec<(RelPath, Cut)>,
    /// Commands of other scripts that start the same program: further servers of one install.
    pub others: Vec<Step>,
}

/// What only prepares a command that follows in the same words.
const PREPARES: [&str; 11] = [
    "exec", "nohup", "nice", "ionice", "env", "command", "time", "setsid", "call", "start",
    "stdbuf",
];

/// What runs a script that is named next.
const INTERPRETERS: [&str; 8] = ["sh", "bash", "dash", "ash", "zsh", "ksh", ".", "source"];

/// What starts no server, whatever else it is told.
const NO_PROGRAM: [&str; 52] = [
    "cat", "chmod", "chown", "copy", "cp", "date", "del", "dir", "du", "export", "file", "find",
    "grep", "gzip", "kill", "ln", "ls", "mv", "pgrep", "pkill", "ps", "rm", "ss", "stat", "tail",
    "tee", "touch", "which", "echo", "printf", "cd", "sleep", "set", "shift", "test", "[", "[[",
    "true", "false", "exit", "return", "read", "trap", "umask", "ulimit", "pause", "title",
    "setlocal", "goto", "timeout", "mkdir", "break",
];

fn bare_name(word: &str) -> String {
    let name = word.rsplit(['/', '\\']).next().unwrap_or(word);
    let name = name.to_ascii_lowercase();
    name.strip_suffix(".exe").unwrap_or(&name).to_owned()
}

/// Which word of a command is its program.
fn program(words: &[Word]) -> usize {
    let mut at = 0;
    let mut prepared = false;
    while at + 1 < words.len() {
        let text = &words[at].text;
        let is_option =
            prepared && (text.starts_with('-') || text.starts_with('/') && text.len() <= 5);
        let is_setting = prepared && text.contains('=') && !text.contains('/');
        let is_value = prepared && text.chars().all(|c| c.is_ascii_digit());
        let is_title = prepared && (text.is_empty() || text.contains(' '));
        match PREPARES.contains(&bare_name(text).as_str()) {
            true => prepared = true,
            false if is_option || is_setting || is_value || is_title => {}
            false => break,
        }
        at += 1;
    }
    at
}

/// Which word of a command is its program, or the script that an interpreter runs.
fn run(words: &[Word]) -> usize {
    let at = program(words);
    let is_option = |word: &&Word| word.text.starts_with('-');
    if !INTERPRETERS.contains(&bare_name(&words[at].text).as_str()) {
        return at;
    }
    let named = at + 1 + words[at + 1..].iter().take_while(is_option).count();
    if named < words.len() { named } else { at }
}

/// Whether a command only looks whether there is such a program.
fn is_look(command: &Command) -> bool {
    let words = &command.words;
    let option = words.get(1).filter(|word| word.text.starts_with('-'));
    words[0].text == "command" && option.is_some()
}

/// Whether a command only looks at what it names, or does something else that starts nothing.
fn starts_nothing(command: &Command) -> bool {
    let words = &command.words;
    is_look(command) || NO_PROGRAM.contains(&bare_name(&words[program(words)].text).as_str())
}

/// Words that stand in no text.
fn bare_words(texts: &[String]) -> Vec<Word> {
    let words = texts.iter().map(|text| Word {
        text: text.clone(),
        is_known: true,
        at: At { line: 1, column: 1 },
    });
    words.collect()
}

impl Flow {
    /// Follows a start from the family's command line through the scripts whose texts are at hand.
    ///
    /// `recipe` is the command line that makes the server program, where there is one.
    pub fn of(rule: &family::Launch, recipe: &[String], texts: &BTreeMap<RelPath, &str>) -> Flow {
        let command = Command {
            words: bare_words(&rule.command),
            ends: 1,
            is_nested: false,
        };
        let made_by = bare_words(recipe);
        let made_by = (!made_by.is_empty()).then(|| bare_name(&made_by[run(&made_by)].text));
        let mut flow = Flow::default();
        let mut follower = Follower {
            rule,
            recipe: made_by,
            texts,
            open: BTreeSet::new(),
            seen: BTreeSet::new(),
        };
        follower.step(None, "", command, &mut flow);
        let seen = follower.seen;
        // Where the family does not say which it is, it is the last that runs a program.
        if rule.starts.is_none() && flow.start().is_none() {
            let last = flow
                .steps
                .iter_mut()
                .rev()
                .find(|step| step.does == Does::Other && !starts_nothing(&step.command));
            if let Some(last) = last {
                last.does = Does::Starts;
            }
        }
        let started = flow.start().map(|step| bare_name(&step.program().0.text));
        for (path, text) in texts.iter().filter(|(path, _)| !seen.contains(*path)) {
            for command in Script::read(Dialect::of(path), text).commands {
                let text = command.text();
                let is_same = match &rule.starts {
                    _ if starts_nothing(&command) => false,
                    Some(starts) => starts.regex().is_match(&text),
                    None => started == Some(bare_name(&command.words[run(&command.words)].text)),
                };
                if is_same {
                    flow.others.push(Step {
                        script: Some(path.clone()),
                        command,
                        does: Does::Starts,
                    });
                }
            }
        }
        flow
    }

    /// The command that starts the server.
    pub fn start(&self) -> Option<&Step> {
        self.steps.iter().find(|step| step.does == Does::Starts)
    }

    /// What a pattern finds as its group `value` in the commands of a script, variables filled in; with the line it stands in.
    /// None where nothing is found, or it is not known what that comes to.
    pub fn value(&self, script: &RelPath, pattern: &Pattern) -> Option<(String, usize)> {
        let own = self
            .steps
            .iter()
            .filter(|step| step.script.as_ref() == Some(script));
        own.filter_map(|step| {
            let text = step.command.text();
            let value = pattern.capture("value", &text)?.to_owned();
            let words = &step.command.words;
            let word = words.iter().rfind(|word| word.text.contains(&value));
            let word = word.unwrap_or(&words[0]);
            word.is_known.then_some((value, word.at.line))
        })
        .next()
    }

    /// The commands before the start that put in again what an update has exchanged.
    pub fn updates(&self) -> impl Iterator<Item = &Step> {
        let before = self
            .steps
            .iter()
            .take_while(|step| step.does != Does::Starts);
        before.filter(|step| step.does == Does::Updates)
    }
}

struct Follower<'a> {
    rule: &'a family::Launch,
    recipe: Option<String>,
    texts: &'a BTreeMap<RelPath, &'a str>,
    /// The scripts that are being followed: one that calls itself is not followed again.
    open: BTreeSet<RelPath>,
    /// All that were followed.
    seen: BTreeSet<RelPath>,
}

impl Follower<'_> {
    fn step(&mut self, script: Option<&RelPath>, folder: &str, command: Command, flow: &mut Flow) {
        let text = command.text();
        let matches = |pattern: &Pattern| pattern.regex().is_match(&text);
        let name = bare_name(&command.words[run(&command.words)].text);
        let mut does = Does::Other;
        if is_look(&command) {
            // What it names is only looked for.
        } else if !starts_nothing(&command) && self.rule.starts.as_ref().is_some_and(matches) {
            does = Does::Starts;
        } else if self.rule.updates.iter().any(matches) || self.recipe.as_ref() == Some(&name) {
            does = Does::Updates;
        } else if let Some(called) = self.called(folder, &command) {
            does = Does::Calls(called);
        }
        let calls = match &does {
            Does::Calls(path) => Some(path.clone()),
            _ => None,
        };
        flow.steps.push(Step {
            script: script.cloned(),
            command,
            does,
        });
        if let Some(path) = calls {
            self.script(&path, folder, flow);
        }
    }

    fn script(&mut self, path: &RelPath, folder: &str, flow: &mut Flow) {
        let Some(text) = self
            .texts
            .get(path)
            .filter(|_| self.open.insert(path.clone()))
        else {
            return;
        };
        self.seen.insert(path.clone());
        let read = Script::read(Dialect::of(path), text);
        flow.cuts
            .extend(read.cuts.into_iter().map(|cut| (path.clone(), cut)));
        let mut folder = folder.to_owned();
        for command in read.commands {
            if bare_name(&command.words[0].text) == "cd" {
                let to = command
                    .words
                    .iter()
                    .skip(1)
                    .find(|word| !word.text.starts_with(['-', '/']));
                if let Some(to) = to.filter(|to| to.is_known) {
                    folder = joined(&folder, &to.text);
                }
            }
            self.step(Some(path), &folder, command, flow);
        }
        self.open.remove(path);
    }

    /// The script of the folder that a command runs.
    fn called(&self, folder: &str, command: &Command) -> Option<RelPath> {
        let at = program(&command.words);
        let first = &command.words[at];
        let named = match INTERPRETERS.contains(&bare_name(&first.text).as_str()) {
            true => command.words[at + 1..]
                .iter()
                .find(|word| !word.text.starts_with('-'))?,
            false => first,
        };
        let path = RelPath::parse(&joined(folder, &named.text)).ok()?;
        self.texts.contains_key(&path).then_some(path)
    }
}

/// A path as it is written in a folder of the server folder.
fn joined(folder: &str, path: &str) -> String {
    let path = path.replace('\\', "/");
    let whole = match path.starts_with('/') || folder.is_empty() {
        true => path,
        false => format!("{folder}/{path}"),
    };
    let mut names: Vec<&str> = Vec::new();
    for name in whole.split('/') {
        match name {
            "." | "" if !names.is_empty() || name == "." => {}
            ".." if names.last().is_some_and(|last| !last.is_empty()) => {
                names.pop();
            }
            name => names.push(name),
        }
    }
    names.join("/")
}
