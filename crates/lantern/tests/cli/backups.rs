//! Backups: made, listed, checked, restored, thinned out, and broken on purpose.

use crate::world::{CHANGEOVER, PLAN, UNDO, World};
use insta::assert_snapshot;
use regex::Regex;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

fn backup(world: &World, words: &[&str]) -> String {
    world.lantern(&[&["backup"], words, &["--server", "halcyon-terrace"]].concat())
}

fn packs(world: &World, extension: &str) -> Vec<PathBuf> {
    let folder = world.path("halcyon-terrace/.lantern/store/packs");
    let paths = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path());
    let mut paths: Vec<PathBuf> = paths
        .filter(|path| path.extension().is_some_and(|e| e == extension))
        .collect();
    paths.sort();
    paths
}

/// What a list of files takes in the store differs from run to run with the times on it.
pub fn growth_hidden(told: &str) -> String {
    let growth = Regex::new(r"(the store grew by |MB  )[\d.]+ (?:bytes|KB)\b").unwrap();
    growth.replace_all(told, "${1}SIZE").into_owned()
}

/// The names of all backups, the oldest first.
fn names(world: &World) -> Vec<String> {
    let told = world.ok(&["backup", "list", "--json", "--server", "halcyon-terrace"]);
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    let backups = told["backups"].as_array().unwrap().iter();
    backups
        .map(|backup| backup["name"].as_str().unwrap().to_owned())
        .collect()
}

#[test]
fn what_is_backed_up_comes_back() {
    let world = World::adopted();
    let mode = |path: &str| fs::metadata(world.path(path)).unwrap().permissions().mode() & 0o777;
    fs::set_permissions(
        world.path("halcyon-terrace/start.sh"),
        fs::Permissions::from_mode(0o750),
    )
    .unwrap();
    assert_snapshot!("backup_list_none", backup(&world, &["list"]));
    assert_snapshot!(
        "backup_make",
        backup(&world, &["make", "--note", "before the party"])
    );
    let again = backup(&world, &["make", "--kept"]);
    assert_snapshot!("backup_make_again", growth_hidden(&again));
    // How wide the column of what differs from run to run is, differs, too.
    let list = growth_hidden(&backup(&world, &["list"]));
    let blanks = regex::Regex::new("  +").unwrap();
    assert_snapshot!("backup_list", blanks.replace_all(&list, "  "));
    let first = names(&world)[0].clone();
    assert_snapshot!("backup_show", backup(&world, &["show", &first]));
    assert_snapshot!("backup_show_nobody", backup(&world, &["show", "last-year"]));
    assert_snapshot!(
        "backup_restore",
        backup(&world, &["restore", &first, "--to", "out"])
    );
    assert_eq!(world.tree("halcyon-terrace"), world.tree("out"));
    assert_eq!(mode("out/start.sh"), 0o750);
    assert_snapshot!(
        "backup_restore_again",
        backup(&world, &["restore", &first, "--to", "out"])
    );
    assert_snapshot!(
        "backup_restore_part",
        backup(
            &world,
            &[
                "restore",
                &first,
                "worlds",
                "players/oro.toml",
                "--to",
                "part"
            ]
        )
    );
    assert_eq!(world.read("part/worlds/orbit-garden/days"), "211\n");
    assert!(!world.path("part/players/ilva.toml").exists());
    assert_snapshot!(
        "backup_restore_nothing",
        backup(&world, &["restore", &first, "moon", "--to", "moon"])
    );
    assert_snapshot!(
        "backup_restore_climbs",
        backup(&world, &["restore", &first, "../up", "--to", "up"])
    );
    assert_snapshot!("backup_check", backup(&world, &["check"]));
}

#[test]
fn a_change_in_one_block_stores_little() {
    let world = World::adopted();
    world.ok(&["backup", "make", "--kept", "--server", "halcyon-terrace"]);
    let soil = "halcyon-terrace/worlds/orbit-garden/soil.bin";
    let mut bytes = fs::read(world.path(soil)).unwrap();
    bytes[1_000_000..1_004_096].fill(7);
    world.write(soil, &bytes);
    let told = world.ok(&[
        "backup",
        "make",
        "--kept",
        "--json",
        "--server",
        "halcyon-terrace",
    ]);
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    let stored = told["stored_bytes"].as_u64().unwrap();
    assert!(stored > 500 && stored < 4 * 4096 + 64_000, "{stored}");
    let name = names(&world).pop().unwrap();
    world.ok(&[
        "backup",
        "restore",
        &name,
        "--to",
        "out",
        "--server",
        "halcyon-terrace",
    ]);
    assert!(fs::read(world.path("out/worlds/orbit-garden/soil.bin")).unwrap() == bytes);
}

#[test]
fn thinning_gives_back_what_nobody_needs() {
    let world = World::adopted();
    for day in 0..4 {
        let beds: String = (0..3000)
            .map(|n| format!("bed {day} {}\n", n * (day + 7)))
            .collect();
        world.write(
            &format!("halcyon-terrace/worlds/orbit-garden/beds-{day}"),
            beds,
        );
        world.ok(&["backup", "make", "--kept", "--server", "halcyon-terrace"]);
        fs::remove_file(world.path(&format!("halcyon-terrace/worlds/orbit-garden/beds-{day}")))
            .unwrap();
    }
    // A changeover's own backup stays as long as an undo may need it.
    world.ok(crate::world::PLAN);
    world.ok(crate::world::CHANGEOVER);
    world.ok(&["backup", "make", "--kept", "--server", "halcyon-terrace"]);
    let before = names(&world);
    assert_eq!(before.len(), 6);
    let told = world.ok(&[
        "backup",
        "thin",
        "--keep",
        "1",
        "--yes",
        "--json",
        "--server",
        "halcyon-terrace",
    ]);
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    assert_eq!(told["gone"].as_array().unwrap().len(), 4);
    assert!(told["bytes"].as_u64().unwrap() > 5_000, "{told}");
    assert_eq!(names(&world), before[4..]);
    assert!(backup(&world, &["check"]).contains("exit status 0"));
    for (number, name) in names(&world).iter().enumerate() {
        let to = format!("out-{number}");
        world.ok(&[
            "backup",
            "restore",
            name,
            "--to",
            &to,
            "--server",
            "halcyon-terrace",
        ]);
    }
    world.ok(&["undo", "--with-world", "--server", "halcyon-terrace"]);
}

/// All that the store takes on the disk, in bytes.
fn store_bytes(world: &World) -> u64 {
    let files = walkdir::WalkDir::new(world.path("halcyon-terrace/.lantern/store")).into_iter();
    let sizes = files.filter_map(|entry| entry.ok()?.metadata().ok());
    sizes
        .filter(|meta| meta.is_file())
        .map(|meta| meta.len())
        .sum()
}

fn stored_bytes(told: &str) -> u64 {
    let told: serde_json::Value = serde_json::from_str(told).unwrap();
    told["stored_bytes"].as_u64().unwrap()
}

#[test]
fn what_backups_have_in_common_is_there_once_and_growth_is_said_whole() {
    let world = World::adopted();
    let large: Vec<u8> = (0..2_000_000u32)
        .flat_map(|n| (n.wrapping_mul(2_654_435_761) >> 13).to_le_bytes())
        .collect();
    let soil = "halcyon-terrace/worlds/orbit-garden/soil";
    fs::write(world.path(soil), &large).unwrap();
    for number in 0..300 {
        world.write(
            &format!("halcyon-terrace/worlds/orbit-garden/plots/{number}"),
            format!("{number}\n"),
        );
    }
    let make = &[
        "backup",
        "make",
        "--kept",
        "--json",
        "--server",
        "halcyon-terrace",
    ];
    let before = store_bytes(&world);
    let first = stored_bytes(&world.ok(make));
    assert_eq!(first, store_bytes(&world) - before);
    assert!(first > large.len() as u64, "{first}");
    // One byte changes in eight million, of two thousand pieces in three hundred files.
    let mut changed = large;
    changed[4_000_000] ^= 1;
    fs::write(world.path(soil), &changed).unwrap();
    let before = store_bytes(&world);
    let second = stored_bytes(&world.ok(make));
    assert_eq!(second, store_bytes(&world) - before);
    assert!(second < 150_000, "{second}");
    // Nothing changes: a page and nothing else.
    let third = stored_bytes(&world.ok(make));
    assert!(third < 1_000, "{third}");
    // Both can be put back, and a pack that no index speaks of is taken away.
    let orphan = world.path("halcyon-terrace/.lantern/store/packs/900.pack");
    fs::write(&orphan, "left behind").unwrap();
    assert!(backup(&world, &["check"]).contains("intact"));
    assert!(!orphan.exists());
    let restored = |name: &str, to: &str| {
        backup(&world, &["restore", name, "--to", to]);
        fs::read(world.path(to).join("worlds/orbit-garden/soil")).unwrap()
    };
    let all = names(&world);
    assert!(restored(&all[2], "out") == changed);
    assert!(restored(&all[0], "older")[4_000_000] == changed[4_000_000] ^ 1);
    // Thinned out, what only the older ones held is gone, and the last is whole.
    backup(&world, &["thin", "--keep", "1", "--yes"]);
    assert!(backup(&world, &["check"]).contains("intact"));
    assert!(restored(&all[2], "last") == changed);
}

/// Writes a backup's page as format 2 had it: with the list of files in it, and each with all its pieces.
fn as_format_2(world: &World, name: &str) {
    let path = format!("halcyon-terrace/.lantern/store/backups/{name}.json");
    let mut page: serde_json::Value = serde_json::from_str(&world.read(&path)).unwrap();
    let server = lantern_host::config::Server::open(&world.path("halcyon-terrace")).unwrap();
    let files: Vec<serde_json::Value> = lantern_host::backup::manifest(&server, name)
        .unwrap()
        .files
        .iter()
        .map(|file| serde_json::to_value(file).unwrap())
        .collect();
    assert!(
        files.iter().all(|file| file.get("depth").is_none()),
        "none is so large here"
    );
    page["format"] = 2.into();
    page["files"] = files.into();
    page.as_object_mut()
        .unwrap()
        .retain(|key, _| !["list", "bytes", "number"].contains(&key.as_str()));
    world.write(&path, page.to_string());
}

#[test]
fn pages_of_an_earlier_format_are_read_and_brought_forward() {
    let world = World::adopted();
    fs::remove_file(world.path("halcyon-terrace/worlds/orbit-garden/soil.bin")).unwrap();
    fs::write(
        world.path("halcyon-terrace/worlds/orbit-garden/soil"),
        "x".repeat(9_000),
    )
    .unwrap();
    backup(&world, &["make", "--kept"]);
    let old = names(&world)[0].clone();
    as_format_2(&world, &old);
    let list = backup(&world, &["list"]);
    assert!(list.contains("5      9.1 KB"), "{list}");
    assert!(backup(&world, &["check"]).contains("intact"));
    assert!(backup(&world, &["restore", &old, "--to", "out"]).contains("exit status 0"));
    // The next backup reads nothing again, and writes the page anew.
    let told = world.ok(&[
        "backup",
        "make",
        "--kept",
        "--json",
        "--server",
        "halcyon-terrace",
    ]);
    assert!(stored_bytes(&told) < 2_000, "{told}");
    let page = world.read(&format!(
        "halcyon-terrace/.lantern/store/backups/{old}.json"
    ));
    assert!(
        page.contains("\"format\":4") && page.contains("\"files\":5"),
        "{page}"
    );
    assert!(backup(&world, &["check"]).contains("intact"));
    assert!(backup(&world, &["restore", &old, "--to", "again"]).contains("exit status 0"));
    assert_eq!(world.tree("out"), world.tree("again"));
}

#[test]
fn a_clock_that_is_set_back_makes_no_backup_an_older_one() {
    let world = World::adopted();
    world.ok(&["backup", "make", "--kept", "--server", "halcyon-terrace"]);
    let first = world.only_backup("halcyon-terrace");
    // Its day is far ahead of the next one's.
    let page = format!("halcyon-terrace/.lantern/store/backups/{first}.json");
    let text = world.read(&page).replace("\"made_ms\":1", "\"made_ms\":9");
    world.write(&page, text);
    world.write("halcyon-terrace/worlds/orbit-garden/days", "9000\n");
    world.ok(&["backup", "make", "--kept", "--server", "halcyon-terrace"]);
    backup(&world, &["thin", "--keep", "1", "--yes"]);
    let left = world.only_backup("halcyon-terrace");
    assert_ne!(left, first);
    backup(&world, &["restore", &left, "--to", "out"]);
    assert_eq!(world.read("out/worlds/orbit-garden/days"), "9000\n");
}

#[test]
fn what_is_broken_is_named_and_all_else_restores() {
    let flip = |path: &PathBuf, at: usize| {
        let mut bytes = fs::read(path).unwrap();
        bytes[at] ^= 1;
        fs::write(path, bytes).unwrap();
    };
    let made = || {
        let world = World::adopted();
        world.ok(&["backup", "make", "--kept", "--server", "halcyon-terrace"]);
        world
    };
    let restored = |world: &World| {
        let name = names(world).pop().unwrap();
        backup(world, &["restore", &name, "--to", "out"])
    };
    // One bit, in the middle of the large file.
    let world = made();
    flip(&packs(&world, "pack")[0], 1_000_000);
    // The names of packs are drawn.
    let drawn = Regex::new(r"\b[0-9a-f]{32}\b").unwrap();
    let plain = |told: &str| drawn.replace_all(told, "PACK").into_owned();
    assert_snapshot!("backup_bit_check", plain(&backup(&world, &["check"])));
    assert_snapshot!("backup_bit_restore", plain(&restored(&world)));
    assert_eq!(world.read("out/players/oro.toml"), "beds = 3\n");
    // A pack is gone.
    let world = made();
    fs::remove_file(&packs(&world, "pack")[0]).unwrap();
    assert!(backup(&world, &["check"]).contains("exit status 3"));
    // An index is cut: what it told of is stored again by the next backup, and that one is whole.
    let world = made();
    let index = &packs(&world, "index")[0];
    let bytes = fs::read(index).unwrap();
    fs::write(index, &bytes[..bytes.len() / 2]).unwrap();
    let told = backup(&world, &["check"]);
    assert!(
        told.contains("cut off or damaged") && told.contains("a piece of it is lost"),
        "{told}"
    );
    world.ok(&["backup", "make", "--kept", "--server", "halcyon-terrace"]);
    assert!(restored(&world).contains("exit status 0"));
    // A page is cut: the others are listed, and nothing is thinned out while it is unknown what it needs.
    let world = made();
    let page = world.path(&format!(
        "halcyon-terrace/.lantern/store/backups/{}.json",
        names(&world)[0]
    ));
    let newer = fs::read_to_string(&page)
        .unwrap()
        .replace("\"format\":4", "\"format\":5");
    fs::write(&page, newer).unwrap();
    assert!(backup(&world, &["list"]).contains("it is of format 5"));
    fs::write(page, "{\"format\": 4").unwrap();
    assert!(backup(&world, &["list"]).contains("wrong"));
    let told = backup(&world, &["thin", "--keep", "0", "--yes"]);
    assert!(
        told.contains("exit status 1") && told.contains("cannot be read"),
        "{told}"
    );
}

#[test]
fn a_backup_goes_back_where_it_came_from() {
    let world = World::adopted();
    backup(&world, &["make"]);
    let whole = world.tree("halcyon-terrace");
    let name = names(&world)[0].clone();
    assert_snapshot!(
        "in_place_same",
        backup(&world, &["restore", &name, "--in-place"])
    );
    world.write("halcyon-terrace/worlds/orbit-garden/days", "9000\n");
    world.write(
        "halcyon-terrace/worlds/orbit-garden/new-bed",
        "planted later",
    );
    world.write("halcyon-terrace/addons/stray.txt", "not in the backup");
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    let up = backup(&world, &["restore", &name, "--in-place"]);
    assert_snapshot!("in_place_up", up);
    world.ok(&["console", "stop", "--server", "halcyon-terrace"]);
    assert_snapshot!(
        "in_place_part",
        backup(&world, &["restore", &name, "worlds", "--in-place"])
    );
    let aside = world.aside("halcyon-terrace", "0001");
    assert_eq!(
        world.read(&format!("{aside}/worlds/orbit-garden/new-bed")),
        "planted later"
    );
    assert_eq!(
        world.read("halcyon-terrace/worlds/orbit-garden/days"),
        "211\n"
    );
    assert!(world.path("halcyon-terrace/addons/stray.txt").exists());
    assert_snapshot!(
        "in_place_all",
        backup(&world, &["restore", &name, "--in-place"])
    );
    assert_eq!(whole, world.tree("halcyon-terrace"));
    assert_snapshot!(
        "in_place_history",
        world.lantern(&["history", "--server", "halcyon-terrace"])
    );
    // What is damaged in the store is not put anywhere.
    world.write("halcyon-terrace/players/oro.toml", "written since");
    for pack in packs(&world, "pack") {
        let mut content = fs::read(&pack).unwrap();
        content.iter_mut().for_each(|byte| *byte ^= 1);
        fs::write(&pack, content).unwrap();
    }
    let before = world.tree("halcyon-terrace");
    assert!(backup(&world, &["restore", &name, "--in-place"]).contains("exit status 1"));
    assert_eq!(before, world.tree("halcyon-terrace"));
    assert!(
        world
            .lantern(&["survey", "--server", "halcyon-terrace"])
            .contains("halcyon 5.1.0")
    );
}

#[test]
fn a_restore_is_taken_back() {
    let world = World::adopted();
    backup(&world, &["make"]);
    let name = names(&world)[0].clone();
    let undo = |how: &str| world.lantern(&[UNDO, &[how][..]].concat());
    let bed = "halcyon-terrace/worlds/orbit-garden/new-bed";
    let days = "halcyon-terrace/worlds/orbit-garden/days";
    world.write(days, "9000\n");
    world.write(bed, "planted later");
    world.write("halcyon-terrace/addons/stray.txt", "not in the backup");
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 25",
    );
    let before = world.tree("halcyon-terrace");
    let restore = &["restore", &name, "--in-place"];
    backup(&world, restore);
    let restored = world.tree("halcyon-terrace");
    assert_ne!(before, restored);
    assert_snapshot!("restore_taken_back", world.lantern(UNDO));
    assert_eq!(before, world.tree("halcyon-terrace"));
    assert!(world.lantern(UNDO).contains("nothing to undo"));
    // Played on since.
    backup(&world, restore);
    let flowers = "halcyon-terrace/worlds/orbit-garden/soil.bin";
    let soil = fs::read(world.path(flowers)).unwrap();
    world.write(days, "212\n");
    world.write(flowers, "dug over");
    world.write("halcyon-terrace/worlds/orbit-garden/pond", "dug since");
    assert_snapshot!("restore_used", world.lantern(UNDO));
    assert_snapshot!("restore_undone_with_world", undo("--with-world"));
    assert_eq!(before, world.tree("halcyon-terrace"));
    assert_eq!(soil, fs::read(world.path(flowers)).unwrap());
    // The world as it is now is to stay, all else not.
    backup(&world, restore);
    world.write(days, "212\n");
    assert_snapshot!("restore_undone_keep_world", undo("--keep-world"));
    assert_eq!(world.read(days), "212\n");
    assert!(!world.path(bed).exists());
    assert!(world.path("halcyon-terrace/addons/stray.txt").exists());
    assert!(
        world
            .read("halcyon-terrace/greenhouse.conf")
            .contains("seats = 25")
    );
    assert_snapshot!(
        "restore_history",
        world.lantern(&["history", "--server", "halcyon-terrace"])
    );
}

#[test]
fn a_changeover_and_a_restore_after_it_are_taken_back_in_turn() {
    let world = World::running();
    world.ok(PLAN);
    let old = world.read("halcyon-terrace/start.sh");
    world.ok(CHANGEOVER);
    let name = names(&world)[0].clone();
    world.ok(&["console", "stop", "--server", "halcyon-terrace"]);
    backup(&world, &["restore", &name, "worlds", "--in-place"]);
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    world.ok(&[UNDO, &["--with-world"][..]].concat());
    assert_ne!(old, world.read("halcyon-terrace/start.sh"));
    world.ok(&[UNDO, &["--keep-world"][..]].concat());
    assert_eq!(old, world.read("halcyon-terrace/start.sh"));
    assert!(
        world
            .lantern(&["console", "state", "--server", "halcyon-terrace"])
            .contains("is up")
    );
}

#[test]
fn backups_on_another_disk() {
    let world = World::adopted();
    let settings = world.read("halcyon-terrace/lantern.toml");
    let at = |store: &str| {
        let text = format!("{settings}\n[backup]\nstore = \"{store}\"\n");
        world.write("halcyon-terrace/lantern.toml", text);
    };
    at("../disk");
    world.ok(PLAN);
    assert_snapshot!("store_not_mounted", world.lantern(CHANGEOVER));
    fs::create_dir(world.path("disk")).unwrap();
    assert!(world.lantern(CHANGEOVER).contains("exit status 0"));
    let inside = fs::read_dir(world.path("disk")).unwrap().map(|entry| {
        let name = entry.unwrap().file_name().into_string().unwrap();
        name.starts_with("halcyon-terrace-")
    });
    assert_eq!(inside.collect::<Vec<_>>(), [true]);
    assert!(!world.path("halcyon-terrace/.lantern/store").exists());
    assert!(
        world
            .lantern(&[UNDO, &["--with-world"]].concat())
            .contains("exit status 0")
    );
    assert!(backup(&world, &["check"]).contains("exit status 0"));
    at("worlds");
    assert!(backup(&world, &["list"]).contains("lies in the server folder itself"));
}

#[test]
fn a_backup_can_be_unpacked_without_lantern() {
    let zstd = std::process::Command::new("zstd").arg("--version").output();
    if zstd.is_err() {
        assert!(std::env::var_os("CI").is_none(), "CI has to have zstd");
        eprintln!("not run, as the program zstd is missing; scripts/test installs it");
        return;
    }
    let world = World::adopted();
    // Something that packs well, something that does not, and something empty.
    let garden = "halcyon-terrace/worlds/orbit-garden";
    world.write(
        &format!("{garden}/rows"),
        "carrots and peas\n".repeat(9_000),
    );
    world.write(&format!("{garden}/empty"), "");
    fs::create_dir(world.path(&format!("{garden}/none"))).unwrap();
    std::os::unix::fs::symlink("rows", world.path(&format!("{garden}/latest"))).unwrap();
    backup(&world, &["make"]);
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../scripts/unpack-backup");
    let unpack = |name: &str| {
        let mut command = std::process::Command::new("python3");
        command
            .arg(&script)
            .arg(world.path("halcyon-terrace/.lantern/store"));
        command.arg(name).arg(world.path("out")).output().unwrap()
    };
    let done = unpack(&names(&world)[0]);
    assert!(done.status.success(), "{done:?}");
    assert_eq!(world.tree("halcyon-terrace"), world.tree("out"));
    assert!(world.path("out/worlds/orbit-garden/none").is_dir());
    let latest = fs::read_link(world.path("out/worlds/orbit-garden/latest"));
    assert_eq!(latest.unwrap().to_str(), Some("rows"));
    assert!(!unpack("last-year").status.success());
}
