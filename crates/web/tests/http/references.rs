//! What was measured by hand: noted with its slips told, held against the record, taken back.

use super::client::Visitor;
use super::mending::station;
use super::roles::member;
use super::seeing::channel;
use ebrel_core::roles::Role;

/// A time of the record as it is typed, so many days after its beginning.
async fn typed(owner: &Visitor, station: &str, stream: &str, days: i64) -> String {
    let page = owner.page(station).await;
    let first = page.split("data-first=\"").nth(1).unwrap().split('"').next().unwrap();
    let at = first.parse::<i64>().unwrap() + days * 86_400;
    let drawn = owner.page(&format!("{station}/review/mark?channel={stream}&from={at}&to={at}")).await;
    let field = drawn.split("id=\"mark-start\"").nth(1).unwrap();
    field.split("value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned()
}

/// What the record has beside the newest reading by hand, as the page writes it.
fn beside(page: &str) -> f64 {
    let cells: Vec<&str> = page.split("<td class=\"num\">").collect();
    cells[2].split('<').next().unwrap().replace('−', "-").parse().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_core_is_checked_held_against_the_record_and_taken_back() {
    let owner = Visitor::owner().await;
    let station = station(&owner, Vec::new()).await;
    let path = format!("{station}/references");
    let page = owner.page(&path).await;
    assert!(page.contains("Nothing measured by hand yet"), "{page}");
    assert!(owner.page(&station).await.contains(&path), "the station leads there");
    let (moist, warm) = (channel(&page, "cm, water content"), channel(&page, "cm, soil temperature"));
    let when = typed(&owner, &station, &moist, 20).await;
    let form = |changed: &[(&'static str, &str)]| {
        let whole = [
            ("channel", moist.as_str()),
            ("time", when.as_str()),
            ("kind", "core"),
            ("value", "0,2"),
            ("uncertainty", "0.012"),
            ("note", "tin 14, “θ”"),
        ];
        whole.map(|(k, v)| {
            let own = changed.iter().find(|c| c.0 == k).map_or(v, |c| c.1);
            (k, own.to_owned())
        })
    };
    let send = async |who: &Visitor, form: &[(&str, String)]| {
        let form: Vec<(&str, &str)> = form.iter().map(|(k, v)| (*k, v.as_str())).collect();
        let answer = who.post(&path, &form).await;
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    let long = "θ".repeat(501);
    let slips: &[(&[(&str, &str)], &str)] = &[
        (&[("channel", "")], "Choose beside which probe"),
        (&[("channel", "99999")], "Choose beside which probe"),
        (&[("time", "soon")], "is no date and time"),
        (&[("time", "2199-01-01 00:00")], "still to come"),
        (&[("time", "1990-01-01 00:00")], "No probe that shows this is noted at that port"),
        (&[("value", "")], "Give what was measured"),
        (&[("value", "1.01")], "water content"),
        (&[("value", "NaN")], "NaN"),
        (&[("uncertainty", "0")], "uncertainty"),
        (&[("uncertainty", "-0.01")], "uncertainty"),
        (&[("kind", "")], "Choose with what"),
        (&[("kind", "thermometer")], "A thermometer tells no water"),
        (&[("channel", &warm)], "A core tells water, not warmth"),
        (&[("note", &long)], "Shorten it to 500 characters; it has 501"),
    ];
    for (changed, says) in slips {
        let (status, refused) = send(&owner, &form(changed)).await;
        assert!(status == 200 && refused.contains(says), "{says}: {status} {refused}");
        assert!(refused.contains("tin 14, ") || changed[0].0 == "note", "what was typed stays");
    }
    assert!(owner.page(&path).await.contains("Nothing measured by hand yet"), "and nothing is kept");

    // First a value far off, to learn what the record has there; then one that agrees.
    let (status, _) = send(&owner, &form(&[("value", "-0.4")])).await;
    assert_eq!(status, 303);
    let page = owner.page(&path).await;
    assert!(page.contains("the record contradicts it") && page.contains("more than both may err"), "{page}");
    assert!(page.contains("−0.400 ± 0.012</span> m³/m³") && page.contains("tin 14, "), "{page}");
    let review = owner.page(&format!("{station}/review")).await;
    assert!(review.contains("Against the reference"), "it waits to be decided");
    let agrees = format!("{:.3}", beside(&page));
    let both = form(&[("value", &agrees)]);
    let (one, other) = (owner.another_tab(), owner.another_tab());
    let answers = tokio::join!(send(&one, &both), send(&other, &both));
    assert_eq!((answers.0.0, answers.1.0), (303, 303));
    let page = owner.page(&path).await;
    assert!(
        page.contains("2 readings by hand; the record contradicts one of them"),
        "from two tabs it is kept once: {page}"
    );

    let guest = member(&owner, "T. Quill", Role::Guest).await;
    assert_eq!(send(&guest, &both).await.0, 403);
    let seen = guest.page(&path).await;
    assert!(seen.contains("± 0.012") && !seen.contains("Take back") && !seen.contains("Note one"), "{seen}");

    let number = page.split("/references/").nth(1).unwrap().split('/').next().unwrap().to_owned();
    assert_eq!(owner.post(&format!("{path}/{number}/undo"), &[]).await.status(), 303);
    assert_eq!(owner.post(&format!("{path}/{number}/undo"), &[]).await.status(), 303, "once more is no harm");
    assert!(owner.page(&path).await.contains("taken back already"));
    let page = owner.page(&path).await;
    assert!(page.contains("taken back by N. Arvel") && page.matches("Take back").count() == 1, "{page}");
    assert_eq!(owner.post(&format!("{path}/4711/undo"), &[]).await.status(), 303);
    assert_eq!(owner.get("/stations/4711/references").await.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn time_and_again_to_one_side_is_one_cause_and_a_probe_without_a_calibration_has_none_to_retire() {
    let owner = Visitor::owner().await;
    let station = station(&owner, Vec::new()).await;
    let path = format!("{station}/references");
    let moist = channel(&owner.page(&path).await, "cm, water content");
    for days in [20, 30, 40] {
        let when = typed(&owner, &station, &moist, days).await;
        let form = [("channel", moist.as_str()), ("time", &when), ("kind", "handheld"), ("value", "-0.3")];
        assert_eq!(owner.post(&path, &form).await.status(), 303);
    }
    let review = owner.page(&format!("{station}/review")).await;
    assert!(
        review.contains("<b>Contradicted by hand</b>") && review.contains("3 times: the record is the higher"),
        "{review}"
    );
    assert!(!review.contains("/review/causes/"), "nothing to mend: {review}");
    let package = owner.get(&format!("{station}/export/package.zip?leave_out=none")).await.bytes().await.unwrap();
    let package = ebrel_formats::package::read_zip(&package, "tub.zip").unwrap();
    let rows: Vec<_> = package.references.iter().map(|r| (r.kind.as_str(), r.value, r.uncertainty)).collect();
    assert_eq!(rows, [("handheld", -0.3, None); 3]);
}
