//! Whether a plan decides no more than what lantern.toml leaves to a changeover that nobody is there for.

pub mod fault;

use crate::changeover::named;
use crate::config::Server;
use crate::error::Result;
use crate::night::refuse_by_hand;
use crate::rehearsal::report_on;
use crate::unattended::fault::UnattendedFault;
use lantern_core::inventory::Inventory;
use lantern_core::plan::Plan;
use lantern_core::unattended::{Arising, Matter, matters, not_left};
use std::collections::BTreeMap;
use std::path::Path;

/// So many things of one kind are named.
const NAMED: usize = 6;

/// Refuses a plan that decides more than what is left to it. Who is on is looked at right before the stop.
///
/// # Errors
/// [`UnattendedFault`] with what; [`NeedsPerson`](crate::night::fault::NightFault) where a person has to stop and start the server.
pub fn judge(
    server: &Server,
    (plan, path, text): (&Plan, &Path, &str),
    inventory: &Inventory,
) -> Result<()> {
    refuse_by_hand(&named(server, plan)?)?;
    let may = &server.config.unattended.may;
    let matters = matters(plan, inventory, &server.family.versions);
    let mut asked = told(&not_left(&matters, may));
    if !may.contains(&Matter::Unrehearsed)
        && let Some(why) = unrehearsed(path, text)
    {
        asked.push((Matter::Unrehearsed, why.into()));
    }
    match asked.is_empty() {
        true => Ok(()),
        false => Err(UnattendedFault::NotLeft {
            asked,
            may: may.iter().copied().collect(),
        }
        .into()),
    }
}

/// What is not left to it, in words: some of each kind.
pub fn told(not_left: &BTreeMap<Matter, Vec<&Arising>>) -> Vec<(Matter, String)> {
    let told = not_left.iter().map(|(matter, of)| {
        let words: Vec<&str> = of.iter().map(|it| it.what.as_str()).collect();
        let mut told = words[..words.len().min(NAMED)].join(", ");
        if let more @ 1.. = words.len().saturating_sub(NAMED) {
            told += &format!(" and {more} more");
        }
        (*matter, told)
    });
    told.collect()
}

/// Why a plan does not count as rehearsed, where it does not.
fn unrehearsed(path: &Path, text: &str) -> Option<&'static str> {
    match report_on(path, text) {
        None => Some("it was not carried out on a copy before"),
        Some(report) if !report.worked => Some("it did not work on a copy"),
        Some(report) if !report.with_world => {
            Some("it was carried out on a copy without the world")
        }
        Some(_) => None,
    }
}
