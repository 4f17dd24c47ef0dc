//! Acceptance of new probes: read in air and in water, looked at, wetted in a bucket.

use super::draft::repeats;
use super::sheets::{self, Received, SheetDraft};
use crate::app::App;
use crate::rooms::plan::station::edit::MOST;
use crate::rooms::plan::station::fields::{Answer, Choice, TextField};
use crate::rooms::plan::station::{Said, catalogue};
use crate::shell::errors::Problem;
use crate::shell::figures::fixed;
use crate::shell::guard::{CheckedForm, NoFields};
use crate::shell::sign_in::acting;
use crate::shell::{Room, Shell, page, say, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::acceptance::{Acceptance, Held, Limits, Response, Seen, accept, response, wetting_test};
use ebrel_core::planning::Typed;
use ebrel_core::register::EventKind;
use ebrel_core::units::{Range, read_number};
use ebrel_store::placements::Probe;
use ebrel_store::register::{BenchSheet, ProbeEvent};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/studies/{id}/acceptance", web::post().to(begin))
        .service(web::resource("/bench/acceptance/{id}").get(show).post(save));
}

/// Rows that a new sheet offers.
const ROWS: usize = 4;
const CELSIUS: Range = Range { name: "temperature of the water", unit: "°C", min: 0.0, max: 45.0 };
const USUAL_C: f64 = 20.0;
const STEP: Range = Range { name: "time between readings", unit: "min", min: 0.01, max: 1440.0 };
const USUAL_STEP: f64 = 1.0;

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Draft {
    title: Typed,
    celsius: Typed,
    probes: Vec<Row>,
    step: Typed,
    wetting: Typed,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Row {
    serial: Typed,
    air: Typed,
    water: Typed,
    straight: Typed,
    sealed: Typed,
}

impl SheetDraft for Draft {
    const KIND: &'static str = "acceptance";

    fn title(&self) -> &Typed {
        &self.title
    }
}

/// What is known to judge by: the register's probes with their models' limits.
struct Known {
    probes: Vec<Probe>,
    limits: HashMap<String, Limits>,
}

impl Known {
    async fn of(app: &App) -> Result<Self, Problem> {
        let models = catalogue(&app.store).await?.probes;
        let limits = models.into_iter().filter_map(|m| Some((m.name.to_lowercase(), m.accept?))).collect();
        Ok(Self { probes: app.store.probes().await?, limits })
    }

    fn probe(&self, serial: &str) -> Option<&Probe> {
        self.probes.iter().find(|p| p.serial.eq_ignore_ascii_case(serial))
    }
}

/// A row worked out: what was seen and judged, and what is said at which field.
struct Judged {
    seen: Seen,
    acceptance: Option<Acceptance>,
    says: Vec<(&'static str, String)>,
}

fn judge(draft: &Draft, row: &Row, known: &Known) -> Judged {
    let mut judged = Judged { seen: Seen::default(), acceptance: None, says: Vec::new() };
    if row.serial.is_blank() {
        if !row.air.is_blank() || !row.water.is_blank() {
            judged.says.push(("serial", "Whose readings are these? Give the serial.".into()));
        }
        return judged;
    }
    let Some(probe) = known.probe(&row.serial) else {
        judged.says.push(("serial", format!("{} is not in the register: enter it there first.", &*row.serial)));
        return judged;
    };
    let Some(limits) = known.limits.get(&probe.model.to_lowercase()) else {
        judged
            .says
            .push(("serial", format!("The catalogue knows no limits of {}: add “accept” to its model.", probe.model)));
        return judged;
    };
    let celsius = draft.celsius.number_in(CELSIUS).unwrap_or(USUAL_C);
    let mut read = |name: &'static str, typed: &Typed, held: &dyn Fn(f64) -> Held| {
        if typed.is_blank() {
            return None;
        }
        match repeats(typed) {
            Ok((reading, _)) => Some(held(reading)),
            Err(says) => {
                judged.says.push((name, says));
                None
            }
        }
    };
    judged.seen.air = read("air", &row.air, &|r| limits.in_air(r));
    judged.seen.water = read("water", &row.water, &|r| limits.in_water(r, celsius));
    let looked = |typed: &Typed| (!typed.is_blank()).then(|| typed.is_yes());
    (judged.seen.straight, judged.seen.sealed) = (looked(&row.straight), looked(&row.sealed));
    judged.acceptance = Some(accept(&judged.seen));
    judged
}

/// One probe in the bucket, as read.
struct Wetted {
    serial: String,
    depth: f64,
    response: Response,
}

/// Lines of serial; depth; readings at equal steps, and what could not be read.
fn wetted(draft: &Draft) -> (Vec<Wetted>, Vec<Said>) {
    let step = draft.step.number_in(STEP).unwrap_or(USUAL_STEP);
    let (mut all, mut wrong) = (Vec::new(), Vec::new());
    for (i, line) in draft.wetting.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
        let mut cells = line.splitn(3, [';', '\t']).map(str::trim);
        let (serial, depth, rest) =
            (cells.next().unwrap_or(""), cells.next().unwrap_or(""), cells.next().unwrap_or(""));
        let readings: Result<Vec<f64>, String> =
            rest.split([' ', ';', '\t']).filter(|p| !p.is_empty()).map(read_number).collect();
        let says = match (read_number(depth), readings) {
            (Ok(depth), Ok(readings)) if readings.len() >= 5 => {
                all.push(Wetted { serial: serial.to_owned(), depth, response: response(&readings, step) });
                continue;
            }
            (Ok(_), Ok(readings)) => {
                format!(
                    "line {}: {} readings are too few; three before the water, and on until it rests",
                    i + 1,
                    readings.len()
                )
            }
            (Err(says), _) | (_, Err(says)) => format!("line {}: {says}", i + 1),
        };
        wrong.push(Said { class: "stop", says });
    }
    (all, wrong)
}

/// What the bucket says, first sentence first.
fn bucket(wetted: &[Wetted]) -> Vec<String> {
    if wetted.len() < 2 {
        return Vec::new();
    }
    let depths: Vec<f64> = wetted.iter().map(|w| w.depth).collect();
    let responses: Vec<Response> = wetted.iter().map(|w| w.response).collect();
    let test = wetting_test(&depths, &responses);
    let name = |i: &usize| format!("{} at {} cm", wetted[*i].serial, depths[*i]);
    let mut says = Vec::new();
    if test.early.is_empty() && test.silent.is_empty() {
        says.push("The wetting came in order of depth.".to_owned());
    }
    says.extend(test.early.iter().map(|i| {
        format!(
            "{} wetted before one above it: water ran down its cable or the wall, or two probes are mixed up.",
            name(i)
        )
    }));
    says.extend(test.silent.iter().map(|i| format!("{} never answered.", name(i))));
    says.extend(test.front.map(|f| format!("The front went down by {} cm a minute.", fixed(f, 2))));
    says
}

struct RowFields {
    serial: TextField,
    air: TextField,
    water: TextField,
    straight: Choice,
    sealed: Choice,
    limits: String,
    verdict: &'static str,
    rejected: bool,
    why: String,
}

struct WettedRow {
    serial: String,
    depth: String,
    onset: String,
    rise: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/acceptance.html")]
struct AcceptancePage {
    shell: Shell,
    study: i64,
    answer: String,
    title: TextField,
    celsius: TextField,
    rows: Vec<RowFields>,
    step: TextField,
    wetting: TextField,
    bucket: Vec<String>,
    wetted: Vec<WettedRow>,
}

fn looked(path: String, name: &'static str, typed: &Typed) -> Choice {
    let answers = [("", "not looked"), ("yes", "yes"), ("no", "no")];
    let answers =
        answers.map(|(code, words)| Answer { code: code.into(), words: words.into(), taken: **typed == *code });
    Choice { path, name, answers: answers.into(), says: Vec::new() }
}

async fn begin(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    _form: CheckedForm<NoFields>,
) -> Result<HttpResponse, Problem> {
    acting(&app, &session)?;
    let draft =
        Draft { title: "Acceptance of new probes".into(), probes: vec![Row::default(); ROWS], ..Draft::default() };
    sheets::begin(&app, *id, &draft).await
}

fn answer(judged: &[Judged]) -> String {
    let count = |kind| judged.iter().filter(|j| j.acceptance.as_ref().and_then(|a| a.verdict) == Some(kind)).count();
    let (good, watched, bad) = (count(EventKind::Accepted), count(EventKind::Watched), count(EventKind::Rejected));
    let open = judged.iter().filter(|j| j.acceptance.as_ref().is_some_and(|a| a.verdict.is_none())).count();
    if good + watched + bad + open == 0 {
        return "Read each probe in air and in clean water, look at its prongs and seals: the verdict follows."
            .to_owned();
    }
    let part = |n: usize, words: &str| (n > 0).then(|| format!("{n} {words}"));
    let parts =
        [part(good, "accepted"), part(watched, "to be watched"), part(bad, "rejected"), part(open, "not complete yet")];
    format!("{}.", parts.into_iter().flatten().collect::<Vec<_>>().join(", "))
}

async fn show(app: web::Data<App>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let (sheet, draft) = sheets::load::<Draft>(&app, *id).await?;
    let study = app.store.study(sheet.study_id).await?;
    let known = Known::of(&app).await?;
    let judged: Vec<Judged> = draft.probes.iter().map(|r| judge(&draft, r, &known)).collect();
    let stop = |typed: &Typed, range: Range, usual: f64| match typed.optional_in(range) {
        Err(says) => vec![Said { class: "stop", says: format!("{says}. Reckoned with {usual} meanwhile.") }],
        Ok(_) => Vec::new(),
    };
    let rows = draft.probes.iter().zip(&judged).enumerate().map(|(i, (row, j))| {
        let says = |name: &str| {
            let here = j.says.iter().filter(|(at, _)| *at == name);
            here.map(|(_, says)| Said { class: "stop", says: says.clone() }).collect::<Vec<_>>()
        };
        let at = |name: &str| format!("probes.{i}.{name}");
        let span = |held: Option<Held>| held.map(|h| format!("{} to {}", fixed(h.limits.0, 0), fixed(h.limits.1, 0)));
        let limits = [span(j.seen.air).map(|s| format!("air {s}")), span(j.seen.water).map(|s| format!("water {s}"))];
        let verdict = j.acceptance.as_ref().and_then(|a| a.verdict);
        RowFields {
            serial: TextField::of(at("serial"), &row.serial, says("serial")),
            air: TextField::of(at("air"), &row.air, says("air")),
            water: TextField::of(at("water"), &row.water, says("water")),
            straight: looked(at("straight"), "Prongs straight", &row.straight),
            sealed: looked(at("sealed"), "Electronics sealed", &row.sealed),
            limits: limits.into_iter().flatten().collect::<Vec<_>>().join(", "),
            verdict: verdict.map_or("", EventKind::words),
            rejected: verdict == Some(EventKind::Rejected),
            why: j.acceptance.as_ref().map(|a| a.says.join("; ")).unwrap_or_default(),
        }
    });
    let (wetted, wrong) = wetted(&draft);
    let shell = Shell::within(&app, &session, &draft.title, Room::Bench, &study, None).await?;
    page(&AcceptancePage {
        shell,
        study: study.id,
        answer: answer(&judged),
        title: TextField::of("title", &draft.title, Vec::new()),
        celsius: TextField::of("celsius", &draft.celsius, stop(&draft.celsius, CELSIUS, USUAL_C)),
        rows: rows.collect(),
        step: TextField::of("step", &draft.step, stop(&draft.step, STEP, USUAL_STEP)),
        wetting: TextField::of("wetting", &draft.wetting, wrong),
        bucket: bucket(&wetted),
        wetted: wetted
            .iter()
            .map(|w| WettedRow {
                serial: w.serial.clone(),
                depth: w.depth.to_string(),
                onset: w.response.onset.map_or_else(|| "–".to_owned(), |t| fixed(t, 1)),
                rise: w.response.rise.map_or_else(|| "–".to_owned(), |t| fixed(t, 1)),
            })
            .collect(),
    })
}

async fn save(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<Vec<(String, String)>>,
) -> Result<HttpResponse, Problem> {
    let Received { sheet, mut draft, by, action, live } =
        sheets::receive::<Draft>(&app, &session, *id, &form.0).await?;
    match action.as_str() {
        "add" if draft.probes.len() < MOST => {
            draft.probes.push(Row::default());
            sheets::keep(&app, &sheet, &draft).await?;
        }
        "note" => note(&app, &session, &sheet, &draft, by).await?,
        _ => {}
    }
    if live { show(app, session, id).await } else { Ok(see_other(&format!("/bench/acceptance/{}", *id))) }
}

/// Writes each verdict into its probe's life.
async fn note(app: &App, session: &Session, sheet: &BenchSheet, draft: &Draft, by: String) -> Result<(), Problem> {
    let known = Known::of(app).await?;
    let at = app.now(&app.store.study(sheet.study_id).await?);
    let bucket = bucket(&wetted(draft).0).join(" ");
    let mut noted = 0;
    for row in &draft.probes {
        let judged = judge(draft, row, &known);
        let Some((probe, acceptance)) = known.probe(&row.serial).zip(judged.acceptance) else { continue };
        let Some(kind) = acceptance.verdict else { continue };
        let mut words = vec![format!(
            "air {}, water {} at {} °C",
            &*row.air,
            &*row.water,
            draft.celsius.number_in(CELSIUS).unwrap_or(USUAL_C)
        )];
        words.extend(acceptance.says);
        if draft.wetting.lines().any(|l| l.to_lowercase().starts_with(&row.serial.to_lowercase())) {
            words.push(bucket.clone());
        }
        let event = ProbeEvent { at, kind, note: words.join("; "), by: by.clone() };
        app.store.add_probe_event(probe.id, &event).await?;
        noted += 1;
    }
    match noted {
        0 => say(session, "Not noted: no probe is complete yet."),
        n => say(session, &format!("The verdict is noted in the life of {n} probes.")),
    }
}
