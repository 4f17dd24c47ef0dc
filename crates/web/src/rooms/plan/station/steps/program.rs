//! What the logger does: scans, tables, versions that were sent.

use super::super::context::{Head, OnPage};
use crate::components::fields::{FigureField, TextField};
use crate::shell::Shell;
use crate::shell::figures::grouped;
use askama::Template;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::{Figure, Program, Statistic, changes, keeps, span, spot_samples, usual_tables};

struct Kept {
    path: String,
    on: bool,
    what: String,
}

struct TableView {
    name: TextField,
    every: TextField,
    rows: Vec<(String, Vec<Kept>)>,
    sum: String,
}

struct Sent {
    version: String,
    sent: String,
    by: String,
    changed: String,
}

#[derive(Template)]
#[template(path = "rooms/plan/station/steps/program.html")]
pub struct ProgramPage {
    shell: Shell,
    head: Head,
    answer: String,
    scan: FigureField,
    statistics: Vec<&'static str>,
    tables: Vec<TableView>,
    own_tables: bool,
    spot: Vec<FigureField>,
    spot_words: String,
    words: Vec<String>,
    sent: Vec<Sent>,
    differs: Vec<String>,
    sent_by: TextField,
    sent_why: TextField,
}

pub fn page(shell: Shell, head: Head, context: &StationPlan) -> ProgramPage {
    let (found, draft) = (&context.found, &context.draft);
    let program = &found.plan.program;
    let usual = usual_tables(found.plan.setting.interval_s);
    let drafts = if draft.tables.is_empty() { &usual } else { &draft.tables };
    let tables = drafts.iter().enumerate().map(|(i, t)| {
        let rows = found.plan.channels().into_iter().map(|(quantity, channels)| {
            let label =
                if channels > 1 { format!("{channels} × {}", quantity.words()) } else { quantity.words().to_owned() };
            let kept = Statistic::ALL.iter().map(|s| Kept {
                path: format!("tables.{i}.keep.{}:{}", quantity.code(), s.code()),
                on: keeps(t, quantity, *s),
                what: format!("{} of {}", s.code(), quantity.words()),
            });
            (label, kept.collect())
        });
        let resolved = program.tables.iter().find(|r| r.name == *t.name);
        let sum = resolved.map_or_else(String::new, |r| {
            let scans = (r.every_s / program.scan_s).floor();
            format!(
                "{scans} scans to a record, {} values, {} bytes; {} records a day",
                r.values(),
                r.bytes(),
                grouped(r.per_day().round() as usize)
            )
        });
        TableView {
            name: context.text(format!("tables.{i}.name"), &t.name),
            every: context.text(format!("tables.{i}.every_min"), &t.every_min),
            rows: rows.collect(),
            sum,
        }
    });
    let last = draft.programs.last().and_then(|p| serde_json::from_str::<Program>(&p.program).ok());
    let differs = last.map_or_else(Vec::new, |sent| changes(&sent, program));
    let (minutes, every) = (found.plan.get(Figure::SpotMinutes), found.plan.get(Figure::SpotEvery));
    let days = found.memory.days;
    let answer = if days.is_finite() {
        format!(
            "The memory holds {} records, {:.0} days at this rate.",
            grouped(found.memory.records as usize),
            days.floor()
        )
    } else {
        "Nothing is kept yet.".into()
    };
    ProgramPage {
        answer,
        scan: context.figure(Figure::Scan),
        statistics: Statistic::ALL.iter().map(|s| s.code()).collect(),
        tables: tables.collect(),
        own_tables: !draft.tables.is_empty(),
        spot: context.figures(&[Figure::SpotMinutes, Figure::SpotEvery]),
        spot_words: format!(
            "{} at one sample every {} make {} samples, one at the end of each interval.",
            span(minutes * 60.0),
            span(every),
            grouped(spot_samples(minutes, every) as usize)
        ),
        words: program.in_words(),
        sent: draft
            .programs
            .iter()
            .rev()
            .map(|p| Sent {
                version: p.version.to_string(),
                sent: p.sent.to_string(),
                by: p.by.to_string(),
                changed: p.changed.to_string(),
            })
            .collect(),
        differs,
        sent_by: context.text("sent_by", &draft.sent_by),
        sent_why: context.text("sent_why", &draft.sent_why),
        shell,
        head,
    }
}
