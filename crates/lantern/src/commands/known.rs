//! `lantern known`

use super::{open, open_to_look};
use crate::answers::{FactForgotten, FactsKnown, FactsTaken, Written};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count};
use crate::paper;
use clap::{Args, Subcommand};
use lantern_host::Result;
use lantern_host::learned;
use std::path::PathBuf;

/// Show what was seen on this server not to start together; plans heed it
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern known\n  lantern known forget 2\n  lantern known export ours.learned.json\n  lantern known take theirs.learned.json"
)]
pub struct KnownArgs {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Forget one of them: plans heed it no more
    Forget {
        /// Its number
        number: u32,
    },
    /// Write all of it down for others
    Export {
        /// Where to
        file: PathBuf,
    },
    /// Take in what others have written down
    Take {
        /// Their file
        file: PathBuf,
    },
}

/// Shows or changes what is known.
pub fn run(args: &KnownArgs, common: &Common, look: &Look) -> Result<u8> {
    match &args.what {
        None => list(common, look),
        Some(What::Forget { number }) => {
            let (server, _lock) = open(common, look, "known forget")?;
            let gone = learned::forget(&server, *number)?;
            match look.json {
                true => look.answer(&FactForgotten { forgotten: gone }),
                false => look.say(&format!("Forgotten: {}.", gone.told())),
            }
            Ok(fail::DONE)
        }
        Some(What::Export { file }) => {
            let server = open_to_look(common, look)?.server;
            let text = learned::exported(&server)?;
            paper::write(file, &text, common)?;
            match look.json {
                true => look.answer(&Written {
                    out: file,
                    bytes: text.len() as u64,
                }),
                false => look.say(&format!("Written: {}", shell_word(file))),
            }
            Ok(fail::DONE)
        }
        Some(What::Take { file }) => {
            let (server, _lock) = open(common, look, "known take")?;
            let (new, all) = learned::take(&server, file)?;
            match look.json {
                true => look.answer(&FactsTaken { new, all }),
                false => look.say(&format!(
                    "{} taken in, {} were known.",
                    count(new, "fact", "facts"),
                    all - new
                )),
            }
            Ok(fail::DONE)
        }
    }
}

fn list(common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let facts = learned::read(&looked.server)?;
    if look.json {
        look.answer(&FactsKnown { facts });
        return Ok(looked.status(fail::DONE));
    }
    if facts.is_empty() {
        look.say("Nothing was found out about releases here yet.");
        look.say("  Where a start fails, `lantern culprit` finds out what makes it.");
        return Ok(looked.status(fail::DONE));
    }
    for seen in &facts {
        let title = format!("{}  {}", seen.number, seen.told());
        look.say(&look.paint(Means::Title, &title));
        let heeded = match seen.is_heeded() {
            true => "plans heed it",
            false => "plans do not heed it, as each of them may be chosen without the others",
        };
        look.say(&format!("   {}; {heeded}", seen.since()));
        if let Some(why) = &seen.why {
            look.say(&format!("   {why}"));
        }
    }
    look.next(&common.next("plan --again"));
    Ok(looked.status(fail::DONE))
}
