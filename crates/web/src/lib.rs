//! Ebrel: the application that a researcher sees, in the browser and on the command line.
//!
//! * [`cli`]: the commands; [`data_dir`] and [`doors`]: where data lie and who may come; [`app`]: the state that handlers share, and the one `configure` of server and tests.
//! * `shell`: layout, security, sign-in, errors as pages. `components`: the section and the strips.
//! * `rooms`: a folder per room, a file per page: routes that extract, call and render.
//!
//! No rule of the job is computed here; that is `ebrel-core`. What is done with a record beside pages is `ebrel-app`.

pub mod app;
pub mod cli;
mod components;
pub mod data_dir;
pub mod doors;
mod places;
mod rooms;
mod serving;
mod shell;
