//! Readings as a table, and each value's way back to its origin.

mod readings;
mod value;

use crate::shell::routes::Routes;

pub fn routes(routes: &mut Routes<'_>) {
    readings::routes(routes);
    value::routes(routes);
}
