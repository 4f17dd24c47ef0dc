//! Which lines are headers, and what each line of one says.

use super::number::Numbers;
use super::recipe::{Header, Named};
use super::units;
use std::collections::BTreeSet;

/// Words that say how a value was made of its samples.
const PROCESSING: [&str; 22] = [
    "avg", "smp", "sample", "min", "max", "tot", "total", "sum", "std", "mean", "med", "median", "inst", "last",
    "mittel", "summe", "moy", "moyenne", "prom", "avg.", "act", "raw",
];

/// Names that a time goes by, in English, German, French and Spanish.
const TIME_NAMES: [&str; 22] = [
    "time",
    "date",
    "timestamp",
    "datetime",
    "stamp",
    "zeit",
    "datum",
    "uhrzeit",
    "zeitpunkt",
    "heure",
    "horodatage",
    "fecha",
    "hora",
    "tiempo",
    "utc",
    "day",
    "hour",
    "clock",
    "when",
    "year",
    "doy",
    "hhmm",
];

/// Whether a column's name says that it is a time.
pub(super) fn names_time(name: &str) -> bool {
    let name = name.to_lowercase();
    name.split(|c: char| !c.is_alphabetic()).any(|w| TIME_NAMES.contains(&w))
        || TIME_NAMES[..10].iter().any(|t| name.contains(t))
}

/// Whether a line that is no record looks like part of a header: words, in about as many fields as records have.
pub(super) fn looks_like_header(row: &[impl AsRef<str>], time: &str, numbers: Numbers, widths: &[usize]) -> bool {
    let filled: Vec<&str> = row.iter().map(AsRef::as_ref).filter(|c| !c.is_empty()).collect();
    let figures = filled.iter().filter(|c| numbers.read(c).is_some()).count();
    let wide_enough = widths.is_empty() || widths.iter().any(|w| row.len().abs_diff(*w) <= 1);
    let clean = !filled.iter().any(|c| c.chars().any(|c| c.is_control() || c == '\u{fffd}'));
    let starts_late = !time.trim_start().starts_with(|c: char| c.is_ascii_digit());
    row.len() >= 2
        && filled.len() * 3 >= row.len()
        && figures * 2 < filled.len().max(1)
        && wide_enough
        && clean
        && starts_late
}

/// How far a row of cells is one of units: the share of its filled cells that are.
fn units_share(row: &[String]) -> f64 {
    let filled: Vec<_> = row.iter().filter(|c| !c.is_empty()).collect();
    if filled.is_empty() {
        return 0.0;
    }
    let unit = |c: &&&String| {
        units::known(c).is_some()
            || matches!(c.to_lowercase().as_str(), "utc" | "ts" | "rn" | "-" | "none" | "unitless")
    };
    filled.iter().filter(unit).count() as f64 / filled.len() as f64
}

fn processing_share(row: &[String]) -> f64 {
    let filled: Vec<String> = row.iter().filter(|c| !c.is_empty()).map(|c| c.to_lowercase()).collect();
    let made = filled.iter().filter(|c| PROCESSING.contains(&c.as_str())).count();
    if filled.is_empty() { 0.0 } else { made as f64 / filled.len() as f64 }
}

/// Names and units of the columns by the lines of a header, `width` fields wide. Where names stand several times, the other lines
/// (depths, processing) tell them apart, and else their place.
pub(super) fn resolve(lines: &[Vec<String>], header: &Header, width: usize) -> Vec<Named> {
    let units = header.units.filter(|i| *i < lines.len()).or_else(|| {
        // One line alone holds names.
        let told = |i: &usize| lines.len() > 1 && Some(*i) != header.names && units_share(&lines[*i]) >= 0.5;
        (0..lines.len()).filter(told).max_by(|a, b| units_share(&lines[*a]).total_cmp(&units_share(&lines[*b])))
    });
    let score = |i: usize| {
        let row = &lines[i];
        let filled: Vec<_> = row.iter().filter(|c| !c.is_empty()).collect();
        let distinct: BTreeSet<_> = filled.iter().collect();
        let figures = filled.iter().filter(|c| c.starts_with(|c: char| c.is_ascii_digit() || c == '-')).count();
        let timely = row.iter().any(|c| names_time(c));
        distinct.len() as f64 + filled.len() as f64 - figures as f64 * 1.5 - processing_share(row) * width as f64 * 2.0
            + if timely { 1.0 + width as f64 * 0.3 } else { 0.0 }
            - (row.len().abs_diff(width)) as f64
    };
    let told = header.names.filter(|i| *i < lines.len());
    let names = told.or_else(|| {
        let others = (0..lines.len()).filter(|i| Some(*i) != units);
        others.max_by(|a, b| score(*a).total_cmp(&score(*b)).then(a.cmp(b)))
    });
    let cell = |line: Option<usize>, i: usize| line.and_then(|l| lines[l].get(i)).cloned().unwrap_or_default();
    let width = width.max(names.map_or(0, |l| lines[l].len()));
    let mut out: Vec<Named> = (0..width).map(|i| Named { name: cell(names, i), unit: cell(units, i) }).collect();
    for line in (0..lines.len()).filter(|i| Some(*i) != units && Some(*i) != names) {
        let told_apart = out.iter().map(|n| &n.name).collect::<BTreeSet<_>>().len() == out.len();
        let several = lines[line].iter().filter(|c| !c.is_empty()).count() * 2 > width;
        if !told_apart && several {
            for (i, named) in out.iter_mut().enumerate() {
                let more = cell(Some(line), i);
                let shared = !named.name.is_empty() && !more.is_empty();
                named.name = if shared { format!("{} {more}", named.name) } else { format!("{}{more}", named.name) };
            }
        }
    }
    unlike(&mut out);
    out
}

/// Gives columns without a name their place for one, and tells apart those of one name.
pub(super) fn unlike(columns: &mut [Named]) {
    let mut seen = BTreeSet::new();
    for (i, column) in columns.iter_mut().enumerate() {
        if column.name.is_empty() {
            column.name = format!("column {}", i + 1);
        }
        if !seen.insert(column.name.clone()) {
            column.name = format!("{} (column {})", column.name, i + 1);
            seen.insert(column.name.clone());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(lines: &[&str]) -> Vec<Vec<String>> {
        lines.iter().map(|l| l.split(';').map(str::to_owned).collect()).collect()
    }

    fn told(lines: &[&str]) -> Vec<(String, String)> {
        resolve(&rows(lines), &Header::default(), 3).into_iter().map(|n| (n.name, n.unit)).collect()
    }

    fn pairs(list: &[(&str, &str)]) -> Vec<(String, String)> {
        list.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect()
    }

    #[test]
    fn names_units_and_processing_in_any_order() {
        let named = pairs(&[("time", ""), ("m05", "mV"), ("t05", "degC")]);
        for lines in [
            ["time;m05;t05", ";mV;degC", ";Avg;Smp"],
            [";Avg;Smp", ";mV;degC", "time;m05;t05"],
            [";mV;degC", "time;m05;t05", ";Avg;Smp"],
        ] {
            assert_eq!(told(&lines), named, "{lines:?}");
        }
        assert_eq!(
            told(&["node 07;a wood;program v2", "time;m05;t05", ";mV;degC"]),
            named,
            "a title of as many fields"
        );
    }

    #[test]
    fn names_that_stand_twice_are_told_apart_by_depth_processing_or_place() {
        assert_eq!(told(&["time;wc;wc", "depth;5;20"]), pairs(&[("time depth", ""), ("wc 5", ""), ("wc 20", "")]));
        assert_eq!(told(&["time;T;T", ";min;max", ";°C;°C"]), pairs(&[("time", ""), ("T min", "°C"), ("T max", "°C")]));
        assert_eq!(told(&["time;T;T"]), pairs(&[("time", ""), ("T", ""), ("T (column 3)", "")]));
        assert_eq!(told(&["time;;T"]), pairs(&[("time", ""), ("column 2", ""), ("T", "")]));
    }

    #[test]
    fn a_torn_record_is_no_header_and_noise_none_either() {
        let like = |line: &str| {
            looks_like_header(&rows(&[line])[0], line.split(';').next().unwrap(), Numbers::default(), &[3])
        };
        assert!(like("time;m05;t05") && like(";mV;degC"));
        for line in ["2026-13-01;err;x", "\u{1}~~;reset;~~", "Dear all", "a;b;c;d;e", "x;1;2"] {
            assert!(!like(line), "{line}");
        }
    }
}
