//! An own-made block against a reference in a drying pot: where it responds, its curve, its lag, and the refill point.

use crate::components::fields::FieldMessage;
use crate::components::fields::TextField;
use crate::rooms::bench::sheets::{NumberField, NumberSpec, Sent, Sheet, SheetContext, read_lines};
use crate::shell::errors::Problem;
use crate::shell::figures::fixed;
use crate::shell::{Shell, page};
use crate::state::State;
use actix_web::HttpResponse;
use askama::Template;
use ebrel_core::planning::Typed;
use ebrel_core::tension::{BlockResponse, PotReading, ResponseError, block_response};
use ebrel_core::units::{Range, read_number};
use ebrel_store::studies::Study;
use serde::{Deserialize, Serialize};

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Draft {
    title: Typed,
    block: Typed,
    reference: Typed,
    refill: Typed,
    list: Typed,
}

const REFILL: NumberSpec = NumberSpec {
    range: Range { name: "refill point", unit: "kPa", min: 1.0, max: 1500.0 },
    value: 60.0,
    source: "usual in loams; sand sooner, clay later",
};

/// Looks at the pot, in order of time, and what could not be read.
fn looks(draft: &Draft) -> (Vec<PotReading>, Vec<FieldMessage>) {
    let (mut all, wrong) = read_lines(&draft.list, |line| {
        let numbers: Result<Vec<f64>, String> =
            line.split([';', '\t', ' ']).filter(|p| !p.is_empty()).map(read_number).collect();
        match numbers?[..] {
            [hours, kilo_ohm, kilopascal] if kilo_ohm > 0.0 && kilopascal > 0.0 => {
                Ok(PotReading { hours, kilo_ohm, kilopascal })
            }
            [_, _, _] => Err("resistance and tension are above zero: a short, or a sign?".to_owned()),
            _ => Err("three numbers: hours; kΩ of the block; kPa of the reference".to_owned()),
        }
    });
    all.sort_by(|a, b| a.hours.total_cmp(&b.hours));
    (all, wrong)
}

fn answer(found: &Result<BlockResponse, ResponseError>, refill: f64) -> (String, Vec<String>) {
    let block = match found {
        Err(error) => return (format!("No response curve yet: {error}."), Vec::new()),
        Ok(block) => block,
    };
    let inside = if block.covers(refill) {
        format!("the refill point of {} kPa lies inside", fixed(refill, 0))
    } else if refill < block.range.0 {
        format!(
            "the refill point of {} kPa is wetter than that: this block cannot tell when to water",
            fixed(refill, 0)
        )
    } else {
        format!("the refill point of {} kPa was not reached: let the pot dry further", fixed(refill, 0))
    };
    let lag = match block.lag_hours {
        Some(hours) => format!("After the pot was wetted again it followed the reference {} h late.", fixed(hours, 1)),
        None => "Wet the pot again at the end: how long the block takes to follow tells its lag.".to_owned(),
    };
    let says = vec![
        format!(
            "kPa = {} · kΩ^{} from {} readings; a new reading misses by about {} %.",
            fixed(block.factor, 1),
            fixed(block.power, 2),
            block.used,
            fixed(block.relative_error * 100.0, 0)
        ),
        format!("On its wet plateau it stands at {} kΩ and tells nothing.", fixed(block.plateau, 2)),
        lag,
    ];
    (format!("It responds from {} to {} kPa; {inside}.", fixed(block.range.0, 0), fixed(block.range.1, 0)), says)
}

/// A look in the picture, on logarithmic axes.
struct Dot {
    x: f64,
    y: f64,
    used: bool,
}

/// Resistance over tension, both logarithmic.
struct Picture {
    dots: Vec<Dot>,
    curve: String,
    refill: f64,
    x_ticks: Vec<(f64, String)>,
    y_ticks: Vec<(f64, String)>,
}

fn picture(looks: &[PotReading], found: Option<&BlockResponse>, refill: f64) -> Option<Picture> {
    let span = |of: fn(&PotReading) -> f64, more: f64| {
        let (low, high) = looks.iter().map(of).fold((more, more), |(l, h), v| (l.min(v), h.max(v)));
        (low.ln() - 0.15, high.ln() + 0.15)
    };
    let (x_low, x_high) = span(|r| r.kilopascal, refill);
    let (y_low, y_high) = span(|r| r.kilo_ohm, looks.first()?.kilo_ohm);
    let x = |kilopascal: f64| 52.0 + (kilopascal.ln() - x_low) / (x_high - x_low) * 410.0;
    let y = |kilo_ohm: f64| 190.0 - (kilo_ohm.ln() - y_low) / (y_high - y_low) * 170.0;
    let ticks = |low: f64, high: f64| {
        let round = [0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0];
        round.into_iter().filter(move |v: &f64| (low..=high).contains(&v.ln()))
    };
    let curve = found.map_or_else(String::new, |b| {
        let at = |kilopascal: f64| (x(kilopascal), y((kilopascal / b.factor).powf(1.0 / b.power)));
        let ((x1, y1), (x2, y2)) = (at(b.range.0), at(b.range.1));
        format!("M{x1:.1} {y1:.1}L{x2:.1} {y2:.1}")
    });
    let dot = |r: &PotReading| Dot {
        x: x(r.kilopascal),
        y: y(r.kilo_ohm),
        used: found.is_some_and(|b| b.covers(r.kilopascal) && r.kilo_ohm > b.plateau),
    };
    Some(Picture {
        dots: looks.iter().map(dot).collect(),
        curve,
        refill: x(refill),
        x_ticks: ticks(x_low, x_high).map(|v| (x(v), v.to_string())).collect(),
        y_ticks: ticks(y_low, y_high).map(|v| (y(v), v.to_string())).collect(),
    })
}

#[derive(Template)]
#[template(path = "rooms/bench/tension/block.html")]
struct BlockPage {
    shell: Shell,
    study: i64,
    answer: String,
    says: Vec<String>,
    title: TextField,
    block: TextField,
    reference: TextField,
    refill: NumberField,
    list: TextField,
    picture: Option<Picture>,
}

impl Sheet for Draft {
    const KIND: &'static str = "block";

    fn title(&self) -> &Typed {
        &self.title
    }

    async fn fresh(_app: &State, _study: &Study, _form: &Sent) -> Result<Self, Problem> {
        Ok(Self { title: "Block in a drying pot".into(), ..Self::default() })
    }

    async fn page(&self, around: &SheetContext<'_>) -> Result<HttpResponse, Problem> {
        let refill = REFILL.of(&self.refill);
        let (looks, wrong) = looks(self);
        let found = block_response(&looks);
        let (answer, says) = answer(&found, refill);
        let shell = around.shell(&self.title).await?;
        page(&BlockPage {
            shell,
            study: around.study.id,
            answer,
            says,
            title: TextField::of("title", &self.title, Vec::new()),
            block: TextField::of("block", &self.block, Vec::new()),
            reference: TextField::of("reference", &self.reference, Vec::new()),
            refill: REFILL.field("refill", &self.refill),
            list: TextField::of("list", &self.list, wrong),
            picture: picture(&looks, found.as_ref().ok(), refill),
        })
    }

    async fn act(&mut self, _around: &SheetContext<'_>, _action: &str, _by: &str) -> Result<(), Problem> {
        Ok(())
    }
}
