//! How well rules choose the form of a calibration curve, by simulation: the table of `docs/judgement.md`.
//!
//! `cargo run --release -p ebrel-simulator --example judgement` prints it anew; the same seed gives the same table.

use ebrel_core::calibration::{Candidate, Curve, Form, Intercept, PolynomialFit, Published, Samples, drift, recommend};
use ebrel_core::series::DatedCurve;
use ebrel_core::units::{ParticleDensity, UnixSeconds};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Normal};
use std::io::Write;

/// Runs of each case.
const RUNS: usize = 2000;
/// Scatter of a tin about the true curve, m³/m³.
const SCATTER: f64 = 0.01;

/// A true curve, in the raw output from 0 (driest tin) to 1 (wettest).
struct Truth {
    name: &'static str,
    permittivity: bool,
    theta: fn(f64) -> f64,
    /// Whether a straight line (or a line in the root) is the whole truth.
    plain: bool,
}

/// Permittivity of a soil with tins from dry to saturated.
fn permittivity(x: f64) -> f64 {
    3.5 + 26.5 * x
}

const TRUTHS: [Truth; 6] = [
    Truth { name: "line", permittivity: false, theta: |x| 0.05 + 0.38 * x, plain: true },
    Truth {
        name: "quadratic, sagitta 0.025",
        permittivity: false,
        theta: |x| 0.05 + 0.38 * x - 0.10 * x * (1.0 - x),
        plain: false,
    },
    Truth {
        name: "quadratic, sagitta 0.05",
        permittivity: false,
        theta: |x| 0.05 + 0.38 * x - 0.20 * x * (1.0 - x),
        plain: false,
    },
    Truth {
        name: "cubic, S of ±0.03",
        permittivity: false,
        // The S has its extremes about the line at 0.21 and 0.79 of the range.
        theta: |x| 0.05 + 0.38 * x - 0.624 * x * (x - 0.5) * (x - 1.0),
        plain: false,
    },
    Truth {
        name: "root line",
        permittivity: true,
        theta: |x| Published::Ledieu.theta(permittivity(x), 1.3, ParticleDensity::MINERAL),
        plain: true,
    },
    Truth {
        name: "published cubic (Topp 1980)",
        permittivity: true,
        theta: |x| Published::Topp.theta(permittivity(x), 1.3, ParticleDensity::MINERAL),
        plain: false,
    },
];

/// A way to choose among the forms: the candidate's index, or none.
struct Rule {
    name: &'static str,
    choose: fn(&[f64], &[f64], bool) -> Option<Candidate>,
}

fn fit(form: Form, raw: &[f64], theta: &[f64]) -> Candidate {
    let x: Vec<f64> = raw.iter().map(|r| form.takes(*r)).collect();
    let fit = PolynomialFit::new(&x, theta, form.degree(), Intercept::Free);
    let direction = fit.as_ref().ok().and_then(PolynomialFit::direction);
    Candidate { form, fit, direction }
}

/// Line, then each richer form that `better` prefers to the one chosen so far.
fn climb(
    raw: &[f64],
    theta: &[f64],
    root: bool,
    better: fn(&PolynomialFit, &PolynomialFit) -> bool,
) -> Option<Candidate> {
    let mut forms = vec![Form::Quadratic, Form::Cubic];
    if root {
        forms.insert(0, Form::RootLine);
    }
    let mut chosen = fit(Form::Line, raw, theta);
    for form in forms {
        let next = fit(form, raw, theta);
        let (Ok(a), Ok(b)) = (&chosen.fit, &next.fit) else { continue };
        let wins = if a.df == b.df { b.loo_rmse < a.loo_rmse } else { better(a, b) };
        if wins && next.direction.is_some() {
            chosen = next;
        }
    }
    Some(chosen)
}

const RULES: [Rule; 6] = [
    Rule {
        name: "Ebrel's: leave-one-out lower, F at 5 %",
        choose: |x, y, permittivity| {
            let found = recommend(&Samples { raw: x, theta: y, permittivity, ..Samples::default() });
            found.form.and_then(|form| found.candidate(form).cloned())
        },
    },
    Rule { name: "always the straight line", choose: |x, y, _| Some(fit(Form::Line, x, y)) },
    Rule {
        name: "AICc lower by 2, leave-one-out lower",
        choose: |x, y, r| {
            climb(x, y, r, |a, b| {
                b.loo_rmse < a.loo_rmse && a.aicc.zip(b.aicc).is_some_and(|(old, new)| old - new >= 2.0)
            })
        },
    },
    Rule { name: "leave-one-out lower", choose: |x, y, r| climb(x, y, r, |a, b| b.loo_rmse < a.loo_rmse) },
    Rule {
        name: "leave-one-out lower, F at 10 %",
        choose: |x, y, r| climb(x, y, r, |a, b| b.loo_rmse < a.loo_rmse && b.f_test(a).1 < 0.10),
    },
    Rule { name: "F at 2.5 %", choose: |x, y, r| climb(x, y, r, |a, b| b.f_test(a).1 < 0.025) },
];

/// What a rule earns in a case, in parts of one.
#[derive(Default, Clone, Copy)]
struct Score {
    bent: f64,
    error: f64,
    covered: f64,
    asked: f64,
}

fn tins(n: usize, even: bool) -> Vec<f64> {
    let last = (n - 1) as f64;
    (0..n).map(|i| if even { i as f64 / last } else { (i as f64 / last).powf(1.7) }).collect()
}

fn play(truth: &Truth, rule: &Rule, n: usize, even: bool, rng: &mut ChaCha8Rng) -> Score {
    let Ok(noise) = Normal::new(0.0, SCATTER) else { return Score::default() };
    let at = tins(n, even);
    let raw: Vec<f64> =
        at.iter().map(|x| if truth.permittivity { permittivity(*x) } else { 800.0 + 1000.0 * x }).collect();
    let mut score = Score::default();
    let mut done = 0.0;
    for _ in 0..RUNS {
        let theta: Vec<f64> = at.iter().map(|x| (truth.theta)(*x) + noise.sample(rng)).collect();
        let Some(chosen) = (rule.choose)(&raw, &theta, truth.permittivity) else { continue };
        done += 1.0;
        score.bent += f64::from(u8::from(!matches!(chosen.form, Form::Line | Form::RootLine)));
        for i in 0..=20 {
            let x = f64::from(i) / 20.0;
            let raw = if truth.permittivity { permittivity(x) } else { 800.0 + 1000.0 * x };
            let Some((theta, half)) = chosen.at(raw) else { continue };
            let miss = theta - (truth.theta)(x);
            score.error += miss * miss;
            score.covered += f64::from(u8::from((miss + noise.sample(rng)).abs() <= half));
            score.asked += 1.0;
        }
    }
    score.bent /= done;
    score
}

/// How often two calibrations of `n` tins each are said to differ when the second truth is shifted and tilted.
fn drift_found(n: usize, forms: (Form, Form), shift: f64, tilt: f64) -> f64 {
    let Ok(noise) = Normal::new(0.0, SCATTER) else { return f64::NAN };
    let mut rng = ChaCha8Rng::seed_from_u64(n as u64);
    let raw: Vec<f64> = tins(n, true).iter().map(|x| 800.0 + 1000.0 * x).collect();
    let mut version = |form: Form, from: i64, shift: f64, tilt: f64| {
        let theta: Vec<f64> = (raw.iter())
            .map(|x| 4e-4 * (x - 700.0) + shift + tilt * (x - 1300.0) / 500.0 + noise.sample(&mut rng))
            .collect();
        let fit = fit(form, &raw, &theta).fit.ok()?;
        Some(DatedCurve { valid_from: UnixSeconds(from), curve: Curve::from_fit(&fit, form) })
    };
    let found = (0..RUNS).filter(|_| {
        let pair = version(forms.0, 0, 0.0, 0.0).zip(version(forms.1, 1, shift, tilt));
        pair.and_then(|(a, b)| drift(&a, &b)).is_some_and(|d| d.is_real())
    });
    100.0 * found.count() as f64 / RUNS as f64
}

fn main() -> std::io::Result<()> {
    let mut out = std::io::stdout().lock();
    writeln!(out, "### Drift between two versions, share of pairs in which it is said\n")?;
    writeln!(out, "| forms | change | 5 tins | 7 | 9 |\n|---|---|---|---|---|")?;
    for (forms, words) in [
        ((Form::Line, Form::Line), "line, line"),
        ((Form::Line, Form::Quadratic), "line, quadratic"),
        ((Form::Quadratic, Form::Quadratic), "quadratic, quadratic"),
    ] {
        for (shift, tilt, change) in
            [(0.0, 0.0, "none"), (0.02, 0.0, "+0.02 everywhere"), (0.0, 0.03, "−0.03 dry, +0.03 wet")]
        {
            let [five, seven, nine] = [5, 7, 9].map(|n| drift_found(n, forms, shift, tilt));
            writeln!(out, "| {words} | {change} | {five:.1} % | {seven:.1} % | {nine:.1} % |")?;
        }
    }
    for even in [true, false] {
        writeln!(out, "\n### Tins spaced {}\n", if even { "evenly" } else { "unevenly (crowded at the dry end)" })?;
        writeln!(out, "| truth | rule | 5 tins | 6 | 7 | 8 | 9 |\n|---|---|---|---|---|---|---|")?;
        for truth in &TRUTHS {
            for rule in &RULES {
                write!(out, "| {}{} | {} |", truth.name, if truth.plain { "" } else { " (bent)" }, rule.name)?;
                for n in 5..=9 {
                    // Each rule sees the same tins.
                    let mut rng = ChaCha8Rng::seed_from_u64(n as u64);
                    let s = play(truth, rule, n, even, &mut rng);
                    write!(
                        out,
                        " {:.0} % · {:.4} · {:.0} % |",
                        100.0 * s.bent,
                        (s.error / s.asked).sqrt(),
                        100.0 * s.covered / s.asked
                    )?;
                }
                writeln!(out)?;
            }
        }
    }
    Ok(())
}
