//! The packets of the SSH file transfer protocol on their way between a program and the session that asks.
//!
//! A handle is bytes of the other end's choice (draft-ietf-secsh-filexfer-02, section 6.2), and the session takes it for text: so
//! each of its bytes goes to the session as the character of that number, and comes back as the byte.

use std::io;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, DuplexStream, duplex, split};

/// So long a packet may be, in bytes: what every server takes is 34,000, and none sends more than this.
const LONGEST: u32 = 256 << 10;

/// Where the handle stands in a packet, behind its type and number.
const BEHIND_ITS_HEAD: usize = 5;

/// What comes back: `SSH_FXP_HANDLE`.
const HANDLE: u8 = 102;
/// What begins with a handle: to close, read, write, ask about and change an open file, and list an open folder.
const OF_A_HANDLE: [u8; 6] = [4, 5, 6, 8, 10, 12];
/// `SSH_FXP_EXTENDED`, and the one extension that names a handle, which stands behind its name.
const EXTENDED: u8 = 200;
const FSYNC: &[u8] = b"fsync@openssh.com";

/// A stream for a session, which ends when the program's does. It has to be called where a runtime is.
pub fn spoken(
    output: impl AsyncRead + Unpin + Send + 'static,
    input: impl AsyncWrite + Unpin + Send + 'static,
) -> DuplexStream {
    let (near, far) = duplex(LONGEST as usize);
    let (asked, answers) = split(far);
    tokio::spawn(carry(output, answers, answer));
    tokio::spawn(carry(asked, input, question));
    near
}

/// Carries packets until one side ends, then lets the other know.
async fn carry(
    from: impl AsyncRead + Unpin,
    mut to: impl AsyncWrite + Unpin,
    turned: fn(Vec<u8>) -> Vec<u8>,
) {
    // Either side may stop at any packet: there is nobody else to be told.
    let _ = carry_all(from, &mut to, turned).await;
    let _ = to.shutdown().await;
}

async fn carry_all(
    mut from: impl AsyncRead + Unpin,
    mut to: impl AsyncWrite + Unpin,
    turned: fn(Vec<u8>) -> Vec<u8>,
) -> io::Result<()> {
    loop {
        let length = from.read_u32().await?;
        if length > LONGEST {
            return Err(io::Error::other("a packet that is too long"));
        }
        let mut packet = vec![0; length as usize];
        from.read_exact(&mut packet).await?;
        let packet = turned(packet);
        let length = u32::try_from(packet.len()).map_err(io::Error::other)?;
        let mut whole = length.to_be_bytes().to_vec();
        whole.extend(packet);
        to.write_all(&whole).await?;
        to.flush().await?;
    }
}

/// A packet of the other end's, as the session takes it.
fn answer(packet: Vec<u8>) -> Vec<u8> {
    match packet.first() {
        Some(&HANDLE) => with_string(packet, BEHIND_ITS_HEAD, |handle| {
            let text: String = handle.iter().map(|&byte| char::from(byte)).collect();
            Some(text.into_bytes())
        }),
        _ => packet,
    }
}

/// A packet of the session's, as the other end takes it.
fn question(packet: Vec<u8>) -> Vec<u8> {
    let at = match packet.first() {
        Some(sort) if OF_A_HANDLE.contains(sort) => BEHIND_ITS_HEAD,
        Some(&EXTENDED) if string_at(&packet, BEHIND_ITS_HEAD) == Some(FSYNC) => {
            BEHIND_ITS_HEAD + 4 + FSYNC.len()
        }
        _ => return packet,
    };
    with_string(packet, at, |handle| {
        let text = std::str::from_utf8(handle).ok()?;
        text.chars().map(|it| u8::try_from(it).ok()).collect()
    })
}

/// The string that begins at a place of a packet; none where it is not whole.
fn string_at(packet: &[u8], at: usize) -> Option<&[u8]> {
    let (length, rest) = packet.get(at..)?.split_first_chunk()?;
    rest.get(..u32::from_be_bytes(*length) as usize)
}

/// A packet with another string in the place of one; as it was where there is none.
fn with_string(packet: Vec<u8>, at: usize, other: fn(&[u8]) -> Option<Vec<u8>>) -> Vec<u8> {
    let turned = string_at(&packet, at).and_then(|it| Some((it.len(), other(it)?)));
    let Some((before, (length, after))) =
        turned.and_then(|(before, it)| Some((before, (u32::try_from(it.len()).ok()?, it))))
    else {
        return packet;
    };
    let mut whole = packet[..at].to_vec();
    whole.extend(length.to_be_bytes());
    whole.extend(after);
    whole.extend(&packet[at + 4 + before..]);
    whole
}

#[cfg(test)]
mod tests {
    use super::*;

    fn packet(sort: u8, strings: &[&[u8]], rest: &[u8]) -> Vec<u8> {
        let mut packet = vec![sort, 0, 0, 0, 9];
        for string in strings {
            packet.extend(u32::try_from(string.len()).unwrap().to_be_bytes());
            packet.extend(*string);
        }
        packet.extend(rest);
        packet
    }

    #[test]
    fn a_handle_of_any_bytes_comes_back_as_it_was() {
        for byte in 0..=255 {
            let handle = [0, byte, byte, 7];
            let given = answer(packet(HANDLE, &[&handle], b""));
            let text = string_at(&given, BEHIND_ITS_HEAD).unwrap().to_vec();
            assert!(std::str::from_utf8(&text).is_ok());
            for sort in OF_A_HANDLE {
                let asked = question(packet(sort, &[&text], b"and more"));
                assert_eq!(asked, packet(sort, &[&handle], b"and more"));
            }
            let asked = question(packet(EXTENDED, &[FSYNC, &text], b""));
            assert_eq!(asked, packet(EXTENDED, &[FSYNC, &handle], b""));
        }
    }

    #[test]
    fn all_else_is_left_as_it_is() {
        let path = "beds/\u{e9}t\u{e9}".as_bytes();
        for untouched in [
            packet(3, &[path], b"\0\0\0\x01"),
            packet(EXTENDED, &[b"statvfs@openssh.com", path], b""),
            packet(OF_A_HANDLE[0], &[], b"\xff\xff\xff\xff"),
            packet(OF_A_HANDLE[1], &["\u{100}".as_bytes()], b""),
            Vec::new(),
            vec![HANDLE],
            vec![EXTENDED, 0, 0],
        ] {
            assert_eq!(question(untouched.clone()), untouched);
            if untouched.first() != Some(&HANDLE) {
                assert_eq!(answer(untouched.clone()), untouched);
            }
        }
        assert_eq!(answer(vec![HANDLE]), [HANDLE]);
    }
}
