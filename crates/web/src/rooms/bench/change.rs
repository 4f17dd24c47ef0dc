//! What a calibration would change at each place of a record, in words and as a picture.

use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, grouped, moment, signed, when};
use ebrel_app::record::{ChannelRecord, StationRecord};
use ebrel_core::calibration::{Comparison, OutOfBounds, compare, serves_model};
use ebrel_core::series::{Belief, DatedCurve};
use ebrel_core::units::Quantity;
use ebrel_store::Store;
use ebrel_store::calibrations::{Adoption, Subject};

/// A band of wetness.
pub struct BandRow {
    /// "0.20 to 0.25".
    pub range: String,
    /// Readings in it.
    pub readings: String,
    pub change: String,
}

/// The two records over time.
pub struct Picture {
    /// Path of the record as it is.
    pub before: String,
    /// As it would be.
    pub after: String,
    /// Edges, m³/m³, and the first and last day in words.
    pub edges: (String, String),
    /// First and last day.
    pub ends: (String, String),
}

/// What changes at one place.
pub struct Change {
    /// Serial, station and depth.
    pub place: String,
    /// The answer in one sentence.
    pub sentence: String,
    /// What else is said.
    pub says: Vec<String>,
    pub bands: Vec<BandRow>,
    pub picture: Option<Picture>,
}

/// Works out what an adoption would change in a station's record.
pub async fn changes(store: &Store, record: &StationRecord, adoption: &Adoption) -> Result<Vec<Change>, Problem> {
    let candidate = DatedCurve { valid_from: adoption.valid_from, curve: adoption.curve.clone() };
    let flags = store.flags(record.station.id).await?;
    let in_force = store.calibrations_at(record.station.id).await?;
    let mut all = Vec::new();
    for channel in record.channels.iter().filter(|c| c.channel.stream.quantity == Quantity::RawOutput) {
        let placement = &channel.channel.placement;
        let serves = match &adoption.subject {
            Subject::Probe(id) => placement.probe.id == *id,
            Subject::Model(model) => {
                let soil = placement.depth_cm.and_then(|d| record.soil.at(d));
                !in_force.has_own(placement.probe.id)
                    && serves_model((model, &adoption.made_with.soil), &placement.probe.model, soil)
            }
        };
        if serves {
            let believed = channel.believed(&flags, &Belief::default());
            all.push(change(record, channel, compare(believed, &candidate, channel.pore_space)));
        }
    }
    Ok(all)
}

fn change(record: &StationRecord, channel: &ChannelRecord, found: Comparison) -> Change {
    let offset = record.study.utc_offset_minutes;
    let placement = &channel.channel.placement;
    let depth = placement.depth_cm.map(|d| format!(", {d}\u{a0}cm")).unwrap_or_default();
    let (before, after) = found.strains;
    let mut says = Vec::new();
    if let Some(l) = found.largest.filter(|l| l.before != l.after) {
        says.push(format!(
            "Most on {}: from {} to {} m³/m³.",
            moment(l.at, offset),
            fixed(l.before, 3),
            fixed(l.after, 3)
        ));
    }
    says.extend(strains(&found, before, after));
    if found.left_out > 0 {
        says.push(format!("Readings that flags or verdicts leave out, not counted here: {}.", grouped(found.left_out)));
    }
    let bands = found.bands.iter().map(|b| BandRow {
        range: format!("{} to {}", fixed(b.from, 2), fixed(b.from + 0.05, 2)),
        readings: grouped(b.readings),
        change: signed(b.mean, 3),
    });
    Change {
        place: format!("{} at {}{depth}", placement.probe.serial, record.station.name),
        sentence: sentence(&found),
        says,
        bands: bands.collect(),
        picture: picture(&found, offset),
    }
}

fn sentence(found: &Comparison) -> String {
    let had = found.readings - found.new;
    match (found.readings, had) {
        (0, _) => "Nothing: the record has no reading from that date on.".to_owned(),
        (n, 0) => format!("{} readings get water content for the first time.", grouped(n)),
        _ if found.rms < 5e-5 => format!("{} readings stay as they are.", grouped(had)),
        _ => {
            let new = if found.new > 0 {
                format!(" {} more get water content for the first time.", grouped(found.new))
            } else {
                String::new()
            };
            format!(
                "{} readings change by {} m³/m³ on average, ±{} (root mean square).{new}",
                grouped(had),
                signed(found.mean, 3),
                fixed(found.rms, 3)
            )
        }
    }
}

/// How often curves are strained, where either is.
fn strains(found: &Comparison, before: OutOfBounds, after: OutOfBounds) -> Vec<String> {
    let first = found.new == found.readings;
    let tell = |was: usize, is: usize, what: &str| {
        (was > 0 || is > 0).then(|| {
            let before = if first { String::new() } else { format!(", {} before", grouped(was)) };
            format!("Readings that {what}: {}{before}.", grouped(is))
        })
    };
    [
        tell(before.beyond, after.beyond, "lie beyond the samples and are extrapolated"),
        tell(before.below_zero, after.below_zero, "come out below no water"),
        tell(before.above_pores, after.above_pores, "come out above the pore space"),
    ]
    .into_iter()
    .flatten()
    .collect()
}

/// The most days drawn; beyond, every so many are passed over.
const MOST_DAYS: usize = 700;

fn picture(found: &Comparison, offset: i64) -> Option<Picture> {
    let (first, last) = (found.days.first()?, found.days.last()?);
    let finite = found.days.iter().flat_map(|d| [d.before, d.after]).filter(|v| v.is_finite());
    let (low, high) = finite.fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(v), h.max(v)));
    let (low, high) = ((low - 0.01).min(high - 0.04), high + 0.01);
    let span = (last.day.0 - first.day.0).max(1) as f64;
    let every = found.days.len().div_ceil(MOST_DAYS);
    let path = |of: fn(&ebrel_core::calibration::DayMeans) -> f64| {
        let mut out = String::new();
        for day in found.days.iter().step_by(every).filter(|d| of(d).is_finite()) {
            let x = 52.0 + (day.day.0 - first.day.0) as f64 / span * 640.0;
            let y = 12.0 + (high - of(day)) / (high - low) * 170.0;
            out.push_str(&format!("{}{x:.1} {y:.1}", if out.is_empty() { "M" } else { "L" }));
        }
        out
    };
    let day = |d: &ebrel_core::calibration::DayMeans| when(d.day, offset, "%-d %b %Y");
    Some(Picture {
        before: path(|d| d.before),
        after: path(|d| d.after),
        edges: (fixed(low, 2), fixed(high, 2)),
        ends: (day(first), day(last)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::calibration::{Curve, DayMeans};
    use ebrel_core::series::{Believed, CalibrationHistory, LeftOut, View};
    use ebrel_core::units::UnixSeconds;

    fn compared(before: Option<f64>, after: f64, raws: &[f64]) -> Comparison {
        let dated = |slope: f64| DatedCurve {
            valid_from: UnixSeconds(0),
            curve: Curve::from_coefficients(&[0.0, slope], 100.0, 400.0, None).unwrap(),
        };
        let times: Vec<i64> = (0..raws.len() as i64).map(|i| i * 86_400).collect();
        let now = CalibrationHistory::new(before.map(dated).into_iter().collect());
        let view = View { times: &times, values: raws };
        compare(Believed::new(view, &now, &[], LeftOut::default()), &dated(after), Some(0.45))
    }

    #[test]
    fn the_sentence_says_how_much_changes_or_that_nothing_does() {
        let raws = [200.0, 300.0];
        assert_eq!(sentence(&compared(Some(1e-3), 1e-3, &raws)), "2 readings stay as they are.");
        assert_eq!(sentence(&compared(None, 1e-3, &raws)), "2 readings get water content for the first time.");
        assert_eq!(sentence(&compared(None, 1e-3, &[])), "Nothing: the record has no reading from that date on.");
        let changed = sentence(&compared(Some(1e-3), 1.1e-3, &raws));
        assert_eq!(changed, "2 readings change by +0.025 m³/m³ on average, ±0.025 (root mean square).");
        let less = sentence(&compared(Some(1e-3), 0.9e-3, &raws));
        assert!(less.contains("by −0.025 m³/m³"), "{less}");
    }

    #[test]
    fn extrapolations_and_what_cannot_be_are_counted_against_before() {
        let found = compared(Some(1e-3), 1.2e-3, &[50.0, 390.0, 500.0, -20.0]);
        let says = strains(&found, found.strains.0, found.strains.1);
        assert_eq!(says[0], "Readings that lie beyond the samples and are extrapolated: 3, 3 before.");
        assert_eq!(says[1], "Readings that come out below no water: 1, 1 before.");
        assert_eq!(says[2], "Readings that come out above the pore space: 2, 1 before.");
        let first = compared(None, 1.2e-3, &[500.0]);
        assert!(strains(&first, first.strains.0, first.strains.1).iter().all(|s| !s.contains("before")));
        let sound = compared(Some(1e-3), 1e-3, &[200.0]);
        assert!(strains(&sound, sound.strains.0, sound.strains.1).is_empty());
    }

    #[test]
    fn the_picture_holds_every_day_and_no_missing_number() {
        let raws: Vec<f64> = (0..1500).map(|i| 150.0 + f64::from(i % 200)).collect();
        let drawn = picture(&compared(None, 1e-3, &raws), 0).unwrap();
        assert!(drawn.before.is_empty() && !drawn.after.contains("NaN"));
        assert!((400..=MOST_DAYS).contains(&drawn.after.matches(['M', 'L']).count()), "ten years stay a light picture");
        assert_eq!(drawn.ends.0, "1 Jan 1970");
        let flat = Comparison {
            days: vec![DayMeans { day: UnixSeconds(0), before: 0.2, after: 0.2 }],
            ..compared(None, 1e-3, &[200.0])
        };
        assert!(!picture(&flat, 0).unwrap().before.contains("inf"), "one flat day has a scale all the same");
        assert!(picture(&compared(None, 1e-3, &[]), 0).is_none());
    }
}
