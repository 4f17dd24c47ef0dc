//! Storing a file: one streaming pass in pieces that let others write. Each piece keeps how far it came, so that a kill loses none and
//! the next start goes on; the last one keeps the report.

use super::mapping::{ColumnPlan, Mapping};
use super::report::Report;
use ebrel_core::units::{DepthCm, Principle, Quantity, UnixSeconds};
use ebrel_formats::logger::{self, Column, Recipe, Survey, Taker, Text};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::imports::Import;
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::{Store, StoreError, Unit};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use tokio::sync::mpsc;

/// How far a file is read, seen from outside.
#[derive(Debug, Default)]
pub struct Progress {
    lines: AtomicUsize,
    cancelled: AtomicBool,
}

impl Progress {
    /// Lines that were read so far.
    #[must_use]
    pub fn lines(&self) -> usize {
        self.lines.load(Ordering::Relaxed)
    }

    /// Asks that it end after the piece at hand.
    pub fn cancel(&self) {
        self.cancelled.store(true, Ordering::Relaxed);
    }

    /// Whether somebody asked that it end.
    #[must_use]
    pub fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }
}

/// What is to be stored.
#[derive(Debug, Clone)]
pub struct Job {
    /// The file, which stays where it is.
    pub text: Text,
    /// How it is written.
    pub recipe: Recipe,
    /// What its columns are, one plan for each of the survey's.
    pub mapping: Mapping,
    /// What it holds.
    pub survey: Survey,
    /// Records after this are set aside as unreadable.
    pub latest: UnixSeconds,
}

/// How far storing had come when a piece was kept.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct Kept {
    line: usize,
    report: Report,
}

/// At most so many readings of so many channels are one piece, but for those of its last line: each channel of a piece costs statements of its own.
pub(super) fn one_piece(channels: usize) -> usize {
    (channels * 1000).clamp(240_000, 2_400_000)
}

enum Sent {
    Piece { readings: Vec<logger::Reading>, line: usize },
    End { readings: Vec<logger::Reading>, survey: Box<Survey>, first_counts: usize },
    Broken(String),
}

/// Stores what a mapping takes of a file: streams and placements that are new, then the readings and the import's report. An import
/// with the number 0 is begun with it. A file of one piece is one action, all or none. Returns the import's number.
///
/// # Errors
/// [`StoreError`] if the database refuses, a port speaks another unit than before, or the file went away.
pub async fn store(
    store: &Store,
    import: &Import,
    job: &Job,
    progress: &Arc<Progress>,
) -> Result<(i64, Report), StoreError> {
    store_read(store, import, (job, None), progress).await
}

/// As [`store`], where all readings of the file were read with the job's recipe already.
///
/// # Errors
/// As [`store`].
pub async fn store_read(
    store: &Store,
    import: &Import,
    (job, read): (&Job, Option<Vec<logger::Reading>>),
    progress: &Arc<Progress>,
) -> Result<(i64, Report), StoreError> {
    let kept: Kept = import.progress.as_deref().and_then(|p| serde_json::from_str(p).ok()).unwrap_or_default();
    let (to, mut from) = mpsc::channel(1);
    let reading = {
        let (job, progress, from_line) = (job.clone(), Arc::clone(progress), kept.line);
        tokio::task::spawn_blocking(move || match read {
            Some(read) if from_line == 0 => in_one_piece(&job, read, &to),
            _ => read_in_pieces(&job, &progress, from_line, &to),
        })
    };
    let mut report = kept.report;
    let (mut id, mut streams) = (import.id, None);
    let outcome = loop {
        let Some(sent) = from.recv().await else {
            break Err(StoreError::Rule("The file could not be read to its end.".into()));
        };
        let (readings, end, line) = match sent {
            Sent::Broken(sentence) => break Err(StoreError::Rule(sentence)),
            Sent::Piece { readings, line } => (readings, None, line),
            Sent::End { readings, survey, first_counts } => (readings, Some((survey, first_counts)), usize::MAX),
        };
        let mut unit = store.unit().await?;
        if id == 0 {
            id = unit.begin_import(import).await?;
        }
        let streams = match &streams {
            Some(streams) => streams,
            None => streams.insert(ensure_streams(&mut unit, import.station_id, job).await?),
        };
        let origin = Origin { source: Source::File, import: Some(id), received_at: import.created_at };
        for of_table in by_table(readings, job, streams) {
            report.add(&unit.add_readings(&origin, of_table).await?);
        }
        let ended = end.is_some();
        if let Some((survey, first_counts)) = end {
            let cancelled = progress.is_cancelled().then(|| survey.tally.sum());
            report = Report::of(&survey, &job.mapping).with_stored(&report, first_counts, cancelled);
            let told = Some(serde_json::to_string(&report)?);
            unit.keep_import(&Import { id, report: told, progress: None, ..import.clone() }).await?;
        } else {
            let far = serde_json::to_string(&Kept { line, report: report.clone() })?;
            unit.keep_import(&Import { id, progress: Some(far), ..import.clone() }).await?;
        }
        unit.commit().await?;
        if ended {
            break Ok(());
        }
    };
    drop(from);
    let joined = reading.await.map_err(|e| StoreError::Rule(format!("Reading the file broke off: {e}")));
    outcome.and(joined).map(|()| (id, report))
}

/// Readings by the table that they stand in, those of a column one after another. A record is one table's: tables that share a time are
/// counted, and so delivered, one by one.
fn by_table(readings: Vec<logger::Reading>, job: &Job, streams: &[Option<i64>]) -> Vec<Vec<Reading>> {
    let columns = &job.survey.columns;
    let stream_of = |r: &logger::Reading| streams.get(r.column).copied().flatten();
    let mut counts = vec![0_usize; columns.len()];
    readings.iter().filter(|r| stream_of(r).is_some()).for_each(|r| counts[r.column] += 1);
    let mut names: Vec<&str> = columns.iter().map(|c| c.table.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    // Where each column goes: its table, and the place of its next reading there.
    let mut tables: Vec<Vec<Reading>> = vec![Vec::new(); names.len()];
    let mut next: Vec<(usize, usize)> = Vec::with_capacity(columns.len());
    for (column, count) in columns.iter().zip(counts) {
        let table = names.binary_search(&column.table.as_str()).unwrap_or(0);
        let begins = tables[table].len();
        next.push((table, begins));
        tables[table].resize(begins + count, Reading { stream: 0, t: 0, raw: 0.0 });
    }
    for r in readings {
        if let Some(stream) = stream_of(&r) {
            let (table, at) = &mut next[r.column];
            tables[*table][*at] = Reading { stream, t: r.time.0, raw: r.value };
            *at += 1;
        }
    }
    tables.retain(|of_table| !of_table.is_empty());
    tables
}

/// How the values of each column become what is stored; `None` where a column is left out.
fn conversions(job: &Job) -> Vec<Option<Conversion>> {
    let of = |p: &ColumnPlan| p.quantity.is_some().then(|| Conversion::of(p, job.recipe.time.newest_first));
    job.mapping.columns.iter().map(of).collect()
}

/// Hands on readings that are in memory already.
fn in_one_piece(job: &Job, mut readings: Vec<logger::Reading>, to: &mpsc::Sender<Sent>) {
    let mut columns = conversions(job);
    let mut first_counts = 0;
    readings.retain_mut(|reading| {
        let Some(conversion) = columns.get_mut(reading.column).and_then(Option::as_mut) else { return false };
        let stored = conversion.apply(*reading);
        first_counts += usize::from(stored.is_none());
        stored.inspect(|stored| *reading = *stored).is_some()
    });
    // As in `read_in_pieces`.
    let _gone = to.blocking_send(Sent::End { readings, survey: Box::new(job.survey.clone()), first_counts });
}

fn read_in_pieces(job: &Job, progress: &Progress, from_line: usize, to: &mpsc::Sender<Sent>) {
    let columns = conversions(job);
    let enough = one_piece(columns.iter().flatten().count());
    let mut pieces = Pieces { columns, piece: Vec::new(), enough, progress, from_line, at: 1, to, first_counts: 0 };
    let sent = match logger::pass(&job.text, &job.recipe, job.latest, &mut pieces) {
        Ok(survey) => Sent::End {
            readings: std::mem::take(&mut pieces.piece),
            survey: Box::new(survey),
            first_counts: pieces.first_counts,
        },
        Err(e) => Sent::Broken(format!("The file could not be read: {e}.")),
    };
    // If nobody listens any more, the storing has failed and says so itself.
    let _gone = to.blocking_send(sent);
}

/// Hands readings on in pieces that end at the end of a line, so that no record is cut.
struct Pieces<'p> {
    columns: Vec<Option<Conversion>>,
    piece: Vec<logger::Reading>,
    /// More readings than this are a piece.
    enough: usize,
    progress: &'p Progress,
    from_line: usize,
    /// The line at hand.
    at: usize,
    to: &'p mpsc::Sender<Sent>,
    first_counts: usize,
}

impl Taker for Pieces<'_> {
    fn reading(&mut self, reading: logger::Reading) {
        let Some(conversion) = self.columns.get_mut(reading.column).and_then(Option::as_mut) else { return };
        match conversion.apply(reading) {
            Some(stored) if self.at > self.from_line => self.piece.push(stored),
            Some(_) => {}
            None => self.first_counts += 1,
        }
    }

    fn line(&mut self, number: usize, _: &[Column]) -> bool {
        self.at = number + 1;
        if number.is_multiple_of(512) {
            self.progress.lines.store(number, Ordering::Relaxed);
        }
        if self.piece.len() <= self.enough {
            return !self.progress.is_cancelled();
        }
        let readings = std::mem::replace(&mut self.piece, Vec::with_capacity(self.enough + 4096));
        self.to.blocking_send(Sent::Piece { readings, line: number }).is_ok() && !self.progress.is_cancelled()
    }
}

/// How a value of the file becomes one that is stored.
struct Conversion {
    factor: f64,
    plus: f64,
    /// Of a counter: the reading before it in the file.
    counter: Option<Option<logger::Reading>>,
    newest_first: bool,
}

impl Conversion {
    fn of(plan: &ColumnPlan, newest_first: bool) -> Self {
        Self { factor: plan.factor, plus: plan.plus, counter: plan.counter.then_some(None), newest_first }
    }

    /// The reading that is stored; `None`: the first count of a counter, which counts from nowhere.
    fn apply(&mut self, reading: logger::Reading) -> Option<logger::Reading> {
        let Some(before) = &mut self.counter else {
            let plain = self.factor == 1.0 && self.plus == 0.0;
            let value = if plain { reading.value } else { reading.value * self.factor + self.plus };
            return Some(logger::Reading { value, ..reading });
        };
        let last = before.replace(reading)?;
        let (earlier, later) = if self.newest_first { (reading, last) } else { (last, reading) };
        Some(logger::Reading { value: counted(earlier.value, later.value) * self.factor, ..later })
    }
}

/// What a counter counted between two readings. One that went back either ran over (it was within 2 % of a usual end of counters) or
/// began anew at 0.
fn counted(before: f64, after: f64) -> f64 {
    const ENDS: [f64; 10] =
        [256.0, 1000.0, 1024.0, 4096.0, 10_000.0, 32_768.0, 65_536.0, 100_000.0, 16_777_216.0, 4_294_967_296.0];
    if after >= before {
        return after - before;
    }
    let end = ENDS.into_iter().find(|end| before < *end && end - before <= end * 0.02 && after < end * 0.5);
    end.map_or(after, |end| end - before + after)
}

async fn ensure_streams(unit: &mut Unit, station: i64, job: &Job) -> Result<Vec<Option<i64>>, StoreError> {
    let mut streams = Vec::with_capacity(job.mapping.columns.len());
    let mut node: Option<(String, i64)> = None;
    for (plan, column) in job.mapping.columns.iter().zip(&job.survey.columns) {
        let Some(quantity) = plan.quantity else {
            streams.push(None);
            continue;
        };
        let name = plan.node(&job.mapping);
        let node_id = match &node {
            Some((known, id)) if known == name => *id,
            _ => {
                let id = unit.ensure_node(station, name).await?;
                node = Some((name.to_owned(), id));
                id
            }
        };
        let port = plan.port.trim();
        let interval = column.interval_s.or(job.survey.interval_s);
        streams.push(Some(unit.ensure_stream(node_id, port, quantity, plan.unit.trim(), interval).await?));
        let start = column.extent.or(job.survey.extent).map_or(UnixSeconds(0), |e| e.0);
        ensure_placement(unit, station, (node_id, name), plan, quantity, start).await?;
    }
    Ok(streams)
}

/// The note by which a placement that an import made is known again: a later import of older files may extend it.
const MADE_BY_IMPORT: &str = "made by an import; depth and dates as given there";

async fn ensure_placement(
    unit: &mut Unit,
    station: i64,
    (node, node_name): (i64, &str),
    plan: &ColumnPlan,
    quantity: Quantity,
    start: UnixSeconds,
) -> Result<(), StoreError> {
    let port = plan.port.trim();
    if let Some((id, note, starts)) = unit.first_placement(node, port).await? {
        if note == MADE_BY_IMPORT && start < starts {
            unit.begin_placement_at(id, start).await?;
        }
        return Ok(());
    }
    let principle = match quantity {
        Quantity::RawOutput | Quantity::WaterContent | Quantity::ElectricalConductivity => Principle::Dielectric,
        Quantity::WaterTension => Principle::GranularMatrix,
        Quantity::SoilTemperature | Quantity::AirTemperature | Quantity::BareAirTemperature => Principle::Thermometer,
        Quantity::Rain => Principle::RainGauge,
        Quantity::RelativeHumidity
        | Quantity::Irrigation
        | Quantity::BatteryVoltage
        | Quantity::EnclosureHumidity
        | Quantity::PanelTemperature
        | Quantity::SignalStrength => Principle::Node,
    };
    let serial = match plan.serial.trim() {
        "" => format!("{node_name} {port} (station {station})"),
        given => given.to_owned(),
    };
    let probe = Probe {
        id: 0,
        serial,
        model: String::new(),
        principle,
        instrument_min: None,
        instrument_max: None,
        resolution: None,
    };
    let placement = NewPlacement {
        node_id: node,
        port: port.to_owned(),
        probe_id: unit.ensure_probe(&probe).await?,
        depth_cm: plan.depth_cm.and_then(|d| DepthCm::new(d).ok()),
        orientation: String::new(),
        starts: start,
        ends: None,
        note: MADE_BY_IMPORT.to_owned(),
    };
    unit.place(&placement).await.map(|_| ())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stored(values: &[(i64, f64)], newest_first: bool) -> Vec<Option<(i64, f64)>> {
        let mut conversion = Conversion { factor: 0.2, plus: 0.0, counter: Some(None), newest_first };
        let reading = |(t, value): &(i64, f64)| logger::Reading { column: 0, time: UnixSeconds(*t), value: *value };
        values.iter().map(|v| conversion.apply(reading(v)).map(|r| (r.time.0, r.value))).collect()
    }

    #[test]
    fn a_counter_gives_what_was_counted_since_the_record_before_in_either_direction() {
        let up = [(0, 65_530.0), (900, 65_535.0), (1800, 4.0), (2700, 4.0), (3600, 9.0)];
        assert_eq!(
            stored(&up, false),
            [None, Some((900, 1.0)), Some((1800, 1.0)), Some((2700, 0.0)), Some((3600, 1.0))]
        );
        let down: Vec<_> = up.into_iter().rev().collect();
        assert_eq!(
            stored(&down, true),
            [None, Some((3600, 1.0)), Some((2700, 0.0)), Some((1800, 1.0)), Some((900, 1.0))]
        );
        assert_eq!(counted(512.0, 3.0), 3.0, "begun anew");
        assert_eq!(counted(9_999.0, 1.0), 2.0);
    }
}
