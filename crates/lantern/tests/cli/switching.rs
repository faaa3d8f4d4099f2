//! Add-ons that are installed and switched off: they are moved along, ask for nothing, and are switched by a plan.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;

const ORDER: &str = r##"
[order]
kind = "sequence"
file = "beds.txt"
line = '^plant (?P<id>[a-z]+)'
write = "plant {id}"
write_with = "plant {id} {arguments}"
parked = "# {line}"
"##;

/// Starts what its file of beds names.
const SERVER: &str = "sed -n 's/^plant \\([a-z]*\\).*/hedge: \\1/p' beds.txt\n\
                      echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

fn beds() -> World {
    let world = World::empty();
    let more = [ORDER, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(hedge::FOLDERS, &more));
    world.write("hedge/hedge.sh", SERVER);
    world.write("hedge/beds.txt", "plant box deep\nplant yew 2 rows\n");
    for (id, more) in [
        ("box", ""),
        ("yew", "needs = { box = '*' }\n"),
        ("fern", "server = '<2.0'\nneeds = { moss = '*' }\n"),
    ] {
        let text = format!("id = '{id}'\nversion = '1.0'\n{more}");
        world.write(&format!("hedge/shrubs/{id}/shrub.toml"), text);
    }
    hedge::adopt(&world);
    world
}

fn plan(world: &World, more: &[&str]) -> String {
    world.lantern(&[&["plan", "--to", "same", "--server", "hedge"], more].concat())
}

#[test]
fn an_add_on_is_switched_off_and_on_again_and_keeps_its_line() {
    let world = beds();
    world.ok(&["console", "start", "--server", "hedge"]);
    assert_snapshot!("switched_needed", plan(&world, &["--off", "box"]));
    assert_snapshot!("switched_off", plan(&world, &["--off", "yew"]));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(
        world.read("hedge/beds.txt"),
        "plant box deep\n# plant yew 2 rows\n"
    );
    assert_snapshot!(
        "switched_off_survey",
        world.lantern(&["survey", "--server", "hedge"])
    );
    assert!(
        world
            .ok(&["verify", "--server", "hedge"])
            .contains("1 of 1")
    );
    // Nobody needs box now; then yew, switched on, needs it again.
    plan(&world, &["--off", "box"]);
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_snapshot!("switched_on_needs", plan(&world, &["--on", "yew"]));
    assert_snapshot!("switched_on", plan(&world, &["--on", "yew", "--on", "box"]));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(
        world.read("hedge/beds.txt"),
        "plant box deep\nplant yew 2 rows\n"
    );
    world.ok(&["undo", "--keep-world", "--server", "hedge"]);
    assert_eq!(
        world.read("hedge/beds.txt"),
        "# plant box deep\n# plant yew 2 rows\n"
    );
    world.ok(&["console", "stop", "--server", "hedge"]);
}

#[test]
fn what_is_off_moves_along_and_stays_off() {
    let world = beds();
    let fern = "id = 'fern'\nversion = '2.0'\nneeds = { moss = '*' }\narguments = 'shade=3 wet'\n";
    world.zip("drop/fern.zip", &[("fern/shrub.toml", fern)]);
    let moss = "id = 'moss'\nversion = '1.0'\n";
    world.zip("drop/moss.zip", &[("moss/shrub.toml", moss)]);
    let from = ["--from", "drop"];
    assert_snapshot!("off_moves", plan(&world, &from));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    let beds = "plant box deep\nplant yew 2 rows\nplant moss\n";
    assert_eq!(world.read("hedge/beds.txt"), beds);
    let outlook = ["outlook", "--to", "1.0", "--server", "hedge"];
    assert_snapshot!("off_outlook", world.lantern(&outlook));
}

#[test]
fn what_is_switched_by_its_own_word_keeps_its_place_in_a_load_order() {
    let world = beds();
    let switch = "switch = { file = \"shrub.toml\", key = \"awake\" }\n";
    let shrubs = [hedge::FOLDERS, switch].concat();
    let family = hedge::family(&shrubs, &[ORDER, hedge::CONSOLE].concat());
    world.write("hedge.family.toml", family);
    assert_snapshot!(
        "own_word_sorted",
        plan(&world, &["--off", "yew", "--drop", "fern"])
    );
    plan(&world, &["--drop", "yew", "--drop", "fern"]);
    world.ok(&["changeover", "--yes", "--stay", "--server", "hedge"]);
    assert_eq!(world.read("hedge/beds.txt"), "plant box deep\n");
}

#[test]
fn a_load_order_that_a_release_ships_takes_the_place_of_none() {
    let world = beds();
    let parts = "parts = [{ from = \"extra\", to = \"\" }]\n";
    let shrubs = [hedge::FOLDERS, parts].concat();
    let family = hedge::family(&shrubs, &[ORDER, hedge::CONSOLE].concat());
    world.write("hedge.family.toml", family);
    let sloe = [
        ("sloe/shrub.toml", "id = 'sloe'\nversion = '1.0'\n"),
        ("sloe/extra/beds.txt", "plant sloe\n"),
    ];
    world.zip("drop/sloe.zip", &sloe);
    assert_snapshot!(
        "order_shipped",
        plan(&world, &["--from", "drop", "--add", "sloe"])
    );
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    let beds = "plant box deep\nplant yew 2 rows\nplant sloe\n";
    assert_eq!(world.read("hedge/beds.txt"), beds);
    // Where there is none, it comes, and names what is there.
    world.ok(&["undo", "--keep-world", "--yes", "--server", "hedge"]);
    std::fs::remove_file(world.path("hedge/beds.txt")).unwrap();
    plan(&world, &["--from", "drop", "--add", "sloe"]);
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/beds.txt"), "plant sloe\n");
}

#[test]
fn a_load_order_in_an_add_ons_own_folder_is_no_file_of_its() {
    let world = World::empty();
    let order = ORDER.replace("beds.txt", "shrubs/hall/beds.txt");
    let family = hedge::family(hedge::FOLDERS, &[&order, hedge::CONSOLE].concat());
    world.write("hedge.family.toml", family);
    world.write(
        "hedge/hedge.sh",
        SERVER.replace("beds.txt", "shrubs/hall/beds.txt"),
    );
    for id in ["box", "hall"] {
        let text = format!("id = '{id}'\nversion = '1.0'\n");
        world.write(&format!("hedge/shrubs/{id}/shrub.toml"), text);
    }
    let beds = "plant hall\nplant box\n";
    world.write("hedge/shrubs/hall/beds.txt", beds);
    hedge::adopt(&world);
    let hall = [
        ("hall/shrub.toml", "id = 'hall'\nversion = '2.0'\n"),
        ("hall/beds.txt", "plant hall\n"),
    ];
    world.zip("drop/hall.zip", &hall);
    assert_snapshot!("order_inside", plan(&world, &["--from", "drop"]));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/shrubs/hall/beds.txt"), beds);
    assert_snapshot!(
        "order_inside_survey",
        world.lantern(&["survey", "--server", "hedge"])
    );
    // One that ships none leaves it, and one that goes does.
    world.zip(
        "drop/hall.zip",
        &[("hall/shrub.toml", "id = 'hall'\nversion = '3.0'\n")],
    );
    plan(&world, &["--from", "drop"]);
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/shrubs/hall/beds.txt"), beds);
    plan(&world, &["--drop", "hall"]);
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/shrubs/hall/beds.txt"), "plant box\n");
}

#[test]
fn a_file_that_the_load_order_reads_comes_with_the_release_that_it_is_of() {
    let world = World::empty();
    let order = [ORDER, "includes = '^also (?P<file>\\S+)$'\n"].concat();
    let family = hedge::family(hedge::FOLDERS, &[&order, hedge::CONSOLE].concat());
    world.write("hedge.family.toml", family);
    let inside = "shrubs/hall/beds.txt";
    let both = format!("beds.txt {inside}");
    world.write("hedge/hedge.sh", SERVER.replace("beds.txt", &both));
    for id in ["box", "hall"] {
        let text = format!("id = '{id}'\nversion = '1.0'\n");
        world.write(&format!("hedge/shrubs/{id}/shrub.toml"), text);
    }
    world.write("hedge/beds.txt", format!("plant box\nalso {inside}\n"));
    world.write(&format!("hedge/{inside}"), "plant hall\n");
    hedge::adopt(&world);
    let hall = [
        ("hall/shrub.toml", "id = 'hall'\nversion = '2.0'\n"),
        ("hall/beds.txt", "# since 2.0\n\n\nplant hall wide\n"),
    ];
    world.zip("drop/hall.zip", &hall);
    world.zip(
        "drop/sloe.zip",
        &[("sloe/shrub.toml", "id = 'sloe'\nversion = '1.0'\n")],
    );
    let add = ["--from", "drop", "--add", "sloe"];
    assert_snapshot!("order_read_comes", plan(&world, &add));
    let told = world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert!(told.contains("3 of 3 components are loaded"), "{told}");
    let beds = "# since 2.0\n\n\nplant hall wide\nplant sloe\n";
    assert_eq!(world.read(&format!("hedge/{inside}")), beds);
    // What was changed in it by hand stays in it.
    world.edit(&format!("hedge/{inside}"), "# since 2.0", "# ours");
    let hall = [
        ("hall/shrub.toml", "id = 'hall'\nversion = '3.0'\n"),
        ("hall/beds.txt", "# since 2.0\n\n\nplant hall wider\n"),
    ];
    world.zip("drop/hall.zip", &hall);
    assert_snapshot!("order_read_merged", plan(&world, &["--from", "drop"]));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    let beds = "# ours\n\n\nplant hall wider\nplant sloe\n";
    assert_eq!(world.read(&format!("hedge/{inside}")), beds);
}

#[test]
fn what_a_release_ships_over_settings_is_put_beside_them_where_that_is_wanted() {
    let world = World::empty();
    let parts = "parts = [{ from = \"extra\", to = \"\" }]\n";
    let shrubs = [hedge::FOLDERS, parts].concat();
    let family = hedge::family(&shrubs, hedge::CONSOLE);
    let family = family.replace("layout = { ", "layout = { settings = [\"*.conf\"], ");
    world.write("hedge.family.toml", family);
    world.write("hedge/hedge.sh", hedge::SERVER);
    world.write("hedge/gate.conf", "rows=7\n");
    hedge::adopt(&world);
    let sloe = [
        ("sloe/shrub.toml", "id = 'sloe'\nversion = '1.0'\n"),
        ("sloe/extra/gate.conf", "rows=2\n"),
    ];
    world.zip("drop/sloe.zip", &sloe);
    let add = ["--from", "drop", "--add", "sloe"];
    let beside = [&add[..], &["--beside"]].concat();
    let told = [plan(&world, &add), plan(&world, &beside)];
    assert_snapshot!("settings_shipped", told.join("\n"));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/gate.conf"), "rows=7\n");
    assert_eq!(world.read("hedge/gate.conf.new"), "rows=2\n");
    // What its next release ships takes the place of that.
    let sloe = [
        ("sloe/shrub.toml", "id = 'sloe'\nversion = '2.0'\n"),
        ("sloe/extra/gate.conf", "rows=3\n"),
    ];
    world.zip("drop/sloe.zip", &sloe);
    let told = plan(&world, &["--from", "drop", "--beside"]);
    assert!(told.contains("put beside it, as gate.conf.new"), "{told}");
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/gate.conf"), "rows=7\n");
    assert_eq!(world.read("hedge/gate.conf.new"), "rows=3\n");
}

#[test]
fn what_cannot_be_switched_is_told() {
    let world = beds();
    let told = [
        plan(&world, &["--on", "yw"]),
        plan(&world, &["--off", "yew", "--on", "yew"]),
        plan(&world, &["--off", "hedge"]),
    ];
    assert_snapshot!("cannot_be_switched", told.join("\n"));
    std::fs::remove_file(world.path("hedge/beds.txt")).unwrap();
    assert_snapshot!("switched_nowhere", plan(&world, &["--on", "box"]));
}

#[test]
fn what_stands_in_for_what_it_replaces_is_told() {
    let world = beds();
    let hedge = "id = 'laurel'\nversion = '1.0'\nreplaces = ['box']\n";
    world.zip("drop/laurel.zip", &[("laurel/shrub.toml", hedge)]);
    assert_snapshot!("stands_in", plan(&world, &["--from", "drop"]));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    let survey = world.ok(&["survey", "--server", "hedge"]);
    assert!(!survey.contains("wrong"), "{survey}");
    assert_eq!(
        world.read("hedge/beds.txt"),
        "plant laurel\nplant yew 2 rows\n"
    );
}

/// A server that loads whatever lies among its shrubs; what is off lies beside them.
fn parked() -> World {
    let world = World::empty();
    let shrubs = [hedge::FOLDERS, "off = \"{folder}-off/{name}\"\n"].concat();
    let family = hedge::family(&shrubs, hedge::CONSOLE);
    world.write("hedge.family.toml", family);
    world.write("hedge/hedge.sh", hedge::SERVER);
    for (place, more) in [
        ("shrubs/box", ""),
        ("shrubs/yew", "needs = { box = '*' }\n"),
        ("shrubs-off/fern", "server = '<2.0'\n"),
    ] {
        let (_, id) = place.split_once('/').unwrap();
        let text = format!("id = '{id}'\nversion = '1.0'\n{more}");
        world.write(&format!("hedge/{place}/shrub.toml"), text);
    }
    hedge::adopt(&world);
    world
}

#[test]
fn what_lies_elsewhere_is_off_and_a_plan_moves_it() {
    let world = parked();
    let survey = || world.lantern(&["survey", "--server", "hedge"]);
    assert_snapshot!("parked_survey", survey());
    world.ok(&["console", "start", "--server", "hedge"]);
    // What is off asks for nothing, and moves along where it is.
    let fern = "id = 'fern'\nversion = '2.0'\nneeds = { yew = '*' }\n";
    world.zip("drop/fern.zip", &[("fern/shrub.toml", fern)]);
    assert_snapshot!(
        "parked_off",
        plan(&world, &["--off", "yew", "--from", "drop"])
    );
    let changeover = ["changeover", "--yes", "--server", "hedge"];
    let told = world.ok(&changeover);
    assert!(told.contains("1 of 1 components are loaded"), "{told}");
    assert!(world.path("hedge/shrubs-off/yew/shrub.toml").exists());
    assert!(
        world
            .read("hedge/shrubs-off/fern/shrub.toml")
            .contains("2.0")
    );
    assert!(!world.path("hedge/shrubs/yew").exists());
    assert_snapshot!("parked_needs", plan(&world, &["--on", "fern"]));
    assert_snapshot!("parked_on", plan(&world, &["--on", "fern", "--on", "yew"]));
    let told = world.ok(&changeover);
    assert!(told.contains("3 of 3 components are loaded"), "{told}");
    assert!(!world.path("hedge/shrubs-off").exists());
    world.ok(&["undo", "--keep-world", "--server", "hedge"]);
    assert!(world.path("hedge/shrubs-off/yew/shrub.toml").exists());
    world.ok(&["console", "stop", "--server", "hedge"]);
    // One that is off beside one that runs is no second one, and in the way of nothing but its own place.
    world.write(
        "hedge/shrubs-off/box/shrub.toml",
        "id = 'box'\nversion = '0.9'\n",
    );
    assert_snapshot!("parked_spare", survey());
    assert_snapshot!("parked_in_the_way", plan(&world, &["--off", "box"]));
    world.write("hedge/shrubs-off/sloe/shrub.toml", "id = 'sloe\n");
    let told = world.ok(&["survey", "--server", "hedge"]);
    let caution = "caution [unreadable] shrubs-off/sloe: it is off, and cannot be read";
    assert!(told.contains(caution), "{told}");
}

#[test]
fn what_lies_in_one_place_is_on_or_off_for_all_servers_of_an_install() {
    let world = parked();
    world.write("hedge/south.sh", hedge::SERVER);
    let settings = world.read("hedge/lantern.toml");
    let servers = "\n[[server]]\nname = \"north\"\n\n[[server]]\nname = \"south\"\n\
                   instead = { \"hedge.sh\" = \"south.sh\" }\n";
    world.write("hedge/lantern.toml", settings + servers);
    assert_snapshot!(
        "parked_for_one",
        plan(&world, &["--off", "yew", "--of", "south"])
    );
    let for_all = plan(&world, &["--off", "yew"]);
    assert!(
        for_all.contains("shrubs/yew becomes shrubs-off/yew"),
        "{for_all}"
    );
}

#[test]
fn on_another_machine_nothing_is_moved_that_is_not_sent() {
    let world = parked();
    for own in ["hedge/.lantern", "hedge/lantern.toml"] {
        let _ = std::fs::remove_dir_all(world.path(own));
        let _ = std::fs::remove_file(world.path(own));
    }
    let standin = crate::world::standin().display().to_string();
    let through = format!("{standin} sftp --writes {}", world.path("").display());
    let adopt = [
        "adopt",
        "sftp://rented.example/hedge",
        "--server-version",
        "1.0",
    ];
    let more = [
        "--family",
        "hedge.family.toml",
        "--name",
        "rented",
        "--through",
        &through,
    ];
    world.ok(&[&adopt[..], &more].concat());
    let plan = ["plan", "--to", "same", "--server", "rented", "--off", "yew"];
    assert_snapshot!("parked_afar", world.lantern(&plan));
}

#[test]
fn names_that_are_the_load_order_switch_nothing_off() {
    let world = World::empty();
    let order = "[order]\nkind = \"names\"\nfile = \"shrubs/*\"\n\
                 line = '^(?P<at>\\d+)-(?P<name>.+)$'\nwrite = \"{at}-{name}\"\n";
    let more = [order, hedge::CONSOLE].concat();
    world.write("hedge/hedge.sh", hedge::SERVER);
    world.write(
        "hedge/shrubs/10-box/shrub.toml",
        "id = 'box'\nversion = '1.0'\n",
    );
    world.write(
        "hedge/shrubs/20-yew.off/shrub.toml",
        "id = 'yew'\nversion = '1.0'\n",
    );
    let family = |shrubs: &str| world.write("hedge.family.toml", hedge::family(shrubs, &more));
    family(hedge::FOLDERS);
    hedge::adopt(&world);
    assert_snapshot!("names_off", plan(&world, &["--off", "box"]));
    // What is off by its name keeps its turn in it.
    family(&[hedge::FOLDERS, "off = \"{name}.off\"\n"].concat());
    assert_snapshot!(
        "names_parked",
        plan(&world, &["--off", "box", "--on", "yew"])
    );
}

/// A list of what does not run: all else that lies there does.
const OFF: &str = r#"
[order]
kind = "list"
lists = "off"
file = "off.json"
line = '"resting":\s*\[(?P<list>[^\]]*)\]'
spans = true
write = '"{id}"'
"#;

/// Starts what its list of what rests does not name.
const AWAKE: &str = "for shrub in shrubs/*/; do name=${shrub#*/}; name=${name%/}\n\
                     grep -q \"\\\"$name\\\"\" off.json 2>/dev/null || echo \"hedge: $name\"; done\n\
                     echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

#[test]
fn a_list_may_name_what_does_not_run() {
    let world = World::empty();
    let more = [OFF, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(hedge::FOLDERS, &more));
    world.write("hedge/hedge.sh", AWAKE);
    let resting = |ids: &str| format!("{{\n  \"resting\": [{ids}],\n  \"rows\": 3\n}}\n");
    world.write("hedge/off.json", resting("\"fern\", \"sedge\""));
    for (id, more) in [
        ("box", ""),
        ("yew", "needs = { box = '*' }\n"),
        ("fern", "needs = { moss = '*' }\n"),
    ] {
        let text = format!("id = '{id}'\nversion = '1.0'\n{more}");
        world.write(&format!("hedge/shrubs/{id}/shrub.toml"), text);
    }
    hedge::adopt(&world);
    let on_hedge = |args: &[&str]| world.lantern(&[args, &["--server", "hedge"]].concat());
    let told = [on_hedge(&["survey"]), on_hedge(&["order"])];
    assert_snapshot!("resting_survey", told.join("\n"));
    let holly = "id = 'holly'\nversion = '2.0'\n";
    world.zip("drop/holly.zip", &[("holly/shrub.toml", holly)]);
    let moss = "id = 'moss'\nversion = '1.0'\n";
    world.zip("drop/moss.zip", &[("moss/shrub.toml", moss)]);
    let switch = [
        "--from", "drop", "--add", "holly", "--off", "yew", "--on", "fern",
    ];
    assert_snapshot!("resting_switched", plan(&world, &switch));
    let told = world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert!(told.contains("4 of 4 components are loaded"), "{told}");
    assert_eq!(world.read("hedge/off.json"), resting("\"sedge\", \"yew\""));
    world.ok(&["undo", "--keep-world", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/off.json"), resting("\"fern\", \"sedge\""));
    // Of two servers on it, one is told not to run what comes for the other, and both are started anew.
    let settings = world.read("hedge/lantern.toml");
    let servers = "\n[[server]]\nname = \"north\"\n\n[[server]]\nname = \"south\"\n\
                   instead = { \"hedge.sh\" = \"south.sh\", \"off.json\" = \"south.json\" }\n";
    world.write("hedge/south.sh", AWAKE.replace("off.json", "south.json"));
    world.write("hedge/south.json", resting("\"fern\""));
    world.write("hedge/lantern.toml", settings.clone() + servers);
    let for_north = ["--from", "drop", "--add", "holly", "--of", "north"];
    assert_snapshot!("resting_for_one", plan(&world, &for_north));
    world.write("hedge/lantern.toml", settings);
    // Without the file, all of them run, and there is no place to say that one does not.
    std::fs::remove_file(world.path("hedge/off.json")).unwrap();
    let told = [
        plan(&world, &["--off", "yew", "--drop", "fern"]),
        on_hedge(&["survey"]),
    ];
    assert_snapshot!("resting_nowhere", told.join("\n"));
}

/// Starts each of its shrubs that does not say that it rests.
const TOLD: &str = "for shrub in shrubs/*/; do name=${shrub#*/}; name=${name%/}\n\
                    grep -q '^awake = false' shrubs/$name/shrub.toml || echo \"hedge: $name\"; done\n\
                    echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

#[test]
fn an_add_on_may_say_itself_whether_it_runs() {
    let world = World::empty();
    let switch = "switch = { file = \"shrub.toml\", key = \"awake\" }\n";
    let shrubs = [hedge::FOLDERS, switch].concat();
    world.write("hedge.family.toml", hedge::family(&shrubs, hedge::CONSOLE));
    world.write("hedge/hedge.sh", TOLD);
    for (id, more) in [
        ("box", "# what it is cut to\nheight = 3\n"),
        ("yew", "awake = true # all year\n[needs]\nbox = '*'\n"),
        ("fern", "awake = false\n[needs]\nmoss = '*'\n"),
    ] {
        let text = format!("id = '{id}'\nversion = '1.0'\n{more}");
        world.write(&format!("hedge/shrubs/{id}/shrub.toml"), text);
    }
    hedge::adopt(&world);
    let on_hedge = |args: &[&str]| world.lantern(&[args, &["--server", "hedge"]].concat());
    let check = ["family", "check", "hedge.family.toml", "--on", "hedge"];
    let told = [on_hedge(&["survey"]), world.lantern(&check)];
    assert_snapshot!("own_word_survey", told.join("\n"));
    // What is off stays off with its next release, and what comes new runs, whatever their releases say.
    for (id, more) in [
        ("fern", "awake = true\nneeds = { moss = '*' }\n"),
        ("holly", "awake = false\n"),
    ] {
        let text = format!("id = '{id}'\nversion = '2.0'\n{more}");
        world.zip(
            &format!("drop/{id}.zip"),
            &[(&format!("{id}/shrub.toml"), &text)],
        );
    }
    world.ok(&["console", "start", "--server", "hedge"]);
    let switch = [
        "--from", "drop", "--add", "holly", "--off", "yew", "--off", "box",
    ];
    assert_snapshot!("own_word_switched", plan(&world, &switch));
    let changeover = ["changeover", "--yes", "--server", "hedge"];
    let told = world.ok(&changeover);
    assert!(told.contains("1 of 1 components are loaded"), "{told}");
    let text = |id: &str| world.read(&format!("hedge/shrubs/{id}/shrub.toml"));
    let texts = ["box", "yew", "fern", "holly"].map(text);
    assert_snapshot!("own_word_texts", texts.join("\n"));
    assert_snapshot!("own_word_after", on_hedge(&["survey"]));
    assert_snapshot!("own_word_needs", plan(&world, &["--on", "fern"]));
    assert_snapshot!("own_word_on", plan(&world, &["--on", "yew", "--on", "box"]));
    let told = world.ok(&changeover);
    assert!(told.contains("3 of 3 components are loaded"), "{told}");
    assert!(text("yew").contains("awake = true # all year\n"));
    world.ok(&["undo", "--keep-world", "--yes", "--server", "hedge"]);
    assert_eq!(["box", "yew", "fern", "holly"].map(text), texts);
    // By hand it is switched as well.
    world.edit("hedge/shrubs/fern/shrub.toml", "false", "true");
    let moss = "id = 'moss'\nversion = '1.0'\n";
    world.zip("drop/moss.zip", &[("moss/shrub.toml", moss)]);
    let fern = "id = 'fern'\nversion = '3.0'\nawake = false\nneeds = { moss = '*' }\n";
    world.zip("drop/fern.zip", &[("fern/shrub.toml", fern)]);
    let told = [
        on_hedge(&["survey"]),
        plan(&world, &["--from", "drop"]),
        plan(&world, &["--from", "drop", "--off", "fern"]),
    ];
    assert_snapshot!("own_word_by_hand", told.join("\n"));
    world.ok(&changeover);
    assert!(text("fern").contains("'3.0'\nawake = false"));
    world.ok(&["console", "stop", "--server", "hedge"]);
    // A file that is not there can say nothing.
    std::fs::remove_file(world.path("hedge/shrubs/box/shrub.toml")).unwrap();
    world.edit(
        "hedge.family.toml",
        "shape = \"folder\"",
        "shape = \"folder\"\nmarks = [\"**\"]",
    );
    world.write("hedge/shrubs/box/leaf.txt", "green\n");
    assert_snapshot!("own_word_nowhere", plan(&world, &["--off", "box"]));
}

#[test]
fn a_load_order_that_names_versions_names_the_new_ones() {
    let world = beds();
    let order = ORDER.replace("[a-z]+)'", r"[a-z]+)( (?P<version>[\d.*]+))?'");
    let order = order.replace("\"plant {id}\"", "\"plant {id} {version}\"");
    let family = hedge::family(hedge::FOLDERS, &[order.as_str(), hedge::CONSOLE].concat());
    world.write("hedge.family.toml", family);
    // A bed for another version than what lies there stays empty.
    let server = SERVER.replacen(
        "sed -n 's/^plant \\([a-z]*\\).*/hedge: \\1/p' beds.txt\n",
        "while read -r word id version rest; do case $word in plant)\n\
         case $version in [0-9]*) grep -q \"version = '$version'\" shrubs/$id/shrub.toml || continue; esac\n\
         echo \"hedge: $id\"; esac; done < beds.txt\n",
        1,
    );
    world.write("hedge/hedge.sh", server);
    world.write("hedge/beds.txt", "plant box 1.0 deep\nplant yew 0.9\n");
    world.ok(&["console", "start", "--server", "hedge"]);
    let survey = ["survey", "--server", "hedge"];
    assert_snapshot!("versions_named_survey", world.lantern(&survey));
    for (id, version) in [("box", "1.1"), ("moss", "1.0")] {
        let text = format!("id = '{id}'\nversion = '{version}'\n");
        let name = format!("{id}/shrub.toml");
        world.zip(&format!("drop/{id}.zip"), &[(&name, &text)]);
    }
    let more = ["--from", "drop", "--add", "moss", "--drop", "fern"];
    assert_snapshot!("versions_named", plan(&world, &more));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(
        world.read("hedge/beds.txt"),
        "plant box 1.1 deep\nplant yew 1.0\nplant moss 1.0\n"
    );
    let verified = world.ok(&["verify", "--server", "hedge"]);
    assert!(verified.contains("3 of 3"), "{verified}");
    world.ok(&["undo", "--keep-world", "--yes", "--server", "hedge"]);
    assert_eq!(
        world.read("hedge/beds.txt"),
        "plant box 1.0 deep\nplant yew 0.9\n"
    );
    world.ok(&["console", "stop", "--server", "hedge"]);
}
