//! Whether the battery holds: mean current by phase, life on the battery alone, and the year with a panel.

use super::figures::{Figure, Figures};
use super::link::Radio;
use super::plan::Plan;
use super::program::span;
use super::remark::{Remark, Severity, Step};
use crate::power::{SelfDischarge, average_current, battery_days, daylight, derating, mid_month_day, solar_run};
use crate::units::format_short;

/// Capacity left of a lithium cell by temperature (°C, factor): a planning table; the maker's own is better.
const COLD: [(f64, f64); 4] = [(-30.0, 0.45), (-10.0, 0.7), (0.0, 0.85), (20.0, 1.0)];
/// Share of the light above the air that reaches the ground under cloud, and what bright sunshine adds
/// (Allen et al. 1998, FAO-56, eq. 35).
const LIGHT_THROUGH_CLOUD: f64 = 0.25;
const LIGHT_BY_SUN: f64 = 0.50;
/// MJ in a kWh.
const MJ_PER_KWH: f64 = 3.6;
/// Names of months.
pub const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];

/// A share of the mean current.
#[derive(Debug, Clone, PartialEq)]
pub struct Share {
    /// What draws it.
    pub name: &'static str,
    /// Its mean, mA.
    pub mean_ma: f64,
}

/// The energy budget.
#[derive(Debug, Clone, PartialEq)]
pub struct Energy {
    /// Mean current, mA.
    pub mean_ma: f64,
    /// What it is made of.
    pub shares: Vec<Share>,
    /// Capacity that can be used in the coldest month, mAh.
    pub usable_mah: f64,
    /// Mean temperature of the coldest month, °C.
    pub coldest_c: f64,
    /// Days on the battery alone; `None`: for ever on paper.
    pub battery_days: Option<f64>,
    /// The panel's year, if there is one.
    pub solar: Option<Solar>,
    /// Charge through a year from full, as a share of the usable capacity, a value per day.
    pub year: Vec<f64>,
    /// The verdict in words.
    pub says: String,
    /// Whether it holds.
    pub holds: bool,
}

/// What a panel gives.
#[derive(Debug, Clone, PartialEq)]
pub struct Solar {
    /// Income by month, Wh a day.
    pub income_wh: [f64; 12],
    /// Load, Wh a day.
    pub load_wh: f64,
    /// The month with the least light, 0 to 11.
    pub worst: usize,
    /// Days the battery carries the load alone.
    pub autonomy_days: f64,
    /// Months without any sun.
    pub dark_months: usize,
    /// Days of the year on which the battery is empty.
    pub empty_days: usize,
    /// The panel that the worst month asks for, W; `None` where no panel can help.
    pub needed_w: Option<f64>,
}

/// Mean current by what draws it.
fn shares(plan: &Plan, radio: &Radio) -> Vec<Share> {
    let (scan, sleep) = (plan.program.scan_s, plan.logger.sleep_ma);
    let awake = plan.logger.awake_ma;
    let factor = plan.get(Figure::ProbesAwake);
    // What each phase adds on top of sleep.
    let over = |ma: f64, seconds: f64, period: f64| average_current(sleep, &[(ma, seconds)], period) - sleep;
    let sensing: f64 =
        (plan.probes.iter()).map(|p| over(p.model.supply_ma + awake, p.model.warm_up_s * factor, scan)).sum::<f64>()
            + over(awake, plan.logger.scan_s, scan);
    let logging = plan.program.tables.iter().map(|t| over(awake, plan.logger.record_s, t.every_s)).sum();
    let mut shares = vec![
        Share { name: "asleep", mean_ma: sleep },
        Share { name: "sensing", mean_ma: sensing },
        Share { name: "keeping records", mean_ma: logging },
    ];
    if plan.logger.radio {
        let period = plan.get(Figure::SendEvery) * 60.0;
        let listen = over(awake, plan.get(Figure::ListenSeconds) * f64::from(radio.packets), period);
        shares.push(Share {
            name: "radio",
            mean_ma: over(plan.get(Figure::RadioDraw), radio.air_ms / 1000.0, period) + listen,
        });
    }
    shares
}

fn loss(figures: &Figures) -> SelfDischarge {
    SelfDischarge { fraction: figures.get(Figure::SelfDischarge) / 100.0, period_days: 365.25 }
}

/// The energy budget of a plan.
#[must_use]
pub fn energy(plan: &Plan, radio: &Radio, remarks: &mut Vec<Remark>) -> Energy {
    let latitude = plan.latitude.unwrap_or(45.0);
    let shares = shares(plan, radio);
    let mean_ma: f64 = shares.iter().map(|s| s.mean_ma).sum();
    let coldest_c = plan.get(Figure::YearMean) - plan.get(Figure::YearSwing);
    let usable_mah = plan.get(Figure::Battery) * plan.get(Figure::Usable) / 100.0 * derating(&COLD, coldest_c);
    let days = battery_days(usable_mah, mean_ma, loss(&plan.figures));
    let mut energy = Energy {
        mean_ma,
        shares,
        usable_mah,
        coldest_c,
        battery_days: days,
        solar: None,
        year: Vec::new(),
        says: String::new(),
        holds: false,
    };
    if usable_mah <= 0.0 {
        energy.says = "A battery of 0 mAh carries nothing: give the capacity printed on it.".into();
        energy.year = vec![0.0; 365];
        remarks.push(Remark::new(Step::Budgets, Severity::Stop, "figures.battery_mah", energy.says.clone()));
        return energy;
    }
    if plan.get(Figure::Panel) > 0.0 {
        with_panel(plan, latitude, &mut energy)
    } else {
        alone(plan, radio, &mut energy)
    }
    if !energy.holds {
        let at = if energy.solar.is_some() { "figures.panel_w" } else { "figures.battery_target_days" };
        remarks.push(Remark::new(Step::Budgets, Severity::Stop, at, energy.says.clone()));
    }
    if plan.latitude.is_none() && energy.solar.is_some() {
        let says = "The station has no latitude yet: reckoned for 45° north. Give it at the site.";
        remarks.push(Remark::new(Step::Budgets, Severity::Weak, "", says));
    }
    energy
}

/// Days as months where that reads better.
#[must_use]
pub fn long_span(days: f64) -> String {
    match days {
        d if d < 60.0 => format!("{d:.0} days"),
        d if d < 730.0 => format!("{:.1} months", d / 30.44),
        d => format!("{:.1} years", d / 365.25),
    }
}

fn alone(plan: &Plan, radio: &Radio, energy: &mut Energy) {
    let target = plan.get(Figure::BatteryTarget);
    let Some(days) = energy.battery_days else {
        energy.says = "Nothing is drawn at all: that cannot be; check the logger's currents in the catalogue.".into();
        return;
    };
    let per_day = energy.mean_ma * 24.0;
    let fade = -(1.0 - plan.get(Figure::SelfDischarge) / 100.0).ln() / 365.25;
    // dQ/dt = −24 I − λQ from full.
    energy.year = (0..365)
        .map(|d| {
            let t = f64::from(d);
            let left = if fade > 0.0 {
                (energy.usable_mah + per_day / fade) * (-fade * t).exp() - per_day / fade
            } else {
                energy.usable_mah - per_day * t
            };
            (left / energy.usable_mah).clamp(0.0, 1.0)
        })
        .collect();
    energy.holds = days >= target;
    let cold = format!("at the coldest month's {} °C", format_short(energy.coldest_c));
    energy.says = format!("The battery lasts {} {cold}; {} are asked.", long_span(days), long_span(target));
    if !energy.holds {
        energy.says += &remedy(plan, radio, energy, target);
    }
}

/// What to change so that the battery holds: the first step that does.
fn remedy(plan: &Plan, radio: &Radio, energy: &Energy, target: f64) -> String {
    let days_at = |figure: Figure, value: f64| {
        let mut other = plan.clone();
        other.figures = plan.figures.with(figure, value);
        if figure == Figure::Scan {
            other.program.scan_s = value;
            for t in &mut other.program.tables {
                t.every_s = t.every_s.max(value);
            }
        }
        let mean: f64 = shares(&other, radio).iter().map(|s| s.mean_ma).sum();
        battery_days(energy.usable_mah, mean, loss(&plan.figures)).unwrap_or(f64::INFINITY)
    };
    let scan = plan.program.scan_s;
    let scans = [300.0, 900.0, 1800.0, 3600.0]
        .into_iter()
        .filter(|s| *s > scan)
        .map(|s| (Figure::Scan, s, format!("a scan every {} instead of every {}", span(s), span(scan))));
    let send = plan.get(Figure::SendEvery);
    let sends = [60.0, 180.0, 360.0, 1440.0].into_iter().filter(|m| *m > send && plan.logger.radio).map(|m| {
        (Figure::SendEvery, m, format!("a packet every {} instead of every {}", span(m * 60.0), span(send * 60.0)))
    });
    let mut best: Option<(f64, String)> = None;
    for (figure, value, words) in scans.chain(sends) {
        let days = days_at(figure, value);
        if days >= target {
            return format!(" {}{} gives {}.", words[..1].to_uppercase(), &words[1..], long_span(days));
        }
        if best.as_ref().is_none_or(|b| days > b.0) {
            best = Some((days, words));
        }
    }
    let needed = plan.get(Figure::Battery) * target / energy.battery_days.unwrap_or(target).max(0.1);
    let longest =
        best.map(|(days, words)| format!(" Even {words} gives only {}.", long_span(days))).unwrap_or_default();
    format!("{longest} About {} mAh, or a panel, would do.", format_short((needed / 100.0).ceil() * 100.0))
}

fn with_panel(plan: &Plan, latitude: f64, energy: &mut Energy) {
    let volts = plan.get(Figure::BatteryVolts);
    let sunshine = plan.get(Figure::Sunshine) / 100.0;
    let reaching = (LIGHT_THROUGH_CLOUD + LIGHT_BY_SUN * sunshine) * (1.0 - plan.get(Figure::Shade) / 100.0);
    let efficiency = plan.get(Figure::PanelEfficiency) / 100.0;
    // Peak sun hours of a level plane: kWh m⁻² d⁻¹.
    let hours = |day: u16| daylight(latitude, day).radiation_mj_m2 * reaching / MJ_PER_KWH;
    let income = |day: u16| plan.get(Figure::Panel) * hours(day) * efficiency;
    let load_wh = energy.mean_ma * 24.0 * volts / 1000.0;
    let usable_wh = energy.usable_mah * volts / 1000.0;
    let income_wh: [f64; 12] = std::array::from_fn(|m| income(mid_month_day(m as u8 + 1)));
    let worst = (0..12).min_by(|a, b| income_wh[*a].total_cmp(&income_wh[*b])).unwrap_or(0);
    let dark_months = (1..=12).filter(|m| daylight(latitude, mid_month_day(*m)).hours <= 0.0).count();
    // The year begins in the month after the worst, so that its dark end is crossed with what was gathered.
    let run = solar_run((1..=730u16).map(|d| (income((d - 1) % 365 + 1), load_wh)), usable_wh, usable_wh);
    energy.year = run.energy_wh[365..].iter().map(|e| (e / usable_wh).min(1.0)).collect();
    let empty_days = run.energy_wh[365..].iter().filter(|e| **e <= 0.0).count();
    let worst_hours = hours(mid_month_day(worst as u8 + 1));
    let needed_w = (worst_hours * efficiency > 1e-6).then(|| load_wh / (worst_hours * efficiency));
    let autonomy_days = usable_wh / load_wh;
    let wanted = plan.get(Figure::Autonomy);
    let month = MONTHS[worst];
    energy.holds = empty_days == 0 && autonomy_days >= wanted && (income_wh[worst] >= load_wh || dark_months > 0);
    let balance = format!(
        "In {month}, the worst month, the panel gives {:.3} Wh a day against {load_wh:.3} Wh used",
        income_wh[worst]
    );
    energy.says = match (energy.holds, dark_months, needed_w) {
        (true, 0, _) => format!("{balance}; the battery alone carries {} days.", format_short(autonomy_days.floor())),
        (true, n, _) => format!(
            "The sun does not rise for {n} months: the battery carries the node through them, and the panel fills it again."
        ),
        (false, n, _) if n > 0 => format!(
            "At {}° the sun does not rise in {month}: no panel helps then, and the battery is empty on {empty_days} days of the year. Take {} mAh, or let the node send more seldom.",
            format_short(latitude.abs()),
            format_short(
                (load_wh * (f64::from(n as u32) + 1.0) * 30.44 / volts * 1000.0 / energy.usable_mah
                    * plan.get(Figure::Battery)
                    / 100.0)
                    .ceil()
                    * 100.0
            )
        ),
        (false, _, Some(watts)) if income_wh[worst] < load_wh => {
            format!(
                "{balance}: it does not hold. A panel of {} W would.",
                format_short((watts * 1.2 * 10.0).ceil() / 10.0)
            )
        }
        (false, ..) => format!(
            "{balance}, but the battery alone carries only {} days of the {} asked. About {} mAh would do.",
            format_short(autonomy_days.floor()),
            format_short(wanted),
            format_short((plan.get(Figure::Battery) * wanted / autonomy_days / 100.0).ceil() * 100.0)
        ),
    };
    energy.solar = Some(Solar { income_wh, load_wh, worst, autonomy_days, dark_months, empty_days, needed_w });
}
