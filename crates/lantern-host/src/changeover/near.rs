//! What comes and lies already on the same machine, at another server that is in care from here: it is copied there, and not sent once more.
//!
//! Servers that are worked at at once agree on who sends what: each content goes over the line once.

use crate::config::{Config, FILE, Server};
use crate::error::Result;
use crate::folder::{Folder, HEX};
use crate::interrupt;
use crate::known;
use crate::ledger::Ledger;
use crate::place::{Address, Scheme, Stamp, here};
use lantern_core::operation::{Move, is_own};
use lantern_core::path::RelPath;
use std::collections::{BTreeSet, HashMap};
use std::path::Path;
use std::sync::{Condvar, LazyLock, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// So often it is looked whether a wait for what another server's work sends is called off.
const LOOK: Duration = Duration::from_millis(200);

/// Where a content lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lies {
    /// As the account there names it.
    pub path: String,
    /// What it looked like when it was known to hold that.
    pub stamp: Stamp,
}

/// What this process sends, or has sent, by machine and content.
enum Other {
    UnderWay,
    There(Lies),
}

type Key = (String, String);

static SENT: LazyLock<Mutex<HashMap<Key, Other>>> = LazyLock::new(Mutex::default);
static MOVED: Condvar = Condvar::new();

fn sent() -> MutexGuard<'static, HashMap<Key, Other>> {
    SENT.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Where what comes lies already.
pub struct Near {
    /// The machine, and how it is reached; none where nothing can be copied there.
    machine: Option<String>,
    /// By content, at servers that are in care from here: where it most likely still lies comes first.
    known: HashMap<String, Vec<Lies>>,
}

/// What to do about a content.
pub enum Turn {
    /// Copy it from one of these.
    Copy(Vec<Lies>),
    /// Send it.
    Send(Option<Claim>),
}

/// That nobody else in this process sends a content to a machine meanwhile.
pub struct Claim {
    key: Key,
    came: Option<Lies>,
}

impl Claim {
    /// It has come there.
    pub fn came(mut self, path: String, stamp: Stamp) {
        self.came = Some(Lies { path, stamp });
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        match self.came.take() {
            Some(lies) => sent().insert(self.key.clone(), Other::There(lies)),
            None => sent().remove(&self.key),
        };
        MOVED.notify_all();
    }
}

/// Where a server's folder is, and how it is reached, where a file can be copied there.
fn machine(config: &Config) -> Option<(String, Address)> {
    let address = Address::parse(config.folder.as_deref()?).ok()?;
    let is_sftp = matches!(address.scheme, Scheme::Sftp | Scheme::Ssh);
    let machine = Address {
        path: String::new(),
        scheme: Scheme::Sftp,
        ..address.clone()
    };
    let key = format!("{machine} {:?}", config.through);
    is_sftp.then_some((key, address))
}

impl Near {
    /// What of that which comes lies at other servers on the same machine, as far as is known here.
    pub fn of(server: &Server, comes: &[&Move]) -> Near {
        let mut near = Near {
            machine: None,
            known: HashMap::new(),
        };
        let machine = machine(&server.config).filter(|_| server.folder.copies_there());
        let Some((machine, _)) = machine else {
            return near;
        };
        let contents = comes.iter().filter_map(|step| step.expects.as_deref());
        let mut wanted: BTreeSet<&str> = contents.filter(|it| it.len() == HEX).collect();
        for home in known::servers().into_values() {
            if wanted.is_empty() {
                break;
            }
            if home != server.folder.root()
                && let Some(address) = beside(&home, &machine)
            {
                // That another server's ledger cannot be read is nothing to this one.
                let _ = near.look_at(&home, &address, &mut wanted);
            }
        }
        near.machine = Some(machine);
        near
    }

    fn look_at(
        &mut self,
        home: &Path,
        address: &Address,
        wanted: &mut BTreeSet<&str>,
    ) -> Result<()> {
        let mut lies = Ledger::open(&Folder::open(home)?)?.lies(wanted)?;
        // What was staged has most likely been put in its place since.
        let is_staged = |path: &str| RelPath::parse(path).is_ok_and(|path| is_own(&path));
        lies.sort_by_key(|(_, path, _)| is_staged(path));
        for (hash, path, stamp) in lies {
            if !is_staged(&path) {
                wanted.remove(&*hash);
            }
            let path = match &*address.path {
                "" => path,
                folder => format!("{}/{path}", folder.trim_end_matches('/')),
            };
            let known = self.known.entry(hash).or_default();
            known.push(Lies { path, stamp });
        }
        Ok(())
    }

    /// Whether a content lies near already.
    pub fn has(&self, content: &str) -> bool {
        self.known.contains_key(content)
    }

    /// What to do about a content; where another server's work sends it just now, that is waited for.
    pub fn turn(&self, content: &str) -> Turn {
        let machine = self.machine.as_ref().filter(|_| content.len() == HEX);
        let Some(machine) = machine else {
            return Turn::Send(None);
        };
        let key = (machine.clone(), content.to_owned());
        let known = self.known.get(content);
        let mut sent = sent();
        loop {
            match sent.get(&key) {
                // Where it was sent to is staging, from which it may have gone on since.
                Some(Other::There(lies)) => {
                    let known = known.into_iter().flatten();
                    return Turn::Copy(known.chain([lies]).cloned().collect());
                }
                Some(Other::UnderWay) if interrupt::called_off() => return Turn::Send(None),
                Some(Other::UnderWay) => {
                    let waited = MOVED.wait_timeout(sent, LOOK);
                    sent = waited.unwrap_or_else(PoisonError::into_inner).0;
                }
                None => {
                    return match known {
                        Some(lies) => Turn::Copy(lies.clone()),
                        None => {
                            sent.insert(key.clone(), Other::UnderWay);
                            Turn::Send(Some(Claim { key, came: None }))
                        }
                    };
                }
            }
        }
    }
}

/// The address of the folder of a server that is in care from here, where it lies on that machine.
fn beside(home: &Path, machine: &str) -> Option<Address> {
    let config = Config::parse(&here::read_text(&home.join(FILE)).ok()?).ok()?;
    let (other, address) = self::machine(&config)?;
    (other == machine).then_some(address)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU32, Ordering};

    fn near(machine: &str) -> Near {
        Near {
            machine: Some(machine.to_owned()),
            known: HashMap::new(),
        }
    }

    /// Many at once, of whom the first ones fail: each content is sent once more only where sending it went wrong.
    #[test]
    fn each_content_is_sent_once_whoever_fails() {
        let (sent, copied) = (AtomicU32::new(0), AtomicU32::new(0));
        let content = "c".repeat(HEX);
        std::thread::scope(|scope| {
            for _ in 0..12 {
                scope.spawn(|| match near("one").turn(&content) {
                    Turn::Copy(lies) => {
                        assert_eq!(lies[0].path, "staging/it");
                        copied.fetch_add(1, Ordering::Relaxed);
                    }
                    Turn::Send(claim) => {
                        let before = sent.fetch_add(1, Ordering::Relaxed);
                        std::thread::sleep(Duration::from_millis(5));
                        if before == 2 {
                            let stamp = Stamp {
                                bytes: 1,
                                modified_ns: 2,
                                changed_ns: 2,
                                inode: 0,
                            };
                            claim.unwrap().came("staging/it".into(), stamp);
                        }
                    }
                });
            }
        });
        assert_eq!((sent.into_inner(), copied.into_inner()), (3, 9));
        // On another machine it does not lie, and what nobody states is nobody's.
        assert!(matches!(near("two").turn(&content), Turn::Send(Some(_))));
        assert!(matches!(
            near("one").turn("unread:1:2:it"),
            Turn::Send(None)
        ));
    }
}
