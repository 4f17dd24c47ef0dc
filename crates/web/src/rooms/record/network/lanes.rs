//! What is drawn by days: shares of records as bars, values as a band with its mean, all on one axis.

use crate::shell::figures::when;
use ebrel_core::network::{DayOfValues, Received, start_of};

/// Width of every lane; it is stretched to its place.
const WIDTH: f64 = 1000.0;
/// Height of every lane.
const HEIGHT: f64 = 100.0;

/// A label under the lanes: where it stands, percent from the left, and what it says.
pub struct Tick {
    pub left_pct: String,
    pub label: String,
}

/// First days of months, thinned so that labels do not touch.
pub fn ticks((from, to): (i64, i64), offset: i64) -> Vec<Tick> {
    let days = (to - from).max(1) as f64;
    let first = |day: &i64| when(start_of(*day, offset), offset, "%d") == "01";
    let all: Vec<i64> = (from..to).filter(first).collect();
    let every = all.len().div_ceil(9).max(1);
    let form = if days > 400.0 { "%b %y" } else { "%-d %b" };
    let tick = |day: &i64| Tick {
        left_pct: format!("{:.2}", (day - from) as f64 / days * 100.0),
        label: when(start_of(*day, offset), offset, form),
    };
    // A label at the very end would be cut.
    let in_sight = |day: &&i64| (**day - from) as f64 / days < 0.94;
    all.iter().step_by(every).filter(in_sight).map(tick).collect()
}

/// Bars of records by day: what came in time, what came late, and days that owe everything.
#[derive(Default)]
pub struct Bars {
    /// Path of what came in time.
    pub came: String,
    /// Path of what came more than a day late.
    pub late: String,
    /// Path of days of which nothing came.
    pub none: String,
}

impl Bars {
    pub fn of(received: &[Received], late: &[bool]) -> Self {
        let mut bars = Self::default();
        let wide = WIDTH / received.len().max(1) as f64;
        for (i, day) in received.iter().enumerate() {
            let Some(share) = day.share() else { continue };
            let x = i as f64 * wide;
            let (path, high) = match late.get(i) {
                _ if share == 0.0 => (&mut bars.none, HEIGHT),
                Some(true) => (&mut bars.late, HEIGHT * share),
                _ => (&mut bars.came, HEIGHT * share),
            };
            path.push_str(&format!("M{x:.1} {HEIGHT:.0}v{:.1}h{wide:.2}v{high:.1}z", -high));
        }
        bars
    }
}

/// Values by day.
pub struct Lane {
    /// Path around least and greatest of each day.
    pub band: String,
    /// Path of the means; it breaks where days are missing.
    pub line: String,
    /// Where the threshold lies, if there is one in sight.
    pub threshold: Option<String>,
    /// Least and greatest of the axis.
    pub axis: (f64, f64),
    /// Whether somebody should do something about it.
    pub wrong: bool,
}

impl Lane {
    /// The same, drawn as what somebody should do something about.
    pub fn marked(self, wrong: bool) -> Self {
        Self { wrong, ..self }
    }

    /// Draws days between `axis`, or between what they hold; `None` if no day holds anything.
    pub fn of(days: &[Option<DayOfValues>], axis: Option<(f64, f64)>, threshold: Option<f64>) -> Option<Self> {
        let held = || days.iter().flatten();
        held().next()?;
        let own = || {
            let least = held().map(|d| d.least).fold(f64::INFINITY, f64::min);
            let greatest = held().map(|d| d.greatest).fold(f64::NEG_INFINITY, f64::max);
            let (least, greatest) = threshold.map_or((least, greatest), |t| (least.min(t), greatest.max(t)));
            let room = ((greatest - least) * 0.08).max(0.05);
            (least - room, greatest + room)
        };
        let (low, high) = axis.unwrap_or_else(own);
        let wide = WIDTH / days.len() as f64;
        let y = |v: f64| (HEIGHT * (1.0 - (v - low) / (high - low))).clamp(0.0, HEIGHT);
        let (mut band, mut line) = (String::new(), String::new());
        let mut pen_down = false;
        for (i, day) in days.iter().enumerate() {
            let Some(day) = day else {
                pen_down = false;
                continue;
            };
            let x = i as f64 * wide;
            let (top, bottom) = (y(day.greatest), y(day.least));
            band.push_str(&format!("M{x:.1} {top:.1}h{wide:.2}V{bottom:.1}h{:.2}z", -wide));
            let stroke = if pen_down { 'L' } else { 'M' };
            line.push_str(&format!("{stroke}{:.1} {:.1}", x + wide / 2.0, y(day.mean)));
            // One day alone is a point: a line of no length is not drawn.
            line.push_str(if pen_down { "" } else { "h0.1" });
            pen_down = true;
        }
        let threshold = threshold.filter(|t| (low..=high).contains(t)).map(|t| format!("{:.1}", y(t)));
        Some(Self { band, line, threshold, axis: (low, high), wrong: false })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_day_is_drawn_once_as_what_it_is() {
        let day = |got, expected| Received { got, expected };
        let all = [day(96, 96), day(48, 96), day(0, 96), day(0, 0), day(96, 96)];
        let bars = Bars::of(&all, &[false, false, false, false, true]);
        let rects = |path: &str| path.matches('M').count();
        assert_eq!((rects(&bars.came), rects(&bars.late), rects(&bars.none)), (2, 1, 1));
        assert!(bars.came.contains("M200.0 100v-50.0h200.00v50.0z"), "{}", bars.came);
        assert!(Bars::of(&[], &[]).came.is_empty());
    }

    #[test]
    fn a_line_breaks_where_days_are_missing_and_stays_within_its_lane() {
        let day = |mean: f64| Some(DayOfValues { least: mean - 1.0, mean, greatest: mean + 1.0 });
        let lane = Lane::of(&[day(50.0), None, day(70.0), day(250.0)], Some((0.0, 100.0)), Some(60.0)).unwrap();
        assert_eq!((lane.line.matches('M').count(), lane.threshold.as_deref()), (2, Some("40.0")));
        assert!(!lane.line.contains('-') && !lane.line.contains("NaN"), "{}", lane.line);
        assert!(Lane::of(&[None, None], None, None).is_none());
        let flat = Lane::of(&[day(3.6), day(3.6)], None, Some(3.3)).unwrap();
        assert!(flat.axis.0 < flat.axis.1 && flat.threshold.is_some());
    }

    #[test]
    fn months_are_labelled_and_never_crowd() {
        for days in [1, 90, 365, 3650] {
            assert!(ticks((20_000, 20_000 + days), 0).len() <= 9);
        }
        assert_eq!(ticks((20_000, 20_090), 0).len(), 2, "November and December; January begins at the very end");
        assert!(ticks((20_000, 20_002), 0).iter().all(|t| t.left_pct.parse::<f64>().unwrap() < 94.0));
    }
}
