//! Time inside Ebrel: whole seconds of UTC.

use serde::{Deserialize, Serialize};

/// A moment, in whole seconds since 1970-01-01T00:00:00Z.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct UnixSeconds(pub i64);

/// A length of time in whole seconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SpanSeconds(pub i64);

impl SpanSeconds {
    /// One hour.
    pub const HOUR: Self = Self(3600);
    /// One day.
    pub const DAY: Self = Self(86_400);

    /// The span in words that fit it: `45 min`, `6 h`, `4.7 days`.
    #[must_use]
    pub fn in_words(self) -> String {
        let seconds = self.0 as f64;
        match self.0 {
            i64::MIN..120 => format!("{} s", self.0),
            120..7200 => format!("{:.0} min", seconds / 60.0),
            7200..172_800 => format!("{} h", tidy(seconds / 3600.0)),
            172_800..8_640_000 => format!("{} days", tidy(seconds / 86_400.0)),
            8_640_000..63_072_000 => format!("{:.0} days", seconds / 86_400.0),
            _ => format!("{} years", tidy(seconds / (365.25 * 86_400.0))),
        }
    }
}

/// One decimal, without an idle zero.
fn tidy(value: f64) -> String {
    let text = format!("{value:.1}");
    text.strip_suffix(".0").map_or(text.clone(), str::to_owned)
}

impl std::ops::Add<SpanSeconds> for UnixSeconds {
    type Output = Self;
    fn add(self, span: SpanSeconds) -> Self {
        Self(self.0 + span.0)
    }
}

impl std::ops::Sub<SpanSeconds> for UnixSeconds {
    type Output = Self;
    fn sub(self, span: SpanSeconds) -> Self {
        Self(self.0 - span.0)
    }
}

impl std::ops::Sub for UnixSeconds {
    type Output = SpanSeconds;
    fn sub(self, other: Self) -> SpanSeconds {
        SpanSeconds(self.0 - other.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_read_as_people_say_them() {
        let words = [90, 2700, 21_600, 406_080, 15_552_000, 186_287_040].map(|s| SpanSeconds(s).in_words());
        assert_eq!(words, ["90 s", "45 min", "6 h", "4.7 days", "180 days", "5.9 years"]);
    }
}
