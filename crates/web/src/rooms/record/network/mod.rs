//! The network of a study, and each of its nodes: drawn by days, with what it means in words.

mod asides;
mod lanes;
mod node;
mod overview;
mod words;

use crate::shell::routes::Routes;

pub fn routes(routes: &mut Routes<'_>) {
    overview::routes(routes);
    asides::routes(routes);
    node::routes(routes);
}
