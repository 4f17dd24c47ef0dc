//! What a run was done with, and what the next step takes: packing, water, drying.

use super::draft::Draft;
use crate::shell::figures::{fixed, grouped};
use ebrel_core::sampling::packing::{packed_layer, wetting_plan};
use ebrel_core::units::{BulkDensity, read_number};

/// Soil with more organic matter than this chars at 105 °C, %.
const ORGANIC_PCT: f64 = 15.0;
/// The usual drying temperature, °C, and how far from it is still meant.
const OVEN_C: (f64, f64) = (105.0, 8.0);
/// Hotter than any drying oven is set in °C.
const FAHRENHEIT: f64 = 180.0;

/// Points that make a curve; after them the packing is no news.
const ENOUGH: usize = 5;

/// What the conditions ask for or warn of.
pub struct Conditions {
    /// What the next step takes, one sentence each.
    pub next: Vec<String>,
    /// What is wrong with the conditions.
    pub warnings: Vec<String>,
}

/// Works the conditions of a run out; `planned_logger` is the one that the probe's station is planned with.
pub fn conditions(draft: &Draft, used: usize, planned_logger: Option<&str>) -> Conditions {
    let number = |text: &str| read_number(text).ok().filter(|v| *v > 0.0);
    let mut warnings = Vec::new();
    drying(draft, &mut warnings);
    if let Some(planned) = planned_logger {
        let mine = draft.logger.trim();
        if !mine.is_empty() && !mine.eq_ignore_ascii_case(planned) {
            warnings.push(format!("Read with “{mine}”, but its station is planned with “{planned}”: an analog probe's output follows its supply. Calibrate with the logger of the field."));
        }
    }
    if used >= ENOUGH {
        return Conditions { next: Vec::new(), warnings };
    }
    let mut next = Vec::new();
    let density = number(&draft.density).and_then(|d| BulkDensity::new(d).ok());
    let (litres, layers) =
        (number(&draft.container).unwrap_or(4.0), number(&draft.layers).unwrap_or(4.0).round().max(1.0));
    match (density, number(&draft.w_now).or_else(|| (draft.w_now.trim() == "0").then_some(0.0))) {
        (None, _) => next.push("Take at least three density cores at the probe's place, and type their mean as the field density: the container is packed to it.".into()),
        (Some(_), None) => next.push("Type the soil's present water content (g/g, from one tin), and the packing follows.".into()),
        (Some(density), Some(w)) => {
            let layer = packed_layer(litres * 1000.0 / layers, 1.0, density, w);
            next.push(format!("Pack {layers} layers of {} g of soil as moist as it is, each to {} L.", grouped(layer.moist_g.round() as usize), fixed(litres / layers, 2)));
            let plan = wetting_plan(litres * 1000.0, density, w, number(&draft.water).unwrap_or(250.0));
            match plan.theta[..] {
                [now, after, ..] => next.push(format!("That is {} m³/m³. The next {} mL bring it to {}; {} steps to saturation.", fixed(now, 3), draft.water.trim(), fixed(after, 3), plan.to_saturation)),
                _ => warnings.push("At that water content the soil holds more than its pores: is the content in g/g, and the density right?".into()),
            }
        }
    }
    if used > 0 {
        next.push(format!("{used} of five to seven points are complete: add water, mix until even, and go on."));
    }
    Conditions { next, warnings }
}

fn drying(draft: &Draft, warnings: &mut Vec<String>) {
    let Ok(temperature) = read_number(&draft.dry_temperature) else {
        if !draft.dry_temperature.trim().is_empty() {
            warnings.push(format!("“{}” is no drying temperature: write it like 105.", draft.dry_temperature.trim()));
        }
        return;
    };
    let organic = read_number(&draft.organic).unwrap_or(0.0) > ORGANIC_PCT;
    if temperature > FAHRENHEIT {
        let celsius = (temperature - 32.0) / 1.8;
        warnings.push(format!("{temperature} looks like Fahrenheit: is it {} °C that is meant?", fixed(celsius, 0)));
    } else if organic && temperature > 75.0 {
        warnings.push(format!("Soil this rich in organic matter chars at {temperature} °C and can smoulder: 60 to 70 °C for longer, and say so."));
    } else if !organic && (temperature - OVEN_C.0).abs() > OVEN_C.1 {
        let slip = if temperature < 60.0 { " An oven set to 105 °F stands at 41 °C and dries nothing." } else { "" };
        warnings
            .push(format!("Dried at {temperature} °C; 105 °C is usual, and water stays in the soil below it.{slip}"));
    }
    if read_number(&draft.dry_hours).is_ok_and(|h| h < 20.0) {
        warnings.push(
            "Less than 24 h in the oven: weigh, dry two hours more and weigh again, until the mass stands.".into(),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn draft(change: impl FnOnce(&mut Draft)) -> Draft {
        let mut draft = Draft { density: "1.3".into(), w_now: "0.05".into(), ..Draft::default() };
        change(&mut draft);
        draft
    }

    #[test]
    fn the_next_step_is_told_with_its_numbers() {
        let c = conditions(&draft(|_| {}), 2, None);
        assert_eq!(c.next[0], "Pack 4 layers of 1\u{202f}365 g of soil as moist as it is, each to 1.00 L.");
        assert!(c.next[1].contains("0.065 m³/m³. The next 250 mL bring it to 0.128; 8 steps"), "{}", c.next[1]);
        assert!(c.next[2].starts_with("2 of five to seven") && c.warnings.is_empty());
        assert!(conditions(&Draft::default(), 0, None).next[0].contains("three density cores"));
    }

    #[test]
    fn slips_of_the_oven_and_of_the_logger_are_noticed() {
        let warned = |change: fn(&mut Draft), words: &str| {
            let c = conditions(&draft(change), 0, Some("field node"));
            assert!(c.warnings.iter().any(|w| w.contains(words)), "{words}: {:?}", c.warnings);
        };
        warned(|d| d.dry_temperature = "221".into(), "is it 105 °C that is meant");
        warned(|d| d.dry_temperature = "41".into(), "dries nothing");
        warned(|d| d.organic = "40".into(), "chars at 105 °C");
        warned(|d| d.dry_hours = "6".into(), "until the mass stands");
        warned(|d| d.logger = "bench logger".into(), "planned with “field node”");
        warned(|d| d.w_now = "0.9".into(), "more than its pores");
    }
}
