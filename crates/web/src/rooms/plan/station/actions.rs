//! What a button of a plan's page does to the draft.

use crate::shell::draft_form::MOST;
use crate::shell::errors::Problem;
use crate::shell::figures::moment;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::{
    BiasDraft, CandidateDraft, Draft, HorizonDraft, ProbeDraft, SentProgram, TableDraft, Typed, usual_tables,
};
use ebrel_core::units::{UnixSeconds, read_number};

/// What was done.
pub struct Done {
    /// In words, for the versions.
    pub changed: String,
    /// Where on the page to land.
    pub landing: String,
    /// What is said once.
    pub says: Option<String>,
}

fn done(changed: impl Into<String>, landing: impl Into<String>) -> Done {
    Done { changed: changed.into(), landing: landing.into(), says: None }
}

/// Runs the action of a button.
///
/// # Errors
/// [`Problem`] for an action that there is not.
pub fn run(action: &str, draft: &mut Draft, context: &StationPlan, form: &[(String, String)]) -> Result<Done, Problem> {
    let field = |name: &str| form.iter().rev().find(|f| f.0 == name).map_or("", |f| f.1.trim());
    let (verb, object) = action.split_once('.').unwrap_or((action, ""));
    match (verb, object) {
        ("add", list) => add(draft, context, list),
        ("remove", place) => remove(draft, place),
        ("take" | "mix", school) => {
            let offer = context.found.offers.iter().find(|o| o.code == school).ok_or(Problem::Nowhere)?;
            let model = model(draft, context, field("with_model"));
            if verb == "take" {
                let keeps = |p: &ProbeDraft| context.catalogue.probe(&p.model).is_some_and(|m| !m.in_soil);
                draft.probes.retain(keeps);
            }
            for depth in &offer.depths {
                let there = draft
                    .probes
                    .iter()
                    .any(|p| read_number(&p.depth_cm).is_ok_and(|d| (d - depth.depth_cm).abs() < 0.5));
                if !there && draft.probes.len() < MOST {
                    draft.probes.push(ProbeDraft {
                        depth_cm: depth.depth_cm.into(),
                        purpose: depth.why.as_str().into(),
                        model: model.as_str().into(),
                        sentinel: if depth.sentinel { "yes".into() } else { Typed::default() },
                        ..ProbeDraft::default()
                    });
                }
            }
            let way = if verb == "take" { "as offered" } else { "added" };
            Ok(done(format!("depths {way}: {}", offer.school.to_lowercase()), "#probes"))
        }
        ("propose", "ports") => {
            for p in &mut draft.probes {
                (p.port, p.address) = (Typed::default(), Typed::default());
            }
            Ok(done("ports as proposed", ""))
        }
        ("sent", _) => sent(draft, context, field),
        _ => Err(Problem::Nowhere),
    }
}

/// The model for new probes in the soil: as chosen, as the last one that lies there, or the catalogue's first.
fn model(draft: &Draft, context: &StationPlan, chosen: &str) -> String {
    let in_soil = |code: &str| context.catalogue.probe(code).is_some_and(|m| m.in_soil);
    let last = draft.probes.iter().rev().map(|p| p.model.to_string()).find(|code| in_soil(code));
    let first = || context.catalogue.probes.iter().find(|p| p.in_soil).map_or(String::new(), |p| p.code.clone());
    if in_soil(chosen) { chosen.to_owned() } else { last.unwrap_or_else(first) }
}

fn add(draft: &mut Draft, context: &StationPlan, list: &str) -> Result<Done, Problem> {
    let full = |n: usize| n >= MOST;
    let landing = format!("#{list}");
    match list {
        "probes" if !full(draft.probes.len()) => {
            let model = model(draft, context, "").as_str().into();
            draft.probes.push(ProbeDraft { model, ..ProbeDraft::default() });
        }
        "horizons" if !full(draft.horizons.len()) => draft.horizons.push(HorizonDraft::default()),
        "candidates" if !full(draft.candidates.len()) => draft.candidates.push(CandidateDraft::default()),
        "biases" if !full(draft.biases.len()) => draft.biases.push(BiasDraft::default()),
        "tables" if !full(draft.tables.len()) => {
            if draft.tables.is_empty() {
                draft.tables = usual_tables(context.found.plan.setting.interval_s);
            }
            draft.tables.push(TableDraft { name: "hourly".into(), every_min: 60.0.into(), ..TableDraft::default() });
        }
        "probes" | "horizons" | "candidates" | "biases" | "tables" => {
            return Err(Problem::Refused(format!("A plan takes {MOST} {list}. Make a second station for more.")));
        }
        _ => return Err(Problem::Nowhere),
    }
    Ok(done(format!("{list}: one more"), landing))
}

fn remove(draft: &mut Draft, place: &str) -> Result<Done, Problem> {
    fn out<T>(list: &mut Vec<T>, row: usize) {
        if row < list.len() {
            list.remove(row);
        }
    }
    let (list, row) = place.split_once('.').ok_or(Problem::Nowhere)?;
    let row: usize = row.parse().map_err(|_| Problem::Nowhere)?;
    match list {
        "probes" => out(&mut draft.probes, row),
        "horizons" => out(&mut draft.horizons, row),
        "biases" => out(&mut draft.biases, row),
        "tables" => out(&mut draft.tables, row),
        "candidates" => {
            out(&mut draft.candidates, row);
            // The choice is kept by its number: it moves up with its row, or goes with it.
            draft.chosen = match draft.chosen.parse::<usize>() {
                Ok(c) if c == row => Typed::default(),
                Ok(c) if c > row => Typed::from((c - 1).to_string().as_str()),
                _ => draft.chosen.clone(),
            };
        }
        _ => return Err(Problem::Nowhere),
    }
    Ok(done(format!("{list}: number {} taken out", row + 1), format!("#{list}")))
}

/// A program was sent: refused until the memory was collected, since sending erases it.
fn sent<'f>(draft: &mut Draft, context: &StationPlan, field: impl Fn(&str) -> &'f str) -> Result<Done, Problem> {
    if field("collected") != "yes" {
        let says =
            "Not noted: first collect what the memory holds, and tick that you did. Sending a program erases it.";
        return Ok(Done { says: Some(says.into()), ..done("", "#sent") });
    }
    if context.found.stops(Some(ebrel_core::planning::Step::Program)).next().is_some() {
        let says = "Not noted: put right what stands against the program first.";
        return Ok(Done { says: Some(says.into()), ..done("", "#sent") });
    }
    let program = &context.found.plan.program;
    let json = serde_json::to_string(program).map_err(|e| Problem::Internal(e.to_string()))?;
    let version = draft.programs.len() + 1;
    let offset = context.study.utc_offset_minutes;
    let now = context.study.fixed_now.map_or_else(crate::state::wall_clock, UnixSeconds);
    draft.programs.push(SentProgram {
        version: (version as f64).into(),
        sent: moment(now, offset).as_str().into(),
        by: std::mem::take(&mut draft.sent_by),
        changed: std::mem::take(&mut draft.sent_why),
        program: json.as_str().into(),
    });
    Ok(Done {
        says: Some(format!("Program {version} is noted as sent.")),
        ..done(format!("program {version} sent"), "#sent")
    })
}
