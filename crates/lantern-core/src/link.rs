//! Links that lead to somewhere near them, as releases for some systems hold them: `bin/server` to `server-5.1`.
//!
//! A link holds nothing but the text of where it leads. In place of a hash a link has its [`mark`], which is that text, so
//! that all which compares, plans and remembers files by their hashes does so with links, and never takes one for a file.

use crate::path::RelPath;

/// What a mark begins with; no hash does.
const MARK: &str = "link:";

/// What stands for a link where a file has its hash.
pub fn mark(target: &str) -> String {
    format!("{MARK}{target}")
}

/// Where a link leads, by its mark; none where it is the hash of a file.
pub fn target(hash: &str) -> Option<&str> {
    hash.strip_prefix(MARK)
}

/// The path that a link at a path leads to; none where it leads out of the folder that paths are relative to, or to it.
///
/// `..` counts only at the beginning: behind a name it may lead elsewhere than it seems, where that name is a link.
pub fn leads_to(path: &RelPath, target: &str) -> Option<RelPath> {
    if target.starts_with('/') {
        return None;
    }
    let (mut folder, mut rest) = (path.folder(), target);
    loop {
        let (first, behind) = rest.split_once('/').unwrap_or((rest, ""));
        match first {
            ".." => folder = folder?.folder(),
            "." | "" if !rest.is_empty() => {}
            _ => break,
        }
        rest = behind;
    }
    match (folder, rest) {
        (folder, "") => folder,
        (None, rest) => RelPath::from_outside(rest).ok(),
        (Some(folder), rest) => RelPath::from_outside(&format!("{folder}/{rest}")).ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_is_no_hash_and_tells_where_it_leads() {
        assert_eq!(target(&mark("../a")), Some("../a"));
        assert_eq!(target(&blake3::hash(b"../a").to_hex()), None);
    }

    #[test]
    fn a_link_leads_to_somewhere_inside_or_nowhere() {
        let cases = [
            ("a/b/c", "d", Some("a/b/d")),
            ("a/b/c", "./d/./e", Some("a/b/d/e")),
            ("a/b/c", "../d", Some("a/d")),
            ("a/b/c", "../../d", Some("d")),
            ("a/b/c", "..", Some("a")),
            ("a/b/c", "../", Some("a")),
            ("a/b/c", ".", Some("a/b")),
            ("c", "d", Some("d")),
            // Out of it, or to its top.
            ("a/b/c", "../..", None),
            ("a/b/c", "../../../d", None),
            ("c", "..", None),
            ("c", ".", None),
            ("c", "/d", None),
            ("c", "", None),
            // Behind a name.
            ("a/b/c", "d/../../..", None),
            ("a/b/c", "d/..", None),
            ("c", "d\\e", None),
            ("c", "C:d", None),
            ("c", "d\u{202e}", None),
        ];
        for (path, target, expected) in cases {
            let led = leads_to(&RelPath::parse(path).unwrap(), target);
            assert_eq!(
                led.as_ref().map(RelPath::as_str),
                expected,
                "{path} -> {target}"
            );
        }
    }
}
