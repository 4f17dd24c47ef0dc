//! The picture of a run: samples, curves, prediction band, and residuals under it.

use crate::components::trace::ticks;
use crate::shell::figures::fixed;
use ebrel_core::bench::Resolved;
use ebrel_core::calibration::{Candidate, Form, Published};
use ebrel_core::units::ParticleDensity;

/// Width of the drawing and of its parts, px.
const WIDTH: f64 = 560.0;
const LEFT: f64 = 52.0;
const RIGHT: f64 = 12.0;
const TOP: f64 = 10.0;
const MAIN: f64 = 290.0;
const GAP: f64 = 30.0;
const RESIDUALS: f64 = 84.0;

/// A sample as drawn.
pub struct Dot {
    pub x: f64,
    pub y: f64,
    /// Ends of its uncertainty bar (k = 2).
    pub bar: (f64, f64),
    /// Down in the residual panel.
    pub residual_y: f64,
    /// Number of the tin, from 1.
    pub number: usize,
    /// Whether it is named an outlier.
    pub outlier: bool,
}

/// A grid line with its text.
pub struct Tick {
    pub at: f64,
    pub text: String,
}

/// The drawing, ready for its template.
pub struct Plot {
    pub dots: Vec<Dot>,
    /// Path of the band.
    pub band: String,
    /// Path of the chosen curve.
    pub curve: String,
    /// Path of the other one.
    pub other: String,
    /// Path of the maker's curve; empty without one.
    pub factory: String,
    /// Path of the true curve; empty where none is known.
    pub truth: String,
    /// Paths of the published curves; empty where they do not apply.
    pub general: String,
    pub x_ticks: Vec<Tick>,
    pub y_ticks: Vec<Tick>,
    /// Zero of the residual panel, and the value of its edge.
    pub residual_zero: f64,
    /// Largest residual shown.
    pub residual_edge: String,
    /// Top of the residual panel.
    pub residual_top: f64,
    /// Bottom of the upper panel.
    pub main_bottom: f64,
    /// Width and height.
    pub size: (f64, f64),
}

fn path(points: impl Iterator<Item = (f64, f64)>) -> String {
    let mut out = String::new();
    for (i, (x, y)) in points.enumerate() {
        out.push_str(&format!("{}{x:.1} {y:.1}", if i == 0 { "M" } else { "L" }));
    }
    out
}

/// Curves drawn beside the fitted one: coefficients, lowest power first; empty where there is none.
#[derive(Default)]
pub struct Beside<'c> {
    pub factory: &'c [f64],
    /// The true one.
    pub truth: &'c [f64],
    /// Density of the soil, where raw outputs are permittivities and the published curves can be drawn, g/cm³.
    pub published_at: Option<(f64, ParticleDensity)>,
}

/// Draws a run; `None` while there is no curve to draw.
pub fn draw(resolved: &Resolved, form: Form, others: &Beside<'_>) -> Option<Plot> {
    let found = &resolved.recommendation;
    let chosen = found.candidate(form)?;
    let fit = chosen.fit.as_ref().ok()?;
    let beside = if form == Form::Line { Form::Quadratic } else { Form::Line };
    let other = found.candidate(beside).filter(|c| c.fit.is_ok());
    let (x_low, x_high) =
        resolved.raw.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), x| (low.min(*x), high.max(*x)));
    let room = (x_high - x_low) * 0.06;
    let (x_low, x_high) = (x_low - room, x_high + room);
    let steps = || (0..=80).map(|i| x_low + (x_high - x_low) * f64::from(i) / 80.0);
    let band: Vec<(f64, f64, f64)> =
        steps().filter_map(|x| chosen.at(x).map(|(y, half)| (x, y - half, y + half))).collect();
    let y_low = resolved.theta.iter().copied().chain([0.0]).fold(f64::INFINITY, f64::min);
    let y_high = resolved.theta.iter().copied().fold(0.1, f64::max) * 1.1;
    let px = |x: f64| LEFT + (x - x_low) / (x_high - x_low) * (WIDTH - LEFT - RIGHT);
    let py = |y: f64| TOP + (y_high - y) / (y_high - y_low) * MAIN;
    let clamp = |y: f64| py(y).clamp(TOP, TOP + MAIN);
    let residual_top = TOP + MAIN + GAP;
    let edge = fit.residuals.iter().fold(0.002f64, |m, r| m.max(r.abs())) * 1.25;
    let pr = |r: f64| residual_top + (edge - r) / (2.0 * edge) * RESIDUALS;
    let curve = |c: &Candidate| path(steps().filter_map(|x| c.at(x).map(|(y, _)| (px(x), clamp(y)))));
    let known = |coefficients: &[f64]| match coefficients {
        [] => String::new(),
        all => path(steps().map(|x| (px(x), clamp(all.iter().rev().fold(0.0, |sum, c| sum * x + c))))),
    };
    let outliers: Vec<usize> = resolved.recommendation.outliers.iter().map(|o| o.0).collect();
    let dots = (0..resolved.raw.len()).map(|i| {
        let (x, y, u) = (resolved.raw[i], resolved.theta[i], resolved.u_theta[i]);
        Dot {
            x: px(x),
            y: py(y),
            bar: (py(y + 2.0 * u), py(y - 2.0 * u)),
            residual_y: pr(fit.residuals[i]),
            number: resolved.used[i] + 1,
            outlier: outliers.contains(&i),
        }
    });
    let upper = band.iter().map(|b| (px(b.0), clamp(b.2)));
    let lower = band.iter().rev().map(|b| (px(b.0), clamp(b.1)));
    let tick = |(v, decimals): (f64, usize), at: f64| Tick { at, text: fixed(v, decimals) };
    let published = |(density, solids): (f64, ParticleDensity)| {
        let one = |p: Published| path(steps().map(|x| (px(x), clamp(p.theta(x, density, solids)))));
        Published::ALL.map(one).concat()
    };
    Some(Plot {
        dots: dots.collect(),
        band: path(upper.chain(lower)) + "Z",
        curve: curve(chosen),
        other: other.map(curve).unwrap_or_default(),
        factory: known(others.factory),
        truth: known(others.truth),
        general: others.published_at.map(published).unwrap_or_default(),
        x_ticks: ticks(x_low, x_high, 7.0).into_iter().map(|t| tick(t, px(t.0))).collect(),
        y_ticks: ticks(y_low, y_high, 7.0).into_iter().map(|t| tick(t, py(t.0))).collect(),
        residual_zero: pr(0.0),
        residual_edge: fixed(edge, 3),
        residual_top,
        main_bottom: TOP + MAIN,
        size: (WIDTH, residual_top + RESIDUALS + 30.0),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::bench::{RunDraft, SampleRow, resolve};

    fn run(samples: &[(f64, f64)]) -> Resolved {
        let row = |(raw, theta): &(f64, f64)| SampleRow {
            raw: raw.to_string(),
            tare: "20".into(),
            wet: (150.0 + theta * 100.0).to_string(),
            dry: "150".into(),
            volume: "100".into(),
            ..SampleRow::default()
        };
        resolve(&RunDraft { rows: samples.iter().map(row).collect(), ..RunDraft::default() })
    }

    #[test]
    fn every_sample_lies_within_the_drawing_and_no_number_is_missing() {
        let resolved =
            run(&[(850.0, 0.05), (1010.0, 0.1), (1180.0, 0.15), (1340.0, 0.2), (1500.0, 0.26), (1820.0, 0.39)]);
        for form in [Form::Line, Form::Quadratic] {
            let plot = draw(
                &resolved,
                form,
                &Beside {
                    factory: &[-0.1, 3e-4],
                    truth: &[-0.09, 2.9e-4],
                    published_at: Some((1.3, ParticleDensity::MINERAL)),
                },
            )
            .unwrap();
            assert_eq!(plot.dots.len(), 6);
            assert!(plot.dots.iter().all(|d| (LEFT..=WIDTH).contains(&d.x) && (TOP..=plot.main_bottom).contains(&d.y)));
            assert!(plot.dots.windows(2).all(|w| w[0].x < w[1].x && w[0].y > w[1].y), "wetter is further right and up");
            let paths =
                format!("{}{}{}{}{}{}", plot.band, plot.curve, plot.other, plot.factory, plot.truth, plot.general);
            assert!(!paths.contains("NaN") && !paths.contains("inf"));
            assert!(plot.x_ticks.len() > 2 && plot.y_ticks.len() > 2);
        }
    }

    #[test]
    fn without_a_curve_there_is_no_drawing() {
        assert!(draw(&run(&[(850.0, 0.05), (1010.0, 0.1)]), Form::Line, &Beside::default()).is_none());
        assert!(draw(&run(&[(900.0, 0.05), (900.0, 0.1), (900.0, 0.2)]), Form::Line, &Beside::default()).is_none());
    }
}
