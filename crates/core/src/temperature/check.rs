//! A thermometer against a reference: bias, limits of agreement, what kind of bias, and whether a correction is due.

use crate::calibration::{Intercept, PolynomialFit};
use crate::statistics::t_quantile;
use crate::units::{ranges, signed};

/// Two methods compared by the differences of their pairs, first minus second.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Agreement {
    /// How many pairs of readings.
    pub n: usize,
    /// Mean of probe minus reference, K.
    pub bias: f64,
    /// Standard deviation of the differences (n − 1).
    pub sd: f64,
    /// Limits of agreement, bias ± 1.96 sd.
    pub limits: (f64, f64),
    /// 95 % confidence interval of the bias.
    pub bias_ci: (f64, f64),
    /// 95 % confidence half width of either limit.
    pub limit_half_width: f64,
}

/// Share of a normal distribution within ± 1.96 standard deviations is 95 %.
const NORMAL_95: f64 = 1.96;

/// Bias and limits of agreement of pairs (Bland & Altman 1986, Lancet i:307; confidence of the limits by their 1999
/// formula, Statistical Methods in Medical Research 8:135). `None` for fewer than two
/// pairs, or differences that are no finite numbers.
///
/// Pairs are taken as independent: readings that follow each other in minutes make the intervals too narrow.
#[must_use]
pub fn agreement(first: &[f64], second: &[f64]) -> Option<Agreement> {
    let n = first.len().min(second.len());
    if n < 2 {
        return None;
    }
    let differences: Vec<f64> = first.iter().zip(second).map(|(a, b)| a - b).collect();
    let count = n as f64;
    let bias = differences.iter().sum::<f64>() / count;
    let sd = (differences.iter().map(|d| (d - bias).powi(2)).sum::<f64>() / (count - 1.0)).sqrt();
    let t = t_quantile(0.975, n - 1);
    let of_bias = t * sd / count.sqrt();
    let found = Agreement {
        n,
        bias,
        sd,
        limits: (bias - NORMAL_95 * sd, bias + NORMAL_95 * sd),
        bias_ci: (bias - of_bias, bias + of_bias),
        limit_half_width: t * sd * (1.0 / count + NORMAL_95.powi(2) / (2.0 * (count - 1.0))).sqrt(),
    };
    (found.limits.0.is_finite() && found.limits.1.is_finite() && found.limit_half_width.is_finite()).then_some(found)
}

/// What both instruments claim, half widths at about 95 %, K.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Claims {
    /// The probe.
    pub probe: f64,
    /// Reading of the reference, °C.
    pub reference: f64,
}

impl Claims {
    /// Both together.
    #[must_use]
    pub fn together(self) -> f64 {
        self.probe.hypot(self.reference)
    }
}

/// What kind of bias it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pattern {
    /// Within what both claim, or within chance.
    None,
    /// The same everywhere.
    Constant,
    /// Grows with temperature.
    Proportional,
    /// Too scattered for either.
    Neither,
    /// The pairs do not carry a judgement.
    Unknown,
}

/// A correction that the evidence carries: corrected = reading + offset + slope × reading.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Correction {
    /// Added to every reading, K.
    pub offset: f64,
    /// K per K; 0 for a constant one.
    pub slope: f64,
}

/// The judgement of a set of pairs.
#[derive(Debug, Clone, PartialEq)]
pub struct TemperatureCheck {
    /// Bias and limits, from two pairs on.
    pub agreement: Option<Agreement>,
    /// Rise of the difference with temperature, K per K, with its 95 % half width.
    pub slope: Option<(f64, f64)>,
    /// What kind of bias.
    pub pattern: Pattern,
    /// The correction, if the evidence carries one.
    pub correction: Option<Correction>,
    /// The answer in one sentence.
    pub sentence: String,
    /// Why, one sentence each.
    pub reasons: Vec<String>,
}

/// Pairs and span of temperature below which nothing is corrected: ice, room and warm.
const FEWEST: usize = 3;
const LEAST_SPAN_K: f64 = 10.0;

/// Judges pairs of (probe, reference) in °C, each taken after equilibrium.
#[must_use]
pub fn check(probe: &[f64], reference: &[f64], claims: Claims) -> TemperatureCheck {
    let n = probe.len().min(reference.len());
    let (probe, reference) = (&probe[..n], &reference[..n]);
    let mut found = TemperatureCheck {
        agreement: agreement(probe, reference),
        slope: None,
        pattern: Pattern::Unknown,
        correction: None,
        sentence: String::new(),
        reasons: Vec::new(),
    };
    if let Some(strange) = probe.iter().chain(reference).find_map(|t| ranges::TEMPERATURE_C.check(*t).err()) {
        found.agreement = None;
        found.sentence = format!("Nothing is judged: a {strange}.");
        return found;
    }
    let Some(a) = found.agreement else {
        found.sentence = match n {
            0 => "No pair yet: stirred ice bath, room, warm; each after some minutes of rest.".into(),
            _ => "One pair never justifies a correction: it cannot tell a bias from a slip. Take pairs at three temperatures.".into(),
        };
        return found;
    };
    let (low, high) = reference.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), t| (l.min(*t), h.max(*t)));
    let (bias, ci) = (signed(a.bias, 2), format!("{} to {}", signed(a.bias_ci.0, 2), signed(a.bias_ci.1, 2)));
    found.reasons.push(format!(
        "Mean difference {bias} K ({ci} at 95 %); a single reading differs by {} to {} K.",
        signed(a.limits.0, 2),
        signed(a.limits.1, 2)
    ));
    if n < FEWEST || high - low < LEAST_SPAN_K {
        found.sentence =
            format!("{n} pairs over {:.0} K are too few to correct by: take ice, room and warm.", high - low);
        return found;
    }
    let differences: Vec<f64> = probe.iter().zip(reference).map(|(p, r)| p - r).collect();
    if let Ok(line) = PolynomialFit::new(reference, &differences, 1, Intercept::Free) {
        found.slope = Some((line.coefficients[1], slope_half_width(&line, reference, claims)));
    }
    judge(&mut found, a, claims, (low, high), probe, reference);
    found
}

/// 95 % half width of the slope, K per K. Three pairs leave one degree of freedom, which excludes hardly anything; where the
/// pairs lie about the line within what both instruments claim, that claim is a known scatter (JCGM 100:2008, 4.3) and
/// gives the width u/√Σ(r − r̄)² if it is the smaller.
fn slope_half_width(line: &PolynomialFit, reference: &[f64], claims: Claims) -> f64 {
    let by_scatter = t_quantile(0.975, line.df) * line.standard_errors[1];
    let mean = reference.iter().sum::<f64>() / reference.len() as f64;
    let spread = reference.iter().map(|r| (r - mean).powi(2)).sum::<f64>().sqrt();
    let as_claimed = claims.together() > 0.0 && line.residuals.iter().all(|e| e.abs() <= claims.together());
    if as_claimed { by_scatter.min(claims.together() / spread) } else { by_scatter }
}

fn judge(
    found: &mut TemperatureCheck,
    a: Agreement,
    claims: Claims,
    span: (f64, f64),
    probe: &[f64],
    reference: &[f64],
) {
    let claimed = claims.together();
    let (slope, half) = found.slope.unwrap_or((0.0, f64::INFINITY));
    let across = (slope * (span.1 - span.0)).abs();
    let range = format!("{:.0} to {:.0} °C", span.0, span.1).replace('-', "−");
    if slope.abs() > half && across > claimed {
        found.pattern = Pattern::Proportional;
        // Corrected on the probe's own scale, so that it can be applied to its readings.
        let back: Vec<f64> = probe.iter().zip(reference).map(|(p, r)| r - p).collect();
        if let Ok(line) = PolynomialFit::new(probe, &back, 1, Intercept::Free) {
            found.correction = Some(Correction { offset: line.coefficients[0], slope: line.coefficients[1] });
        }
        found.sentence = format!(
            "The bias grows with temperature, by {} K per K from {range}: a constant would not remove it.",
            signed(slope, 3)
        );
    } else if a.bias_ci.0 <= 0.0 && a.bias_ci.1 >= 0.0 {
        let scattered = a.sd * NORMAL_95 > 2.0 * claimed;
        found.pattern = if scattered { Pattern::Neither } else { Pattern::None };
        found.sentence = if scattered {
            format!(
                "No steady bias, but the pairs scatter by ±{:.2} K, more than both claim (±{claimed:.2}): look for contact, stirring, sun.",
                a.sd * NORMAL_95
            )
        } else {
            format!("They agree: no bias that chance could not make, from {range}.")
        };
    } else if a.bias.abs() <= claimed {
        found.pattern = Pattern::None;
        found.sentence = format!(
            "They agree within what both claim (±{claimed:.2} K); {} K is no reason to correct.",
            signed(a.bias, 2)
        );
    } else if a.sd * NORMAL_95 > a.bias.abs() {
        found.pattern = Pattern::Neither;
        found.sentence = format!(
            "A bias of {} K, but single pairs scatter by ±{:.2} K around it: no constant holds. Ask first what makes it, such as sun.",
            signed(a.bias, 2),
            a.sd * NORMAL_95
        );
    } else {
        found.pattern = Pattern::Constant;
        found.correction = Some(Correction { offset: -a.bias, slope: 0.0 });
        found.sentence = format!(
            "A constant bias of {} K from {range}, beyond what both claim (±{claimed:.2} K): a correction of {} K is carried by the evidence.",
            signed(a.bias, 2),
            signed(-a.bias, 2)
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    const CLAIMS: Claims = Claims { probe: 0.2, reference: 0.1 };

    #[test]
    fn agreement_of_the_published_flow_meters() {
        let a = [
            494.0, 395.0, 516.0, 434.0, 476.0, 557.0, 413.0, 442.0, 650.0, 433.0, 417.0, 656.0, 267.0, 478.0, 178.0,
            423.0, 427.0,
        ];
        let b = [
            512.0, 430.0, 520.0, 428.0, 500.0, 600.0, 364.0, 380.0, 658.0, 445.0, 432.0, 626.0, 260.0, 477.0, 259.0,
            350.0, 451.0,
        ];
        let found = agreement(&a, &b).unwrap();
        assert_close(found.bias, -2.117_647_058_82, 1e-9);
        assert_close(found.sd, 38.765_129_873_6, 1e-9);
        assert_close(found.limits.0, -78.097_301_611_1, 1e-9);
        assert_close(found.bias_ci.1, 17.813_543_579, 1e-9);
        assert_close(found.limits.1 + found.limit_half_width, 108.618_083_792, 1e-9);
    }

    #[test]
    fn one_pair_is_refused_and_one_temperature_is_not_enough() {
        assert!(check(&[0.6], &[0.0], CLAIMS).sentence.starts_with("One pair never justifies"));
        let room = check(&[20.6, 20.5, 20.7], &[20.0, 20.0, 20.1], CLAIMS);
        assert!(room.correction.is_none() && room.sentence.contains("too few to correct by"));
        let hot = check(&[1e300, 2.0, f64::NAN], &[0.0, 1.0, 20.0], CLAIMS);
        assert!(hot.agreement.is_none() && hot.sentence.contains("temperature must lie between"), "{}", hot.sentence);
        assert!(check(&[], &[], CLAIMS).sentence.starts_with("No pair yet"));
    }

    #[test]
    fn constant_proportional_and_neither_are_told_apart() {
        let reference = [0.0, 10.0, 20.0, 30.0, 40.0];
        let with =
            |f: fn(f64, usize) -> f64| -> Vec<f64> { reference.iter().enumerate().map(|(i, t)| f(*t, i)).collect() };
        let constant = check(&with(|t, i| t + 0.6 + [0.02, -0.02][i % 2]), &reference, CLAIMS);
        assert_eq!(constant.pattern, Pattern::Constant);
        assert!((constant.correction.unwrap().offset + 0.604).abs() < 1e-3);
        let growing = check(&with(|t, i| t * 1.03 + [0.02, -0.02][i % 2]), &reference, CLAIMS);
        assert_eq!(growing.pattern, Pattern::Proportional);
        let c = growing.correction.unwrap();
        let corrected = 30.9 + c.offset + c.slope * 30.9;
        assert!((corrected - 30.0).abs() < 0.05, "{corrected}");
        let good = check(&with(|t, i| t + [0.05, -0.05][i % 2]), &reference, CLAIMS);
        assert_eq!((good.pattern, good.correction), (Pattern::None, None));
        let small = check(&with(|t, i| t + 0.15 + [0.01, -0.01][i % 2]), &reference, CLAIMS);
        assert!(small.sentence.contains("within what both claim") && small.correction.is_none());
        let three = check(&[0.02, 20.58, 41.21], &[0.0, 20.0, 40.0], CLAIMS);
        assert_eq!(three.pattern, Pattern::Proportional, "{}", three.sentence);
        let scattered = check(&[0.0, 21.2, 41.0], &[0.0, 20.0, 40.0], CLAIMS);
        assert_ne!(scattered.pattern, Pattern::Proportional, "three pairs off any line: {}", scattered.sentence);
        let wild = check(&with(|t, i| t + [1.5, 0.1, 1.2, 0.2, 0.9][i]), &reference, CLAIMS);
        assert_eq!((wild.pattern, wild.correction), (Pattern::Neither, None));
    }
}
