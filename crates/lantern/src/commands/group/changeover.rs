//! `lantern group changeover`

use super::back::take_back;
use super::there::{CameTo, CarryOut, Prepare};
use super::waves::{Theirs, Work, at_once, for_each, tell_of_one, waves, work};
use super::{OfGroup, meant, names};
use crate::answers::group::{GroupBecame, GroupChangeoverDone, GroupSame, GroupServerDone};
use crate::commands::changeover::{self, Came, Job, Telling};
use crate::commands::undo::UndoArgs;
use crate::commands::{armed, heed_interrupts};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count, date, time};
use crate::progress::during;
use clap::Args;
use lantern_core::component::Id;
use lantern_core::group::{Carries, Row, compare};
use lantern_host::changeover::Event;
use lantern_host::config::Span;
use lantern_host::group::fault::GroupFault;
use lantern_host::group::{Found, Member, Standing};
use lantern_host::interrupt;
use lantern_host::night::How;
use lantern_host::{Error, Result};
use std::collections::BTreeSet;
use std::num::NonZeroUsize;
use std::path::Path;
use std::time::Duration;

/// How what was planned for a group is carried out.
#[derive(Debug, Args)]
pub struct ChangeoverOfGroup {
    #[command(flatten)]
    of: OfGroup,
    /// Where it goes wrong at one of them, take back what was carried out at the others, too; always so where the file has them down together
    #[arg(long)]
    all_or_none: bool,
    /// Carry out only the first that is left, and look at it for as long as you like; given again without this, it goes on with the rest
    #[arg(long)]
    first: bool,
    /// Wait so long after the first, and go on with the rest if it is then still as it should be: 2h, 30m
    #[arg(long, value_name = "TIME", requires = "first")]
    after: Option<Span>,
    /// Work at so many at once, instead of what the group's file says
    #[arg(long, value_name = "N")]
    at_once: Option<NonZeroUsize>,
    /// How long before each stop players are told, instead of what each lantern.toml says: 10m,1m,10s
    #[arg(long, value_name = "TIMES", value_delimiter = ',')]
    warn: Option<Vec<Span>>,
    /// Leave servers up that were down before; otherwise they are only started to see that it works
    #[arg(long)]
    start: bool,
}

/// Carries the servers' plans out, as the group's file says; given again it goes on where it ended.
pub fn run(args: &ChangeoverOfGroup, common: &Common, look: &Look) -> Result<u8> {
    heed_interrupts(look);
    let file = meant(&args.of)?;
    let found = Found::read(&file)?;
    if args.first && found.group.together {
        return Err(GroupFault::NoFirst.into());
    }
    let mut moving = Moving::of(&found, args, common, look)?;
    let all = moving.waves();
    let many = all.iter().flatten().count();
    let first = all.iter().flatten().take(1).map(|it| vec![*it]).collect();
    let waves = if args.first { first } else { all.clone() };
    let again = common.next(&format!("group changeover {} --yes", shell_word(&file)));
    if many > 0 {
        moving.announce(if args.after.is_some() { &all } else { &waves });
        armed::confirm("Carry it out?", &again, common, look)?;
    }
    let mut status = moving.carry_out(&waves);
    let mut is_part = args.first && many > 1;
    if let (fail::DONE, Some(after), true, [wave]) = (status, args.after, is_part, &waves[..]) {
        (status, is_part) = match moving.waits(wave[0], after.0, &again) {
            false => (fail::NO, true),
            true => {
                moving = Moving::of(&found, args, common, look)?;
                moving.each[wave[0]].0 = GroupBecame::Done;
                (moving.carry_out(&moving.waves()), false)
            }
        };
    }
    let is_wrong = moving
        .each
        .iter()
        .any(|(became, _)| *became == GroupBecame::Failed);
    if is_wrong && moving.all_or_none {
        let how = UndoArgs::default();
        take_back(&found, &mut moving.each, &how, moving.at_once, common, look);
    }
    let is_whole = status == fail::DONE && !is_part;
    let same = is_whole.then(|| same(&found)).transpose()?;
    if same.as_ref().is_some_and(|it| !it.differs.is_empty()) {
        status = fail::NO;
    }
    let answer = GroupChangeoverDone {
        group: found.group.name.clone(),
        servers: each_named(&found, moving.each),
        same,
    };
    match look.json {
        true => look.answer(&answer),
        false => show(&found, &answer, &file, look),
    }
    Ok(status)
}

/// What a server's changeover has come to, here or there.
enum Outcome {
    Here(Box<Result<Came>>),
    There(Result<CameTo>),
}

impl Outcome {
    fn has_succeeded(&self) -> bool {
        match self {
            Outcome::Here(came) => (**came).as_ref().is_ok_and(Came::has_succeeded),
            Outcome::There(came) => matches!(came, Ok(CameTo::Done { bad: None, .. })),
        }
    }
}

/// A group's changeover under way.
struct Moving<'a> {
    found: &'a Found,
    how: How,
    at_once: usize,
    all_or_none: bool,
    common: &'a Common,
    look: &'a Look,
    /// How far each server is, or was when it was looked at.
    standings: Vec<Standing>,
    /// What became of each server's plan, and why.
    each: Vec<(GroupBecame, Option<String>)>,
}

impl<'a> Moving<'a> {
    /// Looks how far each server is.
    ///
    /// # Errors
    /// Where one of them is not to be gone on with.
    fn of(
        found: &'a Found,
        args: &ChangeoverOfGroup,
        common: &'a Common,
        look: &'a Look,
    ) -> Result<Moving<'a>> {
        let standings = during("servers are looked at", || found.standings())?;
        let mut each: Vec<(GroupBecame, Option<String>)> = Vec::new();
        let mut back = Vec::new();
        for (server, standing) in found.group.servers.iter().zip(&standings) {
            each.push(match standing {
                Standing::Done => (GroupBecame::DoneBefore, None),
                Standing::Nothing => (GroupBecame::Nothing, None),
                Standing::Waits | Standing::CutOff(_) => (GroupBecame::Waits, None),
                Standing::Back(why) => {
                    back.push((server.called().to_owned(), why.clone()));
                    (GroupBecame::Failed, Some(why.clone()))
                }
            });
        }
        if !back.is_empty() {
            return Err(GroupFault::NotArmed(back).into());
        }
        Ok(Moving {
            found,
            how: How {
                start: args.start,
                warn: args.warn.clone(),
                ..How::default()
            },
            at_once: at_once(found, args.at_once),
            all_or_none: args.all_or_none || found.group.together,
            common,
            look,
            standings,
            each,
        })
    }

    /// What is left to do, wave by wave.
    fn waves(&self) -> Vec<Vec<usize>> {
        let waits = self.each.iter().enumerate();
        let waits = waits.filter(|(_, it)| it.0 == GroupBecame::Waits);
        let waits = waits.map(|(index, _)| index).collect();
        waves(self.found, &waits, self.at_once, false)
    }

    /// Says what is about to be done.
    fn announce(&self, waves: &[Vec<usize>]) {
        let look = self.look;
        let servers: Vec<usize> = waves.iter().flatten().copied().collect();
        let most = waves.iter().map(Vec::len).max();
        let how = match most.unwrap_or(0).min(self.at_once) {
            _ if self.found.group.together && servers.len() > 1 => {
                "all down, all exchanged, all up".into()
            }
            0 | 1 => "one after another".into(),
            several => format!("{several} at once"),
        };
        let title = format!(
            "{}: {}, {how}: {}.",
            self.found.group.name,
            count(servers.len(), "changeover", "changeovers"),
            names(self.found, &servers),
        );
        look.talk(&look.paint_error(Means::Title, &title));
        for index in &servers {
            if let Standing::CutOff(told) = &self.standings[*index] {
                let name = self.found.group.servers[*index].called();
                look.talk(&format!("  {name} was cut off, and goes on first: {told}"));
            }
        }
        let of = |became: GroupBecame| -> Vec<usize> {
            let own = self.each.iter().enumerate();
            let own = own.filter(|(_, it)| it.0 == became);
            own.map(|(index, _)| index).collect()
        };
        for (became, told) in [
            (GroupBecame::DoneBefore, "done before"),
            (GroupBecame::Nothing, "nothing to do"),
        ] {
            let servers = of(became);
            if !servers.is_empty() {
                look.talk(&format!("  {told} at {}", names(self.found, &servers)));
            }
        }
        look.talk(match (self.found.group.together, self.all_or_none) {
            (true, _) => "  Where it goes wrong at one, all of them go back.",
            (false, true) => "  Where it goes wrong at one, that one goes back by itself, and what was done at the others is taken back.",
            (false, false) => "  Where it goes wrong at one, that one goes back by itself, and the rest is not begun.",
        });
    }

    /// Carries plans out, wave by wave, until it goes wrong at one of them, or somebody calls it off.
    fn carry_out(&mut self, waves: &[Vec<usize>]) -> u8 {
        let look = self.look;
        for (number, wave) in waves.iter().enumerate() {
            if interrupt::is_wished() {
                look.talk(
                    &look.paint_error(Means::Caution, "\nCalled off: the rest is not begun."),
                );
                return fail::NO;
            }
            let names = names(self.found, wave);
            // Of the only one all was said before.
            if waves.len() > 1 || wave.len() == 1 {
                let title = format!("\n{names}, {} of {}", number + 1, waves.len());
                look.talk(&look.paint_error(Means::Title, &title));
            }
            let status = self.wave(wave);
            if status != fail::DONE {
                return status;
            }
        }
        fail::DONE
    }

    /// Gets ready what a server's changeover needs; an exit status where something cannot be had, which was told.
    fn ready(&self, index: usize, inner: &Look) -> Result<std::result::Result<Work<Job>, u8>> {
        let goes_on = matches!(self.standings[index], Standing::CutOff(_));
        let how = self.how.clone();
        match &self.found.members[index] {
            Member::Here(folder) => {
                let own = self.common.of(folder);
                Ok(Job::of_one(goes_on, &how, &own, inner)?.map(Work::Here))
            }
            Member::There(there) => {
                let idle = Theirs::new(there, 0);
                let prepared = idle.ask(&Prepare { goes_on, how }, None, inner, &mut |_| ())?;
                Ok(match prepared.not {
                    Some(status) => Err(status),
                    None => Ok(Work::There(Theirs::new(there, prepared.warns_ms))),
                })
            }
        }
    }

    /// Carries a server's plan out, by whichever lantern works there.
    fn works(
        &self,
        index: usize,
        is_alone: bool,
        work: &Work<Job>,
        inner: &Look,
        tell: &mut dyn FnMut(Event),
    ) -> Outcome {
        match work {
            Work::Here(job) => {
                Outcome::Here(Box::new(job.work(&self.how, Telling::Whole, inner, tell)))
            }
            Work::There(theirs) => {
                let carry_out = CarryOut {
                    goes_on: matches!(self.standings[index], Standing::CutOff(_)),
                    how: self.how.clone(),
                    together_ms: theirs.together_ms(),
                };
                let name = self.found.group.servers[index].called();
                let name = Some(name).filter(|_| !is_alone);
                Outcome::There(theirs.ask(&carry_out, name, inner, tell))
            }
        }
    }

    /// Carries the plans of a wave out.
    fn wave(&mut self, wave: &[usize]) -> u8 {
        let found = self.found;
        let inner = for_each(self.look);
        let mut jobs = Vec::new();
        for index in wave {
            if wave.len() > 1 {
                self.look.talk("");
            }
            let (status, why) = match self.ready(*index, &inner) {
                Ok(Ok(job)) => {
                    jobs.push((*index, job));
                    continue;
                }
                Ok(Err(status)) => (status, "files that it needs could not be had".into()),
                Err(error) => (self.tell(*index, &error, &inner), error.to_string()),
            };
            // Nothing was touched at those that are ready, either.
            self.each[*index] = (GroupBecame::Failed, Some(why));
            return status;
        }
        if wave.len() > 1 {
            self.look.talk("");
        }
        let works = |index: usize, job: &Work<Job>, tell: &mut dyn FnMut(Event)| {
            let came = self.works(index, wave.len() == 1, job, &inner, tell);
            let succeeded = came.has_succeeded();
            (came, succeeded)
        };
        let came = work(found, jobs, self.at_once, &inner, works);
        let mut status = fail::DONE;
        for (index, job, came) in came {
            let (became, own_status) = match (job, came) {
                (Work::Here(job), Outcome::Here(came)) => {
                    self.settled_here(index, &job, *came, wave.len() == 1, &inner)
                }
                (_, Outcome::There(came)) => self.settled_there(index, came, &inner),
                (Work::There(_), Outcome::Here(_)) => continue,
            };
            self.each[index] = became;
            if status == fail::DONE {
                status = own_status;
            }
        }
        status
    }

    /// What a changeover here has come to, told.
    fn settled_here(
        &self,
        index: usize,
        job: &Job,
        came: Result<Came>,
        is_alone: bool,
        inner: &Look,
    ) -> ((GroupBecame, Option<String>), u8) {
        let own = match self.found.members[index].here() {
            Ok(folder) => self.common.of(folder),
            Err(_) => return ((GroupBecame::Waits, None), fail::ERROR),
        };
        match came.and_then(|came| job.settle(came, &self.how, Telling::Whole, inner)) {
            Ok(report) => {
                match is_alone {
                    true => changeover::show(inner, &own, &report),
                    false => self.tell_one(index, report.times.total_ms(), &report.seen),
                }
                match report.bad {
                    None => ((GroupBecame::Done, None), fail::DONE),
                    Some(why) => ((GroupBecame::Failed, Some(why)), fail::NO),
                }
            }
            Err(error) if job.has_turned_back(&error) => (
                (GroupBecame::TurnedBack, Some(error.to_string())),
                fail::DONE,
            ),
            Err(error) => {
                let why = error.to_string();
                let told = job.failed(error, &own, inner);
                let told = told.unwrap_or_else(|error| fail::tell(&error, &own, inner));
                ((GroupBecame::Failed, Some(why)), told)
            }
        }
    }

    /// What a changeover there has come to, told; where the session broke, that is found out.
    fn settled_there(
        &self,
        index: usize,
        came: Result<CameTo>,
        inner: &Look,
    ) -> ((GroupBecame, Option<String>), u8) {
        let done = |away_ms, seen: &str, bad: Option<String>| {
            self.tell_one(index, away_ms, seen);
            match bad {
                None => ((GroupBecame::Done, None), fail::DONE),
                Some(why) => ((GroupBecame::Failed, Some(why)), fail::NO),
            }
        };
        match came {
            Ok(CameTo::Done { away_ms, seen, bad }) => done(away_ms, &seen, bad),
            Ok(CameTo::TurnedBack(why)) => ((GroupBecame::TurnedBack, Some(why)), fail::DONE),
            Ok(CameTo::Failed(why, status)) => ((GroupBecame::Failed, Some(why)), status),
            Err(error @ Error::Session { .. }) => {
                let name = self.found.group.servers[index].called();
                let text = format!("  {name}: {error}; it is looked what became of it");
                self.look
                    .talk(&self.look.paint_error(Means::Caution, &text));
                let (became, status) = match self.found.found_again(index) {
                    Ok(Standing::Done) => return done(None, "", None),
                    Ok(Standing::Waits) => ("it was called off before the stop".into(), fail::NO),
                    Ok(Standing::CutOff(told)) => (told, fail::WAITING),
                    Ok(Standing::Back(why)) => (why, fail::BACK),
                    Ok(Standing::Nothing) => ("nothing is armed there any more".into(), fail::NO),
                    Err(later) => (
                        format!("what became of it is not known: {later}"),
                        fail::WAITING,
                    ),
                };
                let text = format!("  {name}: {became}");
                self.look.talk(&self.look.paint_error(Means::Bad, &text));
                ((GroupBecame::Failed, Some(became)), status)
            }
            Err(error) => {
                let why = error.to_string();
                (
                    (GroupBecame::Failed, Some(why)),
                    self.tell(index, &error, inner),
                )
            }
        }
    }

    /// Tells an error of one server.
    fn tell(&self, index: usize, error: &Error, inner: &Look) -> u8 {
        tell_of_one(self.found, index, error, self.common, inner)
    }

    /// Of several at once, or of one there, what one has come to.
    fn tell_one(&self, index: usize, away_ms: Option<u64>, seen: &str) {
        let name = self.found.group.servers[index].called();
        let away = match away_ms {
            Some(ms) => format!(", away for {}", time(ms)),
            None => String::new(),
        };
        let seen = match seen.is_empty() {
            true => String::new(),
            false => format!("; {seen}"),
        };
        let look = self.look;
        look.talk(&look.paint_error(Means::Good, &format!("  {name}: done{away}{seen}")));
    }

    /// Waits after the first one, and looks whether it is then still as it should be. Whether it goes on.
    fn waits(&self, index: usize, after: Duration, again: &str) -> bool {
        let (look, name) = (self.look, self.found.group.servers[index].called());
        if !self.is_right(index) {
            return false;
        }
        let until = jiff::Timestamp::now().as_millisecond() + after.as_millis() as i64;
        look.talk(&format!(
            "\nThe rest follows on {}, if {name} is then still as it should be. Nothing is held meanwhile.\n\
             Ctrl-C ends the wait; the rest is then begun with: {}",
            date(until),
            look.paint_error(Means::Paste, again),
        ));
        if !during(&format!("{name} is let be"), || interrupt::pause(after)) {
            let text = "\nThe wait has ended: the rest is not begun.";
            look.talk(&look.paint_error(Means::Caution, text));
            return false;
        }
        self.is_right(index)
    }

    /// Whether a server that was carried out is up and as it should be; if not, that is told.
    fn is_right(&self, index: usize) -> bool {
        let (look, name) = (self.look, self.found.group.servers[index].called());
        let (is_right, problems) = match self.found.verified_one(index) {
            Ok(seen) => (seen.seen_right == Some(true), seen.problems),
            Err(error) => (false, vec![error.to_string()]),
        };
        for problem in problems {
            let text = format!("  {name}: {problem}");
            look.talk(&look.paint_error(Means::Bad, &text));
        }
        if !is_right {
            look.talk("The rest is not begun.");
        }
        is_right
    }
}

/// What became of each server's plan, with its name.
pub fn each_named(found: &Found, each: Vec<(GroupBecame, Option<String>)>) -> Vec<GroupServerDone> {
    let servers = found.group.servers.iter().zip(each);
    let servers = servers.map(|(server, (became, why))| GroupServerDone {
        server: server.called().to_owned(),
        became,
        why,
    });
    servers.collect()
}

/// Looks at all of them once more, and holds what they carry against one another.
fn same(found: &Found) -> Result<GroupSame> {
    let seen = during("servers are held against one another", || found.surveyed());
    let mut carries = Vec::new();
    for one in seen {
        carries.push(Some(one?.carries));
    }
    Ok(same_of(found, &carries))
}

/// Holds what they carry against one another.
pub fn same_of(found: &Found, carries: &[Option<Carries>]) -> GroupSame {
    let rows = compare(&found.group, carries);
    let ids = |rows: &mut dyn Iterator<Item = &Row>| -> Vec<Id> {
        rows.map(|row| row.id.clone()).collect()
    };
    let shared = |row: &&Row| row.at.iter().flatten().count() > 1;
    let alike = rows
        .iter()
        .filter(|row| row.differs.is_empty())
        .filter(shared);
    GroupSame {
        same: alike.clone().filter(|row| !row.is_unread).count(),
        unread: ids(&mut alike.filter(|row| row.is_unread)),
        differs: ids(&mut rows.iter().filter(|row| row.is_wrong())),
    }
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
        (&[GroupBecame::TurnedBack], Means::Caution, "turned back"),
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
        let each_why = servers.iter().filter_map(|it| each[*it].why.as_ref());
        let each_why = each_why.filter_map(|why| why.lines().next());
        for why in each_why.collect::<BTreeSet<&str>>() {
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
            let of_one = answer.servers.iter().zip(&found.members);
            let mut wrong = of_one.filter(|(it, _)| it.became == GroupBecame::Failed);
            let status = wrong
                .next()
                .map(|(_, member)| member.paste("status", shell_word));
            match status.and_then(Result::ok) {
                Some(status) => status,
                None => format!("lantern group changeover {}", shell_word(file)),
            }
        }
    };
    look.next(&next);
}

/// What they carry in the end.
pub fn show_same(same: &GroupSame, look: &Look) {
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
