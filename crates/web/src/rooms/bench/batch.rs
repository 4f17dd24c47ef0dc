//! A batch of probes side by side in one medium: accept, watch, reject.

use super::draft::repeats;
use super::sheets::{self, Received, SheetDraft};
use crate::app::App;
use crate::rooms::plan::station::Said;
use crate::rooms::plan::station::fields::TextField;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, signed};
use crate::shell::guard::{CheckedForm, NoFields};
use crate::shell::sign_in::acting;
use crate::shell::{Room, Shell, page, say, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::batch::{Batch, FEWEST, side_by_side};
use ebrel_core::planning::Typed;
use ebrel_core::register::EventKind;
use ebrel_core::units::Range;
use ebrel_store::register::{BenchSheet, ProbeEvent};
use serde::{Deserialize, Serialize};

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/studies/{id}/batch", web::post().to(begin))
        .service(web::resource("/bench/batch/{id}").get(show).post(save));
}

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Draft {
    title: Typed,
    medium: Typed,
    unit: Typed,
    tolerance: Typed,
    list: Typed,
}

impl SheetDraft for Draft {
    const KIND: &'static str = "batch";

    fn title(&self) -> &Typed {
        &self.title
    }
}

const TOLERANCE: Range = Range { name: "tolerance", unit: "in the unit of the readings", min: 1e-9, max: 1e9 };
/// A usual tolerance of analog dielectric probes in mV.
const USUAL_TOLERANCE: f64 = 20.0;

/// The list as read: serials with their readings, and what could not be read, by line.
struct Read {
    serials: Vec<String>,
    readings: Vec<f64>,
    wrong: Vec<Said>,
}

fn read(draft: &Draft) -> Read {
    let mut read = Read { serials: Vec::new(), readings: Vec::new(), wrong: Vec::new() };
    for (i, line) in draft.list.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
        // A comma comes last: it may be the decimal sign of the reading.
        let line = line.trim();
        let parts = line.split_once(['\t', ';']).or_else(|| line.split_once(' ')).or_else(|| line.split_once(','));
        let reading = parts.map(|(serial, rest)| (serial.trim().trim_end_matches(',').to_owned(), repeats(rest)));
        let wrong = match reading {
            Some((serial, _)) if read.serials.contains(&serial) => {
                format!("line {}: {serial} stands there twice", i + 1)
            }
            Some((serial, Ok((value, _)))) => {
                read.serials.push(serial);
                read.readings.push(value);
                continue;
            }
            Some((_, Err(says))) => format!("line {}: {says}", i + 1),
            None => format!("line {}: give a serial and a reading, parted by a semicolon", i + 1),
        };
        read.wrong.push(Said { class: "stop", says: wrong });
    }
    read
}

fn judge(draft: &Draft, read: &Read) -> Option<Batch> {
    let tolerance = draft.tolerance.number_in(TOLERANCE).unwrap_or(USUAL_TOLERANCE);
    side_by_side(&read.readings, tolerance)
}

fn answer(draft: &Draft, read: &Read, batch: Option<&Batch>) -> String {
    let Some(batch) = batch else {
        return format!(
            "{} of at least {FEWEST} probes: below that there is no middle to be odd against.",
            read.readings.len()
        );
    };
    let unit = &*draft.unit;
    let odd: Vec<String> = (batch.members.iter().zip(&read.serials))
        .filter(|(m, _)| m.verdict == EventKind::Rejected)
        .map(|(m, s)| {
            format!(
                "{s} ({} {unit}{})",
                signed(m.off, 1),
                m.z.map(|z| format!(", z {}", fixed(z, 1))).unwrap_or_default()
            )
        })
        .collect();
    let spread = format!("{} probes spread over {} {unit}", batch.members.len(), fixed(batch.spread, 1));
    match (&odd[..], batch.members.iter().filter(|m| m.verdict == EventKind::Watched).count()) {
        ([], 0) => format!("{spread}; all stand within the tolerance."),
        ([], n) => format!("{spread}; {n} to be watched, none is odd."),
        (odd, _) => format!("{spread}; the odd one out: {}.", odd.join(", ")),
    }
}

struct Row {
    serial: String,
    reading: String,
    off: String,
    z: String,
    verdict: &'static str,
    rejected: bool,
    x: f64,
}

#[derive(Template)]
#[template(path = "rooms/bench/batch.html")]
struct BatchPage {
    shell: Shell,
    study: i64,
    answer: String,
    title: TextField,
    medium: TextField,
    unit: TextField,
    tolerance: TextField,
    list: TextField,
    rows: Vec<Row>,
    band: (f64, f64),
}

async fn begin(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    _form: CheckedForm<NoFields>,
) -> Result<HttpResponse, Problem> {
    acting(&app, &session)?;
    let draft = Draft {
        title: "Batch side by side".into(),
        medium: "moist sand, well mixed".into(),
        unit: "mV".into(),
        ..Draft::default()
    };
    sheets::begin(&app, *id, &draft).await
}

async fn show(app: web::Data<App>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let (sheet, draft) = sheets::load::<Draft>(&app, *id).await?;
    let study = app.store.study(sheet.study_id).await?;
    let read = read(&draft);
    let batch = judge(&draft, &read);
    let tolerance_says = match draft.tolerance.optional_in(TOLERANCE) {
        Err(says) => vec![Said { class: "stop", says: format!("{says}. Reckoned with {USUAL_TOLERANCE} meanwhile.") }],
        Ok(_) => Vec::new(),
    };
    let tolerance = draft.tolerance.number_in(TOLERANCE).unwrap_or(USUAL_TOLERANCE);
    let (mut rows, mut band) = (Vec::new(), (0.0, 0.0));
    if let Some(batch) = &batch {
        let widest = batch.members.iter().map(|m| m.off.abs()).fold(tolerance * 1.5, f64::max) * 1.1;
        let x = |off: f64| 240.0 + off / widest * 215.0;
        band = (x(-tolerance), x(tolerance));
        rows = (batch.members.iter().zip(&read.serials))
            .map(|(m, serial)| Row {
                serial: serial.clone(),
                reading: fixed(m.reading, 1),
                off: signed(m.off, 1),
                z: m.z.map(|z| fixed(z, 1)).unwrap_or_default(),
                verdict: m.verdict.words(),
                rejected: m.verdict == EventKind::Rejected,
                x: x(m.off),
            })
            .collect();
    }
    let shell = Shell::within(&app, &session, &draft.title, Room::Bench, &study, None).await?;
    page(&BatchPage {
        shell,
        study: study.id,
        answer: answer(&draft, &read, batch.as_ref()),
        title: TextField::of("title", &draft.title, Vec::new()),
        medium: TextField::of("medium", &draft.medium, Vec::new()),
        unit: TextField::of("unit", &draft.unit, Vec::new()),
        tolerance: TextField::of("tolerance", &draft.tolerance, tolerance_says),
        list: TextField::of("list", &draft.list, read.wrong),
        rows,
        band,
    })
}

async fn save(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<Vec<(String, String)>>,
) -> Result<HttpResponse, Problem> {
    let Received { sheet, draft, by, action, live } = sheets::receive::<Draft>(&app, &session, *id, &form.0).await?;
    if action == "note" {
        note(&app, &session, &sheet, &draft, by).await?;
    }
    if live { show(app, session, id).await } else { Ok(see_other(&format!("/bench/batch/{}", *id))) }
}

/// Writes each verdict into its probe's life.
async fn note(app: &App, session: &Session, sheet: &BenchSheet, draft: &Draft, by: String) -> Result<(), Problem> {
    let read = read(draft);
    let Some(batch) = judge(draft, &read) else {
        return say(session, "Not noted: there is nothing to judge by yet.");
    };
    let at = app.now(&app.store.study(sheet.study_id).await?);
    let probes = app.store.probes().await?;
    let (mut noted, mut unknown) = (0, Vec::new());
    for (member, serial) in batch.members.iter().zip(&read.serials) {
        let Some(probe) = probes.iter().find(|p| p.serial.eq_ignore_ascii_case(serial)) else {
            unknown.push(serial.as_str());
            continue;
        };
        let note = format!(
            "side by side in {}: {} {} off the median of {}",
            &*draft.medium,
            signed(member.off, 1),
            &*draft.unit,
            batch.members.len()
        );
        app.store.add_probe_event(probe.id, &ProbeEvent { at, kind: member.verdict, note, by: by.clone() }).await?;
        noted += 1;
    }
    let rest =
        if unknown.is_empty() { String::new() } else { format!(" Not in the register: {}.", unknown.join(", ")) };
    say(session, &format!("The verdict is noted in the life of {noted} probes.{rest}"))
}
