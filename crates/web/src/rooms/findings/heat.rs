//! Heat in the soil: the daily and the yearly wave by depth, and the thermal diffusivity by five methods beside each other.

use super::frame::{Tabs, counted, month, strips};
use crate::components::trace::{Axes, Cloud, Point, cloud};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, read_field};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::findings::{HeatFindings, Selection, heat};
use ebrel_app::record::Flagged;
use ebrel_core::findings::heat::{Diffusivity, Method};
use ebrel_core::roles::Role;
use ebrel_core::units::UnixSeconds;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/findings/heat", Least::Member(Role::Guest), show);
}

/// A depth with its waves.
struct WaveRow {
    depth: String,
    amplitude: String,
    peak: String,
    yearly: String,
    warmest: String,
    frost: String,
}

/// A month of a pair of depths.
struct KappaRow {
    month: String,
    link: String,
    between: String,
    kappa: Vec<String>,
    preferred: String,
    sentence: String,
    agrees: bool,
}

/// A month of temperatures: lowest, mean, highest at each depth.
struct MonthRow {
    name: String,
    depths: Vec<String>,
}

#[derive(Template)]
#[template(path = "rooms/findings/heat.html")]
struct HeatPage {
    shell: Shell,
    tabs: Tabs,
    station: String,
    answer: String,
    more: Vec<String>,
    missing: Vec<String>,
    waves: Vec<WaveRow>,
    kappas: Vec<KappaRow>,
    methods: Vec<&'static str>,
    against_water: Option<Cloud>,
    depths: Vec<String>,
    months: Vec<MonthRow>,
    how: Vec<String>,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let place = state.thinning.take().await?;
    let of = Flagged::load(&state.store, *id).await?;
    let (study, station) = (of.record.study.clone(), of.record.station.clone());
    let tabs = Tabs::of(&of.record, "Heat");
    let shell = Shell::within(&state, &actor, "Heat in the soil", Room::Findings, &study, Some(&station)).await?;
    let found = place.run(move || heat(&of, &Selection::default())).await?;
    let mut made = HeatPage {
        shell,
        tabs,
        station: station.name,
        answer: String::new(),
        more: Vec::new(),
        missing: Vec::new(),
        waves: Vec::new(),
        kappas: Vec::new(),
        methods: Method::ALL.map(Method::name).into(),
        against_water: None,
        depths: Vec::new(),
        months: Vec::new(),
        how: Vec::new(),
    };
    match found {
        None => {
            made.answer = "No thermometer in the soil has readings here.".into();
            made.missing = vec!["Place one in the Field and import its file, or bring its package in.".into()];
        }
        Some(found) => made.fill(&found, *id),
    }
    page(&made)
}

/// m²/s as 10⁻⁷ m²/s, which is what soils have.
fn tenth_micro(kappa: f64) -> String {
    fixed(kappa * 1e7, 2)
}

impl HeatPage {
    fn fill(&mut self, h: &HeatFindings, station: i64) {
        let cm = |d: f64| fixed(d, usize::from(d.fract() != 0.0));
        self.depths = h.depths.iter().map(|d| format!("{}\u{a0}cm", cm(*d))).collect();
        self.answer = answer(h);
        if let Some(fall) = h.yearly_fall {
            self.more.push(format!(
                "The yearly wave falls to a third over {}\u{a0}m, which goes with {}·10⁻⁷\u{a0}m²/s.",
                fixed(fall.damping_m, 2),
                tenth_micro(fall.kappa)
            ));
        }
        if h.depths.len() == 1 {
            self.missing.push("Only one depth has a thermometer: diffusivity wants two.".into());
        }
        if h.yearly.is_empty() {
            self.missing.push("The record is shorter than a year: of the yearly wave nothing is said.".into());
        }
        self.waves = h.depths.iter().enumerate().map(|(i, d)| wave_row(h, i, *d, &cm)).collect();
        let mut newest: Vec<&Diffusivity> = h.diffusivities.iter().collect();
        newest.sort_by(|a, b| b.month.cmp(&a.month).then_with(|| a.between_cm.0.total_cmp(&b.between_cm.0)));
        self.kappas = newest.into_iter().map(|d| kappa_row(d, station)).collect();
        self.against_water = against_water(h);
        let mut keys: Vec<(i32, u8)> = h.months.iter().flatten().map(|m| m.month).collect();
        keys.sort_unstable();
        keys.dedup();
        let row = |key: &(i32, u8)| MonthRow {
            name: month(*key),
            depths: h
                .months
                .iter()
                .map(|of| {
                    let known = of.iter().find(|m| m.month == *key);
                    known.map_or_else(
                        || "–".into(),
                        |m| format!("{} / {} / {}", fixed(m.mean.0, 1), fixed(m.mean.1, 1), fixed(m.mean.2, 1)),
                    )
                })
                .collect(),
        };
        self.months = keys.iter().rev().map(row).collect();
        self.how = vec![
            format!("It rests on {}.", counted(h.counts)),
            "The daily wave of a day is the harmonic of 24 h that fits the 48 hours around its noon best, beside a level and a trend; its size is the \
             median over the days. Damping depth: a line through the logarithm of sizes against depth."
                .into(),
            "Diffusivity in 10⁻⁷ m²/s (Horton, Wierenga & Nielsen 1983). Amplitude, phase, arctangent and logarithm work on the month's mean day; \
             the harmonic on each day's wave, where size and lag weigh alike, and is preferred. Methods agree if they differ by 25 % at most. ± is \
             the standard error by leaving out each day."
                .into(),
            "All of them take the soil between two depths as uniform and still: moving water, ice and a change of texture between the probes bend \
             them."
                .into(),
        ];
    }
}

fn answer(h: &HeatFindings) -> String {
    let preferred: Vec<f64> = h.diffusivities.iter().filter_map(Diffusivity::preferred).collect();
    let agree = h.diffusivities.iter().filter(|d| d.agrees()).count();
    let Some(fall) = h.daily_fall else {
        return match h.daily.first() {
            Some(w) => {
                format!("At {}\u{a0}cm the day swings by ±{}\u{a0}K.", fixed(w.depth_cm, 0), fixed(w.amplitude, 1))
            }
            None => "The record is too short for a daily wave.".into(),
        };
    };
    let mut words = format!(
        "The day's wave falls to a third over {}\u{a0}cm of soil, from ±{}\u{a0}K at the surface.",
        fixed(fall.damping_m * 100.0, 1),
        fixed(fall.surface, 1)
    );
    let mut sorted = preferred;
    if let Some(middle) = ebrel_core::statistics::median(&mut sorted) {
        words.push_str(&format!(
            " Thermal diffusivity: {}·10⁻⁷\u{a0}m²/s (median of {} months and pairs; the five methods agree in {agree}).",
            tenth_micro(middle),
            sorted.len()
        ));
    }
    words
}

fn wave_row(h: &HeatFindings, i: usize, depth: f64, cm: &dyn Fn(f64) -> String) -> WaveRow {
    let daily = h.daily.iter().find(|w| (w.depth_cm - depth).abs() < 0.1);
    let yearly = h.yearly.iter().find(|w| (w.depth_cm - depth).abs() < 0.1);
    let none = || "–".to_owned();
    let clock = |hours: f64| format!("{:02}:{:02}", hours as u32 % 24, (hours.fract() * 60.0) as u32);
    // Days of the year of 1970, which began with the first of January.
    let warmest = |days: f64| {
        ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
            [((days / 30.44) as usize).min(11)]
        .to_owned()
    };
    let (frost, known) = h.frost[i];
    WaveRow {
        depth: cm(depth),
        amplitude: daily.map_or_else(none, |w| fixed(w.amplitude, 2)),
        peak: daily.filter(|w| w.amplitude >= 0.1).map_or_else(none, |w| clock(w.peak_h)),
        yearly: yearly.map_or_else(none, |w| format!("{} ± {}", fixed(w.mean, 1), fixed(w.amplitude, 1))),
        warmest: yearly.map_or_else(none, |w| warmest(w.peak_day)),
        frost: format!("{frost} of {known}"),
    }
}

fn kappa_row(d: &Diffusivity, station: i64) -> KappaRow {
    let error = d.standard_error.map_or_else(String::new, |e| format!(" ± {}", tenth_micro(e)));
    let from = month_start(d.month);
    KappaRow {
        month: month(d.month),
        link: strips(station, from, UnixSeconds(from.0 + 30 * 86_400), "temperature"),
        between: format!("{}–{}\u{a0}cm", d.between_cm.0, d.between_cm.1),
        kappa: d.kappa.iter().map(|k| k.map_or_else(|| "–".into(), tenth_micro)).collect(),
        preferred: d.preferred().map_or_else(|| "–".into(), |k| format!("{}{error}", tenth_micro(k))),
        sentence: d.sentence(),
        agrees: d.agrees(),
    }
}

/// First second of a month, UTC.
fn month_start((year, month): (i32, u8)) -> UnixSeconds {
    read_field(&format!("{year:04}-{month:02}-01"), 0).unwrap_or(UnixSeconds(0))
}

fn against_water(h: &HeatFindings) -> Option<Cloud> {
    let pairs = h.diffusivities.iter().zip(&h.contents);
    let points: Vec<Point> =
        pairs.filter_map(|(d, theta)| Some(Point::plain((*theta)?, d.preferred()? * 1e7))).collect();
    if points.len() < 4 {
        return None;
    }
    let axes = Axes {
        x: "water content, m³/m³".into(),
        y: "diffusivity, 10⁻⁷ m²/s".into(),
        down: false,
        line: None,
        words: "Thermal diffusivity of each month and pair of depths against its mean water content".into(),
    };
    cloud(points, axes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn months_begin_at_their_first() {
        assert_eq!((month_start((1970, 1)).0, month_start((2024, 3)).0), (0, 1_709_251_200));
        assert_eq!(month_start((99_999, 3)).0, 0);
    }
}
