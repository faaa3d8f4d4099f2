//! Figures in the text format of OpenMetrics 1.0, as monitoring programs read them from a file or over HTTP.
//!
//! The format: a family of samples has a name, a type and a line of help; each sample has labels and a value; the last line is `# EOF`
//! (openmetrics.io, and RFC drafts of it).

use std::fmt::Write as _;

/// What kind of figure a family holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Type {
    /// It goes up and down.
    Gauge,
    /// Its labels are what it says; its value is 1.
    Info,
}

/// A family of samples.
#[derive(Debug, Clone, PartialEq)]
pub struct Metric {
    /// Its name: letters, digits and `_`. With a unit, it ends with that.
    pub name: &'static str,
    /// What kind of figure it is.
    pub kind: Type,
    /// The unit in which it is; none where it has none.
    pub unit: Option<&'static str>,
    /// What it says, in a line.
    pub help: &'static str,
    /// Each with its labels.
    pub samples: Vec<(Vec<(&'static str, String)>, f64)>,
}

impl Metric {
    /// A family without samples.
    pub fn new(
        name: &'static str,
        kind: Type,
        unit: Option<&'static str>,
        help: &'static str,
    ) -> Metric {
        Metric {
            name,
            kind,
            unit,
            help,
            samples: Vec::new(),
        }
    }
}

/// All families that have samples, as a text.
pub fn exposition(metrics: &[Metric]) -> String {
    let mut text = String::new();
    for metric in metrics.iter().filter(|metric| !metric.samples.is_empty()) {
        let Metric { name, help, .. } = metric;
        let (kind, behind) = match metric.kind {
            Type::Gauge => ("gauge", ""),
            Type::Info => ("info", "_info"),
        };
        let _ = writeln!(text, "# TYPE {name} {kind}");
        if let Some(unit) = metric.unit {
            let _ = writeln!(text, "# UNIT {name} {unit}");
        }
        let _ = writeln!(text, "# HELP {name} {}", escaped(help));
        for (labels, value) in &metric.samples {
            let labels = labels.iter();
            let labels = labels.map(|(name, value)| format!("{name}=\"{}\"", escaped(value)));
            let labels: Vec<String> = labels.collect();
            let _ = writeln!(text, "{name}{behind}{{{}}} {value}", labels.join(","));
        }
    }
    text.push_str("# EOF\n");
    text
}

fn escaped(text: &str) -> String {
    let text = text.replace('\\', "\\\\").replace('"', "\\\"");
    text.replace('\n', "\\n")
}

#[cfg(test)]
mod tests {
    use super::*;
    use insta::assert_snapshot;

    #[test]
    fn families_and_their_samples() {
        let mut up = Metric::new("lantern_up", Type::Gauge, None, "Whether it is up.");
        up.samples
            .push((vec![("server", "the \"terrace\"\\\n".into())], 1.0));
        up.samples
            .push((vec![("server", "b".into()), ("group", "g".into())], 0.0));
        let mut free = Metric::new("lantern_free_bytes", Type::Gauge, Some("bytes"), "Free.");
        free.samples
            .push((vec![("server", "b".into())], 12_345_678_901_234.0));
        let mut info = Metric::new("lantern_server", Type::Info, None, "What it is.");
        info.samples.push((vec![("version", "5.4".into())], 1.0));
        let none = Metric::new("lantern_players", Type::Gauge, None, "Who is on.");
        assert_snapshot!(exposition(&[up, free, info, none]), @r#"
    # TYPE lantern_up gauge
    # HELP lantern_up Whether it is up.
    lantern_up{server="the \"terrace\"\\\n"} 1
    lantern_up{server="b",group="g"} 0
    # TYPE lantern_free_bytes gauge
    # UNIT lantern_free_bytes bytes
    # HELP lantern_free_bytes Free.
    lantern_free_bytes{server="b"} 12345678901234
    # TYPE lantern_server info
    # HELP lantern_server What it is.
    lantern_server_info{version="5.4"} 1
    # EOF
    "#);
    }
}
