//! What a phone is served: the field pages with their worker, the pack of a station, and where entries go.

use crate::components::dig::{Drawing, Measures};
use crate::shell::actor::Actor;
use crate::shell::assets;
use crate::shell::errors::Problem;
use crate::shell::guard::{CheckedJson, token};
use crate::shell::routes::{Least, Routes};
use crate::state::State;
use actix_web::http::header::ContentType;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::field::{self, Pack, Received};
use ebrel_app::planning::StationPlan;
use ebrel_core::roles::Role;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

pub fn routes(routes: &mut Routes<'_>) {
    // What opens without a line holds nothing of anybody: it is served before signing in too, so that an ended session never
    // takes the pages away.
    routes.get("/field/", Least::Anyone, shell);
    routes.get("/field/sw.js", Least::Anyone, worker);
    routes.get("/field/manifest.webmanifest", Least::Anyone, manifest);
    routes.get("/field/stations.json", Least::SignedIn, stations);
    routes.get("/field/token.json", Least::SignedIn, fresh_token);
    routes.get("/stations/{id}/field/pack.json", Least::Member(Role::Field), pack);
    routes.post("/stations/{id}/field/entries", Least::Member(Role::Field), entries);
}

/// What the worker keeps on the phone.
const FILES: [&str; 22] = [
    "/assets/shell/fonts.css",
    "/assets/shell/mark.svg",
    "/assets/rooms/field/app/field.css",
    "/assets/rooms/field/app/app.js",
    "/assets/rooms/field/app/forms.js",
    "/assets/rooms/field/app/home.js",
    "/assets/rooms/field/app/ids.js",
    "/assets/rooms/field/app/judge.js",
    "/assets/rooms/field/app/keep.js",
    "/assets/rooms/field/app/face.js",
    "/assets/rooms/field/app/log.js",
    "/assets/rooms/field/app/photo.js",
    "/assets/rooms/field/app/scan.js",
    "/assets/rooms/field/app/send.js",
    "/assets/rooms/field/app/station.js",
    "/assets/rooms/field/app/ui.js",
    "/assets/rooms/field/app/walk.js",
    "/assets/vendor/exifr/exifr.js",
    "/assets/vendor/idb/idb.js",
    "/assets/vendor/jsqr/jsQR.js",
    "/assets/vendor/fonts/atkinson-hyperlegible-next-latin-400-normal.woff2",
    "/assets/vendor/fonts/atkinson-hyperlegible-next-latin-700-normal.woff2",
];

const SHELL: &str = include_str!("app/shell.html");
const WORKER: &str = include_str!("app/sw.js");

async fn shell() -> HttpResponse {
    HttpResponse::Ok().content_type(ContentType::html()).body(SHELL)
}

/// The worker, headed by what it keeps; another version of any file makes another worker.
async fn worker() -> Result<HttpResponse, Problem> {
    let version = assets::version(&FILES, SHELL).ok_or_else(|| Problem::Internal("a field file is missing".into()))?;
    let files: Vec<&str> = std::iter::once("/field/").chain(FILES).collect();
    let head = json!({"version": format!("ebrel-field-{version}"), "files": files});
    Ok(HttpResponse::Ok()
        .content_type("text/javascript; charset=utf-8")
        .body(format!("self.EBREL = {head};\n{WORKER}")))
}

async fn manifest() -> HttpResponse {
    let manifest = json!({
        "name": "Ebrel field log", "short_name": "Ebrel field", "start_url": "/field/", "scope": "/field/",
        "display": "standalone", "background_color": "#fffdf6", "theme_color": "#14201b",
        "icons": [{"src": "/assets/shell/mark.svg", "sizes": "any", "type": "image/svg+xml", "purpose": "any"}],
    });
    HttpResponse::Ok().content_type("application/manifest+json").body(manifest.to_string())
}

#[derive(Serialize)]
struct StationChoice {
    id: i64,
    name: String,
    study: String,
}

/// Stations that the actor may work at.
async fn stations(state: web::Data<State>, actor: Actor) -> Result<web::Json<Vec<StationChoice>>, Problem> {
    let may = match actor.account() {
        None => None,
        Some(account) => Some(state.store.roles(account).await?),
    };
    let mut choices = Vec::new();
    for study in state.store.studies().await? {
        let allowed = may.as_ref().is_none_or(|m| m.iter().any(|(id, role)| *id == study.id && *role >= Role::Field));
        if !allowed {
            continue;
        }
        for station in state.store.stations(study.id).await? {
            choices.push(StationChoice { id: station.id, name: station.name, study: study.name.clone() });
        }
    }
    Ok(web::Json(choices))
}

/// A token for what a script sends, and who is signed in.
async fn fresh_token(actor: Actor) -> Result<web::Json<Value>, Problem> {
    Ok(web::Json(json!({"token": token(actor.session())?, "name": actor.name()})))
}

/// A pack with the hole to be dug, drawn to scale.
#[derive(Serialize)]
struct Packed {
    #[serde(flatten)]
    pack: Pack,
    /// An SVG that stands for itself; none where nothing is buried.
    drawing: Option<String>,
}

#[derive(Template)]
#[template(path = "rooms/field/drawing.svg", escape = "html")]
struct HoleDrawing {
    hole: Drawing,
}

async fn pack(state: web::Data<State>, id: web::Path<i64>) -> Result<web::Json<Packed>, Problem> {
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let pack = field::pack(&state.store, *id, state.now(&study)).await?;
    let plan = StationPlan::load(&state.store, *id).await?;
    let measures = Measures::from_code(plan.draft.choice("measures"));
    let drawing = if plan.found.plan.buried().next().is_some() {
        let drawn = HoleDrawing { hole: Drawing::of(&plan.found, measures) }.render();
        Some(drawn.map_err(|e| Problem::Internal(e.to_string()))?)
    } else {
        None
    };
    Ok(web::Json(Packed { pack, drawing }))
}

#[derive(Deserialize)]
struct Sent {
    entries: Vec<Value>,
}

/// The most entries of one sending; a phone sends more in parts.
const MOST: usize = 2000;

async fn entries(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    sent: CheckedJson<Sent>,
) -> Result<web::Json<Vec<Received>>, Problem> {
    if sent.0.entries.len() > MOST {
        return Err(Problem::Refused(format!("At most {MOST} entries are taken at once: send them in parts.")));
    }
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let now = state.now(&study);
    Ok(web::Json(field::receive(&state.store, *id, &sent.0.entries, actor.name(), now).await?))
}
