//! Everything that follows from a draft.

use super::calendar::{Entry, calendar};
use super::catalogue::Catalogue;
use super::digging::{Dig, LayerOut, soil_out};
use super::draft::Draft;
use super::energy::{Energy, energy};
use super::figures::Figure;
use super::kit::{Cost, Item, costs, kit};
use super::link::{Radio, radio};
use super::methods::{Disagreement, Fit, disagreements, fits};
use super::plan::{Plan, resolve};
use super::planned::Setting;
use super::ports::{Wiring, wire};
use super::remark::{Remark, Severity, Step};
use super::site::{ScoredSite, judge};
use super::steps::{WorkStep, work_steps};
use super::{depths, methods, program};
use crate::power::Memory;
use crate::units::format_short;

/// All that a plan says of itself.
#[derive(Debug, Clone)]
pub struct Assessment {
    /// The plan with its quantities.
    pub plan: Plan,
    /// What is to be dug, with its drawing.
    pub dig: Dig,
    /// Soil out and back, by horizon.
    pub layers: Vec<LayerOut>,
    /// Depths that the schools offer.
    pub offers: Vec<depths::Offer>,
    /// Methods, best first.
    pub fits: Vec<Fit>,
    /// Questions on which the schools disagree.
    pub disagreements: Vec<Disagreement>,
    /// Ports and wires.
    pub wiring: Wiring,
    /// How long the memory holds.
    pub memory: Memory,
    /// The energy budget.
    pub energy: Energy,
    /// The radio budget.
    pub radio: Radio,
    /// What to take along, and its price.
    pub kit: Vec<Item>,
    /// What it costs.
    pub costs: Vec<Cost>,
    /// What is due when, in order of time.
    pub calendar: Vec<Entry>,
    /// Steps of the work on site.
    pub steps: Vec<WorkStep>,
    /// Candidates for the site.
    pub candidates: Vec<ScoredSite>,
    /// The candidate that stands best.
    pub best_candidate: Option<usize>,
    /// What the checks say: stops first.
    pub remarks: Vec<Remark>,
}

/// Works a draft out.
#[must_use]
pub fn assess(draft: &Draft, catalogue: &Catalogue, setting: &Setting) -> Assessment {
    let (plan, mut remarks) = resolve(draft, catalogue, setting);
    let (candidates, best_candidate) = judge(draft, &mut remarks);
    let dig = Dig::of(&plan, &mut remarks);
    remarks.extend(depths::check(&plan, &dig));
    remarks.extend(methods::check(&plan, &dig));
    let wiring = wire(&plan, &mut remarks);
    remarks.extend(program::check(&plan.program, &plan.logger, &plan.figures));
    let radio = radio(&plan, &mut remarks);
    let energy = energy(&plan, &radio, &mut remarks);
    let calendar = calendar(draft, &plan, &energy, &mut remarks);
    remarks.sort_by_key(|r| r.severity);
    Assessment {
        layers: soil_out(&plan, &dig),
        offers: depths::offers(plan.soil.horizons(), plan.get(Figure::Roots)),
        fits: fits(&plan),
        disagreements: disagreements(&plan),
        memory: plan.program.memory(&plan.logger),
        kit: kit(&plan, &dig),
        costs: costs(&plan, &wiring),
        steps: work_steps(&plan, &dig),
        plan,
        dig,
        wiring,
        energy,
        radio,
        calendar,
        candidates,
        best_candidate,
        remarks,
    }
}

impl Assessment {
    /// What stops a step, or the whole plan.
    pub fn stops(&self, step: Option<Step>) -> impl Iterator<Item = &Remark> {
        self.remarks.iter().filter(move |r| r.severity == Severity::Stop && step.is_none_or(|s| s == r.step))
    }

    /// The plan in one sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let mut depths: Vec<f64> = self.plan.buried().map(|(_, p)| p.depth_cm).collect();
        depths.sort_by(f64::total_cmp);
        let probes = depths.len();
        depths.dedup();
        if probes == 0 {
            return "No depth is chosen yet.".into();
        }
        let words: Vec<String> = depths.into_iter().map(format_short).collect();
        let holes = self.dig.holes.len();
        let deepest = self.dig.holes.iter().map(|h| h.bottom_cm).fold(0.0, f64::max);
        format!(
            "{probes} {} at {} cm, {}{}{}.",
            if probes == 1 { "probe" } else { "probes" },
            words.join(", "),
            if holes > 1 { format!("{holes} holes: ") } else { String::new() },
            self.plan.method.name(),
            if holes > 0 {
                format!(", {} cm deep", format_short((deepest * 10.0).round() / 10.0))
            } else {
                String::new()
            }
        )
    }

    /// The whole price, at the catalogue's prices.
    #[must_use]
    pub fn price(&self) -> f64 {
        self.costs.iter().map(Cost::total).sum()
    }
}
