//! The question and design of a study.

use super::station::Said;
use super::station::edit;
use super::station::fields::TextField;
use crate::app::App;
use crate::shell::drafts::{At, combine, in_words, sent_revision};
use crate::shell::errors::Problem;
use crate::shell::figures::grouped;
use crate::shell::forms::at_most;
use crate::shell::guard::CheckedForm;
use crate::shell::{Room, Shell, page, say, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::planning::{ASKED, Design, DesignDraft, Remark, TreatmentDraft, Typed};
use ebrel_store::Store;
use ebrel_store::drafts::DraftKind;
use ebrel_store::stations::Study;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(web::resource("/studies/{id}/design").get(show).post(save));
}

/// The design of a study as typed; an empty one if none was.
pub async fn load(store: &Store, study: &Study) -> Result<DesignDraft, Problem> {
    match store.study_design(study.id).await? {
        None => Ok(DesignDraft::default()),
        Some(json) => serde_json::from_str(&json).map_err(|e| Problem::Internal(e.to_string())),
    }
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
    says: Vec<Said>,
    stations: Vec<StationRow>,
}

async fn show(app: web::Data<App>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let study = app.store.study(*id).await?;
    let draft = load(&app.store, &study).await?;
    let (design, remarks) = draft.resolve();
    let said = |at: &str| remarks.iter().filter(|r: &&Remark| r.at == at).map(Said::of).collect::<Vec<_>>();
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
    for station in app.store.stations(study.id).await? {
        let planned = super::station::Context::load(&app.store, station.id).await?;
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
    let shell = Shell::within(&app, &session, &format!("Design of {}", study.name), Room::Plan, &study, None).await?;
    let shell = shell.of_revision(app.store.revision(DraftKind::Design, study.id).await?);
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
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<Vec<(String, String)>>,
) -> Result<HttpResponse, Problem> {
    let study = app.store.study(*id).await?;
    let revision = app.store.revision(DraftKind::Design, *id).await?;
    let draft = load(&app.store, &study).await?;
    let at = At { kind: DraftKind::Design, document: *id, revision };
    let type_in = |draft: &DesignDraft| Ok(edit::apply(draft, &form.0)?.0);
    let found = combine(&app.store, at, sent_revision(&form.0), &draft, type_in).await?;
    if let Some(sentence) = in_words(&found.conflicts) {
        say(&session, &sentence)?;
    }
    let mut changed: DesignDraft = found.draft;
    let last = |name: &str| form.0.iter().rev().find(|f| f.0 == name).map_or("", |f| f.1.trim());
    match last("do") {
        "add" if changed.treatments.len() < edit::MOST => changed.treatments.push(TreatmentDraft::default()),
        remove if remove.starts_with("remove.") => {
            let row = remove["remove.".len()..].parse::<usize>().ok().filter(|r| *r < changed.treatments.len());
            if let Some(row) = row {
                changed.treatments.remove(row);
            }
        }
        _ => {}
    }
    let question: String = if form.0.iter().any(|f| f.0 == "question") {
        at_most(last("question"), "the question", 1000)?
    } else {
        study.question
    };
    let body = serde_json::to_string(&changed).map_err(|e| Problem::Internal(e.to_string()))?;
    app.store.keep_study_design(*id, revision, &question, &body).await?;
    if last("live") == "yes" {
        return show(app, session, id).await;
    }
    Ok(see_other(&format!("/studies/{}/design{}", *id, if last("do").is_empty() { "" } else { "#treatments" })))
}
