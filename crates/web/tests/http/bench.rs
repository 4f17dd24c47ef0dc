//! A calibration from typed samples to water content in the record.

use super::client::Visitor;
use serde_json::{Value, json};

pub fn rows(samples: &[(f64, f64)]) -> Vec<Value> {
    samples
        .iter()
        .map(|(raw, theta)| {
            let wet = 20.0 + 130.0 + theta * 100.0;
            json!({"raw": raw.to_string(), "tare": "20", "wet": format!("{wet:.2}"), "dry": "150", "volume": "100", "out": false})
        })
        .collect()
}

pub const RUN: [(f64, f64); 7] = [
    (850.0, 0.052),
    (1012.0, 0.098),
    (1175.0, 0.151),
    (1340.0, 0.199),
    (1496.0, 0.262),
    (1658.0, 0.318),
    (1820.0, 0.389),
];

pub async fn probe_of_port(v: &Visitor, serial: &str) -> i64 {
    let page = v.page("/studies/1/bench").await;
    let option = page.split("<option value=\"").find(|o| o.contains(&format!(">{serial}<"))).unwrap();
    option.split('"').next().unwrap().parse().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn samples_are_worked_out_as_one_types_and_kept_over_a_reload() {
    let v = Visitor::of_demo().await;
    let begun = v.post("/studies/1/bench", &[("probe", "")]).await;
    let run = begun.headers()["location"].to_str().unwrap().to_owned();
    let mut typed = rows(&RUN[..2]);
    typed.push(json!({"raw": "1200", "tare": "20", "wet": "150", "dry": "160", "volume": "100"}));
    typed.push(json!({"raw": "1300", "tare": "20", "wet": "160", "dry": "150", "volume": "0"}));
    let body = json!({"title": "Practice", "probe": null, "draft": {"unit": "mV", "rows": typed}});
    let worked: Value = v.type_run(&run, &body).await;
    assert_eq!(worked["figures"][0]["theta"], "0.0520 ± 0.0005");
    assert_eq!(worked["figures"][2]["field"], "dry");
    assert_eq!(worked["figures"][3]["field"], "volume");
    assert!(worked["result"].as_str().unwrap().contains("2 samples cannot carry this curve"));
    let page = v.page(&run).await;
    assert!(page.contains("value=\"Practice\"") && page.contains("value=\"1200\"") && page.contains("columns swapped"));
    let adopt =
        v.post(&format!("{run}/adopt"), &[("degree", ""), ("valid_from", "2024-03-01")]).await.text().await.unwrap();
    assert!(adopt.contains("Choose the probe"));
}

#[tokio::test(flavor = "multi_thread")]
async fn adopting_turns_raw_output_into_water_content_everywhere_at_once() {
    let v = Visitor::of_demo().await;
    let probe = probe_of_port(&v, "BD-0422").await;
    let begun = v.post("/studies/1/bench", &[("probe", &probe.to_string())]).await;
    let run = begun.headers()["location"].to_str().unwrap().to_owned();
    let body = json!({"title": "", "probe": probe, "draft": {"unit": "mV", "density": "1.3", "rows": rows(&RUN)}});
    let worked: Value = v.type_run(&run, &body).await;
    assert!(worked["result"].as_str().unwrap().contains("Quadratic, ±0.011 m³/m³ (95 %) from 0.05 to 0.39."));
    let raw_before = raw_of_m60(&v).await;
    let adopted = v.post(&format!("{run}/adopt"), &[("degree", ""), ("valid_from", "2024-03-01 00:00")]).await;
    assert_eq!(adopted.headers()["location"], "/stations/1");
    let station = v.page("/stations/1").await;
    assert!(station.contains("Version 1 is adopted") && !station.contains("Raw output, not water content"));
    let data: Value =
        v.get("/stations/1/window.json?from=1780000000&to=1782000000&columns=50").await.json().await.unwrap();
    assert!(
        data["strips"].as_array().unwrap().iter().all(|s| s["raw"] == false && s["lines"][0]["band"][25].is_number())
    );
    assert_eq!(raw_before, raw_of_m60(&v).await, "no reading has changed");
}

async fn raw_of_m60(v: &Visitor) -> Vec<f64> {
    let path = "/stations/1/export/package.zip?chosen=1&from=2026-05-28&to=2026-05-30";
    let zip = v.get(path).await.bytes().await.unwrap();
    let package = ebrel_formats::package::read_zip(&zip, "cut.zip").unwrap();
    let (_, readings) = package.channels.into_iter().find(|c| c.0.port == "m60").unwrap();
    readings.iter().map(|r| r.raw.unwrap_or(r.value)).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sample_is_left_out_with_its_reason_and_the_certificate_tells_it() {
    let v = Visitor::of_demo().await;
    let probe = probe_of_port(&v, "BD-0422").await;
    let mut typed = rows(&RUN);
    typed[3]["wet"] = "178".into();
    typed[3]["out"] = true.into();
    typed[0]["raw"] = "849 851 850".into();
    let mut draft = json!({"unit": "mV", "density": "1.3", "w_now": "0.05", "dry_temperature": "221", "rows": typed});
    let body = |draft: &Value| json!({"title": "Tins of May", "probe": probe, "draft": draft});
    let worked: Value = v.type_run("/bench/4", &body(&draft)).await;
    let result = worked["result"].as_str().unwrap();
    for words in ["is it 105 °C that is meant", "the maker&#39;s curve", "stands off by"] {
        assert!(result.contains(words), "{words}: {result}");
    }
    let refused = v.post("/bench/4/adopt", &[("form", ""), ("valid_from", "2024-03-01")]).await.text().await.unwrap();
    assert!(refused.contains("Sample 4 is left out without a reason"));
    draft["rows"][3]["why"] = "its lid was wet".into();
    v.type_run("/bench/4", &body(&draft)).await;
    let adopted = v.post("/bench/4/adopt", &[("form", "quadratic"), ("valid_from", "2024-03-01")]).await;
    assert_eq!(adopted.headers()["location"], "/stations/1");
    let page = v.page("/bench/4/certificate").await;
    for words in [
        "Tins of May",
        "BD-0422",
        "left out: its lid was wet",
        "Adopted: version 1",
        "Leave-one-out error",
        "which all tins share",
    ] {
        assert!(page.contains(words), "{words}");
    }
    let json: Value = v.get("/bench/4/certificate.json").await.json().await.unwrap();
    assert_eq!((json["form"].as_str(), json["samples_in_fit"].as_array().unwrap().len()), (Some("quadratic"), 6));
    assert!(json["samples_in_fit"][0]["u_raw"].as_f64().unwrap() > 0.5, "repeats carry their spread");
}
