//! What a command answers as a page: the same lines and tables, for a browser.

use crate::means::{Means, style};
use lantern_core::page::{escaped, whole};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// A page while it is filled; copies are the same page.
#[derive(Debug, Clone, Default)]
pub struct Sheet(Arc<Mutex<String>>);

/// What the page calls it.
fn class(means: Means) -> &'static str {
    match means {
        Means::Title => "title",
        Means::Good => "good",
        Means::Caution => "glow",
        Means::Bad => "bad",
        Means::Aside => "soft",
        Means::Paste => "paste",
    }
}

/// A line with its styles as those of the page; what else stands in it is text.
fn marked(line: &str) -> String {
    let mut html = escaped(line);
    // Bold and red begins as bold does.
    let all = [
        Means::Bad,
        Means::Title,
        Means::Good,
        Means::Caution,
        Means::Aside,
        Means::Paste,
    ];
    for means in all {
        let style = style(means);
        let begin = format!("<span class=\"{}\">", class(means));
        html = html.replace(&format!("{style}"), &begin);
    }
    html.replace("\u{1b}[0m", "</span>")
}

/// Whether nothing of a line is seen.
fn is_blank(html: &str) -> bool {
    let mut rest = html;
    while let Some((before, tag)) = rest.split_once('<') {
        if !before.trim().is_empty() {
            return false;
        }
        rest = tag.split_once('>').map_or("", |(_, rest)| rest);
    }
    rest.trim().is_empty()
}

impl Sheet {
    fn filled(&self) -> MutexGuard<'_, String> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Lines as a command says them.
    pub fn say(&self, text: &str) {
        let mut page = self.filled();
        // A style may begin in a line before: of that only what is seen counts.
        let mut open = String::new();
        for line in marked(text).lines() {
            let begun = line.rfind("<span ").map(|at| &line[at..]);
            let ended = line.rfind("</span>");
            let mut html = format!("{open}{}", line.trim());
            match (begun, ended) {
                (Some(begun), _) if !begun.contains("</span>") => {
                    open = begun[..=begun.find('>').unwrap_or(0)].to_owned();
                }
                (None, None) => {}
                _ => open.clear(),
            }
            if !open.is_empty() {
                html += "</span>";
            }
            if is_blank(&html) {
                continue;
            }
            let whole = html.strip_prefix("<span class=\"title\">");
            match whole.and_then(|rest| rest.strip_suffix("</span>")) {
                Some(title) if page.is_empty() => *page += &format!("<h1>{title}</h1>\n"),
                Some(title) => *page += &format!("<h2>{title}</h2>\n"),
                None => *page += &format!("<p>{html}</p>\n"),
            }
        }
    }

    /// A table as a command shows it.
    pub fn table(&self, heads: &[&str], rows: &[Vec<String>]) {
        let mut page = self.filled();
        *page += "<div class=\"wide\" tabindex=\"0\" role=\"region\" aria-label=\"Table\">\n<table>\n<thead><tr>";
        for head in heads {
            *page += &format!("<th scope=\"col\">{}</th>", escaped(head));
        }
        *page += "</tr></thead>\n<tbody>\n";
        for row in rows {
            *page += "<tr>";
            for cell in row {
                *page += &format!("<td>{}</td>", marked(cell.trim()));
            }
            *page += "</tr>\n";
        }
        *page += "</tbody>\n</table>\n</div>\n";
    }

    /// The whole page.
    pub fn page(&self, title: &str) -> String {
        whole(title, &self.filled())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn styles_become_those_of_the_page_and_all_else_is_text() {
        let paint = |means: Means, text: &str| format!("{0}{text}{0:#}", style(means));
        let sheet = Sheet::default();
        sheet.say(&paint(Means::Title, "the <terrace>"));
        sheet.say(&format!(
            "\n  {} & {}",
            paint(Means::Bad, "late"),
            paint(Means::Good, "fits")
        ));
        sheet.say(&paint(Means::Aside, "\n  beside\n  it"));
        sheet.table(
            &["id", "is"],
            &[vec!["<b>".into(), paint(Means::Bad, "late")]],
        );
        let page = sheet.page("x");
        let body = page.split_once("<main>").unwrap().1;
        insta::assert_snapshot!(body, @r#"

        <h1>the &lt;terrace&gt;</h1>
        <p><span class="bad">late</span> &amp; <span class="good">fits</span></p>
        <p><span class="soft">beside</span></p>
        <p><span class="soft">it</span></p>
        <div class="wide" tabindex="0" role="region" aria-label="Table">
        <table>
        <thead><tr><th scope="col">id</th><th scope="col">is</th></tr></thead>
        <tbody>
        <tr><td>&lt;b&gt;</td><td><span class="bad">late</span></td></tr>
        </tbody>
        </table>
        </div>
        </main>
        </body>
        </html>
        "#);
    }
}
