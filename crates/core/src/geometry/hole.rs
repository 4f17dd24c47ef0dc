//! A hole at an angle, and the marks on the pipe that pushes a probe into it.

use thiserror::Error;

/// A hole drilled so that the sensing centre ends at a target depth.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AngledHole {
    /// From the entry to the sensing centre, along the hole, cm.
    pub centre_along_cm: f64,
    /// Length to drill, along the hole, cm.
    pub length_cm: f64,
    /// From the entry to the point above the centre, level, cm.
    pub offset_cm: f64,
    /// Height from the entry down to the centre, cm.
    pub centre_drop_cm: f64,
    /// Height from the entry down to the bottom of the hole, cm.
    pub bottom_drop_cm: f64,
}

/// A hole that cannot be drilled.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum HoleError {
    /// The hole never reaches that depth.
    #[error("a hole at {0}° from the vertical never reaches that depth: give an angle below 85°")]
    TooFlat(f64),
    /// The centre would lie ahead of a hole of no length.
    #[error(
        "the probe reaches {0:.1} cm ahead of the hole's bottom, further than the depth asks: push it in from the surface"
    )]
    NoHole(f64),
}

/// The largest angle from the vertical at which a hole is drilled; beyond it runs along the surface.
const FLATTEST_DEG: f64 = 85.0;

/// A hole at `angle_deg` from the vertical whose sensing centre ends `depth_cm` below the ground straight above it.
///
/// With β the angle, s the ground's slope along the hole (positive: it rises ahead) and D the depth,
/// L = D/(cos β + sin β tan s); the hole is L minus `ahead_cm`, the length by which the centre lies ahead of the
/// hole's bottom in undisturbed soil (negative: behind it). Plane trigonometry.
/// Worked value: 30 cm at 45° with 2.6 cm ahead takes 39.826 cm of hole.
///
/// # Errors
/// [`HoleError`] for an angle that never reaches the depth, or a centre that lies ahead of no hole at all.
pub fn angled_hole(depth_cm: f64, angle_deg: f64, ahead_cm: f64, slope_deg: f64) -> Result<AngledHole, HoleError> {
    let (angle, slope) = (angle_deg.to_radians(), slope_deg.to_radians());
    let per_length = angle.cos() + angle.sin() * slope.tan();
    if !(angle_deg.abs() <= FLATTEST_DEG && per_length > 0.05) {
        return Err(HoleError::TooFlat(angle_deg));
    }
    let along = depth_cm / per_length;
    let length = along - ahead_cm;
    if length <= 0.0 {
        return Err(HoleError::NoHole(ahead_cm));
    }
    Ok(AngledHole {
        centre_along_cm: along,
        length_cm: length,
        offset_cm: along * angle.sin(),
        centre_drop_cm: along * angle.cos(),
        bottom_drop_cm: length * angle.cos(),
    })
}

/// A mark on a pushing pipe: when it meets the reading edge, the sensing centre is at its depth.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PipeMark {
    /// From the pipe's lower end, cm.
    pub from_bottom_cm: f64,
    /// From its upper end, cm.
    pub from_top_cm: f64,
}

/// Where to mark a pipe of `pipe_cm` for centres `along_cm` down the hole; `None` where the mark falls off the pipe.
///
/// mark = L − offset + standoff: `offset_cm` is the distance from the pipe's lower end to the sensing centre,
/// `standoff_cm` the height of the reading edge (a collar) above the ground, along the hole. Plane trigonometry.
/// Worked value: 10 cm with an offset of 3.5 cm is marked at 6.5 cm.
#[must_use]
pub fn pipe_marks(along_cm: &[f64], offset_cm: f64, standoff_cm: f64, pipe_cm: f64) -> Vec<Option<PipeMark>> {
    along_cm
        .iter()
        .map(|along| {
            let mark = along - offset_cm + standoff_cm;
            (0.0..=pipe_cm).contains(&mark).then_some(PipeMark { from_bottom_cm: mark, from_top_cm: pipe_cm - mark })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn angled_holes_of_the_reference() {
        let h = angled_hole(30.0, 45.0, 2.6, 0.0).unwrap();
        assert_close(h.centre_along_cm, 42.426_406_871_2, 1e-11);
        assert_close(h.length_cm, 39.826_406_871_2, 1e-11);
        assert_close(h.bottom_drop_cm, 28.161_522_369_1, 1e-10);
        let behind = angled_hole(60.0, 30.0, -3.0, 0.0).unwrap();
        assert_close(behind.length_cm, 72.282_032_302_8, 1e-11);
        assert_close(behind.offset_cm, 34.641_016_151_4, 1e-11);
        let uphill = angled_hole(50.0, 20.0, 0.0, 10.0).unwrap();
        assert_close(uphill.centre_along_cm, 50.0, 1e-11);
        assert_close(uphill.offset_cm, 17.101_007_166_3, 1e-11);
        assert_close(uphill.centre_drop_cm, 46.984_631_039_3, 1e-11);
    }

    #[test]
    fn straight_down_is_as_deep_as_it_is_long_and_level_never_arrives() {
        let h = angled_hole(40.0, 0.0, 0.0, 0.0).unwrap();
        assert_eq!((h.length_cm, h.offset_cm), (40.0, 0.0));
        assert_eq!(angled_hole(40.0, 90.0, 0.0, 0.0), Err(HoleError::TooFlat(90.0)));
        assert!(angled_hole(40.0, f64::NAN, 0.0, 0.0).unwrap_err().to_string().contains("never reaches"));
        assert!(matches!(angled_hole(3.0, 0.0, 5.0, 0.0), Err(HoleError::NoHole(_))));
    }

    #[test]
    fn marks_of_the_reference_pipes() {
        let marks = pipe_marks(&[10.0, 20.0, 30.0, 50.0], 3.5, 0.0, 100.0);
        let bottom: Vec<f64> = marks.iter().map(|m| m.unwrap().from_bottom_cm).collect();
        assert_eq!(bottom, [6.5, 16.5, 26.5, 46.5]);
        assert_eq!(marks[3].unwrap().from_top_cm, 53.5);
        let along = [20.0, 40.0, 60.0].map(|d| angled_hole(d, 30.0, 0.0, 0.0).unwrap().centre_along_cm);
        let marks = pipe_marks(&along, -2.0, 12.0, 120.0);
        assert_close(marks[0].unwrap().from_bottom_cm, 37.094_010_767_6, 1e-11);
        assert_close(marks[2].unwrap().from_top_cm, 36.717_967_697_2, 1e-10);
        assert_eq!(pipe_marks(&[2.0, 130.0], 3.5, 0.0, 120.0), [None, None], "off the pipe at either end");
    }
}
