//! What the lanterns on other machines are asked to do at servers of a group.

use crate::commands::changeover::{self, Came, Telling};
use crate::commands::settings::decide::{decided, told};
use crate::commands::undo::{self, UndoArgs};
use crate::commands::{open_settled, plan};
use crate::common::Common;
use crate::fail;
use crate::look::Look;
use lantern_host::changeover::fault::ChangeoverFault;
use lantern_host::console::Console;
use lantern_host::night::How;
use lantern_host::planning::fault::PlanningFault;
use lantern_host::session::Errand;
use lantern_host::session::serve::Teller;
use lantern_host::{Error, Result, armed};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::time::Duration;

/// Something that is done at a server there, as a command of the lantern there would.
pub trait Does: Errand {
    /// Does it.
    ///
    /// # Errors
    /// What it fails of.
    fn does(&self, common: &Common, look: &Look, teller: &Teller) -> Result<Self::Came>;
}

/// What its changeover needs is got ready, and looked at; nothing is done.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Prepare {
    /// Whether what was cut off is to be gone on with.
    pub goes_on: bool,
    /// How it is carried out.
    pub how: How,
}

/// What is known of a server before something is done.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Prepared {
    /// Why it cannot be begun, where that was told, and the exit status of that.
    pub not: Option<u8>,
    /// For how long it warns its players, in milliseconds; none where it is down.
    pub warns_ms: u64,
}

impl Errand for Prepare {
    const NAME: &'static str = "prepare";
    type Came = Prepared;
}

impl Does for Prepare {
    fn does(&self, common: &Common, look: &Look, _: &Teller) -> Result<Prepared> {
        let mut job = match changeover::Job::of_one(self.goes_on, &self.how, common, look)? {
            Ok(job) => job,
            Err(status) => {
                return Ok(Prepared {
                    not: Some(status),
                    warns_ms: 0,
                });
            }
        };
        prepared(&mut job)
    }
}

/// # Errors
/// Where nobody is there who could press buttons.
fn prepared(job: &mut impl super::waves::Job) -> Result<Prepared> {
    let warns = super::waves::warns(job);
    let server = job.server();
    if Console::of(server).is_by_hand() {
        return Err(Error::Far {
            address: server.config.name.clone(),
            doing: "what a person has to do by hand",
        });
    }
    Ok(Prepared {
        not: None,
        warns_ms: warns.as_millis() as u64,
    })
}

/// Its changeover, of the plan that is armed there, or of what was cut off.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CarryOut {
    /// Whether what was cut off is to be gone on with.
    pub goes_on: bool,
    /// How it is carried out.
    pub how: How,
    /// Of servers that are down together, for how long the longest warns its players, in milliseconds.
    pub together_ms: Option<u64>,
}

/// What a changeover there has come to.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum CameTo {
    /// It was carried out.
    Done {
        /// For how long it was away, in milliseconds.
        away_ms: Option<u64>,
        /// What was seen of it, in words.
        seen: String,
        /// What is wrong with the new state, where it was to stay all the same.
        bad: Option<String>,
    },
    /// It turned back for what went wrong at another one, and is as before; why.
    TurnedBack(String),
    /// It failed: why, and the exit status; it was told.
    Failed(String, u8),
}

impl Errand for CarryOut {
    const NAME: &'static str = "carry-out";
    type Came = CameTo;
    const CAN_GO_BACK: bool = true;
}

impl Does for CarryOut {
    fn does(&self, common: &Common, look: &Look, teller: &Teller) -> Result<CameTo> {
        // What there is to say of it was said when it was got ready.
        let quiet = look.heard_by(|_| ());
        let how = &self.how;
        let mut job = match changeover::Job::of_one(self.goes_on, how, common, &quiet)? {
            Ok(job) => job,
            Err(status) => {
                let why = "files that it needs could not be had".into();
                return Ok(CameTo::Failed(why, status));
            }
        };
        if let Some(ms) = self.together_ms {
            let seat = teller.seat(Duration::from_millis(ms));
            super::waves::Job::server(&mut job).seat = Some(seat);
        }
        let came: Came = job.work(how, Telling::Whole, look, &mut |event| teller.event(event))?;
        match job.settle(came, how, Telling::Whole, look) {
            Ok(report) => Ok(CameTo::Done {
                away_ms: report.times.total_ms(),
                seen: report.seen,
                bad: report.bad,
            }),
            Err(error) if job.has_turned_back(&error) => Ok(CameTo::TurnedBack(error.to_string())),
            Err(error) => {
                let why = error.to_string();
                let told = job.failed(error, common, look);
                let status = told.unwrap_or_else(|error| tell(&error, common, look));
                Ok(CameTo::Failed(why, status))
            }
        }
    }
}

/// Tells an error to whoever asked, on another machine.
fn tell(error: &Error, common: &Common, look: &Look) -> u8 {
    look.talk(&format!("error: {error}"));
    let advice = fail::advice(error, common);
    if !advice.is_empty() {
        look.talk("  On that machine:");
    }
    for line in advice {
        look.talk(&format!("  {line}"));
    }
    fail::status(error)
}

/// What its undo needs is looked at; nothing is done.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PrepareBack {
    /// How it is taken back.
    pub how: UndoArgs,
}

impl Errand for PrepareBack {
    const NAME: &'static str = "prepare-back";
    type Came = Prepared;
}

impl Does for PrepareBack {
    fn does(&self, common: &Common, look: &Look, _: &Teller) -> Result<Prepared> {
        prepared(&mut undo::Job::of_one(&self.how, common, look)?)
    }
}

/// Its last changeover is taken back.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TakeBack {
    /// How it is taken back.
    pub how: UndoArgs,
    /// Of servers that are down together, for how long the longest warns its players, in milliseconds.
    pub together_ms: Option<u64>,
}

/// What taking it back has come to.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum CameBack {
    /// It is back.
    Back,
    /// It was not done, as nothing is wished of the world, and somebody has been on since.
    AsksOfTheWorld(String),
}

impl Errand for TakeBack {
    const NAME: &'static str = "take-back";
    type Came = CameBack;
}

impl Does for TakeBack {
    fn does(&self, common: &Common, look: &Look, teller: &Teller) -> Result<CameBack> {
        let asks = |error: Error| match asks_of_the_world(&error) {
            true => {
                tell(&error, common, look);
                Ok(CameBack::AsksOfTheWorld(error.to_string()))
            }
            false => Err(error),
        };
        let mut job = match undo::Job::of_one(&self.how, common, look) {
            Ok(job) => job,
            Err(error) => return asks(error),
        };
        if let Some(ms) = self.together_ms {
            let seat = teller.seat(Duration::from_millis(ms));
            super::waves::Job::server(&mut job).seat = Some(seat);
        }
        match job.work(&mut |event| teller.event(event)) {
            Ok((ledger, undone)) => {
                job.settle(&ledger, &undone, look);
                Ok(CameBack::Back)
            }
            Err(error) => asks(error),
        }
    }
}

/// Whether somebody has to say what becomes of the world.
pub fn asks_of_the_world(error: &Error) -> bool {
    use ChangeoverFault::{RestoredUsed, WorldUsed};
    matches!(
        error,
        Error::Changeover(WorldUsed { .. } | RestoredUsed { .. })
    )
}

/// A question of its part of what was planned for all is decided, and the plan drawn again.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Decide {
    /// The id of the question.
    pub id: String,
    /// mine, theirs, or a value.
    pub answer: String,
}

/// What came of it.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Decided {
    /// What was decided, in words; none where it is not asked there.
    pub told: Option<String>,
    /// The questions that are asked there, where it is none of them.
    pub known: BTreeSet<String>,
    /// How many decisions its plan still waits for; none where it has no part in what was planned for all, or not any more.
    pub undecided: Option<usize>,
    /// The first of them.
    pub next: Option<String>,
}

impl Errand for Decide {
    const NAME: &'static str = "decide";
    type Came = Decided;
}

impl Decide {
    /// Does it at a server here.
    ///
    /// # Errors
    /// When it cannot be decided so, or the plan not be drawn.
    pub fn at(&self, common: &Common, look: &Look) -> Result<Decided> {
        let (server, _lock) = open_settled(common, look, "group decide")?;
        let mut came = Decided::default();
        if let Some((_, plan)) = armed::joint(&server)? {
            match decided(&server, &plan, &self.id, Some(&self.answer), None) {
                Ok(decision) => {
                    came.told = Some(told(&decision));
                    // Of each plan that is drawn again only what it still asks is shown.
                    plan::again(&server, common, &look.onto_page())?;
                }
                Err(Error::Planning(PlanningFault::NoSuchQuestion { known, .. })) => {
                    came.known = known.into_iter().collect();
                }
                Err(other) => return Err(other),
            }
        }
        if let Some((_, plan)) = armed::joint(&server)? {
            came.undecided = Some(plan.undecided().count());
            came.next = plan.undecided().next().map(|(_, asked)| asked.id.clone());
        }
        Ok(came)
    }
}

impl Does for Decide {
    fn does(&self, common: &Common, look: &Look, _: &Teller) -> Result<Decided> {
        self.at(common, look)
    }
}
