//! Who owns a file where several layers lay claim to it.
//!
//! A reader claims a place and all in it. Over that goes what the ledger knows: a file that a
//! component put into another one's place is its own as long as it is what it put there. Over that
//! goes what a component's descriptor says that it holds elsewhere. Of what nobody has then, copies are
//! theirs whose files they are of, and the rest is whose folder it lies in.

use super::{ByOwner, Component, Evidence, FileState, Remembered, VersionFrom, ledger_name};
use crate::component::{Id, Kind};
use crate::family::{Family, Glob};
use crate::order::OrderText;
use crate::path::RelPath;
use crate::tree::{Claims, FileSeen};
use crate::version::Version;
use std::collections::{BTreeMap, BTreeSet};

/// Gives each file its one owner, tells members their packs, and compares all with the ledger.
pub(super) fn settle(
    components: &mut [Component],
    family: &Family,
    claims: &Claims<'_>,
    evidence: &Evidence<'_>,
) {
    members(components, evidence);
    let names: BTreeMap<Id, usize> = components
        .iter()
        .enumerate()
        .map(|(index, component)| (component.ledger_name(), index))
        .collect();
    let by_path: BTreeMap<&RelPath, &FileSeen> = evidence
        .files
        .iter()
        .map(|file| (&file.path, file))
        .collect();
    let mut claimed: BTreeMap<RelPath, usize> = BTreeMap::new();
    for (index, component) in components.iter().enumerate() {
        claimed.extend(
            component
                .files
                .iter()
                .map(|file| (file.path.clone(), index)),
        );
    }
    // Path, the component that lays claim to it, and the hash that it put there.
    let mut laid: Vec<(RelPath, usize, String)> = Vec::new();
    for (path, known) in evidence.remembered {
        if let Some(index) = known.owner.as_ref().and_then(|owner| names.get(owner))
            && claimed.get(path) != Some(index)
        {
            laid.push((path.clone(), *index, known.hash.clone()));
        }
    }
    let mut told: BTreeSet<RelPath> = laid.iter().map(|(path, ..)| path.clone()).collect();
    for (index, component) in components.iter().enumerate() {
        for (path, hash) in &component.holdings.overlay {
            let is_new = !told.contains(path);
            if is_new && claimed.get(path) != Some(&index) {
                laid.push((path.clone(), index, hash.clone()));
                told.insert(path.clone());
            }
        }
    }
    for (path, index, hash) in laid {
        let Some(file) = by_path.get(&path) else {
            // What is gone is told by the comparison with the ledger.
            continue;
        };
        let below = claimed.get(&path).copied();
        let active = hash.is_empty() || file.hash.as_ref() == Some(&hash);
        match below {
            Some(_) if !active => {
                components[index].silenced.insert(path, hash);
            }
            Some(below) => {
                components[below].files.retain(|file| file.path != path);
                components[index].files.push((*file).clone());
                claimed.insert(path, index);
            }
            None => {
                components[index].files.push((*file).clone());
                claimed.insert(path, index);
            }
        }
    }
    let is_free = |number: usize, claimed: &BTreeMap<RelPath, usize>| {
        let path = &evidence.files[number].path;
        let kept = family.keeps(path.as_str())
            || family.passes(path.as_str())
            || evidence.order.is_some_and(|order| order.holds(path));
        claims.owner[number].is_none() && !claimed.contains_key(path) && !kept
    };
    copies(components, family, evidence, &is_free, &mut claimed);
    owned_paths(components, family, evidence, &is_free, &mut claimed);
    for component in components.iter_mut() {
        component.files.sort_by(|a, b| a.path.cmp(&b.path));
    }
    compare(components, evidence.remembered, evidence.order);
    for component in components.iter_mut() {
        if component.version_from == VersionFrom::Content
            && component.state == FileState::AsShipped
            && let Some(version) = put_version(family, component, evidence.remembered)
        {
            component.version_from = VersionFrom::Ledger;
            component.facts.version = version;
        }
    }
}

/// Says of each component how its files stand beside what the ledger knows; the load order is none of them.
pub fn compare(
    components: &mut [Component],
    remembered: &BTreeMap<RelPath, Remembered>,
    order: Option<&OrderText>,
) {
    let foreign: BTreeSet<RelPath> = components
        .iter()
        .flat_map(|component| component.silenced.keys().cloned())
        .collect();
    let owned = ByOwner::new(remembered);
    let is_order = |path: &RelPath| order.is_some_and(|order| order.path() == path);
    for component in components.iter_mut() {
        // What the server writes into a pack by the pack's own leave is no edit.
        let kept = component.holdings.keep.iter();
        let kept: Vec<Glob> = kept.filter_map(|text| Glob::new(text).ok()).collect();
        let is_kept = |path: &RelPath| kept.iter().any(|glob| glob.matches(path.as_str()));
        let name = component.ledger_name();
        component.state = state_of(
            (&name, owned.of(&name)),
            component.files.iter().filter(|file| !is_kept(&file.path)),
            |path| foreign.contains(path) || is_kept(path) || is_order(path),
            remembered,
        );
    }
}

/// Tells add-ons which pack they are members of: as the ledger knows, or the pack itself says.
fn members(components: &mut [Component], evidence: &Evidence<'_>) {
    let packs: Vec<(Id, BTreeSet<Id>)> = components
        .iter()
        .filter(|component| component.facts.kind == Kind::Pack)
        .map(|pack| {
            let members = pack.holdings.members.iter().cloned().collect();
            (pack.facts.id.clone(), members)
        })
        .collect();
    for component in components.iter_mut() {
        if component.group.is_some() || component.facts.kind == Kind::Pack {
            continue;
        }
        let first = component.files.first();
        let known = first.and_then(|file| evidence.remembered.get(&file.path));
        let owner = known.and_then(|known| known.owner.as_ref());
        let id = &component.facts.id;
        let pack = packs.iter().find(|(pack, members)| match owner {
            Some(owner) if known.is_some_and(|known| known.shipped) => {
                *owner == ledger_name(id, Some(pack))
            }
            _ => members.contains(id),
        });
        component.group = pack.map(|(pack, _)| pack.clone());
    }
}

/// Whether nobody has the file with a number, and somebody may, beside who has what so far.
type IsFree<'f> = &'f dyn Fn(usize, &BTreeMap<RelPath, usize>) -> bool;

/// Gives a component what is a copy of a file in its place, where copies of such lie; the first of several, where it is one of
/// theirs, too.
fn copies(
    components: &mut [Component],
    family: &Family,
    evidence: &Evidence<'_>,
    is_free: IsFree<'_>,
    claimed: &mut BTreeMap<RelPath, usize>,
) {
    let mut numbers: Option<BTreeMap<&str, usize>> = None;
    for (index, component) in components.iter_mut().enumerate() {
        let copies = component.copies(family);
        if copies.is_empty() {
            continue;
        }
        let numbers = numbers.get_or_insert_with(|| {
            let files = evidence.files.iter().enumerate();
            files.map(|(at, file)| (file.path.as_str(), at)).collect()
        });
        for (path, own) in copies {
            let Some(number) = numbers.get(path.as_str()) else {
                continue;
            };
            let file = &evidence.files[*number];
            if file.hash.is_some() && file.hash == own.hash && is_free(*number, claimed) {
                component.files.push(file.clone());
                claimed.insert(path, index);
            }
        }
    }
}

/// Gives a component what nobody else claims in the paths that are all its own; of two such paths the deeper one counts. What
/// several lay claim to is nobody's.
fn owned_paths(
    components: &mut [Component],
    family: &Family,
    evidence: &Evidence<'_>,
    is_free: IsFree<'_>,
    claimed: &mut BTreeMap<RelPath, usize>,
) {
    let mut owners: BTreeMap<String, BTreeSet<usize>> = BTreeMap::new();
    for (index, component) in components.iter().enumerate() {
        let reader = family.reader(&component.reader);
        let parts = reader.into_iter().flat_map(|reader| &reader.parts);
        let parts = parts.filter(|part| part.own);
        let parts = parts.map(|part| part.to.trim_end_matches('/').to_owned());
        let owned = component.holdings.owns.iter().map(RelPath::to_string);
        for owned in owned.chain(parts) {
            owners.entry(owned).or_default().insert(index);
        }
    }
    if owners.is_empty() {
        return;
    }
    for (number, file) in evidence.files.iter().enumerate() {
        let path = file.path.as_str();
        let folders = path.rmatch_indices('/').map(|(at, _)| &path[..at]);
        let mut around = std::iter::once(path).chain(folders).chain([""]);
        let owned_by = around.find_map(|folder| owners.get(folder));
        let only = owned_by.filter(|owners| owners.len() == 1);
        if let Some(index) = only.and_then(BTreeSet::first)
            && is_free(number, claimed)
        {
            components[*index].files.push(file.clone());
            claimed.insert(file.path.clone(), *index);
        }
    }
}

/// The version that the ledger knows for files just as they were put there.
fn put_version(
    family: &Family,
    component: &Component,
    remembered: &BTreeMap<RelPath, Remembered>,
) -> Option<Version> {
    let text = remembered
        .get(&component.files.first()?.path)?
        .version
        .as_deref()?;
    let version = family
        .versions
        .version(component.facts.kind == Kind::Build, text)
        .ok()?;
    (!version.is_content()).then_some(version)
}

/// The owner comes with all that is remembered of it; `apart` says which files do not count where they are gone or were not
/// shipped.
fn state_of<'f>(
    (owner, owned): (&Id, &[&RelPath]),
    files: impl Iterator<Item = &'f FileSeen>,
    apart: impl Fn(&RelPath) -> bool,
    remembered: &BTreeMap<RelPath, Remembered>,
) -> FileState {
    let files: Vec<&FileSeen> = files.collect();
    let ours = |path: &RelPath| {
        let known = remembered.get(path)?;
        (known.owner.as_ref() == Some(owner)).then_some(known)
    };
    let here: BTreeSet<&RelPath> = files.iter().map(|file| &file.path).collect();
    let missing = owned.iter().copied();
    let missing = missing.filter(|path| !here.contains(path) && !apart(path));
    let missing: Vec<RelPath> = missing.cloned().collect();
    if files.iter().all(|file| ours(&file.path).is_none()) {
        return FileState::New;
    }
    let paths_where = |is: &dyn Fn(&FileSeen, Option<&Remembered>) -> bool| -> Vec<RelPath> {
        let those = files.iter().filter(|file| is(file, ours(&file.path)));
        those.map(|file| file.path.clone()).collect()
    };
    let added = paths_where(&|file, known| known.is_none() && !apart(&file.path));
    let edited = paths_where(&|file, known| {
        known.is_some_and(|known| Some(&known.hash) != file.hash.as_ref())
    });
    if !missing.is_empty() {
        FileState::PartlyMissing { files: missing }
    } else if !edited.is_empty() || !added.is_empty() {
        FileState::Edited {
            files: edited,
            added,
        }
    } else if files
        .iter()
        .filter(|file| !apart(&file.path))
        .all(|file| ours(&file.path).is_some_and(|known| known.shipped))
    {
        FileState::AsShipped
    } else {
        FileState::AsAdopted
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::component::Runs;
    use crate::descriptor::Holdings;
    use crate::facts::Facts;
    use crate::family::Shape;
    use crate::flags::NamedHashes;
    use crate::launch::Flow;
    use crate::tree::tests::FAMILY;
    use crate::version::Notation;

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    fn file(text: &str) -> FileSeen {
        let (name, hash) = text.split_once('=').unwrap_or((text, "own"));
        FileSeen {
            path: path(name),
            bytes: 1,
            hash: Some(hash.into()),
        }
    }

    /// A component with files as `path=hash`; its version is told by its content.
    pub(crate) fn component(kind: Kind, id: &str, files: &[&str], holdings: Holdings) -> Component {
        Component {
            facts: Facts::new(Id::new(id), kind, Version::of_content("00")),
            place: None,
            shape: Shape::Folder,
            reader: String::new(),
            files: files.iter().map(|text| file(text)).collect(),
            runs: Runs::Unsaid,
            group: None,
            started_by: None,
            holdings,
            silenced: BTreeMap::new(),
            state: FileState::New,
            version_from: VersionFrom::Content,
        }
    }

    /// `path=hash owner version`, with `+` behind it where a release shipped it.
    fn remembered(lines: &[&str]) -> BTreeMap<RelPath, Remembered> {
        let lines = lines.iter().map(|line| {
            let words: Vec<&str> = line.split(' ').collect();
            let (name, hash) = words[0].split_once('=').unwrap();
            let known = Remembered {
                owner: Some(Id::new(words[1])),
                version: Some(words[2].into()),
                hash: hash.into(),
                shipped: words.len() > 3,
                under: None,
            };
            (path(name), known)
        });
        lines.collect()
    }

    /// Settles components among all of `files`, and tells each with what it owns then.
    fn settled(components: Vec<Component>, files: &[&str], known: &[&str]) -> String {
        settled_by(FAMILY, components, files, known)
    }

    fn settled_by(
        family: &str,
        components: Vec<Component>,
        files: &[&str],
        known: &[&str],
    ) -> String {
        let family = Family::parse(family).unwrap();
        let files: Vec<FileSeen> = files.iter().map(|text| file(text)).collect();
        let claims = Claims {
            claims: Vec::new(),
            owner: vec![None; files.len()],
        };
        let order = path("x.conf");
        let evidence = Evidence {
            sooner: &[],
            flow: &Flow::default(),
            texts: &[],
            effects: &BTreeMap::new(),
            files: &files,
            described: &[],
            catalogued: None,
            order: Some(&crate::order::OrderText::read(
                family.order.as_ref().unwrap(),
                order,
                crate::text::Text::read(b""),
                &mut |_, _| Vec::new(),
            )),
            remembered: &remembered(known),
            hashes: &NamedHashes::new(),
            stated: None,
            ground: &crate::family::Ground::default(),
        };
        let mut components = components;
        settle(&mut components, &family, &claims, &evidence);
        let told = components.iter().map(|component| {
            let files: Vec<&str> = component.files.iter().map(|f| f.path.as_str()).collect();
            let silenced: Vec<&str> = component.silenced.keys().map(RelPath::as_str).collect();
            format!(
                "{} {}: {} | silenced {} | {:?}{}",
                component.ledger_name(),
                component.facts.version,
                files.join(" "),
                silenced.join(" "),
                component.state,
                if component.version_from == VersionFrom::Ledger {
                    " (ledger)"
                } else {
                    ""
                },
            )
        });
        told.collect::<Vec<_>>().join("\n")
    }

    #[test]
    fn what_a_descriptor_lays_over_another_is_its_own_while_it_is_there() {
        let overlay = |hash: &str| Holdings {
            overlay: BTreeMap::from([
                (path("server/gate"), hash.to_owned()),
                (path("frame/own"), hash.to_owned()),
                (path("server/gone"), hash.to_owned()),
            ]),
            ..Holdings::default()
        };
        let build = || {
            component(
                Kind::Build,
                "x",
                &["server/gate=frame", "server/run"],
                Holdings::default(),
            )
        };
        let frame = |hash| component(Kind::Framework, "frame", &["frame/own"], overlay(hash));
        let files = ["server/gate=frame", "server/run", "frame/own"];
        insta::assert_snapshot!(settled(vec![build(), frame("frame")], &files, &[]), @"
        x #00: server/run | silenced  | New
        frame #00: frame/own server/gate | silenced  | New
        ");
        // Without a hash it is taken at its word; with another one it is silenced.
        insta::assert_snapshot!(settled(vec![build(), frame("")], &files, &[]), @"
        x #00: server/run | silenced  | New
        frame #00: frame/own server/gate | silenced  | New
        ");
        insta::assert_snapshot!(settled(vec![build(), frame("other")], &files, &[]), @"
        x #00: server/gate server/run | silenced  | New
        frame #00: frame/own | silenced server/gate | New
        ");
        // What the ledger knows of the path counts, not what the descriptor says.
        let known = ["server/gate=frame frame 1 +", "frame/own=own frame 1 +"];
        insta::assert_snapshot!(settled(vec![build(), frame("other")], &files, &known), @"
        x #00: server/run | silenced  | New
        frame 1: frame/own server/gate | silenced  | AsShipped (ledger)
        ");
    }

    #[test]
    fn what_a_component_owns_is_what_nobody_else_claims() {
        let pack = Holdings {
            owns: vec![
                path("config"),
                path("single"),
                path("world"),
                path("x.conf"),
                path("logs"),
            ],
            ..Holdings::default()
        };
        let pack = component(Kind::Pack, "orchard", &["pack/own"], pack);
        let other = component(Kind::Addon, "bees", &["config/bees"], Holdings::default());
        let files = [
            "config/bees",
            "config/trees",
            "configured",
            "logs/last",
            "pack/own",
            "single",
            "single2",
            "world/map",
            "x.conf",
        ];
        insta::assert_snapshot!(settled(vec![pack, other], &files, &[]), @"
        orchard #00: config/trees pack/own single | silenced  | New
        bees #00: config/bees | silenced  | New
        ");
    }

    #[test]
    fn what_several_own_is_nobody_s_and_the_deeper_folder_counts() {
        let owning = |id: &str, owns: &str| {
            let holdings = Holdings {
                owns: vec![path(owns)],
                ..Holdings::default()
            };
            component(Kind::Addon, id, &[], holdings)
        };
        let all = vec![
            owning("red", "seals"),
            owning("blue", "seals"),
            owning("green", "seals/deep"),
        ];
        let files = ["seals/a", "seals/deep/b", "seals/deep"];
        insta::assert_snapshot!(settled(all, &files, &[]), @"
        red #00:  | silenced  | New
        blue #00:  | silenced  | New
        green #00: seals/deep seals/deep/b | silenced  | New
        ");
    }

    #[test]
    fn a_copy_is_whose_file_it_is_one_of() {
        let head = &FAMILY[..FAMILY.find("[[reader]]").unwrap()];
        let reader = "[[reader]]\nname = 'ivy'\nkind = 'addon'\nshape = 'folder'\nat = 'addons/*'\nmarks = ['id']\n\
                      install = 'addons/{id}'\nparts = [{ from = 'seals', to = 'seals', copy = true }]";
        let family = format!("{head}\n{reader}");
        let ivy = |id: &str, files: &[&str]| Component {
            place: Some(path(&format!("addons/{id}"))),
            reader: "ivy".into(),
            ..component(Kind::Addon, id, files, Holdings::default())
        };
        let all = vec![
            ivy("red", &["addons/red/seals/a=1", "addons/red/seals/both=2"]),
            ivy(
                "blue",
                &["addons/blue/seals/both=2", "addons/blue/seals/old=3"],
            ),
        ];
        let files = [
            "addons/red/seals/a=1",
            "addons/red/seals/both=2",
            "addons/blue/seals/both=2",
            "addons/blue/seals/old=3",
            "seals/a=1",
            "seals/both=2",
            "seals/old=4",
            "seals/stray=1",
        ];
        insta::assert_snapshot!(settled_by(&family, all, &files, &[]), @"
        red #00: addons/red/seals/a addons/red/seals/both seals/a seals/both | silenced  | New
        blue #00: addons/blue/seals/both addons/blue/seals/old | silenced  | New
        ");
    }

    #[test]
    fn a_member_is_what_the_ledger_knows_or_else_what_its_pack_says() {
        let pack = |id: &str, members: &[&str]| {
            let holdings = Holdings {
                members: members.iter().map(|id| Id::new(id)).collect(),
                ..Holdings::default()
            };
            component(Kind::Pack, id, &[], holdings)
        };
        let addon = |id: &str| {
            component(
                Kind::Addon,
                id,
                &[&format!("addons/{id}")],
                Holdings::default(),
            )
        };
        let all = || {
            vec![
                pack("orchard", &["red", "blue"]),
                pack("grove", &[]),
                addon("red"),
                addon("blue"),
                addon("own"),
            ]
        };
        let files = ["addons/red", "addons/blue", "addons/own"];
        let known = [
            "addons/blue=own blue 1 +",
            "addons/own=own grove/own 1 +",
            "addons/red=own red 1",
        ];
        insta::assert_snapshot!(settled(all(), &files, &known), @"
        orchard #00:  | silenced  | New
        grove #00:  | silenced  | New
        orchard/red #00: addons/red | silenced  | New
        blue 1: addons/blue | silenced  | AsShipped (ledger)
        grove/own 1: addons/own | silenced  | AsShipped (ledger)
        ");
    }

    #[test]
    fn the_ledger_tells_the_version_of_what_is_just_as_shipped() {
        let bees = || component(Kind::Addon, "bees", &["addons/bees"], Holdings::default());
        let with = |known: &str| settled(vec![bees()], &["addons/bees"], &[known]);
        let told = [
            with("addons/bees=own bees 1.2 +"),
            with("addons/bees=own bees 1.2"),
            with("addons/bees=other bees 1.2 +"),
            with("addons/bees=own wasps 1.2 +"),
            with(&format!(
                "addons/bees=own bees {} +",
                Version::of_content("ab")
            )),
        ];
        insta::assert_snapshot!(told.join("\n"), @r#"
        bees 1.2: addons/bees | silenced  | AsShipped (ledger)
        bees #00: addons/bees | silenced  | AsAdopted
        bees #00: addons/bees | silenced  | Edited { files: [RelPath("addons/bees")], added: [] }
        bees #00: addons/bees | silenced  | New
        bees #00: addons/bees | silenced  | AsShipped
        "#);
        // One that says its version itself is believed.
        let mut said = bees();
        said.facts.version = Version::parse("3", Notation::Dotted).unwrap();
        said.version_from = VersionFrom::Descriptor;
        let told = settled(
            vec![said],
            &["addons/bees"],
            &["addons/bees=own bees 1.2 +"],
        );
        assert!(told.starts_with("bees 3:"), "{told}");
    }

    #[test]
    fn the_state_is_told_with_what_is_kept_and_what_is_gone_left_out() {
        let kept = Holdings {
            keep: vec!["pack/tally".into()],
            ..Holdings::default()
        };
        let pack = |files: &[&str]| component(Kind::Pack, "orchard", files, kept.clone());
        let known = ["pack/a=own orchard 1 +", "pack/b=own orchard 1 +"];
        let with = |files: &[&str]| settled(vec![pack(files)], files, &known);
        let told = [
            with(&["pack/a", "pack/b", "pack/tally"]),
            with(&["pack/a=other", "pack/b"]),
            with(&["pack/a", "pack/b", "pack/new"]),
            with(&["pack/a"]),
        ];
        insta::assert_snapshot!(told.join("\n"), @r#"
        orchard 1: pack/a pack/b pack/tally | silenced  | AsShipped (ledger)
        orchard #00: pack/a pack/b | silenced  | Edited { files: [RelPath("pack/a")], added: [] }
        orchard #00: pack/a pack/b pack/new | silenced  | Edited { files: [], added: [RelPath("pack/new")] }
        orchard #00: pack/a | silenced  | PartlyMissing { files: [RelPath("pack/b")] }
        "#);
    }
}
