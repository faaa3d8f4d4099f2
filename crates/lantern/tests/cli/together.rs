//! Servers of a group that are worked at several at once, and those that are down together.

use crate::groups::{TO, addon, installed, three};
use crate::world::{World, free_port};
use insta::assert_snapshot;

const SERVERS: [&str; 3] = ["halcyon-terrace", "south-terrace", "east-terrace"];

/// Three servers that are up, each at a port of its own; their group says at its head besides what `head` does, and of the second what `more` does.
pub fn up(head: &str, more: &str) -> World {
    let world = three(more);
    let file = world.read("terraces.group.toml");
    let name = "name = \"terraces\"\n";
    let file = file.replace(name, &format!("{name}{head}"));
    world.write("terraces.group.toml", file);
    for server in SERVERS {
        let settings = format!("{server}/greenhouse.conf");
        let text = world.read(&settings);
        let port = text
            .lines()
            .find(|line| line.starts_with("port = "))
            .unwrap();
        world.edit(&settings, port, &format!("port = {}", free_port()));
        world.edit(
            &format!("{server}/lantern.toml"),
            "at = [\"10s\"]",
            "at = []",
        );
        world.ok(&["console", "start", "--server", server]);
    }
    world
}

/// The same, with a plan of which the second server's own part crashes at its start.
pub fn of_which_one_crashes(head: &str) -> World {
    let world = up(head, "");
    installed(&world, "south-terrace", "moss-wall", "");
    let crash = "[standin]\ncrash = 'the moss is too deep'\n";
    addon(&world, "moss", "moss-wall", "2.0.0", crash);
    addon(&world, "moss", "sun-clock", "2.1.0", "");
    world.ok(&["group", "plan", "--to", "same", "--from", "moss"]);
    world
}

/// Which server did what, in the order in which it was done: one letter for each, step by step.
pub fn steps(told: &str) -> String {
    let mut steps: Vec<(String, String)> = Vec::new();
    for line in told.lines() {
        let mut words = line.split_whitespace();
        let (Some(server), Some(step)) = (words.next(), words.next()) else {
            continue;
        };
        let is_step = ["stop", "swap", "start", "verify", "failed", "going"].contains(&step);
        if !SERVERS.contains(&server) || !is_step {
            continue;
        }
        let letter = &server[..1];
        match steps.last_mut() {
            Some((last, who)) if last == step => who.push_str(letter),
            _ => steps.push((step.to_owned(), letter.to_owned())),
        }
    }
    let steps = steps.into_iter().map(|(step, who)| {
        let mut who: Vec<char> = who.chars().collect();
        who.sort_unstable();
        format!("{step} {}", who.into_iter().collect::<String>())
    });
    steps.collect::<Vec<_>>().join(", ")
}

/// What stands behind the steps: what became of each.
pub fn end(told: &str) -> &str {
    let from = told.find("\nterraces:\n").unwrap_or(0);
    told[from..].split("--- stderr").next().unwrap()
}

/// In which version each carries what all of them do, and whether it is up.
pub fn is(world: &World) -> String {
    let each = SERVERS.map(|server| {
        let addons = std::fs::read_dir(world.path(&format!("{server}/addons"))).unwrap();
        let names = addons.map(|it| it.unwrap().file_name().into_string().unwrap());
        let mut clocks = names.filter(|name| name.starts_with("sun-clock"));
        let seen = world.lantern(&["status", "--server", server]);
        let is_up = seen.contains("server       up");
        format!(
            "{server}: {}, {}",
            clocks.next().unwrap(),
            if is_up { "up" } else { "down" }
        )
    });
    each.join("\n")
}

#[test]
fn all_are_down_before_files_are_exchanged_and_exchanged_before_one_comes_up() {
    let world = up("together = true\n", "after = [\"east-terrace\"]\n");
    world.ok(&TO);
    let told = world.lantern(&["group", "changeover", "--yes"]);
    // The second goes down before what it comes up after, and comes up after that.
    assert!(
        steps(&told).starts_with("stop ehs, swap ehs, start "),
        "{told}"
    );
    let at = |what: &str| told.find(what).unwrap_or_else(|| panic!("{what}: {told}"));
    let down = "stop           the server is down";
    assert!(at(&format!("south-terrace    {down}")) < at(&format!("east-terrace     {down}")));
    assert!(at("east-terrace     verify") < at("south-terrace    start"));
    assert_snapshot!(end(&told));
    let first = world.lantern(&["group", "changeover", "--yes", "--first"]);
    assert!(
        first.contains("none of them is the first") && first.contains("exit status 3"),
        "{first}"
    );
    assert_snapshot!(world.lantern(&["group", "verify"]));
    // Where somebody has been on at one, it is asked what is to become of that, and none is stopped.
    world.write("south-terrace/worlds/orbit-garden/day.txt", "a day\n");
    let told = world.lantern(&["group", "undo", "--yes"]);
    assert_eq!(steps(&told), "", "{told}");
    assert_snapshot!(end(&told));
    let told = world.lantern(&["group", "undo", "--yes", "--keep-world"]);
    assert_eq!(steps(&told), "stop ehs, swap ehs, start ehs", "{told}");
    assert_snapshot!(end(&told));
    // One by one, and the same in one row; what is down is not as it should be.
    world.ok(&["console", "stop", "--server", "east-terrace"]);
    let told = [
        world.lantern(&["group", "history"]),
        world.lantern(&["group", "history", "--last", "1"]),
        world.lantern(&["group", "verify"]),
    ];
    assert_snapshot!(told.join("\n"));
}

#[test]
fn where_one_of_those_that_are_down_together_goes_wrong_all_go_back() {
    let world = of_which_one_crashes("together = true\n");
    let told = world.lantern(&["group", "changeover", "--yes"]);
    let (all, back) = steps(&told)
        .split_once(", failed")
        .map(|(all, back)| (all.to_owned(), back.to_owned()))
        .unwrap();
    assert!(all.starts_with("stop ehs, swap ehs"), "{told}");
    assert!(back.ends_with("start ehs"), "{told}");
    assert_snapshot!(format!("{}\n{}", end(&told), is(&world)));
    // It is not tried once more by itself.
    let again = world.lantern(&["group", "changeover", "--yes"]);
    assert!(
        again.contains("it turned back, as it went wrong at south-terrace"),
        "{again}"
    );
}

#[test]
fn what_stands_in_the_way_of_one_is_found_before_any_is_stopped() {
    let world = up("together = true\n", "");
    world.ok(&TO);
    world.write("east-terrace/addons/bee-traffic-0.8.4.bloom", "no archive");
    let told = world.lantern(&["group", "changeover", "--yes"]);
    assert_eq!(steps(&told), "", "{told}");
    assert_snapshot!(format!("{}\n{}", end(&told), is(&world)));
}

#[test]
fn those_that_are_down_together_and_were_cut_off_go_on_together() {
    let world = up("together = true\n", "after = [\"halcyon-terrace\"]\n");
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 24\nslow_ms = 150",
    );
    world.ok(&TO);
    let mut lantern = world.begin(&["group", "changeover", "--yes"]);
    let log = "halcyon-terrace/.lantern/console/output.log";
    world.wait("the first server starts", || {
        world.path(log).exists() && world.read(log).contains("Halcyon 5.4.0")
    });
    lantern.kill().unwrap();
    lantern.wait().unwrap();
    let told = world.lantern(&["group", "changeover", "--yes"]);
    assert_eq!(
        told.matches("was cut off, and goes on first").count(),
        3,
        "{told}"
    );
    let at = |what: &str| told.find(what).unwrap_or_else(|| panic!("{what}: {told}"));
    assert!(at("halcyon-terrace  verify") < at("south-terrace    start"));
    assert_snapshot!(format!("{}\n{}", end(&told), is(&world)));
}

#[test]
fn several_at_once_by_themselves() {
    let world = up("at_once = 2\n", "after = [\"east-terrace\"]\n");
    world.ok(&TO);
    let asks = world.lantern(&["group", "changeover"]);
    assert!(
        asks.contains("3 changeovers, 2 at once: halcyon-terrace, east-terrace and south-terrace"),
        "{asks}"
    );
    let told = world.lantern(&["group", "changeover", "--yes"]);
    // The last one is alone, and shown as one that is.
    assert!(
        steps(&told).ends_with("verify eh") || told.contains("south-terrace, 2 of 2"),
        "{told}"
    );
    assert_snapshot!(format!("{}\n{}", end(&told), is(&world)));
    // Where one of a wave goes wrong, the other one of it stays, and the rest is not begun.
    let world = of_which_one_crashes("at_once = 2\n");
    let told = world.lantern(&["group", "changeover", "--yes"]);
    assert_snapshot!(format!("{}\n{}", end(&told), is(&world)));
}

#[test]
fn after_the_first_it_waits_and_looks_at_it_again() {
    let world = up("", "");
    world.ok(&TO);
    let first = ["group", "changeover", "--yes", "--first", "--after", "1s"];
    let told = world.lantern(&first);
    assert!(told.contains("The rest follows on"), "{told}");
    assert_snapshot!(format!("{}\n{}", end(&told), is(&world)));
    // One that is down meanwhile holds the rest up.
    let world = up("", "");
    world.ok(&TO);
    let mut lantern = world.begin(&["group", "changeover", "--yes", "--first", "--after", "3s"]);
    world.wait("the first one is through", || {
        let armed = world.read("halcyon-terrace/.lantern/armed.json");
        armed.contains("done")
    });
    world.wait("nobody is at work there", || {
        world
            .lantern(&["console", "stop", "--server", "halcyon-terrace"])
            .contains("exit status 0")
    });
    assert_eq!(lantern.wait().unwrap().code(), Some(3));
    assert_snapshot!(is(&world));
}

#[test]
fn of_twelve_three_misbehave() {
    let world = World::demo();
    let names: Vec<String> = (1..=12).map(|number| format!("s{number}")).collect();
    let mut group = "format = 1\nname = \"terraces\"\nat_once = 4\n".to_owned();
    for name in &names {
        world.copy("halcyon-terrace", name);
        world.ok(&["adopt", name]);
        let other = format!("port = {}\nwas_", free_port());
        world.edit(&format!("{name}/greenhouse.conf"), "port = ", &other);
        group += &format!("[[server]]\nat = \"{name}\"\n");
    }
    world.write("terraces.group.toml", group);
    addon(&world, "moss", "sun-clock", "2.1.0", "");
    let crash = "[standin]\ncrash = 'the moss is too deep'\n";
    addon(&world, "moss", "moss-wall", "2.0.0", crash);
    installed(&world, "s6", "moss-wall", "");
    // One is in nobody's care, one has garbage for records, one was cut off: none is planned, and each is told.
    let settings = world.read("s3/lantern.toml");
    std::fs::remove_file(world.path("s3/lantern.toml")).unwrap();
    for file in ["ledger.db-wal", "ledger.db-shm"] {
        let _ = std::fs::remove_file(world.path(&format!("s7/.lantern/{file}")));
    }
    let ledger = std::fs::read(world.path("s7/.lantern/ledger.db")).unwrap();
    world.write("s7/.lantern/ledger.db", "no ledger");
    world.write("s11/.lantern/journal.json", "{");
    let plan = ["group", "plan", "--to", "same", "--from", "moss"];
    let refused = world.lantern(&plan);
    world.write("s3/lantern.toml", settings);
    std::fs::write(world.path("s7/.lantern/ledger.db"), ledger).unwrap();
    std::fs::remove_file(world.path("s11/.lantern/journal.json")).unwrap();
    world.ok(&plan);
    // One crashes, one was written since: the others of their wave stay, or are taken back, too.
    world.write("s8/addons/sun-clock-1.9.1.bloom", "no archive");
    let clocks = || {
        let has = |name: &&String| {
            world
                .path(&format!("{name}/addons/sun-clock-2.1.0.bloom"))
                .exists()
        };
        names
            .iter()
            .filter(has)
            .map(String::as_str)
            .collect::<Vec<_>>()
            .join(" ")
    };
    let told = world.lantern(&["group", "changeover", "--yes", "--all-or-none"]);
    assert_snapshot!(format!("{refused}\n{}\nnew at: {}", end(&told), clocks()));
}
