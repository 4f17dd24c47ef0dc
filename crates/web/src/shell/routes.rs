//! The table of routes: no address is served without the least role that it needs and the kind of client that it is for.

pub use super::access::{Entry, Least, Scope};
use super::actor::admit;
use actix_web::http::Method;
use actix_web::middleware::from_fn;
use actix_web::web::ServiceConfig;
use actix_web::{FromRequest, Handler, Responder, guard, web};

/// Takes routes into the application, and writes the table of them. Rooms get at nothing else.
pub struct Routes<'c> {
    config: &'c mut ServiceConfig,
    table: Vec<Entry>,
}

impl<'c> Routes<'c> {
    /// An empty table over an application's configuration.
    #[must_use]
    pub const fn new(config: &'c mut ServiceConfig) -> Self {
        Self { config, table: Vec::new() }
    }

    /// Serves what is looked at.
    pub fn get<F, Args>(&mut self, pattern: &str, least: Least, handler: F)
    where
        F: Handler<Args>,
        Args: FromRequest + 'static,
        F::Output: Responder + 'static,
    {
        self.take(Method::GET, (pattern, least, Scope::Pages), handler);
    }

    /// Serves what changes something.
    pub fn post<F, Args>(&mut self, pattern: &str, least: Least, handler: F)
    where
        F: Handler<Args>,
        Args: FromRequest + 'static,
        F::Output: Responder + 'static,
    {
        self.take(Method::POST, (pattern, least, Scope::Pages), handler);
    }

    /// Serves machines: they have no session, and the handler asks for their key.
    pub fn machines<F, Args>(&mut self, method: Method, pattern: &str, handler: F)
    where
        F: Handler<Args>,
        Args: FromRequest + 'static,
        F::Output: Responder + 'static,
    {
        self.take(method, (pattern, Least::Anyone, Scope::Machines), handler);
    }

    fn take<F, Args>(&mut self, method: Method, (pattern, least, scope): (&str, Least, Scope), handler: F)
    where
        F: Handler<Args>,
        Args: FromRequest + 'static,
        F::Output: Responder + 'static,
    {
        let entry = Entry { method: method.clone(), pattern: pattern.to_owned(), least, scope };
        let resource = web::resource(pattern)
            .guard(guard::fn_guard(move |context| context.head().method == method))
            .app_data(entry.clone())
            .wrap(from_fn(admit))
            .route(web::route().to(handler));
        self.config.service(resource);
        self.table.push(entry);
    }

    /// The table of all that was taken in.
    #[must_use]
    pub fn into_table(self) -> Vec<Entry> {
        self.table
    }
}
