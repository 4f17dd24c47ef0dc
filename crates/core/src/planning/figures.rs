//! Every number of a plan in one table: legal range, default, and where the default comes from.
//!
//! The same table feeds the parser, the message at the field, and the line under it. A plan keeps only what somebody
//! typed; everything else follows the table, so that a better default reaches every plan that did not choose.

use super::draft::Typed;
use super::remark::{Remark, Severity, Step};
use crate::units::Range;
use std::collections::BTreeMap;

/// What is known of one number of a plan.
#[derive(Debug, Clone, Copy)]
pub struct FigureSpec {
    /// Key in a plan's JSON; ends with its unit.
    pub code: &'static str,
    /// The step of planning in which it is asked.
    pub step: Step,
    /// Name, unit and legal values.
    pub range: Range,
    /// Taken if nothing is typed.
    pub default: f64,
    /// Where the default comes from, or what the number means.
    pub source: &'static str,
}

macro_rules! figures {
    ($($variant:ident = $code:literal, $step:ident, $name:literal, $unit:literal, $min:literal..$max:literal, $default:literal, $source:literal;)+) => {
        /// A number of a plan.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
        pub enum Figure { $(#[doc = $name] $variant),+ }

        impl Figure {
            /// All of them, in the order of the work.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// What is known of it.
            #[must_use]
            pub const fn spec(self) -> FigureSpec {
                match self {
                    $(Self::$variant => FigureSpec {
                        code: $code,
                        step: Step::$step,
                        range: Range { name: $name, unit: $unit, min: $min as f64, max: $max as f64 },
                        default: $default as f64,
                        source: $source,
                    }),+
                }
            }
        }
    };
}

figures! {
    Roots = "roots_cm", Depths, "depth of the roots", "cm", 5..300, 50, "a first guess; the first hole shows it";
    Stones = "stones_pct", Depths, "stones, share of the volume", "%", 0..80, 5, "judged at the first hole";
    WaterToday = "water_today", Depths, "water content today", "m³/m³", 0.01..0.6, 0.25, "moist soil; measure it with a handheld or a core before filling";
    ToolClearance = "tool_clearance_cm", Depths, "room between depths for the tool", "cm", 0..50, 10, "what a lever tool or a hand needs";
    HoleDiameter = "hole_diameter_cm", Hole, "diameter of the hole", "cm", 2..60, 10, "a hand auger of 10 cm; see the method";
    HoleAngle = "hole_angle_deg", Hole, "angle of a slanted hole from the vertical", "°", 0..90, 45, "45° sheds water from the probe";
    GroundSlope = "ground_slope_deg", Hole, "slope of the ground along the hole", "°", -40..40, 0, "level; positive where the ground rises ahead of the hole";
    HoleSpacing = "hole_spacing_cm", Hole, "distance between holes, or between the probes of a pair", "cm", 5..500, 40, "wide enough for any sensing volume here";
    RoomBelow = "room_below_cm", Hole, "room for the tool below the deepest probe", "cm", 0..40, 12, "10 to 15 cm for a lever tool";
    PitLength = "pit_length_cm", Hole, "length of the pit", "cm", 30..300, 80, "room to kneel before the face";
    PitWidth = "pit_width_cm", Hole, "width of the pit's face", "cm", 20..200, 60, "two shovels wide";
    Collar = "collar_cm", Hole, "bentonite collar", "cm", 0..60, 10, "stops water that would run down the hole";
    PusherPipe = "pusher_pipe_cm", Hole, "length of the pushing pipe", "cm", 20..400, 150, "the pipe at hand";
    Standoff = "standoff_cm", Hole, "height of the reading edge above the ground", "cm", 0..60, 0, "read at the ground itself";
    PipeAbove = "pipe_above_cm", Hole, "pipe left above the ground", "cm", 0..100, 10, "to grip it when it is taken out";
    NodeDepth = "node_depth_cm", Hole, "depth of a buried node", "cm", 5..100, 40, "below the plough";
    CableRun = "cable_run_m", Hole, "cable along the ground to the post", "m", 0..100, 1.5, "a post beside the hole";
    PostRise = "post_rise_m", Hole, "cable up the post", "m", 0..10, 1.2, "enclosure at the height of the chest";
    Loop = "loop_m", Hole, "slack loop under the enclosure", "m", 0..5, 0.3, "a drip loop";
    Slack = "slack_pct", Hole, "slack on top", "%", 0..100, 10, "bends and second thoughts";
    ConduitDown = "conduit_down_cm", Hole, "conduit down the hole", "cm", 0..100, 15, "at least 15 cm, below spade and teeth";
    ConduitUp = "conduit_up_cm", Hole, "conduit up the post", "cm", 0..200, 60, "about 60 cm, above what gnaws";
    Scan = "scan_s", Program, "scan interval", "s", 1..86400, 300, "a reading every 5 min makes an honest mean at little cost";
    SpotMinutes = "spot_min", Program, "spot work lasts", "min", 0.1..10000, 10, "for a walk with the handheld";
    SpotEvery = "spot_every_s", Program, "with a sample every", "s", 0.1..3600, 5, "slow enough to write beside it";
    ProbesAwake = "settle_factor", Budgets, "probes powered longer than their warm-up by", "×", 1..100, 2, "twice the model's warm-up";
    Battery = "battery_mah", Budgets, "battery", "mAh", 0..1000000, 7000, "two lithium D cells";
    BatteryVolts = "battery_v", Budgets, "battery's voltage", "V", 0.5..60, 3.6, "lithium cells";
    Usable = "usable_pct", Budgets, "usable share of the battery", "%", 1..100, 85, "the rest lies below the end-of-life voltage";
    SelfDischarge = "self_discharge_pct", Budgets, "self-discharge in a year", "%", 0..90, 3, "lithium cells at 20 °C";
    YearMean = "year_mean_c", Budgets, "mean temperature of the year", "°C", -30..40, 10, "temperate lowland";
    YearSwing = "year_swing_c", Budgets, "warmest month above the mean", "K", 0..40, 8, "temperate lowland";
    BatteryTarget = "battery_target_days", Budgets, "a battery must last", "days", 1..4000, 180, "two changes a year";
    Panel = "panel_w", Budgets, "solar panel, peak", "W", 0..400, 0, "none";
    PanelEfficiency = "panel_efficiency_pct", Budgets, "of its peak reaching the battery", "%", 5..100, 65, "dirt, heat, charger";
    Sunshine = "sunshine_pct", Budgets, "bright sunshine in the worst month", "%", 0..100, 20, "a cloudy winter; light through cloud still counts";
    Shade = "shade_pct", Budgets, "light taken by trees and slopes", "%", 0..100, 0, "open sky";
    Autonomy = "autonomy_days", Budgets, "days the battery must carry alone", "days", 0..400, 10, "a dark week and some";
    RadioDraw = "radio_ma", Budgets, "current while sending", "mA", 0.1..1000, 40, "at 14 dBm";
    ListenSeconds = "listen_s", Budgets, "listening after each packet", "s", 0..60, 1, "two short windows";
    SendEvery = "send_every_min", Budgets, "a packet every", "min", 0.1..10080, 60, "hourly, so that a silence is noticed in hours";
    Spreading = "spreading", Budgets, "spreading factor", "(7 to 12)", 7..12, 9, "middle of the range";
    Frequency = "frequency_mhz", Budgets, "carrier", "MHz", 300..1300, 868, "a licence-free band; ask your own rules";
    DutyCycle = "duty_pct", Budgets, "share of the time the band allows", "%", 0.01..100, 1, "usual in that band; ask your own rules";
    Distance = "distance_m", Budgets, "distance to the gateway", "m", 1..50000, 500, "measure it on a map";
    Power = "power_dbm", Budgets, "power sent", "dBm", -20..30, 14, "usual limit in that band; ask your own rules";
    NodeGain = "node_gain_dbi", Budgets, "gain of the node's antenna", "dBi", -10..15, 0, "a short whip";
    GatewayGain = "gateway_gain_dbi", Budgets, "gain of the gateway's antenna", "dBi", -10..20, 2, "a rod on the roof";
    Overhead = "overhead_bytes", Budgets, "protocol's bytes on each packet", "bytes", 0..60, 13, "addresses, counter, checksum";
    Outage = "outage_days", Budgets, "longest silence of the gateway to be bridged", "days", 0..1000, 14, "a holiday";
    VisitEvery = "visit_days", Kit, "a visit every", "days", 1..1000, 28, "monthly";
    Recalibration = "recalibration_months", Kit, "recalibration after", "months", 1..120, 24, "every second winter";
    Spares = "spares_pct", Kit, "spare probes", "%", 0..100, 10, "one in ten, at least one";
    Labour = "labour_h", Kit, "work to install", "h", 0..1000, 6, "two people, half a day";
    HourlyRate = "rate_per_h", Kit, "an hour costs", "", 0..1000, 0, "not counted";
}

/// A plan's numbers, typed or by default.
#[derive(Debug, Clone, Default)]
pub struct Figures(BTreeMap<Figure, f64>);

impl Figures {
    /// Reads what was typed. A value that cannot be taken becomes a remark at its field, and the default stands in
    /// meanwhile.
    pub fn read(typed: &BTreeMap<String, Typed>, remarks: &mut Vec<Remark>) -> Self {
        let mut values = BTreeMap::new();
        for &figure in Figure::ALL {
            let spec = figure.spec();
            let Some(text) = typed.get(spec.code).filter(|t| !t.is_blank()) else { continue };
            match text.number_in(spec.range) {
                Ok(value) => {
                    values.insert(figure, value);
                }
                Err(says) => {
                    let says = format!("{says}. Reckoned with {} {} meanwhile.", spec.default, spec.range.unit);
                    remarks.push(Remark::new(spec.step, Severity::Stop, format!("figures.{}", spec.code), says));
                }
            }
        }
        Self(values)
    }

    /// The value of a number.
    #[must_use]
    pub fn get(&self, figure: Figure) -> f64 {
        self.0.get(&figure).copied().unwrap_or(figure.spec().default)
    }

    /// The value that was typed, if one was.
    #[must_use]
    pub fn typed(&self, figure: Figure) -> Option<f64> {
        self.0.get(&figure).copied()
    }

    /// The same numbers with one changed: what if.
    #[must_use]
    pub fn with(&self, figure: Figure, value: f64) -> Self {
        let mut values = self.0.clone();
        values.insert(figure, value);
        Self(values)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_default_is_legal_and_says_where_it_comes_from() {
        for figure in Figure::ALL {
            let spec = figure.spec();
            assert!(spec.range.check(spec.default).is_ok() && !spec.source.is_empty(), "{}", spec.code);
        }
    }

    #[test]
    fn an_illegal_number_is_told_at_its_field_and_the_default_stands_in() {
        let typed = BTreeMap::from([
            ("battery_mah".to_owned(), Typed::from("-3")),
            ("roots_cm".to_owned(), Typed::from("62,5")),
        ]);
        let mut remarks = Vec::new();
        let figures = Figures::read(&typed, &mut remarks);
        assert_eq!((figures.get(Figure::Roots), figures.get(Figure::Battery)), (62.5, 7000.0));
        assert_eq!(remarks[0].at, "figures.battery_mah");
        assert!(remarks[0].says.contains("must lie between 0 and 1000000 mAh; −3 does not. Reckoned with 7000"));
    }
}
