//! Plans from outside: what cannot be is told at its field, what can be dug has finite numbers, and budgets hold to
//! what they say.

use ebrel_core::planning::{Assessment, Catalogue, Draft, Method, Setting, Severity, Step, Suits, assess};
use proptest::prelude::*;
use serde_json::{Value, json};

fn setting() -> Setting {
    Setting { station: "Tub 1".into(), interval_s: 900.0, months: 24.0 }
}

fn work_out(draft: Value) -> Assessment {
    let draft: Draft = serde_json::from_value(draft).expect("a draft");
    assess(&draft, &Catalogue::shipped(), &setting())
}

fn probes(depths: &[f64]) -> Value {
    depths.iter().map(|d| json!({"depth_cm": d, "model": "blade-5"})).collect()
}

fn soil() -> Value {
    json!([{"name": "A", "bottom_cm": 22, "density": 1.2}, {"name": "B", "bottom_cm": 120, "density": 1.45}])
}

/// The sentence of a stop at a field.
#[track_caller]
fn stop_at(found: &Assessment, at: &str) -> String {
    let stop = found.stops(None).find(|r| r.at == at);
    stop.unwrap_or_else(|| panic!("no stop at {at}: {:#?}", found.remarks)).says.clone()
}

#[test]
fn what_cannot_be_is_told_at_its_field() {
    for (draft, at, says) in [
        (
            json!({"probes": [{"depth_cm": -10, "model": "blade-5"}]}),
            "probes.0.depth_cm",
            "is buried: give a depth below",
        ),
        (
            json!({"probes": [{"depth_cm": 20, "model": "rain-0.2"}]}),
            "probes.0.depth_cm",
            "give its height with a minus",
        ),
        (json!({"probes": [{"depth_cm": "deep", "model": "blade-5"}]}), "probes.0.depth_cm", "“deep” is no number"),
        (json!({"probes": [{"model": "blade-5"}]}), "probes.0.depth_cm", "Give the depth of its sensing centre"),
        (json!({"probes": [{"depth_cm": 20, "model": "gone"}]}), "probes.0.model", "has no model “gone”"),
        (json!({"probes": [{"depth_cm": 1, "model": "blade-10"}]}), "probes.0.depth_cm", "of what it senses is air"),
        (
            json!({"probes": probes(&[90.0]), "choices": {"method": "slanted"}, "figures": {"hole_angle_deg": 90}}),
            "figures.hole_angle_deg",
            "never reaches that depth",
        ),
        (
            json!({"probes": probes(&[90.0]), "choices": {"method": "short_trench"}, "figures": {"hole_angle_deg": 88}}),
            "figures.hole_angle_deg",
            "choose another angle",
        ),
        (
            json!({"probes": probes(&[90.0]), "choices": {"method": "straight"}, "figures": {"pusher_pipe_cm": 60}}),
            "figures.pusher_pipe_cm",
            "is too short",
        ),
        (
            json!({"probes": probes(&[150.0]), "choices": {"method": "pit"}}),
            "choices.method",
            "without shoring by a competent person",
        ),
        (
            json!({"probes": probes(&[30.0]), "choices": {"method": "surface"}}),
            "choices.method",
            "the deepest probe lies at 30 cm",
        ),
        (
            json!({"probes": [{"depth_cm": 80, "model": "blade-5", "cable_m": 0.5}]}),
            "probes.0.cable_m",
            "would not even reach out of the hole",
        ),
        (
            json!({"probes": [{"depth_cm": 30, "model": "blade-5", "lies": "edge"}], "choices": {"method": "straight"}}),
            "probes.0.lies",
            "stands upright",
        ),
        (
            json!({"figures": {"battery_mah": 0}, "probes": probes(&[10.0])}),
            "figures.battery_mah",
            "0 mAh carries nothing",
        ),
        (json!({"figures": {"battery_mah": "lots"}}), "figures.battery_mah", "Reckoned with 7000 mAh meanwhile"),
        (json!({"install": "2026-05-01", "retrieve": "2026-04-01"}), "retrieve", "put the dates in order"),
        (json!({"install": "1.5.2026"}), "install", "write it like 2026-03-14"),
        (json!({"horizons": [{"bottom_cm": 30}, {"bottom_cm": 20}]}), "horizons.1.bottom_cm", "ends at 30 cm"),
        (
            json!({"horizons": [{"bottom_cm": 30, "sand_pct": 70, "clay_pct": 40}]}),
            "horizons.0.clay_pct",
            "more than 100 %",
        ),
        (json!({"latitude": 123}), "latitude", "latitude must lie between −90 and 90"),
        (json!({"tables": [{"name": "fast", "every_min": 1}]}), "tables.0.every_min", "needs a scan at least as often"),
        (json!({"tables": [{"name": "odd", "every_min": 7}]}), "tables.0.every_min", "no whole number of scans"),
        (json!({"candidates": [{"name": "corner"}], "chosen": 0}), "chosen", "buried services located"),
        (json!({"choices": {"logger": "gone"}}), "choices.logger", "no logger “gone”"),
    ] {
        let found = work_out(draft);
        let sentence = stop_at(&found, at);
        assert!(sentence.contains(says), "{at}: {sentence}");
    }
}

#[test]
fn ports_are_proposed_taken_by_hand_and_run_out() {
    let bus = |address: &str| json!({"depth_cm": 20, "model": "rod-3", "address": address});
    let found = work_out(json!({"probes": [bus(""), bus(""), bus("")]}));
    let addresses: Vec<_> = found.wiring.plugged.iter().map(|p| p.address.clone().unwrap()).collect();
    assert_eq!(addresses, ["0", "1", "2"], "clashes of maker's addresses are parted");
    assert_eq!(found.wiring.plugged[2].readdress_from.as_deref(), Some("0"));
    assert!(!found.stops(Some(Step::Wiring)).any(|_| true));
    let clash = work_out(json!({"probes": [bus("4"), bus("4")]}));
    assert!(stop_at(&clash, "probes.1.address").contains("neither would be read. Type 0"));
    assert!(stop_at(&work_out(json!({"probes": [bus("10")]})), "probes.0.address").contains("one digit or letter"));

    let by_hand = json!({"probes": [{"depth_cm": 9, "model": "blade-5", "port": "A2"}, {"depth_cm": 20, "model": "blade-5"}, {"depth_cm": 30, "model": "blade-5", "port": "a2"}]});
    let found = work_out(by_hand);
    assert!(stop_at(&found, "probes.2.port").contains("is at port A2 already"));
    assert_eq!(found.wiring.plugged[1].port.as_ref().unwrap().name, "A1");
    let wrong = work_out(json!({"probes": [{"depth_cm": 9, "model": "blade-5", "port": "B1"}]}));
    assert!(stop_at(&wrong, "probes.0.port").contains("Port B1 reads digital bus"));
    let many: Vec<f64> = (1..=9).map(|i| f64::from(i) * 12.0).collect();
    let out = work_out(json!({"probes": probes(&many)}));
    assert!(stop_at(&out, "probes.8.port").contains("9 probes are analog, single-ended, and field node"));
}

#[test]
fn every_conductor_has_its_terminal_or_is_named_as_insulated() {
    let found = work_out(json!({
        "choices": {"logger": "logger-16"},
        "probes": [{"depth_cm": 20, "model": "rod-2-diff"}, {"depth_cm": 40, "model": "matrix-block"}, {"depth_cm": 60, "model": "matrix-block"}]
    }));
    let terminals: Vec<_> = found.wiring.wires.iter().filter(|w| w.probe == 0).map(|w| w.terminal.as_deref()).collect();
    let wanted = [Some("D1 supply"), Some("D1 high"), Some("D1 low"), Some("D1 ground"), Some("D1 ground"), None];
    assert_eq!(terminals, wanted);
    assert!(found.remarks.iter().any(|r| r.says.contains("2 resistive probes share the soil as a conductor")));
}

#[test]
fn checks_of_depths_speak_in_numbers() {
    let say = |draft: Value, words: &str| {
        let found = work_out(draft);
        assert!(found.remarks.iter().any(|r| r.says.contains(words)), "{words}: {:#?}", found.remarks);
    };
    say(json!({"probes": probes(&[21.0]), "horizons": soil()}), "across the boundary at 22 cm");
    say(json!({"probes": probes(&[30.0, 32.0])}), "is one and the same soil, 2 cm apart");
    say(json!({"probes": probes(&[30.0, 38.0])}), "Only 8 cm between 30 and 38 cm: the tool needs 10");
    say(json!({"probes": probes(&[30.0, 30.0])}), "the only honest check on each other");
    say(json!({"probes": [{"depth_cm": 40, "model": "blade-5", "sentinel": "yes"}]}), "but roots reach 50 cm");
    // The same probe lies deep enough flat, and too shallow upright.
    let lies = |lies: &str| work_out(json!({"probes": [{"depth_cm": 3, "model": "blade-5", "lies": lies}]}));
    assert_eq!(lies("flat").stops(Some(Step::Depths)).count(), 0);
    assert_eq!(lies("upright").stops(Some(Step::Depths)).count(), 1);
}

#[test]
fn the_preferred_method_follows_the_case_and_says_why() {
    let best = |draft: Value| {
        let found = work_out(draft);
        let fit = found.fits.iter().find(|f| f.preferred).unwrap_or_else(|| panic!("none preferred"));
        assert!(fit.suits == Suits::Well && fit.because.len() > 10);
        assert_eq!(found.fits.len(), Method::ALL.len());
        fit.method
    };
    assert_eq!(best(json!({"probes": probes(&[15.0, 35.0, 55.0])})), Method::SideWall);
    let stony = json!({"probes": probes(&[15.0, 35.0, 55.0]), "figures": {"stones_pct": 30}});
    assert_eq!(best(stony), Method::Recess);
    assert_eq!(best(json!({"probes": probes(&[8.0])})), Method::Surface);
    let blocks = json!({"probes": [{"depth_cm": 30, "model": "matrix-block"}]});
    assert_eq!(best(blocks), Method::Slurry);
    assert_eq!(best(json!({"probes": probes(&[60.0]), "choices": {"machines": "ploughing"}})), Method::Buried);
    assert_eq!(best(json!({"probes": probes(&[60.0]), "choices": {"stay": "seasonal"}})), Method::Pipe);
}

#[test]
fn soil_goes_back_at_its_density() {
    let draft = json!({"probes": probes(&[40.0]), "horizons": soil(), "choices": {"method": "side_wall"}, "figures": {"water_today": 0.3}});
    let found = work_out(draft);
    // A hole of 10 cm: 78.54 cm² over 22 and 30 cm.
    let a = &found.layers[0];
    assert!((a.litres - 78.539_816 * 22.0 / 1000.0).abs() < 1e-6);
    assert!((a.dry_kg.unwrap() - a.litres * 1.2).abs() < 1e-9);
    assert!((a.moist_kg.unwrap() - a.litres * (1.2 + 0.3)).abs() < 1e-9, "mass of the water is its volume");
    assert_eq!(found.layers[1].span_cm, (22.0, 52.0));
}

#[test]
fn budgets_say_whether_they_hold_and_what_would() {
    let found = work_out(
        json!({"probes": probes(&[10.0, 30.0]), "figures": {"battery_mah": 300, "scan_s": 60, "battery_target_days": 365}}),
    );
    let says = stop_at(&found, "figures.battery_target_days");
    assert!(says.contains("instead of every 1 min gives") && !found.energy.holds, "{says}");
    let north = json!({"probes": probes(&[10.0]), "latitude": 75, "figures": {"panel_w": 5, "battery_mah": 60}});
    let says = stop_at(&work_out(north), "figures.panel_w");
    assert!(says.contains("the sun does not rise in") && says.contains("no panel helps"), "{says}");
    let far = json!({"probes": probes(&[10.0]), "figures": {"distance_m": 9000}, "choices": {"terrain": "forest"}});
    assert!(stop_at(&work_out(far), "figures.distance_m").contains("are wanted"));
    let buried = work_out(
        json!({"probes": probes(&[20.0]), "choices": {"method": "buried", "terrain": "open"}, "figures": {"distance_m": 60, "node_depth_cm": 20}}),
    );
    let margins: Vec<f64> = buried.radio.by_wetness.iter().map(|p| p.1).collect();
    assert!(margins.windows(2).all(|w| w[1] < w[0]), "wetter soil swallows more");
    let crowded = json!({"probes": probes(&[20.0]), "figures": {"spreading": 12, "send_every_min": 1}});
    assert!(stop_at(&work_out(crowded), "figures.send_every_min").contains("packets an hour are needed"));
}

#[test]
fn the_calendar_follows_the_day_of_installation() {
    let draft = json!({"probes": [{"depth_cm": 30, "model": "matrix-block"}], "install": "2026-03-10", "machines_on": "2026-08-01", "retrieve": "2026-10-01"});
    let found = work_out(draft);
    let codes: Vec<&str> = found.calendar.iter().map(|e| e.code.as_str()).collect();
    assert_eq!(
        codes,
        [
            "order",
            "calibrate",
            "services",
            "soak",
            "pack",
            "install",
            "settling",
            "start",
            "visit",
            "machines",
            "retrieve"
        ]
    );
    let visit = found.calendar.iter().find(|e| e.code == "visit").unwrap();
    assert_eq!(visit.repeats, Some((28, 7)), "28 days from 7 April, none after the retrieval");
}

proptest! {
    /// Whatever is typed, nothing that is drawn or counted is anything but a finite number.
    #[test]
    fn no_drawing_ever_holds_a_number_that_is_none(
        method in 0usize..10,
        depths in prop::collection::vec(-50.0..400.0f64, 0..8),
        angle in -10.0..200.0f64,
        slope in -60.0..60.0f64,
        model in 0usize..9,
        lies in 0usize..5,
    ) {
        let catalogue = Catalogue::shipped();
        let lies = ["", "edge", "flat", "upright", "slanted"][lies];
        let probes: Vec<Value> = depths.iter().map(|d| json!({"depth_cm": d, "model": catalogue.probes[model].code, "lies": lies})).collect();
        let found = work_out(json!({
            "probes": probes, "horizons": soil(), "choices": {"method": Method::ALL[method].code()},
            "figures": {"hole_angle_deg": angle, "ground_slope_deg": slope}
        }));
        let dig = &found.dig;
        let points = dig.holes.iter().flat_map(|h| &h.outline)
            .chain(dig.patches.iter().flat_map(|p| &p.outline))
            .chain(dig.set.iter().flat_map(|s| s.body.iter().chain(&s.prongs)))
            .chain(&dig.cable);
        for (x, z) in points {
            prop_assert!(x.is_finite() && z.is_finite() && x.abs() < 1e5 && z.abs() < 1e5, "{x} {z}");
        }
        prop_assert!(dig.set.iter().all(|s| s.cable_m.is_finite() && s.volume.centre.iter().all(|c| c.is_finite())));
        prop_assert!(found.layers.iter().all(|l| l.litres.is_finite() && l.litres > 0.0));
        prop_assert!(found.energy.year.iter().all(|e| (0.0..=1.0).contains(e)));
        let (left, right, top, bottom) = dig.extent();
        prop_assert!(left < right && top < bottom);
        // Every probe has a place, or a stop says why not.
        let stops = found.remarks.iter().filter(|r| r.severity == Severity::Stop).count();
        prop_assert!(dig.set.len() == depths.len() || stops > 0 || !catalogue.probes[model].in_soil);
    }
}
