//! `lantern group changeover`

use super::{OfGroup, meant, names};
use crate::answers::group::{GroupBecame, GroupChangeoverDone, GroupSame, GroupServerDone};
use crate::commands::undo::UndoArgs;
use crate::commands::{armed, changeover, heed_interrupts, undo};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count};
use crate::progress::during;
use clap::Args;
use lantern_core::component::Id;
use lantern_core::group::{Row, compare};
use lantern_host::Result;
use lantern_host::config::Span;
use lantern_host::group::fault::GroupFault;
use lantern_host::group::{Found, Standing};
use lantern_host::interrupt;
use lantern_host::night::How;
use std::path::Path;

/// How what was planned for a group is carried out.
#[derive(Debug, Args)]
pub struct ChangeoverOfGroup {
    #[command(flatten)]
    of: OfGroup,
    /// Where it goes wrong at one of them, take back what was carried out at the others, too
    #[arg(long)]
    all_or_none: bool,
    /// Carry out only the first that is left, and look at it for as long as you like; given again without this, it goes on with the rest
    #[arg(long)]
    first: bool,
    /// How long before each stop players are told, instead of what each lantern.toml says: 10m,1m,10s
    #[arg(long, value_name = "TIMES", value_delimiter = ',')]
    warn: Option<Vec<Span>>,
    /// Leave servers up that were down before; otherwise they are only started to see that it works
    #[arg(long)]
    start: bool,
}

/// Carries the servers' plans out, one after another, in the group's order; given again it goes on where it ended.
pub fn run(args: &ChangeoverOfGroup, common: &Common, look: &Look) -> Result<u8> {
    heed_interrupts(look);
    let file = meant(&args.of)?;
    let found = Found::read(&file)?;
    let standings = during("servers are looked at", || found.standings())?;
    let mut each: Vec<(GroupBecame, Option<String>)> = Vec::new();
    let mut back = Vec::new();
    for (server, standing) in found.group.servers.iter().zip(&standings) {
        each.push(match standing {
            Standing::Done => (GroupBecame::DoneBefore, None),
            Standing::Nothing => (GroupBecame::Nothing, None),
            Standing::Waits | Standing::CutOff(_) => (GroupBecame::Waits, None),
            Standing::Back(why) => {
                back.push((server.at.clone(), why.clone()));
                (GroupBecame::Failed, Some(why.clone()))
            }
        });
    }
    if !back.is_empty() {
        return Err(GroupFault::NotArmed(back).into());
    }
    let to_do = standings.iter().enumerate();
    let to_do = to_do.filter(|(_, it)| matches!(it, Standing::Waits | Standing::CutOff(_)));
    let mut to_do: Vec<(usize, &Standing)> = to_do.collect();
    let is_part = args.first && to_do.len() > 1;
    if is_part {
        to_do.truncate(1);
    }
    let without = common.next(&format!("group changeover {} --yes", shell_word(&file)));
    if !to_do.is_empty() {
        announce(&found, &to_do, &each, args.all_or_none, look);
        armed::confirm("Carry it out?", &without, common, look)?;
    }
    let how = How {
        start: args.start,
        warn: args.warn.clone(),
        ..How::default()
    };
    let inner = for_each(look);
    let mut status = fail::DONE;
    for (number, (index, standing)) in to_do.iter().enumerate() {
        let name = &found.group.servers[*index].at;
        if interrupt::between() {
            look.talk(&look.paint_error(Means::Caution, "\nCalled off: the rest is not begun."));
            status = fail::NO;
            break;
        }
        let title = format!("\n{name}, {} of {}", number + 1, to_do.len());
        look.talk(&look.paint_error(Means::Title, &title));
        let goes_on = matches!(standing, Standing::CutOff(_));
        let own = common.of(&found.folders[*index]);
        let done = changeover::of_one(goes_on, &how, &own, &inner);
        let (own_status, why) = match done {
            Ok(status) => (status, None),
            Err(error) => (fail::tell(&error, &own, &inner), Some(error.to_string())),
        };
        if own_status == fail::DONE {
            each[*index].0 = GroupBecame::Done;
            continue;
        }
        let why = why.unwrap_or_else(|| "it did not come up as it should".into());
        each[*index] = (GroupBecame::Failed, Some(why));
        status = own_status;
        break;
    }
    let is_wrong = each
        .iter()
        .any(|(became, _)| *became == GroupBecame::Failed);
    if is_wrong && args.all_or_none {
        take_back(
            &found,
            &mut each,
            &UndoArgs::default(),
            common,
            &inner,
            look,
        );
    }
    let is_whole = status == fail::DONE && !is_part;
    let same = is_whole.then(|| same(&found)).transpose()?;
    if same.as_ref().is_some_and(|it| !it.differs.is_empty()) {
        status = fail::NO;
    }
    let answer = GroupChangeoverDone {
        group: found.group.name.clone(),
        servers: each_named(&found, each),
        same,
    };
    match look.json {
        true => look.answer(&answer),
        false => show(&found, &answer, &file, look),
    }
    Ok(status)
}

/// What became of each server's plan, with its name.
pub fn each_named(found: &Found, each: Vec<(GroupBecame, Option<String>)>) -> Vec<GroupServerDone> {
    let servers = found.group.servers.iter().zip(each);
    let servers = servers.map(|(server, (became, why))| GroupServerDone {
        server: server.at.clone(),
        became,
        why,
    });
    servers.collect()
}

/// Of a group there is one answer: what each server's own operation comes to is talk.
pub fn for_each(look: &Look) -> Look {
    match look.json {
        true => look.onto_page(),
        false => look.clone(),
    }
}

/// Says what is about to be done.
fn announce(
    found: &Found,
    to_do: &[(usize, &Standing)],
    each: &[(GroupBecame, Option<String>)],
    all_or_none: bool,
    look: &Look,
) {
    let servers: Vec<usize> = to_do.iter().map(|(index, _)| *index).collect();
    let title = format!(
        "{}: {}, one after another: {}.",
        found.group.name,
        count(servers.len(), "changeover", "changeovers"),
        names(found, &servers),
    );
    look.talk(&look.paint_error(Means::Title, &title));
    for (index, standing) in to_do {
        if let Standing::CutOff(told) = standing {
            let name = &found.group.servers[*index].at;
            look.talk(&format!("  {name} was cut off, and goes on first: {told}"));
        }
    }
    let of = |became: GroupBecame| -> Vec<usize> {
        let own = each.iter().enumerate().filter(|(_, it)| it.0 == became);
        own.map(|(index, _)| index).collect()
    };
    for (became, told) in [
        (GroupBecame::DoneBefore, "done before"),
        (GroupBecame::Nothing, "nothing to do"),
    ] {
        let servers = of(became);
        if !servers.is_empty() {
            look.talk(&format!("  {told} at {}", names(found, &servers)));
        }
    }
    look.talk(match all_or_none {
        true => "  Where it goes wrong at one, that one goes back by itself, and what was done at the others is taken back.",
        false => "  Where it goes wrong at one, that one goes back by itself, and the rest is not begun.",
    });
}

/// Takes back what was carried out, the last first; what is wished of the world is `how`'s.
pub fn take_back(
    found: &Found,
    each: &mut [(GroupBecame, Option<String>)],
    how: &UndoArgs,
    common: &Common,
    inner: &Look,
    look: &Look,
) {
    for index in (0..each.len()).rev() {
        if !matches!(each[index].0, GroupBecame::Done | GroupBecame::DoneBefore) {
            continue;
        }
        let name = &found.group.servers[index].at;
        look.talk(&look.paint_error(Means::Title, &format!("\n{name}: back")));
        interrupt::between();
        let own = common.of(&found.folders[index]);
        let done = undo::of_one(how, &own, inner);
        each[index] = match done {
            Ok(_) => (GroupBecame::TakenBack, None),
            Err(error) => {
                fail::tell(&error, &own, inner);
                (GroupBecame::Stays, Some(error.to_string()))
            }
        };
    }
}

/// Looks at all of them once more, and holds what they carry against one another.
fn same(found: &Found) -> Result<GroupSame> {
    let seen = during("servers are held against one another", || found.surveyed());
    let mut carries = Vec::new();
    for one in seen {
        carries.push(Some(one?.carries));
    }
    let rows = compare(&found.group, &carries);
    let ids = |rows: &mut dyn Iterator<Item = &Row>| -> Vec<Id> {
        rows.map(|row| row.id.clone()).collect()
    };
    let shared = |row: &&Row| row.at.iter().flatten().count() > 1;
    let alike = rows
        .iter()
        .filter(|row| row.differs.is_empty())
        .filter(shared);
    Ok(GroupSame {
        same: alike.clone().filter(|row| !row.is_unread).count(),
        unread: ids(&mut alike.filter(|row| row.is_unread)),
        differs: ids(&mut rows.iter().filter(|row| row.is_wrong())),
    })
}

/// Says what became of each server's plan.
pub fn show_each(found: &Found, each: &[GroupServerDone], look: &Look) {
    look.say("");
    let of = |wanted: &[GroupBecame]| -> Vec<usize> {
        let own = each.iter().enumerate();
        let own = own.filter(|(_, it)| wanted.contains(&it.became));
        own.map(|(index, _)| index).collect()
    };
    let lines = [
        (
            &[GroupBecame::Done, GroupBecame::DoneBefore][..],
            Means::Good,
            "done",
        ),
        (&[GroupBecame::Nothing], Means::Aside, "nothing to do"),
        (&[GroupBecame::Failed], Means::Bad, "went wrong"),
        (&[GroupBecame::TakenBack], Means::Caution, "taken back"),
        (&[GroupBecame::Stays], Means::Bad, "not taken back"),
        (&[GroupBecame::Waits], Means::Caution, "not begun"),
    ];
    look.say(&look.paint(Means::Title, &format!("{}:", found.group.name)));
    for (which, means, word) in lines {
        let servers = of(which);
        if !servers.is_empty() {
            let word = look.paint(means, &format!("{word:<14}"));
            look.say(&format!("  {word} {}", names(found, &servers)));
        }
        for why in servers.iter().filter_map(|it| each[*it].why.as_ref()) {
            let why = why.lines().next().unwrap_or_default();
            look.say(&look.row("", 16, why));
        }
    }
}

fn show(found: &Found, answer: &GroupChangeoverDone, file: &Path, look: &Look) {
    show_each(found, &answer.servers, look);
    let next = match &answer.same {
        Some(same) => {
            show_same(same, look);
            format!("lantern group status {}", shell_word(file))
        }
        None => {
            let of_one = answer.servers.iter().zip(&found.folders);
            let mut wrong = of_one.filter(|(it, _)| it.became == GroupBecame::Failed);
            match wrong.next() {
                Some((_, folder)) => format!("lantern status --server {}", shell_word(folder)),
                None => format!("lantern group changeover {}", shell_word(file)),
            }
        }
    };
    look.next(&next);
}

/// What they carry in the end.
fn show_same(same: &GroupSame, look: &Look) {
    let ids = |ids: &[Id]| -> String {
        let ids: Vec<&str> = ids.iter().map(Id::as_str).collect();
        ids.join(", ")
    };
    if same.differs.is_empty() {
        let told = format!(
            "  What they share is the same everywhere: {}, file by file.",
            count(same.same, "component", "components")
        );
        look.say(&look.paint(Means::Good, &told));
    } else {
        let told = format!("  Not the same everywhere: {}.", ids(&same.differs));
        look.say(&look.paint(Means::Bad, &told));
    }
    if !same.unread.is_empty() {
        look.say(&format!(
            "  Of one version, and nobody has read whether the files are the same, too: {}.",
            ids(&same.unread)
        ));
    }
}
