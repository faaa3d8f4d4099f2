//! Catalogues on the web, kept here: asked again only whether they are another by now, and used as they were where nobody
//! answers.

use super::{Gatherer, Store};
use crate::error::{Error, Result};
use crate::interrupt;
use crate::place::here::{self, Growing};
use crate::web::fault::WebFault;
use crate::web::{Answer, Ask, address};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use url::Url;

/// So often is somebody asked who has trouble, or was asked too often.
const MOST_TRIES: usize = 4;
/// The first pause; each later one is twice as long.
const PAUSE: Duration = Duration::from_millis(500);
/// Nobody is waited for longer than this.
const LONGEST_PAUSE: Duration = Duration::from_secs(120);
/// Times of files are told in whole seconds.
const MOMENT: Duration = Duration::from_secs(1);
/// No catalogue is longer, in bytes.
const LONGEST: u64 = 512 << 20;

/// A text from the web.
#[derive(Debug)]
pub struct Text {
    /// Where it was asked for.
    pub url: Url,
    /// What it says.
    pub text: String,
    /// Where nobody answered: why, and how old the copy is, in seconds.
    pub stale: Option<(WebFault, u64)>,
}

/// An address that could not be asked, and what it gave when somebody answered last counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stale {
    /// The address.
    pub url: String,
    /// Why it could not be asked.
    pub why: String,
    /// How old the copy is, in seconds.
    pub age: u64,
}

/// What is known of a copy.
#[derive(Debug, Serialize, Deserialize)]
struct Kept {
    url: String,
    etag: Option<String>,
    last_modified: Option<String>,
}

impl Store {
    /// Where the copy of what an address gave lies, and what is known of it.
    fn copies(&self, url: &Url) -> (PathBuf, PathBuf) {
        let folder = self.root().join("answers");
        let name = blake3::hash(url.as_str().as_bytes()).to_hex();
        (
            folder.join(format!("{name}.text")),
            folder.join(format!("{name}.json")),
        )
    }

    /// One's turn to ask for a copy, and whether somebody else had it before; none where it cannot be kept.
    fn turn(&self, copy: &Path) -> (Option<Growing>, bool) {
        let turn = copy.with_extension("turn");
        let folder = copy.parent().unwrap_or(copy);
        if here::make_folders(folder).is_err() {
            return (None, false);
        }
        let waited = Growing::is_busy(&turn);
        (Growing::open(&turn).ok(), waited)
    }

    /// Whether what an address gave is no older than that.
    pub fn is_fresh(&self, url: &str, fresh: Duration) -> bool {
        let age = address(url)
            .ok()
            .and_then(|url| here::age(&self.copies(&url).1));
        age.is_some_and(|age| Duration::from_secs(age) < fresh)
    }

    /// Remembers that there was nothing at an address.
    pub fn keep_nothing(&self, url: &str) {
        let Ok(url) = address(url) else {
            return;
        };
        let (copy, about) = self.copies(&url);
        let kept = Kept {
            url: url.to_string(),
            etag: None,
            last_modified: None,
        };
        let kept = serde_json::to_vec(&kept).expect("it has only plain values");
        let folder = copy.parent().unwrap_or(&copy);
        let _turn = self.turn(&copy);
        // Where it cannot be kept, somebody is asked once more.
        let _ = here::make_folders(folder)
            .and_then(|()| here::write(&copy, b""))
            .and_then(|()| here::write(&about, &kept));
    }

    /// What an address gave when it was asked last.
    pub fn copy_of(&self, url: &str) -> Option<(Url, String)> {
        let url = address(url).ok()?;
        let text = here::read_text(&self.copies(&url).0).ok()?;
        Some((url, text))
    }
}

impl Gatherer {
    /// Asks; where it is too much, or there is trouble at the other end, again after a while.
    fn answer(&self, url: &Url, ask: &Ask) -> Result<Answer, WebFault> {
        let mut pause = PAUSE;
        for _ in 1..MOST_TRIES {
            match self.web().get(url, ask) {
                Err(fault @ WebFault::Status { .. }) if fault.may_pass() => {
                    let wait = fault.wait().unwrap_or(pause);
                    if wait > LONGEST_PAUSE || !interrupt::pause(wait) {
                        return Err(fault);
                    }
                    pause *= 2;
                }
                answer => return answer,
            }
        }
        self.web().get(url, ask)
    }

    /// The text at an address: as it is by now, or as it was when somebody answered last.
    ///
    /// # Errors
    /// When it cannot be had and never was, or is no text.
    pub fn text(&self, url: &str) -> Result<Text> {
        self.text_within(url, None, false)
    }

    /// What an address gives just now, whatever it is: also a web page.
    ///
    /// # Errors
    /// When it cannot be had, or is no text.
    pub fn raw(&self, url: &str) -> Result<String> {
        let failed = |fault: WebFault| Error::Web {
            url: url.to_owned(),
            fault,
        };
        let address = address(url).map_err(failed)?;
        let answer = self.answer(&address, &self.ask(&address)).map_err(failed)?;
        let bytes = answer.read(LONGEST).map_err(failed)?;
        String::from_utf8(bytes).map_err(|_| failed(WebFault::Other("it is no UTF-8 text".into())))
    }

    /// As [`Gatherer::text`]; what is no older than that is taken as it is, and a web page where one is meant.
    ///
    /// # Errors
    /// As [`Gatherer::text`].
    pub fn text_within(
        &self,
        url: &str,
        fresh: Option<Duration>,
        is_page_meant: bool,
    ) -> Result<Text> {
        if let Some(fresh) = fresh
            && self.store.is_fresh(url, fresh)
            && let Some((url, text)) = self.store.copy_of(url)
        {
            return Ok(Text {
                url,
                text,
                stale: None,
            });
        }
        let failed = |fault: WebFault| Error::Web {
            url: url.to_owned(),
            fault,
        };
        let url = address(url).map_err(failed)?;
        let failed = |fault: WebFault| Error::Web {
            url: url.to_string(),
            fault,
        };
        let (copy, about) = self.store.copies(&url);
        // One at a time asks at an address; who waited for that takes what came meanwhile.
        let begun = Instant::now();
        let (_turn, waited) = self.store.turn(&copy);
        if waited
            && self.store.is_fresh(url.as_str(), begun.elapsed() + MOMENT)
            && let Ok(text) = here::read_text(&copy)
        {
            return Ok(Text {
                url,
                text,
                stale: None,
            });
        }
        let kept = here::read_text(&about).ok();
        let kept = kept.and_then(|text| serde_json::from_str::<Kept>(&text).ok());
        let kept = kept.filter(|kept| kept.url == url.as_str() && here::look(&copy).is_some());
        let mut ask = self.ask(&url);
        if let Some(kept) = &kept {
            if let Some(etag) = &kept.etag {
                ask.headers.push(("if-none-match", etag.clone()));
            }
            if let Some(date) = &kept.last_modified {
                ask.headers.push(("if-modified-since", date.clone()));
            }
        }
        let no_text = |_| failed(WebFault::Other("it is no UTF-8 text".into()));
        let answer = match self.answer(&url, &ask) {
            Ok(answer) if answer.status == 304 && kept.is_some() => {
                // It was looked at just now.
                here::touch(&about);
                return Ok(Text {
                    text: here::read_text(&copy)?,
                    url,
                    stale: None,
                });
            }
            Ok(answer) => answer,
            Err(fault) if kept.is_some() && fault.may_be_offline() => {
                let age = here::age(&copy).unwrap_or(0);
                return Ok(Text {
                    text: here::read_text(&copy)?,
                    url,
                    stale: Some((fault, age)),
                });
            }
            Err(fault) => return Err(failed(fault)),
        };
        let is_page = answer
            .header("content-type")
            .is_some_and(|kind| kind.trim_start().starts_with("text/html"));
        let about_it = Kept {
            url: url.to_string(),
            etag: answer.header("etag").map(str::to_owned),
            last_modified: answer.header("last-modified").map(str::to_owned),
        };
        let bytes = answer.read(LONGEST).map_err(failed)?;
        let text = String::from_utf8(bytes).map_err(no_text)?;
        if is_page && !is_page_meant && text.trim_start().starts_with('<') {
            return Err(failed(WebFault::Page));
        }
        here::make_folders(copy.parent().unwrap_or(&copy))?;
        here::write(&copy, text.as_bytes())?;
        let about_it = serde_json::to_vec(&about_it).expect("it has only plain values");
        here::write(&about, &about_it)?;
        Ok(Text {
            url,
            text,
            stale: None,
        })
    }
}
