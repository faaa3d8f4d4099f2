//! One lantern at a time in one folder.

use crate::backup;
use crate::config::Server;
use crate::error::{Error, Result};
use crate::folder::{Folder, own};
use crate::place::Held;
use crate::runner::somebody;
use lantern_core::path::RelPath;
use std::sync::OnceLock;
use std::time::Duration;

/// Held while lantern works in a folder. The system frees it when the process ends, however it does.
#[derive(Debug)]
pub struct Lock {
    _held: Vec<Box<dyn Held>>,
}

impl Lock {
    /// Takes the lock; `doing` tells others what this lantern does.
    ///
    /// # Errors
    /// When another lantern holds it.
    pub fn take(folder: &Folder, doing: &str) -> Result<Lock> {
        let held = hold(folder, &folder.make_own("")?, doing)?;
        Ok(Lock { _held: vec![held] })
    }

    /// Takes the lock of the server's room in a shared store of backups, too: a server folder that several machines see may
    /// be worked in from each. A store that is not there now is not locked, and its use is an error of its own.
    ///
    /// # Errors
    /// When another lantern holds it.
    pub fn with_store(mut self, server: &Server, doing: &str) -> Result<Lock> {
        if let Ok(Some((folder, room))) = backup::lock_room(server) {
            self._held.push(hold(&folder, &room, doing)?);
        }
        Ok(self)
    }
}

/// Who works in a folder now, in words; none where nobody does.
///
/// # Errors
/// When that cannot be seen.
pub fn holder(folder: &Folder) -> Result<Option<String>> {
    folder.locked_by(&own("lock"))
}

/// For whom this lantern works.
static FOR: OnceLock<String> = OnceLock::new();

/// This lantern works for somebody on another machine, by these words.
pub(crate) fn works_for(who: &str) {
    let who: String = who
        .chars()
        .filter(|sign| !sign.is_control())
        .take(MOST_WORDS)
        .collect();
    let _ = FOR.set(who);
}

fn for_whom() -> String {
    match FOR.get() {
        Some(who) => format!(", {who}, since {}", now()),
        None => String::new(),
    }
}

/// How often a lock that somebody has is tried again, and how long is waited before: who only looks whether it is taken has
/// it for a moment.
const TRIES: u32 = 5;
const PAUSE: Duration = Duration::from_millis(30);
/// So much of what somebody says of himself is written down, in characters.
const MOST_WORDS: usize = 200;

fn hold(folder: &Folder, room: &RelPath, doing: &str) -> Result<Box<dyn Held>> {
    let path = room.join("lock")?;
    let words = format!(
        "lantern {doing}, process {}{}\n",
        std::process::id(),
        for_whom()
    );
    let mut tries = 1;
    loop {
        match folder.lock(&path, &words)? {
            Ok(held) => return Ok(held),
            Err(who) if tries == TRIES => return Err(Error::Busy { who }),
            Err(_) => std::thread::sleep(PAUSE),
        }
        tries += 1;
    }
}

/// Who works in a folder on another machine now, from a third machine, in words; none where nobody does.
///
/// # Errors
/// When that cannot be seen.
pub fn holder_there(server: &Server) -> Result<Option<String>> {
    let words = match server.folder.is_far() {
        true => server.folder.locked_by(&own(AT_WORK))?,
        false => None,
    };
    // What this machine has left behind there is told by its journal here.
    let words = words.map(|words| Words::read(&words));
    let others = words.filter(|words| words.mark != server.config.id);
    Ok(others.map(|words| words.who))
}

/// Keeps others out of a server folder on another machine, from whichever machine they come; nothing to be held where it lies here.
///
/// Whoever was cut off leaves that behind; where it was this machine, it is taken over.
///
/// # Errors
/// [`Error::BusyThere`] when another machine works there.
pub fn there(server: &Server, doing: &str) -> Result<Option<Box<dyn Held>>> {
    let folder = &server.folder;
    if !folder.is_far() {
        return Ok(None);
    }
    let mark = server.config.id.clone();
    let words = Words {
        who: format!("lantern {doing}, {}, since {}", somebody(), now()),
        mark: mark.clone(),
    };
    let at_work = own(AT_WORK);
    folder.make_folders(&own("staging"))?;
    let mut taken = folder.lock(&at_work, &words.written())?;
    if taken
        .as_ref()
        .is_err_and(|left| Words::read(left).mark.is_empty())
    {
        // Somebody is writing it just now, or was cut off as he did.
        std::thread::sleep(PAUSE * 50);
        taken = folder.lock(&at_work, &words.written())?;
    }
    match taken {
        Ok(held) => Ok(Some(held)),
        Err(left) if [&*mark, ""].contains(&&*Words::read(&left).mark) => {
            folder.remove_file(&at_work)?;
            match folder.lock(&at_work, &words.written())? {
                Ok(held) => Ok(Some(held)),
                Err(who) => Err(busy(&who)),
            }
        }
        Err(who) => Err(busy(&who)),
    }
}

fn busy(words: &str) -> Error {
    Error::BusyThere {
        who: Words::read(words).who,
    }
}

/// Removes what another machine has left behind; who it was.
///
/// # Errors
/// When it cannot be removed.
pub fn take_over(server: &Server) -> Result<Option<String>> {
    let who = holder_there(server)?;
    if who.is_some() {
        server.folder.remove_file(&own(AT_WORK))?;
    }
    Ok(who)
}

/// The file that says who is at work, beside a server's files on another machine.
const AT_WORK: &str = "at-work";

/// What stands in it: who it is, in words, and the mark of the adoption by which he came there.
struct Words {
    who: String,
    mark: String,
}

impl Words {
    fn read(text: &str) -> Words {
        let mut lines = text.lines();
        let mut next = || lines.next().unwrap_or_default().trim().to_owned();
        Words {
            who: next(),
            mark: next(),
        }
    }

    fn written(&self) -> String {
        format!("{}\n{}\n", self.who, self.mark)
    }
}

fn now() -> String {
    jiff::Zoned::now().strftime("%Y-%m-%d %H:%M %Z").to_string()
}
