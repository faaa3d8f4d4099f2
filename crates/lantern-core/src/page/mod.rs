//! Texts and pages made from templates: for players, for co-admins, for whatever program reads them.
//!
//! Templates are in the notation of Jinja: `{{ value }}`, `{% for … %}`, `{% if … %}`. What stands in one and is not among the data is an
//! error, so that a slip of the pen is not a blank.

use minijinja::syntax::SyntaxConfig;
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment, UndefinedBehavior, escape_formatter};
use serde::Serialize;

/// What a template is filled for: what is put into it is escaped accordingly.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum For {
    /// Plain text, or a notation in which nothing is escaped.
    Text,
    /// HTML, or XML.
    Markup,
}

/// Why a template cannot be filled.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {why}")]
pub struct TemplateFault {
    /// The line, from 1; 0 where none can be told.
    pub line: usize,
    /// What is wrong.
    pub why: String,
}

/// Fills a template.
///
/// # Errors
/// On a template that makes no sense, or names what is not among the data.
pub fn fill(template: &str, of: For, data: &impl Serialize) -> Result<String, TemplateFault> {
    let mut environment = Environment::new();
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    let mut syntax = SyntaxConfig::builder();
    syntax
        .trim_blocks(true)
        .lstrip_blocks(true)
        .keep_trailing_newline(true);
    environment.set_syntax(syntax.build().unwrap_or_default());
    environment.add_filter("time", time);
    environment.add_filter("shell", |text: &str| shell_word(text));
    environment.set_auto_escape_callback(|_| AutoEscape::None);
    environment.set_formatter(move |out, state, value| {
        let is_text = !value.is_undefined() && !value.is_safe();
        match of {
            For::Markup if is_text => Ok(out.write_str(&escaped(&value.to_string()))?),
            _ => escape_formatter(out, state, value),
        }
    });
    let fault = |error: minijinja::Error| TemplateFault {
        line: error.line().unwrap_or_default(),
        why: match error.detail() {
            Some(detail) => format!("{}: {detail}", error.kind()),
            None => error.kind().to_string(),
        },
    };
    environment
        .add_template("template", template)
        .map_err(fault)?;
    let template = environment.get_template("template").map_err(fault)?;
    template.render(Serde(data)).map_err(fault)
}

/// A length of time in plain units, from milliseconds.
pub fn time(ms: u64) -> String {
    match ms {
        0..1_000 => format!("{ms} ms"),
        1_000..60_000 => format!("{:.1} s", ms as f64 / 1000.0),
        _ => format!("{} min {} s", ms / 60_000, ms / 1000 % 60),
    }
}

/// A text as one word of a shell, whatever stands in it.
fn shell_word(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// A text as it stands in HTML or XML, between tags or in quotes.
pub fn escaped(text: &str) -> String {
    let mut escaped = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => escaped.push_str("&amp;"),
            '<' => escaped.push_str("&lt;"),
            '>' => escaped.push_str("&gt;"),
            '"' => escaped.push_str("&quot;"),
            '\'' => escaped.push_str("&#39;"),
            c => escaped.push(c),
        }
    }
    escaped
}

/// How all pages look: on paper too, narrow or wide, light or dark.
const STYLE: &str = include_str!("style.css");

/// A whole page around what stands in it: one file, which asks for nothing else and runs nothing.
pub fn whole(title: &str, body: &str) -> String {
    #[derive(Serialize)]
    struct Page<'a> {
        title: &'a str,
    }
    let head = fill("<title>{{ title }}</title>", For::Markup, &Page { title });
    let head = head.unwrap_or_default();
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
         <meta name=\"color-scheme\" content=\"light dark\">\n{head}\n<link rel=\"icon\" href=\"data:,\">\n\
         <style>\n{STYLE}</style>\n</head>\n<body>\n<main>\n{body}</main>\n</body>\n</html>\n"
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn templates_are_filled_and_slips_are_told() {
        let data = json!({ "name": "a <b> & c", "items": [{ "id": "x" }, { "id": "y" }] });
        let text = "{% for item in items %}\n- {{ item.id }}\n{% endfor %}\n{{ name }}\n";
        assert_eq!(
            fill(text, For::Text, &data).unwrap(),
            "- x\n- y\na <b> & c\n"
        );
        let escaped = fill("{{ name }} {{ [name] }}", For::Markup, &data).unwrap();
        assert_eq!(
            escaped,
            "a &lt;b&gt; &amp; c [&#39;a &lt;b&gt; &amp; c&#39;]"
        );
        let word = fill("{{ \"it's; rm x\" | shell }}", For::Text, &data).unwrap();
        assert_eq!(word, "'it'\\''s; rm x'");
        for (text, line, why) in [
            ("a\n{{ nam }}", 2, "undefined"),
            ("a\n\n{% for x in items %}", 3, "syntax"),
            ("{{ items[0].idd }}", 1, "undefined"),
        ] {
            let fault = fill(text, For::Text, &data).unwrap_err();
            assert_eq!(fault.line, line, "{fault}");
            assert!(fault.why.contains(why), "{fault}");
        }
    }

    #[test]
    fn a_page_asks_for_nothing_else() {
        let page = whole("a <b>", "<p>x</p>\n");
        assert!(page.contains("<title>a &lt;b&gt;</title>"));
        for outside in ["http://", "https://", "url(", "@import", "<script"] {
            assert!(!page.contains(outside), "{outside}");
        }
    }
}
