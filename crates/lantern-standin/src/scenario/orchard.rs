//! `halcyon-orchard`: a server with a pack, and the pack's next release.

use super::{EARLY, INSTALLED, OFFERED, packed, put, server, zipped};
use std::io;
use std::path::Path;

const SETTINGS: &str = "\
name = Halcyon Orchard
port = {port}

start mist-pipes
start drip-lines
start bee-traffic
# my own, not the pack's
start night-watch
";

/// What one release of the pack holds.
struct Edition {
    version: &'static str,
    server: &'static str,
    framework: &'static str,
    addons: &'static [super::Addon],
    side: &'static str,
}

impl Edition {
    fn descriptor(&self) -> String {
        format!(
            "id = \"orchard\"\ntitle = \"The Orchard\"\nversion = \"{}\"\nserver = \"{}\"\nframework = \"{}\"\nside = \"{}\"\n\
             owns = [\"config/orchard\", \"scenarios/orchard\"]\nkeep = [\"config/orchard/tally.toml\"]\nmembers = [\"mist-pipes\", \"drip-lines\", \"bee-traffic\"]\n\
             variants = [\"calm\", \"wild\"]\n",
            self.version, self.server, self.framework, self.side
        )
    }

    /// The files as an installed pack has them, or, with `variant` none, as its archive does.
    fn files(&self, variant: Option<&str>) -> io::Result<Vec<(String, Vec<u8>)>> {
        let version = self.version;
        let mut files = Vec::new();
        let place = if variant.is_some() { "pack/" } else { "" };
        files.push((format!("{place}pack.toml"), self.descriptor().into_bytes()));
        for id in ["mist-pipes", "drip-lines", "bee-traffic"] {
            let addon = self.addons.iter().find(|addon| addon.0 == id);
            let addon = addon.unwrap_or(&EARLY);
            files.push((format!("addons/{id}-{}.bloom", addon.1), packed(addon)?));
        }
        let harvest = format!("# Harvest of {version}\napples = 40\npears = 12\n");
        files.push(("config/orchard/harvest.toml".into(), harvest.into_bytes()));
        let paths = "# Which path leads where\nnorth = \"pond\"\n";
        files.push(("config/orchard/paths.toml".into(), paths.into()));
        let old = format!("only in {version}\n");
        files.push((
            format!("config/orchard/for-{version}.toml"),
            old.into_bytes(),
        ));
        let scenario = if variant.is_some() {
            "scenarios"
        } else {
            "scenario"
        };
        let day = format!("The first day, as of {version}\n");
        files.push((
            format!("{scenario}/orchard/first-day.txt"),
            day.into_bytes(),
        ));
        for (name, wind) in [("calm", 2), ("wild", 9)] {
            let weather = format!("kind = \"{name}\"\nwind = {wind}\n").into_bytes();
            match variant {
                Some(chosen) if chosen == name => {
                    files.push(("config/orchard/weather.toml".into(), weather));
                }
                Some(_) => {}
                None => files.push((
                    format!("weather/{name}/config/orchard/weather.toml"),
                    weather,
                )),
            }
        }
        Ok(files)
    }

    fn archive(&self) -> io::Result<Vec<u8>> {
        let files = self.files(None)?;
        zipped(
            files
                .iter()
                .map(|(name, bytes)| (name.as_str(), &bytes[..])),
        )
    }
}

const OLD: Edition = Edition {
    version: "5.1",
    server: ">=5.0 <5.4",
    framework: ">=1 <2",
    addons: INSTALLED,
    side: "server",
};

const NEW: Edition = Edition {
    version: "5.4",
    server: ">=5.4 <5.5",
    framework: ">=2",
    addons: OFFERED,
    side: "server",
};

/// Makes the server with the old release.
pub(super) fn installed(dir: &Path, standin: &str) -> io::Result<()> {
    let orchard = dir.join("halcyon-orchard");
    server(&orchard, standin, SETTINGS)?;
    for (name, bytes) in OLD.files(Some("calm"))? {
        put(&orchard.join(name), &bytes)?;
    }
    let own = INSTALLED.iter().find(|addon| addon.0 == "night-watch");
    if let Some(own) = own {
        put(
            &orchard.join("addons/night-watch-1.0.5.bloom"),
            &packed(own)?,
        )?;
    }
    // The server writes it, and the pack keeps it.
    put(&orchard.join("config/orchard/tally.toml"), b"apples = 7\n")?;
    put(&orchard.join("players/oro.toml"), b"beds = 3\n")
}

/// Makes the server with the old release, and a drop folder with the new one.
pub(super) fn orchard(dir: &Path, standin: &str) -> io::Result<()> {
    installed(dir, standin)?;
    put(
        &dir.join("orchard-drop/orchard-5.4-pack.zip"),
        &NEW.archive()?,
    )?;
    let client = Edition {
        side: "client",
        ..NEW
    };
    put(
        &dir.join("client-drop/orchard-5.4-client-pack.zip"),
        &client.archive()?,
    )
}
