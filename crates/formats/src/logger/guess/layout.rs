//! How values stand: marks of lines, one reading a line, several loggers in one file.

use super::super::number::Numbers;
use super::super::recipe::{Layout, Tags};
use super::super::units;
use super::cells::{Row, is_missing_word};
use std::collections::{BTreeMap, BTreeSet};

/// Marks in the first cell that tell what kind a line is. `is_record` says whether a row has a time where records have it.
pub(super) fn tags(rows: &[Row], is_record: impl Fn(&Row) -> bool) -> Option<Tags> {
    #[derive(Default)]
    struct Of {
        lines: usize,
        records: usize,
        widths: BTreeSet<usize>,
        early: bool,
    }
    let mut by: BTreeMap<&str, Of> = BTreeMap::new();
    for (i, row) in rows.iter().enumerate() {
        let tag = row.cells.first()?.as_str();
        let of = by.entry(tag).or_default();
        of.lines += 1;
        of.early |= i < 6;
        if is_record(row) {
            of.records += 1;
            of.widths.insert(row.cells.len());
        }
    }
    let short = |t: &str| !t.is_empty() && t.len() <= 12 && !t.contains(':') && !t.contains(' ');
    by.retain(|tag, of| short(tag) && (of.lines >= 2 || of.early));
    let covered: usize = by.values().map(|of| of.lines).sum();
    if by.len() > 14 || covered * 20 < rows.len() * 19 {
        return None;
    }
    let records: Vec<(&str, &Of)> =
        by.iter().filter(|(_, of)| of.records * 10 >= of.lines * 8).map(|(t, of)| (*t, of)).collect();
    let others: Vec<(&str, &Of)> =
        by.iter().filter(|(_, of)| of.records * 10 < of.lines * 8).map(|(t, of)| (*t, of)).collect();
    let widths: BTreeSet<usize> = records.iter().filter_map(|(_, of)| of.widths.first().copied()).collect();
    let several = records.len() >= 2 && widths.len() >= 2;
    // One other mark at the very top is the name of a column.
    if records.is_empty() || !(several || others.len() >= 2) {
        return None;
    }
    let width = *widths.first()?;
    let row_of = |tag: &str| rows.iter().find(|r| r.cells.first().is_some_and(|c| c == tag));
    let header = |tag: &&str| {
        row_of(tag).is_some_and(|r| {
            let filled = r.cells.iter().skip(1).filter(|c| !c.is_empty()).count();
            let words = r
                .cells
                .iter()
                .skip(1)
                .filter(|c| c.starts_with(|c: char| c.is_alphabetic() || "[(°%".contains(c)))
                .count();
            widths.iter().any(|w| r.cells.len().abs_diff(*w) <= 1) && words * 2 > filled && filled * 3 > width
        })
    };
    let owned = |tags: Vec<&str>| tags.into_iter().map(str::to_owned).collect();
    let (header, other): (Vec<&str>, Vec<&str>) = others.into_iter().map(|(t, _)| t).partition(header);
    // A mark whose lines are records too rarely read holds events.
    Some(Tags {
        column: 0,
        records: owned(records.into_iter().map(|(t, _)| t).collect()),
        header: owned(header),
        other: owned(other),
    })
}

/// What the rows show of one of their columns.
struct Shown {
    numeric: f64,
    words: f64,
    empty: f64,
    distinct: BTreeSet<String>,
}

fn shown(rows: &[&Row], column: usize, numbers: Numbers) -> Shown {
    let cells: Vec<&str> = rows.iter().filter_map(|r| r.cells.get(column)).map(String::as_str).collect();
    let share = |n: usize| n as f64 / cells.len().max(1) as f64;
    let numeric = cells.iter().filter(|c| numbers.read(c).is_some()).count();
    let empty = cells.iter().filter(|c| is_missing_word(c)).count();
    let distinct = cells.iter().filter(|c| !c.is_empty()).map(|c| (*c).to_owned()).collect();
    Shown { numeric: share(numeric), words: share(cells.len() - numeric - empty), empty: share(empty), distinct }
}

fn named(name: &str, wanted: &[&str]) -> bool {
    let name = name.to_lowercase();
    name.split(|c: char| !c.is_alphabetic()).any(|w| wanted.contains(&w))
}

const VALUE: [&str; 12] =
    ["value", "val", "wert", "messwert", "reading", "valeur", "valor", "measurement", "data", "result", "v", "mesure"];
const CHANNEL: [&str; 22] = [
    "channel",
    "sensor",
    "variable",
    "parameter",
    "param",
    "probe",
    "port",
    "kanal",
    "capteur",
    "canal",
    "what",
    "quantity",
    "series",
    "tag",
    "socket",
    "point",
    "messgrösse",
    "messgroesse",
    "grandeur",
    "variable_name",
    "name",
    "ch",
];
const NODE: [&str; 14] = [
    "node",
    "logger",
    "box",
    "serial",
    "device",
    "sn",
    "station",
    "unit_id",
    "site",
    "dev",
    "deveui",
    "seriennummer",
    "knoten",
    "noeud",
];
const QUALITY: [&str; 7] = ["q", "qc", "quality", "flag", "status", "qualität", "qualite"];
const ASIDE: [&str; 14] = [
    "by",
    "observer",
    "person",
    "operator",
    "initials",
    "remark",
    "remarks",
    "note",
    "notes",
    "comment",
    "bemerkung",
    "remarque",
    "nota",
    "who",
];
const DEPTH: [&str; 4] = ["depth", "tiefe", "profondeur", "profundidad"];

/// One record a line, or one reading. `repeats`: several lines share a time.
pub(super) fn layout(
    rows: &[&Row],
    aside: &[usize],
    names: &[String],
    numbers: Numbers,
    repeats: bool,
) -> (Layout, Option<usize>) {
    let width = rows.first().map_or(0, |r| r.cells.len());
    let name = |i: usize| names.get(i).map_or("", String::as_str);
    let columns: Vec<(usize, Shown)> =
        (0..width.min(60)).filter(|i| !aside.contains(i)).map(|i| (i, shown(rows, i, numbers))).collect();
    let by_name = |wanted: &[&str]| columns.iter().find(|(i, _)| named(name(*i), wanted)).map(|(i, _)| *i);
    let few = |s: &Shown| s.distinct.len() <= 300 && s.distinct.len() * 3 <= rows.len().max(6);
    let node = columns.iter().find(|(i, s)| {
        let tells = named(name(*i), &NODE) && s.distinct.len() <= 30 && few(s);
        // Without a name: words that stand again and again while times do, and numbers beside.
        tells && s.empty < 0.1
    });
    let node = node.map(|(i, _)| *i);
    let unit = columns.iter().find(|(i, s)| {
        let units = s.distinct.iter().filter(|c| units::known(c).is_some()).count();
        s.words > 0.5
            && (units * 2 > s.distinct.len() && !s.distinct.is_empty()
                || named(name(*i), &["unit", "units", "einheit", "unite", "unité", "unidad"]))
    });
    let unit = unit.map(|(i, _)| *i);
    let note = columns.iter().find(|(i, s)| named(name(*i), &QUALITY) && s.distinct.len() <= 12).map(|(i, _)| *i);
    let depth = columns.iter().find(|(i, s)| named(name(*i), &DEPTH) && few(s)).map(|(i, _)| *i);
    let keys: Vec<usize> = columns
        .iter()
        .filter(|(i, _)| Some(*i) != unit && Some(*i) != note && Some(*i) != node)
        .filter(|(i, s)| {
            let word = s.words > 0.5 && s.distinct.len() <= 300 && !named(name(*i), &ASIDE);
            let figure = Some(*i) == depth || (named(name(*i), &CHANNEL) && few(s));
            word || figure
        })
        .map(|(i, _)| *i)
        .collect();
    let values: Vec<usize> = columns
        .iter()
        .filter(|(i, s)| {
            s.numeric > 0.5 && !keys.contains(i) && Some(*i) != node && Some(*i) != note && Some(*i) != unit
        })
        .map(|(i, _)| *i)
        .collect();
    let value = by_name(&VALUE).filter(|v| values.contains(v)).or(match values[..] {
        [one] => Some(one),
        _ => None,
    });
    let told = by_name(&VALUE).is_some() && by_name(&CHANNEL).is_some();
    let words = keys.iter().filter(|k| columns.iter().any(|(i, s)| i == *k && s.words > 0.5)).count();
    let long = value.filter(|_| {
        !keys.is_empty()
            && (told
                || repeats && values.len() == 1
                || unit.is_some() && values.len() == 1
                || (values.len() == 1 && words >= 2))
    });
    match long {
        Some(value) => (Layout::Long { keys, value, unit, note }, node),
        None => (Layout::Wide, node.or_else(|| unnamed_node(&columns, repeats))),
    }
}

/// A column of few words while every time stands once for each of them: loggers told apart without a name for it.
fn unnamed_node(columns: &[(usize, Shown)], repeats: bool) -> Option<usize> {
    let words: Vec<&(usize, Shown)> =
        columns.iter().filter(|(_, s)| s.words > 0.9 && (2..=20).contains(&s.distinct.len())).collect();
    match words[..] {
        [(i, _)] if repeats => Some(*i),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(lines: &[&str]) -> Vec<Row> {
        (1..)
            .zip(lines.iter().cycle().take(60))
            .map(|(line, l)| Row { line, cells: l.split(';').map(str::to_owned).collect() })
            .collect()
    }

    fn of(lines: &[&str], names: &str, repeats: bool) -> (Layout, Option<usize>) {
        let rows = rows(lines);
        let names: Vec<String> = names.split(';').map(str::to_owned).collect();
        layout(&rows.iter().collect::<Vec<_>>(), &[0], &names, Numbers::default(), repeats)
    }

    fn long(keys: &[usize], value: usize, unit: Option<usize>, note: Option<usize>) -> Layout {
        Layout::Long { keys: keys.to_vec(), value, unit, note }
    }

    #[test]
    fn one_reading_a_line_in_any_order() {
        let got = of(
            &["t;box4;P1;water_content;10;0.18;m3/m3;G", "t;box4;P1;soil_temperature;10;11.0;degC;G"],
            "utc;box;socket;what;depth_cm;val;unit;q",
            true,
        );
        assert_eq!(got, (long(&[2, 3, 4], 5, Some(6), Some(7)), Some(1)));
        assert_eq!(of(&["t;0.18;m5", "t;11.0;t5"], "", true), (long(&[2], 1, None, None), None));
        assert_eq!(of(&["t;m5;0.18", "t;t5;11.0"], "time;sensor;value", false), (long(&[1], 2, None, None), None));
        assert_eq!(of(&["t;3;0.18", "t;4;11.0"], "time;channel;value", true), (long(&[1], 2, None, None), None));
    }

    #[test]
    fn a_remark_or_a_state_beside_values_makes_no_long_file() {
        assert_eq!(of(&["t;12.5;OK", "t;12.6;LOW"], "time;t05;state", false), (Layout::Wide, None));
        assert_eq!(of(&["t;12.5;0.3", "t;12.6;0.31"], "time;t05;wc", false), (Layout::Wide, None));
    }

    #[test]
    fn a_column_that_tells_two_loggers_apart() {
        assert_eq!(of(&["t;N1;12.5;0.3", "t;N2;12.6;0.31"], "time;node;t05;wc", true), (Layout::Wide, Some(1)));
        assert_eq!(of(&["t;12.5;0.3;A7", "t;12.6;0.31;B2"], "", true), (Layout::Wide, Some(3)));
    }

    #[test]
    fn marks_of_lines() {
        let made = rows(&[
            "Z;+0200",
            "H;date;clock;m5;m20",
            "U;;;m3/m3;m3/m3",
            "D;210328;1015;0.1;0.2",
            "D;210328;1030;0.1;0.2",
            "D;210328;1045;0.1;0.2",
            "E;210328;1100;battery 12",
        ]);
        let got = tags(&made, |r| r.cells[0] == "D").unwrap();
        assert_eq!(
            (got.records, got.header, got.other),
            (vec!["D".to_owned()], vec!["H".to_owned(), "U".to_owned()], vec!["E".to_owned(), "Z".to_owned()])
        );
        let arrays =
            rows(&["101;2024;125;100;1;2;3", "102;2024;125;0;5", "101;2024;125;115;1;2;3", "101;2024;125;130;1;2;3"]);
        assert_eq!(tags(&arrays, |_| true).unwrap().records, ["101", "102"]);
        assert_eq!(tags(&rows(&["N1;2024;1.5", "N2;2024;1.5"]), |_| true), None, "two loggers are no two tables");
        let times: Vec<String> = (0..60).map(|i| format!("2024-01-01 {:02}:00;1", i)).collect();
        assert_eq!(tags(&rows(&times.iter().map(String::as_str).collect::<Vec<_>>()), |_| true), None);
    }
}
