//! Which columns hold the time, and in which form: every form is tried on likely columns, and the record's own steady pace decides.

use super::super::clock::zone_word;
use super::super::form::TimeForm;
use super::super::header::names_time;
use super::cells::Row;
use super::families::{FAMILIES, Family};
use std::collections::{BTreeMap, BTreeSet};

/// What was found of the time.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct TimeFound {
    pub columns: Vec<usize>,
    pub form: String,
    pub newest_first: bool,
    pub order: DayOrder,
    pub score: f64,
}

/// What tells the day from the month.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum DayOrder {
    /// The form leaves no doubt.
    Plain,
    /// So many days of the sample fit only this order.
    Days(usize),
    /// Only so the record runs on steadily.
    Steady,
    /// Nothing in the file does.
    Open,
}

/// The columns and the form under which most rows give a time, and most times follow steadily. `names` may be empty; of equal
/// claims the one by name is taken.
pub(super) fn find(rows: &[&Row], width: usize, names: &[String]) -> Option<TimeFound> {
    // Neighbouring lines tell the pace; of a large sample every stretch is thinned to its beginning.
    let rows: Vec<&Row> = if rows.len() > 600 {
        rows.iter().copied().enumerate().filter(|(i, _)| i % 40 < 25).map(|(_, r)| r).collect()
    } else {
        rows.to_vec()
    };
    let probes: Vec<&Row> = (0..rows.len().min(7)).map(|i| rows[i * rows.len() / rows.len().min(7)]).collect();
    let mut best: Option<TimeFound> = None;
    for columns in candidates(width, names) {
        let text = |row: &Row| -> Option<String> {
            let cells: Option<Vec<&str>> = columns.iter().map(|c| row.cells.get(*c).map(String::as_str)).collect();
            Some(cells?.join(" "))
        };
        let of_probes: Vec<String> = probes.iter().filter_map(|r| text(r)).collect();
        if of_probes.iter().filter(|t| t.bytes().any(|b| b.is_ascii_digit())).count() * 2 <= probes.len() {
            continue;
        }
        let mut texts: Option<Vec<(usize, Option<String>)>> = None;
        let needed = (probes.len() * 2).div_ceil(3).max(1);
        let begins =
            |f: &&Family| f.date.as_ref().is_none_or(|d| of_probes.iter().filter(|t| d.begins(t)).count() >= needed);
        for (form_text, form) in FAMILIES.iter().filter(begins).flat_map(|f| &f.forms) {
            let mut failed = 0;
            let fits = of_probes.iter().all(|t| {
                form.read(t).is_some() || {
                    failed += 1;
                    failed + needed <= probes.len()
                }
            });
            if !fits || of_probes.len() < needed {
                continue;
            }
            let texts = texts.get_or_insert_with(|| rows.iter().map(|r| (r.line, text(r))).collect());
            let Some((score, newest_first)) = score(texts, form, form_text, columns.len()) else { continue };
            let named = columns.iter().any(|c| names.get(*c).is_some_and(|n| names_time(n)));
            let score = score + if named { 0.4 } else { 0.0 } - 0.02 * columns[0] as f64;
            if best.as_ref().is_none_or(|b| score > b.score + 1e-9) {
                best = Some(TimeFound {
                    columns: columns.clone(),
                    form: form_text.clone(),
                    newest_first,
                    order: DayOrder::Plain,
                    score,
                });
            }
        }
    }
    let mut best = best?;
    settle_order(&mut best, &rows);
    Some(best)
}

/// Columns that may hold the time: by name first, then one, two or more neighbours.
fn candidates(width: usize, names: &[String]) -> Vec<Vec<usize>> {
    let mut out: Vec<Vec<usize>> = Vec::new();
    let by_name = |wanted: &[&str]| {
        names.iter().position(|n| wanted.contains(&n.to_lowercase().trim_matches(|c: char| !c.is_alphabetic())))
    };
    let year = by_name(&["year", "yyyy", "jahr", "annee", "année", "año", "ano", "yr"]);
    let month = by_name(&["month", "mm", "monat", "mois", "mes", "mo", "mon"]);
    let day = by_name(&["day", "dd", "tag", "jour", "dia", "día"]);
    let doy = by_name(&["doy", "julian", "jday", "day of year", "dayofyear", "jd", "jul"]);
    let hour = by_name(&["hour", "hh", "stunde", "heure", "hora", "hr", "h"]);
    let minute = by_name(&["minute", "min", "minuten", "minuto", "mi"]);
    let second = by_name(&["second", "sec", "ss", "sekunde", "seconde", "segundo"]);
    let hhmm = by_name(&["hhmm", "time", "zeit", "hm", "clock"]);
    for parts in [
        vec![year, month, day, hour, minute, second],
        vec![year, month, day, hour, minute],
        vec![year, doy, hour, minute],
        vec![year, doy, hhmm],
        vec![year, month, day, hhmm],
    ] {
        if let Some(columns) = parts.into_iter().collect::<Option<Vec<usize>>>() {
            out.push(columns);
        }
    }
    let timely: Vec<usize> = (0..names.len().min(width)).filter(|i| names_time(&names[*i])).take(6).collect();
    for a in &timely {
        out.push(vec![*a]);
        out.extend(timely.iter().filter(|b| *b != a).map(|b| vec![*a, *b]));
    }
    for i in 0..width.min(40) {
        out.push(vec![i]);
    }
    for i in 0..width.saturating_sub(1).min(12) {
        out.push(vec![i, i + 1]);
        out.push(vec![i + 1, i]);
    }
    for n in 3..=6 {
        for i in 0..(width + 1).saturating_sub(n).min(6) {
            out.push((i..i + n).collect());
        }
    }
    let mut seen = BTreeSet::new();
    out.retain(|c| c.iter().all(|i| *i < width) && seen.insert(c.clone()));
    out
}

/// How well a form explains the texts, and whether time runs backwards. `None`: it does not.
fn score(texts: &[(usize, Option<String>)], form: &TimeForm, form_text: &str, columns: usize) -> Option<(f64, bool)> {
    let times: Vec<Option<i64>> = texts
        .iter()
        .map(|(_, t)| t.as_ref().and_then(|t| form.read(t)).map(|c| c.seconds - i64::from(c.offset.unwrap_or(0))))
        .collect();
    let read = times.iter().flatten().count();
    if read * 10 < texts.len() * 8 || read < 1 {
        return None;
    }
    const YEARS: std::ops::Range<i64> = 315_532_800..4_102_444_800; // 1980 to 2100
    let sensible = times.iter().flatten().filter(|t| YEARS.contains(*t)).count();
    if sensible * 2 < read {
        return None;
    }
    let mut steps: BTreeMap<i64, usize> = BTreeMap::new();
    let (mut forward, mut backward, mut still, mut pairs) = (0, 0, 0, 0);
    for (a, b) in texts.iter().zip(&times).zip(texts.iter().zip(&times).skip(1)) {
        let (((la, _), ta), ((lb, _), tb)) = (a, b);
        let (Some(ta), Some(tb)) = (ta, tb) else { continue };
        if lb - la != 1 {
            continue;
        }
        pairs += 1;
        match tb - ta {
            0 => still += 1,
            s if s > 0 => forward += 1,
            _ => backward += 1,
        }
        *steps.entry((tb - ta).abs()).or_default() += 1;
    }
    let moved = (forward + backward).max(1) as f64;
    let mode = steps.iter().filter(|(s, _)| **s > 0).map(|(_, n)| *n).max().unwrap_or(0) as f64;
    let (steady, onward) = (mode / moved, forward.max(backward) as f64 / moved);
    let still_share = still as f64 / pairs.max(1) as f64;
    let numeric = !form_text.contains(['-', '/', '.', ':', 'b', 'T', 'p']);
    // A plain number is a time only if it goes on as time does.
    if numeric && pairs >= 4 && (steady < 0.4 || onward < 0.7) {
        return None;
    }
    if numeric
        && pairs < 4
        && !form_text.starts_with("%Y")
        && form_text.len() < 6
        && form_text != "%s"
        && form_text != "%Q"
    {
        return None;
    }
    let usual = steps.iter().filter(|(s, _)| **s > 0).max_by_key(|(_, n)| **n).map_or(0, |(s, _)| *s);
    if numeric && usual > 32 * 86_400 {
        return None;
    }
    let low = times.iter().flatten().min().copied().unwrap_or(0);
    let high = times.iter().flatten().max().copied().unwrap_or(0);
    let span_days = (high - low) as f64 / 86_400.0;
    let mut score = 10.0 * read as f64 / texts.len() as f64 + 4.0 * onward + 4.0 * steady - 4.0 * still_share;
    score -= 0.15 * columns as f64 + 0.2 * (1.0 + span_days).log10();
    score -= if numeric { 1.0 } else { 0.0 };
    // Of two readings of the same digits the plainer one: hours alone, or hour and minute as one number, only where nothing else fits.
    score -= 0.3 * f64::from(u8::from(form_text.contains("%K") || (columns == 1 && form_text.ends_with("%H"))));
    // A day of the year that is never above 31 may be a month or a day.
    score -= 0.3 * f64::from(u8::from(form_text.contains("%j")));
    score -= 0.05 * f64::from(u8::from(form_text.contains("%Z")));
    score -= 0.01 * form_text.len() as f64 / 10.0;
    if form.has_zone_word() {
        let words: BTreeSet<String> =
            texts.iter().filter_map(|(_, t)| Some(form.read(t.as_ref()?)?.zone?.to_uppercase())).collect();
        let pair = |a: &str, b: &str| words.len() == 2 && words.contains(a) && words.contains(b);
        let told = words.iter().all(|w| zone_word(w).is_some())
            || pair("S", "N")
            || pair("S", "W")
            || pair("D", "S")
            || pair("SO", "WI");
        score += if told { 0.6 } else { -1.0 };
    }
    Some((score, backward > forward))
}

/// The form with day and month changed over.
fn changed_over(form: &str) -> Option<String> {
    let year_first = form.starts_with("%Y") || form.starts_with("%y");
    (form.contains("%d") && form.contains("%m") && !year_first)
        .then(|| form.replace("%d", "\u{1}").replace("%m", "%d").replace('\u{1}', "%m"))
}

/// Says what tells the day from the month; where nothing does, the day is taken to stand first.
fn settle_order(found: &mut TimeFound, rows: &[&Row]) {
    let Some(other) = changed_over(&found.form) else { return };
    let (Ok(form), Ok(over)) = (TimeForm::new(&found.form), TimeForm::new(&other)) else { return };
    let text = |r: &&Row| {
        found.columns.iter().filter_map(|c| r.cells.get(*c)).map(String::as_str).collect::<Vec<_>>().join(" ")
    };
    let texts: Vec<String> = rows.iter().map(text).filter(|t| form.read(t).is_some()).collect();
    let day = |t: &String| form.read(t).map(|c| c.seconds.div_euclid(86_400));
    let only: BTreeSet<i64> = texts.iter().filter(|t| over.read(t).is_none()).filter_map(day).collect();
    if !only.is_empty() {
        found.order = DayOrder::Days(only.len());
        return;
    }
    let steps = |form: &TimeForm| -> BTreeSet<i64> {
        let times: Vec<i64> = texts.iter().filter_map(|t| form.read(t)).map(|c| c.seconds).collect();
        times.windows(2).map(|w| (w[1] - w[0]).abs()).collect()
    };
    let (here, there) = (steps(&form), steps(&over));
    let largest = |s: &BTreeSet<i64>| s.last().copied().unwrap_or(0);
    if largest(&here) < largest(&there) {
        found.order = DayOrder::Steady;
        return;
    }
    found.order = DayOrder::Open;
    if !found.form.contains("%y%m") && found.form.find("%m") < found.form.find("%d") {
        found.form = other;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(lines: impl IntoIterator<Item = String>) -> Vec<Row> {
        (1..).zip(lines).map(|(line, l)| Row { line, cells: l.split(';').map(str::to_owned).collect() }).collect()
    }

    fn found(rows: &[Row], names: &[&str]) -> Option<TimeFound> {
        let names: Vec<String> = names.iter().map(|n| (*n).to_owned()).collect();
        find(&rows.iter().collect::<Vec<_>>(), rows[0].cells.len(), &names)
    }

    /// Two days and a half of quarter-hours in a form of strftime, each with two values.
    fn quarters(form: &str) -> Vec<Row> {
        rows((0..240).map(|i| {
            let t = jiff::civil::date(2024, 5, 11).at(20, 0, 0, 0) + jiff::SignedDuration::from_mins(15 * i);
            let epoch = t.duration_since(jiff::civil::date(1970, 1, 1).at(0, 0, 0, 0)).as_secs();
            format!("{};{}.25;{}", t.strftime(&form.replace("%s", &epoch.to_string())), 10 + i % 7, 880 + i % 11)
        }))
    }

    #[test]
    fn each_form_is_found_again_from_times_written_in_it() {
        for (written, columns, form) in [
            ("%Y-%m-%d %H:%M:%S", vec![0], "%Y-%m-%d %H:%M:%S"),
            ("%Y-%m-%dT%H:%M:%S.250Z", vec![0], "%Y-%m-%dT%H:%M:%S%f %z"),
            ("%Y%m%dT%H%M", vec![0], "%Y%m%dT%H%M"),
            ("%Y%m%d%H%M", vec![0], "%Y%m%d%H%M"),
            ("%-d.%-m.%Y %-H:%M", vec![0], "%d.%m.%Y %H:%M"),
            ("%m/%d/%y;%I:%M %p", vec![0, 1], "%m/%d/%y %I:%M %p"),
            ("%H:%M;%d.%m.%Y", vec![1, 0], "%d.%m.%Y %H:%M"),
            ("%y%m%d;%H%M", vec![0, 1], "%y%m%d %H%M"),
            ("%Y;%-j;%-H%M", vec![0, 1, 2], "%Y %j %K"),
            ("%Y;%m;%d;%H;%M", vec![0, 1, 2, 3, 4], "%Y %m %d %H %M"),
            ("%d-%b-%Y %H:%M", vec![0], "%d-%b-%Y %H:%M"),
            ("%s", vec![0], "%s"),
            ("%s000", vec![0], "%Q"),
            ("%Y-%m-%d %H:%M:%S +0200", vec![0], "%Y-%m-%d %H:%M:%S %z"),
            ("%Y-%m-%dT%H:%M+02:00", vec![0], "%Y-%m-%dT%H:%M %z"),
            ("%Y-%j;%H:%M", vec![0, 1], "%Y-%j %H:%M"),
        ] {
            let got = found(&quarters(written), &[]).unwrap_or_else(|| panic!("{written}"));
            assert_eq!((&got.columns, got.form.as_str()), (&columns, form), "{written}");
        }
    }

    #[test]
    fn spreadsheet_days_and_components_by_name() {
        let serial = rows((0..200).map(|i| format!("{};{}.5", 45_000.0 + f64::from(i) / 96.0, i % 9)));
        assert_eq!(found(&serial, &[]).unwrap().form, "%x");
        let parts =
            rows((0..200).map(|i| format!("{};{};2024;{};{};{}.5", i / 96 + 11, i % 4 * 15, 5, i / 4 % 24, i % 9)));
        let got = found(&parts, &["day", "min", "year", "month", "hour", "m05"]).unwrap();
        assert_eq!((got.columns, got.form.as_str()), (vec![2, 3, 0, 4, 1], "%Y %m %d %H %M"));
    }

    #[test]
    fn the_newest_first_and_times_with_lines_lost_between() {
        let mut back = quarters("%d/%m/%Y %H:%M");
        let lines: Vec<usize> = back.iter().map(|r| r.line).collect();
        back.reverse();
        back.iter_mut().zip(lines).for_each(|(r, line)| r.line = line);
        assert!(found(&back, &[]).unwrap().newest_first);
    }

    #[test]
    fn what_decides_between_day_and_month_is_said() {
        let order = |form: &str, days: std::ops::Range<i64>| {
            let made = rows(days.map(|d| {
                (jiff::civil::date(2024, 5, 1).at(6, 0, 0, 0) + jiff::SignedDuration::from_hours(24 * d))
                    .strftime(form)
                    .to_string()
                    + ";1.5"
            }));
            let got = found(&made, &[]).unwrap();
            (got.form, got.order)
        };
        assert_eq!(order("%d/%m/%Y %H:%M", 0..28), ("%d/%m/%Y %H:%M".into(), DayOrder::Days(16)));
        assert_eq!(order("%m/%d/%Y %H:%M", 0..28), ("%m/%d/%Y %H:%M".into(), DayOrder::Days(16)));
        assert_eq!(
            order("%m/%d/%Y %H:%M", 0..9),
            ("%m/%d/%Y %H:%M".into(), DayOrder::Steady),
            "a reading a day, and not one a month"
        );
        assert_eq!(order("%m/%d/%Y %H:%M", 3..4).1, DayOrder::Open);
    }

    #[test]
    fn numbers_that_are_no_times() {
        assert_eq!(found(&rows((0..60).map(|i| format!("{};{}.5", 1234 + i * 37 % 101, i))), &[]), None);
        assert_eq!(found(&rows((0..60).map(|i| format!("{};{}.5", 45_000 + i * i * 7919 % 1009, i % 5))), &[]), None);
    }
}
