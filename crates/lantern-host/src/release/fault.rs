//! Why a download is no release that can be used.

/// Why a download is no release that can be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReleaseFault {
    /// No reader of the family knows it.
    #[error("no reader of this family recognizes what is in it")]
    Unknown,
    /// Several that could be meant lie in it.
    #[error("it contains several: {}; put each into the drop folder separately", .0.join(", "))]
    Several(Vec<String>),
    /// One lies in it as a part of something bigger.
    #[error(
        "it contains {folder}, but as a part of something bigger, beside {}; list what nobody needs under `unused` of the family's reader",
        .beside.join(", ")
    )]
    Part {
        /// The folder that would be the component.
        folder: String,
        /// The folders beside it.
        beside: Vec<String>,
    },
    /// What is meant lies packed in it.
    #[error("it is an archive that contains {0}: unpack it, and put that into the drop folder")]
    Around(String),
    /// It is meant for players' clients.
    #[error("it is the client edition of {0}; the server needs the server edition")]
    ClientEdition(String),
    /// What describes it makes no sense, or cannot be read.
    #[error("{0}")]
    Described(String),
}
