//! Why a folder cannot be looked at.

use lantern_core::component::Id;

/// Why a folder cannot be looked at.
#[derive(Debug, thiserror::Error)]
pub enum SurveyFault {
    /// Several load-order files match.
    #[error("several files could hold the load order: {}", files.join(", "))]
    SeveralOrderFiles {
        /// They.
        files: Vec<String>,
    },
    /// Nothing of that id is installed.
    #[error("{id} is not installed{}", near.as_ref().map_or(String::new(), |id| format!("; did you mean {id}?")))]
    NotInstalled {
        /// The id that was asked for.
        id: Id,
        /// The installed id that is nearest to it, where any is near.
        near: Option<Id>,
    },
}
