//! Schools of depths, the choice of the site, where schools disagree, kit and steps, the logger's program.

use ebrel_core::planning::{
    Assessment, Catalogue, Draft, Program, Setting, Severity, Statistic, Step, assess, changes, known_bias, settling,
    spot_samples,
};
use ebrel_core::units::Quantity;
use serde_json::{Value, json};

fn draft(value: Value) -> Draft {
    serde_json::from_value(value).expect("a draft")
}

fn work_out(value: Value) -> Assessment {
    let setting = Setting { station: "Strip 2".into(), interval_s: 1800.0, months: 12.0 };
    assess(&draft(value), &Catalogue::shipped(), &setting)
}

fn offered(found: &Assessment, school: &str) -> Vec<f64> {
    found.offers.iter().find(|o| o.code == school).expect("a school").depths.iter().map(|d| d.depth_cm).collect()
}

#[test]
fn schools_offer_what_suits_these_roots_and_this_soil() {
    let soil = json!([{"name": "O", "bottom_cm": 3}, {"name": "A", "bottom_cm": 23}, {"name": "B", "bottom_cm": 83}, {"name": "C", "bottom_cm": 200}]);
    let found = work_out(json!({"horizons": soil, "figures": {"roots_cm": 90}}));
    assert_eq!(offered(&found, "rooting"), [25.0, 70.0, 100.0]);
    assert_eq!(offered(&found, "thirds"), [30.0, 60.0, 90.0]);
    assert_eq!(offered(&found, "standard"), [5.0, 10.0, 20.0, 50.0, 100.0]);
    // The leaf mould is too thin for a probe; of a very thick horizon the upper part counts.
    assert_eq!(offered(&found, "horizons"), [13.0, 53.0, 113.0]);
    let sentinels: Vec<bool> = found.offers[0].depths.iter().map(|d| d.sentinel).collect();
    assert_eq!(sentinels, [false, false, true]);
    let shallow = work_out(json!({"figures": {"roots_cm": 20}}));
    assert!(offered(&shallow, "thirds").is_empty() && offered(&shallow, "horizons").is_empty());
    assert_eq!(offered(&shallow, "rooting"), [5.0, 15.0, 30.0]);
    assert_eq!(offered(&shallow, "standard"), [5.0, 10.0, 20.0], "none far below the roots of an unknown soil");
}

fn scored(name: &str, score: u8, cleared: bool) -> Value {
    let codes = ["represents", "relief", "stones", "undisturbed", "bias", "sky", "radio"];
    let scores: serde_json::Map<String, Value> = codes.iter().map(|c| ((*c).to_owned(), json!(score))).collect();
    let yes = if cleared { "yes" } else { "" };
    json!({"name": name, "scores": scores, "cleared": {"services": yes, "access": "yes", "permission": "yes"}})
}

#[test]
fn the_best_place_is_the_best_of_those_that_may_be_dug() {
    let candidates = json!([scored("slope", 2, true), scored("meadow", 3, false), scored("hollow", 1, true)]);
    let found = work_out(json!({"candidates": candidates, "chosen": 0, "chosen_because": "like the rest"}));
    assert_eq!(found.best_candidate, Some(0), "the meadow's services are not located");
    let percent: Vec<i64> = found.candidates.iter().map(|c| c.percent.expect("scored").round() as i64).collect();
    assert_eq!(percent, [67, 100, 33]);
    assert_eq!(found.candidates[2].weak.len(), 7);
    assert!(!found.remarks.iter().any(|r| r.step == Step::Site && r.severity != Severity::Note), "{:?}", found.remarks);
    let other = work_out(json!({"candidates": candidates, "chosen": 2}));
    assert!(other.remarks.iter().any(|r| r.at == "chosen_because" && r.says.contains("slope scores higher")));
    let wrong = work_out(json!({"candidates": [{"name": "x", "scores": {"sky": 7}}], "chosen": 0}));
    assert!(wrong.stops(Some(Step::Site)).any(|r| r.at == "candidates.0.scores.sky"));
    let none = work_out(json!({"candidates": candidates}));
    assert!(none.remarks.iter().any(|r| r.at == "chosen" && r.says.contains("No candidate is chosen")));
}

#[test]
fn a_known_bias_wants_its_mitigation_and_is_one_sentence_for_the_station() {
    let biases = json!([{"what": "a shed", "mitigation": "moved in May"}, {"what": "roof drip"}, {"what": ""}]);
    let typed = draft(json!({"biases": biases}));
    assert_eq!(known_bias(&typed), "a shed (moved in May); roof drip");
    let found = work_out(json!({"biases": biases}));
    assert!(
        found.remarks.iter().any(|r| r.at == "biases.1.mitigation")
            && !found.remarks.iter().any(|r| r.at == "biases.2.mitigation")
    );
}

fn blades(choices: Value, figures: Value) -> Assessment {
    let probes = json!([{"depth_cm": 15, "model": "blade-5"}, {"depth_cm": 40, "model": "blade-5"}]);
    work_out(json!({"probes": probes, "choices": choices, "figures": figures}))
}

#[test]
fn where_the_schools_disagree_the_case_decides_and_both_sides_stand() {
    let prefers = |found: &Assessment, question: &str| {
        let d = found.disagreements.iter().find(|d| d.question == question).expect("a question");
        assert!(d.sides.iter().any(|s| s.code == d.prefers) && d.because.len() > 10);
        d.prefers
    };
    let usual = blades(json!({"method": "side_wall"}), json!({}));
    assert_eq!(
        [prefers(&usual, "seat"), prefers(&usual, "stay"), prefers(&usual, "fill")],
        ["undisturbed", "permanent", "each"]
    );
    let stony = blades(json!({"method": "straight", "machines": "mowing"}), json!({"stones_pct": 30}));
    assert_eq!(
        [prefers(&stony, "seat"), prefers(&stony, "stay"), prefers(&stony, "fill")],
        ["repacked", "seasonal", "end"]
    );
}

#[test]
fn settling_takes_as_long_as_its_seat() {
    let days = |found: &Assessment| settling(&found.plan).0;
    assert_eq!(days(&blades(json!({}), json!({}))), 14);
    assert_eq!(days(&blades(json!({"seat": "repacked"}), json!({}))), 42);
    let block = |method: &str| {
        work_out(json!({"probes": [{"depth_cm": 30, "model": "matrix-block"}], "choices": {"method": method}}))
    };
    assert_eq!((days(&block("pit")), days(&block("slurry"))), (21, 42));
}

#[test]
fn cautions_stand_at_their_steps_and_the_deepest_probe_goes_in_first() {
    let deep = work_out(json!({
        "probes": [{"depth_cm": 20, "model": "blade-5", "serial": "S-20"}, {"depth_cm": 100, "model": "blade-5", "serial": "S-100"}],
        "choices": {"method": "pit"}
    }));
    let at = |words: &str| {
        deep.steps.iter().position(|s| s.does.contains(words)).unwrap_or_else(|| panic!("no step {words}"))
    };
    assert!(at("S-100 to 100") < at("S-20 to 20"));
    let caution = |words: &str| deep.steps[at(words)].caution.unwrap_or_default();
    assert!(caution("Dig a pit").contains("shoring by a competent person"));
    assert!(caution("services located").contains("buried services"));
    assert!(caution("Connect unpowered").contains("licensed electrician"));
    assert!(caution("Conduit:").contains("overhead lines"));
    let bored = blades(json!({"method": "straight", "hardness": "hard"}), json!({}));
    let step = bored.steps.iter().find(|s| s.does.starts_with("Bore hole 1")).expect("a bored hole");
    assert!(step.caution.unwrap_or_default().contains("Hearing"));
}

#[test]
fn the_kit_counts_probes_with_spares_and_prices_add_up() {
    let found = blades(json!({"logger": "node-8"}), json!({"spares_pct": 60, "labour_h": 5, "rate_per_h": 20}));
    assert!(found.kit.iter().any(|i| i.what == "2 × blade dielectric, 5 cm, analog 2.5 V, and 2 spare"));
    assert!(found.kit.iter().any(|i| i.what.starts_with("4 cable labels")));
    assert!((found.price() - (4.0 * 95.0 + 210.0 + 100.0)).abs() < 1e-9);
    let bare = blades(json!({}), json!({"spares_pct": 0}));
    assert!(bare.kit.iter().any(|i| i.what.ends_with("and 0 spare")));
    let keys: std::collections::BTreeSet<&str> = bare.kit.iter().map(|i| i.code.as_str()).collect();
    assert_eq!(keys.len(), bare.kit.len(), "each item has a tick of its own");
    assert!(keys.iter().all(|k| !k.contains('.')), "a tick's key is one part of a path");
}

#[test]
fn the_usual_program_keeps_means_totals_and_daily_extremes() {
    let probes = json!([{"depth_cm": 15, "model": "rod-3"}, {"depth_cm": -100, "model": "rain-0.2"}]);
    let program = work_out(json!({"probes": probes})).plan.program;
    assert_eq!((program.scan_s, program.tables[0].every_s, program.tables[1].every_s), (300.0, 1800.0, 86_400.0));
    let keeps = |table: usize, quantity, statistic| {
        program.tables[table].columns.iter().any(|c| c.quantity == quantity && c.statistic == statistic)
    };
    assert!(keeps(0, Quantity::RawOutput, Statistic::Mean) && keeps(0, Quantity::Rain, Statistic::Total));
    assert!(!keeps(0, Quantity::Rain, Statistic::Mean) && !keeps(0, Quantity::RawOutput, Statistic::Maximum));
    assert!(keeps(1, Quantity::SoilTemperature, Statistic::Minimum) && !keeps(1, Quantity::Rain, Statistic::Maximum));
    assert!(
        keeps(0, Quantity::BatteryVoltage, Statistic::Minimum) && keeps(1, Quantity::PanelTemperature, Statistic::Mean)
    );
    assert_eq!(program.tables[0].values(), 5, "two of the rod, rain, battery, panel");
    assert_eq!(program.tables[0].bytes(), 8 + 4 * 5);
}

#[test]
fn ticks_replace_the_usual_columns_of_their_quantity_only() {
    let table = json!({"name": "t", "every_min": 30, "keep": {"raw_output:sample": "yes", "raw_output:mean": ""}});
    let program = work_out(json!({"probes": [{"depth_cm": 15, "model": "rod-3"}], "tables": [table]})).plan.program;
    let kept: Vec<(Quantity, Statistic)> =
        program.tables[0].columns.iter().map(|c| (c.quantity, c.statistic)).collect();
    assert!(
        kept.contains(&(Quantity::RawOutput, Statistic::Sample))
            && !kept.contains(&(Quantity::RawOutput, Statistic::Mean))
    );
    assert!(kept.contains(&(Quantity::SoilTemperature, Statistic::Mean)));
}

#[test]
fn a_program_is_told_from_the_one_that_was_sent_and_comes_back_from_its_json() {
    let now = work_out(json!({"probes": [{"depth_cm": 15, "model": "rod-3"}]})).plan.program;
    let json = serde_json::to_string(&now).expect("JSON");
    let sent: Program = serde_json::from_str(&json).expect("a program");
    assert!(changes(&sent, &now).is_empty());
    let faster = Program { scan_s: 60.0, ..now.clone() };
    assert_eq!(changes(&sent, &faster), ["no longer: scan every 5 min", "new: scan every 1 min"]);
}

#[test]
fn spot_work_counts_whole_intervals() {
    assert_eq!(spot_samples(10.0, 5.0), 120);
    assert_eq!(spot_samples(1.0, 7.0), 8, "the ninth would end after the minute");
    assert_eq!(spot_samples(0.1, 6.0), 1);
    assert_eq!(spot_samples(0.05, 6.0), 0);
}
