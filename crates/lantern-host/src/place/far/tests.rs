//! Each operation of a far folder, over servers that somebody else wrote.

use super::cut::{self, How};
use super::servers::{Served, Server, SmallDisk};
use super::{LinkOnTheWay, Place, close, open};
use crate::place::Stamp;
use lantern_core::path::RelPath;
use std::fs;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::path::Path;
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

/// More folders than are asked for at once.
const MANY: usize = 150;

fn at(path: &str) -> RelPath {
    RelPath::parse(path).unwrap()
}

/// What not every server can do.
struct Can {
    link: bool,
    tell_room: bool,
    set_rights: bool,
}

/// Those that copy by themselves what lies on their machine.
const COPY: [Server; 2] = [Server::Sftp, Server::SftpShutIn];

const ALL: Can = Can {
    link: true,
    tell_room: true,
    set_rights: true,
};

/// Writes, reads, renames and removes there.
fn works(far: &dyn Place, can: &Can) {
    far.make_folder(&at("beds"), 0o755).unwrap();
    far.make_folder(&at("beds"), 0o755).unwrap();
    // Longer than a piece, and than what is fetched ahead.
    let content: Vec<u8> = (0..3_000_000u32).map(|n| (n % 251) as u8).collect();
    let mut file = far.create(&at("beds/one")).unwrap();
    file.write_all(&content[..100]).unwrap();
    file.write_all(&content[100..]).unwrap();
    file.set_rights(0o640).unwrap();
    file.sync().unwrap();
    drop(file);
    let mut read = Vec::new();
    let mut source = far.open(&at("beds/one")).unwrap();
    source.read_to_end(&mut read).unwrap();
    assert!(read == content);
    source.seek(SeekFrom::End(-7)).unwrap();
    read.clear();
    source.read_to_end(&mut read).unwrap();
    assert_eq!(read, content[content.len() - 7..]);
    let mut middle = [0; 5];
    assert_eq!(source.read_at(&mut middle, 1_234_567).unwrap(), 5);
    assert_eq!(middle, content[1_234_567..1_234_572]);
    let meta = far.look(&at("beds/one")).unwrap().unwrap();
    assert_eq!(
        (meta.is_file(), meta.stamp.bytes, meta.rights),
        (true, 3_000_000, if can.set_rights { 0o640 } else { 0o644 })
    );

    // Nothing that is there is written over, but by a replacement.
    assert!(far.create(&at("beds/one")).is_err());
    drop(far.create(&at("beds/two")).unwrap());
    let refused = far.rename(&at("beds/one"), &at("beds/two")).unwrap_err();
    assert_eq!(refused.kind(), io::ErrorKind::AlreadyExists, "{refused}");
    far.replace(&at("beds/one"), &at("beds/two")).unwrap();
    assert_eq!(far.look(&at("beds/one")).unwrap(), None);
    assert_eq!(
        far.look(&at("beds/two")).unwrap().unwrap().stamp.bytes,
        3_000_000
    );

    if can.link {
        // A link is seen, and not gone through.
        far.make_link("beds", &at("plot")).unwrap();
        assert_eq!(far.read_link(&at("plot")).unwrap(), "beds");
        let through = far.look(&at("plot/two")).unwrap_err();
        assert!(through.get_ref().unwrap().is::<LinkOnTheWay>());
    }

    // A folder moves with all in it, and is known no more under its old name.
    far.rename(&at("beds"), &at("rows")).unwrap();
    assert_eq!(far.look(&at("beds/two")).unwrap(), None);
    let names = far.list(Some(&at("rows"))).unwrap();
    assert_eq!(names.len(), 1);
    assert_eq!(names[0].0, "two");
    assert!(far.remove_folder(&at("rows")).is_err(), "it is not empty");
    far.remove_file(&at("rows/two")).unwrap();
    far.remove_folder(&at("rows")).unwrap();
    assert_eq!(far.free_bytes().is_ok_and(|free| free > 0), can.tell_room);
    let gone = far.open(&at("rows/two")).err().unwrap();
    assert_eq!(gone.kind(), io::ErrorKind::NotFound);
}

fn many_folders(far: &dyn Place) {
    let folders: Vec<RelPath> = (0..MANY).map(|n| at(&format!("f{n}"))).collect();
    for (number, folder) in folders.iter().enumerate() {
        far.make_folder(folder, 0o755).unwrap();
        for file in 0..number % 3 {
            drop(
                far.create(&folder.join(&file.to_string()).unwrap())
                    .unwrap(),
            );
        }
    }
    let asked: Vec<Option<RelPath>> = folders.into_iter().map(Some).collect();
    let listed = far.list_each(&asked);
    let counts: Vec<usize> = listed.into_iter().map(|it| it.unwrap().len()).collect();
    let expected: Vec<usize> = (0..MANY).map(|n| n % 3).collect();
    assert_eq!(counts, expected);
}

/// Copies what lies elsewhere on that machine, where the other end does that: what looks as it did, and over nothing.
fn copied_there(far: &dyn Place, dir: &Path) {
    let content: Vec<u8> = (0..700_000u32).map(|n| (n % 241) as u8).collect();
    far.make_folder(&at("beside"), 0o755).unwrap();
    let mut file = far.create(&at("beside/one")).unwrap();
    file.write_all(&content).unwrap();
    file.sync().unwrap();
    drop(file);
    let there = |path: &str| far.path_there(&at(path)).unwrap();
    let (from, stamp) = (
        there("beside/one"),
        far.look(&at("beside/one")).unwrap().unwrap().stamp,
    );
    let copy = |from: &str, stamp: &Stamp, to: &str| far.copy_there(from, stamp, &at(to), 0o640);
    assert!(copy(&from, &stamp, "copy").unwrap());
    assert!(fs::read(dir.join("copy")).unwrap() == content);
    assert_eq!(far.look(&at("copy")).unwrap().unwrap().rights, 0o640);
    assert!(
        copy(&from, &stamp, "copy").is_err(),
        "nothing is written over"
    );
    let other = Stamp { bytes: 5, ..stamp };
    assert!(!copy(&from, &other, "two").unwrap());
    assert!(!copy(&format!("{from}-gone"), &stamp, "two").unwrap());
    assert!(!copy(&there("beside"), &stamp, "two").unwrap_or(false));
    assert_eq!(far.look(&at("two")).unwrap(), None);
    for name in ["beside/one", "copy"] {
        far.remove_file(&at(name)).unwrap();
    }
}

/// Renames, several sent at once where the place does that: one whose file is gone leaves the others as they are.
fn many_renames(far: &dyn Place) {
    far.make_folder(&at("from"), 0o755).unwrap();
    far.make_folder(&at("to"), 0o755).unwrap();
    let renames: Vec<(RelPath, RelPath)> = (0..MANY)
        .map(|n| (at(&format!("from/a {n}")), at(&format!("to/b {n}"))))
        .collect();
    for (index, (from, _)) in renames.iter().enumerate() {
        if index % 50 != 7 {
            drop(far.create(from).unwrap());
        }
    }
    for together in renames.chunks(far.renames_at_once()) {
        let renamed = far.rename_as_listed(together);
        assert_eq!(renamed.len(), together.len());
        for ((_, to), renamed) in together.iter().zip(renamed) {
            let is_gone = ["b 7", "b 57", "b 107"].contains(&to.name());
            let said = renamed.map_err(|error| error.kind());
            let expected = if is_gone {
                Err(io::ErrorKind::NotFound)
            } else {
                Ok(())
            };
            assert_eq!(said, expected, "{to}");
        }
    }
    assert_eq!(far.list(Some(&at("to"))).unwrap().len(), MANY - 3);
    assert_eq!(far.list(Some(&at("from"))).unwrap().len(), 0);
}

/// Opened, perhaps after a while: a server that takes so many at a time may not know yet which were cut.
fn opened_in_time(served: &Served, host: &str, dir: &Path) -> Arc<dyn Place> {
    let until = Instant::now() + Duration::from_secs(30);
    loop {
        match served.open_by_name(host, dir) {
            Err(error)
                if error.kind() == io::ErrorKind::ConnectionAborted && Instant::now() < until =>
            {
                thread::sleep(Duration::from_millis(100));
            }
            opened => return opened.unwrap(),
        }
    }
}

/// Where the answer to a move or a removal is lost, the folder is not thought to be there still.
fn unheard_of(served: &Served) {
    let host = format!("unheard-{:?}.cut.example", served.server()).to_lowercase();
    let dir = served.room();
    let moves = |far: &dyn Place| far.rename(&at("plot"), &at("bed"));
    let goes = |far: &dyn Place| far.remove_folder(&at("plot"));
    for question in 0..6 {
        for (index, operate) in [moves as fn(&dyn Place) -> io::Result<()>, goes]
            .iter()
            .enumerate()
        {
            let far = opened_in_time(served, &host, dir.path());
            far.make_folder(&at("plot"), 0o755).unwrap();
            cut::at(&host, Some((question, How::After)));
            let _ = operate(&*far);
            drop(far);
            cut::heal(&host);
            let about = format!("{host}, question {question} of {index}");
            let far = opened_in_time(served, &host, dir.path());
            far.make_folder(&at("plot"), 0o755).unwrap();
            let there = far.look(&at("plot")).unwrap();
            assert!(there.is_some_and(|meta| meta.is_folder()), "{about}");
            let _ = far.remove_folder(&at("bed"));
            drop(far);
        }
    }
}

fn on(server: Server, can: &Can) {
    let Some(served) = Served::start(server) else {
        return;
    };
    let dir = served.room();
    let far = served.open(dir.path());
    works(&*far, can);
    many_folders(&*far);
    let is_ftp = matches!(server, Server::Ftp | Server::FtpForPeople | Server::Ftps);
    assert_eq!(far.renames_at_once() > 1, is_ftp);
    many_renames(&*far);
    assert_eq!(far.copies_there(), COPY.contains(&server));
    if far.copies_there() {
        copied_there(&*far, dir.path());
    }
    let odd = "it's a \u{e9}t\u{e9} (1)";
    drop(far.create(&at(odd)).unwrap());
    assert!(
        far.list(None)
            .unwrap()
            .iter()
            .any(|(name, _)| *name == *odd)
    );
    assert!(far.look(&at(odd)).unwrap().unwrap().is_file());
    assert_eq!(far.look(&at("no/such")).unwrap(), None);
    // One at a time.
    let held = far.lock(&at("at-work"), "ida\n").unwrap().unwrap();
    assert_eq!(
        far.lock(&at("at-work"), "oro\n").unwrap().err(),
        Some("ida\n".into())
    );
    drop(held);
    assert_eq!(far.locked_by(&at("at-work")).unwrap(), None);
    drop(far);
    unheard_of(&served);
}

#[test]
fn over_an_sftp_server() {
    on(Server::Sftp, &ALL);
}

#[test]
fn over_another_sftp_server() {
    on(Server::SftpInPython, &ALL);
}

#[test]
fn over_an_sftp_server_that_shuts_in() {
    on(Server::SftpShutIn, &ALL);
}

#[test]
fn over_an_ftp_server_that_tells_facts() {
    let can = Can {
        link: false,
        tell_room: false,
        set_rights: true,
    };
    on(Server::Ftp, &can);
}

/// A way to a server, on which of all that comes at once but the first line is passed on.
fn forgetting(port: u16) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let own = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for near in listener.incoming().map_while(Result::ok) {
            let far = TcpStream::connect(("127.0.0.1", port)).unwrap();
            let (mut from, mut to) = (near.try_clone().unwrap(), far.try_clone().unwrap());
            std::thread::spawn(move || {
                let mut piece = [0; 4096];
                while let Ok(read @ 1..) = from.read(&mut piece) {
                    let line = piece[..read].split_inclusive(|it| *it == b'\n').next();
                    to.write_all(line.unwrap()).unwrap();
                }
                let _ = to.shutdown(Shutdown::Both);
            });
            std::thread::spawn(move || io::copy(&mut &far, &mut &near));
        }
    });
    own
}

#[test]
fn over_an_ftp_server_that_forgets_what_is_sent_too_early() {
    let Some(served) = Served::start(Server::Ftp) else {
        return;
    };
    let dir = served.room();
    assert!(served.open(dir.path()).renames_at_once() > 1);
    let mut address = served.address_at("forgets.cut.example", dir.path());
    address.port = address.port.map(forgetting);
    let far = open(&address, &served.means()).unwrap();
    assert_eq!(far.renames_at_once(), 1);
    many_renames(&*far);
    close("forgets.cut.example");
}

#[test]
fn over_an_ftp_server_behind_tls() {
    let can = Can {
        link: false,
        tell_room: false,
        set_rights: false,
    };
    on(Server::Ftps, &can);
}

#[test]
fn over_an_ftp_server_that_lists_for_people() {
    let can = Can {
        link: false,
        tell_room: false,
        set_rights: false,
    };
    on(Server::FtpForPeople, &can);
}

#[test]
fn a_disk_there_that_is_full() {
    for server in [
        Server::Sftp,
        Server::SftpInPython,
        Server::Ftp,
        Server::FtpForPeople,
        Server::Ftps,
    ] {
        let Some(served) = Served::start(server) else {
            continue;
        };
        let dir = served.room();
        let Some(_disk) = SmallDisk::mount(dir.path()) else {
            return;
        };
        let far = served.open(dir.path());
        let mut file = far.create(&at("large")).unwrap();
        let piece = vec![7; 1 << 20];
        let written = (0..32).try_for_each(|_| file.write_all(&piece));
        let refused = written.and_then(|()| file.sync()).unwrap_err();
        drop(file);
        // One of them says nothing at times, and takes nothing more.
        let is_silent = refused.kind() == io::ErrorKind::TimedOut;
        assert!(!is_silent || server == Server::Ftp, "{server:?}: {refused}");
        assert_eq!(is_silent, refused.to_string().contains("may be full"));
        // The next is asked as ever.
        far.remove_file(&at("large")).unwrap();
        assert_eq!(far.look(&at("large")).unwrap(), None);
    }
}

#[test]
fn a_wrong_password_and_a_host_that_nobody_believes() {
    let dir = tempfile::tempdir().unwrap();
    let Some(served) = Served::start(Server::Ftp) else {
        return;
    };
    let refused = served.with_password("wrong", dir.path()).unwrap_err();
    assert_eq!(refused.kind(), io::ErrorKind::PermissionDenied, "{refused}");
    let gone = served.open_at(&dir.path().join("no-such")).unwrap_err();
    assert_eq!(gone.kind(), io::ErrorKind::NotFound, "{gone}");
    // What is no certificate of anybody's.
    let served = Served::start(Server::Ftps).unwrap();
    let unknown = served.open_by_name("localhost", dir.path()).unwrap_err();
    assert_eq!(
        unknown.kind(),
        io::ErrorKind::ConnectionAborted,
        "{unknown}"
    );
}
