//! Three schools of reference samples, what is said of each run, and what the papers tell.

use super::client::Visitor;
use serde_json::{Value, json};

#[tokio::test(flavor = "multi_thread")]
async fn the_list_tells_which_runs_want_a_look() {
    let v = Visitor::of_demo().await;
    let page = v.page("/studies/1/bench").await;
    let of = |title: &str| page.split(title).nth(1).unwrap().split("</tr>").next().unwrap().to_owned();
    assert!(of("BD-0422 in Bt").contains("1 to look at"), "{}", of("BD-0422 in Bt"));
    assert!(of("BD-0418 in E at").contains("to look at"), "its packing drifted");
    for sound in ["BD-0417 in A", "BD-0421 in E", "packed anew", "Leaf mould"] {
        assert!(!of(sound).contains("to look at"), "{sound}: {}", of(sound));
    }
    let drifted = v.page("/bench/2").await;
    assert!(drifted.contains("The packing drifted: bulk density goes from 1.3"), "{drifted}");
    assert!(!v.page("/bench/5").await.contains("The packing drifted"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_container_that_dries_has_its_own_certificate() {
    let v = Visitor::of_demo().await;
    let page = v.page("/bench/6/certificate").await;
    for words in [
        "one container, weighed as it dries",
        "With dry soil:</b> 4710 g",
        "leaf mould",
        "65 °C for 72 h",
        "Not adopted",
    ] {
        assert!(page.contains(words), "{words}: {page}");
    }
    assert!(!page.contains("Water per step"), "what belongs to another school is left away");
    let json: Value = v.get("/bench/6/certificate.json").await.json().await.unwrap();
    assert_eq!(json["as_typed"]["school"], "drying");
    assert_eq!(json["samples_in_fit"].as_array().unwrap().len(), 8);
    let wettest = json["samples_in_fit"][0]["water_content"].as_f64().unwrap();
    assert!((wettest - 0.45).abs() < 0.002, "{wettest}");
}

#[tokio::test(flavor = "multi_thread")]
async fn several_weighings_and_density_cores_are_read_and_kept_as_typed() {
    let v = Visitor::of_demo().await;
    let row = |dry: &str| json!({"raw": "1000", "tare": "50", "wet": "195", "dry": dry, "volume": "100"});
    let rows = [row("174,0 171,0"), row("171.05 171.0"), row("170 172"), row("171 y")];
    let draft = json!({"unit": "mV", "cores": "42; 162; 100\n42; 164; 100\n42 163", "w_now": "0.05", "rows": rows});
    let body = json!({"title": "Half dry", "probe": null, "draft": draft});
    let worked: Value = v.type_run("/bench/1", &body).await;
    let says = |i: usize| worked["figures"][i]["message"].as_str().unwrap().to_owned();
    assert!(says(0).contains("lost 3.00 g") && worked["figures"][0]["last"] == "171.00");
    assert_eq!(says(1), "");
    assert!(says(2).contains("gained 2.00 g") && says(3).contains("is no number"));
    let result = worked["result"].as_str().unwrap();
    assert!(result.contains("Density cores: Line 3"), "{result}");
    let page = v.page("/bench/1").await;
    assert!(page.contains("value=\"174,0 171,0\"") && page.contains("42 163"), "nothing typed is lost by a reload");
    let body = json!({"title": "Half dry", "probe": null, "draft": {"cores": "42; 162; 100\n42; 164; 100\n42;163;100", "w_now": "0.05"}});
    let worked: Value = v.type_run("/bench/1", &body).await;
    let result = worked["result"].as_str().unwrap();
    assert!(
        result.contains("Field density 1.21 ± 0.01 (standard deviation) g/cm³ from 3 cores")
            && result.contains("Pack 4 layers"),
        "{result}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn each_samples_part_and_the_answer_without_it_stand_beside_the_fit() {
    let v = Visitor::of_demo().await;
    let page = v.page("/bench/4").await;
    let parts = page.split("the answer without it").nth(2).unwrap_or_default();
    assert!(page.contains("studentized") && page.contains("± balance"), "the tin's contribution is named");
    assert!(
        parts.contains("Quadratic, ±0.0") && parts.contains("Straight line, ±0.0"),
        "without the wet lid another form wins"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_probe_that_gives_permittivity_is_held_against_the_published_curves() {
    let v = Visitor::of_demo().await;
    let row = |eps: f64| {
        let theta = 0.1138 * eps.sqrt() - 0.1758;
        json!({"raw": eps.to_string(), "tare": "20", "wet": format!("{:.2}", 150.0 + theta * 100.0), "dry": "150", "volume": "100"})
    };
    let rows: Vec<Value> = [4.0, 7.0, 10.0, 14.0, 19.0, 25.0].map(row).into();
    let draft =
        |unit: &str| json!({"title": "Rods", "probe": null, "draft": {"unit": unit, "density": "1.3", "rows": rows}});
    let worked: Value = v.type_run("/bench/1", &draft("ε")).await;
    let result = worked["result"].as_str().unwrap();
    for words in [
        "Topp et al. 1980",
        "Ledieu et al. 1986",
        "Malicki et al. 1996",
        "mixing model",
        "class=\"general\"",
        "square root",
    ] {
        assert!(result.contains(words), "{words}: {result}");
    }
    let worked: Value = v.type_run("/bench/1", &draft("mV")).await;
    assert!(!worked["result"].as_str().unwrap().contains("Topp"), "millivolts are no permittivity");
}

#[tokio::test(flavor = "multi_thread")]
async fn sheets_of_another_kind_or_study_are_not_found() {
    let v = Visitor::of_demo().await;
    for path in ["/bench/batch/1", "/bench/block/3", "/bench/acceptance/99", "/bench/99", "/bench/99/certificate"] {
        assert_eq!(v.get(path).await.status(), 404, "{path}");
    }
    for path in ["/studies/9/acceptance", "/studies/9/block", "/studies/9/soaking"] {
        assert_eq!(v.post(path, &[]).await.status(), 404, "{path}");
    }
    for path in
        ["/bench/1/compare", "/bench/1/adopt", "/bench/1/stand-in", "/calibrations/1/retire", "/bench/soaking/4"]
    {
        let bare = v.client.post(format!("{}{path}", v.base)).form(&[("why", "x")]).send().await.unwrap();
        assert_eq!(bare.status(), 403, "{path} wants the session's token");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_study_leads_into_each_sheet() {
    let v = Visitor::owner().await;
    let bench = v.page("/studies/1/bench").await;
    assert!(bench.contains("No dielectric probe is known yet"));
    for (kind, asks) in [
        ("acceptance", "Read each probe in air and in clean water"),
        ("batch", "0 of at least 4 probes"),
        ("tension", "under positive and under negative drive"),
        ("soaking", "Read each block at the end of every soaking"),
        ("block", "0 readings are too few"),
        ("temperature", "No pair yet"),
    ] {
        let begun = v.post(&format!("/studies/1/{kind}"), &[]).await;
        let sheet = begun.headers()["location"].to_str().unwrap().to_owned();
        let page = v.page(&sheet).await;
        assert!(page.contains(asks), "{kind} says first what to do: {page}");
        v.post(&sheet, &[("title", "<b>mine</b>"), ("do", "nonsense")]).await;
        assert!(v.page("/studies/1/bench").await.contains("&#60;b&#62;mine"), "{kind}: its title is shown as typed");
    }
    let begun = v.post("/studies/1/bench", &[("probe", "")]).await;
    let run = v.page(begun.headers()["location"].to_str().unwrap()).await;
    assert!(run.contains("Take at least three density cores") && run.contains("No curve yet"));
}
