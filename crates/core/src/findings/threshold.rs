//! Where a response breaks: a straight line, or two that meet.

use super::bootstrap::Chance;
use crate::statistics::{f_upper_tail, quantile};
use thiserror::Error;

/// Why points have no threshold to look for.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ThresholdError {
    /// Too few points.
    #[error("{0} points: two segments need at least {LEAST}, or any break fits")]
    Few(usize),
    /// Too few different abscissae.
    #[error("only {0} different values on the horizontal axis: a break needs at least 5")]
    Same(usize),
}

/// Fewer points than this have no break.
const LEAST: usize = 8;
/// Each segment holds at least so many different abscissae.
const EACH_SIDE: usize = 2;
/// Places that are tried for the break.
const PLACES: usize = 120;
/// Resamples of the bootstrap.
const RESAMPLES: usize = 800;
/// A second segment must lower AICc by so much (Burnham & Anderson 2002, § 2.6: less tells little).
const LOWER_BY: f64 = 2.0;

/// One point of a response.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Point {
    /// Water content or tension.
    pub x: f64,
    /// The response.
    pub y: f64,
    /// Which plant, tub or plot: points of one are no independent witnesses.
    pub group: usize,
}

/// A straight line.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Line {
    /// Value at 0.
    pub intercept: f64,
    /// By how much it rises with x.
    pub slope: f64,
    /// Residual sum of squares.
    pub rss: f64,
    /// Corrected Akaike criterion (Hurvich & Tsai 1989), with the variance as a parameter.
    pub aicc: f64,
}

/// Two lines that meet.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TwoSegments {
    /// Where they meet.
    pub at: f64,
    /// The response there.
    pub value: f64,
    /// Slopes below and above.
    pub slopes: (f64, f64),
    /// Residual sum of squares.
    pub rss: f64,
    /// Corrected Akaike criterion.
    pub aicc: f64,
}

/// What points tell of a threshold.
#[derive(Debug, Clone, PartialEq)]
pub struct Threshold {
    /// One line through all.
    pub line: Line,
    /// Two that meet where the squares are least.
    pub two: TwoSegments,
    /// 95 % interval of the break by resampling groups (points, where there are fewer than five groups).
    pub by_bootstrap: (f64, f64),
    /// 95 % interval of the break by profile likelihood: where no break fits worse than F(1, n − 4) allows.
    pub by_profile: (f64, f64),
    /// Residual sum of squares for each place that was tried, for the picture.
    pub profile: Vec<(f64, f64)>,
    /// Whether two segments describe the points better: AICc lower by at least 2.
    pub breaks: bool,
    /// Points, and groups that were resampled.
    pub n: usize,
    /// Independent groups; 0 where single points were resampled.
    pub groups: usize,
}

impl Threshold {
    /// The interval that is said: what either of both holds. The likelihood takes rows as independent, which those of one plant are not;
    /// resampling knows few groups badly.
    #[must_use]
    pub fn interval(&self) -> (f64, f64) {
        (self.by_bootstrap.0.min(self.by_profile.0), self.by_bootstrap.1.max(self.by_profile.1))
    }

    /// Whether the interval reaches an end of the range in which a break was looked for: then it may lie beyond.
    #[must_use]
    pub fn is_open(&self) -> bool {
        let (first, last) = (self.profile[0].0, self.profile[self.profile.len() - 1].0);
        self.by_profile.0 <= first || self.by_profile.1 >= last
    }
}

/// Fits one line and two that meet (Muggeo 2003, Stat. Med. 22:3055, by search over the break instead of iteration: the squares may have
/// several lows).
///
/// # Errors
/// [`ThresholdError`] for fewer than eight points or five different abscissae.
pub fn two_segments(points: &[Point]) -> Result<Threshold, ThresholdError> {
    let points: Vec<Point> = points.iter().copied().filter(|p| p.x.is_finite() && p.y.is_finite()).collect();
    let n = points.len();
    if n < LEAST {
        return Err(ThresholdError::Few(n));
    }
    let places = places(&points).map_err(ThresholdError::Same)?;
    let profile: Vec<(f64, f64)> =
        places.iter().map(|c| (*c, fit(&points, *c).map_or(f64::INFINITY, |f| f.3))).collect();
    let at = refine(&points, &profile);
    let (value, below, above, rss) = fit(&points, at).ok_or(ThresholdError::Same(EACH_SIDE))?;
    // A perfect fit has no residuals to reckon with: rounding stands in.
    let tiny = points.iter().map(|p| p.y * p.y).sum::<f64>() * 1e-24 + f64::MIN_POSITIVE;
    let aicc = |rss: f64, k: usize| {
        let (n, k) = (n as f64, k as f64);
        n * (rss.max(tiny) / n).ln() + 2.0 * k + 2.0 * k * (k + 1.0) / (n - k - 1.0).max(1.0)
    };
    let line = straight(&points);
    let line = Line { aicc: aicc(line.rss, 3), ..line };
    let two = TwoSegments { at, value, slopes: (below, above), rss, aicc: aicc(rss, 5) };
    let df = n - 4;
    let fits = |c: &&(f64, f64)| f_upper_tail((c.1 - rss).max(0.0) / (rss.max(tiny) / df as f64), 1, df) > 0.05;
    let within: Vec<f64> = profile.iter().filter(fits).map(|c| c.0).chain([at]).collect();
    let by_profile = (
        within.iter().copied().fold(f64::INFINITY, f64::min),
        within.iter().copied().fold(f64::NEG_INFINITY, f64::max),
    );
    let (by_bootstrap, groups) = bootstrap(&points, &places, at);
    let breaks = two.aicc < line.aicc - LOWER_BY;
    Ok(Threshold { line, two, by_bootstrap, by_profile, profile, breaks, n, groups })
}

/// Places for a break, with two different abscissae on each side; the number of abscissae if they are too few.
fn places(points: &[Point]) -> Result<Vec<f64>, usize> {
    let mut xs: Vec<f64> = points.iter().map(|p| p.x).collect();
    xs.sort_by(f64::total_cmp);
    xs.dedup();
    if xs.len() < 2 * EACH_SIDE + 1 {
        return Err(xs.len());
    }
    let (low, high) = (xs[EACH_SIDE - 1], xs[xs.len() - EACH_SIDE]);
    Ok((0..PLACES).map(|i| low + (high - low) * i as f64 / (PLACES - 1) as f64).collect())
}

/// The best break between the neighbours of the best place, by golden section.
fn refine(points: &[Point], profile: &[(f64, f64)]) -> f64 {
    let best = (0..profile.len()).min_by(|a, b| profile[*a].1.total_cmp(&profile[*b].1)).unwrap_or(0);
    let (mut a, mut b) = (profile[best.saturating_sub(1)].0, profile[(best + 1).min(profile.len() - 1)].0);
    let rss = |c: f64| fit(points, c).map_or(f64::INFINITY, |f| f.3);
    const GOLDEN: f64 = 0.618_033_988_749_895;
    for _ in 0..40 {
        let (c, d) = (b - GOLDEN * (b - a), a + GOLDEN * (b - a));
        if rss(c) <= rss(d) { b = d } else { a = c }
    }
    a.midpoint(b)
}

/// Value at the break, slopes below and above, and squares of the best two lines that meet at `c`.
fn fit(points: &[Point], c: f64) -> Option<(f64, f64, f64, f64)> {
    // Columns 1, min(x − c, 0), max(x − c, 0): the two last never meet, so that the normal matrix has five numbers.
    let (mut l, mut r, mut ll, mut rr) = (0.0, 0.0, 0.0, 0.0);
    let (mut y, mut ly, mut ry) = (0.0, 0.0, 0.0);
    let n = points.len() as f64;
    for p in points {
        let d = p.x - c;
        y += p.y;
        if d < 0.0 {
            (l, ll, ly) = (l + d, ll + d * d, ly + d * p.y);
        } else {
            (r, rr, ry) = (r + d, rr + d * d, ry + d * p.y);
        }
    }
    if !(ll > 0.0 && rr > 0.0) {
        return None;
    }
    let left = n - l * l / ll - r * r / rr;
    if left.abs() < 1e-12 * n {
        return None;
    }
    let value = (y - l * ly / ll - r * ry / rr) / left;
    let (below, above) = ((ly - l * value) / ll, (ry - r * value) / rr);
    let rss = points.iter().map(|p| {
        let d = p.x - c;
        (p.y - value - if d < 0.0 { below * d } else { above * d }).powi(2)
    });
    Some((value, below, above, rss.sum()))
}

fn straight(points: &[Point]) -> Line {
    let n = points.len() as f64;
    let (mx, my) = (points.iter().map(|p| p.x).sum::<f64>() / n, points.iter().map(|p| p.y).sum::<f64>() / n);
    let sxx: f64 = points.iter().map(|p| (p.x - mx).powi(2)).sum();
    let sxy: f64 = points.iter().map(|p| (p.x - mx) * (p.y - my)).sum();
    let slope = sxy / sxx;
    let intercept = my - slope * mx;
    let rss = points.iter().map(|p| (p.y - intercept - slope * p.x).powi(2)).sum();
    Line { intercept, slope, rss, aicc: 0.0 }
}

/// Points by their abscissa, about the mean of both axes, so that sums over a side of a break are differences of two.
struct Sorted {
    points: Vec<(f64, f64, usize)>,
    centre: f64,
}

impl Sorted {
    fn of(points: &[Point], member: &[usize]) -> Self {
        let n = points.len() as f64;
        let (mx, my) = (points.iter().map(|p| p.x).sum::<f64>() / n, points.iter().map(|p| p.y).sum::<f64>() / n);
        let mut all: Vec<_> = points.iter().zip(member).map(|(p, m)| (p.x - mx, p.y - my, *m)).collect();
        all.sort_by(|a, b| a.0.total_cmp(&b.0));
        Self { points: all, centre: mx }
    }

    /// The place at which two lines fit best if each point counts as often as its member was drawn.
    fn best(&self, times: &[f64], places: &[f64]) -> Option<f64> {
        // Σw, Σwx, Σwx², Σwy, Σwxy up to each point.
        let mut sums = vec![[0.0; 5]];
        let mut now = [0.0; 5];
        for (x, y, member) in &self.points {
            let w = times[*member];
            for (sum, term) in now.iter_mut().zip([w, w * x, w * x * x, w * y, w * x * y]) {
                *sum += term;
            }
            sums.push(now);
        }
        let explained = |c: f64| {
            let below = sums[self.points.partition_point(|p| p.0 < c)];
            let above: [f64; 5] = std::array::from_fn(|k| now[k] - below[k]);
            // Moments of d = x − c on a side: Σwd, Σwd², Σwdy.
            let side = |s: [f64; 5]| (s[1] - c * s[0], s[2] - 2.0 * c * s[1] + c * c * s[0], s[4] - c * s[3]);
            let ((l, ll, ly), (r, rr, ry)) = (side(below), side(above));
            let left = now[0] - l * l / ll - r * r / rr;
            if !(ll > 0.0 && rr > 0.0) || left.abs() < 1e-12 * now[0] {
                return None;
            }
            let value = (now[3] - l * ly / ll - r * ry / rr) / left;
            Some(value * now[3] + (ly - l * value) / ll * ly + (ry - r * value) / rr * ry)
        };
        let tried = places.iter().filter_map(|c| Some((*c, explained(c - self.centre)?)));
        tried.max_by(|a, b| a.1.total_cmp(&b.1)).map(|best| best.0)
    }
}

/// Fewer groups than this say nothing of how groups differ.
const LEAST_GROUPS: usize = 5;

/// The middle 95 % of breaks over resamples of groups, and how many groups; of points where groups are few.
fn bootstrap(points: &[Point], places: &[f64], at: f64) -> ((f64, f64), usize) {
    let mut ids: Vec<usize> = points.iter().map(|p| p.group).collect();
    ids.sort_unstable();
    ids.dedup();
    let by_group = ids.len() >= LEAST_GROUPS;
    let member: Vec<usize> = if by_group {
        points.iter().map(|p| ids.binary_search(&p.group).unwrap_or(0)).collect()
    } else {
        (0..points.len()).collect()
    };
    let units = if by_group { ids.len() } else { points.len() };
    let sorted = Sorted::of(points, &member);
    let mut chance = Chance(14);
    let mut breaks = Vec::with_capacity(RESAMPLES);
    let mut times = vec![0.0; units];
    for _ in 0..RESAMPLES {
        times.fill(0.0);
        (0..units).for_each(|_| times[chance.below(units)] += 1.0);
        breaks.extend(sorted.best(&times, places));
    }
    let mut end = |p: f64| quantile(&mut breaks, p).unwrap_or(at);
    // The interval of resamples on a grid of places holds at least what was found.
    ((end(0.025).min(at), end(0.975).max(at)), if by_group { units } else { 0 })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    fn broken(n: usize, noise: f64, seed: u64) -> Vec<Point> {
        let mut chance = Chance(seed);
        (0..n)
            .map(|i| {
                let x = 0.05 + 0.35 * (i as f64 + 0.5) / n as f64;
                Point { x, y: 20.0 * (x - 0.20).min(0.0) + 4.0 + noise * chance.normal(), group: i % 12 }
            })
            .collect()
    }

    #[test]
    fn a_clean_break_is_found_where_it_is() {
        let t = two_segments(&broken(60, 0.0, 1)).unwrap();
        assert_close(t.two.at, 0.20, 1e-6);
        assert_close(t.two.slopes.0, 20.0, 1e-6);
        assert!(t.two.slopes.1.abs() < 1e-6 && t.breaks && t.groups == 12 && !t.is_open());
    }

    #[test]
    fn both_intervals_hold_the_break_in_most_records() {
        let mut held = (0, 0);
        for seed in 0..60 {
            let t = two_segments(&broken(120, 0.5, seed)).unwrap();
            held.0 += usize::from(t.by_profile.0 <= 0.20 && 0.20 <= t.by_profile.1);
            held.1 += usize::from(t.by_bootstrap.0 <= 0.20 && 0.20 <= t.by_bootstrap.1);
        }
        assert!(held.0 >= 54 && held.1 >= 52, "{held:?} of 60");
    }

    #[test]
    fn no_threshold_is_a_possible_answer() {
        let mut breaks = 0;
        for seed in 0..60 {
            let mut chance = Chance(seed);
            let points: Vec<Point> = (0..80)
                .map(|i| Point {
                    x: f64::from(i) / 80.0,
                    y: 2.0 * f64::from(i) / 80.0 + 0.3 * chance.normal(),
                    group: 0,
                })
                .collect();
            let t = two_segments(&points).unwrap();
            assert_eq!(t.groups, 0, "one group cannot be resampled");
            breaks += usize::from(t.breaks);
        }
        assert!(breaks <= 8, "{breaks} of 60 straight lines broke");
    }

    #[test]
    fn few_points_and_equal_abscissae_are_refused() {
        assert_eq!(two_segments(&broken(3, 0.0, 1)), Err(ThresholdError::Few(3)));
        assert_eq!(two_segments(&broken(7, 0.0, 1)), Err(ThresholdError::Few(7)));
        assert!(two_segments(&broken(8, 0.0, 1)).is_ok());
        let same: Vec<Point> = (0..30).map(|i| Point { x: f64::from(i % 4), y: f64::from(i), group: 0 }).collect();
        assert_eq!(two_segments(&same), Err(ThresholdError::Same(4)));
        let level: Vec<Point> = (0..30).map(|i| Point { x: f64::from(i), y: 2.0, group: 0 }).collect();
        assert!(!two_segments(&level).unwrap().breaks, "exact data of one line do not break");
    }
}
