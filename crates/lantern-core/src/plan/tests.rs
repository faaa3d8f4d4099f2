//! Random stacks of layers, and random updates of them, over a tree that is a value.

use super::*;
use crate::catalogue::{Offer, Origin};
use crate::component::Facts;
use crate::descriptor::{Found, Holdings};
use crate::family::{Family, Glob, Shape};
use crate::inventory::{Evidence, FileState, Inventory, Remembered, take};
use crate::proofs::at_least;
use crate::resolve::{Choice, Gone, Reason, Selection};
use crate::tree::{FileSeen, claim};
use crate::version::{Notation, Version};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

const FAMILY: &str = r#"
    format = 1
    name = "x"
    title = "X"
    marks = ["x.conf"]
    build = { id = "b" }
    launch = { command = ["sh", "start.sh"] }
    console = { ready = "up", stop = { command = "stop" } }
    layout = { keep = ["world/**"] }
    [[reader]]
    name = "build"
    kind = "build"
    shape = "folder"
    at = "server"
    install = "server"
    marks = ["id"]
    fields = { id = { value = "b" }, version = { value = "1" } }
    [[reader]]
    name = "framework"
    kind = "framework"
    shape = "folder"
    at = "framework"
    install = "framework"
    marks = ["id"]
    fields = { id = { value = "f" }, version = { value = "1" } }
    [[reader]]
    name = "pack"
    kind = "pack"
    shape = "folder"
    at = "pack"
    install = "pack"
    marks = ["id"]
    fields = { id = { value = "p" }, version = { value = "1" }, owns = { value = "config" } }
    [[reader]]
    name = "addon"
    kind = "addon"
    shape = "file"
    at = "addons/*"
    fields = { version = { value = "1" }, id = { at = "$name" } }
"#;

/// Path to content; the content stands for its own hash.
type Tree = BTreeMap<RelPath, String>;

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

/// One release of a component: which numbered files it ships, and in which content.
#[derive(Debug, Clone)]
struct Ships {
    files: BTreeMap<RelPath, String>,
    members: BTreeSet<String>,
}

/// The files of a release; `seed` makes contents, so that releases share some and differ in others.
fn ships(id: &str, version: u8, own: &[(u8, u8)], over: &[(u8, u8)], members: &[u8]) -> Ships {
    let folder = match id {
        "b" => "server",
        "f" => "framework",
        _ => "pack",
    };
    let mut files = BTreeMap::from([(path(&format!("{folder}/id")), format!("{id} {version}"))]);
    let elsewhere = match id {
        "b" => "server",
        "f" => "framework",
        _ => "config",
    };
    for (number, content) in own {
        files.insert(
            path(&format!("{elsewhere}/{number}")),
            format!("{id}{content}"),
        );
    }
    if id == "f" {
        for (number, content) in over {
            files.insert(path(&format!("server/{number}")), format!("over{content}"));
        }
    }
    let members: BTreeSet<String> = members.iter().map(|m| format!("m{m}")).collect();
    if id == "p" {
        for member in &members {
            files.insert(
                path(&format!("addons/{member}")),
                format!("{member} {version}"),
            );
        }
    }
    Ships { files, members }
}

fn kind(id: &str) -> Kind {
    match id {
        "b" => Kind::Build,
        "f" => Kind::Framework,
        _ => Kind::Pack,
    }
}

fn version(number: u8) -> Version {
    Version::parse(&number.to_string(), Notation::Dotted).unwrap()
}

fn hash(content: &str) -> String {
    blake3::hash(content.as_bytes()).to_hex().to_string()
}

fn listing(tree: &Tree) -> Vec<FileSeen> {
    let file = |(path, content): (&RelPath, &String)| FileSeen {
        path: path.clone(),
        bytes: content.len() as u64,
        hash: Some(hash(content)),
    };
    tree.iter().map(file).collect()
}

fn surveyed(family: &Family, tree: &Tree, remembered: &BTreeMap<RelPath, Remembered>) -> Inventory {
    let files = listing(tree);
    let claims = claim(family, &files);
    let descriptors: Vec<Result<Vec<Found>, String>> =
        claims.claims.iter().map(|_| Ok(Vec::new())).collect();
    let evidence = Evidence {
        files: &files,
        descriptors: &descriptors,
        catalogued: &BTreeMap::new(),
        order: None,
        remembered,
        stated: None,
    };
    take(family, &claims, &evidence)
}

/// What the world is before: the tree as shipped in layers, and the ledger's knowledge of it.
fn stack(releases: &BTreeMap<&str, Ships>) -> (Tree, BTreeMap<RelPath, Remembered>) {
    let mut tree = Tree::new();
    let mut remembered: BTreeMap<RelPath, Remembered> = BTreeMap::new();
    for id in ["b", "f", "p"] {
        for (path, content) in &releases[id].files {
            let member = path.below("addons");
            let under = remembered
                .get(path)
                .map(|below: &Remembered| crate::inventory::Beneath {
                    owner: below.owner.clone().unwrap(),
                    version: Some("1".into()),
                    hash: below.hash.clone(),
                });
            let owner = match member {
                Some(member) => format!("{id}/{member}"),
                None => id.to_owned(),
            };
            remembered.insert(
                path.clone(),
                Remembered {
                    owner: Some(Id::new(&owner)),
                    version: Some("1".into()),
                    hash: hash(content),
                    shipped: true,
                    under,
                },
            );
            tree.insert(path.clone(), content.clone());
        }
    }
    (tree, remembered)
}

/// Everything that a plan may take from: the releases' files and what is kept aside, by hash.
fn apply(plan: &Plan, tree: &Tree, contents: &BTreeMap<String, String>) -> (Tree, Tree) {
    let mut after = tree.clone();
    let mut aside = Tree::new();
    for action in &plan.actions {
        let now = tree.get(&action.path);
        assert_eq!(
            now.map(|content| hash(content)),
            action.before,
            "{}",
            action.path
        );
        if matches!(action.what, ActionKind::SetAside | ActionKind::Replace) {
            aside.insert(action.path.clone(), after.remove(&action.path).unwrap());
        }
        if matches!(action.what, ActionKind::Place | ActionKind::Replace) {
            let content = &contents[action.after.as_ref().unwrap()];
            assert!(action.source.is_some(), "{}", action.path);
            assert_eq!(after.insert(action.path.clone(), content.clone()), None);
        }
        assert_ne!(action.what, ActionKind::Edit);
    }
    (after, aside)
}

fn undo(plan: &Plan, after: &Tree, aside: &Tree) -> Tree {
    let mut back = after.clone();
    for action in &plan.actions {
        if matches!(action.what, ActionKind::Place | ActionKind::Replace) {
            back.remove(&action.path);
        }
        if matches!(action.what, ActionKind::SetAside | ActionKind::Replace) {
            back.insert(action.path.clone(), aside[&action.path].clone());
        }
    }
    back
}

fn some_files() -> impl Strategy<Value = Vec<(u8, u8)>> {
    prop::collection::vec((0u8..6, 0u8..3), 0..6)
}

fn members() -> impl Strategy<Value = Vec<u8>> {
    prop::collection::vec(0u8..4, 0..4)
}

proptest! {
    #![proptest_config(at_least(500))]
    #[test]
    fn every_update_of_every_stack_keeps_its_promises(
        own in [[some_files(), some_files()], [some_files(), some_files()], [some_files(), some_files()]],
        over in [some_files(), some_files()],
        held in [members(), members()],
        moves in [any::<bool>(), any::<bool>(), any::<bool>()],
        edits in prop::collection::vec((any::<prop::sample::Index>(), 0u8..3), 0..4),
        silenced in any::<bool>(),
    ) {
        let family = Family::parse(FAMILY).unwrap();
        let release = |id: &'static str, n: usize| {
            let index = ["b", "f", "p"].iter().position(|other| *other == id).unwrap();
            ships(id, n as u8 + 1, &own[index][n], &over[n], &held[n])
        };
        let old: BTreeMap<&str, Ships> = ["b", "f", "p"].map(|id| (id, release(id, 0))).into();
        let new: BTreeMap<&str, Ships> = ["b", "f", "p"].map(|id| (id, release(id, 1))).into();
        let (mut tree, remembered) = stack(&old);
        // What the administrator did: edited, added to the pack's folder, took a member out.
        let mut mine: BTreeMap<RelPath, String> = BTreeMap::new();
        let mut taken_out: BTreeSet<String> = BTreeSet::new();
        for (index, what) in &edits {
            let config: Vec<RelPath> = tree.keys().filter(|p| p.below("config").is_some()).cloned().collect();
            match what {
                0 if !config.is_empty() => {
                    let at = &config[index.index(config.len())];
                    mine.insert(at.clone(), "mine".into());
                }
                1 => {
                    mine.insert(path(&format!("config/{}", 4 + index.index(6))), "added".into());
                }
                _ => {
                    let member = format!("m{}", index.index(4));
                    if tree.remove(&path(&format!("addons/{member}"))).is_some() {
                        taken_out.insert(member);
                    }
                }
            }
        }
        tree.extend(mine.clone());
        let kept = Tree::from([(path("world/map"), "deep".into()), (path("readme"), "mine".into())]);
        tree.extend(kept.clone());
        // The ledger knows what lies over and under; a hand update of the build puts its own back.
        let mut stored: BTreeMap<String, crate::artifact::Artifact> = BTreeMap::new();
        let mut contents: BTreeMap<String, String> = BTreeMap::new();
        for ships in old.values().chain(new.values()) {
            contents.extend(ships.files.values().map(|content| (hash(content), content.clone())));
        }
        for (path, known) in remembered.iter().filter(|(_, known)| known.under.is_some()) {
            let under = known.under.as_ref().unwrap();
            for hash in [&known.hash, &under.hash] {
                stored.insert(hash.clone(), crate::artifact::Artifact { file: hash.clone(), blake3: hash.clone(), bytes: 1 });
            }
            if silenced {
                tree.insert(path.clone(), contents[&under.hash].clone());
            }
        }
        let inventory = surveyed(&family, &tree, &remembered);
        let owners: usize = inventory.components.iter().map(|c| c.files.len()).sum();
        let distinct: BTreeSet<&RelPath> = inventory.components.iter().flat_map(|c| c.files.iter().map(|f| &f.path)).collect();
        prop_assert_eq!(owners, distinct.len(), "a file has two owners");

        let mut offers = Vec::new();
        let mut payloads = BTreeMap::new();
        let mut selection = Selection { choices: Vec::new(), gone: Vec::<Gone>::new(), proved: true };
        for (number, id) in ["b", "f", "p"].into_iter().enumerate() {
            let offer = moves[number].then(|| {
                offers.push(Offer {
                    facts: Facts::new(Id::new(id), kind(id), version(2)),
                    artifact: crate::artifact::Artifact { file: id.into(), blake3: hash(id), bytes: 1 },
                    origin: Origin::Catalogue,
                });
                let ships = &new[id];
                let files = ships.files.iter().map(|(path, content)| PayloadFile {
                    path: path.clone(),
                    entry: Some(path.to_string()),
                    bytes: content.len() as u64,
                    hash: hash(content),
                });
                let members = ships.members.iter().filter(|_| id == "p").map(|member| PayloadMember {
                    place: path(&format!("addons/{member}")),
                    shape: Shape::File,
                    facts: Facts::new(Id::new(member), Kind::Addon, version(2)),
                });
                payloads.insert(offers.len() - 1, Payload {
                    place: path(match id { "b" => "server", "f" => "framework", _ => "pack" }),
                    shape: Shape::Folder,
                    reader: "x".into(),
                    files: files.collect(),
                    members: members.collect(),
                    holdings: Holdings { owns: vec![path("config")], ..Holdings::default() },
                    variant: None,
                    found_in: None,
                });
                offers.len() - 1
            });
            selection.choices.push(Choice {
                id: Id::new(id),
                kind: kind(id),
                from: Some(version(1)),
                to: version(if offer.is_some() { 2 } else { 1 }),
                offer,
                reason: Reason::Newer,
                declared: Some(true),
            });
        }
        let keep = [Glob::new("world/**").unwrap()];
        let planned: Vec<FileSeen> = listing(&tree).into_iter().filter(|f| f.path.below("world").is_none()).collect();
        let situation = Situation {
            server: "s",
            server_id: "1",
            family: &family,
            inventory: &inventory,
            files: &planned,
            order: None,
            dropped: &BTreeSet::new(),
            scripts: &[],
            keep: &keep,
            remembered: &remembered,
            stored: &stored,
            beside: false,
        };
        let plan = draw(&situation, &selection, &offers, &payloads).unwrap();
        let (after, aside) = apply(&plan, &tree, &contents);

        prop_assert_eq!(&undo(&plan, &after, &aside), &tree, "undoing gives back the very tree");
        for (path, content) in &kept {
            prop_assert_eq!(after.get(path), Some(content));
        }
        // Nothing stale of what moved stays.
        for (number, id) in ["b", "f", "p"].into_iter().enumerate().filter(|(number, _)| moves[*number]) {
            let _ = number;
            for path in old[id].files.keys() {
                let ships_now = new.values().zip(moves).any(|(ships, moves)| moves && ships.files.contains_key(path));
                let others = old.iter().any(|(other, ships)| *other != id && ships.files.contains_key(path));
                if !ships_now && !others && !mine.contains_key(path) {
                    prop_assert!(!after.contains_key(path), "{} is stale", path);
                }
            }
        }
        // The highest layer that ships a path lies on top, where nobody edited it.
        let standing = |id: &str, number: usize| if moves[number] { new[id].clone() } else { old[id].clone() };
        let (b, f, p) = (standing("b", 0), standing("f", 1), standing("p", 2));
        for (path, content) in b.files.iter().filter(|(path, _)| !f.files.contains_key(*path)).chain(&f.files) {
            prop_assert_eq!(after.get(path), Some(content), "{}", path);
        }
        for (path, content) in &p.files {
            let out = path.below("addons").is_some_and(|member| taken_out.contains(member));
            match after.get(path) {
                None => prop_assert!(out, "{} is not there", path),
                Some(there) => {
                    prop_assert!(!out, "{} was taken out", path);
                    let unchanged = old["p"].files.get(path) == Some(content);
                    match mine.get(path) {
                        Some(edited) if unchanged || !moves[2] => prop_assert_eq!(there, edited),
                        _ => prop_assert_eq!(there, content),
                    }
                }
            }
        }
        // Local edits survive, or are set aside and told.
        for (path, content) in &mine {
            let told = plan.notes.iter().any(|note| note.starts_with(path.as_str()));
            let survives = after.get(path) == Some(content);
            let saved = aside.get(path) == Some(content) && told;
            prop_assert!(survives || saved, "{} is lost: {:?}", path, plan.notes);
        }
        // With what the ledger knows afterwards, the next survey finds all layers whole.
        let mut knows = remembered.clone();
        for action in plan.of(ActionKind::SetAside) {
            knows.remove(&action.path);
        }
        knows.extend(remembered_after(&plan, &remembered));
        let next = surveyed(&family, &after, &knows);
        for component in &next.components {
            prop_assert!(component.silenced.is_empty(), "{:?}", component.silenced);
            let whole = !matches!(component.state, FileState::PartlyMissing { .. });
            prop_assert!(whole || component.facts.id.as_str() == "p", "{} {:?}", component.facts.id, component.state);
            if component.facts.kind == Kind::Addon {
                prop_assert_eq!(component.group.as_ref(), Some(&Id::new("p")));
            }
        }
        prop_assert_eq!(Plan::parse(&plan.to_json()).unwrap(), plan);
    }
}
