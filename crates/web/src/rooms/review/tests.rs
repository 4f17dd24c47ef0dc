//! What each test looks for and goes by: read by everybody, set for a station or for all of its study.

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
use ebrel_app::reviewing;
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
    tests(&state, &actor, &study, &station, all, &typed).await
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
    study: &Study,
    station: &Station,
    all: bool,
    typed: &Typed,
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
                Err(_) => return tests(&state, &actor, &study, &station, all, &typed).await,
            }
        }
    }
    let here = if all { None } else { Some(station.id) };
    state.store.keep_settings(study.id, here, &set, actor.name(), state.now(&study)).await?;
    let stations = if all { state.store.stations(study.id).await? } else { vec![station.clone()] };
    let mut found = 0;
    for station in &stations {
        found += reviewing::run(&state.store, station.id).await?;
    }
    let whom = if all { format!("all stations of {}", study.name) } else { station.name };
    say(&actor, &format!("Kept for {whom}. All tests have run anew: {found} flags. Your verdicts stand."))?;
    let query = if all { "?for=study" } else { "" };
    Ok(see_other(&format!("/stations/{}/review/tests{query}", station.id)))
}
