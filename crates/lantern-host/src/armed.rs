//! `.lantern/armed.json`: which plan a changeover carries out when none is named, and what became of it.
//!
//! The plan itself is `.lantern/next.plan.json`. It goes when a later one fails: what somebody looked at
//! yesterday is not carried out because today's question had no answer.

use crate::config::Server;
use crate::error::Result;
use crate::folder::{OWN, own};
use crate::records;
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
pub use lantern_core::plan::{Armed, Became};

fn file() -> RelPath {
    own("armed.json")
}

/// Where the armed plan lies.
pub fn plan_file() -> RelPath {
    own("next.plan.json")
}

/// The name of a plan: what its text's hash begins with, so that no other has it.
pub fn name_of(text: impl AsRef<[u8]>) -> String {
    blake3::hash(text.as_ref()).to_hex()[..6].to_owned()
}

/// What is armed, or became of what was; none where no plan was asked for.
///
/// # Errors
/// When it cannot be read.
pub fn read(server: &Server) -> Result<Option<Armed>> {
    if !server.folder.has(&file())? {
        return Ok(None);
    }
    let text = server.folder.read(&file())?;
    // What a later lantern wrote says nothing to this one.
    Ok(serde_json::from_slice(&text).ok())
}

/// Arms a plan that was just saved, by the text that lies there; `group` is the mark of what was planned for several servers at once.
///
/// # Errors
/// When it cannot be read or written.
pub fn arm(server: &Server, plan: &Plan, group: Option<&str>) -> Result<Armed> {
    let armed = Armed {
        format: 1,
        name: Some(name_of(server.folder.read(&plan_file())?)),
        from: plan.from.clone(),
        to: Some(plan.to.clone()),
        at_ms: now(),
        became: Became::Armed,
        group: group.map(str::to_owned),
    };
    tell(server, &armed)?;
    Ok(armed)
}

/// Of a plan that is armed and was made for several servers at once, the mark and the plan itself; none where another one is armed, or none.
///
/// # Errors
/// When it cannot be read.
pub fn joint(server: &Server) -> Result<Option<(String, Plan)>> {
    let armed = read(server)?.filter(|armed| armed.became == Became::Armed);
    let Some(mark) = armed.and_then(|armed| armed.group) else {
        return Ok(None);
    };
    let text = server.folder.read(&plan_file())?;
    let plan = Plan::parse(&String::from_utf8_lossy(&text));
    Ok(plan.ok().map(|plan| (mark, plan)))
}

/// Disarms: the plan goes, and `why` is what is told to who asks for it. Returns what had been armed.
///
/// # Errors
/// When it cannot be written.
pub fn disarm(server: &Server, why: &str) -> Result<Option<Armed>> {
    let before = withdraw(server, why)?;
    records::share_asked(&server.folder, &server.config.id)?;
    Ok(before)
}

/// As [`disarm`], for as long as something else is asked, which then tells whoever works at the server from elsewhere.
///
/// # Errors
/// When it cannot be written.
pub fn withdraw(server: &Server, why: &str) -> Result<Option<Armed>> {
    let before = read(server)?.filter(|armed| armed.became == Became::Armed);
    let folder = &server.folder;
    for (path, _) in folder.entries(&RelPath::parse(OWN)?)? {
        let name = path.name();
        if name.starts_with("next") && name.ends_with(".plan.json") {
            folder.remove_file(&path)?;
        }
    }
    let none = Armed {
        format: 1,
        name: None,
        from: None,
        to: None,
        at_ms: now(),
        became: Became::NoPlan(why.to_owned()),
        group: None,
    };
    write(server, &none)?;
    Ok(before)
}

/// Says that of what was planned for several servers at once, nothing is to be done at this one.
///
/// # Errors
/// When it cannot be written.
pub fn idle(server: &Server, group: &str) -> Result<()> {
    withdraw(server, "there was nothing to do")?;
    match read(server)? {
        Some(armed) => tell(
            server,
            &Armed {
                group: Some(group.to_owned()),
                ..armed
            },
        ),
        None => Ok(()),
    }
}

/// Writes down what became of the plan, where it is the one that is armed.
///
/// # Errors
/// When it cannot be written.
pub fn became(server: &Server, plan: &Plan, became: Became) -> Result<()> {
    match read(server)? {
        Some(armed) if armed.name == Some(name_of(plan.to_json())) => {
            write(server, &Armed { became, ..armed })
        }
        _ => Ok(()),
    }
}

/// Writes it, and tells whoever works at the server from elsewhere.
fn tell(server: &Server, armed: &Armed) -> Result<()> {
    write(server, armed)?;
    records::share_asked(&server.folder, &server.config.id)
}

fn write(server: &Server, armed: &Armed) -> Result<()> {
    let text = serde_json::to_vec_pretty(armed).expect("it has only plain values");
    server.folder.write_whole(&file(), &text)
}

fn now() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}
