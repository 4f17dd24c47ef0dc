//! Findings of small records: what is left out is counted, gaps stay gaps, and what does not meet is said.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;

use ebrel_app::findings::{
    Abscissa, BesideError, Question, ResponseError, Selection, WaterAsked, beside, in_common, own_pairs, picture,
    responses, water,
};
use ebrel_app::record::StationRecord;
use ebrel_core::findings::{DayState, PairError, Part};
use ebrel_core::quality::{Event, EventKind, Test};
use ebrel_core::units::{DepthCm, Grade, Principle, Quantity, SpanSeconds, UnixSeconds, Verdict};
use ebrel_store::Store;
use ebrel_store::batches::{Origin, Source};
use ebrel_store::events::StoredEvent;
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::responses::Response;
use ebrel_store::stations::Station;
use ebrel_store::verdicts::{Decision, Mark};

const START: i64 = 1_717_200_000;
const DAY: i64 = 86_400;

/// Puts a probe with readings every hour of `days` days into a station; returns its stream.
async fn probe(
    store: &Store,
    station: i64,
    (port, quantity, depth): (&str, Quantity, f64),
    days: i64,
    value: impl Fn(i64) -> f64,
) -> i64 {
    let node = store.ensure_node(station, "n").await.unwrap();
    let serial = format!("{station}-{port}");
    let principle = if quantity.is_temperature() { Principle::Thermometer } else { Principle::Dielectric };
    let model = "made up".to_owned();
    let probe = Probe { id: 0, serial, model, principle, instrument_min: None, instrument_max: None, resolution: None };
    let new = NewPlacement {
        node_id: node,
        port: port.into(),
        probe_id: store.ensure_probe(&probe).await.unwrap(),
        depth_cm: DepthCm::new(depth).ok(),
        orientation: String::new(),
        starts: UnixSeconds(START),
        ends: None,
        note: String::new(),
    };
    store.place(&new).await.unwrap();
    let stream = store.ensure_stream(node, port, quantity, quantity.unit(), Some(3600)).await.unwrap();
    let readings = (0..days * 24).map(|h| Reading { stream, t: START + h * 3600, raw: value(h) }).collect();
    store.add_readings(&Origin::of(Source::Hand, UnixSeconds(START)), readings).await.unwrap();
    stream
}

async fn loaded(store: &Store, station: i64) -> (StationRecord, Vec<ebrel_store::flags::StoredFlag>) {
    (StationRecord::load(store, station).await.unwrap(), store.flags(station).await.unwrap())
}

async fn second(store: &Store, like: &Station) -> i64 {
    let other = Station { id: 0, code: "tub2".into(), name: "Tub 2".into(), ..like.clone() };
    store.add_station(&other, &[]).await.unwrap()
}

#[tokio::test]
async fn what_a_person_leaves_out_is_a_gap_that_is_counted_and_not_summed_over() {
    let (store, station, _dir) = common::station().await;
    let top = probe(&store, station, ("m10", Quantity::WaterContent, 10.0), 20, |_| 0.20).await;
    probe(&store, station, ("m30", Quantity::WaterContent, 30.0), 20, |h| 0.25 + 0.0001 * h as f64).await;
    let (from, to) = (UnixSeconds(START + 5 * DAY), UnixSeconds(START + 6 * DAY - 1));
    let seen = Decision {
        id: 0,
        stream_id: top,
        test: Test::Noise,
        start: from,
        end: to,
        verdict: Verdict::LeftOut,
        reason: "a mole".into(),
        by: "NA".into(),
        at: to,
        mark: Some(Mark { grade: Grade::Wrong, readings: 24 }),
    };
    store.decide(&[seen]).await.unwrap();
    let (record, flags) = loaded(&store, station).await;
    let asked =
        WaterAsked { change: Some((UnixSeconds(START), UnixSeconds(START + 100 * 3600))), ..WaterAsked::default() };
    let w = water(&record, &[], &flags, &asked).unwrap().unwrap();
    assert_eq!((w.counts.used, w.counts.left_out), (2 * 480 - 24, 24), "count in, count out");
    assert_eq!(w.steps, (480, 24));
    assert_eq!(w.lacking, [24, 0]);
    assert!(w.series.iter().all(|(t, _)| *t < from || *t > to), "nothing is summed over the gap");
    let (_, _, change) = w.change.unwrap();
    // Linear from 10 to 30 cm: half of those 200 mm belong to the lower probe.
    assert!((change.unwrap().mm - 0.01 * 100.0).abs() < 1e-9);
    assert!(w.assumes_factory && w.rain.is_none() && w.wettings.is_empty() && w.spells.is_empty());
    let over = WaterAsked { change: Some((from, to)), ..WaterAsked::default() };
    assert!(water(&record, &[], &flags, &over).unwrap().unwrap().change.unwrap().2.is_none());
    let without = WaterAsked { without_cm: vec![10.0], ..WaterAsked::default() };
    let w = water(&record, &[], &flags, &without).unwrap().unwrap();
    assert_eq!((w.depths, w.steps.1), (vec![30.0], 0));
    let nothing = WaterAsked { without_cm: vec![10.0, 30.0], ..WaterAsked::default() };
    assert!(water(&record, &[], &flags, &nothing).is_none());

    let seen = picture(&record, &flags, UnixSeconds(START + 20 * DAY - 1));
    let top = seen.coverage.iter().find(|c| c.depth_cm == Some(10.0)).unwrap();
    let count = |state| top.days.iter().filter(|d| **d == state).count();
    // By a clock an hour ahead of UTC the last hour of the gap is one of the next day, which stays measured.
    assert_eq!((count(DayState::Measured), count(DayState::LeftOut), count(DayState::Missing)), (19, 1, 345));
    assert!(seen.now.iter().all(|n| n.value.is_some()) && seen.storage.len() == 365);
}

#[tokio::test]
async fn water_that_was_given_is_a_fall_without_any_gauge() {
    let (store, station, _dir) = common::station().await;
    let wetted = |h: i64| if h < 100 { 0.15 } else { 0.25 };
    probe(&store, station, ("m10", Quantity::WaterContent, 10.0), 10, wetted).await;
    probe(&store, station, ("m30", Quantity::WaterContent, 30.0), 10, |h| if h < 106 { 0.15 } else { 0.22 }).await;
    let start = UnixSeconds(START + 98 * 3600);
    let given = StoredEvent {
        id: 0,
        event: Event { kind: EventKind::Irrigation, start, end: start + SpanSeconds(3600) },
        amount: Some(30.0),
        unit: "mm".into(),
        note: String::new(),
        by: "NA".into(),
        client_id: None,
        revision: 1,
    };
    store.add_event(station, &given).await.unwrap();
    let (record, flags) = loaded(&store, station).await;
    let asked = WaterAsked { sentinel_cm: Some(33.0), ..WaterAsked::default() };
    let w = water(&record, &[], &flags, &asked).unwrap().unwrap();
    assert_eq!((w.wettings.len(), w.sentinel), (1, Some(1)), "a sentinel lies where the soil let it");
    let fall = &w.wettings[0];
    assert_eq!((fall.fall.mm, fall.arrivals.iter().flatten().count()), (30.0, 2));
    let sum = fall.stored.unwrap().mm + fall.passed_mm.unwrap() + fall.unexplained_mm.unwrap();
    assert!((sum - 30.0).abs() < 1e-9);
}

#[tokio::test]
async fn stations_that_share_no_time_or_no_depth_are_told_so() {
    let (store, first, _dir) = common::station().await;
    let station = store.station(first).await.unwrap();
    let other = second(&store, &station).await;
    probe(&store, first, ("t05", Quantity::SoilTemperature, 5.0), 60, |h| 12.0 + ((h % 24) as f64 - 12.0) / 4.0).await;
    let ask = |depth| Question {
        quantity: Quantity::SoilTemperature,
        depth_cm: Some(depth),
        date: None,
        selection: Selection::default(),
    };
    let (a, of_a) = loaded(&store, first).await;
    let (b, of_b) = loaded(&store, other).await;
    let found = beside((&a, &of_a), (&b, &of_b), &ask(5.0));
    assert_eq!(found.err(), Some(BesideError::NotMeasured("Tub 2".into())), "no reading at all");
    assert!(in_common(&a, &b).is_empty());
    probe(&store, other, ("t05", Quantity::SoilTemperature, 5.0), 60, |h| 11.0 + ((h % 24) as f64 - 12.0) / 8.0).await;
    let (b, of_b) = loaded(&store, other).await;
    assert_eq!(in_common(&a, &b), [(Quantity::SoilTemperature, Some(5.0))]);
    let found = beside((&a, &of_a), (&b, &of_b), &ask(5.0)).unwrap();
    let all = found.comparison.group(Part::All).unwrap().whole.unwrap();
    assert!((all.estimate - 0.94).abs() < 0.1, "{all:?}");
    assert_eq!(found.steps, (60 * 24, 0));
    assert!((found.buffering.unwrap().groups[0].1.unwrap().estimate - 2.0).abs() < 1e-9);
    assert_eq!(beside((&a, &of_a), (&b, &of_b), &ask(40.0)).err(), Some(BesideError::NotMeasured("Tub 1".into())));
    let apart = Selection { to: Some(UnixSeconds(START - DAY)), ..Selection::default() };
    let none = Question { selection: apart, ..ask(5.0) };
    assert!(matches!(
        beside((&a, &of_a), (&b, &of_b), &none).err(),
        Some(BesideError::NotMeasured(_) | BesideError::Pair(PairError::NoCommonTime))
    ));
}

#[tokio::test]
async fn rows_of_a_response_are_points_or_are_counted_with_their_reason() {
    let (store, station, _dir) = common::station().await;
    let drying = |h: i64| 0.40 - 0.0002 * h as f64;
    probe(&store, station, ("m10", Quantity::WaterContent, 10.0), 60, drying).await;
    let (record, flags) = loaded(&store, station).await;
    let week = |k: i64| UnixSeconds(START + k * 4 * DAY);
    let growing = |k: i64| (0..k).map(|i| (drying(i * 96 + 48) - 0.25).clamp(-0.10, 0.05) + 0.2).sum::<f64>();
    let mut values: Vec<(String, UnixSeconds, f64)> = (0..14).map(|k| ("m10".into(), week(k), growing(k))).collect();
    values.push(("nobody".into(), week(1), 3.0));
    values.push(("m10".into(), UnixSeconds(START + 900 * DAY), 3.0));
    let study_id = record.study.id;
    let table = |values| Response {
        id: 0,
        study_id,
        name: "frond".into(),
        unit: "cm".into(),
        by: String::new(),
        at: week(0),
        values,
    };
    let stations = [(record, flags)];
    let found = responses(&stations, &table(values.clone()), true, Abscissa::Content).unwrap();
    assert_eq!((found.rows, found.points.len()), (16, 14), "the last is held against what lies between");
    assert_eq!(found.firsts + found.unmatched + found.without_reading + found.points.len() + found.beyond_curve, 16);
    let found = responses(&stations, &table(values.clone()), false, Abscissa::Content).unwrap();
    assert_eq!((found.firsts, found.unmatched, found.without_reading, found.points.len()), (0, 1, 1, 14));
    let only = |keep: &str| table(values.iter().filter(|v| v.0 == keep).cloned().collect());
    assert_eq!(
        responses(&stations, &only("nobody"), true, Abscissa::Content),
        Err(ResponseError::NoPoint("nobody".into()))
    );
    let late = table(vec![("m10".into(), week(900), 1.0), ("m10".into(), week(901), 2.0)]);
    assert_eq!(responses(&stations, &late, true, Abscissa::Content), Err(ResponseError::NoTime(1)));
    let no_tension = responses(&stations, &only("m10"), true, Abscissa::Tension);
    assert_eq!(no_tension, Err(ResponseError::NoQuantity("water tension")));
    assert!(own_pairs(&stations[0].0, &stations[0].1, 10.0).is_empty());
}
