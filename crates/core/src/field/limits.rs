//! The table by which a reading is judged: made for one probe at one depth on one day.

use super::judge::{Action, Rule, RuleKind, SoilVerdict};
use crate::calibration::Curve;
use crate::soil::Horizon;
use crate::units::{Quantity, format_value, unit_for_people};
use crate::water::Retention;
use serde::{Deserialize, Serialize};

/// What is known of the weather before the day.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Weather {
    /// Rain of the last three days, mm; `None`: no gauge tells.
    pub rain_mm: Option<f64>,
    /// Days since rain; `None`: no gauge tells.
    pub dry_days: Option<f64>,
}

/// A probe and where it goes.
#[derive(Debug, Clone, Copy)]
pub struct ProbeAtDepth<'a> {
    /// What it is to measure.
    pub quantity: Quantity,
    /// Unit of what the instrument gives.
    pub raw_unit: &'a str,
    /// Smallest and largest value that the instrument gives, in that unit.
    pub instrument: Option<(f64, f64)>,
    /// Its step, in that unit.
    pub resolution: Option<f64>,
    /// The calibration that serves it, for a moisture probe.
    pub curve: Option<&'a Curve>,
    /// What it read in air on the bench, if that is known.
    pub in_air: Option<f64>,
    /// Depth, cm.
    pub depth_cm: f64,
    /// The horizon there.
    pub horizon: Option<&'a Horizon>,
}

/// The table of one probe at one depth: rules in the order in which they speak, and how a reading becomes a value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Limits {
    /// Unit of the reading.
    pub raw_unit: String,
    /// Digits of a reading behind the point.
    pub raw_decimals: usize,
    /// Unit of the value.
    pub unit: String,
    /// Digits of the value behind the point.
    pub decimals: usize,
    /// Readings with their values, ascending by reading: in between a straight line. Empty: no curve serves the probe.
    pub scale: Vec<(f64, f64)>,
    /// The rules.
    pub rules: Vec<Rule>,
    /// What is said where no rule speaks.
    pub good: String,
    /// What the table assumes, for whoever asks.
    pub assumes: Vec<String>,
}

/// Points of the scale.
const POINTS: usize = 41;
/// Two probes of one profile seldom differ by more than this at one time, m³/m³.
const APART: f64 = 0.18;
/// To this the pore space is known from density and solids, m³/m³.
const PORES_KNOWN_TO: f64 = 0.03;
/// Rain of three days that wets any topsoil, mm, and how deep it is then felt, cm.
const MUCH_RAIN: (f64, f64) = (20.0, 20.0);
/// Without rain for so long, soil has drained, days.
const DRAINED_DAYS: f64 = 5.0;
/// Soil temperatures beyond these are no soil's that somebody digs in, °C.
const SOIL_C: (f64, f64) = (-8.0, 45.0);
/// Repeats of a thermometer lie apart at most by this, K; of a moisture probe, as water content.
const THERMOMETER_SPREAD_K: f64 = 0.3;
const MOISTURE_SPREAD: f64 = 0.02;

impl Limits {
    /// The value of a reading: between the points of the scale a straight line, beyond them the end's line goes on. `None`
    /// without a scale.
    #[must_use]
    pub fn value_of(&self, raw: f64) -> Option<f64> {
        let n = self.scale.len();
        if n < 2 {
            return None;
        }
        let mut i = 1;
        while i < n - 1 && self.scale[i].0 < raw {
            i += 1;
        }
        let ((x0, y0), (x1, y1)) = (self.scale[i - 1], self.scale[i]);
        Some(y0 + (y1 - y0) * (raw - x0) / (x1 - x0))
    }
}

fn rule(of: RuleKind, low: Option<f64>, high: Option<f64>, verdict: SoilVerdict, does: Action, says: String) -> Rule {
    Rule { of, low, high, verdict, does, says }
}

/// Makes the table for a probe at its depth. Limits that nothing is known for are left away, and `assumes` says so.
#[must_use]
pub fn limits(probe: &ProbeAtDepth<'_>, weather: Weather) -> Limits {
    let raw_unit = unit_for_people(probe.raw_unit);
    let raw_decimals = match probe.resolution {
        Some(r) if r < 0.1 => 2,
        Some(r) if r >= 1.0 => 0,
        _ if probe.raw_unit == "counts" => 0,
        _ => 1,
    };
    let mut table = Limits {
        raw_decimals,
        unit: unit_for_people(probe.quantity.unit()),
        decimals: probe.quantity.decimals(),
        scale: Vec::new(),
        rules: Vec::new(),
        good: String::new(),
        assumes: Vec::new(),
        raw_unit: raw_unit.clone(),
    };
    if let Some((low, high)) = probe.instrument {
        let [l, h] = [low, high].map(|v| format_value(v, raw_decimals));
        let says = format!("{{raw}}\u{a0}{raw_unit} is beyond what this model gives ({l} to {h}).");
        table.rules.push(rule(RuleKind::Raw, Some(low), Some(high), SoilVerdict::Bad, Action::Plug, says));
    }
    if probe.quantity == Quantity::SoilTemperature {
        thermometer(&mut table);
    } else if probe.quantity.is_moisture() {
        moisture(&mut table, probe, weather);
    } else {
        table.good = format!("{{raw}}\u{a0}{raw_unit}.");
    }
    table
}

fn thermometer(table: &mut Limits) {
    table.unit = "°C".into();
    table.decimals = 1;
    table.scale = vec![(-100.0, -100.0), (100.0, 100.0)];
    let spread = "The repeats lie {spread}\u{a0}K apart: it has not come to the soil's temperature yet.".to_string();
    let beyond = "{value}\u{a0}°C is no temperature of this soil.".to_owned();
    table.rules.push(rule(RuleKind::Value, Some(SOIL_C.0), Some(SOIL_C.1), SoilVerdict::Bad, Action::Plug, beyond));
    table.rules.push(rule(
        RuleKind::Spread,
        None,
        Some(THERMOMETER_SPREAD_K),
        SoilVerdict::Doubtful,
        Action::Wait,
        spread,
    ));
    let off = "{value}\u{a0}°C stands {off}\u{a0}K off the probe at {other}: warmed by hand or sun?".to_owned();
    table.rules.push(rule(RuleKind::Off, None, Some(8.0), SoilVerdict::Doubtful, Action::Wait, off));
    table.good = "{value}\u{a0}°C, stable.".into();
}

fn moisture(table: &mut Limits, probe: &ProbeAtDepth<'_>, weather: Weather) {
    let unit = table.raw_unit.clone();
    let Some(curve) = probe.curve.filter(|_| probe.quantity == Quantity::WaterContent) else {
        table.unit.clear();
        if let (Some(air), Some((low, high))) = (probe.in_air, probe.instrument) {
            let near = 0.03 * (high - low);
            // A reading like that in air, from either side.
            let says =
                format!("{{raw}}\u{a0}{unit} is what it reads in air ({}).", format_value(air, table.raw_decimals));
            let at = rule(RuleKind::Raw, Some(air + near), None, SoilVerdict::Bad, Action::Pull, says);
            if air < low.midpoint(high) {
                table.rules.push(at);
            }
        }
        if let Some((low, high)) = probe.instrument {
            let says = "The repeats lie {spread} apart.".to_owned();
            let most = 0.02 * (high - low);
            table.rules.push(rule(RuleKind::Spread, None, Some(most), SoilVerdict::Doubtful, Action::Press, says));
        }
        table
            .assumes
            .push("No calibration serves it: only the raw reading can be judged, never a water content.".into());
        table.good = format!("{{raw}}\u{a0}{unit}, raw: stable. Without a calibration no more can be said.");
        return;
    };
    scale(table, curve, probe.instrument);
    let half = curve.half_width(curve.x_min.midpoint(curve.x_max)).unwrap_or(0.03);
    let pores = probe.horizon.and_then(Horizon::pore_space);
    let holds = probe.horizon.and_then(Retention::of_horizon);
    table.assumes.push(format!("Calibration known to ±{half:.3} m³/m³ (95 %)."));
    let mut push =
        |of, low, high, verdict, does, says: String| table.rules.push(rule(of, low, high, verdict, does, says));
    let air = "{value}\u{a0}m³/m³ is below zero: air beside the prongs.".to_owned();
    push(RuleKind::Value, Some(-half), None, SoilVerdict::Bad, Action::Pull, air);
    if let Some(pores) = pores {
        let most = pores + PORES_KNOWN_TO + half;
        let says = format!(
            "{{value}}\u{a0}m³/m³ is more than the pores hold ({pores:.2}): standing water, or a curve of another soil."
        );
        push(RuleKind::Value, None, Some(most), SoilVerdict::Bad, Action::Wait, says);
    }
    let spread = "The repeats lie {spread} apart: loose in its seat.".to_owned();
    push(RuleKind::Spread, None, Some(spread_in_raw(curve)), SoilVerdict::Doubtful, Action::Press, spread);
    if let Some(holds) = holds {
        let wet = weather.rain_mm.is_some_and(|mm| mm >= MUCH_RAIN.0) && probe.depth_cm <= MUCH_RAIN.1;
        let (least, why) = if wet {
            (holds.wilting.midpoint(holds.field_capacity), "after much rain")
        } else {
            (0.5 * holds.wilting, "drier than roots can make it")
        };
        let says = format!("{{value}}\u{a0}m³/m³ is too dry here ({why}): an air gap, most likely.");
        push(RuleKind::Value, Some(least - half), None, SoilVerdict::Doubtful, Action::Move, says);
        if let Some(days) = weather.dry_days.filter(|d| *d >= DRAINED_DAYS) {
            let most = holds.field_capacity.midpoint(holds.saturated) + half;
            let says = format!("{{value}}\u{a0}m³/m³ is wet for {days:.0} days without rain: water in the hole?");
            push(RuleKind::Value, None, Some(most), SoilVerdict::Doubtful, Action::Wait, says);
        }
    }
    let off = "{value}\u{a0}m³/m³ stands {off} off the probe at {other}.".to_owned();
    push(RuleKind::Off, None, Some(APART + half), SoilVerdict::Doubtful, Action::Press, off);
    table.good = format!("{{value}}\u{a0}m³/m³ ({{raw}}\u{a0}{unit}), stable and plausible.");
    if pores.is_none() {
        table.assumes.push("The pore space here is not known: too wet cannot be told.".into());
    }
    if holds.is_none() {
        table.assumes.push("The texture here is not known: too dry for it cannot be told.".into());
    }
    if weather.rain_mm.is_none() {
        table.assumes.push("No gauge tells of the last days.".into());
    }
}

/// The curve as points from the instrument's lowest to its highest reading, or somewhat beyond its samples.
fn scale(table: &mut Limits, curve: &Curve, instrument: Option<(f64, f64)>) {
    let reach = curve.x_max - curve.x_min;
    let (low, high) = instrument.unwrap_or((curve.x_min - 0.5 * reach, curve.x_max + 0.5 * reach));
    let at = |i: usize| low + (high - low) * i as f64 / (POINTS - 1) as f64;
    table.scale = (0..POINTS).map(|i| (at(i), curve.theta(at(i)))).filter(|p| p.1.is_finite()).collect();
}

/// A spread of water content in the unit of the reading, by the curve's usual slope.
fn spread_in_raw(curve: &Curve) -> f64 {
    let rise = (curve.theta(curve.x_max) - curve.theta(curve.x_min)).abs();
    let reach = curve.x_max - curve.x_min;
    if rise > 0.0 { MOISTURE_SPREAD * reach / rise } else { 0.05 * reach }
}

#[cfg(test)]
mod tests {
    use super::super::judge::{Neighbour, judge};
    use super::*;

    fn horizon() -> Horizon {
        Horizon { bottom_cm: 40.0, texture: "silt loam".into(), bulk_density_g_cm3: Some(1.34), ..Horizon::default() }
    }

    fn table(weather: Weather) -> Limits {
        let curve = Curve::from_coefficients(&[-0.2, 3e-4], 700.0, 2000.0, Some(0.006)).unwrap();
        let horizon = horizon();
        let probe = ProbeAtDepth {
            quantity: Quantity::WaterContent,
            raw_unit: "mV",
            instrument: Some((250.0, 2500.0)),
            resolution: Some(0.1),
            curve: Some(&curve),
            in_air: Some(480.0),
            depth_cm: 15.0,
            horizon: Some(&horizon),
        };
        limits(&probe, weather)
    }

    fn said(weather: Weather, raw: f64, beside: Option<f64>) -> (SoilVerdict, Action, String) {
        let beside = beside.map(|value| Neighbour { place: "30 cm".into(), value });
        let j = judge(&table(weather), &[raw, raw + 2.0, raw - 2.0], beside.as_ref()).unwrap();
        (j.verdict, j.does, j.says)
    }

    #[test]
    fn a_reading_is_possible_stable_plausible_or_told_what_to_do() {
        let calm = Weather { rain_mm: Some(2.0), dry_days: Some(2.0) };
        let (verdict, does, says) = said(calm, 1500.0, Some(0.27));
        assert_eq!((verdict, does), (SoilVerdict::Good, Action::GoOn), "{says}");
        assert!(says.starts_with("0.250\u{a0}m³/m³ (1500.0\u{a0}mV), stable") && says.ends_with("Go on."), "{says}");
        let air = said(calm, 500.0, None);
        assert_eq!((air.0, air.1), (SoilVerdict::Bad, Action::Pull), "{}", air.2);
        assert!(air.2.contains("−0.050") && air.2.contains("air beside the prongs"), "{}", air.2);
        let wet = said(calm, 2490.0, None);
        assert_eq!((wet.0, wet.1), (SoilVerdict::Bad, Action::Wait), "{}", wet.2);
        let dead = said(calm, 90.0, None);
        assert_eq!((dead.0, dead.1), (SoilVerdict::Bad, Action::Plug), "{}", dead.2);
        let off = said(calm, 1500.0, Some(0.02));
        assert!(off.0 == SoilVerdict::Doubtful && off.2.contains("0.230 off the probe at 30 cm"), "{}", off.2);
        let loose = judge(&table(calm), &[1500.0, 1700.0, 1450.0], None).unwrap();
        assert_eq!((loose.verdict, loose.does), (SoilVerdict::Doubtful, Action::Press));
    }

    #[test]
    fn the_weather_of_the_last_days_counts() {
        let raw = 1060.0; // 0.118 m³/m³
        assert_eq!(said(Weather { rain_mm: Some(0.0), dry_days: Some(9.0) }, raw, None).0, SoilVerdict::Good);
        let after_rain = said(Weather { rain_mm: Some(35.0), dry_days: Some(0.0) }, raw, None);
        assert_eq!((after_rain.0, after_rain.1), (SoilVerdict::Doubtful, Action::Move), "{}", after_rain.2);
        let wet = 2050.0; // 0.415
        assert_eq!(said(Weather { rain_mm: Some(35.0), dry_days: Some(0.0) }, wet, None).0, SoilVerdict::Good);
        let drained = said(Weather { rain_mm: Some(0.0), dry_days: Some(9.0) }, wet, None);
        assert!(drained.0 == SoilVerdict::Doubtful && drained.2.contains("9 days without rain"), "{}", drained.2);
    }

    #[test]
    fn without_a_curve_only_the_raw_reading_is_judged() {
        let horizon = horizon();
        let probe = ProbeAtDepth {
            quantity: Quantity::RawOutput,
            raw_unit: "mV",
            instrument: Some((250.0, 2500.0)),
            resolution: Some(0.1),
            curve: None,
            in_air: Some(480.0),
            depth_cm: 15.0,
            horizon: Some(&horizon),
        };
        let table = limits(&probe, Weather::default());
        let good = judge(&table, &[1500.0; 3], None).unwrap();
        assert!(good.value.is_none() && good.says.contains("Without a calibration"), "{}", good.says);
        let air = judge(&table, &[490.0; 3], None).unwrap();
        assert!(air.verdict == SoilVerdict::Bad && air.says.contains("in air"), "{}", air.says);
        assert!(judge(&table, &[], None).is_none() && judge(&table, &[f64::NAN], None).is_none());
    }
}
