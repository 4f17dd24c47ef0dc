//! The order of work on site, with numbers, and the caution where its step is.

use super::choices::{Fill, Hardness, Method, Seat};
use super::digging::{Dig, SHORING_CM, soil_out};
use super::figures::Figure;
use super::plan::Plan;
use crate::units::format_short;

/// What a step is about: a log asks for what belongs to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WorkAt {
    /// A check that is ticked.
    Check,
    /// A hole, by its number from 1; 0 for a pit or trench.
    Hole(usize),
    /// Horizons as seen.
    Horizons,
    /// Cores for density.
    Cores,
    /// A probe, by its place in the plan.
    Probe(usize),
    /// A layer that is filled, by its name.
    Layer(String),
    /// The last look before leaving.
    Leaving,
}

/// One step of the work.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WorkStep {
    /// What it is about.
    pub at: WorkAt,
    /// What to do.
    pub does: String,
    /// What can hurt, and what keeps it from doing so.
    pub caution: Option<&'static str>,
}

/// Shown before any hole is dug.
pub const SERVICES: &str =
    "Have buried services located before any hole; local rules and the land's owner decide whether you may dig.";
const TOOLS: &str = "Eye protection and gloves for boring, hammering and cutting.";
const HAMMER: &str = "Hearing and eye protection with hammers; gloves.";
const PIT: &str = "Nobody goes into a pit deeper than about 1.2 m without shoring by a competent person. Keep spoil and feet off the edge.";
const DUST: &str = "A mask against bentonite and dry soil dust.";
const POWER: &str = "Never short, puncture or open a lithium cell; do not charge it below freezing. Anything on mains or above low voltage is a licensed electrician's work.";
const MAST: &str = "No mast near overhead lines; at thunder, leave.";
const OPEN: &str = "Cover an open hole whenever you turn away: people and animals fall in.";
const ALONE: &str = "Somebody knows where you are and when you are due back. Heat, cold, ticks.";

/// The steps of installing a plan, in order.
#[must_use]
pub fn work_steps(plan: &Plan, dig: &Dig) -> Vec<WorkStep> {
    let mut steps = Vec::new();
    let mut step = |at: WorkAt, does: String, caution: Option<&'static str>| steps.push(WorkStep { at, does, caution });
    step(
        WorkAt::Check,
        "Check: services located, owner agrees, weather, program loaded and a test record written.".into(),
        Some(SERVICES),
    );
    step(
        WorkAt::Check,
        "Tell somebody where you are and when you are back. Read every probe once in air, by handheld.".into(),
        Some(ALONE),
    );
    // Where nothing is buried nothing is dug: a gauge, or tubs that a handheld reads.
    if !dig.set.is_empty() {
        at_the_hole(plan, dig, &mut step);
    }
    step(
        WorkAt::Check,
        "Connect unpowered, by the wiring sheet: ground and shield, signal, supply. Then the battery.".into(),
        Some(POWER),
    );
    step(WorkAt::Leaving, "Last before leaving: every channel reads sensibly through the logger itself; the clock is right; a record was really written; the lid is closed.".into(), None);
    steps
}

/// From the tarp to the sod: what is dug, placed and filled.
fn at_the_hole(plan: &Plan, dig: &Dig, step: &mut impl FnMut(WorkAt, String, Option<&'static str>)) {
    step(WorkAt::Check, "Lay the tarp out; mark a place for each pile by depth.".into(), None);
    digging(plan, dig, step);
    step(WorkAt::Cores, format!("Take a density core at each depth before the probe goes in: {}.", depths(plan)), None);
    placing(plan, dig, step);
    if plan.method != Method::Buried {
        step(
            WorkAt::Check,
            format!(
                "Conduit: {} cm down the hole, {} cm up the post. Slack loop of {} m under the enclosure.",
                format_short(plan.get(Figure::ConduitDown)),
                format_short(plan.get(Figure::ConduitUp)),
                format_short(plan.get(Figure::Loop))
            ),
            Some(MAST),
        );
    }
    backfill(plan, dig, step);
}

fn depths(plan: &Plan) -> String {
    let mut depths: Vec<f64> = plan.buried().map(|(_, p)| p.depth_cm).collect();
    depths.sort_by(f64::total_cmp);
    depths.dedup();
    let words: Vec<String> = depths.into_iter().map(format_short).collect();
    format!("{} cm", words.join(", "))
}

fn digging(plan: &Plan, dig: &Dig, step: &mut impl FnMut(WorkAt, String, Option<&'static str>)) {
    let piles = "lay the soil in ordered piles by depth";
    let deepest = dig.holes.iter().map(|h| h.bottom_cm).fold(0.0, f64::max);
    let bottom = format_short((deepest * 10.0).round() / 10.0);
    match plan.method {
        Method::Pit | Method::Recess | Method::Buried => {
            let caution = if deepest > SHORING_CM * 0.8 { PIT } else { OPEN };
            let (length, width) = (format_short(plan.get(Figure::PitLength)), format_short(plan.get(Figure::PitWidth)));
            step(
                WorkAt::Hole(0),
                format!(
                    "Lift the sod. Dig a pit {length} × {width} cm, {bottom} cm deep; {piles}. Keep the face you will use untrodden and upright."
                ),
                Some(caution),
            );
            step(WorkAt::Horizons, "Clean the face; note the horizons as seen, with their boundaries.".into(), None);
        }
        Method::Surface => {
            step(WorkAt::Hole(0), "Cut the slot with the knife, no wider than the blade.".into(), Some(TOOLS))
        }
        Method::ShortTrench => {
            step(WorkAt::Hole(0), format!("Cut the trench {bottom} cm deep, its end wall clean; {piles}."), Some(TOOLS))
        }
        _ => {
            for (i, hole) in dig.holes.iter().enumerate() {
                let angle = if hole.angle_deg > 0.0 {
                    format!(" at {}° from the vertical", format_short(hole.angle_deg))
                } else {
                    String::new()
                };
                let caution = if plan.hardness == Hardness::Hard { HAMMER } else { TOOLS };
                step(
                    WorkAt::Hole(i + 1),
                    format!(
                        "Bore hole {}{angle}, {} cm along the hole; empty the auger every four to five turns; {piles}. Measure it.",
                        i + 1,
                        format_short((hole.length_cm * 10.0).round() / 10.0)
                    ),
                    Some(caution),
                );
            }
        }
    }
}

fn placing(plan: &Plan, dig: &Dig, step: &mut impl FnMut(WorkAt, String, Option<&'static str>)) {
    let mut order: Vec<_> = dig.set.iter().collect();
    order.sort_by(|a, b| plan.probes[b.probe].depth_cm.total_cmp(&plan.probes[a.probe].depth_cm));
    for s in order {
        let p = &plan.probes[s.probe];
        let how = match plan.method {
            Method::SideWall => "with the lever tool into the side wall".to_owned(),
            Method::Recess | Method::Buried => "wholly into its recess".to_owned(),
            Method::Pit => "into the face".to_owned(),
            Method::Slurry => "into the slurry; work it till no air is left".to_owned(),
            Method::Pipe => {
                format!("on its pipe of {} cm", format_short((s.pipe_cut_cm.unwrap_or(0.0) * 10.0).round() / 10.0))
            }
            Method::Straight | Method::Slanted | Method::Surface | Method::ShortTrench => s.marks.map_or_else(
                || "by hand, without wobble".to_owned(),
                |(touch, full)| {
                    format!(
                        "pipe marks: {:.1} cm when it touches, {:.1} cm when it is in",
                        touch.from_bottom_cm, full.from_bottom_cm
                    )
                },
            ),
        };
        let seat = if plan.seat == Seat::Repacked { ", seat of sieved native soil, tamped" } else { "" };
        step(
            WorkAt::Probe(s.probe),
            format!(
                "{} to {}, {how}{seat}. Never force it: stone or root means a new hole. Read it, three times, before going on.",
                p.label,
                p.place()
            ),
            None,
        );
    }
}

fn backfill(plan: &Plan, dig: &Dig, step: &mut impl FnMut(WorkAt, String, Option<&'static str>)) {
    let mut layers = soil_out(plan, dig);
    layers.reverse();
    let when = if plan.fill == Fill::AfterEach { "after each probe" } else { "when all are in" };
    for layer in layers {
        let mass = layer
            .moist_kg
            .map_or_else(|| "to the density it had".to_owned(), |kg| format!("{kg:.1} kg of soil as moist as today"));
        step(
            WorkAt::Layer(layer.name.clone()),
            format!(
                "Fill {} ({} to {} cm), {when}: {mass}, in layers of 5 to 10 cm, tamped.",
                layer.name,
                format_short(layer.span_cm.0),
                format_short((layer.span_cm.1 * 10.0).round() / 10.0)
            ),
            None,
        );
    }
    if dig.patches.iter().any(|p| p.kind == super::digging::PatchKind::Bentonite) {
        step(
            WorkAt::Check,
            format!("Bentonite collar of {} cm near the top, wetted.", format_short(plan.get(Figure::Collar))),
            Some(DUST),
        );
    }
    step(WorkAt::Check, "Mound the top, replace the sod, strain relief on the cable.".into(), None);
}
