//! The stand-ins of a live demo, as their panel sees and touches them.

use ebrel_core::units::UnixSeconds;
use ebrel_simulator::network::{Hand, Rig};
use std::sync::{Mutex, PoisonError};

/// What the panel changes and shows.
#[derive(Debug, Default)]
pub struct Live {
    inner: Mutex<Inner>,
}

/// What is known of the stand-ins.
#[derive(Debug, Clone, Default)]
pub struct Inner {
    /// Nodes and their ports; empty while the world is made ready.
    pub rigs: Vec<Rig>,
    /// What somebody does by hand.
    pub hand: Hand,
    /// Rain to be let fall, mm.
    pub rain_mm: f64,
    /// The moment of the made-up world.
    pub now: Option<UnixSeconds>,
    /// Records that nodes hold, and parcels that wait at the gateway.
    pub backlog: (usize, usize),
    /// What the gateway was told last, if it was not taken.
    pub trouble: String,
}

impl Live {
    /// What is known now.
    #[must_use]
    pub fn seen(&self) -> Inner {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Changes what is known, with nobody between.
    pub fn change<T>(&self, change: impl FnOnce(&mut Inner) -> T) -> T {
        change(&mut self.inner.lock().unwrap_or_else(PoisonError::into_inner))
    }
}
