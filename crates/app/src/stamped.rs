//! What was worked out lately of a station's record, for as long as its stamp stands: the same is asked for again and again.

use lru::LruCache;
use std::hash::Hash;
use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, PoisonError};

/// Answers held; a window of a whole record has some hundred kilobytes.
const MOST: NonZeroUsize = NonZeroUsize::new(32).expect("32 is not zero");

/// What was asked of a station: first and last second, columns, what is shown.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Asked {
    /// The station's number.
    pub station: i64,
    /// First second and first one after.
    pub span: (i64, i64),
    /// Columns of the picture.
    pub columns: usize,
    /// Which families of quantities.
    pub show: String,
}

/// Answers by what was asked, each with the stamp of the station that it was made at.
pub struct Stamped<K, V: ?Sized>(Mutex<LruCache<K, (String, Arc<V>)>>);

/// Windows as they were sent.
pub type WindowCache = Stamped<Asked, [u8]>;

impl<K: Hash + Eq, V: ?Sized> Default for Stamped<K, V> {
    fn default() -> Self {
        Self(Mutex::new(LruCache::new(MOST)))
    }
}

impl<K: Hash + Eq, V: ?Sized> Stamped<K, V> {
    /// The answer, if it was made at this stamp.
    #[must_use]
    pub fn get(&self, asked: &K, stamp: &str) -> Option<Arc<V>> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let (made_at, answer) = all.get(asked)?;
        (made_at == stamp).then(|| Arc::clone(answer))
    }

    /// Keeps an answer; the one asked for longest ago goes.
    pub fn put(&self, asked: K, stamp: String, answer: Arc<V>) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).put(asked, (stamp, answer));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_holds_as_long_as_the_stamp() {
        let cache = WindowCache::default();
        let asked = |columns| Asked { station: 1, span: (0, 9), columns, show: "both".into() };
        cache.put(asked(960), "7 1".into(), Arc::from(&b"answer"[..]));
        assert_eq!(cache.get(&asked(960), "7 1").as_deref(), Some(&b"answer"[..]));
        assert_eq!(cache.get(&asked(960), "8 1"), None);
        assert_eq!(cache.get(&asked(480), "7 1"), None);
        for columns in 0..40 {
            cache.put(asked(columns), "7 1".into(), Arc::from(&b"x"[..]));
        }
        assert_eq!(cache.get(&asked(960), "7 1"), None, "the oldest went");
    }
}
