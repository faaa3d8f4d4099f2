//! A server that runs as a user of its own, cared for by root: what comes, and what comes back, is that user's.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::process::Command;

/// A user of whom the system need not know more than the number.
const GARDENER: u32 = 41_526;

/// Becomes the gardener, and cannot start without writing the garden.
const SERVER: &str = "[ \"$(id -u)\" = 0 ] && exec setpriv --reuid 41526 --regid 41526 --clear-groups sh hedge.sh\n\
                      exec 3>>garden/beds.dat || exit 1\n\
                      touch garden/new-$$ && rm garden/new-$$ || exit 1\n\
                      echo 'hedge: ivy'\necho 'hedge: open'\n\
                      while read -r line; do [ \"$line\" = close ] && exit 0; done\n";

/// The server folder, given to the gardener; none where that is not allowed.
fn gardeners() -> Option<World> {
    let world = World::empty();
    world.write(
        "hedge.family.toml",
        hedge::family(hedge::FOLDERS, hedge::CONSOLE),
    );
    world.write("hedge/hedge.sh", SERVER);
    world.write("hedge/garden/beds.dat", "beds");
    world.write("hedge/garden/gate/key", "iron");
    fs::create_dir(world.path("hedge/garden/empty")).unwrap();
    world.write(
        "hedge/shrubs/ivy/shrub.toml",
        "id = 'ivy'\nversion = '1.0'\n",
    );
    let next = "id = 'ivy'\nversion = '2.0'\n";
    world.zip(
        "drop/ivy.zip",
        &[("shrub.toml", next), ("leaves/new.txt", "2")],
    );
    // The test's own folder is nobody else's to pass, and the gardener has to.
    fs::set_permissions(world.path(""), fs::Permissions::from_mode(0o711)).unwrap();
    if chown(world.path("hedge"), Some(GARDENER), Some(GARDENER)).is_err() {
        assert!(
            std::env::var_os("CI").is_none(),
            "nothing can be given away here, and CI has to"
        );
        eprintln!("not run, as nothing can be given away here (needs root)");
        return None;
    }
    let given = Command::new("chown")
        .args(["-R", "41526:41526"])
        .arg(world.path("hedge"))
        .status();
    assert!(given.unwrap().success());
    hedge::adopt(&world);
    Some(world)
}

/// Whose something is, and its rights.
fn whose(world: &World, path: &str) -> String {
    let meta = fs::metadata(world.path(path)).unwrap();
    format!("{}:{} {:o}", meta.uid(), meta.gid(), meta.mode() & 0o7777)
}

#[test]
fn what_comes_is_the_servers_own_and_a_rehearsal_runs_as_it_does() {
    let Some(world) = gardeners() else {
        return;
    };
    world.ok(&["console", "start", "--server", "hedge"]);
    world.ok(&["plan", "--to", "1.0", "--from", "drop", "--server", "hedge"]);
    assert_snapshot!(
        "own_user_rehearsed",
        world.lantern(&["rehearse", "--server", "hedge"])
    );
    // Nobody else can look into lantern's own folder, or pass it any more.
    assert_eq!(whose(&world, "hedge/.lantern"), "0:41526 700");
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    for path in [
        "shrubs/ivy/shrub.toml",
        "shrubs/ivy/leaves",
        "shrubs/ivy/leaves/new.txt",
    ] {
        assert!(
            whose(&world, &format!("hedge/{path}")).starts_with("41526:41526"),
            "{path}"
        );
    }
}

#[test]
fn what_comes_back_from_a_backup_is_as_it_was() {
    let Some(world) = gardeners() else {
        return;
    };
    let key = "hedge/garden/gate/key";
    let set = |code: &str| {
        let done = Command::new("python3")
            .args(["-c", code])
            .arg(world.path(key))
            .status();
        done.unwrap().success()
    };
    fs::set_permissions(world.path(key), fs::Permissions::from_mode(0o640)).unwrap();
    fs::set_permissions(
        world.path("hedge/garden/gate"),
        fs::Permissions::from_mode(0o2750),
    )
    .unwrap();
    assert!(set(
        "import os, sys\nfor at in sys.argv[1], os.path.dirname(sys.argv[1]): os.setxattr(at, 'user.mark', b'oak')"
    ));
    world.ok(&["backup", "make", "--kept", "--server", "hedge"]);
    let name = world.only_backup("hedge");
    fs::remove_dir_all(world.path("hedge/garden")).unwrap();
    world.ok(&[
        "backup", "restore", &name, "--to", "out", "--server", "hedge",
    ]);
    world.ok(&[
        "backup",
        "restore",
        &name,
        "--in-place",
        "--server",
        "hedge",
    ]);
    for at in ["out", "hedge"] {
        let whose = |path: &str| whose(&world, &format!("{at}/garden/{path}"));
        assert_eq!(whose("gate/key"), "41526:41526 640", "{at}");
        assert_eq!(whose("gate"), "41526:41526 2750", "{at}");
        assert_eq!(whose("empty"), "41526:41526 755", "{at}");
    }
    assert!(set(
        "import os, sys\nfor at in sys.argv[1], os.path.dirname(sys.argv[1]): assert os.getxattr(at, 'user.mark') == b'oak'"
    ));
}
