//! Two stations compared, each moment with the same moment.

use super::ground::{Ground, Selection};
use crate::record::{Flagged, StationRecord};
use ebrel_core::findings::climate::daily_sums;
use ebrel_core::findings::{
    BeforeAfter, BlockBootstrap, Buffering, Comparison, Counts, Grid, PairError, before_after, buffering, compare,
    paired,
};
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use std::collections::HashMap;
use thiserror::Error;

/// What is compared.
#[derive(Debug, Clone, PartialEq)]
pub struct Question {
    /// The quantity.
    pub quantity: Quantity,
    /// Depth, cm; `None` in the air.
    pub depth_cm: Option<f64>,
    /// A date from which a treatment held at the first station: a day counted from 1970.
    pub date: Option<i64>,
    /// Which part of the records.
    pub selection: Selection,
}

/// Why two stations cannot be compared.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum BesideError {
    /// One of them does not measure it there.
    #[error("{0} does not measure that there: choose a depth that both have")]
    NotMeasured(String),
    /// Their records cannot be paired.
    #[error(transparent)]
    Pair(#[from] PairError),
}

/// What two stations tell of each other.
pub struct Beside {
    /// Differences: first less second.
    pub comparison: Comparison,
    /// Ratio of daily swings, for temperatures.
    pub buffering: Option<Buffering>,
    /// Before and after the date, if one is asked for.
    pub impact: Option<Result<BeforeAfter, PairError>>,
    /// Days of the pairs, with the mean difference of each.
    pub days: Vec<(i64, f64)>,
    /// Steps at which both are known, and at which one is not.
    pub steps: (usize, usize),
    /// What became of the readings at each.
    pub counts: (Counts, Counts),
    /// Where rain tells wet days from dry ones; `None` without a gauge.
    pub rain: Option<Option<String>>,
}

/// A daily swing below this is noise, K.
const FLOOR_K: f64 = 0.2;

/// Compares a quantity at a depth between two stations. `neighbours` are the others that the first may borrow its rain from.
///
/// # Errors
/// [`BesideError`] if one does not measure it, or they have no time in common.
pub fn beside(
    first: &Flagged,
    second: &Flagged,
    neighbours: &[Flagged],
    question: &Question,
) -> Result<Beside, BesideError> {
    let none = |of: &Flagged| BesideError::NotMeasured(of.record.station.name.clone());
    let a = Ground::new(first, &question.selection).ok_or_else(|| none(first))?;
    let b = Ground::new(second, &question.selection).ok_or_else(|| none(second))?;
    let grid = common(&a.grid, &b.grid).ok_or(PairError::NoCommonTime)?;
    let (a, b) = (a.on(grid), b.on(grid));
    let (x, of_first) = values(&a, question).ok_or_else(|| none(first))?;
    let (y, of_second) = values(&b, question).ok_or_else(|| none(second))?;
    let offset = first.record.study.utc_offset_minutes;
    let pairs = paired(&grid, &x, &y, offset)?;
    let rain = a.rain(neighbours);
    let by_day: HashMap<i64, f64> = rain.iter().flat_map(|r| daily_sums(&grid, &r.sums, offset)).collect();
    let boot = BlockBootstrap::default();
    Ok(Beside {
        comparison: compare(&pairs, |day| by_day.get(&day).copied(), &boot),
        buffering: question.quantity.is_temperature().then(|| buffering(&pairs, FLOOR_K, &boot)),
        impact: question.date.map(|date| before_after(&pairs, date, &boot)),
        days: pairs.days.iter().map(|d| (d.day, d.difference)).collect(),
        steps: (pairs.paired, pairs.unpaired),
        counts: (of_first, of_second),
        rain: rain.map(|r| r.borrowed),
    })
}

/// Times that both have.
fn common(a: &Grid, b: &Grid) -> Option<Grid> {
    let from = a.time(0).max(b.time(0));
    let to = a.time(a.len() - 1).min(b.time(b.len() - 1));
    Grid::over(from, to, SpanSeconds(a.step().0.max(b.step().0)))
}

fn values(ground: &Ground<'_>, question: &Question) -> Option<(Vec<f64>, Counts)> {
    match question.depth_cm {
        None => ground.joined(question.quantity),
        Some(depth) => {
            let mut profile = ground.profile(question.quantity);
            let level = profile.level(depth)?;
            let level = profile.levels.swap_remove(level);
            let mut counts = Counts::default();
            level.tracks.iter().for_each(|t| counts += t.counts);
            Some((level.values, counts))
        }
    }
}

/// Quantities and depths that two stations have in common, in the order of the first.
#[must_use]
pub fn in_common(first: &StationRecord, second: &StationRecord) -> Vec<(Quantity, Option<f64>)> {
    let of = |record: &StationRecord| -> Vec<(Quantity, Option<f64>)> {
        let channels = record.channels.iter().filter(|c| c.quantity().is_in_soil() || c.quantity().is_temperature());
        let calibrated = channels.filter(|c| c.quantity() != Quantity::RawOutput);
        calibrated.map(|c| (c.quantity(), c.channel.placement.depth_cm.filter(|_| c.quantity().is_in_soil()))).collect()
    };
    let other = of(second);
    let mut shared: Vec<(Quantity, Option<f64>)> = Vec::new();
    for (quantity, depth) in of(first) {
        let same = |o: &(Quantity, Option<f64>)| match (o.1, depth) {
            (Some(a), Some(b)) => o.0 == quantity && (a - b).abs() < 0.5,
            (a, b) => o.0 == quantity && a.is_none() && b.is_none(),
        };
        if other.iter().any(same) && !shared.iter().any(same) {
            shared.push((quantity, depth));
        }
    }
    shared
}

/// The day, counted from 1970, of a moment by the study's clock.
#[must_use]
pub const fn day_of(t: UnixSeconds, offset_minutes: i64) -> i64 {
    (t.0 + offset_minutes * 60).div_euclid(86_400)
}
