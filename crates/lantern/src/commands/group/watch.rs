//! `lantern group watch`

use super::{OfGroup, meant, names};
use crate::answers::group::GroupWatched;
use crate::commands::heed_interrupts;
use crate::commands::question::SourceArgs;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count, date};
use crate::progress::during;
use clap::Args;
use lantern_core::inventory::Severity;
use lantern_core::metrics::{Metric, Type, exposition};
use lantern_core::watch::{About, Sign};
use lantern_host::config::Span;
use lantern_host::group::{Found, OneWatched};
use lantern_host::place::here;
use lantern_host::{Result, interrupt};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// What is watched of a group.
#[derive(Debug, Args)]
pub struct WatchOfGroup {
    #[command(flatten)]
    of: OfGroup,
    #[command(flatten)]
    sources: SourceArgs,
    /// Say all that there is to say, and not only what is new
    #[arg(long)]
    again: bool,
    /// Look so often, until Ctrl-C: 6h, 30m; otherwise once, as a timer runs it
    #[arg(long, value_name = "TIME")]
    every: Option<Span>,
    /// Write figures there, in the text format of OpenMetrics
    #[arg(long, value_name = "FILE")]
    metrics: Option<PathBuf>,
}

/// Says what is new at a group's servers; the exit status is 3 where something is.
pub fn run(args: &WatchOfGroup, common: &Common, look: &Look) -> Result<u8> {
    let file = meant(&args.of)?;
    let Some(every) = args.every else {
        return once(&file, args, common, look);
    };
    heed_interrupts(look);
    loop {
        once(&file, args, common, look)?;
        if !during("until the next look", || interrupt::pause(every.0)) {
            return Ok(fail::DONE);
        }
    }
}

fn once(file: &Path, args: &WatchOfGroup, common: &Common, look: &Look) -> Result<u8> {
    let found = Found::read(file)?;
    let now_ms = jiff::Timestamp::now().as_millisecond();
    let sources = args.sources.named();
    let seen = during("servers are looked at", || {
        found.watched(&sources, args.again, now_ms)
    })?;
    let is_cut_off = seen.iter().any(|it| it.seen.is_cut_off);
    let new: usize = seen.iter().map(|it| it.news.new.len()).sum();
    let status = match (is_cut_off, new) {
        (true, _) => fail::WAITING,
        (false, 0) => fail::DONE,
        (false, _) => fail::NO,
    };
    if look.json {
        look.answer(&GroupWatched::new(&found, &seen));
    } else {
        show(&found, &seen, file, common, look);
    }
    // What is said once has to be said, whatever becomes of the figures.
    if let Some(file) = &args.metrics {
        let text = exposition(&metrics(&found, &seen, now_ms));
        here::write_whole(file, &mut |file| {
            std::io::Write::write_all(file, text.as_bytes())
        })?;
    }
    Ok(status)
}

fn show(found: &Found, seen: &[OneWatched], file: &Path, common: &Common, look: &Look) {
    let mut new: BTreeMap<&Sign, Vec<usize>> = BTreeMap::new();
    for (index, it) in seen.iter().enumerate() {
        for sign in &it.news.new {
            new.entry(sign).or_default().push(index);
        }
    }
    let last = seen.iter().filter_map(|it| it.last_ms).max();
    let since = last.map_or(String::new(), |last| format!(" since {}", date(last)));
    let name = &found.group.name;
    look.say(&look.paint(
        Means::Title,
        &match new.len() {
            0 => format!("{name}: nothing is new{since}."),
            1 => format!("{name}: 1 thing is new{since}."),
            many => format!("{name}: {many} things are new{since}."),
        },
    ));
    for (sign, servers) in &new {
        let text = sign.text.lines().next().unwrap_or_default();
        look.say("");
        look.say(&format!("  {}", look.paint(means(sign.about), text)));
        look.say(&format!("    at {}", names(found, servers)));
    }
    let sum = |of: &dyn Fn(&OneWatched) -> usize| -> usize { seen.iter().map(of).sum() };
    let (before, over) = (sum(&|it| it.news.as_before), sum(&|it| it.news.over));
    if before + over > 0 {
        let again = look.paint(
            Means::Paste,
            &common.next(&format!("group watch {} --again", shell_word(file))),
        );
        let over = match over {
            0 => String::new(),
            1 => ", and 1 is over".into(),
            many => format!(", and {many} are over"),
        };
        let before = count(before, "thing is", "things are");
        look.say(&format!("\n  {before} as before{over}; all of it: {again}"));
    }
    let unasked = |it: &OneWatched| {
        let seen = &it.seen;
        seen.fault.is_none() && seen.updates.is_none() && seen.unread == 0
    };
    let unasked: Vec<usize> = (0..seen.len())
        .filter(|index| unasked(&seen[*index]))
        .collect();
    if !unasked.is_empty() {
        look.say(&format!(
            "\n  Newer releases were not looked for at {}: no catalogue and no drop folder is named, here or in lantern.toml, or nothing is in them.",
            names(found, &unasked)
        ));
    }
    for (server, it) in found.group.servers.iter().zip(seen) {
        let at = server.called();
        for told in &it.told {
            let text = match &told.fault {
                None => format!("  told at {at}: {}", told.who),
                Some(why) => look.paint(
                    Means::Bad,
                    &format!("  not told at {at}: {}: {why}", told.who),
                ),
            };
            look.say(&text);
        }
        if let Some(why) = &it.unwritten {
            let text =
                format!("  at {at} it could not be written down, and will be said again: {why}");
            look.say(&look.paint(Means::Bad, &text));
        }
    }
    look.next(&format!("lantern group status {}", shell_word(file)));
}

fn means(about: About) -> Means {
    match about {
        About::Fault | About::CutOff | About::Down | About::Finding => Means::Bad,
        About::Backup | About::Disk | About::Catalogue => Means::Caution,
        About::Update | About::Version => Means::Good,
    }
}

/// Figures of what was seen; what nobody can tell has none.
fn metrics(found: &Found, seen: &[OneWatched], now_ms: i64) -> Vec<Metric> {
    let gauge = |name, unit, help| Metric::new(name, Type::Gauge, unit, help);
    let seconds = |ms: i64| ms as f64 / 1000.0;
    let mut looked = gauge(
        "lantern_looked_at",
        None,
        "Whether the server could be looked at.",
    );
    let mut up = gauge("lantern_up", None, "Whether the server is up.");
    let mut players = gauge("lantern_players", None, "How many players are on.");
    let mut components = gauge(
        "lantern_components",
        None,
        "How many components the server carries.",
    );
    let mut findings = gauge(
        "lantern_findings",
        None,
        "What a survey holds against the server, by how much it matters.",
    );
    let mut updates = gauge(
        "lantern_updates",
        None,
        "Newer releases that fit on the installed server version.",
    );
    let mut backups = gauge("lantern_backups", None, "How many backups there are.");
    let mut backup = gauge(
        "lantern_last_backup_timestamp_seconds",
        Some("seconds"),
        "When the newest backup was made.",
    );
    let mut free = gauge(
        "lantern_disk_free_bytes",
        Some("bytes"),
        "What is free on the disk of the server, and of its backups.",
    );
    let mut cut_off = gauge(
        "lantern_cut_off",
        None,
        "Whether an operation was cut off there.",
    );
    let mut news = gauge(
        "lantern_news",
        None,
        "How much there was to say that had not been said before.",
    );
    let mut about = Metric::new(
        "lantern_server",
        Type::Info,
        None,
        "Which version of the server program is installed, and which later one everything is ready for.",
    );
    for (server, it) in found.group.servers.iter().zip(seen) {
        let labels = || {
            vec![
                ("group", found.group.name.clone()),
                ("server", server.called().to_owned()),
            ]
        };
        let seen = &it.seen;
        let flag = |is: bool| f64::from(u8::from(is));
        looked.samples.push((labels(), flag(seen.fault.is_none())));
        news.samples.push((labels(), it.news.new.len() as f64));
        if seen.fault.is_some() {
            continue;
        }
        cut_off.samples.push((labels(), flag(seen.is_cut_off)));
        let push = |metric: &mut Metric, value: Option<f64>| {
            metric.samples.extend(value.map(|value| (labels(), value)));
        };
        push(&mut up, seen.up.map(flag));
        push(&mut players, seen.players.map(|many| many as f64));
        push(&mut components, seen.components.map(|many| many as f64));
        push(&mut updates, seen.updates.map(|many| many as f64));
        push(&mut backups, seen.backups.map(|(many, _)| many as f64));
        push(
            &mut backup,
            seen.backups.and_then(|(_, at)| at).map(seconds),
        );
        for (severity, word) in [
            (Severity::Wrong, "wrong"),
            (Severity::Caution, "caution"),
            (Severity::Note, "note"),
        ] {
            let of_it = seen.findings.as_ref();
            let of_it = of_it.map(|all| all.get(&severity).copied().unwrap_or(0));
            let labels = || [labels(), vec![("severity", word.to_owned())]].concat();
            findings
                .samples
                .extend(of_it.map(|many| (labels(), many as f64)));
        }
        for (what, bytes) in &seen.free {
            let labels = [labels(), vec![("of", what.clone())]].concat();
            free.samples.push((labels, *bytes as f64));
        }
        let mut versions = labels();
        versions.extend(seen.version.clone().map(|version| ("version", version)));
        versions.extend(seen.ready_for.clone().map(|version| ("ready_for", version)));
        about.samples.push((versions, 1.0));
    }
    let mut at = gauge(
        "lantern_watch_timestamp_seconds",
        Some("seconds"),
        "When the group was looked at.",
    );
    at.samples
        .push((vec![("group", found.group.name.clone())], seconds(now_ms)));
    vec![
        at, looked, up, cut_off, players, components, findings, updates, backups, backup, free,
        news, about,
    ]
}
