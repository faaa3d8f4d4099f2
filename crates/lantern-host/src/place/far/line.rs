//! The line to another machine: requests and answers of the SSH file transfer protocol, version 3
//! (draft-ietf-secsh-filexfer-02), over a program such as `ssh`.

use super::{Address, ssh, wire};
use crate::runner::spoken_with;
use crate::told::plain;
use russh_sftp::client::RawSftpSession;
use russh_sftp::client::error::Error;
use russh_sftp::client::rawsession::Limits;
use russh_sftp::extensions;
use russh_sftp::protocol::StatusCode;
use std::collections::BTreeSet;
use std::fmt;
use std::future::Future;
use std::io;
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};
use tokio::io::{AsyncBufReadExt, AsyncRead, BufReader, ReadBuf, join, split};
use tokio::process::Child;
use tokio::runtime::{Builder, Runtime};
use tokio::sync::{Semaphore, watch};
use tokio::task::JoinHandle;

/// So many requests are under way at once: more open handles are not given by every server.
pub const AT_ONCE: usize = 48;

/// So long an answer may take, in seconds; the first one also waits for whoever is asked for a password.
const ANSWER_S: u64 = 60;
const FIRST_ANSWER_S: u64 = 180;

/// So many lines of what the program says are remembered.
const REMEMBERED: usize = 20;

/// A rename that takes the place of what is there.
pub const POSIX_RENAME: &str = "posix-rename@openssh.com";
/// The name of the extension that copies between two open files there (draft-ietf-secsh-filexfer-extensions-00, section 7).
pub const COPY_DATA: &str = "copy-data";

/// A line that is open.
pub struct Line {
    runtime: Runtime,
    /// What is asked there.
    pub session: Arc<RawSftpSession>,
    /// What the other end can do besides.
    can: BTreeSet<String>,
    said: Arc<Mutex<Vec<String>>>,
    /// Whether it is not to be used any more.
    ended: AtomicBool,
    /// Turns true when nothing comes over it any more.
    silent: watch::Receiver<bool>,
    #[cfg(test)]
    host: String,
    _program: Child,
}

impl fmt::Debug for Line {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Line").field("can", &self.can).finish()
    }
}

impl Line {
    /// Opens a line: through a command line of the administrator's, or the system's `ssh`.
    ///
    /// # Errors
    /// When the program cannot be run, or does not get through; with what it said.
    pub fn open(address: &Address, through: Option<&[String]>) -> io::Result<Line> {
        #[cfg(test)]
        if super::cut::is_gone(&address.host) {
            return Err(io::ErrorKind::ConnectionRefused.into());
        }
        let command = through.map_or_else(
            || ssh(address, &["-s", &address.host, "sftp"]),
            <[String]>::to_vec,
        );
        let runtime = Builder::new_multi_thread()
            .worker_threads(1)
            .enable_all()
            .build()?;
        let said = Arc::new(Mutex::new(Vec::new()));
        let kept = Arc::clone(&said);
        let opened = runtime.block_on(async move {
            let mut program = spoken_with(&command).map_err(|error| {
                io::Error::new(
                    error.kind(),
                    format!("{} cannot be run: {}", command[0], plain(&error)),
                )
            })?;
            let (Some(input), Some(output), Some(words)) = (
                program.stdin.take(),
                program.stdout.take(),
                program.stderr.take(),
            ) else {
                return Err(io::Error::other("nothing can be said to it"));
            };
            let listening = tokio::spawn(listen(words, kept.clone()));
            let (answers, asked) = split(wire::spoken(output, input));
            let (notice, silent) = watch::channel(false);
            let answers = Heard { answers, notice };
            let mut session = RawSftpSession::new(join(answers, asked));
            session.set_timeout(FIRST_ANSWER_S);
            let version = match unless_silent(silent.clone(), session.init()).await {
                Ok(version) => version,
                Err(error) => {
                    // What it says comes to its end with it.
                    let _ = program.start_kill();
                    let _ = listening.await;
                    return Err(told(&error, &kept));
                }
            };
            session.set_timeout(ANSWER_S);
            let can: BTreeSet<String> = version.extensions.into_keys().collect();
            if can.contains(extensions::LIMITS)
                && let Ok(limits) = unless_silent(silent.clone(), session.limits()).await
            {
                session.set_limits(Limits::from(limits));
            }
            Ok((program, session, can, silent))
        });
        let (program, session, can, silent) = opened?;
        Ok(Line {
            runtime,
            session: Arc::new(session),
            can,
            said,
            ended: AtomicBool::new(false),
            silent,
            #[cfg(test)]
            host: address.host.clone(),
            _program: program,
        })
    }

    /// Whether the other end knows an extension of the protocol.
    pub fn can(&self, extension: &str) -> bool {
        self.can.contains(extension)
    }

    /// Waits for an answer.
    ///
    /// # Errors
    /// What the other end answers, or that the line has ended, with what was said last.
    pub fn wait<T>(&self, asked: impl Future<Output = Result<T, Error>>) -> io::Result<T> {
        #[cfg(test)]
        if let Some(how) = super::cut::is_due(&self.host) {
            if how == super::cut::How::After {
                let _ = self.runtime.block_on(asked);
            }
            return Err(self.told(&Error::IO(String::new())));
        }
        self.runtime
            .block_on(unless_silent(self.silent.clone(), asked))
            .map_err(|error| self.told(&error))
    }

    /// Whether nothing comes over it any more.
    pub fn has_ended(&self) -> bool {
        self.ended.load(Ordering::Relaxed)
    }

    fn told(&self, error: &Error) -> io::Error {
        let told = told(error, &self.said);
        if matches!(
            told.kind(),
            io::ErrorKind::ConnectionAborted | io::ErrorKind::TimedOut
        ) {
            self.ended.store(true, Ordering::Relaxed);
        }
        told
    }

    /// As [`Line::wait`], for several answers at once, so many as [`AT_ONCE`] says: each may fail by itself.
    pub fn wait_all<T: Send + 'static>(
        &self,
        asked: impl Iterator<Item = impl Future<Output = Result<T, Error>> + Send + 'static>,
    ) -> Vec<io::Result<T>> {
        let places = Arc::new(Semaphore::new(AT_ONCE));
        let under_way: Vec<_> = asked
            .map(|one| {
                let (silent, places) = (self.silent.clone(), Arc::clone(&places));
                self.runtime.spawn(async move {
                    let _place = places.acquire().await;
                    unless_silent(silent, one).await
                })
            })
            .collect();
        let answers = self.runtime.block_on(async {
            let mut answers = Vec::new();
            for one in under_way {
                let answer = one.await;
                answers.push(answer.unwrap_or_else(|error| Err(Error::IO(error.to_string()))));
            }
            answers.into_iter()
        });
        #[cfg(test)]
        if super::cut::is_due(&self.host).is_some() {
            let cut = || Err(self.told(&Error::IO(String::new())));
            return answers.map(|_| cut()).collect();
        }
        let answers = answers.map(|it| it.map_err(|error| self.told(&error)));
        answers.collect()
    }

    /// Asks, and leaves it to whoever gets this to wait for the answer, by [`Line::wait`].
    pub fn begin<T: Send + 'static>(
        &self,
        asked: impl Future<Output = Result<T, Error>> + Send + 'static,
    ) -> JoinHandle<Result<T, Error>> {
        self.runtime.spawn(asked)
    }

    /// Has something done without waiting for it.
    pub fn leave(&self, asked: impl Future<Output = ()> + Send + 'static) {
        self.runtime.spawn(asked);
    }
}

/// What comes over a line, with a notice when that ends.
///
/// The session by itself leaves a question unanswered that is put while it ends.
struct Heard<R> {
    answers: R,
    notice: watch::Sender<bool>,
}

impl<R: AsyncRead + Unpin> AsyncRead for Heard<R> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let (room, before) = (buffer.remaining(), buffer.filled().len());
        let read = ready!(Pin::new(&mut self.answers).poll_read(context, buffer));
        if read.is_err() || (room > 0 && buffer.filled().len() == before) {
            self.notice.send_replace(true);
        }
        Poll::Ready(read)
    }
}

/// An answer, or that nothing comes any more; what came before the end counts.
async fn unless_silent<T>(
    mut silent: watch::Receiver<bool>,
    asked: impl Future<Output = Result<T, Error>>,
) -> Result<T, Error> {
    // Whoever would give the notice is gone, too, where the session ended at what it could not read.
    let ended = async {
        let _ = silent.wait_for(|it| *it).await;
    };
    tokio::select! {
        biased;
        answer = asked => answer,
        () = ended => Err(Error::IO(String::new())),
    }
}

/// Whether an answer says that there is nothing more.
pub fn is_end(error: &Error) -> bool {
    matches!(error, Error::Status(status) if status.status_code == StatusCode::Eof)
}

/// Keeps the last lines that a program says of itself.
async fn listen(words: impl AsyncRead + Unpin, said: Arc<Mutex<Vec<String>>>) {
    let mut lines = BufReader::new(words).lines();
    while let Ok(Some(line)) = lines.next_line().await {
        let mut said = said.lock().unwrap_or_else(PoisonError::into_inner);
        said.push(line.trim().to_owned());
        if said.len() > REMEMBERED {
            said.remove(0);
        }
    }
}

/// An answer of the other end, or the end of the line, as the system's errors are told.
fn told(error: &Error, said: &Mutex<Vec<String>>) -> io::Error {
    let Error::Status(status) = error else {
        let said = said.lock().unwrap_or_else(PoisonError::into_inner);
        let last: Vec<&str> = said
            .iter()
            .map(String::as_str)
            .filter(|line| !line.is_empty())
            .collect();
        let last = last[last.len().saturating_sub(3)..].join("; ");
        return match (error, last.is_empty()) {
            (Error::Timeout, _) => io::Error::new(
                io::ErrorKind::TimedOut,
                format!("nothing came back for {ANSWER_S} seconds"),
            ),
            (_, true) => io::Error::new(
                io::ErrorKind::ConnectionAborted,
                "the line has ended, and nothing was said of why",
            ),
            (_, false) => io::Error::new(
                io::ErrorKind::ConnectionAborted,
                format!("the line has ended: {last}"),
            ),
        };
    };
    let kind = match status.status_code {
        StatusCode::NoSuchFile => io::ErrorKind::NotFound,
        StatusCode::PermissionDenied => io::ErrorKind::PermissionDenied,
        StatusCode::OpUnsupported => io::ErrorKind::Unsupported,
        StatusCode::NoConnection | StatusCode::ConnectionLost => io::ErrorKind::ConnectionAborted,
        _ => io::ErrorKind::Other,
    };
    let words = match (kind, status.error_message.trim()) {
        (io::ErrorKind::NotFound, _) => "it is not there".to_owned(),
        (io::ErrorKind::PermissionDenied, _) => "the other end does not allow it".into(),
        (_, "") => "the other end refuses, and does not say why".into(),
        // The protocol has no other word for most of it.
        (_, said) if said.eq_ignore_ascii_case("failure") => {
            "the other end refuses, and does not say why".into()
        }
        (_, said) => format!("the other end refuses: {said}"),
    };
    io::Error::new(kind, words)
}
