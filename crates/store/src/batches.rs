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
    /// A record package that does not say what brought them before.
    Package,
}

impl Source {
    const ALL: [Self; 5] = [Self::File, Self::Message, Self::Hand, Self::Demo, Self::Package];

    /// The source of a code.
    #[must_use]
    pub fn of_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.code() == code)
    }

    /// Whether it came without anybody bringing it.
    #[must_use]
    pub const fn is_by_itself(self) -> bool {
        matches!(self, Self::Message | Self::Demo)
    }

    /// Its code in the database and in a record package.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::File => "file",
            Self::Message => "message",
            Self::Hand => "hand",
            Self::Demo => "demo",
            Self::Package => "package",
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
    /// What brought it.
    pub source: Source,
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
    source: String,
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
            source: Source::of_code(&r.source).unwrap_or(Source::Hand),
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
            "SELECT s.stream_id, b.id, b.received_at, b.source, b.import_id, s.first, s.last, s.readings
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

    /// The delivery that brought the value that stands at a time of a stream: its number, when it was received, by what, and by which
    /// import. `None` for a time without a reading, and for one stored before deliveries were kept.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn delivery_of(&self, stream: i64, t: UnixSeconds) -> Result<Option<(i64, Origin)>, StoreError> {
        let row = sqlx::query!(
            "SELECT b.id, b.received_at, b.source, b.import_id FROM reading r JOIN batch b ON b.id = r.batch
             WHERE r.stream_id = ? AND r.t = ?",
            stream,
            t.0
        );
        let row = row.fetch_optional(&self.pool).await?;
        Ok(row.and_then(|r| {
            let source = Source::of_code(&r.source)?;
            Some((r.id, Origin { source, import: r.import_id, received_at: UnixSeconds(r.received_at) }))
        }))
    }

    /// The time of the last reading of each of these streams that came by itself; a stream of which none did is not among them.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn last_by_itself(&self, streams: &[i64]) -> Result<HashMap<i64, UnixSeconds>, StoreError> {
        let streams = serde_json::to_string(streams)?;
        // From the end of the record, where it lies as a rule; a stream that only files brought is not looked through.
        let rows = sqlx::query!(
            r#"SELECT j.value + 0 AS "stream!: i64",
                      (SELECT r.t FROM reading r JOIN batch b ON b.id = r.batch
                       WHERE r.stream_id = j.value AND b.source IN ('message', 'demo') ORDER BY r.t DESC LIMIT 1) AS "last: i64"
               FROM json_each(?) j WHERE EXISTS (SELECT 1 FROM batch_stream x CROSS JOIN batch b ON b.id = x.batch_id
                   WHERE x.stream_id = j.value AND b.source IN ('message', 'demo'))"#,
            streams
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.filter_map(|r| Some((r.stream, UnixSeconds(r.last?)))).collect())
    }

    /// When the last `n` readings of each of these streams arrived, each arrival once and in order; what somebody brought or typed is none.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn arrivals(&self, streams: &[i64], n: i64) -> Result<HashMap<i64, Vec<i64>>, StoreError> {
        let streams = serde_json::to_string(streams)?;
        let rows = sqlx::query!(
            r#"SELECT DISTINCT j.value + 0 AS "stream!: i64", b.received_at
               FROM json_each(?1) j CROSS JOIN batch b ON b.id IN
                   (SELECT batch FROM reading WHERE stream_id = j.value ORDER BY t DESC LIMIT ?2)
               WHERE b.source IN ('message', 'demo') ORDER BY 1, 2"#,
            streams,
            n
        );
        let mut all: HashMap<i64, Vec<i64>> = HashMap::new();
        for r in rows.fetch_all(&self.pool).await? {
            all.entry(r.stream).or_default().push(r.received_at);
        }
        Ok(all)
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
    use crate::stations::testing::{station, stream};
    use ebrel_core::units::Quantity;

    #[tokio::test]
    async fn a_value_is_led_back_to_the_delivery_that_brought_it() {
        let (store, _dir) = store().await;
        let stream = stream(&store).await;
        let at = |hours: i64| Origin::of(Source::Message, UnixSeconds(hours * 3600));
        let reading = |i: i64| Reading { stream, t: i * 900, raw: i as f64 };
        store.add_readings(&at(49), (0..10).map(reading).collect()).await.unwrap();
        store.add_readings(&at(57), (5..20).map(reading).collect()).await.unwrap();
        store.add_readings(&at(58), (0..20).map(reading).collect()).await.unwrap();
        let deliveries = store.deliveries_at(1).await.unwrap().remove(&stream).unwrap();
        let told: Vec<_> = deliveries.iter().map(|d| (d.first.0 / 900, d.last.0 / 900, d.readings)).collect();
        assert_eq!(told, [(0, 9, 10), (10, 19, 10)], "the third brought nothing new");
        let of = async |i: i64| store.delivery_of(stream, UnixSeconds(i * 900)).await.unwrap();
        assert_eq!(of(7).await.unwrap().1, at(49), "the first that brought it");
        assert_eq!(of(12).await.unwrap().1, at(57));
        assert_eq!(of(40).await, None);
        assert_eq!(deliveries[0].spans(), SpanSeconds(9 * 900));
        let arrivals = async |n| store.arrivals(&[stream, 99], n).await.unwrap();
        assert_eq!(arrivals(100).await, [(stream, vec![49 * 3600, 57 * 3600])].into());
        assert_eq!(arrivals(3).await, [(stream, vec![57 * 3600])].into());
    }

    #[tokio::test]
    async fn a_stream_was_heard_when_its_last_message_says_whatever_files_brought_before_and_after() {
        let (store, _dir) = store().await;
        let node = store.ensure_node(station(&store).await, "a").await.unwrap();
        let mut streams = Vec::new();
        for port in ["both", "files alone", "nothing"] {
            streams.push(store.ensure_stream(node, port, Quantity::RawOutput, "mV", None).await.unwrap());
        }
        let brings = async |source: Source, stream: i64, times: std::ops::Range<i64>| {
            let readings = times.map(|i| Reading { stream, t: i * 900, raw: 1.0 }).collect();
            store.add_readings(&Origin::of(source, UnixSeconds(900_000)), readings).await.unwrap();
        };
        brings(Source::File, streams[0], 0..10).await;
        brings(Source::Message, streams[0], 5..20).await;
        brings(Source::File, streams[0], 15..40).await;
        brings(Source::File, streams[1], 0..40).await;
        let heard = store.last_by_itself(&streams).await.unwrap();
        assert_eq!(heard, [(streams[0], UnixSeconds(19 * 900))].into());
        let delivered = store.deliveries_at(1).await.unwrap();
        let by_itself = delivered[&streams[0]].iter().filter(|d| d.source.is_by_itself()).map(|d| d.last).max();
        assert_eq!(by_itself, Some(heard[&streams[0]]), "as its deliveries tell");
        brings(Source::Message, streams[0], 2..4).await;
        assert_eq!(store.last_by_itself(&streams).await.unwrap(), heard, "late and known ones are not the last");
    }

    #[tokio::test]
    async fn messages_in_time_are_one_delivery_a_day_and_late_ones_their_own() {
        let (store, _dir) = store().await;
        let stream = stream(&store).await;
        let send = async |received: i64, t: i64| {
            let origin = Origin::of(Source::Message, UnixSeconds(received));
            store.add_readings(&origin, vec![Reading { stream, t, raw: 1.0 }]).await.unwrap();
        };
        for i in 0..96 * 3 {
            // One in ten of the second day comes two days later.
            let late = (96..192).contains(&i) && i % 10 == 0;
            send(i * 900 + 5 + if late { 2 * 86_400 } else { 0 }, i * 900).await;
        }
        let deliveries = store.deliveries_at(1).await.unwrap().remove(&stream).unwrap();
        assert_eq!(deliveries.iter().map(|d| d.readings).sum::<usize>(), 288, "each is counted");
        let slow = deliveries.iter().filter(|d| d.received_at - d.first > SpanSeconds::DAY).count();
        assert_eq!((deliveries.len() - slow, slow), (3, 10));
        let of = store.delivery_of(stream, UnixSeconds(50 * 900)).await.unwrap().unwrap();
        assert_eq!(of.1.received_at.0, 50 * 900 + 5, "a reading knows its own");
    }
}
