//! What a route asks of whoever comes: the least role, and the kind of client that it is for.

use actix_web::http::Method;
use ebrel_core::roles::Role;

/// The least that somebody must be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Least {
    /// Nobody needs to be signed in.
    Anyone,
    /// Any account.
    SignedIn,
    /// This role in the study that the address leads to by its `{id}`.
    Member(Role),
    /// This role in any study: for what all studies share.
    Somewhere(Role),
    /// Whoever may begin a study: the owner of one, or anybody signed in while there is none.
    Founder,
}

/// Who is at the other end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scope {
    /// A person at a browser: problems are pages.
    Pages,
    /// A machine with a key of its own, which its handler checks: problems are data (RFC 9457).
    Machines,
}

/// One line of the table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// GET or POST.
    pub method: Method,
    /// The address, with names for its parts.
    pub pattern: String,
    /// The least that somebody must be.
    pub least: Least,
    /// Who is at the other end.
    pub scope: Scope,
}
