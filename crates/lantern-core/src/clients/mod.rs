//! Which players' clients may join, and what they must have to match the server.

mod who;

pub use who::{ClientChange, Entrance, MayJoin, compared, who_may_join};

use crate::component::{Id, Side};
use crate::inventory::{Component, Inventory};
use crate::path::RelPath;
use schemars::JsonSchema;
use serde::Serialize;

/// One component that clients must have, too.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ClientItem {
    /// Which component.
    pub id: Id,
    /// In exactly this version.
    pub version: String,
    /// Where it lies, on the server as on the client.
    pub place: RelPath,
    /// Its files: path, BLAKE3 in hexadecimal, size in bytes.
    pub files: Vec<ClientFile>,
}

/// One file that clients must have, too.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ClientFile {
    /// Where it lies.
    pub path: RelPath,
    /// BLAKE3 of its content in hexadecimal.
    pub blake3: String,
    /// Its size.
    pub bytes: u64,
}

/// All that clients must have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ClientList {
    /// The server version that clients must speak to; none when it is not known.
    pub server_version: Option<String>,
    /// What they must have, by id.
    pub items: Vec<ClientItem>,
    /// Components that do not say whether clients need them.
    pub unknown: Vec<Id>,
}

/// Lists what clients must have: all that runs here and is for both sides.
pub fn list(inventory: &Inventory) -> ClientList {
    let runs = |component: &&Component| !component.runs.is_off();
    let running = inventory.components.iter().filter(runs);
    let of_side = |side: Option<Side>| {
        running
            .clone()
            .filter(move |component| component.facts.side == side)
    };
    let items = of_side(Some(Side::Both)).filter_map(|component| {
        let files = component.files.iter().filter_map(|file| {
            Some(ClientFile {
                path: file.path.clone(),
                blake3: file.hash.clone()?,
                bytes: file.bytes,
            })
        });
        Some(ClientItem {
            id: component.facts.id.clone(),
            version: component.facts.version.to_string(),
            place: component.place.clone()?,
            files: files.collect(),
        })
    });
    ClientList {
        server_version: inventory.server_version().map(ToString::to_string),
        items: items.collect(),
        unknown: of_side(None)
            .map(|component| component.facts.id.clone())
            .collect(),
    }
}

#[cfg(test)]
mod tests {
    use crate::inventory::tests::inventory;
    use std::collections::BTreeMap;

    #[test]
    fn only_what_runs_and_is_for_both_sides() {
        let files = [
            ("addons/a.bloom", "id='a'\nversion='1'\nside='both'"),
            ("addons/b.bloom", "id='b'\nversion='1'\nside='server'"),
            ("addons/c.bloom", "id='c'\nversion='1'\nside='both'"),
            ("addons/d.bloom", "id='d'\nversion='1'"),
        ];
        let list = super::list(&inventory(
            &files,
            "start a\nstart b\nstart d\n",
            &BTreeMap::new(),
        ));
        let ids: Vec<&str> = list.items.iter().map(|item| item.id.as_str()).collect();
        assert_eq!(ids, ["a"]);
        assert_eq!(list.items[0].files.len(), 1);
        assert_eq!(list.unknown.len(), 1);
    }
}
