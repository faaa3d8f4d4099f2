//! What is installed: every family of the demo, single components, files, hostile archives.

use crate::world::World;
use insta::assert_snapshot;
use std::fs;
use std::io::Write;
use zip::write::SimpleFileOptions;

fn adopted(server: &str) -> World {
    let world = World::demo();
    world.ok(&["adopt", server]);
    world
}

#[test]
fn three_more_families() {
    for server in ["tramway-loop", "arbour-deck", "triad-north"] {
        let world = adopted(server);
        assert_snapshot!(
            format!("survey_{server}"),
            world.lantern(&["survey", "--server", server])
        );
    }
}

#[test]
fn one_component_and_the_files() {
    let world = adopted("tramway-loop");
    let survey =
        |more: &[&str]| world.lantern(&[&["survey", "--server", "tramway-loop"], more].concat());
    assert_snapshot!("survey_one", survey(&["signal-lamps"]));
    assert_snapshot!("survey_one_wrong", survey(&["TICKET-BOOTH"]));
    assert_snapshot!("survey_one_nobody", survey(&["coin-box"]));
    assert_snapshot!("survey_files", survey(&["--files"]));
    assert_snapshot!("survey_nobody", survey(&["--unowned"]));
    assert_snapshot!("survey_edited_none", survey(&["--edited"]));
    world.write(
        "tramway-loop/stock/rail-kit/rails.script",
        "-- narrower rails\n",
    );
    world.write("tramway-loop/stock/rail-kit/notes.txt", "mine\n");
    fs::remove_file(world.path("tramway-loop/stock/(city)/signal-lamps/lamps.script")).unwrap();
    assert_snapshot!("survey_edited", survey(&["--edited"]));
    assert_snapshot!("survey_edited_json", survey(&["--edited", "--json"]));
    assert_snapshot!("survey_one_edited", survey(&["rail-kit"]));
    assert_snapshot!("survey_two_views", survey(&["--edited", "--files"]));
}

#[test]
fn a_catalogue_tells_the_version_of_what_says_nothing() {
    let world = adopted("triad-north");
    let listed = world.read("triad-north/content/4152/model.dat");
    // The hash of a folder is that over its files' paths and hashes.
    let hash = blake3::hash(
        format!("model.dat\0{}\n", blake3::hash(listed.as_bytes()).to_hex()).as_bytes(),
    )
    .to_hex();
    let one = blake3::hash(listed.as_bytes()).to_hex();
    let release = |hash: &str| {
        format!(
            r#"{{"format": 1, "name": "mods", "releases": [{{"id": "4152", "kind": "addon", "version": "1.6",
            "archive": {{"file": "4152.zip", "blake3": "{hash}", "bytes": 5}}}}]}}"#
        )
    };
    assert_ne!(hash, one);
    world.write("triad-north/mods.catalogue.json", release(&hash));
    let settings = world.read("triad-north/lantern.toml");
    let settings = settings.replace("[warn]", "catalogues = [\"mods.catalogue.json\"]\n[warn]");
    world.write("triad-north/lantern.toml", settings);
    let one = world.lantern(&["survey", "4152", "--server", "triad-north"]);
    assert_snapshot!("survey_by_catalogue", one);
}

/// A zip archive of stored entries whose name is not checked by who writes it.
fn raw_zip(entries: &[(&[u8], &[u8], u16)]) -> Vec<u8> {
    let (mut out, mut list) = (Vec::new(), Vec::new());
    for (name, content, flags) in entries {
        let at = out.len() as u32;
        let mut header = Vec::new();
        header.extend(20u16.to_le_bytes());
        header.extend(flags.to_le_bytes());
        header.extend([0; 6]);
        header.extend(crc(content).to_le_bytes());
        header.extend((content.len() as u32).to_le_bytes());
        header.extend((content.len() as u32).to_le_bytes());
        header.extend((name.len() as u16).to_le_bytes());
        header.extend([0; 2]);
        out.extend(b"PK\x03\x04");
        out.extend(&header);
        out.extend(*name);
        out.extend(*content);
        list.extend(b"PK\x01\x02");
        list.extend(20u16.to_le_bytes());
        list.extend(&header);
        list.extend([0; 10]);
        list.extend(at.to_le_bytes());
        list.extend(*name);
    }
    let start = out.len() as u32;
    let count = (entries.len() as u16).to_le_bytes();
    out.extend(&list);
    out.extend(b"PK\x05\x06\0\0\0\0");
    out.extend(count);
    out.extend(count);
    out.extend((list.len() as u32).to_le_bytes());
    out.extend(start.to_le_bytes());
    out.extend([0; 2]);
    out
}

fn crc(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(!0u32, |crc, byte| {
        (0..8).fold(crc ^ u32::from(*byte), |crc, _| {
            (crc >> 1) ^ (0xedb8_8320 & (crc & 1).wrapping_neg())
        })
    })
}

#[test]
fn one_bad_archive_never_stops_a_survey() {
    let world = World::adopted();
    let put = |name: &str, bytes: &[u8]| {
        world.write(&format!("halcyon-terrace/addons/{name}.bloom"), bytes);
    };
    let addon: &[u8] = b"id = 'x'\nversion = '1'\n";
    let good = raw_zip(&[(b"addon.toml", addon, 0)]);
    put(
        "a-whole",
        &raw_zip(&[(b"addon.toml", b"id = 'whole'\nversion = '1.10'\n", 0)]),
    );
    put("b-cut", &good[..good.len() - 30]);
    put("c-empty", b"");
    put("d-text", b"this is no archive");
    put(
        "e-climbs",
        &raw_zip(&[(b"addon.toml", addon, 0), (b"../../start.sh", b"x", 0)]),
    );
    put("f-absolute", &raw_zip(&[(b"/etc/passwd", b"x", 0)]));
    put("g-drive", &raw_zip(&[(b"C:x", b"x", 0)]));
    put("h-backslash", &raw_zip(&[(b"a\\..\\b", b"x", 0)]));
    put(
        "i-twice",
        &raw_zip(&[(b"addon.toml", addon, 0), (b"addon.toml", b"id = 'y'", 0)]),
    );
    put(
        "j-case",
        &raw_zip(&[(b"addon.toml", addon, 0), (b"Addon.toml", addon, 0)]),
    );
    put("k-control", &raw_zip(&[(b"a\x1b[2Jb", b"x", 0)]));
    put("l-not-utf8", &raw_zip(&[(b"a\xff\xfe", b"x", 0x0800)]));
    put("m-encrypted", &raw_zip(&[(b"addon.toml", addon, 1)]));
    put("n-device", &raw_zip(&[(b"con.toml", b"x", 0)]));
    let mut wrong = good.clone();
    let at = wrong.windows(2).position(|two| two == b"id").unwrap();
    wrong[at] = b'x';
    put("o-checksum", &wrong);
    put(
        "p-long",
        &raw_zip(&[(b"addon.toml", &vec![b'#'; 2 << 20], 0)]),
    );
    put(
        "q-deep",
        &raw_zip(&[
            ("a/".repeat(80).as_bytes(), b"", 0),
            (format!("{}b", "a/".repeat(80)).as_bytes(), b"x", 0),
        ]),
    );
    // The end record says that there are four billion entries, in the large format.
    let mut many = b"PK\x06\x06".to_vec();
    many.extend(44u64.to_le_bytes());
    many.extend([45, 0, 45, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    many.extend((4_000_000_000u64).to_le_bytes());
    many.extend((4_000_000_000u64).to_le_bytes());
    many.extend([0; 16]);
    many.extend(b"PK\x06\x07\0\0\0\0");
    many.extend(0u64.to_le_bytes());
    many.extend(1u32.to_le_bytes());
    many.extend(b"PK\x05\x06\0\0\0\0\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\0\0");
    put("r-many", &many);
    let mut packed = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    packed
        .start_file("addon.toml", SimpleFileOptions::default())
        .unwrap();
    packed.write_all(&vec![b'#'; 300 << 20]).unwrap();
    put("s-bomb", &packed.finish().unwrap().into_inner());
    let mut linked = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    linked
        .add_symlink("addon.toml", "/etc/passwd", SimpleFileOptions::default())
        .unwrap();
    put("t-link", &linked.finish().unwrap().into_inner());
    put("u-bare", &raw_zip(&[(b"readme", b"x", 0)]));
    let told = world.lantern(&["survey", "--server", "halcyon-terrace"]);
    assert_snapshot!("survey_hostile", told);
    // Nothing is read again the second time, and it says the same.
    assert_eq!(
        told,
        world.lantern(&["survey", "--server", "halcyon-terrace"])
    );
}

#[test]
fn what_lies_in_the_wrong_place_is_told() {
    let world = World::demo();
    world.write("halcyon-terrace/addons/sun-clock-1.9.1/readings", "noon\n");
    world.write("halcyon-terrace/addons/bell/hours", "12\n");
    world.write(
        "halcyon-terrace/addons/open.bloom/addon.toml",
        "id = 'open'\n",
    );
    world.write("halcyon-terrace/addons/pond/addon.toml", "id = 'pond'\n");
    world.write("halcyon-terrace/addons/glasswork", "a file\n");
    world.zip(
        "halcyon-terrace/addons/dial.bloom",
        &[("addon.toml", "id = 'dial'\nversion = '1'\nreplaces = ['sun-clock']\ngroup = 'clock'\nframework = '>=3'\n")],
    );
    world.ok(&["adopt", "halcyon-terrace"]);
    let told = world.lantern(&["survey", "--server", "halcyon-terrace"]);
    assert_snapshot!("survey_misplaced", told);
}

#[test]
fn family_files_are_checked_and_drafted() {
    let world = World::demo();
    let check = |family: &str, on: &str| world.lantern(&["family", "check", family, "--on", on]);
    assert_snapshot!("family_check", check("arbour", "arbour-deck"));
    assert_snapshot!("family_check_other", check("triad", "arbour-deck"));
    assert_snapshot!(
        "family_check_alone",
        world.lantern(&["family", "check", "tramway"])
    );
    let family = fs::read_to_string(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../families/arbour.family.toml"
    ))
    .unwrap();
    world.write(
        "slip.family.toml",
        family.replace("settings =", "setings ="),
    );
    assert_snapshot!(
        "family_check_slip",
        world.lantern(&["family", "check", "slip.family.toml"])
    );
    let odd = family
        .replace("'^arbour: blight:'", "'blight^'")
        .replace("(?P<id>[a-z-]+)\\s*(?P<range>\\S*)", "\\S+");
    world.write("odd.family.toml", odd);
    assert_snapshot!("family_check_odd", check("odd.family.toml", "arbour-deck"));
    assert_snapshot!(
        "family_new",
        world.lantern(&["family", "new", "triad-north"])
    );
    let new = ["family", "new", "arbour-deck", "--out", "new.family.toml"];
    assert_snapshot!("family_new_out", world.lantern(&new));
    assert_snapshot!("family_new_again", world.lantern(&new));
    assert_snapshot!(
        "family_new_checked",
        check("new.family.toml", "arbour-deck")
    );
    // With what a start printed, and how add-ons come packed, it sees more.
    world.write("start.log", "08:00:01 greenhouse: opening\n08:00:02 loading sun-clock 1.9.1\n08:00:02 loading glasswork 2\n08:00:03 greenhouse: open on port 7000\n");
    let more = [
        "--log",
        "start.log",
        "--release",
        "depot/releases/bee-traffic-0.9.0.bloom",
    ];
    let new = ["family", "new", "halcyon-terrace"];
    assert_snapshot!(
        "family_new_with_log",
        world.lantern(&[&new[..], &more].concat())
    );
    let slip = [
        "family",
        "new",
        "halcyon-terrace",
        "--release",
        "drop/no-such.zip",
    ];
    assert_snapshot!("family_new_no_release", world.lantern(&slip));
    let json = world.lantern(&["family", "check", "arbour", "--on", "arbour-deck", "--json"]);
    assert_snapshot!("family_check_json", json);
}

#[test]
fn of_a_program_of_no_known_version_nothing_is_said_to_be_for_another() {
    let world = World::empty();
    let family = |fields: &str| {
        let head = "format = 1\nname = 'pond'\ntitle = 'Pond'\nmarks = ['bin/about.txt']\nbuild = { id = 'pond' }\n\
                    launch = { command = ['sh', 'bin/pond'] }\n\
                    console = { ready = 'up', stop = { signal = 'TERM' } }\n";
        let program = "[[reader]]\nname = 'program'\nkind = 'build'\nshape = 'folder'\nat = 'bin'\n\
                       files = [{ name = 'about.txt', notation = 'lines' }]\n";
        let lilies = "[[reader]]\nname = 'lily'\nkind = 'addon'\nshape = 'folder'\nat = 'lilies/*'\n\
                      files = [{ name = 'lily.toml', notation = 'toml' }]\n\
                      fields = { id = 'id', version = 'version', server = 'for', side = { value = 'server' } }\n";
        world.write("pond.family.toml", [head, program, fields, lilies].concat());
    };
    world.write(
        "pond/bin/about.txt",
        "Pond, a server of its own\nbuild 3.2.0-118 of autumn\n",
    );
    world.write(
        "pond/lilies/white/lily.toml",
        "id = 'white'\nversion = '1.0'\nfor = '>=3'\n",
    );
    world.write(
        "pond/lilies/red/lily.toml",
        "id = 'red'\nversion = '1.0'\nfor = '<3'\n",
    );
    let told = |words: &[&str]| world.lantern(&[words, &["--server", "pond"]].concat());
    family("fields = { id = { value = 'pond' } }\n");
    world.ok(&["adopt", "pond", "--family", "pond.family.toml"]);
    assert_snapshot!("unknown_program", told(&["survey"]));
    assert_snapshot!(
        "unknown_program_plan",
        told(&["plan", "--to", "same", "--drop", "red", "--what-if"])
    );
    // Of a list of lines that one tells which the pattern finds.
    family(
        "fields = { id = { value = 'pond' }, version = { at = 'lines', pattern = '^build (?P<value>[0-9.]+)' } }\n",
    );
    assert_snapshot!("known_program", told(&["survey"]));
}
