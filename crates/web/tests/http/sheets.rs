//! Batches side by side and tension probes over HTTP.

use super::client::Visitor;

async fn begun(v: &Visitor, kind: &str) -> String {
    let answer = v.post(&format!("/studies/1/{kind}"), &[]).await;
    answer.headers()["location"].to_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_odd_probe_of_a_batch_is_named_and_the_verdicts_stay() {
    let v = Visitor::of_demo().await;
    let sheet = begun(&v, "batch").await;
    assert!(v.page(&sheet).await.contains("0 of at least 4 probes"));
    let list =
        "BD-0417; 902 903 904\nBD-0418; 899,5\nBD-0421; 905\nBD-0422; 1005\nBD-9999; 901\nBD-0417; 900\nBD-0500; wet";
    let answer = v.post(&sheet, &[("list", list), ("live", "yes")]).await.text().await.unwrap();
    for words in
        ["the odd one out: BD-0422 (+102.0 mV", "line 6: BD-0417 stands there twice", "line 7: “wet” is no number"]
    {
        assert!(answer.contains(words), "{words}");
    }
    assert!(v.page(&sheet).await.contains("BD-0500; wet"), "nothing typed is lost");
    v.post(&sheet, &[("do", "note")]).await;
    assert!(v.page(&sheet).await.contains("noted in the life of 4 probes. Not in the register: BD-9999."));
    assert!(v.page("/probes/BD-0422").await.contains("rejected: side by side in moist sand"));
    assert!(v.page("/studies/1/probes").await.contains("rejected: repair it"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_block_is_read_in_both_polarities() {
    let v = Visitor::of_demo().await;
    let sheet = begun(&v, "tension").await;
    let pulses = "0.93172595; -0.887190784\n0.9317; -0.8872\n2.5; -2.5\nopen";
    v.post(&sheet, &[("list", pulses)]).await;
    let page = v.page(&sheet).await;
    for words in [
        "26 kPa at 20 °C: 4\u{202f}500 Ω, with 35.0 mV",
        "In silt loam: water is easy to get.",
        "an open circuit",
        "line 4: two voltages",
    ] {
        assert!(page.contains(words), "{words}");
    }
    let answer = v.post(&sheet, &[("list", "0; 0"), ("celsius", "80"), ("live", "yes")]).await.text().await.unwrap();
    assert!(
        answer.contains("No resistance: no voltage across the probe") && answer.contains("Reckoned with 20 meanwhile")
    );
}
