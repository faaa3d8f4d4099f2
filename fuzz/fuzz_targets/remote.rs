//! Any bytes from a remote console, in pieces: the packets are the same however they are cut, and they are what was sent.
#![no_main]

use lantern_host::console::packet::{Packet, Packets};
use libfuzzer_sys::fuzz_target;

fn taken(pieces: impl Iterator<Item = impl AsRef<[u8]>>) -> Vec<Packet> {
    let mut packets = Packets::default();
    let mut came = Vec::new();
    for piece in pieces {
        packets.add(piece.as_ref());
        while let Ok(Some(packet)) = packets.take() {
            came.push(packet);
        }
    }
    came
}

fuzz_target!(|input: (u8, &[u8])| {
    let (length, bytes) = input;
    let whole = taken(std::iter::once(bytes));
    assert_eq!(whole, taken(bytes.chunks(usize::from(length) + 1)));
    // The two bytes at the end of each are not looked at.
    let mut rest = bytes;
    for packet in whole {
        let written = packet.bytes();
        let text = written.len() - 2;
        assert_eq!(written[..text], rest[..text]);
        rest = &rest[written.len()..];
    }
});
