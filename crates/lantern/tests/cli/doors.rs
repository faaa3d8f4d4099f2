//! What goes in and out beside the server: packs for players, stores, names, passwords, consoles that never end.

use crate::world::World;
use std::fs;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::time::{Duration, Instant};

const SERVER: &str = "halcyon-terrace";

fn on(args: &[&'static str]) -> Vec<&'static str> {
    [args, &["--server", SERVER]].concat()
}

#[test]
fn a_client_pack_replaces_its_like_and_nothing_else() {
    let world = World::adopted();
    world.ok(&on(&["client", "pack", "--out", "client.zip"]));
    world.ok(&on(&["client", "pack", "--out", "client.zip"]));
    world.write("mine.zip", "my own\n");
    let told = world.lantern(&on(&["client", "pack", "--out", "mine.zip"]));
    assert!(
        told.contains("exit status 1") && told.contains("mine.zip is there already"),
        "{told}"
    );
    assert_eq!(world.read("mine.zip"), "my own\n");
    let before = world.tree(SERVER);
    for out in [
        "halcyon-terrace/worlds/orbit-garden/client.zip",
        "halcyon-terrace/lantern.toml",
    ] {
        let told = world.lantern(&on(&["client", "pack", "--out", out]));
        assert!(told.contains("exit status 1"), "{told}");
    }
    assert_eq!(world.tree(SERVER), before);
}

#[test]
fn a_store_is_its_owners_alone_and_backups_are_named() {
    let world = World::adopted();
    fs::create_dir(world.path("store")).unwrap();
    let text = world.read("halcyon-terrace/lantern.toml");
    world.write(
        "halcyon-terrace/lantern.toml",
        format!("{text}\n[backup]\nstore = \"../store\"\n"),
    );
    world.ok(&on(&["backup", "make"]));
    let rooms = fs::read_dir(world.path("store")).unwrap();
    let rights: Vec<u32> = rooms
        .map(|room| room.unwrap().metadata().unwrap().permissions().mode() & 0o777)
        .collect();
    assert_eq!(rights, [0o700]);
    let own = fs::metadata(world.path("halcyon-terrace/.lantern")).unwrap();
    assert_eq!(own.permissions().mode() & 0o777, 0o700);
    for name in ["backups/0001", "../backups/0001", "/etc/passwd"] {
        let told = world.lantern(&on(&["backup", "show", name]));
        assert!(
            told.contains(&format!("there is no backup {name}")),
            "{told}"
        );
    }
}

/// A remote console that answers a login, and then for ever: emptily, or to other questions.
fn endless(number: impl Fn(i32) -> i32 + Send + 'static) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let packet = |number: i32, kind: i32| {
                let mut bytes = Vec::new();
                for field in [10, number, kind] {
                    bytes.extend(field.to_le_bytes());
                }
                bytes.extend([0, 0]);
                bytes
            };
            let mut login = [0; 64];
            let _ = stream.read(&mut login);
            let asked = i32::from_le_bytes(login[4..8].try_into().unwrap());
            let _ = stream.write_all(&packet(asked, 2));
            let _ = stream.read(&mut login);
            let asked = i32::from_le_bytes(login[4..8].try_into().unwrap());
            while stream.write_all(&packet(number(asked), 0)).is_ok() {
                std::thread::sleep(Duration::from_millis(50));
            }
        }
    });
    port
}

#[test]
fn a_console_that_answers_for_ever_is_left() {
    let left = |number: fn(i32) -> i32| {
        let world = World::adopted();
        let port = endless(number);
        let text = world.read("halcyon-terrace/lantern.toml");
        let remote = format!(
            "[console]\nline = {{ remote = {{ address = \"127.0.0.1:{port}\", password_file = \"secret\" }} }}\n"
        );
        world.write("halcyon-terrace/secret", "s");
        world.write("halcyon-terrace/lantern.toml", format!("{text}\n{remote}"));
        let begun = Instant::now();
        let told = world.lantern(&on(&["console", "ask", "list"]));
        assert!(told.contains("answers without end"), "{told}");
        assert!(begun.elapsed() < Duration::from_secs(60));
    };
    std::thread::scope(|scope| {
        scope.spawn(|| left(|asked| asked));
        scope.spawn(|| left(|asked| asked + 1_000));
    });
}

#[test]
fn no_program_but_the_console_gets_its_password() {
    let world = World::adopted();
    let text = world.read("halcyon-terrace/lantern.toml");
    let console = "[console]\nline = { remote = { address = \"127.0.0.1:9\", password_env = \"TERRACE_SECRET\" } }\n\
                   run = { start = [\"sh\", \"-c\", \"env > started\"], stop = [\"true\"], state = [\"false\"] }\n";
    world.write("halcyon-terrace/lantern.toml", format!("{text}\n{console}"));
    world.with_env(&on(&["console", "start"]), "TERRACE_SECRET", "open-sesame");
    let started = world.read("halcyon-terrace/started");
    assert!(
        started.contains("PATH=") && !started.contains("open-sesame"),
        "{started}"
    );
}
