//! What the page of water says.

use super::frame::{counted, date, sparse, strips};
use super::water::{CapacityRow, DryRow, FallRow};
use crate::shell::figures::{fixed, moment, signed, when};
use ebrel_app::findings::{CAPACITY_MM, WaterAsked, WaterFindings};
use ebrel_core::findings::{FACTORY_HALF_WIDTH, Inflow, Wetting};

pub(super) fn stored_words(w: &WaterFindings, offset: i64) -> String {
    let Some((at, stored)) = w.last else {
        return format!("Down to {}\u{a0}cm nothing can be summed: no moment has a value at every depth.", w.bottom_cm);
    };
    let half = stored.half_width();
    format!(
        "Down to {}\u{a0}cm the soil held {} ± {}\u{a0}mm of water on {}.",
        fixed(w.bottom_cm, 0),
        fixed(stored.mm, 0),
        fixed(half, usize::from(half < 10.0)),
        moment(at, offset),
    )
}

pub(super) fn more_words(w: &WaterFindings, offset: i64) -> Vec<String> {
    let mut all = Vec::new();
    if let Some(((low_at, low), (high_at, high))) = w.extremes {
        all.push(format!(
            "Driest {}\u{a0}mm ({}), wettest {}\u{a0}mm ({}).",
            fixed(low, 0),
            date(low_at, offset),
            fixed(high, 0),
            date(high_at, offset)
        ));
    }
    let passed: Vec<f64> = w.wettings.iter().filter_map(|f| came_to_sentinel(w, f)).collect();
    if let Some(depth) = w.sentinel.map(|s| w.depths[s]) {
        all.push(match passed.len() {
            0 => format!("No fall of water reached the sentinel at {depth}\u{a0}cm."),
            n => format!(
                "{n} of {} falls of water reached the sentinel at {depth}\u{a0}cm: at least {}\u{a0}mm passed the roots.",
                w.wettings.len(),
                fixed(passed.iter().sum(), 0)
            ),
        });
    }
    all
}

/// What passed the sentinel, mm, if the front came there.
pub(super) fn came_to_sentinel(w: &WaterFindings, f: &Wetting) -> Option<f64> {
    w.sentinel.filter(|s| f.arrivals[*s].is_some()).and(f.passed_mm)
}

pub(super) fn missing(w: &WaterFindings, asked: &WaterAsked, planned: Option<f64>) -> Vec<String> {
    let mut all = Vec::new();
    if w.rain.is_none() {
        all.push(
            "No gauge tells of rain here or within 5 km: falls, drying and field capacity need one. Add a gauge, or paste its readings under \
             Record, By hand."
                .into(),
        );
    }
    if w.depths.len() == 1 {
        all.push(format!(
            "Only one depth tells water content ({}\u{a0}cm): the sum takes the whole profile as that depth.",
            w.depths[0]
        ));
    }
    if w.sentinel.is_none() && w.depths.len() > 1 {
        all.push(match (planned, asked.sentinel_cm) {
            (_, Some(cm)) => format!("No probe tells water content at {cm}\u{a0}cm: choose another sentinel."),
            _ => "No probe is set as the sentinel below the roots: choose one here, or in the plan. Until then nothing is said of what passed."
                .into(),
        });
    }
    if w.uncalibrated > 0 {
        let probes = if w.uncalibrated == 1 { "1 probe".to_owned() } else { format!("{} probes", w.uncalibrated) };
        let are = if w.uncalibrated == 1 { "is" } else { "are" };
        all.push(format!("{probes} without a calibration {are} not in it: adopt one at the Bench."));
    }
    if w.assumes_factory {
        all.push(format!(
            "Some probes came with their maker's curve or without an uncertainty: ±{FACTORY_HALF_WIDTH}\u{a0}m³/m³ is assumed for each."
        ));
    }
    if !w.twins.is_empty() {
        let depths: Vec<String> = w.twins.iter().map(|d| format!("{d}\u{a0}cm")).collect();
        all.push(format!(
            "Twins at {} count with their mean; where one is missing the other stands alone.",
            depths.join(", ")
        ));
    }
    all
}

pub(super) fn change_words(w: &WaterFindings, offset: i64) -> String {
    match &w.change {
        None => String::new(),
        Some((a, b, Some(c))) => format!(
            "From {} to {} the profile changed by {} ± {}\u{a0}mm.",
            moment(*a, offset),
            moment(*b, offset),
            signed(c.mm, 1),
            fixed(c.half_width, 1)
        ),
        Some((a, b, None)) => format!(
            "Of the change from {} to {} nothing can be said: one of both lies outside the record, in a gap of some depth, or when probes lay at other depths.",
            moment(*a, offset),
            moment(*b, offset)
        ),
    }
}

pub(super) fn fall_row(f: &Wetting, station: i64, offset: i64) -> FallRow {
    let day = ebrel_core::units::SpanSeconds(86_400);
    let or_gap = |text: Option<String>| text.unwrap_or_else(|| "gap".into());
    FallRow {
        link: strips(station, f.fall.start - day, f.fall.end + day + day, "moisture"),
        when: moment(f.fall.start, offset),
        kind: if f.fall.kind == Inflow::Rain { "rain" } else { "given" },
        mm: fixed(f.fall.mm, 1),
        stored: or_gap(f.stored.map(|s| format!("{} ± {}", signed(s.mm, 1), fixed(s.half_width, 1)))),
        passed: f.passed_mm.map_or_else(|| "–".into(), |mm| fixed(mm, 1)),
        unexplained: or_gap(f.unexplained_mm.map(|mm| signed(mm, 1))),
        share: f.infiltrated().map_or_else(|| "–".into(), |s| format!("{}\u{a0}%", fixed(100.0 * s, 0))),
        arrivals: f
            .arrivals
            .iter()
            .map(|a| {
                a.map_or_else(
                    || "–".into(),
                    |a| format!("{}\u{a0}h", fixed((a.time - f.fall.start).0 as f64 / 3600.0, 1)),
                )
            })
            .collect(),
        speed: f.speed_cm_h.map_or_else(|| "–".into(), |s| fixed(s, 1)),
        out_of_order: f.out_of_order,
    }
}

pub(super) fn drying(w: &WaterFindings, cm: &dyn Fn(f64) -> String) -> Vec<DryRow> {
    let row = |r: &ebrel_core::findings::SeasonRates| {
        // m³/m³ over the layer that the probe stands for, as mm.
        let mm = w.weights[r.level];
        DryRow {
            depth: cm(w.depths[r.level]),
            season: r.season.months(),
            whole: signed(r.rates.whole * mm, 2),
            half: r.half_width.map_or_else(|| "–".into(), |h| fixed(h * mm, 2)),
            by_day: signed(r.rates.by_day * mm, 2),
            by_night: signed(r.rates.by_night * mm, 2),
            spells: r.spells,
            days: r.rates.days,
        }
    };
    w.rates.iter().map(row).collect()
}

pub(super) fn capacity(w: &WaterFindings, cm: &dyn Fn(f64) -> String) -> Vec<CapacityRow> {
    let row = |c: &ebrel_app::findings::LevelCapacity| CapacityRow {
        depth: cm(c.depth_cm),
        seen: c.seen.as_ref().map_or_else(|| "–".into(), |s| fixed(s.median, 3)),
        spread: c.seen.as_ref().map_or_else(
            || "–".into(),
            |s| {
                let (low, high) = s.interval();
                format!("{}–{}", fixed(low, 3), fixed(high, 3))
            },
        ),
        taken: c.seen.as_ref().map_or_else(|| "–".into(), |s| fixed(s.taken, 3)),
        rains: c.seen.as_ref().map_or_else(|| "none".into(), |s| s.rains.len().to_string()),
        texture: c.by_texture.map_or_else(|| "texture unknown".into(), |t| fixed(t, 3)),
    };
    w.capacity.iter().map(row).collect()
}

/// How often, and at least how much, passed the sentinel: by year.
pub(super) fn drainage(w: &WaterFindings, offset: i64) -> Vec<(String, usize, String)> {
    let mut years: Vec<(String, usize, f64)> = Vec::new();
    for f in &w.wettings {
        let Some(mm) = came_to_sentinel(w, f) else { continue };
        let year = when(f.fall.start, offset, "%Y");
        match years.last_mut().filter(|y| y.0 == year) {
            Some(known) => (known.1, known.2) = (known.1 + 1, known.2 + mm),
            None => years.push((year, 1, mm)),
        }
    }
    years.into_iter().map(|(year, n, mm)| (year, n, fixed(mm, 0))).collect()
}

pub(super) fn how(w: &WaterFindings) -> Vec<String> {
    let mut all = vec![
        format!("It rests on {}.", counted(w.counts)),
        "Content is taken as that of the first probe above it, as linear in depth between probes, and as that of the last probe below it \
         (trapezoidal rule)."
            .to_owned(),
    ];
    all.extend(sparse(w.between_readings));
    let (steps, gaps) = w.steps;
    if gaps > 0 {
        let worst = w.lacking.iter().enumerate().max_by_key(|l| l.1);
        let depth =
            worst.map_or_else(String::new, |(i, n)| format!(" (most often {}\u{a0}cm: {n} of them)", w.depths[i]));
        all.push(format!(
            "At {gaps} of {steps} times some depth has a gap{depth}: nothing is summed there, and no gap is bridged. Leave that depth out to \
             sum without it."
        ));
    }
    all.push(
        "The ± holds at 95 %. The error of a calibration and of a probe's seat is the same for all of its readings and falls out of a change; \
         probes of one calibration err together. Between two probes the content is held to lie between both."
            .to_owned(),
    );
    all.push(format!(
        "A fall ends with six hours without rain and works on for 36 h, or until the next. Stored: the gain six hours after its end, when the front has \
         spread, above the middle between the sentinel and the probe over it. Passed: at least what the soil from there to the sentinel gained. Not explained: the rest: leaves, \
         runoff, evaporation, and what went on below. A front has come when a quarter of the rise is reached. Field capacity as seen: mean from \
         24 to 48\u{a0}h after falls of at least {CAPACITY_MM}\u{a0}mm that filled the depth, so that the next one answered, \
         and after which it stayed dry, within their spread and the calibration's ±, and above that by what roots and sun took \
         meanwhile: what a whole dry day lost by day beyond the pace of its night, for a day and a half. By texture: Saxton & Rawls 2006."
    ));
    let sun = if w.knows_sun { "sunrise and sunset of the place" } else { "6 and 18 h, since the place is not known" };
    all.push(format!(
        "Drying is reckoned from a day after each rain, day from night by {sun}. What goes by night is drainage; what goes by day beyond that, \
         uptake, evaporation, and the probe's own answer to warmth."
    ));
    if let Some(Some(of)) = &w.rain {
        all.push(format!("Rain is that of the gauge of {of}."));
    }
    all
}
