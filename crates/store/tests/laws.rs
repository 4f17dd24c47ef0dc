//! Laws of the store: whatever is asked in whatever order, one port holds one probe, and every reading is counted once.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;

use common::{HAND, Rig, rig};
use ebrel_core::quality::Test;
use ebrel_core::roles::Role;
use ebrel_core::units::{Quantity, UnixSeconds, Verdict};
use ebrel_store::members::{Invitation, Within};
use ebrel_store::placements::NewPlacement;
use ebrel_store::readings::Reading;
use ebrel_store::runs::Run;
use ebrel_store::verdicts::Decision;
use ebrel_store::{Store, StoreError};
use std::collections::BTreeMap;

/// Numbers that look random and are the same every time.
struct Dice(u64);

impl Dice {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }

    fn pick<'a, T>(&mut self, of: &'a [T]) -> &'a T {
        &of[self.below(of.len() as u64) as usize]
    }
}

/// First of two placements that share a port at some moment.
fn overlap(placements: &[NewPlacement]) -> Option<(&NewPlacement, &NewPlacement)> {
    let end = |p: &NewPlacement| p.ends.map_or(i64::MAX, |t| t.0);
    placements.iter().enumerate().find_map(|(i, a)| {
        let other = placements[i + 1..]
            .iter()
            .find(|b| a.node_id == b.node_id && a.port == b.port && a.starts.0 < end(b) && b.starts.0 < end(a));
        other.map(|b| (a, b))
    })
}

async fn given(rig: &Rig) -> Vec<NewPlacement> {
    rig.store.placements(rig.station).await.unwrap().iter().map(|p| p.given()).collect()
}

#[tokio::test]
async fn no_sequence_of_placing_and_correcting_puts_two_probes_at_one_port() {
    let rig = rig().await;
    let mut dice = Dice(7);
    let (mut taken, mut refused) = (0, 0);
    for _ in 0..300 {
        let starts = dice.below(100) as i64;
        let ends = (dice.below(3) > 0).then(|| starts + dice.below(30) as i64 - 2);
        let (serial, port) = (*dice.pick(&["BD-1", "BD-2", "BD-3"]), *dice.pick(&["m05", "m15"]));
        let new = rig.placement(serial, port, starts, ends).await;
        let before = given(&rig).await;
        let all = rig.store.placements(rig.station).await.unwrap();
        let done = if all.is_empty() || dice.below(2) == 0 {
            rig.store.place(&new).await.map(|_| ())
        } else {
            let was = dice.pick(&all);
            rig.store.correct_placement(was.id, &was.given(), &new).await
        };
        let after = given(&rig).await;
        assert_eq!(overlap(&after), None);
        assert!(after.iter().all(|p| p.ends.is_none_or(|e| e > p.starts)), "it ends after it starts");
        match done {
            Ok(()) => taken += 1,
            Err(StoreError::Rule(says)) => {
                refused += 1;
                assert_eq!(after, before, "what is refused changes nothing");
                assert!(says.contains("at port") || says.contains("must end after"), "{says}");
            }
            Err(other) => panic!("{other}"),
        }
    }
    assert!(taken > 20 && refused > 20, "{taken} taken, {refused} refused");
}

#[tokio::test]
async fn every_reading_handed_in_is_new_known_or_a_repeat_and_the_first_value_stands() {
    let rig = rig().await;
    let streams = [
        rig.stream().await,
        rig.store.ensure_stream(rig.node, "t05", Quantity::SoilTemperature, "degC", None).await.unwrap(),
    ];
    let mut dice = Dice(11);
    let mut first: BTreeMap<(i64, i64), f64> = BTreeMap::new();
    for round in 0..40 {
        let n = *dice.pick(&[0, 1, 2, 499, 500, 501]);
        let readings: Vec<Reading> = (0..n)
            .map(|_| {
                let (stream, t) = (*dice.pick(&streams), 900 * dice.below(2000) as i64);
                Reading { stream, t, raw: 800.0 + dice.below(2) as f64 }
            })
            .collect();
        let fresh: std::collections::BTreeSet<(i64, i64)> =
            readings.iter().map(|r| (r.stream, r.t)).filter(|k| !first.contains_key(k)).collect();
        let added = rig.store.add_readings(&HAND, readings.clone()).await.unwrap();
        assert_eq!(added.new + added.known + added.repeated, readings.len(), "round {round}");
        assert_eq!(added.new, fresh.len(), "round {round}");
        // Within one delivery the first of a stream and time counts, as it stands in the file.
        for r in &readings {
            first.entry((r.stream, r.t)).or_insert(r.raw);
        }
    }
    for stream in streams {
        let series = rig.store.series(stream).await.unwrap();
        let expected: Vec<(i64, f64)> =
            first.iter().filter(|((s, _), _)| *s == stream).map(|((_, t), v)| (*t, *v)).collect();
        let stored: Vec<(i64, f64)> = series.times.iter().copied().zip(series.values.iter().copied()).collect();
        assert_eq!(stored, expected);
        for repeat in rig.store.repeats(stream).await.unwrap() {
            assert_eq!(first[&(stream, repeat.time.0)], repeat.first);
            assert!(repeat.first.to_bits() != repeat.later.to_bits(), "the same again is no repeat");
        }
    }
}

#[tokio::test]
async fn two_processes_that_store_the_same_lines_at_once_store_them_once() {
    let rig = rig().await;
    let stream = rig.stream().await;
    let lines: Vec<Reading> = (0..3000).map(|i| Reading { stream, t: i * 900, raw: 800.0 + i as f64 }).collect();
    let other = Store::open(&rig.path()).await.unwrap();
    let (a, b) = tokio::join!(rig.store.add_readings(&HAND, lines.clone()), other.add_readings(&HAND, lines.clone()));
    let (a, b) = (a.unwrap(), b.unwrap());
    assert_eq!((a.new + b.new, a.known + b.known, a.repeated + b.repeated), (3000, 3000, 0));
    for store in [&rig.store, &other] {
        assert_eq!(store.series(stream).await.unwrap().times.len(), 3000);
    }
}

fn invitation(key: &str, role: Role, ends_at: i64) -> Invitation {
    let (by, used_by) = ("arvel".to_owned(), None);
    Invitation { key_hash: key.into(), study: 1, role, by, ends_at: UnixSeconds(ends_at), used_by }
}

#[tokio::test]
async fn a_link_holds_until_its_last_second_and_of_two_who_come_at_once_one_is_let_in() {
    let rig = rig().await;
    rig.store.add_owner("arvel", "hash").await.unwrap();
    for key in ["k1", "k2"] {
        rig.store.invite(&invitation(key, Role::Researcher, 100), UnixSeconds(0)).await.unwrap();
    }
    assert!(rig.store.join_as_new("k1", "late", "h", UnixSeconds(100)).await.is_err());
    assert!(rig.store.join_as_new("k1", "in time", "h", UnixSeconds(99)).await.is_ok());
    let other = Store::open(&rig.path()).await.unwrap();
    let (a, b) = tokio::join!(
        rig.store.join_as_new("k2", "quill", "h", UnixSeconds(5)),
        other.join_as_new("k2", "mallory", "h", UnixSeconds(5))
    );
    assert_eq!([a.is_ok(), b.is_ok()].iter().filter(|ok| **ok).count(), 1, "{a:?} {b:?}");
    let names: Vec<String> = rig.store.members(1).await.unwrap().into_iter().map(|m| m.name).collect();
    assert_eq!(names.len(), 3, "{names:?}");
    assert!(rig.store.invitations(1, UnixSeconds(5)).await.unwrap().is_empty(), "used ones are no longer open");
    assert!(rig.store.join_as_new("k9", "nobody", "h", UnixSeconds(5)).await.is_err(), "a link that never was");
}

#[tokio::test]
async fn what_belongs_to_a_study_is_found_by_its_number_and_nothing_else_is() {
    let rig = rig().await;
    let run = Run { id: 0, study_id: 1, title: "θ".into(), probe_id: None, draft: "{}".into(), practice: None };
    let run = rig.store.add_run(&run).await.unwrap();
    for (what, id) in [(Within::Study, 1), (Within::Station, rig.station), (Within::Run, run)] {
        assert_eq!(rig.store.study_of(what, id).await.unwrap(), 1, "{what:?}");
    }
    for what in [Within::Study, Within::Station, Within::Import, Within::Run, Within::Sheet] {
        for id in [0, -1, 99, i64::MAX] {
            let missing = rig.store.study_of(what, id).await;
            assert!(
                matches!(missing, Err(StoreError::NotFound(noun)) if noun == what.noun()),
                "{what:?} {id}: {missing:?}"
            );
        }
    }
}

#[tokio::test]
async fn decisions_stand_all_or_none_and_an_undone_one_is_undone_once() {
    let rig = rig().await;
    let stream_id = rig.stream().await;
    let decision = |stream_id, start: i64| Decision {
        mark: None,
        id: 0,
        stream_id,
        test: Test::Step,
        start: UnixSeconds(start),
        end: UnixSeconds(start + 900),
        verdict: Verdict::LeftOut,
        reason: "a θ “quoted”".into(),
        by: "T. Quill".into(),
        at: UnixSeconds(5),
    };
    let torn = rig.store.decide(&[decision(stream_id, 0), decision(999, 0)]).await;
    assert!(torn.is_err(), "no such stream");
    assert!(rig.store.verdicts(rig.station).await.unwrap().is_empty(), "none of the two stands");
    let ids = rig.store.decide(&[decision(stream_id, 0), decision(stream_id, 9000)]).await.unwrap();
    assert_eq!(rig.store.verdicts(rig.station).await.unwrap().len(), 2);
    for _ in 0..2 {
        rig.store.undo_decisions(&ids[..1], "T. Quill", UnixSeconds(6)).await.unwrap();
        let standing = rig.store.verdicts(rig.station).await.unwrap();
        assert_eq!(standing.iter().map(|d| (d.id, d.start.0)).collect::<Vec<_>>(), [(ids[1], 9000)]);
    }
    assert!(rig.store.decide(&[]).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_setting_of_another_version_is_passed_over_and_the_others_hold() {
    let rig = rig().await;
    let usual = rig.store.settings(1, rig.station).await.unwrap();
    let set = [(Test::Spike, "sigmas", 12.0), (Test::Spike, "of tomorrow", 1.0), (Test::Step, "sigmas", -5.0)];
    rig.store.keep_settings(1, None, &set, "N. Arvel", UnixSeconds(5)).await.unwrap();
    let held = rig.store.settings(1, rig.station).await.unwrap();
    assert_eq!(held.spike.sigmas, 12.0);
    assert_eq!(held.step, usual.step, "a number out of its range is the usual one");
    assert_eq!(rig.store.own_settings(1).await.unwrap().len(), 3, "and stays to be seen");
    assert_eq!(rig.store.settings(2, rig.station).await.unwrap(), usual, "another study's are its own");
}
