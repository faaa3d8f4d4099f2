//! What is installed.

use lantern_core::component::{Id, Runs};
use lantern_core::descriptor::VersionFrom;
use lantern_core::facts::WrittenRelease;
use lantern_core::inventory::{Component, FileState, Finding};
use lantern_core::path::RelPath;
use lantern_host::survey::Survey;
use schemars::JsonSchema;
use serde::Serialize;

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
