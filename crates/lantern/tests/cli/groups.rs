//! Servers that move together: what differs between them, and how they are.

use crate::gather::Depot;
use crate::world::{World, standin};
use insta::assert_snapshot;

/// Three servers that are alike, and a group of them that says besides what `more` does.
pub fn three(more: &str) -> World {
    let world = World::demo();
    for name in ["south-terrace", "east-terrace"] {
        world.copy("halcyon-terrace", name);
    }
    for name in ["halcyon-terrace", "south-terrace", "east-terrace"] {
        world.ok(&["adopt", name]);
    }
    world.write(
        "terraces.group.toml",
        format!(
            "format = 1\nname = \"terraces\"\nall = [\"trellis\", \"glasswork\"]\n\n\
             [[server]]\nat = \"halcyon-terrace\"\n\n[[server]]\nat = \"south-terrace\"\n{more}\n[[server]]\nat = \"east-terrace\"\n"
        ),
    );
    world
}

#[test]
fn servers_that_are_alike_are_said_to_be() {
    let world = three("");
    assert_snapshot!(world.lantern(&["group", "survey"]));
    assert_snapshot!(world.lantern(&["group", "status", "terraces.group.toml"]));
}

#[test]
fn what_differs_is_told_and_what_is_meant_is_not() {
    let world = three("own = [\"seed-vault\", \"waypost\"]\n");
    // Not there, edited, of another release, a server's own, of nobody's knowledge.
    std::fs::remove_file(world.path("south-terrace/addons/glasswork-3.1.0.bloom")).unwrap();
    let edited = "east-terrace/addons/bee-traffic-0.8.4.bloom";
    let bytes = std::fs::read(world.path(edited)).unwrap();
    std::fs::write(world.path(edited), [&bytes[..], b"\0"].concat()).unwrap();
    std::fs::remove_file(world.path("south-terrace/addons/seed-vault-4.0.2.bloom")).unwrap();
    let addon = |server: &str, id: &str, version: &str| {
        world.drop_addon(
            &format!("{id}-{version}.bloom"),
            &format!("id='{id}'\nversion='{version}'\nserver='>=5'\nside='server'\n"),
        );
        let from = world.path(&format!("drop/{id}-{version}.bloom"));
        let to = world.path(&format!("{server}/addons/{id}-{version}.bloom"));
        std::fs::copy(from, to).unwrap();
    };
    addon("south-terrace", "seed-vault", "4.1.0");
    addon("halcyon-terrace", "moss-wall", "1.0.0");
    std::fs::remove_file(world.path("east-terrace/addons/sun-clock-1.9.1.bloom")).unwrap();
    addon("east-terrace", "sun-clock", "1.9.0");
    assert_snapshot!(world.lantern(&["group", "survey"]));
}

#[test]
fn one_that_cannot_be_looked_at_hinders_no_other() {
    let world = three("");
    std::fs::remove_file(world.path("south-terrace/lantern.toml")).unwrap();
    std::fs::write(
        world.path("east-terrace/lantern.toml"),
        "format = 1\nweather = 'fine'\n",
    )
    .unwrap();
    assert_snapshot!(world.lantern(&["group", "survey"]));
    assert_snapshot!(world.lantern(&["group", "status"]));
}

#[test]
fn a_group_that_cannot_be_meant_is_refused() {
    let world = three("weather = 'fine'\n");
    let told = [
        world.lantern(&["group", "survey"]),
        world.lantern(&["group", "survey", "no-such.group.toml"]),
    ]
    .join("\n");
    assert_snapshot!(told);
    // The same one twice, by another way; and two groups, of which none is named.
    world.write(
        "again.group.toml",
        "format = 1\nname = 'again'\n[[server]]\nat = 'east-terrace'\n[[server]]\nat = 'south-terrace/../east-terrace'\n",
    );
    let told = [
        world.lantern(&["group", "survey", "again.group.toml"]),
        world.lantern(&["group", "status"]),
    ]
    .join("\n");
    assert_snapshot!(told);
    std::fs::remove_file(world.path("again.group.toml")).unwrap();
    std::fs::remove_file(world.path("terraces.group.toml")).unwrap();
    assert_snapshot!(world.lantern(&["group", "status"]));
}

#[test]
fn which_versions_all_of_them_reach_and_what_holds_them_back() {
    let world = three("");
    let outlook = &[
        "group",
        "outlook",
        "--catalogue",
        "depot/verdance.catalogue.json",
    ];
    assert_snapshot!(world.lantern(outlook));
    // One lacks what another of its add-ons needs, one is of another program, one is not there.
    std::fs::remove_file(world.path("south-terrace/addons/glasswork-3.1.0.bloom")).unwrap();
    assert_snapshot!(world.lantern(outlook));
    assert_snapshot!(world.lantern(&["group", "outlook"]));
    std::fs::remove_dir_all(world.path("south-terrace")).unwrap();
    world.copy("tramway-loop", "south-terrace");
    world.ok(&["adopt", "south-terrace"]);
    std::fs::remove_file(world.path("east-terrace/lantern.toml")).unwrap();
    assert_snapshot!(world.lantern(outlook));
}

#[test]
fn of_one_that_is_far_away_it_is_said_that_nobody_has_read_its_files() {
    let world = World::demo();
    world.copy("halcyon-terrace", "south-terrace");
    world.ok(&["adopt", "halcyon-terrace"]);
    let through = format!("{} sftp {}", standin().display(), world.path("").display());
    let address = "sftp://rented.example/south-terrace";
    world.ok(&["adopt", address, "--name", "rented", "--through", &through]);
    world.write(
        "two.group.toml",
        "format = 1\nname = \"two\"\nall = [\"trellis\"]\n\n[[server]]\nat = \"halcyon-terrace\"\n\n[[server]]\nat = \"rented\"\n",
    );
    assert_snapshot!(world.lantern(&["group", "survey"]));
    // What is of another size, or version, is told all the same.
    let longer = "south-terrace/addons/bee-traffic-0.8.4.bloom";
    let bytes = std::fs::read(world.path(longer)).unwrap();
    std::fs::write(world.path(longer), [&bytes[..], b"\0"].concat()).unwrap();
    std::fs::remove_file(world.path("south-terrace/addons/sun-clock-1.9.1.bloom")).unwrap();
    world.zip(
        "south-terrace/addons/sun-clock-1.9.0.bloom",
        &[(
            "addon.toml",
            "id='sun-clock'\nversion='1.9.0'\nserver='>=5'\nside='both'\n",
        )],
    );
    assert_snapshot!(world.lantern(&["group", "survey"]));
}

#[test]
fn of_many_only_what_differs_is_shown() {
    let world = World::demo();
    world.ok(&["adopt", "halcyon-terrace"]);
    let mut group = "format = 1\nname = \"many\"\n".to_owned();
    for number in 1..=12 {
        let name = format!("s{number}");
        world.copy("halcyon-terrace", &name);
        world.ok(&["adopt", &name, "--copy"]);
        group += &format!("[[server]]\nat = \"{name}\"\n");
    }
    world.write("many.group.toml", group);
    assert_snapshot!(world.lantern(&["group", "survey"]));
    // Three of them misbehave: one is in nobody's care, one has garbage for records, and one lacks something; and what answers at
    // the port of one seems to be all of them.
    std::fs::remove_file(world.path("s3/lantern.toml")).unwrap();
    for file in ["ledger.db-wal", "ledger.db-shm"] {
        let _ = std::fs::remove_file(world.path(&format!("s7/.lantern/{file}")));
    }
    world.write("s7/.lantern/ledger.db", "no ledger");
    std::fs::remove_file(world.path("s11/addons/glasswork-3.1.0.bloom")).unwrap();
    world.ok(&["console", "start", "--server", "s12"]);
    let told = [
        world.lantern(&["group", "survey"]),
        world.lantern(&["group", "status"]),
        world.lantern(&[
            "group",
            "outlook",
            "--catalogue",
            "depot/verdance.catalogue.json",
        ]),
    ];
    world.ok(&["console", "stop", "--server", "s12"]);
    assert_snapshot!(told.join("\n"));
}

pub const TO: [&str; 6] = [
    "group",
    "plan",
    "--to",
    "5.4",
    "--catalogue",
    "depot/verdance.catalogue.json",
];

/// Installs an add-on, which is started.
pub fn installed(world: &World, server: &str, id: &str, more: &str) {
    addon(world, &format!("{server}/addons"), id, "1.0.0", more);
    let settings = format!("{server}/greenhouse.conf");
    let text = world.read(&settings) + &format!("start {id}\n");
    world.write(&settings, text);
}

/// Puts an add-on that says no more than this of itself into a folder.
pub fn addon(world: &World, folder: &str, id: &str, version: &str, more: &str) {
    world.zip(
        &format!("{folder}/{id}-{version}.bloom"),
        &[(
            "addon.toml",
            &format!("id='{id}'\nversion='{version}'\nserver='>=5'\nside='server'\n{more}"),
        )],
    );
}

#[test]
fn one_move_for_all_of_them() {
    let world = three("");
    assert_snapshot!(world.lantern(&TO));
    assert_snapshot!(world.lantern(&["group", "changeover"]));
    let why = world.lantern(&["why", "gnomon", "--server", "south-terrace"]);
    assert!(why.contains("exit status 0"), "{why}");
    let idle = world.lantern(&["group", "undo", "--yes"]);
    assert!(
        idle.contains("exit status 3") && idle.contains("could be taken back"),
        "{idle}"
    );
    // A first one, which is looked at, then the rest.
    let first = world.lantern(&["group", "changeover", "--yes", "--first"]);
    assert!(
        first.contains("not begun      south-terrace and east-terrace"),
        "{first}"
    );
    assert_snapshot!(world.lantern(&["group", "changeover", "--yes"]));
    let again = world.lantern(&["group", "changeover", "--yes"]);
    assert!(again.contains("11 components, file by file"), "{again}");
    assert!(!again.contains("plan NAME"), "{again}");
    // Back, where nobody has been on since; where somebody has, it is asked what is to become of that.
    world.write("south-terrace/worlds/orbit-garden/day.txt", "a day\n");
    let back = world.lantern(&["group", "undo", "--yes"]);
    assert_snapshot!(back);
    assert_snapshot!(world.lantern(&["group", "undo", "--yes", "--keep-world"]));
    world.ok(&TO);
    world.ok(&["group", "changeover", "--yes"]);
    // A second time there is nothing to do; and what is switched is switched where it is carried.
    addon(&world, "east-terrace/addons", "moss-wall", "1.0.0", "");
    world.ok(&["survey", "--server", "east-terrace"]);
    let same = ["group", "plan", "--to", "same"];
    let told = [
        world.lantern(&same),
        world.lantern(&[&same[..], &["--drop", "moss-wall"]].concat()),
        world.lantern(&[&same[..], &["--off", "night-watch", "--what-if"]].concat()),
        world.lantern(&[&same[..], &["--drop", "no-such"]].concat()),
    ];
    assert_snapshot!(told.join("\n"));
}

#[test]
fn a_release_that_only_some_could_carry_is_not_taken() {
    let world = three("");
    for server in ["halcyon-terrace", "south-terrace", "east-terrace"] {
        installed(&world, server, "moss-wall", "");
    }
    let needs = |range: &str| format!("[needs]\nmoss-wall = '{range}'\n");
    installed(&world, "south-terrace", "fern-path", &needs("<3"));
    for version in ["2.0.0", "3.0.0"] {
        addon(&world, "moss", "moss-wall", version, "");
    }
    addon(&world, "moss", "lichen", "1.0.0", "");
    // By itself the first would take the newest; together none does. What nobody carries does not come in.
    let same = ["--to", "same", "--from", "moss"];
    let alone = ["plan", "--server", "halcyon-terrace"];
    let alone = world.lantern(&[&alone[..], &same].concat());
    assert!(alone.contains("3.0.0"), "{alone}");
    let plan = || world.lantern(&[&["group", "plan"], &same[..]].concat());
    assert_snapshot!(plan());
    // One needs what another one cannot have: it is told of which servers that is, and what would help.
    installed(&world, "east-terrace", "ivy-arch", &needs(">=3"));
    let told = plan();
    let status = world.lantern(&["status", "--server", "halcyon-terrace"]);
    let json = world.lantern(&[&["group", "plan", "--json"], &same[..]].concat());
    assert!(json.contains("\"conflicts\": 1"), "{json}");
    assert!(
        status.contains("its group was asked about once more"),
        "{status}"
    );
    let file = world.read("terraces.group.toml");
    let own = "at = \"east-terrace\"\nown = [\"moss-wall\", \"ivy-arch\"]";
    world.write(
        "terraces.group.toml",
        file.replace("at = \"east-terrace\"", own),
    );
    assert_snapshot!([told, plan()].join("\n"));
}

#[test]
fn where_one_of_them_cannot_be_asked_nothing_is_armed() {
    let world = three("");
    world.ok(&TO);
    // One that is cut off from its care, one of another program, one of another version.
    let settings = world.read("south-terrace/lantern.toml");
    std::fs::remove_file(world.path("south-terrace/lantern.toml")).unwrap();
    let mut told = vec![world.lantern(&TO)];
    assert!(
        world
            .lantern(&["changeover", "--server", "east-terrace"])
            .contains("exit status 3")
    );
    world.write("south-terrace/lantern.toml", settings);
    world.ok(&[
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        TO[5],
        "--server",
        "east-terrace",
    ]);
    world.ok(&["changeover", "--yes", "--server", "east-terrace"]);
    told.push(world.lantern(&["group", "plan", "--to", "same"]));
    std::fs::remove_dir_all(world.path("south-terrace")).unwrap();
    world.copy("tramway-loop", "south-terrace");
    world.ok(&["adopt", "south-terrace"]);
    told.push(world.lantern(&TO));
    told.push(world.lantern(&["group", "plan"]));
    assert_snapshot!(told.join("\n"));
}

#[test]
fn what_all_of_them_need_is_fetched_once() {
    let world = three("");
    let depot = Depot::of(&world, "depot");
    let url = format!("{}/verdance.catalogue.json", depot.http);
    let plan = ["group", "plan", "--to", "5.4", "--catalogue", &url];
    let told = world.lantern(&plan);
    assert!(
        told.contains("9 files have to be fetched") && told.contains("exit status 3"),
        "{told}"
    );
    let told = world.lantern(&[&plan[..], &["--gather"]].concat());
    assert_eq!(told.matches("  fetched  ").count(), 9, "{told}");
    assert!(
        told.contains("exit status 0") && told.contains("Every server's own plan is armed"),
        "{told}"
    );
}

/// A move of which the second server's own part crashes at its start.
fn of_which_one_goes_wrong() -> World {
    let world = three("");
    installed(&world, "south-terrace", "moss-wall", "");
    let crash = "[standin]\ncrash = 'the moss is too deep'\n";
    addon(&world, "moss", "moss-wall", "2.0.0", crash);
    addon(&world, "moss", "sun-clock", "2.1.0", "");
    let plan = ["group", "plan", "--to", "same", "--from", "moss"];
    world.ok(&plan);
    world
}

/// What became of each, and in which version what all of them carry is there.
fn became(world: &World, words: &[&str]) -> String {
    let told = world.lantern(&[&["group", "changeover", "--yes"], words].concat());
    let from = told.find("\nterraces:\n").unwrap_or(0);
    let status = told.lines().nth(1).unwrap_or_default();
    let clocks = ["halcyon-terrace", "south-terrace", "east-terrace"].map(|server| {
        let addons = std::fs::read_dir(world.path(&format!("{server}/addons"))).unwrap();
        let names = addons.map(|it| it.unwrap().file_name().into_string().unwrap());
        let mut clocks = names.filter(|name| name.starts_with("sun-clock"));
        format!("{server}: {}", clocks.next().unwrap())
    });
    let end = told[from..].split("--- stderr").next().unwrap_or_default();
    format!("{status}{end}\n{}\n", clocks.join("\n"))
}

#[test]
fn where_one_goes_wrong_the_rest_is_not_begun() {
    let world = of_which_one_goes_wrong();
    assert_snapshot!(became(&world, &[]));
    // It is not tried once more by itself.
    assert_snapshot!(world.lantern(&["group", "changeover", "--yes"]));
    let world = of_which_one_goes_wrong();
    assert_snapshot!(became(&world, &["--all-or-none"]));
    let world = of_which_one_goes_wrong();
    assert_snapshot!(world.lantern(&["group", "changeover", "--yes", "--json", "-q"]));
}

#[test]
fn what_was_cut_off_is_gone_on_with() {
    let world = three("");
    world.edit(
        "south-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 24\nslow_ms = 150",
    );
    world.ok(&TO);
    let mut lantern = world.begin(&["group", "changeover", "--yes"]);
    let log = "south-terrace/.lantern/console/output.log";
    world.wait("the second server starts", || {
        world.path(log).exists() && world.read(log).contains("Halcyon 5.4.0")
    });
    lantern.kill().unwrap();
    lantern.wait().unwrap();
    let told = world.lantern(&["group", "changeover"]);
    assert!(
        told.contains("2 changeovers") && told.contains("was cut off, and goes on first"),
        "{told}"
    );
    assert_snapshot!(became(&world, &[]));
    // What somebody else has done there since is no part of it.
    world.ok(&[
        "plan",
        "--to",
        "same",
        "--drop",
        "night-watch",
        "--server",
        "east-terrace",
    ]);
    assert_snapshot!(world.lantern(&["group", "changeover"]));
}

#[test]
fn what_waits_for_a_decision_is_not_begun() {
    let world = three("");
    for server in ["south-terrace", "east-terrace"] {
        let lattice = format!("{server}/framework/lattice.bin");
        world.edit(&lattice, "lattice of 1.8.0\n", "mine\n");
    }
    let planned = world.lantern(&TO);
    let refused = world.lantern(&["group", "changeover", "--yes"]);
    let (_, id) = planned.split_once("group decide ").unwrap();
    let id = id.split(' ').next().unwrap();
    let told = [
        planned.clone(),
        refused,
        world.lantern(&["group", "decide", "no-such", "theirs"]),
        world.lantern(&["group", "decide", id, "theirs"]),
    ];
    assert_snapshot!(told.join("\n"));
    // At one alone, as well; what is not part of it any more is told.
    let decide = ["settings", "decide", id, "mine", "--server"];
    world.ok(&[&decide[..], &["south-terrace"]].concat());
    let done = world.lantern(&["group", "changeover", "--yes"]);
    assert!(done.contains("Not the same everywhere: trellis"), "{done}");
    world.ok(&[
        "plan",
        "--to",
        "same",
        "--drop",
        "night-watch",
        "--server",
        "east-terrace",
    ]);
    let none = world.lantern(&["group", "decide", id, "mine"]);
    assert!(none.contains("is no question of the armed plan"), "{none}");
}

#[test]
fn a_variant_is_chosen_where_the_pack_is_carried() {
    let world = World::demo();
    world.copy("halcyon-orchard", "halcyon-meadow");
    let servers = ["halcyon-orchard", "halcyon-meadow", "halcyon-terrace"];
    let mut group = "format = 1\nname = \"orchards\"\n".to_owned();
    for server in servers {
        world.ok(&["adopt", server]);
        group += &format!("[[server]]\nat = \"{server}\"\n");
    }
    world.write("orchards.group.toml", group);
    let plan = [
        "group",
        "plan",
        "--from",
        "orchard-drop",
        "--variant",
        "orchard=wild",
    ];
    world.ok(&[&plan[..], &TO[2..]].concat());
    let chosen = servers.map(|server| {
        let plan = world.read(&format!("{server}/.lantern/next.plan.json"));
        plan.contains("wild")
    });
    assert_eq!(chosen, [true, true, false]);
}

#[test]
fn servers_of_several_programs_come_each_to_a_version_of_its_own() {
    let world = World::demo();
    for name in ["halcyon-terrace", "tramway-meadow"] {
        world.ok(&["adopt", name]);
    }
    world.write(
        "front.group.toml",
        "format = 1\nname = 'front'\n[[server]]\nat = 'halcyon-terrace'\n[[server]]\nat = 'tramway-meadow'\nafter = ['halcyon-terrace']\n",
    );
    let plan = |to: &[&str]| {
        let from = [
            "--catalogue",
            "depot/verdance.catalogue.json",
            "--from",
            "meadow-drop",
        ];
        world.lantern(&[&["group", "plan"], to, &from].concat())
    };
    let told = [
        plan(&["--to", "5.4"]),
        plan(&["--to", "halcyon=5.4", "--to", "tern=1", "--to", "same"]),
        plan(&["--to", "5.4", "--to", "same"]),
        plan(&["--to", "halcyon=5.4", "--to", "same"]),
    ];
    assert_snapshot!(told.join("\n"));
}
