//! Made-up settings files of any size.

use lantern_core::settings::Notation;

/// A text as it was shipped, as it is, and as it is shipped now.
pub fn texts(notation: &Notation, keys: usize, changed: usize, remarks: bool) -> [String; 3] {
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
