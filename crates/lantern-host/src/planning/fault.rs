//! Why there is no plan.

use lantern_core::component::Id;
use lantern_core::inventory::SwitchFault;
use lantern_core::launch::Cut;
use lantern_core::path::RelPath;
use lantern_core::plan::{Armed, PlanFault, Rename};
use lantern_core::resolve::{Obstacle, RequestFault, UnknownId};
use lantern_core::supply::Wanted;
use std::path::PathBuf;

/// Why there is no plan.
#[derive(Debug, thiserror::Error)]
pub enum PlanningFault {
    /// Which versions there are of a program outside the folder is not known.
    #[error(
        "{0} lies outside this folder, so which versions of it there are is not known here: name one, as --to 1.2"
    )]
    OneOutside(Id),
    /// The target is the installed server version, and nobody knows which that is.
    #[error("the installed server version is not known; name one with --to")]
    NoServerVersion,
    /// A start command is cut off, so that the server would be told less than it should.
    #[error("the start command is cut off: {}", told(.0))]
    CutOff(Vec<(RelPath, Cut)>),
    /// Two servers of one install carry an add-on of one id, each in a place of its own.
    #[error("{id} lies in two places, each of another server: {} and {}", places[0], places[1])]
    CarriedTwice {
        /// The add-on.
        id: Id,
        /// Where it lies.
        places: [RelPath; 2],
    },
    /// What lies on another machine would have to get another name there.
    #[error("{} would have to be moved from {} to {}, and on another machine lantern moves nothing that it does not send", .0.id, .0.from, .0.to)]
    MovesAfar(Rename),
    /// A value cannot be set in a file, or the file not be read by its keys.
    #[error("{path}: {why}")]
    NotSettable {
        /// The file.
        path: RelPath,
        /// Why.
        why: String,
    },
    /// Nothing that is run before the start updates the server.
    #[error(
        "nothing that is run before the start updates the server, as far as its scripts and the patterns for them tell"
    )]
    NothingUpdates,
    /// What updates the server cannot be taken out of its script by itself.
    #[error(
        "{path}:{line} updates the server, and shares its line with something else, or stands inside a condition, loop or function"
    )]
    SharesLine {
        /// The script.
        path: RelPath,
        /// The line, from 1.
        line: usize,
    },
    /// The last plan was carried out, failed, or never came to be.
    #[error("{0}")]
    NotArmed(Box<Armed>),
    /// Nothing of an operation is set aside any more.
    #[error("nothing that number {0} set aside is there any more")]
    NothingAside(i64),
    /// An operation has not set this aside.
    #[error("number {number} has not set {path} aside")]
    NotAside {
        /// The path.
        path: RelPath,
        /// The operation.
        number: i64,
    },
    /// What was set aside lies on the keep list, where no plan writes.
    #[error(
        "{0} is on the keep list, where no plan writes: copy it back by hand, with the server down"
    )]
    KeptAside(RelPath),
    /// There is nothing to compare a file with.
    #[error(
        "nothing is known to compare {0} with: no release ships it, and the family states no sample of it"
    )]
    NoSample(RelPath),
    /// Several samples are stated for a file.
    #[error("there are several samples of {path}: {}", samples.iter().map(RelPath::as_str).collect::<Vec<_>>().join(", "))]
    WhichSample {
        /// The file.
        path: RelPath,
        /// The samples.
        samples: Vec<RelPath>,
    },
    /// There is nothing in a file to be written by hand.
    #[error("there is nothing to write in {path}: {why}")]
    NothingToWrite {
        /// The file.
        path: RelPath,
        /// Why.
        why: &'static str,
    },
    /// A text that was written still has marks in it.
    #[error("{path}, line {line}: a mark of what was to be decided still stands there")]
    StillMarked {
        /// The file.
        path: RelPath,
        /// The line, from 1.
        line: usize,
    },
    /// The server is up, or nobody knows.
    #[error(
        "the server is not known to be down: it may not read {0} before it starts again, or may write over it"
    )]
    NotDown(RelPath),
    /// A name that no patch can have.
    #[error("\"{0}\" is no name for a patch")]
    PatchName(String),
    /// A patch of that name is kept already.
    #[error("a patch called {0} is kept already")]
    PatchTaken(String),
    /// No patch of that name is kept.
    #[error("no patch called {named} is kept{}", patches_known(known))]
    NoPatch {
        /// What was named.
        named: String,
        /// Those that are.
        known: Vec<String>,
    },
    /// A text is no patch.
    #[error("the patch {}: {why}", path.display())]
    Patch {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// There is nothing in a file that could be kept.
    #[error("there is nothing to keep of {path}: {why}")]
    NothingToKeep {
        /// The file.
        path: RelPath,
        /// Why.
        why: &'static str,
    },
    /// A patch would hold a secret.
    #[error("{0} is a secret by its name, and no patch holds one")]
    SecretInPatch(String),
    /// A patch would change what is lantern's.
    #[error("{0} is lantern's own, and no patch changes it")]
    PatchOfOwn(RelPath),
    /// A patch does not fit its file.
    #[error("the patch {name} does not fit: {path}, line {line}, is not as it expects")]
    PatchMisfit {
        /// Its name.
        name: String,
        /// The file.
        path: RelPath,
        /// The line, from 1.
        line: usize,
    },
    /// What was decided cannot be read.
    #[error("the decisions {}: {why}", path.display())]
    Decisions {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// Nothing was asked that could be asked again.
    #[error("there is no question to ask again: no plan has been asked for here")]
    NoQuestion,
    /// A question that cannot be answered with a value.
    #[error("{id} is decided by mine or theirs{}", if *secret { ", as it is a secret" } else { ": it is lines, and no value" })]
    NoValue {
        /// The question.
        id: String,
        /// Whether it is a secret.
        secret: bool,
    },
    /// Nothing was decided under that id.
    #[error("{0} is no decision that was made here")]
    NoSuchDecision(String),
    /// No editor is known.
    #[error("no editor is known to write {0} in")]
    NoEditor(RelPath),
    /// The editor ended badly.
    #[error("{editor} did not end well, and {path} is as it was")]
    EditorFailed {
        /// What was run.
        editor: String,
        /// The file.
        path: RelPath,
    },
    /// The armed plan has no such question.
    #[error("{named} is no question of the armed plan{}", of_armed(known))]
    NoSuchQuestion {
        /// What was named.
        named: String,
        /// The questions that it has.
        known: Vec<String>,
    },
    /// A plan of another name is armed.
    #[error("no plan is called {named}: the one that is armed is {armed}")]
    OtherName {
        /// The name that was given.
        named: String,
        /// The name of the armed one.
        armed: String,
    },
    /// Nobody can be asked; how it is said without being asked.
    #[error("this has to be confirmed, and there is no terminal to ask on")]
    NotConfirmed(String),
    /// The answer was no.
    #[error("not done: the answer was no")]
    Declined,
    /// No releases fit together; the story of what stands in the way.
    #[error("{told}")]
    Obstacle {
        /// It as a value.
        obstacle: Box<Obstacle>,
        /// It in words.
        told: String,
    },
    /// Files of what was chosen have to be fetched first.
    #[error(
        "{} to be fetched before this can be planned file by file",
        match .0.len() { 1 => "1 file has".to_owned(), many => format!("{many} files have") }
    )]
    ToFetch(Vec<Wanted>),
    /// The build cannot bring the installed server's worlds forward, not even in stops.
    #[error("server {to} cannot convert worlds of {from}, and no stops in between lead there")]
    NoWay {
        /// The installed version.
        from: String,
        /// The version asked for.
        to: String,
    },
    /// A saved request cannot be read.
    #[error("the request {}: {fault}", path.display())]
    Request {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        fault: RequestFault,
    },
    /// A proof was to be written over the request that it is of.
    #[error("{} is the request itself: the proof would take its place", .0.display())]
    ProofOverRequest(PathBuf),
    /// No plan was asked for yet, so there is no request to explain.
    #[error("there is nothing to explain: no plan has been asked for here")]
    NoRequest,
    /// A text is no plan.
    #[error("the plan {}: {fault}", path.display())]
    Plan {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        fault: PlanFault,
    },
    /// No plan was made yet.
    #[error("there is no plan {}", .0.display())]
    NoPlan(PathBuf),
    /// An add-on cannot be switched on or off.
    #[error(transparent)]
    Switch(#[from] SwitchFault),
    /// What is to go holds content of the world, and nobody said that the world may lose it.
    #[error("the world holds content of {}, and would lose it", .0.iter().map(Id::as_str).collect::<Vec<_>>().join(", "))]
    WorldLoses(Vec<Id>),
    /// Something was named that nobody has.
    #[error(
        "{} is neither installed nor on offer{}{}",
        unknown.id,
        near(unknown),
        left_out.iter().map(|(at, why)| format!("; left out of {at}: {why}")).collect::<String>()
    )]
    NoSuch {
        /// What was named.
        unknown: UnknownId,
        /// What was left out of what is on offer of it: where, and why.
        left_out: Vec<(String, String)>,
    },
    /// Something was named that has no part in a question.
    #[error("{} is not part of the last plan's question{}", .0.id, near(.0))]
    NoPart(UnknownId),
    /// There is no release that could be the latest.
    #[error("no release of {0} for this server version is on offer that could be the latest")]
    NoLatest(Id),
    /// A choice of a variant cannot be read.
    #[error("\"{0}\" does not choose a variant")]
    Variant(String),
    /// A wish to let players in cannot be read.
    #[error("\"{0}\" does not say which players are to be let in")]
    Admit(String),
    /// No kind of client is called so.
    #[error("no kind of client is called {named} here{}{}", kinds_known(known), near.as_ref().map_or(String::new(), |near| format!("; is {near} meant?")))]
    NoSuchClient {
        /// What was named.
        named: String,
        /// The known kind that is nearest to it, where any is near.
        near: Option<String>,
        /// All kinds that the family or a release names.
        known: Vec<String>,
    },
}

fn kinds_known(known: &[String]) -> String {
    match known {
        [] => ": neither the family nor any release names one".into(),
        known => format!("; there are {}", known.join(", ")),
    }
}

fn patches_known(known: &[String]) -> String {
    match known {
        [] => String::new(),
        known => format!("; there are {}", known.join(", ")),
    }
}

fn of_armed(known: &[String]) -> String {
    match known {
        [] => ", which has none".into(),
        known => format!("; it has {}", known.join(", ")),
    }
}

/// Where commands are cut off, and what is lost.
fn told(cuts: &[(RelPath, Cut)]) -> String {
    let told = cuts.iter().map(|(path, cut)| {
        let lost = match cut.lost.is_empty() {
            true => String::new(),
            false => format!("; lost: {}", cut.lost),
        };
        format!(
            "{path}:{}:{}: {}{lost}",
            cut.at.line,
            cut.at.column,
            cut.kind.told()
        )
    });
    told.collect::<Vec<_>>().join("; ")
}

/// The known id that was probably meant.
fn near(unknown: &UnknownId) -> String {
    let near = unknown.near.as_ref();
    near.map_or(String::new(), |id| format!("; did you mean {id}?"))
}
