//! What happened at a station, told by hand: kept once, corrected and taken back without losing what was said.

use super::client::Visitor;
use serde_json::Value;

const PATH: &str = "/stations/1/events";

/// Fields of an irrigation, changed as told.
fn watered<'a>(changes: &[(&'a str, &'a str)]) -> Vec<(&'a str, &'a str)> {
    let mut all = vec![
        ("kind", "irrigation"),
        ("start", "2026-07-10 08:00"),
        ("end", "2026-07-10 10:00"),
        ("amount", "12,5"),
        ("unit", "mm"),
        ("note", "two cans, \"θ\""),
        ("number", "hand-1"),
    ];
    for (name, value) in changes {
        all.retain(|f| f.0 != *name);
        all.push((name, value));
    }
    all
}

/// The events of the strips in July 2026.
async fn drawn(v: &Visitor) -> Vec<Value> {
    let asked = "/stations/1/window.json?from=1782864000&to=1785542400&columns=400&show=moisture";
    let window: Value = v.get(asked).await.json().await.unwrap();
    window["events"].as_array().unwrap().clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_event_is_told_once_corrected_taken_back_and_put_back() {
    let v = Visitor::of_demo().await;
    assert!(drawn(&v).await.is_empty());
    let (one, other) = (v.another_tab(), v.another_tab());
    let form = watered(&[("from", "1782864000"), ("to", "1785542400")]);
    let (a, b) = tokio::join!(one.post(PATH, &form), other.post(PATH, &form));
    for answer in [a, b] {
        assert_eq!(answer.headers()["location"], "/stations/1?from=1782864000&to=1785542400", "back to the strips");
    }
    let events = drawn(&v).await;
    assert_eq!(events.len(), 1, "sent twice, kept once");
    let event = &events[0];
    assert_eq!(
        (event["mark"].as_str(), event["words"].as_str()),
        (Some("W"), Some("an irrigation, 12.5 mm: two cans, \"θ\""))
    );
    assert_eq!(event["by_hand"], true);
    // Back in the browser the form is the same, and tells of another day.
    let next = watered(&[("start", "2026-07-12 08:00"), ("end", ""), ("note", "once more")]);
    for _ in 0..2 {
        assert_eq!(v.post(PATH, &next).await.status(), 303);
    }
    assert_eq!(drawn(&v).await.len(), 2, "another event, and that one too is kept once");
    let (number, revision) = (event["id"].to_string(), event["revision"].to_string());

    let corrected = watered(&[("event", &number), ("revision", &revision), ("amount", "21")]);
    assert_eq!(v.post(PATH, &corrected).await.status(), 303);
    let late = watered(&[("event", &number), ("revision", &revision), ("amount", "22")]);
    let page = v.post(PATH, &late).await.text().await.unwrap();
    assert!(page.contains("Somebody changed this event meanwhile") && page.contains("value=\"22\""), "{page}");
    assert!(
        page.contains("an irrigation, 21 mm") && page.contains(": an irrigation, 12.5 mm"),
        "what it said stays: {page}"
    );

    let refused = v.post(PATH, &[("event", &number), ("do", "remove"), ("why", " ")]).await.text().await.unwrap();
    assert!(refused.contains("Say why the event is taken back."));
    let taken = [("event", number.as_str()), ("do", "remove"), ("why", "it was the other bed")];
    assert_eq!(v.post(PATH, &taken).await.status(), 303);
    assert_eq!(drawn(&v).await.len(), 1, "the other one stays");
    assert!(v.post(PATH, &taken).await.text().await.unwrap().contains("Somebody changed this event meanwhile"));
    assert!(v.page(PATH).await.contains("it was the other bed"));
    assert_eq!(v.post(PATH, &[("event", &number), ("do", "put_back")]).await.status(), 303);
    assert_eq!(drawn(&v).await[0]["words"], "an irrigation, 21 mm: two cans, \"θ\"");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_is_said_and_what_was_typed_stays() {
    let v = Visitor::of_demo().await;
    for (changes, says) in [
        (&[("end", "2026-07-09 10:00")][..], "It ends before it begins"),
        (&[("start", "2031-07-10"), ("end", "")], "This is still to come"),
        (&[("kind", "official_start")], "Choose what happened."),
        (&[("kind", "")], "Choose what happened."),
        (&[("start", "yesterday")], "“yesterday” is no date and time"),
        (&[("amount", "-3")], "“-3” is no amount"),
        (&[("amount", "inf")], "“inf” is no amount"),
        (&[("amount", "0")], "“0” is no amount"),
        (&[("unit", "")], "Give the amount its unit"),
        (&[("unit", "a unit that is long")], "A unit has at most 12 characters"),
        (&[("note", &"θ".repeat(501))], "The note has at most 500 characters"),
    ] {
        let page = v.post(PATH, &watered(changes)).await.text().await.unwrap();
        assert!(page.contains(says), "{says}");
        assert!(page.contains("value=\"mm\"") || changes[0].0 == "unit", "{says}: what was typed stays");
    }
    assert!(drawn(&v).await.is_empty());
    // What came of a log is corrected in the log: the demo's installation.
    let page = v.page(PATH).await;
    assert!(page.contains("told by a log of the Field room"), "{page}");
    let begun = "/stations/1/window.json?from=1709164800&to=1711843200&columns=400&show=moisture";
    let window: Value = v.get(begun).await.json().await.unwrap();
    let installed = &window["events"][0];
    assert_eq!((installed["mark"].as_str(), installed["by_hand"].as_bool()), (Some("I"), Some(false)), "{window}");
    let number = installed["id"].to_string();
    for stolen in
        [watered(&[("event", &number), ("revision", "1")]), vec![("event", &number), ("do", "remove"), ("why", "x")]]
    {
        let refused = v.post(PATH, &stolen).await.text().await.unwrap();
        assert!(refused.contains("correct it in the Field room"), "{refused}");
    }
    let again: Value = v.get(begun).await.json().await.unwrap();
    assert_eq!(again["events"], window["events"], "and nothing of it was done");
    assert_eq!(v.post(PATH, &watered(&[("event", "9999"), ("revision", "1")])).await.status(), 404);
}
