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
    assert!(page.contains(">30.12<") && page.contains("outside type T, which goes from -270 to 400"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sun_that_warms_the_demos_bare_sensor_is_found_in_its_record() {
    let v = Visitor::of_demo().await;
    let page = v.page("/stations/1/sun-test").await;
    assert!(page.contains("The sun makes it") && page.contains("by day, overcast days"));
    assert!(v.page("/stations/2/sun-test").await.contains("the station does not have both"));
    assert!(v.page("/studies/1/bench").await.contains("Sun test at Cut coupe"));
}
