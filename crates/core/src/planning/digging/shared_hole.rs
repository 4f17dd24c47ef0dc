//! Several probes in one hole: pits, the side wall of a borehole, a buried node.

use super::super::choices::Method;
use super::super::figures::Figure;
use super::super::plan::Plan;
use super::{Dig, Hole, PIT_BELOW_CM, Patch, PatchKind, set};
use std::f64::consts::PI;

/// Half of a buried node's box, and its height, cm.
const NODE_CM: (f64, f64) = (9.0, 10.0);
/// Soil between a recess's mouth and the probe's back, cm.
const COVER_CM: f64 = 2.0;

pub(super) fn dig(plan: &Plan) -> Dig {
    let mut dig = Dig::default();
    if plan.buried().next().is_none() {
        return dig;
    }
    let deepest = plan.deepest_cm();
    let bored = plan.method == Method::SideWall;
    let below = if bored { plan.get(Figure::RoomBelow) } else { PIT_BELOW_CM };
    let node = plan.get(Figure::NodeDepth) + NODE_CM.1;
    let bottom = if plan.method == Method::Buried { (deepest + below).max(node) } else { deepest + below };
    let (left, right, area_cm2) = if bored {
        let r = plan.get(Figure::HoleDiameter) / 2.0;
        (-r, r, PI * r * r)
    } else {
        let (length, width) = (plan.get(Figure::PitLength), plan.get(Figure::PitWidth));
        (0.0, length, length * width)
    };
    dig.holes.push(Hole {
        outline: vec![(left, 0.0), (left, bottom), (right, bottom), (right, 0.0)],
        bottom_cm: bottom,
        length_cm: bottom,
        angle_deg: 0.0,
        area_cm2,
        entry: (left.midpoint(right), 0.0),
    });
    place(plan, &mut dig, left, right);
    if bored {
        let collar = plan.get(Figure::Collar).min(bottom);
        let outline = vec![(left, 2.0), (left, 2.0 + collar), (right, 2.0 + collar), (right, 2.0)];
        dig.patches.push(Patch { kind: PatchKind::Bentonite, outline });
    }
    if plan.method == Method::Buried {
        let (mid, top) = (left.midpoint(right), plan.get(Figure::NodeDepth));
        let (half, height) = NODE_CM;
        let outline =
            vec![(mid - half, top), (mid + half, top), (mid + half, top + height), (mid - half, top + height)];
        dig.patches.push(Patch { kind: PatchKind::Node, outline });
    }
    let swell = if bored { 4.0 } else { 6.0 };
    let outline = vec![(left - 6.0, 0.0), (left, -swell), (right, -swell), (right + 6.0, 0.0)];
    dig.patches.push(Patch { kind: PatchKind::Mound, outline });
    dig
}

/// Puts each probe into the wall; one at a depth that is taken goes beside it, in a borehole into the other wall.
fn place(plan: &Plan, dig: &mut Dig, left: f64, right: f64) {
    let bored = plan.method == Method::SideWall;
    let spacing = plan.get(Figure::HoleSpacing);
    let mut taken: Vec<f64> = Vec::new();
    for (index, probe) in plan.buried() {
        let before = taken.iter().filter(|d| (**d - probe.depth_cm).abs() <= 0.5).count();
        taken.push(probe.depth_cm);
        let side: i8 = if bored && before % 2 == 0 { 1 } else { -1 };
        let wall = if side > 0 { right } else { left };
        let (length, width, _) = probe.model.body_cm;
        let level = probe.attitude.from_vertical_deg() > 60.0;
        let in_wall = if !level {
            width / 2.0 + COVER_CM
        } else if probe.model.prong_cm == 0.0 || matches!(plan.method, Method::Recess | Method::Buried) {
            COVER_CM + length + probe.model.ahead_cm()
        } else {
            probe.model.ahead_cm()
        };
        let x = wall + f64::from(side) * in_wall;
        // A third probe at one depth of a borehole points into the page; in a pit each goes a spacing along the face.
        let y = if bored { (before / 2) as f64 * (width + 2.0) } else { before as f64 * spacing };
        let slant = probe.attitude.from_vertical_deg().to_radians();
        let direction = (f64::from(side) * slant.sin(), slant.cos());
        dig.set.push(set(plan, index, 0, side, (x, y), direction));
    }
}
