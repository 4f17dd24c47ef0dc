//! What another way of running would change is told before it holds, and then comes true.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "../../web/tests/common/demo.rs"]
mod demo;

use ebrel_app::difference::{Difference, of_settings};
use ebrel_app::reviewing::{matters, run};
use ebrel_core::quality::{Settings, Test};
use ebrel_core::units::{UnixSeconds, Verdict};
use ebrel_store::Store;
use ebrel_store::flags::WaitingFlag;
use ebrel_store::verdicts::Decision;
use std::collections::HashMap;

/// The demo, in a store of its own.
async fn demo_store() -> (Store, tempfile::TempDir) {
    let dir = tempfile::tempdir().unwrap();
    demo::copy_into(dir.path()).await;
    (Store::open(&dir.path().join("ebrel.db")).await.unwrap(), dir)
}

async fn deaf(store: &Store) -> Difference {
    let mut settings = Settings::default();
    settings.set(Test::Spike, "sigmas", 100_000.0).unwrap();
    of_settings(store, 1, settings).await.unwrap()
}

#[tokio::test]
async fn the_same_settings_change_nothing_and_a_deaf_test_loses_its_own() {
    let (store, _dir) = demo_store().await;
    let flags = store.flags(1).await.unwrap();
    let same = of_settings(&store, 1, store.settings(1, 1).await.unwrap()).await.unwrap();
    assert!(same.is_none() && same.verdicts.is_empty(), "{same:?}");
    assert_eq!(same.same, flags.len());

    let change = deaf(&store).await;
    let spikes = flags.iter().filter(|f| f.flag.test == Test::Spike).count();
    assert_eq!(change.gone.iter().filter(|t| t.flag.test == Test::Spike).count(), spikes);
    assert!(spikes > 0 && change.gone.iter().all(|t| !t.place.is_empty()));
    assert_eq!(change.same + change.gone.len(), flags.len(), "what was either stays or goes");
    assert!(change.hours.iter().any(|h| h.after < h.before), "{:?}", change.hours);
    assert_eq!(store.flags(1).await.unwrap(), flags, "a preview keeps nothing");
}

#[tokio::test]
async fn what_was_told_comes_true() {
    let (store, _dir) = demo_store().await;
    let before = store.flags(1).await.unwrap();
    let change = deaf(&store).await;
    store.keep_settings(1, Some(1), &[(Test::Spike, "sigmas", 100_000.0)], "N. Arvel", UnixSeconds(5)).await.unwrap();
    run(&store, 1).await.unwrap();
    let after = store.flags(1).await.unwrap();
    assert_eq!(after.len(), before.len() - change.gone.len() + change.come.len());
    for gone in &change.gone {
        let same = |f: &&ebrel_store::flags::StoredFlag| {
            f.stream_id == gone.stream
                && f.flag.test == gone.flag.test
                && f.flag.start == gone.flag.start
                && f.flag.end == gone.flag.end
                && f.flag.grade == gone.flag.grade
        };
        assert!(after.iter().find(same).is_none(), "{gone:?} is still there");
    }
    let nothing = deaf(&store).await;
    assert!(nothing.is_none(), "it is so by now: {nothing:?}");
}

#[tokio::test]
async fn a_verdict_that_would_stand_on_nothing_is_named() {
    let (store, _dir) = demo_store().await;
    let flags = store.flags(1).await.unwrap();
    let spike = flags.iter().find(|f| f.flag.test == Test::Spike && f.waits()).unwrap();
    let stuck = flags.iter().find(|f| f.flag.test == Test::Stuck && f.waits()).unwrap();
    let decision = |of: &ebrel_store::flags::StoredFlag| Decision {
        mark: None,
        id: 0,
        stream_id: of.stream_id,
        test: of.flag.test,
        start: of.flag.start,
        end: of.flag.end,
        verdict: Verdict::Kept,
        reason: "“θ”".into(),
        by: "N. Arvel".into(),
        at: UnixSeconds(9),
    };
    store.decide(&[decision(spike), decision(stuck)]).await.unwrap();
    let change = deaf(&store).await;
    assert_eq!(change.verdicts.iter().map(|d| d.test).collect::<Vec<_>>(), [Test::Spike], "the other stands");
    let kept = store.all_decisions(1).await.unwrap();
    assert_eq!(
        kept.iter().map(|k| k.decision.test).collect::<Vec<_>>(),
        [Test::Stuck, Test::Spike],
        "the newest first"
    );
    assert!(kept.iter().all(|k| k.undone.is_none()));
}

#[tokio::test]
async fn the_worst_that_waits_is_told_in_things_and_each_once() {
    let (store, _dir) = demo_store().await;
    let (badge, worst) = (store.waiting(1).await.unwrap(), store.worst_waiting(1, 100).await.unwrap());
    let some = store.worst_waiting(1, 2).await.unwrap();
    for station in 1..=3 {
        let things = matters(&store, station).await.unwrap();
        let waiting = things.iter().filter(|m| m.waits()).count();
        assert_eq!(badge.get(&station).copied().unwrap_or(0), waiting, "the badge counts as the page does");
        let of = |all: &HashMap<i64, Vec<WaitingFlag>>| all.get(&station).cloned().unwrap_or_default();
        let worst = of(&worst);
        assert_eq!(of(&some), worst[..worst.len().min(2)], "the first of them");
        assert_eq!(worst.len(), waiting, "station {station}");
        let mut told: Vec<(UnixSeconds, UnixSeconds, &str)> =
            worst.iter().map(|w| (w.start, w.end, w.reason.as_str())).collect();
        told.sort();
        told.dedup();
        assert_eq!(told.len(), waiting, "each once");
        let first = things.iter().find(|m| m.waits());
        assert_eq!(worst.first().map(|w| w.test), first.map(|m| m.lead().flag.test), "the most damaging first");
    }
}

#[tokio::test]
async fn what_cannot_be_judged_at_a_station_knows_the_gauge_of_its_neighbour() {
    let (store, _dir) = demo_store().await;
    let said = async |station| {
        let record = ebrel_app::record::StationRecord::outline(&store, station).await.unwrap();
        record.unjudged(&store).await.unwrap()
    };
    // The uncut coupe has no gauge of its own and borrows that of the cut one, 90 m away.
    let uncut = said(2).await;
    assert!(uncut.iter().all(|u| !u.tests.contains(&Test::MissesRain)), "{uncut:?}");
    assert!(uncut.iter().all(|u| !u.tests.contains(&Test::PairApart)), "it has twins at 15 cm");
    let cut = said(1).await;
    assert!(cut.iter().any(|u| u.tests == [Test::PairApart] && u.why.contains("No two probes")), "{cut:?}");
}
