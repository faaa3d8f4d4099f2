//! What can be wrong with what is said of players' clients.

use lantern_core::clients::FormFault;
use lantern_core::component::Id;
use lantern_core::path::RelPath;
use std::path::PathBuf;

/// Why nothing can be said of clients, or packed for them.
#[derive(Debug, thiserror::Error)]
pub enum ClientFault {
    /// Neither the family nor a component names such a kind of client.
    #[error(
        "neither the family nor anything that runs names a kind of client called {named}; {}",
        kinds_known(known)
    )]
    NoSuchKind {
        /// What was named.
        named: String,
        /// Those that it names.
        known: Vec<String>,
    },
    /// What lantern.toml says of one cannot be meant so.
    #[error("lantern.toml, client \"{id}\": {why}")]
    Words {
        /// What it is called there.
        id: String,
        /// What is wrong.
        why: String,
    },
    /// No client edition of a component is in the folder where they are kept, or none in the right version.
    #[error("{} has no release of {id}{}{}", folder.display(), version.as_ref().map_or(String::new(), |version| format!(" {version}")), editions_known(known))]
    NoEdition {
        /// The component.
        id: Id,
        /// The version that runs on the server; none where it does not.
        version: Option<String>,
        /// The folder.
        folder: PathBuf,
        /// The versions that are there.
        known: Vec<String>,
    },
    /// A file that a plan will have changed cannot be packed before.
    #[error(
        "{0} is edited by the plan, so that what clients must have of it is known only afterwards"
    )]
    EditedByPlan(RelPath),
    /// A file of the list is not to be had here.
    #[error("{0} is on the list, and nobody says where it is to be had")]
    Nowhere(RelPath),
    /// A file is not the one that the list names.
    #[error("{0} is different from what was listed")]
    Changed(RelPath),
    /// A pack would be written among what is kept, or into a component.
    #[error("{path} is on the keep list, or lantern's own: a pack is not written there")]
    WritesKept {
        /// The path.
        path: RelPath,
    },
    /// A file is there already.
    #[error("{} is there already", .0.display())]
    InTheWay(PathBuf),
    /// A list cannot be written in the form that is asked for.
    #[error("{0}")]
    Form(#[from] FormFault),
    /// A text is no list of what clients must have.
    #[error("{}: {why}", path.display())]
    NoList {
        /// The file.
        path: PathBuf,
        /// Why.
        why: String,
    },
    /// The server's lists do not go back so far.
    #[error("no list is kept of server version {version}; {}", lists_known(known))]
    NoEarlier {
        /// What was named.
        version: String,
        /// The versions of which one is.
        known: Vec<String>,
    },
}

fn kinds_known(known: &[String]) -> String {
    match known {
        [] => "they name none".into(),
        known => format!("there are {}", known.join(", ")),
    }
}

fn editions_known(known: &[String]) -> String {
    match known {
        [] => String::new(),
        known => format!("; it has {}", known.join(", ")),
    }
}

fn lists_known(known: &[String]) -> String {
    match known {
        [] => "none is kept yet: each changeover keeps one".into(),
        known => format!("one is kept of {}", known.join(", ")),
    }
}
