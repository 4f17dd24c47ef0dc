//! A thermometer against a reference, on a sheet kept as typed; corrections that follow from it; the bath to practise on.

mod convert;
mod correct;
mod sun;

use super::sheets::{self, NumberField, NumberSpec, Sent, Sheet, SheetContext};
use crate::components::fields::FieldMessage;
use crate::components::fields::TextField;
use crate::shell::draft_form::MOST;
use crate::shell::errors::Problem;
use crate::shell::figures::fixed;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Shell, page, say};
use crate::state::State;
use actix_web::HttpResponse;
use askama::Template;
use convert::{SIGNALS, Worked, usual_u, work};
pub use correct::correction_words;
use ebrel_core::planning::Typed;
use ebrel_core::register::EventKind;
use ebrel_core::roles::Role;
use ebrel_core::temperature::{Claims, TemperatureCheck, Thermocouple, check};
use ebrel_core::units::Range;
use ebrel_simulator::{PracticeThermometer, SETTINGS_C};
use ebrel_store::register::ProbeEvent;
use ebrel_store::studies::Study;
use serde::{Deserialize, Serialize};

pub fn routes(routes: &mut Routes<'_>) {
    sheets::routes::<Draft>(routes);
    routes.get("/stations/{id}/sun-test", Least::Member(Role::Guest), sun::sun);
}

/// Rows that a new sheet offers: ice, room, warm, and two more.
const ROWS: usize = 5;

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Draft {
    title: Typed,
    serial: Typed,
    signal: Typed,
    claim_probe: Typed,
    claim_reference: Typed,
    u_signal: Typed,
    u_kelvin: Typed,
    points: [Point; 3],
    pairs: Vec<Pair>,
    /// From when, until when and why a correction is made.
    from: Typed,
    until: Typed,
    reason: Typed,
    /// Seed of the practice thermometer; blank for a real one.
    practice: Typed,
    revealed: Typed,
}

/// A point that a thermistor is fitted through.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Point {
    celsius: Typed,
    ohm: Typed,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Pair {
    medium: Typed,
    probe: Typed,
    panel: Typed,
    reference: Typed,
}

const CLAIM: Range = Range { name: "what an instrument claims", unit: "K", min: 0.001, max: 20.0 };
const CLAIM_PROBE: NumberSpec = NumberSpec { range: CLAIM, value: 0.5, source: "a usual digital probe" };
const CLAIM_REFERENCE: NumberSpec = NumberSpec { range: CLAIM, value: 0.1, source: "checked in ice this year" };

struct Row {
    medium: TextField,
    probe: TextField,
    panel: TextField,
    reference: TextField,
    celsius: String,
    u: String,
    difference: String,
}

/// A pair in the picture.
struct Dot {
    x: f64,
    y: f64,
}

#[derive(Template)]
#[template(path = "rooms/bench/temperature/sheet.html")]
struct SheetPage {
    shell: Shell,
    study: i64,
    answer: String,
    reasons: Vec<String>,
    title: TextField,
    serial: TextField,
    signals: Vec<(&'static str, &'static str, bool)>,
    thermocouple: bool,
    thermistor: bool,
    converted: bool,
    points: Vec<(TextField, TextField)>,
    known_to: Vec<NumberField>,
    correction: correct::Part,
    practice: Option<BathPart>,
    claim_probe: NumberField,
    claim_reference: NumberField,
    rows: Vec<Row>,
    picture: Picture,
}

/// The bath on a practice sheet.
struct BathPart {
    /// Temperatures at which it can be held, with their place in the list.
    settings: Vec<(usize, String)>,
    truth: String,
}

impl BathPart {
    fn of(draft: &Draft) -> Option<Self> {
        let seed: u64 = draft.practice.parse().ok()?;
        let settings = SETTINGS_C.iter().enumerate().map(|(i, c)| (i, fixed(*c, 1))).collect();
        let truth = if draft.revealed.is_yes() { PracticeThermometer::of(seed).words() } else { String::new() };
        Some(Self { settings, truth })
    }
}

/// Reads both thermometers of the bath into the first pair that is blank; `asked` is setting and minutes, "2:8".
fn read_bath(draft: &mut Draft, asked: &str) {
    let numbers = asked.split_once(':').and_then(|(a, b)| Some((a.parse::<usize>().ok()?, b.parse::<f64>().ok()?)));
    let (Some((setting, minutes)), Ok(seed)) = (numbers, draft.practice.parse::<u64>()) else { return };
    let Some(celsius) = SETTINGS_C.get(setting) else { return };
    let blank = |p: &Pair| p.probe.is_blank() && p.reference.is_blank();
    let at = draft.pairs.iter().position(blank).unwrap_or(draft.pairs.len());
    if at >= MOST {
        return;
    }
    let shown = PracticeThermometer::of(seed).read(*celsius, minutes, seed * 1000 + at as u64);
    let probe: Vec<String> = shown.probe.iter().map(|v| format!("{v:.2}")).collect();
    let pair = Pair {
        medium: format!("bath, after {minutes} min").as_str().into(),
        probe: probe.join(" ").as_str().into(),
        reference: format!("{:.2}", shown.reference).as_str().into(),
        ..Pair::default()
    };
    if at == draft.pairs.len() { draft.pairs.push(pair) } else { draft.pairs[at] = pair }
}

fn judged(draft: &Draft) -> (Vec<Worked>, TemperatureCheck) {
    let (probe, reference) = (CLAIM_PROBE.of(&draft.claim_probe), CLAIM_REFERENCE.of(&draft.claim_reference));
    let claims = Claims { probe, reference };
    let worked: Vec<Worked> = draft.pairs.iter().map(|p| work(draft, p)).collect();
    let pairs: Vec<(f64, f64)> = worked.iter().filter_map(|w| w.celsius).collect();
    let (probe, reference): (Vec<f64>, Vec<f64>) = pairs.into_iter().unzip();
    let found = check(&probe, &reference, claims);
    (worked, found)
}

/// What stands for the practice thermometer where a serial is chosen.
const PRACTICE: &str = "practice";

/// A pair as it stands on the page.
fn row(i: usize, pair: &Pair, worked: &Worked) -> Row {
    let says = |name: &str| match &worked.says {
        Some((at, says)) if *at == name => {
            vec![FieldMessage { class: if worked.celsius.is_some() { "weak" } else { "stop" }, says: says.clone() }]
        }
        _ => Vec::new(),
    };
    let at = |name: &str, typed: &Typed| TextField::of(format!("pairs.{i}.{name}"), typed, says(name));
    Row {
        medium: at("medium", &pair.medium),
        probe: at("probe", &pair.probe),
        panel: at("panel", &pair.panel),
        reference: at("reference", &pair.reference),
        celsius: worked.celsius.map(|c| fixed(c.0, 2)).unwrap_or_default(),
        u: if worked.u > 0.0 { format!("± {} (95 %)", fixed(2.0 * worked.u, 2)) } else { String::new() },
        difference: worked.celsius.map(|c| fixed(c.0 - c.1, 2)).unwrap_or_default(),
    }
}

impl Sheet for Draft {
    const KIND: &'static str = "temperature";

    fn title(&self) -> &Typed {
        &self.title
    }

    async fn fresh(state: &State, study: &Study, form: &Sent) -> Result<Self, Problem> {
        let asked = form.iter().find(|f| f.0 == "serial").map_or("", |f| f.1.trim());
        let mediums = ["stirred ice bath", "room", "warm bath"];
        let pair = |i: usize| Pair { medium: mediums.get(i).copied().unwrap_or("").into(), ..Pair::default() };
        let fresh = Self { pairs: (0..ROWS).map(pair).collect(), ..Self::default() };
        if asked == PRACTICE {
            let seed = state.store.sheets(study.id).await?.len() as f64 + 1.0;
            return Ok(Self { title: "Practice thermometer in the bath".into(), practice: seed.into(), ..fresh });
        }
        let against = format!("{asked} against the reference");
        let title = if asked.is_empty() { "Thermometer check" } else { &against };
        Ok(Self { title: title.into(), serial: asked.into(), ..fresh })
    }

    async fn page(&self, around: &SheetContext<'_>) -> Result<HttpResponse, Problem> {
        let (worked, found) = judged(self);
        let rows = self.pairs.iter().zip(&worked).enumerate().map(|(i, (p, w))| row(i, p, w));
        let picture = picture(&worked, &found);
        let points = self.points.iter().enumerate().map(|(i, p)| {
            let at = |name: &str, typed: &Typed| TextField::of(format!("points.{i}.{name}"), typed, Vec::new());
            (at("celsius", &p.celsius), at("ohm", &p.ohm))
        });
        let (u_signal, u_kelvin) = usual_u(&self.signal);
        let correction = correct::Part::of(around, self, &found).await?;
        let shell = around.shell(&self.title).await?;
        page(&SheetPage {
            shell,
            study: around.study.id,
            answer: found.sentence,
            reasons: found.reasons,
            title: TextField::of("title", &self.title, Vec::new()),
            serial: TextField::of("serial", &self.serial, Vec::new()),
            signals: SIGNALS.iter().map(|(c, w)| (*c, *w, *c == &*self.signal)).collect(),
            thermocouple: Thermocouple::from_code(&self.signal).is_some(),
            thermistor: &*self.signal == "thermistor",
            converted: !self.signal.is_blank() && &*self.signal != "degC",
            points: points.collect(),
            known_to: vec![u_signal.field("u_signal", &self.u_signal), u_kelvin.field("u_kelvin", &self.u_kelvin)],
            correction,
            practice: BathPart::of(self),
            claim_probe: CLAIM_PROBE.field("claim_probe", &self.claim_probe),
            claim_reference: CLAIM_REFERENCE.field("claim_reference", &self.claim_reference),
            rows: rows.collect(),
            picture,
        })
    }

    async fn act(&mut self, around: &SheetContext<'_>, action: &str, by: &str) -> Result<(), Problem> {
        match action.split_once(' ').unwrap_or((action, "")) {
            ("add", _) if self.pairs.len() < MOST => self.pairs.push(Pair::default()),
            ("truth", _) if !self.practice.is_blank() => self.revealed = "yes".into(),
            ("bath", asked) => read_bath(self, asked),
            ("correct", _) => correct::make(around, self, by).await?,
            ("withdraw", number) => correct::withdraw(around, number, by).await?,
            ("note", _) => note(around, self, by).await?,
            _ => {}
        }
        Ok(())
    }
}

/// Differences over temperature, in px.
struct Picture {
    dots: Vec<Dot>,
    zero: f64,
    /// The largest difference drawn, K.
    edge: String,
    /// Coldest and warmest, °C.
    ends: (String, String),
    /// The bias and its upper and lower limit of agreement.
    bias: Option<(f64, f64, f64)>,
}

fn picture(worked: &[Worked], found: &TemperatureCheck) -> Picture {
    let pairs: Vec<(f64, f64)> = worked.iter().filter_map(|w| w.celsius).map(|(p, r)| (r, p - r)).collect();
    let (low, high) = pairs.iter().fold((0.0f64, 20.0f64), |(l, h), p| (l.min(p.0), h.max(p.0)));
    let limits = found.agreement.map(|a| a.limits);
    let drawn = pairs.iter().map(|p| p.1.abs()).chain(limits.iter().flat_map(|l| [l.0.abs(), l.1.abs()]));
    let edge = drawn.fold(0.2, f64::max) * 1.15;
    let x = |t: f64| 52.0 + (t - low) / (high - low) * 410.0;
    let y = |d: f64| 100.0 - d / edge * 85.0;
    Picture {
        dots: pairs.iter().map(|p| Dot { x: x(p.0), y: y(p.1) }).collect(),
        zero: y(0.0),
        edge: fixed(edge, 1),
        ends: (fixed(low, 0), fixed(high, 0)),
        bias: found.agreement.map(|a| (y(a.bias), y(a.limits.1), y(a.limits.0))),
    }
}

/// Notes the judgement in the probe's life.
async fn note(around: &SheetContext<'_>, draft: &Draft, by: &str) -> Result<(), Problem> {
    let SheetContext { state, actor, study, .. } = around;
    let (_, found) = judged(draft);
    let probe = state.store.probes().await?.into_iter().find(|p| p.serial.eq_ignore_ascii_case(&draft.serial));
    match (probe, found.agreement) {
        (None, _) => say(actor, "Not noted: no probe of the register has this serial."),
        (Some(_), None) => say(actor, "Not noted: there is nothing to judge by yet."),
        (Some(probe), Some(_)) => {
            let (at, by) = (state.now(study), by.to_owned());
            let event = ProbeEvent { at, kind: EventKind::Checked, note: found.sentence, by };
            state.store.add_probe_event(probe.id, &event).await?;
            say(actor, &format!("The check is noted in the life of {}.", probe.serial))
        }
    }
}
