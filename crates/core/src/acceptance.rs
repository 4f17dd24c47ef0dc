//! Whether a new probe may be used: read in air and in water of known temperature, looked at, and wetted in a bucket.

use crate::register::EventKind;
use crate::statistics::median;
use serde::{Deserialize, Serialize};

/// Temperature at which a model's limits hold, °C.
pub const LIMITS_AT_C: f64 = 20.0;

/// What a sound probe of a model reads in air and in clean water, in the unit of its raw output.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Limits {
    /// Lowest and highest reading in dry air.
    pub air: (f64, f64),
    /// Lowest and highest reading in clean water at 20 °C, wholly under.
    pub water: (f64, f64),
    /// How much its reading in water changes per kelvin: water's permittivity falls as it warms.
    #[serde(default)]
    pub water_per_k: f64,
}

/// Static relative permittivity of water at `celsius` (Malmberg & Maryott 1956, Journal of Research of the NBS 56:1;
/// 0 to 100 °C). Worked value: 80.103 at 20 °C. `None` outside.
#[must_use]
pub fn water_permittivity(celsius: f64) -> Option<f64> {
    let t = celsius;
    (0.0..=100.0).contains(&t).then(|| 87.740 + t * (-0.400_08 + t * (9.398e-4 - 1.410e-6 * t)))
}

/// One reading held against its limits.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Held {
    /// What it read, in the unit of its model.
    pub reading: f64,
    /// The limits as they are at this temperature.
    pub limits: (f64, f64),
    /// How far it lies outside, with its sign; 0 inside.
    pub off: f64,
}

impl Held {
    fn new(reading: f64, limits: (f64, f64)) -> Self {
        let off = (reading - limits.1).max(0.0) + (reading - limits.0).min(0.0);
        Self { reading, limits, off }
    }

    /// How far it lies outside, in widths of its limits.
    #[must_use]
    pub fn widths_off(&self) -> f64 {
        self.off.abs() / (self.limits.1 - self.limits.0).abs().max(f64::MIN_POSITIVE)
    }
}

impl Limits {
    /// A reading in air.
    #[must_use]
    pub fn in_air(&self, reading: f64) -> Held {
        Held::new(reading, self.air)
    }

    /// A reading in water of `celsius`.
    #[must_use]
    pub fn in_water(&self, reading: f64, celsius: f64) -> Held {
        let shift = self.water_per_k * (celsius - LIMITS_AT_C);
        Held::new(reading, (self.water.0 + shift, self.water.1 + shift))
    }
}

/// What was seen of a probe.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Seen {
    /// In air, if it was read there.
    pub air: Option<Held>,
    /// In water, if it was read there.
    pub water: Option<Held>,
    /// Whether its prongs are straight; `None`: not looked at.
    pub straight: Option<bool>,
    /// Whether its electronics are sealed where they are exposed; `None`: not looked at.
    pub sealed: Option<bool>,
}

/// The judgement of one probe.
#[derive(Debug, Clone, PartialEq)]
pub struct Acceptance {
    /// Accepted, to be watched, or rejected; `None` while something is missing.
    pub verdict: Option<EventKind>,
    /// Why, or what is missing.
    pub says: Vec<String>,
}

/// A reading outside its limits by no more than this share of their width is watched, beyond it the probe is rejected.
pub const WATCH_WIDTHS: f64 = 0.5;

/// Judges a probe by what was seen of it.
#[must_use]
pub fn accept(seen: &Seen) -> Acceptance {
    let mut says = Vec::new();
    let mut worst = EventKind::Accepted;
    let mut missing = false;
    for (name, held) in [("in air", seen.air), ("in water", seen.water)] {
        match held {
            None => {
                missing = true;
                says.push(format!("Read it {name}."));
            }
            Some(h) if h.off != 0.0 => {
                let rejected = h.widths_off() > WATCH_WIDTHS;
                worst = if rejected { EventKind::Rejected } else { heavier(worst, EventKind::Watched) };
                let by = format!("{:.1} {}", h.off.abs(), if h.off > 0.0 { "above" } else { "below" });
                says.push(format!("{name} {by} its limits{}", if rejected { "" } else { ", narrowly" }));
            }
            Some(_) => {}
        }
    }
    if seen.straight == Some(false) {
        worst = EventKind::Rejected;
        says.push("prongs are bent: they leave air beside them; straighten them and read again".into());
    }
    if seen.sealed == Some(false) {
        worst = heavier(worst, EventKind::Watched);
        says.push("electronics stand open: seal them before it goes into the ground".into());
    }
    for (name, looked) in [("prongs", seen.straight), ("seals", seen.sealed)] {
        if looked.is_none() {
            missing = true;
            says.push(format!("Look at its {name}."));
        }
    }
    // What is bad already stays bad, whatever is still missing.
    let verdict = (!missing || worst == EventKind::Rejected).then_some(worst);
    Acceptance { verdict, says }
}

fn heavier(a: EventKind, b: EventKind) -> EventKind {
    if a == EventKind::Rejected { a } else { b }
}

/// How a probe in a bucket answered the water that was poured on top.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Response {
    /// When its reading began to rise, in the unit of the steps; `None`: it never did.
    pub onset: Option<f64>,
    /// From 10 to 90 % of its rise.
    pub rise: Option<f64>,
}

/// Readings at the beginning that are taken as rest.
const REST: usize = 3;
/// A rise below this many times the wander at rest is none.
const ABOVE_REST: f64 = 5.0;

/// When and how fast a probe answered; `readings` at equal steps of `step`, the first three before the water.
///
/// The onset is where a tenth of the whole rise is passed, by a line between the two readings around it. A probe whose output
/// falls as it gets wet is read the same way round, by the larger of the two changes.
#[must_use]
pub fn response(readings: &[f64], step: f64) -> Response {
    let silent = Response { onset: None, rise: None };
    if readings.len() < REST + 2 || readings.iter().any(|r| !r.is_finite()) {
        return silent;
    }
    let Some(rest) = median(&mut readings[..REST].to_vec()) else { return silent };
    let wander = readings[..REST].iter().map(|r| (r - rest).abs()).fold(0.0, f64::max);
    let change = readings.iter().map(|r| r - rest).max_by(|a, b| a.abs().total_cmp(&b.abs())).unwrap_or(0.0);
    if change == 0.0 || change.abs() < ABOVE_REST * wander {
        return silent;
    }
    let passes = |share: f64| {
        let at = (1..readings.len()).find(|i| (readings[*i] - rest) / change >= share)?;
        let (below, above) = ((readings[at - 1] - rest) / change, (readings[at] - rest) / change);
        Some((at as f64 - (above - share) / (above - below)) * step)
    };
    let onset = passes(0.1);
    Response { onset, rise: onset.zip(passes(0.9)).map(|(a, b)| b - a) }
}

/// What a wetting test in a bucket says of the probes in it.
#[derive(Debug, Clone, PartialEq)]
pub struct WettingTest {
    /// Probes that wetted before one that lies above them, by index.
    pub early: Vec<usize>,
    /// Probes that never answered, by index.
    pub silent: Vec<usize>,
    /// Speed of the front from the shallowest to the deepest that answered in its turn, cm per unit of the steps.
    pub front: Option<f64>,
}

/// Judges answers of probes at `depths_cm`: wetting arrives in order of depth.
#[must_use]
pub fn wetting_test(depths_cm: &[f64], responses: &[Response]) -> WettingTest {
    let mut order: Vec<usize> = (0..depths_cm.len().min(responses.len())).collect();
    order.sort_by(|a, b| depths_cm[*a].total_cmp(&depths_cm[*b]));
    let silent: Vec<usize> = order.iter().copied().filter(|i| responses[*i].onset.is_none()).collect();
    let answered: Vec<(usize, f64, f64)> =
        order.iter().filter_map(|i| responses[*i].onset.map(|t| (*i, depths_cm[*i], t))).collect();
    let early: Vec<usize> = answered
        .iter()
        .filter(|(_, depth, onset)| answered.iter().any(|(_, above, later)| above < depth && later > onset))
        .map(|(i, ..)| *i)
        .collect();
    // A probe that was reached past the soil tells nothing of the front.
    let mut in_order = answered.iter().filter(|(i, ..)| !early.contains(i));
    let front = match (in_order.next(), in_order.next_back()) {
        (Some((_, top, first)), Some((_, bottom, last))) if bottom > top && last > first => {
            Some((bottom - top) / (last - first))
        }
        _ => None,
    };
    WettingTest { early, silent, front }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    const LIMITS: Limits = Limits { air: (420.0, 470.0), water: (1950.0, 2050.0), water_per_k: -3.0 };

    fn seen(air: f64, water: f64) -> Seen {
        Seen {
            air: Some(LIMITS.in_air(air)),
            water: Some(LIMITS.in_water(water, 20.0)),
            straight: Some(true),
            sealed: Some(true),
        }
    }

    #[test]
    fn permittivity_of_water_by_temperature() {
        assert_close(water_permittivity(20.0).unwrap(), 80.103_04, 1e-9);
        assert_close(water_permittivity(25.0).unwrap(), 78.303_343_75, 1e-9);
        assert_eq!(water_permittivity(-1.0), None);
    }

    #[test]
    fn limits_in_water_follow_its_temperature() {
        assert_eq!(LIMITS.in_water(1925.0, 20.0).off, -25.0);
        assert_eq!(LIMITS.in_water(1925.0, 30.0).off, 0.0);
    }

    #[test]
    fn inside_narrowly_outside_and_far_outside() {
        assert_eq!(accept(&seen(445.0, 2000.0)).verdict, Some(EventKind::Accepted));
        let narrow = accept(&seen(480.0, 2000.0));
        assert_eq!(narrow.verdict, Some(EventKind::Watched));
        assert!(narrow.says[0].contains("10.0 above its limits, narrowly"), "{:?}", narrow.says);
        assert_eq!(accept(&seen(445.0, 1700.0)).verdict, Some(EventKind::Rejected));
        let both = accept(&Seen { sealed: Some(false), ..seen(900.0, 2000.0) });
        assert_eq!(both.verdict, Some(EventKind::Rejected), "a lesser fault does not lift a rejection");
    }

    #[test]
    fn what_is_missing_is_asked_for_and_what_is_bad_is_said_at_once() {
        let half = accept(&Seen { water: None, ..seen(445.0, 0.0) });
        assert_eq!((half.verdict, half.says.as_slice()), (None, &["Read it in water.".to_owned()][..]));
        let bent = accept(&Seen { straight: Some(false), ..Seen::default() });
        assert_eq!(bent.verdict, Some(EventKind::Rejected));
    }

    #[test]
    fn onset_and_rise_of_a_front() {
        let ramp = [500.0, 501.0, 500.0, 500.0, 600.0, 700.0, 800.0, 900.0, 1000.0, 1000.0];
        let r = response(&ramp, 0.5);
        assert_close(r.onset.unwrap(), 0.5 * 3.5, 1e-9);
        assert_close(r.rise.unwrap(), 2.0, 1e-9);
        assert_eq!(response(&[500.0, 502.0, 498.0, 501.0, 503.0, 499.0], 1.0).onset, None, "wander is no rise");
        assert_eq!(response(&[500.0, 500.0], 1.0).onset, None);
    }

    #[test]
    fn a_deep_probe_that_wets_first_and_a_dead_one_are_named() {
        let at = |onset: f64| Response { onset: Some(onset), rise: Some(1.0) };
        let silent = Response { onset: None, rise: None };
        let sound = wetting_test(&[15.0, 5.0, 10.0], &[at(6.0), at(1.0), at(3.0)]);
        assert_eq!((sound.early.len(), sound.silent.len()), (0, 0));
        assert_close(sound.front.unwrap(), 2.0, 1e-12);
        let odd = wetting_test(&[5.0, 10.0, 15.0, 20.0], &[at(2.0), at(4.0), at(1.0), silent]);
        assert_eq!((odd.early, odd.silent), (vec![2], vec![3]));
        assert_close(odd.front.unwrap(), 2.5, 1e-12);
    }
}
