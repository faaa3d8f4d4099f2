//! Three texts, one answer: what its author has made of a text since, with what I have made of it.
//!
//! By lines first, so that remarks and order follow where nobody but the author touched them; then by keys, so that each
//! value is what was decided for it. What comes of it is read again, and has to hold every one.

use super::blocks::{Stretch, stretches};
use super::rewrite::{From, Value, Wanted, rewritten};
use super::rows::{Row, Rows};
use super::verdict::{Verdict, judged};
use super::{Contents, Form, Key, Manner, Notation, contents, items, lines, set};
use crate::text::Text;
use foldhash::{HashSet, HashSetExt};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::ops::Range;

/// Of more new keys it is not looked which old one each may be.
const MOST_LIKELY: usize = 100;

/// A text in three states.
#[derive(Debug, Clone, Copy)]
pub struct Three<'t> {
    /// As it was shipped, and as both others come from.
    pub before: &'t Text,
    /// As I have it.
    pub mine: &'t Text,
    /// As it is shipped now.
    pub now: &'t Text,
}

/// What is decided.
#[derive(Debug, Clone, Copy)]
pub struct Answers<'a> {
    /// By the ids of questions.
    pub known: &'a BTreeMap<String, Answer>,
    /// Of all others.
    pub otherwise: Option<&'a Answer>,
}

impl Answers<'_> {
    fn of(&self, id: &str) -> Option<Answer> {
        self.known.get(id).or(self.otherwise).cloned()
    }
}

/// What is decided for a question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// As I have it.
    Mine,
    /// As it is shipped now.
    Theirs,
    /// This value.
    Value(String),
    /// The whole text so.
    Text(Text),
}

/// What a question is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    /// A value.
    Value(Key),
    /// Lines.
    Block,
    /// The whole file.
    Whole,
}

/// Something that both hands have changed, each in another way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// The same for the same file and key, or lines, and the same two answers.
    pub id: String,
    /// What it is about.
    pub subject: Subject,
    /// Whether it is a secret: then the three texts are none.
    pub is_secret: bool,
    /// As it was shipped before; none where it was not there, and so for the others.
    pub before: Option<String>,
    /// As I have it.
    pub mine: Option<String>,
    /// As it is shipped now.
    pub theirs: Option<String>,
    /// The lines, from 1, where it stands in the three texts: before, mine, now.
    pub lines: [Option<usize>; 3],
    /// What was decided.
    pub answer: Option<Answer>,
}

impl Question {
    /// Whether nothing can be done before it is decided: of a value, mine stays until then.
    pub fn is_open(&self) -> bool {
        self.answer.is_none() && !matches!(self.subject, Subject::Value(_))
    }
}

/// What should be known besides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Told {
    /// I had changed a value that is there no more.
    Gone {
        /// Its key.
        key: Key,
        /// What it said; none of a secret.
        mine: Option<String>,
        /// A new key that may be the same by another name.
        likely: Option<Key>,
    },
    /// A value is under another name by now.
    Renamed {
        /// The old name.
        from: Key,
        /// The new one.
        to: Key,
    },
    /// The value that was decided cannot stand there.
    NotHeld {
        /// Its key.
        key: Key,
    },
    /// A secret would be under another name by now, and was left where it is.
    SecretStays {
        /// The old name.
        from: Key,
        /// The new one.
        to: Key,
    },
}

/// How many of each: of values, or of places where lines changed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Counts {
    /// Whether places in the text were counted, and not values.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub places: bool,
    /// Mine, and other than what is shipped now.
    pub kept: usize,
    /// Those that come.
    pub new: usize,
    /// Those that follow what its author has changed.
    pub followed: usize,
    /// Those that go.
    pub gone: usize,
    /// Those that both have changed, and nobody has decided.
    pub conflicts: usize,
}

/// What comes of three texts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Merge {
    /// The text. Where something is undecided, mine stands there.
    pub text: Text,
    /// How many of each.
    pub counts: Counts,
    /// What should be known besides.
    pub told: Vec<Told>,
    /// What both have changed, decided or not.
    pub questions: Vec<Question>,
}

/// The question that a whole text is, by its path, as I have it and as it is shipped now.
pub fn whole_id(path: &str, mine: &Text, now: &Text) -> String {
    id_of(path, "the whole", &[mine.as_str(), now.as_str()])
}

fn id_of(path: &str, what: &str, texts: &[&str]) -> String {
    let mut hasher = blake3::Hasher::new();
    for part in [path, what].iter().chain(texts) {
        hasher.update(part.as_bytes());
        hasher.update(&[0]);
    }
    hasher.finalize().to_hex()[..8].to_owned()
}

/// What its author has made of the text at `path` since, with what I have made of it.
///
/// Mine keeps its encoding and its line ends. Mine as it was shipped gives what is shipped now, and what is shipped now as it
/// was before gives mine, byte for byte.
pub fn merge(path: &str, manner: &Manner, three: Three<'_>, answers: Answers<'_>) -> Merge {
    let plain = |text: &Text| Merge {
        text: text.clone(),
        counts: Counts::default(),
        told: Vec::new(),
        questions: Vec::new(),
    };
    if three.mine == three.before {
        return plain(three.now);
    }
    if three.mine == three.now {
        return plain(three.mine);
    }
    let whole = whole_id(path, three.mine, three.now);
    match answers.known.get(&whole) {
        Some(Answer::Text(text)) => return plain(text),
        Some(Answer::Theirs) => return plain(three.now),
        _ => {}
    }
    let mine = three.mine.as_str();
    let (before, now) = (
        with_ends(three.before.as_str(), mine),
        with_ends(three.now.as_str(), mine),
    );
    let merging = Merging {
        path,
        manner,
        texts: [&before, mine, &now],
        answers,
    };
    let (text, mut merge) = merging.merged();
    match text.and_then(|text| three.mine.with(text)) {
        Some(text) => Merge { text, ..merge },
        None => {
            let decided = answers.of(&whole);
            if decided == Some(Answer::Theirs) {
                return plain(three.now);
            }
            let decided = decided.filter(|answer| *answer == Answer::Mine);
            merge.counts = Counts {
                conflicts: usize::from(decided.is_none()),
                ..Counts::default()
            };
            merge.questions = vec![Question {
                id: whole,
                subject: Subject::Whole,
                is_secret: false,
                before: None,
                mine: None,
                theirs: None,
                lines: [Some(1); 3],
                answer: decided,
            }];
            Merge {
                text: three.mine.clone(),
                ..merge
            }
        }
    }
}

/// A text with the line ends of another one, where each has only one kind.
fn with_ends<'t>(text: &'t str, of: &str) -> Cow<'t, str> {
    let all = |text: &str| text.matches('\n').count();
    let long = |text: &str| match text.as_bytes().contains(&b'\r') {
        true => text.matches("\r\n").count(),
        false => 0,
    };
    let (here, there) = (long(text), long(of));
    if here == 0 && there > 0 && there == all(of) {
        return text.replace('\n', "\r\n").into();
    }
    if here > 0 && here == all(text) && there == 0 {
        return text.replace("\r\n", "\n").into();
    }
    text.into()
}

struct Merging<'t> {
    path: &'t str,
    manner: &'t Manner,
    /// Before, mine, now.
    texts: [&'t str; 3],
    answers: Answers<'t>,
}

/// The values of three texts, in a notation that all three are in.
struct Values<'t> {
    notation: &'t Notation,
    contents: &'t [Contents; 3],
    rows: Rows<'t>,
}

/// What lines come to.
struct ByLines<'t> {
    /// The text; where both hands meet, mine or what was decided.
    joined: String,
    /// What lines alone decide.
    questions: Vec<Question>,
    /// How many places there are of each.
    places: Counts,
    /// Keys that are decided with the lines in which they stand.
    left: HashSet<&'t Key>,
}

/// What is decided for each value.
#[derive(Default)]
struct Decided<'t> {
    /// What the text is to say.
    wanted: Vec<(&'t Key, Value<'t>)>,
    /// Lists that are put together item by item.
    lists: Vec<(&'t Key, Form, String)>,
    /// Values that somebody gave.
    given: Vec<(&'t Key, String)>,
    /// Keys that go though I had changed their values.
    gone: Vec<&'t Key>,
    /// Keys that come.
    comes: Vec<&'t Key>,
}

impl Merging<'_> {
    /// The text that comes of it, where one does; and all else that is to be said.
    fn merged(&self) -> (Option<String>, Merge) {
        let read = self.manner.notation.as_ref().and_then(|notation| {
            let [before, mine, now] = self.texts.map(|text| contents(notation, text).ok());
            Some((notation, [before?, mine?, now?]))
        });
        let values = read.as_ref().and_then(|(notation, contents)| {
            let rows = Rows::of(self.texts, contents);
            let usable = rows.twice.is_empty() || !notation.is_whole();
            usable.then_some(Values {
                notation,
                contents,
                rows,
            })
        });
        let lines = self.by_lines(values.as_ref());
        let mut merge = Merge {
            text: Text::read(&[]),
            counts: Counts::default(),
            told: Vec::new(),
            questions: lines.questions,
        };
        let Some(values) = values else {
            merge.counts = lines.places;
            let reads = |(notation, _): &(&Notation, _)| contents(notation, &lines.joined).is_ok();
            let fits = read.as_ref().is_none_or(reads);
            return (fits.then_some(lines.joined), merge);
        };
        let mut left = lines.left;
        left.extend(&values.rows.twice);
        let is_whole = values.notation.is_whole();
        let is_code = *values.notation == Notation::Assignments;
        let text = self.with_values(values, &lines.joined, &left, &mut merge);
        if is_code || !is_whole && merge.counts == Counts::default() {
            merge.counts = Counts {
                conflicts: merge.counts.conflicts,
                ..lines.places
            };
        }
        (text, merge)
    }

    /// Goes along the lines of the three texts.
    fn by_lines<'v>(&self, values: Option<&Values<'v>>) -> ByLines<'v> {
        let split = self
            .texts
            .map(|text| text.split('\n').collect::<Vec<&str>>());
        let [before, mine, now] = &split;
        let stretches = stretches(before, mine, now);
        let mut questions = Vec::new();
        let mut left: HashSet<&Key> = HashSet::new();
        let mut joined: Vec<&str> = Vec::with_capacity(mine.len());
        for stretch in &stretches {
            let (was, own, new) = match stretch {
                Stretch::Same(lines) => {
                    joined.extend(&before[lines.clone()]);
                    continue;
                }
                Stretch::Mine(lines) => {
                    joined.extend(&mine[lines.clone()]);
                    continue;
                }
                Stretch::Theirs(lines) => {
                    joined.extend(&now[lines.clone()]);
                    continue;
                }
                Stretch::Clash { before, mine, now } => (before, mine, now),
            };
            let three = [&before[was.clone()], &mine[own.clone()], &now[new.clone()]];
            // Lines that say values, above and below, are decided by their keys.
            let (above, below) = plain_ends(values.map(|values| values.notation), three);
            let core = [0, 1, 2].map(|at| &three[at][above[at]..three[at].len() - below[at]]);
            joined.extend(&three[1][..above[1]]);
            if core[1] == core[0] {
                joined.extend(core[2]);
            } else if core[2] == core[0] || core[1] == core[2] {
                joined.extend(core[1]);
            } else {
                let at = [was, own, new];
                let lines = [0, 1, 2].map(|number| {
                    let start = at[number].start + above[number];
                    start..start + core[number].len()
                });
                let question = self.block(core, &lines);
                let theirs = question.answer == Some(Answer::Theirs);
                joined.extend(if theirs { core[2] } else { core[1] });
                questions.push(question);
                left.extend(values.iter().flat_map(|values| values.rows.keys_in(&lines)));
            }
            joined.extend(&three[1][three[1].len() - below[1]..]);
        }
        ByLines {
            joined: joined.join("\n"),
            places: of_places(&stretches, &questions),
            questions,
            left,
        }
    }

    /// The question that lines are which both have changed.
    fn block(&self, three: [&[&str]; 3], at: &[Range<usize>; 3]) -> Question {
        let whole = three.map(|lines| lines.join("\n"));
        let id = id_of(self.path, &whole[0], &[&whole[1], &whole[2]]);
        let shown = |lines: &[&str]| {
            let lines = lines.iter().map(|line| self.manner.hidden(line));
            Some(lines.collect::<Vec<_>>().join("\n"))
        };
        let answer = self.answers.of(&id);
        Question {
            id,
            subject: Subject::Block,
            is_secret: false,
            before: shown(three[0]),
            mine: shown(three[1]),
            theirs: shown(three[2]),
            lines: at.each_ref().map(|lines| Some(lines.start + 1)),
            answer: answer.filter(|answer| matches!(answer, Answer::Mine | Answer::Theirs)),
        }
    }

    /// Brings a text to what is decided for each value; none where it cannot be made to hold that.
    fn with_values(
        &self,
        mut values: Values<'_>,
        joined: &str,
        left: &HashSet<&Key>,
        merge: &mut Merge,
    ) -> Option<String> {
        let stays = self.rename(&mut values.rows, merge);
        let decided = self.decide(&values, left, &stays, merge);
        for key in &decided.gone {
            let row = values.rows.get(key);
            let said = |side: usize| row.and_then(|row| row.three[side].as_ref());
            let likely = likely(key, said(0), &decided.comes, &values.rows);
            let mine = said(1).filter(|_| !self.manner.is_secret(key));
            merge.told.push(Told::Gone {
                key: (*key).clone(),
                mine: mine.map(|value| value.says.to_owned()),
                likely: likely.cloned(),
            });
        }
        let mut wanted: Wanted<'_> = decided.wanted.into_iter().collect();
        wanted.extend(decided.lists.iter().map(|(key, form, list)| {
            let value = Value {
                says: list,
                form: *form,
                raw: list,
            };
            (*key, value)
        }));
        let notation = values.notation;
        let from = From {
            text: self.texts[2],
            contents: &values.contents[2],
            before: Some((self.texts[0], &values.contents[0])),
        };
        let made = rewritten(notation, joined, &wanted, left, from);
        // Where lines put values into the wrong places, mine is where it begins.
        let made = made.or_else(|| {
            let of_value = |it: &Question| matches!(it.subject, Subject::Value(_));
            let from_mine = merge.questions.iter().all(of_value);
            from_mine.then(|| rewritten(notation, self.texts[1], &wanted, left, from))?
        })?;
        let mut text = made;
        for (key, value) in decided.given {
            match set(notation, &text, key, &value) {
                Ok(new) => text = new,
                Err(_) => self.unanswer(key, merge),
            }
        }
        Some(text)
    }

    /// A value that cannot stand there is no answer: mine stays, and the question.
    fn unanswer(&self, key: &Key, merge: &mut Merge) {
        let is_it = |question: &&mut Question| question.subject == Subject::Value(key.clone());
        if let Some(question) = merge.questions.iter_mut().find(is_it) {
            question.answer = None;
            merge.counts.conflicts += 1;
            merge.told.push(Told::NotHeld { key: key.clone() });
        }
    }

    /// Decides each value that is not left to the lines; those of `stays` stay mine.
    fn decide<'v>(
        &self,
        values: &Values<'v>,
        left: &HashSet<&Key>,
        stays: &[&Key],
        merge: &mut Merge,
    ) -> Decided<'v> {
        let mut decided = Decided::default();
        let counts = &mut merge.counts;
        let rows = values.rows.rows.iter();
        for row in rows.filter(|row| !left.contains(row.key)) {
            let key = row.key;
            let [before, mine, now] = row.three.each_ref().map(Option::as_ref);
            let verdict = match stays.contains(&key) {
                true => Verdict::Mine,
                false => judged(before, mine, now),
            };
            let take = match verdict {
                Verdict::Mine => {
                    counts.kept += usize::from(mine != now);
                    mine
                }
                Verdict::Follows => {
                    counts.followed += usize::from(now.is_some());
                    now
                }
                Verdict::Comes => {
                    counts.new += 1;
                    decided.comes.push(key);
                    now
                }
                Verdict::Goes => {
                    counts.gone += 1;
                    if mine != before {
                        decided.gone.push(key);
                    }
                    now
                }
                Verdict::Clash => {
                    if let Some((form, list)) = self.list(values, row) {
                        counts.kept += 1;
                        decided.lists.push((key, form, list));
                        continue;
                    }
                    let mut question = self.question(values, row);
                    let take = match &question.answer {
                        Some(Answer::Theirs) => now,
                        Some(Answer::Value(value)) => {
                            decided.given.push((key, value.clone()));
                            mine.or(now)
                        }
                        Some(Answer::Mine) => mine,
                        _ => {
                            question.answer = None;
                            counts.conflicts += 1;
                            mine
                        }
                    };
                    merge.questions.push(question);
                    take
                }
            };
            decided
                .wanted
                .extend(take.map(|value| (key, value.clone())));
        }
        counts.conflicts += merge.questions.iter().filter(|it| it.is_open()).count();
        decided
    }

    /// A list that both have changed, put together item by item, where the order of its items has no meaning.
    fn list(&self, values: &Values<'_>, row: &Row<'_>) -> Option<(Form, String)> {
        let [Some(before), Some(mine), Some(now)] = &row.three else {
            return None;
        };
        if !self.manner.any_order.contains(row.key) {
            return None;
        }
        let list = items::merged(values.notation, before.raw, mine.raw, now.raw)?;
        Some((mine.form, list))
    }

    /// What stands under an old name is looked at under the new one; returns old ones that stay, as they are secrets.
    fn rename<'v>(&self, rows: &mut Rows<'v>, merge: &mut Merge) -> Vec<&'v Key> {
        let mut stays = Vec::new();
        for (to, from) in &self.manner.was {
            let (Some(new), Some(old)) = (rows.get(to), rows.get(from)) else {
                continue;
            };
            let is_so = matches!(new.three, [None, None, Some(_)])
                && matches!(old.three, [_, Some(_), None]);
            if !is_so {
                continue;
            }
            if self.manner.is_secret(from) || self.manner.is_secret(to) {
                if old.three[0] != old.three[1] {
                    stays.push(old.key);
                    merge.told.push(Told::SecretStays {
                        from: from.clone(),
                        to: to.clone(),
                    });
                }
                continue;
            }
            rows.rename(from, to);
            merge.told.push(Told::Renamed {
                from: from.clone(),
                to: to.clone(),
            });
        }
        stays
    }

    fn question(&self, values: &Values<'_>, row: &Row<'_>) -> Question {
        let is_secret = self.manner.is_secret(row.key);
        let raw = |value: &Option<Value<'_>>| value.as_ref().map(|value| value.raw.to_owned());
        let [before, mine, theirs] = row.three.each_ref().map(raw);
        let said = |text: &Option<String>| text.clone().unwrap_or_else(|| "\u{0}missing".into());
        let own = if is_secret {
            String::new()
        } else {
            said(&mine)
        };
        let id = id_of(self.path, &row.key.to_string(), &[&own, &said(&theirs)]);
        let shown = |text: Option<String>| text.filter(|_| !is_secret);
        Question {
            answer: self.answers.of(&id),
            id,
            subject: Subject::Value(row.key.clone()),
            is_secret,
            before: shown(before),
            mine: shown(mine),
            theirs: shown(theirs),
            lines: values.rows.lines_of(row),
        }
    }
}

/// How many lines of each of three say values, or nothing: from the top on, and then from the end.
fn plain_ends(notation: Option<&Notation>, three: [&[&str]; 3]) -> ([usize; 3], [usize; 3]) {
    let is_plain =
        |line: &&&str| notation.is_some_and(|it| it.is_whole() || lines::is_plain(it, line));
    let above = three.map(|lines| lines.iter().take_while(is_plain).count());
    let below = [0, 1, 2].map(|side| {
        let rest = &three[side][above[side]..];
        rest.iter().rev().take_while(is_plain).count()
    });
    (above, below)
}

/// The one new key that may be another name of one that went: beside it, or with the same last name, and as it was shipped before.
fn likely<'k>(
    key: &Key,
    was: Option<&Value<'_>>,
    comes: &[&'k Key],
    rows: &Rows<'_>,
) -> Option<&'k Key> {
    if comes.len() > MOST_LIKELY {
        return None;
    }
    let (above, name) = key.split();
    let mut those = comes.iter().filter(|new_key| {
        let (beside, last) = new_key.split();
        (beside == above || last == name)
            && was.is_some()
            && rows.get(new_key).and_then(|row| row.three[2].as_ref()) == was
    });
    let first = those.next()?;
    those.next().is_none().then_some(*first)
}

fn of_places(stretches: &[Stretch], questions: &[Question]) -> Counts {
    let of = |is: fn(&Stretch) -> bool| stretches.iter().filter(|stretch| is(stretch)).count();
    let answered = |answer| {
        let those = questions.iter().filter_map(|it| it.answer.as_ref());
        those.filter(|it| **it == answer).count()
    };
    Counts {
        places: true,
        kept: of(|it| matches!(it, Stretch::Mine(_))) + answered(Answer::Mine),
        followed: of(|it| matches!(it, Stretch::Theirs(_))) + answered(Answer::Theirs),
        conflicts: questions.iter().filter(|it| it.is_open()).count(),
        ..Counts::default()
    }
}
