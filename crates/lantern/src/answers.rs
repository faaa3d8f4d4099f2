//! What commands answer with `--json`: one type for each, with a schema in docs/formats/answers.schema.json.
//!
//! Fields are added, never changed in meaning.

pub mod group;

use group::{
    GroupChangeoverDone, GroupDecided, GroupHistory, GroupOutlook, GroupPlanned, GroupSent,
    GroupStatus, GroupSurveyed, GroupUndone, GroupVerified, GroupWatched,
};
use lantern_core::check::Remark;
use lantern_core::clients::{Checked, ClientChange, ClientList, Explained, MayJoin};
use lantern_core::component::{Id, Kind, Runs};
use lantern_core::descriptor::Told;
use lantern_core::descriptor::VersionFrom;
use lantern_core::facts::WrittenRelease;
use lantern_core::health::StartReport;
use lantern_core::inventory::{Component, FileState, Finding, Turn};
use lantern_core::keep_up::{Left, Waits};
use lantern_core::launch::{Does, Drafted, Flow};
use lantern_core::notice::Notice;
use lantern_core::operation::{Detail, OperationKind, Scope};
use lantern_core::order::Link;
use lantern_core::outlook::{ClientRow, Outlook, Standing, Together};
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use lantern_core::resolve::{Choice, Explanation, Reason, Request, Selection, WhyNot};
use lantern_core::supply::{HashKind, Supply};
use lantern_core::version::Version;
use lantern_host::armed::Armed;
use lantern_host::backup::{Manifest, Page};
use lantern_host::changeover::by_hand::Odd;
use lantern_host::changeover::{Now, Report, TakenOver, Undone};
use lantern_host::config::Server;
use lantern_host::console::ServerState;
use lantern_host::culprit::Hunt;
use lantern_host::difference::Difference;
use lantern_host::glance::{Glance, LastSurvey, OneGlance};
use lantern_host::keep_up::{LastKeepUp, Proposal};
use lantern_host::learned::Seen;
use lantern_host::night;
use lantern_host::planning::Decision;
use lantern_host::rehearsal::Rehearsal;
use lantern_host::survey::Survey;
use lantern_host::trial::{ReleaseTried, Trial};
use lantern_host::verify::Verified;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Something that a command answers.
pub trait Answer: Serialize + JsonSchema {}

macro_rules! answers {
    ($($name:ty),* $(,)?) => {
        $(impl Answer for $name {})*

        /// The schemas of all answers, by name.
        #[cfg(test)]
        fn schemas() -> BTreeMap<String, schemars::Schema> {
            BTreeMap::from([$((<$name>::schema_name().into_owned(), schemars::schema_for!($name))),*])
        }
    };
}

answers!(
    Acquired,
    Adopted,
    BackupMade,
    Backups,
    BackupShown,
    BackupsChecked,
    BackupRestored,
    BundleLookedAt<'_>,
    BundlePacked<'_>,
    RestoredInPlace,
    BackupsThinned,
    KeyMade,
    CatalogueChecked,
    CatalogueMade<'_>,
    CatalogueSigned,
    ChangeoverDone,
    Clients<'_>,
    ClientPacked<'_>,
    ClientChecked<'_>,
    Written<'_>,
    NoticeTold<'_>,
    ClientExplained<'_>,
    WhoMayJoin,
    ConsoleAnswer,
    ConsoleState,
    DecisionsMade,
    Differences<'_>,
    EachServer<ConsoleState>,
    EachServer<LaunchShown<'_>>,
    EachServer<OrderShown<'_>>,
    EachServer<VerifySeen<'_>>,
    FactForgotten,
    FactsKnown,
    FactsTaken,
    Failure,
    FamilyChecked<'_>,
    FamilyDraft,
    FamilyWritten<'_>,
    Files<'_>,
    Gathered,
    GroupChangeoverDone,
    GroupDecided,
    GroupHistory,
    GroupUndone,
    GroupVerified,
    GroupWatched<'_>,
    GroupOutlook,
    GroupPlanned,
    GroupSent,
    GroupStatus,
    GroupSurveyed,
    ListingChecked,
    ListingDrafted,
    StoreCleaned,
    History,
    HistoryThinned,
    Hunt,
    KeptUp<'_>,
    LaunchServers<'_>,
    LaunchShown<'_>,
    Manual,
    night::NightWait,
    NightCalledOff,
    OperationTold<'_>,
    OrderShown<'_>,
    OrderWhy<'_>,
    OutlookTable<'_>,
    Pages,
    PatchesKept,
    PlanWaits,
    PlanDrawn<'_>,
    Ready<'_>,
    CanJoin<'_>,
    Rehearsal,
    RequestAnswered,
    SettingsCompared,
    SettingsSet,
    SettingsShown,
    Settled,
    Status<'_>,
    Surveyed<'_>,
    SurveyedOne<'_>,
    UndoDone<'_>,
    TakeOverDone<'_>,
    Updates<'_>,
    VerifySeen<'_>,
    Why<'_>,
    WhyNotThat<'_>,
);

/// `acquire`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Acquired {
    /// Where the results are.
    pub folder: PathBuf,
    /// The results, relative to it.
    pub results: Vec<String>,
    /// What the recipe printed.
    pub log: PathBuf,
    /// The version of the release that it is; none where it is no release.
    pub version: Option<String>,
    /// Why it is no release, where it is none.
    pub no_release: Option<String>,
    /// The runtime that was found.
    pub runtime: Option<RuntimeFound>,
    /// How it ended, where that was a failure that the recipe allows.
    pub failed: Option<String>,
}

/// The runtime of a recipe.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RuntimeFound {
    /// Its program; none where only its version was asked for.
    pub program: Option<String>,
    /// Its version.
    pub version: String,
}

/// `catalogue check`, of a mapping for somebody else's listing
#[derive(Debug, Serialize, JsonSchema)]
pub struct ListingChecked {
    /// The address that was asked.
    pub url: String,
    /// What was made of its answer.
    pub releases: Vec<ListedRelease>,
}

/// `catalogue new`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ListingDrafted {
    /// Where it was written.
    pub file: Option<PathBuf>,
    /// The draft.
    pub text: String,
}

/// A release of somebody else's listing, with what the mapping makes of it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ListedRelease {
    /// What was found where.
    pub facts: Vec<Told>,
    /// Its id here.
    pub id: Option<String>,
    /// Its version.
    pub version: Option<String>,
    /// Where its file can be had, with its hashes.
    pub file: Option<Supply>,
    /// Why it cannot be used.
    pub problem: Option<String>,
}

/// `catalogue sign`
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogueSigned {
    /// Where the signature lies.
    pub signature: PathBuf,
    /// The key by which it can be checked, for lantern.toml.
    pub key: String,
}

/// `plan`, where files have to be fetched first
#[derive(Debug, Serialize, JsonSchema)]
pub struct PlanWaits {
    /// What has to be fetched.
    pub files: Vec<WantedFile>,
}

/// A file that has to be fetched.
#[derive(Debug, Serialize, JsonSchema)]
pub struct WantedFile {
    /// What it is for: a release.
    pub what: String,
    /// Where it can be had.
    pub file: Supply,
}

/// `gather`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Gathered {
    /// Whether every file is here.
    pub complete: bool,
    /// What came.
    pub fetched: Vec<Fetched>,
    /// What did not.
    pub missing: Vec<Unfetched>,
}

/// A file that was fetched, or was there already.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Fetched {
    /// What it is for.
    pub what: String,
    /// Where it lies.
    pub file: PathBuf,
    /// Its size in bytes.
    pub bytes: u64,
    /// The host or the path that it came from; empty where it was in the store.
    pub from: String,
    /// How many bytes of it were there already.
    pub resumed: u64,
    /// The hash that it was held against; none where nobody states one, or it was held against it before.
    pub checked: Option<HashKind>,
}

/// A file that could not be fetched.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Unfetched {
    /// What it is for.
    pub what: String,
    /// What it is called.
    pub name: String,
    /// Its size in bytes, where it is stated.
    pub bytes: Option<u64>,
    /// The page where a person can fetch it.
    pub page: Option<String>,
    /// Why only a person can fetch it.
    pub by_person: Option<String>,
    /// The addresses that were tried.
    pub tried: Vec<TriedUrl>,
}

/// An address that gave no file.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TriedUrl {
    /// The address.
    pub url: String,
    /// What went wrong.
    pub why: String,
}

/// `gather --clean`
#[derive(Debug, Serialize, JsonSchema)]
pub struct StoreCleaned {
    /// Where the store is.
    pub store: PathBuf,
    /// How many files were removed.
    pub removed: usize,
    /// How much that was, in bytes.
    pub removed_bytes: u64,
    /// How many files are left.
    pub left: usize,
    /// How much that is, in bytes.
    pub left_bytes: u64,
}

/// `adopt`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Adopted {
    /// The server's name.
    pub server: String,
    /// Its family.
    pub family: String,
    /// Its version, where it is known.
    pub server_version: Option<String>,
    /// How many components were found.
    pub components: usize,
    /// How many files.
    pub files: usize,
    /// How large they are together.
    pub bytes: u64,
    /// How many of them are on the keep list.
    pub kept_files: usize,
    /// How many findings there are.
    pub findings: usize,
}

/// `adopt --moved`, `adopt --copy`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Settled {
    /// The server's name.
    pub server: String,
    /// Its own mark.
    pub id: String,
}

/// `backup make`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupMade {
    /// The backup.
    pub name: String,
    /// How many files it has.
    pub files: usize,
    /// How large they are together.
    pub bytes: u64,
    /// How much the store grew by it.
    pub stored_bytes: u64,
    /// Whether the server was up.
    pub while_up: bool,
    /// What is not in it, as it is a link or has an odd name.
    pub left_out: Vec<String>,
}

/// One backup in a list.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupRow {
    name: String,
    scope: Scope,
    made_ms: i64,
    note: Option<String>,
    files: usize,
    bytes: u64,
    stored_bytes: u64,
    /// How much only this one needs; null where that cannot be told.
    alone_bytes: Option<u64>,
    named: bool,
}

impl From<&Page> for BackupRow {
    fn from(page: &Page) -> BackupRow {
        BackupRow {
            name: page.name.clone(),
            scope: page.scope,
            made_ms: page.made_ms,
            note: page.note.clone(),
            files: page.files,
            bytes: page.bytes,
            stored_bytes: page.stored_bytes,
            alone_bytes: None,
            named: page.named,
        }
    }
}

/// Something by its name, and what is wrong with it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NameWhy {
    name: String,
    why: String,
}

/// A place, and what is wrong there.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PlaceWhy {
    place: String,
    why: String,
}

/// A path, and what is wrong with it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PathWhy {
    path: String,
    why: String,
}

/// Pairs of where and why as [`PlaceWhy`].
pub fn places(pairs: &[(String, String)]) -> Vec<PlaceWhy> {
    let pairs = pairs.iter().cloned();
    pairs.map(|(place, why)| PlaceWhy { place, why }).collect()
}

/// `backup list`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Backups {
    /// Where the store is that servers share; null where it is this server's own.
    shared_store: Option<String>,
    /// How much the store takes; of one that is shared, all of it.
    store_bytes: u64,
    backups: Vec<BackupRow>,
    /// Those of other servers, where `--all` asks for them.
    others: Vec<BackupRow>,
    broken: Vec<NameWhy>,
}

impl Backups {
    /// The backups, and the pages that cannot be read.
    pub fn new(
        pages: &[Page],
        others: &[Page],
        broken: &[(String, String)],
        alone: &BTreeMap<String, u64>,
        (shared_store, store_bytes): (Option<String>, u64),
    ) -> Backups {
        let broken = broken.iter().cloned();
        let row = |page: &Page| BackupRow {
            alone_bytes: alone.get(&page.name).copied(),
            ..BackupRow::from(page)
        };
        Backups {
            shared_store,
            store_bytes,
            backups: pages.iter().map(row).collect(),
            others: others.iter().map(BackupRow::from).collect(),
            broken: broken.map(|(name, why)| NameWhy { name, why }).collect(),
        }
    }
}

/// One file of a backup.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupFile {
    path: RelPath,
    bytes: u64,
    blake3: String,
}

/// `backup show`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupShown {
    name: String,
    scope: Scope,
    made_ms: i64,
    note: Option<String>,
    files: Vec<BackupFile>,
}

impl From<&Manifest> for BackupShown {
    fn from(backup: &Manifest) -> BackupShown {
        let files = backup.files.iter().map(|file| BackupFile {
            path: file.path.clone(),
            bytes: file.bytes,
            blake3: file.blake3.clone(),
        });
        BackupShown {
            name: backup.name.clone(),
            scope: backup.scope,
            made_ms: backup.made_ms,
            note: backup.note.clone(),
            files: files.collect(),
        }
    }
}

/// `backup check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupsChecked {
    /// How many backups there are.
    pub backups: usize,
    /// How much of what they need was read.
    pub read_bytes: u64,
    /// How much there is of that.
    pub bytes: u64,
    /// What is wrong.
    pub wrong: Vec<PlaceWhy>,
}

/// `backup restore --to`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupRestored {
    files: usize,
    lost: Vec<PathWhy>,
    /// Files and folders that are not whose they were, or lack attributes.
    not_given: usize,
}

impl BackupRestored {
    /// So many files were put there, and these were not.
    pub fn new(files: usize, lost: &[(String, String)], not_given: usize) -> BackupRestored {
        let lost = lost.iter().cloned();
        BackupRestored {
            files,
            lost: lost.map(|(path, why)| PathWhy { path, why }).collect(),
            not_given,
        }
    }
}

/// `backup restore --in-place`
#[derive(Debug, Serialize, JsonSchema)]
pub struct RestoredInPlace {
    /// Files that came back.
    pub brought: usize,
    /// Files that went out of the way.
    pub set_aside: usize,
    /// Where they lie, relative to the server folder.
    pub aside: String,
}

/// `backup thin`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupsThinned {
    /// The backups that are gone.
    pub gone: Vec<String>,
    /// How much was given back.
    pub bytes: u64,
    /// How much may be given back from a day on, the next time.
    pub later_bytes: u64,
    /// How much that no backup needs lies among too much that is needed.
    pub among_bytes: u64,
}

/// `backup key`
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeyMade {
    /// The file.
    pub path: String,
    /// What tells the key from others, as a store that is sealed with it says.
    pub mark: String,
}

/// `changeover`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ChangeoverDone {
    number: i64,
    running: bool,
    down_ms: Option<u64>,
    stop_ms: Option<u64>,
    own_ms: u64,
    /// How long it waited for servers that are down together with it.
    waited_ms: u64,
    start_ms: u64,
    by_hand_ms: u64,
    bad: Option<String>,
    loaded: Option<usize>,
    backup: String,
}

impl From<&Report> for ChangeoverDone {
    fn from(report: &Report) -> ChangeoverDone {
        ChangeoverDone {
            number: report.number,
            running: report.running,
            down_ms: report.times.total_ms(),
            stop_ms: report.times.stop_ms,
            own_ms: report.times.own_ms,
            waited_ms: report.times.waited_ms,
            start_ms: report.times.start_ms,
            by_hand_ms: report.times.by_hand_ms,
            bad: report.bad.clone(),
            loaded: report.loaded,
            backup: report.backup.clone(),
        }
    }
}

/// `client who`
#[derive(Debug, Serialize, JsonSchema)]
pub struct WhoMayJoin {
    /// The name of the plan that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plan: Option<String>,
    /// Each kind of client, the server's own first.
    pub kinds: Vec<Joining>,
    /// Kinds that lantern.toml names, and neither the family nor anything that runs states.
    pub unstated: Vec<String>,
}

/// Which players with one kind of client may join.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Joining {
    client: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    title: Option<String>,
    /// Versions that may join now, in words; none where no one may, `unknown` where nobody declared anything.
    now: Option<String>,
    /// Versions that may join with the plan, likewise.
    #[serde(skip_serializing_if = "Option::is_none")]
    afterwards: Option<Option<String>>,
    /// What lets them in; with a plan, afterwards.
    because_of: Vec<String>,
    /// Versions that may join no longer.
    no_longer: Vec<String>,
    /// Versions that may join newly.
    newly: Vec<String>,
}

impl Joining {
    /// As it is.
    pub fn of(kind: &MayJoin) -> Joining {
        Joining {
            client: kind.client.clone(),
            title: kind.title.clone(),
            now: kind.words(),
            afterwards: None,
            because_of: kind.because_of(),
            no_longer: Vec::new(),
            newly: Vec::new(),
        }
    }

    /// As a plan changes it.
    pub fn changing(change: &ClientChange) -> Joining {
        Joining {
            client: change.client.clone(),
            title: change.title.clone(),
            now: change.before.clone(),
            afterwards: Some(change.after.clone()),
            because_of: change.by.clone(),
            no_longer: change.no_longer.clone(),
            newly: change.newly.clone(),
        }
    }
}

/// `bundle --out`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BundlePacked<'a> {
    /// The plan, by its name.
    pub plan: &'a str,
    /// The archive that was written.
    pub out: &'a Path,
    /// How many files are in it.
    pub files: usize,
    /// Its size.
    pub bytes: u64,
    /// What goes, and nothing comes in its place.
    pub goes: &'a [RelPath],
    /// How many files that go, or are replaced, were packed, too; none where that was not asked for.
    pub old: Option<usize>,
}

/// `bundle --check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BundleLookedAt<'a> {
    /// The plan, by its name.
    pub plan: &'a str,
    /// How many paths are as it has them.
    pub right: usize,
    /// Those that are not.
    pub odd: &'a [Odd],
    /// The number in the history, where all is as it should be.
    pub number: Option<i64>,
}

/// `client list`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Clients<'a> {
    /// What a client must have, may have, and must not have.
    pub client: &'a ClientList,
    /// Kinds that lantern.toml names, and neither the family nor anything that runs states.
    pub unstated: &'a [String],
}

/// `client pack`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ClientPacked<'a> {
    /// What a client must have, may have, and must not have.
    pub client: &'a ClientList,
    /// The archive that was written.
    pub out: &'a Path,
    /// Its size.
    pub bytes: u64,
    /// How many files are in it, besides the lists.
    pub files: usize,
    /// What players have to delete; null where all was packed.
    pub delete: Option<&'a Vec<RelPath>>,
}

/// `client write --out`, `notice --out`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Written<'a> {
    /// The file.
    pub out: &'a Path,
    /// Its size.
    pub bytes: u64,
}

/// `notice`
#[derive(Debug, Serialize, JsonSchema)]
pub struct NoticeTold<'a> {
    /// All that there is to tell.
    pub notice: &'a Notice,
    /// It in words.
    pub text: &'a str,
}

/// `client check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ClientChecked<'a> {
    /// Whether nothing has to be done.
    #[serde(rename = "matches")]
    pub right: bool,
    /// The server.
    pub server: &'a str,
    /// What was found.
    pub checked: &'a Checked,
}

/// `client explain`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ClientExplained<'a> {
    /// Whether the family states how a mismatch is told.
    pub stated: bool,
    /// The components that the text names.
    pub components: &'a [Explained],
}

/// `console ask`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ConsoleAnswer {
    /// The lines that it answered.
    pub answer: Vec<String>,
}

/// The other commands of `console`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ConsoleState {
    /// Another process that writes its files, and which.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub second: Option<String>,
    /// Whether it is up; null where that cannot be told.
    pub up: Option<bool>,
    /// The same in a sentence.
    pub text: String,
}

/// `catalogue make`
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogueMade<'a> {
    /// Where it is; none where there was nothing to put into it.
    pub file: Option<&'a std::path::Path>,
    /// How many releases are in it.
    pub releases: usize,
    /// What of the folder is not.
    pub left_out: Vec<PlaceWhy>,
}

/// `catalogue check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogueChecked {
    /// How many releases could be read.
    pub releases: usize,
    /// Of how many components.
    pub components: usize,
    /// How many of the releases are not here, but at an address: nobody looked at those.
    pub elsewhere: usize,
    /// What is wrong.
    pub wrong: Vec<PlaceWhy>,
}

/// `family check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct FamilyChecked<'a> {
    /// The family.
    pub family: &'a str,
    /// Whether there is nothing to remark.
    pub sound: bool,
    /// What cannot be meant so.
    pub remarks: &'a [Remark],
    /// What it made of a folder, where it was tried on one.
    pub trial: Option<&'a Trial>,
    /// What it made of releases.
    pub releases: &'a [ReleaseTried],
}

/// `family new`
#[derive(Debug, Serialize, JsonSchema)]
pub struct FamilyDraft {
    /// The draft itself.
    pub family: String,
}

/// `family new --out`
#[derive(Debug, Serialize, JsonSchema)]
pub struct FamilyWritten<'a> {
    /// Where the draft is.
    pub file: &'a std::path::Path,
}

/// `survey --files`, `--edited`, `--unowned`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Files<'a> {
    /// The files that were asked for.
    pub files: Vec<&'a FileRow<'a>>,
}

/// One file as it is shown.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FileRow<'a> {
    /// Where it is.
    pub path: &'a RelPath,
    /// Its size; none where it is gone.
    pub bytes: Option<u64>,
    /// The component, as pack and member where it is one.
    pub owner: Option<String>,
    /// What it is.
    pub is: Is,
    /// For one that was changed: whether the text that was put there is kept, to hold it against.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text_kept: Option<bool>,
    /// How much of it: so many values, or places.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub changed: Option<String>,
    /// The names under which edits of it are kept.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kept_as: Vec<String>,
}

/// What a file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Is {
    /// As it was put there.
    AsPut,
    /// Not seen by the ledger before.
    New,
    /// Changed since.
    Edited,
    /// Put beside what the component shipped.
    Added,
    /// Gone.
    Missing,
    /// What an add-on wrote.
    Data,
    /// On the keep list.
    Kept,
    /// A log, a cache.
    Passing,
    /// The file that holds the load order.
    LoadOrder,
    /// Settings or a start script of the place, or lantern's own.
    Settings,
    /// Nobody's.
    Unowned,
}

/// `history`
#[derive(Debug, Serialize, JsonSchema)]
pub struct History {
    /// What was done, the first first.
    pub operations: Vec<PastOperation>,
}

/// `status`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Status<'a> {
    server: &'a str,
    family: &'a str,
    server_version: Option<String>,
    #[serde(flatten)]
    running: StatusOfOne<'a>,
    /// Each of several servers that run on the install; the fields above are then of the first.
    #[serde(skip_serializing_if = "Option::is_none")]
    servers: Option<Vec<StatusOfOne<'a>>>,
    /// The last plan that was asked for, and what became of it.
    plan: Option<&'a Armed>,
    /// The changeover that waits for its hour.
    waits: Option<night::NightWait>,
    /// What came of the last time that it was kept up by itself.
    kept_up: Option<LastKeepUp>,
    /// The last operation's number.
    last: Option<i64>,
    survey: Option<&'a LastSurvey>,
    /// How many backups; null where their store cannot be looked into.
    backups: Option<usize>,
    backup_bytes: Option<u64>,
    /// Where they are, where that is not on this machine: nobody was asked there.
    backups_at: Option<String>,
    aside_files: usize,
    aside_bytes: u64,
}

/// Whether a server is up.
#[derive(Debug, Serialize, JsonSchema)]
struct StatusOfOne<'a> {
    /// Which of several it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    which: Option<&'a str>,
    /// Whether it is up; null where nobody can tell.
    up: Option<bool>,
    /// How that is known.
    who: Option<String>,
    /// Since when, where lantern started it.
    since_ms: Option<i64>,
    /// Who is on; null where that cannot be told.
    players: &'a Option<Vec<String>>,
}

impl<'a> From<&'a OneGlance> for StatusOfOne<'a> {
    fn from(one: &'a OneGlance) -> StatusOfOne<'a> {
        StatusOfOne {
            which: one.which.as_deref(),
            up: one.is_up(),
            who: one.state.who(),
            since_ms: one.since_ms,
            players: &one.players,
        }
    }
}

/// What a command answers of each of several servers of one install.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(rename = "Each{T}")]
pub struct EachServer<T> {
    /// The servers, as `lantern.toml` names them.
    pub servers: Vec<OfServer<T>>,
}

/// What a command answers of one of several servers.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(rename = "One{T}")]
pub struct OfServer<T> {
    /// Which one.
    pub which: String,
    /// The answer.
    #[serde(flatten)]
    pub answer: T,
}

impl<'a> Status<'a> {
    /// What a glance at a server has seen.
    pub fn new(
        server: &'a Server,
        seen: &'a Glance,
        server_version: Option<String>,
        plan: Option<&'a Armed>,
        waits: Option<night::NightWait>,
        kept_up: Option<LastKeepUp>,
    ) -> Status<'a> {
        Status {
            server: &server.config.name,
            family: &server.family.name,
            server_version,
            running: StatusOfOne::from(&seen.each[0]),
            servers: match &seen.each[..] {
                [_] => None,
                several => Some(several.iter().map(StatusOfOne::from).collect()),
            },
            plan,
            waits,
            kept_up,
            last: seen.last.as_ref().map(|last| last.number),
            survey: seen.survey.as_ref(),
            backups: seen.backups.map(|(backups, _)| backups),
            backup_bytes: seen.backups.map(|(_, bytes)| bytes),
            backups_at: seen.backups_at.clone(),
            aside_files: seen.aside,
            aside_bytes: seen.aside_bytes,
        }
    }
}

/// One operation in the history.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PastOperation {
    number: i64,
    kind: OperationKind,
    ended_ms: i64,
    from: String,
    to: String,
    undone: bool,
    failed: Option<String>,
    thinned: bool,
    aside: Vec<PathBuf>,
    files: usize,
    bytes: u64,
}

impl PastOperation {
    /// One operation; `shown` is where a folder of its own lies for others.
    pub fn new(
        past: &lantern_host::history::PastOperation,
        shown: impl Fn(&RelPath) -> PathBuf,
    ) -> PastOperation {
        let operation = &past.operation;
        PastOperation {
            number: operation.number,
            kind: operation.kind,
            ended_ms: operation.ended_ms,
            from: operation.from.clone(),
            to: operation.to.clone(),
            undone: operation.undone,
            failed: operation.failed.clone(),
            thinned: operation.is_thinned,
            aside: past.aside.iter().map(shown).collect(),
            files: past.files,
            bytes: past.bytes,
        }
    }
}

/// `outlook --updates`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Updates<'a> {
    updates: Vec<Update<'a>>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Update<'a> {
    id: &'a Id,
    from: &'a str,
    to: &'a str,
}

impl<'a> Updates<'a> {
    /// Newer releases: what, from which version, to which.
    pub fn new(newer: &'a [(Id, String, String)]) -> Updates<'a> {
        let newer = newer.iter();
        let updates = newer.map(|(id, from, to)| Update { id, from, to });
        Updates {
            updates: updates.collect(),
        }
    }
}

/// Any command that fails
#[derive(Debug, Serialize, JsonSchema)]
pub struct Failure {
    /// What went wrong.
    pub error: String,
    /// What to do, line by line.
    pub advice: Vec<String>,
    /// The exit status.
    pub exit_status: u8,
    /// Where no releases fit together: how many independent problems there are.
    pub conflicts: Option<usize>,
}

/// `diff`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Differences<'a> {
    /// Each file that was looked at, by path.
    pub differences: &'a [Difference],
}

/// `history N`
#[derive(Debug, Serialize, JsonSchema)]
pub struct OperationTold<'a> {
    /// Its line in the history.
    #[serde(flatten)]
    pub operation: PastOperation,
    /// What it did.
    pub detail: &'a Detail,
}

/// `history --thin`
#[derive(Debug, Serialize, JsonSchema)]
pub struct HistoryThinned {
    /// How many operations.
    pub thinned: usize,
    /// How many files.
    pub files: usize,
    /// How large they were together.
    pub bytes: u64,
}

/// `launch show`
#[derive(Debug, Serialize, JsonSchema)]
pub struct LaunchShown<'a> {
    /// The commands, in order.
    steps: Vec<LaunchStep>,
    /// What is wrong with the scripts.
    findings: Vec<&'a Finding>,
}

/// `launch servers`
#[derive(Debug, Serialize, JsonSchema)]
pub struct LaunchServers<'a> {
    /// The servers; none where it is only one.
    servers: Vec<LaunchServer<'a>>,
    /// They as `lantern.toml` states them.
    text: String,
}

/// One of several servers, as its start script tells it.
#[derive(Debug, Serialize, JsonSchema)]
struct LaunchServer<'a> {
    name: &'a str,
    script: &'a RelPath,
    /// What it has in place of the family's paths.
    instead: &'a BTreeMap<String, String>,
}

impl<'a> LaunchServers<'a> {
    /// The servers, with the text that states them.
    pub fn new(servers: &'a [Drafted], text: String) -> LaunchServers<'a> {
        let servers = servers.iter().map(|one| LaunchServer {
            name: &one.name,
            script: &one.script,
            instead: &one.instead,
        });
        LaunchServers {
            servers: servers.collect(),
            text,
        }
    }
}

/// A command of a start.
#[derive(Debug, Serialize, JsonSchema)]
struct LaunchStep {
    /// The script; none for the family's own command line.
    script: Option<RelPath>,
    /// Its line, from 1.
    line: Option<usize>,
    /// Its column, from 1.
    column: Option<usize>,
    does: LaunchDoes,
    /// The script that it runs.
    runs: Option<RelPath>,
    program: String,
    arguments: Vec<LaunchWord>,
}

/// What a command does, as far as a start goes.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum LaunchDoes {
    Starts,
    Updates,
    Calls,
    Other,
}

/// A word behind a program.
#[derive(Debug, Serialize, JsonSchema)]
struct LaunchWord {
    text: String,
    /// Whether that is what it comes to; else it is computed when the script is run.
    known: bool,
    line: usize,
    column: usize,
}

impl<'a> LaunchShown<'a> {
    /// What happens when a server is started.
    pub fn new(flow: &Flow, findings: Vec<&'a Finding>) -> LaunchShown<'a> {
        let steps = flow.steps.iter().map(|step| {
            let (program, arguments) = step.program();
            let at = step.at();
            let arguments = arguments.iter().map(|word| LaunchWord {
                text: word.text.clone(),
                known: word.is_known,
                line: word.at.line,
                column: word.at.column,
            });
            LaunchStep {
                script: step.script.clone(),
                line: at.map(|(_, at)| at.line),
                column: at.map(|(_, at)| at.column),
                does: match step.does {
                    Does::Starts => LaunchDoes::Starts,
                    Does::Updates => LaunchDoes::Updates,
                    Does::Calls(_) => LaunchDoes::Calls,
                    Does::Other => LaunchDoes::Other,
                },
                runs: match &step.does {
                    Does::Calls(path) => Some(path.clone()),
                    _ => None,
                },
                program: program.text.clone(),
                arguments: arguments.collect(),
            }
        });
        LaunchShown {
            steps: steps.collect(),
            findings,
        }
    }
}

/// `order`
#[derive(Debug, Serialize, JsonSchema)]
pub struct OrderShown<'a> {
    /// The entries, the first first.
    entries: Vec<OrderTurn<'a>>,
    /// Add-ons without an entry, and why.
    without_entry: Vec<NameWhy>,
    /// What of the order gives way, as it leads into a circle.
    gave_way: Vec<OrderLink<'a>>,
    /// What is wrong with it.
    findings: Vec<&'a Finding>,
}

/// An entry of the load order.
#[derive(Debug, Serialize, JsonSchema)]
struct OrderTurn<'a> {
    /// The file that it stands in, where that is not the one that the order begins in.
    #[serde(skip_serializing_if = "Option::is_none")]
    file: Option<&'a RelPath>,
    /// Its line, from 1; none where names tell the order.
    line: Option<usize>,
    entry: &'a str,
    /// The add-ons that it starts.
    starts: &'a [Id],
    on: bool,
    /// Why it stands behind others.
    after: Vec<OrderLink<'a>>,
}

/// That one add-on is started after another.
#[derive(Debug, Serialize, JsonSchema)]
struct OrderLink<'a> {
    first: &'a Id,
    later: &'a Id,
    /// Why, as a sentence.
    why: String,
}

impl<'a> From<&'a Link> for OrderLink<'a> {
    fn from(link: &'a Link) -> OrderLink<'a> {
        OrderLink {
            first: &link.first,
            later: &link.later,
            why: link.to_string(),
        }
    }
}

impl<'a> From<&'a Turn> for OrderTurn<'a> {
    fn from(turn: &'a Turn) -> OrderTurn<'a> {
        OrderTurn {
            file: turn.file.as_ref(),
            line: turn.line,
            entry: &turn.entry,
            starts: &turn.starts,
            on: turn.on,
            after: turn.after.iter().map(OrderLink::from).collect(),
        }
    }
}

impl<'a> OrderShown<'a> {
    /// A load order with what is wrong with it.
    pub fn new(
        turns: &'a [Turn],
        others: &[(Id, String)],
        gave_way: &'a [Link],
        findings: Vec<&'a Finding>,
    ) -> OrderShown<'a> {
        let others = others.iter().map(|(id, why)| NameWhy {
            name: id.to_string(),
            why: why.clone(),
        });
        OrderShown {
            entries: turns.iter().map(OrderTurn::from).collect(),
            without_entry: others.collect(),
            gave_way: gave_way.iter().map(OrderLink::from).collect(),
            findings,
        }
    }
}

/// `order --why`
#[derive(Debug, Serialize, JsonSchema)]
pub struct OrderWhy<'a> {
    id: &'a Id,
    /// The entry that starts it.
    entry: Option<OrderTurn<'a>>,
    /// What comes before it, and why.
    before: Vec<OrderLink<'a>>,
    /// What comes after it, and why.
    after: Vec<OrderLink<'a>>,
}

impl<'a> OrderWhy<'a> {
    /// Why an add-on stands where it does.
    pub fn new(
        id: &'a Id,
        turn: Option<&'a Turn>,
        before: &[&'a Link],
        after: &[&'a Link],
    ) -> OrderWhy<'a> {
        OrderWhy {
            id,
            entry: turn.map(OrderTurn::from),
            before: before.iter().map(|link| OrderLink::from(*link)).collect(),
            after: after.iter().map(|link| OrderLink::from(*link)).collect(),
        }
    }
}

/// `docs`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Pages {
    /// All pages.
    pub pages: Vec<DocsPage>,
    /// The one that was asked for, in Markdown.
    pub text: Option<&'static str>,
}

/// One page of the documentation.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DocsPage {
    /// What it is asked for by.
    pub name: String,
    /// What it tells.
    pub about: String,
}

/// `man`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Manual {
    /// The folder.
    pub folder: PathBuf,
    /// The files in it.
    pub pages: Vec<String>,
}

/// `outlook --watch-for-client`
#[derive(Debug, Serialize, JsonSchema)]
pub struct CanJoin<'a> {
    server: &'a str,
    /// Who is to be let in.
    players: &'a str,
    /// What a plan has to be asked for so that they are: `same` server version, or the `best`; null where none does.
    pub with: Option<&'static str>,
    /// Whether anything has to change for it.
    pub needs_plan: Option<bool>,
    /// What lets them in.
    pub by: Vec<String>,
    /// What stands in the way.
    pub why: Option<String>,
}

impl<'a> CanJoin<'a> {
    /// Nothing is known yet.
    pub fn new(server: &'a str, players: &'a str) -> CanJoin<'a> {
        CanJoin {
            server,
            players,
            with: None,
            needs_plan: None,
            by: Vec::new(),
            why: None,
        }
    }

    /// Releases that let them in were found.
    pub fn found(&mut self, to: &'static str, request: &Request, selection: &Selection) {
        let chosen = selection.choices.iter().filter_map(|choice| {
            let held = || request.held.iter().find(|held| held.facts.id == choice.id);
            let facts = match choice.offer {
                Some(offer) => &request.offers[offer].facts,
                None => &held()?.facts,
            };
            let lets_in = request.admit.values().any(|players| facts.lets_in(players));
            lets_in.then(|| {
                (
                    choice.offer.is_some(),
                    format!("{} {}", facts.id, facts.version),
                )
            })
        });
        let chosen: Vec<(bool, String)> = chosen.collect();
        self.with = Some(to);
        self.why = None;
        self.needs_plan = Some(!chosen.is_empty() && chosen.iter().all(|(moves, _)| *moves));
        self.by = chosen.into_iter().map(|(_, by)| by).collect();
    }
}

/// `outlook`
#[derive(Debug, Serialize, JsonSchema)]
pub struct OutlookTable<'a> {
    versions: Vec<OutlookVersion<'a>>,
    components: Vec<OutlookRow<'a>>,
    clients: &'a [ClientRow],
    highest_for_all: Option<String>,
    highest_without_loss: Option<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct OutlookVersion<'a> {
    version: String,
    protocol: &'a Option<String>,
    together: Together,
    held_back_by: &'a BTreeMap<Id, Vec<Id>>,
    /// The server versions on the way there; null where no way leads there.
    stops: Option<Vec<String>>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct OutlookRow<'a> {
    id: &'a Id,
    kind: Kind,
    installed: String,
    /// Whether it is switched off.
    off: bool,
    world_bound: Option<bool>,
    standings: &'a [Standing],
}

impl<'a> OutlookTable<'a> {
    /// The outlook, and the stops on the way to each version.
    pub fn new(outlook: &'a Outlook, stops: &[Option<Vec<Version>>]) -> OutlookTable<'a> {
        let text = ToString::to_string;
        let versions = outlook.versions.iter().enumerate().map(|(at, version)| {
            let way = stops[at].as_ref();
            OutlookVersion {
                version: version.to_string(),
                protocol: &outlook.protocols[at],
                together: outlook.together[at],
                held_back_by: &outlook.held_back[at],
                stops: way.map(|way| way.iter().map(text).collect()),
            }
        });
        let components = outlook.rows.iter().map(|row| OutlookRow {
            id: &row.id,
            kind: row.kind,
            installed: row.installed.to_string(),
            off: row.off,
            world_bound: row.world_bound,
            standings: &row.standings,
        });
        OutlookTable {
            versions: versions.collect(),
            components: components.collect(),
            clients: &outlook.clients,
            highest_for_all: outlook.highest_for_all().map(text),
            highest_without_loss: outlook.highest_without_loss().map(text),
        }
    }
}

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

/// `keep-up`, where it carries nothing out; otherwise it answers as `changeover`
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeptUp<'a> {
    /// Where the plan lies; null where nothing moves.
    saved: Option<&'a PathBuf>,
    plan: Option<&'a Plan>,
    waits: &'a [Waits],
    left: &'a [Left],
    /// Releases whose files could not be had.
    missing: &'a [String],
}

impl<'a> KeptUp<'a> {
    /// What was proposed.
    pub fn new(proposal: &'a Proposal) -> KeptUp<'a> {
        KeptUp {
            saved: proposal.plan.as_ref().map(|_| &proposal.path),
            plan: proposal.plan.as_ref(),
            waits: &proposal.waits,
            left: &proposal.left,
            missing: &proposal.missing,
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

/// `survey`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Surveyed<'a> {
    server: &'a str,
    family: &'a str,
    server_version: Option<String>,
    components: Vec<SurveyedComponent<'a>>,
    findings: &'a [Finding],
    unowned: Vec<&'a RelPath>,
    left_alone: &'a [String],
}

impl<'a> Surveyed<'a> {
    /// Everything that a survey found.
    pub fn new(server: &'a str, family: &'a str, found: &'a Survey) -> Surveyed<'a> {
        let inventory = &found.inventory;
        Surveyed {
            server,
            family,
            server_version: inventory.server_version().map(ToString::to_string),
            components: inventory
                .components
                .iter()
                .map(SurveyedComponent::from)
                .collect(),
            findings: &inventory.findings,
            unowned: inventory.unowned.iter().map(|file| &file.path).collect(),
            left_alone: &found.left_alone,
        }
    }
}

/// `survey ID`
#[derive(Debug, Serialize, JsonSchema)]
pub struct SurveyedOne<'a> {
    /// Every component of that id.
    pub components: Vec<SurveyedComponent<'a>>,
    /// Who needs it, each with the range.
    pub needed_by: Vec<String>,
    /// The operations of the history that changed it, and whose set-aside files are there.
    pub set_aside_by: Vec<i64>,
    /// What is held against them.
    pub findings: Vec<&'a Finding>,
}

/// One component as a survey shows it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SurveyedComponent<'a> {
    #[serde(flatten)]
    release: WrittenRelease,
    version_from: VersionFrom,
    version_is_stated: bool,
    /// What says whether it runs, and whether it does.
    runs: Runs,
    started_by: &'a Option<Id>,
    pack: &'a Option<Id>,
    place: &'a Option<RelPath>,
    data: &'a Option<RelPath>,
    files: usize,
    bytes: u64,
    state: &'a FileState,
}

impl<'a> From<&'a Component> for SurveyedComponent<'a> {
    fn from(component: &'a Component) -> SurveyedComponent<'a> {
        SurveyedComponent {
            release: WrittenRelease::of(&component.facts),
            version_from: component.version_from,
            version_is_stated: component.version_from != VersionFrom::Content,
            runs: component.runs,
            started_by: &component.started_by,
            pack: &component.group,
            place: &component.place,
            data: &component.holdings.data,
            files: component.files.len(),
            bytes: component.bytes(),
            state: &component.state,
        }
    }
}

/// `undo`
#[derive(Debug, Serialize, JsonSchema)]
pub struct UndoDone<'a> {
    number: i64,
    server_version: Option<&'a str>,
    restored: Option<&'a str>,
    down_ms: Option<u64>,
    with_world: bool,
    running: bool,
    wrong: &'a [String],
    written_since: &'a [RelPath],
}

impl<'a> From<&'a Undone> for UndoDone<'a> {
    fn from(undone: &'a Undone) -> UndoDone<'a> {
        let (server_version, restored) = match &undone.now {
            Now::At(version) => (Some(version.as_str()), None),
            Now::Before(name) => (None, Some(name.as_str())),
            Now::Untouched => (None, None),
        };
        UndoDone {
            number: undone.number,
            server_version,
            restored,
            down_ms: undone.down_ms,
            with_world: undone.with_world,
            running: undone.running,
            wrong: &undone.wrong,
            written_since: &undone.set_aside,
        }
    }
}

/// `take-over`
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakeOverDone<'a> {
    /// Who was at work, or was cut off; null where nobody was.
    who: Option<&'a str>,
    /// What was cut off, and what state things were in; null where nothing was.
    told: Option<&'a str>,
    /// Files that were put back.
    back: usize,
    /// Files that cannot be found to be put back.
    lost: &'a [RelPath],
    /// Whose records were taken, where those of this machine had gone apart from them; null where they had not.
    records: Option<&'a str>,
}

impl<'a> From<&'a TakenOver> for TakeOverDone<'a> {
    fn from(taken: &'a TakenOver) -> TakeOverDone<'a> {
        TakeOverDone {
            who: taken.who.as_deref(),
            told: taken.told.as_deref(),
            back: taken.back,
            lost: &taken.lost,
            records: taken.records.as_deref(),
        }
    }
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

/// `verify`
#[derive(Debug, Serialize, JsonSchema)]
pub struct VerifySeen<'a> {
    right: bool,
    up: Option<bool>,
    who: Option<String>,
    ready: Option<bool>,
    second: &'a Option<String>,
    problems: Vec<String>,
    shown: &'a Option<StartReport>,
}

impl<'a> From<&'a Verified> for VerifySeen<'a> {
    fn from(seen: &'a Verified) -> VerifySeen<'a> {
        let who = seen.state.who();
        let problems = seen.verdict.as_ref().map(StartReport::problems);
        VerifySeen {
            right: seen.is_right(),
            second: &seen.second,
            up: match seen.state {
                ServerState::Unknown { .. } => None,
                _ => Some(who.is_some()),
            },
            who,
            ready: seen.ready,
            problems: problems.unwrap_or_default(),
            shown: &seen.verdict,
        }
    }
}

/// `why`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Why<'a> {
    id: &'a Id,
    version: Option<&'a str>,
    because: Option<&'a Reason>,
    held_by: Vec<HeldBy<'a>>,
    newer: Vec<Newer<'a>>,
    /// What was seen of it on this server, in words.
    learned: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct HeldBy<'a> {
    id: &'a Id,
    range: &'a str,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Newer<'a> {
    version: &'a str,
    why_not: NotChosen<'a>,
}

impl<'a> Why<'a> {
    /// Why a component is where it is.
    pub fn new(id: &'a Id, explanation: &'a Explanation, learned: Vec<String>) -> Why<'a> {
        let choice = explanation.choice.as_ref();
        let held_by = explanation.held_by.iter();
        let newer = explanation.newer.iter();
        Why {
            id,
            version: choice.map(|choice| choice.to.as_str()),
            because: choice.map(|choice| &choice.reason),
            learned,
            held_by: held_by.map(|(id, range)| HeldBy { id, range }).collect(),
            newer: newer
                .map(|(version, why)| Newer {
                    version: version.as_str(),
                    why_not: NotChosen::from(why),
                })
                .collect(),
        }
    }
}

/// `why --not`
#[derive(Debug, Serialize, JsonSchema)]
pub struct WhyNotThat<'a> {
    id: &'a Id,
    version: &'a str,
    why_not: NotChosen<'a>,
    /// What was seen of it on this server, in words.
    learned: Vec<String>,
}

impl<'a> WhyNotThat<'a> {
    /// Why a component is not at a version.
    pub fn new(
        id: &'a Id,
        version: &'a Version,
        why: &'a WhyNot,
        learned: Vec<String>,
    ) -> WhyNotThat<'a> {
        WhyNotThat {
            id,
            version: version.as_str(),
            why_not: NotChosen::from(why),
            learned,
        }
    }
}

/// Why a release was not chosen.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "is")]
enum NotChosen<'a> {
    Chosen,
    Unknown { known: Vec<&'a str> },
    Impossible { told: &'a str },
    LessGood { then: Vec<IdTo<'a>> },
}

#[derive(Debug, Serialize, JsonSchema)]
struct IdTo<'a> {
    id: &'a Id,
    to: &'a str,
}

impl<'a> From<&'a WhyNot> for NotChosen<'a> {
    fn from(why: &'a WhyNot) -> NotChosen<'a> {
        let to = |choice: &'a Choice| IdTo {
            id: &choice.id,
            to: choice.to.as_str(),
        };
        match why {
            WhyNot::Chosen => NotChosen::Chosen,
            WhyNot::Unknown(known) => NotChosen::Unknown {
                known: known.iter().map(Version::as_str).collect(),
            },
            WhyNot::Impossible(_, told) => NotChosen::Impossible { told },
            WhyNot::Otherwise(choices) => NotChosen::LessGood {
                then: choices.iter().map(to).collect(),
            },
        }
    }
}

/// `changeover --call-off`.
#[derive(Serialize, JsonSchema)]
pub struct NightCalledOff {
    /// What waited.
    pub called_off: night::NightWait,
}

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

#[cfg(test)]
mod tests {
    use std::path::Path;

    /// The schemas in the documentation are those of the program; where they are not, the ones that are lie beside them.
    #[test]
    fn the_documented_schemas_are_current() {
        let formats = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats");
        let documented = std::fs::read_to_string(formats.join("answers.schema.json"));
        let mut current = serde_json::to_string_pretty(&super::schemas()).unwrap();
        current.push('\n');
        let same = documented.is_ok_and(|documented| documented == current);
        if !same {
            std::fs::write(formats.join("answers.schema.json.new"), current).unwrap();
        }
        assert!(
            same,
            "docs/formats/answers.schema.json is to be answers.schema.json.new"
        );
    }
}
