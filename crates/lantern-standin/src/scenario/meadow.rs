//! `tramway-meadow`: a server whose keeper changes what he installs, and later releases of it.

use super::{free_port, program, put, zipped};
use std::io;
use std::path::Path;

const TIMETABLE: &str = "\
# How often trams run.
every_min = 20
last = \"23:10\"
old_clock = true

[stops]
# how long they wait
wait_s = 30
names = [\"gate\", \"pond\"]
";

const LATER_TIMETABLE: &str = "\
# How often trams run.
every_min = 15
last = \"23:40\"
# trams that glow, and from when on
glow = \"dusk\"

[stops]
# how long they wait
wait_s = 30
names = [\"gate\", \"pond\", \"orchard\"]
";

fn board(later: bool) -> String {
    let lines = [
        "-- the board at each stop",
        if later { "font 'tall'" } else { "font 'plain'" },
        "colour 'amber'",
        "begin",
        "  show 3",
        "  scroll 'slow'",
        "end",
        "clock 'left'",
        "chime 'soft'",
        if later { "fade 0.5" } else { "fade 1" },
    ];
    lines.join("\n") + "\n"
}

fn manifest(version: &str, more: &str) -> String {
    format!(
        "title 'Timetable'\nversion '{version}'\nengine '>=2030'\nneeds {{ 'rail-kit' }}\n\nscripts {{\n  'board.script',\n  'times.script',\n{more}}}\n"
    )
}

pub(super) fn meadow(dir: &Path, standin: &str) -> io::Result<()> {
    let depot = format!(
        "# The meadow line.\nport {}\ntitle \"Meadow Line\"\n\nrun rail-kit\nrun night-fares\nrun day-fares\nrun ticket-booth\nrun timetable\n",
        free_port()?
    );
    let engine = program(
        "The tramway engine, build 2031.4",
        standin,
        "tramway --build 2031.4",
    );
    let (board_before, board_later) = (board(false), board(true));
    let before = manifest("1.0", "");
    let later = manifest("2.0", "  'glow.script',\n");
    let meadow = dir.join("tramway-meadow");
    for (name, text) in [
        (
            "engine/engine.json",
            "{\n  \"name\": \"tramway\",\n  \"title\": \"Tramway\",\n  \"version\": \"2031.4\",\n  \"room\": { \"textures\": 24 }\n}\n",
        ),
        ("engine/tramway.bin", engine.as_str()),
        ("depot.cfg", depot.as_str()),
        (
            "stock/rail-kit/wagon.man",
            "title 'Rail Kit'\nversion '4.2'\nengine '>=2030'\n",
        ),
        (
            "stock/night-fares/wagon.man",
            "title 'Night Fares'\nversion '2.0'\nengine '>=2030'\n",
        ),
        (
            "stock/day-fares/wagon.man",
            "title 'Day Fares'\nversion '1.4'\nengine '>=2030'\n",
        ),
        (
            "stock/ticket-booth/wagon.man",
            "title 'Ticket Booth'\nversion '1.1'\nengine '>=2030'\nneeds {\n  'rail-kit >=4',\n  'night-fares', -- and by day, too\n}\n",
        ),
        ("stock/timetable/wagon.man", before.as_str()),
        ("stock/timetable/timetable.toml", TIMETABLE),
        ("stock/timetable/board.script", board_before.as_str()),
        ("stock/timetable/times.script", "-- times\n"),
        ("journal/line-1.log", "day 12: on time\n"),
        ("start.sh", "#!/bin/sh\nexec sh engine/tramway.bin\n"),
    ] {
        put(&meadow.join(name), text.as_bytes())?;
    }
    let timetable = zipped(
        [
            ("timetable/wagon.man", later.as_bytes()),
            ("timetable/timetable.toml", LATER_TIMETABLE.as_bytes()),
            ("timetable/board.script", board_later.as_bytes()),
            ("timetable/times.script", &b"-- times\n"[..]),
            ("timetable/glow.script", &b"-- glow\n"[..]),
        ]
        .into_iter(),
    )?;
    put(&dir.join("meadow-drop/timetable-2.0.zip"), &timetable)?;
    let fares = zipped(
        [(
            "all-fares/wagon.man",
            &b"title 'All Fares'\nversion '1.0'\nengine '>=2030'\nreplaces { 'night-fares', 'day-fares' }\n"[..],
        )]
        .into_iter(),
    )?;
    put(&dir.join("meadow-drop/all-fares-1.0.zip"), &fares)
}
