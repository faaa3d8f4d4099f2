//! `lantern catalogue`

use crate::answers;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count};
use crate::progress::during;
use clap::{Args, Subcommand};
use lantern_core::family::Family;
use lantern_core::listing::{Seen, draft};
use lantern_host::config::Server;
use lantern_host::gather::{GatherWords, Gatherer};
use lantern_host::place::here;
use lantern_host::{Error, Result, config, listing, listings, signing};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// So many releases of a listing are shown.
const SHOWN_RELEASES: usize = 5;

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
    /// Draft a mapping for somebody else's listing, from one answer of it
    New {
        /// The address: that of one component's releases, or of all
        #[arg(value_name = "URL")]
        url: String,
        /// The file to write; otherwise it is shown
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
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
    /// Read a catalogue, and look whether each archive is there and is what it says; of a mapping, what it makes of an answer
    Check {
        /// The catalogue
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// The family in whose notations its versions are written; else that of --server
        #[arg(long, value_name = "NAME")]
        family: Option<String>,
        /// Of a mapping for somebody else's listing: the component to ask for, as the listing calls it
        #[arg(long, value_name = "ID")]
        id: Option<String>,
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
        CatalogueCommand::New { url, out } => new(url, out.as_deref(), common, look),
        CatalogueCommand::Sign { file, key, new_key } => sign(file, key, *new_key, look),
        CatalogueCommand::Check { file, family, id } => {
            let family = family_of(family.as_deref(), common)?;
            match listings::is_one(file) {
                true => check_listing(file, id.as_deref(), &family, common, look),
                false => check(file, &family, look),
            }
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

/// Who asks: keys and certificates are those of the server, where there is one.
fn gatherer(common: &Common) -> Result<Gatherer> {
    match Server::open(&common.server) {
        Ok(server) => server.gatherer(),
        Err(_) => Gatherer::new(&GatherWords::default(), Path::new(".")),
    }
}

/// Drafts a mapping from one answer.
fn new(url: &str, out: Option<&Path>, common: &Common, look: &Look) -> Result<u8> {
    if let Some(out) = out.filter(|out| here::look(out).is_some()) {
        return Err(Error::InTheWay(out.into()));
    }
    let gatherer = gatherer(common)?;
    let answer = during("the listing is asked", || gatherer.raw(url))?;
    let Some(text) = draft(url, &answer) else {
        look.say(&look.paint(
            Means::Bad,
            "Nothing in the answer looks like a list of releases.",
        ));
        return Ok(fail::NO);
    };
    if let Some(out) = out {
        here::write(out, text.as_bytes())?;
    }
    if look.json {
        look.answer(&answers::ListingDrafted {
            file: out.map(Path::to_owned),
            text,
        });
        return Ok(fail::DONE);
    }
    match out {
        Some(out) => {
            let told = format!("A draft is in {}.", shell_word(out));
            look.say(&look.paint(Means::Good, &told));
            look.next(&format!("lantern catalogue check {}", shell_word(out)));
        }
        None => look.say(text.trim_end()),
    }
    Ok(fail::DONE)
}

/// Asks somebody else's listing once, and shows what the mapping makes of the answer.
fn check_listing(
    file: &Path,
    id: Option<&str>,
    family: &Family,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let listing = listings::read(file)?;
    if listing.asks_each() && id.is_none() {
        return Err(Error::WhichComponent(file.into()));
    }
    let gatherer = gatherer(common)?;
    let question = listings::Question {
        ids: &BTreeSet::new(),
        called: &BTreeMap::new(),
        server: "",
        family,
    };
    let seen = during("the listing is asked", || {
        listings::explain(&listing, id, question, &gatherer)
    });
    let (url, seen) = seen?;
    let bad = seen.iter().filter(|it| it.made.is_err()).count();
    let status = match bad > 0 || seen.is_empty() {
        true => fail::NO,
        false => fail::DONE,
    };
    if look.json {
        look.answer(&answers::ListingChecked {
            url,
            releases: seen.into_iter().map(listed).collect(),
        });
        return Ok(status);
    }
    let title = format!(
        "{} in the answer of {url}; {bad} cannot be used.",
        count(seen.len(), "release", "releases")
    );
    let means = if status == fail::DONE {
        Means::Good
    } else {
        Means::Bad
    };
    look.say(&look.paint(means, &title));
    for it in seen.iter().take(SHOWN_RELEASES) {
        let line = match &it.made {
            Ok(offer) => format!("\n  {} {}", offer.facts.id, offer.facts.version),
            Err(why) => look.paint(Means::Bad, &format!("\n  left out: {why}")),
        };
        look.say(&line);
        let rows = it
            .told
            .iter()
            .map(|told| vec![told.field.to_owned(), told.at.clone(), told.text.clone()]);
        look.table(&["fact", "stands at", "says"], rows.collect());
        if it.made.as_ref().is_ok_and(|offer| {
            offer
                .supply
                .as_ref()
                .is_some_and(|supply| supply.checks.is_empty())
        }) {
            look.say(&look.paint(
                Means::Caution,
                "  no hash is stated: the file cannot be checked when it comes",
            ));
        }
    }
    if seen.len() > SHOWN_RELEASES {
        look.say(&format!("\n  and {} more", seen.len() - SHOWN_RELEASES));
    }
    Ok(status)
}

fn listed(seen: Seen) -> answers::ListedRelease {
    answers::ListedRelease {
        facts: seen.told,
        id: seen
            .made
            .as_ref()
            .ok()
            .map(|offer| offer.facts.id.to_string()),
        version: seen
            .made
            .as_ref()
            .ok()
            .map(|offer| offer.facts.version.to_string()),
        file: seen
            .made
            .as_ref()
            .ok()
            .and_then(|offer| offer.supply.as_deref().cloned()),
        problem: seen.made.err(),
    }
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
            elsewhere: checked.elsewhere,
            wrong: answers::places(&checked.wrong),
        });
        return Ok(status);
    }
    let what = format!(
        "{} of {}",
        count(checked.releases, "release", "releases"),
        count(checked.components, "component", "components")
    );
    let looked_at = checked.releases - checked.elsewhere;
    match checked.wrong.len() {
        0 if looked_at == 0 => {
            let text = format!("{what}: all can be read; no archive lies beside the catalogue.");
            look.say(&text);
        }
        0 => {
            let each = match checked.elsewhere {
                0 => "every archive".to_owned(),
                _ => "every archive beside it".to_owned(),
            };
            let text = format!("{what}: {each} is there and is what the catalogue says.");
            look.say(&look.paint(Means::Good, &text));
        }
        wrong => {
            let wrong = count(wrong, "thing is wrong", "things are wrong");
            look.say(&look.paint(Means::Bad, &format!("{what}; {wrong}.")));
        }
    }
    if checked.elsewhere > 0 {
        look.say(&format!(
            "  {} only at addresses: gather checks them as it fetches them.",
            count(checked.elsewhere, "archive is", "archives are")
        ));
    }
    for (at, why) in &checked.wrong {
        look.say(&format!("  {at}: {why}"));
    }
    Ok(status)
}
