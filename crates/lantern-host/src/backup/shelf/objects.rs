//! A store in an object store that speaks S3.
//!
//! What may pass is tried again for a while: 503, silence, an answer that breaks off. Once that was in vain, nothing more
//! is asked, so that each of a thousand files does not wait for as long. What is small is read in blocks, the last of which are
//! held: small pieces that lie side by side are one request.

use super::{Bucket, Object, Shelf};
use crate::backup::fault::BackupFault;
use crate::error::{Error, Result};
use crate::place::{NewFile, here};
use crate::web::Web;
use crate::web::fault::WebFault;
use rusty_s3::actions::ListObjectsV2;
use rusty_s3::{Credentials, S3Action};
use serde::Deserialize;
use std::collections::VecDeque;
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use url::Url;

/// So long is waited before the same is asked again, each time that it may pass.
const WAITS: [Duration; 6] = [
    Duration::from_millis(200),
    Duration::from_millis(800),
    Duration::from_secs(2),
    Duration::from_secs(5),
    Duration::from_secs(10),
    Duration::from_secs(20),
];
/// Of one that has never answered, no more of these: it may not be there at all, or be called something else.
const SOON: usize = 3;
/// No longer than this, whatever the other end wishes.
const LONGEST_WAIT: Duration = Duration::from_secs(30);
/// So long is a request's signature good.
const SIGNED: Duration = Duration::from_secs(15 * 60);
/// So much is read at once, in bytes.
const BLOCK: u64 = 1 << 20;
/// What is so long is read by itself, in bytes.
const LARGE: u64 = BLOCK / 4;
/// So many blocks are held.
const BLOCKS: usize = 64;
/// No answer that is not an object is longer, in bytes.
const LONGEST_ANSWER: u64 = 64 << 20;
/// No object that is read whole is longer, in bytes.
const LONGEST_WHOLE: u64 = 1 << 30;
/// So long is a store left alone that was asked in vain.
const LEFT_ALONE: Duration = Duration::from_secs(60);
/// So many requests are under way at once.
const AT_ONCE: usize = 8;

/// A store in a bucket.
#[derive(Debug)]
pub struct Objects {
    at: Bucket,
    bucket: rusty_s3::Bucket,
    credentials: Credentials,
    web: Web,
    /// Whether it has ever answered.
    was_heard: AtomicBool,
    /// Why nothing is asked any more, and since when.
    given_up: Mutex<Option<(Instant, String)>>,
}

/// The blocks that were read last, of all stores.
static HELD: Mutex<VecDeque<Block>> = Mutex::new(VecDeque::new());

#[derive(Debug)]
struct Block {
    /// Of the object, with its store.
    name: String,
    number: u64,
    bytes: Arc<Vec<u8>>,
}

/// What was asked, and came back.
struct Came {
    status: u16,
    bytes: Vec<u8>,
    date_s: Option<i64>,
    /// Whether it was asked more than once: the first may have been heard.
    again: bool,
}

/// What goes with a request.
#[derive(Default)]
struct With<'w> {
    body: Option<&'w [u8]>,
    headers: Vec<(&'static str, String)>,
    /// No more than so many bytes come back.
    most: u64,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Objects {
    /// The store at a place in a bucket; nothing is asked yet.
    ///
    /// # Errors
    /// When there is no access key, or the certificates cannot be read.
    pub fn new(at: &Bucket) -> Result<Objects> {
        let (endpoint, name) = (at.endpoint.clone(), at.bucket.clone());
        let style = rusty_s3::UrlStyle::Path;
        let bucket = rusty_s3::Bucket::new(endpoint, style, name, at.region.clone());
        let bucket = bucket.map_err(|error| Error::Backup(at.fault(error.to_string())))?;
        Ok(Objects {
            at: at.clone(),
            bucket,
            credentials: credentials(at)?,
            web: Web::new(at.ca.as_deref())?,
            was_heard: AtomicBool::default(),
            given_up: Mutex::default(),
        })
    }

    fn key(&self, name: &str) -> String {
        format!("{}{name}", self.at.prefix)
    }

    /// Asks, and asks again as long as it may pass; every other status is an answer.
    fn ask(
        &self,
        method: &str,
        sign: &dyn Fn() -> Url,
        with: &With<'_>,
    ) -> std::result::Result<Came, String> {
        match &*locked(&self.given_up) {
            Some((since, why)) if since.elapsed() < LEFT_ALONE => return Err(why.clone()),
            _ => {}
        }
        let many = match self.was_heard.load(Ordering::Relaxed) {
            true => WAITS.len(),
            false => SOON,
        };
        let mut waits = WAITS.iter().take(many);
        let mut again = false;
        loop {
            let fault = match self.once(method, &sign(), with) {
                Ok(came) => {
                    self.was_heard.store(true, Ordering::Relaxed);
                    return Ok(Came { again, ..came });
                }
                Err(fault) => fault,
            };
            if matches!(fault, WebFault::Status { .. }) {
                self.was_heard.store(true, Ordering::Relaxed);
            }
            let wait = waits.next().filter(|_| fault.may_pass());
            let Some(wait) = wait else {
                let why = fault.to_string();
                if fault.may_be_offline() {
                    *locked(&self.given_up) = Some((Instant::now(), why.clone()));
                }
                return Err(why);
            };
            again = true;
            std::thread::sleep(
                fault
                    .wait()
                    .unwrap_or_default()
                    .max(*wait)
                    .min(LONGEST_WAIT),
            );
        }
    }

    fn once(
        &self,
        method: &str,
        url: &Url,
        with: &With<'_>,
    ) -> std::result::Result<Came, WebFault> {
        let answer = self.web.ask(method, url, &with.headers, with.body)?;
        let date = answer.header("date");
        let date_s = date.and_then(|text| jiff::fmt::rfc2822::parse(text).ok());
        let date_s = date_s.map(|date| date.timestamp().as_second());
        let status = answer.status;
        let bytes = answer.read(with.most.max(LONGEST_ANSWER))?;
        // Said of a body that did not come in time.
        if status == 400 && memchr::memmem::find(&bytes, b"<Code>RequestTimeout").is_some() {
            return Err(WebFault::Slow(crate::web::host_of(url)));
        }
        Ok(Came {
            status,
            bytes,
            date_s,
            again: false,
        })
    }

    fn put(&self, name: &str, bytes: &[u8], if_new: bool) -> Result<Came> {
        let key = self.key(name);
        let mut with = With {
            body: Some(bytes),
            ..With::default()
        };
        if if_new {
            with.headers.push(("if-none-match", "*".into()));
        }
        let sign = || {
            self.bucket
                .put_object(Some(&self.credentials), &key)
                .sign(SIGNED)
        };
        self.ask("PUT", &sign, &with)
            .map_err(|why| self.fault(name, &why))
    }

    fn get(&self, name: &str, range: Option<(u64, u64)>) -> std::result::Result<Came, String> {
        let key = self.key(name);
        let mut with = With {
            most: LONGEST_WHOLE,
            ..With::default()
        };
        if let Some((from, length)) = range {
            let to = from + length - 1;
            with.headers.push(("range", format!("bytes={from}-{to}")));
            with.most = length;
        }
        let sign = || {
            self.bucket
                .get_object(Some(&self.credentials), &key)
                .sign(SIGNED)
        };
        self.ask("GET", &sign, &with)
    }

    fn fault(&self, name: &str, why: &str) -> Error {
        Error::Backup(BackupFault::Shelf {
            at: self.shown(name),
            why: why.into(),
        })
    }

    fn refused(&self, name: &str, came: &Came) -> Error {
        self.fault(name, &said(came))
    }

    /// A page of a listing, with the mark that leads to the next one; and what the clock there shows.
    fn page(
        &self,
        prefix: &str,
        next: Option<&str>,
    ) -> Result<(Vec<Object>, Option<String>, Option<i64>)> {
        let sign = || {
            let mut list: ListObjectsV2<'_> = self.bucket.list_objects_v2(Some(&self.credentials));
            list.with_prefix(prefix.to_owned());
            if let Some(next) = next {
                list.with_continuation_token(next.to_owned());
            }
            list.sign(SIGNED)
        };
        let came = self.ask("GET", &sign, &With::default());
        let came = came.map_err(|why| self.fault("", &why))?;
        if came.status != 200 {
            return Err(self.refused("", &came));
        }
        let odd = |why: &str| self.fault("", &format!("its listing makes no sense: {why}"));
        let text = std::str::from_utf8(&came.bytes).map_err(|_| odd("it is no text"))?;
        let parsed =
            ListObjectsV2::parse_response(text).map_err(|error| odd(&error.to_string()))?;
        let objects = parsed.contents.into_iter().filter_map(|found| {
            let written: Option<jiff::Timestamp> = found.last_modified?.parse().ok();
            Some(Object {
                name: found.key.strip_prefix(&self.at.prefix)?.to_owned(),
                bytes: found.size?,
                written_s: written?.as_second(),
                mark: found.etag.unwrap_or_default(),
            })
        });
        Ok((
            objects.collect(),
            parsed.next_continuation_token,
            came.date_s,
        ))
    }

    /// A part of an object, or less where that ends before.
    fn part(&self, name: &str, from: u64, length: u64) -> io::Result<Vec<u8>> {
        let came = self.get(name, Some((from, length)));
        let came = came.map_err(io::Error::other)?;
        match came.status {
            206 => Ok(came.bytes),
            // Whoever knows no parts sends it all.
            200 if from == 0 && came.bytes.len() as u64 <= length => Ok(came.bytes),
            404 => Err(io::ErrorKind::NotFound.into()),
            416 => Err(io::ErrorKind::UnexpectedEof.into()),
            _ => Err(io::Error::other(said(&came))),
        }
    }

    fn block(&self, name: &str, number: u64) -> io::Result<Arc<Vec<u8>>> {
        let shown = format!("{} {}", self.at.endpoint, self.shown(name));
        let held = |blocks: &VecDeque<Block>| {
            let mut blocks = blocks.iter();
            let found = blocks.find(|it| it.number == number && it.name == shown)?;
            Some(Arc::clone(&found.bytes))
        };
        if let Some(bytes) = held(&locked(&HELD)) {
            return Ok(bytes);
        }
        let bytes = Arc::new(self.part(name, number * BLOCK, BLOCK)?);
        let mut blocks = locked(&HELD);
        blocks.push_back(Block {
            name: shown,
            number,
            bytes: Arc::clone(&bytes),
        });
        if blocks.len() > BLOCKS {
            blocks.pop_front();
        }
        Ok(bytes)
    }
}

/// The access key: in the file that is named, or in the environment.
fn credentials(bucket: &Bucket) -> Result<Credentials> {
    #[derive(Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Key {
        access_key: String,
        secret_key: String,
        session_token: Option<String>,
    }
    let Some(path) = &bucket.credentials else {
        return Credentials::from_env().ok_or_else(|| {
            let why = "there is no access key: credentials in [backup] names a file of it, or AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY hold it";
            Error::Backup(bucket.fault(why.into()))
        });
    };
    let text = here::read_text(path)?;
    let key: Key = toml_edit::de::from_str(&text).map_err(|error| {
        let why = format!("{}: {}", path.display(), error.to_string().trim_end());
        Error::Backup(bucket.fault(why))
    })?;
    Ok(match key.session_token {
        Some(token) => Credentials::new_with_token(key.access_key, key.secret_key, token),
        None => Credentials::new(key.access_key, key.secret_key),
    })
}

/// What an answer that is no success says.
fn said(came: &Came) -> String {
    let text = String::from_utf8_lossy(&came.bytes);
    let document = roxmltree::Document::parse(&text).ok();
    let word = |tag: &str| {
        let mut nodes = document.as_ref()?.descendants();
        let node = nodes.find(|node| node.tag_name().name() == tag)?;
        node.text().map(str::to_owned)
    };
    match (word("Code"), word("Message")) {
        (Some(code), Some(message)) => format!("it answered {}: {code}: {message}", came.status),
        (Some(code), None) => format!("it answered {}: {code}", came.status),
        _ => format!("it answered {}", came.status),
    }
}

impl Shelf for Objects {
    fn shown(&self, name: &str) -> String {
        format!("s3://{}/{}", self.at.bucket, self.key(name))
    }

    fn at_once(&self) -> usize {
        AT_ONCE
    }

    fn list(&self, room: &str) -> Result<Vec<Object>> {
        let prefix = self.key(&format!("{room}/"));
        let (mut all, mut next) = (Vec::new(), None);
        loop {
            let (objects, more, _) = self.page(&prefix, next.as_deref())?;
            all.extend(objects);
            match more {
                None => break,
                // Whoever leads in a circle would be followed for ever.
                more if more == next => return Err(self.fault(room, "its listing has no end")),
                more => next = more,
            }
        }
        all.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(all)
    }

    fn read(&self, name: &str) -> Result<Option<Vec<u8>>> {
        let came = self.get(name, None).map_err(|why| self.fault(name, &why))?;
        match came.status {
            200 => Ok(Some(came.bytes)),
            404 => Ok(None),
            _ => Err(self.refused(name, &came)),
        }
    }

    fn read_at(&self, name: &str, bytes: &mut [u8], offset: u64) -> io::Result<()> {
        if bytes.len() as u64 >= LARGE {
            let part = self.part(name, offset, bytes.len() as u64)?;
            if part.len() != bytes.len() {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            bytes.copy_from_slice(&part);
            return Ok(());
        }
        let mut done = 0;
        while done < bytes.len() {
            let at = offset + done as u64;
            let block = self.block(name, at / BLOCK)?;
            let from = (at % BLOCK) as usize;
            let some = block.get(from..).unwrap_or_default();
            let many = some.len().min(bytes.len() - done);
            if many == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            bytes[done..done + many].copy_from_slice(&some[..many]);
            done += many;
        }
        Ok(())
    }

    fn write(&self, name: &str, bytes: &[u8]) -> Result<()> {
        let came = self.put(name, bytes, false)?;
        match came.status {
            200..=299 => Ok(()),
            _ => Err(self.refused(name, &came)),
        }
    }

    fn write_new(&self, name: &str, bytes: &[u8]) -> Result<bool> {
        let came = self.put(name, bytes, true)?;
        match came.status {
            200..=299 => Ok(true),
            // Somebody else's; or one's own that was heard though its answer was not.
            409 | 412 => Ok(came.again && self.read(name)?.as_deref() == Some(bytes)),
            // There are stores that know no conditions: what can be seen is looked at.
            501 if self.read(name)?.is_some() => Ok(false),
            501 => self.write(name, bytes).map(|()| true),
            _ => Err(self.refused(name, &came)),
        }
    }

    fn remove(&self, name: &str) -> Result<()> {
        let key = self.key(name);
        let sign = || {
            self.bucket
                .delete_object(Some(&self.credentials), &key)
                .sign(SIGNED)
        };
        let came = self.ask("DELETE", &sign, &With::default());
        let came = came.map_err(|why| self.fault(name, &why))?;
        match came.status {
            200..=299 | 404 => Ok(()),
            _ => Err(self.refused(name, &came)),
        }
    }

    fn begin(&self, _: &str) -> Result<Option<Box<dyn NewFile>>> {
        Ok(None)
    }

    fn end(&self, _: &str) -> Result<()> {
        Ok(())
    }

    fn drop_begun(&self, _: &str) {}

    fn now_s(&self) -> Result<i64> {
        let (_, _, date) = self.page(&self.key("clock"), None)?;
        date.ok_or_else(|| self.fault("", "it does not say what its clock shows"))
    }

    fn free_bytes(&self) -> Option<u64> {
        None
    }
}
