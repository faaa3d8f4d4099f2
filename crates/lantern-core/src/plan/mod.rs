//! All of it put together: every path with what happens to it.
//!
//! A plan is a value and a file (`*.plan.json`, docs/formats/plan.md). Drawing one up changes
//! nothing; a changeover does nothing that its plan does not list. The same input gives the same
//! plan, byte for byte: no clock and no chance takes part.

mod after;
mod armed;
mod draw;
mod edits;
mod fault;
mod lay;
mod merges;
mod payload;
pub mod pin;
mod rename;
#[cfg(test)]
mod tests;

pub use after::{afterwards, hashes_after, remembered_after};
pub use armed::{Armed, Became};
pub use draw::{ByHand, Part, SampleSeen, Situation, draw};
pub use fault::DrawFault;
pub use merges::{Asked, Decided, FileMerge};
pub use payload::{Laid, Payload, PayloadFile, PayloadMember, lay_out};

use crate::artifact::Artifact;
use crate::clients::{ClientChange, ClientList};
use crate::component::{Id, Kind};
use crate::json::JsonFault;
use crate::path::RelPath;
use crate::resolve::Reason;
use crate::settings::Manner;
use crate::text::{self, LineChange, Text};
use crate::tree::FileSeen;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// The folder of lantern's own files inside a server folder.
pub const OWN: &str = ".lantern";

/// The number of the plan format.
pub const FORMAT: u32 = 1;

/// Everything that a changeover will do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Plan {
    /// The number of the format.
    pub format: u32,
    /// The server's name.
    pub server: String,
    /// The server's own mark, so that a plan is never carried out on another one.
    pub server_id: String,
    /// The family's name.
    pub family: String,
    /// Of several servers of one install, those that are stopped for it and started again; none where there is only one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub servers: Vec<String>,
    /// The server version now, where it is known.
    pub from: Option<String>,
    /// The server version afterwards.
    pub to: String,
    /// What becomes of each component, by kind, then id.
    pub components: Vec<ComponentChange>,
    /// The archives that are unpacked.
    pub archives: Vec<Artifact>,
    /// Every path outside the keep list, by path.
    pub actions: Vec<Action>,
    /// Add-ons whose file or folder gets another name, where names tell the load order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub renames: Vec<Rename>,
    /// The lines of the load-order file and of start scripts that change.
    pub edits: Vec<TextEdit>,
    /// Files that both you and a release have changed; by path.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub merges: Vec<FileMerge>,
    /// Files that are yours, or that you edited by hand, and that are set aside; by path.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub yours: Vec<Yours>,
    /// Settings files that come anew over what was found at adoption: nobody knows whether you had changed them before.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unsure: Vec<RelPath>,
    /// Components of which nobody declared whether they are for this server version.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub undeclared: Vec<Id>,
    /// What is kept.
    pub keep: Kept,
    /// The load order of each server before and afterwards, where it becomes another one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub orders: Vec<OrderChange>,
    /// Which players' clients may join before and afterwards; none where nobody knows of any kind.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub clients: Vec<ClientChange>,
    /// What each kind of client must have afterwards, without what the administrator keeps for it; none where it is nothing.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub client_lists: Vec<ClientList>,
    /// What the server speaks with clients afterwards; none where that is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub protocol: Option<String>,
    /// What the server has to say is loaded afterwards.
    pub expects: Vec<Expected>,
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// What the administrator should know before it starts.
    pub notes: Vec<String>,
}

/// A load order that becomes another one: the add-ons that it starts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OrderChange {
    /// Of several servers of one install, which one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<String>,
    /// As it is.
    pub before: Vec<Id>,
    /// As it will be.
    pub after: Vec<Id>,
}

/// A file of the administrator's own, or edited by hand, that is set aside.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Yours {
    /// The file.
    pub path: RelPath,
    /// The component in whose place it lies.
    pub component: Id,
    /// Why it cannot stay.
    pub why: WhyAside,
}

/// Why a file of the administrator's cannot stay.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhyAside {
    /// It was edited by hand, and the new release ships another one.
    ShipsChanged,
    /// It was edited by hand, and the new release ships none.
    ShipsNoMore,
    /// It was edited by hand, and its component goes.
    Goes,
    /// It was put there by hand, and the new release ships one of that name.
    NowShips,
}

impl WhyAside {
    /// It in a few words.
    pub fn as_str(self) -> &'static str {
        match self {
            WhyAside::ShipsChanged => "edited by you, and the new release ships it changed",
            WhyAside::ShipsNoMore => "edited by you, and the new release does not ship it",
            WhyAside::Goes => "edited by you, and its component goes",
            WhyAside::NowShips => "put there by you, and the new release ships one of that name",
        }
    }
}

/// What becomes of one component.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ComponentChange {
    /// Which one.
    pub id: Id,
    /// What it is.
    pub kind: Kind,
    /// The version now; none when it comes new.
    pub from: Option<String>,
    /// The version afterwards; none when it goes.
    pub to: Option<String>,
    /// What happens, in one word.
    pub verdict: Fate,
    /// Whether it is switched on or off; none when it runs, or does not, as before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub switched: Option<Switched>,
    /// Why, in a few words.
    pub why: String,
    /// Which of its variants, where it has any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub variant: Option<String>,
}

/// How a component is switched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Switched {
    /// It runs from then on.
    On,
    /// It stays where it is, and does not run.
    Off,
}

/// What happens to a component.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Fate {
    /// It stays as it is.
    #[serde(alias = "stays")]
    Unchanged,
    /// Another release takes its place.
    #[serde(alias = "moves")]
    Updated,
    /// It comes new.
    #[serde(alias = "comes")]
    Added,
    /// It is set aside.
    #[serde(alias = "goes")]
    Removed,
}

/// What happens to a path.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum ActionKind {
    /// A file comes where none is.
    Place,
    /// A file comes in the place of one that is set aside.
    Replace,
    /// The file is moved out of the way.
    SetAside,
    /// The file stays.
    Keep,
    /// Its text is changed; the old one is set aside.
    Edit,
}

/// What happens to one path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Action {
    /// The path.
    pub path: RelPath,
    /// What happens to it.
    pub what: ActionKind,
    /// The component that owns it; none for unowned files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub component: Option<Id>,
    /// The member of that pack that owns it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub member: Option<Id>,
    /// BLAKE3 of what is there now; of a link, `link:` and where it leads.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// BLAKE3 of what will be there; of a link, `link:` and where it leads.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
    /// The size of what comes, or of what stays or goes where nothing comes, in bytes.
    pub bytes: u64,
    /// Where it comes from, where that is an archive; for a file that stays, what ships it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<Source>,
    /// BLAKE3 of what the owner ships, where a file that stays was edited by hand, or falls to
    /// another owner.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shipped: Option<String>,
    /// What of a lower layer lies under it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub under: Option<Under>,
}

/// A file of a lower layer that another one lies over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Under {
    /// The component that ships it.
    pub component: Id,
    /// That component's version.
    pub version: Option<String>,
    /// BLAKE3 of its content.
    pub hash: String,
    /// Where it comes from; none where it is what lies at the path now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<Source>,
}

/// Where a file comes from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Source {
    /// The archive, as an index into the plan's `archives`.
    pub archive: usize,
    /// The entry in it; none when the archive itself is the file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entry: Option<String>,
}

/// The change to a text: the load-order file, or a start script.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TextEdit {
    /// The file.
    pub path: RelPath,
    /// From top to bottom, the lines that give way to others.
    pub lines: Vec<LineChange>,
}

/// An add-on whose file or folder gets another name, and after it each file beside it that belongs to it: how each file of it moves,
/// the actions say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rename {
    /// Which one.
    pub id: Id,
    /// Where it would lie otherwise: where it lies now, or where its release would put it.
    pub from: RelPath,
    /// Where it lies afterwards.
    pub to: RelPath,
}

/// One for each add-on, the one of its own place, with the number of files beside it that go along.
pub fn renamed(renames: &[Rename]) -> Vec<(&Rename, usize)> {
    let mut all: Vec<(&Rename, usize)> = Vec::new();
    for rename in renames {
        match all.last_mut().filter(|(last, _)| last.id == rename.id) {
            Some((_, beside)) => *beside += 1,
            None => all.push((rename, 0)),
        }
    }
    all
}

/// What no changeover writes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Kept {
    /// The path patterns.
    pub patterns: Vec<String>,
}

/// What the server has to say is loaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Expected {
    /// The add-on.
    pub id: Id,
    /// Its version; none where it states none.
    pub version: Option<String>,
    /// The reader that knows it; none of a member of a pack that comes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reader: Option<String>,
    /// Which of several servers of one install has to say it; none where there is only one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<String>,
}

/// A step of a changeover.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Step {
    /// The folder and the archives are compared with the plan.
    Check,
    /// Everything new is unpacked beside the server and checked.
    Stage,
    /// What is on the keep list is backed up while the server still runs.
    FirstBackup,
    /// Players are told.
    Warn,
    /// The server is stopped; the downtime begins.
    Stop,
    /// What changed since the first pass is backed up.
    SecondBackup,
    /// Old files are set aside and new ones put in place, all by renames.
    Swap,
    /// The server is started.
    Start,
    /// The console is asked what runs, and the keep list is compared; the downtime ends.
    Verify,
}

impl Step {
    /// What people call it.
    pub fn name(self) -> &'static str {
        match self {
            Step::Check => "check",
            Step::Stage => "stage",
            Step::FirstBackup => "back up",
            Step::Warn => "warn",
            Step::Stop => "stop",
            Step::SecondBackup => "back up again",
            Step::Swap => "swap",
            Step::Start => "start",
            Step::Verify => "verify",
        }
    }

    /// All steps, in their order.
    pub const ALL: [Step; 9] = [
        Step::Check,
        Step::Stage,
        Step::FirstBackup,
        Step::Warn,
        Step::Stop,
        Step::SecondBackup,
        Step::Swap,
        Step::Start,
        Step::Verify,
    ];
}

/// Why a text is no plan.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlanFault {
    /// It is not JSON, breaks off, or has keys that a plan does not have.
    #[error(transparent)]
    Json(#[from] JsonFault),
    /// It is of a format that this program does not read.
    #[error("it is of format {0}; this lantern reads format {FORMAT}")]
    Format(u32),
    /// It names an archive that it does not list.
    #[error("{path} is to come from an archive that the plan does not list")]
    NoArchive {
        /// The path.
        path: RelPath,
    },
}

impl TextEdit {
    /// The change from one text to another; what is secret in the first is covered.
    pub fn between(path: &RelPath, now: &Text, becomes: &Text, manner: &Manner) -> TextEdit {
        let mut lines = text::changes(now.as_str(), becomes.as_str());
        let secret = manner.secret_lines(now.as_str());
        text::cover(&mut lines, now.as_str(), &|line| secret.contains(&line));
        TextEdit {
            path: path.clone(),
            lines,
        }
    }
}

impl Plan {
    /// A text as the plan changes it; none where it does not, or where its change does not fit.
    pub fn edited(&self, path: &RelPath, text: &Text) -> Option<Text> {
        let edit = self.edits.iter().find(|edit| edit.path == *path)?;
        text.changed(&edit.lines).ok()
    }

    /// Reads a plan.
    ///
    /// # Errors
    /// On anything that is not as docs/formats/plan.md says.
    pub fn parse(text: &str) -> Result<Plan, PlanFault> {
        let plan: Plan = serde_json::from_str(text).map_err(JsonFault::from)?;
        if plan.format != FORMAT {
            return Err(PlanFault::Format(plan.format));
        }
        for action in &plan.actions {
            let under = action
                .under
                .as_ref()
                .and_then(|under| under.source.as_ref());
            let mut sources = action.source.iter().chain(under);
            if sources.any(|source| source.archive >= plan.archives.len()) {
                return Err(PlanFault::NoArchive {
                    path: action.path.clone(),
                });
            }
        }
        Ok(plan)
    }

    /// Writes the plan; the same plan always gives the same text.
    pub fn to_json(&self) -> String {
        let mut text = serde_json::to_string_pretty(self).expect("a plan has only plain values");
        text.push('\n');
        text
    }

    /// Whether carrying it out would change nothing.
    pub fn is_empty(&self) -> bool {
        self.actions
            .iter()
            .all(|action| action.what == ActionKind::Keep)
    }

    /// Brings a file to a path, in the place of what is there; `shipped` is the BLAKE3 of what was put there last.
    pub fn bring(&mut self, path: RelPath, file: Artifact, shipped: Option<String>) {
        let archive = self.archives.len();
        let entry = None;
        let at = self
            .actions
            .binary_search_by(|action| action.path.cmp(&path));
        let at = at.unwrap_or_else(|at| {
            self.actions.insert(
                at,
                Action {
                    path,
                    what: ActionKind::Place,
                    component: None,
                    member: None,
                    before: None,
                    after: None,
                    bytes: 0,
                    source: None,
                    shipped: None,
                    under: None,
                },
            );
            at
        });
        let action = &mut self.actions[at];
        if action.before.as_ref() == Some(&file.blake3) {
            return;
        }
        if action.before.is_some() {
            action.what = ActionKind::Replace;
        }
        action.after = Some(file.blake3.clone());
        action.bytes = file.bytes;
        action.source = Some(Source { archive, entry });
        action.shipped = action.shipped.take().or(shipped);
        self.archives.push(file);
    }

    /// Leaves all texts as they are that were to be changed; `files` are those that are there.
    pub fn edit_nothing(&mut self, files: &[FileSeen]) {
        self.edits.clear();
        let edited = self.actions.iter_mut();
        for action in edited.filter(|action| action.what == ActionKind::Edit) {
            let now = files.iter().find(|file| file.path == action.path);
            action.what = ActionKind::Keep;
            action.after.clone_from(&action.before);
            action.bytes = now.map_or(action.bytes, |file| file.bytes);
        }
    }

    /// Changes lines of a text that stays otherwise, or comes, in the place of what was to change in it before.
    ///
    /// `now` is the text as it is, or as it comes.
    pub fn change(&mut self, path: &RelPath, now: &Text, becomes: &Text, manner: &Manner) {
        let stays = |what| matches!(what, ActionKind::Keep | ActionKind::Edit);
        let is_meant = |action: &&mut Action| {
            action.path == *path && (stays(action.what) || action.source.is_some())
        };
        let Some(action) = self.actions.iter_mut().find(is_meant) else {
            return;
        };
        let is_changed = self.edits.iter().any(|edit| edit.path == *path);
        self.edits.retain(|edit| edit.path != *path);
        let bytes = becomes.bytes();
        if stays(action.what) {
            action.what = ActionKind::Edit;
        } else if !is_changed {
            // It is changed as it comes.
            action.shipped = action.after.take();
        }
        action.after = Some(blake3::hash(&bytes).to_hex().to_string());
        action.bytes = bytes.len() as u64;
        self.edits
            .push(TextEdit::between(path, now, becomes, manner));
    }

    /// What comes, is of no component that changes, and does not only get another name: files that are put back.
    pub fn brought(&self) -> impl Iterator<Item = &RelPath> {
        let changed = self.components.iter();
        let changed = changed.filter(|it| it.verdict != Fate::Unchanged);
        let changed: BTreeSet<&Id> = changed.map(|it| &it.id).collect();
        let comes = |what| matches!(what, ActionKind::Place | ActionKind::Replace);
        let those = self.actions.iter().filter(move |it| comes(it.what));
        let of_one =
            move |it: &&Action| it.component.as_ref().is_some_and(|id| changed.contains(id));
        let renamed = |it: &&Action| {
            let mut renames = self.renames.iter();
            renames.any(|rename| it.path.is_within(&rename.to))
        };
        let those = those.filter(move |it| !of_one(it) && !renamed(it));
        those.map(|action| &action.path)
    }

    /// What gets another name, one for each add-on, with the number of files beside it that go along.
    pub fn renamed(&self) -> Vec<(&Rename, usize)> {
        renamed(&self.renames)
    }

    /// What has to be decided before it can be carried out: the file, and the question.
    pub fn undecided(&self) -> impl Iterator<Item = (&RelPath, &Asked)> {
        let merges = self.merges.iter();
        let all = merges.flat_map(|merge| merge.questions.iter().map(|it| (&merge.path, it)));
        all.filter(|(_, question)| question.is_open())
    }

    /// The actions of one sort.
    pub fn of(&self, what: ActionKind) -> impl Iterator<Item = &Action> {
        self.actions
            .iter()
            .filter(move |action| action.what == what)
    }

    /// How much will be unpacked, in bytes.
    pub fn staged_bytes(&self) -> u64 {
        let new = self.actions.iter().filter(|action| action.after.is_some());
        let new = new.filter(|action| action.what != ActionKind::Keep);
        new.map(|action| action.bytes).sum()
    }
}

/// Whether a path is lantern's own: in its folder, or one of these files. Case does not count, as on some disks it does not.
pub fn is_lanterns(path: &RelPath, own: &[RelPath]) -> bool {
    let first = path.as_str().split('/').next().unwrap_or_default();
    let same = |own: &RelPath| own.as_str().eq_ignore_ascii_case(path.as_str());
    first.eq_ignore_ascii_case(OWN) || own.iter().any(same)
}

/// Tells why a release was chosen, in a few words.
pub fn reason_text(reason: &Reason) -> String {
    match reason {
        Reason::Fits => "fits as it is".into(),
        Reason::Off => "switched off".into(),
        Reason::Asked => "the version asked for".into(),
        Reason::FetchedByHand => "in the drop folder".into(),
        Reason::InstalledDoesNotFit => "the installed one does not fit the rest".into(),
        Reason::MadeForOthers { version, range } => format!("{version} is for server {range}"),
        Reason::Wanted { id, range } => format!("{id} needs it {range}"),
        Reason::OtherVariant => "installed again, from its archive".into(),
        Reason::Newer => "the newest".into(),
        Reason::NeededBy { id } => format!("needed by {id}"),
        Reason::LetsIn { client, version } => format!("lets in {client} {version}"),
    }
}
