//! Decoded series in memory, as many as fit; and what was judged of stations.

use ebrel_core::quality::Judged;
use ebrel_core::series::Series;
use lru::LruCache;
use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, PoisonError};

/// Readings held decoded in memory, all streams together (16 bytes each).
const CACHE_READINGS: usize = 40_000_000;

/// Of so many stations it is remembered what was judged last.
const JUDGED_STATIONS: NonZeroUsize = NonZeroUsize::new(256).expect("256 is not 0");

/// How many series used last a new one may share its times with.
const SHARED_WITH: usize = 8;

/// Decoded series by stream, the ones used longest ago given up first.
pub(crate) struct SeriesCache {
    state: Mutex<CacheState>,
}

struct CacheState {
    /// Each series with the change of its stream that it was decoded at.
    series: LruCache<i64, (i64, Arc<Series>)>,
    readings: usize,
}

impl Default for SeriesCache {
    fn default() -> Self {
        let series = LruCache::new(NonZeroUsize::MAX.min(NonZeroUsize::new(1 << 16).unwrap_or(NonZeroUsize::MIN)));
        Self { state: Mutex::new(CacheState { series, readings: 0 }) }
    }
}

impl SeriesCache {
    fn lock(&self) -> std::sync::MutexGuard<'_, CacheState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The series of a stream, if it was decoded at this change of it.
    pub fn get(&self, stream: i64, change: i64) -> Option<Arc<Series>> {
        let mut state = self.lock();
        let (at, series) = state.series.get(&stream)?;
        (*at == change).then(|| Arc::clone(series))
    }

    /// Keeps the series of a stream as it was decoded at a change of it. Channels of one node mostly share their times: these are
    /// held once.
    pub fn put(&self, stream: i64, mut series: Series, change: i64) -> Arc<Series> {
        let mut state = self.lock();
        let recent = state.series.iter().take(SHARED_WITH).map(|(_, (_, s))| &s.times);
        if let Some(times) = recent.into_iter().find(|times| **times == series.times) {
            series.times = Arc::clone(times);
        }
        let series = Arc::new(series);
        state.readings += series.len();
        if let Some((_, (_, old))) = state.series.push(stream, (change, Arc::clone(&series))) {
            state.readings -= old.len();
        }
        while state.readings > CACHE_READINGS && state.series.len() > 1 {
            if let Some((_, (_, old))) = state.series.pop_lru() {
                state.readings -= old.len();
            }
        }
        series
    }

    /// Gives up all of them.
    pub fn clear(&self) {
        let mut state = self.lock();
        state.series.clear();
        state.readings = 0;
    }
}

/// What was judged of stations by this process: their tests need not see again what has not changed since.
pub(crate) struct JudgedCache(Mutex<LruCache<i64, Judged>>);

impl Default for JudgedCache {
    fn default() -> Self {
        Self(Mutex::new(LruCache::new(JUDGED_STATIONS)))
    }
}

impl JudgedCache {
    /// Takes what is known of a station; nothing, if nothing is.
    pub fn take(&self, station: i64) -> Judged {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).pop(&station).unwrap_or_default()
    }

    /// Keeps it for the next run.
    pub fn keep(&self, station: i64, judged: Judged) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).put(station, judged);
    }
}
