//! Uploaded files: kept as they came, under their hash.

use sha2::{Digest, Sha256};
use std::io::{Read as _, Write as _};
use std::path::{Path, PathBuf};

/// How a file is called while it is being written; what a kill leaves of it is removed at the next start.
pub const PARTIAL: &str = ".part-";

/// Where an uploaded file is kept: under its hash, as it came.
#[must_use]
pub fn kept_at(data: &Path, sha256: &str) -> PathBuf {
    data.join("files").join(sha256)
}

/// Keeps a file as it came, under its SHA-256, and returns that. It is copied piece by piece, whatever its size.
///
/// # Errors
/// If it cannot be read or written.
pub fn keep_file(data: &Path, file: &Path) -> std::io::Result<String> {
    let folder = data.join("files");
    let mut partial = tempfile::Builder::new().prefix(PARTIAL).tempfile_in(&folder)?;
    let mut source = std::fs::File::open(file)?;
    let (mut hasher, mut piece) = (Sha256::new(), vec![0; 64 * 1024]);
    loop {
        let count = source.read(&mut piece)?;
        if count == 0 {
            break;
        }
        hasher.update(&piece[..count]);
        partial.write_all(&piece[..count])?;
    }
    let hash = hex::encode(hasher.finalize());
    let path = kept_at(data, &hash);
    if !path.is_file() {
        partial.as_file().sync_all()?;
        partial.persist(&path)?;
        // The name is on the disk only once its folder is.
        std::fs::File::open(folder)?.sync_all()?;
    }
    Ok(hash)
}
