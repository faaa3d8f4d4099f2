//! Servers whose settings name the hash of a file that players fetch.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;
use std::process::Command;

const NAMED: &str = r#"
[[flag]]
name = "sum of the ivy"
file = "hedge.ini"
line = '^ivy-sum = (?P<value>\S*)$'
follows = { hash = { kind = "sha1", of = "shrubs/ivy*.zip" } }

[[flag]]
name = "sum of the map"
file = "hedge.ini"
line = '^map-sum = (?P<value>\S*)$'
follows = { hash = { kind = "md5", of = "garden/map.bin" } }
yes = "md5:{}"
"#;

/// What a program that everybody has says of a file.
fn sum(world: &World, program: &str, path: &str) -> String {
    let path = world.path(path);
    let said = Command::new(program).arg(path).output().unwrap();
    let said = String::from_utf8(said.stdout).unwrap();
    said.split_whitespace().next().unwrap().to_owned()
}

/// A server of one shrub, with settings that name no sums yet.
fn hedge(shrubs: &str, named: &str) -> World {
    let world = World::empty();
    let more = [named, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(shrubs, &more));
    let server = match shrubs == hedge::ARCHIVES {
        true => hedge::SERVER.replace("*/; do name=${shrub%/}", "*.zip; do name=${shrub%.zip}"),
        false => hedge::SERVER.to_owned(),
    };
    world.write("hedge/hedge.sh", server);
    world.write("hedge/garden/map.bin", "paths and ponds");
    world.write("hedge/hedge.ini", "ivy-sum = \nmap-sum = md5:0\nbeds = 4\n");
    world
}

fn ivy(version: &str) -> String {
    format!("id = 'ivy'\nversion = '{version}'\n")
}

#[test]
fn it_follows_the_file() {
    let world = hedge(hedge::ARCHIVES, NAMED);
    let name = "shrub.toml";
    world.zip("hedge/shrubs/ivy.zip", &[(name, &ivy("1.0"))]);
    hedge::adopt(&world);
    let survey = ["survey", "--server", "hedge"];
    let sha1 = sum(&world, "sha1sum", "hedge/shrubs/ivy.zip");
    let found = world.lantern(&survey).replace(&sha1, "SHA1");
    assert_snapshot!("named_hashes_survey", found);
    // What nothing moves is set right, too; capital letters say the same.
    let plan = ["plan", "--to", "same", "--server", "hedge"];
    let changeover = ["changeover", "--yes", "--server", "hedge"];
    world.ok(&plan);
    world.ok(&changeover);
    let ini = world.read("hedge/hedge.ini");
    let now = format!(
        "ivy-sum = {sha1}\nmap-sum = md5:{}\nbeds = 4\n",
        sum(&world, "md5sum", "hedge/garden/map.bin")
    );
    assert_eq!(ini, now);
    let loud = now.replace(&sha1, &sha1.to_uppercase());
    world.write("hedge/hedge.ini", &loud);
    assert!(world.lantern(&survey).contains("0 findings"));
    // It comes in another release.
    world.zip("drop/ivy-1.1.zip", &[(name, &ivy("1.1"))]);
    let from = ["--from", "drop"];
    let planned = world.lantern(&[&plan[..], &from].concat());
    let sum_of_it = sum(&world, "sha1sum", "drop/ivy-1.1.zip");
    let planned = planned.replace(&sha1.to_uppercase(), "IN CAPITALS");
    assert_snapshot!("named_hashes_plan", planned.replace(&sum_of_it, "SHA1"));
    world.ok(&changeover);
    assert_eq!(sum_of_it, sum(&world, "sha1sum", "hedge/shrubs/ivy.zip"));
    assert!(world.read("hedge/hedge.ini").contains(&sum_of_it));
    // What the administrator exchanges is seen; where there are two, nobody knows which is meant.
    world.write("hedge/garden/map.bin", "paths, ponds and a well");
    let found = world.lantern(&survey);
    assert!(found.contains("sum of the map is md5:"), "{found}");
    world.zip("hedge/shrubs/ivy-old.zip", &[(name, &ivy("0.9"))]);
    world.edit("hedge/hedge.ini", &sum_of_it, "0");
    let found = world.lantern(&survey);
    assert!(!found.contains("sum of the ivy"), "{found}");
    // Nor where of many one alone is known, by another setting.
    let any = NAMED.replace("garden/map.bin", "garden/*.bin");
    let any = any.replace("sum of the map", "sum of any");
    let more = [NAMED, &any, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(hedge::ARCHIVES, &more));
    for number in 0..9 {
        world.write(&format!("hedge/garden/{number}.bin"), "weeds");
    }
    let found = world.lantern(&survey);
    assert!(found.contains("sum of the map"), "{found}");
    assert!(!found.contains("sum of any"), "{found}");
    world.ok(&["undo", "--keep-world", "--server", "hedge"]);
    assert_eq!(sum(&world, "sha1sum", "hedge/shrubs/ivy.zip"), sha1);
}

#[test]
fn it_follows_one_file_of_a_folder() {
    let named = NAMED.replace("ivy*.zip", "ivy/leaves.bin");
    let world = hedge(hedge::FOLDERS, &named);
    world.write("hedge/shrubs/ivy/shrub.toml", ivy("1.0"));
    world.write("hedge/shrubs/ivy/leaves.bin", "green");
    hedge::adopt(&world);
    let files = [("ivy/shrub.toml", &*ivy("1.1")), ("ivy/leaves.bin", "red")];
    world.zip("drop/ivy-1.1.zip", &files);
    let plan = ["plan", "--to", "same", "--server", "hedge"];
    world.ok(&[&plan[..], &["--from", "drop"]].concat());
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    let sum = sum(&world, "sha1sum", "hedge/shrubs/ivy/leaves.bin");
    assert!(world.read("hedge/hedge.ini").contains(&sum));
    assert_eq!(world.read("hedge/shrubs/ivy/leaves.bin"), "red");
}
