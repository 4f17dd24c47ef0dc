//! Responses of plants or soils held against water content or tension: pasted tables, matched to probes, and a threshold looked for.

use super::ground::{Ground, Selection};
use crate::record::{ChannelRecord, Flagged};
use ebrel_core::findings::{Counts, Grid, Point, Threshold, ThresholdError, two_segments};
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds, read_number};
use ebrel_core::water::VanGenuchten;
use ebrel_store::responses::Response;
use std::collections::{BTreeMap, HashSet};
use thiserror::Error;

/// What a pasted table holds.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PastedResponses {
    /// Point, time and value, in the order of the lines.
    pub values: Vec<(String, UnixSeconds, f64)>,
    /// Lines that cannot be taken, counted from 1, with what to do.
    pub slips: Vec<(usize, String)>,
    /// Lines that hold nothing, or the names of columns.
    pub passed_over: usize,
}

/// Lines of one table.
pub const MOST_LINES: usize = 20_000;

/// Reads a table: on each line a time, a point and a value, parted by tabs, semicolons or commas. `time` reads a time as people here write it.
#[must_use]
pub fn pasted_responses(text: &str, time: impl Fn(&str) -> Option<UnixSeconds>) -> PastedResponses {
    let mut pasted = PastedResponses::default();
    let mut known = HashSet::new();
    for (i, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.is_empty() {
            pasted.passed_over += 1;
            continue;
        }
        if i >= MOST_LINES {
            pasted.slips.push((i + 1, format!("There are more than {MOST_LINES} lines: paste them in parts.")));
            break;
        }
        let parts: Vec<&str> = if line.contains(['\t', ';']) {
            line.split(['\t', ';']).map(str::trim).collect()
        } else {
            line.split(',').map(str::trim).collect()
        };
        let &[when, point, what] = &parts[..] else {
            pasted.slips.push((i + 1, "Write a time, a point and a value, with tabs or semicolons between.".into()));
            continue;
        };
        match (time(when), read_number(what)) {
            (None, Err(_)) if i == 0 => pasted.passed_over += 1,
            (None, _) => {
                pasted.slips.push((i + 1, format!("“{when}” is no date and time: write it like 2026-05-01 06:00.")));
            }
            (_, Err(says)) => pasted.slips.push((i + 1, says)),
            _ if point.is_empty() => pasted.slips.push((i + 1, "Say which point: a port, serial or station.".into())),
            (Some(t), Ok(_)) if !known.insert((point, t)) => {
                pasted.slips.push((i + 1, format!("{point} has a value at {when} already: leave one of both out.")));
            }
            (Some(t), Ok(value)) => pasted.values.push((point.to_owned(), t, value)),
        }
    }
    pasted
}

/// What stands on the horizontal axis.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Abscissa {
    /// Water content, m³/m³.
    Content,
    /// The logarithm of tension to the base 10 (kPa), as a probe of tension tells it.
    Tension,
    /// The same, from water content through a retention curve.
    ThroughCurve(VanGenuchten),
}

/// Why a table cannot be held against the soil.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum ResponseError {
    /// No point of it is known.
    #[error("no point of the table is a port, a probe's serial or a station here: they are called {0}")]
    NoPoint(String),
    /// No time of it lies in the record.
    #[error("no row of the table lies within the record of its probe ({0} rows outside): are its dates right?")]
    NoTime(usize),
    /// No probe tells what is asked.
    #[error("the probes of these points tell no {0} yet: adopt a calibration at the Bench, or choose another axis")]
    NoQuantity(&'static str),
    /// Too few points, or too alike.
    #[error(transparent)]
    Threshold(#[from] ThresholdError),
}

/// A response against the soil.
#[derive(Debug, Clone, PartialEq)]
pub struct Responses {
    /// Points: abscissa, response, and which point of the table.
    pub points: Vec<Point>,
    /// Names of the table's points, by their numbers.
    pub names: Vec<String>,
    /// What they tell of a threshold.
    pub threshold: Threshold,
    /// Rows of the table.
    pub rows: usize,
    /// Rows that are the first of their point, of which no growth is known.
    pub firsts: usize,
    /// Rows whose point no probe answers to.
    pub unmatched: usize,
    /// Rows without a believed reading in their time.
    pub without_reading: usize,
    /// Rows whose content lies outside what the retention curve has a tension for.
    pub beyond_curve: usize,
    /// What became of the probes' readings.
    pub counts: Counts,
}

/// A row's reading lies within this of its time where the response itself is taken.
const NEAR: SpanSeconds = SpanSeconds(86_400);
/// Grid on which spot readings and loggers meet.
const STEP: SpanSeconds = SpanSeconds(3600);

/// Holds a table against the soil: `growth` takes the change per day between two rows of a point against the mean over that time,
/// otherwise the value itself against the mean of a day around it.
///
/// # Errors
/// [`ResponseError`] where points or times do not meet, or nothing can be fitted.
pub fn responses(
    stations: &[Flagged],
    table: &Response,
    growth: bool,
    abscissa: Abscissa,
) -> Result<Responses, ResponseError> {
    let mut by_point: BTreeMap<&str, Vec<(UnixSeconds, f64)>> = BTreeMap::new();
    for (point, t, value) in &table.values {
        by_point.entry(point).or_default().push((*t, *value));
    }
    let wanted = if abscissa == Abscissa::Tension { Quantity::WaterTension } else { Quantity::WaterContent };
    let rows = table.values.len();
    let mut of = Gathered::default();
    let (mut known_points, mut told) = (Vec::new(), false);
    for (point, values) in by_point {
        let Some(lines) = lines(stations, point, wanted, &mut of.counts) else {
            of.unmatched += values.len();
            known_points.push(point.to_owned());
            continue;
        };
        let Some(lines) = lines else {
            of.without_reading += values.len();
            told = true;
            continue;
        };
        of.add(point, &values, &lines, growth, abscissa);
    }
    if of.points.is_empty() {
        return Err(match (of.unmatched == rows, told && of.names.is_empty()) {
            (true, _) => ResponseError::NoPoint(known_points.join(", ")),
            (_, true) => ResponseError::NoQuantity(wanted.words()),
            _ => ResponseError::NoTime(of.without_reading),
        });
    }
    let threshold = two_segments(&of.points)?;
    Ok(Responses {
        points: of.points,
        names: of.names,
        threshold,
        rows,
        firsts: of.firsts,
        unmatched: of.unmatched,
        without_reading: of.without_reading,
        beyond_curve: of.beyond_curve,
        counts: of.counts,
    })
}

/// Believed values of a point's channels, each as times and values.
type Believing = Vec<(UnixSeconds, f64)>;

/// What the channels of a point tell; the outer `None` if nothing answers to its name, the inner one if nothing of the quantity does.
#[expect(clippy::option_option, reason = "who is not known and who tells nothing are two answers")]
fn lines(stations: &[Flagged], point: &str, wanted: Quantity, counts: &mut Counts) -> Option<Option<Believing>> {
    let mut all: Option<Option<Believing>> = None;
    for Flagged { record, flags } in stations {
        let answers = |c: &&ChannelRecord| {
            c.channel.stream.port == point || c.channel.placement.probe.serial == point || record.station.code == point
        };
        for channel in record.channels.iter().filter(answers) {
            let known = all.get_or_insert(None);
            if channel.quantity() != wanted {
                continue;
            }
            let believed = channel.believed(flags, &Selection::default().belief);
            counts.left_out += believed.left_out();
            let readings: Believing =
                believed.plain().filter(|r| r.value.is_finite()).map(|r| (r.time, r.value)).collect();
            counts.used += readings.len();
            known.get_or_insert_default().extend(readings);
        }
    }
    if let Some(Some(readings)) = &mut all {
        readings.sort_by_key(|r| r.0);
    }
    all
}

#[derive(Default)]
struct Gathered {
    points: Vec<Point>,
    names: Vec<String>,
    firsts: usize,
    unmatched: usize,
    without_reading: usize,
    beyond_curve: usize,
    counts: Counts,
}

impl Gathered {
    fn add(&mut self, name: &str, rows: &[(UnixSeconds, f64)], readings: &Believing, growth: bool, abscissa: Abscissa) {
        let group = self.names.len();
        self.names.push(name.to_owned());
        let mean = |from: UnixSeconds, to: UnixSeconds| {
            let (a, b) = (readings.partition_point(|r| r.0 < from), readings.partition_point(|r| r.0 <= to));
            (b > a).then(|| readings[a..b].iter().map(|r| r.1).sum::<f64>() / (b - a) as f64)
        };
        for (i, (t, value)) in rows.iter().enumerate() {
            let half = SpanSeconds(NEAR.0 / 2);
            let (y, of) = match i.checked_sub(1).map(|k| rows[k]) {
                None if growth => {
                    self.firsts += 1;
                    continue;
                }
                Some((before, was)) if growth => {
                    let days = (*t - before).0 as f64 / 86_400.0;
                    ((value - was) / days, mean(before, *t))
                }
                _ => (*value, mean(*t - half, *t + half)),
            };
            let Some(of) = of else {
                self.without_reading += 1;
                continue;
            };
            let x = match abscissa {
                Abscissa::Content => Some(of),
                Abscissa::Tension => (of > 0.0).then(|| of.log10()),
                Abscissa::ThroughCurve(curve) => curve.kpa(of).filter(|kpa| *kpa > 0.0).map(f64::log10),
            };
            match x {
                Some(x) => self.points.push(Point { x, y, group }),
                None => self.beyond_curve += 1,
            }
        }
    }
}

/// Pairs of tension (kPa) and content at one depth of a station, hour by hour: for a retention curve of the place itself.
#[must_use]
pub fn own_pairs(of: &Flagged, depth_cm: f64) -> Vec<(f64, f64)> {
    let Some(ground) = Ground::new(of, &Selection::default()) else { return Vec::new() };
    let (first, last) = (ground.grid.time(0), ground.grid.time(ground.grid.len() - 1));
    let Some(grid) = Grid::over(first, last, STEP) else { return Vec::new() };
    let ground = ground.on(grid);
    let level = |quantity| {
        let mut profile = ground.profile(quantity);
        profile.level(depth_cm).map(|l| profile.levels.swap_remove(l).values)
    };
    let Some((tension, content)) = level(Quantity::WaterTension).zip(level(Quantity::WaterContent)) else {
        return Vec::new();
    };
    tension.into_iter().zip(content).filter(|(kpa, theta)| kpa.is_finite() && theta.is_finite()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_is_read_and_its_slips_are_told_by_line() {
        let time = |text: &str| text.parse().ok().map(UnixSeconds);
        let text = "time;tub;length\n100;FT-01;12,5\n\n200\tFT-01\t13.5\n100;FT-01;14\nsoon;FT-01;3\n300;;4\n300;FT-02\n400,FT-θ \"2\",-1";
        let pasted = pasted_responses(text, time);
        let values: Vec<(&str, i64, f64)> = pasted.values.iter().map(|v| (v.0.as_str(), v.1.0, v.2)).collect();
        assert_eq!(values, [("FT-01", 100, 12.5), ("FT-01", 200, 13.5), ("FT-θ \"2\"", 400, -1.0)]);
        let lines: Vec<usize> = pasted.slips.iter().map(|s| s.0).collect();
        assert_eq!((lines, pasted.passed_over), (vec![5, 6, 7, 8], 2));
        assert_eq!(pasted.values.len() + pasted.slips.len() + pasted.passed_over, text.lines().count());
        let long = "100;A;1\n".repeat(3);
        assert_eq!(pasted_responses(&long, time).slips.len(), 2, "a point has one value a time");
        assert_eq!(pasted_responses("", time), PastedResponses::default());
    }
}
