//! What can go wrong with a lantern on another machine.

/// What can go wrong with a lantern on another machine.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SessionFault {
    /// The program that leads there cannot be run; why.
    #[error("{0}")]
    Ended(String),
    /// The connection broke; why.
    #[error("the session broke: {0}")]
    Broken(String),
    /// This very lantern is not there.
    #[error("this lantern is not there")]
    NotSent,
    /// Another one is there; its version.
    #[error("the lantern there is another one, {0}")]
    Other(String),
    /// It said what nobody understands; why.
    #[error("what it says cannot be understood: {0}")]
    Unread(String),
    /// The machine is of another kind: the one there, and the one here.
    #[error("it is {0}, and this is {1}: this program does not run there")]
    OtherKind(String, String),
    /// It cannot be put there; why.
    #[error("it cannot be put there: {0}")]
    NotTaken(String),
}
