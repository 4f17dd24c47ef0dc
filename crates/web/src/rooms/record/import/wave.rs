//! The daily wave of a thermometer against the hours of the sun: a wrong offset of the clock is seen in it.

use ebrel_app::importing::Mapping;
use ebrel_core::units::Quantity;
use ebrel_formats::logger::Survey;

/// The wave of one thermometer.
pub struct Wave {
    /// The column whose mean day it is.
    pub name: String,
    /// A line through 24 hours of the sun, in 240 x 80.
    pub line: String,
    /// Where its warmest hour stands.
    pub top_x: String,
    /// What it says of the clock.
    pub says: String,
    /// The warmest hour is not one of the sun's.
    pub odd: bool,
}

/// Hours of the sun between which the air, and soil near its surface, is warmest.
const WARMEST: std::ops::RangeInclusive<f64> = 11.0..=18.5;

/// The wave of the thermometer with the largest one, by the mean hours of the sun at `longitude`, or those of the study's offset where
/// no place is known. `None` without a thermometer that swings by half a degree.
pub fn wave(survey: &Survey, mapping: &Mapping, longitude: Option<f64>, offset_minutes: i64) -> Option<Wave> {
    let by_sun = longitude.map_or(offset_minutes as f64 / 60.0, |l| l / 15.0);
    let warm = |q: Option<Quantity>| q.is_some_and(Quantity::is_temperature);
    // Below 10 cm the wave comes hours late, and says nothing of the clock.
    let near = |d: Option<f64>| d.is_none_or(|d| d <= 10.0);
    let columns = survey.columns.iter().zip(&mapping.columns).filter(|(_, p)| warm(p.quantity) && near(p.depth_cm));
    let swing = |w: &[f64; 24]| w.iter().copied().fold(f64::MIN, f64::max) - w.iter().copied().fold(f64::MAX, f64::min);
    let waves = columns.filter_map(|(c, p)| Some((c, p, c.daily_wave()?.map(|v| v * p.factor + p.plus))));
    let (column, _, wave) = waves.max_by(|a, b| swing(&a.2).total_cmp(&swing(&b.2))).filter(|w| swing(&w.2) >= 0.5)?;
    let low = wave.iter().copied().fold(f64::MAX, f64::min);
    let sun = |hour: f64| (hour + 0.5 + by_sun).rem_euclid(24.0);
    let mut points: Vec<(f64, f64)> = wave.iter().enumerate().map(|(h, v)| (sun(h as f64), *v)).collect();
    points.sort_by(|a, b| a.0.total_cmp(&b.0));
    let place = |(h, v): &(f64, f64)| format!("{:.1},{:.1}", h * 10.0, 74.0 - 68.0 * (v - low) / swing(&wave));
    let top = points.iter().copied().fold((0.0, f64::MIN), |best, p| if p.1 > best.1 { p } else { best });
    let odd = !WARMEST.contains(&top.0);
    let says = if odd {
        format!("is warmest about {:.0} h by the sun: the clock, or its offset from UTC, looks wrong", top.0)
    } else {
        format!("is warmest about {:.0} h by the sun, as it should be", top.0)
    };
    Some(Wave {
        name: column.name.clone(),
        line: points.iter().map(place).collect::<Vec<_>>().join(" "),
        top_x: format!("{:.1}", top.0 * 10.0),
        says,
        odd,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::units::UnixSeconds;
    use ebrel_formats::logger::{Recipe, Separator, Text};

    /// A week of hours, warmest at so many hours UTC.
    fn week(warmest: f64) -> (Survey, Mapping) {
        let line = |i: i64| {
            let t = 1_717_200_000 + i * 3600;
            let phase = ((i % 24) as f64 - warmest) / 24.0 * std::f64::consts::TAU;
            format!("{},{:.2}\n", ebrel_formats::rfc3339(UnixSeconds(t)), 12.0 + 5.0 * phase.cos())
        };
        let text =
            Text::of_bytes(("time,t05 [degC]\n".to_owned() + &(0..168).map(line).collect::<String>()).into_bytes())
                .unwrap();
        let mut recipe = Recipe::plain(Separator::Comma, 0);
        recipe.time.forms = vec!["%Y-%m-%dT%H:%M:%S%z".into()];
        let survey = ebrel_formats::logger::survey(&text, &recipe, UnixSeconds(i64::MAX)).unwrap();
        let mapping = ebrel_app::importing::first_mapping(&survey, &[], "a.csv");
        (survey, mapping)
    }

    #[test]
    fn a_clock_that_is_half_a_day_off_is_seen() {
        let (survey, mapping) = week(13.0);
        let right = wave(&survey, &mapping, Some(7.0), 60).unwrap();
        assert!(!right.odd && right.says.contains("as it should be"), "{}", right.says);
        let (survey, mapping) = week(1.0);
        assert!(wave(&survey, &mapping, Some(7.0), 60).unwrap().odd);
        assert!(!wave(&survey, &mapping, Some(-170.0), 60).unwrap().odd, "at the other end of the world it is right");
    }
}
