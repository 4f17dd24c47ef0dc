//! What was worked out lately of a station's record, for as long as its stamp stands: the same is asked for again and again.

use lru::LruCache;
use std::hash::Hash;
use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Answers held, unless said otherwise; a window of a whole record has some hundred kilobytes.
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
pub struct Stamped<K, V: ?Sized>(Mutex<LruCache<K, Made<V>>>);

/// An answer: at which stamp it was made, when, and what it is.
struct Made<V: ?Sized> {
    stamp: String,
    at: Instant,
    answer: Arc<V>,
    /// Whether somebody is making it anew.
    renewed: bool,
}

/// An answer that was given before, and whether whoever got it shall see that it is made anew: one of all who ask.
pub struct Earlier<V: ?Sized> {
    /// The answer.
    pub answer: Arc<V>,
    /// Whether it is due.
    pub renew: bool,
}

/// An answer younger than this is as good as new while readings stream in,
const FRESH: Duration = Duration::from_secs(5);
/// and one older than this is not given any more: whoever asks waits.
const STALE: Duration = Duration::from_secs(60);

/// Windows as they were sent.
pub type WindowCache = Stamped<Asked, [u8]>;

impl<K: Hash + Eq, V: ?Sized> Default for Stamped<K, V> {
    fn default() -> Self {
        Self::of(MOST)
    }
}

impl<K: Hash + Eq, V: ?Sized> Stamped<K, V> {
    /// One that holds so many answers.
    #[must_use]
    pub fn of(most: NonZeroUsize) -> Self {
        Self(Mutex::new(LruCache::new(most)))
    }

    /// The answer, if it was made at this stamp.
    #[must_use]
    pub fn get(&self, asked: &K, stamp: &str) -> Option<Arc<V>> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let made = all.get(asked)?;
        (made.stamp == stamp).then(|| Arc::clone(&made.answer))
    }

    /// The answer at any stamp, not older than a minute: for times in which readings stream in, and each of them would make it anew. After
    /// some seconds the first who asks is told to make it anew beside.
    #[must_use]
    pub fn earlier(&self, asked: &K) -> Option<Earlier<V>> {
        self.given_at(asked, Instant::now())
    }

    fn given_at(&self, asked: &K, now: Instant) -> Option<Earlier<V>> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let made = all.get_mut(asked)?;
        let age = now.saturating_duration_since(made.at);
        let renew = age > FRESH && !made.renewed;
        made.renewed |= renew;
        (age <= STALE).then(|| Earlier { answer: Arc::clone(&made.answer), renew })
    }

    /// Keeps an answer; the one asked for longest ago goes.
    pub fn put(&self, asked: K, stamp: String, answer: Arc<V>) {
        self.0
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .put(asked, Made { stamp, at: Instant::now(), answer, renewed: false });
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

    #[test]
    fn while_readings_stream_in_one_of_all_who_ask_makes_it_anew() {
        let cache: Stamped<u8, str> = Stamped::default();
        assert!(cache.earlier(&1).is_none(), "what was never made is not given");
        cache.put(1, "7".into(), Arc::from("first"));
        let now = Instant::now();
        let at =
            |seconds| cache.given_at(&1, now + Duration::from_secs(seconds)).map(|e| (e.answer.to_string(), e.renew));
        assert_eq!(at(4), Some(("first".into(), false)), "at any stamp");
        assert_eq!(at(6), Some(("first".into(), true)));
        assert_eq!(at(7), Some(("first".into(), false)), "somebody is at it");
        assert_eq!(at(59), Some(("first".into(), false)));
        assert_eq!(at(61), None, "whoever was at it failed");
        cache.put(1, "8".into(), Arc::from("second"));
        assert_eq!(at(2), Some(("second".into(), false)));
        assert_eq!(at(8), Some(("second".into(), true)), "and so on");
    }
}
