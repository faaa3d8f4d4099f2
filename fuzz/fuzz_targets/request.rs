//! Any text as a saved question; what can be read is written and read again as the same, and a small one is answered.
#![no_main]

use lantern_core::resolve::{Request, resolve};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Ok((mut request, notations)) = Request::from_json(text) {
        let written = request.to_json(&notations);
        let (again, _) = Request::from_json(&written).expect("what was written can be read");
        assert_eq!(again.to_json(&notations), written);
        request.policy.effort = request.policy.effort.min(10_000);
        if let Err(obstacle) = resolve(&request) {
            assert!(!obstacle.tell(&request).is_empty());
        }
    }
});
