//! Text from outside that would act on a terminal is shown, and does not act.

use crate::world::World;

/// Clears the screen, sets the window's title, turns what follows round, hides.
const HOSTILE: &str = "nice\\u001b[2J\\u001b]0;pwned\\u0007\\u202egnp\\u200b";
const SERVER: &str = "halcyon-terrace";

#[test]
fn whatever_prints_shows_it_as_marks() {
    let world = World::adopted();
    let descriptor = |id: &str, more: &str| {
        format!("id = \"{id}\"\nversion = \"1.0\"\ntitle = \"{HOSTILE}\"\n{more}")
    };
    world.drop_addon(
        "ivy-1.0.bloom",
        &descriptor("ivy", "[needs]\n\"x\\u001b[31my\" = \"*\"\n"),
    );
    world.drop_addon("moss-1.0.bloom", &descriptor("moss", ""));
    std::fs::copy(
        world.path("drop/moss-1.0.bloom"),
        world.path("halcyon-terrace/addons/moss-1.0.bloom"),
    )
    .unwrap();
    std::fs::copy(
        world.path("drop/ivy-1.0.bloom"),
        world.path("halcyon-terrace/addons/ivy-1.0.bloom"),
    )
    .unwrap();
    let text = world.read("depot/verdance.catalogue.json");
    let hostile = text.replacen("\"title\": \"", &format!("\"title\": \"{HOSTILE}"), 20);
    world.write(
        "depot/hostile.catalogue.json",
        hostile.replacen(
            "\"version\": \"2.5.0\"",
            "\"version\": \"2.5.0\\u001b[2J\"",
            1,
        ),
    );
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "port = ",
        "grumbles = \u{1b}[2J\u{202e}fallen\nport = ",
    );
    let on = |args: &[&str]| -> Vec<String> {
        [args, &["--server", SERVER]]
            .concat()
            .iter()
            .map(|it| (*it).to_owned())
            .collect()
    };
    let plan = [
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        "depot/hostile.catalogue.json",
    ];
    let mut commands = vec![
        on(&["survey"]),
        on(&["survey", "ivy"]),
        on(&["survey", "--files"]),
        on(&["console", "start"]),
        on(&["verify"]),
        on(&["console", "state"]),
        on(&["console", "ask", "list \u{1b}[2J"]),
        on(&["outlook", "--catalogue", "depot/hostile.catalogue.json"]),
        on(&plan),
        on(&["plan", "--to", "5.4\u{1b}[2J"]),
        on(&["plan", "--to", "5.1", "--from", "drop"]),
        on(&["why", "ivy"]),
        on(&["why", "x\u{1b}[2J"]),
        on(&["changeover", "--yes"]),
        on(&["rehearse"]),
        on(&["history"]),
        on(&["backup", "make", "--note", "\u{1b}[2J\u{202e}"]),
        on(&["backup", "list"]),
        on(&["backup", "show", "\u{1b}[2J"]),
        on(&["client", "list"]),
        on(&["undo"]),
        on(&["survey", "\u{202e}x"]),
        vec![
            "family".into(),
            "check".into(),
            "halcyon".into(),
            SERVER.into(),
        ],
        vec!["adopt".into(), "\u{1b}[2J".into()],
    ];
    for args in commands.clone() {
        commands.push([args, vec!["--json".into()]].concat());
    }
    let mut shown = 0;
    for args in &commands {
        let args: Vec<&str> = args.iter().map(String::as_str).collect();
        // What was typed is no output.
        let told = world.lantern(&args);
        let told = told.split_once("exit status").unwrap().1;
        let acts =
            |c: char| c != '\n' && (c.is_control() || ('\u{200b}'..='\u{202e}').contains(&c));
        assert!(!told.chars().any(acts), "{args:?}: {told:?}");
        shown += usize::from(told.contains("␛[2J") || told.contains("\\u001b[2J"));
    }
    assert!(shown >= 8, "{shown} of them had something to show");
    world.lantern(&["console", "stop", "--kill", "--server", SERVER]);
}
