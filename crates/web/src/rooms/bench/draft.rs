//! A calibration run as it is typed, and what the rules make of it.

use crate::shell::figures::fixed;
use ebrel_core::calibration::{DENSITY_DRIFT, Recommendation, Samples, recommend};
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
    /// Temperature of drying, °C.
    pub dry_temperature: String,
    /// Hours of drying.
    pub dry_hours: String,
    /// Organic matter, %.
    pub organic: String,
    /// Logger that read the probe.
    pub logger: String,
    /// Excitation, V.
    pub excitation: String,
    /// Volume of the container, L.
    pub container: String,
    /// Layers in which it is packed.
    pub layers: String,
    /// Present water content, g/g.
    pub w_now: String,
    /// Water added at each step, mL.
    pub water: String,
    /// The samples.
    pub rows: Vec<Row>,
}

impl Default for Draft {
    fn default() -> Self {
        let text = str::to_owned;
        Self {
            unit: text("mV"),
            density: String::new(),
            step: text("0.01"),
            volume_pct: text("1"),
            dry_temperature: text("105"),
            dry_hours: text("24"),
            organic: String::new(),
            logger: String::new(),
            excitation: String::new(),
            container: text("4"),
            layers: text("4"),
            w_now: String::new(),
            water: text("250"),
            rows: Vec::new(),
        }
    }
}

/// One sample, as typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Row {
    /// Number of the tin.
    pub tin: String,
    /// Raw reading, or several of one state parted by blanks.
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
    /// Why it was left out.
    pub why: String,
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
    /// Standard uncertainty of those, all contributions.
    pub u_theta: Vec<f64>,
    /// The part of it that each tin has of its own, by the balance; the corer's volume is one error that all share.
    pub u_own: Vec<f64>,
    /// Standard uncertainty of the raw readings from repeats, 0 where there were none.
    pub u_raw: Vec<f64>,
    /// The fits and the advice.
    pub recommendation: Recommendation,
}

fn plus_minus(value: f64, u: f64, decimals: usize) -> String {
    format!("{} ± {}", fixed(value, decimals), fixed(u, decimals))
}

/// Mean of the readings in a field, with the standard uncertainty of that mean if there are several.
///
/// Numbers parted by blanks or semicolons are repeats, unless the blanks part thousands: groups of three digits that, as
/// numbers of their own, would not be of one size.
pub fn repeats(text: &str) -> Result<(f64, f64), String> {
    let parts: Vec<&str> = text.split([' ', '\t', ';', '\u{a0}', '\u{202f}']).filter(|p| !p.is_empty()).collect();
    if parts.len() < 2 || (!text.contains(';') && parts_thousands(&parts)) {
        return read_number(text).map(|v| (v, 0.0));
    }
    let all: Vec<f64> = parts.iter().map(|p| read_number(p)).collect::<Result<_, _>>()?;
    let n = all.len() as f64;
    let mean = all.iter().sum::<f64>() / n;
    let sd = (all.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (n - 1.0)).sqrt();
    Ok((mean, sd / n.sqrt()))
}

/// Whether blanks part the thousands of one number: `1 012`, `12 345.6`.
fn parts_thousands(parts: &[&str]) -> bool {
    let digits = |p: &str| p.chars().all(|c| c.is_ascii_digit());
    let (first, last) = (parts[0].trim_start_matches(['-', '−']), parts[parts.len() - 1]);
    let whole = last.split(['.', ',']).next().unwrap_or(last);
    let grouped = digits(first) && (1..=3).contains(&first.len()) && !first.starts_with('0');
    let grouped = grouped && parts[1..parts.len() - 1].iter().chain([&whole]).all(|p| digits(p) && p.len() == 3);
    let size = |p: &str| read_number(p).unwrap_or(0.0);
    grouped && parts.iter().any(|p| (size(p) / size(first) - 1.0).abs() > 0.5)
}

/// A core of this volume or more that holds less dry soil than this was weighed in kilograms, cm³ and g.
const KILOGRAMS: (f64, f64) = (20.0, 2.0);

/// Raw reading with its uncertainty; the sample; the uncertainty of its water content by the balance alone.
type Read = ((f64, f64), CoreSample, f64);

fn sample(row: &Row, step: f64, volume_pct: f64) -> Result<Read, (&'static str, String)> {
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
    let raw = if row.raw.trim().is_empty() {
        return Err(("raw", "The raw reading is missing.".into()));
    } else {
        repeats(&row.raw).map_err(|e| ("raw", e))?
    };
    let (tare, wet) = (mass("tare", &row.tare)?, mass("wet", &row.wet)?);
    if row.dry.trim().is_empty() {
        return Err(("dry", "Waits for its dry mass; everything else goes on.".into()));
    }
    let volume = read("volume", &row.volume).and_then(|v| CoreVolume::new(v).map_err(|e| ("volume", e.to_string())))?;
    let dry = mass("dry", &row.dry)?;
    let soil = dry.get() - tare.get();
    if volume.get() >= KILOGRAMS.0 && soil > 0.0 && soil < KILOGRAMS.1 {
        return Err((
            "dry",
            format!("{soil:.3} g of dry soil in {} cm³: are these kilograms? Type grams.", volume.get()),
        ));
    }
    let u = BalanceUncertainty::from_step(step, volume, volume_pct);
    let masses = CoreMasses::new(tare, wet, dry, volume);
    let core = masses.resolve(&u).map_err(|e| ("dry", e.to_string()))?;
    let alone = BalanceUncertainty::from_step(step, volume, 0.0);
    let own = masses.resolve(&alone).map_err(|e| ("dry", e.to_string()))?.volumetric.u;
    Ok((raw, core, own))
}

/// Works a draft out.
pub fn resolve(draft: &Draft) -> Resolved {
    let step = read_number(&draft.step).ok().filter(|s| *s > 0.0).unwrap_or(0.01);
    let volume_pct = read_number(&draft.volume_pct).ok().filter(|p| *p >= 0.0).unwrap_or(1.0);
    let mut figures = Vec::new();
    let (mut used, mut raw, mut theta, mut u_theta, mut u_own, mut u_raw, mut densities) =
        (vec![], vec![], vec![], vec![], vec![], vec![], vec![]);
    for (i, row) in draft.rows.iter().enumerate() {
        if row.is_empty() {
            figures.push(RowFigures::default());
            continue;
        }
        match sample(row, step, volume_pct) {
            Ok(((x, u_x), core, own)) => {
                densities.push((i, core.bulk_density.value));
                if !row.out {
                    used.push(i);
                    raw.push(x);
                    u_raw.push(u_x);
                    u_own.push(own);
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
    warn_of_tins(draft, &mut figures);
    // The corer's volume is one error that all tins share: weights follow what each has of its own.
    let permittivity = is_permittivity(&draft.unit);
    let recommendation = recommend(&Samples { raw: &raw, theta: &theta, u_theta: &u_own, u_raw: &u_raw, permittivity });
    warn_of_spread(&recommendation, &used, &raw, &u_raw, &mut figures);
    Resolved { figures, used, raw, theta, u_theta, u_own, u_raw, recommendation }
}

/// Whether the raw output is a permittivity, by its unit.
pub fn is_permittivity(unit: &str) -> bool {
    ["ε", "eps", "permittivity", "ka", "1"].contains(&unit.trim().to_lowercase().as_str())
}

/// Says something of a sample whose field has no error yet.
fn warn(figures: &mut RowFigures, message: String) {
    if figures.field.is_empty() {
        figures.warning = true;
        figures.message = if figures.message.is_empty() { message } else { format!("{} {message}", figures.message) };
    }
}

/// Two samples from one tin: one of them was written to the wrong line.
fn warn_of_tins(draft: &Draft, figures: &mut [RowFigures]) {
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
const SPREAD: f64 = 0.005;

/// Readings of one state that disagree: the soil was still moving, or the contact is poor.
fn warn_of_spread(found: &Recommendation, used: &[usize], raw: &[f64], u_raw: &[f64], figures: &mut [RowFigures]) {
    let Some(curve) = found.form.and_then(|f| found.candidate(f)) else { return };
    for (k, row) in used.iter().enumerate().filter(|(k, _)| u_raw[*k] > 0.0) {
        let at = |x: f64| curve.at(x).map_or(0.0, |(y, _)| y);
        let water = (at(raw[k] + u_raw[k]) - at(raw[k] - u_raw[k])).abs() / 2.0;
        if water > SPREAD {
            warn(
                &mut figures[*row],
                format!(
                    "The repeated readings disagree by ±{} m³/m³: press the soil to the probe, wait, read again.",
                    fixed(water, 3)
                ),
            );
        }
    }
}

/// A tin whose density strays from the target (or, without one, from the run's median) was packed differently.
fn warn_of_density(draft: &Draft, densities: &[(usize, f64)], figures: &mut [RowFigures]) {
    let target = read_number(&draft.density).ok().filter(|d| *d > 0.0);
    let mut all: Vec<f64> = densities.iter().map(|d| d.1).collect();
    let Some(target) = target.or_else(|| median(&mut all).filter(|_| densities.len() > 2)) else { return };
    for (i, density) in densities {
        let off = density / target - 1.0;
        if off.abs() > DENSITY_DRIFT {
            let message = format!(
                "Bulk density is {} % off {}: this tin was packed differently, which shifts the curve.",
                fixed(off * 100.0, 0),
                fixed(target, 2)
            );
            warn(&mut figures[*i], message);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(raw: &str, tare: &str, wet: &str, dry: &str) -> Row {
        let text = str::to_owned;
        Row { raw: text(raw), tare: text(tare), wet: text(wet), dry: text(dry), volume: text("100"), ..Row::default() }
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

    #[test]
    fn repeats_are_averaged_and_what_is_typed_wrong_is_noticed_by_its_size() {
        assert_eq!(repeats("1\u{a0}012"), Ok((1012.0, 0.0)), "blanks part thousands");
        let (mean, u) = repeats("912.1 912.5; 911.9").unwrap();
        assert!((mean - 912.166_667).abs() < 1e-5 && (u - 0.176_4).abs() < 1e-3);
        let mut rows =
            vec![row("1000", "0.05", "0.2", "0.19"), row("1100", "50", "200", ""), row("1200", "50", "205", "190")];
        rows[0].tin = "7".into();
        rows[2].tin = "7".into();
        let figures = resolve(&Draft { rows, ..Draft::default() }).figures;
        assert!(figures[0].message.contains("are these kilograms?"));
        assert!(figures[1].message.starts_with("Waits for its dry mass"));
        assert!(figures[2].warning && figures[2].message.contains("Tin 7 stands in line 1 already"));
    }
}
