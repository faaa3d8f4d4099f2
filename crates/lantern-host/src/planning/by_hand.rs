//! The texts that were edited by hand: now, and once a plan is carried out.

use super::{Beginning, edited as changed};
use crate::config::Server;
use crate::error::Result;
use crate::ledger::Ledger;
use crate::survey::Survey;
use lantern_core::inventory::FileState;
use lantern_core::path::RelPath;
use lantern_core::plan::{Action, ActionKind, ByHand, Payload, Plan};
use lantern_core::text::Text;
use std::collections::BTreeMap;

/// The texts of components that were edited by hand and of which it is kept what had been put there.
pub(super) fn edited(
    server: &Server,
    ledger: &Ledger,
    survey: &Survey,
) -> Result<BTreeMap<RelPath, ByHand>> {
    let mut texts = BTreeMap::new();
    let components = survey.inventory.components.iter();
    let edited = components.filter_map(|component| match &component.state {
        FileState::Edited { files, .. } => Some(files),
        _ => None,
    });
    for path in edited.flatten() {
        let Some(known) = survey.remembered.get(path) else {
            continue;
        };
        let Some(before) = ledger.text(&known.hash)? else {
            continue;
        };
        let by_hand = ByHand {
            before: Text::read(&before),
            mine: server.folder.read_text(path)?,
            is_shipped: known.shipped,
        };
        if by_hand.before.is_plain() && by_hand.mine.is_plain() {
            texts.insert(path.clone(), by_hand);
        }
    }
    Ok(texts)
}

/// The texts that are edited by hand once a plan is carried out: those that stay so, over what is shipped then.
pub(super) fn after(
    plan: &Plan,
    at: &Beginning,
    payloads: &BTreeMap<usize, Payload>,
) -> Result<BTreeMap<RelPath, ByHand>> {
    let mut left = BTreeMap::new();
    for (path, by_hand) in &at.by_hand {
        let action = plan.actions.iter().find(|action| action.path == *path);
        let stays = |action: &&Action| matches!(action.what, ActionKind::Keep | ActionKind::Edit);
        let Some(action) = action.filter(stays) else {
            continue;
        };
        let edit = plan.edits.iter().find(|edit| edit.path == *path);
        let mine = edit.map(|edit| changed(edit, &by_hand.mine)).transpose()?;
        let mut texts = payloads
            .values()
            .filter_map(|payload| payload.texts.get(path));
        let shipped = texts.next().filter(|_| action.shipped.is_some());
        let after = ByHand {
            before: shipped.unwrap_or(&by_hand.before).clone(),
            mine: mine.unwrap_or_else(|| by_hand.mine.clone()),
            is_shipped: shipped.is_some() || by_hand.is_shipped,
        };
        left.insert(path.clone(), after);
    }
    Ok(left)
}
