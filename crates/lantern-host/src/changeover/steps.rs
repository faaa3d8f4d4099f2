//! What each action of an operation does.

use super::check;
use super::moves;
use super::paused;
use super::run::Run;
use super::sending::{self, Sent};
use super::stage;
use super::{Event, files, telling_name, undo};
use crate::backup::fault::BackupFault;
use crate::backup::{self, Label, Pass};
use crate::changeover::fault::ChangeoverFault;
use crate::clients;
use crate::console::{ServerState, Started, who_is_on};
use crate::error::{Error, Result};
use crate::folder::{free_name, own};
use crate::place::Meta;
use crate::shipped;
use crate::survey::{Depth, survey};
use crate::told::size;
use crate::verify::{self, GoodStart};
use lantern_core::component::Id;
use lantern_core::health::{Installed, Running, StartReport};
use lantern_core::hour::Players;
use lantern_core::operation::{Operation, OperationKind, Work, is_own};
use lantern_core::path::RelPath;
use lantern_core::plan::{ActionKind, Plan, Step};
use std::time::{Duration, Instant};

/// How often it is looked whether a warning is due or the operation was called off.
const WARN_LOOK: Duration = Duration::from_millis(50);

impl Run<'_, '_> {
    /// The plan of a changeover; the table asks only those for what needs one.
    fn plan(&self) -> Result<Plan> {
        match &self.journal.operation.work {
            Work::Changeover { plan, .. } => Ok(Plan::clone(plan)),
            Work::Undo { .. } | Work::Restore { .. } => {
                Err(Error::Changeover(ChangeoverFault::NothingToDo))
            }
        }
    }

    pub(super) fn stage(&mut self) -> Result<()> {
        let number = self.journal.operation.number;
        if !matches!(self.journal.operation.work, Work::Changeover { .. }) {
            // What a backup gives back is unpacked while the server still runs; drawn anew after its stop.
            self.server
                .folder
                .remove_all(&RelPath::parse(&stage::folder_name(number))?)?;
            let is_restore = matches!(self.journal.operation.work, Work::Restore { .. });
            if is_restore {
                self.begins(Step::Stage);
            }
            undo::draw(self)?;
            if is_restore && self.journal.operation.moves.is_empty() {
                return Err(ChangeoverFault::NothingToDo.into());
            }
            if is_restore {
                let brought = self
                    .journal
                    .operation
                    .moves
                    .iter()
                    .filter(|step| step.brings());
                let brought = files(brought.count());
                self.done(Step::Stage, format!("{brought} unpacked and checked"));
            }
            return Ok(());
        }
        self.begins(Step::Stage);
        let plan = self.plan()?;
        let unpacked = stage::unpacked(self.server, number)?;
        let staged = stage::stage(self.server, &plan, &unpacked)?;
        self.learnt.shipped = staged.shipped;
        let new = plan.of(ActionKind::Place).count() + plan.of(ActionKind::Replace).count();
        let mut told = format!("{} unpacked and checked", files(new));
        let mut not_given = staged.not_given;
        if self.server.folder.is_far() {
            let sent = self.send();
            if sent.as_ref().is_err_and(sending::can_go_on) {
                self.learnt.keeps_sent = true;
                let told = "broken off: what has been sent stays there, and the next attempt goes on from it";
                self.done(Step::Stage, told.into());
            }
            let sent = sent?;
            not_given += sent.not_given;
            told.push_str(&sent_in_words(&sent));
            // They are there for a later merge: that one is missing is no reason to end here.
            let _ = self.keep_shipped(&unpacked);
            let _ = self.server.folder.remove_all(&unpacked);
        }
        self.learnt.staged = stage::stamps(self.server, number)?;
        if not_given > 0 {
            let many = files(not_given);
            told.push_str(&format!(
                "; {many} will be yours, as you may not give them to whom they belong"
            ));
        }
        self.done(Step::Stage, told);
        Ok(())
    }

    /// Keeps the texts among what was unpacked here, which would have to be fetched later.
    fn keep_shipped(&mut self, unpacked: &RelPath) -> Result<()> {
        let comes = self.journal.operation.moves.iter();
        let comes = comes.filter(|step| step.brings());
        let named = comes.filter_map(|step| {
            let path = unpacked.join(step.to.as_str()).ok()?;
            Some((path, step.expects.as_deref()?))
        });
        let named: Vec<(RelPath, &str)> = named.collect();
        let files = named.iter().map(|(path, hash)| (path, *hash));
        shipped::keep_files(&self.server.folder, self.ledger, files)
    }

    /// Brings what was unpacked here to a server on another machine, and tries there what will be needed.
    fn send(&mut self) -> Result<Sent> {
        let Operation { number, moves, .. } = &self.journal.operation;
        sending::try_renames(self.server, moves, *number)?;
        sending::send(self.server, self.ledger, moves, *number)
    }

    pub(super) fn first_backup(&mut self) -> Result<()> {
        // While it still runs: what it does not show now is no reason to go back later.
        let found = survey(self.server, self.ledger, Depth::Usual)?;
        for one in self.servers.iter_mut() {
            let part = found.part(&one.server);
            one.unshown = verify::unshown_now(&one.server, &part.inventory);
        }
        self.begins(Step::FirstBackup);
        let kind = self.journal.operation.kind();
        let first = backup::pass(self.server, None).map_err(|error| match error {
            Error::Backup(BackupFault::CalledOff) => ChangeoverFault::CalledOff(kind).into(),
            other => other,
        })?;
        let mut stored = format!("{} of the keep list stored", files(first.files()));
        if kind == OperationKind::Changeover
            && let Err(error) = clients::remember(self.server, &found.inventory)
        {
            stored += &format!("; what clients must have now could not be noted: {error}");
        }
        let told = match first.left_out.join(", ") {
            none if none.is_empty() => stored,
            some => format!("{stored}; not in it, as they are links or have odd names: {some}"),
        };
        self.done(Step::FirstBackup, told);
        self.learnt.pass = Some(first);
        Ok(())
    }

    pub(super) fn second_backup(&mut self) -> Result<()> {
        self.begins(Step::SecondBackup);
        let pass = backup::pass(self.server, self.learnt.pass.as_ref())?;
        let operation = &mut self.journal.operation;
        let (from, to) = operation.ends();
        let name = telling_name(self.server, operation.number, from, to);
        let name = {
            let label = Label {
                name: &name,
                note: None,
                named: false,
            };
            backup::finish(self.server, &pass, &label)?.name
        };
        if let Work::Changeover { backup, .. } = &mut operation.work {
            *backup = Some(name);
        }
        let what = format!("{} bytes had changed since", pass.read_bytes);
        self.done(Step::SecondBackup, what);
        self.learnt.pass = Some(pass);
        Ok(())
    }

    /// Tells players, as often as they are to be told, and waits; until somebody calls it off.
    pub(super) fn warn(&mut self) -> Result<()> {
        let kind = self.journal.operation.kind();
        if crate::interrupt::called_off() {
            return Err(ChangeoverFault::CalledOff(kind).into());
        }
        let is_undo = matches!(self.journal.operation.work, Work::Undo { .. });
        if is_undo && self.server.config.warn.at.is_empty() {
            // A server that hangs cannot tell anybody, and has to be stopped all the same.
            let _ = self.say(&self.server.config.warn.last);
            return Ok(());
        }
        self.begins(Step::Warn);
        let told = self.warn_at_times()?;
        self.done(Step::Warn, told);
        Ok(())
    }

    fn warn_at_times(&mut self) -> Result<String> {
        if self.servers.are_down()? {
            return Ok("nobody to warn: the server is down".into());
        }
        let warn = &self.server.config.warn;
        if warn.only_empty {
            return match who_is_on(self.servers.iter().map(|one| &one.server)) {
                Players::Nobody => Ok("nobody to warn: nobody is on".into()),
                on => Err(ChangeoverFault::NotEmpty(on).into()),
            };
        }
        let mut times = warn.at.clone();
        times.sort_unstable();
        let Some(longest) = times.last().map(|longest| longest.0) else {
            return Ok("players were not told: no times are set".into());
        };
        // Those that are down together are stopped when the longest of them has warned.
        let seat = self.server.seat.as_ref();
        let total = seat.map_or(longest, |seat| seat.warns().max(longest));
        let begun = Instant::now();
        let mut told = 0;
        loop {
            let left = total.saturating_sub(begun.elapsed());
            while let Some(next) = times.pop_if(|next| next.0 >= left) {
                let text = warn.text.replace("{time}", &next.to_string());
                if !self.say(&text)? {
                    return Ok("this family has no command to tell players something".into());
                }
                told += 1;
            }
            if crate::interrupt::called_off() {
                self.say(&warn.off)?;
                return Err(ChangeoverFault::CalledOff(self.journal.operation.kind()).into());
            }
            if left.is_zero() {
                break;
            }
            std::thread::sleep(WARN_LOOK.min(left));
            let done = begun.elapsed().as_secs().min(total.as_secs());
            (self.tell)(Event::Warned(done, total.as_secs()));
        }
        self.say(&warn.last)?;
        let times = if told == 1 {
            "once".into()
        } else {
            format!("{told} times")
        };
        Ok(format!(
            "players were told {times}, and once more at the end"
        ))
    }

    /// Tells players something, on each server that is up; that one has gone in the meantime is no error. Says whether all
    /// could be told.
    fn say(&self, text: &str) -> Result<bool> {
        let mut told = true;
        for one in self.servers.iter() {
            let console = one.console();
            told &= match console.state()? {
                ServerState::Down => true,
                _ => match console.say(text) {
                    Err(error) => match console.state()? {
                        ServerState::Down => true,
                        _ => return Err(error),
                    },
                    Ok(told) => told,
                },
            };
        }
        Ok(told)
    }

    /// Stops the server where it is up.
    pub(super) fn stop(&mut self) -> Result<()> {
        let is_restore = matches!(self.journal.operation.work, Work::Restore { .. });
        let was_up = self.journal.operation.was_up;
        if is_restore || !was_up {
            self.servers.refuse_up()?;
        }
        if is_restore {
            return Ok(());
        }
        self.begins(Step::Stop);
        if self.servers.are_down()? {
            self.learnt.down_since = was_up.then(Instant::now);
            self.done(
                Step::Stop,
                format!("{} down already", self.whom("was", "were")),
            );
            return Ok(());
        }
        paused::pause(self.server, &self.journal.operation.paused)?;
        let begun = Instant::now();
        let waited = self.servers.stop()?;
        self.is_down_since(begun + waited);
        self.done(Step::Stop, format!("{} down", self.whom("is", "are")));
        Ok(())
    }

    fn is_down_since(&mut self, begun: Instant) {
        self.learnt.stop_ms = Some(begun.elapsed().as_millis() as u64);
        self.learnt.down_since = Some(Instant::now());
    }

    pub(super) fn await_stop(&mut self) -> Result<()> {
        let limit = self.server.family.console.stop_timeout_s;
        self.done(
            Step::Stop,
            format!("not down within {limit} s: nothing will be exchanged; its stop is waited for, to start it again"),
        );
        let begun = Instant::now();
        self.servers.await_stop()?;
        self.is_down_since(begun);
        Ok(())
    }

    /// Looks again at what is about to be moved, now that nobody writes it any more: what goes has to be what was seen,
    /// and what comes what was staged. An edit is made anew on a text that was written since.
    pub(super) fn look_again(&mut self) -> Result<()> {
        let seen = self.ledger.seen()?;
        let folder = &self.server.folder;
        let (mut changes, mut written) = (Vec::new(), Vec::new());
        let moves = &self.journal.operation.moves;
        let looking = moves::Looking::at(folder, moves.iter().map(|step| &step.from))?;
        for step in moves {
            let Some(now) = looking.look(&step.from)?.filter(Meta::is_leaf) else {
                changes.push(format!("{} is gone", step.from));
                continue;
            };
            let Some(expected) = &step.expects else {
                continue;
            };
            let known = seen.get(step.from.as_str());
            let known = known.is_some_and(|(stamp, hash)| *stamp == now.stamp && hash == expected);
            let is_staged = self.learnt.staged.get(&step.from) == Some(&now.stamp);
            if known || step.brings() && is_staged {
                continue;
            }
            let hash = folder.held_against(&step.from, &now, expected)?;
            if hash != *expected {
                match step.brings() {
                    true => changes.push(format!("{} was written", step.from)),
                    false => written.push((step.from.clone(), hash)),
                }
            }
        }
        for (path, hash) in written {
            if let Err(why) = self.edit_anew(&path, &hash) {
                changes.push(why);
            }
        }
        if !changes.is_empty() {
            return Err(ChangeoverFault::FolderChanged { changes }.into());
        }
        self.servers.refuse_up()
    }

    /// Makes an edit anew on its text as it is now; or says why that cannot be.
    fn edit_anew(&mut self, path: &RelPath, before: &str) -> Result<(), String> {
        let was_written = format!("{path} was written");
        let Work::Changeover { plan, .. } = &self.journal.operation.work else {
            return Err(was_written);
        };
        let mut edits = plan.edits.iter();
        let edit = edits.find(|edit| edit.path == *path);
        let edit = edit.ok_or_else(|| was_written.clone())?;
        let staged = stage::path_in(self.journal.operation.number, path);
        let written = staged.and_then(|staged| stage::edit_anew(self.server, edit, &staged));
        let after = written.map_err(|error| format!("{was_written}: {error}"))?;
        self.see_staged(path, &after)
            .map_err(|error| format!("{was_written}: {error}"))?;
        self.journal.operation.edited_anew(path, before, &after);
        self.learnt.edited_anew.push(path.clone());
        Ok(())
    }

    /// Writes down what a file on another machine is that was staged anew.
    fn see_staged(&mut self, path: &RelPath, hash: &str) -> Result<()> {
        let staged = stage::path_in(self.journal.operation.number, path)?;
        let there = self.server.folder.look(&staged)?;
        let row = there.filter(|_| self.server.folder.is_far());
        let row = row.map(|there| (&staged, there.stamp, hash.to_owned()));
        self.ledger.see(row.into_iter(), &[])
    }

    pub(super) fn draw_moves(&mut self) -> Result<()> {
        undo::draw(self)
    }

    pub(super) fn end_what_runs(&mut self) -> Result<()> {
        self.servers.end_what_runs()
    }

    pub(super) fn swap(&mut self) -> Result<()> {
        self.begins(Step::Swap);
        // Before, so that what comes into them finds them as they were; and once more, as what was emptied is gone.
        undo::make_folders(self)?;
        sending::over_breaks(|| {
            moves::perform(&self.server.folder, &self.journal.operation.moves)
        })?;
        undo::make_folders(self)?;
        // An undo looks at the old state before it is written down.
        if !matches!(self.journal.operation.work, Work::Changeover { .. }) {
            self.see_what_was_moved(false)?;
        }
        if !matches!(self.journal.operation.work, Work::Changeover { .. }) {
            let (out, back) = self.moved();
            let mut told = format!("{out} taken out, {back} put back");
            if self.learnt.not_given > 0 {
                let many = files(self.learnt.not_given);
                told.push_str(&format!(
                    "; {many} not quite as it was: you may not give it to whom it belonged"
                ));
            }
            self.done(Step::Swap, told);
        }
        Ok(())
    }

    /// How many files go out of the way, and how many come.
    fn moved(&self) -> (String, String) {
        let moves = &self.journal.operation.moves;
        let out = moves.iter().filter(|step| is_own(&step.to)).count();
        (files(out), files(moves.len() - out))
    }

    /// Compares the keep list with the backup that was made before the swap.
    pub(super) fn compare_kept(&mut self) -> Result<()> {
        let before = match (&self.learnt.pass, self.journal.operation.backup()) {
            (Some(pass), _) => pass,
            (None, Some(name)) => {
                let pass = Pass::of(backup::manifest(self.server, name)?);
                self.learnt.pass.insert(pass)
            }
            (None, None) => {
                return Err(BackupFault::NoBackup("of this changeover".into()).into());
            }
        };
        let servers = &self.servers;
        let changes = before.changes_since(self.server, &|path| servers.spare(path))?;
        if !changes.is_empty() {
            return Err(ChangeoverFault::FolderChanged { changes }.into());
        }
        let (aside, placed) = self.moved();
        let kept = match self.servers.whose() {
            Some(names) => format!("the part of the keep list that is {names}'s own"),
            None => "the keep list".into(),
        };
        let mut told = format!("{aside} set aside, {placed} put in place; {kept} is untouched");
        for path in &self.learnt.edited_anew {
            told.push_str(&format!(
                "; {path} was written meanwhile, and edited as it is now"
            ));
        }
        self.done(Step::Swap, told);
        Ok(())
    }

    /// Starts the server with the new state and waits until it is ready and the hold is over.
    pub(super) fn start(&mut self) -> Result<()> {
        self.learnt.own_ms = self
            .learnt
            .down_since
            .map_or(Duration::ZERO, |since| since.elapsed())
            .saturating_sub(self.learnt.waited)
            .as_millis() as u64;
        self.begins(Step::Start);
        let Work::Changeover { stays, .. } = self.journal.operation.work else {
            return self.start_again();
        };
        let each = self.servers.iter().map(|one| &one.server);
        let before = each.filter_map(|one| Some(GoodStart::read(one)?.ready_ms));
        let before = before.max();
        let console = &self.server.family.console;
        let (limit, hold_s) = (console.ready_timeout_s, console.hold_ms as f64 / 1000.0);
        let outputs: Vec<_> = self.servers.iter().map(|one| one.console().log()).collect();
        let tell = &mut self.tell;
        let mut waiting = || {
            tell(Event::Waiting {
                before_ms: before,
                limit_s: limit,
                outputs: outputs.clone(),
            });
        };
        self.servers.start(true, stays, &mut waiting)?;
        let ready_s = self.servers.ready_ms() as f64 / 1000.0;
        let each = self.each_of_several();
        self.done(
            Step::Start,
            format!("{each}ready after {ready_s:.1} s, and still up after {hold_s} s more"),
        );
        Ok(())
    }

    /// The servers, where several are stopped and started, as the beginning of a sentence.
    fn each_of_several(&self) -> String {
        let names = self.servers.iter().filter_map(|one| one.server.which());
        let names: Vec<&str> = names.collect();
        match names.is_empty() {
            true => String::new(),
            false => format!("{}: ", names.join(", ")),
        }
    }

    /// The server, or the servers by name, with the right form of a verb.
    fn whom(&self, one: &str, several: &str) -> String {
        let names = self.servers.iter().filter_map(|one| one.server.which());
        match &names.collect::<Vec<&str>>()[..] {
            [] => format!("the server {one}"),
            [name] => format!("{name} {one}"),
            names => format!("{} {several}", names.join(", ")),
        }
    }

    /// Looks at each server that has started.
    pub(super) fn verify(&mut self) -> Result<()> {
        self.begins(Step::Verify);
        let plan = self.plan()?;
        let build = Some(plan.to).filter(|to| !to.is_empty() && !to.starts_with('#'));
        let build = build.map(|version| Installed {
            id: Id::new(&self.server.family.build.id),
            version,
            protocol: plan.protocol,
        });
        let expects = plan.expects;
        let (mut told, mut seen, mut loaded) = (Vec::new(), Vec::new(), None);
        for one in self.servers.iter() {
            let name = one.server.which();
            let expects = expects.iter();
            let expects = expects.filter(|it| it.server.as_deref() == name).cloned();
            let (known, unshown) = (one.known_errors.clone(), one.unshown.clone());
            let wanted = verify::wanted(
                &one.server,
                build.clone(),
                expects.collect(),
                known,
                unshown,
            )?;
            let nothing = Started::default();
            let started = one.started.as_ref().unwrap_or(&nothing);
            let verdict = verify::look(&one.console(), &one.server, &wanted, &started.lines)?;
            self.learnt.errors.extend(verdict.errors.iter().cloned());
            let problems = verdict.problems();
            let of_it = name.map_or(String::new(), |name| format!("{name}: "));
            if !problems.is_empty() {
                return Err(ChangeoverFault::NotRight {
                    why: format!("{of_it}{}", problems.join("; ")),
                    last: Vec::new(),
                }
                .into());
            }
            GoodStart::remember(&one.server, started, verdict.unshown())?;
            seen.push(format!("{of_it}{}", verdict.told()));
            told.push(format!("{of_it}{}", told_of(&verdict)));
            let running = |all: Vec<Running>| all.iter().filter(|it| it.runs).count();
            loaded = match (loaded, verdict.components.map(running)) {
                (Some(sum), Some(more)) => Some(sum + more),
                (sum, more) => sum.or(more),
            };
        }
        self.learnt.seen = seen.join("; ");
        self.learnt.loaded = loaded;
        self.done(Step::Verify, told.join("; "));
        Ok(())
    }

    /// Starts the servers that ran before, and looks what is wrong with them: they may not be what they were.
    pub(super) fn start_again(&mut self) -> Result<()> {
        let is_changeover = matches!(self.journal.operation.work, Work::Changeover { .. });
        self.begins(Step::Start);
        self.servers.start(false, true, &mut || {})?;
        let seconds = self.servers.ready_ms() as f64 / 1000.0;
        let back = if is_changeover { "as before, " } else { "" };
        let each = self.each_of_several();
        self.done(
            Step::Start,
            format!("{each}{back}ready after {seconds:.1} s"),
        );
        self.learnt.wrong = match self.look_at_what_was() {
            Ok(problems) => problems,
            Err(error) => vec![format!("it could not be looked at: {error}")],
        };
        let other = check::other_program(self.server, &self.journal.operation.work);
        self.learnt.wrong.extend(other);
        if !is_changeover && self.learnt.wrong.is_empty() {
            for one in self.servers.iter() {
                if let Some(started) = &one.started {
                    GoodStart::remember(&one.server, started, one.unshown.clone())?;
                }
            }
        }
        Ok(())
    }

    /// What is wrong with the servers that ran before, by what is installed.
    fn look_at_what_was(&mut self) -> Result<Vec<String>> {
        let found = survey(self.server, self.ledger, Depth::Usual)?;
        let mut wrong = Vec::new();
        for one in self.servers.iter() {
            let Some(started) = &one.started else {
                continue;
            };
            let inventory = &found.part(&one.server).inventory;
            let expected = verify::expected_now(&one.server, inventory);
            let build = verify::installed(&one.server, inventory);
            let known = one.known_errors.clone();
            let wanted = verify::wanted(&one.server, build, expected, known, one.unshown.clone())?;
            let verdict = verify::look(&one.console(), &one.server, &wanted, &started.lines)?;
            wrong.extend(verdict.problems());
        }
        Ok(wrong)
    }

    pub(super) fn swap_back(&mut self) -> Result<()> {
        let moves = &self.journal.operation.moves;
        let lost = sending::over_breaks(|| moves::take_back(&self.server.folder, moves))?;
        self.learnt.lost = lost;
        self.see_what_was_moved(true)
    }

    /// What a server that failed wrote into new files is no release's: it is set aside, not dropped.
    pub(super) fn set_aside_rewritten(&mut self) -> Result<()> {
        let folder = &self.server.folder;
        let number = self.journal.operation.number;
        let aside = free_name(folder, |suffix| {
            Ok(own(&format!("set-aside/{number:04}-failed{suffix}")))
        })?;
        let brought = self
            .journal
            .operation
            .moves
            .iter()
            .filter(|step| step.brings());
        for step in brought {
            let staged = &step.from;
            let Some(there) = folder.look(staged)?.filter(Meta::is_leaf) else {
                continue;
            };
            // What looks as it did before it was started was not written.
            let as_staged = self.learnt.staged.get(staged) == Some(&there.stamp);
            if as_staged || Some(folder.hash(staged)?) == step.expects {
                continue;
            }
            let to = aside.join(step.to.as_str())?;
            if let Some(parent) = to.folder() {
                folder.make_folders(&parent)?;
            }
            folder.rename(staged, &to)?;
        }
        Ok(())
    }
}

/// What was sent to another machine, in words behind others.
fn sent_in_words(sent: &Sent) -> String {
    let seconds = sent.ms as f64 / 1000.0;
    let mut told = sent.as_one.clone().unwrap_or_default();
    told += &match sent.files {
        0 => String::new(),
        many => format!(
            "; {} sent, {} in {seconds:.1} s, and each there with its size",
            files(many),
            size(sent.bytes)
        ),
    };
    if sent.copied > 0 {
        told.push_str(&format!(
            "; {} copied there, from another server on that machine",
            files(sent.copied)
        ));
    }
    if sent.there > 0 && sent.as_one.is_none() {
        told.push_str(&format!("; {} there from before", files(sent.there)));
    }
    match sent.breaks {
        0 => {}
        1 => told.push_str("; the line broke once, and it went on"),
        many => told.push_str(&format!("; the line broke {many} times, and it went on")),
    }
    told
}

/// What was seen of a start that is good, in words.
fn told_of(verdict: &StartReport) -> String {
    let mut told = vec![verdict.told()];
    let said = verdict.settings.iter().filter(|s| s.said.is_some());
    let names: Vec<&str> = said.map(|s| s.name.as_str()).collect();
    if !names.is_empty() {
        told.push(format!("{} as set", names.join(", ")));
    }
    if !verdict.errors.is_empty() {
        told.push(match verdict.errors.len() {
            1 => "1 error line, as in the start before".into(),
            errors => format!("{errors} error lines, all as in the start before"),
        });
    }
    told.join("; ")
}
