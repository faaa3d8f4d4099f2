//! What lantern knows of releases.

use lantern_host::learned::Seen;
use schemars::JsonSchema;
use serde::Serialize;

/// `known`.
#[derive(Serialize, JsonSchema)]
pub struct FactsKnown {
    /// What was seen not to start together, by number.
    pub facts: Vec<Seen>,
}

/// `known forget`.
#[derive(Serialize, JsonSchema)]
pub struct FactForgotten {
    /// What is not heeded any more.
    pub forgotten: Seen,
}

/// `known take`.
#[derive(Serialize, JsonSchema)]
pub struct FactsTaken {
    /// How many of them were not known.
    pub new: usize,
    /// How many there are in the file.
    pub all: usize,
}
