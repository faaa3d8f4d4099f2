//! `lantern culprit`

use super::{armed, fetching, heed_interrupts, open_settled};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count, time};
use crate::progress::at_work;
use clap::Args;
use indicatif::ProgressBar;
use lantern_core::component::Id;
use lantern_core::plan::Plan;
use lantern_host::Result;
use lantern_host::config::Server;
use lantern_host::culprit::{
    Came, CulpritOptions, ErrorLine, Found, Hunt, Moved, Told, Works, culprit, remember,
};
use lantern_host::keep_up;
use lantern_host::planning::refuse_cut_off;
use regex::Regex;
use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

/// So often a copy is started at most, and after so many minutes none is any more, where nothing else is said.
const STARTS: u32 = 60;
const MINUTES: u64 = 120;
/// So many copies there are at once.
const AT_ONCE: usize = 2;
/// So many of the lines of a failing start are shown.
const LINES: usize = 6;
/// So many names are shown in a row.
const NAMED: usize = 4;

/// Find out which of what moved makes the start fail: parts of the plan are tried on copies
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern culprit\n  lantern culprit --error 'recipes? missing'\n  lantern culprit --without-world --until './look-at-the-market.sh'\n\n\
                  The live server is neither stopped nor touched. Ctrl-C leaves what is known so far; asked again, it goes on from there."
)]
pub struct CulpritArgs {
    /// The plan, by its name or as a file; otherwise the one that is armed, or that failed last
    plan: Option<String>,
    /// It fails where the server prints a line that this regular expression finds; otherwise where a start is not good
    #[arg(long, value_name = "PATTERN")]
    error: Option<Regex>,
    /// It is good where this ends with 0: a command for the shell, run in the folder of a copy whose server is up
    #[arg(long, value_name = "COMMAND")]
    until: Option<String>,
    /// Leave the keep list out of the copies: quicker, and the server makes a world of its own
    #[arg(long)]
    without_world: bool,
    /// Start a copy at most so often
    #[arg(long, value_name = "N", default_value_t = STARTS)]
    starts: u32,
    /// Have so many copies at once, where memory and the disk have room for them
    #[arg(long, value_name = "N", default_value_t = AT_ONCE)]
    at_once: usize,
    /// Begin no start after so many minutes
    #[arg(long, value_name = "N", default_value_t = MINUTES)]
    minutes: u64,
}

impl CulpritArgs {
    /// Whether a start that is not good is what is looked into: that alone is a fact about releases that plans can heed.
    fn is_about_starts(&self) -> bool {
        self.error.is_none() && self.until.is_none()
    }
}

/// Looks for what makes a start fail; the exit status is 3 where it was not found.
pub fn run(args: &CulpritArgs, common: &Common, look: &Look) -> Result<u8> {
    heed_interrupts(look);
    let (server, _lock) = open_settled(common, look, "culprit")?;
    let chosen = armed::choose(args.plan.as_deref(), true, &server)?;
    if !lantern_host::gather::wanted_by(&chosen.plan).is_empty() {
        let gathered = fetching::of_plan(&server, &chosen.plan, &[], false, look)?;
        if !gathered.is_whole() {
            return Ok(gathered.tell(common, look));
        }
    }
    refuse_cut_off(&server, Some(&chosen.plan))?;
    let plan = (&chosen.plan, &*chosen.path, &*chosen.text);
    let hunt = look_for(&server, plan, args, look)?;
    if look.json {
        look.answer(&hunt);
    } else {
        show(&hunt, args, common, look);
    }
    Ok(match hunt.came {
        Came::Found | Came::Works => fail::DONE,
        Came::FailsAnyway | Came::FailsOtherwise | Came::Unfinished => fail::NO,
    })
}

/// A plan, where it lies, and its text.
pub type PlanAt<'p> = (&'p Plan, &'p Path, &'p str);

/// Looks for it after a changeover has failed and the old state is back. What comes of it is shown and remembered; that nothing does changes
/// nothing.
pub fn after_failure(server: &Server, plan: PlanAt<'_>, common: &Common, look: &Look) {
    let args = CulpritArgs {
        plan: None,
        error: None,
        until: None,
        without_world: false,
        starts: STARTS,
        at_once: AT_ONCE,
        minutes: MINUTES,
    };
    look.talk("");
    match look_for(server, plan, &args, look) {
        Ok(hunt) if !look.json => show(&hunt, &args, common, look),
        Ok(_) => {}
        Err(error) => look.talk(&format!("  What makes it fail was not found: {error}")),
    }
}

fn look_for(
    server: &Server,
    (plan, path, text): PlanAt<'_>,
    args: &CulpritArgs,
    look: &Look,
) -> Result<Hunt> {
    let asked = keep_up::asked_for(server, path)?;
    let is_it = |line: &str| {
        let error = args.error.as_ref();
        error.is_some_and(|error| error.is_match(line))
    };
    let error = args.error.as_ref().map(|error| ErrorLine {
        text: error.as_str(),
        is_it: &is_it,
    });
    let options = CulpritOptions {
        with_world: !args.without_world,
        error,
        until: args.until.as_deref(),
        most_starts: args.starts,
        most: Duration::from_secs(args.minutes * 60),
        at_once: args.at_once,
    };
    let title = format!(
        "{}: which of {} makes it fail?",
        plan.server,
        armed::summary(&plan.components)
    );
    look.talk(&look.paint_error(Means::Title, &title));
    let bounds = format!(
        "parts of plan {} are started on copies, at most {}, and none after {} minutes",
        lantern_host::armed::name_of(text),
        count(args.starts as usize, "time", "times"),
        args.minutes
    );
    look.talk(&look.row("", 14, &bounds));
    let mut shown = Shown {
        look,
        bar: ProgressBar::hidden(),
        under_way: BTreeMap::new(),
        why: String::new(),
    };
    let hunt = culprit(server, plan, text, asked, &options, &mut |told| {
        shown.show(&told)
    });
    shown.bar.finish_and_clear();
    let hunt = hunt?;
    if args.is_about_starts() {
        remember(server, plan, &hunt)?;
    }
    Ok(hunt)
}

/// What goes by meanwhile.
struct Shown<'l> {
    look: &'l Look,
    bar: ProgressBar,
    /// Starts by their numbers, and what is started.
    under_way: BTreeMap<u32, String>,
    /// Why the last one failed that did.
    why: String,
}

impl Shown<'_> {
    /// What is under way, for as long as it is.
    fn show_under_way(&mut self) {
        self.bar.finish_and_clear();
        let all: Vec<&str> = self.under_way.values().map(String::as_str).collect();
        self.bar = at_work(&format!("{} …", all.join("; ")));
    }

    fn show(&mut self, told: &Told<'_>) {
        match told {
            Told::Begins {
                number,
                part,
                of,
                is_about_presence,
            } => {
                let part = of_part(part, *of, *is_about_presence);
                let what = format!("{:<14} {part}", format!("start {number}"));
                self.under_way.insert(*number, what);
                self.show_under_way();
            }
            Told::Ended { number, good, why } => {
                self.bar.finish_and_clear();
                let what = self.under_way.remove(number).unwrap_or_default();
                if self.look.quiet {
                    return;
                }
                let fails = self.look.paint_error(Means::Bad, "fails");
                let came = match why.and_then(|why| why.lines().next()) {
                    _ if *good => self.look.paint_error(Means::Good, "works"),
                    None => fails,
                    Some(why) if why == self.why => format!("{fails} in the same way"),
                    Some(why) => {
                        why.clone_into(&mut self.why);
                        format!("{fails}: {why}")
                    }
                };
                self.look.talk(&format!("  {what}: {came}"));
            }
            Told::Ahead { starts, each_ms } => {
                let told = format!(
                    "where one of them is it by itself, that takes {} more at most; one took {}: about {}",
                    count(*starts as usize, "start", "starts"),
                    time(*each_ms),
                    time(u64::from(*starts) * each_ms)
                );
                self.look.talk(&self.look.row("", 14, &told));
            }
            Told::AmongAll { components } => {
                let told = format!(
                    "it fails also with nothing moved but what has to: from here on it is looked for among all {components} that are there, and what is not in a part is away"
                );
                self.look.talk(&self.look.row("", 14, &told));
            }
        }
    }
}

/// What a part is, in a few words.
fn of_part(part: &[Id], of: usize, is_about_presence: bool) -> String {
    let (is, others) = match is_about_presence {
        true => ("there", "away"),
        false => ("moved", "as before"),
    };
    match part.len() {
        0 if of == 1 => format!("it is {others}"),
        0 => format!("none of {of} {is}"),
        all if all == of && of <= NAMED => format!("{} {is}", list(part)),
        all if all == of => format!("all {of} {is}"),
        some if some <= NAMED => format!("{} {is}, {} {others}", list(part), of - some),
        some => format!("{some} of {of} {is}"),
    }
}

fn list(ids: &[Id]) -> String {
    let ids: Vec<&str> = ids.iter().map(Id::as_str).collect();
    ids.join(", ")
}

fn named(moved: &Moved) -> String {
    match &moved.version {
        Some(version) => format!("{} {version}", moved.id),
        None => format!("the lack of {}", moved.id),
    }
}

/// Which ones it is, in a sentence without its end.
fn sentence(found: &Found, hunt: &Hunt, args: &CulpritArgs) -> String {
    let names: Vec<String> = found.components.iter().map(named).collect();
    let (first, others) = names.split_first().expect("something was found");
    let on = &hunt.server_version;
    let fails = match (&args.error, &args.until) {
        (Some(_), _) => format!("brings that line on {on}"),
        (None, Some(_)) => format!("makes {on} no longer pass your look"),
        (None, None) => format!("does not start on {on}"),
    };
    let fails = match found.unsteady {
        true => format!("sometimes {fails}"),
        false => fails,
    };
    match others.is_empty() {
        true => format!("{first} {fails}"),
        false => format!("{first} {fails} together with {}", others.join(" and ")),
    }
}

/// What is otherwise in what works.
fn instead(works: &Works, by_presence: bool) -> Option<String> {
    let [first, others @ ..] = &works.left_out[..] else {
        return None;
    };
    let with = match (&first.before, &first.version) {
        (Some(before), Some(_)) if !by_presence => format!("with {} {before} it does", first.id),
        (_, None) => format!("with {} still there it does", first.id),
        _ => format!("without {} it does", first.id),
    };
    if others.is_empty() {
        return Some(with);
    }
    let others: Vec<String> = others.iter().map(|moved| moved.id.to_string()).collect();
    let are = if by_presence { "away" } else { "as before" };
    Some(format!("{with}, with {} {are} too", others.join(", ")))
}

fn show(hunt: &Hunt, args: &CulpritArgs, common: &Common, look: &Look) {
    let starts = match hunt.known_starts {
        0 => count(hunt.starts as usize, "start", "starts"),
        known => format!(
            "{}, {known} known from before",
            count(hunt.starts as usize, "start", "starts")
        ),
    };
    let took = format!("({starts}, {})", time(hunt.took_ms));
    match hunt.came {
        Came::Works => {
            let told = format!("The whole plan works, each time that it was tried {took}.");
            look.say(&look.paint(Means::Good, &told));
            look.say("  What failed before may come now and then, or with the live world or its players.");
        }
        Came::FailsOtherwise => {
            let told = format!("The whole plan fails, but not in that way {took}.");
            look.say(&look.paint(Means::Caution, &told));
        }
        Came::FailsAnyway => {
            let told = format!(
                "None of them: it fails with none of the {} as well {took}.",
                hunt.among
            );
            look.say(&look.paint(Means::Bad, &told));
            look.say(&format!("  What is left is the server program {} itself, what is laid over it, settings and world.", hunt.server_version));
        }
        Came::Unfinished => {
            look.say(&look.paint(Means::Caution, &format!("Not at its end {took}.")));
            if !hunt.left.is_empty() {
                look.say(&format!(
                    "  at least one of these {} has part in it: {}",
                    hunt.left.len(),
                    list(&hunt.left)
                ));
            }
        }
        Came::Found => {}
    }
    let one = hunt.culprits.len() == 1;
    for found in &hunt.culprits {
        let mut told = sentence(found, hunt, args);
        if let Some(works) = hunt.works.as_ref().filter(|_| one) {
            if let Some(instead) = instead(works, hunt.by_presence) {
                told = format!("{told}; {instead}");
            }
            told = format!("{told}; all else is fine {took}");
        }
        look.say(&look.paint(Means::Bad, &format!("{told}.")));
        if !found.with.is_empty() {
            look.say(&format!(
                "  started with what it needs: {}",
                list(&found.with)
            ));
        }
        show_lines(found.why.as_deref(), &found.last, look);
    }
    show_lines(hunt.why.as_deref(), &hunt.last, look);
    let world = if hunt.with_world {
        "with the world, as it was then"
    } else {
        "without the world"
    };
    look.say(&format!(
        "  on copies {world}; the server itself was neither stopped nor touched"
    ));
    if !hunt.culprits.is_empty() && args.is_about_starts() {
        look.say(&format!(
            "  remembered (lantern known), so that plans heed it: {}",
            common.next("plan --again")
        ));
    }
    match &hunt.works {
        Some(works) => show_works(works, hunt, one, &took, common, look),
        None if hunt.came == Came::Found => {
            look.say("  No part of the plan without them was seen to work.");
        }
        None => {}
    }
    if hunt.came == Came::Unfinished {
        look.next(&common.next("culprit"));
    }
}

fn show_lines(why: Option<&str>, last: &[String], look: &Look) {
    if let Some(why) = why {
        look.say(&format!("  {why}"));
    }
    for line in &last[last.len().saturating_sub(LINES)..] {
        look.say(&format!("    | {line}"));
    }
}

fn show_works(works: &Works, hunt: &Hunt, one: bool, took: &str, common: &Common, look: &Look) {
    if !one {
        let out: Vec<&str> = works
            .left_out
            .iter()
            .map(|moved| moved.id.as_str())
            .collect();
        let are = if hunt.by_presence {
            "away"
        } else {
            "as before"
        };
        look.say(&format!(
            "  With {} {are}, all else works {took}.",
            out.join(", ")
        ));
    }
    if !works.world_loses.is_empty() {
        let told = format!(
            "  The world holds content of {}, and loses it in that plan.",
            list(&works.world_loses)
        );
        look.say(&look.paint(Means::Caution, &told));
    }
    match &works.plan {
        None => look.say("  Without it there is nothing to do: the server is as that leaves it."),
        Some(plan) => {
            let out: Vec<Id> = works
                .left_out
                .iter()
                .map(|moved| moved.id.clone())
                .collect();
            let is_away =
                hunt.by_presence || works.left_out.iter().all(|moved| moved.before.is_none());
            let out = match is_away {
                true => format!("without {}", list(&out)),
                false => format!("that leaves {} as before", list(&out)),
            };
            look.say(&format!(
                "  The plan {out} was started on a copy, and worked:"
            ));
            let name = plan.file_name().unwrap_or_default().to_string_lossy();
            let near = common.near(&format!(".lantern/culprit/{name}"));
            look.next(&common.next(&format!("changeover {}", shell_word(&near))));
        }
    }
}
