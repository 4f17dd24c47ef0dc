//! From a draft to samples, figures at each row, and the recommendation.

use super::figures::RowFigures;
use super::notices;
use super::read::{DryMass, dry_mass, field_density, repeats};
use super::{Recorded, RunDraft, SampleRow, School};
use crate::calibration::{Recommendation, Samples, recommend};
use crate::sampling::{BalanceUncertainty, CoreMasses, CoreSample, Drying};
use crate::units::format_value;
use crate::units::{BulkDensity, CoreVolume, Grams, ParticleDensity, pore_space, read_number};

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
    /// Bulk density of every sample that can be read, also of those left out, in their order, g/cm³.
    pub densities: Vec<f64>,
    /// Pore space at the density that was packed to.
    pub pore_space: Option<f64>,
    /// Whether raw outputs are permittivities.
    permittivity: bool,
    /// The fits and the advice.
    pub recommendation: Recommendation,
}

impl Resolved {
    /// The samples of the fit without the one at `left_out` (a place in `used`).
    pub fn without(&self, left_out: usize) -> Recommendation {
        let keep = |all: &[f64]| -> Vec<f64> {
            all.iter().enumerate().filter(|(i, _)| *i != left_out).map(|(_, v)| *v).collect()
        };
        let (raw, theta, u_theta, u_raw) = (keep(&self.raw), keep(&self.theta), keep(&self.u_own), keep(&self.u_raw));
        recommend(&Samples {
            raw: &raw,
            theta: &theta,
            u_theta: &u_theta,
            u_raw: &u_raw,
            permittivity: self.permittivity,
            pore_space: self.pore_space,
        })
    }
}

/// The density that is packed to, g/cm³: as typed, or the mean of the field cores.
pub fn density_target(draft: &RunDraft) -> Option<f64> {
    let typed = read_number(&draft.density).ok().filter(|d| *d > 0.0);
    typed.or_else(|| field_density(&draft.cores)?.ok().map(|d| d.mean))
}

/// Density of the solids: as typed, or by the organic matter, or that of mineral soil.
pub fn solids(draft: &RunDraft) -> ParticleDensity {
    let typed = read_number(&draft.particles).ok().and_then(|d| ParticleDensity::new(d).ok());
    typed.unwrap_or_else(|| ParticleDensity::of_organic(read_number(&draft.organic).ok()))
}

/// Whether the raw output is a permittivity, by its unit.
pub fn is_permittivity(unit: &str) -> bool {
    ["ε", "eps", "permittivity", "ka", "1"].contains(&unit.trim().to_lowercase().as_str())
}

fn plus_minus(value: f64, u: f64, decimals: usize) -> String {
    format!("{} ± {}", format_value(value, decimals), format_value(u, decimals))
}

/// A core of this volume or more that holds less dry soil than this was weighed in kilograms, cm³ and g.
const KILOGRAMS: (f64, f64) = (20.0, 2.0);

/// What is said of a tin that is not dried yet.
const WAITS: &str = "Waits for its dry mass; everything else goes on.";

/// One row as read.
struct Read {
    /// Raw reading with its standard uncertainty.
    raw: (f64, f64),
    core: CoreSample,
    /// Uncertainty of its water content that no other tin shares.
    own: f64,
    drying: Drying,
    /// Its last gross weighing out of the oven, g.
    dry_g: f64,
}

/// Step of the balance and uncertainty of the volume, as typed or usual.
struct Balance {
    step: f64,
    volume_pct: f64,
}

/// What is wrong, at which field.
type Wrong = (&'static str, String);

fn number(name: &'static str, words: &str, text: &str) -> Result<f64, Wrong> {
    if text.trim().is_empty() {
        return Err((name, format!("The {words} is missing.")));
    }
    read_number(text).map_err(|e| (name, e))
}

fn raw_of(row: &SampleRow) -> Result<(f64, f64), Wrong> {
    match (&row.recorded, row.raw.trim().is_empty()) {
        (_, false) => repeats(&row.raw).map_err(|e| ("raw", e)),
        (Some(Recorded::Found { mean, u, .. }), true) => Ok((*mean, *u)),
        (Some(Recorded::Missing(why)), true) => Err(("at", (*why).to_owned())),
        (None, true) => Err(("raw", "The raw reading is missing.".into())),
    }
}

fn sample(draft: &RunDraft, row: &SampleRow, balance: &Balance) -> Result<Read, Wrong> {
    let grams = |name: &'static str, words: &str, text: &str| {
        number(name, words, text).and_then(|v| Grams::new(v).map_err(|e| (name, e.to_string())))
    };
    let raw = raw_of(row)?;
    let pot = draft.school == School::Drying;
    // A container that dries has one tare, one dry mass and one volume for all its weighings.
    let or = |own: &str, shared: &str| if pot && own.trim().is_empty() { shared.to_owned() } else { own.to_owned() };
    let (tare, dry, volume) =
        (or(&row.tare, &draft.pot_tare), or(&row.dry, &draft.pot_dry), or(&row.volume, &draft.pot_volume));
    let (tare, wet) = (grams("tare", "tare", &tare)?, grams("wet", "wet mass", &row.wet)?);
    if dry.trim().is_empty() {
        return Err(("dry", WAITS.into()));
    }
    let volume =
        number("volume", "volume", &volume).and_then(|v| CoreVolume::new(v).map_err(|e| ("volume", e.to_string())))?;
    let DryMass { gross_g, drying } = dry_mass(&dry, tare.get()).map_err(|e| ("dry", e))?;
    let dry = Grams::new(gross_g).map_err(|e| ("dry", e.to_string()))?;
    let soil = dry.get() - tare.get();
    if volume.get() >= KILOGRAMS.0 && soil > 0.0 && soil < KILOGRAMS.1 {
        return Err((
            "dry",
            format!("{soil:.3} g of dry soil in {} cm³: are these kilograms? Type grams.", volume.get()),
        ));
    }
    let masses = CoreMasses::new(tare, wet, dry, volume, solids(draft));
    let with = |u: &BalanceUncertainty| masses.resolve(u).map_err(|e| ("dry", e.to_string()));
    let all = BalanceUncertainty::from_step(balance.step, volume, balance.volume_pct);
    let mut alone = BalanceUncertainty { volume: 0.0, ..all };
    if pot {
        (alone.tare, alone.dry) = (0.0, 0.0);
    }
    Ok(Read { raw, core: with(&all)?, own: with(&alone)?.volumetric.u, drying, dry_g: gross_g })
}

/// Works a draft out.
pub fn resolve(draft: &RunDraft) -> Resolved {
    let balance = Balance {
        step: read_number(&draft.step).ok().filter(|s| *s > 0.0).unwrap_or(0.01),
        volume_pct: read_number(&draft.volume_pct).ok().filter(|p| *p >= 0.0).unwrap_or(1.0),
    };
    let pores = density_target(draft).and_then(|d| BulkDensity::new(d).ok()).and_then(|d| pore_space(d, solids(draft)));
    let mut figures = Vec::new();
    let (mut used, mut raw, mut theta, mut u_theta, mut u_own, mut u_raw, mut densities) =
        (vec![], vec![], vec![], vec![], vec![], vec![], vec![]);
    for (i, row) in draft.rows.iter().enumerate() {
        if row.is_empty() {
            figures.push(RowFigures::default());
            continue;
        }
        let recorded = match (&row.recorded, row.raw.trim().is_empty()) {
            (Some(Recorded::Found { mean, left_out: 0, .. }), true) => format_value(*mean, 1),
            (Some(Recorded::Found { mean, left_out, .. }), true) => {
                format!("{} ({left_out} left out)", format_value(*mean, 1))
            }
            _ => String::new(),
        };
        match sample(draft, row, &balance) {
            Ok(read) => {
                let core = &read.core;
                densities.push((i, core.bulk_density.value));
                if !row.out {
                    used.push(i);
                    raw.push(read.raw.0);
                    u_raw.push(read.raw.1);
                    u_own.push(read.own);
                    theta.push(core.volumetric.value);
                    u_theta.push(core.volumetric.u);
                }
                let mut found = RowFigures {
                    w: plus_minus(core.gravimetric.value, core.gravimetric.u, 4),
                    density: plus_minus(core.bulk_density.value, core.bulk_density.u, 2),
                    theta: plus_minus(core.volumetric.value, core.volumetric.u, 4),
                    mean: if read.raw.1 > 0.0 && recorded.is_empty() {
                        format_value(read.raw.0, 1)
                    } else {
                        String::new()
                    },
                    last: if read.drying == Drying::Once { String::new() } else { format_value(read.dry_g, 2) },
                    recorded,
                    ..RowFigures::default()
                };
                notices::of_sample(core, read.drying, &mut found);
                figures.push(found);
            }
            Err((field, message)) => {
                let waits = message == WAITS;
                figures.push(RowFigures { field: field.to_owned(), message, recorded, waits, ..RowFigures::default() });
            }
        }
    }
    if draft.school != School::Drying {
        notices::of_density(density_target(draft), &densities, &mut figures);
    }
    notices::of_tins(draft, &mut figures);
    // The corer's volume is one error that all tins share: weights follow what each has of its own.
    let permittivity = is_permittivity(&draft.unit);
    let samples = Samples { raw: &raw, theta: &theta, u_theta: &u_own, u_raw: &u_raw, permittivity, pore_space: pores };
    let recommendation = recommend(&samples);
    notices::of_spread(&recommendation, &used, &raw, &u_raw, &mut figures);
    let densities = densities.into_iter().map(|d| d.1).collect();
    Resolved {
        figures,
        used,
        raw,
        theta,
        u_theta,
        u_own,
        u_raw,
        densities,
        pore_space: pores,
        permittivity,
        recommendation,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(raw: &str, tare: &str, wet: &str, dry: &str) -> SampleRow {
        let text = str::to_owned;
        SampleRow {
            raw: text(raw),
            tare: text(tare),
            wet: text(wet),
            dry: text(dry),
            volume: text("100"),
            ..SampleRow::default()
        }
    }

    #[test]
    fn errors_stand_at_their_field_and_the_rest_goes_on() {
        let draft = RunDraft {
            rows: vec![
                row("1000", "50", "180,5", "170"),
                row("1200", "50", "170", "190"),
                row("", "50", "190", "170"),
                row("1400", "200", "210", "170"),
                SampleRow { volume: "0".into(), ..row("1500", "50", "195", "170") },
                SampleRow::default(),
            ],
            ..RunDraft::default()
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
    fn what_is_typed_wrong_is_noticed_by_its_size() {
        let mut rows =
            vec![row("1000", "0.05", "0.2", "0.19"), row("1100", "50", "200", ""), row("1200", "50", "205", "190")];
        rows[0].tin = "7".into();
        rows[2].tin = "7".into();
        let figures = resolve(&RunDraft { rows, ..RunDraft::default() }).figures;
        assert!(figures[0].message.contains("are these kilograms?"));
        assert!(figures[1].message.starts_with("Waits for its dry mass"));
        assert!(figures[2].warning && figures[2].message.contains("Tin 7 stands in line 1 already"));
    }

    #[test]
    fn a_tin_that_still_loses_water_or_holds_too_much_is_warned_of() {
        let rows = vec![
            row("1000", "50", "180", "174 171"),
            row("1300", "50", "245", "190"),
            row("900", "50", "180", "170.02 170"),
        ];
        let figures = resolve(&RunDraft { rows, ..RunDraft::default() }).figures;
        assert!(figures[0].warning && figures[0].message.contains("lost 3.00 g"), "{}", figures[0].message);
        assert!(figures[1].message.contains("more water than its pores"), "{}", figures[1].message);
        assert_eq!(figures[2].message, "");
    }

    #[test]
    fn a_container_that_dries_needs_only_its_weight_and_the_reading() {
        let weighed = |raw: &str, gross: &str| SampleRow { raw: raw.into(), wet: gross.into(), ..SampleRow::default() };
        let rows =
            vec![weighed("1800", "7600"), weighed("1500", "7200"), weighed("1200", "6800"), weighed("900", "6400")];
        let draft = RunDraft {
            school: School::Drying,
            pot_tare: "800".into(),
            pot_dry: "6000".into(),
            pot_volume: "4000".into(),
            step: "1".into(),
            rows,
            ..RunDraft::default()
        };
        let resolved = resolve(&draft);
        assert_eq!(resolved.theta, [0.4, 0.3, 0.2, 0.1]);
        assert!(resolved.u_own[0] < resolved.u_theta[0] / 10.0, "the pot's volume and dry mass are shared by all");
        assert!(resolved.recommendation.sentence.starts_with("Straight line"));
        let waits = resolve(&RunDraft { pot_dry: String::new(), ..draft });
        assert!(waits.figures[0].message.starts_with("Waits for its dry mass") && waits.used.is_empty());
    }

    #[test]
    fn cores_beside_the_probe_take_the_reading_from_the_record() {
        let mut from_record = row("", "50", "190", "170");
        from_record.recorded = Some(Recorded::Found { mean: 1234.5, u: 0.4, left_out: 0 });
        let mut silent = row("", "50", "190", "170");
        silent.recorded = Some(Recorded::Missing("The record is silent then."));
        let mut typed = row("1000", "50", "190", "170");
        typed.recorded = Some(Recorded::Found { mean: 1234.5, u: 0.4, left_out: 0 });
        let resolved =
            resolve(&RunDraft { school: School::Cores, rows: vec![from_record, silent, typed], ..RunDraft::default() });
        assert_eq!((resolved.raw.as_slice(), resolved.u_raw.as_slice()), (&[1234.5, 1000.0][..], &[0.4, 0.0][..]));
        assert_eq!((resolved.figures[0].recorded.as_str(), resolved.figures[1].field.as_str()), ("1234.5", "at"));
    }
}
