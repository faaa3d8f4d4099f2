//! `lantern gather`

use super::fetching::of_plan;
use super::{armed, heed_interrupts, open_settled, plan};
use crate::answers;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, bytes, count};
use clap::Args;
use lantern_host::Result;
use lantern_host::armed::{self as keeping, Became};
use lantern_host::config::Server;
use lantern_host::gather::Size;
use std::path::PathBuf;

/// Fetch the files that a plan needs, before anything else happens
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern gather                     what the last plan asked for\n  lantern gather --from ~/downloads  and what you fetched yourself, whatever it is called there\n  lantern gather --clean 20GB"
)]
pub struct GatherArgs {
    /// The plan, by its name or as a file; otherwise the one that is armed, or was asked for last
    plan: Option<String>,
    /// A folder of downloads to look in, by content: names do not matter
    #[arg(long, value_name = "DIR")]
    from: Vec<PathBuf>,
    /// Wait for what only a person can fetch, and take each file as it arrives
    #[arg(long)]
    wait: bool,
    /// Take out of the store what was used longest ago, until no more than this is left: 20GB, 500MB, 0
    #[arg(long, value_name = "SIZE", conflicts_with_all = ["plan", "from", "wait"])]
    clean: Option<Size>,
}

/// Fetches what is needed, and draws the plan that waited for it.
pub fn run(args: &GatherArgs, common: &Common, look: &Look) -> Result<u8> {
    heed_interrupts(look);
    let (server, _lock) = open_settled(common, look, "gather")?;
    if let Some(Size(most)) = args.clean {
        return clean(&server, most, look);
    }
    let armed = keeping::read(&server)?.is_some_and(|it| it.became == Became::Armed);
    if args.plan.is_some() || armed {
        let chosen = armed::choose(args.plan.as_deref(), false, &server)?;
        let gathered = of_plan(&server, &chosen.plan, &args.from, args.wait, look)?;
        let status = gathered.tell(common, look);
        if status == fail::DONE {
            look.next(&common.next("changeover"));
        }
        return Ok(status);
    }
    plan::gathered(&server, &args.from, args.wait, common, look)
}

fn clean(server: &Server, most: u64, look: &Look) -> Result<u8> {
    let store = server.store();
    let (files, gone) = store.clean(most, &[])?;
    let (left, held) = store.held()?;
    if look.json {
        look.answer(&answers::StoreCleaned {
            store: store.root().to_owned(),
            removed: files,
            removed_bytes: gone,
            left,
            left_bytes: held,
        });
        return Ok(fail::DONE);
    }
    look.say(&format!(
        "{} removed, {}; {} left, {}. The store: {}",
        count(files, "file", "files"),
        bytes(gone),
        count(left, "file is", "files are"),
        bytes(held),
        shell_word(store.root())
    ));
    Ok(fail::DONE)
}
