//! Why a recipe gives no server program.

use std::path::PathBuf;

/// Why a recipe gives no server program.
#[derive(Debug, thiserror::Error)]
pub enum AcquireFault {
    /// Nothing says how the server program is made.
    #[error("neither lantern.toml nor the family has a recipe for the server program")]
    NoRecipe,
    /// A recipe's runtime is too old, too new, or does not tell.
    #[error("the recipe needs {program} {needed}; found: {found}")]
    Runtime {
        /// The runtime's program.
        program: String,
        /// The range it has to be in.
        needed: String,
        /// The version that was found.
        found: String,
    },
    /// A recipe did not give what is wanted.
    #[error("the recipe made no server program: {why}")]
    Recipe {
        /// Why.
        why: String,
        /// What it printed.
        log: PathBuf,
        /// The end of that.
        last: Vec<String>,
    },
}
