//! A station at a glance: a small section with its state now, a year of storage as a line, and what became of each day of each channel.

use ebrel_app::findings::{Coverage, DAYS, Now, StationPicture};
use ebrel_core::findings::DayState;
use ebrel_core::soil::Horizon;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds, format_value};
use std::fmt::Write as _;

/// Height of the small section, and where its surface lies, px.
const HEIGHT: f64 = 190.0;
const SURFACE: f64 = 14.0;
/// Width that a full probe takes, px.
const FULL: f64 = 58.0;
/// Size of the line of storage, px.
const LINE_HEIGHT: f64 = 54.0;

/// A horizon: top, height, tone.
pub type Ground = (f64, f64, usize);

/// A probe in the small section.
pub struct Probe {
    /// Middle, px.
    pub y: f64,
    /// Where its words stand, px.
    pub text_y: f64,
    /// How far it is filled, px.
    pub water: f64,
    pub ramp: usize,
    /// "15 cm".
    pub depth: String,
    /// "0.241", "38 kPa" or "no reading".
    pub value: String,
}

/// A run of days in one state.
pub struct Run {
    pub x: usize,
    pub days: usize,
    /// "measured", "doubtful", "out".
    pub state: &'static str,
    pub link: String,
    /// What it is, for who points at it.
    pub words: String,
}

impl Run {
    /// How wide it is drawn, days: a day among a year would not be seen.
    pub fn width(&self) -> usize {
        if self.state == "measured" { self.days } else { self.days.max(3) }
    }
}

/// A channel's year.
pub struct Row {
    pub label: String,
    pub runs: Vec<Run>,
    /// "measured 341 days, doubtful 3, left out 2, missing 19".
    pub words: String,
}

/// The whole picture.
pub struct Glance {
    pub name: String,
    pub link: String,
    pub ground: Vec<Ground>,
    pub probes: Vec<Probe>,
    /// Path of the storage, in days by px.
    pub storage: String,
    /// "98 to 171 mm down to 60 cm".
    pub storage_words: String,
    pub rows: Vec<Row>,
    /// When "now" is, in words.
    pub at: String,
}

/// What the drawing needs beside the picture.
pub struct Place<'p> {
    pub station: i64,
    pub name: &'p str,
    pub horizons: &'p [Horizon],
    /// Words of a moment, by its pattern.
    pub when: &'p dyn Fn(UnixSeconds, &str) -> String,
}

impl Glance {
    /// Draws a station.
    pub fn draw(picture: &StationPicture, place: &Place<'_>) -> Self {
        let deepest = picture.now.iter().map(|n| n.depth_cm).fold(20.0, f64::max);
        let bottom = deepest * 1.15 + 3.0;
        let y = |cm: f64| SURFACE + cm / bottom * (HEIGHT - SURFACE - 4.0);
        let shown = place.horizons.iter().filter(|h| h.top_cm < bottom).enumerate();
        let ground = shown.map(|(i, h)| (y(h.top_cm), y(h.bottom_cm.min(bottom)) - y(h.top_cm), i % 4 + 1)).collect();
        let (storage, storage_words) = line(picture);
        Self {
            name: place.name.to_owned(),
            link: format!("/stations/{}", place.station),
            ground,
            probes: probes(&picture.now, y),
            storage,
            storage_words,
            rows: picture.coverage.iter().map(|c| row(c, picture.first, place)).collect(),
            at: picture.at.map_or_else(|| "no readings yet".into(), |t| (place.when)(t, "%-d %b %H:%M")),
        }
    }

    pub const fn height(&self) -> f64 {
        HEIGHT
    }

    pub const fn surface(&self) -> f64 {
        SURFACE
    }

    /// The state in words, for those who do not see it.
    pub fn state(&self) -> String {
        let depths: Vec<String> = self.probes.iter().map(|p| format!("{} {}", p.depth, p.value)).collect();
        format!("{} by depth: {}", self.name, if depths.is_empty() { "no probes".into() } else { depths.join(", ") })
    }

    /// Days of the year that it shows.
    pub const fn width(&self) -> usize {
        DAYS
    }
}

fn probes(now: &[Now], y: impl Fn(f64) -> f64) -> Vec<Probe> {
    const APART: f64 = 13.0;
    let mut above = f64::NEG_INFINITY;
    now.iter()
        .map(|n| {
            let text_y = (y(n.depth_cm) + 4.0).max(above + APART);
            above = text_y;
            let share = match (n.quantity, n.value) {
                (Quantity::WaterContent, Some(v)) => (v / n.pores.unwrap_or(0.5)).clamp(0.0, 1.0),
                _ => 0.0,
            };
            let value = n.value.map_or_else(
                || "no reading".to_owned(),
                |v| match n.quantity {
                    Quantity::WaterTension => format!("{}\u{a0}kPa", format_value(v, 0)),
                    _ => format_value(v, 3),
                },
            );
            Probe {
                y: y(n.depth_cm),
                text_y,
                water: share * FULL,
                ramp: super::section::ramp(n.depth_cm),
                depth: format!("{}\u{a0}cm", n.depth_cm),
                value,
            }
        })
        .collect()
}

/// The line of storage; empty where nothing is known.
fn line(picture: &StationPicture) -> (String, String) {
    let known = || picture.storage.iter().copied().filter(|v| v.is_finite());
    let (low, high) = (known().fold(f64::INFINITY, f64::min), known().fold(f64::NEG_INFINITY, f64::max));
    if !low.is_finite() {
        return (String::new(), String::new());
    }
    let span = (high - low).max(1.0);
    let (mut path, mut pen) = (String::new(), false);
    for (day, mm) in picture.storage.iter().enumerate() {
        if mm.is_finite() {
            let y = 4.0 + (1.0 - (mm - low) / span) * (LINE_HEIGHT - 8.0);
            let _ = write!(path, "{}{day} {y:.1}", if pen { "L" } else { "M" });
        }
        pen = mm.is_finite();
    }
    let words = format!(
        "{} to {}\u{a0}mm down to {}\u{a0}cm",
        format_value(low, 0),
        format_value(high, 0),
        format_value(picture.bottom_cm, 0)
    );
    (path, words)
}

fn row(of: &Coverage, first: UnixSeconds, place: &Place<'_>) -> Row {
    const DAY: i64 = 86_400;
    let label = match of.quantity {
        q if q.is_in_soil() => format!("{} {}", of.label, short(q)),
        q => short(q).to_owned(),
    };
    let mut runs: Vec<Run> = Vec::new();
    let mut x = 0;
    while x < of.days.len() {
        let state = of.days[x];
        let end = (x..of.days.len()).find(|d| of.days[*d] != state).unwrap_or(of.days.len());
        let (from, to) = (first + SpanSeconds(x as i64 * DAY), first + SpanSeconds(end as i64 * DAY));
        let (name, link) = match state {
            DayState::Missing => ("", String::new()),
            DayState::Measured => ("measured", strips(place.station, from, to, of.quantity)),
            DayState::Doubtful => ("doubtful", format!("/stations/{}/review", place.station)),
            DayState::LeftOut => ("out", strips(place.station, from, to, of.quantity)),
        };
        if state != DayState::Missing {
            let said = if name == "out" { "left out" } else { name };
            let day = |t| (place.when)(t, "%-d %b %Y");
            let words = format!("{label}: {said}, {} – {}", day(from), day(to - SpanSeconds(1)));
            runs.push(Run { x, days: end - x, state: name, link, words });
        }
        x = end;
    }
    // What is short and matters lies on top, wide enough to be seen.
    runs.sort_by_key(|r| r.state != "measured");
    let count = |state| of.days.iter().filter(|d| **d == state).count();
    let words = format!(
        "{label}: measured {} days, doubtful {}, left out {}, missing {}",
        count(DayState::Measured),
        count(DayState::Doubtful),
        count(DayState::LeftOut),
        count(DayState::Missing)
    );
    Row { label, runs, words }
}

fn strips(station: i64, from: UnixSeconds, to: UnixSeconds, quantity: Quantity) -> String {
    let show = if quantity.is_temperature() { "temperature" } else { "moisture" };
    format!("/stations/{station}?from={}&to={}&show={show}", from.0, to.0)
}

/// A quantity in a word or two.
const fn short(quantity: Quantity) -> &'static str {
    match quantity {
        Quantity::WaterContent => "water",
        Quantity::WaterTension => "tension",
        Quantity::RawOutput => "raw",
        Quantity::SoilTemperature => "warmth",
        Quantity::AirTemperature => "air",
        Quantity::BareAirTemperature => "bare air",
        Quantity::RelativeHumidity => "humidity",
        Quantity::Rain => "rain",
        Quantity::Irrigation => "given",
        Quantity::ElectricalConductivity => "salt",
        Quantity::BatteryVoltage
        | Quantity::EnclosureHumidity
        | Quantity::PanelTemperature
        | Quantity::SignalStrength => "node",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn place(when: &dyn Fn(UnixSeconds, &str) -> String) -> Place<'_> {
        Place { station: 7, name: "Cut coupe", horizons: &[], when }
    }

    #[test]
    fn days_are_drawn_as_runs_that_lead_on_and_add_up() {
        let mut days = vec![DayState::Measured; 20];
        days[3] = DayState::Missing;
        days[8..10].fill(DayState::Doubtful);
        days[15..].fill(DayState::LeftOut);
        let of = Coverage { label: "15 cm".into(), quantity: Quantity::WaterContent, depth_cm: Some(15.0), days };
        let when = |t: UnixSeconds, _: &str| (t.0 / 86_400).to_string();
        let row = row(&of, UnixSeconds(0), &place(&when));
        let drawn: Vec<(usize, usize, &str)> = row.runs.iter().map(|r| (r.x, r.days, r.state)).collect();
        assert_eq!(
            drawn,
            [(0, 3, "measured"), (4, 4, "measured"), (10, 5, "measured"), (8, 2, "doubtful"), (15, 5, "out")]
        );
        assert!(
            row.runs[3].link.ends_with("/review")
                && row.runs[3].width() == 3
                && row.runs[0].link.starts_with("/stations/7?from=0&to=259200")
        );
        assert_eq!(row.words, "15 cm water: measured 12 days, doubtful 2, left out 5, missing 1");
        assert!(row.runs[4].words.ends_with("15 – 19"), "{}", row.runs[4].words);
    }

    #[test]
    fn a_station_without_readings_is_drawn_as_its_soil() {
        let picture = StationPicture {
            now: Vec::new(),
            at: None,
            storage: Vec::new(),
            bottom_cm: 0.0,
            first: UnixSeconds(0),
            coverage: Vec::new(),
        };
        let glance = Glance::draw(&picture, &place(&|_, _| String::new()));
        assert!(glance.probes.is_empty() && glance.storage.is_empty() && glance.at == "no readings yet");
    }

    #[test]
    fn words_of_probes_keep_apart_and_a_gap_lifts_the_pen() {
        let at = |depth_cm, value| Now { depth_cm, quantity: Quantity::WaterContent, value, pores: Some(0.5) };
        let picture = StationPicture {
            now: vec![at(5.0, Some(0.25)), at(6.0, None), at(60.0, Some(0.9))],
            at: Some(UnixSeconds(0)),
            storage: vec![100.0, 110.0, f64::NAN, 90.0],
            bottom_cm: 60.0,
            first: UnixSeconds(0),
            coverage: Vec::new(),
        };
        let glance = Glance::draw(&picture, &place(&|_, _| "now".into()));
        assert!(glance.probes.windows(2).all(|w| w[1].text_y - w[0].text_y >= 13.0));
        assert_eq!(
            (glance.probes[0].water, glance.probes[2].water),
            (FULL / 2.0, FULL),
            "more than all pores is drawn as full"
        );
        assert_eq!(glance.probes[1].value, "no reading");
        assert_eq!(glance.storage.matches('M').count(), 2);
        assert_eq!(glance.storage_words, "90 to 110\u{a0}mm down to 60\u{a0}cm");
    }
}
