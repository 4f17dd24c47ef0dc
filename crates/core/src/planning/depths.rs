//! Where the probes lie: the schools of choosing depths, and checks with numbers.

use super::digging::Dig;
use super::figures::Figure;
use super::plan::Plan;
use super::remark::{Remark, Severity, Step};
use crate::geometry::{overlap_fraction, share_above_surface};
use crate::soil::Horizon;
use crate::units::format_short;

/// A depth that a school offers.
#[derive(Debug, Clone, PartialEq)]
pub struct OfferedDepth {
    /// Depth of the sensing centre, cm.
    pub depth_cm: f64,
    /// What it answers.
    pub why: String,
    /// Whether it is the sentinel.
    pub sentinel: bool,
}

/// One school's offer for this soil and these roots.
#[derive(Debug, Clone, PartialEq)]
pub struct Offer {
    /// The word that stands for it in drafts.
    pub code: &'static str,
    /// What the school is called.
    pub school: &'static str,
    /// What it gives.
    pub gives: &'static str,
    /// Depths that it offers, the shallowest first.
    pub depths: Vec<OfferedDepth>,
}

/// Depths that are compared between networks, cm.
const STANDARD_CM: [f64; 5] = [5.0, 10.0, 20.0, 50.0, 100.0];
/// Roots below which agronomic thirds make no sense, cm.
const DEEP_ROOTS_CM: f64 = 60.0;
/// Horizons thinner than this take no probe, cm.
const THIN_HORIZON_CM: f64 = 6.0;

fn to_five(cm: f64) -> f64 {
    (cm / 5.0).round().max(1.0) * 5.0
}

/// What the four schools offer for `roots_cm` of roots in this soil.
#[must_use]
pub fn offers(horizons: &[Horizon], roots_cm: f64) -> Vec<Offer> {
    let at = |depth_cm: f64, why: &str| OfferedDepth { depth_cm, why: why.to_owned(), sentinel: false };
    let upper = to_five(roots_cm * 0.25);
    let lower = to_five(roots_cm * 0.75).max(upper + 5.0);
    let mut rooting = vec![at(upper, "upper root zone"), at(lower, "lower root zone")];
    let below = to_five(roots_cm + 10.0).max(lower + 5.0);
    rooting.push(OfferedDepth {
        depth_cm: below,
        why: "sentinel: if it wets, water is lost downwards".into(),
        sentinel: true,
    });
    let middles = (horizons.iter().filter(|l| l.bottom_cm - l.top_cm >= THIN_HORIZON_CM))
        .map(|l| at(l.top_cm.midpoint(l.bottom_cm.min(l.top_cm + 60.0)).round(), &format!("middle of {}", l.name)))
        .collect();
    let profile = horizons.last().map_or(roots_cm + 20.0, |l| l.bottom_cm).max(roots_cm);
    let standard = STANDARD_CM.into_iter().filter(|d| *d <= profile).map(|d| at(d, "standard depth")).collect();
    let thirds = if roots_cm >= DEEP_ROOTS_CM {
        ["upper third", "middle third", "lower third"]
            .iter()
            .zip(1..)
            .map(|(w, i)| at(to_five(roots_cm * f64::from(i) / 3.0), &format!("bottom of the {w} of the roots")))
            .collect()
    } else {
        Vec::new()
    };
    vec![
        Offer {
            code: "rooting",
            school: "By roots",
            gives: "where the plant drinks, and whether water is lost below",
            depths: rooting,
        },
        Offer {
            code: "horizons",
            school: "By horizons",
            gives: "one probe in each kind of soil, none across a boundary",
            depths: middles,
        },
        Offer {
            code: "standard",
            school: "Standard depths",
            gives: "records that compare with other networks",
            depths: standard,
        },
        Offer {
            code: "thirds",
            school: "Thirds",
            gives: "the whole of a deep root zone, evenly; for deep-rooted crops",
            depths: thirds,
        },
    ]
}

/// How near a probe's volume may come to a horizon boundary before it is called across, cm on either side.
const ACROSS_CM: f64 = 0.75;
/// Overlap of two sensing volumes that is not worth a word, share of the smaller.
const TOUCH: f64 = 0.01;

/// Checks of depths: volume in the soil, overlap, clearance for the tool, horizon boundaries, sentinel, pairs.
#[must_use]
pub fn check(plan: &Plan, dig: &Dig) -> Vec<Remark> {
    let mut remarks = Vec::new();
    for (_, p) in plan.buried() {
        let mut say =
            |severity, says: String| remarks.push(Remark::new(Step::Depths, severity, p.field("depth_cm"), says));
        let (top, bottom) = p.span();
        if top < 0.0 {
            let air = share_above_surface(p.depth_cm, p.depth_cm - top) * 100.0;
            let least = format_short(((p.depth_cm - top) * 2.0).ceil() / 2.0);
            say(
                Severity::Stop,
                format!(
                    "{air:.0} % of what it senses is air: so lying it reaches {} cm up. Go to {least} cm or deeper, or lay it flatter.",
                    format_short(p.depth_cm - top)
                ),
            );
        }
        let crossed =
            plan.soil.horizons().iter().map(|l| l.bottom_cm).find(|b| top + ACROSS_CM < *b && *b < bottom - ACROSS_CM);
        if let Some(boundary) = crossed.filter(|b| plan.soil.horizons().last().is_some_and(|l| *b < l.bottom_cm)) {
            say(
                Severity::Weak,
                format!(
                    "It senses {} to {} cm, across the boundary at {} cm: its reading mixes two soils.",
                    format_short(top),
                    format_short(bottom),
                    format_short(boundary)
                ),
            );
        }
        if let Some(last) = plan.soil.horizons().last().filter(|l| p.depth_cm > l.bottom_cm) {
            say(
                Severity::Note,
                format!(
                    "The soil is described down to {} cm only: its pore space at {} cm is not known.",
                    format_short(last.bottom_cm),
                    format_short(p.depth_cm)
                ),
            );
        }
    }
    between(plan, dig, &mut remarks);
    sentinel(plan, &mut remarks);
    if plan.buried().next().is_none() {
        remarks.push(Remark::new(
            Step::Depths,
            Severity::Stop,
            "",
            "No probe has a depth yet: take a school's depths, or add one.",
        ));
    }
    remarks
}

fn between(plan: &Plan, dig: &Dig, remarks: &mut Vec<Remark>) {
    let clearance = plan.get(Figure::ToolClearance);
    let needs_tool = plan.method.shares_hole();
    for (k, (i, a)) in plan.buried().enumerate() {
        for (j, b) in plan.buried().skip(k + 1) {
            let (Some(va), Some(vb)) = (dig.volume(i), dig.volume(j)) else { continue };
            let shared = overlap_fraction(va, vb);
            let gap = (a.depth_cm - b.depth_cm).abs();
            if shared > TOUCH {
                let says = format!(
                    "{:.0} % of the smaller sensing volume of {} ({}) and {} ({}) is one and the same soil, {} cm apart. Part their depths or their holes.",
                    shared * 100.0,
                    a.label,
                    a.place(),
                    b.label,
                    b.place(),
                    format_short(distance(va.centre, vb.centre))
                );
                remarks.push(Remark::new(Step::Depths, Severity::Weak, b.field("depth_cm"), says));
            } else if gap > 0.5 && gap < clearance && needs_tool && dig.same_hole(i, j) && dig.same_side(i, j) {
                let says = format!(
                    "Only {} cm between {} and {} cm: the tool needs {}. Set one on the other side, or part them.",
                    format_short(gap),
                    format_short(a.depth_cm.min(b.depth_cm)),
                    format_short(a.depth_cm.max(b.depth_cm)),
                    format_short(clearance)
                );
                remarks.push(Remark::new(Step::Depths, Severity::Weak, b.field("depth_cm"), says));
            }
            if gap <= 0.5 && a.model.principle == b.model.principle {
                let says = format!("A pair at {}: the only honest check on each other.", a.place());
                remarks.push(Remark::new(Step::Depths, Severity::Note, b.field("depth_cm"), says));
            }
        }
    }
}

fn distance(a: [f64; 3], b: [f64; 3]) -> f64 {
    a.iter().zip(b).map(|(x, y)| (x - y).powi(2)).sum::<f64>().sqrt()
}

fn sentinel(plan: &Plan, remarks: &mut Vec<Remark>) {
    let roots = plan.get(Figure::Roots);
    for (_, p) in plan.buried().filter(|(_, p)| p.sentinel) {
        if p.span().0 < roots {
            let says = format!(
                "The sentinel senses from {} cm, but roots reach {} cm: it would see them drink. Go to {} cm.",
                format_short(p.span().0),
                format_short(roots),
                format_short((roots + p.depth_cm - p.span().0).ceil())
            );
            remarks.push(Remark::new(Step::Depths, Severity::Weak, p.field("depth_cm"), says));
        }
    }
    let deep_enough = plan.buried().any(|(_, p)| p.sentinel);
    if !deep_enough && plan.probes.iter().filter(|p| p.model.in_soil).count() >= 2 {
        let says = format!(
            "No sentinel below the roots ({} cm): water that drains past them goes unseen. Mark the deepest probe, if it is one.",
            format_short(roots)
        );
        remarks.push(Remark::new(Step::Depths, Severity::Note, "", says));
    }
}
