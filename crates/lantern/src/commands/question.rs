//! The options of every command that asks which releases fit together.

use crate::look::{Look, Means, count};
use clap::Args;
use lantern_core::resolve::{Policy, Prefer};
use lantern_host::config::Server;
use lantern_host::depot::Depot;
use lantern_host::folder::own;
use lantern_host::{Result, acquire};
use std::path::PathBuf;

/// Where releases come from.
#[derive(Debug, Args)]
pub struct Sources {
    /// A folder of archives fetched by hand; what lies there is wanted
    #[arg(long, value_name = "DIR")]
    from: Vec<PathBuf>,
    /// A catalogue of releases
    #[arg(long, value_name = "FILE")]
    catalogue: Vec<PathBuf>,
}

impl Sources {
    /// Reads catalogues and drop folders, and says what had to be left out.
    ///
    /// # Errors
    /// When a catalogue as a whole, or a folder, cannot be read.
    pub fn read(&self, server: &Server, look: &Look) -> Result<Depot> {
        let mut depot = Depot::default();
        for path in server.catalogues().iter().chain(&self.catalogue) {
            depot.add_catalogue(path, &server.family)?;
        }
        for path in server.drop_folders().iter().chain(&self.from) {
            depot.add_drop_folder(path, &server.family)?;
        }
        let made = own(acquire::FOLDER);
        if server.folder.has(&made)? {
            let made = server.folder.shown(&made);
            depot.add_acquired(&made, &server.family)?;
        }
        for (place, why) in &depot.left_out {
            let word = look.paint_error(Means::Caution, "left out");
            look.talk(&format!("{word}: {place}: {why}"));
        }
        if depot.left_out.len() > 1 {
            let count = count(
                depot.left_out.len(),
                "release or archive",
                "releases or archives",
            );
            look.talk(&format!("{count} left out; the rest goes on"));
        }
        Ok(depot)
    }
}

/// What may be taken, and what the administrator wants of single components.
#[derive(Debug, Args)]
pub struct Wishes {
    /// Take test releases, too
    #[arg(long)]
    allow_early: bool,
    /// Take releases that were made for other server versions, too
    #[arg(long)]
    allow_untested: bool,
    /// Which of several fitting releases is better
    #[arg(long, value_name = "WHICH", default_value = "settled")]
    prefer: PreferArg,
    /// Keep a component where it is, or at a version
    #[arg(long, value_name = "ID[=VERSION]")]
    keep: Vec<String>,
    /// Take a component out
    #[arg(long, value_name = "ID")]
    drop: Vec<String>,
    /// Put a component in
    #[arg(long, value_name = "ID")]
    add: Vec<String>,
    /// Move only this one (and the server), besides what comes new
    #[arg(long, value_name = "ID")]
    only: Vec<String>,
}

/// Which of several fitting releases is better.
#[derive(Debug, Clone, Copy, clap::ValueEnum)]
enum PreferArg {
    /// Only what must move, moves
    Settled,
    /// The newest of each
    Newest,
}

impl Wishes {
    /// The wish for one target.
    pub fn to(&self, to: &str) -> lantern_host::planning::Wish {
        lantern_host::planning::Wish {
            to: to.into(),
            add: self.add.clone(),
            drop: self.drop.clone(),
            keep: self.keep.clone(),
            only: self.only.clone(),
            variant: Vec::new(),
            beside: false,
            policy: Policy {
                early: self.allow_early,
                untested: self.allow_untested,
                prefer: match self.prefer {
                    PreferArg::Settled => Prefer::Settled,
                    PreferArg::Newest => Prefer::Newest,
                },
                ..Policy::default()
            },
        }
    }
}
