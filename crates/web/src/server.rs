//! The one place where routes and guards are put together; nothing but the commands and the tests leans on it.

use crate::shell::request_log::ByPattern;
use crate::shell::routes::Routes;
pub use crate::shell::routes::{Entry, Least, Scope};
use crate::state::{Mode, State, UPLOAD_LIMIT};
use crate::{rooms, shell};
use actix_session::SessionMiddleware;
use actix_session::storage::CookieSessionStore;
use actix_web::cookie::SameSite;
use actix_web::middleware::{Compress, from_fn};
use actix_web::{App, HttpServer, web};
use rustls::ServerConfig;
use std::net::TcpListener;
use std::time::Duration;
use tracing_actix_web::TracingLogger;

/// Time that a client has to send the head of a request.
const HEAD_TIME: Duration = Duration::from_secs(10);

/// Tests that are due run this long after one another.
const BETWEEN_TESTS: Duration = Duration::from_secs(5);
/// So often it is asked whether some are due of which nobody told: another process imported, or rain came that others borrow.
const ASK_AGAIN: Duration = Duration::from_secs(30);

/// Runs the tests of stations that are due, soon after a message or whatever else made them so.
async fn keep_testing(state: web::Data<State>) {
    loop {
        let _told_or_late = tokio::time::timeout(ASK_AGAIN, state.brought.notified()).await;
        if let Err(error) = ebrel_app::reviewing::run_due(&state.store).await {
            tracing::error!(%error, "tests that are due did not run");
        }
        tokio::time::sleep(BETWEEN_TESTS).await;
    }
}

/// Routes of every room, and what guards them.
pub fn configure(config: &mut web::ServiceConfig) {
    table(config);
}

/// The same, with the table of what was taken in.
pub fn table(config: &mut web::ServiceConfig) -> Vec<Entry> {
    let mut routes = Routes::new(config);
    shell::routes(&mut routes);
    rooms::routes(&mut routes);
    routes.into_table()
}

/// Serves the application on a listener until it is told to stop; over TLS if it is given a certificate.
///
/// # Errors
/// If the server cannot be started.
pub fn server(
    state: web::Data<State>,
    listener: TcpListener,
    tls: Option<ServerConfig>,
) -> std::io::Result<actix_web::dev::Server> {
    let https = matches!(state.mode, Mode::Serve { https: true });
    tokio::spawn(keep_testing(state.clone()));
    let server = HttpServer::new(move || {
        let sessions = SessionMiddleware::builder(CookieSessionStore::default(), state.key.clone())
            .cookie_name(state.cookie_name())
            .cookie_secure(https)
            .cookie_http_only(true)
            .cookie_same_site(SameSite::Lax)
            .build();
        App::new()
            .app_data(state.clone())
            .app_data(web::PayloadConfig::new(4 * 1024 * 1024))
            .app_data(web::JsonConfig::default().limit(4 * 1024 * 1024).error_handler(shell::errors::json_error))
            .app_data(web::PathConfig::default().error_handler(shell::errors::path_error))
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
            .wrap(TracingLogger::<ByPattern>::new())
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
