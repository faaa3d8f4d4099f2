//! Text on its way to the terminal: what could act there, or hide, is shown as a mark.
//!
//! Titles, versions, console lines and file names come from outside. An escape sequence in one could clear the screen, a
//! bidirectional mark show another name than there is.

use lantern_core::path::is_unseen;
use std::borrow::Cow;
use std::fmt::Write;

/// Whether a character does something else than to be seen: control, bidirectional and zero-width characters, tags.
fn acts(c: char) -> bool {
    is_unseen(c) || c.is_control()
}

/// A text whose acting characters are shown as marks; line feeds stay, and so do those sequences that are lantern's own.
pub fn visible<'t>(text: &'t str, own: &[String]) -> Cow<'t, str> {
    if !text.chars().any(|c| acts(c) && c != '\n') {
        return text.into();
    }
    let mut shown = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(sequence) = own.iter().find(|own| rest.starts_with(own.as_str())) {
            shown.push_str(sequence);
            rest = &rest[sequence.len()..];
            continue;
        }
        rest = &rest[c.len_utf8()..];
        match c {
            '\n' => shown.push(c),
            // Each of the first control characters has a picture.
            '\0'..='\u{1f}' => shown.extend(char::from_u32(0x2400 + u32::from(c))),
            '\u{7f}' => shown.push('\u{2421}'),
            c if acts(c) => {
                let _ = write!(shown, "<U+{:04X}>", u32::from(c));
            }
            c => shown.push(c),
        }
    }
    shown.into()
}

/// JSON in which the same characters are escaped: what a program reads stays what it was.
pub fn visible_json(text: &str) -> Cow<'_, str> {
    let is_odd = |c: char| acts(c) && !c.is_ascii();
    if !text.chars().any(is_odd) {
        return text.into();
    }
    let mut shown = String::with_capacity(text.len());
    for c in text.chars() {
        if !is_odd(c) {
            shown.push(c);
            continue;
        }
        for unit in c.encode_utf16(&mut [0; 2]) {
            let _ = write!(shown, "\\u{unit:04x}");
        }
    }
    shown.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_acts_is_shown_and_all_else_stays() {
        let own = ["\u{1b}[32m".to_owned(), "\u{1b}[0m".to_owned()];
        let shown = |text| visible(text, &own).into_owned();
        assert_eq!(shown("plain, ärbour\n  30 %"), "plain, ärbour\n  30 %");
        assert_eq!(shown("\u{1b}[32mgood\u{1b}[0m"), "\u{1b}[32mgood\u{1b}[0m");
        assert_eq!(shown("a\u{1b}[2Jb\u{1b}]0;t\u{7}"), "a␛[2Jb␛]0;t␇");
        assert_eq!(shown("a\rb\tc\u{8}\u{7f}"), "a␍b␉c␈␡");
        assert_eq!(
            shown("a\u{202e}b\u{200b}c\u{9b}d"),
            "a<U+202E>b<U+200B>c<U+009B>d"
        );
    }

    #[test]
    fn what_is_escaped_in_json_is_read_as_it_was() {
        let text = "a\u{202e}b\u{e0041}ä\u{1b}";
        let json = serde_json::to_string(text).unwrap();
        let shown = visible_json(&json);
        assert!(
            shown.is_char_boundary(0) && !shown.chars().any(acts),
            "{shown}"
        );
        assert_eq!(serde_json::from_str::<String>(&shown).unwrap(), text);
    }
}
