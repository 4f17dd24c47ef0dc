//! The register of probes over HTTP: bulk entry, a probe's page and life, finding it from anywhere.

use super::client::Visitor;

#[tokio::test(flavor = "multi_thread")]
async fn a_pasted_list_is_taken_line_by_line_and_the_rest_stands() {
    let v = Visitor::owner().await;
    let list = "BD-0900;blade-5;box 3\nBD-0901;spade-5\nBD-0900;blade-5\n<b>;hoe-5";
    let page = v.post("/studies/1/probes", &[("list", list)]).await.text().await.unwrap();
    assert!(
        page.contains("Line 2: “spade-5” is no model") && page.contains("Line 3: BD-0900 is in the register already")
    );
    assert!(
        page.contains("&#60;b&#62;;hoe-5</textarea>") && !page.contains("box 3"),
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

#[tokio::test(flavor = "multi_thread")]
async fn serials_with_any_sign_work_everywhere_and_twenty_thousand_are_taken_at_once() {
    let v = Visitor::owner().await;
    let odd = ["BD/04#17", "θ 5 (north)", "100% new", "a?b&c", "'quoted'"];
    let list: String = odd.iter().map(|s| format!("{s}\tblade-5\tfrom the odd box\n")).collect();
    assert_eq!(v.post("/studies/1/probes", &[("list", &list)]).await.status(), 303);
    let register = v.page("/studies/1/probes").await;
    let links: Vec<&str> = register.split("href=\"/probes/").skip(1).map(|l| l.split('"').next().unwrap()).collect();
    assert_eq!(links.len(), odd.len());
    for link in links {
        let page = v.page(&format!("/probes/{link}")).await;
        assert!(page.contains("from the odd box"), "{link}");
        let note = v.post(&format!("/probes/{link}"), &[("kind", "note"), ("note", "seen")]).await;
        let back = note.headers()["location"].to_str().unwrap().to_owned();
        assert!(v.page(&back).await.contains("seen"), "{link} -> {back}");
    }
    let found = v.get("/find?q=BD%2F04%2317").await;
    assert_eq!(v.get(found.headers()["location"].to_str().unwrap()).await.status(), 200);
    let broken = v.post("/studies/1/probes", &[("list", "\u{7}bell\tblade-5")]).await.text().await.unwrap();
    assert!(broken.contains("stands on one line"), "{broken}");

    let many: String = (0..20_000).map(|i| format!("N-{i:05};blade-5;box {}\n", i / 50)).collect();
    assert_eq!(v.post("/studies/1/probes", &[("list", &many)]).await.status(), 303);
    let all = v.page("/studies/1/probes").await;
    assert!(all.contains("20005 of 20005 probes are not to be trusted yet"), "{}", &all[..3000]);
}
