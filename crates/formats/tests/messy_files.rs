//! Whole files as the field delivers them, in several dialects, read by a guessed recipe.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;

use common::zipped;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{Clock, Read, Text, guess, read};
use ebrel_formats::package::{
    ChannelRow, DeliveryRow, EventRow, FlagRow, HorizonRow, Package, PackageError, ReadingRow, StationRow, StudyPart,
    VerdictRow, read_zip,
};
use ebrel_formats::rfc3339;
use proptest::prelude::*;

fn read_file(bytes: &[u8]) -> (Read, Clock) {
    let text = Text::of_bytes(bytes).unwrap();
    let recipe = guess(&text, 0).unwrap().recipe;
    (read(&text, &recipe).unwrap(), recipe.time.clock)
}

/// Three header lines that stand again after a power loss, a block sent twice, sentinels, the last line cut off.
#[test]
fn a_node_with_a_power_loss() {
    let header = "\"node 07\",\"a wood\",\"program v2\",\"clock UTC+0\"\n\"time\",\"rec\",\"batt\",\"m05\",\"t05\",\"rain\"\n\"\",\"\",\"V\",\"mV\",\"degC\",\"mm\"\n";
    let line = |i: i64| {
        let time = rfc3339(UnixSeconds(1_772_323_200 + i * 900)).replace('T', " ").replace('Z', "");
        let m05 = if (20..25).contains(&i) { "-9999".to_owned() } else { format!("{:.1}", 880.0 + i as f64) };
        let t05 = if i == 30 { "\"NAN\"".to_owned() } else { "4.25".to_owned() };
        format!("\"{time}\",{i},3.62,{m05},{t05},0.0\n")
    };
    let mut text = header.to_owned();
    (0..200).for_each(|i| text += &line(i));
    text += header;
    (190..400).for_each(|i| text += &line(i));
    text += "\"2026-03-05 08:15:00\",400,3.6";
    let (got, clock) = read_file(text.as_bytes());
    assert_eq!(clock, Clock::Fixed(0));
    assert_eq!((got.survey.records, got.survey.tally.records, got.survey.tally.repeated), (400, 410, 3));
    assert_eq!(got.problems.iter().map(|p| p.line).collect::<Vec<_>>(), [417]);
    assert!(got.problems[0].fault.to_string().contains("looks cut off"), "{}", got.problems[0].fault.to_string());
    let valid: Vec<_> = got.survey.columns.iter().map(|c| (c.name.as_str(), c.unit.as_str(), c.missing)).collect();
    assert_eq!(valid, [("rec", "", 0), ("batt", "V", 0), ("m05", "mV", 5), ("t05", "degC", 1), ("rain", "mm", 0)]);
}

/// Byte-order mark, CRLF, semicolons, decimal comma, day before month, a clock at UTC+1, comments, holes.
#[test]
fn an_export_with_decimal_commas() {
    let mut text = "\u{feff}# clock is UTC+1 all year\r\nZeit;Feuchte 5 cm [mV];Boden 5 cm [°C]\r\n".to_owned();
    for i in 0..600i64 {
        let (day, minute) = (10 + i / 48, i % 48 * 30);
        let hole = if i % 100 == 7 { "---".to_owned() } else { format!("{},{}", 880 + i % 9, i % 10) };
        let cold = if i == 300 { String::new() } else { format!("15,{:02}", i % 100) };
        text += &format!("{day}.6.2026 {:02}:{:02};{hole};{cold}\r\n", minute / 60, minute % 60);
    }
    let (got, clock) = read_file(text.as_bytes());
    assert_eq!(clock, Clock::Fixed(60));
    assert_eq!((got.survey.records, got.problems.len()), (600, 0));
    assert_eq!(rfc3339(got.survey.extent.unwrap().0), "2026-06-09T23:00:00Z");
    assert_eq!(got.survey.columns.iter().map(|c| c.valid).collect::<Vec<_>>(), [594, 599]);
    assert_eq!(got.survey.interval_s, Some(1800));
}

/// Tabs, date and time apart, a 12-hour clock, two-digit years, an hour that stands twice in autumn.
#[test]
fn local_time_with_summer_time() {
    let mut text = "HUT\tRAIN\ndate\ttime\train_mm\tair_C\n".to_owned();
    let first = 1_760_918_400; // 2025-10-20T00:00:00Z
    for i in 0..288 {
        let offset = if first + i * 3600 < 1_761_440_400 { 7200 } else { 3600 };
        let ts = jiff::Timestamp::from_second(first + i * 3600 + offset).unwrap();
        text +=
            &format!("{}\t0.2\t8.5\n", ts.to_zoned_datetime(jiff::tz::TimeZone::UTC).strftime("%m/%d/%y\t%I:%M %p"));
    }
    let (got, clock) = read_file(text.as_bytes());
    assert_eq!(clock, Clock::Zone("Europe/Paris".into()));
    assert_eq!((got.survey.records, got.problems.len()), (288, 0));
    assert_eq!(got.survey.extent, Some((UnixSeconds(first), UnixSeconds(first + 287 * 3600))));
}

/// One reading a line, with a letter O for a zero.
#[test]
fn a_walk_with_a_handheld() {
    let mut text = "point,when,what,value,unit,by\n".to_owned();
    for round in 0..10 {
        for point in 1..=8 {
            let value = if (round, point) == (1, 5) { "O.286".to_owned() } else { format!("0.3{point}") };
            text += &format!(
                "P{point},2026-04-{:02}T09:{:02}Z,water content,{value},m3/m3,\"T. Quill\"\n",
                2 + 3 * round,
                point * 6
            );
        }
    }
    let (got, _) = read_file(text.as_bytes());
    assert_eq!((got.readings.len(), got.survey.columns.len()), (79, 8));
    assert_eq!(
        (got.survey.columns[0].name.as_str(), got.survey.columns[0].unit.as_str()),
        ("P1 water content", "m3/m3")
    );
    assert_eq!(got.problems.len(), 1);
    assert_eq!(
        (got.problems[0].line, got.problems[0].fault.to_string().as_str()),
        (14, "P5 water content: “O.286” is no number: a letter O for a zero?")
    );
}

fn package(values: &[f64]) -> Package {
    let text = str::to_owned;
    let time = |i: usize| UnixSeconds(1_772_323_200 + i as i64 * 900);
    let readings = values.iter().enumerate().map(|(i, v)| ReadingRow {
        raw: Some(v * 3.0),
        node_time: Some(time(i)),
        delivery: Some(1),
        ..ReadingRow::plain(time(i), *v)
    });
    let channel = ChannelRow {
        channel: text("a, \"quoted\" channel"),
        station: text("cut"),
        quantity: text("water_content"),
        unit: text("m3/m3"),
        depth_cm: Some(5.0),
        start: Some(time(0)),
        interval_s: Some(900),
        ..ChannelRow::default()
    };
    Package {
        title: text("Ostrelle Wood"),
        stations: vec![StationRow { station: text("cut"), name: text("=Cut coupe"), ..StationRow::default() }],
        horizons: vec![HorizonRow { station: text("cut"), bottom_cm: 3.0, ..HorizonRow::default() }],
        channels: vec![(channel, readings.collect())],
        events: vec![EventRow {
            station: text("cut"),
            kind: text("visit"),
            start: time(0),
            end: None,
            amount: None,
            unit: String::new(),
            note: text("moved the probe,\nsee photo"),
            by: text("R. Teal"),
        }],
        flags: vec![FlagRow {
            channel: text("a, \"quoted\" channel"),
            start: time(1),
            end: time(2),
            test: text("spike"),
            grade: text("wrong"),
            verdict: text("left_out"),
            reason: text("+0.16"),
            evidence: text("{\"height\":0.16}"),
        }],
        verdicts: vec![VerdictRow {
            mark: "wrong".into(),
            readings: Some(4),
            channel: text("a, \"quoted\" channel"),
            start: time(1),
            end: time(2),
            test: text("spike"),
            verdict: text("left_out"),
            reason: text("a mouse, \"again\""),
            by: text("R. Teal"),
            at: time(9),
        }],
        deliveries: vec![DeliveryRow {
            delivery: 1,
            received: time(4),
            source: text("file"),
            file: text("-autumn θ.csv"),
            sha256: text("00ff"),
            by: String::new(),
        }],
        study: StudyPart { name: text("Ostrelle Wood"), question: text("How dry?"), utc_offset_minutes: 60 },
        ..Package::default()
    }
}

#[test]
fn a_package_that_contradicts_itself_is_refused_by_line() {
    let mut wrong = package(&[0.3]);
    wrong.channels[0].0.channel = "other".into();
    let zip = zipped(&wrong);
    assert!(read_zip(&zip, "x.zip").is_ok());
    assert!(matches!(read_zip(b"PK nonsense", "x.zip"), Err(PackageError::Open { .. })));
}

proptest! {
    #[test]
    fn a_package_comes_back_as_it_was_and_the_same_bytes_again(values in prop::collection::vec(-1e6..1e6f64, 0..40)) {
        let whole = package(&values);
        let zip = zipped(&whole);
        prop_assert_eq!(&zip, &zipped(&whole));
        prop_assert_eq!(read_zip(&zip, "x.zip").unwrap(), whole);
    }
}
