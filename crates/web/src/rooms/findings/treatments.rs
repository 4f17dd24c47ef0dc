//! Two stations beside each other: how they differ by season, weather and hour, how they buffer, and what changed at a date.

use super::frame::{Tabs, number, part, sentence};
use super::treatments_words::{cannot, how, impact, interval, words};
use crate::components::trace::{Frame, Source, Trace, draw};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, signed, typed_time, when};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::findings::{Beside, Question, Selection, beside, day_of, in_common};
use ebrel_app::record::{Flagged, StationRecord};
use ebrel_core::findings::{Group, Interval, Part, Season};
use ebrel_core::roles::Role;
use ebrel_core::series::View;
use ebrel_core::units::{Quantity, UnixSeconds, unit_for_people};
use ebrel_store::stations::Station;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/findings/treatments", Least::Member(Role::Guest), show);
}

#[derive(Deserialize, Default)]
struct Query {
    first: Option<String>,
    second: Option<String>,
    quantity: Option<String>,
    date: Option<String>,
}

/// A choice of the form: value, words, whether it is taken.
type Choice = (String, String, bool);

/// A row of differences.
struct Row {
    part: String,
    days: usize,
    whole: String,
    by_day: String,
    by_night: String,
    effective: String,
    sure: bool,
}

#[derive(Template)]
#[template(path = "rooms/findings/treatments.html")]
struct TreatmentsPage {
    shell: Shell,
    tabs: Option<Tabs>,
    study: i64,
    answer: String,
    also: Vec<String>,
    cannot: Vec<String>,
    error: Option<String>,
    firsts: Vec<Choice>,
    seconds: Vec<Choice>,
    quantities: Vec<Choice>,
    date: String,
    unit: String,
    seasons: Vec<Row>,
    months: Vec<Row>,
    hours: Vec<(String, String)>,
    swings: Vec<(String, String)>,
    impact: Vec<String>,
    trace: Option<Trace>,
    how: Vec<String>,
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    query: web::Query<Query>,
) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let stations = state.store.stations(*id).await?;
    let q = query.into_inner();
    let place = state.thinning.take().await?;
    let chosen = |text: &Option<String>, other: usize| {
        let number = text.as_deref().and_then(|t| t.parse::<i64>().ok());
        stations.iter().find(|s| Some(s.id) == number).or_else(|| stations.get(other))
    };
    let first = chosen(&q.first, 0);
    let other = stations.iter().position(|s| first.is_some_and(|f| f.id != s.id)).unwrap_or(1);
    let second =
        chosen(&q.second, other).filter(|s| first.is_some_and(|f| f.id != s.id)).or_else(|| stations.get(other));
    let shell = Shell::within(&state, &actor, "Beside each other", Room::Findings, &study, first).await?;
    let choice = |of: Option<&Station>| -> Vec<Choice> {
        stations.iter().map(|s| (s.id.to_string(), s.name.clone(), of.is_some_and(|o| o.id == s.id))).collect()
    };
    let mut made = TreatmentsPage {
        shell,
        tabs: first.map(|s| Tabs { station: s.id, study: *id, here: "Beside each other" }),
        study: *id,
        answer: String::new(),
        also: Vec::new(),
        cannot: Vec::new(),
        error: None,
        firsts: choice(first),
        seconds: choice(second),
        quantities: Vec::new(),
        date: q.date.clone().unwrap_or_default(),
        unit: String::new(),
        seasons: Vec::new(),
        months: Vec::new(),
        hours: Vec::new(),
        swings: Vec::new(),
        impact: Vec::new(),
        trace: None,
        how: Vec::new(),
    };
    let Some((first, second)) = first.zip(second).filter(|(a, b)| a.id != b.id) else {
        made.answer = "A comparison wants two stations; this study has fewer.".into();
        made.cannot.push("Add a second one: a control beside the treatment, under the same weather.".into());
        return page(&made);
    };
    let a = Flagged::load(&state.store, first.id).await?;
    let b = Flagged::load(&state.store, second.id).await?;
    let neighbours = a.neighbours(&state.store).await?;
    let shared = in_common(&a.record, &b.record);
    let (question, error) = question(&q, &shared, study.utc_offset_minutes);
    made.error = error;
    made.quantities = shared.iter().map(|s| named(*s, question.as_ref())).collect();
    let Some(question) = question else {
        made.answer = format!("{} and {} measure nothing in common at one depth.", first.name, second.name);
        made.cannot.push("Probes that still tell raw output cannot be compared: calibrate them at the Bench.".into());
        return page(&made);
    };
    let work = move || (beside(&a, &b, &neighbours, &question), question, a.record, b.record);
    let (found, question, a, b) = place.run(work).await?;
    made.unit = unit_for_people(question.quantity.unit());
    match found {
        Ok(found) => made.fill(&found, &question, &a, &b),
        Err(problem) => {
            made.answer = sentence(&problem);
        }
    }
    page(&made)
}

fn named(of: (Quantity, Option<f64>), question: Option<&Question>) -> Choice {
    let (quantity, depth) = of;
    let value = format!("{}@{}", quantity.code(), depth.map_or_else(String::new, |d| d.to_string()));
    let words = depth.map_or_else(|| quantity.words().to_owned(), |d| format!("{} at {d}\u{a0}cm", quantity.words()));
    let taken = question.is_some_and(|q| q.quantity == quantity && q.depth_cm == depth);
    (value, words, taken)
}

/// What is asked; without a choice the soil temperature, or else the content, of the shallowest depth.
fn question(q: &Query, shared: &[(Quantity, Option<f64>)], offset: i64) -> (Option<Question>, Option<String>) {
    let mut error = None;
    let by_code = q.quantity.as_deref().and_then(|text| {
        let (code, depth) = text.split_once('@')?;
        Some((Quantity::from_code(code)?, number(Some(depth), "Depth", 0.0..=1000.0).ok()?))
    });
    let usual = || {
        let of = |quantity| shared.iter().copied().find(|s| s.0 == quantity);
        of(Quantity::SoilTemperature).or_else(|| of(Quantity::WaterContent)).or_else(|| shared.first().copied())
    };
    let taken = match by_code {
        Some(wanted) if shared.contains(&wanted) => Some(wanted),
        Some(_) => {
            error = Some("These two stations do not both measure that: another is shown.".to_owned());
            usual()
        }
        None => usual(),
    };
    let date = match q.date.as_deref().map(str::trim).filter(|d| !d.is_empty()) {
        None => None,
        Some(text) => match typed_time(text, offset) {
            Ok(t) => Some(day_of(t, offset)),
            Err(says) => {
                error = Some(says);
                None
            }
        },
    };
    let asked =
        taken.map(|(quantity, depth_cm)| Question { quantity, depth_cm, date, selection: Selection::default() });
    (asked, error)
}

impl TreatmentsPage {
    fn fill(&mut self, found: &Beside, question: &Question, a: &StationRecord, b: &StationRecord) {
        let decimals = if question.quantity == Quantity::WaterContent { 3 } else { 2 };
        let (first, second) = (&a.station.name, &b.station.name);
        let depth = question.depth_cm.map_or_else(String::new, |d| format!(" at {d}\u{a0}cm"));
        let place = format!("{first}, {}{depth}", question.quantity.words());
        let difference = |i: &Interval| words(question.quantity, i, decimals);
        // South of the equator it is warm from December to February.
        let warm = if a.station.latitude.is_some_and(|l| l < 0.0) { Season::Winter } else { Season::Summer };
        let in_summer = |g: &&Group| matches!(g.part, Part::Season(_, s) if s == warm);
        let summers: Vec<&Group> = found.comparison.groups.iter().filter(in_summer).collect();
        let newest = summers.last().copied().or_else(|| found.comparison.group(Part::All));
        self.answer = newest.and_then(|g| Some((g, g.whole?))).map_or_else(
            || format!("{first} and {second} share too few days for an interval."),
            |(g, i)| {
                format!(
                    "{place}: {} than at {second} in {} ({} to {} at 95\u{a0}%).",
                    difference(&i),
                    part(g.part),
                    signed(i.low, decimals),
                    signed(i.high, decimals)
                )
            },
        );
        self.also = Self::also_words(found, &summers, decimals);
        let row = |g: &Group| Row {
            part: part(g.part),
            days: g.days,
            whole: g.whole.as_ref().map_or_else(|| "too few days".into(), |i| interval(i, decimals)),
            by_day: g.by_day.as_ref().map_or_else(|| "–".into(), |i| interval(i, decimals)),
            by_night: g.by_night.as_ref().map_or_else(|| "–".into(), |i| interval(i, decimals)),
            effective: g.whole.map_or_else(|| "–".into(), |i| fixed(i.effective, 0)),
            sure: g.whole.is_some_and(|i| i.is_off_zero()),
        };
        let groups = &found.comparison.groups;
        self.seasons = groups.iter().filter(|g| !matches!(g.part, Part::Month(..))).map(row).collect();
        self.months = groups.iter().filter(|g| matches!(g.part, Part::Month(..))).map(row).collect();
        self.hours = found
            .comparison
            .hours
            .iter()
            .enumerate()
            .filter_map(|(h, i)| Some((format!("{h:02}–{:02}\u{a0}h", h + 1), interval(i.as_ref()?, decimals))))
            .collect();
        if let Some(buffering) = &found.buffering {
            self.swings = buffering
                .groups
                .iter()
                .map(|(p, i)| {
                    let of = i.as_ref();
                    let shown =
                        of.map(|i| format!("{} ({} to {})", fixed(i.estimate, 2), fixed(i.low, 2), fixed(i.high, 2)));
                    (part(*p), shown.unwrap_or_else(|| "too few days".into()))
                })
                .collect();
        }
        self.impact = impact(found, decimals, first, second);
        self.cannot = cannot(a, b, question);
        self.trace = trace(found, a.study.utc_offset_minutes, &self.unit);
        self.how = how(found, first, second);
    }

    fn also_words(found: &Beside, summers: &[&Group], decimals: usize) -> Vec<String> {
        let mut all = Vec::new();
        let part_words = |g: &Group, of: Option<Interval>, name: &str| {
            of.map(|i| format!("{name} in {}: {}", part(g.part), interval(&i, decimals)))
        };
        if let Some(g) = summers.last() {
            all.extend(part_words(g, g.by_day, "By day (9–17\u{a0}h)"));
            all.extend(part_words(g, g.by_night, "By night (21–5\u{a0}h)"));
        }
        if summers.len() > 1 {
            let each: Vec<String> = summers
                .iter()
                .filter_map(|g| Some(format!("{} {}", part(g.part), interval(&g.whole?, decimals))))
                .collect();
            all.push(format!("Summer by summer: {}.", each.join("; ")));
        }
        if let Some((_, Some(i))) = found.buffering.as_ref().and_then(|b| b.groups.first()) {
            all.push(format!(
                "The day's swing is {} times that of the other place ({} to {}).",
                fixed(i.estimate, 2),
                fixed(i.low, 2),
                fixed(i.high, 2)
            ));
        }
        all
    }
}

fn trace(found: &Beside, offset: i64, unit: &str) -> Option<Trace> {
    let times: Vec<i64> = found.days.iter().map(|d| d.0 * 86_400 + 43_200 - offset * 60).collect();
    let values: Vec<f64> = found.days.iter().map(|d| d.1).collect();
    let zero = vec![0.0; times.len()];
    let view = |values| View { times: &times, values };
    let sources = [
        Source { name: "0".into(), view: view(&zero), dash: 3 },
        Source { name: "difference".into(), view: view(&values), dash: 1 },
    ];
    draw(
        &sources,
        Frame {
            span: (UnixSeconds(*times.first()?), UnixSeconds(*times.last()?)),
            shade: None,
            when: &|t, form| when(t, offset, form),
            unit: unit.to_owned(),
            words: "Difference of the two stations, day by day".into(),
            band: None,
            by_hand: &[],
        },
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_question_that_two_stations_do_not_share_falls_back_and_says_so() {
        let shared = [(Quantity::WaterContent, Some(5.0)), (Quantity::SoilTemperature, Some(15.0))];
        let ask = |quantity: &str, date: &str| {
            question(
                &Query { quantity: Some(quantity.into()), date: Some(date.into()), ..Query::default() },
                &shared,
                0,
            )
        };
        let (q, error) = ask("water_content@5", "2025-05-02");
        assert_eq!((q.unwrap().date, error), (Some(20_210), None));
        let (q, error) = ask("water_content@60", "");
        assert_eq!(q.unwrap().quantity, Quantity::SoilTemperature);
        assert!(error.unwrap().contains("do not both"));
        assert!(ask("nonsense", "soon").1.unwrap().contains("is no date"));
        assert!(question(&Query::default(), &[], 0).0.is_none());
    }
}
