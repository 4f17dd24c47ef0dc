//! What people say of a finding: comments, and the wish for a second opinion, which is open until somebody decides.

use crate::verdicts::{Decision, same_thing};
use crate::{Store, StoreError};
use ebrel_core::quality::{Flag, Test};
use ebrel_core::units::UnixSeconds;
use std::collections::{HashMap, HashSet};

/// Something said of a finding. It names the finding as verdicts do, so that it survives a new run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remark {
    /// Row number (not used when it is to be kept).
    pub id: i64,
    /// The stream concerned.
    pub stream_id: i64,
    /// The test whose flag it speaks of.
    pub test: Test,
    /// Time of the first reading concerned.
    pub start: UnixSeconds,
    /// Last reading, inclusive.
    pub end: UnixSeconds,
    /// What is said.
    pub words: String,
    /// Whether a second opinion is wanted.
    pub asks: bool,
    /// Name of the account that said it.
    pub by: String,
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
}

/// A remark, and whether its question is open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptRemark {
    /// What was said.
    pub remark: Remark,
    /// Whether a second opinion is wanted still: nobody decided since.
    pub open: bool,
}

impl Remark {
    /// Whether it speaks of this flag of this stream.
    #[must_use]
    pub fn is_of(&self, stream: i64, flag: &Flag) -> bool {
        self.stream_id == stream && self.test == flag.test && same_thing((self.start, self.end), (flag.start, flag.end))
    }
}

/// The remarks of a station, found by what they speak of.
#[derive(Debug, Default)]
pub struct Remarks {
    all: Vec<KeptRemark>,
    of: HashMap<(i64, Test), Vec<usize>>,
}

impl Remarks {
    /// All of them, the oldest first.
    #[must_use]
    pub fn all(&self) -> &[KeptRemark] {
        &self.all
    }

    /// What was said of a flag of a stream, the oldest first.
    pub fn of(&self, stream: i64, flag: &Flag) -> impl Iterator<Item = &KeptRemark> {
        let here = self.of.get(&(stream, flag.test)).into_iter().flatten().map(|i| &self.all[*i]);
        here.filter(move |r| r.remark.is_of(stream, flag))
    }
}

impl From<Vec<KeptRemark>> for Remarks {
    fn from(all: Vec<KeptRemark>) -> Self {
        let mut of: HashMap<(i64, Test), Vec<usize>> = HashMap::new();
        for (i, r) in all.iter().enumerate() {
            of.entry((r.remark.stream_id, r.remark.test)).or_default().push(i);
        }
        Self { all, of }
    }
}

impl Store {
    /// Keeps a remark.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn remark(&self, remark: &Remark) -> Result<i64, StoreError> {
        let mut tx = self.write().await?;
        let (test, starts, ends, at) = (remark.test.code(), remark.start.0, remark.end.0, remark.at.0);
        let done = sqlx::query!(
            "INSERT INTO remark (stream_id, test, starts, ends, words, asks, said_by, said_at, after_verdict)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, (SELECT coalesce(max(id), 0) FROM verdict))",
            remark.stream_id,
            test,
            starts,
            ends,
            remark.words,
            remark.asks,
            remark.by,
            at
        );
        let id = done.execute(&mut *tx).await?.last_insert_rowid();
        tx.commit().await?;
        Ok(id)
    }

    /// The stations of a study at which somebody ever asked for a second opinion.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn stations_that_asked(&self, study: i64) -> Result<HashSet<i64>, StoreError> {
        let stations = sqlx::query_scalar!(
            "SELECT DISTINCT n.station_id FROM remark r JOIN stream s ON s.id = r.stream_id JOIN node n ON n.id = s.node_id
             JOIN station t ON t.id = n.station_id WHERE t.study_id = ? AND r.asks",
            study
        );
        Ok(stations.fetch_all(&self.pool).await?.into_iter().collect())
    }

    /// Remarks at a station, the oldest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn remarks(&self, station: i64) -> Result<Remarks, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT r.id, r.stream_id, r.test, r.starts, r.ends, r.words, r.asks AS "asks: bool", r.said_by, r.said_at, r.after_verdict
               FROM remark r JOIN stream s ON s.id = r.stream_id JOIN node n ON n.id = s.node_id
               WHERE n.station_id = ? ORDER BY r.id"#,
            station
        );
        let rows = rows.fetch_all(&self.pool).await?;
        if rows.is_empty() {
            return Ok(Remarks::default());
        }
        let decisions = self.verdicts(station).await?;
        let mut by_finding: HashMap<(i64, Test), Vec<&Decision>> = HashMap::new();
        decisions.iter().for_each(|d| by_finding.entry((d.stream_id, d.test)).or_default().push(d));
        let kept = rows.into_iter().filter_map(|r| {
            let (start, end) = (UnixSeconds(r.starts), UnixSeconds(r.ends));
            let remark = Remark {
                id: r.id,
                stream_id: r.stream_id,
                test: Test::from_code(&r.test)?,
                start,
                end,
                words: r.words,
                asks: r.asks,
                by: r.said_by,
                at: UnixSeconds(r.said_at),
            };
            let settles = |d: &&Decision| d.id > r.after_verdict && same_thing((d.start, d.end), (start, end));
            let beside = by_finding.get(&(remark.stream_id, remark.test)).into_iter().flatten();
            let open = remark.asks && !beside.copied().any(|d| settles(&d));
            Some(KeptRemark { remark, open })
        });
        Ok(Remarks::from(kept.collect::<Vec<_>>()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use ebrel_core::units::Verdict;

    #[tokio::test]
    async fn a_second_opinion_is_wanted_until_somebody_decides_and_again_when_that_is_taken_back() {
        let (store, _dir) = store().await;
        let stream_id = crate::stations::testing::stream(&store).await;
        let said = |words: &str, asks| Remark {
            id: 0,
            stream_id,
            test: Test::Step,
            start: UnixSeconds(9000),
            end: UnixSeconds(18_000),
            words: words.into(),
            asks,
            by: "T. Quill".into(),
            at: UnixSeconds(5),
        };
        let decision = |start: i64, mark| Decision {
            id: 0,
            stream_id,
            test: Test::Step,
            start: UnixSeconds(start),
            end: UnixSeconds(start + 9000),
            verdict: Verdict::Kept,
            reason: String::new(),
            by: "N. Arvel".into(),
            at: UnixSeconds(5),
            mark,
        };
        store.decide(&[decision(9000, None)]).await.unwrap();
        store.remark(&said("θ rose, “odd”", true)).await.unwrap();
        store.remark(&said("the mole?", false)).await.unwrap();
        let open = async || store.remarks(1).await.unwrap().all().iter().map(|r| r.open).collect::<Vec<_>>();
        assert_eq!(open().await, [true, false], "what was decided before the question does not answer it");
        store.decide(&[decision(90_000, None)]).await.unwrap();
        assert_eq!(open().await, [true, false], "nor does what is decided elsewhere");
        let ids = store.decide(&[decision(9900, None)]).await.unwrap();
        assert_eq!(open().await, [false, false]);
        store.undo_decisions(&ids, "N. Arvel", UnixSeconds(6)).await.unwrap();
        assert_eq!(open().await, [true, false]);
        let remarks = store.remarks(1).await.unwrap();
        let kept = remarks.all();
        assert_eq!((kept[0].remark.words.as_str(), kept[1].remark.words.as_str()), ("θ rose, “odd”", "the mole?"));
        assert!(store.remarks(99).await.unwrap().all().is_empty());
    }
}
