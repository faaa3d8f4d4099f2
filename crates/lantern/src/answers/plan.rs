//! Plans, and saved questions.

use super::{PlaceWhy, places};
use lantern_core::component::{Id, Kind};
use lantern_core::plan::Plan;
use lantern_core::resolve::{Reason, Selection};
use lantern_host::armed::Armed;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// `outlook --watch-for`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Ready<'a> {
    /// The server.
    pub server: &'a str,
    /// The version that was watched for.
    pub version: &'a str,
    /// Whether everything is ready for it.
    pub ready: bool,
    /// What is not.
    pub not_ready: Vec<&'a str>,
}

/// `plan`
#[derive(Debug, Serialize, JsonSchema)]
pub struct PlanDrawn<'a> {
    /// Where it was saved; none of a what-if, or where there is nothing to do.
    saved: Option<&'a PathBuf>,
    /// What a changeover carries out now; none where this plan armed nothing.
    armed: Option<&'a Armed>,
    left_out: Vec<PlaceWhy>,
    plan: &'a Plan,
    later: Vec<LaterPlan<'a>>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct LaterPlan<'a> {
    saved: Option<&'a PathBuf>,
    plan: &'a Plan,
}

impl<'a> PlanDrawn<'a> {
    /// The plans, where each was saved, and what had to be left out.
    pub fn new(
        plans: &'a [Plan],
        saved: &'a [PathBuf],
        left_out: &[(String, String)],
        armed: Option<&'a Armed>,
    ) -> PlanDrawn<'a> {
        let saved_or_not = saved.iter().map(Some).chain(std::iter::repeat(None));
        let later = plans.iter().zip(saved_or_not).skip(1);
        PlanDrawn {
            saved: saved.first(),
            armed,
            left_out: places(left_out),
            plan: &plans[0],
            later: later
                .map(|(plan, saved)| LaterPlan { saved, plan })
                .collect(),
        }
    }
}

/// `plan --request`
#[derive(Debug, Serialize, JsonSchema)]
pub struct RequestAnswered {
    /// Whether releases fit together.
    pub fits: bool,
    /// Whether it is proved that none fit better.
    pub proved: bool,
    /// What was chosen.
    pub selection: Option<Vec<Chosen>>,
    /// What goes.
    pub gone: Option<Vec<Id>>,
    /// How many independent problems there are.
    pub conflicts: Option<usize>,
    /// What stands in the way, in words.
    pub obstacle: Option<String>,
    /// How many lines the proof has that nothing fits, where one was written.
    pub proof_lines: Option<usize>,
    /// How long it took.
    pub ms: Milliseconds,
}

/// How long the parts of an answer took, in milliseconds.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Milliseconds {
    /// Reading the request.
    pub reading: f64,
    /// Finding the answer.
    pub solving: f64,
    /// Putting what stands in the way into words.
    pub telling: f64,
}

/// What was chosen for one component.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Chosen {
    id: Id,
    kind: Kind,
    from: Option<String>,
    to: String,
    stays: bool,
    because: Reason,
}

/// What was chosen, for each component.
pub fn chosen(selection: &Selection) -> Vec<Chosen> {
    let choices = selection.choices.iter().map(|choice| Chosen {
        id: choice.id.clone(),
        kind: choice.kind,
        from: choice.from.as_ref().map(ToString::to_string),
        to: choice.to.to_string(),
        stays: choice.offer.is_none(),
        because: choice.reason.clone(),
    });
    choices.collect()
}
