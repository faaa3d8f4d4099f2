//! `lantern settings decide`, `edit`, `decided`, `forget`

use crate::answers;
use crate::commands::{armed, open_settled, open_to_look, plan};
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count, date};
use lantern_core::path::RelPath;
use lantern_core::plan::{Asked, Decided, Plan};
use lantern_core::text::{Text, marked_at};
use lantern_host::config::Server;
use lantern_host::editor;
use lantern_host::ledger::Ledger;
use lantern_host::place::here;
use lantern_host::planning::fault::PlanningFault;
use lantern_host::planning::{self, Decision};
use lantern_host::{Error, Result};
use std::path::Path;

/// Decides a question of the armed plan.
pub fn run(
    id: &str,
    answer: Option<&str>,
    value: Option<&str>,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "settings decide")?;
    let chosen = armed::choose(None, false, &server)?;
    let decision = decided(&server, &chosen.plan, id, answer, value)?;
    look.talk(&told(&decision));
    plan::again(&server, common, look)
}

/// Decides a question of a plan that is drawn anew later.
///
/// # Errors
/// When the plan asks no such question, or that is no answer to it.
pub fn decided(
    server: &Server,
    plan: &Plan,
    id: &str,
    answer: Option<&str>,
    value: Option<&str>,
) -> Result<Decision> {
    let (path, asked) = asked(plan, id)?;
    let decided = match (answer, value) {
        (Some("mine"), _) => Decided::Mine,
        (Some("theirs"), _) => Decided::Theirs,
        (Some(value), _) | (None, Some(value)) => Decided::Value(value.to_owned()),
        (None, None) => Decided::Mine,
    };
    if matches!(decided, Decided::Value(_)) && (asked.key.is_none() || asked.secret) {
        return Err(Error::Planning(PlanningFault::NoValue {
            id: asked.id.clone(),
            secret: asked.secret,
        }));
    }
    planning::decide(server, path, asked, decided)
}

/// A decision in one line.
pub fn told(decision: &Decision) -> String {
    let what = decision.key.as_deref().map_or_else(
        || format!("question {}", decision.id),
        |key| format!("{key} ({})", decision.id),
    );
    let decided = match &decision.decided {
        Decided::Mine => "yours".to_owned(),
        Decided::Theirs => "as it is shipped".to_owned(),
        Decided::Value(value) => value.clone(),
        Decided::Edited => "as you wrote it".to_owned(),
    };
    format!("{}: {what}: {decided}.", decision.path)
}

/// The question that is meant by an id, or the beginning of one.
fn asked<'p>(plan: &'p Plan, id: &str) -> Result<(&'p RelPath, &'p Asked)> {
    let merges = plan.merges.iter();
    let all: Vec<(&RelPath, &Asked)> = merges
        .flat_map(|merge| merge.questions.iter().map(|it| (&merge.path, it)))
        .collect();
    let mut meant = all
        .iter()
        .filter(|(_, it)| id.len() >= 4 && it.id.starts_with(id));
    match (meant.next(), meant.next()) {
        (Some(one), None) => Ok(*one),
        _ => Err(Error::Planning(PlanningFault::NoSuchQuestion {
            named: id.to_owned(),
            known: all.iter().map(|(_, it)| it.id.clone()).collect(),
        })),
    }
}

/// Lets a file be written by hand.
pub fn edit(file: &str, with: Option<&Path>, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "settings edit")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let path = RelPath::parse(file)?;
    let write = planning::to_write(&server, &mut ledger, &path)?;
    let written = match with {
        Some(with) => Text::read(&here::read(with)?).as_str().to_owned(),
        None => editor::write(&path, &write.marked)?,
    };
    if let Some(line) = marked_at(&written) {
        return Err(Error::Planning(PlanningFault::StillMarked { path, line }));
    }
    let text = write.mine.with(written);
    let text = text.ok_or_else(|| {
        Error::Planning(PlanningFault::NotSettable {
            path: path.clone(),
            why: "its encoding has no room for that".into(),
        })
    })?;
    planning::decide_text(&server, &path, &write.id, &text)?;
    look.talk(&format!("{path}: as you wrote it ({}).", write.id));
    plan::again(&server, common, look)
}

/// Shows what was decided.
pub fn list(common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let decisions = planning::decisions(&looked.server)?;
    let status = looked.status(fail::DONE);
    if look.json {
        look.answer(&answers::DecisionsMade { decisions });
        return Ok(status);
    }
    let many = count(decisions.len(), "decision", "decisions");
    look.say(&look.paint(Means::Title, &format!("{many} made.")));
    if decisions.is_empty() {
        return Ok(status);
    }
    look.say("");
    let rows = decisions.iter().map(|it| {
        let decided = match &it.decided {
            Decided::Mine => "mine".to_owned(),
            Decided::Theirs => "theirs".to_owned(),
            Decided::Value(value) => value.clone(),
            Decided::Edited => "as you wrote it".to_owned(),
        };
        let key = it.key.clone().unwrap_or_else(|| "lines".into());
        vec![
            it.id.clone(),
            it.path.to_string(),
            key,
            decided,
            date(it.at_ms),
        ]
    });
    look.table(&["id", "file", "key", "decided", "when"], rows.collect());
    Ok(status)
}

/// Forgets what was decided.
pub fn forget(id: &str, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "settings forget")?;
    let all = planning::decisions(&server)?;
    let mut meant = all
        .iter()
        .filter(|it| id.len() >= 4 && it.id.starts_with(id));
    let (Some(one), None) = (meant.next(), meant.next()) else {
        return Err(Error::Planning(PlanningFault::NoSuchDecision(
            id.to_owned(),
        )));
    };
    planning::forget(&server, &one.id)?;
    if look.json {
        look.answer(&answers::DecisionsMade {
            decisions: planning::decisions(&server)?,
        });
        return Ok(fail::DONE);
    }
    look.say(&format!(
        "{}: it is asked again when a plan is drawn.",
        one.id
    ));
    Ok(fail::DONE)
}
