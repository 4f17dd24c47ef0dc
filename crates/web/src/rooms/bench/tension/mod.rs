//! Tension probes: one read by hand (resistance from both polarities, kilopascal, and what that means in the soil); blocks
//! soaked before use; a block against a reference in a drying pot.

mod block;
mod soaking;

use super::sheets::{self, NumberField, NumberSpec, Sent, Sheet, SheetContext, read_lines};
use crate::components::fields::FieldMessage;
use crate::components::fields::TextField;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, grouped};
use crate::shell::routes::Routes;
use crate::shell::{Shell, page};
use crate::state::State;
use actix_web::HttpResponse;
use askama::Template;
use ebrel_core::planning::Typed;
use ebrel_core::tension::{BlockReading, HalfBridge, MATRIX_RANGE_KPA, matrix_tension, reading_guide};
use ebrel_core::units::{Range, read_number};
use ebrel_store::studies::Study;
use serde::{Deserialize, Serialize};

pub fn routes(routes: &mut Routes<'_>) {
    sheets::routes::<Draft>(routes);
    sheets::routes::<soaking::Draft>(routes);
    sheets::routes::<block::Draft>(routes);
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

const DRIVE: NumberSpec = NumberSpec {
    range: Range { name: "drive", unit: "V", min: 0.01, max: 24.0 },
    value: 2.5,
    source: "a usual excitation",
};
const FIXED: NumberSpec = NumberSpec {
    range: Range { name: "fixed resistor", unit: "Ω", min: 1.0, max: 1e7 },
    value: 7870.0,
    source: "near the probe's own resistance at field capacity",
};
const CELSIUS: NumberSpec = NumberSpec {
    range: Range { name: "soil temperature", unit: "°C", min: -5.0, max: 50.0 },
    value: 20.0,
    source: "measure it beside the probe",
};

struct PulseRow {
    positive: String,
    negative: String,
    ohm: String,
    galvanic: String,
    says: String,
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

/// Pulses of the list, each a voltage under positive and one under negative drive; and what could not be read.
fn pulses(draft: &Draft) -> (Vec<(f64, f64)>, Vec<FieldMessage>) {
    read_lines(&draft.list, |line| {
        let parts: Vec<&str> = line.split(['\t', ';', ' ']).filter(|p| !p.is_empty()).collect();
        match parts[..] {
            [positive, negative] => Ok((read_number(positive)?, read_number(negative)?)),
            _ => Err("two voltages, under positive and under negative drive.".to_owned()),
        }
    })
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
    let celsius = CELSIUS.of(&draft.celsius);
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

impl Sheet for Draft {
    const KIND: &'static str = "tension";

    fn title(&self) -> &Typed {
        &self.title
    }

    async fn fresh(_app: &State, _study: &Study, _form: &Sent) -> Result<Self, Problem> {
        Ok(Self { title: "Tension probe, read by hand".into(), texture: "silt loam".into(), ..Self::default() })
    }

    async fn page(&self, around: &SheetContext<'_>) -> Result<HttpResponse, Problem> {
        let bridge = HalfBridge { drive_v: DRIVE.of(&self.drive_v), fixed_ohm: FIXED.of(&self.fixed_ohm) };
        let (pairs, wrong) = pulses(self);
        let (answer, means) = answer(self, &pairs, &bridge);
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
        let shell = around.shell(&self.title).await?;
        page(&TensionPage {
            shell,
            study: around.study.id,
            answer,
            means,
            title: TextField::of("title", &self.title, Vec::new()),
            serial: TextField::of("serial", &self.serial, Vec::new()),
            texture: TextField::of("texture", &self.texture, Vec::new()),
            numbers: vec![
                DRIVE.field("drive_v", &self.drive_v),
                FIXED.field("fixed_ohm", &self.fixed_ohm),
                CELSIUS.field("celsius", &self.celsius),
            ],
            list: TextField::of("list", &self.list, wrong),
            pulses: each.collect(),
        })
    }

    async fn act(&mut self, _around: &SheetContext<'_>, _action: &str, _by: &str) -> Result<(), Problem> {
        Ok(())
    }
}
