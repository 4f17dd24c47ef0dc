//! The room Plan over HTTP: each step, edits as a script sends them, papers, the catalogue.

use super::client::Visitor;

#[tokio::test(flavor = "multi_thread")]
async fn every_plan_of_the_demo_opens_at_every_step_and_prints() {
    let v = Visitor::of_demo().await;
    for station in 1..=4 {
        for step in ["site", "depths", "hole", "wiring", "program", "budgets", "kit", "sheet", "labels", "versions"] {
            let page = v.page(&format!("/stations/{station}/plan/{step}")).await;
            assert!(!page.contains("NaN") && !page.contains(">inf"), "{station} {step}");
        }
        let good = v.page(&format!("/stations/{station}/plan/hole")).await.contains("No problems found.");
        assert_eq!(good, station < 4, "station {station}: only the bad draft is bad");
    }
    let sheet = v.page("/stations/3/plan/sheet").await;
    for words in [
        "side wall of a narrow borehole, 42 cm deep",
        "buried services located",
        "BD-0433 to 30\u{a0}cm",
        "3.0 kg of soil",
        "A mask against bentonite",
        "Sun",
    ] {
        assert!(sheet.contains(words), "{words}");
    }
    let bad = v.page("/stations/4/plan/sheet").await;
    assert!(bad.contains("Not ready to be dug") && bad.contains("both answer to address 0"));
    let labels = v.page("/stations/3/plan/labels").await;
    assert_eq!(labels.matches("class=\"cable-label\"").count(), 10, "both ends of five cables");
    assert!(labels.contains("<svg") && !labels.contains("<?xml"));
    let design = v.page("/studies/1/design").await;
    assert!(design.contains("3 treatments on 3 places") && design.contains("15\u{a0}cm: upper roots of the regrowth"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edit_is_kept_as_typed_and_answered_at_its_field() {
    let v = Visitor::owner().await;
    let depths = "/stations/1/plan/depths";
    v.post(depths, &[("figures.roots_cm", "40"), ("do", "take.rooting")]).await;
    let page = v.page(depths).await;
    assert!(page.contains("3 probes at 10, 30, 50 cm") && page.contains("sentinel: if it wets"));
    let answer = v.post(depths, &[("probes.1.depth_cm", "-30 cm<b>"), ("live", "yes")]).await.text().await.unwrap();
    assert!(
        answer.contains("“-30 cm&#60;b&#62;” is no number") && answer.contains("value=\"-30 cm&#60;b&#62;\""),
        "nothing typed is lost"
    );
    let page = v.page(depths).await;
    assert!(page.contains("value=\"-30 cm&#60;b&#62;\"") && page.contains("2 probes at 10, 50 cm"), "the rest goes on");
    v.post(depths, &[("probes.1.depth_cm", "30"), ("horizons.0.density", "1.25")]).await;
    assert!(v.page("/stations/1/plan/hole").await.contains("Preferred here"));
    v.post("/stations/1/plan/hole", &[("choices.method", "slanted"), ("figures.hole_angle_deg", "30")]).await;
    let page = v.page("/stations/1/plan/hole").await;
    assert!(page.contains("34.6\u{a0}cm along") || page.contains("32.1\u{a0}cm along"), "30 cm at 30 degrees");
    let versions = v.page("/stations/1/plan/versions").await;
    for words in ["depths as offered: by roots", "probe 2: depth", "method, angle of a slanted hole from the vertical"]
    {
        assert!(versions.contains(words), "{words}");
    }
    v.post("/stations/1/plan/versions/1", &[]).await;
    assert!(v.page("/stations/1/plan/versions").await.contains("back to version 1"));
    let gone = v.post(depths, &[("do", "take.nothing")]).await;
    assert_eq!(gone.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_goes_out_as_json_and_comes_in_at_another_station() {
    let v = Visitor::of_demo().await;
    let json = v.get("/stations/3/plan/plan.json").await.text().await.unwrap();
    v.post("/stations/4/plan/versions", &[("json", &json)]).await;
    assert_eq!(v.get("/stations/4/plan/plan.json").await.text().await.unwrap(), json);
    let broken = json.replacen("\"purpose\"", "\"porpoise\"", 1);
    let page = v.post("/stations/4/plan/versions", &[("json", &broken)]).await.text().await.unwrap();
    assert!(page.contains("unknown field `porpoise`") && page.contains("Nothing was taken"));
    let program: ebrel_core::planning::Program =
        serde_json::from_str(&v.page("/stations/3/plan/program.json").await).unwrap();
    assert_eq!((program.scan_s, program.tables.len()), (900.0, 2));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_calendar_waits_for_a_day_and_then_is_taken_along() {
    let v = Visitor::owner().await;
    let calendar = "/stations/1/plan/calendar.ics";
    assert_eq!(v.get(calendar).await.status(), 422);
    v.post("/stations/1/plan/kit", &[("install", "2027-03-14"), ("retrieve", "2027-03-01")]).await;
    assert!(v.page("/stations/1/plan/kit").await.contains("Retrieval comes before the installation"));
    v.post("/stations/1/plan/kit", &[("retrieve", "2027-11-01")]).await;
    let text = v.page(calendar).await;
    assert!(text.contains("DTSTART;VALUE=DATE:20270314") && text.contains("RRULE:FREQ=DAILY;INTERVAL=28;COUNT=8"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_is_noted_as_sent_only_after_the_memory_was_collected() {
    let v = Visitor::owner().await;
    v.post("/stations/1/plan/depths", &[("do", "take.standard")]).await;
    let program = "/stations/1/plan/program";
    v.post(program, &[("do", "sent"), ("sent_by", "T. Quill")]).await;
    assert!(v.page(program).await.contains("first collect what the memory holds"));
    v.post(program, &[("do", "sent"), ("collected", "yes"), ("sent_by", "T. Quill"), ("sent_why", "first")]).await;
    let page = v.page(program).await;
    assert!(page.contains("Program 1 is noted as sent.") && page.contains("T. Quill"));
    v.post(program, &[("figures.scan_s", "60")]).await;
    assert!(v.page(program).await.contains("The logger runs an older program:"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_catalogue_with_an_unknown_field_is_refused_with_its_line_and_stands_as_typed() {
    let v = Visitor::of_demo().await;
    let json = v.page("/catalogue.json").await;
    let wrong = json.replacen("\"cable_m\"", "\"cable_ft\"", 1);
    let page = v.post("/catalogue", &[("json", &wrong)]).await.text().await.unwrap();
    assert!(
        page.contains("unknown field `cable_ft`") && page.contains("Line ") && page.contains("cable_ft&#34;: 5"),
        "as typed"
    );
    let dearer = json.replacen("\"price\": 95.0", "\"price\": 120.0", 1);
    assert_ne!(dearer, json);
    v.post("/catalogue", &[("json", &dearer)]).await;
    assert!(v.page("/catalogue").await.contains("Your own."));
    let stale = [("json", &*dearer.replacen("120.0", "121.0", 1)), ("revision", "0")];
    let page = v.post("/catalogue", &stale).await.text().await.unwrap();
    assert!(page.contains("Somebody else changed the catalogue meanwhile") && page.contains("121.0"));
    assert!(!v.page("/catalogue.json").await.contains("121.0"));
    v.post("/catalogue", &[("do", "shipped")]).await;
    assert_eq!(v.page("/catalogue.json").await, json);
}

#[tokio::test(flavor = "multi_thread")]
async fn candidates_are_scored_chosen_and_taken_out_without_mixing_them_up() {
    let v = Visitor::owner().await;
    let site = "/stations/1/plan/site";
    assert!(v.page(site).await.contains("No place is chosen yet."));
    for _ in 0..3 {
        v.post(site, &[("do", "add.candidates")]).await;
    }
    let form = [
        ("candidates.0.name", "hollow"),
        ("candidates.1.name", "slope"),
        ("candidates.2.name", "edge"),
        ("candidates.1.scores.sky", "3"),
        ("candidates.1.cleared.services", "yes"),
        ("candidates.1.cleared.access", "yes"),
        ("candidates.1.cleared.permission", "yes"),
        ("chosen", "1"),
        ("latitude", "47,5"),
        ("longitude", "200"),
    ];
    v.post(site, &form).await;
    let page = v.page(site).await;
    assert!(
        page.contains("slope is chosen.") && page.contains("100 % of the best possible, 1 of 7 scored. Stands best.")
    );
    assert!(page.contains("Longitude must lie between −180 and 180") && page.contains("value=\"200\""));
    v.post(site, &[("do", "remove.candidates.0")]).await;
    assert!(v.page(site).await.contains("slope is chosen."), "the choice moves up with its row");
    v.post(site, &[("do", "remove.candidates.0")]).await;
    assert!(v.page(site).await.contains("No place is chosen yet."), "and goes with it");
    assert_eq!(v.post(site, &[("do", "remove.candidates.seven")]).await.status(), 404);
    v.post(site, &[("do", "remove.candidates.7")]).await;
    assert!(v.page(site).await.contains("value=\"edge\""), "a row that is not there is no harm");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_known_bias_follows_the_station_to_its_data_and_the_soil_to_its_record() {
    let v = Visitor::owner().await;
    v.post("/stations/1/plan/site", &[("do", "add.biases")]).await;
    v.post("/stations/1/plan/site", &[("biases.0.what", "a shed 3 m east"), ("biases.0.mitigation", "none possible")])
        .await;
    for path in ["/stations/1", "/studies/1", "/stations/1/plan/wiring", "/stations/1/plan/sheet"] {
        assert!(v.page(path).await.contains("a shed 3 m east (none possible)"), "{path}");
    }
    v.post("/stations/1/plan/depths", &[("horizons.0.bottom_cm", "24"), ("horizons.0.density", "not yet")]).await;
    assert!(v.page("/stations/1/plan/depths").await.contains("value=\"not yet\""));
    let first = v.get("/stations/1/plan/plan.json").await.text().await.unwrap();
    assert!(first.contains("\"bottom_cm\": 24.0") && first.contains("\"density\": \"not yet\""));
}

#[tokio::test(flavor = "multi_thread")]
async fn schools_mix_ports_are_proposed_and_lists_have_an_end() {
    let v = Visitor::owner().await;
    let depths = "/stations/1/plan/depths";
    v.post(depths, &[("figures.roots_cm", "40"), ("do", "take.standard"), ("with_model", "rod-3")]).await;
    v.post(depths, &[("do", "add.probes")]).await;
    v.post(depths, &[("do", "add.probes")]).await;
    v.post(depths, &[("probes.3.depth_cm", "50"), ("probes.4.depth_cm", "-150"), ("probes.4.model", "air-shielded")])
        .await;
    v.post(depths, &[("do", "mix.rooting")]).await;
    let page = v.page(depths).await;
    assert!(
        page.contains("5 probes at 5, 10, 20, 30, 50 cm"),
        "what is there is not doubled: {}",
        page.split("class=\"sentence\"").nth(1).unwrap_or("").chars().take(160).collect::<String>()
    );
    v.post(depths, &[("do", "take.rooting")]).await;
    let page = v.page(depths).await;
    assert!(
        page.contains("3 probes at 10, 30, 50 cm") && page.contains("value=\"-150\""),
        "what stands above ground stays"
    );
    v.post("/stations/1/plan/wiring", &[("probes.1.port", "B1"), ("probes.1.address", "7")]).await;
    v.post("/stations/1/plan/wiring", &[("do", "propose.ports")]).await;
    assert!(!v.page("/stations/1/plan/wiring").await.contains("value=\"7\""));
    for _ in 0..70 {
        v.post(depths, &[("do", "add.probes")]).await;
    }
    let refused = v.post(depths, &[("do", "add.probes")]).await;
    assert_eq!(refused.status(), 422);
    assert!(refused.text().await.unwrap().contains("A plan takes 64 probes. Make a second station"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refused_program_keeps_what_was_typed_beside_it() {
    let v = Visitor::owner().await;
    let program = "/stations/1/plan/program";
    v.post(program, &[("sent_by", "T. Quill"), ("sent_why", "faster in spring"), ("do", "sent")]).await;
    let page = v.page(program).await;
    assert!(
        page.contains("value=\"T. Quill\"")
            && page.contains("value=\"faster in spring\"")
            && page.contains("None was sent yet.")
    );
    v.post(program, &[("do", "sent"), ("collected", "yes")]).await;
    let page = v.page(program).await;
    assert!(page.contains("<td>faster in spring</td>") && !page.contains("value=\"faster in spring\""));
    v.post(program, &[("do", "add.tables")]).await;
    v.post(program, &[("tables.0.every_min", "7"), ("collected", "yes"), ("do", "sent")]).await;
    assert!(v.page(program).await.contains("put right what stands against the program first"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_catalogue_reaches_every_plan_and_a_lost_model_is_told() {
    let v = Visitor::owner().await;
    v.post("/stations/1/plan/depths", &[("do", "take.rooting")]).await;
    let json = v.page("/catalogue.json").await;
    v.post("/catalogue", &[("json", &json.replacen("\"price\": 95.0", "\"price\": 1000.0", 1))]).await;
    assert!(v.page("/stations/1/plan/kit").await.contains(">4000<"), "three and a spare");
    v.post("/catalogue", &[("json", &json.replacen("\"code\": \"blade-5\"", "\"code\": \"blade-6\"", 1))]).await;
    assert!(v.page("/stations/1/plan/depths").await.contains("The catalogue has no model “blade-5”"));
    let page = v.post("/catalogue", &[("json", "{\"probes\": [], \"loggers\": []}")]).await.text().await.unwrap();
    assert!(page.contains("needs at least one probe and one logger"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_is_no_strangers_to_change_and_a_form_needs_its_token() {
    let v = Visitor::owner().await;
    let bare =
        v.client.post(format!("{}/stations/1/plan/depths", v.base)).form(&[("do", "add.probes")]).send().await.unwrap();
    assert_eq!(bare.status(), 403);
    let stranger = Visitor::stranger().await;
    stranger.make_owner().await;
    assert_eq!(stranger.get("/stations/9/plan/depths").await.status(), 404);
    assert_eq!(v.get("/stations/1/plan/dreams").await.status(), 404);
    assert!(v.get("/stations/1/plan").await.headers()["location"].to_str().unwrap().starts_with("/stations/1/plan/"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_design_is_kept_as_typed_and_sets_the_records_interval() {
    let v = Visitor::owner().await;
    let design = "/studies/1/design";
    v.post(design, &[("do", "add")]).await;
    v.post(
        design,
        &[
            ("treatments.0.name", "mulch"),
            ("treatments.0.replicates", "none"),
            ("interval_min", "60"),
            ("months", "6"),
            ("question", "Does mulch help?"),
        ],
    )
    .await;
    let page = v.page(design).await;
    for words in
        ["One treatment on 1 place; 1 made so far.", "“none” is no number", "value=\"none\"", "Does mulch help?"]
    {
        assert!(page.contains(words), "{words}");
    }
    v.post("/stations/1/plan/depths", &[("do", "take.rooting")]).await;
    assert!(v.page("/stations/1/plan/program").await.contains("table “record”, every 1 h"));
    v.post(design, &[("do", "remove.0")]).await;
    assert!(v.page(design).await.contains("No treatment is named"));
}
