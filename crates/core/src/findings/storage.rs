//! Water stored in a profile, with an uncertainty of which most is the same from one reading to the next.
//!
//! Three things make a depth of water uncertain:
//! * the *calibration* of each probe: its coefficients are the same for all of its readings (and for all probes that share it), so that
//!   much of it falls out of a change;
//! * the *seat*: a probe's own offset in its soil, taken as large as the scatter of the reference samples about the curve; it stays as it is and
//!   falls out of a change between two readings of one probe;
//! * the *shape*: between two probes the content is taken as linear; the truth is only held to lie between the two.

use super::Z95;
use super::profile::Profile;
use crate::calibration::Curve;
use crate::statistics::t_quantile;
use crate::units::UnixSeconds;
use crate::water::{DepthError, layer_weights};

/// 95 % half width that is assumed where a probe works its content out itself, by its maker's curve, or a calibration came without an
/// uncertainty, m³/m³ (what makers' curves usually claim).
pub const FACTORY_HALF_WIDTH: f64 = 0.03;

/// How far the content above the first probe and below the last one may be off its own at least (half range), and between two probes that
/// tell the same (range), m³/m³.
const END_RANGE: f64 = 0.02;

/// The same of a change.
const END_RANGE_OF_CHANGE: f64 = 0.012;

/// More coefficients than these no curve has.
const MOST: usize = 10;

/// One probe's share of the storage.
struct Part<'p> {
    level: usize,
    values: &'p [f64],
    raw: &'p [f64],
    /// From an index on: number of the curve in `Curves`, and its seat's standard deviation, m³/m³.
    pieces: Vec<(usize, Option<usize>, f64)>,
}

impl Part<'_> {
    /// Which piece holds at a time (0: before the first), its curve, and its seat's standard deviation.
    fn piece(&self, i: usize) -> (usize, Option<usize>, f64) {
        let at = match &self.pieces[..] {
            [one] => usize::from(one.0 <= i),
            all => all.partition_point(|p| p.0 <= i),
        };
        at.checked_sub(1).map_or((0, None, FACTORY_HALF_WIDTH / Z95), |k| (at, self.pieces[k].1, self.pieces[k].2))
    }
}

/// Water stored at one time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stored {
    /// Depth of water, mm.
    pub mm: f64,
    /// Standard uncertainty by calibrations and seats, mm.
    pub calibration: f64,
    /// Standard uncertainty by the shape between probes, mm.
    pub shape: f64,
}

impl Stored {
    /// 95 % half width, mm.
    #[must_use]
    pub fn half_width(&self) -> f64 {
        Z95 * self.calibration.hypot(self.shape)
    }
}

/// A change of storage.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Change {
    /// Change, mm.
    pub mm: f64,
    /// 95 % half width, mm: what both moments share has fallen out.
    pub half_width: f64,
}

/// Water stored through time.
pub struct StorageSeries<'p> {
    /// Down to here, cm.
    pub bottom_cm: f64,
    /// mm of water that a unit of content at each level stands for at the end of the record.
    pub weights: Vec<f64>,
    /// Depth of water at each time, mm; NaN where a level that counts has a gap.
    pub mm: Vec<f64>,
    /// Whether some probe has no calibration with an uncertainty, so that [`FACTORY_HALF_WIDTH`] was assumed.
    pub assumes_factory: bool,
    depths: Vec<f64>,
    /// From an index on: weights of the levels at which probes lay then; 0 for the others.
    segments: Vec<(usize, Vec<f64>)>,
    parts: Vec<Part<'p>>,
    /// Whether two probes lie at one level anywhere.
    twins: bool,
    curves: Vec<&'p Curve>,
    /// Of each curve: its residual standard deviation, widened by Student's t of its few samples, m³/m³.
    scales: Vec<f64>,
}

impl<'p> StorageSeries<'p> {
    /// Storage of a profile down to `bottom_cm` by [`layer_weights`], over the levels at which probes lay at each time: where one was put in or
    /// taken out, or turned out to lie elsewhere, others speak for its soil from then on.
    ///
    /// # Errors
    /// [`DepthError`] as there.
    pub fn of(profile: &'p Profile<'_>, bottom_cm: f64) -> Result<Self, DepthError> {
        let weights = layer_weights(&profile.depths(), bottom_cm)?;
        let segments = segments(profile, bottom_cm);
        let mut mm = vec![0.0; profile.grid.len()];
        for (k, (from, weights)) in segments.iter().enumerate() {
            let to = segments.get(k + 1).map_or(mm.len(), |next| next.0);
            for (level, weight) in profile.levels.iter().zip(weights).filter(|(_, w)| **w > 0.0) {
                mm[*from..to].iter_mut().zip(&level.values[*from..to]).for_each(|(s, v)| *s += weight * v);
            }
            if weights.iter().all(|w| *w <= 0.0) {
                mm[*from..to].fill(f64::NAN);
            }
        }
        let weights = segments.last().map_or(weights, |last| last.1.clone());
        let mut series = Self {
            bottom_cm,
            weights,
            mm,
            segments,
            assumes_factory: false,
            depths: profile.depths(),
            parts: Vec::new(),
            twins: profile.levels.iter().any(|l| l.tracks.len() > 1),
            curves: Vec::new(),
            scales: Vec::new(),
        };
        for (level, of) in profile.levels.iter().enumerate() {
            if series.segments.iter().all(|(_, weights)| weights[level] <= 0.0) {
                continue;
            }
            for track in &of.tracks {
                let pieces = track.curves.iter().map(|(from, curve)| {
                    let (known, seat) = series.curve(curve);
                    (*from, known, seat)
                });
                let pieces: Vec<_> = pieces.collect();
                series.assumes_factory |= pieces.is_empty();
                series.parts.push(Part { level, values: &track.values, raw: &track.raw, pieces });
            }
        }
        Ok(series)
    }

    /// Number of a curve, and the standard deviation of a seat by it. Equal curves are one: their coefficients err together.
    fn curve(&mut self, curve: &'p Curve) -> (Option<usize>, f64) {
        let Some(residual) = curve.residual_sd else {
            self.assumes_factory = true;
            return (None, FACTORY_HALF_WIDTH / Z95);
        };
        // Student's t of few samples, as a wider standard deviation.
        let seat = residual * t_95(curve.df) / Z95;
        if !curve.has_covariance() || curve.coefficients_z.len() > MOST {
            return (None, seat);
        }
        let known = self.curves.iter().position(|c| *c == curve).unwrap_or_else(|| {
            self.curves.push(curve);
            self.scales.push(seat);
            self.curves.len() - 1
        });
        (Some(known), seat)
    }

    /// Weights of the levels at a time.
    fn weights_at(&self, i: usize) -> &[f64] {
        let next = self.segments.partition_point(|s| s.0 <= i);
        &self.segments[next - 1].1
    }

    /// Weight of each part that has a value and counts at a time: twins share that of their level.
    fn shares(&self, i: usize) -> impl Iterator<Item = (usize, &Part<'p>, f64)> {
        let weights = self.weights_at(i);
        let here = move |part: &Part<'_>| part.values[i].is_finite() && weights[part.level] > 0.0;
        self.parts.iter().enumerate().filter(move |(_, p)| here(p)).map(move |(k, part)| {
            let all = || self.parts.iter().filter(|p| p.level == part.level && here(p)).count();
            let twins = if self.twins { all() } else { 1 };
            (k, part, weights[part.level] / twins as f64)
        })
    }

    /// Adds, with a sign, the gradient of the storage by each curve's coefficients, and the weights of each seat.
    fn gradient(&self, i: usize, sign: f64, into: &mut Gradient) {
        // Of one time each seat comes once.
        let known = into.seats.len();
        for (k, part, weight) in self.shares(i) {
            // A seat is that of a probe under one calibration.
            let (piece, curve, seat) = part.piece(i);
            into.seat((k, piece), known, sign * weight, seat);
            if let Some(number) = curve {
                let of = self.curves[number];
                let (z, mut power) = (of.z(part.raw[i]), sign * weight);
                for c in &mut into.curves[number][..of.coefficients_z.len()] {
                    *c += power;
                    power *= z;
                }
            }
        }
    }

    fn variance(&self, of: &Gradient) -> f64 {
        let curves = self.curves.iter().zip(&self.scales).zip(&of.curves).map(|((curve, scale), g)| {
            let rows = curve.unscaled_covariance_z.iter().zip(g);
            let form: f64 = rows.map(|(row, gi)| gi * row.iter().zip(g).map(|(c, gj)| c * gj).sum::<f64>()).sum();
            form.max(0.0) * scale * scale
        });
        let seats = of.seats.iter().map(|(_, weight, sd)| (weight * sd).powi(2));
        curves.chain(seats).sum()
    }

    /// Standard deviation of what the shape between probes may do to a profile of contents, or of changes of contents, mm. Between two
    /// probes the mean may lie anywhere between both; above the first and below the last it may go on as far as the line there does.
    fn shape(&self, theta: &[f64], weights: &[f64], end_range: f64) -> f64 {
        let mut counts = (0..theta.len()).filter(|i| weights[*i] > 0.0);
        let Some(first) = counts.next() else { return 0.0 };
        let (mut square, mut before, mut last, mut second) = (0.0, None, first, None);
        for b in counts {
            let a = last;
            second = second.or(Some(b));
            (before, last) = (Some(a), b);
            let thick = 10.0 * (self.depths[b].min(self.bottom_cm) - self.depths[a]);
            // A bulge between two like ones is not ruled out.
            let apart = (theta[b] - theta[a]).abs().max(end_range);
            square += (apart * thick).powi(2) / 12.0;
        }
        let mut end = |at: usize, inward: Option<usize>, thick_cm: f64| {
            let slope = inward.map_or(0.0, |i| (theta[at] - theta[i]) / (self.depths[at] - self.depths[i]).abs());
            // Half way out the line has gone half of its way.
            let range = (slope.abs() * thick_cm / 2.0).max(end_range);
            square += (range * 10.0 * thick_cm).powi(2) / 3.0;
        };
        end(first, second, self.depths[first].min(self.bottom_cm));
        end(last, before, (self.bottom_cm - self.depths[last]).max(0.0));
        square.sqrt()
    }

    /// Contents of the levels that count at a time.
    fn theta(&self, i: usize, into: &mut Vec<f64>) {
        into.clear();
        into.resize(self.depths.len(), 0.0);
        let weights = self.weights_at(i);
        for (_, part, weight) in self.shares(i) {
            into[part.level] += part.values[i] * weight / weights[part.level];
        }
    }

    /// What is stored at a time; `None` where a level that counts has a gap.
    #[must_use]
    pub fn at(&self, i: usize) -> Option<Stored> {
        self.over(std::iter::once(i)).next().map(|(_, stored)| stored)
    }

    /// What is stored at some times, without those at which a level that counts has a gap: the way for many.
    pub fn over(&self, times: impl Iterator<Item = usize>) -> impl Iterator<Item = (usize, Stored)> {
        let (mut gradient, mut theta) = (Gradient::of(self.curves.len()), Vec::new());
        times.filter(|i| self.mm[*i].is_finite()).map(move |i| {
            gradient.clear();
            self.gradient(i, 1.0, &mut gradient);
            self.theta(i, &mut theta);
            let shape = self.shape(&theta, self.weights_at(i), END_RANGE);
            (i, Stored { mm: self.mm[i], calibration: self.variance(&gradient).sqrt(), shape })
        })
    }

    /// How much was gained from one time to another; what the calibrations err at both falls out. `None` over a gap at either, and where
    /// probes lay at other depths: then it is no change of one thing.
    #[must_use]
    pub fn change(&self, from: usize, to: usize) -> Option<Change> {
        let mm = self.mm[to] - self.mm[from];
        let weights = self.weights_at(from);
        (mm.is_finite() && weights == self.weights_at(to)).then(|| {
            let mut gradient = Gradient::of(self.curves.len());
            self.gradient(from, -1.0, &mut gradient);
            self.gradient(to, 1.0, &mut gradient);
            let (mut a, mut b) = (Vec::new(), Vec::new());
            self.theta(from, &mut a);
            self.theta(to, &mut b);
            let change: Vec<f64> = a.iter().zip(&b).map(|(a, b)| b - a).collect();
            // Without any change nothing is added for what lies beyond the probes.
            let end_range = if change.iter().all(|c| c.abs() < 1e-9) { 0.0 } else { END_RANGE_OF_CHANGE };
            let half_width = Z95 * self.variance(&gradient).sqrt().hypot(self.shape(&change, weights, end_range));
            Change { mm, half_width }
        })
    }
}

/// Weights of the levels from each index on at which some level begins or ends to count.
fn segments(profile: &Profile<'_>, bottom_cm: f64) -> Vec<(usize, Vec<f64>)> {
    let grid = &profile.grid;
    let index = |t: UnixSeconds| grid.between(t, UnixSeconds(i64::MAX)).start;
    let spans: Vec<Vec<(usize, usize)>> = profile
        .levels
        .iter()
        .map(|l| l.tracks.iter().map(|t| (index(t.in_force.0), index(t.in_force.1))).collect())
        .collect();
    let mut cuts: Vec<usize> = spans.iter().flatten().flat_map(|(a, b)| [*a, *b]).chain([0]).collect();
    cuts.retain(|c| *c < grid.len());
    cuts.sort_unstable();
    cuts.dedup();
    let weights = |from: usize| {
        let counts: Vec<usize> =
            (0..spans.len()).filter(|l| spans[*l].iter().any(|(a, b)| (*a..*b).contains(&from))).collect();
        let depths: Vec<f64> = counts.iter().map(|l| profile.levels[*l].depth_cm).collect();
        let mut all = vec![0.0; spans.len()];
        for (level, weight) in counts.iter().zip(layer_weights(&depths, bottom_cm).unwrap_or_default()) {
            all[*level] = weight;
        }
        all
    };
    cuts.into_iter().map(|from| (from, weights(from))).collect()
}

/// Student's t of a two-sided 95 % interval.
pub(super) fn t_95(df: usize) -> f64 {
    use std::sync::OnceLock;
    const KNOWN: usize = 64;
    static T: OnceLock<Vec<f64>> = OnceLock::new();
    let known = T.get_or_init(|| (0..KNOWN).map(|df| t_quantile(0.975, df)).collect());
    known.get(df).copied().unwrap_or(Z95)
}

/// How the storage depends on coefficients and on seats.
struct Gradient {
    curves: Vec<[f64; MOST]>,
    /// Of each seat: which one, weight, standard deviation.
    seats: Vec<((usize, usize), f64, f64)>,
}

impl Gradient {
    fn of(curves: usize) -> Self {
        Self { curves: vec![[0.0; MOST]; curves], seats: Vec::with_capacity(8) }
    }

    fn clear(&mut self) {
        self.curves.fill([0.0; MOST]);
        self.seats.clear();
    }

    /// Adds the weight of a seat, which may be among the first `known` already.
    fn seat(&mut self, which: (usize, usize), known: usize, weight: f64, sd: f64) {
        match self.seats[..known].iter_mut().find(|s| s.0 == which) {
            Some(known) => known.1 += weight,
            None => self.seats.push((which, weight, sd)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::grid::{ALWAYS, Counts, Grid, Track};
    use super::super::profile::testing::profile;
    use super::*;
    use crate::calibration::{Form, Intercept, PolynomialFit};
    use crate::statistics::testing::assert_close;
    use crate::units::SpanSeconds;

    fn curve() -> Curve {
        let x = [850.0, 1012.0, 1175.0, 1340.0, 1496.0, 1658.0, 1820.0];
        let y = [0.052, 0.098, 0.151, 0.199, 0.262, 0.318, 0.389];
        Curve::from_fit(&PolynomialFit::new(&x, &y, 2, Intercept::Free).unwrap(), Form::Quadratic)
    }

    fn calibrated<'c>(levels: &[(f64, Vec<f64>, &'c Curve)]) -> Profile<'c> {
        let n = levels[0].1.len() as i64;
        let grid = Grid::over(UnixSeconds(900), UnixSeconds(n * 900), SpanSeconds(900)).unwrap();
        let tracks = levels.iter().map(|(depth_cm, raw, curve)| Track {
            name: String::new(),
            depth_cm: *depth_cm,
            values: raw.iter().map(|r| curve.theta(*r)).collect(),
            raw: raw.clone(),
            curves: vec![(0, *curve)],
            counts: Counts::default(),
            in_force: ALWAYS,
        });
        Profile::of(grid, tracks.collect(), |_| None)
    }

    #[test]
    fn one_probe_is_as_uncertain_as_its_curve_says() {
        let c = curve();
        let p = calibrated(&[(20.0, vec![1250.0, 1600.0], &c)]);
        let s = StorageSeries::of(&p, 20.0).unwrap();
        let stored = s.at(0).unwrap();
        assert_close(stored.mm, 200.0 * c.theta(1250.0), 1e-12);
        assert_close(stored.calibration * Z95, 200.0 * c.half_width(1250.0).unwrap(), 1e-9);
        assert!(!s.assumes_factory && stored.half_width() > stored.calibration * Z95);
    }

    #[test]
    fn a_change_is_known_better_than_a_level_and_no_change_is_certain() {
        let c = curve();
        let p = calibrated(&[(10.0, vec![1200.0, 1250.0, 1200.0], &c), (30.0, vec![1400.0, 1430.0, 1400.0], &c)]);
        let s = StorageSeries::of(&p, 40.0).unwrap();
        let change = s.change(0, 1).unwrap();
        assert_close(change.mm, s.mm[1] - s.mm[0], 1e-12);
        assert!(change.half_width < 0.3 * s.at(0).unwrap().half_width(), "{change:?} {:?}", s.at(0));
        assert!(s.change(0, 2).unwrap().half_width < 1e-9);
    }

    #[test]
    fn probes_of_one_calibration_err_together() {
        let c = curve();
        let other = Curve { centre: c.centre + 1e-9, ..c.clone() };
        let at = |second: &Curve| {
            let p = calibrated(&[(10.0, vec![1700.0], &c), (30.0, vec![1700.0], second)]);
            StorageSeries::of(&p, 40.0).unwrap().at(0).unwrap().calibration
        };
        assert!(at(&c) > 1.02 * at(&other), "{} {}", at(&c), at(&other));
    }

    #[test]
    fn without_a_calibration_the_makers_claim_is_assumed_and_said() {
        let p = profile(900, &[(10.0, vec![0.2, f64::NAN]), (30.0, vec![0.3, 0.3])]);
        let s = StorageSeries::of(&p, 30.0).unwrap();
        assert!(s.assumes_factory && s.at(1).is_none() && s.change(0, 1).is_none());
        let stored = s.at(0).unwrap();
        assert_close(stored.mm, 200.0 * 0.2 + 100.0 * 0.3, 1e-12);
        assert_close(stored.calibration * Z95, FACTORY_HALF_WIDTH * 200f64.hypot(100.0), 1e-9);
        assert!(matches!(StorageSeries::of(&p, 0.0), Err(DepthError::Bottom)));
    }

    #[test]
    fn a_depth_counts_while_a_probe_lies_there() {
        let mut p = profile(
            900,
            &[(10.0, vec![0.2; 6]), (20.0, vec![0.3, 0.3, 0.3, f64::NAN, f64::NAN, f64::NAN]), (40.0, vec![0.4; 6])],
        );
        p.levels[1].tracks[0].in_force.1 = UnixSeconds(900 * 4);
        let s = StorageSeries::of(&p, 40.0).unwrap();
        assert_close(s.mm[2], 10.0 * (10.0 * 0.2 + 10.0 * 0.25 + 20.0 * 0.35), 1e-12);
        assert_close(s.mm[3], 10.0 * (10.0 * 0.2 + 30.0 * 0.3), 1e-12);
        assert!(s.at(5).is_some() && s.change(3, 5).is_some());
        assert_eq!(s.change(2, 3), None, "other probes speak for the soil: no change of one thing");
        // A probe that is silent where it lies leaves a gap.
        p.levels[1].tracks[0].in_force.1 = UnixSeconds(i64::MAX);
        assert!(StorageSeries::of(&p, 40.0).unwrap().mm[3].is_nan());
    }

    #[test]
    fn twins_halve_what_is_their_own() {
        let one = profile(900, &[(20.0, vec![0.2])]);
        let two = profile(900, &[(20.0, vec![0.2]), (20.0, vec![0.2])]);
        let sd = |p: &Profile<'_>| StorageSeries::of(p, 20.0).unwrap().at(0).unwrap().calibration;
        assert_close(sd(&one) / sd(&two), 2f64.sqrt(), 1e-12);
    }
}
