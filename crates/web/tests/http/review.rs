//! Verdicts: given, kept over a new run, exported, undone.

use super::client::Visitor;
use ebrel_formats::package::read_zip;
use serde_json::{Value, json};

fn waiting(page: &str) -> usize {
    page.split("data-answer>").nth(1).unwrap().split_whitespace().next().unwrap().parse().unwrap()
}

fn first_flags(page: &str) -> Vec<i64> {
    page.split("data-flags=\"")
        .nth(1)
        .unwrap()
        .split('"')
        .next()
        .unwrap()
        .split(' ')
        .map(|n| n.parse().unwrap())
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_verdict_beats_the_test_survives_a_run_and_can_be_undone() {
    let v = Visitor::of_demo().await;
    let page = v.page("/stations/1/review").await;
    let before = waiting(&page);
    assert!(page.find("Not connected").unwrap() < page.find("Spike").unwrap(), "the most damaging comes first");
    let body = json!({"flags": first_flags(&page), "verdict": "kept", "reason": "the plug was in"});
    let outcome: Value = v.post_json("/stations/1/review/verdict", &body).await.json().await.unwrap();
    assert_eq!(outcome["waiting"], before - 1);

    assert_eq!(v.post("/stations/1/review/run", &[]).await.status(), 303);
    let decided = v.page("/stations/1/review?state=decided").await;
    assert!(decided.contains("Kept by N. Arvel") && decided.contains("the plug was in"));
    let zip = v.get("/stations/1/export/package.zip").await.bytes().await.unwrap();
    let package = read_zip(&zip, "cut.zip").unwrap();
    let kept = package.flags.iter().find(|f| f.verdict == "kept").unwrap();
    assert_eq!(kept.test, "not_connected");
    let zeros =
        package.channels.iter().find(|c| c.0.port == "m60").unwrap().1.iter().filter(|r| r.value == 0.0).count();
    assert_eq!(zeros, 215, "kept readings go out although their grade is left out");

    let undo = json!({ "verdicts": outcome["verdicts"] });
    let outcome: Value = v.post_json("/stations/1/review/undo", &undo).await.json().await.unwrap();
    assert_eq!(outcome["waiting"], before);
}

#[tokio::test(flavor = "multi_thread")]
async fn filters_narrow_the_list_and_stale_flags_are_told() {
    let v = Visitor::of_demo().await;
    let spikes = v.page("/stations/1/review?test=spike").await;
    assert!(spikes.contains("<b>Spike</b>") && !spikes.contains("<b>Stuck</b>"));
    let gaps = v.page("/stations/1/review?state=condition&test=gap").await;
    assert_eq!(gaps.matches("node 01, 12 channels").count(), 3 + 2, "each silence once for the node, and the choice");
    let stale = v.post_json("/stations/1/review/verdict", &json!({"flags": [999_999], "verdict": "kept"})).await;
    assert_eq!(stale.status(), 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn numbers_of_the_tests_are_set_for_a_station_or_its_study_and_the_tests_run_by_them() {
    let v = Visitor::of_demo().await;
    let path = "/stations/1/review/tests";
    let page = v.page(path).await.replace("&#39;", "'");
    for test in ebrel_core::quality::Test::ALL {
        let d = test.definition();
        assert!(page.contains(&format!("</span> {}</h2>", d.title)), "{}", d.title);
        assert!(d.settings.iter().all(|s| page.contains(s.meaning)), "{}", d.title);
    }
    let spikes = async || v.page("/stations/1/review?state=waiting&test=spike").await.matches("data-flags=").count();
    let before = spikes().await;
    assert!(before > 0);

    let wrong = v.post(path, &[("for", "station"), ("spike.sigmas", "1"), ("step.wiggles", "4,5")]).await;
    let wrong = wrong.text().await.unwrap();
    assert!(wrong.contains("sigmas must lie between 3 and 100000 σ; 1 does not") && wrong.contains("value=\"4,5\""));
    assert_eq!(spikes().await, before, "nothing was kept");

    // Nothing holds before its effect was seen.
    let preview = v.post(path, &[("for", "study"), ("spike.sigmas", "1000")]).await.text().await.unwrap();
    assert!(preview.contains("What these numbers would change") && preview.contains("would go"), "{preview}");
    assert_eq!(spikes().await, before, "a preview keeps nothing");
    let seen = "[[\"spike\",\"sigmas\",1000.0]]";
    assert!(preview.contains(&seen.replace('"', "&#34;")), "the page carries what it showed: {preview}");
    let other = v.post(path, &[("for", "study"), ("spike.sigmas", "900"), ("seen", seen)]).await;
    assert_eq!(other.status(), 200, "other numbers than those that were shown are shown first");
    let again = v.post(path, &[("for", "study"), ("spike.sigmas", "1000"), ("seen", seen), ("again", "yes")]).await;
    assert_eq!(again.status(), 200);
    let all = v.post(path, &[("for", "study"), ("spike.sigmas", "1000"), ("seen", seen)]).await;
    assert_eq!(all.headers()["location"], "/stations/1/review/tests?for=study");
    assert!(spikes().await < before, "a deaf test finds less");
    let page = v.page(path).await;
    assert!(page.contains("set for the study 1000"), "{page}");
    assert!(page.contains("spike.sigmas 1000"), "the version is listed: {page}");
    v.post(path, &[("for", "station"), ("spike.sigmas", "8"), ("seen", "[[\"spike\",\"sigmas\",8.0]]")]).await;
    assert_eq!(spikes().await, before, "the station's own number beats its study's");
    assert!(v.page(path).await.contains("set by N. Arvel"));
    assert_eq!(v.get("/stations/99/review/tests").await.status(), 404);
}
