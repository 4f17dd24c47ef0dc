//! Writing readings together with the packed months that they change.

use crate::StoreError;
use crate::adding::{insert, rows_of};
use crate::readings::Reading;
use ebrel_core::series::Series;
use ebrel_core::units::UnixSeconds;
use futures_util::future::join;
use pco::standalone::simple_compress;

/// Months are 30.4375 days here: what matters is that every second belongs to exactly one.
pub(crate) const MONTH_S: i64 = 2_629_800;

/// The month a second belongs to.
pub(crate) fn month_of(t: i64) -> i64 {
    t.div_euclid(MONTH_S)
}

/// What a stream held before, as far as new readings meet it.
pub(crate) enum Before {
    /// The stream held nothing at all.
    Nothing,
    /// Nothing between the first and the last of them.
    Apart,
    /// All of the months that they touch.
    Months(Series),
    /// Something, and only its rows tell what.
    Unread,
}

/// New readings of a stream for which its months are packed at once; fewer, as a message brings them, leave that to the next read.
const WORTH_PACKING: usize = 500;

/// New readings of one stream and month, and what the month held beside them; `None`: only its rows can tell.
struct Touched<'r> {
    new: &'r [Reading],
    there: Option<Series>,
}

/// Adds the months that new readings of one stream touch, with what they held so far where that is known or quickly learnt.
async fn touch<'r>(
    connection: &mut sqlx::SqliteConnection,
    readings: &'r [Reading],
    before: &Before,
    touched: &mut Vec<Touched<'r>>,
) -> Result<(), StoreError> {
    let Some((first, last)) = readings.first().zip(readings.last()) else { return Ok(()) };
    let (first_month, last_month) = (month_of(first.t), month_of(last.t));
    for new in readings.chunk_by(|a, b| month_of(a.t) == month_of(b.t)) {
        let month = month_of(new[0].t);
        let within = first_month < month && month < last_month;
        let there = match before {
            Before::Nothing => Some(Series::default()),
            Before::Apart if within => Some(Series::default()),
            Before::Unread => None,
            _ if readings.len() < WORTH_PACKING => None,
            Before::Apart => at_the_edge(connection, first.stream, month, (first.t, last.t)).await?,
            Before::Months(known) => {
                let view = known.between(UnixSeconds(month * MONTH_S), UnixSeconds((month + 1) * MONTH_S));
                Some(Series { times: view.times.into(), values: view.values.to_vec() })
            }
        };
        touched.push(Touched { new, there });
    }
    Ok(())
}

/// Writes new readings of streams, which lie one after another and are told by where they begin and end, and puts the blocks of their
/// months right: packed anew, else dropped. A file that came in pieces then reads back fast without going through its rows. Months are
/// packed while statements run.
pub(crate) async fn write(
    connection: &mut sqlx::SqliteConnection,
    batch_of: impl Fn(&Reading) -> i64,
    readings: &[Reading],
    streams: &[(usize, usize, Before)],
) -> Result<(), StoreError> {
    let Some((from, to)) = streams.first().zip(streams.last()).map(|(a, b)| (a.0, b.1)) else { return Ok(()) };
    let mut touched = Vec::new();
    for (start, end, before) in streams {
        touch(connection, &readings[*start..*end], before, &mut touched).await?;
    }
    let mut renewal = Renewal::default();
    let packing = async {
        for month in touched {
            renewal.take(&month)?;
            tokio::task::yield_now().await;
        }
        Ok::<(), StoreError>(())
    };
    let (written, packed) = join(insert(connection, batch_of, &readings[from..to]), packing).await;
    written.and(packed)?;
    renewal.finish(connection).await
}

/// Blocks that several streams get or lose together: streams of one file share their times, which are packed once.
#[derive(Default)]
struct Renewal {
    stale: Vec<(i64, i64)>,
    packed: Vec<(i64, i64, Packed)>,
    times: Option<(Vec<i64>, Vec<u8>)>,
}

impl Renewal {
    fn take(&mut self, Touched { new, there }: &Touched<'_>) -> Result<(), StoreError> {
        let (stream, month) = (new[0].stream, month_of(new[0].t));
        let Some(there) = there else {
            self.stale.push((stream, month));
            return Ok(());
        };
        let (times, raws) = with_new(there, new);
        let block = self.pack(times, &raws)?;
        self.packed.push((stream, month, block));
        Ok(())
    }

    fn pack(&mut self, times: Vec<i64>, raws: &[f64]) -> Result<Packed, StoreError> {
        let packed = match &self.times {
            Some((same, packed)) if *same == times => packed.clone(),
            _ => {
                let packed = simple_compress(&times, &config())?;
                self.times = Some((times, packed.clone()));
                packed
            }
        };
        Ok(Packed { times: packed, raws: simple_compress(raws, &config())? })
    }

    /// Writes what is packed, and throws away what does not tell all any more.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    async fn finish(self, connection: &mut sqlx::SqliteConnection) -> Result<(), StoreError> {
        for blocks in self.packed.chunks(BLOCKS_AT_ONCE) {
            let sql = rows_of(
                "INSERT OR REPLACE INTO month_block (stream_id, month, times, raws) VALUES",
                "(?,?,?,?)",
                blocks.len(),
            );
            let mut query = sqlx::query(sqlx::AssertSqlSafe(sql.as_str()));
            for (stream, month, block) in blocks {
                query = query.bind(stream).bind(month).bind(&block.times).bind(&block.raws);
            }
            query.execute(&mut *connection).await?;
        }
        if self.stale.is_empty() {
            return Ok(());
        }
        let stale = serde_json::to_string(&self.stale)?;
        sqlx::query!(
            "DELETE FROM month_block WHERE (stream_id, month) IN (SELECT value ->> 0, value ->> 1 FROM json_each(?))",
            stale
        )
        .execute(connection)
        .await?;
        Ok(())
    }
}

/// Blocks that are written with one statement.
const BLOCKS_AT_ONCE: usize = 100;

/// What a month held beside readings from `from` to `to`, by its block; `None` if that has to be read from its rows.
async fn at_the_edge(
    connection: &mut sqlx::SqliteConnection,
    stream: i64,
    month: i64,
    (from, to): (i64, i64),
) -> Result<Option<Series>, StoreError> {
    let block = sqlx::query!(
        r#"SELECT times AS "times!", raws AS "raws!" FROM month_block WHERE stream_id = ? AND month = ?"#,
        stream,
        month
    )
    .fetch_optional(&mut *connection)
    .await?;
    if let Some((times, values)) = block.and_then(|b| unpack(&Packed { times: b.times, raws: b.raws })) {
        return Ok(Some(Series { times: times.into(), values }));
    }
    let (begins, ends) = (month * MONTH_S, (month + 1) * MONTH_S);
    let others = sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT 1 FROM reading WHERE stream_id = ?1 AND t >= ?2 AND t < ?3)
               OR EXISTS (SELECT 1 FROM reading WHERE stream_id = ?1 AND t > ?4 AND t < ?5) AS "any!: bool""#,
        stream,
        begins,
        from,
        to,
        ends
    )
    .fetch_one(&mut *connection)
    .await?;
    Ok((!others).then(Series::default))
}

/// Times and values of a month in order of time: what was there, and new readings at other times.
fn with_new(there: &Series, new: &[Reading]) -> (Vec<i64>, Vec<f64>) {
    let old = there.times.iter().copied().zip(there.values.iter().copied());
    let mut all: Vec<(i64, f64)> = old.chain(new.iter().map(|r| (r.t, r.raw))).collect();
    // Two sorted runs: merged, not sorted anew.
    all.sort_by_key(|r| r.0);
    all.into_iter().unzip()
}

/// Times and values of one month, packed.
pub(crate) struct Packed {
    pub(crate) times: Vec<u8>,
    pub(crate) raws: Vec<u8>,
}

/// Unpacks one month; `None` if the block is damaged: it is a cache, and the readings stand.
pub(crate) fn unpack(block: &Packed) -> Option<(Vec<i64>, Vec<f64>)> {
    let times = pco::standalone::simple_decompress::<i64>(&block.times).ok()?;
    let raws = pco::standalone::simple_decompress::<f64>(&block.raws).ok()?;
    (times.len() == raws.len()).then_some((times, raws))
}

/// Packs one month.
pub(crate) fn pack(times: &[i64], raws: &[f64]) -> Result<Packed, StoreError> {
    Ok(Packed { times: simple_compress(times, &config())?, raws: simple_compress(raws, &config())? })
}

fn config() -> pco::ChunkConfig {
    pco::ChunkConfig::default().with_compression_level(4)
}

/// Keeps a packed month in the place of an older one.
pub(crate) async fn insert_block(
    tx: &mut sqlx::SqliteConnection,
    stream: i64,
    month: i64,
    block: &Packed,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT OR REPLACE INTO month_block (stream_id, month, times, raws) VALUES (?, ?, ?, ?)",
        stream,
        month,
        block.times,
        block.raws
    )
    .execute(tx)
    .await?;
    Ok(())
}
