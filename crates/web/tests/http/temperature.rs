//! Thermometer checks over HTTP, and the sun test from the demo's record.

use super::client::Visitor;

async fn sheet(v: &Visitor) -> String {
    let begun = v.post("/studies/1/temperature", &[("serial", "DT-0208")]).await;
    begun.headers()["location"].to_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn pairs_are_judged_as_typed_and_the_check_enters_the_probes_life() {
    let v = Visitor::of_demo().await;
    let sheet = sheet(&v).await;
    assert!(v.page(&sheet).await.contains("No pair yet: stirred ice bath, room, warm"));
    let one = [("pairs.0.probe", "0.71"), ("pairs.0.reference", "0"), ("live", "yes")];
    assert!(v.post(&sheet, &one).await.text().await.unwrap().contains("One pair never justifies"));
    let more = [
        ("pairs.1.probe", "20.82 20.80 20.81"),
        ("pairs.1.reference", "20.1"),
        ("pairs.2.probe", "35.1 35.3 35.6"),
        ("pairs.2.reference", "34.6"),
        ("pairs.3.probe", "warm"),
        ("pairs.3.reference", "40"),
        ("claim_probe", "0.2"),
    ];
    v.post(&sheet, &more).await;
    let page = v.page(&sheet).await;
    for words in ["A constant bias of +0.7", "Still running by 0.50 K", "“warm” is no number", "value=\"warm\""] {
        assert!(page.contains(words), "{words}");
    }
    v.post(&sheet, &[("do", "note")]).await;
    assert!(v.page("/probes/DT-0208").await.contains("checked against a thermometer: A constant bias"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_thermocouple_wants_its_panel_and_no_impossible_reading() {
    let v = Visitor::of_demo().await;
    let sheet = sheet(&v).await;
    v.post(&sheet, &[("signal", "T"), ("pairs.0.probe", "0.25"), ("pairs.0.reference", "30")]).await;
    assert!(v.page(&sheet).await.contains("needs the temperature of the panel"));
    v.post(
        &sheet,
        &[("pairs.0.panel", "24"), ("pairs.1.probe", "80"), ("pairs.1.panel", "24"), ("pairs.1.reference", "30")],
    )
    .await;
    let page = v.page(&sheet).await;
    for words in ["30.12 <span", "± 0.62 (95 %)", "outside type T, which goes from -270 to 400"] {
        assert!(page.contains(words), "{words}");
    }
}

/// The first corrected value and raw value of a port in an export of two days.
async fn exported(v: &Visitor, port: &str) -> (f64, Option<f64>) {
    let path = "/stations/1/export/package.zip?chosen=1&from=2026-05-28&to=2026-05-30";
    let zip = v.get(path).await.bytes().await.unwrap();
    let package = ebrel_formats::package::read_zip(&zip, "cut.zip").unwrap();
    let (_, readings) = package.channels.into_iter().find(|c| c.0.port == port).unwrap();
    let first = readings.get(0).unwrap();
    (first.value, first.raw)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_correction_changes_what_the_record_shows_and_is_taken_back() {
    let v = Visitor::of_demo().await;
    let sheet = sheet(&v).await;
    let (before, raw) = exported(&v, "t05").await;
    assert_eq!(raw, None);
    v.post(&sheet, &[("pairs.0.probe", "0.71"), ("pairs.0.reference", "0"), ("reason", "one pair"), ("do", "correct")])
        .await;
    assert!(v.page(&sheet).await.contains("the pairs do not carry a correction"), "one pair is no evidence");
    let pairs = [
        ("pairs.1.probe", "20.81"),
        ("pairs.1.reference", "20.1"),
        ("pairs.2.probe", "35.31"),
        ("pairs.2.reference", "34.6"),
        ("claim_probe", "0.2"),
        ("reason", ""),
        ("from", "2026-01-01"),
    ];
    v.post(&sheet, &pairs).await;
    let correct = |reason: &'static str, until: &'static str| [("reason", reason), ("until", until), ("do", "correct")];
    v.post(&sheet, &correct("", "")).await;
    assert!(v.page(&sheet).await.contains("Not corrected: say why"));
    v.post(&sheet, &correct("three baths", "2025-01-01")).await;
    assert!(v.page(&sheet).await.contains("it must end after it begins"));
    v.post(&sheet, &correct("three baths", "")).await;
    let page = v.page(&sheet).await;
    assert!(
        page.contains("DT-0208 is corrected by −0.71 K")
            && page.contains("from 1 Jan 2026 00:00, by N. Arvel: three baths (evidence: A constant bias")
    );
    let (after, raw) = exported(&v, "t05").await;
    assert!((after - before + 0.71).abs() < 1e-9 && raw == Some(before), "{before} became {after}, with raw {raw:?}");
    v.post(&sheet, &correct("again", "")).await;
    assert!(v.page(&sheet).await.contains("take it back first"));
    let number = page.split("value=\"withdraw ").nth(1).unwrap().split('"').next().unwrap();
    v.post(&sheet, &[("do", &format!("withdraw {number}"))]).await;
    assert!(v.page(&sheet).await.contains("taken back by N. Arvel"), "it stays on record");
    assert_eq!(exported(&v, "t05").await, (before, None));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_thermistor_goes_by_its_three_points() {
    let v = Visitor::of_demo().await;
    let sheet = sheet(&v).await;
    v.post(&sheet, &[("signal", "thermistor"), ("pairs.0.probe", "10000"), ("pairs.0.reference", "25")]).await;
    assert!(v.page(&sheet).await.contains("needs three points of temperature and resistance"));
    let mut points = vec![
        ("points.0.celsius", "0"),
        ("points.0.ohm", "32600"),
        ("points.1.celsius", "25"),
        ("points.1.ohm", "3600"),
        ("points.2.celsius", "50"),
        ("points.2.ohm", "10000"),
    ];
    v.post(&sheet, &points).await;
    assert!(v.page(&sheet).await.contains("are two of them swapped?"));
    points.extend([
        ("points.1.ohm", "10000"),
        ("points.2.ohm", "3600"),
        ("pairs.1.probe", "0"),
        ("pairs.1.reference", "9"),
    ]);
    v.post(&sheet, &points).await;
    let page = v.page(&sheet).await;
    assert!(page.contains("25.00 <span") && page.contains(" (95 %)") && page.contains("a short or an open circuit"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sun_that_warms_the_demos_bare_sensor_is_found_in_its_record() {
    let v = Visitor::of_demo().await;
    let page = v.page("/stations/1/sun-test").await;
    assert!(page.contains("The sun makes it") && page.contains("by day, overcast days"));
    assert!(page.contains(" readings are left out by flags or verdicts"));
    assert!(v.page("/stations/2/sun-test").await.contains("the station does not have both"));
    assert!(v.page("/studies/1/bench").await.contains("Sun test at Cut coupe"));
}
