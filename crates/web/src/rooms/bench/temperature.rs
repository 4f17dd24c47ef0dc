//! A thermometer against a reference, on a sheet kept as typed; and the sun test, from the record itself.

use super::draft::repeats;
use super::sheets::{self, Received, SheetDraft};
use crate::app::App;
use crate::jobs::record::StationRecord;
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
use ebrel_core::planning::Typed;
use ebrel_core::register::EventKind;
use ebrel_core::temperature::{
    Claims, Group, SunPair, SunTest, TemperatureCheck, Thermocouple, check, platinum_temperature, sun_test,
};
use ebrel_core::units::{Quantity, Range, UnixSeconds, read_number};
use ebrel_store::register::ProbeEvent;
use serde::{Deserialize, Serialize};

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/studies/{id}/temperature", web::post().to(begin))
        .service(web::resource("/bench/temperature/{id}").get(show).post(save))
        .route("/stations/{id}/sun-test", web::get().to(sun));
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
    pairs: Vec<Pair>,
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

/// What the probe's readings are in.
const SIGNALS: [(&str, &str); 7] = [
    ("degC", "°C"),
    ("T", "mV of a type T thermocouple"),
    ("K", "mV of a type K thermocouple"),
    ("E", "mV of a type E thermocouple"),
    ("J", "mV of a type J thermocouple"),
    ("pt100", "Ω of platinum, 100 Ω at 0 °C"),
    ("pt1000", "Ω of platinum, 1000 Ω at 0 °C"),
];
const CLAIM: Range = Range { name: "what an instrument claims", unit: "K", min: 0.001, max: 20.0 };
/// What a usual digital probe and a checked reference claim, K.
const USUAL_CLAIMS: (f64, f64) = (0.5, 0.1);
/// Readings of one state that still run further than this are no equilibrium, K.
const DRIFT_K: f64 = 0.1;

/// A row worked out.
struct Worked {
    celsius: Option<(f64, f64)>,
    says: Option<(&'static str, String)>,
}

/// Degrees of a probe's reading in its own signal.
fn degrees(signal: &str, reading: f64, panel: &Typed) -> Result<f64, String> {
    if let Some(kind) = Thermocouple::from_code(signal) {
        let panel = read_number(panel).map_err(|_| {
            "A thermocouple needs the temperature of the panel, where its reference junction is.".to_owned()
        })?;
        let (low, high) = kind.range();
        return kind.temperature(reading, panel).ok_or_else(|| format!("{reading} mV at a panel of {panel} °C lies outside type {signal}, which goes from {low} to {high} °C: is the unit mV, and are the leads the right way round?"));
    }
    let r0 = match signal {
        "pt100" => 100.0,
        "pt1000" => 1000.0,
        _ => return Ok(reading),
    };
    platinum_temperature(r0, reading).ok_or_else(|| {
        format!("{reading} Ω is no temperature of this platinum: a short, an open circuit, or the other nominal value?")
    })
}

fn work(draft: &Draft, pair: &Pair) -> Worked {
    let blank = pair.probe.is_blank() && pair.reference.is_blank();
    let wrong = |field, says: String| Worked { celsius: None, says: (!blank).then_some((field, says)) };
    let (reading, _) = match repeats(&pair.probe) {
        Ok(read) => read,
        Err(says) => return wrong("probe", says),
    };
    let reference = match read_number(&pair.reference) {
        Ok(value) if (-60.0..=150.0).contains(&value) => value,
        Ok(value) => return wrong("reference", format!("{value} °C is no temperature of a bath here.")),
        Err(says) => return wrong("reference", says),
    };
    let probe = match degrees(&draft.signal, reading, &pair.panel) {
        Ok(celsius) => celsius,
        Err(says) => return wrong("probe", says),
    };
    Worked { celsius: Some((probe, reference)), says: drift(draft, pair).map(|says| ("probe", says)) }
}

/// Readings that run one way: the probe has not come to rest.
fn drift(draft: &Draft, pair: &Pair) -> Option<String> {
    let each: Vec<f64> = pair.probe.split_whitespace().filter_map(|p| read_number(p).ok()).collect();
    let celsius: Vec<f64> = each.iter().filter_map(|r| degrees(&draft.signal, *r, &pair.panel).ok()).collect();
    let (first, last) = (celsius.first()?, celsius.last()?);
    let one_way = celsius.windows(2).all(|w| w[1] >= w[0]) || celsius.windows(2).all(|w| w[1] <= w[0]);
    let run = last - first;
    (celsius.len() > 2 && one_way && run.abs() > DRIFT_K).then(|| {
        format!(
            "Still running by {} K over these readings: wait until it rests, long metal and black housings longest.",
            fixed(run, 2)
        )
    })
}

struct Row {
    medium: TextField,
    probe: TextField,
    panel: TextField,
    reference: TextField,
    celsius: String,
    difference: String,
}

/// A pair in the picture.
struct Dot {
    x: f64,
    y: f64,
}

#[derive(Template)]
#[template(path = "rooms/bench/temperature.html")]
struct SheetPage {
    shell: Shell,
    study: i64,
    answer: String,
    reasons: Vec<String>,
    title: TextField,
    serial: TextField,
    signals: Vec<(&'static str, &'static str, bool)>,
    thermocouple: bool,
    claim_probe: TextField,
    claim_reference: TextField,
    rows: Vec<Row>,
    picture: Picture,
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
    let serial = form.0.serial.trim();
    let draft = Draft {
        title: if serial.is_empty() {
            "Thermometer check".into()
        } else {
            format!("{serial} against the reference").as_str().into()
        },
        serial: serial.into(),
        pairs: (0..ROWS).map(pair).collect(),
        ..Draft::default()
    };
    sheets::begin(&app, *id, &draft).await
}

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
            difference: w.celsius.map(|c| fixed(c.0 - c.1, 2)).unwrap_or_default(),
        }
    });
    let picture = picture(&worked, &found);
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
        "note" => {
            let study = app.store.study(sheet.study_id).await?;
            note(&app, &session, &draft, app.now(&study), by).await?;
        }
        _ => {}
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

struct GroupRow {
    name: &'static str,
    days: usize,
    mean: String,
    half: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/sun_test.html")]
struct SunPage {
    shell: Shell,
    station: String,
    answer: String,
    rows: Vec<GroupRow>,
}

async fn sun(app: web::Data<App>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&app.store, *id).await?;
    let test = sun_of(&record);
    let shell = Shell::within(&app, &session, "Sun test", Room::Bench, &record.study, Some(&record.station)).await?;
    let row = |name, group: Option<Group>| {
        group.map(|g| GroupRow { name, days: g.days, mean: fixed(g.mean, 2), half: fixed(g.half_width, 2) })
    };
    let (answer, rows) = match test {
        Err(sentence) => (sentence, Vec::new()),
        Ok(t) => {
            let groups = [
                row("by day, clear days", t.clear),
                row("by day, overcast days", t.overcast),
                row("by day, all days", t.day),
                row("at night", t.night),
            ];
            (t.sentence, groups.into_iter().flatten().collect())
        }
    };
    page(&SunPage { shell, station: record.station.name, answer, rows })
}

/// The sun test of a station's two air thermometers.
fn sun_of(record: &StationRecord) -> Result<SunTest, String> {
    let (Some(latitude), Some(longitude)) = (record.station.latitude, record.station.longitude) else {
        return Err("The station has no latitude and longitude yet: give them at its site in Plan.".into());
    };
    let of = |quantity| record.channels.iter().find(|c| c.quantity() == quantity);
    let (Some(shielded), Some(bare)) = (of(Quantity::AirTemperature), of(Quantity::BareAirTemperature)) else {
        return Err(
            "This test compares a bare air thermometer with a shielded one, and the station does not have both.".into(),
        );
    };
    let (a, b) = (shielded.view(), bare.view());
    let mut pairs = Vec::new();
    let mut j = 0;
    for (i, t) in a.times.iter().enumerate() {
        while j < b.times.len() && b.times[j] < *t {
            j += 1;
        }
        if b.times.get(j) == Some(t) && a.values[i].is_finite() && b.values[j].is_finite() {
            pairs.push(SunPair { at: UnixSeconds(*t), shielded: a.values[i], bare: b.values[j] });
        }
    }
    Ok(sun_test(&pairs, latitude, longitude))
}
