//! What commands share: a line for the person at the terminal, and the data that they work on.

use crate::state::{Mode, State};
use anyhow::{Error, bail};
use std::path::Path;

/// A line for the person at the terminal.
pub fn tell(line: &str) {
    use std::io::Write;
    // A closed terminal is no reason to stop.
    let _ = writeln!(std::io::stderr(), "{line}");
}

/// Opens an existing data directory for a command.
pub async fn open(data: &Path) -> anyhow::Result<State> {
    if !data.join("ebrel.db").is_file() {
        bail!("there is no Ebrel data in {}: give its directory with --data", data.display());
    }
    State::open(data, Mode::Serve { https: false }).await.map_err(Error::msg)
}
