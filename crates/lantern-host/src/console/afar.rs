//! A server on another machine: whether it is up, and its stop and start, as far as they can be seen and done from here.
//!
//! No process and no open file of it is seen. What speaks for it is a command line of `lantern.toml`, its remote console, its port, the
//! file that it prints to; and where lantern has no way to stop and start it, a person who does it in the host's page. That something
//! does not answer says that the server is down only where it is known to answer from here.

use super::starting::{Started, Starting};
use super::{Console, LineWay, ServerState};
use crate::console::fault::ConsoleFault;
use crate::error::{Error, Result};
use crate::place::Address;
use jiff::Timestamp;
use lantern_core::family::{Stop, Transport};
use lantern_core::health;
use std::collections::BTreeSet;
use std::io;
use std::thread::sleep;
use std::time::{Duration, Instant};

/// How often it is looked.
const LOOK: Duration = Duration::from_millis(if cfg!(test) { 5 } else { 1000 });
/// How often it is said what is waited for.
const SAY: Duration = Duration::from_secs(15);
/// So long the file that it prints to has to be as it is, once a server is down.
const QUIET: Duration = Duration::from_millis(if cfg!(test) { 10 } else { 3000 });
/// So long a line that breaks may be away while something is watched over it.
const AWAY: Duration = Duration::from_millis(if cfg!(test) { 100 } else { 60_000 });

/// The file that says what of it was seen to answer from here.
const ANSWERED: &str = "answered";
/// The file that says until when a server that was started, and of which nothing answers, may still be coming up: in
/// milliseconds since 1970.
const COMING_UP: &str = "coming-up";

/// What can be seen of a server on another machine.
#[derive(Debug, Default)]
struct Sight {
    up: Vec<String>,
    down: Vec<String>,
    unseen: Vec<String>,
    /// Whether one says that it is down who knows it, however little of it answers.
    is_told_down: bool,
}

impl Console<'_> {
    /// Whether a person has to start and stop it.
    pub fn is_by_hand(&self) -> bool {
        self.server.folder.is_far() && !self.is_reachable() && self.server.person.is_some()
    }

    /// Whether somebody who starts and stops it by hand can say what cannot be seen from here.
    pub fn can_be_told(&self) -> bool {
        let person = self.server.person.as_ref();
        self.is_by_hand() && person.is_some_and(|person| person.can_say())
    }

    /// Whether lines can be typed into its console, and what it answers read.
    pub fn can_be_asked(&self) -> bool {
        let reach = &self.server.config.console;
        match &reach.line {
            _ if !self.server.folder.is_far() => true,
            Some(LineWay::Remote(_)) => true,
            Some(LineWay::Command(_)) => reach.log.is_some(),
            Some(LineWay::Pipe(_)) | None => false,
        }
    }

    /// Whether it is up, by all that can be seen from here.
    pub(super) fn state_there(&self) -> Result<ServerState> {
        let sight = self.sight()?;
        let memory = &self.server.memory;
        if !sight.up.is_empty() {
            self.settle();
        }
        let seen_up = |who: String| match self.is_reachable() {
            true => ServerState::Reached { who, pid: None },
            false => ServerState::Foreign { who },
        };
        Ok(match () {
            () if !sight.up.is_empty() => seen_up(sight.up.join(", ")),
            () if sight.is_told_down => ServerState::Down,
            () if !sight.down.is_empty() && self.may_be_coming_up() => ServerState::Unknown {
                why: format!(
                    "{}, but it was started and may still be coming up",
                    sight.down.join(", ")
                ),
            },
            () if !sight.down.is_empty() => ServerState::Down,
            () if memory.said() == Some(false) => ServerState::Down,
            () if memory.said() == Some(true) => seen_up("somebody said so".into()),
            () if sight.unseen.is_empty() => ServerState::Unknown {
                why: "it runs on another machine, and nothing in lantern.toml or its settings says how to ask".into(),
            },
            () => ServerState::Unknown {
                why: sight.unseen.join(", "),
            },
        })
    }

    fn sight(&self) -> Result<Sight> {
        let mut sight = Sight::default();
        let asks = self.run_by().is_some_and(|run| run.state.is_some());
        if asks {
            match self.said_to_be_up()? {
                Some(command) => sight.up.push(format!("{command} says so")),
                // Whom the administrator's own command line is asked, that knows.
                None => {
                    sight.down.push("the command line for its state".into());
                    sight.is_told_down = true;
                }
            }
            return Ok(sight);
        }
        if let Some(LineWay::Remote(remote)) = &self.server.config.console.line {
            let reached = match remote.address.rsplit_once(':') {
                Some((host, port)) => port
                    .parse()
                    .map_err(io::Error::other)
                    .and_then(|port| self.runner().reaches(host, port)),
                None => Err(io::Error::other("no port")),
            };
            self.note(
                &mut sight,
                &format!("its remote console at {}", remote.address),
                reached,
            );
        }
        if let Some((rule, port)) = self.port() {
            let host = self.host();
            let what = format!("its port {port} at {host}");
            match rule.transport {
                Transport::Tcp => {
                    let reached = self.runner().reaches(&host, port);
                    self.note(&mut sight, &what, reached);
                }
                Transport::Udp => self.note_of_datagrams(&mut sight, &what),
            }
        }
        Ok(sight)
    }

    /// Notes what came of trying to reach something of it.
    fn note(&self, sight: &mut Sight, what: &str, reached: io::Result<bool>) {
        match reached {
            Ok(true) => {
                self.remember_answer(what);
                sight.up.push(format!("{what} is open"));
            }
            Ok(false) if self.has_answered(what) => sight.down.push(format!("{what} is closed")),
            Ok(false) => sight.unseen.push(format!(
                "{what} is closed, and was never seen open from here"
            )),
            Err(error) => sight.unseen.push(format!("{what} is not reached: {error}")),
        }
    }

    /// A port of datagrams is known to be open only where something is known that it answers.
    fn note_of_datagrams(&self, sight: &mut Sight, what: &str) {
        let version = self.server.family.console.version.as_ref();
        let Some(sends) = version.and_then(|it| it.over_port.as_deref()) else {
            sight
                .unseen
                .push(format!("{what} answers nothing that is known"));
            return;
        };
        let answered = !self.ask_over_port(sends).is_empty();
        // A single datagram may be lost: what answered in this program is asked again.
        let answered =
            answered || self.server.memory.has_answered() && !self.ask_over_port(sends).is_empty();
        match answered {
            true => {
                self.server.memory.answers();
                self.remember_answer(what);
                sight.up.push(format!("{what} answers"));
            }
            false if self.has_answered(what) => sight.down.push(format!("{what} does not answer")),
            false => sight
                .unseen
                .push(format!("{what} does not answer, and never did from here")),
        }
    }

    fn has_answered(&self, what: &str) -> bool {
        let known = self.server.folder.read(&self.server.console_file(ANSWERED));
        let known = known.unwrap_or_default();
        String::from_utf8_lossy(&known)
            .lines()
            .any(|line| line == what)
    }

    fn remember_answer(&self, what: &str) {
        if self.has_answered(what) {
            return;
        }
        let file = self.server.console_file(ANSWERED);
        let known = self.server.folder.read(&file).unwrap_or_default();
        let known = format!("{}{what}\n", String::from_utf8_lossy(&known));
        // Who only looks may not be able to write: then it is not known next time.
        let _ = self
            .server
            .make_console_room()
            .and_then(|()| self.server.folder.write_whole(&file, known.as_bytes()));
    }

    /// Whether it was started, has not been seen to be up since, and has had no more time than it may take.
    pub fn may_be_coming_up(&self) -> bool {
        if !self.server.folder.is_far() || self.server.memory.is_settled() {
            return false;
        }
        let until = self
            .server
            .folder
            .read(&self.server.console_file(COMING_UP));
        let until = until
            .ok()
            .and_then(|until| String::from_utf8(until).ok()?.parse().ok());
        until.is_some_and(|until: i64| Timestamp::now().as_millisecond() < until)
    }

    /// From now on it may be coming up, as long as a start may take.
    fn may_come_up_now(&self) -> Result<()> {
        let limit = self.server.family.console.ready_timeout_s;
        let until = Timestamp::now()
            .as_millisecond()
            .saturating_add_unsigned(limit.saturating_mul(1000));
        self.server.memory.settles(false);
        let file = self.server.console_file(COMING_UP);
        self.server
            .folder
            .write_whole(&file, until.to_string().as_bytes())
    }

    /// That nothing of it answers says from now on that it is down: it was seen to be up, or is known to be down.
    fn settle(&self) {
        if self.server.memory.is_settled() {
            return;
        }
        self.server.memory.settles(true);
        // Who only looks may not be able to write: then it is found out anew next time.
        let _ = self
            .server
            .folder
            .remove_file(&self.server.console_file(COMING_UP));
    }

    /// The host at which players, and lantern, reach it.
    pub(super) fn host(&self) -> String {
        let stated = self.server.config.console.host.clone();
        let of_folder = || {
            let address = self.server.config.folder.as_deref()?;
            Some(Address::parse(address).ok()?.host)
        };
        stated.or_else(of_folder).unwrap_or_default()
    }

    /// Stops it, or has it stopped, and waits until it is down.
    pub(super) fn stop_there(&self) -> Result<Duration> {
        let state = self.state()?;
        if state == ServerState::Down {
            return Ok(Duration::ZERO);
        }
        let rule = &self.server.family.console;
        let limit = Duration::from_secs(rule.stop_timeout_s);
        let stop_line = self.run_by().and_then(|run| run.stop.as_ref());
        let person = self.server.person.as_deref();
        let name = self.server.title();
        // Of one that has failed to start nothing may be left to be stopped: then its time to come up is waited for.
        let may_come = self.may_be_coming_up();
        let by_hand = match (stop_line, &self.server.config.console.line, &rule.stop) {
            (Some(stop), ..) => {
                match self.obey(stop, limit) {
                    Ok(()) => self.settle(),
                    Err(error) if !may_come => return Err(error),
                    Err(_) => {}
                }
                false
            }
            (None, Some(_), Stop::Command(command)) if !may_come => {
                self.send(command)?;
                false
            }
            _ => {
                let is_unseen = matches!(state, ServerState::Unknown { .. }) && !may_come;
                let person = person.filter(|person| !is_unseen || person.can_say());
                match person {
                    Some(person) => person.ask(&format!(
                        "Stop {name} now, in the page of its host. {}",
                        self.how_seen(person.can_say(), "down")
                    )),
                    None if may_come => {}
                    None => return Err(no_way(&state)),
                }
                person.is_some()
            }
        };
        let limit = match () {
            () if by_hand => self.server.by_hand_limit(),
            () if may_come => limit.saturating_add(Duration::from_secs(rule.ready_timeout_s)),
            () => limit,
        };
        let begun = Instant::now();
        let mut told = Instant::now();
        let mut says_so = false;
        let mut quiet = Still::since(self);
        // Until then it was up, and nobody had pressed anything.
        let mut still_up = Duration::ZERO;
        let mut told_last = Instant::now();
        let mut is_seen = !matches!(state, ServerState::Unknown { .. });
        loop {
            let seen = self.seen_through(&mut told_last)?;
            says_so |= by_hand && person.is_some_and(|person| person.has_said());
            let is_down = match &seen {
                Some(ServerState::Down) => true,
                // Whom it cannot see, it asks; but one that was seen is not taken on a word for what is no longer seen.
                Some(ServerState::Unknown { .. }) => says_so && !is_seen,
                _ => false,
            };
            is_seen |= seen
                .as_ref()
                .is_some_and(|seen| !matches!(seen, ServerState::Unknown { .. }));
            if !is_down {
                still_up = begun.elapsed();
            }
            let still = quiet.look(self);
            if is_down && still >= QUIET {
                if says_so {
                    self.server.memory.says(Some(false));
                }
                self.settle();
                return Ok(if by_hand { still_up } else { Duration::ZERO });
            }
            if crate::interrupt::wants_back() {
                return Err(ConsoleFault::CalledBack.into());
            }
            let who = match &seen {
                Some(state) => state.who().unwrap_or_else(|| "its log still grows".into()),
                None => "the line is broken".into(),
            };
            if told.elapsed() >= SAY {
                told = Instant::now();
                let seconds = begun.elapsed().as_secs();
                if let Some(person) = person {
                    person.waits(&format!(
                        "waiting for it to be down, for {seconds} s: {who}"
                    ));
                }
            }
            if begun.elapsed() > limit {
                let seconds = limit.as_secs();
                return Err(match by_hand {
                    true => ConsoleFault::NotByHand {
                        what: "stopped",
                        seconds,
                        who,
                    }
                    .into(),
                    false => ConsoleFault::DidNotStop { seconds, who }.into(),
                });
            }
            sleep(LOOK);
        }
    }

    /// By what lantern will know that something is done by hand, or that it has to be told.
    fn how_seen(&self, can_say: bool, what: &str) -> String {
        let sees = self
            .sight()
            .is_ok_and(|sight| !sight.up.is_empty() || !sight.down.is_empty());
        match (sees, can_say) {
            (true, true) if what == "down" && self.may_be_coming_up() => {
                "It may still be coming up, which I cannot see: press Enter when the page says that it is down.".into()
            }
            (true, _) => format!("I see by myself when it is {what}."),
            (false, true) => format!(
                "I cannot see that from here: press Enter when the page says that it is {what}."
            ),
            (false, false) => "I cannot see that from here.".into(),
        }
    }

    /// As [`Console::state`]; none while what is asked for it does not answer.
    ///
    /// # Errors
    /// When that stays so.
    fn seen_through(&self, told_last: &mut Instant) -> Result<Option<ServerState>> {
        match self.state() {
            Ok(state) => {
                *told_last = Instant::now();
                Ok(Some(state))
            }
            Err(error) if told_last.elapsed() > AWAY => Err(error),
            Err(_) => Ok(None),
        }
    }

    /// Starts it, or has it started.
    pub(super) fn start_there(&self) -> Result<Starting> {
        match self.state()? {
            ServerState::Down => {}
            ServerState::Unknown { why } if !self.can_be_told() && self.run_by().is_none() => {
                return Err(ConsoleFault::Unseen { why }.into());
            }
            ServerState::Unknown { .. } => {}
            up => {
                let who = up.who().unwrap_or_default();
                return Err(ConsoleFault::AlreadyUp { who }.into());
            }
        }
        self.server.make_console_room()?;
        self.remember_where_it_begins()?;
        let begun = Instant::now();
        self.server.memory.says(None);
        self.may_come_up_now()?;
        match (self.run_by(), self.server.person.as_deref()) {
            (Some(run), _) => self.obey(&run.start, super::ANSWER)?,
            (None, Some(person)) => {
                let name = self.server.title();
                person.ask(&format!(
                    "Start {name} now, in the page of its host. {}",
                    self.how_seen(person.can_say() && self.is_silent(), "up")
                ));
            }
            (None, None) => return Err(no_way(&ServerState::Down)),
        }
        Ok(Starting {
            process: None,
            begun,
        })
    }

    /// As [`Console::wait_ready`], from afar.
    pub(super) fn wait_ready_there(
        &self,
        starting: &Starting,
        known: &BTreeSet<String>,
        stay: bool,
    ) -> Result<Started> {
        let rule = &self.server.family.console;
        let by_hand = self.run_by().is_none();
        let person = self.server.person.as_deref();
        let limit = Duration::from_secs(rule.ready_timeout_s);
        let did_not = |why: String| {
            Error::Console(ConsoleFault::DidNotStart {
                why,
                last: self.last_lines(),
            })
        };
        let mut printed = self.printed();
        let mut started = Started::default();
        // Nobody knows when the button was pressed: it counts from the first that is seen of it.
        let mut begun = (!by_hand).then_some(starting.begun);
        let mut ready_at: Option<Instant> = None;
        let mut told = Instant::now();
        let (mut heard_last, mut told_last) = (Instant::now(), Instant::now());
        let mut says_so = false;
        loop {
            let lines = match printed.lines() {
                Ok(lines) => {
                    heard_last = Instant::now();
                    lines
                }
                Err(error) if heard_last.elapsed() > AWAY => return Err(error),
                Err(_) => Vec::new(),
            };
            let state = self.seen_through(&mut told_last)?;
            let is_up = state.as_ref().is_some_and(|state| {
                matches!(
                    state,
                    ServerState::Reached { .. } | ServerState::Foreign { .. }
                )
            });
            let is_unseen = matches!(state, Some(ServerState::Unknown { .. }) | None)
                && !self.may_be_coming_up();
            if begun.is_none() && (is_up || !lines.is_empty()) {
                begun = Some(Instant::now());
                if !is_up {
                    self.may_come_up_now()?;
                }
            }
            let bad = health::errors(rule, &lines, known);
            if let Some(error) = bad.into_iter().find(|error| !error.known && !stay) {
                let why = format!("it printed: {}", error.text());
                started.lines.extend(lines);
                let last = self.lines_around(&error.line);
                return Err(ConsoleFault::DidNotStart { why, last }.into());
            }
            let says_ready = |line: &String| {
                let ready = rule.ready.as_ref();
                ready.is_some_and(|ready| ready.regex().is_match(line))
            };
            says_so |= by_hand && person.is_some_and(|person| person.has_said());
            let said = says_so && self.is_silent() && is_unseen;
            let heard = lines.iter().any(says_ready) || self.is_silent() && (is_up || said);
            started.lines.extend(lines);
            if ready_at.is_none() && heard {
                if said {
                    self.server.memory.says(Some(true));
                }
                self.settle();
                ready_at = Some(Instant::now());
                let begun = begun.unwrap_or(starting.begun);
                started.ready_ms = begun.elapsed().as_millis() as u64;
                let waited = begun.duration_since(starting.begun);
                started.by_hand_ms = if by_hand {
                    waited.as_millis() as u64
                } else {
                    0
                };
            }
            if ready_at.is_some() && state == Some(ServerState::Down) {
                return Err(did_not("it was ready, and is down again".into()));
            }
            if !stay && crate::interrupt::wants_back() {
                return Err(did_not("you asked for it to go back".into()));
            }
            match (ready_at, begun) {
                (Some(at), _) if at.elapsed() >= Duration::from_millis(rule.hold_ms) => break,
                (None, Some(begun)) if begun.elapsed() > limit => {
                    return Err(did_not(format!(
                        "it was not ready within {} s",
                        limit.as_secs()
                    )));
                }
                (None, None) if starting.begun.elapsed() > self.server.by_hand_limit() => {
                    let seconds = self.server.by_hand_limit().as_secs();
                    let who = "nothing is seen of it".into();
                    return Err(ConsoleFault::NotByHand {
                        what: "started",
                        seconds,
                        who,
                    }
                    .into());
                }
                _ => {}
            }
            if ready_at.is_none() && told.elapsed() >= SAY {
                told = Instant::now();
                let seen = match (&begun, &state) {
                    (None, _) => "nothing is seen of it yet".to_owned(),
                    (Some(_), Some(state)) => {
                        let who = state.who().unwrap_or_else(|| "nothing answers yet".into());
                        format!("{} lines printed; {who}", started.lines.len())
                    }
                    (Some(_), None) => "the line is broken".into(),
                };
                if let Some(person) = person {
                    let seconds = starting.begun.elapsed().as_secs();
                    person.waits(&format!(
                        "waiting for it to be ready, for {seconds} s: {seen}"
                    ));
                }
            }
            sleep(LOOK);
        }
        Ok(started)
    }
}

fn no_way(state: &ServerState) -> Error {
    match state {
        ServerState::Unknown { why } => ConsoleFault::Unseen { why: why.clone() }.into(),
        state => ConsoleFault::NoConsole {
            who: state.who().unwrap_or_else(|| "it is down".into()),
        }
        .into(),
    }
}

/// Since when the file that a server prints to is as it is.
struct Still {
    /// Its size; none where there is none.
    bytes: Option<u64>,
    since: Instant,
}

impl Still {
    fn since(console: &Console<'_>) -> Still {
        Still {
            bytes: bytes(console),
            since: Instant::now(),
        }
    }

    /// For how long it is as it is; what is not seen any more is not still.
    fn look(&mut self, console: &Console<'_>) -> Duration {
        let now = bytes(console);
        if now != self.bytes {
            self.since = Instant::now();
        }
        self.bytes = now.or(self.bytes);
        self.since.elapsed()
    }
}

fn bytes(console: &Console<'_>) -> Option<u64> {
    console.log().look().map(|meta| meta.stamp.bytes)
}
