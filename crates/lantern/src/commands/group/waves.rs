//! Servers of a group that are worked at, several at once or one after another.

use crate::common::Common;
use crate::fail;
use crate::look::Look;
use crate::progress::{Progress, above, during};
use lantern_host::changeover::Event;
use lantern_host::config::Server;
use lantern_host::console::{Console, ServerState};
use lantern_host::group::Found;
use lantern_host::meeting::{Attends, Meeting, Proxy, Seat};
use lantern_host::session::lines::Asked;
use lantern_host::session::{Errand, Hears, Session, There, Told};
use lantern_host::{Error, Result};
use std::collections::BTreeSet;
use std::num::NonZeroUsize;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// Which servers are worked at at once, wave by wave; backwards, those that come up last are the first.
pub fn waves(
    found: &Found,
    servers: &BTreeSet<usize>,
    at_once: usize,
    backwards: bool,
) -> Vec<Vec<usize>> {
    let mut waves = match found.group.together {
        true if servers.is_empty() => Vec::new(),
        true => vec![servers.iter().copied().collect()],
        false => found.group.waves(servers, at_once),
    };
    if backwards {
        waves.reverse();
        waves.iter_mut().for_each(|wave| wave.reverse());
    }
    waves
}

/// So many are worked at at once: as was said now, or in the group's file; otherwise all that are down together, or one.
pub fn at_once(found: &Found, said: Option<NonZeroUsize>) -> usize {
    let said = said.or(found.group.at_once);
    match said {
        Some(many) => many.get(),
        None if found.group.together => usize::MAX,
        None => 1,
    }
}

/// Something to be done with a server of a group.
pub trait Job: Send {
    /// The server.
    fn server(&mut self) -> &mut Server;
}

/// For how long it warns players; nothing where it is down.
pub fn warns(job: &mut impl Job) -> Duration {
    let server = job.server();
    let is_down = matches!(Console::of(server).state(), Ok(ServerState::Down));
    let longest = server.config.warn.at.iter().max().filter(|_| !is_down);
    longest.map_or(Duration::ZERO, |longest| longest.0)
}

/// Something to be done with a server of a group, here or by a lantern on another machine.
pub enum Work<J> {
    /// Here.
    Here(J),
    /// There.
    There(Theirs),
}

/// Something to be done by a lantern on another machine.
pub struct Theirs {
    /// Where.
    pub there: There,
    /// For how long it warns players there.
    pub warns: Duration,
    /// Of servers that are down together, who speaks for it.
    proxy: Option<Proxy>,
    /// For how long the longest of them warns.
    longest: Duration,
}

impl Theirs {
    /// Of what is known of it.
    pub fn new(there: &There, warns_ms: u64) -> Theirs {
        Theirs {
            there: there.clone(),
            warns: Duration::from_millis(warns_ms),
            proxy: None,
            longest: Duration::ZERO,
        }
    }

    /// For how long the longest of those warns that are down together, in milliseconds; none where it moves by itself.
    pub fn together_ms(&self) -> Option<u64> {
        self.proxy.as_ref()?;
        Some(self.longest.as_millis() as u64)
    }

    /// Has it done there.
    ///
    /// # Errors
    /// What it fails of there, or that the session breaks.
    pub fn ask<E: Errand>(
        &self,
        errand: &E,
        name: Option<&str>,
        look: &Look,
        tell: &mut dyn FnMut(Event),
    ) -> Result<E::Came> {
        let mut ear = Ear {
            name,
            look,
            tell,
            proxy: self.proxy.as_ref(),
            waits: false,
        };
        Session::open(&self.there)?.ask(errand, &mut ear)
    }
}

/// Hears what is told of a server there.
struct Ear<'e> {
    /// Of several at once, what it is called.
    name: Option<&'e str>,
    look: &'e Look,
    tell: &'e mut dyn FnMut(Event),
    proxy: Option<&'e Proxy>,
    /// Whether it waits at a gate.
    waits: bool,
}

impl Hears for Ear<'_> {
    fn told(&mut self, told: Told) {
        match told {
            Told::Talk(text) => tell_of(self.name, &text, self.look),
            Told::Event(event) => (self.tell)(event),
            Told::Arrives(gate) => {
                if let Some(proxy) = self.proxy {
                    proxy.arrives(gate);
                    self.waits = true;
                }
            }
            Told::Fails => {
                if let Some(proxy) = self.proxy {
                    proxy.seat().fails();
                }
            }
        }
    }

    fn wants_to_say(&mut self) -> Option<Asked> {
        let passes = self.proxy.filter(|_| self.waits)?.passes()?;
        self.waits = false;
        Some(match passes {
            Ok(()) => Asked::Passes,
            Err(other) => Asked::TurnsBack(other),
        })
    }
}

/// Says what a lantern there says of a server: of one of several with its name.
fn tell_of(name: Option<&str>, text: &str, look: &Look) {
    for line in text.lines().filter(|line| !line.trim().is_empty()) {
        let line = line.trim_end();
        above(|| match name {
            Some(name) => look.talk(&format!("  {name}  {}", line.trim_start())),
            None => look.talk(line),
        });
    }
}

/// Tells an error of one server of a group.
pub fn tell_of_one(
    found: &Found,
    index: usize,
    error: &Error,
    common: &Common,
    inner: &Look,
) -> u8 {
    match found.members[index].here() {
        Ok(folder) => fail::tell(error, &common.of(folder), inner),
        Err(_) => fail::tell(error, common, inner),
    }
}

/// Of a group there is one answer: what each server's own operation comes to is talk.
pub fn for_each(look: &Look) -> Look {
    match look.json {
        true => look.onto_page(),
        false => look.clone(),
    }
}

impl<J: Job> Work<J> {
    /// Whether a person has to stop and start it.
    fn is_by_hand(&mut self) -> bool {
        match self {
            Work::Here(job) => Console::of(job.server()).is_by_hand(),
            Work::There(_) => false,
        }
    }

    fn warns(&mut self) -> Duration {
        match self {
            Work::Here(job) => warns(job),
            Work::There(theirs) => theirs.warns,
        }
    }

    fn seat(&mut self) -> Option<Seat> {
        match self {
            Work::Here(job) => job.server().seat.clone(),
            Work::There(theirs) => theirs.proxy.as_ref().map(Proxy::seat),
        }
    }
}

/// Does something with the servers of a wave, so many at once; those that are down together wait for one another. What comes of each says whether it
/// succeeded.
pub fn work<J: Job, T: Send>(
    found: &Found,
    mut jobs: Vec<(usize, Work<J>)>,
    at_once: usize,
    look: &Look,
    does: impl Fn(usize, &Work<J>, &mut dyn FnMut(Event)) -> (T, bool) + Sync,
) -> Vec<(usize, Work<J>, T)> {
    if jobs.len() == 1 {
        let each = jobs.into_iter().map(|(index, job)| {
            let mut progress = Progress::new(look);
            let (came, _) = does(index, &job, &mut |event| progress.show(event));
            (index, job, came)
        });
        return each.collect();
    }
    // Whoever presses the buttons has two hands.
    let at_once = match jobs.iter_mut().any(|(_, job)| job.is_by_hand()) {
        true => 1,
        false => at_once.min(jobs.len()),
    };
    let threads = match found.group.together {
        true => jobs.len(),
        false => at_once,
    };
    if found.group.together {
        sit_down(found, &mut jobs, at_once);
    }
    let name = |index: usize| found.group.servers[index].called();
    let width = jobs.iter().map(|(index, _)| name(*index).len()).max();
    let width = width.unwrap_or(0);
    let words = format!("{} servers …", jobs.len());
    let (left, came) = (Mutex::new(jobs.into_iter()), Mutex::new(Vec::new()));
    let next = || left.lock().unwrap_or_else(PoisonError::into_inner).next();
    let in_turn = || {
        while let Some((index, mut job)) = next() {
            let mut attends = Attends::at(job.seat());
            let mut progress = Progress::beside(look, &format!("{:<width$}", name(index)));
            let (done, succeeded) = does(index, &job, &mut |event| progress.show(event));
            attends.succeeded = succeeded;
            drop(attends);
            let mut came = came.lock().unwrap_or_else(PoisonError::into_inner);
            came.push((index, job, done));
        }
    };
    during(&words, || {
        std::thread::scope(|scope| (0..threads).for_each(|_| drop(scope.spawn(in_turn))));
    });
    let mut came = came.into_inner().unwrap_or_else(PoisonError::into_inner);
    came.sort_by_key(|(index, ..)| *index);
    came
}

/// Gives each server its place where they wait for one another.
fn sit_down<J: Job>(found: &Found, jobs: &mut [(usize, Work<J>)], at_once: usize) {
    let servers: Vec<usize> = jobs.iter().map(|(index, _)| *index).collect();
    let place = |index: &usize| servers.iter().position(|it| it == index);
    let after = found.group.after();
    let after = servers
        .iter()
        .map(|index| after[*index].iter().filter_map(place).collect());
    let names = servers
        .iter()
        .map(|index| found.group.servers[*index].called().to_owned());
    let longest = jobs.iter_mut().map(|(_, job)| job.warns()).max();
    let longest = longest.unwrap_or_default();
    let meeting = Meeting::of(names.collect(), after.collect(), at_once, longest);
    for (who, (_, job)) in jobs.iter_mut().enumerate() {
        match job {
            Work::Here(job) => job.server().seat = Some(meeting.seat(who)),
            Work::There(theirs) => {
                theirs.proxy = Some(meeting.proxy(who));
                theirs.longest = longest;
            }
        }
    }
}
