//! What a changeover decides in somebody's place, where nobody is there to be asked.
//!
//! Each thing of that kind has a word. Whoever lets a server be changed unattended states the words that he leaves to it; a changeover that
//! decides more than that is not begun. What nobody has declared of a component is a word of its own: it is not taken for harmless.

use crate::clients::Duty;
use crate::component::{Id, Kind, Side};
use crate::facts::Facts;
use crate::inventory::{Component, Inventory};
use crate::plan::{ComponentChange, Fate, OrderChange, Plan};
use crate::version::Notations;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Something that a changeover decides in somebody's place.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Matter {
    /// A component moves to a newer release.
    Updates,
    /// A component comes new.
    Additions,
    /// A component goes.
    Removals,
    /// A component moves to a release that is not known to be newer.
    Older,
    /// The server moves to another version.
    Server,
    /// A pack moves, with all that it holds.
    Packs,
    /// Something moves, or goes, whose content the world holds.
    WorldBound,
    /// Players' clients have to be changed, too, or others may join than before.
    Clients,
    /// Something moves, or goes, of which nobody declares whether the world holds its content, or whether clients need it; or comes or moves, and
    /// nobody declares whether it is for this server version.
    Undeclared,
    /// An add-on is switched on or off.
    Switches,
    /// What runs already is started in another order than before.
    Order,
    /// A file that was edited by hand, or may have been before adoption, is merged or set aside.
    HandEdits,
    /// The plan was not carried out on a copy before, with the world, and has worked.
    Unrehearsed,
    /// Somebody is on when the server is stopped.
    Players,
}

impl Matter {
    /// What is left to a changeover where nothing else is said.
    pub const USUAL: [Matter; 2] = [Matter::Updates, Matter::Additions];

    /// All of them.
    pub const ALL: [Matter; 14] = [
        Matter::Updates,
        Matter::Additions,
        Matter::Removals,
        Matter::Older,
        Matter::Server,
        Matter::Packs,
        Matter::WorldBound,
        Matter::Clients,
        Matter::Undeclared,
        Matter::Switches,
        Matter::Order,
        Matter::HandEdits,
        Matter::Unrehearsed,
        Matter::Players,
    ];

    /// The word.
    pub fn as_str(self) -> &'static str {
        match self {
            Matter::Updates => "updates",
            Matter::Additions => "additions",
            Matter::Removals => "removals",
            Matter::Older => "older",
            Matter::Server => "server",
            Matter::Packs => "packs",
            Matter::WorldBound => "world-bound",
            Matter::Clients => "clients",
            Matter::Undeclared => "undeclared",
            Matter::Switches => "switches",
            Matter::Order => "order",
            Matter::HandEdits => "hand-edits",
            Matter::Unrehearsed => "unrehearsed",
            Matter::Players => "players",
        }
    }
}

/// One thing that is decided so: what, and of which component.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Arising {
    /// The word.
    pub matter: Matter,
    /// The component; none where it is not of one.
    pub component: Option<Id>,
    /// What of it, in words.
    pub what: String,
}

/// All that a plan decides, by word, then as the plan lists it.
///
/// `inventory` is what is installed: it says what is declared of each. What does not follow from a plan (whether it was rehearsed, who is on) is
/// not among it.
pub fn matters(plan: &Plan, inventory: &Inventory, versions: &Notations) -> Vec<Arising> {
    let mut arising = Vec::new();
    let mut add = |matter, component: Option<&Id>, what: String| {
        arising.push(Arising {
            matter,
            component: component.cloned(),
            what,
        });
    };
    let is_other_server = {
        let read = |text: &str| versions.version(true, text).ok();
        let from = plan.from.as_deref().and_then(read);
        from.zip(read(&plan.to))
            .is_none_or(|(from, to)| !from.is_same_release(&to))
    };
    if is_other_server {
        let from = plan.from.as_deref().unwrap_or("unknown");
        add(Matter::Server, None, format!("{from} to {}", plan.to));
    }
    let needed = Needed::after(plan);
    for change in &plan.components {
        let id = Some(&change.id);
        if let Some(switched) = change.switched {
            let to = format!("{switched:?}").to_lowercase();
            add(Matter::Switches, id, format!("{} {to}", change.id));
        }
        if change.verdict == Fate::Unchanged {
            continue;
        }
        let installed = inventory.whole(&change.id);
        add(of_fate(change, installed, versions), id, told(change));
        let mut touches: BTreeSet<Matter> = touching(&change.id, change.kind, inventory)
            .into_iter()
            .collect();
        touches.extend(needed.of(&change.id, installed.is_some()));
        if plan.undeclared.contains(&change.id) {
            touches.insert(Matter::Undeclared);
        }
        for matter in touches {
            add(matter, id, told(change));
        }
    }
    for client in plan.clients.iter().filter(|client| client.is_change()) {
        let name = client.title.as_ref().unwrap_or(&client.client);
        let what = format!("which versions of {name} may join");
        add(Matter::Clients, None, what);
    }
    for (first, then) in plan.orders.iter().filter_map(turned) {
        add(Matter::Order, None, format!("{first} before {then}"));
    }
    for merge in &plan.merges {
        add(
            Matter::HandEdits,
            Some(&merge.component),
            merge.path.to_string(),
        );
    }
    for path in &plan.unsure {
        let mut own = plan.actions.iter().filter(|action| action.path == *path);
        let owner = own.find_map(|action| action.component.as_ref());
        add(Matter::HandEdits, owner, format!("{path} (perhaps)"));
    }
    for yours in &plan.yours {
        add(
            Matter::HandEdits,
            Some(&yours.component),
            yours.path.to_string(),
        );
    }
    arising.sort_by_key(|it| it.matter);
    arising
}

/// Two that are started in turn before and after, and after the other way round; the first that are met.
fn turned(order: &OrderChange) -> Option<(&Id, &Id)> {
    let stay = |all: &'_ [Id], others: &[Id]| -> Vec<usize> {
        let places = all.iter().enumerate();
        let stay = places.filter(|(_, id)| others.contains(id));
        stay.map(|(at, _)| at).collect()
    };
    let before = stay(&order.before, &order.after);
    let after = stay(&order.after, &order.before);
    let mut both = before.iter().zip(&after);
    both.find_map(|(before, after)| {
        let (was, is) = (&order.before[*before], &order.after[*after]);
        (was != is).then_some((is, was))
    })
}

/// A change in words.
fn told(change: &ComponentChange) -> String {
    match (&change.from, &change.to) {
        (Some(from), Some(to)) => format!("{} {from} to {to}", change.id),
        (None, Some(to)) => format!("{} {to}", change.id),
        (_, None) => change.id.to_string(),
    }
}

fn of_fate(
    change: &ComponentChange,
    installed: Option<&Component>,
    versions: &Notations,
) -> Matter {
    match change.verdict {
        Fate::Added => Matter::Additions,
        Fate::Removed => Matter::Removals,
        Fate::Updated | Fate::Unchanged => {
            let read = |text: &String| versions.version(change.kind == Kind::Build, text).ok();
            let to = change.to.as_ref().and_then(read);
            let from = change.from.as_ref().and_then(read);
            let from = from.or_else(|| installed.map(|it| it.facts.version.clone()));
            match from.zip(to) {
                Some((from, to)) if to >= from => Matter::Updates,
                _ => Matter::Older,
            }
        }
    }
}

/// What is known of what clients must have after a plan, of any kind of client.
struct Needed<'p> {
    must: BTreeSet<&'p Id>,
    unknown: BTreeSet<&'p Id>,
}

impl Needed<'_> {
    fn after(plan: &Plan) -> Needed<'_> {
        let lists = || plan.client_lists.iter();
        let items = lists().flat_map(|list| &list.items);
        let must = items.filter(|item| item.is == Duty::MustHave);
        Needed {
            must: must.map(|item| &item.id).collect(),
            unknown: lists().flat_map(|list| &list.unknown).collect(),
        }
    }

    /// What it says of a component; of one that is installed, that says itself whether it declares anything.
    fn of(&self, id: &Id, is_installed: bool) -> Option<Matter> {
        match (self.must.contains(id), self.unknown.contains(id)) {
            (true, _) => Some(Matter::Clients),
            (false, true) if !is_installed => Some(Matter::Undeclared),
            _ => None,
        }
    }
}

/// What it decides besides when an installed component moves, or goes: of a pack, of the world, of players' clients; or nobody says.
pub fn touching(id: &Id, kind: Kind, inventory: &Inventory) -> Vec<Matter> {
    // The server program is no client's, and brings worlds forward itself; what lies over it is not played with.
    if matches!(kind, Kind::Build | Kind::Framework) {
        return Vec::new();
    }
    let own = inventory.whole(id).into_iter();
    let all = own.chain(inventory.members(id));
    let mut facts: Vec<&Facts> = all.map(|component| &component.facts).collect();
    // A pack says nothing of itself where its members do.
    if facts.len() > 1 {
        facts.retain(|facts| facts.kind != Kind::Pack);
    }
    let any = |is_so: fn(&Facts) -> bool| facts.iter().any(|facts| is_so(facts));
    let touching = [
        (kind == Kind::Pack, Matter::Packs),
        (
            any(|facts| facts.world_bound == Some(true)),
            Matter::WorldBound,
        ),
        (any(|facts| facts.side == Some(Side::Both)), Matter::Clients),
        (
            any(|facts| facts.world_bound.is_none() || facts.side.is_none()),
            Matter::Undeclared,
        ),
    ];
    let touching = touching.into_iter().filter(|(is_so, _)| *is_so);
    touching.map(|(_, matter)| matter).collect()
}

/// What is not among the words that are left to a changeover, each with what it is about.
pub fn not_left<'d>(
    arising: &'d [Arising],
    may: &BTreeSet<Matter>,
) -> BTreeMap<Matter, Vec<&'d Arising>> {
    let mut not_left: BTreeMap<Matter, Vec<&Arising>> = BTreeMap::new();
    for it in arising.iter().filter(|it| !may.contains(&it.matter)) {
        not_left.entry(it.matter).or_default().push(it);
    }
    not_left
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::inventory::layers::tests::component;
    use crate::path::RelPath;

    /// `"drip-lines 2.3 2.5 !both !safe"`, with `-` for a version that there is none of; `pack/member` is inside. Nothing is declared but by
    /// `!both`, `!server`, `!bound` and `!safe`.
    fn world(lines: &[&str]) -> (Plan, Inventory) {
        let mut changes = Vec::new();
        let mut components = Vec::new();
        for line in lines {
            let mut words = line.split(' ');
            let name = words.next().unwrap();
            let (group, id) = match name.split_once('/') {
                Some((group, id)) => (Some(Id::new(group)), id),
                None => (None, name),
            };
            let kind = match id {
                "halcyon" => Kind::Build,
                "trellis" => Kind::Framework,
                "medley" => Kind::Pack,
                _ => Kind::Addon,
            };
            let mut version = || words.next().filter(|text| *text != "-");
            let (from, to) = (version(), version());
            let mut there = component(kind, id, &[], crate::descriptor::Holdings::default());
            if let Some(from) = from {
                there.facts.version = Notations::default().version(false, from).unwrap();
            }
            for word in words {
                match word {
                    "!both" => there.facts.side = Some(Side::Both),
                    "!server" => there.facts.side = Some(Side::Server),
                    "!bound" => there.facts.world_bound = Some(true),
                    "!safe" => there.facts.world_bound = Some(false),
                    other => panic!("{other}"),
                }
            }
            if from.is_some() {
                there.group = group.clone();
                components.push(there);
            }
            let verdict = match (from, to) {
                _ if group.is_some() => continue,
                (from, to) if from == to => "unchanged",
                (None, _) => "added",
                (_, None) => "removed",
                _ => "updated",
            };
            changes.push(serde_json::json!({
                "id": id, "kind": kind, "from": from, "to": to, "verdict": verdict, "why": "",
            }));
        }
        components.sort_by(|a, b| (a.facts.kind, &a.facts.id).cmp(&(b.facts.kind, &b.facts.id)));
        let server = |at: &str| {
            let build = changes.iter().find(|it| it["id"] == "halcyon");
            build.map_or("5.1.0".into(), |it| it[at].clone())
        };
        let plan = serde_json::json!({
            "format": 1, "server": "terrace", "server_id": "5d0c2a9be1f07734", "family": "halcyon",
            "from": server("from"), "to": server("to"), "components": changes, "archives": [], "actions": [], "edits": [],
            "keep": { "patterns": [] }, "expects": [], "steps": [], "notes": [],
        });
        let inventory = Inventory {
            components,
            ..Inventory::default()
        };
        (Plan::parse(&plan.to_string()).unwrap(), inventory)
    }

    fn told(lines: &[&str]) -> String {
        let (plan, inventory) = world(lines);
        let matters = matters(&plan, &inventory, &Notations::default());
        let told = matters
            .iter()
            .map(|it| format!("{}: {}", it.matter.as_str(), it.what));
        told.collect::<Vec<_>>().join("; ")
    }

    #[test]
    fn what_is_decided_follows_from_what_is_declared() {
        let cases: [(&[&str], &str); 12] = [
            (&["drip-lines 2.3 2.3"], ""),
            (
                &["drip-lines 2.3 2.5 !server !safe"],
                "updates: drip-lines 2.3 to 2.5",
            ),
            (
                &["drip-lines 2.5 2.3 !server !safe"],
                "older: drip-lines 2.5 to 2.3",
            ),
            (&["gnomon - 1.0"], "additions: gnomon 1.0"),
            (&["moss 1.0 - !server !safe"], "removals: moss"),
            (
                &["seed-vault 4.0 4.1 !server !bound"],
                "updates: seed-vault 4.0 to 4.1; world-bound: seed-vault 4.0 to 4.1",
            ),
            (
                &["sun-clock 1.9 2.0 !both !safe"],
                "updates: sun-clock 1.9 to 2.0; clients: sun-clock 1.9 to 2.0",
            ),
            // What nobody declares is not taken for harmless.
            (
                &["drip-lines 2.3 2.5 !server"],
                "updates: drip-lines 2.3 to 2.5; undeclared: drip-lines 2.3 to 2.5",
            ),
            (
                &["drip-lines 2.3 2.5 !safe"],
                "updates: drip-lines 2.3 to 2.5; undeclared: drip-lines 2.3 to 2.5",
            ),
            (
                &["halcyon 5.1.0 5.1.0+wide"],
                "updates: halcyon 5.1.0 to 5.1.0+wide",
            ),
            (
                &["halcyon 5.1.0 5.4.0", "trellis 1.8 2.2"],
                "updates: halcyon 5.1.0 to 5.4.0; updates: trellis 1.8 to 2.2; server: 5.1.0 to 5.4.0",
            ),
            // Of a pack, what its members declare counts.
            (
                &[
                    "medley 1 2",
                    "medley/moss 1 2 !both !safe",
                    "medley/fern 1 2 !server !bound",
                ],
                "updates: medley 1 to 2; packs: medley 1 to 2; world-bound: medley 1 to 2; clients: medley 1 to 2",
            ),
        ];
        for (lines, expected) in cases {
            assert_eq!(told(lines), expected, "{lines:?}");
        }
    }

    #[test]
    fn what_nobody_knows_of_a_plan_is_told() {
        let (mut plan, inventory) = world(&["drip-lines 2.3 2.5 !server !safe", "moss 1 1"]);
        plan.undeclared = ["drip-lines", "moss"].map(Id::new).to_vec();
        plan.unsure = vec![RelPath::parse("addons/drip-lines/drip.toml").unwrap()];
        let matters = matters(&plan, &inventory, &Notations::default());
        let told: Vec<String> = matters
            .iter()
            .map(|it| format!("{}: {}", it.matter.as_str(), it.what))
            .collect();
        assert_eq!(
            told,
            [
                "updates: drip-lines 2.3 to 2.5",
                "undeclared: drip-lines 2.3 to 2.5",
                "hand-edits: addons/drip-lines/drip.toml (perhaps)",
            ]
        );
    }

    #[test]
    fn what_comes_or_goes_between_turns_no_order() {
        let ids = |text: &str| text.split(' ').map(Id::new).collect::<Vec<_>>();
        let told = |before: &str, after: &str| {
            let (before, after) = (ids(before), ids(after));
            let order = OrderChange {
                server: None,
                before,
                after,
            };
            turned(&order).map(|(first, then)| format!("{first} before {then}"))
        };
        assert_eq!(told("a b c", "a n b c"), None);
        assert_eq!(told("a b c", "c"), None);
        assert_eq!(told("a b c", "a n c b"), Some("c before b".into()));
    }

    #[test]
    fn what_is_left_to_it_is_not_asked() {
        let (plan, inventory) = world(&[
            "drip-lines 2.3 2.5 !server !safe",
            "seed-vault 4.0 4.1 !server !bound",
        ]);
        let matters = matters(&plan, &inventory, &Notations::default());
        let asked = |may: &[Matter]| {
            let may = may.iter().copied().collect();
            let not_left = not_left(&matters, &may);
            let words = not_left.keys().map(|matter| matter.as_str());
            words.collect::<Vec<_>>().join(" ")
        };
        assert_eq!(asked(&[]), "updates world-bound");
        assert_eq!(asked(&Matter::USUAL), "world-bound");
        assert_eq!(asked(&[Matter::Updates, Matter::WorldBound]), "");
    }

    #[test]
    fn each_word_is_written_as_it_is_read() {
        for matter in Matter::ALL {
            let word = serde_json::to_string(&matter).unwrap();
            assert_eq!(word, format!("{:?}", matter.as_str()));
        }
    }
}
