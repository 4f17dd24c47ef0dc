//! Stations to which messages brought something: their tests run soon, not after each message.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};
use tokio::sync::Notify;

/// Which stations wait for their tests.
#[derive(Default)]
pub struct Due {
    stations: Mutex<BTreeSet<i64>>,
    noted: Notify,
}

impl Due {
    /// Notes that something was brought.
    pub fn note(&self, station: i64) {
        if self.stations.lock().unwrap_or_else(PoisonError::into_inner).insert(station) {
            self.noted.notify_one();
        }
    }

    /// Waits until some station is due, and takes those that are.
    pub async fn take(&self) -> BTreeSet<i64> {
        loop {
            let due = std::mem::take(&mut *self.stations.lock().unwrap_or_else(PoisonError::into_inner));
            if !due.is_empty() {
                return due;
            }
            self.noted.notified().await;
        }
    }
}
