//! The hole of each method, against figures worked out by hand.

use ebrel_core::geometry::Attitude;
use ebrel_core::planning::{Assessment, Catalogue, Draft, Method, PatchKind, Setting, assess};
use serde_json::{Value, json};

fn work_out(draft: Value) -> Assessment {
    let draft: Draft = serde_json::from_value(draft).expect("a draft");
    let setting = Setting { station: "Tub 1".into(), interval_s: 900.0, months: 24.0 };
    assess(&draft, &Catalogue::shipped(), &setting)
}

/// A plan of blade probes (body 3.5 cm, prongs 5 cm: the centre lies 2.5 cm ahead of the body).
fn blades(method: &str, depths: &[f64], figures: Value) -> Assessment {
    let probes: Vec<Value> = depths.iter().map(|d| json!({"depth_cm": d, "model": "blade-5"})).collect();
    work_out(json!({"probes": probes, "choices": {"method": method}, "figures": figures}))
}

#[track_caller]
fn close(got: f64, want: f64) {
    assert!((got - want).abs() < 1e-6, "got {got}, want {want}");
}

#[test]
fn a_pit_is_dug_below_its_deepest_probe_and_prongs_go_into_its_wall() {
    let found = blades("pit", &[20.0, 50.0], json!({"pit_length_cm": 90, "pit_width_cm": 50}));
    let hole = &found.dig.holes[0];
    close(hole.bottom_cm, 58.0);
    close(hole.area_cm2, 4500.0);
    let [x, _, z] = found.dig.set[0].volume.centre;
    close(x, -2.5);
    close(z, 20.0);
    assert!(found.dig.set[0].body.iter().all(|p| p.0 >= -1e-9), "the body sticks out into the pit");
    assert!(found.dig.set[0].prongs.iter().all(|p| p.0 <= 1e-9), "the prongs are in the soil");
}

#[test]
fn a_recess_takes_the_whole_probe_into_the_wall() {
    let found = blades("recess", &[20.0], json!({}));
    assert!(found.dig.set[0].body.iter().all(|p| p.0 < 0.0), "{:?}", found.dig.set[0].body);
}

#[test]
fn a_pair_in_a_pit_lies_a_spacing_apart_and_in_a_borehole_in_the_other_wall() {
    let pit = blades("pit", &[20.0, 20.0], json!({"hole_spacing_cm": 30}));
    close(pit.dig.set[1].volume.centre[1] - pit.dig.set[0].volume.centre[1], 30.0);
    let bored = blades("side_wall", &[20.0, 20.0], json!({"hole_diameter_cm": 10}));
    assert_eq!([bored.dig.set[0].side, bored.dig.set[1].side], [1, -1]);
    close(bored.dig.set[0].volume.centre[0], 7.5);
    close(bored.dig.set[1].volume.centre[0], -7.5);
    assert!(!bored.remarks.iter().any(|r| r.says.contains("same soil")), "15 cm apart they share none");
}

#[test]
fn a_side_wall_keeps_room_for_the_tool_and_its_collar_off_the_sensed_soil() {
    let found = blades("side_wall", &[10.0, 40.0], json!({"room_below_cm": 15, "collar_cm": 10}));
    close(found.dig.holes[0].bottom_cm, 55.0);
    let collar = found.remarks.iter().find(|r| r.at == "figures.collar_cm").expect("a remark");
    assert!(
        collar.says.contains("The bentonite reaches 12 cm down, into soil that is sensed from 7.4 cm: 5 cm"),
        "{}",
        collar.says
    );
    assert!(
        !blades("side_wall", &[10.0, 40.0], json!({"collar_cm": 5}))
            .remarks
            .iter()
            .any(|r| r.at == "figures.collar_cm")
    );
}

#[test]
fn a_straight_hole_ends_where_the_prongs_begin_and_its_pipe_has_two_marks() {
    let found = blades("straight", &[50.0], json!({"pusher_pipe_cm": 120, "standoff_cm": 4}));
    close(found.dig.holes[0].length_cm, 47.5);
    let (touch, full) = found.dig.set[0].marks.expect("marks");
    close(full.from_bottom_cm, 51.5);
    close(touch.from_bottom_cm, 46.5);
    close(full.from_top_cm, 68.5);
    assert_eq!(found.plan.probes[0].attitude, Attitude::Upright);
}

#[test]
fn a_slanted_hole_is_longer_by_its_angle_and_shorter_where_the_ground_rises() {
    let level = blades("slanted", &[30.0], json!({"hole_angle_deg": 45}));
    close(level.dig.holes[0].length_cm, 30.0 * 2f64.sqrt() - 2.5);
    close(level.dig.set[0].volume.centre[0], 30.0);
    let uphill = blades("slanted", &[30.0], json!({"hole_angle_deg": 45, "ground_slope_deg": 10}));
    let along = 30.0 / (45f64.to_radians().cos() + 45f64.to_radians().sin() * 10f64.to_radians().tan());
    close(uphill.dig.holes[0].length_cm, along - 2.5);
    // The ground straight above the centre is higher than the entry; the depth counts from there.
    let [x, _, z] = uphill.dig.set[0].volume.centre;
    close(z - uphill.dig.ground(x), 30.0);
    let two = blades("slanted", &[30.0, 60.0], json!({"hole_spacing_cm": 55}));
    close(two.dig.holes[1].entry.0, 55.0);
}

#[test]
fn a_short_trench_is_cut_so_deep_that_the_centre_comes_to_its_depth() {
    let found = blades("short_trench", &[20.0], json!({"hole_angle_deg": 45}));
    close(found.dig.holes[0].bottom_cm, 20.0 - 2.5 * 45f64.to_radians().cos());
    close(found.dig.set[0].volume.centre[2], 20.0);
}

#[test]
fn a_block_sits_in_slurry_all_round_and_a_pipe_is_cut_with_what_it_shows_above() {
    let block =
        work_out(json!({"probes": [{"depth_cm": 40, "model": "matrix-block"}], "choices": {"method": "slurry"}}));
    // Half of the block of 8 cm and 2 cm of slurry below its centre.
    close(block.dig.holes[0].bottom_cm, 46.0);
    let slurry = block.dig.patches.iter().find(|p| p.kind == PatchKind::Slurry).expect("slurry");
    let top = slurry.outline.iter().map(|p| p.1).fold(f64::INFINITY, f64::min);
    close(top, 46.0 - 2.0 - 8.0 - 4.0);
    let pipe = blades("pipe", &[30.0], json!({"pipe_above_cm": 12}));
    close(pipe.dig.set[0].pipe_cut_cm.expect("a cut"), 27.5 + 12.0);
}

#[test]
fn a_buried_node_lies_in_the_pit_and_needs_no_post() {
    let found = blades("buried", &[20.0], json!({"node_depth_cm": 45}));
    let node = found.dig.patches.iter().find(|p| p.kind == PatchKind::Node).expect("a node");
    close(node.outline[0].1, 45.0);
    assert!(found.dig.cable.is_empty() && !found.dig.patches.iter().any(|p| p.kind == PatchKind::Conduit));
    assert!(found.dig.holes[0].bottom_cm >= 55.0);
    // 25 cm up and down, 40 cm across, the loop of 0.3 m, and a tenth of slack.
    close(found.dig.set[0].cable_m, (0.25 + 0.4 + 0.3) * 1.1);
}

#[test]
fn cable_runs_down_along_and_up_with_slack_and_further_from_a_further_hole() {
    let figures = json!({"cable_run_m": 2, "post_rise_m": 1.5, "loop_m": 0.3, "slack_pct": 10});
    let found = blades("pit", &[50.0], figures);
    close(found.dig.set[0].cable_m, (0.5 + 2.0 + 1.5 + 0.3) * 1.1);
    let holes = blades(
        "straight",
        &[50.0, 50.0],
        json!({"hole_spacing_cm": 100, "slack_pct": 0, "loop_m": 0, "post_rise_m": 0, "cable_run_m": 1}),
    );
    close(holes.dig.set[0].cable_m - holes.dig.set[1].cable_m, 1.0);
}

#[test]
fn soil_out_of_several_slanted_holes_adds_up_layer_by_layer() {
    let soil = json!([{"name": "A", "bottom_cm": 10, "density": 1.0}, {"name": "B", "bottom_cm": 60, "density": 1.5}]);
    let probes = json!([{"depth_cm": 30, "model": "blade-5"}, {"depth_cm": 30, "model": "blade-5"}]);
    let draft = json!({"probes": probes, "horizons": soil, "choices": {"method": "slanted"}, "figures": {"hole_angle_deg": 45, "hole_diameter_cm": 8}});
    let found = work_out(draft);
    let area = std::f64::consts::PI * 16.0;
    close(found.layers[0].litres, 2.0 * area * 10.0 * 2f64.sqrt() / 1000.0);
    let whole: f64 = found.layers.iter().map(|l| l.litres).sum();
    close(whole, 2.0 * area * found.dig.holes[0].length_cm / 1000.0);
}

#[test]
fn every_method_draws_what_its_steps_and_kit_speak_of() {
    for method in Method::ALL {
        let depth = if *method == Method::Surface { 8.0 } else { 20.0 };
        let found = blades(method.code(), &[depth], json!({}));
        assert_eq!(found.dig.set.len(), 1, "{method:?}");
        let words: Vec<&str> = found.kit.iter().map(|i| i.what.as_str()).collect();
        let kit = words.join("; ");
        assert_eq!(method.is_bored(), kit.contains("auger"), "{method:?}: {kit}");
        let sealed = found.dig.patches.iter().any(|p| p.kind == PatchKind::Bentonite);
        assert_eq!(sealed, kit.contains("bentonite, "), "{method:?}: {kit}");
        let steps: Vec<&str> = found.steps.iter().map(|s| s.does.as_str()).collect();
        assert_eq!(sealed, steps.iter().any(|s| s.starts_with("Bentonite collar")), "{method:?}");
        assert!(steps.iter().any(|s| s.contains("Never force it")), "{method:?}");
    }
}
