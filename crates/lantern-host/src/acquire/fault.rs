//! Why a recipe gives no server program.

use lantern_core::version::RangeFault;
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
    /// None of the runtimes that are installed does.
    #[error("the recipe needs a runtime {needed}; found: {}", .found.join(", "))]
    NoRuntime {
        /// The range it has to be in.
        needed: String,
        /// What there is: each program, with its version or why that is not known.
        found: Vec<String>,
    },
    /// The range that a runtime has to be in makes no sense.
    #[error("acquire.runtime.range: {0}")]
    Range(RangeFault),
    /// A recipe does not say what is wanted of what it makes.
    #[error("the recipe names neither `product` nor `results`")]
    NothingWanted,
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
