use super::*;
use proptest::prelude::*;

fn pack(pieces: &[(u8, u64)], retired_h: Option<u64>) -> Pack<u8> {
    Pack {
        pieces: pieces.to_vec(),
        retired: retired_h.map(|hours| Duration::from_secs(hours * 3600)),
    }
}

#[test]
fn what_is_to_be_done() {
    let packs = [
        // All of it is needed.
        pack(&[(1, 10), (2, 10)], None),
        // Half of it is not.
        pack(&[(3, 10), (4, 10)], None),
        // Too little of it is not to be worth the work.
        pack(&[(5, 99), (6, 1)], None),
        // What the first one has as well.
        pack(&[(1, 10)], None),
        // Retired just now, with something that a page needs all the same.
        pack(&[(7, 10), (8, 10)], Some(1)),
        // Retired long ago.
        pack(&[(2, 10), (9, 10)], Some(24)),
        // Nothing at all.
        pack(&[], None),
    ];
    let live = BTreeSet::from([1, 2, 3, 5, 7]);
    assert_eq!(
        chores(&packs, &live, 5),
        Chores {
            move_on: BTreeMap::from([(3, 1), (7, 4)]),
            retire: vec![1, 3],
            delete: vec![5],
        }
    );
    // Where every byte counts.
    assert_eq!(chores(&packs, &live, u64::MAX).retire, [1, 2, 3]);
}

/// What somebody does with the store, a step at a time; he may be killed between any two.
#[derive(Debug, Clone)]
enum Actor {
    /// Backs up what has these pieces.
    Writer {
        needs: BTreeSet<u8>,
        began: u64,
        known: Option<BTreeSet<u8>>,
        stored: bool,
    },
    /// Deletes a page, and what that was in need of alone.
    Thinner {
        began: u64,
        seen: Option<(Vec<u64>, Chores<u8>)>,
        moved: bool,
        retired: usize,
        deleted: usize,
    },
}

/// A store, with the hour that its clock shows.
#[derive(Debug, Default)]
struct World {
    hour: u64,
    next: u64,
    /// By their names: pieces, and when each was retired.
    packs: BTreeMap<u64, (BTreeSet<u8>, Option<u64>)>,
    pages: Vec<BTreeSet<u8>>,
}

impl World {
    fn add(&mut self, pieces: BTreeSet<u8>) {
        if !pieces.is_empty() {
            // Names are drawn: what is new need not come last.
            let name = self.next.wrapping_mul(0x9e37_79b9_7f4a_7c15);
            self.next += 1;
            self.packs.insert(name, (pieces, None));
        }
    }

    fn seen(&self) -> (Vec<u64>, Vec<Pack<u8>>) {
        let hours = |since: u64| Duration::from_secs((self.hour - since) * 3600);
        let names = self.packs.keys().copied().collect();
        let packs = self.packs.values().map(|(pieces, retired)| Pack {
            pieces: pieces.iter().map(|piece| (*piece, 1)).collect(),
            retired: retired.map(hours),
        });
        (names, packs.collect())
    }

    /// Does an actor's next step; whether there was one.
    fn step(&mut self, actor: &mut Actor) -> bool {
        let longest = LONGEST.as_secs() / 3600;
        match actor {
            Actor::Writer {
                needs,
                began,
                known,
                stored,
            } => match known {
                None => {
                    *began = self.hour;
                    let in_use = self.packs.values().filter(|(_, retired)| retired.is_none());
                    *known = Some(in_use.flat_map(|(pieces, _)| pieces).copied().collect());
                    true
                }
                Some(known) if !*stored => {
                    *stored = true;
                    self.add(needs.difference(known).copied().collect());
                    true
                }
                Some(_) if self.hour - *began > longest => false,
                Some(_) => {
                    self.pages.push(needs.clone());
                    false
                }
            },
            Actor::Thinner {
                began,
                seen,
                moved,
                retired,
                deleted,
            } => {
                let Some((names, chores)) = seen else {
                    *began = self.hour;
                    if !self.pages.is_empty() {
                        self.pages.remove(0);
                    }
                    let (names, packs) = self.seen();
                    let live = self.pages.iter().flatten().copied().collect();
                    *seen = Some((names, super::chores(&packs, &live, 2)));
                    return true;
                };
                if self.hour - *began > longest {
                    return false;
                }
                if !*moved {
                    *moved = true;
                    let there = |from: &usize| self.packs.contains_key(&names[*from]);
                    // What is gone meanwhile cannot be read: the rest is left for another time.
                    if !chores.move_on.values().all(there) {
                        return false;
                    }
                    self.add(chores.move_on.keys().copied().collect());
                } else if let Some(number) = chores.retire.get(*retired) {
                    *retired += 1;
                    let hour = self.hour;
                    if let Some((_, since)) = self.packs.get_mut(&names[*number]) {
                        since.get_or_insert(hour);
                    }
                } else if let Some(number) = chores.delete.get(*deleted) {
                    *deleted += 1;
                    self.packs.remove(&names[*number]);
                } else {
                    return false;
                }
                true
            }
        }
    }
}

fn actor() -> impl Strategy<Value = Actor> {
    let writer = prop::collection::btree_set(0u8..4, 1..3).prop_map(|needs| Actor::Writer {
        needs,
        began: 0,
        known: None,
        stored: false,
    });
    prop_oneof![
        3 => writer,
        2 => Just(Actor::Thinner {
            began: 0,
            seen: None,
            moved: false,
            retired: 0,
            deleted: 0,
        })
    ]
}

/// Most steps follow at once; some only after hours.
fn hours() -> impl Strategy<Value = u64> {
    prop_oneof![6 => Just(0u64), 3 => 1u64..9]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3_000))]

    /// Whoever is at work with whom, however slow, and wherever he is killed: what a page needs is there.
    #[test]
    fn nothing_that_a_page_needs_is_lost(
        actors in prop::collection::vec(actor(), 8..40),
        turns in prop::collection::vec((any::<prop::sample::Index>(), hours(), 0u8..40), 40..300),
    ) {
        let mut world = World::default();
        let mut at_work: Vec<Actor> = Vec::new();
        let mut waiting = actors.into_iter();
        for (who, hours, chance) in turns {
            if chance < 12 || at_work.is_empty() {
                at_work.extend(waiting.next());
            }
            if at_work.is_empty() {
                break;
            }
            let number = who.index(at_work.len());
            let goes_on = world.step(&mut at_work[number]);
            if !goes_on || chance == 39 {
                at_work.remove(number);
            }
            let there: BTreeSet<u8> =
                world.packs.values().flat_map(|(pieces, _)| pieces).copied().collect();
            for page in &world.pages {
                prop_assert!(page.is_subset(&there), "{page:?} of {there:?}: {world:?}");
            }
            world.hour += hours;
        }
    }
}
