//! Ebrel: the application that a researcher sees, in the browser and on the command line.
//!
//! Each leans only on those before it:
//! * [`state`]: what handlers share; where data lie, and who may come.
//! * `shell`: layout, security, sign-in, drafts, errors as pages. `components`: what several rooms draw.
//! * `rooms`: a folder per room, a file per page: routes that extract, call and render.
//! * [`server`]: the one `configure` of server and tests. [`cli`]: the commands.
//!
//! No rule of the job is computed here; that is `ebrel-core`. What is done with a record beside pages is `ebrel-app`.

pub mod broker;
pub mod cli;
mod components;
mod files;
mod finding;
mod packages;
mod rooms;
mod safekeeping;
pub mod server;
mod serving;
mod shell;
pub mod standins;
pub mod state;
mod terminal;
