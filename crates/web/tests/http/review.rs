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
