//! The examples in docs/formats are read by the programs that they are written for.

use lantern_core::catalogue::Catalogue;
use lantern_core::clients::ClientList;
use lantern_core::family::{Family, Fields};
use lantern_core::group::Group;
use lantern_core::plan::Plan;
use lantern_core::resolve::{self, Request};
use lantern_core::version::Notations;
use lantern_host::backup::{About, Page, Stored, StoredFolder};
use lantern_host::config::Config;
use std::fs;
use std::path::Path;
use toml_edit::DocumentMut;

/// The code blocks of a page in one language.
pub fn examples(page: &str, language: &str) -> Vec<String> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../../docs/formats")
        .join(page);
    let text = fs::read_to_string(path).unwrap();
    let blocks = text.split("```").skip(1).step_by(2);
    let blocks: Vec<String> = blocks
        .filter_map(|block| block.strip_prefix(language)?.strip_prefix('\n'))
        .map(str::to_owned)
        .collect();
    assert!(!blocks.is_empty(), "{page} has no example in {language}");
    blocks
}

#[test]
fn family_examples_are_read() {
    for example in examples("family.md", "toml") {
        Family::parse(&example).unwrap();
    }
}

#[test]
fn a_part_shown_of_a_family_fits_into_the_whole() {
    let page = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats/family.md");
    let page = fs::read_to_string(page).unwrap();
    let shown = page.split("\n\n").filter(|it| it.starts_with("    ["));
    let whole = &examples("family.md", "toml")[0];
    let mut count = 0;
    for part in shown {
        let mut family: DocumentMut = whole.parse().unwrap();
        let part: DocumentMut = part.replace("\n    ", "\n").trim().parse().unwrap();
        for (table, keys) in part.iter() {
            // Of the console what there is to say is shown, and all of the others.
            match keys.as_table() {
                Some(keys) if table == "console" => {
                    for (key, value) in keys {
                        family[table][key] = value.clone();
                    }
                }
                _ => {
                    family.insert(table, keys.clone());
                }
            }
        }
        Family::parse(&family.to_string()).unwrap();
        count += 1;
    }
    assert_eq!(count, 12);
}

#[test]
fn every_field_of_a_reader_is_documented() {
    let page = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats/family.md");
    let family = fs::read_to_string(page).unwrap();
    let table = family.lines().filter(|line| line.starts_with("| `"));
    let table: String = table.collect();
    for (field, _) in Fields::known() {
        assert!(table.contains(&format!("`{field}`")), "family.md: {field}");
    }
}

#[test]
fn settings_examples_are_read() {
    for example in examples("lantern-toml.md", "toml") {
        let config: Config = toml_edit::de::from_str(&example).unwrap();
        assert_eq!(config.warn.at.len(), 3);
    }
}

#[test]
fn listing_examples_are_read() {
    for example in examples("listing.md", "toml") {
        lantern_core::listing::Listing::parse(&example).unwrap();
    }
    let page = fs::read_to_string(
        std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats/listing.md"),
    )
    .unwrap();
    let head = "format = 1\nname = 'x'\nanswers = 'json'\n";
    for text in [
        "x = 1",
        "[ask]\nx = 1",
        "[ask]\nurl = 'https://a'\n[fields]\n[archive]\nx = 1",
        "skip = [{ x = 1 }]\n[ask]\nurl = 'https://a'\n[fields]",
    ] {
        let fault = lantern_core::listing::Listing::parse(&format!("{head}{text}"));
        let fault = fault.unwrap_err().to_string();
        let keys = fault.split('`').skip(3).step_by(2);
        for key in keys {
            assert!(page.contains(key), "listing.md does not tell about {key}");
        }
    }
}

#[test]
fn catalogue_examples_are_read() {
    for example in examples("catalogue.md", "json") {
        let catalogue = Catalogue::open(example).unwrap();
        let catalogue = catalogue.all(&Notations::default());
        assert!(catalogue.left_out.is_empty(), "{:?}", catalogue.left_out);
    }
}

#[test]
fn client_list_examples_are_read_and_written_again() {
    for example in examples("client-list.md", "json") {
        let list: ClientList = serde_json::from_str(&example).unwrap();
        let again = serde_json::to_value(&list).unwrap();
        let example: serde_json::Value = serde_json::from_str(&example).unwrap();
        assert_eq!(again, example);
    }
}

#[test]
fn group_examples_are_read() {
    for example in examples("group.md", "toml") {
        assert_eq!(Group::parse(&example).unwrap().servers.len(), 3);
    }
}

#[test]
fn examples_of_what_lanterns_say_to_one_another_are_read() {
    use lantern_host::session::lines::{Answered, Asked, Greeting, Hello};
    for example in examples("lines.md", "jsonl") {
        for line in example.lines() {
            let is_read = serde_json::from_str::<Hello>(line).is_ok()
                || serde_json::from_str::<Greeting>(line).is_ok()
                || serde_json::from_str::<Asked>(line).is_ok()
                || serde_json::from_str::<Answered>(line).is_ok();
            assert!(is_read, "{line}");
        }
    }
}

#[test]
fn examples_of_what_was_learned_are_taken_in() {
    let world = crate::world::World::adopted();
    for example in examples("learned.md", "json") {
        world.write("theirs.learned.json", &example);
        let words = [
            "known",
            "take",
            "theirs.learned.json",
            "--server",
            "halcyon-terrace",
        ];
        let told = world.lantern(&words);
        assert!(told.contains("1 fact taken in, 0 were known."), "{told}");
    }
}

#[test]
fn request_examples_are_read_and_answered() {
    for example in examples("request.md", "json") {
        let (request, notations) = Request::from_json(&example).unwrap();
        let selection = resolve::resolve(&request).unwrap();
        assert_eq!(selection.choices.len(), 2);
        let (again, _) = Request::from_json(&request.to_json(&notations)).unwrap();
        assert_eq!(resolve::resolve(&again).unwrap(), selection);
    }
}

#[test]
fn the_example_of_a_proof_is_what_lantern_proves() {
    let [question] = &examples("proof.md", "json")[..] else {
        panic!("one question");
    };
    let (request, _) = Request::from_json(question).unwrap();
    let resolve::Refutation::Proved(lines) = resolve::refutation(&request) else {
        panic!("it has an answer");
    };
    let lines = lines
        .iter()
        .map(|line| serde_json::to_string(line).unwrap());
    let example = examples("proof.md", "jsonl");
    assert_eq!(
        example[0].lines().map(str::to_owned).collect::<Vec<_>>(),
        lines.collect::<Vec<_>>()
    );
}

#[test]
fn plan_examples_are_read_and_written_again() {
    for example in examples("plan.md", "json") {
        let plan = Plan::parse(&example).unwrap();
        assert_eq!(Plan::parse(&plan.to_json()).unwrap(), plan);
    }
}

#[test]
fn backup_page_examples_are_read() {
    let (about, pages): (Vec<String>, Vec<String>) = examples("store.md", "json")
        .into_iter()
        .partition(|example| serde_json::from_str::<About>(example).is_ok());
    assert_eq!((about.len(), pages.len()), (1, 1));
    for example in pages {
        let page: Page = serde_json::from_str(&example).unwrap();
        assert_eq!((page.files, page.bytes), (1, 4));
        let example: serde_json::Value = serde_json::from_str(&example).unwrap();
        assert_eq!(serde_json::to_value(&page).unwrap(), example);
    }
    for example in examples("store.md", "jsonl") {
        let folder = serde_json::from_str::<StoredFolder>(&example);
        let again = match folder {
            Ok(folder) => serde_json::to_string(&folder),
            Err(_) => serde_json::to_string(&serde_json::from_str::<Stored>(&example).unwrap()),
        };
        assert_eq!(again.unwrap(), example.trim());
    }
}

#[test]
fn every_finding_is_on_its_page() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let source = root.join("crates/lantern-core/src/inventory/findings.rs");
    let source = fs::read_to_string(source).unwrap();
    let source = source.split("#[cfg(test)]").next().unwrap();
    let page = fs::read_to_string(root.join("docs/findings.md")).unwrap();
    let codes = regex::Regex::new("Severity::\\w+,\\s+(?:code: )?\"([a-z-]+)\"").unwrap();
    let codes: Vec<&str> = codes
        .captures_iter(source)
        .map(|c| c.get(1).unwrap().as_str())
        .collect();
    assert!(codes.len() > 20, "{codes:?}");
    for code in codes {
        assert!(
            page.contains(&format!("| `{code}` |")),
            "{code} is not on the page"
        );
    }
}

#[test]
fn the_readers_taught_are_read() {
    let page = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/families.md");
    let text = fs::read_to_string(page).unwrap();
    let blocks: Vec<&str> = text
        .split("```toml\n")
        .skip(1)
        .map(|rest| rest.split("```").next().unwrap())
        .collect();
    let (whole, readers) = blocks.split_first().unwrap();
    assert!(readers.len() > 6);
    for reader in readers {
        let family = Family::parse(&format!("{whole}\n{reader}"));
        let family = family.unwrap_or_else(|fault| panic!("{fault}: {reader}"));
        let remarks = lantern_core::check::remarks(&family).into_iter();
        // The page leaves out where new ones go, to be short.
        let odd: Vec<_> = remarks.filter(|r| !r.at.ends_with("install")).collect();
        assert_eq!(odd, []);
    }
}

#[test]
fn every_key_of_a_format_is_on_its_page() {
    let path = |page: &str| {
        Path::new(env!("CARGO_MANIFEST_DIR"))
            .join("../../docs/formats")
            .join(page)
    };
    let broken = |text: &str| Family::parse(text).unwrap_err().to_string();
    // The reader of each format names all its keys when it meets one that it does not know.
    let cases = [
        ("family.md", broken("x = 1")),
        ("family.md", broken("format = 1\nbuild = { x = 1 }")),
        ("family.md", broken("layout = { x = 1 }")),
        ("family.md", broken("console = { x = 1 }")),
        ("family.md", broken("console = { setting = [{ x = 1 }] }")),
        ("family.md", broken("order = { x = 1 }")),
        ("family.md", broken("versions = { x = 1 }")),
        ("family.md", broken("[[reader]]\nx = 1")),
        ("family.md", broken("[[client]]\nx = 1")),
        ("family.md", broken("[[client]]\nspeaks = [{ x = 1 }]")),
        ("family.md", broken("[[client]]\nplaces = [{ x = 1 }]")),
        ("family.md", broken("console = { version = { x = 1 } }")),
        ("family.md", broken("[[reader]]\nfields = { x = 1 }")),
        ("family.md", broken("[[reader]]\nfiles = [{ x = 1 }]")),
        ("family.md", broken("[[reader]]\nshape = \"x\"")),
        (
            "family.md",
            broken("[[reader]]\nfiles = [{ notation = \"x\" }]"),
        ),
        ("family.md", broken("ids = { x = 1 }")),
        ("family.md", broken("[[pin]]\nx = 1")),
        ("family.md", broken("[[reader]]\nparts = [{ x = 1 }]")),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("x = 1")
                .unwrap_err()
                .to_string(),
        ),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("limits = { x = 1 }")
                .unwrap_err()
                .to_string(),
        ),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("console = { run = { x = 1 } }")
                .unwrap_err()
                .to_string(),
        ),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("console = { line = { remote = { x = 1 } } }")
                .unwrap_err()
                .to_string(),
        ),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("console = { x = 1 }")
                .unwrap_err()
                .to_string(),
        ),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("acquire = { x = 1 }")
                .unwrap_err()
                .to_string(),
        ),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("acquire = { runtime = { x = 1 } }")
                .unwrap_err()
                .to_string(),
        ),
        (
            "request.md",
            Request::from_json("{\"x\": 1}").unwrap_err().to_string(),
        ),
        (
            "plan.md",
            Plan::parse("{\"x\": 1}").unwrap_err().to_string(),
        ),
        (
            "client-list.md",
            serde_json::from_str::<ClientList>("{\"x\": 1}")
                .unwrap_err()
                .to_string(),
        ),
        (
            "client-list.md",
            serde_json::from_str::<ClientList>("{\"items\": [{\"x\": 1}]}")
                .unwrap_err()
                .to_string(),
        ),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("client = [{ x = 1 }]")
                .unwrap_err()
                .to_string(),
        ),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("tell = [{ x = 1 }]")
                .unwrap_err()
                .to_string(),
        ),
        (
            "lantern-toml.md",
            toml_edit::de::from_str::<Config>("notice = { x = 1 }")
                .unwrap_err()
                .to_string(),
        ),
        (
            "plan.md",
            Plan::parse("{\"actions\": [{\"x\": 1}]}")
                .unwrap_err()
                .to_string(),
        ),
    ];
    for (page, fault) in cases {
        let text = fs::read_to_string(path(page)).unwrap();
        let (_, known) = fault
            .split_once("expected")
            .unwrap_or_else(|| panic!("{fault}"));
        let keys: Vec<&str> = known.split('`').skip(1).step_by(2).collect();
        assert!(keys.len() > 1, "{fault}");
        for key in keys {
            // The key `reader` is written as a table of its own.
            assert!(text.contains(key), "{page} does not tell about {key}");
        }
    }
}
