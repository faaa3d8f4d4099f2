//! Any text as `lantern.toml`.
#![no_main]

use lantern_host::config::Config;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = Config::parse(text);
});
