//! Saved recipes: listed, read, edited as JSON, taken out, and what they were before.

use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::figures::when;
use crate::shell::forms::{Field, words};
use crate::shell::guard::CheckedForm;
use crate::shell::{Shell, page, see_other};
use crate::state::{State, wall_clock};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::importing::SavedRecipe;
use ebrel_formats::logger::{Cells, Clock, Layout, Recipe};
use ebrel_store::recipes::SavedBody;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Deserialize;

struct Row {
    name: String,
    says: String,
    kept: String,
    columns: usize,
}

#[derive(Template)]
#[template(path = "rooms/record/import/recipes.html")]
struct ListPage {
    shell: Shell,
    rows: Vec<Row>,
}

#[derive(Template)]
#[template(path = "rooms/record/import/recipe.html")]
struct OnePage {
    shell: Shell,
    name: Field,
    says: String,
    body: Field,
    history: Vec<(String, String)>,
}

/// What a recipe says, in a line.
fn says(recipe: &Recipe) -> String {
    let cells = match &recipe.cells {
        Cells::Delimited(s) => s.words().to_owned(),
        Cells::Fixed(starts) => format!("{} fixed columns", starts.len()),
        Cells::Tagged { between, .. } => format!("key=value, {}", between.words()),
    };
    let clock = match &recipe.time.clock {
        Clock::Fixed(minutes) => format!("UTC{}", ebrel_core::units::format_offset(i64::from(*minutes))),
        Clock::Zone(zone) => zone.clone(),
        Clock::Words(_) => "a word tells the offset".to_owned(),
    };
    let layout = if recipe.layout == Layout::Wide { "one record a line" } else { "one reading a line" };
    let decimals = if recipe.decimal_comma { ", decimal comma" } else { "" };
    format!("{cells}{decimals}; {}; {clock}; {layout}", recipe.time.forms.join(" or "))
}

fn kept(body: &SavedBody) -> String {
    match (body.kept_at.0, body.kept_by.as_str()) {
        (0, _) => String::new(),
        (_, by) => format!("{}, {by}", when(body.kept_at, 0, "%-d %b %Y")),
    }
}

/// All recipes with what each says.
pub async fn list(state: web::Data<State>, actor: Actor) -> Result<HttpResponse, Problem> {
    let shell = Shell::bare(&state, &actor, "Recipes")?;
    let rows = state.store.recipes().await?.into_iter().map(|r| {
        let read = serde_json::from_str::<SavedRecipe>(&r.body);
        let columns = read.as_ref().map_or(0, |s| s.mapping.columns.iter().filter(|c| c.quantity.is_some()).count());
        Row {
            says: read.map_or_else(|e| format!("cannot be read: {e}"), |s| says(&s.recipe)),
            kept: kept(&r),
            name: r.name,
            columns,
        }
    });
    page(&ListPage { shell, rows: rows.collect() })
}

/// The name of a recipe in an address.
#[derive(Deserialize)]
pub struct Named {
    name: String,
}

async fn found(state: &State, name: &str) -> Result<SavedBody, Problem> {
    state.store.recipe(name).await?.ok_or(Problem::NotFound("recipe"))
}

fn pretty(body: &str) -> String {
    serde_json::from_str::<serde_json::Value>(body)
        .and_then(|v| serde_json::to_string_pretty(&v))
        .unwrap_or_else(|_| body.to_owned())
}

/// One recipe, to be read and edited.
pub async fn one(state: web::Data<State>, actor: Actor, named: web::Query<Named>) -> Result<HttpResponse, Problem> {
    let saved = found(&state, &named.name).await?;
    let body = Field::of(&pretty(&saved.body));
    show(&state, &actor, Field::of(&saved.name), body).await
}

async fn show(state: &State, actor: &Actor, name: Field, body: Field) -> Result<HttpResponse, Problem> {
    let shell = Shell::bare(state, actor, "Recipe")?;
    let says = serde_json::from_str::<SavedRecipe>(&body.text).map(|s| says(&s.recipe)).unwrap_or_default();
    let history = state.store.recipe_history(&name.text).await?;
    let history = history.iter().map(|h| (kept(h), pretty(&h.body))).collect();
    page(&OnePage { shell, name, says, body, history })
}

/// A recipe as a file, for `ebrel import --recipe`.
pub async fn file(state: web::Data<State>, _: Actor, named: web::Query<Named>) -> Result<HttpResponse, Problem> {
    let saved = found(&state, &named.name).await?;
    Ok(attachment("application/json", &format!("{}.json", saved.name), pretty(&saved.body)))
}

/// A recipe as it was edited.
#[derive(Deserialize)]
pub struct Edited {
    name: String,
    body: String,
}

/// Keeps a recipe; what it was before goes to its history.
pub async fn save(state: web::Data<State>, actor: Actor, form: CheckedForm<Edited>) -> Result<HttpResponse, Problem> {
    let (mut name, mut body) = (Field::of(&form.0.name), Field::of(&form.0.body));
    let good_name = words(&name.text, "a name", 60).map_err(|e| name.error = Some(e));
    let read = serde_json::from_str::<SavedRecipe>(&body.text);
    let read = read.map_err(|e| body.error = Some(format!("This is no recipe: {e}. What is saved stays as it was.")));
    let (Ok(good_name), Ok(read)) = (good_name, read) else { return show(&state, &actor, name, body).await };
    let text = serde_json::to_string(&read).map_err(|e| Problem::Internal(e.to_string()))?;
    let saved = SavedBody {
        name: good_name.clone(),
        body: text,
        head: String::new(),
        kept_at: wall_clock(),
        kept_by: actor.name().to_owned(),
    };
    state.store.save_recipe(&saved).await?;
    let query = utf8_percent_encode(&good_name, NON_ALPHANUMERIC);
    Ok(see_other(&format!("/recipes/one?name={query}")))
}

/// Takes a recipe off the list; its history stays.
pub async fn drop_it(state: web::Data<State>, _: Actor, form: CheckedForm<Named>) -> Result<HttpResponse, Problem> {
    state.store.drop_recipe(&form.0.name).await?;
    Ok(see_other("/recipes"))
}
