//! What is new of a server that is looked at again and again, to be told.

use super::{Occasion, Style};
use crate::page::{For, TemplateFault, fill};
use crate::watch::Sign;
use schemars::JsonSchema;
use serde::Serialize;

/// What is new of a server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ServerNews {
    /// On what it is told.
    pub moment: Occasion,
    /// The server's name.
    pub server: String,
    /// What is new.
    pub new: Vec<Sign>,
    /// What it is about, in a line.
    title: String,
}

impl ServerNews {
    /// What is new of a server.
    pub fn new(server: &str, new: Vec<Sign>) -> ServerNews {
        let many = match new.len() {
            1 => "something is new".into(),
            several => format!("{several} things are new"),
        };
        ServerNews {
            moment: Occasion::News,
            server: server.to_owned(),
            new,
            title: format!("{server}: {many}"),
        }
    }

    /// It, in words.
    ///
    /// # Errors
    /// Never: the templates are ours.
    pub fn told(&self, style: Style) -> Result<String, TemplateFault> {
        let (template, of) = match style {
            Style::Text => (include_str!("news.txt"), For::Text),
            Style::Html => (include_str!("news.html"), For::Markup),
            Style::Markdown => (include_str!("news.md"), For::Text),
        };
        fill(template, of, self)
    }

    /// What it is about, in a line.
    pub fn title(&self) -> String {
        self.title.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::watch::About;
    use insta::assert_snapshot;

    #[test]
    fn what_is_new_in_each_notation() {
        let sign = |text: &str| Sign {
            about: About::Finding,
            subject: String::new(),
            text: text.into(),
        };
        let new = vec![sign("it is down"), sign("a <b> is missing")];
        let news = ServerNews::new("halcyon-terrace", new);
        let styles = [Style::Text, Style::Markdown, Style::Html];
        let told = styles.map(|style| news.told(style).unwrap());
        assert_snapshot!(told.join("---\n"), @r"
    halcyon-terrace: 2 things are new

    - it is down
    - a <b> is missing
    ---
    **halcyon-terrace: 2 things are new**

    - it is down
    - a <b> is missing
    ---
    <p>halcyon-terrace: 2 things are new</p>
    <ul>
    <li>it is down</li>
    <li>a &lt;b&gt; is missing</li>
    </ul>
    ");
        assert_eq!(
            ServerNews::new("s", vec![sign("x")]).title(),
            "s: something is new"
        );
    }
}
