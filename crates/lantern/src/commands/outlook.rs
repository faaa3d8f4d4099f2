//! `lantern outlook`

use super::open_to_look;
use super::question::{SourceArgs, tell_left_out};
use super::survey::onto;
use crate::answers;
use crate::candidates;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count};
use crate::progress::during;
use clap::Args;
use clap_complete::ArgValueCandidates;
use lantern_core::component::Id;
use lantern_core::outlook::{self, Outlook, Row, Standing, Together};
use lantern_core::resolve::{Policy, Prefer};
use lantern_core::version::{Version, VersionFault};
use lantern_host::config::Server;
use lantern_host::ledger::Ledger;
use lantern_host::planning::{self, Terms};
use lantern_host::{Error, Result};
use std::path::PathBuf;

/// Columns shown when no version is named: the latest.
const COLUMNS: usize = 6;

/// Show who is ready for which server version, and which stops lead there
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern outlook --catalogue depot/verdance.catalogue.json\n  lantern outlook --updates      newer releases for the version you run\n  lantern outlook --watch-for 5.5"
)]
pub struct OutlookArgs {
    /// The server versions to look at; otherwise the installed one and the latest
    #[arg(long, value_name = "VERSION")]
    to: Vec<String>,
    #[command(flatten)]
    sources: SourceArgs,
    /// Print one line, and exit with 0 only when everything is ready for this version
    #[arg(long, value_name = "VERSION", conflicts_with = "to")]
    watch_for: Option<String>,
    /// Print one line, and exit with 0 only when players with this version of a kind of client can be let in: on the server
    /// version that runs, or on a later one
    #[arg(long, value_name = "KIND=VERSION", conflicts_with_all = ["to", "watch_for"], add = ArgValueCandidates::new(candidates::clients))]
    watch_for_client: Option<String>,
    /// Put it onto a page for a browser
    #[arg(long, value_name = "FILE.html", conflicts_with_all = ["watch_for", "watch_for_client", "updates"])]
    page: Option<PathBuf>,
    /// Only newer releases for the server version that runs, a line each; the exit status is 3 when there are any
    #[arg(long, conflicts_with_all = ["to", "watch_for", "watch_for_client"])]
    updates: bool,
}

/// Shows the outlook; the exit status is 3 when the version watched for is not ready.
pub fn run(args: &OutlookArgs, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let mut ledger = Ledger::open(&server.folder)?;
    args.sources.tell_none(server, look);
    args.sources.tell_unlike(server, look);
    let notation = server.family.versions.server;
    let read = |text: &String| {
        let version = Version::parse(text, notation)?;
        let why = "a server version has a number in it";
        match text.contains(|c: char| c.is_ascii_digit()) {
            true => Ok(version),
            false => Err(Error::from(VersionFault {
                text: text.clone(),
                why,
            })),
        }
    };
    if let Some(players) = &args.watch_for_client {
        let status = watch_client(players, args, server, &mut ledger, common, look)?;
        return Ok(looked.status(status));
    }
    if args.updates {
        let status = updates(args, server, &mut ledger, look)?;
        return Ok(looked.status(status));
    }
    let terms = Terms {
        to: planning::BEST.into(),
        ..Terms::default()
    };
    let question = during("files and releases are read", || {
        planning::question(server, &mut ledger, &args.sources.named(), &terms)
    })?;
    tell_left_out(&question.stale, &question.left_out, look);
    let request = &question.request;
    let asked: Vec<&String> = args.to.iter().chain(&args.watch_for).collect();
    let mut versions: Vec<Version> = match asked.is_empty() {
        true => outlook::versions(request),
        false => asked.into_iter().map(read).collect::<Result<_>>()?,
    };
    versions.sort();
    versions.dedup();
    let installed = question.survey.inventory.server_version();
    if args.to.is_empty() && args.watch_for.is_none() {
        versions.retain(|version| installed.is_none_or(|installed| version >= installed));
        versions.drain(..versions.len().saturating_sub(COLUMNS));
    }
    let outlook = outlook::outlook(request, versions);
    if let Some(version) = &args.watch_for {
        let status = watch(look, &server.config.name, version, &outlook);
        return Ok(looked.status(status));
    }
    let stops = outlook
        .versions
        .iter()
        .map(|version| outlook::stops(request, version))
        .collect::<Vec<_>>();
    let paper = args.page.as_ref().map(|_| look.onto_page());
    let look = paper.as_ref().unwrap_or(look);
    if look.json {
        look.answer(&answers::OutlookTable::new(&outlook, &stops));
    } else {
        show(look, &server.config.name, installed, &outlook, &stops);
        for learned in &request.learned {
            look.say(&format!("\n  {}", learned.told(&request.build)));
        }
        let best = outlook.highest_for_all();
        if let Some(version) = best.filter(|version| Some(*version) != installed) {
            let sources = args.sources.words();
            look.next(&common.next(&format!("plan --to {version}{sources}")));
        }
    }
    if let Some(out) = &args.page {
        let title = format!("{}: the outlook", server.config.name);
        onto(out, &title, common, look)?;
    }
    Ok(looked.status(fail::DONE))
}

/// Tells newer releases of what is installed that fit together on the version that runs, one line each.
fn updates(args: &OutlookArgs, server: &Server, ledger: &mut Ledger, look: &Look) -> Result<u8> {
    let terms = Terms {
        to: planning::SAME.into(),
        policy: Policy {
            prefer: Prefer::Newest,
            ..Policy::default()
        },
        ..Terms::default()
    };
    let question = during("files and releases are read", || {
        planning::question(server, ledger, &args.sources.named(), &terms)
    })?;
    tell_left_out(&question.stale, &question.left_out, look);
    let selection = planning::select(&question.request)?;
    let newer = planning::newer(&selection).into_iter();
    let newer: Vec<(Id, String, String)> = newer.map(|(id, (from, to))| (id, from, to)).collect();
    let is_checked = !question.request.offers.is_empty();
    let status = match (newer.is_empty(), is_checked) {
        (true, true) => fail::DONE,
        (true, false) => fail::ERROR,
        (false, _) => fail::NO,
    };
    if look.json {
        look.answer(&answers::Updates::new(&newer));
        return Ok(status);
    }
    for (id, from, to) in &newer {
        look.say(&format!("{id} {from} → {to}"));
    }
    if newer.is_empty() && is_checked {
        look.say("No newer release fits together with the rest on the installed server version.");
    }
    Ok(status)
}

/// Tells whether players with a kind of client can be let in: as it is, by a plan on the server version that runs, or by one on
/// whichever fits.
fn watch_client(
    players: &str,
    args: &OutlookArgs,
    server: &Server,
    ledger: &mut Ledger,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let mut can = answers::CanJoin::new(&server.config.name, players);
    for to in [planning::SAME, planning::BEST] {
        let terms = Terms {
            to: to.into(),
            admit: vec![players.to_owned()],
            ..Terms::default()
        };
        let question = during("files and releases are read", || {
            planning::question(server, ledger, &args.sources.named(), &terms)
        })?;
        if to == planning::SAME {
            tell_left_out(&question.stale, &question.left_out, look);
        }
        let request = &question.request;
        match planning::select(request) {
            Ok(selection) => {
                can.found(to, request, &selection);
                break;
            }
            Err(error) if can.why.is_none() => can.why = Some(error.to_string()),
            Err(_) => {}
        }
        // Which versions there are of a program outside the folder is not known here.
        if request.build_outside {
            break;
        }
    }
    let sources = args.sources.words();
    let (told, status) = match (&can.with, can.needs_plan) {
        (Some(_), Some(false)) => (format!("{players} may join as it is"), fail::DONE),
        (Some(to), _) => {
            let plan = common.next(&format!("plan --to {to} --admit {players}{sources}"));
            let by = can.by.join(", ");
            (
                format!("{players} can be let in by {by}: {plan}"),
                fail::DONE,
            )
        }
        (None, _) => {
            let why = can.why.as_deref().unwrap_or_default().lines();
            let why = why.skip(1).map(str::trim);
            let why: Vec<&str> = why.take_while(|line| *line != "What helps:").collect();
            let why = why.join(" ");
            (format!("{players} cannot be let in yet: {why}"), fail::NO)
        }
    };
    match look.json {
        true => look.answer(&can),
        false => look.say(&format!("{}: {told}", server.config.name)),
    }
    Ok(status)
}

fn watch(look: &Look, server: &str, version: &str, outlook: &Outlook) -> u8 {
    let ready = outlook.together.first() == Some(&Together::All);
    let late: Vec<&str> = outlook
        .rows
        .iter()
        .filter(|row| !row.off && !row.standings.iter().all(Standing::is_ready))
        .map(|row| row.id.as_str())
        .collect();
    if look.json {
        look.answer(&answers::Ready {
            server,
            version,
            ready,
            not_ready: late,
        });
    } else if ready {
        look.say(&format!("{server}: everything fits together for {version}"));
    } else {
        look.say(&format!(
            "{server}: not ready for {version}: {}",
            late.join(", ")
        ));
    }
    if ready { fail::DONE } else { fail::NO }
}

fn show(
    look: &Look,
    server: &str,
    installed: Option<&Version>,
    outlook: &Outlook,
    stops: &[Option<Vec<Version>>],
) {
    let now = installed.map_or("of unknown version".into(), ToString::to_string);
    let best = outlook.highest_for_all();
    let all = match best {
        Some(version) if Some(version) == installed => "No later version fits everything.".into(),
        Some(version) => format!("The highest version that fits everything is {version}."),
        None => "No version fits everything.".to_owned(),
    };
    look.say(&look.paint(Means::Title, &format!("{server} is at {now}. {all}")));
    if let Some(version) = outlook
        .highest_without_loss()
        .filter(|version| Some(*version) != best)
    {
        look.say(&format!(
            "  {version} is possible if add-ons that the world does not depend on may be removed."
        ));
    }
    look.say("");
    let mut heads = vec!["kind".to_owned(), "id".into(), "installed".into()];
    heads.extend(outlook.versions.iter().map(ToString::to_string));
    let rows = outlook.rows.iter().map(|row| {
        let mut cells = vec![
            row.kind.to_string(),
            match row.off {
                true => format!("{} (off)", row.id),
                false => row.id.to_string(),
            },
            row.installed.to_string(),
        ];
        cells.extend(row.standings.iter().map(|standing| word(look, standing)));
        cells
    });
    let mut rows: Vec<Vec<String>> = rows.collect();
    let mut totals = vec![String::new(), "ready".into(), String::new()];
    let running: Vec<&Row> = outlook.rows.iter().filter(|row| !row.off).collect();
    totals.extend((0..outlook.versions.len()).map(|at| {
        let ready = running.iter().filter(|row| row.standings[at].is_ready());
        format!("{} of {}", ready.count(), running.len())
    }));
    rows.push(totals);
    let players = outlook.clients.iter().map(|row| {
        let joins = |words: &Option<String>| match words {
            Some(words) => words.clone(),
            None => look.paint(Means::Bad, "none"),
        };
        let mut cells = vec!["client".to_owned(), row.client.clone(), joins(&row.now)];
        cells.extend(row.could.iter().map(joins));
        cells
    });
    let players: Vec<Vec<String>> = players.collect();
    let mut fits = vec![String::new(), "together".into(), String::new()];
    fits.extend(outlook.together.iter().map(|together| match together {
        Together::All => look.paint(Means::Good, "all fit"),
        Together::WithoutSome => look.paint(Means::Caution, "without some"),
        Together::No => look.paint(Means::Bad, "no"),
    }));
    rows.push(fits);
    rows.extend(players);
    let heads: Vec<&str> = heads.iter().map(String::as_str).collect();
    look.table(&heads, rows);
    for (version, late) in outlook.versions.iter().zip(&outlook.held_back) {
        for (id, others) in late {
            let others: Vec<&str> = others.iter().map(Id::as_str).collect();
            let others = match others.len() {
                0 => String::new(),
                n => format!(
                    " and with it {}: {}",
                    count(n, "component", "components"),
                    others.join(", ")
                ),
            };
            look.say(&format!("\n  {version}: held back by {id}{others}"));
        }
    }
    for (version, way) in outlook.versions.iter().zip(stops) {
        match way {
            Some(way) if way.len() > 1 => {
                let way: Vec<&str> = way.iter().map(Version::as_str).collect();
                look.say(&format!(
                    "\n  The way to {version} has {} stops: {}",
                    way.len(),
                    way.join(", then ")
                ));
            }
            _ => {}
        }
    }
}

fn word(look: &Look, standing: &Standing) -> String {
    match standing {
        Standing::Fits => look.paint(Means::Good, "fits"),
        Standing::Ready { version } => look.paint(Means::Good, &format!("ready {version}")),
        Standing::Replaced { by } => look.paint(Means::Caution, &format!("replaced by {by}")),
        Standing::Early { version } => look.paint(Means::Caution, &format!("early {version}")),
        Standing::Unknown => look.paint(Means::Aside, "unknown"),
        Standing::Late => look.paint(Means::Bad, "late"),
    }
}
