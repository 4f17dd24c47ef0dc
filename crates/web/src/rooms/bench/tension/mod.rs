//! Tension probes: one read by hand (resistance from both polarities, kilopascal, and what that means in the soil); blocks
//! soaked before use; a block against a reference in a drying pot.

mod block;
mod soaking;

use super::sheets::{self, SheetDraft};
use crate::app::App;
use crate::rooms::plan::station::Said;
use crate::rooms::plan::station::fields::TextField;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, grouped};
use crate::shell::guard::{CheckedForm, NoFields};
use crate::shell::sign_in::acting;
use crate::shell::{Room, Shell, page, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::planning::Typed;
use ebrel_core::tension::{BlockReading, HalfBridge, MATRIX_RANGE_KPA, matrix_tension, reading_guide};
use ebrel_core::units::{Range, read_number};
use serde::{Deserialize, Serialize};

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/studies/{id}/tension", web::post().to(begin))
        .service(web::resource("/bench/tension/{id}").get(show).post(save));
    soaking::routes(config);
    block::routes(config);
}

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Draft {
    title: Typed,
    serial: Typed,
    drive_v: Typed,
    fixed_ohm: Typed,
    celsius: Typed,
    texture: Typed,
    list: Typed,
}

impl SheetDraft for Draft {
    const KIND: &'static str = "tension";

    fn title(&self) -> &Typed {
        &self.title
    }
}

/// Numbers of a sheet: path, range, usual value and where that comes from.
const NUMBERS: [(&str, Range, f64, &str); 3] = [
    ("drive_v", Range { name: "drive", unit: "V", min: 0.01, max: 24.0 }, 2.5, "a usual excitation"),
    (
        "fixed_ohm",
        Range { name: "fixed resistor", unit: "Ω", min: 1.0, max: 1e7 },
        7870.0,
        "near the probe's own resistance at field capacity",
    ),
    (
        "celsius",
        Range { name: "soil temperature", unit: "°C", min: -5.0, max: 50.0 },
        20.0,
        "measure it beside the probe",
    ),
];

impl Draft {
    fn number(&self, path: &str) -> &Typed {
        match path {
            "drive_v" => &self.drive_v,
            "fixed_ohm" => &self.fixed_ohm,
            _ => &self.celsius,
        }
    }

    fn value(&self, which: usize) -> f64 {
        let (path, range, usual, _) = NUMBERS[which];
        self.number(path).optional_in(range).ok().flatten().unwrap_or(usual)
    }
}

struct PulseRow {
    positive: String,
    negative: String,
    ohm: String,
    galvanic: String,
    says: String,
}

struct NumberField {
    field: TextField,
    name: &'static str,
    unit: &'static str,
    usual: f64,
    source: &'static str,
}

#[derive(Template)]
#[template(path = "rooms/bench/tension/tension.html")]
struct TensionPage {
    shell: Shell,
    study: i64,
    answer: String,
    means: String,
    title: TextField,
    serial: TextField,
    texture: TextField,
    numbers: Vec<NumberField>,
    list: TextField,
    pulses: Vec<PulseRow>,
}

async fn begin(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    _form: CheckedForm<NoFields>,
) -> Result<HttpResponse, Problem> {
    acting(&app, &session)?;
    let draft = Draft { title: "Tension probe, read by hand".into(), texture: "silt loam".into(), ..Draft::default() };
    sheets::begin(&app, *id, &draft).await
}

/// Pulses of the list, each a voltage under positive and one under negative drive; and what could not be read.
fn pulses(draft: &Draft) -> (Vec<(f64, f64)>, Vec<Said>) {
    let (mut pairs, mut wrong) = (Vec::new(), Vec::new());
    for (i, line) in draft.list.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
        let parts: Vec<&str> = line.split(['\t', ';', ' ']).filter(|p| !p.is_empty()).collect();
        match parts[..] {
            [positive, negative] => match (read_number(positive), read_number(negative)) {
                (Ok(p), Ok(n)) => pairs.push((p, n)),
                (Err(says), _) | (_, Err(says)) => {
                    wrong.push(Said { class: "stop", says: format!("Line {}: {says}", i + 1) })
                }
            },
            _ => wrong.push(Said {
                class: "stop",
                says: format!("Line {}: two voltages, under positive and under negative drive.", i + 1),
            }),
        }
    }
    (pairs, wrong)
}

fn answer(draft: &Draft, pairs: &[(f64, f64)], bridge: &HalfBridge) -> (String, String) {
    if pairs.is_empty() {
        return (
            "Type the midpoint's voltage under positive and under negative drive, a pulse a line.".into(),
            String::new(),
        );
    }
    let BlockReading { ohm, galvanic_v } = match bridge.read_repeated(pairs) {
        Ok(reading) => reading,
        Err(error) => return (format!("No resistance: {error}."), String::new()),
    };
    let celsius = draft.value(2);
    let read = format!(
        "{} Ω, with {} mV between its electrodes cancelled",
        grouped(ohm.round() as usize),
        fixed(galvanic_v * 1000.0, 1)
    );
    let Some(kilopascal) = matrix_tension(ohm / 1000.0, celsius) else {
        return (
            format!("{read}: drier than the published curve can tell at {} °C.", fixed(celsius, 0)),
            String::new(),
        );
    };
    let (low, high) = MATRIX_RANGE_KPA;
    let beyond = if (low..=high).contains(&kilopascal) {
        ""
    } else {
        "; outside the 10 to 100 kPa of the curve, an extrapolation"
    };
    let means = format!("In {}: {}.", &*draft.texture, reading_guide(&draft.texture.to_lowercase(), kilopascal));
    (format!("{} kPa at {} °C: {read}{beyond}.", fixed(kilopascal, 0), fixed(celsius, 0)), means)
}

async fn show(app: web::Data<App>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let (sheet, draft) = sheets::load::<Draft>(&app, *id).await?;
    let study = app.store.study(sheet.study_id).await?;
    let bridge = HalfBridge { drive_v: draft.value(0), fixed_ohm: draft.value(1) };
    let (pairs, wrong) = pulses(&draft);
    let (answer, means) = answer(&draft, &pairs, &bridge);
    let each = pairs.iter().map(|(p, n)| {
        let read = bridge.read(*p, *n);
        PulseRow {
            positive: fixed(*p, 4),
            negative: fixed(*n, 4),
            ohm: read.as_ref().map(|r| grouped(r.ohm.round() as usize)).unwrap_or_default(),
            galvanic: read.as_ref().map(|r| fixed(r.galvanic_v * 1000.0, 1)).unwrap_or_default(),
            says: read.err().map(|e| e.to_string()).unwrap_or_default(),
        }
    });
    let numbers = NUMBERS.iter().map(|(path, range, usual, source)| {
        let typed = draft.number(path);
        let says = typed
            .optional_in(*range)
            .err()
            .map(|says| Said { class: "stop", says: format!("{says}. Reckoned with {usual} meanwhile.") });
        NumberField {
            field: TextField::of(*path, typed, says.into_iter().collect()),
            name: range.name,
            unit: range.unit,
            usual: *usual,
            source,
        }
    });
    let shell = Shell::within(&app, &session, &draft.title, Room::Bench, &study, None).await?;
    page(&TensionPage {
        shell,
        study: study.id,
        answer,
        means,
        title: TextField::of("title", &draft.title, Vec::new()),
        serial: TextField::of("serial", &draft.serial, Vec::new()),
        texture: TextField::of("texture", &draft.texture, Vec::new()),
        numbers: numbers.collect(),
        list: TextField::of("list", &draft.list, wrong),
        pulses: each.collect(),
    })
}

async fn save(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<Vec<(String, String)>>,
) -> Result<HttpResponse, Problem> {
    let received = sheets::receive::<Draft>(&app, &session, *id, &form.0).await?;
    if received.live { show(app, session, id).await } else { Ok(see_other(&format!("/bench/tension/{}", *id))) }
}
