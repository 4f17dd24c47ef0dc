//! A cause with its mend, verdicts on many, what convinces, and what was decided: the pages of Review beyond the list.

use super::client::Visitor;
use super::roles::member;
use ebrel_core::roles::Role;
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_formats::package::{ChannelRow, Package, ReadingRow, StationRow, write_zip};
use ebrel_simulator::years::{Climate, Ground, Kind, Severity, YearPlan, year};
use std::io::Cursor;

/// A package of a made-up season with faults.
fn season(faults: Vec<(Kind, Severity)>) -> Vec<u8> {
    // A drift takes a quarter of a year.
    let days = if faults.iter().any(|f| f.0 == Kind::ClockDrift) { 250 } else { 100 };
    let plan = YearPlan { seed: 33, climate: Climate::Mild, ground: Ground::SiltLoam, gauge: true, days, faults };
    let made = year(&plan);
    let channels = made.channels.iter().map(|c| {
        let row = ChannelRow {
            channel: format!("{}.{}", c.port, c.quantity.code()),
            station: "tub".into(),
            node: "node θ".into(),
            port: c.port.clone(),
            quantity: c.quantity.code().into(),
            unit: if c.quantity == Quantity::WaterContent { "m3/m3" } else { c.quantity.unit() }.into(),
            depth_cm: c.depth_cm,
            serial: format!("S-{}", c.port),
            start: Some(UnixSeconds(made.start)),
            interval_s: Some(900),
            ..ChannelRow::default()
        };
        let readings = c.times.iter().zip(&c.values).map(|(t, v)| ReadingRow::plain(UnixSeconds(*t), *v));
        (row, readings.collect())
    });
    let stations = vec![StationRow {
        station: "tub".into(),
        name: "Tub “7”".into(),
        latitude: Some(46.9),
        longitude: Some(-3.2),
        ..StationRow::default()
    }];
    let package: Package = Package { stations, channels: channels.collect(), ..Package::default() };
    let mut zip = Cursor::new(Vec::new());
    write_zip(package, &mut zip).unwrap();
    zip.into_inner()
}

/// Brings a season into the first study and returns the path of its station.
pub async fn station(owner: &Visitor, faults: Vec<(Kind, Severity)>) -> String {
    let answer = owner.upload_to("/studies/1/packages/new", "tub.zip", &season(faults)).await;
    let path = answer.headers()["location"].to_str().unwrap().to_owned();
    assert_eq!(owner.post(&path, &[("code.tub", "tub")]).await.status(), 303);
    let page = owner.page("/studies/1").await;
    let number = page.split("<b>Tub “7”").next().unwrap().rsplit("/stations/").next().unwrap();
    let station = format!("/stations/{}", number.split(['"', '/']).next().unwrap());
    // A new station keeps the flags that came with it, here none, until its tests run.
    assert_eq!(owner.post(&format!("{station}/review/run"), &[]).await.status(), 303);
    station
}

/// The first address in a page that holds some text, up to its end.
pub fn link(page: &str, part: &str) -> String {
    let at = page.find(part).unwrap_or_else(|| panic!("no {part} in {page}"));
    let from = page[..at].rfind('"').unwrap() + 1;
    page[from..].split('"').next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn exchanged_ports_are_seen_before_and_after_mended_with_a_reason_and_taken_back() {
    let owner = Visitor::owner().await;
    let station = station(&owner, vec![(Kind::Exchange, Severity::Blatant)]).await;
    let review = owner.page(&format!("{station}/review")).await;
    assert!(
        review.contains("<b>Ports exchanged</b>") && review.contains("No visit is noted at either end."),
        "{review}"
    );
    let mend = link(&review, "/review/causes/");
    let page = owner.page(&mend).await;
    assert!(
        page.contains("As it is noted")
            && page.contains("As it would be")
            && page.matches("class=\"trace\"").count() == 4
    );
    assert!(page.contains("findings would go") && page.contains("hours left out now"), "{page}");

    let guest = member(&owner, "T. Quill", Role::Guest).await;
    assert!(!guest.page(&mend).await.contains("Mend it"));
    assert_eq!(guest.post(&mend, &[("why", "labels")]).await.status(), 403);
    let refused = owner.post(&mend, &[("why", "  ")]).await.text().await.unwrap();
    assert!(refused.contains("Say why"), "{refused}");
    let long = "θ".repeat(5000);
    let refused = owner.post(&mend, &[("why", long.as_str())]).await;
    assert_eq!(refused.status(), 422);

    // From two tabs one mends, and the other is told.
    let (one, other) = (owner.another_tab(), owner.another_tab());
    let form = [("why", "labels, “θ”")];
    let answers = tokio::join!(one.post(&mend, &form), other.post(&mend, &form));
    let done = [answers.0.status().as_u16(), answers.1.status().as_u16()];
    assert_eq!(done.iter().filter(|s| **s == 303).count(), 1, "one mends, and the other is told: {done:?}");
    let decided = owner.page(&format!("{station}/review/decided")).await;
    assert_eq!(decided.matches("<b>mended</b>").count(), 1, "once: {decided}");
    assert!(decided.contains("labels, “θ”"));
    assert!(!owner.page(&format!("{station}/review")).await.contains("Ports exchanged</b>"));
    let table = owner.get(&format!("{station}/review/decided.csv")).await.text().await.unwrap();
    assert!(
        table.starts_with("time,by,decision,place,finding,why,overruled,taken_back\n") && table.contains(",mended,"),
        "{table}"
    );

    let undo = link(&decided, "/undo");
    assert_eq!(guest.post(&undo, &[]).await.status(), 403);
    assert_eq!(owner.post(&undo, &[]).await.status(), 303);
    assert!(owner.page(&format!("{station}/review")).await.contains("<b>Ports exchanged</b>"), "it waits again");
    assert_eq!(owner.post(&undo, &[]).await.status(), 303);
    assert!(
        owner.page(&format!("{station}/review/decided")).await.contains("It was not taken back"),
        "a second time is told"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_drifts_is_mended_with_its_checks_shown_and_taken_back() {
    let owner = Visitor::owner().await;
    let station = station(&owner, vec![(Kind::ClockDrift, Severity::Blatant)]).await;
    let review = owner.page(&format!("{station}/review")).await;
    let at = review.find("<b>Clock wrong</b>").unwrap_or_else(|| panic!("no clock in {review}"));
    let mend = link(&review[at..], "/review/causes/");
    let page = owner.page(&mend).await;
    assert!(page.contains("Take the grid of its program for the truth, and move the times of node θ back onto it."));
    assert!(page.contains("<td>right</td>") && page.contains("16 min ahead</td>"), "960 s in 120 days: {page}");
    assert!(page.contains("Nobody held this clock against another"), "what is assumed is said");
    assert!(!page.contains("placement now"), "no placement would change");
    assert_eq!(owner.post(&mend, &[("why", "its log says so")]).await.status(), 303);
    let decided = owner.page(&format!("{station}/review/decided")).await;
    assert!(decided.contains("node θ") && decided.contains("Clock wrong."), "{decided}");
    assert!(!owner.page(&format!("{station}/review")).await.contains("<b>Clock wrong</b>"));
    // A package says by which checks its times were corrected.
    let answer = owner.get(&format!("{station}/export/package.zip?leave_out=none")).await;
    assert_eq!(answer.status(), 200);
    let bytes = answer.bytes().await.unwrap();
    let package = ebrel_formats::package::read_zip(&bytes, "tub.zip").unwrap();
    let off: Vec<i64> = package.clock_checks.iter().map(|c| c.node_time.0 - c.true_time.0).collect();
    assert!(matches!(off[..], [0, s] if (s - 960).abs() <= 10), "{off:?}");
    let notes: Vec<&str> = package.clock_checks.iter().map(|c| c.note.as_str()).collect();
    assert_eq!(notes, ["by its grid", "set, by its grid"], "and that no other clock told them");
    let clocks = owner.page(&format!("{station}/clocks")).await;
    assert!(
        clocks.contains("set right; by its program&#39;s grid") || clocks.contains("set right; by its program's grid")
    );
    assert!(!owner.page("/studies/1/network").await.contains("16 min"), "it is no check that somebody made");
    // Elsewhere the times come with what was assumed of them.
    let answer = owner.upload_to("/packages/new", "tub.zip", &bytes).await;
    let path = answer.headers()["location"].to_str().unwrap().to_owned();
    let page = owner.page(&format!("{path}?code.tub=tub2")).await;
    assert!(page.contains("Nobody held the clock of node θ against another"), "{page}");
    // Merged into where it came from, its checks are known, and stay what they are.
    let answer = owner.upload_to("/studies/1/packages/new", "tub.zip", &bytes).await;
    let path = answer.headers()["location"].to_str().unwrap().to_owned();
    assert_eq!(owner.post(&path, &[("code.tub", "tub")]).await.status(), 303);
    assert_eq!(owner.page(&format!("{station}/clocks")).await.matches("its program").count(), 2);
    assert_eq!(owner.post(&link(&decided, "/undo"), &[]).await.status(), 303);
    assert!(owner.page(&format!("{station}/review")).await.contains("<b>Clock wrong</b>"), "it waits again");
}

#[tokio::test(flavor = "multi_thread")]
async fn findings_of_a_kind_are_listed_and_decided_together_and_each_is_drawn() {
    let owner = Visitor::owner().await;
    let faults =
        vec![(Kind::Step, Severity::Blatant), (Kind::Step, Severity::Clear), (Kind::TwinDrifts, Severity::Blatant)];
    let station = station(&owner, faults).await;
    let review = owner.page(&format!("{station}/review")).await;
    let like = link(&review, "/review/like/");
    let page = owner.page(&format!("{like}?everywhere=true")).await;
    let n = page.matches("data-one").count();
    assert!(n >= 2, "{page}");
    let nothing =
        owner.post(&like, &[("flags", ""), ("verdict", "kept"), ("everywhere", "true"), ("reason", "θ")]).await;
    let nothing = nothing.text().await.unwrap();
    assert!(nothing.contains("Nothing was ticked") && nothing.contains("value=\"θ\""), "{nothing}");
    let flags = page.split("name=\"flags\" value=\"").nth(1).unwrap().split('"').next().unwrap().trim();
    let form = [("flags", flags), ("verdict", "kept"), ("everywhere", "true"), ("reason", "the logger was moved")];
    assert_eq!(owner.post(&like, &form).await.status(), 303);
    let decided = owner.page(&format!("{station}/review/decided")).await;
    assert_eq!(decided.matches("the logger was moved").count(), n, "{decided}");
    let stale = owner.post(&like, &[("flags", "999999"), ("verdict", "kept"), ("everywhere", "false")]).await;
    assert_eq!(stale.status(), 422, "what is not there any more is said, and nothing is decided");

    let everything = owner.page(&format!("{station}/review?state=condition")).await;
    for page in [&review, &everything] {
        let mut seen = 0;
        for part in page.split("/review/flags/").skip(1).take(8) {
            let number = part.split('"').next().unwrap();
            let drawn = owner.page(&format!("{station}/review/flags/{number}")).await;
            assert!(drawn.contains("class=\"trace\"") && !drawn.contains("NaN"), "{drawn}");
            seen += 1;
        }
        assert!(seen > 0);
    }
    assert_eq!(owner.get(&format!("{station}/review/flags/999999")).await.status(), 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_depth_is_mended_at_the_depth_that_somebody_knows() {
    let owner = Visitor::owner().await;
    let station = station(&owner, vec![(Kind::WrongDepth, Severity::Blatant)]).await;
    let review = owner.page(&format!("{station}/review")).await;
    assert!(review.contains("<b>Wrong depth</b>") && review.contains("another cable"), "{review}");
    let mut by_depth = 0;
    for part in review.split("/review/flags/").skip(1) {
        let number = part.split(['"', '#']).next().unwrap();
        let drawn = owner.page(&format!("{station}/review/flags/{number}")).await;
        by_depth += usize::from(drawn.contains("Size of the daily wave by depth"));
        assert!(!drawn.contains("Size of the daily wave") || drawn.contains("circle class=\"point own\""), "{drawn}");
    }
    assert!(by_depth > 0, "{review}");
    let mend = link(&review, "/review/causes/");
    let page = owner.page(&mend).await;
    assert!(page.contains("Depth, if you know it better than the wave of heat tells"), "{page}");
    for slip in ["soon", "-900", "θ"] {
        let form = [("depth", slip), ("why", "labels “θ”")];
        let refused = owner.post(&mend, &form).await.text().await.unwrap();
        assert!(refused.contains("is-invalid") && refused.contains("labels “θ”"), "{slip}: {refused}");
    }
    let looked = owner.post(&mend, &[("depth", "33"), ("why", ""), ("look", "yes")]).await.text().await.unwrap();
    assert!(looked.contains("Note 33\u{a0}cm as the depth") && looked.contains("value=\"33\""), "{looked}");
    assert!(!owner.page(&format!("{station}/review/decided")).await.contains("mended"), "looking is not mending");
    assert_eq!(owner.post(&mend, &[("depth", "33"), ("why", "by the notebook")]).await.status(), 303);
    let decided = owner.page(&format!("{station}/review/decided")).await;
    assert!(decided.contains("Note 33\u{a0}cm") && decided.contains("by the notebook"), "{decided}");
    assert!(owner.page(&format!("{station}/placements")).await.contains("33"));
}

#[tokio::test(flavor = "multi_thread")]
async fn each_kind_of_finding_has_its_drawing_and_its_numbers() {
    let owner = Visitor::owner().await;
    let kinds = [Kind::Wiggle, Kind::Sunlit, Kind::RisesDry, Kind::Bypass, Kind::LowPower, Kind::WetBox, Kind::Burst];
    let station = station(&owner, kinds.map(|k| (k, Severity::Blatant)).to_vec()).await;
    let mut drawn: Vec<String> = Vec::new();
    for state in ["waiting", "condition"] {
        let page = owner.page(&format!("{station}/review?state={state}")).await;
        for part in page.split("/review/flags/").skip(1) {
            let number = part.split('"').next().unwrap();
            let seen = owner.page(&format!("{station}/review/flags/{number}")).await;
            let title = seen.split("<h1>").nth(1).unwrap().split(" at ").next().unwrap().to_owned();
            if drawn.contains(&title) {
                continue;
            }
            assert!(
                seen.contains("class=\"trace\"") && seen.contains("<path class=\"line d0\" d=\"M"),
                "{title}: {seen}"
            );
            assert!(!seen.contains("NaN") && !seen.contains("inf\u{a0}"), "{title}");
            let cloud = match title.as_str() {
                "Daily wiggle" => "Hour by hour: water content follows warmth",
                "Sunlit air" => "Warmer the higher the sun stands",
                _ => "",
            };
            let points = seen.matches("<circle class=\"point").count();
            assert!(seen.contains(cloud) && (cloud.is_empty() || points > 100), "{title}: {points} points");
            drawn.push(title);
        }
    }
    for wanted in ["Daily wiggle", "Sunlit air", "Low power", "Wet box"] {
        assert!(drawn.iter().any(|t| t == wanted), "{wanted} among {drawn:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bare_station_says_what_is_not_judged_there() {
    let owner = Visitor::owner().await;
    let station = station(&owner, Vec::new()).await;
    let page = owner.page(&format!("{station}/review")).await;
    assert!(!page.contains("No rain gauge here"), "it has one: {page}");
    let bare = owner.upload_to("/studies/1/packages/new", "reed.zip", &super::packages::package("reed", 96)).await;
    let path = bare.headers()["location"].to_str().unwrap().to_owned();
    assert_eq!(owner.post(&path, &[("code.reed", "reed")]).await.status(), 303);
    let page = owner.page("/studies/1").await;
    let number = page.split("<b>Reed “bed”").next().unwrap().rsplit("/stations/").next().unwrap();
    let review = owner.page(&format!("/stations/{}/review", number.split(['"', '/']).next().unwrap())).await;
    for why in ["Not judged here", "Moisture at one depth only", "No soil thermometer", "shorter than three weeks"] {
        assert!(review.contains(why), "{why}: {review}");
    }
}
