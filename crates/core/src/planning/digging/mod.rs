//! The hole to be dug, in centimetres: what goes where, and the numbers that a crew needs.
//!
//! [`Dig::of`] places every buried probe by the plan's [`Method`]. Places are (right, down) in the plane of the
//! drawing, and right, into the page, down for sensing volumes; the surface at the first hole is the origin. What
//! cannot be dug becomes a remark, and every number that is left is finite.

mod own_hole;
mod shared_hole;
mod soil_out;

pub use soil_out::{LayerOut, soil_out};

use super::choices::Method;
use super::figures::Figure;
use super::plan::Plan;
use super::planned::PlannedProbe;
use super::remark::{Remark, Severity, Step};
use crate::geometry::{CableRun, PipeMark, SensingVolume, cable_sum};
use crate::units::format_short;

/// A place in the plane of the drawing: right and down, cm.
pub type Point = (f64, f64);

/// A hole.
#[derive(Debug, Clone, PartialEq)]
pub struct Hole {
    /// Its edge, from the surface round to the surface.
    pub outline: Vec<Point>,
    /// Its bottom below the surface, cm.
    pub bottom_cm: f64,
    /// Its length along its axis, cm.
    pub length_cm: f64,
    /// Angle of its axis from the vertical, degrees.
    pub angle_deg: f64,
    /// Cross-section, cm².
    pub area_cm2: f64,
    /// Where its axis meets the surface.
    pub entry: Point,
}

/// What a patch of the drawing is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PatchKind {
    /// Bentonite that seals.
    Bentonite,
    /// Slurry of sieved native soil.
    Slurry,
    /// A pipe around the cable.
    Conduit,
    /// The pipe a probe hangs on.
    Pipe,
    /// The buried node.
    Node,
    /// Soil heaped on top, so that water runs off.
    Mound,
}

/// An area of the drawing with a meaning.
#[derive(Debug, Clone, PartialEq)]
pub struct Patch {
    /// What it is.
    pub kind: PatchKind,
    /// Its outline, seen from above, cm.
    pub outline: Vec<Point>,
}

/// A probe in its place.
#[derive(Debug, Clone, PartialEq)]
pub struct SetProbe {
    /// Its place in [`Plan::probes`].
    pub probe: usize,
    /// Its hole, from 0.
    pub hole: usize,
    /// 1 where it points right, −1 where it points left.
    pub side: i8,
    /// The soil it senses.
    pub volume: SensingVolume,
    /// Edge of its body.
    pub body: Vec<Point>,
    /// Edge of its prongs or blade; empty if the body is the sensor.
    pub prongs: Vec<Point>,
    /// The pipe's mark when the tip touches the hole's bottom, and when it is fully in.
    pub marks: Option<(PipeMark, PipeMark)>,
    /// Length of the pipe to cut, for a probe that hangs on one, cm.
    pub pipe_cut_cm: Option<f64>,
    /// Cable that is needed, m.
    pub cable_m: f64,
}

/// Everything that is to be dug.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Dig {
    /// Holes that were dug, each with its probes.
    pub holes: Vec<Hole>,
    /// Probes that have a place.
    pub set: Vec<SetProbe>,
    /// Bentonite, slurry, conduit, pipes.
    pub patches: Vec<Patch>,
    /// Rise of the ground to the right, cm per cm.
    pub ground_rise: f64,
    /// Cable on its way from the hole to the post: down in the hole, at its mouth, at the post's foot, up the post.
    pub cable: Vec<Point>,
    /// Whether the post is higher than it is drawn.
    pub post_cut: bool,
}

/// Height of the post that is drawn, as a share of the deepest hole: the soil is what the drawing is about.
const DRAWN_RISE: f64 = 0.25;
/// How far a pit is dug below its deepest probe, cm.
const PIT_BELOW_CM: f64 = 8.0;
/// The deepest pit that is entered without shoring, cm.
pub const SHORING_CM: f64 = 120.0;

impl Dig {
    /// Digs a plan.
    #[must_use]
    pub fn of(plan: &Plan, remarks: &mut Vec<Remark>) -> Self {
        let mut dig = if plan.method.shares_hole() { shared_hole::dig(plan) } else { own_hole::dig(plan, remarks) };
        if !dig.set.is_empty() && plan.method != Method::Buried {
            dig.lead_out(plan);
        }
        dig.needs(plan, remarks);
        dig
    }

    /// The sensing volume of a probe, if it has a place.
    #[must_use]
    pub fn volume(&self, probe: usize) -> Option<&SensingVolume> {
        self.placed(probe).map(|s| &s.volume)
    }

    /// A probe in its place, if it has one.
    #[must_use]
    pub fn placed(&self, probe: usize) -> Option<&SetProbe> {
        self.set.iter().find(|s| s.probe == probe)
    }

    /// Whether two probes lie in one hole.
    #[must_use]
    pub fn same_hole(&self, a: usize, b: usize) -> bool {
        self.placed(a).zip(self.placed(b)).is_some_and(|(a, b)| a.hole == b.hole)
    }

    /// Whether two probes lie in one column of one wall.
    #[must_use]
    pub fn same_side(&self, a: usize, b: usize) -> bool {
        let both = self.placed(a).zip(self.placed(b));
        both.is_some_and(|(a, b)| a.side == b.side && (a.volume.centre[1] - b.volume.centre[1]).abs() < 1.0)
    }

    /// Depth of the ground at a place to the right of the origin; negative uphill.
    #[must_use]
    pub fn ground(&self, x: f64) -> f64 {
        -self.ground_rise * x
    }

    /// The corners of everything drawn: left, right, top, bottom.
    #[must_use]
    pub fn extent(&self) -> (f64, f64, f64, f64) {
        let volumes = self.set.iter().flat_map(|s| {
            let [x, _, z] = s.volume.centre;
            let (dx, dz) = (s.volume.reach([1.0, 0.0, 0.0]), s.volume.reach([0.0, 0.0, 1.0]));
            [(x - dx, z - dz), (x + dx, z + dz)]
        });
        let points = (self.holes.iter().flat_map(|h| h.outline.iter().copied()))
            .chain(self.patches.iter().flat_map(|p| p.outline.iter().copied()))
            .chain(self.set.iter().flat_map(|s| s.body.iter().copied()))
            .chain(self.cable.iter().copied())
            .chain(volumes);
        points.fold((-15.0, 15.0, -8.0, 20.0), |(l, r, t, b), (x, z)| (x.min(l), x.max(r), z.min(t), z.max(b)))
    }

    /// Conduit from the last hole to the post, and the cable in it.
    fn lead_out(&mut self, plan: &Plan) {
        let down = plan.get(Figure::ConduitDown);
        let deepest = self.holes.iter().map(|h| h.bottom_cm).fold(0.0, f64::max);
        let up = plan.get(Figure::ConduitUp).min((deepest * DRAWN_RISE).max(14.0));
        self.post_cut = up < plan.get(Figure::ConduitUp);
        let Some(hole) = self.holes.last() else { return };
        let right = self.holes.iter().flat_map(|h| &h.outline).map(|p| p.0).fold(f64::MIN, f64::max);
        let start = if plan.method == Method::Slanted {
            hole.entry.0
        } else {
            hole.outline.iter().map(|p| p.0).fold(f64::MIN, f64::max) - 2.0
        };
        let post = right.max(hole.entry.0) + 22.0;
        let ground = |x: f64| -self.ground_rise * x;
        let path = [
            (start, ground(start) + down.min(hole.bottom_cm)),
            (start, ground(start) + 2.0),
            (post, ground(post) + 2.0),
            (post, ground(post) - up),
        ];
        self.cable = path.to_vec();
        self.cable.push((post, ground(post) - up - 12.0));
        let half = 1.0;
        for leg in path.windows(2) {
            let ((x0, z0), (x1, z1)) = (leg[0], leg[1]);
            let upright = (x1 - x0).abs() < (z1 - z0).abs();
            let outline = if upright {
                vec![(x0 - half, z0), (x0 + half, z0), (x1 + half, z1), (x1 - half, z1)]
            } else {
                vec![(x0, z0 - half), (x1, z1 - half), (x1, z1 + half), (x0, z0 + half)]
            };
            self.patches.push(Patch { kind: PatchKind::Conduit, outline });
        }
    }

    /// Cable of each probe, against what it has.
    fn needs(&mut self, plan: &Plan, remarks: &mut Vec<Remark>) {
        let buried = plan.method == Method::Buried;
        for s in &mut self.set {
            let probe = &plan.probes[s.probe];
            let hole = &self.holes[s.hole];
            let in_hole = probe.depth_cm / hole.angle_deg.to_radians().cos();
            let run = if buried {
                let to_node = (probe.depth_cm - plan.get(Figure::NodeDepth)).abs() + 40.0;
                CableRun { hole_m: to_node / 100.0, run_m: 0.0, rise_m: 0.0, loop_m: plan.get(Figure::Loop) }
            } else {
                let across = (hole.entry.0 - self.holes.last().map_or(0.0, |h| h.entry.0)).abs() / 100.0;
                let run_m = plan.get(Figure::CableRun) + across;
                CableRun {
                    hole_m: in_hole / 100.0,
                    run_m,
                    rise_m: plan.get(Figure::PostRise),
                    loop_m: plan.get(Figure::Loop),
                }
            };
            s.cable_m = cable_sum(&[run], plan.get(Figure::Slack) / 100.0, 1.0).total_needed_m;
            if s.cable_m > probe.cable_m {
                remarks.push(Remark::new(
                    Step::Hole,
                    Severity::Stop,
                    probe.field("cable_m"),
                    short_cable(probe, s.cable_m),
                ));
            }
        }
        for p in plan.probes.iter().filter(|p| !p.model.in_soil) {
            let need = plan.get(Figure::PostRise) + plan.get(Figure::Loop);
            if need > p.cable_m {
                remarks.push(Remark::new(Step::Hole, Severity::Stop, p.field("cable_m"), short_cable(p, need)));
            }
        }
    }
}

fn short_cable(probe: &PlannedProbe, need_m: f64) -> String {
    let has = probe.cable_m;
    let than_hole = if probe.depth_cm / 100.0 > has { ": it would not even reach out of the hole" } else { "" };
    format!(
        "{} needs {} m of cable and has {} m{than_hole}. Order it with {} m, move the post nearer, or lengthen it with a sealed splice.",
        probe.label,
        format_short(need_m),
        format_short(has),
        format_short(need_m.ceil())
    )
}

/// A bar along a direction: from `from`, `length` forward, `width` wide; four corners.
fn bar(from: Point, (dx, dz): (f64, f64), length: f64, width: f64) -> Vec<Point> {
    let (nx, nz) = (-dz * width / 2.0, dx * width / 2.0);
    let to = (from.0 + dx * length, from.1 + dz * length);
    vec![(from.0 + nx, from.1 + nz), (to.0 + nx, to.1 + nz), (to.0 - nx, to.1 - nz), (from.0 - nx, from.1 - nz)]
}

/// A probe with its sensing centre at a place, pointing in a direction of the drawing's plane.
fn set(plan: &Plan, probe: usize, hole: usize, side: i8, (x, y): (f64, f64), direction: (f64, f64)) -> SetProbe {
    let p = &plan.probes[probe];
    let (length, width, thickness) = p.model.body_cm;
    let ahead = p.model.ahead_cm();
    let front = (x - direction.0 * ahead, p.depth_cm - direction.1 * ahead);
    let seen = if matches!(p.attitude, crate::geometry::Attitude::LevelFlat) { thickness } else { width };
    let back = (front.0 - direction.0 * length, front.1 - direction.1 * length);
    let prongs = if p.model.prong_cm > 0.0 { bar(front, direction, p.model.prong_cm, seen * 0.55) } else { Vec::new() };
    SetProbe {
        probe,
        hole,
        side,
        volume: p.volume(x, y),
        body: bar(back, direction, length, seen),
        prongs,
        marks: None,
        pipe_cut_cm: None,
        cable_m: 0.0,
    }
}

/// Places a finished hole's own view of a probe on sloping ground.
fn shift(points: &mut [Point], dz: f64) {
    for p in points {
        p.1 += dz;
    }
}
