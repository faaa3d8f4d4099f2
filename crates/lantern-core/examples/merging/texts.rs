//! Made-up settings files of any size.

use lantern_core::settings::{Answers, Manner, Merge, Notation, Three, merge};
use lantern_core::text::Text;
use std::collections::BTreeMap;

/// A settings file that both hands have changed.
pub struct File {
    manner: Manner,
    before: Text,
    mine: Text,
    now: Text,
}

impl File {
    pub fn new(notation: &Notation, keys: usize, changed: usize, remarks: bool) -> File {
        let texts = texts(notation, keys, changed, remarks);
        let [before, mine, now] = texts.map(|text| Text::read(text.as_bytes()));
        let manner = Manner {
            notation: Some(notation.clone()),
            ..Manner::default()
        };
        File {
            manner,
            before,
            mine,
            now,
        }
    }

    pub fn merged(&self) -> Merge {
        let three = Three {
            before: &self.before,
            mine: &self.mine,
            now: &self.now,
        };
        let known = BTreeMap::new();
        let answers = Answers {
            known: &known,
            otherwise: None,
        };
        merge("a", &self.manner, three, answers)
    }
}

/// A text as it was shipped, as it is, and as it is shipped now.
fn texts(notation: &Notation, keys: usize, changed: usize, remarks: bool) -> [String; 3] {
    let remark = match (notation, remarks) {
        (_, false) => "",
        (Notation::Json, _) => "  // what it is\n",
        (Notation::Xml, _) => "  <!-- what it is -->\n",
        _ => "# what it is\n",
    };
    let every = keys / changed.max(1);
    [0, 1, 2].map(|state| {
        let rows = (0..keys).filter_map(|at| {
            let is_mine = at % every == 1;
            let is_theirs = at % every == 3;
            if state == 2 && at % every == 5 {
                return None;
            }
            let value = match state {
                1 if is_mine => at + 1,
                2 if is_theirs => at + 2,
                _ => at,
            };
            let new = state == 2 && at % every == 7;
            let row = |key: String| match notation {
                Notation::Json => format!("{remark}  \"{key}\": {value}"),
                Notation::Yaml => format!("{remark}{key}: {value}"),
                Notation::Xml => format!("{remark}  <{key}>{value}</{key}>"),
                Notation::Assignments => format!("{remark}{key}={value}"),
                _ => format!("{remark}{key} = {value}"),
            };
            let mut rows = vec![row(format!("key_{at}"))];
            if new {
                rows.push(row(format!("new_{at}")));
            }
            Some(rows)
        });
        let rows: Vec<String> = rows.flatten().collect();
        match notation {
            Notation::Json => format!("{{\n{}\n}}\n", rows.join(",\n")),
            Notation::Xml => format!("<top>\n{}\n</top>\n", rows.join("\n")),
            _ => rows.join("\n") + "\n",
        }
    })
}
