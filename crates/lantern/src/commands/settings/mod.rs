//! `lantern settings`

mod compare;
pub mod decide;
mod patches;
mod values;

use crate::common::Common;
use crate::look::Look;
use clap::{Args, Subcommand};
use lantern_host::Result;
use std::path::PathBuf;

/// Keep your settings and edits over releases: compare, take, decide, set
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern settings show garden.toml\n  lantern settings set garden.toml gate.seats 30\n  lantern settings compare garden.toml garden.sample.toml\n  lantern settings decide 3fa2b1c9 theirs"
)]
pub struct SettingsArgs {
    #[command(subcommand)]
    what: SettingsCommand,
}

#[derive(Debug, Subcommand)]
enum SettingsCommand {
    /// Show every value with its key and line; secrets are not shown
    Show {
        /// The file, relative to the server folder
        file: String,
    },
    /// Plan to set a value, or to add it: all else in the file stays, byte for byte
    Set {
        /// The file, relative to the server folder
        file: String,
        /// The key, with dots between its names: gate.seats; a name with dots in it in double quotes
        key: String,
        /// What it is to say
        #[arg(allow_hyphen_values = true)]
        value: String,
        /// Write it at once and without a plan, where the server is down
        #[arg(long)]
        now: bool,
    },
    /// Compare a settings file with a sample value by value: yours, the sample before, the sample now
    Compare {
        /// The file, relative to the server folder
        file: String,
        /// The sample, in the server folder or elsewhere; else the one that the family states, or what the file's release ships
        sample: Option<String>,
        /// Show also what is the same
        #[arg(long)]
        all: bool,
    },
    /// Plan to take values from a sample into a settings file: new ones come with their remarks
    Take {
        /// The file, relative to the server folder
        file: String,
        /// The keys
        #[arg(required_unless_present_any = ["all", "untouched"])]
        keys: Vec<String>,
        /// The sample; else as for compare
        #[arg(long, value_name = "SAMPLE")]
        from: Option<String>,
        /// All in which the sample differs
        #[arg(long, conflicts_with_all = ["keys", "untouched"])]
        all: bool,
        /// New ones, and all that you never changed
        #[arg(long, conflicts_with = "keys")]
        untouched: bool,
    },
    /// Decide what you and a release both changed, and draw the plan again
    Decide {
        /// The id of the question, as the plan shows it
        id: String,
        /// mine, theirs, or a value
        #[arg(allow_hyphen_values = true, required_unless_present = "value")]
        answer: Option<String>,
        /// A value, also one that says mine or theirs
        #[arg(long, allow_hyphen_values = true, conflicts_with = "answer")]
        value: Option<String>,
    },
    /// Write a file that you and a release both changed in your editor, with marks around what is undecided
    Edit {
        /// The file, relative to the server folder
        file: String,
        /// A finished text, instead of an editor
        #[arg(long, value_name = "TEXT")]
        with: Option<PathBuf>,
    },
    /// Keep what you changed in a file under a name: it is laid again over each new release
    Keep {
        /// The file, relative to the server folder
        file: String,
        /// The name: letters, digits, - _ .
        #[arg(long = "as", value_name = "NAME")]
        name: String,
    },
    /// Show what is kept under a name, and how it stands to its file
    Kept {
        /// One of them, line by line
        name: Option<String>,
    },
    /// Keep it no more; the file stays as it is
    Unkeep {
        /// Its name
        name: String,
    },
    /// Write it out as a unified diff, for somebody else
    Export {
        /// Its name
        name: String,
        /// Where to; else it is printed
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// Take one that somebody else has made, and plan to lay it over its file where it fits
    Import {
        /// A unified diff of one file, with its path in the server folder
        file: PathBuf,
        /// The name; else that of the file
        #[arg(long = "as", value_name = "NAME")]
        name: Option<String>,
    },
    /// Show what was decided
    Decided,
    /// Forget what was decided: it is asked again
    Forget {
        /// The id of the decision
        id: String,
    },
}

/// Shows, sets, compares and decides values of settings files.
pub fn run(args: &SettingsArgs, common: &Common, look: &Look) -> Result<u8> {
    match &args.what {
        SettingsCommand::Show { file } => values::show(file, common, look),
        SettingsCommand::Set {
            file,
            key,
            value,
            now,
        } => values::set(file, key, value, *now, common, look),
        SettingsCommand::Compare { file, sample, all } => {
            compare::run(file, sample.as_deref(), *all, common, look)
        }
        SettingsCommand::Take {
            file,
            keys,
            from,
            all,
            untouched,
        } => {
            let which = compare::Which {
                keys,
                all: *all,
                untouched: *untouched,
            };
            compare::take(file, from.as_deref(), which, common, look)
        }
        SettingsCommand::Decide { id, answer, value } => {
            decide::run(id, answer.as_deref(), value.as_deref(), common, look)
        }
        SettingsCommand::Edit { file, with } => decide::edit(file, with.as_deref(), common, look),
        SettingsCommand::Keep { file, name } => patches::keep(file, name, common, look),
        SettingsCommand::Kept { name } => patches::kept(name.as_deref(), common, look),
        SettingsCommand::Unkeep { name } => patches::unkeep(name, common, look),
        SettingsCommand::Export { name, out } => {
            patches::export(name, out.as_deref(), common, look)
        }
        SettingsCommand::Import { file, name } => {
            patches::import(file, name.as_deref(), common, look)
        }
        SettingsCommand::Decided => decide::list(common, look),
        SettingsCommand::Forget { id } => decide::forget(id, common, look),
    }
}
