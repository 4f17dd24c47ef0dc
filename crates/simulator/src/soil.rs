//! Water and heat in a layered soil.

use crate::scenario::Horizon;
use crate::weather::Now;

/// Thickness of the computed layers, cm, from the surface down.
const LAYERS_CM: [f64; 26] = [
    1.5, 1.5, 1.5, 1.5, 2.0, 2.0, 2.0, 2.0, 2.0, 2.5, 2.5, 2.5, 2.5, 3.0, 3.0, 3.0, 3.0, 4.0, 4.0, 5.0, 5.0, 6.0, 6.0,
    8.0, 8.0, 14.0,
];
const N: usize = LAYERS_CM.len();
const STEP_H: f64 = 0.25;
/// Gravity drainage K = Ks S^EXPONENT (power law of Soil Science 117:311, 1974, with b near 5).
const EXPONENT: i32 = 13;
/// Below this water stays liquid in frozen soil, m³/m³.
const UNFROZEN: f64 = 0.06;

#[derive(Debug, Clone, Copy)]
struct Layer {
    thick_mm: f64,
    middle_cm: f64,
    pores: f64,
    field_capacity: f64,
    wilting: f64,
    k_mm_h: f64,
    theta: f64,
    ice: f64,
    c: f64,
    /// Share of the roots.
    roots: f64,
}

impl Layer {
    /// Heat that warms it by 1 K, J/m³/K: solids 2.0, water 4.18, ice 1.9 MJ/m³/K.
    fn capacity(&self) -> f64 {
        (1.0 - self.pores) * 2.0e6 + self.theta * 4.18e6 + self.ice * 1.9e6
    }

    /// How well it conducts, W/m/K.
    fn conductivity(&self) -> f64 {
        0.25 + 2.6 * (self.theta + self.ice) * (1.0 - self.pores)
    }
}

pub(crate) struct Soil {
    layers: [Layer; N],
    pond_mm: f64,
    deep_c: f64,
    /// Mean temperature of the year below the profile, °C.
    mean_c: f64,
}

impl Soil {
    pub fn new(horizons: &[Horizon]) -> Self {
        let mut top = 0.0;
        let last = &horizons[horizons.len() - 1];
        let mut layers = LAYERS_CM.map(|thick_cm| {
            let middle_cm = top + thick_cm / 2.0;
            top += thick_cm;
            let h = horizons.iter().find(|h| middle_cm < h.span_cm.1).unwrap_or(last);
            Layer {
                thick_mm: thick_cm * 10.0,
                middle_cm,
                pores: h.pore_space,
                field_capacity: h.field_capacity,
                wilting: h.wilting,
                k_mm_h: h.conductivity_mm_h,
                theta: h.field_capacity,
                ice: 0.0,
                c: 9.0,
                roots: (-middle_cm / 18.0).exp() * thick_cm,
            }
        });
        let sum: f64 = layers.iter().map(|l| l.roots).sum();
        layers.iter_mut().for_each(|l| l.roots /= sum);
        Self { layers, pond_mm: 0.0, deep_c: 10.0, mean_c: 9.9 }
    }

    /// The same in a climate of another mean temperature, °C.
    pub fn in_climate(mut self, mean_c: f64) -> Self {
        self.layers.iter_mut().for_each(|l| l.c = mean_c);
        (self.deep_c, self.mean_c) = (mean_c, mean_c);
        self
    }

    /// One quarter of an hour.
    pub fn step(&mut self, now: &Now, t: i64, canopy_removed: i64) {
        let open = t >= canopy_removed;
        self.heat(now, t, open);
        self.water(now, t, open);
    }

    fn water(&mut self, now: &Now, t: i64, open: bool) {
        // Interception by leaves or brash, then what stands on the surface soaks in.
        self.pond_mm += now.rain_mm * if open { 0.93 } else { 0.75 };
        self.pond_mm *= 0.995;
        let growing = growing_season(t);
        let warm = (now.air_c / 20.0).clamp(0.0, 1.4);
        let demand = 0.21 * now.sun * warm;
        // Regrowth: shoots from the stools take more each summer after the cut.
        let leaves = growing * if open { 0.75 } else { 1.0 };

        const SUB: usize = 5;
        let dt = STEP_H / SUB as f64;
        for _ in 0..SUB {
            let mut flux = [0.0; N + 1];
            let room =
                (self.layers[0].pores - self.layers[0].theta - self.layers[0].ice).max(0.0) * self.layers[0].thick_mm;
            flux[0] = self.pond_mm.min(self.layers[0].k_mm_h * 2.2 * dt).min(room);
            for i in 0..N {
                let l = &self.layers[i];
                let s = ((l.theta) / (l.pores - l.ice)).clamp(0.0, 1.0);
                let mut q = l.k_mm_h * s.powi(EXPONENT) * dt;
                if i + 1 < N {
                    // Capillary smoothing: both layers strive for the same share of their own field capacity.
                    let m = &self.layers[i + 1];
                    let wet = |l: &Layer| (l.theta - l.wilting * 0.5) / (l.field_capacity - l.wilting * 0.5);
                    let mean_wet = (0.5 * (wet(l) + wet(m))).clamp(0.0, 1.2);
                    q += 0.055 * mean_wet.powi(3) * (wet(l) - wet(m)) / (m.middle_cm - l.middle_cm) * dt * 10.0;
                    let room = (m.pores - m.theta - m.ice).max(0.0) * m.thick_mm;
                    q = q.min(room).max(-(l.pores - l.theta - l.ice).max(0.0) * l.thick_mm);
                    let frozen = l.ice + m.ice > 0.25;
                    q = if frozen { q * 0.1 } else { q };
                }
                flux[i + 1] = q.min(l.theta * l.thick_mm * 0.5);
            }
            self.pond_mm -= flux[0];
            for i in 0..N {
                let l = &mut self.layers[i];
                l.theta += (flux[i] - flux[i + 1]) / l.thick_mm;
            }
            let evaporation = demand * dt / STEP_H * (if open { 0.16 } else { 0.05 });
            for i in 0..3 {
                let l = &mut self.layers[i];
                let dry = ((l.theta - 0.05) / (l.field_capacity - 0.05)).clamp(0.0, 1.0);
                l.theta -= evaporation * dry * [0.6, 0.3, 0.1][i] / l.thick_mm;
            }
            for l in &mut self.layers {
                let stress = ((l.theta - l.wilting) / (0.5 * (l.field_capacity - l.wilting))).clamp(0.0, 1.0);
                let limits = if l.c < 3.0 { 0.1 } else { 1.0 };
                l.theta -= demand * leaves * limits * dt / STEP_H * l.roots * stress / l.thick_mm;
            }
        }
        // What the layer cannot hold comes back up and stands on it.
        for i in (0..N).rev() {
            let over = (self.layers[i].theta + self.layers[i].ice - self.layers[i].pores).max(0.0);
            if over > 0.0 {
                self.layers[i].theta -= over;
                let mm = over * self.layers[i].thick_mm;
                match i.checked_sub(1) {
                    Some(above) => self.layers[above].theta += mm / self.layers[above].thick_mm,
                    None => self.pond_mm += mm,
                }
            }
        }
    }

    /// Conduction, implicit in time (Thomas algorithm), then freezing and thawing that hold a layer at 0 °C.
    fn heat(&mut self, now: &Now, t: i64, open: bool) {
        let season = std::f64::consts::TAU * (t as f64 / 86_400.0 - 240.0) / 365.2425;
        self.deep_c = self.mean_c + 3.0 * season.cos();
        let surface =
            now.air_c + now.sun * if open { 9.5 } else { 2.0 } - if open { 0.9 * (1.0 - now.sun) } else { 0.2 };
        let dt = STEP_H * 3600.0;
        let mut capacity = [0.0; N];
        let mut conduct = [0.0; N + 1];
        for i in 0..N {
            let l = &self.layers[i];
            capacity[i] = l.capacity() * l.thick_mm / 1000.0 / dt;
            let k = l.conductivity();
            let half = l.thick_mm / 2000.0;
            let above = if i == 0 { 0.012 / 0.5 } else { self.layers[i - 1].thick_mm / 2000.0 / k };
            conduct[i] = 1.0 / (half / k + above);
        }
        conduct[N] = 0.6;
        let (mut c_star, mut d_star) = ([0.0; N], [0.0; N]);
        for i in 0..N {
            let below = if i + 1 < N { conduct[i + 1] } else { conduct[N] };
            let mut d = capacity[i] * self.layers[i].c;
            if i == 0 {
                d += conduct[0] * surface;
            }
            if i + 1 == N {
                d += conduct[N] * self.deep_c;
            }
            let a = if i == 0 { 0.0 } else { -conduct[i] };
            let b = capacity[i] + conduct[i] + below;
            let c = if i + 1 < N { -below } else { 0.0 };
            let (pc, pd) = if i == 0 { (0.0, 0.0) } else { (c_star[i - 1], d_star[i - 1]) };
            c_star[i] = c / (b - a * pc);
            d_star[i] = (d - a * pd) / (b - a * pc);
        }
        let mut next = 0.0;
        for i in (0..N).rev() {
            next = d_star[i] - c_star[i] * next;
            let l = &mut self.layers[i];
            l.c = next;
            // 334 MJ/m³ of water turned to ice.
            let per_kelvin = capacity[i] * dt / (l.thick_mm / 1000.0) / 334.0e6;
            if l.c < 0.0 && l.theta > UNFROZEN {
                let freeze = (-l.c * per_kelvin).min(l.theta - UNFROZEN);
                l.theta -= freeze;
                l.ice += freeze;
                l.c += freeze / per_kelvin;
            } else if l.c > 0.0 && l.ice > 0.0 {
                let thaw = (l.c * per_kelvin).min(l.ice);
                l.ice -= thaw;
                l.theta += thaw;
                l.c -= thaw / per_kelvin;
            }
            next = l.c;
        }
    }

    /// Linear between the middles of the layers.
    fn at(&self, depth_cm: f64, value: impl Fn(&Layer) -> f64) -> f64 {
        let i = self.layers.partition_point(|l| l.middle_cm < depth_cm).clamp(1, N - 1);
        let (a, b) = (&self.layers[i - 1], &self.layers[i]);
        let share = ((depth_cm - a.middle_cm) / (b.middle_cm - a.middle_cm)).clamp(0.0, 1.0);
        value(a) * (1.0 - share) + value(b) * share
    }

    /// Liquid water at a depth, averaged over the 3 cm that a blade senses, and all pores if water stands on it.
    pub fn liquid(&self, depth_cm: f64) -> f64 {
        [-1.5, 0.0, 1.5].map(|d| self.at(depth_cm + d, |l| l.theta)).iter().sum::<f64>() / 3.0
    }

    /// All pores full of water.
    pub fn fill(&mut self) {
        self.layers.iter_mut().for_each(|l| (l.theta, l.ice) = (l.pores, 0.0));
    }

    /// Liquid water down to a depth, mm.
    pub fn stored_mm(&self, bottom_cm: f64) -> f64 {
        let part = |l: &Layer| {
            let half = l.thick_mm / 20.0;
            let (top, end) = (l.middle_cm - half, l.middle_cm + half);
            l.theta * l.thick_mm * ((bottom_cm.min(end) - top) / (end - top)).clamp(0.0, 1.0)
        };
        self.layers.iter().map(part).sum()
    }

    /// Whether there is ice above a depth.
    pub fn has_ice(&self, bottom_cm: f64) -> bool {
        self.layers.iter().any(|l| l.middle_cm < bottom_cm && l.ice > 0.0)
    }

    /// Thermal diffusivity that a wave meets between two depths, m²/s: its lag adds up layer by layer, as 1/√κ.
    pub fn diffusivity(&self, top_cm: f64, bottom_cm: f64) -> f64 {
        let of = |l: &Layer| {
            let half = l.thick_mm / 20.0;
            let thick = (bottom_cm.min(l.middle_cm + half) - top_cm.max(l.middle_cm - half)).max(0.0);
            thick / (l.conductivity() / l.capacity()).sqrt()
        };
        let lag: f64 = self.layers.iter().map(of).sum();
        ((bottom_cm - top_cm) / lag).powi(2)
    }

    pub fn temperature(&self, depth_cm: f64) -> f64 {
        self.at(depth_cm, |l| l.c)
    }
}

/// How much leaf is out: 0 in winter, 1 in high summer.
fn growing_season(t: i64) -> f64 {
    let day = (t as f64 / 86_400.0).rem_euclid(365.2425);
    let rise = 1.0 / (1.0 + (-(day - 122.0) / 9.0).exp());
    let fall = 1.0 / (1.0 + ((day - 288.0) / 9.0).exp());
    rise * fall
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::years::{Climate, Ground};

    const STEP: i64 = 900;

    fn soil(ground: Ground) -> Soil {
        Soil::new(&ground.horizons()).in_climate(Climate::Mild.season().mean_c)
    }

    fn still(air_c: f64) -> Now {
        Now { air_c, sun: 0.0, rain_mm: 0.0 }
    }

    /// Water in all layers and on them, ice included, mm.
    fn all_water(s: &Soil) -> f64 {
        s.pond_mm + s.layers.iter().map(|l| (l.theta + l.ice) * l.thick_mm).sum::<f64>()
    }

    #[test]
    fn rain_is_in_the_soil_or_on_it_and_nothing_grows_out_of_nothing() {
        for ground in Ground::ALL {
            let mut s = soil(ground);
            // Winter: nothing drinks. Let it settle, so that little drains meanwhile.
            (0..96 * 30).for_each(|i| s.step(&still(6.0), i * STEP, i64::MIN));
            let before = all_water(&s);
            for i in 0..16 {
                s.step(&Now { rain_mm: 0.5, ..still(6.0) }, i * STEP, i64::MIN);
            }
            let gained = all_water(&s) - before;
            assert!(gained > 3.5 && gained < 8.0 * 0.93 + 1e-9, "{}: {gained} of 8 mm", ground.words());
        }
    }

    #[test]
    fn a_full_soil_drains_to_below_its_pores_and_ever_slower() {
        let mut s = soil(Ground::SiltLoam);
        s.fill();
        let full = s.stored_mm(80.0);
        let mut left = vec![full];
        for day in 0..6 {
            (0..96).for_each(|i| s.step(&still(8.0), (day * 96 + i) * STEP, i64::MAX));
            left.push(s.stored_mm(80.0));
        }
        let losses: Vec<f64> = left.windows(2).map(|w| w[0] - w[1]).collect();
        assert!(losses.windows(2).all(|w| w[1] < w[0] && w[1] > 0.0), "{losses:?}");
        assert!((full - 0.49 * 800.0).abs() < 1e-6, "all pores down to 80 cm: {full}");
        assert!(s.stored_mm(40.0) < s.stored_mm(80.0) && s.stored_mm(0.0) == 0.0);
    }

    #[test]
    fn ice_holds_the_cold_and_takes_water_from_what_a_probe_sees() {
        let mut s = soil(Ground::SiltLoam);
        (0..96 * 20).for_each(|i| s.step(&still(1.0), i * STEP, i64::MIN));
        let (wet, liquid) = (all_water(&s), s.liquid(5.0));
        (0..24).for_each(|i| s.step(&still(-12.0), i * STEP, i64::MIN));
        assert!(s.temperature(5.0) > -1.0, "the heat of freezing slows the cold: {}", s.temperature(5.0));
        (0..96 * 6).for_each(|i| s.step(&still(-12.0), i * STEP, i64::MIN));
        assert!(s.has_ice(10.0) && s.liquid(5.0) < liquid - 0.05, "{} {}", s.liquid(5.0), liquid);
        assert!(all_water(&s) <= wet && all_water(&s) > wet - 6.0, "freezing loses no water");
        (0..96 * 20).for_each(|i| s.step(&still(9.0), i * STEP, i64::MIN));
        assert!(!s.has_ice(80.0) && (s.liquid(5.0) - liquid).abs() < 0.04, "what froze is there again");
    }

    #[test]
    fn a_wave_of_heat_is_smaller_and_later_below_and_tells_the_diffusivity() {
        let mut s = soil(Ground::SiltLoam);
        let wave = |i: i64| still(12.0 + 8.0 * (std::f64::consts::TAU * i as f64 / 96.0).sin());
        (0..96 * 20).for_each(|i| s.step(&wave(i), i * STEP, i64::MAX));
        let day: Vec<(f64, f64)> = (0..96)
            .map(|i| {
                s.step(&wave(i), i * STEP, i64::MAX);
                (s.temperature(5.0), s.temperature(15.0))
            })
            .collect();
        let half = |of: fn(&(f64, f64)) -> f64| {
            let all = day.iter().map(of);
            (all.clone().fold(f64::NEG_INFINITY, f64::max) - all.fold(f64::INFINITY, f64::min)) / 2.0
        };
        let (a, b) = (half(|d| d.0), half(|d| d.1));
        let omega = std::f64::consts::TAU / 86_400.0;
        let kappa = omega / 2.0 * (0.10 / (a / b).ln()).powi(2);
        let truth = s.diffusivity(5.0, 15.0);
        assert!((kappa / truth - 1.0).abs() < 0.1, "{kappa} {truth}");
        assert!(s.diffusivity(5.0, 30.0) > 1e-7 && s.diffusivity(5.0, 30.0) < 1e-6);
    }

    #[test]
    fn roots_drink_in_summer_by_day_and_not_in_winter() {
        let dries = |day: i64, sun: f64| {
            let mut s = soil(Ground::SiltLoam);
            (0..96 * 20).for_each(|i| s.step(&still(8.0), i * STEP, i64::MAX));
            let before = s.stored_mm(40.0);
            let t = day * 86_400;
            (0..48).for_each(|i| s.step(&Now { air_c: 20.0, sun, rain_mm: 0.0 }, t + i * STEP, i64::MAX));
            before - s.stored_mm(40.0)
        };
        assert!(dries(196, 0.8) > dries(196, 0.0) + 2.0, "by day in July");
        assert!(dries(15, 0.8) < dries(196, 0.8) / 2.0, "in January leaves are down");
    }
}
