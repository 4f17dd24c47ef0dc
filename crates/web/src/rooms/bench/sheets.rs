//! What all sheets of the bench share: begun, loaded, kept as typed.

use crate::app::App;
use crate::rooms::plan::station::edit;
use crate::shell::errors::Problem;
use crate::shell::see_other;
use crate::shell::sign_in::acting;
use actix_session::Session;
use actix_web::HttpResponse;
use ebrel_core::planning::Typed;
use ebrel_store::register::BenchSheet;
use serde::Serialize;
use serde::de::DeserializeOwned;

/// A kind of sheet, as it is typed.
pub trait SheetDraft: Serialize + DeserializeOwned + PartialEq {
    /// Its name in the database, and the part of its address: `/bench/KIND/NUMBER`.
    const KIND: &'static str;

    /// What it is called.
    fn title(&self) -> &Typed;
}

fn json<D: SheetDraft>(draft: &D) -> Result<String, Problem> {
    serde_json::to_string(draft).map_err(|e| Problem::Internal(e.to_string()))
}

/// Begins a sheet in a study and leads to it.
pub async fn begin<D: SheetDraft>(app: &App, study: i64, draft: &D) -> Result<HttpResponse, Problem> {
    let made_at = app.now(&app.store.study(study).await?);
    let title = draft.title().to_string();
    let sheet = BenchSheet { id: 0, study_id: study, kind: D::KIND.into(), title, made_at, draft: json(draft)? };
    let number = app.store.add_sheet(&sheet).await?;
    Ok(see_other(&format!("/bench/{}/{number}", D::KIND)))
}

/// A sheet of this kind with its draft.
pub async fn load<D: SheetDraft>(app: &App, id: i64) -> Result<(BenchSheet, D), Problem> {
    let sheet = app.store.sheet(id).await?;
    if sheet.kind != D::KIND {
        return Err(Problem::NotFound("sheet of this kind"));
    }
    let draft = serde_json::from_str(&sheet.draft).map_err(|e| Problem::Internal(e.to_string()))?;
    Ok((sheet, draft))
}

/// A sheet as a sent form leaves it.
pub struct Received<D> {
    /// The sheet.
    pub sheet: BenchSheet,
    /// Its draft with the form's fields; kept already.
    pub draft: D,
    /// Who sent it.
    pub by: String,
    /// The button that sent it; empty for none.
    pub action: String,
    /// Whether a script waits for the page itself.
    pub live: bool,
}

/// Takes a sent form into a sheet and keeps it.
pub async fn receive<D: SheetDraft>(
    app: &App,
    session: &Session,
    id: i64,
    form: &[(String, String)],
) -> Result<Received<D>, Problem> {
    let by = acting(app, session)?;
    let (sheet, before) = load::<D>(app, id).await?;
    let draft = edit::apply(&before, form)?.0;
    keep(app, &sheet, &draft).await?;
    let last = |name: &str| form.iter().rev().find(|f| f.0 == name).map_or("", |f| f.1.trim());
    Ok(Received { sheet, draft, by, action: last("do").to_owned(), live: last("live") == "yes" })
}

/// Keeps a sheet as it is typed so far.
pub async fn keep<D: SheetDraft>(app: &App, sheet: &BenchSheet, draft: &D) -> Result<(), Problem> {
    let title = if draft.title().is_blank() { sheet.title.clone() } else { draft.title().to_string() };
    Ok(app.store.keep_sheet(sheet.id, &title, &json(draft)?).await?)
}
