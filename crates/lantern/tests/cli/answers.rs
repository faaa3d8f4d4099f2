//! What every command answers with `--json`, held against the published schemas.

use crate::world::{PLAN, World, ports, standin};
use serde_json::Value;
use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

/// The published schemas, and which of them an answer was held against.
struct Schemas {
    all: Value,
    met: BTreeSet<&'static str>,
}

impl Schemas {
    fn published() -> Schemas {
        let file =
            Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats/answers.schema.json");
        let mut all: Value = serde_json::from_slice(&std::fs::read(file).unwrap()).unwrap();
        for schema in all.as_object_mut().unwrap().values_mut() {
            let with_format = serde_json::json!({"const": 1});
            schema["properties"]["format"] = with_format;
            close(schema);
            for definition in schema
                .get_mut("$defs")
                .and_then(Value::as_object_mut)
                .into_iter()
                .flatten()
            {
                close(definition.1);
            }
        }
        Schemas {
            all,
            met: BTreeSet::new(),
        }
    }

    /// Runs a command, which has to end so, and holds what it answers against a schema.
    fn meet(&mut self, world: &World, name: &'static str, status: i32, words: &[&str]) -> Value {
        let output = world.output(&[words, &["--json"]].concat());
        let told = String::from_utf8_lossy(&output.stdout);
        let talk = String::from_utf8_lossy(&output.stderr);
        assert_eq!(
            output.status.code(),
            Some(status),
            "{words:?}: {told}{talk}"
        );
        let answer: Value = serde_json::from_str(&told)
            .unwrap_or_else(|error| panic!("{words:?} answers no JSON: {error}: {told}"));
        let validator = jsonschema::validator_for(&self.all[name]).unwrap();
        let wrong: Vec<String> = validator
            .iter_errors(&answer)
            .map(|error| format!("{}: {error}", error.instance_path()))
            .collect();
        assert!(
            wrong.is_empty(),
            "{words:?} is no {name}: {wrong:#?}\n{told}"
        );
        self.met.insert(name);
        answer
    }
}

/// Lets an object have no fields but the stated ones.
fn close(schema: &mut Value) {
    let Some(object) = schema.as_object_mut() else {
        return;
    };
    let is_stated = object.contains_key("additionalProperties");
    if object.contains_key("properties") && !is_stated {
        object.insert("unevaluatedProperties".into(), false.into());
    }
    for (key, inside) in object.iter_mut() {
        match (key.as_str(), inside) {
            ("items" | "additionalProperties", inside) => close(inside),
            ("properties", Value::Object(fields)) => fields.values_mut().for_each(close),
            // What stands beside these has fields of its own: they are closed together.
            ("oneOf" | "anyOf" | "allOf", Value::Array(cases)) => {
                cases.iter_mut().for_each(|case| {
                    let fields = case.get_mut("properties").and_then(Value::as_object_mut);
                    fields
                        .into_iter()
                        .flat_map(|it| it.values_mut())
                        .for_each(close);
                });
            }
            _ => {}
        }
    }
}

#[test]
fn every_answer_is_as_its_schema_says() {
    let world = World::demo();
    let mut schemas = Schemas::published();
    let mut meet = |name, status, words: &[&str]| schemas.meet(&world, name, status, words);
    let terrace = |words: &[&'static str]| [words, &["--server", "halcyon-terrace"]].concat();
    let catalogue = ["--catalogue", "depot/verdance.catalogue.json"];
    let from_depot = |words: &[&'static str]| [words, &catalogue[..], &terrace(&[])[..]].concat();

    // A server comes into care, and is looked at.
    meet("Failure", 1, &terrace(&["status"]));
    meet("Adopted", 0, &["adopt", "halcyon-terrace"]);
    meet(
        "SettingsSet",
        0,
        &terrace(&["settings", "set", "greenhouse.conf", "seats", "24", "--now"]),
    );
    world.edit("halcyon-terrace/lantern.toml", "at = [\"10s\"]", "at = []");
    world.write("halcyon-terrace/addons/what.txt", "whose?");
    meet("ConsoleState", 0, &terrace(&["console", "start"]));
    meet("ConsoleState", 0, &terrace(&["console", "state"]));
    meet("ConsoleAnswer", 0, &terrace(&["console", "ask", "addons"]));
    meet("Status", 0, &terrace(&["status"]));
    meet("Surveyed", 0, &terrace(&["survey"]));
    meet("SurveyedOne", 0, &terrace(&["survey", "sun-clock"]));
    meet("Files", 0, &terrace(&["survey", "--files"]));
    meet("Files", 0, &terrace(&["survey", "framework"]));
    meet("OrderShown", 0, &terrace(&["order"]));
    meet("OrderWhy", 0, &terrace(&["order", "--why", "drip-lines"]));
    meet(
        "SettingsShown",
        0,
        &terrace(&["settings", "show", "server/build.toml"]),
    );
    world.write("sample.toml", "version = 1\nseats = 24\n");
    meet(
        "SettingsCompared",
        3,
        &terrace(&["settings", "compare", "server/build.toml", "sample.toml"]),
    );
    meet("DecisionsMade", 0, &terrace(&["settings", "decided"]));
    meet("PatchesKept", 0, &terrace(&["settings", "kept"]));
    meet("LaunchShown", 0, &terrace(&["launch", "show"]));
    meet("VerifySeen", 0, &terrace(&["verify"]));
    meet(
        "BackupMade",
        0,
        &terrace(&["backup", "make", "party", "--note", "all is well"]),
    );

    // Questions, and a plan.
    meet("OutlookTable", 0, &from_depot(&["outlook"]));
    meet("Ready", 3, &from_depot(&["outlook", "--watch-for", "5.5"]));
    meet(
        "CanJoin",
        0,
        &from_depot(&["outlook", "--watch-for-client", "verdance=5.4"]),
    );
    meet("WhoMayJoin", 0, &terrace(&["client", "who"]));
    meet("Updates", 0, &from_depot(&["outlook", "--updates"]));
    meet("Failure", 3, &from_depot(&["plan", "--to", "5.5"]));
    let saved = [PLAN, &["--save-request", "asked.request.json"]].concat();
    let plan = meet("PlanDrawn", 0, &saved);
    assert_eq!(plan["plan"]["server"], "halcyon-terrace");
    meet(
        "RequestAnswered",
        0,
        &["plan", "--request", "asked.request.json"],
    );
    meet("Why", 0, &terrace(&["why", "mist-pipes"]));
    meet(
        "WhyNotThat",
        3,
        &terrace(&["why", "mist-pipes", "--not", "1.4.2"]),
    );
    meet("Differences", 3, &terrace(&["diff", "--plan"]));
    meet("Rehearsal", 0, &terrace(&["rehearse"]));
    meet("Hunt", 0, &terrace(&["culprit"]));
    let fact = r#"{"format": 1, "facts": [{"number": 7, "at_ms": 0, "server_version": "5.4.0", "components": [{"id": "moss", "version": "1.0"}]}]}"#;
    world.write("theirs.learned.json", fact);
    meet(
        "FactsTaken",
        0,
        &terrace(&["known", "take", "theirs.learned.json"]),
    );
    meet("FactsKnown", 0, &terrace(&["known"]));
    meet("FactForgotten", 0, &terrace(&["known", "forget", "1"]));

    world.copy("halcyon-terrace", "south-terrace");
    let group = "format = 1\nname = 'terraces'\n[[server]]\nat = 'halcyon-terrace'\n[[server]]\nat = 'south-terrace'\n";
    world.write("terraces.group.toml", group);
    meet("GroupSurveyed", 3, &["group", "survey"]);
    meet("GroupOutlook", 3, &["group", "outlook"]);
    meet("GroupStatus", 3, &["group", "status"]);
    let elsewhere = "format = 1\nname = 'cellar'\n[[server]]\nat = 'halcyon-terrace'\n[[server]]\nat = 'ssh://cellar/srv/x'\nshell = ['false']\n";
    world.write("cellar.group.toml", elsewhere);
    meet("GroupSent", 1, &["group", "send", "cellar.group.toml"]);
    std::fs::remove_file(world.path("cellar.group.toml")).unwrap();
    std::fs::remove_dir_all(world.path("south-terrace")).unwrap();

    meet("BundlePacked", 0, &terrace(&["bundle", "--out", "up.zip"]));
    meet("BundleLookedAt", 3, &terrace(&["bundle", "--check"]));

    meet(
        "NightWait",
        0,
        &terrace(&["changeover", "--at", "+2h", "--yes"]),
    );
    meet("NightCalledOff", 0, &terrace(&["changeover", "--call-off"]));

    // It is carried out, looked at, and taken back.
    meet("Failure", 1, &terrace(&["changeover"]));
    meet("ChangeoverDone", 0, &terrace(&["changeover", "--yes"]));
    let newer = "id = \"sun-clock\"\nversion = \"2.0.7\"\nserver = \">=5.4\"\nside = \"both\"\n";
    world.drop_addon("sun-clock-2.0.7.bloom", newer);
    let updates = meet(
        "Updates",
        3,
        &terrace(&["outlook", "--updates", "--from", "drop"]),
    );
    assert_eq!(updates["updates"][0]["to"], "2.0.7");
    meet("Clients", 0, &terrace(&["client", "list"]));
    meet(
        "ClientPacked",
        0,
        &terrace(&["client", "pack", "--out", "client.zip"]),
    );
    meet("NoticeTold", 0, &terrace(&["notice", "1"]));
    let page = ["client", "write", "--as", "page", "--out", "join.html"];
    meet("Written", 0, &terrace(&page));
    meet(
        "ClientChecked",
        0,
        &terrace(&["client", "check", "client.zip"]),
    );
    let message = "drip-lines: yours 2.3.0, theirs 2.5.0";
    meet(
        "ClientExplained",
        0,
        &terrace(&["client", "explain", message]),
    );
    meet("History", 0, &terrace(&["history"]));
    meet("OperationTold", 0, &terrace(&["history", "1"]));
    meet("Differences", 3, &terrace(&["diff", "--since", "1"]));
    meet(
        "PlanDrawn",
        0,
        &terrace(&["put-back", "server/build.toml", "--operation", "1"]),
    );
    meet("UndoDone", 0, &terrace(&["undo"]));
    meet("TakeOverDone", 3, &terrace(&["take-over"]));
    meet("ConsoleState", 0, &terrace(&["console", "stop"]));

    // Several servers on one install.
    world.ok(&["adopt", "triad-suns"]);
    let suns = |words: &[&'static str]| [words, &["--server", "triad-suns"]].concat();
    meet("LaunchServers", 0, &suns(&["launch", "servers"]));
    meet("EachConsoleState", 0, &suns(&["console", "start"]));
    meet("EachLaunchShown", 0, &suns(&["launch", "show"]));
    meet("EachOrderShown", 0, &suns(&["order"]));
    meet("EachVerifySeen", 0, &suns(&["verify"]));
    meet("Status", 0, &suns(&["status"]));
    meet(
        "ConsoleState",
        0,
        &suns(&["console", "stop", "--of", "south"]),
    );
    meet("EachConsoleState", 0, &suns(&["console", "stop"]));

    // Backups.
    meet("Backups", 0, &terrace(&["backup", "list"]));
    meet("BackupShown", 0, &terrace(&["backup", "show", "party"]));
    meet("KeyMade", 0, &terrace(&["backup", "key", "store.key"]));
    meet("BackupsChecked", 0, &terrace(&["backup", "check"]));
    meet(
        "BackupRestored",
        0,
        &terrace(&["backup", "restore", "party", "--to", "there"]),
    );
    meet(
        "RestoredInPlace",
        0,
        &terrace(&["backup", "restore", "party", "--in-place"]),
    );
    meet(
        "BackupsThinned",
        0,
        &terrace(&["backup", "thin", "--keep", "0", "--yes"]),
    );
    meet(
        "HistoryThinned",
        0,
        &terrace(&["history", "--thin", "0", "--yes"]),
    );

    // What is made of folders and files that nobody has in care.
    meet(
        "CatalogueMade",
        0,
        &["catalogue", "make", "depot/releases", "--family", "halcyon"],
    );
    meet(
        "CatalogueChecked",
        0,
        &[
            "catalogue",
            "check",
            "depot/verdance.catalogue.json",
            "--family",
            "halcyon",
        ],
    );
    meet("FamilyDraft", 0, &["family", "new", "arbour-deck"]);
    meet(
        "FamilyWritten",
        0,
        &[
            "family",
            "new",
            "arbour-deck",
            "--out",
            "arbour.family.toml",
        ],
    );
    meet(
        "FamilyChecked",
        0,
        &[
            "family",
            "check",
            "arbour.family.toml",
            "--on",
            "arbour-deck",
        ],
    );
    world.copy("halcyon-terrace", "copy");
    meet("Settled", 0, &["adopt", "copy", "--copy"]);
    let settings = world.read("halcyon-terrace/lantern.toml");
    let recipe = "[acquire]\ncommand = ['sh', '-c', 'cp -r {server}/server .']\nresults = ['server/**']\nruntime = { command = ['echo', '9'], version = '(?P<version>.*)', range = '9' }\n";
    world.write(
        "halcyon-terrace/lantern.toml",
        format!("{settings}\n{recipe}[keep_up]\nwait_days = 7\n"),
    );
    meet("KeptUp", 0, &terrace(&["keep-up", "--dry-run"]));
    meet("Acquired", 0, &terrace(&["acquire", "5.3.0"]));
    meet(
        "CatalogueSigned",
        0,
        &[
            "catalogue",
            "sign",
            "depot/verdance.catalogue.json",
            "--key",
            "depot.key",
            "--new-key",
        ],
    );
    let depot = crate::gather::Depot::of(&world, "depot");
    world.write("depot/all.json", "[{\"id\": \"fern\", \"v\": \"1.0\"}]");
    let mapping = "format = 1\nname = 'x'\nanswers = 'json'\n[ask]\nurl = 'HTTP/all.json'\n[fields]\nid = 'id'\nversion = 'v'\n[archive]\nurls = { value = 'fern.bloom' }\n";
    let all = format!("{}/all.json", depot.http);
    world.write(
        "depot/all.json",
        "[{\"id\": \"fern\", \"version\": \"1.0\"}]",
    );
    world.write("fern.catalogue.json", format!(
        "{{\"format\": 1, \"name\": \"fern\", \"releases\": [{{\"id\": \"fern\", \"kind\": \"addon\", \"version\": \"1.0\", \"archive\": {{\"urls\": [\"{}/fern.bloom\"], \"md5\": \"{}\"}}}}]}}",
        depot.http,
        "0".repeat(32)
    ));
    meet(
        "PlanWaits",
        3,
        &terrace(&[
            "plan",
            "--to",
            "same",
            "--add",
            "fern",
            "--allow-untested",
            "--what-if",
            "--catalogue",
            "fern.catalogue.json",
        ]),
    );
    meet("ListingDrafted", 0, &["catalogue", "new", &all]);
    world.write("depot/all.json", "[{\"id\": \"fern\", \"v\": \"1.0\"}]");
    world.write("x.listing.toml", mapping.replace("HTTP", &depot.http));
    meet(
        "ListingChecked",
        0,
        &[
            "catalogue",
            "check",
            "x.listing.toml",
            "--family",
            "halcyon",
        ],
    );
    meet("Gathered", 0, &terrace(&["gather"]));
    meet("StoreCleaned", 0, &terrace(&["gather", "--clean", "1GB"]));
    meet("Pages", 0, &["docs", "json"]);
    meet("Manual", 0, &["man", "manual"]);

    // One move for all servers of a group.
    world.copy("halcyon-terrace", "south-terrace");
    world.ok(&["adopt", "south-terrace", "--copy"]);
    let plan = ["group", "plan", "--to", "same"];
    meet("GroupPlanned", 0, &plan);
    meet("GroupChangeoverDone", 0, &["group", "changeover", "--yes"]);
    meet("GroupVerified", 3, &["group", "verify"]);
    meet("GroupWatched", 3, &["group", "watch"]);
    meet("GroupHistory", 0, &["group", "history"]);
    meet("GroupUndone", 3, &["group", "undo"]);
    // One that asks something.
    let made = Command::new(standin())
        .arg("make")
        .arg(world.path("fresh"))
        .env("LANTERN_STANDIN_PORTS_FROM", ports().to_string())
        .status();
    assert!(made.unwrap().success());
    let servers = ["west-terrace", "north-terrace"];
    for server in servers.map(|server| format!("fresh/{server}")) {
        world.copy("fresh/halcyon-terrace", &server);
        let lattice = format!("{server}/framework/lattice.bin");
        world.ok(&["adopt", &server]);
        world.edit(&lattice, "lattice of 1.8.0\n", "mine\n");
    }
    let servers = servers.map(|server| format!("[[server]]\nat = 'fresh/{server}'\n"));
    let file = "fresh.group.toml";
    world.write(
        file,
        format!("format = 1\nname = 'fresh'\n{}", servers.concat()),
    );
    let catalogue = "fresh/depot/verdance.catalogue.json";
    let planned = world.lantern(&[
        "group",
        "plan",
        file,
        "--to",
        "5.4",
        "--catalogue",
        catalogue,
    ]);
    let (_, id) = planned.split_once("group decide ").unwrap();
    let id = id.split(' ').next().unwrap();
    meet("GroupDecided", 0, &["group", "decide", id, "theirs", file]);

    let published: BTreeSet<&str> = schemas
        .all
        .as_object()
        .unwrap()
        .keys()
        .map(String::as_str)
        .collect();
    let unmet: Vec<_> = published.difference(&schemas.met).collect();
    assert!(unmet.is_empty(), "never answered: {unmet:?}");
}
