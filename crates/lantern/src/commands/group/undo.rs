//! `lantern group undo`

use super::back::take_back;
use super::changeover::{each_named, show_each};
use super::waves::at_once;
use super::{OfGroup, meant, names};
use crate::answers::group::{GroupBecame, GroupUndone};
use crate::commands::undo::UndoArgs;
use crate::commands::{armed, heed_interrupts};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means};
use crate::progress::during;
use clap::Args;
use lantern_host::Result;
use lantern_host::group::{Found, Standing};
use std::num::NonZeroUsize;

/// How what was carried out for a group is taken back.
#[derive(Debug, Args)]
pub struct UndoOfGroup {
    #[command(flatten)]
    of: OfGroup,
    #[command(flatten)]
    how: UndoArgs,
    /// Work at so many at once, instead of what the group's file says
    #[arg(long, value_name = "N")]
    at_once: Option<NonZeroUsize>,
}

/// Takes back what was carried out for all of them, the last first.
pub fn run(args: &UndoOfGroup, common: &Common, look: &Look) -> Result<u8> {
    heed_interrupts(look);
    let file = meant(&args.of)?;
    let found = Found::read(&file)?;
    let standings = during("servers are looked at", || found.standings())?;
    let mut each: Vec<(GroupBecame, Option<String>)> = Vec::new();
    for standing in &standings {
        each.push(match standing {
            Standing::Done | Standing::CutOff(_) => (GroupBecame::DoneBefore, None),
            Standing::Nothing => (GroupBecame::Nothing, None),
            Standing::Waits => (GroupBecame::Waits, None),
            Standing::Back(_) => (GroupBecame::TakenBack, None),
        });
    }
    let to_do = each.iter().enumerate();
    let to_do = to_do.filter(|(_, it)| it.0 == GroupBecame::DoneBefore);
    let mut to_do: Vec<usize> = to_do.map(|(index, _)| index).collect();
    to_do.reverse();
    let is_idle = to_do.is_empty();
    if is_idle {
        look.talk("Nothing of it was carried out that could be taken back.");
    }
    if !to_do.is_empty() {
        let title = format!(
            "{}: taken back, the last first: {}.",
            found.group.name,
            names(&found, &to_do)
        );
        look.talk(&look.paint_error(Means::Title, &title));
        let without = common.next(&format!("group undo {} --yes", shell_word(&file)));
        armed::confirm("Take it back?", &without, common, look)?;
    }
    let at_once = at_once(&found, args.at_once);
    let asks = take_back(&found, &mut each, &args.how, at_once, common, look);
    let stays = each.iter().any(|(became, _)| *became == GroupBecame::Stays);
    let answer = GroupUndone {
        group: found.group.name.clone(),
        servers: each_named(&found, each),
    };
    match look.json {
        true => look.answer(&answer),
        false => {
            show_each(&found, &answer.servers, look);
            let word = shell_word(&file);
            match asks {
                true => {
                    look.talk("What becomes of the worlds can be said for all of them: --with-world brings back those of the backups, --keep-world leaves them as they are.");
                    look.next(&format!("lantern group undo {word} --keep-world"));
                }
                false => look.next(&format!("lantern group survey {word}")),
            }
        }
    }
    Ok(match stays || is_idle {
        true => fail::NO,
        false => fail::DONE,
    })
}
