//! `lantern acquire`

use super::open_settled;
use crate::answers;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count};
use crate::progress::during;
use clap::Args;
use lantern_core::version::Version;
use lantern_host::{Result, acquire};

/// Run the recipe that makes the server program, where it cannot be downloaded
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern acquire 5.4")]
pub struct AcquireArgs {
    /// The server version to make
    #[arg(value_name = "VERSION")]
    version: String,
}

/// Runs the recipe; nothing of the server is touched.
pub fn run(args: &AcquireArgs, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, "acquire")?;
    let version = Version::parse(&args.version, server.family.versions.server)?;
    let made = during("the recipe is at work", || {
        acquire::acquire(&server, &version)
    });
    let made = made?;
    if look.json {
        look.answer(&answers::Acquired {
            folder: made.folder,
            results: made.results,
            log: made.log,
            runtime: made.runtime,
            failed: made.failed,
        });
        return Ok(fail::DONE);
    }
    let title = format!(
        "{} {version} is made: {}.",
        server.family.build.id,
        count(made.results.len(), "file", "files")
    );
    look.say(&look.paint(Means::Title, &title));
    for result in &made.results {
        look.say(&format!("  {result}"));
    }
    if let Some(runtime) = &made.runtime {
        look.say(&format!("  made with a runtime of version {runtime}"));
    }
    if let Some(failed) = &made.failed {
        let note =
            format!("  note: the recipe ended with a failure, which lantern.toml allows: {failed}");
        look.say(&look.paint(Means::Caution, &note));
    }
    look.say(&format!("  what it printed: {}", shell_word(&made.log)));
    look.next(&common.next(&format!("plan --to {version}")));
    Ok(fail::DONE)
}
