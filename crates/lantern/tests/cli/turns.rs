//! The load order: shown with its reasons, put right, and tried on servers that hold to it.

use crate::world::World;
use insta::assert_snapshot;

/// A server of the demo that nobody is told to leave.
fn adopted(server: &str) -> World {
    let world = World::demo();
    world.ok(&["adopt", server]);
    let settings = format!("{server}/lantern.toml");
    world.edit(&settings, "at = [\"10s\"]", "at = []");
    world
}

#[test]
fn each_entry_says_why_it_stands_there() {
    let world = World::adopted();
    let order = |words: &[&str]| {
        world.lantern(&[&["order"], words, &["--server", "halcyon-terrace"]].concat())
    };
    assert_snapshot!("order", order(&[]));
    assert_snapshot!("order_why", order(&["--why", "drip-lines"]));
    assert!(order(&["--why", "drip-line"]).contains("did you mean drip-lines?"));
    assert!(order(&["put"]).contains("The load order is right"));
    // Nothing that the server sorts by itself is told of.
    let world = adopted("arbour-deck");
    assert_snapshot!(
        "order_none",
        world.lantern(&["order", "--server", "arbour-deck"])
    );
}

#[test]
fn a_circle_is_told_and_an_optional_use_gives_way() {
    let world = World::adopted();
    let order = || world.lantern(&["order", "--server", "halcyon-terrace"]);
    let addon = |needs: &str| {
        let text = format!(
            "id = \"glasswork\"\nversion = \"3.1.0\"\nserver = \">=5.0\"\nside = \"both\"\n{needs}"
        );
        world.zip(
            "halcyon-terrace/addons/glasswork-3.1.0.bloom",
            &[("addon.toml", &text)],
        );
    };
    addon("[uses]\nsun-clock = \"*\"\n");
    let told = order();
    assert!(
        told.contains("glasswork works with sun-clock: this gives way"),
        "{told}"
    );
    assert!(told.contains("exit status 0"), "{told}");
    addon("[needs]\nsun-clock = \"*\"\n");
    let told = order();
    let story = "wrong [start-circle] none of these can be started first: glasswork needs sun-clock; sun-clock needs glasswork ^3";
    assert!(told.contains(story), "{told}");
    let plan = world.lantern(&["plan", "--to", "same", "--server", "halcyon-terrace"]);
    assert!(
        plan.contains("exit status 1") && plan.contains("none of these can be started first"),
        "{plan}"
    );
}

#[test]
fn wagons_in_categories_run_in_their_order() {
    let server = "tramway-loop";
    let world = adopted(server);
    let at = |words: &[&str]| world.lantern(&[words, &["--server", server]].concat());
    assert_snapshot!("tramway_order", at(&["order"]));
    let told = at(&["console", "start"]);
    assert!(
        told.contains("DERAILED: ticket-booth needs coin-box"),
        "{told}"
    );
    // A category that has become empty goes with its last wagon; what names a file of another needs that one.
    world.edit("tramway-loop/depot.cfg", "run ghost-tram", "run (stops)");
    let booth = ["plan", "--to", "same", "--drop", "ticket-booth"];
    let told = at(&booth);
    assert!(told.contains("- run (stops)   (line 8)"), "{told}");
    assert!(at(&["changeover", "--yes"]).contains("3 of 3 components are loaded"));
    assert!(at(&["survey", "signal-lamps"]).contains("rail-kit"));
    // One that a category has to come after needs one of its members: that runs by itself, before both.
    world.write(
        "tramway-loop/stock/yard/wagon.man",
        "title 'Yard'\nversion '1.0'\nneeds { 'signal-lamps' }\n",
    );
    world.write(
        "tramway-loop/stock/(city)/plaza/wagon.man",
        "title 'Plaza'\nversion '1.0'\nneeds { 'yard' }\n",
    );
    world.edit(
        "tramway-loop/depot.cfg",
        "run night-fares",
        "run night-fares\nrun yard",
    );
    let told = at(&["console", "start"]);
    assert!(told.contains("DERAILED: plaza needs yard"), "{told}");
    assert_snapshot!("tramway_put", at(&["order", "put"]));
    assert!(at(&["changeover", "--yes", "--start"]).contains("5 of 5 components are loaded"));
    // One of a group for another, in one changeover; and back.
    at(&[
        "plan",
        "--to",
        "same",
        "--off",
        "night-fares",
        "--on",
        "day-fares",
    ]);
    assert!(at(&["changeover", "--yes"]).contains("exit status 0"));
    assert!(at(&["console", "ask", "wagons"]).contains("day-fares 1.4"));
    assert!(at(&["undo", "--keep-world"]).contains("exit status 0"));
    assert!(at(&["console", "ask", "wagons"]).contains("night-fares 2.0"));
    at(&["console", "stop"]);
}

#[test]
fn mods_by_number_shine_in_their_order() {
    let server = "triad-north";
    let world = adopted(server);
    let at = |words: &[&str]| world.lantern(&[words, &["--server", server]].concat());
    let told = at(&["console", "start"]);
    assert!(told.contains("eclipse: 4117 needs 4109"), "{told}");
    assert_snapshot!("triad_order", at(&["order"]));
    assert_snapshot!("triad_put", at(&["order", "put"]));
    assert!(at(&["changeover", "--yes", "--start"]).contains("3 of 3 components are loaded"));
    at(&["plan", "--to", "same", "--on", "4152"]);
    assert!(at(&["changeover", "--yes"]).contains("4 of 4 components are loaded"));
    assert!(
        world
            .read("triad-north/triad.ini")
            .contains("Mods = 4101;4109;4117;4230;4152\n")
    );
    assert!(at(&["verify"]).contains("is up, and as it should be"));
    at(&["console", "stop"]);
}

#[test]
fn a_load_order_keeps_its_encoding_or_is_refused_at_the_survey() {
    let world = World::adopted();
    let conf = "halcyon-terrace/greenhouse.conf";
    let text = world.read(conf);
    let at = |words: &[&str]| world.lantern(&[words, &["--server", "halcyon-terrace"]].concat());
    // A mark of the byte order before the first entry hides nothing, and stays.
    let (settings, entries) = text.split_once("# ---").unwrap();
    let (entries, _) = entries.split_once("\n\n# glass").unwrap();
    let first = entries.split_once('\n').unwrap().1;
    let swapped: Vec<&str> = first.lines().rev().collect();
    let rest = text.split_once("\n\n# glass").unwrap().1;
    let marked = format!(
        "\u{feff}{}\n\n# glass{rest}\n{settings}",
        swapped.join("\n")
    );
    world.write(conf, &marked);
    assert!(at(&["order"]).contains("greenhouse.conf:1: drip-lines is started before mist-pipes"));
    at(&["order", "put"]);
    world.ok(&["changeover", "--yes", "--server", "halcyon-terrace"]);
    let expected = marked.replace(&swapped.join("\n"), first);
    assert_eq!(world.read(conf), expected);
    let wide: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
    world.write(conf, wide);
    let told = at(&["survey"]);
    assert!(
        told.contains("wrong [order-encoding] greenhouse.conf"),
        "{told}"
    );
}

#[test]
fn one_event_at_a_time_is_switched_by_one_command() {
    let server = "triad-north";
    let world = adopted(server);
    let at = |words: &[&str]| world.lantern(&[words, &["--server", server]].concat());
    // Two mods are events: numbers say nothing of that, and a catalogue does.
    for (number, about) in [("4141", "<about version=\"1.0\"/>\n"), ("4152", "")] {
        world.write(&format!("triad-north/content/{number}/event.dat"), "suns\n");
        if !about.is_empty() {
            world.write(&format!("triad-north/content/{number}/about.xml"), about);
        }
    }
    world.edit(
        "triad-north/triad.ini",
        "4101;4117;4109;4230",
        "4101;4109;4117;4141",
    );
    let hash = |number: &str| {
        let folder = world.path(&format!("triad-north/content/{number}"));
        let mut files: Vec<_> = std::fs::read_dir(folder)
            .unwrap()
            .map(|it| it.unwrap().path())
            .collect();
        files.sort();
        let rows: String = files
            .iter()
            .map(|file| {
                let content = blake3::hash(&std::fs::read(file).unwrap());
                format!(
                    "{}\0{}\n",
                    file.file_name().unwrap().to_str().unwrap(),
                    content.to_hex()
                )
            })
            .collect();
        blake3::hash(rows.as_bytes()).to_hex()
    };
    let release = |number: &str| {
        format!(
            r#"{{"id": "{number}", "kind": "addon", "version": "1.0", "group": "event", "archive": {{"file": "{number}.zip", "blake3": "{}", "bytes": 5}}}}"#,
            hash(number)
        )
    };
    let catalogue = format!(
        r#"{{"format": 1, "name": "events", "releases": [{}, {}]}}"#,
        release("4141"),
        release("4152")
    );
    world.write("triad-north/events.catalogue.json", catalogue);
    let settings = world.read("triad-north/lantern.toml");
    let settings = settings.replace("[warn]", "catalogues = [\"events.catalogue.json\"]\n[warn]");
    world.write("triad-north/lantern.toml", settings);
    assert!(at(&["survey", "4152"]).contains("event"));
    let two = at(&["plan", "--to", "same", "--on", "4152"]);
    assert_snapshot!("two_events", two);
    at(&["plan", "--to", "same", "--on", "4152", "--off", "4141"]);
    assert!(at(&["changeover", "--yes", "--start"]).contains("4 of 4 components are loaded"));
    assert!(
        world
            .read("triad-north/triad.ini")
            .contains("Mods = 4101;4109;4117;4152\n")
    );
    // Somebody writes both: the survey says so, and the server does not start.
    at(&["console", "stop"]);
    world.edit("triad-north/triad.ini", "4117;4152", "4117;4152;4141");
    assert!(at(&["survey"]).contains("wrong [only-one]"));
    assert!(at(&["console", "start"]).contains("eclipse: 4152 and 4141 are both events"));
}

#[test]
fn an_order_that_reads_other_files_is_changed_where_it_stands() {
    let server = "tramway-loop";
    let world = adopted(server);
    let at = |words: &[&str]| world.lantern(&[words, &["--server", server]].concat());
    let depot = world.read("tramway-loop/depot.cfg");
    let (head, _) = depot.split_once("run ").unwrap();
    world.write(
        "tramway-loop/depot.cfg",
        format!("{head}# what the city wants\nread lines/city.cfg\nread lines/more\n"),
    );
    world.write(
        "tramway-loop/lines/city.cfg",
        "run day-fares   \r\n# the lamps\r\nrun signal-lamps",
    );
    world.write("tramway-loop/lines/more/10.cfg", "run rail-kit\n");
    world.write("tramway-loop/lines/more/20.cfg", "# nothing yet\n");
    assert_snapshot!("order_over_files", at(&["order"]));
    assert_snapshot!("order_over_files_put", at(&["order", "put"]));
    let told = at(&["changeover", "--yes", "--start"]);
    assert!(told.contains("components are loaded"), "{told}");
    assert_snapshot!("order_over_files_after", at(&["order"]));
    assert!(
        world
            .read("tramway-loop/lines/city.cfg")
            .contains("# the lamps\r\n")
    );
    at(&["undo", "--keep-world"]);
    assert!(
        world
            .read("tramway-loop/lines/city.cfg")
            .ends_with("# the lamps\r\nrun signal-lamps")
    );
    at(&["console", "stop"]);
}
