//! A cause is mended, shown before, and taken back: the findings go and come again, and no reading moves.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;
#[path = "common/probe.rs"]
mod probe;

use ebrel_app::record::StationRecord;
use ebrel_app::repairing::{mend, propose, undo};
use ebrel_app::reviewing;
use ebrel_core::quality::{CauseKind, Mend, Test};
use ebrel_core::units::{DepthCm, Principle, Quantity, UnixSeconds};
use ebrel_simulator::years::{Climate, Ground, Kind, Severity, YearPlan, year};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::{Store, StoreError};

const NOW: UnixSeconds = UnixSeconds(2_000_000_000);

/// A station of the simulator with one thing wrong with it.
async fn station(kind: Kind) -> (Store, i64, tempfile::TempDir) {
    let (store, station, dir) = common::station().await;
    let node = store.ensure_node(station, "node 01").await.unwrap();
    let plan = YearPlan {
        seed: 33,
        climate: Climate::Mild,
        ground: Ground::SiltLoam,
        gauge: true,
        days: if kind == Kind::ClockDrift { 300 } else { 120 },
        faults: vec![(kind, Severity::Blatant)],
    };
    let made = year(&plan);
    assert_eq!(made.truth.len(), 1, "the year has its fault");
    // A step jumps back at its end: the record ends before it.
    let ends =
        if kind == Kind::Step { made.truth[0].windows.iter().map(|w| w.1).max().unwrap() - 86_400 } else { made.end };
    let mut readings = Vec::new();
    let mut placed: Vec<String> = Vec::new();
    for c in &made.channels {
        let stream = store.ensure_stream(node, &c.port, c.quantity, c.quantity.unit(), Some(900)).await.unwrap();
        let kept = c.times.iter().zip(&c.values).filter(|(t, _)| **t <= ends);
        readings.extend(kept.map(|(t, v)| Reading { stream, t: *t, raw: *v }));
        if placed.contains(&c.port) {
            continue;
        }
        placed.push(c.port.clone());
        probe::put(&store, (node, &c.port), &format!("BD-{}", c.port), c.depth_cm, made.start).await;
    }
    store.add_readings(&Origin::of(Source::Hand, UnixSeconds(made.end)), readings).await.unwrap();
    reviewing::run(&store, station).await.unwrap();
    (store, station, dir)
}

/// Flags of some tests, without their numbers.
async fn flags(store: &Store, station: i64, tests: &[Test]) -> Vec<(i64, Test, i64, i64)> {
    let all = store.flags(station).await.unwrap();
    let mut found: Vec<_> = all
        .iter()
        .filter(|f| tests.contains(&f.flag.test))
        .map(|f| (f.stream_id, f.flag.test, f.flag.start.0, f.flag.end.0))
        .collect();
    found.sort_unstable();
    found
}

async fn count(store: &Store, station: i64) -> usize {
    let mut n = 0;
    for stream in store.streams(station).await.unwrap() {
        n += store.series(stream.id).await.unwrap().len();
    }
    n
}

async fn mended_and_undone(kind: Kind, cause: CauseKind, tests: &[Test]) {
    let (store, station, _dir) = station(kind).await;
    let before = flags(&store, station, tests).await;
    assert!(!before.is_empty(), "{kind:?} is found");
    let (placements, readings) = (store.placements(station).await.unwrap(), count(&store, station).await);
    let causes = store.causes(station).await.unwrap();
    let mendable = causes.iter().find(|c| c.kind == cause && c.mend.is_some()).unwrap();

    let proposal = propose(&store, station, mendable.id, None).await.unwrap();
    let gone = proposal.difference.gone.iter().filter(|t| tests.contains(&t.flag.test)).count();
    assert!(gone > 0 && !proposal.changes.is_empty(), "{:?}", proposal.difference);
    assert_eq!(store.placements(station).await.unwrap(), placements, "a proposal changes nothing");

    let id = mend(&store, station, mendable.id, (None, "labels looked at, “θ”"), ("N. Arvel", NOW)).await.unwrap();
    let after = flags(&store, station, tests).await;
    assert!(after.len() < before.len(), "{after:?}");
    assert_ne!(store.placements(station).await.unwrap(), placements);
    let kept = store.repairs(station).await.unwrap();
    assert_eq!((kept.len(), kept[0].repair.why.as_str(), kept[0].undone.is_none()), (1, "labels looked at, “θ”", true));
    let again = mend(&store, station, mendable.id, (None, "again"), ("N. Arvel", NOW)).await;
    assert!(matches!(again, Err(StoreError::Rule(_))), "the cause is gone: {again:?}");

    undo(&store, station, id, "T. Quill", NOW).await.unwrap();
    assert_eq!(flags(&store, station, tests).await, before, "as it was");
    assert_eq!(store.placements(station).await.unwrap(), placements);
    assert_eq!(count(&store, station).await, readings, "no reading was touched");
    assert_eq!(store.repairs(station).await.unwrap()[0].undone, Some(("T. Quill".into(), NOW)));
    assert!(matches!(undo(&store, station, id, "T. Quill", NOW).await, Err(StoreError::Stale)), "once");
}

#[tokio::test]
async fn exchanged_ports_are_mended_and_taken_back() {
    mended_and_undone(Kind::Exchange, CauseKind::SwappedPorts, &[Test::SwappedPorts]).await;
}

#[tokio::test]
async fn a_wrong_depth_is_mended_and_taken_back() {
    mended_and_undone(Kind::WrongDepth, CauseKind::WrongDepth, &[Test::HeatMisorder]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn who_mends_twice_at_once_mends_once() {
    for _ in 0..4 {
        let (store, station, _dir) = station(Kind::Exchange).await;
        let causes = store.causes(station).await.unwrap();
        let id = causes.iter().find(|c| c.kind == CauseKind::SwappedPorts).unwrap().id;
        let one = || mend(&store, station, id, (None, "labels"), ("N. Arvel", NOW));
        let (a, b, c) = tokio::join!(one(), one(), one());
        assert_eq!([a.is_ok(), b.is_ok(), c.is_ok()].iter().filter(|ok| **ok).count(), 1, "{a:?} {b:?} {c:?}");
        assert_eq!(store.repairs(station).await.unwrap().len(), 1);
        assert!(flags(&store, station, &[Test::SwappedPorts]).await.is_empty(), "mended, not exchanged back");
    }
}

#[tokio::test]
async fn a_mend_that_somebody_built_upon_is_not_taken_back_over_their_heads() {
    let (store, station, _dir) = station(Kind::Exchange).await;
    let causes = store.causes(station).await.unwrap();
    let cause = causes.iter().find(|c| c.kind == CauseKind::SwappedPorts).unwrap();
    let id = mend(&store, station, cause.id, (None, "labels"), ("N. Arvel", NOW)).await.unwrap();
    let changed = store.repairs(station).await.unwrap().remove(0).repair.changed;
    let made = changed.iter().find(|c| c.was.is_none()).unwrap();
    let corrected =
        NewPlacement { note: "looked at again".into(), depth_cm: DepthCm::new(7.0).ok(), ..made.new.clone() };
    store.correct_placement(made.id, &made.new, &corrected).await.unwrap();
    let now = store.placements(station).await.unwrap();
    assert!(matches!(undo(&store, station, id, "T. Quill", NOW).await, Err(StoreError::Stale)));
    assert_eq!(store.placements(station).await.unwrap(), now, "all or nothing");
    assert!(store.repairs(station).await.unwrap()[0].undone.is_none());
}

#[tokio::test]
async fn who_knows_the_depth_better_than_the_wave_types_it() {
    let (store, station, _dir) = station(Kind::WrongDepth).await;
    let causes = store.causes(station).await.unwrap();
    let cause = causes.iter().find(|c| c.kind == CauseKind::WrongDepth && c.mend.is_some()).unwrap();
    let known = DepthCm::new(12.5).ok();
    let proposal = propose(&store, station, cause.id, known).await.unwrap();
    assert_eq!(proposal.changes[0].new.depth_cm, Some(12.5));
    mend(&store, station, cause.id, (known, "by the notebook of the day"), ("N. Arvel", NOW)).await.unwrap();
    let at_it = store.placements(station).await.unwrap().iter().filter(|p| p.depth_cm == Some(12.5)).count();
    assert_eq!(at_it, 1);
    let kept = store.repairs(station).await.unwrap().remove(0).repair.mend;
    assert!(matches!(kept, Mend::Depth { depth_cm: 12.5, .. }), "{kept:?}");
}

#[tokio::test]
async fn a_probe_that_lies_another_way_begins_anew_and_settles() {
    let (store, station, _dir) = station(Kind::Step).await;
    let steps = flags(&store, station, &[Test::Step]).await;
    let causes = store.causes(station).await.unwrap();
    let cause =
        causes.iter().find(|c| c.kind == CauseKind::MovedProbe).unwrap_or_else(|| panic!("{steps:?} {causes:?}"));
    let Some(Mend::Anew { at, .. }) = cause.mend else { panic!("{cause:?}") };
    let proposal = propose(&store, station, cause.id, None).await.unwrap();
    assert!(proposal.difference.gone.iter().any(|t| t.flag.test == Test::Step), "the jump is no finding any more");
    let settles = proposal.difference.come.iter().find(|t| t.flag.test == Test::Settling).unwrap();
    assert_eq!(settles.flag.start, at);
    let before = store.placements(station).await.unwrap();
    let id = mend(&store, station, cause.id, (None, "a badger dug there"), ("N. Arvel", NOW)).await.unwrap();
    let after = store.placements(station).await.unwrap();
    assert_eq!(after.len(), before.len() + 1);
    assert!(after.iter().any(|p| p.starts == at && p.note.starts_with("lies another way")));
    assert!(flags(&store, station, &[Test::Step]).await.is_empty());
    assert!(flags(&store, station, &[Test::Settling]).await.iter().any(|f| f.2 == at.0));
    undo(&store, station, id, "T. Quill", NOW).await.unwrap();
    assert_eq!(store.placements(station).await.unwrap(), before);
    assert_eq!(flags(&store, station, &[Test::Step]).await, steps);
}

/// How many readings of each channel stand more than three seconds off the whole quarters of an hour.
async fn off_the_grid(store: &Store, station: i64) -> Vec<usize> {
    let record = StationRecord::load(store, station).await.unwrap();
    let off = |t: &&i64| ((**t + 450).rem_euclid(900) - 450).abs() > 3;
    record.channels.iter().map(|c| c.view().times.iter().filter(off).count()).collect()
}

#[tokio::test]
async fn a_clock_that_drifts_is_held_against_its_grid_and_let_go_again() {
    let (store, station, _dir) = station(Kind::ClockDrift).await;
    let off = off_the_grid(&store, station).await;
    assert!(off.iter().all(|n| *n > 90 * 96 - 200), "for a quarter of a year: {off:?}");
    let (found, readings) = (flags(&store, station, &[Test::Clock]).await, count(&store, station).await);
    let causes = store.causes(station).await.unwrap();
    let cause = causes.iter().find(|c| c.kind == CauseKind::ClockWrong && c.mend.is_some()).unwrap();
    let proposal = propose(&store, station, cause.id, None).await.unwrap();
    assert!(proposal.changes.is_empty() && !proposal.difference.gone.is_empty(), "{:?}", proposal.difference);
    assert_eq!(off_the_grid(&store, station).await, off, "a proposal changes nothing");

    let id = mend(&store, station, cause.id, (None, "its log says so"), ("N. Arvel", NOW)).await.unwrap();
    let after = off_the_grid(&store, station).await;
    assert!(
        after.iter().all(|n| *n <= 1),
        "the first that a clock stamps when it was set back stands among the last before: {after:?}"
    );
    assert!(flags(&store, station, &[Test::Clock]).await.is_empty());
    let record = StationRecord::load(&store, station).await.unwrap();
    assert!(record.channels.iter().all(|c| c.view().times.windows(2).all(|w| w[0] < w[1])), "in order still");
    assert_eq!(count(&store, station).await, readings);

    undo(&store, station, id, "T. Quill", NOW).await.unwrap();
    assert_eq!(off_the_grid(&store, station).await, off);
    assert_eq!(flags(&store, station, &[Test::Clock]).await, found, "as it was");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_drifts_of_one_clock_are_two_mends_and_each_is_made_once() {
    let (store, station, _dir) = common::station().await;
    let node = store.ensure_node(station, "node θ").await.unwrap();
    // Fast from day 30 to 70 and slow from day 100 to 150.
    let shown = |t: i64| {
        let day = |d: i64| d * 86_400;
        let since = |from: i64, to: i64| (day(from)..day(to)).contains(&t).then(|| (t - day(from)) as f64 / 86_400.0);
        t + (since(30, 70).unwrap_or(0.0) * 6.0 - since(100, 150).unwrap_or(0.0) * 5.0).round() as i64
    };
    let mut readings = Vec::new();
    for port in ["a", "b", "c"] {
        let stream = store.ensure_stream(node, port, Quantity::SoilTemperature, "degC", Some(900)).await.unwrap();
        let probe = Probe {
            id: 0,
            serial: format!("T-{port}"),
            model: "made up".into(),
            principle: Principle::Thermometer,
            instrument_min: None,
            instrument_max: None,
            resolution: None,
        };
        let placed = NewPlacement {
            node_id: node,
            port: port.into(),
            probe_id: store.ensure_probe(&probe).await.unwrap(),
            depth_cm: DepthCm::new(10.0).ok(),
            orientation: String::new(),
            starts: UnixSeconds(0),
            ends: None,
            note: String::new(),
        };
        store.place(&placed).await.unwrap();
        let wave =
            |t: i64| ((12.0 + 4.0 * (t as f64 / 86_400.0 * std::f64::consts::TAU).sin()) * 100.0).round() / 100.0;
        readings.extend((1..200 * 96i64).map(|i| Reading { stream, t: shown(i * 900), raw: wave(i * 900) }));
    }
    store.add_readings(&Origin::of(Source::Hand, NOW), readings).await.unwrap();
    reviewing::run(&store, station).await.unwrap();
    let drifts = async || {
        let causes = store.causes(station).await.unwrap();
        causes.into_iter().filter(|c| c.kind == CauseKind::ClockWrong && c.mend.is_some()).collect::<Vec<_>>()
    };
    let both = drifts().await;
    assert_eq!(both.len(), 2, "{both:?}");

    let one = || mend(&store, station, both[0].id, (None, "its log"), ("N. Arvel", NOW));
    let (a, b) = tokio::join!(one(), one());
    assert_eq!([a.is_ok(), b.is_ok()].iter().filter(|ok| **ok).count(), 1, "from two tabs once: {a:?} {b:?}");
    let left = drifts().await;
    assert_eq!(left.len(), 1, "the other waits still: {left:?}");
    assert_eq!(left[0].mend, both[1].mend, "and is the same");
    mend(&store, station, left[0].id, (None, "its log"), ("N. Arvel", NOW)).await.unwrap();
    assert!(drifts().await.is_empty());
    assert!(off_the_grid(&store, station).await.iter().all(|n| *n <= 2), "{:?}", off_the_grid(&store, station).await);

    // Taken back in the order in which they were made.
    let first = store.repairs(station).await.unwrap().pop().unwrap();
    undo(&store, station, first.id, "T. Quill", NOW).await.unwrap();
    assert_eq!(drifts().await.len(), 1, "the first waits again, the second stands");
    let record = StationRecord::load(&store, station).await.unwrap();
    assert!(!record.holds_clock("node θ"), "nobody held it against a clock");
    assert_eq!(record.clock_checks.len(), 2);
    assert!(record.clock_checks.iter().all(|c| c.by_grid));
}
