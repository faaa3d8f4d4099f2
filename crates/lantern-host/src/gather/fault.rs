//! What can go wrong while files are gathered.

use crate::error::Error;
use crate::web::fault::WebFault;
use lantern_core::supply::Checksum;

/// Why a file did not come from an address.
#[derive(Debug, thiserror::Error)]
pub enum GatherFault {
    /// The address gave nothing.
    #[error(transparent)]
    Web(#[from] WebFault),
    /// It has another size.
    #[error("it has {is} bytes, and {stated} are stated")]
    OtherSize {
        /// How many there are.
        is: u64,
        /// How many there should be.
        stated: u64,
    },
    /// It goes on behind its end.
    #[error("it goes on after the {0} bytes that are stated")]
    Longer(u64),
    /// It is another file.
    #[error("it is another file: its {} is {is}, and {} is stated", stated.kind, stated.hex)]
    OtherHash {
        /// What was stated.
        stated: Checksum,
        /// What it is.
        is: String,
    },
    /// This machine cannot keep it.
    #[error("it cannot be kept here: {0}")]
    Here(String),
    /// Somebody wanted it to end.
    #[error("it was called off; what has come is kept")]
    CalledOff,
}

impl From<Error> for GatherFault {
    fn from(error: Error) -> GatherFault {
        GatherFault::Here(error.to_string())
    }
}

impl GatherFault {
    /// Whether no other address helps, either.
    pub(super) fn is_here(&self) -> bool {
        matches!(self, GatherFault::Here(_) | GatherFault::CalledOff)
    }

    /// Whether what was there from before may be the reason.
    pub(super) fn is_of_content(&self) -> bool {
        matches!(
            self,
            GatherFault::OtherSize { .. } | GatherFault::Longer(_) | GatherFault::OtherHash { .. }
        )
    }
}
