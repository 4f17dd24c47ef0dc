//! Which method fits the case, and where the schools of installing disagree.

use super::choices::{Fill, Hardness, Machines, Method, Seat, Stay};
use super::digging::{Dig, SHORING_CM};
use super::figures::Figure;
use super::plan::Plan;
use super::remark::{Remark, Severity, Step};
use crate::units::format_short;

/// How well a method fits a plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Suits {
    /// Cannot be done so.
    No,
    /// Can, at a price.
    Poorly,
    /// Fits.
    Well,
}

/// A method with its fit to the case.
#[derive(Debug, Clone, PartialEq)]
pub struct Fit {
    /// The way of putting a probe in that is judged.
    pub method: Method,
    /// How well it fits.
    pub suits: Suits,
    /// Why, with numbers.
    pub because: String,
    /// Whether it is the one preferred here.
    pub preferred: bool,
}

/// What of a case decides.
struct Case {
    shallowest: f64,
    deepest: f64,
    depths: usize,
    closest: f64,
    blocks: bool,
    other: bool,
    stones: f64,
    hardness: Hardness,
    machines: Machines,
    seasonal: bool,
    clearance: f64,
}

impl Case {
    fn of(plan: &Plan) -> Self {
        let mut depths: Vec<f64> = plan.buried().map(|(_, p)| p.depth_cm).collect();
        depths.sort_by(f64::total_cmp);
        depths.dedup_by(|a, b| (*a - *b).abs() <= 0.5);
        Self {
            shallowest: depths.first().copied().unwrap_or(0.0),
            deepest: depths.last().copied().unwrap_or(0.0),
            depths: depths.len(),
            closest: depths.windows(2).map(|w| w[1] - w[0]).fold(f64::INFINITY, f64::min),
            blocks: plan.buried().any(|(_, p)| p.model.is_block()),
            other: plan.buried().any(|(_, p)| !p.model.is_block()),
            stones: plan.get(Figure::Stones),
            hardness: plan.hardness,
            machines: plan.machines,
            seasonal: plan.stay == Stay::Seasonal,
            clearance: plan.get(Figure::ToolClearance),
        }
    }
}

/// Stones beyond which nothing is pushed blindly, % of the volume.
const STONY_PCT: f64 = 15.0;
/// Deepest probe that a hand pushes in at the surface, cm.
const SURFACE_CM: f64 = 12.0;

/// All ten methods, best first; the preferred one carries its reason.
#[must_use]
pub fn fits(plan: &Plan) -> Vec<Fit> {
    let case = Case::of(plan);
    let mut fits: Vec<(f64, Fit)> = Method::ALL
        .iter()
        .map(|&method| {
            let (score, because) = judge(method, &case);
            let suits = match score {
                s if s <= 0.0 => Suits::No,
                s if s < 0.55 => Suits::Poorly,
                _ => Suits::Well,
            };
            (score, Fit { method, suits, because, preferred: false })
        })
        .collect();
    fits.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut fits: Vec<Fit> = fits.into_iter().map(|(_, fit)| fit).collect();
    if let Some(best) = fits.first_mut().filter(|f| f.suits == Suits::Well && case.depths > 0) {
        best.preferred = true;
    }
    fits
}

fn judge(method: Method, c: &Case) -> (f64, String) {
    let stony = c.stones > STONY_PCT;
    let deep = format_short(c.deepest);
    match method {
        Method::Pit | Method::Recess if c.deepest > SHORING_CM - 8.0 => (
            0.0,
            format!(
                "{deep} cm asks for a pit deeper than {SHORING_CM} cm: nobody enters one without shoring by a competent person"
            ),
        ),
        Method::Pit | Method::Recess => {
            let mut score = 0.55 + 0.04 * c.depths.min(4) as f64 + if stony { 0.15 } else { 0.0 };
            let mut why = format!("{} depths in one face, and the horizons are seen", c.depths);
            if stony {
                why += &format!("; with {} % stones one sees where the probe goes", format_short(c.stones));
            }
            if method == Method::Recess {
                score += if c.hardness == Hardness::Hard { -0.15 } else { 0.03 };
                why += "; nothing sticks out that filling could move";
            }
            if c.machines != Machines::None {
                score -= 0.15;
                why += "; cables must be led away from the machines";
            }
            (score, why)
        }
        Method::SideWall if c.closest < c.clearance => (
            0.4,
            format!(
                "the tool needs {} cm between depths, and two are {} cm apart",
                format_short(c.clearance),
                format_short(c.closest)
            ),
        ),
        Method::SideWall if stony || c.hardness == Hardness::Hard => {
            (0.3, "the lever tool bends prongs in stony or hard soil".into())
        }
        Method::SideWall if c.deepest > 150.0 => (0.2, format!("{deep} cm is beyond the reach of a lever tool")),
        Method::SideWall if c.shallowest < 8.0 => (
            0.6,
            format!(
                "several depths in one narrow hole, but the one at {} cm lies in loosened soil near its mouth",
                format_short(c.shallowest)
            ),
        ),
        Method::SideWall => (0.76, format!("{} depths in one narrow hole, the soil around it undisturbed", c.depths)),
        Method::Straight if stony => {
            (0.25, format!("blind, and {} % stones: a bent prong is not seen", format_short(c.stones)))
        }
        Method::Straight if c.depths > 2 => (0.45, format!("{} holes, one for each depth", c.depths)),
        Method::Straight => (0.62, "one hole for one depth, quickly done; a reading must prove the contact".into()),
        Method::Slanted if stony => (0.25, "a longer hole through stones".into()),
        Method::Slanted => {
            let score = if c.depths > 3 { 0.4 } else { 0.6 };
            (score, format!("no water runs down to the probe; {} longer holes", c.depths))
        }
        Method::Surface if c.deepest > SURFACE_CM => {
            (0.0, format!("reaches about 10 cm, and the deepest probe lies at {deep} cm"))
        }
        Method::Surface => (0.8, format!("{deep} cm is within a hand's push: no hole at all")),
        Method::ShortTrench if c.deepest > 40.0 || c.depths > 2 => (0.15, "made for one rod probe near 20 cm".into()),
        Method::ShortTrench => (0.58, format!("a slanted rod at {deep} cm with little digging")),
        Method::Slurry if !c.blocks => {
            (0.1, "slurry seats blocks; around prongs it makes soil with other pores".into())
        }
        Method::Slurry if c.other => (0.5, "right for the blocks; the other probes want undisturbed soil".into()),
        Method::Slurry => (0.82, "blocks need full contact all round: slurry of their own soil gives it".into()),
        Method::Pipe if c.seasonal => (0.85, "comes out with the pipe each season".into()),
        Method::Pipe if c.machines == Machines::Mowing => (0.7, "is taken out before the machines come".into()),
        Method::Pipe => (0.3, "no season and no machine asks for taking it out; the pipe could lead water down".into()),
        Method::Buried if c.machines == Machines::Ploughing => (0.9, "nothing stands where the plough goes".into()),
        Method::Buried => (0.3, "radio through soil is a price to pay only under a plough or grazing herd".into()),
    }
}

/// One answer of a question on which the schools disagree.
#[derive(Debug, Clone, PartialEq)]
pub struct Side {
    /// The word that stands for it in drafts.
    pub code: &'static str,
    /// The name that people use; several may share it.
    pub name: &'static str,
    /// What speaks for it.
    pub case_for: &'static str,
}

/// A question on which the schools disagree.
#[derive(Debug, Clone, PartialEq)]
pub struct Disagreement {
    /// Name of the choice in the draft.
    pub question: &'static str,
    /// The question in words.
    pub asks: &'static str,
    /// What speaks for either of the two.
    pub sides: [Side; 2],
    /// Code of the one preferred here.
    pub prefers: &'static str,
    /// The reason that was given; may be empty.
    pub because: String,
}

/// The questions, with what is preferred for this plan and why.
#[must_use]
pub fn disagreements(plan: &Plan) -> Vec<Disagreement> {
    let side = |code, name, case_for| Side { code, name, case_for };
    let stones = plan.get(Figure::Stones);
    let gaps = plan.hardness == Hardness::Hard || stones > STONY_PCT;
    let repacked = plan.method == Method::Slurry || gaps;
    let seasonal = plan.machines != Machines::None && plan.method != Method::Buried;
    vec![
        Disagreement {
            question: "seat",
            asks: "Undisturbed or repacked seat?",
            sides: [
                side("undisturbed", "undisturbed", "its pores are those of the soil you want to know"),
                side("repacked", "sieved and tamped", "full contact where a pushed probe would leave gaps"),
            ],
            prefers: if repacked { Seat::Repacked.code() } else { Seat::Undisturbed.code() },
            because: if plan.method == Method::Slurry {
                "a slurry is a repacked seat by its nature; it settles longer, and comparisons show the mark".into()
            } else if gaps {
                format!(
                    "in hard or stony soil ({} % stones) pushing leaves gaps; the placement is marked and settles longer",
                    format_short(stones)
                )
            } else {
                "repacked soil has other pores than its surroundings".into()
            },
        },
        Disagreement {
            question: "stay",
            asks: "Permanent or seasonal?",
            sides: [
                side("permanent", "permanent", "settles once, and the record has no holes"),
                side("seasonal", "seasonal", "cables and prongs are safe from machines and frost"),
            ],
            prefers: if seasonal { Stay::Seasonal.code() } else { Stay::Permanent.code() },
            because: if seasonal {
                "machines come; each return needs a new settling period".into()
            } else {
                "nothing drives over the place: settle once".into()
            },
        },
        Disagreement {
            question: "fill",
            asks: "Fill after each probe, or at the end?",
            sides: [
                side("each", "after each", "each probe is held and checked before the next"),
                side("end", "at the end", "all probes are seen together, and can still be moved"),
            ],
            prefers: if plan.method.shares_hole() { Fill::AfterEach.code() } else { Fill::AtEnd.code() },
            because: if plan.method.shares_hole() {
                format!(
                    "the deepest is covered before the next goes in; the tool keeps its {} cm",
                    format_short(plan.get(Figure::ToolClearance))
                )
            } else {
                "each hole has one probe: read all, then fill all".into()
            },
        },
    ]
}

/// Checks of the method against the case.
#[must_use]
pub fn check(plan: &Plan, dig: &Dig) -> Vec<Remark> {
    let mut remarks = Vec::new();
    let mut say = |severity, at: &str, says: String| remarks.push(Remark::new(Step::Hole, severity, at, says));
    if let Some(fit) = fits(plan).into_iter().find(|f| f.method == plan.method) {
        match fit.suits {
            Suits::No => say(
                Severity::Stop,
                "choices.method",
                format!("A {} does not work here: {}.", fit.method.name(), fit.because),
            ),
            Suits::Poorly => {
                say(Severity::Weak, "choices.method", format!("A {} fits poorly: {}.", fit.method.name(), fit.because))
            }
            Suits::Well => {}
        }
    }
    if plan.method == Method::Slanted && plan.get(Figure::HoleAngle) < 15.0 {
        let angle = format_short(plan.get(Figure::HoleAngle));
        say(
            Severity::Weak,
            "figures.hole_angle_deg",
            format!("{angle}° is nearly a straight hole: water runs down it. 30 to 60° sheds it."),
        );
    }
    let from_above = matches!(plan.method, Method::Straight | Method::Slurry | Method::Pipe);
    for (_, p) in plan.buried().filter(|(_, p)| from_above && p.attitude.from_vertical_deg() > 45.0) {
        say(
            Severity::Stop,
            &p.field("lies"),
            format!(
                "{} is set from above and stands upright there: a level probe needs a pit or a side wall.",
                p.label
            ),
        );
    }
    if plan.method == Method::SideWall {
        // The collar begins under the sod.
        let sealed = 2.0 + plan.get(Figure::Collar);
        let top = plan.buried().map(|(_, p)| p.span().0).fold(f64::INFINITY, f64::min);
        if top < sealed && plan.get(Figure::Collar) > 0.0 {
            let room = format_short((top - 2.0).max(0.0).floor());
            say(
                Severity::Weak,
                "figures.collar_cm",
                format!(
                    "The bentonite reaches {} cm down, into soil that is sensed from {} cm: {room} cm of it would leave that soil alone.",
                    format_short(sealed),
                    format_short(top)
                ),
            );
        }
    }
    let deepest = dig.holes.iter().map(|h| h.bottom_cm).fold(0.0, f64::max);
    if let Some(last) = plan.soil.horizons().last().filter(|l| l.bottom_cm < deepest - 0.5) {
        say(
            Severity::Note,
            "",
            format!(
                "The hole goes to {deepest:.0} cm, the soil is described to {} cm: what comes from below has no mass here.",
                format_short(last.bottom_cm)
            ),
        );
    }
    if plan.soil.horizons().iter().any(|h| h.bulk_density_g_cm3.is_none()) || plan.soil.horizons().is_empty() {
        say(Severity::Note, "", "Without a bulk density for each horizon the masses to put back are not known: take a core per horizon from the first hole.".into());
    }
    remarks
}
