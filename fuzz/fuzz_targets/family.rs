//! Any text as a family file, and what there is to remark on it.
#![no_main]

use lantern_core::{check, family::Family};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Ok(family) = Family::parse(text) {
        let _ = check::remarks(&family);
        for path in ["", "a", "a/b.c", "a/b/ c"] {
            let _ = (
                family.keeps(path),
                family.is_settings(path),
                family.passes(path),
            );
        }
    }
});
