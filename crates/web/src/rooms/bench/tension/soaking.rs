//! Blocks soaked and dried before they go into the ground: the schedule, and what each soaking read.

use crate::components::fields::FieldMessage;
use crate::components::fields::TextField;
use crate::rooms::bench::sheets::{NumberField, NumberSpec, Sent, Sheet, SheetContext, read_lines};
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, moment, read_field};
use crate::shell::{Shell, page};
use crate::state::State;
use actix_web::HttpResponse;
use askama::Template;
use ebrel_core::planning::Typed;
use ebrel_core::tension::{Readiness, Stage, readiness, schedule};
use ebrel_core::units::{Range, UnixSeconds, read_number};
use ebrel_store::studies::Study;
use serde::{Deserialize, Serialize};

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Draft {
    title: Typed,
    serials: Typed,
    start: Typed,
    cycles: Typed,
    soak_hours: Typed,
    dry_hours: Typed,
    log: Typed,
}

const CYCLES: NumberSpec = NumberSpec {
    range: Range { name: "cycles", unit: "", min: 0.0, max: 10.0 },
    value: 2.0,
    source: "two or three; then it is soaked once more",
};
const SOAK: NumberSpec = NumberSpec {
    range: Range { name: "in water for", unit: "h", min: 0.5, max: 240.0 },
    value: 12.0,
    source: "overnight",
};
const DRY: NumberSpec = NumberSpec {
    range: Range { name: "in the air for", unit: "h", min: 0.5, max: 720.0 },
    value: 24.0,
    source: "until it feels dry",
};

/// A line of the log: when, in which stage, what it read.
struct Logged {
    at: UnixSeconds,
    soaked: bool,
    reading: f64,
}

fn log(draft: &Draft, offset: i64) -> (Vec<Logged>, Vec<FieldMessage>) {
    let (mut all, wrong) = read_lines(&draft.log, |line| {
        let cells: Vec<&str> = line.split([';', '\t']).map(str::trim).collect();
        let [at, stage, reading] = cells[..] else { return Err("time; wet or dry; reading".to_owned()) };
        let at = read_field(at, offset).ok_or("write the time like 2026-02-14 08:00")?;
        let soaked = match stage.to_lowercase().as_str() {
            "wet" => true,
            "dry" => false,
            _ => return Err("say wet or dry".to_owned()),
        };
        let reading = read_number(reading)?;
        if reading <= 0.0 {
            return Err("a resistance or a mass is above zero".to_owned());
        }
        Ok(Logged { at, soaked, reading })
    });
    all.sort_by_key(|l| l.at);
    (all, wrong)
}

struct StepRow {
    what: &'static str,
    from: String,
    to: String,
    reading: String,
    now: bool,
}

#[derive(Template)]
#[template(path = "rooms/bench/tension/soaking.html")]
struct SoakingPage {
    shell: Shell,
    study: i64,
    answer: String,
    title: TextField,
    serials: TextField,
    start: TextField,
    numbers: Vec<NumberField>,
    log: TextField,
    steps: Vec<StepRow>,
}

/// What to do now, first; then whether the blocks are ready.
fn answer(steps: &[ebrel_core::tension::Step], logged: &[Logged], now: UnixSeconds, offset: i64) -> String {
    let soaked: Vec<f64> = logged.iter().filter(|l| l.soaked).map(|l| l.reading).collect();
    let ready = match readiness(&soaked) {
        Readiness::Ready => {
            return "Ready: two soakings agree within 5 %. Install them wet, straight from the water.".to_owned();
        }
        Readiness::StillChanging(share) => {
            format!(" Two soakings still differ by {} %: soak and dry once more.", fixed(share * 100.0, 0))
        }
        Readiness::Unknown => " Read each block at the end of every soaking: two that agree make it ready.".to_owned(),
    };
    let here = steps.iter().find(|s| s.from <= now && now < s.to);
    match (here, steps.first(), steps.last()) {
        (Some(s), ..) => {
            let what = if s.stage == Stage::Soak { "In water" } else { "In the air" };
            format!("{what} until {}.{ready}", moment(s.to, offset))
        }
        (None, Some(first), _) if now < first.from => {
            format!("Into the water on {}.{ready}", moment(first.from, offset))
        }
        (None, _, Some(last)) => format!("The schedule ended on {}.{ready}", moment(last.to, offset)),
        _ => ready.trim().to_owned(),
    }
}

impl Sheet for Draft {
    const KIND: &'static str = "soaking";

    fn title(&self) -> &Typed {
        &self.title
    }

    async fn fresh(state: &State, study: &Study, _form: &Sent) -> Result<Self, Problem> {
        let start = field(state.now(study), study.utc_offset_minutes);
        Ok(Self { title: "Soaking blocks".into(), start: start.as_str().into(), ..Self::default() })
    }

    async fn page(&self, around: &SheetContext<'_>) -> Result<HttpResponse, Problem> {
        let (offset, now) = (around.study.utc_offset_minutes, around.state.now(&around.study));
        let start = read_field(&self.start, offset);
        let says = "Write when it begins like 2026-02-13 20:00. Reckoned from now meanwhile.";
        let start_says = start.is_none().then(|| FieldMessage { class: "stop", says: says.into() });
        let cycles = CYCLES.of(&self.cycles).round() as usize;
        let steps = schedule(start.unwrap_or(now), cycles, SOAK.of(&self.soak_hours), DRY.of(&self.dry_hours));
        let (logged, wrong) = log(self, offset);
        let rows = steps.iter().map(|s| {
            let of = logged.iter().filter(|l| (s.from..=s.to).contains(&l.at) && l.soaked == (s.stage == Stage::Soak));
            StepRow {
                what: if s.stage == Stage::Soak { "in water" } else { "in the air" },
                from: moment(s.from, offset),
                to: moment(s.to, offset),
                reading: of.map(|l| l.reading.to_string()).collect::<Vec<_>>().join(", "),
                now: s.from <= now && now < s.to,
            }
        });
        let shell = around.shell(&self.title).await?;
        page(&SoakingPage {
            shell,
            study: around.study.id,
            answer: answer(&steps, &logged, now, offset),
            title: TextField::of("title", &self.title, Vec::new()),
            serials: TextField::of("serials", &self.serials, Vec::new()),
            start: TextField::of("start", &self.start, start_says.into_iter().collect()),
            numbers: vec![
                CYCLES.field("cycles", &self.cycles),
                SOAK.field("soak_hours", &self.soak_hours),
                DRY.field("dry_hours", &self.dry_hours),
            ],
            log: TextField::of("log", &self.log, wrong),
            steps: rows.collect(),
        })
    }

    async fn act(&mut self, _around: &SheetContext<'_>, _action: &str, _by: &str) -> Result<(), Problem> {
        Ok(())
    }
}
