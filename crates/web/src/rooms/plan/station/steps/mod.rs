//! What each step's page shows: view models, no arithmetic.

mod budgets;
mod depths;
mod hole;
mod kit;
mod program;
mod site;
mod wiring;

use super::context::{self, OnPage};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::page;
use crate::state::State;
use actix_web::HttpResponse;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::Step;

pub use hole::{NumberRow, SoilRow, numbers, soil};
pub use wiring::{WireGroup, wire_groups};

/// Shows a step.
pub async fn show(state: &State, actor: &Actor, context: &StationPlan, step: Step) -> Result<HttpResponse, Problem> {
    let shell = context::shell(state, actor, context).await?;
    let head = context.head(Some(step));
    match step {
        Step::Site => page(&site::page(shell, head, context)),
        Step::Depths => page(&depths::page(shell, head, context)),
        Step::Hole => page(&hole::page(shell, head, context)),
        Step::Wiring => page(&wiring::page(shell, head, context)),
        Step::Program => page(&program::page(shell, head, context)),
        Step::Budgets => page(&budgets::page(shell, head, context)),
        Step::Kit => page(&kit::page(shell, head, context)),
    }
}
