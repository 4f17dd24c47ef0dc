//! Findings on the command line: the answer in words, or all of it as JSON.

use crate::shell::figures::moment;
use crate::terminal::open;
use anyhow::{anyhow, bail};
use clap::{Args, Subcommand};
use ebrel_app::findings::{
    Abscissa, Question, Selection, WaterAsked, beside, heat, planned_sentinel, responses, water,
};
use ebrel_app::record::Flagged;
use ebrel_core::findings::heat::Method;
use ebrel_core::findings::{Counts, Interval};
use ebrel_core::units::Quantity;
use ebrel_core::water::VanGenuchten;
use ebrel_store::Store;
use serde_json::{Value, json};
use std::io::Write as _;
use std::path::PathBuf;

#[derive(Args)]
pub struct FindArgs {
    #[command(subcommand)]
    what: Find,
    /// Where the data lie.
    #[arg(long, global = true, default_value = "ebrel-data/demo")]
    data: PathBuf,
    /// Say all of it as JSON.
    #[arg(long, global = true)]
    json: bool,
}

#[derive(Subcommand)]
enum Find {
    /// Water stored in a station's profile, with its uncertainty, and what each fall of water became.
    Storage {
        /// Code or name of the station.
        #[arg(long)]
        station: String,
        /// Down to here, cm; default: the deepest probe.
        #[arg(long, allow_negative_numbers = true)]
        bottom: Option<f64>,
        /// Depth of the sentinel, cm; default: as the plan has it.
        #[arg(long, allow_negative_numbers = true)]
        sentinel: Option<f64>,
    },
    /// Thermal diffusivity by month and pair of depths, by five methods.
    Diffusivity {
        /// Code or name of the station.
        #[arg(long)]
        station: String,
    },
    /// One station less another, by season, weather and hour.
    Treatments {
        /// Code or name of the first station.
        #[arg(long)]
        first: String,
        /// Of the one that it is held against.
        #[arg(long)]
        second: String,
        /// What is compared, by its code.
        #[arg(long, default_value = "soil_temperature")]
        quantity: String,
        /// At which depth, cm; leave it out for the air.
        #[arg(long, allow_negative_numbers = true)]
        depth: Option<f64>,
    },
    /// Where a response breaks against water content or tension.
    Thresholds {
        /// Name of the study.
        #[arg(long)]
        study: String,
        /// Name of the response; default: the newest.
        #[arg(long)]
        response: Option<String>,
        /// The value itself, and not its change a day.
        #[arg(long)]
        value: bool,
        /// Against tension through the retention curve of this texture class, and not against content.
        #[arg(long)]
        class: Option<String>,
    },
}

/// Finds it, and says it.
pub async fn find(args: FindArgs) -> anyhow::Result<()> {
    let store = open(&args.data).await?.store;
    let (words, all) = match args.what {
        Find::Storage { station, bottom, sentinel } => storage(&store, &station, bottom, sentinel).await?,
        Find::Diffusivity { station } => diffusivity(&store, &station).await?,
        Find::Treatments { first, second, quantity, depth } => {
            treatments(&store, (&first, &second), &quantity, depth).await?
        }
        Find::Thresholds { study, response, value, class } => {
            thresholds(&store, &study, response.as_deref(), !value, class.as_deref()).await?
        }
    };
    let said = if args.json { serde_json::to_string_pretty(&all)? } else { words };
    Ok(writeln!(std::io::stdout(), "{said}")?)
}

async fn called(store: &Store, name: &str) -> anyhow::Result<Flagged> {
    let station = store.station_called(name).await.map_err(|_| anyhow!("there is no station “{name}” there"))?;
    Ok(Flagged::load(store, station.id).await?)
}

fn counted(counts: Counts) -> Value {
    json!({"used": counts.used, "left_out": counts.left_out, "without_value": counts.without_value})
}

async fn storage(
    store: &Store,
    name: &str,
    bottom_cm: Option<f64>,
    sentinel: Option<f64>,
) -> anyhow::Result<(String, Value)> {
    let of = called(store, name).await?;
    let (record, neighbours) = (&of.record, of.neighbours(store).await?);
    let sentinel_cm = sentinel.or(planned_sentinel(store, record.station.id).await?);
    let asked = WaterAsked { bottom_cm, sentinel_cm, ..WaterAsked::default() };
    let Some(found) = water(&of, &neighbours, &asked) else {
        bail!("no probe at {} tells water content: adopt a calibration", record.station.name);
    };
    let w = found?;
    let Some((at, last)) = w.last else {
        bail!("no moment of {} has a value at every depth", record.station.name);
    };
    let words = format!(
        "Down to {} cm {} held {:.1} ± {:.1} mm on {}; {} of {} times have a gap at some depth.",
        w.bottom_cm,
        record.station.name,
        last.mm,
        last.half_width(),
        moment(at, record.study.utc_offset_minutes),
        w.steps.1,
        w.steps.0
    );
    let series = w.series.iter().map(|(t, s)| json!({"t": t.0, "mm": s.mm, "half_width": s.half_width()}));
    let falls = w.wettings.iter().map(|f| {
        let arrivals = f.arrivals.iter().map(|a| a.map(|a| json!({"t": a.time.0, "rise": a.rise})));
        json!({
            "start": f.fall.start.0,
            "end": f.fall.end.0,
            "mm": f.fall.mm,
            "stored_mm": f.stored.map(|s| s.mm),
            "stored_half_width": f.stored.map(|s| s.half_width),
            "passed_at_least_mm": f.passed_mm,
            "unexplained_mm": f.unexplained_mm,
            "arrivals": arrivals.collect::<Vec<_>>(),
            "speed_cm_h": f.speed_cm_h,
            "out_of_order": f.out_of_order,
        })
    });
    let all = json!({
        "station": record.station.code,
        "depths_cm": w.depths,
        "bottom_cm": w.bottom_cm,
        "sentinel_cm": w.sentinel.map(|s| w.depths[s]),
        "times": w.steps.0,
        "times_with_gap": w.steps.1,
        "assumes_factory_curve": w.assumes_factory,
        "readings": counted(w.counts),
        "series": series.collect::<Vec<_>>(),
        "falls": falls.collect::<Vec<_>>(),
        "field_capacity": w.capacity.iter().map(|c| json!({
            "depth_cm": c.depth_cm,
            "seen": c.seen.as_ref().map(|s| s.median),
            "spread": c.seen.as_ref().map(|s| s.spread),
            "rains": c.seen.as_ref().map_or(0, |s| s.rains.len()),
            "by_texture": c.by_texture,
        })).collect::<Vec<_>>(),
    });
    Ok((words, all))
}

async fn diffusivity(store: &Store, name: &str) -> anyhow::Result<(String, Value)> {
    let of = called(store, name).await?;
    let record = &of.record;
    let Some(h) = heat(&of, &Selection::default()) else {
        bail!("no thermometer in the soil of {} has readings", record.station.name);
    };
    let mut known: Vec<f64> = h.diffusivities.iter().filter_map(|d| d.preferred()).collect();
    let words = match ebrel_core::statistics::median(&mut known) {
        Some(middle) => format!(
            "The soil of {} has a thermal diffusivity of {:.2}e-7 m²/s (median of {} months and pairs of depths).",
            record.station.name,
            middle * 1e7,
            known.len()
        ),
        None => {
            format!("No month of {} tells a diffusivity: two depths with a daily wave are wanted.", record.station.name)
        }
    };
    let month = |d: &ebrel_core::findings::heat::Diffusivity| {
        let by: serde_json::Map<String, Value> =
            Method::ALL.iter().map(|m| (m.name().to_owned(), json!(d.by(*m)))).collect();
        json!({
            "month": format!("{:04}-{:02}", d.month.0, d.month.1),
            "between_cm": d.between_cm,
            "days": d.days,
            "m2_s": by,
            "preferred": d.preferred(),
            "standard_error": d.standard_error,
            "agree": d.agrees(),
            "says": d.sentence(),
        })
    };
    let all = json!({
        "station": record.station.code,
        "readings": counted(h.counts),
        "damping_depth_m": h.daily_fall.map(|f| f.damping_m),
        "months": h.diffusivities.iter().map(month).collect::<Vec<_>>(),
    });
    Ok((words, all))
}

fn interval(i: Option<Interval>) -> Value {
    i.map_or(Value::Null, |i| {
        json!({"mean": i.estimate, "low": i.low, "high": i.high, "days": i.n, "effective_days": i.effective, "block": i.block})
    })
}

async fn treatments(
    store: &Store,
    (first, second): (&str, &str),
    quantity: &str,
    depth_cm: Option<f64>,
) -> anyhow::Result<(String, Value)> {
    let (a, b) = (called(store, first).await?, called(store, second).await?);
    let neighbours = a.neighbours(store).await?;
    let quantity = Quantity::from_code(quantity).ok_or_else(|| anyhow!("there is no quantity “{quantity}”"))?;
    let question = Question { quantity, depth_cm, date: None, selection: Selection::default() };
    let found = beside(&a, &b, &neighbours, &question)?;
    let all_days = found.comparison.group(ebrel_core::findings::Part::All);
    let words = all_days.and_then(|g| g.whole).map_or_else(
        || "The two share too few days for an interval.".to_owned(),
        |i| {
            format!(
                "{} less {}: {:+.3} {} ({:+.3} to {:+.3} at 95 %; {} days that count for {:.0}).",
                a.record.station.name,
                b.record.station.name,
                i.estimate,
                quantity.unit(),
                i.low,
                i.high,
                i.n,
                i.effective
            )
        },
    );
    let groups = found.comparison.groups.iter().map(|g| {
        json!({
            "part": format!("{:?}", g.part),
            "days": g.days,
            "whole": interval(g.whole),
            "by_day": interval(g.by_day),
            "by_night": interval(g.by_night),
        })
    });
    let all = json!({
        "first": a.record.station.code,
        "second": b.record.station.code,
        "quantity": quantity.code(),
        "depth_cm": depth_cm,
        "paired": found.steps.0,
        "unpaired": found.steps.1,
        "readings": [counted(found.counts.0), counted(found.counts.1)],
        "groups": groups.collect::<Vec<_>>(),
        "hours": found.comparison.hours.iter().map(|h| interval(*h)).collect::<Vec<_>>(),
    });
    Ok((words, all))
}

async fn thresholds(
    store: &Store,
    study: &str,
    response: Option<&str>,
    growth: bool,
    class: Option<&str>,
) -> anyhow::Result<(String, Value)> {
    let known = store.studies().await?;
    let study = known.iter().find(|s| s.name == study).ok_or_else(|| anyhow!("there is no study “{study}” there"))?;
    let tables = store.responses(study.id).await?;
    let table = tables.iter().find(|t| response.is_none_or(|name| t.name == name));
    let table = table.ok_or_else(|| anyhow!("the study has no such response: paste one under Findings, Thresholds"))?;
    let stations = Flagged::of_study(store, study.id).await?;
    let abscissa = match class {
        None => Abscissa::Content,
        Some(class) => Abscissa::ThroughCurve(
            VanGenuchten::of_class(class).ok_or_else(|| anyhow!("there is no texture class “{class}”"))?,
        ),
    };
    let found = responses(&stations, table, growth, abscissa)?;
    let t = &found.threshold;
    let (x, unit) = if class.is_some() { ("log10 of tension in kPa", "") } else { ("water content", " m³/m³") };
    let words = if t.breaks {
        format!(
            "{} breaks at a {x} of {:.3}{unit} ({:.3} to {:.3} by profile likelihood, {:.3} to {:.3} by resampling; {} points).",
            table.name, t.two.at, t.by_profile.0, t.by_profile.1, t.by_bootstrap.0, t.by_bootstrap.1, t.n
        )
    } else {
        format!("No threshold can be told in {}: a straight line describes its {} points as well.", table.name, t.n)
    };
    let all = json!({
        "study": study.name,
        "response": table.name,
        "abscissa": x,
        "breaks": t.breaks,
        "at": t.two.at,
        "by_profile": t.by_profile,
        "by_bootstrap": t.by_bootstrap,
        "slopes": t.two.slopes,
        "aicc": {"line": t.line.aicc, "two_segments": t.two.aicc},
        "rows": found.rows,
        "points": t.n,
        "groups": t.groups,
        "first_rows": found.firsts,
        "unmatched_rows": found.unmatched,
        "rows_without_reading": found.without_reading,
        "rows_beyond_curve": found.beyond_curve,
        "readings": counted(found.counts),
    });
    Ok((words, all))
}
