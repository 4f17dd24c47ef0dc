//! A thermometer against a reference, on a sheet kept as typed; corrections that follow from it; the bath to practise on.

mod convert;
mod correct;
mod sun;

use super::sheets::{self, Received, SheetDraft};
use crate::app::App;
use crate::rooms::plan::station::Said;
use crate::rooms::plan::station::edit::MOST;
use crate::rooms::plan::station::fields::TextField;
use crate::shell::errors::Problem;
use crate::shell::figures::fixed;
use crate::shell::guard::CheckedForm;
use crate::shell::sign_in::acting;
use crate::shell::{Room, Shell, page, say, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use convert::{SIGNALS, Worked, usual_u, work};
pub use correct::correction_words;
use ebrel_core::planning::Typed;
use ebrel_core::register::EventKind;
use ebrel_core::temperature::{Claims, TemperatureCheck, Thermocouple, check};
use ebrel_core::units::{Range, UnixSeconds};
use ebrel_simulator::{PracticeThermometer, SETTINGS_C};
use ebrel_store::register::ProbeEvent;
use serde::{Deserialize, Serialize};

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/studies/{id}/temperature", web::post().to(begin))
        .service(web::resource("/bench/temperature/{id}").get(show).post(save))
        .route("/stations/{id}/sun-test", web::get().to(sun::sun));
}

/// Rows that a new sheet offers: ice, room, warm, and two more.
const ROWS: usize = 5;

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Draft {
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

impl SheetDraft for Draft {
    const KIND: &'static str = "temperature";

    fn title(&self) -> &Typed {
        &self.title
    }
}

const CLAIM: Range = Range { name: "what an instrument claims", unit: "K", min: 0.001, max: 20.0 };
/// What a usual digital probe and a checked reference claim, K.
const USUAL_CLAIMS: (f64, f64) = (0.5, 0.1);
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
    u_signal: TextField,
    u_kelvin: TextField,
    usual_u: (f64, f64, &'static str),
    correction: correct::Part,
    practice: Option<BathPart>,
    claim_probe: TextField,
    claim_reference: TextField,
    rows: Vec<Row>,
    picture: Picture,
}

fn range_says(typed: &Typed, range: Range) -> Option<String> {
    typed.optional_in(range).err().map(|says| format!("{says}. The usual value stands in."))
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

fn claims(draft: &Draft) -> (Claims, [Option<String>; 2]) {
    let read = |typed: &Typed, usual: f64| match typed.optional_in(CLAIM) {
        Ok(value) => (value.unwrap_or(usual), None),
        Err(says) => (usual, Some(format!("{says}. Reckoned with {usual} K meanwhile."))),
    };
    let (probe, a) = read(&draft.claim_probe, USUAL_CLAIMS.0);
    let (reference, b) = read(&draft.claim_reference, USUAL_CLAIMS.1);
    (Claims { probe, reference }, [a, b])
}

fn judged(draft: &Draft) -> (Vec<Worked>, TemperatureCheck) {
    let worked: Vec<Worked> = draft.pairs.iter().map(|p| work(draft, p)).collect();
    let pairs: Vec<(f64, f64)> = worked.iter().filter_map(|w| w.celsius).collect();
    let (probe, reference): (Vec<f64>, Vec<f64>) = pairs.into_iter().unzip();
    let found = check(&probe, &reference, claims(draft).0);
    (worked, found)
}

async fn begin(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<Begin>,
) -> Result<HttpResponse, Problem> {
    acting(&app, &session)?;
    let mediums = ["stirred ice bath", "room", "warm bath"];
    let pair = |i: usize| Pair { medium: mediums.get(i).copied().unwrap_or("").into(), ..Pair::default() };
    let practice = form.0.serial == PRACTICE;
    let serial = if practice { "" } else { form.0.serial.trim() };
    let draft = Draft {
        title: if practice {
            "Practice thermometer in the bath".into()
        } else if serial.is_empty() {
            "Thermometer check".into()
        } else {
            format!("{serial} against the reference").as_str().into()
        },
        serial: serial.into(),
        practice: if practice { (app.store.sheets(*id).await?.len() as f64 + 1.0).into() } else { Typed::default() },
        pairs: (0..ROWS).map(pair).collect(),
        ..Draft::default()
    };
    sheets::begin(&app, *id, &draft).await
}

/// What stands for the practice thermometer where a serial is chosen.
const PRACTICE: &str = "practice";

#[derive(Deserialize)]
struct Begin {
    #[serde(default)]
    serial: String,
}

async fn show(app: web::Data<App>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let (sheet, draft) = sheets::load::<Draft>(&app, *id).await?;
    let study = app.store.study(sheet.study_id).await?;
    let (worked, found) = judged(&draft);
    let (_, claim_says) = claims(&draft);
    let stop = |says: Option<String>| says.map(|says| Said { class: "stop", says }).into_iter().collect::<Vec<_>>();
    let rows = draft.pairs.iter().zip(&worked).enumerate().map(|(i, (p, w))| {
        let says = |name: &str| match &w.says {
            Some((at, says)) if *at == name => {
                vec![Said { class: if w.celsius.is_some() { "weak" } else { "stop" }, says: says.clone() }]
            }
            _ => Vec::new(),
        };
        let at = |name: &str, typed: &Typed| TextField::of(format!("pairs.{i}.{name}"), typed, says(name));
        Row {
            medium: at("medium", &p.medium),
            probe: at("probe", &p.probe),
            panel: at("panel", &p.panel),
            reference: at("reference", &p.reference),
            celsius: w.celsius.map(|c| fixed(c.0, 2)).unwrap_or_default(),
            u: if w.u > 0.0 { format!("± {}", fixed(w.u, 2)) } else { String::new() },
            difference: w.celsius.map(|c| fixed(c.0 - c.1, 2)).unwrap_or_default(),
        }
    });
    let picture = picture(&worked, &found);
    let points = draft.points.iter().enumerate().map(|(i, p)| {
        let at = |name: &str, typed: &Typed| TextField::of(format!("points.{i}.{name}"), typed, Vec::new());
        (at("celsius", &p.celsius), at("ohm", &p.ohm))
    });
    let correction = correct::Part::of(&app, &study, &draft, &found).await?;
    let shell = Shell::within(&app, &session, &draft.title, Room::Bench, &study, None).await?;
    page(&SheetPage {
        shell,
        study: study.id,
        answer: found.sentence,
        reasons: found.reasons,
        title: TextField::of("title", &draft.title, Vec::new()),
        serial: TextField::of("serial", &draft.serial, Vec::new()),
        signals: SIGNALS.iter().map(|(c, w)| (*c, *w, *c == &*draft.signal)).collect(),
        thermocouple: Thermocouple::from_code(&draft.signal).is_some(),
        thermistor: &*draft.signal == "thermistor",
        converted: !draft.signal.is_blank() && &*draft.signal != "degC",
        points: points.collect(),
        u_signal: TextField::of("u_signal", &draft.u_signal, stop(range_says(&draft.u_signal, convert::U_SIGNAL))),
        u_kelvin: TextField::of("u_kelvin", &draft.u_kelvin, stop(range_says(&draft.u_kelvin, convert::U_KELVIN))),
        usual_u: usual_u(&draft.signal),
        correction,
        practice: BathPart::of(&draft),
        claim_probe: TextField::of("claim_probe", &draft.claim_probe, stop(claim_says[0].clone())),
        claim_reference: TextField::of("claim_reference", &draft.claim_reference, stop(claim_says[1].clone())),
        rows: rows.collect(),
        picture,
    })
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

async fn save(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<Vec<(String, String)>>,
) -> Result<HttpResponse, Problem> {
    let Received { sheet, mut draft, by, action, live } =
        sheets::receive::<Draft>(&app, &session, *id, &form.0).await?;
    match action.as_str() {
        "add" if draft.pairs.len() < MOST => {
            draft.pairs.push(Pair::default());
            sheets::keep(&app, &sheet, &draft).await?;
        }
        "truth" if !draft.practice.is_blank() => {
            draft.revealed = "yes".into();
            sheets::keep(&app, &sheet, &draft).await?;
        }
        "correct" => {
            let study = app.store.study(sheet.study_id).await?;
            correct::make(&app, &session, &study, &sheet, &draft, by).await?;
        }
        "note" => {
            let study = app.store.study(sheet.study_id).await?;
            note(&app, &session, &draft, app.now(&study), by).await?;
        }
        other => match other.split_once(' ') {
            Some(("bath", asked)) => {
                read_bath(&mut draft, asked);
                sheets::keep(&app, &sheet, &draft).await?;
            }
            Some(("withdraw", number)) => {
                let study = app.store.study(sheet.study_id).await?;
                correct::withdraw(&app, &session, &study, number, by).await?;
            }
            _ => {}
        },
    }
    if live { show(app, session, id).await } else { Ok(see_other(&format!("/bench/temperature/{}", *id))) }
}

/// Notes the judgement in the probe's life.
async fn note(app: &App, session: &Session, draft: &Draft, at: UnixSeconds, by: String) -> Result<(), Problem> {
    let (_, found) = judged(draft);
    let probe = app.store.probes().await?.into_iter().find(|p| p.serial.eq_ignore_ascii_case(&draft.serial));
    match (probe, found.agreement) {
        (None, _) => say(session, "Not noted: no probe of the register has this serial."),
        (Some(_), None) => say(session, "Not noted: there is nothing to judge by yet."),
        (Some(probe), Some(_)) => {
            let event = ProbeEvent { at, kind: EventKind::Checked, note: found.sentence, by };
            app.store.add_probe_event(probe.id, &event).await?;
            say(session, &format!("The check is noted in the life of {}.", probe.serial))
        }
    }
}
