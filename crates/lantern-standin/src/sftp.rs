//! The other end of a file transfer account: the SSH file transfer protocol, version 3, over what this program reads and prints.
//!
//! The account sees one folder and all below it, and may only look. Like many a host's, it gives less than was asked for: few
//! names and few bytes at a time.

use russh_sftp::protocol::{
    Attrs, Data, File, FileAttributes, Handle, Name, OpenFlags, Status, StatusCode,
};
use russh_sftp::server::{Handler, run as serve};
use std::collections::HashMap;
use std::fs;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Component, Path, PathBuf};
use tokio::io::{join, stdin, stdout};
use tokio::runtime::Builder;
use tokio::sync::mpsc::{Sender, channel};

/// So many names are told at once.
const NAMES: usize = 40;
/// So many bytes are given at once.
const BYTES: u32 = 20_000;

/// Something that is open.
enum Open {
    File(fs::File),
    Folder(Vec<File>),
}

struct Account {
    folder: PathBuf,
    open: HashMap<String, Open>,
    next: u64,
    /// Lives as long as the line.
    _here: Sender<()>,
}

impl Account {
    /// Where a path of the account's lies.
    fn real(&self, path: &str) -> PathBuf {
        let plain = Path::new(path).components();
        let names = plain.filter(|part| matches!(part, Component::Normal(_)));
        names.fold(self.folder.clone(), |folder, name| folder.join(name))
    }

    fn keep(&mut self, id: u32, open: Open) -> Handle {
        self.next += 1;
        let handle = format!("h{}", self.next);
        self.open.insert(handle.clone(), open);
        Handle { id, handle }
    }
}

fn refused(error: &io::Error) -> StatusCode {
    match error.kind() {
        io::ErrorKind::NotFound => StatusCode::NoSuchFile,
        io::ErrorKind::PermissionDenied => StatusCode::PermissionDenied,
        _ => StatusCode::Failure,
    }
}

fn attrs(id: u32, met: io::Result<fs::Metadata>) -> Result<Attrs, StatusCode> {
    let met = met.map_err(|error| refused(&error))?;
    let attrs = FileAttributes::from(&met);
    Ok(Attrs { id, attrs })
}

impl Handler for Account {
    type Error = StatusCode;

    /// What changes something is not allowed.
    fn unimplemented(&self) -> StatusCode {
        StatusCode::PermissionDenied
    }

    async fn realpath(&mut self, id: u32, path: String) -> Result<Name, StatusCode> {
        let plain = Path::new(&path).components();
        let names = plain.filter_map(|part| match part {
            Component::Normal(name) => name.to_str(),
            _ => None,
        });
        let whole = format!("/{}", names.collect::<Vec<_>>().join("/"));
        Ok(Name {
            id,
            files: vec![File::dummy(whole)],
        })
    }

    async fn lstat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        attrs(id, fs::symlink_metadata(self.real(&path)))
    }

    async fn stat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        attrs(id, fs::metadata(self.real(&path)))
    }

    async fn opendir(&mut self, id: u32, path: String) -> Result<Handle, StatusCode> {
        let listed = fs::read_dir(self.real(&path)).map_err(|error| refused(&error))?;
        let files = listed.filter_map(|entry| {
            let entry = entry.ok()?;
            let met = fs::symlink_metadata(entry.path()).ok()?;
            let name = entry.file_name().into_string().ok()?;
            Some(File::new(name, FileAttributes::from(&met)))
        });
        let files = files.collect();
        Ok(self.keep(id, Open::Folder(files)))
    }

    async fn readdir(&mut self, id: u32, handle: String) -> Result<Name, StatusCode> {
        match self.open.get_mut(&handle) {
            Some(Open::Folder(files)) if files.is_empty() => Err(StatusCode::Eof),
            Some(Open::Folder(files)) => {
                let some = files.split_off(files.len().saturating_sub(NAMES));
                Ok(Name { id, files: some })
            }
            _ => Err(StatusCode::Failure),
        }
    }

    async fn open(
        &mut self,
        id: u32,
        filename: String,
        pflags: OpenFlags,
        _: FileAttributes,
    ) -> Result<Handle, StatusCode> {
        if pflags.bits() != OpenFlags::READ.bits() {
            return Err(StatusCode::PermissionDenied);
        }
        let file = fs::File::open(self.real(&filename)).map_err(|error| refused(&error))?;
        Ok(self.keep(id, Open::File(file)))
    }

    async fn read(
        &mut self,
        id: u32,
        handle: String,
        offset: u64,
        len: u32,
    ) -> Result<Data, StatusCode> {
        let Some(Open::File(file)) = self.open.get_mut(&handle) else {
            return Err(StatusCode::Failure);
        };
        let mut data = Vec::new();
        let read = file
            .seek(SeekFrom::Start(offset))
            .and_then(|_| file.take(len.min(BYTES).into()).read_to_end(&mut data));
        read.map_err(|error| refused(&error))?;
        match data.is_empty() {
            true => Err(StatusCode::Eof),
            false => Ok(Data { id, data }),
        }
    }

    async fn close(&mut self, id: u32, handle: String) -> Result<Status, StatusCode> {
        match self.open.remove(&handle) {
            None => Err(StatusCode::Failure),
            Some(_) => Ok(Status {
                id,
                status_code: StatusCode::Ok,
                error_message: "Ok".into(),
                language_tag: "en".into(),
            }),
        }
    }

    async fn readlink(&mut self, id: u32, path: String) -> Result<Name, StatusCode> {
        let target = fs::read_link(self.real(&path)).map_err(|error| refused(&error))?;
        let target = target.to_str().ok_or(StatusCode::Failure)?;
        Ok(Name {
            id,
            files: vec![File::dummy(target)],
        })
    }
}

/// Speaks for one folder until the line ends.
///
/// # Errors
/// When the system gives no thread for it.
pub fn run(folder: &Path) -> io::Result<u8> {
    let runtime = Builder::new_multi_thread().worker_threads(1).build()?;
    let (here, mut gone) = channel(1);
    let account = Account {
        folder: folder.to_owned(),
        open: HashMap::new(),
        next: 0,
        _here: here,
    };
    runtime.block_on(async {
        serve(join(stdin(), stdout()), account).await;
        gone.recv().await;
    });
    runtime.shutdown_background();
    Ok(0)
}
