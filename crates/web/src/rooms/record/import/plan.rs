//! Before anything is stored: what was understood of a file, every control of its recipe, and what each column is.

use super::columns::{ColumnForm, SHOWN, column_forms, quantities, read_columns, show_runs};
use super::form::{RecipeForm, Typed, recipe_form};
use super::opened::{Opened, json};
use super::reading::read_form;
use super::report::{RunningPage, show_report};
use super::wave::{Wave, wave};
use super::work;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, moment, span};
use crate::shell::guard::CheckedForm;
use crate::shell::{Room, Shell, page, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::importing::{self, Mapping, SavedRecipe};
use ebrel_formats::logger::{self, Group, Recipe, Survey};
use ebrel_store::StoreError;
use ebrel_store::imports::Import;
use ebrel_store::recipes::SavedBody;
use ebrel_store::stations::Station;

struct HeadLine {
    number: usize,
    text: String,
}

/// A record as it was understood.
struct Row {
    line: usize,
    text: String,
    time: String,
    cells: Vec<String>,
}

#[derive(Template)]
#[template(path = "rooms/record/import/plan.html")]
struct PlanPage {
    shell: Shell,
    station: Station,
    import: Import,
    form: RecipeForm,
    node: String,
    columns: Vec<ColumnForm>,
    more_columns: usize,
    head: Vec<HeadLine>,
    answer: String,
    remarks: Vec<(String, bool)>,
    lines: String,
    names: Vec<String>,
    rows: Vec<Row>,
    groups: Vec<Group>,
    more_groups: usize,
    hindrances: Vec<String>,
    refused: Option<String>,
    wave: Option<Wave>,
    /// What the file was read as before, where this reads it anew.
    instead_of: Option<(i64, String)>,
}

impl PlanPage {
    fn quantities(&self) -> Vec<(&'static str, &'static str)> {
        quantities()
    }
}

/// Lines at the head of the file that are shown as they stand.
const HEAD: usize = 12;
/// Columns of the records that are shown as understood.
const ROW_COLUMNS: usize = 24;
/// Reasons of losses that are shown before anything is stored.
const GROUPS: usize = 12;

/// The import: what was understood, how far it is, or its report.
pub async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let import = state.store.import(*id).await?;
    if state.work.of(*id).is_some() && import.report.is_none() {
        return RunningPage::show(&state, &actor, import).await;
    }
    if import.report.is_some() {
        return show_report(&state, &actor, import, None).await;
    }
    let opened = Opened::load(&state, *id).await?;
    let (recipe, mapping) = opened.kept()?;
    let survey = opened.survey(&recipe, state.now(&opened.study)).await?;
    let mut sketch = Sketch::of(recipe_form(&recipe), column_forms(&mapping, &recipe), &mapping.node);
    sketch.remarks = importing::remarks_of(&opened.import);
    match survey {
        Ok(survey) => show_plan(&state, &actor, opened, sketch, Some((recipe, mapping, survey))).await,
        Err(error) => {
            sketch.refused = Some(format!("{error}."));
            show_plan(&state, &actor, opened, sketch, None).await
        }
    }
}

/// The form as it was typed, before it is filled with what the file gives by it.
struct Sketch {
    form: RecipeForm,
    columns: Vec<ColumnForm>,
    node: String,
    remarks: Vec<(String, bool)>,
    refused: Option<String>,
}

impl Sketch {
    fn of(form: RecipeForm, columns: Vec<ColumnForm>, node: &str) -> Self {
        Self { form, columns, node: node.to_owned(), remarks: Vec::new(), refused: None }
    }
}

async fn show_plan(
    state: &State,
    actor: &Actor,
    opened: Opened,
    sketch: Sketch,
    understood: Option<(Recipe, Mapping, Survey)>,
) -> Result<HttpResponse, Problem> {
    let (study, now) = (&opened.study, state.now(&opened.study));
    let shell = Shell::within(state, actor, "Import", Room::Record, study, Some(&opened.station)).await?;
    let head = opened.head.iter().take(HEAD).enumerate();
    let head = head.map(|(i, l)| HeadLine { number: i + 1, text: l.chars().take(220).collect() }).collect();
    let instead_of = match opened.import.instead_of {
        Some(id) => Some((id, state.store.import(id).await?.withdrawn.map(|w| w.why).unwrap_or_default())),
        None => None,
    };
    let mut plan = PlanPage {
        shell,
        station: opened.station.clone(),
        import: opened.import.clone(),
        form: sketch.form,
        node: sketch.node,
        columns: sketch.columns,
        more_columns: 0,
        head,
        answer: "The recipe cannot be used yet: see the fields marked below.".to_owned(),
        remarks: sketch.remarks,
        lines: String::new(),
        names: Vec::new(),
        rows: Vec::new(),
        groups: Vec::new(),
        more_groups: 0,
        hindrances: Vec::new(),
        refused: sketch.refused,
        wave: None,
        instead_of,
    };
    if let Some((recipe, mapping, survey)) = understood {
        let streams = state.store.streams(opened.station.id).await?;
        plan.hindrances = importing::hindrances(&survey, &mapping, &streams, now);
        let job = opened.job(recipe, mapping, survey, now);
        let overlaps = importing::overlaps(&state.store, opened.station.id, &job).await?;
        show_runs(&mut plan.columns, &job.survey.columns, &overlaps, &job.mapping);
        plan.wave = wave(&job.survey, &job.mapping, opened.station.longitude, study.utc_offset_minutes);
        plan.fill(&job.survey, &job.mapping, study.utc_offset_minutes);
    }
    page(&plan)
}

impl PlanPage {
    fn fill(&mut self, survey: &Survey, mapping: &Mapping, offset: i64) {
        let taken = mapping.columns.iter().filter(|c| c.quantity.is_some()).count();
        let losses: usize = survey.groups.iter().map(|g| g.count).sum();
        let unreadable = match losses {
            0 => "every line could be read".to_owned(),
            n => format!("{} could not be read", importing::lines_or_cells(n)),
        };
        let twice = survey.tally.records.saturating_sub(survey.records);
        let long = survey.tally.records > survey.records * 2;
        let twice =
            if twice > 0 && !long { format!(" ({} lines repeat a time)", grouped(twice)) } else { String::new() };
        self.answer = match survey.extent {
            Some((first, last)) => format!(
                "{} {}{twice}, {}, {taken} of {} {}; {unreadable}.",
                grouped(survey.records),
                if survey.records == 1 { "record" } else { "records" },
                span(first, last, offset),
                survey.columns.len(),
                if survey.columns.len() == 1 { "column" } else { "columns" },
            ),
            None => "No record was found in it.".to_owned(),
        };
        let kinds = survey.tally.kinds().into_iter().map(|(what, n)| format!("{} {what}", grouped(n)));
        self.lines = format!("{} lines: {}.", grouped(survey.tally.sum()), kinds.collect::<Vec<_>>().join(", "));
        self.more_columns = mapping.columns.len().saturating_sub(SHOWN);
        let shown: Vec<usize> =
            (0..survey.columns.len()).filter(|i| !survey.columns[*i].is_words()).take(ROW_COLUMNS).collect();
        self.names = shown.iter().map(|i| survey.columns[*i].name.clone()).collect();
        let value = |values: &[(usize, f64)], column: usize| {
            let found = values.iter().find(|v| v.0 == column);
            found.map_or_else(|| "–".to_owned(), |(_, v)| v.to_string().replace('-', "−"))
        };
        let row = |s: &logger::Sample| Row {
            line: s.line,
            text: s.text.clone(),
            time: moment(s.time, offset),
            cells: shown.iter().map(|c| value(&s.values, *c)).collect(),
        };
        self.rows = survey.samples.iter().map(row).collect();
        self.groups = survey.groups.iter().take(GROUPS).cloned().collect();
        self.more_groups = survey.groups.len().saturating_sub(GROUPS);
    }
}

/// The form was sent: it is kept and shown anew with what the file gives by it, or stored.
pub async fn change(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let mut opened = Opened::load(&state, *id).await?;
    if opened.import.report.is_some() || state.work.of(*id).is_some() {
        return Ok(see_other(&format!("/imports/{}", *id)));
    }
    let typed = &form.0;
    let (known, mapping) = opened.kept()?;
    let (recipe_form, recipe) = read_form(typed, &known);
    let mut with_marks = recipe.clone().unwrap_or_else(|| known.clone());
    let (columns, read_mapping) = read_columns(typed, &mapping, &mut with_marks);
    let node = typed.get("node").cloned().unwrap_or_default();
    let mut sketch = Sketch::of(recipe_form, columns, &node);
    let (Some(_), Some(mut mapping)) = (recipe, read_mapping) else {
        return show_plan(&state, &actor, opened, sketch, None).await;
    };
    let recipe = with_marks;
    let now = state.now(&opened.study);
    let survey = match opened.survey(&recipe, now).await? {
        Ok(survey) => survey,
        Err(error) => {
            sketch.refused = Some(format!("{error}."));
            return show_plan(&state, &actor, opened, sketch, None).await;
        }
    };
    if !same_columns(&survey, &mapping) {
        // Another way to read makes other columns: what is known of them by name is kept, the others are suggested anew.
        mapping = refitted(&survey, &mapping, &opened);
        sketch.columns = column_forms(&mapping, &recipe);
    }
    if recipe != known {
        opened.import.remarks.clear();
    }
    sketch.remarks = importing::remarks_of(&opened.import);
    opened.import.recipe = json(&recipe)?;
    opened.import.mapping = json(&mapping)?;
    state.store.keep_import(&opened.import).await?;
    let store_it = typed.get("do").is_some_and(|d| d == "store");
    let streams = state.store.streams(opened.station.id).await?;
    if !store_it || !importing::hindrances(&survey, &mapping, &streams, now).is_empty() {
        return show_plan(&state, &actor, opened, sketch, Some((recipe, mapping, survey))).await;
    }
    if let Some(name) = typed.get("save_as").map(|n| n.trim()).filter(|n| !n.is_empty()) {
        let body = json(&SavedRecipe { recipe: recipe.clone(), mapping: mapping.clone() })?;
        let name = name.chars().take(60).collect();
        let saved =
            SavedBody { name, body, head: importing::head_of(&survey), kept_at: now, kept_by: actor.name().to_owned() };
        state.store.save_recipe(&saved).await?;
    }
    let job = opened.job(recipe.clone(), mapping.clone(), survey.clone(), now);
    match work::store(&state, &opened.import, job).await {
        Ok(()) => Ok(see_other(&format!("/imports/{}", *id))),
        Err(StoreError::Rule(sentence)) => {
            sketch.refused = Some(sentence);
            show_plan(&state, &actor, opened, sketch, Some((recipe, mapping, survey))).await
        }
        Err(other) => Err(other.into()),
    }
}

fn same_columns(survey: &Survey, mapping: &Mapping) -> bool {
    let plans = mapping.columns.iter().map(|p| (&p.table, &p.logger, &p.column));
    survey.columns.iter().map(|c| (&c.table, &c.node, &c.name)).eq(plans)
}

fn refitted(survey: &Survey, before: &Mapping, opened: &Opened) -> Mapping {
    let mut new = importing::first_mapping(survey, &opened.head, &opened.import.file_name);
    for plan in &mut new.columns {
        let known =
            before.columns.iter().find(|p| p.column == plan.column && p.table == plan.table && p.logger == plan.logger);
        if let Some(known) = known {
            *plan = known.clone();
        }
    }
    Mapping { node: before.node.clone(), columns: new.columns }
}
