//! The study's first page, new studies and stations, and assets.

use super::client::Visitor;

#[tokio::test(flavor = "multi_thread")]
async fn a_study_says_what_is_next_and_what_is_wrong() {
    let v = Visitor::of_demo().await;
    let page = v.page("/studies/1").await;
    assert!(page.contains("Next: Give Cut coupe a verdict on"));
    assert!(page.contains("Not connected at 60\u{a0}cm: 215 readings of exactly 0.0"));
    assert!(page.contains("known bias: a log pile stood 4 m south"));
    let empty = Visitor::owner().await;
    let page = empty.page("/studies/1").await;
    assert!(page.contains("Next: Plan Tub 1: depths, method") && page.contains("When does growth stop?"));
}

#[tokio::test(flavor = "multi_thread")]
async fn soil_that_cannot_be_is_told_at_its_field_and_the_form_stands() {
    let v = Visitor::owner().await;
    let form = [
        ("name", "Tub 2"),
        ("code", ""),
        ("h-name-0", "A"),
        ("h-bottom-0", "30"),
        ("h-density-0", "13"),
        ("h-name-1", "B"),
        ("h-bottom-1", "20"),
        ("h-density-1", "1.4"),
    ];
    let page = v.post("/studies/1/stations/new", &form).await.text().await.unwrap();
    assert!(page.contains("bulk density must lie between 0.05 and 2.2") && page.contains("value=\"13\""));
    assert!(page.contains("value=\"Tub 2\""));
    let good = form.map(|(n, t)| match n {
        "h-density-0" => (n, "1.3"),
        "h-bottom-1" => (n, "60"),
        _ => (n, t),
    });
    let made = v.post("/studies/1/stations/new", &good).await;
    assert_eq!(made.headers()["location"], "/stations/2/plan/site");
    let page = v.page("/stations/2").await;
    assert!(page.contains("No readings yet") && page.contains("Tub 2"));
    let overlap = form.map(|(n, t)| {
        if n == "h-density-0" {
            (n, "1.3")
        } else if n == "name" {
            (n, "Tub 3")
        } else {
            (n, t)
        }
    });
    let page = v.post("/studies/1/stations/new", &overlap).await.text().await.unwrap();
    assert!(page.contains("Give a depth below 30 cm"), "the second horizon ends above the first");
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_of_an_empty_station_are_designed_and_not_broken() {
    let v = Visitor::owner().await;
    for (path, words) in [
        ("/stations/1", "No readings yet."),
        ("/stations/1/review", "Nothing waits for a verdict."),
        ("/stations/1/placements", "No probe is placed yet."),
        ("/stations/1/export", "0 readings of 0 channels"),
        ("/studies/1/bench", "No dielectric probe is known yet"),
    ] {
        assert!(v.page(path).await.contains(words), "{path}");
    }
    let zip = v.get("/stations/1/export/package.zip").await.bytes().await.unwrap();
    assert!(ebrel_formats::package::read_zip(&zip, "tub1.zip").unwrap().channels.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn assets_are_shipped_and_not_sent_twice() {
    let v = Visitor::stranger().await;
    for (path, kind) in [
        ("/assets/vendor/bootstrap/bootstrap.min.css", "text/css"),
        ("/assets/vendor/fonts/atkinson-hyperlegible-next-latin-400-normal.woff2", "font/woff2"),
        ("/assets/components/strips/strips.js", "text/javascript"),
    ] {
        let first = v.get(path).await;
        assert!(first.headers()["content-type"].to_str().unwrap().starts_with(kind), "{path}");
        let tag = first.headers()["etag"].clone();
        let again = v.client.get(format!("{}{path}", v.base)).header("if-none-match", tag).send().await.unwrap();
        assert_eq!(again.status(), 304, "{path}");
    }
    assert_eq!(v.get("/assets/../Cargo.toml").await.status(), 303, "outside the assets one must sign in first");
    assert_eq!(v.get("/assets/shell/mod.rs").await.status(), 404, "sources are no assets");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_studies_make_a_list() {
    let v = Visitor::owner().await;
    assert_eq!(v.get("/").await.headers()["location"], "/studies/1");
    v.post("/studies/new", &[("name", "Sollane Terrace"), ("question", ""), ("offset", "90")]).await;
    let page = v.page("/").await;
    assert!(page.contains("Fern tubs") && page.contains("Sollane Terrace"));
    let wrong = v.post("/studies/new", &[("name", "X"), ("offset", "9000")]).await.text().await.unwrap();
    assert!(wrong.contains("is no offset from UTC: write it like +01:00"));
}
