//! A hole for each probe: straight, slanted, slot, trench, slurry seat, pipe.

use super::super::choices::Method;
use super::super::figures::Figure;
use super::super::plan::Plan;
use super::super::remark::{Remark, Severity, Step};
use super::{Dig, Hole, Patch, PatchKind, bar, set, shift};
use crate::geometry::{AngledHole, HoleError, angled_hole, pipe_marks};
use std::f64::consts::PI;

/// Slurry under a block and over it, cm.
const SLURRY_CM: (f64, f64) = (2.0, 4.0);
/// A trench for one rod probe: length and width, cm.
const TRENCH_CM: (f64, f64) = (30.0, 20.0);
/// Width of a knife slot, cm.
const SLOT_CM: f64 = 1.0;

pub(super) fn dig(plan: &Plan, remarks: &mut Vec<Remark>) -> Dig {
    let slanted = plan.method == Method::Slanted;
    let rise = if slanted { plan.get(Figure::GroundSlope).to_radians().tan() } else { 0.0 };
    let mut dig = Dig { ground_rise: rise, ..Dig::default() };
    for (index, _) in plan.buried() {
        let x = dig.holes.len() as f64 * plan.get(Figure::HoleSpacing);
        match plan.method {
            Method::Surface => slot(plan, &mut dig, index, x),
            Method::ShortTrench => trench(plan, &mut dig, index, x, remarks),
            Method::Pit
            | Method::Recess
            | Method::SideWall
            | Method::Straight
            | Method::Slanted
            | Method::Slurry
            | Method::Pipe
            | Method::Buried => borehole(plan, &mut dig, index, x, remarks),
        }
    }
    dig
}

fn borehole(plan: &Plan, dig: &mut Dig, index: usize, x: f64, remarks: &mut Vec<Remark>) {
    let probe = &plan.probes[index];
    let slanted = plan.method == Method::Slanted;
    let (angle, slope) =
        if slanted { (plan.get(Figure::HoleAngle), plan.get(Figure::GroundSlope)) } else { (0.0, 0.0) };
    let slurry = if plan.method == Method::Slurry { SLURRY_CM.0 } else { 0.0 };
    let ahead = probe.model.ahead_cm() - slurry;
    let geometry = match angled_hole(probe.depth_cm, angle, ahead, slope) {
        Ok(geometry) => geometry,
        Err(error) => return cannot(plan, index, error, remarks),
    };
    let AngledHole { length_cm, offset_cm, .. } = geometry;
    let (sin, cos) = angle.to_radians().sin_cos();
    let lift = dig.ground(x);
    let diameter = plan.get(Figure::HoleDiameter);
    let mut outline = bar((x, 0.0), (sin, cos), length_cm, diameter);
    shift(&mut outline, lift);
    // The corners at the surface lie on the ground, not square to the axis.
    for corner in [0, 3] {
        let side = if corner == 0 { -1.0 } else { 1.0 };
        let mouth = side * diameter / 2.0 / cos;
        outline[corner] = (x + mouth, dig.ground(x + mouth));
    }
    let outline = vec![outline[0], outline[1], outline[2], outline[3]];
    let number = dig.holes.len();
    dig.holes.push(Hole {
        outline,
        bottom_cm: geometry.bottom_drop_cm,
        length_cm,
        angle_deg: angle,
        area_cm2: PI * (diameter / 2.0).powi(2),
        entry: (x, lift),
    });
    let mut placed = set(plan, index, number, 1, (x + offset_cm, 0.0), (sin, cos));
    // On a slope the depth counts from the ground above the probe, the drawing from the entry.
    let down = lift + geometry.centre_drop_cm - probe.depth_cm;
    shift(&mut placed.body, down);
    shift(&mut placed.prongs, down);
    placed.volume.centre[2] += down;
    let pipe = plan.get(Figure::PusherPipe);
    let standoff = plan.get(Figure::Standoff);
    let along = geometry.centre_along_cm;
    let prong = probe.model.prong_cm;
    let marks = pipe_marks(&[along - prong, along], probe.model.ahead_cm(), standoff, pipe);
    match (plan.method, marks[0], marks[1]) {
        (Method::Pipe, ..) => placed.pipe_cut_cm = Some(length_cm + plan.get(Figure::PipeAbove)),
        (_, Some(touch), Some(full)) => placed.marks = Some((touch, full)),
        _ => {
            let says = format!(
                "The pushing pipe of {pipe} cm is too short for {} ({}), or the mark falls off its end. Take a longer pipe.",
                probe.label,
                probe.place()
            );
            remarks.push(Remark::new(Step::Hole, Severity::Stop, "figures.pusher_pipe_cm", says));
        }
    }
    seals(plan, dig, index, x, (sin, cos), length_cm);
    dig.set.push(placed);
}

/// Says why a hole cannot be drilled; an angle that is wrong for all is said once.
fn cannot(plan: &Plan, index: usize, error: HoleError, remarks: &mut Vec<Remark>) {
    let probe = &plan.probes[index];
    let (at, says) = match error {
        HoleError::TooFlat(_) => ("figures.hole_angle_deg".to_owned(), format!("{error}.")),
        HoleError::NoHole(_) => (probe.field("depth_cm"), format!("{} ({}): {error}.", probe.label, probe.place())),
    };
    if !remarks.iter().any(|r| r.at == at && r.says == says) {
        remarks.push(Remark::new(Step::Hole, Severity::Stop, at, says));
    }
}

/// Collar, slurry, pipe of one borehole.
fn seals(plan: &Plan, dig: &mut Dig, index: usize, x: f64, direction: (f64, f64), length: f64) {
    let probe = &plan.probes[index];
    let diameter = plan.get(Figure::HoleDiameter);
    let lift = dig.ground(x);
    let along = |from: f64, to: f64, width: f64| {
        let start = (x + direction.0 * from, lift + direction.1 * from);
        bar(start, direction, to - from, width)
    };
    let collar = plan.get(Figure::Collar).min(length - 2.0).max(0.0);
    let mut patches = vec![(PatchKind::Bentonite, along(2.0, 2.0 + collar, diameter))];
    if plan.method == Method::Slurry {
        let top = (length - SLURRY_CM.0 - probe.model.body_cm.0 - SLURRY_CM.1).max(0.0);
        patches.push((PatchKind::Slurry, along(top, length, diameter)));
    }
    if plan.method == Method::Pipe {
        let end = (length - probe.model.body_cm.0).max(1.0);
        patches.push((PatchKind::Pipe, along(-plan.get(Figure::PipeAbove), end, diameter * 0.6)));
    }
    dig.patches.extend(patches.into_iter().map(|(kind, outline)| Patch { kind, outline }));
}

fn slot(plan: &Plan, dig: &mut Dig, index: usize, x: f64) {
    let probe = &plan.probes[index];
    let upright = probe.attitude.from_vertical_deg() < 45.0;
    let (length, width, _) = probe.model.body_cm;
    let whole = length + probe.model.prong_cm;
    let direction = if upright { (0.0, 1.0) } else { (1.0, 0.0) };
    let (half, bottom) = if upright {
        (width / 2.0, (probe.depth_cm - probe.model.ahead_cm()).max(0.5))
    } else {
        (whole / 2.0 + 1.0, probe.depth_cm + width / 2.0)
    };
    let middle = if upright { x } else { x - probe.model.ahead_cm() + probe.model.prong_cm - whole / 2.0 };
    let number = dig.holes.len();
    dig.holes.push(Hole {
        outline: vec![(middle - half, 0.0), (middle - half, bottom), (middle + half, bottom), (middle + half, 0.0)],
        bottom_cm: bottom,
        length_cm: bottom,
        angle_deg: 0.0,
        area_cm2: 2.0 * half * SLOT_CM,
        entry: (x, 0.0),
    });
    dig.set.push(set(plan, index, number, 1, (x, 0.0), direction));
}

fn trench(plan: &Plan, dig: &mut Dig, index: usize, x: f64, remarks: &mut Vec<Remark>) {
    let probe = &plan.probes[index];
    let angle = plan.get(Figure::HoleAngle);
    let (sin, cos) = angle.to_radians().sin_cos();
    // The prongs start at the floor's far corner: the centre lies half of them further down the slant.
    let depth = probe.depth_cm - probe.model.ahead_cm() * cos;
    if depth < 2.0 || angle > 85.0 {
        let says = format!(
            "{} at {} needs a trench {depth:.1} cm deep at {angle}°: push it in from the surface, or choose another angle.",
            probe.label,
            probe.place()
        );
        return remarks.push(Remark::new(Step::Hole, Severity::Stop, "figures.hole_angle_deg", says));
    }
    let number = dig.holes.len();
    dig.holes.push(Hole {
        outline: vec![(x - TRENCH_CM.0, 0.0), (x - TRENCH_CM.0 * 0.4, depth), (x, depth), (x, 0.0)],
        bottom_cm: depth,
        length_cm: depth,
        angle_deg: 0.0,
        area_cm2: TRENCH_CM.0 * 0.8 * TRENCH_CM.1,
        entry: (x, 0.0),
    });
    dig.set.push(set(plan, index, number, 1, (x + probe.model.ahead_cm() * sin, 0.0), (sin, cos)));
}
