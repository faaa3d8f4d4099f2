//! Worlds in which many want one of few.

use super::*;

/// How it is said that only one can have a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Said {
    /// Each release needs a release of the place that is made for it alone.
    Needs,
    /// Each release clashes with those of others for the same place.
    Clashes,
    /// One release, which needs any one of the places in its own release.
    Any,
    /// All releases for one place are in one group.
    Group,
}

pub(super) const ALL: [Said; 4] = [Said::Needs, Said::Clashes, Said::Any, Said::Group];

/// Users of places; `may` says which places each may have, the best first.
pub(super) fn users(said: Said, may: &[Vec<usize>]) -> Request {
    let mut lines = vec!["+ server 5.4".to_owned()];
    for (user, places) in may.iter().enumerate() {
        let own = |place: &usize| format!("place{place}:={}", user + 1);
        if said == Said::Any {
            let any: Vec<String> = places.iter().map(own).collect();
            lines.push(format!("user{user} 1 any {}", any.join("|")));
            continue;
        }
        for (rank, place) in places.iter().enumerate() {
            let others = may.iter().enumerate().filter(|(other, _)| *other != user);
            let release = |places: &[usize]| {
                let at = places.iter().position(|it| it == place)?;
                Some(places.len() - at)
            };
            let others =
                others.filter_map(|(other, it)| Some(format!("user{other}:={}", release(it)?)));
            let rest = match said {
                Said::Group => format!(" group place{place}"),
                Said::Clashes => match others.collect::<Vec<_>>() {
                    others if others.is_empty() => String::new(),
                    others => format!(" clashes {}", others.join(",")),
                },
                _ => format!(" needs {}", own(place)),
            };
            lines.push(format!("user{user} {}{rest}", places.len() - rank));
        }
    }
    if matches!(said, Said::Needs | Said::Any) {
        let places: BTreeSet<usize> = may.iter().flatten().copied().collect();
        for place in places {
            lines.extend((1..=may.len()).map(|user| format!("place{place} {user}")));
        }
    }
    let mut request = world(&lines.join("\n"));
    request.add = (0..may.len())
        .map(|user| Id::new(&format!("user{user}")))
        .collect();
    request
}

fn search<R>(
    request: &Request,
    then: impl FnOnce(&Model<'_>, &mut Solver<&Model<'_>>, Outcome, Vec<Lit>) -> R,
) -> R {
    let model = Model::new(request);
    let mut search = model.search();
    let (hard, _) = stays(&model, &mut search);
    let outcome = search.solve(&hard, 200_000);
    then(&model, &mut search, outcome, hard)
}

/// Of 12 users one has no place: by trying, that takes 11 · 10 · 9 … ways.
#[test]
fn one_too_many_is_seen_by_counting() {
    for said in ALL {
        let request = users(said, &vec![(0..11).collect(); 12]);
        search(&request, |_, search, outcome, _| {
            assert!(matches!(outcome, Outcome::Impossible(_)), "{said:?}");
            assert!(search.steps < 60_000, "{said:?}: {} steps", search.steps);
        });
    }
}

/// Of builds with slots for 11, none has room for 12, whichever of their releases they are in.
#[test]
fn slots_are_counted_before_it_is_known_which_releases_take_them() {
    let mut lines = vec!["+ server 5.4 has skins:22".to_owned()];
    for user in 0..12 {
        let releases =
            (1..=4).map(|release| format!("user{user} {release} takes skins:{}", 1 + release));
        lines.extend(releases);
    }
    let mut request = world(&lines.join("\n"));
    request.add = (0..12)
        .map(|user| Id::new(&format!("user{user}")))
        .collect();
    search(&request, |_, search, outcome, _| {
        assert!(matches!(outcome, Outcome::Impossible(_)));
        assert!(search.steps < 1_000, "{} steps", search.steps);
    });
    answer(&request);
    request.add.pop_last();
    assert!(resolve(&request).unwrap().proved);
}

/// Everybody wants the first place most, and what all cost together is the same however they share: that no other way is
/// better is shown without trying them.
#[test]
fn that_no_way_to_share_is_better_is_shown_by_counting() {
    for said in [Said::Needs, Said::Clashes, Said::Group] {
        let mut request = users(said, &vec![(0..12).collect(); 12]);
        request.policy.effort = 1_000_000;
        assert!(resolve(&request).unwrap().proved, "{said:?}");
    }
}

/// What stands in the way is told in full also where it takes counting to see it.
#[test]
fn what_there_is_too_little_of_is_boiled_down() {
    for said in ALL {
        let request = users(said, &vec![vec![0, 1, 2]; 4]);
        answer(&request);
    }
}

#[test]
fn shared_places_are_judged_like_by_trying_everything() {
    let (mut shared, mut possible) = (0, 0);
    for seed in 1..=240 {
        let mut random = dice(seed);
        let said = ALL[seed as usize % ALL.len()];
        let with_places = matches!(said, Said::Needs | Said::Any);
        let (users_there, places) = if with_places { (3, 3) } else { (5, 4) };
        let may = (0..users_there).map(|_| {
            let mut places: Vec<usize> = (0..places).filter(|_| random(10) < 7).collect();
            places.push(random(places.len() as u64 + 1) as usize);
            places.sort_by_key(|_| random(100));
            places.dedup();
            let mut seen = BTreeSet::new();
            places.retain(|place| seen.insert(*place));
            places
        });
        let mut request = users(said, &may.collect::<Vec<_>>());
        if random(2) == 0 {
            request.policy.prefer = Prefer::Newest;
        }
        let best = by_trying(&request);
        possible += usize::from(best.is_some());
        match resolve(&request) {
            Ok(selection) => {
                let price = price(&request, &chosen(&request, &selection));
                assert!(selection.proved, "seed {seed}");
                assert_eq!(Some(price), best, "seed {seed}: {}", told(&selection));
            }
            Err(obstacle) => {
                assert_eq!(best, None, "seed {seed}: {}", obstacle.tell(&request));
                for conflict in &obstacle.conflicts {
                    check_conflict(&request, conflict);
                }
            }
        }
        shared += search(&request, |model, search, outcome, hard| {
            if outcome == Outcome::Found {
                let found = (0..model.vars()).map(|var| search.is_true(var)).collect();
                hard.iter().for_each(|lit| search.require(&[*lit]));
                best::best(search, model, found, &[], EFFORT);
            }
            usize::from(search.places().placed().next().is_some())
        });
    }
    assert!((60..=180).contains(&possible), "{possible} possible");
    assert!(shared > 60, "in {shared} worlds it was counted");
}
