//! What goes into the reader comes out, or is named: whatever was done to the lines of a file, the sum agrees.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "common/cases.rs"]
mod cases;

use cases::cases;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{Read, Text, guess, read};
use ebrel_formats::rfc3339;
use proptest::prelude::*;
use std::collections::BTreeSet;

/// What happened to a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Fate {
    Whole,
    Missing,
    Cut,
    Joined,
    Noise,
    Blank,
    HeaderAgain,
    SentTwice,
}

fn fate() -> impl Strategy<Value = Fate> {
    prop_oneof![
        8 => Just(Fate::Whole),
        2 => Just(Fate::Missing),
        1 => Just(Fate::Cut),
        1 => Just(Fate::Joined),
        1 => Just(Fate::Noise),
        1 => Just(Fate::Blank),
        1 => Just(Fate::HeaderAgain),
        1 => Just(Fate::SentTwice),
    ]
}

/// A dialect: what stands between fields, how a number is written, how lines end.
#[derive(Debug, Clone, Copy)]
struct Dialect {
    separator: char,
    comma: bool,
    end: &'static str,
    mark: bool,
}

fn dialect() -> impl Strategy<Value = Dialect> {
    (prop::sample::select(vec![',', ';', '\t']), any::<bool>(), any::<bool>(), any::<bool>()).prop_map(
        |(separator, comma, crlf, mark)| Dialect {
            separator,
            comma: comma && separator != ',',
            end: if crlf { "\r\n" } else { "\n" },
            mark,
        },
    )
}

fn file(fates: &[Fate], d: Dialect) -> String {
    let s = d.separator;
    let header = format!("time{s}m05 [mV]{s}t05 [°C]");
    let number = |v: f64| {
        let text = format!("{v:.2}");
        if d.comma { text.replace('.', ",") } else { text }
    };
    let record = |i: i64| {
        let time = rfc3339(UnixSeconds(1_772_323_200 + i * 900)).replace('T', " ").replace('Z', "");
        format!("{time}{s}{}{s}{}", number(880.0 + i as f64 / 8.0), number(4.25 + i as f64 / 100.0))
    };
    let mut text = if d.mark { "\u{feff}".to_owned() } else { String::new() };
    text += &header;
    text += d.end;
    for (i, fate) in (0..).zip(fates) {
        let line = record(i);
        text += &match fate {
            Fate::Whole => line,
            Fate::Missing => {
                let time = line.split(s).next().unwrap().to_owned();
                format!("{time}{s}-9999{s}{}", number(4.25))
            }
            Fate::Cut => line.split(s).next().unwrap().to_owned(),
            Fate::Joined => format!("{line}{s}{line}"),
            Fate::Noise => "\u{1}\u{2}~~ modem reset ~~".to_owned(),
            Fate::Blank => String::new(),
            Fate::HeaderAgain => header.clone(),
            Fate::SentTwice => format!("{line}{}{line}", d.end),
        };
        text += d.end;
    }
    text
}

fn read_text(text: &str) -> Read {
    let text = Text::of_bytes(text.as_bytes()).unwrap();
    let recipe = guess(&text, 0).unwrap().recipe;
    read(&text, &recipe).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases(300)))]

    #[test]
    fn the_sum_agrees(damaged in prop::collection::vec(fate(), 0..60), d in dialect()) {
        let fates: Vec<Fate> = std::iter::repeat_n(Fate::Whole, 80).chain(damaged).collect();
        let of = |kinds: &[Fate]| fates.iter().filter(|f| kinds.contains(f)).count();
        let text = file(&fates, d);
        let got = read_text(&text);
        let twice = of(&[Fate::SentTwice]);
        prop_assert_eq!(got.survey.tally.records, of(&[Fate::Whole, Fate::Missing]) + 2 * twice, "records: {:?}", got.problems);
        prop_assert_eq!(got.survey.records, of(&[Fate::Whole, Fate::Missing]) + twice, "distinct times");
        prop_assert_eq!(got.survey.tally.repeated, of(&[Fate::HeaderAgain]));
        let named: BTreeSet<usize> = got.problems.iter().map(|p| p.line).collect();
        prop_assert_eq!(named.len(), of(&[Fate::Cut, Fate::Joined, Fate::Noise]), "{:?}", got.problems);
        let lines = text.lines().filter(|l| !l.trim().is_empty()).count();
        prop_assert_eq!(got.survey.tally.records + named.len() + got.survey.tally.repeated + 1, lines, "every line that says anything");
        for column in &got.survey.columns {
            prop_assert_eq!(column.valid + column.missing + column.words, got.survey.tally.records, "{}", &column.name);
        }
        prop_assert_eq!(got.survey.columns.len(), 2);
        prop_assert_eq!(got.survey.columns[0].missing, of(&[Fate::Missing]));
        prop_assert_eq!(got.readings.len(), got.survey.columns.iter().map(|c| c.valid).sum::<usize>());
        prop_assert!(got.readings.iter().all(|r| r.value.is_finite()));
    }

    /// The tail of a file that a transfer cut off loses at most its last line, and that one is named.
    #[test]
    fn a_file_cut_anywhere_loses_one_line_at_most(keep in 3_000usize..7_000, d in dialect()) {
        let whole = file(&vec![Fate::Whole; 400], d);
        let mut end = keep.min(whole.len());
        while !whole.is_char_boundary(end) {
            end -= 1;
        }
        let cut = &whole[..end];
        let got = read_text(cut);
        let begun = cut.lines().filter(|l| !l.trim().is_empty()).count() - 1;
        prop_assert_eq!(got.survey.tally.records + got.problems.len(), begun, "{:?}", got.problems);
        prop_assert!(got.problems.len() <= 1);
        let all = read_text(&whole);
        let sure = got.readings.len().saturating_sub(2);
        prop_assert_eq!(&got.readings[..sure], &all.readings[..sure], "what was read before the cut is the same");
    }
}

#[test]
fn an_empty_file_and_one_of_headers_alone_are_told_and_not_read_as_nothing() {
    for text in ["", "\u{feff}", "\n\n\n", "time,m05\n"] {
        let made = Text::of_bytes(text.as_bytes());
        let guessed = made.ok().and_then(|text| guess(&text, 0).ok().map(|recipe| (text, recipe)));
        if let Some((text, recipe)) = guessed {
            let got = read(&text, &recipe.recipe);
            assert!(got.is_err() || got.is_ok_and(|r| r.survey.tally.records == 0 && r.readings.is_empty()));
        }
    }
}
