//! Packages: what is written is read back as what it was; what is too much or harmful is kept in check.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;

use common::zipped;
use ebrel_core::calibration::{Curve, Form, Intercept, PolynomialFit};
use ebrel_core::units::UnixSeconds;
use ebrel_formats::package::{CalibrationRow, ChannelRow, EventRow, Package, ReadingRow, read_zip};
use std::io::{Cursor, Write};

fn row(curve: &Curve) -> CalibrationRow {
    CalibrationRow {
        channel: "cut.m05".into(),
        valid_from: UnixSeconds(0),
        form: CalibrationRow::form_of(curve).into(),
        coefficients: serde_json::to_string(&curve.coefficients()).unwrap(),
        x_min: Some(curve.x_min),
        x_max: Some(curve.x_max),
        standard_error: curve.residual_sd,
        source: String::new(),
        particulars: String::new(),
    }
}

fn package(name: &str, calibrations: Vec<CalibrationRow>) -> Package {
    let channel =
        ChannelRow { channel: name.into(), station: "cut".into(), quantity: "rain".into(), ..ChannelRow::default() };
    let reading = ReadingRow::plain(UnixSeconds(900), -0.25);
    let event = EventRow {
        station: "cut".into(),
        kind: "visit".into(),
        start: UnixSeconds(0),
        end: None,
        amount: None,
        unit: String::new(),
        note: "=HYPERLINK(1)".into(),
        by: String::new(),
    };
    Package {
        channels: vec![(channel, [reading].into_iter().collect())],
        calibrations,
        events: vec![event],
        ..Package::default()
    }
}

#[test]
fn a_curve_of_every_form_means_the_same_after_a_round() {
    let raw: [f64; 6] = [3.0, 6.0, 11.0, 16.0, 22.0, 28.0];
    for form in Form::ALL.iter().copied() {
        let x = raw.map(|r| form.takes(r));
        let theta = raw.map(|e| 0.1138 * e.sqrt() - 0.1758 + 0.003 * (e * 7.0).sin());
        let fit = PolynomialFit::new(&x, &theta, form.degree(), Intercept::Free).unwrap();
        let curve = Curve::from_fit(&fit, form);
        let read = read_zip(&zipped(&package("cut.m05", vec![row(&curve)])), "test").unwrap();
        let back = read.calibrations[0].curve().unwrap().curve;
        assert_eq!(back.kind(), Some(form));
        for at in [4.0, 12.25, 27.0] {
            assert!(
                (back.theta(at) - curve.theta(at)).abs() < 1e-9,
                "{form:?} at {at}: {} for {}",
                back.theta(at),
                curve.theta(at)
            );
        }
    }
    let words = CalibrationRow {
        form: Form::RootLine.name().into(),
        ..row(&Curve::from_coefficients(&[-0.1758, 0.1138], 2.0, 30.0, None).unwrap())
    };
    assert!(
        (words.curve().unwrap().curve.theta(20.25) - 0.3363).abs() < 1e-9,
        "0.333 and not 2.10: packages of before name the form in words"
    );
    let correction = CalibrationRow { form: "correction".into(), ..words };
    assert!(correction.curve().is_none(), "a thermometer's correction is no calibration");
}

#[test]
fn formulas_in_text_are_guarded_and_come_back() {
    for name in ["=1+1", "@cut", "'quoted'", "-m05", "plain, with \"quotes\""] {
        let bytes = zipped(&package(name, Vec::new()));
        let mut archive = zip::ZipArchive::new(Cursor::new(&bytes)).unwrap();
        let table = std::io::read_to_string(archive.by_name("events.csv").unwrap()).unwrap();
        assert!(table.contains("'=HYPERLINK(1)"), "{table}");
        let readings = std::io::read_to_string(archive.by_name("readings.csv").unwrap()).unwrap();
        assert!(readings.contains(",-0.25,"), "numbers are left alone: {readings}");
        let read = read_zip(&bytes, "test").unwrap();
        assert_eq!((read.channels[0].0.channel.as_str(), read.events[0].note.as_str()), (name, "=HYPERLINK(1)"));
        assert_eq!(read.channels[0].1.len(), 1, "{name}: readings find their channel");
    }
}

#[test]
fn a_small_zip_that_unpacks_to_anything_is_refused() {
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default();
    zip.start_file("channels.csv", options).unwrap();
    let blank = vec![b' '; 1 << 20];
    for _ in 0..520 {
        zip.write_all(&blank).unwrap();
    }
    let bytes = zip.finish().unwrap().into_inner();
    assert!(bytes.len() < 2 << 20);
    assert!(read_zip(&bytes, "bomb").unwrap_err().to_string().contains("more than 512 MB"));
}
