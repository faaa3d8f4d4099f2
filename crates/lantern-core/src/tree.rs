//! Which component a file belongs to.

use crate::family::{Family, Names, Reader, Shape};
use crate::link;
use crate::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeSet, HashMap};

/// One file of a server folder or archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileSeen {
    /// Where it lies.
    pub path: RelPath,
    /// Its size.
    pub bytes: u64,
    /// BLAKE3 of its content in hexadecimal, of a link its [`link::mark`], of one that is far away its [`unread`]; `None` where nobody
    /// looked: kept and passing files.
    pub hash: Option<String>,
}

impl FileSeen {
    /// Whether it is a link.
    pub fn is_link(&self) -> bool {
        self.hash.as_deref().and_then(link::target).is_some()
    }
}

/// What stands for a content that nobody has read: where it lies, its size in bytes, and when it was last written, in nanoseconds since
/// 1970. Two files that look alike are not taken for one.
pub fn unread(path: &RelPath, bytes: u64, modified_ns: i64) -> String {
    format!(
        "unread:{bytes}:{}:{path}",
        modified_ns.div_euclid(1_000_000_000)
    )
}

/// What a file that looks so now is known by in the place of the one that had this mark; none where that is no mark of [`unread`].
pub fn unread_like(mark: &str, bytes: u64, modified_ns: i64) -> Option<String> {
    Some(unread(&unread_at(mark)?, bytes, modified_ns))
}

/// Where the file lay that has this mark; none where that is no mark of [`unread`].
pub fn unread_at(mark: &str) -> Option<RelPath> {
    let mut parts = mark.strip_prefix("unread:")?.splitn(3, ':');
    RelPath::parse(parts.nth(2)?).ok()
}

/// Whether it was not read what lies there.
pub fn is_unread(hash: &str) -> bool {
    hash.starts_with("unread:")
}

/// A place that a reader recognises as a component.
#[derive(Debug, Clone)]
pub struct Claim<'f> {
    /// The reader.
    pub reader: &'f Reader,
    /// The archive, or the component's folder.
    pub place: RelPath,
    /// The place that it has when it is on: another one where it is parked.
    pub home: RelPath,
    /// The group it lies in, as an index into the claims.
    pub group: Option<usize>,
    /// Its files, as indices into the listing.
    pub files: Vec<usize>,
}

/// What the readers of a family make of a listing.
#[derive(Debug)]
pub struct Claims<'f> {
    /// The components' places; a group comes before its members.
    pub claims: Vec<Claim<'f>>,
    /// For each file of the listing, the claim that owns it.
    pub owner: Vec<Option<usize>>,
}

/// Finds the places of components; each file gets one owner at most.
///
/// `files` are sorted by path. Kept and passing files belong to nobody.
pub fn claim<'f>(family: &'f Family, files: &[FileSeen]) -> Claims<'f> {
    let paths: Vec<&str> = files.iter().map(|file| file.path.as_str()).collect();
    let mut folders: BTreeSet<&str> = BTreeSet::new();
    for path in &paths {
        let mut path = *path;
        while let Some((folder, _)) = path.rsplit_once('/') {
            if !folders.insert(folder) {
                break;
            }
            path = folder;
        }
    }
    let mut claims: Vec<Claim<'f>> = Vec::new();
    let mut places: HashMap<String, usize> = HashMap::new();
    let mut add = |reader, place: &str, home: &str, group| -> Option<usize> {
        if places.contains_key(place) || family.keeps(place) {
            return None;
        }
        places.insert(place.to_owned(), claims.len());
        claims.push(Claim {
            reader,
            place: RelPath::parse(place).ok()?,
            home: RelPath::parse(home).ok()?,
            group,
            files: Vec::new(),
        });
        Some(claims.len() - 1)
    };
    for reader in &family.readers {
        match reader.shape {
            Shape::Entry => {}
            Shape::Archive | Shape::File => {
                let in_files = files.iter().filter(|file| !file.is_link());
                for file in in_files {
                    let path = file.path.as_str();
                    if let Some(home) = reader.home(path) {
                        add(reader, path, &home, None);
                    }
                }
            }
            Shape::Folder | Shape::Group => {
                for folder in &folders {
                    let Some(home) = reader.home(folder) else {
                        continue;
                    };
                    if !marked(reader, &below(&paths, folder)) {
                        continue;
                    }
                    let Some(index) = add(reader, folder, &home, None) else {
                        continue;
                    };
                    let members = reader.members.as_deref();
                    let Some(inner) = members.and_then(|name| family.reader(name)) else {
                        continue;
                    };
                    for name in names_in(&below(&paths, folder)) {
                        let path = format!("{folder}/{name}");
                        if marked(inner, &below(&paths, &path)) {
                            add(inner, &path, &path, Some(index));
                        }
                    }
                }
            }
        }
    }
    for (index, claim) in claims.iter().enumerate() {
        for path in claim.reader.beside(&claim.place) {
            if !places.contains_key(path.as_str()) {
                places.insert(path.to_string(), index);
            }
        }
    }
    let mut owner = vec![None; files.len()];
    for (index, file) in files.iter().enumerate() {
        if family.keeps(file.path.as_str()) || family.passes(file.path.as_str()) {
            continue;
        }
        let mut path = file.path.as_str();
        owner[index] = loop {
            if let Some(claim) = places.get(path) {
                break Some(*claim);
            }
            match path.rsplit_once('/') {
                Some((folder, _)) => path = folder,
                None => break None,
            }
        };
        if let Some(claim) = owner[index] {
            claims[claim].files.push(index);
        }
    }
    for claim in claims.iter_mut().filter(|claim| claim.files.len() > 1) {
        if claim.reader.shape.is_one_file() {
            // Its own file comes first.
            claim
                .files
                .sort_by_key(|file| files[*file].path != claim.place);
        }
    }
    Claims { claims, owner }
}

/// The paths below a folder, relative to it; `paths` are sorted.
pub fn below<'p>(paths: &[&'p str], folder: &str) -> Vec<&'p str> {
    let start = format!("{folder}/");
    let first = paths.partition_point(|path| *path < start.as_str());
    let inside = paths[first..]
        .iter()
        .map_while(|path| path.strip_prefix(start.as_str()));
    inside.collect()
}

/// The names of the folders that paths begin with.
fn names_in<'p>(paths: &[&'p str]) -> BTreeSet<&'p str> {
    let folders = paths.iter().filter_map(|path| path.split_once('/'));
    folders.map(|(folder, _)| folder).collect()
}

/// Whether a folder or archive with these paths in it has what the reader goes by.
pub fn marked(reader: &Reader, paths: &[&str]) -> bool {
    let any = |names: &Names| paths.iter().any(|path| names.lead_to(path));
    match (&reader.marks[..], &reader.files[..]) {
        ([], []) => true,
        ([], files) => files.iter().any(|file| any(&file.name)),
        (marks, _) => marks.iter().any(any),
    }
}

/// Where in an archive a component begins.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Root {
    /// Below this: ending in `/`, or empty.
    At(String),
    /// Several lie in it, in these folders.
    Several(Vec<String>),
    /// One lies in it among other things, in this folder, beside those.
    Part(String, Vec<String>),
    /// None does.
    Nowhere,
}

impl Root {
    /// Below what it begins, where that is clear.
    pub fn at(self) -> Option<String> {
        match self {
            Root::At(root) => Some(root),
            Root::Several(_) | Root::Part(..) | Root::Nowhere => None,
        }
    }
}

/// Finds the folder inside an archive that is the component: the one with the reader's marks that lies in no more folders
/// than the reader allows, with no other folders beside it than those that it says nobody needs.
///
/// `paths` are sorted.
pub fn root_in_archive(reader: &Reader, paths: &[&str]) -> Root {
    let unmarked = reader.marks.is_empty() && reader.files.is_empty();
    if unmarked {
        // Nothing tells but the arrangement: one folder that holds all, or the archive itself.
        let all_in = |folder: &str| paths.iter().all(|path| path.starts_with(folder));
        let only = names_in(paths).pop_first().map(|name| format!("{name}/"));
        return Root::At(only.filter(|folder| all_in(folder)).unwrap_or_default());
    }
    let is_one = |paths: &[&str]| {
        let home = reader.home_in_release();
        let inside = || below(paths, home.trim_end_matches('/'));
        marked(reader, paths) || !home.is_empty() && marked(reader, &inside())
    };
    if is_one(paths) {
        return Root::At(String::new());
    }
    let mut folders: BTreeSet<(usize, &str)> = BTreeSet::new();
    for path in paths {
        for (depth, (slash, _)) in path.match_indices('/').enumerate() {
            folders.insert((depth + 1, &path[..slash]));
        }
    }
    let allowed = reader.depth.unwrap_or(1);
    let mut found: Vec<(usize, &str)> = Vec::new();
    for (depth, folder) in folders.into_iter().filter(|(depth, _)| *depth <= allowed) {
        if found.first().is_some_and(|(first, _)| *first < depth) {
            break;
        }
        if is_one(&below(paths, folder)) {
            found.push((depth, folder));
        }
    }
    let root = match found[..] {
        [] => return Root::Nowhere,
        [(_, folder)] => format!("{folder}/"),
        _ => {
            let folders = found.into_iter().map(|(_, folder)| folder.to_owned());
            return Root::Several(folders.collect());
        }
    };
    let beside = beside(reader, &root, paths);
    let folders = beside.iter().filter_map(|path| path.rsplit_once('/'));
    let folders: BTreeSet<&str> = folders.map(|(folder, _)| folder).collect();
    match folders.is_empty() {
        true => Root::At(root),
        false => Root::Part(
            root.trim_end_matches('/').to_owned(),
            folders.into_iter().map(str::to_owned).collect(),
        ),
    }
}

/// What of an archive lies beside the component in it, and is not said to be of no use.
pub fn beside<'p>(reader: &Reader, root: &str, paths: &[&'p str]) -> Vec<&'p str> {
    let outside = paths.iter().filter(|path| !path.starts_with(root));
    let told = outside.filter(|path| !reader.unused.matches(path));
    told.copied().collect()
}

/// The hash that stands for a component: over its files' paths and hashes, those of its own place below that.
///
/// For one file it is the file's own hash, and what lies beside that counts by its extension alone, as it is called as the file
/// is. It is the same for what is installed and for what a release would lay.
pub fn content_hash<'a>(
    place: &RelPath,
    files: impl Iterator<Item = (&'a RelPath, &'a str)>,
) -> String {
    let files: Vec<(&RelPath, &str)> = files.collect();
    let is_one_file = files.iter().any(|(path, _)| *path == place);
    let named = files.into_iter().map(|(path, hash)| {
        let name = match path.below(place.as_str()) {
            _ if path == place => "",
            Some(below) => below,
            None if is_one_file && path.folder() == place.folder() => {
                let ending = path.as_str().rfind('.');
                ending.map_or(path.as_str(), |at| &path.as_str()[at..])
            }
            None => path.as_str(),
        };
        (name, hash)
    });
    tree_hash(named)
}

/// The hash over the names and hashes of files; of one file without a name it is its own.
pub fn tree_hash<'a>(files: impl Iterator<Item = (&'a str, &'a str)>) -> String {
    let mut sorted: Vec<(&str, &str)> = files.collect();
    sorted.sort_unstable();
    if let [("", hash)] = sorted[..] {
        return hash.to_owned();
    }
    let mut hasher = blake3::Hasher::new();
    for (path, hash) in sorted {
        hasher.update(path.as_bytes());
        hasher.update(b"\0");
        hasher.update(hash.as_bytes());
        hasher.update(b"\n");
    }
    hasher.finalize().to_hex().to_string()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    #[test]
    fn what_nobody_has_read_is_told_from_what_looks_like_it() {
        let at = |path: &str| RelPath::parse(path).unwrap();
        let second = 1_000_000_000;
        let mark = unread(&at("beds/a:b"), 7, 5 * second);
        assert_ne!(mark, unread(&at("beds/c"), 7, 5 * second));
        assert!(is_unread(&mark));
        // Wherever it lies meanwhile.
        assert_eq!(unread_like(&mark, 7, 5 * second + 1), Some(mark.clone()));
        assert_ne!(unread_like(&mark, 8, 5 * second), Some(mark.clone()));
        assert_ne!(unread_like(&mark, 7, 6 * second), Some(mark));
        assert_eq!(unread_like("0123", 7, 5), None);
        let mark = unread(&at("beds/a:b"), 7, 5);
        assert_eq!(unread_at(&mark), Some(at("beds/a:b")));
    }

    use crate::family::Globs;
    use std::collections::BTreeMap;

    pub(crate) fn seen(paths: &[&str]) -> Vec<FileSeen> {
        let file = |path: &&str| FileSeen {
            path: RelPath::parse(path).unwrap(),
            bytes: 1,
            hash: Some(blake3::hash(path.as_bytes()).to_hex().to_string()),
        };
        let mut files: Vec<FileSeen> = paths.iter().map(file).collect();
        files.sort_by(|a, b| a.path.cmp(&b.path));
        files
    }

    pub(crate) const FAMILY: &str = r#"
        format = 1
        name = "x"
        title = "X"
        marks = ["x.conf"]
        build = { id = "x" }
        launch = { command = ["sh", "start.sh"] }
        console = { ready = "up", stop = { command = "stop" } }
        layout = { keep = ["world/**"], passing = ["logs/**"] }
        order = { kind = "sequence", file = "x.conf", line = '^start (?P<id>\S+)', write = "start {id}" }
        [[reader]]
        name = "archive"
        kind = "addon"
        shape = "archive"
        at = "addons/*.bloom"
        install = "addons/{id}-{version}.bloom"
        files = [{ name = "addon.toml", notation = "toml" }]
        fields = { id = "id", version = "version", needs = "needs", server = "server", side = "side", clashes = "clashes", clashes_provided = "clashes_provided", uses_provided = "uses_provided", group = "group", replaces = "replaces", after = "after", uses = "uses", provides = "provides", before = "before" }
        [[reader]]
        name = "group"
        kind = "pack"
        shape = "group"
        at = "mods/*"
        marks = ["group.txt"]
        members = "folder"
        [[reader]]
        name = "folder"
        kind = "addon"
        shape = "folder"
        at = "mods/*"
        marks = ["init.lua"]
        install = "mods/{id}"
    "#;

    #[test]
    fn what_is_kept_belongs_to_nobody() {
        let keep =
            r#"keep = ["world/**", "addons/mine.bloom", "mods/solo", "mods/lamps/red/save/**"]"#;
        let family = Family::parse(&FAMILY.replace(r#"keep = ["world/**"]"#, keep)).unwrap();
        let files = seen(&[
            "addons/bees.bloom",
            "addons/mine.bloom",
            "mods/lamps/group.txt",
            "mods/lamps/red/init.lua",
            "mods/lamps/red/save/map",
            "mods/solo/init.lua",
        ]);
        let claims = claim(&family, &files);
        let places: Vec<&str> = claims.claims.iter().map(|c| c.place.as_str()).collect();
        assert_eq!(
            places,
            ["addons/bees.bloom", "mods/lamps", "mods/lamps/red"]
        );
        let owned = files
            .iter()
            .zip(&claims.owner)
            .filter(|(_, owner)| owner.is_some());
        let owned: Vec<&str> = owned.map(|(file, _)| file.path.as_str()).collect();
        assert_eq!(
            owned,
            [
                "addons/bees.bloom",
                "mods/lamps/group.txt",
                "mods/lamps/red/init.lua"
            ]
        );
    }

    #[test]
    fn each_file_has_one_owner() {
        let family = Family::parse(FAMILY).unwrap();
        let files = seen(&[
            "addons/bees.bloom",
            "addons/bees/data.db",
            "logs/last.log",
            "mods/lamps/group.txt",
            "mods/lamps/red/init.lua",
            "mods/lamps/red/art/a.png",
            "mods/lamps/readme",
            "mods/solo/init.lua",
            "mods/empty/readme",
            "world/mods/solo/init.lua",
            "x.conf",
        ]);
        let claims = claim(&family, &files);
        let told: Vec<String> = files
            .iter()
            .zip(&claims.owner)
            .map(|(file, owner)| {
                let place = owner.map_or("nobody", |o| claims.claims[o].place.as_str());
                format!("{} {place}", file.path)
            })
            .collect();
        insta::assert_snapshot!(told.join("\n"), @"
        addons/bees.bloom addons/bees.bloom
        addons/bees/data.db nobody
        logs/last.log nobody
        mods/empty/readme nobody
        mods/lamps/group.txt mods/lamps
        mods/lamps/readme mods/lamps
        mods/lamps/red/art/a.png mods/lamps/red
        mods/lamps/red/init.lua mods/lamps/red
        mods/solo/init.lua mods/solo
        world/mods/solo/init.lua nobody
        x.conf nobody
        ");
    }

    #[test]
    fn the_component_in_an_archive_may_lie_deeper() {
        let family = Family::parse(FAMILY).unwrap();
        let folder = family.reader("folder").unwrap();
        let root = |paths: &[&str]| root_in_archive(folder, paths);
        let at = |text: &str| Root::At(text.into());
        assert_eq!(root(&["init.lua", "a/init.lua"]), at(""));
        assert_eq!(root(&["solo/init.lua", "solo/x/init.lua"]), at("solo/"));
        assert_eq!(root(&["readme", "solo/init.lua"]), at("solo/"));
        assert_eq!(root(&["readme"]), Root::Nowhere);
        // A part of something bigger is not the component: a server's own download holds such folders, too.
        assert_eq!(root(&["game/beds/init.lua", "game/x"]), Root::Nowhere);
        let both = ["moss/init.lua", "solo/init.lua"];
        let several = Root::Several(vec!["moss".into(), "solo".into()]);
        assert_eq!(root(&both), several);
        let part = Root::Part("solo".into(), vec!["bin".into(), "docs/a".into()]);
        let bigger = ["bin/run", "docs/a/b", "solo/init.lua"];
        assert_eq!(root(&bigger), part);
        let mut wide = folder.clone();
        wide.depth = Some(2);
        wide.unused =
            toml_edit::de::from_str::<BTreeMap<String, Globs>>("a = ['docs/**', 'bin/**']")
                .unwrap()
                .remove("a")
                .unwrap();
        assert_eq!(root_in_archive(&wide, &bigger), at("solo/"));
        assert_eq!(root_in_archive(&wide, &["a/solo/init.lua"]), at("a/solo/"));
    }
}
