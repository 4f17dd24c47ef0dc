//! Laws of the sun, of the air, and of the few estimates that everything rests on.

use ebrel_core::findings::{DayState, Season, coverage, day_of_year, year_month};
use ebrel_core::series::{Hours, LeftOut, View, daily_waves, mean_wave};
use ebrel_core::statistics::{MAD_TO_SIGMA, f_upper_tail, mad_sigma, median, quantile, t_quantile};
use ebrel_core::sun::{SunTimes, sun_height, sun_times};
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_core::water::evapotranspiration::{
    DayWeather, daylight, hargreaves_mm, net_radiation_mj, penman_monteith_mm, pressure_kpa, radiation_by_range,
    saturation_kpa, saturation_slope, vapour_kpa,
};
use proptest::prelude::*;
use std::f64::consts::TAU;

const DAY: i64 = 86_400;

proptest! {
    #[test]
    fn the_sun_stands_at_the_horizon_when_it_rises_and_sets(
        latitude in -60.0f64..60.0, longitude in -179.0f64..179.0, day in 10_000i64..25_000,
    ) {
        let midnight = day * DAY;
        match sun_times(latitude, longitude, midnight) {
            SunTimes::Rises { sunrise, sunset } => {
                prop_assert!(sunset > sunrise && sunset - sunrise < 1440.0);
                for minutes in [sunrise, sunset] {
                    let height = sun_height(latitude, longitude, midnight + (minutes * 60.0) as i64);
                    // The upper limb with the usual refraction: 0.833° below.
                    prop_assert!((height + 0.833).abs() < 0.05, "{height}° at {minutes} min");
                }
                let noon = sun_height(latitude, longitude, midnight + (sunrise.midpoint(sunset) * 60.0) as i64);
                prop_assert!(noon > 0.0 && noon <= 90.0);
            }
            other => prop_assert!(latitude.abs() > 59.0, "{other:?} at {latitude}°"),
        }
    }

    #[test]
    fn day_and_night_change_places_across_the_equator(latitude in 0.0f64..66.0, day in 1u16..366) {
        let (north, south) = (daylight(latitude, day), daylight(-latitude, day));
        prop_assert!((north.hours + south.hours - 24.0).abs() < 1e-9);
        prop_assert!(north.radiation_mj > 0.0 && south.radiation_mj > 0.0 && north.radiation_mj < 50.0);
    }

    #[test]
    fn more_sun_more_wind_and_drier_air_take_more(
        high in 8.0f64..38.0, range in 2.0f64..18.0, humid in 30.0f64..95.0, latitude in -55.0f64..55.0, day in 1u16..366,
    ) {
        let (low, sun) = (high - range, daylight(latitude, day));
        let weather = |rh: f64, wind: f64, share: f64| DayWeather {
            t_max_c: high,
            t_min_c: low,
            vapour_kpa: vapour_kpa(high, low, rh, rh),
            wind_m_s: wind,
            solar_mj: share * sun.radiation_mj,
            ground_mj: 0.0,
            elevation_m: 200.0,
            extraterrestrial_mj: sun.radiation_mj,
        };
        let et = |rh, wind, share| penman_monteith_mm(&weather(rh, wind, share));
        prop_assert!(et(humid - 10.0, 2.0, 0.5) > et(humid, 2.0, 0.5) - 1e-9, "drier air");
        if humid > 60.0 && high > 18.0 && sun.radiation_mj > 25.0 {
            // A clear sky over dry or cold air and a low sun sends more heat out than it brings.
            prop_assert!(et(humid, 2.0, 0.7) > et(humid, 2.0, 0.3), "more sun");
        }
        prop_assert!((-1.0..16.0).contains(&et(humid, 2.0, 0.5)));
        prop_assert!(net_radiation_mj(&weather(humid, 2.0, 0.7)) < 0.77 * 0.7 * sun.radiation_mj + 5.0);
        prop_assert!(radiation_by_range(high, low, sun, 200.0) <= 0.76 * sun.radiation_mj);
        prop_assert!(hargreaves_mm(high, low, sun.radiation_mj) >= hargreaves_mm(high, low + 1.0, sun.radiation_mj) * 0.5);
        prop_assert!(hargreaves_mm(high, high, sun.radiation_mj) == 0.0);
    }

    #[test]
    fn the_slope_of_the_vapour_curve_is_its_slope(t in -30.0f64..45.0) {
        let step = 1e-4;
        let by_step = (saturation_kpa(t + step) - saturation_kpa(t - step)) / (2.0 * step);
        prop_assert!((saturation_slope(t) / by_step - 1.0).abs() < 1e-3);
        prop_assert!(pressure_kpa(t.abs() * 100.0) <= 101.3);
    }

    #[test]
    fn every_day_has_one_date_and_the_next_day_the_next(day in -700_000i64..700_000) {
        let ((year, month), next) = (year_month(day), year_month(day + 1));
        let (of_year, after) = (day_of_year(day), day_of_year(day + 1));
        prop_assert!((1..=366).contains(&of_year));
        if next.0 == year {
            prop_assert_eq!(after, of_year + 1);
            prop_assert!(next.1 == month || next.1 == month + 1);
        } else {
            prop_assert_eq!((next, after, month), ((year + 1, 1), 1, 12));
            let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
            prop_assert_eq!(of_year, if leap { 366 } else { 365 });
        }
        prop_assert!(Season::ALL.contains(&Season::of_month(month)));
    }

    #[test]
    fn the_middle_lies_between_and_follows(mut values in prop::collection::vec(-1e6f64..1e6, 1..60), by in -1e3f64..1e3) {
        let middle = median(&mut values.clone()).unwrap();
        let below = values.iter().filter(|v| **v <= middle).count();
        let above = values.iter().filter(|v| **v >= middle).count();
        prop_assert!(2 * below >= values.len() && 2 * above >= values.len());
        let mut moved: Vec<f64> = values.iter().map(|v| v + by).collect();
        prop_assert!((median(&mut moved).unwrap() - middle - by).abs() < 1e-6);
        let spread = mad_sigma(&mut values.clone()).unwrap();
        let mut double: Vec<f64> = values.iter().map(|v| 2.0 * v).collect();
        prop_assert!((mad_sigma(&mut double).unwrap() - 2.0 * spread).abs() < 1e-6 * (1.0 + spread));
        prop_assert!(MAD_TO_SIGMA > 1.48);
        let (low, high) = (quantile(&mut values, 0.1).unwrap(), quantile(&mut values, 0.9).unwrap());
        prop_assert!(low <= high);
        let mut mirrored: Vec<f64> = values.iter().map(|v| -v).collect();
        prop_assert_eq!(quantile(&mut mirrored, 0.9).unwrap(), -low);
    }

    #[test]
    fn a_square_of_t_is_an_f(df in 1usize..120, p in 0.55f64..0.999) {
        let t = t_quantile(p, df);
        prop_assert!((f_upper_tail(t * t, 1, df) - 2.0 * (1.0 - p)).abs() < 1e-6);
        prop_assert!(t_quantile(p, df + 1) < t + 1e-9, "more degrees of freedom, lighter tails");
        prop_assert!((t_quantile(1.0 - p, df) + t).abs() < 1e-6);
    }

    #[test]
    fn each_day_of_a_channel_has_one_state(
        gaps in prop::collection::vec((0usize..960, 0usize..120), 0..4),
        out in prop::collection::vec((0i64..960, 0i64..40), 0..4),
        waits in prop::collection::vec((0i64..960, 0i64..40), 0..4),
    ) {
        let times: Vec<i64> = (0..960usize)
            .filter(|i| !gaps.iter().any(|(a, n)| (*a..a + n).contains(i)))
            .map(|i| i as i64 * 900)
            .collect();
        let spans = |of: &[(i64, i64)]| LeftOut::of(of.iter().map(|(a, n)| (UnixSeconds(a * 900), UnixSeconds((a + n) * 900))));
        let (left_out, doubtful) = (spans(&out), spans(&waits));
        let states = coverage(&times, SpanSeconds(900), &left_out, &doubtful, UnixSeconds(0), 12);
        prop_assert_eq!(states.len(), 12);
        prop_assert_eq!(&states[10..], [DayState::Missing; 2], "after the end nothing came");
        for (day, state) in states[..10].iter().enumerate() {
            let of: Vec<i64> = times.iter().copied().filter(|t| t / DAY == day as i64).collect();
            let (n, gone) = (of.len(), of.iter().filter(|t| left_out.holds(UnixSeconds(**t))).count());
            let wanted = match () {
                () if n < 48 => DayState::Missing,
                () if gone * 10 > n => DayState::LeftOut,
                () if of.iter().any(|t| doubtful.holds(UnixSeconds(*t))) => DayState::Doubtful,
                () => DayState::Measured,
            };
            prop_assert_eq!(*state, wanted, "day {}", day);
        }
    }

    #[test]
    fn a_daily_wave_is_found_whatever_it_stands_on(
        size in 0.2f64..15.0, peak in 0.0f64..24.0, level in -40.0f64..60.0, trend in -0.05f64..0.05,
    ) {
        let times: Vec<i64> = (0..24 * 12).map(|h| 20_000 * DAY + h * 3600).collect();
        let value = |h: usize| level + trend * h as f64 + size * (TAU * (h as f64 - peak) / 24.0).cos();
        let values: Vec<f64> = (0..times.len()).map(value).collect();
        let view = View { times: &times, values: &values };
        let wave = mean_wave(view).unwrap();
        prop_assert!((wave.amplitude / size - 1.0).abs() < 1e-4 && wave.days == 10, "{wave:?}: the days at both ends have half their hours");
        let off = (wave.peak - peak + 36.0).rem_euclid(24.0) - 12.0;
        prop_assert!(off.abs() < 1e-3, "peak {} instead of {peak}", wave.peak);
        // Half the days without readings leave the others as they are.
        let holes: Vec<f64> = values.iter().enumerate().map(|(h, v)| if h / 24 == 5 { f64::NAN } else { *v }).collect();
        let hours = Hours::of(View { times: &times, values: &holes });
        let kept: Vec<bool> = daily_waves(&hours).iter().map(Option::is_some).collect();
        prop_assert!(!kept[5] && kept[2] && kept[9], "{kept:?}");
    }
}

#[test]
fn the_far_north_has_days_without_an_end_and_no_radiation_in_its_night() {
    assert_eq!(sun_times(80.0, 20.0, 19_900 * DAY), SunTimes::PolarDay);
    assert_eq!((daylight(80.0, 172).hours, daylight(80.0, 355).radiation_mj), (24.0, 0.0));
    assert_eq!(sun_times(f64::NAN, f64::INFINITY, 0), sun_times(0.0, 0.0, 0), "what is no place counts as none");
    assert_eq!(sun_times(95.0, 0.0, 0), sun_times(90.0, 0.0, 0));
}
