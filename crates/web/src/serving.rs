//! Starting a server: the demo's, or one with real data; and mending an account on the machine itself.

use crate::broker::{Broker, BrokerArgs};
use crate::server::server;
use crate::shell::passwords;
use crate::standins::live;
use crate::state::data_dir::{self, Holds};
use crate::state::doors::{Doors, may_listen, tls};
use crate::state::{Mode, State, secrets};
use crate::terminal::{open, tell};
use actix_web::web;
use anyhow::{Error, anyhow};
use clap::Args;
use ebrel_app::demo;
use ebrel_app::reviewing;
use rayon::ThreadPoolBuilder;
use rustls::ServerConfig;
use std::net::{SocketAddr, TcpListener};
use std::num::NonZeroUsize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// How to serve.
#[derive(Args)]
pub struct ServeArgs {
    /// Where your data lie.
    #[arg(long)]
    pub data: PathBuf,
    /// Address to listen on; beyond this machine only with --tls-cert and --tls-key, or --https.
    #[arg(long, default_value = "127.0.0.1:8417")]
    pub listen: SocketAddr,
    /// Another name that Ebrel answers to, as it stands in a browser's address (without port); may be given several times.
    #[arg(long)]
    pub host: Vec<String>,
    /// The certificate chain, PEM: Ebrel itself speaks HTTPS.
    #[arg(long, requires = "tls_key")]
    pub tls_cert: Option<PathBuf>,
    /// The certificate's key, PEM.
    #[arg(long, requires = "tls_cert")]
    pub tls_key: Option<PathBuf>,
    /// A proxy before Ebrel speaks HTTPS: cookies insist on it.
    #[arg(long)]
    pub https: bool,
    /// Address of a proxy whose X-Forwarded-For is believed.
    #[arg(long)]
    pub trusted_proxy: Option<std::net::IpAddr>,
    /// A broker to take messages from.
    #[command(flatten)]
    pub broker: BrokerArgs,
}

/// Starts the demo in a directory of its own; any other directory is refused.
pub async fn demo(port: u16, data: &Path, fresh: bool, live: Option<f64>) -> anyhow::Result<()> {
    let other = || {
        anyhow!(
            "{} holds something that is not the demo's; nothing was touched. Give the demo another directory with --data{}",
            data.display(),
            if data.join("ebrel.db").is_file() { ", or open your own data with `ebrel serve --data`" } else { "" }
        )
    };
    let wrong = |e: std::io::Error| anyhow!("{} cannot be used: {e}", data.display());
    if data_dir::holds(data) == Holds::Other {
        return Err(other());
    }
    data_dir::prepare(data).map_err(wrong)?;
    let lock = data_dir::take(data).map_err(Error::msg)?;
    // Looked at again under the lock. An interrupted start is begun anew: its half would stay a half for ever.
    let found = data_dir::holds(data);
    if found == Holds::HalfADemo || (fresh && found == Holds::Demo) {
        data_dir::clear_demo(data).map_err(Error::msg)?;
    }
    let make = found != Holds::Demo || fresh;
    if make {
        data_dir::mark_demo(data, false).map_err(wrong)?;
    }
    leave_a_core();
    let state = State::open(data, Mode::Demo).await.map_err(Error::msg)?;
    if make {
        demo::seed(&state.store).await?;
        data_dir::mark_demo(data, true).map_err(wrong)?;
    }
    let (store, making) = (state.store.clone(), Arc::clone(&state.making));
    let told = {
        let making = Arc::clone(&making);
        move |left: Vec<&'static str>| {
            if let Ok(mut making) = making.lock() {
                *making = left;
            }
        }
    };
    told(demo::missing(&state.store).await?);
    // A kill in the middle leaves a part unmade; the next start makes it.
    tokio::spawn(async move {
        if let Err(error) = demo::rest(&store, told).await {
            tell(&format!("A part of the demo could not be made, and is tried again at the next start: {error}"));
            if let Ok(mut making) = making.lock() {
                making.clear();
            }
        }
    });
    let mut state = state;
    state.live = live.map(|_| Arc::default());
    run(state, SocketAddr::from(([127, 0, 0, 1], port)), None, Beside { broker: None, day_seconds: live }, lock).await
}

/// Tests of quality run on all cores but one: somebody looks at pages meanwhile.
fn leave_a_core() {
    let cores = std::thread::available_parallelism().map_or(1, NonZeroUsize::get);
    let pool = ThreadPoolBuilder::new().num_threads((cores - 1).max(1));
    if let Err(error) = pool.build_global() {
        tracing::debug!(%error, "the tests of quality run on all cores");
    }
}

/// Serves real data.
pub async fn serve(args: ServeArgs) -> anyhow::Result<()> {
    let certificate = args.tls_cert.as_deref().zip(args.tls_key.as_deref());
    let https = args.https || certificate.is_some();
    may_listen(args.listen, https).map_err(Error::msg)?;
    let config = certificate.map(|(chain, key)| tls(chain, key)).transpose().map_err(Error::msg)?;
    data_dir::prepare(&args.data).map_err(|e| anyhow!("{} cannot be used: {e}", args.data.display()))?;
    let lock = data_dir::take(&args.data).map_err(Error::msg)?;
    let doors = Doors {
        hosts: args.host.iter().map(|h| h.to_ascii_lowercase()).collect(),
        listen: Some(args.listen.ip()).filter(|ip| !ip.is_loopback()),
        proxy: args.trusted_proxy,
    };
    leave_a_core();
    let state = State::open(&args.data, Mode::Serve { https }).await.map_err(Error::msg)?.behind(doors);
    let broker = Broker::read(&args.broker, &state.cookie_name())?;
    run(state, args.listen, config, Beside { broker, day_seconds: None }, lock).await
}

/// What runs beside the server.
struct Beside {
    /// A broker to listen to.
    broker: Option<Broker>,
    /// Seconds in which a day of the live demo passes.
    day_seconds: Option<f64>,
}

/// Finishes what a kill left, and serves until it is told to stop; the lock is held all that time.
async fn run(
    mut state: State,
    listen: SocketAddr,
    tls: Option<ServerConfig>,
    Beside { broker, day_seconds }: Beside,
    _lock: std::fs::File,
) -> anyhow::Result<()> {
    state.broker = broker.as_ref().map(Broker::state);
    let listener = TcpListener::bind(listen)
        .map_err(|e| anyhow!("{listen} cannot be listened on ({e}): stop what uses it, or give another port"))?;
    for station in state.store.stations_to_test().await? {
        tell(&format!("Testing readings that no test has seen yet (station {station})."));
        reviewing::run(&state.store, station).await?;
    }
    let scheme = if tls.is_some() { "https" } else { "http" };
    tell(&format!("Ebrel is ready: {scheme}://{listen}  (data in {}; stop with Ctrl-C)", state.data.display()));
    if state.mode != Mode::Demo && !state.store.has_accounts().await? {
        tell(&format!("The owner's account is not made yet. Its page asks for this code: {}", state.first_code));
    }
    let state = web::Data::new(state);
    if let Some(broker) = broker {
        tokio::spawn(broker.listen(state.clone()));
    }
    if let Some(day_seconds) = day_seconds {
        tell(&format!("The stand-ins go on beside it: {scheme}://{listen}/stand-ins"));
        tokio::spawn(live::go_on(state.clone(), format!("{scheme}://{listen}"), day_seconds));
    }
    let going_on = state.clone();
    tokio::spawn(async move { crate::rooms::finish_cut_off(&going_on).await });
    server(state, listener, tls)?.await.map_err(Into::into)
}

/// Gives an account a new password and prints it.
pub async fn reset_account(data: &Path, name: &str) -> anyhow::Result<()> {
    let state = open(data).await?;
    let password = secrets::code(4);
    let hash = passwords::hash(&state.hashing, password.clone()).await?;
    state
        .store
        .change_password(name, &hash)
        .await
        .map_err(|_| anyhow!("there is no account “{name}” in {}", data.display()))?;
    state.store.close().await;
    tell(&format!(
        "{name} signs in with this password from now on, and should change it on the account page: {password}"
    ));
    Ok(())
}
