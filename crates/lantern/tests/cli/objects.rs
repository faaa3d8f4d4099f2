//! An object store on this machine that speaks S3 and is not ours, and a line to it that fails as lines do.

use crate::world::{World, free_port};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// What happens to a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The store is busy.
    Busy,
    /// The answer breaks off in its middle; the request was heard.
    Cut,
    /// Nobody hears it, and the line is closed.
    Deaf,
    /// It takes a while.
    Slow,
    /// The store has lost it.
    Gone,
}

/// Says what happens to a request, by its number, its method and what it is about.
type Chance = Box<dyn Fn(usize, &str, &str) -> Option<Fault> + Send>;

/// An object store, with a bucket `lantern`.
pub struct Objects {
    server: Child,
    /// Behind which it is reached.
    pub port: u16,
    asked: Arc<Mutex<Vec<String>>>,
    chance: Arc<Mutex<Chance>>,
}

fn program() -> Option<PathBuf> {
    let target = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/object-store");
    target.join("moto").exists().then_some(target)
}

impl Objects {
    /// None where it is not here, which fails when `CI` is set.
    pub fn start() -> Option<Objects> {
        let Some(program) = program() else {
            assert!(
                std::env::var_os("CI").is_none(),
                "the object store is missing, and CI has to have it"
            );
            eprintln!("not run, as the object store is missing; scripts/test fetches it");
            return None;
        };
        let behind = free_port();
        let server = Command::new("python3")
            .args(["-m", "moto.server", "-H", "127.0.0.1", "-p"])
            .arg(behind.to_string())
            .env("PYTHONPATH", program)
            .env("MOTO_S3_DEFAULT_KEY_BUFFER_SIZE", "268435456")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let objects = Objects {
            server,
            port: listener.local_addr().unwrap().port(),
            asked: Arc::default(),
            chance: Arc::new(Mutex::new(Box::new(|_, _, _| None))),
        };
        let deadline = std::time::Instant::now() + Duration::from_secs(60);
        while TcpStream::connect(("127.0.0.1", behind)).is_err() {
            assert!(std::time::Instant::now() < deadline, "it does not start");
            std::thread::sleep(Duration::from_millis(50));
        }
        let mut stream = TcpStream::connect(("127.0.0.1", behind)).unwrap();
        let make =
            "PUT /lantern HTTP/1.1\r\nhost: x\r\ncontent-length: 0\r\nconnection: close\r\n\r\n";
        stream.write_all(make.as_bytes()).unwrap();
        let mut made = String::new();
        stream.read_to_string(&mut made).unwrap();
        assert!(made.contains(" 200 "), "{made}");
        let (asked, chance) = (Arc::clone(&objects.asked), Arc::clone(&objects.chance));
        std::thread::spawn(move || {
            for line in listener.incoming().flatten() {
                let (asked, chance) = (Arc::clone(&asked), Arc::clone(&chance));
                std::thread::spawn(move || pass_on(line, behind, &asked, &chance));
            }
        });
        Some(objects)
    }

    /// From now on, so it fails.
    pub fn fails(&self, chance: impl Fn(usize, &str, &str) -> Option<Fault> + Send + 'static) {
        *self.chance.lock().unwrap() = Box::new(chance);
    }

    /// What was asked since the last time, as method and name.
    pub fn asked(&self) -> Vec<String> {
        std::mem::take(&mut *self.asked.lock().unwrap())
    }

    /// What is stated in `lantern.toml` to use it.
    pub fn settings(&self, world: &World, path: &str) -> String {
        world.write(
            "objects.toml",
            "access_key = \"terrace\"\nsecret_key = \"moss\"\n",
        );
        format!(
            "\n[backup]\nstore = \"s3://lantern/{path}\"\nendpoint = \"http://127.0.0.1:{}\"\ncredentials = \"../objects.toml\"\n",
            self.port
        )
    }
}

impl Drop for Objects {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

/// Passes requests on, one at a time, and what comes back.
fn pass_on(line: TcpStream, behind: u16, asked: &Mutex<Vec<String>>, chance: &Mutex<Chance>) {
    let mut reader = BufReader::new(line.try_clone().unwrap());
    let mut line = line;
    while let Some((head, body)) = message(&mut reader) {
        let first = head.lines().next().unwrap_or_default().to_owned();
        let mut words = first.split(' ');
        let method = words.next().unwrap_or_default();
        let target = words.next().unwrap_or_default();
        let (path, query) = target.split_once('?').unwrap_or((target, ""));
        let prefix = query
            .split('&')
            .find_map(|part| part.strip_prefix("prefix="));
        let about = match prefix {
            Some(prefix) => format!("?{}", prefix.replace("%2F", "/")),
            None => path.trim_start_matches("/lantern/").to_owned(),
        };
        let number = {
            let mut asked = asked.lock().unwrap();
            asked.push(format!("{method} {about}"));
            asked.len()
        };
        let fault = chance.lock().unwrap()(number, method, &about);
        match fault {
            Some(Fault::Deaf) => return,
            Some(fault @ (Fault::Busy | Fault::Gone)) => {
                let status = match fault {
                    Fault::Gone => "404 Not Found",
                    _ => "503 Slow Down",
                };
                let told = format!("HTTP/1.1 {status}\r\ncontent-length: 0\r\n\r\n");
                if line.write_all(told.as_bytes()).is_err() {
                    return;
                }
                continue;
            }
            Some(Fault::Slow) => std::thread::sleep(Duration::from_millis(300)),
            Some(Fault::Cut) | None => {}
        }
        let mut store = TcpStream::connect(("127.0.0.1", behind)).unwrap();
        let head = head.replacen("\r\n", "\r\nconnection: close\r\n", 1);
        store.write_all(head.as_bytes()).unwrap();
        store.write_all(&body).unwrap();
        let Some((head, body)) = message(&mut BufReader::new(store)) else {
            return;
        };
        if fault == Some(Fault::Cut) {
            let whole = [head.as_bytes(), &body].concat();
            let _ = line.write_all(&whole[..whole.len() / 2]);
            return;
        }
        let lines = head
            .split("\r\n")
            .filter(|line| !line.to_lowercase().starts_with("connection"));
        let head = lines.collect::<Vec<_>>().join("\r\n");
        if line.write_all(head.as_bytes()).is_err() || line.write_all(&body).is_err() {
            return;
        }
    }
}

/// The head of a message, with its empty line, and its body.
fn message(reader: &mut impl BufRead) -> Option<(String, Vec<u8>)> {
    let mut head = String::new();
    while !head.ends_with("\r\n\r\n") {
        if reader.read_line(&mut head).ok()? == 0 {
            return None;
        }
    }
    let length = head.lines().find_map(|line| {
        let (name, value) = line.split_once(':')?;
        name.eq_ignore_ascii_case("content-length")
            .then(|| value.trim().parse().ok())?
    });
    let mut body = vec![0; length.unwrap_or(0)];
    reader.read_exact(&mut body).ok()?;
    Some((head, body))
}
