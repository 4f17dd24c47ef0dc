//! What was measured by hand beside a probe: what the record has there, and what contradicts it time and again.

mod plot;

use ebrel_core::quality::{
    Beside, Cause, CauseKind, Channel, Mend, Reference, Settings, StationContext, Test, check_station,
};
use ebrel_core::series::{Series, View};
use ebrel_core::units::{Quantity, UnixSeconds};
use plot::{DAY, STEP, channel, heat, moisture, rain};

/// What was measured on some days, so much off the record.
fn by_hand(record: &Series, off: &[(i64, f64)]) -> Vec<Reference> {
    let at = |(day, off): &(i64, f64)| {
        let i = day * DAY + 40;
        let value = record.values[i as usize] + off;
        Reference { time: UnixSeconds(i * STEP), value, uncertainty: Some(0.01) }
    };
    off.iter().map(at).collect()
}

/// What contradicts a calibrated probe, by what was measured so far off it.
fn contradicted(off: &[(i64, f64)], calibrated: bool) -> Vec<Cause> {
    let s = moisture(3, 4, 0.1);
    let references = by_hand(&s, off);
    let probe = Channel {
        port: "m05",
        node: "node θ",
        references: &references,
        raw: calibrated.then_some(&s.values),
        uncertainty: Some(0.02),
        ..channel(&s, Quantity::WaterContent, "10 cm", 10.0)
    };
    let gauge = rain();
    let all = [probe, channel(&gauge, Quantity::Rain, "rain", -100.0)];
    let found = check_station(&StationContext::alone(&all, &[]), &Settings::default());
    let told = found.flags[0].iter().filter(|f| f.test == Test::ReferenceApart).count();
    assert_eq!(told, off.iter().filter(|o| o.1.abs() > 0.05).count(), "{off:?}");
    found.causes.into_iter().filter(|c| c.kind == CauseKind::Contradicted).collect()
}

#[test]
fn a_record_that_is_contradicted_to_one_side_time_and_again_is_one_cause() {
    let twice = contradicted(&[(20, -0.1), (60, -0.08), (70, 0.001)], true).remove(0);
    assert_eq!(
        twice.reason,
        "What was measured by hand contradicts 10 cm twice: the record is the higher one each time."
    );
    assert_eq!(twice.against, "1 other reading by hand agrees with it.");
    assert_eq!((twice.flags.len(), twice.start.0 / STEP / DAY), (2, 20));
    let Some(Mend::Retire { node, port, at }) = twice.mend else { panic!("no mend") };
    assert_eq!((node.as_str(), port.as_str(), at), ("node θ", "m05", twice.start));
    let often = contradicted(&[(20, 0.1), (60, 0.08), (70, 0.07)], true).remove(0);
    assert!(often.reason.contains("3 times: the record is the lower") && often.against.is_empty(), "{}", often.reason);
}

#[test]
fn once_or_to_either_side_is_no_cause_and_without_a_calibration_there_is_none_to_retire() {
    assert!(contradicted(&[], true).is_empty());
    assert!(contradicted(&[(20, 0.1)], true).is_empty(), "once may be the core");
    assert!(contradicted(&[(20, 0.1), (60, -0.1)], true).is_empty(), "scatter of the samples");
    assert!(contradicted(&[(20, 0.01), (60, 0.01)], true).is_empty(), "they agree");
    let raw = contradicted(&[(20, 0.1), (60, 0.1)], false).remove(0);
    assert_eq!(raw.mend, None);
}

#[test]
fn the_record_beside_a_time_is_the_median_of_the_hours_around_it() {
    let s = heat(10.0);
    let view = View { times: &s.times, values: &s.values };
    let within = |view, t: i64, interval| Beside::of(Beside::part(view, UnixSeconds(t), interval));
    let of = |t: i64| within(view, t, STEP);
    let first = of(s.times[0]).unwrap();
    assert_eq!((first.readings, first.span.0.0), (3600 / STEP as usize + 1, s.times[0]), "at an end what is there");
    let last = s.times[s.times.len() - 1];
    assert_eq!(of(last + 3600).map(|b| (b.readings, b.value)), Some((1, s.values[s.values.len() - 1])));
    assert_eq!(of(last + 3601), None, "a second later nothing");
    assert_eq!(of(i64::MIN), None);
    assert_eq!(of(i64::MAX), None);
    assert_eq!(within(View { times: &[], values: &[] }, 0, STEP), None);
    let gap = [f64::NAN, 4.0, f64::NAN];
    let times = [0, STEP, 2 * STEP];
    let among = within(View { times: &times, values: &gap }, 0, STEP).unwrap();
    assert_eq!(among.value, 4.0, "where no calibration held there is no number");
    // A daily record is held against its own day.
    let daily = [0, 86_400, 172_800];
    let sparse = within(View { times: &daily, values: &[1.0, 2.0, 9.0] }, 80_000, 86_400);
    assert_eq!(sparse.map(|b| (b.readings, b.value)), Some((2, 1.5)));
}
