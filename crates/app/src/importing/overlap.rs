//! What a file shares with the record that is there already, before anything of it is stored.

use super::mapping::Mapping;
use super::storing::Job;
use ebrel_core::series::Series;
use ebrel_formats::logger::{self, ReadError, Reading, Taker};
use ebrel_store::streams::Stream;
use ebrel_store::{Store, StoreError};
use std::sync::Arc;

/// What one column shares with the stream that it would go to.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Overlap {
    /// The column, by its place in the file's.
    pub column: usize,
    /// Readings at times that the stream has too.
    pub shared: usize,
    /// Of these, with the same value.
    pub alike: usize,
    /// The first that differs: its time, the value there, the value of the file.
    pub first_other: Option<(i64, f64, f64)>,
    /// The usual shift after which values agree, where they do not agree at their own times: seconds that the file lies later.
    pub shift_s: Option<i64>,
    /// Least and greatest value of the stream in each of so many equal parts of the file's time.
    pub there: Vec<Option<(f64, f64)>>,
}

/// Parts of a file's time in which the record there is drawn.
const PARTS: usize = 96;
/// Readings that are kept to look for a shift.
const KEPT: usize = 4000;

struct Comparer<'c> {
    job: &'c Job,
    series: Vec<Option<Arc<Series>>>,
    out: Vec<Overlap>,
    first: Vec<Vec<(i64, f64)>>,
}

impl Taker for Comparer<'_> {
    fn reading(&mut self, reading: Reading) {
        let Some(Some(series)) = self.series.get(reading.column) else { return };
        let plan = &self.job.mapping.columns[reading.column];
        let value = reading.value * plan.factor + plan.plus;
        let kept = &mut self.first[reading.column];
        if kept.len() < KEPT {
            kept.push((reading.time.0, value));
        }
        let Ok(at) = series.times.binary_search(&reading.time.0) else { return };
        let out = &mut self.out[reading.column];
        out.shared += 1;
        if same(series.values[at], value) {
            out.alike += 1;
        } else if out.first_other.is_none() {
            out.first_other = Some((reading.time.0, series.values[at], value));
        }
    }
}

fn same(a: f64, b: f64) -> bool {
    (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1e-6)
}

/// What each column that has a stream there shares with it. Counters are not compared.
///
/// # Errors
/// [`StoreError`] if the record or the file cannot be read.
pub async fn overlaps(store: &Store, station: i64, job: &Job) -> Result<Vec<Overlap>, StoreError> {
    let streams = store.streams(station).await?;
    let mut series = Vec::with_capacity(job.mapping.columns.len());
    for plan in &job.mapping.columns {
        let stream = stream_of(&streams, &job.mapping, plan).filter(|_| !plan.counter);
        series.push(match stream {
            Some(stream) => Some(store.series(stream.id).await?).filter(|s| !s.is_empty()),
            None => None,
        });
    }
    if series.iter().all(Option::is_none) {
        return Ok(Vec::new());
    }
    let job = job.clone();
    let compared = tokio::task::spawn_blocking(move || compare(&job, series)).await;
    let compared = compared.map_err(|e| StoreError::Rule(format!("The comparison broke off: {e}")))?;
    compared.map_err(|e| StoreError::Rule(format!("The file could not be read: {e}.")))
}

/// The stream that a column would go to, if it is there.
fn stream_of<'s>(streams: &'s [Stream], mapping: &Mapping, plan: &super::ColumnPlan) -> Option<&'s Stream> {
    let quantity = plan.quantity?;
    streams.iter().find(|s| s.node == plan.node(mapping) && s.port == plan.port.trim() && s.quantity == quantity)
}

fn compare(job: &Job, series: Vec<Option<Arc<Series>>>) -> Result<Vec<Overlap>, ReadError> {
    let n = series.len();
    let out = (0..n).map(|column| Overlap { column, ..Overlap::default() }).collect();
    let mut comparer = Comparer { job, series, out, first: vec![Vec::new(); n] };
    logger::pass(&job.text, &job.recipe, job.latest, &mut comparer)?;
    let Comparer { series, mut out, first, .. } = comparer;
    for ((overlap, series), first) in out.iter_mut().zip(&series).zip(&first) {
        let Some(series) = series else { continue };
        overlap.there = drawn(series, job.survey.columns[overlap.column].extent.map(|(a, b)| (a.0, b.0)));
        if overlap.alike * 2 < overlap.shared {
            overlap.shift_s = shift(series, first);
        }
    }
    out.retain(|o| series[o.column].is_some());
    Ok(out)
}

fn drawn(series: &Series, extent: Option<(i64, i64)>) -> Vec<Option<(f64, f64)>> {
    let mut parts = vec![None; PARTS];
    let Some((from, to)) = extent.filter(|(a, b)| a < b) else { return parts };
    let start = series.times.partition_point(|t| *t < from);
    for (t, v) in series.times[start..].iter().zip(&series.values[start..]).take_while(|(t, _)| **t <= to) {
        let part = ((t - from) as f64 / (to - from) as f64 * (PARTS as f64 - 1.0)) as usize;
        let (low, high) = parts[part].unwrap_or((*v, *v));
        parts[part] = Some((low.min(*v), high.max(*v)));
    }
    parts
}

/// The whole hour or half hour by which the file lies later than the record, if nine values in ten agree after it.
fn shift(series: &Series, first: &[(i64, f64)]) -> Option<i64> {
    let agrees = |shift: i64| {
        let pairs = first
            .iter()
            .filter_map(|(t, v)| series.times.binary_search(&(t - shift)).ok().map(|at| same(series.values[at], *v)));
        let (alike, all) = pairs.fold((0, 0), |(a, n), same| (a + usize::from(same), n + 1));
        all >= 20 && alike * 10 >= all * 9
    };
    (-28..=28).filter(|h| *h != 0).map(|h| h * 1800).find(|s| agrees(*s))
}
