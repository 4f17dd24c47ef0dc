//! Stand-ins for nodes and a gateway: they keep on the disk what the next stage has not confirmed.
//!
//! A [`NodeBox`] wakes, measures and keeps; it hands its records to the [`Gateway`] in parcels, which the gateway keeps until whoever
//! sends them up says that they were confirmed. A [`Network`] is both, one step of the world after the other. Killed at any moment, both go on with what lies on the disk: a parcel may come twice,
//! none is lost. [`Weakness`] says what is to go wrong, by a seed. Nothing here speaks to a network; the application does.

mod field;
mod gateway;
mod node;
mod weakness;

pub use field::{Hand, Network, Rig};
pub use gateway::{Gateway, Parcel};
pub use node::{Kept, NodeBox, PortTold};
pub use weakness::{EMPTY_V, Weakness};

use std::path::Path;

/// Writes a file so that after a kill it is there whole, or as it was.
fn write_whole(path: &Path, text: &str) -> std::io::Result<()> {
    let half = path.with_extension("half");
    {
        let mut file = std::fs::File::create(&half)?;
        std::io::Write::write_all(&mut file, text.as_bytes())?;
        file.sync_all()?;
    }
    std::fs::rename(half, path)
}
