//! What became of a plan, as it is written down beside it.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// The last plan that was asked for, and what became of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Armed {
    /// The number of the format: 1.
    pub format: u32,
    /// The plan's name; none where no plan came of it.
    pub name: Option<String>,
    /// The server version before, where it is known.
    pub from: Option<String>,
    /// The server version afterwards; none where no plan came of it.
    pub to: Option<String>,
    /// When it was asked for, in milliseconds since 1970.
    pub at_ms: i64,
    /// What became of it.
    pub became: Became,
    /// Of what was planned for the servers of a group at once: a mark that all of them bear, and nothing else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
}

/// What became of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Became {
    /// It waits to be carried out.
    Armed,
    /// None came of what was asked, and why.
    NoPlan(String),
    /// It was carried out, as the operation of this number.
    Done(i64),
    /// It was tried, and the old state came back.
    WentBack {
        /// The operation's number.
        number: i64,
        /// Why.
        why: String,
    },
}

impl fmt::Display for Armed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = self.name.as_deref().unwrap_or("without a name");
        match &self.became {
            Became::Armed => write!(f, "plan {name} is armed"),
            Became::NoPlan(why) => write!(
                f,
                "no plan is armed: the last question came to none ({why})"
            ),
            Became::Done(number) => write!(
                f,
                "no plan is armed: the last one, {name}, was carried out as number {number}"
            ),
            Became::WentBack { number, why } => write!(
                f,
                "no plan is armed: the last one, {name}, failed as number {number}, and the old state came back: {why}"
            ),
        }
    }
}
