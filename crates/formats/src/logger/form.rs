//! The form of a time, by letters after `%`, and reading a text by it.

use super::months::{month, plain};

/// One part of a form.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Part {
    Year,
    ShortYear,
    Month,
    MonthName,
    Day,
    DayOfYear,
    Weekday,
    Hour,
    Hour12,
    HalfDay,
    Minute,
    Second,
    Fraction,
    /// Hour and minute as one number without leading zeros: 115 is 01:15.
    Clock,
    /// `+02:00`, `+0200`, `+2`, `Z`, `UTC`, with a blank before it or not.
    Offset,
    /// A word that tells the zone, or summer from normal time.
    Zone,
    Epoch,
    EpochMillis,
    /// Days of a spreadsheet; the serial of 1970-01-01.
    Serial(i64),
    Blank,
    Literal(char),
}

impl Part {
    fn of(letter: char) -> Option<Self> {
        Some(match letter {
            'Y' => Self::Year,
            'y' => Self::ShortYear,
            'm' => Self::Month,
            'b' | 'B' => Self::MonthName,
            'd' => Self::Day,
            'j' => Self::DayOfYear,
            'a' => Self::Weekday,
            'H' => Self::Hour,
            'I' => Self::Hour12,
            'p' => Self::HalfDay,
            'M' => Self::Minute,
            'S' => Self::Second,
            'f' => Self::Fraction,
            'K' => Self::Clock,
            'z' => Self::Offset,
            'Z' => Self::Zone,
            's' => Self::Epoch,
            'Q' => Self::EpochMillis,
            'x' => Self::Serial(25_569),
            'X' => Self::Serial(24_107),
            '%' => Self::Literal('%'),
            _ => return None,
        })
    }

    /// Digits of a number, least and most; `None`: no number.
    const fn digits(self) -> Option<(usize, usize)> {
        match self {
            Self::Year => Some((4, 4)),
            Self::ShortYear => Some((2, 2)),
            Self::DayOfYear => Some((1, 3)),
            Self::Clock => Some((1, 4)),
            Self::Month | Self::Day | Self::Hour | Self::Hour12 | Self::Minute | Self::Second => Some((1, 2)),
            _ => None,
        }
    }
}

/// A time as it stands in a file, before its clock is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Civil<'t> {
    /// Seconds since 1970 as the clock showed them.
    pub seconds: i64,
    /// Seconds east of UTC, if the text tells.
    pub offset: Option<i32>,
    /// The word that tells its zone.
    pub zone: Option<&'t str>,
}

/// The form of a time: `%Y` year, `%y` two-digit year, `%m` month, `%b` its name, `%d` day, `%j` day of year, `%a` weekday (passed
/// over), `%H` hour (24 is midnight of the next day), `%I` `%p` 12-hour clock, `%M` minute, `%S` second, `%f` fraction, `%K` hour and
/// minute as one number (115 is 01:15, 2400 midnight of the next day), `%z` offset, `%Z` a word that tells it, `%s` `%Q` seconds or
/// milliseconds since 1970, `%x` `%X` spreadsheet days since 1900 or 1904. A blank stands for any number of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TimeForm {
    parts: Vec<Part>,
}

impl TimeForm {
    /// Reads a form.
    ///
    /// # Errors
    /// A sentence where a letter is unknown, or it tells no day.
    pub fn new(text: &str) -> Result<Self, String> {
        let mut parts = Vec::new();
        // Forms of the first recipes wrote "%:z" and "%.f".
        let text = text.replace("%:z", "%z").replace(".%f", "%f").replace("%.f", "%f");
        let mut chars = text.trim().chars().peekable();
        while let Some(c) = chars.next() {
            match c {
                '%' => {
                    let letter = chars.next().unwrap_or(' ');
                    parts.push(Part::of(letter).ok_or(format!("“%{letter}” stands for no part of a time"))?);
                }
                c if c.is_whitespace() => {
                    if parts.last() != Some(&Part::Blank) {
                        parts.push(Part::Blank);
                    }
                }
                'Z' if chars.peek().is_none() => parts.push(Part::Offset),
                c => parts.push(Part::Literal(c)),
            }
        }
        let has = |wanted: &[Part]| wanted.iter().any(|w| parts.contains(w));
        let year = has(&[Part::Year, Part::ShortYear]);
        let day = has(&[Part::DayOfYear]) || (has(&[Part::Month, Part::MonthName]) && has(&[Part::Day]));
        let whole = has(&[Part::Epoch, Part::EpochMillis]) || parts.iter().any(|p| matches!(p, Part::Serial(_)));
        if (year && day) || whole {
            Ok(Self { parts })
        } else {
            Err("it tells no day: it needs a year (%Y or %y) with %m and %d, or %b and %d, or %j".to_owned())
        }
    }

    /// Whether every text of it tells its own offset.
    #[must_use]
    pub fn tells_offset(&self) -> bool {
        let tells = |p: &Part| matches!(p, Part::Offset | Part::Epoch | Part::EpochMillis);
        self.parts.iter().any(tells)
    }

    /// Whether a word of it tells its zone.
    #[must_use]
    pub fn has_zone_word(&self) -> bool {
        self.parts.contains(&Part::Zone)
    }

    /// Reads a text, all of it.
    pub(super) fn read<'t>(&self, text: &'t str) -> Option<Civil<'t>> {
        self.read_up_to(text, true)
    }

    /// Whether a text begins with a time of this form.
    pub(super) fn begins(&self, text: &str) -> bool {
        self.read_up_to(text, false).is_some()
    }

    fn read_up_to<'t>(&self, text: &'t str, whole: bool) -> Option<Civil<'t>> {
        let mut rest = text.trim();
        let (mut year, mut month_no, mut day, mut of_year) = (1970_i64, 1_i64, 1_i64, None);
        let (mut hour, mut minute, mut second, mut pm) = (0_i64, 0_i64, 0_i64, None);
        let mut out = Civil { seconds: 0, offset: None, zone: None };
        for (i, part) in self.parts.iter().enumerate() {
            match *part {
                Part::Literal(c) if c.is_ascii() => {
                    if rest.as_bytes().first() != Some(&(c as u8)) {
                        return None;
                    }
                    rest = &rest[1..];
                }
                Part::Literal(c) => rest = rest.strip_prefix(c)?,
                Part::Blank
                    if rest.as_bytes().first() == Some(&b' ')
                        && rest.as_bytes().get(1).is_some_and(u8::is_ascii_digit) =>
                {
                    rest = &rest[1..];
                }
                Part::Blank => {
                    let trimmed = rest.trim_start();
                    // An offset may follow with a blank or without.
                    if trimmed.len() == rest.len() && self.parts.get(i + 1) != Some(&Part::Offset) {
                        return None;
                    }
                    rest = trimmed;
                }
                Part::MonthName | Part::Weekday | Part::Zone => {
                    let end = rest.find(|c: char| !c.is_alphabetic()).unwrap_or(rest.len());
                    let (word, after) = rest.split_at(end);
                    match part {
                        Part::MonthName => month_no = i64::from(month(word)?),
                        Part::Zone if end == 0 => {
                            // Summer and normal time may also be told by a figure.
                            let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
                            if digits == 0 {
                                return None;
                            }
                            out.zone = Some(&rest[..digits]);
                            rest = &rest[digits..];
                            continue;
                        }
                        Part::Zone => out.zone = Some(word),
                        _ if end < 2 => return None,
                        _ => {}
                    }
                    rest = after.strip_prefix('.').filter(|_| *part != Part::Zone).unwrap_or(after);
                }
                Part::HalfDay => {
                    let mut letters = rest.chars().filter(|c| *c != '.').map(plain);
                    let (half, m) = (letters.next()?, letters.next());
                    pm = Some(match (half, m) {
                        ('a', Some('m')) => false,
                        ('p', Some('m')) => true,
                        _ => return None,
                    });
                    let dots = rest.starts_with("a.m.")
                        || rest.starts_with("p.m.")
                        || rest.starts_with("A.M.")
                        || rest.starts_with("P.M.");
                    rest = &rest[if dots { 4 } else { 2 }..];
                }
                Part::Fraction => {
                    if let Some(after) = rest.strip_prefix(['.', ',', ':']) {
                        rest = after.trim_start_matches(|c: char| c.is_ascii_digit());
                    }
                }
                Part::Offset => {
                    let (offset, after) = offset(rest)?;
                    out.offset = Some(offset);
                    rest = after;
                }
                Part::Epoch | Part::EpochMillis => {
                    let whole = rest.strip_suffix(".0").unwrap_or(rest);
                    let (most, per) = if *part == Part::Epoch { (10, 1) } else { (13, 1000) };
                    if !(most - 1..=most).contains(&whole.len()) || !whole.bytes().all(|b| b.is_ascii_digit()) {
                        return None;
                    }
                    out.offset = Some(0);
                    return Some(Civil { seconds: whole.parse::<i64>().ok()? / per, ..out });
                }
                Part::Serial(epoch) => {
                    let days: f64 = rest.replace(',', ".").parse().ok().filter(|d| (1.0..200_000.0).contains(d))?;
                    if !rest.starts_with(|c: char| c.is_ascii_digit()) {
                        return None;
                    }
                    let seconds = ((days - epoch as f64) * 86_400.0).round() as i64;
                    return Some(Civil { seconds, ..out });
                }
                number => {
                    let (least, most) = number.digits()?;
                    let together = self.parts.get(i + 1).is_some_and(|n| n.digits().is_some())
                        || (i > 0 && self.parts[i - 1].digits().is_some());
                    let least = if together { most } else { least };
                    let digits = rest.bytes().take(most).take_while(u8::is_ascii_digit).count();
                    if digits < least {
                        return None;
                    }
                    let value: i64 = rest[..digits].bytes().fold(0, |n, b| n * 10 + i64::from(b - b'0'));
                    rest = &rest[digits..];
                    match number {
                        Part::Year => year = value,
                        Part::ShortYear => year = if value < 70 { 2000 + value } else { 1900 + value },
                        Part::Month => month_no = value,
                        Part::Day => day = value,
                        Part::DayOfYear => of_year = Some(value),
                        Part::Hour => hour = value,
                        Part::Hour12 if !(1..=12).contains(&value) => return None,
                        Part::Hour12 => hour = value,
                        Part::Minute => minute = value,
                        Part::Second => second = value,
                        Part::Clock => (hour, minute) = (value / 100, value % 100),
                        _ => return None,
                    }
                }
            }
        }
        if let Some(pm) = pm {
            hour = hour % 12 + if pm { 12 } else { 0 };
        }
        let midnight_after = hour == 24 && minute == 0 && second == 0;
        if (whole && !rest.is_empty()) || (hour > 23 && !midnight_after) || minute > 59 || second > 60 {
            return None;
        }
        let days = match of_year {
            Some(n) => days_from_civil(year, 1, 1) + n - 1,
            None => days_from_civil(year, month_no, day),
        };
        let real = match of_year {
            Some(n) => (1..=365 + i64::from(leap(year))).contains(&n),
            None => (1..=12).contains(&month_no) && (1..=days_of_month(year, month_no)).contains(&day),
        };
        real.then_some(Civil { seconds: days * 86_400 + hour * 3600 + minute * 60 + second, ..out })
    }
}

const fn leap(year: i64) -> bool {
    (year % 4 == 0 && year % 100 != 0) || year % 400 == 0
}

const fn days_of_month(year: i64, month: i64) -> i64 {
    match month {
        2 => 28 + leap(year) as i64,
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

/// Days from 1970-01-01 to a day of the Gregorian calendar (counted from 1 March, so that the leap day comes last).
const fn days_from_civil(year: i64, month: i64, day: i64) -> i64 {
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let of_era = year.rem_euclid(400);
    let of_year = (153 * ((month + 9) % 12) + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
}

/// An offset at the beginning of a text, in seconds, and what follows.
fn offset(text: &str) -> Option<(i32, &str)> {
    let mut rest = text.trim_start();
    for word in ["UTC", "GMT", "utc", "gmt", "Z", "z"] {
        if let Some(after) = rest.strip_prefix(word) {
            if !after.starts_with(['+', '-', '−']) {
                return Some((0, after));
            }
            rest = after;
            break;
        }
    }
    let (sign, digits) = match rest.chars().next()? {
        '+' => (1, &rest[1..]),
        '-' => (-1, &rest[1..]),
        '−' => (-1, &rest['−'.len_utf8()..]),
        _ => return None,
    };
    let n = digits.bytes().take(4).take_while(u8::is_ascii_digit).count();
    let (hours, minutes, used) = match n {
        1 | 2 => match digits[n..].strip_prefix(':') {
            Some(m) if m.len() >= 2 && m.as_bytes()[..2].iter().all(u8::is_ascii_digit) => {
                (&digits[..n], &m[..2], n + 3)
            }
            _ => (&digits[..n], "0", n),
        },
        3 | 4 => (&digits[..n - 2], &digits[n - 2..n], n),
        _ => return None,
    };
    let (hours, minutes): (i32, i32) = (hours.parse().ok()?, minutes.parse().ok()?);
    (hours <= 14 && minutes < 60).then(|| (sign * (hours * 3600 + minutes * 60), &digits[used..]))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(form: &str, text: &str) -> Option<String> {
        let civil = TimeForm::new(form).unwrap().read(text)?;
        let utc = civil.seconds - i64::from(civil.offset.unwrap_or(0));
        Some(crate::rfc3339(ebrel_core::units::UnixSeconds(utc)))
    }

    #[test]
    fn every_form_of_the_field() {
        for (form, text, utc) in [
            ("%d.%m.%Y %H:%M", "10.3.2020 1:15", "2020-03-10T01:15:00Z"),
            ("%Y-%m-%dT%H:%M:%S%f%z", "2023-10-06T18:15:00.000Z", "2023-10-06T18:15:00Z"),
            ("%Y%m%dT%H%M", "20250310T0115", "2025-03-10T01:15:00Z"),
            ("%y%m%d %H%M", "210328 1015", "2021-03-28T10:15:00Z"),
            ("%Y %j %K", "2023  125  1815", "2023-05-05T18:15:00Z"),
            ("%Y %j %K", "2023 125 115", "2023-05-05T01:15:00Z"),
            ("%Y %j %K", "2023 125 2400", "2023-05-06T00:00:00Z"),
            ("%Y %j %K", "2024 366 5", "2024-12-31T00:05:00Z"),
            ("%Y-%m-%d %H:%M", "2024-12-31 24:00", "2025-01-01T00:00:00Z"),
            ("%m/%d/%y %I:%M %p", "10/20/25 12:00 AM", "2025-10-20T00:00:00Z"),
            ("%m/%d/%y %I:%M:%S%p", "1/2/25 1:05:09p.m.", "2025-01-02T13:05:09Z"),
            ("%d-%b-%Y %H:%M", "3-Mär-2024 06:00", "2024-03-03T06:00:00Z"),
            ("%d %b %Y %H:%M", "3 août 2024 06:00", "2024-08-03T06:00:00Z"),
            ("%a %b %d %H:%M:%S %Y", "Tue Sep 3 06:00:07 2024", "2024-09-03T06:00:07Z"),
            ("%Y-%m-%d %H:%M:%S%z", "2024-03-03 06:00:00+0200", "2024-03-03T04:00:00Z"),
            ("%Y-%m-%d %H:%M:%S %z", "2024-03-03 06:00:00 +02:00", "2024-03-03T04:00:00Z"),
            ("%Y-%m-%d %H:%M %z", "2024-03-03 06:00 UTC", "2024-03-03T06:00:00Z"),
            ("%Y-%m-%d %H:%M %z", "2024-03-03 06:00 UTC-3", "2024-03-03T09:00:00Z"),
            ("%s", "1700000000", "2023-11-14T22:13:20Z"),
            ("%Q", "1700000000123", "2023-11-14T22:13:20Z"),
            ("%x", "45000.0104166667", "2023-03-15T00:15:00Z"),
            ("%x", "45000,5", "2023-03-15T12:00:00Z"),
            ("%X", "43538.25", "2023-03-15T06:00:00Z"),
            ("%d.%m.%Y %H:%M Z", "1.2.2024 06:00 Z", "2024-02-01T06:00:00Z"),
        ] {
            assert_eq!(read(form, text).as_deref(), Some(utc), "{text} by {form}");
        }
    }

    #[test]
    fn what_is_no_time_of_the_form_is_none() {
        for (form, text) in [
            ("%Y-%m-%d %H:%M", "2024-02-30 06:00"),
            ("%Y-%m-%d %H:%M", "2024-02-28 24:01"),
            ("%Y-%m-%d %H:%M", "2024-02-28 06:60"),
            ("%Y-%m-%d %H:%M", "2024-02-28 06:00 x"),
            ("%Y-%m-%d %H:%M", "2024-02-28"),
            ("%Y %j %K", "2023 366 5"),
            ("%Y %j %K", "2023 100 161"),
            ("%s", "170"),
            ("%x", "nan"),
            ("%x", ""),
            ("%d %b %Y", "3 jui 2024"),
        ] {
            assert_eq!(read(form, text), None, "{text} by {form}");
        }
        assert!(TimeForm::new("%H:%M").unwrap_err().contains("tells no day"));
        assert!(TimeForm::new("%q").unwrap_err().contains("“%q”"));
    }
}
