//! What the history tells of one operation.

use super::{Operation, Work};
use crate::clients::ClientChange;
use crate::health::ErrorSeen;
use crate::plan::{ComponentChange, Fate, FileMerge, OrderChange, Rename, Step, TextEdit, Yours};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How long a server was away, in milliseconds.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Times {
    /// From the moment it was asked to stop until it was down; none when it was down before.
    pub stop_ms: Option<u64>,
    /// From then on until its start was called, without waiting for others: lantern's own part.
    pub own_ms: u64,
    /// As long of that it waited for servers that are down together with it.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub waited_ms: u64,
    /// From then on until it was ready; where somebody started it by hand, from the first that was seen of it.
    pub start_ms: u64,
    /// From when somebody was asked to start it by hand until something was seen of it.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub by_hand_ms: u64,
}

fn is_zero(ms: &u64) -> bool {
    *ms == 0
}

impl Times {
    /// All of it; none when the server was down before.
    pub fn total_ms(&self) -> Option<u64> {
        Some(self.stop_ms? + self.own_ms + self.waited_ms + self.by_hand_ms + self.start_ms)
    }

    /// Its parts, in order, each with whose it is in words; what took no time for a person is left out.
    pub fn parts(&self) -> Vec<(u64, &'static str)> {
        let mut parts = vec![
            (self.stop_ms.unwrap_or(0), "its own stop"),
            (self.start_ms, "its own start"),
        ];
        if self.by_hand_ms > 0 {
            parts.push((self.by_hand_ms, "until it was started by hand"));
        }
        if self.waited_ms > 0 {
            parts.push((self.waited_ms, "for others that are down with it"));
        }
        parts.push((self.own_ms, "lantern's"));
        parts
    }
}

/// A step that was taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StepTaken {
    /// Which one.
    pub step: Step,
    /// What it did, in words.
    pub what: String,
    /// How long it took, in milliseconds.
    pub ms: u64,
}

/// What one operation did.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Detail {
    /// What became of each component that did not just stay.
    pub components: Vec<ComponentChange>,
    /// The lines of the load-order file and of start scripts that changed.
    pub edits: Vec<TextEdit>,
    /// Add-ons whose file or folder got another name.
    pub renames: Vec<Rename>,
    /// Files that both the administrator and a release had changed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub merges: Vec<FileMerge>,
    /// Files of the administrator's that were set aside.
    pub yours: Vec<Yours>,
    /// The load orders that became other ones.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub orders: Vec<OrderChange>,
    /// The steps that were taken, in their order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<StepTaken>,
    /// The error lines of the start.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<ErrorSeen>,
    /// Which players may join before and afterwards.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub clients: Vec<ClientChange>,
    /// The backup that was made, or put back.
    pub backup: Option<String>,
    /// How long the server was away; none where nobody saw all of it.
    pub times: Option<Times>,
}

impl Detail {
    /// What an operation does, before it is known how long that took.
    pub fn of(operation: &Operation) -> Detail {
        let backup = operation.backup().map(str::to_owned);
        let Work::Changeover { plan, .. } = &operation.work else {
            return Detail {
                backup,
                ..Detail::default()
            };
        };
        let components = plan.components.iter();
        let changed =
            components.filter(|it| it.verdict != Fate::Unchanged || it.switched.is_some());
        Detail {
            components: changed.cloned().collect(),
            edits: plan.edits.clone(),
            renames: plan.renames.clone(),
            merges: plan.merges.clone(),
            yours: plan.yours.clone(),
            clients: plan.clients.clone(),
            orders: plan.orders.clone(),
            steps: Vec::new(),
            errors: Vec::new(),
            backup,
            times: None,
        }
    }
}
