//! Bursts of noise: a loose plug, a wet connector.

use super::context::written;
use super::definition::settings;
use super::scene::Scene;
use super::screened::runs;
use super::{Definition, Evidence, Flag, NoiseEvidence, Test};
use crate::statistics::{median, quantile};
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// When a record is noisy.
    NoiseSettings {
        /// The median stray of four hours counts from this many times that of the weeks around.
        times: 6.0 in 2.0..=1000.0 "×",
        /// It also passes this many steps of the record's resolution.
        resolutions: 1.6 in 0.5..=1000.0 "steps",
        /// The shortest burst.
        hours: 2.5 in 0.5..=240.0 "h",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Noise",
    mark: "Z",
    grade: Grade::Doubtful,
    finds: "Hours in which readings stray from the middle of their neighbours many times as far as in the weeks around. Fronts and \
            frost are let pass: they move a record, and do not shake it.",
    settings: NoiseSettings::LIST,
};

/// Seconds over which the median of the strays is taken.
const OVER: i64 = 4 * 3600;
/// Days on either side that say what is usual.
const AROUND: i64 = 7 * SpanSeconds::DAY.0;
/// Fewer readings an interval of [`OVER`] than this tell no median.
const LEAST: usize = 5;
/// A season is never calmer than this share of the usual stray of the whole record.
const CALMEST: f64 = 0.6;
/// Neighbouring differences of noise correlate by −0.5; what correlates less is moved, not shaken.
const SHAKEN: f64 = -0.2;
/// Gusts, clouds and showers shake the air as no soil is shaken.
const AIR_IS_RESTLESS: f64 = 1.6;
/// A burst this many times as wild as the threshold leaves nothing to use.
const USELESS: f64 = 4.0;

/// The median stray of one stretch of readings.
struct Block {
    from: usize,
    to: usize,
    at: i64,
    stray: f64,
}

/// Hours in which the median of |x − mean of its two neighbours| over four hours passes `times` that of the two weeks around it
/// (the median of those medians): for white noise it is 0.826 σ, and a trend, a daily wave or a front cancels.
pub(super) fn bursts(scene: &Scene<'_>, own: &NoiseSettings) -> Vec<Flag> {
    let of = scene.of;
    let Some(noise) = of.noise.filter(|_| may_be_noisy(of.channel.quantity)) else { return Vec::new() };
    let per_block = ((OVER / of.interval) as usize).max(LEAST);
    let strays = strays(&of.times, &of.values, of.interval);
    let blocks = blocks(&of.times, &strays, per_block);
    let usual = usual(&blocks);
    // Where a record stood still it has no noise of its own: a part of what is usual in all of it stands in.
    let least = CALMEST * usual_stray(&strays);
    let floor = own.resolutions * noise.resolution;
    let calm = if of.channel.quantity.is_in_soil() { 1.0 } else { AIR_IS_RESTLESS };
    let threshold = |i: usize| (calm * own.times * usual[i].max(least)).max(floor);
    let bridge = (OVER / of.interval) as usize / (per_block / 4).max(1);
    let frozen =
        |at: i64| scene.found.iter().filter(|f| f.test == Test::Frozen).any(|f| (f.start.0..=f.end.0).contains(&at));
    let wild = runs(blocks.len(), bridge, |i| {
        let Block { from, to, at, stray } = blocks[i];
        stray > threshold(i) && stray > moves(&of.values[from..to]) && !frozen(at)
    });
    let mut flags = Vec::new();
    for (a, b) in wild {
        let calm = usual[a].max(least).max(noise.sigma * 0.5).max(noise.resolution * 0.5);
        let (from, to) = (blocks[a].from, blocks[b].to);
        let shakes = |i: &usize| strays[*i] > 0.5 * own.times * calm;
        let (Some(first), Some(last)) = ((from..to).find(shakes), (from..to).rev().find(shakes)) else { continue };
        let span = (of.times[first], of.times[last]);
        let wild = (first..=last).filter(|i| shakes(i));
        let (all, wet) = wild.fold((0, 0), |(all, wet), i| (all + 1, wet + usize::from(by_rain(scene, of.times[i]))));
        // What shakes only while rain falls is soil that fills and empties with it.
        let by_rain = of.channel.quantity.is_moisture() && 10 * wet >= 7 * all;
        let shaken = !by_rain && shaken(&of.values[first..=last]) <= SHAKEN;
        if shaken && (span.1 - span.0) as f64 >= own.hours * 3600.0 {
            let worst = blocks[a..=b].iter().map(|block| block.stray).fold(0.0, f64::max);
            flags.push(flag(scene, span, last - first + 1, (worst, calm, worst / threshold(a))));
        }
    }
    flags
}

/// Whether rain fell within the two hours before a reading.
fn by_rain(scene: &Scene<'_>, t: i64) -> bool {
    scene.water.rain(t - 2 * 3600, t + scene.of.interval).mm() > 0.0
}

/// How far each change is taken back by the next: the correlation of neighbouring differences. It is −0.5 for noise, whose readings know
/// nothing of each other, and near 0 for soil that takes up showers and drains between them.
fn shaken(x: &[f64]) -> f64 {
    let steps = || x.windows(2).map(|w| w[1] - w[0]);
    let together: f64 = steps().zip(steps().skip(1)).map(|(a, b)| a * b).sum();
    together / steps().map(|d| d * d).sum::<f64>().max(f64::MIN_POSITIVE)
}

/// Sums come in showers, a radio and a supply have a restlessness of their own.
const fn may_be_noisy(quantity: Quantity) -> bool {
    quantity.is_in_soil() || matches!(quantity, Quantity::AirTemperature | Quantity::BareAirTemperature)
}

/// How far each reading strays from the mean of its neighbours in time; NaN where a neighbour is missing.
fn strays(t: &[i64], x: &[f64], interval: i64) -> Vec<f64> {
    let mut strays = vec![f64::NAN; x.len()];
    let near = interval + interval / 2;
    for i in 1..x.len().saturating_sub(1) {
        if t[i] - t[i - 1] <= near && t[i + 1] - t[i] <= near {
            strays[i] = (x[i] - 0.5 * (x[i - 1] + x[i + 1])).abs();
        }
    }
    strays
}

/// The median stray of a whole record, by its upper quartile: where many readings lie on a line with their neighbours, a median says nothing.
fn usual_stray(strays: &[f64]) -> f64 {
    /// Upper quartile over median of the absolute value of normal noise.
    const QUARTILE: f64 = 1.150_349 / 0.674_490;
    let stride = (strays.len() / 20_000).max(1);
    let mut some: Vec<f64> = strays.iter().copied().step_by(stride).filter(|s| s.is_finite()).collect();
    quantile(&mut some, 0.75).unwrap_or(0.0) / QUARTILE
}

/// Medians over `long` readings, one every quarter of that.
fn blocks(t: &[i64], strays: &[f64], long: usize) -> Vec<Block> {
    let mut buffer = Vec::with_capacity(long);
    let starts = (0..strays.len().saturating_sub(long)).step_by((long / 4).max(1));
    starts
        .filter_map(|from| {
            let to = from + long;
            buffer.clear();
            buffer.extend(strays[from..to].iter().copied().filter(|s| s.is_finite()));
            let enough = buffer.len() >= LEAST && 2 * buffer.len() >= long;
            let stray = median(&mut buffer).filter(|_| enough)?;
            Some(Block { from, to, at: t[from + long / 2], stray })
        })
        .collect()
}

/// Half of how far a reading's neighbours are apart, median: a record that moves has more of it than of strays.
fn moves(x: &[f64]) -> f64 {
    let mut moves: Vec<f64> = x.windows(3).map(|w| 0.5 * (w[2] - w[0]).abs()).collect();
    median(&mut moves).unwrap_or(0.0)
}

/// What is usual around each block: the median over a week on either side.
fn usual(blocks: &[Block]) -> Vec<f64> {
    let (mut from, mut to) = (0, 0);
    let mut known: Option<(i64, f64)> = None;
    let mut buffer = Vec::new();
    let of = |block: &Block| {
        // Once a day is enough: two weeks change little within one.
        if let Some((at, usual)) = known
            && block.at - at < SpanSeconds::DAY.0
        {
            return usual;
        }
        while blocks[from].at < block.at - AROUND {
            from += 1;
        }
        while to < blocks.len() && blocks[to].at <= block.at + AROUND {
            to += 1;
        }
        buffer.clear();
        buffer.extend(blocks[from..to].iter().map(|b| b.stray));
        let usual = quantile(&mut buffer, 0.5).unwrap_or(0.0);
        known = Some((block.at, usual));
        usual
    };
    blocks.iter().map(of).collect()
}

fn flag(scene: &Scene<'_>, span: (i64, i64), readings: usize, (burst, usual, over): (f64, f64, f64)) -> Flag {
    let quantity = scene.of.channel.quantity;
    let reason = format!(
        "For {} readings stray by {} from their neighbours, {:.0} times as far as in the weeks around: a loose plug or a wet connector shakes so.",
        SpanSeconds(span.1 - span.0).in_words(),
        written(quantity, burst),
        burst / usual.max(f64::MIN_POSITIVE),
    );
    let grade = if over >= USELESS { Grade::Wrong } else { DEFINITION.grade };
    let evidence = Evidence::Noise(NoiseEvidence { burst: burst.into(), usual: usual.into() });
    Flag::new(grade, span, readings, burst / usual.max(f64::MIN_POSITIVE), evidence, reason)
}
