//! What the logger does: scans, tables of records, and what both need of its memory.

use super::catalogue::LoggerModel;
use super::draft::{Draft, TableDraft};
use super::figures::{Figure, Figures};
use super::planned::{PlannedProbe, Setting, channels};
use super::remark::{Remark, Severity, Step};
use crate::power::{Memory, RecordLoad, memory};
use crate::units::{Quantity, Range, coded, format_short};
use serde::{Deserialize, Serialize};

coded!(
    /// What a table keeps of the scans between two records.
    Statistic {
        /// The last scan.
        Sample = "sample",
        /// Their mean.
        Mean = "mean",
        /// The least.
        Minimum = "minimum",
        /// The greatest.
        Maximum = "maximum",
        /// Their sum.
        Total = "total",
    }
);

impl Statistic {
    /// What fits a quantity if nothing is chosen.
    #[must_use]
    pub const fn usual(quantity: Quantity) -> Self {
        if quantity.is_sum() { Self::Total } else { Self::Mean }
    }
}

/// A column of a table: a quantity of so many channels and a statistic.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Column {
    /// What it holds.
    pub quantity: Quantity,
    /// What is kept of the scans between two records.
    pub statistic: Statistic,
    /// How many channels give it.
    pub channels: usize,
}

/// A table of records.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RecordTable {
    /// Name that people use; not unique.
    pub name: String,
    /// Seconds from record to record.
    pub every_s: f64,
    /// Columns; battery minimum and panel temperature are always among them.
    pub columns: Vec<Column>,
}

/// Bytes of a record's time and number, and of one value.
const HEADER_BYTES: usize = 8;
const VALUE_BYTES: usize = 4;

impl RecordTable {
    /// Values of one record.
    #[must_use]
    pub fn values(&self) -> usize {
        self.columns.iter().map(|c| c.channels).sum()
    }

    /// Bytes of one record.
    #[must_use]
    pub fn bytes(&self) -> usize {
        HEADER_BYTES + VALUE_BYTES * self.values()
    }

    /// Records a day.
    #[must_use]
    pub fn per_day(&self) -> f64 {
        86_400.0 / self.every_s
    }
}

/// What a logger does; written out as JSON it is what the simulated node takes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Program {
    /// Seconds from scan to scan.
    pub scan_s: f64,
    /// Tables of records, in the order of the draft.
    pub tables: Vec<RecordTable>,
}

impl Program {
    /// How long the logger's memory holds it.
    #[must_use]
    pub fn memory(&self, logger: &LoggerModel) -> Memory {
        let load = |t: &RecordTable| RecordLoad { bytes: t.bytes() as u64, per_day: t.per_day() };
        let loads: Vec<RecordLoad> = self.tables.iter().map(load).collect();
        memory(logger.memory_bytes, logger.page_bytes, logger.reserved_pages, &loads)
    }

    /// The shortest time between two records of one table, s.
    #[must_use]
    pub fn every_s(&self) -> f64 {
        self.tables.iter().map(|t| t.every_s).fold(86_400.0, f64::min)
    }

    /// The program as a person reads it, a line each.
    #[must_use]
    pub fn in_words(&self) -> Vec<String> {
        let mut lines = vec![format!("scan every {}", span(self.scan_s))];
        for t in &self.tables {
            let columns: Vec<String> = (t.columns.iter())
                .map(|c| {
                    format!(
                        "{} of {}{}",
                        c.statistic.code(),
                        if c.channels > 1 { format!("{} × ", c.channels) } else { String::new() },
                        c.quantity.words()
                    )
                })
                .collect();
            lines.push(format!("table “{}”, every {}: {}", t.name, span(t.every_s), columns.join("; ")));
        }
        lines
    }
}

/// A span as loggers count it.
#[must_use]
pub fn span(seconds: f64) -> String {
    match seconds {
        s if s < 60.0 => format!("{} s", format_short(s)),
        s if s < 3600.0 => format!("{} min", format_short(s / 60.0)),
        s if s < 86_400.0 => format!("{} h", format_short(s / 3600.0)),
        s => format!("{} d", format_short(s / 86_400.0)),
    }
}

/// Samples of spot work: one at the end of each whole interval of `every_s` within `minutes`.
#[must_use]
pub fn spot_samples(minutes: f64, every_s: f64) -> u64 {
    (minutes * 60.0 / every_s + 1e-9).floor() as u64
}

/// The tables that a plan begins with: means at the study's interval, and a daily table of extremes.
#[must_use]
pub fn usual_tables(interval_s: f64) -> Vec<TableDraft> {
    let table =
        |name: &str, minutes: f64| TableDraft { name: name.into(), every_min: minutes.into(), ..TableDraft::default() };
    vec![table("record", interval_s / 60.0), table("daily", 1440.0)]
}

/// Whether a table keeps a statistic: as ticked, or the usual one where nothing of the quantity was ever ticked.
#[must_use]
pub fn keeps(table: &TableDraft, quantity: Quantity, statistic: Statistic) -> bool {
    let key = |s: Statistic| format!("{}:{}", quantity.code(), s.code());
    if Statistic::ALL.iter().any(|s| table.keep.contains_key(&key(*s))) {
        return table.keep.get(&key(statistic)).is_some_and(super::draft::Typed::is_yes);
    }
    let daily = table.every_min.number_in(EVERY_MIN).is_ok_and(|m| m >= 1440.0);
    let extremes = daily && !quantity.is_sum() && matches!(statistic, Statistic::Minimum | Statistic::Maximum);
    statistic == Statistic::usual(quantity) || extremes
}

const EVERY_MIN: Range = Range { name: "time from record to record", unit: "min", min: 0.05, max: 44_640.0 };

pub(super) fn read_program(
    draft: &Draft,
    figures: &Figures,
    probes: &[PlannedProbe],
    setting: &Setting,
    remarks: &mut Vec<Remark>,
) -> Program {
    let scan_s = figures.get(Figure::Scan);
    let usual;
    let drafts = if draft.tables.is_empty() {
        usual = usual_tables(setting.interval_s);
        &usual
    } else {
        &draft.tables
    };
    let measured = channels(probes);
    let mut tables = Vec::new();
    for (i, t) in drafts.iter().enumerate() {
        let mut say = |field: &str, says: String| {
            remarks.push(Remark::new(Step::Program, Severity::Stop, format!("tables.{i}.{field}"), says))
        };
        let every_s = match t.every_min.number_in(EVERY_MIN) {
            Ok(minutes) => minutes * 60.0,
            Err(says) => {
                say("every_min", says);
                continue;
            }
        };
        if every_s < scan_s {
            say(
                "every_min",
                format!(
                    "A record every {} needs a scan at least as often; the scan interval is {}.",
                    span(every_s),
                    span(scan_s)
                ),
            );
        } else if (every_s / scan_s).fract().abs() > 1e-9 {
            say(
                "every_min",
                format!(
                    "{} is no whole number of scans of {}: choose a scan interval that divides it.",
                    span(every_s),
                    span(scan_s)
                ),
            );
        }
        if t.name.is_blank() {
            say("name", "Give the table a name.".into());
        }
        let mut columns: Vec<Column> = (measured.iter())
            .flat_map(|(quantity, channels)| {
                let kept = Statistic::ALL.iter().filter(|s| keeps(t, *quantity, **s));
                kept.map(|s| Column { quantity: *quantity, statistic: *s, channels: *channels })
            })
            .collect();
        columns.push(Column { quantity: Quantity::BatteryVoltage, statistic: Statistic::Minimum, channels: 1 });
        columns.push(Column { quantity: Quantity::PanelTemperature, statistic: Statistic::Mean, channels: 1 });
        tables.push(RecordTable { name: t.name.to_string(), every_s, columns });
    }
    Program { scan_s, tables }
}

/// Checks of the program against the logger's memory.
#[must_use]
pub fn check(program: &Program, logger: &LoggerModel, figures: &Figures) -> Vec<Remark> {
    let held = program.memory(logger);
    let between = figures.get(Figure::VisitEvery).max(figures.get(Figure::Outage));
    let mut remarks = Vec::new();
    if program.tables.is_empty() {
        remarks.push(Remark::new(
            Step::Program,
            Severity::Stop,
            "",
            "No table can be kept: nothing would be recorded. Add one.",
        ));
    } else if held.days < between {
        let says = format!(
            "The memory holds {} days, but {} may pass until somebody collects: record more seldom, or visit sooner.",
            format_short(held.days.floor()),
            span(between * 86_400.0)
        );
        remarks.push(Remark::new(Step::Program, Severity::Stop, "", says));
    }
    remarks
}

/// What differs between a program that was sent and the one that is planned now; empty if nothing.
#[must_use]
pub fn changes(sent: &Program, now: &Program) -> Vec<String> {
    let (before, after) = (sent.in_words(), now.in_words());
    let gone = before.iter().filter(|l| !after.contains(l)).map(|l| format!("no longer: {l}"));
    let new = after.iter().filter(|l| !before.contains(l)).map(|l| format!("new: {l}"));
    gone.chain(new).collect()
}
