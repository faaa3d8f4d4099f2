//! That there is no answer, proved in steps that a simple program can follow.

use super::model::Model;
use super::solver::{Lit, Outcome, Step, Var};
use super::{MOST_STEPS, Request, stays};
use crate::component::Id;
use foldhash::{HashMap, HashMapExt};
use serde::{Deserialize, Serialize};

/// What came of proving that a request has no answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refutation {
    /// The lines of the proof.
    Proved(Vec<ProofLine>),
    /// There is an answer.
    Answered,
    /// The steps ran out.
    GaveUp,
}

/// A number of a proof's own, from 1; negative where it does not hold.
pub type ProofLiteral = i64;

/// A line of a proof, as docs/formats/proof.md tells.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum ProofLine {
    /// The number of the format; the first line.
    Format(u32),
    /// What a number stands for.
    Release {
        /// The number.
        number: ProofLiteral,
        /// Of which component.
        id: Id,
        /// Which version; none where it stands for no release of the component being there.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        version: Option<String>,
        /// Its place among the request's offers, from 0; none where it is installed.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        offer: Option<usize>,
    },
    /// A number that holds if, and only if, all of these do.
    All {
        /// The number; nothing was said of it before.
        number: ProofLiteral,
        /// What it stands for.
        of: Vec<ProofLiteral>,
    },
    /// One of these holds: with all of them false, conclusions from single literals alone come to a contradiction.
    Follows(Vec<ProofLiteral>),
    /// One of these holds: with all of them false, more slots of a kind are taken than any build left has.
    Room(Vec<ProofLiteral>),
    /// One of these holds: with all of them false, there are more takers than places.
    Crowd {
        /// What holds.
        follows: Vec<ProofLiteral>,
        /// Of each taker, the numbers one of which has to hold then; no two takers have one in common.
        takers: Vec<Vec<ProofLiteral>>,
        /// Numbers of which at most one can hold then; each of a taker's is in one of them.
        places: Vec<Vec<ProofLiteral>>,
    },
}

/// Proves that a request has no answer.
///
/// What has to be there is taken for granted, as are the rules of docs/formats/proof.md; nothing is taken from this program's search
/// but the order of the steps.
pub fn refutation(request: &Request) -> Refutation {
    let model = Model::new(request);
    let mut search = model.search();
    let (hard, _) = stays(&model, &mut search);
    for lit in hard {
        search.require(&[lit]);
    }
    search.begin_log();
    match search.solve(&[], MOST_STEPS) {
        Outcome::Found => return Refutation::Answered,
        Outcome::GaveUp => return Refutation::GaveUp,
        Outcome::Impossible(_) => {}
    }
    let mut lines = Lines {
        model: &model,
        numbers: HashMap::new(),
        lines: vec![ProofLine::Format(1)],
    };
    for step in search.take_log() {
        lines.add(step);
    }
    lines.add(Step::Follows(Vec::new()));
    Refutation::Proved(lines.lines)
}

/// The lines so far, and the numbers in them.
struct Lines<'m, 'a> {
    model: &'m Model<'a>,
    numbers: HashMap<Var, ProofLiteral>,
    lines: Vec<ProofLine>,
}

impl Lines<'_, '_> {
    fn add(&mut self, step: Step) {
        let line = match step {
            Step::All(var, of) => {
                let of = self.literals(&of);
                let number = self.new_number(var);
                ProofLine::All { number, of }
            }
            Step::Follows(lits) => ProofLine::Follows(self.literals(&lits)),
            Step::Room(lits) => ProofLine::Room(self.literals(&lits)),
            Step::Crowd(crowd) => {
                let mut lists = |lists: Vec<Vec<Lit>>| -> Vec<Vec<ProofLiteral>> {
                    lists.iter().map(|list| self.literals(list)).collect()
                };
                let (takers, places) = (lists(crowd.takers), lists(crowd.places));
                ProofLine::Crowd {
                    follows: self.literals(&crowd.follows),
                    takers,
                    places,
                }
            }
        };
        self.lines.push(line);
    }

    fn literals(&mut self, lits: &[Lit]) -> Vec<ProofLiteral> {
        let numbers = lits.iter().map(|lit| {
            let number = self.number(lit.var());
            if *lit == Lit::is(lit.var()) {
                number
            } else {
                -number
            }
        });
        numbers.collect()
    }

    /// The number of a variable; what stands for a release is introduced where it comes first.
    fn number(&mut self, var: Var) -> ProofLiteral {
        if let Some(number) = self.numbers.get(&var) {
            return *number;
        }
        let number = self.new_number(var);
        if var < self.model.vars() {
            let candidate = self.model.candidate(var);
            self.lines.push(ProofLine::Release {
                number,
                id: self.model.component_of(var).id.clone(),
                version: candidate.map(|it| it.facts.version.to_string()),
                offer: candidate.and_then(|it| it.offer),
            });
        }
        number
    }

    fn new_number(&mut self, var: Var) -> ProofLiteral {
        let number = self.numbers.len() as ProofLiteral + 1;
        *self.numbers.entry(var).or_insert(number)
    }
}
