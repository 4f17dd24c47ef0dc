//! Every form of a time that is tried, those that begin with the same date together.

use super::super::form::TimeForm;
use std::sync::LazyLock;

const DATES: [&str; 44] = [
    "%Y-%m-%d",
    "%Y/%m/%d",
    "%Y.%m.%d",
    "%Y%m%d",
    "%d.%m.%Y",
    "%d/%m/%Y",
    "%m/%d/%Y",
    "%d-%m-%Y",
    "%m-%d-%Y",
    "%m.%d.%Y",
    "%d%m%Y",
    "%Y-%j",
    "%Y/%j",
    "%Y%j",
    "%d-%b-%Y",
    "%d %b %Y",
    "%d. %b %Y",
    "%b %d %Y",
    "%b %d, %Y",
    "%d/%b/%Y",
    "%b-%d-%Y",
    "%d.%b.%Y",
    "%d%b%Y",
    "%Y-%b-%d",
    "%Y %b %d",
    "%d.%m.%y",
    "%m/%d/%y",
    "%d/%m/%y",
    "%y-%m-%d",
    "%y/%m/%d",
    "%y%m%d",
    "%d%m%y",
    "%m%d%y",
    "%d-%m-%y",
    "%m-%d-%y",
    "%d-%b-%y",
    "%d %b %y",
    "%y.%m.%d",
    "%d%b%y",
    "%a %d %b %Y",
    "%a, %d %b %Y",
    "%a %d.%m.%Y",
    "%b %d %y",
    "%y-%j",
];

const CLOCKS: [&str; 17] = [
    "%H:%M:%S",
    "%H:%M",
    "%H:%M:%S%f",
    "%I:%M:%S %p",
    "%I:%M %p",
    "%I:%M:%S%p",
    "%I:%M%p",
    "%H.%M",
    "%H.%M.%S",
    "%H%M%S",
    "%H%M",
    "%Hh%M",
    "%H-%M-%S",
    "%H-%M",
    "%H:%M:%S,%f",
    "%K",
    "%H",
];

const JOINS: [&str; 8] = [" ", "T", "t", "_", "-", "/", ", ", ""];

/// Forms of times in several columns, joined by blanks, and whole ones without a date.
const OTHERS: [&str; 29] = [
    "%Y %m %d %H %M",
    "%Y %m %d %H %M %S",
    "%d %m %Y %H %M",
    "%d %m %Y %H %M %S",
    "%m %d %Y %H %M",
    "%m %d %Y %H %M %S",
    "%y %m %d %H %M",
    "%y %m %d %H %M %S",
    "%d %m %y %H %M",
    "%Y %m %d %K",
    "%Y %m %d %H:%M",
    "%Y %m %d %H:%M:%S",
    "%Y %j %K",
    "%Y %j %H %M",
    "%Y %j %H %M %S",
    "%Y %j %H:%M",
    "%Y %j %H:%M:%S",
    "%y %j %K",
    "%j %Y %K",
    "%j %Y %H:%M",
    "%Y %m %d",
    "%Y %j %H",
    "%Y %m %d %H",
    "%a %b %d %H:%M:%S %Y",
    "%a %b %d %H:%M:%S %Z %Y",
    "%s",
    "%Q",
    "%x",
    "%X",
];

/// Forms that begin with the same date.
pub(super) struct Family {
    /// The date; `None`: each form is tried.
    pub date: Option<TimeForm>,
    pub forms: Vec<(String, TimeForm)>,
}

pub(super) static FAMILIES: LazyLock<Vec<Family>> = LazyLock::new(|| {
    let made = |texts: Vec<String>| texts.into_iter().filter_map(|t| TimeForm::new(&t).ok().map(|f| (t, f))).collect();
    let mut families = Vec::new();
    for date in DATES {
        let mut texts = vec![date.to_owned()];
        for join in JOINS {
            for clock in CLOCKS {
                // A number that begins where another ends must be told apart by its length.
                let numeric =
                    |f: &str, c: char| f.ends_with("%Y") && c == ' ' || f.ends_with(|l: char| "mdjYy".contains(l));
                let apart = clock.contains(':') || clock.contains('h') || clock.contains("%H.%M");
                if join.is_empty() && (apart || !numeric(date, ' ') || clock == "%K") {
                    continue;
                }
                for zone in ["", " %z", " %Z"] {
                    texts.push(format!("{date}{join}{clock}{zone}"));
                }
            }
        }
        families.push(Family { date: TimeForm::new(date).ok(), forms: made(texts) });
    }
    let mut others: Vec<String> = OTHERS.map(str::to_owned).to_vec();
    others.extend(OTHERS[..23].iter().map(|o| format!("{o} %Z")));
    families.push(Family { date: None, forms: made(others) });
    families
});
