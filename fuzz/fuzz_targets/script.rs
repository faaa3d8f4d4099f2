//! A pin set in any start script: nothing but the word that was there gives way, and no more is run than before.
#![no_main]

use lantern_core::family::Pattern;
use lantern_core::plan::pin;
use libfuzzer_sys::fuzz_target;
use std::sync::LazyLock;

static PATTERN: LazyLock<Pattern> =
    LazyLock::new(|| serde_json::from_value(r"--lattice[ =](?P<value>\S+)".into()).unwrap());

fuzz_target!(|input: (&str, &str)| {
    let (text, value) = input;
    if !pin::is_plain(value) {
        assert!(value.is_empty() || !value.chars().all(|c| c.is_ascii_alphanumeric()));
        return;
    }
    let Ok(new) = pin::set(&PATTERN, text, value) else {
        return;
    };
    assert_eq!(text.split('\n').count(), new.split('\n').count());
    let acts = |text: &str| {
        text.chars()
            .filter(|c| !c.is_alphanumeric() && !"._+~:@-/".contains(*c))
            .collect::<String>()
    };
    for (old, new) in text.split('\n').zip(new.split('\n')) {
        assert_eq!(
            acts(old),
            acts(new),
            "what a shell reads as more than a word stays"
        );
    }
    assert_eq!(
        pin::set(&PATTERN, &new, value).as_deref(),
        Ok(new.as_str()),
        "set twice"
    );
});
