//! A bench to practise a moisture calibration on: container, probe with its handheld reader, balance and oven, and a soil
//! whose true curve is known.
//!
//! [`Practice`] is nothing but a seed and the steps that were taken; [`Practice::work`] plays them again from the
//! beginning, so that the same steps always give the same readings. Four [`Slip`]s are hidden among the points, each
//! with a sign by which it can be noticed and a way to mend it.

use crate::bench::DENSITY_AS_WATER;
use crate::probes::{blade_dielectric_curve, blade_output_mv};
use crate::rounding::to_step;
use rand::seq::SliceRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use serde::{Deserialize, Serialize};

/// Points that the practice leads through.
pub const POINTS: usize = 7;
/// Volume of the container and of the corer, cm³.
pub const CONTAINER_CM3: f64 = 4000.0;
/// Volume of the corer.
pub const CORER_CM3: f64 = 50.0;
/// Water content at the beginning, g/g.
const W_START: f64 = 0.05;
/// What each slip does: density factor, g of water on the lid, mV that an air gap takes, g of water left by the oven.
const LOOSE: f64 = 1.09;
const LID_G: f64 = 3.1;
const GAP_MV: f64 = 95.0;
const DAMP_G: f64 = 1.9;

/// Something that one does at the bench.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Packs the container with the soil as moist as it is.
    Pack,
    /// Reads the probe three times.
    Read,
    /// Presses the soil to the probe and reads it three times.
    Press,
    /// Takes a core beside the probe into the next tin and weighs it.
    Core,
    /// Wipes the lid of that tin and weighs it again.
    Wipe,
    /// Tips the soil out, adds this much water (mL) and mixes.
    Water(u16),
    /// All tins into the oven at 105 °C for this many hours, cooled closed, weighed.
    Oven(u16),
    /// Shows the truth.
    Reveal,
}

/// A typical mistake.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Slip {
    /// One packing was too dense.
    WrongDensity,
    /// One lid was wet on the balance.
    WetLid,
    /// The probe was moved at one point and has air beside it.
    MovedProbe,
    /// One tin stood in the cold corner of the oven and came out damp.
    EarlyOven,
}

impl Slip {
    /// What happened, and by what one sees it.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::WrongDensity => "packed 9 % too dense; its tin's bulk density shows it, and packing again mends it",
            Self::WetLid => {
                "3.1 g of water on the lid; it stands off the curve of the others, and wiping before weighing avoids it"
            }
            Self::MovedProbe => {
                "the probe was moved and had air beside it; its three readings run, and pressing the soil mends it"
            }
            Self::EarlyOven => "it came out of the oven damp; a second weighing shows the loss, and more hours mend it",
        }
    }
}

/// One point of the run as it stands.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Point {
    /// Readings of the probe, mV; the last ones taken.
    pub readings_mv: Vec<f64>,
    /// Tin: tare and wet mass, g.
    pub tin: Option<(f64, f64)>,
    /// Weighings out of the oven, g.
    pub dry_g: Vec<f64>,
    /// True water content, g/g.
    w: f64,
    /// True bulk density of the packing, g/cm³.
    density: f64,
    packings: usize,
    pressed: bool,
    wiped: bool,
    packed: bool,
}

/// Everything at the bench after the steps so far.
#[derive(Debug, Clone, PartialEq)]
pub struct Work {
    /// The points so far; the last one is in work.
    pub points: Vec<Point>,
    /// Field density that is to be packed to, g/cm³.
    pub field_density: f64,
    /// Tares and dry masses of three density cores from the field, g, each of 100 cm³.
    pub field_cores: [(f64, f64); 3],
    /// Water content of the soil as a first tin gave it, g/g.
    pub w_start: f64,
    /// Hours that the tins were in the oven.
    pub oven_hours: u32,
    /// Whether the truth is shown.
    pub revealed: bool,
    slips: [(Slip, usize); 4],
    serial: u32,
}

/// Why a step cannot be taken now; a sentence that says what comes first.
pub type Refusal = &'static str;

/// A practice run: a seed and the steps that were taken.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Practice {
    /// Decides soil, probe and where the slips are hidden.
    pub seed: u64,
    /// The steps so far.
    pub steps: Vec<Step>,
}

impl Practice {
    /// A fresh bench.
    #[must_use]
    pub const fn new(seed: u64) -> Self {
        Self { seed, steps: Vec::new() }
    }

    /// The bench after the steps so far.
    #[must_use]
    pub fn work(&self) -> Work {
        let mut work = Work::new(self.seed);
        for (i, step) in self.steps.iter().enumerate() {
            let mut rng = ChaCha8Rng::seed_from_u64(self.seed.wrapping_mul(1000).wrapping_add(i as u64));
            // A step was taken only where it could be.
            let _ = work.take(*step, &mut rng);
        }
        work
    }

    /// Takes a step.
    ///
    /// # Errors
    /// A sentence that says what comes first; nothing has changed then.
    pub fn take(&mut self, step: Step) -> Result<Work, Refusal> {
        let mut work = self.work();
        let mut rng = ChaCha8Rng::seed_from_u64(self.seed.wrapping_mul(1000).wrapping_add(self.steps.len() as u64));
        work.take(step, &mut rng)?;
        self.steps.push(step);
        Ok(work)
    }
}

fn noise(sigma: f64, rng: &mut ChaCha8Rng) -> f64 {
    sigma * <StandardNormal as Distribution<f64>>::sample(&StandardNormal, rng)
}

impl Work {
    fn new(seed: u64) -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let field_density = to_step(rng.random_range(1.15..1.42), 0.01);
        // The driest and the wettest point stay sound, so that the curve keeps its ends.
        let mut places: Vec<usize> = (1..POINTS - 1).collect();
        places.shuffle(&mut rng);
        let kinds = [Slip::WrongDensity, Slip::WetLid, Slip::MovedProbe, Slip::EarlyOven];
        let slips = std::array::from_fn(|i| (kinds[i], places[i]));
        let field_cores = std::array::from_fn(|_| {
            let tare = to_step(rng.random_range(40.0..46.0), 0.01);
            (tare, to_step(tare + 100.0 * field_density * (1.0 + noise(0.008, &mut rng)), 0.01))
        });
        Self {
            points: vec![Point { w: W_START, ..Point::default() }],
            field_density,
            field_cores,
            w_start: W_START,
            oven_hours: 0,
            revealed: false,
            slips,
            serial: rng.random_range(0..7),
        }
    }

    fn has(&self, slip: Slip, point: usize) -> bool {
        self.slips.contains(&(slip, point))
    }

    /// What the probe would put out if it sat well.
    fn output_mv(&self, point: &Point) -> f64 {
        blade_output_mv(self.serial, point.w * point.density + DENSITY_AS_WATER * (point.density - self.field_density))
    }

    fn take(&mut self, step: Step, rng: &mut ChaCha8Rng) -> Result<(), Refusal> {
        let at = self.points.len() - 1;
        let point = &self.points[at];
        match step {
            Step::Pack => {
                if point.tin.is_some() {
                    return Err("The core of this packing is in its tin already: add water, and pack the next one.");
                }
                let again = point.packings > 0;
                let slip = if self.has(Slip::WrongDensity, at) && !again { LOOSE } else { 1.0 };
                let density = self.field_density * slip * (1.0 + noise(0.005, rng));
                let point = &mut self.points[at];
                (point.density, point.packed) = (density, true);
                point.packings += 1;
                point.readings_mv.clear();
            }
            Step::Read | Step::Press => {
                if !point.packed {
                    return Err("Pack the container first: the probe stands in the air.");
                }
                let pressed = step == Step::Press || point.pressed;
                let gap = self.has(Slip::MovedProbe, at) && !pressed;
                let sound = self.output_mv(point);
                let readings = (0..3).map(|i| {
                    let lost = if gap { GAP_MV - 30.0 * f64::from(i) } else { 0.0 };
                    to_step(sound - lost + noise(0.8, rng), 0.1)
                });
                let readings = readings.collect();
                let point = &mut self.points[at];
                (point.readings_mv, point.pressed) = (readings, pressed);
            }
            Step::Core | Step::Wipe => {
                if point.readings_mv.is_empty() {
                    return Err("Read the probe before you take the core beside it: the core disturbs the soil.");
                }
                let wiped = step == Step::Wipe;
                let (tare, wet) = match (point.tin, wiped) {
                    (None, true) => return Err("There is no tin to wipe yet: take the core first."),
                    (Some(_), false) => return Err("The core is in its tin already: add water for the next point."),
                    (Some(tin), true) => tin,
                    (None, false) => {
                        let tare = to_step(rng.random_range(18.2..19.6), 0.01);
                        let solid = point.density * CORER_CM3 * (1.0 + noise(0.004, rng));
                        let water = solid * point.w;
                        let lid = if self.has(Slip::WetLid, at) { LID_G } else { 0.0 };
                        (tare, to_step(tare + solid + water + lid, 0.01))
                    }
                };
                let lid = if wiped && self.has(Slip::WetLid, at) && !point.wiped { LID_G } else { 0.0 };
                let point = &mut self.points[at];
                point.tin = Some((tare, to_step(wet - lid, 0.01)));
                point.wiped |= wiped;
            }
            Step::Water(ml) => {
                if point.tin.is_none() {
                    return Err("Read the probe and take the core of this point before you tip the soil out.");
                }
                if self.points.len() == POINTS {
                    return Err("Seven points are enough: put the tins into the oven.");
                }
                let w = point.w + f64::from(ml) / (self.field_density * CONTAINER_CM3);
                let pores = 1.0 - self.field_density / 2.65;
                if w * self.field_density > pores {
                    return Err(
                        "That is more water than the pores take: the soil is wet enough, the tins go into the oven.",
                    );
                }
                self.points.push(Point { w, ..Point::default() });
            }
            Step::Oven(hours) => {
                if self.points.iter().all(|p| p.tin.is_none()) {
                    return Err("There is no tin to dry yet.");
                }
                self.oven_hours += u32::from(hours);
                for i in 0..self.points.len() {
                    let Some((tare, wet)) = self.points[i].tin else { continue };
                    let lid = if self.has(Slip::WetLid, i) && !self.points[i].wiped { LID_G } else { 0.0 };
                    let w = self.points[i].w;
                    let solid = (wet - lid - tare) / (1.0 + w);
                    // The cold corner dries with a time constant of its own; all others are dry in a day.
                    let rate = if self.has(Slip::EarlyOven, i) { 9.5 } else { 2.6 };
                    let left = (solid * w).min(60.0) * (-f64::from(self.oven_hours) / rate).exp();
                    let damp =
                        if self.has(Slip::EarlyOven, i) && self.oven_hours <= 24 { left.max(DAMP_G) } else { left };
                    self.points[i].dry_g.push(to_step(tare + solid + damp + noise(0.004, rng), 0.01));
                }
            }
            Step::Reveal => {
                if self.points.iter().all(|p| p.dry_g.is_empty()) {
                    return Err("Dry the tins first: the truth is worth more once you have a curve of your own.");
                }
                self.revealed = true;
            }
        }
        Ok(())
    }

    /// The true curve: coefficients of θ in mV, lowest power first.
    #[must_use]
    pub fn curve(&self) -> [f64; 3] {
        blade_dielectric_curve(self.serial)
    }

    /// Root of the mean squared distance of a curve from the true one between two raw outputs, m³/m³.
    #[must_use]
    pub fn miss(&self, range_mv: (f64, f64), curve: impl Fn(f64) -> f64) -> f64 {
        const STEPS: u32 = 40;
        let [a, b, c] = self.curve();
        let at = |i: u32| range_mv.0 + (range_mv.1 - range_mv.0) * f64::from(i) / f64::from(STEPS);
        let squares = (0..=STEPS).map(|i| (curve(at(i)) - (a + b * at(i) + c * at(i) * at(i))).powi(2));
        (squares.sum::<f64>() / f64::from(STEPS + 1)).sqrt()
    }

    /// What became of each slip; `left_out` tells which points were left out of the fit.
    #[must_use]
    pub fn fates(&self, left_out: &[bool]) -> Vec<Fate> {
        let fate = |&(slip, point): &(Slip, usize)| {
            let state = self.points.get(point)?;
            state.tin?;
            let mended = match slip {
                Slip::WrongDensity => state.packings > 1,
                Slip::WetLid => state.wiped,
                Slip::MovedProbe => state.pressed,
                Slip::EarlyOven => self.oven_hours > 40,
            };
            let ending = match (mended, left_out.get(point).copied().unwrap_or(false)) {
                (true, _) => Ending::Mended,
                (false, true) => Ending::LeftOut,
                (false, false) => Ending::InTheFit,
            };
            Some(Fate { slip, point, ending })
        };
        let mut all: Vec<Fate> = self.slips.iter().filter_map(fate).collect();
        all.sort_by_key(|f| f.point);
        all
    }
}

/// How a slip ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// It was mended at the bench.
    Mended,
    /// Its point was left out.
    LeftOut,
    /// It stands in the fit.
    InTheFit,
}

/// What became of a slip.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fate {
    /// Which of the hidden slips it was.
    pub slip: Slip,
    /// Its point, from 0.
    pub point: usize,
    /// How it ended.
    pub ending: Ending,
}
