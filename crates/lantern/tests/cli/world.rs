//! The harness: a temporary folder, the built programs, and what they print made comparable.

use regex::Regex;
use std::fs;
use std::io::Write;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::atomic::{AtomicU16, AtomicU32, Ordering};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use zip::write::SimpleFileOptions;

/// A temporary folder in which lantern is at work. Servers that still run are ended with it.
pub struct World {
    dir: TempDir,
}

impl World {
    /// An empty folder.
    pub fn empty() -> World {
        World {
            dir: tempfile::tempdir().unwrap(),
        }
    }

    /// The demo's folder: `halcyon-terrace`, `depot`, `drop`.
    pub fn demo() -> World {
        let world = World::empty();
        let made = Command::new(standin())
            .arg("make")
            .arg(world.path(""))
            .env("LANTERN_STANDIN_PORTS_FROM", ports().to_string())
            .status()
            .unwrap();
        assert!(made.success());
        fs::remove_file(world.path("drop/sun-clock-2.1.0.bloom")).unwrap();
        world
    }

    /// The demo's folder, the server adopted, players warned for no time at all.
    pub fn adopted() -> World {
        let world = World::demo();
        world.ok(&["adopt", "halcyon-terrace"]);
        world.edit("halcyon-terrace/lantern.toml", "at = [\"10s\"]", "at = []");
        world
    }

    /// As [`World::adopted`], and the server is up.
    pub fn running() -> World {
        let world = World::adopted();
        world.ok(&["console", "start", "--server", "halcyon-terrace"]);
        world
    }

    pub fn path(&self, path: &str) -> PathBuf {
        self.dir.path().join(path)
    }

    pub fn write(&self, path: &str, content: impl AsRef<[u8]>) {
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }

    pub fn read(&self, path: &str) -> String {
        String::from_utf8_lossy(&fs::read(self.path(path)).unwrap()).into_owned()
    }

    pub fn edit(&self, path: &str, from: &str, to: &str) {
        let text = self.read(path);
        assert!(text.contains(from), "{path} lacks {from}");
        self.write(path, text.replace(from, to));
    }

    /// The name of the backup that a server made last; empty when it has none.
    pub fn newest_backup(&self, server: &str) -> String {
        let list = ["backup", "list", "--json", "--server", server];
        let told = self.output(&list).stdout;
        let told: serde_json::Value = serde_json::from_slice(&told).unwrap();
        let last = told["backups"].as_array().unwrap().last();
        last.map_or(String::new(), |it| it["name"].as_str().unwrap().to_owned())
    }

    /// Copies a folder with all that the system knows of it.
    pub fn copy(&self, from: &str, to: &str) {
        let mut copy = Command::new("cp");
        copy.arg("-a").arg(self.path(from)).arg(self.path(to));
        assert!(copy.status().unwrap().success());
    }

    /// The name of the one backup that a server has.
    pub fn only_backup(&self, server: &str) -> String {
        let pages = self.path(&format!("{server}/.lantern/store/backups"));
        let names = fs::read_dir(pages).unwrap();
        let names = names.map(|page| page.unwrap().file_name().into_string().unwrap());
        let names: Vec<String> = names.collect();
        assert_eq!(names.len(), 1, "{names:?}");
        names[0].trim_end_matches(".json").to_owned()
    }

    /// The folder of what an operation set aside, by its number.
    pub fn aside(&self, server: &str, number: &str) -> String {
        let root = format!("{server}/.lantern/set-aside");
        let mut names = fs::read_dir(self.path(&root)).unwrap().map(|entry| {
            let name = entry.unwrap().file_name();
            name.into_string().unwrap()
        });
        let name = names.find(|name| name.starts_with(&format!("{number}-")));
        format!("{root}/{}", name.unwrap())
    }

    /// Writes a zip archive.
    pub fn zip(&self, path: &str, files: &[(&str, &str)]) {
        fs::create_dir_all(self.path(path).parent().unwrap()).unwrap();
        let mut zip = zip::ZipWriter::new(fs::File::create(self.path(path)).unwrap());
        for (name, content) in files {
            zip.start_file(*name, SimpleFileOptions::default()).unwrap();
            zip.write_all(content.as_bytes()).unwrap();
        }
        zip.finish().unwrap();
    }

    /// Unpacks a zip archive into a folder, over what is there.
    pub fn unpack(&self, archive: &str, to: &str) {
        let archive = fs::File::open(self.path(archive)).unwrap();
        let mut zip = zip::ZipArchive::new(archive).unwrap();
        zip.extract(self.path(to)).unwrap();
    }

    /// Writes an add-on of the halcyon family into the drop folder.
    pub fn drop_addon(&self, file: &str, descriptor: &str) {
        self.zip(&format!("drop/{file}"), &[("addon.toml", descriptor)]);
    }

    fn command(&self, program: &Path, args: &[&str]) -> Command {
        let mut command = Command::new(program);
        // What lies in the folder `bin` is found before the system's.
        command
            .args(args)
            .current_dir(self.dir.path())
            .env_clear()
            .env(
                "PATH",
                format!("{}:/usr/bin:/bin", self.path("bin").display()),
            )
            .envs([("TZ", "UTC"), ("COLUMNS", "110"), ("LC_ALL", "C.UTF-8")])
            .env("HOME", self.dir.path())
            .stdin(Stdio::null());
        command
    }

    /// Runs lantern; returns all that came back as it is.
    pub fn output(&self, args: &[&str]) -> Output {
        self.command(Path::new(env!("CARGO_BIN_EXE_lantern")), args)
            .output()
            .unwrap()
    }

    /// Runs lantern with a variable more in its environment.
    pub fn with_env(&self, args: &[&str], name: &str, value: &str) -> Output {
        let mut command = self.command(Path::new(env!("CARGO_BIN_EXE_lantern")), args);
        command.env(name, value).output().unwrap()
    }

    /// Runs lantern; returns all that came back, made comparable.
    pub fn lantern(&self, args: &[&str]) -> String {
        let output = self.output(args);
        let text = |bytes: &[u8]| self.comparable(&String::from_utf8_lossy(bytes));
        let status = output
            .status
            .code()
            .map_or("killed".into(), |code| code.to_string());
        let mut told = format!(
            "$ lantern {}\nexit status {status}\n",
            self.comparable(&args.join(" "))
        );
        for (name, bytes) in [("stdout", &output.stdout), ("stderr", &output.stderr)] {
            if !bytes.is_empty() {
                told.push_str(&format!("--- {name}\n{}", text(bytes)));
            }
        }
        told
    }

    /// Runs lantern, which has to end with 0; returns its stdout as it is.
    pub fn ok(&self, args: &[&str]) -> String {
        let output = self.output(args);
        let stdout = String::from_utf8_lossy(&output.stdout).into_owned();
        let stderr = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{args:?}: {stdout}\n{stderr}");
        stdout
    }

    /// Runs lantern in a terminal of so many columns; returns what is seen there.
    pub fn narrow(&self, args: &[&str], columns: &str) -> String {
        let line = format!("{} {}", env!("CARGO_BIN_EXE_lantern"), args.join(" "));
        let mut script = self.command(Path::new("script"), &["-qec", &line, "/dev/null"]);
        let output = script
            .env("COLUMNS", columns)
            .env("NO_COLOR", "1")
            .output()
            .unwrap();
        let seen = String::from_utf8_lossy(&output.stdout).replace('\r', "");
        self.comparable(&seen)
    }

    /// Starts lantern and leaves it at work.
    pub fn begin(&self, args: &[&str]) -> Child {
        let mut command = self.command(Path::new(env!("CARGO_BIN_EXE_lantern")), args);
        command
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap()
    }

    /// Starts lantern to talk with it.
    pub fn talking(&self, args: &[&str]) -> Child {
        let mut command = self.command(Path::new(env!("CARGO_BIN_EXE_lantern")), args);
        command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap()
    }

    /// Waits until something is so.
    pub fn wait(&self, what: &str, mut so: impl FnMut() -> bool) {
        let deadline = Instant::now() + Duration::from_secs(60);
        while !so() {
            assert!(Instant::now() < deadline, "waited too long: {what}");
            std::thread::sleep(Duration::from_millis(3));
        }
    }

    /// Every file below a folder with its content's hash, lantern's own and logs left out.
    pub fn tree(&self, folder: &str) -> String {
        let mut lines = Vec::new();
        let mut folders = vec![self.path(folder)];
        while let Some(next) = folders.pop() {
            for entry in fs::read_dir(&next).unwrap() {
                let path = entry.unwrap().path();
                let name = path.file_name().unwrap().to_string_lossy().into_owned();
                if [".lantern", "logs", "log"].contains(&&*name) {
                    continue;
                }
                if path.is_dir() {
                    folders.push(path);
                } else {
                    let below = path
                        .strip_prefix(self.path(folder))
                        .unwrap()
                        .display()
                        .to_string();
                    let hash = blake3::hash(&fs::read(&path).unwrap()).to_hex();
                    lines.push(format!("{below} {}", &hash[..12]));
                }
            }
        }
        lines.sort();
        lines.join("\n")
    }

    pub fn comparable(&self, text: &str) -> String {
        let dir = self
            .dir
            .path()
            .canonicalize()
            .unwrap()
            .display()
            .to_string();
        let mut text = text.replace(&dir, "DIR");
        for (pattern, word) in [
            // Told every so often, on a slow machine alone.
            (
                r"(?m)^ *waiting for (?:it to be \w+, for \d+ s: .*|\d+ of \d+ files to be there)\n?",
                "",
            ),
            (r"\b\d+ min \d+ s\b|\b\d+\.\d s\b|\b\d+ ms\b", "TIME"),
            (r"process \d+", "process PID"),
            (r"ps -fp \d+", "ps -fp PID"),
            (r"\b(p|P)lan [0-9a-f]{6}\b", "${1}lan NAME"),
            (r"(changeover |one, |is |plan +)[0-9a-f]{6}\b", "${1}NAME"),
            (r"\b[0-9a-f]{6} armed", "NAME armed"),
            (r"(  disk         ).*", "${1}SIZES"),
            (r"\d{4}-\d{2}-\d{2}( \d{2}:\d{2}:\d{2})?\b", "DATE"),
            (r"port \d+", "port PORT"),
            // How a copy is made depends on the file system.
            (r"(  copy           ).*", "${1}FILES"),
            (r"(  on a copy \w+ the world[^;\n]*); .*", "$1; SIZE"),
            (
                r#""(down_ms|own_ms|start_ms|stop_ms|at_ms)": \d+"#,
                r#""$1": TIME"#,
            ),
        ] {
            text = Regex::new(pattern)
                .unwrap()
                .replace_all(&text, word)
                .into_owned();
        }
        text
    }
}

impl Drop for World {
    fn drop(&mut self) {
        let Ok(servers) = fs::read_dir(self.dir.path()) else {
            return;
        };
        for server in servers.flatten() {
            let record = server.path().join(".lantern/console/process.json");
            let record = fs::read_to_string(record).ok();
            let record: Option<serde_json::Value> =
                record.and_then(|text| serde_json::from_str(&text).ok());
            let pid = record.and_then(|record| record["pid"].as_i64());
            if let Some(group) = pid.and_then(|pid| rustix::process::Pid::from_raw(pid as i32)) {
                let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
            }
        }
    }
}

/// A small disk; it goes with this.
pub struct Disk(pub PathBuf);

impl Disk {
    /// Mounts one of so many megabytes as `disk`; none where that is not allowed.
    pub fn mount(world: &World, megabytes: u32) -> Option<Disk> {
        let path = world.path("disk");
        fs::create_dir(&path).unwrap();
        let size = format!("size={megabytes}m");
        let mut mount = Command::new("mount");
        mount.args(["-t", "tmpfs", "-o", &size, "tmpfs"]).arg(&path);
        if mount.status().is_ok_and(|status| status.success()) {
            return Some(Disk(path));
        }
        assert!(
            std::env::var_os("CI").is_none(),
            "a small disk cannot be mounted here, and CI has to"
        );
        eprintln!("not run, as a small disk cannot be mounted here (needs root)");
        None
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

/// Where the ports of one world's servers begin: no two worlds at once have the same, also while their servers are down.
pub fn ports() -> u32 {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    20_000 + (std::process::id() * 24 + NEXT.fetch_add(24, Ordering::Relaxed)) % 12_000
}

/// A port that is free now, below those that systems give to outgoing connections.
pub fn free_port() -> u16 {
    static NEXT: AtomicU16 = AtomicU16::new(0);
    let first = std::process::id() % 10_000;
    loop {
        let port = 10_000 + (first as u16 + NEXT.fetch_add(7, Ordering::Relaxed)) % 10_000;
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// Two releases of each of Debian's servers, as `scripts/fetch-servers` makes them; none where they cannot be had, which
/// is said, and fails when `CI` is set.
pub fn debian_servers() -> Option<PathBuf> {
    let servers = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/debian-servers");
    if servers.join("complete").exists() {
        return Some(servers.canonicalize().unwrap());
    }
    let why = "target/debian-servers is missing";
    assert!(
        std::env::var_os("CI").is_none(),
        "{why}, and CI has to have it"
    );
    eprintln!("not run, as {why}; scripts/fetch-servers makes it");
    None
}

/// The stand-in for the outside world, built beside lantern.
pub fn standin() -> PathBuf {
    let path = Path::new(env!("CARGO_BIN_EXE_lantern")).with_file_name("lantern-standin");
    assert!(
        path.exists(),
        "{} is missing: run `cargo build --workspace` first, as scripts/test does",
        path.display()
    );
    path
}

/// The arguments that make the plan of the demo: to 5.4, from the depot.
pub const PLAN: &[&str] = &[
    "plan",
    "--to",
    "5.4",
    "--catalogue",
    "depot/verdance.catalogue.json",
    "--server",
    "halcyon-terrace",
];
/// The arguments that carry the last plan out.
pub const CHANGEOVER: &[&str] = &["changeover", "--yes", "--server", "halcyon-terrace"];
/// The arguments that take it back.
pub const UNDO: &[&str] = &["undo", "--server", "halcyon-terrace"];
/// The arguments that survey the demo's server.
pub const SURVEY: &[&str] = &["survey", "--server", "halcyon-terrace"];
/// The arguments that plan with what lies in the drop folder.
pub const DROP: &[&str] = &[
    "plan",
    "--to",
    "same",
    "--from",
    "drop",
    "--server",
    "halcyon-terrace",
];
