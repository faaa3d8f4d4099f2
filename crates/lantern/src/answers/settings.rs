//! Settings files.

use lantern_core::component::Id;
use lantern_core::path::RelPath;
use lantern_host::planning::Decision;
use schemars::JsonSchema;
use serde::Serialize;

/// `adopt --moved`, `adopt --copy`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Settled {
    /// The server's name.
    pub server: String,
    /// Its own mark.
    pub id: String,
}

/// `settings compare`
#[derive(Debug, Serialize, JsonSchema)]
pub struct SettingsCompared {
    /// The file.
    pub path: RelPath,
    /// What it was compared with.
    pub sample: String,
    /// Where the sample's state before comes from; null where nobody knows it.
    pub before: Option<String>,
    /// Where its state now comes from.
    pub now: String,
    /// Every value, in the sample's order, and then those that are only yours.
    pub values: Vec<ValueCompared>,
}

/// A value of yours, and of a sample.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ValueCompared {
    /// Its key.
    pub key: String,
    /// Whether it is a secret: then it is not said what the three are.
    pub secret: bool,
    /// What you have; null where you have none.
    pub mine: Option<String>,
    /// What the sample said before.
    pub before: Option<String>,
    /// What it says now.
    pub now: Option<String>,
    /// How they stand: same, yours, changed there, changed by both, new there, only yours, gone there, differs.
    pub standing: &'static str,
}

/// `settings decided`, `settings forget`
#[derive(Debug, Serialize, JsonSchema)]
pub struct DecisionsMade {
    /// In the order in which they were made.
    pub decisions: Vec<Decision>,
}

/// `settings keep`, `kept`, `unkeep`, `import`
#[derive(Debug, Serialize, JsonSchema)]
pub struct PatchesKept {
    /// By name.
    pub patches: Vec<PatchKept>,
}

/// A hand edit with a name.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PatchKept {
    /// Its name.
    pub name: String,
    /// The file.
    pub path: RelPath,
    /// The component that ships it; null of a file of the place.
    pub component: Option<Id>,
    /// How many places it changes.
    pub changes: usize,
    /// How it stands to the file, in words.
    pub stands: String,
    /// It as a unified diff.
    pub text: String,
}

/// `settings set --now`
#[derive(Debug, Serialize, JsonSchema)]
pub struct SettingsSet {
    /// The file.
    pub path: RelPath,
    /// The key.
    pub key: String,
    /// What it said before; null where it was not there.
    pub before: Option<String>,
}

/// `settings show`
#[derive(Debug, Serialize, JsonSchema)]
pub struct SettingsShown {
    /// The file.
    pub path: RelPath,
    /// Its values, in their order.
    pub values: Vec<SettingsValue>,
}

/// A value in a settings file.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SettingsValue {
    /// The way to it, with dots between.
    pub key: String,
    /// What it says; null where that is a secret by its name.
    pub says: Option<String>,
    /// Its line, from 1.
    pub line: usize,
}
