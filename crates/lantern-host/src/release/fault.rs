//! Why a download is no release that can be used.

/// Why a download is no release that can be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReleaseFault {
    /// No reader of the family knows it.
    #[error("no reader of this family knows what is in it")]
    Unknown,
    /// What is meant lies packed in it.
    #[error("it is an archive around {0}: unpack it once, and put that into the drop folder")]
    Around(String),
    /// It is meant for players' clients.
    #[error("it is the client edition of {0}; the server needs the server edition")]
    ClientEdition(String),
    /// What describes it makes no sense, or cannot be read.
    #[error("{0}")]
    Described(String),
}
