//! Contents by depth through time.

use super::grid::{Counts, Grid, Track};
/// All probes that lie at one depth.
#[derive(Debug, Clone)]
pub struct Level<'a> {
    /// Depth, cm.
    pub depth_cm: f64,
    /// Its probes, one after the other or side by side.
    pub tracks: Vec<Track<'a>>,
    /// Mean of the probes that have a value, one a time; NaN where none has.
    pub values: Vec<f64>,
    /// Pore space of the soil there, m³/m³.
    pub pores: Option<f64>,
}

impl Level<'_> {
    /// 95 % half width of the newest probe's calibration where it told about this content; `None` if that is not known.
    #[must_use]
    pub fn half_width_near(&self, content: f64) -> Option<f64> {
        let track = self.tracks.iter().rev().find(|t| !t.curves.is_empty())?;
        let off = |i: &usize| (track.values[*i] - content).abs();
        let known = (0..track.values.len()).filter(|i| track.values[*i].is_finite());
        let near = known.min_by(|a, b| off(a).total_cmp(&off(b)))?;
        track.curves.last()?.1.half_width(track.raw[near])
    }

    /// Whether two probes lay there at once.
    #[must_use]
    pub fn has_twins(&self) -> bool {
        let [first, rest @ ..] = &self.tracks[..] else { return false };
        let both =
            |a: &Track<'_>, b: &Track<'_>| a.values.iter().zip(&b.values).any(|(a, b)| !a.is_nan() && !b.is_nan());
        rest.iter().any(|t| both(first, t))
    }
}

/// Levels from the surface down, over one grid.
#[derive(Debug, Clone)]
pub struct Profile<'a> {
    /// Its times.
    pub grid: Grid,
    /// Its depths, rising.
    pub levels: Vec<Level<'a>>,
}

/// Depths nearer to each other than this are one, cm.
const SAME_CM: f64 = 0.5;

impl<'a> Profile<'a> {
    /// Gathers tracks by depth. `pores` gives the pore space at a depth.
    #[must_use]
    pub fn of(grid: Grid, mut tracks: Vec<Track<'a>>, pores: impl Fn(f64) -> Option<f64>) -> Self {
        tracks.retain(|t| t.depth_cm.is_finite());
        tracks.sort_by(|a, b| a.depth_cm.total_cmp(&b.depth_cm));
        let mut levels: Vec<Level<'a>> = Vec::new();
        for track in tracks {
            match levels.last_mut().filter(|l| track.depth_cm - l.depth_cm < SAME_CM) {
                Some(level) => level.tracks.push(track),
                None => levels.push(Level {
                    depth_cm: track.depth_cm,
                    pores: pores(track.depth_cm),
                    values: Vec::new(),
                    tracks: vec![track],
                }),
            }
        }
        for level in &mut levels {
            level.values = match &level.tracks[..] {
                [one] => one.values.clone(),
                all => (0..grid.len()).map(|i| mean(all, i)).collect(),
            };
        }
        // A depth at which nothing was ever measured is no level.
        levels.retain(|l| l.values.iter().any(|v| v.is_finite()));
        Self { grid, levels }
    }

    /// Depths of its levels, cm.
    #[must_use]
    pub fn depths(&self) -> Vec<f64> {
        self.levels.iter().map(|l| l.depth_cm).collect()
    }

    /// Contents of all levels at a time.
    #[must_use]
    pub fn at(&self, index: usize) -> Vec<f64> {
        self.levels.iter().map(|l| l.values[index]).collect()
    }

    /// What became of all readings.
    #[must_use]
    pub fn counts(&self) -> Counts {
        let mut all = Counts::default();
        self.levels.iter().flat_map(|l| &l.tracks).for_each(|t| all += t.counts);
        all
    }

    /// The level at a depth, or the nearest one within half a centimetre.
    #[must_use]
    pub fn level(&self, depth_cm: f64) -> Option<usize> {
        self.levels.iter().position(|l| (l.depth_cm - depth_cm).abs() < SAME_CM)
    }
}

fn mean(tracks: &[Track<'_>], i: usize) -> f64 {
    let known = tracks.iter().map(|t| t.values[i]).filter(|v| v.is_finite());
    let (n, sum) = known.fold((0, 0.0), |(n, sum), v| (n + 1, sum + v));
    if n == 0 { f64::NAN } else { sum / f64::from(n) }
}

#[cfg(test)]
pub(crate) mod testing {
    use super::super::grid::ALWAYS;
    use super::*;
    use crate::units::{SpanSeconds, UnixSeconds};

    /// A profile of levels whose values are given for each quarter of an hour from `first` on.
    pub fn profile(first: i64, levels: &[(f64, Vec<f64>)]) -> Profile<'static> {
        let len = levels[0].1.len() as i64;
        let grid = Grid::over(UnixSeconds(first), UnixSeconds(first + (len - 1) * 900), SpanSeconds(900)).unwrap();
        let tracks = levels.iter().map(|(depth_cm, values)| Track {
            name: format!("{depth_cm} cm"),
            depth_cm: *depth_cm,
            raw: values.clone(),
            values: values.clone(),
            curves: Vec::new(),
            counts: Counts { used: values.len(), ..Counts::default() },
            in_force: ALWAYS,
        });
        Profile::of(grid, tracks.collect(), |_| Some(0.5))
    }
}

#[cfg(test)]
mod tests {
    use super::testing::profile;

    #[test]
    fn twins_are_one_level_and_a_depth_without_readings_is_none() {
        let p = profile(
            900,
            &[(30.0, vec![0.3, 0.3]), (15.0, vec![0.2, f64::NAN]), (15.2, vec![0.24, 0.26]), (60.0, vec![f64::NAN; 2])],
        );
        assert_eq!(p.depths(), [15.0, 30.0]);
        assert!((p.levels[0].values[0] - 0.22).abs() < 1e-12 && (p.levels[0].values[1] - 0.26).abs() < 1e-12);
        assert!(p.levels[0].has_twins() && !p.levels[1].has_twins());
        assert_eq!((p.level(15.3), p.level(20.0)), (Some(0), None));
        assert_eq!(p.at(1)[1], 0.3);
        assert_eq!(p.counts().used, 6);
    }
}
