//! What was carried out for a group, taken back: by `group undo`, and where it went wrong at one of them.

use super::names;
use super::there::{CameBack, PrepareBack, TakeBack, asks_of_the_world};
use super::waves::{Theirs, Work, for_each, tell_of_one, waves, work};
use crate::answers::group::GroupBecame;
use crate::commands::undo::{self, UndoArgs};
use crate::common::Common;
use crate::look::{Look, Means};
use lantern_host::changeover::{Event, Undone};
use lantern_host::group::{Found, Member, Standing};
use lantern_host::ledger::Ledger;
use lantern_host::{Error, Result};

/// Takes back what was carried out, those that come up last first; what is wished of the world is `how`'s. Says whether one was
/// refused as nothing is wished, and somebody has been on.
pub fn take_back(
    found: &Found,
    each: &mut [(GroupBecame, Option<String>)],
    how: &UndoArgs,
    at_once: usize,
    common: &Common,
    look: &Look,
) -> bool {
    let mut asks = false;
    let done = each.iter().enumerate();
    let done = done.filter(|(_, it)| matches!(it.0, GroupBecame::Done | GroupBecame::DoneBefore));
    let done = done.map(|(index, _)| index).collect();
    let inner = for_each(look);
    for wave in waves(found, &done, at_once, true) {
        let title = format!("\n{}: back", names(found, &wave));
        look.talk(&look.paint_error(Means::Title, &title));
        let mut jobs = Vec::new();
        let mut stays = None;
        for index in &wave {
            match ready_to_go_back(found, *index, how, common, &inner) {
                Ok(job) => jobs.push((*index, job)),
                Err(error) => stays = Some((*index, error)),
            }
        }
        if let Some((index, error)) = stays {
            // None of them is begun: they are down together, or not at all.
            asks |= asks_of_the_world(&error);
            tell_of_one(found, index, &error, common, &inner);
            for it in &wave {
                each[*it] = (GroupBecame::Stays, None);
            }
            each[index].1 = Some(error.to_string());
            continue;
        }
        let works = |index: usize, job: &Work<undo::Job>, tell: &mut dyn FnMut(Event)| {
            let came = match job {
                Work::Here(job) => Back::Here(job.work(tell)),
                Work::There(theirs) => {
                    let take_back = TakeBack {
                        how: how.clone(),
                        together_ms: theirs.together_ms(),
                    };
                    let name = found.group.servers[index].called();
                    let name = Some(name).filter(|_| wave.len() > 1);
                    Back::There(theirs.ask(&take_back, name, &inner, tell))
                }
            };
            let succeeded = matches!(came, Back::Here(Ok(_)) | Back::There(Ok(CameBack::Back)));
            (came, succeeded)
        };
        for (index, job, came) in work(found, jobs, at_once, &inner, works) {
            let error = match (job, came) {
                (Work::Here(job), Back::Here(Ok((ledger, undone)))) => {
                    job.settle(&ledger, &undone, &inner);
                    if wave.len() == 1
                        && let Ok(folder) = found.members[index].here()
                    {
                        undo::show(&undone, &common.of(folder), &inner);
                    }
                    None
                }
                (_, Back::There(Ok(CameBack::Back))) => None,
                (_, Back::There(Ok(CameBack::AsksOfTheWorld(why)))) => {
                    asks = true;
                    each[index] = (GroupBecame::Stays, Some(why));
                    continue;
                }
                // What was begun goes on there, also where nobody hears of it.
                (_, Back::There(Err(error @ Error::Session { .. }))) => {
                    match found.found_again(index) {
                        Ok(Standing::Back(_)) => None,
                        _ => Some(error),
                    }
                }
                (_, Back::Here(Err(error)) | Back::There(Err(error))) => Some(error),
                (Work::There(_), Back::Here(Ok(_))) => continue,
            };
            each[index] = match error {
                None => (GroupBecame::TakenBack, None),
                Some(error) => {
                    asks |= asks_of_the_world(&error);
                    tell_of_one(found, index, &error, common, &inner);
                    (GroupBecame::Stays, Some(error.to_string()))
                }
            };
        }
    }
    asks
}

/// What taking back has come to, here or there.
enum Back {
    Here(Result<(Ledger, Undone)>),
    There(Result<CameBack>),
}

/// Gets ready what taking back needs at a server.
fn ready_to_go_back(
    found: &Found,
    index: usize,
    how: &UndoArgs,
    common: &Common,
    inner: &Look,
) -> Result<Work<undo::Job>> {
    match &found.members[index] {
        Member::Here(folder) => Ok(Work::Here(undo::Job::of_one(
            how,
            &common.of(folder),
            inner,
        )?)),
        Member::There(there) => {
            let prepare = PrepareBack { how: how.clone() };
            let prepared = Theirs::new(there, 0).ask(&prepare, None, inner, &mut |_| ())?;
            Ok(Work::There(Theirs::new(there, prepared.warns_ms)))
        }
    }
}
