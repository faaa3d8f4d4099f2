//! Signatures beside catalogues, in minisign's open format: Ed25519 over the catalogue, with a comment that is signed, too.
//!
//! The comment says when it was signed; an older catalogue than one that was seen before is somebody's attempt to have old
//! releases taken for new.

pub mod fault;

use crate::error::Result;
use crate::gather::Store;
use crate::place::here;
use fault::SigningFault;
use lantern_core::supply::is_web;
use minisign::{KeyPair, PublicKey, SecretKeyBox, SignatureBox};
use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

/// What the name of a signature adds to that of what it signs.
pub const END: &str = ".minisig";

/// Where the signature of a catalogue lies.
pub fn beside(catalogue: &Path) -> PathBuf {
    let text = catalogue.to_string_lossy();
    if is_web(&text) {
        let (path, rest) = match text.split_once(['?', '#']) {
            Some((path, _)) => (path.to_owned(), text[path.len()..].to_owned()),
            None => (text.clone().into_owned(), String::new()),
        };
        return PathBuf::from(format!("{path}{END}{rest}"));
    }
    let mut name = catalogue.as_os_str().to_owned();
    name.push(END);
    PathBuf::from(name)
}

/// Whether a text is what somebody has signed; when that was, in seconds since 1970, where the signature says so.
///
/// # Errors
/// When the key is none, or the signature not one of this text by this key.
pub fn signed(text: &[u8], signature: &str, key: &str) -> Result<Option<u64>, SigningFault> {
    let key = PublicKey::from_base64(key.trim()).map_err(|_| SigningFault::NoKey)?;
    let wrong = |error: minisign::PError| SigningFault::Wrong(error.to_string());
    let signature = SignatureBox::from_string(signature).map_err(wrong)?;
    minisign::verify(&key, &signature, Cursor::new(text), true, false, false).map_err(wrong)?;
    let comment = signature.trusted_comment().map_err(wrong)?;
    let mut words = comment.split_whitespace();
    let at = words.find_map(|word| word.strip_prefix("timestamp:"));
    Ok(at.and_then(|at| at.parse().ok()))
}

/// As [`signed`], and no older than what was seen of that catalogue before; what is seen now is remembered.
///
/// # Errors
/// As [`signed`], and [`SigningFault::Older`].
pub fn confirm(
    text: &[u8],
    signature: &str,
    key: &str,
    catalogue: &Path,
    store: &Store,
) -> Result<(), SigningFault> {
    let Some(at) = signed(text, signature, key)? else {
        return Ok(());
    };
    let whole = std::path::absolute(catalogue).unwrap_or_else(|_| catalogue.to_owned());
    let whole = if is_web(&catalogue.to_string_lossy()) {
        catalogue
    } else {
        &whole
    };
    let name = blake3::hash(format!("{key} {}", whole.display()).as_bytes()).to_hex();
    let file = store.root().join("signed").join(name.as_str());
    let seen = here::read_text(&file).ok();
    let seen: Option<u64> = seen.and_then(|seen| seen.trim().parse().ok());
    match seen {
        Some(seen) if seen > at => Err(SigningFault::Older(seen - at)),
        Some(seen) if seen == at => Ok(()),
        _ => {
            // Where it cannot be kept, nothing is lost but the memory.
            let folder = file.parent().unwrap_or(Path::new("."));
            let _ = here::make_folders(folder)
                .and_then(|()| here::write(&file, at.to_string().as_bytes()));
            Ok(())
        }
    }
}

/// Makes a pair of keys: the secret one at a path, which nobody else can read; returns the one that everybody may know.
///
/// # Errors
/// When something lies there, or the disk refuses.
pub fn new_key(path: &Path, password: Option<String>) -> Result<String> {
    if here::look(path).is_some() {
        return Err(crate::Error::InTheWay(path.into()));
    }
    let failed = |error: minisign::PError| crate::Error::Signing {
        path: path.into(),
        fault: SigningFault::Secret(error.to_string()),
    };
    let made = match password {
        Some(password) => KeyPair::generate_encrypted_keypair(Some(password)),
        None => KeyPair::generate_unencrypted_keypair(),
    };
    let pair = made.map_err(failed)?;
    let secret = pair.sk.to_box(None).map_err(failed)?;
    here::write_private(path, secret.into_string().as_bytes())?;
    Ok(pair.pk.to_base64())
}

/// Signs a file; the signature comes to lie beside it. Returns where, and the key that it can be checked with.
///
/// # Errors
/// When a file cannot be read or written, or the key is none.
pub fn sign(file: &Path, key: &Path, password: Option<String>) -> Result<(PathBuf, String)> {
    let failed = |error: minisign::PError| crate::Error::Signing {
        path: key.into(),
        fault: SigningFault::Secret(error.to_string()),
    };
    let bytes = here::read(file)?;
    let secret = SecretKeyBox::from_string(&here::read_text(key)?).map_err(failed)?;
    let secret = match password {
        Some(password) => secret.into_secret_key(Some(password)),
        None => secret.into_unencrypted_secret_key(),
    };
    let secret = secret.map_err(failed)?;
    let public = PublicKey::from_secret_key(&secret).map_err(failed)?;
    let now = SystemTime::now().duration_since(UNIX_EPOCH);
    let now = now.map_or(0, |now| now.as_secs());
    let name = file
        .file_name()
        .map(|name| name.to_string_lossy().into_owned());
    let comment = format!("timestamp:{now}\tfile:{}\thashed", name.unwrap_or_default());
    let signature = minisign::sign(
        Some(&public),
        &secret,
        Cursor::new(&bytes),
        Some(&comment),
        Some("signature of a catalogue"),
    );
    let signature = signature.map_err(failed)?;
    let path = beside(file);
    here::write(&path, signature.into_string().as_bytes())?;
    Ok((path, public.to_base64()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_signature_is_of_one_text_by_one_key() {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        here::write(&path("a.catalogue.json"), b"one").unwrap();
        let public = new_key(&path("key"), None).unwrap();
        let other = new_key(&path("other"), Some("fern".into())).unwrap();
        let (file, known) = sign(&path("a.catalogue.json"), &path("key"), None).unwrap();
        assert_eq!((file, &known), (path("a.catalogue.json.minisig"), &public));
        let signature = here::read_text(&path("a.catalogue.json.minisig")).unwrap();
        assert!(
            signed(b"one", &signature, &public)
                .unwrap()
                .is_some_and(|at| at > 1_700_000_000)
        );
        assert!(matches!(
            signed(b"two", &signature, &public),
            Err(SigningFault::Wrong(_))
        ));
        assert!(matches!(
            signed(b"one", &signature, &other),
            Err(SigningFault::Wrong(_))
        ));
        assert!(matches!(
            signed(b"one", "", &public),
            Err(SigningFault::Wrong(_))
        ));
        assert_eq!(signed(b"one", &signature, "RWx"), Err(SigningFault::NoKey));
        let later = signature.replace("timestamp:1", "timestamp:2");
        assert!(matches!(
            signed(b"one", &later, &public),
            Err(SigningFault::Wrong(_))
        ));
        // The password is the one it was made with.
        assert!(sign(&path("a.catalogue.json"), &path("other"), None).is_err());
        assert!(
            sign(
                &path("a.catalogue.json"),
                &path("other"),
                Some("ivy".into())
            )
            .is_err()
        );
        assert!(
            sign(
                &path("a.catalogue.json"),
                &path("other"),
                Some("fern".into())
            )
            .is_ok()
        );
        assert!(new_key(&path("key"), None).is_err());
    }

    #[test]
    fn a_signature_lies_beside_what_it_signs() {
        for (catalogue, at) in [
            ("a/b.catalogue.json", "a/b.catalogue.json.minisig"),
            (
                "https://depot.example/a.json",
                "https://depot.example/a.json.minisig",
            ),
            (
                "https://depot.example/a.json?b=c",
                "https://depot.example/a.json.minisig?b=c",
            ),
        ] {
            assert_eq!(beside(Path::new(catalogue)), Path::new(at));
        }
    }
}
