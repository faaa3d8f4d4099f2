//! Which versions fit.

use lantern_core::component::{Id, Kind};
use lantern_core::outlook::{ClientRow, Outlook, Standing, Together};
use lantern_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// `outlook`
#[derive(Debug, Serialize, JsonSchema)]
pub struct OutlookTable<'a> {
    versions: Vec<OutlookVersion<'a>>,
    components: Vec<OutlookRow<'a>>,
    clients: &'a [ClientRow],
    highest_for_all: Option<String>,
    highest_without_loss: Option<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct OutlookVersion<'a> {
    version: String,
    protocol: &'a Option<String>,
    together: Together,
    held_back_by: &'a BTreeMap<Id, Vec<Id>>,
    /// The server versions on the way there; null where no way leads there.
    stops: Option<Vec<String>>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct OutlookRow<'a> {
    id: &'a Id,
    kind: Kind,
    installed: String,
    /// Whether it is switched off.
    off: bool,
    world_bound: Option<bool>,
    standings: &'a [Standing],
}

impl<'a> OutlookTable<'a> {
    /// The outlook, and the stops on the way to each version.
    pub fn new(outlook: &'a Outlook, stops: &[Option<Vec<Version>>]) -> OutlookTable<'a> {
        let text = ToString::to_string;
        let versions = outlook.versions.iter().enumerate().map(|(at, version)| {
            let way = stops[at].as_ref();
            OutlookVersion {
                version: version.to_string(),
                protocol: &outlook.protocols[at],
                together: outlook.together[at],
                held_back_by: &outlook.held_back[at],
                stops: way.map(|way| way.iter().map(text).collect()),
            }
        });
        let components = outlook.rows.iter().map(|row| OutlookRow {
            id: &row.id,
            kind: row.kind,
            installed: row.installed.to_string(),
            off: row.off,
            world_bound: row.world_bound,
            standings: &row.standings,
        });
        OutlookTable {
            versions: versions.collect(),
            components: components.collect(),
            clients: &outlook.clients,
            highest_for_all: outlook.highest_for_all().map(text),
            highest_without_loss: outlook.highest_without_loss().map(text),
        }
    }
}
