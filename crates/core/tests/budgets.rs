//! Energy, memory and radio of a plan: figures by hand, and words that say what to change.

use ebrel_core::planning::{Assessment, Catalogue, Draft, Setting, Step, assess, long_span};
use serde_json::{Value, json};

fn plan(figures: Value, extra: Value) -> Assessment {
    let mut draft = json!({"probes": [{"depth_cm": 15, "model": "rod-3"}], "figures": figures});
    for (key, value) in extra.as_object().expect("an object") {
        draft[key] = value.clone();
    }
    let draft: Draft = serde_json::from_value(draft).expect("a draft");
    let setting = Setting { station: "Ridge".into(), interval_s: 900.0, months: 24.0 };
    assess(&draft, &Catalogue::shipped(), &setting)
}

#[track_caller]
fn close(got: f64, want: f64, relative: f64) {
    assert!((got / want - 1.0).abs() < relative, "got {got}, want {want}");
}

#[test]
fn the_mean_current_is_what_the_phases_add_up_to() {
    let found = plan(json!({"scan_s": 300, "settle_factor": 2}), json!({"choices": {"logger": "node-8"}}));
    // Asleep 0.02 mA; the rod draws 4 mA and the node 8 mA for 0.5 s, and the node 8 mA for 0.05 s, every 300 s.
    let sensing = ((4.0 + 8.0 - 0.02) * 0.5 + (8.0 - 0.02) * 0.05) / 300.0;
    let logging = (8.0 - 0.02) * 0.1 / 900.0 + (8.0 - 0.02) * 0.1 / 86_400.0;
    let share = |name: &str| found.energy.shares.iter().find(|s| s.name == name).expect("a share").mean_ma;
    close(share("asleep"), 0.02, 1e-9);
    close(share("sensing"), sensing, 1e-9);
    close(share("keeping records"), logging, 1e-9);
    close(found.energy.mean_ma, found.energy.shares.iter().map(|s| s.mean_ma).sum(), 1e-12);
}

#[test]
fn cold_and_the_end_of_life_take_their_part_of_the_battery() {
    let mild = plan(json!({"year_mean_c": 28, "year_swing_c": 8, "battery_mah": 1000, "usable_pct": 80}), json!({}));
    close(mild.energy.usable_mah, 800.0, 1e-9);
    let cold = plan(json!({"year_mean_c": 0, "year_swing_c": 10, "battery_mah": 1000, "usable_pct": 80}), json!({}));
    close(cold.energy.usable_mah, 800.0 * 0.7, 1e-9);
    assert!(cold.energy.says.contains("−10 °C"), "{}", cold.energy.says);
}

#[test]
fn a_battery_that_does_not_last_gets_a_remedy_that_would() {
    let figures = json!({"battery_mah": 600, "scan_s": 60, "battery_target_days": 200});
    let found = plan(figures.clone(), json!({}));
    assert!(!found.energy.holds);
    let says = &found.energy.says;
    let offered =
        says.split("A scan every ").nth(1).and_then(|s| s.split(' ').next()).expect("a scan interval is offered");
    let minutes: f64 = offered.parse().expect("minutes");
    let mut better = figures;
    better["scan_s"] = json!(minutes * 60.0);
    assert!(plan(better, json!({})).energy.holds, "what is said to do does: {says}");
    let hopeless = plan(json!({"battery_mah": 20, "battery_target_days": 2000}), json!({}));
    assert!(hopeless.energy.says.contains("or a panel, would do"), "{}", hopeless.energy.says);
}

#[test]
fn a_panel_is_judged_in_its_worst_month_and_the_south_has_its_winter_in_june() {
    let worst = |latitude: f64| {
        let solar = plan(json!({"panel_w": 1}), json!({"latitude": latitude})).energy.solar.expect("a panel");
        (solar.worst, solar.income_wh)
    };
    assert_eq!((worst(47.0).0, worst(-33.0).0), (11, 5));
    let (_, north) = worst(47.0);
    assert!(north[5] > 3.0 * north[11]);
    let small = plan(json!({"panel_w": 0.01, "scan_s": 10}), json!({"latitude": 60}));
    assert!(!small.energy.holds && small.energy.says.contains("A panel of"), "{}", small.energy.says);
    let needed = small.energy.solar.expect("a panel").needed_w.expect("some panel would do");
    assert!(plan(json!({"panel_w": needed * 1.3, "scan_s": 10}), json!({"latitude": 60})).energy.holds);
}

#[test]
fn a_panel_without_a_place_is_reckoned_and_said_so() {
    let found = plan(json!({"panel_w": 2}), json!({}));
    assert!(found.remarks.iter().any(|r| r.step == Step::Budgets && r.says.contains("no latitude yet")));
    let shaded = plan(json!({"panel_w": 2, "shade_pct": 80}), json!({"latitude": 47}));
    let open = plan(json!({"panel_w": 2}), json!({"latitude": 47}));
    let december = |a: &Assessment| a.energy.solar.as_ref().expect("a panel").income_wh[11];
    close(december(&shaded), december(&open) * 0.2, 1e-9);
}

#[test]
fn records_fill_packets_and_slow_packets_hold_fewer() {
    let radio = |spreading: u32, minutes: u32| {
        plan(json!({"spreading": spreading, "send_every_min": minutes, "overhead_bytes": 13}), json!({})).radio
    };
    // Rod: two values, battery, panel: 8 + 4 × 4 bytes a record, four records an hour.
    assert_eq!((radio(7, 60).bytes, radio(7, 60).packets), (96, 1));
    assert_eq!(radio(12, 60).packets, 2, "51 bytes fit into a slow packet");
    assert_eq!(radio(7, 5).bytes, 24, "a packet carries at least one record");
    assert!(radio(12, 60).air_ms > 8.0 * radio(7, 60).air_ms);
}

#[test]
fn a_weak_link_is_told_what_would_carry_it() {
    let far = |spreading: u32| plan(json!({"distance_m": 14_000, "spreading": spreading, "power_dbm": 10}), json!({}));
    let says = &far(7).radio.says;
    let offered: u32 = says
        .split("Spreading factor ")
        .nth(1)
        .and_then(|s| s.split(' ').next())
        .expect("a factor")
        .parse()
        .expect("a number");
    assert!(far(offered).radio.margin_db >= 10.0 && far(offered - 1).radio.margin_db < 10.0, "{says}");
    let farther = plan(json!({"distance_m": 50_000, "spreading": 12, "power_dbm": 0}), json!({}));
    let reach: f64 = farther
        .radio
        .says
        .split("12 reaches ")
        .nth(1)
        .and_then(|s| s.split(' ').next())
        .expect("a reach")
        .parse()
        .expect("metres");
    let near = plan(json!({"distance_m": reach, "spreading": 12, "power_dbm": 0}), json!({}));
    assert!((near.radio.margin_db - 10.0).abs() < 0.1, "{} at {reach}", near.radio.margin_db);
}

#[test]
fn a_buried_node_falls_silent_in_the_wet_before_the_dry() {
    let extra = json!({"choices": {"method": "buried", "terrain": "open"}, "horizons": [{"name": "A", "bottom_cm": 60, "density": 1.4, "sand_pct": 20, "clay_pct": 30}]});
    let at = |depth: u32| {
        plan(json!({"node_depth_cm": depth, "distance_m": 300, "spreading": 9, "water_today": 0.12}), extra.clone())
            .radio
    };
    let (shallow, deep) = (at(20), at(70));
    assert!(deep.margin_db < shallow.margin_db);
    let silent = |r: &ebrel_core::planning::Radio| r.silent_above.unwrap_or(1.0);
    assert!(silent(&deep) <= silent(&shallow));
    assert!(plan(json!({}), json!({})).radio.by_wetness.is_empty(), "in the air no soil swallows anything");
}

#[test]
fn a_logger_without_a_radio_is_collected_and_its_memory_must_last_till_then() {
    let mut extra = json!({"choices": {"logger": "logger-16"}, "tables": [{"name": "fast", "every_min": 0.1}]});
    extra["probes"] = json!([{"depth_cm": 15, "model": "rod-2-diff"}]);
    let found = plan(json!({"scan_s": 6, "visit_days": 90}), extra);
    assert!(found.radio.says.contains("has no radio"));
    let stop = found.stops(Some(Step::Program)).next().expect("a stop");
    assert!(stop.says.contains("may pass until somebody collects"), "{}", stop.says);
    assert!(!found.energy.shares.iter().any(|s| s.name == "radio"));
}

#[test]
fn spans_are_said_as_people_count_them() {
    assert_eq!([long_span(12.0), long_span(213.0), long_span(2922.0)], ["12 days", "7.0 months", "8.0 years"]);
}
