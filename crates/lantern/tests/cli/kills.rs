//! Real kills at random moments, with the server up, and what becomes of server and files.
//!
//! `LANTERN_KILLS` says how many; `scripts/kills` runs hundreds. The moments follow from a seed that is
//! printed, `LANTERN_SEED`.

use crate::world::{CHANGEOVER, PLAN, SURVEY, World};
use std::thread::sleep;
use std::time::Duration;

/// The server is stopped and started on the way, and writes its world then.
const UNDO: &[&str] = &["undo", "--keep-world", "--server", "halcyon-terrace"];

/// A sequence of numbers that look random and follow from a seed (splitmix64).
pub struct Chance(pub u64);

impl Chance {
    /// The next, below a limit.
    pub fn below(&mut self, limit: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (mixed ^ (mixed >> 31)) % limit
    }
}

/// A number from the environment.
pub fn number(name: &str, otherwise: u64) -> u64 {
    let given = std::env::var(name).ok();
    given
        .and_then(|text| text.parse().ok())
        .unwrap_or(otherwise)
}

/// The files that no server writes.
pub fn still(world: &World) -> String {
    let tree = world.tree("halcyon-terrace");
    let lines = tree.lines().filter(|line| !line.contains("orbit-garden/"));
    lines.collect::<Vec<_>>().join("\n")
}

/// Begins a command and kills it after a while; says whether it was still at it.
pub fn kill_after(world: &World, args: &[&str], ms: u64) -> bool {
    let mut child = world.begin(args);
    sleep(Duration::from_millis(ms));
    let cut_off = child.try_wait().unwrap().is_none();
    child.kill().unwrap();
    child.wait().unwrap();
    cut_off
}

#[test]
fn killed_at_any_moment_nothing_is_lost() {
    let (kills, seed) = (number("LANTERN_KILLS", 12), number("LANTERN_SEED", 7));
    let mut chance = Chance(seed);
    let world = World::running();
    let resume = [
        "changeover",
        "--yes",
        "--resume",
        "--server",
        "halcyon-terrace",
    ];
    let old = still(&world);
    let map = world.read("halcyon-terrace/worlds/orbit-garden/soil.bin");
    world.ok(PLAN);
    world.ok(CHANGEOVER);
    let new = still(&world);
    world.ok(UNDO);
    assert_eq!(old, still(&world));
    let (mut done, mut cut_off, mut on, mut back, mut again) = (0, 0, 0, 0, 0);
    while done < kills {
        let about = format!("seed {seed}, kill {done}");
        world.ok(PLAN);
        let undoing = chance.below(4) == 0;
        if undoing {
            world.ok(CHANGEOVER);
        }
        let first: &[&str] = if undoing { UNDO } else { CHANGEOVER };
        let killed = kill_after(&world, first, chance.below(1100));
        done += 1;
        cut_off += u64::from(killed);
        // Whatever comes next says where things stand.
        let told = world.lantern(SURVEY);
        let waits = told.contains("exit status 5");
        assert!(waits || told.contains("exit status 0"), "{about}: {told}");
        if waits {
            assert!(told.contains("was cut off"), "{about}: {told}");
            let onward = chance.below(2) == 0;
            let recover: &[&str] = if onward { &resume } else { UNDO };
            if chance.below(3) == 0 && kill_after(&world, recover, chance.below(700)) {
                done += 1;
                again += 1;
            }
            if world.lantern(SURVEY).contains("exit status 5") {
                let told = world.lantern(recover);
                let fine = told.contains("exit status 0") || told.contains("exit status 4");
                assert!(fine, "{about}: {told}");
            }
            on += u64::from(onward);
            back += u64::from(!onward);
        }
        let tree = still(&world);
        assert!(
            tree == old || tree == new,
            "{about}: {tree}\n--- old\n{old}\n--- new\n{new}"
        );
        assert!(
            world.read("halcyon-terrace/worlds/orbit-garden/soil.bin") == map,
            "{about}"
        );
        let told = world.lantern(SURVEY);
        assert!(
            told.contains("exit status 0") && told.contains("0 findings"),
            "{about}: {told}"
        );
        // The players are back, whatever happened.
        let state = world.lantern(&["console", "state", "--server", "halcyon-terrace"]);
        assert!(state.contains("is up"), "{about}: {state}");
        if tree == new {
            world.ok(UNDO);
            assert_eq!(old, still(&world), "{about}");
        }
    }
    println!(
        "{done} kills, {cut_off} cut an operation off, {again} its recovery; {on} went on, {back} went back"
    );
    assert!(cut_off > kills / 3, "{cut_off} of {kills}");
}
