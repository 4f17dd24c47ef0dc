//! Practice: an exercise begun, marked, hinted at and ended; each person's own.

use super::client::Visitor;
use super::roles::member;
use ebrel_app::training::{Made, NAMED, stream_of};
use ebrel_core::roles::Role;
use ebrel_core::units::UnixSeconds;
use ebrel_simulator::years::{Exercise, Level};

const EXERCISE: Exercise = Exercise { seed: 11, level: Level::Middling, kind: None };

async fn begun(who: &Visitor) -> String {
    let answer = who.post("/training", &[("level", "middling"), ("kind", ""), ("seed", "11")]).await;
    assert_eq!(answer.status(), 303);
    answer.headers()["location"].to_str().unwrap().to_owned()
}

/// A time as the form takes it.
fn typed(t: i64) -> String {
    ebrel_formats::rfc3339(UnixSeconds(t)).chars().take(16).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn who_marks_every_fault_rightly_gets_all_points_and_sees_the_truth() {
    let owner = Visitor::owner().await;
    let round = begun(&owner).await;
    let made = Made::of(&EXERCISE);
    let page = owner.page(&round).await;
    assert!(page.contains(&format!("{} faults are hidden here; 0 marks, 0 hints.", made.truth.len())), "{page}");
    assert!(made.truth.iter().all(|t| !page.contains(&t.words)), "nothing tells the truth yet");
    let refused = owner.post(&format!("{round}/marks"), &[("channel", "1"), ("start", "soon"), ("end", "later")]).await;
    let refused = refused.text().await.unwrap();
    assert!(refused.contains("is no date and time") && refused.contains("value=\"soon\""), "{refused}");
    let (from, to) = made.record.extent().unwrap();
    let window = format!("{round}/window.json?from={}&to={}&columns=300&show=both", from.0, to.0);
    for truth in &made.truth {
        let (channel, start, end) = truth.windows[0];
        let (channel, start, end) = (stream_of(channel).to_string(), typed(start), typed(end));
        let form = [
            ("channel", channel.as_str()),
            ("start", &start),
            ("end", &end),
            ("test", truth.kind.tests()[0].code()),
            ("from", "5"),
            ("to", "9"),
            ("show", "both"),
        ];
        for _ in 0..2 {
            let done = owner.post(&format!("{round}/marks"), &form).await;
            assert_eq!(done.status(), 303, "{}", truth.words);
            assert_eq!(done.headers()["location"].to_str().unwrap(), format!("{round}?from=5&to=9&show=both"));
        }
    }
    let page = owner.page(&round).await;
    assert!(page.contains(&format!("{} marks, 0 hints", made.truth.len())), "twice is once: {page}");
    let flags: serde_json::Value = owner.get(&window).await.json().await.unwrap();
    assert!(!flags["flags"].as_array().unwrap().is_empty(), "what was marked is drawn");
    assert_eq!(owner.post(&format!("{round}/hint"), &[]).await.status(), 303);
    assert!(owner.page(&round).await.contains("no hint was taken"));

    assert_eq!(owner.post(&format!("{round}/end"), &[]).await.status(), 303);
    let page = owner.page(&round).await;
    let most = NAMED * made.truth.len() as i64;
    assert!(page.contains(&format!("{most} of {most} points")), "{page}");
    assert!(made.truth.iter().all(|t| page.contains(&t.words)));
    assert_eq!(page.matches("<b>found and named</b>").count(), made.truth.len());
    for deed in ["end", "marks/1/remove"] {
        assert_eq!(owner.post(&format!("{round}/{deed}"), &[]).await.status(), 422, "{deed}: it has ended");
    }
    let form = [("channel", "1"), ("start", "2016-07-01 00:00"), ("end", "2016-07-02 00:00"), ("test", "spike")];
    let late = owner.post(&format!("{round}/marks"), &form).await.text().await.unwrap();
    assert!(late.contains(&format!("{most} of {most} points")), "nothing was added: {late}");
    let list = owner.page("/training").await;
    assert!(list.contains("What you find, and what you miss") && list.contains(&format!("{most} of {most}")), "{list}");
}

#[tokio::test(flavor = "multi_thread")]
async fn hints_cost_and_end_and_a_class_has_one_exercise_but_each_their_own_round() {
    let owner = Visitor::owner().await;
    let round = begun(&owner).await;
    let quill = member(&owner, "T. Quill", Role::Guest).await;
    assert_eq!(quill.get(&round).await.status(), 404, "somebody else's round");
    assert_eq!(quill.post(&format!("{round}/end"), &[]).await.status(), 404);
    let other = begun(&quill).await;
    assert_ne!(round, other);
    let strips = |page: &str| page.split("<svg").nth(1).unwrap().split("</svg>").next().unwrap().to_owned();
    assert_eq!(strips(&owner.page(&round).await), strips(&quill.page(&other).await), "the same ground");
    let faults = Made::of(&EXERCISE).truth.len();
    for _ in 0..faults + 2 {
        quill.post(&format!("{other}/hint"), &[]).await;
    }
    let page = quill.page(&other).await;
    assert!(page.contains(&format!("0 marks, {faults} hints")), "{page}");
    assert_eq!(page.matches("Something is wrong with").count(), faults);
    quill.post(&format!("{other}/end"), &[]).await;
    let page = quill.page(&other).await;
    assert!(page.contains(&format!("−{} of", 3 * faults)), "{page}");
    assert!(!quill.page("/training").await.contains(&round));

    for (level, kind, seed, says) in [
        ("easy", "", "1000000", "is no number of an exercise"),
        ("easy", "", "θ “x”", "is no number of an exercise"),
        ("θ", "", "1", "Choose how hard"),
        ("easy", "late", "1", "is not practised here"),
    ] {
        let refused = owner.post("/training", &[("level", level), ("kind", kind), ("seed", seed)]).await;
        assert!(refused.text().await.unwrap().contains(says), "{says}");
    }
    let linked = owner.page("/training?level=hard&kind=ports+exchanged&seed=42").await;
    assert!(linked.contains("value=\"42\"") && linked.contains("\"ports exchanged\" selected"), "{linked}");
}

#[tokio::test(flavor = "multi_thread")]
async fn sixteen_begin_at_once() {
    let owner = Visitor::owner().await;
    let one = async || {
        let tab = owner.another_tab();
        let round = begun(&tab).await;
        let page = tab.page(&round).await;
        (round, page.contains("faults are hidden here"))
    };
    let all = futures_util::future::join_all((0..16).map(|_| one())).await;
    let rounds: std::collections::BTreeSet<&String> = all.iter().map(|a| &a.0).collect();
    assert_eq!((rounds.len(), all.iter().filter(|a| a.1).count()), (16, 16));
}
