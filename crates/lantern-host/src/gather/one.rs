//! One file: asked for, continued where it broke off, looked at while it is written.

use super::digest::Digest;
use super::fault::GatherFault;
use super::store::{Store, Stored};
use crate::interrupt;
use crate::meter::Moving;
use crate::place::here::{self, Growing};
use crate::web::fault::WebFault;
use crate::web::{Answer, Ask, Web, address, host_of};
use lantern_core::supply::{Checksum, HashKind, Supply};
use serde::{Deserialize, Serialize};
use std::io::Read;
use std::path::Path;
use std::time::Duration;
use url::Url;

/// So often is one address asked, before the next one is.
const MOST_TRIES: u32 = 5;
/// So often may it break off on the way.
const MOST_BREAKS: u32 = 50;
/// The first pause; each later one is twice as long.
const PAUSE: Duration = Duration::from_millis(500);
/// Nobody is waited for longer than this.
const LONGEST_PAUSE: Duration = Duration::from_secs(300);
/// No file is longer than this where nobody states its size, in bytes.
const LONGEST: u64 = 64 << 30;
/// So much is written at once, in bytes.
const PIECE: usize = 1 << 17;

/// A file that has come.
#[derive(Debug, Clone)]
pub struct Come {
    /// Where it is now.
    pub stored: Stored,
    /// The hash that it was held against; none where nobody states one.
    pub checked: Option<HashKind>,
    /// The host that the last of it came from.
    pub host: String,
    /// How many bytes were there already.
    pub resumed: u64,
    /// How many bytes came.
    pub fetched: u64,
}

impl Come {
    /// What was in the store already.
    pub(super) fn there(stored: Stored) -> Come {
        Come {
            stored,
            checked: None,
            host: String::new(),
            resumed: 0,
            fetched: 0,
        }
    }
}

/// What an unfinished file is of: written beside it.
#[derive(Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
struct Begun {
    url: String,
    /// What the host calls this very content.
    mark: Option<String>,
}

/// Fetches a file, address by address.
pub(super) fn fetch(
    supply: &Supply,
    store: &Store,
    web: &Web,
    ask: &dyn Fn(&Url) -> Ask,
) -> Result<Come, Vec<(String, GatherFault)>> {
    let whole = |fault| vec![(supply.name.clone(), fault)];
    let part = store.part(supply).map_err(|error| whole(error.into()))?;
    let mut file = loop {
        let file = Growing::open(&part).map_err(|error| whole(error.into()))?;
        // Somebody else may have brought it to its end while this one waited, and then it is no part any more.
        if file.is_at(&part) {
            break file;
        }
        if let Some(stored) = store.find(supply) {
            return Ok(Come::there(stored));
        }
    };
    let meter = Moving::begin(&supply.name, supply.bytes);
    let mut faults = Vec::new();
    for text in &supply.urls {
        let url = match address(text) {
            Ok(url) => url,
            Err(fault) => {
                faults.push((text.clone(), fault.into()));
                continue;
            }
        };
        let mut one = One {
            supply,
            store,
            part: &part,
            file: &mut file,
            web,
            url: &url,
            meter: &meter,
        };
        match one.tried(ask) {
            Ok(come) => return Ok(come),
            Err(fault) => {
                let ends = fault.is_here();
                faults.push((text.clone(), fault));
                if ends {
                    break;
                }
            }
        }
    }
    meter.again();
    Err(faults)
}

struct One<'a> {
    supply: &'a Supply,
    store: &'a Store,
    part: &'a Path,
    file: &'a mut Growing,
    web: &'a Web,
    url: &'a Url,
    meter: &'a Moving,
}

impl One<'_> {
    /// Asks one address, and again after a pause where that may help.
    fn tried(&mut self, ask: &dyn Fn(&Url) -> Ask) -> Result<Come, GatherFault> {
        let mut pause = PAUSE;
        let (mut tries, mut all) = (1, 1);
        let there = self.file.len();
        let mut had_some = there > 0;
        loop {
            let fault = match self.once(ask(self.url)) {
                Ok(come) => {
                    let resumed = come.resumed.min(there);
                    return Ok(Come { resumed, ..come });
                }
                Err(fault) => fault,
            };
            // What was there from before may have been wrong: it is gone now.
            if std::mem::take(&mut had_some) && fault.is_of_content() {
                continue;
            }
            let GatherFault::Web(web) = &fault else {
                return Err(fault);
            };
            // Where something came, it is as good as new.
            if matches!(web, WebFault::BrokeOff { got, .. } if *got > 0) && all < MOST_BREAKS {
                (tries, pause) = (1, PAUSE);
            }
            if tries == MOST_TRIES || !web.may_pass() {
                return Err(fault);
            }
            let wait = web.wait().unwrap_or(pause);
            if wait > LONGEST_PAUSE {
                return Err(fault);
            }
            if !interrupt::pause(wait) {
                return Err(GatherFault::CalledOff);
            }
            pause *= 2;
            (tries, all) = (tries + 1, all + 1);
        }
    }

    /// What is known of the part that is there: how to ask for the rest.
    fn begun(&self) -> Option<Begun> {
        let text = here::read_text(&self.part.with_extension("begun")).ok()?;
        serde_json::from_str(&text).ok()
    }

    fn begin(&self, answer: &Answer) -> Result<(), GatherFault> {
        let strong = |mark: &&str| !mark.starts_with("W/");
        let mark = answer.header("etag").filter(strong);
        let begun = Begun {
            url: self.url.to_string(),
            mark: mark.or(answer.header("last-modified")).map(str::to_owned),
        };
        let text = serde_json::to_vec(&begun).expect("it has only plain values");
        Ok(here::note(&self.part.with_extension("begun"), &text)?)
    }

    fn once(&mut self, mut ask: Ask) -> Result<Come, GatherFault> {
        let disk = |error: std::io::Error| GatherFault::Here(crate::told::plain(&error));
        self.meter.again();
        let kinds = self.supply.checks.iter().map(|check| check.kind);
        let mut digest = Digest::of(kinds.clone());
        self.file.read(|bytes| digest.update(bytes)).map_err(disk)?;
        let most = self.supply.bytes.unwrap_or(LONGEST);
        let names_one = self.supply.checks.iter().any(|it| it.kind.is_strong());
        let begun = self.begun().unwrap_or_default();
        let is_same = begun.url == self.url.as_str();
        // From another address only where the hash tells in the end.
        let goes_on = digest.bytes > 0
            && digest.bytes <= most
            && (names_one || is_same && begun.mark.is_some());
        if digest.bytes > 0 && !goes_on {
            self.file.empty().map_err(disk)?;
            digest = Digest::of(kinds.clone());
        }
        let mut resumed = digest.bytes;
        if goes_on && self.supply.bytes == Some(resumed) {
            self.meter.had(resumed);
            return self.ended(digest, resumed, 0);
        }
        if goes_on {
            ask.headers.push(("range", format!("bytes={resumed}-")));
            if let Some(mark) = begun.mark.filter(|_| is_same) {
                ask.headers.push(("if-range", mark));
            }
        }
        let answer = self.web.get(self.url, &ask)?;
        let continues =
            answer.status == 206 && answer.part().is_some_and(|(from, _)| from == resumed);
        if answer.status == 416 || answer.status == 206 && !continues {
            // There is no more, or not where it was asked for: from the beginning, once more.
            self.file.empty().map_err(disk)?;
            let why = WebFault::BrokeOff {
                got: resumed,
                why: "it does not go on from there".into(),
            };
            return Err(why.into());
        }
        if !continues {
            self.file.empty().map_err(disk)?;
            digest = Digest::of(kinds);
            resumed = 0;
        }
        let is_page = answer
            .header("content-type")
            .is_some_and(|kind| kind.trim_start().starts_with("text/html"));
        if is_page && !self.supply.name.contains(".htm") {
            return Err(WebFault::Page.into());
        }
        self.begin(&answer)?;
        if let Some(length) = answer.length() {
            let comes = resumed + length;
            if comes > most || self.supply.bytes.is_some_and(|bytes| bytes != comes) {
                return Err(GatherFault::OtherSize {
                    is: comes,
                    stated: most,
                });
            }
        }
        self.meter.had(resumed);
        let expected = answer.length();
        let mut body = answer.body;
        let mut fetched = 0;
        let mut buffer = vec![0; PIECE];
        loop {
            if interrupt::called_off() {
                return Err(GatherFault::CalledOff);
            }
            let many = match body.read(&mut buffer) {
                Ok(0) if expected.is_some_and(|expected| expected > fetched) => {
                    let why = format!("{} were to come", expected.unwrap_or(0));
                    return Err(WebFault::BrokeOff { got: fetched, why }.into());
                }
                Ok(0) => break,
                Ok(many) => many,
                Err(error) => {
                    let why = crate::told::plain(&error);
                    return Err(WebFault::BrokeOff { got: fetched, why }.into());
                }
            };
            if digest.bytes + many as u64 > most {
                self.file.empty().map_err(disk)?;
                return Err(match self.supply.bytes {
                    Some(stated) => GatherFault::Longer(stated),
                    None => WebFault::TooLong(LONGEST).into(),
                });
            }
            self.file.write(&buffer[..many]).map_err(disk)?;
            digest.update(&buffer[..many]);
            fetched += many as u64;
            self.meter.did(many as u64);
        }
        self.ended(digest, resumed, fetched)
    }

    /// It is all there: is it what it should be?
    fn ended(&mut self, digest: Digest, resumed: u64, fetched: u64) -> Result<Come, GatherFault> {
        let disk = |error: std::io::Error| GatherFault::Here(crate::told::plain(&error));
        let bytes = digest.bytes;
        if let Some(stated) = self.supply.bytes.filter(|stated| *stated != bytes) {
            self.file.empty().map_err(disk)?;
            return Err(GatherFault::OtherSize { is: bytes, stated });
        }
        let hashes = digest.finish();
        let has = |check: &Checksum| hashes.contains(check);
        if let Some(stated) = self.supply.checks.iter().find(|check| !has(check)) {
            self.file.empty().map_err(disk)?;
            let is = hashes.iter().find(|check| check.kind == stated.kind);
            return Err(GatherFault::OtherHash {
                stated: stated.clone(),
                is: is.map(|check| check.hex.clone()).unwrap_or_default(),
            });
        }
        self.file.sync().map_err(disk)?;
        let stored = self.store.keep(self.part, self.supply, &hashes, bytes)?;
        let _ = here::remove(&self.part.with_extension("begun"));
        Ok(Come {
            stored,
            checked: self.supply.checks.first().map(|check| check.kind),
            host: host_of(self.url),
            resumed,
            fetched,
        })
    }
}
