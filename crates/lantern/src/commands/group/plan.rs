//! `lantern group plan`

use super::{FEW, OfGroup, alike_as_one, meant, names};
use crate::answers::group::GroupPlanned;
use crate::commands::armed::summary;
use crate::commands::fetching;
use crate::commands::question::{SourceArgs, TermArgs, tell_left_out};
use crate::common::shell_word;
use crate::fail;
use crate::look::{Look, Means, count};
use crate::progress::during;
use clap::Args;
use lantern_core::component::{Id, Kind};
use lantern_core::group::Agreed;
use lantern_core::plan::Fate;
use lantern_core::supply::Wanted;
use lantern_host::config::Server;
use lantern_host::group::fault::GroupFault;
use lantern_host::group::{Arms, Found, OnePlan, Targets};
use lantern_host::planning::Terms;
use lantern_host::{Error, Result};
use std::collections::BTreeMap;
use std::path::Path;

/// What a group is asked to become.
#[derive(Debug, Args)]
pub struct PlanOfGroup {
    #[command(flatten)]
    of: OfGroup,
    /// The server version to move to, or a range; "same" keeps it, "best" takes the newest that fits all of them. With servers of several programs,
    /// of each: PROGRAM=VERSION
    #[arg(long, value_name = "VERSION", required = true)]
    to: Vec<String>,
    #[command(flatten)]
    sources: SourceArgs,
    #[command(flatten)]
    terms: TermArgs,
    /// Choose a variant of a pack, at those that carry it; it is remembered
    #[arg(long, value_name = "ID=VARIANT")]
    variant: Vec<String>,
    /// Fetch the files that it needs, where they are not here yet
    #[arg(long)]
    gather: bool,
    /// Only look: the plans are shown, and none is armed
    #[arg(long)]
    what_if: bool,
}

/// Asks all servers at once, draws each one's own plan, and arms them.
pub fn run(args: &PlanOfGroup, look: &Look) -> Result<u8> {
    let file = meant(&args.of)?;
    let found = Found::read(&file)?;
    let sources = args.sources.named();
    let arms = match args.what_if {
        true => Arms::No,
        false => Arms::Yes,
    };
    let terms = Terms {
        variant: args.variant.clone(),
        ..args.terms.to("")
    };
    let to = targets(&args.to)?;
    let asked = during("files and releases are read", || {
        found.asked(&sources, &terms, &to, arms)
    })?;
    let left_out: Vec<(String, String)> = asked.left_out.iter().cloned().collect();
    tell_left_out(&asked.stale, &left_out, look);
    let agreed = during("what fits all of them is looked for", || {
        found.agreed(&asked)
    })?;
    let mut fetched: Vec<(usize, Wanted)> = Vec::new();
    let plans = loop {
        let drawn = during("plans are drawn", || found.drawn(&asked, &agreed));
        let wanted = match drawn {
            Err(Error::Group(GroupFault::ToFetch(wanted))) if args.gather => wanted,
            drawn => break drawn?,
        };
        let is_new = |it: &&(usize, Wanted)| !fetched.contains(it);
        if !wanted.iter().any(|it| is_new(&it)) {
            return Err(GroupFault::ToFetch(wanted).into());
        }
        for (server, it) in wanted.iter().filter(is_new) {
            fetch(&found, *server, it, look)?;
        }
        fetched.extend(wanted);
    };
    let plans = match arms {
        Arms::Yes => found.arm(&asked, plans)?,
        Arms::No => plans,
    };
    if look.json {
        look.answer(&GroupPlanned::new(&found, &asked, &agreed, &plans));
    } else {
        show(&found, &agreed, &plans, look);
        if !asked.passed_over.is_empty() {
            let ids: Vec<&str> = asked.passed_over.iter().map(Id::as_str).collect();
            look.say(&format!(
                "\n  In a drop folder, and carried by none of them: {}. What all are to carry stands in `all` of {}; or put it in: --add ID.",
                ids.join(", "),
                shell_word(&file)
            ));
        }
        show_next(&found, &file, &plans, arms, look);
    }
    Ok(match left_out.is_empty() {
        true => fail::DONE,
        false => fail::NO,
    })
}

/// Where servers are to come to, as it is typed: a version, or one by program.
fn targets(typed: &[String]) -> Result<Targets> {
    let mut to = Targets::default();
    for text in typed {
        let is_id = |id: &str| id.starts_with(char::is_alphanumeric);
        let twice = match text.split_once('=').filter(|(id, _)| is_id(id)) {
            Some((id, version)) => {
                let known = to.by_program.insert(Id::new(id), version.to_owned());
                known.map(|_| id.to_owned())
            }
            None => to.others.replace(text.clone()),
        };
        if let Some(twice) = twice {
            return Err(GroupFault::ToTwice(twice).into());
        }
    }
    Ok(to)
}

/// Fetches a file: here, or by the lantern that works at a server there.
fn fetch(found: &Found, server: usize, it: &Wanted, look: &Look) -> Result<()> {
    let it = std::slice::from_ref(it);
    let missing = during("files are fetched", || found.fetched_there(server, it))?;
    let Some(missing) = missing else {
        let server = Server::open(found.members[server].here()?)?;
        return fetching::fetch(&server, it, &[], false, look).map(drop);
    };
    let name = found.group.servers[server].called();
    for (it, why) in missing {
        let text = format!("  {name}: {}: {why}", it.what);
        look.talk(&look.paint_error(Means::Bad, &text));
    }
    Ok(())
}

fn show(found: &Found, agreed: &Agreed, plans: &[OnePlan], look: &Look) {
    let mut to: Vec<&str> = Vec::new();
    for one in plans {
        if !to.contains(&&*one.plan.to) {
            to.push(&one.plan.to);
        }
    }
    let to = to.join(" and ");
    let proved = match agreed.proved {
        true => "",
        false => "; that nothing would be better was not proved",
    };
    let title = format!(
        "{}: {} to {to}, with one release of what they share{proved}.",
        found.group.name,
        count(plans.len(), "server", "servers"),
    );
    look.say(&look.paint(Means::Title, &title));
    look.say("");
    let rows = found.group.servers.iter().zip(plans).map(|(server, one)| {
        let changes = match one.plan.is_empty() {
            true => "nothing to do".to_owned(),
            false => summary(&one.plan.components),
        };
        let waits = one.plan.undecided().count();
        let from = one.plan.from.clone();
        // Of many servers those that are alike are one row, in which no plan is named.
        let armed = match &one.armed {
            Some(name) if plans.len() <= FEW => Some(format!("{name} armed")),
            Some(_) => Some("armed".to_owned()),
            None => None,
        };
        let waits = match waits {
            0 => None,
            waits => Some(format!(
                "waits for {}",
                count(waits, "decision", "decisions")
            )),
        };
        let means = match waits {
            Some(_) => Means::Caution,
            None => Means::Good,
        };
        let state: Vec<String> = armed.into_iter().chain(waits).collect();
        let state = match state.join(", ") {
            none if none.is_empty() => none,
            state => look.paint(means, &state),
        };
        vec![
            server.called().to_owned(),
            from.unwrap_or_else(|| "unknown".into()),
            changes,
            state,
        ]
    });
    let mut rows: Vec<Vec<String>> = rows.collect();
    let mut heads = vec!["server", "from", "changes", "plan"];
    if rows.iter().all(|row| row[3].is_empty()) {
        heads.pop();
        rows.iter_mut().for_each(|row| row.truncate(3));
    }
    look.table(&heads, alike_as_one(rows));
    show_moves(found, agreed, plans, look);
    let mut notes: BTreeMap<&String, Vec<usize>> = BTreeMap::new();
    for (server, one) in plans.iter().enumerate() {
        for note in &one.plan.notes {
            notes.entry(note).or_default().push(server);
        }
    }
    if !notes.is_empty() {
        look.say("");
    }
    for (note, servers) in notes {
        let note = format!("{note} (at {})", at(found, &servers));
        look.say(&look.paint(Means::Caution, &look.row("note:", 5, &note)));
    }
}

/// At which servers, in words.
fn at(found: &Found, servers: &[usize]) -> String {
    match servers.len() == found.group.servers.len() {
        true => "all".to_owned(),
        false => names(found, servers),
    }
}

/// What moves of what they share.
fn show_moves(found: &Found, agreed: &Agreed, plans: &[OnePlan], look: &Look) {
    let moves = moves(agreed, plans);
    if moves.is_empty() {
        return;
    }
    look.say("");
    let rows = moves.iter().map(|((id, from, to), servers)| {
        let from = from.clone().unwrap_or_else(|| "new".into());
        vec![id.to_string(), from, to.clone(), at(found, servers)]
    });
    look.table(&["shared", "from", "to", "at"], rows.collect());
}

/// What moves of what they share: from which version to which, with the servers at which it does.
fn moves(agreed: &Agreed, plans: &[OnePlan]) -> BTreeMap<(Id, Option<String>, String), Vec<usize>> {
    let mut moves: BTreeMap<_, Vec<usize>> = BTreeMap::new();
    for (server, one) in plans.iter().enumerate() {
        let changes = one.plan.components.iter();
        for change in changes.filter(|change| change.verdict != Fate::Unchanged) {
            let is_build = change.kind == Kind::Build;
            let shared = is_build || agreed.at[server].contains_key(&change.id);
            if let Some(to) = change.to.as_ref().filter(|_| shared) {
                let what = (change.id.clone(), change.from.clone(), to.clone());
                moves.entry(what).or_default().push(server);
            }
        }
    }
    moves
}

fn show_next(found: &Found, file: &Path, plans: &[OnePlan], arms: Arms, look: &Look) {
    if arms == Arms::No {
        look.say("\nThis armed nothing.");
        return;
    }
    let armed = plans.iter().filter(|one| one.armed.is_some()).count();
    if armed == 0 {
        look.say("\nThere is nothing to do at any of them.");
        return;
    }
    look.say(&match armed == plans.len() {
        true => "\nEvery server's own plan is armed.".to_owned(),
        false => format!(
            "\n{} armed. At the others there is nothing to do.",
            count(armed, "plan is", "plans are")
        ),
    });
    let waiting = found.members.iter().zip(plans);
    let mut waiting = waiting.filter_map(|(member, one)| {
        let (_, asked) = one.plan.undecided().next()?;
        Some((member, asked))
    });
    let Some((member, asked)) = waiting.next() else {
        return look.next(&format!("lantern group changeover {}", shell_word(file)));
    };
    look.next(&format!(
        "lantern group decide {} mine {}",
        asked.id,
        shell_word(file)
    ));
    let Ok(one) = member.paste(&format!("settings decide {} mine", asked.id), shell_word) else {
        return;
    };
    look.say(&format!(
        "Or as it is shipped: theirs. At one of them alone: {one}"
    ));
}
