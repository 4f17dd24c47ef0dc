//! Whether a tin was dried to constant mass.

/// Successive weighings that differ by no more than this share of the dry soil are constant mass (ISO 11465: 0.1 %).
pub const CONSTANT_SHARE: f64 = 0.001;

/// What repeated weighings of one tin out of the oven say.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Drying {
    /// One weighing: nothing says whether it was dry.
    Once,
    /// The last two weighings agree.
    Constant {
        /// The last change, g; positive is a loss.
        lost_g: f64,
    },
    /// It still loses water: the dry mass is too high, and so is the water content too low.
    Losing {
        /// The last loss, g.
        lost_g: f64,
    },
    /// It gained: it drank from the air while it cooled open, or two tins were mixed up.
    Gaining {
        /// The last gain, g.
        gained_g: f64,
    },
}

/// Judges gross weighings of one tin in the order in which they were made, against its tare (all in g).
///
/// Worked: 171.40 then 171.30 g with a tare of 50.00 g is a change of 0.08 % of the dry soil: constant.
#[must_use]
pub fn drying(gross_g: &[f64], tare_g: f64) -> Drying {
    let [.., before, last] = gross_g else { return Drying::Once };
    let lost_g = before - last;
    let allowed = CONSTANT_SHARE * (last - tare_g).abs();
    match lost_g {
        lost if lost > allowed => Drying::Losing { lost_g },
        lost if lost < -allowed => Drying::Gaining { gained_g: -lost },
        _ => Drying::Constant { lost_g },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn constant_losing_and_gaining_are_told_apart() {
        assert_eq!(drying(&[171.3], 50.0), Drying::Once);
        assert!(matches!(drying(&[172.0, 171.40, 171.30], 50.0), Drying::Constant { .. }), "the last pair decides");
        assert!(matches!(drying(&[174.0, 171.3], 50.0), Drying::Losing { lost_g } if (lost_g - 2.7).abs() < 1e-9));
        assert!(matches!(drying(&[171.3, 172.3], 50.0), Drying::Gaining { gained_g } if (gained_g - 1.0).abs() < 1e-9));
    }

    proptest! {
        #[test]
        fn the_tin_does_not_change_the_judgement(dry in 60.0..200.0f64, change in -3.0..3.0f64, tin in 1.0..80.0f64) {
            let light = drying(&[dry + change, dry], 0.0);
            let heavy = drying(&[dry + change + tin, dry + tin], tin);
            prop_assert_eq!(std::mem::discriminant(&light), std::mem::discriminant(&heavy));
        }
    }
}
