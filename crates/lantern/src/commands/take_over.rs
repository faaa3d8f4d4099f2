//! `lantern take-over`

use super::{armed, open};
use crate::answers::TakeOverDone;
use crate::by_hand::AtHand;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count};
use clap::Args;
use lantern_host::Result;
use lantern_host::changeover::{left_by, take_over};
use lantern_host::ledger::Ledger;
use lantern_host::records::Brought;

/// Take a server on another machine over from somebody who works there from his own, or was cut off: what he left half done is put back
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern take-over --server rented")]
pub struct TakeOverArgs {}

/// Takes over; the exit status is 3 when nobody was at work there.
pub fn run(_: &TakeOverArgs, common: &Common, look: &Look) -> Result<u8> {
    let (mut server, _lock) = open(common, look, "take-over")?;
    AtHand::at(&mut server, look);
    let apart = match &server.brought {
        Brought::Apart(who) => Some(format!("what was done there is not known here: {who}")),
        Brought::Nothing | Brought::Theirs(_) | Brought::Unread(_) => None,
    };
    if let Some(told) = left_by(&server)?.or(apart) {
        look.talk(&look.paint_error(Means::Caution, &told));
        let again = common.next("take-over --yes");
        armed::confirm(
            "Is he no longer at work? Take it over?",
            &again,
            common,
            look,
        )?;
    }
    let mut ledger = Ledger::open(&server.folder)?;
    let taken = take_over(&server, &mut ledger)?;
    if look.json {
        look.answer(&TakeOverDone::from(&taken));
        return Ok(if taken.who.is_some() || taken.records.is_some() {
            fail::DONE
        } else {
            fail::NO
        });
    }
    if let Some(who) = &taken.records {
        look.say(&look.paint(
            Means::Good,
            &format!("What was written down beside the server, {who}, is known here now."),
        ));
        look.say("What was known here is kept: .lantern/records-before.json.zst, in the folder of its settings.");
    }
    let Some(who) = &taken.who else {
        look.say("Nobody else is at work there, and nobody else was cut off there.");
        return Ok(match taken.records {
            Some(_) => fail::DONE,
            None => fail::NO,
        });
    };
    look.say(&look.paint(Means::Good, &format!("Taken over from: {who}.")));
    match taken.told {
        None => look.say("Nothing of it was half done."),
        Some(_) if taken.back == 0 => {
            look.say("None of its files had been moved, or all were put back already.")
        }
        Some(_) => look.say(&format!(
            "{} put back where they were before.",
            count(taken.back, "file was", "files were")
        )),
    }
    for path in &taken.lost {
        look.say(&look.paint(
            Means::Bad,
            &format!("  cannot be found to be put back: {path}"),
        ));
    }
    look.next(&common.next("survey"));
    Ok(fail::DONE)
}
