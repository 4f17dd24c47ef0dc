//! The files of `dialects/`, each read by its guess and held against what was put into it. Files and truth are made by `make.py` there,
//! which shares nothing with the reader.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "common/cases.rs"]
mod cases;

use cases::cases;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{Read, Text, guess, read, suggest_column, unpack};
use ebrel_formats::rfc3339;
use proptest::prelude::*;
use serde::Deserialize;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

#[derive(Deserialize)]
struct Truth {
    file: String,
    offset_minutes: i32,
    unreadable: usize,
    foreign: usize,
    columns: Vec<Wanted>,
}

#[derive(Deserialize)]
struct Wanted {
    name: String,
    table: String,
    node: String,
    valid: usize,
    missing: usize,
    sum: String,
    stored: String,
    times: String,
    first: String,
    last: String,
    quantity: Option<String>,
    depth_cm: Option<f64>,
}

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/dialects")
}

fn truths() -> Vec<Truth> {
    serde_json::from_slice(&std::fs::read(folder().join("truth.json")).unwrap()).unwrap()
}

/// The text of a file of the corpus, or of one within it.
fn text_of(file: &str, into: &Path) -> Text {
    let own = file.split('/').next().unwrap();
    let members = unpack(&folder().join(own), own, into).members;
    let member = members.iter().find(|m| m.name == file).unwrap_or_else(|| panic!("{file} among {members:?}"));
    Text::of_file(&member.path).unwrap()
}

fn near(got: f64, wanted: &str) -> bool {
    let wanted: f64 = wanted.parse().unwrap();
    (got - wanted).abs() <= 1e-6 * wanted.abs().max(1.0)
}

/// What differs from the truth, as sentences.
fn differences(truth: &Truth, got: &Read) -> Vec<String> {
    let mut out = Vec::new();
    let survey = &got.survey;
    if survey.tally.unreadable != truth.unreadable || survey.tally.foreign != truth.foreign {
        out.push(format!("lines {:?}: {:?}", survey.tally, survey.groups));
    }
    let numeric = survey.columns.iter().filter(|c| c.valid > 0).count();
    let named: Vec<_> = survey.columns.iter().map(|c| (&c.table, &c.node, &c.name, c.valid)).collect();
    // A record number is a column too, and no channel.
    if numeric > truth.columns.len() + 1 {
        out.push(format!("{numeric} columns: {named:?}"));
    }
    for w in &truth.columns {
        let found = survey
            .columns
            .iter()
            .position(|c| c.name == w.name && c.node == w.node && (c.table == w.table || w.table.is_empty()));
        let Some(at) = found else {
            out.push(format!("no column “{}” among {named:?}", w.name));
            continue;
        };
        let c = &survey.columns[at];
        let of_it = || got.readings.iter().filter(|r| r.column == at);
        let (sum, times) = (of_it().map(|r| r.value).sum::<f64>(), of_it().map(|r| i128::from(r.time.0)).sum::<i128>());
        if (c.valid, c.missing) != (w.valid, w.missing) || !near(sum, &w.sum) {
            out.push(format!(
                "{}: {} valid, {} missing, sum {sum} for {}, {}, {}",
                w.name, c.valid, c.missing, w.valid, w.missing, w.sum
            ));
        }
        let (first, last) = c.extent.map(|(a, b)| (rfc3339(a), rfc3339(b))).unwrap_or_default();
        let earliest = of_it().next().map(|r| rfc3339(r.time)).unwrap_or_default();
        if times.to_string() != w.times || last != w.last || (earliest != w.first && first != w.first) {
            out.push(format!(
                "{}: from {first} to {last}, sum of times {times} for {} to {}, {}",
                w.name, w.first, w.last, w.times
            ));
        }
        let meant = suggest_column(c);
        if w.quantity.is_some()
            && (meant.quantity.map(|q| q.code().to_owned()) != w.quantity || meant.depth_cm != w.depth_cm)
        {
            out.push(format!("{}: {:?} at {:?} cm", w.name, meant.quantity, meant.depth_cm));
        }
        if w.quantity.is_some() && !near(sum * meant.factor + meant.plus * c.valid as f64, &w.stored) {
            out.push(format!(
                "{}: stored sum {} for {}",
                w.name,
                sum * meant.factor + meant.plus * c.valid as f64,
                w.stored
            ));
        }
    }
    out
}

#[test]
fn every_file_is_right_at_first_sight() {
    let mut wrong = Vec::new();
    let all = truths();
    assert!(all.len() >= 30);
    for truth in &all {
        let dir = tempfile::tempdir().unwrap();
        let text = text_of(&truth.file, dir.path());
        match guess(&text, truth.offset_minutes) {
            Ok(guess) => {
                let got = read(&text, &guess.recipe).unwrap();
                let recipe = serde_json::to_string(&guess.recipe).unwrap();
                wrong.extend(
                    differences(truth, &got).into_iter().map(|d| format!("{}: {d}\n      {recipe}", truth.file)),
                );
            }
            Err(e) => wrong.push(format!("{}: {e}", truth.file)),
        }
    }
    assert!(wrong.is_empty(), "{} differences:\n{}", wrong.len(), wrong.join("\n"));
}

/// Damage to a file's bytes.
#[derive(Debug, Clone)]
enum Damage {
    Cut(usize),
    Noise(usize, u8),
    Drop(usize, usize),
    Twice(usize, usize),
    Zeros(usize, usize),
}

fn damage() -> impl Strategy<Value = Damage> {
    let place = 0..200_000_usize;
    prop_oneof![
        place.clone().prop_map(Damage::Cut),
        (place.clone(), any::<u8>()).prop_map(|(a, b)| Damage::Noise(a, b)),
        (place.clone(), 1..400_usize).prop_map(|(a, n)| Damage::Drop(a, n)),
        (place.clone(), 1..400_usize).prop_map(|(a, n)| Damage::Twice(a, n)),
        (place, 1..5000_usize).prop_map(|(a, n)| Damage::Zeros(a, n)),
    ]
}

fn damaged(bytes: &[u8], damages: &[Damage]) -> Vec<u8> {
    let mut out = bytes.to_vec();
    for d in damages {
        let len = out.len().max(1);
        match d {
            Damage::Cut(a) => out.truncate(len / 3 + a % len),
            Damage::Noise(a, b) => {
                if let Some(byte) = out.get_mut(a % len) {
                    *byte = *b;
                }
            }
            Damage::Drop(a, n) => drop(out.drain(a % len..(a % len + n).min(out.len()))),
            Damage::Twice(a, n) => {
                let piece = out[a % len..(a % len + n).min(out.len())].to_vec();
                let at = (a % len + piece.len()).min(out.len());
                out.splice(at..at, piece);
            }
            Damage::Zeros(a, n) => drop(out.splice((a % len).min(out.len())..(a % len).min(out.len()), vec![0; *n])),
        }
    }
    out
}

/// Physical lines of a text, counted by other code than the reader's.
fn physical_lines(text: &Text) -> usize {
    let mut lines = text.lines().unwrap();
    let mut n = 0;
    while lines.next_line().unwrap().is_some() {
        n += 1;
    }
    n
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases(120)))]

    #[test]
    fn whatever_was_done_to_a_file_every_line_is_counted_and_every_loss_told(
        which in 0..41_usize, damages in prop::collection::vec(damage(), 0..4)
    ) {
        let truth = &truths()[which];
        let bytes = std::fs::read(folder().join(truth.file.split('/').next().unwrap())).unwrap();
        let Ok(text) = Text::of_bytes(damaged(&bytes, &damages)) else { return Ok(()) };
        let Ok(guess) = guess(&text, truth.offset_minutes) else { return Ok(()) };
        let got = read(&text, &guess.recipe).unwrap();
        let tally = got.survey.tally;
        prop_assert_eq!(tally.sum(), physical_lines(&text), "{:?}", tally);
        let told: BTreeSet<usize> = got.problems.iter().map(|p| p.line).collect();
        prop_assert!(told.len() >= tally.unreadable, "{} lines told of {}: {:?}", told.len(), tally.unreadable, got.problems);
        let cells: usize = got.survey.columns.iter().filter(|c| !c.is_words()).map(|c| c.words).sum();
        prop_assert!(got.problems.len() >= tally.unreadable.max(cells), "every loss of a line or a cell is told");
        prop_assert_eq!(got.readings.len(), got.survey.columns.iter().map(|c| c.valid).sum::<usize>());
        prop_assert!(got.readings.iter().all(|r| r.value.is_finite() && r.column < got.survey.columns.len()));
        prop_assert!(got.survey.groups.iter().map(|g| g.count).sum::<usize>() <= got.problems.len());
        prop_assert!(got.readings.iter().all(|r| r.time > UnixSeconds(0)));
    }
}

#[test]
fn what_a_guess_found_on_its_way_is_what_reading_by_it_finds() {
    let mut known = 0;
    for truth in &truths() {
        let dir = tempfile::tempdir().unwrap();
        let text = text_of(&truth.file, dir.path());
        let guess = guess(&text, truth.offset_minutes).unwrap();
        let read = read(&text, &guess.recipe).unwrap().survey;
        if let Some(found) = guess.survey {
            known += 1;
            assert_eq!(found, read, "{}", truth.file);
        }
    }
    assert!(known > 15, "{known}: most files need no second reading");
}
