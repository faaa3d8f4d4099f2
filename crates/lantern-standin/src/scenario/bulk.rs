//! A server folder of the size that real ones have, for measurements.

use super::{GATE, build_files, framework_files, gate, padding, put, release, zipped};
use serde_json::json;
use std::io;
use std::path::Path;

/// Archives, and the bytes in each.
const ARCHIVES: usize = 300;
const ARCHIVE_BYTES: usize = 3_000_000;
/// Small files of the framework, and what the greatest of them holds.
const SMALL_FILES: usize = 12_000;
const SMALL_BYTES: usize = 6_000;
/// Files of the world, and the bytes in each.
const WORLD_FILES: usize = 200;
const WORLD_BYTES: usize = 700_000;

/// Makes the server `dir/bulk`, and `dir/depot` with the next release of its framework.
pub fn bulk(top: &Path) -> io::Result<()> {
    let dir = &top.join("bulk");
    let standin = std::env::current_exe()?.display().to_string();
    for (name, text) in build_files("5.1.0", &standin) {
        put(&dir.join(name), text.as_bytes())?;
    }
    for (name, text) in framework_files("1.8.0", ">=5.0 <5.4") {
        put(&dir.join("framework").join(name), text.as_bytes())?;
    }
    put(&dir.join(GATE), gate("1.8.0").as_bytes())?;
    for number in 0..SMALL_FILES {
        put(
            &dir.join("framework").join(part(number)),
            &part_of(number, "1.8.0"),
        )?;
    }
    next_framework(&top.join("depot"))?;
    let mut settings = String::from("name = Bulk\nport = 7499\n");
    for number in 0..ARCHIVES {
        let id = format!("fern-{number:03}");
        let described = format!("id = \"{id}\"\nversion = \"1.{number}\"\nserver = \">=5\"\n");
        let content = padding(&id, ARCHIVE_BYTES + number * 3_000);
        let files = [
            ("addon.toml", described.as_bytes()),
            ("content.bin", &content[..]),
        ];
        let archive = zipped(files.into_iter())?;
        put(&dir.join(format!("addons/{id}.bloom")), &archive)?;
        settings.push_str(&format!("start {id}\n"));
    }
    put(&dir.join("greenhouse.conf"), settings.as_bytes())?;
    put(
        &dir.join("start.sh"),
        b"#!/bin/sh\nexec sh server/halcyon\n",
    )?;
    for number in 0..WORLD_FILES {
        let path = format!("worlds/orbit-garden/{number:03}.soil");
        put(
            &dir.join(path),
            &padding(&format!("soil {number}"), WORLD_BYTES),
        )?;
    }
    Ok(())
}

fn part(number: usize) -> String {
    format!("parts/{:03}/{number:05}.bin", number % 120)
}

/// A small file; every tenth differs between versions.
fn part_of(number: usize, version: &str) -> Vec<u8> {
    let changes = if number.is_multiple_of(10) {
        version
    } else {
        ""
    };
    padding(
        &format!("part {number}{changes}"),
        200 + number * 7_919 % SMALL_BYTES,
    )
}

/// The framework's next release, with as many files.
fn next_framework(depot: &Path) -> io::Result<()> {
    let mut files: Vec<(String, Vec<u8>)> = framework_files("1.9.0", ">=5.0 <5.4")
        .into_iter()
        .map(|(name, text)| (name, text.into_bytes()))
        .collect();
    files.push((format!("overlay/{GATE}"), gate("1.9.0").into_bytes()));
    files.extend((0..SMALL_FILES).map(|number| (part(number), part_of(number, "1.9.0"))));
    let archive = zipped(
        files
            .iter()
            .map(|(name, bytes)| (name.as_str(), &bytes[..])),
    )?;
    let facts =
        json!({"id": "trellis", "kind": "framework", "version": "1.9.0", "server": ">=5.0 <5.4"});
    let listed = release(
        facts,
        &depot.join("releases"),
        "trellis-1.9.0.zip",
        &archive,
    )?;
    let catalogue = json!({"format": 1, "name": "Bulk depot", "releases": [listed]});
    put(
        &depot.join("bulk.catalogue.json"),
        catalogue.to_string().as_bytes(),
    )
}
