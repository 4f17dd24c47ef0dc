//! What each test looks for and goes by: read by everybody, set for a station or for all of its study.

use super::repair::{Changes, changes};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::moment;
use crate::shell::forms::{Field, optional};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::{difference, reviewing};
use ebrel_core::quality::{Setting, Settings, Test};
use ebrel_core::roles::Role;
use ebrel_core::units::{Grade, format_plain};
use ebrel_store::settings::OwnSetting;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use serde::Deserialize;
use std::collections::HashMap;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/review/tests", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/review/tests", Least::Member(Role::Researcher), keep);
}

struct SettingRow {
    path: String,
    meaning: &'static str,
    unit: &'static str,
    /// What stands where the field is empty, and where that comes from.
    usual: String,
    from: &'static str,
    between: String,
    field: Field,
    /// Who set it, and when.
    set: Option<String>,
}

struct TestRow {
    mark: &'static str,
    title: &'static str,
    finds: &'static str,
    grade: &'static str,
    grade_class: &'static str,
    settings: Vec<SettingRow>,
}

#[derive(Template)]
#[template(path = "rooms/review/tests.html")]
struct TestsPage {
    shell: Shell,
    id: i64,
    station: String,
    study: String,
    /// Whether it is for all stations of the study.
    all: bool,
    tests: Vec<TestRow>,
    wrong: usize,
    /// What would change at each station, if that was asked for.
    preview: Vec<(String, Changes)>,
    /// The numbers that the preview is of.
    seen: String,
    versions: Vec<Version>,
}

/// A version of the settings, for the list.
struct Version {
    number: i64,
    set: String,
    whom: String,
    numbers: String,
}

/// For whom the numbers are.
#[derive(Deserialize, Default)]
struct For {
    #[serde(default, rename = "for")]
    whom: String,
}

/// Numbers as they were typed, by test and key.
type Typed = HashMap<String, String>;

fn path(test: Test, setting: &Setting) -> String {
    format!("{}.{}", test.code(), setting.key)
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    query: web::Query<For>,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let own = state.store.own_settings(study.id).await?;
    let all = query.whom == "study";
    let here = if all { None } else { Some(station.id) };
    let typed = own.iter().filter(|s| s.station == here);
    let typed = typed.map(|s| (format!("{}.{}", s.test.code(), s.key), format_plain(s.value))).collect();
    tests(&state, &actor, (&study, &station, all), &typed, (Vec::new(), String::new())).await
}

/// Versions that the page lists.
const VERSIONS: usize = 12;

async fn versions(state: &State, study: &Study) -> Result<Vec<Version>, Problem> {
    let stations = state.store.stations(study.id).await?;
    let whom = |id: Option<i64>| match id {
        None => format!("all stations of {}", study.name),
        Some(id) => stations.iter().find(|s| s.id == id).map_or_else(String::new, |s| s.name.clone()),
    };
    let kept = state.store.setting_versions(study.id).await?;
    let words = |v: &ebrel_store::settings::SettingVersion| {
        let each: Vec<String> = v.numbers.iter().map(|(key, n)| format!("{key} {}", format_plain(*n))).collect();
        if each.is_empty() { "all as usual".to_owned() } else { each.join(", ") }
    };
    let version = |v: &ebrel_store::settings::SettingVersion| Version {
        number: v.id,
        set: format!("{}, {}", v.by, moment(v.at, study.utc_offset_minutes)),
        whom: whom(v.station),
        numbers: words(v),
    };
    Ok(kept.iter().take(VERSIONS).map(version).collect())
}

/// The settings of a station if these were set for it, or for its whole study.
fn candidate(own: &[OwnSetting], station: i64, all: bool, set: &[(Test, &'static str, f64)]) -> Settings {
    let mut settings = Settings::default();
    // One that is not legal any more does not stand.
    let mut take = |test, key: &str, value| drop(settings.set(test, key, value));
    if all {
        set.iter().for_each(|(test, key, value)| take(*test, key, *value));
        own.iter().filter(|s| s.station == Some(station)).for_each(|s| take(s.test, &s.key, s.value));
    } else {
        own.iter().filter(|s| s.station.is_none()).for_each(|s| take(s.test, &s.key, s.value));
        set.iter().for_each(|(test, key, value)| take(*test, key, *value));
    }
    settings
}

/// What stands where a field is left empty: the study's number for a station, the usual one for the study.
fn beneath(own: &[OwnSetting], all: bool) -> Settings {
    let mut settings = Settings::default();
    for s in own.iter().filter(|s| !all && s.station.is_none()) {
        // One that is not legal any more does not stand.
        let _ = settings.set(s.test, &s.key, s.value);
    }
    settings
}

async fn tests(
    state: &State,
    actor: &Actor,
    (study, station, all): (&Study, &Station, bool),
    typed: &Typed,
    (preview, seen): (Vec<(String, Changes)>, String),
) -> Result<HttpResponse, Problem> {
    let own = state.store.own_settings(study.id).await?;
    let beneath = beneath(&own, all);
    let here = if all { None } else { Some(station.id) };
    let row = |test: Test, setting: &Setting| {
        let path = path(test, setting);
        let text = typed.get(&path).map_or("", String::as_str);
        let set = own.iter().find(|s| s.station == here && s.test == test && s.key == setting.key);
        let usual = beneath.get(test, setting.key).unwrap_or(setting.default);
        let [min, max] = [setting.range.min, setting.range.max].map(format_plain);
        SettingRow {
            meaning: setting.meaning,
            unit: setting.range.unit,
            usual: format_plain(usual),
            from: if usual == setting.default { "usual" } else { "set for the study" },
            between: format!("{min} to {max}"),
            field: optional(text, setting.range).map_or_else(|e| Field::wrong(text, e), |_| Field::of(text)),
            set: set.map(|s| format!("{}, {}", s.by, moment(s.at, study.utc_offset_minutes))),
            path,
        }
    };
    let tests: Vec<TestRow> = Test::ALL
        .iter()
        .map(|test| {
            let d = test.definition();
            TestRow {
                mark: d.mark,
                title: d.title,
                finds: d.finds,
                grade: match d.grade {
                    Grade::Wrong => "Wrong: left out unless you keep it",
                    Grade::Doubtful => "Doubtful: waits for your verdict",
                    Grade::Condition => "A condition: true, but to be known",
                },
                grade_class: d.grade.code(),
                settings: d.settings.iter().map(|s| row(*test, s)).collect(),
            }
        })
        .collect();
    let wrong = tests.iter().flat_map(|t| &t.settings).filter(|s| s.field.error.is_some()).count();
    page(&TestsPage {
        shell: Shell::within(state, actor, "Tests", Room::Review, study, Some(station)).await?,
        id: station.id,
        station: station.name.clone(),
        study: study.name.clone(),
        all,
        tests,
        wrong,
        preview,
        seen,
        versions: versions(state, study).await?,
    })
}

async fn keep(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let typed = form.0;
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let all = typed.get("for").is_some_and(|f| f == "study");
    let mut set = Vec::new();
    for test in Test::ALL {
        for setting in test.definition().settings {
            let text = typed.get(&path(*test, setting)).map_or("", String::as_str);
            match optional(text, setting.range) {
                Ok(value) => set.extend(value.map(|v| (*test, setting.key, v))),
                Err(_) => {
                    let nothing = (Vec::new(), String::new());
                    return tests(&state, &actor, (&study, &station, all), &typed, nothing).await;
                }
            }
        }
    }
    let stations = if all { state.store.stations(study.id).await? } else { vec![station.clone()] };
    // Nothing holds before its effect was seen: the same numbers come again with the page that showed it.
    let numbers = serde_json::to_string(&set).map_err(|e| Problem::Internal(e.to_string()))?;
    if typed.contains_key("again") || typed.get("seen") != Some(&numbers) {
        let own = state.store.own_settings(study.id).await?;
        let mut preview = Vec::new();
        for of in &stations {
            let settings = candidate(&own, of.id, all, &set);
            let change = difference::of_settings(&state.store, of.id, settings).await?;
            preview.push((of.name.clone(), changes(&change, study.utc_offset_minutes)));
        }
        return tests(&state, &actor, (&study, &station, all), &typed, (preview, numbers)).await;
    }
    let here = if all { None } else { Some(station.id) };
    state.store.keep_settings(study.id, here, &set, actor.name(), state.now(&study)).await?;
    let mut found = 0;
    for station in &stations {
        found += reviewing::run(&state.store, station.id).await?;
    }
    let whom = if all { format!("all stations of {}", study.name) } else { station.name };
    say(&actor, &format!("Kept for {whom}. All tests have run anew: {found} flags. Your verdicts stand."))?;
    let query = if all { "?for=study" } else { "" };
    Ok(see_other(&format!("/stations/{}/review/tests{query}", station.id)))
}
