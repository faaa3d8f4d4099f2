//! `lantern changeover`

use super::group::waves;
use super::{
    armed, culprit, fetching, heed_interrupts, night, notice, open, open_settled, tell_unshared,
};
use crate::answers;
use crate::by_hand::AtHand;
use crate::common::Common;
use crate::fail;
use crate::hour::Hour;
use crate::look::{Look, Means, date, time};
use crate::progress::{Progress, during};
use clap::Args;
use lantern_core::notice::{Moment, Notice};
use lantern_core::unattended::Matter;
use lantern_host::armed::name_of;
use lantern_host::changeover::fault::ChangeoverFault;
use lantern_host::changeover::{Event, Report, changeover, resume};
use lantern_host::config::{Server, Span};
use lantern_host::ledger::Ledger;
use lantern_host::lock::Lock;
use lantern_host::night::{How, TakenUp};
use lantern_host::planning::refuse_cut_off;
use lantern_host::rehearsal::{Rehearsal, report_on};
use lantern_host::survey::{Depth, survey};
use lantern_host::unattended::judge;
use lantern_host::{Error, Result};
use std::path::Path;

/// Carry a plan out: warn, stop, back up, swap, start, verify; or put the old state back
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern changeover               the armed plan, after asking\n  lantern changeover 3f2a9c --warn 10m,1m\n  lantern changeover --at 04:00 --when-empty --latest 06:00\n  lantern changeover --resume"
)]
pub struct ChangeoverArgs {
    /// The plan, by its name or as a file; otherwise the one that is armed
    plan: Option<String>,
    /// How long before the stop players are told, instead of what lantern.toml says: 10m,1m,10s
    #[arg(long, value_name = "TIMES", value_delimiter = ',')]
    warn: Option<Vec<Span>>,
    /// Leave the new state in place even when the server does not come up with it as it should
    #[arg(long)]
    stay: bool,
    /// Leave a server up that was down before; otherwise it is only started to see that it works
    #[arg(long)]
    start: bool,
    /// Start it even though a start command is cut off
    #[arg(long)]
    anyway: bool,
    /// Nobody is there to be asked: end before the stop where the plan decides more than lantern.toml leaves to it
    #[arg(long)]
    unattended: bool,
    /// Go on with a changeover that was cut off
    #[arg(long, conflicts_with_all = ["plan", "at"])]
    resume: bool,
    /// Let it wait for an hour in a process of its own: 04:00, 2026-05-04 04:00, or +2h from now
    #[arg(long, value_name = "TIME")]
    at: Option<Hour>,
    /// Let it wait, besides, until nobody is on
    #[arg(long, requires = "at")]
    when_empty: bool,
    /// From then on it is not begun any more; otherwise an hour after its own, or four with --when-empty
    #[arg(long, value_name = "TIME", requires = "at")]
    latest: Option<Hour>,
    /// Call off the one that waits
    #[arg(long, conflicts_with_all = ["plan", "at", "resume"])]
    call_off: bool,
    /// Take up waiting, in the place of a process that is gone: for a service manager, after a restart of the machine
    #[arg(long, conflicts_with_all = ["plan", "at", "resume", "call_off"])]
    wait_on: bool,
}

/// Carries a plan out; the exit status is 4 when the old state had to be put back.
pub fn run(args: &ChangeoverArgs, common: &Common, look: &Look) -> Result<u8> {
    if args.call_off {
        return night::call_off(common, look);
    }
    // Ctrl-C calls it off before the stop; afterwards it goes on, to the end or back.
    heed_interrupts(look);
    if args.wait_on {
        return waited(common, look);
    }
    let how = args.how();
    if args.resume {
        return go_on(&how, common, look);
    }
    let (server, lock) = open_settled(common, look, "changeover")?;
    let server = with(server, &how, look);
    let chosen = armed::choose(args.plan.as_deref(), how.stay, &server)?;
    if let Some(status) = ready(&chosen, &server, &how, common, look)? {
        return Ok(status);
    }
    if let Some(at) = &args.at {
        let wish = night::Wish {
            at,
            latest: args.latest.as_ref(),
            when_empty: args.when_empty,
        };
        return night::arrange(&wish, &chosen, &server, how, common, look);
    }
    // Where nobody can be asked, a plan that is named is meant.
    if !(how.unattended || chosen.is_named && look.cannot_ask()) {
        let name = name_of(&chosen.text);
        let without = common.next(&format!("changeover {name}"));
        armed::confirm("Carry it out?", &without, common, look)?;
    }
    let job = Job {
        server,
        _lock: lock,
        task: Task::Plan(Box::new(chosen)),
    };
    job.carry_out(&how, Telling::Whole, common, look)
}

/// What there is to do at a server.
enum Task {
    /// To carry a plan out.
    Plan(Box<armed::Chosen>),
    /// To go on with what was cut off.
    GoesOn,
}

/// A changeover that all is at hand for, and that holds the locks that it needs.
pub struct Job {
    server: Server,
    _lock: Lock,
    task: Task,
}

/// What a changeover has come to.
pub struct Came {
    ledger: Ledger,
    done: Result<Report>,
    told: Told,
}

/// What people are told of it.
enum Told {
    /// This.
    Notice(Box<Notice>),
    /// What stands in the ledger from this number on.
    From(i64),
}

impl waves::Job for Job {
    fn server(&mut self) -> &mut Server {
        &mut self.server
    }
}

impl Came {
    /// Whether all is as it should be.
    pub fn has_succeeded(&self) -> bool {
        self.done.as_ref().is_ok_and(|report| report.bad.is_none())
    }
}

impl Job {
    /// The changeover of one of several servers, of the plan that is armed or of what was cut off; that it is meant has been asked. An exit status
    /// where something that it needs cannot be had, which was told.
    ///
    /// # Errors
    /// As of a changeover.
    pub fn of_one(
        goes_on: bool,
        how: &How,
        common: &Common,
        look: &Look,
    ) -> Result<std::result::Result<Job, u8>> {
        let (server, lock) = match goes_on {
            true => open(common, look, "changeover")?,
            false => open_settled(common, look, "changeover")?,
        };
        let server = with(server, how, look);
        let task = match goes_on {
            true => Task::GoesOn,
            false => {
                let chosen = armed::choose(None, how.stay, &server)?;
                if let Some(status) = ready(&chosen, &server, how, common, look)? {
                    return Ok(Err(status));
                }
                Task::Plan(Box::new(chosen))
            }
        };
        Ok(Ok(Job {
            server,
            _lock: lock,
            task,
        }))
    }

    /// Carries it out.
    ///
    /// # Errors
    /// When it cannot be begun.
    pub fn work(
        &self,
        how: &How,
        telling: Telling,
        look: &Look,
        tell: &mut dyn FnMut(Event),
    ) -> Result<Came> {
        let server = &self.server;
        let mut ledger = Ledger::open(&server.folder)?;
        let (done, told) = match &self.task {
            Task::GoesOn => {
                let next = ledger.next_number()?;
                let done = resume(server, &mut ledger, how.stay, tell);
                (done, Told::From(next))
            }
            Task::Plan(chosen) => {
                let notice = notice::of_plan(server, &ledger, &chosen.plan)?;
                if telling != Telling::GoesOn {
                    notice::tell(server, &notice, look);
                }
                let plan = chosen.plan.clone();
                let done = changeover(server, &mut ledger, plan, how.stay, tell);
                (done, Told::Notice(Box::new(notice)))
            }
        };
        Ok(Came { ledger, done, told })
    }

    /// Tells who is to be told what it has come to, and leaves a server that was down before as it was. The report is still to be shown.
    ///
    /// # Errors
    /// Why it did not succeed.
    pub fn settle(&self, came: Came, how: &How, telling: Telling, look: &Look) -> Result<Report> {
        let Came { ledger, done, told } = came;
        let server = &self.server;
        if telling != Telling::Whole
            && let Err(error @ Error::Changeover(ChangeoverFault::NotEmpty(_))) = done
        {
            return Err(error);
        }
        match told {
            Told::From(next) => notice::tell_from(next, server, &ledger, look)?,
            Told::Notice(mut notice) => {
                ended(&mut notice, &done);
                notice::tell(server, &notice, look);
                notice::keep_feed(server, &ledger, look);
            }
        }
        let mut report = done?;
        tell_unshared(server, look);
        let only_checked = !report.was_up && report.running && report.bad.is_none() && !how.start;
        if only_checked {
            during("stopping the server again", || {
                report.stop_again(server, &ledger)
            })?;
            look.talk("  stop           the server is down again, as it was before");
        }
        Ok(report)
    }

    /// Carries it out, and shows what it has come to.
    fn carry_out(&self, how: &How, telling: Telling, common: &Common, look: &Look) -> Result<u8> {
        let mut progress = Progress::new(look);
        let came = self.work(how, telling, look, &mut |event| progress.show(event))?;
        drop(progress);
        let settled = self.settle(came, how, telling, look);
        match settled {
            Ok(report) => {
                show(look, common, &report);
                Ok(match report.bad {
                    None => fail::DONE,
                    Some(_) => fail::NO,
                })
            }
            Err(error) => self.failed(error, common, look),
        }
    }

    /// Whether it only turned back for what went wrong at another server, and is as before.
    pub fn has_turned_back(&self, error: &Error) -> bool {
        let seat = self.server.seat.as_ref();
        seat.is_some_and(|seat| seat.has_turned_back())
            && match error {
                Error::Changeover(ChangeoverFault::TurnedBack(_)) => true,
                Error::Changeover(ChangeoverFault::GivenUp { wrong, .. }) => wrong.is_empty(),
                Error::Changeover(ChangeoverFault::RolledBack { wrong, lost, .. }) => {
                    wrong.is_empty() && lost.is_empty()
                }
                _ => false,
            }
    }

    /// What is left to do where it failed: what broke it is looked for, where lantern.toml says so.
    ///
    /// # Errors
    /// The same, where nothing is to be looked for.
    pub fn failed(&self, error: Error, common: &Common, look: &Look) -> Result<u8> {
        let went_back = matches!(error, Error::Changeover(ChangeoverFault::RolledBack { .. }));
        match &self.task {
            Task::Plan(chosen) if went_back && self.server.config.on_failure.culprit => {
                let status = fail::tell(&error, common, look);
                let plan = (&chosen.plan, &*chosen.path, &*chosen.text);
                culprit::after_failure(&self.server, plan, common, look);
                Ok(status)
            }
            _ => Err(error),
        }
    }
}

/// Waits in the place of whoever arranged it, then carries out what was arranged, or goes on with it.
fn waited(common: &Common, look: &Look) -> Result<u8> {
    let server = Server::open(&common.server)?;
    let waiting = match night::take_up(&server, look)? {
        TakenUp::Ended => return Ok(fail::DONE),
        TakenUp::CutOff(waiting) => {
            let done = go_on(&waiting.how, common, look);
            night::ended(&server)?;
            return done;
        }
        TakenUp::Waits(waiting) => waiting,
    };
    let mut telling = Telling::Begins;
    loop {
        if let Some(status) = night::wait(&server, &waiting, look)? {
            return Ok(status);
        }
        let plan = server.folder.shown(&lantern_host::night::plan_file());
        let (how, when_empty) = (&waiting.how, waiting.wait.when_empty);
        let done = at_night(&plan, how, when_empty.then_some(telling), common, look);
        telling = Telling::GoesOn;
        match done {
            // Somebody came while it was prepared: it waits on, for as long as it may.
            Err(Error::Changeover(ChangeoverFault::NotEmpty(on))) if waiting.wait.when_empty => {
                look.talk(&format!("  {on}: nothing was stopped, and it waits on"));
            }
            done => {
                night::ended(&server)?;
                return done;
            }
        }
    }
}

/// Carries out what was waited for: with `empty`, only while nobody is on, and somebody is then waited for again. What stands in the way before
/// the changeover itself tells it is told here.
///
/// # Errors
/// As of a changeover.
pub fn at_night(
    plan: &Path,
    how: &How,
    empty: Option<Telling>,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let prepare = || -> Result<_> {
        let (server, lock) = open_settled(common, look, "changeover")?;
        let mut server = with(server, how, look);
        server.config.warn.only_empty |= empty.is_some();
        let chosen = armed::choose(plan.to_str(), how.stay, &server)?;
        let status = ready(&chosen, &server, how, common, look)?;
        Ok((server, lock, chosen, status))
    };
    let (server, lock, chosen, status) = prepare().inspect_err(|error| {
        night::tell_not_begun_of(plan, common, &error.to_string(), look);
    })?;
    if let Some(status) = status {
        let why = "files that it needs could not be had";
        night::tell_not_begun(&server, Some(&chosen.plan), why, look);
        return Ok(status);
    }
    let job = Job {
        server,
        _lock: lock,
        task: Task::Plan(Box::new(chosen)),
    };
    job.carry_out(how, empty.unwrap_or(Telling::Whole), common, look)
}

/// A server as an operation is to see it.
fn with(mut server: Server, how: &How, look: &Look) -> Server {
    AtHand::at(&mut server, look);
    if let Some(times) = &how.warn {
        server.config.warn.at.clone_from(times);
    }
    let may = &server.config.unattended.may;
    server.config.warn.only_empty = how.unattended && !may.contains(&Matter::Players);
    server
}

/// Has all at hand that a plan needs, and says what is about to be done; the exit status where something cannot be had.
fn ready(
    chosen: &armed::Chosen,
    server: &Server,
    how: &How,
    common: &Common,
    look: &Look,
) -> Result<Option<u8>> {
    if !lantern_host::gather::wanted_by(&chosen.plan).is_empty() {
        let gathered = fetching::of_plan(server, &chosen.plan, &[], false, look)?;
        if !gathered.is_whole() {
            return Ok(Some(gathered.tell(common, look)));
        }
    }
    if !how.anyway {
        refuse_cut_off(server, Some(&chosen.plan))?;
    }
    let ledger = Ledger::open(&server.folder)?;
    armed::announce(chosen, server, &ledger, how.start, look)?;
    tell_rehearsal(report_on(&chosen.path, &chosen.text).as_ref(), look);
    if how.unattended {
        let mut ledger = ledger;
        let found = survey(server, &mut ledger, Depth::Usual)?;
        let piece = (&chosen.plan, &*chosen.path, &*chosen.text);
        judge(server, piece, &found.inventory)?;
    }
    Ok(None)
}

/// What is told of a changeover to whom lantern.toml names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Telling {
    /// That it begins, and how it ends.
    Whole,
    /// The same, and not that somebody is on: it is tried again then.
    Begins,
    /// The same, and not that it begins: that was told before.
    GoesOn,
}

/// Goes on with a changeover that was cut off.
fn go_on(how: &How, common: &Common, look: &Look) -> Result<u8> {
    match Job::of_one(true, how, common, look)? {
        Ok(job) => job.carry_out(how, Telling::Whole, common, look),
        Err(status) => Ok(status),
    }
}

impl ChangeoverArgs {
    fn how(&self) -> How {
        How {
            stay: self.stay,
            start: self.start,
            anyway: self.anyway,
            unattended: self.unattended,
            warn: self.warn.clone(),
        }
    }
}

/// Notes in a notice how a changeover has ended.
fn ended(notice: &mut Notice, done: &Result<Report>) {
    let (moment, why) = match done {
        Ok(Report { bad: None, .. }) => (Moment::Done, None),
        Ok(Report { bad: Some(why), .. }) => (Moment::Failed, Some(why.clone())),
        Err(error) => (Moment::Failed, Some(error.to_string())),
    };
    let times = done
        .as_ref()
        .ok()
        .and_then(|report| report.times.total_ms());
    notice.moment = moment;
    notice.why = why;
    notice.away = times.map(time);
    notice.back = matches!(
        done,
        Err(Error::Changeover(ChangeoverFault::RolledBack { wrong, lost, .. }))
            if wrong.is_empty() && lost.is_empty()
    );
}

/// Says whether the plan was rehearsed, and how that went.
/// How a plan did when it was rehearsed, in words behind "this plan"; `bad` paints what is.
pub fn rehearsed(report: &Rehearsal, bad: &dyn Fn(&str) -> String) -> String {
    if let Some(why) = &report.why {
        return format!("{} when it was rehearsed: {why}", bad("did not work"));
    }
    let world = if report.with_world { "with" } else { "without" };
    let start = report
        .start_ms
        .map_or(String::new(), |ms| format!(", ready after {}", time(ms)));
    format!(
        "was rehearsed {world} the world on {}, and worked{start}",
        date(report.at_ms)
    )
}

fn tell_rehearsal(report: Option<&Rehearsal>, look: &Look) {
    let told = match report {
        None => "was not rehearsed".into(),
        Some(report) => rehearsed(report, &|text| look.paint_error(Means::Bad, text)),
    };
    look.talk(&format!("  {:<14} {told}", "this plan"));
}

/// Shows what a changeover has come to.
pub fn show(look: &Look, common: &Common, report: &Report) {
    if look.json {
        look.answer(&answers::ChangeoverDone::from(report));
        return;
    }
    let times = report.times;
    let parts = times.parts().into_iter();
    let parts: Vec<String> = parts
        .map(|(ms, what)| format!("{} {what}", time(ms)))
        .collect();
    let down = match times.total_ms() {
        Some(total) => format!(
            "The server was away for {}: {}.",
            time(total),
            parts.join(", ")
        ),
        _ if report.running && !report.was_up => "The server is up now.".into(),
        _ if report.running => "The server is up.".into(),
        _ => "The server came up as it should, and is down again, as it was before.".into(),
    };
    match &report.bad {
        None => look.say(&look.paint(Means::Good, &format!("Done. {down}"))),
        Some(why) => {
            let text = "All files are exchanged and stay so, but something is wrong.";
            look.say(&look.paint(Means::Bad, text));
            look.say(&format!("  {why}"));
        }
    }
    if !report.seen.is_empty() {
        look.say(&format!("  {}", report.seen));
    }
    if report.backup.is_empty() {
        // It was an undo or a restore that was gone on with.
        return look.next(&common.next("history"));
    }
    look.say(&format!("  backup of the keep list: {}", report.backup));
    if !report.running {
        let start = common.next("console start");
        look.say(&format!(
            "\nTo start it: {}",
            look.paint(Means::Paste, &start)
        ));
    }
    look.say(&format!(
        "\nThe way back: {}",
        look.paint(Means::Paste, &common.next("undo"))
    ));
}
