//! What can be wrong with a signature.

/// Why a catalogue is not believed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SigningFault {
    /// What is stated in `lantern.toml` is no key.
    #[error("the key that is stated for it is none: it begins with RW, and has 56 characters")]
    NoKey,
    /// There is no signature.
    #[error("it has to be signed, and its signature cannot be had: {0}")]
    Unsigned(String),
    /// The signature is of something else, or by somebody else.
    #[error("its signature does not fit: {0}")]
    Wrong(String),
    /// It is older than what was seen before.
    #[error("it is older than the one that was seen before: it was signed {0} s earlier")]
    Older(u64),
    /// The file is no secret key, or its password is another.
    #[error("the secret key cannot be used: {0}")]
    Secret(String),
}
