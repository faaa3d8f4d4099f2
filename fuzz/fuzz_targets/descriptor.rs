//! Every descriptor notation on any text: the first byte chooses the notation.
#![no_main]

use lantern_core::document::parse;
use lantern_core::family::DescriptorFile;
use libfuzzer_sys::fuzz_target;
use std::sync::LazyLock;

static FILES: LazyLock<Vec<DescriptorFile>> = LazyLock::new(|| {
    let notations = [
        "toml",
        "json",
        "yaml",
        "ini",
        "properties",
        "xml",
        "manifest",
        "lines",
        "script",
        "header",
    ];
    let file = |notation: &&str| {
        let line = match *notation {
            "header" => "line = '^;; (?P<key>\\w+) (?P<value>.*)$'",
            _ => "",
        };
        let text = format!("name = \"x\"\nnotation = \"{notation}\"\n{line}");
        toml_edit::de::from_str(&text).unwrap()
    };
    notations.iter().map(file).collect()
});

fuzz_target!(|data: &[u8]| {
    if let Some((first, rest)) = data.split_first() {
        let file = &FILES[usize::from(*first) % FILES.len()];
        let _ = parse(file, &String::from_utf8_lossy(rest));
    }
});
