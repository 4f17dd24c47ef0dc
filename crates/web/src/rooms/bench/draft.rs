//! A calibration run as it is typed, and what the rules make of it.

use crate::shell::figures::fixed;
use ebrel_core::calibration::{DENSITY_DRIFT, Recommendation, recommend};
use ebrel_core::sampling::{BalanceUncertainty, CoreMasses, CoreSample};
use ebrel_core::statistics::median;
use ebrel_core::units::{CoreVolume, Grams, read_number};
use serde::{Deserialize, Serialize};

/// The form of a run, as typed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Draft {
    /// Unit of the raw reading.
    pub unit: String,
    /// Field bulk density that was packed to, g/cm³.
    pub density: String,
    /// Display step of the balance, g.
    pub step: String,
    /// How well the corer's volume is known, %.
    pub volume_pct: String,
    /// The samples.
    pub rows: Vec<Row>,
}

impl Default for Draft {
    fn default() -> Self {
        let text = str::to_owned;
        Self { unit: text("mV"), density: String::new(), step: text("0.01"), volume_pct: text("1"), rows: Vec::new() }
    }
}

/// One sample, as typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Row {
    /// Raw reading.
    pub raw: String,
    /// Tare, g.
    pub tare: String,
    /// Wet mass with tin, g.
    pub wet: String,
    /// Dry mass with tin, g.
    pub dry: String,
    /// Core volume, cm³.
    pub volume: String,
    /// Left out of the fit by a person.
    pub out: bool,
}

impl Row {
    /// Whether nothing was typed yet.
    pub fn is_empty(&self) -> bool {
        [&self.raw, &self.tare, &self.wet, &self.dry, &self.volume].iter().all(|t| t.trim().is_empty())
    }
}

/// What stands behind a sample's fields: figures, or what is wrong at which field.
#[derive(Debug, Clone, Default, Serialize)]
pub struct RowFigures {
    /// Gravimetric water content with its uncertainty.
    pub w: String,
    /// Bulk density with its uncertainty.
    pub density: String,
    /// Volumetric water content with its uncertainty.
    pub theta: String,
    /// Field with an error: "raw", "tare", ...
    pub field: String,
    /// The error, or a warning.
    pub message: String,
    /// Whether the message is a warning and the sample counts.
    pub warning: bool,
}

/// A draft resolved: figures of each row and the recommendation.
pub struct Resolved {
    /// One per row of the draft.
    pub figures: Vec<RowFigures>,
    /// Rows that are in the fit, by index into the draft.
    pub used: Vec<usize>,
    /// Their raw readings.
    pub raw: Vec<f64>,
    /// Their water contents.
    pub theta: Vec<f64>,
    /// Standard uncertainty of those.
    pub u_theta: Vec<f64>,
    /// The fits and the advice.
    pub recommendation: Recommendation,
}

fn plus_minus(value: f64, u: f64, decimals: usize) -> String {
    format!("{} ± {}", fixed(value, decimals), fixed(u, decimals))
}

fn sample(row: &Row, step: f64, volume_pct: f64) -> Result<(f64, CoreSample), (&'static str, String)> {
    let read = |name: &'static str, text: &str| {
        if text.trim().is_empty() {
            Err((name, format!("The {name} is missing.")))
        } else {
            read_number(text).map_err(|e| (name, e))
        }
    };
    let mass = |name: &'static str, text: &str| {
        read(name, text).and_then(|v| Grams::new(v).map_err(|e| (name, e.to_string())))
    };
    let raw = read("raw", &row.raw).map_err(|(f, e)| (f, e.replace("raw", "raw reading")))?;
    let (tare, wet) = (mass("tare", &row.tare)?, mass("wet", &row.wet)?);
    let dry = mass("dry", &row.dry)?;
    let volume = read("volume", &row.volume).and_then(|v| CoreVolume::new(v).map_err(|e| ("volume", e.to_string())))?;
    let u = BalanceUncertainty::from_step(step, volume, volume_pct);
    let core = CoreMasses::new(tare, wet, dry, volume).resolve(&u).map_err(|e| ("dry", e.to_string()))?;
    Ok((raw, core))
}

/// Works a draft out.
pub fn resolve(draft: &Draft) -> Resolved {
    let step = read_number(&draft.step).ok().filter(|s| *s > 0.0).unwrap_or(0.01);
    let volume_pct = read_number(&draft.volume_pct).ok().filter(|p| *p >= 0.0).unwrap_or(1.0);
    let mut figures = Vec::new();
    let (mut used, mut raw, mut theta, mut u_theta, mut densities) = (vec![], vec![], vec![], vec![], vec![]);
    for (i, row) in draft.rows.iter().enumerate() {
        if row.is_empty() {
            figures.push(RowFigures::default());
            continue;
        }
        match sample(row, step, volume_pct) {
            Ok((x, core)) => {
                densities.push((i, core.bulk_density.value));
                if !row.out {
                    used.push(i);
                    raw.push(x);
                    theta.push(core.volumetric.value);
                    u_theta.push(core.volumetric.u);
                }
                figures.push(RowFigures {
                    w: plus_minus(core.gravimetric.value, core.gravimetric.u, 4),
                    density: plus_minus(core.bulk_density.value, core.bulk_density.u, 2),
                    theta: plus_minus(core.volumetric.value, core.volumetric.u, 4),
                    ..RowFigures::default()
                });
            }
            Err((field, message)) => {
                figures.push(RowFigures { field: field.to_owned(), message, ..RowFigures::default() });
            }
        }
    }
    warn_of_density(draft, &densities, &mut figures);
    let recommendation = recommend(&raw, &theta);
    Resolved { figures, used, raw, theta, u_theta, recommendation }
}

/// A tin whose density strays from the target (or, without one, from the run's median) was packed differently.
fn warn_of_density(draft: &Draft, densities: &[(usize, f64)], figures: &mut [RowFigures]) {
    let target = read_number(&draft.density).ok().filter(|d| *d > 0.0);
    let mut all: Vec<f64> = densities.iter().map(|d| d.1).collect();
    let Some(target) = target.or_else(|| median(&mut all).filter(|_| densities.len() > 2)) else { return };
    for (i, density) in densities {
        let off = density / target - 1.0;
        if off.abs() > DENSITY_DRIFT {
            figures[*i].warning = true;
            figures[*i].message = format!(
                "Bulk density is {} % off {}: this tin was packed differently, which shifts the curve.",
                fixed(off * 100.0, 0),
                fixed(target, 2)
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(raw: &str, tare: &str, wet: &str, dry: &str) -> Row {
        let text = str::to_owned;
        Row { raw: text(raw), tare: text(tare), wet: text(wet), dry: text(dry), volume: text("100"), out: false }
    }

    #[test]
    fn errors_stand_at_their_field_and_the_rest_goes_on() {
        let draft = Draft {
            rows: vec![
                row("1000", "50", "180,5", "170"),
                row("1200", "50", "170", "190"),
                row("", "50", "190", "170"),
                row("1400", "200", "210", "170"),
                Row { volume: "0".into(), ..row("1500", "50", "195", "170") },
                Row::default(),
            ],
            ..Draft::default()
        };
        let resolved = resolve(&draft);
        let at: Vec<_> = resolved.figures.iter().map(|f| f.field.as_str()).collect();
        assert_eq!(at, ["", "dry", "raw", "dry", "volume", ""]);
        assert_eq!(resolved.figures[0].theta, "0.1050 ± 0.0011");
        assert!(resolved.figures[1].message.contains("columns swapped"));
        assert!(resolved.figures[4].message.starts_with("core volume must lie between"));
        assert_eq!(resolved.used, [0]);
    }

    #[test]
    fn a_tin_that_was_packed_differently_is_warned_of() {
        let draft = Draft { density: "1.2".into(), rows: vec![row("1000", "50", "200", "190")], ..Draft::default() };
        let figures = resolve(&draft).figures;
        assert!(figures[0].warning && figures[0].message.contains("17 % off 1.20"), "{}", figures[0].message);
    }
}
