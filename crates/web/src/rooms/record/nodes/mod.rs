//! Nodes: where their messages come in, and a page for each with its keys and what it carries.

mod messages;
mod node;
mod openapi;

use crate::shell::routes::Routes;

pub fn routes(routes: &mut Routes<'_>) {
    messages::routes(routes);
    openapi::routes(routes);
    node::routes(routes);
}
