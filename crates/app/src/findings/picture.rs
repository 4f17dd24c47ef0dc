//! A profile through time, thinned to the columns of a picture.

use super::ground::{Ground, Selection};
use crate::record::Flagged;
use ebrel_core::findings::{Grid, Profile, WettingRules, falls, wettings};
use ebrel_core::series::{View, Window, sum_columns, thin};
use ebrel_core::units::{Quantity, SpanSeconds, unit_for_people};
use serde::Serialize;

/// What the picture shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// Water content, m³/m³.
    Moisture,
    /// Share of the pore space that is filled.
    Saturation,
    /// Tension, kPa.
    Tension,
    /// Soil temperature, °C.
    Temperature,
}

impl What {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Moisture, Self::Saturation, Self::Tension, Self::Temperature];

    /// Its word in addresses.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Moisture => "moisture",
            Self::Saturation => "saturation",
            Self::Tension => "tension",
            Self::Temperature => "temperature",
        }
    }

    /// The one with this word; moisture for any other.
    #[must_use]
    pub fn from_word(word: &str) -> Self {
        Self::ALL.into_iter().find(|w| w.word() == word).unwrap_or(Self::Moisture)
    }

    /// The quantity that it rests on.
    #[must_use]
    pub const fn quantity(self) -> Quantity {
        match self {
            Self::Moisture | Self::Saturation => Quantity::WaterContent,
            Self::Tension => Quantity::WaterTension,
            Self::Temperature => Quantity::SoilTemperature,
        }
    }

    const fn decimals(self) -> usize {
        match self {
            Self::Moisture => 3,
            Self::Saturation => 2,
            Self::Tension | Self::Temperature => 1,
        }
    }
}

/// One depth in the columns.
#[derive(Debug, Serialize)]
pub struct Row {
    /// Depth, cm.
    pub depth: f64,
    /// Mean of each column, in steps of the last decimal; `null` where nothing is believed.
    pub mean: Vec<Option<i32>>,
    /// 95 % half width there, in the same steps; empty where none is known.
    pub half: Vec<Option<i32>>,
    /// Strip that shows its readings.
    pub strip: String,
    /// Pore space, if known.
    pub pores: Option<f64>,
}

/// A front as it comes down: column and depth of each arrival.
#[derive(Debug, Serialize)]
pub struct Front {
    /// Second, UTC, and depth in cm, from above.
    pub points: Vec<(i64, f64)>,
    /// "18.4 mm, 2.3 cm/h".
    pub words: String,
}

/// The picture's data.
#[derive(Debug, Serialize)]
pub struct ProfileData {
    /// First second, UTC.
    pub from: i64,
    /// First second after.
    pub to: i64,
    /// Number of columns.
    pub columns: usize,
    /// Unit of the values, as people write it.
    pub unit: String,
    /// Decimals of a value.
    pub decimals: usize,
    /// Depths from above.
    pub rows: Vec<Row>,
    /// Rain per column, tenths of mm; empty without a gauge.
    pub rain: Vec<Option<i32>>,
    /// Depth to which the soil is frozen, tenths of a cm per column; empty without thermometers.
    pub frost: Vec<Option<i32>>,
    /// Fronts of the falls of water in the window; empty over long ones, where they would lie on each other.
    pub fronts: Vec<Front>,
    /// Readings that were used, left out, and without value.
    pub counts: [usize; 3],
}

/// Fronts are drawn in windows up to so many days.
const FRONT_DAYS: i64 = 120;

/// A station's profile in the columns of a window; `None` if nothing there tells it.
#[must_use]
pub fn profile_data(of: &Flagged, neighbours: &[Flagged], window: &Window, what: What) -> Option<ProfileData> {
    let selection = Selection { from: Some(window.from()), to: Some(window.to()), ..Selection::default() };
    let ground = Ground::new(of, &selection)?;
    // Six times in a column are enough for its mean; up to an hour apart.
    let of_column = (window.to() - window.from()).0 / window.columns() as i64 / 6;
    let step = SpanSeconds(of_column.clamp(ground.grid.step().0, ground.grid.step().0.max(3600)));
    let (first, last) = (ground.grid.time(0), ground.grid.time(ground.grid.len() - 1));
    let ground = match Grid::over(first, last, step) {
        Some(grid) => ground.on(grid),
        None => ground,
    };
    let profile = ground.profile(what.quantity());
    if profile.levels.is_empty() {
        return None;
    }
    let grid = &profile.grid;
    let times: Vec<i64> = (0..grid.len()).map(|i| grid.time(i).0).collect();
    let scale = 10f64.powi(what.decimals() as i32);
    let steps = |values: &[f64], factor: f64| -> Vec<Option<i32>> {
        values.iter().map(|v| v.is_finite().then(|| (v * factor * scale).round() as i32)).collect()
    };
    let mut rows = Vec::new();
    for level in &profile.levels {
        let factor = match (what, level.pores) {
            (What::Saturation, Some(pores)) => 1.0 / pores,
            // Of a soil whose pore space is not known no share of it can be told.
            (What::Saturation, None) => continue,
            _ => 1.0,
        };
        let mean = thin(View { times: &times, values: &level.values }, window, |v| v).mean;
        let curve = level.tracks.last().and_then(|t| t.curves.last().map(|c| (t, c.1)));
        let half = curve.and_then(|(track, curve)| {
            let of = curve.half_widths()?;
            let raw = thin(View { times: &times, values: &track.raw }, window, |v| v).mean;
            Some(raw.iter().map(|r| if r.is_finite() { of(*r) } else { f64::NAN }).collect::<Vec<f64>>())
        });
        rows.push(Row {
            depth: level.depth_cm,
            mean: steps(&mean, factor),
            half: half.map_or_else(Vec::new, |h| steps(&h, factor)),
            strip: crate::window::strip_id(of.record.station.id, what.quantity(), Some(level.depth_cm)),
            pores: level.pores,
        });
    }
    let rain = ground.rain(neighbours);
    let of_columns = |sums: &[f64]| {
        let view = View { times: &times, values: sums };
        sum_columns(view, window).iter().map(|v| v.is_finite().then(|| (v * 10.0).round() as i32)).collect()
    };
    let fronts = if (window.to() - window.from()).0 <= FRONT_DAYS * 86_400 && what != What::Temperature {
        fronts(&ground.profile(Quantity::WaterContent), rain.as_ref().map(|r| &r.sums[..]))
    } else {
        Vec::new()
    };
    let counts = profile.counts();
    Some(ProfileData {
        from: window.from().0,
        to: window.to().0,
        columns: window.columns(),
        unit: match what {
            What::Saturation => "of the pores".into(),
            _ => unit_for_people(what.quantity().unit()),
        },
        decimals: what.decimals(),
        rows,
        rain: rain.map_or_else(Vec::new, |r| of_columns(&r.sums)),
        frost: frost(&ground, &times, window),
        fronts,
        counts: [counts.used, counts.left_out, counts.without_value],
    })
}

fn fronts(profile: &Profile<'_>, rain: Option<&[f64]>) -> Vec<Front> {
    let rules = WettingRules::default();
    let falls = rain.map_or_else(Vec::new, |rain| falls(&profile.grid, rain, &rules));
    let all = wettings(profile, &falls, None, &rules).unwrap_or_default();
    let front = |w: ebrel_core::findings::Wetting| {
        let came = profile.levels.iter().zip(&w.arrivals);
        let points: Vec<(i64, f64)> = came.filter_map(|(l, a)| Some((a.as_ref()?.time.0, l.depth_cm))).collect();
        let speed = w.speed_cm_h.map_or_else(String::new, |s| format!(", {s:.1}\u{a0}cm/h"));
        (points.len() >= 2 && !w.out_of_order)
            .then(|| Front { points, words: format!("{:.1}\u{a0}mm{speed}", w.fall.mm) })
    };
    all.into_iter().filter_map(front).collect()
}

/// How deep the soil is frozen per column, tenths of a cm: the 0 °C line between two thermometers, from above; nothing is said below the last.
fn frost(ground: &Ground<'_>, times: &[i64], window: &Window) -> Vec<Option<i32>> {
    let profile = ground.profile(Quantity::SoilTemperature);
    if profile.levels.is_empty() {
        return Vec::new();
    }
    let rows: Vec<(f64, Vec<f64>)> = profile
        .levels
        .iter()
        .map(|l| (l.depth_cm, thin(View { times, values: &l.values }, window, |v| v).mean))
        .collect();
    let depth = |column: usize| {
        if rows[0].1[column].is_nan() || rows[0].1[column] >= 0.0 {
            return None;
        }
        for pair in rows.windows(2) {
            let ((z1, above), (z2, below)) = (&pair[0], &pair[1]);
            let (a, b) = (above[column], below[column]);
            if b.is_nan() || b >= 0.0 {
                let share = if b.is_finite() { -a / (b - a) } else { 0.0 };
                return Some(z1 + (z2 - z1) * share);
            }
        }
        rows.last().map(|r| r.0)
    };
    (0..window.columns()).map(|c| depth(c).map(|cm| (cm * 10.0).round() as i32)).collect()
}
