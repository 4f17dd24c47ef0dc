//! A station drawn: its section beside the strips of its record.

use super::section::{Placed, Section};
use ebrel_app::record::StationRecord;
use ebrel_app::window::strip_id;
use ebrel_core::series::{Window, WindowError};
use ebrel_core::units::UnixSeconds;
use serde::Deserialize;

/// The window that the strips ask for.
#[derive(Deserialize)]
pub struct Asked {
    /// First second, and the first one after.
    pub from: i64,
    pub to: i64,
    /// Columns of the picture.
    pub columns: usize,
    /// Which families of quantities.
    #[serde(default)]
    pub show: String,
}

impl Asked {
    /// As a window that can be thinned to; why not, if it is none.
    pub fn window(&self) -> Result<Window, WindowError> {
        Window::new(UnixSeconds(self.from), UnixSeconds(self.to), self.columns)
    }
}

/// What section and strips need of a station, shared by Record and Review.
pub struct Drawing {
    pub section: Section,
    /// The station's number.
    pub station: i64,
    /// First and last reading, seconds of UTC.
    pub extent: (i64, i64),
    /// Where the windows of its record are asked for.
    pub window: String,
    /// The study's offset, minutes.
    pub offset: i64,
}

/// Draws a station; `None` if it has no readings yet.
pub fn drawing(record: &StationRecord) -> Option<Drawing> {
    let (first, last) = record.extent()?;
    let mut placed: Vec<Placed> = Vec::new();
    for channel in record.channels.iter().filter(|c| c.quantity().is_moisture()) {
        if let Some(depth_cm) = channel.channel.placement.depth_cm {
            let strip = strip_id(record.station.id, channel.quantity(), Some(depth_cm));
            if placed.iter().all(|p| p.strip != strip) {
                placed.push(Placed { depth_cm, strip, pores: channel.pore_space });
            }
        }
    }
    let section = Section::draw(record.soil.horizons(), &placed);
    let offset = record.study.utc_offset_minutes;
    let window = format!("/stations/{}/window.json", record.station.id);
    Some(Drawing { section, window, station: record.station.id, extent: (first.0, last.0 + 1), offset })
}
