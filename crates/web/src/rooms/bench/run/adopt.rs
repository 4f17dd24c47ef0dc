//! Adopting a run's curve, after a look at what it would change in the record.

use super::{KnownCurves, draft_of, show_run};
use crate::rooms::bench::change::{Change, changes};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, read_field};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::StationRecord;
use ebrel_app::reviewing;
use ebrel_core::bench::{Resolved, RunDraft, density_target, resolve};
use ebrel_core::calibration::{Curve, Form};
use ebrel_core::roles::Role;
use ebrel_core::units::UnixSeconds;
use ebrel_store::Store;
use ebrel_store::calibrations::{Adoption, MadeWith, Subject};
use ebrel_store::runs::Run;
use ebrel_store::studies::Study;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.post("/bench/{id}/adopt", Least::Member(Role::Researcher), adopt);
    routes.post("/bench/{id}/compare", Least::Member(Role::Researcher), compare);
}

/// What is to be adopted, as typed.
#[derive(Default, Deserialize)]
pub struct AdoptForm {
    /// Code of the form; empty: the recommended one.
    #[serde(default)]
    pub form: String,
    /// From when it holds.
    #[serde(default)]
    pub valid_from: String,
    /// `probe`, or `model` for every probe of the model in the run's soil.
    #[serde(default)]
    pub serves: String,
}

/// An adoption that can be made, and the run it is made of.
struct Ready {
    run: Run,
    study: Study,
    draft: RunDraft,
    adoption: Adoption,
}

/// Reads what is to be adopted; the run and a sentence if it cannot be.
async fn ready(state: &State, id: i64, form: &AdoptForm, by: String) -> Result<Result<Ready, (Run, String)>, Problem> {
    let run = state.store.run(id).await?;
    let study = state.store.study(run.study_id).await?;
    let draft = draft_of(&state.store, &run).await?;
    let resolved = resolve(&draft);
    let model = KnownCurves::of(&state.store, &run).await?.model;
    Ok(match adoption(state, &study, &run, (&draft, &resolved), &model, form, by) {
        Ok(adoption) => Ok(Ready { run, study, draft, adoption }),
        Err(sentence) => Err((run, sentence)),
    })
}

async fn adopt(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<AdoptForm>,
) -> Result<HttpResponse, Problem> {
    let by = actor.name().to_owned();
    let Ready { study, adoption, .. } = match ready(&state, *id, &form.0, by).await? {
        Ok(ready) => ready,
        Err((run, sentence)) => return show_run(&state, &actor, run, Some(form.0), Some(sentence)).await,
    };
    let version = state.store.adopt(&adoption).await?;
    let mut target = format!("/bench/{}", *id);
    for station in stations_of(&state.store, study.id, &adoption.subject).await? {
        reviewing::run(&state.store, station).await?;
        target = format!("/stations/{station}");
    }
    let whom = match &adoption.subject {
        Subject::Probe(_) => String::new(),
        Subject::Model(model) => {
            format!(" for every {model} in {} that has no calibration of its own", adoption.made_with.soil)
        }
    };
    say(
        &actor,
        &format!("Version {version} is adopted{whom}. The record shows water content from it; no reading was changed."),
    )?;
    Ok(see_other(&target))
}

/// Stations whose record a subject's calibration may change.
pub async fn stations_of(store: &Store, study: i64, subject: &Subject) -> Result<Vec<i64>, Problem> {
    let mut found = Vec::new();
    for station in store.stations(study).await? {
        let placements = store.placements(station.id).await?;
        if placements.iter().any(|p| match subject {
            Subject::Probe(id) => p.probe.id == *id,
            Subject::Model(model) => p.probe.model == *model,
        }) {
            found.push(station.id);
        }
    }
    Ok(found)
}

fn adoption(
    state: &State,
    study: &Study,
    run: &Run,
    (draft, resolved): (&RunDraft, &Resolved),
    model: &str,
    form: &AdoptForm,
    by: String,
) -> Result<Adoption, String> {
    if run.practice.is_some() {
        return Err("A practice run serves no real probe. Show the truth instead.".into());
    }
    let probe = run.probe_id.ok_or("Choose the probe that was calibrated.")?;
    if let Some(line) = left_out_unsaid(draft) {
        return Err(format!("Sample {line} is left out without a reason: say why, so that it can be defended."));
    }
    let taken = Form::from_code(&form.form).or(resolved.recommendation.form);
    let candidate = taken.and_then(|f| resolved.recommendation.candidate(f));
    let candidate = candidate.ok_or("There is no curve to adopt yet.")?;
    let fit = candidate.fit.as_ref().map_err(|e| format!("There is no curve to adopt yet: {e}."))?;
    if candidate.direction.is_none() {
        return Err("This curve turns within its samples: one reading would mean two contents. Look at the samples, or take the other form.".into());
    }
    let made_with = MadeWith {
        soil: draft.soil.trim().to_owned(),
        density: density_target(draft),
        logger: draft.logger.trim().to_owned(),
    };
    let subject = match form.serves.as_str() {
        "model" if made_with.soil.is_empty() => {
            return Err("For all probes of a model, name the soil first: texture or horizon, as it stands in the station's profile.".into());
        }
        "model" if model.is_empty() => return Err("The probe has no model in the register.".into()),
        "model" => Subject::Model(model.to_owned()),
        _ => Subject::Probe(probe),
    };
    let valid_from =
        read_field(&form.valid_from, study.utc_offset_minutes).ok_or("Give the date from which it holds.")?;
    let statement = if Some(candidate.form) == resolved.recommendation.form {
        resolved.recommendation.sentence.clone()
    } else {
        let half = candidate.half_width().map_or_else(String::new, |h| format!(", ±{} m³/m³ (95 %)", fixed(h, 3)));
        format!("{}{half} (not the recommended form).", candidate.form.title())
    };
    Ok(Adoption {
        subject,
        made_with,
        run_id: Some(run.id),
        valid_from,
        curve: Curve::from_fit(fit, candidate.form),
        statement,
        samples: run.draft.clone(),
        by,
        at: state.now(study),
    })
}

/// The line of a sample that was left out without a reason, from 1.
fn left_out_unsaid(draft: &RunDraft) -> Option<usize> {
    draft.rows.iter().position(|r| r.out && !r.is_empty() && r.why.trim().is_empty()).map(|i| i + 1)
}

#[derive(Template)]
#[template(path = "rooms/bench/run/compare.html")]
struct ComparePage {
    shell: Shell,
    run: Run,
    statement: String,
    serves: String,
    from: String,
    unit: String,
    changes: Vec<Change>,
    form: AdoptForm,
}

/// What the curve would change in the record.
async fn compare(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<AdoptForm>,
) -> Result<HttpResponse, Problem> {
    let by = actor.name().to_owned();
    let Ready { run, study, draft, adoption } = match ready(&state, *id, &form.0, by).await? {
        Ok(ready) => ready,
        Err((run, sentence)) => return show_run(&state, &actor, run, Some(form.0), Some(sentence)).await,
    };
    let mut all = Vec::new();
    for station in stations_of(&state.store, study.id, &adoption.subject).await? {
        let record = StationRecord::load(&state.store, station).await?;
        all.extend(changes(&state.store, &record, &adoption).await?);
    }
    let shell = Shell::within(&state, &actor, "What it would change", Room::Bench, &study, None).await?;
    let serves = match &adoption.subject {
        Subject::Probe(_) => "for this probe".to_owned(),
        Subject::Model(model) => format!("for every {model} in {}", adoption.made_with.soil),
    };
    page(&ComparePage {
        shell,
        run,
        statement: adoption.statement,
        serves,
        from: crate::shell::figures::moment(UnixSeconds(adoption.valid_from.0), study.utc_offset_minutes),
        unit: draft.unit,
        changes: all,
        form: form.0,
    })
}
