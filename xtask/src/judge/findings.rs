//! How well findings hold what they claim: made-up soils, pairs and responses whose truth is known.

use super::{REPORTED, keep};
use crate::{Failed, say};
use ebrel_core::calibration::{Curve, Samples, recommend};
use ebrel_core::findings::heat::{Diffusivity, Method, diffusivities};
use ebrel_core::findings::{
    ALWAYS, BlockBootstrap, Counts, Grid, Point, Profile, StorageSeries, Track, WettingRules, capacity_as_seen, falls,
    two_segments, wettings, year_month,
};
use ebrel_core::series::{Hours, View};
use ebrel_core::statistics::median;
use ebrel_core::sun::sun_times;
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_simulator::truths::{SoilPlan, TrueSoil, pair, response, soil};
use ebrel_simulator::years::{Climate, Ground, INTERVAL};
use std::fmt::Write as _;
use std::path::Path;

const TITLE: &str = "# How well findings hold what they claim";
/// Depths of the probes, cm.
const DEPTHS: [f64; 5] = [5.0, 15.0, 30.0, 50.0, 80.0];

/// What is counted over soils.
#[derive(Default)]
struct Tally {
    /// Times at which the true storage lay within its band, and all of them; over all moments and per soil at the least.
    storage: (usize, usize),
    worst: f64,
    /// True changes over ten days within their band.
    changes: (usize, usize),
    /// Half widths of storage and of changes, mm.
    widths: (Vec<f64>, Vec<f64>),
    /// Preferred κ over the true one, and the same of each method.
    kappa: Vec<f64>,
    methods: [Vec<f64>; 5],
    /// True field capacity within what was seen, by depth.
    capacity: [(usize, usize); DEPTHS.len()],
    off_capacity: Vec<f64>,
    capacity_widths: [Vec<f64>; DEPTHS.len()],
    /// Of rains on a soil that lost nothing below: stored less came, mm.
    stored: Vec<f64>,
}

/// Judges, and writes `docs/judgement.md` unless it is to tune.
pub fn findings(root: &Path, tune: bool) -> Result<(), Failed> {
    let first = if tune { 1 } else { REPORTED };
    let (soils, runs) = (100, 1000);
    let mut tally = Tally { worst: 1.0, ..Tally::default() };
    for seed in first..first + soils {
        tally.add(&soil(&plan(seed)))?;
    }
    let text = report(&mut tally, first, runs);
    say(&text);
    if tune { Ok(()) } else { keep(root, TITLE, &text) }
}

/// One of the five climates on one of the five soils.
fn plan(seed: u64) -> SoilPlan {
    SoilPlan {
        seed,
        climate: Climate::ALL[(seed % 5) as usize],
        ground: Ground::ALL[(seed / 5 % 5) as usize],
        depths: DEPTHS.into(),
        days: 365,
    }
}

/// The curve that somebody would adopt by samples.
fn adopted(samples: &[(f64, f64)]) -> Result<Curve, Failed> {
    let (raw, theta): (Vec<f64>, Vec<f64>) = samples.iter().copied().unzip();
    let found = recommend(&Samples { raw: &raw, theta: &theta, ..Samples::default() });
    let form = found.form.ok_or("no form is recommended")?;
    let fit = found.candidate(form).and_then(|c| c.fit.as_ref().ok()).ok_or("the recommended form has no fit")?;
    Ok(Curve::from_fit(fit, form))
}

impl Tally {
    fn add(&mut self, truth: &TrueSoil) -> Result<(), Failed> {
        let n = truth.rain.len() as i64;
        let last = UnixSeconds(truth.start + (n - 1) * INTERVAL);
        let grid = Grid::over(UnixSeconds(truth.start), last, SpanSeconds(INTERVAL)).ok_or("no grid")?;
        let curves: Vec<Curve> = truth.probes.iter().map(|p| adopted(&p.samples)).collect::<Result<_, _>>()?;
        let tracks = truth.probes.iter().zip(&curves).zip(DEPTHS).map(|((p, curve), depth_cm)| Track {
            name: String::new(),
            depth_cm,
            values: p.raw.iter().map(|r| curve.theta(*r)).collect(),
            raw: p.raw.clone(),
            curves: vec![(0, curve)],
            counts: Counts::default(),
            in_force: ALWAYS,
        });
        let profile = Profile::of(grid, tracks.collect(), |_| None);
        self.stored(truth, &profile)?;
        self.heat(truth);
        self.rains(truth, &profile)
    }

    fn stored(&mut self, truth: &TrueSoil, profile: &Profile<'_>) -> Result<(), Failed> {
        let series = StorageSeries::of(profile, DEPTHS[DEPTHS.len() - 1])?;
        let (mut held, mut all) = (0, 0);
        // Every six hours: neighbours tell the same.
        for i in (0..profile.grid.len()).step_by(24).filter(|i| !truth.frozen[*i]) {
            let stored = series.at(i).ok_or("a simulated record has no gaps")?;
            held += usize::from((stored.mm - truth.stored_mm[i]).abs() <= stored.half_width());
            all += 1;
            self.widths.0.push(stored.half_width());
            let later = i + 960;
            if later < profile.grid.len() && !truth.frozen[later] {
                let change = series.change(i, later).ok_or("a simulated record has no gaps")?;
                let of = truth.stored_mm[later] - truth.stored_mm[i];
                self.changes.0 += usize::from((change.mm - of).abs() <= change.half_width);
                self.changes.1 += 1;
                self.widths.1.push(change.half_width);
            }
        }
        self.storage = (self.storage.0 + held, self.storage.1 + all);
        self.worst = self.worst.min(held as f64 / all.max(1) as f64);
        Ok(())
    }

    fn heat(&mut self, truth: &TrueSoil) {
        let times: Vec<i64> = (0..truth.rain.len() as i64).map(|i| truth.start + i * INTERVAL).collect();
        let depths: Vec<(f64, Hours)> = truth
            .probes
            .iter()
            .zip(DEPTHS)
            .map(|(p, cm)| (cm, Hours::of(View { times: &times, values: &p.celsius })))
            .collect();
        for found in diffusivities(&depths) {
            let pair = DEPTHS.iter().position(|d| *d == found.between_cm.0).unwrap_or(0);
            let of_month = |i: &usize| year_month(times[*i].div_euclid(86_400)) == found.month;
            let month: Vec<usize> = (0..times.len()).step_by(8).filter(of_month).collect();
            // Ice takes heat without warming: of a frozen month no diffusivity is true.
            if month.iter().any(|i| truth.frozen[*i]) {
                continue;
            }
            let kappa = month.iter().map(|i| truth.kappa[pair][*i]).sum::<f64>() / month.len() as f64;
            self.kappa.extend(found.preferred().map(|k| k / kappa));
            let by = |m: &Method| Diffusivity::by(&found, *m).map(|k| k / kappa);
            Method::ALL.iter().zip(&mut self.methods).for_each(|(m, all)| all.extend(by(m)));
        }
    }

    fn rains(&mut self, truth: &TrueSoil, profile: &Profile<'_>) -> Result<(), Failed> {
        let rules = WettingRules::default();
        let small = WettingRules { least_mm: 1.0, ..rules };
        let all = falls(&profile.grid, &truth.rain, &small);
        let seen = capacity_as_seen(profile, &truth.rain, &all, 8.0, sun);
        for (k, seen) in seen.iter().enumerate() {
            let Some(seen) = seen.as_ref().filter(|s| s.rains.len() >= 5) else { continue };
            let wanted = truth.probes[k].capacity;
            let (low, high) = seen.interval();
            let held = (low..=high).contains(&wanted);
            self.capacity[k] = (self.capacity[k].0 + usize::from(held), self.capacity[k].1 + 1);
            self.off_capacity.push(seen.median - wanted);
            self.capacity_widths[k].push(high - low);
        }
        for w in wettings(profile, &falls(&profile.grid, &truth.rain, &rules), None, &rules)? {
            let (a, b) = (profile.grid.at(w.fall.start), profile.grid.at(w.fall.end + rules.spread));
            let Some(((stored, a), b)) = w.stored.zip(a).zip(b) else { continue };
            if !truth.frozen[a] && !truth.frozen[b] {
                self.stored.push(stored.mm - (truth.stored_mm[b] - truth.stored_mm[a]));
            }
        }
        Ok(())
    }
}

/// Sunrise and sunset where the simulator's weather is.
fn sun(day: i64) -> Option<(UnixSeconds, UnixSeconds)> {
    let midnight = day * 86_400;
    sun_times(46.9, 3.2, midnight).moments(midnight)
}

/// Share of pairs whose truth lies within the interval.
fn pairs(first: u64, runs: u64, days: usize, keeps: f64) -> f64 {
    let boot = BlockBootstrap { resamples: 1000, ..BlockBootstrap::default() };
    let held = (first..first + runs).filter(|seed| {
        let (differences, truth) = pair(*seed, days, keeps);
        boot.mean(&differences).is_some_and(|i| i.low <= truth && truth <= i.high)
    });
    100.0 * held.count() as f64 / runs as f64
}

/// Of a hundred responses: breaks within the interval of the likelihood, within that of resampling, within both together, and found at all.
fn breaks(first: u64) -> [usize; 4] {
    let mut counts = [0; 4];
    for seed in first..first + 100 {
        let (points, truth) = response(seed);
        let points: Vec<Point> = points.iter().map(|(x, y, group)| Point { x: *x, y: *y, group: *group }).collect();
        let Ok(found) = two_segments(&points) else { continue };
        let holds = |(low, high): (f64, f64)| usize::from(low <= truth && truth <= high);
        let of =
            [holds(found.by_profile), holds(found.by_bootstrap), holds(found.interval()), usize::from(found.breaks)];
        counts.iter_mut().zip(of).for_each(|(sum, one)| *sum += one);
    }
    counts
}

fn report(t: &mut Tally, first: u64, runs: u64) -> String {
    let mut out = format!("{TITLE}\n\n");
    out.push_str(
        "Made by `cargo xtask judge findings` from the simulator (`simulator::truths`): a hundred soil-years of five climates and soils with five \
         probes whose calibrations come of simulated tins, with seeds that nothing was tuned on.\n\n",
    );
    let share = |(held, all): (usize, usize)| 100.0 * held as f64 / all.max(1) as f64;
    let (level, change) = (median(&mut t.widths.0).unwrap_or(0.0), median(&mut t.widths.1).unwrap_or(0.0));
    let _ = writeln!(
        out,
        "Storage down to 80 cm: {:.1} % of {} unfrozen times lie within their own 95 % band (median ± {level:.1} mm), at least {:.1} % in each soil; \
         changes over ten days: {:.1} % of {} (median ± {change:.1} mm). Gain six hours after a rain less the true gain: median {:+.1} mm over {} rains.\n",
        share(t.storage),
        t.storage.1,
        100.0 * t.worst,
        share(t.changes),
        t.changes.1,
        median(&mut t.stored).unwrap_or(0.0),
        t.stored.len()
    );
    let within = |of: &[f64], limit: f64| {
        100.0 * of.iter().filter(|k| (*k - 1.0).abs() <= limit).count() as f64 / of.len().max(1) as f64
    };
    let _ = writeln!(
        out,
        "Thermal diffusivity, found over true, months without ice: the preferred lies within 10 % in {:.1} % of {} months and pairs (median {:.3}).\n",
        within(&t.kappa, 0.1),
        t.kappa.len(),
        median(&mut t.kappa.clone()).unwrap_or(0.0)
    );
    out.push_str("| method | within 10 % | median |\n|---|---|---|\n");
    for (method, all) in Method::ALL.iter().zip(&t.methods) {
        let middle = median(&mut all.clone()).unwrap_or(0.0);
        let _ = writeln!(out, "| {} | {:.1} % of {} | {middle:.3} |", method.name(), within(all, 0.1), all.len());
    }
    let _ = writeln!(
        out,
        "\nField capacity as seen (soils and depths with at least five rains; median off the truth {:+.4} m³/m³): the truth lies within the spread of \
         the rains, the calibration's ±, and what was taken meanwhile, in",
        median(&mut t.off_capacity).unwrap_or(0.0)
    );
    for ((depth, (held, all)), widths) in DEPTHS.iter().zip(t.capacity).zip(&mut t.capacity_widths) {
        let wide = median(widths).unwrap_or(0.0);
        let _ = writeln!(out, "- {depth} cm: {held} of {all} (intervals {wide:.3} m³/m³ wide at the median)");
    }
    let [profile, resampled, both, found] = breaks(first);
    let _ = writeln!(
        out,
        "\nBreaks of a hundred responses (twelve plants, thirty weeks): {found} found; {profile} within the interval by likelihood, {resampled} within \
         that by resampling plants, {both} within the wider of both, which is what is said.\n"
    );
    out.push_str("Intervals of differences by block bootstrap, share that holds the truth:\n\n| days | one day keeps | share |\n|---|---|---|\n");
    for (days, keeps) in [(92, 0.5), (365, 0.0), (365, 0.5), (365, 0.8), (730, 0.5), (730, 0.8)] {
        let _ = writeln!(out, "| {days} | {keeps} | {:.1} % |", pairs(first, runs, days, keeps));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A few soils of each kind, so that a change that spoils a finding is seen at once.
    #[test]
    fn findings_keep_their_floors_on_a_small_set() {
        let mut tally = Tally { worst: 1.0, ..Tally::default() };
        for seed in [500, 506, 512, 518, 524] {
            tally.add(&soil(&plan(seed))).expect("a simulated soil is judged");
        }
        let share = |(held, all): (usize, usize)| held as f64 / all as f64;
        assert!(tally.storage.1 > 4000 && share(tally.storage) >= 0.93, "{:?}", tally.storage);
        assert!(share(tally.changes) >= 0.9, "{:?}", tally.changes);
        assert!(median(&mut tally.widths.0).is_some_and(|w| w < 15.0), "a band that holds all says nothing");
        let near = tally.kappa.iter().filter(|k| (*k - 1.0).abs() <= 0.1).count();
        assert!(tally.kappa.len() >= 40 && near * 100 >= tally.kappa.len() * 95, "{near} of {}", tally.kappa.len());
        assert!(median(&mut tally.stored).is_some_and(|off| off.abs() < 3.0));
        let [profile, resampled, both, found] = breaks(500);
        assert!(both >= 88 && found >= 95 && profile >= 75 && resampled >= 75, "{profile} {resampled} {both} {found}");
        let held = pairs(500, 300, 365, 0.5);
        assert!((91.0..=98.5).contains(&held), "{held} %");
    }
}
