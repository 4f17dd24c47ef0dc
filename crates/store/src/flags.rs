//! What the tests found last. Flags are made again at every run; verdicts are not touched by it.

use crate::verdicts::{Decision, EffectiveVerdict, standing};
use crate::{Store, StoreError, Unit};
use ebrel_core::quality::{CauseKind, Evidence, Findings, Flag, Judged, Mend, Test};
use ebrel_core::series::Belief;
use ebrel_core::units::{Grade, UnixSeconds};
use std::collections::HashMap;

/// A flag as it is kept, with the verdict that stands on it.
#[derive(Debug, Clone, PartialEq)]
pub struct StoredFlag {
    /// Row number; changes with every run. Of what a person saw: that of the decision, negative.
    pub id: i64,
    /// The stream concerned.
    pub stream_id: i64,
    /// The placement through which it was read.
    pub placement_id: i64,
    /// What the test found.
    pub flag: Flag,
    /// How much harm it does unseen.
    pub damage: f64,
    /// The verdict that stands, if any.
    pub verdict: Option<EffectiveVerdict>,
    /// Row number of what explains it together with flags of other channels, if anything does.
    pub cause: Option<i64>,
}

/// What explains flags of several channels, as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct StoredCause {
    /// Row number; changes with every run.
    pub id: i64,
    /// What it is.
    pub kind: CauseKind,
    /// The node concerned.
    pub node: String,
    /// When it began.
    pub start: UnixSeconds,
    /// When it ended, inclusive.
    pub end: UnixSeconds,
    /// What is said of it, its numbers included.
    pub reason: String,
    /// What speaks against it; may be empty.
    pub against: String,
    /// What would put it right, if that can be said.
    pub mend: Option<Mend>,
}

impl StoredFlag {
    /// Whether its readings stay out.
    #[must_use]
    pub fn leaves_out(&self, belief: &Belief) -> bool {
        belief.leaves_out(self.flag.grade, self.verdict.as_ref().map(|v| v.verdict))
    }

    /// Whether a person saw it and no test did.
    #[must_use]
    pub const fn is_own(&self) -> bool {
        matches!(self.flag.evidence, Evidence::Seen(_))
    }

    /// Whether it waits for a verdict.
    #[must_use]
    pub fn waits(&self) -> bool {
        self.flag.grade != Grade::Condition && self.verdict.is_none()
    }
}

/// A thing that waits for a verdict, for a list of what is wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WaitingFlag {
    /// The stream concerned.
    pub stream_id: i64,
    /// The test that found it, or the worst of what its cause explains.
    pub test: Test,
    /// What explains it together with others, if anything does.
    pub cause: Option<CauseKind>,
    /// Time of the first reading concerned.
    pub start: UnixSeconds,
    /// Last reading, inclusive.
    pub end: UnixSeconds,
    /// What is said of it, its numbers included.
    pub reason: String,
}

/// What a run found at a station.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Found {
    /// Which channel the flags of [`Findings`] belong to, in their order: stream and placement.
    pub channels: Vec<(i64, i64)>,
    /// What was found.
    pub findings: Findings,
}

impl Store {
    /// Puts the flags of a new run in the place of the old ones of a station. `seen` is what
    /// [`Store::changes_to_test`] said before the run read the record.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses; the old flags stand then.
    pub async fn replace_flags(&self, station: i64, seen: i64, found: &Found) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.replace_flags(station, seen, found).await?;
        unit.commit().await
    }

    /// Takes what this process knows of the last run over a station, to be given back by [`Self::keep_judged`].
    #[must_use]
    pub fn take_judged(&self, station: i64) -> Judged {
        self.judged.take(station)
    }

    /// Keeps what a run over a station knows, for the next one. It is lost with the process, and nothing is lost by that.
    pub fn keep_judged(&self, station: i64, judged: Judged) {
        self.judged.keep(station, judged);
    }

    /// How many things of each station of a study wait for a verdict; together its badge on every page. A station for which nothing waits is
    /// not among them. Flags that one cause explains are one thing. Verdicts count as [`Store::flags`] has them.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn waiting(&self, study: i64) -> Result<HashMap<i64, usize>, StoreError> {
        let condition = Grade::Condition.code();
        let rows = sqlx::query!(
            r#"SELECT f.station_id, count(DISTINCT coalesce('cause ' || f.cause_id, 'flag ' || f.id)) AS "n!: i64"
               FROM flag f JOIN station s ON s.id = f.station_id
               WHERE s.study_id = ?1 AND f.grade <> ?2 AND NOT EXISTS (
                   SELECT 1 FROM verdict v
                   WHERE v.stream_id = f.stream_id AND v.test = f.test AND v.undone_at IS NULL
                     AND 2 * (min(v.ends, f.ends) - max(v.starts, f.starts) + 1)
                         >= max(v.ends - v.starts, f.ends - f.starts) + 1)
               GROUP BY f.station_id"#,
            study,
            condition
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|r| (r.station_id, usize::try_from(r.n).unwrap_or(0))).collect())
    }

    /// The most damaging things of each station of a study that wait for a verdict, so many of each at most: flags that one cause explains
    /// are one, told by what is said of it.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn worst_waiting(&self, study: i64, most: i64) -> Result<HashMap<i64, Vec<WaitingFlag>>, StoreError> {
        let condition = Grade::Condition.code();
        // Of a group SQLite takes the row that has the maximum.
        let rows = sqlx::query!(
            r#"WITH thing AS (
                   SELECT f.station_id, f.stream_id, f.test, f.id, c.kind, coalesce(c.starts, f.starts) AS starts,
                          coalesce(c.ends, f.ends) AS ends, coalesce(c.reason, f.reason) AS reason, max(f.damage) AS damage
                   FROM flag f JOIN station s ON s.id = f.station_id LEFT JOIN cause c ON c.id = f.cause_id
                   WHERE s.study_id = ?1 AND f.grade <> ?2 AND NOT EXISTS (
                       SELECT 1 FROM verdict v
                       WHERE v.stream_id = f.stream_id AND v.test = f.test AND v.undone_at IS NULL
                         AND 2 * (min(v.ends, f.ends) - max(v.starts, f.starts) + 1)
                             >= max(v.ends - v.starts, f.ends - f.starts) + 1)
                   GROUP BY coalesce('cause ' || f.cause_id, 'flag ' || f.id)),
               ranked AS (SELECT *, row_number() OVER (PARTITION BY station_id ORDER BY damage DESC, starts, id) AS place FROM thing)
               SELECT station_id AS "station_id!: i64", stream_id AS "stream_id!: i64", test AS "test!: String", kind AS "kind?: String",
                      starts AS "starts!: i64", ends AS "ends!: i64", reason AS "reason!: String"
               FROM ranked WHERE place <= ?3 ORDER BY station_id, place"#,
            study,
            condition,
            most
        );
        let mut all: HashMap<i64, Vec<WaitingFlag>> = HashMap::new();
        for r in rows.fetch_all(&self.pool).await? {
            let (start, end) = (UnixSeconds(r.starts), UnixSeconds(r.ends));
            let cause = r.kind.and_then(|kind| CauseKind::from_code(&kind));
            let Some(test) = Test::from_code(&r.test) else { continue };
            let flag = WaitingFlag { stream_id: r.stream_id, test, cause, start, end, reason: r.reason };
            all.entry(r.station_id).or_default().push(flag);
        }
        Ok(all)
    }

    /// Flags of a station with their verdicts, the most damaging first; among them what persons saw, unless a test found it since.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn flags(&self, station: i64) -> Result<Vec<StoredFlag>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, stream_id, placement_id, test, grade, starts, ends, readings, damage, evidence, reason, cause_id
             FROM flag WHERE station_id = ? ORDER BY damage DESC, starts, id",
            station
        )
        .fetch_all(&self.pool)
        .await?;
        let verdicts = self.verdicts(station).await?;
        let mut flags = Vec::with_capacity(rows.len());
        for r in rows {
            let Some((test, grade)) = Test::from_code(&r.test).zip(Grade::from_code(&r.grade)) else { continue };
            let flag = Flag {
                start: UnixSeconds(r.starts),
                end: UnixSeconds(r.ends),
                test,
                grade,
                readings: usize::try_from(r.readings).unwrap_or(0),
                strength: 0.0,
                evidence: Evidence::read(test, &r.evidence)?,
                reason: r.reason,
            };
            let verdict = standing(&verdicts, r.stream_id, &flag);
            let (stream_id, placement_id) = (r.stream_id, r.placement_id);
            let (damage, cause) = (r.damage, r.cause_id);
            flags.push(StoredFlag { id: r.id, stream_id, placement_id, flag, damage, verdict, cause });
        }
        let own = self.own_flags(station, &verdicts, &flags).await?;
        if !own.is_empty() {
            flags.extend(own);
            flags.sort_by(|a, b| b.damage.total_cmp(&a.damage).then(a.flag.start.cmp(&b.flag.start)));
        }
        Ok(flags)
    }

    /// What persons saw: a finding of its own where none of `found` is answered by it.
    async fn own_flags(
        &self,
        station: i64,
        verdicts: &[Decision],
        found: &[StoredFlag],
    ) -> Result<Vec<StoredFlag>, StoreError> {
        let answers = |d: &Decision| found.iter().any(|f| f.verdict.as_ref().is_some_and(|v| v.id == d.id));
        let marks = verdicts.iter().filter_map(|d| Some((d, d.own_flag()?)));
        let own: Vec<(&Decision, Flag)> = marks.filter(|(d, _)| !answers(d)).collect();
        if own.is_empty() {
            return Ok(Vec::new());
        }
        let rows = sqlx::query!(
            "SELECT s.id AS stream_id, p.id AS placement_id, p.starts, p.ends
             FROM stream s JOIN node n ON n.id = s.node_id JOIN placement p ON p.node_id = s.node_id AND p.port = s.port
             WHERE n.station_id = ? ORDER BY p.starts",
            station
        );
        let placed = rows.fetch_all(&self.pool).await?;
        let one = |(d, flag): (&Decision, Flag)| {
            let at = d.start.0;
            let here = placed
                .iter()
                .find(|p| p.stream_id == d.stream_id && p.starts <= at && p.ends.is_none_or(|ends| ends > at));
            StoredFlag {
                id: -d.id,
                stream_id: d.stream_id,
                placement_id: here.map_or(0, |p| p.placement_id),
                damage: flag.damage(),
                verdict: standing(verdicts, d.stream_id, &flag),
                flag,
                cause: None,
            }
        };
        Ok(own.into_iter().map(one).collect())
    }

    /// What explains several flags at once at a station, in order of time.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn causes(&self, station: i64) -> Result<Vec<StoredCause>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, kind, node, starts, ends, reason, against, mend FROM cause WHERE station_id = ? ORDER BY starts, id",
            station
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let causes = rows.filter_map(|r| {
            let kind = CauseKind::from_code(&r.kind)?;
            let (start, end) = (UnixSeconds(r.starts), UnixSeconds(r.ends));
            // A mend that this version does not know is none.
            let mend = r.mend.and_then(|json| serde_json::from_str(&json).ok());
            Some(StoredCause { id: r.id, kind, node: r.node, start, end, reason: r.reason, against: r.against, mend })
        });
        Ok(causes.collect())
    }
}

impl Unit {
    /// As [`Store::replace_flags`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn replace_flags(&mut self, station: i64, seen: i64, found: &Found) -> Result<(), StoreError> {
        let tx = self.connection();
        sqlx::query!("UPDATE station_tests SET seen = ? WHERE station_id = ?", seen, station).execute(&mut *tx).await?;
        sqlx::query!("DELETE FROM flag WHERE station_id = ?", station).execute(&mut *tx).await?;
        sqlx::query!("DELETE FROM cause WHERE station_id = ?", station).execute(&mut *tx).await?;
        let mut explained: HashMap<(usize, usize), i64> = HashMap::new();
        for cause in &found.findings.causes {
            let (kind, starts, ends) = (cause.kind.code(), cause.start.0, cause.end.0);
            let mend = cause.mend.as_ref().map(serde_json::to_string).transpose()?;
            let done = sqlx::query!(
                "INSERT INTO cause (station_id, kind, node, starts, ends, reason, against, mend) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                station,
                kind,
                cause.node,
                starts,
                ends,
                cause.reason,
                cause.against,
                mend
            );
            let id = done.execute(&mut *tx).await?.last_insert_rowid();
            explained.extend(cause.flags.iter().map(|flag| (*flag, id)));
        }
        for (c, ((stream, placement), flags)) in found.channels.iter().zip(&found.findings.flags).enumerate() {
            for (i, flag) in flags.iter().enumerate() {
                let cause = explained.get(&(c, i)).copied();
                insert_flag(tx, station, (*stream, *placement), flag, cause).await?;
            }
        }
        Ok(())
    }

    /// Takes flags that came with a station's record as those of a run that has seen all of it: no test is due until something
    /// changes there.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn take_flags(&mut self, station: i64, found: &Found) -> Result<(), StoreError> {
        self.count_changes().await?;
        let due = sqlx::query_scalar!("SELECT due FROM station_tests WHERE station_id = ?", station);
        let seen = due.fetch_optional(self.connection()).await?.unwrap_or(0);
        self.replace_flags(station, seen, found).await
    }
}

async fn insert_flag(
    connection: &mut sqlx::SqliteConnection,
    station: i64,
    (stream, placement): (i64, i64),
    flag: &Flag,
    cause: Option<i64>,
) -> Result<(), StoreError> {
    let (test, grade) = (flag.test.code(), flag.grade.code());
    let (starts, ends, readings) = (flag.start.0, flag.end.0, flag.readings as i64);
    let (damage, evidence) = (flag.damage(), serde_json::to_string(&flag.evidence)?);
    sqlx::query!(
        "INSERT INTO flag (station_id, stream_id, placement_id, test, grade, starts, ends, readings, damage,
         evidence, reason, cause_id) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        station,
        stream,
        placement,
        test,
        grade,
        starts,
        ends,
        readings,
        damage,
        evidence,
        flag.reason,
        cause
    )
    .execute(connection)
    .await?;
    Ok(())
}
