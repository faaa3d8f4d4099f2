//! `[backup]` of `lantern.toml`: where backups go.

use crate::backup::Bucket;
use crate::place::{Address, Means, Scheme};
use crate::web;
use serde::Deserialize;
use std::fmt;
use std::path::PathBuf;
use url::Url;

/// What requests are signed for where nothing else is said; most stores do not care.
const REGION: &str = "us-east-1";

/// Where backups go.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(try_from = "Words")]
pub struct BackupPlace {
    /// The store; otherwise `.lantern/store`.
    pub at: Option<StoreAt>,
    /// Whether servers that name the same store share contents there; otherwise those do whose store is elsewhere.
    pub shared: Option<bool>,
    /// The file of the key that it is sealed with, relative to the server folder.
    pub key: Option<PathBuf>,
    /// For SFTP, the command line that speaks it.
    through: Vec<String>,
}

/// Where a store is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StoreAt {
    /// In a folder, relative to the server's, which has to be there.
    Folder(PathBuf),
    /// In a folder on another machine.
    Sftp(Address),
    /// In an object store; files are relative to the server folder.
    Bucket(Bucket),
}

impl StoreAt {
    /// Whether it is not on this machine.
    pub fn is_elsewhere(&self) -> bool {
        !matches!(self, StoreAt::Folder(_))
    }
}

impl fmt::Display for StoreAt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            StoreAt::Folder(path) => write!(f, "{}", path.display()),
            StoreAt::Sftp(address) => write!(f, "{address}"),
            StoreAt::Bucket(bucket) => write!(f, "{bucket}"),
        }
    }
}

impl BackupPlace {
    /// Where it is, where nobody is asked for what is seen at a glance: it is not on this machine.
    pub fn elsewhere(&self) -> Option<&StoreAt> {
        self.at.as_ref().filter(|at| at.is_elsewhere())
    }

    /// How the machine is reached that the store is on.
    pub fn means(&self) -> Means {
        Means {
            through: (!self.through.is_empty()).then(|| self.through.clone()),
            ..Means::default()
        }
    }
}

/// What stands in `lantern.toml`.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Words {
    store: Option<String>,
    shared: Option<bool>,
    key: Option<PathBuf>,
    through: Vec<String>,
    endpoint: Option<String>,
    region: Option<String>,
    credentials: Option<PathBuf>,
    ca: Option<PathBuf>,
}

impl TryFrom<Words> for BackupPlace {
    type Error = String;

    fn try_from(words: Words) -> Result<BackupPlace, String> {
        let of_bucket = [
            ("endpoint", words.endpoint.is_some()),
            ("region", words.region.is_some()),
            ("credentials", words.credentials.is_some()),
            ("ca", words.ca.is_some()),
        ];
        let of_bucket = of_bucket.into_iter().find(|(_, is_stated)| *is_stated);
        let of_bucket = of_bucket.map(|(name, _)| (name, "s3://"));
        let of_sftp = (!words.through.is_empty()).then_some(("through", "sftp://"));
        let of_any = words.key.is_some().then_some("key");
        let of_any = of_any.or(words.shared.is_some().then_some("shared"));
        let scheme = words
            .store
            .as_deref()
            .and_then(|store| store.split_once("://").map(|(scheme, _)| scheme));
        let superfluous = match scheme {
            Some("s3") => of_sftp,
            Some("sftp") => of_bucket,
            _ => of_bucket.or(of_sftp),
        };
        if let Some((name, scheme)) = superfluous {
            return Err(format!(
                "backup.{name} is for a store that begins with {scheme}"
            ));
        }
        let at = match (&words.store, scheme) {
            (None, _) => match of_any {
                Some(name) => {
                    return Err(format!("backup.{name} needs a store of its own: store = …"));
                }
                None => None,
            },
            (Some(store), None) => Some(StoreAt::Folder(store.into())),
            (Some(store), Some("sftp")) => {
                let address =
                    Address::parse(store).map_err(|why| format!("backup.store: {why}"))?;
                debug_assert_eq!(address.scheme, Scheme::Sftp);
                Some(StoreAt::Sftp(address))
            }
            (Some(store), Some("s3")) => Some(StoreAt::Bucket(bucket(store, &words)?)),
            (Some(_), Some(other)) => {
                return Err(format!(
                    "backup.store: {other}:// is not spoken; a folder, sftp://user@host/folder and s3://bucket/path are"
                ));
            }
        };
        Ok(BackupPlace {
            at,
            shared: words.shared,
            key: words.key,
            through: words.through,
        })
    }
}

fn bucket(store: &str, words: &Words) -> Result<Bucket, String> {
    let fault = |why: &str| Err(format!("backup.store: {store}: {why}"));
    let rest = store.strip_prefix("s3://").unwrap_or(store);
    let (bucket, path) = rest.split_once('/').unwrap_or((rest, ""));
    let path = path.trim_matches('/');
    let is_odd = |part: &str| part.is_empty() || part == "." || part == "..";
    if is_odd(bucket) || bucket.contains(['@', ':', '?', '#', '%']) {
        return fault("it has to be s3://bucket/path; endpoint says at which host");
    }
    if !path.is_empty() && path.split('/').any(is_odd) || path.chars().any(char::is_control) {
        return fault("its path has an empty part, or one of dots");
    }
    let Some(endpoint) = &words.endpoint else {
        return fault(
            "endpoint is missing: the address of the object store, as https://objects.example",
        );
    };
    let url =
        web::address(endpoint).map_err(|why| format!("backup.endpoint: {endpoint}: {why}"))?;
    let is_secret = url.scheme() == "https" || words.key.is_some() || web::is_here(&url);
    if !is_secret {
        return Err(format!(
            "backup.endpoint: {endpoint}: everybody on the way could read the backups: https, or a key to seal them with"
        ));
    }
    if !is_bare(&url) {
        return Err(format!(
            "backup.endpoint: {endpoint}: it has more than a host and a path"
        ));
    }
    Ok(Bucket {
        endpoint: url,
        bucket: bucket.into(),
        prefix: match path {
            "" => String::new(),
            path => format!("{path}/"),
        },
        region: words.region.clone().unwrap_or_else(|| REGION.into()),
        credentials: words.credentials.clone(),
        ca: words.ca.clone(),
    })
}

fn is_bare(url: &Url) -> bool {
    let named = url.username().is_empty() && url.password().is_none();
    named && url.query().is_none() && url.fragment().is_none()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<BackupPlace, String> {
        toml_edit::de::from_str(text).map_err(|error| error.to_string())
    }

    #[test]
    fn where_a_store_is() {
        let at = |text: &str| read(text).unwrap().at;
        assert_eq!(at(""), None);
        assert_eq!(
            at("store = '../store'"),
            Some(StoreAt::Folder("../store".into()))
        );
        let bucket = at(
            "store = 's3://lantern/a/b/'\nendpoint = 'https://objects.example'\nregion = 'north'",
        );
        let Some(StoreAt::Bucket(bucket)) = bucket else {
            panic!("{bucket:?}");
        };
        assert_eq!(
            (&*bucket.bucket, &*bucket.prefix, &*bucket.region),
            ("lantern", "a/b/", "north")
        );
        assert_eq!(bucket.to_string(), "s3://lantern/a/b");
        let sftp =
            read("store = 'sftp://keeper@archive.example/store'\nthrough = ['ssh', '-s']").unwrap();
        assert!(sftp.is_shared() && sftp.means().through.is_some());
        assert!(!read("store = 'x'").unwrap().is_shared());
        assert!(read("store = 'x'\nshared = true").unwrap().is_shared());
    }

    #[test]
    fn what_cannot_be_meant() {
        for (text, why) in [
            ("key = 'k'", "backup.key needs a store"),
            ("shared = true", "backup.shared needs a store"),
            (
                "store = 'x'\nendpoint = 'https://objects.example'",
                "backup.endpoint is for a store that begins with s3://",
            ),
            (
                "store = 's3://b'\nthrough = ['ssh']",
                "backup.through is for a store that begins with sftp://",
            ),
            ("store = 'ftp://host/x'", "ftp:// is not spoken"),
            ("store = 's3://b'", "endpoint is missing"),
            (
                "store = 's3:///p'\nendpoint = 'https://objects.example'",
                "it has to be s3://bucket/path",
            ),
            (
                "store = 's3://b/../c'\nendpoint = 'https://objects.example'",
                "one of dots",
            ),
            (
                "store = 's3://b'\nendpoint = 'http://objects.example'",
                "everybody on the way",
            ),
            (
                "store = 's3://b'\nendpoint = 'https://me:x@objects.example'",
                "more than a host",
            ),
            (
                "store = 's3://b'\nendpoint = 'objects.example'",
                "no http or https address",
            ),
            ("store = 'sftp://me:x@host/p'", "holds no password"),
        ] {
            let error = read(text).unwrap_err();
            assert!(error.contains(why), "{text}: {error}");
        }
        for text in ["http://127.0.0.1:9/", "http://objects.example'\nkey = 'k"] {
            assert!(
                read(&format!("store = 's3://b'\nendpoint = '{text}'")).is_ok(),
                "{text}"
            );
        }
    }
}
