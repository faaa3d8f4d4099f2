//! The options of every command that asks which releases fit together.

use crate::candidates;
use crate::common::shell_word;
use crate::look::{Look, Means, count, time};
use clap::Args;
use clap_complete::ArgValueCandidates;
use lantern_core::resolve::{Policy, Prefer};
use lantern_host::acquire;
use lantern_host::config::Server;
use lantern_host::depot::unlike_any;
use lantern_host::folder::own;
use lantern_host::gather::Stale;
use lantern_host::planning::{Sources, Terms};
use std::path::PathBuf;

/// Where releases come from.
#[derive(Debug, Args)]
pub struct SourceArgs {
    /// A folder of archives fetched by hand; what lies there is wanted
    #[arg(long, value_name = "DIR")]
    from: Vec<PathBuf>,
    /// A catalogue of releases: a file, or an http(s) address
    #[arg(long, value_name = "FILE|URL")]
    catalogue: Vec<PathBuf>,
}

impl SourceArgs {
    /// The options again, for a command line to paste.
    pub fn words(&self) -> String {
        let catalogues = self.catalogue.iter().map(|path| ("catalogue", path));
        let each = catalogues.chain(self.from.iter().map(|path| ("from", path)));
        let each = each.map(|(option, path)| format!(" --{option} {}", shell_word(path)));
        each.collect()
    }

    /// Says so where nothing can be on offer, as nobody has named where releases come from.
    pub fn tell_none(&self, server: &Server, look: &Look) {
        let named = self.catalogue.len() + self.from.len();
        let made = own(acquire::FOLDER);
        let was_made = server.folder.has(&made).unwrap_or(false);
        if named + server.catalogues().len() + server.drop_folders().len() == 0 && !was_made {
            let none = "Nothing is on offer: no catalogue and no drop folder is named, here or in lantern.toml.";
            look.talk(&look.paint_error(Means::Caution, none));
        }
    }

    /// Says of which drop folders nothing is called as the family's releases are.
    pub fn tell_unlike(&self, server: &Server, look: &Look) {
        for folder in self.from.iter().chain(&server.drop_folders()) {
            if let Some(files) = unlike_any(folder, &server.family) {
                let word = look.paint_error(Means::Caution, "not looked at");
                look.talk(&format!(
                    "{word}: {} in {}: nothing there is called as `drop` of a reader says, in the family file of {}",
                    count(files, "file", "files"),
                    folder.display(),
                    server.family.name
                ));
            }
        }
    }

    /// The sources that were named.
    pub fn named(&self) -> Sources {
        Sources {
            catalogues: self.catalogue.clone(),
            drop_folders: self.from.clone(),
            ..Sources::default()
        }
    }
}

/// Says which catalogues could not be asked, with how old what is known of them is, and what had to be left out of what is
/// on offer.
pub fn tell_left_out(stale: &[Stale], left_out: &[(String, String)], look: &Look) {
    for stale in stale {
        let word = look.paint_error(Means::Caution, "not asked");
        look.talk(&format!("{word}: {}: {}", stale.url, stale.why));
        let age = time(stale.age * 1000);
        look.talk(&format!("  what it said {age} ago counts"));
    }
    for (place, why) in left_out {
        let word = look.paint_error(Means::Caution, "left out");
        look.talk(&format!("{word}: {place}: {why}"));
    }
    if left_out.len() > 1 {
        let count = count(left_out.len(), "release or archive", "releases or archives");
        look.talk(&format!("{count} left out; the rest goes on"));
    }
}

/// What may be taken, and what the administrator wants of single components.
#[derive(Debug, Args)]
pub struct TermArgs {
    /// Take test releases, too
    #[arg(long)]
    allow_early: bool,
    /// Take releases that were made for other server versions, too
    #[arg(long)]
    allow_untested: bool,
    /// Where nothing fits together, try everything that might help, however much it is
    #[arg(long)]
    pub all_remedies: bool,
    /// Which of several fitting releases is better
    #[arg(long, value_name = "WHICH", default_value = "settled")]
    prefer: PreferArg,
    /// Keep a component where it is, or at a version
    #[arg(long, value_name = "ID[=VERSION]", add = ArgValueCandidates::new(candidates::ids))]
    keep: Vec<String>,
    /// Take a component out
    #[arg(long, value_name = "ID", add = ArgValueCandidates::new(candidates::ids))]
    drop: Vec<String>,
    /// Put a component in
    #[arg(long, value_name = "ID", add = ArgValueCandidates::new(candidates::ids))]
    add: Vec<String>,
    /// Let players in who join with a version of a kind of client
    #[arg(long, value_name = "KIND=VERSION", add = ArgValueCandidates::new(candidates::clients))]
    admit: Vec<String>,
    /// Switch an installed add-on on; of many of which one is in use, it becomes that one
    #[arg(long, value_name = "ID", add = ArgValueCandidates::new(candidates::ids))]
    on: Vec<String>,
    /// Switch an add-on off; it stays installed
    #[arg(long, value_name = "ID", add = ArgValueCandidates::new(candidates::ids))]
    off: Vec<String>,
    /// Let a component go although the world holds its content
    #[arg(long, value_name = "ID", add = ArgValueCandidates::new(candidates::ids))]
    world_loses: Vec<String>,
    /// Move only this one (and the server), besides what comes new
    #[arg(long, value_name = "ID", add = ArgValueCandidates::new(candidates::ids))]
    only: Vec<String>,
    /// Of several servers that run on this install, the one on which add-ons are switched, and start what comes new
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(candidates::of_install))]
    of: Option<String>,
}

/// Which of several fitting releases is better.
#[derive(Debug, Clone, Copy, clap::ValueEnum)]
enum PreferArg {
    /// Only what must move, moves
    Settled,
    /// The newest of each
    Newest,
}

impl TermArgs {
    /// The terms for one target.
    pub fn to(&self, to: &str) -> Terms {
        Terms {
            to: to.into(),
            add: self.add.clone(),
            drop: self.drop.clone(),
            keep: self.keep.clone(),
            only: self.only.clone(),
            admit: self.admit.clone(),
            on: self.on.clone(),
            off: self.off.clone(),
            world_loses: self.world_loses.clone(),
            variant: Vec::new(),
            beside: false,
            of: self.of.clone(),
            undecided: None,
            policy: Policy {
                early: self.allow_early,
                untested: self.allow_untested,
                prefer: match self.prefer {
                    PreferArg::Settled => Prefer::Settled,
                    PreferArg::Newest => Prefer::Newest,
                },
                all_remedies: self.all_remedies,
                ..Policy::default()
            },
        }
    }
}
