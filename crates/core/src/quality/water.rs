//! Whether water that reached the soil explains a rise.

use super::{Event, EventKind};
use crate::series::View;

/// Rain and irrigation of a station, ready to be asked for the sum over any stretch.
pub(super) struct Water {
    times: Vec<i64>,
    /// Sum up to and with `times[i]`; one longer than `times`, beginning with 0.
    sums: Vec<f64>,
    irrigation: Vec<(i64, i64)>,
    needed_mm: f64,
}

impl Water {
    pub fn new(rain: Option<View<'_>>, events: &[Event], needed_mm: f64) -> Self {
        let mut water = Self { times: Vec::new(), sums: vec![0.0], irrigation: Vec::new(), needed_mm };
        if let Some(view) = rain {
            let mut sum = 0.0;
            for (t, mm) in view.times.iter().zip(view.values) {
                if *mm > 0.0 && *mm < 500.0 {
                    sum += mm;
                    water.times.push(*t);
                    water.sums.push(sum);
                }
            }
        }
        let irrigated = events.iter().filter(|e| e.kind == EventKind::Irrigation);
        water.irrigation = irrigated.map(|e| (e.start.0, e.end.0)).collect();
        water
    }

    /// Rain between `from` and `to`, both inclusive, mm.
    pub fn rain(&self, from: i64, to: i64) -> f64 {
        let start = self.times.partition_point(|t| *t < from);
        let end = self.times.partition_point(|t| *t <= to);
        self.sums[end.max(start)] - self.sums[start]
    }

    /// Seconds since it last rained at all before `t`.
    pub fn dry_for(&self, t: i64) -> Option<i64> {
        let before = self.times.partition_point(|time| *time <= t);
        before.checked_sub(1).map(|i| t - self.times[i])
    }

    /// Whether water that came before `t` may be arriving at `depth_cm` just then. A front needs time: six hours
    /// and 45 minutes for each centimetre are granted, which is slow even for a clay.
    pub fn may_arrive(&self, t: i64, depth_cm: f64) -> bool {
        const BASE: i64 = 6 * 3600;
        const PER_CM: f64 = 45.0 * 60.0;
        let from = t - BASE - (depth_cm.max(0.0) * PER_CM) as i64;
        // A gauge's reading closes its interval, so the rain may be booked up to an hour after the probe saw it.
        let to = t + 3600;
        self.rain(from, to) >= self.needed_mm || self.irrigation.iter().any(|(start, end)| *start <= to && *end >= from)
    }
}
