//! The question and design of a study.

use crate::components::fields::FieldMessage;
use crate::components::fields::TextField;
use crate::shell::actor::Actor;
use crate::shell::draft_form;
use crate::shell::drafts::{At, TRIES, combine, in_words, sent_revision};
use crate::shell::errors::Problem;
use crate::shell::figures::grouped;
use crate::shell::forms::at_most;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::planning::{StationPlan, study_design};
use ebrel_core::drafts::Conflict;
use ebrel_core::planning::{ASKED, Design, DesignDraft, Remark, TreatmentDraft, Typed};
use ebrel_core::roles::Role;
use ebrel_store::drafts::DraftKind;
use ebrel_store::studies::Study;
use ebrel_store::{Store, StoreError};

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/design", Least::Member(Role::Guest), show);
    routes.post("/studies/{id}/design", Least::Member(Role::Researcher), save);
}

struct QuantityRow {
    path: String,
    words: &'static str,
    asks: &'static str,
    on: bool,
}

struct TreatmentRow {
    name: TextField,
    replicates: TextField,
}

struct StationRow {
    id: i64,
    name: String,
    treatment: String,
    purpose: String,
    depths: Vec<String>,
}

#[derive(Template)]
#[template(path = "rooms/plan/design.html")]
struct DesignPage {
    shell: Shell,
    study: Study,
    answer: String,
    quantities: Vec<QuantityRow>,
    treatments: Vec<TreatmentRow>,
    months: TextField,
    interval: TextField,
    says: Vec<FieldMessage>,
    stations: Vec<StationRow>,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let draft = study_design(&state.store, &study).await?;
    let (design, remarks) = draft.resolve();
    let said = |at: &str| remarks.iter().filter(|r: &&Remark| r.at == at).map(FieldMessage::of).collect::<Vec<_>>();
    let text = |path: String, typed: &Typed| {
        let says = said(&path);
        TextField::of(path, typed, says)
    };
    let quantities = ASKED.iter().map(|(q, asks)| QuantityRow {
        path: format!("quantities.{}", q.code()),
        words: q.words(),
        asks,
        on: draft.quantities.get(q.code()).is_some_and(Typed::is_yes),
    });
    let treatments = draft.treatments.iter().enumerate().map(|(i, t)| TreatmentRow {
        name: text(format!("treatments.{i}.name"), &t.name),
        replicates: text(format!("treatments.{i}.replicates"), &t.replicates),
    });
    let mut stations = Vec::new();
    for station in state.store.stations(study.id).await? {
        let planned = StationPlan::load(&state.store, station.id).await?;
        let depths = planned
            .found
            .plan
            .probes
            .iter()
            .filter(|p| !p.purpose.is_empty())
            .map(|p| format!("{}: {}", p.place(), p.purpose));
        stations.push(StationRow {
            id: station.id,
            depths: depths.collect(),
            purpose: planned.draft.purpose.to_string(),
            name: station.name,
            treatment: station.treatment,
        });
    }
    let answer = answer(&design, stations.len());
    let shell = Shell::within(&state, &actor, &format!("Design of {}", study.name), Room::Plan, &study, None).await?;
    let shell = shell.of_revision(state.store.revision(DraftKind::Design, study.id).await?);
    page(&DesignPage {
        shell,
        answer,
        quantities: quantities.collect(),
        treatments: treatments.collect(),
        months: text("months".into(), &draft.months),
        interval: text("interval_min".into(), &draft.interval_min),
        says: said(""),
        stations,
        study,
    })
}

fn answer(design: &Design, made: usize) -> String {
    let records = grouped(design.records() as usize);
    let (places, treatments) = (design.places(), design.treatments.len());
    let ask = match treatments {
        0 => "No treatment is named: one place, observed".to_owned(),
        1 => format!("One treatment on {places} place{}", if places == 1.0 { "" } else { "s" }),
        n => format!("{n} treatments on {places} places"),
    };
    format!("{ask}; {made} made so far. {records} records of each channel in {} months.", design.months)
}

async fn save(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Vec<(String, String)>>,
) -> Result<HttpResponse, Problem> {
    let conflicts = take_in(&state.store, *id, &form.0).await?;
    if let Some(sentence) = in_words(&conflicts) {
        say(&actor, &sentence)?;
    }
    let last = |name: &str| form.0.iter().rev().find(|f| f.0 == name).map_or("", |f| f.1.trim());
    if last("live") == "yes" {
        return show(state, actor, id).await;
    }
    Ok(see_other(&format!("/studies/{}/design{}", *id, if last("do").is_empty() { "" } else { "#treatments" })))
}

/// Puts a sent form into the newest design and keeps it, beside others who may be saving.
async fn take_in(store: &Store, id: i64, form: &[(String, String)]) -> Result<Vec<Conflict>, Problem> {
    for _ in 0..TRIES {
        let revision = store.revision(DraftKind::Design, id).await?;
        let newest = study_design(store, &store.study(id).await?).await?;
        let at = At { kind: DraftKind::Design, document: id, revision };
        let type_in = |draft: &DesignDraft| Ok(draft_form::apply(draft, form)?.0);
        let found = combine(store, at, sent_revision(form), &newest, type_in).await?;
        let mut changed = found.draft;
        let action = form.iter().rev().find(|f| f.0 == "do").map_or("", |f| f.1.trim());
        match action {
            "add" if changed.treatments.len() < draft_form::MOST => changed.treatments.push(TreatmentDraft::default()),
            remove if remove.starts_with("remove.") => {
                let row = remove["remove.".len()..].parse::<usize>().ok().filter(|r| *r < changed.treatments.len());
                if let Some(row) = row {
                    changed.treatments.remove(row);
                }
            }
            _ => {}
        }
        let question = at_most(&changed.question, "the question", 1000)?;
        let body = serde_json::to_string(&changed).map_err(|e| Problem::Internal(e.to_string()))?;
        match store.keep_study_design(id, revision, &question, &body).await {
            Err(StoreError::Stale) => continue,
            kept => kept?,
        }
        return Ok(found.conflicts);
    }
    Err(StoreError::Stale.into())
}
