//! What readings of a package mean, and what was decided of them: events, calibrations, corrections, flags, verdicts.

use super::station::Arriving;
use super::{NotTaken, Taking};
use crate::exporting::verdict_words;
use ebrel_core::calibration::Curve;
use ebrel_core::quality::{Event, EventKind, Evidence, Flag, Reference, ReferenceKind, Settings, Test};
use ebrel_core::temperature::{Correction, DatedCorrection};
use ebrel_core::units::{Grade, Quantity, UnixSeconds, Verdict};
use ebrel_formats::package::{CalibrationRow, FlagRow, Particulars, StudyPart};
use ebrel_store::calibrations::{Adopted, Adoption, MadeWith, Subject};
use ebrel_store::corrections::StoredCorrection;
use ebrel_store::events::StoredEvent;
use ebrel_store::flags::Found;
use ebrel_store::references::NewReference;
use ebrel_store::verdicts::{Decision, Mark};
use std::collections::{HashMap, HashSet};

impl<'p> Taking<'p> {
    pub(super) async fn events(&mut self, arriving: &mut Arriving<'p>) -> Result<(), NotTaken> {
        let here: Vec<StoredEvent> = arriving.before.as_ref().map(|b| b.events.clone()).unwrap_or_default();
        for (row, e) in (1..).zip(&self.package.events).filter(|(_, e)| e.station == arriving.code) {
            let Some(kind) = EventKind::of_package(&e.kind, &e.note) else {
                self.slips.add("events.csv", row, format!("“{}” is no kind of event", e.kind));
                continue;
            };
            let event = Event { kind, start: e.start, end: e.end.unwrap_or(e.start) };
            let known = here.iter().any(|h| h.event == event && h.note == e.note && h.amount == e.amount);
            if !known {
                let stored = StoredEvent {
                    id: 0,
                    event,
                    amount: e.amount,
                    unit: e.unit.clone(),
                    note: e.note.clone(),
                    by: e.by.clone(),
                    client_id: None,
                    revision: 1,
                };
                self.unit.add_event(arriving.id, &stored).await?;
            }
            arriving.report.count("events", !known);
        }
        Ok(())
    }

    pub(super) async fn references(&mut self, arriving: &mut Arriving<'p>) -> Result<(), NotTaken> {
        let names = self.names();
        let package = self.package;
        for (at, row) in (1..).zip(&package.references) {
            let Some(channel) = arriving.channel(&names, &row.channel) else {
                if !names.contains_key(row.channel.as_str()) {
                    self.slips.add("references.csv", at, format!("channel “{}” is not in channels.csv", row.channel));
                }
                continue;
            };
            // What a calibration of the package makes of raw output is water content.
            let quantity = match Quantity::from_code(&package.channels[channel.index].0.quantity) {
                Some(Quantity::RawOutput) | None => Quantity::WaterContent,
                Some(quantity) => quantity,
            };
            let kind = match row.kind.as_str() {
                // Not every package says with what; a thermometer is a thermometer.
                "" if quantity.is_temperature() => Some(ReferenceKind::Thermometer),
                "" => Some(ReferenceKind::Handheld),
                code => ReferenceKind::from_code(code),
            };
            let Some(kind) = kind else {
                self.slips.add("references.csv", at, format!("“{}” is none of thermometer, core, handheld", row.kind));
                continue;
            };
            if !row.value.is_finite() || row.uncertainty.is_some_and(|u| !(u.is_finite() && u >= 0.0)) {
                self.slips.add("references.csv", at, "the value or its uncertainty is no number that can be");
                continue;
            }
            let new = NewReference {
                stream: channel.stream,
                quantity,
                reference: Reference { time: row.time, value: row.value, uncertainty: row.uncertainty },
                kind,
                note: row.note.clone(),
                by: if row.by.is_empty() { self.target.by.clone() } else { row.by.clone() },
                at: self.target.now,
            };
            let added = self.unit.add_reference(&new).await?;
            arriving.report.count("readings by hand", added);
        }
        Ok(())
    }

    /// Curves and corrections, each once for its probe or model, whatever the number of channels that it serves.
    pub(super) async fn calibrations(&mut self, arriving: &mut Arriving<'p>) -> Result<(), NotTaken> {
        let names = self.names();
        let mut corrections: Vec<(usize, i64, StoredCorrection)> = Vec::new();
        let package = self.package;
        for (at, row) in (1..).zip(&package.calibrations) {
            let Some(probe) = arriving.channel(&names, &row.channel).map(|c| c.probe) else {
                if !names.contains_key(row.channel.as_str()) {
                    self.slips.add("calibrations.csv", at, format!("channel “{}” is not in channels.csv", row.channel));
                }
                continue;
            };
            if row.form == "correction" {
                self.correction_row(at, row, probe, &mut corrections);
                continue;
            }
            let Some(adoption) = adoption(row, probe, self.target.now, &self.target.by) else {
                self.slips.add("calibrations.csv", at, "coefficients or range make no curve: a JSON array of one to ten numbers is needed, and x_min below x_max");
                continue;
            };
            self.adopt(arriving, adoption).await?;
        }
        // Written newest first; kept in the order in which they were made.
        for (at, probe, correction) in corrections.into_iter().rev() {
            let known = self.store.corrections(probe).await?.iter().any(|c| c.dated == correction.dated);
            if !known && let Err(error) = self.unit.correct(&correction).await {
                match error {
                    ebrel_store::StoreError::Rule(says) => self.slips.add("calibrations.csv", at, says),
                    other => return Err(other.into()),
                }
            }
            arriving.report.count("corrections", !known);
        }
        Ok(())
    }

    async fn adopt(
        &mut self,
        arriving: &mut Arriving<'p>,
        (adoption, version): (Adoption, i64),
    ) -> Result<(), NotTaken> {
        let key = (adoption.subject.clone(), adoption.made_with.soil.to_lowercase(), adoption.valid_from);
        if self.adopted.iter().any(|(k, curve)| *k == key && *curve == adoption.curve) {
            return Ok(());
        }
        let here = self.store.calibrations(&adoption.subject).await?;
        let of_soil = |a: &&Adopted| {
            matches!(a.subject, Subject::Probe(_))
                || a.made_with.soil.to_lowercase() == adoption.made_with.soil.to_lowercase()
        };
        let same_time = || here.iter().filter(of_soil).filter(|a| a.valid_from == adoption.valid_from);
        let known = same_time().any(|a| a.curve == adoption.curve);
        if known && !same_time().any(|a| a.curve == adoption.curve && a.retired.is_none()) {
            arriving
                .report
                .remarks
                .push("A calibration of the package was taken out of use here, and stays so.".into());
        } else if !known && same_time().any(|a| a.retired.is_none()) {
            arriving.report.remark(format!(
                "A calibration from {} is another in the package (“{}”); the one here stands.",
                ebrel_formats::rfc3339(adoption.valid_from),
                adoption.statement
            ));
            return Ok(());
        }
        if !known {
            self.unit.adopt(&adoption, Some(version)).await?;
        }
        self.adopted.push((key, adoption.curve));
        arriving.report.count("calibrations", !known);
        Ok(())
    }

    /// Reads a row of a correction; one that ends an earlier one ends the last of its probe in the table.
    fn correction_row(
        &mut self,
        at: usize,
        row: &CalibrationRow,
        probe: i64,
        all: &mut Vec<(usize, i64, StoredCorrection)>,
    ) {
        let Ok([offset, gain]) = serde_json::from_str::<[f64; 2]>(&row.coefficients) else {
            self.slips.add("calibrations.csv", at, "a correction is a straight line: two coefficients");
            return;
        };
        let told = serde_json::from_str(&row.particulars).ok();
        if told.is_none() && (offset, gain) == (0.0, 1.0) {
            let of_probe = all.iter_mut().rev().find(|c| c.1 == probe && c.2.dated.until.is_none());
            if let Some((.., correction)) = of_probe.filter(|c| c.2.dated.from < row.valid_from) {
                correction.dated.until = Some(row.valid_from);
            }
            return;
        }
        let (slope, evidence, reason, until, made_by, made_at) = match told {
            Some(Particulars::Correction { slope, evidence, reason, until, by, at }) => {
                (slope, evidence, reason, until, by, UnixSeconds(at))
            }
            _ => {
                let why = "as in its package".to_owned();
                (gain - 1.0, row.source.clone(), why, None, self.target.by.clone(), self.target.now)
            }
        };
        let dated = DatedCorrection {
            from: row.valid_from,
            until: until.map(UnixSeconds),
            correction: Correction { offset, slope },
        };
        if all.iter().any(|c| c.1 == probe && c.2.dated.from == dated.from && c.2.dated.correction == dated.correction)
        {
            return;
        }
        let correction = StoredCorrection {
            id: 0,
            probe_id: probe,
            dated,
            evidence,
            reason,
            sheet_id: None,
            made_by,
            made_at,
            withdrawn: None,
        };
        all.push((at, probe, correction));
    }

    /// Flags of a new station as they came, and verdicts. At a station that was there its own tests run over all of it.
    pub(super) async fn flags_of(&mut self, arriving: &mut Arriving<'p>) -> Result<(), NotTaken> {
        let (names, package) = (self.names(), self.package);
        let (mut found, mut not_taken) = (Found::default(), 0);
        let mut of_channel: HashMap<usize, usize> = HashMap::new();
        for (row, f) in (1..).zip(&package.flags) {
            let Some(channel) = arriving.channel(&names, &f.channel) else {
                if !names.contains_key(f.channel.as_str()) {
                    self.slips.add("flags.csv", row, format!("channel “{}” is not in channels.csv", f.channel));
                }
                continue;
            };
            // What a person saw comes with its verdict.
            if matches!(flag(f, &[]), Some(Flag { evidence: Evidence::Seen(_), .. })) {
                continue;
            }
            if !arriving.report.new {
                not_taken += 1;
                continue;
            }
            let Some(flag) = flag(f, &package.channels[channel.index].1.times) else {
                let says = format!(
                    "A flag of {} is of a test or grade that is not known here ({}); it stays in the package.",
                    f.channel, f.test
                );
                arriving.report.remark(says);
                continue;
            };
            let at = *of_channel.entry(channel.index).or_insert_with(|| {
                found.channels.push((channel.stream, channel.placement));
                found.findings.flags.push(Vec::new());
                found.channels.len() - 1
            });
            // A package says a verdict's reason behind that of its flag.
            let decided = package.verdicts.iter().filter(|v| v.channel == f.channel && v.test == f.test);
            let mut tails = decided.map(|v| verdict_words(&v.by, &v.reason)).filter(|tail| !tail.is_empty());
            let reason = tails.find_map(|tail| f.reason.strip_suffix(&tail)).unwrap_or(&f.reason).to_owned();
            found.findings.flags[at].push(Flag { reason, ..flag });
        }
        self.verdicts(arriving, &names).await?;
        let flags: usize = found.findings.flags.iter().map(Vec::len).sum();
        if !arriving.report.new {
            if not_taken > 0 {
                let says = "flags of the package are not taken: the tests run over all that is here by then.";
                arriving.report.remark(format!("{not_taken} {says}"));
            }
        } else if self.brought.is_some() && package.study != StudyPart::default() {
            self.numbers_of_tests(arriving).await?;
            self.unit.take_flags(arriving.id, &found).await?;
        }
        for _ in 0..flags {
            arriving.report.count("flags", true);
        }
        Ok(())
    }

    /// The numbers by which the tests of a new station ran where it came from; one that is not known here is told and passed over.
    async fn numbers_of_tests(&mut self, arriving: &mut Arriving<'p>) -> Result<(), NotTaken> {
        let Some(set) = self.package.tests.iter().find(|t| t.station == arriving.code) else { return Ok(()) };
        let mut own = Vec::new();
        for (name, value) in &set.numbers {
            let known = name.split_once('.').and_then(|(test, key)| Some((Test::from_code(test)?, key)));
            match known.filter(|(test, key)| Settings::default().set(*test, key, *value).is_ok()) {
                Some((test, key)) => own.push((test, key, *value)),
                None => arriving.report.remark(format!(
                    "The number {value} of “{name}” is no setting of a test here: the usual one holds."
                )),
            }
        }
        self.unit.keep_settings(self.study.id, Some(arriving.id), &own, &set.by, set.at).await?;
        Ok(())
    }

    async fn verdicts(&mut self, arriving: &mut Arriving<'p>, names: &HashMap<&str, usize>) -> Result<(), NotTaken> {
        let here = match &arriving.before {
            Some(before) => self.store.verdicts(before.station.id).await?,
            None => Vec::new(),
        };
        let key = |d: &Decision| (d.stream_id, d.test, d.start, d.end, d.verdict, d.reason.clone(), d.by.clone(), d.at);
        let mut known: HashSet<_> = here.iter().map(key).collect();
        let mut new = Vec::new();
        for (row, v) in (1..).zip(&self.package.verdicts) {
            let Some(channel) = arriving.channel(names, &v.channel) else { continue };
            let Some((test, verdict)) = Test::from_code(&v.test).zip(Verdict::from_code(&v.verdict)) else {
                self.slips.add("verdicts.csv", row, format!("“{}” on “{}” is no verdict on a test", v.verdict, v.test));
                continue;
            };
            let mark = match (v.mark.as_str(), Grade::from_code(&v.mark)) {
                ("", _) => None,
                (_, Some(grade)) => Some(Mark { grade, readings: v.readings.unwrap_or(0) as usize }),
                (other, None) => {
                    self.slips.add("verdicts.csv", row, format!("“{other}” is no grade of a finding"));
                    continue;
                }
            };
            let decision = Decision {
                mark,
                id: 0,
                stream_id: channel.stream,
                test,
                start: v.start,
                end: v.end,
                verdict,
                reason: v.reason.clone(),
                by: v.by.clone(),
                at: v.at,
            };
            let is_new = known.insert(key(&decision));
            arriving.report.count("verdicts", is_new);
            if is_new {
                new.push(decision);
            }
        }
        self.unit.decide(&new).await?;
        Ok(())
    }
}

/// A flag as it is kept. How much harm it does is made of its readings and grade; its strength is not told by a package.
fn flag(row: &FlagRow, times: &[i64]) -> Option<Flag> {
    let (test, grade) = Test::from_code(&row.test).zip(Grade::from_code(&row.grade))?;
    let evidence = Evidence::read(test, &row.evidence).ok()?;
    let readings = times.iter().filter(|t| (row.start.0..=row.end.0).contains(*t)).count();
    let (start, end, reason) = (row.start, row.end, row.reason.clone());
    Some(Flag { start, end, test, grade, readings, strength: 0.0, evidence, reason })
}

/// The adoption that a row tells of, and its version; by the row's own columns where it does not tell more.
fn adoption(row: &CalibrationRow, probe: i64, now: UnixSeconds, by: &str) -> Option<(Adoption, i64)> {
    let plain = |curve: Curve| Adoption {
        subject: Subject::Probe(probe),
        made_with: MadeWith::default(),
        run_id: None,
        valid_from: row.valid_from,
        curve,
        statement: format!("{}, as in its package", if row.source.is_empty() { &row.form } else { &row.source }),
        samples: "[]".into(),
        by: by.to_owned(),
        at: now,
    };
    match serde_json::from_str(&row.particulars) {
        Ok(Particulars::Calibration { model, soil, density, logger, version, curve, statement, samples, by, at }) => {
            let subject = if model.is_empty() { Subject::Probe(probe) } else { Subject::Model(model) };
            let made_with = MadeWith { soil, density, logger };
            Some((
                Adoption { subject, made_with, statement, samples, by, at: UnixSeconds(at), ..plain(curve) },
                version,
            ))
        }
        _ => Some((plain(row.curve()?.curve), 0)),
    }
}
