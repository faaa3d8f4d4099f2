//! Typing lines into a console, and reading what it answers.

use super::printed::Printed;
use super::remote::Session;
use super::{ANSWER, Console, LOOK};
use crate::config::LineWay;
use crate::console::fault::ConsoleFault;
use crate::error::{At, Result};
use lantern_core::family::Ending;
use std::path::Path;
use std::thread::sleep;
use std::time::{Duration, Instant};

/// After so long without a line, an answer of no stated end is taken as whole.
const QUIET: Duration = Duration::from_millis(700);

impl Console<'_> {
    /// Types a line into the console.
    ///
    /// # Errors
    /// When the console cannot be reached.
    pub fn send(&self, line: &str) -> Result<()> {
        let line: String = line.chars().filter(|c| !c.is_control()).collect();
        let root = self.server.folder.root();
        let is_far = self.server.folder.is_far();
        match &self.server.config.console.line {
            None | Some(LineWay::Pipe(_)) if is_far => Err(ConsoleFault::NoLine.into()),
            None => self.write_line(&self.input(), &line),
            Some(LineWay::Pipe(pipe)) => self.write_line(&root.join(pipe), &line),
            Some(LineWay::Command(words)) => {
                let words: Vec<String> = words.iter().map(|w| w.replace("{line}", &line)).collect();
                self.obey(&words, ANSWER)
            }
            Some(LineWay::Remote(remote)) => Session::open(remote, root)?.tell(&line),
        }
    }

    /// Types a line into the console and returns the lines of its answer, up to its end; where none is stated, until nothing
    /// more comes.
    ///
    /// # Errors
    /// When the console cannot be reached, or the end does not come.
    pub fn ask(&self, line: &str, mut end: Option<Ending<'_>>) -> Result<Vec<String>> {
        if !self.can_be_asked() {
            return Err(ConsoleFault::NoLine.into());
        }
        if let Some(LineWay::Remote(remote)) = &self.server.config.console.line {
            return Session::open(remote, self.server.folder.root())?.ask(line, end.as_ref());
        }
        let mut printed = Printed::from_end(self.log());
        self.send(line)?;
        let deadline = Instant::now() + ANSWER;
        let mut last = Instant::now();
        let mut answer = Vec::new();
        loop {
            for line in printed.lines()? {
                last = Instant::now();
                let ends = end.as_mut().is_some_and(|end| end.is_at(&line));
                answer.push(line);
                if ends {
                    return Ok(answer);
                }
            }
            if end.is_none() && last.elapsed() > QUIET {
                return Ok(answer);
            }
            if Instant::now() > deadline {
                return Err(ConsoleFault::NoAnswer { line: line.into() }.into());
            }
            sleep(LOOK);
        }
    }

    /// Tells the players something, where the family has a command for it; says whether it has.
    ///
    /// # Errors
    /// As [`Console::send`].
    pub fn say(&self, text: &str) -> Result<bool> {
        let typed = self.server.config.console.line.is_some() || !self.server.folder.is_far();
        match self.server.family.console.say.as_ref().filter(|_| typed) {
            Some(command) => self.send(&command.replace("{text}", text)).map(|()| true),
            None => Ok(false),
        }
    }

    /// The players who are on; none where the family knows no way to tell.
    ///
    /// # Errors
    /// When the console does not answer.
    pub fn players(&self) -> Result<Option<Vec<String>>> {
        let Some(list) = &self.server.family.console.players else {
            return Ok(None);
        };
        let answer = self.ask(&list.ask, Some(list.ending()))?;
        let named = answer.iter().flat_map(|line| list.naming.named(line));
        Ok(Some(named.map(|it| it.id.to_owned()).collect()))
    }

    /// Makes sure that the console can be reached, as far as that can be told without typing into it.
    ///
    /// # Errors
    /// When it cannot.
    pub fn probe(&self) -> Result<()> {
        match &self.server.config.console.line {
            Some(LineWay::Remote(remote)) => {
                Session::open(remote, self.server.folder.root()).map(|_| ())
            }
            Some(LineWay::Pipe(pipe)) => {
                let pipe = self.server.folder.root().join(pipe);
                self.runner()
                    .has_reader(&pipe)
                    .at("opening the console", &pipe)
            }
            Some(LineWay::Command(_)) | None => Ok(()),
        }
    }

    fn write_line(&self, pipe: &Path, line: &str) -> Result<()> {
        let written = self.runner().write_line(pipe, line);
        written.at("writing to the console", pipe)
    }
}
