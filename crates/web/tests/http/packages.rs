//! Record packages brought in on the page: looked at, taken once, refused with what was typed still there.

use super::client::Visitor;
use super::roles::member;
use ebrel_core::roles::Role;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::package::{ChannelRow, Package, ReadingRow, StationRow, read_zip, write_zip};
use std::io::Cursor;

/// A package of one station with so many readings, one of them without a value, from elsewhere.
pub fn package(station: &str, readings: i64) -> Vec<u8> {
    let time = |i: i64| UnixSeconds(1_772_323_200 + i * 900);
    let row = ChannelRow {
        channel: format!("{station} θ \"15\""),
        station: station.into(),
        quantity: "water_content".into(),
        unit: "m3/m3".into(),
        depth_cm: Some(15.0),
        serial: format!("S-{station}"),
        ..ChannelRow::default()
    };
    let value = |i: i64| if i == 3 { f64::NAN } else { 0.25 };
    let rows = (0..readings).map(|i| ReadingRow::plain(time(i), value(i))).collect();
    let stations = vec![StationRow { station: station.into(), name: "Reed “bed”".into(), ..StationRow::default() }];
    let whole: Package = Package { title: "Reeds".into(), stations, channels: vec![(row, rows)], ..Package::default() };
    let mut zip = Cursor::new(Vec::new());
    write_zip(whole, &mut zip).unwrap();
    zip.into_inner()
}

/// Brings a package and returns where its page is.
async fn brought(v: &Visitor, path: &str, zip: &[u8]) -> String {
    let answer = v.upload_to(path, "reeds.zip", zip).await;
    assert_eq!(answer.status(), 303);
    answer.headers()["location"].to_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_package_is_looked_at_first_and_taken_once() {
    let owner = Visitor::owner().await;
    let path = brought(&owner, "/studies/1/packages/new", &package("reed", 96)).await;
    let page = owner.page(&path).await;
    assert!(
        page.contains("96 readings of 1 station. Nothing is taken yet.") && page.contains("a new station"),
        "{page}"
    );
    assert!(!owner.page("/studies/1").await.contains("Reed “bed”"), "looking is not taking");

    let (one, other) = (owner.another_tab(), owner.another_tab());
    let form = [("code.reed", "reed-2")];
    let answers = tokio::join!(one.post(&path, &form), other.post(&path, &form));
    for answer in [answers.0, answers.1] {
        assert_eq!((answer.status().as_u16(), answer.headers()["location"].to_str().unwrap()), (303, path.as_str()));
    }
    let page = owner.page(&path).await;
    assert!(page.contains("95 of 96 readings of 1 station are new"), "{page}");
    assert!(page.contains("96: 95 new, 0 known, 1 without a value"), "{page}");
    assert!(owner.page("/studies/1").await.contains("Reed “bed”"));

    // What comes out of the station is known when it is brought again.
    let page = owner.page(&path).await;
    let station = page.split("\"><b>Reed").next().unwrap().rsplit('/').next().unwrap();
    let out = owner.get(&format!("/stations/{station}/export/package.zip?chosen=1")).await.bytes().await.unwrap();
    assert_eq!(read_zip(&out, "out.zip").unwrap().channels[0].1.len(), 95);
    let merged = brought(&owner, "/studies/1/packages/new", &out).await;
    assert!(owner.page(&merged).await.contains("merged into the one here"));
    assert_eq!(owner.post(&merged, &[]).await.status(), 303);
    assert!(owner.page(&merged).await.contains("95: 0 new, 95 known"));

    let guest = member(&owner, "T. Quill", Role::Guest).await;
    let waits = brought(&owner, "/studies/1/packages/new", &package("willow", 4)).await;
    let before = guest.page(&waits).await;
    assert!(before.contains("Nothing of it is taken yet.") && !before.contains("willow"), "{before}");
    let seen = guest.page(&path).await;
    assert!(seen.contains("95 of 96 readings") && !seen.contains("Take it in"));
    assert_eq!(guest.get("/packages/1").await.status(), 403, "who owns nothing begins no study");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_is_begun_for_a_package_and_what_is_wrong_is_said_beside_what_was_typed() {
    let v = Visitor::of_demo().await;
    let path = brought(&v, "/packages/new", &package("cut", 8)).await;
    let page = v.page(&path).await;
    assert!(page.contains("the station “cut” is there in the study") && page.contains("value=\"Reeds\""), "{page}");
    let refused = v.post(&path, &[("study", "Reeds θ"), ("code.cut", "uncut")]).await.text().await.unwrap();
    assert!(refused.contains("the station “uncut” is there"), "{refused}");
    assert!(refused.contains("value=\"Reeds θ\"") && refused.contains("value=\"uncut\""), "{refused}");
    for (name, code) in [("", "reed"), ("Reeds", ""), ("R".repeat(5000).as_str(), "reed")] {
        let refused = v.post(&path, &[("study", name), ("code.cut", code)]).await;
        assert_eq!(refused.status(), 200, "{name:.20} {code}");
    }
    let taken = v.post(&path, &[("study", "Reeds θ"), ("code.cut", "reed")]).await;
    let there = taken.headers()["location"].to_str().unwrap();
    let study = there.strip_suffix("/packages/1").unwrap();
    assert!(v.page(study).await.contains("Reeds θ"));
    assert_eq!(v.get(&path).await.headers()["location"], there);
    assert_eq!(v.get("/studies/1/packages/1").await.status(), 404, "it is none of the other study's business");

    for (name, bytes, says) in [
        ("none.zip", &b""[..], "Choose a package first."),
        ("logger.csv", b"time,m05\n2026-03-01 00:00,900\n", "This is no record package"),
        ("half.zip", &package("half", 50)[..200], "This is no record package"),
    ] {
        let page = v.upload_to("/packages/new", name, bytes).await.text().await.unwrap();
        assert!(page.contains(says), "{name}: {page}");
    }
    let page = v.upload("cut.zip", &package("cut", 8)).await.text().await.unwrap();
    assert!(page.contains("cut.zip: it is a record package, and no logger"), "{page}");
}
