//! Any text as a catalogue; what can be read has ids and versions that can be written again.
#![no_main]

use lantern_core::catalogue;
use lantern_core::version::Notations;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Ok(read) = catalogue::read(text, &Notations::default()) {
        for offer in &read.offers {
            assert!(!offer.facts.id.as_str().is_empty());
        }
    }
});
