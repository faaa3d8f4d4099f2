//! Why nothing could be looked for.

use lantern_core::component::Id;

/// Why nothing could be looked for.
#[derive(Debug, thiserror::Error)]
pub enum CulpritFault {
    /// The releases that the plan brings are not all on offer any more.
    #[error("{id} {version}, which the plan brings, is not on offer any more")]
    NotOnOffer {
        /// The component.
        id: Id,
        /// Its version in the plan.
        version: String,
    },
    /// The question that was asked last is another one than the plan's.
    #[error("the plan is not of the question that was asked last")]
    OtherQuestion,
    /// Nothing moves that could be the one.
    #[error("the plan moves no component, so none of them can be the one")]
    NothingMoves,
}
