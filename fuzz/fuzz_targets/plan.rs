//! Any text as a plan; what can be read is written and read again as the same.
#![no_main]

use lantern_core::plan::Plan;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Ok(plan) = Plan::parse(text) {
        let written = plan.to_json();
        let again = Plan::parse(&written).expect("a plan that was written can be read");
        assert_eq!(again.to_json(), written);
        let _ = (plan.is_empty(), plan.staged_bytes());
    }
});
