//! The room Findings over the demo, and where little or nothing is known.

use super::client::Visitor;
use super::roles::member;
use ebrel_core::quality::Test;
use ebrel_core::roles::Role;
use ebrel_core::units::{Grade, UnixSeconds, Verdict};
use ebrel_formats::package::{ChannelRow, Package, ReadingRow, StationRow, write_zip};
use ebrel_store::verdicts::{Decision, Mark};
use reqwest::StatusCode;
use serde_json::Value;
use std::io::Cursor;
use std::sync::LazyLock;
use std::time::{SystemTime, UNIX_EPOCH};

/// The number that stands before a word on a page.
fn before(page: &str, word: &str) -> f64 {
    let text = page.split(word).next().unwrap();
    let number = text.trim_end_matches(['\u{a0}', ' ']).rsplit([' ', '\u{a0}', '>']).next().unwrap();
    number.replace('−', "-").parse().unwrap_or_else(|_| panic!("{number:?} before {word}"))
}

#[tokio::test(flavor = "multi_thread")]
async fn water_says_what_it_holds_and_accounts_for_every_reading() {
    let v = Visitor::of_demo().await;
    let page = v.page("/stations/1/findings/water").await;
    let held = before(&page, "± ");
    assert!((20.0..110.0).contains(&held), "30 cm of soil hold {held} mm");
    assert!(page.contains("1 probe without a calibration is not in it"));
    let store = ebrel_store::Store::open(&v.data().join("ebrel.db")).await.unwrap();
    let record = ebrel_app::record::StationRecord::load(&store, 1).await.unwrap();
    let all: usize = record
        .channels
        .iter()
        .filter(|c| c.quantity() == ebrel_core::units::Quantity::WaterContent)
        .map(|c| c.view().times.len())
        .sum();
    let how = page.split("It rests on ").nth(1).unwrap().split('.').next().unwrap().replace('\u{202f}', "");
    let counts: Vec<usize> = how.split(';').map(|p| p.trim().split(' ').next().unwrap().parse().unwrap()).collect();
    assert_eq!(counts.iter().sum::<usize>(), all, "{how}");
    let row = page.split("taken meanwhile").nth(1).unwrap().split("<tbody>").nth(1).unwrap();
    let taken: f64 = row.split("class=\"num\">").nth(4).unwrap().split('<').next().unwrap().parse().unwrap();
    assert!((0.0..0.04).contains(&taken), "a day and a half of a summer's topsoil: {taken}");
    for sort in ["mm", "stored", "passed", "speed", "<b>"] {
        assert!(v.page(&format!("/stations/1/findings/water?sort={sort}&least=20")).await.contains("What each fall"));
    }
    let change = v.page("/stations/1/findings/water?from=2026-07-17&to=2026-07-19+00:00").await;
    assert!(change.contains("the profile changed by +"), "the storm of July");
    let outside = v.page("/stations/1/findings/water?from=1999-07-17&to=2026-07-19").await;
    assert!(outside.contains("nothing can be said"));
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_numbers_are_said_at_the_page_and_what_was_typed_stays() {
    let v = Visitor::of_demo().await;
    for (query, says) in [
        ("bottom=-3", "Down to: give a number from 1 to 500."),
        ("bottom=deep", "is no number"),
        ("least=0", "Falls of at least: give a number"),
        ("from=soon&to=2026-07-19", "is no date and time"),
        ("sentinel=999", "Sentinel: give a number"),
        ("sentinel=200", "No probe tells water content at 200"),
    ] {
        let page = v.page(&format!("/stations/1/findings/water?{query}")).await;
        assert!(page.contains(says), "{query}: {says}");
    }
    assert!(v.page("/stations/1/findings/water?from=soon&to=2026-07-19").await.contains("value=\"soon\""));
    assert!(v.page("/stations/1/findings/air?base=99").await.contains("Base temperature: give a number"));
    for query in ["from=5&to=5&columns=700", "from=0&to=9000&columns=0", "from=0&to=9000&columns=99999"] {
        assert_eq!(v.get(&format!("/stations/1/findings/profile.json?{query}")).await.status(), 422, "{query}");
    }
    assert_eq!(v.get("/stations/1/findings/profile.json?from=x").await.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(v.get("/stations/99/findings").await.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_picture_has_gaps_where_readings_are_left_out() {
    let v = Visitor::of_demo().await;
    let picture = async |query: &str| -> Value {
        v.get(&format!("/stations/1/findings/profile.json?{query}")).await.json().await.unwrap()
    };
    let all = picture("from=1709251200&to=1788220900&columns=600&what=moisture").await;
    let rows = all["rows"].as_array().unwrap();
    assert_eq!(rows.iter().map(|r| r["depth"].as_f64().unwrap()).collect::<Vec<_>>(), [5.0, 15.0, 30.0]);
    assert!(rows.iter().all(|r| r["mean"].as_array().unwrap().len() == 600 && r["half"][100].is_number()));
    assert!(all["counts"][1].as_i64().unwrap() > 0, "some readings are left out");
    assert!(all["frost"].as_array().unwrap().iter().any(Value::is_number), "two frosts came into the soil");
    assert_eq!(all["fronts"].as_array().unwrap().len(), 0, "over years they would lie on each other");
    let month = picture("from=1784246400&to=1785542400&columns=300&what=saturation").await;
    assert!(!month["fronts"].as_array().unwrap().is_empty());
    let share = month["rows"][0]["mean"][100].as_f64().unwrap() / 100.0;
    assert!((0.1..=1.05).contains(&share), "{share} of the pores");
    let warm = picture("from=1784246400&to=1785542400&columns=300&what=temperature").await;
    assert_eq!(warm["rows"].as_array().unwrap().len(), 4);
    let none = v.get("/stations/1/findings/profile.json?from=1784246400&to=1785542400&columns=300&what=tension").await;
    assert_eq!(none.status(), 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn heat_and_air_say_their_answer_first() {
    let v = Visitor::of_demo().await;
    let page = v.page("/stations/1/findings/heat").await;
    let kappa = before(&page, "·10⁻⁷");
    assert!((1.5..9.0).contains(&kappa), "{kappa}·10⁻⁷ m²/s is no soil");
    assert!(page.contains("All five agree within") && page.contains("days with frost"));
    let air = v.page("/stations/1/findings/air?dry=0.2").await;
    assert!(air.contains("below 0.2 at 5\u{a0}cm") && air.contains("Hargreaves (FAO-56 eq. 52)"));
}

#[tokio::test(flavor = "multi_thread")]
async fn stations_are_compared_and_what_cannot_be_concluded_is_said() {
    let v = Visitor::of_demo().await;
    let store = ebrel_store::Store::open(&v.data().join("ebrel.db")).await.unwrap();
    ebrel_app::demo::rest(&store, |_| ()).await.unwrap();
    assert!(v.page("/stations/3/findings/heat").await.contains("No thermometer in the soil has readings here"));
    assert!(v.page("/stations/3/findings?what=tension").await.contains("driest at"));
    let water = v.page("/stations/2/findings/water").await;
    assert!(
        water.contains("Rain is that of the gauge of Cut coupe.") && water.contains("Twins at 15"),
        "borrowed rain"
    );
    assert!(water.contains("reached the sentinel at 57"), "planned at 60, it lies at 57");
    let path = "/studies/1/findings/treatments?first=1&second=2";
    let page = v.page(path).await;
    let warmer = before(&page, "\u{a0}K warmer");
    assert!((0.3..2.0).contains(&warmer), "{warmer} K");
    assert!(page.contains("Each treatment has one place here") && page.contains("zero is left out"));
    assert!(page.contains("times that of the other place"), "buffering");
    // The simulator's two soils differ by cover alone: the cut one is the warmer, so the other way round it is the colder.
    let turned = v.page("/studies/1/findings/treatments?first=2&second=1").await;
    assert!((before(&turned, "\u{a0}K colder") - warmer).abs() < 1e-9);
    let impact = v.page(&format!("{path}&date=2025-05-02")).await;
    assert!(impact.contains("Only days of the year that lie on both sides count"), "before and after");
    assert!(v.page(&format!("{path}&date=2026-08-30")).await.contains("10 are needed"));
    assert!(v.page(&format!("{path}&date=soon")).await.contains("is no date and time"));
    let other = v.page(&format!("{path}&quantity=water_content@30")).await;
    assert!(other.contains("err by their calibrations"));
    assert!(v.page(&format!("{path}&quantity=water_content@60")).await.contains("do not both measure that"));
    assert!(v.page("/studies/1/findings/treatments?first=1&second=4").await.contains("measure nothing in common"));
    assert!(v.page("/studies/1/findings/treatments?first=1&second=1").await.contains("soil temperature"));
    assert!(v.page("/studies/2/findings/treatments").await.contains("wants two stations"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tubs_tell_where_growth_stops_and_a_table_can_be_brought_and_taken_back() {
    let v = Visitor::of_demo().await;
    let path = "/studies/2/findings/thresholds";
    let page = v.page(path).await;
    let at = before(&page, "\u{a0}m³/m³ (");
    assert!((at - 0.16).abs() < 0.02, "growth truly stops below 0.16 m³/m³: {at}");
    assert!(page.contains("Of 360 rows 348 are points of the fit; 12 are the first of their plant"));
    assert!(v.page(&format!("{path}?axis=curve&curve=loam")).await.contains("known to a factor of two or three only"));
    assert!(v.page(&format!("{path}?axis=tension")).await.contains("tell no water tension yet"));
    assert!(v.page(&format!("{path}?take=value")).await.contains("0 are the first of their plant"));

    let bad = [("name", "sap θ \"flow\""), ("unit", "g/h"), ("rows", "2026-05-04 09:00; FT-01; much\nnever;FT-01;3")];
    let answer = v.post(path, &bad).await;
    assert_eq!(answer.status(), 200);
    let text = answer.text().await.unwrap();
    assert!(text.contains("Line 1:") && text.contains("Line 2:") && text.contains("FT-01; much"), "nothing is lost");
    assert!(text.contains("sap θ &#34;flow&#34;"), "{}", &text[text.len() - 1500..]);
    let three =
        [("name", "sap"), ("unit", "g/h"), ("rows", "2026-05-04;FT-01;1\n2026-05-11;FT-01;2\n2026-05-18;FT-01;3")];
    let kept = v.post(path, &three).await;
    assert_eq!(kept.status(), 303);
    let address = kept.headers()["location"].to_str().unwrap().to_owned();
    assert!(v.page(&address).await.contains("two segments need at least 8"));
    let id = address.rsplit('=').next().unwrap();
    let nowhere = [("name", "nobody's"), ("unit", ""), ("rows", "2026-05-04;XX-01;1\n2026-05-11;XX-01;2")];
    v.post(path, &nowhere).await;
    assert!(v.page(path).await.contains("are called XX-01") || v.page(path).await.contains("XX-01"));
    let late = [("name", "another year"), ("unit", ""), ("rows", "1999-05-04;FT-01;1\n1999-05-11;FT-01;2")];
    v.post(path, &late).await;
    assert!(v.page(path).await.contains("are its dates right?"));
    for said in ["was taken back; it is", "was taken back already"] {
        assert_eq!(v.post(&format!("{path}/{id}/remove"), &[]).await.status(), 303);
        assert!(v.page(path).await.contains(said));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_study_says_what_is_missing_and_a_guest_may_only_look() {
    let owner = Visitor::owner().await;
    for (path, says) in [
        ("/stations/1/findings", "Nothing here tells water content yet."),
        ("/stations/1/findings/water", "There is no moisture probe with readings"),
        ("/stations/1/findings/heat", "No thermometer in the soil"),
        ("/stations/1/findings/air", "There are no readings here yet."),
        ("/studies/1/findings/treatments", "wants two stations"),
        ("/studies/1/findings/thresholds", "paste a table of what the plants did"),
        ("/studies/1", "no readings yet"),
    ] {
        assert!(owner.page(path).await.contains(says), "{path}: {says}");
    }
    let guest = member(&owner, "Guest", Role::Guest).await;
    let page = guest.page("/studies/1/findings/thresholds").await;
    assert!(!page.contains("Bring a response"));
    let rows = [("name", "x"), ("unit", ""), ("rows", "2026-05-04;tub1;1")];
    assert_eq!(guest.post("/studies/1/findings/thresholds", &rows).await.status(), 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_page_is_a_picture_that_leads_on() {
    let v = Visitor::of_demo().await;
    let page = v.page("/studies/1").await;
    assert_eq!(page.matches("<article class=\"glance\"").count(), 5, "each station");
    assert!(page.contains("Water stored, a year:") && page.contains("Wrong now"));
    let link =
        page.split("<a href=\"/stations/1?from=").nth(1).unwrap().split('"').next().unwrap().replace("&amp;", "&");
    assert_eq!(v.get(&format!("/stations/1?from={}", link.replace("&#38;", "&"))).await.status(), 200);
    assert!(page.contains("class=\"doubtful\"") && page.contains("class=\"out\""), "days that wait, days left out");
}

/// A package with two stations that measure the same: names with θ and quotes, no place, no rain; the second is the first, moved by `by`.
fn twins(by: f64) -> Vec<u8> {
    let station = |code: &str| StationRow {
        station: code.into(),
        name: format!("Plot “{code}” θ <b>"),
        treatment: "mulch & \"straw\"".into(),
        ..StationRow::default()
    };
    let mut channels = Vec::new();
    for (code, shift) in [("one", 0.0), ("two", by)] {
        for (quantity, unit, depth, level) in [
            ("water_content", "m3/m3", 10.0, 0.25),
            ("water_content", "m3/m3", 30.0, 0.30),
            ("soil_temperature", "degC", 10.0, 12.0),
        ] {
            let port = format!("{}{depth}", &quantity[..1]);
            let row = ChannelRow {
                channel: format!("{code}.{port}"),
                station: code.into(),
                node: format!("node {code}"),
                port: port.clone(),
                quantity: quantity.into(),
                unit: unit.into(),
                depth_cm: Some(depth),
                serial: format!("S-{code}-{port}"),
                start: Some(UnixSeconds(*START)),
                interval_s: Some(3600),
                ..ChannelRow::default()
            };
            let wave = |h: i64| (h as f64 * 0.26).sin() * if unit == "degC" { 3.0 } else { 0.01 };
            let readings = (0..24 * 120)
                .map(|h| ReadingRow::plain(UnixSeconds(*START + h * 3600), level + wave(h) + shift))
                .collect();
            channels.push((row, readings));
        }
    }
    let package: Package = Package { stations: vec![station("one"), station("two")], channels, ..Package::default() };
    let mut zip = Cursor::new(Vec::new());
    write_zip(package, &mut zip).unwrap();
    zip.into_inner()
}

/// Midnight of the day on which the plots' record begins: it ends a few days ago, so that the first page's year holds it.
static START: LazyLock<i64> = LazyLock::new(|| {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs() as i64;
    now - now % 86_400 - 125 * 86_400
});

/// A day of that record, as people write it.
fn date(day: i64) -> String {
    ebrel_formats::rfc3339(UnixSeconds(*START + day * 86_400))[..10].to_owned()
}

/// Brings both plots into the owner's study; their numbers.
async fn plots(owner: &Visitor, by: f64) -> (i64, i64) {
    let answer = owner.upload_to("/studies/1/packages/new", "plots.zip", &twins(by)).await;
    let path = answer.headers()["location"].to_str().unwrap().to_owned();
    assert_eq!(owner.post(&path, &[("code.one", "one"), ("code.two", "two")]).await.status(), 303);
    let store = ebrel_store::Store::open(&owner.data().join("ebrel.db")).await.unwrap();
    let number = async |code: &str| store.station_called(code).await.unwrap().id;
    (number("one").await, number("two").await)
}

#[tokio::test(flavor = "multi_thread")]
async fn awkward_names_exact_twins_and_a_station_without_place_or_rain() {
    let owner = Visitor::owner().await;
    let (one, two) = plots(&owner, 0.0).await;
    let path = format!("/studies/1/findings/treatments?first={one}&second={two}&quantity=soil_temperature@10");
    let page = owner.page(&path).await;
    assert!(page.contains("Plot “one” θ &#60;b&#62;") && !page.contains("θ <b>"), "names are text");
    assert!(page.contains("not surely other: 0.00\u{a0}K warmer"), "equal records differ by nothing");
    assert!(page.contains("+1.00") || page.contains("1.00 times"), "and swing alike");
    assert!(page.contains("No gauge tells of rain at either"));
    let water = owner.page(&format!("/stations/{one}/findings/water")).await;
    assert!(water.contains("No gauge tells of rain here") && water.contains("No probe is set as the sentinel"));
    assert!(water.contains("6 and 18 h, since the place is not known"));
    assert!(water.contains("is assumed for each"), "a probe that works its content out itself has no calibration");
    assert!(!water.contains("NaN") && !water.contains("inf"));
    let air = owner.page(&format!("/stations/{one}/findings/air")).await;
    assert!(air.contains("No shielded thermometer of the air") && air.contains("No gauge tells of rain"));
    let heat = owner.page(&format!("/stations/{one}/findings/heat")).await;
    assert!(heat.contains("Only one depth has a thermometer") && heat.contains("shorter than a year"));
    let glance = owner.page("/studies/1").await;
    assert!(glance.contains("Water stored, a year:") && glance.contains("Plot “two” θ &#60;b&#62;"));
    for what in ["moisture", "saturation", "tension", "temperature", "nonsense"] {
        let page = owner.page(&format!("/stations/{one}/findings?what={what}")).await;
        assert!(page.contains("aria-current=\"page\"") && !page.contains("NaN"), "{what}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shift_is_found_and_a_date_without_a_before_is_told() {
    let owner = Visitor::owner().await;
    let (one, two) = plots(&owner, -0.75).await;
    let path = format!("/studies/1/findings/treatments?first={one}&second={two}&quantity=soil_temperature@10");
    let page = owner.page(&path).await;
    assert!(page.contains("0.75\u{a0}K warmer"), "exact data have a sharp answer");
    assert!(page.contains("+0.75 (+0.75 to +0.75)"));
    let early = owner.page(&format!("{path}&date=2020-01-01")).await;
    assert!(early.contains("the time before has 0 days known at both places"));
    let middle = owner.page(&format!("{path}&date={}", date(60))).await;
    assert!(middle.contains("a season may pass for an effect here") && middle.contains("no change can be concluded"));
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_thousand_rows_are_kept_once_from_two_tabs_and_stay_with_their_study() {
    let owner = Visitor::owner().await;
    plots(&owner, 0.0).await;
    let path = "/studies/1/findings/thresholds";
    let line = |i: i64| {
        format!("{};w10;{}\n", ebrel_formats::rfc3339(UnixSeconds(*START + i * 900)).replace(['T', 'Z'], " "), i % 97)
    };
    let rows: String = (0..10_000).map(line).collect();
    let long = "x".repeat(5_000);
    let refused =
        owner.post(path, &[("name", long.as_str()), ("unit", "g"), ("rows", &format!("{};w10;1", date(1)))]).await;
    let text = refused.text().await.unwrap();
    assert!(text.contains("120") && text.contains(&long), "the limit is said and nothing typed is lost");
    let form = [("name", "sap"), ("unit", "g/h"), ("rows", rows.as_str())];
    let other_tab = owner.another_tab();
    let (a, b) = tokio::join!(owner.post(path, &form), other_tab.post(path, &form));
    assert_eq!((a.status(), b.status()), (StatusCode::SEE_OTHER, StatusCode::SEE_OTHER));
    assert_eq!(a.headers()["location"], b.headers()["location"], "kept once");
    let page = owner.page(&format!("{path}?take=value")).await;
    assert!(page.contains("Of 10000 rows") && page.contains("10000 values in g/h"));
    let store = ebrel_store::Store::open(&owner.data().join("ebrel.db")).await.unwrap();
    assert_eq!(store.responses(1).await.unwrap().len(), 1);
    // Another study's table is not taken back through this one.
    owner.post("/studies/new", &[("name", "Second"), ("question", ""), ("offset", "0")]).await;
    let id = store.responses(1).await.unwrap()[0].id;
    owner.post(&format!("/studies/2/findings/thresholds/{id}/remove"), &[]).await;
    assert_eq!(store.responses(1).await.unwrap().len(), 1);
    assert!(owner.page("/studies/2/findings/thresholds").await.contains("No response is known yet"));
    assert_eq!(owner.post(path, &[("name", "empty"), ("unit", ""), ("rows", " \n ")]).await.status(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_page_follows_a_verdict_at_once() {
    let owner = Visitor::owner().await;
    let (one, _) = plots(&owner, 0.0).await;
    let out = async || owner.page("/studies/1").await.matches("class=\"out\"").count();
    let before = out().await;
    assert_eq!(out().await, before, "the same picture again");
    let store = ebrel_store::Store::open(&owner.data().join("ebrel.db")).await.unwrap();
    let stream = store.streams(one).await.unwrap()[0].id;
    let (start, end) = (UnixSeconds(*START + 30 * 86_400), UnixSeconds(*START + 33 * 86_400));
    let seen = Decision {
        id: 0,
        stream_id: stream,
        test: Test::Noise,
        start,
        end,
        verdict: Verdict::LeftOut,
        reason: "a mole".into(),
        by: "NA".into(),
        at: end,
        mark: Some(Mark { grade: Grade::Wrong, readings: 73 }),
    };
    store.decide(&[seen]).await.unwrap();
    assert_eq!(out().await, before + 1, "another process decided: the picture is made anew");
}
