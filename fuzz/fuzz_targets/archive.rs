//! Any bytes as an archive: opened, and when it opens, read through.
#![no_main]

use lantern_host::archive::Archive;
use libfuzzer_sys::fuzz_target;
use std::io::Write;

fuzz_target!(|data: &[u8]| {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(data).unwrap();
    if let Ok(mut archive) = Archive::open(file.path()) {
        for name in archive.names() {
            assert!(!name.starts_with('/') && !name.split('/').any(|part| part == ".."));
        }
        let _ = archive.contents();
    }
});
