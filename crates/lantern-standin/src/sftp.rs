//! The other end of a file transfer account: the SSH file transfer protocol, version 3, over what this program reads and prints.
//!
//! The account sees one folder and all below it, and may only look, or write, too. Like many a host's, it gives less than was asked
//! for: few names and few bytes at a time; and it knows nothing but the protocol itself, no rename over another file, no word of room.

use russh_sftp::protocol::{
    Attrs, Data, File, FileAttributes, Handle, Name, OpenFlags, Status, StatusCode,
};
use russh_sftp::server::{Handler, run as serve};
use std::collections::HashMap;
use std::fs;
use std::io::{self, Read, Seek, SeekFrom, Write};
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
    writes: bool,
    /// So many bytes may still be written, where there is a quota.
    quota: Option<u64>,
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

    /// Where a path lies that is to be changed.
    fn mine(&self, path: &str) -> Result<PathBuf, StatusCode> {
        match self.writes {
            true => Ok(self.real(path)),
            false => Err(StatusCode::PermissionDenied),
        }
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

fn done(id: u32, done: io::Result<()>) -> Result<Status, StatusCode> {
    done.map_err(|error| refused(&error))?;
    Ok(Status {
        id,
        status_code: StatusCode::Ok,
        error_message: "Ok".into(),
        language_tag: "en".into(),
    })
}

fn set_rights(path: &Path, attrs: &FileAttributes) -> io::Result<()> {
    #[cfg(unix)]
    if let Some(mode) = attrs.permissions {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(path, fs::Permissions::from_mode(mode & 0o7777))?;
    }
    let _ = (path, attrs);
    Ok(())
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
        let file = match pflags.bits() == OpenFlags::READ.bits() {
            true => fs::File::open(self.real(&filename)),
            // Whatever is asked for besides: nothing is written over.
            false => fs::File::create_new(self.mine(&filename)?),
        };
        let file = file.map_err(|error| refused(&error))?;
        Ok(self.keep(id, Open::File(file)))
    }

    async fn write(
        &mut self,
        id: u32,
        handle: String,
        offset: u64,
        data: Vec<u8>,
    ) -> Result<Status, StatusCode> {
        let Some(Open::File(file)) = self.open.get_mut(&handle) else {
            return Err(StatusCode::Failure);
        };
        if let Some(left) = &mut self.quota {
            // Protocol version 3 has no word for it.
            *left = left
                .checked_sub(data.len() as u64)
                .ok_or(StatusCode::Failure)?;
        }
        let written = file.seek(SeekFrom::Start(offset));
        done(id, written.and_then(|_| file.write_all(&data)))
    }

    async fn fsetstat(
        &mut self,
        id: u32,
        handle: String,
        attrs: FileAttributes,
    ) -> Result<Status, StatusCode> {
        let Some(Open::File(file)) = self.open.get(&handle) else {
            return Err(StatusCode::Failure);
        };
        #[cfg(unix)]
        if let Some(mode) = attrs.permissions {
            use std::os::unix::fs::PermissionsExt;
            let set = file.set_permissions(fs::Permissions::from_mode(mode & 0o7777));
            return done(id, set);
        }
        let _ = (file, attrs);
        done(id, Ok(()))
    }

    async fn setstat(
        &mut self,
        id: u32,
        path: String,
        attrs: FileAttributes,
    ) -> Result<Status, StatusCode> {
        done(id, set_rights(&self.mine(&path)?, &attrs))
    }

    async fn mkdir(
        &mut self,
        id: u32,
        path: String,
        attrs: FileAttributes,
    ) -> Result<Status, StatusCode> {
        let path = self.mine(&path)?;
        let made = fs::create_dir(&path);
        done(id, made.and_then(|()| set_rights(&path, &attrs)))
    }

    async fn rmdir(&mut self, id: u32, path: String) -> Result<Status, StatusCode> {
        done(id, fs::remove_dir(self.mine(&path)?))
    }

    async fn remove(&mut self, id: u32, filename: String) -> Result<Status, StatusCode> {
        done(id, fs::remove_file(self.mine(&filename)?))
    }

    async fn rename(
        &mut self,
        id: u32,
        oldpath: String,
        newpath: String,
    ) -> Result<Status, StatusCode> {
        let (old, new) = (self.mine(&oldpath)?, self.mine(&newpath)?);
        if fs::symlink_metadata(&new).is_ok() {
            return Err(StatusCode::Failure);
        }
        done(id, fs::rename(old, new))
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
            Some(_) => done(id, Ok(())),
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

/// Speaks for one folder until the line ends; over it, no more than a quota is written.
///
/// # Errors
/// When the system gives no thread for it.
pub fn run(folder: &Path, writes: bool, quota: Option<u64>) -> io::Result<u8> {
    let runtime = Builder::new_multi_thread().worker_threads(1).build()?;
    let (here, mut gone) = channel(1);
    let account = Account {
        folder: folder.to_owned(),
        writes,
        quota,
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
