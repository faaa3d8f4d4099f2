//! What commands answer with `--json`: one type for each, with a schema in docs/formats/answers.schema.json.
//!
//! Fields are added, never changed in meaning.

mod backups;
mod changes;
mod clients;
mod family;
pub mod group;
mod known;
mod launch;
mod order;
mod outlook;
mod plan;
mod settings;
mod sources;
mod state;
mod survey;
mod why;

use group::{
    GroupChangeoverDone, GroupDecided, GroupHistory, GroupOutlook, GroupPlanned, GroupSent,
    GroupStatus, GroupSurveyed, GroupUndone, GroupVerified, GroupWatched,
};
use lantern_host::culprit::Hunt;
use lantern_host::night;
use lantern_host::rehearsal::Rehearsal;
use schemars::JsonSchema;
use serde::Serialize;

pub use backups::{
    BackupMade, BackupRestored, BackupShown, Backups, BackupsChecked, BackupsThinned, KeyMade,
    RestoredInPlace,
};
pub use changes::{
    ChangeoverDone, Differences, Failure, History, HistoryThinned, KeptUp, NightCalledOff,
    OperationTold, PastOperation, TakeOverDone, UndoDone, Updates,
};
pub use clients::{
    BundleLookedAt, BundlePacked, CanJoin, ClientChecked, ClientExplained, ClientPacked, Clients,
    Joining, NoticeTold, WhoMayJoin, Written,
};
pub use family::{DocsPage, FamilyChecked, FamilyDraft, FamilyWritten, Manual, Pages};
pub use known::{FactForgotten, FactsKnown, FactsTaken};
pub use launch::{LaunchServers, LaunchShown};
pub use order::{OrderShown, OrderWhy};
pub use outlook::OutlookTable;
pub use plan::{Milliseconds, PlanDrawn, Ready, RequestAnswered, chosen};
pub use settings::{
    DecisionsMade, PatchKept, PatchesKept, SettingsCompared, SettingsSet, SettingsShown,
    SettingsValue, Settled, ValueCompared,
};
pub use sources::{
    Acquired, CatalogueChecked, CatalogueMade, CatalogueSigned, Fetched, Gathered, ListedRelease,
    ListingChecked, ListingDrafted, PlanWaits, RuntimeFound, StoreCleaned, TriedUrl, Unfetched,
    WantedFile,
};
pub use state::{ConsoleAnswer, ConsoleState, EachServer, OfServer, Status, VerifySeen};
pub use survey::{Adopted, FileRow, Files, Is, Surveyed, SurveyedComponent, SurveyedOne};
pub use why::{Why, WhyNotThat};

/// Something that a command answers.
pub trait Answer: Serialize + JsonSchema {}

macro_rules! answers {
    ($($name:ty),* $(,)?) => {
        $(impl Answer for $name {})*

        /// The schemas of all answers, by name.
        #[cfg(test)]
        fn schemas() -> std::collections::BTreeMap<String, schemars::Schema> {
            std::collections::BTreeMap::from([$((<$name>::schema_name().into_owned(), schemars::schema_for!($name))),*])
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
