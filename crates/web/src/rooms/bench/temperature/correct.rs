//! A correction of a thermometer: made only where the pairs carry it, with dates and a reason, and taken back at will.

use super::{Draft, judged};
use crate::components::fields::TextField;
use crate::rooms::bench::run::stations_of;
use crate::rooms::bench::sheets::SheetContext;
use crate::shell::errors::Problem;
use crate::shell::figures::{moment, read_field, signed};
use crate::shell::say;
use crate::state::State;
use ebrel_app::reviewing;
use ebrel_core::temperature::{Correction, DatedCorrection, TemperatureCheck};
use ebrel_store::StoreError;
use ebrel_store::calibrations::Subject;
use ebrel_store::corrections::StoredCorrection;
use ebrel_store::probes::Probe;
use ebrel_store::studies::Study;

/// The part of a sheet that proposes a correction and lists those that stand.
pub struct Part {
    /// The correction in words; empty where the evidence carries none.
    pub proposed: String,
    pub from: TextField,
    pub until: TextField,
    pub reason: TextField,
    /// Corrections of this thermometer: number, words, whether it stands.
    pub made: Vec<(i64, String, bool)>,
}

fn words(c: Correction) -> String {
    if c.slope == 0.0 {
        format!("{} K", signed(c.offset, 2))
    } else {
        format!("{} K and {} K per °C of the reading", signed(c.offset, 2), signed(c.slope, 4))
    }
}

/// A correction with its dates, who made it and why, and whether it was taken back.
pub fn correction_words(c: &StoredCorrection, offset: i64) -> String {
    let until = c.dated.until.map(|t| format!(" until {}", moment(t, offset))).unwrap_or_default();
    let back = c.withdrawn.as_ref().map(|(by, at)| format!("; taken back by {by} on {}", moment(*at, offset)));
    format!(
        "{} from {}{until}, by {}: {} (evidence: {}){}",
        words(c.dated.correction),
        moment(c.dated.from, offset),
        c.made_by,
        c.reason,
        c.evidence.trim_end_matches('.'),
        back.unwrap_or_default()
    )
}

async fn probe_of(state: &State, draft: &Draft) -> Result<Option<Probe>, Problem> {
    Ok(state.store.probes().await?.into_iter().find(|p| p.serial.eq_ignore_ascii_case(&draft.serial)))
}

impl Part {
    /// The part of a sheet with its judgement.
    pub async fn of(around: &SheetContext<'_>, draft: &Draft, found: &TemperatureCheck) -> Result<Self, Problem> {
        let SheetContext { state, study, .. } = around;
        let mut part = Self {
            proposed: String::new(),
            from: TextField::of("from", &draft.from, Vec::new()),
            until: TextField::of("until", &draft.until, Vec::new()),
            reason: TextField::of("reason", &draft.reason, Vec::new()),
            made: Vec::new(),
        };
        let Some(probe) = probe_of(state, draft).await? else { return Ok(part) };
        part.proposed = found.correction.map(words).unwrap_or_default();
        let offset = study.utc_offset_minutes;
        let made = state.store.corrections(probe.id).await?.into_iter();
        part.made = made.map(|c| (c.id, correction_words(&c, offset), c.withdrawn.is_none())).collect();
        Ok(part)
    }
}

/// Makes the correction that the pairs carry.
pub async fn make(around: &SheetContext<'_>, draft: &Draft, by: &str) -> Result<(), Problem> {
    let SheetContext { state, actor, study, sheet, .. } = around;
    let (_, found) = judged(draft);
    let Some(probe) = probe_of(state, draft).await? else {
        return say(actor, "Not corrected: no probe of the register has this serial.");
    };
    let Some(correction) = found.correction else {
        return say(actor, "Not corrected: the pairs do not carry a correction.");
    };
    if draft.reason.is_blank() {
        return say(actor, "Not corrected: say why, so that it can be defended years later.");
    }
    let at = |text: &str| read_field(text, study.utc_offset_minutes);
    let until = if draft.until.is_blank() { None } else { Some(at(&draft.until)) };
    let (Some(from), None | Some(Some(_))) = (at(&draft.from), until) else {
        return say(actor, "Not corrected: write the dates like 2026-06-22 08:30.");
    };
    let until = until.flatten();
    if until.is_some_and(|u| u <= from) {
        return say(actor, "Not corrected: it must end after it begins.");
    }
    let made = StoredCorrection {
        id: 0,
        probe_id: probe.id,
        dated: DatedCorrection { from, until, correction },
        evidence: found.sentence,
        reason: draft.reason.to_string(),
        sheet_id: Some(sheet.id),
        made_by: by.to_owned(),
        made_at: state.now(study),
        withdrawn: None,
    };
    match state.store.correct(&made).await {
        Err(StoreError::Rule(says)) => return say(actor, &format!("Not corrected: {says}.")),
        other => other?,
    }
    rerun(state, study, probe.id).await?;
    say(
        actor,
        &format!(
            "{} is corrected by {} from that date. Its readings stay as they came.",
            probe.serial,
            words(correction)
        ),
    )
}

/// Takes a correction back.
pub async fn withdraw(around: &SheetContext<'_>, number: &str, by: &str) -> Result<(), Problem> {
    let SheetContext { state, actor, study, .. } = around;
    let Ok(id) = number.parse::<i64>() else { return Ok(()) };
    let probe = state.store.withdraw_correction(id, by, state.now(study)).await?;
    rerun(state, study, probe).await?;
    say(actor, "The correction is taken back; it stays on record.")
}

/// The tests see what the record shows.
async fn rerun(state: &State, study: &Study, probe: i64) -> Result<(), Problem> {
    for station in stations_of(&state.store, study.id, &Subject::Probe(probe)).await? {
        reviewing::run(&state.store, station).await?;
    }
    Ok(())
}
