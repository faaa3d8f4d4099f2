//! `lantern group decide`

use super::there::Decide;
use super::{OfGroup, meant, names};
use crate::answers::group::{GroupDecided, GroupServerDecided};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count};
use clap::Args;
use lantern_host::Result;
use lantern_host::group::{Found, Member};
use lantern_host::planning::fault::PlanningFault;
use lantern_host::session;
use std::collections::BTreeSet;
use std::path::Path;

/// What is decided for all servers of a group.
#[derive(Debug, Args)]
pub struct DecideOfGroup {
    /// The id of the question, as a plan shows it
    id: String,
    /// mine, theirs, or a value
    #[arg(allow_hyphen_values = true)]
    answer: String,
    #[command(flatten)]
    of: OfGroup,
}

/// Decides a question at every server whose part of what was planned for all asks it, and draws those plans again.
pub fn run(args: &DecideOfGroup, common: &Common, look: &Look) -> Result<u8> {
    let file = meant(&args.of)?;
    let found = Found::read(&file)?;
    let decide = Decide {
        id: args.id.clone(),
        answer: args.answer.clone(),
    };
    let mut known = BTreeSet::new();
    let mut servers = Vec::new();
    let mut next = None;
    for (one, member) in found.group.servers.iter().zip(&found.members) {
        let came = match member {
            Member::Here(folder) => decide.at(&common.of(folder), look)?,
            Member::There(there) => session::ask(there, &decide)?,
        };
        if let Some(told) = &came.told {
            look.talk(&format!("{}: {told}", one.called()));
        }
        known.extend(came.known);
        next = next.or(came.next);
        servers.push(GroupServerDecided {
            server: one.called().to_owned(),
            decided: came.told.is_some(),
            undecided: came.undecided,
        });
    }
    if servers.iter().all(|it| !it.decided) {
        return Err(PlanningFault::NoSuchQuestion {
            named: args.id.clone(),
            known: known.into_iter().collect(),
        }
        .into());
    }
    let answer = GroupDecided {
        group: found.group.name.clone(),
        servers,
    };
    match look.json {
        true => look.answer(&answer),
        false => show(&found, &answer, next.as_deref(), &file, look),
    }
    Ok(fail::DONE)
}

fn show(found: &Found, answer: &GroupDecided, next: Option<&str>, file: &Path, look: &Look) {
    let each = || answer.servers.iter().enumerate();
    let at: Vec<usize> = each()
        .filter(|(_, it)| it.decided)
        .map(|(index, _)| index)
        .collect();
    let title = format!("{}: decided at {}.", answer.group, names(found, &at));
    look.say(&look.paint(Means::Good, &title));
    for (_, it) in each() {
        match it.undecided {
            None => {
                let text = format!(
                    "  {} has no part in what was planned for all any more",
                    it.server
                );
                look.say(&look.paint(Means::Caution, &text));
            }
            Some(0) => {}
            Some(many) => look.say(&format!(
                "  {} waits for {}",
                it.server,
                count(many, "more decision", "more decisions")
            )),
        }
    }
    let is_out = each().any(|(_, it)| it.undecided.is_none());
    look.next(&match (next, is_out) {
        (Some(id), _) => format!("lantern group decide {id} mine {}", shell_word(file)),
        (None, true) => format!("lantern group plan {} --to VERSION", shell_word(file)),
        (None, false) => format!("lantern group changeover {}", shell_word(file)),
    });
}
