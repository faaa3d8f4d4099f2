//! A list in the forms that other programs and people read.

use super::list::{ClientFile, ClientItem, ClientList, Duty};
use crate::component::Id;
use crate::link;
use crate::page::{For, TemplateFault, fill, whole};
use crate::path::RelPath;
use serde::Serialize;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// A file that clients must or may have, with all that is known of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FileToHave {
    /// The component that it is of.
    pub id: Id,
    /// That one's version, where it states one.
    pub version: Option<String>,
    /// Whether clients must have it, or may.
    pub is: Duty,
    /// Where it lies in the client's folder.
    pub path: RelPath,
    /// Its size.
    pub bytes: u64,
    /// BLAKE3 of its content in hexadecimal.
    pub blake3: String,
    /// SHA-256 of its content in hexadecimal.
    pub sha256: String,
    /// Where it can be had.
    pub urls: Vec<String>,
}

impl FileToHave {
    /// A file of an item of the list, with its SHA-256 in hexadecimal and where it can be had.
    pub fn of(
        item: &ClientItem,
        file: &ClientFile,
        sha256: String,
        urls: Vec<String>,
    ) -> FileToHave {
        FileToHave {
            id: item.id.clone(),
            version: item.version.clone(),
            is: item.is,
            path: file.path.clone(),
            bytes: file.bytes,
            blake3: file.blake3.clone(),
            sha256,
            urls,
        }
    }
}

/// One way of playing, in the administrator's words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Way {
    /// What players call it.
    pub name: String,
    /// What they have to do: a template.
    pub text: String,
}

/// Why a list cannot be written in some form.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FormFault {
    /// Nobody says where files can be had.
    #[error("nobody says where {} can be had", some_of(.0))]
    NoAddress(Vec<String>),
    /// A template cannot be filled.
    #[error("{what}, {fault}")]
    Template {
        /// Which one.
        what: String,
        /// What is wrong.
        fault: TemplateFault,
    },
}

/// The first of several, and how many more there are.
fn some_of(all: &[String]) -> String {
    const NAMED: usize = 3;
    match all.len() {
        0..=NAMED => all.join(", "),
        more => format!("{} and {} more", all[..NAMED].join(", "), more - NAMED),
    }
}

/// What stands at a template's disposal.
#[derive(Serialize)]
struct Data<'a> {
    server: &'a str,
    server_version: &'a Option<String>,
    client: &'a Option<String>,
    title: Option<&'a str>,
    joins: &'a Option<String>,
    others: crate::family::Others,
    must: Vec<Item<'a>>,
    may: Vec<Item<'a>>,
    must_not: Vec<Item<'a>>,
    unknown: &'a [Id],
    files: &'a [FileToHave],
}

/// A component of the list, with nothing left out of it.
#[derive(Serialize)]
struct Item<'a> {
    id: &'a Id,
    version: &'a Option<String>,
    range: &'a Option<String>,
    place: &'a Option<RelPath>,
    paths: Vec<&'a RelPath>,
    why: &'a str,
}

impl<'a> Item<'a> {
    fn of(item: &'a ClientItem) -> Item<'a> {
        Item {
            id: &item.id,
            version: &item.version,
            range: &item.range,
            place: &item.place,
            paths: item.files.iter().map(|file| &file.path).collect(),
            why: &item.why,
        }
    }
}

fn data<'a>(list: &'a ClientList, files: &'a [FileToHave]) -> Data<'a> {
    let of = |is| {
        let those = list.items.iter().filter(move |item| item.is == is);
        those.map(Item::of).collect()
    };
    Data {
        server: &list.server,
        server_version: &list.server_version,
        client: &list.client,
        title: list.title.as_deref().or(list.client.as_deref()),
        joins: &list.joins,
        others: list.others,
        must: of(Duty::MustHave),
        may: of(Duty::MayHave),
        must_not: of(Duty::MustNotHave),
        unknown: &list.unknown,
        files,
    }
}

/// Sums that the tools of every system check: a hash, two blanks and a path in each line. Links have none.
pub fn sums(files: &[FileToHave]) -> String {
    let real = files
        .iter()
        .filter(|file| link::target(&file.blake3).is_none());
    real.map(|file| format!("{}  {}\n", file.sha256, file.path))
        .collect()
}

/// A description for download programs, as RFC 5854 has it: each file with its hash and where it can be had.
///
/// # Errors
/// When nobody says where a file can be had.
pub fn metalink(list: &ClientList, files: &[FileToHave]) -> Result<String, FormFault> {
    const TEMPLATE: &str = include_str!("metalink.xml");
    let nowhere = files.iter().filter(|file| file.urls.is_empty());
    let nowhere: Vec<String> = nowhere.map(|file| file.path.to_string()).collect();
    if !nowhere.is_empty() {
        return Err(FormFault::NoAddress(nowhere));
    }
    filled("the form metalink", TEMPLATE, For::Markup, list, files)
}

/// A list of components in CycloneDX 1.6, with the hashes of their files.
pub fn cyclonedx(list: &ClientList, files: &[FileToHave]) -> String {
    let hashes = |file: &FileToHave| {
        json!([
            { "alg": "SHA-256", "content": file.sha256 },
            { "alg": "BLAKE3", "content": file.blake3 },
        ])
    };
    let mut of: BTreeMap<&Id, Vec<&FileToHave>> = BTreeMap::new();
    let real = files
        .iter()
        .filter(|file| link::target(&file.blake3).is_none());
    for file in real {
        of.entry(&file.id).or_default().push(file);
    }
    let wanted = list
        .items
        .iter()
        .filter(|item| item.is != Duty::MustNotHave);
    let components = wanted.map(|item| {
        let own = of.get(&item.id).map_or(&[][..], Vec::as_slice);
        let mut component = json!({
            "type": "application",
            "bom-ref": item.id,
            "name": item.id,
            "scope": if item.is == Duty::MustHave { "required" } else { "optional" },
        });
        if let Some(version) = &item.version {
            component["version"] = json!(version);
        }
        match own {
            [] => {}
            [only] => component["hashes"] = hashes(only),
            several => {
                let files = several.iter().map(|file| {
                    json!({
                        "type": "file",
                        "bom-ref": format!("{}/{}", item.id, file.path),
                        "name": file.path,
                        "hashes": hashes(file),
                    })
                });
                component["components"] = Value::Array(files.collect());
            }
        }
        component
    });
    let mut server = json!({ "type": "application", "bom-ref": "server", "name": list.server });
    if let Some(version) = &list.server_version {
        server["version"] = json!(version);
    }
    let whole = json!({
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "version": 1,
        "metadata": { "component": server },
        "components": components.collect::<Vec<Value>>(),
    });
    serde_json::to_string_pretty(&whole).expect("it has only plain values") + "\n"
}

/// A page for players: for each way of playing what to do, and what their clients must have.
///
/// # Errors
/// When the template of a way cannot be filled.
pub fn players_page(
    list: &ClientList,
    files: &[FileToHave],
    ways: &[Way],
) -> Result<String, FormFault> {
    const TEMPLATE: &str = include_str!("players.html");
    #[derive(Serialize)]
    struct Told<'a> {
        name: &'a str,
        text: String,
    }
    #[derive(Serialize)]
    struct Page<'a> {
        #[serde(flatten)]
        data: Data<'a>,
        ways: Vec<Told<'a>>,
        whole_bytes: u64,
    }
    let ways = ways.iter().map(|way| {
        let what = format!("the way \"{}\"", way.name);
        let text = filled(&what, &way.text, For::Text, list, files)?;
        Ok(Told {
            name: &way.name,
            text: text.trim().to_owned(),
        })
    });
    let page = Page {
        ways: ways.collect::<Result<_, FormFault>>()?,
        whole_bytes: files.iter().map(|file| file.bytes).sum(),
        data: data(list, files),
    };
    let body = fill(TEMPLATE, For::Markup, &page).map_err(|fault| FormFault::Template {
        what: "the page".into(),
        fault,
    })?;
    Ok(whole(&format!("How to join {}", list.server), &body))
}

/// Fills a template of the administrator's with a list.
///
/// # Errors
/// When it makes no sense, or names what is not there.
pub fn filled(
    what: &str,
    template: &str,
    of: For,
    list: &ClientList,
    files: &[FileToHave],
) -> Result<String, FormFault> {
    fill(template, of, &data(list, files)).map_err(|fault| FormFault::Template {
        what: what.to_owned(),
        fault,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clients::{FORMAT, From};
    use crate::family::Others;

    fn list() -> (ClientList, Vec<FileToHave>) {
        let path = |text: &str| RelPath::parse(text).unwrap();
        let item = |id: &str, version: Option<&str>, is, paths: &[&str]| ClientItem {
            id: Id::new(id),
            version: version.map(str::to_owned),
            is,
            range: (is == Duty::MustNotHave).then(|| "<2".to_owned()),
            place: paths.first().map(|it| path(it)),
            files: paths
                .iter()
                .map(|it| ClientFile {
                    path: path(it),
                    blake3: "b3".into(),
                    bytes: 1200,
                    from: From::Nowhere,
                })
                .collect(),
            why: "it conflicts with a & b".into(),
        };
        let list = ClientList {
            format: FORMAT,
            server: "halcyon <deck 3>".into(),
            server_version: Some("5.4.0".into()),
            client: Some("verdance".into()),
            title: Some("Verdance, the client".into()),
            joins: Some("5.4.x".into()),
            items: vec![
                item(
                    "bees",
                    Some("1.2"),
                    Duty::MustHave,
                    &["mods/bees & co.bloom"],
                ),
                item(
                    "look",
                    None,
                    Duty::MayHave,
                    &["settings/view.toml", "settings/moss.toml"],
                ),
                item("spy", None, Duty::MustNotHave, &[]),
            ],
            others: Others::Refused,
            unknown: vec![Id::new("quiet")],
            family: None,
        };
        let files = list.items.iter().flat_map(|item| {
            let urls = vec!["https://lookout.example/a?b=1&c=2".into()];
            let told = move |file| FileToHave::of(item, file, "5a".repeat(32), urls.clone());
            item.files.iter().map(told)
        });
        let files = files.collect();
        (list, files)
    }

    #[test]
    fn sums_and_downloads() {
        let (list, mut files) = list();
        insta::assert_snapshot!(sums(&files), @"
        5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a  mods/bees & co.bloom
        5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a  settings/view.toml
        5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a  settings/moss.toml
        ");
        insta::assert_snapshot!(metalink(&list, &files).unwrap(), @r#"
        <?xml version="1.0" encoding="UTF-8"?>
        <metalink xmlns="urn:ietf:params:xml:ns:metalink">
          <file name="mods/bees &amp; co.bloom">
            <identity>bees</identity>
            <version>1.2</version>
            <size>1200</size>
            <hash type="sha-256">5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a</hash>
            <url>https://lookout.example/a?b=1&amp;c=2</url>
          </file>
          <file name="settings/view.toml">
            <identity>look</identity>
            <size>1200</size>
            <hash type="sha-256">5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a</hash>
            <url>https://lookout.example/a?b=1&amp;c=2</url>
          </file>
          <file name="settings/moss.toml">
            <identity>look</identity>
            <size>1200</size>
            <hash type="sha-256">5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a</hash>
            <url>https://lookout.example/a?b=1&amp;c=2</url>
          </file>
        </metalink>
        "#);
        let text = metalink(&list, &files).unwrap();
        roxmltree::Document::parse(&text).unwrap();
        files[1].urls.clear();
        assert_eq!(
            metalink(&list, &files),
            Err(FormFault::NoAddress(vec!["settings/view.toml".into()]))
        );
        files[0].blake3 = link::mark("elsewhere");
        assert_eq!(sums(&files).lines().count(), 2);
    }

    #[test]
    fn a_list_of_components() {
        let (list, files) = list();
        insta::assert_snapshot!(cyclonedx(&list, &files), @r#"
        {
          "bomFormat": "CycloneDX",
          "components": [
            {
              "bom-ref": "bees",
              "hashes": [
                {
                  "alg": "SHA-256",
                  "content": "5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a"
                },
                {
                  "alg": "BLAKE3",
                  "content": "b3"
                }
              ],
              "name": "bees",
              "scope": "required",
              "type": "application",
              "version": "1.2"
            },
            {
              "bom-ref": "look",
              "components": [
                {
                  "bom-ref": "look/settings/view.toml",
                  "hashes": [
                    {
                      "alg": "SHA-256",
                      "content": "5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a"
                    },
                    {
                      "alg": "BLAKE3",
                      "content": "b3"
                    }
                  ],
                  "name": "settings/view.toml",
                  "type": "file"
                },
                {
                  "bom-ref": "look/settings/moss.toml",
                  "hashes": [
                    {
                      "alg": "SHA-256",
                      "content": "5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a"
                    },
                    {
                      "alg": "BLAKE3",
                      "content": "b3"
                    }
                  ],
                  "name": "settings/moss.toml",
                  "type": "file"
                }
              ],
              "name": "look",
              "scope": "optional",
              "type": "application"
            }
          ],
          "metadata": {
            "component": {
              "bom-ref": "server",
              "name": "halcyon <deck 3>",
              "type": "application",
              "version": "5.4.0"
            }
          },
          "specVersion": "1.6",
          "version": 1
        }
        "#);
    }

    #[test]
    fn templates_and_the_page() {
        let (list, files) = list();
        let text = "{{ server }} {{ joins }}\n{% for item in must %}\n{{ item.id }} {{ item.version }}\n{% endfor %}\n{% for file in files %}\n{{ file.path }} {{ file.sha256[:4] }}\n{% endfor %}\n";
        insta::assert_snapshot!(filled("it", text, For::Text, &list, &files).unwrap(), @"
        halcyon <deck 3> 5.4.x
        bees 1.2
        mods/bees & co.bloom 5a5a
        settings/view.toml 5a5a
        settings/moss.toml 5a5a
        ");
        let way = |text: &str| {
            [Way {
                name: "With <the> hall".into(),
                text: text.into(),
            }]
        };
        let page = players_page(&list, &files, &way("Choose {{ joins }}.\nThen & there."));
        insta::assert_snapshot!("players_page", page.unwrap());
        let fault = players_page(&list, &files, &way("x\n{{ joint }}")).unwrap_err();
        assert_eq!(
            fault.to_string(),
            "the way \"With <the> hall\", line 2: undefined value"
        );
    }
}
