//! Starting a server: the demo's, or one with real data; and mending an account on the machine itself.

use crate::cli::{ServeArgs, open, tell};
use crate::server::server;
use crate::shell::passwords;
use crate::state::data_dir::{self, Holds};
use crate::state::doors::{Doors, may_listen, tls};
use crate::state::{Mode, State, secrets};
use actix_web::web;
use ebrel_app::demo;
use ebrel_app::reviewing;
use rustls::ServerConfig;
use std::net::{SocketAddr, TcpListener};
use std::path::Path;

/// Starts the demo in a directory of its own; any other directory is refused.
pub async fn demo(port: u16, data: &Path, fresh: bool) -> Result<(), String> {
    let other = || {
        format!(
            "{} holds something that is not the demo's; nothing was touched. Give the demo another directory with --data{}",
            data.display(),
            if data.join("ebrel.db").is_file() { ", or open your own data with `ebrel serve --data`" } else { "" }
        )
    };
    let wrong = |e: std::io::Error| format!("{} cannot be used: {e}", data.display());
    if data_dir::holds(data) == Holds::Other {
        return Err(other());
    }
    data_dir::prepare(data).map_err(wrong)?;
    let lock = data_dir::take(data)?;
    // Looked at again under the lock. An interrupted start is begun anew: its half would stay a half for ever.
    let found = data_dir::holds(data);
    if found == Holds::HalfADemo || (fresh && found == Holds::Demo) {
        data_dir::clear_demo(data)?;
    }
    let make = found != Holds::Demo || fresh;
    if make {
        data_dir::mark_demo(data, false).map_err(wrong)?;
    }
    let state = State::open(data, Mode::Demo).await?;
    if make {
        demo::seed(&state.store).await.map_err(|e| e.to_string())?;
        data_dir::mark_demo(data, true).map_err(wrong)?;
    }
    run(state, SocketAddr::from(([127, 0, 0, 1], port)), None, lock).await
}

/// Serves real data.
pub async fn serve(args: ServeArgs) -> Result<(), String> {
    let certificate = args.tls_cert.as_deref().zip(args.tls_key.as_deref());
    let https = args.https || certificate.is_some();
    may_listen(args.listen, https)?;
    let config = certificate.map(|(chain, key)| tls(chain, key)).transpose()?;
    data_dir::prepare(&args.data).map_err(|e| format!("{} cannot be used: {e}", args.data.display()))?;
    let lock = data_dir::take(&args.data)?;
    let doors = Doors {
        hosts: args.host.iter().map(|h| h.to_ascii_lowercase()).collect(),
        listen: Some(args.listen.ip()).filter(|ip| !ip.is_loopback()),
        proxy: args.trusted_proxy,
    };
    let state = State::open(&args.data, Mode::Serve { https }).await?.behind(doors);
    run(state, args.listen, config, lock).await
}

/// Finishes what a kill left, and serves until it is told to stop; the lock is held all that time.
async fn run(state: State, listen: SocketAddr, tls: Option<ServerConfig>, _lock: std::fs::File) -> Result<(), String> {
    let listener = TcpListener::bind(listen)
        .map_err(|e| format!("{listen} cannot be listened on ({e}): stop what uses it, or give another port"))?;
    for station in state.store.stations_to_test().await.map_err(|e| e.to_string())? {
        tell(&format!("Testing readings that were stored before the last stop (station {station})."));
        reviewing::run(&state.store, station).await.map_err(|e| e.to_string())?;
    }
    let scheme = if tls.is_some() { "https" } else { "http" };
    tell(&format!("Ebrel is ready: {scheme}://{listen}  (data in {}; stop with Ctrl-C)", state.data.display()));
    if state.mode != Mode::Demo && !state.store.has_accounts().await.map_err(|e| e.to_string())? {
        tell(&format!("The owner's account is not made yet. Its page asks for this code: {}", state.first_code));
    }
    server(web::Data::new(state), listener, tls).map_err(|e| e.to_string())?.await.map_err(|e| e.to_string())
}

/// Gives an account a new password and prints it.
pub async fn reset_account(data: &Path, name: &str) -> Result<(), String> {
    let state = open(data).await?;
    let password = secrets::code(4);
    let hash = passwords::hash(&state.hashing, password.clone()).await.map_err(|e| e.to_string())?;
    state
        .store
        .change_password(name, &hash)
        .await
        .map_err(|_| format!("there is no account “{name}” in {}", data.display()))?;
    state.store.close().await;
    tell(&format!(
        "{name} signs in with this password from now on, and should change it on the account page: {password}"
    ));
    Ok(())
}
