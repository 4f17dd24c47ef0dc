//! The window of the station page, placements, and what comes out.

use super::client::Visitor;
use ebrel_core::quality::Settings;
use ebrel_formats::package::{flags_csv, read_zip};
use serde_json::Value;
use std::collections::BTreeMap;

async fn window(v: &Visitor, query: &str) -> Value {
    v.get(&format!("/stations/1/window.json?{query}")).await.json().await.unwrap()
}

const ALL: &str = "from=1709251200&to=1788220900&columns=700";

#[tokio::test(flavor = "multi_thread")]
async fn no_spike_is_averaged_away_over_all_years() {
    let v = Visitor::of_demo().await;
    let data = window(&v, ALL).await;
    let strip = data["strips"].as_array().unwrap().iter().find(|s| s["depth"] == 15.0).unwrap();
    let line = &strip["lines"][0];
    let largest = line["max"].as_array().unwrap().iter().filter_map(Value::as_i64).max().unwrap();
    let largest_mean = line["mean"].as_array().unwrap().iter().filter_map(Value::as_i64).max().unwrap();
    assert!(largest > largest_mean + 1500, "the shorted line stands out: {largest} against {largest_mean}");
    let shown: Vec<_> = data["strips"].as_array().unwrap().iter().map(|s| s["raw"].as_bool().unwrap()).collect();
    assert_eq!(shown, [false, false, false, true], "the 60 cm probe has no calibration yet");
    assert!(strip["lines"][0]["band"][10].is_number());
}

#[tokio::test(flavor = "multi_thread")]
async fn windows_that_cannot_be_drawn_are_refused() {
    let v = Visitor::of_demo().await;
    for query in ["from=5&to=5&columns=700", "from=0&to=9000&columns=0", "from=0&to=9000&columns=99999"] {
        assert_eq!(v.get(&format!("/stations/1/window.json?{query}")).await.status(), 422, "{query}");
    }
    assert_eq!(v.get("/stations/99").await.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_selection_gives_the_same_bytes_and_leaves_out_what_is_told() {
    let v = Visitor::of_demo().await;
    let path = "/stations/1/export/package.zip?chosen=1&from=2024-09-10+00:00&to=2024-09-16+00:00&leave_out=wrong";
    let first = v.get(path).await.bytes().await.unwrap();
    assert_eq!(first, v.get(path).await.bytes().await.unwrap());
    let package = read_zip(&first, "cut.zip").unwrap();
    let readings = |package: &ebrel_formats::package::Package| {
        package.channels.iter().find(|c| c.0.port == "m60").unwrap().1.len()
    };
    let whole = v.get(&path.replace("&leave_out=wrong", "")).await.bytes().await.unwrap();
    let whole = read_zip(&whole, "cut.zip").unwrap();
    assert_eq!(readings(&whole) - readings(&package), 215, "the zeros of the pulled plug");
    assert!(package.flags.iter().any(|f| f.test == "not_connected" && f.grade == "wrong"));
    let calibrated = whole.channels.iter().find(|c| c.0.port == "m05").unwrap().1.get(0).unwrap();
    assert!(calibrated.raw.unwrap() > 250.0 && calibrated.value < 1.0 && calibrated.uncertainty.is_some());

    let wide = v.get("/stations/1/export/wide.csv?from=2024-09-10&to=2024-09-11").await.text().await.unwrap();
    assert!(wide.starts_with("time (UTC+00),"), "{}", &wide[..60]);
    assert_eq!(wide.lines().count(), 97);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_exported_package_is_checked_as_the_station_was() {
    let v = Visitor::of_demo().await;
    let bytes = v.get("/stations/1/export/package.zip?chosen=1").await.bytes().await.unwrap();
    let package = read_zip(&bytes, "cut.zip").unwrap();
    let with_flags = package.flags.clone();
    let alone = ebrel_app::checking::check(package, &Settings::default()).flags;
    let key = |f: &ebrel_formats::package::FlagRow| (f.channel.clone(), f.start, f.end, f.test.clone());
    let mut alone_keys: Vec<_> = alone.iter().map(key).collect();
    // Only first values travel in a package, so repeats with other values are known to the station alone.
    let mut station_keys: Vec<_> = with_flags.iter().filter(|f| f.test != "repeated").map(key).collect();
    alone_keys.sort();
    station_keys.sort();
    assert_eq!(alone_keys, station_keys);
    assert!(flags_csv(&alone).unwrap().starts_with(b"channel,start,end,test,grade,verdict,reason,evidence\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn two_corrections_of_one_placement_lose_neither() {
    let v = Visitor::of_demo().await;
    let path = "/stations/1/placements/3";
    let send = async |depth: &str, orientation: &str, was: &str| {
        let fields = [
            ("serial", "BD-0421"),
            ("port", "m30"),
            ("depth", depth),
            ("orientation", orientation),
            ("starts", "2024-03-01 00:00"),
            ("ends", ""),
            ("was", was),
        ];
        let answer = v.post(path, &fields).await;
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    let page = v.page("/stations/1/placements").await;
    let page = scraper::Html::parse_document(&page);
    let form = scraper::Selector::parse(&format!("form[action='{path}'] input")).unwrap();
    let value = |name: &str| {
        let input = page.select(&form).find(|i| i.attr("name") == Some(name)).unwrap();
        input.attr("value").unwrap().to_owned()
    };
    let (was, lies, depth) = (value("was"), value("orientation"), value("depth"));
    assert_eq!(send("31", &lies, &was).await.0, 303);
    assert_eq!(send(&depth, "θ, on edge", &was).await.0, 303, "another field from the same old page");
    let both = v.page("/stations/1/placements").await;
    assert!(both.contains("value=\"31\"") && both.contains("value=\"θ, on edge\""));
    let (status, refused) = send("32", &lies, &was).await;
    assert_eq!(status, 200);
    assert!(refused.contains("By now it says depth “31”") && refused.contains("value=\"32\""), "{refused}");
    assert!(v.page("/stations/1/placements").await.contains("value=\"31\""), "theirs stands until sent again");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_correction_that_cannot_be_says_why_and_keeps_what_was_typed() {
    let v = Visitor::of_demo().await;
    let cases = [
        ("serial", "BD-θ\"1", "No probe has the serial “BD-θ&#34;1”"),
        ("port", "", "the port"),
        ("port", "m05", "is at port m05 in that time"),
        ("depth", "deep", "“deep” is no number"),
        ("depth", "9000", "depth"),
        ("ends", "2023-01-01 00:00", "must end after it starts"),
        ("ends", "2024-02-30 00:00", "“2024-02-30 00:00” is no date and time: write it like"),
    ];
    let whole = v.page("/stations/1/placements").await;
    for (name, text, says) in cases {
        let mut fields = BTreeMap::from([
            ("serial", "BD-0421"),
            ("port", "m30"),
            ("depth", "30"),
            ("orientation", "horizontal"),
            ("starts", "2024-03-01 00:00"),
            ("ends", ""),
        ]);
        fields.insert(name, text);
        let fields: Vec<_> = fields.into_iter().collect();
        let answer = v.post("/stations/1/placements/3", &fields).await;
        assert_eq!(answer.status(), 200, "{name}={text}");
        let page = answer.text().await.unwrap();
        let alert = page.split("role=\"alert\">").nth(1).unwrap_or_default().split("</p>").next().unwrap();
        assert!(alert.contains(says), "{name}={text}: {alert}");
        let typed = format!("value=\"{}\"", text.replace('"', "&#34;"));
        assert!(page.contains(&typed), "{name}={text} stands as typed");
    }
    assert_eq!(v.page("/stations/1/placements").await, whole, "nothing was changed");
    assert_eq!(v.post("/stations/1/placements/999", &[("serial", "x")]).await.status(), 422, "half a form");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_corrected_depth_moves_the_record_and_changes_no_reading() {
    let v = Visitor::of_demo().await;
    let form = |depth: &'static str, starts: &'static str| {
        [
            ("serial", "BD-0421"),
            ("port", "m30"),
            ("depth", depth),
            ("orientation", "horizontal"),
            ("starts", starts),
            ("ends", ""),
        ]
    };
    let refused = v.post("/stations/1/placements/3", &form("30", "yesterday")).await.text().await.unwrap();
    assert!(refused.contains("“yesterday” is no date and time: write it") && refused.contains("value=\"yesterday\""));
    let before = v.page("/stations/1/export").await;
    assert_eq!(v.post("/stations/1/placements/3", &form("35", "2024-03-01 00:00")).await.status(), 303);
    let depths: Vec<_> =
        window(&v, ALL).await["strips"].as_array().unwrap().iter().map(|s| s["depth"].as_f64().unwrap()).collect();
    assert_eq!(depths, [5.0, 15.0, 35.0, 60.0]);
    let total = |page: &str| page.split("readings of").next().unwrap().rsplit('>').next().unwrap().trim().to_owned();
    assert_eq!(total(&v.page("/stations/1/export?chosen=1").await), "1\u{202f}050\u{202f}972");
    assert!(before.contains("12 channels"));
}
