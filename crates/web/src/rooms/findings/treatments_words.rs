//! What the page of two stations says.

use super::frame::counted;
use crate::shell::figures::{fixed, grouped, signed};
use ebrel_app::findings::{Beside, Question};
use ebrel_app::record::StationRecord;
use ebrel_core::findings::{Interval, PairError, Part};
use ebrel_core::units::{Quantity, unit_for_people};

/// "1.4, 0.3 to 2.1 at 95 %".
pub(super) fn interval(i: &Interval, decimals: usize) -> String {
    format!("{} ({} to {})", signed(i.estimate, decimals), signed(i.low, decimals), signed(i.high, decimals))
}

/// "1.40 °C warmer".
pub(super) fn words(quantity: Quantity, i: &Interval, decimals: usize) -> String {
    let (more, less) = match quantity {
        Quantity::WaterContent => ("wetter", "drier"),
        Quantity::WaterTension => ("drier", "wetter"),
        q if q.is_temperature() => ("warmer", "colder"),
        _ => ("more", "less"),
    };
    let unit = if quantity.is_temperature() { "K".into() } else { unit_for_people(quantity.unit()) };
    let size = format!("{}\u{a0}{unit}", fixed(i.estimate.abs(), decimals));
    let word = if i.estimate >= 0.0 { more } else { less };
    if i.is_off_zero() { format!("{size} {word}") } else { format!("not surely other: {size} {word}") }
}

pub(super) fn impact(found: &Beside, decimals: usize, first: &str, second: &str) -> Vec<String> {
    match &found.impact {
        None => Vec::new(),
        Some(Err(PairError::Short(which, n))) => {
            vec![format!(
                "Before and after cannot be compared: {which} has {n} days known at both places; 10 are needed."
            )]
        }
        Some(Err(other)) => vec![format!("Before and after cannot be compared: {other}.")],
        Some(Ok(i)) => {
            let mut all = vec![format!(
                "From that day on {first} changed by {} against {second}: the difference was {} before and {} after.",
                interval(&i.effect, decimals),
                interval(&i.before, decimals),
                interval(&i.after, decimals)
            )];
            all.push(if i.like_with_like {
                format!(
                    "Only days of the year that lie on both sides count; {} days were left out for that.",
                    i.left_out
                )
            } else {
                "No days of the year lie on both sides: a season may pass for an effect here.".into()
            });
            if !i.effect.is_off_zero() {
                all.push("The interval holds zero: no change can be concluded.".into());
            }
            all
        }
    }
}

pub(super) fn cannot(a: &StationRecord, b: &StationRecord, question: &Question) -> Vec<String> {
    let treatment = |r: &StationRecord| {
        if r.station.treatment.is_empty() { "no treatment noted".to_owned() } else { r.station.treatment.clone() }
    };
    let mut all = vec![format!(
        "Each treatment has one place here ({}: {}; {}: {}). The intervals say how surely these two places differ, not whether the treatment does it: \
         another pair of places might differ without any. That wants replicates, or a record from before the treatment.",
        a.station.name,
        treatment(a),
        b.station.name,
        treatment(b)
    )];
    for record in [a, b] {
        if !record.station.known_bias.is_empty() {
            all.push(format!("Known bias at {}: {}.", record.station.name, record.station.known_bias));
        }
    }
    if question.quantity == Quantity::WaterContent {
        all.push(
            "Both probes err by their calibrations, by the same amount all through (about ±0.01 to 0.03\u{a0}m³/m³): that stands beside the intervals, \
             which tell of days only. Changes of the difference are free of it."
                .into(),
        );
    }
    all
}

pub(super) fn how(found: &Beside, first: &str, second: &str) -> Vec<String> {
    let (paired, unpaired) = found.steps;
    let block = found.comparison.group(Part::All).and_then(|g| g.whole).map_or(1, |i| i.block);
    let mut all = vec![
        format!("{first}: {}. {second}: {}.", counted(found.counts.0), counted(found.counts.1)),
        format!(
            "Each moment is compared with the same moment: {} were known at both, {} at one or none and left out. A day counts with eight tenths of \
             its moments.",
            grouped(paired),
            grouped(unpaired)
        ),
        format!(
            "Intervals hold at 95\u{a0}%, by 2000 resamples of blocks of days (over all days: {block}; Politis & White 2004), since one day is like the \
             next. Effective days: how many independent ones would tell as much."
        ),
    ];
    match &found.rain {
        None => all.push("No gauge tells of rain at either: days are not parted by weather.".into()),
        Some(Some(of)) => all.push(format!("Days with rain are those with at least 1\u{a0}mm in the gauge of {of}.")),
        Some(None) => all.push("Days with rain are those with at least 1\u{a0}mm.".into()),
    }
    if let Some(b) = &found.buffering {
        all.push(format!(
            "Swings: geometric mean of the ratio of daily ranges over {} days; {} days on which one was below 0.2\u{a0}K are left out.",
            b.days, b.calm
        ));
    }
    all
}
