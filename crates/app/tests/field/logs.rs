//! Rounds, repairs, clocks, packs, and how a station stands.

use super::rig::*;
use ebrel_app::field::{built, pack, receive, standing};
use ebrel_app::planning::{PlanError, StationPlan};
use ebrel_core::field::{ClockCheck, Deed, Entry, Log, LogKind, RepairKind, StepOutcome};
use ebrel_core::planning::{Draft, HorizonDraft};
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::events::StoredEvent;
use ebrel_store::readings::Reading;
use serde_json::json;

#[tokio::test]
async fn a_round_is_a_record_when_it_is_finished_and_its_counts_agree() {
    let site = Site::new().await;
    let put_in = [("BD-1", "m05"), ("GM-3", "g20"), ("DT-4", "t20")];
    let mut installed = vec![begun(LogKind::Installation)];
    installed.extend(put_in.iter().zip(1..).map(|((serial, port), n)| probe(n, serial, 20.0, port)));
    site.keep(&installed).await;
    let walk = |e: Entry| Entry { log: "0197aaaa-1111-7000-8000-000000000004".into(), ..e };
    let wet = walk(spot(301, "BD-1", Some(900.0), ""));
    site.keep(&[
        walk(at(300, Deed::Begun { of: LogKind::Round })),
        wet.clone(),
        walk(spot(302, "gm-3", Some(-14.0), "")),
        walk(spot(303, "DT-4", None, "gate locked, “θ”")),
    ])
    .await;
    assert!(site.store.streams(site.station).await.unwrap().is_empty(), "a round under way is no record yet");

    let answers = site.send(&[walk(spot(304, "BD-2", Some(880.0), "")), walk(closed(305))]).await;
    assert!(answers[0].kept && answers[0].says.contains("BD-2 lies nowhere here"), "{answers:?}");
    let streams = site.store.streams(site.station).await.unwrap();
    let mut made: Vec<_> = streams.iter().map(|s| (s.port.as_str(), s.quantity, s.unit.as_str())).collect();
    made.sort_unstable();
    let expected = [("BD-1", Quantity::RawOutput, "mV"), ("GM-3", Quantity::WaterTension, "kPa")];
    assert_eq!(made, expected, "four spots: two values, one not reached, one that lies nowhere");

    let corrected = site.send(&[correcting(&wet, walk(spot(310, "BD-1", Some(950.0), "")))]).await;
    assert!(corrected[0].kept && corrected[0].says.contains("900 mV stays there as it came"), "{corrected:?}");
    let stream = streams.iter().find(|s| s.port == "BD-1").unwrap().id;
    let series = site.store.series(stream).await.unwrap();
    assert_eq!((&series.times[..], series.values.as_slice()), (&[moment(301)][..], &[900.0][..]));
    assert!(site.store.repeats(stream).await.unwrap().is_empty(), "what a person corrected is no second reading");
    site.send(&[walk(closed(305))]).await;
    assert_eq!(site.store.series(stream).await.unwrap().times.len(), 1, "sent again, stored once");
    assert_eq!(site.standing(NOW).await.lying, 3, "a handheld puts nothing into the ground");
}

#[tokio::test]
async fn a_repair_is_one_event_however_often_its_words_are_put_right() {
    let site = Site::new().await;
    let repair = |n, of, text: &str| at(n, Deed::Repair { of, note: text.into() });
    let first = repair(2, RepairKind::Firmware, "1.4");
    site.keep(&[begun(LogKind::Visit), first.clone(), repair(3, RepairKind::PortChanged, "m15 and m30 were swapped")])
        .await;
    site.keep(&[correcting(&first, repair(8, RepairKind::Firmware, "1.4.2"))]).await;
    let changed = site.events(EventKind::ProgramChange).await;
    assert_eq!(changed.len(), 1);
    assert_eq!((changed[0].note.as_str(), changed[0].event.start.0), ("firmware: 1.4.2", moment(2)));
    assert_eq!(site.events(EventKind::Maintenance).await[0].note, "port changed: m15 and m30 were swapped");
    let visit = site.events(EventKind::Visit).await;
    assert_eq!((visit.len(), visit[0].event.start.0, visit[0].event.end.0), (1, moment(0), moment(3)));
}

#[tokio::test]
async fn an_office_that_judges_otherwise_than_the_phone_says_so() {
    let site = Site::new().await;
    site.keep(&[begun(LogKind::Installation), probe(1, "DT-4", 20.0, "t20")]).await;
    let reading = |n, value: f64, said: &str| {
        at(n, Deed::Reading { serial: "DT-4".into(), repeats: vec![value; 3], said: said.into() })
    };
    let here = pack(&site.store, site.station, NOW).await.unwrap();
    let limits = &here.installed.iter().find(|p| p.label == "DT-4").unwrap().limits;
    let says = ebrel_core::field::judge(limits, &[12.0; 3], None).unwrap().says;
    site.keep(&[reading(2, 12.0, &says)]).await;
    let other = site.send(&[reading(3, 12.0, "Far too warm. Pull it.")]).await;
    assert!(other[0].kept && other[0].says.starts_with("Judged again here: "), "{other:?}");
    site.keep(&[reading(4, 12.0, "")]).await;
}

#[tokio::test]
async fn what_cannot_be_read_is_told_by_its_place_and_stops_nothing() {
    let site = Site::new().await;
    let good = serde_json::to_value(note(1, "θ “quoted” \u{0}")).unwrap();
    let sent = [
        json!(null),
        json!([1, 2]),
        json!({"id": "0197aaaa-0000-7000-8000-000000000009"}),
        json!({"id": 7, "deed": {"kind": "note", "text": "x"}}),
        good,
    ];
    let answers = receive(&site.store, site.station, &sent, "T. Quill", NOW).await.unwrap();
    let kept: Vec<bool> = answers.iter().map(|a| a.kept).collect();
    assert_eq!(kept, [false, false, false, false, true], "five in, five answered");
    assert_eq!(answers[2].id, "0197aaaa-0000-7000-8000-000000000009");
    assert!(answers[..4].iter().all(|a| a.says.contains("the others are not touched")), "{answers:?}");
    assert!(receive(&site.store, site.station, &[], "T. Quill", NOW).await.unwrap().is_empty());
    let nowhere = receive(&site.store, 99, &sent, "T. Quill", NOW).await;
    assert!(matches!(nowhere, Err(PlanError::Store(_))), "{nowhere:?}");
}

#[tokio::test]
async fn settling_goes_by_principle_seat_and_the_rain_since() {
    let site = Site::new().await;
    let settles =
        async |days: i64| site.standing(UnixSeconds(DAWN + days * DAY)).await.settles.map(|s| (s.until.0 - DAWN) / DAY);
    assert_eq!(settles(0).await, None, "nothing lies there");
    site.keep(&[begun(LogKind::Installation), probe(1, "BD-1", 15.0, "m15")]).await;
    assert_eq!([settles(1).await, settles(20).await], [Some(14), None]);

    // 6 mm in the evening and 6 mm after midnight are no good wetting; 11 mm within the fifth day are.
    let node = site.store.ensure_node(site.station, "node 01").await.unwrap();
    let gauge = site.store.ensure_stream(node, "rain", Quantity::Rain, "mm", None).await.unwrap();
    let rain = |hours: i64, mm: f64| Reading { stream: gauge, t: DAWN + hours * 3600, raw: mm };
    let hand = Origin::of(Source::Hand, NOW);
    site.store.add_readings(&hand, vec![rain(17, 6.0), rain(19, 6.0)]).await.unwrap();
    assert_eq!(settles(1).await, Some(14));
    site.store.add_readings(&hand, vec![rain(5 * 24, 5.0), rain(5 * 24 + 2, 6.0)]).await.unwrap();
    assert_eq!([settles(1).await, settles(6).await], [Some(5), None]);

    // A second probe, put in after that rain, waits for one of its own; a block waits its weeks whatever falls.
    let mut late = probe(0, "BD-2", 30.0, "m30");
    (late.id, late.at) = ("0197aaaa-0000-7000-8000-000000000900".into(), UnixSeconds(DAWN + 2 * DAY));
    site.keep(&[late]).await;
    assert_eq!(settles(3).await, Some(5), "the same rain is after both");
    site.keep(&[probe(9, "GM-3", 30.0, "g30")]).await;
    assert_eq!([settles(3).await, settles(30).await], [Some(21), None]);
}

#[tokio::test]
async fn a_repacked_seat_settles_longest() {
    let site = Site::new().await;
    let mut slurry = probe(1, "BD-1", 15.0, "m15");
    if let Deed::Probe { repacked, .. } = &mut slurry.deed {
        *repacked = true;
    }
    site.keep(&[begun(LogKind::Installation), slurry, probe(2, "DT-4", 15.0, "t15")]).await;
    let settles = site.standing(NOW).await.settles.unwrap();
    assert!(settles.because.contains("repacked") && settles.until.0 > DAWN + 30 * DAY, "{settles:?}");
}

#[tokio::test]
async fn a_station_stands_as_its_logs_and_events_say() {
    let site = Site::new().await;
    let before = site.standing(NOW).await;
    assert_eq!((before.lying, before.since, before.visited, before.official), (0, None, None, None));
    assert!(before.logs.is_empty());
    let step = |n, key: &str, outcome, note: &str| {
        at(n, Deed::Step { step: key.into(), does: "Close the lid.".into(), outcome, note: note.into() })
    };
    let left_out = step(2, "lid", StepOutcome::Skipped, "hinge broken");
    let other_hand = Entry { by: "NA".into(), ..note(3, "two of us") };
    site.keep(&[begun(LogKind::Installation), probe(1, "BD-1", 15.0, "m15"), left_out.clone(), other_hand]).await;
    let open = site.standing(NOW).await;
    let log = &open.logs[0];
    assert_eq!((log.kind, log.entries, log.closed), (Some(LogKind::Installation), 4, false));
    assert_eq!(log.by, ["NA", "TQ"]);
    assert_eq!(log.open, [("Close the lid.".to_owned(), "hinge broken".to_owned())]);
    assert_eq!((open.lying, open.since.unwrap().0, open.visited.unwrap().0), (1, moment(1), moment(3)));

    site.keep(&[correcting(&left_out, step(9, "lid", StepOutcome::Done, "")), closed(10)]).await;
    let done = site.standing(NOW).await;
    assert_eq!((done.logs[0].open.len(), done.logs[0].closed, done.logs[0].entries), (0, true, 5));
    let start = UnixSeconds(DAWN + DAY);
    let event = StoredEvent {
        id: 0,
        event: Event { kind: EventKind::OfficialStart, start, end: start },
        amount: None,
        unit: String::new(),
        note: "settled".into(),
        by: "N. Arvel".into(),
        client_id: None,
        revision: 1,
    };
    site.store.add_event(site.station, &event).await.unwrap();
    assert_eq!(site.standing(NOW).await.official, Some(start));
    assert!(standing(&site.store, 99, NOW).await.unwrap().is_empty(), "no such study has no stations");
}

#[tokio::test]
async fn clock_checks_of_two_nodes_are_told_apart_and_corrected_ones_count_once() {
    let site = Site::new().await;
    let check = |n: i64, node: &str, ahead: i64| {
        let truth = UnixSeconds(moment(n));
        let check = ClockCheck { shown: UnixSeconds(truth.0 + ahead), truth, set: false };
        at(n, Deed::Clock { node: node.into(), check })
    };
    let slip = check(2, "node 01", 400);
    site.keep(&[begun(LogKind::Visit), check(1, "node 02", -30), slip.clone(), note(3, "no clock")]).await;
    site.keep(&[correcting(&slip, check(4, "node 01", 40))]).await;
    let kept = site.store.clock_entries(site.station).await.unwrap();
    assert_eq!(kept.len(), 3, "checks and their corrections, and no note");
    let ahead: Vec<(String, i64)> = Log::of(&kept)
        .stands
        .into_iter()
        .filter_map(|e| if let Deed::Clock { node, check } = e.deed { Some((node, check.ahead().0)) } else { None })
        .collect();
    assert_eq!(ahead, [("node 02".to_owned(), -30), ("node 01".to_owned(), 40)]);
}

#[tokio::test]
async fn a_pack_without_a_plan_still_says_what_lies_there_and_what_can_be_asked() {
    let site = Site::new().await;
    let bare = pack(&site.store, site.station, NOW).await.unwrap();
    assert_eq!((bare.plan_version, bare.probes.len(), bare.installed.len()), (0, 0, 0));
    assert_eq!(bare.register, ["BD-1", "BD-2", "DT-4", "GM-3"]);
    assert!(!bare.caution.is_empty() && bare.code == "tub1" && !bare.fixed_now);
    site.keep(&[begun(LogKind::Installation), probe(1, "GM-3", 20.0, "g20"), probe(2, "DT-4", 20.0, "t20")]).await;
    let full = pack(&site.store, site.station, NOW).await.unwrap();
    let lie: Vec<_> =
        full.installed.iter().map(|p| (p.label.as_str(), p.port.as_str(), p.limits.unit.as_str())).collect();
    assert_eq!(lie.len(), 2);
    assert!(lie.contains(&("DT-4", "t20", "°C")), "{lie:?}");
    let text = serde_json::to_string(&full).unwrap();
    assert!(text.len() < 300_000 && !text.contains("null,null"), "{} bytes", text.len());
}

#[tokio::test]
async fn what_was_built_stands_beside_what_was_planned_and_what_nobody_planned() {
    let site = Site::new().await;
    let mut plan = StationPlan::load(&site.store, site.station).await.unwrap();
    let topsoil =
        HorizonDraft { name: "A".into(), bottom_cm: "40".into(), density: "1.3".into(), ..Default::default() };
    let draft = Draft { horizons: vec![topsoil], ..Draft::default() };
    plan.keep(&site.store, draft, ("soil", "N. Arvel"), NOW).await.unwrap();
    let reading = at(4, Deed::Reading { serial: "bd-1".into(), repeats: vec![900.0], said: "stable".into() });
    let log = Log::of(&[
        begun(LogKind::Installation),
        stone(1, "BD-1", 30.0),
        stone(2, "BD-1", 29.0),
        probe(3, "BD-1", 27.5, "m30"),
        reading,
        probe(5, "GM-3", 44.0, "g44"),
    ]);
    let rows = built(&plan, &log);
    assert_eq!(rows.iter().map(|r| r.serial.as_str()).collect::<Vec<_>>(), ["GM-3", "BD-1"], "the deepest first");
    let blade = &rows[1];
    assert_eq!((blade.planned_cm, blade.built_cm, blade.given_up_cm.as_slice()), (None, Some(27.5), &[30.0, 29.0][..]));
    assert_eq!((blade.said.as_str(), blade.ports.1.as_str()), ("stable", "m30"));
    assert!(!blade.deep_as_planned() && !blade.at_another_port, "where nothing was planned nothing differs");
}
