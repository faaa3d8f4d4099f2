//! The hashes of a file, taken while it comes.

use lantern_core::supply::{Checksum, HashKind};
use md5::Md5;
use sha1::Sha1;
use sha2::{Digest as _, Sha256, Sha512};
use std::fmt::Write as _;
use std::io;

/// Takes several hashes at once; BLAKE3 in any case.
pub struct Digest {
    blake3: blake3::Hasher,
    others: Vec<Other>,
    /// How many bytes there were.
    pub bytes: u64,
}

enum Other {
    Sha512(Sha512),
    Sha256(Sha256),
    Sha1(Sha1),
    Md5(Md5),
}

impl io::Write for Digest {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Digest {
    /// Takes the hashes of these kinds.
    pub fn of(kinds: impl Iterator<Item = HashKind>) -> Digest {
        let others = kinds.filter_map(|kind| match kind {
            HashKind::Blake3 => None,
            HashKind::Sha512 => Some(Other::Sha512(Sha512::new())),
            HashKind::Sha256 => Some(Other::Sha256(Sha256::new())),
            HashKind::Sha1 => Some(Other::Sha1(Sha1::new())),
            HashKind::Md5 => Some(Other::Md5(Md5::new())),
        });
        Digest {
            blake3: blake3::Hasher::new(),
            others: others.collect(),
            bytes: 0,
        }
    }

    /// So much more of it.
    pub fn update(&mut self, bytes: &[u8]) {
        self.bytes += bytes.len() as u64;
        self.blake3.update(bytes);
        for other in &mut self.others {
            match other {
                Other::Sha512(hasher) => hasher.update(bytes),
                Other::Sha256(hasher) => hasher.update(bytes),
                Other::Sha1(hasher) => hasher.update(bytes),
                Other::Md5(hasher) => hasher.update(bytes),
            }
        }
    }

    /// What they are.
    pub fn finish(self) -> Vec<Checksum> {
        let mut all = vec![Checksum {
            kind: HashKind::Blake3,
            hex: self.blake3.finalize().to_hex().to_string(),
        }];
        all.extend(self.others.into_iter().map(|other| {
            let (kind, hex) = match other {
                Other::Sha512(hasher) => (HashKind::Sha512, hex(&hasher.finalize())),
                Other::Sha256(hasher) => (HashKind::Sha256, hex(&hasher.finalize())),
                Other::Sha1(hasher) => (HashKind::Sha1, hex(&hasher.finalize())),
                Other::Md5(hasher) => (HashKind::Md5, hex(&hasher.finalize())),
            };
            Checksum { kind, hex }
        }));
        all
    }
}

fn hex(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len() * 2);
    for byte in bytes {
        let _ = write!(text, "{byte:02x}");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn they_are_those_that_everybody_takes() {
        let mut digest = Digest::of(HashKind::ALL.into_iter());
        digest.update(b"a");
        digest.update(b"bc");
        let told: Vec<String> = digest
            .finish()
            .iter()
            .map(|check| format!("{} {}", check.kind, &check.hex[..16]))
            .collect();
        assert_eq!(
            told,
            [
                "blake3 6437b3ac38465133",
                "sha512 ddaf35a193617aba",
                "sha256 ba7816bf8f01cfea",
                "sha1 a9993e364706816a",
                "md5 900150983cd24fb0"
            ]
        );
    }
}
