//! A small kind of server, for what the made-up scenario has no server for.

use crate::world::World;

/// What is the same for all of its servers.
const HEAD: &str = r#"
format = 1
name = "hedge"
title = "Hedge server"
marks = ["hedge.sh"]
build = { id = "hedge", outside = true }
layout = { keep = ["garden/**", "shrubs/*/kept/**"] }
launch = { command = ["sh", "hedge.sh"] }
"#;

const SHRUB: &str = r#"
[[reader]]
name = "shrub"
kind = "addon"
drop = "*.{zip,tar}"
files = [{ name = "shrub.toml", notation = "toml" }]
fields = { id = "id", version = "version", needs = "needs", server = "server", replaces = "replaces", arguments = "arguments", side = { value = "server" } }
"#;

/// Shrubs that are folders.
pub const FOLDERS: &str = "shape = \"folder\"\nat = \"shrubs/*\"\ninstall = \"shrubs/{id}\"\n";

/// Shrubs that are archives.
pub const ARCHIVES: &str =
    "shape = \"archive\"\nat = \"shrubs/*.zip\"\ninstall = \"shrubs/{id}.zip\"\n";

/// A console that is typed into.
pub const CONSOLE: &str = r#"
[console]
ready = '^hedge: open'
loaded = '^hedge: (?P<id>[a-z]+)$'
stop = { command = "close" }
"#;

/// Starts its shrubs by name, and stops when it is told to.
pub const SERVER: &str = "for shrub in shrubs/*/; do name=${shrub%/}; echo \"hedge: ${name##*[-/]}\"; done\n\
                          echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

/// The family file, by what its shrubs are made of and by all else that it says.
pub fn family(shrubs: &str, more: &str) -> String {
    format!("{HEAD}{SHRUB}{shrubs}{more}")
}

/// The family file of one with other readers.
pub fn family_of(readers: &str, more: &str) -> String {
    format!("{HEAD}{readers}{more}")
}

/// Takes the server into care, with players told nothing before a stop.
pub fn adopt(world: &World) {
    let family = ["--family", "hedge.family.toml"];
    let adopt = ["adopt", "hedge", "--server-version", "1.0"];
    world.ok(&[&adopt[..], &family].concat());
    world.edit("hedge/lantern.toml", "at = [\"10s\"]", "at = []");
}
