//! `lantern demo`

use crate::common::shell_word;
use crate::fail;
use crate::look::{Look, Means};
use clap::Args;
use lantern_host::{Error, Result};
use std::path::{Path, PathBuf};
use std::process::Command;

/// Tell the whole story on made-up servers, with stand-ins for the outside world
#[derive(Debug, Args)]
pub struct DemoArgs {
    /// The folder in which the demo takes place; it is left for you to go on in
    #[arg(long, default_value = "lantern-demo")]
    dir: PathBuf,
}

/// One command of the story, with what leads up to it and the exit status that it is to have.
struct Scene(&'static str, &'static [&'static str], u8);

const STORY: &[Scene] = &[
    Scene(
        "A server folder, as somebody left it. Lantern takes it into care.",
        &["adopt", "halcyon-terrace"],
        0,
    ),
    Scene(
        "The greenhouse opens.",
        &["console", "start", "--server", "halcyon-terrace"],
        0,
    ),
    Scene(
        "What is installed?",
        &["survey", "--server", "halcyon-terrace"],
        0,
    ),
    Scene(
        "Halcyon 5.4 is out. Which releases fit it, and each other?",
        &[
            "plan",
            "--to",
            "5.4",
            "--catalogue",
            "depot/verdance.catalogue.json",
            "--server",
            "halcyon-terrace",
        ],
        0,
    ),
    Scene(
        "First on a copy, while people play on.",
        &["rehearse", "--server", "halcyon-terrace"],
        0,
    ),
    Scene(
        "The changeover, with the server running and players told.",
        &["changeover", "--yes", "--server", "halcyon-terrace"],
        0,
    ),
    Scene(
        "Is all as it should be?",
        &["verify", "--server", "halcyon-terrace"],
        0,
    ),
    Scene(
        "Somebody has found a newer sun-clock, and put it into the drop folder.",
        &[
            "plan",
            "--to",
            "same",
            "--from",
            "drop",
            "--server",
            "halcyon-terrace",
        ],
        0,
    ),
    Scene(
        "The server does not start with it. The old state comes back by itself.",
        &["changeover", "--yes", "--server", "halcyon-terrace"],
        4,
    ),
    Scene(
        "What must the players have?",
        &["client", "list", "--server", "halcyon-terrace"],
        0,
    ),
    Scene(
        "And as an archive to hand out.",
        &[
            "client",
            "pack",
            "--out",
            "client-5.4.zip",
            "--server",
            "halcyon-terrace",
        ],
        0,
    ),
    Scene(
        "The players want the old version back. But the world was written since.",
        &["undo", "--server", "halcyon-terrace"],
        3,
    ),
    Scene(
        "With the world as it was, then. What was done since is set aside.",
        &["undo", "--with-world", "--server", "halcyon-terrace"],
        0,
    ),
    Scene(
        "All is as it was.",
        &["survey", "--server", "halcyon-terrace"],
        0,
    ),
    Scene(
        "What was done here, and what was set aside?",
        &["history", "--server", "halcyon-terrace"],
        0,
    ),
    Scene(
        "A server with a pack, and one add-on of its owner beside it.",
        &["adopt", "halcyon-orchard"],
        0,
    ),
    Scene(
        "The pack's next release wants a newer server and framework. All move together.",
        &[
            "plan",
            "--to",
            "5.4",
            "--from",
            "orchard-drop",
            "--variant",
            "orchard=wild",
            "--catalogue",
            "depot/verdance.catalogue.json",
            "--server",
            "halcyon-orchard",
        ],
        0,
    ),
    Scene(
        "The start script follows, too.",
        &["changeover", "--yes", "--server", "halcyon-orchard"],
        0,
    ),
    Scene(
        "The orchard closes for the night.",
        &["console", "stop", "--server", "halcyon-orchard"],
        0,
    ),
    Scene(
        "Servers of other kinds. Script resources in category folders, with start lines:",
        &["adopt", "tramway-loop"],
        0,
    ),
    Scene(
        "It was neglected a little.",
        &["survey", "--server", "tramway-loop"],
        3,
    ),
    Scene(
        "The ticket booth needs what nobody has. It goes, and the line of the tram that is not there stays yours.",
        &[
            "plan",
            "--to",
            "same",
            "--drop",
            "ticket-booth",
            "--server",
            "tramway-loop",
        ],
        0,
    ),
    Scene(
        "The trams are down: they are started to see that they run, and stopped again.",
        &["changeover", "--yes", "--server", "tramway-loop"],
        0,
    ),
    Scene(
        "What happens at a start, before it is run?",
        &["launch", "show", "--server", "tramway-loop"],
        0,
    ),
    Scene(
        "Add-ons that are single files with header lines:",
        &["adopt", "arbour-deck"],
        0,
    ),
    Scene(
        "What is known of one of them?",
        &["survey", "almanac", "--server", "arbour-deck"],
        0,
    ),
    Scene(
        "Mods by number, all in one value of a settings file:",
        &["adopt", "triad-north"],
        0,
    ),
    Scene(
        "Numbers without files, and files without a number.",
        &["survey", "--server", "triad-north"],
        3,
    ),
    Scene(
        "Why does each stand where it does?",
        &["order", "--server", "triad-north"],
        3,
    ),
    Scene(
        "The least change that puts it right:",
        &["order", "put", "--server", "triad-north"],
        0,
    ),
    Scene(
        "The suns rise in their order.",
        &["changeover", "--yes", "--server", "triad-north"],
        0,
    ),
    Scene(
        "Two suns on one install. Their start scripts tell them apart.",
        &["adopt", "triad-suns"],
        0,
    ),
    Scene(
        "Both rise.",
        &["console", "start", "--server", "triad-suns"],
        0,
    ),
    Scene(
        "A mod for one of them: the other does not notice.",
        &[
            "plan",
            "--to",
            "same",
            "--of",
            "south",
            "--on",
            "4117",
            "--server",
            "triad-suns",
        ],
        0,
    ),
    Scene(
        "A later program for both: each is stopped, and started, and looked at.",
        &[
            "plan",
            "--to",
            "7.2.0",
            "--from",
            "suns-drop",
            "--server",
            "triad-suns",
        ],
        0,
    ),
    Scene(
        "One changeover, and one way back.",
        &["changeover", "--yes", "--server", "triad-suns"],
        0,
    ),
    Scene("How are they?", &["status", "--server", "triad-suns"], 0),
    Scene(
        "The suns set.",
        &["console", "stop", "--server", "triad-suns"],
        0,
    ),
    Scene(
        "Lantern knows a kind of server by its family file. What does this one make of a folder?",
        &["family", "check", "arbour", "--on", "arbour-deck"],
        0,
    ),
    Scene(
        "The greenhouse closes for the night.",
        &["console", "stop", "--server", "halcyon-terrace"],
        0,
    ),
];

/// Makes the demo's folder and runs the story in it.
pub fn run(args: &DemoArgs, look: &Look) -> Result<u8> {
    let io = |doing: &'static str, path: &Path| {
        let path = path.to_owned();
        move |source| Error::Io {
            doing,
            path,
            source,
        }
    };
    let own = std::env::current_exe().map_err(io("finding", Path::new("lantern")))?;
    let standin = own.with_file_name("lantern-standin");
    let made = Command::new(&standin).arg("make").arg(&args.dir).status();
    let made = made.map_err(io("running the stand-in (cargo build makes it)", &standin))?;
    if !made.success() {
        look.talk("  Name another folder: lantern demo --dir DIR");
        return Ok(fail::ERROR);
    }
    for Scene(words, command, expected) in STORY {
        let shown: Vec<String> = command
            .iter()
            .map(|word| shell_word(Path::new(word)))
            .collect();
        look.say(&look.paint(Means::Aside, &format!("\n# {words}")));
        look.say(&look.paint(Means::Paste, &format!("$ lantern {}", shown.join(" "))));
        let status = Command::new(&own)
            .args(*command)
            .args([
                "--color",
                if look.paint(Means::Good, "x") == "x" {
                    "never"
                } else {
                    "always"
                },
            ])
            .current_dir(&args.dir)
            .status()
            .map_err(io("running", &own))?;
        let status = status
            .code()
            .and_then(|code| u8::try_from(code).ok())
            .unwrap_or(fail::ERROR);
        if *command == ["adopt", "halcyon-terrace"] {
            shorten_warning(&args.dir)?;
        }
        if status != *expected {
            look.talk(&format!(
                "the demo expected exit status {expected} here, not {status}"
            ));
            return Ok(fail::ERROR);
        }
        if *expected != fail::DONE {
            look.say(&look.paint(Means::Aside, &format!("# exit status {status}")));
        }
    }
    look.say(&format!(
        "\nYou can go on in the demo's folder: {}",
        shell_word(&args.dir)
    ));
    look.next(&format!(
        "cd {} && lantern survey --server halcyon-terrace",
        shell_word(&args.dir)
    ));
    Ok(fail::DONE)
}

/// Nobody plays on the demo's server, so nobody has to be warned for long.
fn shorten_warning(dir: &Path) -> Result<()> {
    let path = dir.join("halcyon-terrace/lantern.toml");
    let io = |doing: &'static str| {
        let path = path.clone();
        move |source| Error::Io {
            doing,
            path,
            source,
        }
    };
    let text = std::fs::read_to_string(&path).map_err(io("reading"))?;
    let text = text.replace("at = [\"10s\"]", "at = [\"1s\"]");
    std::fs::write(&path, text).map_err(io("writing"))
}
