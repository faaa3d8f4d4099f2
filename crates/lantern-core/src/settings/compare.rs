//! My settings against a sample that its author ships: value by value, and what is taken from it.

use super::rewrite::{From, Value, Wanted, rewritten};
use super::verdict::{Verdict, judged};
use super::{Contents, Entry, Key, Manner, Notation, SettingsFault, contents, set};
use foldhash::{HashMap, HashSet, HashSetExt};

/// How a value of mine stands to the sample's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// Both say the same.
    Same,
    /// I have another value, and the sample's has not changed.
    Yours,
    /// The sample has another value than before, and I never changed mine.
    Changed,
    /// Both have changed.
    Both,
    /// The sample has a value that I have not.
    New,
    /// I have a value that the sample does not have, and did not have before.
    Own,
    /// The sample has a value no more.
    Gone,
    /// They differ; as nobody knows what the sample said before, there is no saying who changed it.
    Differs,
}

/// A value of mine, of the sample before and of the sample now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Compared {
    /// Its key.
    pub key: Key,
    /// Whether it is a secret: then the three are none.
    pub is_secret: bool,
    /// What I have; none where I have none.
    pub mine: Option<String>,
    /// What the sample said before; none where it did not, or nobody knows.
    pub before: Option<String>,
    /// What it says now.
    pub now: Option<String>,
    /// How they stand to one another.
    pub standing: Standing,
}

fn by_key<'t>(contents: &'t Contents, text: &'t str) -> HashMap<&'t Key, Value<'t>> {
    let entries = contents.entries.iter();
    entries
        .map(|entry| (&entry.key, Value::of(entry, text)))
        .collect()
}

/// Compares settings with a sample, in the order of the sample and then of mine.
///
/// # Errors
/// When one of the texts cannot be read in the notation.
pub fn compare(
    manner: &Manner,
    notation: &Notation,
    mine: &str,
    before: Option<&str>,
    now: &str,
) -> Result<Vec<Compared>, SettingsFault> {
    let (own, new) = (contents(notation, mine)?, contents(notation, now)?);
    let was = before
        .map(|before| contents(notation, before))
        .transpose()?;
    let of_mine = by_key(&own, mine);
    let of_now = by_key(&new, now);
    let of_before = was
        .as_ref()
        .zip(before)
        .map(|(was, text)| by_key(was, text));
    let only_mine = own
        .entries
        .iter()
        .filter(|entry| !of_now.contains_key(&entry.key));
    let keys = new.entries.iter().chain(only_mine).map(|entry| &entry.key);
    let mut seen = HashSet::new();
    let keys = keys.filter(|key| seen.insert(*key));
    let compared = keys.map(|key| {
        let (mine, now) = (of_mine.get(key), of_now.get(key));
        let before = of_before.as_ref().map(|values| values.get(key));
        let standing = match (mine, now, before) {
            _ if mine == now => Standing::Same,
            (None, Some(_), Some(None) | None) => Standing::New,
            (Some(_), None, Some(None) | None) => Standing::Own,
            (_, _, None) => Standing::Differs,
            (_, _, Some(before)) => match judged(before, mine, now) {
                Verdict::Mine => Standing::Yours,
                Verdict::Follows => Standing::Changed,
                Verdict::Comes => Standing::New,
                Verdict::Goes => Standing::Gone,
                Verdict::Clash => Standing::Both,
            },
        };
        let is_secret = manner.is_secret(key);
        let said =
            |value: Option<&Value<'_>>| value.filter(|_| !is_secret).map(|it| it.says.to_owned());
        Compared {
            key: key.clone(),
            is_secret,
            mine: said(mine),
            before: said(before.flatten()),
            now: said(now),
            standing,
        }
    });
    Ok(compared.collect())
}

/// My text with some values as the sample has them: new ones with their remarks, in their place; what the sample does not have
/// goes. All else stays, byte for byte.
///
/// # Errors
/// When one of the texts cannot be read, neither has such a key, or what comes of it would say something else.
pub fn take(
    notation: &Notation,
    mine: &str,
    sample: &str,
    keys: &[Key],
) -> Result<String, SettingsFault> {
    let (own, donor) = (contents(notation, mine)?, contents(notation, sample)?);
    let of_sample = by_key(&donor, sample);
    let mut wanted: Wanted<'_> = by_key(&own, mine);
    for key in keys {
        match of_sample.get(key) {
            Some(value) => {
                wanted.insert(key, value.clone());
            }
            None if wanted.remove(key).is_none() => {
                return Err(SettingsFault::NoKey(key.clone()));
            }
            None => {}
        }
    }
    let twice = twice(&own.entries);
    wanted.retain(|key, _| !twice.contains(key));
    let from = From {
        text: sample,
        contents: &donor,
        before: None,
    };
    if let Some(text) = rewritten(notation, mine, &wanted, &twice, from) {
        return Ok(text);
    }
    // One by one it can be told which of them it is that cannot be set.
    keys.iter()
        .try_fold(mine.to_owned(), |text, key| match of_sample.get(key) {
            Some(value) => set(notation, &text, key, value.says),
            None => Err(SettingsFault::NotHeld(key.clone())),
        })
}

fn twice(entries: &[Entry]) -> HashSet<&Key> {
    let mut seen = HashSet::new();
    let again = entries.iter().filter(|entry| !seen.insert(&entry.key));
    again.map(|entry| &entry.key).collect()
}
