//! What one administrator writes down beside a server, as another one takes it.

use super::*;
use crate::ledger::Logged;
use crate::place::far::servers::{Served, Server};
use lantern_core::operation::{Detail, OperationKind, Record};
use std::fs;
use std::path::Path;

/// A folder on another machine, known from two.
struct Both {
    dir: tempfile::TempDir,
    served: Served,
}

impl Both {
    fn new() -> Option<Both> {
        let served = Served::start(Server::Sftp)?;
        let dir = tempfile::tempdir().unwrap();
        for name in ["there", "ida", "oro"] {
            fs::create_dir(dir.path().join(name)).unwrap();
        }
        Some(Both { dir, served })
    }

    fn at(&self, who: &str) -> Folder {
        let address = self.served.address(&self.dir.path().join("there"));
        let home = Folder::open(&self.dir.path().join(who)).unwrap();
        home.of_far(&address, &self.served.means()).unwrap()
    }

    fn records(&self) -> std::path::PathBuf {
        self.dir.path().join("there/.lantern/records.json.zst")
    }

    /// Rewrites what lies there.
    fn rewrite(&self, change: impl Fn(&mut serde_json::Value)) {
        let packed = fs::read(self.records()).unwrap();
        let text = zstd::stream::decode_all(&*packed).unwrap();
        let mut records = serde_json::from_slice(&text).unwrap();
        change(&mut records);
        let text = serde_json::to_vec(&records).unwrap();
        fs::write(self.records(), zstd::bulk::compress(&text, 3).unwrap()).unwrap();
    }
}

fn does(folder: &Folder, number: i64, to: &str) {
    let logged = Logged {
        number,
        kind: OperationKind::Changeover,
        ended_ms: number,
        from: "1".into(),
        to: to.into(),
        undone: false,
        failed: None,
        is_thinned: false,
    };
    let mut ledger = Ledger::open(folder).unwrap();
    ledger
        .record(&logged, &Record::default(), None, &Detail::default())
        .unwrap();
}

fn done(folder: &Folder) -> Vec<String> {
    let done = Ledger::open(folder).unwrap().operations().unwrap();
    done.into_iter().map(|it| it.to).collect()
}

fn theirs(brought: &Brought) -> bool {
    matches!(brought, Brought::Theirs(_))
}

fn write(folder: &Folder, name: &str, text: &str) {
    let path = own(name);
    folder.make_folders(&path.folder().unwrap()).unwrap();
    folder.write_whole(&path, text.as_bytes()).unwrap();
}

#[test]
fn what_one_writes_the_other_takes() {
    let Some(both) = Both::new() else { return };
    let (ida, oro) = (both.at("ida"), both.at("oro"));
    assert_eq!(bring(&ida).unwrap(), Brought::Nothing);
    does(&ida, 1, "2");
    write(&ida, "armed.json", "idas");
    write(&ida, "layers/some", "text");
    write(&oro, "armed.json", "oros");
    write(&oro, "decided/other", "mine");
    write(&oro, "night.json", "this machine's alone");
    share(&ida, "i").unwrap();
    assert!(theirs(&bring(&oro).unwrap()));
    assert_eq!(bring(&oro).unwrap(), Brought::Nothing);
    assert_eq!(done(&oro), ["2"]);
    let read = |name: &str| oro.read_if_there(&own(name)).unwrap();
    assert_eq!(read("armed.json").unwrap(), b"idas");
    assert_eq!(read("layers/some").unwrap(), b"text");
    assert_eq!(read("decided/other"), None);
    assert!(read("night.json").is_some() && read("records-before.json.zst").is_some());
    assert!(are_taken(&oro).unwrap() && is_mark_of_another(&oro, "i").unwrap());
    // And the other way round; a mark that was known once stays known.
    does(&oro, 2, "3");
    share(&oro, "o").unwrap();
    assert!(!are_taken(&oro).unwrap() && is_mark_of_another(&oro, "i").unwrap());
    // What was asked meanwhile was asked of what is no longer so.
    let refused = share_asked(&ida, "i").unwrap_err();
    assert!(matches!(refused, Error::MovedOn { .. }), "{refused}");
    assert!(theirs(&bring(&ida).unwrap()));
    assert_eq!(done(&ida), ["2", "3"]);
    share_asked(&ida, "i").unwrap();
    // While something is done from here, nothing is taken from under it.
    write(&oro, "armed.json", "later");
    assert!(theirs(&bring(&oro).unwrap()));
    share_asked(&oro, "o").unwrap();
    for (path, text) in [("journal.json", "ours"), ("under-way.json.zst", "its copy")] {
        ida.write_whole(&own(path), text.as_bytes()).unwrap();
    }
    assert_eq!(bring(&ida).unwrap(), Brought::Nothing);
    ida.remove_file(&own("under-way.json.zst")).unwrap();
    assert!(theirs(&bring(&ida).unwrap()));
    // Of a folder that was copied back nothing is taken: more is known here.
    let early = fs::read(both.records()).unwrap();
    does(&ida, 3, "4");
    share(&ida, "i").unwrap();
    fs::write(both.records(), early).unwrap();
    assert_eq!(bring(&ida).unwrap(), Brought::Nothing);
    assert_eq!(done(&ida), ["2", "3", "4"]);
}

#[test]
fn what_was_done_apart_is_told_and_nothing_is_lost() {
    let Some(both) = Both::new() else { return };
    let (ida, oro) = (both.at("ida"), both.at("oro"));
    does(&ida, 1, "2");
    does(&oro, 1, "3");
    share(&ida, "i").unwrap();
    for _ in 0..2 {
        assert!(matches!(bring(&oro).unwrap(), Brought::Apart(_)));
        share(&oro, "o").unwrap();
        assert_eq!(
            (done(&ida), done(&oro)),
            (vec!["2".into()], vec!["3".into()])
        );
    }
    assert_eq!(bring(&ida).unwrap(), Brought::Nothing);
    // Where nothing lies there any more, nothing is apart from it.
    let lies = fs::read(both.records()).unwrap();
    fs::remove_file(both.records()).unwrap();
    assert_eq!(bring(&oro).unwrap(), Brought::Nothing);
    fs::write(both.records(), lies).unwrap();
    assert!(matches!(bring(&oro).unwrap(), Brought::Apart(_)));
    assert!(take_theirs(&oro).unwrap().is_some());
    assert_eq!(done(&oro), ["2"]);
    assert_eq!(bring(&oro).unwrap(), Brought::Nothing);
    let kept = oro
        .read_if_there(&own("records-before.json.zst"))
        .unwrap()
        .unwrap();
    let kept: Records = serde_json::from_slice(&zstd::stream::decode_all(&*kept).unwrap()).unwrap();
    assert!(kept.ledger.operations()[0].contains("\"3\""));
}

#[test]
fn what_nobody_of_us_wrote_is_refused() {
    let Some(both) = Both::new() else { return };
    let (ida, oro) = (both.at("ida"), both.at("oro"));
    does(&ida, 1, "2");
    share(&ida, "i").unwrap();
    let good = fs::read(both.records()).unwrap();
    both.rewrite(|records| {
        records["files"] = serde_json::json!({
            "../escaped": "aGk=", "layers/../../escaped": "aGk=", "journal.json": "aGk=",
            "lantern.toml": "aGk=", "store/x": "aGk=", "/escaped": "aGk=", "layers/in": "aGk=",
        });
    });
    assert!(theirs(&bring(&oro).unwrap()));
    let here = |path: &str| Path::new(&both.dir.path().join(path)).exists();
    assert!(here("oro/.lantern/layers/in"));
    for path in ["escaped", "oro/escaped", "oro/lantern.toml"] {
        assert!(!here(path), "{path}");
    }
    for path in ["journal.json", "store", "lantern.toml"] {
        assert!(!here(&format!("oro/.lantern/{path}")), "{path}");
    }
    let refused = |change: &dyn Fn(&mut serde_json::Value)| {
        fs::write(both.records(), &good).unwrap();
        both.rewrite(change);
        let Brought::Unread(why) = bring(&oro).unwrap() else {
            panic!("it is taken");
        };
        // It is left as it is, and hinders nothing.
        let before = fs::read(both.records()).unwrap();
        share(&oro, "o").unwrap();
        assert_eq!(fs::read(both.records()).unwrap(), before);
        assert!(unshared(&oro).unwrap().is_some());
        why
    };
    let later = refused(&|records| records["format"] = 2.into());
    assert!(later.contains("a later lantern wrote it"), "{later}");
    let odd = refused(&|records| records["number"] = "many".into());
    assert!(odd.contains("records.json.zst"), "{odd}");
    for row in [
        serde_json::json!([2, "changeover"]),
        serde_json::json!([2, "moss", 2, "2", "3", "", 0]),
        serde_json::json!([2, "changeover", 2, "2", "3", "moss", 0]),
        serde_json::json!(["two", "changeover", 2, "2", "3", "", 0]),
    ] {
        let rows = refused(&|records| {
            let operations = &mut records["ledger"]["tables"]["operation"];
            operations.as_array_mut().unwrap().push(row.clone());
        });
        assert!(rows.contains("ledger.db"), "{row}: {rows}");
        assert_eq!(done(&oro), ["2"], "{row}");
    }
    fs::write(both.records(), b"moss").unwrap();
    assert!(matches!(bring(&oro).unwrap(), Brought::Unread(_)));
    assert_eq!(done(&oro), ["2"], "what was known is known");
}
