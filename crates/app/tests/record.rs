//! Laws of a record: count in is count out, halves make the whole, and what is drawn holds what was read.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;
#[path = "../../web/tests/common/demo.rs"]
mod demo;

use ebrel_app::exporting::{Origins, Selection, counts, package, wide};
use ebrel_app::record::{Flagged, StationRecord};
use ebrel_app::reviewing;
use ebrel_app::window::{Show, window};
use ebrel_core::field::{ClockCheck, Deed, Entry};
use ebrel_core::quality::{Settings, Test};
use ebrel_core::series::{Belief, Window};
use ebrel_core::units::{Grade, Quantity, UnixSeconds, Verdict};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::flags::StoredFlag;
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::verdicts::Decision;
use ebrel_store::{Store, StoreError};

const DAY: i64 = 86_400;

/// The demo, in a store of its own.
async fn demo_store() -> (Store, tempfile::TempDir) {
    let dir = tempfile::tempdir().unwrap();
    demo::copy_into(dir.path()).await;
    (Store::open(&dir.path().join("ebrel.db")).await.unwrap(), dir)
}

fn all(from: i64, to: i64, grades: &[Grade]) -> Selection {
    let belief = Belief { leave_out: grades.to_vec() };
    Selection { from: UnixSeconds(from), to: UnixSeconds(to), quantities: Vec::new(), belief }
}

#[tokio::test]
async fn every_reading_is_either_exported_or_counted_as_left_out() {
    let (store, _dir) = demo_store().await;
    let parts = [Flagged::load(&store, 1).await.unwrap()];
    let origins = Origins::load(&store, &parts).await.unwrap();
    let [Flagged { record, flags }] = &parts;
    let (first, last) = record.extent().unwrap();
    let (from, to) = (last.0 - 400 * DAY, last.0 + 1);
    assert!(from > first.0, "a part of the record");
    let there: usize =
        record.channels.iter().map(|c| c.view().times.iter().filter(|t| (from..to).contains(*t)).count()).sum();
    let mut before = 0;
    for grades in [&[][..], &[Grade::Wrong], &[Grade::Wrong, Grade::Doubtful], Grade::ALL] {
        let selection = all(from, to, grades);
        let counts = counts(record, flags, &selection);
        assert_eq!(counts.readings + counts.left_out, there, "{grades:?}");
        assert!(counts.left_out >= before, "more grades leave out no less");
        before = counts.left_out;
        let rows: usize =
            package(&parts, &origins, &selection).channels.into_iter().map(|(_, rows)| rows.count()).sum();
        let cells: usize = wide(record, flags, &selection).into_iter().map(|c| c.readings.count()).sum();
        assert_eq!((rows, cells), (counts.readings, counts.readings), "{grades:?}");
        let middle = from + 133 * DAY + 450;
        let halves = [all(from, middle, grades), all(middle, to, grades)].map(|half| sums(record, flags, &half));
        assert_eq!((halves[0].0 + halves[1].0, halves[0].1 + halves[1].1), (counts.readings, counts.left_out));
    }
    assert!(before > 0, "the demo has flags");
}

fn sums(record: &StationRecord, flags: &[StoredFlag], selection: &Selection) -> (usize, usize) {
    let counts = counts(record, flags, selection);
    (counts.readings, counts.left_out)
}

#[tokio::test]
async fn quantities_part_an_export_without_rest() {
    let (store, _dir) = demo_store().await;
    let record = StationRecord::load(&store, 1).await.unwrap();
    let (from, to) = record.extent().unwrap();
    let whole = counts(&record, &[], &all(from.0, to.0 + 1, &[]));
    let mut quantities: Vec<Quantity> = record.channels.iter().map(|c| c.quantity()).collect();
    quantities.sort_unstable();
    quantities.dedup();
    let (mut channels, mut readings) = (0, 0);
    for quantity in quantities {
        let one = counts(&record, &[], &Selection { quantities: vec![quantity], ..all(from.0, to.0 + 1, &[]) });
        assert!(one.channels > 0);
        channels += one.channels;
        readings += one.readings;
    }
    assert_eq!((channels, readings), (whole.channels, whole.readings));
}

#[tokio::test]
async fn a_verdict_brings_readings_back_or_takes_them_out_and_outlives_a_new_run() {
    let (store, _dir) = demo_store().await;
    let record = StationRecord::load(&store, 1).await.unwrap();
    let (from, to) = record.extent().unwrap();
    let selection = all(from.0, to.0 + 1, &[Grade::Wrong]);
    let left_out = async |store: &Store| counts(&record, &store.flags(1).await.unwrap(), &selection).left_out;
    let before = left_out(&store).await;
    let flags = store.flags(1).await.unwrap();
    let spike = flags.iter().find(|f| f.flag.test == Test::Spike && f.flag.grade == Grade::Wrong && f.waits()).unwrap();
    let decide = |verdict| Decision {
        mark: None,
        id: 0,
        stream_id: spike.stream_id,
        test: Test::Spike,
        start: spike.flag.start,
        end: spike.flag.end,
        verdict,
        reason: "heavy shower, “θ”".into(),
        by: "N. Arvel".into(),
        at: UnixSeconds(to.0),
    };
    let kept = store.decide(&[decide(Verdict::Kept)]).await.unwrap();
    let brought_back = before - left_out(&store).await;
    let stream = record.channels.iter().find(|c| c.channel.stream.id == spike.stream_id).unwrap();
    let span = spike.flag.start.0..=spike.flag.end.0;
    let under = stream.view().times.iter().filter(|t| span.contains(t)).count();
    assert!(brought_back >= 1 && brought_back <= under, "{brought_back} of {under} readings between first and last");
    reviewing::run(&store, 1).await.unwrap();
    assert_eq!(left_out(&store).await, before - brought_back, "a new run leaves the verdict");
    store.undo_decisions(&kept, "T. Quill", UnixSeconds(to.0)).await.unwrap();
    assert_eq!(left_out(&store).await, before);
}

#[tokio::test]
async fn tests_that_run_again_find_the_same_and_other_settings_find_others() {
    let (store, _dir) = demo_store().await;
    let found = async || {
        let flags = store.flags(1).await.unwrap().into_iter();
        let mut found: Vec<_> =
            flags.map(|f| (f.stream_id, f.flag.test.code(), f.flag.start, f.flag.end, f.flag.reason)).collect();
        found.sort();
        found
    };
    let first = found().await;
    let n = reviewing::run(&store, 1).await.unwrap();
    assert_eq!((n, found().await == first), (first.len(), true));
    let at = UnixSeconds(5);
    store.keep_settings(1, Some(1), &[(Test::Spike, "sigmas", 100_000.0)], "N. Arvel", at).await.unwrap();
    assert!(store.stations_to_test().await.unwrap().contains(&1), "they are due");
    reviewing::run(&store, 1).await.unwrap();
    let spikes =
        |found: &[(i64, &str, UnixSeconds, UnixSeconds, String)]| found.iter().filter(|f| f.1 == "spike").count();
    assert!(spikes(&found().await) < spikes(&first), "nothing departs 100 000-fold");
    store.keep_settings(1, Some(1), &[], "N. Arvel", at).await.unwrap();
    reviewing::run(&store, 1).await.unwrap();
    assert_eq!(found().await, first, "as usual again");
    assert!(!store.stations_to_test().await.unwrap().contains(&1));
}

#[tokio::test]
async fn a_strip_holds_every_reading_whatever_the_number_of_columns() {
    let (store, _dir) = demo_store().await;
    let record = StationRecord::load(&store, 1).await.unwrap();
    let (_, last) = record.extent().unwrap();
    for (days, columns) in [(400, 7), (400, 900), (3, 900), (1, 1)] {
        let shown = Window::new(UnixSeconds(last.0 - days * DAY), UnixSeconds(last.0 + 1), columns).unwrap();
        let data = window(&record, &[], &shown, Show::Both);
        assert_eq!(data.columns, columns);
        for channel in record.channels.iter().filter(|c| c.quantity() == Quantity::SoilTemperature) {
            let strip = data.strips.iter().find(|s| s.streams.contains(&channel.channel.stream.id)).unwrap();
            let line = &strip.lines[strip.streams.iter().position(|s| *s == channel.channel.stream.id).unwrap()];
            let values = channel.values();
            let mut seen = vec![false; columns];
            for (t, v) in
                channel.view().times.iter().zip(values.iter()).filter(|(t, v)| **t >= shown.from().0 && v.is_finite())
            {
                let column = (0..columns).rev().find(|c| shown.edge(*c) <= *t).unwrap();
                let (low, high) = (line.min[column].unwrap(), line.max[column].unwrap());
                let within = f64::from(low) * strip.step - 1e-9..=f64::from(high) * strip.step + 1e-9;
                assert!(within.contains(v), "{} at {t}: {v} outside {within:?}", strip.label);
                seen[column] = true;
            }
            let drawn: Vec<bool> = line.mean.iter().map(Option::is_some).collect();
            assert_eq!(drawn, seen, "{}: a column is empty where nothing was read, and only there", strip.label);
        }
    }
}

#[tokio::test]
async fn rain_in_columns_is_the_rain_that_fell() {
    let (store, _dir) = demo_store().await;
    let record = StationRecord::load(&store, 1).await.unwrap();
    let (_, last) = record.extent().unwrap();
    let from = last.0 - 365 * DAY;
    let gauge = record.channels.iter().find(|c| c.quantity() == Quantity::Rain).unwrap();
    let view = gauge.view();
    let fell: f64 =
        view.times.iter().zip(view.values).filter(|(t, mm)| **t >= from && mm.is_finite()).map(|(_, mm)| mm).sum();
    for columns in [1, 12, 365] {
        let shown = Window::new(UnixSeconds(from), UnixSeconds(last.0 + 1), columns).unwrap();
        let tenths: i32 = window(&record, &[], &shown, Show::Moisture).rain.into_iter().flatten().sum();
        let off = (f64::from(tenths) / 10.0 - fell).abs();
        assert!(off <= 0.05 * columns as f64 + 1e-6, "{columns} columns: {tenths} tenths, {fell} mm");
    }
}

#[tokio::test]
async fn a_window_of_moisture_shows_no_temperature_strip_and_the_other_way_round() {
    let (store, _dir) = demo_store().await;
    let record = StationRecord::load(&store, 1).await.unwrap();
    let flags = store.flags(1).await.unwrap();
    let (first, last) = record.extent().unwrap();
    let shown = Window::new(first, UnixSeconds(last.0 + 1), 300).unwrap();
    let strips = |word: &str| window(&record, &flags, &shown, Show::from_word(word)).strips;
    let (moisture, temperature, both) = (strips("moisture"), strips("temperature"), strips("both"));
    assert!(moisture.iter().all(|s| !s.temperature) && temperature.iter().all(|s| s.temperature));
    assert_eq!(both.len(), moisture.len() + temperature.len());
    let mut ids: Vec<&str> = both.iter().map(|s| s.id.as_str()).collect();
    ids.sort_unstable();
    ids.dedup();
    assert_eq!(ids.len(), both.len(), "no two strips of one name");
    let depths: Vec<f64> = both.iter().map(|s| s.depth.unwrap_or(-1.0)).collect();
    assert!(depths.windows(2).all(|w| w[0] <= w[1]), "from the air down: {depths:?}");
    let data = window(&record, &flags, &shown, Show::Both);
    assert!(!data.flags.is_empty());
    for span in &data.flags {
        assert!(data.strips.iter().any(|s| s.id == span.strip), "a flag lies on a strip that is there: {}", span.strip);
        assert!(span.start <= span.end && span.end >= first.0 && span.start <= last.0);
    }
}

#[tokio::test]
async fn a_study_s_stations_are_neighbours_and_those_of_another_study_are_not() {
    let (store, _dir) = demo_store().await;
    let tubs = store.stations(2).await.unwrap();
    assert_eq!(tubs.len(), 1);
    let record = StationRecord::load(&store, tubs[0].id).await.unwrap();
    assert!(record.neighbours(&store).await.unwrap().is_empty());
    let here = StationRecord::load(&store, 1).await.unwrap();
    for neighbour in here.neighbours(&store).await.unwrap() {
        assert_eq!(neighbour.study.id, 1);
        assert_ne!(neighbour.station.id, 1);
        let buried = neighbour.channels.iter().filter(|c| c.channel.stream.quantity.is_in_soil()).count();
        assert_eq!(buried, 0, "what lies in the soil there says nothing of the soil here");
    }
}

/// A station without rain, air, place, soil or plan: one blade and one thermometer that read every quarter of an hour.
async fn plain() -> (Store, i64, tempfile::TempDir) {
    let (store, station, dir) = common::station().await;
    let node = store.ensure_node(station, "node 01").await.unwrap();
    let mut readings = Vec::new();
    for (serial, port, quantity, unit) in
        [("BD-1", "m10", Quantity::RawOutput, "mV"), ("DT-2", "t10", Quantity::SoilTemperature, "degC")]
    {
        let probe = Probe {
            id: 0,
            serial: serial.into(),
            model: "unheard of".into(),
            principle: ebrel_core::units::Principle::Dielectric,
            instrument_min: None,
            instrument_max: None,
            resolution: None,
        };
        let probe_id = store.ensure_probe(&probe).await.unwrap();
        let stream = store.ensure_stream(node, port, quantity, unit, None).await.unwrap();
        let placement = NewPlacement {
            node_id: node,
            port: port.into(),
            probe_id,
            depth_cm: ebrel_core::units::DepthCm::new(10.0).ok(),
            orientation: String::new(),
            starts: UnixSeconds(0),
            ends: None,
            note: String::new(),
        };
        store.place(&placement).await.unwrap();
        let swing = |i: i64| 12.0 + 3.0 * (i as f64 / 96.0 * std::f64::consts::TAU).sin();
        readings.extend((0..960).map(|i| Reading { stream, t: i * 900, raw: (swing(i) * 100.0).round() / 100.0 }));
    }
    store.add_readings(&Origin::of(Source::Hand, UnixSeconds(960 * 900)), readings).await.unwrap();
    (store, station, dir)
}

#[tokio::test]
async fn a_station_with_nothing_around_it_is_tested_drawn_and_exported() {
    let (store, station, _dir) = plain().await;
    reviewing::run(&store, station).await.unwrap();
    let record = StationRecord::load(&store, station).await.unwrap();
    assert!(record.place().is_none() && record.clock_slips().is_empty());
    assert_eq!(record.extent(), Some((UnixSeconds(0), UnixSeconds(959 * 900))));
    assert!(record.channels.iter().all(|c| !c.is_calibrated() && c.pore_space.is_none()));
    let shown = Window::new(UnixSeconds(0), UnixSeconds(10 * DAY), 100).unwrap();
    let data = window(&record, &store.flags(station).await.unwrap(), &shown, Show::Both);
    assert!(data.rain.is_empty() && data.air.is_empty() && data.strips.len() == 2);
    let raw = data.strips.iter().find(|s| !s.temperature).unwrap();
    assert!(raw.raw && raw.pores.is_none() && raw.id.contains("-raw@10"), "{}", raw.id);
    let out = counts(&record, &[], &all(0, 10 * DAY, &[]));
    assert_eq!((out.channels, out.readings, out.left_out), (2, 1920, 0));
    let nothing = record.check(&[], &Settings::default());
    assert_eq!(nothing.flags.len(), 2, "a list for each channel");
}

#[tokio::test]
async fn an_empty_station_has_an_empty_record_and_no_station_has_none() {
    let (store, station, _dir) = common::station().await;
    let record = StationRecord::load(&store, station).await.unwrap();
    assert_eq!((record.channels.len(), record.extent()), (0, None));
    assert_eq!(reviewing::run(&store, station).await.unwrap(), 0);
    assert!(reviewing::matters(&store, station).await.unwrap().is_empty());
    assert_eq!(counts(&record, &[], &all(0, DAY, &[])), Default::default());
    let missing = StationRecord::load(&store, 99).await;
    assert!(matches!(missing.err(), Some(StoreError::NotFound(_))));
}

async fn check(store: &Store, station: i64, n: i64, truth: i64, ahead: i64) {
    let check = ClockCheck { shown: UnixSeconds(truth + ahead), truth: UnixSeconds(truth), set: false };
    let entry = Entry {
        id: format!("0197-check-{n:04}"),
        log: "0197-log-0001".into(),
        station: "tub1".into(),
        at: UnixSeconds(truth),
        by: "TQ".into(),
        corrects: None,
        deed: Deed::Clock { node: "node 01".into(), check },
    };
    let mut unit = store.unit().await.unwrap();
    unit.add_field_entry(station, &entry, "T. Quill", UnixSeconds(truth)).await.unwrap();
    unit.commit().await.unwrap();
}

#[tokio::test]
async fn clock_checks_move_all_channels_of_a_node_keep_their_order_and_lose_none() {
    let (store, station, _dir) = plain().await;
    let raw: Vec<i64> = (0..960).map(|i| i * 900).collect();
    check(&store, station, 1, 5 * DAY, 300).await;
    check(&store, station, 2, 10 * DAY, 0).await;
    let record = StationRecord::load(&store, station).await.unwrap();
    assert_eq!(record.clock_checks.len(), 2);
    for channel in &record.channels {
        let times = channel.view().times;
        assert_eq!(times.len(), raw.len(), "count in, count out");
        assert!(times.windows(2).all(|w| w[0] < w[1]), "in order");
        assert!(
            times.iter().zip(&raw).all(|(t, shown)| (0..=300).contains(&(shown - t))),
            "never moved by more than it was off"
        );
        let middle = raw.iter().position(|t| *t == 5 * DAY).unwrap();
        assert!((raw[middle] - times[middle] - 300).abs() <= 1, "at the check by what it said");
    }
    let stored = store.series(record.channels[0].channel.stream.id).await.unwrap();
    assert_eq!(stored.times[..], raw[..], "as they came they stay");
}

#[tokio::test]
async fn checks_that_contradict_each_other_move_nothing_and_are_named() {
    let (store, station, _dir) = plain().await;
    check(&store, station, 1, 5 * DAY, DAY).await;
    check(&store, station, 2, 5 * DAY + 3600, -DAY).await;
    let record = StationRecord::load(&store, station).await.unwrap();
    let slips = record.clock_slips();
    assert_eq!(slips.len(), 1);
    assert!(slips[0].0 == "node 01" && slips[0].1.to_string().contains("run backwards"), "{slips:?}");
    let stored = store.series(record.channels[0].channel.stream.id).await.unwrap();
    assert_eq!(record.channels[0].view().times, &stored.times[..]);
    let entries = store.field_entries(station, None).await.unwrap();
    let told = ebrel_app::field::clock_slips(&store, station, &ebrel_core::field::Log::of(&entries)).await.unwrap();
    assert_eq!(told.len(), 2, "either may be the slip");
    assert!(told[0].1.contains("its times stay as they came"), "{}", told[0].1);
}
