//! What is noticed of samples that can be read: they count, and something is said.

use super::RunDraft;
use super::figures::RowFigures;
use crate::calibration::{DENSITY_DRIFT, Recommendation};
use crate::sampling::{CoreSample, Drying};
use crate::statistics::median;
use crate::units::format_value;

/// Says something of a sample whose field has no error yet.
fn warn(figures: &mut RowFigures, message: String) {
    if figures.field.is_empty() {
        figures.warning = true;
        figures.message = if figures.message.is_empty() { message } else { format!("{} {message}", figures.message) };
    }
}

/// Two samples from one tin: one of them was written to the wrong line.
pub fn of_tins(draft: &RunDraft, figures: &mut [RowFigures]) {
    for (i, row) in draft.rows.iter().enumerate().filter(|(_, r)| !r.tin.trim().is_empty()) {
        if let Some(before) = draft.rows[..i].iter().position(|r| r.tin.trim() == row.tin.trim()) {
            warn(
                &mut figures[i],
                format!("Tin {} stands in line {} already: which of the two is it?", row.tin.trim(), before + 1),
            );
        }
    }
}

/// Repeats that disagree by more water than this want another reading, m³/m³.
const SPREAD: f64 = 0.004;

/// Readings of one state that disagree: the soil was still moving, or the contact is poor.
pub fn of_spread(found: &Recommendation, used: &[usize], raw: &[f64], u_raw: &[f64], figures: &mut [RowFigures]) {
    let Some(curve) = found.form.and_then(|f| found.candidate(f)) else { return };
    for (k, row) in used.iter().enumerate().filter(|(k, _)| u_raw[*k] > 0.0) {
        let at = |x: f64| curve.at(x).map_or(0.0, |(y, _)| y);
        let water = (at(raw[k] + u_raw[k]) - at(raw[k] - u_raw[k])).abs() / 2.0;
        if water > SPREAD {
            warn(
                &mut figures[*row],
                format!(
                    "The repeated readings disagree by ±{} m³/m³: press the soil to the probe, wait, read again.",
                    format_value(water, 3)
                ),
            );
        }
    }
}

/// A tin whose density strays from the target (or, without one, from the run's median) was packed differently.
pub fn of_density(target: Option<f64>, densities: &[(usize, f64)], figures: &mut [RowFigures]) {
    let mut all: Vec<f64> = densities.iter().map(|d| d.1).collect();
    let Some(target) = target.or_else(|| median(&mut all).filter(|_| densities.len() > 2)) else { return };
    for (i, density) in densities {
        let off = density / target - 1.0;
        if off.abs() > DENSITY_DRIFT {
            let message = format!(
                "Bulk density is {} % off {}: this tin was packed differently, which shifts the curve.",
                format_value(off * 100.0, 0),
                format_value(target, 2)
            );
            warn(&mut figures[*i], message);
        }
    }
}

/// What one sample says of its drying and of its pores.
pub fn of_sample(core: &CoreSample, drying: Drying, figures: &mut RowFigures) {
    match drying {
        Drying::Losing { lost_g } => warn(
            figures,
            format!(
                "It lost {} g since the weighing before: it was not dry. Dry it two hours more and weigh again.",
                format_value(lost_g, 2)
            ),
        ),
        Drying::Gaining { gained_g } => warn(
            figures,
            format!(
                "It gained {} g since the weighing before: cooled open, or another tin?",
                format_value(gained_g, 2)
            ),
        ),
        Drying::Once | Drying::Constant { .. } => {}
    }
    if core.saturation.value > 1.0 + 2.0 * core.saturation.u {
        warn(
            figures,
            format!(
                "It holds more water than its pores ({} m³/m³): free water in the tin, or the core's volume is off.",
                format_value(core.pore_space.value, 3)
            ),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tin_that_was_packed_differently_is_warned_of() {
        let mut figures = vec![RowFigures::default(); 3];
        of_density(Some(1.2), &[(0, 1.4), (2, 1.22)], &mut figures);
        assert!(figures[0].warning && figures[0].message.contains("17 % off 1.20"), "{}", figures[0].message);
        assert!(figures[2].message.is_empty());
        let mut figures = vec![RowFigures::default(); 3];
        of_density(None, &[(0, 1.3), (1, 1.3), (2, 1.5)], &mut figures);
        assert!(figures[2].message.contains("off 1.30"), "without a target the run's median stands in");
    }
}
