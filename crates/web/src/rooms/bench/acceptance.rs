//! Acceptance of new probes: read in air and in water, looked at, wetted in a bucket.

use super::sheets::{self, NumberField, NumberSpec, Sent, Sheet, SheetContext, read_lines};
use crate::components::fields::FieldMessage;
use crate::components::fields::{Answer, Choice, TextField};
use crate::shell::draft_form::MOST;
use crate::shell::errors::Problem;
use crate::shell::figures::fixed;
use crate::shell::routes::Routes;
use crate::shell::{Shell, page, say};
use crate::state::State;
use actix_web::HttpResponse;
use askama::Template;
use ebrel_app::planning::catalogue;
use ebrel_core::acceptance::{Acceptance, Held, Limits, Response, Seen, accept, response, wetting_test};
use ebrel_core::bench::repeats;
use ebrel_core::planning::Typed;
use ebrel_core::register::EventKind;
use ebrel_core::units::{Range, read_number};
use ebrel_store::probes::Probe;
use ebrel_store::register::ProbeEvent;
use ebrel_store::studies::Study;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

pub fn routes(routes: &mut Routes<'_>) {
    sheets::routes::<Draft>(routes);
}

/// Rows that a new sheet offers.
const ROWS: usize = 4;
const CELSIUS: NumberSpec = NumberSpec {
    range: Range { name: "temperature of the water", unit: "°C", min: 0.0, max: 45.0 },
    value: 20.0,
    source: "where a model's limits hold; they follow the water's temperature",
};
const STEP: NumberSpec = NumberSpec {
    range: Range { name: "time between readings", unit: "min", min: 0.01, max: 1440.0 },
    value: 1.0,
    source: "as quick as the reader goes",
};

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Draft {
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

/// What is known to judge by: the register's probes with their models' limits.
struct Known {
    probes: Vec<Probe>,
    limits: HashMap<String, Limits>,
}

impl Known {
    async fn of(state: &State) -> Result<Self, Problem> {
        let models = catalogue(&state.store).await?.probes;
        let limits = models.into_iter().filter_map(|m| Some((m.name.to_lowercase(), m.accept?))).collect();
        Ok(Self { probes: state.store.probes().await?, limits })
    }

    fn probe(&self, serial: &str) -> Option<&Probe> {
        self.probes.iter().find(|p| p.serial.eq_ignore_ascii_case(serial))
    }
}

/// A row worked out: what was seen and judged, and what is said at which field.
struct ProbeOutcome {
    seen: Seen,
    acceptance: Option<Acceptance>,
    says: Vec<(&'static str, String)>,
}

fn judge(draft: &Draft, row: &Row, known: &Known) -> ProbeOutcome {
    let mut judged = ProbeOutcome { seen: Seen::default(), acceptance: None, says: Vec::new() };
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
    let celsius = CELSIUS.of(&draft.celsius);
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
fn wetted(draft: &Draft) -> (Vec<Wetted>, Vec<FieldMessage>) {
    let step = STEP.of(&draft.step);
    read_lines(&draft.wetting, |line| {
        let mut cells = line.splitn(3, [';', '\t']).map(str::trim);
        let mut next = || cells.next().unwrap_or("");
        let (serial, depth, rest) = (next().to_owned(), read_number(next())?, next());
        let readings: Result<Vec<f64>, String> =
            rest.split([' ', ';', '\t']).filter(|p| !p.is_empty()).map(read_number).collect();
        match readings? {
            few if few.len() < 5 => {
                Err(format!("{} readings are too few; three before the water, and on until it rests", few.len()))
            }
            readings => Ok(Wetted { serial, depth, response: response(&readings, step) }),
        }
    })
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
    celsius: NumberField,
    rows: Vec<RowFields>,
    step: NumberField,
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

fn answer(judged: &[ProbeOutcome]) -> String {
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

/// A row of the page with its judgement.
fn row_fields(i: usize, row: &Row, judged: &ProbeOutcome) -> RowFields {
    let says = |name: &str| {
        let here = judged.says.iter().filter(|(at, _)| *at == name);
        here.map(|(_, says)| FieldMessage { class: "stop", says: says.clone() }).collect::<Vec<_>>()
    };
    let at = |name: &str| format!("probes.{i}.{name}");
    let span = |held: Option<Held>| held.map(|h| format!("{} to {}", fixed(h.limits.0, 0), fixed(h.limits.1, 0)));
    let limits =
        [span(judged.seen.air).map(|s| format!("air {s}")), span(judged.seen.water).map(|s| format!("water {s}"))];
    let verdict = judged.acceptance.as_ref().and_then(|a| a.verdict);
    RowFields {
        serial: TextField::of(at("serial"), &row.serial, says("serial")),
        air: TextField::of(at("air"), &row.air, says("air")),
        water: TextField::of(at("water"), &row.water, says("water")),
        straight: looked(at("straight"), "Prongs straight", &row.straight),
        sealed: looked(at("sealed"), "Electronics sealed", &row.sealed),
        limits: limits.into_iter().flatten().collect::<Vec<_>>().join(", "),
        verdict: verdict.map_or("", EventKind::words),
        rejected: verdict == Some(EventKind::Rejected),
        why: judged.acceptance.as_ref().map(|a| a.says.join("; ")).unwrap_or_default(),
    }
}

impl Sheet for Draft {
    const KIND: &'static str = "acceptance";

    fn title(&self) -> &Typed {
        &self.title
    }

    async fn fresh(_app: &State, _study: &Study, _form: &Sent) -> Result<Self, Problem> {
        let probes = vec![Row::default(); ROWS];
        Ok(Self { title: "Acceptance of new probes".into(), probes, ..Self::default() })
    }

    async fn page(&self, around: &SheetContext<'_>) -> Result<HttpResponse, Problem> {
        let known = Known::of(around.state).await?;
        let judged: Vec<ProbeOutcome> = self.probes.iter().map(|r| judge(self, r, &known)).collect();
        let rows = self.probes.iter().zip(&judged).enumerate().map(|(i, (row, j))| row_fields(i, row, j));
        let (wetted, wrong) = wetted(self);
        let minutes = |t: Option<f64>| t.map_or_else(|| "–".to_owned(), |t| fixed(t, 1));
        let wetted_row = |w: &Wetted| WettedRow {
            serial: w.serial.clone(),
            depth: w.depth.to_string(),
            onset: minutes(w.response.onset),
            rise: minutes(w.response.rise),
        };
        let shell = around.shell(&self.title).await?;
        page(&AcceptancePage {
            shell,
            study: around.study.id,
            answer: answer(&judged),
            title: TextField::of("title", &self.title, Vec::new()),
            celsius: CELSIUS.field("celsius", &self.celsius),
            rows: rows.collect(),
            step: STEP.field("step", &self.step),
            wetting: TextField::of("wetting", &self.wetting, wrong),
            bucket: bucket(&wetted),
            wetted: wetted.iter().map(wetted_row).collect(),
        })
    }

    async fn act(&mut self, around: &SheetContext<'_>, action: &str, by: &str) -> Result<(), Problem> {
        match action {
            "add" if self.probes.len() < MOST => self.probes.push(Row::default()),
            "note" => note(around, self, by).await?,
            _ => {}
        }
        Ok(())
    }
}

/// Writes each verdict into its probe's life.
async fn note(around: &SheetContext<'_>, draft: &Draft, by: &str) -> Result<(), Problem> {
    let SheetContext { state, actor, study, .. } = around;
    let known = Known::of(state).await?;
    let at = state.now(study);
    let bucket = bucket(&wetted(draft).0).join(" ");
    let mut noted = 0;
    for row in &draft.probes {
        let judged = judge(draft, row, &known);
        let Some((probe, acceptance)) = known.probe(&row.serial).zip(judged.acceptance) else { continue };
        let Some(kind) = acceptance.verdict else { continue };
        let mut words = vec![format!("air {}, water {} at {} °C", &*row.air, &*row.water, CELSIUS.of(&draft.celsius))];
        words.extend(acceptance.says);
        if draft.wetting.lines().any(|l| l.to_lowercase().starts_with(&row.serial.to_lowercase())) {
            words.push(bucket.clone());
        }
        let event = ProbeEvent { at, kind, note: words.join("; "), by: by.to_owned() };
        state.store.add_probe_event(probe.id, &event).await?;
        noted += 1;
    }
    match noted {
        0 => say(actor, "Not noted: no probe is complete yet."),
        n => say(actor, &format!("The verdict is noted in the life of {n} probes.")),
    }
}
