//! What is around every page: layout and navigation, assets, guards, sign-in, errors as pages.

mod access;
pub mod actor;
pub mod assets;
pub mod details;
pub mod download;
pub mod draft_form;
pub mod drafts;
pub mod errors;
pub mod figures;
pub mod forms;
pub mod guard;
mod join;
pub mod lately;
pub mod limits;
pub mod passwords;
pub mod request_log;
pub mod routes;
pub mod sign_in;

use crate::state::{Mode, State};
use actix_web::HttpResponse;
use actix_web::http::header::ContentType;
use actor::Actor;
use askama::Template;
use ebrel_core::roles::Role;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use errors::Problem;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use routes::Routes;

/// Routes of the shell itself.
pub fn routes(routes: &mut Routes<'_>) {
    assets::routes(routes);
    sign_in::routes(routes);
    join::routes(routes);
}

/// The rooms that exist so far, in the order of the work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Room {
    /// The study, its stations and their soil.
    Plan,
    Bench,
    /// What was put where.
    Field,
    Record,
    /// What waits for a verdict.
    Review,
    /// What comes out.
    Findings,
}

impl Room {
    const ALL: [Self; 6] = [Self::Plan, Self::Bench, Self::Field, Self::Record, Self::Review, Self::Findings];

    const fn name(self) -> &'static str {
        match self {
            Self::Plan => "Plan",
            Self::Bench => "Bench",
            Self::Field => "Field",
            Self::Record => "Record",
            Self::Review => "Review",
            Self::Findings => "Findings",
        }
    }

    fn address(self, study: i64, station: Option<i64>) -> String {
        match (self, station) {
            (Self::Bench, _) => format!("/studies/{study}/bench"),
            (Self::Field, _) => format!("/studies/{study}/field"),
            (Self::Plan, _) | (_, None) => format!("/studies/{study}"),
            (Self::Record, Some(id)) => format!("/stations/{id}"),
            (Self::Review, Some(id)) => format!("/stations/{id}/review"),
            (Self::Findings, Some(id)) => format!("/stations/{id}/findings"),
        }
    }
}

/// One link of the navigation.
pub struct NavLink {
    pub name: &'static str,
    /// Where it leads.
    pub address: String,
    /// Whether the page is in this room.
    pub here: bool,
    /// How much waits there.
    pub waiting: usize,
}

/// What the layout needs of every page.
pub struct Shell {
    /// Title of the page.
    pub title: String,
    /// Name of the study, if the page is within one.
    pub study: Option<(i64, String)>,
    pub nav: Vec<NavLink>,
    /// Who is signed in.
    pub user: Option<String>,
    /// What they may do here.
    pub role: Option<Role>,
    /// Whether this is the demo.
    pub demo: bool,
    /// Whether its stand-ins go on.
    pub live: bool,
    /// Parts of the demo that are still being made.
    pub making: Option<String>,
    /// The token that every form carries.
    pub token: String,
    /// That the disk has little room left.
    pub disk: Option<String>,
    /// Something that was just done, said once.
    pub said: Option<String>,
    /// The revision of the document that is typed on the page; its form sends it back.
    pub revision: i64,
}

impl Shell {
    /// The shell of a page outside any study.
    pub fn bare(state: &State, actor: &Actor, title: &str) -> Result<Self, Problem> {
        Ok(Self {
            title: title.to_owned(),
            study: None,
            nav: Vec::new(),
            user: actor.signed().map(|s| s.name.clone()),
            role: actor.role(),
            demo: state.mode == Mode::Demo,
            live: state.live.is_some(),
            making: state.still_made(),
            token: guard::token(actor.session())?,
            disk: state.disk.warning(&state.data),
            said: take_said(actor),
            revision: 0,
        })
    }

    /// The shell of a page within a study. Without a station the rooms lead to the study's first one.
    pub async fn within(
        state: &State,
        actor: &Actor,
        title: &str,
        room: Room,
        study: &Study,
        station: Option<&Station>,
    ) -> Result<Self, Problem> {
        let stations = state.store.stations(study.id).await?;
        let target = station.map(|s| s.id).or_else(|| stations.first().map(|s| s.id));
        let waiting = state.store.waiting(study.id).await?.values().sum();
        let nav = Room::ALL
            .into_iter()
            .map(|r| NavLink {
                name: r.name(),
                address: r.address(study.id, target),
                here: r == room,
                waiting: if r == Room::Review { waiting } else { 0 },
            })
            .collect();
        Ok(Self { study: Some((study.id, study.name.clone())), nav, ..Self::bare(state, actor, title)? })
    }
}

impl Shell {
    /// Whether whoever looks at the page may do what this role may.
    #[must_use]
    pub fn may(&self, least: Role) -> bool {
        self.role.is_some_and(|r| r >= least)
    }

    /// Number of the study that the page is within; 0 outside of any.
    #[must_use]
    pub fn study_id(&self) -> i64 {
        self.study.as_ref().map_or(0, |s| s.0)
    }

    /// Whether they may only look.
    #[must_use]
    pub fn looks_only(&self) -> bool {
        self.role == Some(Role::Guest)
    }

    /// The same around a page on which a document of this revision is typed.
    #[must_use]
    pub fn of_revision(self, revision: i64) -> Self {
        Self { revision, ..self }
    }
}

/// Keeps a sentence for the next page.
pub fn say(actor: &Actor, sentence: &str) -> Result<(), Problem> {
    actor.session().insert("said", sentence).map_err(|e| Problem::Internal(e.to_string()))
}

fn take_said(actor: &Actor) -> Option<String> {
    actor.session().remove_as::<String>("said").and_then(Result::ok)
}

/// What needs no escape within an address.
const KEPT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'~');

/// The address of a probe's page, whatever stands in its serial.
#[must_use]
pub fn probe_address(serial: &str) -> String {
    format!("/probes/{}", utf8_percent_encode(serial, KEPT))
}

/// Renders a template as a page.
pub fn page(template: &impl Template) -> Result<HttpResponse, Problem> {
    let body = template.render().map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(HttpResponse::Ok().content_type(ContentType::html()).body(body))
}

/// Sends the browser elsewhere after a form was taken.
#[must_use]
pub fn see_other(address: &str) -> HttpResponse {
    HttpResponse::SeeOther().insert_header((actix_web::http::header::LOCATION, address)).finish()
}
