//! Instruments and physics as laws: there and back again, monotone where nature is, finite everywhere.

use ebrel_core::geometry::{
    Attitude, SensingVolume, angled_hole, overlap_fraction, pipe_marks, share_above_surface, sphere_overlap,
};
use ebrel_core::power::{
    RecordLoad, SelfDischarge, average_current, battery_days, daylight, derating, memory, solar_run,
};
use ebrel_core::radio::{Packet, WetSoil, duty_cycle, free_space_loss, permittivity, soil_path, time_on_air};
use ebrel_core::sun::{SunTimes, sun_times};
use ebrel_core::temperature::{
    Beta, SteinhartHart, Thermocouple, agreement, platinum_resistance, platinum_temperature,
};
use ebrel_core::tension::{BlockError, HalfBridge, matrix_resistance, matrix_tension};
use proptest::prelude::*;

fn near(a: f64, b: f64, tolerance: f64) -> bool {
    (a - b).abs() <= tolerance * b.abs().max(1.0)
}

proptest! {
    #[test]
    fn a_thermocouple_gives_back_its_temperature_at_any_panel(kind in 0usize..4, t in -80.0..350.0f64, panel in -30.0..60.0f64) {
        let kind = Thermocouple::ALL[kind];
        let measured = kind.emf(t).unwrap() - kind.emf(panel).unwrap();
        prop_assert!(near(kind.temperature(measured, panel).unwrap(), t, 1e-7));
        prop_assert!(kind.seebeck(t).unwrap() > 20.0, "hotter is always more in soil's range");
    }

    #[test]
    fn platinum_and_thermistors_go_there_and_back(t in -80.0..120.0f64, b in 3000.0..4500.0f64) {
        prop_assert!(near(platinum_temperature(100.0, platinum_resistance(100.0, t)).unwrap(), t, 1e-8));
        prop_assert!(near(platinum_temperature(1000.0, platinum_resistance(1000.0, t)).unwrap(), t, 1e-8));
        let usual = SteinhartHart { a: 0.001_129, b: 0.000_234_1, c: 8.775e-8 };
        prop_assert!(near(usual.temperature(usual.resistance(t)).unwrap(), t, 1e-6));
        let beta = Beta { ohm: 10_000.0, celsius: 25.0, beta: b };
        prop_assert!(near(beta.temperature(beta.resistance(t)).unwrap(), t, 1e-8));
        prop_assert!(beta.resistance(t) > beta.resistance(t + 1.0) && usual.resistance(t) > usual.resistance(t + 1.0));
    }

    #[test]
    fn three_points_of_a_thermistor_lie_on_the_curve_through_them(low in -20.0..5.0f64, mid in 10.0..25.0f64, high in 30.0..60.0f64) {
        let made = Beta { ohm: 5000.0, celsius: 25.0, beta: 3800.0 };
        let points = [low, mid, high].map(|t| (t, made.resistance(t)));
        let through = SteinhartHart::through(points).unwrap();
        for (t, ohm) in points {
            prop_assert!(near(through.temperature(ohm).unwrap(), t, 1e-6));
        }
    }

    #[test]
    fn a_bridge_gives_back_its_block_whatever_the_galvanic_voltage(ohm in 300.0..200_000.0f64, galvanic in -0.1..0.1f64, fixed in 1000.0..20_000.0f64) {
        let bridge = HalfBridge { drive_v: 2.5, fixed_ohm: fixed };
        let at = |drive: f64| (drive * ohm + galvanic * fixed) / (fixed + ohm);
        match bridge.read(at(2.5), at(-2.5)) {
            Ok(read) => prop_assert!(near(read.ohm, ohm, 1e-6) && near(read.galvanic_v, galvanic, 1e-9)),
            Err(BlockError::Open) => prop_assert!(ohm / (fixed + ohm) > 0.998, "only what is as good as open"),
            Err(BlockError::Polarity) => prop_assert!(galvanic.abs() * fixed >= 2.5 * ohm, "only where it drowns the signal"),
            Err(other) => prop_assert!(false, "{other}"),
        }
    }

    #[test]
    fn tension_and_resistance_are_inverse_and_dry_soil_resists_more(kpa in 10.0..150.0f64, t in 0.0..35.0f64) {
        let ohm = matrix_resistance(kpa, t);
        prop_assume!(ohm > 0.0);
        prop_assert!(near(matrix_tension(ohm, t).unwrap(), kpa, 1e-9));
        prop_assert!(matrix_tension(ohm * 1.1, t).unwrap_or(f64::INFINITY) > kpa);
        // A warm block reads low: the same resistance means more tension.
        prop_assert!(matrix_tension(ohm, t + 5.0).unwrap_or(f64::INFINITY) > kpa);
    }

    #[test]
    fn limits_of_agreement_do_not_depend_on_order_and_turn_with_the_methods(shift in -5.0..5.0f64, turn in 0usize..6) {
        let a = [10.1, 12.3, 9.8, 15.2, 20.4, 18.9];
        let b = a.map(|x| x - shift);
        let mut c = a.map(|x| x + [0.2, -0.1, 0.05, 0.0, -0.3, 0.1][(x as usize) % 6]);
        let mut d = b;
        let plain = agreement(&c, &d).unwrap();
        c.rotate_left(turn);
        d.rotate_left(turn);
        let turned = agreement(&c, &d).unwrap();
        prop_assert!(near(plain.bias, turned.bias, 1e-12) && near(plain.sd, turned.sd, 1e-9));
        let other = agreement(&d, &c).unwrap();
        prop_assert!(near(other.bias, -plain.bias, 1e-12) && near(other.limits.0, -plain.limits.1, 1e-9));
    }

    #[test]
    fn an_angled_hole_reaches_its_depth_below_the_ground_above_it(depth in 5.0..200.0f64, angle in 0.0..80.0f64, slope in -20.0..20.0f64, ahead in -5.0..4.0f64) {
        let Ok(hole) = angled_hole(depth, angle, ahead, slope) else { return Ok(()) };
        let ground_above = hole.offset_cm * slope.to_radians().tan();
        prop_assert!(near(hole.centre_drop_cm + ground_above, depth, 1e-9));
        prop_assert!(near(hole.centre_along_cm - hole.length_cm, ahead, 1e-9));
        prop_assert!(near(hole.offset_cm.hypot(hole.centre_drop_cm), hole.centre_along_cm, 1e-9));
    }

    #[test]
    fn a_pipe_has_its_length_whichever_end_one_measures_from(along in 0.0..300.0f64, offset in -5.0..10.0f64, pipe in 50.0..200.0f64) {
        match pipe_marks(&[along], offset, 0.0, pipe)[0] {
            Some(mark) => prop_assert!(near(mark.from_bottom_cm + mark.from_top_cm, pipe, 1e-12) && mark.from_top_cm >= 0.0),
            None => prop_assert!(along - offset < 0.0 || along - offset > pipe),
        }
    }

    #[test]
    fn overlap_is_symmetric_falls_with_distance_and_never_leaves_0_to_1(d in 0.0..20.0f64, r in 1.0..9.0f64, angle in 0.0..90.0f64) {
        let (volume, share) = sphere_overlap(r, 5.0, d);
        prop_assert!((0.0..=1.0 + 1e-12).contains(&share) && volume >= 0.0);
        prop_assert!(sphere_overlap(r, 5.0, d + 0.5).1 <= share + 1e-12);
        prop_assert_eq!(sphere_overlap(5.0, r, d), (volume, share));
        let at = |x: f64, attitude| SensingVolume { centre: [x, 0.0, 0.0], semi: [6.0, 3.0, 2.0], attitude };
        let (a, b) = (at(0.0, Attitude::LevelOnEdge), at(d, Attitude::Slanted(angle)));
        let both = overlap_fraction(&a, &b);
        prop_assert!((0.0..=1.0).contains(&both));
        prop_assert!(d > 1e-9 || near(overlap_fraction(&a, &a), 1.0, 1e-12));
        prop_assert!(d < 12.0 || both == 0.0, "two of 6 cm do not meet at {d}");
    }

    #[test]
    fn what_sticks_out_grows_as_a_probe_comes_up(depth in -10.0..10.0f64, half in 0.5..8.0f64) {
        let out = share_above_surface(depth, half);
        prop_assert!((0.0..=1.0).contains(&out));
        prop_assert!(share_above_surface(depth - 0.3, half) >= out);
        prop_assert!(near(share_above_surface(-depth, half), 1.0 - out, 1e-12), "what is not above is below");
    }

    #[test]
    fn a_charge_lasts_no_longer_for_losing_some_by_itself(mah in 1.0..50_000.0f64, ma in 0.001..50.0f64, loss in 0.0..0.8f64) {
        let days = |fraction| battery_days(mah, ma, SelfDischarge { fraction, period_days: 365.25 }).unwrap();
        prop_assert!(days(loss) <= days(0.0) * (1.0 + 1e-12));
        prop_assert!(near(days(0.0), mah / ma / 24.0, 1e-9));
        prop_assert!(near(average_current(ma, &[(ma, 3.0)], 60.0), ma, 1e-12), "a phase like sleep changes nothing");
    }

    #[test]
    fn derating_is_between_its_neighbours(t in -60.0..80.0f64) {
        let table = [(-20.0, 0.5), (0.0, 0.8), (25.0, 1.0)];
        let factor = derating(&table, t);
        prop_assert!((0.5..=1.0).contains(&factor) && derating(&table, t + 1.0) >= factor);
        prop_assert_eq!(derating(&[], t), 1.0);
    }

    #[test]
    fn a_battery_keeps_its_books(income in prop::collection::vec(0.0..20.0f64, 1..40), load in 0.1..15.0f64, start in 0.0..50.0f64) {
        let run = solar_run(income.iter().map(|i| (*i, load)), 50.0, start);
        prop_assert_eq!(run.energy_wh.len(), income.len());
        prop_assert!(run.energy_wh.iter().all(|e| (0.0..=50.0).contains(e)));
        prop_assert_eq!(run.days_unserved == 0, run.unserved_wh == 0.0);
        // What came in covers what was served, what is left, and what the full battery could not take.
        let (came, end) = (income.iter().sum::<f64>() + start, run.energy_wh[run.energy_wh.len() - 1]);
        let served = load * income.len() as f64 - run.unserved_wh;
        prop_assert!(came + 1e-6 >= served + end, "{came} {served} {end}");
    }

    #[test]
    fn a_year_of_light_is_the_same_on_both_halves_half_a_year_apart(latitude in 0.0..66.0f64, day in 1u16..=182) {
        let (north, south) = (daylight(latitude, day), daylight(-latitude, day + 182));
        prop_assert!((north.hours - south.hours).abs() < 0.35, "{} {}", north.hours, south.hours);
        prop_assert!(near(daylight(latitude, day).hours + daylight(-latitude, day).hours, 24.0, 1e-9));
        prop_assert!((daylight(0.0, day).hours - 12.0).abs() < 1e-9);
    }

    #[test]
    fn the_sun_is_up_as_long_as_the_year_says(latitude in -55.0..55.0f64, longitude in -180.0..180.0f64, day in 0u16..365) {
        let midnight = 1_767_225_600 + i64::from(day) * 86_400;
        let SunTimes::Rises { sunrise, sunset } = sun_times(latitude, longitude, midnight) else { panic!("it rises below 55°") };
        let (hours, without_refraction) = ((sunset - sunrise) / 60.0, daylight(latitude, day + 1).hours);
        // Refraction and the sun's width add some minutes; the simpler declination errs by as many around the equinox.
        prop_assert!((-0.1..0.45).contains(&(hours - without_refraction)), "{hours} {without_refraction}");
    }

    #[test]
    fn memory_is_shared_by_what_is_kept(bytes in 8u64..200, per_day in 1.0..300.0f64, others in 0usize..3) {
        let load = RecordLoad { bytes, per_day };
        let alone = memory(1 << 20, 256, 4, &[load]);
        let shared = memory(1 << 20, 256, 4, &vec![load; others + 1]);
        prop_assert!(near(shared.days * (others + 1) as f64, alone.days, 1e-9));
        prop_assert!(alone.records as f64 <= ((1 << 20) / 256 - 4) as f64 * (256 / bytes) as f64 + 1.0);
    }

    #[test]
    fn a_longer_or_slower_packet_is_longer_on_air(bytes in 1u32..200, spreading in 7u32..12) {
        let air = |spreading, payload_bytes| time_on_air(Packet { spreading, bandwidth_hz: 125_000.0, payload_bytes, coding: 1 }).total_ms;
        prop_assert!(air(spreading + 1, bytes) > air(spreading, bytes));
        prop_assert!(air(spreading, bytes + 20) > air(spreading, bytes));
        let limit = duty_cycle(air(spreading, bytes), 0.01);
        prop_assert!(f64::from(limit.per_hour) * air(spreading, bytes) <= 36_000.0 * (1.0 + 1e-9), "never over one hundredth");
    }

    #[test]
    fn waves_fade_with_distance_wetness_and_depth(metres in 1.0..5000.0f64, theta in 0.03..0.45f64, depth in 0.05..0.8f64) {
        prop_assert!(near(free_space_loss(metres * 10.0, 868e6) - free_space_loss(metres, 868e6), 20.0, 1e-9));
        let soil = |theta| WetSoil { theta, sand: 0.3, clay: 0.2, density: 1.35, particles: 2.65 };
        let loss = |theta, depth| soil_path(868e6, permittivity(868e6, &soil(theta)), depth);
        let path = loss(theta, depth);
        prop_assert!(path.absorbed_db > 0.0 && path.interface_db > 0.0 && path.total_db().is_finite());
        prop_assert!(loss(theta + 0.02, depth).absorbed_db > path.absorbed_db);
        prop_assert!(near(loss(theta, depth * 2.0).absorbed_db, 2.0 * path.absorbed_db, 1e-9));
    }
}
