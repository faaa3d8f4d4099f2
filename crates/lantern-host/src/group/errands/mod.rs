//! What is done at one server of a group. It is asked for with values, and values come of it: so it is the same whether this lantern does
//! it, or one on another machine.

mod looks;
mod plans;
mod sources;

pub use looks::{
    AtVersion, Glance, Histories, Look, OneAtAGlance, OneHistory, OneOutlook, OneSurvey,
    OneVerified, OneWatched, Outlooks, Survey, Verify, Watch,
};
pub use plans::{
    Arm, Ask, Carried, Disarm, Draw, Drawn, Fetch, Lacks, OneAsked, Program, Standing, StandsAt,
};
pub use sources::{Offered, SentAlong};

use crate::changeover::{Meanwhile, meanwhile};
use crate::config::Server;
use crate::error::{Error, Result};
use crate::identity;
use crate::session::Errand;
use std::path::Path;

/// An errand that this lantern runs at a server folder whose settings and records lie here.
pub trait AtServer: Errand {
    /// Runs it.
    ///
    /// # Errors
    /// What it fails of.
    fn run(&self, folder: &Path) -> Result<Self::Came>;
}

/// Runs an errand by its name, for somebody on another machine; none where there is none of that name.
///
/// # Errors
/// What it fails of; or that what it is to know cannot be read.
pub fn run(name: &str, folder: &Path, of: serde_json::Value) -> Option<Result<serde_json::Value>> {
    fn one<E: AtServer>(folder: &Path, of: serde_json::Value) -> Result<serde_json::Value> {
        let unread = |error: serde_json::Error| Error::Misasked(error.to_string());
        let errand: E = serde_json::from_value(of).map_err(unread)?;
        serde_json::to_value(errand.run(folder)?).map_err(unread)
    }
    let runs: fn(&Path, serde_json::Value) -> Result<serde_json::Value> = match name {
        Survey::NAME => one::<Survey>,
        Outlooks::NAME => one::<Outlooks>,
        Verify::NAME => one::<Verify>,
        Watch::NAME => one::<Watch>,
        Histories::NAME => one::<Histories>,
        Glance::NAME => one::<Glance>,
        Standing::NAME => one::<Standing>,
        Carried::NAME => one::<Carried>,
        Program::NAME => one::<Program>,
        Lacks::NAME => one::<Lacks>,
        Fetch::NAME => one::<Fetch>,
        Ask::NAME => one::<Ask>,
        Draw::NAME => one::<Draw>,
        Arm::NAME => one::<Arm>,
        Disarm::NAME => one::<Disarm>,
        _ => return None,
    };
    Some(runs(folder, of))
}

/// Opens a server to look at it, with what goes on there.
fn opened(folder: &Path) -> Result<(Server, Meanwhile)> {
    let server = Server::open(folder)?;
    identity::confirm(&server.folder)?;
    let meanwhile = meanwhile(&server)?;
    Ok((server, meanwhile))
}
