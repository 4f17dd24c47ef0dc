//! The section: a cut through the ground, to scale in depth, with every probe where it lies.
//!
//! Drawn on the server; `strips.js` moves the water in the probes with the cursor.

use ebrel_core::soil::Horizon;

/// Height of the drawing, and where the surface lies in it, px.
pub const HEIGHT: f64 = 560.0;
const SURFACE: f64 = 44.0;
const BOTTOM: f64 = 12.0;

/// A horizon as drawn.
pub struct DrawnHorizon {
    /// Upper edge and height, px.
    pub y: f64,
    /// Height, px.
    pub height: f64,
    pub name: String,
    pub texture: String,
    /// Index into the ramp of soil colours.
    pub tone: usize,
    /// Whether there is room for its words.
    pub worded: bool,
}

/// A probe as drawn.
pub struct DrawnProbe {
    /// Id of its strip.
    pub strip: String,
    /// Middle, px.
    pub y: f64,
    /// Depth in words.
    pub label: String,
    /// Pore space: how much water fills it.
    pub pores: f64,
    /// Step of the depth ramp, 1 (shallow) to 4 (deep).
    pub ramp: usize,
}

/// The whole drawing.
pub struct Section {
    /// Horizons from the surface down.
    pub horizons: Vec<DrawnHorizon>,
    /// Probes from the surface down.
    pub probes: Vec<DrawnProbe>,
    /// Marks of the depth scale: y and cm.
    pub ticks: Vec<(f64, i64)>,
    /// Surface, px.
    pub surface: f64,
    /// Height, px.
    pub height: f64,
}

/// A probe that is to be drawn: depth, strip and pore space.
pub struct Placed {
    /// Depth, cm.
    pub depth_cm: f64,
    /// Id of its strip.
    pub strip: String,
    /// Pore space, if known.
    pub pores: Option<f64>,
}

/// Step of the depth ramp.
#[must_use]
pub fn ramp(depth_cm: f64) -> usize {
    match depth_cm {
        d if d < 10.0 => 1,
        d if d < 22.0 => 2,
        d if d < 45.0 => 3,
        _ => 4,
    }
}

impl Section {
    /// Draws horizons and probes to scale; the deepest probe has room below it.
    #[must_use]
    pub fn draw(horizons: &[Horizon], placed: &[Placed]) -> Self {
        let deepest = placed.iter().map(|p| p.depth_cm).fold(20.0, f64::max);
        let bottom = (deepest * 1.2 + 2.0).max(25.0);
        let y = |cm: f64| SURFACE + cm / bottom * (HEIGHT - SURFACE - BOTTOM);
        let drawn = horizons
            .iter()
            .filter(|h| h.top_cm < bottom)
            .enumerate()
            .map(|(i, h)| {
                let (top, end) = (y(h.top_cm), y(h.bottom_cm.min(bottom)));
                let (name, texture) = (h.name.clone(), h.texture.clone());
                DrawnHorizon { y: top, height: end - top, name, texture, tone: i % 4 + 1, worded: end - top > 34.0 }
            })
            .collect();
        let probes = placed.iter().map(|p| DrawnProbe {
            strip: p.strip.clone(),
            y: y(p.depth_cm),
            label: format!("{}\u{a0}cm", p.depth_cm),
            pores: p.pores.unwrap_or(0.5),
            ramp: ramp(p.depth_cm),
        });
        let every = if bottom > 120.0 {
            50
        } else if bottom > 55.0 {
            10
        } else {
            5
        };
        let ticks = (0..=bottom as i64).step_by(every).map(|cm| (y(cm as f64), cm)).collect();
        Self { horizons: drawn, probes: probes.collect(), ticks, surface: SURFACE, height: HEIGHT }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn horizon(top_cm: f64, bottom_cm: f64, name: &str) -> Horizon {
        Horizon {
            top_cm,
            bottom_cm,
            name: name.into(),
            texture: String::new(),
            sand_pct: None,
            clay_pct: None,
            organic_matter_pct: None,
            bulk_density_g_cm3: None,
        }
    }

    fn at(depth_cm: f64) -> Placed {
        Placed { depth_cm, strip: format!("moisture@{depth_cm}"), pores: None }
    }

    #[test]
    fn depth_is_to_scale_and_nothing_leaves_the_drawing() {
        let soil = [horizon(0.0, 14.0, "A"), horizon(14.0, 300.0, "Bt")];
        let s = Section::draw(&soil, &[at(5.0), at(20.0), at(60.0)]);
        let y: Vec<f64> = s.probes.iter().map(|p| p.y).collect();
        let per_cm = (y[1] - y[0]) / 15.0;
        assert!(((y[2] - y[1]) / 40.0 - per_cm).abs() < 1e-9, "{y:?}");
        assert!(s.probes.iter().all(|p| p.y > s.surface && p.y < s.height));
        let last = s.horizons.last().unwrap();
        assert!(last.y + last.height <= s.height, "a deep horizon is cut at the edge");
        assert_eq!(s.ticks[0], (s.surface, 0));
    }

    #[test]
    fn a_station_without_soil_or_probes_is_still_drawn() {
        let s = Section::draw(&[], &[]);
        assert!(s.horizons.is_empty() && s.probes.is_empty() && s.ticks.len() > 3);
        let deep = Section::draw(&[], &[at(150.0)]);
        assert!(deep.ticks.windows(2).all(|w| w[1].1 - w[0].1 == 50));
    }

    #[test]
    fn depths_are_told_apart_by_their_ramp() {
        assert_eq!([5.0, 15.0, 30.0, 60.0].map(ramp), [1, 2, 3, 4]);
    }
}
