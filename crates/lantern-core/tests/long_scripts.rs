//! Start scripts as administrators write them, from files beside this one.

#![allow(clippy::disallowed_methods)] // The test reads scripts; the core does not.

use lantern_core::family::Launch;
use lantern_core::launch::{Dialect, Does, Flow, mended};
use lantern_core::path::RelPath;
use std::collections::BTreeMap;
use std::path::Path;

fn script(name: &str) -> String {
    let scripts = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/scripts");
    std::fs::read_to_string(scripts.join(name)).unwrap()
}

/// Long scripts as administrators write them: nothing in them is taken for what it is not, and what starts the server is found.
#[test]
fn scripts_of_many_hands_are_followed() {
    let scripts = [
        ("start.sh", script("terrace.sh")),
        ("start.bat", script("terrace.bat").replace('\n', "\r\n")),
    ];
    let mut all = String::new();
    for (name, text) in &scripts {
        let texts = BTreeMap::from([(RelPath::parse(name).unwrap(), text.as_str())]);
        let rule: Launch = toml_edit::de::from_str(&format!(
            "command = ['sh', '{name}']\nstarts = 'server.halcyon'\nupdates = ['fetch-build.*--']"
        ))
        .unwrap();
        let flow = Flow::of(&rule, &[], &texts);
        assert_eq!(flow.cuts, [], "{name}");
        assert_eq!(
            mended(Dialect::of(&RelPath::parse(name).unwrap()), text),
            None
        );
        all.push_str(&format!("## {name}\n"));
        for step in flow.steps.iter().filter(|step| step.does != Does::Other) {
            let at = step
                .at()
                .map_or("-".into(), |(_, at)| format!("{}:{}", at.line, at.column));
            all.push_str(&format!("{at} {:?} {}\n", step.does, step.command.text()));
        }
    }
    insta::assert_snapshot!(all, @r#"
    ## start.sh
    - Calls(RelPath("start.sh")) sh start.sh
    52:3 Updates fetch-build --to $HERE --quiet
    61:3 Starts nice -n 5 sh server/halcyon --lattice 1.8.0 --seed 7081 $@
    ## start.bat
    - Calls(RelPath("start.bat")) sh start.bat
    14:1 Updates call fetch-build.bat --quiet
    15:1 Starts start Halcyon /wait /high server\halcyon.exe -port 4710 -name Halcyon Terrace -seats 24 -memory !MEMORY! %*
    "#);
}
