//! What the tests cannot judge at a station, and why: said there, so that silence is not taken for soundness.

use super::water::has_gauge;
use super::{Channel, StationContext, Test};
use crate::units::{Quantity, SpanSeconds};

/// A test, or several, that say nothing of a station or a part of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unjudged {
    /// The tests concerned.
    pub tests: Vec<Test>,
    /// Why, and what would change it.
    pub why: String,
}

/// Fewer days than this show no habit of days.
const LEAST_DAYS: i64 = 20;
/// Records farther apart than this show no daily wave, s.
const SLOWEST: i64 = 3 * 3600;

/// What cannot be judged at a station.
///
/// ```
/// use ebrel_core::quality::{Channel, StationContext, Test, unjudged};
/// use ebrel_core::series::View;
/// use ebrel_core::units::Quantity;
/// let soil = Channel { depth_cm: Some(5.0), ..Channel::bare("5 cm", Quantity::WaterContent, View { times: &[], values: &[] }) };
/// let said = unjudged(&StationContext::alone(&[soil], &[]));
/// assert!(said.iter().any(|u| u.tests.contains(&Test::MissesRain) && u.why.starts_with("No rain gauge")));
/// ```
#[must_use]
pub fn unjudged(station: &StationContext<'_>) -> Vec<Unjudged> {
    let of = |wanted: fn(Quantity) -> bool| station.channels.iter().filter(move |c| wanted(c.quantity));
    let moist: Vec<&Channel<'_>> = of(Quantity::is_moisture).collect();
    let mut said = Vec::new();
    let mut say = |tests: &[Test], why: &str| said.push(Unjudged { tests: tests.to_vec(), why: why.to_owned() });
    if !moist.is_empty() && !has_gauge(station) {
        say(
            &[Test::RiseWithoutWater, Test::MissesRain],
            "No rain gauge here, nor at a station of the study within 5\u{a0}km: whether water came is not known.",
        );
    }
    let depths = |channels: &[&Channel<'_>]| {
        let mut depths: Vec<i64> = channels.iter().filter_map(|c| c.depth_cm).map(|d| d.round() as i64).collect();
        depths.sort_unstable();
        depths.dedup();
        depths.len()
    };
    if moist.len() == 1 || (!moist.is_empty() && depths(&moist) < 2) {
        say(&[Test::WetsOutOfOrder], "Moisture at one depth only: water has no order to come in.");
    }
    let warm: Vec<&Channel<'_>> = of(|q| q == Quantity::SoilTemperature).collect();
    if depths(&warm) < 2 && !(warm.is_empty() && moist.is_empty()) {
        say(&[Test::HeatMisorder], "Soil temperature at fewer than two depths: the order of heat is not seen.");
    }
    if !moist.is_empty() && warm.is_empty() {
        say(
            &[Test::DailyWiggle, Test::Frozen],
            "No soil thermometer: neither an effect of temperature nor frost is told.",
        );
    }
    let airs = of(|q| matches!(q, Quantity::AirTemperature | Quantity::BareAirTemperature)).count();
    let other = station.elsewhere.iter().any(|e| e.channel.quantity == Quantity::AirTemperature);
    if airs == 1 && !other {
        say(&[Test::SunlitAir], "One air thermometer alone: nothing shows what the sun does to it.");
    }
    let twins = (0..station.channels.len()).any(|i| station.twins(i).next().is_some());
    if !moist.is_empty() && !twins {
        say(&[Test::PairApart], "No two probes at one depth: a slow drift is not seen.");
    }
    if of(|q| q == Quantity::BatteryVoltage).next().is_none() {
        say(&[Test::LowPower], "No voltage of a supply is recorded.");
    }
    if of(|q| q == Quantity::EnclosureHumidity).next().is_none() {
        say(&[Test::WetBox], "No humidity in a box is recorded.");
    }
    let slow = moist.iter().chain(&warm).filter(|c| c.due_every() > SLOWEST).count();
    if slow > 0 {
        say(
            &[Test::HeatMisorder, Test::DailyWiggle, Test::RiseWithoutWater],
            "Channels that are read every few hours or days show no daily wave and no front.",
        );
    }
    let long = |c: &&Channel<'_>| c.view.times.last().zip(c.view.times.first()).map_or(0, |(b, a)| b - a);
    let longest = moist.iter().chain(&warm).map(long).max().unwrap_or(0);
    if longest > 0 && longest < LEAST_DAYS * SpanSeconds::DAY.0 {
        say(
            &[Test::HeatMisorder, Test::DailyWiggle, Test::PairApart, Test::MissesRain],
            "The record is shorter than three weeks: it has no habits yet to be held against.",
        );
    }
    said
}

#[cfg(test)]
mod tests {
    use super::super::testing::{channel, series};
    use super::*;

    #[test]
    fn a_whole_station_leaves_nothing_unsaid_and_a_bare_one_says_what_it_lacks() {
        let s = series(96 * 40, |i| (i as f64 / 9.0).sin());
        let at = |quantity, depth| Channel { quantity, depth_cm: depth, ..channel(&s) };
        let whole = [
            at(Quantity::WaterContent, Some(5.0)),
            at(Quantity::WaterContent, Some(20.0)),
            at(Quantity::WaterContent, Some(20.4)),
            at(Quantity::SoilTemperature, Some(5.0)),
            at(Quantity::SoilTemperature, Some(20.0)),
            at(Quantity::Rain, None),
            at(Quantity::BatteryVoltage, None),
            at(Quantity::EnclosureHumidity, None),
        ];
        assert_eq!(unjudged(&StationContext::alone(&whole, &[])), []);
        let bare = unjudged(&StationContext::alone(&whole[..1], &[]));
        let tests: Vec<Test> = bare.iter().flat_map(|u| u.tests.clone()).collect();
        for test in [Test::MissesRain, Test::WetsOutOfOrder, Test::HeatMisorder, Test::DailyWiggle, Test::PairApart] {
            assert!(tests.contains(&test), "{test:?}: {bare:?}");
        }
        let daily = series(400, |i| (i as f64 / 9.0).sin());
        let slow = Channel { interval: Some(SpanSeconds::DAY), ..channel(&daily) };
        let said = unjudged(&StationContext::alone(&[slow], &[]));
        assert!(said.iter().any(|u| u.why.starts_with("Channels that are read every few hours")), "{said:?}");
        let young = series(96 * 3, |i| i as f64);
        let said = unjudged(&StationContext::alone(&[channel(&young)], &[]));
        assert!(said.iter().any(|u| u.why.starts_with("The record is shorter")), "{said:?}");
        assert!(unjudged(&StationContext::alone(&[], &[])).iter().all(|u| !u.tests.contains(&Test::MissesRain)));
    }
}
