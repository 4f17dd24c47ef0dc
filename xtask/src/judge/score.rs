//! What was found, what was missed, what was false.

use ebrel_core::quality::{Findings, Flag, Test};
use ebrel_core::units::Grade;
use ebrel_simulator::years::{Kind, Severity, Year};
use std::collections::BTreeMap;

/// Figures of one year, or of several.
#[derive(Debug, Clone, Default)]
pub struct Score {
    /// By kind and severity: found, of how many.
    kinds: BTreeMap<(Kind, Severity), (usize, usize)>,
    /// False alarms in words.
    pub false_alarms: Vec<String>,
    /// What was missed, in words.
    pub missed: Vec<String>,
    /// Readings in all.
    pub readings: usize,
    /// Readings flagged, wrong or doubtful, on which nothing lay.
    pub false_readings: usize,
    /// Faulty readings, and how many of them were flagged.
    faulty: (usize, usize),
}

/// Kinds whose readings are sound: what they say is of times or of the node, or they last and are judged by event.
const NO_READINGS: [Kind; 11] = [
    Kind::NodeSilent,
    Kind::ChannelSilent,
    Kind::ClockDrift,
    Kind::Late,
    Kind::LowPower,
    Kind::WetBox,
    Kind::WrongDepth,
    Kind::TwinDrifts,
    Kind::Wiggle,
    Kind::Sunlit,
    Kind::Step,
];

impl Score {
    pub fn add(&mut self, other: Self) {
        for (key, (found, of)) in other.kinds {
            let sum = self.kinds.entry(key).or_default();
            *sum = (sum.0 + found, sum.1 + of);
        }
        self.false_alarms.extend(other.false_alarms);
        self.missed.extend(other.missed);
        self.readings += other.readings;
        self.false_readings += other.false_readings;
        self.faulty = (self.faulty.0 + other.faulty.0, self.faulty.1 + other.faulty.1);
    }

    /// Found, of how many.
    pub fn of(&self, kind: Kind, severity: Severity) -> (usize, usize) {
        self.kinds.get(&(kind, severity)).copied().unwrap_or_default()
    }

    pub fn events(&self) -> (usize, usize) {
        self.kinds.values().fold((0, 0), |sum, k| (sum.0 + k.0, sum.1 + k.1))
    }

    pub fn event_f1(&self) -> f64 {
        let (found, of) = self.events();
        2.0 * found as f64 / (found + self.false_alarms.len() + of).max(1) as f64
    }

    pub fn reading_f1(&self) -> f64 {
        let (faulty, flagged) = self.faulty;
        2.0 * flagged as f64 / (flagged + self.false_readings + faulty).max(1) as f64
    }
}

pub fn judge(year: &Year, findings: &Findings) -> Score {
    let mut score = Score::default();
    for truth in &year.truth {
        let found = truth.is_found(&findings.flags, true, truth.wanted());
        let sum = score.kinds.entry((truth.kind, truth.severity)).or_default();
        *sum = (sum.0 + usize::from(found), sum.1 + 1);
        if !found {
            let day = (truth.windows.first().map_or(year.start, |w| w.1) - year.start) / 86_400;
            let (severity, kind) = (truth.severity.words(), truth.kind.words());
            score.missed.push(format!("{severity} {kind}, day {day}: {}", truth.words));
        }
    }
    let mut told: Vec<(Test, i64)> = Vec::new();
    for (i, (channel, flags)) in year.channels.iter().zip(&findings.flags).enumerate() {
        score.readings += channel.times.len();
        let counts = |f: &&Flag| f.grade != Grade::Condition;
        for f in flags.iter().filter(counts).filter(|f| !year.truth.iter().any(|t| t.explains(f, i))) {
            score.false_readings += f.readings;
            // The same at the same time on several channels is one alarm.
            if told.iter().any(|(test, at)| *test == f.test && (at - f.start.0).abs() <= 3600) {
                continue;
            }
            told.push((f.test, f.start.0));
            let days = (f.start.0 - year.start) / 86_400;
            score.false_alarms.push(format!("{} day {days} {}: {}", channel.name, f.test.code(), f.reason));
        }
        let faulty = |t: i64| {
            year.truth
                .iter()
                .filter(|truth| !NO_READINGS.contains(&truth.kind))
                .any(|truth| truth.windows.iter().any(|(c, from, to)| *c == i && (*from..=*to).contains(&t)))
        };
        let windows: Vec<(i64, i64)> =
            year.truth.iter().flat_map(|t| t.windows.iter()).filter(|w| w.0 == i).map(|w| (w.1, w.2)).collect();
        for t in channel.times.iter().filter(|t| windows.iter().any(|w| (w.0..=w.1).contains(*t))) {
            if faulty(*t) {
                let flagged = flags.iter().filter(counts).any(|f| (f.start.0..=f.end.0).contains(t));
                score.faulty = (score.faulty.0 + 1, score.faulty.1 + usize::from(flagged));
            }
        }
    }
    score
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::quality::{Evidence, NoiseEvidence};
    use ebrel_core::units::UnixSeconds;
    use ebrel_simulator::years::{Climate, Ground, INTERVAL, YearPlan, year};

    fn made(kind: Kind) -> Year {
        let plan = |seed| YearPlan {
            seed,
            climate: Climate::Mild,
            ground: Ground::SiltLoam,
            gauge: true,
            days: 120,
            faults: vec![(kind, Severity::Clear)],
        };
        (0..20).map(|seed| year(&plan(seed))).find(|y| !y.truth.is_empty()).unwrap()
    }

    fn flag(test: Test, grade: Grade, (from, to): (i64, i64)) -> Flag {
        let evidence = Evidence::Noise(NoiseEvidence { burst: 1.0.into(), usual: 1.0.into() });
        let readings = ((to - from) / INTERVAL + 1) as usize;
        let (start, end) = (UnixSeconds(from), UnixSeconds(to));
        Flag { start, end, test, grade, readings, strength: 1.0, evidence, reason: String::new() }
    }

    fn findings(year: &Year, flags: &[(usize, Flag)]) -> Findings {
        let mut found = Findings { flags: vec![Vec::new(); year.channels.len()], causes: Vec::new() };
        flags.iter().for_each(|(i, f)| found.flags[*i].push(f.clone()));
        found
    }

    #[test]
    fn the_truth_itself_scores_one_and_silence_nothing() {
        for kind in [Kind::Burst, Kind::Stuck, Kind::Exchange, Kind::BelowZero] {
            let year = made(kind);
            let truth = &year.truth[0];
            let told: Vec<(usize, Flag)> =
                truth.windows.iter().map(|(i, a, b)| (*i, flag(kind.tests()[0], Grade::Wrong, (*a, *b)))).collect();
            let score = judge(&year, &findings(&year, &told));
            assert_eq!((score.events(), score.event_f1(), score.reading_f1()), ((1, 1), 1.0, 1.0), "{kind:?}");
            assert!(score.false_alarms.is_empty() && score.missed.is_empty());
            let silent = judge(&year, &findings(&year, &[]));
            assert_eq!((silent.events(), silent.event_f1(), silent.missed.len()), ((0, 1), 0.0, 1), "{kind:?}");
        }
    }

    #[test]
    fn a_flag_of_another_test_a_short_one_or_one_elsewhere_finds_nothing() {
        let year = made(Kind::Stuck);
        let (i, from, to) = year.truth[0].windows[0];
        let of = |told: (usize, Flag)| judge(&year, &findings(&year, &[told])).events().0;
        assert_eq!(of((i, flag(Test::Spike, Grade::Wrong, (from, to)))), 0);
        assert_eq!(of((i, flag(Test::Stuck, Grade::Wrong, (from, from + (to - from) / 10)))), 0);
        assert_eq!(of((i, flag(Test::Stuck, Grade::Wrong, (from, from + (to - from) / 2)))), 1);
        assert_eq!(of(((i + 1) % year.channels.len(), flag(Test::Stuck, Grade::Wrong, (from, to)))), 0);
    }

    #[test]
    fn a_false_alarm_counts_once_for_all_its_channels_and_a_condition_not_at_all() {
        let year = made(Kind::Spike);
        let at = (year.start + 3 * 86_400, year.start + 3 * 86_400 + 7200);
        let everywhere: Vec<(usize, Flag)> = (0..4).map(|i| (i, flag(Test::Noise, Grade::Doubtful, at))).collect();
        let score = judge(&year, &findings(&year, &everywhere));
        assert_eq!((score.false_alarms.len(), score.false_readings), (1, 4 * 9), "{:?}", score.false_alarms);
        let frost: Vec<(usize, Flag)> = (0..4).map(|i| (i, flag(Test::Frozen, Grade::Condition, at))).collect();
        assert!(judge(&year, &findings(&year, &frost)).false_alarms.is_empty());
        let mut sum = Score::default();
        sum.add(score.clone());
        sum.add(score);
        assert_eq!((sum.false_alarms.len(), sum.events().1), (2, 2));
    }
}
