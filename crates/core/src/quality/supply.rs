//! The node's own health: its supply, and the air in its box.

use super::context::written;
use super::definition::settings;
use super::scene::Scene;
use super::screened::runs;
use super::{Definition, Evidence, Flag, LowPowerEvidence, WetBoxEvidence};
use crate::statistics::quantile;
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// When a supply runs down.
    LowPowerSettings {
        /// Below this share of its full voltage a supply is low, where its kind is not known.
        share: 0.85 in 0.3..=1.0 "",
        /// On so many days together.
        days: 1.0 in 1.0..=60.0 "d",
    }
);

settings!(
    /// When water is in the box.
    WetBoxSettings {
        /// The mean of a day passes what is usual by so much.
        above_usual: 25.0 in 2.0..=90.0 "%",
        /// And so much at all: condensing is near.
        humidity: 60.0 in 10.0..=100.0 "%",
    }
);

pub(super) const LOW_POWER: Definition = Definition {
    title: "Low power",
    mark: "L",
    grade: Grade::Condition,
    finds: "Days on which the lowest voltage of a node's supply lies under the knee of its kind. It explains silences and odd readings of the \
            whole node.",
    settings: LowPowerSettings::LIST,
};

pub(super) const WET_BOX: Definition = Definition {
    title: "Wet box",
    mark: "X",
    grade: Grade::Condition,
    finds: "Days on which the air in an enclosure is much wetter than usual and near condensing. It explains noise and odd readings of the \
            whole node.",
    settings: WetBoxSettings::LIST,
};

/// Full voltage from and to, and the knee under which little is left, V: a lithium cell of 3.6 V, a lithium accumulator, lead of 6 and 12 V.
const KNEES: [(f64, f64, f64); 4] = [(3.5, 3.75, 3.3), (3.9, 4.3, 3.4), (6.1, 7.2, 5.7), (12.3, 14.8, 11.7)];

/// Days of the record with a figure of each.
fn daily(scene: &Scene<'_>, figure: impl Fn(&mut Vec<f64>) -> f64) -> Vec<(i64, f64)> {
    let hours = scene.of.hours();
    let of = |day: i64| {
        let mut values: Vec<f64> = hours.between(day * 24, day * 24 + 24).collect();
        (!values.is_empty()).then(|| (day, figure(&mut values)))
    };
    hours.days().filter_map(of).collect()
}

/// Days on which the supply's lowest lies under the knee of its kind.
pub(super) fn low_power(scene: &Scene<'_>, own: &LowPowerSettings) -> Vec<Flag> {
    if scene.of.channel.quantity != Quantity::BatteryVoltage {
        return Vec::new();
    }
    let days = daily(scene, |v| v.iter().copied().fold(f64::INFINITY, f64::min));
    let mut all: Vec<f64> = days.iter().map(|d| d.1).collect();
    let Some(full) = quantile(&mut all, 0.95) else { return Vec::new() };
    let kind = KNEES.iter().find(|(from, to, _)| (*from..=*to).contains(&full));
    let knee = kind.map_or(own.share * full, |k| k.2);
    let low = runs(days.len(), 2, |i| days[i].1 < knee);
    let tell = |(a, b): (usize, usize)| {
        let lowest = days[a..=b].iter().map(|d| d.1).fold(f64::INFINITY, f64::min);
        let long = days[b].0 - days[a].0 + 1;
        let reason = format!(
            "The supply falls to {} on {long} {}, under {}, where little is left: silences and odd readings of its node come of it.",
            written(Quantity::BatteryVoltage, lowest),
            if long == 1 { "day" } else { "days" },
            written(Quantity::BatteryVoltage, knee),
        );
        let evidence = Evidence::LowPower(LowPowerEvidence { lowest: lowest.into(), knee: knee.into() });
        (long as f64 >= own.days)
            .then(|| over_days(scene, (days[a].0, days[b].0), LOW_POWER.grade, evidence, reason))
            .flatten()
    };
    low.into_iter().filter_map(tell).collect()
}

/// Days on which the air in the box is much wetter than usual.
pub(super) fn wet_box(scene: &Scene<'_>, own: &WetBoxSettings) -> Vec<Flag> {
    if scene.of.channel.quantity != Quantity::EnclosureHumidity {
        return Vec::new();
    }
    let days = daily(scene, |v| v.iter().sum::<f64>() / v.len() as f64);
    let mut all: Vec<f64> = days.iter().map(|d| d.1).collect();
    let Some(usual) = quantile(&mut all, 0.4) else { return Vec::new() };
    let wet = runs(days.len(), 2, |i| days[i].1 > own.humidity && days[i].1 > usual + own.above_usual);
    let tell = |(a, b): (usize, usize)| {
        let wettest = days[a..=b].iter().map(|d| d.1).fold(0.0, f64::max);
        let reason = format!(
            "The air in the box stands at up to {wettest:.0}\u{a0}% on {}, usually at {usual:.0}\u{a0}%: water is in it, and connectors shake or leak.",
            SpanSeconds((days[b].0 - days[a].0 + 1) * SpanSeconds::DAY.0).in_words(),
        );
        let evidence = Evidence::WetBox(WetBoxEvidence { humidity: wettest.into(), usual: usual.into() });
        over_days(scene, (days[a].0, days[b].0), WET_BOX.grade, evidence, reason)
    };
    wet.into_iter().filter_map(tell).collect()
}

fn over_days(scene: &Scene<'_>, (a, b): (i64, i64), grade: Grade, evidence: Evidence, reason: String) -> Option<Flag> {
    let view = scene.of.between(a * SpanSeconds::DAY.0, (b + 1) * SpanSeconds::DAY.0 - 1);
    let (start, end) = view.times.first().zip(view.times.last())?;
    Some(Flag::new(grade, (*start, *end), view.times.len(), 1.0, evidence, reason))
}
