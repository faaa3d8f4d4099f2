//! Catalogues made of folders of releases, and held against them.

use crate::depot::{Beside, Depot};
use crate::downloads::{Downloads, hash_now};
use crate::error::{At, Error, Result};
use crate::gather::{differing, hashes_of};
use crate::place::here;
use crate::web::address;
use lantern_core::catalogue;
use lantern_core::component::Id;
use lantern_core::family::Family;
use lantern_core::offer::Offer;
use lantern_core::supply::{Checksum, HashKind, encoded};
use std::path::Path;
use std::sync::Arc;

/// What a catalogue was made of.
#[derive(Debug)]
pub struct Listed {
    /// The catalogue's text.
    pub text: String,
    /// The releases in it.
    pub offers: Vec<Offer>,
    /// What of the folder is not in it: where, and why.
    pub left_out: Vec<(String, String)>,
}

/// Makes a catalogue of the releases in a folder, as the readers of a family know them; the archives are named relative to
/// that folder, where the catalogue has to lie.
///
/// # Errors
/// When the folder cannot be listed, or the address is none. What no reader knows only lands in `left_out`.
pub fn make(folder: &Path, family: &Family, name: &str, url: Option<&str>) -> Result<Listed> {
    // Of an address without a slash at its end, the last part would be taken for a file.
    let base = url.map(|url| {
        let failed = |fault| Error::Web {
            url: url.to_owned(),
            fault,
        };
        address(&format!("{}/", url.trim_end_matches('/'))).map_err(failed)
    });
    let base = base.transpose()?;
    let mut depot = Depot::default();
    let downloads = Downloads::apart();
    depot.add_drop_folder(folder, family, &downloads)?;
    let known: Vec<String> = depot
        .offers
        .iter()
        .map(|o| o.artifact.file.clone())
        .collect();
    for path in here::list(folder)? {
        let whole = std::path::absolute(&path).unwrap_or_else(|_| path.clone());
        let is_known = known.iter().any(|file| Path::new(file) == whole);
        let told = depot.left_out.iter().any(|(at, _)| Path::new(at) == path);
        if !is_known && !told {
            let why = "no reader of this family has a `drop` for such a name".to_owned();
            depot.left_out.push((path.display().to_string(), why));
        }
    }
    for offer in &mut depot.offers {
        let file = Path::new(&offer.artifact.file).file_name();
        let file = file.and_then(|file| file.to_str());
        Arc::make_mut(&mut offer.artifact).file = file
            .ok_or_else(|| Error::OddPath(offer.artifact.file.clone().into()))?
            .to_owned();
        if let Some(base) = &base {
            let file = encoded(&offer.artifact.file);
            Arc::make_mut(&mut offer.artifact).urls = vec![format!("{base}{file}")];
        }
    }
    Ok(Listed {
        text: catalogue::write(name, &depot.offers),
        offers: depot.offers,
        left_out: depot.left_out,
    })
}

/// What a catalogue that was checked holds.
#[derive(Debug)]
pub struct Checked {
    /// How many releases could be read.
    pub releases: usize,
    /// Of how many components.
    pub components: usize,
    /// How many of them are not here, but at an address: nobody looked at those.
    pub elsewhere: usize,
    /// What is wrong: where, and why.
    pub wrong: Vec<(String, String)>,
}

/// Reads a catalogue, and looks whether each archive that lies beside it is there and is what it says.
///
/// # Errors
/// When the catalogue as a whole cannot be read.
pub fn check(path: &Path, family: &Family) -> Result<Checked> {
    let mut depot = Depot::default();
    depot.open(path, Beside::Here)?;
    depot.take_all(family);
    let mut wrong = depot.left_out;
    let mut elsewhere = 0;
    for offer in &depot.offers {
        if !offer.artifact.is_at_hand() {
            elsewhere += 1;
            continue;
        }
        let at = format!("{} {}", offer.facts.id, offer.facts.version);
        wrong.extend(no_match(offer).map(|why| (at, why)));
    }
    let ids: std::collections::BTreeSet<&Id> =
        depot.offers.iter().map(|offer| &offer.facts.id).collect();
    Ok(Checked {
        releases: depot.offers.len(),
        components: ids.len(),
        elsewhere,
        wrong,
    })
}

/// Why a release's file is not what is stated of it.
fn no_match(offer: &Offer) -> Option<String> {
    let file = Path::new(&offer.artifact.file);
    let checks = offer.supply.iter().flat_map(|supply| &supply.checks);
    let hashes = match here::look(file) {
        Some(meta) if meta.is_folder() => hash_now(file).map(|hex| {
            let kind = HashKind::Blake3;
            vec![Checksum { kind, hex }]
        }),
        _ => here::open(file)
            .and_then(|mut file| hashes_of(&mut file, checks.clone().map(|check| check.kind)))
            .at("reading", file),
    };
    let hashes = match hashes {
        Ok(hashes) => hashes,
        Err(error) => return Some(error.to_string()),
    };
    if let Some((_, is)) = differing(checks, &hashes) {
        return Some(format!("it is another file: its {} is {}", is.kind, is.hex));
    }
    let bytes = here::look(file).filter(|meta| meta.is_file())?.stamp.bytes;
    let stated = offer.artifact.bytes;
    (bytes != stated).then(|| format!("it has {bytes} bytes, not {stated}"))
}
