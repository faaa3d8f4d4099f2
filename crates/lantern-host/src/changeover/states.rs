//! State folders as releases of lantern have left them: every later one goes on with them, and back.
//!
//! In each, one changeover is in force and a second was cut off, as `tests/states/` says by its number: that
//! of the format in which operations were written down.

use super::{Now, journal, resume, undo};
use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::error::Error;
use crate::folder::own;
use crate::ledger::Ledger;
use lantern_core::operation::{FORMAT, OperationKind, Phase, World};
use lantern_core::path::RelPath;
use std::fs;
use std::path::Path;
use tempfile::TempDir;

/// The folder of lantern's own files, which cannot be called so among sources.
const OWN_HERE: &str = "lantern-own";

/// Lays a kept state out in a new folder; `edit` changes the journal before that.
fn lay_out(number: u32, edit: impl Fn(String) -> String) -> (TempDir, Server) {
    let kept = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("tests/states/{number}"));
    let dir = tempfile::tempdir().unwrap();
    copy(&kept, dir.path());
    let own_files = dir.path().join("pond/.lantern");
    fs::rename(dir.path().join("pond").join(OWN_HERE), &own_files).unwrap();
    let here = dir.path().display().to_string();
    let fill = |path: &Path| {
        let text = fs::read_to_string(path).unwrap();
        fs::write(path, text.replace("HERE", &here)).unwrap();
    };
    fill(&dir.path().join("pond/lantern.toml"));
    let journal = own_files.join("journal.json");
    fill(&journal);
    fs::write(&journal, edit(fs::read_to_string(&journal).unwrap())).unwrap();
    let sql = fs::read_to_string(own_files.join("ledger.sql")).unwrap();
    let db = rusqlite::Connection::open(own_files.join("ledger.db")).unwrap();
    db.execute_batch(&sql).unwrap();
    drop(db);
    let server = Server::open(&dir.path().join("pond")).unwrap();
    (dir, server)
}

fn copy(from: &Path, to: &Path) {
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let to = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            fs::create_dir_all(&to).unwrap();
            copy(&entry.path(), &to);
        } else {
            fs::copy(entry.path(), to).unwrap();
        }
    }
}

fn fish(server: &Server) -> Vec<String> {
    let inside = server
        .folder
        .entries(&RelPath::parse("fish").unwrap())
        .unwrap();
    inside
        .into_iter()
        .map(|(path, _)| path.name().to_owned())
        .collect()
}

#[test]
fn what_was_cut_off_and_what_is_in_force_are_taken_back() {
    for number in 1..=FORMAT {
        let (_dir, server) = lay_out(number, |text| text);
        let cut_off = journal::read(&server).unwrap().unwrap();
        assert_eq!(cut_off.phase, Phase::Preparing);
        assert_eq!(cut_off.operation.kind(), OperationKind::Changeover);
        assert_eq!(cut_off.operation.moves.len(), 2, "format {number}");
        let mut ledger = Ledger::open(&server.folder).unwrap();
        let before = ledger.remembered().unwrap();
        // The server is down though it was up: it is started again before the journal goes.
        let undone = undo(&server, &mut ledger, World::Keep, &mut |_| {}).unwrap();
        assert_eq!(undone.now, Now::At("1".into()));
        assert_eq!(fish(&server), ["carp-2.fish"], "format {number}");
        let undone = undo(&server, &mut ledger, World::Keep, &mut |_| {}).unwrap();
        assert_eq!(undone.set_aside, [], "format {number}");
        assert_eq!(fish(&server), ["carp-1.fish"], "format {number}");
        let after = ledger.remembered().unwrap();
        let path = |text: &str| RelPath::parse(text).unwrap();
        assert!(before.contains_key(&path("fish/carp-2.fish")));
        assert!(!after.contains_key(&path("fish/carp-2.fish")));
        assert_eq!(
            after[&path("fish/carp-1.fish")]
                .owner
                .as_ref()
                .unwrap()
                .as_str(),
            "carp"
        );
        assert_eq!(after.len(), before.len(), "format {number}");
        crate::console::Console::of(&server).stop().unwrap();
    }
}

#[test]
fn a_swap_that_was_cut_off_goes_on() {
    for number in 1..=FORMAT {
        let swapping = |text: String| {
            let text = text.replace("\"phase\":\"preparing\"", "\"phase\":\"swapping\"");
            text.replace("\"was_up\":true", "\"was_up\":false")
        };
        let (_dir, server) = lay_out(number, swapping);
        let mut ledger = Ledger::open(&server.folder).unwrap();
        // Its backup was never made here: so it cannot be held against that, and is taken back.
        let ended = resume(&server, &mut ledger, false, &mut |_| {});
        assert!(
            matches!(
                ended,
                Err(Error::Changeover(ChangeoverFault::RolledBack { .. }))
            ),
            "format {number}: {ended:?}"
        );
        assert_eq!(fish(&server), ["carp-2.fish"], "format {number}");
        assert!(!server.folder.has(&own("journal.json")).unwrap());
    }
}

#[test]
fn what_a_later_lantern_wrote_is_refused() {
    let later = |text: String| text.replacen('{', "{\"format\":99,", 1);
    let (_dir, server) = lay_out(1, later);
    let refused = journal::read(&server).unwrap_err();
    assert!(
        matches!(refused, Error::NewerState { found: 99, .. }),
        "{refused}"
    );
}
