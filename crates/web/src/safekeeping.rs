//! Backups, restoring, and the doctor, on the command line.

use crate::state::data_dir::{self, Holds};
use crate::state::wall_clock;
use crate::terminal::{open, tell};
use anyhow::{anyhow, bail};
use ebrel_app::safety;
use std::path::Path;

/// Makes a backup and says what it holds.
pub async fn backup(data: &Path, to: &Path) -> anyhow::Result<()> {
    if to.is_dir() {
        bail!("{} is a folder: give a file's name", to.display());
    }
    let state = open(data).await?;
    let made = safety::backup(&state.store, data, to, wall_clock()).await?;
    state.store.close().await;
    let (files, copied) = (made.backup.files, made.copied);
    let mega = made.backup.bytes as f64 / 1e6;
    tell(&format!(
        "The backup holds, it was read back: {} readings, {files} files ({copied} copied now), {mega:.1} MB in {} and {}.",
        made.readings,
        to.display(),
        safety::files_of(to).display()
    ));
    Ok(())
}

/// Restores a backup into an empty directory.
pub async fn restore(from: &Path, data: &Path) -> anyhow::Result<()> {
    if !from.is_file() {
        bail!("there is no backup at {}", from.display());
    }
    if data_dir::holds(data) != Holds::Nothing {
        bail!("{} holds something already: give a directory that is empty or not there", data.display());
    }
    data_dir::prepare(data).map_err(|e| anyhow!("{} cannot be used: {e}", data.display()))?;
    let (readings, files) = safety::restore(from, data).await?;
    data_dir::private(&data.join("ebrel.db"), 0o600)?;
    tell(&format!(
        "Restored: {readings} readings and {files} files in {}. Everybody signs in anew: `ebrel serve --data {}`.",
        data.display(),
        data.display()
    ));
    Ok(())
}

/// Looks a data directory through.
pub async fn doctor(data: &Path) -> anyhow::Result<()> {
    let state = open(data).await?;
    let looks = safety::doctor(&state.store, data).await?;
    state.store.close().await;
    for look in &looks {
        tell(&format!("{} {}: {}.", if look.sound { "sound" } else { "WRONG" }, look.what, look.says));
    }
    if looks.iter().all(|l| l.sound) { Ok(()) } else { Err(anyhow!("not all is as it should be: restore a backup")) }
}
