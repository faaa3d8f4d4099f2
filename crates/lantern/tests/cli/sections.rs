//! Servers whose settings have sections, and the same words in several of them.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;

const NAMED: &str = r#"
[order]
kind = "flags"
file = "hedge.ini"
within = { from = '^\[shrubs\]', to = '^\[' }
line = '^(?P<id>\w+) = (?P<on>\w+)'
write = "{id} = {on}"
on = "on"
off = "off"
"#;

const SEATS: &str = r#"
[[console.setting]]
name = "seats"
file = "hedge.ini"
key = "net.seats"
says = '^hedge: (?P<value>\d+) seats$'
"#;

const SETTINGS: &str = "[query]\nseats = 900\n\n[net]\nseats = 4\n\n[shrubs]\nbox = on\nyew = on\n\n; as in the old garden\n[rules]\n\
                        rain = on\nyew = on\n";

/// Starts the shrubs of the one section, and says the seats of another.
const SERVER: &str = "sed -n '/^\\[shrubs\\]/,/^\\[rules/s/^\\([a-z]*\\) = on$/hedge: \\1/p' hedge.ini\n\
                      echo \"hedge: $(sed -n '/^\\[net\\]/,/^\\[shrubs/s/^seats = //p' hedge.ini) seats\"\n\
                      echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

#[test]
fn each_section_is_read_and_written_by_itself() {
    let world = World::empty();
    let more = [NAMED, hedge::CONSOLE, SEATS].concat();
    world.write("hedge.family.toml", hedge::family(hedge::FOLDERS, &more));
    world.write("hedge/hedge.sh", SERVER);
    world.write("hedge/hedge.ini", SETTINGS);
    for id in ["box", "yew"] {
        let text = format!("id = '{id}'\nversion = '1.0'\n");
        world.write(&format!("hedge/shrubs/{id}/shrub.toml"), text);
    }
    let check = ["family", "check", "hedge.family.toml", "--on", "hedge"];
    world.edit("hedge/hedge.ini", "[shrubs]", "[shrub]");
    assert_snapshot!("sections_check_without", world.lantern(&check));
    world.edit("hedge/hedge.ini", "[shrub]", "[shrubs]");
    hedge::adopt(&world);
    assert_snapshot!(
        "sections_survey",
        world.lantern(&["survey", "--server", "hedge"])
    );
    let ivy = "id = 'ivy'\nversion = '2.0'\nneeds = { box = '*' }\n";
    world.zip("drop/ivy.zip", &[("ivy/shrub.toml", ivy)]);
    let plan = ["plan", "--to", "same", "--server", "hedge", "--off", "yew"];
    let from = ["--from", "drop", "--add", "ivy"];
    assert_snapshot!("sections_plan", world.lantern(&[&plan[..], &from].concat()));
    let change = ["changeover", "--yes", "--server", "hedge"];
    assert_snapshot!("sections_changeover", world.lantern(&change));
    assert_eq!(
        world.read("hedge/hedge.ini"),
        SETTINGS.replace(
            "box = on\nyew = on\n\n;",
            "box = on\nyew = off\nivy = on\n\n;"
        )
    );
    // The seats of another section are not the ones that are meant.
    world.edit(
        "hedge/hedge.sh",
        "/^\\[net\\]/,/^\\[shrubs/",
        "/^\\[query\\]/,/^\\[net/",
    );
    world.ok(&["plan", "--to", "same", "--server", "hedge", "--on", "yew"]);
    assert_snapshot!("sections_other_seats", world.lantern(&change));
}
