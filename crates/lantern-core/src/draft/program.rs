//! The server program, where the name of its file has its version in it and a start script names that file.

use super::readers::{NUMBER, before_number, unnumbered};
use super::{Sample, is_top, quoted};
use crate::family::Glob;
use crate::launch::is_script_by_name;
use crate::path::RelPath;

/// A guess at it.
pub(super) struct Program {
    /// What it is called without its version.
    pub(super) id: String,
    /// Its file with another version, as `{}` stands for that.
    file: String,
    /// The start script that names it.
    script: RelPath,
}

/// Looks for it among files at the top and one folder below.
pub(super) fn program(sample: &Sample) -> Option<Program> {
    let scripts = sample
        .paths
        .iter()
        .filter(|path| is_top(path) && is_script_by_name(path.as_str()));
    let scripts = scripts.filter_map(|path| Some((path, sample.texts.get(path.as_str())?)));
    let scripts: Vec<(&RelPath, &String)> = scripts.collect();
    let near = sample
        .paths
        .iter()
        .filter(|path| path.as_str().matches('/').count() < 2);
    near.into_iter().find_map(|path| {
        let (stem, end) = match path.name().rsplit_once('.') {
            Some((stem, end)) if end.starts_with(|c: char| c.is_alphabetic()) => {
                (stem, format!(".{end}"))
            }
            _ => (path.name(), String::new()),
        };
        let id = unnumbered(stem);
        let names = |(_, text): &&(&RelPath, &String)| {
            let of_name = |c: char| c.is_alphanumeric() || "._-+".contains(c);
            text.split(|c| !of_name(c)).any(|word| word == path.name())
        };
        let script = scripts.iter().find(names).filter(|_| id != stem)?.0.clone();
        let folder = path
            .folder()
            .map_or(String::new(), |folder| format!("{folder}/"));
        let file = format!("{folder}{id}{}{{}}{end}", before_number(stem));
        let is_pattern = |text: &str| Glob::new(text).is_ok();
        (!id.contains(['{', '*']) && is_pattern(&file.replace("{}", "*"))).then_some(Program {
            id,
            file,
            script,
        })
    })
}

impl Program {
    /// Its reader, and the line of the start script that follows it, as a family file writes them.
    pub(super) fn written(&self) -> String {
        let name = self.file.rsplit('/').next().unwrap_or(&self.file);
        let line = name
            .split("{}")
            .map(regex::escape)
            .collect::<Vec<_>>()
            .join(r"\d\S*?");
        format!(
            "\n# The server program, as {script} names it.\n[[reader]]\nname = \"program\"\nkind = \"build\"\nshape = \"file\"\n\
             at = {at}\ninstall = {install}\ndrop = {drop}\n\n[reader.fields]\nid = {{ value = {id} }}\n\
             version = {{ at = \"{of}\", pattern = {NUMBER} }}\nside = {{ value = \"server\" }}\n\
             \n[[pin]]\nfile = {script_file}\nline = {line}\nbecomes = \"{{build.file}}\"\n",
            of = if name.ends_with("{}") {
                "$name"
            } else {
                "$stem"
            },
            script = self.script,
            at = quoted(&self.file.replace("{}", "*")),
            install = quoted(&self.file.replace("{}", "{version}")),
            drop = quoted(&name.replace("{}", "*")),
            id = quoted(&self.id),
            script_file = quoted(self.script.as_str()),
            line = quoted(&format!("(?P<value>{line})(?:\\s|\"|'|$)")),
        )
    }
}
