//! Findings of small records: what is left out is counted, gaps stay gaps, and what does not meet is said.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;

use ebrel_app::findings::{
    Abscissa, AirAsked, BesideError, Question, ResponseError, Selection, WaterAsked, What, air, beside, heat,
    in_common, own_pairs, picture, profile_data, responses, water,
};
use ebrel_app::record::Flagged;
use ebrel_core::findings::{DayState, PairError, Part};
use ebrel_core::quality::{Event, EventKind, Test};
use ebrel_core::series::Window;
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

async fn loaded(store: &Store, station: i64) -> Flagged {
    Flagged::load(store, station).await.unwrap()
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
    let of = loaded(&store, station).await;
    let asked =
        WaterAsked { change: Some((UnixSeconds(START), UnixSeconds(START + 100 * 3600))), ..WaterAsked::default() };
    let w = water(&of, &[], &asked).unwrap().unwrap();
    assert_eq!((w.counts.used, w.counts.left_out), (2 * 480 - 24, 24), "count in, count out");
    assert_eq!(w.steps, (480, 24));
    assert_eq!(w.lacking, [24, 0]);
    assert!(w.series.iter().all(|(t, _)| *t < from || *t > to), "nothing is summed over the gap");
    let (_, _, change) = w.change.unwrap();
    // Linear from 10 to 30 cm: half of those 200 mm belong to the lower probe.
    assert!((change.unwrap().mm - 0.01 * 100.0).abs() < 1e-9);
    assert!(w.assumes_factory && w.rain.is_none() && w.wettings.is_empty() && w.spells.is_empty());
    let over = WaterAsked { change: Some((from, to)), ..WaterAsked::default() };
    assert!(water(&of, &[], &over).unwrap().unwrap().change.unwrap().2.is_none());
    let without = WaterAsked { without_cm: vec![10.0], ..WaterAsked::default() };
    let w = water(&of, &[], &without).unwrap().unwrap();
    assert_eq!((w.depths, w.steps.1), (vec![30.0], 0));
    let nothing = WaterAsked { without_cm: vec![10.0, 30.0], ..WaterAsked::default() };
    assert!(water(&of, &[], &nothing).is_none());

    let seen = picture(&of, UnixSeconds(START + 20 * DAY - 1));
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
    let of = loaded(&store, station).await;
    let asked = WaterAsked { sentinel_cm: Some(33.0), ..WaterAsked::default() };
    let w = water(&of, &[], &asked).unwrap().unwrap();
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
    let a = loaded(&store, first).await;
    let b = loaded(&store, other).await;
    let found = beside(&a, &b, &[], &ask(5.0));
    assert_eq!(found.err(), Some(BesideError::NotMeasured("Tub 2".into())), "no reading at all");
    assert!(in_common(&a.record, &b.record).is_empty());
    probe(&store, other, ("t05", Quantity::SoilTemperature, 5.0), 60, |h| 11.0 + ((h % 24) as f64 - 12.0) / 8.0).await;
    let b = loaded(&store, other).await;
    assert_eq!(in_common(&a.record, &b.record), [(Quantity::SoilTemperature, Some(5.0))]);
    let found = beside(&a, &b, &[], &ask(5.0)).unwrap();
    let all = found.comparison.group(Part::All).unwrap().whole.unwrap();
    assert!((all.estimate - 0.94).abs() < 0.1, "{all:?}");
    assert_eq!(found.steps, (60 * 24, 0));
    assert!((found.buffering.unwrap().groups[0].1.unwrap().estimate - 2.0).abs() < 1e-9);
    assert_eq!(beside(&a, &b, &[], &ask(40.0)).err(), Some(BesideError::NotMeasured("Tub 1".into())));
    let apart = Selection { to: Some(UnixSeconds(START - DAY)), ..Selection::default() };
    let none = Question { selection: apart, ..ask(5.0) };
    assert!(matches!(
        beside(&a, &b, &[], &none).err(),
        Some(BesideError::NotMeasured(_) | BesideError::Pair(PairError::NoCommonTime))
    ));
}

#[tokio::test]
async fn rows_of_a_response_are_points_or_are_counted_with_their_reason() {
    let (store, station, _dir) = common::station().await;
    let drying = |h: i64| 0.40 - 0.0002 * h as f64;
    probe(&store, station, ("m10", Quantity::WaterContent, 10.0), 60, drying).await;
    let of = loaded(&store, station).await;
    let week = |k: i64| UnixSeconds(START + k * 4 * DAY);
    let growing = |k: i64| (0..k).map(|i| (drying(i * 96 + 48) - 0.25).clamp(-0.10, 0.05) + 0.2).sum::<f64>();
    let mut values: Vec<(String, UnixSeconds, f64)> = (0..14).map(|k| ("m10".into(), week(k), growing(k))).collect();
    values.push(("nobody".into(), week(1), 3.0));
    values.push(("m10".into(), UnixSeconds(START + 900 * DAY), 3.0));
    let study_id = of.record.study.id;
    let table = |values| Response {
        id: 0,
        study_id,
        name: "frond".into(),
        unit: "cm".into(),
        by: String::new(),
        at: week(0),
        values,
    };
    let stations = [of];
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
    assert!(own_pairs(&stations[0], 10.0).is_empty());
}

/// A gauge at a station, with rain of 10 mm at the 100th hour and 400 mm at the 200th, which no sky gives.
async fn gauge(store: &Store, station: i64) -> i64 {
    let rain = |h: i64| match h {
        100 => 10.0,
        200 => 400.0,
        _ => 0.0,
    };
    probe(store, station, ("rain", Quantity::Rain, 0.0), 20, rain).await
}

fn seen(stream: i64, (from, to): (i64, i64), grade: Grade) -> Decision {
    Decision {
        id: 0,
        stream_id: stream,
        test: Test::Noise,
        start: UnixSeconds(START + from * 3600),
        end: UnixSeconds(START + to * 3600),
        verdict: if grade == Grade::Condition { Verdict::Kept } else { Verdict::LeftOut },
        reason: "seen".into(),
        by: "NA".into(),
        at: UnixSeconds(START),
        mark: Some(Mark { grade, readings: 1 }),
    }
}

#[tokio::test]
async fn rain_that_a_neighbour_leaves_out_fell_nowhere() {
    let (store, first, _dir) = common::station().await;
    let other = second(&store, &store.station(first).await.unwrap()).await;
    probe(&store, first, ("m10", Quantity::WaterContent, 10.0), 20, |_| 0.3).await;
    let stream = gauge(&store, other).await;
    let fallen = async || {
        let of = loaded(&store, first).await;
        let neighbours = of.neighbours(&store).await.unwrap();
        assert_eq!(neighbours.len(), 1, "only who measures water or air");
        let w = water(&of, &neighbours, &WaterAsked::default()).unwrap().unwrap();
        assert_eq!(w.rain, Some(Some("Tub 2".to_owned())));
        w.wettings.iter().map(|f| f.fall.mm).collect::<Vec<f64>>()
    };
    assert_eq!(fallen().await, [10.0, 400.0]);
    store.decide(&[seen(stream, (200, 200), Grade::Wrong)]).await.unwrap();
    assert_eq!(fallen().await, [10.0], "a person left the clogged gauge's overflow out");
}

#[tokio::test]
async fn a_probe_that_turned_out_to_lie_elsewhere_splits_the_sum_and_no_change_crosses() {
    let (store, station, _dir) = common::station().await;
    probe(&store, station, ("m10", Quantity::WaterContent, 10.0), 20, |_| 0.20).await;
    probe(&store, station, ("m40", Quantity::WaterContent, 40.0), 20, |_| 0.30).await;
    let at = UnixSeconds(START + 10 * DAY);
    let placed = store.placements(station).await.unwrap();
    let deep = placed.iter().find(|p| p.port == "m40").unwrap();
    let was = deep.given();
    store.correct_placement(deep.id, &was, &NewPlacement { ends: Some(at), ..was.clone() }).await.unwrap();
    let new =
        NewPlacement { depth_cm: DepthCm::new(30.0).ok(), starts: at, note: "dug up: it lies at 30".into(), ..was };
    store.place(&new).await.unwrap();
    let of = loaded(&store, station).await;
    let ask = |a: i64, b: i64| WaterAsked {
        bottom_cm: Some(40.0),
        change: Some((UnixSeconds(START + a * DAY), UnixSeconds(START + b * DAY))),
        ..WaterAsked::default()
    };
    let w = water(&of, &[], &ask(2, 8)).unwrap().unwrap();
    assert_eq!((w.depths.clone(), w.steps), (vec![10.0, 30.0, 40.0], (480, 0)), "no time is silent");
    let (first, last) = (w.series[0].1.mm, w.last.unwrap().1.mm);
    assert!((first - 10.0 * (10.0 * 0.2 + 30.0 * 0.25)).abs() < 1e-9, "{first}");
    assert!((last - 10.0 * (10.0 * 0.2 + 20.0 * 0.25 + 10.0 * 0.3)).abs() < 1e-9, "{last}");
    assert!(w.change.unwrap().2.is_some_and(|c| c.mm.abs() < 1e-9));
    let across = water(&of, &[], &ask(2, 12)).unwrap().unwrap();
    assert!(across.change.unwrap().2.is_none(), "other depths speak for the soil since");
}

#[tokio::test]
async fn heat_is_found_by_month_with_its_water_and_its_frost() {
    let (store, station, _dir) = common::station().await;
    let wave = |size: f64, lag: f64| {
        move |h: i64| -0.5 + size * (std::f64::consts::TAU * h as f64 / 24.0 - lag).sin() + 0.002 * h as f64
    };
    probe(&store, station, ("t05", Quantity::SoilTemperature, 5.0), 70, wave(4.0, 0.0)).await;
    probe(&store, station, ("t15", Quantity::SoilTemperature, 15.0), 70, wave(1.8, 0.8)).await;
    probe(&store, station, ("m10", Quantity::WaterContent, 10.0), 70, |_| 0.27).await;
    let of = loaded(&store, station).await;
    let h = heat(&of, &Selection::default()).unwrap();
    assert_eq!((h.depths.len(), h.daily.len(), h.yearly.len()), (2, 2, 0));
    assert!((h.daily[0].amplitude - 4.0).abs() < 0.05 && (h.daily[1].amplitude - 1.8).abs() < 0.05);
    let lag = (h.daily[1].peak_h - h.daily[0].peak_h).rem_euclid(24.0);
    assert!((lag - 0.8 * 24.0 / std::f64::consts::TAU).abs() < 0.05, "{lag}");
    assert_eq!(h.diffusivities.len(), h.contents.len());
    assert!(h.contents.iter().all(|c| c.is_some_and(|c| (c - 0.27).abs() < 1e-9)), "{:?}", h.contents);
    let fall = h.daily_fall.unwrap();
    assert!((fall.damping_m - 0.1 / (4.0f64 / 1.8).ln()).abs() < 0.003, "{fall:?}");
    assert!(
        h.frost[0].0 > h.frost[1].0 && h.frost[0].1 == h.frost[1].1,
        "frost comes to 5 cm more often: {:?}",
        h.frost
    );
    let (low, mean, high) = h.months[0][0].mean;
    assert!((high - low - 8.0).abs() < 0.1 && (mean - low - 4.0).abs() < 0.1);
    assert_eq!(h.counts.used, 2 * 70 * 24);
    let nowhere = second(&store, &store.station(station).await.unwrap()).await;
    assert!(heat(&loaded(&store, nowhere).await, &Selection::default()).is_none());
}

#[tokio::test]
async fn the_air_is_borrowed_and_without_a_latitude_there_is_no_evapotranspiration() {
    let (store, first, _dir) = common::station().await;
    let other = second(&store, &store.station(first).await.unwrap()).await;
    probe(&store, first, ("m10", Quantity::WaterContent, 10.0), 40, |h| if h < 480 { 0.15 } else { 0.25 }).await;
    let swing = |h: i64| 10.0 + 6.0 * (std::f64::consts::TAU * h as f64 / 24.0).sin();
    probe(&store, other, ("air", Quantity::AirTemperature, -150.0), 40, swing).await;
    let asked = AirAsked { base_c: 5.0, dry_below: Some(0.2), tension_above: Some(50.0) };
    let of = loaded(&store, first).await;
    let found = air(&of, &of.neighbours(&store).await.unwrap(), &asked).unwrap();
    assert_eq!((found.air_of, found.method, found.has_rain), (Some(Some("Tub 2".into())), None, false));
    let days: usize = found.months.values().map(|m| m.days).sum();
    assert!((38..=40).contains(&days), "{days}");
    assert!(found.months.values().all(|m| m.evapotranspiration.1 == 0 && m.frost_days == 0));
    let (name, dry) = &found.dry[0];
    assert_eq!((name.as_str(), found.dry.len()), ("below 0.2 at 10\u{a0}cm", 1), "no probe of tension lies there");
    let counted = dry.values().fold((0, 0), |sum, d| (sum.0 + d.0, sum.1 + d.1));
    // By a clock an hour ahead the first day lacks its first hour, and the last has one.
    assert!(counted.0 == 20 && (39..=40).contains(&counted.1), "{counted:?}");
    let alone = air(&of, &[], &asked).unwrap();
    assert!(alone.air_of.is_none() && alone.months.is_empty());
}

#[tokio::test]
async fn the_picture_has_its_gaps_its_fronts_and_its_counts() {
    let (store, station, _dir) = common::station().await;
    let front = |at: i64| move |h: i64| if h < at { 0.18 } else { 0.30 };
    let top = probe(&store, station, ("m10", Quantity::WaterContent, 10.0), 20, front(101)).await;
    probe(&store, station, ("m30", Quantity::WaterContent, 30.0), 20, front(106)).await;
    probe(&store, station, ("t10", Quantity::SoilTemperature, 10.0), 20, |h| if h < 300 { 4.0 } else { -2.0 }).await;
    probe(&store, station, ("t30", Quantity::SoilTemperature, 30.0), 20, |_| 2.0).await;
    gauge(&store, station).await;
    store.decide(&[seen(top, (240, 287), Grade::Wrong), seen(top, (10, 19), Grade::Condition)]).await.unwrap();
    let of = loaded(&store, station).await;
    let window = Window::new(UnixSeconds(START), UnixSeconds(START + 20 * DAY), 480).unwrap();
    let seen = |what| profile_data(&of, &[], &window, what);
    let moisture = seen(What::Moisture).unwrap();
    assert_eq!(moisture.counts, [2 * 480 - 48, 48, 0]);
    let gap: Vec<usize> = (0..480).filter(|c| moisture.rows[0].mean[*c].is_none()).collect();
    assert_eq!((gap.first(), gap.last(), gap.len()), (Some(&240), Some(&287), 48), "one column an hour");
    assert_eq!((moisture.rows[0].mean[50], moisture.rows[1].mean[200]), (Some(180), Some(300)));
    assert!(moisture.rows[0].half.is_empty(), "of a maker's curve no half width is known");
    let fronts = &moisture.fronts;
    assert_eq!(fronts[0].points.iter().map(|p| p.1).collect::<Vec<_>>(), [10.0, 30.0]);
    assert!(fronts[0].words.contains("10.0\u{a0}mm, 4.0\u{a0}cm/h"), "{}", fronts[0].words);
    assert_eq!(moisture.rain.iter().flatten().sum::<i32>(), 4100);
    // From −2 to 2 °C over 20 cm: the line of 0 °C lies half way.
    assert_eq!((moisture.frost[200], moisture.frost[400]), (None, Some(200)));
    assert!(seen(What::Tension).is_none());
    assert!(seen(What::Saturation).unwrap().rows.is_empty(), "without a soil no pore space is known");
    assert_eq!(seen(What::Temperature).unwrap().rows.len(), 2);
    let w = water(&of, &[], &WaterAsked::default()).unwrap().unwrap();
    assert_eq!(w.counts.under_condition, 10, "true, but known");
}

#[tokio::test]
async fn readings_that_stand_alone_count_and_are_not_joined() {
    let (store, station, _dir) = common::station().await;
    let node = store.ensure_node(station, "n").await.unwrap();
    probe(&store, station, ("m10", Quantity::WaterContent, 10.0), 0, |_| 0.0).await;
    let stream = store.ensure_stream(node, "m10", Quantity::WaterContent, "m3/m3", Some(3600)).await.unwrap();
    assert!(water(&loaded(&store, station).await, &[], &WaterAsked::default()).is_none(), "no reading yet");
    let weekly =
        (0..10).map(|k| Reading { stream, t: START + k * 7 * DAY + 533, raw: 0.2 + 0.01 * k as f64 }).collect();
    store.add_readings(&Origin::of(Source::Hand, UnixSeconds(START)), weekly).await.unwrap();
    let of = loaded(&store, station).await;
    let w = water(&of, &[], &WaterAsked::default()).unwrap().unwrap();
    assert_eq!(w.counts.used, 10);
    // The stream says an hour between readings: weeks apart nothing is between them, and none is lost.
    assert_eq!(w.steps.0 - w.steps.1, 10);
    assert!((w.last.unwrap().1.mm - 0.29 * 100.0).abs() < 1e-9);
}
