//! `lantern demo`

use crate::common::shell_word;
use crate::fail;
use crate::look::{Look, Means};
use clap::Args;
use lantern_host::archive::Archive;
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

/// One step of the story, with what leads up to it.
enum Scene {
    /// A command, and the exit status that it is to have.
    Run(&'static str, &'static [&'static str], u8),
    /// What somebody changes by hand: in which files what becomes what.
    Hand(
        &'static str,
        &'static [(&'static str, &'static str, &'static str)],
    ),
    /// What a player does who was told: files that he deletes, and a pack that he unpacks over his folder.
    Mend(
        &'static str,
        &'static [&'static str],
        &'static str,
        &'static str,
    ),
}

use Scene::{Hand, Mend, Run};

const STORY: &[Scene] = &[
    Run(
        "A server folder, as somebody left it. Lantern takes it into care.",
        &["adopt", "halcyon-terrace"],
        0,
    ),
    Run(
        "The greenhouse opens.",
        &["console", "start", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
        "What is installed?",
        &["survey", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
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
    Run(
        "First on a copy, while people play on.",
        &["rehearse", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
        "The changeover, with the server running and players told.",
        &["changeover", "--yes", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
        "Is all as it should be?",
        &["verify", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
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
    Run(
        "The server does not start with it. The old state comes back by itself.",
        &["changeover", "--yes", "--server", "halcyon-terrace"],
        4,
    ),
    Run(
        "Is it really the sun-clock? Parts of the plan are started on copies.",
        &["culprit", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
        "From now on no plan brings that release, though it still lies in the drop folder.",
        &["plan", "--again", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
        "What must the players have?",
        &["client", "list", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
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
    Run(
        "The players want the old version back. But the world was written since.",
        &["undo", "--server", "halcyon-terrace"],
        3,
    ),
    Run(
        "With the world as it was, then. What was done since is set aside.",
        &["undo", "--with-world", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
        "All is as it was.",
        &["survey", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
        "What was done here, and what was set aside?",
        &["history", "--server", "halcyon-terrace"],
        0,
    ),
    Run(
        "A server with a pack, and one add-on of its owner beside it.",
        &["adopt", "halcyon-orchard"],
        0,
    ),
    Run(
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
    Run(
        "The start script follows, too.",
        &["changeover", "--yes", "--server", "halcyon-orchard"],
        0,
    ),
    Run(
        "The orchard closes for the night.",
        &["console", "stop", "--server", "halcyon-orchard"],
        0,
    ),
    Run(
        "Servers of other kinds. Script resources in category folders, with start lines:",
        &["adopt", "tramway-loop"],
        0,
    ),
    Run(
        "It was neglected a little.",
        &["survey", "--server", "tramway-loop"],
        3,
    ),
    Run(
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
    Run(
        "The trams are down: they are started to see that they run, and stopped again.",
        &["changeover", "--yes", "--server", "tramway-loop"],
        0,
    ),
    Run(
        "What happens at a start, before it is run?",
        &["launch", "show", "--server", "tramway-loop"],
        0,
    ),
    Run(
        "Add-ons that are single files with header lines:",
        &["adopt", "arbour-deck"],
        0,
    ),
    Run(
        "What is known of one of them?",
        &["survey", "almanac", "--server", "arbour-deck"],
        0,
    ),
    Run(
        "Mods by number, all in one value of a settings file:",
        &["adopt", "triad-north"],
        0,
    ),
    Run(
        "Numbers without files, and files without a number.",
        &["survey", "--server", "triad-north"],
        3,
    ),
    Run(
        "Why does each stand where it does?",
        &["order", "--server", "triad-north"],
        3,
    ),
    Run(
        "The least change that puts it right:",
        &["order", "put", "--server", "triad-north"],
        0,
    ),
    Run(
        "The suns rise in their order.",
        &["changeover", "--yes", "--server", "triad-north"],
        0,
    ),
    Run(
        "Two suns on one install. Their start scripts tell them apart.",
        &["adopt", "triad-suns"],
        0,
    ),
    Run(
        "Both rise.",
        &["console", "start", "--server", "triad-suns"],
        0,
    ),
    Run(
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
    Run(
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
    Run(
        "One changeover, and one way back.",
        &["changeover", "--yes", "--server", "triad-suns"],
        0,
    ),
    Run("How are they?", &["status", "--server", "triad-suns"], 0),
    Run(
        "The suns set.",
        &["console", "stop", "--server", "triad-suns"],
        0,
    ),
    Run(
        "A tramway whose keeper sets it up by hand.",
        &["adopt", "tramway-meadow"],
        0,
    ),
    Hand(
        "He lets trams run more often and wait longer, adds a stop, a script of his own, and shows more on the boards.",
        &[
            (
                "tramway-meadow/stock/timetable/timetable.toml",
                "every_min = 20",
                "every_min = 12   # since the fair",
            ),
            (
                "tramway-meadow/stock/timetable/timetable.toml",
                "wait_s = 30",
                "wait_s = 45",
            ),
            (
                "tramway-meadow/stock/timetable/timetable.toml",
                "[\"gate\", \"pond\"]",
                "[\"gate\", \"pond\", \"market\"]",
            ),
            (
                "tramway-meadow/stock/timetable/board.script",
                "  show 3\n  scroll 'slow'\n",
                "  show 5\n  scroll 'brisk'\n",
            ),
            (
                "tramway-meadow/stock/timetable/wagon.man",
                "scripts {\n",
                "scripts {\n  'bell.script',\n",
            ),
        ],
    ),
    Run(
        "The boards he wants to have so for good: the edit gets a name.",
        &[
            "settings",
            "keep",
            "stock/timetable/board.script",
            "--as",
            "full-boards",
            "--server",
            "tramway-meadow",
        ],
        0,
    ),
    Run(
        "Its maker has set it up anew, too. And fares for day and night are one wagon now.",
        &[
            "plan",
            "--to",
            "same",
            "--from",
            "meadow-drop",
            "--prefer",
            "newest",
            "--server",
            "tramway-meadow",
        ],
        0,
    ),
    Run(
        "Value by value: his, as it was shipped, as it will be.",
        &[
            "settings",
            "compare",
            "stock/timetable/timetable.toml",
            "--server",
            "tramway-meadow",
        ],
        3,
    ),
    Run(
        "One value both have changed. He meets the maker half-way.",
        &[
            "settings",
            "decide",
            "6cb009b4",
            "14",
            "--server",
            "tramway-meadow",
        ],
        0,
    ),
    Run(
        "The changeover: his edits are in it.",
        &["changeover", "--yes", "--server", "tramway-meadow"],
        0,
    ),
    Run(
        "A greenhouse that lets players in who come with something smaller than the game: a bridge does it.",
        &["adopt", "halcyon-lookout"],
        0,
    ),
    Run(
        "Who may join?",
        &["client", "who", "--server", "halcyon-lookout"],
        0,
    ),
    Run(
        "It goes to 5.4, and those with Visor 3.6 wait to be let in.",
        &[
            "plan",
            "--to",
            "5.4",
            "--catalogue",
            "depot/lookout.catalogue.json",
            "--admit",
            "visor=3.6",
            "--server",
            "halcyon-lookout",
        ],
        0,
    ),
    Run(
        "What the players are told.",
        &[
            "notice",
            "--when",
            "tonight at ten",
            "--server",
            "halcyon-lookout",
        ],
        0,
    ),
    Run(
        "The changeover; there was nobody up there.",
        &[
            "changeover",
            "--yes",
            "--start",
            "--server",
            "halcyon-lookout",
        ],
        0,
    ),
    Run(
        "Ilva cannot come in. What is wrong with her folder?",
        &["client", "check", "ilva", "--server", "halcyon-lookout"],
        3,
    ),
    Run(
        "A pack for her.",
        &[
            "client",
            "pack",
            "--out",
            "client.zip",
            "--server",
            "halcyon-lookout",
        ],
        0,
    ),
    Mend(
        "She deletes what she was told to, and unpacks it over her folder.",
        &[
            "ilva/addons/bee-traffic-0.8.4.bloom",
            "ilva/addons/drip-lines-2.3.0.bloom",
            "ilva/addons/sun-clock-1.9.1.bloom",
        ],
        "client.zip",
        "ilva",
    ),
    Run(
        "With the pack alone, without the server:",
        &["client", "check", "ilva", "--list", "client.zip"],
        0,
    ),
    Run(
        "All of it for the others who run it, as a page.",
        &[
            "report",
            "1",
            "--out",
            "report.html",
            "--server",
            "halcyon-lookout",
        ],
        0,
    ),
    Run(
        "The lookout closes.",
        &["console", "stop", "--server", "halcyon-lookout"],
        0,
    ),
    Run(
        "An orchard at a rented host, to which only a file transfer account leads. It is looked after from here.",
        &[
            "adopt",
            "sftp://ida@rented.example/halcyon-orchard",
            "--name",
            "rented",
            "--through",
            "{standin} sftp --writes {dir}/rented-host",
        ],
        0,
    ),
    Run(
        "What is there? Little of it has to be fetched.",
        &["survey", "--server", "rented"],
        0,
    ),
    Run(
        "To 5.4, as at home.",
        &[
            "plan",
            "--to",
            "5.4",
            "--from",
            "orchard-drop",
            "--catalogue",
            "depot/verdance.catalogue.json",
            "--variant",
            "orchard=calm",
            "--server",
            "rented",
        ],
        0,
    ),
    Run(
        "There the server is stopped with a button, and files are brought by hand: what comes, and what is there now, packed.",
        &[
            "bundle", "--out", "up.zip", "--old", "old.zip", "--server", "rented",
        ],
        0,
    ),
    Mend(
        "She does what it says.",
        &[
            "rented-host/halcyon-orchard/addons/bee-traffic-0.8.4.bloom",
            "rented-host/halcyon-orchard/addons/drip-lines-2.3.0.bloom",
            "rented-host/halcyon-orchard/addons/mist-pipes-1.4.2.bloom",
        ],
        "up.zip",
        "rented-host/halcyon-orchard",
    ),
    Run(
        "Is all done? One file was forgotten.",
        &["bundle", "--check", "--server", "rented"],
        3,
    ),
    Mend(
        "That, too.",
        &["rented-host/halcyon-orchard/config/orchard/for-5.1.toml"],
        "up.zip",
        "rented-host/halcyon-orchard",
    ),
    Run(
        "Now it is.",
        &["bundle", "--check", "--server", "rented"],
        0,
    ),
    Hand(
        "The host's buttons can be pressed by a command line, and what the server prints can be read: she states both.",
        &[(
            "kept-here/lantern/servers/rented/lantern.toml",
            "[warn]\nat = [\"10s\"]",
            "[console]\nlog = \"log/latest.log\"\nrun = { start = [\"{standin}\", \"page\", \"start\", \
             \"{dir}/rented-host/halcyon-orchard\"], stop = [\"{standin}\", \"page\", \"stop\", \
             \"{dir}/rented-host/halcyon-orchard\"], state = [\"{standin}\", \"page\", \"state\", \
             \"{dir}/rented-host/halcyon-orchard\"] }\n\n[warn]\nat = []",
        )],
    ),
    Run(
        "So lantern can do it by itself. Nobody watches by night: that add-on is switched off.",
        &[
            "plan",
            "--to",
            "same",
            "--off",
            "night-watch",
            "--server",
            "rented",
        ],
        0,
    ),
    Run(
        "First here, on a copy.",
        &["rehearse", "--server", "rented"],
        0,
    ),
    Run(
        "Then there.",
        &["changeover", "--yes", "--start", "--server", "rented"],
        0,
    ),
    Run(
        "And back, with the server up.",
        &["undo", "--keep-world", "--server", "rented"],
        0,
    ),
    Run(
        "The orchard closes.",
        &["console", "stop", "--server", "rented"],
        0,
    ),
    Run(
        "Lantern knows a kind of server by its family file. What does this one make of a folder?",
        &["family", "check", "arbour", "--on", "arbour-deck"],
        0,
    ),
    Run(
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
    for scene in STORY {
        match scene {
            Run(words, command, expected) => {
                if !play(words, command, *expected, &own, &args.dir, look)? {
                    return Ok(fail::ERROR);
                }
            }
            Hand(words, edits) => {
                look.say(&look.paint(Means::Aside, &format!("\n# {words}")));
                for (file, was, becomes) in *edits {
                    let becomes = filled(becomes, &own, &args.dir);
                    by_hand(&args.dir.join(file), was, &becomes)?;
                }
            }
            Mend(words, gone, pack, folder) => {
                look.say(&look.paint(Means::Aside, &format!("\n# {words}")));
                for file in *gone {
                    let path = args.dir.join(file);
                    std::fs::remove_file(&path).map_err(io("deleting", &path))?;
                }
                unpack(&args.dir.join(pack), &args.dir.join(folder))?;
            }
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

/// Runs a command of the story; `false` where it does not end as it is to.
fn play(
    words: &str,
    command: &[&str],
    expected: u8,
    own: &Path,
    dir: &Path,
    look: &Look,
) -> Result<bool> {
    let shown: Vec<String> = command
        .iter()
        .map(|word| word.replace("{standin}", "lantern-standin"))
        .map(|word| shell_word(Path::new(&word.replace("{dir}/", ""))))
        .collect();
    let whole = std::path::absolute(dir).unwrap_or_else(|_| dir.to_owned());
    let command = command.iter().map(|word| filled(word, own, dir));
    let command: Vec<String> = command.collect();
    look.say(&look.paint(Means::Aside, &format!("\n# {words}")));
    look.say(&look.paint(Means::Paste, &format!("$ lantern {}", shown.join(" "))));
    let colour = match look.paint(Means::Good, "x") == "x" {
        true => "never",
        false => "always",
    };
    let status = Command::new(own)
        .args(&command)
        .args(["--color", colour])
        .current_dir(dir)
        // What is kept of the server at the rented host lies with the demo, and nowhere else.
        .env("XDG_DATA_HOME", whole.join("kept-here"))
        .status()
        .map_err(|source| Error::Io {
            doing: "running",
            path: own.to_owned(),
            source,
        })?;
    let status = status
        .code()
        .and_then(|code| u8::try_from(code).ok())
        .unwrap_or(fail::ERROR);
    if command == ["adopt", "halcyon-terrace"] {
        shorten_warning(dir)?;
    }
    if status != expected {
        look.talk(&format!(
            "the demo expected exit status {expected} here, not {status}"
        ));
        return Ok(false);
    }
    if expected != fail::DONE {
        look.say(&look.paint(Means::Aside, &format!("# exit status {status}")));
    }
    Ok(true)
}

/// A word of the story, with where the stand-in is and where the demo takes place.
fn filled(word: &str, own: &Path, dir: &Path) -> String {
    let whole = std::path::absolute(dir).unwrap_or_else(|_| dir.to_owned());
    let standin = own.with_file_name("lantern-standin");
    let word = word.replace("{standin}", &standin.to_string_lossy());
    word.replace("{dir}", &whole.to_string_lossy())
}

/// Nobody plays on the demo's server, so nobody has to be warned for long.
fn shorten_warning(dir: &Path) -> Result<()> {
    let settings = dir.join("halcyon-terrace/lantern.toml");
    by_hand(&settings, "at = [\"10s\"]", "at = [\"1s\"]")
}

/// Unpacks an archive over a folder, as a player does.
fn unpack(archive: &Path, folder: &Path) -> Result<()> {
    let mut opened = Archive::open(archive)?;
    let names = opened.names().into_iter().map(str::to_owned);
    for name in names.collect::<Vec<String>>() {
        let path = folder.join(&name);
        let io = |source| Error::Io {
            doing: "unpacking",
            path: path.clone(),
            source,
        };
        let mut file = std::fs::File::create(&path).map_err(io)?;
        let copied = opened.copy(&name, &mut file);
        copied.map_err(|fault| Error::Archive {
            path: archive.into(),
            fault,
        })?;
    }
    Ok(())
}

/// Changes a file as somebody with an editor does.
fn by_hand(path: &Path, was: &str, becomes: &str) -> Result<()> {
    let io = |doing: &'static str| {
        move |source| Error::Io {
            doing,
            path: path.to_owned(),
            source,
        }
    };
    let text = std::fs::read_to_string(path).map_err(io("reading"))?;
    std::fs::write(path, text.replace(was, becomes)).map_err(io("writing"))
}
