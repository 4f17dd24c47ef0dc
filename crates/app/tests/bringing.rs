//! Record packages taken in whole: out, in, out again is the same; merged, nothing is lost; from elsewhere, nothing is guessed.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "../../web/tests/common/demo.rs"]
mod demo;

use ebrel_app::bringing::{NotTaken, Report, Target, Whither, look, take};
use ebrel_app::demo::rest;
use ebrel_app::exporting::{Origins, Part, Selection, package};
use ebrel_app::field::standing;
use ebrel_core::quality::Test;
use ebrel_core::series::Belief;
use ebrel_core::units::{Quantity, UnixSeconds, Verdict};
use ebrel_formats::package::{ChannelRow, Package, ReadingRow, Rows, read_zip, write_zip};
use ebrel_store::Store;
use ebrel_store::packages::BroughtPackage;
use ebrel_store::verdicts::Decision;
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
        parts.push(Part::load(store, *station).await.unwrap());
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
    store.decide(&decided).await.unwrap();
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
