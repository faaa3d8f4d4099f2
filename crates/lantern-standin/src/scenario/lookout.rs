//! `halcyon-lookout`: a server with a bridge that lets other kinds of client in, and a catalogue with the bridge's next releases.

use super::{
    Addon, INSTALLED, OFFERED, addon_release, build_release, framework_release, packed, put, server,
};
use serde_json::json;
use std::io;
use std::path::Path;

const SETTINGS: &str = "\
name = Halcyon Lookout
port = {port}
seats = 16

start glasswork
start mist-pipes
start drip-lines
# lets those in who come with something else than the game
start skylight
start night-watch
listed = modded
";

/// The bridge as it is installed: of one of the kinds that it lets in only it tells.
const OLD: Addon = Addon(
    "skylight",
    "1.4.0",
    "Skylight",
    ">=5.0 <5.4",
    "server",
    "[admits]\nvisor = \">=3.3 <3.6\"\nporthole = \"=2.0\"\n[admits_title]\nporthole = \"Porthole\"\n[admits_has]\nporthole = \"glasswork\"\n",
    30_000,
);

/// Its later releases.
const LATER: &[Addon] = &[
    Addon(
        "skylight",
        "2.0.0",
        "Skylight",
        ">=5.4",
        "server",
        "[admits]\nvisor = \">=3.4 <3.6\"\nporthole = \">=2.0 <3\"\n[admits_title]\nporthole = \"Porthole\"\n[admits_has]\nporthole = \"glasswork\"\n",
        31_000,
    ),
    Addon(
        "skylight",
        "2.1.0",
        "Skylight",
        ">=5.4",
        "server",
        "[needs]\ngnomon = \"^1\"\n[admits]\nvisor = \">=3.4 <3.7\"\nporthole = \">=2.0 <3\"\n[admits_title]\nporthole = \"Porthole\"\n[admits_has]\nporthole = \"glasswork\"\n",
        32_000,
    ),
    Addon(
        "skylight",
        "3.0.0",
        "Skylight",
        ">=5.5",
        "server",
        "[admits]\nvisor = \">=3.6\"\nporthole = \">=2.1\"\n[admits_title]\nporthole = \"Porthole\"\n[admits_has]\nporthole = \"glasswork\"\n",
        33_000,
    ),
];

/// A player's folder: once as the server was, with what else a player comes upon, and some of it lost.
fn player(dir: &Path) -> io::Result<()> {
    let folder = dir.join("ilva");
    for (addons, id) in [
        (INSTALLED, "drip-lines"),
        (INSTALLED, "glasswork"),
        (INSTALLED, "sun-clock"),
        (INSTALLED, "bee-traffic"),
        (OFFERED, "gnomon"),
    ] {
        for addon in addons.iter().filter(|addon| addon.0 == id) {
            let mut archive = packed(addon)?;
            if id == "glasswork" {
                archive.extend(b"a little more moss");
            }
            let name = format!("addons/{}-{}.bloom", addon.0, addon.1);
            put(&folder.join(name), &archive)?;
        }
    }
    put(&folder.join("saves/beds.toml"), b"beds = 14\n")
}

/// Makes the server, a player's folder, and the server's catalogue.
pub(super) fn lookout(dir: &Path, standin: &str) -> io::Result<()> {
    let lookout = dir.join("halcyon-lookout");
    server(&lookout, standin, SETTINGS)?;
    let kept = ["glasswork", "mist-pipes", "drip-lines", "night-watch"];
    let kept = INSTALLED.iter().filter(|addon| kept.contains(&addon.0));
    for addon in kept.chain([&OLD]) {
        let name = format!("{}-{}.bloom", addon.0, addon.1);
        put(&lookout.join("addons").join(name), &packed(addon)?)?;
    }
    player(dir)?;
    let releases = dir.join("depot/releases");
    let mut listed = vec![
        build_release("5.4.0", ">=5.0", standin, &releases)?,
        framework_release("2.2.0", ">=5.4", &releases)?,
    ];
    let wanted = ["gnomon", "mist-pipes", "drip-lines"];
    let others = OFFERED.iter().filter(|addon| wanted.contains(&addon.0));
    for addon in others.chain(LATER) {
        listed.push(addon_release(addon, &releases)?);
    }
    let catalogue = json!({"format": 1, "name": "What the lookout asks", "releases": listed});
    let text = serde_json::to_string_pretty(&catalogue)?;
    put(
        &dir.join("depot/lookout.catalogue.json"),
        format!("{text}\n").as_bytes(),
    )
}
