//! `lantern catalogue`

use crate::answers;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count};
use crate::progress::during;
use clap::{Args, Subcommand};
use lantern_core::family::Family;
use lantern_host::config::Server;
use lantern_host::place::here;
use lantern_host::{Error, Result, config, listing, signing};
use std::path::{Path, PathBuf};

/// Make a catalogue of a folder of releases, check one, and sign it
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern catalogue make releases\n  lantern catalogue check releases/releases.catalogue.json\n  lantern catalogue sign releases/releases.catalogue.json --key depot.key --new-key"
)]
pub struct CatalogueArgs {
    #[command(subcommand)]
    what: CatalogueCommand,
}

#[derive(Debug, Subcommand)]
enum CatalogueCommand {
    /// Write a catalogue of all releases in a folder, with their hashes; it lies in that folder
    Make {
        /// The folder with the releases
        #[arg(value_name = "FOLDER")]
        folder: PathBuf,
        /// The family whose readers know them, by name or file; else that of --server
        #[arg(long, value_name = "NAME")]
        family: Option<String>,
        /// What the catalogue is called; else as the folder
        #[arg(long, value_name = "TEXT")]
        name: Option<String>,
        /// Write over a catalogue that is there
        #[arg(long)]
        again: bool,
        /// Where a web server offers that folder: the catalogue then names whole addresses, and can lie elsewhere
        #[arg(long, value_name = "BASE")]
        url: Option<String>,
    },
    /// Sign a catalogue, so that nobody can have another one taken for it; the signature comes to lie beside it
    Sign {
        /// The catalogue
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// The secret key; its password, if it has one, is asked of the variable LANTERN_KEY_PASSWORD
        #[arg(long, value_name = "FILE")]
        key: PathBuf,
        /// Make the key first; with a password where LANTERN_KEY_PASSWORD holds one
        #[arg(long)]
        new_key: bool,
    },
    /// Read a catalogue, and look whether each archive is there and is what it says
    Check {
        /// The catalogue
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// The family in whose notations its versions are written; else that of --server
        #[arg(long, value_name = "NAME")]
        family: Option<String>,
    },
}

/// Makes or checks a catalogue.
pub fn run(args: &CatalogueArgs, common: &Common, look: &Look) -> Result<u8> {
    match &args.what {
        CatalogueCommand::Make {
            folder,
            family,
            name,
            again,
            url,
        } => {
            // As the next command has to say it.
            let said = match family {
                Some(name) => format!("--family {}", shell_word(Path::new(name))),
                None => format!("--server {}", shell_word(&common.server)),
            };
            let family = family_of(family.as_deref(), common)?;
            let names = (name.as_deref(), url.as_deref());
            make((folder, &family, &said), names, *again, look)
        }
        CatalogueCommand::Sign { file, key, new_key } => sign(file, key, *new_key, look),
        CatalogueCommand::Check { file, family } => {
            check(file, &family_of(family.as_deref(), common)?, look)
        }
    }
}

fn sign(file: &Path, key: &Path, is_new: bool, look: &Look) -> Result<u8> {
    let password = std::env::var("LANTERN_KEY_PASSWORD").ok();
    let password = password.filter(|password| !password.is_empty());
    if is_new {
        signing::new_key(key, password.clone())?;
    }
    let (signature, public) = signing::sign(file, key, password)?;
    if look.json {
        look.answer(&answers::CatalogueSigned {
            signature,
            key: public,
        });
        return Ok(fail::DONE);
    }
    let text = format!("{} is signed: {}", shell_word(file), shell_word(&signature));
    look.say(&look.paint(Means::Good, &text));
    look.say("Who uses it states in lantern.toml:");
    let at = file.to_string_lossy();
    look.say(&format!(
        "  catalogues = [{{ at = {at:?}, key = \"{public}\" }}]"
    ));
    Ok(fail::DONE)
}

fn family_of(named: Option<&str>, common: &Common) -> Result<Family> {
    match named {
        Some(name) => config::family(name, Path::new("")),
        None => Ok(Server::open(&common.server)?.family),
    }
}

fn make(
    (folder, family, said): (&Path, &Family, &str),
    (name, url): (Option<&str>, Option<&str>),
    again: bool,
    look: &Look,
) -> Result<u8> {
    let real = here::real(folder).ok_or_else(|| Error::NotAFolder(folder.into()))?;
    let called = real
        .file_name()
        .map(|name| name.to_string_lossy().into_owned());
    let called = name.map(str::to_owned).or(called).unwrap_or_default();
    let file = folder.join(format!("{}.catalogue.json", plain(&called)));
    if here::look(&file).is_some() && !again {
        return Err(Error::InTheWay(file));
    }
    let made = during("releases are read", || {
        listing::make(folder, family, &called, url)
    });
    let made = made?;
    let own = |at: &str| at.ends_with(".catalogue.json");
    let left_out: Vec<_> = made
        .left_out
        .into_iter()
        .filter(|(at, _)| !own(at))
        .collect();
    let status = match made.offers.is_empty() {
        true => fail::NO,
        false => fail::DONE,
    };
    if status == fail::DONE {
        here::write(&file, made.text.as_bytes())?;
    }
    if look.json {
        look.answer(&answers::CatalogueMade {
            file: (status == fail::DONE).then_some(&*file),
            releases: made.offers.len(),
            left_out: answers::places(&left_out),
        });
        return Ok(status);
    }
    let releases = count(made.offers.len(), "release", "releases");
    match status {
        fail::DONE => {
            let text = format!("{releases} in {}.", shell_word(&file));
            look.say(&look.paint(Means::Good, &text));
        }
        _ => look.say(&look.paint(
            Means::Bad,
            "It contains no release that this family recognizes.",
        )),
    }
    for (at, why) in &left_out {
        look.say(&format!("  not in it: {at}: {why}"));
    }
    if status == fail::DONE {
        look.next(&format!(
            "lantern catalogue check {} {said}",
            shell_word(&file)
        ));
    }
    Ok(status)
}

/// A name that is fit to be a file's.
fn plain(name: &str) -> String {
    let fine = |c: char| c.is_alphanumeric() || "._-".contains(c);
    name.chars()
        .map(|c| if fine(c) { c } else { '-' })
        .collect()
}

fn check(file: &Path, family: &Family, look: &Look) -> Result<u8> {
    let checked = during("archives are read", || listing::check(file, family));
    let checked = checked?;
    let status = match checked.wrong.is_empty() {
        true => fail::DONE,
        false => fail::NO,
    };
    if look.json {
        look.answer(&answers::CatalogueChecked {
            releases: checked.releases,
            components: checked.components,
            wrong: answers::places(&checked.wrong),
        });
        return Ok(status);
    }
    let what = format!(
        "{} of {}",
        count(checked.releases, "release", "releases"),
        count(checked.components, "component", "components")
    );
    match checked.wrong.len() {
        0 => {
            let text = format!("{what}: every archive is there and is what the catalogue says.");
            look.say(&look.paint(Means::Good, &text));
        }
        wrong => {
            let wrong = count(wrong, "thing is wrong", "things are wrong");
            look.say(&look.paint(Means::Bad, &format!("{what}; {wrong}.")));
        }
    }
    for (at, why) in &checked.wrong {
        look.say(&format!("  {at}: {why}"));
    }
    Ok(status)
}
