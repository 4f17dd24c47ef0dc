//! One calibration run: samples typed, pasted or read from the stand-ins, worked out as one types, adopted as a version.

mod adopt;
mod certificate;
mod judged;
mod plot;
mod recorded;
mod standin;

use super::sheets::Sent;
use crate::shell::actor::Actor;
use crate::shell::draft_form;
use crate::shell::drafts::{At, TRIES, combine, in_words, sent_revision};
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, moment};
use crate::shell::forms::words;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::planning::catalogue;
use ebrel_core::bench::{RowFigures, RunContext, RunDraft, SampleRow, School, conditions, resolve, solids};
use ebrel_core::roles::Role;
use ebrel_core::units::{Principle, UnixSeconds};
use ebrel_simulator::practice::Practice;
use ebrel_store::calibrations::Subject;
use ebrel_store::drafts::DraftKind;
use ebrel_store::probes::Probe;
use ebrel_store::runs::Run;
use ebrel_store::studies::Study;
use ebrel_store::{Store, StoreError};
use judged::{ResultPart, result};
use standin::BenchPart;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/bench/{id}", Least::Member(Role::Guest), show);
    routes.post("/bench/{id}", Least::Member(Role::Researcher), save);
    adopt::routes(routes);
    standin::routes(routes);
    certificate::routes(routes);
}

pub use adopt::stations_of;

/// Rows that a new run offers.
const ROWS: usize = 7;

/// What a run is looked at with.
#[derive(Default)]
struct KnownCurves {
    /// The maker's curve of the probe's model; empty without one.
    factory: Vec<f64>,
    /// Name of the probe's model.
    model: String,
    /// What its probe and station are planned with.
    context: RunContext,
    /// The true curve of a practice run whose truth is shown; empty otherwise.
    truth: Vec<f64>,
}

impl KnownCurves {
    /// What is known around a run's probe.
    async fn of(store: &Store, run: &Run) -> Result<Self, Problem> {
        let mut found = Self::default();
        if let Some(practice) = practice_of(run)? {
            let work = practice.work();
            if work.revealed {
                found.truth = work.curve().to_vec();
            }
        }
        let probes = store.probes().await?;
        let Some(probe) = probes.into_iter().find(|p| Some(p.id) == run.probe_id) else { return Ok(found) };
        let catalogue = catalogue(store).await?;
        if let Some(model) = catalogue.probes.iter().find(|m| m.name == probe.model) {
            (found.factory, found.context.supply_v) = (model.factory.clone(), Some(model.supply_v));
        }
        found.model = probe.model;
        for station in store.stations(run.study_id).await? {
            let body = store.plan(station.id).await?.map(|p| p.body).unwrap_or_default();
            let draft: ebrel_core::planning::Draft = serde_json::from_str(&body).unwrap_or_default();
            if draft.probes.iter().any(|p| p.serial.eq_ignore_ascii_case(&probe.serial)) {
                found.context.planned_logger = catalogue.logger(draft.choice("logger")).map(|l| l.name.clone());
            }
        }
        Ok(found)
    }
}

/// The steps at the stand-ins, if it is a practice run.
fn practice_of(run: &Run) -> Result<Option<Practice>, Problem> {
    let read = |text: &String| serde_json::from_str(text).map_err(|e| Problem::Internal(e.to_string()));
    run.practice.as_ref().map(read).transpose()
}

struct Version {
    version: i64,
    statement: String,
    from: String,
    by: String,
    at: String,
    retired: bool,
}

#[derive(Template)]
#[template(path = "rooms/bench/run/run.html")]
struct RunPage {
    shell: Shell,
    run: Run,
    draft: RunDraft,
    rows: Vec<RowPart>,
    result: ResultPart,
    probes: Vec<Probe>,
    model: String,
    bench: Option<BenchPart>,
    typed: adopt::AdoptForm,
    versions: Vec<Version>,
    error: Option<String>,
}

/// A sample on the page.
struct RowPart {
    /// Its place in the draft, from 0.
    at: usize,
    typed: SampleRow,
    figures: RowFigures,
}

impl RowPart {
    fn of((at, (typed, figures)): (usize, (&SampleRow, RowFigures))) -> Self {
        Self { at, typed: typed.clone(), figures }
    }

    /// The field's class: whether something is wrong with it.
    fn class(&self, field: &str) -> &'static str {
        if self.figures.field == field && !self.figures.waits { " is-invalid" } else { "" }
    }
}

impl RunPage {
    fn is_probe(&self, probe: &Probe) -> bool {
        self.run.probe_id == Some(probe.id)
    }

    /// Density of the solids that stands in for what is not typed.
    fn solids(&self) -> String {
        fixed(solids(&RunDraft { particles: String::new(), ..self.draft.clone() }).get(), 2)
    }

    fn schools(&self) -> &'static [School] {
        School::ALL
    }
}

/// The draft of a run, with empty rows to type on and what the record has for its cores.
async fn draft_of(store: &Store, run: &Run) -> Result<RunDraft, Problem> {
    let mut draft: RunDraft = serde_json::from_str(&run.draft).map_err(|e| Problem::Internal(e.to_string()))?;
    while draft.rows.len() < ROWS || draft.rows.last().is_some_and(|r| !r.is_empty()) {
        draft.rows.push(SampleRow::default());
    }
    recorded::fill(store, run, &mut draft).await?;
    Ok(draft)
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let run = state.store.run(*id).await?;
    show_run(&state, &actor, run, None, None).await
}

async fn show_run(
    state: &State,
    actor: &Actor,
    run: Run,
    typed: Option<adopt::AdoptForm>,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let study = state.store.study(run.study_id).await?;
    let draft = draft_of(&state.store, &run).await?;
    let resolved = resolve(&draft);
    let around = KnownCurves::of(&state.store, &run).await?;
    let part = result(&draft, &resolved, &around);
    let revision = state.store.revision(DraftKind::Run, run.id).await?;
    let shell = Shell::within(state, actor, &run.title, Room::Bench, &study, None).await?.of_revision(revision);
    let probes = state.store.probes().await?.into_iter().filter(|p| p.principle == Principle::Dielectric).collect();
    let typed = match typed {
        Some(typed) => typed,
        None => adopt::AdoptForm {
            valid_from: field(first_placed(state, &study, run.probe_id).await?, study.utc_offset_minutes),
            ..adopt::AdoptForm::default()
        },
    };
    let mut versions = Vec::new();
    if let Some(probe) = run.probe_id {
        for c in state.store.calibrations(&Subject::Probe(probe)).await? {
            versions.push(Version {
                version: c.version,
                statement: c.statement,
                from: moment(c.valid_from, study.utc_offset_minutes),
                by: c.adopted_by,
                at: moment(c.adopted_at, study.utc_offset_minutes),
                retired: c.retired.is_some(),
            });
        }
    }
    let bench = practice_of(&run)?.map(|p| BenchPart::of(&p, &draft, &resolved));
    page(&RunPage {
        shell,
        run,
        rows: draft.rows.iter().zip(resolved.figures).enumerate().map(RowPart::of).collect(),
        draft,
        result: part,
        probes,
        model: around.model,
        bench,
        typed,
        versions,
        error,
    })
}

/// When the probe was first placed: a calibration usually holds from there.
async fn first_placed(state: &State, study: &Study, probe: Option<i64>) -> Result<UnixSeconds, Problem> {
    let mut first = None;
    for station in state.store.stations(study.id).await? {
        let of = state.store.placements(station.id).await?.into_iter().filter(|p| Some(p.probe.id) == probe);
        first = of.map(|p| p.starts).chain(first).min();
    }
    Ok(first.unwrap_or_else(|| state.now(study)))
}

/// Keeps what was typed, and shows what follows from it.
async fn save(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Sent>,
) -> Result<HttpResponse, Problem> {
    let form = form.0;
    let last = |name: &str| form.iter().rev().find(|f| f.0 == name).map(|f| f.1.trim());
    let title = match last("title") {
        None | Some("") => None,
        Some(typed) => Some(words(typed, "the run's title", 120).map_err(Problem::Refused)?),
    };
    for _ in 0..TRIES {
        let at = At { kind: DraftKind::Run, document: *id, revision: state.store.revision(DraftKind::Run, *id).await? };
        let mut run = state.store.run(*id).await?;
        let newest: RunDraft = serde_json::from_str(&run.draft).map_err(|e| Problem::Internal(e.to_string()))?;
        let found = combine(&state.store, at, sent_revision(&form), &newest, |draft| type_in(draft, &form)).await?;
        run.title = title.clone().unwrap_or(run.title);
        if let Some(probe) = last("probe") {
            run.probe_id = probe.parse().ok();
        }
        run.draft = serde_json::to_string(&found.draft).map_err(|e| Problem::Internal(e.to_string()))?;
        match state.store.keep_run(at.revision, &run).await {
            Err(StoreError::Stale) => continue,
            kept => kept?,
        };
        if let Some(sentence) = in_words(&found.conflicts) {
            say(&actor, &sentence)?;
        }
        if last("live") == Some("yes") {
            return show_run(&state, &actor, run, None, None).await;
        }
        return Ok(see_other(&format!("/bench/{}", *id)));
    }
    Err(StoreError::Stale.into())
}

/// A sent form in a draft: rows come as they are typed, empty ones at the end go.
fn type_in(draft: &RunDraft, form: &Sent) -> Result<RunDraft, Problem> {
    let row = |name: &str| name.strip_prefix("rows.")?.split('.').next()?.parse::<usize>().ok();
    let typed = form.iter().filter(|f| !f.1.trim().is_empty()).filter_map(|f| row(&f.0)).max();
    let rows = typed.map_or(0, |last| last + 1);
    if rows > MOST_ROWS {
        return Err(Problem::Refused(format!(
            "A run takes {MOST_ROWS} samples; this has {rows}. Split it into two runs."
        )));
    }
    let mut wide = draft.clone();
    wide.rows.resize(wide.rows.len().max(rows), SampleRow::default());
    let mut typed = draft_form::apply(&wide, form)?.0;
    while typed.rows.last().is_some_and(|r| *r == SampleRow::default()) {
        typed.rows.pop();
    }
    Ok(typed)
}

/// The most samples of one run.
const MOST_ROWS: usize = 200;

/// The answer of a run in one sentence, and how much is to be looked at, for lists.
pub async fn answer_of(store: &Store, run: &Run) -> Result<(String, usize), Problem> {
    let draft = draft_of(store, run).await?;
    let resolved = resolve(&draft);
    let found = &resolved.recommendation;
    let said = conditions(&draft, &resolved, &RunContext::default()).warnings.len();
    let rows = resolved.figures.iter().filter(|f| !f.message.is_empty() && !f.waits).count();
    Ok((found.sentence.clone(), said + rows + found.outliers.len() + found.impossible.len()))
}
