//! Robust location and spread, and quantiles of the t and F distributions.

use statrs::distribution::{Continuous, ContinuousCDF, FisherSnedecor, StudentsT};

/// 1/Φ⁻¹(3/4): turns the median absolute deviation of normal noise into its standard deviation
/// (Rousseeuw & Croux 1993, JASA 88:1273).
pub const MAD_TO_SIGMA: f64 = 1.482_602_218_505_602;

/// Up to so many values it is quicker to count how many are less than each than to sort them.
const FEW: usize = 32;

/// The median of `values`, which may be reordered; the mean of the two middle ones for an even count. `None` if empty.
pub fn median(values: &mut [f64]) -> Option<f64> {
    let n = values.len();
    if n == 0 {
        return None;
    }
    if n <= FEW && !values.iter().any(|v| v.is_nan()) {
        return median_of_few(values);
    }
    let (below, &mut upper, _) = values.select_nth_unstable_by(n / 2, f64::total_cmp);
    if n % 2 == 1 {
        return Some(upper);
    }
    let lower = below.iter().copied().max_by(f64::total_cmp)?;
    Some(lower.midpoint(upper))
}

/// The median of numbers, by counting: quicker than sorting a few, for no step of it depends on the one before.
fn median_of_few(values: &[f64]) -> Option<f64> {
    let (lower, upper) = ((values.len() - 1) / 2, values.len() / 2);
    let (mut low, mut high) = (None, None);
    for v in values {
        let less: usize = values.iter().map(|other| usize::from(other < v)).sum();
        let not_more: usize = values.iter().map(|other| usize::from(other <= v)).sum();
        let ranks = less..not_more;
        low = low.or(ranks.contains(&lower).then_some(*v));
        high = high.or(ranks.contains(&upper).then_some(*v));
        if let Some((low, high)) = low.zip(high) {
            return Some(low.midpoint(high));
        }
    }
    None
}

/// Quantile `p` (0 to 1) by the nearest rank, counted from the nearer end, so that quantiles of mirrored values are mirrored;
/// `values` are reordered. `None` if empty.
pub fn quantile(values: &mut [f64], p: f64) -> Option<f64> {
    let last = values.len().checked_sub(1)?;
    // 1 − 0.9 is a little less than 0.1: at half a rank both ends must round alike.
    let from_end = |p: f64| (p.clamp(0.0, 0.5) * last as f64 + 1e-9).round() as usize;
    let rank = if p > 0.5 { last - from_end(1.0 - p) } else { from_end(p) };
    Some(*values.select_nth_unstable_by(rank, f64::total_cmp).1)
}

/// Standard deviation of `values` from the median absolute deviation, σ = 1.4826 MAD (Hampel 1974).
/// 0 for data that mostly agree, as coarsely rounded data do. `None` if empty.
pub fn mad_sigma(values: &mut [f64]) -> Option<f64> {
    let centre = median(values)?;
    for value in values.iter_mut() {
        *value = (*value - centre).abs();
    }
    median(values).map(|mad| mad * MAD_TO_SIGMA)
}

/// Quantile of Student's t with `df` degrees of freedom. `p` is the cumulative probability: a two-sided 95 %
/// interval takes 0.975. Worked: p = 0.975, df = 5 gives 2.5706.
///
/// # Panics
/// Never for df of at least 1.
#[must_use]
pub fn t_quantile(p: f64, df: usize) -> f64 {
    let Ok(t) = StudentsT::new(0.0, 1.0, df.max(1) as f64) else { return f64::NAN };
    let mut x = t.inverse_cdf(p);
    for _ in 0..3 {
        x -= (t.cdf(x) - p) / t.pdf(x); // the library stops early; Newton brings the last digits
    }
    x
}

/// Upper tail of the F distribution: the probability of a value above `f`. No evidence (`f` not above 0 or not a number, no
/// degrees of freedom) is 1; an infinite `f` is 0.
#[must_use]
pub fn f_upper_tail(f: f64, df1: usize, df2: usize) -> f64 {
    if f.is_nan() || f <= 0.0 {
        return 1.0;
    }
    if f >= 1e300 {
        return 0.0;
    }
    FisherSnedecor::new(df1 as f64, df2 as f64).map_or(1.0, |d| d.sf(f))
}

#[cfg(test)]
pub(crate) mod testing {
    /// Fails unless `got` is within a relative tolerance of `want`.
    #[track_caller]
    pub fn assert_close(got: f64, want: f64, relative: f64) {
        assert!((got - want).abs() <= relative * want.abs() + 1e-12, "got {got}, want {want}");
    }
}

#[cfg(test)]
mod tests {
    use super::testing::assert_close;
    use super::*;

    #[test]
    fn median_and_spread_of_the_reference_sets() {
        assert_eq!(median(&mut [0.21, 0.22, 0.2, 0.35, 0.21, 0.19]), Some(0.21));
        let sigma = mad_sigma(&mut [3.0, 1.0, 2.0, 100.0, 2.5]).unwrap();
        assert_close(sigma, 0.5 * MAD_TO_SIGMA, 1e-12);
        assert_eq!(median(&mut []), None);
    }

    #[test]
    fn a_median_is_the_middle_whether_few_are_counted_or_many_sorted() {
        let mut state = 7_u64;
        let mut next = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            // A few levels, so that many are equal; some are infinite.
            [-1e300, f64::NEG_INFINITY, 0.0, -0.0, 0.5, 0.25, 7.0, f64::INFINITY][(state >> 61) as usize]
        };
        for n in (1..=2 * FEW).cycle().take(2000) {
            let mut values: Vec<f64> = (0..n).map(|_| next()).collect();
            let mut sorted = values.clone();
            sorted.sort_by(f64::total_cmp);
            let expected = sorted[(n - 1) / 2].midpoint(sorted[n / 2]);
            let found = median(&mut values).unwrap();
            assert!(found == expected || found.is_nan() && expected.is_nan(), "{sorted:?}: {found}");
        }
        assert_eq!(median(&mut [f64::NAN, 1.0, 2.0]), Some(2.0), "what is no number is more than any");
    }

    #[test]
    fn t_quantiles_of_the_tables() {
        for (p, df, t) in [
            (0.975, 5, 2.570_581_835_64),
            (0.975, 4, 2.776_445_105_2),
            (0.95, 5, 2.015_048_373_33),
            (0.995, 10, 3.169_272_672_62),
        ] {
            assert_close(t_quantile(p, df), t, 1e-10);
        }
    }

    #[test]
    fn f_tail_of_the_nested_models() {
        assert_close(f_upper_tail(32.571_106_515_2, 1, 4), 0.004_660_583_0, 1e-8);
        for (f, tail) in [(f64::NAN, 1.0), (-1.0, 1.0), (0.0, 1.0), (f64::INFINITY, 0.0), (f64::NEG_INFINITY, 1.0)] {
            assert_eq!(f_upper_tail(f, 1, 4), tail);
        }
        assert_eq!(f_upper_tail(3.0, 0, 4), 1.0, "no degrees of freedom are no evidence");
    }
}
