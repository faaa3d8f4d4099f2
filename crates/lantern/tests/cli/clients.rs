//! Players: who may join, now and with a plan.

use crate::world::World;
use insta::assert_snapshot;

const LOOKOUT: &[&str] = &["--server", "halcyon-lookout"];
const CATALOGUE: &[&str] = &[
    "--catalogue",
    "depot/lookout.catalogue.json",
    "--server",
    "halcyon-lookout",
];

fn lookout() -> World {
    let world = World::demo();
    world.ok(&["adopt", "halcyon-lookout"]);
    world
}

#[test]
fn who_may_join_now_and_with_a_plan() {
    let world = lookout();
    let who = |more: &[&str]| world.lantern(&[&["client", "who"], more, LOOKOUT].concat());
    let plan = |more: &[&str]| world.lantern(&[&["plan", "--to", "5.4"], more, CATALOGUE].concat());
    assert_snapshot!("who_now", who(&[]));
    assert_snapshot!("who_planned_without_a_plan", who(&["--plan"]));
    assert_snapshot!("plan_tells_players", plan(&[]));
    assert_snapshot!("who_planned", who(&["--plan"]));
    let json = world.ok(&[&["client", "who", "--plan", "--json"], LOOKOUT].concat());
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_snapshot!("who_planned_json", json["kinds"].to_string());
    assert_snapshot!("plan_lets_in", plan(&["--admit", "visor=3.6"]));
    assert_snapshot!("plan_cannot_let_in", plan(&["--admit", "visor=3.7"]));
    assert_snapshot!("plan_lets_in_unknown_kind", plan(&["--admit", "vizor=3.6"]));
    assert_snapshot!("plan_lets_in_no_version", plan(&["--admit", "visor"]));
}

#[test]
fn a_family_and_releases_that_say_nothing_of_clients() {
    let world = World::demo();
    world.ok(&["adopt", "tramway-loop"]);
    assert_snapshot!(
        "who_nobody_said",
        world.lantern(&["client", "who", "--server", "tramway-loop"])
    );
}

#[test]
fn players_are_watched_for() {
    let world = lookout();
    assert_snapshot!(
        "outlook_with_clients",
        world.lantern(&[&["outlook"], CATALOGUE].concat())
    );
    let watch = |players: &str| {
        world.lantern(&[&["outlook", "--watch-for-client", players], CATALOGUE].concat())
    };
    let told = ["visor=3.5", "visor=3.6", "visor=3.7", "kite=1"].map(watch);
    assert_snapshot!("watch_for_client", told.join("\n"));
}

#[test]
fn a_server_that_says_another_version_goes_back() {
    let world = lookout();
    world.ok(&["console", "start", "--server", "halcyon-lookout"]);
    world.ok(&[&["plan", "--to", "5.4"], CATALOGUE].concat());
    // Another program than the one in the folder is started.
    let start = world.read("halcyon-lookout/start.sh");
    let pinned = start.replace(
        "exec sh server/halcyon",
        "sed -i 's/--build 5.4.0/--build 5.4.9/' server/halcyon\nexec sh server/halcyon",
    );
    world.write("halcyon-lookout/start.sh", &pinned);
    world.ok(&[&["plan", "--to", "5.4"], CATALOGUE].concat());
    assert_snapshot!(
        "changeover_of_another_version",
        world.lantern(&["changeover", "--yes", "--server", "halcyon-lookout"])
    );
}

/// The server before and after its update, with a pack of each for players.
fn updated() -> World {
    let world = lookout();
    world.edit("halcyon-lookout/lantern.toml", "at = [\"10s\"]", "at = []");
    world.ok(&[&["plan", "--to", "5.4"], CATALOGUE].concat());
    let pack = |out: &str, more: &[&str]| {
        world.ok(&[&["client", "pack", "--out", out], more, LOOKOUT].concat());
    };
    pack("before.zip", &[]);
    pack("planned.zip", &["--plan"]);
    world.ok(&["changeover", "--yes", "--server", "halcyon-lookout"]);
    pack("after.zip", &[]);
    world
}

fn unpack(world: &World, pack: &str, folder: &str) {
    world.unpack(pack, folder);
    std::fs::remove_file(world.path(&format!("{folder}/client-list.json"))).unwrap();
}

#[test]
fn what_clients_must_have_now_and_with_a_plan() {
    let world = lookout();
    world.ok(&[&["plan", "--to", "5.4"], CATALOGUE].concat());
    let list = |more: &[&str]| world.lantern(&[&["client", "list"], more, LOOKOUT].concat());
    let told = [
        &[][..],
        &["--plan"],
        &["--kind", "visor"],
        &["--kind", "porthole"],
        &["--kind", "kite"],
    ]
    .map(list);
    assert_snapshot!("client_lists", told.join("\n"));
}

#[test]
fn a_pack_of_what_has_changed() {
    let world = updated();
    let pack = |since: &str, out: &str| {
        world.lantern(&[&["client", "pack", "--since", since, "--out", out], LOOKOUT].concat())
    };
    let told = [
        pack("5.1", "a.zip"),
        pack("before.zip", "b.zip"),
        pack("after.zip", "c.zip"),
        pack("5.3", "d.zip"),
    ];
    assert_snapshot!("client_pack_since", told.join("\n"));
    let entries = |pack: &str| -> String {
        let mut zip = zip::ZipArchive::new(std::fs::File::open(world.path(pack)).unwrap()).unwrap();
        let mut text = String::new();
        for at in 0..zip.len() {
            let mut entry = zip.by_index(at).unwrap();
            let mut content = String::new();
            let name = entry.name().unwrap().into_owned();
            if name == "delete.txt" {
                std::io::Read::read_to_string(&mut entry, &mut content).unwrap();
            }
            text += &format!("{name}\n{content}");
        }
        text
    };
    assert_snapshot!("client_pack_since_entries", entries("a.zip"));
    // What was packed before the changeover is what is there after it.
    let files = |pack: &str| entries(pack).replace("client-list.json\n", "");
    assert_eq!(files("planned.zip"), files("after.zip"));
}

#[test]
fn a_players_folder_is_checked_and_mended() {
    let world = updated();
    unpack(&world, "before.zip", "oro");
    // Five mistakes: one too old, one edited, one missing, two too many.
    world.write("oro/saves/beds.bin", "whatever lies beside it");
    let old = std::fs::read(world.path("oro/addons/glasswork-3.1.0.bloom")).unwrap();
    world.write(
        "oro/addons/glasswork-3.1.0.bloom",
        [&old[..], b"!"].concat(),
    );
    std::fs::remove_file(world.path("oro/addons/mist-pipes-1.4.2.bloom")).unwrap();
    world.copy(
        "depot/releases/gnomon-1.0.3.bloom",
        "oro/addons/gnomon-1.0.3.bloom",
    );
    let check =
        |what: &str, more: &[&str]| world.lantern(&[&["client", "check", what], more].concat());
    world.copy(
        "halcyon-terrace/addons/sun-clock-1.9.1.bloom",
        "oro/addons/sun-clock-1.9.1.bloom",
    );
    assert_snapshot!("client_check", check("oro", LOOKOUT));
    assert_snapshot!(
        "client_check_without_server",
        check("oro", &["--list", "after.zip"])
    );
    assert_snapshot!(
        "client_check_json",
        check("oro", &["--list", "after.zip", "--json"])
    );
    world.ok(&[
        "client",
        "check",
        "oro",
        "--list",
        "after.zip",
        "--make-list",
        "oro.json",
    ]);
    let of_list = check("oro.json", &["--list", "after.zip"]);
    assert_eq!(
        of_list.replace("oro.json", "oro"),
        check("oro", &["--list", "after.zip"])
    );
    // Mended as it says.
    for gone in ["drip-lines-2.3.0", "gnomon-1.0.3", "sun-clock-1.9.1"] {
        std::fs::remove_file(world.path(&format!("oro/addons/{gone}.bloom"))).unwrap();
    }
    unpack(&world, "after.zip", "oro");
    assert_snapshot!("client_check_mended", check("oro", LOOKOUT));
    let other = [
        check("oro", &[LOOKOUT, &["--kind", "visor"]].concat()),
        check("nowhere", LOOKOUT),
        check("oro", &["--list", "depot/lookout.catalogue.json"]),
    ];
    assert_snapshot!("client_check_others", other.join("\n"));
}

#[test]
fn the_list_in_other_forms() {
    let world = updated();
    let settings = world.read("halcyon-lookout/lantern.toml");
    let ways = "
[[players]]
name = \"With the <garden> hall\"
text = \"Choose Verdance {{ joins }}.\\nThen look for {{ must[0].id }}.\"

[[players]]
name = \"Through a visor\"
kind = \"visor\"
text = \"Nothing to do.\"
";
    world.write("halcyon-lookout/lantern.toml", format!("{settings}{ways}"));
    let write = |more: &[&str]| world.lantern(&[&["client", "write"], more, LOOKOUT].concat());
    assert_snapshot!("client_write_nowhere", write(&["--as", "metalink"]));
    let family = "format = 1\n";
    let with = format!("{family}players_at = \"https://lookout.example/for players/\"\n");
    world.edit("halcyon-lookout/lantern.toml", family, &with);
    for form in ["sums", "metalink", "cyclonedx"] {
        assert_snapshot!(format!("client_write_{form}"), write(&["--as", form]));
    }
    // What the tools of the system say to it.
    world.ok(&[
        &["client", "write", "--as", "sums", "--out", "SUMS"],
        LOOKOUT,
    ]
    .concat());
    unpack(&world, "after.zip", "oro");
    let sums = std::process::Command::new("sha256sum")
        .args(["-c", "../SUMS"])
        .current_dir(world.path("oro"))
        .output()
        .unwrap();
    assert!(sums.status.success(), "{sums:?}");
    world.ok(&[
        &["client", "write", "--as", "page", "--out", "join.html"],
        LOOKOUT,
    ]
    .concat());
    let page = world.read("join.html");
    assert_snapshot!("client_write_page", page.split_once("<main>").unwrap().1);
    world.ok(&[
        &["client", "write", "--as", "list", "--out", "list.json"],
        LOOKOUT,
    ]
    .concat());
    let check = world.lantern(&["client", "check", "oro", "--list", "list.json"]);
    assert!(check.contains("exit status 0"), "{check}");
    world.write("bad.txt", "{{ server }}\n{{ servant }}\n");
    let told = [
        write(&["--as", "page", "--out", "join.html"]),
        write(&["--as", "sums", "--out", "join.html"]),
        write(&["--template", "bad.txt"]),
        write(&[
            "--as",
            "page",
            "--kind",
            "visor",
            "--out",
            "join.html",
            "--yes",
        ]),
        write(&[]),
    ];
    assert_snapshot!("client_write_faults", told.join("\n"));
    assert!(world.read("join.html").contains("Through a visor"));
}

#[test]
fn templates_of_the_documentation_are_filled() {
    let world = updated();
    let family = "format = 1\n";
    let with = format!("{family}players_at = \"https://lookout.example/files\"\n");
    world.edit("halcyon-lookout/lantern.toml", family, &with);
    let told = crate::formats::examples("client-list.md", "jinja")
        .into_iter()
        .map(|template| {
            world.write("template.txt", template);
            world.ok(&[&["client", "write", "--template", "template.txt"], LOOKOUT].concat())
        });
    assert_snapshot!(
        "client_write_templates",
        told.collect::<Vec<_>>().join("\n")
    );
}

#[test]
fn the_message_of_a_mismatch_is_explained() {
    let world = updated();
    let explain = |text: &str| world.lantern(&[&["client", "explain", text], LOOKOUT].concat());
    let told = [
        explain(
            "you cannot come in: drip-lines: yours 2.3.0, theirs 2.5.0; gnomon: yours 1.0.3, theirs -",
        ),
        explain("you cannot come in"),
    ];
    assert_snapshot!("client_explain", told.join("\n"));
}

#[test]
fn the_client_edition_of_a_pack_and_of_a_framework() {
    const ORCHARD: &[&str] = &["--server", "halcyon-orchard"];
    let world = World::demo();
    world.ok(&["adopt", "halcyon-orchard"]);
    let file = "halcyon-orchard/lantern.toml";
    let settings = world.read(file);
    let pack =
        "[[client]]\nid = \"orchard\"\nfrom = \"../client-drop/orchard-5.4-client-pack.zip\"\n";
    let frame = "[[client]]\nid = \"trellis\"\nfrom = \"../kept\"\n";
    std::fs::create_dir_all(world.path("kept")).unwrap();
    for version in ["2.2.0", "2.3.0"] {
        let about = format!(
            "id = \"trellis\"\nversion = \"{version}\"\nserver = \">=5.4\"\nside = \"client\"\n"
        );
        let parts: &[(&str, &str)] = &[("framework.toml", &about), ("lattice.bin", version)];
        world.zip(&format!("kept/trellis-{version}-clients.zip"), parts);
    }
    let list = |more: &[&str]| world.lantern(&[&["client", "list"], more, ORCHARD].concat());
    world.write(file, format!("{settings}\n{pack}"));
    let early = list(&[]);
    let plan = [
        "plan",
        "--to",
        "5.4",
        "--from",
        "orchard-drop",
        "--catalogue",
        "depot/verdance.catalogue.json",
    ];
    world.write(file, settings.clone());
    world.ok(&[&plan[..], &["--variant", "orchard=calm"], ORCHARD].concat());
    world.write(file, format!("{settings}\n{pack}\n{frame}"));
    let planned = list(&["--plan"]);
    world.ok(&[&["changeover", "--yes"], ORCHARD].concat());
    assert_snapshot!("client_editions", [early, planned, list(&[])].join("\n"));
    world.ok(&[&["client", "pack", "--out", "client.zip"], ORCHARD].concat());
    unpack(&world, "client.zip", "oro");
    let check = world.lantern(&[&["client", "check", "oro"], ORCHARD].concat());
    assert!(check.contains("exit status 0"), "{check}");
    world.write(file, format!("{settings}\n{pack}variant = \"wild\"\n"));
    let wild = world.lantern(&[&["client", "check", "oro"], ORCHARD].concat());
    assert!(wild.contains("weather.toml"), "{wild}");
}

#[test]
fn what_the_administrator_keeps_for_clients() {
    let world = lookout();
    let settings = world.read("halcyon-lookout/lantern.toml");
    let kept = "
[[client]]
id = \"petal-skins\"
is = \"may-have\"
from = \"../kept/petal-skins.bloom\"

[[client]]
id = \"spy-glass\"
is = \"must-not-have\"

[[client]]
id = \"garden-look\"
from = \"../kept/look\"
to = \"settings\"

[[client]]
id = \"drip-lines\"
from = \"../kept/editions\"

[[client]]
id = \"visor-lens\"
from = \"../kept/lens.txt\"
kinds = [\"visor\"]
";
    world.write("halcyon-lookout/lantern.toml", settings + kept);
    let addon = |id: &str, version: &str| {
        format!("id = \"{id}\"\nversion = \"{version}\"\nserver = \">=5.0\"\nside = \"client\"\n")
    };
    for (path, id, version) in [
        ("kept/petal-skins.bloom", "petal-skins", "1.2.0"),
        (
            "kept/editions/drip-lines-2.3.0-c.bloom",
            "drip-lines",
            "2.3.0",
        ),
        (
            "kept/editions/drip-lines-2.5.0-c.bloom",
            "drip-lines",
            "2.5.0",
        ),
    ] {
        std::fs::create_dir_all(world.path("kept/editions")).unwrap();
        world.zip(path, &[("addon.toml", &addon(id, version))]);
    }
    std::fs::create_dir_all(world.path("kept/look/colours")).unwrap();
    world.write("kept/look/view.toml", "far = 40\n");
    world.write("kept/look/colours/moss.toml", "green = 7\n");
    world.write("kept/lens.txt", "lens\n");
    let list = |more: &[&str]| world.lantern(&[&["client", "list"], more, LOOKOUT].concat());
    assert_snapshot!(
        "client_list_kept",
        [list(&[]), list(&["--kind", "visor"])].join("\n")
    );
    world.ok(&[&["client", "pack", "--out", "kept.zip"], LOOKOUT].concat());
    unpack(&world, "kept.zip", "oro");
    assert_eq!(world.read("oro/settings/colours/moss.toml"), "green = 7\n");
    let check = world.lantern(&[&["client", "check", "oro"], LOOKOUT].concat());
    assert!(check.contains("exit status 0"), "{check}");
    // No edition for clients is of the version that comes.
    std::fs::remove_file(world.path("kept/editions/drip-lines-2.5.0-c.bloom")).unwrap();
    world.ok(&[&["plan", "--to", "5.4"], CATALOGUE].concat());
    let mut told = vec![list(&["--plan"])];
    for (from, to) in [
        ("../kept/lens.txt", "../kept/gone.txt"),
        (
            "is = \"must-not-have\"",
            "is = \"must-not-have\"\nfrom = \"../kept\"",
        ),
        ("kinds = [\"visor\"]", "kinds = [\"vizor\"]"),
    ] {
        world.edit("halcyon-lookout/lantern.toml", from, to);
        told.push(list(&["--kind", "visor"]));
        told.push(list(&[]));
        world.edit("halcyon-lookout/lantern.toml", to, from);
    }
    assert_snapshot!("client_list_kept_faults", told.join("\n"));
}
