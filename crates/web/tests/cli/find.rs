//! `ebrel find`: the same answers as the pages, in words or as JSON; what cannot be found ends with a sentence and code 1.

use super::{ebrel, said};
use ebrel_store::Store;
use serde_json::Value;
use std::path::Path;

/// The demo's first part, in a directory of its own.
async fn demo() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    ebrel_app::demo::seed(&store).await.unwrap();
    store.close().await;
    dir
}

fn json(arguments: &[&str], data: &Path) -> Value {
    let output = ebrel(&[arguments, &["--json"]].concat(), data);
    assert!(output.status.success(), "{}", said(&output));
    // Nothing but the JSON goes to the standard output.
    serde_json::from_slice(&output.stdout).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_found_is_told_in_words_and_as_json() {
    let dir = demo().await;
    let data = dir.path();
    let words = ebrel(&["find", "storage", "--station", "cut"], data);
    assert!(said(&words).starts_with("Down to 30 cm Cut coupe held "), "{}", said(&words));
    let storage = json(&["find", "storage", "--station", "Cut coupe", "--bottom", "20", "--sentinel", "30"], data);
    assert_eq!((storage["bottom_cm"].as_f64(), storage["sentinel_cm"].as_f64()), (Some(20.0), Some(30.0)));
    assert_eq!(storage["depths_cm"], serde_json::json!([5.0, 15.0, 30.0]));
    let series = storage["series"].as_array().unwrap();
    assert!(series.len() > 500 && series.iter().all(|s| s["half_width"].as_f64().unwrap() > 0.0));
    for fall in storage["falls"].as_array().unwrap() {
        let of = |name: &str| fall[name].as_f64();
        let Some(stored) = of("stored_mm") else { continue };
        let sum = stored + of("passed_at_least_mm").unwrap_or(0.0) + of("unexplained_mm").unwrap();
        assert!((sum - of("mm").unwrap()).abs() < 1e-6, "{fall}");
    }
    assert!(storage["readings"]["left_out"].as_u64().unwrap() > 0);

    let heat = json(&["find", "diffusivity", "--station", "cut"], data);
    let months = heat["months"].as_array().unwrap();
    assert!(months.iter().any(|m| m["agree"] == true && m["m2_s"]["harmonic"] == m["preferred"]));
    let kappa: Vec<f64> = months.iter().filter_map(|m| m["preferred"].as_f64()).collect();
    assert!(kappa.len() > 30 && kappa.iter().all(|k| (1e-7..2e-6).contains(k)), "{kappa:?}");

    let threshold = json(&["find", "thresholds", "--study", "Fern tubs"], data);
    assert_eq!(threshold["breaks"], true);
    assert!((threshold["at"].as_f64().unwrap() - 0.16).abs() < 0.02);
    let count = |name: &str| threshold[name].as_u64().unwrap();
    let accounted = ["points", "first_rows", "unmatched_rows", "rows_without_reading", "rows_beyond_curve"];
    assert_eq!(accounted.into_iter().map(count).sum::<u64>(), count("rows"));
    let tension = json(&["find", "thresholds", "--study", "Fern tubs", "--class", "loam"], data);
    assert_eq!(tension["abscissa"], "log10 of tension in kPa");
    let lengths = ebrel(&["find", "thresholds", "--study", "Fern tubs", "--response", "frond length", "--value"], data);
    assert!(lengths.status.success(), "{}", said(&lengths));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_found_ends_with_a_sentence() {
    let dir = demo().await;
    for (arguments, says) in [
        (&["find", "storage", "--station", "nowhere"][..], "there is no station “nowhere”"),
        (&["find", "storage", "--station", "cut", "--bottom", "-4"], "the bottom must lie below the surface"),
        (&["find", "diffusivity", "--station", "tubs"], "no thermometer in the soil of Fern house"),
        (&["find", "treatments", "--first", "cut", "--second", "tubs"], "Fern house does not measure that"),
        (&["find", "treatments", "--first", "cut", "--second", "tubs", "--quantity", "mud"], "no quantity “mud”"),
        (&["find", "thresholds", "--study", "Ostrelle Wood"], "no such response"),
        (&["find", "thresholds", "--study", "nothing"], "there is no study “nothing”"),
        (&["find", "thresholds", "--study", "Fern tubs", "--class", "mud"], "there is no texture class “mud”"),
        (&["find", "thresholds", "--study", "Fern tubs", "--response", "sap"], "no such response"),
    ] {
        let output = ebrel(arguments, dir.path());
        assert_eq!(output.status.code(), Some(1), "{arguments:?}: {}", said(&output));
        assert!(said(&output).contains(says), "{arguments:?}: {}", said(&output));
        assert!(output.stdout.is_empty(), "what went wrong is told apart from answers");
    }
    let nowhere = tempfile::tempdir().unwrap();
    let output = ebrel(&["find", "storage", "--station", "cut"], nowhere.path());
    assert!(said(&output).contains("there is no Ebrel data"), "{}", said(&output));
}
