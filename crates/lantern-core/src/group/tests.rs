use super::*;
use crate::component::Runs;
use crate::descriptor::Holdings;
use crate::facts::Facts;
use crate::family::Shape;
use crate::inventory::{FileState, VersionFrom};
use crate::order::Arrangement;
use crate::tree::FileSeen;
use crate::version::{Notation, Version};
use insta::assert_snapshot;

/// Components as `id version content`, with a size behind where that is not 1, with `!` in front of one that is switched off, and `@build` for the build.
fn inventory(lines: &[&str]) -> Inventory {
    let component = |line: &&str| {
        let (line, is_off) = match line.strip_prefix('!') {
            Some(line) => (line, true),
            None => (*line, false),
        };
        let words: Vec<&str> = line.split(' ').collect();
        let (id, kind) = match words[0].strip_prefix('@') {
            Some(id) => (id, Kind::Build),
            None => (words[0], Kind::Addon),
        };
        let place = RelPath::parse(&format!("addons/{id}-{}", words[1])).unwrap();
        let version = Version::parse(words[1], Notation::Semver).unwrap();
        Component {
            facts: Facts::new(Id::new(id), kind, version),
            files: vec![FileSeen {
                path: place.clone(),
                bytes: words.get(3).map_or(1, |bytes| bytes.parse().unwrap()),
                hash: Some(words[2].to_owned()),
            }],
            place: Some(place),
            shape: Shape::Archive,
            reader: String::new(),
            runs: Runs::switched(!is_off),
            group: None,
            started_by: None,
            holdings: Holdings::default(),
            silenced: BTreeMap::new(),
            state: FileState::AsShipped,
            version_from: VersionFrom::Stated,
        }
    };
    let mut components: Vec<Component> = lines.iter().map(component).collect();
    components.sort_by(|a, b| (a.facts.kind, &a.facts.id).cmp(&(b.facts.kind, &b.facts.id)));
    Inventory {
        components,
        findings: Vec::new(),
        unowned: Vec::new(),
        order: Arrangement::default(),
    }
}

fn told(group: &str, found: &[Option<Inventory>]) -> String {
    let group = Group::parse(group).unwrap();
    let found = found.iter().map(|it| it.as_ref().map(Carries::of));
    let found: Vec<Option<Carries>> = found.collect();
    let rows = compare(&group, &found);
    let row = |row: &Row| {
        let differs: Vec<String> = row.differs.iter().map(|it| format!("{it:?}")).collect();
        let alike = row.alike().into_iter();
        let alike: Vec<String> = alike
            .map(|(carried, servers)| {
                let off = if carried.is_off { " off" } else { "" };
                format!("{}{off} at {servers:?}", carried.version)
            })
            .collect();
        let unread = if row.is_unread { " (unread)" } else { "" };
        let missing = match row.missing.is_empty() {
            true => String::new(),
            false => format!(" missing at {:?}", row.missing),
        };
        format!(
            "{}: {}{missing}{unread} -> {}",
            row.id,
            alike.join(", "),
            differs.join(" ")
        )
        .trim_end()
        .to_owned()
    };
    rows.iter().map(row).collect::<Vec<_>>().join("\n")
}

const THREE: &str = "format = 1\nname = 'terraces'\nall = ['shade', 'trellis']\n\
    [[server]]\nat = 'north'\n[[server]]\nat = 'south'\nown = ['waypost']\n[[server]]\nat = 'east'\n";

#[test]
fn what_should_be_the_same_and_is_not_is_told() {
    let found = [
        Some(inventory(&[
            "@terrace 5.0.0 b",
            "shade 2.1.0 s",
            "trellis 1.8.0 t",
            "sun-clock 1.0.0 c",
            "plot 1.0.0 p",
            "moss 1.0.0 unread:x",
            "fern 1.0.0 unread:y 7",
        ])),
        Some(inventory(&[
            "@terrace 5.0.0 b",
            "shade 2.1.0 s",
            "trellis 1.8.0 other",
            "!sun-clock 1.0.0 c",
            "waypost 3.0.0 w",
            "fern 1.0.0 f",
            "moss 1.0.0 m",
        ])),
        Some(inventory(&[
            "@terrace 5.1.0 b2",
            "shade 2.0.3 s2",
            "sun-clock 1.0.0 c",
            "plot 1.0.0 p",
            "moss 1.0.0 m",
        ])),
    ];
    assert_snapshot!(told(THREE, &found), @r"
    terrace: 5.0.0 at [0, 1], 5.1.0 at [2] -> Releases
    fern: 1.0.0 at [0], 1.0.0 at [1] (unread) -> Files Unsaid
    moss: 1.0.0 at [0, 1, 2] (unread) ->
    plot: 1.0.0 at [0, 2] -> Unsaid
    shade: 2.1.0 at [0, 1], 2.0.3 at [2] -> Releases
    sun-clock: 1.0.0 at [0, 2], 1.0.0 off at [1] -> Switched
    trellis: 1.8.0 at [0], 1.8.0 at [1] missing at {2} -> Missing Files
    waypost:  ->
    ");
}

#[test]
fn of_a_server_that_was_not_looked_at_nothing_is_said() {
    let found = [
        Some(inventory(&["shade 2.1.0 s", "trellis 1.8.0 t"])),
        None,
        Some(inventory(&["shade 2.1.0 s", "trellis 1.8.0 t"])),
    ];
    assert_snapshot!(told(THREE, &found), @r"
    shade: 2.1.0 at [0, 2] ->
    trellis: 1.8.0 at [0, 2] ->
    waypost:  ->
    ");
}

#[test]
fn what_a_group_cannot_mean_is_refused() {
    let head = "format = 1\nname = 'terraces'\n";
    let (north, south) = ("[[server]]\nat = 'north'\n", "[[server]]\nat = 'south'\n");
    let refused = [
        format!("{head}{north}"),
        format!("{head}{north}{north}"),
        format!("{head}all = ['shade']\n{north}own = ['shade']\n{south}"),
        format!("format = 2\nname = 'x'\n{north}{south}"),
        format!("{head}{north}{south}weather = 'fine'\n"),
        format!("{head}at_once = 0\n{north}{south}"),
        format!("{head}{north}after = ['west']\n{south}"),
        format!("{head}{north}after = ['south']\n{south}after = ['north']\n"),
        head.to_owned(),
    ];
    let refused = refused.iter().map(|text| {
        let fault = Group::parse(text).unwrap_err();
        let line = fault.line.map_or("no line".into(), |line| line.to_string());
        format!("{line}: {}", fault.why)
    });
    assert_snapshot!(refused.collect::<Vec<_>>().join("\n"), @r#"
    no line: server: a group has two or more
    no line: server: "north" stands there twice
    no line: server "north": shade is its own, and carried by all besides: one of them cannot be meant
    no line: format: 2 is not known here; this lantern reads 1
    7: unknown field `weather`, expected one of `at`, `name`, `shell`, `own`, `after`
    3: invalid value: integer `0`, expected a nonzero usize
    no line: server "north": it is to come after "west", which is no server of this group
    no line: server "north": what it is to come after comes after it, too, so that none of them could be first
    1: missing field `server`
    "#);
}

#[test]
fn each_moves_after_those_that_it_comes_after() {
    let servers = [("a", "'d'"), ("b", ""), ("c", "'a'"), ("d", ""), ("e", "")];
    let servers =
        servers.map(|(at, after)| format!("[[server]]\nat = '{at}'\nafter = [{after}]\n"));
    let group = Group::parse(&format!("format = 1\nname = 'g'\n{}", servers.concat())).unwrap();
    let waves =
        |servers: &[usize], at_once| group.waves(&servers.iter().copied().collect(), at_once);
    assert_eq!(waves(&[0, 1, 2, 3, 4], 1), [[1], [3], [0], [2], [4]]);
    assert_eq!(
        waves(&[0, 1, 2, 3, 4], 2),
        [vec![1, 3], vec![0, 4], vec![2]]
    );
    // What is not among them has moved before.
    assert_eq!(waves(&[0, 2], 9), [[0], [2]]);
}

proptest::proptest! {
    #![proptest_config(crate::proofs::at_least(200))]

    /// Whoever carries the same is never told to differ, in whatever order the servers stand; and whatever differs is told.
    #[test]
    fn only_what_differs_is_told(releases in proptest::collection::vec(0u8..3, 2..6)) {
        let servers: String = (0..releases.len()).map(|n| format!("[[server]]\nat = 'm{n}'\n")).collect();
        let group = Group::parse(&format!("format = 1\nname = 'g'\nall = ['shade']\n{servers}")).unwrap();
        let found: Vec<Inventory> = releases.iter().map(|n| match n {
            0 => inventory(&[]),
            n => inventory(&[&format!("shade {n}.0.0 s{n}")]),
        }).collect();
        let found: Vec<Option<Carries>> = found.iter().map(|it| Some(Carries::of(it))).collect();
        let row = &compare(&group, &found)[0];
        let kinds: BTreeSet<u8> = releases.iter().copied().collect();
        let missing = kinds.contains(&0);
        proptest::prop_assert_eq!(row.differs.contains(&Differs::Missing), missing);
        proptest::prop_assert_eq!(row.missing.len(), releases.iter().filter(|n| **n == 0).count());
        proptest::prop_assert_eq!(row.differs.contains(&Differs::Releases), kinds.len() - usize::from(missing) > 1);
        proptest::prop_assert!(!row.differs.contains(&Differs::Files) && !row.differs.contains(&Differs::Unsaid));
    }
}
