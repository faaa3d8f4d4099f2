//! Why no plan can be drawn up.

use crate::component::Id;
use crate::order::{Circle, Ring};
use crate::path::{PathFault, RelPath};
use crate::version::Version;

/// So many paths are named.
const MOST_SHOWN: usize = 12;

/// Why no plan can be drawn up although releases fit together.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DrawFault {
    /// A release would write where nothing may be written.
    #[error("{id} would write to {}, on the keep list", .paths.iter().map(RelPath::as_str).collect::<Vec<_>>().join(", "))]
    WritesKept {
        /// The component.
        id: Id,
        /// Where.
        paths: Vec<RelPath>,
    },
    /// A release would write into lantern's own room: its records, its settings, the family file.
    #[error("{id} would write to {path}, which is lantern's own")]
    WritesOwn {
        /// The component.
        id: Id,
        /// The path.
        path: RelPath,
    },
    /// What a start script would have to name is no plain word, which a shell may take for more.
    #[error("{path} would have to name {value:?} of {id}, which is not a plain word")]
    NoWord {
        /// The component.
        id: Id,
        /// Its version, or its file's name.
        value: String,
        /// The script.
        path: RelPath,
    },
    /// A start script does not name a version or file by a plain word.
    #[error("{path}:{line} must name {value}: {why}")]
    Pin {
        /// The script.
        path: RelPath,
        /// The line, from 1.
        line: usize,
        /// What it has to name.
        value: String,
        /// What stands there.
        why: String,
    },
    /// An id cannot be written into the load order, or the file leaves open where.
    #[error(
        "the load order cannot name {id} where it belongs: what would be written there reads as something else, or other lines go by its number"
    )]
    NoEntry {
        /// The add-on.
        id: Id,
    },
    /// An entry has to stand in a file that is not there.
    #[error("{files}: the load order is not there, and has to name {id}")]
    NoOrderFile {
        /// The add-on.
        id: Id,
        /// The patterns of its path, with commas between.
        files: String,
    },
    /// An add-on's own file cannot say whether it runs.
    #[error("{path} has to say whether {id} runs: {why}")]
    NoSwitch {
        /// The add-on.
        id: Id,
        /// The file.
        path: RelPath,
        /// What stands in the way.
        why: String,
    },
    /// A load order in which nothing stands does not show where something would.
    #[error(
        "{path}: there is no place for {id}: `order.line` of the family file finds nothing there"
    )]
    NoExample {
        /// The add-on.
        id: Id,
        /// The file.
        path: RelPath,
    },
    /// An item of a list besides the load order would not be found again where it would stand.
    #[error(
        "{path}: {list}: \"{item}\" would not be read again where it would stand: look at this list in the family file, and at how it parts its items"
    )]
    NoItem {
        /// The file.
        path: RelPath,
        /// What people call the list.
        list: String,
        /// The item.
        item: Id,
    },
    /// A release would put nothing in the place of what is installed.
    #[error(
        "the release of {id} has no file to replace what is installed, which would only be removed"
    )]
    Empty {
        /// The component.
        id: Id,
    },
    /// A link of a release leads out of all that is its own.
    #[error("{path} of {id} is a link that leads out of its own files, to {target}")]
    LinkLeaves {
        /// The component.
        id: Id,
        /// Where it would lie.
        path: RelPath,
        /// Where it leads.
        target: String,
    },
    /// Two releases would put a file at the same path.
    #[error("{a} and {b} both put a file at {path}")]
    Twice {
        /// The path.
        path: RelPath,
        /// The one.
        a: Id,
        /// The other.
        b: Id,
    },
    /// A release would overwrite a file that belongs to another component or to nobody.
    #[error("{}", in_the_way(.id, .paths, .owner.as_ref()))]
    InTheWay {
        /// The component.
        id: Id,
        /// The paths, at least one.
        paths: Vec<RelPath>,
        /// Whose files lie there.
        owner: Option<Id>,
        /// Whether they are settings or start scripts of the place's own.
        are_settings: bool,
        /// The installed version of the component, where its releases put files outside its own place.
        scattered: Option<Version>,
    },
    /// The load order, or what switches it, asks for another place of a folder in which something lies that is kept, or comes and goes.
    #[error(
        "{id} would have to be renamed to {to}, to come in its turn or to be on or off, but {path} in it is on the keep list"
    )]
    KeptInside {
        /// The component.
        id: Id,
        /// What its folder would be called.
        to: RelPath,
        /// What is kept, or comes and goes.
        path: RelPath,
    },
    /// What a release calls all its own overlaps with the keep list.
    #[error("{id} claims {path} as its own, which overlaps with {keep} on the keep list")]
    OwnsKept {
        /// The component.
        id: Id,
        /// The path.
        path: RelPath,
        /// The pattern of the keep list.
        keep: String,
    },
    /// A pack brings what the administrator has installed beside it.
    #[error("{pack} now contains {member} itself, and yours is installed beside it")]
    InPack {
        /// The pack.
        pack: Id,
        /// Its member.
        member: Id,
    },
    /// A pack no longer brings what the world holds content of.
    #[error("{pack} {version} no longer contains {member}, and the world holds content of it")]
    LeavesWorld {
        /// The pack.
        pack: Id,
        /// Its version.
        version: Version,
        /// Its former member.
        member: Id,
    },
    /// What has to be laid over, or come back from under, a layer is kept nowhere.
    #[error("{path} of {id} has to be installed again, and lantern has no copy of it")]
    NoCopy {
        /// The component.
        id: Id,
        /// The file.
        path: RelPath,
    },
    /// A release has variants, and none of them is chosen.
    #[error("{id} comes in variants, and none is chosen: {}", .variants.join(", "))]
    NoVariant {
        /// The component.
        id: Id,
        /// Its variants.
        variants: Vec<String>,
    },
    /// The variant that is chosen is not among those of a release.
    #[error("{id} has no variant \"{chosen}\": it has {}", .variants.join(", "))]
    OtherVariants {
        /// The component.
        id: Id,
        /// The variant that was chosen.
        chosen: String,
        /// Its variants.
        variants: Vec<String>,
    },
    /// Nothing says where such a release goes.
    #[error("the family file does not say where a new {id} goes: its reader has no `install`")]
    NoPlace {
        /// The component.
        id: Id,
    },
    /// The archive does not hold what its descriptor promises.
    #[error("the archive of {id} has no folder of {id}")]
    NoRoot {
        /// The component.
        id: Id,
    },
    /// A path is not fit to be written.
    #[error("{id}: {fault}")]
    Path {
        /// The component.
        id: Id,
        /// What is wrong with it.
        fault: PathFault,
    },
    /// The load order cannot be read, or a text has no room for what has to stand in it.
    #[error("{path} is not plain text, or its encoding cannot express what has to stand in it")]
    Unwritable {
        /// The file.
        path: RelPath,
    },
    /// Add-ons need one another in a ring.
    #[error(transparent)]
    Ring(#[from] Ring),
    /// Add-ons that need one another in a circle.
    #[error(transparent)]
    Circle(#[from] Circle),
}

fn in_the_way(id: &Id, paths: &[RelPath], owner: Option<&Id>) -> String {
    let whose = owner.map_or("no component", Id::as_str);
    let shown = paths.iter().take(MOST_SHOWN).map(RelPath::as_str);
    let shown = shown.collect::<Vec<_>>().join(", ");
    match paths.len() {
        1 => format!("{id} would put a file at {shown}, where there is one of {whose}"),
        many if many <= MOST_SHOWN => {
            format!("{id} would put files at {shown}, where there are some of {whose}")
        }
        many => format!(
            "{id} would put files at {shown} and {} more places, where there are some of {whose}",
            many - MOST_SHOWN
        ),
    }
}
