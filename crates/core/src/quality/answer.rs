//! How probes answer rain.

use super::scene::Whole;
use super::screened::Screened;
use super::water::Storm;
use super::{Evidence, Figure, Flag, Test};
use crate::statistics::{median, quantile};
use crate::units::{Quantity, SpanSeconds};

/// How one probe answered one storm.
#[derive(Debug, Clone, Copy)]
pub(super) struct Answer {
    /// Level before it, as wetness: a tension counts with its sign turned.
    pub before: f64,
    /// How far it rose, in the channel's unit.
    pub rise: f64,
    /// When it had risen by a fifth, a half, and four fifths of that.
    pub reached: [i64; 3],
    /// When it had fallen back to a half, or the time ended that belongs to the storm.
    pub until: i64,
}

/// A moisture probe with its answers, one for each storm; `None` where it cannot be judged.
pub(super) struct Answers<'s> {
    pub index: usize,
    pub of: &'s Screened<'s>,
    pub depth: f64,
    pub answers: Vec<Option<Answer>>,
    /// Level that it passes in the wettest and in the driest twentieth of its hours.
    pub wet: f64,
    pub dry: f64,
    /// A rise below this is none.
    pub nothing: f64,
}

impl Answers<'_> {
    /// Its name, and the depth that heat tells where that is another one.
    pub fn placed(&self) -> String {
        let name = self.of.channel.name;
        match self.of.channel.depth_cm {
            Some(noted) if noted.to_bits() != self.depth.to_bits() => {
                format!("{name} (by heat at about {:.0}\u{a0}cm)", self.depth)
            }
            _ => name.to_owned(),
        }
    }

    /// Whether it rose at all.
    pub fn rose(&self, storm: usize) -> Option<bool> {
        self.answers[storm].map(|a| a.rise > self.nothing)
    }

    /// Median rise over the storms for which `takes`.
    pub fn usual_rise(&self, takes: impl Fn(&Answer) -> bool) -> f64 {
        let mut rises: Vec<f64> = self.answers.iter().flatten().filter(|a| takes(a)).map(|a| a.rise).collect();
        median(&mut rises).unwrap_or(0.0)
    }
}

/// 1, or −1 for a tension, which falls as soil wets: times this, wetter is more.
pub(super) fn wetness(quantity: Quantity) -> f64 {
    if quantity == Quantity::WaterTension { -1.0 } else { 1.0 }
}

/// Every moisture probe of the station with its answers to storms, the shallowest first.
pub(super) fn answers<'s>(whole: &Whole<'s>, storms: &[Storm]) -> Vec<Answers<'s>> {
    let probes = whole.all.iter().enumerate().filter(|(_, s)| s.channel.quantity.is_moisture());
    let mut all: Vec<Answers<'_>> = probes
        .filter_map(|(index, of)| {
            let depth = depth_by_heat(of, &whole.found[index])?;
            of.noise?;
            let sign = wetness(of.channel.quantity);
            let mut levels: Vec<f64> = of.hours().between(i64::MIN / 2, i64::MAX / 2).map(|v| v * sign).collect();
            let (wet, dry) = (quantile(&mut levels, 0.95)?, quantile(&mut levels, 0.05)?);
            let answers = (0..storms.len()).map(|s| answer(of, depth, storms, s, &whole.found[index], sign)).collect();
            Some(Answers { index, of, depth, answers, wet, dry, nothing: of.nothing(6.0, 3.0) })
        })
        .collect();
    all.sort_by(|a, b| a.depth.total_cmp(&b.depth).then_with(|| a.of.channel.name.cmp(b.of.channel.name)));
    all
}

/// The depth of a probe: as noted, or where the order of heat contradicts that, the one that heat tells; `None` if it tells of none.
pub(super) fn depth_by_heat(of: &Screened<'_>, found: &[Flag]) -> Option<f64> {
    let noted = of.channel.depth_cm?;
    let heat = found.iter().find_map(|f| if let Evidence::HeatMisorder(e) = &f.evidence { Some(e) } else { None });
    heat.map_or(Some(noted), |e| e.looks_like_cm.map(Figure::get))
}

/// Rains of at least `least_mm`; where no gauge tells of any, the wettings that the shallowest moisture probe felt, of which no amount is known.
pub(super) fn storms(whole: &Whole<'_>, least_mm: f64) -> Vec<Storm> {
    if whole.water.tells() {
        return whole.water.storms(least_mm);
    }
    let moist = whole.all.iter().filter(|s| s.channel.quantity.is_moisture() && s.noise.is_some());
    let depth = |s: &&Screened<'_>| s.channel.depth_cm.unwrap_or(f64::INFINITY);
    let Some(top) = moist.min_by(|a, b| depth(a).total_cmp(&depth(b)).then_with(|| a.channel.name.cmp(b.channel.name)))
    else {
        return Vec::new();
    };
    let sign = wetness(top.channel.quantity);
    let hours = top.hours();
    let level = |h: i64| hours.at(h) * sign;
    let felt = |h: &i64| {
        level(*h) - hours.between(h - 4, *h).map(|v| v * sign).fold(f64::INFINITY, f64::min) > top.nothing(12.0, 8.0)
    };
    let wet: Vec<i64> = (hours.first..hours.first + hours.len() as i64).filter(felt).collect();
    let one = |run: &[i64]| Storm { from: (run[0] - 2) * 3600, to: run[run.len() - 1] * 3600, mm: f64::NAN };
    wet.chunk_by(|a, b| b - a <= 6).map(one).collect()
}

/// How long after a storm its water may come, s.
fn belongs(depth: f64) -> i64 {
    12 * 3600 + (depth * 20.0 * 60.0) as i64
}

fn answer(of: &Screened<'_>, depth: f64, storms: &[Storm], s: usize, found: &[Flag], sign: f64) -> Option<Answer> {
    let storm = storms[s];
    let next = storms.get(s + 1).map_or(i64::MAX, |n| n.from - 1);
    let end = (storm.to + belongs(depth)).min(next);
    let spoilt = |f: &Flag| {
        let (from, to) = (storm.from - SpanSeconds::DAY.0 / 4, end);
        matches!(f.test, Test::Frozen | Test::Stuck | Test::Noise | Test::Ponded) && f.start.0 <= to && f.end.0 >= from
    };
    if found.iter().any(spoilt) {
        return None;
    }
    let calm = of.between(storm.from - 8 * 3600, storm.from - 1800);
    let due = ((8 * 3600 - 1800) / of.interval) as usize;
    let enough = 2 * calm.values.len() >= due && !calm.values.is_empty();
    let mut level: Vec<f64> = calm.values.iter().map(|v| v * sign).collect();
    let before = median(&mut level).filter(|_| enough)?;
    let after = of.between(storm.from, end);
    if 2 * after.times.len() < ((end - storm.from) / of.interval) as usize || after.times.is_empty() {
        return None;
    }
    // The second highest: one stray must not be an answer.
    let mut high = (f64::NEG_INFINITY, f64::NEG_INFINITY);
    for v in after.values.iter().map(|v| v * sign) {
        high = if v > high.0 { (v, high.0) } else { (high.0, high.1.max(v)) };
    }
    let rise = high.1.max(if after.values.len() == 1 { high.0 } else { f64::NEG_INFINITY }) - before;
    let reaches = |share: f64| {
        let i = after.values.iter().position(|v| v * sign >= before + share * rise);
        i.map_or(end, |i| after.times[i])
    };
    let reached = [reaches(0.2), reaches(0.5), reaches(0.8)];
    let fallen = after.times.iter().zip(after.values).skip_while(|(t, _)| **t <= reached[2]);
    let until = fallen.clone().find(|(_, v)| **v * sign < before + 0.5 * rise).map_or(end, |(t, _)| *t);
    Some(Answer { before, rise, reached, until })
}
