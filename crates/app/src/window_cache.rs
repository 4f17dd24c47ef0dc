//! Windows that were thinned lately, as they were sent: the whole of a record is asked for again and again.

use lru::LruCache;
use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, PoisonError};

/// Answers held; one of a whole record has some hundred kilobytes.
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

/// An answer as it was sent, and the stamp of the station that it was made at.
struct Made {
    stamp: String,
    answer: Arc<[u8]>,
}

/// Answers by what was asked.
pub struct WindowCache(Mutex<LruCache<Asked, Made>>);

impl Default for WindowCache {
    fn default() -> Self {
        Self(Mutex::new(LruCache::new(MOST)))
    }
}

impl WindowCache {
    /// The answer, if it was made at this stamp.
    #[must_use]
    pub fn get(&self, asked: &Asked, stamp: &str) -> Option<Arc<[u8]>> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let made = all.get(asked)?;
        (made.stamp == stamp).then(|| Arc::clone(&made.answer))
    }

    /// Keeps an answer; the one asked for longest ago goes.
    pub fn put(&self, asked: Asked, stamp: String, answer: Arc<[u8]>) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).put(asked, Made { stamp, answer });
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
