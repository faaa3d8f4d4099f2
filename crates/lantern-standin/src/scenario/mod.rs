//! The made-up servers, catalogue and releases of the demo.

mod bulk;
mod lookout;
mod meadow;
mod orchard;
mod others;

pub use bulk::bulk;

use serde_json::{Value, json};
use std::fs::{self, File};
use std::hash::{BuildHasher, Hasher};
use std::io::{self, Cursor, Write};
use std::net::TcpListener;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

/// An add-on release: id, version, title, server range, side, the rest of its descriptor, padding.
struct Addon(
    &'static str,
    &'static str,
    &'static str,
    &'static str,
    &'static str,
    &'static str,
    usize,
);

/// What halcyon-terrace has installed, in its load order.
const INSTALLED: &[Addon] = &[
    Addon(
        "mist-pipes",
        "1.4.2",
        "Mist Pipes",
        ">=5.0 <5.3",
        "both",
        "",
        40_000,
    ),
    Addon(
        "drip-lines",
        "2.3.0",
        "Drip Lines",
        ">=5.0 <5.3",
        "both",
        "[needs]\nmist-pipes = \"^1.2\"\n",
        180_000,
    ),
    Addon(
        "glasswork",
        "3.1.0",
        "Glasswork",
        ">=5.0",
        "both",
        "",
        260_000,
    ),
    Addon(
        "sun-clock",
        "1.9.1",
        "Sun Clock",
        ">=4.8 <5.4",
        "both",
        "[needs]\nglasswork = \"^3\"\n",
        90_000,
    ),
    Addon(
        "bee-traffic",
        "0.8.4",
        "Bee Traffic",
        ">=5.1 <5.4",
        "both",
        "world_bound = true\n[needs]\ndrip-lines = \">=2.0\"\n[uses]\nsun-clock = \">=1.5\"\n",
        310_000,
    ),
    Addon(
        "seed-vault",
        "4.0.2",
        "Seed Vault",
        ">=5.0 <5.4",
        "server",
        "world_bound = true\n",
        120_000,
    ),
    Addon(
        "market-stall",
        "1.2.0",
        "Market Stall",
        ">=5.0 <5.4",
        "both",
        "[needs]\nseed-vault = \"^4\"\n",
        75_000,
    ),
    Addon(
        "night-watch",
        "1.0.5",
        "Night Watch",
        ">=4.0",
        "server",
        "effect = \"admin\"\n",
        20_000,
    ),
];

/// What the depot has besides.
const OFFERED: &[Addon] = &[
    Addon(
        "mist-pipes",
        "2.0.1",
        "Mist Pipes",
        ">=5.3",
        "both",
        "",
        42_000,
    ),
    Addon(
        "drip-lines",
        "2.5.0",
        "Drip Lines",
        ">=5.3",
        "both",
        "[needs]\nmist-pipes = \"^2\"\n",
        190_000,
    ),
    Addon(
        "sun-clock",
        "2.0.0",
        "Sun Clock",
        ">=5.4",
        "both",
        "[needs]\nglasswork = \"^3\"\ngnomon = \"^1\"\n",
        95_000,
    ),
    Addon("gnomon", "1.0.3", "Gnomon", ">=5.2", "both", "", 15_000),
    Addon(
        "bee-traffic",
        "0.9.0",
        "Bee Traffic",
        ">=5.4 <5.5",
        "both",
        "world_bound = true\n[needs]\ndrip-lines = \">=2.4\"\n[uses]\nsun-clock = \">=1.5\"\n",
        330_000,
    ),
    Addon(
        "seed-vault",
        "4.1.0",
        "Seed Vault",
        ">=5.3",
        "server",
        "world_bound = true\n",
        125_000,
    ),
    Addon(
        "market-stall",
        "1.3.0",
        "Market Stall",
        ">=5.4",
        "both",
        "[needs]\nseed-vault = \">=4.1 <5\"\n",
        80_000,
    ),
];

/// A test release for the server version after that.
const EARLY: Addon = Addon(
    "bee-traffic",
    "1.0.0-rc.1",
    "Bee Traffic",
    ">=5.5",
    "both",
    "world_bound = true\n[needs]\ndrip-lines = \">=2.4\"\n",
    335_000,
);

/// A release that the server will not start with.
const FAULTY: Addon = Addon(
    "sun-clock",
    "2.1.0",
    "Sun Clock",
    ">=5.4",
    "both",
    "[needs]\nglasswork = \"^3\"\ngnomon = \"^1\"\n[standin]\ncrash = \"the gnomon casts no shadow\"\n",
    96_000,
);

const SETTINGS: &str = "\
# The greenhouse at the terrace. Ask Ilva before you change the port.
name = Halcyon Terrace
port = {port}
seats = 24

# --- what grows here, in the order in which it is started ---
start mist-pipes
start drip-lines

# glass first, then everything that looks through it
start glasswork
start sun-clock
start bee-traffic

start seed-vault
start market-stall
# for the night shift
start night-watch

# in which list players find it
listed = modded
";

/// Makes everything in `dir`: `halcyon-terrace`, `halcyon-orchard`, `tramway-loop`, `arbour-deck` and `triad-north`
/// (servers), `depot` (catalogues with their releases), `drop` and `orchard-drop` (archives fetched by
/// hand).
pub fn make(dir: &Path) -> io::Result<()> {
    let terrace = dir.join("halcyon-terrace");
    if terrace.exists() {
        return Err(io::Error::other(format!(
            "{} already exists",
            terrace.display()
        )));
    }
    let standin = std::env::current_exe()?;
    let standin = standin.display().to_string();
    server(&terrace, &standin, SETTINGS)?;
    for addon in INSTALLED {
        let name = format!("{}-{}.bloom", addon.0, addon.1);
        put(&terrace.join("addons").join(name), &packed(addon)?)?;
    }
    put(&terrace.join("barred.txt"), b"# nobody so far\n")?;
    put(
        &terrace.join("players/ilva.toml"),
        b"beds = 14\nfavourite = \"moon melon\"\n",
    )?;
    put(&terrace.join("players/oro.toml"), b"beds = 3\n")?;
    put(
        &terrace.join("worlds/orbit-garden/soil.bin"),
        &padding("soil", 2_000_000),
    )?;
    put(&terrace.join("notes.txt"), b"Water the ferns on deck 3.\n")?;

    let releases = dir.join("depot/releases");
    let mut listed = Vec::new();
    for (version, worlds) in [("5.2.0", ">=4.0"), ("5.4.0", ">=5.0"), ("5.5.0", ">=5.2")] {
        listed.push(build_release(version, worlds, &standin, &releases)?);
    }
    listed.push(framework_release("2.2.0", ">=5.4", &releases)?);
    for addon in OFFERED {
        listed.push(addon_release(addon, &releases)?);
    }
    let name = format!("{}-{}.bloom", EARLY.0, EARLY.1);
    let mut facts = catalogue_facts(&EARLY);
    facts["channel"] = json!("early");
    listed.push(release(facts, &releases, &name, &packed(&EARLY)?)?);
    let catalogue = json!({"format": 1, "name": "Verdance depot", "releases": listed});
    let text = serde_json::to_string_pretty(&catalogue)?;
    put(
        &dir.join("depot/verdance.catalogue.json"),
        format!("{text}\n").as_bytes(),
    )?;

    put(&dir.join("drop/sun-clock-2.1.0.bloom"), &packed(&FAULTY)?)?;
    orchard::orchard(dir, &standin)?;
    orchard::installed(&dir.join("rented-host"), &standin)?;
    lookout::lookout(dir, &standin)?;
    others::tramway(dir, &standin)?;
    others::arbour(dir)?;
    others::triad(dir, &standin)?;
    others::suns(dir, &standin)?;
    meadow::meadow(dir, &standin)
}

/// The size of the server program.
const PROGRAM_BYTES: usize = 6_000;

/// The text of a server program: what runs the stand-in, of one size wherever that lies.
fn program(title: &str, standin: &str, words: &str) -> String {
    let program = format!(
        "#!/bin/sh\n# {title}.\nexec '{}' {words} \"$@\"\n",
        standin.replace('\'', "'\\''")
    );
    let padding = PROGRAM_BYTES.saturating_sub(program.len() + 3);
    format!("{program}# {}\n", "~".repeat(padding))
}

fn build_files(version: &str, standin: &str) -> Vec<(String, String)> {
    let program = program(
        &format!("The Halcyon server program, build {version}"),
        standin,
        &format!("halcyon --build {version}"),
    );
    vec![
        (
            "server/build.toml".into(),
            format!("id = \"halcyon\"\ntitle = \"Halcyon\"\nversion = \"{version}\"\n"),
        ),
        ("server/halcyon".into(), program),
        (GATE.into(), format!("bare gate of {version}\n").repeat(20)),
    ]
}

/// Packs a build, and says of it what a catalogue says.
fn build_release(version: &str, worlds: &str, standin: &str, folder: &Path) -> io::Result<Value> {
    let files = build_files(version, standin);
    let files = files.iter();
    let archive = zipped(files.map(|(name, text)| (name.as_str(), text.as_bytes())))?;
    let facts = json!({
        "id": "halcyon", "kind": "build", "version": version, "title": "Halcyon",
        "build": { "worlds_from": worlds },
    });
    release(facts, folder, &format!("halcyon-{version}.zip"), &archive)
}

/// Packs a framework, and says of it what a catalogue says.
fn framework_release(version: &str, server: &str, folder: &Path) -> io::Result<Value> {
    let mut files = framework_files(version, server);
    files.push((format!("overlay/{GATE}"), gate(version)));
    let files = files.iter();
    let archive = zipped(files.map(|(name, text)| (name.as_str(), text.as_bytes())))?;
    let facts = json!({"id": "trellis", "kind": "framework", "version": version, "title": "Trellis", "server": server, "side": "server"});
    release(facts, folder, &format!("trellis-{version}.zip"), &archive)
}

/// The file of the build that the framework lays its own over.
const GATE: &str = "server/gate.bin";

fn gate(version: &str) -> String {
    format!("lattice {version}\n").repeat(30)
}

fn framework_files(version: &str, server: &str) -> Vec<(String, String)> {
    let hash = blake3::hash(gate(version).as_bytes()).to_hex();
    vec![
        (
            "framework.toml".into(),
            format!(
                "id = \"trellis\"\ntitle = \"Trellis\"\nversion = \"{version}\"\nserver = \"{server}\"\nside = \"server\"\n\n[overlay]\n\"{GATE}\" = \"{hash}\"\n"
            ),
        ),
        (
            "lattice.bin".into(),
            format!("lattice of {version}\n").repeat(400),
        ),
    ]
}

/// Where the ports begin that may be taken; otherwise anywhere.
const PORTS_FROM: &str = "LANTERN_STANDIN_PORTS_FROM";

/// A port that is free now, so that several demos can run side by side; below those that systems give to
/// outgoing connections, so that it is still free when the server is started again.
fn free_port() -> io::Result<u16> {
    static TAKEN: AtomicU64 = AtomicU64::new(0);
    let from = std::env::var(PORTS_FROM).ok();
    let first = match from.and_then(|from| from.parse::<u64>().ok()) {
        Some(from) => from.wrapping_sub(20_000) + TAKEN.fetch_add(1, Ordering::Relaxed),
        None => {
            let mut mark = std::collections::hash_map::RandomState::new().build_hasher();
            mark.write_u32(std::process::id());
            mark.finish()
        }
    };
    let ports = (0..1000).map(|n| 20_000 + (first.wrapping_add(n) % 12_000) as u16);
    let mut free = ports.filter(|port| TcpListener::bind(("127.0.0.1", *port)).is_ok());
    free.next().ok_or_else(|| io::ErrorKind::AddrInUse.into())
}

/// A server folder with build 5.1 and its framework laid over it, and a free port.
fn server(dir: &Path, standin: &str, settings: &str) -> io::Result<()> {
    let port = free_port()?;
    for (name, content) in build_files("5.1.0", standin) {
        put(&dir.join(name), content.as_bytes())?;
    }
    for (name, content) in framework_files("1.8.0", ">=5.0 <5.4") {
        put(&dir.join("framework").join(name), content.as_bytes())?;
    }
    put(&dir.join(GATE), gate("1.8.0").as_bytes())?;
    let settings = settings.replace("{port}", &port.to_string());
    put(&dir.join("greenhouse.conf"), settings.as_bytes())?;
    let start = "#!/bin/sh\n# Starts the greenhouse.\nexec sh server/halcyon --lattice 1.8.0\n";
    put(&dir.join("start.sh"), start.as_bytes())?;
    put(&dir.join("worlds/orbit-garden/days"), b"211\n")
}

fn descriptor(addon: &Addon) -> String {
    let Addon(id, version, title, server, side, rest, _) = addon;
    format!(
        "id = \"{id}\"\ntitle = \"{title}\"\nversion = \"{version}\"\nserver = \"{server}\"\nside = \"{side}\"\n{rest}"
    )
}

fn packed(addon: &Addon) -> io::Result<Vec<u8>> {
    let descriptor = descriptor(addon);
    let content = padding(addon.0, addon.6);
    zipped(
        [
            ("addon.toml", descriptor.as_bytes()),
            ("content.bin", &content[..]),
        ]
        .into_iter(),
    )
}

/// What the catalogue says of a release: the same as its descriptor.
fn catalogue_facts(addon: &Addon) -> Value {
    let described: toml_edit::Document<String> =
        descriptor(addon).parse().expect("the descriptors are TOML");
    let mut facts = json!({"id": addon.0, "kind": "addon", "version": addon.1, "title": addon.2, "server": addon.3, "side": addon.4});
    for table in ["needs", "uses", "admits"] {
        if let Some(needs) = described.get(table).and_then(|item| item.as_table_like()) {
            let pairs = needs
                .iter()
                .map(|(id, range)| (id.to_owned(), json!(range.as_str())));
            facts[table] = Value::Object(pairs.collect());
        }
    }
    let text = |table: &str, key: &str| Some(described.get(table)?.get(key)?.as_str()?.to_owned());
    let admits = facts.get_mut("admits").and_then(Value::as_object_mut);
    for (kind, admits) in admits.into_iter().flatten() {
        if let Some(has) = text("admits_has", kind) {
            let title = text("admits_title", kind);
            *admits = json!({"versions": *admits, "title": title, "has": [has]});
        }
    }
    if let Some(bound) = described.get("world_bound").and_then(|item| item.as_bool()) {
        facts["world_bound"] = json!(bound);
    }
    facts
}

/// Packs an add-on into a folder of releases, and says what a catalogue says of it.
fn addon_release(addon: &Addon, folder: &Path) -> io::Result<Value> {
    let name = format!("{}-{}.bloom", addon.0, addon.1);
    release(catalogue_facts(addon), folder, &name, &packed(addon)?)
}

fn release(mut facts: Value, folder: &Path, name: &str, archive: &[u8]) -> io::Result<Value> {
    put(&folder.join(name), archive)?;
    facts["archive"] = json!({
        "file": format!("releases/{name}"),
        "blake3": blake3::hash(archive).to_hex().to_string(),
        "bytes": archive.len(),
    });
    Ok(facts)
}

/// Bytes that do not pack, the same on every run.
fn padding(seed: &str, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new()
        .update(seed.as_bytes())
        .finalize_xof()
        .fill(&mut bytes);
    bytes
}

fn zipped<'a>(files: impl Iterator<Item = (&'a str, &'a [u8])>) -> io::Result<Vec<u8>> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in files {
        // Stored as it is: what is in it does not pack, and sizes stay the same.
        let stored = SimpleFileOptions::default().compression_method(CompressionMethod::Stored);
        zip.start_file(name, stored)?;
        zip.write_all(content)?;
    }
    Ok(zip.finish()?.into_inner())
}

fn put(path: &Path, content: &[u8]) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    File::create(path)?.write_all(content)
}
