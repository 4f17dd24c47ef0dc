//! What people see and say: spans of their own, comments, a second opinion.

use super::client::Visitor;
use super::mending::{link, station};
use super::roles::member;
use ebrel_core::roles::Role;
use ebrel_core::units::SpanSeconds;
use ebrel_simulator::years::{Kind, Severity};
use ebrel_store::verdicts::Decision;

/// The number of a channel in the form for a span, by its words.
pub fn channel(page: &str, words: &str) -> String {
    let at = page.find(words).unwrap_or_else(|| panic!("no {words} in {page}"));
    page[..at].rsplit("value=\"").next().unwrap().split('"').next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_span_of_one_s_own_is_checked_kept_once_counted_and_taken_back() {
    let owner = Visitor::owner().await;
    let station = station(&owner, Vec::new()).await;
    let mark = format!("{station}/review/mark");
    let page = owner.page(&mark).await;
    let moist = channel(&page, "cm, water content");
    let extent = owner.page(&station).await;
    let number = |name: &str| -> i64 {
        extent.split(&format!("{name}=\"")).nth(1).unwrap().split('"').next().unwrap().parse().unwrap()
    };
    let at = number("data-first") + 20 * 86_400;
    let drawn = owner.page(&format!("{mark}?channel={moist}&from={at}&to={}", at + 86_400)).await;
    let value = |id: &str| {
        let field = drawn.split(&format!("id=\"{id}\"")).nth(1).unwrap();
        field.split("value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned()
    };
    let (start, end) = (value("mark-start"), value("mark-end"));
    assert!(drawn.contains("class=\"trace\""), "{drawn}");
    let form = |start: &str, end: &str, test: &str, reason: &str| {
        let owned = [
            ("channel", moist.as_str()),
            ("start", start),
            ("end", end),
            ("test", test),
            ("grade", "wrong"),
            ("reason", reason),
        ];
        owned.map(|(k, v)| (k.to_owned(), v.to_owned()))
    };
    let slips = [
        (form(&end, &start, "step", "θ “x”"), "It ends before it begins"),
        (form("soon", &end, "step", "θ “x”"), "is no date and time"),
        (form(&start, &end, "", "θ “x”"), "Choose what it is"),
        (form(&start, &end, "step", " "), "Give a reason"),
        (form("2001-01-01", "2001-01-02", "step", "θ “x”"), "no reading in that time"),
        (form(&start, &end, "step", &"θ".repeat(5000)), "Shorten a reason"),
    ];
    for (form, says) in &slips {
        let form: Vec<(&str, &str)> = form.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        let refused = owner.post(&mark, &form).await.text().await.unwrap();
        assert!(refused.contains(says), "{says}: {refused}");
        assert!(refused.contains("θ") || says.contains("Give"), "what was typed stays");
    }
    let good = form(&start, &end, "step", "a beetle, “θ”");
    let good: Vec<(&str, &str)> = good.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
    let guest = member(&owner, "T. Quill", Role::Field).await;
    assert_eq!(guest.post(&mark, &good).await.status(), 403);
    let (one, other) = (owner.another_tab(), owner.another_tab());
    let answers = tokio::join!(one.post(&mark, &good), other.post(&mark, &good));
    let done = [answers.0.status().as_u16(), answers.1.status().as_u16()];
    assert_eq!(done.iter().filter(|s| **s == 303).count(), 1, "from two tabs it is marked once: {done:?}");
    let twice = owner.post(&mark, &good).await.text().await.unwrap();
    assert!(twice.contains("marked so already"), "{twice}");

    for far in [i64::MAX, i64::MIN, 253_402_300_800] {
        let odd = owner.get(&format!("{mark}?channel={moist}&from={far}&to={far}")).await;
        assert!(odd.status().as_u16() < 500, "{far}: {}", odd.status());
    }
    let seen = owner.page(&format!("{station}/review?state=seen")).await;
    assert!(seen.contains("seen by people 1") && seen.contains("a beetle, “θ”"), "{seen}");
    assert!(seen.contains("Left out by"), "{seen}");
    let drawn = owner.page(&link(&seen, "/review/flags/-")).await;
    assert!(drawn.contains("class=\"trace\"") && drawn.contains("<td class=\"num\">97</td>"), "{drawn}");
    // Four hundred and fifty more from elsewhere: a page lists so many, and says how many it does not.
    let store = ebrel_store::Store::open(&owner.data().join("ebrel.db")).await.unwrap();
    let number: i64 = station.rsplit('/').next().unwrap().parse().unwrap();
    let one = store.verdicts(number).await.unwrap().remove(0);
    let later = |i: i64| SpanSeconds(200_000 + i * 7200);
    let many: Vec<Decision> =
        (0..450).map(|i| Decision { start: one.start + later(i), end: one.start + later(i), ..one.clone() }).collect();
    let ids = store.decide(&many).await.unwrap();
    let page = owner.page(&format!("{station}/review?state=seen")).await;
    assert!(page.contains("seen by people 451") && page.contains("and 51 more"), "{}", page.len());
    assert_eq!(page.matches("<li class=\"item").count(), 400);
    store.undo_decisions(&ids, "T. Quill", one.at).await.unwrap();

    owner.post(&format!("{station}/review/run"), &[]).await;
    let decided = owner.page(&format!("{station}/review/decided")).await;
    assert!(decided.contains("seen by hand, wrong: left out") && decided.contains("no test saw it"), "{decided}");
    let verdict: i64 = seen.split("data-verdicts=\"").nth(1).unwrap().split('"').next().unwrap().parse().unwrap();
    owner.post_json(&format!("{station}/review/undo"), &serde_json::json!({ "verdicts": [verdict] })).await;
    assert!(owner.page(&format!("{station}/review?state=seen")).await.contains("Nothing of this kind"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_opinion_is_wanted_by_one_and_given_by_another() {
    let owner = Visitor::owner().await;
    let station = station(&owner, vec![(Kind::Step, Severity::Blatant)]).await;
    let quill = member(&owner, "T. Quill", Role::Field).await;
    let review = quill.page(&format!("{station}/review")).await;
    let flag = link(&review, "/review/flags/");
    let page = quill.page(&flag).await;
    let hidden = |name: &str| {
        page.split(&format!("name=\"{name}\" value=\"")).nth(1).unwrap().split('"').next().unwrap().to_owned()
    };
    let key = ["stream", "test", "start", "end"].map(|name| (name, hidden(name)));
    let said = |words: &str, asks: &str| {
        let mut form: Vec<(String, String)> = key.iter().map(|(k, v)| ((*k).to_owned(), v.clone())).collect();
        form.push(("words".into(), words.into()));
        form.push(("asks".into(), asks.into()));
        form
    };
    let send = async |who: &Visitor, form: Vec<(String, String)>| {
        let form: Vec<(&str, &str)> = form.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        who.post(&format!("{station}/review/said"), &form).await
    };
    let long = "θ".repeat(5000);
    for words in ["", long.as_str()] {
        let refused = send(&quill, said(words, "yes")).await.text().await.unwrap();
        assert!(refused.contains("is-invalid") && refused.contains(" checked> I want a second"), "{refused}");
    }
    assert_eq!(send(&quill, said("roots or a “mole”?", "yes")).await.status(), 303);
    let mut elsewhere = said("x", "");
    elsewhere[0].1 = "99999".into();
    assert_eq!(send(&quill, elsewhere).await.status(), 422);
    let guest = member(&owner, "R. Teal", Role::Guest).await;
    assert_eq!(send(&guest, said("me too", "")).await.status(), 403);
    let asked = owner.page(&format!("{station}/review?state=asked")).await;
    assert!(asked.contains("second opinion 1") && asked.contains("roots or a “mole”?"), "{asked}");
    assert!(asked.contains("T. Quill, wants a second"), "{asked}");

    let first = owner.page("/studies/1").await;
    assert!(first.contains("T. Quill wants a second opinion at Tub “7”: “roots or a “mole”?”"), "{first}");

    // The tests run anew: what was said stays with the finding.
    owner.post(&format!("{station}/review/run"), &[]).await;
    let asked = owner.page(&format!("{station}/review?state=asked")).await;
    let number: i64 = asked.split("data-flags=\"").nth(1).unwrap().split(['"', ' ']).next().unwrap().parse().unwrap();
    assert_eq!(send(&owner, said("a mole: there was a hill", "")).await.status(), 303);
    let verdict = serde_json::json!({ "flags": [number], "verdict": "left_out", "reason": "a mole" });
    assert!(owner.post_json(&format!("{station}/review/verdict"), &verdict).await.status().is_success());
    let asked = owner.page(&format!("{station}/review?state=asked")).await;
    assert!(asked.contains("second opinion 0"), "{asked}");
    assert!(!owner.page("/studies/1").await.contains("wants a second opinion"));
    let decided = owner.page(&format!("{station}/review/decided")).await;
    assert!(decided.contains("second opinion wanted") && decided.contains("somebody decided since"), "{decided}");
    assert!(decided.contains("comment") && decided.contains("a mole: there was a hill"), "{decided}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_span_over_two_placements_is_a_mark_in_each_and_lone_jumps_are_decided_together() {
    let demo = Visitor::of_demo().await;
    let review = demo.page("/stations/1/review").await;
    let jump = review.split("<b>Probe moved</b>").nth(1).expect("the demo has one").split("</li>").next().unwrap();
    let like = demo.page(&format!("{}?everywhere=true", link(jump, "/review/like/"))).await;
    assert!(like.contains("Step, 2 that wait") && like.matches("data-one").count() == 2, "{like}");

    // One of the two begins anew: its port has two placements from then on.
    let mend = link(jump, "/review/causes/");
    assert_eq!(demo.post(&mend, &[("why", "put in that morning")]).await.status(), 303);
    let mark = "/stations/1/review/mark";
    let form = demo.page(mark).await;
    let channel = channel(&form, "30\u{a0}cm, water content, m³/m³, port m30");
    let span = [("start", "2024-03-01 06:00"), ("end", "2024-03-02 06:00")];
    let what = [("channel", channel.as_str()), ("test", "noise"), ("grade", "doubtful"), ("reason", "a beetle")];
    let typed: Vec<(&str, &str)> = span.into_iter().chain(what).collect();
    assert_eq!(demo.post(mark, &typed).await.status(), 303);
    let decided = demo.page("/stations/1/review/decided").await;
    assert_eq!(decided.matches("seen by hand, doubtful").count(), 2, "one in each placement: {decided}");
    let package = demo.get("/stations/1/export/package.zip?from=2024-03-01&to=2024-03-04").await.bytes().await.unwrap();
    let package = ebrel_formats::package::read_zip(&package, "two.zip").unwrap();
    let seen: Vec<_> = package.flags.iter().filter(|f| f.evidence.contains("\"seen\"")).collect();
    assert_eq!(seen.len(), 2);
    assert_ne!(seen[0].channel, seen[1].channel, "each at the channel of its placement");
    let marks: Vec<u32> = package.verdicts.iter().filter(|v| v.mark == "doubtful").filter_map(|v| v.readings).collect();
    assert_eq!(marks.iter().sum::<u32>(), 97, "no reading is counted twice: {marks:?}");
}
