//! What is found in the ground and what comes out of it: the soil as seen, probes exchanged, returned and lost, the site.

use super::rig::*;
use ebrel_app::field::{came_back, decide_soil, found_again, pack, points, retrieval, soil_of, take_site, walks};
use ebrel_app::planning::StationPlan;
use ebrel_core::field::{Deed, Entry, LandmarkKind, Log, LogKind};
use ebrel_core::planning::{Draft, HorizonDraft};
use ebrel_core::quality::Place;
use ebrel_core::register::{EventKind, fitness};
use ebrel_core::units::{Principle, UnixSeconds};
use ebrel_formats::site::{PointOf, Site as SiteFile, SitePoint};
use ebrel_store::placements::NewPlacement;
use ebrel_store::register::ProbeEvent;

fn horizon(n: i64, name: &str, top_cm: f64, bottom_cm: f64) -> Entry {
    at(n, Deed::Horizon { name: name.into(), top_cm, bottom_cm, texture: String::new() })
}

/// Plans a soil of two horizons.
async fn planned(site: &Site, topsoil_cm: &str) {
    let mut plan = StationPlan::load(&site.store, site.station).await.unwrap();
    let h = |name: &str, bottom: &str| HorizonDraft {
        name: name.into(),
        bottom_cm: bottom.into(),
        density: "1.3".into(),
        ..HorizonDraft::default()
    };
    let draft = Draft { horizons: vec![h("A", topsoil_cm), h("B", "90")], ..plan.draft.clone() };
    plan.keep(&site.store, draft, ("soil", "N. Arvel"), UnixSeconds(1)).await.unwrap();
}

async fn boundary(site: &Site) -> f64 {
    site.store.profile(site.station).await.unwrap().horizons()[0].bottom_cm
}

#[tokio::test]
async fn what_was_seen_is_the_soil_from_the_end_of_the_log_until_somebody_goes_back() {
    let site = Site::new().await;
    planned(&site, "14").await;
    let top = horizon(2, "A", 0.0, 21.0);
    site.keep(&[begun(LogKind::Installation), top.clone(), horizon(3, "B", 21.0, 60.0)]).await;
    assert_eq!(boundary(&site).await, 14.0, "a log under way decides nothing");
    site.keep(&[closed(9)]).await;
    assert_eq!(boundary(&site).await, 21.0);
    planned(&site, "16").await;
    assert_eq!(boundary(&site).await, 21.0, "a plan typed later does not undo what was seen");

    let plan = StationPlan::load(&site.store, site.station).await.unwrap();
    let log = Log::of(&site.store.field_entries(site.station, Some(LOG)).await.unwrap());
    let told = soil_of(&site.store, &plan, &log).await.unwrap();
    assert_eq!(told.differences, ["A goes down to 21 cm, planned 16 cm."]);
    assert!(told.decided.unwrap().stands && told.trouble.is_none());

    decide_soil(&site.store, site.station, false, ("N. Arvel", "the face had slumped"), NOW).await.unwrap();
    assert_eq!(boundary(&site).await, 16.0);
    site.send(&[closed(9)]).await;
    assert_eq!(boundary(&site).await, 16.0, "the same log sent again changes no decision");
    let corrected = site.send(&[correcting(&top, horizon(12, "A", 0.0, 24.0))]).await;
    assert!(corrected[0].says.contains("ends at 24 cm") && corrected[0].says.contains("correct one"), "{corrected:?}");
    assert_eq!(boundary(&site).await, 16.0, "a profile with an overlap is no soil");
    decide_soil(&site.store, site.station, true, ("N. Arvel", "no: it had not"), NOW).await.unwrap_err();
}

#[tokio::test]
async fn a_probe_exchanged_within_one_log_frees_its_port_for_the_next() {
    let site = Site::new().await;
    site.keep(&[begun(LogKind::Installation), probe(1, "BD-1", 15.0, "m15"), closed(2)]).await;
    let visit = |e: Entry| Entry { log: "0197aaaa-1111-7000-8000-000000000007".into(), ..e };
    let entries = [
        visit(at(100, Deed::Begun { of: LogKind::Visit })),
        visit(removed(101, "bd-1", false)),
        visit(probe(102, "BD-2", 15.0, "m15")),
        visit(closed(103)),
    ];
    site.keep(&entries).await;
    let lie = [row("BD-1", 15.0, "m15", moment(1), Some(moment(101))), row("BD-2", 15.0, "m15", moment(102), None)];
    assert_eq!(site.lie().await, lie);
    site.send(&entries).await;
    assert_eq!(site.lie().await, lie, "sent again, once");
}

#[tokio::test]
async fn what_came_out_wants_a_look_what_is_unfit_is_rejected_and_what_is_lost_keeps_its_place() {
    let site = Site::new().await;
    let put = [("BD-1", "m05", 5.0), ("BD-2", "m15", 15.0), ("GM-3", "g20", 20.0)];
    let mut log = vec![begun(LogKind::Installation)];
    log.extend(put.iter().zip(1..).map(|((serial, port, depth), n)| probe(n, serial, *depth, port)));
    site.keep(&log).await;
    let list = retrieval(&site.store, 1, NOW).await.unwrap();
    let depths: Vec<_> = list[0].probes.iter().map(|p| p.depth_cm.unwrap()).collect();
    assert_eq!((list.len(), depths), (1, vec![5.0, 15.0, 20.0]));

    let out = |e: Entry| Entry { log: "0197aaaa-1111-7000-8000-000000000008".into(), ..e };
    let unfit = out(at(
        202,
        Deed::Removed { serial: "BD-2".into(), condition: "prong bent".into(), lost: false, refused: true },
    ));
    let entries = [out(at(200, Deed::Begun { of: LogKind::Removal })), out(removed(201, "BD-1", false)), unfit.clone()];
    site.keep(&entries).await;
    site.keep(&[out(removed(203, "GM-3", true)), out(closed(204))]).await;
    assert!(retrieval(&site.store, 1, NOW).await.unwrap().is_empty(), "nothing lies there any more");
    let (back, lost) = came_back(&site.store).await.unwrap();
    let serials =
        |list: &[(ebrel_store::probes::Probe, String)]| list.iter().map(|p| p.0.serial.clone()).collect::<Vec<_>>();
    assert_eq!((serials(&back), serials(&lost)), (vec!["BD-1".to_owned()], vec!["GM-3".to_owned()]));
    assert!(lost[0].1.contains("20\u{a0}cm, port g20"), "its last place: {}", lost[0].1);

    // The unfit one was not so unfit: the correction takes the place of what was noted, in its life too.
    let fit = Deed::Removed { serial: "BD-2".into(), condition: "straightened".into(), lost: false, refused: false };
    site.keep(&[correcting(&unfit, out(at(230, fit)))]).await;
    let (back, _) = came_back(&site.store).await.unwrap();
    assert_eq!(serials(&back), ["BD-1", "BD-2"]);
    let id = back[1].0.id;
    let life = site.store.probe_events(Some(id)).await.unwrap();
    assert_eq!(life.len(), 1, "noted once: {life:?}");
    let accepted = ProbeEvent { at: NOW, kind: EventKind::Accepted, note: String::new(), by: "T. Quill".into() };
    site.store.add_probe_event(id, &accepted).await.unwrap();
    assert_eq!(serials(&came_back(&site.store).await.unwrap().0), ["BD-1"], "looked at, and ready");
    assert!(fitness(Principle::Dielectric, &[EventKind::Returned, EventKind::Accepted], true).usable);
}

#[tokio::test]
async fn a_removal_that_comes_again_ends_nothing_that_was_reopened_by_hand() {
    let site = Site::new().await;
    site.keep(&[begun(LogKind::Installation), probe(1, "BD-1", 5.0, "m05")]).await;
    let out = |e: Entry| Entry { log: "0197aaaa-1111-7000-8000-000000000009".into(), ..e };
    let removal = [out(at(100, Deed::Begun { of: LogKind::Removal })), out(removed(101, "BD-1", false))];
    site.keep(&removal).await;
    assert_eq!(site.lie().await, [row("BD-1", 5.0, "m05", moment(1), Some(moment(101)))]);
    let taken = site.placements().await.remove(0);
    let was = taken.given();
    site.store.correct_placement(taken.id, &was, &NewPlacement { ends: None, ..was.clone() }).await.unwrap();
    site.send(&removal).await;
    site.keep(&[out(note(102, "it lies there again"))]).await;
    assert_eq!(site.lie().await, [row("BD-1", 5.0, "m05", moment(1), None)], "as it was corrected");
    site.keep(&[out(removed(150, "BD-1", false))]).await;
    assert_eq!(site.lie().await, [row("BD-1", 5.0, "m05", moment(1), Some(moment(150)))], "a new removal is another");
}

#[tokio::test]
async fn a_removal_that_named_the_wrong_probe_leaves_it_where_it_was_once_corrected() {
    let site = Site::new().await;
    site.keep(&[begun(LogKind::Installation), probe(1, "BD-1", 5.0, "m05"), probe(2, "BD-2", 15.0, "m15")]).await;
    let out = |e: Entry| Entry { log: "0197aaaa-1111-7000-8000-000000000009".into(), ..e };
    let misread = out(removed(101, "BD-1", false));
    site.keep(&[out(at(100, Deed::Begun { of: LogKind::Removal })), misread.clone()]).await;
    site.keep(&[correcting(&misread, out(removed(110, "BD-2", false)))]).await;
    let lie = [row("BD-1", 5.0, "m05", moment(1), None), row("BD-2", 15.0, "m15", moment(2), Some(moment(101)))];
    assert_eq!(site.lie().await, lie);
    let back: Vec<String> = came_back(&site.store).await.unwrap().0.into_iter().map(|p| p.0.serial).collect();
    assert_eq!(back, ["BD-2"]);
}

#[tokio::test]
async fn the_soil_of_a_later_hole_stands_though_the_earlier_log_comes_again() {
    let site = Site::new().await;
    planned(&site, "14").await;
    let first = [begun(LogKind::Installation), horizon(1, "A", 0.0, 20.0), horizon(2, "B", 20.0, 50.0), closed(3)];
    site.keep(&first).await;
    let later = |e: Entry| Entry { log: "0197aaaa-1111-7000-8000-000000000005".into(), ..e };
    let second = [
        at(500, Deed::Begun { of: LogKind::Installation }),
        horizon(501, "A", 0.0, 26.0),
        horizon(502, "B", 26.0, 50.0),
        closed(503),
    ];
    site.keep(&second.map(later)).await;
    assert_eq!(boundary(&site).await, 26.0);
    site.send(&first).await;
    assert_eq!(boundary(&site).await, 26.0);
}

#[tokio::test]
async fn a_round_walks_past_the_points_whose_place_is_known_and_reads_the_others_after_them() {
    let site = Site::new().await;
    let put = [("BD-1", "m05", 5.0), ("BD-2", "m15", 15.0), ("GM-3", "g20", 20.0), ("DT-4", "t20", 20.0)];
    let mut log = vec![begun(LogKind::Installation)];
    log.extend(put.iter().zip(1..).map(|((serial, port, depth), n)| probe(n, serial, *depth, port)));
    site.keep(&log).await;
    let order = async || {
        let pack = pack(&site.store, site.station, NOW).await.unwrap();
        pack.installed.into_iter().map(|p| (p.label, p.way)).collect::<Vec<_>>()
    };
    assert!(order().await.iter().all(|p| p.1.is_empty()), "nobody knows where they are");
    // From west to east: DT-4, BD-2, GM-3, the two last in one place; a point of a probe that is not here does nothing.
    let at = |name: &str, longitude| SitePoint {
        of: PointOf::Landmark(LandmarkKind::Point),
        name: name.into(),
        place: Place { latitude: 0.0, longitude },
        elevation_m: None,
        note: String::new(),
    };
    let points = vec![at("bd-2", 2e-5), at("GM-3", 2e-5), at("DT-4", 0.0), at("XX-9", 1e-5)];
    let station = SitePoint { of: PointOf::Station("tub1".into()), ..at("Tubs", -1e-4) };
    let file = SiteFile { points: [points, vec![station]].concat(), left_out: Vec::new() };
    take_site(&site.store, 1, &file, "N. Arvel", NOW).await.unwrap();
    let walked = order().await;
    let named: Vec<&str> = walked.iter().map(|p| p.0.as_str()).collect();
    assert_eq!(named, ["DT-4", "BD-2", "GM-3", "BD-1"]);
    let ways: Vec<&str> = walked.iter().map(|p| p.1.as_str()).collect();
    let name = site.store.station(site.station).await.unwrap().name;
    let first = format!("11.1\u{a0}m at 90° (E) from {name}");
    assert_eq!(ways, [first.as_str(), "2.2\u{a0}m at 90° (E) from DT-4", "at BD-2", ""]);
    let landmarks = site.store.landmarks(1).await.unwrap();
    let station = site.store.station(site.station).await.unwrap();
    assert!(found_again(&station, &landmarks).is_empty(), "a buried point is no mark to find a station by");
    let walks = walks(&site.store, &[station], &landmarks).await.unwrap();
    assert_eq!((walks.len(), walks[0].points.len(), walks[0].metres().round()), (1, 3, 13.0));
}

#[tokio::test]
async fn a_site_is_taken_in_once_and_its_sum_agrees() {
    let site = Site::new().await;
    let point = |of, name: &str, latitude| SitePoint {
        of,
        name: name.into(),
        place: Place { latitude, longitude: -3.2 },
        elevation_m: None,
        note: String::new(),
    };
    let mark = || PointOf::Landmark(LandmarkKind::Landmark);
    let file = SiteFile {
        points: vec![
            point(PointOf::Station("tub1".into()), "Tubs", 46.9),
            point(PointOf::Station("none".into()), "elsewhere", 46.9),
            point(mark(), "oak “θ”", 46.9003),
            point(mark(), "stone", 46.9001),
            point(mark(), "far mast", 47.0),
        ],
        left_out: vec![(6, "it has no place".into())],
    };
    let take = async || take_site(&site.store, 1, &file, "N. Arvel", NOW).await.unwrap();
    let sum =
        |t: &ebrel_app::field::SiteTaken| t.placed.len() + t.landmarks.len() + t.unchanged + t.unknown.len() + t.beyond;
    let first = take().await;
    assert_eq!((first.placed.len(), first.landmarks.len(), first.unknown.len(), first.left_out.len()), (1, 3, 1, 1));
    assert_eq!(sum(&first), first.points);
    let again = take().await;
    assert_eq!((again.unchanged, sum(&again)), (4, again.points), "nothing new the second time");

    let station = site.store.station(site.station).await.unwrap();
    let landmarks = site.store.landmarks(1).await.unwrap();
    let ways = found_again(&station, &landmarks);
    assert_eq!(ways, ["11.1\u{a0}m at 180° (S) from stone", "33\u{a0}m at 180° (S) from oak “θ”"]);
    assert_eq!(pack(&site.store, site.station, NOW).await.unwrap().found_again, ways, "the phone knows it too");
    assert_eq!(points(&[station], &landmarks).0.len(), 4);

    // With a plan the place goes through the plan, which would undo it otherwise.
    planned(&site, "14").await;
    let moved = SiteFile { points: vec![point(PointOf::Station("tub1".into()), "Tubs", 46.91)], left_out: Vec::new() };
    take_site(&site.store, 1, &moved, "N. Arvel", NOW).await.unwrap();
    planned(&site, "15").await;
    assert_eq!(site.store.station(site.station).await.unwrap().latitude, Some(46.91));
}
