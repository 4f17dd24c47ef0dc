//! Where a record came from, for its package: deliveries, verdicts, and what was adopted.

use crate::record::Flagged;
use crate::record::{ChannelRecord, StationRecord};
use ebrel_core::series::DatedCurve;
use ebrel_core::temperature::DatedCorrection;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::package::{DeliveryRow, Particulars, TestNumbers, VerdictRow};
use ebrel_store::calibrations::{Adopted, Subject};
use ebrel_store::corrections::StoredCorrection;
use ebrel_store::in_force::InForce;
use ebrel_store::packages::{FirstDelivery, Run};
use ebrel_store::settings::SettingVersion;
use ebrel_store::verdicts::Decision;
use ebrel_store::{Store, StoreError};
use std::collections::{BTreeSet, HashMap};

/// Where the records of a package came from.
#[derive(Debug, Default)]
pub struct Origins {
    adopted: HashMap<i64, InForce>,
    corrections: HashMap<i64, Vec<StoredCorrection>>,
    decisions: HashMap<i64, Vec<Decision>>,
    runs: HashMap<i64, Vec<Run>>,
    numbers: HashMap<i64, SettingVersion>,
    deliveries: Vec<(i64, FirstDelivery)>,
}

impl Origins {
    /// Loads where these records came from.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn load(store: &Store, parts: &[Flagged]) -> Result<Self, StoreError> {
        let mut origins = Self::default();
        let mut numbers = BTreeSet::new();
        for Flagged { record, .. } in parts {
            let station = record.station.id;
            origins.adopted.insert(station, store.calibrations_at(station).await?);
            origins.decisions.insert(station, store.verdicts(station).await?);
            if let Some(set) = store.settings_in_force(record.study.id, station).await? {
                origins.numbers.insert(station, set);
            }
            for channel in &record.channels {
                let (stream, probe) = (channel.channel.stream.id, channel.channel.placement.probe.id);
                if !channel.corrections.is_empty() && !origins.corrections.contains_key(&probe) {
                    origins.corrections.insert(probe, store.corrections(probe).await?);
                }
                if let std::collections::hash_map::Entry::Vacant(of) = origins.runs.entry(stream) {
                    let runs = store.delivery_runs(stream).await?;
                    numbers.extend(runs.iter().map(|r| r.delivery));
                    of.insert(runs);
                }
            }
        }
        origins.deliveries = store.first_deliveries(&numbers.into_iter().collect::<Vec<_>>()).await?;
        Ok(origins)
    }

    /// By which numbers the tests of a station ran, if some are not the usual ones.
    pub(super) fn tests(&self, record: &StationRecord) -> Option<TestNumbers> {
        let set = self.numbers.get(&record.station.id)?;
        let (station, numbers) = (record.station.code.clone(), set.numbers.clone());
        Some(TestNumbers { station, numbers, by: set.by.clone(), at: set.at })
    }

    /// The delivery that brought what a channel shows at a time.
    pub(super) fn delivery(&self, channel: &ChannelRecord, t: UnixSeconds) -> Option<i64> {
        let runs = self.runs.get(&channel.channel.stream.id)?;
        let came = channel.node_time(t).unwrap_or(t).0;
        let at = runs.partition_point(|r| r.first <= came).checked_sub(1)?;
        Some(runs[at].delivery)
    }

    /// Rows of the deliveries that are used, numbered from 1 as they were received, and the number of each.
    pub(super) fn deliveries(&self, used: &BTreeSet<i64>) -> (Vec<DeliveryRow>, HashMap<i64, u32>) {
        let mut numbers = HashMap::new();
        let used = self.deliveries.iter().filter(|d| used.contains(&d.0));
        let rows = (1..).zip(used).map(|(number, (id, first))| {
            numbers.insert(*id, number);
            DeliveryRow {
                delivery: number,
                received: first.received_at,
                source: first.source.code().to_owned(),
                file: first.file_name.clone(),
                sha256: first.sha256.clone(),
                by: first.by.clone(),
            }
        });
        let rows = rows.collect();
        (rows, numbers)
    }

    /// Verdicts in force at a station, each under the name of its channel; `channels` in the order of the package.
    pub(super) fn verdicts(&self, station: i64, channels: &[(&ChannelRecord, &str)]) -> Vec<VerdictRow> {
        let mut decisions: Vec<&Decision> = self.decisions.get(&station).into_iter().flatten().collect();
        decisions.sort_by_key(|d| d.id);
        let row = |d: &Decision| {
            let of_stream = || channels.iter().filter(|c| c.0.channel.stream.id == d.stream_id);
            let there = of_stream().find(|c| {
                let placement = &c.0.channel.placement;
                placement.starts <= d.end && placement.ends.is_none_or(|ends| d.start < ends)
            });
            Some(VerdictRow {
                channel: there.or_else(|| of_stream().next())?.1.to_owned(),
                start: d.start,
                end: d.end,
                test: d.test.code().to_owned(),
                verdict: d.verdict.code().to_owned(),
                reason: d.reason.clone(),
                by: d.by.clone(),
                at: d.at,
                mark: d.mark.map_or_else(String::new, |m| m.grade.code().to_owned()),
                readings: d.mark.and_then(|m| u32::try_from(m.readings).ok()),
            })
        };
        decisions.into_iter().filter_map(row).collect()
    }

    /// How a curve of a channel was adopted, as JSON; empty if that is not known.
    pub(super) fn adoption(&self, station: i64, channel: &ChannelRecord, dated: &DatedCurve) -> String {
        let adopted = self.adopted.get(&station).into_iter().flat_map(|a| {
            let probe = &channel.channel.placement.probe;
            a.serving(probe.id, &probe.model, channel.horizon.as_ref())
        });
        let particulars = |a: &Adopted| Particulars::Calibration {
            model: match &a.subject {
                Subject::Probe(_) => String::new(),
                Subject::Model(model) => model.clone(),
            },
            soil: a.made_with.soil.clone(),
            density: a.made_with.density,
            logger: a.made_with.logger.clone(),
            version: a.version,
            curve: a.curve.clone(),
            statement: a.statement.clone(),
            samples: a.samples.clone(),
            by: a.adopted_by.clone(),
            at: a.adopted_at.0,
        };
        let found = adopted.into_iter().find(|a| a.valid_from == dated.valid_from && a.curve == dated.curve);
        found.map(|a| json(&particulars(a))).unwrap_or_default()
    }

    /// How a correction of a channel was made, as JSON.
    pub(super) fn correction(&self, channel: &ChannelRecord, dated: &DatedCorrection) -> String {
        let made = self.corrections.get(&channel.channel.placement.probe.id).into_iter().flatten();
        let found = made.into_iter().find(|c| c.dated == *dated && c.withdrawn.is_none());
        let particulars = found.map(|c| Particulars::Correction {
            slope: c.dated.correction.slope,
            evidence: c.evidence.clone(),
            reason: c.reason.clone(),
            until: c.dated.until.map(|t| t.0),
            by: c.made_by.clone(),
            at: c.made_at.0,
        });
        particulars.map(|p| json(&p)).unwrap_or_default()
    }
}

fn json(particulars: &Particulars) -> String {
    serde_json::to_string(particulars).unwrap_or_default()
}
