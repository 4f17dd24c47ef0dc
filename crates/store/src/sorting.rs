//! Readings told from what is known of their streams.

use crate::StoreError;
use crate::adding::unknown;
use crate::blocks::read_months;
use crate::packing::{Before, month_of};
use crate::readings::{Added, Reading};
use sqlx::SqliteConnection;
use std::collections::HashMap;

/// Readings told from what is known.
#[derive(Default)]
pub(crate) struct Sorted {
    /// What is not known, by stream and time.
    pub(crate) fresh: Vec<Reading>,
    /// Streams of which something is not known: where they begin and end among these, and what they held before.
    pub(crate) streams: Vec<(usize, usize, Before)>,
    /// What contradicts and was not kept beside the known yet.
    pub(crate) repeats: Vec<Reading>,
    known: usize,
    contradicting: usize,
}

impl Sorted {
    /// Whether nothing is to be written.
    pub(crate) fn is_empty(&self) -> bool {
        self.fresh.is_empty() && self.repeats.is_empty()
    }

    /// What becomes of these readings, which were sorted out.
    pub(crate) fn added(&self, readings: &[Reading]) -> Added {
        let new_records = distinct_times(&self.fresh);
        Added {
            new: self.fresh.len(),
            known: self.known,
            repeated: self.contradicting,
            new_records,
            known_records: distinct_times(readings) - new_records,
        }
    }
}

/// Readings of a stream that are looked up one by one: more are laid beside their months.
const FEW: usize = 200;
/// Readings that are looked up together.
const LOOKED_UP: usize = 20_000;

/// How readings of one stream are told from what it holds.
#[derive(Clone, Copy, PartialEq)]
enum Way {
    /// They only go on.
    Follow,
    /// They are few among others.
    Few,
    /// They are laid beside the months that they touch.
    Beside,
}

/// Tells readings in order of stream and time from what is known. Streams that only go on need no look at what they hold, and few
/// readings among others are looked up one by one.
pub(crate) async fn sort_out_all(
    connection: &mut SqliteConnection,
    readings: &[Reading],
) -> Result<Sorted, StoreError> {
    let streams: Vec<&[Reading]> = readings.chunk_by(|a, b| a.stream == b.stream).collect();
    let ends = last_times(connection, &streams.iter().map(|s| s[0].stream).collect::<Vec<_>>()).await?;
    let end_of = |of_stream: &[Reading]| ends.get(&of_stream[0].stream).copied();
    let ways = streams.iter().map(|s| {
        let follows = end_of(s).is_none_or(|end| s[0].t > end) && s.windows(2).all(|w| w[0].t < w[1].t);
        match (follows, s.len() < FEW) {
            (true, _) => Way::Follow,
            (false, true) => Way::Few,
            (false, false) => Way::Beside,
        }
    });
    let ways: Vec<Way> = ways.collect();
    let mut sorted = Sorted { fresh: Vec::with_capacity(readings.len()), ..Sorted::default() };
    let mut stands = HashMap::new();
    let mut looked_up = 0;
    for (i, (of_stream, way)) in streams.iter().copied().zip(&ways).enumerate() {
        if *way == Way::Few && i >= looked_up {
            let mut asked: Vec<(i64, i64)> = Vec::new();
            looked_up = i;
            while looked_up < streams.len() && asked.len() < LOOKED_UP {
                let few = (ways[looked_up] == Way::Few).then_some(streams[looked_up]);
                asked.extend(few.into_iter().flatten().map(|r| (r.stream, r.t)));
                looked_up += 1;
            }
            stands = standing(connection, &asked).await?;
        }
        let start = sorted.fresh.len();
        let SortedOut { repeats, known, before } = match way {
            Way::Follow => {
                sorted.fresh.extend_from_slice(of_stream);
                let before = if end_of(of_stream).is_some() { Before::Apart } else { Before::Nothing };
                SortedOut { repeats: Vec::new(), known: 0, before }
            }
            Way::Few => {
                let (repeats, known) = tell(of_stream, |r| stands.get(&(r.stream, r.t)).copied(), &mut sorted.fresh);
                let before = if end_of(of_stream).is_some() { Before::Unread } else { Before::Nothing };
                SortedOut { repeats, known, before }
            }
            Way::Beside => sort_out(connection, of_stream, &mut sorted.fresh).await?,
        };
        sorted.known += known;
        sorted.contradicting += repeats.len();
        sorted.repeats.extend(unknown(connection, repeats).await?);
        if sorted.fresh.len() > start {
            sorted.streams.push((start, sorted.fresh.len(), before));
        }
    }
    Ok(sorted)
}

/// The value that stands at each of these streams and times where there is one.
pub(crate) async fn standing(
    connection: &mut SqliteConnection,
    asked: &[(i64, i64)],
) -> Result<HashMap<(i64, i64), f64>, StoreError> {
    if asked.is_empty() {
        return Ok(HashMap::new());
    }
    let asked = serde_json::to_string(asked)?;
    let rows = sqlx::query!(
        r#"SELECT r.stream_id AS "stream!", r.t AS "t!", r.raw FROM json_each(?) j CROSS JOIN reading r
           ON r.stream_id = j.value ->> 0 AND r.t = j.value ->> 1"#,
        asked
    );
    Ok(rows.fetch_all(connection).await?.into_iter().map(|r| ((r.stream, r.t), r.raw)).collect())
}

/// The last time of each stream that has readings.
async fn last_times(connection: &mut SqliteConnection, streams: &[i64]) -> Result<HashMap<i64, i64>, StoreError> {
    let streams = serde_json::to_string(streams)?;
    let rows = sqlx::query!(
        r#"SELECT value + 0 AS "stream!: i64", (SELECT t FROM reading WHERE stream_id = value ORDER BY t DESC LIMIT 1) AS "last: i64" FROM json_each(?)"#,
        streams
    );
    Ok(rows.fetch_all(connection).await?.into_iter().filter_map(|r| Some((r.stream, r.last?))).collect())
}

/// How many times readings have that lie in order of stream and time. Streams of one file mostly share all of theirs.
fn distinct_times(readings: &[Reading]) -> usize {
    let mut streams = readings.chunk_by(|a, b| a.stream == b.stream);
    let first = streams.next().unwrap_or_default();
    let mut times: Vec<i64> = first.iter().map(|r| r.t).collect();
    for stream in streams.filter(|s| !s.iter().map(|r| r.t).eq(first.iter().map(|r| r.t))) {
        times.extend(stream.iter().map(|r| r.t));
    }
    times.sort_unstable();
    times.dedup();
    times.len()
}

/// What is left to do after sorting out: what differs from the known, how many readings are known, what the stream held.
pub(crate) struct SortedOut {
    pub(crate) repeats: Vec<Reading>,
    pub(crate) known: usize,
    pub(crate) before: Before,
}

/// Appends to `fresh` what is not known of one stream.
pub(crate) async fn sort_out(
    connection: &mut SqliteConnection,
    readings: &[Reading],
    fresh: &mut Vec<Reading>,
) -> Result<SortedOut, StoreError> {
    let nothing = SortedOut { repeats: Vec::new(), known: 0, before: Before::Nothing };
    let Some((first, last)) = readings.first().zip(readings.last()) else { return Ok(nothing) };
    let row = sqlx::query!(
        r#"SELECT EXISTS (SELECT 1 FROM reading WHERE stream_id = ?1) AS "any!: bool",
                  EXISTS (SELECT 1 FROM reading WHERE stream_id = ?1 AND t >= ?2 AND t <= ?3) AS "here!: bool""#,
        first.stream,
        first.t,
        last.t
    )
    .fetch_one(&mut *connection)
    .await?;
    let months = (month_of(first.t), month_of(last.t));
    let before = match (row.any, row.here) {
        (false, _) => Before::Nothing,
        (true, false) => Before::Apart,
        (true, true) => Before::Months(read_months(connection, first.stream, months).await?),
    };
    let (repeats, known) = match &before {
        Before::Months(held) => {
            let mut at = 0;
            let stands = |reading: &Reading| {
                while at < held.len() && held.times[at] < reading.t {
                    at += 1;
                }
                (at < held.len() && held.times[at] == reading.t).then(|| held.values[at])
            };
            tell(readings, stands, fresh)
        }
        _ => tell(readings, |_| None, fresh),
    };
    Ok(SortedOut { repeats, known, before })
}

/// Appends to `fresh` those readings of one stream, in order of time, at whose times nothing stands. Returns what differs from what
/// stands, and how many do not.
fn tell(
    readings: &[Reading],
    mut stands: impl FnMut(&Reading) -> Option<f64>,
    fresh: &mut Vec<Reading>,
) -> (Vec<Reading>, usize) {
    let (start, mut repeats, mut known) = (fresh.len(), Vec::new(), 0);
    for reading in readings {
        let before = fresh[start..].last().filter(|before| before.t == reading.t);
        match before.map(|b| b.raw).or_else(|| stands(reading)) {
            None => fresh.push(*reading),
            Some(raw) if raw == reading.raw => known += 1,
            Some(_) => repeats.push(*reading),
        }
    }
    (repeats, known)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::batches::testing::HAND;
    use crate::database::testing::store;
    use crate::stations::testing::stream;
    use ebrel_core::units::Quantity;

    #[tokio::test]
    async fn few_and_many_are_told_alike_at_every_limit_and_over_more_streams_than_are_looked_up_together() {
        let (store, _dir) = store().await;
        stream(&store).await;
        let node = store.streams(1).await.unwrap()[0].node_id;
        let mut streams = Vec::new();
        // Two parts are looked up one after the other, and streams of other ways stand between them.
        let many = LOOKED_UP / (FEW - 1) + 20;
        for i in 0..many {
            streams.push(store.ensure_stream(node, &format!("p{i}"), Quantity::RawOutput, "mV", None).await.unwrap());
        }
        let reading = |stream, i: usize| Reading { stream, t: i as i64 * 60, raw: (i % 7) as f64 };
        // Every other minute is there, but of each third stream nothing.
        let held = streams.iter().enumerate().filter(|(n, _)| n % 3 > 0);
        let held = held.flat_map(|(_, s)| (0..150).map(move |i| reading(*s, 2 * i)));
        store.add_readings(&HAND, held.collect()).await.unwrap();
        let of = |n: usize| FEW - 1 + n % 3;
        let comes = |n: usize, s: i64| {
            (0..of(n)).map(move |i| {
                let r = reading(s, i);
                // One in fifty of what is there comes with another value.
                if !n.is_multiple_of(3) && i % 50 == 0 { Reading { raw: r.raw + 0.5, ..r } } else { r }
            })
        };
        let all: Vec<Reading> = streams.iter().enumerate().flat_map(|(n, s)| comes(n, *s)).collect();
        let added = store.add_readings(&HAND, all.clone()).await.unwrap();
        let (mut new, mut known, mut repeated) = (0, 0, 0);
        for n in 0..many {
            let there = if n % 3 > 0 { of(n).div_ceil(2) } else { 0 };
            let other = if n % 3 > 0 { of(n).div_ceil(50) } else { 0 };
            new += of(n) - there;
            known += there - other;
            repeated += other;
        }
        assert_eq!((added.new, added.known, added.repeated), (new, known, repeated));
        assert_eq!(new + known + repeated, all.len(), "count in, count out");
        let again = store.add_readings(&HAND, all).await.unwrap();
        assert_eq!((again.new, again.known, again.repeated), (0, new + known, repeated));
    }
}
