//! Requests of each peer that are under way.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

/// Requests of one peer that may be under way at once before anybody has signed in. A browser has six; a field station's crew
/// may share one address. Who is signed in is not counted, so that strangers at one's own address stop nobody.
const AT_ONCE: usize = 64;

/// Counts the requests of each peer that are under way.
#[derive(Default)]
pub struct UnderWay(Arc<Mutex<HashMap<Option<IpAddr>, usize>>>);

/// One request under way; it counts until this is dropped.
pub struct Place {
    all: Arc<Mutex<HashMap<Option<IpAddr>, usize>>>,
    peer: Option<IpAddr>,
}

impl UnderWay {
    /// A place for one more request of a peer, if it has one left.
    pub fn enter(&self, peer: Option<IpAddr>) -> Option<Place> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let count = all.entry(peer).or_default();
        if *count >= AT_ONCE {
            return None;
        }
        *count += 1;
        Some(Place { all: Arc::clone(&self.0), peer })
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = all.get_mut(&self.peer) {
            *count -= 1;
            if *count == 0 {
                all.remove(&self.peer);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_peer_has_so_many_places_and_gets_them_back() {
        let under_way = UnderWay::default();
        let peer = Some(IpAddr::from([10, 0, 0, 9]));
        let places: Vec<_> = (0..AT_ONCE).map(|_| under_way.enter(peer).unwrap()).collect();
        assert!(under_way.enter(peer).is_none());
        assert!(under_way.enter(Some(IpAddr::from([10, 0, 0, 10]))).is_some(), "another peer is not concerned");
        drop(places);
        assert!(under_way.enter(peer).is_some());
        assert!(under_way.0.lock().unwrap().is_empty(), "nobody is remembered who has nothing under way");
    }
}
