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
        let good = v.page(&format!("/stations/{station}/plan/hole")).await.contains("Nothing stands against it.");
        assert_eq!(good, station < 4, "station {station}: only the bad draft is bad");
    }
    let sheet = v.page("/stations/3/plan/sheet").await;
    for words in [
        "side wall of a narrow borehole, 72 cm deep",
        "buried services located",
        "BD-0433 to 60\u{a0}cm",
        "4.7 kg of soil",
        "A mask against bentonite",
        "Sun",
    ] {
        assert!(sheet.contains(words), "{words}");
    }
    let bad = v.page("/stations/4/plan/sheet").await;
    assert!(bad.contains("Not ready to be dug") && bad.contains("both answer to address 0"));
    let labels = v.page("/stations/3/plan/labels").await;
    assert_eq!(labels.matches("class=\"cable-label\"").count(), 8, "both ends of four cables");
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
    v.post("/catalogue", &[("do", "shipped")]).await;
    assert_eq!(v.page("/catalogue.json").await, json);
}
