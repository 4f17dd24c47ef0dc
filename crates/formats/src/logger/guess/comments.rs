//! Comment lines that say what the columns are: a commented header, or `c4 c5 water content at 5, 20 cm in m3/m3`.

use super::super::cells::split;
use super::super::recipe::{Cells, Named};
use super::super::units;

/// Names and units of `width` columns, as comment lines tell them; empty where they do not.
pub(super) fn columns(comments: &[&str], prefix: &str, cells: &Cells, width: usize) -> Vec<Named> {
    let bare: Vec<&str> = comments.iter().map(|c| c.trim_start().trim_start_matches(prefix).trim()).collect();
    let numbered = by_number(&bare, width);
    if !numbered.is_empty() {
        return numbered;
    }
    // The last comment that parts like a record and holds words is its header, the next one perhaps its units.
    let rows: Vec<Vec<String>> = bare
        .iter()
        .filter_map(|c| {
            let mut row = Vec::new();
            split(c, cells, &mut row).ok()?;
            Some(row.into_iter().map(|c| c.to_string()).collect())
        })
        .filter(|r: &Vec<String>| r.len() == width)
        .collect();
    let words = |r: &&Vec<String>| r.iter().filter(|c| c.starts_with(|c: char| c.is_alphabetic())).count() * 2 > width;
    if !rows.iter().any(|r| words(&r)) || rows.len() > 6 {
        return Vec::new();
    }
    super::super::header::resolve(&rows, &Default::default(), width)
}

/// `c1`, `col 4:`, `column 4 =`, `4:` at the beginning of a text: the number, and what follows.
fn number_at(text: &str) -> Option<(usize, &str)> {
    let text = text.trim_start();
    let lower = text.to_lowercase();
    let worded = ["column", "spalte", "colonne", "columna", "col", "c", "f"].iter().find(|w| lower.starts_with(*w));
    let rest = text.get(worded.map_or(0, |w| w.len())..)?.trim_start_matches([' ', '.', '#']);
    let n = rest.bytes().take_while(u8::is_ascii_digit).count();
    let after = &rest[n..];
    let number = rest[..n].parse().ok().filter(|n| (1..=10_000).contains(n))?;
    let sign = after.trim_start().starts_with([':', '=']);
    // A bare figure needs a sign behind it; a word with a figure needs an end.
    let fits = if worded.is_some() { after.is_empty() || after.starts_with([' ', ':', '=', ',', '-']) } else { sign };
    fits.then(|| (number, after.trim_start_matches([' ', ':', '=', ',', '-'])))
}

fn by_number(comments: &[&str], width: usize) -> Vec<Named> {
    let mut out: Vec<Named> = vec![Named::default(); width];
    let mut found = 0;
    for comment in comments {
        // Each word that names a column begins a part, those right behind one another share it.
        let words: Vec<(usize, &str)> =
            comment.split_whitespace().map(|w| (w.as_ptr() as usize - comment.as_ptr() as usize, w)).collect();
        let mut at = 0;
        while at < words.len() {
            let mut numbers = Vec::new();
            while at < words.len()
                && let Some((number, _)) = number_at(&comment[words[at].0..]).filter(|_| words[at].1.len() <= 7)
            {
                numbers.push(number);
                at += 1 + usize::from(words[at].1.chars().all(char::is_alphabetic));
            }
            if numbers.is_empty() {
                at += 1;
                continue;
            }
            let from = words.get(at).map_or(comment.len(), |w| w.0);
            let next = (at..words.len()).find(|i| {
                number_at(&comment[words[*i].0..])
                    .is_some_and(|_| words[*i].1.len() <= 7 && !words[*i].1.starts_with(|c: char| c.is_ascii_digit()))
            });
            let to = next.map_or(comment.len(), |i| words[i].0);
            at = next.unwrap_or(words.len());
            let said = comment.get(from..to).unwrap_or_default().trim().trim_end_matches([',', ';']);
            found += share_out(&numbers, said, &mut out);
        }
    }
    if found * 2 >= width { out } else { Vec::new() }
}

/// Gives columns their part of a description, and returns how many got one.
fn share_out(numbers: &[usize], said: &str, out: &mut [Named]) -> usize {
    let (what, unit) = split_unit(said.trim_start_matches([' ', ':', '=', ',', '-']));
    let (before, list, after) = list_in(what, numbers.len());
    let mut given = 0;
    for (i, number) in numbers.iter().enumerate() {
        let Some(named) = number.checked_sub(1).and_then(|n| out.get_mut(n)) else { continue };
        let name = match &list {
            Some(list) => format!("{before} {} {after}", list[i]),
            None => what.to_owned(),
        };
        named.name = name.split_whitespace().collect::<Vec<_>>().join(" ");
        named.unit = unit.to_owned();
        given += usize::from(!named.name.is_empty());
    }
    given
}

/// A description without its unit ("in m3/m3", "[mm]"), and the unit.
fn split_unit(said: &str) -> (&str, &str) {
    if let Some((what, unit)) = said.rsplit_once(" in ")
        && units::known(unit).is_some()
    {
        return (what, unit.trim());
    }
    for open in ['[', '('] {
        if let Some((what, unit)) = said.rsplit_once(open)
            && units::known(unit).is_some()
        {
            return (what.trim(), units::bare(unit));
        }
    }
    (said, "")
}

/// "water content at 5, 20, 50 cm" for three columns: what stands before the list, the list, and what stands behind it.
fn list_in(what: &str, n: usize) -> (&str, Option<Vec<&str>>, &str) {
    let Some(start) = what.find(|c: char| c.is_ascii_digit()).filter(|_| n > 1) else { return (what, None, "") };
    let rest = &what[start..];
    let end = rest.find(|c: char| !(c.is_ascii_digit() || ", .&/".contains(c))).unwrap_or(rest.len());
    let list: Vec<&str> =
        rest[..end].split([',', ' ', '&', '/']).filter(|p| p.starts_with(|c: char| c.is_ascii_digit())).collect();
    let before = what[..start].trim_end().trim_end_matches(" at").trim_end_matches(" in");
    if list.len() == n { (before, Some(list), &rest[end..]) } else { (what, None, "") }
}

#[cfg(test)]
mod tests {
    use super::super::super::recipe::Separator;
    use super::*;

    fn told(comments: &[&str], width: usize) -> Vec<(String, String)> {
        columns(comments, "#", &Cells::Delimited(Separator::Blanks), width)
            .into_iter()
            .map(|n| (n.name, n.unit))
            .collect()
    }

    #[test]
    fn columns_by_their_numbers() {
        let got = told(
            &[
                "# dune record, written by box 3",
                "# c1 year  c2 day of year  c3 hhmm, times are UTC, end of interval",
                "# c4 c5 c6 water content at 5, 20, 50 cm in m3/m3",
                "# c7 soil temperature at 5 cm in degC   c8 rain in mm",
                "# -9999 not measured, 6999 out of range",
            ],
            8,
        );
        let named = |i: usize| (got[i].0.as_str(), got[i].1.as_str());
        assert_eq!(named(3), ("water content 5 cm", "m3/m3"));
        assert_eq!(named(5), ("water content 50 cm", "m3/m3"));
        assert_eq!(named(6), ("soil temperature at 5 cm", "degC"));
        assert_eq!(named(7), ("rain", "mm"));
        let got = told(&["# column 1: time", "# column 2: soil moisture 10 cm [%]", "# 3 = battery (V)"], 3);
        assert_eq!(
            got,
            [("time", ""), ("soil moisture 10 cm", "%"), ("battery", "V")].map(|(a, b)| (a.to_owned(), b.to_owned()))
        );
    }

    #[test]
    fn a_header_behind_a_comment_mark_and_talk_that_is_none() {
        let got = told(&["# set up by the hut", "# time wc_5 t_5", "# - m3/m3 degC"], 3);
        assert_eq!(got[1], ("wc_5".to_owned(), "m3/m3".to_owned()));
        assert_eq!(told(&["# the year 2024 was dry", "# see box 3"], 6), []);
        assert_eq!(told(&[], 4), []);
    }
}
