//! The files of a list with all their hashes, and where each can be had.

use super::Listed;
use super::fault::ClientFault;
use crate::config::Server;
use crate::depot::Depot;
use crate::error::Result;
use crate::gather::Digest;
use lantern_core::clients::{ClientFile, FileToHave, Way};
use lantern_core::family::ClientKind;
use lantern_core::link;
use lantern_core::path::RelPath;
use lantern_core::supply::HashKind;
use std::collections::BTreeSet;
use url::Url;

/// All files of a list; those of which catalogues know addresses with these, before the administrator's own.
///
/// # Errors
/// When a file cannot be read.
pub fn files(server: &Server, listed: &Listed) -> Result<Vec<FileToHave>> {
    let mut depot = Depot::default();
    for path in server.catalogues() {
        depot.open_known(server, &path);
    }
    depot.take(&BTreeSet::new(), &server.family);
    let mut files = Vec::new();
    for item in &listed.list.items {
        for file in &item.files {
            let sha256 = sha256(server, listed, file)?;
            let urls = addresses(server, &depot, file);
            files.push(FileToHave::of(item, file, sha256, urls));
        }
    }
    Ok(files)
}

/// SHA-256 of a file's content, which has to be the one that is listed; of a link none.
fn sha256(server: &Server, listed: &Listed, file: &ClientFile) -> Result<String> {
    if link::target(&file.blake3).is_some() {
        return Ok(String::new());
    }
    let mut digest = Digest::of([HashKind::Sha256].into_iter());
    listed.copy(server, file, &mut digest)?;
    let sums = digest.finish();
    let of = |kind| {
        sums.iter()
            .find(|sum| sum.kind == kind)
            .map(|sum| sum.hex.clone())
    };
    if of(HashKind::Blake3).as_ref() != Some(&file.blake3) {
        return Err(ClientFault::Changed(file.path.clone()).into());
    }
    Ok(of(HashKind::Sha256).unwrap_or_default())
}

/// Where a file can be had: where catalogues say, if one of theirs is it, and below the administrator's own address.
fn addresses(server: &Server, depot: &Depot, file: &ClientFile) -> Vec<String> {
    let offer = depot.known(&file.blake3, &server.family);
    let known = offer.and_then(|offer| offer.supply);
    let mut all: Vec<String> = known.map(|supply| supply.urls).unwrap_or_default();
    all.extend(
        server
            .config
            .players_at
            .as_ref()
            .and_then(|at| below(at, &file.path)),
    );
    all
}

/// A path below an address.
fn below(at: &str, path: &RelPath) -> Option<String> {
    let mut url = Url::parse(at).ok()?;
    url.path_segments_mut()
        .ok()?
        .pop_if_empty()
        .extend(path.as_str().split('/'));
    Some(url.into())
}

/// The ways of playing with a kind of client, in the administrator's words.
pub fn ways(server: &Server, kind: Option<&ClientKind>) -> Vec<Way> {
    let first = server.family.clients.first().map(|kind| &kind.name);
    let meant = kind.map(|kind| &kind.name);
    let ways = server.config.players.iter().filter(|way| match &way.kind {
        None => meant == first,
        named => named.as_ref() == meant,
    });
    ways.map(|way| Way {
        name: way.name.clone(),
        text: way.text.clone(),
    })
    .collect()
}
