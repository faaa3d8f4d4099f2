//! Three more servers of the scenario, each of another family and each a little neglected.

use super::{free_port, padding, program, put, zipped};
use std::io;
use std::path::Path;

/// Writes small texts below a folder.
fn write(folder: &Path, files: &[(&str, &str)]) -> io::Result<()> {
    for (name, text) in files {
        put(&folder.join(name), text.as_bytes())?;
    }
    Ok(())
}

/// `tramway-loop`: script resources in category folders, started by lines in a settings file.
pub(super) fn tramway(dir: &Path, standin: &str) -> io::Result<()> {
    let port = free_port()?;
    let depot = format!(
        "# The loop line.\nport {port}\ntitle \"Orbit Loop\"\n\nrun rail-kit\nrun (city)\nrun night-fares\nrun ghost-tram\n"
    );
    let engine = program(
        "The tramway engine, build 2031.4",
        standin,
        "tramway --build 2031.4",
    );
    write(
        &dir.join("tramway-loop"),
        &[
            (
                "engine/engine.json",
                "{\n  // Which engine this is.\n  \"name\": \"tramway\",\n  \"title\": \"Tramway\",\n  \"version\": \"2031.4\",\n  \"room\": { \"textures\": 24 },\n}\n",
            ),
            ("engine/tramway.bin", engine.as_str()),
            ("depot.cfg", depot.as_str()),
            (
                "stock/rail-kit/wagon.man",
                "-- What all the others ride on.\ntitle 'Rail Kit'\nversion '4.2'\nengine '>=2030'\ntakes { textures = 6 }\n",
            ),
            ("stock/rail-kit/rails.script", "-- rails\n"),
            (
                "stock/(city)/signal-lamps/wagon.man",
                "title 'Signal Lamps'\nversion '1.10'\nneeds { 'rail-kit >=4' }\nrides { '@rail-kit/rails.script' }\ntakes { textures = 2 }\n",
            ),
            ("stock/(city)/signal-lamps/lamps.script", "-- lamps\n"),
            (
                "stock/(city)/(stops)/ticket-booth/wagon.man",
                "title = 'Ticket Booth'\nversion = '0.9-rc1'\nneeds {\n  'rail-kit',\n  'coin-box ^2', --[[ not there ]]\n}\n",
            ),
            (
                "stock/night-fares/wagon.man",
                "title 'Night Fares'\nversion [[2.0]]\nonly_one 'fares'\n",
            ),
            (
                "stock/day-fares/wagon.man",
                "title 'Day Fares'\nversion '1.4'\nonly_one 'fares'\n",
            ),
            (
                "stock/(city)/readme.txt",
                "Ask Oro before you move a stop.\n",
            ),
            ("journal/line-1.log", "day 211: on time\n"),
            ("start.sh", "#!/bin/sh\nexec sh engine/tramway.bin\n"),
        ],
    )
}

/// `arbour-deck`: add-ons that are single files with header lines.
pub(super) fn arbour(dir: &Path) -> io::Result<()> {
    let arbour = dir.join("arbour-deck");
    put(&arbour.join("arbour-3.2.run"), &padding("arbour", 9_000))?;
    write(
        &arbour,
        &[
            (
                "arbour.properties",
                "# The quiet deck\nport=7300\nwelcome=Mind the \\\n    moss\n",
            ),
            (
                "leaves/sun-dial.leaf",
                ";; leaf sun-dial\n;; title Sun Dial\n;; version 1.4\n;; arbour 3.2\n;; needs almanac 2.0\nshow hour\n",
            ),
            (
                "leaves/almanac-2.1.leaf",
                ";; leaf almanac\n;; arbour 3.2\nkeep days\n",
            ),
            (
                "leaves/spring-fair.leaf",
                ";; leaf spring-fair\n;; version 1.0\n;; season fair\ndance\n",
            ),
            (
                "leaves/harvest-fair.leaf",
                ";; leaf harvest-fair\n;; version 1.1\n;; season fair\ndance slowly\n",
            ),
            (
                "leaves/moss-count.leaf",
                ";; leaf moss-count\n;; version 0.3\n;; arbour 2\ncount moss\n",
            ),
            ("leaves/almanac.data/days", "211\n"),
            ("leaves/bell-ringer.data/tower", "oak\n"),
            ("saves/deck", "benches 12\n"),
            ("start.sh", "#!/bin/sh\nexec ./arbour-3.2.run\n"),
        ],
    )
}

/// `triad-north`: mods by number, in one value of a settings file.
pub(super) fn triad(dir: &Path, standin: &str) -> io::Result<()> {
    let port = free_port()?;
    let settings = format!(
        "[Triad]\nName = North Sun\nPort = {port}\n\n[Content]\n# in load order\nMods = 4101;4117;4109;4230\n"
    );
    let suns = program(
        "The triad server program, build 7.1.2",
        standin,
        "triad --build 7.1.2",
    );
    let triad = dir.join("triad-north");
    write(
        &triad,
        &[
            (
                "bin/build.properties",
                "build.version = 7.1.2\nbuild.note = the third \\u0073un\n",
            ),
            ("bin/triad", suns.as_str()),
            ("triad.ini", settings.as_str()),
            (
                "content/4101/about.xml",
                "<?xml version=\"1.0\"?>\n<about version=\"3.0\" made-for=\"&gt;=7\">\n  <title>Fern Beds</title>\n</about>\n",
            ),
            ("content/4101/beds.dat", "beds\n"),
            (
                "content/4109/about.xml",
                "<about version=\"1.8\" made-for=\"&gt;=7 &lt;8\">\n  <title>Mist Valves</title>\n</about>\n",
            ),
            (
                "content/4117/about.xml",
                "<about version=\"2.2\">\n  <title>Dew Clock</title>\n  <needs mod=\"4109\" from=\"1.5\"/>\n  <needs mod=\"4101\"/>\n</about>\n",
            ),
            (
                "content/4152/model.dat",
                "a mod that says nothing of itself\n",
            ),
            ("saved/north.world", "three suns, day 9\n"),
            ("start.sh", "#!/bin/sh\nexec sh bin/triad\n"),
        ],
    )?;
    // Somebody unpacked a download here and left it.
    let left = zipped([("4152/model.dat", &b"a mod"[..])].into_iter())?;
    put(&triad.join("content-4152.zip"), &left)
}

/// `triad-suns`: two servers on one install, each with settings, a load order and a world of its own; and a later program.
pub(super) fn suns(dir: &Path, standin: &str) -> io::Result<()> {
    let (north, south) = (free_port()?, free_port()?);
    let settings = |name: &str, port: u16, mods: &str| {
        format!(
            "[Triad]\nName = {name}\nPort = {port}\n\n[Content]\n# in load order\nMods = {mods}\n"
        )
    };
    let (north, south) = (
        settings("North Sun", north, "4101;4109;4117"),
        settings("South Sun", south, "4109"),
    );
    let suns = |version: &str| {
        program(
            &format!("The triad server program, build {version}"),
            standin,
            &format!("triad --build {version}"),
        )
    };
    let notes =
        |version: &str| format!("build.version = {version}\nbuild.note = for more than one sun\n");
    let (program, properties) = (suns("7.1.2"), notes("7.1.2"));
    let triad = dir.join("triad-suns");
    write(
        &triad,
        &[
            ("bin/build.properties", properties.as_str()),
            ("bin/triad", program.as_str()),
            ("triad.ini", north.as_str()),
            ("south/triad.ini", south.as_str()),
            (
                "content/4101/about.xml",
                "<?xml version=\"1.0\"?>\n<about version=\"3.0\" made-for=\"&gt;=7\">\n  <title>Fern Beds</title>\n</about>\n",
            ),
            (
                "content/4109/about.xml",
                "<about version=\"1.8\" made-for=\"&gt;=7 &lt;8\">\n  <title>Mist Valves</title>\n</about>\n",
            ),
            (
                "content/4117/about.xml",
                "<about version=\"2.2\" made-for=\"&gt;=7\">\n  <title>Dew Clock</title>\n  <needs mod=\"4109\" from=\"1.5\"/>\n</about>\n",
            ),
            ("saved/north.world", "the north sun, day 9\n"),
            ("saved/south.world", "the south sun, day 4\n"),
            (
                "start.sh",
                "#!/bin/sh\nexec sh bin/triad --settings triad.ini --world saved/north.world\n",
            ),
            (
                "start-south.sh",
                "#!/bin/sh\nexec sh bin/triad --settings south/triad.ini --world saved/south.world\n",
            ),
        ],
    )?;
    let (program, properties) = (suns("7.2.0"), notes("7.2.0"));
    let later = zipped(
        [
            ("bin/build.properties", properties.as_bytes()),
            ("bin/triad", program.as_bytes()),
        ]
        .into_iter(),
    )?;
    put(&dir.join("suns-drop/triad-7.2.0.zip"), &later)
}
