//! Where in an object store a store of backups lies.

#[cfg(feature = "objects")]
use super::Objects;
use super::Shelf;
use crate::backup::fault::BackupFault;
use crate::error::Result;
use std::path::PathBuf;
use std::sync::Arc;
use url::Url;

/// What is said where this program was built without the feature `objects`.
#[cfg(not(feature = "objects"))]
const WITHOUT: &str =
    "this lantern was built without what reaches object stores: its feature \"objects\"";

/// Where a store is in an object store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bucket {
    /// The address that is asked.
    pub endpoint: Url,
    /// The bucket's name.
    pub bucket: String,
    /// Where in it: empty, or ending in `/`.
    pub prefix: String,
    /// The region that requests are signed for.
    pub region: String,
    /// The file that holds the access key; otherwise the environment does.
    pub credentials: Option<PathBuf>,
    /// A file of certificates that vouch for it, besides those of the machine.
    pub ca: Option<PathBuf>,
}

impl Bucket {
    /// The store that lies there.
    ///
    /// # Errors
    /// When its access key or certificates cannot be read, or this program was built without what reaches it.
    pub fn shelf(&self) -> Result<Arc<dyn Shelf>> {
        #[cfg(feature = "objects")]
        return Ok(Arc::new(Objects::new(self)?));
        #[cfg(not(feature = "objects"))]
        return Err(self.fault(WITHOUT.into()).into());
    }

    pub(crate) fn fault(&self, why: String) -> BackupFault {
        BackupFault::Shelf {
            at: self.to_string(),
            why,
        }
    }
}

impl std::fmt::Display for Bucket {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let prefix = self.prefix.trim_end_matches('/');
        write!(f, "s3://{}", self.bucket)?;
        match prefix {
            "" => Ok(()),
            prefix => write!(f, "/{prefix}"),
        }
    }
}

#[cfg(all(test, not(feature = "objects")))]
mod tests {
    use super::*;

    #[test]
    fn without_objects_it_says_so() {
        let bucket = Bucket {
            endpoint: Url::parse("https://objects.example").unwrap(),
            bucket: "terraces".into(),
            prefix: String::new(),
            region: "north".into(),
            credentials: None,
            ca: None,
        };
        let refused = bucket.shelf().unwrap_err().to_string();
        assert!(refused.ends_with("its feature \"objects\""), "{refused}");
    }
}
