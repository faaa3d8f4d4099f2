//! What a store holds, sealed with a key that is not in it: XChaCha20-Poly1305 (draft-irtf-cfrg-xchacha-03), each piece, index
//! and page by itself.

use super::fault::BackupFault;
use crate::error::{Error, Result};
use crate::place::here;
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use std::path::Path;

/// What a line of a key file begins with that holds the key.
const KEY: &str = "lantern-store-key-1";
/// A sealed text begins with as many bytes that are used once.
const NONCE: usize = 24;
/// Ends with as many that tell whether it was changed.
const TAG: usize = 16;

/// Seals what goes into a store, and opens what comes out of it.
#[derive(Clone)]
pub struct Seal(Option<(XChaCha20Poly1305, String)>);

impl std::fmt::Debug for Seal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let mark = self.mark().unwrap_or("none");
        write!(f, "Seal({mark})")
    }
}

impl Seal {
    /// None at all: everybody can read it.
    pub fn none() -> Seal {
        Seal(None)
    }

    /// Reads a key file.
    ///
    /// # Errors
    /// When it cannot be read, or holds no key.
    pub fn read(path: &Path) -> Result<Seal> {
        let text = here::read_text(path)?;
        let fault = |why: &str| {
            Error::Backup(BackupFault::Key {
                why: format!("{} {why}", path.display()),
            })
        };
        let mut keys = text
            .lines()
            .filter_map(|line| line.trim().strip_prefix(KEY));
        let key = keys
            .next()
            .ok_or_else(|| fault("holds none; lantern backup key FILE makes one"))?;
        let hash = blake3::Hash::from_hex(key.trim());
        let key = hash.map_err(|_| fault("holds a damaged one"))?;
        Ok(Seal::with(key.as_bytes()))
    }

    fn with(key: &[u8; 32]) -> Seal {
        let mark = blake3::derive_key("warm lantern 2026 the mark of a store's key", key);
        let mark = blake3::Hash::from(mark).to_hex()[..16].to_owned();
        Seal(Some((XChaCha20Poly1305::new(key.into()), mark)))
    }

    /// Tells a key from others, and nothing of it.
    pub fn mark(&self) -> Option<&str> {
        self.0.as_ref().map(|(_, mark)| mark.as_str())
    }

    /// So many bytes are added to each text.
    pub fn adds(&self) -> usize {
        match &self.0 {
            None => 0,
            Some(_) => NONCE + TAG,
        }
    }

    /// Seals a text, so that it can be opened under its name alone.
    ///
    /// # Errors
    /// When the system has no random numbers.
    pub fn seal(&self, text: &[u8], name: &str) -> Result<Vec<u8>> {
        let Some((cipher, _)) = &self.0 else {
            return Ok(text.to_vec());
        };
        let nonce: [u8; NONCE] = random()?;
        let payload = Payload {
            msg: text,
            aad: name.as_bytes(),
        };
        let sealed = cipher.encrypt(&XNonce::from(nonce), payload);
        let sealed = sealed.map_err(|_| fault("nothing can be sealed"))?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// Opens what was sealed under a name.
    ///
    /// # Errors
    /// With what is wrong with it, in words.
    pub fn open(&self, sealed: Vec<u8>, name: &str) -> std::result::Result<Vec<u8>, String> {
        let Some((cipher, _)) = &self.0 else {
            return Ok(sealed);
        };
        let (nonce, text) = sealed.split_first_chunk::<NONCE>().ok_or("it is cut off")?;
        let payload = Payload {
            msg: text,
            aad: name.as_bytes(),
        };
        let opened = cipher.decrypt(&XNonce::from(*nonce), payload);
        opened.map_err(|_| "it is damaged, or was sealed with another key".into())
    }
}

fn fault(why: &str) -> Error {
    Error::Backup(BackupFault::Key { why: why.into() })
}

/// Bytes that nobody can guess.
pub fn random<const N: usize>() -> Result<[u8; N]> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|_| fault("the system has no random numbers"))?;
    Ok(bytes)
}

/// Makes a key file, which only its owner may read.
///
/// # Errors
/// When something is there already, or it cannot be written.
pub fn make_key(path: &Path) -> Result<String> {
    let key = blake3::Hash::from(random::<32>()?);
    let text = format!(
        "# The key of a store of backups. What is sealed with it can be read with it alone: keep a copy where the server is not.\n\
         {KEY} {}\n",
        key.to_hex()
    );
    here::write_private(path, text.as_bytes())?;
    Ok(Seal::with(key.as_bytes())
        .mark()
        .unwrap_or_default()
        .to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sealed_is_opened_under_its_name_with_its_key_alone() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("key");
        let mark = make_key(&path).unwrap();
        assert!(make_key(&path).is_err(), "no key is written over");
        let seal = Seal::read(&path).unwrap();
        assert_eq!(seal.mark(), Some(&*mark));
        let text = b"worlds/orbit-garden";
        let sealed = seal.seal(text, "a").unwrap();
        assert_eq!(sealed.len(), text.len() + seal.adds());
        assert_ne!(sealed, seal.seal(text, "a").unwrap(), "no two are alike");
        assert_eq!(seal.open(sealed.clone(), "a").unwrap(), text);
        assert!(seal.open(sealed.clone(), "b").is_err());
        for at in [0, NONCE, sealed.len() - 1] {
            let mut changed = sealed.clone();
            changed[at] ^= 1;
            assert!(seal.open(changed, "a").is_err(), "{at}");
        }
        assert!(seal.open(sealed[..NONCE - 1].to_vec(), "a").is_err());
        let other = dir.path().join("other");
        make_key(&other).unwrap();
        assert!(Seal::read(&other).unwrap().open(sealed, "a").is_err());
        std::fs::write(&other, "nothing").unwrap();
        assert!(Seal::read(&other).is_err());
        assert!(!format!("{seal:?}").contains("Cipher"));
    }
}
