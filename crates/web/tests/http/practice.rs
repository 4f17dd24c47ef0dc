//! A calibration practised at the stand-ins, and a thermometer in the bath.

use super::client::Visitor;

async fn step(v: &Visitor, run: &str, code: &str) -> String {
    let answer = v.post(&format!("{run}/stand-in"), &[("do", code)]).await;
    assert_eq!(answer.headers()["location"].to_str().unwrap(), run, "{code}");
    v.page(run).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_practice_run_leads_through_the_bench_and_shows_the_truth() {
    let v = Visitor::of_demo().await;
    let begun = v.post("/studies/1/practice", &[]).await;
    let run = begun.headers()["location"].to_str().unwrap().to_owned();
    let page = step(&v, &run, "read").await;
    assert!(page.contains("Pack the container first"), "what comes first is said, and nothing is written");
    for point in 1..=7 {
        step(&v, &run, "pack").await;
        let read = step(&v, &run, "read").await;
        assert!(read.contains("The handheld shows"), "point {point}");
        let page = step(&v, &run, "core").await;
        assert!(page.contains(&format!("Tin {point}:")) && page.contains(&format!("Point {point} of 7")));
        if point < 7 {
            step(&v, &run, "water").await;
        }
    }
    let dried = step(&v, &run, "oven").await;
    assert!(!dried.contains("The truth is shown") && dried.contains("24 h in the oven"));
    let longer = step(&v, &run, "longer").await;
    assert!(longer.contains("it was not dry"), "the damp tin shows at its second weighing");
    assert!(longer.contains("packed differently") && longer.contains("repeated readings disagree"));
    let refused = v.post(&format!("{run}/adopt"), &[("valid_from", "2024-03-01")]).await.text().await.unwrap();
    assert!(refused.contains("A practice run serves no real probe"));
    let truth = step(&v, &run, "reveal").await;
    assert!(truth.contains("m³/m³ from the true one") && truth.contains("class=\"truth\""));
    assert_eq!(truth.matches("It is still in your fit").count(), 4, "a hasty beginner mends nothing");
    let other = v.post("/bench/1/stand-in", &[("do", "pack")]).await;
    assert_eq!(other.status(), 404, "a real run has no stand-ins");
}

#[tokio::test(flavor = "multi_thread")]
async fn haste_in_the_bath_is_noticed_and_patience_finds_the_truth() {
    let v = Visitor::of_demo().await;
    let begun = v.post("/studies/1/temperature", &[("serial", "practice")]).await;
    let sheet = begun.headers()["location"].to_str().unwrap().to_owned();
    v.post(&sheet, &[("do", "bath 0:1")]).await;
    assert!(v.page(&sheet).await.contains("Still running by"));
    for setting in 0..5 {
        v.post(&sheet, &[("do", &format!("bath {setting}:8"))]).await;
    }
    v.post(&sheet, &[("do", "bath 9:8")]).await;
    let page = v.page(&sheet).await;
    assert_eq!(page.matches("bath, after 8 min").count(), 5, "a bath that is not there changes nothing");
    assert!(!page.contains("The truth:"));
    v.post(&sheet, &[("do", "truth")]).await;
    assert!(v.page(&sheet).await.contains("The truth: it "));
}
