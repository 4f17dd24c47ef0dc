//! What a run was done with, and what the next step takes: packing, water, drying.

use super::{FieldDensity, Resolved, RunDraft, School, density_target, field_density, solids};
use crate::sampling::packing::{packed_layer, wetting_plan};
use crate::sampling::packing_drift;
use crate::units::{BulkDensity, Range, ranges, read_number};
use crate::units::{format_value, grouped};

/// Soil with more organic matter than this chars at 105 °C, %.
const ORGANIC_PCT: f64 = 15.0;
/// The usual drying temperature, °C, and how far from it is still meant.
const OVEN_C: (f64, f64) = (105.0, 8.0);
/// Hotter than any drying oven is set in °C.
const FAHRENHEIT: f64 = 180.0;
/// Points that make a curve; after them the packing is no news.
const ENOUGH: usize = 5;
/// An excitation that differs from the model's by more than this share is said.
const SUPPLY_OFF: f64 = 0.03;
/// Density cores from the field below which their mean is not told as one.
const FIELD_CORES: usize = 3;

/// What a run's probe and station are planned with.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct RunContext {
    /// Supply that the probe's model is made for, V.
    pub supply_v: Option<f64>,
    /// The logger that the probe's station is planned with.
    pub planned_logger: Option<String>,
}

/// What the conditions ask for or warn of.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Conditions {
    /// What the next step takes, one sentence each.
    pub next: Vec<String>,
    /// What is wrong with the conditions.
    pub warnings: Vec<String>,
}

/// Works the conditions of a run out, held against what its probe and station are planned with.
#[must_use]
pub fn conditions(draft: &RunDraft, resolved: &Resolved, context: &RunContext) -> Conditions {
    let mut warnings = Vec::new();
    drying(draft, &mut warnings);
    if let Some(planned) = context.planned_logger.as_deref() {
        let mine = draft.logger.trim();
        if !mine.is_empty() && !mine.eq_ignore_ascii_case(planned) {
            warnings.push(format!("Read with “{mine}”, but its station is planned with “{planned}”: an analog probe's output follows its supply. Calibrate with the logger of the field."));
        }
    }
    let excitation = read_number(&draft.excitation).ok();
    if let Some((supply, mine)) = context.supply_v.zip(excitation)
        && (mine / supply - 1.0).abs() > SUPPLY_OFF
    {
        warnings.push(format!("Read at {mine} V, but this model is made for {supply} V: an analog probe's output follows its supply. Read it at the supply that it has in the field."));
    }
    let mut next = Vec::new();
    if let Some(Err(says)) = field_density(&draft.cores) {
        warnings.push(format!("Density cores: {says}"));
    }
    if let Some(Ok(FieldDensity { mean, sd, n })) = field_density(&draft.cores) {
        let spread = sd.map(|sd| format!(" ± {} (standard deviation)", format_value(sd, 2))).unwrap_or_default();
        let few = if n < FIELD_CORES { "; three or more tell how patchy the soil is" } else { "" };
        next.push(format!("Field density {}{spread} g/cm³ from {n} cores{few}.", format_value(mean, 2)));
    }
    if draft.school != School::Drying
        && let Some(drift) = packing_drift(&resolved.densities)
    {
        warnings.push(format!(
            "The packing drifted: bulk density goes from {} to {} g/cm³ over the run ({} %). Denser soil reads wetter, so part of this curve is packing: take the density of the field, and pack in thin layers by mass.",
            format_value(drift.first, 2),
            format_value(drift.last, 2),
            format_value((drift.last / drift.first - 1.0) * 100.0, 0)
        ));
    }
    let used = resolved.used.len();
    let waiting = resolved.figures.iter().filter(|f| f.field == "dry" && f.waits).count();
    if used + waiting < ENOUGH {
        match draft.school {
            School::Packed => packing(draft, used + waiting, &mut next, &mut warnings),
            School::Cores => next.push("Beside the probe, outside its sensing volume: take a core at a wet, a middling and a dry time of the season, five or more. Type its time, and the record is asked for the reading.".into()),
            School::Drying => drying_pot(draft, &mut next, &mut warnings),
        }
        if used + waiting > 0 {
            let more = match draft.school {
                School::Packed => "add water, mix until even, and go on",
                School::Cores => "wait for soil of another wetness",
                School::Drying => "let it dry on, covered between the weighings so that it evens out",
            };
            next.push(format!("{} of five to seven points are taken: {more}.", used + waiting));
        }
    }
    if waiting > 0 && draft.school != School::Drying {
        let tins = if waiting == 1 { "1 tin waits".to_owned() } else { format!("{waiting} tins wait") };
        next.push(format!(
            "{tins} for the oven: lids off, 24 h or to constant mass, cool closed, weigh. All else goes on."
        ));
    }
    Conditions { next, warnings }
}

fn packing(draft: &RunDraft, taken: usize, next: &mut Vec<String>, warnings: &mut Vec<String>) {
    let number = |text: &str| read_number(text).ok().filter(|v| *v > 0.0);
    let density = density_target(draft).and_then(|d| BulkDensity::new(d).ok());
    let (litres, layers) =
        (number(&draft.container).unwrap_or(4.0), number(&draft.layers).unwrap_or(4.0).round().max(1.0));
    match (density, number(&draft.w_now).or_else(|| (draft.w_now.trim() == "0").then_some(0.0))) {
        (None, _) => next.push("Take at least three density cores at the probe's place, and type them under Density cores: the container is packed to their mean.".into()),
        (Some(_), None) => next.push("Type the soil's present water content (g/g, from one tin), and the packing follows.".into()),
        (Some(density), Some(w)) => {
            let layer = packed_layer(litres * 1000.0 / layers, 1.0, density, solids(draft), w);
            if taken == 0 {
                next.push("About 4 L from the probe's own depth: let it dry, break the clods, pass it through a 5 mm sieve, mix it even.".into());
            }
            next.push(format!("Pack {layers} layers of {} g of soil as moist as it is, each to {} L.", grouped(layer.moist_g.round() as usize), format_value(litres / layers, 2)));
            let plan = wetting_plan(litres * 1000.0, density, solids(draft), w, number(&draft.water).unwrap_or(250.0));
            match plan.theta[..] {
                [now, after, ..] => {
                    if taken == 0 {
                        next.push("Push the probe in straight, with its pilot tool where the model has one; read it three times with the logger of the field. Then take the core beside it, strike it level, close the tin, weigh.".into());
                    }
                    next.push(format!("That is {} m³/m³. The next {} mL bring it to {}; {} steps to saturation.", format_value(now, 3), draft.water.trim(), format_value(after, 3), plan.to_saturation));
                }
                _ => warnings.push("At that water content the soil holds more than its pores: is the content in g/g, and the density right?".into()),
            }
        }
    }
}

fn drying_pot(draft: &RunDraft, next: &mut Vec<String>, warnings: &mut Vec<String>) {
    if draft.pot_tare.trim().is_empty() {
        next.push("Weigh the empty container with the probe and its cable in it, as it will stand on the balance; then pack it to field density, wet it from below, and let it stand covered for a day.".into());
    } else if draft.pot_dry.trim().is_empty() {
        next.push("Weigh it and read the probe as it dries, the cable always lying the same way. At the end dry all of its soil in the oven and type container with dry soil: all points wait for it.".into());
    }
    let number = |text: &str| read_number(text).ok();
    if let (Some(tare), Some(dry), Some(volume)) =
        (number(&draft.pot_tare), number(&draft.pot_dry), number(&draft.pot_volume).filter(|v| *v > 0.0))
    {
        let density = (dry - tare) / volume;
        match density_target(draft).map(|target| density / target - 1.0) {
            Some(off) if off.abs() > crate::calibration::DENSITY_DRIFT => warnings.push(format!(
                "The container was packed to {} g/cm³, {} % off the field's density.",
                format_value(density, 2),
                format_value(off * 100.0, 0)
            )),
            _ => {}
        }
    }
}

fn drying(draft: &RunDraft, warnings: &mut Vec<String>) {
    let Ok(temperature) = read_number(&draft.dry_temperature) else {
        if !draft.dry_temperature.trim().is_empty() {
            warnings.push(format!("“{}” is no drying temperature: write it like 105.", draft.dry_temperature.trim()));
        }
        return;
    };
    let checked = |text: &str, range: Range| match text.trim() {
        "" => Ok(()),
        text => read_number(text).and_then(|v| range.check(v).map_err(|e| e.to_string())).map(|_| ()),
    };
    let mineral = format_value(solids(&RunDraft { particles: String::new(), ..draft.clone() }).get(), 2);
    for (text, range) in [(&draft.organic, ranges::PERCENT), (&draft.particles, ranges::PARTICLE_DENSITY_G_CM3)] {
        if let Err(wrong) = checked(text, range) {
            warnings.push(format!("Organic matter or solids: {wrong}. Meanwhile the solids count as {mineral} g/cm³."));
        }
    }
    let organic = read_number(&draft.organic).unwrap_or(0.0) > ORGANIC_PCT;
    if temperature > FAHRENHEIT {
        let celsius = (temperature - 32.0) / 1.8;
        warnings
            .push(format!("{temperature} looks like Fahrenheit: is it {} °C that is meant?", format_value(celsius, 0)));
    } else if organic && temperature > 75.0 {
        warnings.push(format!("Soil this rich in organic matter chars at {temperature} °C and can smoulder: 60 to 70 °C for longer, and say so."));
    } else if !organic && (temperature - OVEN_C.0).abs() > OVEN_C.1 {
        let slip = if temperature < 60.0 { " An oven set to 105 °F stands at 41 °C and dries nothing." } else { "" };
        warnings
            .push(format!("Dried at {temperature} °C; 105 °C is usual, and water stays in the soil below it.{slip}"));
    }
    if read_number(&draft.dry_hours).is_ok_and(|h| h < 20.0) {
        warnings.push(
            "Less than 24 h in the oven: weigh, dry two hours more and weigh again, until the mass stands. Type all weighings into the field, parted by blanks.".into(),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bench::{SampleRow, resolve};

    fn of(change: impl FnOnce(&mut RunDraft)) -> Conditions {
        let mut draft = RunDraft { density: "1.3".into(), w_now: "0.05".into(), ..RunDraft::default() };
        change(&mut draft);
        let context = RunContext { planned_logger: Some("field node".into()), supply_v: Some(2.5) };
        conditions(&draft, &resolve(&draft), &context)
    }

    fn tin(density: f64, i: usize) -> SampleRow {
        SampleRow {
            raw: format!("{}", 900 + 150 * i),
            tare: "20".into(),
            wet: format!("{:.2}", 20.0 + density * 100.0 + 8.0 + 5.0 * i as f64),
            dry: format!("{:.2}", 20.0 + density * 100.0),
            volume: "100".into(),
            ..SampleRow::default()
        }
    }

    #[test]
    fn the_next_step_is_told_with_its_numbers() {
        let begin = of(|_| {}).next;
        assert!(begin[0].contains("5 mm sieve") && begin[2].contains("strike it level"), "{begin:?}");
        let mut undried = tin(1.3, 1);
        undried.dry.clear();
        let wait = of(|d| d.rows = vec![tin(1.3, 0), undried]).next;
        assert!(
            wait[2].starts_with("2 of five to seven points are taken")
                && wait[3].starts_with("1 tin waits for the oven"),
            "{wait:?}"
        );
        let c = of(|d| d.rows = vec![tin(1.3, 0), tin(1.3, 1)]);
        assert_eq!(c.next[0], "Pack 4 layers of 1\u{202f}365 g of soil as moist as it is, each to 1.00 L.");
        assert!(c.next[1].contains("0.065 m³/m³. The next 250 mL bring it to 0.128; 8 steps"), "{}", c.next[1]);
        assert!(c.next[2].starts_with("2 of five to seven") && c.warnings.is_empty());
        assert!(of(|d| d.density.clear()).next[0].contains("three density cores"));
    }

    #[test]
    fn density_cores_lead_the_packing() {
        let c = of(|d| (d.density, d.cores) = (String::new(), "40; 170; 100\n40; 172; 100\n40; 168; 100".into()));
        assert_eq!(c.next[0], "Field density 1.30 ± 0.02 (standard deviation) g/cm³ from 3 cores.");
        assert!(c.next[2].starts_with("Pack 4 layers of 1\u{202f}365 g"), "{:?}", c.next);
        let wrong = of(|d| d.cores = "40; 170".into());
        assert!(wrong.warnings[0].starts_with("Density cores: Line 1"));
    }

    #[test]
    fn slips_of_the_oven_and_of_the_logger_are_noticed() {
        let warned = |change: fn(&mut RunDraft), words: &str| {
            let c = of(change);
            assert!(c.warnings.iter().any(|w| w.contains(words)), "{words}: {:?}", c.warnings);
        };
        warned(|d| d.dry_temperature = "221".into(), "is it 105 °C that is meant");
        warned(|d| d.dry_temperature = "41".into(), "dries nothing");
        warned(|d| d.organic = "40".into(), "chars at 105 °C");
        warned(|d| d.dry_hours = "6".into(), "until the mass stands");
        warned(|d| d.logger = "bench logger".into(), "planned with “field node”");
        warned(|d| d.excitation = "3,3".into(), "made for 2.5 V");
        warned(|d| d.w_now = "0.9".into(), "more than its pores");
    }

    #[test]
    fn a_packing_that_drifts_is_told_over_the_run() {
        let rows = (0..7).map(|i| tin(1.30 + 0.015 * i as f64, i)).collect();
        let c = of(|d| d.rows = rows);
        assert!(
            c.warnings.iter().any(|w| w.contains("from 1.30 to 1.39 g/cm³ over the run (7 %)")),
            "{:?}",
            c.warnings
        );
    }

    #[test]
    fn each_school_is_led_in_its_own_way() {
        assert!(of(|d| d.school = School::Cores).next[0].contains("outside its sensing volume"));
        assert!(of(|d| d.school = School::Drying).next[0].starts_with("Weigh the empty container with the probe"));
        let dense = of(|d| {
            (d.school, d.pot_tare, d.pot_dry) = (School::Drying, "800".into(), "6800".into());
        });
        assert!(dense.warnings[0].contains("packed to 1.50 g/cm³, 15 % off"), "{:?}", dense.warnings);
    }
}
