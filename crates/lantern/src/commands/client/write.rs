//! `lantern client write`: the list in forms that other programs and people read.

use super::WhichArgs;
use crate::answers::Written;
use crate::common::{Common, shell_word};
use crate::look::{Look, Means, bytes};
use crate::paper;
use crate::progress::during;
use clap::{Args, ValueEnum};
use lantern_core::clients::{cyclonedx, filled, metalink, players_page, sums};
use lantern_core::page::For;
use lantern_host::Result;
use lantern_host::clients::{self, fault::ClientFault};
use lantern_host::config::Server;
use lantern_host::place::here;
use std::path::PathBuf;

/// In which form a list is written, and where to.
#[derive(Debug, Args)]
pub struct WriteArgs {
    /// The form
    #[arg(long = "as", value_name = "FORM", required_unless_present = "template")]
    form: Option<Form>,
    /// A template of your own, which is filled with the list; in one whose name ends in .html or .xml, what is put in is escaped
    #[arg(long, value_name = "FILE", conflicts_with = "form")]
    template: Option<PathBuf>,
    /// The file; otherwise it is shown
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
}

/// A form of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// lantern's own list, which `client check --list` reads
    List,
    /// SHA-256 sums, which the tools of every system check
    Sums,
    /// A description for download programs: every file with its hash and where it can be had (RFC 5854)
    Metalink,
    /// A list of components (CycloneDX 1.6)
    Cyclonedx,
    /// A page for players, with the ways of playing that lantern.toml names
    Page,
}

/// Writes or shows a list.
///
/// # Errors
/// When another file is there and nobody said that it goes, a file cannot be read, nobody says where one can be had, or a template makes no sense.
pub fn run(
    server: &Server,
    which: &WhichArgs,
    how: &WriteArgs,
    common: &Common,
    look: &Look,
) -> Result<()> {
    let listed = which.listed(server)?.with_family(server)?;
    let list = &listed.list;
    let files = during("files are read", || clients::files(server, &listed))?;
    let text = match (&how.template, how.form) {
        (Some(path), _) => {
            let template = here::read_text(path)?;
            let name = path.to_string_lossy().to_lowercase();
            let of = match name.contains(".html") || name.contains(".xml") {
                true => For::Markup,
                false => For::Text,
            };
            filled(&path.display().to_string(), &template, of, list, &files)
                .map_err(ClientFault::from)?
        }
        (None, Some(Form::Sums)) => sums(&files),
        (None, Some(Form::Metalink)) => metalink(list, &files).map_err(ClientFault::from)?,
        (None, Some(Form::Cyclonedx)) => cyclonedx(list, &files),
        (None, Some(Form::Page)) => {
            let ways = clients::ways(server, listed.kind.as_ref());
            players_page(list, &files, &ways).map_err(ClientFault::from)?
        }
        (None, Some(Form::List) | None) => {
            serde_json::to_string_pretty(list).expect("it has only plain values") + "\n"
        }
    };
    let Some(out) = &how.out else {
        look.say(text.trim_end());
        return Ok(());
    };
    paper::write(out, &text, common)?;
    if look.json {
        look.answer(&Written {
            out,
            bytes: text.len() as u64,
        });
    } else {
        look.say(&look.paint(
            Means::Title,
            &format!("{}: {}.", shell_word(out), bytes(text.len() as u64)),
        ));
    }
    Ok(())
}
