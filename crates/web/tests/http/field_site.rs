//! The site, snapshots, what is to come out, the official start and the soil as seen, each with what cannot be.

use super::client::Visitor;
use reqwest::multipart;
use serde_json::{Value, json};

const NOW: i64 = 1_788_242_400;

async fn text(answer: reqwest::Response) -> String {
    answer.text().await.unwrap()
}

async fn upload(v: &Visitor, bytes: &[u8]) -> String {
    let token = v.token().await;
    let part = multipart::Part::bytes(bytes.to_vec()).file_name("site.geojson");
    let form = multipart::Form::new().text("token", token).part("file", part);
    text(v.client.post(format!("{}/studies/1/field/site", v.base)).multipart(form).send().await.unwrap()).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_landmark_is_entered_by_bearing_or_by_coordinates_and_slips_are_told_with_the_form_kept() {
    let v = Visitor::of_demo().await;
    let page = v.page("/studies/1/field/site").await;
    assert!(page.contains("5 of 5 stations have a place; 3 landmarks."));
    assert!(page.contains("43\u{a0}m at 206° (SSW) from double oak"));
    let address = "/studies/1/field/landmarks";
    let evil = "θ \"<b>\"&'";
    for (form, says) in [
        (vec![("name", "")], "Give the landmark a name"),
        (vec![("name", evil)], "Say where it stands"),
        (vec![("name", evil), ("metres", "12"), ("bearing", "90"), ("latitude", "46.9")], "not both"),
        (vec![("name", evil), ("metres", "12"), ("bearing", "361"), ("from", "1")], "between 0 and 360"),
        (vec![("name", evil), ("metres", "-1"), ("bearing", "10"), ("from", "1")], "between 0 and 20000"),
        (vec![("name", evil), ("metres", "ten"), ("bearing", "10"), ("from", "1")], "is no number"),
        (vec![("name", evil), ("metres", "10"), ("bearing", "10"), ("from", "999")], "Choose the station"),
        (vec![("name", evil), ("latitude", "-3.2"), ("longitude", "460")], "between −180 and 180"),
        (vec![("name", evil), ("latitude", "146.9"), ("longitude", "-3.2")], "in their order"),
        (vec![("name", evil), ("latitude", "NaN"), ("longitude", "-3.2")], "is no number"),
    ] {
        let answer = text(v.post(address, &form).await).await;
        assert!(answer.contains(says), "{form:?}: {says}");
        assert!(form[0].1.is_empty() || answer.contains("value=\"θ &#34;&#60;b&#62;"), "what was typed stays");
    }
    let long = "x".repeat(5000);
    assert!(
        text(v.post(address, &[("name", long.as_str()), ("latitude", "1"), ("longitude", "2")]).await)
            .await
            .contains("5000")
    );
    let done = v
        .post(address, &[("name", evil), ("metres", "100"), ("bearing", "90"), ("from", "1"), ("kind", "gateway")])
        .await;
    assert_eq!(done.headers()["location"], "/studies/1/field/site");
    // The same name again moves it: there is one.
    v.post(address, &[("name", evil), ("latitude", "46,9"), ("longitude", "−3.19")]).await;
    let out: Value = v.get("/studies/1/field/site.geojson").await.json().await.unwrap();
    let features = out["features"].as_array().unwrap();
    assert_eq!(features.len(), 5 + 4);
    let own: Vec<&Value> = features.iter().filter(|f| f["properties"]["name"] == evil).collect();
    assert_eq!((own.len(), &own[0]["geometry"]["coordinates"]), (1, &json!([-3.19, 46.9])));
    let page = v.page("/studies/1/field/site").await;
    let id: i64 = page.split("/field/landmarks/").nth(4).unwrap().split('/').next().unwrap().parse().unwrap();
    assert_eq!(v.post(&format!("/studies/2/field/landmarks/{id}/remove"), &[]).await.status(), 404, "another study's");
    v.post(&format!("/studies/1/field/landmarks/{id}/remove"), &[]).await;
    assert_eq!(v.post(&format!("/studies/1/field/landmarks/{id}/remove"), &[]).await.status(), 404, "twice");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_site_goes_out_and_comes_in_and_its_sum_is_said() {
    let v = Visitor::of_demo().await;
    let out = text(v.get("/studies/1/field/site.geojson").await).await;
    let same = upload(&v, out.as_bytes()).await;
    assert!(
        same.contains("8 points read:") && same.contains("0 stations placed, 0 landmarks entered, 8 as before"),
        "{same}"
    );
    let moved = out.replace("46.9011", "46.9012").replace("\"gate\"", "\"no such\"");
    let taken = upload(&v, moved.as_bytes()).await;
    assert!(taken.contains("1 stations placed") && taken.contains("Uncut coupe: moved by 11.1 m"), "{taken}");
    assert!(taken.contains("1 of no station here") && taken.contains("code “no such”"));
    assert!(v.page("/stations/2/plan/site").await.contains("46.9012"), "the plan says the same");
    for (bytes, says) in [
        (&b"\xff\xfe\x00"[..], "no text"),
        (b"{}", "no GeoJSON"),
        (&out.as_bytes()[..out.len() / 2], "no GeoJSON"),
        (b"", "no GeoJSON"),
    ] {
        assert!(upload(&v, bytes).await.contains(says), "{says}");
    }
    let many: Vec<Value> = (0..10_000)
        .map(|i| json!({"type": "Feature", "properties": {"name": format!("post {i}")}, "geometry": {"type": "Point", "coordinates": [-3.2, 46.9]}}))
        .collect();
    let many = json!({"type": "FeatureCollection", "features": many}).to_string();
    let page = upload(&v, many.as_bytes()).await;
    assert!(page.contains("10000 points read:") && page.contains("297 landmarks entered"), "{}", &page[..3000]);
    assert!(page.contains("9703 beyond the 300 that a study keeps"), "the sum agrees");
    let full =
        v.post("/studies/1/field/landmarks", &[("name", "one more"), ("latitude", "1"), ("longitude", "2")]).await;
    assert!(text(full).await.contains("take one away first"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_is_drawn_and_listed_as_it_is_walked_and_its_points_go_out_and_come_in() {
    let v = Visitor::of_demo().await;
    let page = v.page("/studies/2/field/site").await;
    assert!(page.contains("The round at Fern house") && page.contains("(12 points, 16 m)"), "{page}");
    assert_eq!((page.matches("class=\"point\"").count(), page.matches("class=\"walk\"").count()), (12, 1));
    assert!(page.contains("FT-02: 1.2\u{a0}m at 80° (E) from FT-01"), "{page}");
    assert!(v.page("/studies/2/field").await.contains("class=\"walk\""), "and on the room's page");
    assert!(!v.page("/studies/1/field/site").await.contains("class=\"walk\""), "no round there");
    let out: Value = v.get("/studies/2/field/site.geojson").await.json().await.unwrap();
    let kinds = out["features"].as_array().unwrap().iter().filter(|f| f["properties"]["kind"] == "point");
    assert_eq!(kinds.count(), 12);
    let form = [("name", "FT-12"), ("kind", "point"), ("from", "6"), ("metres", "30"), ("bearing", "80")];
    let answer = v.post("/studies/2/field/landmarks", &form).await;
    assert_eq!(answer.status(), 303, "{}", text(answer).await);
    let page = v.page("/studies/2/field/site").await;
    assert!(page.contains("<li>FT-12: 2") && !page.contains("(12 points, 16 m)"), "moved, and walked to last: {page}");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_snapshots_stand_side_by_side_and_what_cannot_be_is_told() {
    let v = Visitor::of_demo().await;
    let page = v.page("/stations/1/snapshots").await;
    assert!(page.contains("2 snapshots are kept.") && page.matches("<figure").count() == 2);
    assert!(page.contains("5\u{a0}cm, water content") && page.contains("−0.163"), "the change, by channel");
    let address = "/stations/1/snapshots";
    for (name, at, says) in [
        ("", "2026-05-01 06:00", "Give the snapshot a name"),
        ("θ", "yesterday", "write it like 2026-05-01"),
        ("θ", "2026-12-24 00:00", "still to come"),
        ("end of August", "2026-05-01 06:00", "choose another name"),
    ] {
        let answer = text(v.post(address, &[("name", name), ("at", at)]).await).await;
        assert!(answer.contains(says) && answer.contains(&format!("value=\"{at}\"")), "{says}");
    }
    let done = v.post(address, &[("name", "θ \"early\""), ("at", "2024-09-13 12:00")]).await;
    assert_eq!(done.headers()["location"], address);
    let id = |page: &str, name: &str| -> i64 {
        let option = page.split("<option value=\"").skip(1).find(|o| o.contains(name)).unwrap();
        option.split('"').next().unwrap().parse().unwrap()
    };
    let page = v.page(address).await;
    let (early, late) = (id(&page, "early"), id(&page, "end of August"));
    let pair = v.page(&format!("{address}?left={early}&right={late}")).await;
    assert!(pair.contains("Said nothing then: 60\u{a0}cm"), "the plug was out: its zeros are no reading");
    assert!(
        v.page(&format!("{address}?left={early}&right={early}")).await.contains("<figure"),
        "one beside itself is one"
    );
    assert!(v.page(&format!("{address}?left=999&right=-1")).await.contains("<figure"));
    assert!(v.page("/stations/3/snapshots").await.contains("No snapshot is kept yet."), "a station without readings");
    assert_eq!(v.post(&format!("/stations/3/snapshots/{early}/remove"), &[]).await.status(), 404, "another station's");
    v.post(&format!("{address}/{early}/remove"), &[]).await;
    assert!(v.page(address).await.contains("2 snapshots are kept."));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_to_come_out_is_asked_for_by_day_and_by_place() {
    let v = Visitor::of_demo().await;
    let page = v.page("/studies/1/field/retrieval").await;
    assert!(page.contains("14 probes of 2 stations.") && page.contains("Have buried services located"), "{page}");
    assert!(
        v.page("/studies/1/field/retrieval?until=2026-12-31")
            .await
            .contains("Nothing is to come out by this question.")
    );
    let one = v.page("/studies/1/field/retrieval?area=1").await;
    assert!(
        one.contains("12 probes of one station.") && one.contains("Not asked for: Spring hollow (2 probes)"),
        "{one}"
    );
    let wrong = v.page("/studies/1/field/retrieval?until=soon").await;
    assert!(wrong.contains("is no date") && wrong.contains("14 probes"), "and all are shown");
    assert!(v.page("/studies/2/field/retrieval").await.contains("no day is planned"), "tubs have no plan");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_start_is_declared_with_how_things_stood_and_corrected_with_what_it_was() {
    let v = Visitor::of_demo().await;
    let address = "/stations/1/field/official";
    let look = text(v.post(address, &[("at", "2026-05-01 06:00"), ("look", "1"), ("why", "θ?")]).await).await;
    assert!(
        look.contains("5\u{a0}cm, water content")
            && look.contains("of rain in the week before")
            && look.contains("value=\"θ?\"")
    );
    assert!(v.page("/studies/1/field").await.contains("15 Mar 2024"), "looking declares nothing");
    let twice = [("at", "2024-03-15 00:00"), ("why", "again"), ("instead", "new")];
    assert!(text(v.post(address, &twice).await).await.contains("declared already"));
    let corrected = [("at", "2024-03-12 06:00"), ("why", "wetted earlier"), ("instead", "1710460800")];
    assert_eq!(v.post(address, &corrected).await.status(), 303);
    let page = v.page(address).await;
    assert!(page.contains("The record counts from 12 Mar 2024 06:00."), "an earlier day stands though it is earlier");
    assert!(
        page.contains("wetted earlier. On the day before: 5\u{a0}cm 0.")
            && page.contains("Until now: 15 Mar 2024 00:00, N. Arvel"),
        "{page}"
    );
    let gone = text(v.post(address, &corrected).await).await;
    assert!(gone.contains("declared already"), "sent again, it is no second start: {gone}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_s_place_is_shown_and_never_given_out_and_the_soil_seen_can_be_undone() {
    let v = Visitor::of_demo().await;
    let entry = |n: u32, deed: Value| {
        json!({"id": format!("0197ffff-0000-7000-8000-{n:012}"), "log": "0197ffff-1111-7000-8000-000000000001",
               "station": "ride", "at": NOW - 3600 + i64::from(n), "by": "TQ", "deed": deed})
    };
    let photo = json!({"kind": "photo", "sha256": "a".repeat(64), "caption": "face", "taken": "2026-09-01 05:10:00", "place": [46.8994, -3.1982]});
    let nowhere = json!({"kind": "photo", "sha256": "b".repeat(64), "place": [146.0, 0.0]});
    let horizon = |name: &str, top: f64, bottom: f64| json!({"kind": "horizon", "name": name, "top_cm": top, "bottom_cm": bottom});
    let entries = [
        entry(1, json!({"kind": "begun", "of": "installation"})),
        entry(2, photo),
        entry(3, nowhere),
        entry(4, horizon("O", 0.0, 3.0)),
        entry(5, horizon("A", 3.0, 22.0)),
        entry(6, json!({"kind": "closed"})),
    ];
    let answer = v.post_json("/stations/3/field/entries", &json!({"entries": entries})).await;
    let answers: Vec<Value> = answer.json().await.unwrap();
    let refused: Vec<&Value> = answers.iter().filter(|a| a["kept"] != true).collect();
    assert!(refused.len() == 1 && refused[0]["says"].as_str().unwrap().contains("latitude"), "{answers:?}");
    let log = "/stations/3/field/logs/0197ffff-1111-7000-8000-000000000001";
    let page = v.page(log).await;
    assert!(page.contains("face, taken 2026-09-01 05:10:00, at 46.89940°, -3.19820°"), "{page}");
    let out = text(v.get(&format!("{log}/entries.json")).await).await;
    assert!(out.contains("2026-09-01 05:10:00") && !out.contains("46.8994"), "a place goes to nobody: {out}");

    assert!(
        page.contains("A goes down to 22 cm, planned 14 cm.") && page.contains("It is the station's soil"),
        "{page}"
    );
    let id = "0197ffff-1111-7000-8000-000000000001";
    let without = v.post("/stations/3/field/soil", &[("log", id), ("stands", "plan"), ("why", " ")]).await;
    assert_eq!(without.status(), 422);
    v.post("/stations/3/field/soil", &[("log", id), ("stands", "plan"), ("why", "measured anew")]).await;
    let page = v.page(log).await;
    assert!(
        page.contains("The plan&#39;s soil stands instead") || page.contains("The plan's soil stands instead"),
        "{page}"
    );
    assert!(page.contains("measured anew"));
    v.post("/stations/3/field/soil", &[("log", id), ("stands", "seen"), ("why", "no")]).await;
    assert!(v.page(log).await.contains("It is the station's soil"));
    assert_eq!(v.post("/stations/4/field/soil", &[("log", id), ("stands", "seen"), ("why", "no")]).await.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_s_checks_tell_what_a_time_was_in_truth_and_how_well_that_is_known() {
    let v = Visitor::of_demo().await;
    assert!(v.page("/stations/1").await.contains("times by 2 clock checks"));
    let entry = |n: u32, at: i64, deed: Value| {
        json!({"id": format!("0197eeef-0000-7000-8000-{n:012}"), "log": "0197eeef-1111-7000-8000-000000000001",
               "station": "cut", "at": at, "by": "TQ", "deed": deed})
    };
    let at = NOW - 3600;
    let fast = json!({"kind": "clock", "node": "node 01", "shown": at + 600, "truth": at, "set": true});
    let entries = [entry(1, at, json!({"kind": "begun", "of": "visit"})), entry(2, at + 1, fast)];
    v.post_json("/stations/1/field/entries", &json!({"entries": entries})).await;
    let page = v.page("/stations/1/clocks?came=2026-09-01+05:10").await;
    assert!(page.contains("3 checks; every view and export has the corrected times."), "{page}");
    assert!(page.contains("1 Sep 2026 05:00:00") && page.contains("+600") && page.contains("set right"), "{page}");
    assert!(page.contains("known to ±") && page.contains("left running"));
    assert!(v.page("/stations/1/clocks?came=noon").await.contains("write it like 2026-05-01"));
    assert!(v.page("/stations/3/clocks").await.contains("No clock was ever checked"));
}
