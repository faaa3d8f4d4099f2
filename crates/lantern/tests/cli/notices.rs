//! What players are told of a change, and who else is.

use crate::world::World;
use insta::assert_snapshot;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::thread;

const TERRACE: &[&str] = &["--server", "halcyon-terrace"];

fn notice(world: &World, more: &[&str]) -> String {
    world.lantern(&[&["notice"], more, TERRACE].concat())
}

fn planned(world: &World) {
    let catalogue = ["--catalogue", "depot/verdance.catalogue.json"];
    world.ok(&[&["plan", "--to", "5.4"], &catalogue[..], TERRACE].concat());
}

/// Takes one request and answers it; what came is returned.
fn takes_one(status: &'static str) -> (u16, thread::JoinHandle<String>) {
    let door = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = door.local_addr().unwrap().port();
    let takes = thread::spawn(move || {
        let (mut caller, _) = door.accept().unwrap();
        let mut came = Vec::new();
        let mut buffer = [0; 4096];
        loop {
            let many = caller.read(&mut buffer).unwrap();
            came.extend(&buffer[..many]);
            let text = String::from_utf8_lossy(&came).into_owned();
            let Some((head, body)) = text.split_once("\r\n\r\n") else {
                continue;
            };
            let head = head.to_lowercase();
            let length = head
                .lines()
                .find_map(|line| line.strip_prefix("content-length: "));
            if body.len() >= length.unwrap().trim().parse().unwrap() {
                let answer =
                    format!("HTTP/1.1 {status}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n");
                caller.write_all(answer.as_bytes()).unwrap();
                return text;
            }
        }
    });
    (port, takes)
}

#[test]
fn a_notice_of_a_plan_and_of_what_was_done() {
    let world = World::running();
    assert_snapshot!("notice_without_a_plan", notice(&world, &[]));
    planned(&world);
    let told = [
        notice(&world, &["--when", "tonight at ten"]),
        notice(&world, &["--as", "markdown"]),
        notice(&world, &["--as", "html"]),
        notice(&world, &["--json"]),
        notice(&world, &["9"]),
        notice(&world, &["--send"]),
    ];
    assert_snapshot!("notice_of_a_plan", told.join("\n"));
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    let done = [notice(&world, &["1"]), notice(&world, &["--as", "feed"])];
    let marks = r"urn:uuid:[0-9a-f-]{36}|20\d\d-\d\d-\d\dT[0-9:]{8}Z";
    let marks = regex::Regex::new(marks).unwrap();
    assert_snapshot!(
        "notice_of_what_was_done",
        marks.replace_all(&done.join("\n"), "…")
    );
}

#[test]
fn templates_of_the_administrator() {
    let world = World::adopted();
    planned(&world);
    let settings = world.read("halcyon-terrace/lantern.toml");
    let own = |text: &str| {
        let notices = format!("{settings}\n[notice]\ntext = '''\n{text}'''\n");
        world.write("halcyon-terrace/lantern.toml", notices);
        notice(&world, &["--when", "at ten"])
    };
    let told = [
        own("{{ server }} moves {{ when }}: {% for it in updated %}{{ it.id }} {% endfor %}\n"),
        own("{{ server }}\n{{ servant }}\n"),
        own("{% if when %}\n"),
    ];
    assert_snapshot!("notice_templates", told.join("\n"));
}

#[test]
fn people_are_told_and_nothing_stops_for_it() {
    let world = World::running();
    planned(&world);
    let (port, takes) = takes_one("204 No Content");
    let (angry, refused) = takes_one("500 Internal Server Error");
    let settings = world.read("halcyon-terrace/lantern.toml");
    let tell = r#"
[notice]
feed = "../news.atom"

[[tell]]
command = ["sh", "-c", "cat {file} >> ../told.txt"]

[[tell]]
on = ["done"]
post = "http://127.0.0.1:PORT/hook"
body = '{ "title": {{ title | tojson }}, "say": {{ text | tojson }} }'
content_type = "application/json"
key = { header = "Authorization", before = "Bearer ", env = "HALL_KEY" }

[[tell]]
on = ["before"]
post = "http://127.0.0.1:ANGRY/hook"

[[tell]]
on = ["failed"]
command = ["sh", "-c", "echo never >> ../told.txt"]

[[tell]]
on = ["before"]
command = ["sh", "-c", "echo no paper; exit 3"]
"#;
    let tell = tell.replace("PORT", &port.to_string());
    let tell = tell.replace("ANGRY", &angry.to_string());
    world.write("halcyon-terrace/lantern.toml", settings + &tell);
    let changeover = [&["changeover", "--yes"], TERRACE].concat();
    let done = world.with_env(&changeover, "HALL_KEY", "moon melon");
    let told = String::from_utf8(done.stderr).unwrap();
    assert!(done.status.success(), "{told}");
    let ports = regex::Regex::new(r"127\.0\.0\.1(:\d+)?").unwrap();
    let lines = told.lines().filter(|line| line.starts_with("  told"));
    let lines = lines.collect::<Vec<_>>().join("\n");
    assert_snapshot!("told_lines", ports.replace_all(&lines, "HOST"));
    assert!(!told.contains("moon melon"));
    let came = takes.join().unwrap();
    let secret = "authorization: bearer moon melon";
    assert!(came.to_lowercase().contains(secret), "{came}");
    let (_, body) = came.split_once("\r\n\r\n").unwrap();
    let away = regex::Regex::new(r"away for [0-9.]+ m?s").unwrap();
    assert_snapshot!("told_by_post", away.replace_all(body, "away for TIME"));
    assert!(
        refused
            .join()
            .unwrap()
            .contains("halcyon-terrace will be updated")
    );
    let by_command = world.read("told.txt");
    assert_snapshot!(
        "told_by_command",
        away.replace_all(&by_command, "away for TIME")
    );
    assert!(world.read("news.atom").contains("from 5.1.0 to 5.4.0"));
    // What was taken back is no news any more.
    world.ok(&[&["undo", "--yes"], TERRACE].concat());
    assert!(!world.read("news.atom").contains("from 5.1.0 to 5.4.0"));
}

#[test]
fn a_change_that_fails_is_told_so() {
    let world = World::running();
    world.write(
        "halcyon-terrace/lantern.toml",
        world.read("halcyon-terrace/lantern.toml")
            + "\n[[tell]]\non = [\"failed\"]\ncommand = [\"sh\", \"-c\", \"cat {file} >> ../told.txt\"]\n",
    );
    let crash = "id = \"sun-clock\"\nversion = \"2.1.0\"\nserver = \">=5.0\"\nside = \"both\"\n[standin]\ncrash = \"the gnomon casts no shadow\"\n";
    world.drop_addon("sun-clock-2.1.0.bloom", crash);
    world.ok(&[&["plan", "--to", "same", "--from", "drop"], TERRACE].concat());
    let failed = world.lantern(&[&["changeover", "--yes"], TERRACE].concat());
    assert!(failed.contains("exit status 4"), "{failed}");
    assert_snapshot!("told_of_failure", world.read("told.txt"));
    assert_snapshot!("notice_of_failure", notice(&world, &["1"]));
}

#[test]
fn what_cannot_be_told_so_is_refused_at_once() {
    let world = World::adopted();
    let settings = world.read("halcyon-terrace/lantern.toml");
    let told = [
        "[[tell]]\non = [\"done\"]\n",
        "[[tell]]\ncommand = [\"true\"]\npost = \"https://hall.example\"\n",
        "[[tell]]\npost = \"ftp://hall.example\"\n",
        "[[tell]]\npost = \"https://hall.example\"\nkey = { header = \"X\" }\n",
        "[[tell]]\ncommand = [\"true\"]\nbody = \"x\"\n",
        "[[tell]]\npost = \"https://hall.example\"\non = [\"afterwards\"]\n",
    ]
    .map(|text| {
        let settings = format!("{settings}\n{text}");
        world.write("halcyon-terrace/lantern.toml", settings);
        notice(&world, &[])
    });
    assert_snapshot!("tell_refused", told.join("\n"));
}
