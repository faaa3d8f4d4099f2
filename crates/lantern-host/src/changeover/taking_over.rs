//! What somebody else left half done in a server folder on another machine, from his own: it is put back from here.

use super::{journal, moves, sending};
use crate::config::Server;
use crate::console::{Console, ServerState};
use crate::error::Result;
use crate::lock;
use crate::records::{self, Brought};
use crate::survey::{Depth, survey};
use crate::{console::fault::ConsoleFault, ledger::Ledger};
use lantern_core::operation::Phase;
use lantern_core::path::RelPath;

/// What was taken over.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TakenOver {
    /// Who was at work, or was cut off; none where nobody was.
    pub who: Option<String>,
    /// What was cut off, and what state things were in; none where nothing was.
    pub told: Option<String>,
    /// Files that were put back.
    pub back: usize,
    /// Files that cannot be found to be put back.
    pub lost: Vec<RelPath>,
    /// Whose records were taken, where those of this machine had gone apart from them.
    pub records: Option<String>,
}

/// What somebody is doing there from another machine, or left half done, in words; none where nobody does.
///
/// # Errors
/// When that cannot be seen.
pub fn left_by(server: &Server) -> Result<Option<String>> {
    let holder = lock::holder_there(server)?;
    let copied = journal::copied(server)?.filter(|copied| copied.mark != server.config.id);
    let cut_off = copied.map(|it| {
        let told = it.journal.operation.cut_off(it.journal.phase);
        format!("an operation was cut off there, {}. {told}", it.who)
    });
    let at_work = holder.map(|who| format!("{who}: at work there"));
    let told: Vec<String> = at_work.into_iter().chain(cut_off).collect();
    Ok((!told.is_empty()).then(|| told.join("\n")))
}

/// Takes a server folder over from whoever works there from another machine: what he left half done is put back, file by file, as far as
/// it had come; what he had done is left as it is.
///
/// # Errors
/// When the server is up, or may be, while files have to be put back; or a rename fails.
pub fn take_over(server: &Server, ledger: &mut Ledger) -> Result<TakenOver> {
    let mut taken = TakenOver {
        who: lock::take_over(server)?,
        ..TakenOver::default()
    };
    let _there = lock::there(server, "take-over")?;
    if matches!(records::bring(&server.folder)?, Brought::Apart(_)) {
        taken.records = records::take_theirs(&server.folder)?;
    }
    let others = journal::copied(server)?.filter(|copied| copied.mark != server.config.id);
    let Some(copied) = others else {
        return Ok(taken);
    };
    let operation = &copied.journal.operation;
    taken.who.get_or_insert(copied.who);
    taken.told = Some(operation.cut_off(copied.journal.phase));
    let is_half = match copied.journal.phase {
        Phase::Preparing | Phase::Stopping | Phase::Ending => false,
        Phase::Swapping | Phase::Starting | Phase::GoingBack => true,
    };
    if is_half {
        for one in server.each() {
            let console = Console::of(&one);
            match console.state()? {
                ServerState::Unknown { why }
                    if !console.can_be_told() && !console.may_be_coming_up() =>
                {
                    return Err(ConsoleFault::Unseen { why }.into());
                }
                _ => console.stop()?,
            };
        }
        let (folder, moves) = (&server.folder, &operation.moves);
        let there = |all: &mut dyn Iterator<Item = &RelPath>| -> Result<usize> {
            let all: Vec<&RelPath> = all.collect();
            let looking = moves::Looking::at(folder, all.iter().copied())?;
            let mut count = 0;
            for path in all {
                count += usize::from(looking.has(path)?);
            }
            Ok(count)
        };
        let goes = || moves.iter().filter(|step| !step.brings());
        let before = there(&mut goes().map(|step| &step.to))?;
        taken.lost = sending::over_breaks(|| moves::take_back(folder, moves))?;
        taken.back = before.saturating_sub(there(&mut goes().map(|step| &step.to))?);
    }
    journal::remove_copy(server)?;
    let staging = super::stage::folder_name(operation.number);
    let _ = server.folder.remove_all(&RelPath::parse(&staging)?);
    survey(server, ledger, Depth::Usual)?;
    records::share(&server.folder, &server.config.id)?;
    Ok(taken)
}
