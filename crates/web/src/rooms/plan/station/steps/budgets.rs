//! Whether battery, radio and memory hold, with their plots.

use super::super::context::{Head, OnPage};
use crate::components::fields::{Choice, FigureField};
use crate::shell::Shell;
use crate::shell::figures::{fixed, grouped};
use askama::Template;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::{Figure, MONTHS, Method, SAFE_MARGIN_DB, long_span};
use std::fmt::Write as _;

/// A line plot: everything in px.
pub struct Plot {
    line: String,
    /// Dashed lines: path, and label with its place and anchor.
    marks: Vec<(String, f64, f64, &'static str, String)>,
    x_ticks: Vec<(f64, String)>,
    y_ticks: Vec<(f64, String)>,
    x_words: &'static str,
    y_words: &'static str,
}

/// Inner edges of a plot, px.
const LEFT: f64 = 48.0;
const RIGHT: f64 = 452.0;
const TOP: f64 = 22.0;
const BOTTOM: f64 = 170.0;

/// One axis: values at its two ends, and the px there.
#[derive(Clone, Copy)]
struct Axis {
    from: (f64, f64),
    to: (f64, f64),
}

impl Axis {
    fn at(self, value: f64) -> f64 {
        let share = (value - self.from.0) / (self.to.0 - self.from.0);
        self.from.1 + share.clamp(0.0, 1.0) * (self.to.1 - self.from.1)
    }
}

fn line(points: impl Iterator<Item = (f64, f64)>) -> String {
    let mut path = String::new();
    for (i, (x, y)) in points.enumerate() {
        // Writing to a String cannot fail.
        let _ = write!(path, "{}{x:.1} {y:.1}", if i == 0 { "M" } else { "L" });
    }
    path
}

#[derive(Template)]
#[template(path = "rooms/plan/station/steps/budgets.html")]
pub struct BudgetsPage {
    shell: Shell,
    head: Head,
    energy: String,
    energy_holds: bool,
    radio: String,
    radio_holds: bool,
    memory: String,
    battery_plot: Plot,
    shares: Vec<(String, String, f64)>,
    assumes: String,
    months: Vec<(String, String)>,
    distance_plot: Option<Plot>,
    wetness_plot: Option<Plot>,
    radio_numbers: Vec<(String, String)>,
    energy_figures: Vec<FigureField>,
    panel_figures: Vec<FigureField>,
    radio_figures: Vec<FigureField>,
    terrain: Choice,
}

pub fn page(shell: Shell, head: Head, context: &StationPlan) -> BudgetsPage {
    use Figure::*;
    let found = &context.found;
    let (energy, radio, plan) = (&found.energy, &found.radio, &found.plan);
    let total = energy.mean_ma.max(1e-9);
    let has_radio = plan.logger.radio;
    let mut panel = vec![Panel];
    if plan.get(Panel) > 0.0 {
        panel.extend([PanelEfficiency, Sunshine, Shade, Autonomy]);
    }
    let mut power = vec![Battery, BatteryVolts, Usable, SelfDischarge, YearMean, YearSwing, ProbesAwake];
    if energy.solar.is_none() {
        power.push(BatteryTarget);
    }
    let distance = plan.get(Distance);
    let by_distance = has_radio.then(|| margin_plot(&radio.by_distance, true, distance, "distance, m"));
    let by_wetness = (has_radio && plan.method == Method::Buried)
        .then(|| margin_plot(&radio.by_wetness, false, plan.get(WaterToday), "water content of the soil above, m³/m³"));
    let months = energy
        .solar
        .as_ref()
        .map_or_else(Vec::new, |s| (0..12).map(|m| (MONTHS[m][..3].to_owned(), fixed(s.income_wh[m], 2))).collect());
    BudgetsPage {
        energy: energy.says.clone(),
        energy_holds: energy.holds,
        radio: radio.says.clone(),
        radio_holds: radio.holds,
        memory: if found.memory.days.is_finite() {
            format!(
                "The memory holds {}; a silence of {} days is bridged{}.",
                long_span(found.memory.days),
                fixed(plan.get(Outage), 0),
                if found.memory.days >= plan.get(Outage) { "" } else { " no more" }
            )
        } else {
            "Nothing is kept yet.".into()
        },
        battery_plot: battery_plot(&energy.year),
        shares: energy
            .shares
            .iter()
            .map(|s| (s.name.to_owned(), fixed(s.mean_ma * 1000.0, 1), (s.mean_ma / total * 100.0).round()))
            .collect(),
        assumes: format!(
            "Mean current {} µA. Usable {} mAh at {} °C, the coldest month: derated by a table for lithium cells, self-discharge as an exponential. Each probe is powered by itself for its warm-up; the maker's own figures are better where you have them.",
            fixed(energy.mean_ma * 1000.0, 0),
            grouped(energy.usable_mah.round() as usize),
            fixed(energy.coldest_c, 0)
        ),
        months,
        distance_plot: by_distance,
        wetness_plot: by_wetness,
        radio_numbers: if has_radio { radio_numbers(context) } else { Vec::new() },
        energy_figures: context.figures(&power),
        panel_figures: context.figures(&panel),
        radio_figures: if has_radio {
            context.figures(&[
                Distance,
                SendEvery,
                Spreading,
                Frequency,
                DutyCycle,
                Power,
                NodeGain,
                GatewayGain,
                RadioDraw,
                ListenSeconds,
                Overhead,
                Outage,
            ])
        } else {
            Vec::new()
        },
        terrain: context.choice(
            "terrain",
            "Between node and gateway",
            &[
                ("broken", "hedges, orchard, light wood"),
                ("open", "open, in sight"),
                ("forest", "closed forest, or behind a rise"),
            ],
        ),
        shell,
        head,
    }
}

fn radio_numbers(context: &StationPlan) -> Vec<(String, String)> {
    let radio = &context.found.radio;
    let mut rows = vec![
        (
            "to be sent each time".to_owned(),
            format!("{} bytes in {} packet{}", radio.bytes, radio.packets, if radio.packets == 1 { "" } else { "s" }),
        ),
        ("time on air".to_owned(), format!("{:.0} ms", radio.air_ms)),
        (
            "the band allows".to_owned(),
            format!("a packet every {:.0} s, {} an hour", radio.limit.period_s, radio.limit.per_hour),
        ),
        ("to hand over after the longest silence".to_owned(), long_hours(radio.catch_up_h)),
    ];
    if let Some(theta) = radio.silent_above {
        rows.push(("falls silent above".to_owned(), format!("{} m³/m³", fixed(theta, 2))));
    }
    rows
}

fn long_hours(hours: f64) -> String {
    if hours < 48.0 {
        format!("{hours:.1} h")
    } else if hours < 24_000.0 {
        long_span(hours / 24.0)
    } else {
        "never: the band is full".into()
    }
}

fn battery_plot(year: &[f64]) -> Plot {
    let x = Axis { from: (0.0, LEFT), to: (365.0, RIGHT) };
    let y = Axis { from: (0.0, BOTTOM), to: (1.0, TOP) };
    let x_ticks = (0..=12).step_by(2).map(|m| (x.at(f64::from(m) * 30.44), m.to_string())).collect();
    Plot {
        line: line(year.iter().enumerate().map(|(d, share)| (x.at(d as f64), y.at(*share)))),
        marks: Vec::new(),
        x_ticks,
        y_ticks: [0.0, 0.25, 0.5, 0.75, 1.0].map(|s| (y.at(s), format!("{:.0}", s * 100.0))).to_vec(),
        x_words: "months",
        y_words: "usable charge, %",
    }
}

/// Margin of the link; the wanted margin is dashed, today's place is marked.
fn margin_plot(points: &[(f64, f64)], logarithmic: bool, here: f64, x_words: &'static str) -> Plot {
    let on = |v: f64| if logarithmic { v.max(1e-9).log10() } else { v };
    let (first, last) = (points[0].0, points[points.len() - 1].0);
    let x = Axis { from: (on(first), LEFT), to: (on(last), RIGHT) };
    let low = points.iter().map(|p| p.1).fold(0.0, f64::min).max(-80.0);
    let high = points.iter().map(|p| p.1).fold(20.0, f64::max);
    let (low, high) = ((low / 20.0).floor() * 20.0, (high / 20.0).ceil() * 20.0);
    let y = Axis { from: (low, BOTTOM), to: (high, TOP) };
    let ticks: Vec<f64> = if logarithmic { vec![10.0, 100.0, 1000.0, 10_000.0] } else { vec![0.1, 0.2, 0.3, 0.4, 0.5] };
    let within = |v: &&f64| **v >= first && **v <= last * 1.001;
    let safe = y.at(SAFE_MARGIN_DB);
    let hx = x.at(on(here));
    let steps = ((high - low) / 20.0) as i64;
    Plot {
        line: line(points.iter().map(|p| (x.at(on(p.0)), y.at(p.1)))),
        marks: vec![
            (
                format!("M{LEFT} {safe:.1}H{RIGHT}"),
                LEFT + 4.0,
                safe - 4.0,
                "word",
                format!("{SAFE_MARGIN_DB} dB wanted"),
            ),
            (
                format!("M{hx:.1} {TOP}V{BOTTOM}"),
                hx - 4.0,
                TOP + 10.0,
                "word end",
                if logarithmic { "here".into() } else { "today".into() },
            ),
        ],
        x_ticks: ticks.iter().filter(within).map(|v| (x.at(on(*v)), v.to_string())).collect(),
        y_ticks: (0..=steps)
            .map(|i| low + i as f64 * 20.0)
            .map(|v| (y.at(v), format!("{v:.0}").replace('-', "−")))
            .collect(),
        x_words,
        y_words: "margin, dB",
    }
}
