//! An own-made block against a reference while a wetted pot dries: where it responds, by which curve, with what lag.

use crate::calibration::{Intercept, PolynomialFit};
use crate::statistics::median;
use thiserror::Error;

/// One look at the pot.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PotReading {
    /// Hours since the pot was wetted.
    pub hours: f64,
    /// Resistance of the block, kΩ.
    pub kilo_ohm: f64,
    /// Tension by the reference probe, kPa.
    pub kilopascal: f64,
}

/// Why there is no response curve.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum ResponseError {
    /// Not enough looks.
    #[error("{0} readings are too few: six or more while the pot dries, the first ones wet")]
    TooFew(usize),
    /// The pot did not dry.
    #[error("the reference did not rise: let the pot dry")]
    NotDried,
    /// The block did not move.
    #[error("the block never rose above its wet plateau: it does not respond in this range, or its wires are broken")]
    NoResponse,
}

/// The response of a block.
#[derive(Debug, Clone, PartialEq)]
pub struct BlockResponse {
    /// Median resistance on the wet plateau, kΩ.
    pub plateau: f64,
    /// Tension at which it begins to respond, and the driest it was seen at, kPa.
    pub range: (f64, f64),
    /// kPa = factor · kΩ^power within that range.
    pub factor: f64,
    /// Power of the response; the factor stands before it.
    pub power: f64,
    /// Error of a reading that the curve has not seen, as a share of the tension.
    pub relative_error: f64,
    /// Readings in the range.
    pub used: usize,
    /// Hours by which it falls later than the reference after the pot was wetted again; `None` without a rewetting.
    pub lag_hours: Option<f64>,
}

/// A block responds once its resistance passes the wet plateau by this share.
const ABOVE_PLATEAU: f64 = 0.2;
/// Fewest looks, and fewest of them within the range.
const FEWEST: usize = 6;
const FEWEST_IN_RANGE: usize = 3;
/// Readings at the beginning that are taken as the wet plateau.
const PLATEAU: usize = 3;
/// A reference that falls below this share of its highest tension was wetted again.
const REWETTED: f64 = 0.5;

/// The response of a block from looks at a drying pot, in order of time.
///
/// The range begins where the resistance passes its wet plateau by a fifth. Within it ln kPa is a straight line in ln kΩ by
/// least squares. If the pot is wetted again at the end, the lag is the time between reference and block passing half of
/// their fall.
///
/// # Errors
/// [`ResponseError`] for too few looks, a pot that did not dry, or a block that did not move.
pub fn block_response(looks: &[PotReading]) -> Result<BlockResponse, ResponseError> {
    let sound = |r: &&PotReading| r.kilo_ohm > 0.0 && r.kilopascal > 0.0 && r.hours.is_finite();
    let looks: Vec<PotReading> = looks.iter().filter(sound).copied().collect();
    if looks.len() < FEWEST {
        return Err(ResponseError::TooFew(looks.len()));
    }
    let driest = (0..looks.len()).fold(0, |d, i| if looks[i].kilopascal > looks[d].kilopascal { i } else { d });
    let drying = &looks[..=driest];
    if drying.len() < FEWEST_IN_RANGE || looks[driest].kilopascal < 2.0 * looks[0].kilopascal {
        return Err(ResponseError::NotDried);
    }
    let plateau = median(&mut drying.iter().take(PLATEAU).map(|r| r.kilo_ohm).collect::<Vec<_>>()).unwrap_or(f64::NAN);
    // From the last look on the plateau: one early stray does not begin the range.
    let begin = drying.iter().rposition(|r| r.kilo_ohm <= plateau * (1.0 + ABOVE_PLATEAU)).map_or(0, |i| i + 1);
    let within = &drying[begin..];
    let log = |of: fn(&PotReading) -> f64| within.iter().map(|r| of(r).ln()).collect::<Vec<f64>>();
    let fit = PolynomialFit::new(&log(|r| r.kilo_ohm), &log(|r| r.kilopascal), 1, Intercept::Free);
    let (Ok(fit), true) = (fit, within.len() >= FEWEST_IN_RANGE) else { return Err(ResponseError::NoResponse) };
    let found = BlockResponse {
        plateau,
        range: (within[0].kilopascal, looks[driest].kilopascal),
        factor: fit.coefficients[0].exp(),
        power: fit.coefficients[1],
        relative_error: fit.loo_rmse.exp_m1(),
        used: within.len(),
        lag_hours: lag(&looks[driest..]).filter(|h| h.is_finite()),
    };
    let figures = [found.plateau, found.range.0, found.range.1, found.factor, found.power, found.relative_error];
    if figures.iter().all(|f| f.is_finite()) { Ok(found) } else { Err(ResponseError::NoResponse) }
}

impl BlockResponse {
    /// Tension in kPa at a resistance; `None` outside the responsive range, where nothing is extrapolated.
    #[must_use]
    pub fn tension(&self, kilo_ohm: f64) -> Option<f64> {
        let kilopascal = self.factor * kilo_ohm.powf(self.power);
        let slack = 1.0 + self.relative_error.max(1e-9);
        (self.range.0 / slack..=self.range.1 * slack).contains(&kilopascal).then_some(kilopascal)
    }

    /// Whether a refill point lies in the responsive range.
    #[must_use]
    pub fn covers(&self, kilopascal: f64) -> bool {
        (self.range.0..=self.range.1).contains(&kilopascal)
    }
}

fn lag(after: &[PotReading]) -> Option<f64> {
    let first = after.first()?;
    let lowest = after.iter().map(|r| r.kilopascal).fold(f64::INFINITY, f64::min);
    if lowest > first.kilopascal * REWETTED {
        return None;
    }
    let half_fall = |of: fn(&PotReading) -> f64| {
        let low = after.iter().map(of).fold(f64::INFINITY, f64::min);
        let half = of(first).midpoint(low);
        let at = after.windows(2).find(|w| of(&w[0]) > half && of(&w[1]) <= half)?;
        Some(at[0].hours + (of(&at[0]) - half) / (of(&at[0]) - of(&at[1])) * (at[1].hours - at[0].hours))
    };
    Some(half_fall(|r| r.kilo_ohm)? - half_fall(|r| r.kilopascal)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A block with R = plateau below 60 kPa and kPa = 20 R^1.5 above, read every 12 h while the pot dries to 300 kPa.
    fn pot() -> Vec<PotReading> {
        (0..16)
            .map(|i| {
                let kilopascal = 10.0 * 1.26f64.powi(i);
                PotReading {
                    hours: 12.0 * f64::from(i),
                    kilo_ohm: (kilopascal / 20.0).powf(1.0 / 1.5).max(2.0),
                    kilopascal,
                }
            })
            .collect()
    }

    #[test]
    fn the_curve_is_recovered_and_the_wet_end_is_left_out() {
        let found = block_response(&pot()).unwrap();
        assert!((found.factor - 20.0).abs() < 1e-6 && (found.power - 1.5).abs() < 1e-9, "{found:?}");
        assert!((found.plateau - 2.0).abs() < 1e-12 && found.range.0 > 60.0 && found.range.1 > 300.0);
        assert!(found.covers(100.0) && !found.covers(30.0), "a refill point of 30 kPa lies on the plateau");
        assert!((found.tension(4.0).unwrap() - 160.0).abs() < 1e-6);
        assert_eq!(found.tension(2.0), None, "nothing is told on the plateau");
        assert_eq!(found.lag_hours, None);
    }

    #[test]
    fn a_rewetting_shows_the_lag() {
        let mut looks = pot();
        let (dry, end) = (looks[15], looks[15].hours);
        let fall = |hours: f64, kilo_ohm: f64, kilopascal: f64| PotReading { hours: end + hours, kilo_ohm, kilopascal };
        looks.extend([fall(2.0, dry.kilo_ohm, 10.0), fall(26.0, dry.kilo_ohm, 9.0), fall(28.0, 2.0, 9.0)]);
        let lag = block_response(&looks).unwrap().lag_hours.unwrap();
        assert!((lag - 26.0).abs() < 0.2, "{lag}");
    }

    #[test]
    fn pots_that_say_nothing_get_words() {
        assert_eq!(block_response(&pot()[..4]), Err(ResponseError::TooFew(4)));
        let wet: Vec<PotReading> = pot().into_iter().map(|r| PotReading { kilopascal: 10.0, ..r }).collect();
        assert_eq!(block_response(&wet), Err(ResponseError::NotDried));
        let dead: Vec<PotReading> = pot().into_iter().map(|r| PotReading { kilo_ohm: 2.0, ..r }).collect();
        assert_eq!(block_response(&dead), Err(ResponseError::NoResponse));
    }
}
