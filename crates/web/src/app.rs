//! The state that handlers share, and the one place where routes and guards are put together.

use crate::doors::Doors;
use crate::places::Places;
use crate::shell::throttle::Throttle;
use crate::{data_dir, rooms, shell};
use actix_session::SessionMiddleware;
use actix_session::storage::CookieSessionStore;
use actix_web::cookie::{Key, SameSite};
use actix_web::middleware::{Compress, from_fn};
use actix_web::{App as ActixApp, HttpServer, web};
use ebrel_app::window_cache::WindowCache;
use ebrel_core::units::UnixSeconds;
use ebrel_store::Store;
use ebrel_store::stations::Study;
use rustls::ServerConfig;
use sha2::{Digest, Sha256};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

/// How Ebrel was started.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// Demo data on loopback; nobody signs in.
    Demo,
    /// Real data; an owner signs in. `https`: the page is reached over HTTPS, so cookies may insist on it.
    Serve {
        /// Whether Ebrel itself or a proxy before it speaks HTTPS.
        https: bool,
    },
}

/// The largest file that can be uploaded, bytes.
pub const UPLOAD_LIMIT: usize = 200 * 1024 * 1024;
/// Time that a client has to send the head of a request.
const HEAD_TIME: Duration = Duration::from_secs(10);

/// What handlers share.
pub struct App {
    /// The database.
    pub store: Store,
    /// The directory of database, uploaded files and session key.
    pub data: PathBuf,
    /// How Ebrel was started.
    pub mode: Mode,
    /// By which names and through whom Ebrel is reached.
    pub doors: Doors,
    /// Slows down guessing of passwords.
    pub throttle: Throttle,
    /// The code that the first account needs; printed at the terminal, of no use once there is an account.
    pub first_code: String,
    /// Places for hashing passwords: each takes 19 MB.
    pub hashing: Places,
    /// Places for reading whole files and building whole exports.
    pub heavy: Places,
    /// Requests of each peer that are under way before it signed in.
    pub under_way: shell::limits::UnderWay,
    /// Windows that were thinned lately.
    pub windows: WindowCache,
    /// Places for thinning: arithmetic that keeps a core busy.
    pub thinning: Places,
    key: Key,
}

impl App {
    /// Opens a data directory; it is made if needed, and private.
    ///
    /// # Errors
    /// A sentence that says what is wrong with the directory.
    pub async fn open(data: &Path, mode: Mode) -> Result<Self, String> {
        let wrong = |e: std::io::Error| format!("The data directory {} cannot be used: {e}", data.display());
        data_dir::prepare(data).map_err(wrong)?;
        let file = data.join("ebrel.db");
        let store = Store::open(&file).await.map_err(|e| e.to_string())?;
        data_dir::private(&file, 0o600).map_err(wrong)?;
        let key = session_key(&data.join("session.key")).map_err(wrong)?;
        Ok(Self {
            store,
            data: data.to_owned(),
            mode,
            doors: Doors::default(),
            throttle: Throttle::default(),
            first_code: shell::passwords::code(3),
            hashing: Places::new(2),
            heavy: Places::new(2),
            under_way: Default::default(),
            windows: WindowCache::default(),
            thinning: Places::new(2),
            key,
        })
    }

    /// The same application behind these doors.
    #[must_use]
    pub fn behind(self, doors: Doors) -> Self {
        Self { doors, ..self }
    }

    /// The moment that counts as now in a study.
    #[must_use]
    pub fn now(&self, study: &Study) -> UnixSeconds {
        study.fixed_now.map_or_else(wall_clock, UnixSeconds)
    }

    /// The name of the session cookie: another one for each data directory, so that two servers on one host do not sign each
    /// other's visitors out.
    fn cookie_name(&self) -> String {
        let hash = Sha256::digest(self.key.master());
        format!("ebrel-{}", hash[..4].iter().map(|b| format!("{b:02x}")).collect::<String>())
    }
}

/// The machine's clock.
#[must_use]
pub fn wall_clock() -> UnixSeconds {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    UnixSeconds(i64::try_from(since.as_secs()).unwrap_or(i64::MAX))
}

/// The key that signs and hides session cookies: made once, readable by the owner alone.
fn session_key(path: &Path) -> std::io::Result<Key> {
    if let Ok(bytes) = std::fs::read(path)
        && bytes.len() >= 64
    {
        data_dir::private(path, 0o600)?;
        return Ok(Key::from(&bytes));
    }
    let key = Key::generate();
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create(true).truncate(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    std::io::Write::write_all(&mut options.open(path)?, key.master())?;
    Ok(key)
}

/// Routes of every room, and what guards them.
pub fn configure(config: &mut web::ServiceConfig) {
    shell::routes(config);
    rooms::routes(config);
}

/// Serves the application on a listener until it is told to stop; over TLS if it is given a certificate.
///
/// # Errors
/// If the server cannot be started.
pub fn server(
    app: web::Data<App>,
    listener: TcpListener,
    tls: Option<ServerConfig>,
) -> std::io::Result<actix_web::dev::Server> {
    let https = matches!(app.mode, Mode::Serve { https: true });
    let server = HttpServer::new(move || {
        let sessions = SessionMiddleware::builder(CookieSessionStore::default(), app.key.clone())
            .cookie_name(app.cookie_name())
            .cookie_secure(https)
            .cookie_http_only(true)
            .cookie_same_site(SameSite::Lax)
            .build();
        ActixApp::new()
            .app_data(app.clone())
            .app_data(web::PayloadConfig::new(4 * 1024 * 1024))
            .app_data(web::JsonConfig::default().limit(4 * 1024 * 1024).error_handler(shell::errors::json_error))
            .app_data(web::PathConfig::default().error_handler(|_, _| shell::errors::Problem::Nowhere.into()))
            .app_data(web::QueryConfig::default().error_handler(shell::errors::query_error))
            .app_data(
                actix_multipart::form::MultipartFormConfig::default()
                    .total_limit(UPLOAD_LIMIT)
                    .memory_limit(1024 * 1024)
                    .error_handler(|e, _| shell::errors::upload_error(&e).into()),
            )
            .wrap(from_fn(shell::sign_in::require))
            .wrap(sessions)
            .wrap(from_fn(shell::guard::check))
            .wrap(from_fn(shell::limits::limit))
            .wrap(Compress::default())
            .wrap(from_fn(shell::guard::headers))
            .configure(configure)
            .default_service(web::to(shell::errors::nowhere))
    });
    let server = server.workers(2).shutdown_timeout(5).client_request_timeout(HEAD_TIME);
    let server = match tls {
        Some(config) => server.listen_rustls_0_23(listener, config)?,
        None => server.listen(listener)?,
    };
    Ok(server.run())
}
