//! A station as a small picture: its state now, a year of storage, and what became of each day of each channel.

use super::ground::{Ground, Selection, usual};
use crate::record::{Flagged, left_out};
use ebrel_core::findings::{DayState, StorageSeries, coverage};
use ebrel_core::series::{Belief, LeftOut};
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};

/// The state at one depth.
#[derive(Debug, Clone, PartialEq)]
pub struct Now {
    /// Depth, cm.
    pub depth_cm: f64,
    /// What is told.
    pub quantity: Quantity,
    /// The newest believed value; `None` if none is as new as the station's last day.
    pub value: Option<f64>,
    /// Pore space there.
    pub pores: Option<f64>,
}

/// What became of the days of one channel.
#[derive(Debug, Clone, PartialEq)]
pub struct Coverage {
    /// Its label.
    pub label: String,
    /// Its quantity.
    pub quantity: Quantity,
    /// Depth, cm.
    pub depth_cm: Option<f64>,
    /// One state a day.
    pub days: Vec<DayState>,
}

/// A station at a glance.
pub struct StationPicture {
    /// Depths from the surface down.
    pub now: Vec<Now>,
    /// When "now" is: the station's last reading.
    pub at: Option<UnixSeconds>,
    /// Storage at the noon of each day of the last year, mm; NaN over gaps. Empty without water contents.
    pub storage: Vec<f64>,
    /// Down to where, cm.
    pub bottom_cm: f64,
    /// First day of `coverage`, as its first second by the study's clock.
    pub first: UnixSeconds,
    /// Channels with their days.
    pub coverage: Vec<Coverage>,
}

const DAY: SpanSeconds = SpanSeconds(86_400);
/// Days that the picture looks back.
pub const DAYS: usize = 365;

/// Draws a station together, looking back a year from `now`.
#[must_use]
pub fn picture(of: &Flagged, now: UnixSeconds) -> StationPicture {
    let (record, flags) = (&of.record, &of.flags[..]);
    let offset = SpanSeconds(record.study.utc_offset_minutes * 60);
    let midnight = UnixSeconds((now + offset).0.div_euclid(DAY.0) * DAY.0) - offset;
    let first = midnight - SpanSeconds(DAY.0 * (DAYS as i64 - 1));
    let at = record.extent().map(|e| e.1);
    let (mut seen, mut storage, mut bottom_cm) = (Vec::new(), Vec::new(), 0.0);
    let selection = Selection { from: Some(first), to: Some(now + SpanSeconds(1)), belief: Belief::default() };
    if let Some(ground) = Ground::new(of, &selection) {
        for quantity in [Quantity::WaterContent, Quantity::WaterTension] {
            let profile = ground.profile(quantity);
            let last = profile.grid.len() - 1;
            let near = last.saturating_sub(profile.grid.steps(DAY));
            for level in &profile.levels {
                let value = level.values[near..=last].iter().rev().copied().find(|v| v.is_finite());
                seen.push(Now { depth_cm: level.depth_cm, quantity, value, pores: level.pores });
            }
            if quantity == Quantity::WaterContent && !profile.levels.is_empty() {
                bottom_cm = profile.levels[profile.levels.len() - 1].depth_cm;
                if let Ok(series) = StorageSeries::of(&profile, bottom_cm) {
                    let noon = |d: usize| first + SpanSeconds(DAY.0 * d as i64 + DAY.0 / 2);
                    let at = |t: UnixSeconds| {
                        let day = profile.grid.between(t - SpanSeconds(DAY.0 / 2), t + SpanSeconds(DAY.0 / 2));
                        let known: Vec<f64> = series.mm[day].iter().copied().filter(|v| v.is_finite()).collect();
                        known.iter().sum::<f64>() / known.len() as f64
                    };
                    storage = (0..DAYS).map(|d| at(noon(d))).collect();
                }
            }
        }
    }
    seen.sort_by(|a, b| a.depth_cm.total_cmp(&b.depth_cm));
    let belief = Belief::default();
    let mut rows: Vec<Coverage> = Vec::new();
    for channel in record.channels.iter().filter(|c| !c.quantity().is_of_the_node()) {
        let stream = channel.channel.stream.id;
        let out = left_out(stream, flags, &belief);
        let waiting = flags.iter().filter(|f| f.stream_id == stream && f.waits());
        let doubtful = LeftOut::of(waiting.map(|f| (f.flag.start, f.flag.end)));
        let days = coverage(channel.view().times, usual(channel), &out, &doubtful, first, DAYS);
        let (label, depth_cm) = (channel.channel.label(), channel.channel.placement.depth_cm);
        match rows.iter_mut().find(|r| r.label == label && r.quantity == channel.quantity()) {
            // Another probe at the same place goes on, or stands beside: the better of both is what is known.
            Some(row) => row.days.iter_mut().zip(days).for_each(|(known, other)| {
                if *known == DayState::Missing {
                    *known = other;
                }
            }),
            None => rows.push(Coverage { label, quantity: channel.quantity(), depth_cm, days }),
        }
    }
    StationPicture { now: seen, at, storage, bottom_cm, first, coverage: rows }
}
