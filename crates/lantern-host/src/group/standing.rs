//! How far each server of a group is with what was planned for all.
//!
//! That is written with each server's own records and nowhere else: so no other record can say otherwise.

use super::fault::GroupFault;
use super::{Found, errands};
use crate::armed::{Armed, Became};
use crate::changeover::Meanwhile;
use crate::error::{Error, Result};
use crate::interrupt;
use std::collections::BTreeMap;
use std::time::Duration;

/// How far a server is with what was planned for its group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// Its plan waits to be carried out.
    Waits,
    /// It was carried out.
    Done,
    /// There is nothing to do at it.
    Nothing,
    /// It is as it was before: its plan went wrong, or was taken back. Why.
    Back(String),
    /// Carrying it out was cut off; what state things are in.
    CutOff(String),
}

impl Found {
    /// How far each server is, in the group's order.
    ///
    /// # Errors
    /// [`GroupFault::Some`] where one of them cannot be looked at; [`GroupFault::NotArmed`] where one is worked at, waits for decisions, or has no part
    /// in what was planned last.
    pub fn standings(&self) -> Result<Vec<Standing>> {
        let seen = self.ask_each(&errands::Standing {});
        let seen = self.all_or_which("looked at", seen)?;
        let marks = seen
            .iter()
            .filter_map(|it| it.armed.as_ref()?.group.as_ref());
        let mut many: BTreeMap<&String, usize> = BTreeMap::new();
        for mark in marks {
            *many.entry(mark).or_default() += 1;
        }
        let mark = many.into_iter().max_by_key(|(_, many)| *many);
        let mark = mark.map(|(mark, _)| mark);
        let each = self.group.servers.iter().zip(&seen);
        let mut standings = Vec::new();
        let mut servers = Vec::new();
        for (server, it) in each {
            let own = it.armed.as_ref().filter(|it| it.group.as_ref() == mark);
            let own = own.filter(|_| mark.is_some());
            match (own, &it.meanwhile, &it.undecided) {
                (_, Meanwhile::UnderWay(told) | Meanwhile::CutOffElsewhere(told), _) => {
                    servers.push((server.called().to_owned(), told.clone()));
                }
                (Some(_), Meanwhile::CutOff(told), _) => {
                    standings.push(Standing::CutOff(told.clone()));
                }
                (Some(_), Meanwhile::Nothing, Some((id, many))) => servers.push((
                    server.called().to_owned(),
                    format!(
                        "its plan waits for {}: lantern group decide {id} mine, or theirs",
                        match many {
                            1 => "a decision".to_owned(),
                            several => format!("{several} decisions, the first"),
                        }
                    ),
                )),
                (Some(armed), Meanwhile::Nothing, None) => {
                    standings.push(standing(armed, it.is_taken_back))
                }
                (None, ..) => servers.push((
                    server.called().to_owned(),
                    "nothing is armed there of what was planned for all".into(),
                )),
            }
        }
        match servers.is_empty() {
            true => Ok(standings),
            false => Err(GroupFault::NotArmed(servers).into()),
        }
    }
}

/// How often it is looked what became of something whose session broke.
const LOOK: Duration = Duration::from_secs(2);
/// So long a machine may be out of reach meanwhile.
const AWAY: Duration = Duration::from_secs(60);

impl Found {
    /// What became of what was under way at a server there when the session broke: it waits until nothing is under way there any more.
    ///
    /// # Errors
    /// When that machine stays out of reach, or nothing is armed there.
    pub fn found_again(&self, index: usize) -> Result<Standing> {
        let mut out_of_reach = Duration::ZERO;
        loop {
            let seen = match self.members[index].ask(&errands::Standing {}) {
                Err(Error::Session { .. }) if out_of_reach < AWAY && !interrupt::is_wished() => {
                    out_of_reach += LOOK;
                    std::thread::sleep(LOOK);
                    continue;
                }
                seen => seen?,
            };
            out_of_reach = Duration::ZERO;
            match seen.meanwhile {
                Meanwhile::UnderWay(_) if !interrupt::is_wished() => std::thread::sleep(LOOK),
                Meanwhile::UnderWay(told) | Meanwhile::CutOffElsewhere(told) => {
                    let servers = vec![(self.group.servers[index].called().to_owned(), told)];
                    return Err(GroupFault::NotArmed(servers).into());
                }
                Meanwhile::CutOff(told) => return Ok(Standing::CutOff(told)),
                Meanwhile::Nothing => {
                    let armed = seen.armed.as_ref();
                    return Ok(
                        armed.map_or(Standing::Nothing, |it| standing(it, seen.is_taken_back))
                    );
                }
            }
        }
    }
}

fn standing(armed: &Armed, taken_back: bool) -> Standing {
    match &armed.became {
        Became::Armed => Standing::Waits,
        Became::NoPlan(_) => Standing::Nothing,
        Became::WentBack { why, .. } => Standing::Back(why.clone()),
        Became::Done(_) if taken_back => Standing::Back("it was taken back".into()),
        Became::Done(_) => Standing::Done,
    }
}
