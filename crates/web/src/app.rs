//! The state that handlers share, and the one place where routes and guards are put together.

use crate::shell::sign_in::Throttle;
use crate::{rooms, shell};
use actix_session::SessionMiddleware;
use actix_session::storage::CookieSessionStore;
use actix_web::cookie::{Key, SameSite};
use actix_web::middleware::{Compress, from_fn};
use actix_web::{App as ActixApp, HttpServer, web};
use ebrel_core::units::UnixSeconds;
use ebrel_store::Store;
use ebrel_store::stations::Study;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// How Ebrel was started.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// Demo data on loopback; nobody signs in.
    Demo,
    /// Real data; an owner signs in. `https`: the page is reached over HTTPS, so cookies may insist on it.
    Serve {
        /// Whether a proxy before Ebrel speaks HTTPS.
        https: bool,
    },
}

/// The largest file that can be uploaded, bytes.
pub const UPLOAD_LIMIT: usize = 200 * 1024 * 1024;

/// What handlers share.
pub struct App {
    /// The database.
    pub store: Store,
    /// The directory of database, uploaded files and session key.
    pub data: PathBuf,
    /// How Ebrel was started.
    pub mode: Mode,
    /// Slows down guessing of passwords.
    pub throttle: Throttle,
    key: Key,
}

impl App {
    /// Opens a data directory; it is made if needed.
    ///
    /// # Errors
    /// A sentence that says what is wrong with the directory.
    pub async fn open(data: &Path, mode: Mode) -> Result<Self, String> {
        let wrong = |e: std::io::Error| format!("The data directory {} cannot be used: {e}", data.display());
        std::fs::create_dir_all(data.join("files")).map_err(wrong)?;
        let store = Store::open(&data.join("ebrel.db")).await.map_err(|e| e.to_string())?;
        let key = session_key(&data.join("session.key")).map_err(wrong)?;
        Ok(Self { store, data: data.to_owned(), mode, throttle: Throttle::default(), key })
    }

    /// The moment that counts as now in a study.
    #[must_use]
    pub fn now(&self, study: &Study) -> UnixSeconds {
        study.fixed_now.map_or_else(wall_clock, UnixSeconds)
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

/// Serves the application on a listener until it is told to stop.
///
/// # Errors
/// If the server cannot be started.
pub fn server(app: web::Data<App>, listener: TcpListener) -> std::io::Result<actix_web::dev::Server> {
    let https = matches!(app.mode, Mode::Serve { https: true });
    let server = HttpServer::new(move || {
        let sessions = SessionMiddleware::builder(CookieSessionStore::default(), app.key.clone())
            .cookie_name("ebrel".to_owned())
            .cookie_secure(https)
            .cookie_http_only(true)
            .cookie_same_site(SameSite::Lax)
            .build();
        ActixApp::new()
            .app_data(app.clone())
            .app_data(web::PayloadConfig::new(4 * 1024 * 1024))
            .app_data(web::JsonConfig::default().limit(4 * 1024 * 1024))
            .app_data(
                actix_multipart::form::MultipartFormConfig::default()
                    .total_limit(UPLOAD_LIMIT)
                    .memory_limit(1024 * 1024)
                    .error_handler(|e, _| shell::errors::upload_error(&e).into()),
            )
            .wrap(from_fn(shell::sign_in::require))
            .wrap(sessions)
            .wrap(from_fn(shell::guard::check))
            .wrap(Compress::default())
            .wrap(from_fn(shell::guard::headers))
            .configure(configure)
            .default_service(web::to(shell::errors::nowhere))
    });
    Ok(server.workers(2).shutdown_timeout(5).listen(listener)?.run())
}
