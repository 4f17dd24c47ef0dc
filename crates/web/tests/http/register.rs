//! The register of probes over HTTP: bulk entry, a probe's page and life, finding it from anywhere.

use super::client::Visitor;

#[tokio::test(flavor = "multi_thread")]
async fn a_pasted_list_is_taken_line_by_line_and_the_rest_stands() {
    let v = Visitor::owner().await;
    let list = "BD-0900;blade-5;box 3\nBD-0901;spade-5\nBD-0900;blade-5\n<b>;blade-5";
    let page = v.post("/studies/1/probes", &[("list", list)]).await.text().await.unwrap();
    assert!(
        page.contains("Line 2: “spade-5” is no model") && page.contains("Line 3: BD-0900 is in the register already")
    );
    assert!(
        page.contains("&#60;b&#62;;blade-5</textarea>") && !page.contains("box 3"),
        "what was taken is gone from the field"
    );
    let page = v.page("/probes/bd-0900").await;
    for words in
        ["blade dielectric, 5 cm", "On the shelf, and not to be trusted yet.", "not accepted yet", "note: box 3"]
    {
        assert!(page.contains(words), "{words}");
    }
    v.post("/probes/BD-0900", &[("kind", "accepted"), ("note", "air 312 mV, water 1480 mV")]).await;
    let page = v.page("/probes/BD-0900").await;
    assert!(
        page.contains("air 312 mV, water 1480 mV")
            && !page.contains("not accepted yet")
            && page.contains("no calibration")
    );
    assert_eq!(v.post("/probes/BD-0900", &[("kind", "sold")]).await.status(), 422);
    assert_eq!(v.get("/probes/BD-9999").await.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_serial_finds_its_probe_from_anywhere_and_a_label_its_plan() {
    let v = Visitor::of_demo().await;
    assert_eq!(v.get("/find?q=bd-0417").await.headers()["location"], "/probes/BD-0417");
    let page = v.page("/find?q=BD-04").await;
    assert!(page.contains("BD-0418") && page.contains("BD-0422"));
    assert_eq!(v.get("/find?q=ride").await.headers()["location"], "/stations/3");
    assert!(v.page("/find?q=%3Cb%3E").await.contains("Nothing is called “&#60;b&#62;”"));
    let page = v.page("/probes/BD-0417").await;
    assert!(page.contains("Cut coupe, port m05, 5\u{a0}cm") && page.contains("from 1 Mar 2024 00:00, still there"));
    // BD-0431 is planned, and not in the register yet.
    assert_eq!(v.get("/probes/BD-0431").await.headers()["location"], "/stations/3/plan/depths");
    let register = v.page("/studies/1/probes").await;
    assert!(register.contains("no calibration: its output is a relative index"));
}
