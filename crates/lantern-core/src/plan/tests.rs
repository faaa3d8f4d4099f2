//! Random stacks of layers, and random updates of them, over a tree that is a value.

use super::*;
use crate::component::Runs;
use crate::descriptor::Holdings;
use crate::facts::{Facts, Reading};
use crate::family::{Family, Glob, Shape};
use crate::flags::NamedHashes;
use crate::inventory::{Evidence, FileState, Inventory, Remembered, described, take};
use crate::launch::Flow;
use crate::offer::{Offer, Origin};
use crate::order::OrderText;
use crate::proofs::at_least;
use crate::resolve::{Choice, Gone, Reason, Selection};
use crate::settings::Answers;
use crate::tree::{FileSeen, claim};
use crate::version::{Notation, Version};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// The server that has an install to itself.
macro_rules! only {
    ($family:expr, $inventory:expr, $order:expr) => {
        Part {
            name: None,
            family: &$family,
            inventory: &$inventory,
            order: $order,
            flow: &Flow::default(),
            switched: &BTreeMap::new(),
            ground: &crate::family::Ground::default(),
            takes_new: true,
        }
    };
}

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
    let mut reading = Reading::new(&family.versions);
    let claimed = claims.claims.iter();
    let described: Vec<_> = claimed
        .map(|claim| described(family, claim, &files, &[], &mut reading))
        .collect();
    let evidence = Evidence {
        files: &files,
        described: &described,
        catalogued: None,
        order: None,
        remembered,
        sooner: &[],
        flow: &Flow::default(),
        texts: &[],
        effects: &BTreeMap::new(),
        hashes: &NamedHashes::new(),
        stated: None,
        ground: &crate::family::Ground::default(),
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
                stored.insert(hash.clone(), crate::artifact::Artifact { file: hash.clone(), blake3: hash.clone(), bytes: 1, urls: Vec::new() });
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
                    lays: None,
                    facts: Facts::new(Id::new(id), kind(id), version(2)),
                    artifact: crate::artifact::Artifact { file: id.into(), blake3: hash(id), bytes: 1, urls: Vec::new() }.into(),
                    origin: Origin::Catalogue,
                    supply: None,
                });
                let ships = &new[id];
                let files = ships.files.iter().map(|(path, content)| PayloadFile {
                    path: path.clone(),
                    entry: Some(path.to_string()),
                    bytes: content.len() as u64,
                    hash: hash(content),
                    is_copy: false,
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
                    runs: Runs::On,
                    variant: None,
                    unused: Vec::new(),
                    texts: BTreeMap::new(),
                    hashes: NamedHashes::new(),
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
            folder: ("/srv", &[]),
            own: &[],
            server: "s",
            server_id: "1",
            family: &family,
            inventory: &inventory,
            files: &planned,
            parts: &[only!(family, inventory, None)],
            sooner: &[],
            effects: &BTreeMap::new(),
            dropped: &BTreeSet::new(),
            scripts: &[],
            hashes: &NamedHashes::new(),
            keep: &keep,
            remembered: &remembered,
            stored: &stored,
            beside: false,
            by_hand: &BTreeMap::new(),
            samples: &[],
            patches: &BTreeMap::new(),
            answers: Answers { known: &BTreeMap::new(), otherwise: None },
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
            let told = plan.notes.iter().any(|note| note.starts_with(path.as_str()))
                || plan.yours.iter().any(|yours| yours.path == *path);
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

/// How a pack moves from release 1, with the member m0, to release 2.
struct PackMove {
    keep: Vec<&'static str>,
    beside: bool,
    /// What release 2 ships besides its own mark.
    ships: Vec<&'static str>,
    /// Whether the world holds content of m0.
    bound: Option<bool>,
    dropped: Vec<&'static str>,
    /// Whether m0 runs.
    runs: Runs,
    /// What the release calls all its own, and what it keeps there itself.
    owns: Vec<&'static str>,
    keeps: Vec<&'static str>,
}

impl Default for PackMove {
    fn default() -> PackMove {
        PackMove {
            keep: vec!["world/**"],
            beside: false,
            ships: vec!["addons/m0"],
            bound: None,
            dropped: Vec::new(),
            runs: Runs::Unsaid,
            owns: Vec::new(),
            keeps: Vec::new(),
        }
    }
}

impl PackMove {
    fn inventory(&self) -> (Tree, Inventory, BTreeMap<RelPath, Remembered>) {
        let family = Family::parse(FAMILY).unwrap();
        let old: BTreeMap<&str, Ships> = [
            ("b", ships("b", 1, &[], &[], &[])),
            ("f", ships("f", 1, &[], &[], &[])),
            ("p", ships("p", 1, &[], &[], &[0])),
        ]
        .into();
        let (mut tree, remembered) = stack(&old);
        tree.insert(path("world/map"), "deep".into());
        let mut inventory = surveyed(&family, &tree, &remembered);
        for component in &mut inventory.components {
            if component.facts.id.as_str() == "m0" {
                component.facts.world_bound = self.bound;
                component.runs = self.runs;
            }
        }
        (tree, inventory, remembered)
    }

    fn drawn(&self) -> Result<Plan, DrawFault> {
        let framework = r#"ready = "up", framework = '^(?P<id>f) (?P<version>.+)', stop"#;
        let pin = "[[pin]]\nfile = '*.sh'\nline = '(?P<value>pack-\\S+)'\nbecomes = 'pack-{pack.version}'\n[[reader]]";
        let text = FAMILY.replace(r#"ready = "up", stop"#, framework);
        let family = Family::parse(&text.replacen("[[reader]]", pin, 1)).unwrap();
        let (mut tree, inventory, remembered) = self.inventory();
        let script = "run pack-1 --quiet\n";
        tree.insert(path("start.sh"), script.into());
        let scripts = [(path("start.sh"), crate::text::Text::read(script.as_bytes()))];
        let offer = Offer {
            lays: None,
            facts: Facts::new(Id::new("p"), Kind::Pack, version(2)),
            artifact: Arc::default(),
            origin: Origin::Catalogue,
            supply: None,
        };
        let shipped = self
            .ships
            .iter()
            .chain(&["pack/id"])
            .map(|name| PayloadFile {
                path: path(name),
                entry: Some((*name).into()),
                bytes: 3,
                hash: hash(&format!("new {name}")),
                is_copy: false,
            });
        let members = self
            .ships
            .iter()
            .filter_map(|name| name.strip_prefix("addons/"));
        let members = members.map(|member| PayloadMember {
            place: path(&format!("addons/{member}")),
            shape: Shape::File,
            facts: Facts::new(Id::new(member), Kind::Addon, version(2)),
        });
        let payload = Payload {
            place: path("pack"),
            shape: Shape::Folder,
            reader: "pack".into(),
            files: shipped.collect(),
            members: members.collect(),
            holdings: Holdings {
                owns: self.owns.iter().map(|text| path(text)).collect(),
                keep: self.keeps.iter().map(|text| (*text).to_owned()).collect(),
                ..Holdings::default()
            },
            runs: Runs::On,
            variant: None,
            unused: Vec::new(),
            texts: BTreeMap::new(),
            hashes: NamedHashes::new(),
        };
        let choice = Choice {
            id: Id::new("p"),
            kind: Kind::Pack,
            from: Some(version(1)),
            to: version(2),
            offer: Some(0),
            reason: Reason::Newer,
            declared: Some(true),
        };
        let selection = Selection {
            choices: vec![choice],
            gone: Vec::new(),
            proved: true,
        };
        let keep: Vec<Glob> = self
            .keep
            .iter()
            .map(|text| Glob::new(text).unwrap())
            .collect();
        let planned: Vec<FileSeen> = listing(&tree)
            .into_iter()
            .filter(|file| !keep.iter().any(|glob| glob.matches(file.path.as_str())))
            .collect();
        let dropped = self.dropped.iter().map(|id| Id::new(id)).collect();
        let situation = Situation {
            folder: ("/srv", &[]),
            own: &[path("lantern.toml"), path("x.family.toml")],
            server: "s",
            server_id: "1",
            family: &family,
            inventory: &inventory,
            files: &planned,
            parts: &[only!(family, inventory, None)],
            sooner: &[],
            effects: &BTreeMap::new(),
            dropped: &dropped,
            scripts: &scripts,
            hashes: &NamedHashes::new(),
            keep: &keep,
            remembered: &remembered,
            stored: &BTreeMap::new(),
            beside: self.beside,
            by_hand: &BTreeMap::new(),
            samples: &[],
            patches: &BTreeMap::new(),
            answers: Answers {
                known: &BTreeMap::new(),
                otherwise: None,
            },
        };
        draw(
            &situation,
            &selection,
            &[offer],
            &BTreeMap::from([(0, payload)]),
        )
    }

    /// What the plan writes or takes away, and its notes.
    fn told(&self) -> String {
        let plan = self.drawn().unwrap();
        let moving = plan
            .actions
            .iter()
            .filter(|action| action.what != ActionKind::Keep);
        let moving = moving.map(|action| format!("{:?} {}", action.what, action.path));
        let moving = moving.filter(|told| told != "Edit start.sh");
        let notes = plan.notes.iter().map(|note| format!("note: {note}"));
        let yours = plan.yours.iter();
        let yours = yours.map(|it| format!("yours: {} {}", it.path, it.why.as_str()));
        moving
            .chain(yours)
            .chain(notes)
            .collect::<Vec<_>>()
            .join("\n")
    }
}

#[test]
fn the_keep_list_is_never_written() {
    let into_the_world = PackMove {
        ships: vec!["addons/m0", "world/spawn", "world/deep/well"],
        ..PackMove::default()
    };
    let refused = into_the_world.drawn().unwrap_err();
    assert!(
        matches!(&refused, DrawFault::WritesKept { paths, .. } if paths.len() == 2),
        "{refused}"
    );
    // Beside it only where that is not kept, too.
    let beside = PackMove {
        beside: true,
        keep: vec!["world/**", "motd"],
        ships: vec!["addons/m0", "world/spawn", "motd"],
        ..PackMove::default()
    };
    insta::assert_snapshot!(beside.told(), @"
    Replace addons/m0
    Place motd.new
    Replace pack/id
    note: world/spawn of p is not installed: the place beside it, world/spawn.new, is taken or kept as well
    note: motd is kept as it is; the one of p is put beside it, as motd.new
    ");
    // What is not on the list is written, and what is there of it stays.
    let elsewhere = PackMove {
        ships: vec!["addons/m0", "worlds/spawn"],
        ..PackMove::default()
    };
    insta::assert_snapshot!(elsewhere.told(), @"
    Replace addons/m0
    Replace pack/id
    Place worlds/spawn
    ");
}

#[test]
fn a_start_script_names_the_pack_that_comes_and_the_framework_has_to_say_that_it_is_there() {
    let plan = PackMove {
        runs: Runs::On,
        ..PackMove::default()
    };
    let plan = plan.drawn().unwrap();
    let edit = &plan.edits[0].lines[0];
    assert_eq!(
        (edit.line, &edit.was[..]),
        (1, &["run pack-1 --quiet".to_owned()][..])
    );
    assert_eq!(edit.becomes, ["run pack-2 --quiet"]);
    let expects = plan
        .expects
        .iter()
        .map(|it| (it.id.as_str(), it.version.as_deref()));
    assert_eq!(
        expects.collect::<Vec<_>>(),
        [("f", Some("1")), ("m0", Some("2"))]
    );
}

#[test]
fn nothing_from_outside_comes_into_lanterns_own_room() {
    for own in [
        ".lantern/store/backups/0001.json",
        ".Lantern/journal.json",
        "Lantern.toml",
        "x.family.toml",
    ] {
        let into = PackMove {
            ships: vec![own],
            beside: true,
            ..PackMove::default()
        };
        let refused = into.drawn().unwrap_err();
        assert!(matches!(&refused, DrawFault::WritesOwn { .. }), "{refused}");
    }
}

#[test]
fn what_a_pack_calls_its_own_is_not_what_the_place_keeps() {
    let owns = |owns, keeps| PackMove {
        keep: vec!["world/**", "config/mine/**"],
        owns: vec![owns],
        keeps,
        ..PackMove::default()
    };
    for meets in ["config", "world/map"] {
        let refused = owns(meets, Vec::new()).drawn().unwrap_err();
        let meets = matches!(&refused, DrawFault::OwnsKept { .. });
        assert!(meets, "{refused}");
    }
    // What it keeps there itself is no contradiction, and what lies beside is none.
    assert!(owns("config", vec!["config/mine/**"]).drawn().is_ok());
    assert!(owns("configs", Vec::new()).drawn().is_ok());
}

#[test]
fn a_member_that_the_world_holds_does_not_leave() {
    let without = |bound, dropped: &[&'static str]| PackMove {
        ships: vec!["config/1"],
        bound,
        dropped: dropped.to_vec(),
        ..PackMove::default()
    };
    let refused = without(Some(true), &[]).drawn().unwrap_err();
    assert!(
        matches!(&refused, DrawFault::LeavesWorld { member, .. } if member.as_str() == "m0"),
        "{refused}"
    );
    insta::assert_snapshot!(without(Some(true), &["m0"]).told(), @"
    SetAside addons/m0
    Place config/1
    Replace pack/id
    note: m0 is removed: p 2 does not contain it, and the world holds content of it
    ");
    insta::assert_snapshot!(without(None, &[]).told(), @"
    SetAside addons/m0
    Place config/1
    Replace pack/id
    note: m0 is removed: p 2 does not contain it
    ");
}

#[test]
fn what_does_not_run_asks_for_nothing() {
    let needs = |runs| {
        let (_, mut inventory, _) = PackMove {
            runs,
            ..PackMove::default()
        }
        .inventory();
        let member = inventory
            .components
            .iter_mut()
            .find(|c| c.facts.id.as_str() == "m0");
        member.unwrap().facts.needs = [crate::component::Need {
            id: Id::new("gone"),
            range: crate::version::Range::any(),
        }]
        .into();
        let movable = inventory.movable();
        let (_, pack) = movable
            .iter()
            .find(|(c, _)| c.facts.kind == Kind::Pack)
            .unwrap();
        (pack.needs.len(), pack.members.len())
    };
    assert_eq!(needs(Runs::On), (1, 1));
    assert_eq!(needs(Runs::Unsaid), (1, 1));
    assert_eq!(needs(Runs::Off), (0, 0));
    // An add-on by itself that is off is moved along; what lies outside the folder is not.
    let (_, mut inventory, _) = PackMove::default().inventory();
    let ids = |inventory: &Inventory| -> Vec<String> {
        let movable = inventory.movable().into_iter();
        movable
            .map(|(component, _)| component.facts.id.to_string())
            .collect()
    };
    assert_eq!(ids(&inventory), ["b", "f", "p"]);
    for component in &mut inventory.components {
        component.group = None;
        component.runs = match component.facts.kind {
            Kind::Addon => Runs::Off,
            _ => Runs::Unsaid,
        };
        if component.facts.kind == Kind::Build {
            component.place = None;
        }
    }
    assert_eq!(ids(&inventory), ["f", "p", "m0"]);
}

/// An add-on that moves, one that is off and moves, one that goes, one that comes, and one for players' clients.
fn addons_drawn(proved: bool) -> (Plan, Inventory, Vec<FileSeen>) {
    let order = "# mine\nstart a\nstart c\nstart stays\n";
    let (plan, after, files, _) = addons_drawn_in(crate::tree::tests::FAMILY, order, proved);
    (plan, after, files)
}

/// Likewise, with a load order in the words of a family; and the text that it becomes.
fn addons_drawn_in(
    family: &str,
    order: &str,
    proved: bool,
) -> (Plan, Inventory, Vec<FileSeen>, String) {
    use crate::component::Side;
    use crate::order::Arrangement;
    use crate::text::Text;
    let family = Family::parse(family).unwrap();
    let files = [
        ("addons/a.bloom", "id='a'\nversion='1'"),
        ("addons/b.bloom", "id='b'\nversion='1'"),
        ("addons/c.bloom", "id='c'\nversion='1'"),
        ("addons/stays.bloom", "id='stays'\nversion='1'"),
        ("x.conf", ""),
    ];
    let remembered = BTreeMap::new();
    let inventory = crate::inventory::tests::inventory_in(&family, &files, order, &remembered);
    let listing = crate::tree::tests::seen(&files.map(|(path, _)| path));
    let mut offers = Vec::new();
    let mut payloads = BTreeMap::new();
    let mut choices = Vec::new();
    let mut choose = |id: &str, from: Option<u8>, needs: &[&str], side, declared| {
        let needs = needs.iter().map(|id| crate::component::Need {
            id: Id::new(id),
            range: crate::version::Range::any(),
        });
        let facts = Facts {
            needs: needs.collect(),
            side,
            ..Facts::new(Id::new(id), Kind::Addon, version(2))
        };
        let place = path(&format!("addons/{id}-2.bloom"));
        let file = PayloadFile {
            path: place.clone(),
            entry: None,
            bytes: 10,
            hash: hash(id),
            is_copy: false,
        };
        offers.push(Offer {
            lays: None,
            facts,
            artifact: Arc::default(),
            origin: Origin::Catalogue,
            supply: None,
        });
        payloads.insert(
            offers.len() - 1,
            Payload {
                place,
                shape: Shape::Archive,
                reader: "archive".into(),
                files: vec![file],
                members: Vec::new(),
                holdings: Holdings::default(),
                runs: Runs::On,
                variant: None,
                unused: Vec::new(),
                texts: BTreeMap::new(),
                hashes: NamedHashes::new(),
            },
        );
        choices.push(Choice {
            id: Id::new(id),
            kind: Kind::Addon,
            from: from.map(version),
            to: version(2),
            offer: Some(offers.len() - 1),
            reason: Reason::Newer,
            declared,
        });
    };
    choose("a", Some(1), &["d"], None, Some(true));
    choose("b", Some(1), &[], None, None);
    choose("d", None, &[], None, None);
    choose("e", None, &[], Some(Side::Client), Some(false));
    choices.push(Choice {
        id: Id::new("stays"),
        kind: Kind::Addon,
        from: Some(version(1)),
        to: version(1),
        offer: None,
        reason: Reason::Fits,
        declared: None,
    });
    let gone = |id: &str, asked, by: Option<&str>| Gone {
        id: Id::new(id),
        kind: Kind::Addon,
        from: version(1),
        replaced_by: by.map(Id::new),
        asked,
    };
    let selection = Selection {
        choices,
        gone: vec![
            gone("c", true, None),
            gone("lost", false, None),
            gone("old", false, Some("d")),
        ],
        proved,
    };
    // The file of the load order is written, whatever keep list it stands on.
    let keep = [Glob::new("*.conf").unwrap()];
    let text = Text::read(order.as_bytes());
    let order_file = path("x.conf");
    let order_text = OrderText::read(
        family.order.as_ref().unwrap(),
        order_file.clone(),
        text.clone(),
        &mut |_, _| Vec::new(),
    );
    let situation = Situation {
        folder: ("/srv", &[]),
        own: &[],
        server: "s",
        server_id: "1",
        family: &family,
        inventory: &inventory,
        files: &listing,
        parts: &[only!(family, inventory, Some(&order_text))],
        sooner: &[],
        effects: &BTreeMap::new(),
        dropped: &BTreeSet::from([Id::new("c")]),
        scripts: &[],
        hashes: &NamedHashes::new(),
        keep: &keep,
        remembered: &BTreeMap::new(),
        stored: &BTreeMap::new(),
        beside: false,
        by_hand: &BTreeMap::new(),
        samples: &[],
        patches: &BTreeMap::new(),
        answers: Answers {
            known: &BTreeMap::new(),
            otherwise: None,
        },
    };
    let plan = draw(&situation, &selection, &offers, &payloads).unwrap();
    let edited = text.changed(&plan.edits[0].lines).unwrap();
    let arrangement = Arrangement::read(family.order.as_ref().unwrap(), edited.as_str());
    let (after, files) = afterwards(
        &inventory,
        &plan,
        &selection,
        &offers,
        &payloads,
        arrangement,
        None,
    );
    (plan, after, files, edited.as_str().to_owned())
}

#[test]
fn entries_that_are_called_as_their_files_are_follow_them() {
    let by_file = |line: &str, write: &str, more: &str| {
        crate::tree::tests::FAMILY.replace(
            r#"line = '^start (?P<id>\S+)', write = "start {id}" }"#,
            &format!(
                r#"line = '{line}', write = "{write}", each = '^addons/(?P<value>.+)$'{more} }}"#
            ),
        )
    };
    let order = "# mine\nstart a.bloom  # a.bloom is quick\nstart c.bloom\nstart gone.bloom\nstart stays.bloom\n";
    let lines = by_file(r"^start (?P<id>\S+)", "start {id}", "");
    let (plan, .., text) = addons_drawn_in(&lines, order, true);
    assert_eq!(
        text,
        "start d-2.bloom\n# mine\nstart a-2.bloom  # a.bloom is quick\nstart gone.bloom\nstart stays.bloom\n"
    );
    let running: Vec<&str> = plan.expects.iter().map(|it| it.id.as_str()).collect();
    assert_eq!(running, ["a", "d", "stays"]);
    let list = by_file(r"^all=(?P<list>.*)$", "{id}", "").replace("\"sequence\"", "\"list\"");
    let (.., text) = addons_drawn_in(&list, "all=stays.bloom, c.bloom,a.bloom\n", true);
    assert_eq!(text, "all=stays.bloom, d-2.bloom, a-2.bloom\n");
}

#[test]
fn a_plan_says_what_becomes_of_each_addon() {
    let (plan, after, files) = addons_drawn(true);
    let components = plan.components.iter().map(|it| {
        let version = |version: &Option<String>| version.clone().unwrap_or("-".into());
        format!(
            "{} {} to {}: {:?}, {}",
            it.id,
            version(&it.from),
            version(&it.to),
            it.verdict,
            it.why
        )
    });
    let actions = plan
        .actions
        .iter()
        .map(|it| format!("{:?} {} {}", it.what, it.path, it.bytes));
    let edits = plan.edits.iter().flat_map(|edit| &edit.lines);
    let edits = edits.map(|it| format!("line {}: {:?} becomes {:?}", it.line, it.was, it.becomes));
    let expects = plan
        .expects
        .iter()
        .map(|it| format!("expects {} {:?}", it.id, it.version));
    let notes = plan.notes.iter().map(|note| format!("note: {note}"));
    let told: Vec<String> = components
        .chain(actions)
        .chain(edits)
        .chain(expects)
        .chain(notes)
        .collect();
    insta::assert_snapshot!(told.join("\n"), @r#"
    a 1 to 2: Updated, the newest
    b 1 to 2: Updated, the newest
    d - to 2: Added, the newest
    e - to 2: Added, the newest
    stays 1 to 1: Unchanged, fits as it is
    c 1 to -: Removed, removed as asked
    lost 1 to -: Removed, no release of it fits
    old 1 to -: Removed, replaced by d
    Place addons/a-2.bloom 10
    SetAside addons/a.bloom 1
    Place addons/b-2.bloom 10
    SetAside addons/b.bloom 1
    SetAside addons/c.bloom 1
    Place addons/d-2.bloom 10
    Place addons/e-2.bloom 10
    Keep addons/stays.bloom 1
    Edit x.conf 35
    line 1: [] becomes ["start d"]
    line 3: ["start c"] becomes []
    expects a Some("2")
    expects d Some("2")
    expects stays Some("1")
    note: whether these are for this server version is unknown, as nobody declared it: b, d, stays
    "#);
    assert!(!plan.is_empty());
    assert_eq!(
        plan.staged_bytes(),
        40 + plan.of(ActionKind::Edit).map(|it| it.bytes).sum::<u64>()
    );
    // As it is afterwards, for the next plan on the way.
    let after = after.components.iter().map(|it| {
        let place = it.place.as_ref().map_or("-", RelPath::as_str);
        format!(
            "{} {} at {place}, {:?}, {} files",
            it.facts.id,
            it.facts.version,
            it.runs,
            it.files.len()
        )
    });
    insta::assert_snapshot!(after.collect::<Vec<_>>().join("\n"), @"
    a 2 at addons/a-2.bloom, On, 1 files
    b 2 at addons/b-2.bloom, Off, 1 files
    d 2 at addons/d-2.bloom, On, 1 files
    e 2 at addons/e-2.bloom, Unsaid, 1 files
    stays 1 at addons/stays.bloom, On, 1 files
    ");
    let files: Vec<&str> = files.iter().map(|file| file.path.as_str()).collect();
    insta::assert_snapshot!(files.join("\n"), @"
    addons/a-2.bloom
    addons/b-2.bloom
    addons/d-2.bloom
    addons/e-2.bloom
    addons/stays.bloom
    x.conf
    ");
    let (unproved, ..) = addons_drawn(false);
    assert_eq!(unproved.notes.len(), plan.notes.len() + 1);
}

#[test]
fn nothing_to_do_is_an_empty_plan() {
    let (mut plan, ..) = addons_drawn(true);
    plan.actions
        .retain(|action| action.what == ActionKind::Keep);
    assert!(plan.is_empty());
    assert_eq!(plan.staged_bytes(), 0);
}

/// Add-ons that are started in the order of their names: `30-c` has to come before `10-a`, and `20-b` moves.
fn named_addons(
    kept: &[RelPath],
) -> Result<(Plan, BTreeMap<RelPath, Remembered>, Inventory), DrawFault> {
    let order = r#"order = { kind = "names", file = "addons/*", line = '^(?P<at>\d+)-(?P<name>.+)$', write = "{at}-{name}" }"#;
    let text = FAMILY.replace(
        "[[reader]]\n    name = \"build\"",
        &format!("{order}\n    [[reader]]\n    name = \"build\""),
    );
    let own_id = r#"id = { at = "$name", pattern = '^(?:\d+-)?(?P<value>[a-z]+)' }"#;
    let folders = text.replace(r#"id = { at = "$name" }"#, own_id);
    let folders = folders.replace(
        "shape = \"file\"\n    at = \"addons/*\"",
        "shape = \"folder\"\n    at = \"addons/*\"\n    marks = [\"mark\"]",
    );
    let family = Family::parse(&folders).unwrap();
    let text = |name: &str| (path(name), name.to_owned());
    let tree: Tree = [
        "addons/10-a/mark",
        "addons/20-b/mark",
        "addons/30-c/mark",
        "addons/30-c/mine",
        "addons/30-c/edited",
        "other/d",
    ]
    .map(text)
    .into();
    let known = |hash: String| Remembered {
        hash,
        owner: Some(Id::new("c")),
        version: Some("1".into()),
        shipped: false,
        under: None,
    };
    let remembered = BTreeMap::from([
        (path("addons/30-c/mark"), known(hash("addons/30-c/mark"))),
        (path("addons/30-c/edited"), known(hash("as shipped"))),
    ]);
    let mut inventory = surveyed(&family, &tree, &remembered);
    for component in &mut inventory.components {
        if component.facts.id.as_str() == "a" {
            component.facts.needs.push(crate::component::Need {
                id: Id::new("c"),
                range: crate::version::Range::any(),
            });
        }
    }
    let files = listing(&tree);
    let situation = Situation {
        folder: ("/srv", kept),
        own: &[],
        server: "s",
        server_id: "1",
        family: &family,
        inventory: &inventory,
        files: &files,
        parts: &[only!(family, inventory, None)],
        sooner: &[],
        effects: &BTreeMap::new(),
        dropped: &BTreeSet::new(),
        scripts: &[],
        hashes: &NamedHashes::new(),
        keep: &[],
        remembered: &remembered,
        stored: &BTreeMap::new(),
        beside: false,
        by_hand: &BTreeMap::new(),
        samples: &[],
        patches: &BTreeMap::new(),
        answers: Answers {
            known: &BTreeMap::new(),
            otherwise: None,
        },
    };
    let choice = |id: &str, offer: Option<usize>| Choice {
        id: Id::new(id),
        kind: Kind::Addon,
        from: Some(version(1)),
        to: version(if offer.is_some() { 2 } else { 1 }),
        offer,
        reason: Reason::Fits,
        declared: Some(true),
    };
    let selection = Selection {
        choices: vec![choice("a", None), choice("b", Some(0)), choice("c", None)],
        gone: Vec::new(),
        proved: true,
    };
    let offers = [Offer {
        lays: None,
        facts: Facts::new(Id::new("b"), Kind::Addon, version(2)),
        artifact: Arc::default(),
        origin: Origin::Catalogue,
        supply: None,
    }];
    let payload = Payload {
        place: path("addons/b"),
        shape: Shape::Folder,
        reader: "addon".into(),
        files: vec![PayloadFile {
            path: path("addons/b/mark"),
            entry: Some("mark".into()),
            bytes: 3,
            hash: hash("b 2"),
            is_copy: false,
        }],
        members: Vec::new(),
        holdings: Holdings::default(),
        runs: Runs::On,
        variant: None,
        unused: Vec::new(),
        texts: BTreeMap::new(),
        hashes: NamedHashes::new(),
    };
    let payloads = BTreeMap::from([(0, payload)]);
    let plan = draw(&situation, &selection, &offers, &payloads)?;
    let (after, _) = afterwards(
        &inventory,
        &plan,
        &selection,
        &offers,
        &payloads,
        crate::order::Arrangement::default(),
        None,
    );
    let known = remembered_after(&plan, &remembered).into_iter().collect();
    Ok((plan, known, after))
}

#[test]
fn a_new_name_takes_all_along_and_what_is_known_of_it_stays_known() {
    let (plan, known, after) = named_addons(&[path("other/d")]).unwrap();
    let moving = plan
        .actions
        .iter()
        .filter(|action| action.what != ActionKind::Keep);
    let moving = moving.map(|action| {
        let source = action.source.as_ref().map(|source| {
            let archive = &plan.archives[source.archive];
            format!(" < {}", source.entry.as_deref().unwrap_or(&archive.file))
        });
        format!(
            "{:?} {}{}",
            action.what,
            action.path,
            source.unwrap_or_default()
        )
    });
    let renames = plan
        .renames
        .iter()
        .map(|it| format!("{}: {} becomes {}", it.id, it.from, it.to));
    let known = known.iter().map(|(path, known)| {
        let as_shipped = known.hash == hash(path.as_str())
            || known.hash == hash(&path.as_str().replace("05", "30"));
        format!("known {path} {:?} as it lies {as_shipped}", known.owner)
    });
    let places = after
        .components
        .iter()
        .filter(|c| c.facts.kind == Kind::Addon)
        .map(|c| {
            let files: Vec<&str> = c.files.iter().map(|file| file.path.as_str()).collect();
            format!(
                "after {}: {} with {}",
                c.facts.id,
                c.place.as_ref().unwrap(),
                files.join(" ")
            )
        });
    let told: Vec<String> = renames.chain(moving).chain(known).chain(places).collect();
    insta::assert_snapshot!(told.join("\n"), @r#"
    b: addons/b becomes addons/20-b
    c: addons/30-c becomes addons/05-c
    Place addons/05-c/edited < /srv/addons/30-c/edited
    Place addons/05-c/mark < /srv/addons/30-c/mark
    Place addons/05-c/mine < /srv/addons/30-c/mine
    Replace addons/20-b/mark < mark
    SetAside addons/30-c/edited
    SetAside addons/30-c/mark
    SetAside addons/30-c/mine
    known addons/05-c/edited Some(Id("c")) as it lies false
    known addons/05-c/mark Some(Id("c")) as it lies true
    known addons/20-b/mark Some(Id("b")) as it lies false
    after a: addons/10-a with addons/10-a/mark
    after b: addons/20-b with addons/20-b/mark
    after c: addons/05-c with addons/05-c/edited addons/05-c/mark addons/05-c/mine
    "#);
}

#[test]
fn a_folder_with_something_kept_in_it_gets_no_other_name() {
    let refused = named_addons(&[path("addons/30-c/world")]).unwrap_err();
    assert!(
        matches!(&refused, DrawFault::KeptInside { .. }),
        "{refused}"
    );
}
