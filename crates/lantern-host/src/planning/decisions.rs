//! `.lantern/decisions.json`: what was decided where both the administrator and a release had changed something.
//!
//! A decision holds for the same file and key, or lines, and the same two answers: also in later releases. Texts that were
//! written in an editor lie beside it, in `.lantern/decided/`.

use crate::config::Server;
use crate::error::{Error, Result};
use crate::folder::own;
use crate::planning::fault::PlanningFault;
use lantern_core::path::RelPath;
use lantern_core::plan::{Asked, Decided};
use lantern_core::settings::Answer;
use lantern_core::text::Text;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

const FORMAT: u32 = 1;

/// Something that was decided.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Decision {
    /// The question's id.
    pub id: String,
    /// The file.
    pub path: RelPath,
    /// The key of the value; none where it is lines, or the whole file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// What you had; none where it was missing, or is a secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mine: Option<String>,
    /// What was shipped; none where it was missing, or is a secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub theirs: Option<String>,
    /// What was decided.
    pub decided: Decided,
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    format: u32,
    decisions: Vec<Decision>,
}

fn file() -> RelPath {
    own("decisions.json")
}

fn text_file(id: &str) -> Result<RelPath> {
    Ok(own("decided").join(id)?)
}

/// All that was decided, in the order in which it was.
///
/// # Errors
/// When the file cannot be read, or is not as this lantern writes it.
pub fn decisions(server: &Server) -> Result<Vec<Decision>> {
    let Some(bytes) = server.folder.read_if_there(&file())? else {
        return Ok(Vec::new());
    };
    let unread = |why: String| {
        Error::Planning(PlanningFault::Decisions {
            path: server.folder.shown(&file()),
            why,
        })
    };
    let written: Written =
        serde_json::from_slice(&bytes).map_err(|error| unread(error.to_string()))?;
    match written.format {
        FORMAT => Ok(written.decisions),
        other => Err(unread(format!(
            "it is of format {other}; this lantern reads format {FORMAT}"
        ))),
    }
}

/// The same as answers, by the ids of the questions.
///
/// # Errors
/// As [`decisions`].
pub fn answers(server: &Server) -> Result<BTreeMap<String, Answer>> {
    let mut answers = BTreeMap::new();
    for decision in decisions(server)? {
        let answer = match decision.decided {
            Decided::Mine => Answer::Mine,
            Decided::Theirs => Answer::Theirs,
            Decided::Value(value) => Answer::Value(value),
            Decided::Edited => {
                let path = text_file(&decision.id)?;
                match server.folder.has(&path)? {
                    true => Answer::Text(server.folder.read_text(&path)?),
                    false => continue,
                }
            }
        };
        answers.insert(decision.id, answer);
    }
    Ok(answers)
}

/// Decides a question, in the place of what was decided before.
///
/// # Errors
/// When it cannot be written.
pub fn decide(
    server: &Server,
    path: &RelPath,
    asked: &Asked,
    decided: Decided,
) -> Result<Decision> {
    let decision = Decision {
        id: asked.id.clone(),
        path: path.clone(),
        key: asked.key.clone(),
        mine: asked.mine.clone(),
        theirs: asked.theirs.clone(),
        decided,
        at_ms: jiff::Timestamp::now().as_millisecond(),
    };
    keep(server, decision.clone())?;
    Ok(decision)
}

/// Decides that a whole text is to be as it was written in an editor.
///
/// # Errors
/// When it cannot be written.
pub fn decide_text(server: &Server, path: &RelPath, id: &str, text: &Text) -> Result<()> {
    server.folder.make_own("decided")?;
    server.folder.write_whole(&text_file(id)?, &text.bytes())?;
    let decision = Decision {
        id: id.to_owned(),
        path: path.clone(),
        key: None,
        mine: None,
        theirs: None,
        decided: Decided::Edited,
        at_ms: jiff::Timestamp::now().as_millisecond(),
    };
    keep(server, decision)
}

fn keep(server: &Server, decision: Decision) -> Result<()> {
    let mut all = decisions(server)?;
    all.retain(|known| known.id != decision.id);
    all.push(decision);
    write(server, all)
}

/// Forgets what was decided; `false` where nothing was.
///
/// # Errors
/// When it cannot be written.
pub fn forget(server: &Server, id: &str) -> Result<bool> {
    let mut all = decisions(server)?;
    let before = all.len();
    all.retain(|known| known.id != id);
    let is_known = all.len() < before;
    if is_known {
        write(server, all)?;
        let text = text_file(id)?;
        if server.folder.has(&text)? {
            server.folder.remove_file(&text)?;
        }
    }
    Ok(is_known)
}

fn write(server: &Server, decisions: Vec<Decision>) -> Result<()> {
    let written = Written {
        format: FORMAT,
        decisions,
    };
    let text = serde_json::to_vec_pretty(&written).expect("it has only plain values");
    server.folder.write_whole(&file(), &text)
}
