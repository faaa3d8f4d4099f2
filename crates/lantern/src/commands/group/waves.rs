//! Servers of a group that are worked at, several at once or one after another.

use crate::look::Look;
use crate::progress::{Progress, during};
use lantern_host::changeover::Event;
use lantern_host::config::Server;
use lantern_host::console::{Console, ServerState};
use lantern_host::group::Found;
use lantern_host::meeting::{Attends, Meeting};
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

/// Does something with the servers of a wave, so many at once; those that are down together wait for one another. What comes of each says whether it
/// succeeded.
pub fn work<J: Job, T: Send>(
    found: &Found,
    mut jobs: Vec<(usize, J)>,
    at_once: usize,
    look: &Look,
    does: impl Fn(&J, &mut dyn FnMut(Event)) -> (T, bool) + Sync,
) -> Vec<(usize, J, T)> {
    if jobs.len() == 1 {
        let each = jobs.into_iter().map(|(index, job)| {
            let mut progress = Progress::new(look);
            let (came, _) = does(&job, &mut |event| progress.show(event));
            (index, job, came)
        });
        return each.collect();
    }
    // Whoever presses the buttons has two hands.
    let by_hand = |(_, job): &mut (usize, J)| Console::of(job.server()).is_by_hand();
    let at_once = match jobs.iter_mut().any(by_hand) {
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
    let name = |index: usize| found.group.servers[index].at.as_str();
    let width = jobs.iter().map(|(index, _)| name(*index).len()).max();
    let width = width.unwrap_or(0);
    let words = format!("{} servers …", jobs.len());
    let (left, came) = (Mutex::new(jobs.into_iter()), Mutex::new(Vec::new()));
    let next = || left.lock().unwrap_or_else(PoisonError::into_inner).next();
    let in_turn = || {
        while let Some((index, mut job)) = next() {
            let mut attends = Attends::at(job.server().seat.clone());
            let mut progress = Progress::beside(look, &format!("{:<width$}", name(index)));
            let (done, succeeded) = does(&job, &mut |event| progress.show(event));
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

/// For how long the longest warns its players, of those that are up.
fn longest<J: Job>(jobs: &mut [(usize, J)]) -> Duration {
    let warns = jobs.iter_mut().filter_map(|(_, job)| {
        let server = job.server();
        let is_down = matches!(Console::of(server).state(), Ok(ServerState::Down));
        let longest = server.config.warn.at.iter().max().filter(|_| !is_down);
        longest.map(|longest| longest.0)
    });
    warns.max().unwrap_or_default()
}

/// Gives each server its place where they wait for one another.
fn sit_down<J: Job>(found: &Found, jobs: &mut [(usize, J)], at_once: usize) {
    let servers: Vec<usize> = jobs.iter().map(|(index, _)| *index).collect();
    let place = |index: &usize| servers.iter().position(|it| it == index);
    let after = found.group.after();
    let after = servers
        .iter()
        .map(|index| after[*index].iter().filter_map(place).collect());
    let names = servers
        .iter()
        .map(|index| found.group.servers[*index].at.clone());
    let meeting = Meeting::of(names.collect(), after.collect(), at_once, longest(jobs));
    for (who, (_, job)) in jobs.iter_mut().enumerate() {
        job.server().seat = Some(meeting.seat(who));
    }
}
