//! Imports that are being stored in the background: how far each is, and whether somebody wants it to end.

use ebrel_app::importing::Progress;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

/// One import at work.
#[derive(Debug, Clone)]
pub struct Running {
    /// How far it is.
    pub progress: Arc<Progress>,
    /// Lines of the file.
    pub lines: usize,
    /// When it was begun.
    pub since: Instant,
}

/// All imports at work, by their number.
#[derive(Debug, Default)]
pub struct Work(Mutex<HashMap<i64, Running>>);

impl Work {
    /// Notes that an import is at work; `None` if it is already.
    #[must_use]
    pub fn begin(&self, import: i64, lines: usize) -> Option<Running> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.contains_key(&import) {
            return None;
        }
        let running = Running { progress: Arc::default(), lines, since: Instant::now() };
        all.insert(import, running.clone());
        Some(running)
    }

    /// The import, if it is at work.
    #[must_use]
    pub fn of(&self, import: i64) -> Option<Running> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&import).cloned()
    }

    /// Notes that it ended.
    pub fn end(&self, import: i64) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&import);
    }
}
