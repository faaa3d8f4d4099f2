//! Where a file can be had that is not at hand, and by what it is known to be the right one.

use crate::artifact::Artifact;
use crate::path::RelPath;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// How a file's hash is taken.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum HashKind {
    /// BLAKE3.
    Blake3,
    /// SHA-512.
    Sha512,
    /// SHA-256.
    Sha256,
    /// SHA-1.
    Sha1,
    /// MD5.
    Md5,
}

impl HashKind {
    /// All of them, the strongest first.
    pub const ALL: [HashKind; 5] = [
        HashKind::Blake3,
        HashKind::Sha512,
        HashKind::Sha256,
        HashKind::Sha1,
        HashKind::Md5,
    ];

    /// How many hexadecimal digits it has.
    pub fn digits(self) -> usize {
        match self {
            HashKind::Sha512 => 128,
            HashKind::Blake3 | HashKind::Sha256 => 64,
            HashKind::Sha1 => 40,
            HashKind::Md5 => 32,
        }
    }

    /// The key that states it.
    pub fn name(self) -> &'static str {
        match self {
            HashKind::Blake3 => "blake3",
            HashKind::Sha512 => "sha512",
            HashKind::Sha256 => "sha256",
            HashKind::Sha1 => "sha1",
            HashKind::Md5 => "md5",
        }
    }

    /// Whether nobody can make another file of the same hash, as far as is known.
    pub fn is_strong(self) -> bool {
        !matches!(self, HashKind::Sha1 | HashKind::Md5)
    }
}

impl fmt::Display for HashKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

/// The hash of a file, as somebody states it.
#[derive(
    Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema,
)]
#[serde(deny_unknown_fields)]
pub struct Checksum {
    /// How it is taken.
    pub kind: HashKind,
    /// In hexadecimal digits, in lower case.
    pub hex: String,
}

impl Checksum {
    /// Takes a hash as it is stated; says what is wrong with it.
    ///
    /// # Errors
    /// When it has another number of digits, or other characters.
    pub fn of(kind: HashKind, text: &str) -> Result<Checksum, String> {
        let hex = text.trim().to_ascii_lowercase();
        match hex.len() == kind.digits() && hex.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            true => Ok(Checksum { kind, hex }),
            false => Err(format!(
                "{kind} is not {} hexadecimal digits",
                kind.digits()
            )),
        }
    }
}

impl fmt::Display for Checksum {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.kind, self.hex)
    }
}

/// Where a file can be had that is not at hand.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Supply {
    /// What the file is called.
    pub name: String,
    /// Addresses, `http` or `https`, in the order in which they are tried.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub urls: Vec<String>,
    /// What its hashes have to be, the strongest first; none where nobody states any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<Checksum>,
    /// Its size in bytes, where it is stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// The page where a person can fetch it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
    /// Why only a person can fetch it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by_person: Option<String>,
    /// When it was put up, in milliseconds since 1970, where that is stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub released_ms: Option<i64>,
}

impl Supply {
    /// What it says of one kind of hash.
    pub fn check(&self, kind: HashKind) -> Option<&Checksum> {
        self.checks.iter().find(|check| check.kind == kind)
    }

    /// The file, once it is at hand.
    pub fn at(&self, file: String, blake3: String, bytes: u64) -> Artifact {
        Artifact {
            file,
            blake3,
            bytes,
            urls: self.urls.clone(),
        }
    }
}

/// A file that somebody needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Wanted {
    /// What it is for: a release.
    pub what: String,
    /// Where it can be had.
    pub supply: Supply,
}

/// A release's file as a catalogue states it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct StatedFile {
    /// Where it lies, relative to the catalogue.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// What it is called, where neither that nor an address says so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Addresses, in the order in which they are tried.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub urls: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    blake3: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sha512: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sha256: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sha1: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    md5: Option<String>,
    /// Its size in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// The page where a person can fetch it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
    /// Why only a person can fetch it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by_person: Option<String>,
    /// When it was put up: a date, or a time with its zone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub released: Option<String>,
}

impl StatedFile {
    /// A file beside the catalogue.
    pub fn beside(artifact: &Artifact) -> StatedFile {
        StatedFile {
            file: Some(artifact.file.clone()),
            urls: artifact.urls.clone(),
            blake3: Some(artifact.blake3.clone()),
            bytes: Some(artifact.bytes),
            ..StatedFile::default()
        }
    }

    /// What it says: the file as far as it is known, and where it can be had.
    ///
    /// # Errors
    /// When nobody could find it, or know whether it is the right one.
    pub fn read(self) -> Result<(Artifact, Supply), String> {
        let stated = [
            (HashKind::Blake3, self.blake3),
            (HashKind::Sha512, self.sha512),
            (HashKind::Sha256, self.sha256),
            (HashKind::Sha1, self.sha1),
            (HashKind::Md5, self.md5),
        ];
        let stated = stated
            .into_iter()
            .filter_map(|(kind, text)| Some((kind, text?)));
        let checks = stated.map(|(kind, text)| Checksum::of(kind, &text));
        let checks: Vec<Checksum> = checks
            .collect::<Result<_, _>>()
            .map_err(|why| format!("archive.{why}"))?;
        if checks.is_empty() {
            return Err("archive states no hash".into());
        }
        if self.file.is_none() && self.urls.is_empty() && self.page.is_none() {
            return Err("archive has neither file nor urls nor page".into());
        }
        if self.file.is_some() && self.bytes.is_none() {
            return Err("archive.bytes is missing".into());
        }
        if let Some(url) = self.urls.iter().chain(&self.page).find(|url| !is_web(url)) {
            return Err(format!("archive: {url} is no http or https address"));
        }
        let released = self.released.as_deref();
        let released = released
            .map(|text| released_ms(text).map_err(|why| format!("archive.released: {why}")));
        let last = |file: &String| file.rsplit('/').next().unwrap_or(file).to_owned();
        let of_url = || self.urls.iter().find_map(|url| name_of(url));
        let of_file = || self.file.as_ref().map(last);
        let name = self.name.clone().or_else(of_file).or_else(of_url);
        let name = name.unwrap_or_else(|| "archive".into());
        let path = RelPath::parse(&name).map_err(|fault| format!("archive: {fault}"))?;
        if path.as_str().contains('/') {
            return Err(format!("archive.name: {name} is a path, and no name"));
        }
        let supply = Supply {
            name,
            urls: self.urls,
            checks,
            bytes: self.bytes,
            page: self.page,
            by_person: self.by_person,
            released_ms: released.transpose()?,
        };
        let blake3 = supply.check(HashKind::Blake3);
        let blake3 = blake3.map(|check| check.hex.clone()).unwrap_or_default();
        let file = self.file.unwrap_or_default();
        Ok((supply.at(file, blake3, self.bytes.unwrap_or(0)), supply))
    }
}

/// When a file was put up, in milliseconds since 1970: of a date (then its first moment, in UTC), a time with its zone (RFC 3339), or, as
/// listings have it, a number of seconds or milliseconds since then.
///
/// # Errors
/// When it is none of that.
pub fn released_ms(text: &str) -> Result<i64, String> {
    let text = text.trim();
    let number = text.parse::<i64>().ok().filter(|_| text.len() >= 9);
    let in_ms = number.map(|number| match text.len() {
        ..=11 => number.saturating_mul(1000),
        _ => number,
    });
    let time = || Some(text.parse::<Timestamp>().ok()?.as_millisecond());
    let day = || {
        let day = text.parse::<Date>().ok().filter(|_| text.len() == 10)?;
        Some(
            day.to_zoned(TimeZone::UTC)
                .ok()?
                .timestamp()
                .as_millisecond(),
        )
    };
    let found = in_ms.or_else(time).or_else(day);
    found.ok_or_else(|| {
        format!("{text:?} is no date like 2026-05-04, and no time like 2026-05-04T04:00:00Z")
    })
}

/// Whether an address is one that files are fetched from, as far as its beginning tells.
pub fn is_web(url: &str) -> bool {
    let begins = |scheme: &str| {
        url.get(..scheme.len())
            .is_some_and(|begin| begin.eq_ignore_ascii_case(scheme))
    };
    begins("https://") || begins("http://")
}

/// What a file is called that an address leads to: its last part, where that is fit to be a name.
pub fn name_of(url: &str) -> Option<String> {
    let path = url.split(['?', '#']).next()?;
    let (_, rest) = path.split_once("://")?;
    let (_, last) = rest.rsplit_once('/')?;
    let name = decoded(last)?;
    let path = RelPath::parse(&name).ok()?;
    (!path.as_str().contains('/')).then_some(name)
}

/// A part of an address with its `%xx` as what they stand for; none where that is no text.
fn decoded(part: &str) -> Option<String> {
    let mut bytes = Vec::with_capacity(part.len());
    let mut rest = part.bytes();
    while let Some(byte) = rest.next() {
        bytes.push(match byte {
            b'%' => {
                let digits = [rest.next()?, rest.next()?];
                u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?
            }
            other => other,
        });
    }
    String::from_utf8(bytes).ok()
}

/// A part of a path as it stands in an address.
pub fn encoded(part: &str) -> String {
    let mut text = String::with_capacity(part.len());
    for byte in part.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                text.push(char::from(byte));
            }
            other => text.push_str(&format!("%{other:02X}")),
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_or_a_time_says_when_a_file_was_put_up() {
        let day = 1_777_852_800_000;
        for (text, ms) in [
            ("2026-05-04", day),
            ("2026-05-04T04:00:00Z", day + 4 * 3_600_000),
            ("2026-05-04T04:00:00.5+02:00", day + 2 * 3_600_000 + 500),
            ("1777852800", day),
            ("1777852800500", day + 500),
        ] {
            assert_eq!(released_ms(text), Ok(ms), "{text}");
        }
        for odd in [
            "",
            "soon",
            "2026",
            "2026-13-01",
            "04.05.2026",
            "2026-05-04T04:00:00",
            "-5",
        ] {
            assert!(released_ms(odd).is_err(), "{odd}");
        }
    }

    #[test]
    fn names_of_addresses_are_file_names_or_none() {
        for (url, name) in [
            (
                "https://depot.example/a/fern-1.2.bloom",
                Some("fern-1.2.bloom"),
            ),
            (
                "https://depot.example/a/fern%201.bloom?x=/y",
                Some("fern 1.bloom"),
            ),
            ("https://depot.example/", None),
            ("https://depot.example", None),
            ("https://depot.example/%2e%2e", None),
            ("https://depot.example/a%2fb", None),
            ("https://depot.example/a%zz", None),
            ("https://depot.example/%ff", None),
        ] {
            assert_eq!(name_of(url).as_deref(), name, "{url}");
        }
        assert_eq!(encoded("a b/ä"), "a%20b%2F%C3%A4");
        assert!(is_web("HTTPS://a") && !is_web("file:///etc") && !is_web("https:/"));
    }

    #[test]
    fn a_hash_has_its_digits() {
        for kind in HashKind::ALL {
            let hex = "aB".repeat(kind.digits() / 2);
            assert_eq!(Checksum::of(kind, &hex).unwrap().hex, hex.to_lowercase());
            assert!(Checksum::of(kind, &hex[1..]).is_err());
            assert!(Checksum::of(kind, &hex.replace('a', "x")).is_err());
        }
    }
}
