//! Why a server is not kept up by itself.

/// Why not.
#[derive(Debug, thiserror::Error)]
pub enum KeepUpFault {
    /// Nobody has said that it may be.
    #[error("this server is not kept up by itself: lantern.toml has no [keep_up]")]
    Off,
}
