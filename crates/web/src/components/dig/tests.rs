use super::*;
use ebrel_core::planning::{Catalogue, Draft, Setting, assess};
use serde_json::json;

fn found(method: &str, depths: &[f64]) -> Assessment {
    let probes: Vec<_> = depths.iter().map(|d| json!({"depth_cm": d, "model": "blade-5"})).collect();
    let soil =
        json!([{"name": "A", "texture": "loam", "bottom_cm": 20}, {"name": "B", "texture": "clay", "bottom_cm": 45}]);
    let draft: Draft =
        serde_json::from_value(json!({"probes": probes, "horizons": soil, "choices": {"method": method}})).unwrap();
    let setting = Setting { station: "S".into(), interval_s: 900.0, months: 12.0 };
    assess(&draft, &Catalogue::shipped(), &setting)
}

/// Every number of a path.
fn numbers(path: &str) -> Vec<f64> {
    let parts = path.split(|c: char| !(c.is_ascii_digit() || c == '.' || c == '-')).filter(|p| !p.is_empty());
    parts.map(|p| p.parse().unwrap()).collect()
}

#[test]
fn one_scale_serves_across_and_down_and_depths_stand_at_their_ticks() {
    let found = found("pit", &[20.0, 50.0]);
    let drawing = Drawing::of(&found, Measures::Metric);
    let zero = drawing.ticks[0].0;
    let at = |cm: f64| zero + cm * drawing.per_cm;
    assert!((drawing.sensed[0].y - at(20.0)).abs() < 1e-6 && (drawing.sensed[1].y - at(50.0)).abs() < 1e-6);
    let hole = numbers(&drawing.holes[0]);
    let across = hole[4] - hole[2];
    assert!((across / drawing.per_cm - 80.0).abs() < 0.2, "the pit is 80 cm long: {hole:?}");
    for (y, text) in &drawing.ticks {
        assert!((*y - at(text.parse().unwrap())).abs() < 1e-6);
    }
}

#[test]
fn names_of_near_depths_do_not_stand_on_each_other() {
    let found = found("side_wall", &[10.0, 12.0, 14.0, 40.0]);
    let drawing = Drawing::of(&found, Measures::Metric);
    let mut y: Vec<f64> = drawing.labels.iter().filter(|l| l.anchor == "start").map(|l| l.y).collect();
    assert_eq!(y.len(), 4);
    y.sort_by(f64::total_cmp);
    assert!(y.windows(2).all(|w| w[1] - w[0] >= 2.0 * LINE - 1e-9), "{y:?}");
}

#[test]
fn probes_at_one_depth_of_a_pit_share_a_label() {
    let drawing = Drawing::of(&found("pit", &[20.0, 20.0, 20.0]), Measures::Metric);
    assert_eq!(drawing.labels.len(), 1);
    assert_eq!((drawing.labels[0].text.as_str(), drawing.labels[0].soft.as_str()), ("20\u{a0}cm", "3 probes"));
}

#[test]
fn inches_are_for_show_and_lie_at_the_same_places() {
    let found = found("straight", &[25.4]);
    let (cm, inches) = (Drawing::of(&found, Measures::Metric), Drawing::of(&found, Measures::from_code("in")));
    assert_eq!((cm.labels[0].text.as_str(), inches.labels[0].text.as_str()), ("25.4\u{a0}cm", "10\u{a0}in"));
    assert!((cm.sensed[0].y - inches.sensed[0].y).abs() < 1e-9);
    assert_eq!(Measures::Metric.show(-150.0), "−150\u{a0}cm");
}

#[test]
fn the_horizons_names_stand_where_no_probe_is_named() {
    let right = Drawing::of(&found("pit", &[10.0, 30.0]), Measures::Metric);
    assert!(right.labels.iter().all(|l| l.anchor == "end") && right.bands.iter().all(|b| b.anchor == "end"));
    let left = Drawing::of(&found("straight", &[30.0]), Measures::Metric);
    assert!(left.labels.iter().all(|l| l.anchor == "start") && left.bands.iter().all(|b| b.anchor == "start"));
    let deep = Drawing::of(&found("straight", &[80.0]), Measures::Metric);
    assert_eq!(deep.bands.last().unwrap().words, "soil not described");
}

#[test]
fn handles_carry_their_fields_and_only_what_is_in_sight() {
    let found = found("straight", &[30.0]);
    let handles = Drawing::of(&found, Measures::Metric).with_handles(&found).handles;
    let paths: Vec<&str> = handles.iter().map(|h| h.path.as_str()).collect();
    assert_eq!(paths, ["horizons.0.bottom_cm", "probes.0.depth_cm"], "the boundary at 45 cm lies below the drawing");
    assert!(Drawing::of(&found, Measures::Metric).handles.is_empty(), "a sheet on paper has none");
}

#[test]
fn nothing_leaves_the_drawing_by_any_method() {
    for method in ebrel_core::planning::Method::ALL {
        let drawing = Drawing::of(&found(method.code(), &[8.0, 25.0, 70.0]), Measures::Metric);
        for path in drawing.holes.iter().chain(drawing.probes.iter().map(|p| &p.path)).chain([&drawing.cable]) {
            for pair in numbers(path).chunks(2) {
                assert!(
                    (0.0..=drawing.width).contains(&pair[0]) && (0.0..=drawing.height).contains(&pair[1]),
                    "{method:?}: {path}"
                );
            }
        }
    }
}

#[test]
fn a_station_without_probes_shows_its_soil() {
    let drawing = Drawing::of(&found("pit", &[]), Measures::Metric);
    assert!(
        drawing.sensed.is_empty() && drawing.labels.is_empty() && !drawing.bands.is_empty() && drawing.ticks.len() > 2
    );
}
