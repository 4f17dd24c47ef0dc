//! Where probes lie by what logs say, in whatever order it arrives.

use super::rig::*;
use ebrel_core::field::{Deed, Entry, LogKind};
use ebrel_core::quality::EventKind;
use ebrel_store::placements::NewPlacement;

#[tokio::test]
async fn any_order_any_repetition_and_any_splitting_of_a_log_gives_the_same_placements() {
    let first = probe(2, "BD-1", 15.0, "m15");
    let log = [
        begun(LogKind::Installation),
        probe(1, "BD-2", 30.0, "m30"),
        first.clone(),
        correcting(&first, probe(3, "BD-1", 16.5, "m15")),
        stone(4, "GM-3", 45.0),
        probe(5, "GM-3", 44.0, "g44"),
        closed(6),
    ];
    let expected = [
        row("BD-1", 16.5, "m15", moment(2), None),
        row("BD-2", 30.0, "m30", moment(1), None),
        row("GM-3", 44.0, "g44", moment(5), None),
    ];
    for turn in 0..log.len() {
        let site = Site::new().await;
        let mut mixed = log.to_vec();
        mixed.rotate_left(turn);
        for part in mixed.chunks(turn.max(1)) {
            site.send(part).await;
            site.send(part).await;
        }
        let answers = site.send(&log).await;
        assert!(answers.iter().all(|a| a.kept && a.says == "It was here already."), "{turn}: {answers:?}");
        assert_eq!(site.lie().await, expected, "turned by {turn}");
        assert_eq!(site.events(EventKind::Installation).await.len(), 1);
        assert_eq!(site.store.field_entries(site.station, None).await.unwrap().len(), log.len());
    }
}

#[tokio::test]
async fn a_placement_corrected_by_hand_stays_until_a_later_entry_speaks_of_it() {
    let site = Site::new().await;
    let first = probe(1, "BD-1", 15.0, "m15");
    site.keep(&[begun(LogKind::Installation), first.clone()]).await;
    let was = site.placements().await.remove(0);
    let by_hand = NewPlacement { orientation: "on edge".into(), port: "m16".into(), ..was.given() };
    site.store.correct_placement(was.id, &was.given(), &by_hand).await.unwrap();
    site.keep(&[note(2, "rain began"), closed(3)]).await;
    site.send(std::slice::from_ref(&first)).await;
    assert_eq!(site.placements().await[0].given(), by_hand, "a note says nothing of the probe");
    site.keep(&[correcting(&first, probe(4, "BD-1", 17.0, "m17"))]).await;
    assert_eq!(site.lie().await, [row("BD-1", 17.0, "m17", moment(1), None)]);
}

#[tokio::test]
async fn a_stone_found_after_all_ends_the_seat_and_frees_its_port() {
    let site = Site::new().await;
    let first = probe(1, "BD-1", 15.0, "m15");
    site.keep(&[begun(LogKind::Installation), first.clone()]).await;
    let given_up = correcting(&first, stone(5, "BD-1", 15.0));
    site.keep(std::slice::from_ref(&given_up)).await;
    assert_eq!(site.lie().await, [row("BD-1", 15.0, "m15", moment(1), Some(moment(5)))]);
    site.keep(&[probe(9, "BD-2", 15.0, "m15")]).await;
    let port_of_another = site.send(&[correcting(&given_up, probe(11, "BD-1", 15.0, "m15"))]).await;
    assert!(!port_of_another[0].kept && port_of_another[0].says.contains("BD-2's in this log"), "{port_of_another:?}");
    site.keep(&[correcting(&given_up, probe(12, "BD-1", 14.0, "m14"))]).await;
    let lie = site.lie().await;
    assert_eq!(lie, [row("BD-1", 14.0, "m14", moment(1), None), row("BD-2", 15.0, "m15", moment(9), None)]);
}

#[tokio::test]
async fn a_probe_put_in_twice_lies_once() {
    let site = Site::new().await;
    site.keep(&[begun(LogKind::Installation), probe(1, "BD-1", 15.0, "m15")]).await;
    site.keep(&[probe(7, "bd-1", 30.0, "m30")]).await;
    let expected = [row("BD-1", 15.0, "m15", moment(1), Some(moment(7))), row("BD-1", 30.0, "m30", moment(7), None)];
    assert_eq!(site.lie().await, expected, "from the second seat on it is there");
}

#[tokio::test]
async fn a_label_that_was_misread_moves_the_seat_to_the_right_probe() {
    let site = Site::new().await;
    let misread = probe(1, "BD-1", 15.0, "m15");
    site.keep(&[begun(LogKind::Installation), misread.clone()]).await;
    site.keep(&[correcting(&misread, probe(4, "BD-2", 15.0, "m15"))]).await;
    assert_eq!(site.lie().await, [row("BD-2", 15.0, "m15", moment(1), None)]);
    site.keep(&[probe(6, "BD-1", 5.0, "m05")]).await;
    assert_eq!(site.lie().await.len(), 2, "the first one is free for its own seat");
}

#[tokio::test]
async fn what_was_kept_before_a_power_cut_comes_of_it_when_it_is_sent_again() {
    let site = Site::new().await;
    let log = [begun(LogKind::Installation), probe(1, "BD-1", 15.0, "m15")];
    let mut unit = site.store.unit().await.unwrap();
    for entry in &log {
        assert!(unit.add_field_entry(site.station, entry, "T. Quill", NOW).await.unwrap());
    }
    unit.commit().await.unwrap();
    assert!(site.lie().await.is_empty(), "the office went down in between");
    let answers = site.send(&log).await;
    assert!(answers.iter().all(|a| a.kept), "{answers:?}");
    assert_eq!(site.lie().await, [row("BD-1", 15.0, "m15", moment(1), None)]);
}

#[tokio::test]
async fn a_removal_ends_what_was_found_and_what_was_not() {
    let site = Site::new().await;
    site.keep(&[begun(LogKind::Installation), probe(1, "BD-1", 15.0, "m15"), probe(2, "BD-2", 30.0, "m30")]).await;
    let away = |e: Entry| Entry { log: "0197aaaa-1111-7000-8000-000000000002".into(), ..e };
    let out = [
        away(at(100, Deed::Begun { of: LogKind::Removal })),
        away(removed(101, "bd-1", false)),
        away(removed(102, "BD-2", true)),
        away(closed(103)),
    ];
    site.keep(&out).await;
    site.send(&out).await;
    let expected = [
        row("BD-1", 15.0, "m15", moment(1), Some(moment(101))),
        row("BD-2", 30.0, "m30", moment(2), Some(moment(102))),
    ];
    assert_eq!(site.lie().await, expected);
    // It is put in again later: the removal, sent once more, does not touch that.
    let again = |e: Entry| Entry { log: "0197aaaa-1111-7000-8000-000000000003".into(), ..e };
    site.keep(&[again(at(200, Deed::Begun { of: LogKind::Installation })), again(probe(201, "BD-1", 10.0, "m15"))])
        .await;
    site.send(&out).await;
    let lying: Vec<_> = site.lie().await.into_iter().filter(|p| p.4.is_none()).map(|p| (p.0, p.1)).collect();
    assert_eq!(lying, [("BD-1".to_owned(), 10.0)]);
}

#[tokio::test]
async fn a_log_whose_beginning_has_not_arrived_is_a_log_all_the_same() {
    let site = Site::new().await;
    site.keep(&[probe(1, "BD-1", 15.0, "m15"), closed(2)]).await;
    let log = site.standing(NOW).await.logs.remove(0);
    assert_eq!((log.kind, log.entries, log.closed), (None, 2, true));
    assert!(site.events(EventKind::Installation).await.is_empty(), "of what it is, nobody can say yet");
    site.keep(&[begun(LogKind::Installation)]).await;
    assert_eq!(site.events(EventKind::Installation).await.len(), 1);
    assert_eq!(site.lie().await.len(), 1);
}
