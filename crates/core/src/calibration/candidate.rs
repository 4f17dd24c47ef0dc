//! A form that was tried on the samples of a run.

use super::fit::{Direction, FitError, PolynomialFit};
use super::form::Form;

/// One form that was tried.
#[derive(Debug, Clone, PartialEq)]
pub struct Candidate {
    /// Which form of curve it is.
    pub form: Form,
    /// The fit, or why there is none.
    pub fit: Result<PolynomialFit, FitError>,
    /// Which way the curve goes; `None` if it turns within its range: a probe cannot read the same in two wetnesses.
    pub direction: Option<Direction>,
}

impl Candidate {
    /// Fitted water content at a raw output, and the half width of its prediction interval.
    #[must_use]
    pub fn at(&self, raw: f64) -> Option<(f64, f64)> {
        let fit = self.fit.as_ref().ok()?;
        let x = self.form.takes(raw);
        Some((fit.at(x).0, fit.half_widths(x, super::BAND_LEVEL).0))
    }

    /// The one figure for how well the curve does: the root mean square, over the range of its samples, of the 95 %
    /// half width for a new sample.
    #[must_use]
    pub fn half_width(&self) -> Option<f64> {
        const STEPS: u32 = 20;
        let (low, high) = self.fit.as_ref().ok()?.x_range;
        let fit = self.fit.as_ref().ok()?;
        let each = (0..=STEPS).map(|i| low + (high - low) * f64::from(i) / f64::from(STEPS));
        let squares: f64 = each.map(|x| fit.half_widths(x, super::BAND_LEVEL).0.powi(2)).sum();
        Some((squares / f64::from(STEPS + 1)).sqrt())
    }
}
