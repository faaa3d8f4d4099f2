//! Need lists: one id in the place of another, in whatever notation they are written.

use super::{Described, Found, Subject, read};
use crate::component::{Id, Need};
use crate::facts::Reading;
use thin_vec::ThinVec;

/// So many places are tried.
const MOST: usize = 64;

/// The text of a descriptor file in which a component needs another one instead of the one that it named.
///
/// Each place in which the old id stands is tried: what comes of it is read by the same rules, and has to say just that and
/// nothing else. Where the new one is needed already, the old one goes. None where it cannot be done so.
///
/// `found` are all descriptor files as they are, and `file` is the one that is changed, as an index into them.
pub fn needing(
    subject: &Subject<'_>,
    found: &[Found],
    file: usize,
    old: &Id,
    new: &Id,
) -> Option<String> {
    let mut reading = Reading::new(&subject.family.versions);
    let now = read(subject, found, &mut reading).ok()?;
    let text = &found[file].text;
    let wanted = wanted(&now.facts.needs, old, new);
    let mut is_wanted = |text: &str| {
        let mut changed = found.to_vec();
        // One file may be found under several rules.
        let (name, was) = (&found[file].name, &found[file].text);
        for other in changed
            .iter_mut()
            .filter(|it| it.name == *name && it.text == *was)
        {
            other.text = text.to_owned();
        }
        read(subject, &changed, &mut reading).is_ok_and(|then| is_only_that(&now, &then, &wanted))
    };
    let has_new = now.facts.needs.iter().any(|need| need.id == *new);
    let places = places(text, old.as_str()).take(MOST);
    for at in places {
        let (before, after) = (&text[..at], &text[at + old.as_str().len()..]);
        let tries = match has_new {
            false => vec![format!("{before}{new}{after}")],
            true => without(before, after),
        };
        if let Some(changed) = tries.into_iter().find(|text| is_wanted(text)) {
            return Some(changed);
        }
    }
    None
}

/// The needs with one id in the place of another, or without it where that is needed already.
fn wanted(needs: &[Need], old: &Id, new: &Id) -> ThinVec<Need> {
    let has_new = needs.iter().any(|need| need.id == *new);
    let kept = needs.iter().filter(|need| need.id != *old || !has_new);
    let renamed = kept.map(|need| match need.id == *old {
        true => Need {
            id: new.clone(),
            range: need.range.clone(),
        },
        false => need.clone(),
    });
    renamed.collect()
}

fn is_only_that(now: &Described, then: &Described, wanted: &[Need]) -> bool {
    let mut facts = then.facts.clone();
    let needs = std::mem::replace(&mut facts.needs, now.facts.needs.clone());
    let named = |needs: &[Need]| {
        let mut named: Vec<String> = needs
            .iter()
            .map(|it| format!("{} {:?}", it.id, it.range))
            .collect();
        named.sort_unstable();
        named
    };
    named(&needs) == named(wanted) && facts == now.facts && then.holdings == now.holdings
}

/// Where an id stands as a word of its own, in whatever case.
fn places<'t>(text: &'t str, id: &'t str) -> impl Iterator<Item = usize> + 't {
    let lower = text.to_ascii_lowercase();
    let id = id.to_ascii_lowercase();
    let is_part = |c: char| c.is_alphanumeric() || "_-".contains(c);
    let mut from = 0;
    std::iter::from_fn(move || {
        while let Some(found) = lower[from..].find(&id) {
            let at = from + found;
            from = at + id.len().max(1);
            let before = lower[..at].chars().next_back();
            let after = lower[at + id.len()..].chars().next();
            if !before.is_some_and(is_part) && !after.is_some_and(is_part) {
                return Some(at);
            }
        }
        None
    })
}

/// A text without a word, in the ways in which a list leaves one out.
fn without(before: &str, after: &str) -> Vec<String> {
    let quotes = ['"', '\''];
    // The rest of the item, as a range behind the id, and the quotes around.
    let open = before.trim_end_matches(quotes);
    let stop = after.find(|c: char| quotes.contains(&c) || ",;}])\n".contains(c));
    let rest = &after[stop.unwrap_or(after.len())..];
    let rest = rest.strip_prefix(quotes).unwrap_or(rest);
    let line = before.rfind('\n').map_or(0, |at| at + 1);
    let end = after.find('\n').map_or(after.len(), |at| at + 1);
    let blanks = rest.trim_start_matches([' ', '\t']);
    let mut tries = Vec::new();
    // The whole line, where the item has it to itself.
    if before[line..].trim().trim_matches(quotes).is_empty() {
        tries.push(format!("{}{}", &before[..line], &after[end..]));
    }
    if let Some(behind) = blanks.strip_prefix([',', ';']) {
        tries.push(format!("{open}{}", behind.trim_start_matches([' ', '\t'])));
    }
    let ahead = open.trim_end();
    if let Some(ahead) = ahead.strip_suffix([',', ';']) {
        tries.push(format!("{ahead}{rest}"));
    }
    tries.push(format!("{open}{rest}"));
    tries
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::family::Family;

    /// A need list with one id in the place of another, in a file of a reader.
    fn needs(files: &str, fields: &str, name: &str, text: &str) -> Option<String> {
        let whole = crate::tree::tests::FAMILY;
        let top = &whole[..whole.find("[[reader]]").unwrap()];
        let reader = format!(
            "[[reader]]\nname = \"bed\"\nkind = \"addon\"\nshape = \"folder\"\nat = \"beds/*\"\nfiles = [{{ name = \"{name}\", {files} }}]\nfields = {{ {fields} }}\n"
        );
        let family = Family::parse(&format!("{top}\n{reader}")).unwrap();
        let subject = Subject {
            reader: &family.readers[0],
            family: &family,
            place: "beds/fern",
            content: "",
            archive: None,
        };
        let found = [Found {
            file: 0,
            name: name.into(),
            text: text.into(),
        }];
        needing(&subject, &found, 0, &Id::new("drip"), &Id::new("mist"))
    }

    #[test]
    fn it_is_followed_in_every_notation() {
        let split =
            "id = \"name\", version = \"version\", needs = { at = \"depends\", split = \",\" }";
        let list = "id = \"name\", version = \"version\", needs = \"needs\"";
        for (files, fields, name, text, becomes) in [
            (
                "notation = \"ini\"",
                split,
                "bed.conf",
                "name = drip-bed\nversion = 1\ndepends = moss, drip, fern\n",
                Some("name = drip-bed\nversion = 1\ndepends = moss, mist, fern\n"),
            ),
            // It is needed already: the old one goes.
            (
                "notation = \"ini\"",
                split,
                "bed.conf",
                "name = a\nversion = 1\ndepends = mist, drip\n",
                Some("name = a\nversion = 1\ndepends = mist\n"),
            ),
            (
                "notation = \"toml\"",
                list,
                "bed.toml",
                "# needs drip\nname = \"drip\"\nversion = \"1\"\n[needs]\nmoss = \">=1\"\ndrip = \">=1\" # water\n",
                Some(
                    "# needs drip\nname = \"drip\"\nversion = \"1\"\n[needs]\nmoss = \">=1\"\nmist = \">=1\" # water\n",
                ),
            ),
            (
                "notation = \"json\"",
                list,
                "bed.json",
                "{ \"name\": \"a\", \"version\": \"1\", \"needs\": [\"drip\", \"mist\"] }",
                Some("{ \"name\": \"a\", \"version\": \"1\", \"needs\": [\"mist\"] }"),
            ),
            (
                "notation = \"yaml\"",
                list,
                "bed.yml",
                "name: a\nversion: 1\nneeds:\n  - moss\n  - drip\n",
                Some("name: a\nversion: 1\nneeds:\n  - moss\n  - mist\n"),
            ),
            (
                "notation = \"script\"",
                list,
                "bed.man",
                "name 'a'\nversion '1'\n-- drip\nneeds {\n  'mist',\n  'drip', -- by night\n}\n",
                Some("name 'a'\nversion '1'\n-- drip\nneeds {\n  'mist',\n}\n"),
            ),
            (
                "notation = \"xml\"",
                "id = \"name\", version = \"version\", needs = \"needs\"",
                "bed.xml",
                "<bed version=\"1\"><name>a</name><needs>drip</needs><needs>moss</needs></bed>",
                Some(
                    "<bed version=\"1\"><name>a</name><needs>mist</needs><needs>moss</needs></bed>",
                ),
            ),
            // What it does not need, it does not name.
            (
                "notation = \"ini\"",
                split,
                "bed.conf",
                "name = a\nversion = 1\ndepends = drip-bed\n",
                None,
            ),
        ] {
            assert_eq!(
                needs(files, fields, name, text).as_deref(),
                becomes,
                "{text}"
            );
        }
    }
}
