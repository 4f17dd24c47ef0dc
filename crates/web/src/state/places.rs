//! Places for work that keeps a core busy or takes much memory: a small fixed number at once, however many ask.

use actix_web::error::BlockingError;
use actix_web::web;
use std::sync::Arc;
use thiserror::Error;
use tokio::sync::{AcquireError, OwnedSemaphorePermit, Semaphore};

/// Work that was not done.
#[derive(Debug, Error)]
pub enum PlaceError {
    /// The places were closed, which nobody does.
    #[error(transparent)]
    Closed(#[from] AcquireError),
    /// The work panicked.
    #[error(transparent)]
    Panicked(#[from] BlockingError),
}

/// Where such work is done.
pub struct Places(Arc<Semaphore>);

/// One place. It is free again when it is dropped and the work that was begun at it has ended.
pub struct Place(Arc<OwnedSemaphorePermit>);

impl Places {
    /// So many places.
    #[must_use]
    pub fn new(count: usize) -> Self {
        Self(Arc::new(Semaphore::new(count)))
    }

    /// Waits for a place.
    ///
    /// # Errors
    /// [`PlaceError::Closed`].
    pub async fn take(&self) -> Result<Place, PlaceError> {
        let permit = Arc::clone(&self.0).acquire_owned().await?;
        Ok(Place(Arc::new(permit)))
    }
}

impl Place {
    /// Does the work off the threads that answer. A client that goes away meanwhile does not free the place: the work goes on.
    ///
    /// # Errors
    /// [`PlaceError::Panicked`].
    pub async fn run<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> Result<T, PlaceError> {
        let held = Arc::clone(&self.0);
        let done = web::block(move || {
            let done = work();
            drop(held);
            done
        });
        Ok(done.await?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc::channel;
    use std::time::Duration;
    use tokio::time::timeout;

    #[actix_web::test]
    async fn who_goes_away_keeps_the_place_until_the_work_ends() {
        let places = Places::new(1);
        let (go_on, wait) = channel::<()>();
        let place = places.take().await.unwrap();
        // The client leaves after a moment: the handler is dropped with its place.
        let left =
            timeout(Duration::from_millis(20), async move { place.run(move || wait.recv()).await.is_ok() }).await;
        assert!(left.is_err());
        let moment = Duration::from_millis(100);
        assert!(timeout(moment, places.take()).await.is_err(), "the work still goes on");
        go_on.send(()).unwrap();
        let place = timeout(Duration::from_secs(10), places.take()).await.unwrap().unwrap();
        assert!(place.run(|| -> () { panic!("on purpose") }).await.is_err());
        drop(place);
        assert!(timeout(Duration::from_secs(10), places.take()).await.unwrap().is_ok(), "a panic frees it too");
    }
}
