//! What can come next on a command line: ids, versions, backups and servers, as a shell asks for them.
//!
//! Nothing here may be slow or say anything: where something cannot be read, there are no candidates.

use crate::around;
use clap_complete::engine::CompletionCandidate;
use lantern_host::backup;
use lantern_host::config::Server;
use lantern_host::known;
use lantern_host::ledger::Ledger;
use std::collections::BTreeSet;

/// The server that the command line being typed is about, as far as that can be told: the one around here, or in the
/// environment.
fn server() -> Option<Server> {
    Server::open(&around::unnamed()).ok()
}

fn candidates(texts: impl IntoIterator<Item = String>) -> Vec<CompletionCandidate> {
    texts.into_iter().map(CompletionCandidate::new).collect()
}

/// Ids of what is installed.
pub fn ids() -> Vec<CompletionCandidate> {
    let owners = || {
        let remembered = Ledger::open(&server()?.folder).ok()?.remembered().ok()?;
        let owners = remembered.into_values().filter_map(|known| known.owner);
        let ids: BTreeSet<String> = owners.map(|id| id.to_string()).collect();
        Some(ids)
    };
    candidates(owners().unwrap_or_default())
}

/// Server versions of the catalogues that `lantern.toml` names, and the words in their place.
pub fn versions() -> Vec<CompletionCandidate> {
    let offered = || {
        let server = server()?;
        let build = server.family.build.id.clone();
        let mut depot = lantern_host::depot::Depot::default();
        for path in server.catalogues() {
            depot.open_known(&server, &path);
        }
        depot.take(&BTreeSet::new(), &server.family);
        let builds = depot.offers.into_iter();
        let builds = builds.filter(|offer| offer.facts.id.as_str() == build);
        let versions: BTreeSet<String> = builds.map(|it| it.facts.version.to_string()).collect();
        Some(versions)
    };
    let words = ["same".to_owned(), "best".to_owned()];
    candidates(offered().unwrap_or_default().into_iter().chain(words))
}

/// Kinds of client that the family names, each with the sign before its version.
pub fn clients() -> Vec<CompletionCandidate> {
    let kinds = server()
        .into_iter()
        .flat_map(|server| server.family.clients);
    candidates(kinds.map(|kind| format!("{}=", kind.name)))
}

/// Kinds of client that the family names.
pub fn client_kinds() -> Vec<CompletionCandidate> {
    let kinds = server()
        .into_iter()
        .flat_map(|server| server.family.clients);
    candidates(kinds.map(|kind| kind.name))
}

/// Names of backups.
pub fn backups() -> Vec<CompletionCandidate> {
    // Who presses a key does not wait for another machine.
    let server = server().filter(|server| server.config.backup.elsewhere().is_none());
    let listed = server.and_then(|server| backup::list(&server).ok());
    let names = listed.into_iter().flat_map(|(pages, _)| pages);
    let names = names.map(|page| page.name);
    candidates(names.chain(["latest".to_owned()]))
}

/// The servers that run on the install.
pub fn of_install() -> Vec<CompletionCandidate> {
    let each = server()
        .into_iter()
        .flat_map(|server| server.config.servers);
    candidates(each.map(|one| one.name))
}

/// Servers that this user has in care.
pub fn servers() -> Vec<CompletionCandidate> {
    candidates(known::servers().into_keys())
}
