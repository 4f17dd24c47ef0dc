//! Rain, air and sun at the place, one step after the other.

use rand::{Rng, RngExt};
use rand_distr::{Distribution, Exp, Gamma, Normal, StandardNormal};
use std::f64::consts::TAU;

/// The climate in four numbers.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Season {
    /// Mean air temperature of the year, °C.
    pub mean_c: f64,
    /// Half the difference between the warmest and coldest day's mean, K.
    pub swing_c: f64,
    /// Day of the year that is warmest.
    pub warmest_day: f64,
    /// Rain of a year, mm.
    pub yearly_rain_mm: f64,
}

/// The weather of one step.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Now {
    pub air_c: f64,
    /// Share of the clear-sky sun at noon of midsummer, 0 to 1.
    pub sun: f64,
    pub rain_mm: f64,
}

pub(crate) struct Weather {
    season: Season,
    /// Slow departures of air temperature (days) and of cloud.
    spell_c: f64,
    cloud: f64,
    gust_c: f64,
    /// Rain that still falls: steps left, mm per step.
    shower: Option<(u32, f64)>,
    /// Seconds until the next shower.
    dry_left: f64,
    /// Whether days are showery or settled just now: scales the time between showers.
    regime: f64,
}

/// Mean time between showers in a middling regime.
const BETWEEN_SHOWERS_S: f64 = 2.3 * 86_400.0;

impl Weather {
    pub fn new(rng: &mut impl Rng, season: Season) -> Self {
        let spell_c = 2.0 * rng.sample::<f64, _>(StandardNormal);
        Self { season, spell_c, cloud: 0.5, gust_c: 0.0, shower: None, dry_left: 86_400.0, regime: 1.0 }
    }

    pub fn step(&mut self, t: i64, rng: &mut impl Rng) -> Now {
        const STEP_S: f64 = 900.0;
        let day = t as f64 / 86_400.0;
        let year_phase = TAU * (day - self.season.warmest_day) / 365.2425;
        let normal = |rng: &mut _| -> f64 { Distribution::<f64>::sample(&StandardNormal, rng) };

        self.spell_c += STEP_S / (3.5 * 86_400.0) * -self.spell_c + 0.196 * normal(rng) * 1.05;
        self.gust_c += -0.12 * self.gust_c + 0.05 * normal(rng);
        self.cloud = (self.cloud + 0.012 * (0.5 - self.cloud) + 0.035 * normal(rng)).clamp(0.0, 1.0);

        let rain_mm = self.rain(year_phase, rng);
        if rain_mm > 0.0 {
            self.cloud = (self.cloud + 0.1).min(1.0);
        }
        // Sun by height above the horizon at 46.9° N (declination by Cooper 1969, Solar Energy 12:333).
        let declination = 0.409 * year_phase.cos();
        let latitude = 46.9f64.to_radians();
        let hour = TAU * (day.fract() - 0.5 - 3.2 / 360.0);
        let height = latitude.sin() * declination.sin() + latitude.cos() * declination.cos() * hour.cos();
        let sun = height.max(0.0) * (1.0 - 0.78 * self.cloud);

        // The daily wave lags the sun by about two hours and is flat under cloud.
        let season = self.season.mean_c + self.season.swing_c * year_phase.cos();
        let swing = (2.2 + 3.4 * (0.5 + 0.5 * year_phase.cos())) * (1.25 - self.cloud);
        let daily = swing * (TAU * (day.fract() - 14.5 / 24.0)).cos();
        let chill = if rain_mm > 0.0 { -0.8 } else { 0.0 };
        let air_c = season + self.spell_c * 1.15 + daily + self.gust_c + chill;
        Now { air_c, sun, rain_mm }
    }

    /// Showers come as a Poisson process whose rate drifts between settled and showery spells; summer ones are
    /// short and hard, winter ones long and gentle.
    fn rain(&mut self, year_phase: f64, rng: &mut impl Rng) -> f64 {
        let summer = 0.5 + 0.5 * year_phase.cos();
        if let Some((steps, per_step)) = self.shower {
            self.shower = (steps > 1).then_some((steps - 1, per_step));
            let fall = per_step * Exp::new(1.0).map_or(1.0, |e| e.sample(rng));
            return (fall / 0.2).round() * 0.2;
        }
        self.dry_left -= 900.0;
        if self.dry_left > 0.0 {
            return 0.0;
        }
        self.regime =
            (self.regime * Normal::new(1.0, 0.55).map_or(1.0f64, |n| n.sample(rng)).abs().max(0.2)).clamp(0.25, 3.0);
        self.regime += 0.25 * (1.0 - self.regime);
        self.dry_left = BETWEEN_SHOWERS_S * self.regime * Exp::new(1.0).map_or(1.0, |e| e.sample(rng));
        let shower_mm = self.season.yearly_rain_mm / 365.0 * BETWEEN_SHOWERS_S / 86_400.0;
        let amount = Gamma::new(0.75, shower_mm / 0.75).map_or(shower_mm, |g| g.sample(rng)).min(46.0);
        let hours = (2.0 + 6.0 * (1.0 - summer)) * rng.random_range(0.4..1.6);
        let steps = (hours * 4.0).ceil().max(1.0) as u32;
        self.shower = Some((steps, amount / f64::from(steps)));
        0.0
    }
}
