//! `lantern group decide`

use super::{OfGroup, meant, names};
use crate::answers::group::{GroupDecided, GroupServerDecided};
use crate::commands::settings::decide::{decided, told};
use crate::commands::{open_settled, plan};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count};
use clap::Args;
use lantern_host::group::Found;
use lantern_host::planning::fault::PlanningFault;
use lantern_host::{Error, Result, armed};
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
    // Of each plan that is drawn again only what it still asks is shown.
    let quiet = look.onto_page();
    let mut known = BTreeSet::new();
    let mut servers = Vec::new();
    let mut next = None;
    for (one, folder) in found.group.servers.iter().zip(&found.folders) {
        let own = common.of(folder);
        let (server, _lock) = open_settled(&own, "group decide")?;
        let mut has_decided = false;
        if let Some((_, plan)) = armed::joint(&server)? {
            match decided(&server, &plan, &args.id, Some(&args.answer), None) {
                Ok(decision) => {
                    look.talk(&format!("{}: {}", one.at, told(&decision)));
                    plan::again(&server, &own, &quiet)?;
                    has_decided = true;
                }
                Err(Error::Planning(PlanningFault::NoSuchQuestion { known: own, .. })) => {
                    known.extend(own);
                }
                Err(other) => return Err(other),
            }
        }
        let joint = armed::joint(&server)?;
        if let (None, Some((_, plan))) = (&next, &joint) {
            next = plan.undecided().next().map(|(_, asked)| asked.id.clone());
        }
        servers.push(GroupServerDecided {
            server: one.at.clone(),
            decided: has_decided,
            undecided: joint.map(|(_, plan)| plan.undecided().count()),
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
