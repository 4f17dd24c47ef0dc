//! Entries from phones: kept once, refused with a reason, carried as a file; and what comes of them.

use super::client::Visitor;
use reqwest::multipart;
use serde_json::{Value, json};

/// The demo's present, and a moment before it.
const NOW: i64 = 1_788_242_400;

fn entry(n: u32, at: i64, station: &str, deed: Value) -> Value {
    json!({"id": format!("0197aaaa-0000-7000-8000-{n:012}"), "log": "0197aaaa-1111-7000-8000-000000000001",
           "station": station, "at": at, "by": "TQ", "deed": deed})
}

async fn send(v: &Visitor, station: i64, entries: &[Value]) -> Vec<Value> {
    let answer = v.post_json(&format!("/stations/{station}/field/entries"), &json!({"entries": entries})).await;
    assert_eq!(answer.status(), 200);
    answer.json().await.unwrap()
}

fn told(answers: &[Value], n: u32) -> (bool, String) {
    let id = format!("0197aaaa-0000-7000-8000-{n:012}");
    let answer = answers.iter().find(|a| a["id"] == id.as_str()).unwrap();
    (answer["kept"].as_bool().unwrap(), answer["says"].as_str().unwrap().to_owned())
}

fn probe(serial: &str, depth: f64, port: &str) -> Value {
    json!({"kind": "probe", "serial": serial, "depth_cm": depth, "port": port, "orientation": "level"})
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_entry_stops_none_of_the_others_and_each_refusal_says_why() {
    let v = Visitor::of_demo().await;
    let at = NOW - 3600;
    let log = [
        entry(1, at, "ride", json!({"kind": "begun", "of": "installation"})),
        entry(2, at + 60, "ride", probe("BD-0433", 28.0, "A3")),
        entry(3, at + 120, "ride", probe("BD-0417", 25.0, "A3")),
        entry(4, at + 180, "ride", probe("XX-1", 10.0, "A1")),
        entry(5, at + 240, "ride", probe("BD-0431", 300.0, "A1")),
        entry(6, NOW + 86_400, "ride", json!({"kind": "note", "text": "tomorrow"})),
        entry(7, at, "cut", json!({"kind": "note", "text": "elsewhere"})),
        entry(
            8,
            at + 300,
            "ride",
            json!({"kind": "reading", "serial": "BD-0433", "repeats": [-12.0], "said": "below"}),
        ),
        entry(
            9,
            at + 360,
            "ride",
            json!({"kind": "clock", "node": "node 01", "shown": at + 31_536_000, "truth": at, "set": false}),
        ),
        json!({"id": "0197aaaa-0000-7000-8000-000000000010", "deed": {"kind": "from another version"}}),
        json!("not even an entry"),
        entry(12, at + 400, "ride", json!({"kind": "step", "step": "lid", "outcome": "skipped", "note": ""})),
    ];
    let answers = send(&v, 3, &log).await;
    assert_eq!(answers.len(), log.len(), "each entry has its answer");
    assert_eq!(answers.iter().filter(|a| a["kept"] == true).count(), 3);
    for (n, words) in [
        (3, "BD-0433's in this log"),
        (4, "another study"),
        (5, "below the bottom of the hole"),
        (6, "from the future"),
        (7, "send it there"),
        (9, "date and hour"),
        (10, "cannot be read"),
        (12, "why the step is left out"),
    ] {
        let (kept, says) = told(&answers, n);
        assert!(!kept && says.contains(words), "{n}: {says}");
    }
    assert!(told(&answers, 2).0 && told(&answers, 8).0, "a negative reading is a finding");

    // The same again, from two phones at once, and in another order.
    let mut turned = log.to_vec();
    turned.reverse();
    let (one, two) = (v.another_tab(), v.another_tab());
    let (a, b) = tokio::join!(send(&one, 3, &log), send(&two, 3, &turned));
    for answers in [a, b] {
        assert!(told(&answers, 2).0 && told(&answers, 1).0 && !told(&answers, 4).0);
    }
    let page = v.page("/stations/3/placements").await;
    assert_eq!(page.matches("value=\"A3\"").count(), 1, "one placement, however often it is sent");
    assert!(page.contains("value=\"28\""));
    let export: Value =
        v.get("/stations/3/field/logs/0197aaaa-1111-7000-8000-000000000001/entries.json").await.json().await.unwrap();
    assert_eq!(export["entries"].as_array().unwrap().len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_correction_moves_the_placement_and_keeps_what_was_said_first() {
    let v = Visitor::of_demo().await;
    let at = NOW - 3600;
    let first = entry(1, at, "ride", json!({"kind": "begun", "of": "installation"}));
    let wrong = entry(2, at + 60, "ride", probe("BD-0432", 15.0, "A2"));
    let mut right = entry(3, at + 600, "ride", probe("BD-0432", 18.5, "A2"));
    right["corrects"] = wrong["id"].clone();
    // The correction arrives first: another phone had a line earlier.
    send(&v, 3, &[first, right]).await;
    send(&v, 3, &[wrong]).await;
    let page = v.page("/stations/3/placements").await;
    assert!(page.contains("value=\"18.5\"") && page.matches("value=\"A2\"").count() == 1, "{page}");
    let log = v.page("/stations/3/field/logs/0197aaaa-1111-7000-8000-000000000001").await;
    assert!(log.contains("Corrected since (1)") && log.contains("BD-0432 at 15 cm"));
    let room = v.page("/studies/1/field").await;
    assert!(room.contains("Installation goes on since") && room.contains("first good wetting, or 14 days"), "{room}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_check_moves_the_record_s_times_and_the_raw_ones_stay() {
    let v = Visitor::of_demo().await;
    let table = "/stations/1/export/wide.csv?from=2026-08-30&to=2026-08-31&leave_out=none";
    let before = v.page(table).await;
    assert!(before.contains("2026-08-30 12:00"), "{}", &before[..400]);
    let truth = NOW - 7200;
    let check = entry(
        1,
        NOW - 7000,
        "cut",
        json!({"kind": "clock", "node": "node 01", "shown": truth + 600, "truth": truth, "set": false}),
    );
    let answers = send(&v, 1, std::slice::from_ref(&check)).await;
    assert!(told(&answers, 1).0, "{answers:?}");
    let after = v.page(table).await;
    assert!(!after.contains("2026-08-30 12:00") && after.contains("2026-08-30 12:05"), "{}", &after[..600]);
    let answer = v.get("/stations/1/export/package.zip?from=2026-08-01&to=2026-09-01&leave_out=none").await;
    let package = ebrel_formats::package::read_zip(&answer.bytes().await.unwrap(), "p.zip").unwrap();
    let off: Vec<i64> = package.clock_checks.iter().map(|c| c.node_time.0 - c.true_time.0).collect();
    assert_eq!(off, [0, 0, 600], "the visits found it right, until now");
    // A later correction of the check says that it was right: every time is as it came.
    let mut right = entry(
        2,
        NOW - 6000,
        "cut",
        json!({"kind": "clock", "node": "node 01", "shown": truth, "truth": truth, "set": false}),
    );
    right["corrects"] = check["id"].clone();
    send(&v, 1, &[right]).await;
    assert_eq!(v.page(table).await, before);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_taken_out_ends_and_its_port_is_free() {
    let v = Visitor::of_demo().await;
    let at = NOW - 3600;
    let answers = send(
        &v,
        1,
        &[
            entry(1, at, "cut", json!({"kind": "begun", "of": "removal"})),
            entry(
                2,
                at + 60,
                "cut",
                json!({"kind": "removed", "serial": "BD-0422", "condition": "prong bent", "lost": false}),
            ),
            entry(3, at + 90, "cut", json!({"kind": "removed", "serial": "DT-0211", "condition": "", "lost": true})),
            entry(4, at + 120, "cut", probe("BD-0433", 60.0, "m60")),
        ],
    )
    .await;
    // BD-0433 is of another station's plan, and in no register yet.
    assert!(told(&answers, 4).1.contains("another study"), "{answers:?}");
    assert!(told(&answers, 2).0 && told(&answers, 3).0);
    let again = send(&v, 1, &[entry(5, at + 200, "cut", probe("BD-0418", 60.0, "m60"))]).await;
    assert!(told(&again, 5).0, "the port is free: {again:?}");
    let page = v.page("/probes/BD-0422").await;
    assert!(!page.contains("it lies at Cut coupe"), "it lies there no more");
    let lost = v.page("/probes/DT-0211").await;
    assert!(
        lost.contains("last place: Cut coupe, 60\u{a0}cm, port t60"),
        "what was not found keeps its last place: {lost}"
    );
    let bench = v.page("/studies/1/bench").await;
    assert!(bench.contains("Back from the field (1)") && bench.contains("Lost (1)"), "{bench}");
}

async fn carry(v: &Visitor, name: &str, bytes: &[u8]) -> String {
    let file = multipart::Part::bytes(bytes.to_vec()).file_name(name.to_owned());
    let form = multipart::Form::new().text("token", v.token().await).part("file", file);
    let sent = v.client.post(format!("{}/stations/3/field/carried", v.base)).multipart(form).send().await.unwrap();
    sent.text().await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_carried_file_is_read_in_twice_and_a_damaged_one_is_told() {
    let v = Visitor::of_demo().await;
    let at = NOW - 3600;
    let entries = [
        entry(1, at, "ride", json!({"kind": "begun", "of": "visit"})),
        entry(2, at, "ride", json!({"kind": "closed"})),
    ];
    let file = json!({"format": "ebrel-field-entries", "version": 1, "entries": entries}).to_string();
    for _ in 0..2 {
        assert!(carry(&v, "e.json", file.as_bytes()).await.contains("2 of 2 entries are kept here"));
    }
    let cut = carry(&v, "e.json", &file.as_bytes()[..file.len() / 2]).await;
    assert!(cut.contains("breaks off") && cut.contains("still on the phone"), "{cut}");
    assert!(carry(&v, "x.json", b"{}").await.contains("no file of field entries"));
    assert!(carry(&v, "x.bin", &[0xff, 0xfe, 0x00]).await.contains("no text"));
    let start =
        v.post("/stations/3/field/official", &[("at", "next week"), ("why", "wetted")]).await.text().await.unwrap();
    assert!(start.contains("write it like 2026-05-01"));
    let start =
        v.post("/stations/3/field/official", &[("at", "2026-08-20 06:00"), ("why", "")]).await.text().await.unwrap();
    assert!(start.contains("Say why"));
    let start =
        v.post("/stations/3/field/official", &[("at", "2026-08-20 06:00"), ("why", "first good wetting")]).await;
    assert_eq!(start.headers()["location"], "/studies/1/field");
    assert!(v.page("/studies/1/field").await.contains("20 Aug 2026 06:00"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_finished_round_is_a_record_and_an_unfinished_one_is_not_yet() {
    let v = Visitor::of_demo().await;
    let at = NOW - 3600;
    let spot = |n: u32, serial: &str, value: Value, why: &str| {
        entry(
            n,
            at + 60 * i64::from(n),
            "cut",
            json!({"kind": "spot", "point": serial, "value": value, "not_reached": why}),
        )
    };
    let begun = entry(1, at, "cut", json!({"kind": "begun", "of": "round"}));
    let log = [
        begun,
        spot(2, "BD-0417", json!(1021.5), ""),
        spot(3, "DT-0208", json!(16.4), ""),
        spot(4, "BD-0418", json!(null), "flooded"),
    ];
    assert!(send(&v, 1, &log).await.iter().all(|a| a["kept"] == true));
    let table = "/stations/1/export/wide.csv?from=2026-09-01&to=2026-09-02&leave_out=none";
    assert!(!v.page(table).await.contains("handheld"), "not before it is finished");
    for _ in 0..2 {
        send(&v, 1, &[entry(5, at + 600, "cut", json!({"kind": "closed"}))]).await;
    }
    let answer = v.get("/stations/1/export/package.zip?from=2026-09-01&to=2026-09-02&leave_out=none").await;
    let package = ebrel_formats::package::read_zip(&answer.bytes().await.unwrap(), "p.zip").unwrap();
    let by_hand: Vec<_> = package.channels.iter().filter(|(c, r)| c.node == "handheld" && !r.is_empty()).collect();
    let told: Vec<_> = by_hand
        .iter()
        .map(|(c, r)| (c.serial.as_str(), r.len(), r.get(0).map_or(f64::NAN, |r| r.raw.unwrap_or(r.value))))
        .collect();
    assert_eq!(told, [("BD-0417", 1, 1021.5), ("DT-0208", 1, 16.4)]);
    let pack: Value = v.get("/stations/1/field/pack.json").await.json().await.unwrap();
    let drawing = pack["drawing"].as_str().unwrap();
    assert!(
        drawing.starts_with("<svg xmlns=") && drawing.contains("BD-0422") && !drawing.contains("var(--"),
        "it stands for itself"
    );
    let last = |i: usize| pack["installed"][i]["last"].as_str().unwrap();
    assert!(last(0).ends_with(", 1 Sep 2026 00:00") && last(0).contains("m³/m³"), "{}", last(0));
    let serials: Vec<_> = pack["installed"].as_array().unwrap().iter().map(|p| p["label"].as_str().unwrap()).collect();
    assert_eq!(serials.iter().filter(|s| **s == "BD-0417").count(), 1, "it lies in one place");
    let missing = send(&v, 1, &[spot(6, "BD-0421", json!(null), " ")]).await;
    assert!(told_why(&missing).contains("Say why BD-0421 was not reached"));
}

fn told_why(answers: &[Value]) -> String {
    answers[0]["says"].as_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_shows_what_was_built_beside_what_was_planned() {
    let v = Visitor::of_demo().await;
    let at = NOW - 3600;
    let mut stone = probe("BD-0432", 15.0, "A2");
    stone["given_up"] = true.into();
    send(
        &v,
        3,
        &[
            entry(1, at, "ride", json!({"kind": "begun", "of": "installation"})),
            entry(2, at + 60, "ride", probe("BD-0433", 30.0, "A3")),
            entry(3, at + 90, "ride", stone),
            entry(4, at + 120, "ride", probe("BD-0432", 18.0, "A2")),
            entry(5, at + 150, "ride", probe("BD-0431", 5.0, "A4")),
        ],
    )
    .await;
    let page = v.page("/stations/3/field/logs/0197aaaa-1111-7000-8000-000000000001").await;
    assert!(page.contains("As planned, as built") && page.contains("Stone or root at 15 cm."), "{page}");
    let off = |depth: &str| page.contains(&format!("<span class=\"warn fw-bold\">{depth}\u{a0}cm</span>"));
    assert!(off("18") && !off("30"), "{page}");
    assert!(page.contains("GM-0051") && page.contains("(planned)"), "what is not in yet stands there too");
    assert_eq!(page.matches("planned A1").count(), 1, "another port of the logger is told: {page}");
    let cut = v.page("/stations/1/field/logs/01970000-0000-7000-8000-000000000001").await;
    assert!(cut.contains("m60") && !cut.contains("planned A"), "a record's own name of a port is none of the logger's");
    let site: Value = v.get("/studies/1/field/site.geojson").await.json().await.unwrap();
    assert!(site["features"].as_array().unwrap().iter().any(|f| f["properties"]["code"] == "cut"));
}

#[tokio::test(flavor = "multi_thread")]
async fn repairs_are_events_cores_go_to_the_bench_and_the_calendar_says_what_is_due() {
    let v = Visitor::of_demo().await;
    let at = NOW - 3600;
    let log = [
        entry(1, at, "cut", json!({"kind": "begun", "of": "visit"})),
        entry(2, at + 60, "cut", json!({"kind": "repair", "of": "program", "note": "records every 10 min"})),
        entry(3, at + 90, "cut", json!({"kind": "repair", "of": "other", "note": " "})),
        entry(4, at + 120, "cut", json!({"kind": "core", "tin": "K7", "depth_cm": 15.0, "volume_cm3": 98.5})),
        entry(
            5,
            at + 180,
            "cut",
            json!({"kind": "reading", "serial": "BD-0417", "repeats": [500.0], "said": "0.250 m³/m³, fine. Go on."}),
        ),
    ];
    let answers = send(&v, 1, &log).await;
    assert!(!told(&answers, 3).0 && told(&answers, 3).1.contains("Say what was changed"));
    let (kept, says) = told(&answers, 5);
    assert!(kept && says.starts_with("Judged again here:") && says.contains("air beside the prongs"), "{says}");
    let answer = v.get("/stations/1/export/package.zip?from=2026-09-01&to=2026-09-02&leave_out=none").await;
    let package = ebrel_formats::package::read_zip(&answer.bytes().await.unwrap(), "p.zip").unwrap();
    let kinds: Vec<_> = package.events.iter().map(|e| (e.kind.as_str(), e.note.as_str())).collect();
    assert!(kinds.contains(&("program_change", "program version: records every 10 min")), "{kinds:?}");

    let form = [("probe", ""), ("station", "1"), ("log", "0197aaaa-1111-7000-8000-000000000001")];
    let begun = v.post("/studies/1/bench", &form).await;
    let run = v.page(begun.headers()["location"].to_str().unwrap()).await;
    assert!(
        run.contains("value=\"K7\"")
            && run.contains("value=\"98.5\"")
            && run.contains("<option value=\"cores\" selected>")
    );
    let calendar = v.page("/studies/1/field/due.ics").await;
    assert!(calendar.contains("SUMMARY:Visit Cut coupe") && calendar.contains("has settled"), "{calendar}");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_phones_at_one_hole_and_sixteen_sendings_at_once_keep_each_entry_once() {
    let v = Visitor::of_demo().await;
    let at = NOW - 3600;
    let by = |n: u32, who: &str| {
        let mut e = entry(n, at + i64::from(n), "ride", json!({"kind": "note", "text": format!("{who} {n} θ")}));
        e["by"] = who.into();
        e
    };
    let begun = entry(900, at - 5, "ride", json!({"kind": "begun", "of": "installation"}));
    let begun = [begun, entry(901, at - 4, "ride", probe("BD-0432", 15.0, "A2"))];
    let first: Vec<Value> = begun.iter().cloned().chain((0..40).map(|n| by(n, "NA"))).collect();
    let second: Vec<Value> =
        begun.into_iter().chain((20..60).map(|n| by(n, if n < 40 { "NA" } else { "TQ" }))).collect();
    v.page("/studies/1/field").await;
    let mut sendings = tokio::task::JoinSet::new();
    for phone in 0..16 {
        let (v, log) = (v.another_tab(), if phone % 2 == 0 { first.clone() } else { second.clone() });
        sendings.spawn(async move { send(&v, 3, &log).await });
    }
    while let Some(answers) = sendings.join_next().await {
        let answers = answers.unwrap();
        assert_eq!(answers.len(), 42);
        let fine = |a: &Value| a["kept"] == true && ["", "It was here already."].contains(&a["says"].as_str().unwrap());
        assert!(answers.iter().all(fine), "{answers:?}");
    }
    let kept: Value =
        v.get("/stations/3/field/logs/0197aaaa-1111-7000-8000-000000000001/entries.json").await.json().await.unwrap();
    assert_eq!(
        kept["entries"].as_array().unwrap().len(),
        62,
        "sixty notes, a probe and a beginning, of 672 that were sent"
    );
    let placements = v.page("/stations/3/placements").await;
    assert_eq!(placements.matches("value=\"A2\"").count(), 1, "{placements}");
    let page = v.page("/stations/3/field/logs/0197aaaa-1111-7000-8000-000000000001").await;
    assert!(page.contains("TQ 59 θ") && page.contains("NA 0 θ") && page.contains("NA 20 θ"));
}

#[tokio::test(flavor = "multi_thread")]
async fn another_entry_under_a_number_that_is_taken_is_refused_and_the_first_stands() {
    let v = Visitor::of_demo().await;
    let at = NOW - 600;
    send(&v, 3, &[entry(1, at, "ride", json!({"kind": "note", "text": "the first"}))]).await;
    let answers = send(&v, 3, &[entry(1, at, "ride", json!({"kind": "note", "text": "the second"}))]).await;
    let (kept, says) = told(&answers, 1);
    assert!(!kept || says.contains("here already"), "{says}");
    let log = v.page("/stations/3/field/logs/0197aaaa-1111-7000-8000-000000000001").await;
    assert!(log.contains("the first") && !log.contains("the second"));
    assert!(!kept && says.contains("Another entry has this number already"), "{says}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_depth_of_the_demo_s_own_log_can_be_put_right_years_later() {
    let v = Visitor::of_demo().await;
    let log = "01970000-0000-7000-8000-000000000001";
    let kept: Value = v.get(&format!("/stations/1/field/logs/{log}/entries.json")).await.json().await.unwrap();
    let mut put = kept["entries"].as_array().unwrap().iter();
    let put = put.rfind(|e| e["deed"]["kind"] == "probe" && e["deed"]["serial"] == "BD-0418").unwrap();
    let mut right = put.clone();
    (right["id"], right["corrects"]) = ("0197dddd-0000-7000-8000-000000000001".into(), put["id"].clone());
    (right["at"], right["deed"]["depth_cm"]) = ((NOW - 60).into(), 17.5.into());
    let before = v.page("/stations/1/placements").await.matches("name=\"depth\"").count();
    let answers = send(&v, 1, &[right]).await;
    assert_eq!((answers[0]["kept"].as_bool(), answers[0]["says"].as_str()), (Some(true), Some("")), "{answers:?}");
    let page = v.page("/stations/1/placements").await;
    assert!(page.contains("value=\"17.5\""), "{page}");
    assert_eq!(page.matches("name=\"depth\"").count(), before, "moved, and not put in a second time");
    let built = v.page(&format!("/stations/1/field/logs/{log}")).await;
    assert!(built.contains("<span class=\"warn fw-bold\">17.5\u{a0}cm</span>"), "{built}");
}
