//! Record packages taken in whole: out, in, out again is the same; merged, nothing is lost; from elsewhere, nothing is guessed.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "../../web/tests/common/demo.rs"]
mod demo;

use ebrel_app::bringing::{NotTaken, Report, Target, Whither, look, take};
use ebrel_app::demo::rest;
use ebrel_app::exporting::{Origins, Selection, package};
use ebrel_app::field::standing;
use ebrel_app::record::Flagged;
use ebrel_app::reviewing::run_due;
use ebrel_core::quality::Test;
use ebrel_core::series::Belief;
use ebrel_core::units::{DepthCm, Grade, Principle, Quantity, SpanSeconds, UnixSeconds, Verdict};
use ebrel_formats::package::{
    CalibrationRow, ChannelRow, ClockCheckRow, Package, ReadingRow, Rows, read_zip, write_zip,
};
use ebrel_store::Store;
use ebrel_store::batches::{Origin, Source};
use ebrel_store::packages::BroughtPackage;
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use ebrel_store::verdicts::{Decision, Mark};
use std::io::Cursor;

const NOW: UnixSeconds = UnixSeconds(1_790_000_000);

async fn empty() -> (Store, tempfile::TempDir) {
    let dir = tempfile::tempdir().unwrap();
    (Store::open(&dir.path().join("ebrel.db")).await.unwrap(), dir)
}

/// All that stations hold, as a package.
async fn out(store: &Store, stations: &[i64], belief: Belief) -> Vec<u8> {
    let mut parts = Vec::new();
    for station in stations {
        parts.push(Flagged::load(store, *station).await.unwrap());
    }
    let ends = parts.iter().filter_map(|p| p.record.extent());
    let (from, to) = ends.fold((i64::MAX, i64::MIN), |(a, b), e| (a.min(e.0.0), b.max(e.1.0 + 1)));
    let selection = Selection { from: UnixSeconds(from), to: UnixSeconds(to), quantities: Vec::new(), belief };
    let origins = Origins::load(store, &parts).await.unwrap();
    let mut zip = Cursor::new(Vec::new());
    write_zip(package(&parts, &origins, &selection), &mut zip).unwrap();
    zip.into_inner()
}

fn target(whither: Whither) -> Target {
    Target { whither, codes: std::collections::BTreeMap::new(), by: "R. Teal".into(), now: NOW }
}

fn new_study() -> Target {
    target(Whither::New { name: "Ostrelle Wood".into(), owner: None })
}

async fn brought(store: &Store) -> BroughtPackage {
    let mut package = BroughtPackage {
        id: 0,
        file_name: "wood.zip".into(),
        sha256: "00".into(),
        received_at: NOW,
        received_by: "R. Teal".into(),
        study_id: None,
        report: None,
    };
    package.id = store.package_brought(&package).await.unwrap();
    package
}

async fn taken(store: &Store, package: &Package, target: &Target) -> Result<Report, NotTaken> {
    let report = take(store, package, target, &brought(store).await).await?;
    for r in report.stations.iter().map(|s| s.readings) {
        assert_eq!(r.given, r.new + r.known + r.contradicting + r.empty, "{r:?}");
    }
    Ok(report)
}

/// What differs between two packages, table by table: the first line of each.
fn difference(one: &[u8], other: &[u8]) -> Vec<String> {
    let tables = |bytes: &[u8]| {
        let mut zip = zip::ZipArchive::new(Cursor::new(bytes.to_vec())).unwrap();
        (0..zip.len())
            .map(|i| {
                let mut entry = zip.by_index(i).unwrap();
                let mut text = String::new();
                std::io::Read::read_to_string(&mut entry, &mut text).unwrap();
                (entry.name().unwrap().into_owned(), text)
            })
            .collect::<std::collections::BTreeMap<_, _>>()
    };
    let (one, other) = (tables(one), tables(other));
    let mut told = Vec::new();
    for (name, text) in &one {
        let Some(again) = other.get(name) else {
            told.push(format!("{name} is missing"));
            continue;
        };
        if let Some((a, b)) = text.lines().zip(again.lines()).find(|(a, b)| a != b) {
            told.push(format!("{name}: {a:.300}\n  became {b:.300}"));
        } else if text.len() != again.len() {
            told.push(format!("{name}: {} lines became {}", text.lines().count(), again.lines().count()));
        }
    }
    told
}

#[tokio::test(flavor = "multi_thread")]
async fn out_into_an_empty_ebrel_and_out_again_is_the_same_to_the_byte() {
    let dir = tempfile::tempdir().unwrap();
    demo::copy_into(dir.path()).await;
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    rest(&store, |_| {}).await.unwrap();
    let all: Vec<i64> = store.stations(1).await.unwrap().iter().map(|s| s.id).collect();
    let flags = store.flags(1).await.unwrap();
    let decision = |test: Test, verdict, reason: &str, i: usize| {
        let f = flags.iter().filter(|f| f.flag.test == test).nth(i).unwrap();
        let (reason, by) = (reason.to_owned(), "L. Odran".to_owned());
        Decision {
            mark: None,
            id: 0,
            stream_id: f.stream_id,
            test,
            start: f.flag.start,
            end: f.flag.end,
            verdict,
            reason,
            by,
            at: NOW,
        }
    };
    let decided = [
        decision(Test::Spike, Verdict::LeftOut, "a boar, \"again\" (θ)", 0),
        decision(Test::Spike, Verdict::Kept, "", 1),
        decision(Test::Step, Verdict::Kept, "=real", 0),
    ];
    // What a person saw comes along as a finding of its own, and so do the numbers by which the tests ran.
    let other = flags.iter().find(|f| f.flag.test == Test::Step).unwrap();
    let seen = Decision {
        mark: Some(Mark { grade: Grade::Doubtful, readings: 97 }),
        start: other.flag.start + SpanSeconds(40 * 86_400),
        end: other.flag.start + SpanSeconds(41 * 86_400),
        ..decision(Test::Step, Verdict::Kept, "it leans, “θ”", 0)
    };
    store.decide(&decided).await.unwrap();
    store.decide(&[seen]).await.unwrap();
    let numbers = [(Test::Noise, "times", 9.0), (Test::Spike, "sigmas", 9.5)];
    store.keep_settings(1, Some(2), &numbers, "L. Odran", NOW).await.unwrap();
    run_due(&store).await.unwrap();
    // The second station's clock was wrong; the other selection leaves the wrong readings out.
    let stations = [vec![2], all];
    for (stations, belief) in stations.iter().zip([Belief { leave_out: Vec::new() }, Belief::default()]) {
        let first = out(&store, stations, belief.clone()).await;
        let package = read_zip(&first, "wood.zip").unwrap();
        let (copy, _dir) = empty().await;
        let looked = look(&copy, &package, &new_study()).await.unwrap();
        assert!(copy.studies().await.unwrap().is_empty(), "looking leaves nothing behind");
        let report = taken(&copy, &package, &new_study()).await.unwrap();
        let of =
            |report: &Report| report.stations.iter().map(|s| (s.readings.given, s.others.clone())).collect::<Vec<_>>();
        assert_eq!(of(&looked), of(&report), "what was shown is what became of it");
        assert!(report.stations.iter().all(|s| s.new && s.remarks.is_empty()), "{report:#?}");
        let here: Vec<i64> = copy.stations(report.study).await.unwrap().iter().map(|s| s.id).collect();
        assert!(copy.stations_to_test().await.unwrap().is_empty(), "its flags stand until something changes");
        let stands = standing(&copy, report.study, NOW).await.unwrap();
        assert!(stands.iter().all(|s| s.logs.is_empty()), "clock checks of a package are no log that goes on");
        let again = out(&copy, &here, belief).await;
        assert_eq!(difference(&first, &again), Vec::<String>::new());
        assert!(first == again, "to the byte");
        assert_eq!(package.tests.iter().map(|t| t.by.as_str()).collect::<Vec<_>>(), ["L. Odran"]);
        let second = &package.tests[0];
        assert_eq!(second.numbers.keys().collect::<Vec<_>>(), ["noise.times", "spike.sigmas"]);
        if stations.len() > 1 {
            let mut own = Vec::new();
            for station in &here {
                own.extend(copy.flags(*station).await.unwrap().into_iter().filter(|f| f.is_own()));
            }
            assert_eq!(own.iter().map(|f| f.flag.readings).collect::<Vec<_>>(), [97]);
        }
    }

    // Merged into where it came from it changes nothing.
    let whole = out(&store, &stations[1], Belief::default()).await;
    let package = read_zip(&whole, "wood.zip").unwrap();
    let report = taken(&store, &package, &target(Whither::Study(1))).await.unwrap();
    assert_eq!(report.stations.len(), stations[1].len());
    for s in &report.stations {
        assert!(!s.new && s.readings.known + s.readings.empty == s.readings.given, "{s:#?}");
        assert!(s.others.iter().all(|o| o.1 == 0), "{s:#?}");
    }
    assert!(out(&store, &stations[1], Belief::default()).await == whole);
}

fn foreign() -> Package {
    let time = |i: i64| UnixSeconds(1_772_323_200 + i * 900);
    let row = |channel: &str, quantity: Quantity, depth_cm| ChannelRow {
        channel: channel.into(),
        station: "gate".into(),
        quantity: quantity.code().into(),
        unit: quantity.unit().into(),
        depth_cm,
        ..ChannelRow::default()
    };
    let moisture: Rows =
        (0..100).map(|i| ReadingRow { raw: Some(i as f64), ..ReadingRow::plain(time(i), 0.3) }).collect();
    let mut warmth: Vec<ReadingRow> = (0..100).map(|i| ReadingRow::plain(time(i), 8.0)).collect();
    warmth[3].value = f64::NAN;
    warmth.push(ReadingRow { value: 9.0, ..warmth[5] });
    warmth.push(warmth[6]);
    Package {
        channels: vec![
            (row("wet θ", Quantity::WaterContent, Some(15.0)), moisture),
            (row("warm", Quantity::SoilTemperature, Some(15.0)), warmth.into_iter().collect()),
        ],
        ..Package::default()
    }
}

#[tokio::test]
async fn a_package_of_two_tables_from_elsewhere_is_taken_and_what_it_leaves_open_is_said() {
    let (store, _dir) = empty().await;
    let report = taken(&store, &foreign(), &new_study()).await.unwrap();
    let gate = &report.stations[0];
    let r = gate.readings;
    assert_eq!((r.given, r.new, r.known, r.contradicting, r.empty), (202, 199, 1, 1, 1));
    let told = gate.remarks.join("\n");
    for words in ["No serial for wet θ and 1 more", "do not follow from their raw values", "“wet θ raw”"] {
        assert!(told.contains(words), "{words}: {told}");
    }
    let streams = store.streams(gate.id).await.unwrap();
    let raw = streams.iter().find(|s| s.port == "wet θ raw").unwrap();
    assert_eq!(store.series(raw.id).await.unwrap().values[99], 99.0, "raw values are kept as well");
    assert_eq!(store.stations_to_test().await.unwrap(), [gate.id], "nobody has tested it yet");
    let again = taken(&store, &foreign(), &target(Whither::Study(report.study))).await.unwrap();
    assert_eq!(again.stations[0].readings.new, 0);
    assert_eq!(store.stations(report.study).await.unwrap().len(), 1);
}

#[tokio::test]
async fn what_cannot_stand_is_named_by_its_row_and_nothing_is_taken() {
    let (store, _dir) = empty().await;
    let mut wrong = foreign();
    wrong.channels[0].0.depth_cm = Some(1e9);
    wrong.channels[1].0.unit = "degF".into();
    wrong.channels[1].0.station = String::new();
    let Err(NotTaken::Slips(slips)) = taken(&store, &wrong, &new_study()).await else { panic!("it was taken") };
    let told = slips.join("\n");
    for words in
        ["channels.csv, row 1", "channels.csv, row 2: soil_temperature is given in degC", "the station has no code"]
    {
        assert!(told.contains(words), "{words}: {told}");
    }
    assert!(store.studies().await.unwrap().is_empty());

    let mut named = foreign();
    named.channels.iter_mut().for_each(|c| c.0.serial = format!("X-{}", c.0.channel));
    let first = taken(&store, &named, &new_study()).await.unwrap();
    let elsewhere = taken(&store, &named, &target(Whither::New { name: "Reed bed".into(), owner: None })).await;
    let Err(NotTaken::Slips(slips)) = elsewhere else { panic!("it was taken") };
    assert!(slips[0].contains("is there in the study “Ostrelle Wood”"), "{slips:?}");
    let mut renamed = target(Whither::New { name: "Reed bed".into(), owner: None });
    renamed.codes.insert("gate".into(), "reed".into());
    let second = taken(&store, &named, &renamed).await.unwrap();
    assert_ne!(first.study, second.study);
    assert_eq!(second.stations[0].readings.new, 199);

    let package = brought(&store).await;
    let into = target(Whither::Study(first.study));
    take(&store, &named, &into, &package).await.unwrap();
    assert!(matches!(take(&store, &named, &into, &package).await, Err(NotTaken::Already)), "from two tabs");
}

/// A station whose ports are as awkward as they may be: two quantities at one port, a probe that came back to its port, and more
/// deliveries than one statement takes.
async fn awkward(store: &Store) -> i64 {
    let text = String::new;
    let (name, question) = ("Bog “θ”".to_owned(), text());
    let study = Study { id: 0, name, question, utc_offset_minutes: -210, fixed_now: None };
    let study_id = store.add_study(&study, None).await.unwrap();
    let (latitude, longitude, elevation_m) = (None, None, None);
    let (code, name) = ("bog".to_owned(), "Bog".to_owned());
    let (treatment, cover, known_bias) = (text(), text(), text());
    let station =
        Station { id: 0, study_id, code, name, latitude, longitude, elevation_m, treatment, cover, known_bias };
    let station = store.add_station(&station, &[]).await.unwrap();
    let node = store.ensure_node(station, "node 1").await.unwrap();
    let wet = store.ensure_stream(node, "A1", Quantity::WaterContent, "m3/m3", Some(900)).await.unwrap();
    let warm = store.ensure_stream(node, "A1", Quantity::SoilTemperature, "degC", Some(900)).await.unwrap();
    let probe = Probe {
        id: 0,
        serial: "=1+1".into(),
        model: "three-rod, \"digital\"".into(),
        principle: Principle::Dielectric,
        instrument_min: None,
        instrument_max: Some(1.0),
        resolution: Some(0.001),
    };
    let probe_id = store.ensure_probe(&probe).await.unwrap();
    for (starts, ends) in [(0, Some(450_000)), (460_000, None)] {
        let depth_cm = DepthCm::new(7.5).ok();
        let (starts, ends) = (UnixSeconds(starts), ends.map(UnixSeconds));
        let (port, orientation, note) = ("A1".into(), "level".into(), "repacked seat".into());
        store
            .place(&NewPlacement { node_id: node, port, probe_id, depth_cm, orientation, starts, ends, note })
            .await
            .unwrap();
    }
    for i in 0..1100 {
        let raw = |stream, raw| Reading { stream, t: i * 900, raw };
        let origin = Origin::of(Source::Message, UnixSeconds(i * 900 + 7));
        store.add_readings(&origin, vec![raw(wet, 0.2 + i as f64 / 1e4), raw(warm, -0.0)]).await.unwrap();
    }
    station
}

#[tokio::test]
async fn awkward_ports_have_names_of_their_own_and_every_message_is_remembered() {
    let (store, _dir) = empty().await;
    let station = awkward(&store).await;
    let first = out(&store, &[station], Belief::default()).await;
    let package = read_zip(&first, "bog.zip").unwrap();
    let names: Vec<&str> = package.channels.iter().map(|c| c.0.channel.as_str()).collect();
    let distinct: std::collections::BTreeSet<&&str> = names.iter().collect();
    assert_eq!((names.len(), distinct.len()), (4, 4), "{names:?}");
    assert!(package.channels.iter().all(|c| c.0.twin_of.is_empty()), "a probe is no twin of itself");
    assert!(package.deliveries.len() > 1000, "{}", package.deliveries.len());
    let (copy, _dir) = empty().await;
    let report = taken(&copy, &package, &new_study()).await.unwrap();
    assert!(report.stations[0].remarks.is_empty(), "{report:#?}");
    assert_eq!(report.stations[0].others, [("placements".to_owned(), 2, 0)], "one each time it was put in");
    store.rebuild_packed().await.unwrap();
    copy.rebuild_packed().await.unwrap();
    let again = target(Whither::New { name: "Bog “θ”".into(), owner: None });
    let (third, _dir) = empty().await;
    let report = taken(&third, &package, &again).await.unwrap();
    let here = copy.stations(1).await.unwrap()[0].id;
    for (of, station) in [(&store, station), (&third, report.stations[0].id)] {
        assert_eq!(difference(&first, &out(of, &[station], Belief::default()).await), Vec::<String>::new());
    }
    let renamed = difference(&first, &out(&copy, &[here], Belief::default()).await);
    assert!(renamed.len() == 1 && renamed[0].starts_with("datapackage.json"), "only its study is another: {renamed:?}");
}

fn calibration(form: &str, from: i64, coefficients: &str) -> CalibrationRow {
    CalibrationRow {
        channel: "wet θ".into(),
        valid_from: UnixSeconds(from),
        form: form.into(),
        coefficients: coefficients.into(),
        x_min: None,
        x_max: None,
        standard_error: Some(0.01),
        source: "elsewhere".into(),
        particulars: String::new(),
    }
}

#[tokio::test]
async fn a_calibration_from_elsewhere_makes_the_values_of_their_raw_ones() {
    let (store, _dir) = empty().await;
    let mut package = foreign();
    package.channels.truncate(1);
    let rows: Rows =
        package.channels[0].1.iter().map(|r| ReadingRow { value: 0.1 + 0.002 * r.raw.unwrap(), ..r }).collect();
    package.channels[0].1 = rows;
    package.calibrations = vec![calibration("line", 0, "[0.1,0.002]")];
    let report = taken(&store, &package, &new_study()).await.unwrap();
    let streams = store.streams(report.stations[0].id).await.unwrap();
    assert_eq!(streams.len(), 1, "the raw values alone are kept");
    assert_eq!(
        (streams[0].quantity, store.series(streams[0].id).await.unwrap().values[99]),
        (Quantity::RawOutput, 99.0)
    );
    let part = Flagged::load(&store, report.stations[0].id).await.unwrap();
    let shown = part.record.channels[0].values();
    assert!((shown[99] - 0.298).abs() < 1e-12, "{}", shown[99]);
    assert!(
        part.record.channels[0].history.curves()[0].curve.x_max.is_infinite(),
        "a range that nobody told has no end"
    );

    package.calibrations = vec![calibration("line", 0, "[]"), calibration("line", 0, "none")];
    let Err(NotTaken::Slips(slips)) = taken(&store, &package, &new_study()).await else { panic!("it was taken") };
    assert_eq!(slips.iter().filter(|s| s.contains("make no curve")).count(), 2, "{slips:?}");
}

#[tokio::test]
async fn an_end_that_names_the_last_moment_loses_no_reading_and_what_lies_outside_is_said() {
    let (store, _dir) = empty().await;
    let mut package = foreign();
    let last = package.channels[1].1.times[99];
    package.channels[1].0.end = Some(UnixSeconds(last));
    package.channels[0].0.start = Some(UnixSeconds(package.channels[0].1.times[10]));
    let report = taken(&store, &package, &new_study()).await.unwrap();
    let part = Flagged::load(&store, report.stations[0].id).await.unwrap();
    let warm = part.record.channels.iter().find(|c| c.quantity() == Quantity::SoilTemperature).unwrap();
    assert_eq!(warm.view().times.last(), Some(&last));
    let told = report.stations[0].remarks.join("\n");
    assert!(told.contains("10 readings of wet θ lie before its start"), "{told}");
}

#[tokio::test]
async fn a_clock_that_was_checked_otherwise_here_is_never_mixed_with_another() {
    let (store, _dir) = empty().await;
    let mut package = foreign();
    let check = |truth: i64, ahead: i64| ClockCheckRow {
        node: "logger".into(),
        node_time: UnixSeconds(truth + ahead),
        true_time: UnixSeconds(truth),
        uncertainty_s: None,
        note: String::new(),
    };
    let end = package.channels[0].1.times[99];
    // Times that were corrected already, without what the clock showed: the checks are not needed.
    package.clock_checks = vec![check(end, 60)];
    let report = taken(&store, &package, &new_study()).await.unwrap();
    assert!(report.stations[0].remarks.iter().any(|r| r.contains("come at true times")), "{report:#?}");
    let part = Flagged::load(&store, report.stations[0].id).await.unwrap();
    assert_eq!(part.record.channels[0].view().times.last(), Some(&end), "and nothing is corrected twice");

    // With what it showed, and then with another check of the same clock.
    let shown = |rows: &Rows| -> Rows {
        let first = rows.times[0];
        let of = |t: i64| UnixSeconds(t + ((t - first) as f64 * 60.0 / (end - first) as f64).round() as i64);
        rows.iter().map(|r| ReadingRow { node_time: Some(of(r.time.0)), ..r }).collect()
    };
    let (other, _dir) = empty().await;
    package.channels.truncate(1);
    package.channels[0].1 = shown(&package.channels[0].1);
    let report = taken(&other, &package, &new_study()).await.unwrap();
    assert!(report.stations[0].others.contains(&("clock checks".to_owned(), 1, 0)), "{report:#?}");
    let part = Flagged::load(&other, report.stations[0].id).await.unwrap();
    let record = &part.record.channels[0];
    assert_eq!(
        (record.view().times.last(), record.node_time(UnixSeconds(end))),
        (Some(&end), Some(UnixSeconds(end + 60)))
    );
    package.clock_checks = vec![check(end, 90)];
    let Err(NotTaken::Slips(slips)) = taken(&other, &package, &target(Whither::Study(report.study))).await else {
        panic!("it was taken")
    };
    assert!(slips[0].contains("has other checks here"), "{slips:?}");
}
