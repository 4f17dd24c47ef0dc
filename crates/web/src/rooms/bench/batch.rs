//! A batch of probes side by side in one medium: accept, watch, reject.

use super::sheets::{self, NumberField, NumberSpec, Sent, Sheet, SheetContext, read_lines};
use crate::components::fields::FieldMessage;
use crate::components::fields::TextField;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, signed};
use crate::shell::routes::Routes;
use crate::shell::{Shell, page, say};
use crate::state::State;
use actix_web::HttpResponse;
use askama::Template;
use ebrel_core::batch::{Batch, FEWEST, Member, side_by_side};
use ebrel_core::bench::repeats;
use ebrel_core::planning::Typed;
use ebrel_core::register::EventKind;
use ebrel_core::units::Range;
use ebrel_store::register::ProbeEvent;
use ebrel_store::studies::Study;
use serde::{Deserialize, Serialize};

pub fn routes(routes: &mut Routes<'_>) {
    sheets::routes::<Draft>(routes);
}

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Draft {
    title: Typed,
    medium: Typed,
    unit: Typed,
    tolerance: Typed,
    list: Typed,
}

const TOLERANCE: NumberSpec = NumberSpec {
    range: Range { name: "tolerance", unit: "in the unit of the readings", min: 1e-9, max: 1e9 },
    value: 20.0,
    source: "usual for analog dielectric probes in mV; see your model's sheet",
};

/// The list as read: serials with their readings, and what could not be read, by line.
struct Read {
    serials: Vec<String>,
    readings: Vec<f64>,
    wrong: Vec<FieldMessage>,
}

fn read(draft: &Draft) -> Read {
    let mut known: Vec<String> = Vec::new();
    let (all, wrong) = read_lines(&draft.list, |line| {
        // A comma comes last: it may be the decimal sign of the reading.
        let parts = line.split_once(['\t', ';']).or_else(|| line.split_once(' ')).or_else(|| line.split_once(','));
        let (serial, rest) = parts.ok_or("give a serial and a reading, parted by a semicolon")?;
        let serial = serial.trim().trim_end_matches(',').to_owned();
        if known.contains(&serial) {
            return Err(format!("{serial} stands there twice"));
        }
        let (reading, _) = repeats(rest)?;
        known.push(serial.clone());
        Ok((serial, reading))
    });
    let (serials, readings) = all.into_iter().unzip();
    Read { serials, readings, wrong }
}

fn judge(draft: &Draft, read: &Read) -> Option<Batch> {
    side_by_side(&read.readings, TOLERANCE.of(&draft.tolerance))
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
    tolerance: NumberField,
    list: TextField,
    rows: Vec<Row>,
    band: (f64, f64),
}

impl Sheet for Draft {
    const KIND: &'static str = "batch";

    fn title(&self) -> &Typed {
        &self.title
    }

    async fn fresh(_app: &State, _study: &Study, _form: &Sent) -> Result<Self, Problem> {
        let (title, medium, unit) = ("Batch side by side".into(), "moist sand, well mixed".into(), "mV".into());
        Ok(Self { title, medium, unit, ..Self::default() })
    }

    async fn page(&self, around: &SheetContext<'_>) -> Result<HttpResponse, Problem> {
        let read = read(self);
        let batch = judge(self, &read);
        let tolerance = TOLERANCE.of(&self.tolerance);
        let (mut rows, mut band) = (Vec::new(), (0.0, 0.0));
        if let Some(batch) = &batch {
            let widest = batch.members.iter().map(|m| m.off.abs()).fold(tolerance * 1.5, f64::max) * 1.1;
            let x = |off: f64| 240.0 + off / widest * 215.0;
            band = (x(-tolerance), x(tolerance));
            let row = |(m, serial): (&Member, &String)| Row {
                serial: serial.clone(),
                reading: fixed(m.reading, 1),
                off: signed(m.off, 1),
                z: m.z.map(|z| fixed(z, 1)).unwrap_or_default(),
                verdict: m.verdict.words(),
                rejected: m.verdict == EventKind::Rejected,
                x: x(m.off),
            };
            rows = batch.members.iter().zip(&read.serials).map(row).collect();
        }
        let shell = around.shell(&self.title).await?;
        page(&BatchPage {
            shell,
            study: around.study.id,
            answer: answer(self, &read, batch.as_ref()),
            title: TextField::of("title", &self.title, Vec::new()),
            medium: TextField::of("medium", &self.medium, Vec::new()),
            unit: TextField::of("unit", &self.unit, Vec::new()),
            tolerance: TOLERANCE.field("tolerance", &self.tolerance),
            list: TextField::of("list", &self.list, read.wrong),
            rows,
            band,
        })
    }

    async fn act(&mut self, around: &SheetContext<'_>, action: &str, by: &str) -> Result<(), Problem> {
        if action == "note" { note(around, self, by).await } else { Ok(()) }
    }
}

/// Writes each verdict into its probe's life.
async fn note(around: &SheetContext<'_>, draft: &Draft, by: &str) -> Result<(), Problem> {
    let SheetContext { state, actor, study, .. } = around;
    let read = read(draft);
    let Some(batch) = judge(draft, &read) else {
        return say(actor, "Not noted: there is nothing to judge by yet.");
    };
    let at = state.now(study);
    let probes = state.store.probes().await?;
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
        state
            .store
            .add_probe_event(probe.id, &ProbeEvent { at, kind: member.verdict, note, by: by.to_owned() })
            .await?;
        noted += 1;
    }
    let rest =
        if unknown.is_empty() { String::new() } else { format!(" Not in the register: {}.", unknown.join(", ")) };
    say(actor, &format!("The verdict is noted in the life of {noted} probes.{rest}"))
}
