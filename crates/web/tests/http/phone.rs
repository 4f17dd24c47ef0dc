//! What a phone is served: pages that open without a line, the stations that somebody may work at, the pack.

use super::client::Visitor;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::path::Path;

/// What the worker says that it keeps.
async fn kept(v: &Visitor) -> (String, BTreeSet<String>) {
    let worker = v.page("/field/sw.js").await;
    let head = worker.strip_prefix("self.EBREL = ").unwrap().split(";\n").next().unwrap();
    let head: Value = serde_json::from_str(head).unwrap();
    let files = head["files"].as_array().unwrap().iter().map(|f| f.as_str().unwrap().to_owned()).collect();
    (head["version"].as_str().unwrap().to_owned(), files)
}

#[tokio::test(flavor = "multi_thread")]
async fn the_worker_keeps_every_file_that_the_field_pages_use_and_each_is_there() {
    let v = Visitor::stranger().await;
    let (version, files) = kept(&v).await;
    assert!(version.starts_with("ebrel-field-") && version.len() > 20, "{version}");
    let app = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/rooms/field/app");
    for entry in std::fs::read_dir(app).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        // The worker itself is kept by the browser, and the shell stands under its own address.
        if !["sw.js", "shell.html"].contains(&name.as_str()) {
            assert!(
                files.contains(&format!("/assets/rooms/field/app/{name}")),
                "{name} would be missing without a line"
            );
        }
    }
    for file in &files {
        let text = v.page(file).await;
        for import in text.split("from \"").skip(1).filter(|_| file.ends_with(".js")) {
            let path = import.split('"').next().unwrap();
            let path =
                path.strip_prefix("./").map_or_else(|| path.to_owned(), |p| format!("/assets/rooms/field/app/{p}"));
            assert!(files.contains(&path), "{file} needs {path}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_opens_without_signing_in_tells_nothing_of_anybody() {
    let v = Visitor::owner().await;
    let stranger = v.another();
    for page in ["/field/", "/field/sw.js", "/field/manifest.webmanifest"] {
        let text = stranger.page(page).await;
        assert!(!text.contains("Fern tubs") && !text.contains("Tub 1") && !text.contains("Arvel"), "{page}");
    }
    let manifest: Value = serde_json::from_str(&stranger.page("/field/manifest.webmanifest").await).unwrap();
    assert_eq!((manifest["scope"].as_str(), manifest["display"].as_str()), (Some("/field/"), Some("standalone")));
    for icon in manifest["icons"].as_array().unwrap() {
        assert_eq!(stranger.get(icon["src"].as_str().unwrap()).await.status(), 200);
    }
    for closed in ["/field/stations.json", "/field/token.json", "/stations/1/field/pack.json"] {
        let answer = stranger.get(closed).await;
        assert!([303, 401].contains(&answer.status().as_u16()), "{closed}: {}", answer.status());
        assert!(!answer.text().await.unwrap().contains("Tub 1"), "{closed}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_is_offered_the_stations_of_every_study_and_a_token_that_sends() {
    let v = Visitor::of_demo().await;
    let stations: Value = v.get("/field/stations.json").await.json().await.unwrap();
    let names: Vec<(&str, &str)> = stations
        .as_array()
        .unwrap()
        .iter()
        .map(|s| (s["study"].as_str().unwrap(), s["name"].as_str().unwrap()))
        .collect();
    assert!(
        names.contains(&("Ostrelle Wood", "Cut coupe")) && names.contains(&("Fern tubs", "Fern house")),
        "{names:?}"
    );
    let token: Value = v.get("/field/token.json").await.json().await.unwrap();
    let send = |token: &str| {
        let request = v.client.post(format!("{}/stations/1/field/entries", v.base)).header("x-ebrel-token", token);
        request.json(&json!({"entries": []})).send()
    };
    assert_eq!(send(token["token"].as_str().unwrap()).await.unwrap().status(), 200);
    assert_eq!(send("forged").await.unwrap().status(), 403);
    assert_eq!(send("").await.unwrap().status(), 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_station_s_pack_is_small_whole_and_judges_by_finite_numbers() {
    let v = Visitor::of_demo().await;
    let stations: Value = v.get("/field/stations.json").await.json().await.unwrap();
    for station in stations.as_array().unwrap() {
        let text = v.page(&format!("/stations/{}/field/pack.json", station["id"])).await;
        assert!(text.len() <= 300_000, "{}: {} bytes", station["name"], text.len());
        let pack: Value = serde_json::from_str(&text).unwrap();
        assert_eq!(pack["name"], station["name"]);
        assert!(pack["caution"].as_str().unwrap().contains("buried"), "what can hurt stands before the first step");
        let probes = pack["probes"].as_array().unwrap().iter().chain(pack["installed"].as_array().unwrap());
        for probe in probes {
            if let Some(usual) = probe["usual"].as_array() {
                let [low, high] = [0, 1].map(|i| usual[i].as_f64().unwrap());
                assert!(low < high, "{probe}");
            }
            let limits = &probe["limits"];
            assert!(limits["good"].as_str().is_some_and(|s| !s.is_empty()), "{probe}");
            for point in limits["scale"].as_array().unwrap() {
                assert!(point[0].is_number() && point[1].is_number(), "{}: {point}", probe["label"]);
            }
            let of_scale: Vec<f64> =
                limits["scale"].as_array().unwrap().iter().map(|p| p[0].as_f64().unwrap()).collect();
            assert!(of_scale.windows(2).all(|w| w[0] < w[1]), "{}: ascending by reading", probe["label"]);
        }
        let steps = pack["steps"].as_array().unwrap();
        let keys: BTreeSet<&str> = steps.iter().map(|s| s["key"].as_str().unwrap()).collect();
        assert_eq!(keys.len(), steps.len(), "each step has a key of its own");
        let numbers = steps.iter().filter(|s| s["about"] == "probe").map(|s| s["number"].as_u64().unwrap());
        let count = pack["probes"].as_array().unwrap().len() as u64;
        let numbers: BTreeSet<u64> = numbers.collect();
        if pack["stops"].as_array().unwrap().is_empty() {
            assert_eq!(numbers, (0..count).collect(), "each probe has its step, and no other");
        } else {
            assert!(numbers.iter().all(|n| *n < count), "what the plan has to put right may have no step yet");
        }
        let dug = steps.iter().filter(|s| ["hole", "cores", "layer"].contains(&s["about"].as_str().unwrap())).count();
        assert_eq!(dug == 0, numbers.is_empty(), "where nothing is buried nothing is dug: {}", station["name"]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sending_of_any_size_is_answered_line_by_line_or_refused_as_a_whole() {
    let v = Visitor::of_demo().await;
    let note = |n: usize| {
        json!({"id": format!("0197cccc-0000-7000-8000-{n:012}"), "log": "0197cccc-1111-7000-8000-000000000001",
               "station": "ride", "at": 1_788_242_000 - n as i64, "by": "TQ", "deed": {"kind": "note", "text": "θ"}})
    };
    let send = async |entries: Vec<Value>| v.post_json("/stations/3/field/entries", &json!({"entries": entries})).await;
    let none: Vec<Value> = send(Vec::new()).await.json().await.unwrap();
    assert!(none.is_empty());
    let most: Vec<Value> = send((0..2000).map(note).collect()).await.json().await.unwrap();
    assert_eq!((most.len(), most.iter().filter(|a| a["kept"] == true).count()), (2000, 2000));
    let more = send((0..2001).map(note).collect()).await;
    assert_eq!(more.status(), 422);
    assert!(more.text().await.unwrap().contains("At most 2000 entries"));
    let no_list = v.post_json("/stations/3/field/entries", &json!({"entries": "all"})).await;
    assert!(no_list.status().is_client_error(), "{}", no_list.status());
    let log = v.page("/stations/3/field/logs/0197cccc-1111-7000-8000-000000000001").await;
    assert_eq!(log.matches("<td>TQ</td>").count(), 2000, "all stand on its page");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_goes_out_as_json_and_comes_in_at_a_machine_that_does_not_know_it() {
    let v = Visitor::of_demo().await;
    let room = v.page("/studies/1/field").await;
    let link = room.split("href=\"/stations/1/field/logs/").nth(1).unwrap().split('"').next().unwrap();
    let text = v.page(&format!("/stations/1/field/logs/{link}/entries.json")).await;
    let sent: Value = serde_json::from_str(&text).unwrap();
    let elsewhere = Visitor::of_demo().await;
    let entries = json!({"entries": sent["entries"]});
    let answers: Vec<Value> = elsewhere.post_json("/stations/1/field/entries", &entries).await.json().await.unwrap();
    assert_eq!(answers.len(), sent["entries"].as_array().unwrap().len());
    assert!(answers.iter().all(|a| a["kept"] == true), "{answers:?}");
    let back = elsewhere.page(&format!("/stations/1/field/logs/{link}/entries.json")).await;
    assert_eq!(back, text, "the same entries, each once");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_and_a_calendar_are_taken_along_as_files() {
    let v = Visitor::of_demo().await;
    let program = v.get("/stations/3/plan/program.json").await;
    let name = program.headers()["content-disposition"].to_str().unwrap().to_owned();
    assert!(name.contains("ride-program.json"), "{name}");
    let program: Value = program.json().await.unwrap();
    assert!(program.as_object().is_some_and(|p| !p.is_empty()), "{program}");
    let calendar = v.get("/stations/3/plan/calendar.ics").await;
    assert!(calendar.headers()["content-type"].to_str().unwrap().starts_with("text/calendar"));
    let text = calendar.text().await.unwrap();
    assert_eq!(text.matches("BEGIN:VEVENT").count(), text.matches("END:VEVENT").count());
    assert!(text.contains("BEGIN:VEVENT") && text.lines().all(|l| l.len() <= 75), "{text}");
}
