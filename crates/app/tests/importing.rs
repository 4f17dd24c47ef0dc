//! A logger file from its bytes into a station: every reading of it is new, known, a repeat, or in a column that was left out.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;

use ebrel_app::importing::withdrawing::{restore, withdraw};
use ebrel_app::importing::{
    Job, Mapping, Progress, Report, find_node, first_mapping, fitted, hindrances, keep_file, kept_at, latest, overlaps,
    store,
};
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_formats::logger::{Clock, Read, Recipe, Text, guess, read, survey};
use ebrel_formats::rfc3339;
use ebrel_store::imports::{Import, Withdrawn};
use ebrel_store::{Store, StoreError};
use std::sync::Arc;

const FROM: i64 = 1_772_323_200;
const NOW: UnixSeconds = UnixSeconds(FROM + 400 * 86_400);
const HEAD: &str = "time,m05 [mV],t05 [degC],batt [V]";

/// Records `range` of a node; every tenth reading of the blade is missing.
fn text(head: &str, range: std::ops::Range<i64>, shift: f64) -> String {
    let mut text = format!("{head}\n");
    for i in range {
        let time = rfc3339(UnixSeconds(FROM + i * 900)).replace('T', " ").replace('Z', "");
        let blade = if i % 10 == 9 { String::new() } else { format!("{:.1}", 900.0 + shift + i as f64 / 10.0) };
        text += &format!("{time},{blade},{:.2},3.60\n", 8.0 + i as f64 / 100.0);
    }
    text
}

struct Opened {
    text: Text,
    recipe: Recipe,
    read: Read,
}

impl Opened {
    fn job(&self, mapping: &Mapping) -> Job {
        let (text, recipe) = (self.text.clone(), self.recipe.clone());
        Job { text, recipe, mapping: mapping.clone(), survey: self.read.survey.clone(), latest: latest(NOW) }
    }
}

fn opened(text: &str) -> (Opened, Mapping) {
    let made = Text::of_bytes(text.as_bytes()).unwrap();
    let recipe = guess(&made, 0).unwrap().recipe;
    let read = read(&made, &recipe).unwrap();
    let head: Vec<String> = text.lines().take(200).map(str::to_owned).collect();
    let mapping = first_mapping(&read.survey, &head, "node03.csv");
    (Opened { text: made, recipe, read }, mapping)
}

fn import(station_id: i64) -> Import {
    Import {
        sha256: "00".into(),
        recipe: "{}".into(),
        mapping: "{}".into(),
        ..Import::begun(station_id, "node03.csv", NOW, "N. Arvel")
    }
}

async fn stored(at: &Store, station: i64, file: &Opened, mapping: &Mapping) -> Report {
    let read = &file.read;
    let (id, report) = store(at, &import(station), &file.job(mapping), &Arc::new(Progress::default())).await.unwrap();
    let kept: Report = serde_json::from_str(&at.import(id).await.unwrap().report.unwrap()).unwrap();
    assert_eq!(kept, report, "what is told is what is kept");
    let taken = |column: usize| mapping.columns[column].quantity.is_some();
    let sent = read.readings.iter().filter(|r| taken(r.column)).count();
    assert_eq!(report.new_readings + report.known_readings + report.repeated_readings, sent, "count in, count out");
    assert_eq!(report.new_records + report.known_records, read.survey.records, "and by records");
    report
}

async fn in_store(store: &Store, station: i64) -> usize {
    let mut n = 0;
    for stream in store.streams(station).await.unwrap() {
        n += store.series(stream.id).await.unwrap().times.len();
    }
    n
}

#[tokio::test]
async fn overlapping_files_in_any_order_are_one_record() {
    let (_, mapping) = opened(&text(HEAD, 0..200, 0.0));
    let parts = [0..80, 60..140, 120..200, 0..200];
    let mut known = Vec::new();
    for order in [[0, 1, 2, 3], [3, 2, 1, 0], [2, 0, 3, 1]] {
        let (at, station, _dir) = common::station().await;
        let mut new = 0;
        for part in order {
            let (read, _) = opened(&text(HEAD, parts[part].clone(), 0.0));
            let report = stored(&at, station, &read, &mapping).await;
            assert_eq!(report.repeated_readings, 0);
            new += report.new_readings;
        }
        assert_eq!(in_store(&at, station).await, new);
        let placements = at.placements(station).await.unwrap();
        assert!(
            placements.iter().all(|p| p.starts.0 == FROM),
            "an older file lets a placement begin earlier: {placements:?}"
        );
        known.push(new);
    }
    assert_eq!(known, [580, 580, 580], "200 records of three columns less 20 missing ones");
}

#[tokio::test]
async fn a_file_whose_values_were_changed_adds_nothing_and_is_kept_beside_the_first() {
    let (at, station, _dir) = common::station().await;
    let (first, mapping) = opened(&text(HEAD, 0..100, 0.0));
    stored(&at, station, &first, &mapping).await;
    let before = in_store(&at, station).await;
    let (changed, _) = opened(&text(HEAD, 0..100, 7.0));
    let report = stored(&at, station, &changed, &mapping).await;
    assert_eq!((report.new_readings, report.repeated_readings, report.known_readings), (0, 90, 200));
    assert_eq!(in_store(&at, station).await, before);
    let blade = at.streams(station).await.unwrap().into_iter().find(|s| s.port == "m05").unwrap().id;
    assert_eq!(at.series(blade).await.unwrap().values[0], 900.0, "the first value stands");
    assert_eq!(at.repeats(blade).await.unwrap().len(), 90);
}

#[tokio::test]
async fn columns_in_another_order_find_their_channels_and_unknown_ones_are_named() {
    let (at, station, _dir) = common::station().await;
    let (first, mapping) = opened(&text(HEAD, 0..100, 0.0));
    stored(&at, station, &first, &mapping).await;
    let turned: String = text(HEAD, 100..200, 0.0)
        .lines()
        .map(|line| {
            let f: Vec<&str> = line.split(',').collect();
            let more = if line.starts_with("time") { "lux" } else { "12" };
            format!("{},{},{more},{},{}\n", f[0], f[3], f[1], f[2])
        })
        .collect();
    let (read, _) = opened(&turned);
    let again = fitted(&mapping, &read.read.survey);
    let report = stored(&at, station, &read, &again).await;
    assert_eq!((report.left_out.as_slice(), report.new_readings), (&["lux".to_owned()][..], 290));
    let streams = at.streams(station).await.unwrap();
    assert_eq!(streams.len(), 3, "no new one");
    let blade = streams.iter().find(|s| s.port == "m05").unwrap();
    assert_eq!((blade.quantity, at.series(blade.id).await.unwrap().times.len()), (Quantity::RawOutput, 180));
}

#[tokio::test]
async fn the_next_file_of_a_node_finds_it_whatever_the_file_is_called() {
    let (at, station, _dir) = common::station().await;
    let (first, mapping) = opened(&text(HEAD, 0..50, 0.0));
    assert_eq!(mapping.node, "node03", "the file's name, where nothing else tells");
    stored(&at, station, &first, &Mapping { node: "the one by the gate".into(), ..mapping.clone() }).await;
    let streams = at.streams(station).await.unwrap();
    let mut next = Mapping { node: "download (3)".into(), ..mapping.clone() };
    find_node(&mut next, &[HEAD.to_owned()], &streams);
    assert_eq!(next.node, "the one by the gate");
    let mut more = Mapping { node: "download (3)".into(), ..mapping };
    more.columns[0].port = "m99".into();
    find_node(&mut more, &[HEAD.to_owned()], &streams);
    assert_eq!(more.node, "download (3)", "a port that no node has is no sign");
}

#[tokio::test]
async fn two_loggers_with_the_same_columns_ask_which_one_this_is() {
    let (at, station, _dir) = common::station().await;
    let (first, mapping) = opened(&text(HEAD, 0..50, 0.0));
    for node in ["by the gate", "by the pond"] {
        stored(&at, station, &first, &Mapping { node: node.into(), ..mapping.clone() }).await;
    }
    let streams = at.streams(station).await.unwrap();
    let mut next = Mapping { node: "download (3)".into(), ..mapping };
    find_node(&mut next, &[HEAD.to_owned()], &streams);
    let asked = hindrances(&first.read.survey, &next, &streams, NOW);
    assert_eq!(asked, ["Which logger wrote this? by the gate, by the pond all have these columns: name the node."]);
}

/// A file of several pieces.
fn long_text() -> String {
    let line = |i: i64| format!("{},{},{},3.6\n", FROM + i * 60, 900 + i % 50, i % 30);
    format!("time,m05 [mV],t05 [degC],batt [V]\n{}", (0..150_000).map(line).collect::<String>())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_kill_cut_off_goes_on_where_it_stood_and_is_counted_once() {
    let (at, station, _dir) = common::station().await;
    let (file, mapping) = opened(&long_text());
    let (job, at_work) = (file.job(&mapping), at.clone());
    let begun =
        tokio::spawn(async move { store(&at_work, &import(station), &job, &Arc::new(Progress::default())).await });
    while at.imports_cut_off().await.unwrap().is_empty() {
        tokio::task::yield_now().await;
    }
    begun.abort();
    let _cut_off = begun.await;
    let Some(cut_off) = at.imports_cut_off().await.unwrap().into_iter().next() else {
        // The machine was so fast that it ended before it was cut off: nothing to go on with.
        return;
    };
    let before = in_store(&at, station).await;
    assert!(before > 0 && before < 450_000, "{before}");
    let (id, report) = store(&at, &cut_off, &file.job(&mapping), &Arc::new(Progress::default())).await.unwrap();
    assert_eq!(id, cut_off.id);
    assert_eq!(
        (report.new_readings, report.known_readings, report.repeated_readings),
        (450_000, 0, 0),
        "as if nothing had happened"
    );
    assert_eq!(in_store(&at, station).await, 450_000);
    assert!(at.imports_cut_off().await.unwrap().is_empty());
    assert_eq!(at.imports(station).await.unwrap().len(), 1);
}

#[tokio::test]
async fn one_that_is_ended_early_says_so_and_the_next_goes_on() {
    let (at, station, _dir) = common::station().await;
    let (file, mapping) = opened(&long_text());
    let progress = Arc::new(Progress::default());
    progress.cancel();
    let (_, report) = store(&at, &import(station), &file.job(&mapping), &progress).await.unwrap();
    assert!(report.cancelled.is_some_and(|lines| lines < 150_000), "{:?}", report.cancelled);
    let (_, rest) = store(&at, &import(station), &file.job(&mapping), &Arc::new(Progress::default())).await.unwrap();
    assert_eq!((rest.cancelled, rest.new_readings + rest.known_readings), (None, 450_000));
}

#[tokio::test]
async fn an_import_with_a_wrong_clock_is_set_aside_and_read_anew_and_others_keep_what_they_brought() {
    let (at, station, dir) = common::station().await;
    std::fs::create_dir(dir.path().join("files")).unwrap();
    let mut ids = Vec::new();
    for range in [0..100, 60..140] {
        let content = text(HEAD, range, 0.0);
        let source = dir.path().join("source.csv");
        std::fs::write(&source, &content).unwrap();
        let (file, mapping) = opened(&content);
        let kept = Import {
            sha256: keep_file(dir.path(), &source).unwrap(),
            recipe: serde_json::to_string(&file.recipe).unwrap(),
            mapping: serde_json::to_string(&mapping).unwrap(),
            ..import(station)
        };
        ids.push(store(&at, &kept, &file.job(&mapping), &Arc::new(Progress::default())).await.unwrap().0);
    }
    let all = in_store(&at, station).await;
    assert_eq!(all, 140 * 3 - 14);
    let why = Withdrawn { at: NOW, by: "N. Arvel".into(), why: "an hour off".into() };
    let done = withdraw(&at, dir.path(), ids[0], &why).await.unwrap();
    assert_eq!((done.readings, done.read_again.len()), (290, 1));
    assert_eq!(in_store(&at, station).await, 80 * 3 - 8, "all that the second file brought, what both brought too");
    // The same file an hour earlier.
    let first = at.import(ids[0]).await.unwrap();
    let text = Text::of_file(kept_at(dir.path(), &first.sha256)).unwrap();
    let mut recipe: Recipe = serde_json::from_str(&first.recipe).unwrap();
    recipe.time.clock = Clock::Fixed(60);
    let mapping: Mapping = serde_json::from_str(&first.mapping).unwrap();
    let survey = survey(&text, &recipe, latest(NOW)).unwrap();
    let job = Job { text, recipe, mapping, survey, latest: latest(NOW) };
    let seen = overlaps(&at, station, &job).await.unwrap();
    assert_eq!(
        (seen[0].shift_s, seen[0].alike < seen[0].shared),
        (Some(-3600), true),
        "the page would say so: {:?}",
        seen[0].first_other
    );
    let (anew, report) = store(&at, &import(station), &job, &Arc::new(Progress::default())).await.unwrap();
    assert_eq!(report.extent.unwrap().0, FROM - 3600);
    // And everything back.
    withdraw(&at, dir.path(), anew, &why).await.unwrap();
    restore(&at, ids[0]).await.unwrap();
    assert_eq!(in_store(&at, station).await, all);
    assert!(restore(&at, ids[0]).await.is_err());
}

#[tokio::test]
async fn what_hinders_stores_nothing_and_a_refusal_halfway_neither() {
    let (at, station, _dir) = common::station().await;
    let (read, mapping) = opened(&text(HEAD, 0..50, 0.0));
    assert_eq!(hindrances(&read.read.survey, &mapping, &[], NOW), Vec::<String>::new());
    let early = hindrances(&read.read.survey, &mapping, &[], UnixSeconds(FROM - 10 * 86_400));
    assert!(early[0].contains("lies in the future"), "{early:?}");
    stored(&at, station, &read, &mapping).await;
    let (later, _) = opened(&text(HEAD, 50..90, 0.0));
    let mut torn = mapping.clone();
    torn.columns[2].unit = "mV".into();
    let refused = store(&at, &import(station), &later.job(&torn), &Arc::new(Progress::default())).await;
    assert!(matches!(refused, Err(StoreError::Rule(_))), "a port keeps its unit: {refused:?}");
    assert!(at.imports_cut_off().await.unwrap().is_empty());
    assert_eq!(in_store(&at, station).await, 145, "none of the columns before it either");
    assert_eq!(at.imports(station).await.unwrap().len(), 1, "nor the import itself");
}

#[test]
fn a_file_is_kept_under_its_hash_once_and_as_it_came() {
    let dir = tempfile::tempdir().unwrap();
    std::fs::create_dir(dir.path().join("files")).unwrap();
    let source = dir.path().join("θ “node” 03.csv");
    for bytes in [Vec::new(), b"one\n".to_vec(), vec![0xff; 200_000]] {
        std::fs::write(&source, &bytes).unwrap();
        let hash = keep_file(dir.path(), &source).unwrap();
        assert_eq!(keep_file(dir.path(), &source).unwrap(), hash);
        assert_eq!(std::fs::read(kept_at(dir.path(), &hash)).unwrap(), bytes);
    }
    assert_eq!(std::fs::read_dir(dir.path().join("files")).unwrap().count(), 3, "nothing half-written stays");
    assert!(keep_file(dir.path(), &dir.path().join("not there")).is_err());
}

#[tokio::test]
async fn values_become_those_of_the_record_by_factor_offset_and_counting() {
    let (at, station, _dir) = common::station().await;
    let line = |i: i64| format!("{},{},{},{}\n", FROM + i * 900, 50 + i, 30 + i % 3, (65_530 + i * 2) % 65_536);
    let lines: String = (0..10).map(line).collect();
    let (file, mut mapping) = opened(&format!("ts,soil temp 5 [°F],vwc_30 [%],tips\n{lines}"));
    let units: Vec<_> = mapping.columns.iter().map(|c| (c.quantity, c.unit.as_str(), c.depth_cm)).collect();
    assert_eq!(units[0], (Some(Quantity::SoilTemperature), "degC", Some(5.0)));
    assert_eq!(units[1], (Some(Quantity::WaterContent), "m3/m3", Some(30.0)));
    assert_eq!(units[2].0, None, "tips are nothing before somebody says what one is");
    let tips = &mut mapping.columns[2];
    (tips.quantity, tips.unit, tips.factor, tips.counter) = (Some(Quantity::Rain), "mm".into(), 0.2, true);
    let report = {
        let (_, report) =
            store(&at, &import(station), &file.job(&mapping), &Arc::new(Progress::default())).await.unwrap();
        report
    };
    assert_eq!(
        (report.new_readings, report.first_counts),
        (29, 1),
        "the first count has nothing to count from, and is told"
    );
    let streams = at.streams(station).await.unwrap();
    let mut got = Vec::new();
    for quantity in [Quantity::SoilTemperature, Quantity::WaterContent, Quantity::Rain] {
        let stream = streams.iter().find(|s| s.quantity == quantity).unwrap();
        got.push(at.series(stream.id).await.unwrap().values.clone());
    }
    assert!((got[0][0] - 10.0).abs() < 1e-9 && (got[1][1] - 0.31).abs() < 1e-9, "{got:?}");
    assert!(
        got[2].iter().all(|v| (v - 0.4).abs() < 1e-9),
        "two tips a record, also where the counter ran over: {:?}",
        got[2]
    );
}

#[tokio::test]
async fn nothing_goes_in_in_a_unit_that_its_quantity_does_not_have_or_twice_to_one_port() {
    let (file, mapping) = opened(&text(HEAD, 0..50, 0.0));
    let hindered = |change: &dyn Fn(&mut Mapping)| {
        let mut changed = mapping.clone();
        change(&mut changed);
        hindrances(&file.read.survey, &changed, &[], NOW).join(" ")
    };
    for (change, sentence) in [
        (
            &(|m: &mut Mapping| m.columns[1].unit = "degF".into()) as &dyn Fn(&mut Mapping),
            "soil temperature is stored in degC",
        ),
        (&|m| m.columns[0].unit = String::new(), "Give the unit of the raw output"),
        (&|m| m.columns[0].factor = 0.0, "the factor must be a number other than 0"),
        (&|m| m.columns[0].factor = f64::NAN, "the factor must be a number other than 0"),
        (&|m| m.columns[0].plus = f64::INFINITY, "the factor must be a number other than 0"),
        (&|m| m.columns[0].port = " ".into(), "Name the port of column “m05 [mV]”"),
        (&|m| m.columns[0].depth_cm = Some(1e9), "Column “m05 [mV]”"),
        (&|m| m.node = String::new(), "Name the node"),
        (&|m| m.columns.iter_mut().for_each(|c| c.quantity = None), "No column is chosen"),
    ] {
        let told = hindered(change);
        assert!(told.contains(sentence), "{sentence}: {told}");
    }
    let twice = hindered(&|m| {
        m.columns[1] = ebrel_app::importing::ColumnPlan { column: "t05 [degC]".into(), ..m.columns[0].clone() };
    });
    assert!(twice.contains("Two columns go to port “m05”"), "{twice}");
}

#[test]
fn reports_of_before_are_still_read() {
    let old = r#"{"lines":300,"new_records":280,"known_records":20,"new_readings":560,"known_readings":40,"repeated_readings":0,
        "missing":[["m05",3]],"left_out":["by"],"headers_again":3,"extent":[0,900],
        "problems":[{"line":7,"reason":"2 fields where 3 are due","text":"2026"},{"line":9,"reason":"m05: “x” is no number","text":"x"}]}"#;
    let report = Report::of_json(old).unwrap();
    assert_eq!((report.tally.records, report.tally.repeated, report.losses()), (300, 3, 2));
    assert_eq!(report.groups[0].whereabouts(), "1 line, line 7");
    assert_eq!(report.groups[1].whereabouts(), "1 cell, line 9");
    let again = Report::of_json(&serde_json::to_string(&report).unwrap()).unwrap();
    assert_eq!(again, report, "kept in the form of now it says the same");
}

#[test]
fn mappings_of_before_are_still_read() {
    let old = r#"{"node":"node 03","columns":[{"column":"m05","quantity":"raw_output","port":"m05","unit":"mV","depth_cm":5.0,"serial":""}]}"#;
    let mapping: Mapping = serde_json::from_str(old).unwrap();
    let plan = &mapping.columns[0];
    assert_eq!((plan.factor, plan.plus, plan.counter, plan.table.as_str()), (1.0, 0.0, false, ""));
}

#[tokio::test]
async fn a_known_recipe_is_taken_for_files_that_begin_alike_and_read_no_worse_by_it() {
    use ebrel_app::importing::{SavedRecipe, begin, head_of};
    use ebrel_store::recipes::SavedBody;
    let (file, mut mapping) = opened(&text(HEAD, 0..50, 0.0));
    mapping.columns[0].depth_cm = Some(7.5);
    let saved = SavedRecipe { recipe: file.recipe.clone(), mapping };
    let known = [SavedBody {
        name: "ride".into(),
        body: serde_json::to_string(&saved).unwrap(),
        head: head_of(&file.read.survey),
        kept_at: NOW,
        kept_by: "N. Arvel".into(),
    }];
    let look = |content: &str| {
        let text = Text::of_bytes(content.as_bytes()).unwrap();
        begin(&text, "x.csv", (None, &known), 0, &[], NOW).unwrap()
    };
    let alike = look(&text(HEAD, 50..90, 0.0));
    assert_eq!(
        (alike.mapping.columns[0].depth_cm, alike.remarks[0].0.as_str()),
        (Some(7.5), "Read by the recipe “ride”: its files begin alike.")
    );
    let other = look(&text("time,m05 [mV],t05 [degC],lux", 50..90, 0.0));
    assert_eq!(other.mapping.columns[0].depth_cm, Some(5.0), "another head is another logger");
    let dressed = look(&text(HEAD, 50..90, 0.0).replace(',', ";").replace('.', ","));
    assert_eq!(dressed.mapping.columns[0].depth_cm, Some(5.0), "what reads less than a guess is not its recipe");
    assert_eq!(dressed.survey.tally.records, 40);
    let nothing = look("Dear all,\nthe logger is in the hut.\n");
    assert!(nothing.by_hand && nothing.remarks[0].0.contains("Nothing could be guessed") && nothing.remarks[0].1);
}

#[tokio::test]
async fn two_loggers_of_one_file_go_to_two_nodes_with_one_import() {
    let (at, station, _dir) = common::station().await;
    let line = |i: i64| format!("{0},north,{1}\n{0},south,{2}\n", FROM + i * 900, 900 + i, 700 + i);
    let (file, mapping) = opened(&format!("ts,logger,m05 [mV]\n{}", (0..40).map(line).collect::<String>()));
    let report = {
        let (_, report) =
            store(&at, &import(station), &file.job(&mapping), &Arc::new(Progress::default())).await.unwrap();
        report
    };
    assert_eq!((report.tally.records, report.new_readings), (80, 80));
    let mut seen: Vec<_> = at.streams(station).await.unwrap().into_iter().map(|s| (s.node, s.port)).collect();
    seen.sort();
    assert_eq!(seen, [("north".into(), "m05".into()), ("south".to_owned(), "m05".to_owned())]);
}

#[tokio::test]
async fn a_kill_between_setting_aside_and_reading_others_again_loses_nothing() {
    let (at, station, dir) = common::station().await;
    std::fs::create_dir(dir.path().join("files")).unwrap();
    let mut ids = Vec::new();
    for range in [0..100, 60..140] {
        let source = dir.path().join("source.csv");
        std::fs::write(&source, text(HEAD, range.clone(), 0.0)).unwrap();
        let (file, mapping) = opened(&text(HEAD, range, 0.0));
        let kept = Import {
            sha256: keep_file(dir.path(), &source).unwrap(),
            recipe: serde_json::to_string(&file.recipe).unwrap(),
            mapping: serde_json::to_string(&mapping).unwrap(),
            ..import(station)
        };
        ids.push(store(&at, &kept, &file.job(&mapping), &Arc::new(Progress::default())).await.unwrap().0);
    }
    // Only the first half of it: the readings are set aside, the other file was not read again.
    let why = Withdrawn { at: NOW, by: "N. Arvel".into(), why: "an hour off".into() };
    let mut unit = at.unit().await.unwrap();
    unit.withdraw_import(ids[0], &why, &ids[1..]).await.unwrap();
    unit.commit().await.unwrap();
    let due = at.imports_cut_off().await.unwrap();
    assert_eq!(due.iter().map(|i| (i.id, i.due_again)).collect::<Vec<_>>(), [(ids[1], true)], "the next start knows");
    for _ in 0..2 {
        ebrel_app::importing::withdrawing::read_again(&at, dir.path(), &due[0], NOW).await.unwrap();
        assert_eq!(in_store(&at, station).await, 80 * 3 - 8, "and doing it twice changes nothing");
    }
    assert!(at.imports_cut_off().await.unwrap().is_empty());
    let told = Report::of_json(&at.import(ids[1]).await.unwrap().report.unwrap()).unwrap();
    assert_eq!(told.known_readings, 40 * 3 - 4, "its report stays as it was");
}
