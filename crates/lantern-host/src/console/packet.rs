//! The packets of the remote console protocol.
//!
//! A packet is three numbers of 32 bits, little-endian, and a text: the length of all that follows, a number of the asker's
//! choice that the answer repeats, the type, then the text and two zero bytes.

/// The longest packet that is read, in bytes.
const LONGEST: usize = 1 << 20;
/// What the length counts besides the text: number, type, and two zero bytes.
const AROUND: usize = 10;

/// One packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packet {
    /// Of the asker's choice.
    pub number: i32,
    /// What it is.
    pub kind: i32,
    /// Question or answer, in whatever encoding the server has.
    pub text: Vec<u8>,
}

impl Packet {
    /// As it is sent.
    pub fn bytes(&self) -> Vec<u8> {
        let length = i32::try_from(self.text.len() + AROUND).unwrap_or(i32::MAX);
        let head = [length, self.number, self.kind]
            .map(i32::to_le_bytes)
            .concat();
        [&head[..], &self.text, &[0, 0]].concat()
    }
}

/// What came is no packet: no packet is so short, or so long.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("is something else: what it sends is no packet of this protocol")]
pub struct NoPacket;

/// Packets as they come in, in pieces of any length.
#[derive(Debug, Default)]
pub struct Packets {
    /// What was read and is no whole packet yet.
    rest: Vec<u8>,
}

impl Packets {
    /// Takes in what was read.
    pub fn add(&mut self, piece: &[u8]) {
        self.rest.extend(piece);
    }

    /// The next whole packet; none when there is none yet.
    ///
    /// # Errors
    /// When it is none of this protocol.
    pub fn take(&mut self) -> Result<Option<Packet>, NoPacket> {
        let number = |at: usize| -> Option<i32> {
            let bytes = self.rest.get(at..at + 4)?;
            Some(i32::from_le_bytes(bytes.try_into().ok()?))
        };
        let Some(length) = number(0) else {
            return Ok(None);
        };
        let length = usize::try_from(length).unwrap_or(0);
        if !(AROUND..=LONGEST).contains(&length) {
            return Err(NoPacket);
        }
        let (Some(number), Some(kind), Some(text)) =
            (number(4), number(8), self.rest.get(12..length + 2))
        else {
            return Ok(None);
        };
        if self.rest.len() < length + 4 {
            return Ok(None);
        }
        let text = text.to_vec();
        self.rest.drain(..length + 4);
        Ok(Some(Packet { number, kind, text }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packets_are_the_same_however_they_are_cut() {
        let sent = [b"".as_slice(), b"a\nb", &[0xff; 300], b"\0\0"];
        let sent = sent.map(|text| Packet {
            number: -1,
            kind: 7,
            text: text.into(),
        });
        let bytes = sent.each_ref().map(Packet::bytes).concat();
        for length in [1, 3, 13, 5000] {
            let mut packets = Packets::default();
            let mut came = Vec::new();
            for piece in bytes.chunks(length) {
                packets.add(piece);
                while let Some(packet) = packets.take().unwrap() {
                    came.push(packet);
                }
            }
            assert_eq!(came, sent, "in pieces of {length}");
        }
    }

    #[test]
    fn what_is_too_short_or_too_long_is_no_packet() {
        for length in [0, 9, -1, i32::MIN, i32::MAX, 1 << 21] {
            let mut packets = Packets::default();
            packets.add(&i32::to_le_bytes(length));
            assert_eq!(packets.take(), Err(NoPacket), "{length}");
        }
    }
}
