//! Proofs, checked by a program that knows nothing of the search: the request's rules as clauses, made with the slow solver's
//! words, and conclusions from single literals.

use super::super::refutation::{ProofLine, ProofLiteral, Refutation, refutation};
use super::*;

/// What is known of a request, and what a proof has shown of it so far. A literal is a variable's place, from 1, negative where it is
/// not so.
struct Checker<'r> {
    request: &'r Request,
    /// Each release; none for a component being absent, and for numbers of the proof's own.
    variables: Vec<Option<(&'r Id, Option<&'r Facts>)>>,
    clauses: Vec<Vec<i64>>,
    /// In which clauses each literal stands.
    found_in: Vec<Vec<usize>>,
    /// The variable of each number of the proof.
    numbers: BTreeMap<ProofLiteral, i64>,
}

/// Which literals are false, by their indices.
struct Out(Vec<bool>);

impl Out {
    fn has(&self, lit: i64) -> bool {
        self.0[index(lit)]
    }
}

/// The place of a literal among all of them.
fn index(lit: i64) -> usize {
    2 * (lit.unsigned_abs() as usize - 1) + usize::from(lit < 0)
}

impl<'r> Checker<'r> {
    fn new(request: &'r Request) -> Checker<'r> {
        let releases = releases(request);
        let mut checker = Checker {
            request,
            variables: Vec::new(),
            clauses: Vec::new(),
            found_in: Vec::new(),
            numbers: BTreeMap::new(),
        };
        for (id, releases) in &releases {
            let mut one: Vec<i64> = vec![checker.variable(Some((*id, None)))];
            for facts in releases {
                one.push(checker.variable(Some((*id, Some(*facts)))));
            }
            checker.at_most_one(&one);
            checker.add(one);
        }
        let all: Vec<(i64, &Facts)> = checker.releases().collect();
        for (own, facts) in &all {
            if !usable(request, facts) {
                checker.add(vec![-own]);
            }
            for (other, beside) in all.iter().filter(|(it, _)| it > own) {
                if facts.id != beside.id && !go_together(request, facts, beside) {
                    checker.add(vec![-own, -other]);
                }
            }
            for asked in what_it_asks(request, facts) {
                let alone = BTreeMap::from([(&facts.id, *facts)]);
                let meets = |other: &&(i64, &Facts)| {
                    let mut chosen = alone.clone();
                    chosen.entry(&other.1.id).or_insert(other.1);
                    needs_hold(request, &asked, &chosen)
                };
                if !needs_hold(request, &asked, &alone) {
                    let met = all.iter().filter(meets).map(|(lit, _)| *lit);
                    let clause = [-own].into_iter().chain(met).collect();
                    checker.add(clause);
                }
            }
        }
        for id in to_stay(request).filter(|id| !droppable(request, id)) {
            let takes_its_place = |facts: &Facts| {
                facts.id != *id && is_there(request, &BTreeMap::from([(&facts.id, facts)]), id)
            };
            let others = all.iter().filter(|(_, facts)| takes_its_place(facts));
            let absent = checker
                .variables
                .iter()
                .position(|of| *of == Some((id, None)));
            let absent = absent.map(|at| -(at as i64 + 1));
            let clause = absent.into_iter().chain(others.map(|(lit, _)| *lit));
            checker.add(clause.collect());
        }
        for players in request.admit.values() {
            let running = all.iter().filter(|(_, facts)| !is_off(request, &facts.id));
            let lets_in = running.filter(|(_, facts)| facts.lets_in(players));
            checker.add(lets_in.map(|(lit, _)| *lit).collect());
        }
        let builds = all.iter().filter(|(_, facts)| facts.id == request.build);
        checker.add(builds.map(|(lit, _)| *lit).collect());
        checker
    }

    fn variable(&mut self, of: Option<(&'r Id, Option<&'r Facts>)>) -> i64 {
        self.variables.push(of);
        self.found_in.resize(2 * self.variables.len(), Vec::new());
        self.variables.len() as i64
    }

    fn releases(&self) -> impl Iterator<Item = (i64, &'r Facts)> + use<'_, 'r> {
        let all = (1..).zip(&self.variables);
        all.filter_map(|(lit, of)| Some((lit, (*of)?.1?)))
    }

    fn at_most_one(&mut self, lits: &[i64]) {
        for (at, a) in lits.iter().enumerate() {
            for b in &lits[at + 1..] {
                self.add(vec![-a, -b]);
            }
        }
    }

    /// What is false when these literals are true; none where that is a contradiction.
    fn concluded(&self, lits: impl IntoIterator<Item = i64>) -> Option<Out> {
        let mut open = Vec::new();
        for clause in &self.clauses {
            match clause[..] {
                [] => return None,
                [lit] => open.push(-lit),
                _ => {}
            }
        }
        open.extend(lits.into_iter().map(|lit| -lit));
        let mut out = Out(vec![false; self.found_in.len()]);
        while let Some(lit) = open.pop() {
            if out.has(-lit) {
                return None;
            }
            if std::mem::replace(&mut out.0[index(lit)], true) {
                continue;
            }
            for at in &self.found_in[index(lit)] {
                let mut left = self.clauses[*at].iter().filter(|lit| !out.has(**lit));
                match (left.next(), left.next()) {
                    (None, _) => return None,
                    (Some(lit), None) => open.push(-lit),
                    _ => {}
                }
            }
        }
        Some(out)
    }

    /// From here on it is known that one of these holds.
    fn add(&mut self, clause: Vec<i64>) {
        for lit in &clause {
            self.found_in[index(*lit)].push(self.clauses.len());
        }
        self.clauses.push(clause);
    }

    /// Takes a line of a proof, or says what is wrong with it.
    fn take(&mut self, line: &ProofLine) -> Result<(), String> {
        let read = |checker: &Self, lits: &[ProofLiteral]| -> Result<Vec<i64>, String> {
            let known = lits.iter().map(|lit| {
                let known = checker.numbers.get(&lit.abs());
                known
                    .map(|var| var * lit.signum())
                    .ok_or(format!("{lit} is unknown"))
            });
            known.collect()
        };
        match line {
            ProofLine::Format(1) => {}
            ProofLine::Format(_) => return Err("another format".into()),
            ProofLine::Release {
                number,
                id,
                version,
                ..
            } => {
                let is_meant = |of: &Option<(&Id, Option<&Facts>)>| {
                    of.is_some_and(|(known, facts)| {
                        known == id && facts.map(|it| it.version.to_string()) == *version
                    })
                };
                let var = self.variables.iter().position(is_meant);
                let var = var.ok_or(format!("no {id} {version:?}"))? as i64 + 1;
                if self.numbers.insert(*number, var).is_some() {
                    return Err(format!("{number} is known already"));
                }
            }
            ProofLine::All { number, of } => {
                let of = read(self, of)?;
                let var = self.variable(None);
                if self.numbers.insert(*number, var).is_some() {
                    return Err(format!("{number} is known already"));
                }
                for lit in &of {
                    self.add(vec![-var, *lit]);
                }
                self.add(of.iter().map(|lit| -lit).chain([var]).collect());
            }
            ProofLine::Follows(lits) => {
                let clause = read(self, lits)?;
                if self.concluded(clause.iter().map(|lit| -lit)).is_some() {
                    return Err(format!("{lits:?} does not follow"));
                }
                self.add(clause);
            }
            ProofLine::Room(lits) => {
                let clause = read(self, lits)?;
                if let Some(out) = self.concluded(clause.iter().map(|lit| -lit))
                    && self.has_room(&out)
                {
                    return Err(format!("without {lits:?} there is room"));
                }
                self.add(clause);
            }
            ProofLine::Crowd {
                follows,
                takers,
                places,
            } => {
                let clause = read(self, follows)?;
                let lists = |checker: &Self, lists: &[Vec<ProofLiteral>]| {
                    lists
                        .iter()
                        .map(|list| read(checker, list))
                        .collect::<Result<Vec<_>, _>>()
                };
                let (takers, places) = (lists(self, takers)?, lists(self, places)?);
                self.count(&clause, &takers, &places)?;
                self.add(clause);
            }
        }
        Ok(())
    }

    /// Whether some build is left on which the least that is taken has room.
    fn has_room(&self, out: &Out) -> bool {
        let open = |id: &Id| {
            let all = (1..).zip(&self.variables);
            let own = all.filter_map(|(lit, of)| Some((lit, (*of)?)));
            let own = own.filter(|(_, (other, _))| *other == id);
            let open = own.filter(|(lit, _)| !out.has(*lit));
            open.map(|(_, (_, facts))| facts)
                .collect::<Vec<Option<&Facts>>>()
        };
        let least = |id: &Id, kind: &String| {
            let takes = |facts: &Option<&Facts>| facts.and_then(|it| it.takes.get(kind).copied());
            let takes = open(id).iter().map(|facts| takes(facts).unwrap_or(0)).min();
            takes.filter(|_| !is_off(self.request, id)).unwrap_or(0)
        };
        open(&self.request.build).iter().any(|build| {
            build.is_none_or(|build| {
                build.build.has.iter().all(|(kind, has)| {
                    let taken = releases(self.request).into_keys().map(|id| least(id, kind));
                    taken.sum::<u64>() <= *has
                })
            })
        })
    }

    /// Whether more takers than places have to have one of their values where a clause does not hold.
    fn count(
        &self,
        clause: &[i64],
        takers: &[Vec<i64>],
        places: &[Vec<i64>],
    ) -> Result<(), String> {
        let against = || clause.iter().map(|lit| -lit);
        if takers.len() <= places.len() {
            return Err("not more takers than places".into());
        }
        let mut seen = BTreeSet::new();
        for taker in takers {
            if self
                .concluded(against().chain(taker.iter().map(|lit| -lit)))
                .is_some()
            {
                return Err(format!("{taker:?} need not have any"));
            }
            if !taker
                .iter()
                .all(|lit| seen.insert(*lit) && places.iter().any(|it| it.contains(lit)))
            {
                return Err(format!("{taker:?} has what is another's, or in no place"));
            }
        }
        for place in places {
            for (at, a) in place.iter().enumerate() {
                let mut others = place[at + 1..].iter();
                if others.any(|b| self.concluded(against().chain([*a, *b])).is_some()) {
                    return Err(format!("{place:?} can hold two"));
                }
            }
        }
        Ok(())
    }
}

/// Whether neither of two releases shuts out the other.
fn go_together(request: &Request, one: &Facts, other: &Facts) -> bool {
    let both = BTreeMap::from([(&one.id, one), (&other.id, other)]);
    let goes = |own: &Facts, beside: &Facts| {
        let runs = beside.id != request.build || runs_on(request, own, beside);
        is_off(request, &own.id) || runs && goes_with_the_others(request, own, &both)
    };
    goes(one, other) && goes(other, one)
}

/// A release once for each thing that it asks for, with nothing else asked.
fn what_it_asks(request: &Request, facts: &Facts) -> Vec<Facts> {
    if is_off(request, &facts.id) {
        return Vec::new();
    }
    let mut nothing = facts.clone();
    (nothing.needs, nothing.needs_installed, nothing.needs_any) = Default::default();
    nothing.framework = None;
    let mut all = Vec::new();
    let mut asks = |change: &dyn Fn(&mut Facts)| {
        let mut one = nothing.clone();
        change(&mut one);
        all.push(one);
    };
    for need in &facts.needs {
        asks(&|one| one.needs = [need.clone()].into());
    }
    for need in &facts.needs_installed {
        asks(&|one| one.needs_installed = [need.clone()].into());
    }
    for needs in &facts.needs_any {
        asks(&|one| one.needs_any = [needs.clone()].into());
    }
    if facts.framework.is_some() {
        asks(&|one| one.framework.clone_from(&facts.framework));
    }
    all
}

/// Whether the lines prove that there is no answer.
fn check(request: &Request, lines: &[ProofLine]) -> Result<(), String> {
    let mut checker = Checker::new(request);
    for line in lines {
        checker.take(line)?;
    }
    let shown = matches!(lines.last(), Some(ProofLine::Follows(lits)) if lits.is_empty());
    shown
        .then_some(())
        .ok_or("it does not come to an end".into())
}

/// The proof of a request, written down and read again.
fn proof(request: &Request) -> Option<Vec<ProofLine>> {
    let Refutation::Proved(lines) = refutation(request) else {
        return None;
    };
    let text = lines
        .iter()
        .map(|line| serde_json::to_string(line).unwrap());
    let again: Vec<ProofLine> = text
        .map(|line| serde_json::from_str(&line).unwrap())
        .collect();
    assert_eq!(again, lines);
    Some(lines)
}

#[test]
fn what_has_no_answer_is_proved() {
    use proptest::strategy::ValueTree;
    use proptest::test_runner::TestRunner;
    let mut runner = TestRunner::deterministic();
    let mut small = std::iter::repeat_with(|| {
        with_policy(&any_world().new_tree(&mut runner).unwrap().current())
    });
    let mut tangles = (1..).map(|seed| tangle(seed, 8));
    let mut dense = (1..).map(|seed| dense(seed, 16).0);
    let (mut unsolvable, mut long) = (0, 0);
    for at in 0.. {
        let request = match at % 8 {
            0 => dense.next().unwrap(),
            1..4 => tangles.next().unwrap(),
            _ => small.next().unwrap(),
        };
        let no_steps = [ProofLine::Format(1), ProofLine::Follows(Vec::new())];
        match proof(&request) {
            Some(lines) => {
                unsolvable += 1;
                assert_eq!(check(&request, &lines), Ok(()), "{at}");
                long += usize::from(check(&request, &no_steps).is_err());
            }
            None => assert!(check(&request, &no_steps).is_err(), "{at}"),
        }
        if unsolvable == 240 {
            break;
        }
    }
    assert!(long > 40, "of {long} it does not follow at once");
}

#[test]
fn more_takers_than_places_are_proved_by_counting() {
    for said in sharing::ALL {
        let request = sharing::users(said, &vec![(0..5).collect(); 6]);
        let lines = proof(&request).unwrap();
        assert_eq!(check(&request, &lines), Ok(()), "{said:?}");
        let is_crowd = |line: &&ProofLine| matches!(line, ProofLine::Crowd { .. });
        assert!(lines.iter().any(|line| is_crowd(&line)), "{said:?}");
        // One place more, and it is no proof.
        let mut wrong = lines.clone();
        for line in &mut wrong {
            if let ProofLine::Crowd { takers, .. } = line {
                takers.pop();
            }
        }
        assert!(check(&request, &wrong).is_err(), "{said:?}");
        let easier = sharing::users(said, &vec![(0..6).collect(); 6]);
        assert!(check(&easier, &lines).is_err(), "{said:?}");
    }
}

#[test]
fn too_few_slots_are_proved_by_counting() {
    let worlds = |has: u64| {
        let releases = (0..6).flat_map(|user| {
            (1..=3).map(move |release| format!("user{user} {release} takes skins:{}", 1 + release))
        });
        let lines: Vec<String> = [format!("+ server 5.4 has skins:{has}")]
            .into_iter()
            .chain(releases)
            .collect();
        let mut request = world(&lines.join("\n"));
        request.add = (0..6).map(|user| Id::new(&format!("user{user}"))).collect();
        request
    };
    let (tight, loose) = (worlds(11), worlds(12));
    let lines = proof(&tight).unwrap();
    assert!(lines.iter().any(|line| matches!(line, ProofLine::Room(_))));
    assert_eq!(check(&tight, &lines), Ok(()));
    assert!(proof(&loose).is_none());
    assert!(check(&loose, &lines).is_err());
}
