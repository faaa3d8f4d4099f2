//! Prints a catalogue of a size, in megabytes, for measuring: 15 releases of each of many components.
//!
//! The components are made up, and need each other; each release says as much of itself as real ones do.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros)] // A program of its own.

use std::env::args;
use std::fmt::Write as _;

fn main() {
    let megabytes = args().nth(1).and_then(|it| it.parse().ok()).unwrap_or(100);
    let size = megabytes * 1_000_000;
    let mut text = "{\n  \"format\": 1,\n  \"name\": \"large\",\n  \"releases\": [\n".to_owned();
    let mut number = 0;
    while text.len() < size {
        for release in 0..15 {
            let (id, need) = (format!("plot-{number}"), format!("plot-{}", number / 2));
            let hash = blake3::hash(format!("{id} {release}").as_bytes());
            let _ = write!(
                text,
                r#"    {{
      "id": "{id}",
      "kind": "addon",
      "version": "1.{release}.0",
      "title": "Plot {number}",
      "server": ">=5.{release} <6",
      "needs": {{
        "{need}": ">=1.{release}"
      }},
      "side": "both",
      "archive": {{
        "file": "releases/{id}-1.{release}.0.bloom",
        "blake3": "{hash}",
        "bytes": {}
      }}
    }},
"#,
                1000 + number
            );
        }
        number += 1;
    }
    text.truncate(text.len() - 2);
    println!("{text}\n  ]\n}}");
}
