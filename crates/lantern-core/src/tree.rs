//! Which component a file belongs to.

use crate::family::{Family, Reader, Shape};
use crate::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// One file of a server folder or archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileSeen {
    /// Where it lies.
    pub path: RelPath,
    /// Its size.
    pub bytes: u64,
    /// BLAKE3 of its content in hexadecimal; `None` where nobody looked: kept and passing files.
    pub hash: Option<String>,
}

/// A place that a reader recognises as a component.
#[derive(Debug, Clone)]
pub struct Claim<'f> {
    /// The reader.
    pub reader: &'f Reader,
    /// The archive, or the component's folder.
    pub place: RelPath,
    /// The group it lies in, as an index into the claims.
    pub group: Option<usize>,
    /// Its files, as indices into the listing.
    pub files: Vec<usize>,
}

impl Claim<'_> {
    /// The folder's name, or the archive's without extension.
    pub fn bare_name(&self) -> &str {
        let name = self.place.name();
        match self.reader.shape {
            Shape::Archive => name.rsplit_once('.').map_or(name, |(stem, _)| stem),
            Shape::Folder | Shape::Group => name,
        }
    }
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
/// Kept and passing files belong to nobody.
pub fn claim<'f>(family: &'f Family, files: &[FileSeen]) -> Claims<'f> {
    let mut folders: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for file in files {
        let mut path = file.path.as_str();
        while let Some((folder, name)) = path.rsplit_once('/') {
            folders.entry(folder).or_default().insert(name);
            path = folder;
        }
    }
    let mut claims: Vec<Claim<'f>> = Vec::new();
    let mut places: HashMap<String, usize> = HashMap::new();
    let mut add = |claims: &mut Vec<Claim<'f>>, reader, place: &str, group| -> Option<usize> {
        if places.contains_key(place) {
            return None;
        }
        places.insert(place.to_owned(), claims.len());
        claims.push(Claim {
            reader,
            place: RelPath::parse(place).ok()?,
            group,
            files: Vec::new(),
        });
        Some(claims.len() - 1)
    };
    for reader in &family.readers {
        if reader.shape == Shape::Archive {
            for file in files.iter().filter(|f| reader.at.matches(f.path.as_str())) {
                add(&mut claims, reader, file.path.as_str(), None);
            }
            continue;
        }
        for (folder, names) in &folders {
            if !reader.at.matches(folder) || !marked(reader, |mark| names.contains(mark)) {
                continue;
            }
            let Some(index) = add(&mut claims, reader, folder, None) else {
                continue;
            };
            let Some(inner) = reader.members.as_deref().and_then(|m| family.reader(m)) else {
                continue;
            };
            for name in names {
                let path = format!("{folder}/{name}");
                let inside = folders.get(path.as_str());
                if inside.is_some_and(|names| marked(inner, |mark| names.contains(mark))) {
                    add(&mut claims, inner, &path, Some(index));
                }
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
    Claims { claims, owner }
}

/// Whether a folder has what the reader goes by.
pub fn marked(reader: &Reader, has: impl Fn(&str) -> bool) -> bool {
    if reader.marks.is_empty() {
        reader.files.iter().any(|file| has(&file.name))
    } else {
        reader.marks.iter().any(|mark| has(mark))
    }
}

/// Finds the folder inside an archive that is the component: the shallowest with the reader's marks.
///
/// Returns the prefix to cut off, ending in `/` or empty.
pub fn root_in_archive(reader: &Reader, paths: &[&str]) -> Option<String> {
    let mut roots: BTreeSet<(usize, String)> = BTreeSet::new();
    for path in paths {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        if marked(reader, |mark| mark == name) {
            let depth = if folder.is_empty() {
                0
            } else {
                folder.matches('/').count() + 1
            };
            roots.insert((depth, folder.to_owned()));
        }
    }
    let (_, folder) = roots.pop_first()?;
    Some(if folder.is_empty() {
        folder
    } else {
        folder + "/"
    })
}

/// The hash that stands for a component: over its files' paths and hashes.
///
/// For one archive it is the archive's own hash.
pub fn content_hash<'a>(files: impl Iterator<Item = (&'a str, &'a str)>) -> String {
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

    pub(crate) fn seen(paths: &[&str]) -> Vec<FileSeen> {
        let file = |path: &&str| FileSeen {
            path: RelPath::parse(path).unwrap(),
            bytes: 1,
            hash: Some(blake3::hash(path.as_bytes()).to_hex().to_string()),
        };
        paths.iter().map(file).collect()
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
        at = "addons/*.vpk"
        install = "addons/{id}-{version}.vpk"
        files = [{ name = "addon.toml", notation = "toml" }]
        fields = { id = "id", version = "version", needs = "needs", server = "server", side = "side", clashes = "clashes" }
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
    fn each_file_has_one_owner() {
        let family = Family::parse(FAMILY).unwrap();
        let files = seen(&[
            "addons/bees.vpk",
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
        insta::assert_snapshot!(told.join("\n"), @r"
        addons/bees.vpk addons/bees.vpk
        addons/bees/data.db nobody
        logs/last.log nobody
        mods/lamps/group.txt mods/lamps
        mods/lamps/red/init.lua mods/lamps/red
        mods/lamps/red/art/a.png mods/lamps/red
        mods/lamps/readme mods/lamps
        mods/solo/init.lua mods/solo
        mods/empty/readme nobody
        world/mods/solo/init.lua nobody
        x.conf nobody
        ");
    }

    #[test]
    fn the_component_in_an_archive_may_lie_deeper() {
        let family = Family::parse(FAMILY).unwrap();
        let folder = family.reader("folder").unwrap();
        let root = |paths: &[&str]| root_in_archive(folder, paths);
        assert_eq!(root(&["init.lua", "a/init.lua"]).as_deref(), Some(""));
        assert_eq!(
            root(&["solo/init.lua", "solo/x/init.lua"]).as_deref(),
            Some("solo/")
        );
        assert_eq!(root(&["a/solo/init.lua"]).as_deref(), Some("a/solo/"));
        assert_eq!(root(&["readme"]), None);
    }
}
