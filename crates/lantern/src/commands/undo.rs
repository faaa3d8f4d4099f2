//! `lantern undo`

use super::group::waves;
use super::{heed_interrupts, notice, open, tell_unshared};
use crate::answers;
use crate::by_hand::AtHand;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count, time};
use crate::progress::Progress;
use clap::Args;
use lantern_core::notice::Notice;
use lantern_core::operation::World;
use lantern_core::path::RelPath;
use lantern_host::Result;
use lantern_host::changeover::{Event, Now, Undone, undo};
use lantern_host::config::{Server, Span};
use lantern_host::ledger::Ledger;
use lantern_host::lock::Lock;
use lantern_host::telling;
use serde::{Deserialize, Serialize};

/// Go back to before the last changeover: files and load order, the world only if asked; or to before a restore in place
#[derive(Debug, Clone, Default, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[command(after_help = "Examples:\n  lantern undo\n  lantern undo --with-world --warn 5m")]
pub struct UndoArgs {
    /// Bring the keep list back, too, as it was before; what was done since is set aside
    #[arg(long, conflicts_with = "keep_world")]
    with_world: bool,
    /// How long before the stop players are told: 10m,1m,10s; otherwise only that it is now
    #[arg(long, value_name = "TIMES", value_delimiter = ',')]
    warn: Vec<Span>,
    /// Leave the keep list as it is, though it was written since
    #[arg(long)]
    keep_world: bool,
}

/// Takes the last changeover back.
pub fn run(args: &UndoArgs, common: &Common, look: &Look) -> Result<u8> {
    // Ctrl-C calls it off before the stop; afterwards it goes on to its end.
    heed_interrupts(look);
    let job = Job::of_one(args, common, look)?;
    let mut progress = Progress::new(look);
    let (ledger, undone) = job.work(&mut |event| progress.show(event))?;
    drop(progress);
    job.settle(&ledger, &undone, look);
    show(&undone, common, look);
    Ok(fail::DONE)
}

/// A changeover, or a restore, that is taken back, with the locks that this needs.
pub struct Job {
    server: Server,
    _lock: Lock,
    world: World,
    /// What people are told.
    taken_back: Option<Notice>,
}

impl waves::Job for Job {
    fn server(&mut self) -> &mut Server {
        &mut self.server
    }
}

impl Job {
    /// The last one of a server.
    ///
    /// # Errors
    /// When the server cannot be opened, or somebody is at work there.
    pub fn of_one(args: &UndoArgs, common: &Common, look: &Look) -> Result<Job> {
        let (mut server, lock) = open(common, look, "undo")?;
        AtHand::at(&mut server, look);
        server.config.warn.at.clone_from(&args.warn);
        let ledger = Ledger::open(&server.folder)?;
        Ok(Job {
            taken_back: telling::of_taking_back(&server, &ledger)?,
            server,
            _lock: lock,
            world: match (args.with_world, args.keep_world) {
                (true, _) => World::Bring,
                (_, true) => World::Keep,
                _ => World::Ask,
            },
        })
    }

    /// Takes it back.
    ///
    /// # Errors
    /// As of an undo.
    pub fn work(&self, tell: &mut dyn FnMut(Event)) -> Result<(Ledger, Undone)> {
        let mut ledger = Ledger::open(&self.server.folder)?;
        let undone = undo(&self.server, &mut ledger, self.world, tell)?;
        Ok((ledger, undone))
    }

    /// Tells who is to be told.
    pub fn settle(&self, ledger: &Ledger, undone: &Undone, look: &Look) {
        // A server that has come up, or stays down, as it was: what was promised to people is off.
        if let (Some(taken_back), Now::At(_)) = (&self.taken_back, &undone.now) {
            notice::tell(&self.server, taken_back, look);
        }
        notice::keep_feed(&self.server, ledger, look);
        tell_unshared(&self.server, look);
    }
}

/// Shows what it has come to.
pub fn show(undone: &Undone, common: &Common, look: &Look) {
    if look.json {
        return look.answer(&answers::UndoDone::from(undone));
    }
    let down = match undone.down_ms {
        Some(ms) if undone.running => format!(" The server was down for {}.", time(ms)),
        _ if undone.running => " The server is up.".into(),
        _ => " The server is down, as it was before.".into(),
    };
    let (back, world) = match &undone.now {
        Now::At(version) => (
            format!("Back at {version}."),
            "as it was before the changeover",
        ),
        Now::Before(name) => (
            format!("As before {name} was put back."),
            "as it was before the restore",
        ),
        Now::Untouched => ("What was cut off had changed nothing.".into(), ""),
    };
    look.say(&look.paint(Means::Good, &format!("{back}{down}")));
    for wrong in &undone.wrong {
        look.say(&look.paint(Means::Bad, &format!("  wrong with it now: {wrong}")));
    }
    if !undone.set_aside.is_empty() {
        let names: Vec<&str> = undone.set_aside.iter().map(RelPath::as_str).collect();
        look.say(&format!(
            "  written since, now in {}: {}",
            undone.aside,
            names.join(", ")
        ));
    }
    let world = match undone.with_world {
        true => format!("is {world}"),
        false => "was left as it is".into(),
    };
    look.say(&format!("  the keep list {world}"));
    if undone.world_aside > 0 {
        let files = count(undone.world_aside, "file", "files");
        let text = format!("  what was done since, {files}, is in {}", undone.aside);
        look.say(&text);
    }
    look.next(&common.next("survey"));
}
