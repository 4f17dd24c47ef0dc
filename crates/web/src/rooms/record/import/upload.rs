//! Files come in: one, several at once, an archive or a workbook.

use super::opened::json;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, moment};
use crate::shell::{Room, Shell, guard, page, see_other};
use crate::state::{State, UPLOAD_LIMIT};
use actix_multipart::form::MultipartForm;
use actix_multipart::form::tempfile::TempFile;
use actix_multipart::form::text::Text as Field;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::importing::{self, Begun, Report, SavedRecipe};
use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{self, Text};
use ebrel_store::imports::Import;
use ebrel_store::recipes::SavedBody;
use ebrel_store::stations::Station;
use ebrel_store::streams::Stream;
use serde::Deserialize;
use std::path::{Path, PathBuf};

struct Earlier {
    id: i64,
    file: String,
    when: String,
    outcome: String,
    withdrawn: bool,
    /// Uploaded just now, and not stored yet.
    waits: bool,
}

#[derive(Template)]
#[template(path = "rooms/record/import/upload.html")]
struct UploadPage {
    shell: Shell,
    station: Station,
    /// Files that came just now.
    these: Vec<Earlier>,
    /// Their numbers, parted by commas, for the next step.
    numbers: String,
    earlier: Vec<Earlier>,
    recipes: Vec<String>,
    errors: Vec<String>,
    limit: usize,
}

impl UploadPage {
    fn any_waits(&self) -> bool {
        self.these.iter().any(|e| e.waits)
    }
}

#[derive(Deserialize)]
pub struct These {
    #[serde(default)]
    these: String,
}

/// The page to upload on, and what was imported before.
pub async fn page_of(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    these: web::Query<These>,
) -> Result<HttpResponse, Problem> {
    show(&state, &actor, *id, Vec::new(), &these.these).await
}

async fn show(
    state: &State,
    actor: &Actor,
    id: i64,
    errors: Vec<String>,
    these: &str,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let shell = Shell::within(state, actor, "Import", Room::Record, &study, Some(&station)).await?;
    let numbers: Vec<i64> = these.split(',').filter_map(|i| i.parse().ok()).collect();
    let row = |i: Import| {
        let report = i.report.as_deref().and_then(|r| Report::of_json(r).ok());
        let outcome = match &report {
            Some(r) if r.losses() > 0 => {
                let lost = importing::lines_or_cells(r.losses());
                format!("{} records new, {} known, {lost} lost", grouped(r.new_records), grouped(r.known_records))
            }
            Some(r) => format!("{} records new, {} known", grouped(r.new_records), grouped(r.known_records)),
            None if i.progress.is_some() || state.work.of(i.id).is_some() => "being stored".to_owned(),
            None => format!("begun, nothing stored{}", open_questions(&i)),
        };
        Earlier {
            id: i.id,
            when: moment(i.created_at, study.utc_offset_minutes),
            outcome,
            withdrawn: i.withdrawn.is_some(),
            waits: report.is_none() && i.progress.is_none(),
            file: i.file_name,
        }
    };
    let all: Vec<Import> = state.store.imports(id).await?;
    let (mut new, earlier): (Vec<Import>, Vec<Import>) = all.into_iter().partition(|i| numbers.contains(&i.id));
    new.reverse();
    let recipes = state.store.recipes().await?.into_iter().map(|r| r.name).collect();
    page(&UploadPage {
        shell,
        station,
        these: new.into_iter().map(row).collect(),
        numbers: these.to_owned(),
        earlier: earlier.into_iter().take(40).map(row).collect(),
        recipes,
        errors,
        limit: UPLOAD_LIMIT,
    })
}

/// How many questions a person has to answer before an import can be stored, for the end of a sentence.
fn open_questions(import: &Import) -> String {
    let open = importing::remarks_of(import).into_iter().filter(|r| r.1).count();
    match open {
        0 => String::new(),
        1 => ": 1 question is open".to_owned(),
        n => format!(": {n} questions are open"),
    }
}

/// What the form sends.
#[derive(MultipartForm)]
pub struct Upload {
    token: Field<String>,
    recipe: Option<Field<String>>,
    file: Vec<TempFile>,
}

/// How files are looked at for the first time.
struct Looking {
    data: PathBuf,
    chosen: Option<SavedRecipe>,
    known: Vec<SavedBody>,
    streams: Vec<Stream>,
    offset_minutes: i32,
    now: UnixSeconds,
    station: i64,
    by: String,
}

/// Takes files in, each of an archive or workbook too, and looks at them.
pub async fn upload(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    MultipartForm(form): MultipartForm<Upload>,
) -> Result<HttpResponse, Problem> {
    guard::matches(actor.session(), &form.token)?;
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let files: Vec<TempFile> =
        form.file.into_iter().filter(|f| f.file_name.as_ref().is_some_and(|n| !n.is_empty()) || f.size > 0).collect();
    if files.is_empty() {
        return show(&state, &actor, *id, vec!["Choose a file first.".into()], "").await;
    }
    let known = state.store.recipes().await?;
    let chosen = form.recipe.map(|r| r.into_inner()).filter(|r| !r.is_empty());
    let saved = known.iter().find(|r| Some(&r.name) == chosen.as_ref());
    let looking = Looking {
        data: state.data.clone(),
        chosen: saved.and_then(|s| serde_json::from_str::<SavedRecipe>(&s.body).ok()),
        known,
        streams: state.store.streams(*id).await?,
        offset_minutes: i32::try_from(study.utc_offset_minutes).unwrap_or(0),
        now: state.now(&study),
        station: *id,
        by: actor.name().to_owned(),
    };
    let place = state.heavy.take().await?;
    let (begun, errors) = place.run(move || look_at_all(&looking, files)).await?;
    let mut numbers = Vec::new();
    for import in &begun {
        numbers.push(state.store.begin_import(import).await?.to_string());
    }
    match (&numbers[..], errors.is_empty()) {
        ([one], true) => Ok(see_other(&format!("/imports/{one}"))),
        (_, true) => Ok(see_other(&format!("/stations/{}/import?these={}", *id, numbers.join(",")))),
        (_, false) => show(&state, &actor, *id, errors, &numbers.join(",")).await,
    }
}

/// Imports that can be begun, and sentences for files that cannot.
fn look_at_all(looking: &Looking, files: Vec<TempFile>) -> (Vec<Import>, Vec<String>) {
    let (mut begun, mut errors) = (Vec::new(), Vec::new());
    for file in files {
        let name = file.file_name.clone().unwrap_or_default();
        let unpacked = match tempfile::tempdir() {
            Ok(dir) => dir,
            Err(e) => return (begun, vec![format!("{name}: there is no room to unpack it ({e}).")]),
        };
        let found = logger::unpack(file.file.path(), &name, unpacked.path());
        if found.members.is_empty() && found.refused.is_empty() {
            errors.push(format!("{name}: there is no file in it."));
        }
        errors.extend(found.refused.into_iter().map(|(name, why)| format!("{name}: {why}.")));
        for member in found.members {
            let archive = member.path.starts_with(unpacked.path()).then(|| file.file.path());
            match look_at(looking, &member, archive) {
                Ok(import) => begun.push(import),
                Err(sentence) => errors.push(format!("{}: {sentence}.", member.name)),
            }
        }
    }
    (begun, errors)
}

/// Keeps a file and makes a first recipe and mapping. The error is a sentence without its full stop.
fn look_at(looking: &Looking, member: &logger::Member, archive: Option<&Path>) -> Result<Import, String> {
    let text = Text::of_file(&member.path).map_err(|e| e.to_string())?;
    let recipes = (looking.chosen.clone(), &looking.known[..]);
    let begun = importing::begin(&text, &member.name, recipes, looking.offset_minutes, &looking.streams, looking.now);
    let Begun { recipe, mapping, mut remarks, by_hand, .. } = begun.map_err(|e| e.to_string())?;
    if by_hand {
        remarks.push(("Tell it by the controls below; each change is shown at once.".to_owned(), false));
    }
    let keep = |path: &Path| {
        importing::keep_file(&looking.data, path).map_err(|e| format!("it could not be kept on the disk ({e})"))
    };
    let told = |e: Problem| format!("{e:?}");
    Ok(Import {
        sha256: keep(&member.path)?,
        archive: archive.map(keep).transpose()?.unwrap_or_default(),
        recipe: json(&recipe).map_err(told)?,
        mapping: json(&mapping).map_err(told)?,
        remarks: json(&remarks).map_err(told)?,
        ..Import::begun(looking.station, &member.name, looking.now, &looking.by)
    })
}
