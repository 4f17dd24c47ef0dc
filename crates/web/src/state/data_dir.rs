//! The data directory: private, of one server at a time, marked where it holds the demo, and rid of what a kill left over.

use ebrel_app::importing::PARTIAL;
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::Write;
use std::path::Path;

/// The file that marks a demo directory; it says how far the demo's data are made.
const MARK: &str = "demo";
const MAKING: &str = "Made-up data of Ebrel's demo, still being made: `ebrel demo` begins them anew.\n";
const READY: &str = "Made-up data of Ebrel's demo: `ebrel demo --fresh` throws them away.\n";
/// Everything that Ebrel itself keeps in a data directory.
const OWN: [&str; 7] =
    ["ebrel.db", "ebrel.db-wal", "ebrel.db-shm", "ebrel.db-journal", "session.key", "server.lock", MARK];

/// How copies begin that were made before a database was brought to a later version.
const BEFORE_MIGRATING: &str = "ebrel.before-";

/// Where the stand-ins of a live demo keep what was not confirmed.
pub const STAND_INS: &str = "stand-ins";

/// What a directory holds, as far as the demo is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holds {
    /// Nothing: it is missing or empty.
    Nothing,
    /// Demo data that are not finished.
    HalfADemo,
    /// Demo data.
    Demo,
    /// Something else, which the demo leaves alone.
    Other,
}

/// Looks at a directory without changing anything.
#[must_use]
pub fn holds(data: &Path) -> Holds {
    match fs::read_to_string(data.join(MARK)) {
        Ok(text) if text == MAKING => return Holds::HalfADemo,
        Ok(text) if text == READY => return Holds::Demo,
        _ => {}
    }
    match fs::read_dir(data) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Holds::Nothing,
        Ok(mut entries) => {
            if entries.next().is_none() {
                Holds::Nothing
            } else {
                Holds::Other
            }
        }
        Err(_) => Holds::Other,
    }
}

/// Marks a directory as the demo's, finished or not.
///
/// # Errors
/// If it cannot be written.
pub fn mark_demo(data: &Path, ready: bool) -> std::io::Result<()> {
    let mut file = File::create(data.join(MARK))?;
    file.write_all(if ready { READY } else { MAKING }.as_bytes())?;
    file.sync_all()
}

/// Removes what Ebrel keeps in a marked demo directory; files of others stay.
///
/// # Errors
/// A sentence, if the directory is not marked or a file cannot be removed.
pub fn clear_demo(data: &Path) -> Result<(), String> {
    if !matches!(holds(data), Holds::Demo | Holds::HalfADemo) {
        return Err(format!("{} is not marked as a demo directory: nothing was touched", data.display()));
    }
    let wrong = |e: std::io::Error| format!("{} could not be cleared: {e}", data.display());
    let missing = |e: std::io::Error| if e.kind() == std::io::ErrorKind::NotFound { Ok(()) } else { Err(e) };
    // The mark goes last: what a kill leaves half cleared is still known as the demo's.
    for name in OWN.iter().filter(|n| **n != MARK) {
        fs::remove_file(data.join(name)).or_else(missing).map_err(wrong)?;
    }
    for entry in fs::read_dir(data).into_iter().flatten().flatten() {
        if entry.file_name().to_string_lossy().starts_with(BEFORE_MIGRATING) {
            fs::remove_file(entry.path()).map_err(wrong)?;
        }
    }
    fs::remove_dir_all(data.join(STAND_INS)).or_else(missing).map_err(wrong)?;
    let files = data.join("files");
    for entry in fs::read_dir(&files).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if is_kept_file(&name) || name.starts_with(PARTIAL) {
            fs::remove_file(entry.path()).map_err(wrong)?;
        }
    }
    Ok(())
}

/// Whether a name is that of an uploaded file: its SHA-256.
fn is_kept_file(name: &str) -> bool {
    name.len() == 64 && name.bytes().all(|b| b.is_ascii_hexdigit())
}

/// Makes the directory if needed, private to its owner, and removes uploads that were never finished.
///
/// # Errors
/// If it cannot be made or written.
pub fn prepare(data: &Path) -> std::io::Result<()> {
    let files = data.join("files");
    fs::create_dir_all(&files)?;
    for folder in [data, &files] {
        private(folder, 0o700)?;
    }
    for entry in fs::read_dir(&files)?.flatten() {
        // A younger one may belong to an import that another process is just storing.
        let old =
            entry.metadata().and_then(|m| m.modified()).is_ok_and(|m| m.elapsed().is_ok_and(|e| e.as_secs() > 3600));
        if old && entry.file_name().to_string_lossy().starts_with(PARTIAL) {
            fs::remove_file(entry.path())?;
        }
    }
    Ok(())
}

/// Makes a file or folder readable by its owner alone.
///
/// # Errors
/// If its permissions cannot be changed.
pub fn private(path: &Path, mode: u32) -> std::io::Result<()> {
    #[cfg(unix)]
    fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(mode))?;
    #[cfg(not(unix))]
    let _ = (path, mode);
    Ok(())
}

/// Takes the directory for one server. The lock goes with the returned file, also when the process is killed.
///
/// # Errors
/// A sentence, if another server has it.
pub fn take(data: &Path) -> Result<File, String> {
    let path = data.join("server.lock");
    let wrong = |e: std::io::Error| format!("{} cannot be used: {e}", path.display());
    let file = OpenOptions::new().create(true).write(true).truncate(false).open(&path).map_err(wrong)?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(TryLockError::WouldBlock) => Err(format!(
            "another Ebrel serves the data in {}: stop it first, or give another directory with --data",
            data.display()
        )),
        Err(TryLockError::Error(e)) => Err(wrong(e)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_marked_directory_is_cleared_and_foreign_files_stay() {
        let dir = tempfile::tempdir().unwrap();
        let data = dir.path();
        assert_eq!((holds(data), holds(&data.join("missing"))), (Holds::Nothing, Holds::Nothing));
        prepare(data).unwrap();
        for name in ["ebrel.db", "thesis.odt"] {
            fs::write(data.join(name), "precious").unwrap();
        }
        assert_eq!(holds(data), Holds::Other);
        assert!(clear_demo(data).unwrap_err().contains("nothing was touched"));
        assert!(data.join("ebrel.db").is_file());
        mark_demo(data, false).unwrap();
        assert_eq!(holds(data), Holds::HalfADemo);
        mark_demo(data, true).unwrap();
        assert_eq!(holds(data), Holds::Demo);
        fs::write(data.join("files/notes.txt"), "mine").unwrap();
        fs::write(data.join("files").join("a".repeat(64)), "uploaded").unwrap();
        fs::create_dir_all(data.join(STAND_INS).join("nodes")).unwrap();
        clear_demo(data).unwrap();
        let left = |name: &str| data.join(name).is_file();
        assert!(!left("ebrel.db") && left("thesis.odt") && left("files/notes.txt") && left(MARK));
        assert!(!data.join("files").join("a".repeat(64)).exists() && !data.join(STAND_INS).exists());
    }

    #[test]
    fn one_server_has_a_directory_at_a_time() {
        let dir = tempfile::tempdir().unwrap();
        let first = take(dir.path()).unwrap();
        assert!(take(dir.path()).unwrap_err().contains("another Ebrel serves the data"));
        drop(first);
        take(dir.path()).unwrap();
    }

    #[cfg(unix)]
    #[test]
    fn the_directory_is_private() {
        use std::os::unix::fs::PermissionsExt;
        let dir = tempfile::tempdir().unwrap();
        let data = dir.path().join("new");
        prepare(&data).unwrap();
        for folder in [data.clone(), data.join("files")] {
            assert_eq!(fs::metadata(folder).unwrap().permissions().mode() & 0o777, 0o700);
        }
    }
}
