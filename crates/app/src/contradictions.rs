//! Readings that came twice with different values, joined to what is one thing to decide.

use super::record::StationRecord;
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_store::choices::Contradiction;
use ebrel_store::{Store, StoreError};

/// Values that lie further apart than this are two things to decide.
const APART: SpanSeconds = SpanSeconds::DAY;

/// One thing to decide: values of one stream that one delivery brought beside others.
#[derive(Debug, Clone, PartialEq)]
pub struct Matter {
    /// The channel: quantity and depth; the port where no probe was placed.
    pub label: String,
    /// Its unit, as reported.
    pub unit: String,
    /// The values, in order of time; at least one.
    pub values: Vec<Contradiction>,
}

impl Matter {
    /// First and last time.
    #[must_use]
    pub fn span(&self) -> (UnixSeconds, UnixSeconds) {
        (self.values[0].time, self.values[self.values.len() - 1].time)
    }

    /// The largest difference between the two values of a time.
    #[must_use]
    pub fn largest(&self) -> f64 {
        self.values.iter().map(|v| (v.later - v.first).abs()).fold(0.0, f64::max)
    }

    /// Whether somebody has to choose.
    #[must_use]
    pub fn waits(&self) -> bool {
        self.values[0].choice.is_none()
    }
}

/// What came twice at a station, what waits before what was chosen, in order of time.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn matters(store: &Store, station: i64) -> Result<Vec<Matter>, StoreError> {
    let all = store.contradictions(station, None).await?;
    if all.is_empty() {
        return Ok(Vec::new());
    }
    let record = StationRecord::outline(store, station).await?;
    let streams = store.streams(station).await?;
    let mut matters: Vec<Matter> = all
        .chunk_by(one_thing)
        .map(|values| {
            let stream = streams.iter().find(|s| s.id == values[0].stream);
            let placed = record.channels.iter().find(|c| c.channel.stream.id == values[0].stream);
            let port = || stream.map_or_else(String::new, |s| format!("{} at port {}", s.quantity.words(), s.port));
            Matter {
                label: placed
                    .map_or_else(port, |c| format!("{}, {}", c.channel.stream.quantity.words(), c.channel.label())),
                unit: stream.map_or_else(String::new, |s| s.unit.clone()),
                values: values.to_vec(),
            }
        })
        .collect();
    matters.sort_by_key(|m| (!m.waits(), m.span().0));
    Ok(matters)
}

fn one_thing(a: &Contradiction, b: &Contradiction) -> bool {
    let chosen = |c: &Contradiction| c.choice.as_ref().map(|c| c.id);
    (a.stream, a.batch, chosen(a)) == (b.stream, b.batch, chosen(b)) && b.time - a.time <= APART
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_store::choices::{Arrived, Chosen};

    #[test]
    fn one_delivery_is_one_thing_unless_days_or_a_choice_lie_between() {
        let value = |stream, batch, t: i64, chosen: Option<i64>| Contradiction {
            stream,
            time: UnixSeconds(t),
            first: 1.0,
            first_from: Arrived::Unknown,
            later: 2.0,
            batch,
            later_from: Arrived::Unknown,
            choice: chosen.map(|id| Chosen {
                id,
                later: true,
                reason: String::new(),
                by: String::new(),
                at: UnixSeconds(0),
            }),
        };
        let all = [
            value(1, 1, 0, None),
            value(1, 1, 900, None),
            value(1, 1, 1800, Some(4)),
            value(1, 1, 2700, None),
            value(1, 1, 2700 + 86_401, None),
            value(1, 2, 2700 + 86_401, None),
            value(2, 2, 2700 + 86_401, None),
        ];
        assert_eq!(all.chunk_by(one_thing).map(<[_]>::len).collect::<Vec<_>>(), [2, 1, 1, 1, 1, 1]);
    }
}
