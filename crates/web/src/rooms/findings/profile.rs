//! The profile through time: depth by time as a picture, with rain, fronts and frost, and a table for those who do not see it.

use super::frame::{Loaded, Tabs, counted, date, loaded, month, sparse};
use crate::components::section::{Placed, Section};
use crate::components::strips::Asked;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::fixed;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::findings::{Ground, Selection, What, profile_data};
use ebrel_app::record::{Flagged, StationRecord};
use ebrel_core::findings::{Profile, climate::extremes, year_month};
use ebrel_core::roles::Role;
use ebrel_core::units::UnixSeconds;
use serde::Deserialize;
use std::collections::BTreeMap;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/findings", Least::Member(Role::Guest), show);
    routes.get("/stations/{id}/findings/profile.json", Least::Member(Role::Guest), data);
}

/// A month in the table: its name, and the mean at each depth.
struct MonthRow {
    name: String,
    means: Vec<String>,
}

#[derive(Template)]
#[template(path = "rooms/findings/profile.html")]
struct ProfilePage {
    shell: Shell,
    tabs: Tabs,
    station: String,
    id: i64,
    answer: String,
    note: String,
    missing: Vec<String>,
    choices: Vec<(&'static str, bool)>,
    what: &'static str,
    depths: Vec<String>,
    months: Vec<MonthRow>,
    unit: String,
    extent: (i64, i64),
    offset: i64,
    section: Section,
}

#[derive(Deserialize)]
struct Shown {
    what: Option<String>,
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    query: web::Query<Shown>,
) -> Result<HttpResponse, Problem> {
    let place = state.thinning.take().await?;
    let of = Flagged::load(&state.store, *id).await?;
    let what = What::from_word(query.what.as_deref().unwrap_or_default());
    let (study, station) = (of.record.study.clone(), of.record.station.clone());
    let tabs = Tabs::of(&of.record, "Profile");
    let shell = Shell::within(&state, &actor, "Profile through time", Room::Findings, &study, Some(&station)).await?;
    let made = place.run(move || make(shell, tabs, what, &of)).await?;
    page(&made)
}

fn make(shell: Shell, tabs: Tabs, what: What, of: &Flagged) -> ProfilePage {
    let record = &of.record;
    let (id, offset) = (record.station.id, record.study.utc_offset_minutes);
    let mut made = ProfilePage {
        shell,
        tabs,
        station: record.station.name.clone(),
        id,
        answer: String::new(),
        note: String::new(),
        missing: Vec::new(),
        choices: What::ALL.map(|w| (w.word(), w == what)).into(),
        what: what.word(),
        depths: Vec::new(),
        months: Vec::new(),
        unit: String::new(),
        extent: (0, 0),
        offset,
        section: Section::draw(record.soil.horizons(), &[]),
    };
    let ground = Ground::new(of, &Selection::default());
    let profile = ground.as_ref().map(|g| g.profile(what.quantity())).filter(|p| !p.levels.is_empty());
    let Some(profile) = profile else {
        made.answer = format!("Nothing here tells {} yet.", words(what));
        made.missing.push(match what {
            What::Moisture | What::Saturation => {
                "Adopt a calibration for the probes at the Bench; until then they tell raw output.".into()
            }
            What::Tension => "No probe of tension has readings here.".into(),
            What::Temperature => "No thermometer in the soil has readings here.".into(),
        });
        return made;
    };
    let grid = profile.grid;
    made.extent = (grid.time(0).0, grid.time(grid.len() - 1).0 + 1);
    made.depths = profile.levels.iter().map(|l| format!("{}\u{a0}cm", l.depth_cm)).collect();
    made.unit = if what == What::Saturation {
        "% of the pores".into()
    } else {
        ebrel_core::units::unit_for_people(what.quantity().unit())
    };
    made.answer = answer(&profile, what, record, offset);
    made.note = format!(
        "{}. Between two probes it is drawn as linear in depth; above the first, below the last, and in gaps nothing is drawn.",
        counted(profile.counts())
    );
    if let Some(sparse) = ground.as_ref().and_then(|g| sparse(g.between_readings())) {
        made.note = format!("{} {sparse}", made.note);
    }
    if what == What::Saturation && profile.levels.iter().any(|l| l.pores.is_none()) {
        made.missing.push(
            "Depths without a known pore space are left out: give the bulk density of their horizon in the plan."
                .into(),
        );
    }
    if profile.levels.len() == 1 {
        made.missing
            .push("Only one depth is known: there is nothing to draw between probes. The table has its months.".into());
    }
    let strip = |cm: f64| ebrel_app::window::strip_id(id, what.quantity(), Some(cm));
    let placed: Vec<Placed> = profile
        .levels
        .iter()
        .map(|l| Placed { depth_cm: l.depth_cm, strip: strip(l.depth_cm), pores: l.pores })
        .collect();
    made.section = Section::draw(record.soil.horizons(), &placed);
    made.months = months(&profile, what, offset);
    made
}

const fn words(what: What) -> &'static str {
    match what {
        What::Moisture => "water content",
        What::Saturation => "saturation",
        What::Tension => "water tension",
        What::Temperature => "soil temperature",
    }
}

/// The wettest and the driest (warmest and coldest, ...) depth over the newest thirty days.
fn answer(profile: &Profile<'_>, what: What, record: &StationRecord, offset: i64) -> String {
    let grid = &profile.grid;
    let last = grid.time(grid.len() - 1);
    let recent = grid.between(UnixSeconds(last.0 - 30 * 86_400), UnixSeconds(i64::MAX));
    let means: Vec<(f64, f64)> = profile
        .levels
        .iter()
        .filter_map(|l| {
            let known: Vec<f64> = l.values[recent.clone()].iter().copied().filter(|v| v.is_finite()).collect();
            let scale = if what == What::Saturation { 100.0 / l.pores? } else { 1.0 };
            (!known.is_empty()).then(|| (l.depth_cm, scale * known.iter().sum::<f64>() / known.len() as f64))
        })
        .collect();
    let by = |a: &&(f64, f64), b: &&(f64, f64)| a.1.total_cmp(&b.1);
    let Some((low, high)) = means.iter().min_by(by).zip(means.iter().max_by(by)) else {
        return format!(
            "In the thirty days up to {} nothing is believed of {}.",
            date(last, offset),
            record.station.name
        );
    };
    let (unit, decimals, [least, most]) = match what {
        What::Moisture => ("m³/m³", 3, ["driest", "wettest"]),
        What::Saturation => ("% of the pores", 0, ["least filled", "most filled"]),
        What::Tension => ("kPa", 0, ["wettest", "driest"]),
        What::Temperature => ("°C", 1, ["coldest", "warmest"]),
    };
    let said = |d: &(f64, f64), word| format!("{word} at {}\u{a0}cm ({}\u{a0}{unit})", d.0, fixed(d.1, decimals));
    if means.len() == 1 {
        return format!("In the thirty days up to {}: {}.", date(last, offset), said(low, "a mean"));
    }
    format!("In the thirty days up to {} it was {} and {}.", date(last, offset), said(high, most), said(low, least))
}

fn months(profile: &Profile<'_>, what: What, offset: i64) -> Vec<MonthRow> {
    let of_level = |level: &ebrel_core::findings::Level<'_>| {
        let scale = if what == What::Saturation { level.pores.map_or(f64::NAN, |p| 100.0 / p) } else { 1.0 };
        let mut all: BTreeMap<(i32, u8), (f64, usize)> = BTreeMap::new();
        for d in extremes(&profile.grid, &level.values, offset) {
            let known = all.entry(year_month(d.day)).or_default();
            *known = (known.0 + d.mean * scale, known.1 + 1);
        }
        all
    };
    let levels: Vec<_> = profile.levels.iter().map(of_level).collect();
    let decimals = match what {
        What::Saturation => 0,
        _ => what.quantity().decimals(),
    };
    let mut keys: Vec<(i32, u8)> = levels.iter().flat_map(|l| l.keys().copied()).collect();
    keys.sort_unstable();
    keys.dedup();
    let row = |key: &(i32, u8)| MonthRow {
        name: month(*key),
        means: levels
            .iter()
            .map(|l| {
                l.get(key)
                    .filter(|m| m.0.is_finite())
                    .map_or_else(|| "–".into(), |(sum, n)| fixed(sum / *n as f64, decimals))
            })
            .collect(),
    };
    keys.iter().map(row).collect()
}

#[derive(Deserialize)]
struct Picture {
    from: i64,
    to: i64,
    columns: usize,
    what: Option<String>,
}

async fn data(
    state: web::Data<State>,
    id: web::Path<i64>,
    query: web::Query<Picture>,
) -> Result<HttpResponse, Problem> {
    let Picture { from, to, columns, what } = query.into_inner();
    let window = Asked { from, to, columns, show: String::new() }.window()?;
    let place = state.thinning.take().await?;
    let Loaded { of, neighbours } = loaded(&state, *id).await?;
    let what = What::from_word(what.as_deref().unwrap_or_default());
    let made = place.run(move || profile_data(&of, &neighbours, &window, what)).await?;
    made.map_or_else(
        || Err(Problem::Refused("Nothing is told there in this time.".into())),
        |d| Ok(HttpResponse::Ok().json(d)),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::units::Quantity;

    #[test]
    fn every_picture_has_its_words() {
        assert!(What::ALL.iter().all(|w| !words(*w).is_empty()));
        assert_eq!(What::from_word("tension").quantity(), Quantity::WaterTension);
        assert_eq!(What::from_word("<b>"), What::Moisture);
    }
}
