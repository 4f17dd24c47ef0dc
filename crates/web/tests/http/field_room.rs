//! The room Field: what it says first, the plan of the site, what is due, and files that hold more than one station.

use super::client::Visitor;
use reqwest::multipart;
use serde_json::{Value, json};

const NOW: i64 = 1_788_242_400;

fn entry(n: u32, log: u32, at: i64, station: &str, deed: Value) -> Value {
    json!({"id": format!("0197eeee-0000-7000-8000-{n:012}"), "log": format!("0197eeee-1111-7000-8000-{log:012}"),
           "station": station, "at": at, "by": "TQ", "deed": deed})
}

/// The sentence that stands first.
async fn answer(v: &Visitor, study: u32) -> String {
    let page = v.page(&format!("/studies/{study}/field")).await;
    page.split("<p class=\"answer\">").nth(1).unwrap().split('<').next().unwrap().to_owned()
}

async fn send(v: &Visitor, station: u32, entries: &[Value]) {
    let answer = v.post_json(&format!("/stations/{station}/field/entries"), &json!({"entries": entries})).await;
    let answers: Vec<Value> = answer.json().await.unwrap();
    assert!(answers.iter().all(|a| a["kept"] == true), "{answers:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_answer_counts_what_is_due_unfinished_and_left_out() {
    let v = Visitor::of_demo().await;
    assert_eq!(answer(&v, 1).await, "1 visit due, 1 log unfinished, 1 step left out.");
    let at = NOW - 3600;
    send(&v, 1, &[entry(1, 1, at, "cut", json!({"kind": "begun", "of": "visit"}))]).await;
    assert_eq!(answer(&v, 1).await, "2 logs unfinished, 1 step left out.", "a visit under way is no longer due");
    let skipped = |n, key: &str| {
        entry(
            n,
            1,
            at + i64::from(n),
            "cut",
            json!({"kind": "step", "step": key, "does": "Close the lid.", "outcome": "skipped", "note": "hinge"}),
        )
    };
    send(&v, 1, &[skipped(2, "lid"), skipped(3, "battery")]).await;
    assert_eq!(answer(&v, 1).await, "2 logs unfinished, 3 steps left out.");
    let mut done = entry(
        4,
        1,
        at + 50,
        "cut",
        json!({"kind": "step", "step": "lid", "does": "Close the lid.", "outcome": "done", "note": ""}),
    );
    done["corrects"] = "0197eeee-0000-7000-8000-000000000002".into();
    send(&v, 1, &[done, entry(5, 1, at + 60, "cut", json!({"kind": "closed"}))]).await;
    assert_eq!(answer(&v, 1).await, "1 log unfinished, 2 steps left out.", "what was done since is no longer open");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_without_stations_and_one_without_a_place_have_rooms_too() {
    let v = Visitor::owner().await;
    let page = v.page("/studies/1/field").await;
    assert!(page.contains("Tub 1") && !page.contains("<svg class=\"site\""), "no place, no plan");
    let due = v.get("/studies/1/field/due.ics").await;
    assert_eq!(due.status(), 422);
    assert!(due.text().await.unwrap().contains("Nothing is due: no probe is in the ground yet"));
    v.post("/studies/new", &[("name", "θ “empty” <b>"), ("question", "?"), ("offset", "0")]).await;
    assert_eq!(answer(&v, 2).await, "No station yet.");
    let site: Value = v.get("/studies/2/field/site.geojson").await.json().await.unwrap();
    assert_eq!((site["name"].as_str(), site["features"].as_array().unwrap().len()), (Some("θ “empty” <b>"), 0));
    assert_eq!(v.get("/studies/9/field").await.status(), 404);
    assert_eq!(v.get("/stations/1/field/logs/nothing").await.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_station_is_on_the_plan_of_the_site_or_named_as_being_nowhere() {
    let v = Visitor::of_demo().await;
    for study in [1, 2] {
        let site: Value = v.get(&format!("/studies/{study}/field/site.geojson")).await.json().await.unwrap();
        let all = site["features"].as_array().unwrap();
        let features: Vec<&Value> = all.iter().filter(|f| f["properties"]["code"].is_string()).collect();
        assert_eq!(all.len() - features.len(), if study == 1 { 3 } else { 12 }, "landmarks, and points of a round");
        let nowhere = site["without_place"].as_array().unwrap();
        let room = v.page(&format!("/studies/{study}/field")).await;
        let stations = room.matches("Correct placements</a>").count();
        assert_eq!(features.len() + nowhere.len(), stations, "count in, count out: {site}");
        for feature in &features {
            assert_eq!(
                (feature["type"].as_str(), feature["geometry"]["type"].as_str()),
                (Some("Feature"), Some("Point"))
            );
            let at: Vec<f64> =
                feature["geometry"]["coordinates"].as_array().unwrap().iter().map(|c| c.as_f64().unwrap()).collect();
            assert!((-180.0..=180.0).contains(&at[0]) && (-90.0..=90.0).contains(&at[1]), "longitude first: {at:?}");
        }
        let points = room.matches("class=\"point\"").count();
        assert_eq!(points, if study == 1 { 0 } else { 12 });
        assert_eq!(room.matches("<circle").count() - points, features.len());
        for name in nowhere {
            assert!(room.contains(name.as_str().unwrap()));
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn one_carried_file_of_two_stations_is_read_in_at_each_and_the_sum_agrees() {
    let v = Visitor::of_demo().await;
    let at = NOW - 3600;
    let mut entries = vec![
        entry(1, 1, at, "cut", json!({"kind": "begun", "of": "visit"})),
        entry(2, 1, at + 60, "cut", json!({"kind": "note", "text": "gate open"})),
        entry(3, 2, at, "ride", json!({"kind": "begun", "of": "visit"})),
        json!({"id": "0197eeee-0000-7000-8000-000000000004"}),
    ];
    entries.extend((10..60).map(|n| entry(n, 2, at + i64::from(n), "ride", json!({"kind": "note", "text": "θ"}))));
    let file = json!({"format": "ebrel-field-entries", "version": 1, "entries": entries}).to_string();
    let read_in = async |station: u32, text: &str| {
        let part = multipart::Part::bytes(text.as_bytes().to_vec()).file_name("carried.json");
        let form = multipart::Form::new().text("token", v.token().await).part("file", part);
        let url = format!("{}/stations/{station}/field/carried", v.base);
        v.client.post(url).multipart(form).send().await.unwrap().text().await.unwrap()
    };
    let cut = read_in(1, &file).await;
    assert!(cut.contains("2 of 54 entries are kept here."), "{cut}");
    assert_eq!(cut.matches("This entry is of station “ride”: send it there.").count(), 51);
    assert_eq!(cut.matches("This entry cannot be read").count(), 1, "2 + 51 + 1 are 54");
    let ride = read_in(3, &file).await;
    assert!(ride.contains("51 of 54 entries are kept here."), "{ride}");
    let again = read_in(3, &file).await;
    assert!(again.contains("51 of 54 entries are kept here."), "read in twice, kept once");
    let kept: Value =
        v.get("/stations/3/field/logs/0197eeee-1111-7000-8000-000000000002/entries.json").await.json().await.unwrap();
    assert_eq!(kept["entries"].as_array().unwrap().len(), 51);
    for (text, says) in [
        (&file[..file.len() / 2], "breaks off or is damaged"),
        ("", "breaks off or is damaged"),
        ("{\"format\": \"another\"}", "no file of field entries"),
        ("[]", "no file of field entries"),
        ("{\"format\": \"ebrel-field-entries\"}", "0 of 0 entries"),
    ] {
        let page = read_in(3, text).await;
        assert!(page.contains(says), "{says}: {page}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn clock_checks_that_contradict_each_other_are_told_at_once_and_on_the_log() {
    let v = Visitor::of_demo().await;
    let truth = NOW - 7200;
    let check = |n: u32, truth: i64, ahead: i64| {
        let deed = json!({"kind": "clock", "node": "node 01", "shown": truth + ahead, "truth": truth, "set": false});
        entry(n, 3, truth, "cut", deed)
    };
    send(&v, 1, &[entry(1, 3, truth - 60, "cut", json!({"kind": "begun", "of": "visit"})), check(2, truth, 86_000)])
        .await;
    let entries = json!({"entries": [check(3, truth + 3600, -86_000)]});
    let answers: Vec<Value> = v.post_json("/stations/1/field/entries", &entries).await.json().await.unwrap();
    let says = answers[0]["says"].as_str().unwrap();
    assert!(answers[0]["kept"] == true && says.contains("run backwards"), "{says}");
    let log = v.page("/stations/1/field/logs/0197eeee-1111-7000-8000-000000000003").await;
    assert!(log.contains("its times stay as they came"), "{log}");
    let table = "/stations/1/export/wide.csv?from=2026-08-30&to=2026-08-31&leave_out=none";
    assert!(v.page(table).await.contains("2026-08-30 12:00"), "and they do");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_photograph_is_kept_once_and_shown_small_without_its_place() {
    let v = Visitor::of_demo().await;
    let token = v.token().await;
    let send_photo = |bytes: Vec<u8>| {
        v.client
            .post(format!("{}/stations/1/field/photos", v.base))
            .header("x-ebrel-token", token.clone())
            .header("content-type", "image/jpeg")
            .body(bytes)
            .send()
    };
    let mut jpeg = Vec::new();
    let picture = image::RgbImage::from_fn(900, 600, |x, y| image::Rgb([(x % 256) as u8, (y % 256) as u8, 90]));
    picture.write_with_encoder(image::codecs::jpeg::JpegEncoder::new(&mut jpeg)).unwrap();
    let first: Value = send_photo(jpeg.clone()).await.unwrap().json().await.unwrap();
    let again: Value = send_photo(jpeg.clone()).await.unwrap().json().await.unwrap();
    assert_eq!(first, again);
    let sha256 = first["sha256"].as_str().unwrap().to_owned();
    let small = format!("/stations/1/field/photos/{sha256}");
    assert_eq!(v.get(&small).await.status(), 404, "no entry of this station shows it yet");
    send(&v, 1, &[entry(1, 1, NOW - 60, "cut", json!({"kind": "photo", "sha256": sha256, "caption": "the face"}))])
        .await;
    let shown = v.get(&small).await.bytes().await.unwrap();
    let size = image::load_from_memory(&shown).unwrap();
    assert_eq!((size.width(), size.height()), (640, 427));
    assert_eq!(v.get(&format!("/stations/3/field/photos/{sha256}")).await.status(), 404, "another station's it is not");
    let wrong = send_photo(b"GIF89a no picture".to_vec()).await.unwrap();
    assert_eq!(wrong.status(), 422);
    assert!(wrong.text().await.unwrap().contains("no JPEG picture"));
    let large = send_photo(vec![0; 5 * 1024 * 1024]).await.unwrap();
    assert_eq!(large.status(), 422);
    assert!(large.text().await.unwrap().contains("larger than 4 MB"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_official_start_that_cannot_be_is_told_and_nothing_typed_is_lost() {
    let v = Visitor::of_demo().await;
    let long = "x".repeat(501);
    let why = "first good wetting; “θ” plausible & stable";
    for (at, why, says) in [
        ("soon", why, "“soon” is no date and time"),
        ("2031-01-01 00:00", why, "This is still to come"),
        ("2026-05-01 06:00", " ", "Say why the record counts from there"),
        ("2026-05-01 06:00", long.as_str(), "at most 500 characters"),
    ] {
        let answer = v.post("/stations/1/field/official", &[("at", at), ("why", why)]).await;
        assert_eq!(answer.status(), 200, "the page with the form, not another one");
        let page = answer.text().await.unwrap();
        let written = why.replace('&', "&#38;");
        assert!(page.contains(says) && page.contains(&format!("value=\"{at}\"")), "{says}: {page}");
        assert!(page.contains(&format!("value=\"{written}\"")), "{page}");
    }
    let before = v.page("/studies/1/field").await;
    let done = v.post("/stations/1/field/official", &[("at", "2026-05-01 06:00"), ("why", why)]).await;
    assert_eq!(done.headers()["location"], "/studies/1/field");
    let after = v.page("/studies/1/field").await;
    assert!(!before.contains("1 May 2026 06:00") && after.contains("1 May 2026 06:00"), "{after}");
}
