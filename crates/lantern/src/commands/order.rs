//! `lantern order`

use super::{OneOf, answer_each, open_settled, open_to_look, plan};
use crate::answers;
use crate::candidates;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count};
use crate::progress::during;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use lantern_core::component::Id;
use lantern_core::family::OrderRule;
use lantern_core::inventory::{Finding, Severity, Turn};
use lantern_core::order::{Follows, Link};
use lantern_host::ledger::Ledger;
use lantern_host::planning;
use lantern_host::survey::fault::SurveyFault;
use lantern_host::survey::{Depth, PartSeen, survey};
use lantern_host::{Error, Result};

/// Findings that are about the load order.
const OF_ORDER: [&str; 9] = [
    "category-empty",
    "line-without-addon",
    "not-started",
    "only-one",
    "order-encoding",
    "order-file-missing",
    "start-circle",
    "started-too-early",
    "twice",
];

/// Show in which order add-ons are started, why each stands where it does, and what is wrong with that
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern order\n  lantern order --why drip-lines\n  lantern order put"
)]
pub struct OrderArgs {
    #[command(subcommand)]
    what: Option<OrderCommand>,
    /// Tell all of one add-on: what comes before it, what comes after it, and why
    #[arg(long, value_name = "ID", add = ArgValueCandidates::new(candidates::ids))]
    why: Option<String>,
    #[command(flatten)]
    which: OneOf,
}

#[derive(Debug, Subcommand)]
enum OrderCommand {
    /// Plan the least change that puts the order right; a changeover carries it out
    Put,
}

/// Shows the load order, or plans to put it right.
pub fn run(args: &OrderArgs, common: &Common, look: &Look) -> Result<u8> {
    match args.what {
        Some(OrderCommand::Put) => put(common, look),
        None => show(args, common, look),
    }
}

fn put(common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "order put")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let drawn = planning::put_order(&server, &mut ledger)?;
    let nothing = "The load order is right: there is nothing to do.";
    plan::arm_and_show(drawn, nothing, &server, common, look)
}

/// The load order of one server, with what is wrong with it.
struct Seen<'a> {
    part: &'a PartSeen,
    follows: Follows,
    gave_way: Vec<Link>,
    turns: Vec<Turn>,
    others: Vec<(Id, String)>,
    findings: Vec<&'a Finding>,
}

impl<'a> Seen<'a> {
    fn of(part: &'a PartSeen, sooner: &[(Id, Id)]) -> Seen<'a> {
        let inventory = &part.inventory;
        let turns = inventory.turns(sooner);
        let (follows, gave_way) = turns.unwrap_or_else(|_| (inventory.follows(sooner), Vec::new()));
        let (turns, others) =
            inventory.arranged(&part.server.family, part.order.as_ref(), &follows);
        let findings = inventory.findings.iter();
        let findings = findings.filter(|finding| OF_ORDER.contains(&finding.code));
        Seen {
            findings: findings.collect(),
            part,
            follows,
            gave_way,
            turns,
            others,
        }
    }
}

fn show(args: &OrderArgs, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let chosen = server.chosen(args.which.of.as_deref())?;
    let mut ledger = Ledger::open(&server.folder)?;
    let found = during("files are read", || {
        survey(server, &mut ledger, Depth::Usual)
    })?;
    let sooner = server.sooner();
    let each = chosen.iter().map(|one| Seen::of(found.part(one), &sooner));
    let each: Vec<Seen<'_>> = each.collect();
    if let Some(id) = &args.why {
        let one = args.which.one(server)?;
        let of_it = |seen: &&Seen<'_>| seen.part.server.which() == one.which();
        let seen = each.iter().find(of_it).unwrap_or(&each[0]);
        return tell_one(&Id::new(&server.family.ids.spell(id)), seen, look);
    }
    let mut findings = each.iter().flat_map(|seen| &seen.findings);
    let is_wrong = findings.any(|it| it.severity == Severity::Wrong);
    let status = looked.status(if is_wrong { fail::NO } else { fail::DONE });
    if look.json {
        let each = each.iter().map(|seen| {
            let findings = seen.findings.clone();
            let (turns, gave_way) = (&seen.turns, &seen.gave_way);
            let shown = answers::OrderShown::new(turns, &seen.others, gave_way, findings);
            (seen.part.server.which().map(str::to_owned), shown)
        });
        answer_each(look, each.collect());
        return Ok(status);
    }
    for (index, seen) in each.iter().enumerate() {
        if index > 0 {
            look.say("");
        }
        tell(seen, look);
    }
    let can_be_put =
        |finding: &&Finding| ["started-too-early", "category-empty"].contains(&finding.code);
    if each.iter().any(|seen| seen.findings.iter().any(can_be_put)) {
        look.next(&common.next("order put"));
    }
    Ok(status)
}

/// The order of one server.
fn tell(seen: &Seen<'_>, look: &Look) {
    tell_turns(seen.part, &seen.turns, look);
    if !seen.others.is_empty() {
        look.say(&look.paint(Means::Title, "\nWithout an entry:"));
        look.say("");
        let rows = seen.others.iter();
        let rows = rows.map(|(id, why)| vec![id.to_string(), why.clone()]);
        look.table(&["id", "why"], rows.collect());
    }
    for link in &seen.gave_way {
        look.say(&format!(
            "\n  {link}: this gives way, as it leads into a circle"
        ));
    }
    for finding in &seen.findings {
        look.say("");
        super::survey::show_finding(finding, look);
    }
}

fn tell_turns(part: &PartSeen, turns: &[Turn], look: &Look) {
    let name = &part.server.title();
    let place = part.order.as_ref().map(|order| order.path().as_str());
    let entries = count(turns.len(), "entry", "entries");
    let title = match (place, part.inventory.order.decides) {
        (Some(place), true) => format!("{name}: {entries} in {place}, started from top to bottom."),
        (Some(place), false) => {
            let rule = part.server.family.order.as_ref();
            let off = match rule.is_some_and(OrderRule::runs_unlisted) {
                true => " of what is off",
                false => "",
            };
            format!("{name}: {entries}{off} in {place}; the server sorts by itself.")
        }
        (None, true) if !turns.is_empty() => {
            format!("{name}: {entries}, by the names of what is started.")
        }
        (None, _) => {
            format!("{name}: the server sorts by itself, and no file says in which order.")
        }
    };
    look.say(&look.paint(Means::Title, &title));
    if turns.is_empty() {
        return;
    }
    look.say("");
    let rows = turns.iter().map(|turn| {
        let is_category =
            turn.starts.len() > 1 || turn.starts.iter().any(|id| id.as_str() != turn.entry);
        let starts: Vec<&str> = turn.starts.iter().map(Id::as_str).collect();
        let starts = match is_category {
            true => format!("starts {}; ", starts.join(", ")),
            false => String::new(),
        };
        let after: Vec<String> = turn.after.iter().map(ToString::to_string).collect();
        let why = match after.is_empty() {
            true => format!("{starts}as you arranged it"),
            false => format!("{starts}{}", after.join("; ")),
        };
        vec![
            line_of(turn),
            turn.entry.clone(),
            if turn.on { "on" } else { "off" }.into(),
            if turn.on && !turn.starts.is_empty() {
                why
            } else {
                String::new()
            },
        ]
    });
    look.table(
        &["line", "id", "runs", "why it stands there"],
        rows.collect(),
    );
}

/// Where an entry stands: its line, with the file where that is not the one that the order begins in.
fn line_of(turn: &Turn) -> String {
    match (&turn.file, turn.line) {
        (Some(file), Some(line)) => format!("{file}:{line}"),
        (_, line) => line.map_or(String::new(), |line| line.to_string()),
    }
}

/// All of one add-on.
fn tell_one(id: &Id, seen: &Seen<'_>, look: &Look) -> Result<u8> {
    let inventory = &seen.part.inventory;
    if inventory.get(id).is_none() {
        let ids = inventory.components.iter().map(|c| c.facts.id.as_str());
        let near = lantern_core::hint::nearest(id.as_str(), ids).map(Id::new);
        return Err(Error::Survey(SurveyFault::NotInstalled {
            id: id.clone(),
            near,
        }));
    }
    let turn = seen.turns.iter().find(|turn| turn.starts.contains(id));
    let links = seen.follows.iter().flat_map(|(later, firsts)| {
        firsts.iter().map(move |(first, why)| Link {
            later: later.clone(),
            first: first.clone(),
            why: why.clone(),
        })
    });
    let links: Vec<Link> = links.collect();
    let before: Vec<&Link> = links.iter().filter(|link| link.later == *id).collect();
    let behind: Vec<&Link> = links.iter().filter(|link| link.first == *id).collect();
    if look.json {
        look.answer(&answers::OrderWhy::new(id, turn, &before, &behind));
        return Ok(fail::DONE);
    }
    let stands = match turn {
        None => "has no entry".into(),
        Some(turn) => {
            let by = match turn.entry == id.as_str() {
                true => String::new(),
                false => format!(" by the entry {}", turn.entry),
            };
            let line = turn
                .line
                .map_or(String::new(), |line| format!(", line {line}"));
            format!("is started{by}{line}")
        }
    };
    look.say(&look.paint(Means::Title, &format!("{id} {stands}.")));
    let part = |title: &str, links: &[&Link]| {
        if !links.is_empty() {
            look.say(&format!("  {title}:"));
        }
        links
            .iter()
            .for_each(|link| look.say(&format!("    {link}")));
    };
    part("what comes before it", &before);
    part("what comes after it", &behind);
    if before.is_empty() && behind.is_empty() {
        look.say("  Nothing asks for a place of it: it stands where you put it.");
    }
    Ok(fail::DONE)
}
