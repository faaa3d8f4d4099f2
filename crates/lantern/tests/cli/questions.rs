//! Which releases fit together: outlook, why, what the administrator says, and saved requests.

use crate::world::{PLAN, World};
use insta::assert_snapshot;

const CATALOGUE: &[&str] = &[
    "--catalogue",
    "depot/verdance.catalogue.json",
    "--server",
    "halcyon-terrace",
];

fn outlook(more: &[&str]) -> Vec<String> {
    let words = [&["outlook"], more, CATALOGUE].concat();
    words.into_iter().map(str::to_owned).collect()
}

fn run(world: &World, words: &[String]) -> String {
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    world.lantern(&words)
}

#[test]
fn who_is_ready_for_what() {
    let world = World::adopted();
    assert_snapshot!("outlook", run(&world, &outlook(&[])));
    assert_snapshot!("outlook_one", run(&world, &outlook(&["--to", "5.5"])));
    assert_snapshot!(
        "outlook_json",
        run(&world, &outlook(&["--to", "5.5", "--json"]))
    );
    assert_snapshot!(
        "watch_ready",
        run(&world, &outlook(&["--watch-for", "5.4"]))
    );
    assert_snapshot!(
        "watch_not_ready",
        run(&world, &outlook(&["--watch-for", "5.5"]))
    );
    assert_snapshot!(
        "outlook_bad_version",
        run(&world, &outlook(&["--to", "next week"]))
    );
}

#[test]
fn worlds_are_brought_forward_in_stops() {
    let world = World::running();
    let before = world.tree("halcyon-terrace");
    let words = [&["plan", "--to", "5.5", "--allow-early"], CATALOGUE].concat();
    assert_snapshot!("plan_in_stops", world.lantern(&words));
    let second = "halcyon-terrace/.lantern/next-2.plan.json";
    let changeover = |plan: &[&str]| {
        world.lantern(
            &[
                &["changeover", "--yes", "--server", "halcyon-terrace"],
                plan,
            ]
            .concat(),
        )
    };
    assert_snapshot!("second_stop_first", changeover(&[second]));
    assert!(changeover(&[]).contains("exit status 0"));
    assert_snapshot!("second_stop", changeover(&[second]));
    assert!(
        world
            .ok(&["survey", "--server", "halcyon-terrace"])
            .contains("halcyon 5.5.0")
    );
    for version in ["5.4.0", "5.1.0"] {
        world.ok(&["undo", "--keep-world", "--server", "halcyon-terrace"]);
        assert!(
            world
                .ok(&["survey", "--server", "halcyon-terrace"])
                .contains(version)
        );
    }
    let programs = |tree: &str| {
        tree.lines()
            .filter(|line| !line.starts_with("worlds/"))
            .collect::<Vec<_>>()
            .join("\n")
    };
    assert_eq!(programs(&before), programs(&world.tree("halcyon-terrace")));
}

#[test]
fn a_way_that_does_not_exist() {
    let world = World::adopted();
    world.edit("depot/verdance.catalogue.json", "\">=5.2\"", "\">=5.5\"");
    let words = [&["plan", "--to", "5.5", "--allow-early"], CATALOGUE].concat();
    assert_snapshot!("no_way", world.lantern(&words));
}

#[test]
fn why_and_why_not() {
    let world = World::adopted();
    let why = |words: &[&str]| {
        world.lantern(&[&["why"], words, &["--server", "halcyon-terrace"]].concat())
    };
    assert_snapshot!("why_before_planning", why(&["drip-lines"]));
    world.ok(PLAN);
    assert_snapshot!("why", why(&["mist-pipes"]));
    assert_snapshot!("why_newer", why(&["bee-traffic"]));
    assert_snapshot!("why_not_old", why(&["mist-pipes", "--not", "1.4.2"]));
    assert_snapshot!("why_not_chosen", why(&["gnomon", "--not", "1.0.3"]));
    assert_snapshot!("why_not_unknown", why(&["gnomon", "--not", "7.0"]));
    assert_snapshot!("why_nobody", why(&["fern"]));
    assert_snapshot!("why_json", why(&["mist-pipes", "--not", "1.4.2", "--json"]));
}

#[test]
fn what_the_administrator_says() {
    let world = World::adopted();
    let plan = |words: &[&str]| world.lantern(&[&["plan"], words, CATALOGUE].concat());
    assert_snapshot!("plan_best", plan(&["--to", "best"]));
    assert_snapshot!("plan_range", plan(&["--to", "<5.4"]));
    assert_snapshot!(
        "plan_drop",
        plan(&["--to", "5.4", "--drop", "market-stall"])
    );
    assert_snapshot!(
        "plan_drop_needed",
        plan(&["--to", "same", "--drop", "glasswork"])
    );
    assert_snapshot!("plan_keep", plan(&["--to", "5.4", "--keep", "seed-vault"]));
    assert_snapshot!("plan_add", plan(&["--to", "same", "--add", "gnomon"]));
    assert_snapshot!("plan_add_nobody", plan(&["--to", "same", "--add", "fern"]));
    let slips = [
        "--drop",
        "--keep",
        "--only",
        "--add",
        "--variant",
        "--world-loses",
    ];
    let slips = slips.map(|option| match option {
        "--variant" => plan(&["--to", "same", option, "sunclock=wild"]),
        _ => plan(&["--to", "same", option, "sunclock"]),
    });
    assert_snapshot!("plan_slips", slips.join("\n"));
    let more = [
        world.lantern(&[&["outlook", "--watch-for", "sun-clock"], CATALOGUE].concat()),
        world.lantern(&["why", "sunclock", "--server", "halcyon-terrace"]),
        world.lantern(&["survey", "sunclock", "--server", "halcyon-terrace"]),
    ];
    assert_snapshot!("other_slips", more.join("\n"));
    assert_snapshot!("plan_newest", plan(&["--to", "same", "--prefer", "newest"]));
    assert_snapshot!(
        "plan_only",
        plan(&["--to", "same", "--prefer", "newest", "--only", "gnomon"])
    );
}

#[test]
fn what_goes_is_set_aside_and_comes_back() {
    let world = World::running();
    let words = [
        &["plan", "--to", "5.4", "--drop", "market-stall"],
        CATALOGUE,
    ]
    .concat();
    world.ok(&words);
    world.ok(&["changeover", "--yes", "--server", "halcyon-terrace"]);
    let settings = "halcyon-terrace/greenhouse.conf";
    assert!(!world.read(settings).contains("market-stall"));
    assert!(
        !world
            .path("halcyon-terrace/addons/market-stall-1.2.0.bloom")
            .exists()
    );
    world.ok(&["undo", "--keep-world", "--server", "halcyon-terrace"]);
    assert!(world.read(settings).contains("start market-stall"));
    assert!(
        world
            .path("halcyon-terrace/addons/market-stall-1.2.0.bloom")
            .exists()
    );
}

#[test]
fn a_saved_request_is_answered_without_its_server() {
    let world = World::adopted();
    world.ok(&[PLAN, &["--save-request", "5.4.request.json"]].concat());
    let stuck = [
        &["plan", "--to", "5.5", "--save-request", "5.5.request.json"],
        CATALOGUE,
    ]
    .concat();
    assert!(world.lantern(&stuck).contains("exit status 3"));
    std::fs::remove_dir_all(world.path("halcyon-terrace")).unwrap();
    std::fs::remove_dir_all(world.path("depot")).unwrap();
    let answer = |words: &[&str]| {
        let told = world.lantern(&[&["plan", "--request"], words].concat());
        let ms = regex::Regex::new(r#""(reading|solving|telling)": [\d.]+"#).unwrap();
        ms.replace_all(&told, r#""$1": MS"#).into_owned()
    };
    assert_snapshot!("request", answer(&["5.4.request.json"]));
    assert_snapshot!("request_stuck", answer(&["5.5.request.json"]));
    let proof = |question| {
        let told = answer(&[question, "--proof", "proof.jsonl"]);
        let said = told.lines().rfind(|line| line.contains("proof.jsonl"));
        said.unwrap_or(&told).trim().to_owned()
    };
    assert_snapshot!("request_without_proof", proof("5.4.request.json"));
    assert!(!world.path("proof.jsonl").exists());
    assert_snapshot!(
        "request_proof_over_it",
        answer(&["5.5.request.json", "--proof", "./5.5.request.json"])
    );
    assert_snapshot!("request_proof", proof("5.5.request.json"));
    assert!(world.path("proof.jsonl").exists());
    assert_snapshot!(
        "request_stuck_json",
        answer(&["5.5.request.json", "--json"])
    );
    let shape = answer(&["5.4.request.json", "--json"]);
    assert!(
        shape.contains("\"fits\": true") && shape.contains("\"proved\": true"),
        "{shape}"
    );
    world.write("cut.request.json", &world.read("5.4.request.json")[..500]);
    assert_snapshot!("request_cut", answer(&["cut.request.json"]));
    world.write(
        "odd.request.json",
        world
            .read("5.4.request.json")
            .replacen("\"^2\"", "\"=>2\"", 1),
    );
    assert_snapshot!("request_odd", answer(&["odd.request.json"]));
    assert_snapshot!(
        "request_and_to",
        answer(&["5.4.request.json", "--to", "5.4"])
    );
}
