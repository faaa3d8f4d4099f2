//! A real server program that is brought to another version: Debian's voxel server, of two Debians, in a folder of its own.

use crate::world::{World, debian_servers, free_port};
use insta::assert_snapshot;
use std::fs;
use std::net::UdpSocket;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const OLD: &str = "minetest-5.6.1";
const NEW: &str = "luanti-5.10.0";

fn run(command: &mut Command) {
    assert!(command.status().unwrap().success(), "{command:?}");
}

/// Settings with ports of their own: the newer program opens a second one, for whoever watches it.
fn settings() -> String {
    let (port, watched) = (free_port(), free_port());
    format!(
        "port = {port}\nserver_announce = false\nprometheus_listener_address = 127.0.0.1:{watched}\n"
    )
}

/// A server folder of the older release, with a mod of its own and one in its world.
fn lounge(servers: &Path) -> World {
    let world = World::empty();
    run(Command::new("cp")
        .arg("-r")
        .arg(servers.join(OLD))
        .arg(world.path("lounge")));
    world.write("lounge/minetest.conf", settings());
    world.write(
        "lounge/start.sh",
        "#!/bin/sh\n# The older one looks for mods where MINETEST_MOD_PATH says, the newer one below MINETEST_USER_PATH.\n\
         grep -q MINETEST_USER_PATH bin/minetestserver && export MINETEST_USER_PATH=. || export MINETEST_MOD_PATH=mods\n\
         exec lib/ld.so --library-path lib bin/minetestserver \\\n    \
         --config minetest.conf --world worlds/lounge --gameid minetest_game --logfile debug.txt --color never --info\n",
    );
    let chime = "minetest.log('action', 'chime')\n";
    world.write("lounge/mods/chime/init.lua", chime);
    world.write("lounge/mods/chime/mod.conf", "name = chime\n");
    world.write("lounge/worlds/lounge/worldmods/bell/init.lua", chime);
    world.write(
        "lounge/worlds/lounge/worldmods/bell/mod.conf",
        "name = bell\ndepends = chime\n",
    );
    world.write(
        "lounge/worlds/lounge/world.mt",
        "gameid = minetest_game\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\n\
         mod_storage_backend = sqlite3\nload_mod_chime = true\n",
    );
    fs::create_dir_all(world.path("drop")).unwrap();
    world
}

fn packed(world: &World, servers: &Path, drop: &str, name: &str) {
    fs::create_dir_all(world.path(drop)).unwrap();
    let archive = world.path(&format!("{drop}/{name}.tar"));
    let mut tar = Command::new("tar");
    run(tar.arg("-C").arg(servers).arg("-cf").arg(archive).arg(name));
}

/// Takes the lounge into care. What is installed states no version; a catalogue of both releases knows it.
fn in_care(world: &World, servers: &Path) {
    packed(world, servers, "depot", OLD);
    packed(world, servers, "depot", NEW);
    let family = ["--family", "minetest-folder"];
    world.ok(&[&["catalogue", "make", "depot"], &family[..]].concat());
    world.ok(&[&["adopt", "lounge"], &family[..]].concat());
    world.edit(
        "lounge/lantern.toml",
        "[warn]",
        "catalogues = [\"../depot/depot.catalogue.json\"]\n[warn]",
    );
    world.edit("lounge/lantern.toml", "at = [\"10s\"]", "at = []");
}

/// What the program in the server folder says that it is.
fn version(world: &World) -> String {
    let mut program = Command::new(world.path("lounge/lib/ld.so"));
    program.arg("--library-path").arg(world.path("lounge/lib"));
    program
        .arg(world.path("lounge/bin/minetestserver"))
        .arg("--version");
    String::from_utf8(program.output().unwrap().stdout).unwrap()
}

#[test]
fn the_program_itself_moves_and_comes_back() {
    let Some(servers) = debian_servers() else {
        return;
    };
    let world = lounge(&servers);
    in_care(&world, &servers);
    let sizes = regex::Regex::new("[0-9]+ (KB|MB)").unwrap();
    let survey = world.lantern(&["survey", "--server", "lounge"]);
    assert_snapshot!("program_surveyed", sizes.replace_all(&survey, "SIZE"));
    world.ok(&["console", "start", "--server", "lounge"]);
    let plan = world.lantern(&["plan", "--to", "5.10.0", "--server", "lounge"]);
    let moves = "minetest-folder 5.6.1 to 5.10.0. 1 updated, 0 added, 0 removed, 2 unchanged.";
    assert!(plan.contains(moves), "{plan}");
    assert!(
        world
            .ok(&["rehearse", "--server", "lounge"])
            .contains("It works")
    );
    let told = world.ok(&["changeover", "--yes", "--server", "lounge"]);
    assert!(told.contains("Done"), "{told}");
    assert!(version(&world).contains("Luanti 5.10.0"));
    assert!(!world.path("lounge/bin/luantiserver").exists());
    let survey = world.ok(&["survey", "--server", "lounge"]);
    assert!(survey.contains("minetest-folder 5.10.0,"), "{survey}");
    // A program that does not start: what was there comes back.
    let torn = world.path(&format!("torn/{NEW}"));
    fs::create_dir_all(world.path("torn")).unwrap();
    run(Command::new("cp")
        .arg("-r")
        .arg(servers.join(NEW))
        .arg(&torn));
    fs::write(torn.join("lib/libstdc++.so.6"), "cut").unwrap();
    fs::rename(&torn, world.path("torn/luanti-5.10.1")).unwrap();
    let mut tar = Command::new("tar");
    run(tar
        .arg("-C")
        .arg(world.path("torn"))
        .arg("-cf")
        .arg(world.path("drop/luanti-5.10.1.tar"))
        .arg("luanti-5.10.1"));
    world.ok(&[
        "plan", "--to", "5.10.1", "--from", "drop", "--server", "lounge",
    ]);
    let told = world.lantern(&["changeover", "--yes", "--server", "lounge"]);
    assert!(told.contains("exit status 4"), "{told}");
    assert!(
        world
            .ok(&["verify", "--server", "lounge"])
            .contains("2 of 2")
    );
    // And back to where it began, world and all.
    world.ok(&["undo", "--with-world", "--server", "lounge"]);
    assert!(version(&world).contains("Minetest 5.6.1"));
    let survey = world.ok(&["survey", "--server", "lounge"]);
    assert!(survey.contains("minetest-folder 5.6.1,"), "{survey}");
    assert!(
        world
            .ok(&["verify", "--server", "lounge"])
            .contains("2 of 2")
    );
    world.ok(&["console", "stop", "--server", "lounge"]);
}

/// Greets the server as a client does that speaks all protocols up to one, in packets as that server's program reads them: what it
/// chooses; none where it does not let such a client in.
fn greeted(port: u16, most: u16) -> Option<u16> {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket
        .set_read_timeout(Some(Duration::from_millis(500)))
        .unwrap();
    let send = |peer: u16, channel: u8, body: &[u8]| {
        let mut packet = vec![0x4f, 0x45, 0x74, 0x03];
        packet.extend(peer.to_be_bytes());
        packet.push(channel);
        packet.extend(body);
        socket.send_to(&packet, ("127.0.0.1", port)).unwrap();
    };
    send(0, 0, &[3, 0xff, 0xdc, 1]);
    let (mut peer, mut buffer) = (0, [0; 2048]);
    let begun = Instant::now();
    while begun.elapsed() < Duration::from_secs(20) {
        let Ok((length, _)) = socket.recv_from(&mut buffer) else {
            // It hears who greets only after it has noted who came.
            if peer != 0 {
                let [min, max] = [1u16, most].map(u16::to_be_bytes);
                let mut hello = vec![1, 0, 2, 28, 0, 0, min[0], min[1], max[0], max[1], 0, 5];
                hello.extend(b"guest");
                send(peer, 1, &hello);
            }
            continue;
        };
        let (channel, body) = (buffer[6], &buffer[7..length]);
        let [3, high, low, rest @ ..] = body else {
            continue;
        };
        if let [0, 1, high, low] = rest {
            peer = u16::from_be_bytes([*high, *low]);
        }
        send(peer, channel, &[0, 0, *high, *low]);
        match rest {
            [1, 0, 2, _, _, _, high, low, ..] => return Some(u16::from_be_bytes([*high, *low])),
            [1, 0, 10, ..] => return None,
            _ => {}
        }
    }
    panic!("the server at {port} does not answer a greeting");
}

/// Debian's own client of the older release, on a screen that nobody sees; none where it cannot be had, which is said, and fails when
/// `CI` is set.
fn real_client() -> Option<&'static Path> {
    let client = Path::new("/usr/games/minetest");
    if client.exists() && Path::new("/usr/bin/xvfb-run").exists() {
        return Some(client);
    }
    let why = "/usr/games/minetest or xvfb-run is missing";
    assert!(
        std::env::var_os("CI").is_none(),
        "{why}, and CI has to have it"
    );
    eprintln!("no client joins, as {why}; scripts/test installs it");
    None
}

/// Joins the server with the real client; the server itself has to say that it did.
fn joins(world: &World, client: &Path, port: u16, name: &str) {
    world.write(
        "client.conf",
        "enable_sound = false\nscreen_w = 320\nscreen_h = 240\nfps_max = 5\nviewing_range = 20\nenable_shaders = false\n",
    );
    let mut played = Command::new("xvfb-run")
        .arg("-a")
        .arg(client)
        .args(["--config", "client.conf", "--go", "--address", "127.0.0.1"])
        .args(["--port", &port.to_string()])
        .args(["--name", name, "--password", "moon"])
        .env("HOME", world.path(""))
        .env("LIBGL_ALWAYS_SOFTWARE", "1")
        .current_dir(world.path(""))
        .process_group(0)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let words = format!("{name} [127.0.0.1] joins game");
    let begun = Instant::now();
    let has_joined = || {
        let said = fs::read(world.path("lounge/debug.txt")).unwrap_or_default();
        String::from_utf8_lossy(&said).contains(&words)
    };
    while !has_joined() && begun.elapsed() < Duration::from_secs(90) {
        std::thread::sleep(Duration::from_millis(200));
    }
    let group = format!("-{}", played.id());
    run(Command::new("kill").args(["-TERM", "--", &group]));
    played.wait().unwrap();
    assert!(has_joined(), "the server does not say that {name} joined");
}

#[test]
fn who_may_join_is_what_the_real_servers_say() {
    let Some(servers) = debian_servers() else {
        return;
    };
    let world = lounge(&servers);
    in_care(&world, &servers);
    let settings = world.read("lounge/minetest.conf");
    let port = settings.lines().next().unwrap().rsplit(' ').next().unwrap();
    let port: u16 = port.parse().unwrap();
    let greet = || [36, 37, 41, 46, 60].map(|most| greeted(port, most));
    world.ok(&["console", "start", "--server", "lounge"]);
    assert_eq!(greet(), [None, Some(37), Some(41), Some(41), Some(41)]);
    let client = real_client();
    let join = |name: &str| client.iter().for_each(|it| joins(&world, it, port, name));
    join("ilva");
    let before = world.lantern(&["client", "who", "--server", "lounge"]);
    world.ok(&["plan", "--to", "5.10.0", "--server", "lounge"]);
    let planned = world.lantern(&["client", "who", "--plan", "--server", "lounge"]);
    world.ok(&["changeover", "--yes", "--server", "lounge"]);
    assert_eq!(greet(), [None, Some(37), Some(41), Some(46), Some(46)]);
    join("oro");
    let after = world.lantern(&["client", "who", "--server", "lounge"]);
    assert_snapshot!("program_who_joins", [before, planned, after].join("\n"));
    world.ok(&["console", "stop", "--server", "lounge"]);
}

/// A second world on the same program, with settings and mods of its own.
fn attic(world: &World) {
    world.write("lounge/attic.conf", settings());
    let start = world.read("lounge/start.sh");
    let start = start.replace("--config minetest.conf", "--config attic.conf");
    let start = start.replace("worlds/lounge", "worlds/attic");
    world.write(
        "lounge/start-attic.sh",
        start.replace("debug.txt", "attic.txt"),
    );
    let settings = world.read("lounge/worlds/lounge/world.mt");
    world.write("lounge/worlds/attic/world.mt", settings);
}

#[test]
fn two_worlds_of_one_program_move_together() {
    let Some(servers) = debian_servers() else {
        return;
    };
    let world = lounge(&servers);
    attic(&world);
    packed(&world, &servers, "depot", OLD);
    packed(&world, &servers, "depot", NEW);
    let family = ["--family", "minetest-folder"];
    world.ok(&[&["catalogue", "make", "depot"], &family[..]].concat());
    let told = world.ok(&[&["adopt", "lounge"], &family[..]].concat());
    assert!(
        told.contains("2 servers run on this install, by their start scripts: lounge, attic"),
        "{told}"
    );
    let settings = world.read("lounge/lantern.toml");
    let (_, stated) = settings.split_once("taken for common.\n").unwrap();
    assert_snapshot!(stated, @r#"
    [[server]]
    name = "lounge"
    instead = { "debug.txt*" = "debug.txt", "worlds/*" = "worlds/lounge" }

    [[server]]
    name = "attic"
    instead = { "debug.txt*" = "attic.txt", "minetest.conf" = "attic.conf", "start.sh" = "start-attic.sh", "worlds/*" = "worlds/attic" }
    "#);
    world.edit(
        "lounge/lantern.toml",
        "[warn]",
        "catalogues = [\"../depot/depot.catalogue.json\"]\n[warn]",
    );
    world.edit("lounge/lantern.toml", "at = [\"10s\"]", "at = []");
    let at = |words: &[&str]| world.lantern(&[words, &["--server", "lounge"]].concat());
    let told = at(&["console", "start"]);
    assert!(told.contains("lounge (attic) is up"), "{told}");
    // A mod of one world is that world's affair.
    let plan = at(&["plan", "--to", "same", "--of", "attic", "--off", "chime"]);
    assert!(plan.contains("load order, worlds/attic/world.mt"), "{plan}");
    assert!(
        plan.contains("stopped and started: attic; not touched: lounge"),
        "{plan}"
    );
    assert!(at(&["changeover", "--yes"]).contains("exit status 0"));
    let plan = at(&["plan", "--to", "5.10.0"]);
    assert!(
        plan.contains("stopped and started: lounge, attic"),
        "{plan}"
    );
    let told = at(&["changeover", "--yes"]);
    assert!(
        told.contains("lounge: 2 of 2 components") && told.contains("Done"),
        "{told}"
    );
    assert!(version(&world).contains("Luanti 5.10.0"));
    let told = at(&["verify"]);
    assert!(
        told.matches("is up, and as it should be").count() == 2,
        "{told}"
    );
    assert!(at(&["undo", "--keep-world"]).contains("Back at 5.6.1"));
    assert!(version(&world).contains("5.6.1"));
    at(&["console", "stop"]);
}

#[test]
fn what_was_edited_in_the_real_program_is_kept_over_its_next_release() {
    let Some(servers) = debian_servers() else {
        return;
    };
    let world = lounge(&servers);
    // The settings of the place, with remarks and odd spacing.
    let conf = "lounge/minetest.conf";
    let written = format!(
        "# the lounge\n{}\n  max_users   =  7   \n# who asks, gets it\nmotd =Come in\n",
        settings()
    );
    world.write(conf, &written);
    in_care(&world, &servers);
    let at = |words: &[&str]| world.lantern(&[words, &["--server", "lounge"]].concat());
    // Somebody has changed what the program says, and a default that it shows.
    let says = "lounge/builtin/game/misc.lua";
    let shows = "lounge/builtin/settingtypes.txt";
    let (joined, left) = (
        "joined the game.\", player_name",
        "came into the lounge.\", player_name",
    );
    world.edit(says, joined, left);
    world.edit(
        shows,
        "max_users (Maximum users) int 15 0 65535",
        "max_users (Maximum users) int 7 0 65535",
    );
    at(&[
        "settings",
        "keep",
        "builtin/game/misc.lua",
        "--as",
        "into-the-lounge",
    ]);
    let plan = at(&["plan", "--to", "5.10.0"]);
    for file in ["builtin/game/misc.lua", "builtin/settingtypes.txt"] {
        let kept = format!("{file}: 1 place of yours kept");
        assert!(plan.contains(&kept), "{plan}");
    }
    let told = at(&["changeover", "--yes", "--start"]);
    assert!(told.contains("exit status 0"), "{told}");
    assert!(version(&world).contains("Luanti 5.10.0"));
    // It is the new text, in all but that.
    let new = |file: &str| {
        let file = servers.join(NEW).join(file.trim_start_matches("lounge/"));
        fs::read_to_string(file).unwrap()
    };
    assert_eq!(world.read(says), new(says).replace(joined, left));
    assert_eq!(
        world.read(shows),
        new(shows).replace("(Maximum users) int 15", "(Maximum users) int 7")
    );
    assert!(at(&["settings", "kept"]).contains("in it"));
    // A value of the place, in the middle of what he wrote.
    world.ok(&["console", "stop", "--server", "lounge"]);
    at(&["settings", "set", "minetest.conf", "max_users", "9"]);
    let told = at(&["changeover", "--yes"]);
    assert!(told.contains("exit status 0"), "{told}");
    assert_eq!(world.read(conf), written.replace("=  7   ", "=  9   "));
    assert!(at(&["verify"]).contains("exit status"), "it answers");
    // And back, to the very bytes.
    at(&["undo", "--yes"]);
    assert_eq!(world.read(conf), written);
    let told = at(&["undo", "--keep-world", "--yes"]);
    assert!(told.contains("exit status 0"), "{told}");
    let old = fs::read_to_string(servers.join(OLD).join("builtin/game/misc.lua")).unwrap();
    assert_eq!(world.read(says), old.replace(joined, left));
}
