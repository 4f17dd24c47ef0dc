//! Practice on made-up records with hidden faults: what was marked is held against the truth, beside what Ebrel's own tests found.

use super::record::StationRecord;
pub use super::record::made_up::stream_of;
use ebrel_core::quality::{Evidence, Flag, SeenEvidence, Settings, Test};
use ebrel_core::units::{Grade, UnixSeconds, Verdict};
use ebrel_simulator::years::{Exercise, Kind, Truth};
use ebrel_store::flags::StoredFlag;
use ebrel_store::training::RoundMark;
use ebrel_store::verdicts::EffectiveVerdict;
use lru::LruCache;
use serde::{Deserialize, Serialize};
use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, PoisonError};

/// Points of a fault that was found and named.
pub const NAMED: i64 = 10;
/// Points of one that was found under another name.
pub const FOUND: i64 = 6;
/// What a mark on nothing costs.
pub const FALSE: i64 = 4;
/// What a hint costs.
pub const HINT: i64 = 3;

/// An exercise as it lies before somebody: its record, and what is hidden in it.
pub struct Made {
    /// The record with its faults.
    pub record: StationRecord,
    /// The faults.
    pub truth: Vec<Truth>,
}

impl Made {
    /// Makes an exercise: about a tenth of a second of arithmetic.
    #[must_use]
    pub fn of(exercise: &Exercise) -> Self {
        let mut year = exercise.make();
        let mut truth = std::mem::take(&mut year.truth);
        // From the surface down, as at any station: a depth that is noted wrongly must not stand out by its place.
        let depth = |i: &usize| year.channels[*i].depth_cm.unwrap_or(f64::INFINITY);
        let mut order: Vec<usize> = (0..year.channels.len()).collect();
        order.sort_by(|a, b| depth(a).total_cmp(&depth(b)));
        let place_of = |channel: usize| order.iter().position(|i| *i == channel).unwrap_or(channel);
        truth.iter_mut().flat_map(|t| &mut t.windows).for_each(|w| w.0 = place_of(w.0));
        let mut channels: Vec<_> = year.channels.into_iter().map(Some).collect();
        year.channels = order.iter().filter_map(|i| channels[*i].take()).collect();
        Self { record: StationRecord::made_up(year), truth }
    }
}

/// Exercises that were made lately: a class takes the same one.
pub struct Exercises(Mutex<LruCache<Exercise, Arc<Made>>>);

/// A year of seventeen channels holds about ten megabytes.
const HELD: NonZeroUsize = NonZeroUsize::new(4).expect("4 is not zero");

impl Default for Exercises {
    fn default() -> Self {
        Self(Mutex::new(LruCache::new(HELD)))
    }
}

impl Exercises {
    /// An exercise, if it was made lately.
    #[must_use]
    pub fn known(&self, exercise: &Exercise) -> Option<Arc<Made>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(exercise).cloned()
    }

    /// Keeps an exercise; the one asked for longest ago goes.
    pub fn keep(&self, exercise: Exercise, made: Arc<Made>) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).put(exercise, made);
    }
}

/// What became of one fault.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Outcome {
    /// Its kind, by name.
    pub kind: String,
    /// How plain it was.
    pub severity: String,
    /// What was done, in one sentence.
    pub words: String,
    /// Where: channel, first and last second.
    pub windows: Vec<(usize, i64, i64)>,
    /// Somebody marked it.
    pub found: bool,
    /// They named it rightly, too.
    pub named: bool,
    /// Ebrel's tests found and named it.
    pub by_tests: bool,
}

/// How a round went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Score {
    /// Each fault of the exercise.
    pub outcomes: Vec<Outcome>,
    /// Marks on nothing.
    pub false_marks: usize,
    /// Flags of Ebrel's tests on nothing.
    pub false_flags: usize,
    /// Hints that were taken.
    pub hints: usize,
}

impl Score {
    /// Points of the person.
    #[must_use]
    pub fn points(&self) -> i64 {
        let of = |o: &Outcome| if o.named { NAMED } else { i64::from(o.found) * FOUND };
        let lost = FALSE * self.false_marks as i64 + HINT * self.hints as i64;
        self.outcomes.iter().map(of).sum::<i64>() - lost
    }

    /// Points of Ebrel's tests, by the same rule.
    #[must_use]
    pub fn points_of_tests(&self) -> i64 {
        let found = self.outcomes.iter().filter(|o| o.by_tests).count() as i64;
        NAMED * found - FALSE * self.false_flags as i64
    }

    /// The most that can be had.
    #[must_use]
    pub fn most(&self) -> i64 {
        NAMED * self.outcomes.len() as i64
    }
}

/// A mark as a flag.
fn flag(mark: &RoundMark, record: &StationRecord) -> Flag {
    let channel = record.channels.get(mark.channel);
    let readings =
        channel.map_or(0, |c| c.view().times.iter().filter(|t| (mark.start.0..=mark.end.0).contains(*t)).count());
    let evidence = Evidence::Seen(SeenEvidence { readings: readings.into(), seen: mark.test });
    let (start, end, test) = (mark.start, mark.end, mark.test);
    Flag { start, end, test, grade: Grade::Wrong, readings, strength: 0.0, evidence, reason: String::new() }
}

/// Flags of a list, each at its channel.
fn by_channel(marks: &[RoundMark], record: &StationRecord) -> Vec<Vec<Flag>> {
    let mut all = vec![Vec::new(); record.channels.len()];
    for mark in marks {
        if let Some(of) = all.get_mut(mark.channel) {
            of.push(flag(mark, record));
        }
    }
    all
}

/// Flags of the tests that lie on nothing; the same test at the same time on several channels is one.
fn told_on_nothing(flags: &[Vec<Flag>], truth: &[Truth]) -> usize {
    let mut told: Vec<(Test, i64)> = Vec::new();
    for (i, of) in flags.iter().enumerate() {
        for f in of.iter().filter(|f| f.grade != Grade::Condition && !truth.iter().any(|t| t.explains(f, i))) {
            if !told.iter().any(|(test, at)| *test == f.test && (at - f.start.0).abs() <= 3600) {
                told.push((f.test, f.start.0));
            }
        }
    }
    told.len()
}

/// Whether a mark is no longer than a fault may be drawn, on the fault's own channel: who marks a whole year has found nothing.
fn fits(truth: &Truth, mark: &RoundMark) -> bool {
    const ROOM: i64 = 2 * 86_400;
    let of_channel = truth.windows.iter().filter(|w| w.0 == mark.channel);
    of_channel.map(|w| w.2 - w.1).max().is_some_and(|long| mark.end.0 - mark.start.0 <= 3 * long + ROOM)
}

/// Whether a mark may be meant for a fault: where that lasts through most of the record it must have its name, for anything lies on that.
fn may_mean(truth: &Truth, mark: &RoundMark) -> bool {
    let lasts = truth.windows.iter().any(|w| w.2 - w.1 > LASTS);
    fits(truth, mark) && (!lasts || truth.kind.tests().contains(&mark.test))
}

/// A fault lasts through most of a record from this on, seconds.
const LASTS: i64 = 60 * 86_400;

/// Whether a mark finds a fault by itself.
fn finds(truth: &Truth, mark: &RoundMark, record: &StationRecord) -> bool {
    may_mean(truth, mark) && truth.is_found(&by_channel(std::slice::from_ref(mark), record), false, 1)
}

/// Whether a mark lies on nothing.
fn is_on_nothing(mark: &RoundMark, made: &Made) -> bool {
    let flag = flag(mark, &made.record);
    !made.truth.iter().any(|t| may_mean(t, mark) && t.touches(&flag, mark.channel))
}

/// Holds marks against the truth, and runs Ebrel's tests over the same record. A wrong name beside the right one counts as a mark on
/// nothing: trying all names finds none.
#[must_use]
pub fn score(made: &Made, marks: &[RoundMark], hints: usize) -> Score {
    let tests = made.record.check(&[], &Settings::default()).flags;
    // Of each mark: the faults that it finds, and whether it names one of them.
    let found: Vec<(Vec<usize>, bool)> = marks
        .iter()
        .map(|m| {
            let of = (0..made.truth.len()).filter(|i| finds(&made.truth[*i], m, &made.record)).collect::<Vec<_>>();
            let named = of.iter().any(|i| made.truth[*i].kind.tests().contains(&m.test));
            (of, named)
        })
        .collect();
    let named = |i: usize| {
        let right = |(m, of): &(&RoundMark, &(Vec<usize>, bool))| {
            of.0.contains(&i) && made.truth[i].kind.tests().contains(&m.test)
        };
        marks.iter().zip(&found).any(|both| right(&both))
    };
    let guessed = |of: &(Vec<usize>, bool)| !of.1 && !of.0.is_empty() && of.0.iter().all(|i| named(*i));
    let outcome = |(i, t): (usize, &Truth)| Outcome {
        kind: t.kind.words().to_owned(),
        severity: t.severity.words().to_owned(),
        words: t.words.clone(),
        windows: t.windows.clone(),
        found: found.iter().any(|of| of.0.contains(&i)),
        named: named(i),
        by_tests: t.is_found(&tests, true, t.wanted()),
    };
    Score {
        outcomes: made.truth.iter().enumerate().map(outcome).collect(),
        false_marks: marks.iter().zip(&found).filter(|(m, of)| guessed(of) || is_on_nothing(m, made)).count(),
        false_flags: told_on_nothing(&tests, &made.truth),
        hints,
    }
}

/// What may be said of a fault for some points: where it lies and about when, not what it is.
#[must_use]
pub fn hint(made: &Made, fault: usize) -> Option<String> {
    let (channel, from, _) = made.truth.get(fault)?.windows.first()?;
    let record = made.record.channels.get(*channel)?;
    let month = ebrel_formats::rfc3339(UnixSeconds(*from)).chars().take(7).collect::<String>();
    Some(format!(
        "Something is wrong with {} ({}) in or from {month}.",
        record.channel.label(),
        record.quantity().words()
    ))
}

/// The fault that the next hint is of: the first that was neither marked nor told.
#[must_use]
pub fn next_hint(made: &Made, marks: &[RoundMark], told: &[usize]) -> Option<usize> {
    let hidden = |(i, t): &(usize, &Truth)| !told.contains(i) && !marks.iter().any(|m| finds(t, m, &made.record));
    made.truth.iter().enumerate().find(hidden).map(|(i, _)| i)
}

/// Marks as the strips draw them.
#[must_use]
pub fn drawn(made: &Made, marks: &[RoundMark]) -> Vec<StoredFlag> {
    marks.iter().map(|m| stored(m.id, m.channel, flag(m, &made.record), None)).collect()
}

/// The truth as the strips draw it: what was found is kept green, the rest is open.
#[must_use]
pub fn drawn_truth(score: &Score) -> Vec<StoredFlag> {
    let mut all = Vec::new();
    for (i, outcome) in (1..).zip(&score.outcomes) {
        let Some(test) = Kind::from_words(&outcome.kind).and_then(|k| k.tests().first().copied()) else { continue };
        for (channel, from, to) in &outcome.windows {
            let evidence = Evidence::Seen(SeenEvidence { readings: 0.0.into(), seen: test });
            let (start, end, reason) = (UnixSeconds(*from), UnixSeconds(*to), outcome.words.clone());
            let flag = Flag { start, end, test, grade: Grade::Wrong, readings: 0, strength: 0.0, evidence, reason };
            all.push(stored(i, *channel, flag, outcome.found.then_some(Verdict::Kept)));
        }
    }
    all
}

fn stored(id: i64, channel: usize, flag: Flag, verdict: Option<Verdict>) -> StoredFlag {
    let at = flag.start;
    let verdict = verdict.map(|verdict| EffectiveVerdict { id, verdict, reason: String::new(), by: String::new(), at });
    let stream_id = stream_of(channel);
    StoredFlag { id, stream_id, placement_id: stream_id, damage: 0.0, flag, verdict, cause: None }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_simulator::years::Level;

    fn marks(truth: &[Truth], name: impl Fn(&Truth) -> Test) -> Vec<RoundMark> {
        let of = |t: &Truth| {
            let (channel, from, to) = t.windows[0];
            RoundMark { id: 0, channel, test: name(t), start: UnixSeconds(from), end: UnixSeconds(to) }
        };
        truth.iter().map(of).collect()
    }

    #[test]
    fn who_marks_the_truth_gets_all_points_and_each_slip_costs_its_own() {
        let made = Made::of(&Exercise { seed: 11, level: Level::Middling, kind: None });
        let n = made.truth.len() as i64;
        let right = marks(&made.truth, |t| t.kind.tests()[0]);
        let all = score(&made, &right, 0);
        assert_eq!((all.points(), all.most(), all.false_marks), (NAMED * n, NAMED * n, 0));
        assert_eq!(score(&made, &right, 2).points(), NAMED * n - 2 * HINT);
        let misnamed = score(&made, &marks(&made.truth, |_| Test::Settling), 0);
        let lasting = made.truth.iter().filter(|t| t.windows.iter().any(|w| w.2 - w.1 > LASTS)).count() as i64;
        assert_eq!(misnamed.points(), FOUND * (n - lasting) - FALSE * lasting, "found, and wrongly named");
        let silent = score(&made, &[], 0);
        assert_eq!(silent.points(), 0);
        assert_eq!(silent.points_of_tests(), all.points_of_tests(), "the tests see the same record");
        let mut more = right;
        let quiet = made.record.extent().unwrap().0;
        let mark = |channel| RoundMark { id: 0, channel, test: Test::Stuck, start: quiet, end: quiet };
        let sound = |i: &usize| is_on_nothing(&mark(*i), &made);
        more.push(mark((0..made.record.channels.len()).find(sound).unwrap()));
        assert_eq!(score(&made, &more, 0).points(), NAMED * n - FALSE);
        let json = serde_json::to_string(&all).unwrap();
        assert_eq!(serde_json::from_str::<Score>(&json).unwrap(), all);
    }

    #[test]
    fn neither_a_year_long_mark_nor_every_name_on_one_span_pays() {
        let made = Made::of(&Exercise { seed: 4, level: Level::Middling, kind: Some(Kind::Spike) });
        let (start, end) = made.record.extent().unwrap();
        let whole = |channel, test| RoundMark { id: 0, channel, test, start, end };
        let channels = made.record.channels.len();
        let everywhere: Vec<RoundMark> = (0..channels).map(|c| whole(c, Test::Spike)).collect();
        let long = score(&made, &everywhere, 0);
        assert!(long.points() < 0 && long.outcomes.iter().all(|o| o.kind != "spike" || !o.found), "{long:?}");
        let spike = made.truth.iter().find(|t| t.kind == Kind::Spike).unwrap();
        let (channel, from, to) = spike.windows[0];
        let name = |test| RoundMark { id: 0, channel, test, start: UnixSeconds(from), end: UnixSeconds(to) };
        let right = score(&made, &[name(Test::Spike)], 0);
        assert_eq!((right.points(), right.false_marks), (NAMED, 0));
        let every: Vec<RoundMark> = Test::ALL.iter().map(|t| name(*t)).collect();
        let guessed = score(&made, &every, 0);
        let wrong = Test::ALL.iter().filter(|t| !Kind::Spike.tests().contains(t)).count();
        assert_eq!(guessed.false_marks, wrong, "each wrong name beside the right one costs");
        assert!(guessed.points() < 0);
        let misnamed = score(&made, &[name(Test::Stuck), name(Test::Gap)], 0);
        assert_eq!((misnamed.points(), misnamed.false_marks), (FOUND, 0), "found, named otherwise");
        assert_eq!(score(&made, &[name(Test::Spike), name(Test::Spike)], 0).points(), NAMED, "twice is once");
    }

    #[test]
    fn hints_go_through_what_is_hidden_and_end() {
        let made = Made::of(&Exercise { seed: 4, level: Level::Easy, kind: None });
        let mut told = Vec::new();
        while let Some(fault) = next_hint(&made, &[], &told) {
            let words = hint(&made, fault).unwrap();
            assert!(words.contains("Something is wrong with"), "{words}");
            assert!(!words.contains(made.truth[fault].kind.words()) || words.contains("temperature"), "{words}");
            told.push(fault);
        }
        assert_eq!(told.len(), made.truth.len());
        let right = marks(&made.truth, |t| t.kind.tests()[0]);
        assert_eq!(next_hint(&made, &right, &[]), None, "what is marked needs no hint");
        assert_eq!(drawn(&made, &right).len(), right.len());
        assert!(drawn_truth(&score(&made, &right, 0)).iter().all(|f| f.verdict.is_some()));
    }

    #[test]
    fn the_strips_of_an_exercise_have_every_depth_and_no_other_way_to_the_truth() {
        let made = Made::of(&Exercise { seed: 2, level: Level::Hard, kind: Some(Kind::Exchange) });
        let (from, to) = made.record.extent().unwrap();
        let window = ebrel_core::series::Window::new(from, to, 400).unwrap();
        let data = crate::window::window(&made.record, &[], &window, crate::window::Show::Both);
        let json = serde_json::to_string(&data).unwrap();
        assert!(data.strips.len() >= 9 && data.flags.is_empty());
        assert!(made.truth.iter().all(|t| !json.contains(&t.words)));
        let depths: Vec<f64> = data.strips.iter().filter_map(|s| s.depth).collect();
        assert!(depths.is_sorted(), "{depths:?}");
        let wrong = Made::of(&Exercise { seed: 1, level: Level::Easy, kind: Some(Kind::WrongDepth) });
        let depths: Vec<f64> = wrong.record.channels.iter().filter_map(|c| c.channel.placement.depth_cm).collect();
        assert!(depths.is_sorted(), "{depths:?}");
        assert!(score(&wrong, &marks(&wrong.truth, |t| t.kind.tests()[0]), 0).outcomes.iter().all(|o| o.named));
    }
}
