//! Sensing volumes: ellipsoids around a probe's sensing centre, how deep they reach, and where two of them meet.

use std::f64::consts::PI;

/// How a probe lies in the soil.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Attitude {
    /// Level, flat face upright, so that no water stands on the blade.
    LevelOnEdge,
    /// Level, flat face up.
    LevelFlat,
    /// Upright: averages over its length.
    Upright,
    /// At this angle from the vertical, flat face down the slope.
    Slanted(f64),
}

impl Attitude {
    /// How it lies, in words: "level, blade on edge".
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Self::LevelOnEdge => "level, blade on edge".into(),
            Self::LevelFlat => "level, flat face up".into(),
            Self::Upright => "upright".into(),
            Self::Slanted(degrees) => format!("slanted, {degrees}° from the vertical"),
        }
    }

    /// Unit vectors (along the probe, across its face, off its face) in (right, into the page, down).
    fn axes(self) -> [[f64; 3]; 3] {
        match self {
            Self::LevelOnEdge => [[1.0, 0.0, 0.0], [0.0, 0.0, 1.0], [0.0, 1.0, 0.0]],
            Self::LevelFlat => [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
            Self::Upright => [[0.0, 0.0, 1.0], [0.0, 1.0, 0.0], [1.0, 0.0, 0.0]],
            Self::Slanted(deg) => {
                let (s, c) = deg.to_radians().sin_cos();
                [[s, 0.0, c], [0.0, 1.0, 0.0], [c, 0.0, -s]]
            }
        }
    }

    /// Angle of the probe's long axis from the vertical, degrees.
    #[must_use]
    pub fn from_vertical_deg(self) -> f64 {
        match self {
            Self::LevelOnEdge | Self::LevelFlat => 90.0,
            Self::Upright => 0.0,
            Self::Slanted(deg) => deg,
        }
    }
}

/// An ellipsoid of soil that a probe senses.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SensingVolume {
    /// Centre: right, into the page, down; cm.
    pub centre: [f64; 3],
    /// Semi-axes along the probe, across its face, off its face; cm.
    pub semi: [f64; 3],
    /// How it lies.
    pub attitude: Attitude,
}

impl SensingVolume {
    /// Half of its extent along a direction (a unit vector), cm: √Σ(sᵢ (aᵢ·d))², the ellipsoid's support function.
    #[must_use]
    pub fn reach(&self, direction: [f64; 3]) -> f64 {
        self.attitude
            .axes()
            .iter()
            .zip(self.semi)
            .map(|(axis, s)| (s * dot(*axis, direction)).powi(2))
            .sum::<f64>()
            .sqrt()
    }

    /// Depths of its top and bottom, cm below the surface.
    #[must_use]
    pub fn depth_span(&self) -> (f64, f64) {
        let half = self.reach([0.0, 0.0, 1.0]);
        (self.centre[2] - half, self.centre[2] + half)
    }

    /// Its volume, cm³.
    #[must_use]
    pub fn volume_cm3(&self) -> f64 {
        4.0 / 3.0 * PI * self.semi.iter().product::<f64>()
    }

    /// Whether a point lies within.
    fn holds(&self, point: [f64; 3]) -> bool {
        let from = [0, 1, 2].map(|i| point[i] - self.centre[i]);
        let axes = self.attitude.axes();
        axes.iter().zip(self.semi).map(|(axis, s)| (dot(*axis, from) / s).powi(2)).sum::<f64>() <= 1.0
    }

    /// A point given in units of the semi-axes, as a place in the ground.
    fn place(&self, unit: [f64; 3]) -> [f64; 3] {
        let axes = self.attitude.axes();
        [0, 1, 2].map(|i| self.centre[i] + (0..3).map(|k| axes[k][i] * self.semi[k] * unit[k]).sum::<f64>())
    }
}

fn dot(a: [f64; 3], b: [f64; 3]) -> f64 {
    a.iter().zip(b).map(|(x, y)| x * y).sum()
}

/// Points per axis of the lattice that [`overlap_fraction`] counts; its error stays below one part in a hundred.
const LATTICE: i32 = 25;

/// Share of the smaller of two sensing volumes that the other one also senses, 0 to 1.
///
/// Any shapes and attitudes: counts the points of a lattice in the smaller one that lie in the other.
/// Volumes of one shape have a closed form in [`ellipsoid_overlap`], which the tests hold this against.
#[must_use]
pub fn overlap_fraction(a: &SensingVolume, b: &SensingVolume) -> f64 {
    let between = [0, 1, 2].map(|i| b.centre[i] - a.centre[i]);
    let distance = dot(between, between).sqrt();
    let bound = |v: &SensingVolume| v.semi.iter().copied().fold(0.0, f64::max);
    if distance >= bound(a) + bound(b) {
        return 0.0;
    }
    let (small, large) = if a.volume_cm3() <= b.volume_cm3() { (a, b) } else { (b, a) };
    let at = |i: i32| (f64::from(i) + 0.5) * 2.0 / f64::from(LATTICE) - 1.0;
    let (mut inside, mut both) = (0u32, 0u32);
    for i in 0..LATTICE {
        for j in 0..LATTICE {
            for k in 0..LATTICE {
                let unit = [at(i), at(j), at(k)];
                if dot(unit, unit) <= 1.0 {
                    inside += 1;
                    both += u32::from(large.holds(small.place(unit)));
                }
            }
        }
    }
    f64::from(both) / f64::from(inside)
}

/// Overlap of two spheres: cm³, and as a fraction of the smaller.
///
/// |r1−r2| < d < r1+r2: V = π (r1+r2−d)² (d² + 2d(r1+r2) − 3(r1−r2)²)/(12 d), two spherical caps.
/// Worked value: two of 5 cm, 6 cm apart, share 108.9085 cm³, 0.208 of one.
#[must_use]
pub fn sphere_overlap(r1: f64, r2: f64, distance: f64) -> (f64, f64) {
    let smaller = r1.min(r2);
    let whole = 4.0 / 3.0 * PI * smaller.powi(3);
    let shared = if distance >= r1 + r2 {
        0.0
    } else if distance <= (r1 - r2).abs() {
        whole
    } else {
        let (sum, gap) = (r1 + r2, r1 - r2);
        PI * (sum - distance).powi(2) * (distance * (distance + 2.0 * sum) - 3.0 * gap * gap) / (12.0 * distance)
    };
    (shared, shared / whole)
}

/// Overlap of two aligned ellipsoids of one shape, semi-axes `k1·semi` and `k2·semi`, centres `offset` apart: cm³, and
/// as a fraction of the smaller. The affine map to two spheres.
/// Worked value: (6, 4, 3) cm, both full size, 4 cm apart off the face: 44.680 cm³, 0.148.
#[must_use]
pub fn ellipsoid_overlap(semi: [f64; 3], k1: f64, k2: f64, offset: [f64; 3]) -> (f64, f64) {
    let distance = (0..3).map(|i| (offset[i] / semi[i]).powi(2)).sum::<f64>().sqrt();
    let (volume, fraction) = sphere_overlap(k1, k2, distance);
    (volume * semi.iter().product::<f64>(), fraction)
}

/// Share of an ellipsoid that sticks out of the soil, for its centre's depth and half of its vertical extent.
///
/// u = depth/c; (1−u)²(2+u)/4 within ±1: a spherical cap under an affine map, so it holds for any attitude.
/// Worked value: 3 cm deep and 5 cm half extent: 0.104 in the air.
#[must_use]
pub fn share_above_surface(depth_cm: f64, half_extent_cm: f64) -> f64 {
    let u = (depth_cm / half_extent_cm).clamp(-1.0, 1.0);
    (1.0 - u).powi(2) * (2.0 + u) / 4.0
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;
    use proptest::prelude::*;

    fn volume(centre: [f64; 3], semi: [f64; 3], attitude: Attitude) -> SensingVolume {
        SensingVolume { centre, semi, attitude }
    }

    #[test]
    fn overlaps_of_the_reference() {
        let (v, f) = sphere_overlap(5.0, 5.0, 6.0);
        assert_close(v, 108.908_545_324, 1e-9);
        assert_close(f, 0.208, 1e-9);
        assert_close(sphere_overlap(4.0, 7.0, 9.0).1, 0.109_375, 1e-9);
        assert_eq!(sphere_overlap(5.0, 3.0, 0.0).1, 1.0, "one within the other");
        assert_close(ellipsoid_overlap([6.0, 4.0, 3.0], 1.0, 1.0, [0.0, 0.0, 4.0]).0, 44.680_428_851_1, 1e-9);
        assert_close(ellipsoid_overlap([5.0, 3.0, 3.0], 1.0, 0.7, [3.0, 0.0, 2.0]).1, 0.469_599_910_585, 1e-9);
        assert_close(share_above_surface(3.0, 5.0), 0.104, 1e-11);
        assert_eq!(share_above_surface(10.0, 8.0), 0.0);
        assert_eq!(share_above_surface(-9.0, 8.0), 1.0);
    }

    #[test]
    fn attitude_decides_how_deep_a_probe_senses() {
        let blade = |attitude| volume([0.0, 0.0, 20.0], [6.0, 3.0, 2.0], attitude).depth_span();
        assert_eq!(blade(Attitude::LevelOnEdge), (17.0, 23.0));
        assert_eq!(blade(Attitude::LevelFlat), (18.0, 22.0));
        assert_eq!(blade(Attitude::Upright), (14.0, 26.0));
        let (top, bottom) = blade(Attitude::Slanted(45.0));
        assert_close(bottom - top, 2.0 * (18.0f64 + 2.0).sqrt(), 1e-12);
    }

    proptest! {
        #[test]
        fn counting_agrees_with_the_closed_form(dx in 0.0..12.0f64, dz in 0.0..7.0f64, k in 0.4..1.0f64) {
            let semi = [6.0, 4.0, 3.0];
            let a = volume([0.0; 3], semi, Attitude::LevelFlat);
            let b = volume([dx, 0.0, dz], semi.map(|s| s * k), Attitude::LevelFlat);
            let counted = overlap_fraction(&a, &b);
            prop_assert!((counted - ellipsoid_overlap(semi, 1.0, k, [dx, 0.0, dz]).1).abs() < 0.025, "{counted}");
            prop_assert_eq!(counted, overlap_fraction(&b, &a));
        }
    }
}
