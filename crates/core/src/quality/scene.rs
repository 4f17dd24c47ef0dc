//! What a test sees.

use super::screened::Screened;
use super::water::Water;
use super::{Flag, StationContext};

/// What a test of one channel sees: the channel, its neighbours, the station, and what earlier tests found.
pub(super) struct Scene<'s> {
    /// The channel to look at.
    pub of: &'s Screened<'s>,
    /// All channels of the station as this pass sees them, `of` among them.
    pub all: &'s [Screened<'s>],
    pub station: &'s StationContext<'s>,
    pub water: &'s Water,
    /// What earlier tests found in this channel.
    pub found: &'s [Flag],
}

/// What a test of a whole station sees.
pub(super) struct Whole<'s> {
    /// All channels of the station as this pass sees them.
    pub all: &'s [Screened<'s>],
    pub station: &'s StationContext<'s>,
    pub water: &'s Water,
    /// What earlier tests found, by channel.
    pub found: &'s [Vec<Flag>],
}

/// A flag of one of the station's channels.
pub(super) type Told = (usize, Flag);
