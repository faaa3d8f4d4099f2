//! Files from the web: fetched before anything else, continued, held against what is stated; and a depot that misbehaves.

use crate::world::{World, free_port, standin};
use insta::assert_snapshot;
use std::fs;
use std::io::{BufRead, BufReader};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};

/// A depot that serves a folder of a world, as long as it is kept.
pub struct Depot {
    process: Child,
    pub http: String,
    https: String,
}

impl Drop for Depot {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

impl Depot {
    pub fn of(world: &World, folder: &str) -> Depot {
        let mut process = Command::new(standin())
            .arg("depot")
            .arg(world.path(folder))
            .arg("--log")
            .arg(world.path("depot.log"))
            .arg("--ca")
            .arg(world.path("depot-ca.pem"))
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(process.stdout.take().unwrap()).lines();
        let mut port = |scheme: &str| {
            let line = lines.next().unwrap().unwrap();
            let port = line.strip_prefix(scheme).unwrap().trim().to_owned();
            format!("{scheme}://127.0.0.1:{port}")
        };
        let https = port("https");
        Depot {
            http: port("http"),
            https,
            process,
        }
    }

    /// Without the ports, which are others each time; lines of what was fetched in their order.
    fn told(&self, text: &str) -> String {
        let https = self.https.trim_start_matches("https://");
        let text = text.replace(&self.https, "HTTPS").replace(https, "DEPOT-S");
        let text = text.replace(&self.http, "HTTP");
        let text = text.replace(self.http.trim_start_matches("http://"), "DEPOT");
        let mut lines: Vec<&str> = text.lines().collect();
        let is_of_one =
            |line: &&str| line.starts_with("  fetched ") || line.starts_with("  in the store ");
        let from = lines.iter().position(is_of_one).unwrap_or(0);
        let many = lines[from..]
            .iter()
            .take_while(|line| is_of_one(line))
            .count();
        lines[from..from + many].sort_unstable();
        lines.join("\n")
    }
}

/// What the depot was asked, each with its range.
fn asked(world: &World) -> Vec<String> {
    let log = world.read("depot.log");
    log.lines().map(str::to_owned).collect()
}

#[test]
fn a_server_is_moved_from_a_depot_on_the_web() {
    let world = World::running();
    let depot = Depot::of(&world, "depot");
    let url = format!("{}/verdance.catalogue.json", depot.http);
    let on = |words: &[&str]| {
        depot.told(&world.lantern(&[words, &["--server", "halcyon-terrace"]].concat()))
    };
    assert_snapshot!(
        "gather_first",
        on(&["plan", "--to", "5.4", "--catalogue", &url])
    );
    assert_snapshot!("gather", on(&["gather"]));
    // All of it is in the store: for this server, and for any other one.
    assert_snapshot!("gather_again", on(&["gather"]));
    let before = asked(&world).len();
    world.copy("halcyon-terrace", "other");
    fs::remove_dir_all(world.path("other/.lantern")).unwrap();
    fs::remove_file(world.path("other/lantern.toml")).unwrap();
    world.ok(&["adopt", "other"]);
    world.ok(&[
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        &url,
        "--server",
        "other",
    ]);
    let since = asked(&world).split_off(before);
    assert_eq!(since, ["/verdance.catalogue.json - 304 0"]);
    // What the plan needs and is gone, is fetched before anything else.
    fs::remove_dir_all(world.path(".cache/lantern/files")).unwrap();
    let told = on(&["changeover", "--yes"]);
    assert_eq!(told.matches("  fetched  ").count(), 9, "{told}");
    assert!(told.contains("exit status 0"), "{told}");
    assert!(
        world
            .ok(&["survey", "--server", "halcyon-terrace"])
            .contains("halcyon 5.4.0")
    );
    // Without the depot the server is not stopped.
    fs::remove_dir_all(world.path(".cache/lantern/files")).unwrap();
    let on_other = |words: &[&str]| world.lantern(&[words, &["--server", "other"]].concat());
    let again = on_other(&["plan", "--again"]);
    assert!(again.contains("9 files have to be fetched"), "{again}");
    drop(depot);
    let outlook = on_other(&["outlook", "--to", "5.4", "--catalogue", &url]);
    assert!(
        outlook.contains("not asked: ") && outlook.contains(" ago counts"),
        "{outlook}"
    );
}

/// A release of one add-on, in a catalogue of our own, with its addresses.
fn fern(world: &World, urls: &[String]) {
    let lines = (0..200_u32).map(|line| blake3::hash(&line.to_le_bytes()).to_hex().to_string());
    let more: String = lines.collect();
    world.zip(
        "depot/fern.bloom",
        &[
            (
                "addon.toml",
                "id = \"fern\"\nversion = \"1.0.0\"\nserver = \">=5.0\"\nside = \"server\"\n",
            ),
            ("more.txt", &more),
        ],
    );
    catalogue(world, urls, "");
}

fn catalogue(world: &World, urls: &[String], more: &str) {
    let file = fs::read(world.path("depot/fern.bloom")).unwrap();
    let urls: Vec<String> = urls.iter().map(|url| format!("\"{url}\"")).collect();
    world.write(
        "fern.catalogue.json",
        format!(
            "{{\"format\": 1, \"name\": \"fern\", \"releases\": [{{\"id\": \"fern\", \"kind\": \"addon\", \"version\": \"1.0.0\", \"server\": \">=5.0\",
            \"archive\": {{\"urls\": [{}], \"blake3\": \"{}\", \"bytes\": {}{more}}}}}]}}",
            urls.join(", "),
            blake3::hash(&file).to_hex(),
            file.len()
        ),
    );
}

const ADD: &[&str] = &[
    "plan",
    "--to",
    "same",
    "--add",
    "fern",
    "--catalogue",
    "fern.catalogue.json",
    "--server",
    "halcyon-terrace",
];

/// Says more in lantern.toml.
fn say(world: &World, words: &str) {
    let file = "halcyon-terrace/lantern.toml";
    let text = world.read(file);
    world.write(file, format!("{text}\n{words}"));
}

/// Forgets what was fetched.
fn forget(world: &World) {
    let _ = fs::remove_dir_all(world.path(".cache"));
}

#[test]
fn a_depot_that_misbehaves() {
    let world = World::adopted();
    say(&world, "[gather]\nca = \"../depot-ca.pem\"\n");
    let depot = Depot::of(&world, "depot");
    let gather = ["gather", "--server", "halcyon-terrace"];
    let mut told = Vec::new();
    for (ways, whole) in [
        (&["http cut-once=1000"][..], true),
        (&["http cut=1000", "http ok"], true),
        (&["http second=1000", "http ok"], true),
        (&["http second=1000"], false),
        (&["http no-mark", "http ok"], true),
        (&["http busy=2"], true),
        (&["http trouble=2"], true),
        (&["https ok"], true),
        (&["https plain"], false),
        (&["http file"], false),
        (&["http loop"], false),
        (&["http long"], false),
        (&["http other"], false),
        (&["http other", "http ok"], true),
        (&["http packed"], false),
        (&["http endless"], false),
        (&["http page"], false),
        (&["http nothing-there"], false),
        (&["http key"], false),
    ] {
        forget(&world);
        let urls = ways.iter().map(|way| {
            let (scheme, way) = way.split_once(' ').unwrap();
            let host = if scheme == "https" {
                &depot.https
            } else {
                &depot.http
            };
            match way {
                "ok" => format!("{host}/fern.bloom"),
                "nothing-there" => format!("{host}/no/fern.bloom"),
                // Each case asks for the first time.
                way => format!("{host}/~{way}/fern.bloom?{}", told.len()),
            }
        });
        fern(&world, &urls.collect::<Vec<_>>());
        assert!(world.lantern(ADD).contains("exit status 3"), "{ways:?}");
        let came = depot.told(&world.lantern(&gather));
        assert_eq!(came.contains("exit status 0"), whole, "{ways:?}: {came}");
        let lines = came
            .lines()
            .filter(|line| line.starts_with("  fetched") || line.starts_with("    HTTP"));
        told.push(format!(
            "{}\n{}",
            ways.join(", then "),
            lines.collect::<Vec<_>>().join("\n")
        ));
        world.lantern(&["plan", "--to", "same", "--server", "halcyon-terrace"]);
    }
    assert_snapshot!("gather_misbehaving", told.join("\n\n"));
}

#[test]
fn who_is_asked_has_to_show_who_he_is() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    fern(&world, &[format!("{}/fern.bloom", depot.https)]);
    let gather = ["gather", "--server", "halcyon-terrace"];
    world.lantern(ADD);
    assert_snapshot!(
        "gather_unknown_certificate",
        depot.told(&world.lantern(&gather))
    );
    let url = format!("{}/verdance.catalogue.json", depot.https);
    let plan = [
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        &url,
        "--server",
        "halcyon-terrace",
    ];
    assert_snapshot!(
        "catalogue_unknown_certificate",
        depot.told(&world.lantern(&plan))
    );
    let nobody = [
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        "https://nobody.invalid/a.catalogue.json",
        "--server",
        "halcyon-terrace",
    ];
    assert_snapshot!("catalogue_unknown_host", world.lantern(&nobody));
    let login = format!("{}/~page/verdance.catalogue.json", depot.http);
    let page = [
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        &login,
        "--server",
        "halcyon-terrace",
    ];
    assert_snapshot!("catalogue_page", depot.told(&world.lantern(&page)));
}

/// The usual variables name a proxy: everything goes through it, and it alone knows the host.
#[test]
fn a_proxy_is_asked_where_the_environment_names_one() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    let url = "http://depot.invalid/verdance.catalogue.json";
    let plan = [
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        url,
        "--gather",
        "--server",
        "halcyon-terrace",
    ];
    let output = world.with_env(&plan, "http_proxy", &depot.http);
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{told}");
    assert!(
        told.contains("from depot.invalid, checked by blake3"),
        "{told}"
    );
    assert!(asked(&world).contains(&"depot.invalid:80 - 200 0".to_owned()));
    // Who is elsewhere has nothing asked of this machine.
    fern(&world, &[format!("{}/fern.bloom", depot.http)]);
    world.copy("fern.catalogue.json", "depot/fern.catalogue.json");
    let mut elsewhere = ADD.to_vec();
    elsewhere[6] = "http://depot.invalid/fern.catalogue.json";
    let output = world.with_env(&elsewhere, "http_proxy", &depot.http);
    let led = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(
        led.contains("fern.bloom is this machine, and that is not asked for others"),
        "{led}"
    );
    let output = world.with_env(&plan, "http_proxy", "no proxy");
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(told.contains("not asked: http://depot.invalid"), "{told}");
}

/// A key is shown to the host that it is for, and to no other one.
#[test]
fn a_key_stays_with_its_host() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    let host = depot.http.trim_start_matches("http://").to_owned();
    let (_, port) = host.split_once(':').unwrap();
    let words =
        format!("[[gather.key]]\nhost = \"{host}\"\nheader = \"x-depot-key\"\nfile = \"../key\"\n");
    say(&world, &words);
    world.write("key", "fern\n");
    let gather = ["gather", "--server", "halcyon-terrace"];
    fern(&world, &[format!("{}/~key/fern.bloom", depot.http)]);
    world.lantern(ADD);
    assert!(world.lantern(&gather).contains("exit status 0"));
    let plan = world.read("halcyon-terrace/.lantern/next.plan.json");
    assert!(!plan.contains("x-depot-key") && plan.contains("/~key/fern.bloom"));
    forget(&world);
    fern(
        &world,
        &[format!("{}/~away={port}/~key/fern.bloom", depot.http)],
    );
    world.lantern(ADD);
    let led = depot.told(&world.lantern(&gather));
    assert!(led.contains("answered 403"), "{led}");
    fs::remove_file(world.path("key")).unwrap();
    let lost = world.lantern(&gather);
    assert!(lost.contains("key failed"), "{lost}");
}

/// A release of 3 MB, so that it is met on its way.
fn big_fern(world: &World) {
    let mut big = vec![0_u8; 3 << 20];
    for (at, byte) in big.iter_mut().enumerate() {
        *byte = u8::try_from(at % 251).unwrap();
    }
    let zip = fs::File::create(world.path("depot/fern.bloom")).unwrap();
    let mut zip = zip::ZipWriter::new(zip);
    let options =
        zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    zip.start_file("addon.toml", options).unwrap();
    std::io::Write::write_all(
        &mut zip,
        b"id = \"fern\"\nversion = \"1.0.0\"\nserver = \">=5.0\"\nside = \"server\"\n",
    )
    .unwrap();
    zip.start_file("big.bin", options).unwrap();
    std::io::Write::write_all(&mut zip, &big).unwrap();
    zip.finish().unwrap();
}

/// Begins to fetch, and kills it on the way; how much is there then, in bytes.
fn cut_off(world: &World) -> u64 {
    let mut child = world.begin(&["gather", "--server", "halcyon-terrace"]);
    let part = || {
        let mut parts = fs::read_dir(world.path(".cache/lantern/parts")).ok()?;
        parts.find_map(|entry| {
            let entry = entry.unwrap();
            entry
                .path()
                .extension()
                .is_some_and(|end| end == "part")
                .then(|| entry.metadata().unwrap().len())
        })
    };
    world.wait("some of it is there", || {
        part().is_some_and(|bytes| bytes > 1 << 20)
    });
    child.kill().unwrap();
    child.wait().unwrap();
    part().unwrap()
}

#[test]
fn a_download_that_was_killed_goes_on() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    fern(&world, &[]);
    big_fern(&world);
    catalogue(&world, &[format!("{}/~slow=60/fern.bloom", depot.http)], "");
    world.lantern(ADD);
    let there = cut_off(&world);
    let told = world.lantern(&["gather", "--server", "halcyon-terrace"]);
    assert!(
        told.contains("exit status 0") && told.contains("continued after 1."),
        "{told}"
    );
    let last = asked(&world);
    let last = last.iter().rfind(|line| line.contains("fern")).unwrap();
    assert!(last.contains(&format!("bytes={there}- 206")), "{last}");
}

/// What broke off goes on from web servers that are not ours: one that can, and one that can only send the whole.
#[test]
fn a_download_goes_on_from_real_web_servers() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    fern(&world, &[]);
    big_fern(&world);
    let (port, other) = (free_port(), free_port());
    world.write(
        "nginx.conf",
        format!(
            "user root;\ndaemon off;\npid {0}/nginx.pid;\nerror_log {0}/nginx.err;\nevents {{}}\nhttp {{ access_log {0}/nginx.log;\nserver {{ listen 127.0.0.1:{port}; root {0}/depot; }} }}\n",
            world.path("").display()
        ),
    );
    let nginx = Command::new("/usr/sbin/nginx")
        .arg("-c")
        .arg(world.path("nginx.conf"))
        .stderr(Stdio::null())
        .spawn();
    let _nginx = Ended(nginx.expect("Debian's nginx is installed: scripts/test does"));
    let python = Command::new("python3")
        .args([
            "-m",
            "http.server",
            "--bind",
            "127.0.0.1",
            &other.to_string(),
            "--directory",
        ])
        .arg(world.path("depot"))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    let _python = Ended(python.unwrap());
    for (port, goes_on) in [(port, true), (other, false)] {
        world.wait("it listens", || {
            TcpStream::connect(("127.0.0.1", port)).is_ok()
        });
        forget(&world);
        catalogue(&world, &[format!("{}/~slow=60/fern.bloom", depot.http)], "");
        world.lantern(ADD);
        cut_off(&world);
        catalogue(&world, &[format!("http://127.0.0.1:{port}/fern.bloom")], "");
        world.lantern(ADD);
        let told = world.lantern(&["gather", "--server", "halcyon-terrace"]);
        assert!(told.contains("exit status 0"), "{told}");
        assert_eq!(told.contains("continued after 1."), goes_on, "{told}");
        world.lantern(&["plan", "--to", "same", "--server", "halcyon-terrace"]);
    }
    assert!(world.read("nginx.log").contains(" 206 "));
}

/// A process that is ended where it is dropped; with those that it began.
struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        // In peace, so that it ends its own.
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        let _ = self.0.wait();
    }
}

#[test]
fn what_a_person_has_fetched_is_known_by_what_it_is() {
    let world = World::adopted();
    fern(&world, &[]);
    let page =
        ", \"page\": \"https://depot.example/fern\", \"by_person\": \"you have to be logged in\"";
    catalogue(&world, &[], page);
    world.lantern(ADD);
    fs::create_dir(world.path("downloads")).unwrap();
    let whole = fs::read(world.path("depot/fern.bloom")).unwrap();
    fs::write(
        world.path("downloads/fern (1).bloom"),
        &whole[..whole.len() / 2],
    )
    .unwrap();
    fs::write(world.path("downloads/archive.part"), "x").unwrap();
    // Another edition, whatever it is called; and another file of the same release.
    let other = |name: &str, more: &str| {
        let addon = format!("id = 'fern'\nversion = '1.0.0'\n{more}");
        world.zip(&format!("downloads/{name}"), &[("addon.toml", &addon)]);
    };
    other("for players.bloom", "side = 'client'\n");
    other("fern.bloom", "title = 'Fern'\n");
    let from = [
        "gather",
        "--from",
        "downloads",
        "--server",
        "halcyon-terrace",
    ];
    // Nobody says what it is called: only what it is counts.
    assert_snapshot!("gather_by_person", world.lantern(&from));
    let json = [&from[..], &["--json"]].concat();
    assert_snapshot!("gather_by_person_json", world.lantern(&json));
    fs::write(world.path("downloads/whatever it is.tmp"), &whole).unwrap();
    let told = world.lantern(&from);
    assert!(
        told.contains("taken") && told.contains("exit status 0"),
        "{told}"
    );
    // And while somebody waits for it.
    forget(&world);
    fs::remove_file(world.path("downloads/whatever it is.tmp")).unwrap();
    world.lantern(ADD);
    let mut child = world.begin(&[&from[..], &["--wait"]].concat());
    std::thread::sleep(std::time::Duration::from_millis(300));
    fs::write(world.path("downloads/late.bin"), &whole).unwrap();
    assert!(child.wait().unwrap().success());
    assert_snapshot!(
        "gather_clean",
        world.lantern(&["gather", "--clean", "0", "--server", "halcyon-terrace"])
    );
    assert_snapshot!(
        "gather_clean_wrong",
        world.lantern(&["gather", "--clean", "much", "--server", "halcyon-terrace"])
    );
}

/// What states no version is known by whatever hash somebody states of it: installed, and among the downloads.
#[test]
fn a_file_is_recognised_by_any_hash() {
    let world = World::adopted();
    let addon = [("addon.toml", "id = 'moss'\n")];
    world.zip("halcyon-terrace/addons/moss.bloom", &addon);
    world.zip(
        "drop/moss-next.bloom",
        &[("addon.toml", "id = 'moss'\n"), ("x.txt", "x")],
    );
    let release = |version: &str, file: &str| {
        let hash = sha256(&fs::read(world.path(file)).unwrap());
        format!(
            r#"{{"id": "moss", "kind": "addon", "version": "{version}", "archive": {{"sha256": "{hash}", "page": "https://depot.example/moss"}}}}"#
        )
    };
    let releases = [
        release("1.3", "halcyon-terrace/addons/moss.bloom"),
        release("1.4", "drop/moss-next.bloom"),
    ];
    let text = format!(
        r#"{{"format": 1, "name": "moss", "releases": [{}]}}"#,
        releases.join(", ")
    );
    world.write("moss.catalogue.json", text);
    let on = |words: &[&str]| world.lantern(&[words, &["--server", "halcyon-terrace"]].concat());
    let before = on(&["survey", "moss"]);
    let plan = on(&[
        "plan",
        "--to",
        "same",
        "--catalogue",
        "moss.catalogue.json",
        "--from",
        "drop",
        "--only",
        "moss",
    ]);
    assert_snapshot!(
        "gather_recognised",
        format!("{before}\n{plan}\n{}", on(&["survey", "moss"]))
    );
}

/// A file that lies beside its catalogue is held against whatever hash that states of it, before it is planned with.
#[test]
fn a_file_beside_a_catalogue_is_held_against_any_hash() {
    let world = World::adopted();
    let addon = [("addon.toml", "id = 'moss'\nversion = '1.3'\n")];
    world.zip("shelf/moss.bloom", &addon);
    let bytes = fs::read(world.path("shelf/moss.bloom")).unwrap();
    let state = |hash: &str| {
        let text = format!(
            r#"{{"format": 1, "name": "moss", "releases": [{{"id": "moss", "kind": "addon", "version": "1.3", "archive": {{"file": "moss.bloom", "bytes": {}, "sha256": "{hash}"}}}}]}}"#,
            bytes.len()
        );
        world.write("shelf/moss.catalogue.json", text);
    };
    let on = |words: &[&str]| world.lantern(&[words, &["--server", "halcyon-terrace"]].concat());
    let catalogue = ["--catalogue", "shelf/moss.catalogue.json", "--add", "moss"];
    let plan = || on(&[&["plan", "--to", "same"], &catalogue[..]].concat());
    state(&sha256(b"another file"));
    let refused = plan();
    assert!(refused.contains("is not the expected file"), "{refused}");
    state(&sha256(&bytes));
    let planned = plan();
    assert!(planned.contains("is armed"), "{planned}");
    world.ok(&["changeover", "--yes", "--server", "halcyon-terrace"]);
    assert!(on(&["survey", "moss"]).contains("moss 1.3"));
}

/// Who states a key has only what is signed by it, and nothing that is older than what he has seen.
#[test]
fn a_signed_catalogue_is_believed_and_no_other_one() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    let catalogue = "depot/verdance.catalogue.json";
    let sign = [
        "catalogue",
        "sign",
        catalogue,
        "--key",
        "depot.key",
        "--new-key",
    ];
    let told = world.lantern(&sign);
    let json = world.ok(&[
        "catalogue",
        "sign",
        catalogue,
        "--key",
        "depot.key",
        "--json",
    ]);
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    let key = json["key"].as_str().unwrap();
    assert_snapshot!("catalogue_sign", told.replace(key, "KEY"));
    assert_snapshot!("catalogue_sign_again", world.lantern(&sign));
    let rights = fs::metadata(world.path("depot.key")).unwrap().permissions();
    assert_eq!(
        std::os::unix::fs::PermissionsExt::mode(&rights) & 0o777,
        0o600
    );
    let url = format!("{}/verdance.catalogue.json", depot.http);
    let file = "halcyon-terrace/lantern.toml";
    let text = world.read(file);
    world.write(
        file,
        format!("catalogues = [{{ at = \"{url}\", key = \"{key}\" }}]\n{text}"),
    );
    let outlook =
        || depot.told(&world.lantern(&["outlook", "--to", "5.4", "--server", "halcyon-terrace"]));
    assert!(outlook().contains("ready 2.2.0"));
    let signature = format!("{catalogue}.minisig");
    let old = (world.read(catalogue), world.read(&signature));
    std::thread::sleep(std::time::Duration::from_millis(1100));
    world.edit(catalogue, "\"Verdance depot\"", "\"Verdance depot, later\"");
    assert_snapshot!("catalogue_wrong_signature", outlook());
    world.ok(&sign[..5]);
    assert!(outlook().contains("ready 2.2.0"));
    world.write(catalogue, old.0);
    world.write(&signature, old.1);
    let older = regex::Regex::new("[0-9]+ s earlier").unwrap();
    assert_snapshot!("catalogue_older", older.replace(&outlook(), "N s earlier"));
    fs::remove_file(world.path(&signature)).unwrap();
    assert_snapshot!("catalogue_unsigned", outlook());
}

#[test]
fn a_catalogue_of_a_folder_names_its_addresses() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    let make = [
        "catalogue",
        "make",
        "depot/releases",
        "--family",
        "halcyon",
        "--url",
        &format!("{}/releases", depot.http),
    ];
    world.ok(&make);
    world.copy(
        "depot/releases/releases.catalogue.json",
        "elsewhere.catalogue.json",
    );
    let plan = [
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        "elsewhere.catalogue.json",
        "--gather",
        "--server",
        "halcyon-terrace",
    ];
    let told = depot.told(&world.lantern(&plan));
    assert!(
        told.contains("exit status 0") && told.matches("  fetched ").count() == 9,
        "{told}"
    );
    let check = |file: &str| world.lantern(&["catalogue", "check", file, "--family", "halcyon"]);
    let beside = check("depot/releases/releases.catalogue.json");
    let text = world.read("elsewhere.catalogue.json");
    world.write(
        "elsewhere.catalogue.json",
        text.replace("\"file\": ", "\"name\": "),
    );
    let elsewhere = check("elsewhere.catalogue.json");
    assert_snapshot!(
        "catalogue_check_elsewhere",
        format!("{beside}\n{elsewhere}")
    );
    let wrong = [
        "catalogue",
        "make",
        "depot/releases",
        "--family",
        "halcyon",
        "--again",
        "--url",
        "ftp://depot.example",
    ];
    assert_snapshot!("catalogue_make_wrong_url", world.lantern(&wrong));
}

/// The store keeps to its limit, and what is needed now stays.
#[test]
fn the_store_keeps_to_its_limit() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    say(&world, "[gather]\nlimit = \"500KB\"\n");
    fern(&world, &[format!("{}/fern.bloom", depot.http)]);
    world.lantern(&[ADD, &["--gather"]].concat());
    let files = || world.tree(".cache/lantern/files").lines().count();
    assert_eq!(files(), 1);
    let url = format!("{}/verdance.catalogue.json", depot.http);
    let plan = [
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        &url,
        "--gather",
        "--server",
        "halcyon-terrace",
    ];
    assert!(world.lantern(&plan).contains("exit status 0"));
    // More than the limit, but all of it is needed; what was there before is gone.
    assert_eq!(files(), 9);
    world.edit("halcyon-terrace/lantern.toml", "500KB", "500 much");
    let told = world.lantern(&["gather", "--server", "halcyon-terrace"]);
    assert!(told.contains("MUCH is none of KB, MB, GB, TB"), "{told}");
}

#[test]
fn two_catalogues_are_one_list() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    fern(&world, &[format!("{}/no/fern.bloom", depot.http)]);
    let first = world.read("fern.catalogue.json");
    // The same file is had from the one that has it; of another one the first catalogue counts.
    world.write("second.catalogue.json", first.replace("/no/", "/"));
    let hash = blake3::hash(&fs::read(world.path("depot/fern.bloom")).unwrap())
        .to_hex()
        .to_string();
    world.write(
        "third.catalogue.json",
        first.replace(&hash, &"0".repeat(64)),
    );
    let more = [
        "--catalogue",
        "second.catalogue.json",
        "--catalogue",
        "third.catalogue.json",
        "--gather",
    ];
    let told = depot.told(&world.lantern(&[ADD, &more].concat()));
    assert!(told.contains("third.catalogue.json: fern 1.0.0 has another blake3 in fern.catalogue.json: that one counts"), "{told}");
    assert!(told.contains("  fetched        fern 1.0.0"), "{told}");
}

const MARKET: &str = r#"
format = 1
name = "Greenhouse market"
answers = "json"
items = "releases"
[ask]
url = "HTTP/market/{id}/{page}.json"
last_page = "pages"
per_second = 50
[fields]
version = "label"
server = { at = "made_for", template = ">={}" }
channel = "how"
needs = { at = "links", item = { id = "to", range = "from", only = { kind = "must" } }, range = ">={}" }
[archive]
urls = "file.at"
sha256 = "file.sha256"
[words.channel]
beta = "early"
release = "stable"
[[skip]]
at = "label"
pattern = '^(latest|recommended)$'
"#;

/// Somebody else's listing, in pages, with other ids: what is installed is asked for, and what that needs.
#[test]
fn somebody_elses_listing_is_one_more_catalogue() {
    let world = World::adopted();
    fs::create_dir_all(world.path("depot/market/4711")).unwrap();
    let depot = Depot::of(&world, "depot");
    world.write("market.listing.toml", MARKET.replace("HTTP", &depot.http));
    say(&world, "[ids]\nfern = \"4711\"\n");
    fern(&world, &[]);
    let moss = "id = \"moss\"\nversion = \"2.0.0\"\nserver = \">=5.0\"\nside = \"server\"\n";
    world.zip("depot/moss.bloom", &[("addon.toml", moss)]);
    world.write(
        "depot/market/4711/1.json",
        r#"{"pages": 2, "releases": [
            {"label": "latest"},
            {"label": "1.1.0", "made_for": "5.0", "how": "beta", "file": {"at": "/no/fern.bloom"}},
            {"label": "0.9.0", "made_for": "5.0", "how": "nightly", "file": {"at": "/no/fern.bloom"}}]}"#,
    );
    world.write(
        "depot/market/4711/2.json",
        r#"{"pages": 2, "releases": [{"label": "1.0.0", "made_for": "5.0", "how": "release", "file": {"at": "/fern.bloom"},
            "links": [{"to": "moss", "from": "2", "kind": "must"}, {"to": "ivy", "kind": "may"}]}]}"#,
    );
    let wrong = "0".repeat(64);
    fs::create_dir_all(world.path("depot/market/moss")).unwrap();
    let of_moss = |sha: &str| {
        format!(
            r#"{{"pages": 1, "releases": [{{"label": "2.0.0", "made_for": "5.0", "file": {{"at": "../../moss.bloom", "sha256": "{sha}"}}}}]}}"#
        )
    };
    world.write("depot/market/moss/1.json", of_moss(&wrong));
    let check = |id: &str| {
        depot.told(&world.lantern(&[
            "catalogue",
            "check",
            "market.listing.toml",
            "--id",
            id,
            "--family",
            "halcyon",
        ]))
    };
    assert_snapshot!("listing_check", check("4711"));
    assert_snapshot!("listing_check_unknown", check("ivy"));
    let add = [
        "plan",
        "--to",
        "same",
        "--add",
        "fern",
        "--catalogue",
        "market.listing.toml",
        "--gather",
        "--server",
        "halcyon-terrace",
    ];
    let told = depot.told(&world.lantern(&add));
    assert!(told.contains("it is another file: its sha256 is"), "{told}");
    let file = fs::read(world.path("depot/moss.bloom")).unwrap();
    let sha = sha256(&file);
    world.write("depot/market/moss/1.json", of_moss(&sha));
    forget(&world);
    assert_snapshot!("listing_plan", depot.told(&world.lantern(&add)));
    // What was asked a moment ago is not asked again.
    let before = asked(&world).len();
    let again = world.lantern(&add);
    assert!(again.contains("Plan NAME is armed"), "{again}");
    assert_eq!(asked(&world).split_off(before), Vec::<String>::new());
    // A listing that changed its shape says so, and where.
    forget(&world);
    world.write("depot/market/4711/1.json", "{\"files\": []}");
    assert_snapshot!("listing_other_shape", depot.told(&world.lantern(&add)));
    world.edit("market.listing.toml", "answers", "answer");
    assert_snapshot!("listing_bad_mapping", world.lantern(&add));
}

/// A page of links, as a web server shows a folder, by the mapping that was drafted from it.
#[test]
fn a_page_of_links_is_a_listing() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    fern(&world, &[]);
    fs::rename(
        world.path("depot/fern.bloom"),
        world.path("depot/fern-1.0.0.bloom"),
    )
    .unwrap();
    world.write("depot/index.html", "<h1>Index of /</h1><a href='../'>../</a><br><a href='fern-1.0.0.bloom'>fern-1.0.0.bloom</a>");
    let url = format!("{}/index.html", depot.http);
    let new = ["catalogue", "new", &url, "--out", "links.listing.toml"];
    assert_snapshot!("listing_draft", depot.told(&world.lantern(&new)));
    assert_snapshot!("listing_draft_in_the_way", depot.told(&world.lantern(&new)));
    assert_snapshot!("listing_draft_shown", depot.told(&world.lantern(&new[..3])));
    let none = format!("{}/halcyon-5.4.0.zip", depot.http);
    assert!(
        world
            .lantern(&["catalogue", "new", &none])
            .contains("exit status 1")
    );
    let add = [
        "plan",
        "--to",
        "same",
        "--add",
        "fern",
        "--catalogue",
        "links.listing.toml",
        "--allow-untested",
        "--gather",
        "--server",
        "halcyon-terrace",
    ];
    let told = depot.told(&world.lantern(&add));
    assert!(
        told.contains("  fetched        fern 1.0.0") && told.contains("is armed"),
        "{told}"
    );
}

/// A server program comes from a listing like anything else, whatever the listing calls the latest.
#[test]
fn a_server_program_comes_from_a_listing() {
    let world = World::adopted();
    let depot = Depot::of(&world, "depot");
    let of = |version: &str| {
        let name = format!("halcyon-{version}.zip");
        let sha = sha256(&fs::read(world.path(&format!("depot/releases/{name}"))).unwrap());
        format!(r#"{{"build": "{version}", "at": "releases/{name}", "sum": "{sha}"}}"#)
    };
    let builds = [of("5.2.0"), of("5.4.0")].join(", ");
    let latest = r#"{"build": "latest", "at": "releases/halcyon-5.4.0.zip"}"#;
    world.write("depot/builds.json", format!("[{builds}, {latest}]"));
    let mapping = "format = 1\nname = \"Builds\"\nkind = \"build\"\nanswers = \"json\"\nitems = \"\"\n\n\
        [ask]\nurl = \"HTTP/builds.json\"\n\n[fields]\nid = { value = \"halcyon\" }\nversion = \"build\"\n\n\
        [archive]\nurls = \"at\"\nsha256 = \"sum\"\n\n[[skip]]\nat = \"build\"\npattern = '^latest$'\n";
    world.write("builds.listing.toml", mapping.replace("HTTP", &depot.http));
    let on = |words: &[&str]| world.ok(&[words, &["--server", "halcyon-terrace"]].concat());
    let listing = ["--catalogue", "builds.listing.toml"];
    let outlook = on(&[&["outlook"], &listing[..]].concat());
    assert!(outlook.contains("5.4.0"), "{outlook}");
    let plan = on(&[&["plan", "--to", "5.2", "--gather"], &listing[..]].concat());
    assert!(plan.contains("halcyon 5.1.0 to 5.2.0"), "{plan}");
    on(&["changeover", "--yes"]);
    assert!(on(&["survey"]).contains("halcyon 5.2.0"));
}

fn sha256(bytes: &[u8]) -> String {
    use std::io::Write;
    let mut sum = Command::new("sha256sum")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    sum.stdin.take().unwrap().write_all(bytes).unwrap();
    let out = sum.wait_with_output().unwrap();
    String::from_utf8_lossy(&out.stdout)[..64].to_owned()
}
