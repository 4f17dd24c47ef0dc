//! Deliveries of readings: where each value came from, and when it was received.

use crate::{Store, StoreError, Unit};
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use std::collections::HashMap;

/// What brought readings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Source {
    /// A logger file, by its import.
    File,
    /// Messages of a node.
    Message,
    /// Somebody typed them.
    Hand,
    /// They were made up for the demo.
    Demo,
}

impl Source {
    const fn code(self) -> &'static str {
        match self {
            Self::File => "file",
            Self::Message => "message",
            Self::Hand => "hand",
            Self::Demo => "demo",
        }
    }
}

/// Where readings come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Origin {
    /// What brought them.
    pub source: Source,
    /// The import that read them, if a file brought them.
    pub import: Option<i64>,
    /// When they were received.
    pub received_at: UnixSeconds,
}

impl Origin {
    /// Readings that no file brought.
    #[must_use]
    pub const fn of(source: Source, received_at: UnixSeconds) -> Self {
        Self { source, import: None, received_at }
    }
}

/// What one delivery brought of a stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Delivery {
    /// Number of the delivery; later ones have larger numbers.
    pub number: i64,
    /// When it was received.
    pub received_at: UnixSeconds,
    /// The import, if a file brought it.
    pub import: Option<i64>,
    /// First reading that it brought.
    pub first: UnixSeconds,
    /// Last reading that it brought.
    pub last: UnixSeconds,
    /// How many readings it brought that were not known.
    pub readings: usize,
}

impl Delivery {
    /// How long the time is that it speaks of.
    #[must_use]
    pub const fn spans(&self) -> SpanSeconds {
        SpanSeconds(self.last.0 - self.first.0)
    }
}

/// A row as it is read.
struct Row {
    stream_id: i64,
    id: i64,
    received_at: i64,
    import_id: Option<i64>,
    first: i64,
    last: i64,
    readings: i64,
}

impl From<Row> for Delivery {
    fn from(r: Row) -> Self {
        Self {
            number: r.id,
            received_at: UnixSeconds(r.received_at),
            import: r.import_id,
            first: UnixSeconds(r.first),
            last: UnixSeconds(r.last),
            readings: usize::try_from(r.readings).unwrap_or(0),
        }
    }
}

impl Store {
    /// What was delivered of each stream of a station, by its number, in the order in which it was received.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn deliveries_at(&self, station: i64) -> Result<HashMap<i64, Vec<Delivery>>, StoreError> {
        let rows = sqlx::query_as!(
            Row,
            "SELECT s.stream_id, b.id, b.received_at, b.import_id, s.first, s.last, s.readings
             FROM batch_stream s JOIN batch b ON b.id = s.batch_id
             WHERE s.stream_id IN (SELECT m.id FROM stream m JOIN node n ON n.id = m.node_id WHERE n.station_id = ?)
             ORDER BY s.stream_id, b.id",
            station
        );
        let mut all: HashMap<i64, Vec<Delivery>> = HashMap::new();
        for row in rows.fetch_all(&self.pool).await? {
            all.entry(row.stream_id).or_default().push(row.into());
        }
        Ok(all)
    }

    /// The delivery that brought the value that stands at a time of a stream; `None` for a time without a reading, and for one
    /// stored before deliveries were kept.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn delivery_of(&self, stream: i64, t: UnixSeconds) -> Result<Option<Delivery>, StoreError> {
        let number = sqlx::query_scalar!("SELECT batch FROM reading WHERE stream_id = ? AND t = ?", stream, t.0)
            .fetch_optional(&self.pool)
            .await?;
        let Some(number) = number else { return Ok(None) };
        let row = sqlx::query_as!(
            Row,
            "SELECT s.stream_id, b.id, b.received_at, b.import_id, s.first, s.last, s.readings
             FROM batch_stream s JOIN batch b ON b.id = s.batch_id WHERE s.stream_id = ? AND s.batch_id = ?",
            stream,
            number
        );
        Ok(row.fetch_optional(&self.pool).await?.map(Delivery::from))
    }
}

impl Unit {
    /// Begins a delivery and returns its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub(crate) async fn begin_batch(&mut self, origin: &Origin) -> Result<i64, StoreError> {
        let (source, at) = (origin.source.code(), origin.received_at.0);
        let done = sqlx::query!(
            "INSERT INTO batch (received_at, source, import_id) VALUES (?, ?, ?)",
            at,
            source,
            origin.import
        );
        Ok(done.execute(self.connection()).await?.last_insert_rowid())
    }
}

#[cfg(test)]
pub(crate) mod testing {
    use super::*;

    /// Readings that somebody typed at the beginning of time.
    pub const HAND: Origin = Origin::of(Source::Hand, UnixSeconds(0));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::readings::Reading;
    use crate::stations::testing::stream;

    #[tokio::test]
    async fn a_value_is_led_back_to_the_delivery_that_brought_it() {
        let (store, _dir) = store().await;
        let stream = stream(&store).await;
        let at = |hours: i64| Origin::of(Source::Message, UnixSeconds(hours * 3600));
        let reading = |i: i64| Reading { stream, t: i * 900, raw: i as f64 };
        store.add_readings(&at(1), (0..10).map(reading).collect()).await.unwrap();
        store.add_readings(&at(9), (5..20).map(reading).collect()).await.unwrap();
        store.add_readings(&at(10), (0..20).map(reading).collect()).await.unwrap();
        let deliveries = store.deliveries_at(1).await.unwrap().remove(&stream).unwrap();
        let told: Vec<_> = deliveries.iter().map(|d| (d.first.0 / 900, d.last.0 / 900, d.readings)).collect();
        assert_eq!(told, [(0, 9, 10), (10, 19, 10)], "the third brought nothing new");
        let of = async |i: i64| store.delivery_of(stream, UnixSeconds(i * 900)).await.unwrap();
        assert_eq!(of(7).await.unwrap().received_at.0, 3600, "the first that brought it");
        assert_eq!(of(12).await.unwrap().received_at.0, 9 * 3600);
        assert_eq!(of(40).await, None);
        assert_eq!(deliveries[0].spans(), SpanSeconds(9 * 900));
    }
}
