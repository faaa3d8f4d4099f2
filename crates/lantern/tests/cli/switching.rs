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
fn what_cannot_be_switched_is_told() {
    let world = beds();
    let told = [
        plan(&world, &["--on", "yw"]),
        plan(&world, &["--off", "yew", "--on", "yew"]),
        plan(&world, &["--off", "hedge"]),
    ];
    assert_snapshot!("cannot_be_switched", told.join("\n"));
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
