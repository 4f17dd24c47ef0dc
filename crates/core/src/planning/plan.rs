//! A plan with its quantities: what a [`Draft`] says, checked field by field.

use super::catalogue::{Catalogue, LoggerModel, ProbeModel};
use super::choices::{Fill, Hardness, Machines, Method, Seat, Stay};
use super::draft::{Draft, HorizonDraft, ProbeDraft};
use super::figures::{Figure, Figures};
use super::planned::{PlannedProbe, Setting, channels};
use super::program::{Program, read_program};
use super::remark::{Remark, Severity, Step};
use crate::geometry::Attitude;
use crate::radio::Terrain;
use crate::soil::{Horizon, Profile};
use crate::units::{Quantity, Range, format_short, ranges};

/// A plan with its quantities.
#[derive(Debug, Clone)]
pub struct Plan {
    /// What it is made for.
    pub setting: Setting,
    /// Degrees north, if known.
    pub latitude: Option<f64>,
    /// Degrees east, if known.
    pub longitude: Option<f64>,
    /// Metres above the sea, if known.
    pub elevation_m: Option<f64>,
    /// Numbers as typed, with what stands in for those that are not.
    pub figures: Figures,
    /// How the probes get into the soil.
    pub method: Method,
    /// How hard the soil is.
    pub hardness: Hardness,
    /// Which machines come.
    pub machines: Machines,
    /// Seat of the probes.
    pub seat: Seat,
    /// Whether they stay.
    pub stay: Stay,
    /// When the hole is filled.
    pub fill: Fill,
    /// What lies between node and gateway.
    pub terrain: Terrain,
    /// Its entry in the catalogue.
    pub logger: LoggerModel,
    /// The soil to be dug.
    pub soil: Profile,
    /// Probes in the order of the draft; those whose depth or model cannot be read are left out, with a remark.
    pub probes: Vec<PlannedProbe>,
    /// What the logger does.
    pub program: Program,
}

/// Reads a draft; what cannot be read becomes a remark at its field.
#[must_use]
pub fn resolve(draft: &Draft, catalogue: &Catalogue, setting: &Setting) -> (Plan, Vec<Remark>) {
    let mut remarks = Vec::new();
    let figures = Figures::read(&draft.figures, &mut remarks);
    let method = Method::from_code(draft.choice("method")).unwrap_or(Method::Pit);
    let soil = soil(&draft.horizons, &mut remarks);
    let probes: Vec<PlannedProbe> = (draft.probes.iter().enumerate())
        .filter_map(|(row, d)| probe(row, d, catalogue, method, &figures, &mut remarks))
        .collect();
    let [latitude, longitude, elevation_m] = [
        ("latitude", &draft.latitude, ranges::LATITUDE),
        ("longitude", &draft.longitude, ranges::LONGITUDE),
        ("elevation_m", &draft.elevation_m, ranges::ELEVATION_M),
    ]
    .map(|(at, typed, range)| {
        typed.optional_in(range).unwrap_or_else(|says| {
            remarks.push(Remark::new(Step::Site, Severity::Stop, at, says));
            None
        })
    });
    let logger = logger(draft.choice("logger"), catalogue, &mut remarks);
    let plan = Plan {
        setting: setting.clone(),
        latitude,
        longitude,
        elevation_m,
        method,
        hardness: Hardness::from_code(draft.choice("hardness")).unwrap_or(Hardness::Firm),
        machines: Machines::from_code(draft.choice("machines")).unwrap_or(Machines::None),
        seat: Seat::from_code(draft.choice("seat")).unwrap_or(Seat::Undisturbed),
        stay: Stay::from_code(draft.choice("stay")).unwrap_or(Stay::Permanent),
        fill: Fill::from_code(draft.choice("fill")).unwrap_or(Fill::AfterEach),
        terrain: match draft.choice("terrain") {
            "open" => Terrain::Open,
            "forest" => Terrain::Forest,
            _ => Terrain::Broken,
        },
        program: read_program(draft, &figures, &probes, setting, &mut remarks),
        figures,
        logger,
        soil,
        probes,
    };
    (plan, remarks)
}

/// The chosen logger, or the first of the catalogue with its ports if none is chosen yet.
fn logger(code: &str, catalogue: &Catalogue, remarks: &mut Vec<Remark>) -> LoggerModel {
    if !code.is_empty() && catalogue.logger(code).is_none() {
        let says = format!("The catalogue has no logger “{code}” any more: choose another.");
        remarks.push(Remark::new(Step::Wiring, Severity::Stop, "choices.logger", says));
    }
    catalogue.logger(code).unwrap_or(&catalogue.loggers[0]).clone()
}

fn soil(drafts: &[HorizonDraft], remarks: &mut Vec<Remark>) -> Profile {
    let (mut horizons, mut top) = (Vec::new(), 0.0);
    for (i, h) in drafts.iter().enumerate() {
        let mut wrong = |field: &str, says: String| {
            remarks.push(Remark::new(Step::Depths, Severity::Stop, format!("horizons.{i}.{field}"), says));
        };
        let mut optional = |field: &str, typed: &super::draft::Typed, range: Range| {
            typed.optional_in(range).unwrap_or_else(|says| {
                wrong(field, says);
                None
            })
        };
        let bulk_density_g_cm3 = optional("density", &h.density, ranges::BULK_DENSITY_G_CM3);
        let sand_pct = optional("sand_pct", &h.sand_pct, ranges::PERCENT);
        let clay_pct = optional("clay_pct", &h.clay_pct, ranges::PERCENT);
        let organic_matter_pct = optional("organic_pct", &h.organic_pct, ranges::PERCENT);
        if sand_pct.zip(clay_pct).is_some_and(|(s, c)| s + c > 100.0) {
            wrong("clay_pct", "sand and clay make more than 100 %: one of them is wrong".into());
        }
        let below = Range { name: "lower boundary", unit: "cm", min: top + 0.5, max: 1000.0 };
        match h.bottom_cm.number_in(below) {
            Ok(bottom_cm) => {
                let (name, texture) = (h.name.to_string(), h.texture.to_string());
                horizons.push(Horizon {
                    top_cm: top,
                    bottom_cm,
                    name,
                    texture,
                    sand_pct,
                    clay_pct,
                    organic_matter_pct,
                    bulk_density_g_cm3,
                });
                top = bottom_cm;
            }
            Err(says) => wrong("bottom_cm", format!("{says}. The horizon above ends at {} cm.", format_short(top))),
        }
    }
    Profile::from(horizons)
}

fn probe(
    row: usize,
    draft: &ProbeDraft,
    catalogue: &Catalogue,
    method: Method,
    figures: &Figures,
    remarks: &mut Vec<Remark>,
) -> Option<PlannedProbe> {
    let mut stop = |step: Step, field: &str, says: String| {
        remarks.push(Remark::new(step, Severity::Stop, format!("probes.{row}.{field}"), says));
    };
    let Some(model) = catalogue.probe(&draft.model) else {
        let says = if draft.model.is_blank() {
            "Choose a model.".to_owned()
        } else {
            format!("The catalogue has no model “{}”: choose another.", &*draft.model)
        };
        stop(Step::Depths, "model", says);
        return None;
    };
    let cable_m = match draft.cable_m.optional_in(ranges::CABLE_M) {
        Ok(length) => length.unwrap_or(model.cable_m),
        Err(says) => {
            stop(Step::Hole, "cable_m", says);
            model.cable_m
        }
    };
    if draft.depth_cm.is_blank() {
        stop(Step::Depths, "depth_cm", "Give the depth of its sensing centre, in cm below the surface.".into());
        return None;
    }
    let depth_cm = match draft.depth_cm.number_in(ranges::DEPTH_CM) {
        Ok(depth) if model.in_soil && depth <= 0.0 => {
            let says = format!("A {} is buried: give a depth below the surface, above 0 cm.", model.name);
            stop(Step::Depths, "depth_cm", says);
            return None;
        }
        Ok(depth) if !model.in_soil && depth > 0.0 => {
            let says = format!("A {} stands above ground: give its height with a minus, such as −150.", model.name);
            stop(Step::Depths, "depth_cm", says);
            return None;
        }
        Ok(depth) => depth,
        Err(says) => {
            stop(Step::Depths, "depth_cm", says);
            return None;
        }
    };
    let text = |t: &super::draft::Typed| (!t.is_blank()).then(|| t.to_string());
    Some(PlannedProbe {
        row,
        label: text(&draft.serial).unwrap_or_else(|| format!("probe {}", row + 1)),
        depth_cm,
        purpose: draft.purpose.to_string(),
        sentinel: draft.sentinel.is_yes(),
        attitude: attitude(&draft.lies, method, model, figures),
        port: text(&draft.port),
        address: text(&draft.address),
        cable_m,
        model: model.clone(),
    })
}

/// How a probe lies: as typed, or as its method and model have it.
fn attitude(lies: &str, method: Method, model: &ProbeModel, figures: &Figures) -> Attitude {
    match lies {
        "edge" => Attitude::LevelOnEdge,
        "flat" => Attitude::LevelFlat,
        "upright" => Attitude::Upright,
        "slanted" => Attitude::Slanted(figures.get(Figure::HoleAngle)),
        _ => {
            match method {
                Method::Slanted | Method::ShortTrench => Attitude::Slanted(figures.get(Figure::HoleAngle)),
                Method::Straight | Method::Slurry | Method::Pipe => Attitude::Upright,
                Method::Pit | Method::Recess | Method::SideWall | Method::Surface | Method::Buried => {
                    if model.is_block() { Attitude::Upright } else { Attitude::LevelOnEdge }
                }
            }
        }
    }
}

impl Plan {
    /// Probes that lie in the soil, with their place in [`Plan::probes`].
    pub fn buried(&self) -> impl Iterator<Item = (usize, &PlannedProbe)> {
        self.probes.iter().enumerate().filter(|(_, p)| p.model.in_soil)
    }

    /// Depth of the deepest sensing centre, cm; 0 without probes.
    #[must_use]
    pub fn deepest_cm(&self) -> f64 {
        self.buried().map(|(_, p)| p.depth_cm).fold(0.0, f64::max)
    }

    /// The number of a figure.
    #[must_use]
    pub fn get(&self, figure: Figure) -> f64 {
        self.figures.get(figure)
    }

    /// Quantities that the probes give, each with how many channels give it, in the order of the catalogue.
    #[must_use]
    pub fn channels(&self) -> Vec<(Quantity, usize)> {
        channels(&self.probes)
    }
}
