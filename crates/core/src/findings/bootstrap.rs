//! Intervals for means of records whose days are not independent.

use super::storage::t_95;
use crate::statistics::quantile;

/// A mean with its interval.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Interval {
    /// The mean.
    pub estimate: f64,
    /// Lower end of the 95 % interval.
    pub low: f64,
    /// Upper end.
    pub high: f64,
    /// How many values.
    pub n: usize,
    /// How many independent values would tell as much: the variance of a value over that of the mean.
    pub effective: f64,
    /// Length of the blocks, in values.
    pub block: usize,
}

impl Interval {
    /// Whether the interval leaves zero out.
    #[must_use]
    pub fn is_off_zero(&self) -> bool {
        self.low > 0.0 || self.high < 0.0
    }

    /// The same on another scale: `of` must rise.
    #[must_use]
    pub fn map(self, of: impl Fn(f64) -> f64) -> Self {
        Self { estimate: of(self.estimate), low: of(self.low), high: of(self.high), ..self }
    }
}

/// Resampling of blocks of consecutive values, wrapped at the ends (Politis & Romano 1992: then every value is drawn as often), with a fixed
/// sequence of chance: the same record gives the same interval.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BlockBootstrap {
    /// How many resamples.
    pub resamples: usize,
    /// Begin of the sequence of chance.
    pub seed: u64,
}

impl Default for BlockBootstrap {
    fn default() -> Self {
        Self { resamples: 2000, seed: 14 }
    }
}

/// Fewer values than this have no interval.
pub const LEAST: usize = 10;

impl BlockBootstrap {
    /// The mean of `values` (in order of time) with its 95 % interval; `None` for fewer than ten.
    ///
    /// Blocks are as long as [`block_length`] says. The percentiles of the resampled means are widened about the estimate twice: where the
    /// long-run variance by the same rule says that blocks of that length lose some of it (what ties values over the ends of a block), and by
    /// Student's t of as many degrees of freedom as there are blocks (or reaches of the memory that the record shows, if they are fewer), less
    /// one, over the normal quantile.
    #[must_use]
    pub fn mean(&self, values: &[f64]) -> Option<Interval> {
        let (means, memory) = self.means(values)?;
        Some(interval(values, means, memory))
    }

    /// The mean of `after` less that of `before`, each resampled by itself.
    #[must_use]
    pub fn difference(&self, before: &[f64], after: &[f64]) -> Option<Interval> {
        let (first, memory) = self.means(before)?;
        let (second, other) = Self { seed: self.seed ^ 0x9e37, ..*self }.means(after)?;
        let (a, b) = (interval(before, first.clone(), memory), interval(after, second.clone(), other));
        let changes: Vec<f64> = first.iter().zip(&second).map(|(a, b)| b - a).collect();
        let estimate = b.estimate - a.estimate;
        let widen =
            widening(&first, a.estimate, before.len(), memory).max(widening(&second, b.estimate, after.len(), other));
        let (low, high) = ends(changes, estimate, widen);
        let (n, effective, block) = (a.n + b.n, a.effective + b.effective, memory.block.max(other.block));
        Some(Interval { estimate, low, high, n, effective, block })
    }

    /// Means of the resamples, and how long the record remembers.
    fn means(&self, values: &[f64]) -> Option<(Vec<f64>, Memory)> {
        let n = values.len();
        if n < LEAST || values.iter().any(|v| !v.is_finite()) {
            return None;
        }
        let memory = Memory::of(values);
        let block = memory.block;
        let (full, rest) = (n / block, n % block);
        // Sums up to each place, over the record twice: a block is a difference of two.
        let mut sums = Vec::with_capacity(2 * n + 1);
        sums.push(0.0);
        let mut sum = 0.0;
        for v in values.iter().chain(values) {
            sum += v;
            sums.push(sum);
        }
        let mut chance = Chance(self.seed);
        let means = (0..self.resamples).map(|_| {
            let mut total = 0.0;
            for _ in 0..full {
                let at = chance.below(n);
                total += sums[at + block] - sums[at];
            }
            let at = chance.below(n);
            (total + sums[at + rest] - sums[at]) / n as f64
        });
        Some((means.collect(), memory))
    }
}

fn interval(values: &[f64], means: Vec<f64>, memory: Memory) -> Interval {
    let n = values.len();
    let estimate = mean(values);
    let of_mean = variance(&means, estimate).max(memory.long_run / n as f64);
    let effective = if of_mean > 0.0 { (variance(values, estimate) / of_mean).min(n as f64) } else { n as f64 };
    let widen = widening(&means, estimate, n, memory);
    let (low, high) = ends(means, estimate, widen);
    Interval { estimate, low, high, n, effective, block: memory.block }
}

fn variance(of: &[f64], about: f64) -> f64 {
    of.iter().map(|v| (v - about).powi(2)).sum::<f64>() / of.len() as f64
}

/// By how much the spread of resampled means is widened: for what blocks lose, and for few blocks.
fn widening(means: &[f64], estimate: f64, n: usize, memory: Memory) -> f64 {
    let (drawn, wanted) = (variance(means, estimate), memory.long_run / n as f64);
    let lost = if drawn > 0.0 { (wanted / drawn).clamp(1.0, 4.0).sqrt() } else { 1.0 };
    let blocks = (n / memory.block.max(memory.reach)).saturating_sub(1).max(1);
    lost * t_95(blocks) / super::Z95
}

/// The 2.5 and 97.5 % points of resampled values, widened about the estimate.
fn ends(mut resampled: Vec<f64>, estimate: f64, widen: f64) -> (f64, f64) {
    let mut at = |p: f64| quantile(&mut resampled, p).unwrap_or(f64::NAN);
    (estimate + (at(0.025) - estimate) * widen, estimate + (at(0.975) - estimate) * widen)
}

fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len() as f64
}

/// How long blocks must be, in values, so that a resampled mean varies as much as the true one: the rule of Politis & White 2004, Econometric
/// Reviews 23:53, as corrected by Patton, Politis & White 2009, ibid. 28:372, for wrapped blocks. Between 1 and a third of the values.
#[must_use]
pub fn block_length(values: &[f64]) -> usize {
    Memory::of(values).block
}

/// How a record depends on its past.
#[derive(Debug, Clone, Copy)]
struct Memory {
    /// Length of blocks.
    block: usize,
    /// Variance of a mean times the number of values.
    long_run: f64,
    /// Over how many values it was looked for.
    reach: usize,
}

impl Memory {
    /// About the straight line through the record: a spring that warms is no memory.
    fn of(values: &[f64]) -> Self {
        let n = values.len();
        let off = about_line(values);
        let covariance = |lag: usize| off.iter().zip(&off[lag..]).map(|(a, b)| a * b).sum::<f64>() / n as f64;
        let own = if n < 4 { 0.0 } else { covariance(0) };
        if own.is_nan() || own <= 0.0 {
            return Self { block: 1, long_run: 0.0, reach: 1 };
        }
        let near = (n as f64).log10().sqrt().ceil().max(5.0) as usize;
        let most = ((n as f64).sqrt().ceil() as usize + near).min(n - 1);
        let bound = 2.0 * ((n as f64).log10() / n as f64).sqrt();
        let correlations: Vec<f64> = (0..=most).map(|lag| covariance(lag) / own).collect();
        // The last lag after which `near` correlations in a row are nothing.
        let quiet = |m: &usize| correlations.iter().skip(m + 1).take(near).all(|r| r.abs() < bound);
        let last = (0..most).find(quiet).unwrap_or(most);
        let reach = (2 * last).clamp(1, most);
        let window = |lag: usize| {
            let t = lag as f64 / reach as f64;
            if t <= 0.5 { 1.0 } else { 2.0 * (1.0 - t) }
        };
        let (mut spectrum, mut slope) = (1.0, 0.0);
        for (lag, correlation) in correlations.iter().enumerate().take(reach + 1).skip(1) {
            spectrum += 2.0 * window(lag) * correlation;
            slope += 2.0 * window(lag) * lag as f64 * correlation;
        }
        let length = (2.0 * slope * slope / (4.0 / 3.0 * spectrum * spectrum)).cbrt() * (n as f64).cbrt();
        let most = (3.0 * (n as f64).sqrt()).min(n as f64 / 3.0).max(1.0);
        let block = if length.is_finite() { length.ceil().clamp(1.0, most) } else { most };
        // Covariances about a line that the record gives itself are too small, each by about two long-run variances over n; the window's area
        // of 1.5 reaches adds them up.
        let lost = (1.0 - 2.0 * (1.5 * reach as f64 + 1.0) / n as f64).max(0.3);
        // In a short record the window ends where correlations sink into chance, and loses their tail: a record that keeps a share of the day
        // before has at least that of a first-order process, whose estimated share is too small by about (2 + 4 r)/n (Kendall 1954,
        // Biometrika 41:403, for a line).
        let first = (correlations[1] + (2.0 + 4.0 * correlations[1]) / n as f64).clamp(0.0, 0.95);
        let spectrum = (spectrum / lost).max((1.0 + first) / (1.0 - first));
        Self { block: block as usize, long_run: own * spectrum, reach: 2 * reach + 1 }
    }
}

/// A record less the straight line through it.
fn about_line(values: &[f64]) -> Vec<f64> {
    let n = values.len() as f64;
    let (middle, centre) = ((n - 1.0) / 2.0, mean(values));
    let square: f64 = (0..values.len()).map(|i| (i as f64 - middle).powi(2)).sum();
    let rise = values.iter().enumerate().map(|(i, v)| (i as f64 - middle) * (v - centre)).sum::<f64>();
    let slope = if square > 0.0 { rise / square } else { 0.0 };
    values.iter().enumerate().map(|(i, v)| v - centre - slope * (i as f64 - middle)).collect()
}

/// SplitMix64 (Steele, Lea & Flood 2014, OOPSLA): a sequence that only its begin decides.
pub(super) struct Chance(pub u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A whole number below `n`, which is not 0.
    pub fn below(&mut self, n: usize) -> usize {
        ((u128::from(self.next()) * n as u128) >> 64) as usize
    }

    /// Between 0 and 1.
    #[cfg(test)]
    pub fn share(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Standard normal (Box & Muller 1958).
    #[cfg(test)]
    pub fn normal(&mut self) -> f64 {
        let (a, b) = (self.share().max(1e-300), self.share());
        (-2.0 * a.ln()).sqrt() * (std::f64::consts::TAU * b).cos()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A record in which each value keeps the share `phi` of the one before.
    fn record(n: usize, phi: f64, seed: u64) -> Vec<f64> {
        let mut chance = Chance(seed);
        let mut value = chance.normal();
        (0..n)
            .map(|_| {
                value = phi * value + (1.0 - phi * phi).sqrt() * chance.normal();
                value
            })
            .collect()
    }

    #[test]
    fn dependent_days_count_for_fewer_and_need_longer_blocks() {
        let boot = BlockBootstrap::default();
        let (free, tied) = (boot.mean(&record(730, 0.0, 1)).unwrap(), boot.mean(&record(730, 0.9, 1)).unwrap());
        assert!(free.block <= 5 && free.effective > 400.0, "{free:?}");
        assert!(tied.block >= 10 && tied.effective < 120.0, "{tied:?}");
        assert!(tied.high - tied.low > 2.5 * (free.high - free.low));
    }

    #[test]
    fn intervals_hold_the_truth_as_often_as_they_say() {
        let boot = BlockBootstrap { resamples: 400, seed: 3 };
        for phi in [0.0, 0.5, 0.8] {
            let holds = (0..400).filter(|seed| {
                let i = boot.mean(&record(400, phi, 1000 + seed)).unwrap();
                i.low <= 0.0 && 0.0 <= i.high
            });
            let share = holds.count() as f64 / 400.0;
            assert!((0.92..=0.985).contains(&share), "phi {phi}: {share}");
        }
    }

    #[test]
    fn a_season_that_warms_is_no_memory() {
        let boot = BlockBootstrap::default();
        let noise = record(92, 0.3, 4);
        let warming: Vec<f64> = noise.iter().enumerate().map(|(i, v)| 0.2 * v + i as f64 / 46.0).collect();
        let i = boot.mean(&warming).unwrap();
        // The line alone goes through two units; the mean of the season is known far better than that.
        assert!(i.high - i.low < 1.6 && i.low < i.estimate && i.estimate < i.high, "{i:?}");
    }

    #[test]
    fn equal_values_have_a_sharp_interval_and_few_have_none() {
        let boot = BlockBootstrap::default();
        let i = boot.mean(&[2.5; 40]).unwrap();
        assert_eq!((i.estimate, i.low, i.high, i.effective), (2.5, 2.5, 2.5, 40.0));
        assert_eq!(boot.mean(&[1.0; 9]), None);
        assert_eq!(boot.mean(&[f64::NAN; 20]), None);
        assert_eq!(block_length(&[]), 1);
        assert_eq!(boot.mean(&record(100, 0.5, 2)), boot.mean(&record(100, 0.5, 2)));
    }

    #[test]
    fn a_difference_of_two_stretches_is_as_uncertain_as_both() {
        let boot = BlockBootstrap::default();
        let (a, b) = (record(300, 0.4, 5), record(300, 0.4, 6));
        let moved: Vec<f64> = b.iter().map(|v| v + 3.0).collect();
        let (one, d) = (boot.mean(&a).unwrap(), boot.difference(&a, &moved).unwrap());
        assert!(d.is_off_zero() && (d.estimate - 3.0).abs() < 0.5 && d.n == 600);
        assert!(d.high - d.low > 1.2 * (one.high - one.low));
    }
}
