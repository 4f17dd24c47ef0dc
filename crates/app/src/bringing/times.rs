//! Clocks and readings of a package. Where the clock of a node was checked, readings are kept at the times that it showed, as they
//! came, if the package tells these and the checks lead back to its true times; else at the true times, without the checks.

use super::station::Arriving;
use super::{NotTaken, Taking};
use ebrel_core::field::{Clock, ClockCheck, Deed, Entry};
use ebrel_core::units::UnixSeconds;
use ebrel_formats::package::{ClockCheckRow, ReadingRow, Rows};
use ebrel_store::packages::FirstDelivery;
use ebrel_store::readings::Reading;
use sha2::{Digest, Sha256};
use std::collections::BTreeSet;

/// How far a reading may come after its corrected time, seconds: where a clock was set back, those that coincide stand a second apart.
const MOVED_S: i64 = 60;

impl<'p> Taking<'p> {
    /// Takes the checks of the station's clocks, or tells why they are not needed.
    pub(super) async fn clock_checks(&mut self, arriving: &mut Arriving<'p>) -> Result<(), NotTaken> {
        let nodes: BTreeSet<String> = arriving.channels.iter().map(|c| c.node.clone()).collect();
        for node in nodes {
            let rows = self.package.clock_checks.iter().filter(|c| c.node == node);
            let check = |c: &ClockCheckRow| ClockCheck { shown: c.node_time, truth: c.true_time, set: c.is_set() };
            let checks: Vec<ClockCheck> = rows.map(check).collect();
            let before = arriving.before.iter().flat_map(|b| &b.clock_checks).filter(|c| c.node == node);
            let here: Vec<ClockCheck> = before.map(|c| c.check).collect();
            let remark = match (checks.len(), here.len()) {
                (0, 0) => continue,
                (0, _) => {
                    format!("The clock of {node} was checked here: the package's times are taken for what it showed.")
                }
                _ if self.lead_back(arriving, &node, &checks) && (here.is_empty() || here == checks) => {
                    let by_grid = self.package.clock_checks.iter().any(|c| c.node == node && c.is_by_grid());
                    if by_grid && here.is_empty() {
                        arriving.report.remark(format!(
                            "Nobody held the clock of {node} against another: its checks were told by the grid of its program."
                        ));
                    }
                    for check in checks {
                        let known = here.contains(&check);
                        if !known {
                            let entry = self.entry(arriving, Deed::Clock { node: node.clone(), check });
                            self.unit.add_field_entry(arriving.id, &entry, &self.target.by, self.target.now).await?;
                        }
                        arriving.report.count("clock checks", !known);
                    }
                    arriving.checked.insert(node);
                    continue;
                }
                (_, 0) => format!(
                    "The checks of the clock of {node} stay in the package, which is kept: its readings come at true times."
                ),
                _ => {
                    let says = format!(
                        "the clock of {node} has other checks here, so that times of both cannot stand beside each other: give the station another code"
                    );
                    self.slips.add("clock_checks.csv", 1, says);
                    continue;
                }
            };
            arriving.report.remark(remark);
        }
        Ok(())
    }

    /// An entry of a log, whose number follows from what it says: the same package gives the same again.
    fn entry(&self, arriving: &Arriving<'p>, deed: Deed) -> Entry {
        let station = arriving.report.code_here.clone();
        let log = number(&format!("log {station}"));
        let at = match &deed {
            Deed::Clock { check, .. } => check.truth,
            _ => self.target.now,
        };
        let id = number(&format!("{station} {at:?} {deed:?}"));
        Entry { id, log, station, at, by: self.target.by.clone(), corrects: None, deed }
    }

    /// Whether the times that a node showed are told, and its checks make the true times of the package of them.
    fn lead_back(&self, arriving: &Arriving<'p>, node: &str, checks: &[ClockCheck]) -> bool {
        let of_node = || arriving.channels.iter().filter(|c| c.node == node).map(|c| &self.package.channels[c.index]);
        let started =
            of_node().filter_map(|(row, rows)| row.start.or(rows.times.first().map(|t| UnixSeconds(*t)))).min();
        let Some(Ok(clock)) = started.map(|s| Clock::new(s, checks)) else { return false };
        of_node().all(|(_, rows)| {
            clock.is_right()
                || rows.iter().all(|r| {
                    r.node_time.is_some_and(|shown| (0..=MOVED_S).contains(&(r.time.0 - clock.corrected(shown).0)))
                })
        })
    }

    /// Stores the readings of a station, and counts what became of each.
    pub(super) async fn readings_of(&mut self, arriving: &mut Arriving<'p>) -> Result<(), NotTaken> {
        let mut differ = 0;
        let mut counts = arriving.report.readings;
        for channel in &arriving.channels {
            let rows = &self.package.channels[channel.index].1;
            counts.given += rows.len();
            let by_node = arriving.checked.contains(&channel.node);
            let main = |r: &ReadingRow| if channel.kept.raw { r.raw.or(Some(r.value)) } else { Some(r.value) };
            counts.empty += rows.iter().filter(|r| main(r).is_none_or(f64::is_nan)).count();
            if channel.kept.raw {
                differ += rows.iter().filter(|r| r.raw.is_none() && r.value.is_finite()).count();
            }
            let Some((_, deliveries)) = &self.brought else { continue };
            let deliveries: Vec<(i64, &FirstDelivery)> = deliveries.iter().map(|(n, d)| (*n, d)).collect();
            let (readings, by) = self.ordered(rows, channel.stream, by_node, main);
            counts.add(&self.unit.add_delivered(&deliveries, readings, &by).await?);
            if let Some(stream) = channel.beside {
                let (readings, by) = self.ordered(rows, stream, by_node, |r| r.raw);
                self.unit.add_delivered(&deliveries, readings, &by).await?;
            }
        }
        if differ > 0 {
            arriving.report.remark(format!(
                "{differ} readings have a value but no raw one among raw ones; the value was taken for the raw one. Look at them."
            ));
        }
        arriving.report.readings = counts;
        Ok(())
    }

    /// Readings of a channel as they are stored, in order of time, and the place of each one's delivery.
    fn ordered(
        &self,
        rows: &Rows,
        stream: i64,
        by_node: bool,
        value: impl Fn(&ReadingRow) -> Option<f64>,
    ) -> (Vec<Reading>, Vec<usize>) {
        let unknown = self.brought.as_ref().map_or(0, |b| b.1.len() - 1);
        let mut all: Vec<(Reading, usize)> = rows
            .iter()
            .filter_map(|r| {
                let raw = value(&r).filter(|v| !v.is_nan())?;
                let time = if by_node { r.node_time.unwrap_or(r.time) } else { r.time };
                let by = r.delivery.and_then(|d| self.deliveries.get(&d).copied()).unwrap_or(unknown);
                Some((Reading { stream, t: time.0, raw }, by))
            })
            .collect();
        // Of several at one time the first of the file stands.
        all.sort_by_key(|r| r.0.t);
        all.into_iter().unzip()
    }
}

/// A number as devices make them, that follows from a text.
fn number(text: &str) -> String {
    let hash = hex::encode(Sha256::digest(text));
    format!("{}-{}-{}-{}-{}", &hash[..8], &hash[8..12], &hash[12..16], &hash[16..20], &hash[20..32])
}
