//! What every page of a station's plan begins with: the draft, what follows from it, and the steps.

use crate::app::{App, wall_clock};
use crate::components::fields::Said;
use crate::jobs::catalogue::catalogue;
use crate::shell::errors::Problem;
use crate::shell::sign_in;
use crate::shell::{Room, Shell};
use actix_session::Session;
use ebrel_core::planning::{
    Assessment, BiasDraft, Catalogue, Design, Draft, HorizonDraft, Remark, Setting, Step, Typed, Weight, assess,
    known_bias,
};
use ebrel_core::units::UnixSeconds;
use ebrel_store::Store;
use ebrel_store::drafts::DraftKind;
use ebrel_store::plans::PlanChange;
use ebrel_store::stations::{Horizon, Station, Study};

use super::super::design;

/// A station with its plan.
pub struct Context {
    /// The study.
    pub study: Study,
    /// The station.
    pub station: Station,
    /// The catalogue that holds.
    pub catalogue: Catalogue,
    /// The plan as typed.
    pub draft: Draft,
    /// The number of its newest version; 0 before the first change.
    pub version: i64,
    /// Its newest revision.
    pub revision: i64,
    /// What follows from it.
    pub found: Assessment,
}

impl Context {
    /// Loads a station and works its plan out.
    pub async fn load(store: &Store, station: i64) -> Result<Self, Problem> {
        let station = store.station(station).await?;
        let study = store.study(station.study_id).await?;
        let design = design::load(store, &study).await?.resolve().0;
        let catalogue = catalogue(store).await?;
        // The revision first: a save in between is then seen as one.
        let revision = store.revision(DraftKind::Plan, station.id).await?;
        let newest = store.plan(station.id).await?;
        let (draft, version) = match newest {
            Some(newest) => {
                let draft = serde_json::from_str(&newest.body).map_err(|e| Problem::Internal(e.to_string()))?;
                (draft, newest.version)
            }
            None => (first_draft(&station, &store.horizons(station.id).await?), 0),
        };
        let setting = setting(&station, &design);
        let found = assess(&draft, &catalogue, &setting);
        Ok(Self { study, station, catalogue, draft, version, revision, found })
    }

    /// Keeps a changed draft with what it says of the station, and works it out anew.
    pub async fn keep(&mut self, app: &App, session: &Session, draft: Draft, changed: &str) -> Result<(), Problem> {
        let by = sign_in::user(app, session).unwrap_or_default();
        self.keep_as(&app.store, draft, changed, &by, wall_clock()).await
    }

    /// As [`Context::keep`], for who is no visitor: the demo.
    pub async fn keep_as(
        &mut self,
        store: &Store,
        draft: Draft,
        changed: &str,
        by: &str,
        at: UnixSeconds,
    ) -> Result<(), Problem> {
        let setting = self.found.plan.setting.clone();
        self.found = assess(&draft, &self.catalogue, &setting);
        self.draft = draft;
        let body = serde_json::to_string(&self.draft).map_err(|e| Problem::Internal(e.to_string()))?;
        let change = PlanChange { body: &body, changed, by, at };
        self.revision = store.keep_plan(self.station.id, self.revision, &change).await.map_err(Problem::Store)?;
        let plan = &self.found.plan;
        (self.station.latitude, self.station.longitude) = (plan.latitude, plan.longitude);
        self.station.elevation_m = plan.elevation_m;
        self.station.treatment = self.draft.treatment.to_string();
        self.station.cover = self.draft.cover.to_string();
        self.station.known_bias = known_bias(&self.draft);
        // Soil with a field that cannot be read yet is not passed on; the typed form keeps it.
        let whole = !self.found.remarks.iter().any(|r| r.at.starts_with("horizons.") && r.weight == Weight::Stop);
        let soil: Vec<Horizon> = self.found.plan.layers.iter().map(horizon).collect();
        store.describe_station(&self.station, whole.then_some(&soil[..])).await?;
        Ok(())
    }

    /// The layout's part of a page.
    pub async fn shell(&self, app: &App, session: &Session) -> Result<Shell, Problem> {
        let title = format!("Plan of {}", self.station.name);
        let shell = Shell::within(app, session, &title, Room::Plan, &self.study, Some(&self.station)).await?;
        Ok(shell.of_revision(self.revision))
    }

    /// The head of a step's page.
    pub fn head(&self, step: Option<Step>) -> Head {
        let count =
            |s: Step, weight: Weight| self.found.remarks.iter().filter(|r| r.step == s && r.weight == weight).count();
        let steps = Step::ALL.into_iter().map(|s| StepLink {
            name: s.name(),
            address: format!("/stations/{}/plan/{}", self.station.id, s.code()),
            here: step == Some(s),
            stops: count(s, Weight::Stop),
            weak: count(s, Weight::Weak),
        });
        let after = step.and_then(|s| Step::ALL.into_iter().skip_while(|t| *t != s).nth(1));
        let next = match after {
            Some(next) => (format!("/stations/{}/plan/{}", self.station.id, next.code()), next.name().to_owned()),
            None => (format!("/stations/{}/plan/sheet", self.station.id), "the field sheet".to_owned()),
        };
        let whole = |r: &&Remark| r.at.is_empty() && step == Some(r.step);
        Head {
            id: self.station.id,
            station: self.station.name.clone(),
            bias: self.station.known_bias.clone(),
            sentence: self.found.sentence(),
            steps: steps.collect(),
            stops: self.found.stops(None).count(),
            says: self.found.remarks.iter().filter(whole).map(Said::of).collect(),
            next,
            version: self.version,
        }
    }

    /// What is said at a field of the draft.
    pub fn says(&self, at: &str) -> Vec<Said> {
        self.found.remarks.iter().filter(|r| r.at == at).map(Said::of).collect()
    }
}

/// What a station and its study's design set for the plan.
fn setting(station: &Station, design: &Design) -> Setting {
    Setting { station: station.name.clone(), interval_s: design.interval_s, months: design.months }
}

fn horizon(l: &ebrel_core::planning::Layer) -> Horizon {
    Horizon {
        top_cm: l.top_cm,
        bottom_cm: l.bottom_cm,
        name: l.name.clone(),
        texture: l.texture.clone(),
        sand_pct: l.sand_pct,
        clay_pct: l.clay_pct,
        organic_matter_pct: l.organic_pct,
        bulk_density_g_cm3: l.density,
    }
}

/// A draft that begins with the station's soil as it is known.
fn first_draft(station: &Station, soil: &[Horizon]) -> Draft {
    let typed = |v: Option<f64>| v.map(Typed::from).unwrap_or_default();
    let horizons = soil.iter().map(|h| HorizonDraft {
        name: h.name.as_str().into(),
        texture: h.texture.as_str().into(),
        bottom_cm: h.bottom_cm.into(),
        density: typed(h.bulk_density_g_cm3),
        sand_pct: typed(h.sand_pct),
        clay_pct: typed(h.clay_pct),
        organic_pct: typed(h.organic_matter_pct),
    });
    let bias = (!station.known_bias.is_empty())
        .then(|| BiasDraft { what: station.known_bias.as_str().into(), ..BiasDraft::default() });
    Draft {
        latitude: typed(station.latitude),
        longitude: typed(station.longitude),
        elevation_m: typed(station.elevation_m),
        treatment: station.treatment.as_str().into(),
        cover: station.cover.as_str().into(),
        biases: bias.into_iter().collect(),
        horizons: horizons.collect(),
        ..Draft::default()
    }
}

/// A link to a step, with what is wrong there.
pub struct StepLink {
    /// Its name.
    pub name: &'static str,
    /// Where it leads.
    pub address: String,
    /// Whether the page is this step.
    pub here: bool,
    /// What stops it.
    pub stops: usize,
    /// What is weak.
    pub weak: usize,
}

/// What stands above every step.
pub struct Head {
    /// Number of the station.
    pub id: i64,
    /// Its name.
    pub station: String,
    /// Its known biases.
    pub bias: String,
    /// The plan in a sentence.
    pub sentence: String,
    /// The steps.
    pub steps: Vec<StepLink>,
    /// How many stops there are in all.
    pub stops: usize,
    /// What is said of the whole step.
    pub says: Vec<Said>,
    /// Address and name of what comes next.
    pub next: (String, String),
    /// The newest version.
    pub version: i64,
}
