//! What is wrong with a backup or its store.

use std::path::PathBuf;

/// What is wrong with a backup or its store.
#[derive(Debug, thiserror::Error)]
pub enum BackupFault {
    /// There is no backup of that name.
    #[error("there is no backup {0}")]
    NoBackup(String),
    /// A backup that an undo would need.
    #[error("{0} is needed for an undo")]
    Needed(String),
    /// Several backups begin so.
    #[error("{} backups begin with {text}: {}", names.len(), names.join(", "))]
    SeveralBackups {
        /// What was typed.
        text: String,
        /// Those.
        names: Vec<String>,
    },
    /// The store has lost something, or it is damaged.
    #[error("the store of backups: {why}")]
    Store {
        /// What is wrong.
        why: String,
    },
    /// Somebody called it off.
    #[error(
        "called off; what was stored so far stays, and the next backup need not store it again"
    )]
    CalledOff,
    /// What the store lies on, elsewhere, does not do what it should.
    #[error("the store of backups, {at}: {why}")]
    Shelf {
        /// The store, or an object in it.
        at: String,
        /// What is wrong.
        why: String,
    },
    /// The key of a store cannot be used.
    #[error("the key of the store of backups: {why}")]
    Key {
        /// Why not.
        why: String,
    },
    /// It took so long that others may have thinned the store out meanwhile.
    #[error(
        "it took more than half a day: meanwhile, others may have deleted from the store what it counts on"
    )]
    TooLong,
    /// The folder for backups cannot be used.
    #[error("the folder for backups, {}: {why}", path.display())]
    StorePlace {
        /// The folder.
        path: PathBuf,
        /// Why not.
        why: String,
    },
}
