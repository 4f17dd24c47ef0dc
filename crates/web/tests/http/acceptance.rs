//! New probes in air, water and bucket; blocks soaked, and one against a reference in a drying pot.

use super::client::Visitor;

async fn begun(v: &Visitor, kind: &str) -> String {
    v.post(&format!("/studies/1/{kind}"), &[]).await.headers()["location"].to_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn probes_are_judged_by_their_models_limits_and_the_verdict_goes_into_their_lives() {
    let v = Visitor::of_demo().await;
    let sheet = begun(&v, "acceptance").await;
    let fields = [
        ("celsius", "30"),
        ("probes.0.serial", "bd-0417"),
        ("probes.0.air", "447 447,4"),
        ("probes.0.water", "1972"),
        ("probes.0.straight", "yes"),
        ("probes.0.sealed", "yes"),
        ("probes.1.serial", "BD-0418"),
        ("probes.1.air", "700"),
        ("probes.2.serial", "ZZ-1"),
        ("probes.3.air", "x"),
        ("wetting", "BD-0417; 5; 700 700 700 900 1300 1400\nBD-0418; 15; 700 700 700 1400 1400 1400\nBD-0421; 10; 1 2"),
    ];
    v.post(&sheet, &fields).await;
    let page = v.page(&sheet).await;
    for words in [
        "1 accepted, 1 rejected.",
        "water 1966 to 2066",
        "above its limits",
        "ZZ-1 is not in the register",
        "Whose readings are these?",
        "BD-0418 at 15 cm wetted before one above it",
        "line 3: 2 readings are too few",
    ] {
        assert!(page.contains(words), "{words}: {page}");
    }
    v.post(&sheet, &[("do", "note")]).await;
    assert!(v.page(&sheet).await.contains("noted in the life of 2 probes"));
    let life = v.page("/probes/BD-0418").await;
    assert!(life.contains("rejected: air 700") && life.contains("not to be trusted yet"));
    v.post(&sheet, &[("celsius", "200"), ("do", "add")]).await;
    let page = v.page(&sheet).await;
    assert!(page.contains("Reckoned with 20 meanwhile") && page.contains("probes.4.serial"));
}

#[tokio::test(flavor = "multi_thread")]
async fn soaking_is_scheduled_logged_and_judged() {
    let v = Visitor::of_demo().await;
    let sheet = begun(&v, "soaking").await;
    v.post(&sheet, &[("start", "2026-08-31 20:00"), ("log", "2026-09-01 06:00; wet; 0,9\nyesterday; wet; 1")]).await;
    let page = v.page(&sheet).await;
    for words in ["In water until 1 Sep 2026 08:00", "Read each block at the end", "line 2: write the time like", "0.9"]
    {
        assert!(page.contains(words), "{words}: {page}");
    }
    v.post(&sheet, &[("log", "2026-09-01 06:00; wet; 0.66\n2026-09-02 20:00; wet; 0.64"), ("cycles", "99")]).await;
    let page = v.page(&sheet).await;
    assert!(page.contains("Ready: two soakings agree") && page.contains("Reckoned with 2 meanwhile"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_blocks_range_curve_and_lag_are_told_with_the_refill_point() {
    let v = Visitor::of_demo().await;
    let page = v.page("/bench/block/5").await;
    for words in ["It responds from 77 to 256 kPa", "cannot tell when to water", "h late", "wet plateau"] {
        assert!(page.contains(words), "{words}: {page}");
    }
    let sheet = begun(&v, "block").await;
    v.post(&sheet, &[("refill", "90"), ("list", "0; 0; 10\n12; 1")]).await;
    let page = v.page(&sheet).await;
    for words in ["No response curve yet: 0 readings are too few", "above zero: a short", "line 2: three numbers"] {
        assert!(page.contains(words), "{words}: {page}");
    }
}
