//! Messages in any order, any repetition, any cutting: the record is the same.

mod common;

use ebrel_app::receiving::{Intake, receive};
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_formats::message::{Message, Reading};
use ebrel_store::StoreError;
use futures_util::future::try_join_all;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

const NOW: UnixSeconds = UnixSeconds(1_790_000_000);

fn reading(t: i64, port: usize) -> Reading {
    let value = ((t * 7919 + port as i64 * 104_729) % 1000) as f64 / 10.0;
    let (port, unit) = (format!("A{port}"), "mV".to_owned());
    Reading { record: 1, time: UnixSeconds(t * 900), port, quantity: Quantity::RawOutput, value, unit }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// A node keeps what was not confirmed and sends it again, late, twice, in other parts: what is stored is what was measured.
    #[test]
    fn any_order_any_repetition_and_any_cutting_make_the_same_record(
        measured in prop::collection::btree_set((0..4000i64, 0..3usize), 1..200),
        parts in prop::collection::vec((any::<prop::sample::Index>(), 1..40usize), 1..30),
        late in any::<bool>(),
    ) {
        let measured: Vec<Reading> = measured.into_iter().map(|(t, port)| reading(t, port)).collect();
        let mut messages: Vec<Vec<Reading>> = parts.iter().map(|(from, n)| {
            let from = from.index(measured.len());
            measured[from..(from + n).min(measured.len())].to_vec()
        }).collect();
        messages.push(measured.clone());
        if late {
            messages.reverse();
        }
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let (store, station, _dir) = common::station().await;
            let node = store.ensure_node(station, "node 01").await.unwrap();
            let mut new = 0;
            for readings in messages.clone() {
                let sent = readings.len();
                let receipt = receive(&store, node, &Message { readings, refused: Vec::new() }, NOW).await.unwrap();
                assert_eq!((receipt.records, receipt.new + receipt.known), (sent, sent));
                assert_eq!((receipt.contradicting, receipt.refused), (0, 0));
                new += receipt.new;
            }
            assert_eq!(new, measured.len(), "each is new once");
            let (together, elsewhere, _dir2) = common::station().await;
            let node = together.ensure_node(elsewhere, "node 01").await.unwrap();
            let intake = Intake::start(together.clone(), Arc::default());
            let message = |m: &Vec<Reading>| Message { readings: m.clone(), refused: Vec::new() };
            let sent = messages.iter().map(|m| intake.receive(node, message(m), NOW));
            let new: usize = try_join_all(sent).await.unwrap().iter().map(|r| r.new).sum();
            assert_eq!(new, measured.len(), "also of messages that come at once");
            together.empty_inbox().await.unwrap();
            let expected: BTreeMap<_, _> = measured.iter().map(|r| ((r.time.0, r.port.clone()), r.value)).collect();
            for (store, station) in [(store, station), (together, elsewhere)] {
                let mut stored = BTreeMap::new();
                for stream in store.streams(station).await.unwrap() {
                    let series = store.series(stream.id).await.unwrap();
                    stored.extend(series.times.iter().zip(&series.values).map(|(t, v)| ((*t, stream.port.clone()), *v)));
                }
                assert_eq!(stored, expected);
            }
        });
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn messages_that_wait_together_are_answered_each_for_itself_also_beside_one_that_spoils_it() {
    let (store, station, _dir) = common::station().await;
    let node = store.ensure_node(station, "node 01").await.unwrap();
    let intake = Intake::start(store.clone(), Arc::default());
    // Sixteen senders of forty messages with twelve records each; every fifth names a node that nobody knows.
    let sent = (0..640i64).map(|n| {
        let readings = (0..12).map(|i| reading(n * 12 + i, (i % 3) as usize)).collect();
        let to = if n % 5 == 4 { 4711 } else { node };
        intake.receive(to, Message { readings, refused: Vec::new() }, NOW)
    });
    let answers = futures_util::future::join_all(sent).await;
    for (n, answer) in answers.iter().enumerate() {
        match answer {
            Ok(receipt) => assert_eq!((receipt.records, receipt.new, n % 5 == 4), (12, 12, false), "{n}"),
            Err(StoreError::NotFound(_)) => assert_eq!(n % 5, 4),
            Err(other) => panic!("{n}: {other}"),
        }
    }
    // What came together is in the record a moment later; here somebody else opens the file and is quicker.
    store.empty_inbox().await.unwrap();
    let mut stored = 0;
    for stream in store.streams(station).await.unwrap() {
        stored += store.series(stream.id).await.unwrap().len();
    }
    assert_eq!(stored, 512 * 12);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_intake_is_busy_while_many_messages_follow_each_other_and_rests_then() {
    let (store, station, _dir) = common::station().await;
    let node = store.ensure_node(station, "node 01").await.unwrap();
    let intake = Intake::start(store, Arc::default());
    let message = |n| Message { readings: vec![reading(n, 0)], refused: Vec::new() };
    assert!(!intake.is_busy(), "nothing came yet");
    for told in futures_util::future::join_all((0..19).map(|n| intake.receive(node, message(n), NOW))).await {
        told.unwrap();
    }
    assert!(!intake.is_busy(), "nineteen are a usual day");
    // Also one that is refused is work.
    assert!(intake.receive(4711, message(19), NOW).await.is_err());
    assert!(intake.is_busy());
    tokio::time::sleep(std::time::Duration::from_millis(2100)).await;
    assert!(!intake.is_busy(), "the stream has ended");
    intake.receive(node, message(20), NOW).await.unwrap();
    assert!(!intake.is_busy(), "one is no stream");
}
