//! Backups that are read back, restoring them, and a doctor for a data directory.
//!
//! A backup is a database file and, beside it, a folder of the uploaded files by their SHA-256 (`FILE` and `FILE.files`): what lies there
//! already is not copied again. The key of sessions is not in it: after restoring, everybody signs in anew.

use ebrel_core::units::UnixSeconds;
use ebrel_store::safety::{Backup, Examined, examine_file, kept_files_of};
use ebrel_store::{Store, StoreError};
use sha2::{Digest, Sha256};
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use thiserror::Error;

/// Why there is no backup, or none could be restored.
#[derive(Debug, Error)]
pub enum SafetyError {
    /// The database refuses.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A file or folder refuses.
    #[error("{0} cannot be used: {1}")]
    Disk(PathBuf, io::Error),
    /// Nothing may be written there.
    #[error("{0} {1}: choose another place. Nothing was written")]
    Place(PathBuf, &'static str),
    /// It cannot be read as a backup of Ebrel.
    #[error("{0} is no backup that can be read ({1})")]
    NoBackup(PathBuf, String),
    /// What was written is not what should have been.
    #[error("the backup does not hold: {0}. Nothing that was there before was touched")]
    Broken(String),
}

fn at(path: &Path) -> impl FnOnce(io::Error) -> SafetyError + '_ {
    move |e| SafetyError::Disk(path.to_owned(), e)
}

/// What a backup did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Made {
    /// It, as it is noted.
    pub backup: Backup,
    /// Readings that it holds.
    pub readings: i64,
    /// Files that were copied now; the others lay there already.
    pub copied: usize,
}

/// The folder of a backup's files.
#[must_use]
pub fn files_of(backup: &Path) -> PathBuf {
    beside(backup, ".files")
}

/// The path with something added to its name.
fn beside(path: &Path, added: &str) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(added);
    path.with_file_name(name)
}

/// Refuses a place where a backup would write over the data themselves, or over what is no backup.
fn may_be_written(data: &Path, to: &Path) -> Result<(), SafetyError> {
    let folder = match to.parent() {
        Some(parent) if parent.as_os_str().is_empty() => Path::new("."),
        Some(parent) => parent,
        None => Path::new("."),
    };
    let (own, folder) = (data.canonicalize().map_err(at(data))?, folder.canonicalize().map_err(at(folder))?);
    if folder.starts_with(&own) {
        return Err(SafetyError::Place(to.to_owned(), "lies within the data themselves"));
    }
    let mut begins = [0; DATABASE.len()];
    match File::open(to).and_then(|mut f| io::Read::read_exact(&mut f, &mut begins)) {
        Ok(()) if begins == *DATABASE => Ok(()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        _ => Err(SafetyError::Place(to.to_owned(), "is there already and is no backup")),
    }
}

/// How every database file of SQLite begins.
const DATABASE: &[u8; 16] = b"SQLite format 3\0";

/// Makes a backup of an open data directory, also while a server runs, and reads it back. An older one in its place stays until the new
/// one holds.
///
/// # Errors
/// [`SafetyError`] if it cannot be written, or does not hold when it is read back.
pub async fn backup(store: &Store, data: &Path, to: &Path, now: UnixSeconds) -> Result<Made, SafetyError> {
    may_be_written(data, to)?;
    let half = beside(to, ".half");
    if half.exists() {
        fs::remove_file(&half).map_err(at(&half))?;
    }
    // Passwords and keys lie in it as hashes: for its owner alone, before there is anything in it.
    private_file(&half).map_err(at(&half))?;
    store.copy_to(&half).await?;
    File::open(&half).and_then(|f| f.sync_all()).map_err(at(&half))?;
    let readings = sound(&half).await?;
    // Files first: a database without its files would be worse than none.
    let wanted = kept_files_of(&half).await?;
    let (from, into) = (data.join("files"), files_of(to));
    let copied =
        tokio::task::spawn_blocking(move || copy_files(&from, &into, &wanted).map(|c| (c, wanted.len()))).await;
    let ((copied, bytes), files) = copied.map_err(|e| SafetyError::Broken(e.to_string()))??;
    let size = fs::metadata(&half).map_err(at(&half))?.len();
    fs::rename(&half, to).map_err(at(to))?;
    let backup = Backup {
        at: now,
        place: to.display().to_string(),
        bytes: i64::try_from(size + bytes).unwrap_or(i64::MAX),
        files: i64::try_from(files).unwrap_or(i64::MAX),
    };
    store.note_backup(&backup).await?;
    Ok(Made { backup, readings, copied })
}

/// Makes an empty file that its owner alone can read.
fn private_file(path: &Path) -> io::Result<()> {
    let mut options = File::options();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    options.open(path).map(|_| ())
}

/// Reads a database through that nobody uses, and counts its readings.
async fn sound(path: &Path) -> Result<i64, SafetyError> {
    let (found, readings) =
        examine_file(path).await.map_err(|e| SafetyError::NoBackup(path.to_owned(), e.to_string()))?;
    if found == Examined::default() { Ok(readings) } else { Err(SafetyError::Broken(told(&found))) }
}

/// Copies files by their names, which are their hashes, unless they are there; every one is read back. How many were copied, and how
/// many bytes all have.
fn copy_files(from: &Path, into: &Path, names: &[String]) -> Result<(usize, u64), SafetyError> {
    fs::create_dir_all(into).map_err(at(into))?;
    let (mut copied, mut bytes) = (0, 0);
    for name in names {
        let (source, target) = (from.join(name), into.join(name));
        if hash_of(&target).is_ok_and(|h| h == *name) {
            bytes += fs::metadata(&target).map_err(at(&target))?.len();
            continue;
        }
        let half = into.join(format!("{name}.half"));
        bytes += fs::copy(&source, &half).map_err(at(&source))?;
        File::open(&half).and_then(|f| f.sync_all()).map_err(at(&half))?;
        if hash_of(&half).map_err(at(&half))? != *name {
            return Err(SafetyError::Broken(format!("the file {name} is damaged in {}", from.display())));
        }
        fs::rename(&half, &target).map_err(at(&target))?;
        copied += 1;
    }
    Ok((copied, bytes))
}

fn hash_of(path: &Path) -> io::Result<String> {
    let mut hasher = Sha256::new();
    io::copy(&mut File::open(path)?, &mut HashWriter(&mut hasher))?;
    Ok(hex::encode(hasher.finalize()))
}

struct HashWriter<'h>(&'h mut Sha256);

impl io::Write for HashWriter<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Puts a backup into a directory that holds nothing yet; how many readings and files it brought.
///
/// # Errors
/// [`SafetyError`] if the directory holds something, the backup is damaged or a file of it is missing.
pub async fn restore(backup: &Path, data: &Path) -> Result<(i64, usize), SafetyError> {
    let readings = sound(backup).await?;
    let files = data.join("files");
    fs::create_dir_all(&files).map_err(at(&files))?;
    let database = data.join("ebrel.db");
    if database.exists() {
        let there =
            io::Error::new(io::ErrorKind::AlreadyExists, "there is a database in it; choose an empty directory");
        return Err(SafetyError::Disk(data.to_owned(), there));
    }
    let half = data.join("ebrel.db.half");
    fs::copy(backup, &half).map_err(at(&half))?;
    File::open(&half).and_then(|f| f.sync_all()).map_err(at(&half))?;
    let wanted = kept_files_of(&half).await?;
    let count = wanted.len();
    let from = files_of(backup);
    let copied = tokio::task::spawn_blocking(move || copy_files(&from, &files, &wanted)).await;
    copied.map_err(|e| SafetyError::Broken(e.to_string()))??;
    // The name comes last: a kill before leaves no directory that looks whole.
    fs::rename(&half, &database).map_err(at(&database))?;
    Ok((readings, count))
}

fn told(found: &Examined) -> String {
    let lost = found.lost_references.iter().map(|(table, n)| format!("{n} rows of {table} refer to what is not there"));
    found.pages.iter().cloned().chain(lost).collect::<Vec<_>>().join("; ")
}

/// One thing that the doctor looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Look {
    /// What it is.
    pub what: &'static str,
    /// Whether it is as it should be.
    pub sound: bool,
    /// What was found.
    pub says: String,
}

/// Looks a data directory through: pages, references, each uploaded file; makes again what is only packed for speed.
///
/// # Errors
/// [`StoreError`] if the database cannot be read at all.
pub async fn doctor(store: &Store, data: &Path) -> Result<Vec<Look>, StoreError> {
    let found = store.examine().await?;
    let look = |what, wrong: String, right: String| {
        let sound = wrong.is_empty();
        Look { what, sound, says: if sound { right } else { wrong } }
    };
    let readings = store.count_readings().await?;
    let pages = look("database", found.pages.join("; "), format!("every page is sound; {readings} readings"));
    let lost = told(&Examined { pages: Vec::new(), lost_references: found.lost_references });
    let references = look("references", lost, "each row refers to what is there".to_owned());
    let names = store.kept_files().await?;
    let folder = data.join("files");
    let files = tokio::task::spawn_blocking(move || {
        let mut wrong = Vec::new();
        for name in &names {
            match hash_of(&folder.join(name)) {
                Ok(hash) if hash == *name => {}
                Ok(_) => wrong.push(format!("{name} is not what was uploaded")),
                Err(error) => wrong.push(format!("{name} cannot be read: {error}")),
            }
        }
        (wrong.join("; "), names.len())
    });
    let (wrong, n) = files.await.map_err(|e| StoreError::Rule(e.to_string()))?;
    let files = look("uploaded files", wrong, format!("all {n} are what was uploaded"));
    // Damaged pages are no ground to build on.
    let packed = if pages.sound {
        let streams = store.rebuild_packed().await?;
        look("packed months", String::new(), format!("made anew from the readings of {streams} streams"))
    } else {
        look("packed months", "not touched while the database is damaged: restore a backup".to_owned(), String::new())
    };
    Ok(vec![pages, references, files, packed])
}
