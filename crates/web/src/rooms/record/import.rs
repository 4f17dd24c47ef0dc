//! Importing a logger file: upload, recipe and mapping with a preview, report.

use super::import_form::{RecipeForm, read_form, recipe_form};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, moment, span};
use crate::shell::guard::{self, CheckedForm};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, see_other};
use crate::state::places::Place;
use crate::state::{State, UPLOAD_LIMIT};
use actix_multipart::form::MultipartForm;
use actix_multipart::form::tempfile::TempFile;
use actix_multipart::form::text::Text as Field;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::importing::{self, Mapping, Report, SavedRecipe};
use ebrel_app::reviewing;
use ebrel_core::roles::Role;
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_formats::logger::{self, Read, ReadError, Recipe, Text, TextError};
use ebrel_store::imports::Import;
use ebrel_store::stations::Station;
use ebrel_store::streams::Stream;
use ebrel_store::studies::Study;
use std::collections::HashMap;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/import", Least::Member(Role::Field), upload_page);
    routes.post("/stations/{id}/import", Least::Member(Role::Field), upload);
    routes.get("/imports/{id}", Least::Member(Role::Field), show);
    routes.post("/imports/{id}", Least::Member(Role::Field), change);
}

struct Earlier {
    id: i64,
    file: String,
    when: String,
    outcome: String,
}

#[derive(Template)]
#[template(path = "rooms/record/upload.html")]
struct UploadPage {
    shell: Shell,
    station: Station,
    earlier: Vec<Earlier>,
    recipes: Vec<String>,
    error: Option<String>,
    limit: usize,
}

async fn upload_page(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    show_upload(&state, &actor, *id, None).await
}

async fn show_upload(state: &State, actor: &Actor, id: i64, error: Option<String>) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let shell = Shell::within(state, actor, "Import", Room::Record, &study, Some(&station)).await?;
    let earlier = state.store.imports(id).await?.into_iter().map(|i| {
        let report = i.report.as_deref().and_then(|r| serde_json::from_str::<Report>(r).ok());
        let outcome = report.map_or("begun, nothing stored".to_owned(), |r| {
            format!("{} records new, {} known", grouped(r.new_records), grouped(r.known_records))
        });
        Earlier { id: i.id, file: i.file_name, when: moment(i.created_at, study.utc_offset_minutes), outcome }
    });
    let earlier = earlier.collect();
    let recipes = state.store.recipes().await?.into_iter().map(|r| r.0).collect();
    page(&UploadPage { shell, station, earlier, recipes, error, limit: UPLOAD_LIMIT })
}

#[derive(MultipartForm)]
struct Upload {
    token: Field<String>,
    recipe: Option<Field<String>>,
    file: TempFile,
}

async fn upload(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    MultipartForm(form): MultipartForm<Upload>,
) -> Result<HttpResponse, Problem> {
    guard::matches(actor.session(), &form.token)?;
    let by = actor.name().to_owned();
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let file_name = form.file.file_name.clone().unwrap_or_default();
    if file_name.is_empty() && form.file.size == 0 {
        return show_upload(&state, &actor, *id, Some("Choose a file first.".into())).await;
    }
    let chosen = form.recipe.map(|r| r.into_inner()).filter(|r| !r.is_empty());
    let saved = state.store.recipes().await?.into_iter().find(|(name, _)| Some(name) == chosen.as_ref());
    let saved = saved.and_then(|(_, body)| serde_json::from_str::<SavedRecipe>(&body).ok());
    let streams = state.store.streams(*id).await?;
    let data = state.data.clone();
    let offset = i32::try_from(study.utc_offset_minutes).unwrap_or(0);
    let place = state.heavy.take().await?;
    let begun = {
        let file_name = file_name.clone();
        place.run(move || begin(&data, form.file, &file_name, saved, offset, &streams)).await?
    };
    let (sha256, recipe, mapping) = match begun {
        Ok(begun) => begun,
        Err(sentence) => return show_upload(&state, &actor, *id, Some(format!("{file_name}: {sentence}."))).await,
    };
    let import = Import {
        id: 0,
        station_id: *id,
        file_name,
        sha256,
        recipe: json(&recipe)?,
        mapping: json(&mapping)?,
        created_at: state.now(&study),
        created_by: by,
        report: None,
    };
    let import = state.store.begin_import(&import).await?;
    Ok(see_other(&format!("/imports/{import}")))
}

fn json(value: &impl serde::Serialize) -> Result<String, Problem> {
    serde_json::to_string(value).map_err(|e| Problem::Internal(e.to_string()))
}

/// Keeps the file and makes a first recipe and mapping. The error is a sentence without its full stop.
fn begin(
    data: &std::path::Path,
    file: TempFile,
    name: &str,
    saved: Option<SavedRecipe>,
    offset: i32,
    streams: &[Stream],
) -> Result<(String, Recipe, Mapping), String> {
    let text = Text::of_file(file.file.path()).map_err(|e| e.to_string())?;
    let head = text.head(importing::HEAD_LINES).map_err(|e| e.to_string())?;
    let recipe = match &saved {
        Some(saved) => saved.recipe.clone(),
        // What cannot be guessed is told by hand, on the same form.
        None => logger::guess(&text, offset).unwrap_or_else(|_| logger::plain_recipe(&head, offset)),
    };
    let read = logger::survey(&text, &recipe, UnixSeconds(i64::MAX)).map_err(|e| e.to_string())?;
    let mapping = match &saved {
        Some(saved) => importing::fitted(&saved.mapping, &read),
        None => {
            let mut mapping = importing::first_mapping(&read, &head, name);
            importing::find_node(&mut mapping, &head, streams);
            mapping
        }
    };
    let sha256 =
        importing::keep_file(data, file.file.path()).map_err(|e| format!("it could not be kept on the disk ({e})"))?;
    Ok((sha256, recipe, mapping))
}

/// An import with its file.
struct Opened {
    place: Place,
    import: Import,
    station: Station,
    study: Study,
    text: Text,
    head: Vec<String>,
}

impl Opened {
    async fn load(state: &State, id: i64) -> Result<Self, Problem> {
        let place = state.heavy.take().await?;
        let import = state.store.import(id).await?;
        let station = state.store.station(import.station_id).await?;
        let study = state.store.study(station.study_id).await?;
        let path = importing::kept_at(&state.data, &import.sha256);
        let opened = place.run(move || {
            let text = Text::of_file(path)?;
            let head = text.head(importing::HEAD_LINES)?;
            Ok::<_, TextError>((text, head))
        });
        let (text, head) = opened.await?.map_err(|e| Problem::Internal(e.to_string()))?;
        Ok(Self { place, import, station, study, text, head })
    }

    /// The recipe and mapping that were kept last.
    fn kept(&self) -> Result<Plan, Problem> {
        let wrong = |e: serde_json::Error| Problem::Internal(e.to_string());
        let recipe = serde_json::from_str(&self.import.recipe).map_err(wrong)?;
        Ok((recipe, serde_json::from_str(&self.import.mapping).map_err(wrong)?))
    }

    /// What the file holds by a recipe, counted in full; its readings are all kept only where they are to be stored.
    async fn read(&self, recipe: &Recipe, now: UnixSeconds, whole: bool) -> Result<Found, Problem> {
        let (text, recipe, latest) = (self.text.clone(), recipe.clone(), now + SpanSeconds::DAY);
        let read = if whole { logger::read_until } else { logger::survey };
        Ok(self.place.run(move || read(&text, &recipe, latest)).await?)
    }
}

/// How a file is read, and what its columns mean.
type Plan = (Recipe, Mapping);

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let opened = Opened::load(&state, *id).await?;
    if let Some(report) = opened.import.report.as_deref() {
        let report: Report = serde_json::from_str(report).map_err(|e| Problem::Internal(e.to_string()))?;
        let Opened { import, station, study, .. } = opened;
        let shell = Shell::within(&state, &actor, "Import report", Room::Record, &study, Some(&station)).await?;
        return page(&ReportPage::of(shell, &import, station, &study, report));
    }
    let (recipe, mapping) = opened.kept()?;
    let form = recipe_form(&recipe, &mapping);
    let read = opened.read(&recipe, state.now(&opened.study), false).await?;
    show_plan(&state, &actor, opened, form, Some((read, &mapping))).await
}

struct PreviewColumn {
    name: String,
    valid: String,
    missing: String,
    words: bool,
}

struct Line {
    number: usize,
    text: String,
}

#[derive(Template)]
#[template(path = "rooms/record/plan.html")]
struct PlanPage {
    shell: Shell,
    station: Station,
    import: Import,
    form: RecipeForm,
    head: Vec<Line>,
    answer: String,
    columns: Vec<PreviewColumn>,
    rows: Vec<(String, Vec<String>)>,
    problems: Vec<logger::Problem>,
    more_problems: usize,
    hindrances: Vec<String>,
    again: usize,
}

/// What the file holds by the form's recipe, or why it cannot be read by it.
type Found = Result<Read, ReadError>;

/// The form as it was typed, with what the file gives by it where it could be understood.
async fn show_plan(
    state: &State,
    actor: &Actor,
    opened: Opened,
    form: RecipeForm,
    understood: Option<(Found, &Mapping)>,
) -> Result<HttpResponse, Problem> {
    let (study, now) = (&opened.study, state.now(&opened.study));
    let shell = Shell::within(state, actor, "Import", Room::Record, study, Some(&opened.station)).await?;
    let offset = study.utc_offset_minutes;
    let head = opened.head.iter().take(6).enumerate();
    let head = head.map(|(i, l)| Line { number: i + 1, text: l.chars().take(220).collect() }).collect();
    let mut plan = PlanPage {
        shell,
        station: opened.station,
        import: opened.import,
        form,
        head,
        answer: "The recipe cannot be used yet: see the fields marked below.".to_owned(),
        columns: Vec::new(),
        rows: Vec::new(),
        problems: Vec::new(),
        more_problems: 0,
        hindrances: Vec::new(),
        again: 0,
    };
    match understood {
        Some((Ok(read), mapping)) => plan.fill(&read, mapping, now, offset),
        Some((Err(error), _)) => plan.hindrances.push(error.to_string()),
        None => {}
    }
    page(&plan)
}

/// Rows of the file shown as they were understood.
const SHOWN_ROWS: usize = 6;
/// Unreadable lines shown before anything is stored; the report lists all.
const SHOWN_PROBLEMS: usize = 12;

impl PlanPage {
    /// What was read of the column at this place of the form.
    fn preview(&self, i: &usize) -> Option<&PreviewColumn> {
        self.columns.get(*i)
    }

    fn fill(&mut self, read: &Read, mapping: &Mapping, now: UnixSeconds, offset: i64) {
        self.hindrances = importing::hindrances(read, mapping, now);
        let when = read.extent.map(|(a, b)| span(a, b, offset)).unwrap_or_default();
        let taken = mapping.columns.iter().filter(|c| c.quantity.is_some()).count();
        let unreadable = match read.problems.len() {
            0 => "every line could be read".to_owned(),
            1 => "1 line or cell could not be read".to_owned(),
            n => format!("{} lines or cells could not be read", grouped(n)),
        };
        let twice = read.lines - read.records.min(read.lines);
        let twice = if twice > 0 && read.columns.len() == mapping.columns.len() && read.interval_s.is_some() {
            format!(" ({} lines repeat a time)", grouped(twice))
        } else {
            String::new()
        };
        self.answer = format!(
            "{} records{twice}, {when}, {taken} of {} columns; {unreadable}.",
            grouped(read.records),
            read.columns.len()
        );
        self.columns = read
            .columns
            .iter()
            .map(|c| PreviewColumn {
                name: c.name.clone(),
                valid: grouped(c.valid),
                missing: grouped(c.missing),
                words: c.words > c.valid + c.missing,
            })
            .collect();
        let mut rows: Vec<(UnixSeconds, Vec<String>)> = Vec::new();
        for r in &read.readings {
            if rows.last().is_none_or(|l| l.0 != r.time) {
                if rows.len() == SHOWN_ROWS {
                    break;
                }
                rows.push((r.time, vec!["–".to_owned(); read.columns.len()]));
            }
            if let Some((_, cells)) = rows.last_mut() {
                cells[r.column] = r.value.to_string().replace('-', "−");
            }
        }
        self.rows = rows.into_iter().map(|(t, cells)| (moment(t, offset), cells)).collect();
        self.problems = read.problems.iter().take(SHOWN_PROBLEMS).cloned().collect();
        self.more_problems = read.problems.len().saturating_sub(SHOWN_PROBLEMS);
        self.again = read.headers_again;
    }
}

async fn change(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<HashMap<String, String>>,
) -> Result<HttpResponse, Problem> {
    let mut opened = Opened::load(&state, *id).await?;
    if opened.import.report.is_some() {
        return Ok(see_other(&format!("/imports/{}", *id)));
    }
    let (known, mapping) = opened.kept()?;
    let (typed, resolved) = read_form(&form.0, &known, &mapping);
    let Ok((recipe, mut mapping)) = resolved else { return show_plan(&state, &actor, opened, typed, None).await };
    let now = state.now(&opened.study);
    let read = match opened.read(&recipe, now, false).await? {
        Ok(read) => read,
        Err(error) => return show_plan(&state, &actor, opened, typed, Some((Err(error), &mapping))).await,
    };
    if read.columns.len() != mapping.columns.len() {
        // Another separator or layout makes other columns: what they mean is guessed anew.
        mapping =
            Mapping { node: mapping.node, ..importing::first_mapping(&read, &opened.head, &opened.import.file_name) };
    }
    opened.import.recipe = json(&recipe)?;
    opened.import.mapping = json(&mapping)?;
    state.store.keep_import(&opened.import).await?;
    let mut shown = recipe_form(&recipe, &mapping);
    let store_it = form.0.get("do").is_some_and(|d| d == "store");
    if !store_it || !importing::hindrances(&read, &mapping, now).is_empty() {
        return show_plan(&state, &actor, opened, shown, Some((Ok(read), &mapping))).await;
    }
    let read = opened.read(&recipe, now, true).await?.map_err(|e| Problem::Internal(e.to_string()))?;
    match importing::store(&state.store, &opened.import, &read, &mapping).await {
        Ok(_) => {}
        Err(ebrel_store::StoreError::Rule(sentence)) => {
            shown.refused = Some(sentence);
            return show_plan(&state, &actor, opened, shown, Some((Ok(read), &mapping))).await;
        }
        Err(other) => return Err(other.into()),
    }
    if let Some(name) = form.0.get("save_as").map(|n| n.trim()).filter(|n| !n.is_empty()) {
        state.store.save_recipe(name, &json(&SavedRecipe { recipe, mapping })?).await?;
    }
    reviewing::run(&state.store, opened.station.id).await?;
    Ok(see_other(&format!("/imports/{}", *id)))
}

#[derive(Template)]
#[template(path = "rooms/record/report.html")]
struct ReportPage {
    shell: Shell,
    station: Station,
    file: String,
    answer: String,
    facts: Vec<(String, String)>,
    problems: Vec<logger::Problem>,
    missing: Vec<(String, String)>,
}

impl ReportPage {
    fn of(shell: Shell, import: &Import, station: Station, study: &Study, r: Report) -> Self {
        let answer = match (r.new_records, r.known_records) {
            (0, known) => format!("Nothing new: all {} records were known already.", grouped(known)),
            (new, 0) => format!("{} records are stored.", grouped(new)),
            (new, known) => format!("{} records are stored; {} were known already.", grouped(new), grouped(known)),
        };
        let mut facts = vec![
            ("Lines read".to_owned(), grouped(r.lines)),
            ("Readings stored".to_owned(), grouped(r.new_readings)),
            ("Readings known with the same value".to_owned(), grouped(r.known_readings)),
            ("Readings known with another value (kept beside the first)".to_owned(), grouped(r.repeated_readings)),
            ("Header lines that stood again".to_owned(), grouped(r.headers_again)),
            ("Lines or cells that could not be read".to_owned(), grouped(r.problems.len())),
        ];
        if let Some((a, b)) = r.extent {
            facts.insert(0, ("Time".to_owned(), span(UnixSeconds(a), UnixSeconds(b), study.utc_offset_minutes)));
        }
        if !r.left_out.is_empty() {
            facts.push(("Columns left out".to_owned(), r.left_out.join(", ")));
        }
        facts.push(("The file as it came".to_owned(), format!("kept under {}…", &import.sha256[..12])));
        let missing = r.missing.into_iter().map(|(c, n)| (c, grouped(n))).collect();
        Self { shell, station, file: import.file_name.clone(), answer, facts, problems: r.problems, missing }
    }
}
