//! How far each server of a group is with what was planned for all.
//!
//! That is written with each server's own records and nowhere else: so no other record can say otherwise.

use super::fault::GroupFault;
use super::{Found, opened};
use crate::armed::{self, Armed, Became};
use crate::changeover::Meanwhile;
use crate::error::Result;
use crate::ledger::Ledger;
use std::collections::BTreeMap;

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
        let seen = self.each(|_, folder| {
            let (server, meanwhile) = opened(folder)?;
            let armed = armed::read(&server)?;
            let taken_back = match armed.as_ref().map(|armed| &armed.became) {
                Some(Became::Done(number)) => {
                    let operations = Ledger::open(&server.folder)?.operations()?;
                    let mut own = operations.iter().filter(|it| it.number == *number);
                    own.any(|operation| operation.undone)
                }
                _ => false,
            };
            let joint = armed::joint(&server)?;
            let undecided = joint.and_then(|(_, plan)| {
                let (_, first) = plan.undecided().next()?;
                Some((first.id.clone(), plan.undecided().count()))
            });
            Ok((armed, taken_back, undecided, meanwhile))
        });
        let seen = self.all_or_which("looked at", seen)?;
        let marks = seen
            .iter()
            .filter_map(|(armed, ..)| armed.as_ref()?.group.as_ref());
        let mut many: BTreeMap<&String, usize> = BTreeMap::new();
        for mark in marks {
            *many.entry(mark).or_default() += 1;
        }
        let mark = many.into_iter().max_by_key(|(_, many)| *many);
        let mark = mark.map(|(mark, _)| mark);
        let each = self.group.servers.iter().zip(&seen);
        let mut standings = Vec::new();
        let mut servers = Vec::new();
        for (server, (armed, taken_back, undecided, meanwhile)) in each {
            let own = armed.as_ref().filter(|it| it.group.as_ref() == mark);
            let own = own.filter(|_| mark.is_some());
            match (own, meanwhile, undecided) {
                (_, Meanwhile::UnderWay(told) | Meanwhile::CutOffElsewhere(told), _) => {
                    servers.push((server.at.clone(), told.clone()));
                }
                (Some(_), Meanwhile::CutOff(told), _) => {
                    standings.push(Standing::CutOff(told.clone()));
                }
                (Some(_), Meanwhile::Nothing, Some((id, many))) => servers.push((
                    server.at.clone(),
                    format!(
                        "its plan waits for {}: lantern group decide {id} mine, or theirs",
                        match many {
                            1 => "a decision".to_owned(),
                            several => format!("{several} decisions, the first"),
                        }
                    ),
                )),
                (Some(armed), Meanwhile::Nothing, None) => {
                    standings.push(standing(armed, *taken_back))
                }
                (None, ..) => servers.push((
                    server.at.clone(),
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

fn standing(armed: &Armed, taken_back: bool) -> Standing {
    match &armed.became {
        Became::Armed => Standing::Waits,
        Became::NoPlan(_) => Standing::Nothing,
        Became::WentBack { why, .. } => Standing::Back(why.clone()),
        Became::Done(_) if taken_back => Standing::Back("it was taken back".into()),
        Became::Done(_) => Standing::Done,
    }
}
