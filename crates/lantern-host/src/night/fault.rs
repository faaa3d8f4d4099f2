//! Why no changeover waits.

/// Why nothing waits.
#[derive(Debug, thiserror::Error)]
pub enum NightFault {
    /// Another one waits already.
    #[error("a changeover waits already: plan {0}")]
    AlreadyWaits(String),
    /// None waits.
    #[error("no changeover waits")]
    NothingWaits,
    /// It did not end when it was asked to.
    #[error("it has begun meanwhile, and goes on to its end")]
    HasBegun,
    /// A person has to stop and start it.
    #[error("a person has to stop and start this server, and nobody is there at that hour")]
    NeedsPerson,
    /// Nobody can tell who is on.
    #[error("who is on cannot be told, so nobody could say when it is empty: {0}")]
    CannotTell(String),
    /// That hour is past.
    #[error("there is no such hour any more")]
    Past,
    /// The process that was to wait has ended at once.
    #[error("the process that was to wait has ended at once")]
    EndedAtOnce,
}
