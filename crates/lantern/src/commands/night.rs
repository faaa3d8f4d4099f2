//! A changeover that waits for its hour: arranged, waited for, called off.

use super::{armed, notice};
use crate::answers::NightCalledOff;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::hour::Hour;
use crate::look::{Look, Means, date};
use jiff::{SignedDuration, Zoned};
use lantern_core::hour::{Players, Wait};
use lantern_core::notice::Moment;
use lantern_core::plan::Plan;
use lantern_host::armed::name_of;
use lantern_host::changeover::named;
use lantern_host::config::Server;
use lantern_host::console::who_is_on;
use lantern_host::ledger::Ledger;
use lantern_host::night::fault::NightFault;
use lantern_host::night::{self, Came, Clock, How, NightWait, TakenUp, Waiting};
use lantern_host::place::here;
use lantern_host::{Error, Result};
use std::path::Path;

/// So long after its hour it is begun at most, where nothing else is said: by itself, and where it waits for players.
const LATEST: SignedDuration = SignedDuration::from_hours(1);
const LATEST_EMPTY: SignedDuration = SignedDuration::from_hours(4);

/// When it is to begin.
pub struct Wish<'a> {
    /// The hour.
    pub at: &'a Hour,
    /// From when on no more.
    pub latest: Option<&'a Hour>,
    /// Whether nobody may be on.
    pub when_empty: bool,
}

impl Wish<'_> {
    /// What is waited for, as seen from now.
    fn wait(&self) -> Result<Wait> {
        let now = Zoned::now();
        let past = || Error::from(NightFault::Past);
        let at = self.at.after(&now).ok_or_else(past)?;
        let usual = if self.when_empty {
            LATEST_EMPTY
        } else {
            LATEST
        };
        let latest = match self.latest {
            None => at.checked_add(usual).ok(),
            Some(Hour::In(span)) => at.checked_add(*span).ok(),
            Some(latest) => latest.after(&at),
        };
        Ok(Wait {
            at_ms: at.timestamp().as_millisecond(),
            latest_ms: latest.ok_or_else(past)?.timestamp().as_millisecond(),
            when_empty: self.when_empty,
        })
    }
}

/// Lets a plan that was looked at wait in a process of its own.
///
/// # Errors
/// When something stands in the way that can be seen now, or somebody does not want it.
pub fn arrange(
    wish: &Wish<'_>,
    chosen: &armed::Chosen,
    server: &Server,
    how: How,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let wait = wish.wait()?;
    night::check(server, &chosen.plan, &wait)?;
    lantern_host::changeover::look_ahead(server, &chosen.plan)?;
    let name = name_of(&chosen.text);
    let told = told(&wait);
    armed::confirm(
        &format!("Let it wait {told}?"),
        &common.next(&format!("changeover {name} --at … --yes")),
        common,
        look,
    )?;
    let program = std::env::current_exe();
    let program = program.map_err(|source| Error::Io {
        doing: "finding",
        path: "lantern".into(),
        source,
    })?;
    let own = ["changeover", "--wait-on", "--color", "never", "--server"];
    let root = std::path::absolute(&common.server).unwrap_or_else(|_| common.server.clone());
    let command = std::iter::once(program.display().to_string())
        .chain(own.map(str::to_owned))
        .chain([root.display().to_string()]);
    let command: Vec<String> = command.collect();
    let seen = night::begin(
        server,
        &name,
        (&chosen.path, &chosen.text),
        (wait, how),
        &command,
    )?;
    if look.json {
        look.answer(&seen);
        return Ok(fail::DONE);
    }
    look.say(&look.paint(Means::Good, &format!("Plan {name} waits {told}.")));
    look.say(&format!(
        "  in process {}, which goes on when this terminal is closed; so that it outlives a restart of the machine, too: lantern docs units",
        seen.process.unwrap_or_default()
    ));
    look.say("  right before it begins, everything is looked at again: where the folder has changed, nothing is done");
    let log = common.near(".lantern/night.log");
    look.say(&format!("  what it says: {}", shell_word(&log)));
    look.say(&format!(
        "  to call it off: {}",
        common.next("changeover --call-off")
    ));
    look.next(&common.next("status"));
    Ok(fail::DONE)
}

/// What is waited for, in words.
pub fn told(wait: &Wait) -> String {
    let players = if wait.when_empty {
        ", and until nobody is on"
    } else {
        ""
    };
    format!(
        "until {}{players}; after {} it is not begun any more",
        date(wait.at_ms),
        date(wait.latest_ms)
    )
}

fn now() -> String {
    date(jiff::Timestamp::now().as_millisecond())
}

/// Takes up waiting, and says what there is to do. That nothing is left to wait for, or somebody does it already, is as it should be
/// where a machine was started anew.
///
/// # Errors
/// When the disk refuses.
pub fn take_up(server: &Server, look: &Look) -> Result<TakenUp> {
    let taken = match night::take_up(server) {
        Err(Error::Night(fault @ (NightFault::NothingWaits | NightFault::AlreadyWaits(_)))) => {
            look.talk(&format!("{}  {fault}", now()));
            return Ok(TakenUp::Ended);
        }
        taken => taken?,
    };
    match &taken {
        TakenUp::Waits(waiting) => {
            look.talk(&format!(
                "{}  plan {} waits {}",
                now(),
                waiting.plan,
                told(&waiting.wait)
            ));
        }
        TakenUp::CutOff(waiting) => {
            let told = format!(
                "{}  plan {} had begun, and was cut off: going on",
                now(),
                waiting.plan
            );
            look.talk(&told);
        }
        TakenUp::Ended => look.talk(&format!("{}  what waited has come to its end", now())),
    }
    Ok(taken)
}

/// Nothing waits any more.
///
/// # Errors
/// When the disk refuses.
pub fn ended(server: &Server) -> Result<()> {
    night::ended(server)
}

/// Who is on, on the servers that a plan stops; on all where there is none.
fn who(server: &Server, plan: Option<&Plan>) -> Players {
    let concerned = plan.map_or_else(|| Ok(server.each()), |plan| named(server, plan));
    match concerned {
        Ok(concerned) => who_is_on(concerned.iter()),
        Err(error) => Players::Unknown(error.to_string()),
    }
}

/// Says who is on while it is waited.
fn tell_who(on: &Players, look: &Look) {
    let waits = if *on == Players::Nobody {
        ""
    } else {
        ": waiting"
    };
    look.talk(&format!("{}  {on}{waits}", now()));
}

/// Waits; the exit status where it does not begin.
///
/// # Errors
/// When the disk refuses.
pub fn wait(server: &Server, waiting: &Waiting, look: &Look) -> Result<Option<u8>> {
    let plan = plan_of(&server.folder.shown(&night::plan_file()));
    let who = || who(server, plan.as_ref());
    let came = night::wait(server, waiting, &Clock::REAL, &who, &mut |on| {
        tell_who(on, look)
    })?;
    Ok(match not_begun(came, look) {
        None => None,
        Some(None) => Some(fail::DONE),
        Some(Some(why)) => {
            tell_not_begun(server, plan.as_ref(), &why, look);
            Some(fail::NO)
        }
    })
}

/// Waits, where nothing is written down of that; why it does not begin, where it does not.
///
/// # Errors
/// None that there is a reason for.
pub fn until_it_may_begin(
    server: &Server,
    plan: &Plan,
    wait: &Wait,
    look: &Look,
) -> Result<Option<String>> {
    let who = || who(server, Some(plan));
    let tell = &mut |on: &Players| tell_who(on, look);
    let came = night::pass(wait, &Clock::REAL, &who, tell, &|| Ok(true))?;
    let not_begun = not_begun(came, look);
    Ok(not_begun.map(|why| why.unwrap_or_else(|| "it was called off".into())))
}

/// Says why it does not begin; none where it does, and no reason where it was called off.
fn not_begun(came: Came, look: &Look) -> Option<Option<String>> {
    match came {
        Came::Begins => None,
        Came::CalledOff => {
            look.talk(&format!("{}  called off: nothing was done", now()));
            Some(None)
        }
        Came::GivenUp(why) => {
            look.talk(&format!("{}  not begun: {why}", now()));
            Some(Some(why))
        }
    }
}

/// The plan in a file, where it can be read.
fn plan_of(path: &Path) -> Option<Plan> {
    Plan::parse(&here::read_text(path).ok()?).ok()
}

/// Tells everybody whom lantern.toml names that a plan was not begun. That it cannot be told stops nothing.
pub fn tell_not_begun(server: &Server, plan: Option<&Plan>, why: &str, look: &Look) {
    let Some(plan) = plan else {
        return;
    };
    let notice =
        Ledger::open(&server.folder).and_then(|ledger| notice::of_plan(server, &ledger, plan));
    match notice {
        Ok(mut notice) => {
            notice.moment = Moment::Failed;
            notice.why = Some(format!("it was not begun: {why}"));
            notice.back = true;
            notice::tell(server, &notice, look);
        }
        Err(error) => look.talk(&format!("  nobody was told: {error}")),
    }
}

/// The same, of the plan in a file, where the server cannot be opened as it should.
pub fn tell_not_begun_of(path: &Path, common: &Common, why: &str, look: &Look) {
    match Server::open(&common.server) {
        Ok(server) => tell_not_begun(&server, plan_of(path).as_ref(), why, look),
        Err(error) => look.talk(&format!("  nobody was told: {error}")),
    }
}

/// Calls off what waits.
///
/// # Errors
/// When nothing does.
pub fn call_off(common: &Common, look: &Look) -> Result<u8> {
    let server = Server::open(&common.server)?;
    let called_off = night::call_off(&server)?;
    if look.json {
        look.answer(&NightCalledOff { called_off });
        return Ok(fail::DONE);
    }
    look.say(&format!(
        "Called off: plan {} does not wait any more.",
        called_off.plan
    ));
    match called_off.process {
        Some(_) => look.say("  nothing was done"),
        None => look.say("  its process was gone already"),
    }
    Ok(fail::DONE)
}

/// What waits, for the status.
pub fn row(seen: &NightWait) -> String {
    let wait = Wait {
        at_ms: seen.at_ms,
        latest_ms: seen.latest_ms,
        when_empty: seen.when_empty,
    };
    if seen.has_begun {
        let pid = seen.process.unwrap_or_default();
        return format!(
            "plan {} waits no more: it is under way (process {pid})",
            seen.plan
        );
    }
    let told = format!("plan {}, {}", seen.plan, told(&wait));
    match seen.process {
        Some(pid) => format!("{told} (process {pid})"),
        None => format!(
            "{told}; but its process is gone, so nothing will happen: changeover --wait-on takes its place"
        ),
    }
}
