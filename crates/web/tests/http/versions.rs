//! Versions of a calibration: compared on the record before they are adopted, for a probe or a model, retired; drift.

use super::bench::{RUN, probe_of_port, rows};
use super::client::Visitor;
use serde_json::{Value, json};

#[tokio::test(flavor = "multi_thread")]
async fn what_a_version_would_change_is_seen_before_it_is_adopted() {
    let v = Visitor::of_demo().await;
    let form = [("form", ""), ("valid_from", "2025-09-01"), ("serves", "probe")];
    let before = v.page("/probes/BD-0418").await;
    let page = v.post("/bench/5/compare", &form).await.text().await.unwrap();
    for words in ["BD-0418 at Cut coupe, 15", "readings change by", "Most on", "0.30 to 0.35", "Nothing is adopted yet"]
    {
        assert!(page.contains(words), "{words}: {page}");
    }
    assert_eq!(before, v.page("/probes/BD-0418").await, "looking changes nothing");
    let late = v.post("/bench/5/compare", &[("valid_from", "2030-01-01")]).await.text().await.unwrap();
    assert!(late.contains("the record has no reading from that date on"));
    let wrong = v.post("/bench/5/compare", &[("valid_from", "soon")]).await.text().await.unwrap();
    assert!(wrong.contains("Give the date from which it holds") && wrong.contains("value=\"soon\""));

    v.post("/bench/5/adopt", &form).await;
    let probe = v.page("/probes/BD-0418").await;
    assert!(probe.contains("From version 1 to 2:") && probe.contains("a year"), "drift stands on the probe's page");
    let retire = probe.split("/calibrations/").nth(1).unwrap().split('/').next().unwrap().to_owned();
    let path = format!("/calibrations/{retire}/retire");
    v.post(&path, &[("serial", "BD-0418"), ("why", " ")]).await;
    assert!(v.page("/probes/BD-0418").await.contains("Not retired: say why"));
    v.post(&path, &[("serial", "BD-0418"), ("why", "the corer was dented")]).await;
    let page = v.page("/probes/BD-0418").await;
    assert!(page.contains("by N. Arvel: the corer was dented") && !page.contains("From version 1 to 2:"));
    assert_eq!(v.post("/calibrations/999/retire", &[("why", "x")]).await.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_models_curve_serves_probes_in_its_soil_that_have_none() {
    let v = Visitor::of_demo().await;
    let probe = probe_of_port(&v, "BD-0422").await;
    let mut draft = json!({"unit": "mV", "density": "1.3", "rows": rows(&RUN)});
    let body = |draft: &Value| json!({"title": "Blades in clay loam", "probe": probe, "draft": draft});
    v.type_run("/bench/4", &body(&draft)).await;
    let form = [("form", ""), ("valid_from", "2024-03-01"), ("serves", "model")];
    let refused = v.post("/bench/4/adopt", &form).await.text().await.unwrap();
    assert!(refused.contains("name the soil first"));
    draft["soil"] = "silty clay loam".into();
    v.type_run("/bench/4", &body(&draft)).await;
    let compared = v.post("/bench/4/compare", &form).await.text().await.unwrap();
    assert!(compared.contains("get water content for the first time"), "{compared}");
    assert_eq!(compared.matches("at Cut coupe,").count(), 1, "probes with a curve of their own are left alone");
    v.post("/bench/4/adopt", &form).await;
    let station = v.page("/stations/1").await;
    assert!(!station.contains("Raw output, not water content"));
    assert!(v.page("/studies/1/bench").await.contains("its model&#39;s, in silty clay loam"));
    v.post("/studies/1/probes", &[("list", "BD-0900;blade-5")]).await;
    let shelf = v.page("/probes/BD-0900").await;
    assert!(
        shelf.contains("no calibration: its output is a relative index"),
        "on the shelf it lies in no soil: {shelf}"
    );
    assert!(!v.page("/probes/BD-0422").await.contains("no calibration: its output"));
    assert!(v.page("/bench/4/certificate").await.contains("version 1 for every blade dielectric"));
}

#[tokio::test(flavor = "multi_thread")]
async fn cores_beside_the_probe_are_read_from_the_record() {
    let v = Visitor::of_demo().await;
    let probe = probe_of_port(&v, "BD-0417").await;
    let row = |at: &str| json!({"at": at, "tare": "20", "wet": "175", "dry": "150", "volume": "100"});
    let rows = [row("2026-06-22 08:30"), row("22 June"), row("2019-06-22 08:30")];
    let body = |probe: Option<i64>| json!({"title": "Cores", "probe": probe, "draft": {"school": "cores", "unit": "mV", "rows": rows}});
    let worked: Value = v.type_run("/bench/1", &body(Some(probe))).await;
    let figures = worked["figures"].as_array().unwrap();
    assert!(figures[0]["recorded"].as_str().unwrap().parse::<f64>().unwrap() > 400.0, "{}", figures[0]);
    assert_eq!(figures[0]["theta"], "0.2500 ± 0.0025");
    assert!(figures[1]["message"].as_str().unwrap().contains("like 2026-06-22 08:30"));
    assert!(figures[2]["message"].as_str().unwrap().contains("not in the ground then"));
    let worked: Value = v.type_run("/bench/1", &body(None)).await;
    assert!(worked["figures"][0]["message"].as_str().unwrap().contains("Choose the probe first"));
    let page = v.page("/bench/1").await;
    assert!(
        page.contains("<option value=\"cores\" selected>") && page.contains("value=\"22 June\""),
        "nothing typed is lost"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_core_takes_no_reading_that_a_flag_or_a_verdict_leaves_out() {
    let v = Visitor::of_demo().await;
    let told = async |serial: &str, at: &str| {
        let probe = probe_of_port(&v, serial).await;
        let row = json!({"at": at, "tare": "20", "wet": "175", "dry": "150", "volume": "100"});
        let draft = json!({"school": "cores", "unit": "mV", "rows": [row]});
        let body = json!({"title": "Cores", "probe": probe, "draft": draft});
        let worked: Value = v.type_run("/bench/1", &body).await;
        worked["figures"][0].clone()
    };
    let unplugged = told("BD-0422", "2024-09-13 12:00").await;
    assert!(unplugged["message"].as_str().unwrap().contains("left out by a flag or a verdict"), "{unplugged}");
    let beside_a_spike = told("BD-0418", "2026-06-09 09:00").await;
    assert!(beside_a_spike["recorded"].as_str().unwrap().ends_with(" (2 left out)"), "{beside_a_spike}");
    assert!(beside_a_spike["theta"].as_str().unwrap().contains('±'), "the other readings stand");
}
