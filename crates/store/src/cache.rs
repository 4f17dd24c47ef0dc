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

/// A series does not grow by more readings at once: as many are packed with their months, and quickly decoded.
pub(crate) const GROWS_BY: usize = 500;

/// A series that grows has room for so many more values: a day of quarters of an hour.
const ROOM: usize = 96;

/// Decoded series by stream, the ones used longest ago given up first.
pub(crate) struct SeriesCache {
    state: Mutex<CacheState>,
}

struct CacheState {
    series: LruCache<i64, Held>,
    /// Of all series, those that wait to be put in among them.
    readings: usize,
}

/// A decoded series.
struct Held {
    /// The change of its stream that it tells of.
    change: i64,
    series: Arc<Series>,
    /// Readings that came since it was decoded: put in when somebody asks, so that a message costs nothing here.
    came: Vec<(i64, f64)>,
    /// Whether its rows are all that it tells: where something came twice a choice may say otherwise.
    grows: bool,
}

impl Held {
    fn len(&self) -> usize {
        self.series.len() + self.came.len()
    }
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
        let held = state.series.get_mut(&stream).filter(|held| held.change == change)?;
        if held.came.is_empty() {
            return Some(Arc::clone(&held.series));
        }
        let (came, series) = (std::mem::take(&mut held.came), std::mem::take(&mut held.series));
        let grown = Arc::new(grown(series, came, &state.recent()));
        state.series.get_mut(&stream)?.series = Arc::clone(&grown);
        Some(grown)
    }

    /// Whether a stream's series is held and grows with its rows.
    pub fn grows(&self, stream: i64) -> bool {
        self.lock().series.peek(&stream).is_some_and(|held| held.grows)
    }

    /// Notes readings that one change, and nothing else of it, added to a stream: a series that was decoded just before it tells of them
    /// now. They are of times that it has not.
    pub fn grow(&self, stream: i64, change: i64, readings: Vec<(i64, f64)>) {
        let mut state = self.lock();
        let before = |held: &&mut Held| held.grows && held.change + 1 == change;
        let Some(held) = state.series.get_mut(&stream).filter(before) else { return };
        held.change = change;
        let more = readings.len();
        held.came.extend(readings);
        state.readings += more;
        state.make_room();
    }

    /// Keeps the series of a stream as it was decoded at a change of it. Channels of one node mostly share their times: these are
    /// held once. `grows`: nothing came twice.
    pub fn put(&self, stream: i64, mut series: Series, change: i64, grows: bool) -> Arc<Series> {
        let mut state = self.lock();
        series.times = shared(series.times, &state.recent());
        let series = Arc::new(series);
        state.readings += series.len();
        let held = Held { change, series: Arc::clone(&series), came: Vec::new(), grows };
        if let Some((_, old)) = state.series.push(stream, held) {
            state.readings -= old.len();
        }
        state.make_room();
        series
    }

    /// Gives up all of them.
    pub fn clear(&self) {
        let mut state = self.lock();
        state.series.clear();
        state.readings = 0;
    }
}

impl CacheState {
    /// Times of the series used last.
    fn recent(&self) -> Vec<Arc<[i64]>> {
        self.series.iter().take(SHARED_WITH).map(|(_, held)| Arc::clone(&held.series.times)).collect()
    }

    fn make_room(&mut self) {
        while self.readings > CACHE_READINGS && self.series.len() > 1 {
            if let Some((_, old)) = self.series.pop_lru() {
                self.readings -= old.len();
            }
        }
    }
}

/// A series with readings of times that it has not. Where one of the recent times is what its own become, they are shared.
fn grown(series: Arc<Series>, mut came: Vec<(i64, f64)>, recent: &[Arc<[i64]>]) -> Series {
    came.sort_by_key(|(t, _)| *t);
    // Nobody else may hold it: then its values need no copy.
    let Series { times, mut values } = Arc::unwrap_or_clone(series);
    let from = times.partition_point(|t| *t < came[0].0);
    values.reserve_exact(came.len() + ROOM);
    if from == times.len() {
        let goes_on = |longer: &[i64]| {
            longer.len() == from + came.len()
                && longer[from..].iter().eq(came.iter().map(|(t, _)| t))
                && longer[..from] == *times
        };
        values.extend(came.iter().map(|(_, value)| value));
        let shared = recent.iter().find(|longer| goes_on(longer)).map(Arc::clone);
        let own = || times.iter().copied().chain(came.iter().map(|(t, _)| *t)).collect();
        return Series { times: shared.unwrap_or_else(own), values };
    }
    let later = times[from..].iter().copied().zip(values.split_off(from));
    came.extend(later);
    came.sort_by_key(|(t, _)| *t);
    values.extend(came.iter().map(|(_, value)| value));
    let times = times[..from].iter().copied().chain(came.iter().map(|(t, _)| *t)).collect();
    Series { times: shared(times, recent), values }
}

/// These times, or the same ones that something else holds already.
fn shared(times: Arc<[i64]>, recent: &[Arc<[i64]>]) -> Arc<[i64]> {
    recent.iter().find(|other| ***other == *times).map_or(times, Arc::clone)
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
