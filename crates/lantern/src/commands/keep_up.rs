//! `lantern keep-up`

use super::changeover::{Telling, at_night};
use super::culprit::PlanAt;
use super::question::tell_left_out;
use super::{armed, culprit, fetching, heed_interrupts, night, notice, open_settled, rehearse};
use crate::answers::KeptUp;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::hour::Hour;
use crate::look::{Look, Means, count, date};
use crate::progress::during;
use clap::Args;
use jiff::{SignedDuration, Timestamp, Zoned};
use lantern_core::hour::Wait;
use lantern_core::notice::{Moment, Notice};
use lantern_core::plan::Fate;
use lantern_core::unattended::Matter;
use lantern_host::armed::name_of;
use lantern_host::changeover::fault::ChangeoverFault;
use lantern_host::config::Server;
use lantern_host::keep_up::fault::KeepUpFault;
use lantern_host::keep_up::{self, Came, Proposal};
use lantern_host::ledger::Ledger;
use lantern_host::night::How;
use lantern_host::night::fault::NightFault;
use lantern_host::planning::{self, refuse_cut_off};
use lantern_host::rehearsal::fault::RehearsalFault;
use lantern_host::rehearsal::{RehearsalOptions, Room, report_on};
use lantern_host::{Error, Result, learned};

/// So long it is waited for the last player, where nothing else is said.
const LATEST: SignedDuration = SignedDuration::from_hours(4);
/// So often another plan is drawn in one night, without what was found to make the one before fail.
const PLANS: usize = 3;

/// Move to newer releases that fit and are old enough, tried on a copy first: for every night
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern keep-up --dry-run\n  lantern keep-up --latest 06:00      as a timer runs it at four\n\n\
                  It does nothing unless lantern.toml has [keep_up], and no more than [unattended] leaves to it. A timer: lantern docs units."
)]
pub struct KeepUpArgs {
    /// Only say what would be done; it is neither tried on a copy nor carried out
    #[arg(long)]
    dry_run: bool,
    /// Until then the last player is waited for; otherwise for four hours
    #[arg(long, value_name = "TIME")]
    latest: Option<Hour>,
}

/// What came of a night.
struct Night {
    came: Came,
    /// Why it was not carried out.
    why: Option<String>,
    status: Result<u8>,
    /// The plan, by its name, where it had to be taken back.
    went_back: Option<String>,
    /// Whether whom lantern.toml names was told already.
    is_told: bool,
}

impl Night {
    fn of(came: Came, status: u8) -> Night {
        Night {
            came,
            why: None,
            status: Ok(status),
            went_back: None,
            is_told: true,
        }
    }

    fn not_done(came: Came, why: String) -> Night {
        Night {
            came,
            why: Some(why),
            status: Ok(fail::NO),
            went_back: None,
            is_told: false,
        }
    }
}

/// Keeps a server up; the exit status is 3 where something that fits was not carried out, and 4 when the old state had to be put back.
pub fn run(args: &KeepUpArgs, common: &Common, look: &Look) -> Result<u8> {
    // Ctrl-C calls it off before the stop; afterwards it goes on, to the end or back.
    heed_interrupts(look);
    let server = Server::open(&common.server)?;
    if server.config.keep_up.is_none() {
        return Err(KeepUpFault::Off.into());
    }
    let now = Zoned::now();
    let latest = args.latest.as_ref();
    let latest = latest.map(|hour| hour.after(&now).ok_or(NightFault::Past));
    let latest = latest.transpose()?;
    let done = tonight(args, latest.as_ref(), common, look);
    if args.dry_run {
        return done.and_then(|night| night.status);
    }
    let night = done.unwrap_or_else(|error| Night {
        came: Came::Failed,
        why: Some(error.to_string()),
        status: Err(error),
        went_back: None,
        is_told: false,
    });
    let last = keep_up::last(&server)?;
    // The same night after night is told once.
    let is_new = last.is_none_or(|last| (last.came, last.why) != (night.came, night.why.clone()));
    if let Some(why) = night.why.as_ref().filter(|_| is_new && !night.is_told) {
        tell(&server, why, look);
    }
    let now_ms = Timestamp::now().as_millisecond();
    let came = (night.came, night.why.as_deref());
    keep_up::remember(&server, came, night.went_back, now_ms)?;
    night.status
}

/// Tells whom lantern.toml names why nothing was done.
fn tell(server: &Server, why: &str, look: &Look) {
    let mut notice = Notice::new(Moment::Failed, &server.config.name, (None, ""), &[], &[]);
    notice.why = Some(why.to_owned());
    notice.back = true;
    notice::tell(server, &notice, look);
}

/// One night's work; the last player is waited for until `latest`.
fn tonight(
    args: &KeepUpArgs,
    latest: Option<&Zoned>,
    common: &Common,
    look: &Look,
) -> Result<Night> {
    let mut plans = 0;
    loop {
        plans += 1;
        let (server, lock) = open_settled(common, look, "keep-up")?;
        let proposal = proposed(&server, look)?;
        if !look.json {
            show(&server, &proposal, common, look);
        }
        let plan = match &proposal.plan {
            Some(plan) if !args.dry_run => plan,
            moves => {
                if look.json {
                    look.answer(&KeptUp::new(&proposal));
                } else if moves.is_some() {
                    let told = "this is what would be done; without --dry-run it is tried on a copy, and then carried out";
                    look.say(&look.row("", 14, told));
                }
                return Ok(Night::of(Came::Nothing, fail::DONE));
            }
        };
        refuse_cut_off(&server, Some(plan))?;
        if let Some(why) = went_back(&server, &proposal)? {
            look.talk(&look.row("this plan", 14, &why));
            let near = common.near(".lantern/keep-up.plan.json");
            look.next(&common.next(&format!("changeover {}", shell_word(&near))));
            return Ok(Night::not_done(Came::NotBegun, why));
        }
        let plan = (plan, &*proposal.path, &*proposal.text);
        if let Some(why) = fails_on_a_copy(&server, plan, look)? {
            let known = learned::read(&server)?.len();
            if server.config.on_failure.culprit {
                culprit::after_failure(&server, plan, common, look);
            }
            // What was found out is heeded by the next plan.
            if learned::read(&server)?.len() > known && plans < PLANS {
                look.talk("");
                continue;
            }
            if look.json {
                look.answer(&KeptUp::new(&proposal));
            }
            return Ok(Night::not_done(Came::FailedOnCopy, why));
        }
        drop(lock);
        return carry_out(&server, plan, latest, common, look);
    }
}

/// Why a plan is not tried again, where it was carried out before and had to be taken back.
fn went_back(server: &Server, proposal: &Proposal) -> Result<Option<String>> {
    let before = keep_up::last(server)?.and_then(|last| last.went_back);
    let name = name_of(&proposal.text);
    Ok(before.filter(|before| *before == name).map(|name| {
        format!(
            "plan {name} was carried out before, and the old state had to be put back: by itself it is not tried again"
        )
    }))
}

fn proposed(server: &Server, look: &Look) -> Result<Proposal> {
    let mut ledger = Ledger::open(&server.folder)?;
    let (sources, terms) = keep_up::asked();
    let mut question = during("files and releases are read", || {
        planning::question(server, &mut ledger, &sources, &terms)
    })?;
    tell_left_out(&question.stale, &question.left_out, look);
    let now_ms = Timestamp::now().as_millisecond();
    keep_up::propose(server, &mut question, now_ms, &mut |wanted| {
        Ok(fetching::fetch(server, wanted, &[], false, look)?.missing())
    })
}

/// Tries a plan on a copy, unless that very plan was; why it does not work there, where it does not.
fn fails_on_a_copy(
    server: &Server,
    (plan, path, text): PlanAt<'_>,
    look: &Look,
) -> Result<Option<String>> {
    let known = report_on(path, text).filter(|report| report.with_world);
    let report = match known {
        Some(report) => report,
        None => {
            let ledger = Ledger::open(&server.folder)?;
            let piece = RehearsalOptions {
                path,
                text,
                plan,
                with_world: true,
                keep_copy: false,
                room: Room::default(),
                after: None,
            };
            look.talk(&look.row("this plan", 14, "is tried on a copy first"));
            let may = &server.config.unattended.may;
            match rehearse::on_a_copy(server, &ledger, &piece, look) {
                Err(Error::Rehearsal(fault @ RehearsalFault::OwnPath { .. }))
                    if may.contains(&Matter::Unrehearsed) =>
                {
                    look.talk(&look.row(
                        "this plan",
                        14,
                        &format!("cannot be tried on a copy: {fault}"),
                    ));
                    return Ok(None);
                }
                report => report?,
            }
        }
    };
    if report.worked {
        let told = look.paint_error(Means::Good, "works on a copy");
        look.talk(&look.row("this plan", 14, &told));
        return Ok(None);
    }
    let why = report.why.unwrap_or_default();
    let told = format!(
        "{}: {why}",
        look.paint_error(Means::Bad, "does not work on a copy")
    );
    look.talk(&look.row("this plan", 14, &told));
    look.talk(&look.row("", 14, "the server itself was neither stopped nor touched"));
    Ok(Some(format!("it did not work on a copy: {why}")))
}

/// Waits for the last player where nothing else is left to it, and carries the plan out.
fn carry_out(
    server: &Server,
    (plan, path, text): PlanAt<'_>,
    latest: Option<&Zoned>,
    common: &Common,
    look: &Look,
) -> Result<Night> {
    let how = How {
        unattended: true,
        ..How::default()
    };
    let now = Zoned::now();
    let usual = now.checked_add(LATEST).unwrap_or_else(|_| now.clone());
    let latest = latest.unwrap_or(&usual);
    let wait = Wait {
        at_ms: now.timestamp().as_millisecond(),
        latest_ms: latest.timestamp().as_millisecond(),
        when_empty: !server.config.unattended.may.contains(&Matter::Players),
    };
    let mut telling = Telling::Begins;
    let done = loop {
        if let Some(why) = night::until_it_may_begin(server, plan, &wait, look)? {
            return Ok(Night::not_done(Came::NotBegun, why));
        }
        let empty = wait.when_empty.then_some(telling);
        match at_night(path, &how, empty, common, look) {
            Err(Error::Changeover(ChangeoverFault::NotEmpty(_))) if wait.when_empty => {
                telling = Telling::GoesOn;
            }
            done => break done,
        }
    };
    let why = match &done {
        Ok(_) => None,
        Err(error) => Some(error.to_string()),
    };
    let came = match &done {
        Ok(fail::DONE) => Came::Done,
        Ok(fail::BACK) | Err(Error::Changeover(ChangeoverFault::RolledBack { .. })) => {
            Came::WentBack
        }
        Ok(_) | Err(_) => Came::Failed,
    };
    Ok(Night {
        went_back: (came == Came::WentBack).then(|| name_of(text)),
        came,
        why,
        status: done,
        is_told: true,
    })
}

fn show(server: &Server, proposal: &Proposal, common: &Common, look: &Look) {
    let days = server.config.keep_up.as_ref().map_or(0, |it| it.wait_days);
    let components = proposal.plan.iter().flat_map(|plan| &plan.components);
    let summary = match &proposal.plan {
        None => "Nothing to do".into(),
        Some(plan) => armed::summary(&plan.components),
    };
    let title = format!(
        "{}: {} stays at {}, with releases that are {} old or older. {summary}.",
        server.config.name,
        server.family.name,
        proposal.server_version,
        count(days as usize, "day", "days"),
    );
    look.say(&look.paint(Means::Title, &title));
    let row = |what: &str, text: String| {
        if !text.is_empty() {
            look.say(&look.row(what, 14, &text));
        }
    };
    let moved = components
        .filter(|it| it.verdict != Fate::Unchanged)
        .map(|it| match (&it.from, &it.to) {
            (Some(from), Some(to)) => format!("{} {from} → {to}", it.id),
            (None, Some(to)) => format!("{} {to}, new", it.id),
            (_, None) => format!("{}, away", it.id),
        });
    row("moves", moved.collect::<Vec<_>>().join(", "));
    for it in &proposal.waits {
        let told = format!(
            "{} {} is too young until {}",
            it.id,
            it.version,
            date(it.from_ms)
        );
        row("waits", told);
    }
    for it in &proposal.left {
        let words: Vec<&str> = it.matters.iter().map(|matter| matter.as_str()).collect();
        let told = format!("{} {} → {} ({})", it.id, it.from, it.to, words.join(", "));
        row("left to you", told);
    }
    if !proposal.left.is_empty() {
        let told = "[unattended] may, in lantern.toml, would leave it to lantern by these words";
        row("", told.into());
    }
    row("not to be had", proposal.missing.join(", "));
    if proposal.plan.is_none() && !proposal.left.is_empty() {
        look.next(&common.next("plan --to same --prefer newest"));
    }
}
