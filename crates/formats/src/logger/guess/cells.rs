//! How lines part into cells: every way is tried, and the one that explains most of them is taken.

use super::super::cells::{keyed, split};
use super::super::number::Numbers;
use super::super::recipe::{Cells, Separator};
use super::sample::Sampled;
use std::collections::BTreeMap;

/// Words that stand where there is no reading.
const MISSING_WORDS: [&str; 30] = [
    "nan", "null", "na", "n/a", "n.a.", "none", "nil", "-", "--", "---", "----", "-----", "*", "**", "***", "****",
    "#n/a", "#nv", "#na", "inf", "-inf", "+inf", "missing", "nodata", "no data", "no_data", "void", "?", "nd", "-nan",
];

/// Whether a cell says that there is no reading.
pub(super) fn is_missing_word(cell: &str) -> bool {
    cell.is_empty() || MISSING_WORDS.contains(&cell.to_lowercase().as_str())
}

/// Whether a cell has the look of a date, a time of day, or both, and no separator left in it.
pub(super) fn like_a_time(cell: &str) -> bool {
    let digits = cell.bytes().filter(u8::is_ascii_digit).count();
    let parted = cell.contains(['-', '/', ':']) || cell.matches('.').count() >= 2 || cell.contains(char::is_alphabetic);
    digits >= 3 && cell.len() < 48 && parted && !cell.contains([',', ';', '|', '\t', '='])
}

/// One way to part lines, and what it makes of the sample.
#[derive(Debug, Clone)]
pub(super) struct Parted {
    pub cells: Cells,
    pub numbers: Numbers,
    /// Line and cells of each line that parts.
    pub rows: Vec<Row>,
    /// Numbers of cells that lines usually have, the most usual first.
    pub widths: Vec<usize>,
    /// Share of the cells of all lines that are explained, 0 to 1.
    pub score: f64,
}

/// A line parted.
#[derive(Debug, Clone)]
pub(super) struct Row {
    pub line: usize,
    pub cells: Vec<String>,
}

/// Every way worth trying, the best first.
pub(super) fn parted(sample: &[Sampled]) -> Vec<Parted> {
    let mut ways: Vec<Cells> = Vec::new();
    for between in Separator::ALL {
        for mark in ['=', ':'] {
            let keys =
                |s: &&Sampled| s.text.split(between.char()).filter(|c| keyed(c.trim(), mark).0.is_some()).count() >= 2;
            if sample.iter().filter(keys).count() * 2 > sample.len() {
                ways.push(Cells::Tagged { between, mark });
            }
        }
    }
    ways.extend(Separator::ALL.map(Cells::Delimited));
    ways.extend(fixed(sample));
    let mut out: Vec<Parted> = ways.into_iter().filter_map(|cells| by(sample, cells)).collect();
    out.sort_by(|a, b| b.score.total_cmp(&a.score));
    out
}

fn by(sample: &[Sampled], cells: Cells) -> Option<Parted> {
    let mut rows = Vec::with_capacity(sample.len());
    for line in sample {
        let mut row = Vec::new();
        if split(&line.text, &cells, &mut row).is_ok() {
            rows.push(Row { line: line.number, cells: row.into_iter().map(std::borrow::Cow::into_owned).collect() });
        }
    }
    let widths = usual_widths(&rows);
    let main = *widths.first()?;
    let quoted = sample.iter().any(|l| l.text.contains('"'));
    let mut best: Option<(f64, Numbers)> = None;
    for numbers in dresses(&cells, quoted) {
        let mut good = 0.0;
        for row in rows.iter().filter(|r| widths.contains(&r.cells.len())) {
            let explained = row.cells.iter().map(|c| {
                let value = match cells {
                    Cells::Tagged { mark, .. } => keyed(c, mark).1,
                    _ => c,
                };
                match numbers.read(value) {
                    // Whoever writes a decimal comma means something else by a point.
                    Some(_) if numbers.decimal_comma && numbers.thousands.is_none() && value.contains('.') => 0.5,
                    Some(_) => 1.0,
                    None => f64::from(u8::from(is_missing_word(value) || like_a_time(value))),
                }
            });
            good += explained.sum::<f64>() / row.cells.len() as f64;
        }
        let mut score = good / sample.len() as f64;
        // Blanks also stand within dates and names, and any text can be cut by place: they must be clearly better. A separator
        // that parts little explains little.
        score *= match &cells {
            Cells::Delimited(Separator::Blanks) => 0.72 * (1.0 - 3.0 * short(&rows, main)).max(0.1),
            Cells::Fixed(_) => 0.71,
            Cells::Tagged { .. } => 1.05,
            Cells::Delimited(_) => 1.0,
        };
        score *= 1.0 - 0.3 / main as f64;
        if numbers.thousands.is_some() {
            score -= 0.01;
        }
        if best.is_none_or(|(s, _)| score > s + 1e-9) {
            best = Some((score, numbers));
        }
    }
    let (score, numbers) = best.filter(|b| b.0 > 0.05)?;
    Some(Parted { cells, numbers, rows, widths, score })
}

/// The share of lines that begin like a record and have fewer cells than most: by blanks, an empty cell is none.
fn short(rows: &[Row], main: usize) -> f64 {
    let begins = |r: &&Row| r.cells.first().is_some_and(|c| c.starts_with(|c: char| c.is_ascii_digit()));
    let n = rows.iter().filter(begins).filter(|r| r.cells.len() < main).count();
    n as f64 / rows.len().max(1) as f64
}

/// How numbers may be written between such separators.
fn dresses(cells: &Cells, quoted: bool) -> Vec<Numbers> {
    let comma_is_taken =
        matches!(cells, Cells::Delimited(Separator::Comma) | Cells::Tagged { between: Separator::Comma, .. })
            && !quoted;
    let blank_is_taken = matches!(cells, Cells::Delimited(Separator::Blanks) | Cells::Fixed(_));
    let mut out = vec![Numbers::default()];
    if !blank_is_taken {
        out.push(Numbers { decimal_comma: false, thousands: Some(' ') });
    }
    if !comma_is_taken {
        out.push(Numbers { decimal_comma: true, thousands: None });
        out.push(Numbers { decimal_comma: true, thousands: Some('.') });
        out.push(Numbers { decimal_comma: false, thousands: Some(',') });
        if !blank_is_taken {
            out.push(Numbers { decimal_comma: true, thousands: Some(' ') });
        }
    }
    out.push(Numbers { decimal_comma: false, thousands: Some('\'') });
    out
}

/// The numbers of cells that many lines have, two or more, the most usual first.
fn usual_widths(rows: &[Row]) -> Vec<usize> {
    let mut counts: BTreeMap<usize, usize> = BTreeMap::new();
    for row in rows.iter().filter(|r| r.cells.len() >= 2) {
        *counts.entry(row.cells.len()).or_default() += 1;
    }
    let least = (rows.len() / 60).max(3);
    let mut usual: Vec<(usize, usize)> = counts.iter().map(|(w, n)| (*w, *n)).filter(|(_, n)| *n >= least).collect();
    if usual.is_empty() {
        usual = counts.into_iter().max_by_key(|(w, n)| (*n, *w)).into_iter().collect();
    }
    usual.sort_by_key(|(_, n)| std::cmp::Reverse(*n));
    usual.into_iter().map(|(w, _)| w).collect()
}

/// Columns by place: numbers stand at the right of their columns, so that a column ends where nearly every line has a character and
/// the next place is mostly blank.
fn fixed(sample: &[Sampled]) -> Option<Cells> {
    let begins =
        |s: &&Sampled| s.text.trim_start().starts_with(|c: char| c.is_ascii_digit()) && !s.text.contains(['\t', ';']);
    let lines: Vec<Vec<bool>> =
        sample.iter().filter(begins).map(|s| s.text.chars().take(2000).map(|c| !c.is_whitespace()).collect()).collect();
    let mut lengths: Vec<usize> = lines.iter().map(Vec::len).collect();
    lengths.sort_unstable();
    let usual = *lengths.get(lengths.len() / 2)?;
    let lines: Vec<Vec<bool>> = lines.into_iter().filter(|l| l.len().abs_diff(usual) <= usual / 3).collect();
    if lines.len() < 8 || lines.len() * 2 < sample.len() {
        return None;
    }
    let filled = |at: usize| lines.iter().filter(|l| l.get(at) == Some(&true)).count() as f64 / lines.len() as f64;
    let share: Vec<f64> = (0..=usual).map(filled).collect();
    let texts: Vec<Vec<char>> = sample.iter().filter(begins).map(|s| s.text.chars().take(2000).collect()).collect();
    let mut starts = vec![0];
    for at in 1..usual {
        if touches(&texts, at) {
            starts.push(at);
            continue;
        }
        // Cells that are empty in some lines leave their last place blank there.
        if share[at - 1] >= 0.6 && share[at] <= 0.5 && share[at - 1] - share[at] >= 0.3 {
            starts.push(at);
        }
    }
    (starts.len() >= 3).then_some(Cells::Fixed(starts))
}

/// Whether a number begins with its sign where another one with decimals ends, in many lines: two columns that touch.
fn touches(lines: &[Vec<char>], at: usize) -> bool {
    let signed = lines.iter().filter(|l| {
        let sign = matches!(l.get(at), Some('-' | '+'));
        sign && l[at - 1].is_ascii_digit() && l[..at].iter().rev().take_while(|c| !c.is_whitespace()).any(|c| *c == '.')
    });
    signed.count() * 4 > lines.len()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn best(lines: &[&str]) -> Parted {
        let sample: Vec<Sampled> = lines
            .iter()
            .cycle()
            .take(60)
            .enumerate()
            .map(|(i, l)| Sampled { number: i + 1, text: (*l).into() })
            .collect();
        parted(&sample).remove(0)
    }

    #[test]
    fn each_separator_and_each_dress_of_numbers() {
        for (line, cells, comma, thousands) in [
            ("2024-01-01 00:00,1.5,2.5", Cells::Delimited(Separator::Comma), false, None),
            ("1.2.2024 00:00;1,5;2,5", Cells::Delimited(Separator::Semicolon), true, None),
            ("\"1.2.2024 00:00\",\"1,5\",\"2,5\"", Cells::Delimited(Separator::Comma), true, None),
            ("1.2.2024 00:00;1.234,5;2,5", Cells::Delimited(Separator::Semicolon), true, Some('.')),
            ("2024-01-01 00:00;1 234.5;2.5", Cells::Delimited(Separator::Semicolon), false, Some(' ')),
            ("2024-01-01\t00:00\t1.5", Cells::Delimited(Separator::Tab), false, None),
            ("2024-01-01 00:00|1.5|2", Cells::Delimited(Separator::Bar), false, None),
            ("2024 125 115  0.1182  0.17", Cells::Delimited(Separator::Blanks), false, None),
            (
                "t=2024-01-01T00:00;m5=0.31;t5=4.2",
                Cells::Tagged { between: Separator::Semicolon, mark: '=' },
                false,
                None,
            ),
        ] {
            let got = best(&[line]);
            assert_eq!(
                (&got.cells, got.numbers.decimal_comma, got.numbers.thousands),
                (&cells, comma, thousands),
                "{line}"
            );
        }
    }

    #[test]
    fn columns_by_place_are_found_where_blanks_do_not_part_them() {
        let got = best(&[
            "2024-01-01 00:00   12.3 -14.5",
            "2024-01-01 00:15    2.3       ",
            "2024-01-01 00:30  -12.3-114.5",
            "2024-01-01 00:45        -14.5",
        ]);
        let Cells::Fixed(starts) = &got.cells else { panic!("{:?}", got.cells) };
        assert_eq!(got.rows[2].cells[starts.len() - 2..], ["-12.3", "-114.5"]);
        assert_eq!(got.rows[3].cells[starts.len() - 2..], ["", "-14.5"]);
    }
}
